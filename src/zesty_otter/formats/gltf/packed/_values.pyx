"""Values of compressed meshes: corrections to what is foreseen from the values met before.

In all kernels ``values`` (N, n) holds the corrections and comes to hold the values, ``order`` the corner at which each was
met, ``entry`` the number of the value at each corner, and ``low`` and ``high`` the least and the greatest value: what lies
beyond comes in again at the other side. Parallelograms: Touma and Gotsman, "Triangle mesh compression", 1998.
"""

from libc.math cimport fabsf, sqrt, sqrtf
from libc.stdint cimport int32_t, int64_t, uint64_t, uint8_t
from libc.stdlib cimport llabs

from zesty_otter.formats.gltf.packed._corner cimport around, next_of, previous_of


cdef inline int32_t _corrected(int64_t foreseen, int32_t correction, int64_t low, int64_t high) noexcept nogil:
    cdef int64_t value = min(max(foreseen, low), high) + correction
    if value > high:
        value -= 1 + high - low
    elif value < low:
        value += 1 + high - low
    return <int32_t> value


cpdef void differences(int32_t[:, ::1] values, int64_t low, int64_t high) noexcept:
    """Each value is near the one before it."""
    cdef int64_t k, j
    with nogil:
        for k in range(values.shape[0]):
            for j in range(values.shape[1]):
                values[k, j] = _corrected(values[k - 1, j] if k else 0, values[k, j], low, high)


cdef inline bint _across(
    const int32_t[::1] opposite, const int32_t[::1] entry, int32_t corner, int64_t k, int32_t* three
) noexcept nogil:
    """The values at the triangle across: at its far corner and at the edge; whether all are known before ``k``."""
    cdef int32_t far = opposite[corner]
    if far < 0 or entry[far] >= k or entry[next_of(far)] >= k or entry[previous_of(far)] >= k:
        return False
    three[0], three[1], three[2] = entry[far], entry[next_of(far)], entry[previous_of(far)]
    return True


cpdef void parallelograms(
    int32_t[:, ::1] values, const int32_t[::1] order, const int32_t[::1] entry, const int32_t[::1] opposite,
    int64_t low, int64_t high,
) noexcept:
    """Each value completes a parallelogram over the triangle across, or is near the one before it."""
    cdef int64_t k, j, foreseen
    cdef int32_t three[3]
    cdef bint whole
    with nogil:
        for k in range(values.shape[0]):
            whole = _across(opposite, entry, order[k], k, three)
            for j in range(values.shape[1]):
                if whole:
                    foreseen = <int64_t> values[three[1], j] + values[three[2], j] - values[three[0], j]
                else:
                    foreseen = values[k - 1, j] if k else 0
                values[k, j] = _corrected(foreseen, values[k, j], low, high)


cpdef int64_t chosen_parallelograms(
    int32_t[:, ::1] values, const int32_t[::1] order, const int32_t[::1] entry, const int32_t[::1] opposite,
    const uint8_t[::1] creases, int64_t[:, ::1] runs, int64_t low, int64_t high,
) noexcept:
    """Each value is the mean of up to four parallelograms, of which some are left out; 0, or -1 when unsound.

    ``runs`` (4, 2) says where in ``creases`` those for one to four parallelograms begin and end: which are left out.
    """
    cdef int64_t k, j, used, number, n, foreseen
    cdef int32_t fours[4][3]
    cdef int32_t corner
    cdef bint leftwards
    with nogil:
        for k in range(values.shape[0]):
            number, leftwards, corner = 0, True, order[k]
            while corner >= 0:
                if _across(opposite, entry, corner, k, fours[number]):
                    number += 1
                    if number == 4:
                        break
                corner = around(opposite, corner, order[k], &leftwards)
            used = 0
            for n in range(number):
                if runs[number - 1, 0] >= runs[number - 1, 1]:
                    return -1
                if not creases[runs[number - 1, 0]]:
                    fours[used][0], fours[used][1], fours[used][2] = fours[n][0], fours[n][1], fours[n][2]
                    used += 1
                runs[number - 1, 0] += 1
            for j in range(values.shape[1]):
                foreseen = 0
                for n in range(used):
                    foreseen += <int64_t> values[fours[n][1], j] + values[fours[n][2], j] - values[fours[n][0], j]
                if used:
                    foreseen //= used
                elif k:
                    foreseen = values[k - 1, j]
                values[k, j] = _corrected(foreseen, values[k, j], low, high)
        return 0


cdef inline uint64_t _root(uint64_t value) noexcept nogil:
    """The whole part of the square root."""
    cdef uint64_t root = <uint64_t> sqrt(<double> value)
    while root >> 32 or root * root > value:
        root -= 1
    while (root + 1) >> 32 == 0 and (root + 1) * (root + 1) <= value:
        root += 1
    return root


