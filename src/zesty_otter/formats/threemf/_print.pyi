from typing import Any

import numpy as np
from numpy.typing import NDArray

def put_elements(lines: NDArray[Any], words: NDArray[Any], word_start: NDArray[np.int64], out: NDArray[Any]) -> int: ...
