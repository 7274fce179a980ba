"""Compiled loops of `triangulation`: one face at a time, in the plane that fits it best."""

from libc.math cimport INFINITY, sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t

cpdef enum:
    SHORTEST = 0
    BEST_ANGLE = 1
    FIXED = 2

# Flipping looks at all pairs of triangles; larger faces keep what ear clipping made.
cdef enum:
    _MOST_FLIPPED = 256

# How often nothing may move in a face before it is taken for one that crosses itself.
cdef enum:
    _MOST_FRUITLESS = 8

# Rows of the scratch table `links`: the polygon that is left, and the heap's entries.
cpdef enum:
    _AFTER = 0
    _BEFORE = 1
    _BEND = 2
    _VERSION = 3
    _ITEM = 4
    _SEEN = 5
    LINK_ROWS = 6


cpdef void triangulate_faces(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point, int64_t rule,
    int64_t first_face, int64_t stop_face, int32_t[:, ::1] triangles, int32_t[::1] triangle_face,
    double[:, ::1] flat, int64_t[:, ::1] links, int64_t[:, ::1] cells, double[::1] cost
) noexcept:
    # Some of the faces. Invariant: face f fills exactly face_size - 2 rows, starting at face_start[f] - 2 * f.
    cdef double noise
    cdef int32_t first
    cdef int64_t f, k, row, size
    with nogil:
        for f in range(first_face, stop_face):
            first = face_start[f]
            size = face_start[f + 1] - first
            row = first - 2 * f
            for k in range(row, row + size - 2):
                triangle_face[k] = f
            if size == 3:
                triangles[row, 0], triangles[row, 1], triangles[row, 2] = first, first + 1, first + 2
            elif size == 4:
                _split_quad(points, corner_point, first, rule, triangles, row)
            else:
                noise = _flatten(points, corner_point, first, size, flat)
                _clip_ears(flat, size, noise, first, rule, triangles, row, links, cells, cost)
                if rule == BEST_ANGLE and size <= _MOST_FLIPPED:
                    _flip_diagonals(flat, size, noise, first, triangles, row)


cpdef void hard_to_fan(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point, uint8_t[::1] hard
) noexcept:
    # Faces of more than four corners, and quads with a corner that turns against the others.
    cdef double least, nx, ny, nz
    cdef int32_t first
    cdef int32_t[4] p
    cdef int64_t f, k, size
    with nogil:
        for f in range(len(face_start) - 1):
            first = face_start[f]
            size = face_start[f + 1] - first
            hard[f] = size > 4
            if size != 4:
                continue
            for k in range(4):
                p[k] = corner_point[first + k]
            _cross(points, p[0], p[2], p[1], p[3], &nx, &ny, &nz)
            least = -1e-9 * (nx * nx + ny * ny + nz * nz)
            for k in range(4):
                if _along(points, p[(k + 3) & 3], p[k], p[(k + 1) & 3], nx, ny, nz) < least:
                    hard[f] = True


cdef inline void _cross(
    const double[:, ::1] points, int32_t a, int32_t b, int32_t c, int32_t d, double *x, double *y, double *z
) noexcept nogil:
    # The cross product of a-b and c-d.
    cdef double ux, uy, uz, vx, vy, vz
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[d, 0] - points[c, 0], points[d, 1] - points[c, 1], points[d, 2] - points[c, 2]
    x[0], y[0], z[0] = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


cdef inline double _along(
    const double[:, ::1] points, int32_t before, int32_t here, int32_t after, double nx, double ny, double nz
) noexcept nogil:
    # How far the corner turns about a normal.
    cdef double x, y, z
    _cross(points, before, here, here, after, &x, &y, &z)
    return x * nx + y * ny + z * nz


