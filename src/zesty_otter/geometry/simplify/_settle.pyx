"""Points of a light surface moved a little, so that its largest distance from the dense one shrinks.

A surface is given as ``points`` (P, 3), ``tri`` (3 T,), and the triangles at each point: those of point p are
``around[start[p]:start[p + 1]]``. The dense one is called old, the light one new. Every old point has a home: the
new point nearest to where it lies on the new surface; ``lodgers[lodger_start[v]:lodger_start[v + 1]]`` have theirs
at v. Distances are squared.
"""

from libc.math cimport INFINITY, sqrt
from libc.stdint cimport uint8_t, int32_t, int64_t
from zesty_otter.geometry._primitives cimport nearest_in_triangle

# What may be done with a point.
cpdef enum:
    FIXED = 0
    ON_LINE = 1
    FREE = 2

cdef double[5] _STEPS  # shares of the way to where the old surface is, to be tried
_STEPS = [0.1, 0.2, 0.35, 0.6, 1.0]
cdef double[6][3] _PLACES  # where triangles are looked at, as shares of their corners; in all three turns
_PLACES = [
    [1.0, 0.0, 0.0], [0.5, 0.5, 0.0], [2 / 3.0, 1 / 6.0, 1 / 6.0], [0.75, 0.25, 0.0], [0.25, 0.75, 0.0],
    [1 / 3.0, 1 / 3.0, 1 / 3.0],
]
cdef enum:
    _MOVES = 3  # how often one place is mended in a row


cdef struct Place:
    # A place of a surface: its squared distance, triangle, the shares of its second and third corner, and the point
    # it is nearest to.
    double distance
    int64_t triangle
    double s
    double t
    int64_t point


cpdef void triangles_at(const int32_t[::1] tri, int32_t[::1] start, int32_t[::1] around) noexcept:
    """Fills ``around``; ``start`` (P + 1,) is the beginnings shifted by one place, and put right."""
    cdef int64_t c
    with nogil:
        for c in range(len(tri)):
            around[start[tri[c] + 1]] = c // 3
            start[tri[c] + 1] += 1


cdef inline Place _nearest(
    const double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    int64_t v, double x, double y, double z
) noexcept nogil:
    """The nearest place of a surface to a position, going from point ``v`` to its neighbours while that helps.

    The triangle is -1 where there is none.
    """
    cdef bint found
    cdef double d, first, fs, ft
    cdef int32_t a, b, c, f
    cdef int64_t k
    cdef Place best
    best.distance, best.triangle, best.s, best.t, best.point = INFINITY, -1, 0.0, 0.0, v
    while True:
        found = False
        for k in range(start[v], start[v + 1]):
            f = around[k]
            a, b, c = tri[3 * f], tri[3 * f + 1], tri[3 * f + 2]
            d, fs, ft = nearest_in_triangle(
                points[a, 0], points[a, 1], points[a, 2], points[b, 0], points[b, 1], points[b, 2],
                points[c, 0], points[c, 1], points[c, 2], x, y, z,
            )
            if d < best.distance:
                best.distance, best.triangle, best.s, best.t, found = d, f, fs, ft, True
        if not found:
            return best
        first = 1.0 - best.s - best.t
        k = 0 if first >= best.s and first >= best.t else 1 if best.s >= best.t else 2
        if tri[3 * best.triangle + k] == v:
            return best
        v = tri[3 * best.triangle + k]
        best.point = v


cpdef void find_homes(
    const double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const double[:, ::1] old_points, int32_t[::1] home, double[::1] far, int32_t[::1] worst, double[::1] close,
    int32_t[::1] close_to
) noexcept:
    """Sets homes right, beginning from guesses (-1 for points that are not asked about).

    ``far`` and ``worst`` (P,) get the largest distance of a lodger and which it is, ``close`` and ``close_to`` the
    least.
    """
    cdef double d, x, y, z
    cdef int64_t q, v
    cdef Place place
    with nogil:
        for q in range(len(home)):
            if home[q] < 0:
                continue
            x, y, z = old_points[q, 0], old_points[q, 1], old_points[q, 2]
            place = _nearest(points, tri, start, around, home[q], x, y, z)
            if place.triangle < 0:
                home[q] = -1
                continue
            d, v = place.distance, place.point
            home[q] = v
            if worst[v] < 0 or d > far[v]:
                far[v], worst[v] = d, q
            if d < close[v]:
                close[v], close_to[v] = d, q


