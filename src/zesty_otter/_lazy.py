"""Names of a package that are loaded when first asked for, so that a command loads only what it uses."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


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
        value = getattr(import_module(f"{package}.{home}"), name) if home else import_module(f"{package}.{name}")
        setattr(sys.modules[package], name, value)
        return value

    return load


def homes_of(**modules: str) -> dict[str, str]:
    """``homes_of(camera="SIDES Camera")`` as a table from name to module."""
    return {name: module for module, names in modules.items() for name in names.split()}
