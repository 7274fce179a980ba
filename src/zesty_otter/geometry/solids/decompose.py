"""A few convex parts in place of a shape that is not convex."""

from __future__ import annotations

import heapq
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface, areas, even_directions
from zesty_otter.geometry.simplify.collapse import simplify
from zesty_otter.geometry.solids import _hulls
from zesty_otter.geometry.solids.hulls import Hull, around_with_corners, convex_hull, hull_triangles, rough_hull, tidied
from zesty_otter.geometry.solids.solid import Solid, fits, misfit
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.geometry.surface.topology import groups_of_pairs, parts, topology
from zesty_otter.geometry.vectors import cross

Ints = NDArray[np.int32]

_HEAVY = 2000  # triangles beyond which cuts are looked for on a lighter copy
_PLANES = 24  # taken from edges, of all that could be
_WORTH = 0.01  # what a plane along an edge must save not to be compared with others
_LOOKED_AT = 5  # of the best planes, whose sides are measured
_OUTLINE = 400  # points beyond which a side's hull is judged by its outermost ones
_SLANTED = 0.06  # counts against planes halfway between two faces: what is square shall stay so
_FINISHED = 0.25  # what the share of a side that fits counts, beside the volume saved
_PROBES = 12  # of each shell of a piece, to find what is solid between them
_BUNDLES = 128  # of loose shells, beyond which those near each other are taken together
_ALL_PAIRS = 24  # parts up to which also those that do not touch may be merged, through others
_SIMPLE = 8  # parts that are few enough not to look for fewer
_HALVED = 0.1  # what the share of the smaller side counts, when halving
_MORE = 2  # times the limit, how many parts there may be before they are merged


@dataclass(frozen=True, eq=False)
class Decomposed:
    """Convex parts, the largest first, and how far the worst of them is from the shape (see `misfit`)."""

    parts: tuple[Hull, ...]
    misfit: float


def decompose(
    points: NDArray[np.float64],
    triangles: NDArray[np.int32],
    tolerance: float,
    *,
    most_parts: int = 32,
    most_corners: int = 64,
    thickness: float | None = None,
    must_fit: bool = False,
    progress: Callable[[float], None] | None = None,
) -> Decomposed:
    """Convex parts that together hold a mesh, and are nowhere farther from it than a tolerance.

    The mesh is cut by planes, the part that fits worst first, until the hull of every part fits: planes that run on
    from faces beside hollow edges and along open borders, and planes across its main directions. The plane that saves
    most volume is taken, or that leaves most of the surface in sides that fit. Then parts whose common hull fits too
    are merged. What an open shell does not go all round is not solid.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        At least one.
    tolerance : float
        In the unit of the points.
    most_parts, most_corners : int
        Of all, and of each; what does not fit so many gets merged, and is rounded outward.
    thickness : float, optional
        Of parts of flat sheets; a quarter of the tolerance when absent.
    must_fit : bool
        Look no further once some part will not fit; there are no parts then.
    progress : callable, optional
        Called with the share that is done.

    Returns
    -------
    Decomposed
        Its parts are hulls; none where they ``must_fit`` and some would not.

    References
    ----------
    B. Chazelle (1984), "Convex partitions of polyhedra", cuts along hollow edges; J.-M. Lien and N. Amato (2007),
    "Approximate convex decomposition of polyhedra", stops at a measured concavity; K. Mamou and F. Ghorbel (2009), "A
    simple and efficient approach for 3D mesh approximate convex decomposition", merges.

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> from zesty_otter.geometry import convex_hull
    >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
    >>> len(decompose(cube.points, cube.triangles, 0.02).parts)
    1
    """
    low = points[triangles.ravel()].min(axis=0)
    size = float(np.ptp(points[triangles.ravel()], axis=0).max()) or 1.0
    # In a space of size one about the origin, and with half the tolerance, so that an opening that is narrowed from
    # both sides loses no more than all of it.
    work = _Work((points - low) / size, triangles, tolerance / size / 2, most_parts, must_fit, progress)
    thick = (tolerance / 4 if thickness is None else thickness) / size
    # What is round comes apart in fewer parts when it is halved again and again, what has edges mostly when cut along
    # them, but not always.
    work.halving = not work.crisp
    found = work.run(thick)
    if not found or (must_fit and len(found) > most_parts):
        return Decomposed((), np.inf)
    if work.crisp and len(found) > _SIMPLE and not work.overfull:
        work.halving = not work.halving
        other = work.run(thick, _MORE * len(found))
        if not work.overfull:
            found = min(found, other, key=lambda one: (len(one), sum(hull.volume for hull in one)))
    hulls = []
    worst = 0.0
    for hull in found:
        few = around_with_corners(tidied(hull, work.tolerance / 50), most_corners)
        worst = max(worst, misfit(work.solid, few, work.tolerance))
        hulls.append(_placed(few, low, size))
    hulls.sort(key=lambda one: (-one.volume, *one.points.mean(axis=0)))
    return Decomposed(tuple(hulls), worst * size)


