from typing import Any

import numpy as np
from numpy.typing import NDArray

ROW_BYTES: int
def facets(points: NDArray[np.float64], corner_point: NDArray[np.int32], triangles: NDArray[np.int32], out: NDArray[Any]) -> None: ...
