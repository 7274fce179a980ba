"""The nearest filled pixel of every pixel, compiled.

A. Meijster, J. Roerdink and W. Hesselink (2000), "A general algorithm for computing distance transforms in linear
time".
"""

from libc.stdint cimport int32_t, int64_t, uint8_t


cdef inline int64_t _above(const int32_t[::1] row, int64_t y, int64_t q, int64_t x) noexcept nogil:
    """The square of how far the filled pixel of column ``q`` is from column ``x``, in line ``y``."""
    return (row[q] - y) * (row[q] - y) + (x - q) * (x - q)


cpdef void nearest_filled(
    const uint8_t[:, ::1] filled, int32_t[:, ::1] row, int32_t[::1] column, int32_t[::1] until, int64_t[:, ::1] found
) noexcept:
    """Writes for pixels (H, W) the number of the nearest that is filled, -1 where there is none.

    ``row`` (H, W) is room for the line of the nearest in each column, ``column`` and ``until`` (W,) for the columns
    that are nearest from left to right in a line, and where each begins to be.
    """
    cdef int64_t a, b, begins, x, y, count
    cdef int64_t high = filled.shape[0], wide = filled.shape[1]
    with nogil:
        for y in range(high):
            for x in range(wide):
                row[y, x] = <int32_t>y if filled[y, x] else row[y - 1, x] if y > 0 else -1
        for y in range(high - 2, -1, -1):
            for x in range(wide):
                a, b = row[y, x], row[y + 1, x]
                if a < 0 or (b >= 0 and b - y < y - a):
                    row[y, x] = <int32_t>b
        for y in range(high):
            count = 0
            for x in range(wide):
                if row[y, x] < 0:
                    continue
                while count > 0 and _above(row[y], y, column[count - 1], until[count - 1]) > _above(
                    row[y], y, x, until[count - 1]
                ):
                    count -= 1
                begins = 0
                if count > 0:
                    a = column[count - 1]
                    # From where on this column is nearer than the last one.
                    begins = x * x - a * a + (row[y, x] - y) * (row[y, x] - y) - (row[y, a] - y) * (row[y, a] - y)
                    begins = begins // (2 * (x - a)) + 1
                if begins < wide:
                    column[count], until[count] = <int32_t>x, <int32_t>begins
                    count += 1
            for x in range(wide - 1, -1, -1):
                if count == 0:
                    found[y, x] = -1
                    continue
                a = column[count - 1]
                found[y, x] = row[y, a] * wide + a
                if x == until[count - 1]:
                    count -= 1
