"""Welding, and what else a mesh can be cleaned of."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.geometry.surface.topology import (
    coincident_faces,
    drop_repeats,
    duplicate_faces,
    facing_outward,
    flat_faces,
    holes,
    topology,
    weld_representatives,
)
from zesty_otter.model import Layer, Mesh, Note, Scene, corners_of_faces, count_of
from zesty_otter.polygons import with_corners
from zesty_otter.steps.base import Length, Step
from zesty_otter.steps.materials import merged_materials
from zesty_otter.steps.stretches import Stretches


class Weld(Step):
    """Merge points that are very close to each other.

    Looks at the distances between points. In each connected part the distance is capped at half of its shortest
    edge, so that small parts of a large model keep their shape. Changes points, and removes faces that collapse.
    Seams in normals and UVs stay seams. Refuses a length when the scene's unit is unknown.
    """

    slug: ClassVar[str] = "weld"
    example: ClassVar[dict[str, Any]] = {"distance": "0.1mm"}

    distance: Length = Field(0.0001, ge=0, description="Merge points closer than this, for example 0.1mm.")
    across: Literal["all", "matching"] = Field(
        "all",
        description="all: merge whatever normals, UVs and colours they have; matching: only where these are equal.",
    )

    def change(self, scene: Scene) -> Scene:
        unit = scene.unit_for("a welding distance") if self.distance else 1.0
        counts = {"points": 0, "faces": 0}
        stretches = Stretches(scene)

        def change(mesh: Mesh) -> Mesh:
            welded = self._welded(mesh, stretches.of(mesh).local(self.distance / unit))
            counts["points"] += mesh.point_count - welded.point_count
            counts["faces"] += mesh.face_count - welded.face_count
            return welded

        changed = scene.map_meshes(change)
        if not counts["points"]:
            return scene
        fell = f"; {count_of(counts['faces'], 'face')} collapsed" if counts["faces"] else ""
        remark = stretches.remark(scene.meshes) if self.distance else ""
        notes = [self.note(remark, kind="assumed")] if remark else []
        return changed.with_notes(self.note(f"{count_of(counts['points'], 'point')} welded{fell}"), *notes)

    def _welded(self, mesh: Mesh, distance: float) -> Mesh:
        key = _attribute_key(mesh) if self.across == "matching" else None
        representative = weld_representatives(mesh.points, mesh.face_start, mesh.corner_point, distance, key=key)
        kept = representative == np.arange(mesh.point_count)
        if kept.all():
            return mesh
        used_before = mesh.point_used
        moved = mesh.replace(corner_point=representative[mesh.corner_point])
        corner, face_start, face = drop_repeats(moved.face_start, moved.corner_point)
        if len(corner) != mesh.corner_count:
            moved = with_corners(moved, corner, face_start, face)
        # Loose points that fell on others go; those that stand alone stay.
        stays = kept & (moved.point_used | ~used_before)
        if mesh.point_sets:
            sets = {name: np.unique(representative[members]) for name, members in mesh.point_sets.items()}
            moved = moved.replace(point_sets=sets)
        return moved.keep_points(stays)


def _attribute_key(mesh: Mesh) -> NDArray[np.int32]:
    """(P,) equal for points whose corners all have one and the same set of values; unlike any other's else."""
    key = np.zeros(mesh.point_count, np.int64)
    for layer in mesh.layers:
        rows, number = np.unique(layer.values, axis=0, return_inverse=True)
        number = np.append(number.ravel(), len(rows))[layer.index]
        low, high = np.full(mesh.point_count, len(rows) + 1), np.full(mesh.point_count, -1)
        np.minimum.at(low, mesh.corner_point, number)
        np.maximum.at(high, mesh.corner_point, number)
        seam = low < high
        own = len(rows) + 2 + np.arange(mesh.point_count)
        _, key = np.unique(np.stack([key, np.where(seam, own, low)], 1), axis=0, return_inverse=True)
        key = key.ravel()
    return key.astype(np.int32)


