"""Flat regions merged into clean n-gons: the way back from triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry import _flat as loops
from zesty_otter.geometry.normals import face_areas_and_normals
from zesty_otter.geometry.topology import Topology


def merge_flat(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    edges: Topology,
    mergeable: NDArray[np.bool_],
    attributes: NDArray[np.float64],
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
    attributes : (C, n) float64
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
    """
    count = len(face_start) - 1
    _, normal = face_areas_and_normals(points, face_start, corner_point)
    least = float(np.cos(np.radians(angle)))
    region = np.full(count, -1, np.int32)
    mergeable = mergeable & (edges.use == 2) & edges.agrees
    loops.grow_regions(
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
    loops.join_faces(
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
    loops.drop_straight_corners(
        edges.corner_face,
        edges.corner_edge,
        edges.use,
        points,
        point,
        point_start,
        point_corner,
        np.ascontiguousarray(attributes, np.float64),
        parent,
        size,
        is_joined,
        after,
        before,
        alive,
        min(least, 1.0 - 1e-12),
    )
    corner, start, face = np.empty(corners, np.int64), np.empty(count + 1, np.int32), np.empty(count, np.int32)
    left = loops.collect_faces(edges.corner_face, parent, after, alive, np.zeros(corners, bool), corner, start, face)
    return corner[: start[left]], start[: left + 1].copy(), face[:left].copy()


def attribute_slopes(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    values: NDArray[np.float64],
) -> NDArray[np.float64]:
    """How a value changes over each face, per length along x, y and z, by the divergence theorem.

    Parameters
    ----------
    values : (C, n) float64
        Exact where they are linear over a plane face.

    Returns
    -------
    (F, n, 3) float64
        Zero for faces without area.
    """
    area, normal = face_areas_and_normals(points, face_start, corner_point)
    after = np.arange(1, len(corner_point) + 1)
    after[face_start[1:] - 1] = face_start[:-1]
    size = np.diff(face_start)
    edge = points[corner_point[after]] - points[corner_point]
    outward = np.cross(edge, np.repeat(normal, size, axis=0))
    middle = (values + values[after]) / 2
    flow = np.add.reduceat(middle[:, :, None] * outward[:, None, :], face_start[:-1], axis=0)
    return np.asarray(flow / np.where(area > 0, area, np.inf)[:, None, None])
