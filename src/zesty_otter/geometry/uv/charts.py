"""Surfaces divided into charts, each of which can be laid out flat."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.topology import Topology, topology
from zesty_otter.geometry.uv import _charts as kernels

Ints = NDArray[np.int32]

FREE, FEATURE, KEPT, JOINED = range(4)

_BEND = 0.06  # how far normals may leave a circle, as a variance
_TURN = 0.28  # how much shorter than one the mean normal of what looks to one side may be
_SMALL = 2e-3  # of the area: what is smaller may go over a feature edge
_BULGE = 0.5, 2.5  # radians at a point, and in a chart, that slits are closed over


@dataclass(frozen=True, eq=False)
class Sheet:
    """A surface as charts are made of it.

    Parameters
    ----------
    points : (P, 3) float64
    corners : (T, 3) int32
        Corner numbers of its triangles.
    place : (T, 3) int32
        Joined points.
    face : (T,) int32
        The polygon of each; no chart ends within one.
    edges : Topology
        Of the triangles.
    sides : (E, 2) int32
        Where in ``place``, laid out in a row, the two triangles of each edge begin it; -1 where there is none.
    area, normal : (T,), (T, 3) float64
    """

    points: NDArray[np.float64]
    corners: Ints
    place: Ints
    face: Ints
    edges: Topology
    sides: Ints
    area: NDArray[np.float64]
    normal: NDArray[np.float64]

    @classmethod
    def of(cls, points: NDArray[np.float64], corner_point: Ints, corners: Ints, face: Ints) -> Sheet:
        """The sheet of triangles (T, 3) of corners, each from a polygon (T,)."""
        own = np.ascontiguousarray(corner_point[corners].ravel(), np.int32)
        start = np.arange(0, 3 * len(corners) + 1, 3, dtype=np.int32)
        edges = topology(points, start, own)
        if (edges.use > 2).any():
            edges = _apart_where_sheets_touch(edges, own, start)
        place = edges.joined[own].reshape(-1, 3)
        sides = np.stack([edges.first, edges.later[edges.first]], axis=1).astype(np.int32)
        a, b, c = (points[place[:, k]] for k in range(3))
        cross = np.cross(b - a, c - a)
        twice = np.linalg.norm(cross, axis=1)
        normal = cross / np.where(twice > 0, twice, 1.0)[:, None]
        return cls(points, np.ascontiguousarray(corners), place, face, edges, sides, twice / 2, normal)

    def ends(self, edges: NDArray[Any]) -> tuple[Ints, Ints, Ints, Ints]:
        """The corners at both ends of inner edges: of one side, and those of the other side at the same points."""
        flat = self.corners.ravel()
        one, other = self.sides[edges].T
        after_one, after_other = one - one % 3 + (one + 1) % 3, other - other % 3 + (other + 1) % 3
        return flat[one], flat[after_one], flat[after_other], flat[other]

    @property
    def whole(self) -> NDArray[np.bool_]:
        """(E,) the edges between two triangles that agree on what is outside."""
        return (
            (self.edges.use == 2) & self.edges.agrees & (self.edges.edge_points[:, 0] != self.edges.edge_points[:, 1])
        )

    def apart(self, corner_keys: Sequence[NDArray[Any]], face_keys: Sequence[NDArray[Any]]) -> NDArray[np.bool_]:
        """(E,) the edges along which numbers of corners (C,) or of polygons (F,) differ."""
        found = np.zeros(len(self.edges.use), bool)
        inner = np.flatnonzero(self.whole)
        one, one_after, other, other_after = self.ends(inner)
        for key in corner_keys:
            found[inner] |= (key[one] != key[other]) | (key[one_after] != key[other_after])
        pairs = self.face[self.triangle_pairs[inner]]
        for key in face_keys:
            found[inner] |= key[pairs[:, 0]] != key[pairs[:, 1]]
        return found

    @property
    def triangle_pairs(self) -> Ints:
        """(E, 2) the triangles on both sides of each edge; the same twice on a border."""
        pairs = self.sides // 3
        return np.where(self.sides < 0, pairs[:, :1], pairs).astype(np.int32)

    @property
    def bend(self) -> NDArray[np.float64]:
        """(E,) the angle between the normals of the two triangles of each edge."""
        one, other = self.triangle_pairs.T
        flat = (self.area[one] <= 0) | (self.area[other] <= 0)
        dot = np.einsum("ij,ij->i", self.normal[one], self.normal[other])
        return np.where(flat, 0.0, np.arccos(np.clip(dot, -1.0, 1.0)))

    @property
    def bulge(self) -> NDArray[np.float64]:
        """(P,) how far the angles at each point are from a full turn."""
        total = np.zeros(len(self.points))
        for k in range(3):
            at = self.points[self.place[:, k]]
            one, other = self.points[self.place[:, k - 2]] - at, self.points[self.place[:, k - 1]] - at
            long = np.linalg.norm(one, axis=1) * np.linalg.norm(other, axis=1)
            cosine = np.einsum("ij,ij->i", one, other) / np.where(long > 0, long, 1.0)
            angle = np.where(long > 0, np.arccos(np.clip(cosine, -1.0, 1.0)), 0.0)
            total += np.bincount(self.place[:, k], angle, len(self.points))
        return 2 * math.pi - total


@dataclass(frozen=True, eq=False)
class Charts:
    """``chart`` (T,) of each triangle, numbered by the first, and ``joined`` (E,) the edges that are no seam."""

    chart: Ints
    joined: NDArray[np.bool_]


def _apart_where_sheets_touch(edges: Topology, own: Ints, start: Ints) -> Topology:
    """The edges of a surface whose points are one only across edges of two triangles, or where they are one anyway.

    So sheets that lie on each other, such as the two sides of a leaf, hang together each for itself.
    """
    parent = np.arange(len(edges.joined), dtype=np.int32)
    inner = np.flatnonzero(edges.use == 2)
    one, other = edges.first[inner], edges.later[edges.first[inner]]
    after_one, after_other = one - one % 3 + (one + 1) % 3, other - other % 3 + (other + 1) % 3
    across = edges.agrees[inner]
    for a, b in ((one, np.where(across, after_other, other)), (after_one, np.where(across, other, after_other))):
        kernels.unite_pairs(np.ascontiguousarray(np.stack([own[a], own[b]], axis=1), np.int32), parent)
    roots = parent_roots(parent)
    # Points are told apart by numbers on a line.
    number = np.zeros((len(roots), 3))
    number[:, 0] = roots
    found = topology(number, start, own)
    return replace(found, joined=roots)


def charts_of(
    sheet: Sheet,
    *,
    feature_angle: float,
    seams: NDArray[np.bool_],
    within: Charts | None = None,
    again: NDArray[np.bool_] | None = None,
    strict: float = 1.0,
    most: NDArray[np.float64] | None = None,
) -> Charts:
    """Divides a surface into charts that are discs and nearly flat, nearly cylinders or cones, or look to one side.

    Parameters
    ----------
    sheet : Sheet
    feature_angle : float
        In radians; edges that are sharper are seams, but for small things.
    seams : (E,) bool
        Edges that are seams whatever is on both sides.
    within : Charts, optional
        Charts that stay as they are, but for the triangles of ``again`` (T,), which are divided anew.
    strict : float
        How much flatter charts have to be than usual.
    most : (T,) float64, optional
        The largest area of the chart that each triangle gets into.

    References
    ----------
    M. Garland, A. Willmott and P. Heckbert (2001), Hierarchical face clustering on polygonal surfaces.
    D. Julius, V. Kraevoy and A. Sheffer (2005), D-charts: quasi-developable mesh segmentation.
    """
    edges, pairs = sheet.edges, sheet.triangle_pairs
    count = len(sheet.place)
    bend = sheet.bend
    whole = sheet.whole
    state = np.where(bend > feature_angle, FEATURE, FREE).astype(np.uint8)
    state[~whole | seams] = KEPT
    if within is not None and again is not None:
        state[~again[pairs].all(axis=1) | (within.chart[pairs[:, 0]] != within.chart[pairs[:, 1]])] = KEPT
        state[within.joined & ~again[pairs[:, 0]]] = JOINED
    state[_diagonals(sheet, whole)] = JOINED
    before = state == JOINED
    parent = np.arange(count, dtype=np.int32)
    kernels.unite_pairs(pairs[before], parent)
    kernels.unite_pairs(_of_one_polygon(sheet), parent)
    start, around = _around(edges.edge_points, len(sheet.points))
    valence = np.bincount(edges.edge_points[~before].ravel(), minlength=len(sheet.points)).astype(np.int32)
    span = sheet.points[edges.edge_points[:, 1]] - sheet.points[edges.edge_points[:, 0]]
    length = np.sqrt(np.einsum("ij,ij->i", span, span))
    known = _known(sheet, parent, length, pairs, before, most)
    arcs = np.stack([length, length * (1 - np.cos(bend))], axis=1)
    room = np.empty((6, len(length)), np.int32)
    kernels.join_charts(
        pairs, edges.edge_points, start, around, _BEND / strict, min(_TURN / strict, 1.0),
        _SMALL * float(sheet.area.sum()) / strict, known, parent, state, valence, arcs,
        np.empty((len(length), 2), np.int32), room[0], room[1], room[2], room[3], np.empty(len(length)), room[4],
        room[5],
    )  # fmt: skip
    bulge = sheet.bulge
    whole_turn = np.diff(start) > 0
    usual = float(np.sqrt(np.mean(bulge[whole_turn] ** 2))) if whole_turn.any() else 0.0
    noise = 6 * usual * float(whole_turn.sum()) ** 0.25
    roots = parent_roots(parent)
    inner = (valence == 0) & whole_turn
    held = np.zeros(count)
    at = np.flatnonzero(inner)
    np.add.at(held, roots[pairs[around[start[:-1][at]], 0]], bulge[at])
    # What a chart would hold with all its slits closed: if that is little, so is what they are needed for.
    in_all, most_bulge = _held_when_closed(sheet, roots, bulge), _BULGE[1] + noise
    allowed = np.where(in_all > most_bulge, most_bulge, np.inf)
    kernels.close_slits(
        edges.edge_points, pairs, start, around, bulge, max(_BULGE[0], min(5 * usual, 2.5)), allowed, parent,
        held, state, valence,
    )  # fmt: skip
    return Charts(_numbered(parent), state == JOINED)


def _held_when_closed(sheet: Sheet, roots: Ints, bulge: NDArray[np.float64]) -> NDArray[np.float64]:
    """(T,) by root, the sum of the bulges at all points that have one chart around them and no border."""
    count = len(bulge)
    least, most = np.full(count, len(roots), np.int32), np.full(count, -1, np.int32)
    for k in range(3):
        np.minimum.at(least, sheet.place[:, k], roots)
        np.maximum.at(most, sheet.place[:, k], roots)
    border = np.zeros(count, bool)
    border[sheet.edges.edge_points[~sheet.whole].ravel()] = True
    at = np.flatnonzero((least == most) & ~border)
    return np.asarray(np.bincount(most[at], bulge[at], len(roots)), np.float64)


def corner_classes(sheet: Sheet, joined: NDArray[np.bool_], corner_count: int) -> tuple[Ints, int]:
    """(C,) the vertex of each corner when surfaces are cut along all edges but those joined, and how many there are.

    Corners of no triangle are -1.
    """
    parent = np.arange(corner_count, dtype=np.int32)
    kernels.unite_corners(joined.astype(np.uint8) * JOINED, sheet.sides, sheet.corners, parent)
    roots = parent_roots(parent)
    used = np.zeros(corner_count, bool)
    used[sheet.corners.ravel()] = True
    number = np.full(corner_count, -1, np.int32)
    is_root = np.zeros(corner_count, bool)
    is_root[roots[used]] = True
    number[is_root] = np.arange(int(is_root.sum()), dtype=np.int32)
    return np.where(used, number[roots], -1).astype(np.int32), int(is_root.sum())


def islands(sheet: Sheet, corner_keys: Sequence[NDArray[Any]]) -> Charts:
    """The charts that a surface has already: what hangs together over edges along which numbers of corners agree."""
    joined = sheet.whole & ~sheet.apart(corner_keys, ())
    joined |= _diagonals(sheet, sheet.whole)
    parent = np.arange(len(sheet.place), dtype=np.int32)
    kernels.unite_pairs(sheet.triangle_pairs[joined], parent)
    kernels.unite_pairs(_of_one_polygon(sheet), parent)
    return Charts(_numbered(parent), joined)


def parent_roots(parent: Ints) -> Ints:
    """(N,) the root of everything in a union-find."""
    while True:
        above = parent[parent]
        if np.array_equal(above, parent):
            return above
        parent = above


def _diagonals(sheet: Sheet, whole: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(E,) the edges that lie within a polygon, but for bridges to its holes."""
    found = np.zeros(len(whole), bool)
    at = np.flatnonzero(whole)
    one, one_after, other, other_after = sheet.ends(at)
    first, second = sheet.face[sheet.triangle_pairs[at]].T
    found[at] = (first == second) & (one == other) & (one_after == other_after)
    return found


