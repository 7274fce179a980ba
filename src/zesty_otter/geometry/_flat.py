"""Compiled loops of `flat`: faces joined into larger ones."""

import numpy as np

from zesty_otter._compile import kernel
from zesty_otter.geometry._topology import root_of


@kernel
def join_faces(
    corner_face,
    corner_edge,
    first,
    later,
    edge_ok,
    point,
    point_start,
    point_corner,
    parent,
    size,
    after,
    before,
    alive,
):
    # Half-edges are corners; after/before link the outline of every face. Two faces become one when the
    # edges they share make one unbroken chain and they touch nowhere else, so that every outline stays a
    # simple loop. Passes repeat until nothing changes.
    joins = 0
    changed = True
    while changed:
        changed = False
        for e in range(len(first)):
            if not edge_ok[e]:
                continue
            c = first[e]
            d = later[c]
            if not alive[c]:
                continue
            a, b = root_of(parent, corner_face[c]), root_of(parent, corner_face[d])
            if a == b:
                continue
            if size[a] > size[b]:
                c, d, a, b = d, c, b, a
            # The chain: back and forth from c along a's outline, while the twins run along b's.
            head, twin_head, length = c, d, 1
            while length < size[a]:
                p = before[head]
                if not edge_ok[corner_edge[p]] or _twin(p, corner_edge, first, later) != after[twin_head]:
                    break
                head, twin_head = p, after[twin_head]
                length += 1
            tail, twin_tail = c, d
            while length < size[a]:
                n = after[tail]
                if not edge_ok[corner_edge[n]] or _twin(n, corner_edge, first, later) != before[twin_tail]:
                    break
                tail, twin_tail = n, before[twin_tail]
                length += 1
            if length >= size[a] or length >= size[b] or size[a] + size[b] - 2 * length < 3:
                continue
            # The outlines of a and b must meet nowhere else.
            sound = True
            k = after[after[tail]]
            while sound and k != head:
                for n in range(point_start[point[k]], point_start[point[k] + 1]):
                    other = point_corner[n]
                    if alive[other] and root_of(parent, corner_face[other]) == b:
                        sound = False
                        break
                k = after[k]
            if not sound:
                continue
            k = head
            while True:
                alive[k] = False
                alive[_twin(k, corner_edge, first, later)] = False
                if k == tail:
                    break
                k = after[k]
            before_a, after_a = before[head], after[tail]
            before_b, after_b = before[twin_tail], after[twin_head]
            after[before_a], before[after_b] = after_b, before_a
            after[before_b], before[after_a] = after_a, before_b
            low, high = min(a, b), max(a, b)
            parent[high] = low
            size[low] = size[a] + size[b] - 2 * length
            joins += 1
            changed = True
    return joins


@kernel
def _twin(c, corner_edge, first, later):
    e = corner_edge[c]
    return later[first[e]] if first[e] == c else first[e]


@kernel
def drop_straight_corners(
    corner_face,
    corner_edge,
    use,
    points,
    point,
    point_start,
    point_corner,
    attributes,
    parent,
    size,
    joined_face,
    after,
    before,
    alive,
    least_cosine,
):
    # Leaves out points at which two outlines (or one and the border) go straight on together, in joined
    # faces only, and only where attributes run straight too.
    dropped = 0
    for p in range(len(point_start) - 1):
        one, two, count = -1, -1, 0
        for n in range(point_start[p], point_start[p + 1]):
            c = point_corner[n]
            if alive[c]:
                count += 1
                two = one
                one = c
        if count == 0 or count > 2:
            continue
        if count == 1 and (use[corner_edge[one]] != 1 or use[corner_edge[before[one]]] != 1):
            continue
        fits = count == 1 or (point[before[one]] == point[after[two]] and point[after[one]] == point[before[two]])
        for k in range(count):
            c = one if k == 0 else two
            root = root_of(parent, corner_face[c])
            fits = fits and joined_face[root] and size[root] > 3
            fits = fits and _straight(c, points, point, attributes, after, before, least_cosine)
        if not fits:
            continue
        for k in range(count):
            c = one if k == 0 else two
            after[before[c]], before[after[c]] = after[c], before[c]
            alive[c] = False
            size[root_of(parent, corner_face[c])] -= 1
        dropped += 1
    return dropped


@kernel
def _straight(c, points, point, attributes, after, before, least_cosine):
    p, q, r = point[before[c]], point[c], point[after[c]]
    ax, ay, az = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
    bx, by, bz = points[r, 0] - points[q, 0], points[r, 1] - points[q, 1], points[r, 2] - points[q, 2]
    al, bl = np.sqrt(ax * ax + ay * ay + az * az), np.sqrt(bx * bx + by * by + bz * bz)
    if ax * bx + ay * by + az * bz < least_cosine * al * bl:
        return False
    share = al / (al + bl) if al + bl > 0.0 else 0.5
    for k in range(attributes.shape[1]):
        start, here, end = attributes[before[c], k], attributes[c, k], attributes[after[c], k]
        if abs(start + share * (end - start) - here) > 1e-4 * (abs(end - start) + 1e-3):
            return False
    return True


@kernel
def collect_faces(corner_face, parent, after, alive, done, corner, face_start, face):
    # Faces in the order of the first face they come from, each from its first corner that is left.
    filled, count = 0, 0
    for c in range(len(corner_face)):
        if not alive[c] or done[c]:
            continue
        face_start[count] = filled
        face[count] = root_of(parent, corner_face[c])
        count += 1
        k = c
        while not done[k]:
            done[k] = True
            corner[filled] = k
            filled += 1
            k = after[k]
    face_start[count] = filled
    return count


@kernel
def face_slopes(points, face_start, corner_point, values, area, normal, slope):
    # How each value changes over a face along x, y and z: its flow through the outline over the area.
    for f in range(len(face_start) - 1):
        start, stop = face_start[f], face_start[f + 1]
        for n in range(values.shape[1]):
            for k in range(3):
                slope[f, n, k] = 0.0
        if area[f] <= 0.0:
            continue
        for c in range(start, stop):
            d = c + 1 if c + 1 < stop else start
            p, q = corner_point[c], corner_point[d]
            x, y, z = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
            nx, ny, nz = normal[f, 0], normal[f, 1], normal[f, 2]
            ox, oy, oz = y * nz - z * ny, z * nx - x * nz, x * ny - y * nx
            for n in range(values.shape[1]):
                middle = (values[c, n] + values[d, n]) / (2.0 * area[f])
                slope[f, n, 0] += middle * ox
                slope[f, n, 1] += middle * oy
                slope[f, n, 2] += middle * oz


@kernel
def keep_equal_slopes(first, later, corner_face, slope, tolerance, mergeable):
    for e in range(len(first)):
        if not mergeable[e]:
            continue
        d = later[first[e]]
        if d < 0:
            mergeable[e] = False
            continue
        f, g = corner_face[first[e]], corner_face[d]
        for n in range(slope.shape[1]):
            size, apart = 0.0, 0.0
            for k in range(3):
                size = max(size, abs(slope[f, n, k]), abs(slope[g, n, k]))
                apart = max(apart, abs(slope[f, n, k] - slope[g, n, k]))
            if apart > tolerance * size + 1e-9:
                mergeable[e] = False
