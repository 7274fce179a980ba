"""Rays through a tree of boxes, followed by compiled code."""

from libc.math cimport INFINITY, fabs, sqrt
from libc.stdint cimport int64_t, int8_t, uint8_t

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
    const int64_t[::1] numbers, const float[:, ::1] groups, int64_t leaves, double least, double reach,
    double[::1] found, int64_t[::1] triangle
) noexcept:
    """How far each ray goes, from ``least`` on, before it meets a triangle, and which; from behind, or either side.

    Triangles are called by ``numbers`` (T,): of several that are met at once it is the one with the lowest.
    """
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
                        if least < far <= best and (side > 0 or not backs_only):
                            if far < best or (which >= 0 and numbers[t] < which):
                                best, which = far, numbers[t]
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


cdef inline double _met(
    const double[:, ::1] corners, int64_t t, double x, double y, double z, double dx, double dy, double dz,
    bint fronts, double *b, double *c
) noexcept nogil:
    """How far along a ray a triangle is met, from the front only or from either side, and the shares of two corners.

    T. Moeller and B. Trumbore (1997), "Fast, minimum storage ray-triangle intersection".
    """
    cdef double ax, ay, az, bx, by, bz, det, px, py, pz, qx, qy, qz, sx, sy, sz, u, v
    ax, ay, az = corners[t, 3] - corners[t, 0], corners[t, 4] - corners[t, 1], corners[t, 5] - corners[t, 2]
    bx, by, bz = corners[t, 6] - corners[t, 0], corners[t, 7] - corners[t, 1], corners[t, 8] - corners[t, 2]
    px, py, pz = dy * bz - dz * by, dz * bx - dx * bz, dx * by - dy * bx
    det = ax * px + ay * py + az * pz
    if det == 0.0 or (fronts and det < 0.0):
        return INFINITY
    sx, sy, sz = x - corners[t, 0], y - corners[t, 1], z - corners[t, 2]
    u = (sx * px + sy * py + sz * pz) / det
    if u < -1e-9 or u > 1.0 + 1e-9:
        return INFINITY
    qx, qy, qz = sy * az - sz * ay, sz * ax - sx * az, sx * ay - sy * ax
    v = (dx * qx + dy * qy + dz * qz) / det
    if v < -1e-9 or u + v > 1.0 + 1e-9:
        return INFINITY
    b[0], c[0] = u, v
    return (bx * qx + by * qy + bz * qz) / det


cpdef void cast(
    const double[:, ::1] places, const double[:, ::1] ways, double reach, const double[:, ::1] corners,
    const float[:, ::1] groups, int64_t leaves, double[::1] found, int64_t[::1] triangle, double[:, ::1] shares
) noexcept:
    """What a ray from each place meets first from the front within reach: how far, the triangle and where on it."""
    cdef double b, best, c, dx, dy, dz, far, x, y, z
    cdef float[4] entered
    cdef float[DEEP] waiting
    cdef int met
    cdef int64_t guess = 0, i, k, n, size, t
    cdef int64_t[DEEP] stack
    cdef zo_ray ray
    with nogil:
        for i in range(len(places)):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            dx, dy, dz = ways[i, 0], ways[i, 1], ways[i, 2]
            zo_aim(&ray, x, y, z, dx, dy, dz)
            best, triangle[i] = reach, -1
            shares[i, 0], shares[i, 1] = 0.0, 0.0
            # What the ray before met is likely to be met again, and nothing farther matters then.
            far = _met(corners, guess, x, y, z, dx, dy, dz, True, &b, &c)
            if 0.0 <= far < best:
                best, triangle[i] = far, guess
                shares[i, 0], shares[i, 1] = b, c
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
                        far = _met(corners, t, x, y, z, dx, dy, dz, True, &b, &c)
                        if 0.0 <= far < best:
                            best, triangle[i] = far, t
                            shares[i, 0], shares[i, 1] = b, c
            found[i] = best if triangle[i] >= 0 else INFINITY
            guess = triangle[i] if triangle[i] >= 0 else guess


