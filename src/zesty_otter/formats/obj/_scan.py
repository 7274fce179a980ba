"""Compiled scanner of OBJ text: bytes to flat arrays, in one pass that can stop at any line and go on.

The arrays have a fixed room. When a line does not fit, the scan undoes that line, says which array is
full and returns; the caller enlarges it and calls again.
"""

import numpy as np

from zesty_otter._compile import kernel
from zesty_otter.formats._numbers import read_float

# Where the scan keeps its counts between calls: indices into `state`.
(
    AT,
    LINE,
    POINTS,
    UVS,
    NORMALS,
    FACES,
    CORNERS,
    RUNS,
    NAMES,
    OBJECTS,
    OBJECT,
    GROUP,
    MATERIAL,
    SMOOTHING,
    SHORT_FACES,
    SHORT_FACE_LINE,
    BAD_NUMBERS,
    BAD_NUMBER_LINE,
    BAD_CORNERS,
    BAD_CORNER_LINE,
    DEPTHS,
    HAS_UV,
    HAS_NORMAL,
    STATE_SIZE,
) = range(24)

# What the scan returns: why it stopped.
(
    DONE,
    PAUSED,
    FULL_POINTS,
    FULL_UVS,
    FULL_NORMALS,
    FULL_FACES,
    FULL_CORNERS,
    FULL_RUNS,
    FULL_NAMES,
    WANT_COLORS,
) = range(10)

# Kinds of names.
KIND_OBJECT, KIND_GROUP, KIND_MATERIAL, KIND_LIBRARY, KIND_OTHER, KIND_SMOOTHING = range(6)

_TAB, _NEWLINE, _RETURN, _SPACE, _SLASH, _BACKSLASH = 9, 10, 13, 32, 47, 92
INVALID = -2


@kernel
def _is_end(c):
    return c == _NEWLINE or c == _RETURN


@kernel
def _skip_blanks(data, at, stop, state):
    # Blanks within a statement, continued lines included.
    while at < stop:
        c = data[at]
        if c == _SPACE or c == _TAB:
            at += 1
        elif c == _BACKSLASH and at + 1 < stop and _is_end(data[at + 1]):
            at += 3 if data[at + 1] == _RETURN and at + 2 < stop and data[at + 2] == _NEWLINE else 2
            state[LINE] += 1
        else:
            break
    return at


@kernel
def _skip_line(data, at, stop, state):
    # To the start of the next line; a line continued by a backslash is one line.
    while at < stop:
        c = data[at]
        if c == _NEWLINE:
            state[LINE] += 1
            return at + 1
        if c == _RETURN:
            if not (at + 1 < stop and data[at + 1] == _NEWLINE):
                state[LINE] += 1
                return at + 1
        elif c == _BACKSLASH and at + 1 < stop and _is_end(data[at + 1]):
            at += 2 if data[at + 1] == _RETURN and at + 2 < stop and data[at + 2] == _NEWLINE else 1
            state[LINE] += 1
        at += 1
    return at


@kernel
def _read_index(data, at, stop):
    # A signed whole number, 0 when there is none; held at 2**31 so that nothing overflows.
    negative = False
    if at < stop and (data[at] == 45 or data[at] == 43):
        negative = data[at] == 45
        at += 1
    value = np.int64(0)
    while at < stop:
        d = np.int64(np.uint64(data[at]) - np.uint64(48))
        if np.uint64(d) > np.uint64(9):
            break
        if value < 2147483648:
            value = value * 10 + d
        at += 1
    value = min(value, np.int64(2147483647))
    return (-value if negative else value), at


@kernel
def _resolved(index, count):
    # Positive indices count from 1, negative ones back from the latest.
    if index > 0:
        return index - 1
    if index < 0 and count + index >= 0:
        return count + index
    return INVALID


@kernel
def _hash(data, start, stop, kind):
    h = np.uint64(14695981039346656037) ^ np.uint64(kind)
    for k in range(start, stop):
        h = (h ^ np.uint64(data[k])) * np.uint64(1099511628211)
    return h


