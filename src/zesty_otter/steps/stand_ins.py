"""Boxes in place of heavy meshes."""

from __future__ import annotations

import colorsys
import zlib
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from zesty_otter.geometry.solids.fits import close_box
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.model import Material, Mesh, Node, Scatter, Scene, count_of
from zesty_otter.polygons import box_mesh
from zesty_otter.steps.assets import assets_of
from zesty_otter.steps.base import Step
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.words import chosen_numbers

FOR, SIZE, TRIANGLES, MATERIALS = "stand_in_for", "stand_in_size", "stand_in_triangles", "stand_in_materials"
"""Properties of a stand-in: the node it stands for, its size in metres, its triangles and its materials."""

REPLACED = ("level", "collision", "shadow", "bounds")
"""Roles of what goes when the mesh goes that it was made of."""

_THINNEST = 0.002  # of the longest side: what is flat gets a box that can be seen


class StandIns(Step):
    """Put boxes in place of heavy meshes, to arrange a scene that is light; swap brings the meshes back.

    Looks at visible meshes and scatters. Each becomes a close box around its mesh, turned where that is much smaller,
    with the same name, place and pivot and the role of a stand-in; its levels, collision, shadow and bounds go.
    Properties keep what it stands for: name, size in metres, triangles, materials. Boxes of the same mesh have the same
    colour. Refuses nothing.
    """

    slug: ClassVar[str] = "stand-ins"
    example: ClassVar[dict[str, Any]] = {"only": ["gate*"]}

    color: Literal["mesh", "material"] = Field(
        "mesh", description="mesh: a colour of its own for each mesh; material: the mean of its materials."
    )
    turned: bool = Field(True, description="Turn boxes so that they fit closely; else along the axes of the mesh.")

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        metre = scene.unit_for("measuring stand-ins")
        boxes: dict[int, tuple[Mesh, Mapping[str, Any]]] = {}
        new: dict[int, Node] = {}
        gone: set[int] = set()
        for asset in assets_of(scene):
            changed = [one for one in asset.main if one.number in numbers and one.node.role == "visible"]
            for placed in changed:
                mesh = placed.node.drawn
                if mesh is None or not mesh.face_count:
                    continue
                if id(mesh) not in boxes:
                    boxes[id(mesh)] = self._box(mesh, outward=scene.frame.right_handed), _facts(mesh, metre)
                box, facts = boxes[id(mesh)]
                content = placed.node.content
                new[placed.number] = replace(
                    placed.node,
                    content=replace(content, mesh=box) if isinstance(content, Scatter) else box,
                    role="stand-in",
                    properties={**placed.node.properties, FOR: placed.node.name, **facts},
                )
            if any(one.number in new for one in changed):
                gone |= {one.number for one in asset.rest if one.node.role in REPLACED}
        if not new:
            return scene.with_notes(self.note("no visible mesh to put a box in place of", kind="finding"))

        def make(n: int, node: Node) -> Node | None:
            if n in gone:
                return None if not node.children else replace(node, content=None, role="visible")
            return replace(new[n], children=node.children) if n in new else node

        saved = sum(
            mesh.triangle_count for mesh in {id(one): one for one in scene.meshes}.values() if id(mesh) in boxes
        )
        text = f"{count_of(len(new), 'stand-in')} for {count_of(len(boxes), 'mesh')} of {saved:,} triangles"
        beside = f"; {count_of(len(gone), 'level, collision or shadow mesh')} removed" if gone else ""
        return scene.rebuilt(make).with_notes(self.note(text + beside))

    def _box(self, mesh: Mesh, *, outward: bool) -> Mesh:
        points = mesh.points[mesh.point_used]
        if self.turned:
            centre, axes, half = close_box(points)
        else:
            low, high = mesh.surface_bounds
            centre, axes, half = (low + high) / 2, np.eye(3), (high - low) / 2
        half = np.maximum(half, _THINNEST * half.max())
        color = _own_color(mesh.name) if self.color == "mesh" else _mean_color(mesh)
        material = Material(f"stand_in_{mesh.name}", base_color=(*color, 1.0), roughness=1.0)
        middle = axes @ centre
        box = box_mesh(mesh.name, middle - half, middle + half, axes, right_handed=outward)
        return box.replace(slots=(material,))


def _facts(mesh: Mesh, metre: float) -> Mapping[str, Any]:
    size = np.ptp(mesh.surface_bounds, axis=0) * metre
    names = [slot.name for n in mesh.used_slots if (slot := mesh.slots[n]) is not None]
    return {
        SIZE: [float(f"{one:.6g}") for one in size],
        TRIANGLES: mesh.triangle_count,
        MATERIALS: ", ".join(names),
    }


def _own_color(name: str) -> tuple[float, float, float]:
    """A colour, as amounts of light, that only the name decides."""
    digest = zlib.crc32(name.encode())
    return colorsys.hls_to_rgb(digest % 360 / 360, 0.25 + (digest // 360) % 3 * 0.08, 0.45)


def _mean_color(mesh: Mesh) -> tuple[float, float, float]:
    """The mean colour of the materials of a mesh, by area."""
    areas, _ = face_areas_and_normals(mesh.points, mesh.face_start, mesh.corner_point)
    weights = np.bincount(mesh.slot_of_face, areas, len(mesh.slots) or 1)
    colors = np.array([(0.8, 0.8, 0.8) if one is None else one.base_color[:3] for one in mesh.slots or (None,)])
    total = float(weights.sum())
    mean = weights @ colors / total if total > 0 else colors.mean(axis=0)
    return float(mean[0]), float(mean[1]), float(mean[2])
