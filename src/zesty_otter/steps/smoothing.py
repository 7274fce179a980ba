"""Normals, smoothing groups and tangents."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.geometry.surface.normals import (
    continuous_edges,
    edge_bends,
    normals_all_smooth,
    normals_by_group,
    normals_over_soft_edges,
    smoothing_groups,
)
from zesty_otter.geometry.surface.tangents import tangents
from zesty_otter.geometry.surface.topology import Topology, topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Layer, Mesh, Note, Scene, count_of, shortened
from zesty_otter.polygons import triangulated
from zesty_otter.shading import with_all_normals, with_normals
from zesty_otter.steps.base import Step


class Normals(Step):
    """Decide which edges are smooth and which are hard.

    Looks at authored normals, smoothing groups or the angles between faces. Changes the normal at every corner and,
    if asked, the smoothing groups. ``keep`` leaves authored normals alone and fills in missing ones: from smoothing
    groups where there are any, else hard. Normals of faces without area point along (0, 0, 1).
    """

    slug: ClassVar[str] = "normals"
    example: ClassVar[dict[str, Any]] = {"by": "angle", "angle": 40}

    by: Literal["keep", "angle", "groups", "hard", "smooth"] = Field(
        "keep",
        description="keep: authored normals; angle: smooth up to an angle; groups: from smoothing groups; hard, smooth:"
        " everywhere.",
    )
    angle: float = Field(40.0, ge=0, le=180, description="Degrees up to which an edge is smooth, for by = angle.")
    weight: Literal["angle", "area", "angle-and-area", "none"] = Field(
        "angle",
        description="How much each face counts in a shared normal: by corner angle, area, both, or all the same.",
    )
    groups: Literal["keep", "make", "drop"] = Field(
        "keep", description="Smoothing groups: keep them, make them from the hard edges, or drop them."
    )

    def change(self, scene: Scene) -> Scene:
        counts = {"filled": 0, "made": 0, "groups": 0, "lost": 0, "without groups": 0}

        def change(mesh: Mesh) -> Mesh:
            return self._mesh(mesh, counts) if mesh.face_count else mesh

        changed = scene.map_meshes(change)
        notes: list[Note] = []
        if counts["made"]:
            notes.append(self.note(f"normals of {count_of(counts['made'], 'mesh')} made by {self.by}"))
        if counts["without groups"]:
            text = f"{count_of(counts['without groups'], 'mesh')} without smoothing groups; normals are kept."
            notes.append(self.note(f"{text} To smooth by angle instead, give degrees.", kind="assumed"))
        if counts["filled"]:
            notes.append(self.note(f"missing normals of {count_of(counts['filled'], 'mesh')} filled in"))
        if counts["groups"]:
            notes.append(self.note(f"smoothing groups of {count_of(counts['groups'], 'mesh')} made from hard edges"))
        if counts["lost"]:
            text = f"{count_of(counts['lost'], 'hard edge')} that end inside a surface are not in the groups"
            notes.append(self.note(text, kind="lost"))
        return changed.with_notes(*notes)

    def _mesh(self, mesh: Mesh, counts: dict[str, int]) -> Mesh:
        own = mesh.normals
        without_groups = self.by == "groups" and mesh.face_smoothing is None
        counts["without groups"] += without_groups
        if self.by == "keep" or without_groups:
            sound = own is not None and not own.has_holes
            if not sound:
                mesh = with_all_normals(mesh)
                counts["filled"] += 1
        else:
            mesh = with_new_normals(mesh, *self._made(mesh))
            counts["made"] += 1
        if self.groups == "drop":
            return mesh.replace(face_smoothing=None)
        if self.groups == "make":
            edges = mesh.surface(topology)
            groups, lost = smoothing_groups(mesh.face_start, edges, soft_edges(mesh, edges))
            counts["groups"] += 1
            counts["lost"] += lost
            return mesh.replace(face_smoothing=groups)
        return mesh

    def _made(self, mesh: Mesh) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
        arrays = mesh.points, mesh.face_start, mesh.corner_point
        edges = mesh.surface(topology)
        if self.by == "smooth":
            return normals_all_smooth(*arrays, edges.joined, weight=self.weight)
        if mesh.face_smoothing is not None and self.by == "groups":
            return normals_by_group(*arrays, edges.joined, mesh.face_smoothing)
        soft = np.zeros(len(edges.use), bool)
        if self.by == "angle":
            soft = edge_bends(*arrays, edges) <= self.angle + 1e-6
        return normals_over_soft_edges(*arrays, edges, soft, weight=self.weight)


class Tangents(Step):
    """Add the tangents that normal maps need.

    Looks at meshes whose materials have a normal map (or at all that have UVs), at their normals, and at the UV set
    of the normal map. Splits faces into triangles, because tangents depend on the diagonals, and adds the tangents.
    Refuses nothing; meshes without UVs are left alone and noted.
    """

    slug: ClassVar[str] = "tangents"
    example: ClassVar[dict[str, Any]] = {"of": "normal-mapped"}

    of: Literal["normal-mapped", "all"] = Field(
        "normal-mapped", description="Which meshes: those with a normal map in a material, or all with UVs."
    )
    existing: Literal["keep", "replace"] = Field(
        "keep", description="What happens to existing tangents: keep or replace them."
    )

    def change(self, scene: Scene) -> Scene:
        made, kept = 0, 0
        without: list[str] = []
        mixed: list[str] = []

        def change(mesh: Mesh) -> Mesh:
            nonlocal made, kept
            used = (mesh.slots[number] for number in mesh.used_slots)
            sets = list(
                dict.fromkeys(one.textures["normal"].uv_set for one in used if one and "normal" in one.textures)
            )
            if not mesh.face_count or (self.of == "normal-mapped" and not sets):
                return mesh
            if self.existing == "keep" and mesh.layers_of("tangent"):
                kept += 1
                return mesh
            uv_set = sets[0] if sets else 0
            if uv_set >= len(mesh.uv_sets):
                without.append(mesh.name)
                return mesh
            if len(sets) > 1:
                mixed.append(f"{mesh.name} (set {uv_set})")
            made += 1
            if not mesh.all_triangles:
                mesh = triangulated(mesh, "shortest-diagonal", np.ones(mesh.face_count, bool))
            return with_tangents(with_all_normals(mesh), uv_set)

        changed = scene.map_meshes(change)
        notes = [self.note(f"tangents of {count_of(made, 'mesh')} made")] if made else []
        if kept:
            notes.append(self.note(f"tangents of {count_of(kept, 'mesh')} were there already; kept"))
        if without:
            notes.append(self.note(f"no UVs for it, so no tangents: {shortened(without)}", kind="lost"))
        if mixed:
            text = f"normal maps on several UV sets, tangents follow one: {shortened(mixed)}"
            notes.append(self.note(text, kind="lost"))
        return changed.with_notes(*notes)


def with_tangents(mesh: Mesh, uv_set: int = 0) -> Mesh:
    """A triangle mesh with normals and UVs, with tangents that follow one of the UV sets."""
    assert mesh.normals is not None
    corners, _ = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
    values, index = tangents(
        mesh.points, mesh.corner_point, corners, mesh.normals.at_corners(), mesh.uv_sets[uv_set].at_corners()
    )
    layer = Layer.taking("tangent", values, index)
    return mesh.replace(layers=(*(one for one in mesh.layers if one.kind != "tangent"), layer))


def with_new_normals(mesh: Mesh, values: NDArray[np.float32], index: NDArray[np.int32]) -> Mesh:
    """The mesh with other normals, in the place where it had its own; tangents go, as they depend on them."""
    changed = with_normals(mesh, values, index)
    return changed.replace(layers=tuple(layer for layer in changed.layers if layer.kind != "tangent"))


def soft_edges(mesh: Mesh, edges: Topology) -> NDArray[np.bool_]:
    """(E,) the edges over which the mesh is shaded as one: where its normals are the same on both sides."""
    if mesh.normals is not None:
        layer = mesh.normals
        return continuous_edges(mesh.face_start, mesh.corner_point, edges, layer.values, layer.index, tolerance=1e-4)
    if mesh.face_smoothing is None:
        return np.zeros(len(edges.use), bool)
    group = mesh.face_smoothing[edges.corner_face]
    here, there = edges.first, np.maximum(edges.later[edges.first], 0)
    return np.asarray((edges.use == 2) & (group[here] == group[there]) & (group[here] > 0))
