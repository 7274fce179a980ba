from typing import Any

import numpy as np
from numpy.typing import NDArray

FINE: int
def cover(grid: NDArray[np.int64], corners: NDArray[np.int32], counts: NDArray[Any]) -> None: ...
def signed_areas(uv: NDArray[np.float32], corners: NDArray[np.int32], area: NDArray[np.float64]) -> None: ...
