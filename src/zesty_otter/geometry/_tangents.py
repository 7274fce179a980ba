"""Compiled loops of `tangents`."""

import numpy as np

from zesty_otter._compile import kernel
from zesty_otter.geometry._topology import root_of, unite


@kernel
def triangle_tangents(points, corner_point, triangles, uv, tangent, side):
    # The direction of growing U in each triangle, and whether its UVs wind as it does (1), against it
    # (-1) or have no area (0).
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u1, v1 = np.float64(uv[b, 0]) - uv[a, 0], np.float64(uv[b, 1]) - uv[a, 1]
        u2, v2 = np.float64(uv[c, 0]) - uv[a, 0], np.float64(uv[c, 1]) - uv[a, 1]
        area = u1 * v2 - u2 * v1
        p, q, r = corner_point[a], corner_point[b], corner_point[c]
        length = 0.0
        for k in range(3):
            tangent[t, k] = v2 * (points[q, k] - points[p, k]) - v1 * (points[r, k] - points[p, k])
            length += tangent[t, k] ** 2
        side[t] = 1 if area > 0.0 else (-1 if area < 0.0 else 0)
        length = np.sqrt(length)
        for k in range(3):
            tangent[t, k] = side[t] * tangent[t, k] / length if length > 0.0 else 0.0


@kernel
def unite_tangent_corners(triangles, vertex, edge_first, edge_later, side, parent):
    # Joins corners of triangles that share an edge by vertex number at both ends and have the same side.
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


@kernel
def number_roots(parent, number):
    # One row for all corners that hang together, in order of their first.
    count = 0
    for c in range(len(parent)):
        root = root_of(parent, c)
        if number[root] < 0:
            number[root] = count
            count += 1
        number[c] = number[root]
    return count


@kernel
def sum_tangents(points, corner_point, triangles, normal, tangent, side, row, total):
    # Adds every triangle's tangent, laid into the plane of the corner's normal and weighted by the angle
    # of the corner in that plane, to its row.
    for t in range(len(triangles)):
        if side[t] == 0:
            continue
        for k in range(3):
            corner = triangles[t, k]
            nx, ny, nz = np.float64(normal[corner, 0]), np.float64(normal[corner, 1]), np.float64(normal[corner, 2])
            p = corner_point[corner]
            q, r = corner_point[triangles[t, (k + 1) % 3]], corner_point[triangles[t, (k + 2) % 3]]
            tx, ty, tz = _laid(tangent[t, 0], tangent[t, 1], tangent[t, 2], nx, ny, nz)
            ax, ay, az = _laid(
                points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2], nx, ny, nz
            )
            bx, by, bz = _laid(
                points[r, 0] - points[p, 0], points[r, 1] - points[p, 1], points[r, 2] - points[p, 2], nx, ny, nz
            )
            angle = np.arccos(min(1.0, max(-1.0, ax * bx + ay * by + az * bz)))
            n = row[3 * t + k]
            total[n, 0] += angle * tx
            total[n, 1] += angle * ty
            total[n, 2] += angle * tz


@kernel
def _laid(x, y, z, nx, ny, nz):
    # A direction laid into the plane of a normal, of length one.
    along = x * nx + y * ny + z * nz
    x, y, z = x - along * nx, y - along * ny, z - along * nz
    length = np.sqrt(x * x + y * y + z * z)
    if length > 0.0:
        return x / length, y / length, z / length
    return 0.0, 0.0, 0.0


@kernel
def finish_tangents(triangles, normal, row, total, side, values, index):
    for t in range(len(triangles)):
        for k in range(3):
            corner = triangles[t, k]
            n = row[3 * t + k]
            index[corner] = n
            nx, ny, nz = np.float64(normal[corner, 0]), np.float64(normal[corner, 1]), np.float64(normal[corner, 2])
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
