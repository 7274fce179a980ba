"""Compressed buffer views of glTF (by the registered extension for them, appendices A and B), read and written."""

from libc.math cimport fabsf, ldexp, sqrtf
from libc.stdint cimport int16_t, int32_t, int64_t, int8_t, uint32_t, uint8_t
from libc.string cimport memcpy, memset


cdef int64_t _lane(const uint8_t[::1] data, int64_t at, int64_t stop, int64_t rows, int way, uint8_t* out) noexcept nogil:
    """The steps of one byte of up to 256 rows, in one of five ways; where they end, or -1.

    They are none, or bytes, or groups of 16 of so many bits as two bits for each group say; those that do not fit stand
    behind their group.
    """
    cdef int64_t groups = (rows + 15) // 16, head = at, group, k, more
    cdef int bits, value, most
    if way == 2:
        memset(out, 0, 256)
        return at
    if way == 3:
        if at + rows > stop:
            return -1
        memcpy(out, &data[at], rows)
        return at + rows
    at += (groups + 3) // 4
    for group in range(groups):
        if at > stop:
            return -1
        bits = data[head + (group >> 2)] >> (2 * (group & 3)) & 3
        # 0, 1, 2 and 4 bits; 1, 2, 4 and 8; or, of version 0, 0, 2, 4 and 8.
        bits = 1 << bits & ~1 if way == 4 else 1 << (bits + way) >> 1
        more = at + 2 * bits
        if more > stop:
            return -1
        if bits == 0:
            memset(out + 16 * group, 0, 16)
            continue
        if bits == 8:
            memcpy(out + 16 * group, &data[at], 16)
            at = more
            continue
        most = (1 << bits) - 1
        for k in range(16):
            if bits == 1:
                value = data[at + (k >> 3)] >> (k & 7) & 1
            else:
                value = data[at + (k * bits >> 3)] >> (8 - bits - (k * bits & 7)) & most
            if value == most:
                if more >= stop:
                    return -1
                value = data[more]
                more += 1
            out[16 * group + k] = value
        at = more
    return at


