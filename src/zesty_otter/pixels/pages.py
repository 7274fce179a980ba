"""Images as numbers, looked up at any place, and drawn into pages."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.pixels.images import planes_resized, rgba

Floats = NDArray[np.float32]


@dataclass(frozen=True, eq=False)
class Look:
    """An image as (H, W, n) numbers, and whether its edge goes on beyond it instead of the image again."""

    values: Floats
    clamp: bool = False

    def at(self, uv: NDArray[np.float64]) -> Floats:
        """(N, n) what stands at places (N, 2), mixed of the four pixels around each; UVs start at the lower left.

        Parameters
        ----------
        uv : (N, 2) float64

        Returns
        -------
        (N, n) float32

        Examples
        --------
        >>> import numpy as np
        >>> look = Look(np.array([[[0.0], [1.0]]], np.float32))
        >>> look.at(np.array([(0.25, 0.5), (0.5, 0.5), (1.75, 0.5)])).ravel().tolist()
        [0.0, 0.5, 1.0]
        """
        high, wide = self.values.shape[:2]
        x, y = uv[:, 0] * wide - 0.5, (1.0 - uv[:, 1]) * high - 0.5
        left, top = np.floor(x), np.floor(y)
        right_share, low_share = (x - left).astype(np.float32)[:, None], (y - top).astype(np.float32)[:, None]
        columns, rows = (self._within(edge, size) for edge, size in ((left, wide), (top, high)))
        after, below = (self._within(edge + 1, size) for edge, size in ((left, wide), (top, high)))
        upper = self.values[rows, columns] * (1 - right_share) + self.values[rows, after] * right_share
        lower = self.values[below, columns] * (1 - right_share) + self.values[below, after] * right_share
        return np.asarray(upper * (1 - low_share) + lower * low_share, np.float32)

    def _within(self, number: NDArray[np.float64], size: int) -> NDArray[np.int64]:
        whole = np.clip(number, -1e9, 1e9).astype(np.int64)
        return np.clip(whole, 0, size - 1) if self.clamp else whole % size

    def shrunk(self, share: float) -> Look:
        """The image in fewer pixels, mixed as numbers are, for drawing it smaller.

        Parameters
        ----------
        share : float
            Of its pixels along a side; above 1 it stays.

        Returns
        -------
        Look

        Examples
        --------
        >>> import numpy as np
        >>> Look(np.ones((4, 8, 1), np.float32)).shrunk(0.5).values.shape
        (2, 4, 1)
        """
        high, wide = self.values.shape[:2]
        size = max(round(wide * share), 1), max(round(high * share), 1)
        return self if share >= 0.99 else Look(planes_resized(self.values, size), self.clamp)


def numbers_of(data: bytes, *, linear: bool) -> Floats:
    """(H, W, 4) the pixels of an image from 0 to 1; colours as light when ``linear``.

    Parameters
    ----------
    data : bytes
        An image file.
    linear : bool

    Returns
    -------
    (H, W, 4) float32

    Raises
    ------
    ImageError
        When it cannot be opened.

    Examples
    --------
    >>> import numpy as np
    >>> from zesty_otter.pixels import png_of
    >>> numbers_of(png_of(np.full((1, 1, 4), 255, np.uint8)), linear=True).tolist()
    [[[1.0, 1.0, 1.0, 1.0]]]
    """
    values = rgba(data).astype(np.float32) / np.float32(255)
    if linear:
        color = values[..., :3]
        values[..., :3] = np.where(color <= 0.04045, color / 12.92, ((color + 0.055) / 1.055) ** 2.4)
    return values


def bytes_of(values: Floats, *, linear: bool) -> NDArray[np.uint8]:
    """(H, W, n) numbers from 0 to 1 as bytes; the first three from light to what is shown when ``linear``.

    Parameters
    ----------
    values : (H, W, n) float32
    linear : bool

    Returns
    -------
    (H, W, n) uint8

    Examples
    --------
    >>> import numpy as np
    >>> bytes_of(np.full((1, 1, 3), 0.2159, np.float32), linear=True).tolist()
    [[[128, 128, 128]]]
    """
    values = np.clip(values, 0.0, 1.0)
    if linear:
        color = values[..., :3]
        shown = np.where(color <= 0.0031308, color * 12.92, 1.055 * color ** (1 / 2.4) - 0.055)
        values = np.concatenate([shown, values[..., 3:]], axis=-1)
    return np.asarray(np.rint(values * 255), np.uint8)
