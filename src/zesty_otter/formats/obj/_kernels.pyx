"""OBJ text read into flat arrays by compiled code, in one pass that can stop at any line and go on; faces written.

The arrays have a fixed room. When a line does not fit, the scan undoes that line, says which array is
full and returns; the caller enlarges it and calls again.
"""

from libc.math cimport NAN
from libc.stdint cimport int32_t, int64_t, uint64_t, uint8_t
from libc.string cimport memcmp

from zesty_otter.formats._numbers cimport put_integer, read_float


# Where the scan keeps its counts between calls: indices into `state`.
cpdef enum:
    AT = 0
    LINE = 1
    POINTS = 2
    UVS = 3
    NORMALS = 4
    FACES = 5
    CORNERS = 6
    RUNS = 7
    NAMES = 8
    OBJECTS = 9
    OBJECT = 10
    GROUP = 11
    MATERIAL = 12
    SMOOTHING = 13
    SHORT_FACES = 14
    SHORT_FACE_LINE = 15
    BAD_NUMBERS = 16
    BAD_NUMBER_LINE = 17
    BAD_CORNERS = 18
    BAD_CORNER_LINE = 19
    DEPTHS = 20
    HAS_UV = 21
    HAS_NORMAL = 22
    STATE_SIZE = 23

# What the scan returns: why it stopped.
cpdef enum:
    DONE = 0
    PAUSED = 1
    FULL_POINTS = 2
    FULL_UVS = 3
    FULL_NORMALS = 4
    FULL_FACES = 5
    FULL_CORNERS = 6
    FULL_RUNS = 7
    FULL_NAMES = 8
    WANT_COLORS = 9

# Kinds of names.
cpdef enum:
    KIND_OBJECT = 0
    KIND_GROUP = 1
    KIND_MATERIAL = 2
    KIND_LIBRARY = 3
    KIND_OTHER = 4
    KIND_SMOOTHING = 5

cpdef enum:
    INVALID = -2

cdef enum:
    _TAB = 9
    _NEWLINE = 10
    _RETURN = 13
    _SPACE = 32
    _HASH = 35
    _SLASH = 47
    _BACKSLASH = 92
    _F = 102
    _G = 103
    _N = 110
    _O = 111
    _S = 115
    _T = 116
    _V = 118


cdef inline bint _is_end(uint8_t c) noexcept nogil:
    return c == _NEWLINE or c == _RETURN


cdef inline int64_t _skip_blanks(const uint8_t[::1] data, int64_t at, int64_t stop, int64_t[::1] state) noexcept nogil:
    # Blanks within a statement, continued lines included.
    cdef uint8_t c
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


cdef inline int64_t _skip_line(const uint8_t[::1] data, int64_t at, int64_t stop, int64_t[::1] state) noexcept nogil:
    # To the start of the next line; a line continued by a backslash is one line.
    cdef uint8_t c
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


cdef inline (int64_t, int64_t) _read_index(const uint8_t[::1] data, int64_t at, int64_t stop) noexcept nogil:
    # A signed whole number, 0 when there is none; held at 2**31 so that nothing overflows.
    cdef bint negative
    cdef int64_t d, value
    negative = False
    if at < stop and (data[at] == 45 or data[at] == 43):
        negative = data[at] == 45
        at += 1
    value = 0
    while at < stop:
        d = <int64_t>data[at] - 48
        if not 0 <= d <= 9:
            break
        if value < (<int64_t>1 << 31):
            value = value * 10 + d
        at += 1
    value = min(value, 2147483647)
    return (-value if negative else value), at


cdef inline int64_t _resolved(int64_t index, int64_t count) noexcept nogil:
    # Positive indices count from 1, negative ones back from the latest.
    if index > 0:
        return index - 1
    if index < 0 and count + index >= 0:
        return count + index
    return INVALID


cdef inline uint64_t _hash(const uint8_t[::1] data, int64_t start, int64_t stop, int64_t kind) noexcept nogil:
    cdef int64_t k
    cdef uint64_t h
    h = <uint64_t>14695981039346656037 ^ <uint64_t>kind
    for k in range(start, stop):
        h = (h ^ <uint64_t>data[k]) * <uint64_t>1099511628211
    return h


