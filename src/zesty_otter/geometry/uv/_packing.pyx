"""Charts put side by side on pages, compiled.

A page is a table of bits, a row for each row of pixels; a chart is a mask of the pixels that it touches.
"""

from libc.math cimport INFINITY, ceil, fabs, floor, fmax, fmin, log, sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t, uint64_t

cdef enum:  # columns of a run: a row of a chart, and its first and last pixel there
    ROW = 0
    FIRST = 1
    LAST = 2


cpdef void narrow_turns(const double[:, ::1] points, const int64_t[::1] start, int64_t[::1] hull, double[:, ::1] turn) noexcept:
    """Of each chart the direction (K, 2) along which the smallest rectangle around it lies.

    ``points`` are in the order of their charts, which begin at ``start``, and of x and y; ``hull`` is room for twice
    as many. H. Freeman and R. Shapira (1975); hulls as A. M. Andrew (1979).
    """
    cdef double area, best, dx, dy, high, least, left, length, right, x, y
    cdef int64_t a, b, first, i, k, lower, n, size, stop
    with nogil:
        for k in range(len(start) - 1):
            first, stop = start[k], start[k + 1]
            turn[k, 0], turn[k, 1] = 1.0, 0.0
            if stop - first < 3:
                if stop - first == 2:
                    dx, dy = points[first + 1, 0] - points[first, 0], points[first + 1, 1] - points[first, 1]
                    length = sqrt(dx * dx + dy * dy)
                    if length > 0.0:
                        turn[k, 0], turn[k, 1] = dx / length, dy / length
                continue
            size = 0
            for n in range(first, stop):
                while size > 1 and _turn(points, hull[size - 2], hull[size - 1], n) <= 0.0:
                    size -= 1
                hull[size] = n
                size += 1
            lower = size + 1
            for n in range(stop - 2, first - 1, -1):
                while size >= lower and _turn(points, hull[size - 2], hull[size - 1], n) <= 0.0:
                    size -= 1
                hull[size] = n
                size += 1
            best = INFINITY
            for i in range(size - 1):
                a, b = hull[i], hull[i + 1]
                dx, dy = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1]
                length = sqrt(dx * dx + dy * dy)
                if length <= 0.0:
                    continue
                dx, dy = dx / length, dy / length
                left, right, least, high = INFINITY, -INFINITY, INFINITY, -INFINITY
                for n in range(size - 1):
                    x = points[hull[n], 0] * dx + points[hull[n], 1] * dy
                    y = points[hull[n], 1] * dx - points[hull[n], 0] * dy
                    left, right, least, high = fmin(left, x), fmax(right, x), fmin(least, y), fmax(high, y)
                area = (right - left) * (high - least)
                if area < best * (1.0 - 1e-9):
                    best = area
                    turn[k, 0], turn[k, 1] = dx, dy


cdef inline double _turn(const double[:, ::1] points, int64_t a, int64_t b, int64_t c) noexcept nogil:
    return (points[b, 0] - points[a, 0]) * (points[c, 1] - points[a, 1]) - (points[b, 1] - points[a, 1]) * (
        points[c, 0] - points[a, 0]
    )


cdef inline int64_t _last_taken(const uint64_t *row, int64_t first, int64_t last) noexcept nogil:
    """The last bit that is set from one place of a row to another, -1 where none is."""
    cdef int64_t at, step, word = last >> 6
    cdef uint64_t bits
    bits = row[word] & (~<uint64_t>0 >> (63 - (last & 63)))
    while True:
        if word == first >> 6:
            bits &= ~<uint64_t>0 << (first & 63)
        if bits:
            break
        if word == first >> 6:
            return -1
        word -= 1
        bits = row[word]
    at, step = 0, 32
    while step:
        if bits >> step:
            bits >>= step
            at += step
        step >>= 1
    return 64 * word + at


cdef inline int64_t _longest_free(const uint64_t *row, int64_t wide) noexcept nogil:
    cdef int64_t best = 0, run = 0, word, x
    cdef uint64_t bits
    for word in range(wide >> 6):
        bits = row[word]
        if bits == 0:
            run += 64
            best = max(best, run)
            continue
        if bits == ~<uint64_t>0:
            run = 0
            continue
        for x in range(64):
            run = 0 if bits >> x & 1 else run + 1
            best = max(best, run)
    return best


