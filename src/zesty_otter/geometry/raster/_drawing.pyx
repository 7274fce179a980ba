"""Triangles and lines into pixels, compiled.

``corner`` (T, 12) float32: of each corner of a triangle its place in the picture (x, y), its depth, which is affine
there and less for what is nearer, and one over its distance, or 1 for parallel rays. A pixel is met where its middle
is within the triangle.
"""

from libc.math cimport INFINITY, ceil, floor, sqrt
from libc.stdint cimport uint8_t, int32_t, int64_t

# Up to so many pixels beside each other all are looked at, as that is quicker than finding where a triangle is.
cdef enum:
    _FEW = 8


cdef inline void _sampled(
    const uint8_t[::1] pixels, int64_t first, int64_t wide, int64_t high, double u, double v, int64_t clamp,
    double[::1] out
) noexcept nogil:
    """The colour and alpha of a texture at a place, 0 to 1, from the nearest pixel; the origin is the lower left."""
    cdef int64_t at, k, x, y
    if clamp:
        u, v = min(max(u, 0.0), 1.0), min(max(v, 0.0), 1.0)
    else:
        u, v = u - floor(u), v - floor(v)
    x = min(<int64_t>(u * wide), wide - 1)
    y = min(<int64_t>((1.0 - v) * high), high - 1)
    at = first + 4 * (y * wide + x)
    for k in range(4):
        out[k] = pixels[at + k] / 255.0


cdef inline void _meet(
    double ax, double ay, double bx, double by, double y, double *low, double *high
) noexcept nogil:
    """Widens a run by where an edge crosses a line."""
    cdef double x
    if (ay <= y) != (by <= y):
        x = ax + (y - ay) * (bx - ax) / (by - ay)
        low[0], high[0] = min(low[0], x), max(high[0], x)


cdef inline void _narrow(
    double x0, double y0, double x1, double y1, double x2, double y2, double y, int64_t left, int64_t right,
    int64_t *run
) noexcept nogil:
    """The first and the last pixel of a line that a triangle can be in, and one more at each end for rounding."""
    cdef double low = INFINITY, high = -INFINITY
    run[0], run[1] = left, right
    _meet(x0, y0, x1, y1, y, &low, &high)
    _meet(x1, y1, x2, y2, y, &low, &high)
    _meet(x2, y2, x0, y0, y, &low, &high)
    if low <= high:  # else it only touches the line
        run[0] = max(left, <int64_t>max(low, left) - 1)
        run[1] = min(right, <int64_t>max(min(high, right), 0.0) + 1)


