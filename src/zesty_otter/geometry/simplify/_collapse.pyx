"""Edge collapse by quadric error, one compiled pass over a priority queue.

M. Garland and P. Heckbert (1997), "Surface simplification using quadric error metrics"; what attributes cost
follows H. Hoppe (1999), "New quadric metric for simplifying meshes with appearance attributes".

What is met together lies together, because memory decides how long this takes:
``real`` (V, 16): the quadric of a point, its position, and how far it may go, by the names below;
``vert`` (V, 8): whole numbers of a point, by the names below;
``face`` (8 T,): of each triangle its points, the next corner at each of them (-1 at the end), and flags;
``entry`` (E, 4): of each candidate the points of an edge, the sum of their versions that its cost is of (`_GONE`
when it is no more), and the edge's feature bits with four times the number of refusals;
``owner`` (3 T,): the candidate of each edge of each triangle.

Corners are numbered 8 * triangle + k, and edge c runs from corner c to the next one of its triangle. Invariants:
the chain from ``vert[v, FIRST]`` meets all corners at a point, among them some of dead triangles; both sides of an
edge have the same feature bits.
"""

from libc.math cimport INFINITY, sqrt
from libc.stdint cimport uint8_t, int32_t, uint32_t, int64_t
from zesty_otter.geometry._primitives cimport nearest_in_triangle

cpdef enum:
    FEATURE = 1
    BORDER = 2

cpdef enum:
    XX = 0
    XY = 1
    XZ = 2
    YY = 3
    YZ = 4
    ZZ = 5
    XD = 6
    YD = 7
    ZD = 8
    DD = 9
    X = 10
    Y = 11
    Z = 12
    REACH = 13

cpdef enum:
    FIRST = 0
    VERSION = 1
    DEGREE = 2
    INTO = 3
    MARK = 4
    LOCKED = 5
    SINGLE = 6

cpdef enum:
    LIVES = 64
    _GONE = -2
    _ROUNDS = 10  # how often all that was refused is tried again, with ever worse triangles, while nothing goes
    _SHIFT = 12  # bits of a cost in single precision that are left out of the number of its bucket
    BUCKETS = 1 << 19  # 31 bits less those
    _MOST_WEDGES = 30

cdef double _UNREACHABLE = 1e30  # more than anything costs

# What `collapse` keeps between calls, as places in its ``state``.
cpdef enum:
    ALIVE = 0
    LOWEST = 1
    TAG = 2
    PARKED = 3
    SINCE = 4
    ROUNDS = 5
    STUCK = 6

# Where what two points become may be.
cdef enum:
    _NOWHERE = 0
    _FREE = 1
    _AT_U = 2
    _AT_V = 3
    _EITHER = 4


cdef inline int64_t _next(int64_t c) noexcept nogil:
    return c + 1 if c % 3 < 2 else c - 2


cdef inline int64_t _previous(int32_t c) noexcept nogil:
    return c - 1 if c % 3 > 0 else c + 2


cpdef void link_corners(const int32_t[::1] tri, int32_t[::1] first, int32_t[::1] following) noexcept:
    cdef int64_t c
    with nogil:
        for c in range(len(tri) - 1, -1, -1):
            following[c] = first[tri[c]]
            first[tri[c]] = c


cpdef void find_features(
    const int32_t[::1] tri, const int32_t[::1] first, const int32_t[::1] following, const int32_t[::1] wedge,
    const int32_t[::1] section, uint8_t[::1] feature, int32_t[::1] degree, uint8_t[::1] locked
) noexcept:
    """Marks borders, seams and edges between sections, and locks the ends of edges with more than two faces."""
    cdef int32_t a, b, here
    cdef int64_t at_a, at_b, c, n, other, others, p, t
    with nogil:
        for c in range(len(tri)):
            t, a, b = c // 3, tri[c], tri[_next(c)]
            others = 0
            other = -1
            at_a = at_b = 0
            here = first[a]
            while here >= 0:
                if here // 3 != t:
                    n, p = _next(here), _previous(here)
                    if tri[n] == b or tri[p] == b:
                        others += 1
                        other = here // 3
                        at_a, at_b = here, n if tri[n] == b else p
                here = following[here]
            if others == 0:
                feature[c] = FEATURE | BORDER
                degree[a] += 1
                degree[b] += 1
            elif others > 1:
                feature[c] = FEATURE
                locked[a] = locked[b] = True
            elif section[t] != section[other] or wedge[c] != wedge[at_a] or wedge[_next(c)] != wedge[at_b]:
                feature[c] = FEATURE
                if t < other:
                    degree[a] += 1
                    degree[b] += 1


cdef inline void _add_plane(
    double[:, ::1] q, int32_t v, double x, double y, double z, double d, double w
) noexcept nogil:
    q[v, XX] += w * x * x
    q[v, XY] += w * x * y
    q[v, XZ] += w * x * z
    q[v, YY] += w * y * y
    q[v, YZ] += w * y * z
    q[v, ZZ] += w * z * z
    q[v, XD] += w * x * d
    q[v, YD] += w * y * d
    q[v, ZD] += w * z * d
    q[v, DD] += w * d * d