cdef inline void _split_quad(
    const double[:, ::1] points, const int32_t[::1] corner_point, int32_t first, int64_t rule,
    int32_t[:, ::1] triangles, int64_t row
) noexcept nogil:
    cdef bint fits_ac, fits_bd, split_ac
    cdef double abc, abd, abx, aby, abz, ac, acd, acx, acy, acz, adx, ady, adz, ax, ay, az, bcd, bd, bdx, bdy
    cdef double bdz, bx, by, bz, dx, dy, dz, noise, nx, ny, nz
    cdef int32_t a, b, c, d
    a, b, c, d = (
        corner_point[first],
        corner_point[first + 1],
        corner_point[first + 2],
        corner_point[first + 3],
    )
    ax, ay, az = points[a, 0], points[a, 1], points[a, 2]
    bx, by, bz = points[b, 0], points[b, 1], points[b, 2]
    acx, acy, acz = points[c, 0] - ax, points[c, 1] - ay, points[c, 2] - az
    dx, dy, dz = points[d, 0], points[d, 1], points[d, 2]
    bdx, bdy, bdz = dx - bx, dy - by, dz - bz
    # The cross product of the diagonals is the normal, twice the area long.
    nx, ny, nz = acy * bdz - acz * bdy, acz * bdx - acx * bdz, acx * bdy - acy * bdx
    abx, aby, abz = bx - ax, by - ay, bz - az
    adx, ady, adz = dx - ax, dy - ay, dz - az
    # Areas along the normal of abc, acd (the split a-c) and abd; bcd follows from their sum.
    abc = (aby * acz - abz * acy) * nx + (abz * acx - abx * acz) * ny + (abx * acy - aby * acx) * nz
    acd = (acy * adz - acz * ady) * nx + (acz * adx - acx * adz) * ny + (acx * ady - acy * adx) * nz
    abd = (aby * adz - abz * ady) * nx + (abz * adx - abx * adz) * ny + (abx * ady - aby * adx) * nz
    bcd = abc + acd - abd
    noise = 1e-12 * (nx * nx + ny * ny + nz * nz)
    fits_ac = abc > noise and acd > noise
    fits_bd = abd > noise and bcd > noise
    if fits_ac != fits_bd:
        split_ac = fits_ac
    elif rule == 0:
        ac = acx * acx + acy * acy + acz * acz
        bd = bdx * bdx + bdy * bdy + bdz * bdz
        # Equal up to rounding counts as equal, so that a turned or moved copy splits the same way.
        split_ac = ac <= bd * (1 + 1e-9)
    elif rule == 1:
        ac = min(_least_angle(points, a, b, c), _least_angle(points, a, c, d))
        bd = min(_least_angle(points, a, b, d), _least_angle(points, b, c, d))
        split_ac = ac >= bd - 1e-9
    else:
        split_ac = True
    if split_ac:
        triangles[row, 0], triangles[row, 1], triangles[row, 2] = first, first + 1, first + 2
        triangles[row + 1, 0], triangles[row + 1, 1], triangles[row + 1, 2] = first, first + 2, first + 3
    else:
        triangles[row, 0], triangles[row, 1], triangles[row, 2] = first, first + 1, first + 3
        triangles[row + 1, 0], triangles[row + 1, 1], triangles[row + 1, 2] = first + 1, first + 2, first + 3


cdef inline double _least_angle(const double[:, ::1] rows, int64_t a, int64_t b, int64_t c) noexcept nogil:
    # Cosine of the smallest angle of the triangle of three rows, negated so that more is better.
    cdef double ab, bc, ca, shortest
    cdef int64_t k
    ab, bc, ca = 0.0, 0.0, 0.0
    for k in range(rows.shape[1]):
        ab += (rows[b, k] - rows[a, k]) ** 2
        bc += (rows[c, k] - rows[b, k]) ** 2
        ca += (rows[a, k] - rows[c, k]) ** 2
    shortest = min(ab, bc, ca)
    if shortest <= 0.0:
        return -1.0
    if shortest == ab:
        return -(bc + ca - ab) / (2.0 * sqrt(bc * ca))
    if shortest == bc:
        return -(ab + ca - bc) / (2.0 * sqrt(ab * ca))
    return -(ab + bc - ca) / (2.0 * sqrt(ab * bc))


