"""Compiled loops of `uv`."""

import numpy as np

from zesty_otter._compile import kernel

FINE = 16  # positions are rounded to a sixteenth of a pixel; from there on all is exact


@kernel
def cover(grid, corners, counts):
    # Counts how many triangles cover each pixel's centre. grid: (C, 2) whole numbers, FINE to a pixel. The
    # top-left rule gives every centre on a shared edge to one triangle.
    high, wide = counts.shape
    for t in range(len(corners)):
        ax, ay = grid[corners[t, 0], 0], grid[corners[t, 0], 1]
        bx, by = grid[corners[t, 1], 0], grid[corners[t, 1], 1]
        cx, cy = grid[corners[t, 2], 0], grid[corners[t, 2], 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0:
            continue
        if area < 0:
            bx, by, cx, cy = cx, cy, bx, by
        first_line = max(0, (min(ay, by, cy) - FINE // 2) // FINE)
        first_column = max(0, (min(ax, bx, cx) - FINE // 2) // FINE)
        for line in range(first_line, min(high - 1, max(ay, by, cy) // FINE) + 1):
            y = line * FINE + FINE // 2
            for column in range(first_column, min(wide - 1, max(ax, bx, cx) // FINE) + 1):
                x = column * FINE + FINE // 2
                inside = _left_of(ax, ay, bx, by, x, y) and _left_of(bx, by, cx, cy, x, y)
                if inside and _left_of(cx, cy, ax, ay, x, y) and counts[line, column] < 255:
                    counts[line, column] += 1


@kernel
def _left_of(ax, ay, bx, by, x, y):
    side = (bx - ax) * (y - ay) - (by - ay) * (x - ax)
    if side != 0:
        return side > 0
    return by < ay or (by == ay and bx > ax)


@kernel
def signed_areas(uv, corners, area):
    for t in range(len(corners)):
        a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
        ax, ay = np.float64(uv[a, 0]), np.float64(uv[a, 1])
        area[t] = 0.5 * ((uv[b, 0] - ax) * (uv[c, 1] - ay) - (uv[b, 1] - ay) * (uv[c, 0] - ax))
