"""What lets a command start before the compiler is loaded."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from importlib import import_module
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

_watchers: list[Callable[[bool], None]] = []


class LateModule:
    """A module that is imported when something of it is first asked for.

    Compiled loops are reached through this: loading Numba takes longer than many a command.
    """

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, attribute: str) -> Any:
        value = getattr(import_module(self._name), attribute)
        setattr(self, attribute, value)
        return value


def read_only(array: ArrayLike, dtype: Any) -> NDArray[Any]:
    """The array in one piece and read-only, so that a kernel is not compiled again for arrays that are not."""
    view = np.ascontiguousarray(array, dtype).view()
    view.flags.writeable = False
    return view


@contextlib.contextmanager
def compiling_watched(watcher: Callable[[bool], None]) -> Iterator[None]:
    """Calls ``watcher(True)`` when a kernel begins to be compiled and ``watcher(False)`` when it is done."""
    _watchers.append(watcher)
    try:
        yield
    finally:
        _watchers.remove(watcher)


def tell_watchers(busy: bool) -> None:
    """Called by the compiler."""
    for watcher in _watchers:
        watcher(busy)
