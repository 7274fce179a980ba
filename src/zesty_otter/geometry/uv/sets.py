"""What is wrong with a UV set."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.uv import _sets as kernels

_PIXELS = 2048


@dataclass(frozen=True)
class UvFacts:
    """What a UV set is like; counts are of triangles.

    ``covered`` is the area that triangles cover and ``overlap`` the part of it covered more than once,
    both in units of the image, measured on a grid of 2048 cells along the longer side of the UVs.
    """

    triangles: int
    missing: int
    zero_area: int
    mirrored: int
    outside: int
    covered: float
    overlap: float


def uv_facts(triangles: NDArray[np.int32], values: NDArray[np.float32], index: NDArray[np.int32]) -> UvFacts:
    """Count missing, flat, mirrored and outlying triangles of a UV set and measure its overlap.

    Parameters
    ----------
    triangles : (T, 3) int32
        Corner numbers.
    values : (K, 2) float32
    index : (C,) int32
        The row of each corner, -1 where it has none.

    Returns
    -------
    UvFacts

    Examples
    --------
    >>> import numpy as np
    >>> square = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float32)
    >>> corners = np.array([(0, 1, 2), (3, 5, 4)], np.int32)
    >>> uv_facts(corners, square, np.array([0, 1, 2, 0, 2, 3], np.int32)).mirrored
    1
    """
    rows = index[triangles]
    whole = (rows >= 0).all(axis=1)
    rows = np.ascontiguousarray(rows[whole])
    missing = len(triangles) - len(rows)
    if not len(rows):
        return UvFacts(len(triangles), missing, 0, 0, 0, 0.0, 0.0)
    area = np.empty(len(rows))
    kernels.signed_areas(values, rows, area)
    used = values[rows]
    span = np.abs(used - np.roll(used, 1, axis=1)).max(axis=(1, 2)).astype(float)
    flat = np.abs(area) <= 1e-12 + 1e-7 * span**2
    outside = ((used < -1e-6) | (used > 1 + 1e-6)).any(axis=(1, 2))
    covered, overlap = _coverage(values, rows)
    return UvFacts(
        len(triangles),
        missing,
        int(flat.sum()),
        int((area[~flat] < 0).sum()),
        int(outside.sum()),
        covered,
        overlap,
    )


def _coverage(values: NDArray[np.float32], rows: NDArray[np.int32]) -> tuple[float, float]:
    """The area covered once or more and twice or more."""
    used = values[np.unique(rows)].astype(float)
    low, high = used.min(axis=0), used.max(axis=0)
    side = float((high - low).max())
    if side <= 0:
        return 0.0, 0.0
    scale = _PIXELS * kernels.FINE / side
    grid = np.rint((values - low) * scale).astype(np.int64)
    counts = np.zeros((_PIXELS, _PIXELS), np.uint8)
    kernels.cover(grid, rows, counts)
    cell = (side / _PIXELS) ** 2
    return float((counts > 0).sum() * cell), float((counts > 1).sum() * cell)
