"""UVs of one surface taken over by another that lies near it, such as a lighter one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface
from zesty_otter.geometry.surface.normals import unit_rows

Ints = NDArray[np.int32]


@dataclass(frozen=True, eq=False)
class Charted:
    """A surface with charts: triangles (T, 3) of points (P, 3), their UVs (T, 3, 2), and the chart (T,) of each."""

    points: NDArray[np.float64]
    triangles: Ints
    uv: NDArray[np.float64]
    chart: Ints


def carried_over(
    source: Charted, points: NDArray[np.float64], triangles: Ints, corner_count: int, corners: Ints, face: Ints
) -> tuple[NDArray[np.float32], Ints]:
    """UVs for a surface from the nearest places of another: each polygon takes one chart, and its corners lie in it.

    Parameters
    ----------
    source : Charted
    points : (P, 3) float64
    triangles : (T, 3) int32
        Points.
    corner_count : int
    corners : (T, 3) int32
        The corners of the same triangles.
    face : (T,) int32
        The polygon of each.

    Returns
    -------
    values : (K, 2) float32
    index : (C,) int32
        -1 for corners of no triangle.
    """
    place = points[triangles]
    cross = np.cross(place[:, 1] - place[:, 0], place[:, 2] - place[:, 0])
    whole = Surface(source.points, source.triangles)
    normal = unit_rows(cross).astype(np.float64)
    away, nearest, _ = whole.nearest(place.mean(axis=1), normal)
    lost = ~np.isfinite(away)
    if lost.any():
        nearest[lost] = whole.nearest(place[lost].mean(axis=1))[1]
    # The chart of most of a polygon is that of all of it.
    area = np.linalg.norm(cross, axis=1)
    order = np.lexsort((area, face))
    last = np.r_[face[order][1:] != face[order][:-1], True]
    chart_of_face = np.zeros(int(face.max()) + 1, np.int32)
    chart_of_face[face[order][last]] = source.chart[nearest[order][last]]
    corner_chart, corner_point = np.full(corner_count, -1, np.int32), np.zeros(corner_count, np.int32)
    corner_chart[corners.ravel()] = np.repeat(chart_of_face[face], 3)
    corner_point[corners.ravel()] = triangles.ravel()
    used = np.flatnonzero(corner_chart >= 0)
    keys = corner_chart[used].astype(np.int64) * (len(points) + 1) + corner_point[used]
    _, first, number = np.unique(keys, return_index=True, return_inverse=True)
    index = np.full(corner_count, -1, np.int32)
    index[used] = number.ravel()
    at, of = corner_point[used[first]], corner_chart[used[first]]
    values = np.zeros((len(first), 2))
    for chart in np.unique(of):
        rows, mine = np.flatnonzero(of == chart), np.flatnonzero(source.chart == chart)
        _, triangle, shares = Surface(source.points, source.triangles[mine]).nearest(points[at[rows]])
        values[rows] = np.einsum("nk,nkj->nj", shares, source.uv[mine[triangle]])
    return values.astype(np.float32), index
