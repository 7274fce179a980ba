"""STL read and written by compiled code."""

from libc.math cimport sqrt
from libc.stdint cimport int32_t, int64_t, uint32_t, uint64_t, uint8_t
from libc.string cimport memcpy

from zesty_otter.formats._numbers cimport read_float


cpdef enum:
    AT = 0
    POINTS = 1
    FACES = 2
    SOLIDS = 3
    SHORT = 4
    BAD = 5


cpdef enum:
    ROW_BYTES = 50

cdef packed struct _Row:
    float[3] normal
    float[9] places
    unsigned short attribute


cdef inline bint _begins(
    const uint8_t[::1] data, int64_t at, int64_t stop, const char* word, int64_t size
) noexcept nogil:
    cdef int64_t k
    if at + size > stop:
        return False
    for k in range(size):
        if (data[at + k] | 32) != word[k]:
            return False
    return True


cpdef int64_t scan(
    const uint8_t[::1] data, double[:, ::1] points, int64_t[::1] face_start, int64_t[:, ::1] solids, int64_t[::1] state
) noexcept:
    """Reads vertices, facets and solids line by line; returns 1 when a table is full, 0 at the end.

    ``solids`` (S, 2) gets the first face of each and where its line begins. A facet ends at endloop, or at endfacet
    where that is missing.
    """
    cdef bint found, good
    cdef double value
    cdef int64_t at, here, k, size, stop
    with nogil:
        at = state[AT]
        stop = len(data)
        if at == 0 and stop > 2 and data[0] == 239 and data[1] == 187 and data[2] == 191:
            at = 3  # a mark of UTF-8
        while at < stop:
            if data[at] <= 32:
                at += 1
                continue
            if _begins(data, at, stop, b"vertex", 6):
                if state[POINTS] >= len(points):
                    state[AT] = at
                    return 1
                here = at + 6
                good = True
                for k in range(3):
                    while here < stop and (data[here] == 32 or data[here] == 9):
                        here += 1
                    value, here, found = read_float(&data[0], here, stop)
                    good = good and found
                    points[state[POINTS], k] = value
                if good:
                    state[POINTS] += 1
                else:
                    state[BAD] += 1
                at = here
            elif _begins(data, at, stop, b"endloop", 7) or _begins(data, at, stop, b"endfacet", 8):
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
            elif _begins(data, at, stop, b"solid", 5):
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


cdef inline uint32_t _unsigned_zero(uint32_t bits) noexcept nogil:
    return 0 if bits == <uint32_t>0x80000000 else bits  # minus zero equals zero


cdef inline uint64_t _hash(uint32_t x, uint32_t y, uint32_t z) noexcept nogil:
    cdef uint64_t h
    h = <uint64_t>x * <uint64_t>0x9E3779B97F4A7C15 ^ <uint64_t>y * <uint64_t>0xC2B2AE3D27D4EB4F
    h ^= <uint64_t>z * <uint64_t>0x165667B19E3779F9
    h ^= h >> 32
    h *= <uint64_t>0xD6E8FEB86659FD93
    return h ^ h >> 29


cdef inline uint64_t _place_of(
    const uint32_t[:, ::1] points, const int32_t[::1] table, uint64_t h, uint32_t x, uint32_t y, uint32_t z
) noexcept nogil:
    """The slot of a position with hash ``h`` in the table: its own, or the empty one where it belongs."""
    cdef int32_t p
    cdef uint64_t k, mask
    mask = <uint64_t>(len(table) - 1)
    k = h & mask
    while True:
        p = table[k]
        if p < 0 or (points[p, 0] == x and points[p, 1] == y and points[p, 2] == z):
            return k
        k = (k + 1) & mask


cdef inline int64_t _within_block(
    const uint32_t[:, :, :] block, uint32_t[:, ::1] points, uint64_t[::1] hashes, int32_t[::1] table,
    int32_t[::1] index, uint8_t[::1] bad
) noexcept nogil:
    """Numbers the distinct positions of a few facets (B, 3, 3), into room for as many as they have corners.

    The corners of facets with a number that is not finite get position 0.
    """
    cdef bint finite
    cdef int64_t c, count, k, n
    cdef uint32_t exponent, x, y, z
    cdef uint64_t h, slot
    table[:] = -1
    count = 0
    exponent = 0x7F800000
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


cpdef (int64_t, int64_t) join_corners(
    const uint32_t[:, :, :] corners, int64_t facet, uint32_t[:, ::1] points, int64_t count, int32_t[::1] table,
    int32_t[::1] corner_point, uint8_t[::1] bad, uint32_t[:, ::1] near, uint64_t[::1] hashes,
    int32_t[::1] near_table, int32_t[::1] number
) noexcept:
    """Numbers the distinct positions of the corners of facets (F, 3, 3), given as bits, from one facet on.

    ``points`` (P, 3) holds the bits of those found so far, ``table`` has room for twice as many, a power of
    two. Stops before either is full; returns the next facet and the number of positions. ``bad`` marks
    facets with a number that is not finite, whose corners get some point. Facets go block by block, first
    among themselves, for neighbours mostly follow each other and ``table`` is too large for the processor's
    cache; ``near`` (N, 3), ``hashes`` (N,), ``near_table`` and ``number`` (N,) are room for that.
    """
    cdef int32_t[::1] index
    cdef int64_t after, c, found, i, p
    cdef uint32_t x, y, z
    cdef uint64_t mask, slot
    with nogil:
        for p in range(count):
            x, y, z = points[p, 0], points[p, 1], points[p, 2]
            table[_place_of(points, table, _hash(x, y, z), x, y, z)] = p
        mask = <uint64_t>(len(table) - 1)
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


cpdef void facets(
    const double[:, ::1] points, const int32_t[::1] corner_point, const int32_t[:, ::1] triangles,
    uint8_t[:, ::1] out
) noexcept:
    # One row of 50 bytes for each triangle: its normal, zero where it has no area, and its places.
    cdef double length, ux, uy, uz, vx, vy, vz, x, y, z
    cdef int32_t a, b, c
    cdef int64_t k, n
    cdef _Row row
    row.attribute = 0
    with nogil:
        for n in range(len(triangles)):
            a, b, c = corner_point[triangles[n, 0]], corner_point[triangles[n, 1]], corner_point[triangles[n, 2]]
            ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
            vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
            x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            length = sqrt(x * x + y * y + z * z)
            if length > 0.0:
                x, y, z = x / length, y / length, z / length
            row.normal[0], row.normal[1], row.normal[2] = x, y, z
            for k in range(3):
                row.places[k] = points[a, k]
                row.places[3 + k] = points[b, k]
                row.places[6 + k] = points[c, k]
            memcpy(&out[n, 0], &row, ROW_BYTES)
