"""How every hot loop of the project is compiled."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import ArrayLike, NDArray

# Numba's reference counting costs more than such loops do, so it is off; in return nothing they call may
# allocate: scratch arrays are arguments.
kernel: Any = numba.njit(cache=True, error_model="numpy", _nrt=False)  # type: ignore[call-overload]
"""Decorator for a compiled function that works on the arrays it is given and makes none."""


def read_only(array: ArrayLike, dtype: Any) -> NDArray[Any]:
    """The array in one piece and read-only, so that a kernel is not compiled again for arrays that are not."""
    view = np.ascontiguousarray(array, dtype).view()
    view.flags.writeable = False
    return view
