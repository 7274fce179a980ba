"""Directions as rotations."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Direction = tuple[float, float, float]


def aim(direction: Direction, up: Direction | None = None) -> NDArray[np.float64] | None:
    """The rotation that turns -Z to a direction and +Y towards ``up``, as lights and cameras of most formats want it.

    Parameters
    ----------
    direction : three numbers
        Not all zero.
    up : three numbers, optional
        Any that is not along ``direction``; some that suits when absent.

    Returns
    -------
    (4, 4) float64, or None when nothing has to be turned.
    """
    back = -np.array(direction) / np.linalg.norm(direction)
    if up is None:
        up = (0.0, 1.0, 0.0) if abs(back[1]) < 0.9 else (0.0, 0.0, 1.0)
    right = np.cross(up, back)
    right /= np.linalg.norm(right)
    matrix = np.eye(4)
    matrix[:3, :3] = np.stack([right, np.cross(back, right), back], axis=1)
    return None if np.allclose(matrix, np.eye(4), atol=1e-7) else matrix


def about_axis(axis: NDArray[np.float64], angle: float) -> NDArray[np.float64]:
    """(3, 3) rotation by an angle in radians about an axis (O. Rodrigues, 1840)."""
    length = float(np.linalg.norm(axis)) if angle else 0.0
    if length == 0.0:
        return np.eye(3)
    x, y, z = axis / length
    cross = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    # A quarter turn is exact.
    sine, cosine = (round(v) if abs(v - round(v)) < 1e-15 else v for v in (math.sin(angle), math.cos(angle)))
    return np.asarray(np.eye(3) + sine * cross + (1 - cosine) * (cross @ cross))
