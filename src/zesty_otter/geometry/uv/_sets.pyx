"""Compiled loops of `uv`."""

from libc.stdint cimport int32_t, int64_t

cpdef enum:
    FINE = 16  # positions are rounded to a sixteenth of a pixel; from there on all is exact


cdef enum:
    _FEW = 48  # up to so many runs in a line are put in order
    LAST_LINE = 0  # columns of triangles that are looked at, see `_begin`
    FIRST = 1
    MORE = 2
    SIDE = 3


cpdef int64_t lines_of(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t high, int32_t[::1] order, int64_t[::1] begin,
    int64_t[::1] ends
) noexcept:
    """The triangles by the first line of pixels they may cover, and where those of each line (high + 1,) begin.

    ``grid`` (C, 2) are whole numbers, FINE to a pixel; ``ends`` (high + 1,) is room to work in, of zeros. Returns how
    many triangles there are at most that one line may meet.
    """
    cdef int64_t line, met = 0, most = 0, t, total = 0
    with nogil:
        for t in range(len(corners)):
            line = _first_line(grid, corners, t, high)
            if line >= 0:
                begin[line] += 1
                ends[min(_last_line(grid, corners, t), high)] += 1
        for line in range(high + 1):
            met += begin[line]
            most = max(most, met)
            met -= ends[line - 1] if line > 0 else 0  # those that end are left out in the next line
            total += begin[line]
            begin[line] = total
        for t in range(len(corners) - 1, -1, -1):
            line = _first_line(grid, corners, t, high)
            if line >= 0:
                begin[line] -= 1
                order[begin[line]] = <int32_t>t
        return most


cdef inline int64_t _last_line(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t t
) noexcept nogil:
    return max(grid[corners[t, 0], 1], grid[corners[t, 1], 1], grid[corners[t, 2], 1]) // FINE


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
    const int64_t[::1] begin, int64_t[:, ::1] active, int32_t[::1] change, int64_t[::1] found
) noexcept:
    """Counts the pixels whose centre is covered by a triangle at least, and by two.

    The top-left rule gives every centre on a shared edge to one triangle. ``order`` and ``begin`` are those of
    `lines_of`; ``active`` (N, 12), with as many rows as that gives, and ``change`` (wide + 1,), of zeros, are room to
    work in. Line by line: where few triangles cover something, their ends in order, else how many begin and end at each
    pixel.
    """
    cdef int64_t c, k, kept, line, n = 0, place, runs
    cdef int64_t[2] run
    cdef int64_t[_FEW] starts
    cdef int64_t[_FEW] stops
    with nogil:
        for line in range(len(begin) - 1):
            for k in range(begin[line], begin[line + 1]):
                _begin(grid, corners, order[k], line, wide, &active[n, 0])
                n += 1
            kept, runs = 0, 0
            for k in range(n):
                if active[k, LAST_LINE] < line:
                    continue
                if kept < k:
                    for c in range(12):
                        active[kept, c] = active[k, c]
                _cross(&active[kept, 0], run)
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


cdef inline void _begin(
    const int64_t[:, ::1] grid, const int32_t[:, ::1] corners, int64_t t, int64_t line, int64_t wide, int64_t *own
) noexcept nogil:
    """What `_cross` asks of a triangle in its first line and in those that follow.

    Its last line, its first pixel, how many pixels more, and of each edge `_side` there, how much that grows from line
    to line and how much less it is from pixel to pixel: the 12 numbers of ``own``.
    """
    cdef int64_t ax = grid[corners[t, 0], 0], bx = grid[corners[t, 1], 0], cx = grid[corners[t, 2], 0]
    cdef int64_t ay = grid[corners[t, 0], 1], by = grid[corners[t, 1], 1], cy = grid[corners[t, 2], 1], x, y
    if (bx - ax) * (cy - ay) - (by - ay) * (cx - ax) < 0:
        bx, by, cx, cy = cx, cy, bx, by
    own[LAST_LINE] = _last_line(grid, corners, t)
    own[FIRST] = max(0, min(ax, bx, cx) - FINE // 2) // FINE
    own[MORE] = min(wide - 1, max(ax, bx, cx) // FINE) - own[FIRST]
    x, y = own[FIRST] * FINE + FINE // 2, line * FINE + FINE // 2
    own[SIDE], own[SIDE + 3], own[SIDE + 6] = _side(ax, ay, bx, by, x, y), FINE * (bx - ax), FINE * (by - ay)
    own[SIDE + 1], own[SIDE + 4], own[SIDE + 7] = _side(bx, by, cx, cy, x, y), FINE * (cx - bx), FINE * (cy - by)
    own[SIDE + 2], own[SIDE + 5], own[SIDE + 8] = _side(cx, cy, ax, ay, x, y), FINE * (ax - cx), FINE * (ay - cy)


cdef inline void _cross(int64_t *own, int64_t *run) noexcept nogil:
    """The first pixel of a line whose centre a triangle covers, and the one behind the last; then on to the next line.

    Invariant: `_side` is above 0 just where a centre is on the inner side of an edge.
    """
    cdef int64_t k
    run[0], run[1] = 0, own[MORE]
    for k in range(3):
        _narrow(run, own[SIDE + k], own[SIDE + 6 + k])
        own[SIDE + k] += own[SIDE + 3 + k]
    run[0], run[1] = own[FIRST] + run[0], own[FIRST] + run[1] + 1


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
        run[1] = min(run[1], _whole(side - 1, step) if side > 0 else -1)
    elif step < 0:
        run[0] = max(run[0], 0 if side > 0 else _whole(-side, -step) + 1)
    elif side <= 0:
        run[1] = -1


cdef inline int64_t _whole(int64_t above, int64_t below) noexcept nogil:
    """How many whole times a number goes into one from 0 to 2 ** 53, quicker than by whole numbers and as exact.

    What is below a whole number is so by more than doubles are apart there.
    """
    return <int64_t>(<double>above / <double>below)


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
