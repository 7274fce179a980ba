"""Compiled loops of `uv`."""

from libc.stdint cimport int32_t, int64_t

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
    `lines_of`, ``active`` (T,) and ``change`` (wide + 1,) room to work in, ``change`` of zeros. Line by line: where few
    triangles cover something, their ends in order, else how many begin and end at each pixel.
    """
    cdef int64_t k, kept, line, n = 0, place, runs, t
    cdef int64_t[2] run
    cdef int64_t[_FEW] starts
    cdef int64_t[_FEW] stops
    with nogil:
        for line in range(len(begin) - 1):
            for k in range(begin[line], begin[line + 1]):
                active[n] = order[k]
                n += 1
            kept, runs = 0, 0
            for k in range(n):
                t = active[k]
                if not _cross(grid, corners, t, line, wide, run):
                    continue
                active[kept] = <int32_t>t
                kept += 1
                if run[0] >= run[1]:
                    continue
                if runs < _FEW:
                    _put_in(starts, runs, run[0])
                    _put_in(stops, runs, run[1])
                elif runs == _FEW:
                    for place in range(_FEW):
                        change[starts[place]] += 1
                        change[stops[place]] -= 1
                if runs >= _FEW:
                    change[run[0]] += 1
                    change[run[1]] -= 1
                runs += 1
            n = kept
            if runs <= _FEW:
                _add_few(starts, stops, runs, &found[0])
            else:
                _add_many(change, &found[0])


cdef inline bint _cross(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t t, int64_t line, int64_t wide, int64_t *run
) noexcept nogil:
    """The first pixel of a line whose centre a triangle covers, and the one behind the last; False where it is below.

    Invariant: `_side` is above 0 just where a centre is on the inner side of an edge.
    """
    cdef int64_t ax = grid[corners[t, 0], 0], bx = grid[corners[t, 1], 0], cx = grid[corners[t, 2], 0], first
    cdef int64_t ay = grid[corners[t, 0], 1], by = grid[corners[t, 1], 1], cy = grid[corners[t, 2], 1], x, y
    if max(ay, by, cy) // FINE < line:
        return False
    if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) < 0:
        bx, by, cx, cy = cx, cy, bx, by
    first = max(0, min(ax, bx, cx) - FINE // 2) // FINE
    run[0], run[1] = 0, min(wide - 1, max(ax, bx, cx) // FINE) - first
    x, y = first * FINE + FINE // 2, line * FINE + FINE // 2
    _narrow(run, _side(ax, ay, bx, by, x, y), FINE * (by - ay))
    _narrow(run, _side(bx, by, cx, cy, x, y), FINE * (cy - by))
    _narrow(run, _side(cx, cy, ax, ay, x, y), FINE * (ay - cy))
    run[0], run[1] = first + run[0], first + run[1] + 1
    return True


cdef inline void _add_few(const int64_t *starts, const int64_t *stops, int64_t runs, int64_t *found) noexcept nogil:
    """Adds the pixels of a line that runs cover, once at least and twice; their ends are in order."""
    cdef int64_t before = 0, depth = 0, k = 0, place = 0, x
    while place < runs:
        # Starts come before their stops, so that those that are left are stops.
        x = starts[k] if k < runs and starts[k] <= stops[place] else stops[place]
        found[0] += x - before if depth > 0 else 0
        found[1] += x - before if depth > 1 else 0
        if k < runs and x == starts[k]:
            depth += 1
            k += 1
        else:
            depth -= 1
            place += 1
        before = x


cdef inline void _add_many(int32_t[::1] change, int64_t *found) noexcept nogil:
    """As `_add_few`, of how many runs begin or end at each pixel, which is cleared."""
    cdef int64_t column, once = 0, twice = 0
    cdef int32_t depth = 0
    for column in range(len(change)):
        depth += change[column]
        change[column] = 0
        once += depth > 0
        twice += depth > 1
    found[0] += once
    found[1] += twice


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