cpdef void fill(
    const float[:, ::1] corner, const float[:, ::1] uv, const int32_t[::1] texture, const float[::1] cutoff,
    const int64_t[:, ::1] table, const uint8_t[::1] pixels, int64_t first_row, int64_t stop_row,
    float[:, ::1] depth, int32_t[:, ::1] ids, double[::1] scratch
) noexcept:
    """Puts the number of the nearest triangle into every pixel of some rows; cut-outs let through.

    ``texture`` (T,) is a row of ``table`` (first byte, width, height, clamped), -1 for none; ``cutoff`` (T,) is
    below 0 for what is not cut out.
    """
    cdef double b0, b1, b2, px, py, total, u, v, w0, w1, w2, z
    cdef float area, x0, x1, x2, y0, y1, y2
    cdef int32_t n
    cdef int64_t bottom, left, right, t, top, wide, x, y
    cdef int64_t[2] run
    with nogil:
        wide = depth.shape[1]
        for t in range(len(corner)):
            x0, y0, x1, y1 = corner[t, 0], corner[t, 1], corner[t, 4], corner[t, 5]
            x2, y2 = corner[t, 8], corner[t, 9]
            area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
            if area == 0.0 or not (abs(area) < 1e30):
                continue
            left = max(<int64_t>ceil(min(x0, x1, x2) - 0.5), 0)
            right = min(<int64_t>floor(max(x0, x1, x2) - 0.5), wide - 1)
            top = max(<int64_t>ceil(min(y0, y1, y2) - 0.5), first_row)
            bottom = min(<int64_t>floor(max(y0, y1, y2) - 0.5), stop_row - 1)
            for y in range(top, bottom + 1):
                py = y + 0.5
                _narrow(x0, y0, x1, y1, x2, y2, py, left, right, run)
                for x in range(run[0], run[1] + 1):
                    px = x + 0.5
                    b0 = ((x1 - px) * (y2 - py) - (x2 - px) * (y1 - py)) / area
                    b1 = ((x2 - px) * (y0 - py) - (x0 - px) * (y2 - py)) / area
                    b2 = 1.0 - b0 - b1
                    if b0 < 0.0 or b1 < 0.0 or b2 < 0.0:
                        continue
                    z = b0 * corner[t, 2] + b1 * corner[t, 6] + b2 * corner[t, 10]
                    if z >= depth[y, x]:
                        continue
                    if cutoff[t] >= 0.0 and texture[t] >= 0:
                        w0, w1, w2 = b0 * corner[t, 3], b1 * corner[t, 7], b2 * corner[t, 11]
                        total = w0 + w1 + w2
                        u = (w0 * uv[t, 0] + w1 * uv[t, 2] + w2 * uv[t, 4]) / total
                        v = (w0 * uv[t, 1] + w1 * uv[t, 3] + w2 * uv[t, 5]) / total
                        n = texture[t]
                        _sampled(pixels, table[n, 0], table[n, 1], table[n, 2], u, v, table[n, 3], scratch)
                        if scratch[3] < cutoff[t]:
                            continue
                    depth[y, x] = z
                    ids[y, x] = t