cdef void _draw(const double[:, ::1] corners, int64_t first, int64_t stop, uint8_t *mask, int64_t wide, int64_t high) noexcept nogil:
    """Marks every pixel that triangles of a chart touch."""
    cdef double ax, ay, area, bx, by, cx, cy, x, y
    cdef double[3] dx, dy, reach, rise
    cdef int64_t bottom, k, left, right, row, column, t, top
    for t in range(first, stop):
        ax, ay, bx, by = corners[t, 0], corners[t, 1], corners[t, 2], corners[t, 3]
        cx, cy = corners[t, 4], corners[t, 5]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area < 0.0:
            bx, by, cx, cy = cx, cy, bx, by
        left, right = <int64_t>floor(fmin(ax, fmin(bx, cx))), <int64_t>floor(fmax(ax, fmax(bx, cx)))
        top, bottom = <int64_t>floor(fmin(ay, fmin(by, cy))), <int64_t>floor(fmax(ay, fmax(by, cy)))
        left, right, top, bottom = max(left, 0), min(right, wide - 1), max(top, 0), min(bottom, high - 1)
        dx[0], dy[0], dx[1], dy[1], dx[2], dy[2] = bx - ax, by - ay, cx - bx, cy - by, ax - cx, ay - cy
        rise[0], rise[1], rise[2] = ax * by - ay * bx, bx * cy - by * cx, cx * ay - cy * ax
        for k in range(3):
            reach[k] = 0.5 * (fabs(dx[k]) + fabs(dy[k])) + 1e-9
        for row in range(top, bottom + 1):
            y = row + 0.5
            for column in range(left, right + 1):
                x = column + 0.5
                # Inner where the middle is no farther outside any side than the pixel reaches.
                if (
                    dx[0] * y - dy[0] * x + rise[0] >= -reach[0]
                    and dx[1] * y - dy[1] * x + rise[1] >= -reach[1]
                    and dx[2] * y - dy[2] * x + rise[2] >= -reach[2]
                ):
                    mask[row * wide + column] = 1


cdef int64_t _runs(
    const uint8_t *mask, int64_t wide, int64_t high, int64_t turn, int64_t gap, uint8_t *room, int32_t *until,
    int32_t[:, ::1] runs
) noexcept nogil:
    """The runs of a mask that is turned by quarters and grown by a gap on all sides."""
    cdef int64_t at, column, count = 0, due, first, new_high, new_wide, row, step, x, y
    new_wide, new_high = (high, wide) if turn & 1 else (wide, high)
    step = wide if turn & 1 else 1
    if turn == 1 or turn == 2:
        step = -step
    # Grown sideways first, into the room; there the rows are those of the turned mask.
    for row in range(new_high):
        due = -1
        if turn == 0:
            at = row * wide
        elif turn == 1:
            at = (high - 1) * wide + row
        elif turn == 2:
            at = (high - 1 - row) * wide + wide - 1
        else:
            at = wide - 1 - row
        for column in range(new_wide + 2 * gap):
            if column < new_wide:
                if mask[at]:
                    due = column + 2 * gap
                at += step
            room[row * (new_wide + 2 * gap) + column] = column <= due
    # Then downwards: a column keeps up to which row it is still set.
    new_wide += 2 * gap
    for column in range(new_wide):
        until[column] = <int32_t>(-gap - 1)
    for row in range(-gap, new_high + gap):
        if row + gap < new_high:
            for column in range(new_wide):
                if room[(row + gap) * new_wide + column]:
                    until[column] = <int32_t>(row + 2 * gap)
        first = -1
        for column in range(new_wide):
            y = row <= until[column]
            if y and first < 0:
                first = column
            if first >= 0 and (not y or column == new_wide - 1):
                runs[count, ROW] = <int32_t>row
                runs[count, FIRST] = <int32_t>(first - gap)
                runs[count, LAST] = <int32_t>((column if y else column - 1) - gap)
                count += 1
                first = -1
    return count


