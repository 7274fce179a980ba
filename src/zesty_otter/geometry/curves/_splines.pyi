from typing import Any

import numpy as np
from numpy.typing import NDArray

def surface_at(first: NDArray[np.int64], value_u: NDArray[np.float64], slope_u: NDArray[np.float64], value_v: NDArray[np.float64], slope_v: NDArray[np.float64], control: NDArray[np.float64], place: NDArray[np.float64], du: NDArray[np.float64], dv: NDArray[np.float64]) -> None: ...
