"""Compiled loops of `corners`, `normals` and `order`: chains of things that share a point, and points in a row."""

from libc.math cimport sqrt
from libc.stdint cimport int32_t, int64_t, uint16_t, uint32_t, uint64_t
from libc.string cimport memcpy, memset


cdef extern from *:
    """
    #if defined(__GNUC__) || defined(__clang__)
    #define zo_fetch(where) __builtin_prefetch(where)
    #else
    #define zo_fetch(where)
    #endif
    """
    void zo_fetch(const void *where) noexcept nogil

# How many rows ahead of its use a place of the table is fetched.
cdef enum:
    _AHEAD = 16

ctypedef fused word:
    uint32_t
    uint64_t


cdef inline word _unsigned_zero(word bits) noexcept nogil:
    return 0 if bits == (<word>1 << (8 * sizeof(word) - 1)) else bits


cpdef void join_rows(
    object bits, int32_t[::1] representative, uint64_t[::1] recent, uint64_t[::1] table
):
    # Words of 32 or 64 bits. The kernel is chosen here, by hand: what the compiler would make of it is larger and slower.
    if bits.itemsize == 4:
        _join_rows[uint32_t](bits, representative, recent, table)
    else:
        _join_rows[uint64_t](bits, representative, recent, table)


cdef void _join_rows(
    const word[:, ::1] bits, int32_t[::1] representative, uint64_t[::1] recent, uint64_t[::1] table
) noexcept:
    # Open addressing; invariant: a slot holds the lowest of equal rows, one more than its number, below half of its
    # hash, which tells nearly all others without a look at their rows; 0 where there is none. Sizes of tables: powers
    # of two. Equal rows mostly follow soon, so that a small table of recent ones, which stays in the cache, answers first.
    cdef int32_t q
    cdef int64_t ahead, count, k, p
    cdef uint64_t h, few, most, slot
    cdef uint64_t[_AHEAD] coming
    with nogil:
        count = len(bits)
        most, few = <uint64_t>len(table) - 1, <uint64_t>len(recent) - 1
        for p in range(min(_AHEAD, count)):
            coming[p] = _hash(bits, p)
        for p in range(count):
            h = coming[p % _AHEAD]
            ahead = p + _AHEAD
            if ahead < count:
                coming[p % _AHEAD] = _hash(bits, ahead)
                if not _are_like(recent[coming[p % _AHEAD] & few], coming[p % _AHEAD]):
                    zo_fetch(&table[coming[p % _AHEAD] & most])
            slot = recent[h & few]
            if _are_like(slot, h) and _are_same(bits, _row_in(slot), p):
                representative[p] = _row_in(slot)
                continue
            k = h & most
            while True:
                slot = table[k]
                if slot == 0:
                    table[k] = slot = (h >> 32 << 32) | <uint64_t>(p + 1)
                    break
                if _are_like(slot, h) and _are_same(bits, _row_in(slot), p):
                    break
                k = (k + 1) & <int64_t>most
            recent[h & few] = slot
            representative[p] = _row_in(slot)


cdef inline bint _are_like(uint64_t slot, uint64_t h) noexcept nogil:
    return slot != 0 and (slot ^ h) >> 32 == 0


cdef inline int32_t _row_in(uint64_t slot) noexcept nogil:
    return <int32_t>(<uint32_t>slot - 1)


cdef inline bint _are_same(const word[:, ::1] bits, int64_t p, int64_t q) noexcept nogil:
    cdef Py_ssize_t k
    for k in range(bits.shape[1]):
        if _unsigned_zero[word](bits[p, k]) != _unsigned_zero[word](bits[q, k]):
            return False
    return True


cdef inline uint64_t _hash(const word[:, ::1] bits, int64_t p) noexcept nogil:
    cdef uint64_t h = 0
    cdef Py_ssize_t k
    for k in range(bits.shape[1]):
        h = (h ^ _unsigned_zero[word](bits[p, k])) * <uint64_t>0x9E3779B97F4A7C15
        h ^= h >> 32
    h *= <uint64_t>0xD6E8FEB86659FD93
    return h ^ (h >> 29)


