"""The normals a mesh means to have: its own, and those that smoothing groups imply."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.corners import join_points
from zesty_otter.geometry.normals import filled_normals
from zesty_otter.model import Layer, Mesh


def with_normals(mesh: Mesh, values: NDArray[np.float32], index: NDArray[np.int32]) -> Mesh:
    """The mesh with these normals in place of its own."""
    made = Layer("normal", values, index)
    if mesh.normals is None:
        return mesh.replace(layers=(*mesh.layers, made))
    return mesh.replace(layers=tuple(made if layer is mesh.normals else layer for layer in mesh.layers))


def with_all_normals(mesh: Mesh) -> Mesh:
    """The mesh with a normal at every corner: its own, else from smoothing groups, else that of the face."""
    own = mesh.normals
    if own is not None and not own.has_holes:
        return mesh
    arrays = mesh.points, mesh.face_start, mesh.corner_point, mesh.surface(join_points)
    kept = None if own is None else (own.values, own.index)
    return with_normals(mesh, *filled_normals(*arrays, mesh.face_smoothing, kept))


def with_implied_normals(mesh: Mesh) -> Mesh:
    """As `with_all_normals`, but a mesh that says nothing of its shading is left without."""
    says_nothing = mesh.normals is None and mesh.face_smoothing is None
    return mesh if says_nothing else with_all_normals(mesh)
