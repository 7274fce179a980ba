"""Where a picture is taken from."""

from __future__ import annotations

from dataclasses import dataclass

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
        if not np.isfinite(self.distance):
            x, y = wide / 2 + self.scale * own[:, 0], high / 2 - self.scale * own[:, 1]
            return np.stack([x, y, -own[:, 2], np.ones(len(own))], axis=1).astype(np.float32)
        away = np.maximum(self.distance - own[:, 2], 1e-6 * self.distance)
        nearer = self.distance / away
        x, y = wide / 2 + self.scale * nearer * own[:, 0], high / 2 - self.scale * nearer * own[:, 1]
        # One over the distance is affine in the picture; it grows toward us.
        return np.stack([x, y, -nearer, nearer], axis=1).astype(np.float32)


def framed(
    box: NDArray[np.float64], view: str, size: tuple[int, int], *, perspective: bool = True, margin: float = 0.12
) -> Camera:
    """A camera that has all of a box (2, 3) in its picture, looking from a named side."""
    toward = np.array(SIDES[view])
    toward /= np.linalg.norm(toward)
    helper = (
        np.array([0.0, 0.0, 1.0 if toward[1] < 0 else -1.0]) if abs(toward[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
    )
    right = np.cross(helper, toward)
    right /= np.linalg.norm(right)
    axes = np.stack([right, np.cross(toward, right), toward])
    middle = box.mean(axis=0)
    ends = np.stack(np.meshgrid(*box.T, indexing="ij"), axis=-1).reshape(-1, 3)
    own = (ends - middle) @ axes.T
    reach = float(np.linalg.norm(box[1] - box[0])) / 2 or 1.0
    straight = view in ("front", "back", "left", "right", "top", "bottom") or not perspective
    distance = np.inf if straight else 3.2 * reach
    nearer = 1.0 if straight else distance / (distance - own[:, 2])
    wide, high = size
    flat = own[:, :2] * np.asarray(nearer)[..., None]
    low, up = flat.min(axis=0), flat.max(axis=0)
    span = np.maximum(up - low, 1e-3 * reach)
    scale = float(min(wide / span[0], high / span[1])) * (1 - margin)
    shift = (low + up) / 2
    return Camera(axes, middle + shift[0] * axes[0] + shift[1] * axes[1], scale, distance, size)