cpdef void shade(
    const float[:, ::1] corner, const float[:, ::1] uv, const float[:, ::1] normal, const int32_t[::1] texture,
    const float[:, ::1] color, const int64_t[:, ::1] table, const uint8_t[::1] pixels, int64_t mode,
    const double[::1] light, const double[::1] toward, const double[::1] light_of, int64_t first_row, int64_t stop_row,
    const int32_t[:, ::1] ids, float[:, :, ::1] out, float[:, :, ::1] where, double[::1] scratch
) noexcept:
    """The colour of every pixel of some rows that a triangle is in, as numbers of light.

    ``normal`` (T, 9); ``color`` (T, 4) with the last one 1 for what has two sides; ``mode`` 0 shades, 1 shows normals,
    2 shows UVs as squares; ``light`` and ``toward`` (3,) point to the lamp and to whoever looks; ``light_of`` (256,) is
    the light of the bytes of textures; ``where`` (H, W, 2) gets the shares of the second and third corner.
    """
    cdef bint back, wrong
    cdef double b, b0, b1, b2, g, length, nx, ny, nz, px, py, r, total, u, v
    cdef float area, x0, x1, x2, y0, y1, y2
    cdef int32_t n, t
    cdef int64_t odd, wide, x, y
    with nogil:
        wide = ids.shape[1]
        for y in range(first_row, stop_row):
            for x in range(wide):
                t = ids[y, x]
                if t < 0:
                    continue
                px, py = x + 0.5, y + 0.5
                x0, y0, x1, y1 = corner[t, 0], corner[t, 1], corner[t, 4], corner[t, 5]
                x2, y2 = corner[t, 8], corner[t, 9]
                area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
                b0 = ((x1 - px) * (y2 - py) - (x2 - px) * (y1 - py)) / area * corner[t, 3]
                b1 = ((x2 - px) * (y0 - py) - (x0 - px) * (y2 - py)) / area * corner[t, 7]
                b2 = (1.0 - b0 / corner[t, 3] - b1 / corner[t, 7]) * corner[t, 11]
                total = b0 + b1 + b2
                b0, b1, b2 = b0 / total, b1 / total, b2 / total
                where[y, x, 0], where[y, x, 1] = b1, b2
                nx = b0 * normal[t, 0] + b1 * normal[t, 3] + b2 * normal[t, 6]
                ny = b0 * normal[t, 1] + b1 * normal[t, 4] + b2 * normal[t, 7]
                nz = b0 * normal[t, 2] + b1 * normal[t, 5] + b2 * normal[t, 8]
                length = sqrt(nx * nx + ny * ny + nz * nz)
                if length > 0.0:
                    nx, ny, nz = nx / length, ny / length, nz / length
                # In the picture y runs down, so what faces us runs round the other way.
                back = area > 0.0
                if back:
                    nx, ny, nz = -nx, -ny, -nz
                r, g, b = color[t, 0], color[t, 1], color[t, 2]
                u = b0 * uv[t, 0] + b1 * uv[t, 2] + b2 * uv[t, 4]
                v = b0 * uv[t, 1] + b1 * uv[t, 3] + b2 * uv[t, 5]
                if mode == 1:
                    out[y, x, 0], out[y, x, 1], out[y, x, 2] = (
                        (0.5 + 0.5 * nx) ** 2.2,
                        (0.5 + 0.5 * ny) ** 2.2,
                        (0.5 + 0.5 * nz) ** 2.2,
                    )
                    continue
                if mode == 2:
                    odd = (<int64_t>(floor(8 * u)) + <int64_t>(floor(8 * v))) & 1
                    wrong = u < 0.0 or v < 0.0 or u > 1.0 or v > 1.0
                    # Squares lie askew where UVs are; what is outside 0 to 1 is plum.
                    r, g, b = (
                        (0.25, 0.08, 0.16)
                        if wrong
                        else (0.15 + 0.6 * (u - floor(u)), 0.45, 0.15 + 0.6 * (v - floor(v)))
                    )
                    if odd:
                        r, g, b = 0.45 * r, 0.45 * g, 0.45 * b
                elif texture[t] >= 0:
                    n = texture[t]
                    _sampled(pixels, table[n, 0], table[n, 1], table[n, 2], u, v, table[n, 3], scratch)
                    r = r * light_of[<int64_t>(255.0 * scratch[0] + 0.5)]
                    g = g * light_of[<int64_t>(255.0 * scratch[1] + 0.5)]
                    b = b * light_of[<int64_t>(255.0 * scratch[2] + 0.5)]
                _lit(nx, ny, nz, r, g, b, back and color[t, 3] == 0.0, &light[0], &toward[0], &out[y, x, 0])


cdef inline void _lit(
    double nx, double ny, double nz, double r, double g, double b, bint wrong, const double *light,
    const double *toward, float *out
) noexcept nogil:
    """The light of a colour that faces somewhere; ``wrong`` is the back of what has one side."""
    cdef double head, lamp, sky
    lamp = max(nx * light[0] + ny * light[1] + nz * light[2], 0.0)
    sky = 0.5 + 0.5 * ny
    head = max(nx * toward[0] + ny * toward[1] + nz * toward[2], 0.0)
    if wrong:
        # The back of what has one side only shows that it is one.
        r, g, b = 0.35 * r + 0.12, 0.25 * g + 0.02, 0.3 * b + 0.07
    out[0] = r * (0.78 * lamp + 0.20 * sky + 0.14 * head + 0.06)
    out[1] = g * (0.75 * lamp + 0.22 * sky + 0.14 * head + 0.06)
    out[2] = b * (0.68 * lamp + 0.26 * sky + 0.14 * head + 0.07)


cdef inline void _place_by(const double[::1] camera, const double[:, ::1] matrix, double *place) noexcept nogil:
    """What takes points of a mesh to what is right of, above and toward the camera, as (3, 4); both as in `put`."""
    cdef int64_t i, j, k
    for i in range(3):
        for j in range(4):
            place[4 * i + j] = 0.0
            for k in range(3):
                place[4 * i + j] += camera[3 * i + k] * (matrix[k, j] - (camera[9 + k] if j == 3 else 0.0))


