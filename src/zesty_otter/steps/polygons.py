"""Polygons to triangles, and flat triangles back to polygons."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from zesty_otter.geometry.surface.flat import merge_flat, runs_straight
from zesty_otter.geometry.surface.normals import continuous_edges
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.model import Mesh, Scene, count_of
from zesty_otter.polygons import hard_to_fan, triangulated, with_corners
from zesty_otter.steps.base import Step


class Triangulate(Step):
    """Split every face into triangles, always in the same way.

    Looks at each face in its best-fitting plane, so that concave and slightly bent faces come out right. Changes
    faces with more than three corners. Refuses nothing.
    """

    slug: ClassVar[str] = "triangulate"
    example: ClassVar[dict[str, Any]] = {"diagonal": "shortest-diagonal"}

    diagonal: Literal["shortest-diagonal", "best-angle", "fixed"] = Field(
        "shortest-diagonal",
        description="Which diagonal is cut first: the shortest, the one that leaves the best angles, or"
        " always from the first corner (where it lies inside).",
    )
    keep_quads: bool = Field(False, description="Leave convex quads as they are.")

    def change(self, scene: Scene) -> Scene:
        split = 0

        def change(mesh: Mesh) -> Mesh:
            nonlocal split
            to_split = hard_to_fan(mesh) if self.keep_quads else mesh.face_size > 3
            split += int(to_split.sum())
            return triangulated(mesh, self.diagonal, to_split) if to_split.any() else mesh

        changed = scene.map_meshes(change)
        return changed.with_notes(self.note(f"{count_of(split, 'face')} split into triangles")) if split else scene


class MergeFlat(Step):
    """Merge coplanar faces into clean n-gons: the way back from triangles.

    Looks at neighbouring faces with the same material and smoothing group whose UVs continue across the edge
    between them. Changes them into polygons without holes, bridges or T-junctions, and removes points in the middle
    of straight edges. Refuses nothing; a flat region with a hole becomes two or more polygons.
    """

    slug: ClassVar[str] = "merge-flat"
    example: ClassVar[dict[str, Any]] = {"angle": 0.1}

    angle: float = Field(0.1, ge=0, lt=90, description="Maximum angle in degrees between the faces of one polygon.")

    def change(self, scene: Scene) -> Scene:
        before = sum(mesh.face_count for mesh in scene.meshes)
        changed = scene.map_meshes(lambda mesh: merged_flat(mesh, self.angle))
        after = sum(mesh.face_count for mesh in changed.meshes)
        return changed.with_notes(self.note(f"{before:,} faces merged into {after:,}")) if after < before else scene


def merged_flat(mesh: Mesh, angle: float) -> Mesh:
    """The mesh with faces that are flat together joined."""
    if mesh.face_count < 2:
        return mesh
    edges = mesh.surface(topology)
    here, there = edges.first, np.maximum(edges.later[edges.first], 0)
    one, other = edges.corner_face[here], edges.corner_face[there]
    mergeable = mesh.slot_of_face[one] == mesh.slot_of_face[other]
    if mesh.face_smoothing is not None:
        mergeable &= mesh.face_smoothing[one] == mesh.face_smoothing[other]
    for members in mesh.face_sets.values():
        inside = np.zeros(mesh.face_count, bool)
        inside[members] = True
        mergeable &= inside[one] == inside[other]
    carried = [layer for layer in mesh.layers if layer.kind in ("uv", "color", "normal")]
    for layer in carried:
        mergeable &= continuous_edges(
            mesh.face_start, mesh.corner_point, edges, layer.values, layer.index, tolerance=1e-6
        )
        mergeable &= (layer.index[here] < 0) == (layer.index[there] < 0)
    values = np.concatenate(
        [np.zeros((mesh.corner_count, 0), np.float32), *(one.at_corners() for one in carried)], axis=1
    )
    if carried:
        # Over the joined face every value must run on as it did over each of its parts.
        mergeable &= runs_straight(mesh.points, mesh.face_start, mesh.corner_point, edges, values)
    corner, face_start, face = merge_flat(
        mesh.points, mesh.face_start, mesh.corner_point, edges, mergeable, values, angle=angle
    )
    if len(face) == mesh.face_count:
        return mesh
    merged = with_corners(mesh, corner, face_start, face)
    used = merged.point_used
    left = used | ~mesh.point_used
    return merged if left.all() else merged.keep_points(left)
