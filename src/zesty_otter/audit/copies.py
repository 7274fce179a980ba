"""Copies of scatters compared."""

from __future__ import annotations

from itertools import product

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Scatter

_FLOAT = float(np.finfo(np.float32).eps)
_PIECE = 50_000


def copies_apart(
    one: Scatter, world: NDArray[np.float64], other: Scatter, other_world: NDArray[np.float64]
) -> tuple[float, float]:
    """How far the copies of two scatters are apart at most, in order, and what 32-bit numbers round off of that.

    Measured at the corners of the box of the first one's mesh; both have as many copies.
    """
    box = one.mesh.surface_bounds if one.mesh.face_count else np.zeros((2, 3))
    corners = np.array([(*corner, 1.0) for corner in product(*box.T)])
    off = reach = 0.0
    for start in range(0, one.count, _PIECE):
        part = slice(start, start + _PIECE)
        away = (world @ one.transforms[part] - other_world @ other.transforms[part]) @ corners.T
        off = max(off, float(np.linalg.norm(away[:, :3], axis=1).max()))
        reach = max(reach, float(np.abs(one.transforms[part, :3, :3]).max()))
    size = float(np.abs(corners[:, :3]).max()) * reach * float(np.abs(world[:3, :3]).max())
    return off, 16 * _FLOAT * size
