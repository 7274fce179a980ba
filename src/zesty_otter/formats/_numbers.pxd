from libc.stdint cimport int64_t, uint8_t, uint32_t


cdef (double, int64_t, bint) read_float(const uint8_t* data, int64_t at, int64_t stop) noexcept nogil


cdef inline int64_t put_digits(int64_t value, int64_t count, uint8_t[::1] out, int64_t at) noexcept nogil:
    """Writes the last digits of a number that fits in 32 bits; returns what stands before them."""
    # Division of 32-bit numbers without a sign is many times as fast as that of long ones.
    cdef uint32_t left = <uint32_t>value, rest
    cdef int64_t k
    for k in range(at + count - 1, at - 1, -1):
        rest = left // 10
        out[k] = <uint8_t>(48 + (left - rest * 10))
        left = rest
    return left


cdef inline int64_t put_integer(int64_t value, uint8_t[::1] out, int64_t at) noexcept nogil:
    """Writes a whole number from zero to 2**32 - 1; returns where it ends."""
    cdef int64_t size = 1, limit = 10
    while size < 10 and value >= limit:
        size += 1
        limit *= 10
    put_digits(value, size, out, at)
    return at + size