cdef inline void _turn_round(int32_t[:, ::1] runs, int64_t count, int64_t wide, int64_t high) noexcept nogil:
    """Turns the runs of a chart by two quarters."""
    cdef int32_t first, last, row
    cdef int64_t k, other
    for k in range((count + 1) // 2):
        other = count - 1 - k
        row, first, last = runs[k, ROW], runs[k, FIRST], runs[k, LAST]
        runs[k, ROW] = <int32_t>(high - 1 - runs[other, ROW])
        runs[k, FIRST] = <int32_t>(wide - 1 - runs[other, LAST])
        runs[k, LAST] = <int32_t>(wide - 1 - runs[other, FIRST])
        runs[other, ROW] = <int32_t>(high - 1 - row)
        runs[other, FIRST], runs[other, LAST] = <int32_t>(wide - 1 - last), <int32_t>(wide - 1 - first)


cdef int64_t _free_place(
    const uint64_t *page, const int32_t *free, int64_t high, int64_t wide, const int32_t[:, ::1] runs, int64_t count,
    int64_t stride, int64_t gap, int64_t margin, int64_t chart_wide, int64_t y
) noexcept nogil:
    """The first place along a row where a chart has room, -1 where there is none.

    Where one of its runs meets what is there, nothing nearer than the end of that can do.
    """
    cdef int64_t k = 0, r, row, taken, words = wide >> 6, x = margin
    for r in range(count):
        row = y + runs[r, ROW]
        if 0 <= row < high and runs[r, LAST] - runs[r, FIRST] + 1 - 2 * gap > free[row]:
            return -1
    r = 0
    while k < count and x + chart_wide + margin <= wide:
        row = y + runs[r, ROW]
        if 0 <= row < high:
            taken = _last_taken(page + words * row, max(x + runs[r, FIRST], 0), min(x + runs[r, LAST], wide - 1))
            if taken >= 0:
                x, k = taken - runs[r, FIRST] + 1, 0  # all over again, beginning with the row that was in the way
                continue
        k += 1
        r += stride
        if r >= count:
            r -= count
    return x if x + chart_wide + margin <= wide else -1


cpdef int64_t place_charts(
    const double[:, ::1] corners, const int64_t[::1] start, const int32_t[:, ::1] size, const int64_t[::1] order,
    int64_t gap, int64_t margin, int64_t quarters, int64_t most_pages, uint8_t[::1] mask, uint8_t[::1] room,
    int32_t[::1] until, int32_t[:, :, ::1] runs, uint64_t[:, :, ::1] pages, int32_t[:, ::1] free,
    int32_t[:, :, ::1] full, int32_t[:, ::1] place
) noexcept:
    """Puts charts on pages, each as low as it can be and then as far left; the number of pages, or -1.

    ``corners`` (T, 6) of triangles in pixels, from 0 on in each chart, whose triangles begin at ``start``; ``size``
    (K, 2) are its width and height; ``place`` (K, 4) gets page, x, y and quarters turned. ``free`` is the longest free
    run of each row, ``full`` (N, 64, 64) the height up to which charts of a kind, by width and height, have found no
    room. Invariant: no two charts are nearer than ``gap``, none is nearer than ``margin`` to the rim.
    """
    cdef bint fits
    cdef int64_t best_low, best_turn, best_x, best_y, chart, class_high, class_wide, count, high, k, leap, n, new_high, new_wide, page, r, row
    cdef int64_t stride, turn, used = 0, wide, x, y
    cdef int64_t[2] counts
    with nogil:
        wide, high = 64 * pages.shape[2], pages.shape[1]
        for n in range(len(order)):
            chart = order[n]
            for k in range(<int64_t>size[chart, 0] * size[chart, 1]):
                mask[k] = 0
            _draw(corners, start[chart], start[chart + 1], &mask[0], size[chart, 0], size[chart, 1])
            page, fits = 0, False
            while page < most_pages and not fits:
                best_low, best_x, best_y, best_turn = high + 1, 0, 0, -1
                for turn in range(quarters):
                    new_wide, new_high = size[chart, turn & 1], size[chart, 1 - (turn & 1)]
                    if new_wide + 2 * margin > wide or new_high + 2 * margin > high:
                        continue
                    if turn < 2:
                        counts[turn] = _runs(
                            &mask[0], size[chart, 0], size[chart, 1], turn, gap, &room[0], &until[0], runs[turn]
                        )
                    else:
                        _turn_round(runs[turn - 2], counts[turn - 2], new_wide, new_high)
                    count = counts[turn & 1]
                    stride = max(<int64_t>(0.618 * count) | 1, 1)
                    while _common(stride, count) != 1:
                        stride += 1
                    leap = min(max(new_high // 8, 1), 8)
                    class_wide, class_high = _kind(new_wide), _kind(new_high)
                    y, x = max(full[page, class_wide, class_high] - leap, margin), -1
                    while x < 0 and y + new_high + margin <= high and y + new_high < best_low:
                        x = _free_place(
                            &pages[page, 0, 0], &free[page, 0], high, wide, runs[turn & 1], count, stride, gap, margin,
                            new_wide, y
                        )
                        y += leap
                    if x < 0:
                        continue
                    full[page, class_wide, class_high] = <int32_t>(y - leap)
                    # The rows that were leapt over.
                    y -= leap
                    row = y
                    for row in range(max(y - leap + 1, margin), y + 1):
                        x = _free_place(
                            &pages[page, 0, 0], &free[page, 0], high, wide, runs[turn & 1], count, stride, gap, margin,
                            new_wide, row
                        )
                        if x >= 0:
                            break
                    best_low, best_x, best_y, best_turn = row + new_high, x, row, turn
                if best_turn >= 0:
                    fits = True
                    place[chart, 0], place[chart, 1] = <int32_t>page, <int32_t>best_x
                    place[chart, 2], place[chart, 3] = <int32_t>best_y, <int32_t>best_turn
                    count = _runs(
                        &mask[0], size[chart, 0], size[chart, 1], best_turn, 0, &room[0], &until[0], runs[0]
                    )
                    for r in range(count):
                        row = best_y + runs[0, r, ROW]
                        for x in range(best_x + runs[0, r, FIRST], best_x + runs[0, r, LAST] + 1):
                            pages[page, row, x >> 6] |= <uint64_t>1 << (x & 63)
                    for row in range(best_y, best_low):
                        free[page, row] = <int32_t>_longest_free(&pages[page, row, 0], wide)
                    used = max(used, page + 1)
                else:
                    page += 1
            if not fits:
                return -1
    return used


cdef inline int64_t _kind(int64_t pixels) noexcept nogil:
    return min(<int64_t>(7.0 * log(<double>pixels)), 63)


cdef inline int64_t _common(int64_t a, int64_t b) noexcept nogil:
    while b:
        a, b = b, a % b
    return a
