"""Compiled loops of `corners` and `normals`: chains of things that share a point."""

import numpy as np

from zesty_otter._compile import kernel


@kernel
def _unsigned_zero(bits):
    return np.uint64(0) if bits == np.uint64(0x8000000000000000) else bits


@kernel
def join_points(bits, representative, table):
    # Open addressing; invariant: a slot holds the lowest point of its position. Size: a power of two.
    size = len(table)
    for p in range(len(bits)):
        x, y, z = _unsigned_zero(bits[p, 0]), _unsigned_zero(bits[p, 1]), _unsigned_zero(bits[p, 2])
        h = x * np.uint64(0x9E3779B97F4A7C15) ^ y * np.uint64(0xC2B2AE3D27D4EB4F) ^ z * np.uint64(0x165667B19E3779F9)
        h ^= h >> np.uint64(32)
        h *= np.uint64(0xD6E8FEB86659FD93)
        h ^= h >> np.uint64(29)
        k = np.int64(h & np.uint64(size - 1))
        while True:
            q = table[k]
            if q < 0:
                table[k] = p
                representative[p] = p
                break
            same = _unsigned_zero(bits[q, 0]) == x and _unsigned_zero(bits[q, 1]) == y
            if same and _unsigned_zero(bits[q, 2]) == z:
                representative[p] = q
                break
            k = (k + 1) & (size - 1)


@kernel
def split_vertices(
    corner,
    section,
    corner_point,
    keys,
    values,
    value_start,
    value_width,
    vertex_of,
    first_corner,
    head,
    later,
):
    # Corners come section by section. Invariant: head[p] starts the chain of vertices made for point p,
    # newest first, so those of the current section lead it.
    count = 0
    section_first = 0
    current = -1
    for n in range(len(corner)):
        if section[n // 3] != current:
            current = section[n // 3]
            section_first = count
        c = corner[n]
        p = corner_point[c]
        v = head[p]
        while v >= section_first and not _same_values(c, first_corner[v], keys, values, value_start, value_width):
            v = later[v]
        if v < section_first:
            v = count
            count += 1
            first_corner[v] = c
            later[v] = head[p]
            head[p] = v
        vertex_of[n] = v
    return count


@kernel
def _same_values(c, d, keys, values, value_start, value_width):
    for layer in range(len(keys)):
        i, j = keys[layer, c], keys[layer, d]
        if i == j:
            continue
        if i < 0 or j < 0:
            return False
        width = value_width[layer]
        at, to = value_start[layer] + i * width, value_start[layer] + j * width
        for k in range(width):
            if values[at + k] != values[to + k]:
                return False
    return True


@kernel
def face_normals(points, face_start, corner_point, normal):
    # Newell's sum about the first corner: twice the area long.
    for f in range(len(face_start) - 1):
        first, stop = face_start[f], face_start[f + 1]
        o = corner_point[first]
        ox, oy, oz = points[o, 0], points[o, 1], points[o, 2]
        x, y, z = 0.0, 0.0, 0.0
        q = corner_point[first + 1]
        ax, ay, az = points[q, 0] - ox, points[q, 1] - oy, points[q, 2] - oz
        for c in range(first + 2, stop):
            q = corner_point[c]
            bx, by, bz = points[q, 0] - ox, points[q, 1] - oy, points[q, 2] - oz
            x += ay * bz - az * by
            y += az * bx - ax * bz
            z += ax * by - ay * bx
            ax, ay, az = bx, by, bz
        normal[f, 0], normal[f, 1], normal[f, 2] = x, y, z


@kernel
def corner_angle(points, before, at, after):
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
    return np.arctan2(np.sqrt(cx * cx + cy * cy + cz * cz), ax * bx + ay * by + az * bz)


@kernel
def take_rows(values, index, out):
    # Rows of `values`, converted to what `out` holds; rows with a negative index are left alone.
    for n in range(len(index)):
        row = index[n]
        if row >= 0:
            for k in range(values.shape[1]):
                out[n, k] = values[row, k]


@kernel
def unit_rows(vectors, out):
    for n in range(len(vectors)):
        x, y, z = np.float64(vectors[n, 0]), np.float64(vectors[n, 1]), np.float64(vectors[n, 2])
        length = np.sqrt(x * x + y * y + z * z)
        if length > 0.0:
            out[n, 0], out[n, 1], out[n, 2] = x / length, y / length, z / length
        else:
            out[n, 0], out[n, 1], out[n, 2] = 0.0, 0.0, 1.0
