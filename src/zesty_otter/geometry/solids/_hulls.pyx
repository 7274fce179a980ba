"""Convex hulls of few points, and cuts of triangles along a plane, compiled.

C. Barber, D. Dobkin and H. Huhdanpaa (1996), "The Quickhull algorithm for convex hulls": what stands out farthest of a
face joins, what it sees is taken away. Whether a result may be trusted is looked at when it is done; where it may not,
the caller asks a slower and surer way.
"""

from libc.math cimport fabs, sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t


# What is kept of a face, behind the three faces beyond its edges: the first of the points that wait in front of it and
# the farthest, whether it is seen, and the next face that points wait for.
cdef enum:
    WAITING = 3
    FARTHEST = 4
    SEEN = 5
    NEXT = 6
    LISTED = 7
    GONE = 2  # what SEEN says of a face that is no more; WAITING then is the next of these


cdef inline bint _put_face(
    const double[:, ::1] points, int32_t[:, ::1] faces, double[:, ::1] planes, int64_t f, int64_t a, int64_t b,
    int64_t c, double least
) noexcept nogil:
    """Writes triangle ``f`` and its plane, with the area; whether it has any."""
    cdef double ux, uy, uz, vx, vy, vz, nx, ny, nz, length
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = sqrt(nx * nx + ny * ny + nz * nz)
    if not length > least:
        return False
    nx, ny, nz = nx / length, ny / length, nz / length
    planes[f, 0], planes[f, 1], planes[f, 2] = nx, ny, nz
    planes[f, 3] = -(nx * points[a, 0] + ny * points[a, 1] + nz * points[a, 2])
    planes[f, 4] = length / 2
    faces[f, 0], faces[f, 1], faces[f, 2] = <int32_t>a, <int32_t>b, <int32_t>c
    return True


cdef inline double _above(
    const double[:, ::1] planes, int64_t f, const double[:, ::1] points, int64_t p
) noexcept nogil:
    return planes[f, 0] * points[p, 0] + planes[f, 1] * points[p, 1] + planes[f, 2] * points[p, 2] + planes[f, 3]