cpdef void find_open(
    const double[:, ::1] places, const double[:, ::1] normals, const double[:, ::1] rays, double least, double reach,
    const double[:, ::1] corners, const float[:, ::1] groups, int64_t leaves, const int64_t[::1] number,
    float[::1] share
) noexcept:
    """The share of the rays from each place, spread about its normal, that meet nothing within reach.

    ``rays`` (R, 3) are about (0, 0, 1); they are turned about the normal by an angle that ``number`` of a place sets.
    """
    cdef double a, ax, ay, az, b, bx, by, bz, c, dx, dy, dz, nx, ny, nz, sign, turn, x, y, z
    cdef float[4] entered
    cdef int met
    cdef int64_t free, i, k, n, r, size
    cdef int64_t[DEEP] stack
    cdef zo_ray ray
    with nogil:
        for i in range(len(places)):
            nx, ny, nz = normals[i, 0], normals[i, 1], normals[i, 2]
            # T. Duff et al. (2017), Building an orthonormal basis, revisited.
            sign = 1.0 if nz >= 0.0 else -1.0
            a = -1.0 / (sign + nz)
            b = nx * ny * a
            ax, ay, az = 1.0 + sign * nx * nx * a, sign * b, -sign * nx
            bx, by, bz = b, sign + ny * ny * a, -ny
            turn = <double>((number[i] * 40503) % 65536) / 65536.0
            # A turn in few steps, by the tangent of half the angle.
            c = 2.0 * turn - 1.0
            dx, dy = (1.0 - c * c) / (1.0 + c * c), 2.0 * c / (1.0 + c * c)
            ax, ay, az, bx, by, bz = (
                dx * ax + dy * bx, dx * ay + dy * by, dx * az + dy * bz,
                dx * bx - dy * ax, dx * by - dy * ay, dx * bz - dy * az,
            )
            x, y, z = places[i, 0] + least * nx, places[i, 1] + least * ny, places[i, 2] + least * nz
            free = 0
            for r in range(len(rays)):
                dx = rays[r, 0] * ax + rays[r, 1] * bx + rays[r, 2] * nx
                dy = rays[r, 0] * ay + rays[r, 1] * by + rays[r, 2] * ny
                dz = rays[r, 0] * az + rays[r, 1] * bz + rays[r, 2] * nz
                zo_aim(&ray, x, y, z, dx, dy, dz)
                free += 1
                size = put_top(leaves, stack)
                while size > 0:
                    size -= 1
                    n = stack[size]
                    met = zo_met(&groups[n, 0], &ray, reach, entered)
                    if n >= leaves:
                        met = held(met, 4 * (n - leaves), len(corners))
                    for k in range(4):
                        if met >> k & 1:
                            if n < leaves:
                                stack[size] = 4 * n + k
                                size += 1
                            elif least < _met(
                                corners, 4 * (n - leaves) + k, x, y, z, dx, dy, dz, False, &b, &c
                            ) < reach:
                                free -= 1
                                size = 0
                                break
            share[i] = <float>free / len(rays)


cpdef void mix(
    const double[:, :, ::1] values, const int64_t[::1] triangle, const double[:, ::1] shares, double[:, ::1] out
) noexcept:
    """Of values (T, 3, n) at the corners of triangles, those at places (N,) of some."""
    cdef int64_t i, k, t
    with nogil:
        for i in range(len(triangle)):
            t = triangle[i]
            for k in range(values.shape[2]):
                out[i, k] = (
                    shares[i, 0] * values[t, 0, k] + shares[i, 1] * values[t, 1, k] + shares[i, 2] * values[t, 2, k]
                )


cpdef void share_pixels(
    const double[:, :, ::1] flat, const int64_t[::1] triangle, const int64_t[::1] pixel, int64_t wide, double x,
    double y, double[:, ::1] shares
) noexcept:
    """The shares of the corners (T, 3, 2) of triangles at places of pixels, which lie at (x, y) within each."""
    cdef double a, area, b, c, px, py, total
    cdef int64_t i, t
    with nogil:
        for i in range(len(triangle)):
            t = triangle[i]
            px, py = pixel[i] % wide + x, pixel[i] // wide + y
            area = (flat[t, 1, 0] - flat[t, 0, 0]) * (flat[t, 2, 1] - flat[t, 0, 1]) - (
                flat[t, 1, 1] - flat[t, 0, 1]
            ) * (flat[t, 2, 0] - flat[t, 0, 0])
            a = ((flat[t, 1, 0] - px) * (flat[t, 2, 1] - py) - (flat[t, 1, 1] - py) * (flat[t, 2, 0] - px)) / area
            b = ((flat[t, 2, 0] - px) * (flat[t, 0, 1] - py) - (flat[t, 2, 1] - py) * (flat[t, 0, 0] - px)) / area
            a, b, c = max(a, 0.0), max(b, 0.0), max(1.0 - a - b, 0.0)
            total = a + b + c
            shares[i, 0], shares[i, 1], shares[i, 2] = a / total, b / total, c / total


cpdef void by_frame(
    const double[:, ::1] normal, const double[:, ::1] tangent, const double[::1] sign, const double[:, ::1] way,
    double[:, ::1] out
) noexcept:
    """Directions by a frame of tangent, bitangent and normal, which need not be square; of length one.

    The bitangent is the sign times the cross product of normal and tangent.
    """
    cdef double bx, by, bz, cx, cy, cz, length, nx, ny, nz, side, tx, ty, tz, x, y, z
    cdef int64_t i
    with nogil:
        for i in range(len(normal)):
            nx, ny, nz = normal[i, 0], normal[i, 1], normal[i, 2]
            tx, ty, tz = tangent[i, 0], tangent[i, 1], tangent[i, 2]
            bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
            bx, by, bz = sign[i] * bx, sign[i] * by, sign[i] * bz
            # What is at right angles to the other two, each.
            cx, cy, cz = by * nz - bz * ny, bz * nx - bx * nz, bx * ny - by * nx
            side = 1.0 if tx * cx + ty * cy + tz * cz >= 0.0 else -1.0
            x = side * (way[i, 0] * cx + way[i, 1] * cy + way[i, 2] * cz)
            cx, cy, cz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
            y = side * (way[i, 0] * cx + way[i, 1] * cy + way[i, 2] * cz)
            cx, cy, cz = ty * bz - tz * by, tz * bx - tx * bz, tx * by - ty * bx
            z = side * (way[i, 0] * cx + way[i, 1] * cy + way[i, 2] * cz)
            length = sqrt(x * x + y * y + z * z)
            if length > 0.0:
                out[i, 0], out[i, 1], out[i, 2] = x / length, y / length, z / length
            else:
                out[i, 0], out[i, 1], out[i, 2] = 0.0, 0.0, 1.0
