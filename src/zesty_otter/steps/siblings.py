"""Nodes added beside others."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from zesty_otter.model import Mesh, Node, Placed, Scatter, Scene


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


def with_nodes_behind(scene: Scene, behind: Mapping[int, list[Node]], changed: Mapping[int, Node]) -> Scene:
    """The scene with some nodes changed, and with others behind them as siblings."""
    done: list[list[Node]] = []
    order = [placed.node for placed in scene.walk()]
    for n in range(len(order) - 1, -1, -1):
        below = [child for children in [done.pop() for _ in order[n].children] for child in children]
        done.append([replace(changed.get(n, order[n]), children=tuple(below)), *behind.get(n, ())])
    return replace(scene, roots=tuple(node for nodes in reversed(done) for node in nodes))
