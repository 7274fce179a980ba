"""Triangles joined into charts, compiled.

What separates charts is a graph of cut edges. An arc of it is a run of free edges between the same two charts, from one
junction to the next. Two different charts become one by joining a single arc: a disc glued to a disc along an arc is a
disc, so that every chart is one at any time, with slits where it touches itself.
"""

from libc.math cimport INFINITY, acos, cos, fabs, fmax, fmin, sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t
from zesty_otter.geometry._primitives cimport root_of, unite

cdef enum:
    FREE = 0  # may be joined
    FEATURE = 1  # only for the sake of something small
    KEPT = 2  # never
    JOINED = 3

cdef enum:  # columns of what is known of a chart
    AREA = 0
    NORMAL = 1  # three
    SPREAD = 4  # six: xx, yy, zz, xy, xz, yz
    RIM = 10  # length of all its sides
    MOST = 11  # area it may have
    COLUMNS = 12


cdef inline double _least_spread(double xx, double yy, double zz, double xy, double xz, double yz) noexcept nogil:
    """The smallest eigenvalue of a symmetric matrix (O. K. Smith, 1961)."""
    cdef double a, b, c, det, mean, off, p, r
    mean = (xx + yy + zz) / 3
    off = xy * xy + xz * xz + yz * yz
    a, b, c = xx - mean, yy - mean, zz - mean
    p = sqrt((a * a + b * b + c * c + 2 * off) / 6)
    if p <= 1e-300:
        return mean
    det = a * (b * c - yz * yz) - xy * (xy * c - yz * xz) + xz * (xy * yz - b * xz)
    r = fmin(fmax(det / (2 * p * p * p), -1.0), 1.0)
    return mean + 2 * p * cos(acos(r) / 3 + 2.0943951023931953)


cdef inline double _unrolled(const double[:, ::1] known, int64_t a, int64_t b, double bend, double turn) noexcept nogil:
    """How far two charts together are from what can be laid out flat, 1 where it is too far.

    Flat is what has its normals on a circle, such as a cylinder or a cone (D. Julius, V. Kraevoy and A. Sheffer,
    2005), and also what looks to one side (``turn``: how much shorter the mean normal may be).
    """
    cdef double area, spread, x, y, z
    area = known[a, AREA] + known[b, AREA]
    if area <= 0.0:
        return 0.0
    x = (known[a, NORMAL] + known[b, NORMAL]) / area
    y = (known[a, NORMAL + 1] + known[b, NORMAL + 1]) / area
    z = (known[a, NORMAL + 2] + known[b, NORMAL + 2]) / area
    spread = _least_spread(
        (known[a, SPREAD] + known[b, SPREAD]) / area - x * x,
        (known[a, SPREAD + 1] + known[b, SPREAD + 1]) / area - y * y,
        (known[a, SPREAD + 2] + known[b, SPREAD + 2]) / area - z * z,
        (known[a, SPREAD + 3] + known[b, SPREAD + 3]) / area - x * y,
        (known[a, SPREAD + 4] + known[b, SPREAD + 4]) / area - x * z,
        (known[a, SPREAD + 5] + known[b, SPREAD + 5]) / area - y * z,
    )
    return fmin(fabs(spread) / bend, (1.0 - sqrt(x * x + y * y + z * z)) / turn)


cdef inline double _round(const double[:, ::1] known, int64_t a, int64_t b, double length) noexcept nogil:
    """How much more rim two charts together have than a circle."""
    cdef double area, rim
    area = known[a, AREA] + known[b, AREA]
    rim = known[a, RIM] + known[b, RIM] - 2 * length
    return rim / sqrt(12.566370614359172 * area + 1e-300)


cdef inline bint _before(const double[::1] key, int32_t a, int32_t b) noexcept nogil:
    return key[a] < key[b] or (key[a] == key[b] and a < b)


