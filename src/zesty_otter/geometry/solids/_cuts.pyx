"""Cuts of triangles along a plane, compiled: the points of both sides, and their triangles."""

from libc.math cimport fabs
from libc.stdint cimport int32_t, int64_t, uint8_t


cpdef (int64_t, int64_t) part(
    const double[:, ::1] points, const double[::1] height, const int32_t[:, ::1] edges, double slack,
    double[:, ::1] front, double[:, ::1] back
) noexcept:
    """The points (P, 3) in front of a plane and behind it, with the places where edges cross it; how many of each.

    ``height`` (P,) is how far in front they are, ``edges`` (E, 2); what is within ``slack`` is on both sides. ``front``
    and ``back`` have room for all points and edges.
    """
    cdef int64_t e, k, m = 0, n = 0, p
    cdef double share, there
    with nogil:
        for p in range(len(points)):
            if height[p] >= -slack:
                for k in range(3):
                    front[n, k] = points[p, k]
                n += 1
            if height[p] <= slack:
                for k in range(3):
                    back[m, k] = points[p, k]
                m += 1
        for e in range(len(edges)):
            there = height[edges[e, 0]]
            share = height[edges[e, 1]]
            if not ((there > slack and share < -slack) or (there < -slack and share > slack)):
                continue
            share = there / (there - share)
            for k in range(3):
                there = points[edges[e, 0], k] + share * (points[edges[e, 1], k] - points[edges[e, 0], k])
                front[n, k] = back[m, k] = there
            n, m = n + 1, m + 1
    return n, m


cdef inline int64_t _corner(
    const double[::1] height, const int32_t[:, ::1] edge_of, const int32_t[::1] crossing, int64_t t, int64_t side,
    int64_t p
) noexcept nogil:
    """Where a side of a triangle that ends at ``p`` meets the plane: there, when it lies on it."""
    return p if height[p] == 0.0 else crossing[edge_of[t, side]]


cdef inline int64_t _put(int32_t[:, ::1] made, int32_t[::1] of, int64_t n, int64_t t, int64_t a, int64_t b, int64_t c) \
        noexcept nogil:
    """Writes a triangle, unless it has no area; how many there are then."""
    if a == b or b == c or c == a:
        return n
    made[n, 0], made[n, 1], made[n, 2] = <int32_t>a, <int32_t>b, <int32_t>c
    of[n] = <int32_t>t
    return n + 1


cdef inline int64_t _gather(
    const double[:, ::1] points, int32_t[:, ::1] made, int64_t count, int32_t[::1] number, double[:, ::1] used
) noexcept nogil:
    """Numbers the points of triangles anew, in their order, and gathers them; how many."""
    cdef int64_t k, n, p = 0
    for n in range(len(points)):
        number[n] = -1
    for n in range(count):
        for k in range(3):
            number[made[n, k]] = 0
    for n in range(len(points)):
        if number[n] == 0:
            number[n] = <int32_t>p
            for k in range(3):
                used[p, k] = points[n, k]
            p += 1
    for n in range(count):
        for k in range(3):
            made[n, k] = number[made[n, k]]
    return p