cdef inline int64_t _name(
    const uint8_t[::1] data, int64_t start, int64_t stop, int64_t kind, int64_t[::1] state, int64_t[:, ::1] names,
    int32_t[::1] table
) noexcept nogil:
    # The number of a name, given out in order of first use. Open addressing over `names`.
    cdef bint same
    cdef int64_t i, k, mask, n
    mask = len(table) - 1
    k = <int64_t>(_hash(data, start, stop, kind) & <uint64_t>mask)
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


cpdef void rehash(const uint8_t[::1] data, const int64_t[:, ::1] names, int64_t count, int32_t[::1] table) noexcept:
    cdef int64_t k, mask, n
    with nogil:
        mask = len(table) - 1
        for n in range(count):
            k = <int64_t>(_hash(data, names[n, 1], names[n, 2], names[n, 0]) & <uint64_t>mask)
            while table[k] >= 0:
                k = (k + 1) & mask
            table[k] = n


cdef inline (int64_t, int64_t) _rest_of_line(
    const uint8_t[::1] data, int64_t at, int64_t stop, int64_t[::1] state
) noexcept nogil:
    # First and last byte of what follows a keyword, blanks trimmed.
    cdef int64_t end, start
    start = _skip_blanks(data, at, stop, state)
    end = start
    at = start
    while at < stop and not _is_end(data[at]):
        if data[at] > _SPACE:
            end = at + 1
        at += 1
    return start, end


cdef inline (int64_t, int64_t) _read_row(
    const uint8_t[::1] data, int64_t at, int64_t stop, int64_t[::1] state, double[::1] row
) noexcept nogil:
    # Up to len(row) numbers; returns how many there were, or -1 when something else stands there.
    cdef bint ok
    cdef double value
    cdef int64_t after, count
    count = 0
    while count < len(row):
        at = _skip_blanks(data, at, stop, state)
        if at >= stop or _is_end(data[at]) or data[at] == _HASH:
            return count, at
        value, after, ok = read_float(&data[0], at, stop)
        if not ok or (after < stop and data[after] > _SPACE and data[after] != 35 and data[after] != _BACKSLASH):
            return -1, at
        row[count] = value
        count += 1
        at = after
    return count, at


cdef inline int64_t _statement(const uint8_t[::1] data, int64_t at, int64_t end) noexcept nogil:
    # The kind of statement a keyword begins.
    cdef int64_t size
    cdef uint8_t c
    size = end - at
    c = data[at]
    if size == 1:
        if c == _S:
            return KIND_SMOOTHING
        if c == _G:
            return KIND_GROUP
        if c == _O:
            return KIND_OBJECT
    elif size == 6:
        if memcmp(&data[at], b"usem", 4) == 0:  # usemtl
            return KIND_MATERIAL
        if memcmp(&data[at], b"mtll", 4) == 0:  # mtllib
            return KIND_LIBRARY
    return KIND_OTHER


cdef inline int64_t _vertex(
    const uint8_t[::1] data, int64_t *at, int64_t stop, int64_t[::1] state, double[:, ::1] points, float[:, ::1] colors,
    float[:, ::1] uvs, float[:, ::1] normals, double[::1] row
) noexcept nogil:
    """A statement v, vt or vn: DONE, or what is full."""
    cdef bint sound
    cdef int64_t count, k, line = state[LINE], n
    cdef uint8_t what = data[at[0] + 1] if at[0] + 1 < stop else <uint8_t>_NEWLINE
    if what == _T:
        if state[UVS] >= len(uvs):
            return FULL_UVS
    elif what == _N:
        if state[NORMALS] >= len(normals):
            return FULL_NORMALS
    elif state[POINTS] >= len(points):
        return FULL_POINTS
    count, at[0] = _read_row(data, at[0] + (1 if what <= _SPACE else 2), stop, state, row)
    sound = count > 0
    for k in range(min(count, 3)):
        sound = sound and abs(row[k]) <= 3e38
    if what == _T:
        n = state[UVS]
        uvs[n, 0] = row[0] if sound else NAN
        uvs[n, 1] = row[1] if count > 1 else 0.0
        state[DEPTHS] += sound and count > 2 and row[2] != 0.0
        state[UVS] = n + 1
        return DONE
    sound = sound and count >= 3
    if what == _N:
        n = state[NORMALS]
        for k in range(3):
            normals[n, k] = row[k] if sound else NAN
        state[NORMALS] = n + 1
        return DONE
    n = state[POINTS]
    if count >= 6 and len(colors) <= n:
        state[LINE] = line
        return WANT_COLORS
    for k in range(3):
        # A bad point keeps its number, so that the faces behind it do not shift.
        points[n, k] = row[k] if sound else NAN
    if not sound:
        if state[BAD_NUMBERS] == 0:
            state[BAD_NUMBER_LINE] = line
        state[BAD_NUMBERS] += 1
    if len(colors) > n:
        for k in range(3):
            colors[n, k] = row[3 + k] if count >= 6 else NAN
    state[POINTS] = n + 1
    return DONE


