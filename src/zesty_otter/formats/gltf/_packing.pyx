"""Buffer views of glTF, compressed (by the registered extension for them, appendices A and B)."""

from libc.stdint cimport uint8_t, int32_t, int64_t, uint32_t


cpdef int64_t pack_attributes(const uint8_t[:, ::1] rows, uint8_t[::1] out) noexcept:
    # Version 0: of each byte of a row the steps from row to row, zigzag, in groups of 16 of as few bits as they need.
    # Returns the bytes written; `out` has room for steps of 8 bits everywhere.
    cdef int64_t at, at_four, at_two, count, first, group, groups, head, k, lane, most, n, row, stride
    cdef uint8_t here
    cdef uint8_t[16] steps
    cdef uint8_t[256] last
    cdef bint any_step
    with nogil:
        count, stride = rows.shape[0], rows.shape[1]
        most = min(256, (8192 // stride) & ~15)
        for k in range(stride):
            last[k] = rows[0, k] if count else 0
        out[0] = 0xA0
        at, first = 1, 0
        while first < count:
            n = min(most, count - first)
            groups = (n + 15) // 16
            for lane in range(stride):
                head = at
                at += (groups + 3) // 4
                for k in range(head, at):
                    out[k] = 0
                for group in range(groups):
                    any_step, at_two, at_four = False, 4, 8
                    for k in range(16):
                        steps[k] = 0
                        row = 16 * group + k
                        if row < n:
                            here = <uint8_t>(rows[first + row, lane] - last[lane])
                            last[lane] = rows[first + row, lane]
                            steps[k] = <uint8_t>((here << 1) ^ (0xFF if here & 0x80 else 0))
                        any_step |= steps[k] != 0
                        at_two += steps[k] >= 3
                        at_four += steps[k] >= 15
                    if not any_step:
                        continue
                    if at_two <= at_four and at_two < 16:
                        out[head + (group >> 2)] |= <uint8_t>(1 << (2 * (group & 3)))
                        at = _put_steps(steps, 2, at, out)
                    elif at_four < 16:
                        out[head + (group >> 2)] |= <uint8_t>(2 << (2 * (group & 3)))
                        at = _put_steps(steps, 4, at, out)
                    else:
                        out[head + (group >> 2)] |= <uint8_t>(3 << (2 * (group & 3)))
                        for k in range(16):
                            out[at + k] = steps[k]
                        at += 16
            first += n
        for k in range(32 - stride):
            out[at] = 0
            at += 1
        for k in range(stride):
            out[at] = rows[0, k] if count else 0
            at += 1
    return at


cdef inline int64_t _put_steps(uint8_t *steps, int bits, int64_t at, uint8_t[::1] out) noexcept nogil:
    # 16 steps in so many bits each, the first in the highest; those that do not fit behind them.
    cdef int most = (1 << bits) - 1, in_byte = 8 // bits
    cdef int64_t k, more = at + 2 * bits
    for k in range(2 * bits):
        out[at + k] = 0
    for k in range(16):
        out[at + k // in_byte] |= <uint8_t>(min(<int>steps[k], most) << (bits * (in_byte - 1 - k % in_byte)))
        if steps[k] >= most:
            out[more] = steps[k]
            more += 1
    return more


# What new triangles after a new vertex do most often: the two other corners, each new (0) or among the last.
cdef uint8_t[16] _OFTEN
_OFTEN[:] = [0x00, 0x10, 0x01, 0x12, 0x21, 0x20, 0x02, 0x13, 0x31, 0x23, 0x32, 0x30, 0x03, 0x14, 0x00, 0x00]

cdef struct _Recent:
    uint32_t[16][2] edges
    uint32_t[16] vertices
    int edge
    int vertex
    uint32_t following
    uint32_t last


cdef inline void _push_edge(_Recent *recent, uint32_t a, uint32_t b) noexcept nogil:
    recent.edges[recent.edge][0], recent.edges[recent.edge][1] = a, b
    recent.edge = (recent.edge + 1) & 15


cdef inline void _push_vertex(_Recent *recent, uint32_t v) noexcept nogil:
    recent.vertices[recent.vertex] = v
    recent.vertex = (recent.vertex + 1) & 15


cdef inline int64_t _put_free(_Recent *recent, uint32_t v, int64_t at, uint8_t[::1] out) noexcept nogil:
    # A vertex as a step from the last that was put so, in groups of seven bits.
    cdef uint32_t step = v - recent.last
    step = (step << 1) ^ (0 - (step >> 31))
    recent.last = v
    while step > 127:
        out[at] = <uint8_t>(step & 127 | 128)
        at += 1
        step >>= 7
    out[at] = <uint8_t>step
    return at + 1


cdef inline int _kind_of(_Recent *recent, uint32_t v) noexcept nogil:
    # 0 for the next new vertex, its place among the last, or 15 where it must be written out.
    cdef int k
    if v == recent.following:
        recent.following += 1
        return 0
    for k in range(1, 15):
        if recent.vertices[(recent.vertex - k) & 15] == v:
            return k
    return 15


cpdef int64_t pack_triangles(const uint32_t[::1] corners, uint8_t[::1] out) noexcept:
    # Version 1. A triangle may come to begin at another of its corners. Returns the bytes written; `out` has room for
    # 17 for each triangle.
    cdef _Recent recent
    cdef uint32_t a, b, c
    cdef int code, k, match, turn, x, y, z
    cdef int64_t at, count, t
    with nogil:
        count = len(corners) // 3
        for k in range(16):
            recent.edges[k][0] = recent.edges[k][1] = recent.vertices[k] = 0xFFFFFFFF
        recent.edge = recent.vertex = 0
        recent.following = recent.last = 0
        out[0] = 0xE1
        at = 1 + count
        a = b = c = 0
        for t in range(count):
            match = -1
            for k in range(15):
                for turn in range(3):
                    a, b, c = corners[3 * t + turn], corners[3 * t + (turn + 1) % 3], corners[3 * t + (turn + 2) % 3]
                    x = (recent.edge - 1 - k) & 15
                    if recent.edges[x][0] == a and recent.edges[x][1] == b:
                        match = k
                        break
                if match >= 0:
                    break
            if match >= 0:
                z = _kind_of(&recent, c)
                if z == 0:
                    _push_vertex(&recent, c)
                elif 2 <= z <= 13:
                    z -= 1  # here the last but one is the first
                else:
                    if c == recent.last - 1 or c == recent.last + 1:
                        z = 13 if c == recent.last - 1 else 14
                        recent.last = c
                    else:
                        z = 15
                        at = _put_free(&recent, c, at, out)
                    _push_vertex(&recent, c)
                out[1 + t] = <uint8_t>(match << 4 | z)
                _push_edge(&recent, c, b)
                _push_edge(&recent, a, c)
                continue
            turn = 0
            for k in range(3):
                if corners[3 * t + k] == recent.following:
                    turn = k
                    break
            a, b, c = corners[3 * t + turn], corners[3 * t + (turn + 1) % 3], corners[3 * t + (turn + 2) % 3]
            x = 15
            if a == recent.following:
                recent.following += 1
                x = 0
            y = _kind_of(&recent, b)
            z = _kind_of(&recent, c)
            if x and y == 0 and z == 0:
                # That would begin the count anew.
                z = 15
                recent.following -= 1
            code = 0xFE if x == 0 else 0xFF
            if x == 0 and y < 15 and z < 15:
                for k in range(14):
                    if _OFTEN[k] == (y << 4 | z):
                        code = 0xF0 | k
                        break
            out[1 + t] = <uint8_t>code
            if code >= 0xFE:
                out[at] = <uint8_t>(y << 4 | z)
                at += 1
                if x:
                    at = _put_free(&recent, a, at, out)
                if y == 15:
                    at = _put_free(&recent, b, at, out)
                if z == 15:
                    at = _put_free(&recent, c, at, out)
            _push_vertex(&recent, a)
            if y == 0 or y == 15:
                _push_vertex(&recent, b)
            if z == 0 or z == 15:
                _push_vertex(&recent, c)
            _push_edge(&recent, b, a)
            _push_edge(&recent, c, b)
            _push_edge(&recent, a, c)
        for k in range(16):
            out[at] = _OFTEN[k]
            at += 1
    return at
