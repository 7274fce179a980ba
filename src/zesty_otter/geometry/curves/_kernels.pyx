"""Compiled loops of `delaunay`, on whole numbers so that no side is ever taken for the other, and of `splines`.

Triangles are rows of `corner`, counter-clockwise; `beside` holds the triangle across the side that lies opposite to each
corner, and `fixed` what is known of that side: bit 0, it has to stay; bit 1, it parts inside from outside.
"""

from libc.stdint cimport int32_t, int64_t, uint8_t


cdef enum:
    _FIXED = 1
    _PARTS = 2

cdef int32_t[5] _NEXT = [1, 2, 0, 1, 2]


cdef inline int64_t _side(const int32_t[:, ::1] place, int32_t a, int32_t b, int32_t c) noexcept nogil:
    # Twice the area of a triangle; exact, as places lie within 2 ** 29.
    return (
        (<int64_t> place[b, 0] - place[a, 0]) * (<int64_t> place[c, 1] - place[a, 1])
        - (<int64_t> place[b, 1] - place[a, 1]) * (<int64_t> place[c, 0] - place[a, 0])
    )


cdef inline bint _is_in_circle(
    const int32_t[:, ::1] place, int32_t a, int32_t b, int32_t c, int32_t d
) noexcept nogil:
    # Whether d clearly lies within the circle around a triangle: what is near it is left alone, so that flips end.
    cdef double ax = <double> place[a, 0] - place[d, 0], ay = <double> place[a, 1] - place[d, 1]
    cdef double bx = <double> place[b, 0] - place[d, 0], by = <double> place[b, 1] - place[d, 1]
    cdef double cx = <double> place[c, 0] - place[d, 0], cy = <double> place[c, 1] - place[d, 1]
    cdef double aa = ax * ax + ay * ay, bb = bx * bx + by * by, cc = cx * cx + cy * cy
    cdef double first = aa * (bx * cy - by * cx), second = bb * (cx * ay - cy * ax), third = cc * (ax * by - ay * bx)
    cdef double size = (
        aa * (abs(bx * cy) + abs(by * cx)) + bb * (abs(cx * ay) + abs(cy * ax)) + cc * (abs(ax * by) + abs(ay * bx))
    )
    return first + second + third > 1e-12 * size


cdef inline double abs(double value) noexcept nogil:
    return value if value >= 0 else -value


cdef inline int32_t _index(const int32_t[:, ::1] rows, int32_t row, int32_t value) noexcept nogil:
    return 0 if rows[row, 0] == value else 1 if rows[row, 1] == value else 2


cdef inline void _point_back(int32_t[:, ::1] beside, int32_t of, int32_t old, int32_t new) noexcept nogil:
    if of >= 0:
        beside[of, _index(beside, of, old)] = new


cdef void _flip(
    int32_t[:, ::1] corner, int32_t[:, ::1] beside, uint8_t[:, ::1] fixed, int32_t[::1] at, int32_t t, int32_t k
) noexcept nogil:
    # (p, a, b) and (q, b, a) become (p, a, q) and (q, b, p).
    cdef int32_t n = beside[t, k]
    cdef int32_t j = _index(beside, n, t)
    cdef int32_t k1 = _NEXT[k], k2 = _NEXT[k + 1], j1 = _NEXT[j], j2 = _NEXT[j + 1]
    cdef int32_t p = corner[t, k], a = corner[t, k1], b = corner[t, k2], q = corner[n, j]
    cdef int32_t bp = beside[t, k1], pa = beside[t, k2], aq = beside[n, j1], qb = beside[n, j2]
    cdef uint8_t fixed_bp = fixed[t, k1], fixed_pa = fixed[t, k2], fixed_aq = fixed[n, j1], fixed_qb = fixed[n, j2]
    corner[t, 0], corner[t, 1], corner[t, 2] = p, a, q
    corner[n, 0], corner[n, 1], corner[n, 2] = q, b, p
    beside[t, 0], beside[t, 1], beside[t, 2] = aq, n, pa
    beside[n, 0], beside[n, 1], beside[n, 2] = bp, t, qb
    fixed[t, 0], fixed[t, 1], fixed[t, 2] = fixed_aq, 0, fixed_pa
    fixed[n, 0], fixed[n, 1], fixed[n, 2] = fixed_bp, 0, fixed_qb
    _point_back(beside, aq, n, t)
    _point_back(beside, bp, t, n)
    at[p] = at[a] = t
    at[q] = at[b] = n


