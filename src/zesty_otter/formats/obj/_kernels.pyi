from typing import Any

import numpy as np
from numpy.typing import NDArray

AT: int
LINE: int
POINTS: int
UVS: int
NORMALS: int
FACES: int
CORNERS: int
RUNS: int
NAMES: int
OBJECTS: int
OBJECT: int
GROUP: int
MATERIAL: int
SMOOTHING: int
SHORT_FACES: int
SHORT_FACE_LINE: int
BAD_NUMBERS: int
BAD_NUMBER_LINE: int
BAD_CORNERS: int
BAD_CORNER_LINE: int
DEPTHS: int
HAS_UV: int
HAS_NORMAL: int
STATE_SIZE: int
DONE: int
PAUSED: int
FULL_POINTS: int
FULL_UVS: int
FULL_NORMALS: int
FULL_FACES: int
FULL_CORNERS: int
FULL_RUNS: int
FULL_NAMES: int
WANT_COLORS: int
KIND_OBJECT: int
KIND_GROUP: int
KIND_MATERIAL: int
KIND_LIBRARY: int
KIND_OTHER: int
KIND_SMOOTHING: int
INVALID: int
def rehash(data: NDArray[Any], names: NDArray[np.int64], count: int, table: NDArray[np.int32]) -> None: ...
def scan(data: NDArray[Any], stop: int, pause: int, state: NDArray[np.int64], points: NDArray[np.float64], colors: NDArray[np.float32], uvs: NDArray[np.float32], normals: NDArray[np.float32], face_start: NDArray[np.int32], corners: NDArray[np.int32], face_line: NDArray[np.int32], runs: NDArray[np.int64], names: NDArray[np.int64], table: NDArray[np.int32], row: NDArray[np.float64]) -> int: ...
def put_faces(face_start: NDArray[np.int32], columns: NDArray[np.int32], base: NDArray[np.int64], statement: NDArray[np.int32], current: NDArray[np.int32], text: NDArray[Any], text_start: NDArray[np.int64], first: int, out: NDArray[Any]) -> tuple[int, int]: ...