@kernel
def _name(data, start, stop, kind, state, names, table):
    # The number of a name, given out in order of first use. Open addressing over `names`.
    mask = len(table) - 1
    k = np.int64(_hash(data, start, stop, kind) & np.uint64(mask))
    while table[k] >= 0:
        n = table[k]
        if names[n, 0] == kind and names[n, 2] - names[n, 1] == stop - start:
            same = True
            for i in range(stop - start):
                if data[names[n, 1] + i] != data[start + i]:
                    same = False
                    break
            if same:
                names[n, 4] += 1
                return n
        k = (k + 1) & mask
    n = state[NAMES]
    table[k] = n
    names[n, 0], names[n, 1], names[n, 2], names[n, 3], names[n, 4] = kind, start, stop, state[LINE], 1
    state[NAMES] += 1
    return n


@kernel
def rehash(data, names, count, table):
    mask = len(table) - 1
    for n in range(count):
        k = np.int64(_hash(data, names[n, 1], names[n, 2], names[n, 0]) & np.uint64(mask))
        while table[k] >= 0:
            k = (k + 1) & mask
        table[k] = n


@kernel
def _rest_of_line(data, at, stop, state):
    # First and last byte of what follows a keyword, blanks trimmed.
    start = _skip_blanks(data, at, stop, state)
    end = start
    at = start
    while at < stop and not _is_end(data[at]):
        if data[at] > _SPACE:
            end = at + 1
        at += 1
    return start, end


@kernel
def _read_row(data, at, stop, state, row):
    # Up to len(row) numbers; returns how many there were, or -1 when something else stands there.
    count = 0
    while count < len(row):
        at = _skip_blanks(data, at, stop, state)
        if at >= stop or _is_end(data[at]) or data[at] == 35:
            return count, at
        value, after, ok = read_float(data, at, stop)
        if not ok or (after < stop and data[after] > _SPACE and data[after] != 35 and data[after] != _BACKSLASH):
            return -1, at
        row[count] = value
        count += 1
        at = after
    return count, at


@kernel
def _statement(data, at, end):
    # The kind of statement a keyword begins.
    size = end - at
    c = data[at]
    if size == 1:
        if c == 115:  # s
            return KIND_SMOOTHING
        if c == 103:  # g
            return KIND_GROUP
        if c == 111:  # o
            return KIND_OBJECT
    elif size == 6:
        if c == 117 and data[at + 1] == 115 and data[at + 2] == 101 and data[at + 3] == 109:  # usemtl
            return KIND_MATERIAL
        if c == 109 and data[at + 1] == 116 and data[at + 2] == 108 and data[at + 3] == 108:  # mtllib
            return KIND_LIBRARY
    return KIND_OTHER