cpdef int64_t split_vertices(
    const int32_t[::1] corner, const int64_t[::1] section_end, const int32_t[::1] corner_point,
    const int32_t[:, ::1] keys, const float[::1] values, const int64_t[::1] value_start,
    const int64_t[::1] value_width, int32_t[::1] vertex_of, int32_t[::1] first_corner, int32_t[::1] head,
    int32_t[::1] later
) noexcept:
    # Corners come section by section. Invariant: head[p] starts the chain of vertices made for point p,
    # newest first, so those of the current section lead it.
    cdef int32_t c, p
    cdef int64_t count, done, k, n, section_first, v
    with nogil:
        count = 0
        done = 0
        for k in range(len(section_end)):
            section_first = count
            for n in range(done, section_end[k]):
                c = corner[n]
                p = corner_point[c]
                v = head[p]
                while v >= section_first and not _same_values(
                    c, first_corner[v], keys, values, value_start, value_width
                ):
                    v = later[v]
                if v < section_first:
                    v = count
                    count += 1
                    first_corner[v] = c
                    later[v] = head[p]
                    head[p] = v
                vertex_of[n] = v
            done = section_end[k]
        return count


cdef inline bint _same_values(
    int32_t c, int32_t d, const int32_t[:, ::1] keys, const float[::1] values, const int64_t[::1] value_start,
    const int64_t[::1] value_width
) noexcept nogil:
    cdef int32_t i, j
    cdef int64_t at, k, layer, to, width
    for layer in range(len(keys)):
        i, j = keys[layer, c], keys[layer, d]
        if i == j:
            continue
        if i < 0 or j < 0:
            return False
        width = value_width[layer]
        at, to = value_start[layer] + i * width, value_start[layer] + j * width
        for k in range(width):
            if values[at + k] != values[to + k]:
                return False
    return True


cpdef void face_normals(
    const double[:, ::1] points, const int32_t[::1] face_start, const int32_t[::1] corner_point,
    double[:, ::1] normal
) noexcept:
    # Newell's sum about the first corner: twice the area long.
    cdef double ax, ay, az, bx, by, bz, ox, oy, oz, x, y, z
    cdef int32_t first, o, q, stop
    cdef int64_t c, f
    with nogil:
        for f in range(len(face_start) - 1):
            first, stop = face_start[f], face_start[f + 1]
            o = corner_point[first]
            ox, oy, oz = points[o, 0], points[o, 1], points[o, 2]
            x, y, z = 0.0, 0.0, 0.0
            q = corner_point[first + 1]
            ax, ay, az = points[q, 0] - ox, points[q, 1] - oy, points[q, 2] - oz
            for c in range(first + 2, stop):
                q = corner_point[c]
                bx, by, bz = points[q, 0] - ox, points[q, 1] - oy, points[q, 2] - oz
                x += ay * bz - az * by
                y += az * bx - ax * bz
                z += ax * by - ay * bx
                ax, ay, az = bx, by, bz
            normal[f, 0], normal[f, 1], normal[f, 2] = x, y, z


ctypedef fused real:
    float
    double


cpdef void take_rows(
    object values, const int32_t[::1] index, const int32_t[::1] corner, float missing, float[:, ::1] out
):
    if values.itemsize == 4:
        _take_rows[float](values, index, corner, missing, out)
    else:
        _take_rows[double](values, index, corner, missing, out)


cdef void _take_rows(
    const real[:, ::1] values, const int32_t[::1] index, const int32_t[::1] corner, float missing, float[:, ::1] out
) noexcept:
    # The rows that corners have, converted to what `out` holds; `missing` where the index is negative.
    cdef int32_t row
    cdef int64_t k, n
    with nogil:
        for n in range(len(corner)):
            row = index[corner[n]]
            for k in range(values.shape[1]):
                out[n, k] = values[row, k] if row >= 0 else missing


ctypedef fused stored:
    float
    uint16_t


cpdef void extent(object values, object box):
    # The lowest and the highest number of every column; `box` begins as the first row twice.
    if values.itemsize == 4:
        _extent[float](values, box)
    else:
        _extent[uint16_t](values, box)


