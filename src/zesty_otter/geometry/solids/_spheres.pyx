"""The smallest sphere around points, compiled.

B. Gaertner (1999), "Fast and robust smallest enclosing balls": the farthest point joins those the sphere rests on until
none is outside.
"""

from libc.math cimport sqrt
from libc.stdint cimport int64_t

cdef enum:
    MOST = 5  # the points a sphere rests on, and the one that joins them


cdef inline double _dot(const double *a, const double *b) noexcept nogil:
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


cdef inline double _around(const double *few, const int64_t *chosen, int64_t count, double *centre) noexcept nogil:
    """The smallest sphere that one to four points lie on: its radius, or -1 when they lie on a line or circle less.

    The centre is where all are equally far, in the space that the points span, whose axes come by Gram and Schmidt.
    """
    cdef double axes[9]
    cdef double side[3]
    cdef double offset[3]
    cdef double along, length, rest, square
    cdef int64_t again, j, k, n
    for k in range(3):
        offset[k] = 0.0
    for n in range(1, count):
        for k in range(3):
            side[k] = few[3 * chosen[n] + k] - few[3 * chosen[0] + k]
            axes[3 * (n - 1) + k] = side[k]
        square = _dot(side, side)
        for again in range(2):  # once more, for what rounding left
            for j in range(n - 1):
                along = _dot(&axes[3 * (n - 1)], &axes[3 * j])
                for k in range(3):
                    axes[3 * (n - 1) + k] -= along * axes[3 * j + k]
        length = sqrt(_dot(&axes[3 * (n - 1)], &axes[3 * (n - 1)]))
        if not length > 1e-9 * sqrt(square):
            return -1.0
        for k in range(3):
            axes[3 * (n - 1) + k] /= length
        rest = (square / 2 - _dot(side, offset)) / _dot(side, &axes[3 * (n - 1)])
        for k in range(3):
            offset[k] += rest * axes[3 * (n - 1) + k]
    for k in range(3):
        centre[k] = few[3 * chosen[0] + k] + offset[k]
    return sqrt(_dot(offset, offset))


cdef inline bint _holds(const double *few, int64_t count, const double *centre, double radius) noexcept nogil:
    cdef double away[3]
    cdef int64_t k, n
    for n in range(count):
        for k in range(3):
            away[k] = few[3 * n + k] - centre[k]
        if not sqrt(_dot(away, away)) <= radius:
            return False
    return True


cdef inline int64_t _resting_on(double *few, int64_t count, double slack, double *centre, double *radius) noexcept nogil:
    """Of at most five points keeps those that their smallest sphere rests on; how many, 0 where there is none."""
    cdef int64_t chosen[4]
    cdef int64_t best[4]
    cdef double kept[12]
    cdef double middle[3]
    cdef double found
    cdef int64_t bits, k, n, size, used = 0
    radius[0] = -1.0
    for bits in range(1, 1 << count):
        size = 0
        for n in range(count):
            if bits >> n & 1:
                if size < 4:
                    chosen[size] = n
                size += 1
        if size > 4:
            continue
        found = _around(few, chosen, size, middle)
        if found < 0.0 or (radius[0] >= 0.0 and found >= radius[0]) or not _holds(few, count, middle, found + slack):
            continue
        radius[0], used = found, size
        for k in range(3):
            centre[k] = middle[k]
        for n in range(size):
            best[n] = chosen[n]
    for n in range(used):
        for k in range(3):
            kept[3 * n + k] = few[3 * best[n] + k]
    for n in range(3 * used):
        few[n] = kept[n]
    return used


cpdef void smallest_sphere(const double[:, ::1] points, double size, double[::1] centre) noexcept:
    """The centre of the smallest sphere around points (P, 3) about the origin, none farther out than ``size``."""
    cdef double few[15]
    cdef double middle[3]
    cdef double away, most, radius = 0.0
    cdef int64_t count = 1, farthest, k, n, turn
    with nogil:
        for k in range(3):
            few[k] = middle[k] = points[0, k]
        for turn in range(10 * len(points) + 10):
            most, farthest = -1.0, 0
            for n in range(len(points)):
                away = 0.0
                for k in range(3):
                    away += (points[n, k] - middle[k]) * (points[n, k] - middle[k])
                if away > most:
                    most, farthest = away, n
            if not sqrt(most) > radius + 1e-12 * size:
                break
            for k in range(3):
                few[3 * count + k] = points[farthest, k]
            n = _resting_on(few, count + 1, 1e-10 * size, middle, &radius)
            if n == 0:  # points that are all but the same
                break
            count = n
        for k in range(3):
            centre[k] = middle[k]
