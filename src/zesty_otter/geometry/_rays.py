"""Rays through a tree of boxes, followed by compiled code."""

import numpy as np

from zesty_otter._compile import kernel
from zesty_otter.geometry._distance import LEAF, enters, hit


@kernel
def surrounded(places, directions, spared, corners, boxes, leaves, stack, found):
    """Whether rays from each place leave more backs than they enter fronts: all of them but ``spared``."""
    for i in range(len(places)):
        x, y, z = places[i, 0], places[i, 1], places[i, 2]
        open_rays = 0
        for ray in range(len(directions)):
            dx, dy, dz = directions[ray, 0], directions[ray, 1], directions[ray, 2]
            count = 0
            stack[0] = 1
            size = 1
            while size > 0:
                size -= 1
                n = stack[size]
                if not enters(boxes, n, x, y, z, dx, dy, dz, np.inf):
                    continue
                if n >= leaves:
                    for k in range(LEAF * (n - leaves), min(LEAF * (n - leaves) + LEAF, len(corners))):
                        far, side = hit(corners, k, x, y, z, dx, dy, dz)
                        if 0.0 < far < np.inf:
                            count += side
                else:
                    stack[size], stack[size + 1] = 2 * n, 2 * n + 1
                    size += 2
            open_rays += count <= 0
            if open_rays > spared:
                break
        found[i] = open_rays <= spared


@kernel
def first_hits(places, directions, corners, boxes, leaves, stack, least, reach, found, triangle):
    """How far each ray goes, from ``least`` on, before it meets a triangle from either side, and which."""
    for i in range(len(places)):
        x, y, z = places[i, 0], places[i, 1], places[i, 2]
        dx, dy, dz = directions[i, 0], directions[i, 1], directions[i, 2]
        best, which = reach, -1
        stack[0] = 1
        size = 1
        while size > 0:
            size -= 1
            n = stack[size]
            if not enters(boxes, n, x, y, z, dx, dy, dz, best):
                continue
            if n >= leaves:
                for k in range(LEAF * (n - leaves), min(LEAF * (n - leaves) + LEAF, len(corners))):
                    far, _ = hit(corners, k, x, y, z, dx, dy, dz)
                    if least < far < best:
                        best, which = far, k
            else:
                stack[size], stack[size + 1] = 2 * n, 2 * n + 1
                size += 2
        found[i], triangle[i] = best if which >= 0 else np.inf, which