cdef inline int64_t _neighbours(
    const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around, int64_t v, int32_t[::1] ring
) noexcept nogil:
    """A point and those it shares triangles with; -1 when there is no room."""
    cdef bint known
    cdef int32_t k
    cdef int64_t c, count, i
    ring[0] = v
    count = 1
    for k in range(start[v], start[v + 1]):
        for c in range(3 * around[k], 3 * around[k] + 3):
            known = False
            for i in range(count):
                known = known or ring[i] == tri[c]
            if not known:
                if count == len(ring):
                    return -1
                ring[count] = tri[c]
                count += 1
    return count


cdef inline bint _turns(
    const double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    int32_t v, double x, double y, double z
) noexcept nogil:
    """Whether a triangle at a point would turn much or lose half its area by a move of it."""
    cdef double after, before, nx, ny, nz, ox, oy, oz, px, py, pz, qx, qy, qz, wx, wy, wz
    cdef int32_t b, c, f, k
    cdef int64_t j
    for k in range(start[v], start[v + 1]):
        f = around[k]
        j = 0 if tri[3 * f] == v else 1 if tri[3 * f + 1] == v else 2
        b, c = tri[3 * f + (j + 1) % 3], tri[3 * f + (j + 2) % 3]
        wx, wy, wz = points[c, 0] - points[b, 0], points[c, 1] - points[b, 1], points[c, 2] - points[b, 2]
        ox, oy, oz = points[v, 0] - points[b, 0], points[v, 1] - points[b, 1], points[v, 2] - points[b, 2]
        nx, ny, nz = x - points[b, 0], y - points[b, 1], z - points[b, 2]
        px, py, pz = wy * oz - wz * oy, wz * ox - wx * oz, wx * oy - wy * ox
        qx, qy, qz = wy * nz - wz * ny, wz * nx - wx * nz, wx * ny - wy * nx
        before, after = px * px + py * py + pz * pz, qx * qx + qy * qy + qz * qz
        if 4 * after < before or (px * qx + py * qy + pz * qz) < 0.7 * sqrt(before * after):
            return True
    return False


cdef inline (double, int64_t) _farthest_lodger(
    const double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const double[:, ::1] old_points, const int32_t[::1] lodger_start, const int32_t[::1] lodgers, int32_t v,
    double enough
) noexcept nogil:
    """The largest distance of a lodger of a point, and which it is; no more is asked once it is ``enough``."""
    cdef double d, far, x, y, z
    cdef int32_t k, q
    cdef int64_t worst
    far, worst = 0.0, -1
    for k in range(lodger_start[v], lodger_start[v + 1]):
        q = lodgers[k]
        x, y, z = old_points[q, 0], old_points[q, 1], old_points[q, 2]
        d = _nearest(points, tri, start, around, v, x, y, z).distance
        if d > far:
            far, worst = d, q
            if far >= enough:
                break
    return far, worst


