"""Nearest triangles, found in a tree of boxes by compiled code."""

from libc.math cimport INFINITY, sqrt
from libc.stdint cimport int32_t, int64_t, uint64_t, uint8_t
from zesty_otter.geometry._primitives cimport nearest_in_triangle
from zesty_otter.geometry.queries._boxes cimport DEEP, held, put_nearest_last, put_top, zo_nearer, zo_put, zo_spot

cpdef enum:
    LEAF = 4  # triangles in a leaf


cdef void _select(
    float[:, ::1] boxes, int64_t[::1] order, int64_t first, int64_t k, int64_t last, int64_t axis
) noexcept nogil:
    """Brings rows ``first`` to ``last`` into an order in which no middle before ``k`` lies beyond one from it on.

    C. A. R. Hoare (1961), "Algorithm 65: Find".
    """
    cdef float a, b, c, pivot
    cdef int64_t i, j, n
    cdef uint64_t dice = 1
    while first < last:
        # The middle one of three, of which two are drawn by lot, so that no order of triangles is a bad one.
        dice = dice * 6364136223846793005ULL + 1442695040888963407ULL
        a = boxes[first + <int64_t>((dice >> 33) % <uint64_t>(last - first + 1)), axis]
        dice = dice * 6364136223846793005ULL + 1442695040888963407ULL
        b = boxes[first + <int64_t>((dice >> 33) % <uint64_t>(last - first + 1)), axis]
        c = boxes[(first + last) // 2, axis]
        pivot = max(min(a, b), min(max(a, b), c))
        i, j = first, last
        while i <= j:
            while boxes[i, axis] < pivot:
                i += 1
            while boxes[j, axis] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                for n in range(6):
                    a = boxes[i, n]
                    boxes[i, n], boxes[j, n] = boxes[j, n], a
                i += 1
                j -= 1
        if k <= j:
            last = j
        elif k >= i:
            first = i
        else:
            return


cdef int64_t _best_axis(const float[:, ::1] boxes, int64_t first, int64_t stop) noexcept nogil:
    """The axis along which halves are likely to have the smallest surface, by how far middles and how large boxes are.

    What a ray or a place meets of a box is as likely as its surface is large. J. Goldsmith and J. Salmon (1987),
    "Automatic creation of object hierarchies for ray tracing".
    """
    cdef double area, least = INFINITY
    cdef double[3] half, whole
    cdef float high, low, size
    cdef int64_t axis, best = 0, i, j, k
    for axis in range(3):
        low = high = boxes[first, axis]
        size = 0.0
        for i in range(first, stop):
            low, high = min(low, boxes[i, axis]), max(high, boxes[i, axis])
            size += boxes[i, 3 + axis]
        size /= stop - first
        half[axis], whole[axis] = 0.5 * (high - low) + size, (high - low) + size
    for axis in range(3):
        j, k = (axis + 1) % 3, (axis + 2) % 3
        area = half[axis] * (whole[j] + whole[k]) + whole[j] * whole[k]
        if area < least:
            best, least = axis, area
    return best


cpdef void order_by_halves(
    const double[:, ::1] corners, int64_t leaves, float[:, ::1] boxes, int64_t[::1] order
) noexcept:
    """Puts triangles in the order of a tree, each node of which is halved so that its boxes become small.

    ``boxes`` (T, 6) is room for their middles and sizes, as shares of all. In the order of a curve that fills space
    triangles are as near each other, but boxes of parts of it overlap far more, and questions take half as long again.
    """
    cdef double high, low, size = 0.0
    cdef double[3] start
    cdef int64_t c, half, i, j, room, stop, top
    cdef int64_t[64] firsts, stops, rooms
    with nogil:
        for j in range(3):
            low, high = INFINITY, -INFINITY
            for i in range(len(corners)):
                for c in range(3):
                    low, high = min(low, corners[i, 3 * c + j]), max(high, corners[i, 3 * c + j])
            start[j] = low
            size = max(size, high - low)
        size = 1.0 / size if size > 1e-300 else 1.0
        for i in range(len(corners)):
            order[i] = i
            for j in range(3):
                low = min(corners[i, j], corners[i, 3 + j], corners[i, 6 + j]) - start[j]
                high = max(corners[i, j], corners[i, 3 + j], corners[i, 6 + j]) - start[j]
                boxes[i, j], boxes[i, 3 + j] = <float>(0.5 * (low + high) * size), <float>((high - low) * size)
        firsts[0], stops[0], rooms[0], top = 0, len(corners), leaves, 1
        while top > 0:
            top -= 1
            i, stop, room = firsts[top], stops[top], rooms[top]
            half = LEAF * (room // 2)
            while room > 1 and stop - i <= half:  # what lies behind is empty
                room //= 2
                half = LEAF * (room // 2)
            if room > 1:
                _select(boxes, order, i, i + half, stop - 1, _best_axis(boxes, i, stop))
                firsts[top], stops[top], rooms[top] = i, i + half, room // 2
                firsts[top + 1], stops[top + 1], rooms[top + 1] = i + half, stop, room // 2
                top += 2


cpdef void fill_boxes(const double[:, ::1] corners, double[:, ::1] boxes, int64_t leaves) noexcept:
    """Boxes of a complete binary tree: node 1 is the root, 2 n and 2 n + 1 are below n, leaf k is leaves + k."""
    cdef int64_t c, j, k, n, t
    with nogil:
        for k in range(leaves):
            for j in range(3):
                boxes[leaves + k, j], boxes[leaves + k, 3 + j] = INFINITY, -INFINITY
            for t in range(LEAF * k, min(LEAF * k + LEAF, len(corners))):
                for c in range(9):
                    j = c % 3
                    boxes[leaves + k, j] = min(boxes[leaves + k, j], corners[t, c])
                    boxes[leaves + k, 3 + j] = max(boxes[leaves + k, 3 + j], corners[t, c])
        for n in range(leaves - 1, 0, -1):
            for j in range(3):
                boxes[n, j] = min(boxes[2 * n, j], boxes[2 * n + 1, j])
                boxes[n, 3 + j] = max(boxes[2 * n, 3 + j], boxes[2 * n + 1, 3 + j])


cpdef void fill_groups(
    const double[:, ::1] corners, const double[:, ::1] boxes, int64_t leaves, float[:, ::1] groups
) noexcept:
    """Of each node n the boxes of its nodes 4 n to 4 n + 3, of each leaf those of its triangles, as `_boxes` says."""
    cdef double high, low, room = 0.0
    cdef int64_t c, j, k, n, t
    with nogil:
        for j in range(3):
            room = max(room, -boxes[1, j], boxes[1, 3 + j])
        room = 1e-7 * room + 1e-37
        for n in range(1, 2 * leaves):
            if leaves // 2 <= n < leaves:
                continue  # right above the leaves, where no group is looked at
            for k in range(4):
                for j in range(3):
                    if n >= leaves:
                        t = 4 * (n - leaves) + k
                        low, high = INFINITY, -INFINITY
                        if t < len(corners):
                            for c in range(3):
                                low, high = min(low, corners[t, 3 * c + j]), max(high, corners[t, 3 * c + j])
                    else:
                        low, high = boxes[4 * n + k, j], boxes[4 * n + k, 3 + j]
                    # What holds nothing is a place that nothing comes near.
                    groups[n, 4 * j + k] = <float>(low - room) if low <= high else <float>1e30
                    groups[n, 12 + 4 * j + k] = <float>(high + room) if low <= high else <float>1e30


cdef inline double _to_triangle(
    const double[:, ::1] corners, int64_t t, double x, double y, double z, double *shares
) noexcept nogil:
    """Squared distance of a position to a triangle; ``shares`` are those of its last two corners in what is nearest."""
    cdef double d
    d, shares[0], shares[1] = nearest_in_triangle(
        corners[t, 0], corners[t, 1], corners[t, 2], corners[t, 3], corners[t, 4], corners[t, 5],
        corners[t, 6], corners[t, 7], corners[t, 8], x, y, z,
    )
    return d


cdef inline bint _faces(const double[:, ::1] corners, int64_t t, double x, double y, double z) noexcept nogil:
    """Whether a triangle faces a direction."""
    cdef double ax, ay, az, bx, by, bz
    ax, ay, az = corners[t, 3] - corners[t, 0], corners[t, 4] - corners[t, 1], corners[t, 5] - corners[t, 2]
    bx, by, bz = corners[t, 6] - corners[t, 0], corners[t, 7] - corners[t, 1], corners[t, 8] - corners[t, 2]
    return (ay * bz - az * by) * x + (az * bx - ax * bz) * y + (ax * by - ay * bx) * z > 0.0


cpdef void nearest(
    const double[:, ::1] samples, const int64_t[::1] order, const double[:, ::1] facing, const double[:, ::1] corners,
    const int64_t[::1] numbers, const float[:, ::1] groups, int64_t leaves, double[::1] distance,
    int64_t[::1] triangle, double[:, ::1] shares
) noexcept:
    """The nearest triangle of each sample in an order, in which those near each other should follow each other.

    Where there are directions to be faced, other triangles do not count; the triangle is -1 when none does, else what
    ``numbers`` (T,) calls it.
    """
    cdef bint any_side = len(facing) == 0
    cdef double best, d, s, t, x, y, z
    cdef double[2] own
    cdef float[4] away
    cdef float[DEEP] waiting
    cdef int met
    cdef int64_t found, guess = 0, i, j, k, n, size, which
    cdef int64_t[DEEP] stack
    cdef zo_spot spot
    with nogil:
        for j in range(len(order)):
            i = order[j]
            x, y, z = samples[i, 0], samples[i, 1], samples[i, 2]
            zo_put(&spot, x, y, z)
            # What was nearest to the sample before is not far now.
            best = _to_triangle(corners, guess, x, y, z, own)
            s, t = own[0], own[1]
            if not any_side and not _faces(corners, guess, facing[i, 0], facing[i, 1], facing[i, 2]):
                best, found = INFINITY, -1
            else:
                found = guess
            size = put_top(leaves, stack)
            waiting[0] = waiting[1] = 0.0
            while size > 0 and best > 0.0:
                size -= 1
                n = stack[size]
                if waiting[size] > best * 1.000001:
                    continue
                met = zo_nearer(&groups[n, 0], &spot, best, away)
                if n < leaves:
                    size += put_nearest_last(n, met, away, stack + size, waiting + size)
                    continue
                met = held(met, 4 * (n - leaves), len(corners))
                for k in range(4):
                    if met >> k & 1:
                        which = 4 * (n - leaves) + k
                        d = _to_triangle(corners, which, x, y, z, own)
                        if d < best and (
                            any_side or _faces(corners, which, facing[i, 0], facing[i, 1], facing[i, 2])
                        ):
                            best, guess, s, t = d, which, own[0], own[1]
                            found = which
            distance[i] = sqrt(best)
            triangle[i] = -1 if found < 0 else numbers[found]
            shares[i, 0], shares[i, 1], shares[i, 2] = 1.0 - (s + t), s, t


cpdef void find_far(
    const double[:, ::1] places, double limit, const double[:, ::1] corners, const float[:, ::1] groups,
    int64_t leaves, uint8_t[::1] far
) noexcept:
    """Whether each place is farther from every triangle than a limit; one near triangle ends the search for it."""
    cdef double bound = limit * limit, x, y, z
    cdef double[2] own
    cdef float[4] away
    cdef float[DEEP] waiting
    cdef int met
    cdef int64_t guess = 0, i, k, n, size
    cdef int64_t[DEEP] stack
    cdef zo_spot spot
    cdef bint near
    with nogil:
        for i in range(len(places)):
            x, y, z = places[i, 0], places[i, 1], places[i, 2]
            zo_put(&spot, x, y, z)
            # What was near to the place before mostly is near to this one.
            near = _to_triangle(corners, guess, x, y, z, own) <= bound
            size = put_top(leaves, stack)
            while size > 0 and not near:
                size -= 1
                n = stack[size]
                met = zo_nearer(&groups[n, 0], &spot, bound, away)
                if n < leaves:
                    size += put_nearest_last(n, met, away, stack + size, waiting + size)
                    continue
                met = held(met, 4 * (n - leaves), len(corners))
                for k in range(4):
                    if met >> k & 1 and _to_triangle(corners, 4 * (n - leaves) + k, x, y, z, own) <= bound:
                        near, guess = True, 4 * (n - leaves) + k
                        break
            far[i] = not near


cpdef int64_t sample(
    const double[:, ::1] points, const int32_t[:, ::1] triangles, int64_t count, double[::1] upto, int32_t[::1] first,
    double[:, ::1] position, int64_t[::1] triangle, double[:, ::1] shares
) noexcept:
    """Fills in ``count`` places spread over triangles by area, then their corners; how many there are in all.

    Of more corners than ``count`` every second, third or n-th is taken. ``upto`` (T,) is room for areas summed up,
    ``first`` (P,) for the corner that each point comes at first.
    """
    cdef int64_t c, corners = 0, k, n, t = 0, thin, total = count, which = 0
    cdef double area = 0.0, nx, ny, nz, s, u, wanted
    cdef double ux, uy, uz, vx, vy, vz
    with nogil:
        for n in range(len(first)):
            first[n] = -1
        for t in range(len(triangles)):
            for k in range(3):
                n = triangles[t, k]
                if first[n] < 0:
                    first[n] = <int32_t>(3 * t + k)
                    corners += 1
            ux = points[triangles[t, 1], 0] - points[triangles[t, 0], 0]
            uy = points[triangles[t, 1], 1] - points[triangles[t, 0], 1]
            uz = points[triangles[t, 1], 2] - points[triangles[t, 0], 2]
            vx = points[triangles[t, 2], 0] - points[triangles[t, 0], 0]
            vy = points[triangles[t, 2], 1] - points[triangles[t, 0], 1]
            vz = points[triangles[t, 2], 2] - points[triangles[t, 0], 2]
            nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            area += sqrt(nx * nx + ny * ny + nz * nz) / 2
            upto[t] = area
        t = 0
        for n in range(count):
            if area > 0.0:
                wanted = (n + 0.5) / count * area
                while t < len(triangles) - 1 and upto[t] < wanted:
                    t += 1
            else:
                t = n % len(triangles)
            s, u = n * 0.7548776662466927, n * 0.5698402909980532
            s, u = s - <int64_t>s, u - <int64_t>u
            if s + u > 1.0:
                s, u = 1.0 - s, 1.0 - u
            triangle[n], shares[n, 0], shares[n, 1], shares[n, 2] = t, 1.0 - s - u, s, u
        thin = (corners + count - 1) // count if corners > count else 1
        for n in range(len(first)):
            c = first[n]
            if c < 0:
                continue
            if which % thin == 0:
                triangle[total] = c // 3
                for k in range(3):
                    shares[total, k] = k == c % 3
                total += 1
            which += 1
        for n in range(total):
            t = triangle[n]
            for k in range(3):
                position[n, k] = (
                    shares[n, 0] * points[triangles[t, 0], k] + shares[n, 1] * points[triangles[t, 1], k]
                    + shares[n, 2] * points[triangles[t, 2], k]
                )
    return total
