from typing import Any

import numpy as np
from numpy.typing import NDArray

def narrow_turns(points: NDArray[np.float64], start: NDArray[np.int64], hull: NDArray[np.int64], turn: NDArray[np.float64]) -> None: ...
def place_charts(corners: NDArray[np.float64], start: NDArray[np.int64], size: NDArray[np.int32], order: NDArray[np.int64], gap: int, margin: int, quarters: int, most_pages: int, mask: NDArray[Any], room: NDArray[Any], until: NDArray[np.int32], runs: NDArray[np.int32], pages: NDArray[np.uint64], free: NDArray[np.int32], full: NDArray[np.int32], place: NDArray[np.int32]) -> int: ...
