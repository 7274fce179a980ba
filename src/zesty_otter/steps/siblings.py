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


def sibling(placed: Placed, mesh: Mesh, role: str, properties: Mapping[str, Any], *, visible: bool = True) -> Node:
    """A node for a mesh that goes with another: at the same place, scattered alike, named after its mesh."""
    content = placed.node.content
    return Node(
        mesh.name,
        placed.node.transform,
        content=replace(content, mesh=mesh) if isinstance(content, Scatter) else mesh,
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
