"""Where a character would stand: collision against the surface it stands for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries import _rays as rays
from zesty_otter.geometry.queries.distance import Surface, sampled
from zesty_otter.geometry.solids.hulls import Hull
from zesty_otter.geometry.solids.solid import Solid
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.geometry.vectors import quantile

_SIDES = 4000  # places to look at on the sides and within collision


@dataclass(frozen=True, eq=False)
class Shapes:
    """Collision: convex parts, and triangles of what is not convex (points and triangles)."""

    hulls: Sequence[Hull] = ()
    surfaces: Sequence[tuple[NDArray[np.float64], NDArray[np.int32]]] = ()


@dataclass(frozen=True, eq=False)
class Standing:
    """Where one can stand, and how feet would, in the unit of the points.

    Parameters
    ----------
    place : (N, 3) float64
        Where one can stand.
    gap : (N,) float64
        How far feet would float above each place; below 0 how far they would sink; NaN where nothing holds them.
    """

    place: NDArray[np.float64]
    gap: NDArray[np.float64]

    @property
    def held(self) -> NDArray[np.bool_]:
        """(N,) the places where collision holds feet at all."""
        return np.isfinite(self.gap)

    @property
    def floats(self) -> float:
        """The most that feet float by."""
        return float(self.gap[self.held].max(initial=0.0))

    @property
    def sinks(self) -> float:
        """The most that feet sink by, where something holds them."""
        return float(max(0.0, -self.gap[self.held].min(initial=0.0)))

    @property
    def most(self) -> float:
        """What feet are off by, up or down, in not more than 5 of 100 places."""
        return float(quantile(np.abs(self.gap[self.held]), 0.95)) if self.held.any() else 0.0

    @property
    def falls(self) -> float:
        """The share of places where feet fall through."""
        return float(1 - self.held.mean()) if len(self.gap) else 0.0

    @property
    def worst(self) -> int | None:
        """Which place is the worst of all, one where feet fall through before others; None when there is no place."""
        return int(np.argmax(np.where(self.held, np.abs(self.gap), np.inf))) if len(self.gap) else None


@dataclass(frozen=True, eq=False)
class Footing(Standing):
    """How collision lies to the surface it stands for, in the unit of the points.

    Parameters
    ----------
    place, gap
        See `Standing`.
    sideways : float
    sideways_at : (3,) float64
        How far upright sides of the collision stand out, at most, and where.
    blocked : float
    blocked_at : (3,) float64
        The radius of the largest ball of open space that is solid for collision, and its middle.
    """

    sideways: float
    sideways_at: NDArray[np.float64]
    blocked: float
    blocked_at: NDArray[np.float64]


def footing(
    solid: Solid,
    shapes: Shapes,
    up: NDArray[np.float64],
    *,
    slope: float = 45.0,
    headroom: float,
    reach: float,
    margin: float,
    count: int = 20_000,
) -> Footing:
    """Measure how collision lies to the surface it stands for.

    Looks at faces that are not steeper than ``slope`` degrees and have open space above. Feet rest on the top of the
    collision they are in, and of what that is in, and so on; else on the next collision below.

    Parameters
    ----------
    solid : Solid
    shapes : Shapes
    up : (3,) float64
        Of length one.
    slope : float
    headroom : float
        How much open space there must be above a place for anyone to stand there.
    reach : float
        Feet that sink deeper fall through.
    margin : float
        Feet that are less than this within the side of a hull are pushed aside, not up.
    count : int
        How many places to look at.
    """
    rising = _rising(solid, up, slope)
    place = np.zeros((0, 3))
    if len(rising):
        place = sampled(solid.points, rising, count).position[:count]
        above, _ = solid.surface.first_hits(place, up, 1e-6 * solid.size)
        # What has nothing above it is not buried in another shell; what has may be, and nobody stands there.
        free = np.isinf(above)
        under = np.flatnonzero(~free & (above > headroom))
        free[under] = ~solid.is_inside(place[under] + 1e-5 * solid.size * up)
        place = place[free]
    gap = _gap(place, shapes, up, reach, margin, 1e-7 * solid.size)
    sideways, sideways_at, blocked, blocked_at = _open_space(solid, shapes, up, min(count // 4, _SIDES))
    return Footing(place, gap, sideways, sideways_at, blocked, blocked_at)


def _rising(solid: Solid, up: NDArray[np.float64], slope: float) -> NDArray[np.int32]:
    """The triangles that one can stand on; of sheets both sides count."""
    start = np.arange(0, 3 * len(solid.triangles) + 1, 3, dtype=np.int32)
    area, normal = face_areas_and_normals(solid.points, start, solid.triangles.ravel())
    height = normal @ up
    flat = np.where(solid.is_sheet, np.abs(height), height) >= np.cos(np.radians(slope)) - 1e-9
    return solid.triangles[flat & (area > 0)]


def _gap(
    place: NDArray[np.float64], shapes: Shapes, up: NDArray[np.float64], reach: float, margin: float, slack: float
) -> NDArray[np.float64]:
    """(N,) how far above each place feet come to rest, NaN where nothing is within reach below."""
    rise = np.zeros(len(place))
    below = np.full(len(place), -np.inf)
    within = np.zeros(len(place), bool)
    spans = [_span(place, hull, up, margin) for hull in shapes.hulls]
    for rows, low, high, _ in spans:
        holds = (low <= slack) & (high >= -slack)
        within[rows[holds]] = True
        under = high < -slack
        np.maximum.at(below, rows[under], high[under])
    for _ in spans:
        before = rise.copy()
        for rows, low, high, beside in spans:
            higher = (low <= rise[rows] + slack) & (high > rise[rows]) & within[rows] & ~beside
            rise[rows[higher]] = high[higher]
        if (rise == before).all():
            break
    gap = np.where(within, np.where(np.abs(rise) <= slack, 0.0, rise), below)
    for points, triangles in shapes.surfaces:
        # What lies in the surface itself is met from a little below and a little above.
        surface = Surface(points, triangles)
        above = surface.first_hits(place - slack * up, up, 0.0, reach)[0] - slack
        under_it = surface.first_hits(place + slack * up, -up, 0.0, reach)[0] - slack
        nearer = np.where(above <= under_it, above, -under_it)
        # A ray may miss an edge by a hair that feet do not.
        away, triangle, shares = surface.nearest(place)
        touched = np.einsum("nk,nkj->nj", shares, points[triangles[triangle]])
        beside = (away <= margin) & (away < np.abs(nearer))
        nearer = np.where(beside, np.where((touched - place) @ up >= 0, away, -away), nearer)
        better = np.isfinite(nearer) & (np.abs(nearer) < np.where(within, 0.0, np.abs(gap)))
        gap = np.where(better, nearer, gap)
    return np.where(gap >= -reach, gap, np.nan)


def _span(
    place: NDArray[np.float64], hull: Hull, up: NDArray[np.float64], margin: float
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.bool_]]:
    """Which places a hull is above or below of, from where to where on the upright line through each, and which of
    them are just at its side.
    """
    size = float(np.ptp(hull.points))
    u = np.cross(up, np.eye(3)[int(np.argmin(np.abs(up)))])
    v = np.cross(up, u)
    near = np.ones(len(place), bool)
    for axis in (u, v):
        along, own = place @ axis, hull.points @ axis
        near &= (along >= own.min() - 1e-9 * size) & (along <= own.max() + 1e-9 * size)
    rows = np.flatnonzero(near)
    low, high, sideways = np.empty(len(rows)), np.empty(len(rows)), np.empty(len(rows))
    rays.through_planes(place[rows], hull.planes, hull.planes[:, :3] @ up, low, high, sideways)
    met = (sideways <= 1e-7 * size) & (low <= high + 1e-9 * size)
    return rows[met], low[met], high[met], sideways[met] > -margin


def _open_space(
    solid: Solid, shapes: Shapes, up: NDArray[np.float64], count: int
) -> tuple[float, NDArray[np.float64], float, NDArray[np.float64]]:
    """How far upright sides stand out and where, and the largest ball of open space within hulls."""
    nowhere = np.full(3, np.nan)
    sideways, sideways_at, blocked, blocked_at = 0.0, nowhere, 0.0, nowhere
    total = sum(hull.area for hull in shapes.hulls)
    for n, hull in enumerate(shapes.hulls):
        few = max(int(count * hull.area / total), 100)
        on = sampled(hull.points, hull.triangles, few)
        normal = hull.planes[_plane_of(hull)][on.triangle][:, :3]
        inward = on.position + (hull.points.mean(axis=0) - on.position) * 1e-6
        free = np.ones(len(inward), bool)
        for k, other in enumerate(shapes.hulls):
            if k != n:
                free &= other.above(inward) > -1e-6 * solid.size
        away = solid.outside_by(inward)
        side = np.where(free & (np.abs(normal @ up) < 0.5), away, 0.0)
        if side.max(initial=0.0) > sideways:
            sideways, sideways_at = float(side.max()), on.position[int(np.argmax(side))]
        # Halfway and farther in, too.
        shares = np.array([1.0, 0.75, 0.5, 0.25, 0.0])
        step = inward[:: len(shares)]
        inside = hull.points.mean(axis=0) + shares[:, None, None] * (step - hull.points.mean(axis=0))
        inside = inside.reshape(-1, 3)
        away = solid.outside_by(inside)
        if away.max(initial=0.0) > blocked:
            blocked, blocked_at = float(away.max()), inside[int(np.argmax(away))]
    return sideways, sideways_at, blocked, blocked_at


def _plane_of(hull: Hull) -> NDArray[np.int64]:
    """(T,) the face each triangle of a hull is part of."""
    size = np.diff(hull.face_start)
    return np.repeat(np.arange(len(size)), size - 2)