class CleanUp(Step):
    """Remove what draws nothing, turn faces outward, close small holes and merge duplicates.

    Looks at faces without area, duplicate faces, loose points, face winding, holes, and duplicate materials and
    textures. Notes open borders, edges of more than two faces and places where the winding cannot be made
    consistent, with positions. Refuses a hole size when the scene's unit is unknown.
    """

    slug: ClassVar[str] = "clean-up"
    example: ClassVar[dict[str, Any]] = {"orient": "outward", "close_holes": "20cm"}

    flat_faces: bool = Field(True, description="Remove faces without area.")
    duplicate_faces: bool = Field(
        True,
        description="Remove duplicate faces: the same points, the same winding, the same material slot.",
    )
    loose_points: bool = Field(True, description="Remove points that no face uses.")
    orient: Literal["keep", "agree", "outward"] = Field(
        "outward",
        description="outward: make winding consistent and shells face outward; agree: consistent winding only"
        " (for rooms seen from inside); keep: change nothing.",
    )
    nested: Literal["solid", "cavity"] = Field(
        "solid", description="What a closed shell inside another is: solid as well, or the wall of a cavity."
    )
    close_holes: Length = Field(
        0.0, ge=0, description="Close holes whose outline is at most this long, for example 20cm."
    )
    merge_materials: bool = Field(
        True,
        description="Merge materials that differ only in name; those of plain grey, only in a number of the name.",
    )
    unused_slots: bool = Field(True, description="Remove material slots that no face uses.")

    def change(self, scene: Scene) -> Scene:
        limit = self.close_holes / scene.unit_for("the size of a hole") if self.close_holes else 0.0
        counts: dict[str, int] = {}
        notes: list[Note] = []
        # Materials first, so that faces of twins of one material count as having the same.
        merged = merged_materials(scene) if self.merge_materials else scene
        within = Stretches(merged)
        changed = merged.map_meshes(lambda mesh: self._cleaned(mesh, within.of(mesh).local(limit), counts, notes))
        _add(counts, "duplicate material", len(scene.materials) - len(merged.materials))
        _add(counts, "duplicate texture", len(scene.textures) - len(merged.textures))
        if self.unused_slots:
            changed = changed.map_meshes(lambda mesh: _without_unused_slots(mesh, counts))
        words = [
            count_of(number, what)
            for what, number in counts.items()
            if number and what not in ("turned face", "closed hole")
        ]
        done = []
        if words:
            done.append(self.note(f"dropped {', '.join(words)}"))
        if counts.get("turned face"):
            done.append(self.note(f"flipped {count_of(counts['turned face'], 'face')}"))
        if counts.get("closed hole"):
            done.append(self.note(f"closed {count_of(counts['closed hole'], 'hole')}"))
        return changed.with_notes(*done, *notes)

    def _cleaned(self, mesh: Mesh, limit: float, counts: dict[str, int], notes: list[Note]) -> Mesh:
        if self.flat_faces and mesh.face_count:
            flat = mesh.surface(flat_faces)
            _add(counts, "flat face", int(flat.sum()))
            mesh = _keep_faces(mesh, ~flat)
        if self.duplicate_faces and mesh.face_count:
            joined = mesh.surface(join_points)
            double = duplicate_faces(mesh.face_start, mesh.corner_point, joined, material_of_face(mesh))
            _add(counts, "duplicate face", int(double.sum()))
            mesh = _keep_faces(mesh, ~double)
        if self.loose_points and not mesh.point_used.all():
            _add(counts, "loose point", int((~mesh.point_used).sum()))
            mesh = mesh.keep_points(mesh.point_used)
        if self.orient != "keep" and mesh.face_count:
            mesh = self._oriented(mesh, counts, notes)
        if limit and mesh.face_count:
            mesh, closed = with_holes_closed(mesh, limit)
            _add(counts, "closed hole", closed)
        if mesh.face_count:
            notes += self._findings(mesh)
        return mesh

    def _oriented(self, mesh: Mesh, counts: dict[str, int], notes: list[Note]) -> Mesh:
        edges = mesh.surface(topology)
        facing = "outward" if self.orient == "outward" else "majority"
        arrays = mesh.points, mesh.face_start, mesh.corner_point
        found = facing_outward(*arrays, edges, facing=facing, nested=self.nested)
        if found.conflicts:
            text = f"{count_of(found.conflicts, 'edge')} where faces cannot agree (a one-sided surface)"
            notes.append(self.note(text, kind="lost", node=mesh.name))
        if not found.turned.any():
            return mesh
        _add(counts, "turned face", int(found.turned.sum()))
        return _with_turned_normals(mesh, found.turned)

    def _findings(self, mesh: Mesh) -> list[Note]:
        edges = mesh.surface(topology)
        notes = []
        coincident = int(coincident_faces(mesh.face_start, mesh.corner_point, mesh.surface(join_points)).sum())
        if self.duplicate_faces and coincident:
            text = f"{count_of(coincident, 'face')} on top of others, but facing the other way or of another material"
            notes.append(self.note(f"{text}; kept", kind="finding", node=mesh.name))
        rules: list[tuple[NDArray[Any], Callable[[int], str]]] = [
            (edges.non_manifold, lambda n: f"{count_of(n, 'edge')} shared by more than two faces"),
            (edges.contrary, lambda n: f"{count_of(n, 'edge')} between faces of opposite winding"),
            (edges.border, lambda n: count_of(n, "open edge")),
        ]
        for found, what in rules:
            if len(found):
                at = mesh.points[edges.edge_points[found]].mean(axis=1)
                places = "; ".join(_position(one) for one in at[:3]) + ("; ..." if len(at) > 3 else "")
                notes.append(self.note(f"{what(len(found))}, at {places}", kind="finding", node=mesh.name))
        return notes


