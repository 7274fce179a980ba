from typing import Any

import numpy as np
from numpy.typing import NDArray

def hull(points: NDArray[np.float64], order: NDArray[np.int64], slack: float, faces: NDArray[np.int32], planes: NDArray[np.float64], owner: NDArray[np.int32], seen: NDArray[Any], rim: NDArray[np.int32], four: NDArray[np.int64]) -> int: ...