cdef inline void _seen_at(
    const double *place, double x, double y, double z, const double[::1] camera, double wide, double high, double *at
) noexcept nogil:
    """Where a point is in the picture (x, y), its depth, and one over its distance."""
    cdef double across, distance = camera[13], nearer = 1.0, scale = camera[12], toward, up
    across = place[0] * x + place[1] * y + place[2] * z + place[3]
    up = place[4] * x + place[5] * y + place[6] * z + place[7]
    toward = place[8] * x + place[9] * y + place[10] * z + place[11]
    if distance < 1e300:
        nearer = distance / max(distance - toward, 1e-6 * distance)
    at[0] = wide / 2.0 + scale * nearer * across
    at[1] = high / 2.0 - scale * nearer * up
    at[2] = -nearer if distance < 1e300 else -toward
    at[3] = nearer


cdef inline int64_t _first_met(double low, int64_t count) noexcept nogil:
    """The first of so many pixels whose middle is not below something; ``count`` where none is."""
    cdef double middle = min(max(low - 0.5, 0.0), <double>count)
    cdef int64_t whole = <int64_t>middle
    return whole + (whole < middle)


cdef inline int64_t _last_met(double high, int64_t count) noexcept nogil:
    """The last of so many pixels whose middle is not above something; -1 where none is."""
    return <int64_t>min(high - 0.5, <double>(count - 1)) if high >= 0.5 else -1


cdef inline void _turned(const double *turn, const float *normal, double *out) noexcept nogil:
    cdef int64_t k
    for k in range(3):
        out[k] = turn[3 * k] * normal[0] + turn[3 * k + 1] * normal[1] + turn[3 * k + 2] * normal[2]


