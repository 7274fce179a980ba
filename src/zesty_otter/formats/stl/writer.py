"""A scene to binary STL: triangles in world space, and nothing else."""

from __future__ import annotations

import numpy as np

from zesty_otter.formats.bare import as_one_mesh, frame_comment
from zesty_otter.formats.files import Encoded
from zesty_otter.formats.stl import _kernels as kernels
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Note, Scene


def encode(scene: Scene, name: str) -> Encoded:
    """The file of a scene."""
    mesh, notes = as_one_mesh(scene, "stl")
    lost = [what for what, there in (("normals", mesh.normals), ("UVs", mesh.uv_sets), ("smoothing groups",
            mesh.face_smoothing is not None), ("colours", mesh.layers_of("color"))) if there]  # fmt: skip
    if lost:
        notes.append(Note("lost", f"STL has no {', '.join(lost)}; they are left out", "stl"))
    corners, _ = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
    facets = np.empty((len(corners), kernels.ROW_BYTES), np.uint8)
    kernels.facets(mesh.points, mesh.corner_point, corners, facets)
    # Not beginning with the word that ASCII files begin with.
    head = f"comment {frame_comment(scene.frame)}".encode()[:80].ljust(80)
    return Encoded({name: [head, np.array([len(facets)], "<u4").view(np.uint8), facets]}, notes)
