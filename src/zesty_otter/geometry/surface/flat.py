"""Flat regions merged into clean n-gons: the way back from triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import _flat as kernels
from zesty_otter.geometry.surface import _topology as edge_kernels
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.geometry.surface.topology import Topology

_ROUNDING = 4e-6  # of values about one, over a face


def merge_flat(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    edges: Topology,
    mergeable: NDArray[np.bool_],
    attributes: NDArray[np.float32],
    *,
    angle: float,
) -> tuple[NDArray[np.int64], NDArray[np.int32], NDArray[np.int32]]:
    """Join faces that lie in one plane into polygons that are simple: without holes, bridges or T-junctions.

    Where a flat region has a hole it becomes two or more polygons. Points at which two joined outlines go
    straight on together are left out.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    edges : Topology
    mergeable : (E,) bool
        Edges that may go.
    attributes : (C, n) float32
        Values at the corners that must run straight where a point is left out.
    angle : float
        Degrees by which the faces of one polygon may turn away from the first of them.

    Returns
    -------
    corner : (C',) int64
        The corners that stay, face by face.
    face_start : (F' + 1,) int32
    face : (F',) int32
        A face each new face was made from.

    Examples
    --------
    >>> import numpy as np
    >>> from zesty_otter.geometry import topology
    >>> points = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float)
    >>> start, corner = np.array([0, 3, 6], np.int32), np.array([0, 1, 2, 0, 2, 3], np.int32)
    >>> edges = topology(points, start, corner)
    >>> anywhere, nothing = np.ones(len(edges.edge_points), bool), np.zeros((6, 0), np.float32)
    >>> kept, *_ = merge_flat(points, start, corner, edges, anywhere, nothing, angle=1.0)
    >>> corner[kept].tolist()
    [0, 1, 2, 3]
    """
    count = len(face_start) - 1
    _, normal = face_areas_and_normals(points, face_start, corner_point)
    least = float(np.cos(np.radians(angle)))
    region = np.full(count, -1, np.int32)
    mergeable = mergeable & (edges.use == 2) & edges.agrees
    edge_kernels.grow_regions(
        face_start,
        edges.corner_face,
        edges.corner_edge,
        edges.first,
        edges.later,
        mergeable,
        normal,
        least,
        region,
        np.empty(count, np.int32),
    )
    here = edges.first
    there = np.maximum(edges.later[here], 0)
    same = region[edges.corner_face[here]] == region[edges.corner_face[there]]
    edge_ok = mergeable & same
    corners = len(corner_point)
    after = np.arange(1, corners + 1, dtype=np.int32)
    after[face_start[1:] - 1] = face_start[:-1]
    before = np.empty(corners, np.int32)
    before[after] = np.arange(corners, dtype=np.int32)
    point = edges.joined[corner_point]
    point_corner = np.argsort(point, kind="stable").astype(np.int32)
    point_start = np.searchsorted(point[point_corner], np.arange(len(points) + 1)).astype(np.int32)
    parent = np.arange(count, dtype=np.int32)
    size = np.diff(face_start).astype(np.int32)
    alive = np.ones(corners, bool)
    kernels.join_faces(
        edges.corner_face,
        edges.corner_edge,
        edges.first,
        edges.later,
        edge_ok,
        point,
        point_start,
        point_corner,
        parent,
        size,
        after,
        before,
        alive,
    )
    root = parent
    while not np.array_equal(root, root[root]):
        root = root[root]
    is_joined = np.bincount(root, minlength=count) > 1
    kernels.drop_straight_corners(
        edges.corner_face,
        edges.corner_edge,
        edges.use,
        points,
        point,
        point_start,
        point_corner,
        attributes,
        parent,
        size,
        is_joined,
        after,
        before,
        alive,
        min(least, 1.0 - 1e-12),
    )
    corner, start, face = np.empty(corners, np.int64), np.empty(count + 1, np.int32), np.empty(count, np.int32)
    left = kernels.collect_faces(edges.corner_face, parent, after, alive, np.zeros(corners, bool), corner, start, face)
    return corner[: start[left]], start[: left + 1].copy(), face[:left].copy()


def runs_straight(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    edges: Topology,
    values: NDArray[np.float32],
    *,
    tolerance: float = 1e-3,
) -> NDArray[np.bool_]:
    """(E,) whether values (C, n) change alike over both faces of an edge, so that one face could carry them.

    How a value changes over a face is its gradient by the divergence theorem, exact for what is linear;
    gradients may differ by ``tolerance`` of their size, and by what rounding of 32-bit values makes of constant ones.
    """
    area, normal = face_areas_and_normals(points, face_start, corner_point)
    slope = np.empty((len(area), values.shape[1], 3), np.float32)
    kernels.face_slopes(points, face_start, corner_point, values, area, normal, slope)
    straight = np.ones(len(edges.use), bool)
    kernels.keep_equal_slopes(edges.first, edges.later, edges.corner_face, slope, area, tolerance, _ROUNDING, straight)
    return straight