cdef inline bint _corner(
    const uint8_t[::1] data, int64_t *at, int64_t stop, int64_t[::1] state, int32_t[:, ::1] corners, int64_t n
) noexcept nogil:
    """A corner of a face, point/UV/normal; False when it is none."""
    cdef int64_t after, index
    index, after = _read_index(data, at[0], stop)
    if after == at[0]:
        return False
    corners[n, 0] = _resolved(index, state[POINTS])
    corners[n, 1] = -1
    corners[n, 2] = -1
    at[0] = after
    if after < stop and data[after] == _SLASH:
        index, after = _read_index(data, at[0] + 1, stop)
        if after > at[0] + 1:
            corners[n, 1] = _resolved(index, state[UVS])
            state[HAS_UV] = 1
        at[0] = after
        if after < stop and data[after] == _SLASH:
            index, after = _read_index(data, at[0] + 1, stop)
            if after > at[0] + 1:
                corners[n, 2] = _resolved(index, state[NORMALS])
                state[HAS_NORMAL] = 1
            at[0] = after
    return at[0] >= stop or data[at[0]] <= _SPACE or data[at[0]] == _BACKSLASH or data[at[0]] == _HASH


cdef inline int64_t _face(
    const uint8_t[::1] data, int64_t *at, int64_t stop, int64_t[::1] state, int32_t[::1] face_start,
    int32_t[:, ::1] corners, int32_t[::1] face_line, int64_t[:, ::1] runs
) noexcept nogil:
    """The corners of a statement f: DONE, or what is full."""
    cdef bint sound = True
    cdef int64_t first = state[CORNERS], line = state[LINE], n = first
    if state[FACES] >= len(face_line):
        return FULL_FACES
    if state[RUNS] >= len(runs):
        return FULL_RUNS
    while sound:
        at[0] = _skip_blanks(data, at[0], stop, state)
        if at[0] >= stop or data[at[0]] == _HASH or _is_end(data[at[0]]):
            break
        if n >= len(corners):
            state[LINE] = line
            return FULL_CORNERS
        sound = _corner(data, at, stop, state, corners, n)
        n += sound
    if not sound:
        if state[BAD_CORNERS] == 0:
            state[BAD_CORNER_LINE] = line
        state[BAD_CORNERS] += 1
    elif n - first < 3:
        if state[SHORT_FACES] == 0:
            state[SHORT_FACE_LINE] = line
        state[SHORT_FACES] += 1
    else:
        _keep_face(state, face_start, face_line, runs, line, n)
    return DONE


cdef inline void _keep_face(
    int64_t[::1] state, int32_t[::1] face_start, int32_t[::1] face_line, int64_t[:, ::1] runs, int64_t line,
    int64_t end
) noexcept nogil:
    """A face whose corners end at ``end``, in the run of faces before it or in one of its own."""
    cdef int64_t f = state[FACES], r = state[RUNS] - 1
    face_line[f] = line
    face_start[f + 1] = end
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
    state[CORNERS] = end


cdef inline int64_t _other(
    const uint8_t[::1] data, int64_t *at, int64_t stop, int64_t[::1] state, int64_t[:, ::1] names, int32_t[::1] table
) noexcept nogil:
    """A statement with a name, a smoothing group, or one that is only counted: DONE, or what is full."""
    cdef int64_t after, end = at[0], group, kind, line = state[LINE], n, start
    if 2 * state[NAMES] + 2 >= len(table) or state[NAMES] + 1 >= len(names):
        return FULL_NAMES
    while end < stop and data[end] > _SPACE:
        end += 1
    kind = _statement(data, at[0], end)
    if kind == KIND_OTHER:
        _name(data, at[0], end, kind, state, names, table)
        at[0] = end
        return DONE
    start, at[0] = _rest_of_line(data, end, stop, state)
    if kind == KIND_SMOOTHING:
        group, after = _read_index(data, start, at[0])
        state[SMOOTHING] = max(0, group) if after > start else 0
    elif kind == KIND_OBJECT:
        # Each statement is an object of its own, also when a name comes again.
        n = state[NAMES]
        names[n, 0], names[n, 1], names[n, 2] = kind, start, at[0]
        names[n, 3], names[n, 4] = line, state[POINTS]
        state[NAMES] = n + 1
        state[OBJECT] = n
        state[OBJECTS] += 1
    else:
        n = _name(data, start, at[0], kind, state, names, table)
        if kind == KIND_GROUP:
            state[GROUP] = n
        elif kind == KIND_MATERIAL:
            state[MATERIAL] = n
    return DONE


