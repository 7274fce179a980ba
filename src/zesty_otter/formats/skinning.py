"""Meshes where the joints of a skeleton hold them: linear blend skinning.

Lewis, Cordner & Fong (2000), "Pose space deformation", section 2; glTF 2.0 specification, section 3.7.3; COLLADA
1.4.1 specification, chapter 4, "Skin deformation"; Pixar, "UsdSkel", "Skinning".
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Layer, Mesh, determinant, is_within, transformed


@dataclass(frozen=True)
class Weights:
    """What each point hangs on: one row for every point and joint that belong together.

    ``point`` and ``joint`` are (W,) numbers, ``share`` (W,) how much of the point the joint holds. Shares need not
    sum to 1.
    """

    point: NDArray[np.int64]
    joint: NDArray[np.int64]
    share: NDArray[np.float64]

    def blended(self, joints: NDArray[np.float64], count: int) -> NDArray[np.float64]:
        """(N, 3, 4) the matrix of each of ``count`` points; one that hangs on nothing keeps its place.

        ``joints`` (J, 4, 4) say what each joint does to the points that hang on it.
        """
        share = np.where(self.share > 0, self.share, 0.0)
        total = np.bincount(self.point, share, count)
        held = total > 0
        share = share / np.where(held, total, 1.0)[self.point]
        matrix = np.empty((count, 3, 4))
        for row, column in np.ndindex(3, 4):
            entry = np.bincount(self.point, share * joints[self.joint, row, column], count)
            matrix[:, row, column] = np.where(held, entry, float(row == column))
        return matrix


def moved(mesh: Mesh, matrix: NDArray[np.float64], world: NDArray[np.float64]) -> Mesh | None:
    """The mesh with every point moved by a matrix of its own, normals and tangents turned with them.

    Parameters
    ----------
    mesh
        As modelled.
    matrix
        (N, 3, 4) for each point, into the space its joints stand in.
    world
        (4, 4) from the space the mesh is to be in to that of the joints; only they say where it is.

    Returns
    -------
    Mesh or None
        None where a point would be nowhere.
    """
    if not abs(determinant(world)) > 0:
        return None
    with np.errstate(over="ignore", invalid="ignore"):
        points = np.einsum("nij,nj->ni", matrix[:, :, :3], mesh.points) + matrix[:, :, 3]
        back = np.asarray(np.linalg.inv(world), np.float64)
    if not (is_within(points) and is_within(back)):
        return None
    layers = tuple(
        _turned(one, matrix[:, :, :3], mesh.corner_point) if one.kind in ("normal", "tangent") else one
        for one in mesh.layers
    )
    found = mesh.replace(points=points, layers=layers)
    if not np.array_equal(back, np.eye(4)):
        found = transformed(found, back[:3, :3], back[:3, 3])
    return found if is_within(found.points) else None


def _turned(layer: Layer, matrix: NDArray[np.float64], corner_point: NDArray[np.int32]) -> Layer:
    """A layer of directions, each turned by the matrix of the point it stands at."""
    there = layer.index >= 0
    # Corners that share a value and a point go on to share one.
    key = layer.index[there].astype(np.int64) * len(matrix) + corner_point[there]
    pairs, rows = np.unique(key, return_inverse=True)
    value, point = np.divmod(pairs, len(matrix))
    values = layer.values[value].astype(np.float64)
    values[:, :3] = np.einsum("nij,nj->ni", matrix[point], values[:, :3])
    length = np.linalg.norm(values[:, :3], axis=1, keepdims=True)
    values[:, :3] /= np.where(length > 0, length, 1.0)
    index = np.full(len(layer.index), -1, np.int64)
    index[there] = np.where(length[rows, 0] > 0, rows, -1)
    return Layer.taking(layer.kind, values.astype(np.float32), index.astype(np.int32), layer.name)
