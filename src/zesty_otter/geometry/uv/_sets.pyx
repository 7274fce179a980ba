"""Compiled loops of `uv`."""

from libc.stdint cimport uint8_t, int32_t, int64_t

cpdef enum:
    FINE = 16  # positions are rounded to a sixteenth of a pixel; from there on all is exact


cpdef void cover(const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, uint8_t[:, ::1] counts) noexcept:
    """Counts how many triangles cover each pixel's centre, up to 255.

    ``grid`` (C, 2) are whole numbers, FINE to a pixel. The top-left rule gives every centre on a shared edge to one
    triangle. Invariant: `_side` is above 0 just where a centre is on the inner side of an edge.
    """
    cdef int64_t area, ax, ay, bx, by, column, cx, cy, first_column, first_line, high, last_column, line, t
    cdef int64_t wide, x, y
    cdef int64_t[2] run
    with nogil:
        high, wide = counts.shape[0], counts.shape[1]
        for t in range(len(corners)):
            ax, ay = grid[corners[t, 0], 0], grid[corners[t, 0], 1]
            bx, by = grid[corners[t, 1], 0], grid[corners[t, 1], 1]
            cx, cy = grid[corners[t, 2], 0], grid[corners[t, 2], 1]
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            if area == 0:
                continue
            if area < 0:
                bx, by, cx, cy = cx, cy, bx, by
            first_line = max(0, min(ay, by, cy) - FINE // 2) // FINE
            first_column = max(0, min(ax, bx, cx) - FINE // 2) // FINE
            last_column = min(wide - 1, max(ax, bx, cx) >> 4)
            x = first_column * FINE + FINE // 2
            for line in range(first_line, min(high - 1, max(ay, by, cy) >> 4) + 1):
                y = line * FINE + FINE // 2
                run[0], run[1] = 0, last_column - first_column
                _narrow(run, _side(ax, ay, bx, by, x, y), FINE * (by - ay))
                _narrow(run, _side(bx, by, cx, cy, x, y), FINE * (cy - by))
                _narrow(run, _side(cx, cy, ax, ay, x, y), FINE * (ay - cy))
                for column in range(first_column + run[0], first_column + run[1] + 1):
                    if counts[line, column] < 255:
                        counts[line, column] += 1


cdef inline void _narrow(int64_t *run, int64_t side, int64_t step) noexcept nogil:
    """Leaves of a run, first to last, the numbers n for which side - n * step is above 0."""
    if step > 0:
        run[1] = min(run[1], (side - 1) // step if side > 0 else -1)
    elif step < 0:
        run[0] = max(run[0], 0 if side > 0 else -side // -step + 1)
    elif side <= 0:
        run[1] = -1


cdef inline int64_t _side(int64_t ax, int64_t ay, int64_t bx, int64_t by, int64_t x, int64_t y) noexcept nogil:
    """How far a place is to the left of an edge, in whole numbers; one more on edges that own what lies on them."""
    return (bx - ax) * (y - ay) - (by - ay) * (x - ax) + (by < ay or (by == ay and bx > ax))


cpdef void signed_areas(const float[:, ::1] uv, const int32_t[:, ::1] corners, double[::1] area) noexcept:
    cdef double ax, ay
    cdef int32_t a, b, c
    cdef int64_t t
    with nogil:
        for t in range(len(corners)):
            a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
            ax, ay = <double>uv[a, 0], <double>uv[a, 1]
            area[t] = 0.5 * ((uv[b, 0] - ax) * (uv[c, 1] - ay) - (uv[b, 1] - ay) * (uv[c, 0] - ax))
