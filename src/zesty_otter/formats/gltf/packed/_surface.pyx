"""The surface of a compressed mesh, and the numbers and bits it is written with.

Corners 3 t, 3 t + 1 and 3 t + 2 belong to triangle t; ``opposite`` is the corner across the edge that a corner faces, or
-1; ``leftmost`` a corner of each vertex from which all others are met by turning right, or -1 for no vertex.
Rossignac, "Edgebreaker: connectivity compression for triangle meshes", 1999; Duda, "Asymmetric numeral systems", 2009;
and the published bitstream, version 2.2.
"""

from libc.stdint cimport int32_t, int64_t, uint32_t, uint64_t, uint8_t


from zesty_otter.formats.gltf.packed._corner cimport left_of, next_of, previous_of, right_of


cdef inline void _join(int32_t[::1] opposite, int32_t a, int32_t b) noexcept nogil:
    opposite[a] = b
    opposite[b] = a


cpdef void codes(const uint8_t[::1] data, uint8_t[::1] out) noexcept:
    """The steps of a surface, 0 C, 1 S, 2 L, 3 R and 4 E: a bit for the first, three for each other; E where none is."""
    cdef int64_t place = 0, k
    cdef int value
    with nogil:
        for k in range(len(out)):
            if place >= 8 * len(data):
                out[k] = 4
            elif not data[place >> 3] >> (place & 7) & 1:
                out[k] = 0
                place += 1
            else:
                value = data[place >> 3] >> (place & 7)
                if (place & 7) > 5 and (place >> 3) + 1 < len(data):
                    value |= data[(place >> 3) + 1] << (8 - (place & 7))
                out[k] = 1 + (value >> 1 & 3)
                place += 3


cdef inline bint _turn(
    int32_t[::1] opposite, int32_t[::1] vertex, const int32_t[::1] leftmost, int32_t corner, int32_t* ahead
) noexcept nogil:
    """The open edge that goes on from the one ``corner`` faces, by the corner that faces it; whether there is one."""
    cdef int32_t first = leftmost[vertex[next_of(corner)]]
    if first < 0:
        return False
    ahead[0] = next_of(first)
    return ahead[0] != corner and opposite[ahead[0]] < 0