cpdef void put(
    const double[:, ::1] points, const int32_t[::1] corner_point, const int32_t[:, ::1] corners,
    const float[:, ::1] normals, const int32_t[::1] normal_of, const float[:, ::1] color, const int32_t[::1] slot,
    const double[:, ::1] matrix, const double[::1] camera, const double[::1] lamp, const uint8_t[::1] shown,
    double[:, ::1] at, float[:, ::1] depth, uint8_t[:, :, ::1] image
) noexcept:
    """Draws the triangles of a mesh into an image at once, each pixel with the nearest: `fill`, `shade` and `finish`.

    ``corners`` (T, 3) are the mesh's corners, which have points and rows of ``normals``; ``color`` (S, 4) those of its
    slots, ``slot`` (T,) which one. ``matrix`` (3, 4) takes points to the axes left, up, forward. ``camera`` (14,) has
    its axes as rows: right, up, toward us; then what it looks at, pixels to a metre there, and how far it is away,
    infinite for parallel rays. ``lamp`` (3,) is right of, above and toward the camera; ``shown`` (N,) as in `finish`;
    ``at`` (P, 4) is room for where points are in the picture.
    """
    cdef bint back, known, met, mirrored
    cdef double area, b0, b1, b2, inverse, length, of0, of1, of_z, ox, oy, oz, per0, per1, per_z, px, py, s, steps
    cdef double x0, x1, x2, y0, y1, y2, z, z0, z1, z2
    cdef double[9] n
    cdef double[9] turn
    cdef double[12] place
    cdef double[3] light
    cdef double[3] toward
    cdef double *p0
    cdef double *p1
    cdef double *p2
    cdef float[3] lit
    cdef uint8_t[3] seen
    cdef int64_t a, b, bottom, c, high, j, k, left, p, right, t, top, wide, x, y
    cdef int64_t[2] run
    with nogil:
        high, wide = depth.shape[0], depth.shape[1]
        steps = len(shown) - 1
        _place_by(camera, matrix, place)
        for k in range(3):
            light[k] = lamp[0] * camera[k] + lamp[1] * camera[3 + k] + lamp[2] * camera[6 + k]
            toward[k] = camera[6 + k]
            # Cofactors: the inverse transpose, but for a factor.
            p, c = (k + 1) % 3, (k + 2) % 3
            turn[3 * k] = matrix[p, 1] * matrix[c, 2] - matrix[p, 2] * matrix[c, 1]
            turn[3 * k + 1] = matrix[p, 2] * matrix[c, 0] - matrix[p, 0] * matrix[c, 2]
            turn[3 * k + 2] = matrix[p, 0] * matrix[c, 1] - matrix[p, 1] * matrix[c, 0]
        mirrored = matrix[0, 0] * turn[0] + matrix[0, 1] * turn[1] + matrix[0, 2] * turn[2] < 0.0
        if mirrored:
            for k in range(9):
                turn[k] = -turn[k]
        for p in range(len(points)):
            _seen_at(place, points[p, 0], points[p, 1], points[p, 2], camera, wide, high, &at[p, 0])
        for t in range(len(corners)):
            a, b, c = corners[t, 2 if mirrored else 0], corners[t, 1], corners[t, 0 if mirrored else 2]
            p0, p1, p2 = &at[corner_point[a], 0], &at[corner_point[b], 0], &at[corner_point[c], 0]
            x0, y0, x1, y1, x2, y2 = p0[0], p0[1], p1[0], p1[1], p2[0], p2[1]
            area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
            if area == 0.0 or not (abs(area) < 1e30):
                continue
            left, right = _first_met(min(x0, x1, x2), wide), _last_met(max(x0, x1, x2), wide)
            top, bottom = _first_met(min(y0, y1, y2), high), _last_met(max(y0, y1, y2), high)
            if left > right or top > bottom:
                continue
            back, inverse, z0, z1, z2 = area > 0.0, 1.0 / area, p0[2], p1[2], p2[2]
            met = known = False
            per0, per1 = (y1 - y2) * inverse, (y2 - y0) * inverse
            per_z = per0 * (z0 - z2) + per1 * (z1 - z2)
            for y in range(top, bottom + 1):
                py = y + 0.5
                run[0], run[1] = left, right
                if right - left > _FEW:
                    _narrow(x0, y0, x1, y1, x2, y2, py, left, right, run)
                # All of them are affine along a row.
                of0 = (x1 * (y2 - py) - x2 * (y1 - py)) * inverse
                of1 = (x2 * (y0 - py) - x0 * (y2 - py)) * inverse
                of_z = of0 * z0 + of1 * z1 + (1.0 - of0 - of1) * z2
                for x in range(run[0], run[1] + 1):
                    px = x + 0.5
                    b0, b1, z = of0 + px * per0, of1 + px * per1, of_z + px * per_z
                    if b0 < 0.0 or b1 < 0.0 or b0 + b1 > 1.0 or z >= depth[y, x]:
                        continue
                    depth[y, x] = z
                    if not met:
                        met = True
                        _turned(turn, &normals[normal_of[a], 0], n)
                        _turned(turn, &normals[normal_of[b], 0], &n[3])
                        _turned(turn, &normals[normal_of[c], 0], &n[6])
                    if not known:
                        b0, b1, b2 = b0 * p0[3], b1 * p1[3], (1.0 - b0 - b1) * p2[3]
                        ox = b0 * n[0] + b1 * n[3] + b2 * n[6]
                        oy = b0 * n[1] + b1 * n[4] + b2 * n[7]
                        oz = b0 * n[2] + b1 * n[5] + b2 * n[8]
                        length = sqrt(ox * ox + oy * oy + oz * oz)
                        s = -1.0 if back else 1.0
                        if length > 0.0:
                            s /= length
                        p = slot[t]
                        _lit(
                            s * ox, s * oy, s * oz, color[p, 0], color[p, 1], color[p, 2],
                            back and color[p, 3] == 0.0, light, toward, lit,
                        )
                        # A flat one has the same light everywhere.
                        known = (
                            n[0] == n[3] and n[0] == n[6] and n[1] == n[4] and n[1] == n[7] and n[2] == n[5]
                            and n[2] == n[8]
                        )
                        for k in range(3):
                            seen[k] = shown[<int64_t>(min(max(lit[k], <float>0.0), <float>1.0) * steps + 0.5)]
                    for k in range(3):
                        image[y, x, k] = seen[k]


