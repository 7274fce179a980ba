"""How far surfaces are from each other."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_pieces
from zesty_otter.geometry.queries import _distance as kernels
from zesty_otter.geometry.queries import _rays as rays
from zesty_otter.geometry.surface.order import along_curve
from zesty_otter.geometry.vectors import cross

_PIECE = 4096  # places that one core looks at in a row


class Surface:
    """Triangles in a tree of boxes, to be asked for the nearest.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        At least one.
    """

    def __init__(self, points: NDArray[np.float64], triangles: NDArray[np.int32]) -> None:
        corners = points[triangles].reshape(-1, 9)
        self._leaves = 1 << max(-(-len(corners) // kernels.LEAF) - 1, 0).bit_length()
        self._order = np.empty(len(corners), np.int64)
        kernels.order_by_halves(corners, self._leaves, np.empty((len(corners), 6), np.float32), self._order)
        self._corners = corners[self._order]
        boxes = np.empty((2 * self._leaves, 6))
        kernels.fill_boxes(self._corners, boxes, self._leaves)
        self._groups = np.empty((2 * self._leaves, 24), np.float32)
        kernels.fill_groups(self._corners, boxes, self._leaves, self._groups)

    def nearest(
        self, samples: NDArray[np.float64], facing: NDArray[np.float64] | None = None
    ) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]:
        """The exact distance of positions to the surface.

        Parameters
        ----------
        samples : (N, 3) float64
        facing : (N, 3) float64, optional
            For each a direction; only triangles that face it count, however far they are.

        Returns
        -------
        distance : (N,) float64
            Infinite where no triangle counts.
        triangle : (N,) int64
            The nearest triangle, -1 where none counts.
        shares : (N, 3) float64
            The shares of its corners in the nearest place.

        Examples
        --------
        >>> import numpy as np
        >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
        >>> surface = Surface(points, np.array([(0, 1, 2)], np.int32))
        >>> [found.tolist() for found in surface.nearest(np.array([(0.0, 0.0, 2.0)]))]
        [[2.0], [0], [[1.0, 0.0, 0.0]]]
        """
        samples, order = np.ascontiguousarray(samples), along_curve(samples)
        distance, triangle, shares = np.empty(len(order)), np.empty(len(order), np.int64), np.empty((len(order), 3))
        facing = np.zeros((0, 3)) if facing is None else np.ascontiguousarray(facing)

        def measure(first: int, stop: int) -> None:
            kernels.nearest(
                samples, order[first:stop], facing, self._corners, self._order, self._groups, self._leaves, distance,
                triangle, shares,
            )  # fmt: skip

        in_pieces(measure, len(order), _PIECE)
        return distance, triangle, shares

    def farther_than(self, places: NDArray[np.float64], limit: float) -> NDArray[np.bool_]:
        """(N,) whether places are farther from the surface than a limit: quicker than measuring how far.

        Parameters
        ----------
        places : (N, 3) float64
            Those that follow each other should be near each other.
        limit : float

        Returns
        -------
        (N,) bool

        Examples
        --------
        >>> import numpy as np
        >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
        >>> surface = Surface(points, np.array([(0, 1, 2)], np.int32))
        >>> surface.farther_than(np.array([(0.0, 0.0, 2.0), (0.0, 0.0, 0.5)]), 1.0).tolist()
        [True, False]
        """
        places, far = np.ascontiguousarray(places), np.empty(len(places), bool)

        def ask(first: int, stop: int) -> None:
            kernels.find_far(places[first:stop], limit, self._corners, self._groups, self._leaves, far[first:stop])

        in_pieces(ask, len(places), _PIECE)
        return far

    def surrounds(self, places: NDArray[np.float64], rays_of_each: int = 3) -> NDArray[np.bool_]:
        """(N,) whether the surface, which has to face outward, goes all round each place.

        Parameters
        ----------
        places : (N, 3) float64
            Not on the surface.
        rays_of_each : int
            How many rays ask; all but one of them must find it. Three do for a surface without openings.

        Returns
        -------
        (N,) bool

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> from zesty_otter.geometry import convex_hull
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> surface = Surface(cube.points, cube.triangles)
        >>> surface.surrounds(np.array([(0.5, 0.5, 0.5), (2, 0.5, 0.5)])).tolist()
        [True, False]
        """
        order = along_curve(places)
        found = np.empty(len(places), bool)
        ordered, directions = np.ascontiguousarray(places[order]), even_directions(rays_of_each)

        def ask(first: int, stop: int) -> None:
            rays.surrounded(
                ordered[first:stop], directions, 1, self._corners, self._groups, self._leaves, found[first:stop]
            )

        in_pieces(ask, len(places), max(_PIECE // (8 * rays_of_each), 64))
        back = np.empty_like(found)
        back[order] = found
        return back

    def all_surrounded(
        self,
        places: NDArray[np.float64],
        known: NDArray[np.int8],
        low: NDArray[np.float64],
        step: float,
        rays_of_each: int = 3,
    ) -> bool:
        """Whether the surface goes all round every place, as in `surrounds`; the first that it does not ends it.

        Parameters
        ----------
        places : (N, 3) float64
        known : (X, Y, Z) int8
            Cells of a grid, in which it is known to (1), not to (0), or has to be looked at (-1).
        low : (3,) float64
            Where the grid begins.
        step : float
            The size of a cell.
        rays_of_each : int

        Returns
        -------
        bool

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> from zesty_otter.geometry import convex_hull
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> surface = Surface(cube.points, cube.triangles)
        >>> unknown = np.full((1, 1, 1), -1, np.int8)
        >>> surface.all_surrounded(np.array([(0.5, 0.5, 0.5)]), unknown, np.zeros(3), 1.0)
        True
        """
        directions, places = even_directions(rays_of_each), np.ascontiguousarray(places)
        return (
            rays.first_outside(places, known, low, step, directions, 1, self._corners, self._groups, self._leaves) < 0
        )

    def first_hits(
        self,
        places: NDArray[np.float64],
        directions: NDArray[np.float64],
        least: float,
        reach: float = np.inf,
        *,
        backs_only: bool = False,
    ) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
        """What a ray from each place meets first.

        Parameters
        ----------
        places : (N, 3) float64
        directions : (N, 3) or (3,) float64
            Of length one.
        least : float
            What is nearer does not count.
        reach : float
            Nor does what is farther.
        backs_only : bool
            Whether only triangles that are met from behind count; else both sides do.

        Returns
        -------
        distance : (N,) float64
            Infinite where nothing is met.
        triangle : (N,) int64
            -1 where nothing is met; the first of several that are met at once.

        Examples
        --------
        >>> import numpy as np
        >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
        >>> surface = Surface(points, np.array([(0, 1, 2)], np.int32))
        >>> distance, triangle = surface.first_hits(np.array([(0.5, 0.5, 2.0)]), np.array([0.0, 0.0, -1.0]), 0.0)
        >>> distance.tolist(), triangle.tolist()
        ([2.0], [0])
        """
        order = along_curve(places)
        found, triangle = np.empty(len(places)), np.empty(len(places), np.int64)
        ordered = np.ascontiguousarray(places[order])
        along = np.ascontiguousarray(np.broadcast_to(directions, places.shape)[order])

        def follow(first: int, stop: int) -> None:
            rays.first_hits(
                ordered[first:stop], along[first:stop], backs_only, self._corners, self._order, self._groups,
                self._leaves, least, reach, found[first:stop], triangle[first:stop],
            )  # fmt: skip

        in_pieces(follow, len(places), _PIECE)
        back = np.empty_like(order)
        back[order] = np.arange(len(order))
        return found[back], triangle[back]

    def fronts(
        self, places: NDArray[np.float64], directions: NDArray[np.float64], reach: float
    ) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.float64]]:
        """What a ray from each place meets first from the front; quickest where neighbours follow each other.

        Parameters
        ----------
        places, directions : (N, 3) float64
            Directions of length one.
        reach : float
            What is farther does not count.

        Returns
        -------
        distance : (N,) float64
            Infinite where nothing is met.
        triangle : (N,) int64
            -1 where nothing is met.
        shares : (N, 3) float64
            The shares of its corners.

        Examples
        --------
        >>> import numpy as np
        >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
        >>> surface = Surface(points, np.array([(0, 1, 2)], np.int32))
        >>> ends = np.array([(0.5, 0.75, 2.0), (0.5, 0.75, -2.0)]), np.array([(0.0, 0, -1), (0, 0, 1)])
        >>> [found.tolist() for found in surface.fronts(*ends, 9.0)[:2]]
        [[2.0, inf], [0, -1]]
        """
        count = len(places)
        found, triangle, shares = np.empty(count), np.empty(count, np.int64), np.empty((count, 2))
        places, directions = np.ascontiguousarray(places), np.ascontiguousarray(directions)

        def follow(first: int, stop: int) -> None:
            rays.cast(
                places[first:stop], directions[first:stop], reach, self._corners, self._groups, self._leaves,
                found[first:stop], triangle[first:stop], shares[first:stop],
            )  # fmt: skip

        in_pieces(follow, count, _PIECE)
        shares = np.column_stack([1.0 - shares.sum(axis=1), shares])
        return found, np.where(triangle < 0, -1, self._order[triangle]), shares

    def open_share(
        self,
        places: NDArray[np.float64],
        normals: NDArray[np.float64],
        reach: float,
        number: NDArray[np.int64],
        rays_of_each: int = 64,
    ) -> NDArray[np.float32]:
        """(N,) how much of what lies above each place is open: the share of rays, as diffuse light falls, that go on.

        Parameters
        ----------
        places, normals : (N, 3) float64
        reach : float
            What is farther does not count.
        number : (N,) int64
            Sets how the rays of a place are turned.
        rays_of_each : int

        Returns
        -------
        (N,) float32

        Examples
        --------
        >>> import numpy as np
        >>> points = np.array([(-9, -9, 1), (9, -9, 1), (0, 9, 1)], float)
        >>> lid = Surface(points, np.array([(0, 1, 2)], np.int32))
        >>> lid.open_share(np.zeros((1, 3)), np.array([(0.0, 0, 1)]), 100.0, np.zeros(1, np.int64)).item() < 0.1
        True
        """
        k = np.arange(rays_of_each) + 0.5
        # Spread as the cosine of the angle to the normal, by a spiral on the disc below (Vogel 1979, Malley).
        away, turn = np.sqrt(k / rays_of_each), k * np.pi * (3 - 5**0.5)
        fan = np.stack([away * np.cos(turn), away * np.sin(turn), np.sqrt(1 - away**2)], axis=1)
        places, normals = np.ascontiguousarray(places), np.ascontiguousarray(normals)
        share = np.empty(len(places), np.float32)
        least = 1e-5 * float(np.abs(self._corners).max(initial=1e-300))

        def follow(first: int, stop: int) -> None:
            rays.find_open(
                places[first:stop], normals[first:stop], fan, least, reach, self._corners, self._groups, self._leaves,
                number[first:stop], share[first:stop],
            )  # fmt: skip

        in_pieces(follow, len(places), _PIECE // 8)
        return share


@lru_cache
def even_directions(count: int) -> NDArray[np.float64]:
    """(N, 3) directions spread evenly, along none that anything is likely to have.

    References
    ----------
    R. Swinbank and J. Purser (2006), "Fibonacci grids: a novel approach to global modelling".
    """
    k = np.arange(count) + 0.5
    height, turn = 1 - 2 * k / count, k * np.pi * (3 - 5**0.5)
    flat = np.sqrt(1 - height**2)
    tilted = np.array([(0.8047, -0.3106, 0.5059), (0.5059, 0.8047, -0.3106), (-0.3106, 0.5059, 0.8047)])
    directions = np.stack([flat * np.cos(turn), flat * np.sin(turn), height], axis=1) @ np.linalg.qr(tilted)[0]
    directions.flags.writeable = False  # all who ask for as many get the same
    return np.asarray(directions)


def wall_thickness(
    points: NDArray[np.float64], triangles: NDArray[np.int32], normals: NDArray[np.float64], reach: float
) -> NDArray[np.float64]:
    """How thick a surface's body is behind each point, straight against its normal.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        At least one.
    normals : (P, 3) float64
        Of length one, or zero for points that do not matter.
    reach : float
        What is thicker counts as without end.

    Returns
    -------
    (P,) float64
        Infinite where nothing is behind within reach, as on an open sheet.
    """
    return Surface(points, triangles).first_hits(points, -normals, 1e-3 * reach, reach, backs_only=True)[0]


def areas(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(T,) area of each triangle."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return np.asarray(np.linalg.norm(cross(b - a, c - a), axis=1) / 2)


@dataclass(frozen=True, eq=False)
class Samples:
    """Places on a surface: ``position`` (N, 3), ``triangle`` (N,) it is on, ``shares`` (N, 3) of its corners."""

    position: NDArray[np.float64]
    triangle: NDArray[np.int64]
    shares: NDArray[np.float64]


def sampled(points: NDArray[np.float64], triangles: NDArray[np.int32], count: int) -> Samples:
    """Places spread evenly over a surface, the same every time, and the corners of its triangles.

    Of the corners there are no more than ``count`` as well; when there are more, evenly chosen ones.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        At least one.
    count : int
        How many places besides the corners.

    References
    ----------
    M. Roberts (2018), "The unreasonable effectiveness of quasirandom sequences".
    """
    most = count + min(count, len(points))
    position, triangle, shares = np.empty((most, 3)), np.empty(most, np.int64), np.empty((most, 3))
    total = kernels.sample(
        np.ascontiguousarray(points), np.ascontiguousarray(triangles, np.int32), count, np.empty(len(triangles)),
        np.empty(len(points), np.int32), position, triangle, shares,
    )  # fmt: skip
    return Samples(position[:total], triangle[:total], shares[:total])


def mixed(values: NDArray[np.float64], triangle: NDArray[np.int64], shares: NDArray[np.float64]) -> NDArray[np.float64]:
    """(N, n) of values (T, 3, n) at corners of triangles, those at places of some."""
    out = np.empty((len(triangle), values.shape[2]))
    rays.mix(np.ascontiguousarray(values), triangle, np.ascontiguousarray(shares), out)
    return out
