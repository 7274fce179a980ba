"""Nodes added beside others."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from zesty_otter.model import Node, Scene


def with_nodes_behind(scene: Scene, behind: Mapping[int, list[Node]], changed: Mapping[int, Node]) -> Scene:
    """The scene with some nodes changed, and with others behind them as siblings."""
    done: list[list[Node]] = []
    order = [placed.node for placed in scene.walk()]
    for n in range(len(order) - 1, -1, -1):
        below = [child for children in [done.pop() for _ in order[n].children] for child in children]
        done.append([replace(changed.get(n, order[n]), children=tuple(below)), *behind.get(n, ())])
    return replace(scene, roots=tuple(node for nodes in reversed(done) for node in nodes))
