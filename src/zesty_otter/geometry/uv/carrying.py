"""UVs of one surface taken over by another that lies near it, such as a lighter one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface
from zesty_otter.geometry.surface.normals import unit_rows

Ints = NDArray[np.int32]

_TORN, _CRUSHED = 2.0, 0.1  # more than so many times as long as it should be, less than so much of the area


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

    A polygon over a seam, whose corners would come to lie at both ends of its chart, is laid out beside its middle.

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
    of_face = np.zeros(int(face.max()) + 1, np.int64)
    of_face[face[order][last]] = nearest[order][last]
    rows = np.flatnonzero(_torn(source, of_face[face], place, area, values[index[corners]], face))
    beside, told = _beside(source, of_face[face[rows]], place[rows])
    rows, beside = rows[told], beside[told]
    index[corners[rows].ravel()] = len(values) + np.arange(3 * len(rows), dtype=np.int32)
    return np.concatenate([values, beside.reshape(-1, 2)]).astype(np.float32), index


def _torn(
    source: Charted, near: NDArray[np.int64], place: NDArray[np.float64], area: NDArray[np.float64],
    uv: NDArray[np.float64], face: Ints,
) -> NDArray[np.bool_]:  # fmt: skip
    """(T,) the triangles of polygons that are torn apart, crushed or turned over in their UVs.

    Beside those they are ``near`` an edge is far longer there, or the area far smaller; ``area`` (T,) is twice theirs.
    """
    there, own = source.points[source.triangles[near]], source.uv[near]
    density = _around(own) / np.maximum(_around(there), 1e-300)
    edges = np.linalg.norm(np.roll(uv, -1, axis=1) - uv, axis=2)
    wanted = np.linalg.norm(np.roll(place, -1, axis=1) - place, axis=2) * density[:, None]
    crushed = _signed(uv) * np.sign(_signed(own)) < _CRUSHED * area * density**2
    bad = (edges > _TORN * wanted + 1e-6).any(axis=1) | crushed
    torn = np.zeros(int(face.max()) + 1, bool)
    torn[face[bad]] = True
    return torn[face]


def _signed(uv: NDArray[np.float64]) -> NDArray[np.float64]:
    """(T,) twice the areas of triangles (T, 3, 2), below 0 where they run clockwise."""
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    return np.asarray(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])


def _around(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """(T,) how long the three edges of triangles (T, 3, n) are together."""
    return np.asarray(np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2).sum(axis=1))


def _beside(
    source: Charted, near: NDArray[np.int64], place: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """(T, 3, 2) UVs of triangles as those that they are ``near`` go on beyond their edges, but not off their page; and
    (T,) where these have an area that tells.
    """
    there, own = source.points[source.triangles[near]], source.uv[near]
    a, b, off = there[:, 1] - there[:, 0], there[:, 2] - there[:, 0], place - there[:, :1]
    aa, ab, bb = (np.einsum("ij,ij->i", *pair) for pair in ((a, a), (a, b), (b, b)))
    area = aa * bb - ab * ab
    told = area > 1e-9 * aa * bb
    along_a, along_b = np.einsum("ikj,ij->ik", off, a), np.einsum("ikj,ij->ik", off, b)
    per = (1.0 / np.where(told, area, 1.0))[:, None]
    s = (bb[:, None] * along_a - ab[:, None] * along_b) * per
    t = (aa[:, None] * along_b - ab[:, None] * along_a) * per
    made = own[:, :1] + s[..., None] * (own[:, 1:2] - own[:, :1]) + t[..., None] * (own[:, 2:] - own[:, :1])
    page = np.floor(own.mean(axis=1, keepdims=True))
    return np.clip(made, page, page + 1), told
