"""Polygons to triangles."""

from __future__ import annotations

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from zesty_otter.geometry.triangulation import triangulate
from zesty_otter.model import Layer, Mesh, Scene
from zesty_otter.steps.base import Step


class Triangulate(Step):
    """Split every face into triangles, always the same way.

    Looks at each face in the plane that fits it best, so that concave and slightly bent faces come out
    right. Changes faces with more than three corners; refuses nothing.
    """

    slug: ClassVar[str] = "triangulate"
    example: ClassVar[dict[str, Any]] = {"diagonal": "shortest-diagonal"}

    diagonal: Literal["shortest-diagonal", "best-angle", "fixed"] = Field(
        "shortest-diagonal",
        description="Which diagonal is cut first: the shortest, the one that leaves the best angles, or"
        " always from the first corner (where it lies inside).",
    )
    keep_quads: bool = Field(False, description="Leave faces of four corners as they are.")

    def apply(self, scene: Scene) -> Scene:
        split = 0

        def change(mesh: Mesh) -> Mesh:
            nonlocal split
            size = mesh.face_size
            to_split = size > (4 if self.keep_quads else 3)
            split += int(to_split.sum())
            return triangulated(mesh, self.diagonal, to_split) if to_split.any() else mesh

        changed = scene.map_meshes(change)
        return changed.with_notes(self.note(f"{split:,} faces split into triangles")) if split else scene


def triangulated(mesh: Mesh, diagonal: str, to_split: np.ndarray[Any, Any]) -> Mesh:
    """The mesh with the faces in ``to_split`` (F,) turned into triangles, in place in the order of faces."""
    triangles, face = triangulate(mesh.points, mesh.face_start, mesh.corner_point, diagonal=diagonal)
    size = np.full(len(face), 3)
    if to_split.all() or (mesh.face_size[~to_split] == 3).all():
        corners = triangles.ravel()
    else:
        # A face that is kept stands where its first triangle would.
        first_row = mesh.face_start[:-1] - 2 * np.arange(mesh.face_count)
        kept_row = np.ones(len(face), bool)
        kept_row[~to_split[face]] = False
        kept_row[first_row[~to_split]] = True
        size[first_row[~to_split]] = mesh.face_size[~to_split]
        face, size = face[kept_row], size[kept_row]
        start = np.concatenate([[0], np.cumsum(size)])
        corners = np.empty(start[-1], np.int64)
        split_row = to_split[face]
        corners[np.repeat(split_row, size)] = triangles[kept_row][split_row].ravel()
        whole = ~to_split[mesh.corner_face]
        corners[np.repeat(~split_row, size)] = np.flatnonzero(whole)
    layers = tuple(Layer(one.kind, one.values, one.index[corners], one.name) for one in mesh.layers)
    return mesh.replace(
        face_start=np.concatenate([[0], np.cumsum(size)]),
        corner_point=mesh.corner_point[corners],
        layers=layers,
        face_slot=None if mesh.face_slot is None else mesh.face_slot[face],
        face_smoothing=None if mesh.face_smoothing is None else mesh.face_smoothing[face],
        face_sets={name: np.flatnonzero(np.isin(face, members)) for name, members in mesh.face_sets.items()},
    )
