"""Whole numbers of binary USD, coded as steps from one to the next."""

from libc.stdint cimport uint8_t, int8_t, int16_t, int32_t, int64_t
from libc.string cimport memcpy


cpdef int64_t decode32(const uint8_t[::1] data, int32_t[::1] out) noexcept:
    """Reads ``len(out)`` numbers; returns the bytes taken, or -1 where there are too few.

    The commonest step, then two bits for each number that say what its step is: the commonest, or one of 1, 2 or 4
    bytes that follow in order.
    """
    cdef int64_t count = len(out), codes = 4, at = 4 + (2 * count + 7) // 8, k
    cdef int32_t common, step = 0, value = 0
    cdef int16_t two
    cdef int code
    with nogil:
        if at > len(data):
            return -1
        memcpy(&common, &data[0], 4)
        for k in range(count):
            code = (data[codes + (k >> 2)] >> (2 * (k & 3))) & 3
            if code == 0:
                step = common
            elif code == 1:
                if at + 1 > len(data):
                    return -1
                step = <int8_t> data[at]
                at += 1
            elif code == 2:
                if at + 2 > len(data):
                    return -1
                memcpy(&two, &data[at], 2)
                step = two
                at += 2
            else:
                if at + 4 > len(data):
                    return -1
                memcpy(&step, &data[at], 4)
                at += 4
            value = <int32_t> (<int64_t> value + step)
            out[k] = value
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
