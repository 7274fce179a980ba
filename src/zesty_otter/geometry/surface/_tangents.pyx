"""Compiled loops of `tangents`."""

from libc.math cimport acos, sqrt
from libc.stdint cimport int8_t, int32_t, int64_t
from zesty_otter.geometry._primitives cimport root_of, unite


cpdef void triangle_tangents(
    const double[:, ::1] points, const int32_t[::1] corner_point, const int32_t[:, ::1] triangles,
    const float[:, ::1] uv, double[:, ::1] tangent, int8_t[::1] side
) noexcept:
    # The direction of growing U in each triangle, and whether its UVs wind as it does (1), against it
    # (-1) or have no area (0).
    cdef double area, length, u1, u2, v1, v2
    cdef int32_t a, b, c, p, q, r
    cdef int64_t k, t
    with nogil:
        for t in range(len(triangles)):
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            u1, v1 = <double>uv[b, 0] - uv[a, 0], <double>uv[b, 1] - uv[a, 1]
            u2, v2 = <double>uv[c, 0] - uv[a, 0], <double>uv[c, 1] - uv[a, 1]
            area = u1 * v2 - u2 * v1
            p, q, r = corner_point[a], corner_point[b], corner_point[c]
            length = 0.0
            for k in range(3):
                tangent[t, k] = v2 * (points[q, k] - points[p, k]) - v1 * (points[r, k] - points[p, k])
                length += tangent[t, k] ** 2
            side[t] = 1 if area > 0.0 else (-1 if area < 0.0 else 0)
            length = sqrt(length)
            for k in range(3):
                tangent[t, k] = side[t] * tangent[t, k] / length if length > 0.0 else 0.0


cpdef void unite_tangent_corners(
    const int32_t[:, ::1] triangles, const int32_t[::1] vertex, const int32_t[::1] edge_first,
    const int32_t[::1] edge_later, const int8_t[::1] side, int32_t[::1] parent
) noexcept:
    # Joins corners of triangles that share an edge by vertex number at both ends and have the same side.
    cdef int32_t c, d
    cdef int64_t c_next, d_next, e
    with nogil:
        for e in range(len(edge_first)):
            c = edge_first[e]
            d = edge_later[c]
            while d >= 0:
                if side[c // 3] == side[d // 3] and side[c // 3] != 0:
                    c_next, d_next = c - c % 3 + (c + 1) % 3, d - d % 3 + (d + 1) % 3
                    if vertex[c] == vertex[d_next] and vertex[c_next] == vertex[d]:
                        unite(parent, c, d_next)
                        unite(parent, c_next, d)
                d = edge_later[d]


cpdef int64_t number_roots(int32_t[::1] parent, int32_t[::1] number) noexcept:
    # One row for all corners that hang together, in order of their first.
    cdef int64_t c, count, root
    with nogil:
        count = 0
        for c in range(len(parent)):
            root = root_of(parent, c)
            if number[root] < 0:
                number[root] = count
                count += 1
            number[c] = number[root]
        return count


cpdef void sum_tangents(
    const double[:, ::1] points, const int32_t[::1] corner_point, const int32_t[:, ::1] triangles,
    const float[:, ::1] normal, const double[:, ::1] tangent, const int8_t[::1] side, const int32_t[::1] row,
    double[:, ::1] total
) noexcept:
    # Adds every triangle's tangent, laid into the plane of the corner's normal and weighted by the angle
    # of the corner in that plane, to its row.
    cdef double angle, ax, ay, az, bx, by, bz, nx, ny, nz, tx, ty, tz
    cdef int32_t corner, n, p, q, r
    cdef int64_t k, t
    with nogil:
        for t in range(len(triangles)):
            if side[t] == 0:
                continue
            for k in range(3):
                corner = triangles[t, k]
                nx, ny, nz = <double>normal[corner, 0], <double>normal[corner, 1], <double>normal[corner, 2]
                p = corner_point[corner]
                q, r = corner_point[triangles[t, (k + 1) % 3]], corner_point[triangles[t, (k + 2) % 3]]
                tx, ty, tz = _laid(tangent[t, 0], tangent[t, 1], tangent[t, 2], nx, ny, nz)
                ax, ay, az = _laid(
                    points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2], nx, ny, nz
                )
                bx, by, bz = _laid(
                    points[r, 0] - points[p, 0], points[r, 1] - points[p, 1], points[r, 2] - points[p, 2], nx, ny, nz
                )
                angle = acos(min(1.0, max(-1.0, ax * bx + ay * by + az * bz)))
                n = row[3 * t + k]
                total[n, 0] += angle * tx
                total[n, 1] += angle * ty
                total[n, 2] += angle * tz


cdef inline (double, double, double) _laid(
    double x, double y, double z, double nx, double ny, double nz
) noexcept nogil:
    # A direction laid into the plane of a normal, of length one.
    cdef double along, length
    along = x * nx + y * ny + z * nz
    x, y, z = x - along * nx, y - along * ny, z - along * nz
    length = sqrt(x * x + y * y + z * z)
    if length > 0.0:
        return x / length, y / length, z / length
    return 0.0, 0.0, 0.0


cpdef void finish_tangents(
    const int32_t[:, ::1] triangles, const float[:, ::1] normal, const int32_t[::1] row, const double[:, ::1] total,
    const int8_t[::1] side, float[:, ::1] values, int32_t[::1] index
) noexcept:
    cdef double nx, ny, nz, x, y, z
    cdef int32_t corner, n
    cdef int64_t k, t
    with nogil:
        for t in range(len(triangles)):
            for k in range(3):
                corner = triangles[t, k]
                n = row[3 * t + k]
                index[corner] = n
                nx, ny, nz = <double>normal[corner, 0], <double>normal[corner, 1], <double>normal[corner, 2]
                x, y, z = _laid(total[n, 0], total[n, 1], total[n, 2], nx, ny, nz)
                if x == 0.0 and y == 0.0 and z == 0.0:
                    # Nothing to go by: any direction in the plane, the same every time.
                    if abs(nx) <= abs(ny) and abs(nx) <= abs(nz):
                        x, y, z = _laid(1.0, 0.0, 0.0, nx, ny, nz)
                    elif abs(ny) <= abs(nz):
                        x, y, z = _laid(0.0, 1.0, 0.0, nx, ny, nz)
                    else:
                        x, y, z = _laid(0.0, 0.0, 1.0, nx, ny, nz)
                values[n, 0], values[n, 1], values[n, 2] = x, y, z
                values[n, 3] = -1.0 if side[t] < 0 else 1.0
