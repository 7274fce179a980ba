from typing import Any

import numpy as np
from numpy.typing import NDArray

def part(points: NDArray[np.float64], height: NDArray[np.float64], edges: NDArray[np.int32], slack: float, front: NDArray[np.float64], back: NDArray[np.float64]) -> tuple[int, int]: ...
def cut(points: NDArray[np.float64], count: int, triangles: NDArray[np.int32], edges: NDArray[np.int32], edge_of: NDArray[np.int32], height: NDArray[np.float64], ahead: NDArray[Any], crossing: NDArray[np.int32], number: NDArray[np.int32], front: NDArray[np.int32], front_of: NDArray[np.int32], front_points: NDArray[np.float64], back: NDArray[np.int32], back_of: NDArray[np.int32], back_points: NDArray[np.float64]) -> tuple[int, int, int, int]: ...
