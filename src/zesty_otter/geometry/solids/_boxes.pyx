"""Boxes around points, compiled: one on a side, turned until none is smaller, and their volumes.

H. Freeman and R. Shapira (1975), "Determining the minimum-area encasing rectangle for an arbitrary closed curve": one
side of the smallest rectangle lies on a side of the outline. A. M. Andrew (1979), "Another efficient algorithm for
convex hulls in two dimensions".
"""

from libc.math cimport INFINITY, fabs, sqrt
from libc.stdint cimport int64_t

cdef struct Flat:
    double x
    double y


cdef inline bint _before(Flat a, Flat b) noexcept nogil:
    return a.x < b.x or (a.x == b.x and a.y < b.y)


cdef void _sort(Flat *flat, int64_t count) noexcept nogil:
    """Puts places in order (D. L. Shell, 1959)."""
    cdef int64_t at, gap = 1, k
    cdef Flat one
    while gap < count // 3:
        gap = 3 * gap + 1
    while gap > 0:
        for k in range(gap, count):
            one, at = flat[k], k
            while at >= gap and _before(one, flat[at - gap]):
                flat[at] = flat[at - gap]
                at -= gap
            flat[at] = one
        gap //= 3


cdef inline double _turn(Flat a, Flat b, Flat c) noexcept nogil:
    return (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x)


cdef int64_t _outline(Flat *flat, int64_t count, Flat *outline) noexcept nogil:
    """Sorts places and finds the corners of their outline; returns how many. There is room for twice as many as places."""
    cdef int64_t k, n = 0, first
    _sort(flat, count)
    for k in range(count):
        while n >= 2 and _turn(outline[n - 2], outline[n - 1], flat[k]) <= 0:
            n -= 1
        outline[n] = flat[k]
        n += 1
    first = n + 1
    for k in range(count - 2, -1, -1):
        while n >= first and _turn(outline[n - 2], outline[n - 1], flat[k]) <= 0:
            n -= 1
        outline[n] = flat[k]
        n += 1
    return max(n - 1, 1)


cdef inline void _cross(const double *a, const double *b, double *out) noexcept nogil:
    out[0], out[1], out[2] = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


cdef inline double _dot(const double *a, const double *b) noexcept nogil:
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


cdef inline void _make_unit(double *a) noexcept nogil:
    """Makes a direction one long to the last bit, or ever shorter ones would pass for ever smaller boxes."""
    cdef double length = sqrt(_dot(a, a))
    a[0], a[1], a[2] = a[0] / length, a[1] / length, a[2] / length


cdef double _volume(const double[:, ::1] corners, const double *axes) noexcept nogil:
    cdef double along, high, low, found = 1.0
    cdef int64_t k, n
    for k in range(3):
        low, high = INFINITY, -INFINITY
        for n in range(len(corners)):
            along = _dot(&corners[n, 0], &axes[3 * k])
            low, high = min(low, along), max(high, along)
        found *= high - low
    return found


