from typing import Any

import numpy as np
from numpy.typing import NDArray

FEATURE: int
BORDER: int
XX: int
XY: int
XZ: int
YY: int
YZ: int
ZZ: int
XD: int
YD: int
ZD: int
DD: int
X: int
Y: int
Z: int
REACH: int
FIRST: int
VERSION: int
DEGREE: int
INTO: int
MARK: int
LOCKED: int
SINGLE: int
LIVES: int
BUCKETS: int
ALIVE: int
LOWEST: int
TAG: int
PARKED: int
SINCE: int
ROUNDS: int
STUCK: int
def link_corners(tri: NDArray[np.int32], first: NDArray[np.int32], following: NDArray[np.int32]) -> None: ...
def find_features(tri: NDArray[np.int32], first: NDArray[np.int32], following: NDArray[np.int32], wedge: NDArray[np.int32], section: NDArray[np.int32], feature: NDArray[Any], degree: NDArray[np.int32], locked: NDArray[Any]) -> None: ...
def mean_area(points: NDArray[np.float64], tri: NDArray[np.int32]) -> float: ...
def gather_quadrics(points: NDArray[np.float64], tri: NDArray[np.int32], feature: NDArray[Any], usual_area: float, border_weight: float, seam_weight: float, q: NDArray[np.float64]) -> None: ...
def gather_gradients(points: NDArray[np.float64], tri: NDArray[np.int32], wedge: NDArray[np.int32], values: NDArray[np.float64], slope: NDArray[np.float32]) -> None: ...
def count_edges(vert: NDArray[np.int32], face: NDArray[np.int32]) -> int: ...
def seed(real: NDArray[np.float64], vert: NDArray[np.int32], face: NDArray[np.int32], wedge: NDArray[np.int32], slope: NDArray[np.float32], state: NDArray[np.int64], head: NDArray[np.int32], after: NDArray[np.int32], entry: NDArray[np.int32], owner: NDArray[np.int32], as_float: NDArray[np.float32], as_bits: NDArray[np.uint32], only_old: bool, limit: float) -> None: ...
def find_all(vert: NDArray[np.int32], into: NDArray[np.int32]) -> None: ...
def collapse(real: NDArray[np.float64], vert: NDArray[np.int32], face: NDArray[np.int32], wedge: NDArray[np.int32], slope: NDArray[np.float32], values: NDArray[np.float64], family: NDArray[np.int32], column_layer: NDArray[np.int32], state: NDArray[np.int64], due: NDArray[np.float64], head: NDArray[np.int32], after: NDArray[np.int32], entry: NDArray[np.int32], owner: NDArray[np.int32], as_float: NDArray[np.float32], as_bits: NDArray[np.uint32], pairs: NDArray[np.int64], found: NDArray[np.int64], fresh: NDArray[np.float64], ring: NDArray[np.int64], only_old: bool, limit: float, most: int, target: int, tries: int) -> None: ...
