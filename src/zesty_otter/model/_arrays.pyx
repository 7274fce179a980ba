"""What is asked of whole arrays again and again, in one pass."""

from libc.math cimport NAN, fabs, fabsf
from libc.stdint cimport int32_t, int64_t, uint8_t


# Numbers between two looks at whether one was beyond.
cdef int64_t _RUN = 8192


cpdef bint within32(const float[::1] values, float limit) noexcept:
    """Whether all numbers are up to ``limit``; not so where there is a NaN."""
    cdef int64_t k, first = 0, count = len(values)
    cdef int32_t beyond = 0
    with nogil:
        while first < count and not beyond:
            for k in range(first, min(first + _RUN, count)):
                beyond |= not (fabsf(values[k]) <= limit)
            first += _RUN
    return not beyond


cpdef bint within64(const double[::1] values, double limit) noexcept:
    """As `within32`."""
    cdef int64_t k, first = 0, count = len(values), beyond = 0
    with nogil:
        while first < count and not beyond:
            for k in range(first, min(first + _RUN, count)):
                beyond |= not (fabs(values[k]) <= limit)
            first += _RUN
    return not beyond


cpdef bint mark(const int32_t[::1] index, uint8_t[::1] occurs) noexcept:
    """Sets ``occurs`` where a number of ``index`` is; returns whether all have a place there, others are left out."""
    cdef int64_t k, count = len(occurs)
    cdef bint within = True
    with nogil:
        for k in range(len(index)):
            if 0 <= index[k] < count:
                occurs[index[k]] = 1
            else:
                within = False
    return within


cpdef void box(const double[:, :] points, double[:, ::1] ends) noexcept:
    """The lowest and highest corner of points (P, 3), of which there are some; NaN where one has no number."""
    cdef int64_t k, i
    cdef double low, high, value
    cdef bint known
    with nogil:
        for k in range(3):
            low = high = points[0, k]
            known = True
            for i in range(len(points)):
                value = points[i, k]
                low = value if value < low else low
                high = value if value > high else high
                known &= value == value
            ends[0, k] = low if known else NAN
            ends[1, k] = high if known else NAN
