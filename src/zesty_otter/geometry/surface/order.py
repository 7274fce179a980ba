"""Things that are near each other in space, near each other in memory."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import _corners as kernels


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
    keys = np.empty(len(points), np.uint64)
    kernels.curve_keys(points, keys)
    order = np.arange(len(points))
    kernels.sort_by(keys, order, np.empty_like(keys), np.empty_like(order))
    return order
