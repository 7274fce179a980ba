"""Places along a curve that fills space."""

from libc.stdint cimport int64_t, uint64_t
from libc.string cimport memcpy, memset


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


cpdef void sort_by(
    uint64_t[::1] keys, int64_t[::1] order, uint64_t[::1] other_keys, int64_t[::1] other_order
) noexcept:
    """Sorts an order by keys, byte by byte from the lowest, so that those that are alike stay as they were.

    The others are room to work in, as long.
    """
    cdef int64_t count = len(keys), k, n, total, start
    cdef int64_t[8][256] begin
    cdef uint64_t *from_keys = &keys[0]
    cdef uint64_t *to_keys = &other_keys[0]
    cdef int64_t *from_order = &order[0]
    cdef int64_t *to_order = &other_order[0]
    with nogil:
        memset(begin, 0, sizeof(begin))
        for n in range(count):
            for k in range(8):
                begin[k][keys[n] >> (8 * k) & 255] += 1
        for k in range(8):
            if begin[k][from_keys[0] >> (8 * k) & 255] == count:
                continue  # they all have it
            total = 0
            for n in range(256):
                start = total
                total += begin[k][n]
                begin[k][n] = start
            for n in range(count):
                start = begin[k][from_keys[n] >> (8 * k) & 255]
                begin[k][from_keys[n] >> (8 * k) & 255] += 1
                to_keys[start], to_order[start] = from_keys[n], from_order[n]
            from_keys, to_keys = to_keys, from_keys
            from_order, to_order = to_order, from_order
        if from_order != &order[0]:
            memcpy(&order[0], from_order, 8 * count)
