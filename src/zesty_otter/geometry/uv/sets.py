"""What is wrong with a UV set."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.uv import _flatten as flat_kernels
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


def uv_facts(
    triangles: NDArray[np.int32], values: NDArray[np.float32], index: NDArray[np.int32], *, coverage: bool = True
) -> UvFacts:
    """Count missing, flat, mirrored and outlying triangles of a UV set and measure its overlap.

    Parameters
    ----------
    triangles : (T, 3) int32
        Corner numbers.
    values : (K, 2) float32
    index : (C,) int32
        The row of each corner, -1 where it has none.
    coverage : bool
        Whether what is covered is measured, which takes by far the longest; else it is 0.

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
    covered, overlap = _coverage(values, rows) if coverage else (0.0, 0.0)
    return UvFacts(
        len(triangles),
        missing,
        int(flat.sum()),
        int((area[~flat] < 0).sum()),
        int(outside.sum()),
        covered,
        overlap,
    )


def uv_stretch(
    points: NDArray[np.float64],
    corner_point: NDArray[np.int32],
    triangles: NDArray[np.int32],
    uv: NDArray[np.float32],
) -> NDArray[np.float64]:
    """(T,) how much UVs stretch lengths, by root mean square, where 1 is the density of all; infinite where flipped.

    Parameters
    ----------
    points : (P, 3) float64
    corner_point : (C,) int32
    triangles : (T, 3) int32
        Corner numbers.
    uv : (C, 2) float32

    References
    ----------
    P. V. Sander, J. Snyder, S. J. Gortler and H. Hoppe (2001), Texture mapping progressive meshes.
    """
    place = np.ascontiguousarray(corner_point[triangles])
    rest = np.empty((len(triangles), 3))
    size = float(np.ptp(points, axis=0).max(initial=0.0)) or 1.0
    flat_kernels.rest_shapes(points / size, place, 1e-9, rest)
    stretch, area = np.empty(len(rest)), np.empty(len(rest))
    flat_kernels.measure(
        np.ascontiguousarray(triangles, np.int32), rest, np.ascontiguousarray(uv, np.float64), stretch, area
    )
    own = rest[:, 0] * rest[:, 2] / 2
    good = np.isfinite(stretch) & (area > 0)
    density = float(area[good].sum() / max(own[good].sum(), 1e-300))
    return np.where(good, np.sqrt(np.where(good, stretch, 0.0) * density), np.inf)


def _coverage(values: NDArray[np.float32], rows: NDArray[np.int32]) -> tuple[float, float]:
    """The area covered once or more and twice or more."""
    used = values[np.unique(rows)].astype(float)
    low, high = used.min(axis=0), used.max(axis=0)
    side = float((high - low).max())
    if side <= 0:
        return 0.0, 0.0
    scale = _PIXELS * kernels.FINE / side
    grid = np.rint((values - low) * scale).astype(np.int64)
    order, begin, found = np.empty(len(rows), np.int32), np.zeros(_PIXELS + 1, np.int64), np.zeros(2, np.int64)
    most = kernels.lines_of(grid, rows, _PIXELS, order, begin, np.zeros(_PIXELS + 1, np.int64))
    active, change = np.empty((most, 12), np.int64), np.zeros(_PIXELS + 1, np.int32)
    kernels.coverage(grid, rows, _PIXELS, order, begin, active, change, found)
    once, twice = (found * (side / _PIXELS) ** 2).tolist()
    return once, twice
