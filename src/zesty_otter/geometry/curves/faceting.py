"""Exact bodies to polygons, without cracks: every edge is divided once, and both faces beside it take its points."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves.curves import Curve, Floats
from zesty_otter.geometry.curves.delaunay import constrained
from zesty_otter.geometry.curves.dividing import ONE_WAY, divided
from zesty_otter.geometry.curves.domain import Domain, DomainError, domain_of
from zesty_otter.geometry.curves.limits import Limits
from zesty_otter.geometry.curves.surfaces import Plane, Surface
from zesty_otter.geometry.surface.corners import join_rows

_FINEST = 5  # times that edges are divided again where the loops of a face cross
_MOST_POINTS = 400_000  # within one face
_SMOOTH = 1e-2  # radians between normals that count as one


@dataclass(frozen=True, eq=False)
class Edge:
    """Part of a curve between two vertices; ``last`` may be less than ``first``, where it runs against the curve."""

    curve: Curve
    first: float
    last: float
    start: int
    end: int


@dataclass(frozen=True, eq=False)
class Face:
    """Part of a surface within loops.

    ``loops`` are lists of edges with whether each is gone along forward, with the surface on the left where one looks
    against the face's normal; an empty one is a single vertex, and means nothing. ``same`` says whether the normal of
    the face is that of its surface.
    """

    surface: Surface
    loops: tuple[tuple[tuple[int, bool], ...], ...]
    same: bool = True


@dataclass(frozen=True, eq=False)
class Body:
    """Faces that share edges, and edges that share vertices."""

    vertices: Floats
    edges: Sequence[Edge]
    faces: Sequence[Face]


@dataclass
class Polygons:
    """What a body became.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    face : (F,) int32
        The face of the body that each polygon is part of.
    normals : (K, 3) float32
        Those of the surfaces.
    normal_index : (C,) int32
    uvs : (L, 2) float64
        Parameters of the surfaces.
    uv_index : (C,) int32
    lengths : (faces of the body, 2) float64
        How long one u and one v are at most on each face.
    problems : list of (int, str)
        Faces that could not be made, or not rightly, and why.
    off : dict of int to float
        How far the edges of each face are from its surface.
    """

    points: Floats
    face_start: NDArray[np.int32]
    corner_point: NDArray[np.int32]
    face: NDArray[np.int32]
    normals: NDArray[np.float32]
    normal_index: NDArray[np.int32]
    uvs: Floats
    uv_index: NDArray[np.int32]
    lengths: Floats
    problems: list[tuple[int, str]] = field(default_factory=list)
    off: dict[int, float] = field(default_factory=dict)


def faceted(body: Body, limits: Limits, progress: Callable[[float], None] | None = None) -> Polygons:
    """Polygons in place of a body's faces.

    Parameters
    ----------
    body : Body
    limits : Limits
    progress : callable, optional
        Called with the share that is done.

    Returns
    -------
    Polygons

    References
    ----------
    L. Piegl and A. Richard (1995), "Tessellating trimmed NURBS surfaces"; J. R. Shewchuk (2002), "Delaunay refinement
    algorithms for triangular mesh generation".
    """
    made = _Faceting(body, limits)
    for number in range(len(body.faces)):
        made.mesh(number)
        if progress is not None:
            progress((number + 1) / len(body.faces))
    made.mend()
    return made.polygons()


@dataclass
class _Meshed:
    """One face: triangles or polygons over corners, each with its point, its parameters and its normal."""

    size: NDArray[np.int32]
    corner: NDArray[np.int32]
    point: NDArray[np.int64]
    uv: Floats
    normal: Floats


class _Faceting:
    def __init__(self, body: Body, limits: Limits) -> None:
        self.body, self.limits = body, limits
        self.finer = np.ones(len(body.edges), np.int32)
        self.round: set[int] = set()  # edges of faces that bend two ways, whose grids share the chord error
        for face in body.faces:
            if face.surface.kind not in ONE_WAY:
                self.round.update(edge for loop in face.loops for edge, _ in loop)
        self.count = len(body.vertices)
        self.places: dict[int, Floats] = {}  # further points, by the number of the first of each lot
        self.divided: dict[int, tuple[NDArray[np.int64], Floats]] = {}
        self.meshed: dict[int, _Meshed] = {}
        self.problems: dict[int, str] = {}
        self.off: dict[int, float] = {}
        self.lengths = np.ones((len(body.faces), 2))
        self.crossed: set[int] = set()

    def points_of(self, number: int) -> tuple[NDArray[np.int64], Floats]:
        """The points of an edge, and its places at them and halfway between them."""
        if number not in self.divided:
            edge = self.body.edges[number]
            limits = replace(self.limits, chord=self.limits.chord / 2) if number in self.round else self.limits
            t = divided(edge.curve, edge.first, edge.last, limits, int(self.finer[number]))
            fine = np.empty(2 * len(t) - 1)
            fine[::2], fine[1::2] = t, (t[1:] + t[:-1]) / 2
            places = edge.curve.at(fine)
            places[0], places[-1] = self.body.vertices[edge.start], self.body.vertices[edge.end]
            index = np.empty(len(t), np.int64)
            index[0], index[-1] = edge.start, edge.end
            index[1:-1] = self.add(places[2:-1:2])
            self.divided[number] = index, places
        return self.divided[number]

    def add(self, places: Floats) -> NDArray[np.int64]:
        if not np.isfinite(places).all():
            raise DomainError("its surface cannot be followed")
        if len(places):
            self.places[self.count] = places
        first, self.count = self.count, self.count + len(places)
        return np.arange(first, self.count)

    def mesh(self, number: int) -> None:
        face = self.body.faces[number]
        try:
            domain = self.domain(face)
            self.meshed[number] = self.fill(face, domain, number)
            self.off[number] = domain.off
            self.problems.pop(number, None)
        except DomainError as error:
            self.meshed.pop(number, None)
            self.problems[number] = str(error)
        except (ValueError, ArithmeticError):
            # What becomes too large for numbers, or none, somewhere on the way.
            self.meshed.pop(number, None)
            self.problems[number] = "its surface cannot be followed"

    def domain(self, face: Face) -> Domain:
        loops = []
        for loop in face.loops:
            if not loop:
                continue
            points, places = [], []
            for edge, forward in loop if face.same else loop[::-1]:
                index, fine = self.points_of(edge)
                if forward != face.same:
                    index, fine = index[::-1], fine[::-1]
                points.append(index[:-1])
                places.append(fine[:-1])
            loops.append((np.concatenate(points), np.concatenate(places)))
        return domain_of(face.surface, loops, self.limits, self.add)

    def fill(self, face: Face, domain: Domain, number: int) -> _Meshed:
        surface, limits = face.surface, self.limits
        flat = isinstance(surface, Plane)
        uv, point = domain.uv, domain.point
        if not flat or limits.longest < np.inf:
            inner = domain.inner()
            if len(inner) > _MOST_POINTS:
                raise DomainError("it is too large for facets so fine")
            point = np.concatenate([point, self.add(surface.at(inner))])
            uv = np.concatenate([uv, inner])
        scale = domain.scale
        triangles, crossed = constrained(uv * scale, domain.segments)
        if len(crossed):
            self.crossed.add(number)
            self.problems[number] = "its loops cross"
        else:
            self.crossed.discard(number)
        if not len(triangles):
            raise DomainError("its loops enclose nothing")
        if not (flat or domain.is_fine(uv, triangles)):
            for _ in range(4):
                more = self.missing(surface, uv, triangles, domain, len(domain.uv))
                if not len(more) or len(uv) + len(more) > _MOST_POINTS:
                    break
                point = np.concatenate([point, self.add(surface.at(more))])
                uv = np.concatenate([uv, more])
                triangles, _ = constrained(uv * scale, domain.segments)
        ids = point[triangles]
        thin = (ids[:, 0] == ids[:, 1]) | (ids[:, 1] == ids[:, 2]) | (ids[:, 2] == ids[:, 0])
        triangles = triangles[~thin]
        if thin.any():
            # Where a pole is laid out as a line, a triangle may lie on both sides of a point near it.
            _, which, times = np.unique(np.sort(ids[~thin], axis=1), axis=0, return_inverse=True, return_counts=True)
            triangles = triangles[times[which.reshape(-1)] == 1]
        size, corner = np.full(len(triangles), 3, np.int32), triangles.ravel()
        if limits.kind == "ngons" and flat:
            whole = outline(triangles, domain)
            if whole is not None:
                size, corner = np.array([len(whole)], np.int32), whole
        elif limits.kind != "triangles":
            size, corner = paired(triangles, uv * scale)
        normal = surface.normals(uv)
        if not np.isfinite(normal).all():
            raise DomainError("its surface cannot be followed")
        if not face.same:
            corner, normal = _reversed(size, corner), -normal
        self.lengths[number] = domain.lengths
        return _Meshed(size, corner.astype(np.int32), point, uv, normal)

    def missing(self, surface: Surface, uv: Floats, triangles: NDArray[np.int32], domain: Domain, fixed: int) -> Floats:
        """Middles of sides within a face that are too far from the surface."""
        sides = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
        key = sides[:, 0].astype(np.int64) * len(uv) + sides[:, 1]
        _, first, times = np.unique(key, return_index=True, return_counts=True)
        sides = sides[first[times == 2]]
        sides = sides[~domain.is_segment(sides)] if len(sides) else sides
        if not len(sides):
            return np.zeros((0, 2))
        ends = surface.at(uv)
        one, other = uv[sides[:, 0]], uv[sides[:, 1]]
        for pole in surface.poles:
            # A line to a pole runs there along its own parameter, wherever the pole is laid out.
            for here, there in ((one, other), (other, one)):
                at_pole = np.abs(here[:, pole.axis] - pole.value) <= 1e-9 * (1 + abs(pole.value))
                here[at_pole, 1 - pole.axis] = there[at_pole, 1 - pole.axis]
        middle = (one + other) / 2
        off = surface.at(middle) - (ends[sides[:, 0]] + ends[sides[:, 1]]) / 2
        away = np.abs(np.einsum("nk,nk->n", off, surface.normals(middle)))
        bad = away > self.limits.chord
        if bad.any() and self.limits.shortest > 0:
            # As long as an arc is that is off by so much and turns by so much; halves of it must not be too short.
            turn = np.linalg.norm(surface.normals(one[bad]) - surface.normals(other[bad]), axis=1)
            bad[bad] = 8 * away[bad] > 2 * self.limits.shortest * turn
        more = [middle[bad]]
        if surface.kind not in ONE_WAY:
            # Triangles between such sides are farther off in the middle than their sides are.
            inside = uv[triangles].mean(axis=1)
            off = surface.at(inside) - ends[triangles].mean(axis=1)
            away = np.abs(np.einsum("nk,nk->n", off, surface.normals(inside)))
            size = np.linalg.norm(ends[triangles[:, 0]] - ends[triangles[:, 1]], axis=1)
            more.append(inside[(away > self.limits.chord) & (size > 2 * self.limits.shortest)])
        return np.unique(np.concatenate(more), axis=0)

    def mend(self) -> None:
        """Divides edges again where the loops of faces cross, which they do where they run near each other."""
        for _ in range(_FINEST):
            if not self.crossed:
                return
            edges = {edge for number in self.crossed for loop in self.body.faces[number].loops for edge, _ in loop}
            for edge in edges:
                self.finer[edge] *= 2
                self.divided.pop(edge, None)
            for number, face in enumerate(self.body.faces):
                if any(edge in edges for loop in face.loops for edge, _ in loop):
                    self.mesh(number)

    def polygons(self) -> Polygons:
        points = np.zeros((self.count, 3))
        points[: len(self.body.vertices)] = self.body.vertices
        for first, places in self.places.items():
            points[first : first + len(places)] = places
        numbers = sorted(self.meshed)
        if not numbers:
            none = np.zeros(0, np.int32)
            return Polygons(
                np.zeros((0, 3)), np.zeros(1, np.int32), none, none, np.zeros((0, 3), np.float32), none,
                np.zeros((0, 2)), none, self.lengths, sorted(self.problems.items()),
            )  # fmt: skip
        parts = [self.meshed[number] for number in numbers]
        size = np.concatenate([part.size for part in parts])
        begins = np.cumsum([0, *(len(part.point) for part in parts)])
        corner = np.concatenate([part.corner + begin for part, begin in zip(parts, begins[:-1], strict=True)])
        point = np.concatenate([part.point for part in parts])
        normal = _joined_normals(point, np.concatenate([part.normal for part in parts]))
        used = np.unique(point[corner])
        new = np.zeros(self.count, np.int32)
        new[used] = np.arange(len(used), dtype=np.int32)
        face = np.repeat(np.array(numbers, np.int32), [len(part.size) for part in parts])
        start = np.concatenate([[0], np.cumsum(size)]).astype(np.int32)
        values = normal.astype(np.float32)
        same = join_rows(values)
        kept, row = np.unique(same[corner], return_inverse=True)
        uvs = np.concatenate([part.uv for part in parts])
        uv_kept, uv_row = np.unique(corner, return_inverse=True)
        return Polygons(
            points[used], start, new[point[corner]], face, values[kept], row.astype(np.int32), uvs[uv_kept],
            uv_row.astype(np.int32), self.lengths, sorted(self.problems.items()), self.off,
        )  # fmt: skip


def _joined_normals(point: NDArray[np.int64], normal: Floats) -> Floats:
    """Normals of several faces at one point, the same where they are nearly so."""
    order = np.argsort(point, kind="stable")
    ids, sorted_normal = point[order], normal[order]
    leads = np.append(True, ids[1:] != ids[:-1])
    # Up to a few rounds: those near the first one are it, and the first of the others leads the next round.
    out = sorted_normal.copy()
    open_rows = np.ones(len(ids), bool)
    for _ in range(8):
        leader = np.maximum.accumulate(np.where(leads & open_rows, np.arange(len(ids)), -1))
        same_point = (leader >= 0) & (ids[np.maximum(leader, 0)] == ids)
        near = open_rows & same_point
        near &= np.einsum("nk,nk->n", sorted_normal, sorted_normal[np.maximum(leader, 0)]) >= np.cos(_SMOOTH)
        out[near] = sorted_normal[leader[near]]
        open_rows &= ~near
        if not open_rows.any():
            break
        rest = np.flatnonzero(open_rows)
        leads = np.zeros(len(ids), bool)
        leads[rest[np.append(True, ids[rest][1:] != ids[rest][:-1])]] = True
    result = np.empty_like(out)
    result[order] = out
    return result


def _reversed(size: NDArray[np.int32], corner: NDArray[np.int32]) -> NDArray[np.int32]:
    start = np.repeat(np.cumsum(size) - size, size)
    within = np.arange(len(corner)) - start
    return corner[start + (np.repeat(size, size) - within) % np.repeat(size, size)]


def paired(triangles: NDArray[np.int32], places: Floats) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Triangles, two by two as quads where they are the halves of an upright rectangle.

    Parameters
    ----------
    triangles : (T, 3) int32
    places : (P, 2) float64

    Returns
    -------
    size : (F,) int32
    corner : (C,) int32

    Examples
    --------
    >>> import numpy as np
    >>> square = np.array([(0, 0), (2, 0), (2, 1), (0, 1)], float)
    >>> size, corner = paired(np.array([(0, 1, 2), (0, 2, 3)], np.int32), square)
    >>> size.tolist(), corner.tolist()
    ([4], [1, 2, 3, 0])
    """
    count = len(triangles)
    slack = 1e-6 * float(np.ptp(places, axis=0).max(initial=0.0))
    across = np.full(count, -1)
    for k in range(3):
        a, b = places[triangles[:, (k + 1) % 3]], places[triangles[:, (k + 2) % 3]]
        c = places[triangles[:, k]]
        # The corner at k has one side along u and the other along v.
        upright = (np.abs(c - a).min(axis=1) <= slack) & (np.abs(c - b).min(axis=1) <= slack)
        upright &= np.abs(c - a).argmin(axis=1) != np.abs(c - b).argmin(axis=1)
        across[upright] = k
    rows = np.flatnonzero(across >= 0)
    ends = np.sort(
        np.stack([triangles[rows, (across[rows] + 1) % 3], triangles[rows, (across[rows] + 2) % 3]], axis=1), axis=1
    )
    key = ends[:, 0].astype(np.int64) * len(places) + ends[:, 1]
    order = np.argsort(key, kind="stable")
    twice = np.flatnonzero(key[order][1:] == key[order][:-1])
    one, other = rows[order[twice]], rows[order[twice + 1]]
    alone = np.ones(count, bool)
    alone[one] = alone[other] = False
    at = across[one]
    quads = np.stack(
        [
            triangles[one, at],
            triangles[one, (at + 1) % 3],
            triangles[other, across[other]],
            triangles[one, (at + 2) % 3],
        ],
        axis=1,
    )
    rest = np.flatnonzero(alone)
    first = np.concatenate([one, rest])
    size = np.concatenate([np.full(len(quads), 4), np.full(len(rest), 3)]).astype(np.int32)
    corner = np.concatenate([quads.ravel(), triangles[rest].ravel()])
    # In the order of the triangles, so that neighbours stay neighbours.
    turn = np.argsort(first, kind="stable")
    start = np.concatenate([[0], np.cumsum(size)])
    return size[turn], corner[_ranges(start[turn], size[turn])].astype(np.int32)