cdef inline int64_t _first_four(const double[:, ::1] points, int64_t *four, double slack) noexcept nogil:
    """Four points that span a volume; whether there are such."""
    cdef int64_t p
    cdef double best, value, ux, uy, uz, vx, vy, vz, nx, ny, nz, length
    four[0] = four[1] = four[2] = four[3] = 0
    for p in range(len(points)):
        if points[p, 0] < points[four[0], 0]:
            four[0] = p
        if points[p, 0] > points[four[1], 0]:
            four[1] = p
    ux = points[four[1], 0] - points[four[0], 0]
    uy = points[four[1], 1] - points[four[0], 1]
    uz = points[four[1], 2] - points[four[0], 2]
    if not ux > slack:
        return False
    best = 0.0
    for p in range(len(points)):
        vx, vy = points[p, 0] - points[four[0], 0], points[p, 1] - points[four[0], 1]
        vz = points[p, 2] - points[four[0], 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        value = nx * nx + ny * ny + nz * nz
        if value > best:
            best, four[2] = value, p
    if not best > slack * slack:
        return False
    vx = points[four[2], 0] - points[four[0], 0]
    vy = points[four[2], 1] - points[four[0], 1]
    vz = points[four[2], 2] - points[four[0], 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = sqrt(nx * nx + ny * ny + nz * nz)
    best = 0.0
    for p in range(len(points)):
        value = fabs(
            (points[p, 0] - points[four[0], 0]) * nx + (points[p, 1] - points[four[0], 1]) * ny
            + (points[p, 2] - points[four[0], 2]) * nz
        ) / length
        if value > best:
            best, four[3] = value, p
    if not best > slack:
        return False
    value = (
        (points[four[3], 0] - points[four[0], 0]) * nx + (points[four[3], 1] - points[four[0], 1]) * ny
        + (points[four[3], 2] - points[four[0], 2]) * nz
    )
    if value > 0.0:
        four[1], four[2] = four[2], four[1]
    return True


cdef inline int64_t _wait(
    const double[:, ::1] points, const double[:, ::1] planes, int32_t[:, ::1] links, double[::1] height,
    int32_t[:, ::1] chain, int64_t f, int64_t p, double slack
) noexcept nogil:
    """Lets a point wait for a face that it is in front of; whether it is."""
    cdef double above = _above(planes, f, points, p)
    if not above > slack:
        return False
    chain[p, 0] = links[f, WAITING]
    links[f, WAITING] = <int32_t>p
    if above > height[f]:
        height[f] = above
        links[f, FARTHEST] = <int32_t>p
    return True


cdef inline void _list(int32_t[:, ::1] links, int64_t f, int64_t *todo) noexcept nogil:
    if links[f, WAITING] >= 0 and not links[f, LISTED]:
        links[f, NEXT] = <int32_t>todo[0]
        links[f, LISTED] = True
        todo[0] = f


cdef inline void _turn_to(int32_t[:, ::1] links, int64_t f, int64_t before, int64_t now) noexcept nogil:
    """Face ``f`` has ``now`` beside it where ``before`` was."""
    cdef int64_t k
    for k in range(3):
        if links[f, k] == before:
            links[f, k] = <int32_t>now
            return


cdef inline int64_t _grow(
    const double[:, ::1] points, double slack, int32_t[:, ::1] faces, double[:, ::1] planes, int32_t[:, ::1] links,
    double[::1] height, int32_t[:, ::1] chain, int32_t[:, ::1] rim
) noexcept nogil:
    """The triangles of the hull of points, with gaps where faces are gone; how many places, 0 where flat or torn.

    Each edge of the rim of what a point sees is taken over by a new face; ``chain`` tells the one that begins at a
    point, behind the next of the points that wait.
    """
    cdef int64_t a, b, c, count, depth, edges, f, free, g, k, n, next_one, p, q, todo, waiting
    cdef int64_t four[4]
    if not _first_four(points, four, slack):
        return 0
    a, b, c, p = four[0], four[1], four[2], four[3]
    if not (
        _put_face(points, faces, planes, 0, a, b, c, slack * slack)
        and _put_face(points, faces, planes, 1, a, p, b, slack * slack)
        and _put_face(points, faces, planes, 2, b, p, c, slack * slack)
        and _put_face(points, faces, planes, 3, c, p, a, slack * slack)
    ):
        return 0
    links[0, 0], links[0, 1], links[0, 2] = 1, 2, 3
    links[1, 0], links[1, 1], links[1, 2] = 3, 2, 0
    links[2, 0], links[2, 1], links[2, 2] = 1, 3, 0
    links[3, 0], links[3, 1], links[3, 2] = 2, 1, 0
    count, free, todo = 4, -1, -1
    for f in range(4):
        links[f, WAITING], links[f, FARTHEST], links[f, SEEN], links[f, LISTED] = -1, -1, False, False
        height[f] = slack
    for q in range(len(points)):
        chain[q, 1] = -1
        for f in range(4):
            if _wait(points, planes, links, height, chain, f, q, slack):
                break
    for f in range(4):
        _list(links, f, &todo)
    while todo >= 0:
        f = todo
        todo = links[f, NEXT]
        links[f, LISTED] = False
        if links[f, SEEN] or links[f, WAITING] < 0:
            continue
        p = links[f, FARTHEST]
        # What is seen from there, from face to face: what is gone waits in a row to be used again.
        waiting, edges, depth = -1, 0, 1
        links[f, SEEN] = True
        rim[0, 3] = <int32_t>f
        n = 0
        while n < depth:
            f = rim[n, 3]
            n += 1
            for k in range(3):
                g = links[f, k]
                if links[g, SEEN]:
                    continue
                # No more room is given than rounding takes, or faces would meet in hollow edges.
                if _above(planes, g, points, p) > 1e-12:
                    if depth >= len(rim):
                        return 0
                    links[g, SEEN] = True
                    rim[depth, 3] = <int32_t>g
                    depth += 1
                else:
                    if edges >= len(rim):
                        return 0
                    rim[edges, 0], rim[edges, 1] = faces[f, k], faces[f, (k + 1) % 3]
                    rim[edges, 2] = <int32_t>g
                    edges += 1
                    # Until the new face is there, the old one is beside it.
                    chain[faces[f, k], 1] = -1
        for n in range(depth):
            f = rim[n, 3]
            q = links[f, WAITING]
            while q >= 0:
                next_one = chain[q, 0]
                if q != p:
                    chain[q, 0] = <int32_t>waiting
                    waiting = q
                q = next_one
        # The old faces beyond the rim know the seen ones, whose places new ones take: so these are told apart first.
        for k in range(edges):
            g = rim[k, 2]
            a, b = rim[k, 0], rim[k, 1]
            for n in range(3):
                if faces[g, n] == b and faces[g, (n + 1) % 3] == a:
                    links[g, n] = <int32_t>(-2 - k)
        for n in range(depth):
            f = rim[n, 3]
            links[f, SEEN] = GONE
            links[f, WAITING] = <int32_t>free
            free = f
        for k in range(edges):
            if free >= 0:
                f = free
                free = links[f, WAITING]
            else:
                f = count
                count += 1
                if count > len(faces):
                    return 0
                links[f, LISTED] = False
            a, b, g = rim[k, 0], rim[k, 1], rim[k, 2]
            if chain[a, 1] >= 0 or not _put_face(points, faces, planes, f, a, b, p, slack * slack):
                return 0  # the rim goes through a place twice, or straight towards the point
            chain[a, 1] = <int32_t>f
            links[f, 0] = <int32_t>g
            _turn_to(links, g, -2 - k, f)
            links[f, WAITING], links[f, FARTHEST], links[f, SEEN] = -1, -1, False
            height[f] = slack
            rim[k, 3] = <int32_t>f
        f, n = rim[0, 3], 0
        while n < edges:
            g = chain[faces[f, 1], 1]
            if g < 0 or faces[g, 0] != faces[f, 1] or faces[g, 2] != p:
                return 0
            links[f, 1] = <int32_t>g
            links[g, 2] = <int32_t>f
            f = g
            n += 1
            if f == rim[0, 3]:
                break
        if n < edges:
            return 0  # two rims: what is seen goes round something that is not
        q = waiting
        while q >= 0:
            next_one = chain[q, 0]
            for k in range(edges):
                if _wait(points, planes, links, height, chain, rim[k, 3], q, slack):
                    break
            q = next_one
        for k in range(edges):
            _list(links, rim[k, 3], &todo)
    return count


cdef inline int64_t _closed_up(
    int32_t[:, ::1] faces, double[:, ::1] planes, int32_t[:, ::1] links, int64_t count
) noexcept nogil:
    """Puts the last faces in place of those that are gone; how many there are."""
    cdef int64_t f = 0, k
    while f < count:
        if links[f, SEEN] != GONE:
            f += 1
            continue
        count -= 1
        if f == count or links[count, SEEN] == GONE:
            continue
        for k in range(3):
            faces[f, k] = faces[count, k]
            links[f, k] = links[count, k]
            _turn_to(links, links[f, k], count, f)
        for k in range(5):
            planes[f, k] = planes[count, k]
        links[f, SEEN] = False
    return count


cdef inline bint _sound(
    const double[:, ::1] points, const int32_t[:, ::1] faces, const double[:, ::1] planes, int32_t[:, ::1] chain,
    int64_t count, double slack
) noexcept nogil:
    """Whether a surface is one ball, with no point in front of any face."""
    cdef int64_t f, k, p, used = 0
    for p in range(len(points)):
        chain[p, 0] = 0
        for f in range(count):
            if _above(planes, f, points, p) > slack:
                return False
    for f in range(count):
        for k in range(3):
            chain[faces[f, k], 0] = 1
    for p in range(len(points)):
        used += chain[p, 0]
    return count == 2 * used - 4


cdef inline void _share_planes(
    const double[:, ::1] points, const int32_t[:, ::1] faces, double[:, ::1] planes, int32_t[:, ::1] links,
    int32_t[:, ::1] rim, int64_t count, double slack
) noexcept nogil:
    """Gives triangles on one plane the very same one: that of the largest, since those of slivers are crooked."""
    cdef int64_t depth, f, g, gap, k, n, seed
    cdef bint flat
    for f in range(count):
        links[f, SEEN] = False
        rim[f, 0] = <int32_t>f
    gap = count // 2
    while gap > 0:  # sorted by halving gaps, the largest first
        for n in range(gap, count):
            f, k = rim[n, 0], n
            while k >= gap and planes[rim[k - gap, 0], 4] < planes[f, 4]:
                rim[k, 0] = rim[k - gap, 0]
                k -= gap
            rim[k, 0] = <int32_t>f
        gap //= 2
    for n in range(count):
        seed = rim[n, 0]
        if links[seed, SEEN]:
            continue
        links[seed, SEEN] = True
        rim[0, 1] = <int32_t>seed
        depth = 1
        while depth > 0:
            depth -= 1
            f = rim[depth, 1]
            for k in range(3):
                g = links[f, k]
                if links[g, SEEN]:
                    continue
                flat = True
                for gap in range(3):
                    flat = flat and fabs(_above(planes, seed, points, faces[g, gap])) <= slack
                if flat:
                    links[g, SEEN] = True
                    for gap in range(4):
                        planes[g, gap] = planes[seed, gap]
                    rim[depth, 1] = <int32_t>g
                    depth += 1


cpdef (int64_t, double, double) hull(
    const double[:, ::1] points, double slack, double trust, bint shared, int32_t[:, ::1] faces, double[:, ::1] planes,
    int32_t[:, ::1] links, double[::1] height, int32_t[:, ::1] chain, int32_t[:, ::1] rim
) noexcept:
    """The triangles of the hull of points (P, 3) of a size of about one, outward: how many, their volume and area.

    None where the points lie on a plane, or some are farther in front of a face than ``trust``. What lies less than
    ``slack`` in front of a face is taken to be on it; with ``shared`` the triangles on one plane have the very same.
    ``faces`` (F, 3) and ``planes`` (F, 5), with the area last, are filled from the start; ``links`` (F, 8), ``height``
    (F,), ``chain`` (P, 2) and ``rim`` (F, 4) are room, for as many faces as two for each point and some more.
    Invariant: the living faces are a closed surface, and each knows those beyond its edges.
    """
    cdef int64_t count, f
    cdef double area = 0.0, volume = 0.0
    with nogil:
        count = _grow(points, slack, faces, planes, links, height, chain, rim)
        count = _closed_up(faces, planes, links, count)
        if not _sound(points, faces, planes, chain, count, trust):
            return 0, 0.0, 0.0
        if shared:
            _share_planes(points, faces, planes, links, rim, count, 10 * slack)
        for f in range(count):
            area += planes[f, 4]
            volume -= planes[f, 4] * _above(planes, f, points, faces[0, 0])
    return count, volume / 3, area


cpdef void above(const double[:, ::1] places, const double[:, ::1] planes, double[::1] highest) noexcept:
    """How far places (N, 3) are in front of that of planes (F, 4) they are farthest in front of."""
    cdef int64_t f, n
    with nogil:
        for n in range(len(places)):
            highest[n] = _above(planes, 0, places, n)
            for f in range(1, len(planes)):
                highest[n] = max(highest[n], _above(planes, f, places, n))


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
