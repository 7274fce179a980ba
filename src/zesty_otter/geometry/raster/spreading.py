"""What is filled of a picture, spread over what is not."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.raster import _pixels as kernels


def nearest_filled(filled: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Of every pixel the nearest that is filled.

    Parameters
    ----------
    filled : (H, W) bool

    Returns
    -------
    (H, W) int64
        Line times width and column; -1 where none is filled.

    Examples
    --------
    >>> import numpy as np
    >>> nearest_filled(np.array([(True, False, False, False, True), (False, False, True, False, False)])).tolist()
    [[0, 0, 7, 4, 4], [0, 7, 7, 7, 4]]
    """
    high, wide = filled.shape
    found = np.empty((high, wide), np.int64)
    room = np.empty((high, wide), np.int32), np.empty(wide, np.int32), np.empty(wide, np.int32)
    kernels.nearest_filled(np.ascontiguousarray(filled).view(np.uint8), *room, found)
    return found
