"""Small things that several kernels share, compiled into each of them."""

from libc.math cimport atan2, sqrt
from libc.stdint cimport int32_t, int64_t


cdef inline int64_t root_of(int32_t[::1] parent, int64_t n) noexcept nogil:
    # Union-find with path halving; roots are the lowest of their set.
    while parent[n] != n:
        parent[n] = parent[parent[n]]
        n = parent[n]
    return n


cdef inline void unite(int32_t[::1] parent, int64_t a, int64_t b) noexcept nogil:
    a, b = root_of(parent, a), root_of(parent, b)
    if a < b:
        parent[b] = <int32_t>a
    elif b < a:
        parent[a] = <int32_t>b


cdef inline double corner_angle(
    const double[:, ::1] points, int64_t before, int64_t at, int64_t after
) noexcept nogil:
    cdef double ax, ay, az, bx, by, bz, cx, cy, cz
    ax, ay, az = (
        points[before, 0] - points[at, 0],
        points[before, 1] - points[at, 1],
        points[before, 2] - points[at, 2],
    )
    bx, by, bz = (
        points[after, 0] - points[at, 0],
        points[after, 1] - points[at, 1],
        points[after, 2] - points[at, 2],
    )
    cx, cy, cz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    return atan2(sqrt(cx * cx + cy * cy + cz * cz), ax * bx + ay * by + az * bz)


cdef inline (double, double, double) nearest_in_triangle(
    double ax, double ay, double az, double bx, double by, double bz, double cx, double cy, double cz, double x,
    double y, double z
) noexcept nogil:
    """Squared distance of a position to a triangle, and the shares of b and c in the nearest place of it.

    C. Ericson (2005), "Real-time collision detection", section 5.1.5.
    """
    cdef double abx, aby, abz, acx, acy, acz, d1, d2, d3, d4, d5, d6, ex, ey, ez, from_a_x, from_a_y, from_a_z
    cdef double from_b_x, from_b_y, from_b_z, from_c_x, from_c_y, from_c_z, s, t, va, vb, vc
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    from_a_x, from_a_y, from_a_z = x - ax, y - ay, z - az
    d1, d2 = abx * from_a_x + aby * from_a_y + abz * from_a_z, acx * from_a_x + acy * from_a_y + acz * from_a_z
    from_b_x, from_b_y, from_b_z = from_a_x - abx, from_a_y - aby, from_a_z - abz
    d3, d4 = abx * from_b_x + aby * from_b_y + abz * from_b_z, acx * from_b_x + acy * from_b_y + acz * from_b_z
    from_c_x, from_c_y, from_c_z = from_a_x - acx, from_a_y - acy, from_a_z - acz
    d5, d6 = abx * from_c_x + aby * from_c_y + abz * from_c_z, acx * from_c_x + acy * from_c_y + acz * from_c_z
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if d1 <= 0 and d2 <= 0:
        s, t = 0.0, 0.0
    elif d3 >= 0 and d4 <= d3:
        s, t = 1.0, 0.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0 and d1 > d3:
        s, t = d1 / (d1 - d3), 0.0
    elif d6 >= 0 and d5 <= d6:
        s, t = 0.0, 1.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0 and d2 > d6:
        s, t = 0.0, d2 / (d2 - d6)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        t = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        s = 1.0 - t
    else:
        s, t = vb / (va + vb + vc), vc / (va + vb + vc)
    ex, ey, ez = from_a_x - s * abx - t * acx, from_a_y - s * aby - t * acy, from_a_z - s * abz - t * acz
    return ex * ex + ey * ey + ez * ez, s, t
