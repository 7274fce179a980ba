"""ASCII STL scanned by compiled code."""

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