def _placed(hull: Hull, low: NDArray[np.float64], size: float) -> Hull:
    planes = np.column_stack([hull.planes[:, :3], hull.planes[:, 3] * size - hull.planes[:, :3] @ low])
    points = hull.points * size + low
    return Hull(points, hull.face_start, hull.corner_point, planes, hull.volume * size**3, hull.area * size**2)


@dataclass(frozen=True, eq=False)
class _Piece:
    """What lies between some cuts: triangles (T, 3) into points (P, 3), and of each the triangle it is part of."""

    points: NDArray[np.float64]
    triangles: Ints
    source: NDArray[np.int64]

    @cached_property
    def edges(self) -> tuple[Ints, Ints]:
        """(E, 2) the points of each edge, and (T, 3) the edges of each triangle."""
        a, b = self.triangles.ravel().astype(np.int64), np.roll(self.triangles, -1, axis=1).ravel()
        key, edge_of = np.unique(np.minimum(a, b) * len(self.points) + np.maximum(a, b), return_inverse=True)
        ends = np.stack([key // len(self.points), key % len(self.points)], axis=1)
        return ends.astype(np.int32), edge_of.astype(np.int32).reshape(-1, 3)


class _Work:
    def __init__(
        self,
        points: NDArray[np.float64],
        triangles: NDArray[np.int32],
        tolerance: float,
        most_parts: int,
        must_fit: bool,
        progress: Callable[[float], None] | None,
    ) -> None:
        self.tolerance, self.most_parts, self.must_fit, self.progress = tolerance, most_parts, must_fit, progress
        self.halving = self.overfull = False
        self.solid = Solid(points, triangles)
        self.cut_solid = self.solid
        if len(triangles) > _HEAVY:
            targets = [_HEAVY]
            (light,) = simplify(points, self.solid.triangles, targets, limit=tolerance / 8)
            if len(light.triangles):
                self.cut_solid = Solid(light.points, light.triangles)
        solid = self.cut_solid
        triangles = join_points(solid.points)[solid.triangles]
        self.whole = _Piece(solid.points, triangles, np.arange(len(triangles)))
        start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
        self.normals = face_areas_and_normals(solid.points, start, triangles.ravel())[1]
        self._edges(triangles, start)

    def _edges(self, triangles: Ints, start: Ints) -> None:
        """The edges along which cuts may run: hollow ones and open borders, with the planes of each."""
        points = self.cut_solid.points
        edges = topology(points, start, triangles.ravel())
        one = edges.first
        other = edges.later[one]
        two = other >= 0
        a, b = one[two] // 3, other[two] // 3
        ends = points[edges.edge_points[two]]
        along = ends[:, 1] - ends[:, 0]
        length = np.linalg.norm(along, axis=1)
        # The point of the other face that is not on the edge: in front of the face is hollow.
        tip = points[triangles[b]].sum(axis=1) - ends.sum(axis=1) - ends[:, 0]
        height = (tip * self.normals[a]).sum(axis=1)
        sine = np.linalg.norm(cross(self.normals[a], self.normals[b]), axis=1)
        angle = np.arctan2(sine, (self.normals[a] * self.normals[b]).sum(axis=1))
        sheet = self.cut_solid.is_sheet[a]
        hollow = (angle > np.radians(3)) & (length > 0) & ((height > 1e-9) | sheet)
        weight = (length * angle)[hollow]
        self.crisp = bool((hollow & (angle > np.radians(25))).any())
        middle = self.normals[a] + self.normals[b]
        size = np.linalg.norm(middle, axis=1, keepdims=True)
        across = cross(along, middle / np.where(size > 0, size, 1.0))
        across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-300)
        rim = points[edges.edge_points[~two]]
        rim_along = rim[:, 1] - rim[:, 0]
        rim_length = np.linalg.norm(rim_along, axis=1)
        side = cross(rim_along, self.normals[one[~two] // 3])
        side /= np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-300)
        normals = np.concatenate([self.normals[a][hollow], self.normals[b][hollow], across[hollow], side])
        place = np.concatenate([ends[hollow, 0]] * 3 + [rim[:, 0]])
        far = np.concatenate([ends[hollow, 1]] * 3 + [rim[:, 1]])
        weights = np.concatenate([weight, weight, weight / 2, rim_length])
        slanted = np.repeat([False, False, True, False], [len(weight)] * 3 + [len(rim_length)])
        sound = (np.linalg.norm(normals, axis=1) > 0.5) & (weights > 0)
        self.hints = normals[sound], place[sound], far[sound], weights[sound], slanted[sound]

    def run(self, thickness: float, most: int | None = None) -> list[Hull]:
        """The parts' hulls; none when there are more than ``most`` before any are merged."""
        waiting: list[tuple[float, int, _Piece, Hull]] = []
        done: list[Hull] = []
        count = 0
        # No sound shape asks for more parts than half as many as it has triangles.
        sensible = min(_MORE * self.most_parts + 8, max(len(self.whole.triangles) // 2, _SIMPLE))
        limit = sensible if most is None else most

        def take(piece: _Piece) -> None:
            nonlocal count
            hull = rough_hull(piece.points, thickness)
            if fits(self.cut_solid, hull, self.tolerance):
                done.append(convex_hull(piece.points, thickness))
                return
            count += 1
            gap = self.tolerance if self.must_fit else self._misfit(hull)
            heapq.heappush(waiting, (-gap * float(np.ptp(piece.points, axis=0).max()), count, piece, hull))

        hull = convex_hull(self.whole.points[np.unique(self.whole.triangles)], thickness)
        if fits(self.cut_solid, hull, self.tolerance):
            return [hull]
        for piece in _bundled(self._components(self.whole)):
            take(piece)
        while waiting:
            _, _, piece, hull = heapq.heappop(waiting)
            if self.progress is not None:
                self.progress(min(len(done) / (len(done) + len(waiting) + 1), 1.0) * 0.8)
            full = len(done) + len(waiting) >= limit
            self.overfull = self.overfull or full
            if full and (most is not None or self.must_fit):
                return []
            sides = None if full else self._best_cut(piece, hull)
            if sides is None:
                done.append(convex_hull(piece.points, thickness))
                continue
            for side in sides:
                for one in self._components(side):
                    take(one)
        return self._merged(done, thickness)

    def _misfit(self, hull: Hull) -> float:
        return misfit(self.cut_solid, hull, self.tolerance, floor=self.tolerance)

    def _components(self, piece: _Piece) -> list[_Piece]:
        """The pieces that hang together, each with its own points."""
        tri = piece.triangles
        start = np.arange(0, tri.size + 1, 3, dtype=np.int32)
        part, count = parts(start, tri.ravel(), np.arange(len(piece.points), dtype=np.int32))
        lowest = np.full(count, len(piece.points))
        np.minimum.at(lowest, part, tri.min(axis=1))
        label = np.argsort(np.argsort(lowest))[part]
        label = self._joined_inside(piece, label)
        order = np.argsort(label, kind="stable")
        found = []
        for rows in np.split(order, np.flatnonzero(np.diff(label[order])) + 1):
            used, index = np.unique(tri[rows], return_inverse=True)
            found.append(_Piece(piece.points[used], index.reshape(-1, 3).astype(np.int32), piece.source[rows]))
        return found

    def _joined_inside(self, piece: _Piece, label: NDArray[np.int64]) -> NDArray[np.int64]:
        """Labels of the triangles where those with nothing but solid between them have one.

        What lies between cuts is convex, so a ray that goes inward stays in the solid until it meets the piece again.
        """
        count = int(label.max()) + 1 if len(label) else 0
        solid = ~self.cut_solid.is_sheet[piece.source]
        if count < 2 or not solid.any():
            return label
        size = areas(piece.points, piece.triangles)
        order = np.lexsort([-size, label])
        place_in_label = np.arange(len(label)) - np.searchsorted(label[order], label[order])
        probe = order[(place_in_label < _PROBES)]
        probe = probe[solid[probe] & (size[probe] > 0)]
        # Off the middle, where the edges of what lies opposite may be.
        middles = np.einsum("k,nkj->nj", (0.447, 0.331, 0.222), piece.points[piece.triangles[probe]])
        inward = -self.normals[piece.source[probe]]
        surface = Surface(piece.points, piece.triangles)
        away, met = surface.first_hits(middles, inward, 1e-7)
        # Where two parts touch, a ray leaves its own before it is in the other.
        leaving, behind = surface.first_hits(middles, inward, 1e-7, backs_only=True)
        met = np.where(leaving <= away + 1e-7, behind, met)
        there = met >= 0
        pairs = np.stack([label[probe[there]], label[met[there]]], axis=1).astype(np.int32)
        return groups_of_pairs(count, pairs)[label].astype(np.int64)

    def _best_cut(self, piece: _Piece, hull: Hull) -> tuple[_Piece, _Piece] | None:
        """The two sides of the plane that helps most."""
        if self.halving:
            return self._best_of([*self._planes(piece), *_across(piece.points)], piece, hull)[1]
        value, sides = self._best_of(self._planes(piece), piece, hull)
        if value < _WORTH:
            # Planes that nothing of the shape asks for would spoil what is cut cleanly along its edges.
            other, across = self._best_of(_across(piece.points), piece, hull)
            if other > value:
                return across
        return sides

    def _best_of(
        self, planes: list[NDArray[np.float64]], piece: _Piece, hull: Hull
    ) -> tuple[float, tuple[_Piece, _Piece] | None]:
        """What the best of some planes saves, as a share, and its two sides."""
        before = self._cost(hull.volume, hull.area)
        judged = []
        for n, plane in enumerate(planes):
            cost = self._cost_of_sides(piece, plane)
            if cost is not None:
                judged.append(((before - cost) / before - plane[4], n))
        judged.sort(key=lambda one: (-round(one[0], 6), one[1]))
        best, best_sides = -np.inf, None
        whole = float(areas(piece.points, piece.triangles).sum()) or 1.0
        for saved, n in judged[: len(judged) if self.halving else _LOOKED_AT]:
            if saved + (_HALVED / 2 if self.halving else _FINISHED) <= best:
                break
            sides = _cut(piece, planes[n], self.normals)
            if not all(len(side.triangles) for side in sides):
                continue
            fitting = 0.0
            for side in () if self.halving else sides:
                if fits(self.cut_solid, rough_hull(side.points), self.tolerance, 300):
                    fitting += areas(side.points, side.triangles).sum() / whole
            if self.halving:
                bonus = _HALVED * min(areas(side.points, side.triangles).sum() for side in sides) / whole
            else:
                bonus = _FINISHED * fitting
            if saved + bonus > best + 1e-6:
                best, best_sides = saved + bonus, sides
        return best, best_sides

    def _cost(self, volume: float, area: float) -> float:
        # The area lets flat pieces, which have no volume, be told apart.
        return volume + 0.25 * self.tolerance * area

    def _planes(self, piece: _Piece) -> list[NDArray[np.float64]]:
        """Planes to try, as normal, offset, and what counts against them."""
        used = piece.points
        normals, place, far, weight, slanted = self.hints
        low, high = used.min(axis=0) - 1e-9, used.max(axis=0) + 1e-9
        near = (np.minimum(place, far) <= high).all(axis=1) & (np.maximum(place, far) >= low).all(axis=1)
        normals, place, weight, slanted = normals[near], place[near], weight[near].copy(), slanted[near]
        picked = np.empty(_PLANES, np.int64)
        picked = picked[: _hulls.pick(normals, place, weight, self.tolerance / 2, picked)]
        offset = (place[picked] * normals[picked]).sum(axis=1)
        return list(np.column_stack([normals[picked], offset, _SLANTED * slanted[picked]]))

    def _cost_of_sides(self, piece: _Piece, plane: NDArray[np.float64]) -> float | None:
        """What the hulls on both sides of a plane cost together; None when all is on one side."""
        height = piece.points @ plane[:3] - plane[3]
        slack = 1e-7
        if height.max() <= max(slack, self.tolerance * 1e-3) or height.min() >= -max(slack, self.tolerance * 1e-3):
            return None
        edges, _ = piece.edges
        most = len(piece.points) + len(edges)
        front, back = np.empty((most, 3)), np.empty((most, 3))
        counts = _hulls.part(piece.points, height, edges, slack, front, back)
        return sum(self._cost(*_volume(side[:count])) for side, count in zip((front, back), counts, strict=True))

    def _merged(self, found: list[Hull], thickness: float) -> list[Hull]:
        """Fewer parts, where the hull of two fits as well as they do, or there are too many."""
        alive = dict(enumerate(found))
        queue: list[tuple[float, float, int, int]] = []

        def offer(i: int, j: int) -> None:
            one, other = alive[i], alive[j]
            apart = np.maximum(
                one.points.min(axis=0) - other.points.max(axis=0), other.points.min(axis=0) - one.points.max(axis=0)
            )
            if apart.max() > self.tolerance and len(alive) > _ALL_PAIRS:
                return
            volume, _ = _volume(np.concatenate([one.points, other.points]))
            added = max(volume - one.volume - other.volume, 0.0)
            heapq.heappush(queue, (round(added, 9), -round(volume, 9), i, j))

        for i, j in _touching(found, self.tolerance if len(found) > _ALL_PAIRS else np.inf):
            offer(i, j)
        number = len(alive)
        start = max(len(alive), 1)
        while queue:
            added, _, i, j = heapq.heappop(queue)
            if i not in alive or j not in alive:
                continue
            one, other = alive[i], alive[j]
            # What a gap of the tolerance all over could add, unless others fill it.
            if added > 2 * self.tolerance * (one.area + other.area) and len(alive) > _ALL_PAIRS:
                continue
            both = np.concatenate([one.points, other.points])
            if not fits(self.cut_solid, rough_hull(both, thickness), self.tolerance):
                continue
            hull = convex_hull(both, thickness)
            del alive[i], alive[j]
            alive[number] = hull
            for k in list(alive):
                if k != number:
                    offer(k, number)
            number += 1
            if self.progress is not None:
                self.progress(0.8 + 0.2 * (1 - len(alive) / start))
        return self._few(alive, thickness)

    def _few(self, alive: dict[int, Hull], thickness: float) -> list[Hull]:
        """Parts merged, those that add least volume first, until there are no more than may be."""
        added: dict[tuple[int, int], float] = {}
        number = max(alive, default=0) + 1
        while len(alive) > self.most_parts:
            names = list(alive)
            centres = np.array([alive[n].points.mean(axis=0) for n in names])
            for i, name in enumerate(names):
                near = np.argsort(np.linalg.norm(centres - centres[i], axis=1))
                for j in near[near != i][:6]:
                    pair = min(name, names[j]), max(name, names[j])
                    if pair not in added:
                        one, other = alive[pair[0]], alive[pair[1]]
                        both = _volume(np.concatenate([one.points, other.points]))[0]
                        added[pair] = both - one.volume - other.volume
            least = min((pair for pair in added if pair[0] in alive and pair[1] in alive), key=added.__getitem__)
            points = np.concatenate([alive.pop(n).points for n in least])
            alive[number] = convex_hull(points, thickness)
            number += 1
        return list(alive.values())


def _touching(hulls: list[Hull], reach: float) -> list[tuple[int, int]]:
    """The pairs of hulls whose boxes are not farther apart than that."""
    if not hulls:
        return []
    low = np.array([hull.points.min(axis=0) for hull in hulls])
    high = np.array([hull.points.max(axis=0) for hull in hulls])
    near = np.ones((len(hulls),) * 2, bool)
    for k in range(3):
        near &= low[:, None, k] - high[None, :, k] <= reach
    near &= near.T
    return [(int(i), int(j)) for i, j in np.argwhere(np.triu(near, 1))]


def _bundled(pieces: list[_Piece]) -> list[_Piece]:
    """Pieces, those near each other taken together where there are too many to look at each."""
    if len(pieces) <= _BUNDLES:
        return pieces
    middles = np.array([piece.points.mean(axis=0) for piece in pieces])
    groups = [np.arange(len(pieces))]
    while len(groups) < _BUNDLES:
        # The most spread out group is halved across its longest side.
        spread = [np.ptp(middles[group], axis=0).max() if len(group) > 1 else -1.0 for group in groups]
        group = groups.pop(int(np.argmax(spread)))
        axis = int(np.argmax(np.ptp(middles[group], axis=0)))
        order = group[np.argsort(middles[group, axis], kind="stable")]
        groups += [order[: len(order) // 2], order[len(order) // 2 :]]
    found = []
    for group in groups:
        first = np.cumsum([0, *(len(pieces[n].points) for n in group)])
        triangles = [pieces[n].triangles + start for n, start in zip(group, first[:-1], strict=True)]
        found.append(
            _Piece(
                np.concatenate([pieces[n].points for n in group]),
                np.concatenate(triangles).astype(np.int32),
                np.concatenate([pieces[n].source for n in group]),
            )
        )
    return found


def _across(points: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """Planes across the main directions of points."""
    centred = points - points.mean(axis=0)
    planes = []
    for axis in np.linalg.eigh(centred.T @ centred)[1].T[::-1]:
        along = points @ axis
        least, most = along.min(), along.max()
        planes += [np.array([*axis, least + share * (most - least), 0.0]) for share in (0.5, 1 / 3, 2 / 3)]
    return planes


def _volume(points: NDArray[np.float64]) -> tuple[float, float]:
    """Volume and area of the hull of points, by their outermost ones when they are many."""
    if len(points) > _OUTLINE:
        points = points[np.unique(np.argmax(_SPREAD @ points.T, axis=1))]
    if len(points) > 4:
        try:
            hull = hull_triangles(points, shared=False)
        except (RuntimeError, ValueError):  # they lie on a plane
            pass
        else:
            return float(hull.volume), float(hull.area)
    # What is flat has no volume, and both its sides count: they are what makes it large when it is a little thick.
    centred = points - points.mean(axis=0)
    across = np.linalg.eigh(centred.T @ centred)[1][:, 0]
    size = float(np.ptp(centred, axis=0).max())
    try:
        hull = hull_triangles(np.concatenate([centred - size * across, centred + size * across]), shared=False)
    except (RuntimeError, ValueError):  # they lie on a line
        return 0.0, 0.0
    return 0.0, float(hull.volume) / size if size else 0.0


_SPREAD = even_directions(160)


def _cut(piece: _Piece, plane: NDArray[np.float64], normals: NDArray[np.float64]) -> tuple[_Piece, _Piece]:
    """The triangles in front of a plane and those behind it; those across it are cut."""
    height = piece.points @ plane[:3] - plane[3]
    height[np.abs(height) <= 1e-7] = 0.0
    # A face in the plane bounds what is behind it.
    ahead = normals[piece.source] @ plane[:3] > 0
    edges, edge_of = piece.edges
    few, most = 2 * len(piece.triangles), len(piece.points) + len(edges)
    points = np.empty((most, 3))
    points[: len(piece.points)] = piece.points
    front, back = ((np.empty((few, 3), np.int32), np.empty(few, np.int32), np.empty((most, 3))) for _ in range(2))
    counts = _hulls.cut(
        points, len(piece.points), piece.triangles, edges, edge_of, height, ahead.view(np.uint8),
        np.empty(len(edges), np.int32), np.empty(most, np.int32), *front, *back,
    )  # fmt: skip
    sides = []
    for (triangles, source, used), triangle_count, point_count in zip(
        (front, back), counts[::2], counts[1::2], strict=True
    ):
        sides.append(_Piece(used[:point_count], triangles[:triangle_count], piece.source[source[:triangle_count]]))
    return sides[0], sides[1]
