"""Rotation and scale of nodes, moved into the meshes."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.geometry.normals import turned_directions
from zesty_otter.model import Content, Layer, Mesh, Scene, count_of, turned_content
from zesty_otter.steps.base import Step
from zesty_otter.steps.selection import Words, chosen_numbers


class BakeTransforms(Step):
    """Give nodes rotation zero and scale one, without moving anything.

    Looks at the world transform of every node, whatever its parents do to it: rotation, scale, mirroring,
    shear. Changes points, normals, tangents and winding of meshes and the directions of lights and
    cameras. A mesh shown by several nodes stays shared where they turn and scale it alike. A node that is
    scaled to nothing is baked too; its flat mesh is noted.
    """

    slug: ClassVar[str] = "bake"
    example: ClassVar[dict[str, Any]] = {"translation": "keep"}

    only: Words = Field((), description="Words that choose the nodes to bake; all when there are none.")
    translation: Literal["keep", "drop"] = Field(
        "keep", description="keep: nodes stay where they are; drop: their places are moved into the meshes too."
    )

    def apply(self, scene: Scene) -> Scene:
        numbers = chosen_numbers(scene, self.only)
        worlds: dict[int, NDArray[np.float64]] = {}
        contents: dict[int, Content | None] = {}
        baked: dict[tuple[int, bytes], Mesh] = {}
        counts = {"turned": 0, "mirrored": 0, "flat": 0}
        flat: list[str] = []
        for placed in scene.walk():
            if placed.number not in numbers:
                continue
            linear = placed.world[:3, :3]
            offset = placed.world[:3, 3] if self.translation == "drop" else np.zeros(3)
            worlds[placed.number] = np.eye(4)
            worlds[placed.number][:3, 3] = placed.world[:3, 3] - offset
            straight = np.allclose(linear, np.eye(3), rtol=0, atol=1e-14)
            counts["turned"] += not straight
            counts["mirrored"] += bool(np.linalg.det(linear) < 0)
            content = placed.node.content
            if isinstance(content, Mesh):
                if abs(np.linalg.det(linear)) <= 1e-12 * np.abs(linear).max(initial=0) ** 3:
                    flat.append(placed.node.name)
                # Equal up to rounding counts as equal, so that instances stay instances.
                key = id(content), np.round(np.column_stack([linear, offset]), 12).tobytes()
                if key not in baked:
                    baked[key] = content if straight and not offset.any() else transformed(content, linear, offset)
                contents[placed.number] = baked[key]
            elif content is not None:
                contents[placed.number] = turned_content(content, linear)
        if not counts["turned"] and self.translation == "keep":
            return scene
        notes = [self.note(f"{counts['turned']} of {count_of(len(worlds), 'node')} had rotation or scale; baked")]
        if counts["mirrored"]:
            notes.append(self.note(f"{count_of(counts['mirrored'], 'node')} mirrored; winding turned round"))
        if self.translation == "drop":
            notes.append(self.note("places of nodes moved into their meshes"))
        notes += [
            self.note("is scaled to nothing along some direction; its mesh is flat now", kind="guess", node=name)
            for name in flat
        ]
        return scene.with_worlds(worlds, contents).with_notes(*notes)


def transformed(mesh: Mesh, linear: NDArray[np.float64], offset: NDArray[np.float64]) -> Mesh:
    """The mesh with its points at ``linear @ point + offset``, and all that goes with them."""
    mirrors = bool(np.linalg.det(linear) < 0)
    # The matrix of cofactors turns normals as the inverse transpose does, and works when flat.
    cofactors = np.stack([np.cross(linear[(k + 1) % 3], linear[(k + 2) % 3]) for k in range(3)])
    layers = tuple(
        _transformed_layer(layer, linear, -cofactors if mirrors else cofactors, mirrors) for layer in mesh.layers
    )
    points = mesh.points @ linear.T
    if offset.any():
        points += offset
    moved = mesh.replace(points=points, layers=layers)
    return moved.turned_round() if mirrors else moved


def _transformed_layer(
    layer: Layer, linear: NDArray[np.float64], cofactors: NDArray[np.float64], mirrors: bool
) -> Layer:
    if layer.kind not in ("normal", "tangent"):
        return layer
    matrix = cofactors if layer.kind == "normal" else linear
    turned = turned_directions(layer.values[:, :3], matrix / np.abs(matrix).max(initial=1e-300))
    index = layer.index
    left = np.asarray(turned.any(axis=1))
    if not left.all():
        index = np.where(left[index] & (index >= 0), index, -1).astype(np.int32)
    if layer.kind == "normal":
        return Layer(layer.kind, turned, index, layer.name)
    sign = np.where(mirrors, -1, 1).astype(np.float32) * layer.values[:, 3:]
    return Layer(layer.kind, np.concatenate([turned, sign], axis=1), index, layer.name)