cpdef int64_t attributes(const uint8_t[::1] data, int64_t stride, uint8_t[:, ::1] out) noexcept:
    """Rows of ``stride`` bytes (N, stride), whole words and at most 256; 0 when all were there, else -1.

    Blocks of rows; of each byte of a row a run of steps. The row before the first stands at the end. In version 1 a block
    begins with two bits for each byte of a row, how its steps are held, and the end says for each word of a row whether
    they are steps of its bytes, of its two halves, or bits of all four that change, turned round.
    """
    cdef int64_t words = stride // 4, modes = words if data[0] & 1 else 0
    cdef int64_t tail = max(stride + modes, 24 if modes else 32), stop = len(data) - tail
    cdef int64_t most = min((8192 // stride) & ~15, 256), at = 1, first = 0, rows, word, row, j, control
    cdef int mode = 0, turn, way = 4
    cdef uint32_t step, four
    cdef uint8_t lanes[4][256]
    cdef uint8_t last[256]
    with nogil:
        if stop < 1 or stride > 256:
            return -1
        memcpy(last, &data[len(data) - stride - modes], stride)
        while first < out.shape[0]:
            rows = min(out.shape[0] - first, most)
            control = at
            at += modes
            if at > stop:
                return -1
            for word in range(words):
                if modes:
                    mode = data[len(data) - words + word]
                for j in range(4):
                    if modes:
                        way = data[control + word] >> (2 * j) & 3
                    at = _lane(data, at, stop, rows, way, lanes[j])
                    if at < 0:
                        return -1
                turn = (32 - (mode >> 4)) & 31
                memcpy(&four, &last[4 * word], 4)
                for row in range(rows):
                    step = lanes[0][row] | lanes[1][row] << 8 | lanes[2][row] << 16 | <uint32_t> lanes[3][row] << 24
                    if mode & 3 == 0:
                        four = _added(four, _stepped(step, 0x01010101, 0x7F7F7F7F), 0x7F7F7F7F)
                    elif mode & 3 == 1:
                        four = _added(four, _stepped(step, 0x00010001, 0x7FFF7FFF), 0x7FFF7FFF)
                    elif mode & 3 == 2:
                        four ^= step << turn | step >> ((32 - turn) & 31)
                    else:
                        return -1
                    memcpy(&out[first + row, 4 * word], &four, 4)
                memcpy(&last[4 * word], &four, 4)
            first += rows
        return 0


cdef inline uint32_t _stepped(uint32_t value, uint32_t ones, uint32_t low) noexcept nogil:
    """Signed steps of the numbers in four bytes, whose lowest bits are their signs."""
    return (value >> 1 & low) ^ (value & ones) * (low // ones << 1 | 1)


cdef inline uint32_t _added(uint32_t a, uint32_t b, uint32_t low) noexcept nogil:
    """The sums of the numbers in four bytes; ``low`` holds all but the highest bit of each."""
    return ((a & low) + (b & low)) ^ ((a ^ b) & ~low)


cdef inline uint32_t _number(const uint8_t[::1] data, int64_t* at, int64_t stop) noexcept nogil:
    """A number in groups of seven bits, the lowest first; ``at`` is beyond ``stop`` afterwards when it is cut off."""
    cdef uint32_t value = 0
    cdef int shift
    for shift in range(0, 35, 7):
        if at[0] >= stop:
            at[0] = stop + 1
            return 0
        value |= <uint32_t> (data[at[0]] & 127) << shift
        at[0] += 1
        if data[at[0] - 1] < 128:
            break
    return value


cdef inline uint32_t _step(uint32_t value) noexcept nogil:
    return (value >> 1) ^ (0 - (value & 1))


cpdef int64_t triangles(const uint8_t[::1] data, uint32_t[::1] out) noexcept:
    """The corners of triangles; 0 when all were there, else -1.

    A code for each triangle names an edge of one of the last 16, or starts anew; vertices are the next one, one of
    the last 16, or a step from the last.
    """
    cdef int64_t count = len(out) // 3, at = 1 + count, stop = len(data) - 16, k
    cdef uint32_t edges[16][2]
    cdef uint32_t vertices[16]
    cdef uint32_t following = 0, last = 0, a, b, c
    cdef int edge = 0, vertex = 0, code, more, x, y, z, free = 13 if data[0] & 15 >= 1 else 15
    with nogil:
        for k in range(16):
            edges[k][0] = edges[k][1] = vertices[k] = 0xFFFFFFFF
        if at > stop:
            return -1
        for k in range(count):
            code = data[1 + k]
            if code < 0xF0:
                x = (edge - 1 - (code >> 4)) & 15
                a, b = edges[x][0], edges[x][1]
                z = code & 15
                if z < free:
                    c = following if z == 0 else vertices[(vertex - 1 - z) & 15]
                    if z == 0:
                        following += 1
                        vertices[vertex] = c
                        vertex = (vertex + 1) & 15
                else:
                    # 13 and 14 are one before and one behind the last.
                    c = last + <uint32_t> (z - (z ^ 3)) if z != 15 else last + _step(_number(data, &at, stop))
                    last = c
                    vertices[vertex] = c
                    vertex = (vertex + 1) & 15
                edges[edge][0], edges[edge][1] = c, b
                edge = (edge + 1) & 15
                edges[edge][0], edges[edge][1] = a, c
                edge = (edge + 1) & 15
            else:
                if code < 0xFE:
                    more = data[stop + (code & 15)]
                    x = 0
                else:
                    if at >= stop:
                        return -1
                    more = data[at]
                    at += 1
                    x = 0 if code == 0xFE else 15
                    if more == 0:
                        following = 0
                y, z = more >> 4, more & 15
                a = b = c = 0
                if x == 0:
                    a = following
                    following += 1
                if y == 0:
                    b = following
                    following += 1
                else:
                    b = vertices[(vertex - y) & 15]
                if z == 0:
                    c = following
                    following += 1
                else:
                    c = vertices[(vertex - z) & 15]
                if code >= 0xFE:
                    if x == 15:
                        last = a = last + _step(_number(data, &at, stop))
                    if y == 15:
                        last = b = last + _step(_number(data, &at, stop))
                    if z == 15:
                        last = c = last + _step(_number(data, &at, stop))
                vertices[vertex] = a
                vertex = (vertex + 1) & 15
                if y == 0 or (y == 15 and code >= 0xFE):
                    vertices[vertex] = b
                    vertex = (vertex + 1) & 15
                if z == 0 or (z == 15 and code >= 0xFE):
                    vertices[vertex] = c
                    vertex = (vertex + 1) & 15
                edges[edge][0], edges[edge][1] = b, a
                edge = (edge + 1) & 15
                edges[edge][0], edges[edge][1] = c, b
                edge = (edge + 1) & 15
                edges[edge][0], edges[edge][1] = a, c
                edge = (edge + 1) & 15
            if at > stop:
                return -1
            out[3 * k], out[3 * k + 1], out[3 * k + 2] = a, b, c
        return 0


cpdef int64_t indices(const uint8_t[::1] data, uint32_t[::1] out) noexcept:
    """Numbers in any order, each a step from one of two before; 0 when all were there, else -1."""
    cdef int64_t at = 1, stop = len(data) - 4, k
    cdef uint32_t last[2]
    cdef uint32_t value
    with nogil:
        last[0] = last[1] = 0
        for k in range(len(out)):
            value = _number(data, &at, stop)
            if at > stop:
                return -1
            last[value & 1] += _step(value >> 1)
            out[k] = last[value & 1]
        return 0


cpdef void octahedral8(int8_t[:, ::1] values) noexcept:
    """Unit vectors (N, 4) that were laid out flat, in place; the fourth number is left alone."""
    cdef int64_t k
    cdef float x, y, z, t, s
    with nogil:
        for k in range(values.shape[0]):
            x, y = values[k, 0], values[k, 1]
            z = values[k, 2] - fabsf(x) - fabsf(y)
            t = z if z < 0 else 0
            x += t if x >= 0 else -t
            y += t if y >= 0 else -t
            s = sqrtf(x * x + y * y + z * z)
            s = 127 / s if s > 0 else 0
            values[k, 0] = <int8_t> (x * s + (0.5 if x >= 0 else -0.5))
            values[k, 1] = <int8_t> (y * s + (0.5 if y >= 0 else -0.5))
            values[k, 2] = <int8_t> (z * s + (0.5 if z >= 0 else -0.5))


cpdef void octahedral16(int16_t[:, ::1] values) noexcept:
    """As `octahedral8`, for 16 bits."""
    cdef int64_t k
    cdef float x, y, z, t, s
    with nogil:
        for k in range(values.shape[0]):
            x, y = values[k, 0], values[k, 1]
            z = values[k, 2] - fabsf(x) - fabsf(y)
            t = z if z < 0 else 0
            x += t if x >= 0 else -t
            y += t if y >= 0 else -t
            s = sqrtf(x * x + y * y + z * z)
            s = 32767 / s if s > 0 else 0
            values[k, 0] = <int16_t> (x * s + (0.5 if x >= 0 else -0.5))
            values[k, 1] = <int16_t> (y * s + (0.5 if y >= 0 else -0.5))
            values[k, 2] = <int16_t> (z * s + (0.5 if z >= 0 else -0.5))


cpdef void quaternions(int16_t[:, ::1] values) noexcept:
    """Rotations (N, 4) of which three parts are kept, and which is left out in the last bits of the fourth; in place."""
    cdef int64_t k
    cdef int left
    cdef float s, x, y, z, w
    with nogil:
        for k in range(values.shape[0]):
            s = 0.70710678118654752 / <float> (values[k, 3] | 3)
            x, y, z = values[k, 0] * s, values[k, 1] * s, values[k, 2] * s
            w = 1 - x * x - y * y - z * z
            w = sqrtf(w) if w > 0 else 0
            left = values[k, 3] & 3
            values[k, (left + 1) & 3] = <int16_t> (x * 32767 + (0.5 if x >= 0 else -0.5))
            values[k, (left + 2) & 3] = <int16_t> (y * 32767 + (0.5 if y >= 0 else -0.5))
            values[k, (left + 3) & 3] = <int16_t> (z * 32767 + (0.5 if z >= 0 else -0.5))
            values[k, left] = <int16_t> (w * 32767 + 0.5)


cpdef void exponential(const int32_t[::1] values, float[::1] out) noexcept:
    """Numbers of 24 bits with an exponent in the highest 8."""
    cdef int64_t k
    with nogil:
        for k in range(len(values)):
            out[k] = <float> ldexp(<double> ((values[k] << 8) >> 8), values[k] >> 24)


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
