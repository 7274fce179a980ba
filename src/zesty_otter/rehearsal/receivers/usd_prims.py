"""Prims of USD as both its forms give them."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from zesty_otter.rehearsal.receivers.faces import Floats, require


@dataclass(frozen=True, eq=False)
class Prim:
    """One prim: its values by name (arrays, texts, lists of these), and what is said about it and about its values.

    Targets of relationships and connections are values too, called as in text (``inputs:st.connect``). ``meta`` holds
    texts, those about a value after its name (``normals interpolation``).
    """

    specifier: str
    type: str
    name: str
    children: list[str] = field(default_factory=list)
    values: dict[str, Any] = field(default_factory=dict)
    meta: dict[str, str] = field(default_factory=dict)

    def over(self, weaker: Prim) -> Prim:
        """What this prim says over what another says."""
        return replace(
            self,
            children=[*weaker.children, *self.children],
            values=weaker.values | self.values,
            meta=weaker.meta | self.meta,
        )

    def numbers(self, name: str) -> Floats:
        require(name in self.values, f"{self.name} has no {name}")
        return np.asarray(self.values[name], np.float64).ravel()

    def rows(self, name: str, width: int) -> Floats:
        found = self.numbers(name)
        require(len(found) % width == 0, f"{self.name}: {name} is not made of rows of {width}")
        return found.reshape(-1, width)

    def text(self, name: str) -> str:
        found = self.values.get(name, "")
        return found if isinstance(found, str) else ""

    def texts(self, name: str) -> list[str]:
        found = self.values.get(name, [])
        found = [found] if isinstance(found, str) else list(found)
        require(all(isinstance(one, str) for one in found), f"{self.name}: {name} is not made of texts")
        return found

    def target(self, name: str) -> str:
        """The first target of a relationship or connection; empty where there is none."""
        found = self.texts(name)
        return found[0] if found else ""


Stage = dict[str, Prim]
"""Prims by path."""
