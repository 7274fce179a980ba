from typing import Any

import numpy as np
from numpy.typing import NDArray

def pack_attributes(rows: NDArray[Any], out: NDArray[Any]) -> int: ...
def pack_triangles(corners: NDArray[np.uint32], out: NDArray[Any]) -> int: ...