def _of_one_polygon(sheet: Sheet) -> Ints:
    """(N, 2) triangles that follow each other in a polygon: no chart parts them, whatever else meets at their edge."""
    same = np.flatnonzero(sheet.face[1:] == sheet.face[:-1])
    return np.stack([same, same + 1], axis=1).astype(np.int32)


def _around(edge_points: Ints, count: int) -> tuple[Ints, Ints]:
    """The edges at each point: where they begin, and which."""
    order = np.argsort(edge_points.ravel(), kind="stable")
    start = np.zeros(count + 1, np.int32)
    start[1:] = np.cumsum(np.bincount(edge_points.ravel(), minlength=count))
    return start, (order // 2).astype(np.int32)


def _known(
    sheet: Sheet,
    parent: Ints,
    length: NDArray[np.float64],
    pairs: Ints,
    joined: NDArray[np.bool_],
    most: NDArray[np.float64] | None,
) -> NDArray[np.float64]:
    """What `join_charts` knows of each triangle, added up at the roots."""
    count = len(sheet.place)
    known = np.zeros((count, 12))
    n, area = sheet.normal, sheet.area
    known[:, 0] = area
    known[:, 1:4] = area[:, None] * n
    for column, (i, j) in enumerate(((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2)), start=4):
        known[:, column] = area * n[:, i] * n[:, j]
    known[:, 10] = np.bincount(pairs[~joined].ravel(), np.repeat(length[~joined], 2), count)
    known[:, 11] = np.inf if most is None else most
    if joined.any():
        roots = parent_roots(parent)
        added = np.zeros((count, 12))
        for column in range(11):
            added[:, column] = np.bincount(roots, known[:, column], count)
        added[:, 11] = np.inf
        np.minimum.at(added[:, 11], roots, known[:, 11])
        known = added
    return known


def _numbered(parent: Ints) -> Ints:
    roots = parent_roots(parent)
    _, number = np.unique(roots, return_inverse=True)
    return number.astype(np.int32).ravel()


def rims(charts: Charts, sheet: Sheet) -> tuple[Ints, Ints]:
    """The sides of charts: where in the corners of triangles, in a row, each begins and ends (B, 2), and its chart."""
    at = np.arange(sheet.place.size, dtype=np.int32)
    inner = np.zeros(len(at), bool)
    inner[sheet.sides[charts.joined].ravel()] = True
    at = at[~inner]
    return np.stack([at, at - at % 3 + (at + 1) % 3], axis=1), charts.chart[at // 3]
