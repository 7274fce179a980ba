"""Compiled loops of `uv`."""

from libc.stdint cimport uint8_t, int32_t, int64_t

cpdef enum:
    FINE = 16  # positions are rounded to a sixteenth of a pixel; from there on all is exact


# Up to so many runs in a line are put in order.
cdef enum:
    _FEW = 48


cpdef int64_t lines_of(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t high, int32_t[::1] order, int64_t[::1] begin
) noexcept:
    """The triangles by the first line of pixels they may cover, and where those of each line (high + 1,) begin.

    ``grid`` (C, 2) are whole numbers, FINE to a pixel. Returns how many triangles there are that have an area.
    """
    cdef int64_t line, t, total = 0
    with nogil:
        for t in range(len(corners)):
            line = _first_line(grid, corners, t, high)
            if line >= 0:
                begin[line] += 1
        for line in range(high + 1):
            total += begin[line]
            begin[line] = total
        for t in range(len(corners) - 1, -1, -1):
            line = _first_line(grid, corners, t, high)
            if line >= 0:
                begin[line] -= 1
                order[begin[line]] = <int32_t>t
        return total


cdef inline int64_t _first_line(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t t, int64_t high
) noexcept nogil:
    """The first line of pixels that a triangle may cover; -1 where it has no area or begins beyond."""
    cdef int64_t ay = grid[corners[t, 0], 1], by = grid[corners[t, 1], 1], cy = grid[corners[t, 2], 1], line
    cdef int64_t ax = grid[corners[t, 0], 0], bx = grid[corners[t, 1], 0], cx = grid[corners[t, 2], 0]
    if (bx - ax) * (cy - ay) == (by - ay) * (cx - ax):
        return -1
    line = max(0, min(ay, by, cy) - FINE // 2) // FINE
    return line if line < high else -1


cpdef void coverage(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t wide, const int32_t[::1] order,
    const int64_t[::1] begin, int32_t[::1] active, int32_t[::1] change, int64_t[::1] found
) noexcept:
    """Counts the pixels whose centre is covered by a triangle at least, and by two.

    The top-left rule gives every centre on a shared edge to one triangle. ``order`` and ``begin`` are those of
    `lines_of`, ``active`` (T,) and ``change`` (wide + 1,) room to work in, ``change`` of zeros. Line by line, where
    few triangles begin and end in order, else how many do at each pixel. Invariant: `_side` is above 0 just where a centre is on the inner side.
    """
    cdef int64_t ax, ay, bx, by, column, cx, cy, first_column, high, k, kept, last_column, least, line, most, n, stop, t, x, y
    cdef int64_t[2] run
    cdef int64_t[_FEW] starts
    cdef int64_t[_FEW] stops
    cdef int64_t runs, once = 0, twice = 0, depth, place, before
    with nogil:
        high = len(begin) - 1
        n = 0
        for line in range(high):
            for k in range(begin[line], begin[line + 1]):
                active[n] = order[k]
                n += 1
            y = line * FINE + FINE // 2
            kept, least, most, runs = 0, wide, 0, 0
            for k in range(n):
                t = active[k]
                ax, ay = grid[corners[t, 0], 0], grid[corners[t, 0], 1]
                bx, by = grid[corners[t, 1], 0], grid[corners[t, 1], 1]
                cx, cy = grid[corners[t, 2], 0], grid[corners[t, 2], 1]
                if max(ay, by, cy) >> 4 < line:
                    continue
                active[kept] = <int32_t>t
                kept += 1
                if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) < 0:
                    bx, by, cx, cy = cx, cy, bx, by
                first_column = max(0, min(ax, bx, cx) - FINE // 2) // FINE
                last_column = min(wide - 1, max(ax, bx, cx) >> 4)
                x = first_column * FINE + FINE // 2
                run[0], run[1] = 0, last_column - first_column
                _narrow(run, _side(ax, ay, bx, by, x, y), FINE * (by - ay))
                _narrow(run, _side(bx, by, cx, cy, x, y), FINE * (cy - by))
                _narrow(run, _side(cx, cy, ax, ay, x, y), FINE * (ay - cy))
                if run[0] <= run[1]:
                    x, stop = first_column + run[0], first_column + run[1] + 1
                    least, most = min(least, x), max(most, stop)
                    change[x] += 1
                    change[stop] -= 1
                    if runs < _FEW:
                        _put_in(starts, runs, x)
                        _put_in(stops, runs, stop)
                    runs += 1
            n = kept
            depth = 0
            if runs <= _FEW:
                k = 0
                before = 0
                for place in range(runs):
                    change[starts[place]] = change[stops[place]] = 0
                place = 0
                while place < runs:
                    # Starts come before their stops, so that those that are left are stops.
                    if k < runs and starts[k] <= stops[place]:
                        x = starts[k]
                        k += 1
                        once += x - before if depth > 0 else 0
                        twice += x - before if depth > 1 else 0
                        depth += 1
                    else:
                        x = stops[place]
                        place += 1
                        once += x - before
                        twice += x - before if depth > 1 else 0
                        depth -= 1
                    before = x
                continue
            for column in range(least, most + 1):
                depth += change[column]
                change[column] = 0
                once += depth > 0
                twice += depth > 1
        found[0], found[1] = once, twice


cdef inline void _put_in(int64_t *places, int64_t count, int64_t place) noexcept nogil:
    """Puts a place among others, in order."""
    while count > 0 and places[count - 1] > place:
        places[count] = places[count - 1]
        count -= 1
    places[count] = place


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
