"""Compiled loop of the STL writer."""

from libc.math cimport sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t
from libc.string cimport memcpy

cpdef enum:
    ROW_BYTES = 50

cdef packed struct _Row:
    float[3] normal
    float[9] places
    unsigned short attribute


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
