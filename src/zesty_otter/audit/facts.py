"""What a file holds, in the few numbers that tell whether it arrived."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zesty_otter.model import Scene


@dataclass(frozen=True)
class FileFacts:
    """What a file holds.

    ``nodes`` are names and ``paths`` names with those of all ancestors, in the order of the tree;
    ``lowest`` and ``highest`` are the corners of all that is placed, in metres (in the file's unit where
    that is unknown).
    """

    bytes: int
    nodes: tuple[str, ...]
    paths: tuple[tuple[str, ...], ...]
    meshes: int
    sections: int
    triangles: int
    vertices: int
    materials: tuple[str, ...]
    images: int
    lowest: tuple[float, float, float]
    highest: tuple[float, float, float]

    @property
    def size(self) -> tuple[float, float, float]:
        """Sides of the box along X, Y and Z."""
        x, y, z = (high - low for low, high in zip(self.lowest, self.highest, strict=True))
        return x, y, z


def facts_of(scene: Scene, size: int = 0) -> FileFacts:
    """The facts of a scene, as it was or is to be in a file of ``size`` bytes."""
    box = np.nan_to_num(scene.bounds()) * (scene.frame.unit or 1.0)
    shown = [mesh for _, mesh in scene.placed_meshes() if mesh.face_count]
    sections = [mesh.slots[number] for mesh in shown for number in np.unique(mesh.slot_of_face)]
    placed = list(scene.walk())
    return FileFacts(
        size,
        tuple(one.node.name for one in placed),
        tuple(one.path for one in placed),
        len({id(mesh) for mesh in shown}),
        len(sections),
        sum(mesh.triangle_count for mesh in shown),
        sum(mesh.point_count for mesh in shown),
        tuple(dict.fromkeys(slot.name for slot in sections if slot is not None)),
        len(scene.textures),
        tuple(box[0].tolist()),
        tuple(box[1].tolist()),
    )