cdef inline double _flatten(
    const double[:, ::1] points, const int32_t[::1] corner_point, int32_t first, int64_t size, double[:, ::1] flat
) noexcept nogil:
    # Projects onto the plane of Newell's normal, about the first corner; returns the rounding to expect.
    cdef double length, nx, ny, nz, ox, oy, oz, px, py, pz, qx, qy, qz, reach, ux, uy, uz, vx, vy, vz, x, y, z
    cdef int32_t o, p, q
    cdef int64_t i
    o = corner_point[first]
    ox, oy, oz = points[o, 0], points[o, 1], points[o, 2]
    nx, ny, nz, reach = 0.0, 0.0, 0.0, 0.0
    for i in range(size):
        p, q = corner_point[first + i], corner_point[first + (i + 1) % size]
        px, py, pz = points[p, 0] - ox, points[p, 1] - oy, points[p, 2] - oz
        qx, qy, qz = points[q, 0] - ox, points[q, 1] - oy, points[q, 2] - oz
        nx += py * qz - pz * qy
        ny += pz * qx - px * qz
        nz += px * qy - py * qx
        reach = max(reach, abs(points[p, 0]), abs(points[p, 1]), abs(points[p, 2]))
    length = sqrt(nx * nx + ny * ny + nz * nz)
    if length > 0.0:
        nx, ny, nz = nx / length, ny / length, nz / length
    else:
        nz = 1.0
    # u is perpendicular to the normal and to the axis the normal leans to least.
    if abs(nx) <= abs(ny) and abs(nx) <= abs(nz):
        ux, uy, uz = 0.0, -nz, ny
    elif abs(ny) <= abs(nz):
        ux, uy, uz = nz, 0.0, -nx
    else:
        ux, uy, uz = -ny, nx, 0.0
    length = sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / length, uy / length, uz / length
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    for i in range(size):
        p = corner_point[first + i]
        x, y, z = points[p, 0] - ox, points[p, 1] - oy, points[p, 2] - oz
        flat[i, 0] = x * ux + y * uy + z * uz
        flat[i, 1] = x * vx + y * vy + z * vz
    return 1e-15 * reach


cdef inline double _turn(const double[:, ::1] flat, int64_t a, int64_t b, int64_t c) noexcept nogil:
    cdef double abx, aby, bcx, bcy
    abx, aby = flat[b, 0] - flat[a, 0], flat[b, 1] - flat[a, 1]
    bcx, bcy = flat[c, 0] - flat[b, 0], flat[c, 1] - flat[b, 1]
    return abx * bcy - aby * bcx


cdef inline int64_t _bend(const double[:, ::1] flat, int64_t a, int64_t b, int64_t c, double noise) noexcept nogil:
    # +1 convex, -1 reflex, 0 straight as far as rounding lets one tell.
    cdef double ab, abx, aby, bc, bcx, bcy, limit, turn
    abx, aby = flat[b, 0] - flat[a, 0], flat[b, 1] - flat[a, 1]
    bcx, bcy = flat[c, 0] - flat[b, 0], flat[c, 1] - flat[b, 1]
    turn = abx * bcy - aby * bcx
    ab, bc = sqrt(abx * abx + aby * aby), sqrt(bcx * bcx + bcy * bcy)
    limit = 1e-12 * ab * bc + noise * (ab + bc)
    if turn > limit:
        return 1
    if turn < -limit:
        return -1
    return 0


cdef inline double _cost(
    const double[:, ::1] flat, int64_t a, int64_t b, int64_t c, int64_t bend, int64_t rule
) noexcept nogil:
    if bend <= 0:
        # Only when nothing better is left: corners on a straight line before reflex ones.
        return 1e300 * (1 - bend)
    if rule == 0:
        return (flat[c, 0] - flat[a, 0]) ** 2 + (flat[c, 1] - flat[a, 1]) ** 2
    if rule == 1:
        return -_least_angle(flat, a, b, c)
    # Corner 0 is clipped last, so that a convex face becomes a fan about it.
    return <double>b if b > 0 else 1e299


