from typing import Any

import numpy as np
from numpy.typing import NDArray

def curve_keys(points: NDArray[np.float64], keys: NDArray[np.uint64]) -> None: ...
