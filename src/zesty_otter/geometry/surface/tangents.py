"""Tangents for normal maps."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import _normals as kernels
from zesty_otter.geometry.surface.corners import join_points, split_vertices
from zesty_otter.geometry.surface.topology import topology


def tangents(
    points: NDArray[np.float64],
    corner_point: NDArray[np.int32],
    triangles: NDArray[np.int32],
    normal: NDArray[np.float32],
    uv: NDArray[np.float32],
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """The tangent at every corner of a triangle mesh.

    Corners share a tangent when their triangles share an edge with equal position, normal and UV at both
    ends and their UVs wind alike. It is the average of the triangles' directions of growing U, each laid
    into the plane of the corner's normal and weighted by the corner's angle in that plane.

    Parameters
    ----------
    points : (P, 3) float64
    corner_point : (C,) int32
    triangles : (T, 3) int32
        Corner numbers.
    normal : (C, 3) float32
        Unit normals.
    uv : (C, 2) float32
        With V growing upward in the image.

    Returns
    -------
    values : (K, 4) float32
        Unit tangents and a sign: the bitangent is ``sign * cross(normal, tangent)``.
    index : (C,) int32
        The row of each corner; -1 for corners of no triangle.

    References
    ----------
    M. S. Mikkelsen (2008), Simulation of wrinkled surfaces revisited. Master's thesis, University of
    Copenhagen, which glTF 2.0 (section 3.7.2.1) names as the standard.

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
    >>> corner, up = np.arange(3, dtype=np.int32), np.tile(np.float32((0, 0, 1)), (3, 1))
    >>> uv = np.array([(0, 0), (1, 0), (0, 1)], np.float32)
    >>> values, index = tangents(points, corner, corner[None], up, uv)
    >>> values[index[0]].tolist()
    [1.0, 0.0, 0.0, 1.0]
    """
    triangles = np.ascontiguousarray(triangles, np.int32)
    tangent, side = np.empty((len(triangles), 3)), np.empty(len(triangles), np.int8)
    kernels.triangle_tangents(points, corner_point, triangles, uv, tangent, side)
    vertex, first_corner = split_vertices(
        triangles,
        np.zeros(len(triangles), np.int32),
        join_points(points)[corner_point],
        [(normal, np.arange(len(corner_point), dtype=np.int32)), (uv, np.arange(len(corner_point), dtype=np.int32))],
    )
    # Edges between vertices, not points: a seam in normal or UV is a border here. Vertices are told apart
    # by numbers on a line, which stand for positions that differ.
    number = np.zeros((len(first_corner), 3))
    number[:, 0] = np.arange(len(first_corner))
    edges = topology(number, np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32), vertex.ravel())
    parent = np.arange(3 * len(triangles), dtype=np.int32)
    kernels.unite_tangent_corners(triangles, vertex.ravel(), edges.first, edges.later, side, parent)
    row = np.full(3 * len(triangles), -1, np.int32)
    count = kernels.number_roots(parent, row)
    total = np.zeros((count, 3))
    kernels.sum_tangents(points, corner_point, triangles, normal, tangent, side, row, total)
    values, index = np.empty((count, 4), np.float32), np.full(len(corner_point), -1, np.int32)
    kernels.finish_tangents(triangles, normal, row, total, side, values, index)
    return values, index