cpdef int64_t placements(
    int32_t[:, ::1] values, const int32_t[::1] order, const int32_t[::1] entry, const int32_t[:, ::1] positions,
    const int32_t[::1] place, const uint8_t[::1] turns, int64_t low, int64_t high,
) noexcept:
    """UVs (N, 2): each stands to the edge it faces as the positions do; 0, or -1 when unsound.

    ``place`` is the number of the position at each corner; ``turns``, the last first, say on which side of the edge.
    """
    cdef int64_t k, j, turn = len(turns) - 1, length, along, u, v, s, away
    cdef int32_t ahead, behind, corner
    cdef const int32_t* tip
    cdef const int32_t* a
    cdef const int32_t* b
    cdef uint64_t apart, root, sum_u, sum_v
    cdef int64_t foreseen[2]
    cdef int64_t edge[3]
    with nogil:
        for k in range(values.shape[0]):
            corner = order[k]
            ahead, behind = entry[next_of(corner)], entry[previous_of(corner)]
            foreseen[0] = foreseen[1] = 0
            length = 0
            if ahead < k and behind < k:
                u = <int64_t> values[behind, 0] - values[ahead, 0]
                v = <int64_t> values[behind, 1] - values[ahead, 1]
                if u or v:
                    tip, a = &positions[place[corner], 0], &positions[place[next_of(corner)], 0]
                    b = &positions[place[previous_of(corner)], 0]
                    along = 0
                    for j in range(3):
                        edge[j] = <int64_t> b[j] - a[j]
                        away = <int64_t> tip[j] - a[j]
                        # Within these, nothing below can overflow by more than a turn.
                        if edge[j] > 1 << 30 or edge[j] < -(1 << 30) or away > 1 << 30 or away < -(1 << 30):
                            return -1
                        length += edge[j] * edge[j]
                        along += edge[j] * away
            if length > 0:
                apart = 0
                for j in range(3):
                    s = <int64_t> (<uint64_t> along * <uint64_t> edge[j]) // length
                    away = <int64_t> (<uint64_t> tip[j] - <uint64_t> a[j] - <uint64_t> s)
                    apart += <uint64_t> away * <uint64_t> away
                root = _root(apart * <uint64_t> length)
                sum_u = <uint64_t> <int64_t> values[ahead, 0] * <uint64_t> length + <uint64_t> along * <uint64_t> u
                sum_v = <uint64_t> <int64_t> values[ahead, 1] * <uint64_t> length + <uint64_t> along * <uint64_t> v
                if turn < 0:
                    return -1
                # To the one side or to the other, at a right angle to the edge.
                if not turns[turn]:
                    root = 0 - root
                turn -= 1
                sum_u += <uint64_t> v * root
                sum_v -= <uint64_t> u * root
                foreseen[0], foreseen[1] = <int64_t> sum_u // length, <int64_t> sum_v // length
            elif ahead < k:
                foreseen[0], foreseen[1] = values[ahead, 0], values[ahead, 1]
            elif k:
                foreseen[0], foreseen[1] = values[k - 1, 0], values[k - 1, 1]
            for j in range(2):
                values[k, j] = _corrected(foreseen[j], values[k, j], low, high)
        return 0


cdef inline int32_t _within(int64_t value, int64_t half) noexcept nogil:
    if value > half:
        value -= 2 * half + 1
    elif value < -half:
        value += 2 * half + 1
    return <int32_t> value


cdef inline void _inside_out(int64_t* s, int64_t* t, int64_t half) noexcept nogil:
    """Swaps the upper and the lower half of an unfolded octahedron: the square in the middle and the four corners."""
    cdef int64_t x, y, kept
    if s[0] >= 0 and t[0] >= 0:
        x = y = 1
    elif s[0] <= 0 and t[0] <= 0:
        x = y = -1
    else:
        x, y = 1 if s[0] > 0 else -1, 1 if t[0] > 0 else -1
    s[0], t[0] = 2 * s[0] - x * half, 2 * t[0] - y * half
    kept = s[0]
    if x * y >= 0:
        s[0], t[0] = -t[0], -kept
    else:
        s[0], t[0] = t[0], kept
    s[0], t[0] = (s[0] + x * half) // 2, (t[0] + y * half) // 2


cdef inline void _quarters(int64_t* s, int64_t* t, int64_t turns) noexcept nogil:
    cdef int64_t kept = s[0]
    if turns == 1:
        s[0], t[0] = t[0], -kept
    elif turns == 2:
        s[0], t[0] = -s[0], -t[0]
    elif turns == 3:
        s[0], t[0] = -t[0], kept


