"""Compiled loops of `flat`: faces joined into larger ones."""

from libc.math cimport sqrt
from libc.stdint cimport uint8_t, int32_t, int64_t
from zesty_otter.geometry._primitives cimport root_of


cpdef int64_t join_faces(
    const int32_t[::1] corner_face, const int32_t[::1] corner_edge, const int32_t[::1] first,
    const int32_t[::1] later, const uint8_t[::1] edge_ok, const int32_t[::1] point, const int32_t[::1] point_start,
    const int32_t[::1] point_corner, int32_t[::1] parent, int32_t[::1] size, int32_t[::1] after, int32_t[::1] before,
    uint8_t[::1] alive
) noexcept:
    # Half-edges are corners; after/before link the outline of every face. Two faces become one when the
    # edges they share make one unbroken chain and they touch nowhere else, so that every outline stays a
    # simple loop. Passes repeat until nothing changes.
    cdef bint changed, sound
    cdef int32_t a, after_a, after_b, b, before_a, before_b, c, d, head, high, k, low, n, other, p, tail
    cdef int32_t twin_head, twin_tail
    cdef int64_t e, joins, length
    with nogil:
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


cdef inline int32_t _twin(
    int32_t c, const int32_t[::1] corner_edge, const int32_t[::1] first, const int32_t[::1] later
) noexcept nogil:
    cdef int32_t e
    e = corner_edge[c]
    return later[first[e]] if first[e] == c else first[e]


cpdef int64_t drop_straight_corners(
    const int32_t[::1] corner_face, const int32_t[::1] corner_edge, const int32_t[::1] use,
    const double[:, ::1] points, const int32_t[::1] point, const int32_t[::1] point_start,
    const int32_t[::1] point_corner, const float[:, ::1] attributes, int32_t[::1] parent, int32_t[::1] size,
    const uint8_t[::1] joined_face, int32_t[::1] after, int32_t[::1] before, uint8_t[::1] alive, double least_cosine
) noexcept:
    # Leaves out points at which two outlines (or one and the border) go straight on together, in joined
    # faces only, and only where attributes run straight too.
    cdef bint fits
    cdef int32_t n, root
    cdef int64_t c, count, dropped, k, one, p, two
    with nogil:
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


cdef inline bint _straight(
    int64_t c, const double[:, ::1] points, const int32_t[::1] point, const float[:, ::1] attributes,
    const int32_t[::1] after, const int32_t[::1] before, double least_cosine
) noexcept nogil:
    cdef double al, ax, ay, az, bl, bx, by, bz, share
    cdef float end, here, start
    cdef int32_t p, q, r
    cdef int64_t k
    p, q, r = point[before[c]], point[c], point[after[c]]
    ax, ay, az = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
    bx, by, bz = points[r, 0] - points[q, 0], points[r, 1] - points[q, 1], points[r, 2] - points[q, 2]
    al, bl = sqrt(ax * ax + ay * ay + az * az), sqrt(bx * bx + by * by + bz * bz)
    if ax * bx + ay * by + az * bz < least_cosine * al * bl:
        return False
    share = al / (al + bl) if al + bl > 0.0 else 0.5
    for k in range(attributes.shape[1]):
        start, here, end = attributes[before[c], k], attributes[c, k], attributes[after[c], k]
        if abs(start + share * (end - start) - here) > 1e-4 * (abs(end - start) + 1e-3):
            return False
    return True


cpdef int64_t collect_faces(
    const int32_t[::1] corner_face, int32_t[::1] parent, const int32_t[::1] after, const uint8_t[::1] alive,
    uint8_t[::1] done, int64_t[::1] corner, int32_t[::1] face_start, int32_t[::1] face
) noexcept:
    # Faces in the order of the first face they come from, each from its first corner that is left.
    cdef int64_t c, count, filled, k
    with nogil:
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


cpdef void face_slopes(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    const float[:, ::1] values, const double[::1] area, const double[:, ::1] normal, float[:, :, ::1] slope
) noexcept:
    # How each value changes over a face along x, y and z: its flow through the outline over the area.
    cdef double middle, nx, ny, nz, ox, oy, oz, x, y, z
    cdef int32_t c, p, q, start, stop
    cdef int64_t d, f, k, n
    with nogil:
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


cpdef void keep_equal_slopes(
    const int32_t[::1] first, const int32_t[::1] later, const int32_t[::1] corner_face, const float[:, :, ::1] slope,
    const double[::1] area, double tolerance, double rounding, uint8_t[::1] mergeable
) noexcept:
    # Slopes may differ by a share of their size, or by what `rounding` of the values makes over the smaller face.
    cdef double apart, noise, size
    cdef int32_t d, f, g
    cdef int64_t e, k, n
    with nogil:
        for e in range(len(first)):
            if not mergeable[e]:
                continue
            d = later[first[e]]
            if d < 0:
                mergeable[e] = False
                continue
            f, g = corner_face[first[e]], corner_face[d]
            noise = rounding / sqrt(max(min(area[f], area[g]), 1e-300))
            for n in range(slope.shape[1]):
                size, apart = 0.0, 0.0
                for k in range(3):
                    size = max(size, abs(slope[f, n, k]), abs(slope[g, n, k]))
                    apart = max(apart, abs(slope[f, n, k] - slope[g, n, k]))
                if apart > tolerance * size + noise:
                    mergeable[e] = False
