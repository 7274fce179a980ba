"""Faces of a mesh made anew: of other corners, in triangles, or only as simple as plain readers take them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import triangulation
from zesty_otter.model import Mesh

BOX_FACES = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]]
"""The sides of a box whose corners are numbered along X first, then Y, then Z; outward in a right-handed space."""


def box_mesh(
    name: str, low: NDArray[np.float64], high: NDArray[np.float64], axes: NDArray[np.float64] | None = None,
    *, right_handed: bool = True,
) -> Mesh:  # fmt: skip
    """A box with hard edges, between two corners (3,) along ``axes``, by rows."""
    corners = np.array([[x, y, z] for z in (0, 1) for y in (0, 1) for x in (0, 1)])
    points = low + corners * (high - low)
    made = Mesh.from_faces(
        name, points if axes is None else points @ axes, BOX_FACES, face_smoothing=np.zeros(6, np.int32)
    )
    return made if right_handed else made.turned_round()


def hard_to_fan(mesh: Mesh) -> NDArray[np.bool_]:
    """(F,) the faces that plain readers split wrongly: of more than four corners, or not convex."""
    return triangulation.hard_to_fan(mesh.points, mesh.face_start, mesh.corner_point)


def with_corners(mesh: Mesh, corners: Any, face_start: Any, face: Any) -> Mesh:
    """The mesh with faces made of some of its corners; ``face`` (F',) says which old face each comes from."""
    return mesh.with_index(
        lambda index: index[corners],
        face_start=face_start,
        face_slot=None if mesh.face_slot is None else mesh.face_slot[face],
        face_smoothing=None if mesh.face_smoothing is None else mesh.face_smoothing[face],
        face_sets={name: np.flatnonzero(np.isin(face, members)) for name, members in mesh.face_sets.items()},
    )


def triangulated(mesh: Mesh, diagonal: str, to_split: np.ndarray[Any, Any]) -> Mesh:
    """The mesh with the faces in ``to_split`` (F,) turned into triangles, in place in the order of faces."""
    triangles, face = triangulation.triangulate(mesh.points, mesh.face_start, mesh.corner_point, diagonal=diagonal)
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
    return with_corners(mesh, corners, np.concatenate([[0], np.cumsum(size)]), face)
