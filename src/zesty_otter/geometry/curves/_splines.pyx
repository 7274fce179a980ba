"""Compiled loops of `splines`."""

from libc.stdint cimport int64_t


cpdef void surface_at(
    const int64_t[:, ::1] first, const double[:, ::1] value_u, const double[:, ::1] slope_u,
    const double[:, ::1] value_v, const double[:, ::1] slope_v, const double[:, :, ::1] control,
    double[:, ::1] place, double[:, ::1] du, double[:, ::1] dv
) noexcept:
    """Points of a surface and its derivatives: basis functions (N, p + 1) times control points (n, m, 4).

    ``first`` (N, 2) holds the control point that the first functions of each place belong to.
    """
    cdef int64_t n, k, l, j, count = len(first), wide = value_u.shape[1], high = value_v.shape[1]
    cdef double a, b, c, weight
    cdef double[4] point, along, across, row, row_slope
    with nogil:
        for n in range(count):
            for j in range(4):
                point[j] = along[j] = across[j] = 0.0
            for k in range(wide):
                for j in range(4):
                    row[j] = row_slope[j] = 0.0
                for l in range(high):
                    a, b = value_v[n, l], slope_v[n, l]
                    for j in range(4):
                        c = control[first[n, 0] + k, first[n, 1] + l, j]
                        row[j] += a * c
                        row_slope[j] += b * c
                a, b = value_u[n, k], slope_u[n, k]
                for j in range(4):
                    point[j] += a * row[j]
                    along[j] += b * row[j]
                    across[j] += a * row_slope[j]
            weight = point[3]
            for j in range(3):
                place[n, j] = point[j] / weight
                du[n, j] = (along[j] - place[n, j] * along[3]) / weight
                dv[n, j] = (across[j] - place[n, j] * across[3]) / weight