cdef inline void _directed(int32_t* values, int64_t s, int64_t t, int64_t half, bint turned) noexcept nogil:
    """Corrects a direction on an unfolded octahedron, from the foreseen one; its corrections are those of the quarter
    at the bottom left, where ``turned``, and of the upper half."""
    cdef int64_t turns = 0
    cdef bint lower
    s, t = s - half, t - half
    lower = llabs(s) + llabs(t) > half
    if lower:
        _inside_out(&s, &t, half)
    if turned and (s or t) and not (s < 0 and t <= 0):
        if s == 0:
            turns = 3 if t > 0 else 1
        elif s > 0:
            turns = 2 if t >= 0 else 1
        else:
            turns = 3
        _quarters(&s, &t, turns)
    s, t = _within(s + values[0], half), _within(t + values[1], half)
    _quarters(&s, &t, (4 - turns) & 3)
    if lower:
        _inside_out(&s, &t, half)
    values[0], values[1] = <int32_t> (s + half), <int32_t> (t + half)


cpdef void direction_differences(int32_t[:, ::1] values, int64_t half, bint turned) noexcept:
    """Directions (N, 2) on an unfolded octahedron, whose middle is ``half``: each is near the one before it."""
    cdef int64_t k
    with nogil:
        for k in range(values.shape[0]):
            if k:
                _directed(&values[k, 0], values[k - 1, 0], values[k - 1, 1], half, turned)
            else:
                _directed(&values[k, 0], 0, 0, half, turned)


cpdef int64_t normals(
    int32_t[:, ::1] values, const int32_t[::1] order, const int32_t[::1] opposite, const int32_t[:, ::1] positions,
    const int32_t[::1] place, const uint8_t[::1] flips, int64_t half, bint turned,
) noexcept:
    """Normals (N, 2) on an unfolded octahedron: each is near that of the triangles around; 0, or -1 when unsound."""
    cdef int64_t k, j, total, x, y, z, s, t
    cdef int32_t corner
    cdef bint leftwards
    cdef const int32_t* here
    cdef const int32_t* ahead
    cdef const int32_t* behind
    cdef int64_t a[3]
    cdef int64_t b[3]
    with nogil:
        for k in range(values.shape[0]):
            x = y = z = 0
            corner, leftwards = order[k], True
            here = &positions[place[corner], 0]
            while corner >= 0:
                ahead, behind = &positions[place[next_of(corner)], 0], &positions[place[previous_of(corner)], 0]
                for j in range(3):
                    a[j], b[j] = <int64_t> ahead[j] - here[j], <int64_t> behind[j] - here[j]
                    # Within these, nothing below can overflow.
                    if llabs(a[j]) > 1 << 30 or llabs(b[j]) > 1 << 30:
                        return -1
                x += a[1] * b[2] - a[2] * b[1]
                y += a[2] * b[0] - a[0] * b[2]
                z += a[0] * b[1] - a[1] * b[0]
                if llabs(x) > <int64_t> 1 << 61 or llabs(y) > <int64_t> 1 << 61 or llabs(z) > <int64_t> 1 << 61:
                    return -1
                corner = around(opposite, corner, order[k], &leftwards)
            total = llabs(x) + llabs(y) + llabs(z)
            if total > 1 << 29:
                total //= 1 << 29
                x, y, z = x // total, y // total, z // total
                total = llabs(x) + llabs(y) + llabs(z)
            if total == 0:
                x = half
            else:
                x, y = x * half // total, y * half // total
                z = half - llabs(x) - llabs(y) if z >= 0 else llabs(x) + llabs(y) - half
            if flips[k]:
                x, y, z = -x, -y, -z
            if x >= 0:
                s, t = y + half, z + half
            else:
                s = llabs(z) if y < 0 else 2 * half - llabs(z)
                t = llabs(y) if z < 0 else 2 * half - llabs(y)
            # Of the places at the rim that are the same, the first.
            if (s == 0 or s == 2 * half) and (t == 0 or t == 2 * half):
                s = t = 2 * half
            elif s == 0 and t > half:
                t = 2 * half - t
            elif s == 2 * half and t < half:
                t = 2 * half - t
            elif t == 2 * half and s < half:
                s = 2 * half - s
            elif t == 0 and s > half:
                s = 2 * half - s
            _directed(&values[k, 0], s, t, half, turned)
        return 0


cpdef void unfolded(const int32_t[:, ::1] values, int64_t half, float[:, ::1] out) noexcept:
    """Directions (N, 2) on an unfolded octahedron as unit vectors (N, 3)."""
    cdef int64_t k
    cdef float scale = <float> 2 / <float> (2 * half), x, y, z, over, size
    with nogil:
        for k in range(values.shape[0]):
            y, z = values[k, 0] * scale - 1, values[k, 1] * scale - 1
            x = 1 - fabsf(y) - fabsf(z)
            over = -x if x < 0 else 0
            y += over if y < 0 else -over
            z += over if z < 0 else -over
            size = sqrtf(x * x + y * y + z * z)
            size = 1 / size if size > 1e-3 else 0
            out[k, 0], out[k, 1], out[k, 2] = x * size, y * size, z * size
