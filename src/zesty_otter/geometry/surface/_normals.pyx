"""Compiled loops of `normals` and `tangents`."""

from libc.math cimport M_PI, acos, sqrt
from libc.stdint cimport int32_t, int64_t, int8_t, uint8_t

from zesty_otter.geometry._primitives cimport corner_angle, root_of, unite


cpdef int64_t smooth_by_group(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    const int32_t[::1] joined, const int32_t[::1] group, const double[:, ::1] face_normal, double[:, ::1] values,
    int32_t[::1] index, int32_t[::1] head, int32_t[::1] later, int32_t[::1] owner
) noexcept:
    # Invariant: head[p] starts the chain of (point, group) sums made so far at position p.
    cdef double angle, nx, ny, nz
    cdef int32_t c, first, following, p, previous, stop
    cdef int64_t count, f, v
    with nogil:
        count = 0
        for f in range(len(face_start) - 1):
            first, stop = face_start[f], face_start[f + 1]
            nx, ny, nz = face_normal[f, 0], face_normal[f, 1], face_normal[f, 2]
            if group[f] == 0:
                values[count, 0], values[count, 1], values[count, 2] = nx, ny, nz
                for c in range(first, stop):
                    index[c] = count
                count += 1
                continue
            for c in range(first, stop):
                p = joined[corner_point[c]]
                v = head[p]
                while v >= 0 and owner[v] != group[f]:
                    v = later[v]
                if v < 0:
                    v = count
                    count += 1
                    values[v, 0], values[v, 1], values[v, 2] = 0.0, 0.0, 0.0
                    owner[v] = group[f]
                    later[v] = head[p]
                    head[p] = v
                previous = corner_point[c - 1] if c > first else corner_point[stop - 1]
                following = corner_point[c + 1] if c + 1 < stop else corner_point[first]
                angle = corner_angle(points, previous, corner_point[c], following)
                values[v, 0] += angle * nx
                values[v, 1] += angle * ny
                values[v, 2] += angle * nz
                index[c] = v
        return count


cpdef void unite_over_soft_edges(
    const int32_t[::1] face_start, const int32_t[::1] corner_face, const int32_t[::1] corner_edge,
    const int32_t[::1] first, const int32_t[::1] later, const uint8_t[::1] soft, const int32_t[::1] corner_point,
    const int32_t[::1] joined, int32_t[::1] parent
) noexcept:
    # Joins the corners of neighbouring faces at both ends of every soft edge.
    cdef int32_t c, d
    cdef int64_t c_next, d_next, e
    with nogil:
        for e in range(len(first)):
            if not soft[e]:
                continue
            c = first[e]
            d = later[c]
            while d >= 0:
                c_next = _next_corner(face_start, corner_face[c], c)
                d_next = _next_corner(face_start, corner_face[d], d)
                if joined[corner_point[c]] == joined[corner_point[d]]:
                    unite(parent, c, d)
                    unite(parent, c_next, d_next)
                else:
                    unite(parent, c, d_next)
                    unite(parent, c_next, d)
                d = later[d]


cdef inline int64_t _next_corner(const int32_t[::1] face_start, int32_t f, int32_t c) noexcept nogil:
    return c + 1 if c + 1 < face_start[f + 1] else face_start[f]


cpdef int64_t sum_normals(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    const double[:, ::1] face_normal, const double[::1] face_area, bint by_angle, bint by_area, int32_t[::1] parent,
    int32_t[::1] number, double[:, ::1] values, int32_t[::1] index
) noexcept:
    # Invariant: number[root] is the row of the sum of all corners that hang together.
    cdef double left, weight
    cdef int32_t c, following, previous, root, start, stop
    cdef int64_t count, f, k, row
    with nogil:
        count = 0
        for f in range(len(face_start) - 1):
            start, stop = face_start[f], face_start[f + 1]
            left = M_PI
            for c in range(start, stop):
                root = root_of(parent, c)
                row = number[root]
                if row < 0:
                    row = count
                    number[root] = row
                    count += 1
                    values[row, 0], values[row, 1], values[row, 2] = 0.0, 0.0, 0.0
                weight = 1.0
                if by_angle:
                    if c - start == 2 and stop - start == 3:
                        weight = left  # what the other corners of a triangle leave
                    else:
                        previous = corner_point[c - 1 if c > start else stop - 1]
                        following = corner_point[c + 1 if c + 1 < stop else start]
                        weight = corner_angle(points, previous, corner_point[c], following)
                        left -= weight
                if by_area:
                    weight *= face_area[f]
                for k in range(3):
                    values[row, k] += weight * face_normal[f, k]
                index[c] = row
        return count


cpdef void edge_bends(
    const int32_t[::1] first, const int32_t[::1] later, const int32_t[::1] corner_face,
    const double[:, ::1] face_normal, const uint8_t[::1] agrees, double[::1] bend
) noexcept:
    # The cosine of the angle by which neighbours turn away from each other, -2 where there is no pair.
    cdef double dot
    cdef int32_t c, d, f, g
    cdef int64_t e, k
    with nogil:
        for e in range(len(first)):
            c = first[e]
            d = later[c]
            if d < 0 or later[d] >= 0:
                bend[e] = -2.0
                continue
            f, g = corner_face[c], corner_face[d]
            dot = 0.0
            for k in range(3):
                dot += face_normal[f, k] * face_normal[g, k]
            bend[e] = dot if agrees[e] else -dot


cpdef void edges_with_equal_values(
    const int32_t[::1] face_start, const int32_t[::1] corner_face, const int32_t[::1] first,
    const int32_t[::1] later, const int32_t[::1] corner_point, const int32_t[::1] joined, const int32_t[::1] index,
    const float[:, ::1] values, double limit, uint8_t[::1] equal
) noexcept:
    # Whether a layer has the same value on both sides of an inner edge, at both ends.
    cdef int32_t c, d
    cdef int64_t c_next, d_next, e
    with nogil:
        for e in range(len(first)):
            c = first[e]
            d = later[c]
            if d < 0 or later[d] >= 0:
                equal[e] = False
                continue
            c_next = _next_corner(face_start, corner_face[c], c)
            d_next = _next_corner(face_start, corner_face[d], d)
            if joined[corner_point[c]] == joined[corner_point[d]]:
                equal[e] = _close(index, values, limit, c, d) and _close(index, values, limit, c_next, d_next)
            else:
                equal[e] = _close(index, values, limit, c, d_next) and _close(index, values, limit, c_next, d)


cdef inline bint _close(
    const int32_t[::1] index, const float[:, ::1] values, double limit, int64_t c, int64_t d
) noexcept nogil:
    cdef double apart
    cdef int32_t i, j
    cdef int64_t k
    i, j = index[c], index[d]
    if i == j:
        return True
    if i < 0 or j < 0:
        return False
    apart = 0.0
    for k in range(values.shape[1]):
        apart = max(apart, abs(values[i, k] - values[j, k]))
    return apart <= limit


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