cdef inline void _stroke(
    const double *place, double x0, double z0, double x1, double z1, double height, const double[::1] camera,
    const uint8_t[::1] color, uint8_t[:, :, ::1] image
) noexcept nogil:
    """Draws a level line, a pixel wide."""
    cdef double dx, dy, share
    cdef double[8] at
    cdef int64_t high, k, step, steps, wide, x, y
    high, wide = image.shape[0], image.shape[1]
    _seen_at(place, x0, height, z0, camera, wide, high, at)
    _seen_at(place, x1, height, z1, camera, wide, high, &at[4])
    dx, dy = at[4] - at[0], at[5] - at[1]
    if not (abs(dx) + abs(dy) < 1e6):
        return
    steps = <int64_t>ceil(max(abs(dx), abs(dy), 1.0))
    for step in range(steps + 1):
        share = <double>step / steps
        x, y = <int64_t>floor(at[0] + share * dx), <int64_t>floor(at[1] + share * dy)
        if 0 <= x < wide and 0 <= y < high:
            for k in range(3):
                image[y, x, k] = color[k]


cpdef void ground(
    const double[:, ::1] box, double step, const double[:, ::1] matrix, const double[::1] camera,
    const uint8_t[::1] color, uint8_t[:, :, ::1] image
) noexcept:
    """Draws the lines of `zesty_otter.pictures.view.grid_of` over an image, a pixel wide; the rest is as in `put`."""
    cdef double[12] place
    cdef double[4] ends
    cdef int64_t axis, k
    cdef int64_t[4] number
    with nogil:
        _place_by(camera, matrix, place)
        for axis in range(2):
            number[2 * axis] = <int64_t>floor((box[0, 2 * axis] - step) / step)
            number[2 * axis + 1] = <int64_t>ceil((box[1, 2 * axis] + step) / step)
        for k in range(4):
            ends[k] = step * number[k]
        for k in range(number[0], number[1] + 1):
            _stroke(place, step * k, ends[2], step * k, ends[3], box[0, 1], camera, color, image)
        for k in range(number[2], number[3] + 1):
            _stroke(place, ends[0], step * k, ends[1], step * k, box[0, 1], camera, color, image)