cpdef int64_t scan(
    const uint8_t[::1] data, int64_t stop, int64_t pause, int64_t[::1] state, double[:, ::1] points,
    float[:, ::1] colors, float[:, ::1] uvs, float[:, ::1] normals, int32_t[::1] face_start, int32_t[:, ::1] corners,
    int32_t[::1] face_line, int64_t[:, ::1] runs, int64_t[:, ::1] names, int32_t[::1] table, double[::1] row
) noexcept:
    """Read whole lines from state[AT] on; stop at the end, at the first line behind `pause`, or when full.

    `corners` is (room, 3): point, UV and normal of each corner, -1 where not given, INVALID where the
    index cannot be meant. `runs` is (room, 5): first face, object, group, material, smoothing group.
    """
    cdef int64_t at, full
    cdef uint8_t c, following
    with nogil:
        at = state[AT]
        while at < pause:
            state[AT] = at
            while at < stop and (data[at] == _SPACE or data[at] == _TAB):
                at += 1
            if at >= stop:
                break
            c = data[at]
            following = data[at + 1] if at + 1 < stop else <uint8_t>_NEWLINE
            full = DONE
            if c == _V and (following <= _SPACE or following == _T or following == _N):
                full = _vertex(data, &at, stop, state, points, colors, uvs, normals, row)
            elif c == _F and (following <= _SPACE or (following == _O and at + 2 < stop and data[at + 2] <= _SPACE)):
                at += 1 if following <= _SPACE else 2  # fo, as the oldest files have it
                full = _face(data, &at, stop, state, face_start, corners, face_line, runs)
            elif c == _HASH:
                # A backslash at the end of a comment is the end of somebody's path, not a continuation.
                while at < stop and not _is_end(data[at]):
                    at += 1
            elif not _is_end(c):
                full = _other(data, &at, stop, state, names, table)
            if full != DONE:
                return full
            at = _skip_line(data, at, stop, state)
        state[AT] = at
        return DONE if at >= stop else PAUSED


cpdef (int64_t, int64_t) put_faces(
    const int32_t[::1] face_start, const int32_t[:, ::1] columns, const int64_t[::1] base,
    const int32_t[:, ::1] statement, int32_t[::1] current, const uint8_t[::1] text, const int64_t[::1] text_start,
    int64_t first, uint8_t[::1] out
) noexcept:
    """Writes face statements until the buffer is nearly full; returns the next face and the bytes written.

    ``columns`` (3, C) are the rows of points, UVs and normals at the corners, -1 for none; ``base`` what is
    added to each. ``statement`` (F, S) are numbers of statements in ``text`` that must stand before a face,
    written when one differs from what ``current`` (S,) says was written last.
    """
    cdef int32_t corner, normal, one, uv
    cdef int64_t at, c, face, k, need
    with nogil:
        at = 0
        face = first
        while face < len(face_start) - 1:
            need = 34 * (face_start[face + 1] - face_start[face]) + 3
            for k in range(statement.shape[1]):
                one = statement[face, k]
                need += text_start[one + 1] - text_start[one]
            if at + need > len(out):
                break
            for k in range(statement.shape[1]):
                one = statement[face, k]
                if one != current[k]:
                    current[k] = one
                    for c in range(text_start[one], text_start[one + 1]):
                        out[at] = text[c]
                        at += 1
            out[at] = 102
            at += 1
            for corner in range(face_start[face], face_start[face + 1]):
                out[at] = 32
                at = put_integer(columns[0, corner] + base[0], out, at + 1)
                uv, normal = columns[1, corner], columns[2, corner]
                if uv >= 0 or normal >= 0:
                    out[at] = 47
                    at += 1
                    if uv >= 0:
                        at = put_integer(uv + base[1], out, at)
                    if normal >= 0:
                        out[at] = 47
                        at = put_integer(normal + base[2], out, at + 1)
            out[at] = 10
            at += 1
            face += 1
        return face, at