cdef inline void _settle(
    const double[::1] key, int32_t[::1] heap, int32_t[::1] place, int64_t size, int64_t at
) noexcept nogil:
    """Moves what is at a place of a heap to where its key belongs; ``place`` says where everything is."""
    cdef int64_t child
    cdef int32_t item = heap[at]
    while at > 0 and _before(key, item, heap[(at - 1) // 2]):
        heap[at] = heap[(at - 1) // 2]
        place[heap[at]] = <int32_t>at
        at = (at - 1) // 2
    while 2 * at + 1 < size:
        child = 2 * at + 1
        if child + 1 < size and _before(key, heap[child + 1], heap[child]):
            child += 1
        if not _before(key, heap[child], item):
            break
        heap[at] = heap[child]
        place[heap[at]] = <int32_t>at
        at = child
    heap[at] = item
    place[item] = <int32_t>at


cdef inline double _cost(
    const double[:, ::1] known, const double[:, ::1] arcs, const uint8_t[::1] state, int64_t arc, int64_t a, int64_t b,
    double bend, double turn, double small
) noexcept nogil:
    """What joining two charts along an arc costs; infinite where they do not go together."""
    cdef double unrolled
    if state[arc] == FEATURE and fmin(known[a, AREA], known[b, AREA]) > small:
        return INFINITY
    unrolled = _unrolled(known, a, b, bend, turn)
    if unrolled > 1.0 or known[a, AREA] + known[b, AREA] > fmin(known[a, MOST], known[b, MOST]):
        return INFINITY
    return unrolled + 0.5 * arcs[arc, 1] / arcs[arc, 0] + 0.05 * _round(known, a, b, arcs[arc, 0])


cpdef void join_charts(
    const int32_t[:, ::1] edge_triangles, const int32_t[:, ::1] edge_points, const int32_t[::1] around_start,
    const int32_t[::1] around, double bend, double turn, double small, double[:, ::1] known, int32_t[::1] parent,
    uint8_t[::1] state, int32_t[::1] valence, double[:, ::1] arcs, int32_t[:, ::1] ends, int32_t[::1] arc_of,
    int32_t[::1] following, int32_t[::1] last, int32_t[::1] count, double[::1] key, int32_t[::1] heap,
    int32_t[::1] place
) noexcept:
    """Joins charts, the cheapest first, as long as any two go together.

    ``edge_triangles`` and ``edge_points`` (E, 2); ``around`` lists the edges at each point from ``around_start`` on;
    ``known`` (T, 12) is of the chart whose root a triangle is; ``state`` (E,) becomes 3 for joined edges; ``valence``
    (P,) counts the edges at each point that are not joined; ``arcs`` (E, 2) has the length of each, and its sharpness
    times that. The rest is room: ``ends`` (E, 2), ``arc_of`` to ``place`` (E,). Invariant: every chart is a disc.
    """
    cdef double cost
    cdef int32_t a, arc, b, e, first, other, second, v
    cdef int64_t end, k, n, size = 0
    with nogil:
        for n in range(len(edge_triangles)):
            arc_of[n], following[n], last[n], count[n], place[n] = <int32_t>n, -1, <int32_t>n, 1, -1
            ends[n, 0], ends[n, 1] = edge_points[n, 0], edge_points[n, 1]
            if (state[n] == FREE or state[n] == FEATURE) and arcs[n, 0] > 0.0:
                a, b = <int32_t>root_of(parent, edge_triangles[n, 0]), <int32_t>root_of(parent, edge_triangles[n, 1])
                key[n] = INFINITY if a == b else _cost(known, arcs, state, n, a, b, bend, turn, small)
                if key[n] < INFINITY:
                    heap[size] = <int32_t>n
                    size += 1
                    _settle(key, heap, place, size, size - 1)
        while size > 0:
            arc = heap[0]
            size -= 1
            place[arc] = -1
            if size > 0:
                heap[0] = heap[size]
                _settle(key, heap, place, size, 0)
            if arc_of[arc] != arc:
                continue  # part of another one by now
            a, b = <int32_t>root_of(parent, edge_triangles[arc, 0]), <int32_t>root_of(parent, edge_triangles[arc, 1])
            if a == b or (ends[arc, 0] == ends[arc, 1] and valence[ends[arc, 0]] == 2):
                continue  # a slit, or all that a closed surface still has
            cost = _cost(known, arcs, state, arc, a, b, bend, turn, small)
            if cost == INFINITY:
                continue
            if size > 0 and cost > key[arc] and cost > 1.02 * key[heap[0]]:
                key[arc], heap[size] = cost, arc
                size += 1
                _settle(key, heap, place, size, size - 1)
                continue
            unite(parent, a, b)
            if a > b:
                a, b = b, a
            for k in range(RIM):
                known[a, k] += known[b, k]
            known[a, RIM] += known[b, RIM] - 2 * arcs[arc, 0]
            known[a, MOST] = fmin(known[a, MOST], known[b, MOST])
            e = arc
            while e >= 0:
                state[e] = JOINED
                valence[edge_points[e, 0]] -= 1
                valence[edge_points[e, 1]] -= 1
                e = following[e]
            for end in range(2):
                v = ends[arc, end]
                if valence[v] != 2 or (end == 1 and ends[arc, 0] == v):
                    continue
                first, second = -1, -1
                for k in range(around_start[v], around_start[v + 1]):
                    e = around[k]
                    if state[e] != JOINED:
                        if first < 0:
                            first = arc_of[e]
                        else:
                            second = arc_of[e]
                if second < 0 or first == second or state[first] == KEPT or state[first] != state[second]:
                    continue
                if count[first] < count[second] or (count[first] == count[second] and second < first):
                    first, second = second, first
                other = ends[second, 0] if ends[second, 1] == v else ends[second, 1]
                if ends[first, 0] == v:
                    ends[first, 0] = other
                else:
                    ends[first, 1] = other
                e = second
                while e >= 0:
                    arc_of[e] = first
                    e = following[e]
                following[last[first]], last[first] = second, last[second]
                count[first] += count[second]
                arcs[first, 0] += arcs[second, 0]
                arcs[first, 1] += arcs[second, 1]
                a = <int32_t>root_of(parent, edge_triangles[first, 0])
                b = <int32_t>root_of(parent, edge_triangles[first, 1])
                cost = INFINITY if a == b else _cost(known, arcs, state, first, a, b, bend, turn, small)
                if cost < INFINITY:
                    key[first] = cost
                    if place[first] < 0:
                        heap[size] = first
                        place[first] = <int32_t>size
                        size += 1
                    _settle(key, heap, place, size, place[first])


cpdef void close_slits(
    const int32_t[:, ::1] edge_points, const int32_t[:, ::1] edge_triangles, const int32_t[::1] around_start,
    const int32_t[::1] around, const double[::1] bulge, double most, const double[::1] most_of_chart, int32_t[::1] parent,
    double[::1] held, uint8_t[::1] state, int32_t[::1] valence
) noexcept:
    """Joins the edges of slits from their loose ends on, as long as the surface there can be laid out without them.

    ``bulge`` (P,) is how far the angles at each point are from a full turn; ``held`` (T,) its sum within each chart,
    by root, and ``most_of_chart`` (T,) what that may come to. Invariant: a slit has one loose end, so that what is joined stays a disc.
    """
    cdef int32_t chart, e, v
    cdef int64_t k, start
    with nogil:
        for start in range(len(valence)):
            v = <int32_t>start
            while valence[v] == 1:
                e = -1
                for k in range(around_start[v], around_start[v + 1]):
                    if state[around[k]] != JOINED:
                        e = around[k]
                if e < 0 or state[e] == KEPT:
                    break
                chart = <int32_t>root_of(parent, edge_triangles[e, 0])
                if chart != root_of(parent, edge_triangles[e, 1]):
                    break
                # Over a saddle a slit would lie over itself.
                if bulge[v] > most or (bulge[v] > 0.0 and held[chart] + bulge[v] > most_of_chart[chart]):
                    break
                held[chart] += bulge[v]
                state[e] = JOINED
                valence[v] = 0
                v = edge_points[e, 1] if edge_points[e, 0] == v else edge_points[e, 0]
                valence[v] -= 1


cpdef void unite_pairs(const int32_t[:, ::1] pairs, int32_t[::1] parent) noexcept:
    cdef int64_t n
    with nogil:
        for n in range(len(pairs)):
            unite(parent, pairs[n, 0], pairs[n, 1])


cpdef void unite_corners(
    const uint8_t[::1] state, const int32_t[:, ::1] sides, const int32_t[:, ::1] corners, int32_t[::1] parent
) noexcept:
    """Makes corners one that lie at the same end of a joined edge.

    ``sides`` (E, 2) are the rows of ``corners``, counted in threes, that its two triangles begin the edge at.
    """
    cdef int32_t a, a_next, b, b_next
    cdef int64_t e, i, j
    with nogil:
        for e in range(len(state)):
            if state[e] == JOINED:
                i, j = sides[e, 0], sides[e, 1]
                a, a_next = corners[i // 3, i % 3], corners[i // 3, (i + 1) % 3]
                b, b_next = corners[j // 3, j % 3], corners[j // 3, (j + 1) % 3]
                unite(parent, a, b_next)
                unite(parent, a_next, b)
