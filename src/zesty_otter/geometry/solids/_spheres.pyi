from typing import Any

import numpy as np
from numpy.typing import NDArray

def smallest_sphere(points: NDArray[np.float64], size: float, centre: NDArray[np.float64]) -> None: ...
