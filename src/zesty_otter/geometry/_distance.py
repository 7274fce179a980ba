"""Nearest triangles, found in a tree of boxes by compiled code."""

import math

import numpy as np

from zesty_otter._compile import kernel

LEAF = 4  # triangles in a leaf


@kernel
def fill_boxes(corners, boxes, leaves):
    """Boxes of a complete binary tree: node 1 is the root, 2 n and 2 n + 1 are below n, leaf k is leaves + k."""
    for k in range(leaves):
        for j in range(3):
            boxes[leaves + k, j], boxes[leaves + k, 3 + j] = np.inf, -np.inf
        for t in range(LEAF * k, min(LEAF * k + LEAF, len(corners))):
            for c in range(9):
                j = c % 3
                boxes[leaves + k, j] = min(boxes[leaves + k, j], corners[t, c])
                boxes[leaves + k, 3 + j] = max(boxes[leaves + k, 3 + j], corners[t, c])
    for n in range(leaves - 1, 0, -1):
        for j in range(3):
            boxes[n, j] = min(boxes[2 * n, j], boxes[2 * n + 1, j])
            boxes[n, 3 + j] = max(boxes[2 * n, 3 + j], boxes[2 * n + 1, 3 + j])


@kernel
def _to_box(boxes, n, x, y, z):
    """Squared distance of a position to a box; infinite for one that holds nothing."""
    dx = max(boxes[n, 0] - x, 0.0, x - boxes[n, 3])
    dy = max(boxes[n, 1] - y, 0.0, y - boxes[n, 4])
    dz = max(boxes[n, 2] - z, 0.0, z - boxes[n, 5])
    return dx * dx + dy * dy + dz * dz


@kernel
def nearest_in_triangle(ax, ay, az, bx, by, bz, cx, cy, cz, x, y, z):
    """Squared distance of a position to a triangle, and the shares of b and c in the nearest place of it.

    C. Ericson (2005), "Real-time collision detection", section 5.1.5.
    """
    abx, aby, abz = bx - ax, by - ay, bz - az
    acx, acy, acz = cx - ax, cy - ay, cz - az
    from_a_x, from_a_y, from_a_z = x - ax, y - ay, z - az
    d1, d2 = abx * from_a_x + aby * from_a_y + abz * from_a_z, acx * from_a_x + acy * from_a_y + acz * from_a_z
    from_b_x, from_b_y, from_b_z = from_a_x - abx, from_a_y - aby, from_a_z - abz
    d3, d4 = abx * from_b_x + aby * from_b_y + abz * from_b_z, acx * from_b_x + acy * from_b_y + acz * from_b_z
    from_c_x, from_c_y, from_c_z = from_a_x - acx, from_a_y - acy, from_a_z - acz
    d5, d6 = abx * from_c_x + aby * from_c_y + abz * from_c_z, acx * from_c_x + acy * from_c_y + acz * from_c_z
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    if d1 <= 0 and d2 <= 0:
        s, t = 0.0, 0.0
    elif d3 >= 0 and d4 <= d3:
        s, t = 1.0, 0.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0 and d1 > d3:
        s, t = d1 / (d1 - d3), 0.0
    elif d6 >= 0 and d5 <= d6:
        s, t = 0.0, 1.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0 and d2 > d6:
        s, t = 0.0, d2 / (d2 - d6)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        t = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        s = 1.0 - t
    else:
        s, t = vb / (va + vb + vc), vc / (va + vb + vc)
    ex, ey, ez = from_a_x - s * abx - t * acx, from_a_y - s * aby - t * acy, from_a_z - s * abz - t * acz
    return ex * ex + ey * ey + ez * ez, s, t


@kernel
def _to_triangle(corners, t, x, y, z):
    return nearest_in_triangle(
        corners[t, 0], corners[t, 1], corners[t, 2], corners[t, 3], corners[t, 4], corners[t, 5],
        corners[t, 6], corners[t, 7], corners[t, 8], x, y, z,
    )  # fmt: skip


@kernel
def _faces(corners, t, x, y, z):
    """Whether a triangle faces a direction."""
    ax, ay, az = corners[t, 3] - corners[t, 0], corners[t, 4] - corners[t, 1], corners[t, 5] - corners[t, 2]
    bx, by, bz = corners[t, 6] - corners[t, 0], corners[t, 7] - corners[t, 1], corners[t, 8] - corners[t, 2]
    return (ay * bz - az * by) * x + (az * bx - ax * bz) * y + (ax * by - ay * bx) * z > 0.0


@kernel
def nearest(samples, facing, corners, boxes, leaves, stack, distance, triangle, shares):
    """The nearest triangle of each sample; samples near each other should follow each other.

    Where there are directions to be faced, other triangles do not count; the triangle is -1 when none does.
    """
    guess = 0
    for i in range(len(samples)):
        x, y, z = samples[i, 0], samples[i, 1], samples[i, 2]
        # What was nearest to the sample before is not far now.
        best, s, t = _to_triangle(corners, guess, x, y, z)
        if len(facing) and not _faces(corners, guess, facing[i, 0], facing[i, 1], facing[i, 2]):
            best, triangle[i] = np.inf, -1
        else:
            triangle[i] = guess
        stack[0] = 1
        size = 1
        while size > 0:
            size -= 1
            n = stack[size]
            if _to_box(boxes, n, x, y, z) >= best:
                continue
            if n >= leaves:
                for k in range(LEAF * (n - leaves), min(LEAF * (n - leaves) + LEAF, len(corners))):
                    d, own_s, own_t = _to_triangle(corners, k, x, y, z)
                    if d < best and (len(facing) == 0 or _faces(corners, k, facing[i, 0], facing[i, 1], facing[i, 2])):
                        best, guess, s, t = d, k, own_s, own_t
                        triangle[i] = k
                continue
            left, right = _to_box(boxes, 2 * n, x, y, z), _to_box(boxes, 2 * n + 1, x, y, z)
            near, far = (2 * n, 2 * n + 1) if left <= right else (2 * n + 1, 2 * n)
            if max(left, right) < best:
                stack[size] = far
                size += 1
            if min(left, right) < best:
                stack[size] = near
                size += 1
        distance[i] = math.sqrt(best)
        shares[i, 0], shares[i, 1] = s, t
