"""What a file holds, in the few numbers that tell whether it arrived."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zesty_otter.model import Frame, Node, Scatter, Scene, seen_bounds


@dataclass(frozen=True)
class FileFacts:
    """What a file holds.

    Parameters
    ----------
    bytes : int
    axes : (str, str, str)
        What +X, +Y and +Z mean.
    nodes : int
    paths : tuple of tuple of str
        Names of nodes with those of all ancestors, in the order of the tree.
    meshes : int
    sections : int
        Parts of meshes that are drawn by themselves.
    triangles : int
    vertices : int
    materials : tuple of str
        Their names.
    images : int
    lowest : (float, float, float)
        Lowest corner of all that is placed, in metres (in the file's unit where that is unknown).
    highest : (float, float, float)
    seen : (float, float, float) or None
        Width, height and depth of what is seen near by; None where roles are not known.
    seen_triangles : int or None
        Triangles of that.
    """

    bytes: int
    axes: tuple[str, str, str]
    nodes: int
    paths: tuple[tuple[str, ...], ...]
    meshes: int
    sections: int
    triangles: int
    vertices: int
    materials: tuple[str, ...]
    images: int
    lowest: tuple[float, float, float]
    highest: tuple[float, float, float]
    seen: tuple[float, float, float] | None = None
    seen_triangles: int | None = None

    @property
    def size(self) -> tuple[float, float, float]:
        """Width, height and depth of what is seen, whichever axes these are in the file; of all where not known."""
        return self.seen or Frame(self.axes).sides(np.array([self.lowest, self.highest]))

    @property
    def triangles_in_words(self) -> str:
        """What is seen near by, and everything where that is more."""
        seen = self.seen_triangles or 0
        return f"{seen:,} of {self.triangles:,}" if 0 < seen < self.triangles else f"{self.triangles:,}"


def facts_of(scene: Scene, size: int = 0) -> FileFacts:
    """The facts of a scene, as it was or is to be in a file of ``size`` bytes."""
    box = np.nan_to_num(scene.bounds()) * (scene.frame.unit or 1.0)
    placed = list(scene.walk())
    shown = [(one.node.drawn, _count(one.node)) for one in placed if one.node.drawn and one.node.drawn.face_count]
    materials = [mesh.slots[number] for mesh, _ in shown for number in mesh.used_slots]
    metre = scene.frame.unit or 1.0
    width, height, depth = scene.frame.sides(np.nan_to_num(seen_bounds(scene)) * metre)
    near = [one.node for one in placed if one.node.drawn and one.visible and one.node.is_shown]
    return FileFacts(
        size,
        scene.frame.axes,
        len(placed),
        tuple(one.path for one in placed),
        len({id(mesh) for mesh, _ in shown}),
        sum(count * len(mesh.used_slots) for mesh, count in shown),
        sum(count * mesh.triangle_count for mesh, count in shown),
        sum(count * mesh.point_count for mesh, count in shown),
        tuple(dict.fromkeys(slot.name for slot in materials if slot is not None)),
        len(scene.textures),
        tuple(box[0].tolist()),
        tuple(box[1].tolist()),
        (width, height, depth),
        sum(_count(node) * node.drawn.triangle_count for node in near if node.drawn) or None,
    )


def _count(node: Node) -> int:
    """How often a node shows its mesh."""
    return node.content.count if isinstance(node.content, Scatter) else 1
