"""Boxes and spheres around points, compiled, and the volumes of what is turned about an axis.

H. Freeman and R. Shapira (1975), "Determining the minimum-area encasing rectangle for an arbitrary closed curve": one
side of the smallest rectangle lies on a side of the outline. A. M. Andrew (1979), "Another efficient algorithm for
convex hulls in two dimensions". B. Gaertner (1999), "Fast and robust smallest enclosing balls": the farthest point joins
those the sphere rests on until none is outside.
"""

from libc.math cimport INFINITY, M_PI, fabs, sqrt
from libc.stdint cimport int64_t


cdef enum:
    MOST = 5  # the points a sphere rests on, and the one that joins them


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


cpdef double box_volume(const double[:, ::1] corners, const double[:, ::1] axes) noexcept:
    """Of the box around some corners (P, 3) along axes, the rows of (3, 3)."""
    return _volume(corners, &axes[0, 0])


cpdef void box_around(
    const double[:, ::1] corners, const double[::1] side, double[:, ::1] flat, double[:, ::1] outline,
    double[:, ::1] out
) noexcept:
    """The axes (3, 3) of the smallest box around corners (P, 3) that has a side across a direction.

    ``flat`` (P, 2) and ``outline`` (2 P + 1, 2) are room to work in.
    """
    with nogil:
        _lay(corners, &side[0], <Flat *>&flat[0, 0], <Flat *>&outline[0, 0], &out[0, 0])


