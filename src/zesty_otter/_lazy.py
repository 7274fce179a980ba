"""Names of a package that are loaded when first asked for, so that a command loads only what it uses."""

from __future__ import annotations

import contextlib
import gc
import sys
from collections.abc import Callable, Iterator, Mapping
from importlib import import_module
from typing import Any


@contextlib.contextmanager
def uncollected() -> Iterator[None]:
    """Where very many things are made that stay, which the garbage collector would look through again and again."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def loaded_when_asked(package: str, homes: Mapping[str, str]) -> Callable[[str], Any]:
    """The ``__getattr__`` of a package (PEP 562) whose names live in modules below it.

    Parameters
    ----------
    package : str
        Its ``__name__``.
    homes : dict of str to str
        The module, named from the package on, in which each name lives; "" for a name that is itself a module.
    """

    def load(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module '{package}' has no attribute '{name}'")
        home = homes[name]
        with uncollected():
            module = import_module(f"{package}.{home or name}")
        value = getattr(module, name) if home else module
        setattr(sys.modules[package], name, value)
        return value

    return load


def homes_of(**modules: str) -> dict[str, str]:
    """``homes_of(camera="SIDES Camera")`` as a table from name to module."""
    return {name: module for module, names in modules.items() for name in names.split()}