cdef void _extent(const stored[:, ::1] values, stored[:, ::1] box) noexcept:
    cdef int64_t k, n
    with nogil:
        for n in range(len(values)):
            for k in range(values.shape[1]):
                box[0, k] = min(box[0, k], values[n, k])
                box[1, k] = max(box[1, k], values[n, k])


cpdef void unit_rows(object vectors, float[:, ::1] out):
    if vectors.itemsize == 4:
        _unit_rows[float](vectors, out)
    else:
        _unit_rows[double](vectors, out)


cdef void _unit_rows(const real[:, ::1] vectors, float[:, ::1] out) noexcept:
    cdef double length, x, y, z
    cdef int64_t n
    with nogil:
        for n in range(len(vectors)):
            x, y, z = <double>vectors[n, 0], <double>vectors[n, 1], <double>vectors[n, 2]
            length = sqrt(x * x + y * y + z * z)
            if length > 0.0:
                out[n, 0], out[n, 1], out[n, 2] = x / length, y / length, z / length
            else:
                out[n, 0], out[n, 1], out[n, 2] = 0.0, 0.0, 1.0


cpdef void curve_keys(const double[:, :] points, uint64_t[::1] keys) noexcept:
    """Where each point (P, 3) is on the curve through the cube around all, of which there is one at least.

    21 bits of each of its three numbers, one of each after the other.
    """
    cdef int64_t k, n
    cdef double low, high, size = 0.0
    cdef double[3] lowest
    with nogil:
        for k in range(3):
            low = high = points[0, k]
            for n in range(len(points)):
                low, high = min(low, points[n, k]), max(high, points[n, k])
            lowest[k] = low
            size = max(size, high - low)
        size = <double>0x1FFFFF / (size if size > 0 else 1.0)
        for n in range(len(points)):
            keys[n] = (
                _spread(<uint64_t>((points[n, 0] - lowest[0]) * size))
                | _spread(<uint64_t>((points[n, 1] - lowest[1]) * size)) << 1
                | _spread(<uint64_t>((points[n, 2] - lowest[2]) * size)) << 2
            )


cdef inline uint64_t _spread(uint64_t value) noexcept nogil:
    """21 bits with two empty ones between each."""
    value = (value | value << 32) & <uint64_t>0x1F00000000FFFF
    value = (value | value << 16) & <uint64_t>0x1F0000FF0000FF
    value = (value | value << 8) & <uint64_t>0x100F00F00F00F00F
    value = (value | value << 4) & <uint64_t>0x10C30C30C30C30C3
    return (value | value << 2) & <uint64_t>0x1249249249249249


cpdef void sort_by(
    uint64_t[::1] keys, int64_t[::1] order, uint64_t[::1] other_keys, int64_t[::1] other_order
) noexcept:
    """Sorts an order by keys, byte by byte from the lowest, so that those that are alike stay as they were.

    The others are room to work in, as long.
    """
    cdef int64_t count = len(keys), k, n, total, start
    cdef int64_t[8][256] begin
    cdef uint64_t *from_keys = &keys[0]
    cdef uint64_t *to_keys = &other_keys[0]
    cdef int64_t *from_order = &order[0]
    cdef int64_t *to_order = &other_order[0]
    with nogil:
        memset(begin, 0, sizeof(begin))
        for n in range(count):
            for k in range(8):
                begin[k][keys[n] >> (8 * k) & 255] += 1
        for k in range(8):
            if begin[k][from_keys[0] >> (8 * k) & 255] == count:
                continue  # they all have it
            total = 0
            for n in range(256):
                start = total
                total += begin[k][n]
                begin[k][n] = start
            for n in range(count):
                start = begin[k][from_keys[n] >> (8 * k) & 255]
                begin[k][from_keys[n] >> (8 * k) & 255] += 1
                to_keys[start], to_order[start] = from_keys[n], from_order[n]
            from_keys, to_keys = to_keys, from_keys
            from_order, to_order = to_order, from_order
        if from_order != &order[0]:
            memcpy(&order[0], from_order, 8 * count)
