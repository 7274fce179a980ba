"""Rays through a tree of boxes, followed by compiled code."""

from libc.math cimport INFINITY
from libc.stdint cimport uint8_t, int64_t

cdef enum:
    LEAF = 4  # triangles in a leaf, as in `_distance`


cdef inline bint _enters(
    const double[:, ::1] boxes, int64_t n, double x, double y, double z, double dx, double dy, double dz,
    double reach
) noexcept nogil:
    """Whether a ray meets a box within its reach."""
    cdef double along, far, high, low, near, one, other, start
    cdef int64_t axis
    near, far = 0.0, reach
    for axis in range(3):
        start = x if axis == 0 else y if axis == 1 else z
        along = dx if axis == 0 else dy if axis == 1 else dz
        low, high = boxes[n, axis] - start, boxes[n, 3 + axis] - start
        if along == 0.0:
            if low > 0.0 or high < 0.0:
                return False
        else:
            one, other = low / along, high / along
            near, far = max(near, min(one, other)), min(far, max(one, other))
    return near <= far


cdef inline (double, int64_t) _hit(
    const double[:, ::1] corners, int64_t t, double x, double y, double z, double dx, double dy, double dz
) noexcept nogil:
    """How far along a ray it meets a triangle from either side (infinite when it does not), and from which.

    T. Moeller and B. Trumbore (1997), "Fast, minimum storage ray-triangle intersection".
    """
    cdef double ax, ay, az, bx, by, bz, det, px, py, pz, qx, qy, qz, sx, sy, sz, u, v
    ax, ay, az = corners[t, 3] - corners[t, 0], corners[t, 4] - corners[t, 1], corners[t, 5] - corners[t, 2]
    bx, by, bz = corners[t, 6] - corners[t, 0], corners[t, 7] - corners[t, 1], corners[t, 8] - corners[t, 2]
    px, py, pz = dy * bz - dz * by, dz * bx - dx * bz, dx * by - dy * bx
    det = ax * px + ay * py + az * pz
    if det == 0.0:
        return INFINITY, 0
    sx, sy, sz = x - corners[t, 0], y - corners[t, 1], z - corners[t, 2]
    u = (sx * px + sy * py + sz * pz) / det
    qx, qy, qz = sy * az - sz * ay, sz * ax - sx * az, sx * ay - sy * ax
    v = (dx * qx + dy * qy + dz * qz) / det
    if u < 0.0 or v < 0.0 or u + v > 1.0:
        return INFINITY, 0
    return (bx * qx + by * qy + bz * qz) / det, 1 if det < 0.0 else -1


cpdef void surrounded(
    const double[:, ::1] places, const double[:, ::1] directions, int64_t spared, const double[:, ::1] corners,
    const double[:, ::1] boxes, int64_t leaves, int64_t[::1] stack, uint8_t[::1] found
) noexcept:
    """Whether rays from each place leave more backs than they enter fronts: all of them but ``spared``."""
    cdef double dx, dy, dz, far, x, y, z
    cdef int64_t count, i, k, n, open_rays, ray, side, size
    with nogil:
        for i in range(len(places)):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            open_rays = 0
            for ray in range(len(directions)):
                dx, dy, dz = directions[ray, 0], directions[ray, 1], directions[ray, 2]
                count = 0
                stack[0] = 1
                size = 1
                while size > 0:
                    size -= 1
                    n = stack[size]
                    if not _enters(boxes, n, x, y, z, dx, dy, dz, INFINITY):
                        continue
                    if n >= leaves:
                        for k in range(LEAF * (n - leaves), min(LEAF * (n - leaves) + LEAF, len(corners))):
                            far, side = _hit(corners, k, x, y, z, dx, dy, dz)
                            if 0.0 < far < INFINITY:
                                count += side
                    else:
                        stack[size], stack[size + 1] = 2 * n, 2 * n + 1
                        size += 2
                open_rays += count <= 0
                if open_rays > spared:
                    break
            found[i] = open_rays <= spared


cpdef void first_hits(
    const double[:, ::1] places, const double[:, ::1] directions, bint backs_only, const double[:, ::1] corners,
    const double[:, ::1] boxes, int64_t leaves, int64_t[::1] stack, double least, double reach, double[::1] found,
    int64_t[::1] triangle
) noexcept:
    """How far each ray goes, from ``least`` on, before it meets a triangle, and which; from behind, or either side."""
    cdef double best, dx, dy, dz, far, x, y, z
    cdef int64_t i, k, n, side, size, which
    with nogil:
        for i in range(len(places)):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
            best, which = reach, -1
            stack[0] = 1
            size = 1
            while size > 0:
                size -= 1
                n = stack[size]
                if not _enters(boxes, n, x, y, z, dx, dy, dz, best):
                    continue
                if n >= leaves:
                    for k in range(LEAF * (n - leaves), min(LEAF * (n - leaves) + LEAF, len(corners))):
                        far, side = _hit(corners, k, x, y, z, dx, dy, dz)
                        if least < far < best and (side > 0 or not backs_only):
                            best, which = far, k
                else:
                    stack[size], stack[size + 1] = 2 * n, 2 * n + 1
                    size += 2
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
