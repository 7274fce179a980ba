"""Surfaces in space: points and directions at parameters (u, v), and parameters of points."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np

from zesty_otter.geometry.curves.curves import FULL_TURN, Curve, Floats, Mapped, Placed, samples_of
from zesty_otter.geometry.curves.splines import surface_at
from zesty_otter.geometry.queries import distance, near


@dataclass(frozen=True)
class Pole:
    """A side of the parameters that is one point: where ``axis`` (0 for u, 1 for v) has a value."""

    axis: int
    value: float
    point: tuple[float, float, float]


class Surface(Protocol):
    """A surface in space.

    ``box`` is where its parameters lie, (2, 2) rows lowest and highest, infinite where there are no ends; ``period``
    how far it is round it along u and v, 0 where it is not closed.
    """

    @property
    def kind(self) -> str: ...
    @property
    def box(self) -> Floats: ...
    @property
    def period(self) -> tuple[float, float]: ...
    @property
    def poles(self) -> tuple[Pole, ...]: ...
    def at(self, uv: Floats) -> Floats: ...
    def slopes(self, uv: Floats) -> tuple[Floats, Floats]: ...
    def normals(self, uv: Floats) -> Floats: ...
    def parameters_of(self, points: Floats) -> Floats: ...


_ALL = np.array([(-math.inf, -math.inf), (math.inf, math.inf)])


def _unit(vectors: Floats) -> Floats:
    size = np.linalg.norm(vectors, axis=1, keepdims=True)
    return vectors / np.where(size > 0, size, 1.0)


class _Sloped:
    """A surface whose normals come from its slopes, taken from a little beside where there are none."""

    def normals(self: Surface, uv: Floats) -> Floats:
        closed = np.array(self.period) > 0
        low, high = np.where(closed, -math.inf, self.box[0]), np.where(closed, math.inf, self.box[1])
        uv = np.clip(uv, low, high)
        du, dv = self.slopes(uv)
        across = np.cross(du, dv)
        size = np.linalg.norm(across, axis=1)
        bad = size <= 1e-9 * np.linalg.norm(du, axis=1).max(initial=0.0) * np.linalg.norm(dv, axis=1).max(initial=0.0)
        if bad.any():
            box = np.where(np.isfinite(self.box), self.box, 0.0)
            middle = np.where(np.isfinite(self.box).all(axis=0), box.mean(axis=0), uv[bad])
            aside = uv[bad] + (middle - uv[bad]) * 1e-3
            across[bad] = np.cross(*self.slopes(aside))
        return _unit(across)


@dataclass(frozen=True, eq=False)
class Plane:
    place: Placed
    kind = "plane"
    box = _ALL
    period = (0.0, 0.0)
    poles = ()

    def at(self, uv: Floats) -> Floats:
        return self.place.to_world(uv[:, 0], uv[:, 1])

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        return np.broadcast_to(self.place.axes[0], (len(uv), 3)), np.broadcast_to(self.place.axes[1], (len(uv), 3))

    def normals(self, uv: Floats) -> Floats:
        return np.broadcast_to(self.place.axes[2], (len(uv), 3)).copy()

    def parameters_of(self, points: Floats) -> Floats:
        return self.place.to_own(points)[:, :2]


@dataclass(frozen=True, eq=False)
class Cone:
    """A cylinder or a cone: ``radius + v tan(angle)`` round z at the height v; u is the angle round it."""

    place: Placed
    radius: float
    angle: float = 0.0
    box = np.array([(0.0, -math.inf), (FULL_TURN, math.inf)])
    period = (FULL_TURN, 0.0)

    @property
    def kind(self) -> str:
        return "cone" if self.angle else "cylinder"

    @cached_property
    def poles(self) -> tuple[Pole, ...]:
        if not self.angle:
            return ()
        v = -self.radius / math.tan(self.angle)
        x, y, z = (float(c) for c in self.place.origin + v * self.place.axes[2])
        return (Pole(1, v, (x, y, z)),)

    def at(self, uv: Floats) -> Floats:
        reach = self.radius + uv[:, 1] * math.tan(self.angle)
        return self.place.to_world(reach * np.cos(uv[:, 0]), reach * np.sin(uv[:, 0]), uv[:, 1])

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        slant = math.tan(self.angle)
        reach, cos, sin = self.radius + uv[:, 1] * slant, np.cos(uv[:, 0]), np.sin(uv[:, 0])
        return self.place.turn(-reach * sin, reach * cos), self.place.turn(slant * cos, slant * sin, 1.0)

    def normals(self, uv: Floats) -> Floats:
        cos, sin = math.cos(self.angle), math.sin(self.angle)
        reach = self.radius + uv[:, 1] * math.tan(self.angle)
        side = np.where(reach < 0, -1.0, 1.0)
        return side[:, None] * self.place.turn(cos * np.cos(uv[:, 0]), cos * np.sin(uv[:, 0]), -sin)

    def parameters_of(self, points: Floats) -> Floats:
        own = self.place.to_own(points)
        round_it = np.arctan2(own[:, 1], own[:, 0])
        if self.angle:
            # Beyond its tip the angle is that of the other side.
            beyond = self.radius + own[:, 2] * math.tan(self.angle) < 0
            round_it = np.where(beyond, round_it + math.pi, round_it)
        return np.stack([round_it % FULL_TURN, own[:, 2]], axis=1)


@dataclass(frozen=True, eq=False)
class Sphere:
    """u is the angle round z, v that above the equator."""

    place: Placed
    radius: float
    kind = "sphere"
    box = np.array([(0.0, -math.pi / 2), (FULL_TURN, math.pi / 2)])
    period = (FULL_TURN, 0.0)

    @cached_property
    def poles(self) -> tuple[Pole, ...]:
        found = []
        for sign in (-1.0, 1.0):
            x, y, z = (float(c) for c in self.place.origin + sign * self.radius * self.place.axes[2])
            found.append(Pole(1, sign * math.pi / 2, (x, y, z)))
        return tuple(found)

    def at(self, uv: Floats) -> Floats:
        return self.place.origin + self.radius * self.normals(uv)

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        (u, v), r = uv.T, self.radius
        return (
            self.place.turn(-r * np.cos(v) * np.sin(u), r * np.cos(v) * np.cos(u)),
            self.place.turn(-r * np.sin(v) * np.cos(u), -r * np.sin(v) * np.sin(u), r * np.cos(v)),
        )

    def normals(self, uv: Floats) -> Floats:
        u, v = uv.T
        return self.place.turn(np.cos(v) * np.cos(u), np.cos(v) * np.sin(u), np.sin(v))

    def parameters_of(self, points: Floats) -> Floats:
        own = self.place.to_own(points)
        above = np.arctan2(own[:, 2], np.hypot(own[:, 0], own[:, 1]))
        return np.stack([np.arctan2(own[:, 1], own[:, 0]) % FULL_TURN, above], axis=1)


@dataclass(frozen=True, eq=False)
class Torus:
    """A ring of radius ``major`` round z, ``minor`` thick; u goes round z, v round the ring.

    Where the ring is thicker than wide, ``outer`` says which part is meant: the one outside, or the one within.
    """

    place: Placed
    major: float
    minor: float
    outer: bool = True
    kind = "torus"

    @cached_property
    def _ends(self) -> tuple[float, float] | None:
        if self.minor <= self.major:
            return None
        turn = math.acos(-self.major / self.minor)
        return (-turn, turn) if self.outer else (turn, FULL_TURN - turn)

    @property
    def box(self) -> Floats:
        low, high = self._ends or (0.0, FULL_TURN)
        return np.array([(0.0, low), (FULL_TURN, high)])

    @property
    def period(self) -> tuple[float, float]:
        return FULL_TURN, 0.0 if self._ends else FULL_TURN

    @cached_property
    def poles(self) -> tuple[Pole, ...]:
        if self._ends is None:
            return ()
        points = self.at(np.array([(0.0, v) for v in self._ends]))
        return tuple(
            Pole(1, v, (float(p[0]), float(p[1]), float(p[2]))) for v, p in zip(self._ends, points, strict=True)
        )

    def at(self, uv: Floats) -> Floats:
        (u, v), reach = uv.T, self.major + self.minor * np.cos(uv[:, 1])
        return self.place.to_world(reach * np.cos(u), reach * np.sin(u), self.minor * np.sin(v))

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        (u, v), reach, r = uv.T, self.major + self.minor * np.cos(uv[:, 1]), self.minor
        return (
            self.place.turn(-reach * np.sin(u), reach * np.cos(u)),
            self.place.turn(-r * np.sin(v) * np.cos(u), -r * np.sin(v) * np.sin(u), r * np.cos(v)),
        )

    def normals(self, uv: Floats) -> Floats:
        u, v = uv.T
        reach = self.major + self.minor * np.cos(v)
        side = np.where(reach < 0, -1.0, 1.0)[:, None]
        return side * self.place.turn(np.cos(v) * np.cos(u), np.cos(v) * np.sin(u), np.sin(v))

    def parameters_of(self, points: Floats) -> Floats:
        own = self.place.to_own(points)
        reach = np.hypot(own[:, 0], own[:, 1])
        u = np.arctan2(own[:, 1], own[:, 0])
        if self._ends is not None and not self.outer:
            # The part within lies on the other side of the axis.
            reach, u = -reach, u + math.pi
        v = np.arctan2(own[:, 2], reach - self.major)
        if self._ends is None or not self.outer:
            v = v % FULL_TURN
        return np.stack([u % FULL_TURN, v], axis=1)


@dataclass(frozen=True, eq=False)
class Extruded(_Sloped):
    """A curve (u) moved ``v`` times along a vector."""

    curve: Curve
    along: Floats
    kind = "extruded"
    poles = ()

    @property
    def box(self) -> Floats:
        low, high = self.curve.span
        return np.array([(low, -math.inf), (high, math.inf)])

    @property
    def period(self) -> tuple[float, float]:
        return self.curve.period, 0.0

    def at(self, uv: Floats) -> Floats:
        return self.curve.at(uv[:, 0]) + uv[:, 1:] * self.along

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        return self.curve.slope(uv[:, 0]), np.broadcast_to(self.along, (len(uv), 3))

    def parameters_of(self, points: Floats) -> Floats:
        size = float(np.linalg.norm(self.along))
        axis = self.along / size

        def flat(places: Floats) -> Floats:
            return np.asarray(places - np.outer(places @ axis, axis))

        u = Mapped(self.curve, flat, lambda _, slopes: flat(slopes)).parameters_of(flat(points))
        return np.stack([u, (points - self.curve.at(u)) @ axis / size], axis=1)


@dataclass(frozen=True, eq=False)
class Revolved(_Sloped):
    """A curve (v) turned by ``u`` round the z axis of a place."""

    curve: Curve
    place: Placed
    kind = "revolved"

    @property
    def box(self) -> Floats:
        low, high = self.curve.span
        return np.array([(0.0, low), (FULL_TURN, high)])

    @property
    def period(self) -> tuple[float, float]:
        return FULL_TURN, self.curve.period

    @cached_property
    def poles(self) -> tuple[Pole, ...]:
        if self.curve.period or not np.isfinite(self.curve.span).all():
            return ()
        ends = self.curve.at(np.array(self.curve.span))
        own = self.place.to_own(ends)
        size = float(np.abs(self.place.to_own(self.curve.at(samples_of(self.curve)))).max())
        return tuple(
            Pole(1, value, (float(p[0]), float(p[1]), float(p[2])))
            for value, p, o in zip(self.curve.span, ends, own, strict=True)
            if math.hypot(o[0], o[1]) <= 1e-7 * size
        )

    def _turned(self, vectors: Floats, u: Floats) -> Floats:
        x, y, z = (vectors @ self.place.axes.T).T
        return self.place.turn(x * np.cos(u) - y * np.sin(u), x * np.sin(u) + y * np.cos(u), z)

    def at(self, uv: Floats) -> Floats:
        return self.place.origin + self._turned(self.curve.at(uv[:, 1]) - self.place.origin, uv[:, 0])

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        places = self.at(uv) - self.place.origin
        return np.cross(self.place.axes[2], places), self._turned(self.curve.slope(uv[:, 1]), uv[:, 0])

    def parameters_of(self, points: Floats) -> Floats:
        def flat(places: Floats) -> Floats:
            own = self.place.to_own(places)
            return np.stack([np.hypot(own[:, 0], own[:, 1]), np.zeros(len(own)), own[:, 2]], axis=1)

        def flat_slopes(places: Floats, slopes: Floats) -> Floats:
            own, turned = self.place.to_own(places), slopes @ self.place.axes.T
            reach = np.maximum(np.hypot(own[:, 0], own[:, 1]), 1e-300)
            out = (own[:, 0] * turned[:, 0] + own[:, 1] * turned[:, 1]) / reach
            return np.stack([out, np.zeros(len(own)), turned[:, 2]], axis=1)

        v = Mapped(self.curve, flat, flat_slopes).parameters_of(flat(points))
        there, here = self.place.to_own(points), self.place.to_own(self.curve.at(v))
        u = np.arctan2(there[:, 1], there[:, 0]) - np.arctan2(here[:, 1], here[:, 0])
        return np.stack([u % FULL_TURN, v], axis=1)


@dataclass(frozen=True, eq=False)
class SplineSurface(_Sloped):
    """A B-spline surface, rational or not: ``control`` is (n, m, 4) with x w, y w, z w, w."""

    knots: tuple[Floats, Floats]
    degree: tuple[int, int]
    control: Floats
    kind = "B-spline"

    @cached_property
    def box(self) -> Floats:
        ends = [(k[d], k[-d - 1]) for k, d in zip(self.knots, self.degree, strict=True)]
        return np.array(ends, float).T

    @cached_property
    def _sides(self) -> list[Floats]:
        """Points along the four sides: lowest and highest u, lowest and highest v."""
        (u0, v0), (u1, v1) = self.box
        found = []
        for axis, value in ((0, u0), (0, u1), (1, v0), (1, v1)):
            uv = np.empty((9, 2))
            low, high = self.box[:, 1 - axis]
            uv[:, axis], uv[:, 1 - axis] = value, np.linspace(low, high, 9)
            found.append(surface_at(self.knots, self.degree, self.control, uv)[0])
        return found

    @cached_property
    def _size(self) -> float:
        return float(np.ptp((self.control[..., :3] / self.control[..., 3:]).reshape(-1, 3), axis=0).max())

    @cached_property
    def period(self) -> tuple[float, float]:
        found = []
        for axis in (0, 1):
            low, high = self._sides[2 * axis : 2 * axis + 2]
            closed = float(np.abs(low - high).max()) <= 1e-6 * self._size
            flat = float(np.ptp(low, axis=0).max()) <= 1e-6 * self._size
            found.append(float(np.ptp(self.box[:, axis])) if closed and not flat else 0.0)
        return found[0], found[1]

    @cached_property
    def poles(self) -> tuple[Pole, ...]:
        found = []
        for k, side in enumerate(self._sides):
            if float(np.ptp(side, axis=0).max()) <= 1e-6 * self._size:
                x, y, z = (float(c) for c in side[0])
                found.append(Pole(k // 2, float(self.box[k % 2, k // 2]), (x, y, z)))
        return tuple(found)

    def _within(self, uv: Floats) -> Floats:
        low, high = self.box
        if ((uv < low) | (uv > high)).any():
            size = high - low
            wrapped = np.where((uv < low) | (uv > high), low + (uv - low) % size, uv)
            return np.where(np.array(self.period) > 0, wrapped, np.clip(uv, low, high))
        return uv

    def at(self, uv: Floats) -> Floats:
        return surface_at(self.knots, self.degree, self.control, self._within(uv))[0]

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        return surface_at(self.knots, self.degree, self.control, self._within(uv))[1:]

    @cached_property
    def _samples(self) -> tuple[Floats, distance.Surface]:
        ends = []
        for axis in (0, 1):
            inner = np.unique(self.knots[axis][self.degree[axis] : -self.degree[axis] or None])
            spans = len(inner) - 1
            pieces = max(2, min(4 * self.degree[axis], -(-96 // max(spans, 1))))
            share = np.arange(pieces) / pieces
            ends.append(np.append((inner[:-1, None] + np.diff(inner)[:, None] * share).ravel(), inner[-1]))
        for pole in self.poles:
            # At a pole all samples are one, and none would tell the side of it.
            own = ends[pole.axis]
            k = 0 if pole.value == own[0] else -1
            own[k] += 0.1 * (own[1 if k == 0 else -2] - own[k])
        u, v = np.meshgrid(*ends, indexing="ij")
        uv = np.stack([u.ravel(), v.ravel()], axis=1)
        return uv, near.tree_of(surface_at(self.knots, self.degree, self.control, uv)[0])

    def parameters_of(self, points: Floats) -> Floats:
        uv, tree = self._samples
        return projected(self, points, uv[tree.nearest(np.ascontiguousarray(points))[1]])


@dataclass(frozen=True, eq=False)
class Offset:
    """A surface as far as ``by`` from another along its normals."""

    base: Surface
    by: float

    @property
    def kind(self) -> str:
        return "offset"

    @property
    def box(self) -> Floats:
        return self.base.box

    @property
    def period(self) -> tuple[float, float]:
        return self.base.period

    @property
    def poles(self) -> tuple[Pole, ...]:
        found = []
        for pole in self.base.poles:
            uv = np.zeros((1, 2))
            uv[0, pole.axis] = pole.value
            x, y, z = (float(c) for c in self.at(uv)[0])
            found.append(Pole(pole.axis, pole.value, (x, y, z)))
        return tuple(found)

    def at(self, uv: Floats) -> Floats:
        return self.base.at(uv) + self.by * self.base.normals(uv)

    def slopes(self, uv: Floats) -> tuple[Floats, Floats]:
        steps = np.where(
            np.isfinite(self.box).all(axis=0), np.ptp(np.nan_to_num(self.box, posinf=0, neginf=0), axis=0), 1.0
        )
        found = []
        for axis in (0, 1):
            step = np.zeros(2)
            step[axis] = 1e-5 * (steps[axis] or 1.0)
            found.append((self.at(uv + step) - self.at(uv - step)) / (2 * step[axis]))
        return found[0], found[1]

    def normals(self, uv: Floats) -> Floats:
        return self.base.normals(uv)

    def parameters_of(self, points: Floats) -> Floats:
        return projected(self, points, self.base.parameters_of(points))


def projected(surface: Surface, points: Floats, uv: Floats) -> Floats:
    """The parameters nearest to each point, from near ones (Gauss and Newton's method)."""
    low, high = surface.box
    period = np.array(surface.period)
    low, high = np.where(period > 0, -math.inf, low), np.where(period > 0, math.inf, high)
    active = np.arange(len(points))
    uv = uv.copy()
    for _ in range(12):
        here = uv[active]
        off = points[active] - surface.at(here)
        du, dv = surface.slopes(here)
        uu, vv, mixed = (np.einsum("nk,nk->n", a, b) for a, b in ((du, du), (dv, dv), (du, dv)))
        du_off, dv_off = np.einsum("nk,nk->n", du, off), np.einsum("nk,nk->n", dv, off)
        lift = 1e-14 * (uu + vv) + 1e-300
        uu, vv = uu + lift, vv + lift
        both = uu * vv - mixed * mixed
        both = np.where(both > 1e-12 * uu * vv, both, uu * vv)
        step = np.stack([(vv * du_off - mixed * dv_off) / both, (uu * dv_off - mixed * du_off) / both], axis=1)
        moved = np.clip(here + step, low, high)
        uv[active] = moved
        size = np.abs(moved - here).max(axis=1)
        active = active[size > 1e-12 * (1.0 + np.abs(moved).max(axis=1))]
        if not len(active):
            break
    closed = period > 0
    if closed.any():
        start = surface.box[0]
        wrapped = start + (uv - np.where(closed, start, 0.0)) % np.where(closed, period, 1.0)
        uv = np.where(closed, wrapped, uv)
    return uv
