from typing import Any

import numpy as np
from numpy.typing import NDArray

def curve_keys(points: NDArray[np.float64], keys: NDArray[np.uint64]) -> None: ...
def sort_by(keys: NDArray[np.uint64], order: NDArray[np.int64], other_keys: NDArray[np.uint64], other_order: NDArray[np.int64]) -> None: ...
