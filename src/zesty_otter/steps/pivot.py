"""Pivots: the point a node turns about and is placed by."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.errors import ModelError
from zesty_otter.model import Content, Mesh, Note, Placed, Scene, count_of, format_length, placed_bounds
from zesty_otter.steps.base import Step


class Pivot(Step):
    """Put the pivot of every mesh node where it belongs, without moving what is seen.

    Looks at the bounds in world space. Changes the transform of mesh nodes and the points of their
    meshes by opposite amounts; children stay where they are. Refuses nodes whose transform is flat.
    """

    slug: ClassVar[str] = "pivot"
    example: ClassVar[dict[str, Any]] = {"at": "base", "place": "origin"}

    at: Literal["keep", "origin", "base", "centre"] = Field(
        "keep",
        description="keep: where it is; origin: the world's origin; base: the middle of the underside;"
        " centre: the middle of the bounds.",
    )
    of: Literal["object", "scene"] = Field(
        "object", description="object: each mesh has a pivot of its own; scene: all share the scene's."
    )
    place: Literal["keep", "origin"] = Field(
        "keep",
        description="keep: everything stays in its place; origin: pivots are moved to the world's origin.",
    )

    def apply(self, scene: Scene) -> Scene:
        if self.at == "keep" and self.place == "keep":
            return scene
        whole = scene.bounds()
        worlds: dict[int, NDArray[np.float64]] = {}
        contents: dict[int, Content | None] = {}
        shifted: dict[tuple[int, bytes], Mesh] = {}
        farthest = 0.0
        for placed, mesh in scene.placed_meshes():
            box = whole if self.of == "scene" else placed_bounds(mesh, placed.world)
            old = placed.world[:3, 3]
            pivot = self._point(box, scene, old) if np.isfinite(box).all() else old
            offset = _offset(placed, pivot)
            farthest = max(farthest, float(np.linalg.norm(pivot - old)))
            key = (id(mesh), offset.tobytes())
            if key not in shifted:
                shifted[key] = mesh.replace(points=mesh.points - offset) if offset.any() else mesh
            contents[placed.number] = shifted[key]
            worlds[placed.number] = placed.world.copy()
            worlds[placed.number][:3, 3] = 0.0 if self.place == "origin" else pivot
        changed = scene.with_worlds(worlds, contents)
        return changed.with_notes(*self._notes(len(worlds), farthest * (scene.frame.unit or 0.0)))

    def _point(self, box: NDArray[np.float64], scene: Scene, old: NDArray[np.float64]) -> NDArray[np.float64]:
        if self.at == "keep":
            return old
        if self.at == "origin":
            return np.zeros(3)
        point = box.mean(axis=0)
        if self.at == "base":
            axis, sign = scene.frame.up
            point[axis] = box[0 if sign > 0 else 1, axis]
        return np.asarray(point)

    def _notes(self, count: int, farthest: float) -> list[Note]:
        notes = []
        if self.at != "keep":
            away = f"; the farthest was {format_length(farthest)} away" if farthest else ""
            notes.append(self.note(f"pivot of {count_of(count, 'mesh node')} set to {self.at}{away}"))
        if self.place == "origin":
            notes.append(self.note(f"{count_of(count, 'mesh node')} placed at the world's origin"))
        return notes


def _offset(placed: Placed, pivot: NDArray[np.float64]) -> NDArray[np.float64]:
    """The pivot in the node's own space."""
    away = pivot - placed.world[:3, 3]
    if not away.any():
        return np.zeros(3)
    try:
        return np.asarray(np.linalg.solve(placed.world[:3, :3], away)) + 0.0
    except np.linalg.LinAlgError:
        raise ModelError(
            "is scaled to nothing along some direction, so that its pivot cannot be moved.",
            place=f"node {placed.node.name}",
            remedy="Give it a scale that is not zero.",
        ) from None
