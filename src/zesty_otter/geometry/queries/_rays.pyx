"""Rays through a tree of boxes, followed by compiled code."""

from libc.math cimport INFINITY, fabs
from libc.stdint cimport int8_t, int64_t, uint8_t
from zesty_otter.geometry.queries._boxes cimport DEEP, held, put_nearest_last, put_top, zo_aim, zo_met, zo_ray


cdef inline double _hit(
    const double[:, ::1] corners, int64_t t, double x, double y, double z, double dx, double dy, double dz,
    int64_t *side
) noexcept nogil:
    """How far along a ray it meets a triangle from either side, infinite when it does not.

    ``side`` becomes 1 where it does from behind, -1 from the front.

    T. Moeller and B. Trumbore (1997), "Fast, minimum storage ray-triangle intersection".
    """
    cdef double ax, ay, az, bx, by, bz, det, px, py, pz, qx, qy, qz, sx, sy, sz, u, v
    ax, ay, az = corners[t, 3] - corners[t, 0], corners[t, 4] - corners[t, 1], corners[t, 5] - corners[t, 2]
    bx, by, bz = corners[t, 6] - corners[t, 0], corners[t, 7] - corners[t, 1], corners[t, 8] - corners[t, 2]
    px, py, pz = dy * bz - dz * by, dz * bx - dx * bz, dx * by - dy * bx
    det = ax * px + ay * py + az * pz
    if det == 0.0:
        return INFINITY
    sx, sy, sz = x - corners[t, 0], y - corners[t, 1], z - corners[t, 2]
    u = (sx * px + sy * py + sz * pz) / det
    qx, qy, qz = sy * az - sz * ay, sz * ax - sx * az, sx * ay - sy * ax
    v = (dx * qx + dy * qy + dz * qz) / det
    if u < 0.0 or v < 0.0 or u + v > 1.0:
        return INFINITY
    side[0] = 1 if det < 0.0 else -1
    return (bx * qx + by * qy + bz * qz) / det


cdef inline int64_t _side_met(
    const double[:, ::1] corners, int64_t t, double x, double y, double z, double dx, double dy, double dz
) noexcept nogil:
    """1 where a ray meets a triangle from behind, -1 from the front, 0 where it does not: as `_hit`, undivided."""
    cdef double ax, ay, az, bx, by, bz, det, px, py, pz, qx, qy, qz, size, sx, sy, sz, turn, u, v
    ax, ay, az = corners[t, 3] - corners[t, 0], corners[t, 4] - corners[t, 1], corners[t, 5] - corners[t, 2]
    bx, by, bz = corners[t, 6] - corners[t, 0], corners[t, 7] - corners[t, 1], corners[t, 8] - corners[t, 2]
    px, py, pz = dy * bz - dz * by, dz * bx - dx * bz, dx * by - dy * bx
    det = ax * px + ay * py + az * pz
    turn, size = 1.0 if det > 0.0 else -1.0, fabs(det)
    sx, sy, sz = x - corners[t, 0], y - corners[t, 1], z - corners[t, 2]
    u = turn * (sx * px + sy * py + sz * pz)
    if u < 0.0 or u > size or size == 0.0:
        return 0
    qx, qy, qz = sy * az - sz * ay, sz * ax - sx * az, sx * ay - sy * ax
    v = turn * (dx * qx + dy * qy + dz * qz)
    if v < 0.0 or u + v > size or not turn * (bx * qx + by * qy + bz * qz) > 0.0:
        return 0
    return 1 if det < 0.0 else -1


cdef inline bint _is_surrounded(
    double x, double y, double z, const double[:, ::1] directions, int64_t spared, const double[:, ::1] corners,
    const float[:, ::1] groups, int64_t leaves
) noexcept nogil:
    """Whether rays from a place leave more backs than they enter fronts: all of them but ``spared``."""
    cdef double dx, dy, dz
    cdef float[4] entered
    cdef int met
    cdef int64_t count, k, n, open_rays = 0, turn, size
    cdef int64_t[DEEP] stack
    cdef zo_ray ray
    for turn in range(len(directions)):
        dx, dy, dz = directions[turn, 0], directions[turn, 1], directions[turn, 2]
        zo_aim(&ray, x, y, z, dx, dy, dz)
        count = 0
        size = put_top(leaves, stack)
        while size > 0:
            size -= 1
            n = stack[size]
            met = zo_met(&groups[n, 0], &ray, INFINITY, entered)
            if n >= leaves:
                met = held(met, 4 * (n - leaves), len(corners))
            for k in range(4):
                if met >> k & 1:
                    if n < leaves:
                        stack[size] = 4 * n + k
                        size += 1
                    else:
                        count += _side_met(corners, 4 * (n - leaves) + k, x, y, z, dx, dy, dz)
        open_rays += count <= 0
        if open_rays > spared:
            return False
        if open_rays + len(directions) - 1 - turn <= spared:
            break  # whatever the others say
    return True


