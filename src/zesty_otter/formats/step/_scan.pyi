from typing import Any

import numpy as np
from numpy.typing import NDArray

def scan(text: NDArray[Any], at: int, number: NDArray[np.int64], first: NDArray[np.int64], kind: NDArray[Any], start: NDArray[np.int64], size: NDArray[np.int32], value: NDArray[np.int64], counts: NDArray[np.int64]) -> int: ...
def count(text: NDArray[Any], at: int, counts: NDArray[np.int64]) -> None: ...
