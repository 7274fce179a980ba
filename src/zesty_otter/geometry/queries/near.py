"""Which places are near which: of few without a tree, which takes longer to load than all else does with them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

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


def nearest_away(places: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """(P,) how far each place is from the nearest of others.

    Parameters
    ----------
    places : (P, 3) float64
    others : (N, 3) float64
        At least one.
    """
    if max(len(places), len(others)) > _FEW:
        from scipy.spatial import cKDTree

        return np.asarray(cKDTree(others).query(places)[0])
    return np.asarray(np.sqrt(_squares(places, others).min(axis=1)))


def _squares(places: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """(P, N) the squares of distances."""
    return np.asarray(((places[:, None] - others[None]) ** 2).sum(axis=2))
