"""Places along a curve that fills space."""

from libc.stdint cimport int64_t, uint64_t


cpdef void curve_keys(const double[:, :] points, uint64_t[::1] keys) noexcept:
    """Where each point (P, 3) is on the curve through the cube around all, of which there is one at least.

    21 bits of each of its three numbers, one of each after the other.
    """
    cdef int64_t k, n
    cdef double low, high, size = 0.0
    cdef double[3] lowest
    with nogil:
        for k in range(3):
            low = high = points[0, k]
            for n in range(len(points)):
                low, high = min(low, points[n, k]), max(high, points[n, k])
            lowest[k] = low
            size = max(size, high - low)
        size = <double>0x1FFFFF / (size if size > 0 else 1.0)
        for n in range(len(points)):
            keys[n] = (
                _spread(<uint64_t>((points[n, 0] - lowest[0]) * size))
                | _spread(<uint64_t>((points[n, 1] - lowest[1]) * size)) << 1
                | _spread(<uint64_t>((points[n, 2] - lowest[2]) * size)) << 2
            )


cdef inline uint64_t _spread(uint64_t value) noexcept nogil:
    """21 bits with two empty ones between each."""
    value = (value | value << 32) & <uint64_t>0x1F00000000FFFF
    value = (value | value << 16) & <uint64_t>0x1F0000FF0000FF
    value = (value | value << 8) & <uint64_t>0x100F00F00F00F00F
    value = (value | value << 4) & <uint64_t>0x10C30C30C30C30C3
    return (value | value << 2) & <uint64_t>0x1249249249249249
