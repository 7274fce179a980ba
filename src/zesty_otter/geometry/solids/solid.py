"""What is inside of a mesh and what is not, and how far a shape is from it."""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface, sampled
from zesty_otter.geometry.solids.hulls import Hull
from zesty_otter.geometry.surface.topology import facing_outward, groups_of_pairs, parts, topology

_CELLS = 40  # along the longest side, to know at once what is inside
_FEW = 40_000  # rays, up to which no grid is made
_RAYS = 40  # that have to meet the surface of a mesh with openings, for a place to be inside


class Solid:
    """What is solid of a mesh: what it goes all round, and its sheets.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        At least one; which way they face does not matter.
    """

    def __init__(self, points: NDArray[np.float64], triangles: NDArray[np.int32]) -> None:
        self.points = points
        start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
        edges = topology(points, start, triangles.ravel())
        shell, count = parts(start, triangles.ravel(), edges.joined)
        odd = edges.use[edges.corner_edge] % 2 == 1
        closed = np.ones(count, bool)
        closed[shell[edges.corner_face[odd]]] = False
        turned = facing_outward(points, start, triangles.ravel(), edges).turned
        self.triangles = np.where(turned[:, None], triangles[:, ::-1], triangles)
        self.is_sheet = ~closed[shell]
        self.surface = Surface(points, self.triangles)
        # Without openings three rays tell what is inside; else most that find the surface round a place may have
        # missed the opening.
        self._rays = _RAYS if self.is_sheet.any() else 3
        self.size = float(np.ptp(points[triangles.ravel()], axis=0).max()) or 1.0
        self._step, self._low = 1.0, np.zeros(3)
        self._asked = 0

    def is_inside(self, places: NDArray[np.float64]) -> NDArray[np.bool_]:
        """(N,) whether places, none of them on the surface, are inside.

        Parameters
        ----------
        places : (N, 3) float64

        Returns
        -------
        (N,) bool

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> from zesty_otter.geometry import convex_hull
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> Solid(cube.points, cube.triangles).is_inside(np.array([(0.5, 0.5, 0.5), (2, 0.5, 0.5)])).tolist()
        [True, False]
        """
        if self._is_asked_little(len(places)):
            return self.surface.surrounds(places, self._rays)
        known_cells = self._known
        cell = np.floor((places - self._low) / self._step).astype(np.int64)
        within = ((cell >= 0) & (cell < known_cells.shape)).all(axis=1)
        known = np.zeros(len(places), np.int8)
        known[within] = known_cells[tuple(cell[within].T)]
        unknown = np.flatnonzero(known < 0)
        inside = np.zeros(len(places), bool)
        inside[known > 0] = True
        inside[unknown] = self.surface.surrounds(places[unknown], self._rays)
        return inside

    def all_inside(self, places: NDArray[np.float64]) -> bool:
        """Whether all places, none of them on the surface, are inside.

        Parameters
        ----------
        places : (N, 3) float64

        Returns
        -------
        bool

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> from zesty_otter.geometry import convex_hull
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> Solid(cube.points, cube.triangles).all_inside(np.array([(0.5, 0.5, 0.5), (2, 0.5, 0.5)]))
        False
        """
        if self._is_asked_little(len(places)):
            return bool(self.surface.surrounds(places, self._rays).all())
        known = self._known
        return self.surface.all_surrounded(places, known, self._low, self._step, self._rays)

    def _is_asked_little(self, count: int) -> bool:
        """Whether so few places were asked for, with these, that a grid would cost more than it saves."""
        self._asked += count
        return self._asked * self._rays < _FEW

    @cached_property
    def _known(self) -> NDArray[np.int8]:
        """Of each cell of a grid whether it is inside (1), outside (0), or met by the surface (-1).

        Cells side by side that the surface does not meet are all inside or all outside.
        """
        self._step = self.size * 1.04 / _CELLS
        box = self.points[self.triangles.ravel()]
        self._low = box.min(axis=0) - 0.02 * self.size
        shape = np.ceil((box.max(axis=0) + 0.02 * self.size - self._low) / self._step).astype(int)
        middles = (np.stack(np.meshgrid(*map(np.arange, shape), indexing="ij"), -1).reshape(-1, 3) + 0.5) * self._step
        clear = self.surface.farther_than(middles + self._low, self._step * np.sqrt(3) / 2).reshape(shape)
        known = np.full(shape, -1, np.int8)
        if clear.any():
            # No place of a clear cell is near the surface, so that any of them tells of all.
            region = _regions(clear)
            _, first = np.unique(region, return_index=True)
            places = middles[np.flatnonzero(clear.ravel())[first]] + self._low
            known[clear] = self.surface.surrounds(places, self._rays)[region]
        return known

    def outside_by(self, places: NDArray[np.float64]) -> NDArray[np.float64]:
        """(N,) how far places are from the surface, 0 for those inside.

        Parameters
        ----------
        places : (N, 3) float64

        Returns
        -------
        (N,) float64
            In the unit of the places.

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> from zesty_otter.geometry import convex_hull
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> Solid(cube.points, cube.triangles).outside_by(np.array([(0.5, 0.5, 0.5), (2, 0.5, 0.5)])).tolist()
        [0.0, 1.0]
        """
        away = self.surface.nearest(places)[0]
        far = np.flatnonzero(away > 1e-9 * self.size)
        away[far[np.asarray(self.is_inside(places[far]))]] = 0.0
        return away

    def farthest_outside(self, places: NDArray[np.float64], floor: float) -> float:
        """How far the farthest place outside is from the surface; what is nearer than ``floor`` is not told apart.

        Parameters
        ----------
        places : (N, 3) float64
        floor : float

        Returns
        -------
        float
            In the unit of the places; 0 where none is outside.

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> from zesty_otter.geometry import convex_hull
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> Solid(cube.points, cube.triangles).farthest_outside(np.array([(0.5, 0.5, 0.5), (2, 0.5, 0.5)]), 0.0)
        1.0
        """
        away = self.surface.nearest(places)[0]
        order = np.argsort(-away, kind="stable")
        start, size = 0, 32
        while start < len(order):
            few = order[start : start + size]
            start, size = start + size, 2 * size
            if away[few[0]] <= max(floor, 1e-9 * self.size):
                return float(away[few[0]])
            outside = few[~self.is_inside(places[few])]
            if len(outside):
                return float(away[outside[0]])
        return 0.0


