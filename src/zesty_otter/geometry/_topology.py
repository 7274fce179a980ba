"""Compiled loops of `topology`: edges, parts, duplicates."""

import numpy as np

from zesty_otter._compile import kernel


@kernel
def number_edges(face_start, corner_point, joined, table, edge_points, corner_edge, use, forward, first, later):
    # Open addressing over undirected edges. Invariant: edge_points[e] is the direction of its first use,
    # first[e] its latest corner, and later[] chains its corners, latest first.
    # The first slots tried lie near those of the edges of neighbouring points, which keeps them in the cache;
    # where these are taken, the search goes on at a scattered place.
    mask = len(table) - 1
    spread = max(1, len(table) // (len(joined) + 1))
    count = 0
    for f in range(len(face_start) - 1):
        start, stop = face_start[f], face_start[f + 1]
        for c in range(start, stop):
            a = joined[corner_point[c]]
            b = joined[corner_point[c + 1 if c + 1 < stop else start]]
            low, high = min(a, b), max(a, b)
            k = np.int64(low) * spread & mask
            tries = 0
            while True:
                e = table[k]
                if e < 0:
                    e = count
                    count += 1
                    table[k] = e
                    edge_points[e, 0], edge_points[e, 1] = a, b
                    use[e], forward[e], first[e] = 0, 0, -1
                    break
                p, q = edge_points[e, 0], edge_points[e, 1]
                if (p == a and q == b) or (p == b and q == a):
                    break
                tries += 1
                if tries == 12:
                    h = np.uint64(low) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(high) * np.uint64(0xC2B2AE3D27D4EB4F)
                    h ^= h >> np.uint64(29)
                    h *= np.uint64(0xBF58476D1CE4E5B9)
                    h ^= h >> np.uint64(32)
                    k = np.int64(h & np.uint64(mask))
                else:
                    k = (k + 1) & mask
            use[e] += 1
            forward[e] += edge_points[e, 0] == a
            corner_edge[c] = e
            later[c] = first[e]
            first[e] = c
    return count


@kernel
def root_of(parent, n):
    # Union-find with path halving; roots are the lowest of their set.
    while parent[n] != n:
        parent[n] = parent[parent[n]]
        n = parent[n]
    return n


@kernel
def unite(parent, a, b):
    a, b = root_of(parent, a), root_of(parent, b)
    if a < b:
        parent[b] = a
    elif b < a:
        parent[a] = b


@kernel
def unite_points_of_faces(face_start, corner_point, joined, parent):
    for f in range(len(face_start) - 1):
        a = joined[corner_point[face_start[f]]]
        for c in range(face_start[f] + 1, face_start[f + 1]):
            unite(parent, a, joined[corner_point[c]])


@kernel
def number_parts(face_start, corner_point, joined, parent, number, part):
    # Parts in the order of their first face; `number` is -1 for every point at first.
    count = 0
    for f in range(len(face_start) - 1):
        root = root_of(parent, joined[corner_point[face_start[f]]])
        if number[root] < 0:
            number[root] = count
            count += 1
        part[f] = number[root]
    return count


@kernel
def _least_at(face_start, corner_point, joined, f):
    best = face_start[f]
    for c in range(face_start[f] + 1, face_start[f + 1]):
        if joined[corner_point[c]] < joined[corner_point[best]]:
            best = c
    return best - face_start[f]


@kernel
def _same_outline(face_start, corner_point, joined, f, g):
    # Whether two faces have the same points in the same cyclic order, either way round.
    size = face_start[f + 1] - face_start[f]
    if face_start[g + 1] - face_start[g] != size:
        return False
    i, j = _least_at(face_start, corner_point, joined, f), _least_at(face_start, corner_point, joined, g)
    same, turned = True, True
    for k in range(size):
        p = joined[corner_point[face_start[f] + (i + k) % size]]
        same = same and p == joined[corner_point[face_start[g] + (j + k) % size]]
        turned = turned and p == joined[corner_point[face_start[g] + (j - k) % size]]
    return same or turned


@kernel
def find_duplicate_faces(face_start, corner_point, joined, table, original):
    # original[f] is the first face with the same outline: f itself when it is the first.
    mask = len(table) - 1
    for f in range(len(face_start) - 1):
        h = np.uint64(0)
        for c in range(face_start[f], face_start[f + 1]):
            g = np.uint64(joined[corner_point[c]] + 1) * np.uint64(0x9E3779B97F4A7C15)
            g ^= g >> np.uint64(31)
            h += g * np.uint64(0xBF58476D1CE4E5B9)  # a sum: the same whatever the order
        k = np.int64((h ^ (h >> np.uint64(33))) & np.uint64(mask))
        while True:
            g = table[k]
            if g < 0:
                table[k] = f
                original[f] = f
                break
            if _same_outline(face_start, corner_point, joined, f, g):
                original[f] = g
                break
            k = (k + 1) & mask
    return 0


@kernel
def weld_points(points, order, tolerance, level, key, sizes, head, later, representative):
    # Points come with the largest tolerance first. Each looks for the nearest one kept so far within the
    # lesser of both tolerances, in the grids of all levels as coarse as its own or coarser; there is one
    # grid for each level, all in one hash table of cells. Nothing but kept points is in the grids.
    mask = len(head) - 1
    for n in range(len(order)):
        p = order[n]
        reach = tolerance[p]
        best, best_distance = -1, np.inf
        for grid in range(level[p] + 1):
            size = sizes[grid]
            lo_x, hi_x = (
                np.int64(np.floor((points[p, 0] - reach) / size)),
                np.int64(np.floor((points[p, 0] + reach) / size)),
            )
            lo_y, hi_y = (
                np.int64(np.floor((points[p, 1] - reach) / size)),
                np.int64(np.floor((points[p, 1] + reach) / size)),
            )
            lo_z, hi_z = (
                np.int64(np.floor((points[p, 2] - reach) / size)),
                np.int64(np.floor((points[p, 2] + reach) / size)),
            )
            for x in range(lo_x, hi_x + 1):
                for y in range(lo_y, hi_y + 1):
                    for z in range(lo_z, hi_z + 1):
                        q = head[_bucket(x, y, z, grid, mask)]
                        while q >= 0:
                            if level[q] == grid and key[q] == key[p]:
                                dx, dy, dz = (
                                    points[q, 0] - points[p, 0],
                                    points[q, 1] - points[p, 1],
                                    points[q, 2] - points[p, 2],
                                )
                                distance = dx * dx + dy * dy + dz * dz
                                if distance <= reach * reach and (
                                    distance < best_distance or (distance == best_distance and q < best)
                                ):
                                    best, best_distance = q, distance
                            q = later[q]
        if best >= 0:
            representative[p] = best
            continue
        representative[p] = p
        size = sizes[level[p]]
        x, y, z = np.floor(points[p, 0] / size), np.floor(points[p, 1] / size), np.floor(points[p, 2] / size)
        k = _bucket(np.int64(x), np.int64(y), np.int64(z), level[p], mask)
        later[p] = head[k]
        head[k] = p


@kernel
def _bucket(x, y, z, grid, mask):
    h = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
    h += np.uint64(z) * np.uint64(0x165667B19E3779F9) + np.uint64(grid) * np.uint64(0x27D4EB2F165667C5)
    h ^= h >> np.uint64(29)
    h *= np.uint64(0xBF58476D1CE4E5B9)
    h ^= h >> np.uint64(32)
    return np.int64(h & np.uint64(mask))


@kernel
def drop_repeated_corners(face_start, corner_point, kept_corner, new_start, kept_face):
    # Leaves out corners that repeat the one before (cyclically) and faces with fewer than three left.
    corners, faces = 0, 0
    for f in range(len(face_start) - 1):
        start, stop = face_start[f], face_start[f + 1]
        first = corners
        for c in range(start, stop):
            if corner_point[c] != corner_point[c - 1 if c > start else stop - 1]:
                kept_corner[corners] = c
                corners += 1
        if corners - first < 3:
            corners = first
            continue
        kept_face[faces] = f
        new_start[faces] = first
        faces += 1
    new_start[faces] = corners
    return faces


@kernel
def orient(face_start, corner_face, corner_edge, agrees, use, first, later, turned, region, stack):
    # Spreads the direction of the first face of each region over edges that two faces share. `region` is
    # -1 at first; turned[f] says whether f must be turned to agree with the first face of its region.
    # agrees[e]: the two faces of edge e run along it in opposite directions, as they should.
    regions, conflicts = 0, 0
    for seed in range(len(face_start) - 1):
        if region[seed] >= 0:
            continue
        region[seed], turned[seed] = regions, False
        stack[0] = seed
        depth = 1
        while depth > 0:
            depth -= 1
            f = stack[depth]
            for c in range(face_start[f], face_start[f + 1]):
                e = corner_edge[c]
                if use[e] != 2:
                    continue
                g = corner_face[later[first[e]] if first[e] == c else first[e]]
                wanted = turned[f] if agrees[e] else not turned[f]
                if region[g] < 0:
                    region[g], turned[g] = regions, wanted
                    stack[depth] = g
                    depth += 1
                elif turned[g] != wanted and g != f:
                    conflicts += 1
        regions += 1
    return regions, conflicts // 2


@kernel
def winding_number(points, face_start, corner_point, faces, turned, x, y, z):
    # Sum of solid angles of the triangles of a fan over each face, in units of a full sphere (Van Oosterom
    # and Strackee 1983).
    total = 0.0
    for n in range(len(faces)):
        f = faces[n]
        sign = -1.0 if turned[f] else 1.0
        o = corner_point[face_start[f]]
        ax, ay, az = points[o, 0] - x, points[o, 1] - y, points[o, 2] - z
        al = np.sqrt(ax * ax + ay * ay + az * az)
        p = corner_point[face_start[f] + 1]
        bx, by, bz = points[p, 0] - x, points[p, 1] - y, points[p, 2] - z
        bl = np.sqrt(bx * bx + by * by + bz * bz)
        for c in range(face_start[f] + 2, face_start[f + 1]):
            q = corner_point[c]
            cx, cy, cz = points[q, 0] - x, points[q, 1] - y, points[q, 2] - z
            cl = np.sqrt(cx * cx + cy * cy + cz * cz)
            triple = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
            ab, bc, ca = ax * bx + ay * by + az * bz, bx * cx + by * cy + bz * cz, cx * ax + cy * ay + cz * az
            total += sign * 2.0 * np.arctan2(triple, al * bl * cl + ab * cl + bc * al + ca * bl)
            bx, by, bz, bl = cx, cy, cz, cl
    return total / (4.0 * np.pi)


@kernel
def winding_beside(centre, vector, area, x, y, z):
    # The winding number of faces taken as dipoles at the middle of one of them, which adds nothing itself:
    # exact enough where faces are far for their size; near ones lie almost in one plane with the point.
    total = 0.0
    for f in range(len(area)):
        dx, dy, dz = centre[f, 0] - x, centre[f, 1] - y, centre[f, 2] - z
        square = dx * dx + dy * dy + dz * dz + 0.05 * area[f] + 1e-300
        total += (dx * vector[f, 0] + dy * vector[f, 1] + dz * vector[f, 2]) / (square * np.sqrt(square))
    return total / (4.0 * np.pi)


@kernel
def border_loops(begin, end, head, later, seen, loop, loop_start):
    # Walks round holes, against the direction of the faces beside them: from an edge a-b to the border
    # edge that ends at a. head[p] chains the border edges that end at p. Only closed walks are kept.
    for k in range(len(begin) - 1, -1, -1):
        later[k] = head[end[k]]
        head[end[k]] = k
    loops, filled = 0, 0
    for k in range(len(begin)):
        if seen[k]:
            continue
        start = filled
        at = k
        while at >= 0:
            seen[at] = True
            loop[filled] = at
            filled += 1
            if begin[at] == end[k]:
                break
            at = head[begin[at]]
            while at >= 0 and seen[at]:
                at = later[at]
        if at >= 0 and filled - start >= 3:
            loops += 1
            loop_start[loops] = filled
        else:
            filled = start
    return loops


@kernel
def part_boxes(points, corner_point, corner_part, low, high):
    for c in range(len(corner_point)):
        for k in range(3):
            value = points[corner_point[c], k]
            low[corner_part[c], k] = min(low[corner_part[c], k], value)
            high[corner_part[c], k] = max(high[corner_part[c], k], value)


@kernel
def shortest_edges(points, face_start, corner_point, part, least, shortest):
    # The shortest edge of each part among those longer than the part's `least`.
    for f in range(len(face_start) - 1):
        start, stop = face_start[f], face_start[f + 1]
        for c in range(start, stop):
            p, q = corner_point[c], corner_point[c + 1 if c + 1 < stop else start]
            square = 0.0
            for k in range(3):
                square += (points[q, k] - points[p, k]) ** 2
            length = np.sqrt(square)
            if length > least[part[f]] and length < shortest[part[f]]:
                shortest[part[f]] = length


@kernel
def least_of_parts(face_start, corner_point, joined, part, limit, tolerance):
    # tolerance[p] falls to the limit of every part that uses the point.
    for f in range(len(face_start) - 1):
        for c in range(face_start[f], face_start[f + 1]):
            p = joined[corner_point[c]]
            tolerance[p] = min(tolerance[p], limit[part[f]])


@kernel
def sum_regions(
    points,
    face_start,
    corner_point,
    corner_edge,
    use,
    region,
    turned,
    area,
    normal,
    origin,
    volume,
    balance,
    total,
    is_open,
    centre,
):
    # Of every region: three times its volume about its origin (with faces turned), the area that keeps
    # its direction less the area that is turned, the area, and whether some edge has not two faces.
    for f in range(len(face_start) - 1):
        r = region[f]
        start, stop = face_start[f], face_start[f + 1]
        if origin[r] < 0:
            origin[r] = corner_point[start]
        height = 0.0
        for k in range(3):
            centre[f, k] = 0.0
            height += (points[corner_point[start], k] - points[origin[r], k]) * normal[f, k]
        for c in range(start, stop):
            for k in range(3):
                centre[f, k] += points[corner_point[c], k] / (stop - start)
            if use[corner_edge[c]] != 2:
                is_open[r] = True
        volume[r] += -area[f] * height if turned[f] else area[f] * height
        balance[r] += -area[f] if turned[f] else area[f]
        total[r] += area[f]


@kernel
def grow_regions(face_start, corner_face, corner_edge, first, later, open_edge, normal, least_dot, region, stack):
    # Faces reachable over open edges, which have two faces each, whose normal stays within the angle of the
    # seed's; a least_dot of -2 lets every normal pass.
    count = 0
    for seed in range(len(face_start) - 1):
        if region[seed] >= 0:
            continue
        region[seed] = count
        stack[0] = seed
        depth = 1
        while depth > 0:
            depth -= 1
            f = stack[depth]
            for c in range(face_start[f], face_start[f + 1]):
                e = corner_edge[c]
                if not open_edge[e]:
                    continue
                g = corner_face[later[first[e]] if first[e] == c else first[e]]
                if region[g] >= 0:
                    continue
                dot = normal[g, 0] * normal[seed, 0] + normal[g, 1] * normal[seed, 1] + normal[g, 2] * normal[seed, 2]
                if dot >= least_dot:
                    region[g] = count
                    stack[depth] = g
                    depth += 1
        count += 1
    return count
