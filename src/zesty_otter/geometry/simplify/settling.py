"""A light surface brought a little nearer to the dense one it was made from, where it is farthest from it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.simplify import _settle as kernels

_ROUNDS, _MOST = 4, 500  # how often the worst places are mended, and how many of them
_WORST = 0.8  # distances beyond this share of the largest are mended
_SUSPECT = 0.4  # triangles by points with less than this share of it are not looked at
_GOAL = 0.98  # what a move must make of a squared distance to be worth it
_RING = 256


class Neighbourhood:
    """A surface whose points know their triangles.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    """

    def __init__(self, points: NDArray[np.float64], triangles: NDArray[np.int32]) -> None:
        self.points, self.tri = points, np.ascontiguousarray(triangles, np.int32).reshape(-1)
        count = np.bincount(self.tri, minlength=len(points))
        self.start = np.zeros(len(points) + 2, np.int32)
        np.cumsum(count, out=self.start[2:])
        self.around = np.empty(len(self.tri), np.int32)
        kernels.triangles_at(self.tri, self.start, self.around)
        self.start = self.start[:-1]


def settled(
    light: Neighbourhood,
    dense: Neighbourhood,
    home: NDArray[np.int32],
    *,
    fixed: NDArray[np.bool_],
    on_line: NDArray[np.bool_],
    dense_on_line: NDArray[np.bool_],
    leeway: NDArray[np.float64],
) -> NDArray[np.float64]:
    """The points (P, 3) of a light surface, a few of them moved so that the largest deviation shrinks.

    Edge collapse by quadrics keeps the average small; single places stay that are far worse than all others.
    There the corners of the nearest triangle are moved towards the dense surface, by as much as brings both
    surfaces nearer to each other all around.

    Parameters
    ----------
    light, dense : Neighbourhood
    home : (D,) int32
        For each dense point a light one that lies near it; -1 where there is none.
    fixed : (P,) bool
        Light points that stay.
    on_line, dense_on_line : (P,) and (D,) bool
        Which are on borders and seams. Such light points move only for the sake of such dense ones.
    leeway : (P,) float64
        How far each light point may move at a time.
    """
    points = light.points.copy()
    count = len(points)
    far, worst = np.zeros(count), np.full(count, -1, np.int32)
    close, close_to = np.full(count, np.inf), np.full(count, -1, np.int32)
    home = home.copy()
    kernels.find_homes(points, light.tri, light.start, light.around, dense.points, home, far, worst, close, close_to)
    lodging = np.flatnonzero(home >= 0).astype(np.int32)
    lodgers = lodging[np.argsort(home[lodging], kind="stable")]
    lodger_start = np.zeros(count + 1, np.int32)
    np.cumsum(np.bincount(home[lodging], minlength=count), out=lodger_start[1:])
    freedom = np.where(fixed, kernels.FIXED, np.where(on_line, kernels.ON_LINE, kernels.FREE))
    about = (
        points, light.tri, light.start, light.around, freedom, leeway**2, dense.points, dense.tri, dense.start,
        dense.around, lodger_start, lodgers, far, worst, close_to, np.empty(_RING, np.int32),
    )  # fmt: skip
    bound = 0.0
    for _ in range(_ROUNDS):
        bound = float(far.max(initial=0.0)) * _WORST**2
        todo = np.flatnonzero(far > bound)
        todo = todo[np.argsort(-far[todo], kind="stable")][:_MOST]
        kernels.settle(*about, dense_on_line, todo, bound, _GOAL)
    suspect = (far > bound * _SUSPECT**2)[light.tri].reshape(-1, 3).any(axis=1)
    kernels.settle_places(*about, np.flatnonzero(suspect), bound, _GOAL)
    return points
