"""Nodes added beside others."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Mesh, Node, Placed, Scatter, determinant

T = TypeVar("T")


def holds(*tokens: str) -> Callable[[str], str]:
    """What checks that a name template has all its tokens."""

    def checked(template: str) -> str:
        if any(f"{{{token}}}" not in template for token in tokens):
            raise ValueError(f"'{template}' must hold {' and '.join(f'{{{token}}}' for token in tokens)}")
        return template

    return checked


class Siblings:
    """Nodes for meshes that go with others; a mesh that goes with several is one, called after the first of them."""

    def __init__(self) -> None:
        self._named: dict[int, tuple[Mesh, Mesh]] = {}

    def beside(
        self, placed: Placed, mesh: Mesh, name: str, role: str, properties: Mapping[str, Any], *, visible: bool = True
    ) -> Node:
        """A node of some name at the same place as another, scattered alike."""
        if id(mesh) not in self._named:
            self._named[id(mesh)] = mesh, mesh if mesh.name == name else mesh.replace(name=name)
        named = self._named[id(mesh)][1]
        content = placed.node.content
        return Node(
            name,
            placed.node.transform,
            content=replace(content, mesh=named) if isinstance(content, Scatter) else named,
            visible=visible,
            groups=placed.node.groups,
            role=role,
            properties=dict(properties),
        )


def size_of(linear: NDArray[np.float64]) -> float:
    """How large a transform makes things."""
    return float(np.cbrt(abs(determinant(linear))))


_MOST_FORMS = 64  # proportions in which a mesh gets something of its own


class OfSizes(Generic[T]):
    """What was made for copies of several sizes; what is good for one is good for others a little smaller."""

    def __init__(self) -> None:
        self._made: dict[Any, list[tuple[float, T]]] = {}
        self._undone: dict[Any, list[NDArray[np.float64]]] = {}
        self._all: dict[Any, list[T]] = {}

    def keep(self, mesh: Mesh, linear: NDArray[np.float64], kind: Any, more: Any, made: T) -> None:
        self._made.setdefault(self._form(mesh, linear, (kind, more)), []).append((size_of(linear), made))
        if abs(determinant(linear)) > 0:
            self._undone.setdefault((id(mesh), kind), []).append(np.linalg.inv(linear).astype(np.float64))
            self._all.setdefault((id(mesh), kind), []).append(made)

    def of_nearly_its_form(
        self, mesh: Mesh, linear: NDArray[np.float64], kind: Any, largest: float, smallest: float
    ) -> tuple[float, T] | None:
        """Where a mesh has copies of a great many proportions: what was made for the one that is most like this.

        What goes around a mesh, or into it, does so in all copies. ``largest`` and ``smallest`` are how much larger and
        smaller than the other this one may be in any direction; the first number of the result is the largest it is.
        """
        undone = self._undone.get((id(mesh), kind), [])
        if len(undone) < _MOST_FORMS:
            return None
        sizes = np.linalg.svd(linear @ np.array(undone), compute_uv=False)
        fits = (sizes[:, 0] <= largest) & (sizes[:, 2] >= smallest)
        if not fits.any():
            return None
        best = int(np.argmin(np.where(fits, sizes[:, 0] / np.maximum(sizes[:, 2], 1e-300), np.inf)))
        return float(sizes[best, 0]), self._all[id(mesh), kind][best]

    def lent(
        self, mesh: Mesh, linear: NDArray[np.float64], kind: Any, more: Any, larger: float
    ) -> tuple[float, T] | None:
        """What was made for a copy up to so many times as large, and how large this one is beside it."""
        size = size_of(linear)
        for other, made in self._made.get(self._form(mesh, linear, (kind, more)), ()):
            if size <= other * (1 + 1e-9) and other <= size * larger:
                return size / other if other else 1.0, made
        return None

    def _form(self, mesh: Mesh, linear: NDArray[np.float64], more: Any) -> Any:
        """What copies have in common that are turned, or of another size."""
        unit = linear / (size_of(linear) or 1.0)
        return id(mesh), more, ((unit.T @ unit).round(6) + 0.0).tobytes()
