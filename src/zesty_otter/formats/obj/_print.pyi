from typing import Any

import numpy as np
from numpy.typing import NDArray

def put_faces(face_start: NDArray[np.int32], columns: NDArray[np.int32], base: NDArray[np.int64], statement: NDArray[np.int32], current: NDArray[np.int32], text: NDArray[Any], text_start: NDArray[np.int64], first: int, out: NDArray[Any]) -> tuple[int, int]: ...
