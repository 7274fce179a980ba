"""Whole numbers of binary USD, coded as steps from one to the next."""

from libc.stdint cimport int16_t, int32_t, int64_t, int8_t, uint32_t, uint8_t
from libc.string cimport memcpy


# Four numbers at a time, where the machine can spread bytes over a register, as those of this kind since 2006 can. The
# tables say of the four codes in a byte which bytes go where, where signs are, which steps are the commonest one, and
# how long all are together. Returns how many groups of four were read: up to one that has no 16 bytes to look at.
cdef extern from *:
    """
    #if defined(__GNUC__) && defined(__x86_64__)
    #include <tmmintrin.h>

    static uint8_t place_of[256][16], length_of[256];
    static uint32_t sign_of[256][4], common_of[256][4];

    static void fill_tables(void) {
        static const int sizes[4] = {0, 1, 2, 4};
        for (int codes = 0; codes < 256; codes++) {
            int at = 0;
            for (int j = 0; j < 4; j++) {
                int size = sizes[codes >> 2 * j & 3];
                for (int k = 0; k < 4; k++) place_of[codes][4 * j + k] = k < size ? at + k : 0x80;
                sign_of[codes][j] = size ? 1u << (8 * size - 1) : 0;
                common_of[codes][j] = size ? 0 : 0xFFFFFFFF;
                at += size;
            }
            length_of[codes] = at;
        }
    }

    __attribute__((target("ssse3")))
    static int64_t spread(const uint8_t *data, int64_t length, const uint8_t *codes, int64_t groups, int32_t common,
                          int64_t *at, uint32_t *value, int32_t *out) {
        __m128i all = _mm_set1_epi32(common), last = _mm_set1_epi32(*value), runs, step, sign;
        int64_t place = *at, k;
        runs = _mm_add_epi32(all, _mm_slli_si128(all, 4));
        runs = _mm_add_epi32(runs, _mm_slli_si128(runs, 8));
        for (k = 0; k < groups; k++) {
            uint8_t four = codes[k];
            if (four == 0) {
                step = runs;
            } else if (place + 16 > length) {
                break;
            } else {
                step = _mm_loadu_si128((const __m128i *) (data + place));
                step = _mm_shuffle_epi8(step, _mm_loadu_si128((const __m128i *) place_of[four]));
                sign = _mm_loadu_si128((const __m128i *) sign_of[four]);
                step = _mm_sub_epi32(_mm_xor_si128(step, sign), sign);
                step = _mm_add_epi32(step, _mm_and_si128(all, _mm_loadu_si128((const __m128i *) common_of[four])));
                step = _mm_add_epi32(step, _mm_slli_si128(step, 4));
                step = _mm_add_epi32(step, _mm_slli_si128(step, 8));
                place += length_of[four];
            }
            last = _mm_add_epi32(step, last);
            _mm_storeu_si128((__m128i *) (out + 4 * k), last);
            last = _mm_shuffle_epi32(last, 0xFF);
        }
        *at = place;
        *value = (uint32_t) _mm_cvtsi128_si32(last);
        return k;
    }

    static int can_spread(void) { return __builtin_cpu_supports("ssse3"); }
    #else
    static void fill_tables(void) {}
    static int64_t spread(const uint8_t *data, int64_t length, const uint8_t *codes, int64_t groups, int32_t common,
                          int64_t *at, uint32_t *value, int32_t *out) { return 0; }
    static int can_spread(void) { return 0; }
    #endif
    """
    void fill_tables() noexcept
    bint can_spread() noexcept
    int64_t spread(const uint8_t *data, int64_t length, const uint8_t *codes, int64_t groups, int32_t common,
                   int64_t *at, uint32_t *value, int32_t *out) noexcept nogil


fill_tables()
cdef bint _SPREADS = can_spread()


