"""Whole numbers of binary USD, coded as steps from one to the next."""

from libc.stdint cimport int16_t, int32_t, int64_t, int8_t, uint32_t, uint8_t
from libc.string cimport memcpy


# Bytes of a step by its code.
cdef int64_t[4] _SIZE = [0, 1, 2, 4]

# By its code, what of four bytes is the step, and its sign.
cdef uint32_t[4] _OWN = [0, 0xFF, 0xFFFF, 0xFFFFFFFF]
cdef uint32_t[4] _SIGN = [0, 0x80, 0x8000, 0x80000000]

# Of four codes in a byte: where their steps are, and how long they are together.
cdef uint8_t[256][4] _PLACE
cdef uint8_t[256] _LONG


cdef void _fill() noexcept:
    cdef int codes, j, at
    for codes in range(256):
        at = 0
        for j in range(4):
            _PLACE[codes][j] = at
            at += _SIZE[codes >> (2 * j) & 3]
        _LONG[codes] = at


_fill()


cdef inline int32_t _careful_step(const uint8_t *at, int code, int32_t common) noexcept nogil:
    cdef int32_t four
    cdef int16_t two
    if code == 0:
        return common
    if code == 1:
        return <int8_t> at[0]
    if code == 2:
        memcpy(&two, at, 2)
        return two
    memcpy(&four, at, 4)
    return four


cpdef int64_t decode32(const uint8_t[::1] data, int32_t[::1] out) noexcept:
    """Reads ``len(out)`` numbers; returns the bytes taken, or -1 where there are too few.

    The commonest step, then two bits for each number that say what its step is: the commonest, or one of 1, 2 or 4
    bytes that follow in order.
    """
    cdef int64_t count = len(out), codes = 4, at = 4 + (2 * count + 7) // 8, k = 0, long = len(data)
    cdef int32_t common
    cdef uint32_t value = 0, raw
    cdef uint32_t[4] plain = [0, 0, 0, 0]
    cdef int64_t j, size
    cdef uint8_t four, code
    with nogil:
        if at > long:
            return -1
        memcpy(&common, &data[0], 4)
        plain[0] = <uint32_t> common
        while k < count:
            four = data[codes]
            codes += 1
            if four == 0 and k + 4 <= count:
                # Counts of corners are all the same, mostly.
                for j in range(4):
                    value += <uint32_t> common
                    out[k + j] = <int32_t> value
                k += 4
            elif k + 4 <= count and at + 16 <= long:
                # Sixteen bytes can be looked at whatever the sizes are. Without a branch, as sizes follow no pattern.
                for j in range(4):
                    memcpy(&raw, &data[at + _PLACE[four][j]], 4)
                    code = four >> (2 * j) & 3
                    value += ((raw & _OWN[code]) ^ _SIGN[code]) - _SIGN[code] + plain[code]
                    out[k + j] = <int32_t> value
                at += _LONG[four]
                k += 4
            else:
                for k in range(k, min(k + 4, count)):
                    size = _SIZE[four & 3]
                    if at + size > long:
                        return -1
                    value += <uint32_t> _careful_step(&data[at] if size else NULL, four & 3, common)
                    at += size
                    out[k] = <int32_t> value
                    four >>= 2
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