cdef inline int64_t _push(
    double[::1] cost, int64_t[:, ::1] links, int64_t count, double value, int64_t item, int64_t version
) noexcept nogil:
    # A binary heap: cost[k] with its item and version in two rows of `links`; ties go to the lower item.
    cdef int64_t k, parent
    k = count
    while k > 0:
        parent = (k - 1) // 2
        if cost[parent] < value or (cost[parent] == value and links[_ITEM, parent] <= item):
            break
        cost[k], links[_ITEM, k], links[_SEEN, k] = cost[parent], links[_ITEM, parent], links[_SEEN, parent]
        k = parent
    cost[k], links[_ITEM, k], links[_SEEN, k] = value, item, version
    return count + 1


cdef inline int64_t _pop(double[::1] cost, int64_t[:, ::1] links, int64_t count) noexcept nogil:
    # Removes the cheapest entry, whose item and version the caller has read at 0.
    cdef double value
    cdef int64_t child, item, k, version
    count -= 1
    value, item, version = cost[count], links[_ITEM, count], links[_SEEN, count]
    k = 0
    while True:
        child = 2 * k + 1
        if child >= count:
            break
        if child + 1 < count and (
            cost[child + 1] < cost[child]
            or (cost[child + 1] == cost[child] and links[_ITEM, child + 1] < links[_ITEM, child])
        ):
            child += 1
        if value < cost[child] or (value == cost[child] and item <= links[_ITEM, child]):
            break
        cost[k], links[_ITEM, k], links[_SEEN, k] = cost[child], links[_ITEM, child], links[_SEEN, child]
        k = child
    cost[k], links[_ITEM, k], links[_SEEN, k] = value, item, version
    return count


cdef inline void _clip_ears(
    const double[:, ::1] flat, int64_t size, double noise, int32_t first, int64_t rule, int32_t[:, ::1] triangles,
    int64_t row, int64_t[:, ::1] links, int64_t[:, ::1] cells, double[::1] cost
) noexcept nogil:
    # Ear clipping with the cheapest ear first. Invariant: `after` and `before` link what is left of the
    # polygon, `bend` is right for every vertex left, and every vertex that can block an ear is in the
    # grid (clipping an ear never makes a convex vertex reflex). A vertex that is gone has version -1.
    cdef bint clipped
    cdef double low_x, low_y, step_x, step_y, value
    cdef int64_t a, across, at, b, c, count, end, fruitless, i, left, seen, start, strictest, strictness, v
    cdef int64_t[::1] after, before, bend, version
    after, before, bend, version = links[_AFTER], links[_BEFORE], links[_BEND], links[_VERSION]
    for i in range(size):
        after[i], before[i], version[i] = (i + 1) % size, (i + size - 1) % size, 0
    for i in range(size):
        bend[i] = _bend(flat, before[i], i, after[i], noise)
    low_x, low_y, step_x, step_y, across = _fill_grid(flat, size, bend, cells)
    left = size
    strictness = 2  # 2: nothing inside or on the ear; 1: nothing inside; 0: any convex corner; -1: any
    strictest = 2
    fruitless = 0
    while left > 3:
        count = 0
        at = 0
        while version[at] < 0:
            at += 1
        start = at
        while True:
            if bend[at] > 0 or strictness < 0:
                value = _cost(flat, before[at], at, after[at], bend[at], rule)
                count = _push(cost, links, count, value, at, version[at])
            at = after[at]
            if at == start:
                break
        clipped = False
        while count > 0 and left > 3:
            b, seen = links[_ITEM, 0], links[_SEEN, 0]
            count = _pop(cost, links, count)
            if version[b] != seen:
                continue
            a, c = before[b], after[b]
            if strictness > 0 and _blocked(
                flat, a, b, c, links, strictness, noise, cells, low_x, low_y, step_x, step_y, across
            ):
                continue
            triangles[row, 0], triangles[row, 1], triangles[row, 2] = first + a, first + b, first + c
            row += 1
            left -= 1
            clipped = True
            version[b] = -1
            after[a], before[c] = c, a
            for end in range(2):
                v = a if end == 0 else c
                version[v] += 1
                bend[v] = _bend(flat, before[v], v, after[v], noise)
                if bend[v] > 0 or strictness < 0:
                    value = _cost(flat, before[v], v, after[v], bend[v], rule)
                    count = _push(cost, links, count, value, v, version[v])
            if strictness < strictest:
                break
        # What blocked an ear may be gone now; only when nothing moves are the demands lowered.
        if not clipped and strictness == strictest:
            fruitless += 1
            if fruitless == _MOST_FRUITLESS:
                # A polygon without crossings would not have come to this; looking for ears is over.
                strictest = 0
        strictness = strictest if clipped else min(strictness - 1, strictest)
    b = 0
    while version[b] < 0:
        b += 1
    triangles[row, 0], triangles[row, 1], triangles[row, 2] = first + b, first + after[b], first + before[b]


