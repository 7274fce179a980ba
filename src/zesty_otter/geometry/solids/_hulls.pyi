from typing import Any

import numpy as np
from numpy.typing import NDArray

def hull(points: NDArray[np.float64], slack: float, trust: float, shared: bool, faces: NDArray[np.int32], planes: NDArray[np.float64], links: NDArray[np.int32], height: NDArray[np.float64], chain: NDArray[np.int32], rim: NDArray[np.int32]) -> tuple[int, float, float]: ...
def above(places: NDArray[np.float64], planes: NDArray[np.float64], highest: NDArray[np.float64]) -> None: ...