def with_holes_closed(mesh: Mesh, limit: float) -> tuple[Mesh, int]:
    """The mesh with a face in every hole whose outline is at most ``limit`` long, and how many there were."""
    loops = holes(mesh.corner_point, mesh.face_start, mesh.surface(topology))
    closing = []
    for loop in loops:
        points = mesh.points[mesh.corner_point[loop]]
        if np.linalg.norm(points - np.roll(points, 1, axis=0), axis=1).sum() <= limit:
            closing.append(loop)
    if not closing:
        return mesh, 0
    corners = np.concatenate(closing)
    neighbour = mesh.surface(topology).corner_face[[loop[0] for loop in closing]]

    def extended(values: Any, extra: Any) -> Any:
        return None if values is None else np.concatenate([values, extra])

    layers = tuple(
        Layer.taking(
            layer.kind,
            layer.values,
            # Normals and tangents of the new faces are nobody's: they are made when they are needed.
            extended(layer.index, layer.index[corners] if layer.kind in ("uv", "color") else np.full(len(corners), -1)),
            layer.name,
        )
        for layer in mesh.layers
    )
    start = mesh.face_start[-1] + np.cumsum([len(loop) for loop in closing])
    closed = mesh.replace(
        face_start=np.concatenate([mesh.face_start, start]),
        corner_point=np.concatenate([mesh.corner_point, mesh.corner_point[corners]]),
        layers=layers,
        face_slot=extended(mesh.face_slot, None if mesh.face_slot is None else mesh.face_slot[neighbour]),
        face_smoothing=extended(mesh.face_smoothing, np.zeros(len(closing), np.int32)),
    )
    return closed, len(closing)


def _with_turned_normals(mesh: Mesh, turned: NDArray[np.bool_]) -> Mesh:
    """The mesh with some faces flipped, and with them the normals that looked the way they did.

    Normals that were right already, against the way their face looked, stay.
    """
    flipped = mesh.turned_round(turned)
    at = np.repeat(turned & _agrees_with_normals(mesh), mesh.face_size)
    layers = []
    for layer in flipped.layers:
        if layer.kind in ("normal", "tangent"):
            values = np.concatenate([layer.values, layer.values * np.float32(-1.0)])
            if layer.kind == "tangent":
                values[len(layer.values) :, :3] *= -1
            index = np.where(at & (layer.index >= 0), layer.index + len(layer.values), layer.index)
            layer = Layer.taking(layer.kind, values, index.astype(np.int32), layer.name)
        layers.append(layer)
    return flipped.replace(layers=tuple(layers))


def material_of_face(mesh: Mesh) -> NDArray[np.int32]:
    """(F,) the first slot with the material of each face."""
    first: dict[int, int] = {}
    number = [first.setdefault(id(slot), n) for n, slot in enumerate(mesh.slots)]
    return np.array(number, np.int32)[mesh.slot_of_face]


def _agrees_with_normals(mesh: Mesh) -> NDArray[np.bool_]:
    """(F,) whether a face looks the way its normals do; also where it has none."""
    layer = next(iter(mesh.layers_of("normal")), None)
    if layer is None:
        return np.ones(mesh.face_count, bool)
    _, facing = face_areas_and_normals(mesh.points, mesh.face_start, mesh.corner_point)
    along = (layer.at_corners(0.0) * np.repeat(facing, mesh.face_size, axis=0)).sum(axis=1)
    return np.asarray(np.add.reduceat(along, mesh.face_start[:-1]) >= 0)


def _without_unused_slots(mesh: Mesh, counts: dict[str, int]) -> Mesh:
    used = np.zeros(1, int) if mesh.face_slot is None else np.unique(mesh.face_slot)
    if len(used) == len(mesh.slots) or not len(used):
        return mesh
    _add(counts, "unused slot", len(mesh.slots) - len(used))
    number = np.zeros(len(mesh.slots), np.int32)
    number[used] = np.arange(len(used))
    return mesh.replace(slots=tuple(mesh.slots[slot] for slot in used), face_slot=number[mesh.slot_of_face])


def _keep_faces(mesh: Mesh, kept: NDArray[np.bool_]) -> Mesh:
    if kept.all():
        return mesh
    faces = np.flatnonzero(kept)
    corners, start = corners_of_faces(mesh.face_start, faces)
    return with_corners(mesh, corners, start, faces)


def _add(counts: dict[str, int], what: str, number: int) -> None:
    counts[what] = counts.get(what, 0) + number


def _position(point: NDArray[np.float64]) -> str:
    return "(" + ", ".join(f"{value:.4g}" for value in point) + ")"
