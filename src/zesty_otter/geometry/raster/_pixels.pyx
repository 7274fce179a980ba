"""Lit surfaces with all their maps into pixels, and the nearest filled pixel of every pixel, compiled.

For the latter A. Meijster, J. Roerdink and W. Hesselink (2000), "A general algorithm for computing distance transforms
in linear time".
"""

from libc.math cimport floor, sqrt
from libc.stdint cimport int32_t, int64_t, int8_t, uint8_t


# roles of textures, in the order of `uv` and of the columns of materials
cpdef enum:
    BASE = 0
    NORMAL = 1
    ROUGH = 2
    METAL = 3
    GLOW = 4
    SHADE = 5
    ROLES = 6

# columns of a material
cpdef enum:
    RED = 0  # base colour, three
    ROUGHNESS = 3
    METALLIC = 4
    EMISSIVE = 5  # three
    STRENGTH = 8  # of the normal map
    DARKENS = 9  # of the occlusion map
    TWO_SIDED = 10
    TEXTURE = 11  # six: rows of the table of textures, -1 for none
    CHANNEL = 17  # six
    COLUMNS = 23

# columns of the table of textures
cpdef enum:
    FIRST = 0
    WIDE = 1
    HIGH = 2
    CLAMPED = 3
    LEVELS = 4
    TEXTURE_COLUMNS = 5


cdef inline void _texel(
    const uint8_t[::1] pixels, const float[::1] shown, bint light, int64_t first, int64_t wide, int64_t high, bint clamp,
    double u, double v, double *out
) noexcept nogil:
    """What a texture has at a place, mixed of four pixels; colours as light where ``light``."""
    cdef double a, b, share, x, y
    cdef int64_t at, i, j, k
    cdef int64_t[2] column, row
    x, y = u * wide - 0.5, (1.0 - v) * high - 0.5
    column[0], row[0] = <int64_t>floor(x), <int64_t>floor(y)
    a, b = x - column[0], y - row[0]
    if clamp:
        column[1], row[1] = min(max(column[0] + 1, 0), wide - 1), min(max(row[0] + 1, 0), high - 1)
        column[0], row[0] = min(max(column[0], 0), wide - 1), min(max(row[0], 0), high - 1)
    else:
        column[0], row[0] = (column[0] % wide + wide) % wide, (row[0] % high + high) % high
        column[1] = column[0] + 1 if column[0] + 1 < wide else 0
        row[1] = row[0] + 1 if row[0] + 1 < high else 0
    for k in range(4):
        out[k] = 0.0
    for j in range(2):
        for i in range(2):
            share = (a if i else 1.0 - a) * (b if j else 1.0 - b)
            at = first + 4 * (row[j] * wide + column[i])
            for k in range(3):
                out[k] += share * (shown[pixels[at + k]] if light else pixels[at + k] / 255.0)
            out[3] += share * pixels[at + 3] / 255.0


