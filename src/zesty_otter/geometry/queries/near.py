"""Which places are near which: few are compared each with each, which needs no tree."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface

_FEW = 300


def pairs_within(places: NDArray[np.float64], apart: float) -> NDArray[Any]:
    """(N, 2) the pairs of places that lie no farther apart than that.

    Parameters
    ----------
    places : (P, 3) float64
    apart : float
    """
    if len(places) > _FEW:
        from scipy.spatial import cKDTree

        return np.asarray(cKDTree(places).query_pairs(apart, output_type="ndarray"))
    return np.argwhere(np.triu(_squares(places, places) <= apart**2, 1))


def nearest(places: NDArray[np.float64], others: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """How far each place is from the nearest of others, and which that is.

    Parameters
    ----------
    places : (P, 3) float64
    others : (N, 3) float64
        At least one.

    Returns
    -------
    away : (P,) float64
    other : (P,) int64

    Examples
    --------
    >>> import numpy as np
    >>> away, other = nearest(np.array([(0.0, 0, 0), (4, 0, 0)]), np.array([(9.0, 0, 0), (1, 0, 0), (4, 0, 0)]))
    >>> away.tolist(), other.tolist()
    ([1.0, 0.0], [1, 2])
    """
    if max(len(places), len(others)) > _FEW:
        return tree_of(others).nearest(np.ascontiguousarray(places))[:2]
    squares = _squares(places, others)
    found = squares.argmin(axis=1)
    return np.sqrt(np.take_along_axis(squares, found[:, None], axis=1)[:, 0]), found


def tree_of(places: NDArray[np.float64]) -> Surface:
    """A surface of triangles that are no larger than places (N, 3), to ask again and again which is nearest."""
    return Surface(places, np.repeat(np.arange(len(places), dtype=np.int32), 3).reshape(-1, 3))


def _squares(places: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """(P, N) the squares of distances."""
    return np.asarray(((places[:, None] - others[None]) ** 2).sum(axis=2))