cpdef void surrounded(
    const double[:, ::1] places, const double[:, ::1] directions, int64_t spared, const double[:, ::1] corners,
    const float[:, ::1] groups, int64_t leaves, uint8_t[::1] found
) noexcept:
    """Of each place whether the surface goes all round it, as all rays but ``spared`` say."""
    cdef int64_t i
    with nogil:
        for i in range(len(places)):
            found[i] = _is_surrounded(
                places[i, 0], places[i, 1], places[i, 2], directions, spared, corners, groups, leaves
            )


cpdef int64_t first_outside(
    const double[:, ::1] places, const int8_t[:, :, ::1] known, const double[::1] low, double step,
    const double[:, ::1] directions, int64_t spared, const double[:, ::1] corners, const float[:, ::1] groups,
    int64_t leaves
) noexcept:
    """A place that the surface does not go all round; -1 when it does round all.

    Places are visited in leaps, since those that follow each other mostly have the same answer. Cells of ``known``, of a size of ``step`` from ``low`` on, are inside (1), outside (0), or ask rays (-1).
    """
    cdef double x, y, z
    cdef int64_t answer, common, i = 0, leap, rest, turn
    with nogil:
        leap = <int64_t>(0.618 * len(places))
        common = 0
        while common != 1:  # so that every place has its turn
            leap += 1
            common, rest = leap, len(places)
            while rest:
                common, rest = rest, common % rest
        for turn in range(len(places)):
            i = (i + leap) % len(places)
            x, y, z = (places[i, 0] - low[0]) / step, (places[i, 1] - low[1]) / step, (places[i, 2] - low[2]) / step
            answer = 0
            if 0.0 <= x < known.shape[0] and 0.0 <= y < known.shape[1] and 0.0 <= z < known.shape[2]:
                answer = known[<int64_t>x, <int64_t>y, <int64_t>z]
                if answer < 0:
                    answer = _is_surrounded(
                        places[i, 0], places[i, 1], places[i, 2], directions, spared, corners, groups, leaves
                    )
            if not answer:
                return i
    return -1


cpdef void first_hits(
    const double[:, ::1] places, const double[:, ::1] directions, bint backs_only, const double[:, ::1] corners,
    const float[:, ::1] groups, int64_t leaves, double least, double reach, double[::1] found, int64_t[::1] triangle
) noexcept:
    """How far each ray goes, from ``least`` on, before it meets a triangle, and which; from behind, or either side."""
    cdef double best, dx, dy, dz, far, x, y, z
    cdef float[4] entered
    cdef float[DEEP] waiting
    cdef int met
    cdef int64_t i, k, n, side = 0, size, t, which
    cdef int64_t[DEEP] stack
    cdef zo_ray ray
    with nogil:
        for i in range(len(places)):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
            zo_aim(&ray, x, y, z, dx, dy, dz)
            best, which = reach, -1
            size = put_top(leaves, stack)
            waiting[0] = waiting[1] = 0.0
            while size > 0:
                size -= 1
                n = stack[size]
                if waiting[size] > best * 1.000001:
                    continue
                met = zo_met(&groups[n, 0], &ray, best, entered)
                if n < leaves:
                    size += put_nearest_last(n, met, entered, stack + size, waiting + size)
                    continue
                met = held(met, 4 * (n - leaves), len(corners))
                for k in range(4):
                    if met >> k & 1:
                        t = 4 * (n - leaves) + k
                        far = _hit(corners, t, x, y, z, dx, dy, dz, &side)
                        if least < far < best and (side > 0 or not backs_only):
                            best, which = far, t
            found[i], triangle[i] = best if which >= 0 else INFINITY, which


cpdef void through_planes(
    const double[:, ::1] places, const double[:, ::1] planes, const double[::1] climb, double[::1] low,
    double[::1] high, double[::1] sideways
) noexcept:
    """From where to where a line through each place is behind all planes, as lengths along it.

    ``climb`` is how fast each plane is left behind; of those that never are, ``sideways`` gets the most that the
    place is in front of one.
    """
    cdef double away, x, y, z
    cdef int64_t i, p
    with nogil:
        for i in range(len(places)):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            low[i], high[i], sideways[i] = -INFINITY, INFINITY, -INFINITY
            for p in range(len(planes)):
                away = x * planes[p, 0] + y * planes[p, 1] + z * planes[p, 2] + planes[p, 3]
                if climb[p] > 1e-9:
                    high[i] = min(high[i], -away / climb[p])
                elif climb[p] < -1e-9:
                    low[i] = max(low[i], -away / climb[p])
                else:
                    sideways[i] = max(sideways[i], away)