cpdef void lines(
    const float[:, ::1] ends, double width, const float[::1] color, double opacity, double bias, double hidden,
    double dash, const float[:, ::1] depth, float[:, :, ::1] out
) noexcept:
    """Draws lines (N, 6) of x, y, depth from end to end over a picture, where nothing is nearer.

    What is behind something shows by the share ``hidden`` of ``opacity``. ``dash`` pixels are drawn and as many left
    out; 0 draws all.
    """
    cdef bint steep
    cdef double ex, ey, half, middle, px, py, reach, s, share, t
    cdef float dx, dy, long, main, x0, x1, y0, y1, z0, z1
    cdef int64_t a, b, bottom, high, k, left, low, n, right, top, up, wide, x, y
    with nogil:
        high, wide = depth.shape[0], depth.shape[1]
        reach = width / 2.0
        for n in range(len(ends)):
            x0, y0, z0, x1, y1, z1 = ends[n, 0], ends[n, 1], ends[n, 2], ends[n, 3], ends[n, 4], ends[n, 5]
            dx, dy = x1 - x0, y1 - y0
            long = sqrt(dx * dx + dy * dy)
            if not (long < 1e6):
                continue
            left = max(<int64_t>floor(min(x0, x1) - reach), 0)
            right = min(<int64_t>ceil(max(x0, x1) + reach), wide - 1)
            top = max(<int64_t>floor(min(y0, y1) - reach), 0)
            bottom = min(<int64_t>ceil(max(y0, y1) + reach), high - 1)
            steep = abs(dy) > abs(dx)
            low, up = top if steep else left, bottom if steep else right
            for a in range(low, up + 1):
                # Along the longer way only the pixels near the line are looked at.
                main = dy if steep else dx
                t = ((a + 0.5) - (y0 if steep else x0)) / main if main != 0.0 else 0.0
                t = min(max(t, 0.0), 1.0)
                middle = (x0 + t * dx) if steep else (y0 + t * dy)
                half = reach * 1.5 + 1.0
                for b in range(
                    max(<int64_t>floor(middle - half), left if steep else top),
                    min(<int64_t>ceil(middle + half), right if steep else bottom) + 1,
                ):
                    x, y = b if steep else a, a if steep else b
                    px, py = x + 0.5, y + 0.5
                    s = ((px - x0) * dx + (py - y0) * dy) / (long * long) if long > 0.0 else 0.0
                    s = min(max(s, 0.0), 1.0)
                    ex, ey = px - x0 - s * dx, py - y0 - s * dy
                    if ex * ex + ey * ey > reach * reach:
                        continue
                    if dash > 0.0 and floor(s * long / dash) % 2 == 1:
                        continue
                    share = opacity if z0 + s * (z1 - z0) - bias <= depth[y, x] else opacity * hidden
                    for k in range(3):
                        out[y, x, k] = out[y, x, k] * (1.0 - share) + color[k] * share


cpdef void veil(
    const float[:, ::1] over_depth, const int32_t[:, ::1] over_ids, const float[::1] color,
    const float[::1] shade_of, double opacity, double behind, const float[:, ::1] depth, float[:, :, ::1] out
) noexcept:
    """Lays what is see-through over a picture: fainter where it is behind what is there."""
    cdef double share
    cdef int32_t t
    cdef int64_t high, k, wide, x, y
    with nogil:
        high, wide = depth.shape[0], depth.shape[1]
        for y in range(high):
            for x in range(wide):
                t = over_ids[y, x]
                if t < 0:
                    continue
                share = opacity if over_depth[y, x] <= depth[y, x] else behind
                for k in range(3):
                    out[y, x, k] = out[y, x, k] * (1.0 - share) + color[k] * shade_of[t] * share


cpdef void finish(
    const float[:, :, ::1] fine, int64_t side, const uint8_t[::1] shown, int64_t first_row, int64_t stop_row,
    uint8_t[:, :, ::1] image
) noexcept:
    """Pixels of an image from squares of ``side`` by ``side`` numbers of light: their mean, as ``shown`` says.

    ``shown`` (N,) are the bytes of light from 0 to 1 in even steps.
    """
    cdef float light, steps = len(shown) - 1
    cdef int64_t i, j, k, x, y
    with nogil:
        for y in range(first_row, stop_row):
            for x in range(image.shape[1]):
                for k in range(3):
                    if side == 1:
                        light = fine[y, x, k]
                    elif side == 2:  # as below, in the same order
                        light = fine[2 * y, 2 * x, k] + fine[2 * y, 2 * x + 1, k]
                        light = light + fine[2 * y + 1, 2 * x, k]
                        light = (light + fine[2 * y + 1, 2 * x + 1, k]) * <float>0.25
                    else:
                        light = 0.0
                        for j in range(side):
                            for i in range(side):
                                light += fine[y * side + j, x * side + i, k]
                        light /= side * side
                    light = min(max(light, 0.0), 1.0)
                    image[y, x, k] = shown[<int64_t>(light * steps + <float>0.5)]
