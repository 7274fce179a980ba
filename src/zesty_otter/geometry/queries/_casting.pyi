from typing import Any

import numpy as np
from numpy.typing import NDArray

def cast(places: NDArray[np.float64], ways: NDArray[np.float64], reach: float, corners: NDArray[np.float64], boxes: NDArray[np.float64], leaves: int, found: NDArray[np.float64], triangle: NDArray[np.int64], shares: NDArray[np.float64]) -> None: ...
def find_open(places: NDArray[np.float64], normals: NDArray[np.float64], rays: NDArray[np.float64], least: float, reach: float, corners: NDArray[np.float64], boxes: NDArray[np.float64], leaves: int, number: NDArray[np.int64], share: NDArray[np.float32]) -> None: ...