cpdef double mean_area(const double[:, ::1] points, const int32_t[::1] tri) noexcept:
    cdef double nx, ny, nz, total, ux, uy, uz, vx, vy, vz
    cdef int32_t a, b, c
    cdef int64_t t
    with nogil:
        total = 0.0
        for t in range(len(tri) // 3):
            a, b, c = tri[3 * t], tri[3 * t + 1], tri[3 * t + 2]
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            total += sqrt(nx * nx + ny * ny + nz * nz) / 2
        return total / max(len(tri) // 3, 1)


cpdef void gather_quadrics(
    const double[:, ::1] points, const int32_t[::1] tri, const uint8_t[::1] feature, double usual_area,
    double border_weight, double seam_weight, double[:, ::1] q
) noexcept:
    """Adds the planes of faces, all of one weight, and planes upright on features, weighted by squared length.

    Weights by area would let what is small and fine go first, and that is where the largest deviation comes from.
    """
    cdef double d, d2, ex, ey, ez, length, mx, my, mz, nx, ny, nz, size, squared, ux, uy, uz, vx, vy, vz, w
    cdef int32_t a, b, c, i, j
    cdef int64_t e, k, t
    with nogil:
        for t in range(len(tri) // 3):
            a, b, c = tri[3 * t], tri[3 * t + 1], tri[3 * t + 2]
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            length = sqrt(nx * nx + ny * ny + nz * nz)
            if length == 0.0:
                continue
            nx, ny, nz = nx / length, ny / length, nz / length
            d = -(nx * points[a, 0] + ny * points[a, 1] + nz * points[a, 2])
            for k in range(3):
                _add_plane(q, tri[3 * t + k], nx, ny, nz, d, usual_area)
            for k in range(3):
                e = 3 * t + k
                if not feature[e]:
                    continue
                i, j = tri[e], tri[_next(e)]
                ex, ey, ez = points[j, 0] - points[i, 0], points[j, 1] - points[i, 1], points[j, 2] - points[i, 2]
                mx, my, mz = ny * ez - nz * ey, nz * ex - nx * ez, nx * ey - ny * ex
                squared = mx * mx + my * my + mz * mz
                if squared == 0.0:
                    continue
                size = sqrt(squared)
                mx, my, mz = mx / size, my / size, mz / size
                d2 = -(mx * points[i, 0] + my * points[i, 1] + mz * points[i, 2])
                w = squared * (border_weight if feature[e] & BORDER else seam_weight)
                _add_plane(q, i, mx, my, mz, d2, w)
                _add_plane(q, j, mx, my, mz, d2, w)


cpdef void gather_gradients(
    const double[:, ::1] points, const int32_t[::1] tri, const int32_t[::1] wedge, const double[:, ::1] values,
    float[:, ::1] slope
) noexcept:
    """Adds to each wedge the area, and the area times slope and offset of every attribute, of its faces.

    ``slope`` (W, 2 + 4 m): error so far, area, then three numbers of slope and one of offset an attribute.
    """
    cdef double area, d, gux, guy, guz, gvx, gvy, gvz, gx, gy, gz, longest, nx, ny, nz, s0, s1, s2, squared, ux
    cdef double uy, uz, vx, vy, vz
    cdef int32_t a, b, c, w
    cdef int64_t j, k, t
    with nogil:
        for t in range(len(tri) // 3):
            a, b, c = tri[3 * t], tri[3 * t + 1], tri[3 * t + 2]
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            squared = nx * nx + ny * ny + nz * nz
            longest = max(ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz)
            # Along a sliver a slope says nothing.
            if squared <= 1e-6 * longest * longest:
                continue
            gux, guy, guz = (vy * nz - vz * ny) / squared, (vz * nx - vx * nz) / squared, (vx * ny - vy * nx) / squared
            gvx, gvy, gvz = (ny * uz - nz * uy) / squared, (nz * ux - nx * uz) / squared, (nx * uy - ny * ux) / squared
            area = sqrt(squared) / 2
            for j in range(values.shape[1]):
                s0 = values[wedge[3 * t], j]
                s1, s2 = values[wedge[3 * t + 1], j] - s0, values[wedge[3 * t + 2], j] - s0
                gx, gy, gz = s1 * gux + s2 * gvx, s1 * guy + s2 * gvy, s1 * guz + s2 * gvz
                d = s0 - (gx * points[a, 0] + gy * points[a, 1] + gz * points[a, 2])
                for k in range(3):
                    w = wedge[3 * t + k]
                    slope[w, 2 + 4 * j] += area * gx
                    slope[w, 3 + 4 * j] += area * gy
                    slope[w, 4 + 4 * j] += area * gz
                    slope[w, 5 + 4 * j] += area * d
            for k in range(3):
                slope[wedge[3 * t + k], 1] += area


cdef inline int64_t _after(int64_t c) noexcept nogil:
    return c + 1 if c & 7 < 2 else c - 2


cdef inline int64_t _before(int64_t c) noexcept nogil:
    return c - 1 if c & 7 > 0 else c + 2


cdef inline int64_t _row(int64_t c) noexcept nogil:
    return (c >> 3) * 3 + (c & 7)


cdef inline int64_t _lives(const int32_t[::1] face, int32_t c) noexcept nogil:
    return face[c & ~7 | 6] & LIVES


cdef inline int64_t _bits(const int32_t[::1] face, int64_t e) noexcept nogil:
    return face[e & ~7 | 6] >> 2 * (e & 7) & 3


cdef inline void _mark(int32_t[::1] face, int64_t e, int64_t bits) noexcept nogil:
    face[e & ~7 | 6] |= bits << 2 * (e & 7)


cdef inline double _between(
    const float[:, ::1] slope, int64_t a, int64_t b, double x, double y, double z
) noexcept nogil:
    """How much two wedges disagree on the attributes at a position, weighted by their areas."""
    cdef double sa, sb, total
    cdef float wa, wb
    cdef int64_t j, k
    wa, wb = slope[a, 1], slope[b, 1]
    if a == b or wa <= 0.0 or wb <= 0.0:
        return 0.0
    total = 0.0
    for j in range((slope.shape[1] - 2) // 4):
        k = 2 + 4 * j
        sa = (slope[a, k] * x + slope[a, k + 1] * y + slope[a, k + 2] * z + slope[a, k + 3]) / wa
        sb = (slope[b, k] * x + slope[b, k + 1] * y + slope[b, k + 2] * z + slope[b, k + 3]) / wb
        total += (sa - sb) * (sa - sb)
    return total * wa * wb / (wa + wb)


cdef inline double _error(const double[:, ::1] real, int64_t u, int64_t v, double x, double y, double z) noexcept nogil:
    cdef double e, xx, xy, xz, yy, yz, zz
    xx, xy, xz = real[u, XX] + real[v, XX], real[u, XY] + real[v, XY], real[u, XZ] + real[v, XZ]
    yy, yz, zz = real[u, YY] + real[v, YY], real[u, YZ] + real[v, YZ], real[u, ZZ] + real[v, ZZ]
    e = x * (xx * x + 2 * (xy * y + xz * z)) + y * (yy * y + 2 * yz * z) + zz * z * z
    e += 2 * ((real[u, XD] + real[v, XD]) * x + (real[u, YD] + real[v, YD]) * y + (real[u, ZD] + real[v, ZD]) * z)
    return max(e + real[u, DD] + real[v, DD], 0.0)


cdef inline (double, double, double, double) _place(
    const double[:, ::1] real, int64_t u, int64_t v, int64_t mode
) noexcept nogil:
    """The position with the least error for what two points become, and the error.

    The quadric is pulled weakly to the middle of the edge, which settles directions it says nothing of; a second
    round takes the pull out of all others.
    """
    cdef double bx, by, bz, det, e, eu, ev, ixx, ixy, ixz, iyy, iyz, izz, long, mx, my, mz, pull, px, py, pz, rx
    cdef double ry, rz, slack, ux, uy, uz, vx, vy, vz, x, xx, xy, xz, y, yy, yz, z, zz
    cdef int64_t _
    ux, uy, uz = real[u, X], real[u, Y], real[u, Z]
    vx, vy, vz = real[v, X], real[v, Y], real[v, Z]
    if mode == _FREE:
        mx, my, mz = (ux + vx) / 2, (uy + vy) / 2, (uz + vz) / 2
        xx, xy, xz = real[u, XX] + real[v, XX], real[u, XY] + real[v, XY], real[u, XZ] + real[v, XZ]
        yy, yz, zz = real[u, YY] + real[v, YY], real[u, YZ] + real[v, YZ], real[u, ZZ] + real[v, ZZ]
        # Relative to the middle, so that what is solved for is small.
        bx = real[u, XD] + real[v, XD] + xx * mx + xy * my + xz * mz
        by = real[u, YD] + real[v, YD] + xy * mx + yy * my + yz * mz
        bz = real[u, ZD] + real[v, ZD] + xz * mx + yz * my + zz * mz
        pull = 1e-7 * (xx + yy + zz) + 1e-300
        px, py, pz = xx + pull, yy + pull, zz + pull
        ixx, ixy, ixz = py * pz - yz * yz, xz * yz - xy * pz, xy * yz - xz * py
        iyy, iyz, izz = px * pz - xz * xz, xy * xz - px * yz, px * py - xy * xy
        det = px * ixx + xy * ixy + xz * ixz
        if det > 0.0:
            x, y, z = 0.0, 0.0, 0.0
            for _ in range(2):
                rx = bx + xx * x + xy * y + xz * z
                ry = by + xy * x + yy * y + yz * z
                rz = bz + xz * x + yz * y + zz * z
                x -= (ixx * rx + ixy * ry + ixz * rz) / det
                y -= (ixy * rx + iyy * ry + iyz * rz) / det
                z -= (ixz * rx + iyz * ry + izz * rz) / det
            long = (ux - vx) * (ux - vx) + (uy - vy) * (uy - vy) + (uz - vz) * (uz - vz)
            if x * x + y * y + z * z <= 4 * long:
                x, y, z = x + mx, y + my, z + mz
                e = _error(real, u, v, x, y, z)
                # An end that is as good but for rounding keeps corners where they are.
                slack = e + 1e-20 * (xx + yy + zz)
                if _error(real, u, v, ux, uy, uz) <= slack:
                    return ux, uy, uz, e
                if _error(real, u, v, vx, vy, vz) <= slack:
                    return vx, vy, vz, e
                return x, y, z, e
        mode = _EITHER
    eu = _error(real, u, v, ux, uy, uz) if mode != _AT_V else INFINITY
    ev = _error(real, u, v, vx, vy, vz) if mode != _AT_U else INFINITY
    if eu <= ev:
        return ux, uy, uz, eu
    return vx, vy, vz, ev


cdef inline int64_t _mode(const int32_t[:, ::1] vert, int64_t u, int64_t v, int64_t bits, bint only_old) noexcept nogil:
    """Where what two points become may be."""
    cdef int32_t fixed_u, fixed_v
    fixed_u = vert[u, LOCKED] or (vert[u, DEGREE] != 0 and vert[u, DEGREE] != 2)
    fixed_v = vert[v, LOCKED] or (vert[v, DEGREE] != 0 and vert[v, DEGREE] != 2)
    if vert[u, LOCKED] and vert[v, LOCKED]:
        return _NOWHERE
    if bits == 0:
        # Off a feature only what is on none may go.
        fixed_u, fixed_v = vert[u, LOCKED] or vert[u, DEGREE] != 0, vert[v, LOCKED] or vert[v, DEGREE] != 0
        if fixed_u and fixed_v:
            return _NOWHERE
    if not fixed_u and not fixed_v:
        return _EITHER if only_old else _FREE
    if vert[u, LOCKED] or not fixed_v:
        return _AT_U
    if vert[v, LOCKED] or not fixed_u:
        return _AT_V
    return _EITHER


cdef inline (double, double, double, double) _evaluate(
    const double[:, ::1] real, const int32_t[:, ::1] vert, const int32_t[::1] face, const int32_t[::1] wedge,
    const float[:, ::1] slope, int64_t u, int64_t v, int64_t bits, bint only_old, double limit
) noexcept nogil:
    """What making one point of an edge costs (negative when it must not be) and where that point is."""
    cdef bint alone
    cdef double dx, dy, dz, e, long, weight, x, y, z
    cdef int32_t a, b, c
    cdef int64_t mode, other
    mode = _mode(vert, u, v, bits, only_old)
    if mode == _NOWHERE:
        return -1.0, 0.0, 0.0, 0.0
    x, y, z, e = _place(real, u, v, mode)
    # The trace of a quadric is the weight of its planes.
    weight = real[u, XX] + real[u, YY] + real[u, ZZ] + real[v, XX] + real[v, YY] + real[v, ZZ]
    if e > limit * limit * weight:
        return -1.0, x, y, z
    if slope.shape[1] > 2:
        c = vert[u, FIRST]
        alone = vert[u, SINGLE] >= 0 and vert[v, SINGLE] >= 0
        a, b = vert[u, SINGLE], vert[v, SINGLE]
        while alone or c >= 0:
            other = -1
            if not alone and _lives(face, c):
                other = _after(c) if face[_after(c)] == v else _before(c) if face[_before(c)] == v else -1
                a, b = wedge[_row(c)], wedge[_row(max(other, 0))]
            if alone or other >= 0:
                e += slope[a, 0] + slope[b, 0] + _between(slope, a, b, x, y, z)
            if alone:
                break
            c = face[c + 3]
    dx, dy, dz = real[u, X] - real[v, X], real[u, Y] - real[v, Y], real[u, Z] - real[v, Z]
    long = dx * dx + dy * dy + dz * dz
    # Where nothing costs anything, short edges go first.
    return e + 1e-10 * long * long, x, y, z


cdef inline int64_t _bucket(double cost, float[::1] as_float, const uint32_t[::1] as_bits) noexcept nogil:
    # Two views of the same four bytes: the bits of numbers that are not negative are in their order.
    as_float[0] = cost
    return <int64_t>(as_bits[0] >> <uint32_t>_SHIFT)


cdef inline double _least_in(int64_t bucket, const float[::1] as_float, uint32_t[::1] as_bits) noexcept nogil:
    """The least cost that belongs in a bucket."""
    as_bits[0] = <uint32_t>bucket << <uint32_t>_SHIFT
    return <double>as_float[0]


cdef inline void _push(
    int32_t[::1] head, int32_t[::1] after, int64_t[::1] state, int64_t bucket, int64_t number
) noexcept nogil:
    after[number] = head[bucket]
    head[bucket] = number
    state[LOWEST] = min(state[LOWEST], bucket)


cdef inline bint _keeps_shape(
    const double[:, ::1] real, int64_t p, int32_t b, int32_t c, double x, double y, double z, double strict
) noexcept nogil:
    """Whether a triangle neither turns over nor becomes a sliver when one of its points moves."""
    cdef double base, new, new_size, nx, ny, nz, old, old_size, ox, oy, oz, shape_new, shape_old, ux, uy, uz, vx
    cdef double vy, vz, wx, wy, wz
    ux, uy, uz = real[b, X] - real[p, X], real[b, Y] - real[p, Y], real[b, Z] - real[p, Z]
    vx, vy, vz = real[c, X] - real[p, X], real[c, Y] - real[p, Y], real[c, Z] - real[p, Z]
    ox, oy, oz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    old_size = ux * ux + uy * uy + uz * uz + vx * vx + vy * vy + vz * vz
    ux, uy, uz = real[b, X] - x, real[b, Y] - y, real[b, Z] - z
    vx, vy, vz = real[c, X] - x, real[c, Y] - y, real[c, Z] - z
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    new_size = ux * ux + uy * uy + uz * uz + vx * vx + vy * vy + vz * vz
    wx, wy, wz = real[b, X] - real[c, X], real[b, Y] - real[c, Y], real[b, Z] - real[c, Z]
    base = wx * wx + wy * wy + wz * wz
    old, new = ox * ox + oy * oy + oz * oz, nx * nx + ny * ny + nz * nz
    if old <= 1e-24 * old_size * old_size:
        return True  # it had no side to turn over
    if ox * nx + oy * ny + oz * nz < 0.2 * sqrt(old * new):
        return False
    # Twice the area over the sum of squared sides: 0.29 for an equal-sided triangle. Long thin ones lie
    # inside what is round, and no quadric sees it.
    shape_old, shape_new = sqrt(old) / (old_size + base), sqrt(new) / (new_size + base)
    return shape_new >= strict * min(0.06, 0.3 * shape_old)


cdef inline int64_t _listed(const int64_t[::1] found, int64_t count, int64_t w) noexcept nogil:
    cdef int64_t n
    for n in range(count):
        if found[n] == w:
            return n
    return -1


cdef inline bint _allowed(
    const double[:, ::1] real, const int32_t[:, ::1] vert, const int32_t[::1] face, const int32_t[::1] wedge,
    int64_t[::1] ring, int64_t[::1] shared, int64_t[:, ::1] pairs, int64_t u, int64_t v, double x, double y,
    double z, double most, double strict
) noexcept nogil:
    """Whether two points may become one: the surface keeps its topology, its faces their sides.

    Both have just the neighbours in common that face the edge between them (T. Dey et al., 1999, "Topology
    preserving edge contraction"). Fills ``pairs`` with the wedges that become one.
    """
    cdef bint shared_b, shared_d
    cdef int32_t b, c, d
    cdef int64_t around, common, i, j, k, on_edge, other, valence
    on_edge = valence = around = 0
    c = vert[u, FIRST]
    while c >= 0:
        if _lives(face, c):
            b, d = face[_after(c)], face[_before(c)]
            valence += 1
            if valence >= len(ring) // 2:
                return False
            if b == v or d == v:
                other = _after(c) if b == v else _before(c)
                if on_edge >= 2:
                    return False
                pairs[on_edge, 0] = wedge[_row(c)] if len(wedge) else 0
                pairs[on_edge, 1] = wedge[_row(other)] if len(wedge) else 0
                on_edge += 1
            elif not _keeps_shape(real, u, b, d, x, y, z, strict):
                return False
            ring[2 * around], ring[2 * around + 1] = b, d
            around += 1
        c = face[c + 3]
    if on_edge == 0 or (on_edge == 2 and (pairs[0, 0] == pairs[1, 0]) != (pairs[0, 1] == pairs[1, 1])):
        return False  # a seam would end where it did not
    common = 0
    c = vert[v, FIRST]
    while c >= 0:
        if _lives(face, c):
            b, d = face[_after(c)], face[_before(c)]
            valence += 1
            if b != u and d != u and not _keeps_shape(real, v, b, d, x, y, z, strict):
                return False
            shared_b = shared_d = False
            for k in range(2 * around):
                shared_b = shared_b or ring[k] == b
                shared_d = shared_d or ring[k] == d
            if b != u and d != u and shared_b and shared_d:
                # Two faces on the same three points must not come about.
                for k in range(around):
                    i, j = ring[2 * k], ring[2 * k + 1]
                    if (i == b and j == d) or (i == d and j == b):
                        return False
            if shared_b and b != u and _listed(shared, common, b) < 0:
                shared[common] = b
                common += 1
            if shared_d and d != u and _listed(shared, common, d) < 0:
                shared[common] = d
                common += 1
            if common > on_edge:
                return False
        c = face[c + 3]
    return common == on_edge and valence <= most


cdef inline (double, double, double, double) _closest(
    const double[:, ::1] real, int32_t a, int32_t b, int32_t c, double x, double y, double z
) noexcept nogil:
    """Squared distance of a position to a triangle, and the shares of its points in the nearest place of it."""
    cdef double distance, s, t
    distance, s, t = nearest_in_triangle(
        real[a, X], real[a, Y], real[a, Z], real[b, X], real[b, Y], real[b, Z],
        real[c, X], real[c, Y], real[c, Z], x, y, z,
    )
    return distance, 1.0 - s - t, s, t


cdef inline int64_t _kept(const int64_t[:, ::1] pairs, int64_t on_edge, int64_t w) noexcept nogil:
    """The wedge that one goes on as."""
    cdef int64_t n
    for n in range(on_edge):
        w = pairs[n, 0] if w == pairs[n, 1] else w
    return w


cdef inline bint _carry(
    const double[:, ::1] real, int32_t[:, ::1] vert, const int32_t[::1] face, const int32_t[::1] wedge,
    double[:, ::1] values, int32_t[:, ::1] family, const int32_t[::1] column_layer, float[:, ::1] slope,
    const int64_t[:, ::1] pairs, int64_t u, int64_t v, double x, double y, double z, int64_t[::1] found,
    double[:, ::1] fresh
) noexcept nogil:
    """Gives the wedges of what two points become the attributes of the surface nearest to its position.

    Each takes them from its own faces only, so that what is on one side of a seam stays there. Returns whether
    there was room; nothing has changed when there was not.
    """
    cdef double near, sa, sb, sc, total
    cdef int32_t c, new, old
    cdef int64_t a, at, b, count, end, j, k, layer, m, many, n, n1, n2, o, on_edge, w
    m = values.shape[1]
    if m == 0:
        return True
    on_edge = 2 if pairs[1, 0] >= 0 else 1
    count = 0
    for end in range(2):
        c = vert[u, FIRST] if end == 0 else vert[v, FIRST]
        while c >= 0:
            if _lives(face, c):
                w = _kept(pairs, on_edge, wedge[_row(c)])
                if _listed(found, count, w) < 0:
                    if count == _MOST_WEDGES:
                        return False
                    found[count] = w
                    fresh[count, 0] = INFINITY
                    count += 1
            c = face[c + 3]
    for end in range(2):
        c = vert[u, FIRST] if end == 0 else vert[v, FIRST]
        while c >= 0:
            if _lives(face, c):
                w = _kept(pairs, on_edge, wedge[_row(c)])
                at = _listed(found, count, w)
                n1, n2 = _after(c), _before(c)
                near, sa, sb, sc = _closest(real, face[c], face[n1], face[n2], x, y, z)
                if near < fresh[at, 0]:
                    fresh[at, 0] = near
                    for j in range(m):
                        fresh[at, 1 + j] = sa * values[wedge[_row(c)], j] + sb * values[wedge[_row(n1)], j]
                        fresh[at, 1 + j] += sc * values[wedge[_row(n2)], j]
            c = face[c + 3]
    for n in range(on_edge):
        a, b = pairs[n, 0], pairs[n, 1]
        if n == 1 and a == pairs[0, 0]:
            continue
        slope[a, 0] += slope[b, 0] + _between(slope, a, b, x, y, z)
        for k in range(1, slope.shape[1]):
            slope[a, k] += slope[b, k]
        for layer in range(family.shape[1]):
            old, new = family[b, layer], family[a, layer]
            for k in range(count):
                if family[found[k], layer] == old:
                    family[found[k], layer] = new
    for k in range(count):
        for j in range(m):
            # What was one value in a layer stays one.
            layer = column_layer[j]
            total, many = 0.0, 0
            for o in range(count):
                if family[found[o], layer] == family[found[k], layer]:
                    total += fresh[o, 1 + j]
                    many += 1
            values[found[k], j] = total / many
    vert[u, SINGLE] = found[0] if count == 1 else -1
    return True


cdef inline int64_t _count_features(
    int32_t[:, ::1] vert, const int32_t[::1] face, int64_t[::1] state, int64_t v
) noexcept nogil:
    cdef int32_t c
    cdef int64_t count, n, p
    state[TAG] += 2
    count = 0
    c = vert[v, FIRST]
    while c >= 0:
        if _lives(face, c):
            n, p = _after(c), _before(c)
            if _bits(face, c) and vert[face[n], MARK] != state[TAG]:
                vert[face[n], MARK] = state[TAG]
                count += 1
            if _bits(face, p) and vert[face[p], MARK] != state[TAG]:
                vert[face[p], MARK] = state[TAG]
                count += 1
        c = face[c + 3]
    return count


cdef inline void _merge(
    double[:, ::1] real, int32_t[:, ::1] vert, int32_t[::1] face, int32_t[::1] wedge, int32_t[:, ::1] entry,
    int32_t[::1] owner, int64_t[::1] state, const int64_t[:, ::1] pairs, int64_t u, int64_t v, double x, double y,
    double z
) noexcept nogil:
    """Makes one point of two, where it is to be; the faces between them die."""
    cdef bint there0, there1, touched
    cdef int32_t after, first, second
    cdef int64_t across, bits0, bits1, c, e, end, head, k, keep0, keep1, mine, n, on_edge, p, side, tail, there
    cdef int64_t w, wing0, wing1, wings
    on_edge = 2 if pairs[1, 0] >= 0 else 1
    wings = 0
    wing0 = wing1 = -1
    bits0 = bits1 = 0
    touched = vert[u, DEGREE] + vert[v, DEGREE] > 0
    keep0 = keep1 = -1
    head = tail = -1
    for end in range(2):
        c = vert[u, FIRST] if end == 0 else vert[v, FIRST]
        there = v if end == 0 else u
        while c >= 0:
            after = face[c + 3]
            n, p = _after(c), _before(c)
            if _lives(face, c) and (face[n] == there or face[p] == there):
                # A face between the two: what bounded it goes on to the faces beyond it.
                w = face[p] if face[n] == there else face[n]
                mine = <int64_t>(_bits(face, p) if face[n] == there else _bits(face, c))
                across = <int64_t>(_bits(face, n) if face[n] == there else _bits(face, _before(p)))
                if end == 0:
                    first = owner[_row(p if face[n] == there else c)]
                    second = owner[_row(n if face[n] == there else _before(p))]
                    # Edges of more than two faces may have no candidate.
                    if first >= 0 and entry[first, 2] != _GONE and first != second:
                        if second >= 0:
                            entry[second, 2] = _GONE
                    else:
                        first = second
                    if wings == 0:
                        wing0, bits0, keep0 = w, mine | across, first
                    else:
                        wing1, bits1, keep1 = w, mine | across, first
                    wings += 1
                else:
                    face[c & ~7 | 6] &= ~LIVES
                    state[ALIVE] -= 1
            elif _lives(face, c):
                if end == 1:
                    face[c] = u
                    for k in range(on_edge if len(wedge) else 0):
                        if wedge[_row(c)] == pairs[k, 1]:
                            wedge[_row(c)] = pairs[k, 0]
                            break
                if head < 0:
                    head = c
                else:
                    face[tail + 3] = c
                tail = c
            c = after
        if end == 0 and tail >= 0:
            face[tail + 3] = -1
    if tail >= 0:
        face[tail + 3] = -1
    vert[u, FIRST], vert[v, FIRST] = head, -1
    real[u, X], real[u, Y], real[u, Z] = x, y, z
    for k in range(10):
        real[u, k] += real[v, k]
    there0 = there1 = False
    c = head
    while c >= 0:
        n, p = _after(c), _before(c)
        for side in range(2):
            e = c if side == 0 else p
            w = face[n] if side == 0 else face[p]
            if w == wing0:
                there0 = True
                owner[_row(e)] = keep0
                _mark(face, e, bits0)
            elif w == wing1:
                there1 = True
                owner[_row(e)] = keep1
                _mark(face, e, bits1)
        c = face[c + 3]
    if wing0 >= 0 and keep0 >= 0:
        entry[keep0, 2] = -1 if there0 else _GONE
        entry[keep0, 3] |= bits0
    if wing1 >= 0 and keep1 >= 0:
        entry[keep1, 2] = -1 if there1 else _GONE
        entry[keep1, 3] |= bits1
    if touched or bits0 | bits1:
        vert[u, DEGREE] = _count_features(vert, face, state, u)
        if wing0 >= 0:
            vert[wing0, DEGREE] = _count_features(vert, face, state, wing0)
        if wing1 >= 0:
            vert[wing1, DEGREE] = _count_features(vert, face, state, wing1)
    vert[v, DEGREE] = 0


cdef inline int64_t _opposite(const int32_t[:, ::1] vert, const int32_t[::1] face, int64_t c) noexcept nogil:
    """The edge that runs the other way, -1 when there is none."""
    cdef int32_t o
    cdef int64_t found
    found = -1
    o = vert[face[_after(c)], FIRST]
    while o >= 0:
        if face[_after(o)] == face[c]:
            found = o
        o = face[o + 3]
    return found


cpdef int64_t count_edges(const int32_t[:, ::1] vert, const int32_t[::1] face) noexcept:
    cdef int64_t c, count, n
    with nogil:
        count = 0
        for n in range(len(face) // 8 * 3):
            c = n // 3 * 8 + n % 3
            count += face[c] < face[_after(c)] or _opposite(vert, face, c) < 0
        return count


cpdef void seed(
    const double[:, ::1] real, const int32_t[:, ::1] vert, const int32_t[::1] face, const int32_t[::1] wedge,
    const float[:, ::1] slope, int64_t[::1] state, int32_t[::1] head, int32_t[::1] after, int32_t[:, ::1] entry,
    int32_t[::1] owner, float[::1] as_float, const uint32_t[::1] as_bits, bint only_old, double limit
) noexcept:
    """Makes every edge a candidate."""
    cdef double _, cost
    cdef int64_t bits, c, count, n, opposite, u, v
    with nogil:
        count = 0
        for n in range(len(face) // 8 * 3):
            c = n // 3 * 8 + n % 3
            u, v = <int64_t>face[c], <int64_t>(face[_after(c)])
            opposite = _opposite(vert, face, c)
            # Each edge once: from its lower end, or from the only face that runs this way.
            if opposite >= 0 and u > v:
                continue
            bits = <int64_t>(_bits(face, c))
            cost, _, _, _ = _evaluate(real, vert, face, wedge, slope, u, v, bits, only_old, limit)
            entry[count, 0], entry[count, 1], entry[count, 3] = u, v, bits
            entry[count, 2] = vert[u, VERSION] + vert[v, VERSION] if cost >= 0.0 else -1
            owner[_row(c)] = count
            if opposite >= 0:
                owner[_row(opposite)] = count
            count += 1
            if cost >= 0.0:
                _push(head, after, state, _bucket(cost, as_float, as_bits), count - 1)


cdef inline int64_t _find(int32_t[:, ::1] vert, int64_t v) noexcept nogil:
    """The point that one has become."""
    while vert[v, INTO] != v:
        vert[v, INTO] = vert[vert[v, INTO], INTO]
        v = vert[v, INTO]
    return v


cpdef void find_all(int32_t[:, ::1] vert, int32_t[::1] into) noexcept:
    cdef int64_t v
    with nogil:
        for v in range(len(vert)):
            into[v] = _find(vert, v)


cdef inline void _revive(int32_t[::1] head, int32_t[::1] after, int64_t[::1] state, int64_t bucket) noexcept nogil:
    """Puts what was refused back into the queue, in front of all that is in it."""
    cdef int32_t following
    cdef int64_t number
    number = state[PARKED]
    while number >= 0:
        following = after[number]
        _push(head, after, state, bucket, number)
        number = following
    state[PARKED] = -1
    state[SINCE] = 0


cdef inline bint _stays_near(
    double[:, ::1] real, const int32_t[:, ::1] vert, const int32_t[::1] face, int64_t u, int64_t v, double x,
    double y, double z, double reach
) noexcept nogil:
    """Whether both places are near to the faces that will be around the one they become.

    A quadric weighs all planes a point ever lay on; one that matters may be lost among many.
    """
    cdef double _, best, d, mx, my, mz, ox, oy, oz, ux, uy, uz, vx, vy, vz
    cdef int32_t c, n, o, p
    cdef int64_t e, end, side, there
    for end in range(2):
        e = u if end == 0 else v
        ox, oy, oz = real[e, X], real[e, Y], real[e, Z]
        best = (ox - x) * (ox - x) + (oy - y) * (oy - y) + (oz - z) * (oz - z)
        ux, uy, uz = real[u, X], real[u, Y], real[u, Z]
        vx, vy, vz = real[v, X], real[v, Y], real[v, Z]
        real[u, X] = real[v, X] = x
        real[u, Y] = real[v, Y] = y
        real[u, Z] = real[v, Z] = z
        for side in range(2):
            c = vert[u, FIRST] if side == 0 else vert[v, FIRST]
            there = v if side == 0 else u
            while c >= 0 and best > reach * reach:
                n, p = face[_after(c)], face[_before(c)]
                if _lives(face, c) and n != there and p != there:
                    d, _, _, _ = _closest(real, face[c], n, p, ox, oy, oz)
                    best = min(best, d)
                c = face[c + 3]
        real[u, X], real[u, Y], real[u, Z] = ux, uy, uz
        real[v, X], real[v, Y], real[v, Z] = vx, vy, vz
        if best > reach * reach:
            return False
    # The other way round: the middle of every face that is to be, from those that are.
    for end in range(2):
        c = vert[u, FIRST] if end == 0 else vert[v, FIRST]
        there = v if end == 0 else u
        while c >= 0:
            n, p = face[_after(c)], face[_before(c)]
            if _lives(face, c) and n != there and p != there:
                mx, my, mz = (
                    (x + real[n, X] + real[p, X]) / 3,
                    (y + real[n, Y] + real[p, Y]) / 3,
                    (z + real[n, Z] + real[p, Z]) / 3,
                )
                best, _, _, _ = _closest(real, face[c], n, p, mx, my, mz)
                for side in range(2):
                    o = vert[u, FIRST] if side == 0 else vert[v, FIRST]
                    while o >= 0 and best > reach * reach:
                        if _lives(face, o):
                            d, _, _, _ = _closest(real, face[o], face[_after(o)], face[_before(o)], mx, my, mz)
                            best = min(best, d)
                        o = face[o + 3]
                if best > reach * reach:
                    return False
            c = face[c + 3]
    return True


cdef inline bint _joined(
    double[:, ::1] real, int32_t[:, ::1] vert, int32_t[::1] face, int32_t[::1] wedge, float[:, ::1] slope,
    double[:, ::1] values, int32_t[:, ::1] family, const int32_t[::1] column_layer, int32_t[:, ::1] entry,
    int32_t[::1] owner, int64_t[::1] state, int64_t[:, ::1] pairs, int64_t[::1] found, double[:, ::1] fresh,
    int64_t[::1] ring, double limit, double most, double strict, int64_t u, int64_t v, double x, double y, double z
) noexcept nogil:
    """Makes one point of two if that may be, and says whether it was."""
    cdef double reach
    if vert[v, LOCKED] or (not vert[u, LOCKED] and x == real[v, X] and y == real[v, Y] and z == real[v, Z]):
        u, v = v, u
    pairs[0, 0] = pairs[1, 0] = -1
    if not _allowed(real, vert, face, wedge, ring, found, pairs, u, v, x, y, z, most, strict):
        return False
    reach = min(2 * limit, real[u, REACH], real[v, REACH])
    if reach < INFINITY and not _stays_near(real, vert, face, u, v, x, y, z, reach):
        return False
    if not _carry(real, vert, face, wedge, values, family, column_layer, slope, pairs, u, v, x, y, z, found, fresh):
        return False
    _merge(real, vert, face, wedge, entry, owner, state, pairs, u, v, x, y, z)
    real[u, REACH] = min(real[u, REACH], real[v, REACH])
    # Larger than that of any edge of either, so that no cost found before passes for one found since.
    vert[u, VERSION] += vert[v, VERSION] + 1
    vert[v, INTO] = u
    return True


cpdef void collapse(
    double[:, ::1] real, int32_t[:, ::1] vert, int32_t[::1] face, int32_t[::1] wedge, float[:, ::1] slope,
    double[:, ::1] values, int32_t[:, ::1] family, const int32_t[::1] column_layer, int64_t[::1] state,
    double[::1] due, int32_t[::1] head, int32_t[::1] after, int32_t[:, ::1] entry, int32_t[::1] owner,
    float[::1] as_float, uint32_t[::1] as_bits, int64_t[:, ::1] pairs, int64_t[::1] found, double[:, ::1] fresh,
    int64_t[::1] ring, bint only_old, double limit, int64_t most, int64_t target, int64_t tries
) noexcept:
    """Collapses the cheapest edges until few enough faces are left, none can go, or so many tries were made.

    An edge's cost is found anew when it comes to the top of the queue and its ends have changed: costs only grow,
    so what the queue has of it is a lower bound. One that may not go is parked, and tried again before anything
    much dearer goes: always when an edge has gone since, else a few times with ever worse triangles.
    """
    cdef double cost, least, share, x, y, z
    cdef int64_t bucket, dearer, number, stamp, u, v
    with nogil:
        while state[ALIVE] > target and tries > 0:
            tries -= 1
            while state[LOWEST] < len(head) and head[state[LOWEST]] < 0:
                state[LOWEST] += 1
            bucket = state[LOWEST]
            least = _least_in(bucket, as_float, as_bits) if bucket < len(head) else _UNREACHABLE
            if least > due[0] and state[PARKED] >= 0:
                if state[SINCE] > 0 or state[ROUNDS] < _ROUNDS:
                    state[ROUNDS] += 1
                    _revive(head, after, state, min(bucket, len(head) - 1))
                    continue
                due[0] = 2 * least
            if bucket == len(head):
                state[STUCK] = 1
                return
            number = <int64_t>head[bucket]
            head[bucket] = after[number]
            u = v = 0
            if entry[number, 2] != _GONE:
                u, v = _find(vert, <int64_t>entry[number, 0]), _find(vert, <int64_t>entry[number, 1])
            if u == v:
                entry[number, 2] = _GONE
                continue
            cost, x, y, z = _evaluate(
                real, vert, face, wedge, slope, u, v, entry[number, 3] & 3, only_old, limit
            )
            stamp = vert[u, VERSION] + vert[v, VERSION]
            if stamp != entry[number, 2]:
                entry[number, 0], entry[number, 1], entry[number, 2] = u, v, stamp
                entry[number, 3] &= 3
                dearer = _bucket(cost, as_float, as_bits) if cost >= 0.0 else -1
                if dearer > bucket:
                    _push(head, after, state, dearer, number)
                    continue
            if cost < 0.0:
                continue
            share = max(0.5 ** (entry[number, 3] >> 2), 1e-3)
            if _joined(real, vert, face, wedge, slope, values, family, column_layer, entry, owner, state, pairs,
                       found, fresh, ring, limit, most / share, share, u, v, x, y, z):
                entry[number, 2] = _GONE
                state[SINCE] += 1
                state[ROUNDS] = 0
                due[0] = max(due[0], 2 * cost)
            else:
                entry[number, 3] += 4
                after[number] = state[PARKED]
                state[PARKED] = number