cdef inline (double, double, double, double, int64_t) _fill_grid(
    const double[:, ::1] flat, int64_t size, const int64_t[::1] bend, int64_t[:, ::1] cells
) noexcept nogil:
    # Buckets the vertices that can block an ear, those that are not convex, by counting sort.
    cdef double high_x, high_y, low_x, low_y, step_x, step_y
    cdef int64_t across, i, k, obstacles
    cdef int64_t[::1] item, start
    low_x, low_y, high_x, high_y = INFINITY, INFINITY, -INFINITY, -INFINITY
    obstacles = 0
    for i in range(size):
        low_x, high_x = min(low_x, flat[i, 0]), max(high_x, flat[i, 0])
        low_y, high_y = min(low_y, flat[i, 1]), max(high_y, flat[i, 1])
        obstacles += bend[i] <= 0
    across = max(1, <int64_t>sqrt(obstacles / 2.0))
    step_x = (high_x - low_x) / across if high_x > low_x else 1.0
    step_y = (high_y - low_y) / across if high_y > low_y else 1.0
    start, item = cells[0], cells[1]
    for k in range(across * across + 1):
        start[k] = 0
    for i in range(size):
        if bend[i] <= 0:
            start[_cell(flat[i, 0], flat[i, 1], low_x, low_y, step_x, step_y, across)] += 1
    for k in range(across * across):
        start[k + 1] += start[k]
    for i in range(size - 1, -1, -1):
        if bend[i] <= 0:
            k = _cell(flat[i, 0], flat[i, 1], low_x, low_y, step_x, step_y, across)
            start[k] -= 1
            item[start[k]] = i
    return low_x, low_y, step_x, step_y, across


cdef inline int64_t _cell(
    double x, double y, double low_x, double low_y, double step_x, double step_y, int64_t across
) noexcept nogil:
    cdef int64_t column, line
    column = min(across - 1, max(0, <int64_t>((x - low_x) / step_x)))
    line = min(across - 1, max(0, <int64_t>((y - low_y) / step_y)))
    return line * across + column


