"""Fewer triangles for the same shape, as many times over as is asked, in one pass."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.simplify import _collapse as kernels
from zesty_otter.geometry.simplify.settling import Neighbourhood, settled
from zesty_otter.geometry.surface.corners import join_points, split_vertices
from zesty_otter.geometry.surface.order import along_curve

_VALENCE = 24
_TRIES = 1 << 16
_BORDER, _SEAM = 10.0, 3.0


@dataclass(frozen=True, eq=False)
class Attribute:
    """Numbers at corners that are to be carried along.

    Parameters
    ----------
    values : (K, n) float32
    index : (T, 3) int32
        The row at each corner of each triangle.
    weight : float
        The length that a change by one is as bad as, in the unit of the points; 0 lets it follow without a say.
    """

    values: NDArray[np.float32]
    index: NDArray[np.int32]
    weight: float


@dataclass(frozen=True, eq=False)
class Reduced:
    """A mesh with fewer triangles.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    source : (T,) int32
        The triangle each was before, for what belongs to faces.
    attributes : tuple of (values (K, n) float32, index (T, 3) int32)
        In the order they were given.
    """

    points: NDArray[np.float64]
    triangles: NDArray[np.int32]
    source: NDArray[np.int32]
    attributes: tuple[tuple[NDArray[np.float32], NDArray[np.int32]], ...]


def simplify(
    points: NDArray[np.float64],
    triangles: NDArray[np.int32],
    targets: Sequence[int],
    *,
    attributes: Sequence[Attribute] = (),
    section: NDArray[np.int32] | None = None,
    locked: NDArray[np.bool_] | None = None,
    only_old: bool = False,
    limit: float = np.inf,
    reach: NDArray[np.float64] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Iterator[Reduced]:
    """Collapse edges, the least noticeable first, and hand out the mesh at every number of triangles asked for.

    Borders, seams of attributes and edges between sections keep their course: points on one only move along
    it, where it branches they stay or take a neighbour in. No face turns over, no edge gets a third face, no
    hole opens or closes. Points at the same position count as one, and come apart again where attributes do.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    targets : sequence of int
        Numbers of triangles, from the largest to the smallest.
    attributes : sequence of Attribute
    section : (T,) int32, optional
        Edges between triangles of different sections are kept.
    locked : (P,) bool, optional
        Points that stay where they are.
    only_old : bool
        Whether points may only be where one was before, so that what meets them elsewhere goes on to.

    limit : float
        No edge goes whose points would move farther than this from the faces they were on, as quadrics
        estimate it; a share of the longest side of the bounds.
    reach : (P,) float64, optional
        How far from what is made of it each point may come to lie in one go, for walls that must not be pierced.

    Yields
    ------
    Reduced
        One for each target, in order; with more triangles than asked where no edge can go any more.

    References
    ----------
    M. Garland and P. Heckbert (1997), "Surface simplification using quadric error metrics", with optimal
    placement; single places that are far worse than all others are mended afterwards. What attributes cost
    follows H. Hoppe (1999), "New quadric metric for simplifying meshes with appearance attributes". Their values
    are taken from the nearest place of the surface before each collapse.
    """
    work = _Work(points, triangles, attributes, section, locked, only_old, limit, reach)
    start = max(work.alive_count, 1)
    for target in targets:
        work.reduce(target, None if progress is None else lambda alive: progress(1.0 - alive / start))
        yield work.reduced()


class _Work:
    def __init__(
        self,
        points: NDArray[np.float64],
        triangles: NDArray[np.int32],
        attributes: Sequence[Attribute],
        section: NDArray[np.int32] | None,
        locked: NDArray[np.bool_] | None,
        only_old: bool,
        limit: float,
        reach: NDArray[np.float64] | None,
    ) -> None:
        self.only_old, self.limit = only_old, limit
        tri, self.source, used = _in_order_of_place(points, *_sound(points, triangles))
        self.before = points[used]
        low, high = (self.before.min(axis=0), self.before.max(axis=0)) if len(used) else (np.zeros(3), np.ones(3))
        self.centre, self.size = (low + high) / 2, float((high - low).max(initial=0.0)) or 1.0
        place = (self.before - self.centre) / self.size
        count, faces = len(place), len(self.source)
        self.vert = _aligned((count, 8), np.int32)
        self.vert[:, kernels.INTO] = np.arange(count)
        self._take_attributes(attributes, tri, place)
        own_section = np.zeros(faces, np.int32) if section is None else section[self.source].astype(np.int32)
        stays = np.zeros(count, bool) if locked is None else locked[used].copy()
        self.reach = None if reach is None else reach[used] / self.size
        edges = self._link(tri, own_section, stays, place)
        self.tri = tri
        self.dense: Neighbourhood | None = None
        del tri, place, own_section
        self.state, self.due = np.zeros(7, np.int64), np.zeros(1)
        self.state[kernels.ALIVE], self.state[kernels.PARKED] = faces, -1
        self.head, self.after = np.full(kernels.BUCKETS, -1, np.int32), np.empty(edges, np.int32)
        self.entry = _aligned((edges, 4), np.int32)
        self.owner = np.full(3 * faces, -1, np.int32)
        self.as_float = np.zeros(1, np.float32)
        kernels.seed(
            self.real, self.vert, self.face, self.wedge, self.slope, self.state, self.head, self.after, self.entry,
            self.owner, self.as_float, self.as_float.view(np.uint32), only_old, limit,
        )  # fmt: skip

    def _link(
        self, tri: NDArray[np.int32], section: NDArray[np.int32], stays: NDArray[np.bool_], place: NDArray[np.float64]
    ) -> int:
        """Sets up triangles, features and quadrics; returns how many edges there may be."""
        count, faces = len(place), len(tri) // 3
        first, following = np.full(count, -1, np.int32), np.empty(3 * faces, np.int32)
        kernels.link_corners(tri, first, following)
        feature, degree = np.zeros(3 * faces, np.uint8), np.zeros(count, np.int32)
        wedge = self.wedge if len(self.wedge) else tri
        kernels.find_features(tri, first, following, wedge, section, feature, degree, stays)
        self.on_line = np.zeros(count, bool)
        at = np.flatnonzero(feature)
        self.on_line[tri[at]] = self.on_line[tri[np.where(at % 3 < 2, at + 1, at - 2)]] = True
        quadrics = np.zeros((count, 10))
        kernels.gather_quadrics(place, tri, feature, kernels.mean_area(place, tri), _BORDER, _SEAM, quadrics)
        self.real = _aligned((count, 16), np.float64)
        self.real[:, : kernels.X], self.real[:, kernels.X : kernels.REACH] = quadrics, place
        self.real[:, kernels.REACH] = np.inf if self.reach is None else self.reach
        self.vert[:, kernels.FIRST] = np.where(first < 0, -1, first // 3 * 8 + first % 3)
        self.vert[:, kernels.DEGREE], self.vert[:, kernels.LOCKED] = degree, stays
        face = _aligned((faces, 8), np.int32)
        face[:, :3] = tri.reshape(-1, 3)
        face[:, 3:6] = np.where(following < 0, -1, following // 3 * 8 + following % 3).reshape(-1, 3)
        face[:, 6] = kernels.LIVES
        for k in range(3):
            face[:, 6] |= feature[k::3].astype(np.int32) << 2 * k
        self.face = face.ravel()
        # Where faces of an edge run the same way each has it for itself.
        return kernels.count_edges(self.vert, self.face)

    @property
    def alive_count(self) -> int:
        return int(self.state[kernels.ALIVE])

    def _take_attributes(
        self, attributes: Sequence[Attribute], tri: NDArray[np.int32], place: NDArray[np.float64]
    ) -> None:
        """The wedges: one for each point and combination of attributes at it."""
        faces, count = len(self.source), len(place)
        layers = [(one.values, one.index[self.source].ravel().astype(np.int32)) for one in attributes]
        self.widths = [one.values.shape[1] for one in attributes]
        self.scales = np.repeat([max(one.weight, 1e-9 * self.size) / self.size for one in attributes], self.widths)
        self.vert[:, kernels.SINGLE] = -1
        self.ring = np.zeros(2 * 8 * _VALENCE, np.int64)
        self.pairs, self.found = np.full((2, 2), -1, np.int64), np.zeros(32, np.int64)
        self.fresh = np.zeros((32, 1 + sum(self.widths)))
        self.column_layer = np.repeat(np.arange(len(layers), dtype=np.int32), self.widths)
        if not layers:
            self.wedge = np.zeros(0, np.int32)
            self.values, self.slope, self.family = (
                np.zeros((0, 0)),
                np.zeros((0, 2), np.float32),
                np.zeros((0, 0), np.int32),
            )
            return
        corner = np.arange(3 * faces, dtype=np.int32).reshape(-1, 3)
        section = np.zeros(faces, np.int32)
        wedge, at = split_vertices(corner, section, tri, layers)
        self.wedge = wedge.ravel()
        self.values = np.concatenate([values[index[at]] for values, index in layers], axis=1).astype(np.float64)
        self.values *= self.scales
        self.family = np.empty((len(at), len(layers)), np.int32)
        for n, layer in enumerate(layers):
            alone = split_vertices(corner, section, tri, [layer])[0] if len(at) > count else wedge
            self.family[self.wedge, n] = alone.ravel()
        alone_at = np.bincount(tri[at], minlength=count)[tri[at]] == 1
        self.vert[tri[at[alone_at]], kernels.SINGLE] = np.flatnonzero(alone_at)
        self.slope = np.zeros((len(at), 2 + 4 * self.values.shape[1]), np.float32)
        kernels.gather_gradients(place, tri, self.wedge, self.values, self.slope)

    def reduce(self, target: int, tell: Callable[[int], None] | None) -> None:
        """Collapse until ``target`` triangles are left or nothing more can go."""
        self.state[kernels.STUCK] = self.state[kernels.ROUNDS] = 0
        while self.alive_count > target and not self.state[kernels.STUCK]:
            self._collapse(target)
            if tell is not None:
                tell(self.alive_count)

    def _collapse(self, target: int) -> None:
        kernels.collapse(
            self.real, self.vert, self.face, self.wedge, self.slope, self.values, self.family, self.column_layer,
            self.state, self.due, self.head, self.after, self.entry, self.owner, self.as_float,
            self.as_float.view(np.uint32),
            self.pairs, self.found, self.fresh, self.ring, self.only_old, self.limit, _VALENCE, target, _TRIES,
        )  # fmt: skip

    def reduced(self) -> Reduced:
        """The mesh as it is now, in the order of the source."""
        face = self.face.reshape(-1, 8)
        kept = np.flatnonzero(face[:, 6] & kernels.LIVES)
        kept = kept[np.argsort(self.source[kept], kind="stable")]
        corners = face[kept, :3]
        wedges = self.wedge.reshape(-1, 3)[kept] if len(self.wedge) else corners
        occurs = np.zeros(len(self.vert), bool)
        occurs[corners] = True
        used, triangles = np.flatnonzero(occurs), (np.cumsum(occurs, dtype=np.int32) - 1)[corners]
        attributes = []
        first_column = 0
        for n, width in enumerate(self.widths):
            columns = slice(first_column, first_column + width)
            first_column += width
            rows, where, index = np.unique(self.family[wedges.ravel(), n], return_index=True, return_inverse=True)
            values = self.values[wedges.ravel()[where], columns] / self.scales[columns]
            attributes.append((values.astype(np.float32), index.reshape(-1, 3).astype(np.int32)))
            del rows
        # What never moved is where it was to the last bit.
        place, before = self.real[used, kernels.X : kernels.REACH], self.before[used]
        still = (place == (before - self.centre) / self.size).all(axis=1)
        points = np.where(still[:, None], before, place * self.size + self.centre)
        triangles = triangles.reshape(-1, 3).astype(np.int32)
        if not self.only_old and 0 < len(triangles) < len(self.source):
            points = self._settled(points, triangles, face[kept], used)
        return Reduced(points, triangles, self.source[kept].astype(np.int32), tuple(attributes))

    def _settled(
        self, points: NDArray[np.float64], triangles: NDArray[np.int32], face: NDArray[np.int32], used: NDArray[Any]
    ) -> NDArray[np.float64]:
        """The points of a mesh made of the rows of ``face``, moved where it is farthest from what it was made from."""
        if self.dense is None:
            self.dense = Neighbourhood(self.before, self.tri)
        into = np.empty(len(self.vert), np.int32)
        kernels.find_all(self.vert, into)
        number = np.full(len(self.vert), -1, np.int32)
        number[used] = np.arange(len(used), dtype=np.int32)
        on_line = np.zeros(len(used), bool)
        for k in range(3):
            on_line[triangles[face[:, 6] >> 2 * k & 3 != 0][:, [k, (k + 1) % 3]]] = True
        many = self.vert[used, kernels.DEGREE] > 2
        return settled(
            Neighbourhood(points, triangles),
            self.dense,
            number[into],
            fixed=many | (self.vert[used, kernels.LOCKED] != 0),
            on_line=on_line,
            dense_on_line=self.on_line,
            leeway=self.real[used, kernels.REACH] * self.size,
        )


def _aligned(shape: tuple[int, int], dtype: Any) -> NDArray[Any]:
    """Zeros whose rows do not straddle more cache lines than they must."""
    size = shape[0] * shape[1] * np.dtype(dtype).itemsize
    room = np.zeros(size + 64, np.uint8)
    start = -room.__array_interface__["data"][0] % 64
    return room[start : start + size].view(dtype).reshape(shape)


def _sound(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Triangles by position, without those that have no area in the index or stand twice, and which they were."""
    corners = join_points(points)[triangles]
    there = (corners[:, 0] != corners[:, 1]) & (corners[:, 1] != corners[:, 2]) & (corners[:, 2] != corners[:, 0])
    # Numbers that do not depend on the order of corners: where all differ, so do the triangles.
    number = np.arange(len(points), dtype=np.uint64)
    number = (number ^ number >> np.uint64(7)) * np.uint64(0x9E3779B97F4A7C15)
    number ^= number >> np.uint64(29)
    mark = (number * np.uint64(0xBF58476D1CE4E5B9))[corners].sum(axis=1)
    sorted_marks = np.sort(mark)
    twice = sorted_marks[1:][sorted_marks[1:] == sorted_marks[:-1]]
    same = np.zeros(len(corners), bool)
    if len(twice):
        rows = np.flatnonzero(np.isin(mark, twice))
        key = np.sort(corners[rows], axis=1)
        order = np.lexsort(key.T[::-1])
        same[rows[order[1:]]] = (key[order[1:]] == key[order[:-1]]).all(axis=1)
    source = np.flatnonzero(there & ~same)
    return corners[source], source.astype(np.int32)


def _in_order_of_place(
    points: NDArray[np.float64], corners: NDArray[np.int32], source: NDArray[np.int32]
) -> tuple[NDArray[np.int32], NDArray[np.int32], NDArray[np.int64]]:
    """Corners (3 T,) by the new numbers of points, the source of each triangle, and which points are used.

    Neighbours in space are near each other in all three.
    """
    occurs = np.zeros(len(points), bool)
    occurs[corners] = True
    used = np.flatnonzero(occurs)
    used = used[along_curve(points[used])]
    number = np.full(len(points), -1, np.int32)
    number[used] = np.arange(len(used), dtype=np.int32)
    renumbered = number[corners]
    order = np.argsort(renumbered.min(axis=1), kind="stable") if len(corners) else np.zeros(0, np.int64)
    return renumbered[order].ravel(), source[order], used
