"""The colours of everything that is drawn: river greens and lamplight."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

PAPER, INK, FAINT = "#f4f1e8", "#22322d", "#7d8a83"
REED, RIVER, LAMP, PLUM, CLAY = "#5f8f6b", "#2f6d72", "#d98a2b", "#8a4b6e", "#b9b4a4"

# Of numbers below and above 0, told apart also by those who do not see red and green: dark to light to dark.
_SCALE = np.array([(18, 78, 88), (72, 140, 148), (170, 200, 196), (238, 234, 222), (240, 196, 120), (217, 138, 43),
                   (140, 66, 12)], float)  # fmt: skip


def rgb(color: str) -> tuple[int, int, int]:
    """The three bytes of ``#rrggbb``."""
    return int(color[1:3], 16), int(color[3:5], 16), int(color[5:7], 16)


def linear(color: str) -> NDArray[np.float32]:
    """(3,) a colour as numbers that light can be counted in, 0 to 1."""
    return (np.array(rgb(color)) / 255.0).astype(np.float32) ** 2.2


def diverging(value: NDArray[np.float64]) -> NDArray[np.float32]:
    """(N, 3) the colour of numbers from -1 (river) through 0 (paper) to 1 (lamplight), as bytes."""
    place = (np.clip(np.nan_to_num(value), -1, 1) + 1) / 2 * (len(_SCALE) - 1)
    low = np.minimum(place.astype(int), len(_SCALE) - 2)
    share = (place - low)[..., None]
    return np.asarray(_SCALE[low] * (1 - share) + _SCALE[low + 1] * share, np.float32)
