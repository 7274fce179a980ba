"""Copies of one mesh as a list of places, and back."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from zesty_otter.model import Mesh, Node, Scatter, Scene, count_of, expanded
from zesty_otter.steps.base import Step


class Gather(Step):
    """Turn nodes that show the same mesh under the same parent into one scatter.

    Looks at visible nodes without children that share a mesh and a role. The scatter takes the place of the first
    of them and the name of the mesh; names and properties of the others are lost. Formats with instancing keep it
    as one mesh and a list of places. Refuses nothing.
    """

    slug: ClassVar[str] = "gather"
    example: ClassVar[dict[str, Any]] = {"least": 10}

    least: int = Field(2, ge=2, description="Minimum number of copies for a scatter; fewer stay nodes.")

    def change(self, scene: Scene) -> Scene:
        made: list[Scatter] = []

        def among(nodes: Iterable[Node]) -> tuple[Node, ...]:
            groups: dict[tuple[int, str], list[Node]] = {}
            nodes = list(nodes)
            for node in nodes:
                if isinstance(node.content, Mesh) and not node.children and node.visible:
                    groups.setdefault((id(node.content), node.role), []).append(node)
            taken = {id(node): group for group in groups.values() if len(group) >= self.least for node in group}
            found = []
            for node in nodes:
                group = taken.get(id(node), [node])
                if len(group) == 1:
                    found.append(node)
                elif node is group[0]:
                    assert node.mesh is not None
                    made.append(Scatter(node.mesh, np.array([one.transform for one in group])))
                    found.append(replace(node, name=node.mesh.name, transform=np.eye(4), content=made[-1]))
            return tuple(found)

        changed = scene.map_nodes(lambda node: replace(node, children=among(node.children)) if node.children else node)
        changed = replace(changed, roots=among(changed.roots))
        if not made:
            return scene
        copies = sum(one.count for one in made)
        return changed.with_notes(
            self.note(f"{count_of(copies, 'node')} gathered into {count_of(len(made), 'scatter')}")
        )


class Expand(Step):
    """Turn the copies of scatters into nodes that share one mesh.

    Looks at every scatter; its node stays as the empty parent of the copies. Formats without instancing get this
    when they are written. Refuses nothing.
    """

    slug: ClassVar[str] = "expand"

    def change(self, scene: Scene) -> Scene:
        changed, made = expanded(scene)
        if not made:
            return scene
        return changed.with_notes(self.note(f"scatters became {count_of(made, 'node')}"))
