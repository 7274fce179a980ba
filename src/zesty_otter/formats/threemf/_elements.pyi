from typing import Any

import numpy as np
from numpy.typing import NDArray

def count_elements(data: NDArray[Any], at: int, stop: int) -> int: ...
def read_attributes(data: NDArray[Any], at: int, stop: int, names: NDArray[Any], name_start: NDArray[np.int64], out: NDArray[np.float64]) -> None: ...