cdef inline bint _blocked(
    const double[:, ::1] flat, int64_t a, int64_t b, int64_t c, const int64_t[:, ::1] links, int64_t strictness,
    double noise, const int64_t[:, ::1] cells, double low_x, double low_y, double step_x, double step_y,
    int64_t across
) noexcept nogil:
    cdef double ab, ax, ay, bc, bx, by, ca, cx, cy, edge, longest, x, y
    cdef int64_t column, corner_high, corner_low, i, k, line, n
    cdef const int64_t[::1] after, before, bend, cell_item, cell_start, version
    after, before, bend, version = links[_AFTER], links[_BEFORE], links[_BEND], links[_VERSION]
    cell_start, cell_item = cells[0], cells[1]
    ax, ay, bx, by, cx, cy = flat[a, 0], flat[a, 1], flat[b, 0], flat[b, 1], flat[c, 0], flat[c, 1]
    longest = sqrt(
        max((bx - ax) ** 2 + (by - ay) ** 2, (cx - bx) ** 2 + (cy - by) ** 2, (ax - cx) ** 2 + (ay - cy) ** 2)
    )
    edge = 1e-12 * longest * longest + 2.0 * noise * longest
    corner_low = _cell(min(ax, bx, cx), min(ay, by, cy), low_x, low_y, step_x, step_y, across)
    corner_high = _cell(max(ax, bx, cx), max(ay, by, cy), low_x, low_y, step_x, step_y, across)
    for line in range(corner_low // across, corner_high // across + 1):
        for column in range(corner_low % across, corner_high % across + 1):
            k = line * across + column
            for n in range(cell_start[k], cell_start[k + 1]):
                i = cell_item[n]
                if version[i] < 0 or bend[i] > 0 or i == a or i == b or i == c:
                    continue
                x, y = flat[i, 0], flat[i, 1]
                if (x == ax and y == ay) or (x == bx and y == by) or (x == cx and y == cy):
                    # A twin of an ear corner (where a hole is bridged) blocks when the outline runs
                    # from it into the ear.
                    if _enters(flat, i, before[i], a, b, c) or _enters(flat, i, after[i], a, b, c):
                        return True
                    continue
                ab = (bx - ax) * (y - ay) - (by - ay) * (x - ax)
                bc = (cx - bx) * (y - by) - (cy - by) * (x - bx)
                ca = (ax - cx) * (y - cy) - (ay - cy) * (x - cx)
                if ab > edge and bc > edge and ca > edge:
                    return True
                if strictness == 2 and ab >= -edge and bc >= -edge and ca >= -edge:
                    return True
    return False


cdef inline bint _enters(
    const double[:, ::1] flat, int64_t twin, int64_t to, int64_t a, int64_t b, int64_t c
) noexcept nogil:
    # Whether the edge from `twin`, which lies on one corner of the triangle, runs into its inside.
    cdef int64_t here, one, two
    if flat[twin, 0] == flat[a, 0] and flat[twin, 1] == flat[a, 1]:
        here, one, two = a, b, c
    elif flat[twin, 0] == flat[b, 0] and flat[twin, 1] == flat[b, 1]:
        here, one, two = b, c, a
    else:
        here, one, two = c, a, b
    return _turn(flat, here, one, to) > 0.0 and _turn(flat, here, to, two) > 0.0


cdef inline void _flip_diagonals(
    const double[:, ::1] flat, int64_t size, double noise, int32_t first, int32_t[:, ::1] triangles, int64_t row
) noexcept nogil:
    # Turns diagonals within the two triangles they part while that makes the lesser of their smallest
    # angles larger. Each turn improves the pair, so it ends; the bound is for rounding.
    cdef bint flipped
    cdef double now, then
    cdef int64_t _, a, b, c, count, d, k, m, t, u
    count = size - 2
    for _ in range(4 * size):
        flipped = False
        for t in range(row, row + count):
            for k in range(3):
                a, b = triangles[t, k] - first, triangles[t, (k + 1) % 3] - first
                c = triangles[t, (k + 2) % 3] - first
                u, m = _beside(triangles, row, count, t, b + first, a + first)
                if u < 0:
                    continue
                d = triangles[u, (m + 2) % 3] - first
                # The quad a, d, b, c; the other diagonal is c-d.
                if _bend(flat, a, d, c, noise) <= 0 or _bend(flat, d, b, c, noise) <= 0:
                    continue
                now = min(_least_angle(flat, a, b, c), _least_angle(flat, b, a, d))
                then = min(_least_angle(flat, a, d, c), _least_angle(flat, d, b, c))
                if then > now + 1e-9:
                    triangles[t, 0], triangles[t, 1], triangles[t, 2] = first + a, first + d, first + c
                    triangles[u, 0], triangles[u, 1], triangles[u, 2] = first + d, first + b, first + c
                    flipped = True
                    break
        if not flipped:
            break


cdef inline (int64_t, int64_t) _beside(
    const int32_t[:, ::1] triangles, int64_t row, int64_t count, int64_t t, int64_t a, int64_t b
) noexcept nogil:
    # The triangle with the edge a-b and the place of a in it.
    cdef int64_t m, u
    for u in range(row, row + count):
        if u != t:
            for m in range(3):
                if triangles[u, m] == a and triangles[u, (m + 1) % 3] == b:
                    return u, m
    return -1, 0
