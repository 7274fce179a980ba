"""Compiled loops of `normals`."""

import math

from zesty_otter._compile import kernel
from zesty_otter.geometry._corners import corner_angle
from zesty_otter.geometry._topology import root_of, unite


@kernel
def smooth_by_group(points, face_start, corner_point, joined, group, face_normal, values, index, head, later, owner):
    # Invariant: head[p] starts the chain of (point, group) sums made so far at position p.
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


@kernel
def unite_over_soft_edges(face_start, corner_face, corner_edge, first, later, soft, corner_point, joined, parent):
    # Joins the corners of neighbouring faces at both ends of every soft edge.
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


@kernel
def _next_corner(face_start, f, c):
    return c + 1 if c + 1 < face_start[f + 1] else face_start[f]


@kernel
def sum_normals(
    points, face_start, corner_point, face_normal, face_area, by_angle, by_area, parent, number, values, index
):
    # Invariant: number[root] is the row of the sum of all corners that hang together.
    count = 0
    for f in range(len(face_start) - 1):
        start, stop = face_start[f], face_start[f + 1]
        left = math.pi
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


@kernel
def edge_bends(first, later, corner_face, face_normal, agrees, bend):
    # The cosine of the angle by which neighbours turn away from each other, -2 where there is no pair.
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


@kernel
def edges_with_equal_values(face_start, corner_face, first, later, corner_point, joined, index, values, limit, equal):
    # Whether a layer has the same value on both sides of an inner edge, at both ends.
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


@kernel
def _close(index, values, limit, c, d):
    i, j = index[c], index[d]
    if i == j:
        return True
    if i < 0 or j < 0:
        return False
    apart = 0.0
    for k in range(values.shape[1]):
        apart = max(apart, abs(values[i, k] - values[j, k]))
    return apart <= limit
