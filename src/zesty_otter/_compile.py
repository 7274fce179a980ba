"""How every hot loop of the project is compiled."""

from __future__ import annotations

from typing import Any

import numba
from numba.core import event

from zesty_otter._late import tell_watchers

# Numba's reference counting costs more than such loops do, so it is off; in return nothing they call may
# allocate: scratch arrays are arguments.
kernel: Any = numba.njit(cache=True, error_model="numpy", _nrt=False)  # type: ignore[call-overload]
"""Decorator for a compiled function that works on the arrays it is given and makes none."""


class _Watch(event.Listener):
    def on_start(self, _: Any) -> None:
        tell_watchers(True)

    def on_end(self, _: Any) -> None:
        tell_watchers(False)


event.register("numba:compile", _Watch())  # type: ignore[no-untyped-call]