cdef void _legalise(
    const int32_t[:, ::1] place, int32_t[:, ::1] corner, int32_t[:, ::1] beside, uint8_t[:, ::1] fixed,
    int32_t[::1] at, int32_t[::1] stack, int64_t waiting, int64_t most
) noexcept nogil:
    # Sides on the stack (3 t + k) are flipped until no triangle's circle holds the corner across.
    cdef int32_t t, k, n, q
    while waiting > 0 and most > 0:
        waiting -= 1
        most -= 1
        t = stack[waiting] // 3
        k = stack[waiting] % 3
        n = beside[t, k]
        if n < 0 or fixed[t, k]:
            continue
        q = corner[n, _index(beside, n, t)]
        if not _is_in_circle(place, corner[t, 0], corner[t, 1], corner[t, 2], q):
            continue
        _flip(corner, beside, fixed, at, t, k)
        # The two triangles are (p, a, q) and (q, b, p); their sides across may hold others now.
        if waiting + 4 <= len(stack):
            stack[waiting] = 3 * t
            stack[waiting + 1] = 3 * t + 2
            stack[waiting + 2] = 3 * n
            stack[waiting + 3] = 3 * n + 2
            waiting += 4


cpdef int64_t insert(
    const int32_t[:, ::1] place, int32_t[:, ::1] corner, int32_t[:, ::1] beside, uint8_t[:, ::1] fixed,
    int32_t[::1] at, int32_t[::1] stack, int32_t[::1] same
) noexcept:
    """Triangulates places; the first three are a triangle around all others. Returns the number of triangles.

    ``same`` gets the place each one lies at, itself or an earlier one. Places are quicker in an order along a curve.
    """
    cdef int64_t count = 1, size = len(place), steps, waiting
    cdef int32_t p, t = 0, k, n, j, a, b, c, q, u, v, ab, bc, ca, nq, qa, moved
    cdef int64_t side
    with nogil:
        for k in range(3):
            corner[0, k] = same[k] = k
            beside[0, k] = -1
            at[k] = 0
        for p in range(3, size):
            same[p] = p
            moved = 1
            steps = 0
            while moved and steps < 4 * count + 16:
                moved = 0
                for k in range(3):
                    # Begins at another side each time, so that walks do not run in circles.
                    j = <int32_t> ((k + steps) % 3)
                    if _side(place, corner[t, _NEXT[j]], corner[t, _NEXT[j + 1]], p) < 0:
                        t = beside[t, j]
                        moved = 1
                        break
                steps += 1
            j = -1
            for k in range(3):
                side = _side(place, corner[t, _NEXT[k]], corner[t, _NEXT[k + 1]], p)
                if side == 0:
                    if j >= 0:
                        same[p] = corner[t, 3 - j - k]
                    j = k
            if same[p] != p:
                continue
            if j < 0:
                a, b, c = corner[t, 0], corner[t, 1], corner[t, 2]
                bc, ca, ab = beside[t, 0], beside[t, 1], beside[t, 2]
                u, v = <int32_t> count, <int32_t> count + 1
                count += 2
                corner[t, 0], corner[t, 1], corner[t, 2] = p, b, c
                beside[t, 0], beside[t, 1], beside[t, 2] = bc, u, v
                corner[u, 0], corner[u, 1], corner[u, 2] = p, c, a
                beside[u, 0], beside[u, 1], beside[u, 2] = ca, v, t
                corner[v, 0], corner[v, 1], corner[v, 2] = p, a, b
                beside[v, 0], beside[v, 1], beside[v, 2] = ab, t, u
                _point_back(beside, ca, t, u)
                _point_back(beside, ab, t, v)
                at[p] = at[b] = at[c] = t
                at[a] = u
                stack[0], stack[1], stack[2] = 3 * t, 3 * u, 3 * v
                waiting = 3
            else:
                # On the side opposite to corner j, which no side of the triangle around all is.
                n = beside[t, j]
                k = _index(beside, n, t)
                a, b, c, q = corner[t, j], corner[t, _NEXT[j]], corner[t, _NEXT[j + 1]], corner[n, k]
                ca, ab = beside[t, _NEXT[j]], beside[t, _NEXT[j + 1]]
                # n is (q, c, b).
                nq, qa = beside[n, _NEXT[k]], beside[n, _NEXT[k + 1]]
                u, v = <int32_t> count, <int32_t> count + 1
                count += 2
                corner[t, 0], corner[t, 1], corner[t, 2] = p, a, b
                beside[t, 0], beside[t, 1], beside[t, 2] = ab, n, u
                corner[u, 0], corner[u, 1], corner[u, 2] = p, c, a
                beside[u, 0], beside[u, 1], beside[u, 2] = ca, t, v
                corner[v, 0], corner[v, 1], corner[v, 2] = p, q, c
                beside[v, 0], beside[v, 1], beside[v, 2] = qa, u, n
                corner[n, 0], corner[n, 1], corner[n, 2] = p, b, q
                beside[n, 0], beside[n, 1], beside[n, 2] = nq, v, t
                _point_back(beside, ca, t, u)
                _point_back(beside, qa, n, v)
                at[p] = at[a] = at[b] = t
                at[c] = u
                at[q] = n
                stack[0], stack[1], stack[2], stack[3] = 3 * t, 3 * u, 3 * v, 3 * n
                waiting = 4
            _legalise(place, corner, beside, fixed, at, stack, waiting, 1 << 40)
        return count


