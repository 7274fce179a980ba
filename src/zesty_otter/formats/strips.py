"""Strips and fans of triangles, taken apart."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def triangles_of_strips(breaks: NDArray[np.bool_], *, fans: bool = False) -> NDArray[np.int64]:
    """The triangles of strips, or fans, that stand one after the other with a break between them.

    Parameters
    ----------
    breaks : (N,) bool
        Which entries are no corners but end a strip.
    fans : bool
        Whether every triangle of a run shares its first corner.

    Returns
    -------
    (T, 3) int64
        Numbers of entries. Every other triangle of a strip is turned round, so that all face one way.
    """
    at = np.arange(len(breaks))
    first = np.maximum.accumulate(np.where(breaks, at + 1, 0))[:-2] if len(at) > 2 else at[:0]
    whole = ~(breaks[:-2] | breaks[1:-1] | breaks[2:]) if len(at) > 2 else breaks[:0]
    at = at[: len(first)]
    if fans:
        found = np.stack([first, at + 1, at + 2], axis=1)
    else:
        odd = (at - first) % 2
        found = np.stack([at + odd, at + 1 - odd, at + 2], axis=1)
    return found[whole]
