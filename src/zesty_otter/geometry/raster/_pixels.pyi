from typing import Any

import numpy as np
from numpy.typing import NDArray

BASE: int
NORMAL: int
ROUGH: int
METAL: int
GLOW: int
SHADE: int
ROLES: int
RED: int
ROUGHNESS: int
METALLIC: int
EMISSIVE: int
STRENGTH: int
DARKENS: int
TWO_SIDED: int
TEXTURE: int
CHANNEL: int
COLUMNS: int
FIRST: int
WIDE: int
HIGH: int
CLAMPED: int
LEVELS: int
TEXTURE_COLUMNS: int
def look(corner: NDArray[np.float32], normal: NDArray[np.float32], tangent: NDArray[np.float32], uv: NDArray[np.float32], level: NDArray[np.int8], material: NDArray[np.int32], materials: NDArray[np.float64], table: NDArray[np.int64], pixels: NDArray[Any], shown: NDArray[np.float32], light: NDArray[np.float64], toward: NDArray[np.float64], first_row: int, stop_row: int, ids: NDArray[np.int32], out: NDArray[np.float32]) -> None: ...
def nearest_filled(filled: NDArray[Any], row: NDArray[np.int32], column: NDArray[np.int32], until: NDArray[np.int32], found: NDArray[np.int64]) -> None: ...
