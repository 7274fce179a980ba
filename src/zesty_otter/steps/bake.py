"""Rotation and scale of nodes, moved into the meshes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.model import Content, Mesh, Scatter, Scene, count_of, determinant, transformed, turned_content
from zesty_otter.steps.base import Step
from zesty_otter.steps.words import chosen_numbers


class BakeTransforms(Step):
    """Set the rotation of nodes to zero and their scale to one, without moving anything.

    Looks at the world transform of every node, parents included: rotation, scale, mirroring, shear. Changes points,
    normals, tangents and winding of meshes, and the directions of lights and cameras. A mesh that several nodes
    show stays shared where they rotate and scale it alike. Nodes with zero scale are baked too; their flat meshes
    are noted.
    """

    slug: ClassVar[str] = "bake"
    example: ClassVar[dict[str, Any]] = {"translation": "keep"}

    translation: Literal["keep", "drop"] = Field(
        "keep",
        description="keep: nodes stay where they are; drop: the translation of nodes with a mesh moves into the mesh"
        " too.",
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        worlds: dict[int, NDArray[np.float64]] = {}
        contents: dict[int, Content | None] = {}
        baked: dict[tuple[int, bytes], Mesh] = {}
        counts = {"turned": 0, "mirrored": 0, "flat": 0}
        flat: list[str] = []
        for placed in scene.walk():
            if placed.number not in numbers:
                continue
            linear = placed.world[:3, :3]
            content = placed.node.content
            # What is a place and nothing else, a lamp or a socket, keeps it.
            movable = placed.node.drawn is not None or (content is None and placed.node.children)
            offset = placed.world[:3, 3] if self.translation == "drop" and movable else np.zeros(3)
            worlds[placed.number] = np.eye(4)
            worlds[placed.number][:3, 3] = placed.world[:3, 3] - offset
            straight = np.allclose(linear, np.eye(3), rtol=0, atol=1e-14)
            counts["turned"] += not straight
            counts["mirrored"] += bool(determinant(linear) < 0)
            if isinstance(content, Mesh):
                if abs(determinant(linear)) <= 1e-12 * np.abs(linear).max(initial=0) ** 3:
                    flat.append(placed.node.name)
                # Equal up to rounding counts as equal, so that instances stay instances.
                key = id(content), np.round(np.column_stack([linear, offset]), 12).tobytes()
                if key not in baked:
                    baked[key] = content if straight and not offset.any() else transformed(content, linear, offset)
                contents[placed.number] = baked[key]
            elif content is not None:
                turned = turned_content(content, linear)
                if isinstance(turned, Scatter) and offset.any():
                    places = turned.transforms.copy()
                    places[:, :3, 3] += offset
                    turned = replace(turned, transforms=places)
                contents[placed.number] = turned
        if not counts["turned"] and self.translation == "keep":
            return scene
        notes = [self.note(f"{counts['turned']} of {count_of(len(worlds), 'node')} had rotation or scale; baked")]
        if counts["mirrored"]:
            notes.append(self.note(f"{count_of(counts['mirrored'], 'node')} mirrored; winding flipped"))
        if self.translation == "drop":
            notes.append(self.note("places of nodes moved into their meshes"))
        notes += [
            self.note("has zero scale along some direction; its mesh is flat now", kind="finding", node=name)
            for name in flat
        ]
        return scene.with_worlds(worlds, contents).with_notes(*notes)