cpdef (int64_t, int64_t, int64_t, int64_t) cut(
    double[:, ::1] points, int64_t count, const int32_t[:, ::1] triangles, const int32_t[:, ::1] edges,
    const int32_t[:, ::1] edge_of, const double[::1] height, const uint8_t[::1] ahead, int32_t[::1] crossing,
    int32_t[::1] number, int32_t[:, ::1] front, int32_t[::1] front_of, double[:, ::1] front_points,
    int32_t[:, ::1] back, int32_t[::1] back_of, double[:, ::1] back_points
) noexcept:
    """The triangles in front of a plane and those behind it, cut where they lie across.

    Of ``points`` (P + E, 3) the first ``count`` are there; places where edges (E, 2) cross the plane join them.
    ``edge_of`` (T, 3) are the edges of each triangle, ``height`` (P,) how far in front of the plane points are, 0 on
    it; a triangle in the plane is in front unless it looks ``ahead`` (T,). Both sides have room for two triangles for
    each, (2 T, 3) and (2 T,) where they come from, and for all points; ``crossing`` (E,) and ``number`` (P + E,) are
    room. Returns of each side how many triangles and points it has.
    """
    cdef int64_t a, alone, b, c, e, k, lead, m = 0, minus, n = 0, pass_, plus, t, total = count
    cdef double share
    cdef bint level
    with nogil:
        for e in range(len(edges)):
            a, b = edges[e, 0], edges[e, 1]
            if not ((height[a] > 0.0 and height[b] < 0.0) or (height[a] < 0.0 and height[b] > 0.0)):
                continue
            share = height[a] / (height[a] - height[b])
            for k in range(3):
                points[total, k] = points[a, k] + share * (points[b, k] - points[a, k])
            crossing[e] = <int32_t>total
            total += 1
        # First what is whole, then the tips of what is cut, then the two halves of the rests.
        for pass_ in range(4):
            for t in range(len(triangles)):
                plus = minus = 0
                for k in range(3):
                    plus += height[triangles[t, k]] > 0.0
                    minus += height[triangles[t, k]] < 0.0
                if plus == 0 or minus == 0:
                    if pass_ == 0:
                        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
                        level = plus == 0 and minus == 0
                        if plus > 0 or (level and not ahead[t]):
                            n = _put(front, front_of, n, t, a, b, c)
                        else:
                            m = _put(back, back_of, m, t, a, b, c)
                    continue
                # The corner that is alone on its side leads; with one on the plane that in front.
                alone = 1 if plus == 1 else -1
                lead = 0
                while height[triangles[t, lead]] * alone <= 0.0:
                    lead += 1
                a, b, c = triangles[t, lead], triangles[t, (lead + 1) % 3], triangles[t, (lead + 2) % 3]
                if pass_ == 1:
                    b = _corner(height, edge_of, crossing, t, lead, b)
                    c = _corner(height, edge_of, crossing, t, (lead + 2) % 3, c)
                elif pass_ == 2:
                    a = _corner(height, edge_of, crossing, t, lead, b)
                elif pass_ == 3:
                    a = _corner(height, edge_of, crossing, t, lead, b)
                    b = c
                    c = _corner(height, edge_of, crossing, t, (lead + 2) % 3, c)
                if pass_ > 0 and (alone > 0) == (pass_ == 1):
                    n = _put(front, front_of, n, t, a, b, c)
                elif pass_ > 0:
                    m = _put(back, back_of, m, t, a, b, c)
        a = _gather(points[:total], front, n, number, front_points)
        b = _gather(points[:total], back, m, number, back_points)
        return n, a, m, b


cpdef int64_t pick(
    const double[:, ::1] normals, const double[:, ::1] places, double[::1] weights, double near, int64_t[::1] picked
) noexcept:
    """The planes that weigh most, heaviest first; those that are nearly the same count together. How many there are.

    Each goes through a place (N, 3); the same are those whose normals are and that are not farther apart than ``near``.
    What is taken weighs nothing afterwards.
    """
    cdef double away, turn
    cdef int64_t count = 0, first, k, n
    with nogil:
        while count < len(picked):
            first = 0
            for n in range(len(weights)):
                if weights[n] > weights[first]:
                    first = n
            if len(weights) == 0 or not weights[first] > 0.0:
                break
            picked[count] = first
            count += 1
            for n in range(len(weights)):
                turn = away = 0.0
                for k in range(3):
                    turn += normals[n, k] * normals[first, k]
                    away += (places[n, k] - places[first, k]) * normals[first, k]
                if fabs(turn) > 0.998 and fabs(away) < near:
                    weights[n] = 0.0
    return count
