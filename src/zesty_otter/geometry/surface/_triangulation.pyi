from typing import Any

import numpy as np
from numpy.typing import NDArray

SHORTEST: int
BEST_ANGLE: int
FIXED: int
LINK_ROWS: int
def triangulate_faces(points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32], rule: int, first_face: int, stop_face: int, triangles: NDArray[np.int32], triangle_face: NDArray[np.int32], flat: NDArray[np.float64], links: NDArray[np.int64], cells: NDArray[np.int64], cost: NDArray[np.float64]) -> None: ...
def hard_to_fan(points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32], hard: NDArray[Any]) -> None: ...
