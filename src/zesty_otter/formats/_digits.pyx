"""Numbers to text, written into bytes by compiled code: the shortest decimals that read back as the same number.

G. L. Steele and J. L. White (1990), How to print floating-point numbers accurately. PLDI. Here for 32-bit
numbers only, whose neighbours 64-bit arithmetic tells apart with bits to spare.
"""

from libc.math cimport frexp, ldexp
from libc.stdint cimport uint8_t, int64_t

cdef enum:
    _LOWEST = -60

cdef double[121] _POWERS
cdef int64_t[10] _WHOLE
cdef double[10] _PARTS
for _n in range(121):
    _POWERS[_n] = float(f"1e{_n + _LOWEST}")
for _n in range(10):
    _WHOLE[_n], _PARTS[_n] = 10**_n, 10.0**-_n

WIDEST = 16
"""The most bytes a number takes, with a blank before it."""


cdef inline int64_t put_float(float number, uint8_t[::1] out, int64_t at) noexcept nogil:
    """Writes a finite number that is exact in 32 bits; the same number is read back from what is written."""
    cdef double above, below, scale, scaled, step
    cdef float value
    cdef double mantissa
    cdef int binary = 0
    cdef int64_t count, digits, dropped, exponent, shorter
    value = number
    if value == 0.0:
        out[at] = 48
        return at + 1
    if value < 0.0:
        out[at] = 45
        at += 1
        value = -value
    mantissa = frexp(value, &binary)
    step = ldexp(1.0, max(binary - 24, -149))
    # A little less than half way to the neighbours; below a power of two that is closer.
    above = step * 0.499999
    below = above / 2 if mantissa == 0.5 and binary > -125 else above
    exponent = ((binary - 1) * 78913) >> 18  # the decimal exponent, or one less
    scale = _POWERS[8 - exponent - _LOWEST]
    scaled = value * scale
    if scaled >= 1e9:
        exponent += 1
        scale = _POWERS[8 - exponent - _LOWEST]
        scaled = value * scale
    above *= scale
    below *= scale
    digits = <int64_t>(scaled + 0.5)
    count = 9
    # Digits are dropped for as long as the number stays nearest.
    for dropped in range(1, 9):
        shorter = <int64_t>(scaled * _PARTS[dropped] + 0.5) * _WHOLE[dropped]
        if shorter - scaled >= above or scaled - shorter >= below:
            break
        digits, count = shorter, 9 - dropped
    if digits >= 1000000000:
        digits //= 10
        exponent += 1
    digits //= _WHOLE[9 - count]
    while digits % 10 == 0 and count > 1:
        digits //= 10
        count -= 1
    return _put_decimal(digits, count, exponent, out, at)


cdef inline int64_t _put_decimal(
    int64_t digits, int64_t count, int64_t exponent, uint8_t[::1] out, int64_t at
) noexcept nogil:
    """Writes d.ddd * 10**exponent, given ``count`` digits as a whole number."""
    cdef int64_t before, k
    cdef int64_t whole
    if 0 <= exponent < 9:
        # Digits before the point, zeros up to it, digits after it.
        before = exponent + 1
        if count <= before:
            put_digits(digits, count, out, at)
            for k in range(at + count, at + before):
                out[k] = 48
            return at + before
        whole = put_digits(digits, count - before, out, at + before + 1)
        out[at + before] = 46
        put_digits(whole, before, out, at)
        return at + count + 1
    if -4 <= exponent < 0:
        out[at] = 48
        out[at + 1] = 46
        at += 2
        for k in range(-exponent - 1):
            out[at] = 48
            at += 1
        put_digits(digits, count, out, at)
        return at + count
    return _put_power(digits, count, exponent, out, at)


cdef inline int64_t _put_power(
    int64_t digits, int64_t count, int64_t exponent, uint8_t[::1] out, int64_t at
) noexcept nogil:
    """Writes d.ddde-x."""
    cdef int64_t first
    first = put_digits(digits, count - 1, out, at + 2)
    out[at] = 48 + first
    out[at + 1] = 46
    at += 1 if count == 1 else count + 1
    out[at] = 101
    at += 1
    if exponent < 0:
        out[at] = 45
        at += 1
        exponent = -exponent
    return put_integer(exponent, out, at)


cpdef int64_t put_whole_rows(const int64_t[:, ::1] values, int64_t first, int64_t stop, uint8_t[::1] out) noexcept:
    """Writes rows of whole numbers of zero or more as lines; returns how many bytes they took."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(first, stop):
            for k in range(values.shape[1]):
                if k:
                    out[at] = 32
                    at += 1
                at = put_integer(values[row, k], out, at)
            out[at] = 10
            at += 1
        return at


cpdef (int64_t, int64_t) put_faces(
    const int64_t[::1] face_start, const int64_t[::1] values, int64_t first, uint8_t[::1] out
) noexcept:
    """Writes the numbers of faces, each face a line that ends in -1, until the buffer is nearly full.

    Returns the next face and the bytes written.
    """
    cdef int64_t at, corner, face
    with nogil:
        at = 0
        face = first
        while face < len(face_start) - 1:
            if at + 12 * (face_start[face + 1] - face_start[face]) + 4 > len(out):
                break
            for corner in range(face_start[face], face_start[face + 1]):
                at = put_integer(values[corner], out, at)
                out[at] = 32
                at += 1
            out[at] = 45
            out[at + 1] = 49
            out[at + 2] = 10
            at += 3
            face += 1
        return face, at


cpdef int64_t put_tuples(const float[:, ::1] values, int64_t first, int64_t stop, uint8_t[::1] out) noexcept:
    """Writes rows of 32-bit numbers in parentheses, each with a comma behind it; returns the bytes they took."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(first, stop):
            if values.shape[1] > 1:
                out[at] = 40
                at += 1
            for k in range(values.shape[1]):
                if k:
                    out[at] = 44
                    out[at + 1] = 32
                    at += 2
                at = put_float(values[row, k], out, at)
            if values.shape[1] > 1:
                out[at] = 41
                at += 1
            out[at] = 44
            out[at + 1] = 32
            at += 2
        return at


cpdef int64_t put_list(const int64_t[::1] values, int64_t first, int64_t stop, uint8_t[::1] out) noexcept:
    """Writes whole numbers, each with a comma behind it; returns the bytes they took."""
    cdef int64_t at, row
    with nogil:
        at = 0
        for row in range(first, stop):
            at = put_integer(values[row], out, at)
            out[at] = 44
            out[at + 1] = 32
            at += 2
        return at


cpdef int64_t put_rows(
    const uint8_t[::1] prefix, const float[:, ::1] values, int64_t first, int64_t stop, uint8_t[::1] out
) noexcept:
    """Writes rows of 32-bit numbers as lines that begin with some bytes; returns how many bytes they took."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(first, stop):
            for k in range(len(prefix)):
                out[at] = prefix[k]
                at += 1
            for k in range(values.shape[1]):
                if k or len(prefix):
                    out[at] = 32
                    at += 1
                at = put_float(values[row, k], out, at)
            out[at] = 10
            at += 1
        return at
