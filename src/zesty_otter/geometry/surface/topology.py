"""How faces hang together: edges, parts, duplicates, welding, orientation, holes.

Everything here is about the surface, so points of one exact position count as one, however often they
occur in the table of points.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import _topology as kernels
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.normals import face_areas_and_normals

Ints = NDArray[np.int32]


@dataclass(frozen=True, eq=False)
class Topology:
    """The edges of a surface.

    Parameters
    ----------
    joined : (P,) int32
        The first point at each point's position.
    corner_face : (C,) int32
    corner_edge : (C,) int32
        The edge from each corner to the next of its face.
    edge_points : (E, 2) int32
        Joined points, in the direction in which the edge's first face runs.
    use : (E,) int32
        How many faces share the edge: 1 border, 2 inner, more non-manifold.
    agrees : (E,) bool
        Of inner edges: the two faces run along it in opposite directions, as neighbours should.
    first, later : (E,), (C,) int32
        A corner of each edge, and the next corner of the same edge, -1 at the end.
    """

    joined: Ints
    corner_face: Ints
    corner_edge: Ints
    edge_points: Ints
    use: Ints
    agrees: NDArray[np.bool_]
    first: Ints
    later: Ints

    @property
    def border(self) -> NDArray[np.int64]:
        """The edges with one face. Edges without length do not count."""
        return np.flatnonzero((self.use == 1) & self._long)

    @property
    def non_manifold(self) -> NDArray[np.int64]:
        """The edges with more than two faces."""
        return np.flatnonzero((self.use > 2) & self._long)

    @property
    def contrary(self) -> NDArray[np.int64]:
        """The edges whose two faces look to different sides."""
        return np.flatnonzero((self.use == 2) & ~self.agrees & self._long)

    @property
    def _long(self) -> NDArray[np.bool_]:
        return self.edge_points[:, 0] != self.edge_points[:, 1]


def topology(points: NDArray[np.float64], face_start: Ints, corner_point: Ints) -> Topology:
    """The edges of a surface.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32

    Returns
    -------
    Topology

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float)
    >>> start, corner = np.array([0, 3, 6], np.int32), np.array([0, 1, 2, 0, 2, 3], np.int32)
    >>> edges = topology(points, start, corner)
    >>> len(edges.edge_points), len(edges.border), edges.use.tolist()
    (5, 4, [1, 1, 2, 1, 1])
    """
    joined = join_points(points)
    count = len(corner_point)
    size = 1 << (2 * count + 1).bit_length()
    edge_points = np.empty((count, 2), np.int32)
    corner_edge, use, forward, first, later = (np.empty(count, np.int32) for _ in range(5))
    edges = kernels.number_edges(
        face_start,
        corner_point,
        joined,
        np.full(size, -1, np.int32),
        edge_points,
        corner_edge,
        use,
        forward,
        first,
        later,
    )
    return Topology(
        joined,
        np.repeat(np.arange(len(face_start) - 1, dtype=np.int32), np.diff(face_start)),
        corner_edge,
        edge_points[:edges].copy(),
        use[:edges].copy(),
        (use[:edges] == 2) & (forward[:edges] == 1),
        first[:edges].copy(),
        later,
    )


def parts(face_start: Ints, corner_point: Ints, joined: Ints) -> tuple[Ints, int]:
    """The connected part each face belongs to, numbered by first face, and how many there are."""
    parent = np.arange(len(joined), dtype=np.int32)
    kernels.unite_points_of_faces(face_start, corner_point, joined, parent)
    part = np.empty(len(face_start) - 1, np.int32)
    count = kernels.number_parts(face_start, corner_point, joined, parent, np.full(len(joined), -1, np.int32), part)
    return part, int(count)


def groups_of_pairs(count: int, pairs: Ints) -> Ints:
    """(N,) the group that each of ``count`` things belongs to when pairs (P, 2) do, numbered by their first."""
    alone = np.arange(count, dtype=np.int32)
    start = np.concatenate([alone, count + 2 * np.arange(len(pairs) + 1)]).astype(np.int32)
    return parts(start, np.concatenate([alone, pairs.ravel().astype(np.int32)]), alone)[0][:count]


def duplicate_faces(face_start: Ints, corner_point: Ints, joined: Ints, face_slot: Ints) -> NDArray[np.bool_]:
    """(F,) whether an earlier face has the same outline the same way round, and the same slot."""
    original = _same_outlines(kernels.find_duplicate_faces, face_start, corner_point, joined, face_slot)
    return np.asarray(original != np.arange(len(original)))


def coincident_faces(face_start: Ints, corner_point: Ints, joined: Ints) -> NDArray[np.bool_]:
    """(F,) whether an earlier face has the same outline, whichever way round."""
    original = _same_outlines(kernels.find_coincident_faces, face_start, corner_point, joined)
    return np.asarray(original != np.arange(len(original)))


def _same_outlines(find: Any, face_start: Ints, corner_point: Ints, joined: Ints, *more: Ints) -> Ints:
    count = len(face_start) - 1
    original = np.empty(count, np.int32)
    find(face_start, corner_point, joined, *more, np.full(1 << (2 * count + 1).bit_length(), -1, np.int32), original)
    return original


def flat_faces(points: NDArray[np.float64], face_start: Ints, corner_point: Ints) -> NDArray[np.bool_]:
    """(F,) whether a face has no area to speak of: under 1e-12 of the square of its longest edge."""
    area, _ = face_areas_and_normals(points, face_start, corner_point)
    longest = (
        np.maximum.reduceat(edge_lengths(points, face_start, corner_point), face_start[:-1]) if len(area) else area
    )
    return np.asarray(area <= 1e-12 * longest**2)


def edge_lengths(points: NDArray[np.float64], face_start: Ints, corner_point: Ints) -> NDArray[np.float64]:
    """(C,) the distance from each corner to the next of its face."""
    after = np.arange(1, len(corner_point) + 1)
    after[face_start[1:] - 1] = face_start[:-1]
    span = points[corner_point[after]] - points[corner_point]
    return np.sqrt(np.einsum("ij,ij->i", span, span))


def weld_representatives(
    points: NDArray[np.float64],
    face_start: Ints,
    corner_point: Ints,
    distance: float,
    *,
    joined: Ints | None = None,
    key: Ints | None = None,
) -> Ints:
    """Which point each point becomes when points closer than a distance are made one.

    The distance is capped for every connected part by that part's own smallest features: half its
    shortest edge, edges under a hundred-thousandth of its extent not counted (these are what welding is
    for). Between two parts the lesser of their distances holds. So a button of two millimetres keeps its
    shape on a hull of thirty metres, and the seams of the hull close.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    distance : float
        In the unit of the points.
    joined : (P,) int32, optional
        See `corners.join_points`.
    key : (P,) int32, optional
        Points are only made one when their keys are equal.

    Returns
    -------
    (P,) int32
        A point that stands for itself has its own number; all others name such a point.

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (1, 1e-6, 0), (2, 0, 0), (1, 1, 0)])
    >>> start, corner = np.array([0, 3, 6], np.int32), np.array([0, 1, 2, 3, 4, 5], np.int32)
    >>> weld_representatives(points, start, corner, 1e-4).tolist()
    [0, 1, 2, 1, 4, 5]
    """
    joined = join_points(points) if joined is None else joined
    tolerance = _point_tolerance(points, face_start, corner_point, joined, distance)
    exact = np.arange(len(points), dtype=np.int32) if key is not None else joined
    asked = np.flatnonzero(exact == np.arange(len(points)))
    if distance <= 0 or len(asked) == 0:
        return exact
    # One grid for each power of two of tolerances that occurs, coarsest first.
    power = np.ceil(np.log2(np.maximum(tolerance, 1e-300))).astype(np.int64)
    powers = np.unique(power[asked])[::-1]
    level = (len(powers) - 1 - np.searchsorted(powers[::-1], power)).astype(np.int32)
    order = asked[np.argsort(level[asked], kind="stable")].astype(np.int32)
    extent = np.abs(points).max(initial=0.0)
    sizes = np.maximum(2.0 * np.exp2(powers.astype(float)), extent * 1e-15 + 1e-300)
    representative = np.arange(len(points), dtype=np.int32)
    size = 1 << (2 * len(asked) + 1).bit_length()
    kernels.weld_points(
        points,
        order,
        tolerance,
        level,
        np.zeros(len(points), np.int32) if key is None else key,
        sizes,
        np.full(size, -1, np.int32),
        np.full(len(points), -1, np.int32),
        representative,
    )
    return representative[exact]


def _point_tolerance(
    points: NDArray[np.float64], face_start: Ints, corner_point: Ints, joined: Ints, distance: float
) -> NDArray[np.float64]:
    """(P,) how far each point may move: what its part allows, and the full distance for loose points."""
    tolerance = np.full(len(points), float(distance))
    part, count = parts(face_start, corner_point, joined)
    if not count:
        return tolerance
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    kernels.part_boxes(points, corner_point, np.repeat(part, np.diff(face_start)), low, high)
    extent = np.linalg.norm(high - low, axis=1)
    shortest = np.full(count, np.inf)
    kernels.shortest_edges(points, face_start, corner_point, part, 1e-5 * extent, shortest)
    limit = np.minimum(distance, 0.5 * shortest)
    kernels.least_of_parts(face_start, corner_point, joined, part, limit, tolerance)
    return np.minimum(tolerance, tolerance[joined])


def drop_repeats(face_start: Ints, corner_point: Ints) -> tuple[NDArray[np.int64], Ints, Ints]:
    """Leave out corners that repeat the one before them, and faces with fewer than three corners left.

    Returns
    -------
    corner : (C',) the corners that stay
    face_start : (F' + 1,)
    face : (F',) the faces that stay
    """
    corner = np.empty(len(corner_point), np.int64)
    start = np.empty(len(face_start), np.int32)
    face = np.empty(len(face_start) - 1, np.int32)
    count = kernels.drop_repeated_corners(face_start, corner_point, corner, start, face)
    return corner[: start[count]], start[: count + 1].copy(), face[:count].copy()


@dataclass(frozen=True, eq=False)
class Orientation:
    """Which faces to turn so that all of a region agree and look outward.

    ``turned`` (F,) bool; ``region`` (F,) int32; ``conflicts`` counts edges at which no choice helps (as on
    a Moebius strip); ``undecided`` counts regions that have no outside and were left as they were.
    """

    turned: NDArray[np.bool_]
    region: Ints
    conflicts: int
    undecided: int


def facing_outward(
    points: NDArray[np.float64],
    face_start: Ints,
    corner_point: Ints,
    edges: Topology,
    *,
    facing: str = "outward",
    nested: str = "solid",
) -> Orientation:
    """Find the faces to turn so that neighbours agree and every shell looks outward.

    A region is what hangs together over edges of exactly two faces. A closed one is decided by the sign
    of its volume, an open one by its winding number beside a sample of its faces: behind them, on the
    inside, it is the larger.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    edges : Topology
    facing : {"outward", "majority"}
        majority: a region keeps the direction of its larger part, wherever its outside is.
    nested : {"solid", "cavity"}
        What a closed shell inside another is: a solid of its own that looks outward too, or the wall of a
        cavity that looks into it (and a shell in that a solid again).

    References
    ----------
    A. Jacobson, L. Kavan and O. Sorkine-Hornung (2013), Robust inside-outside segmentation using
    generalized winding numbers. ACM Transactions on Graphics 32(4).
    """
    count = len(face_start) - 1
    turned = np.zeros(count, bool)
    region = np.full(count, -1, np.int32)
    regions, conflicts = kernels.orient(
        face_start,
        edges.corner_face,
        edges.corner_edge,
        edges.agrees,
        edges.use,
        edges.first,
        edges.later,
        turned,
        region,
        np.empty(count, np.int32),
    )
    area, normal = face_areas_and_normals(points, face_start, corner_point)
    volume, balance, total = np.zeros(regions), np.zeros(regions), np.zeros(regions)
    is_open, centre = np.zeros(regions, bool), np.empty((count, 3))
    kernels.sum_regions(
        points,
        face_start,
        corner_point,
        edges.corner_edge,
        edges.use,
        region,
        turned,
        area,
        normal,
        np.full(regions, -1, np.int32),
        volume,
        balance,
        total,
        is_open,
        centre,
    )
    # Where nothing else decides, the larger part of a region keeps its direction.
    flip = balance < 0
    flat = np.abs(volume) <= 1e-12 * total**1.5
    decided = ~is_open & ~flat
    undecided = regions
    order, bounds = _by_region(region, int(regions))
    if facing == "outward":
        flip[decided] = volume[decided] < 0
        undecided = int((flat & ~is_open).sum())
        normal *= area[:, None]
        for one in np.flatnonzero(is_open):
            verdict = _looks_inward(centre, normal, area, order[bounds[one] : bounds[one + 1]], turned)
            undecided += verdict is None
            flip[one] = flip[one] if verdict is None else verdict
    if facing == "outward" and nested == "cavity":
        flip ^= _nesting_is_odd(points, face_start, corner_point, turned ^ flip[region], order, bounds, ~is_open)
    return Orientation(turned ^ flip[region], region, int(conflicts), undecided)


def _by_region(region: Ints, regions: int) -> tuple[Ints, NDArray[np.int64]]:
    """Faces sorted by region, and where each region begins among them."""
    if regions == 1:
        return np.arange(len(region), dtype=np.int32), np.array([0, len(region)])
    order = np.argsort(region, kind="stable").astype(np.int32)
    return order, np.searchsorted(region[order], np.arange(regions + 1))


_SAMPLES, _MOST_FACES = 24, 150_000


def _looks_inward(
    centre: NDArray[np.float64],
    vector: NDArray[np.float64],
    area: NDArray[np.float64],
    faces: Ints,
    turned: NDArray[np.bool_],
) -> bool | None:
    """Whether an open region, its faces turned as given, has its inside in front; None when it has none.

    Crossing a face changes the winding number by one; on the face itself, that face left out, it is midway.
    There it is positive when the number behind the face is the larger one, which makes behind the inside.
    """
    large = faces[area[faces] > 0]
    if len(large) < 2:
        return None
    # Evenly by area, so that many small faces do not outvote a large one.
    share = np.cumsum(area[large])
    picks = large[np.searchsorted(share, (np.arange(_SAMPLES) + 0.5) / _SAMPLES * share[-1])]
    # Of very many faces every n-th stands for n.
    stride = 1 + len(faces) // _MOST_FACES
    some = faces[::stride]
    sign = np.where(turned, -1.0, 1.0)
    dipoles = centre[some], vector[some] * sign[some, None], area[some]
    found = [sign[f] * kernels.winding_beside(*dipoles, *centre[f]) for f in picks]
    mean = stride * float(np.mean(found))
    # A sheet that is hardly bent, such as terrain, has no inside.
    return None if abs(mean) < 0.08 else mean < 0


def _nesting_is_odd(
    points: NDArray[np.float64],
    face_start: Ints,
    corner_point: Ints,
    turned: NDArray[np.bool_],
    order: Ints,
    bounds: NDArray[np.int64],
    closed: NDArray[np.bool_],
) -> NDArray[np.bool_]:
    """(R,) whether a region lies inside an odd number of closed ones."""
    shells = np.flatnonzero(closed)
    at, start = points[corner_point], face_start[:-1]
    low = np.minimum.reduceat(np.minimum.reduceat(at, start)[order], bounds[:-1])
    high = np.maximum.reduceat(np.maximum.reduceat(at, start)[order], bounds[:-1])
    odd = np.zeros(len(low), bool)
    for inner in range(len(low)):
        probe = at[start[order[bounds[inner]]]]
        around = (low[shells] < probe).all(axis=1) & (probe < high[shells]).all(axis=1)
        for outer in shells[around]:
            if outer != inner:
                faces = order[bounds[outer] : bounds[outer + 1]]
                inside = kernels.winding_number(points, face_start, corner_point, faces, turned, *probe)
                odd[inner] ^= abs(inside) > 0.5
    return odd


def holes(corner_point: Ints, face_start: Ints, edges: Topology) -> list[NDArray[np.int64]]:
    """The closed loops of border edges, each as the corners at which its edges begin.

    Walked against the faces beside it, so that a face with the points of the loop in this order closes it.
    """
    border = edges.border
    corner = edges.first[border].astype(np.int64)
    after = np.arange(1, len(corner_point) + 1)
    after[face_start[1:] - 1] = face_start[:-1]
    begin, end = edges.joined[corner_point[corner]], edges.joined[corner_point[after[corner]]]
    loop, loop_start = np.empty(len(corner), np.int64), np.zeros(len(corner) + 1, np.int64)
    count = kernels.border_loops(
        begin,
        end,
        np.full(len(edges.joined), -1, np.int32),
        np.empty(len(corner), np.int32),
        np.zeros(len(corner), bool),
        loop,
        loop_start,
    )
    # An edge is left at its end: that is where the corner after it stands.
    return [after[corner[loop[loop_start[k] : loop_start[k + 1]]]] for k in range(count)]
