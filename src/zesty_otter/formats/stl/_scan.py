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
def _place_of(points, table, x, y, z):
    """The slot of a position in the table: its own, or the empty one where it belongs."""
    mask = np.uint64(len(table) - 1)
    h = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
    h ^= np.uint64(z) * np.uint64(0x165667B19E3779F9)
    h ^= h >> np.uint64(32)
    h *= np.uint64(0xD6E8FEB86659FD93)
    k = (h ^ h >> np.uint64(29)) & mask
    while True:
        p = table[k]
        if p < 0 or (points[p, 0] == x and points[p, 1] == y and points[p, 2] == z):
            return k
        k = (k + np.uint64(1)) & mask


@kernel
def join_corners(corners, facet, points, count, table, corner_point, bad):
    """Numbers the distinct positions of the corners of facets (F, 3, 3), given as bits, from one facet on.

    ``points`` (P, 3) holds the bits of those found so far, ``table`` has room for twice as many, a power of
    two. Stops before either is full; returns the next facet and the number of positions. ``bad`` marks
    facets with a number that is not finite, whose corners get the first point.
    """
    for p in range(count):
        table[_place_of(points, table, points[p, 0], points[p, 1], points[p, 2])] = p
    for n in range(facet, len(bad)):
        if count + 3 > len(points):
            return n, count
        finite = True
        for c in range(3):
            for k in range(3):
                finite &= (corners[n, c, k] >> np.uint32(23)) & np.uint32(255) != np.uint32(255)
        bad[n] = not finite
        for c in range(3):
            corner_point[3 * n + c] = 0
            if finite:
                x, y = _unsigned_zero(corners[n, c, 0]), _unsigned_zero(corners[n, c, 1])
                z = _unsigned_zero(corners[n, c, 2])
                # Most facets share an edge with the one before.
                found = -1
                for m in range(max(3 * n - 3, 0), 3 * n):
                    p = corner_point[m]
                    if count > 0 and points[p, 0] == x and points[p, 1] == y and points[p, 2] == z:
                        found = p
                if found >= 0:
                    corner_point[3 * n + c] = found
                    continue
                k = _place_of(points, table, x, y, z)
                if table[k] < 0:
                    table[k] = count
                    points[count, 0], points[count, 1], points[count, 2] = x, y, z
                    count += 1
                corner_point[3 * n + c] = table[k]
    return len(bad), count