cpdef double settle_box(
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


cpdef double turn_box(
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


cdef inline double _sphere_on(const double *few, const int64_t *chosen, int64_t count, double *centre) noexcept nogil:
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
        found = _sphere_on(few, chosen, size, middle)
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


cdef inline void _smallest(const double[:, ::1] points, double size, double *middle) noexcept nogil:
    cdef double few[15]
    cdef double away, most, radius = 0.0
    cdef int64_t count = 1, farthest, k, n, turn
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


cpdef void smallest_sphere(const double[:, ::1] points, double size, double[::1] centre) noexcept:
    """The centre of the smallest sphere around points (P, 3) about the origin, none farther out than ``size``."""
    with nogil:
        _smallest(points, size, &centre[0])


cpdef double volume_about(
    const double[:, ::1] points, const double[::1] axis, bint capsule, double[:, ::1] flat
) noexcept:
    """The volume of the smallest capsule or cylinder around points (P, 3) about an axis of length one.

    ``flat`` (P, 3) is room for the points as they are seen along the axis.
    """
    cdef double out
    with nogil:
        out = _turned_volume(points, &axis[0], capsule, flat)
    return out


cdef inline double _turned_volume(
    const double[:, ::1] points, const double *axis, bint capsule, double[:, ::1] flat
) noexcept nogil:
    cdef double along, away, ball, half, high, low, radius, size, square
    cdef double mean[3]
    cdef double middle[3]
    cdef int64_t k, n
    mean[0], mean[1], mean[2] = 0.0, 0.0, 0.0
    for n in range(len(points)):
        along = points[n, 0] * axis[0] + points[n, 1] * axis[1] + points[n, 2] * axis[2]
        for k in range(3):
            flat[n, k] = points[n, k] - along * axis[k]
            mean[k] += flat[n, k] / len(points)
    size = 0.0
    for n in range(len(points)):
        for k in range(3):
            flat[n, k] -= mean[k]
        size = max(size, _dot(&flat[n, 0], &flat[n, 0]))
    _smallest(flat, sqrt(size), middle)
    radius = 0.0
    for n in range(len(points)):
        for k in range(3):
            flat[n, k] -= middle[k]
        radius = max(radius, sqrt(_dot(&flat[n, 0], &flat[n, 0])))
    low, high = INFINITY, -INFINITY
    for n in range(len(points)):
        along = points[n, 0] * axis[0] + points[n, 1] * axis[1] + points[n, 2] * axis[2]
        if capsule:
            # Its ends are round: a point near the axis may stand farther out.
            square = radius * radius - _dot(&flat[n, 0], &flat[n, 0])
            ball = sqrt(square) if square > 0.0 else 0.0
            low, high = min(low, along + ball), max(high, along - ball)
        else:
            low, high = min(low, along), max(high, along)
    half = max((high - low) / 2, 0.0)
    return M_PI * radius * radius * (2 * half + (4.0 / 3.0 * radius if capsule else 0.0))


cdef inline double _turned(
    const double[:, ::1] points, const double[:, ::1] frame, const double *by, bint capsule, double[:, ::1] flat
) noexcept nogil:
    """The volume about the axis that is the first row of a frame, moved along the other two."""
    cdef double axis[3]
    cdef double length
    cdef int64_t k
    for k in range(3):
        axis[k] = frame[0, k] + by[0] * frame[1, k] + by[1] * frame[2, k]
    length = sqrt(_dot(axis, axis))
    for k in range(3):
        axis[k] /= length
    return _turned_volume(points, axis, capsule, flat)


cpdef void turn_axis(
    const double[:, ::1] points, const double[:, ::1] frame, bint capsule, double[:, ::1] flat, double[::1] by
) noexcept:
    """How far to move an axis along two others for the least volume (J. Nelder and R. Mead, 1965).

    ``frame`` (3, 3) has the axis in its first row and in the others what it moves along; ``by`` (2,) becomes how far.
    """
    cdef double at[3][2]
    cdef double value[3]
    cdef double middle[2]
    cdef double tried[2]
    cdef double further[2]
    cdef double found, found_further, most, spread, swap
    cdef int64_t j, k, turn
    cdef bint shrinks
    with nogil:
        for j in range(3):
            for k in range(2):
                at[j][k] = 0.1 if j == k + 1 else 0.0
            value[j] = _turned(points, frame, at[j], capsule, flat)
        for turn in range(61):
            for j in range(2):  # in order, equals as they were
                for k in range(2 - j):
                    if value[k + 1] < value[k]:
                        value[k], value[k + 1] = value[k + 1], value[k]
                        at[k][0], at[k + 1][0] = at[k + 1][0], at[k][0]
                        at[k][1], at[k + 1][1] = at[k + 1][1], at[k][1]
            spread = most = 0.0
            for j in range(1, 3):
                most = max(most, value[j] - value[0])
                for k in range(2):
                    spread = max(spread, fabs(at[j][k] - at[0][k]))
            if turn == 60 or (spread <= 1e-4 and most <= 1e-4):
                break
            for k in range(2):
                middle[k] = (at[0][k] + at[1][k]) / 2
                tried[k] = 2.0 * middle[k] - at[2][k]
                further[k] = 3.0 * middle[k] - 2.0 * at[2][k]
            found = _turned(points, frame, tried, capsule, flat)
            shrinks = False
            if found < value[0]:
                found_further = _turned(points, frame, further, capsule, flat)
                if found_further < found:
                    found = found_further
                    tried[0], tried[1] = further[0], further[1]
            elif not found < value[1]:
                swap = 1.5 if found < value[2] else 0.5
                for k in range(2):
                    further[k] = swap * middle[k] + (1.0 - swap) * at[2][k]
                found_further = _turned(points, frame, further, capsule, flat)
                shrinks = not (found_further <= found if found < value[2] else found_further < value[2])
                found = found_further
                tried[0], tried[1] = further[0], further[1]
            if shrinks:
                for j in range(1, 3):
                    for k in range(2):
                        at[j][k] = at[0][k] + 0.5 * (at[j][k] - at[0][k])
                    value[j] = _turned(points, frame, at[j], capsule, flat)
            else:
                at[2][0], at[2][1] = tried[0], tried[1]
                value[2] = found
        by[0], by[1] = at[0][0], at[0][1]