def _ranges(start: NDArray[np.int64], size: NDArray[np.int32]) -> NDArray[np.int64]:
    ends = np.cumsum(size)
    return np.repeat(start - (ends - size), size) + np.arange(ends[-1] if len(ends) else 0)


def outline(triangles: NDArray[np.int32], domain: Domain) -> NDArray[np.int32] | None:
    """The one polygon that triangles fill, with a bridge to each hole; None where they do not hang together."""
    sides: dict[tuple[int, int], int] = {}
    for t, (a, b, c) in enumerate(triangles.tolist()):
        sides[a, b] = sides[b, c] = sides[c, a] = t
    apex = {}
    for a, b, c in triangles.tolist():
        apex[a, b], apex[b, c], apex[c, a] = c, a, b
    border = {side for side in sides if side[::-1] not in sides or domain.is_one_segment(*side)}
    if not border:
        return None
    # Bridges: the shortest sides that tie loops together, shortest first.
    group: dict[int, int] = {}

    def root(one: int) -> int:
        while group.setdefault(one, one) != one:
            one = group[one]
        return one

    for a, b in border:
        group[root(a)] = root(b)
    inner = sorted(
        (float(np.sum((domain.uv[a] - domain.uv[b]) ** 2)), a, b) for a, b in sides if a < b and (a, b) not in border
    )
    for _, a, b in inner:
        if root(a) != root(b):
            group[root(a)] = root(b)
            border |= {(a, b), (b, a)}
    if len({root(a) for a, _ in border}) > 1:
        return None
    start = min(border)
    walk, side = [], start
    while True:
        walk.append(side[0])
        if len(walk) > len(border):
            return None
        # Round the end of the side, inside, to the next one of the border.
        a, b = side
        turn = (b, apex[a, b])
        while turn not in border:
            turn = (b, apex[turn[1], turn[0]])
        side = turn
        if side == start:
            break
    return np.array(walk, np.int32) if len(walk) == len(border) else None