cpdef int64_t surface(
    const uint8_t[::1] steps, int64_t[:, ::1] runs, const int32_t[:, ::1] splits, int64_t[::1] counts,
    int32_t[::1] opposite, int32_t[::1] vertex, int32_t[::1] leftmost, int32_t[::1] edges, int32_t[::1] kept,
    int32_t[::1] stack, int32_t[::1] gone,
) noexcept:
    """Builds triangles from the steps in which a surface was taken apart, a triangle for each; 0, or -1 when unsound.

    Where ``runs`` has rows, one for each number of edges, 2 to 7, at the vertex ahead, they say where in ``steps`` the
    steps at such a vertex begin and end, and the last of a row is taken first; else steps stand in order.
    ``splits`` (N, 3) says at which step an edge is kept, for which step S, and whether it is the edge to the right; the
    last row is taken first. ``opposite``, ``leftmost`` and ``kept`` (a place for each step) come filled with -1,
    ``edges`` with 0. ``counts`` holds the number of steps, and comes to hold those of the vertices, of the open edges,
    which ``stack`` comes to hold by their corners, and of the vertices that became one with others, which are in ``gone``.
    """
    cdef int64_t count = counts[0], vertices = 0, merged = 0, top = -1, k, split = splits.shape[0] - 1, row = -1, number
    cdef int32_t corner, a, b = 0, p, n, around, degree
    cdef int code
    with nogil:
        for k in range(count):
            corner = <int32_t> (3 * k)
            if runs.shape[0] == 0:
                code = steps[k]
            elif row < 0:
                code = 4
            else:
                if runs[row, 1] <= runs[row, 0]:
                    return -1
                runs[row, 1] -= 1
                code = steps[runs[row, 1]]
            number = 3 if code == 4 else 1 if code > 1 else 0
            if code > 4 or (top < 0 and code != 4) or vertices + number > len(leftmost):
                return -1
            if code == 0:
                # C: closes the gap between the edge on top and the next one at its vertex.
                a = stack[top]
                n = vertex[next_of(a)]
                if opposite[a] >= 0 or not _turn(opposite, vertex, leftmost, a, &b):
                    return -1
                p = vertex[previous_of(a)]
                _join(opposite, a, corner + 1)
                _join(opposite, b, corner + 2)
                vertex[corner], vertex[corner + 1], vertex[corner + 2] = n, vertex[next_of(b)], p
                leftmost[p] = corner + 2
                stack[top] = corner
            elif code == 2 or code == 3:
                # L and R: a new vertex at the edge on top, which goes on at the left or at the right.
                a = stack[top]
                if opposite[a] >= 0:
                    return -1
                b = corner + (2 if code == 3 else 1)
                _join(opposite, b, a)
                vertex[b] = <int32_t> vertices
                vertex[next_of(b)], vertex[previous_of(b)] = vertex[previous_of(a)], vertex[next_of(a)]
                leftmost[vertices] = b
                leftmost[vertex[next_of(b)]] = next_of(b)
                vertices += 1
                stack[top] = corner
            elif code == 1:
                # S: joins two open edges, of which one may have been kept for it; two vertices become one.
                b = stack[top]
                top -= 1
                if kept[k] >= 0:
                    top += 1
                    stack[top] = kept[k]
                if top < 0:
                    return -1
                a = stack[top]
                p, n = vertex[previous_of(a)], vertex[next_of(b)]
                if a == b or opposite[a] >= 0 or opposite[b] >= 0 or p == n or merged >= len(gone):
                    return -1
                gone[merged] = n
                merged += 1
                _join(opposite, a, corner + 2)
                _join(opposite, b, corner + 1)
                vertex[corner], vertex[corner + 1], vertex[corner + 2] = p, vertex[next_of(a)], vertex[previous_of(b)]
                leftmost[vertex[previous_of(b)]] = corner + 2
                edges[p] += edges[n]
                leftmost[p] = leftmost[n]
                around = next_of(b)
                while around >= 0:
                    vertex[around] = p
                    around = left_of(opposite, around)
                    if around == next_of(b):
                        return -1
                leftmost[n] = -1
                stack[top] = corner
            else:
                # E: a triangle alone.
                for number in range(3):
                    vertex[corner + number] = <int32_t> (vertices + number)
                    leftmost[vertices + number] = <int32_t> (corner + number)
                vertices += 3
                top += 1
                stack[top] = corner
            if runs.shape[0] > 0:
                edges[vertex[corner]] += 0 if code < 2 else 2 if code == 4 else 1
                edges[vertex[corner + 1]] += 2 if code == 2 or code == 4 else 1
                edges[vertex[corner + 2]] += 2 if code > 2 else 1
                degree = edges[vertex[corner + 1]]
                row = 0 if degree < 2 else 5 if degree > 7 else degree - 2
            if code > 1:
                number = count - 1 - k
                while split >= 0 and splits[split, 0] >= number:
                    if splits[split, 0] > number or splits[split, 1] >= count or splits[split, 1] < 0:
                        return -1
                    a = next_of(corner) if splits[split, 2] else previous_of(corner)
                    kept[count - 1 - splits[split, 1]] = a
                    split -= 1
        counts[1], counts[2], counts[3] = vertices, top + 1, merged
        return 0


cpdef int64_t close(
    const int32_t[::1] stack, const uint8_t[::1] inner, int32_t[::1] opposite, int32_t[::1] vertex,
    const int32_t[::1] leftmost, int64_t faces,
) noexcept:
    """Puts a triangle where an open edge, the last first, is said to lie inside; the number of triangles, or -1."""
    cdef int64_t k, all = len(opposite) // 3
    cdef int32_t a, b = 0, c = 0, corner
    with nogil:
        for k in range(len(inner)):
            if not inner[k]:
                continue
            a = stack[len(inner) - 1 - k]
            if faces >= all or opposite[a] >= 0 or not _turn(opposite, vertex, leftmost, a, &b):
                return -1
            if not _turn(opposite, vertex, leftmost, b, &c) or c == a:
                return -1
            corner = <int32_t> (3 * faces)
            _join(opposite, corner, a)
            _join(opposite, corner + 1, b)
            _join(opposite, corner + 2, c)
            vertex[corner], vertex[corner + 1] = vertex[next_of(b)], vertex[next_of(c)]
            vertex[corner + 2] = vertex[next_of(a)]
            faces += 1
        return faces