cdef inline double _farthest_place(
    const double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const double[:, ::1] old_points, const int32_t[::1] old_tri, const int32_t[::1] old_start,
    const int32_t[::1] old_around, const int32_t[::1] close_to, int32_t v, double enough
) noexcept nogil:
    """The largest distance of sixteen places of each triangle at a point to the old surface."""
    cdef double d, far, wa, wb, wc, x, y, z
    cdef int32_t a, b, c, f, k, near
    cdef int64_t n
    far = 0.0
    for k in range(start[v], start[v + 1]):
        f = around[k]
        for n in range(16):
            a, b, c = tri[3 * f + n % 3], tri[3 * f + (n + 1) % 3], tri[3 * f + (n + 2) % 3]
            near = close_to[a] if close_to[a] >= 0 else close_to[b] if close_to[b] >= 0 else close_to[c]
            if near < 0:
                continue
            wa, wb, wc = _PLACES[n // 3][0], _PLACES[n // 3][1], _PLACES[n // 3][2]
            x = wa * points[a, 0] + wb * points[b, 0] + wc * points[c, 0]
            y = wa * points[a, 1] + wb * points[b, 1] + wc * points[c, 1]
            z = wa * points[a, 2] + wb * points[b, 2] + wc * points[c, 2]
            d = _nearest(old_points, old_tri, old_start, old_around, near, x, y, z).distance
            far = max(far, d)
            if far >= enough:
                return far
    return far


cdef inline (double, double) _best_step(
    double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const double[::1] leeway, const double[:, ::1] old_points, const int32_t[::1] old_tri,
    const int32_t[::1] old_start, const int32_t[::1] old_around, const int32_t[::1] lodger_start,
    const int32_t[::1] lodgers, const int32_t[::1] close_to, int32_t[::1] ring, int32_t v, double gx, double gy,
    double gz, double bound
) noexcept nogil:
    """The share of a way a point should go, 0.0 for none, and the largest distance around it then.

    That is the one of both directions, and less than ``bound``.
    """
    cdef double best, d, far, nx, ny, nz, step, x, y, z
    cdef int64_t count, k, n
    count = _neighbours(tri, start, around, v, ring)
    x, y, z = points[v, 0], points[v, 1], points[v, 2]
    best = 0.0
    for n in range(5):
        step = _STEPS[n]
        nx, ny, nz = x + step * gx, y + step * gy, z + step * gz
        if count < 0 or step * step * (gx * gx + gy * gy + gz * gz) > leeway[v]:
            break
        if _turns(points, tri, start, around, v, nx, ny, nz):
            continue
        points[v, 0], points[v, 1], points[v, 2] = nx, ny, nz
        far = 0.0
        for k in range(count):
            d = _farthest_lodger(points, tri, start, around, old_points, lodger_start, lodgers, ring[k], bound)[0]
            far = max(far, d)
            if far >= bound:
                break
        if far < bound:
            d = _farthest_place(
                points, tri, start, around, old_points, old_tri, old_start, old_around, close_to, v, bound
            )
            far = max(far, d)
        if far < bound:
            bound, best = far, step
        points[v, 0], points[v, 1], points[v, 2] = x, y, z
    return best, bound


cdef inline bint _mend(
    double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const int64_t[::1] freedom, const double[::1] leeway, const double[:, ::1] old_points,
    const int32_t[::1] old_tri, const int32_t[::1] old_start, const int32_t[::1] old_around,
    const int32_t[::1] lodger_start, const int32_t[::1] lodgers, double[::1] far, int32_t[::1] worst,
    const int32_t[::1] close_to, int32_t[::1] ring, int64_t f, double s, double t, double x, double y, double z,
    bint on_line, double bound
) noexcept nogil:
    """Moves the corner of a triangle that best brings a place of it nearer to a position; says whether one does."""
    cdef double[3] shares
    cdef double found, step, way
    cdef int32_t a, b, c, v
    cdef int64_t j, k, mover
    a, b, c = tri[3 * f], tri[3 * f + 1], tri[3 * f + 2]
    shares[0], shares[1], shares[2] = 1.0 - s - t, s, t
    x -= shares[0] * points[a, 0] + s * points[b, 0] + t * points[c, 0]
    y -= shares[0] * points[a, 1] + s * points[b, 1] + t * points[c, 1]
    z -= shares[0] * points[a, 2] + s * points[b, 2] + t * points[c, 2]
    mover, way = -1, 0.0
    for j in range(3):
        v = tri[3 * f + j]
        if freedom[v] == FIXED or (freedom[v] == ON_LINE and not on_line) or shares[j] < 0.05:
            continue
        step, found = _best_step(
            points, tri, start, around, leeway, old_points, old_tri, old_start, old_around, lodger_start, lodgers,
            close_to, ring, v, x, y, z, bound,
        )
        if step > 0.0:
            bound, mover, way = found, v, step
    if mover < 0:
        return False
    points[mover, 0] += way * x
    points[mover, 1] += way * y
    points[mover, 2] += way * z
    for k in range(_neighbours(tri, start, around, mover, ring)):
        far[ring[k]], worst[ring[k]] = _farthest_lodger(
            points, tri, start, around, old_points, lodger_start, lodgers, ring[k], INFINITY
        )
    return True


cpdef int64_t settle(
    double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const int64_t[::1] freedom, const double[::1] leeway, const double[:, ::1] old_points,
    const int32_t[::1] old_tri, const int32_t[::1] old_start, const int32_t[::1] old_around,
    const int32_t[::1] lodger_start, const int32_t[::1] lodgers, double[::1] far, int32_t[::1] worst,
    const int32_t[::1] close_to, int32_t[::1] ring, const uint8_t[::1] old_on_line, const int64_t[::1] todo,
    double bound, double goal
) noexcept:
    """Moves corners of the triangles under the worst lodgers of some points; returns how many moves there were.

    A move is made when both surfaces come nearer to each other all around it: to less than ``goal`` of the distance
    that is to shrink. Distances up to ``bound`` are left alone. ``freedom`` (P,) is what may move, on a border or
    seam only for the sake of what was on one; ``leeway`` (P,) the squared length it may go.
    """
    cdef double x, y, z
    cdef int32_t q
    cdef int64_t home, move, moves, n
    cdef Place place
    with nogil:
        moves = 0
        for n in range(len(todo)):
            home = todo[n]
            for move in range(_MOVES):
                if far[home] <= bound:
                    break
                q = worst[home]
                x, y, z = old_points[q, 0], old_points[q, 1], old_points[q, 2]
                place = _nearest(points, tri, start, around, home, x, y, z)
                if not _mend(
                    points, tri, start, around, freedom, leeway, old_points, old_tri, old_start, old_around,
                    lodger_start, lodgers, far, worst, close_to, ring, place.triangle, place.s, place.t, x, y, z,
                    old_on_line[q], goal * far[home],
                ):
                    break
                moves += 1
        return moves


cpdef int64_t settle_places(
    double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] start, const int32_t[::1] around,
    const int64_t[::1] freedom, const double[::1] leeway, const double[:, ::1] old_points,
    const int32_t[::1] old_tri, const int32_t[::1] old_start, const int32_t[::1] old_around,
    const int32_t[::1] lodger_start, const int32_t[::1] lodgers, double[::1] far, int32_t[::1] worst,
    const int32_t[::1] close_to, int32_t[::1] ring, const int64_t[::1] todo, double bound, double goal
) noexcept:
    """Moves corners of triangles that cut off a corner of the old surface, by the rules of `settle`."""
    cdef double gs, gt, s, t, x, y, z
    cdef int32_t a, b, c, near
    cdef int64_t f, g, i, moves, n
    cdef Place place
    with nogil:
        moves = 0
        for i in range(len(todo)):
            f = todo[i]
            for n in range(4):
                s = t = 1.0 / 3.0
                if n < 3:
                    s, t = 0.5 if n < 2 else 0.0, 0.5 if n > 0 else 0.0
                a, b, c = tri[3 * f], tri[3 * f + 1], tri[3 * f + 2]
                near = close_to[a] if close_to[a] >= 0 else close_to[b] if close_to[b] >= 0 else close_to[c]
                if near < 0 or (n < 3 and tri[3 * f + n] > tri[3 * f + (n + 1) % 3]):
                    continue  # the other triangle of an edge looks at it
                x = (1 - s - t) * points[a, 0] + s * points[b, 0] + t * points[c, 0]
                y = (1 - s - t) * points[a, 1] + s * points[b, 1] + t * points[c, 1]
                z = (1 - s - t) * points[a, 2] + s * points[b, 2] + t * points[c, 2]
                place = _nearest(old_points, old_tri, old_start, old_around, near, x, y, z)
                if place.distance <= bound:
                    continue
                g, gs, gt = place.triangle, place.s, place.t
                a, b, c = old_tri[3 * g], old_tri[3 * g + 1], old_tri[3 * g + 2]
                x = (1 - gs - gt) * old_points[a, 0] + gs * old_points[b, 0] + gt * old_points[c, 0]
                y = (1 - gs - gt) * old_points[a, 1] + gs * old_points[b, 1] + gt * old_points[c, 1]
                z = (1 - gs - gt) * old_points[a, 2] + gs * old_points[b, 2] + gt * old_points[c, 2]
                moves += _mend(
                    points, tri, start, around, freedom, leeway, old_points, old_tri, old_start, old_around,
                    lodger_start, lodgers, far, worst, close_to, ring, f, s, t, x, y, z, False, goal * place.distance,
                )
        return moves