cpdef int64_t decode32(const uint8_t[::1] data, int32_t[::1] out) noexcept:
    """Reads ``len(out)`` numbers; returns the bytes taken, or -1 where there are too few.

    The commonest step, then two bits for each number that say what its step is: the commonest, or one of 1, 2 or 4
    bytes that follow in order.
    """
    cdef int64_t count = len(out), at = 4 + (2 * count + 7) // 8, k = 0, long = len(data)
    cdef int32_t common, four
    cdef int16_t two
    cdef uint32_t value = 0
    cdef int code, size
    with nogil:
        if at > long:
            return -1
        memcpy(&common, &data[0], 4)
        while k < count:
            if _SPREADS and count - k >= 4:
                k += 4 * spread(&data[0], long, &data[4 + (k >> 2)], (count - k) >> 2, common, &at, &value, &out[k])
            for k in range(k, min(k + 4, count)):
                code = (data[4 + (k >> 2)] >> (2 * (k & 3))) & 3
                size = 1 << code >> 1
                if at + size > long:
                    return -1
                if code == 0:
                    four = common
                elif code == 1:
                    four = <int8_t> data[at]
                elif code == 2:
                    memcpy(&two, &data[at], 2)
                    four = two
                else:
                    memcpy(&four, &data[at], 4)
                at += size
                value += <uint32_t> four
                out[k] = <int32_t> value
            k += 1
        return at


cpdef int64_t decode64(const uint8_t[::1] data, int64_t[::1] out) noexcept:
    """As `decode32`, with steps of 2, 4 or 8 bytes."""
    cdef int64_t count = len(out), codes = 8, at = 8 + (2 * count + 7) // 8, k
    cdef int64_t common, step = 0, value = 0
    cdef int16_t two
    cdef int32_t four
    cdef int code
    with nogil:
        if at > len(data):
            return -1
        memcpy(&common, &data[0], 8)
        for k in range(count):
            code = (data[codes + (k >> 2)] >> (2 * (k & 3))) & 3
            if code == 0:
                step = common
            elif code == 1:
                if at + 2 > len(data):
                    return -1
                memcpy(&two, &data[at], 2)
                step = two
                at += 2
            elif code == 2:
                if at + 4 > len(data):
                    return -1
                memcpy(&four, &data[at], 4)
                step = four
                at += 4
            else:
                if at + 8 > len(data):
                    return -1
                memcpy(&step, &data[at], 8)
                at += 8
            value = <int64_t> (<unsigned long long> value + <unsigned long long> step)
            out[k] = value
        return at


cpdef int64_t encode32(const int32_t[::1] values, int32_t common, uint8_t[::1] out) noexcept:
    """Writes numbers as `decode32` reads them; returns the bytes written.

    ``out`` is zero and has room for all steps in 4 bytes: 4 + (2 n + 7) // 8 + 4 n.
    """
    cdef int64_t count = len(values), at = 4 + (2 * count + 7) // 8, k
    cdef int32_t step, before = 0
    cdef int16_t two
    with nogil:
        memcpy(&out[0], &common, 4)
        for k in range(count):
            step = <int32_t> (<int64_t> values[k] - before)
            before = values[k]
            if step == common:
                continue
            if -128 <= step <= 127:
                out[4 + (k >> 2)] |= 1 << (2 * (k & 3))
                out[at] = <uint8_t> step
                at += 1
            elif -32768 <= step <= 32767:
                out[4 + (k >> 2)] |= 2 << (2 * (k & 3))
                two = <int16_t> step
                memcpy(&out[at], &two, 2)
                at += 2
            else:
                out[4 + (k >> 2)] |= 3 << (2 * (k & 3))
                memcpy(&out[at], &step, 4)
                at += 4
        return at


cpdef int64_t starts(const int32_t[::1] sizes, int64_t corners, int32_t[::1] out) noexcept:
    """Where each face begins, and the last one ends, up to one that has not three corners, or not among so many.

    Returns how many faces that are.
    """
    cdef int64_t k, total = 0
    corners = min(corners, 2147483647)
    with nogil:
        for k in range(len(sizes)):
            if sizes[k] < 3 or total + sizes[k] > corners:
                return k
            total += sizes[k]
            out[k + 1] = <int32_t> total
    return len(sizes)
