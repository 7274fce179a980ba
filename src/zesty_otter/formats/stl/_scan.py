"""ASCII STL scanned by compiled code."""

import numpy as np

from zesty_otter._compile import kernel
from zesty_otter.formats._numbers import read_float

AT, POINTS, FACES, SOLIDS, SHORT, BAD = range(6)


@kernel
def _begins(data, at, stop, word):
    if at + len(word) > stop:
        return False
    for k in range(len(word)):  # noqa: SIM110, because all() of a generator does not compile
        if (data[at + k] | 32) != word[k]:
            return False
    return True


@kernel
def scan(data, words, points, face_start, solids, state):
    """Reads vertices, facets and solids line by line; returns 1 when a table is full, 0 at the end.

    ``words`` are the bytes of vertex, endloop, endfacet and solid; ``solids`` (S, 2) the first face of each
    and where its line begins. A facet ends at endloop, or at endfacet where that is missing.
    """
    vertex, endloop, endfacet, solid = words
    at = state[AT]
    stop = len(data)
    if at == 0 and stop > 2 and data[0] == 239 and data[1] == 187 and data[2] == 191:
        at = 3  # a mark of UTF-8
    while at < stop:
        if data[at] <= 32:
            at += 1
            continue
        if _begins(data, at, stop, vertex):
            if state[POINTS] >= len(points):
                state[AT] = at
                return 1
            here = at + len(vertex)
            good = True
            for k in range(3):
                while here < stop and (data[here] == 32 or data[here] == 9):
                    here += 1
                value, here, found = read_float(data, here, stop)
                good = good and found
                points[state[POINTS], k] = value
            if good:
                state[POINTS] += 1
            else:
                state[BAD] += 1
            at = here
        elif _begins(data, at, stop, endloop) or _begins(data, at, stop, endfacet):
            if state[FACES] + 1 >= len(face_start):
                state[AT] = at
                return 1
            size = state[POINTS] - face_start[state[FACES]]
            if size >= 3:
                state[FACES] += 1
                face_start[state[FACES]] = state[POINTS]
            elif size > 0:
                state[SHORT] += 1
                state[POINTS] = face_start[state[FACES]]
        elif _begins(data, at, stop, solid):
            if state[SOLIDS] >= len(solids):
                state[AT] = at
                return 1
            solids[state[SOLIDS], 0] = state[FACES]
            solids[state[SOLIDS], 1] = at
            state[SOLIDS] += 1
        while at < stop and data[at] != 10 and data[at] != 13:
            at += 1
    state[AT] = at
    return 0


@kernel
def _unsigned_zero(bits):
    return np.uint32(0) if bits == np.uint32(0x80000000) else bits  # minus zero equals zero


@kernel
def _hash(x, y, z):
    h = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
    h ^= np.uint64(z) * np.uint64(0x165667B19E3779F9)
    h ^= h >> np.uint64(32)
    h *= np.uint64(0xD6E8FEB86659FD93)
    return h ^ h >> np.uint64(29)


@kernel
def _place_of(points, table, h, x, y, z):
    """The slot of a position with hash ``h`` in the table: its own, or the empty one where it belongs."""
    mask = np.uint64(len(table) - 1)
    k = h & mask
    while True:
        p = table[k]
        if p < 0 or (points[p, 0] == x and points[p, 1] == y and points[p, 2] == z):
            return k
        k = (k + np.uint64(1)) & mask


@kernel
def _within_block(block, points, hashes, table, index, bad):
    """Numbers the distinct positions of a few facets (B, 3, 3), into room for as many as they have corners.

    The corners of facets with a number that is not finite get position 0.
    """
    table[:] = -1
    count = 0
    exponent = np.uint32(0x7F800000)
    for n in range(len(block)):
        finite = True
        for c in range(3):
            for k in range(3):
                finite &= block[n, c, k] & exponent != exponent
        bad[n] = not finite
        for c in range(3):
            index[3 * n + c] = 0
            if not finite:
                continue
            x, y, z = _unsigned_zero(block[n, c, 0]), _unsigned_zero(block[n, c, 1]), _unsigned_zero(block[n, c, 2])
            h = _hash(x, y, z)
            slot = _place_of(points, table, h, x, y, z)
            if table[slot] < 0:
                table[slot] = count
                points[count, 0], points[count, 1], points[count, 2] = x, y, z
                hashes[count] = h
                count += 1
            index[3 * n + c] = table[slot]
    return count


@kernel
def join_corners(corners, facet, points, count, table, corner_point, bad, near, hashes, near_table, number):
    """Numbers the distinct positions of the corners of facets (F, 3, 3), given as bits, from one facet on.

    ``points`` (P, 3) holds the bits of those found so far, ``table`` has room for twice as many, a power of
    two. Stops before either is full; returns the next facet and the number of positions. ``bad`` marks
    facets with a number that is not finite, whose corners get some point. Facets go block by block, first
    among themselves, for neighbours mostly follow each other and ``table`` is too large for the processor's
    cache; ``near`` (N, 3), ``hashes`` (N,), ``near_table`` and ``number`` (N,) are room for that.
    """
    for p in range(count):
        x, y, z = points[p, 0], points[p, 1], points[p, 2]
        table[_place_of(points, table, _hash(x, y, z), x, y, z)] = p
    mask = np.uint64(len(table) - 1)
    while facet < len(bad):
        after = min(facet + len(near) // 3, len(bad))
        if count + 3 * (after - facet) > len(points):
            break
        index = corner_point[3 * facet : 3 * after]
        found = _within_block(corners[facet:after], near, hashes, near_table, index, bad[facet:after])
        # All slots are asked for before the first is looked at, so that none is waited for alone.
        number[0] = 0
        for i in range(found):
            number[0] |= table[hashes[i] & mask]
        for i in range(found):
            x, y, z = near[i, 0], near[i, 1], near[i, 2]
            slot = _place_of(points, table, hashes[i], x, y, z)
            if table[slot] < 0:
                table[slot] = count
                points[count, 0], points[count, 1], points[count, 2] = x, y, z
                count += 1
            number[i] = table[slot]
        for c in range(len(index)):
            index[c] = number[index[c]]
        facet = after
    return facet, count
