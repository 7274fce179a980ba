from typing import Any

import numpy as np
from numpy.typing import NDArray

def nearest_filled(filled: NDArray[Any], row: NDArray[np.int32], column: NDArray[np.int32], until: NDArray[np.int32], found: NDArray[np.int64]) -> None: ...