cpdef int64_t split(
    const int32_t[::1] opposite, const uint8_t[::1] seam, const int32_t[::1] vertex, const int32_t[::1] leftmost,
    int32_t[::1] cut, int32_t[::1] parts, int32_t[::1] first, uint8_t[::1] touched,
) noexcept:
    """Cuts a surface along its seams; how many vertices it has then, or -1 when it is unsound.

    ``cut``, ``parts`` and ``first`` (with a place more for every corner) come filled as ``opposite``, ``vertex`` and
    ``leftmost``, and come to hold those of the surface that is cut; ``touched`` (zeros) which vertices lie at a seam.
    """
    cdef int64_t v, k, vertices = len(leftmost)
    cdef int32_t begin, corner
    with nogil:
        for k in range(len(opposite)):
            if seam[k] and opposite[k] >= 0:
                cut[k] = -1
                corner = <int32_t> k
                touched[vertex[next_of(corner)]] = touched[vertex[previous_of(corner)]] = 1
        for v in range(len(leftmost)):
            if not touched[v] or leftmost[v] < 0:
                continue
            # From a seam on, where there is one.
            begin = corner = leftmost[v]
            while corner >= 0:
                begin = corner
                corner = left_of(cut, corner)
                if corner == leftmost[v]:
                    begin = corner
                    break
            first[v] = begin
            k = v
            corner = begin
            while True:
                if corner != begin and cut[next_of(corner)] < 0:
                    if vertices >= len(first):
                        return -1
                    k = vertices
                    first[k] = corner
                    vertices += 1
                parts[corner] = <int32_t> k
                corner = right_of(opposite, corner)
                if corner < 0 or corner == begin:
                    break
        return vertices


cpdef int64_t at_corners(const int32_t[::1] entry, const int32_t[::1] vertex, int32_t[::1] out) noexcept:
    """What the vertices at corners have; 0, or -1 where one has nothing."""
    cdef int64_t k, missing = 0
    with nogil:
        for k in range(len(vertex)):
            out[k] = entry[vertex[k]]
            missing |= out[k] < 0
        return -missing


cdef inline bint _open(const int32_t[::1] opposite, const int32_t[::1] leftmost, int32_t vertex) noexcept nogil:
    return leftmost[vertex] < 0 or opposite[next_of(leftmost[vertex])] < 0


cdef inline void _meet(
    const int32_t[::1] vertex, int32_t corner, int32_t[::1] entry, int32_t[::1] order, int64_t* met
) noexcept nogil:
    if entry[vertex[corner]] < 0:
        entry[vertex[corner]] = <int32_t> met[0]
        order[met[0]] = corner
        met[0] += 1


