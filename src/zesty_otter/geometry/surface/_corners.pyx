"""Compiled loops of `corners` and `normals`: chains of things that share a point."""

from libc.math cimport sqrt
from libc.stdint cimport int32_t, int64_t, uint64_t


cdef inline uint64_t _unsigned_zero(uint64_t bits) noexcept nogil:
    return 0 if bits == <uint64_t>0x8000000000000000 else bits


cpdef void join_points(const uint64_t[:, ::1] bits, int32_t[::1] representative, int32_t[::1] table) noexcept:
    # Open addressing; invariant: a slot holds the lowest point of its position. Size: a power of two.
    cdef bint same
    cdef int32_t q
    cdef int64_t k, p, size
    cdef uint64_t h, x, y, z
    with nogil:
        size = len(table)
        for p in range(len(bits)):
            x, y, z = _unsigned_zero(bits[p, 0]), _unsigned_zero(bits[p, 1]), _unsigned_zero(bits[p, 2])
            h = x * <uint64_t>0x9E3779B97F4A7C15 ^ y * <uint64_t>0xC2B2AE3D27D4EB4F ^ z * <uint64_t>0x165667B19E3779F9
            h ^= h >> 32
            h *= <uint64_t>0xD6E8FEB86659FD93
            h ^= h >> 29
            k = <int64_t>(h & <uint64_t>(size - 1))
            while True:
                q = table[k]
                if q < 0:
                    table[k] = p
                    representative[p] = p
                    break
                same = _unsigned_zero(bits[q, 0]) == x and _unsigned_zero(bits[q, 1]) == y
                if same and _unsigned_zero(bits[q, 2]) == z:
                    representative[p] = q
                    break
                k = (k + 1) & (size - 1)


cpdef int64_t split_vertices(
    const int32_t[::1] corner, const int32_t[::1] section, const int32_t[::1] corner_point,
    const int32_t[:, ::1] keys, const float[::1] values, const int64_t[::1] value_start,
    const int64_t[::1] value_width, int32_t[::1] vertex_of, int32_t[::1] first_corner, int32_t[::1] head,
    int32_t[::1] later
) noexcept:
    # Corners come section by section. Invariant: head[p] starts the chain of vertices made for point p,
    # newest first, so those of the current section lead it.
    cdef int32_t c, p
    cdef int64_t count, current, n, section_first, v
    with nogil:
        count = 0
        section_first = 0
        current = -1
        for n in range(len(corner)):
            if section[n // 3] != current:
                current = section[n // 3]
                section_first = count
            c = corner[n]
            p = corner_point[c]
            v = head[p]
            while v >= section_first and not _same_values(c, first_corner[v], keys, values, value_start, value_width):
                v = later[v]
            if v < section_first:
                v = count
                count += 1
                first_corner[v] = c
                later[v] = head[p]
                head[p] = v
            vertex_of[n] = v
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
    const real[:, ::1] values, const int32_t[::1] index, float[:, ::1] out
) noexcept:
    # Rows of `values`, converted to what `out` holds; rows with a negative index are left alone.
    cdef int32_t row
    cdef int64_t k, n
    with nogil:
        for n in range(len(index)):
            row = index[n]
            if row >= 0:
                for k in range(values.shape[1]):
                    out[n, k] = values[row, k]


cpdef void unit_rows(const real[:, ::1] vectors, float[:, ::1] out) noexcept:
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