def misfit(solid: Solid, hull: Hull, tolerance: float, most: int = 1000, floor: float = 0.0) -> float:
    """How far the surface of a hull is from what it stands for, measured where that is not inside the solid.

    ``most`` is how many places are looked at; fewer do where they lie closer than the tolerance. What is less than
    ``floor`` is not told from it.
    """
    return solid.farthest_outside(_looked_at(hull, tolerance, most), floor)


def fits(solid: Solid, hull: Hull, tolerance: float, most: int = 1000) -> bool:
    """Whether a hull's `misfit` is within a tolerance: quicker than how large it is, above all where it is not."""
    places = _looked_at(hull, tolerance, most)
    far = places[solid.surface.farther_than(places, max(tolerance, 1e-9 * solid.size))]
    return solid.all_inside(far)


def _looked_at(hull: Hull, tolerance: float, most: int) -> NDArray[np.float64]:
    count = int(np.clip(hull.area / tolerance**2, min(200, most), most))
    places = sampled(hull.points, hull.triangles, count).position
    # A little inward, so that what lies on the surface or on a cut is not taken for outside.
    return places + (hull.points.mean(axis=0) - places) * 1e-6


def _regions(clear: NDArray[np.bool_]) -> NDArray[np.int32]:
    """Of each cell of a grid that is clear the number of the region of clear cells, side by side, it lies in."""
    number = np.arange(clear.size, dtype=np.int32).reshape(clear.shape)
    alone = number[clear]
    pairs = []
    for axis in range(clear.ndim):
        here, there = np.moveaxis(number, axis, 0)[:-1], np.moveaxis(number, axis, 0)[1:]
        both = clear.ravel()[here] & clear.ravel()[there]
        pairs.append(np.stack([here[both], there[both]], axis=1))
    _, region = np.unique(groups_of_pairs(clear.size, np.concatenate(pairs))[alone], return_inverse=True)
    return region.astype(np.int32)