cdef inline bint _sampled(
    const double[:, ::1] materials, int64_t m, int64_t role, const float[:, :, ::1] uv, const int8_t[:, ::1] level,
    const int64_t[:, ::1] table, const uint8_t[::1] pixels, const float[::1] shown, int64_t t, double b0, double b1,
    double b2, double *out
) noexcept nogil:
    """Looks up a map of a triangle's material, in the level that has about a pixel for each of the picture's."""
    cdef double u, v
    cdef int64_t first, high, k, n = <int64_t>materials[m, TEXTURE + role], wide
    if n < 0:
        return False
    u = b0 * uv[t, role, 0] + b1 * uv[t, role, 2] + b2 * uv[t, role, 4]
    v = b0 * uv[t, role, 1] + b1 * uv[t, role, 3] + b2 * uv[t, role, 5]
    if not (-1e6 < u < 1e6 and -1e6 < v < 1e6):
        return False
    first, wide, high = table[n, FIRST], table[n, WIDE], table[n, HIGH]
    for k in range(min(<int64_t>level[t, role], table[n, LEVELS] - 1)):
        first += 4 * wide * high
        wide, high = max(wide // 2, 1), max(high // 2, 1)
    _texel(pixels, shown, role == BASE or role == GLOW, first, wide, high, table[n, CLAMPED] != 0, u, v, out)
    return True


cpdef void look(
    const float[:, ::1] corner, const float[:, ::1] normal, const float[:, ::1] tangent, const float[:, :, ::1] uv,
    const int8_t[:, ::1] level, const int32_t[::1] material, const double[:, ::1] materials,
    const int64_t[:, ::1] table, const uint8_t[::1] pixels, const float[::1] shown, const double[::1] light,
    const double[::1] toward, int64_t first_row, int64_t stop_row, const int32_t[:, ::1] ids, float[:, :, ::1] out
) noexcept:
    """The light that comes from every pixel of some rows that a triangle is in.

    ``normal`` (T, 9), ``tangent`` (T, 10) with its sign last, ``uv`` (T, 6, 6) by role. A lamp, ``light``, and the
    sky, by the model of glTF 2.0, appendix B: diffuse and GGX (B. Walter et al. 2007), without shadows.
    """
    cdef bint back
    cdef double alpha, b, b0, b1, b2, bx, by, bz, d, f, g, half, hx, hy, hz, length, metal, nx, ny, nz, px, py, r
    cdef double rough, shade, sky, spec, to_eye, to_lamp, tx, ty, tz, vis, x0, x1, x2, y0, y1, y2, area
    cdef double[3] base, glow
    cdef double[4] map
    cdef int32_t t
    cdef int64_t k, m, wide, x, y
    with nogil:
        wide = ids.shape[1]
        for y in range(first_row, stop_row):
            for x in range(wide):
                t = ids[y, x]
                if t < 0:
                    continue
                m = material[t]
                px, py = x + 0.5, y + 0.5
                x0, y0, x1, y1 = corner[t, 0], corner[t, 1], corner[t, 4], corner[t, 5]
                x2, y2 = corner[t, 8], corner[t, 9]
                area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
                b0 = ((x1 - px) * (y2 - py) - (x2 - px) * (y1 - py)) / area
                b1 = ((x2 - px) * (y0 - py) - (x0 - px) * (y2 - py)) / area
                b2 = 1.0 - b0 - b1
                nx = b0 * normal[t, 0] + b1 * normal[t, 3] + b2 * normal[t, 6]
                ny = b0 * normal[t, 1] + b1 * normal[t, 4] + b2 * normal[t, 7]
                nz = b0 * normal[t, 2] + b1 * normal[t, 5] + b2 * normal[t, 8]
                back = area > 0.0
                if _sampled(materials, m, NORMAL, uv, level, table, pixels, shown, t, b0, b1, b2, map):
                    tx = b0 * tangent[t, 0] + b1 * tangent[t, 3] + b2 * tangent[t, 6]
                    ty = b0 * tangent[t, 1] + b1 * tangent[t, 4] + b2 * tangent[t, 7]
                    tz = b0 * tangent[t, 2] + b1 * tangent[t, 5] + b2 * tangent[t, 8]
                    bx, by, bz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
                    r = (2.0 * map[0] - 1.0) * materials[m, STRENGTH]
                    g = (2.0 * map[1] - 1.0) * materials[m, STRENGTH] * tangent[t, 9]
                    b = 2.0 * map[2] - 1.0
                    nx, ny, nz = r * tx + g * bx + b * nx, r * ty + g * by + b * ny, r * tz + g * bz + b * nz
                length = sqrt(nx * nx + ny * ny + nz * nz)
                if length > 0.0:
                    nx, ny, nz = nx / length, ny / length, nz / length
                if back:
                    nx, ny, nz = -nx, -ny, -nz
                base[0], base[1], base[2] = materials[m, RED], materials[m, RED + 1], materials[m, RED + 2]
                if _sampled(materials, m, BASE, uv, level, table, pixels, shown, t, b0, b1, b2, map):
                    for k in range(3):
                        base[k] *= map[k]
                rough, metal, shade = materials[m, ROUGHNESS], materials[m, METALLIC], 1.0
                if _sampled(materials, m, ROUGH, uv, level, table, pixels, shown, t, b0, b1, b2, map):
                    rough *= map[<int64_t>materials[m, CHANNEL + ROUGH]]
                if _sampled(materials, m, METAL, uv, level, table, pixels, shown, t, b0, b1, b2, map):
                    metal *= map[<int64_t>materials[m, CHANNEL + METAL]]
                if _sampled(materials, m, SHADE, uv, level, table, pixels, shown, t, b0, b1, b2, map):
                    shade = 1.0 + materials[m, DARKENS] * (map[<int64_t>materials[m, CHANNEL + SHADE]] - 1.0)
                glow[0], glow[1], glow[2] = materials[m, EMISSIVE], materials[m, EMISSIVE + 1], materials[m, EMISSIVE + 2]
                if _sampled(materials, m, GLOW, uv, level, table, pixels, shown, t, b0, b1, b2, map):
                    for k in range(3):
                        glow[k] *= map[k]
                to_lamp = max(nx * light[0] + ny * light[1] + nz * light[2], 0.0)
                to_eye = max(nx * toward[0] + ny * toward[1] + nz * toward[2], 1e-3)
                hx, hy, hz = light[0] + toward[0], light[1] + toward[1], light[2] + toward[2]
                length = sqrt(hx * hx + hy * hy + hz * hz)
                half = max((nx * hx + ny * hy + nz * hz) / length, 0.0)
                alpha = max(rough * rough, 2e-3)
                d = half * half * (alpha * alpha - 1.0) + 1.0
                d = alpha * alpha / (3.141592653589793 * d * d)
                vis = 0.5 / (to_lamp * sqrt(to_eye * to_eye * (1 - alpha * alpha) + alpha * alpha)
                             + to_eye * sqrt(to_lamp * to_lamp * (1 - alpha * alpha) + alpha * alpha) + 1e-6)
                f = max(1.0 - (toward[0] * hx + toward[1] * hy + toward[2] * hz) / length, 0.0)
                f = f * f * f * f * f
                sky = (0.55 + 0.25 * ny) * shade
                for k in range(3):
                    spec = 0.04 + (base[k] - 0.04) * metal
                    r = base[k] * (1.0 - metal)
                    out[y, x, k] = <float>(
                        (r * 0.9 + (spec + (1.0 - spec) * f) * min(d * vis, 50.0) * 3.0) * to_lamp
                        + (r + spec * (1.0 - 0.5 * rough)) * sky * 0.6 + glow[k]
                    )


cdef inline int64_t _above(const int32_t[::1] row, int64_t y, int64_t q, int64_t x) noexcept nogil:
    """The square of how far the filled pixel of column ``q`` is from column ``x``, in line ``y``."""
    return (row[q] - y) * (row[q] - y) + (x - q) * (x - q)


cpdef void nearest_filled(
    const uint8_t[:, ::1] filled, int32_t[:, ::1] row, int32_t[::1] column, int32_t[::1] until, int64_t[:, ::1] found
) noexcept:
    """Writes for pixels (H, W) the number of the nearest that is filled, -1 where there is none.

    ``row`` (H, W) is room for the line of the nearest in each column, ``column`` and ``until`` (W,) for the columns
    that are nearest from left to right in a line, and where each begins to be.
    """
    cdef int64_t a, b, begins, x, y, count
    cdef int64_t high = filled.shape[0], wide = filled.shape[1]
    with nogil:
        for y in range(high):
            for x in range(wide):
                row[y, x] = <int32_t>y if filled[y, x] else row[y - 1, x] if y > 0 else -1
        for y in range(high - 2, -1, -1):
            for x in range(wide):
                a, b = row[y, x], row[y + 1, x]
                if a < 0 or (b >= 0 and b - y < y - a):
                    row[y, x] = <int32_t>b
        for y in range(high):
            count = 0
            for x in range(wide):
                if row[y, x] < 0:
                    continue
                while count > 0 and _above(row[y], y, column[count - 1], until[count - 1]) > _above(
                    row[y], y, x, until[count - 1]
                ):
                    count -= 1
                begins = 0
                if count > 0:
                    a = column[count - 1]
                    # From where on this column is nearer than the last one.
                    begins = x * x - a * a + (row[y, x] - y) * (row[y, x] - y) - (row[y, a] - y) * (row[y, a] - y)
                    begins = begins // (2 * (x - a)) + 1
                if begins < wide:
                    column[count], until[count] = <int32_t>x, <int32_t>begins
                    count += 1
            for x in range(wide - 1, -1, -1):
                if count == 0:
                    found[y, x] = -1
                    continue
                a = column[count - 1]
                found[y, x] = row[y, a] * wide + a
                if x == until[count - 1]:
                    count -= 1