cdef int32_t _side_of(
    const int32_t[:, ::1] corner, const int32_t[:, ::1] beside, const int32_t[::1] at, int32_t a, int32_t b
) noexcept nogil:
    # 3 t + k of a side from a to b, or from b to a, met going round a, or round b where the way round a ends outside;
    # -1 where there is none.
    cdef int32_t t, first, k, turn, swap, half
    for half in range(2):
        t = first = at[a]
        for turn in range(1 << 20):
            k = _index(corner, t, a)
            if corner[t, _NEXT[k]] == b:
                return 3 * t + _NEXT[k + 1]
            if corner[t, _NEXT[k + 1]] == b:
                return 3 * t + _NEXT[k]
            t = beside[t, _NEXT[k]]
            if t == first or t < 0:
                break
        if t == first:
            return -1
        swap, a = a, b
        b = swap
    return -1


cdef inline void _fix(
    const int32_t[:, ::1] beside, uint8_t[:, ::1] fixed, int32_t side
) noexcept nogil:
    cdef int32_t t = side // 3, k = side % 3
    cdef int32_t n = beside[t, k]
    # A side that is gone along twice parts nothing.
    fixed[t, k] = _FIXED | ((fixed[t, k] & _PARTS) ^ _PARTS)
    if n >= 0:
        fixed[n, _index(beside, n, t)] = fixed[t, k]


cpdef int64_t hold(
    const int32_t[:, ::1] place, const int32_t[:, ::1] segment, int32_t[:, ::1] corner, int32_t[:, ::1] beside,
    uint8_t[:, ::1] fixed, int32_t[::1] at, int32_t[::1] stack, int32_t[:, ::1] crossed, uint8_t[::1] failed
) noexcept:
    """Makes segments sides of triangles (S. W. Sloan, 1993); returns how many of them cross others, which it marks."""
    cdef int64_t s, count = len(segment), bad = 0, n_crossed, first, most, waiting
    cdef int32_t a, b, c, end, t, k, n, q, left, right, side, turn, p
    cdef int64_t o1, o2
    cdef bint found
    with nogil:
        for s in range(count):
            a, b = segment[s, 0], segment[s, 1]
            while a != b:
                # Round a, to the side that is it, to the first place on it, or to the first side across it.
                t = at[a]
                end = left = right = -1
                found = False
                for turn in range(1 << 20):
                    k = _index(corner, t, a)
                    q, c = corner[t, _NEXT[k]], corner[t, _NEXT[k + 1]]
                    o1, o2 = _side(place, a, b, q), _side(place, a, b, c)
                    if q == b or (o1 == 0 and _is_ahead(place, a, b, q)):
                        end = q
                        break
                    if o1 < 0 and o2 > 0:
                        left, right = c, q
                        found = True
                        break
                    t = beside[t, _NEXT[k]]
                    if t < 0 or t == at[a]:
                        break
                if end >= 0:
                    side = _side_of(corner, beside, at, a, end)
                    if side >= 0:
                        _fix(beside, fixed, side)
                    a = end
                    continue
                if not found:
                    failed[s] = 1
                    bad += 1
                    break
                # From side to side until a place on the segment is met.
                n_crossed = 0
                while True:
                    if fixed[t, k] or n_crossed >= len(crossed):
                        failed[s] = 1
                        break
                    crossed[n_crossed, 0], crossed[n_crossed, 1] = left, right
                    n_crossed += 1
                    n = beside[t, k]
                    q = corner[n, _index(beside, n, t)]
                    o1 = _side(place, a, b, q)
                    if o1 == 0:
                        end = q
                        break
                    t = n
                    if o1 > 0:
                        k = _index(corner, n, left)
                        left = q
                    else:
                        k = _index(corner, n, right)
                        right = q
                if failed[s]:
                    bad += 1
                    break
                first = 0
                most = 64 + 8 * n_crossed * n_crossed
                while n_crossed > 0 and most > 0:
                    most -= 1
                    left, right = crossed[first, 0], crossed[first, 1]
                    first = (first + 1) % len(crossed)
                    n_crossed -= 1
                    side = _side_of(corner, beside, at, left, right)
                    if side < 0:
                        break
                    t, k = side // 3, side % 3
                    p = corner[t, k]
                    n = beside[t, k]
                    q = corner[n, _index(beside, n, t)]
                    o1, o2 = _side(place, p, q, left), _side(place, p, q, right)
                    if (o1 < 0 and o2 > 0) or (o1 > 0 and o2 < 0):
                        _flip(corner, beside, fixed, at, t, k)
                        if p == a or p == end or q == a or q == end:
                            continue
                        o1, o2 = _side(place, a, end, p), _side(place, a, end, q)
                        if not ((o1 < 0 and o2 > 0) or (o1 > 0 and o2 < 0)):
                            continue
                        left, right = p, q
                    crossed[(first + n_crossed) % len(crossed), 0] = left
                    crossed[(first + n_crossed) % len(crossed), 1] = right
                    n_crossed += 1
                side = _side_of(corner, beside, at, a, end)
                if side < 0:
                    failed[s] = 1
                    bad += 1
                    break
                _fix(beside, fixed, side)
                a = end
        return bad