cpdef int64_t by_depth(
    const int32_t[::1] opposite, const int32_t[::1] vertex, const int32_t[::1] leftmost, int32_t[::1] entry,
    int32_t[::1] order, int32_t[::1] stack, uint8_t[::1] seen,
) noexcept:
    """The order in which vertices are met, depth first; how many there are.

    ``entry`` (a place for each vertex, filled with -1) comes to hold the place of each in the order, ``order`` the corner
    at which each was met. ``stack`` has a place more than there are triangles, ``seen`` (zeros) one for each.
    """
    cdef int64_t met = 0, top, face
    cdef int32_t corner, right, left
    cdef bint done_right, done_left, new
    with nogil:
        for face in range(len(seen)):
            if seen[face]:
                continue
            corner = <int32_t> (3 * face)
            _meet(vertex, corner + 1, entry, order, &met)
            _meet(vertex, corner + 2, entry, order, &met)
            stack[0] = corner
            top = 0
            while top >= 0:
                corner = stack[top]
                if corner < 0 or seen[corner // 3]:
                    top -= 1
                    continue
                while True:
                    seen[corner // 3] = 1
                    new = entry[vertex[corner]] < 0
                    _meet(vertex, corner, entry, order, &met)
                    right = opposite[next_of(corner)]
                    if new and right >= 0 and not _open(opposite, leftmost, vertex[corner]):
                        corner = right
                        continue
                    left = opposite[previous_of(corner)]
                    done_right = right < 0 or seen[right // 3]
                    done_left = left < 0 or seen[left // 3]
                    if done_right and done_left:
                        top -= 1
                        break
                    if done_right:
                        corner = left
                    elif done_left:
                        corner = right
                    else:
                        stack[top] = left
                        top += 1
                        stack[top] = right
                        break
        return met


cdef inline int _rank(
    const int32_t[::1] vertex, int32_t corner, const int32_t[::1] entry, int32_t[::1] degree
) noexcept nogil:
    """How well the vertex at a corner can be told from those before: 0 where it is known, 1 where twice, else 2."""
    if entry[vertex[corner]] >= 0:
        return 0
    degree[vertex[corner]] += 1
    return 1 if degree[vertex[corner]] > 1 else 2


cpdef int64_t by_degree(
    const int32_t[::1] opposite, const int32_t[::1] vertex, int32_t[::1] entry, int32_t[::1] order,
    int32_t[:, ::1] stacks, int32_t[::1] degree, uint8_t[::1] seen,
) noexcept:
    """As `by_depth`, but triangles first whose vertex can be told from most others; ``degree`` comes filled with 0.

    ``stacks`` (3, N) has two places for each triangle, and one.
    """
    cdef int64_t met = 0, face
    cdef int64_t tops[3]
    cdef int32_t corner, right, left
    cdef int best, rank
    cdef bint done_right, done_left
    with nogil:
        for face in range(len(seen)):
            if seen[face]:
                continue
            corner = <int32_t> (3 * face)
            _meet(vertex, corner + 1, entry, order, &met)
            _meet(vertex, corner + 2, entry, order, &met)
            _meet(vertex, corner, entry, order, &met)
            stacks[0, 0] = corner
            tops[0], tops[1], tops[2] = 0, -1, -1
            best = 0
            while best < 3:
                if tops[best] < 0:
                    best += 1
                    continue
                corner = stacks[best, tops[best]]
                tops[best] -= 1
                if seen[corner // 3]:
                    continue
                while True:
                    seen[corner // 3] = 1
                    _meet(vertex, corner, entry, order, &met)
                    right, left = opposite[next_of(corner)], opposite[previous_of(corner)]
                    done_right = right < 0 or seen[right // 3]
                    done_left = left < 0 or seen[left // 3]
                    if not done_left:
                        rank = _rank(vertex, left, entry, degree)
                        if done_right and rank <= best:
                            corner = left
                            continue
                        tops[rank] += 1
                        stacks[rank, tops[rank]] = left
                        best = min(best, rank)
                    if not done_right:
                        rank = _rank(vertex, right, entry, degree)
                        if rank <= best:
                            corner = right
                            continue
                        tops[rank] += 1
                        stacks[rank, tops[rank]] = right
                        best = min(best, rank)
                    break
        return met


cpdef int64_t without_gone(
    int32_t[::1] leftmost, const int32_t[::1] gone, int32_t[::1] number, int32_t[::1] holder
) noexcept:
    """Gives the numbers of vertices that are gone to the last ones, in turn; how many vertices there are.

    ``number`` and ``holder``, which vertex has a number, come filled with their own; ``leftmost`` is put in their order.
    """
    cdef int64_t k, count = len(leftmost)
    with nogil:
        for k in range(len(gone)):
            while count > 0 and leftmost[count - 1] < 0:
                count -= 1
            if count - 1 < gone[k]:
                continue
            holder[gone[k]] = holder[count - 1]
            number[holder[gone[k]]] = gone[k]
            leftmost[gone[k]] = leftmost[count - 1]
            leftmost[count - 1] = -1
            count -= 1
        while count > 0 and leftmost[count - 1] < 0:
            count -= 1
        return count


cpdef int64_t points(
    const int32_t[::1] opposite, const int32_t[::1] vertex, const int32_t[::1] leftmost, const int32_t[:, ::1] parts,
    const uint8_t[::1] touched, int32_t[::1] number, int32_t[::1] point, int32_t[::1] first,
) noexcept:
    """Numbers the points, vertex by vertex; how many there are, or -1 when the surface is unsound.

    A point is at all corners of a vertex, or, of those that are ``touched`` by seams, at those at which all ``parts``
    (surfaces, corners) are the same. ``point`` comes to hold the point at each corner, ``first`` a corner of each,
    ``number`` the first point of each vertex.
    """
    cdef int64_t v, s, k, found = 0
    cdef int32_t begin, corner, last
    cdef bint same
    with nogil:
        for v in range(len(leftmost)):
            begin = leftmost[v]
            number[v] = <int32_t> found
            if begin < 0:
                continue
            if found >= len(first):
                return -1
            if not touched[v]:
                first[found] = begin
                found += 1
                continue
            if opposite[next_of(begin)] >= 0:
                # No boundary: from a seam on, where there is one.
                for s in range(parts.shape[0]):
                    corner = leftmost[v]
                    while True:
                        corner = right_of(opposite, corner)
                        if corner < 0:
                            return -1
                        if corner == leftmost[v] or parts[s, corner] != parts[s, leftmost[v]]:
                            break
                    if corner != leftmost[v]:
                        begin = corner
                        break
            last, corner = begin, begin
            while True:
                same = corner != begin
                for s in range(parts.shape[0]):
                    same = same and parts[s, last] == parts[s, corner]
                if not same:
                    if found >= len(first):
                        return -1
                    first[found] = corner
                    found += 1
                point[corner] = <int32_t> (found - 1)
                last, corner = corner, right_of(opposite, corner)
                if corner < 0 or corner == begin:
                    break
        for k in range(len(point)):
            if not touched[vertex[k]]:
                point[k] = number[vertex[k]]
        return found


cpdef int64_t frequencies(const uint8_t[::1] data, int64_t at, uint32_t[::1] sums) noexcept:
    """How often each of ``len(sums) - 1`` numbers comes, added up from 0; returns where it ends, or -1.

    Invariant: ``sums`` never fall, as they stay below 2 to the power of 20, the most that numbers are read by.
    """
    cdef int64_t count = len(sums) - 1, k = 0, more, run
    cdef uint32_t total = 0, share
    with nogil:
        sums[0] = 0
        while k < count:
            if at >= len(data):
                return -1
            more = data[at] & 3
            if more == 3:
                # A run of numbers that never come.
                run = (data[at] >> 2) + 1
                at += 1
                if k + run > count:
                    return -1
                for k in range(k, k + run):
                    sums[k + 1] = total
                k += 1
                continue
            if at + more >= len(data):
                return -1
            share = data[at] >> 2
            if more > 0:
                share |= <uint32_t> data[at + 1] << 6
            if more > 1:
                share |= <uint32_t> data[at + 2] << 14
            at += 1 + more
            if share > (1 << 20) - total:
                return -1
            total += share
            k += 1
            sums[k] = total
        return at


cpdef int64_t numbers(
    const uint8_t[::1] data, const uint32_t[::1] sums, int64_t precision, uint64_t[::1] table, uint32_t[::1] out
) noexcept:
    """Numbers of the frequencies ``sums``, which add up to 2 to the power of ``precision``; 0, or -1 when unsound.

    The bytes are read from the last to the first. ``table`` holds a power of two of places, at most as many as the
    frequencies add up to: for each share of them the first number that it can be, its frequency and their sum before it.
    """
    cdef int64_t at = len(data), k, shift = 0, place
    cdef uint32_t base = 4 << precision, mask = (1 << precision) - 1, rest, number = 0
    cdef uint64_t state, entry
    with nogil:
        if len(sums) < 2 or sums[len(sums) - 1] != mask + 1:
            return -1
        while len(table) << shift < mask + 1:
            shift += 1
        for place in range(len(table)):
            while sums[number + 1] <= place << shift:
                number += 1
            table[place] = <uint64_t> number << 42 | <uint64_t> (sums[number + 1] - sums[number]) << 21 | sums[number]
        if not _begun(data, &at, 4, &state):
            return -1
        state += base
        if state >= <uint64_t> base << 8:
            return -1
        for k in range(len(out)):
            while state < base and at > 0:
                at -= 1
                state = state << 8 | data[at]
            rest = state & mask
            entry = table[rest >> shift]
            if rest - (entry & 0x1FFFFF) < (entry >> 21 & 0x1FFFFF):
                out[k] = <uint32_t> (entry >> 42)
                state = (state >> precision) * (entry >> 21 & 0x1FFFFF) + rest - (entry & 0x1FFFFF)
                continue
            number = <uint32_t> (entry >> 42) + 1
            while sums[number + 1] <= rest:
                number += 1
            out[k] = number
            state = (state >> precision) * (sums[number + 1] - sums[number]) + rest - sums[number]
        return 0


cdef bint _begun(const uint8_t[::1] data, int64_t* at, int64_t most, uint64_t* state) noexcept nogil:
    """Takes the state from the end of the bytes: two bits say how many bytes it has, at most ``most``."""
    cdef int64_t size, k
    if at[0] < 1:
        return False
    size = (data[at[0] - 1] >> 6) + 1
    if size > most or size > at[0]:
        return False
    state[0] = data[at[0] - 1] & 63
    for k in range(1, size):
        state[0] = state[0] << 8 | data[at[0] - 1 - k]
    at[0] -= size
    return True


cdef inline int64_t _bit(const uint8_t[::1] data, int64_t* at, uint64_t* state, uint64_t ones) noexcept nogil:
    cdef uint64_t high, rest
    if state[0] < 4096 and at[0] > 0:
        at[0] -= 1
        state[0] = state[0] << 8 | data[at[0]]
    high, rest = (state[0] >> 8) * ones, state[0] & 255
    if rest < ones:
        state[0] = high + rest
        return 1
    state[0] -= high + ones
    return 0


cpdef int64_t bits(const uint8_t[::1] data, int64_t zeros, uint8_t[::1] out) noexcept:
    """Bits of which ``zeros`` in 256 are 0; 0, or -1 when unsound."""
    cdef int64_t at = len(data), k
    cdef uint64_t state
    with nogil:
        if not _begun(data, &at, 3, &state):
            return -1
        state += 4096
        for k in range(len(out)):
            out[k] = _bit(data, &at, &state, 256 - zeros)
        return 0


cpdef int64_t tagged(const uint8_t[::1] data, const uint32_t[::1] lengths, int64_t each, uint32_t[::1] out) noexcept:
    """Numbers, ``each`` of them of as many bits as their common length says; returns the bytes taken, or -1."""
    cdef int64_t place = 0, k, j, n, held
    cdef uint64_t value
    with nogil:
        for k in range(len(lengths)):
            n = lengths[k]
            if n > 32 or place + n * each > 8 * len(data):
                return -1
            for j in range(each):
                value, held = 0, 0
                while held < n:
                    value |= <uint64_t> (data[place >> 3] >> (place & 7)) << held
                    held += 8 - (place & 7)
                    place += 8 - (place & 7)
                place -= max(held - n, 0)
                out[k * each + j] = value & ((<uint64_t> 1 << n) - 1)
        return (place + 7) >> 3


cpdef int64_t seams(const uint8_t[::1] data, int64_t zeros, const int32_t[::1] opposite, uint8_t[::1] out) noexcept:
    """Which edges, given by the corners opposite to them, are seams; 0, or -1 when unsound.

    An edge at a boundary always is; of the others a bit says so, at the first of its two corners.
    """
    cdef int64_t at = len(data), k
    cdef uint64_t state
    cdef int64_t there
    with nogil:
        if not _begun(data, &at, 3, &state):
            return -1
        state += 4096
        for k in range(len(opposite)):
            there = opposite[k]
            if there < 0:
                out[k] = 1
            elif there // 3 >= k // 3:
                out[k] = out[there] = _bit(data, &at, &state, 256 - zeros)
        return 0
