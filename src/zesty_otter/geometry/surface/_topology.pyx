"""Compiled loops of `topology`: edges, parts, duplicates."""

from libc.math cimport INFINITY, M_PI, atan2, floor, sqrt
from libc.stdint cimport uint8_t, int32_t, int64_t, uint64_t
from zesty_otter.geometry._primitives cimport root_of, unite


cpdef int64_t number_edges(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined, int32_t[::1] table,
    int32_t[:, ::1] edge_points, int32_t[::1] corner_edge, int32_t[::1] use, int32_t[::1] forward,
    int32_t[::1] first, int32_t[::1] later
) noexcept:
    # Open addressing over undirected edges. Invariant: edge_points[e] is the direction of its first use,
    # first[e] its latest corner, and later[] chains its corners, latest first.
    # The first slots tried lie near those of the edges of neighbouring points, which keeps them in the cache;
    # where these are taken, the search goes on at a scattered place.
    cdef int32_t a, b, c, high, low, p, q, start, stop
    cdef int64_t count, e, f, k, mask, spread, tries
    cdef uint64_t h
    with nogil:
        mask = len(table) - 1
        spread = max(1, len(table) // (len(joined) + 1))
        count = 0
        for f in range(len(face_start) - 1):
            start, stop = face_start[f], face_start[f + 1]
            for c in range(start, stop):
                a = joined[corner_point[c]]
                b = joined[corner_point[c + 1 if c + 1 < stop else start]]
                low, high = min(a, b), max(a, b)
                k = <int64_t>low * spread & mask
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
                        h = <uint64_t>low * <uint64_t>0x9E3779B97F4A7C15 + <uint64_t>high * <uint64_t>0xC2B2AE3D27D4EB4F
                        h ^= h >> 29
                        h *= <uint64_t>0xBF58476D1CE4E5B9
                        h ^= h >> 32
                        k = <int64_t>(h & <uint64_t>mask)
                    else:
                        k = (k + 1) & mask
                use[e] += 1
                forward[e] += edge_points[e, 0] == a
                corner_edge[c] = e
                later[c] = first[e]
                first[e] = c
        return count


cpdef void unite_points_of_faces(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined, int32_t[::1] parent
) noexcept:
    cdef int32_t a
    cdef int64_t c, f
    with nogil:
        for f in range(len(face_start) - 1):
            a = joined[corner_point[face_start[f]]]
            for c in range(face_start[f] + 1, face_start[f + 1]):
                unite(parent, a, joined[corner_point[c]])


cpdef int64_t number_parts(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined, int32_t[::1] parent,
    int32_t[::1] number, int32_t[::1] part
) noexcept:
    # Parts in the order of their first face; `number` is -1 for every point at first.
    cdef int32_t root
    cdef int64_t count, f
    with nogil:
        count = 0
        for f in range(len(face_start) - 1):
            root = root_of(parent, joined[corner_point[face_start[f]]])
            if number[root] < 0:
                number[root] = count
                count += 1
            part[f] = number[root]
        return count


cdef inline int64_t _least_at(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined, int64_t f
) noexcept nogil:
    cdef int64_t best, c
    best = face_start[f]
    for c in range(face_start[f] + 1, face_start[f + 1]):
        if joined[corner_point[c]] < joined[corner_point[best]]:
            best = c
    return best - face_start[f]


cdef inline bint _same_outline(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined, int64_t f, int64_t g,
    bint either_way
) noexcept nogil:
    # Whether two faces have the same points in the same cyclic order.
    cdef bint same, turned
    cdef int32_t p
    cdef int64_t i, j, k, size
    size = face_start[f + 1] - face_start[f]
    if face_start[g + 1] - face_start[g] != size:
        return False
    i, j = _least_at(face_start, corner_point, joined, f), _least_at(face_start, corner_point, joined, g)
    same, turned = True, True
    for k in range(size):
        p = joined[corner_point[face_start[f] + (i + k) % size]]
        same = same and p == joined[corner_point[face_start[g] + (j + k) % size]]
        turned = turned and p == joined[corner_point[face_start[g] + (j + size - k) % size]]
    return same or (either_way and turned)


cdef inline void _find_first(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined,
    const int32_t[::1] slot, bint either_way, int32_t[::1] table, int32_t[::1] original
) noexcept nogil:
    # original[f] is the first face with the same outline: f itself when it is the first.
    cdef int32_t c
    cdef int64_t f, g, k, mask = len(table) - 1
    cdef uint64_t h, mixed
    for f in range(len(face_start) - 1):
        h = 0
        for c in range(face_start[f], face_start[f + 1]):
            mixed = <uint64_t>(joined[corner_point[c]] + 1) * <uint64_t>0x9E3779B97F4A7C15
            mixed ^= mixed >> 31
            h += mixed * <uint64_t>0xBF58476D1CE4E5B9  # a sum: the same whatever the order
        k = <int64_t>((h ^ (h >> 33)) & <uint64_t>mask)
        while True:
            g = table[k]
            if g < 0:
                table[k] = <int32_t>f
                original[f] = <int32_t>f
                break
            if (len(slot) == 0 or slot[f] == slot[g]) and _same_outline(
                face_start, corner_point, joined, f, g, either_way
            ):
                original[f] = <int32_t>g
                break
            k = (k + 1) & mask


cpdef void find_duplicate_faces(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined,
    const int32_t[::1] slot, int32_t[::1] table, int32_t[::1] original
) noexcept:
    """The first face with the same outline, the same way round, and the same slot, of each face."""
    with nogil:
        _find_first(face_start, corner_point, joined, slot, False, table, original)


cpdef void find_coincident_faces(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined, int32_t[::1] table,
    int32_t[::1] original
) noexcept:
    """The first face with the same outline, either way round, of each face."""
    with nogil:
        _find_first(face_start, corner_point, joined, face_start[:0], True, table, original)


cpdef void weld_points(
    const double[:, ::1] points, const int32_t[::1] order, const double[::1] tolerance, const int32_t[::1] level,
    const int32_t[::1] key, const double[::1] sizes, int32_t[::1] head, int32_t[::1] later,
    int32_t[::1] representative
) noexcept:
    # Points come with the largest tolerance first. Each looks for the nearest one kept so far within the
    # lesser of both tolerances, in the grids of all levels as coarse as its own or coarser; there is one
    # grid for each level, all in one hash table of cells. Nothing but kept points is in the grids.
    cdef double best_distance, distance, dx, dy, dz, reach, size
    cdef int32_t p, q
    cdef int64_t best, grid, hi_x, hi_y, hi_z, k, lo_x, lo_y, lo_z, mask, n, x, y, z
    with nogil:
        mask = len(head) - 1
        for n in range(len(order)):
            p = order[n]
            reach = tolerance[p]
            best, best_distance = -1, INFINITY
            for grid in range(level[p] + 1):
                size = sizes[grid]
                lo_x, hi_x = (
                    <int64_t>floor((points[p, 0] - reach) / size),
                    <int64_t>floor((points[p, 0] + reach) / size),
                )
                lo_y, hi_y = (
                    <int64_t>floor((points[p, 1] - reach) / size),
                    <int64_t>floor((points[p, 1] + reach) / size),
                )
                lo_z, hi_z = (
                    <int64_t>floor((points[p, 2] - reach) / size),
                    <int64_t>floor((points[p, 2] + reach) / size),
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
            x, y, z = (
                <int64_t>floor(points[p, 0] / size),
                <int64_t>floor(points[p, 1] / size),
                <int64_t>floor(points[p, 2] / size),
            )
            k = _bucket(x, y, z, level[p], mask)
            later[p] = head[k]
            head[k] = p


cdef inline int64_t _bucket(int64_t x, int64_t y, int64_t z, int64_t grid, int64_t mask) noexcept nogil:
    cdef uint64_t h
    h = <uint64_t>x * <uint64_t>0x9E3779B97F4A7C15 + <uint64_t>y * <uint64_t>0xC2B2AE3D27D4EB4F
    h += <uint64_t>z * <uint64_t>0x165667B19E3779F9 + <uint64_t>grid * <uint64_t>0x27D4EB2F165667C5
    h ^= h >> 29
    h *= <uint64_t>0xBF58476D1CE4E5B9
    h ^= h >> 32
    return <int64_t>(h & <uint64_t>mask)


cpdef int64_t drop_repeated_corners(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, int64_t[::1] kept_corner, int32_t[::1] new_start,
    int32_t[::1] kept_face
) noexcept:
    # Leaves out corners that repeat the one before (cyclically) and faces with fewer than three left.
    cdef int32_t c, start, stop
    cdef int64_t corners, f, faces, first
    with nogil:
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


cpdef (int64_t, int64_t) orient(
    const int32_t[::1] face_start, const int32_t[::1] corner_face, const int32_t[::1] corner_edge,
    const uint8_t[::1] agrees, const int32_t[::1] use, const int32_t[::1] first, const int32_t[::1] later,
    uint8_t[::1] turned, int32_t[::1] region, int32_t[::1] stack
) noexcept:
    # Spreads the direction of the first face of each region over edges that two faces share. `region` is
    # -1 at first; turned[f] says whether f must be turned to agree with the first face of its region.
    # agrees[e]: the two faces of edge e run along it in opposite directions, as they should.
    cdef bint wanted
    cdef int32_t c, e, f, g
    cdef int64_t conflicts, depth, regions, seed
    with nogil:
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


cpdef double winding_number(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    const int32_t[::1] faces, const uint8_t[::1] turned, double x, double y, double z
) noexcept:
    # Sum of solid angles of the triangles of a fan over each face, in units of a full sphere (Van Oosterom
    # and Strackee 1983).
    cdef double ab, al, ax, ay, az, bc, bl, bx, by, bz, ca, cl, cx, cy, cz, sign, total, triple
    cdef int32_t f, o, p, q
    cdef int64_t c, n
    with nogil:
        total = 0.0
        for n in range(len(faces)):
            f = faces[n]
            sign = -1.0 if turned[f] else 1.0
            o = corner_point[face_start[f]]
            ax, ay, az = points[o, 0] - x, points[o, 1] - y, points[o, 2] - z
            al = sqrt(ax * ax + ay * ay + az * az)
            p = corner_point[face_start[f] + 1]
            bx, by, bz = points[p, 0] - x, points[p, 1] - y, points[p, 2] - z
            bl = sqrt(bx * bx + by * by + bz * bz)
            for c in range(face_start[f] + 2, face_start[f + 1]):
                q = corner_point[c]
                cx, cy, cz = points[q, 0] - x, points[q, 1] - y, points[q, 2] - z
                cl = sqrt(cx * cx + cy * cy + cz * cz)
                triple = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
                ab, bc, ca = ax * bx + ay * by + az * bz, bx * cx + by * cy + bz * cz, cx * ax + cy * ay + cz * az
                total += sign * 2.0 * atan2(triple, al * bl * cl + ab * cl + bc * al + ca * bl)
                bx, by, bz, bl = cx, cy, cz, cl
        return total / (4.0 * M_PI)


cpdef double winding_beside(
    const double[:, ::1] centre, const double[:, ::1] vector, const double[::1] area, double x, double y, double z
) noexcept:
    # The winding number of faces taken as dipoles at the middle of one of them, which adds nothing itself:
    # exact enough where faces are far for their size; near ones lie almost in one plane with the point.
    cdef double dx, dy, dz, square, total
    cdef int64_t f
    with nogil:
        total = 0.0
        for f in range(len(area)):
            dx, dy, dz = centre[f, 0] - x, centre[f, 1] - y, centre[f, 2] - z
            square = dx * dx + dy * dy + dz * dz + 0.05 * area[f] + 1e-300
            total += (dx * vector[f, 0] + dy * vector[f, 1] + dz * vector[f, 2]) / (square * sqrt(square))
        return total / (4.0 * M_PI)


cpdef int64_t border_loops(
    const int32_t[::1] begin, const int32_t[::1] end, int32_t[::1] head, int32_t[::1] later, uint8_t[::1] seen,
    int64_t[::1] loop, int64_t[::1] loop_start
) noexcept:
    # Walks round holes, against the direction of the faces beside them: from an edge a-b to the border
    # edge that ends at a. head[p] chains the border edges that end at p. Only closed walks are kept.
    cdef int64_t at, filled, k, loops, start
    with nogil:
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


cpdef void part_boxes(
    const double[:, ::1] points, const int32_t[::1] corner_point, const int32_t[::1] corner_part, double[:, ::1] low,
    double[:, ::1] high
) noexcept:
    cdef double value
    cdef int64_t c, k
    with nogil:
        for c in range(len(corner_point)):
            for k in range(3):
                value = points[corner_point[c], k]
                low[corner_part[c], k] = min(low[corner_part[c], k], value)
                high[corner_part[c], k] = max(high[corner_part[c], k], value)


cpdef void shortest_edges(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    const int32_t[::1] part, const double[::1] least, double[::1] shortest
) noexcept:
    # The shortest edge of each part among those longer than the part's `least`.
    cdef double length, square
    cdef int32_t c, p, q, start, stop
    cdef int64_t f, k
    with nogil:
        for f in range(len(face_start) - 1):
            start, stop = face_start[f], face_start[f + 1]
            for c in range(start, stop):
                p, q = corner_point[c], corner_point[c + 1 if c + 1 < stop else start]
                square = 0.0
                for k in range(3):
                    square += (points[q, k] - points[p, k]) ** 2
                length = sqrt(square)
                if length > least[part[f]] and length < shortest[part[f]]:
                    shortest[part[f]] = length


cpdef void least_of_parts(
    const int32_t[::1] face_start, const int32_t[::1] corner_point, const int32_t[::1] joined,
    const int32_t[::1] part, const double[::1] limit, double[::1] tolerance
) noexcept:
    # tolerance[p] falls to the limit of every part that uses the point.
    cdef int32_t c, p
    cdef int64_t f
    with nogil:
        for f in range(len(face_start) - 1):
            for c in range(face_start[f], face_start[f + 1]):
                p = joined[corner_point[c]]
                tolerance[p] = min(tolerance[p], limit[part[f]])


cpdef void sum_regions(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    const int32_t[::1] corner_edge, const int32_t[::1] use, const int32_t[::1] region, const uint8_t[::1] turned,
    const double[::1] area, const double[:, ::1] normal, int32_t[::1] origin, double[::1] volume,
    double[::1] balance, double[::1] total, uint8_t[::1] is_open, double[:, ::1] centre
) noexcept:
    # Of every region: three times its volume about its origin (with faces turned), the area that keeps
    # its direction less the area that is turned, the area, and whether some edge has not two faces.
    cdef double height
    cdef int32_t c, r, start, stop
    cdef int64_t f, k
    with nogil:
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


cpdef int64_t grow_regions(
    const int32_t[::1] face_start, const int32_t[::1] corner_face, const int32_t[::1] corner_edge,
    const int32_t[::1] first, const int32_t[::1] later, const uint8_t[::1] open_edge, const double[:, ::1] normal,
    double least_dot, int32_t[::1] region, int32_t[::1] stack
) noexcept:
    # Faces reachable over open edges, which have two faces each, whose normal stays within the angle of the
    # seed's; a least_dot of -2 lets every normal pass.
    cdef double dot
    cdef int32_t c, e, f, g
    cdef int64_t count, depth, seed
    with nogil:
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
                    dot = normal[g, 0] * normal[seed, 0] + normal[g, 1] * normal[seed, 1]
                    dot += normal[g, 2] * normal[seed, 2]
                    if dot >= least_dot:
                        region[g] = count
                        stack[depth] = g
                        depth += 1
            count += 1
        return count