cdef inline bint _is_ahead(const int32_t[:, ::1] place, int32_t a, int32_t b, int32_t q) noexcept nogil:
    cdef int64_t x = <int64_t> place[b, 0] - place[a, 0], y = <int64_t> place[b, 1] - place[a, 1]
    return x * (<int64_t> place[q, 0] - place[a, 0]) + y * (<int64_t> place[q, 1] - place[a, 1]) > 0


cpdef int64_t settle(
    const int32_t[:, ::1] place, int64_t count, int32_t[:, ::1] corner, int32_t[:, ::1] beside,
    uint8_t[:, ::1] fixed, int32_t[::1] at, int32_t[::1] stack, uint8_t[::1] inside
) noexcept:
    """Flips what need not stay until circles are empty, and finds which triangles lie inside: behind an odd number of
    sides that part. Returns their number.
    """
    cdef int64_t waiting, found = 0
    cdef int32_t t, k, n
    with nogil:
        for t in range(count):
            for k in range(3):
                stack[0] = 3 * t + k
                _legalise(place, corner, beside, fixed, at, stack, 1, 1 << 20)
        for t in range(count):
            inside[t] = 2
        stack[0] = at[0]
        inside[at[0]] = 0
        waiting = 1
        while waiting > 0:
            waiting -= 1
            t = stack[waiting]
            found += inside[t]
            for k in range(3):
                n = beside[t, k]
                if n >= 0 and inside[n] == 2:
                    inside[n] = inside[t] ^ (1 if fixed[t, k] & _PARTS else 0)
                    stack[waiting] = n
                    waiting += 1
        return found


cpdef void surface_at(
    const int64_t[:, ::1] first, const double[:, ::1] value_u, const double[:, ::1] slope_u,
    const double[:, ::1] value_v, const double[:, ::1] slope_v, const double[:, :, ::1] control,
    double[:, ::1] place, double[:, ::1] du, double[:, ::1] dv
) noexcept:
    """Points of a surface and its derivatives: basis functions (N, p + 1) times control points (n, m, 4).

    ``first`` (N, 2) holds the control point that the first functions of each place belong to.
    """
    cdef int64_t n, k, l, j, count = len(first), wide = value_u.shape[1], high = value_v.shape[1]
    cdef double a, b, c, weight
    cdef double[4] point, along, across, row, row_slope
    with nogil:
        for n in range(count):
            for j in range(4):
                point[j] = along[j] = across[j] = 0.0
            for k in range(wide):
                for j in range(4):
                    row[j] = row_slope[j] = 0.0
                for l in range(high):
                    a, b = value_v[n, l], slope_v[n, l]
                    for j in range(4):
                        c = control[first[n, 0] + k, first[n, 1] + l, j]
                        row[j] += a * c
                        row_slope[j] += b * c
                a, b = value_u[n, k], slope_u[n, k]
                for j in range(4):
                    point[j] += a * row[j]
                    along[j] += b * row[j]
                    across[j] += a * row_slope[j]
            weight = point[3]
            for j in range(3):
                place[n, j] = point[j] / weight
                du[n, j] = (along[j] - place[n, j] * along[3]) / weight
                dv[n, j] = (across[j] - place[n, j] * across[3]) / weight
