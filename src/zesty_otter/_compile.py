"""How every hot loop of the project is compiled."""

from __future__ import annotations

from typing import Any

import numba

# Numba's reference counting costs more than such loops do, so it is off; in return nothing they call may
# allocate: scratch arrays are arguments.
kernel: Any = numba.njit(cache=True, error_model="numpy", _nrt=False)  # type: ignore[call-overload]
"""Decorator for a compiled function that works on the arrays it is given and makes none."""