@kernel
def scan(
    data,
    stop,
    pause,
    state,
    points,
    colors,
    uvs,
    normals,
    face_start,
    corners,
    face_line,
    runs,
    names,
    table,
    row,
):
    """Read whole lines from state[AT] on; stop at the end, at the first line behind `pause`, or when full.

    `corners` is (room, 3): point, UV and normal of each corner, -1 where not given, INVALID where the
    index cannot be meant. `runs` is (room, 5): first face, object, group, material, smoothing group.
    """
    at = state[AT]
    while at < pause:
        state[AT] = at
        line = state[LINE]
        while at < stop and (data[at] == _SPACE or data[at] == _TAB):
            at += 1
        if at >= stop:
            break
        c = data[at]
        following = data[at + 1] if at + 1 < stop else np.uint8(_NEWLINE)
        if c == 118 and (following <= _SPACE or following == 116 or following == 110):  # v, vt, vn
            if following == 116:
                if state[UVS] >= len(uvs):
                    return FULL_UVS
            elif following == 110:
                if state[NORMALS] >= len(normals):
                    return FULL_NORMALS
            elif state[POINTS] >= len(points):
                return FULL_POINTS
            count, at = _read_row(data, at + (1 if following <= _SPACE else 2), stop, state, row)
            sound = count > 0
            for k in range(min(count, 3)):
                sound = sound and abs(row[k]) <= 3e38
            if following == 116:
                n = state[UVS]
                uvs[n, 0] = row[0] if sound else np.nan
                uvs[n, 1] = row[1] if count > 1 else 0.0
                state[DEPTHS] += sound and count > 2 and row[2] != 0.0
                state[UVS] = n + 1
            elif following == 110:
                n = state[NORMALS]
                sound = sound and count >= 3
                for k in range(3):
                    normals[n, k] = row[k] if sound else np.nan
                state[NORMALS] = n + 1
            else:
                n = state[POINTS]
                if count >= 6 and len(colors) <= n:
                    state[LINE] = line
                    return WANT_COLORS
                sound = sound and count >= 3
                for k in range(3):
                    # A bad point keeps its number, so that the faces behind it do not shift.
                    points[n, k] = row[k] if sound else np.nan
                if not sound:
                    if state[BAD_NUMBERS] == 0:
                        state[BAD_NUMBER_LINE] = line
                    state[BAD_NUMBERS] += 1
                if len(colors) > n:
                    for k in range(3):
                        colors[n, k] = row[3 + k] if count >= 6 else np.nan
                state[POINTS] = n + 1
        elif c == 102 and (following <= _SPACE or (following == 111 and at + 2 < stop and data[at + 2] <= _SPACE)):
            # f, or fo as the oldest files have it
            if state[FACES] >= len(face_line):
                return FULL_FACES
            if state[RUNS] >= len(runs):
                return FULL_RUNS
            first = state[CORNERS]
            n = first
            at += 1 if following <= _SPACE else 2
            bad = False
            while True:
                at = _skip_blanks(data, at, stop, state)
                if at >= stop or data[at] == 35 or _is_end(data[at]):
                    break
                if n >= len(corners):
                    state[LINE] = line
                    return FULL_CORNERS
                index, after = _read_index(data, at, stop)
                if after == at:
                    bad = True
                    break
                corners[n, 0] = _resolved(index, state[POINTS])
                corners[n, 1] = -1
                corners[n, 2] = -1
                at = after
                if at < stop and data[at] == _SLASH:
                    index, after = _read_index(data, at + 1, stop)
                    if after > at + 1:
                        corners[n, 1] = _resolved(index, state[UVS])
                        state[HAS_UV] = 1
                    at = after
                    if at < stop and data[at] == _SLASH:
                        index, after = _read_index(data, at + 1, stop)
                        if after > at + 1:
                            corners[n, 2] = _resolved(index, state[NORMALS])
                            state[HAS_NORMAL] = 1
                        at = after
                if at < stop and data[at] > _SPACE and data[at] != _BACKSLASH and data[at] != 35:
                    bad = True
                    break
                n += 1
            if bad:
                if state[BAD_CORNERS] == 0:
                    state[BAD_CORNER_LINE] = line
                state[BAD_CORNERS] += 1
            elif n - first < 3:
                if state[SHORT_FACES] == 0:
                    state[SHORT_FACE_LINE] = line
                state[SHORT_FACES] += 1
            else:
                f = state[FACES]
                face_line[f] = line
                face_start[f + 1] = n
                r = state[RUNS] - 1
                if (
                    r < 0
                    or runs[r, 1] != state[OBJECT]
                    or runs[r, 2] != state[GROUP]
                    or runs[r, 3] != state[MATERIAL]
                    or runs[r, 4] != state[SMOOTHING]
                ):
                    r += 1
                    runs[r, 0], runs[r, 1], runs[r, 2] = f, state[OBJECT], state[GROUP]
                    runs[r, 3], runs[r, 4] = state[MATERIAL], state[SMOOTHING]
                    state[RUNS] = r + 1
                state[FACES] = f + 1
                state[CORNERS] = n
        elif c == 35:
            # A backslash at the end of a comment is the end of somebody's path, not a continuation.
            while at < stop and not _is_end(data[at]):
                at += 1
        elif not _is_end(c):
            if 2 * state[NAMES] + 2 >= len(table) or state[NAMES] + 1 >= len(names):
                return FULL_NAMES
            end = at
            while end < stop and data[end] > _SPACE:
                end += 1
            kind = _statement(data, at, end)
            if kind == KIND_OTHER:
                _name(data, at, end, kind, state, names, table)
                at = end
            else:
                start, at = _rest_of_line(data, end, stop, state)
                if kind == KIND_SMOOTHING:
                    group, after = _read_index(data, start, at)
                    state[SMOOTHING] = max(0, group) if after > start else 0
                elif kind == KIND_OBJECT:
                    # Each statement is an object of its own, also when a name comes again.
                    n = state[NAMES]
                    names[n, 0], names[n, 1], names[n, 2] = kind, start, at
                    names[n, 3], names[n, 4] = line, state[POINTS]
                    state[NAMES] = n + 1
                    state[OBJECT] = n
                    state[OBJECTS] += 1
                else:
                    n = _name(data, start, at, kind, state, names, table)
                    if kind == KIND_GROUP:
                        state[GROUP] = n
                    elif kind == KIND_MATERIAL:
                        state[MATERIAL] = n
        at = _skip_line(data, at, stop, state)
    state[AT] = at
    return DONE if at >= stop else PAUSED
