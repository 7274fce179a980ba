from typing import Any

import numpy as np
from numpy.typing import NDArray

AT: int
POINTS: int
FACES: int
SOLIDS: int
SHORT: int
BAD: int
ROW_BYTES: int
def scan(data: NDArray[Any], points: NDArray[np.float64], face_start: NDArray[np.int64], solids: NDArray[np.int64], state: NDArray[np.int64]) -> int: ...
def join_corners(corners: NDArray[np.uint32], facet: int, points: NDArray[np.uint32], count: int, table: NDArray[np.int32], corner_point: NDArray[np.int32], bad: NDArray[Any], near: NDArray[np.uint32], hashes: NDArray[np.uint64], near_table: NDArray[np.int32], number: NDArray[np.int32]) -> tuple[int, int]: ...
def facets(points: NDArray[np.float64], corner_point: NDArray[np.int32], triangles: NDArray[np.int32], out: NDArray[Any]) -> None: ...