cdef void _lay(
    const double[:, ::1] corners, const double *side, Flat *flat, Flat *outline, double *out
) noexcept nogil:
    """The axes of the smallest box that has a side across a direction."""
    cdef double along, area, dx, dy, high, least = INFINITY, length, longest = 0.0, low, bottom, top
    cdef double[3] helper = [0.0, 0.0, 0.0]
    cdef double[3] u
    cdef double[3] v
    cdef double *axis = out + 6
    cdef int64_t count, k, n
    axis[0], axis[1], axis[2] = side[0], side[1], side[2]
    _make_unit(axis)
    k = 0 if fabs(axis[0]) <= fabs(axis[1]) else 1
    helper[2 if fabs(axis[2]) < fabs(axis[k]) else k] = 1.0
    _cross(axis, helper, u)
    _make_unit(u)
    _cross(axis, u, v)
    for n in range(len(corners)):
        flat[n].x, flat[n].y = _dot(&corners[n, 0], u), _dot(&corners[n, 0], v)
    count = _outline(flat, len(corners), outline)
    outline[count] = outline[0]
    for n in range(count):
        dx, dy = outline[n + 1].x - outline[n].x, outline[n + 1].y - outline[n].y
        longest = max(longest, dx * dx + dy * dy)
    out[0], out[1], out[2] = u[0], u[1], u[2]
    for n in range(count):
        dx, dy = outline[n + 1].x - outline[n].x, outline[n + 1].y - outline[n].y
        length = sqrt(dx * dx + dy * dy)
        if length <= 1e-12 * sqrt(longest):
            continue
        dx, dy = dx / length, dy / length
        low, high, bottom, top = INFINITY, -INFINITY, INFINITY, -INFINITY
        for k in range(count):
            along = outline[k].x * dx + outline[k].y * dy
            low, high = min(low, along), max(high, along)
            along = outline[k].y * dx - outline[k].x * dy
            bottom, top = min(bottom, along), max(top, along)
        area = (high - low) * (top - bottom)
        if area < least:
            least = area
            for k in range(3):
                out[k] = dx * u[k] + dy * v[k]
    _make_unit(out)
    _cross(axis, out, out + 3)


cpdef double volume(const double[:, ::1] corners, const double[:, ::1] axes) noexcept:
    """Of the box around some corners (P, 3) along axes, the rows of (3, 3)."""
    return _volume(corners, &axes[0, 0])


cpdef void around(
    const double[:, ::1] corners, const double[::1] side, double[:, ::1] flat, double[:, ::1] outline,
    double[:, ::1] out
) noexcept:
    """The axes (3, 3) of the smallest box around corners (P, 3) that has a side across a direction.

    ``flat`` (P, 2) and ``outline`` (2 P + 1, 2) are room to work in.
    """
    with nogil:
        _lay(corners, &side[0], <Flat *>&flat[0, 0], <Flat *>&outline[0, 0], &out[0, 0])


cpdef double settle(
    const double[:, ::1] corners, double[:, ::1] axes, int64_t rounds, double[:, ::1] flat, double[:, ::1] outline
) noexcept:
    """Turns a box about one of its axes after the other, as long as it gets smaller; returns its volume."""
    cdef double best, found, least
    cdef double[9] turned
    cdef double[9] kept = [0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0]
    cdef int64_t k, n, _
    with nogil:
        best = _volume(corners, &axes[0, 0])
        for _ in range(rounds):
            least = INFINITY
            for k in range(3):
                _lay(corners, &axes[k, 0], <Flat *>&flat[0, 0], <Flat *>&outline[0, 0], turned)
                found = _volume(corners, turned)
                if found < least:
                    least = found
                    for n in range(9):
                        kept[n] = turned[n]
            if not least < best * (1 - 1e-6):
                break
            best = least
            for n in range(9):
                axes[n // 3, n % 3] = kept[n]
        return best


cpdef double turn(
    const double[:, ::1] corners, const double[:, ::1] axes, const double[::1] by, double[:, ::1] out
) noexcept:
    """Turns a box by the quaternion x, y, z, 1 of any length; returns its volume."""
    cdef double length = sqrt(by[0] * by[0] + by[1] * by[1] + by[2] * by[2] + 1.0)
    cdef double x = by[0] / length, y = by[1] / length, z = by[2] / length, w = 1.0 / length
    cdef int64_t n
    with nogil:
        for n in range(3):
            out[n, 0] = (
                axes[n, 0] * (1 - 2 * (y * y + z * z)) + axes[n, 1] * 2 * (x * y + z * w)
                + axes[n, 2] * 2 * (x * z - y * w)
            )
            out[n, 1] = (
                axes[n, 0] * 2 * (x * y - z * w) + axes[n, 1] * (1 - 2 * (x * x + z * z))
                + axes[n, 2] * 2 * (y * z + x * w)
            )
            out[n, 2] = (
                axes[n, 0] * 2 * (x * z + y * w) + axes[n, 1] * 2 * (y * z - x * w)
                + axes[n, 2] * (1 - 2 * (x * x + y * y))
            )
        return _volume(corners, &out[0, 0])
