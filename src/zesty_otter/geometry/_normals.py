"""Compiled loops of `normals`."""

from zesty_otter._compile import kernel
from zesty_otter.geometry._corners import corner_angle


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
