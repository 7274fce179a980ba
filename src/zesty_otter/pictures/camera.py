"""Where a picture is taken from."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache
from itertools import product

import numpy as np
from numpy.typing import NDArray

SIDES = {
    "front": (0.0, 0.0, 1.0),
    "back": (0.0, 0.0, -1.0),
    "left": (1.0, 0.0, 0.0),
    "right": (-1.0, 0.0, 0.0),
    "top": (0.0, 1.0, 0.0),
    "bottom": (0.0, -1.0, 0.0),
    "three-quarter": (0.62, 0.48, 0.78),
    "three-quarter-back": (-0.62, 0.48, -0.78),
}
"""From where each view looks, in the axes left, up and forward of what is looked at."""

_ENDS = tuple(product((-1, 1), repeat=3))  # of a box, from its middle


@dataclass(frozen=True, eq=False)
class Camera:
    """A place and a direction to look from, in metres and in the axes left, up, forward.

    ``axes`` (3, 3) are rows: to the right of the picture, up in it, and toward whoever looks. ``scale`` is pixels to
    a metre, at ``target`` when ``distance`` is finite.
    """

    axes: NDArray[np.float64]
    target: NDArray[np.float64]
    scale: float
    distance: float
    size: tuple[int, int]

    def seen(self, points: NDArray[np.float64]) -> NDArray[np.float32]:
        """(P, 4) where points are in the picture (x, y), their depth, and one over their distance."""
        own = (points - self.target) @ self.axes.T
        wide, high = self.size
        seen = np.empty((len(own), 4), np.float32)
        if not math.isfinite(self.distance):
            seen[:, 0], seen[:, 1] = wide / 2 + self.scale * own[:, 0], high / 2 - self.scale * own[:, 1]
            seen[:, 2], seen[:, 3] = -own[:, 2], 1.0
            return seen
        nearer = self.distance / np.maximum(self.distance - own[:, 2], 1e-6 * self.distance)
        seen[:, 0] = wide / 2 + self.scale * nearer * own[:, 0]
        seen[:, 1] = high / 2 - self.scale * nearer * own[:, 1]
        # One over the distance is affine in the picture; it grows toward us.
        seen[:, 2], seen[:, 3] = -nearer, nearer
        return seen


def framed(
    box: NDArray[np.float64], view: str, size: tuple[int, int], *, perspective: bool = True, margin: float = 0.12
) -> Camera:
    """A camera that has all of a box (2, 3) in its picture, looking from a named side."""
    axes = _axes(view)
    wide, high = size
    low, top = box.tolist()
    middle = [(one + other) / 2 for one, other in zip(low, top, strict=True)]
    half = [(other - one) / 2 for one, other in zip(low, top, strict=True)]
    reach = math.hypot(*half) or 1.0
    straight = view in ("front", "back", "left", "right", "top", "bottom") or not perspective
    distance = math.inf if straight else 3.2 * reach
    across, along = [], []
    (rx, ry, rz), (ux, uy, uz), (tx, ty, tz) = axes.tolist()
    for sx, sy, sz in _ENDS:
        x, y, z = sx * half[0], sy * half[1], sz * half[2]
        nearer = 1.0 if straight else distance / (distance - (tx * x + ty * y + tz * z))
        across.append(nearer * (rx * x + ry * y + rz * z))
        along.append(nearer * (ux * x + uy * y + uz * z))
    x0, x1, y0, y1 = min(across), max(across), min(along), max(along)
    least = 1e-3 * reach
    scale = min(wide / max(x1 - x0, least), high / max(y1 - y0, least)) * (1 - margin)
    target = np.array(middle) + (x0 + x1) / 2 * axes[0] + (y0 + y1) / 2 * axes[1]
    return Camera(axes, target, scale, distance, size)


@cache
def _axes(view: str) -> NDArray[np.float64]:
    """(3, 3) the axes of a camera that looks from a side."""
    toward = np.array(SIDES[view])
    toward /= np.linalg.norm(toward)
    helper = (
        np.array([0.0, 0.0, 1.0 if toward[1] < 0 else -1.0]) if abs(toward[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
    )
    right = np.cross(helper, toward)
    right /= np.linalg.norm(right)
    axes = np.stack([right, np.cross(toward, right), toward])
    axes.flags.writeable = False
    return axes
