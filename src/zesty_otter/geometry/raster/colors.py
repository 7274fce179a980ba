"""Between numbers that say how bright a colour looks on screen and amounts of light (IEC 61966-2-1, "sRGB")."""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
from numpy.typing import NDArray


def to_linear(values: NDArray[Any]) -> NDArray[np.float64]:
    """Numbers of the sRGB space, 0 to 1, as amounts of light."""
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


def to_srgb(values: NDArray[Any]) -> NDArray[np.float64]:
    """Amounts of light, 0 to 1, as numbers of the sRGB space."""
    light = np.clip(values, 0.0, 1.0)
    return np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)


def table_to_linear(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """As `to_linear`, for many numbers: those that bytes stand for are looked up."""
    byte = np.rint(np.clip(values, 0.0, 1.0) * np.float32(255.0)).astype(np.uint8)
    if np.array_equal(byte / np.float32(255.0), values):
        return _of_bytes()[byte]
    return to_linear(values).astype(np.float32)


@functools.cache
def _of_bytes() -> NDArray[np.float32]:
    return to_linear(np.arange(256) / 255.0).astype(np.float32)
