"""Things that are near each other in space, near each other in memory."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def along_curve(points: NDArray[np.float64]) -> NDArray[np.int64]:
    """The order of points along a curve that fills space (G. M. Morton, 1966).

    Parameters
    ----------
    points : (P, 3) float64

    Returns
    -------
    (P,) int64
    """
    if not len(points):
        return np.zeros(0, np.int64)
    low, size = points.min(axis=0), float(np.ptp(points, axis=0).max()) or 1.0
    cells = ((points - low) * (0x1FFFFF / size)).astype(np.uint64)
    key = np.zeros(len(points), np.uint64)
    for k in range(3):
        key |= _spread(cells[:, k]) << np.uint64(k)
    return np.argsort(key, kind="stable")


def _spread(values: NDArray[Any]) -> NDArray[np.uint64]:
    """21 bits with two empty ones between each."""
    for shift, mask in (
        (32, 0x1F00000000FFFF), (16, 0x1F0000FF0000FF), (8, 0x100F00F00F00F00F),
        (4, 0x10C30C30C30C30C3), (2, 0x1249249249249249),
    ):  # fmt: skip
        values = (values | values << np.uint64(shift)) & np.uint64(mask)
    return values
