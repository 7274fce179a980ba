"""Curves in space: points and directions at parameters, and parameters of points."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves.splines import curve_at
from zesty_otter.geometry.queries import near

Floats = NDArray[np.float64]

FULL_TURN = 2 * math.pi


class Curve(Protocol):
    """A curve in space.

    ``span`` is where its parameters lie, with infinite ends where there are none; ``period`` is how far it is round a
    closed one, 0 for others; ``breaks`` are parameters at which it may have a corner.
    """

    @property
    def span(self) -> tuple[float, float]: ...
    @property
    def period(self) -> float: ...
    @property
    def breaks(self) -> Floats: ...
    def at(self, t: Floats) -> Floats: ...
    def slope(self, t: Floats) -> Floats: ...
    def parameters_of(self, points: Floats) -> Floats: ...


NO_BREAKS: Floats = np.zeros(0)


@dataclass(frozen=True, eq=False)
class Placed:
    """A place in space with its own axes: ``axes`` is (3, 3), rows x, y, z of length one."""

    origin: Floats
    axes: Floats

    def to_world(self, x: Floats, y: Floats, z: Floats | float = 0.0) -> Floats:
        return self.turn(x, y, z) + self.origin

    def turn(self, x: Floats, y: Floats, z: Floats | float = 0.0) -> Floats:
        own = np.empty((len(x), 3))
        own[:, 0], own[:, 1], own[:, 2] = x, y, z
        return own @ self.axes

    def to_own(self, points: Floats) -> Floats:
        return (points - self.origin) @ self.axes.T


@dataclass(frozen=True, eq=False)
class Line:
    """``origin + t * along``."""

    origin: Floats
    along: Floats
    span = (-math.inf, math.inf)
    period = 0.0
    breaks = NO_BREAKS

    def at(self, t: Floats) -> Floats:
        return self.origin + t[:, None] * self.along

    def slope(self, t: Floats) -> Floats:
        return np.broadcast_to(self.along, (len(t), 3))

    def parameters_of(self, points: Floats) -> Floats:
        return np.asarray((points - self.origin) @ self.along / max(float(self.along @ self.along), 1e-300))


@dataclass(frozen=True, eq=False)
class Ellipse:
    """``a cos t`` along x and ``b sin t`` along y of a place; a circle where both are the same."""

    place: Placed
    a: float
    b: float
    span = (0.0, FULL_TURN)
    period = FULL_TURN
    breaks = NO_BREAKS

    def at(self, t: Floats) -> Floats:
        return self.place.to_world(self.a * np.cos(t), self.b * np.sin(t))

    def slope(self, t: Floats) -> Floats:
        return self.place.turn(-self.a * np.sin(t), self.b * np.cos(t))

    def parameters_of(self, points: Floats) -> Floats:
        own = self.place.to_own(points)
        if self.a == self.b:
            return np.arctan2(own[:, 1], own[:, 0]) % FULL_TURN
        near = np.arctan2(own[:, 1] * self.a, own[:, 0] * self.b) % FULL_TURN
        return _refined(self, points, near)


@dataclass(frozen=True, eq=False)
class Parabola:
    """``f t t`` along x and ``2 f t`` along y of a place."""

    place: Placed
    focal: float
    span = (-math.inf, math.inf)
    period = 0.0
    breaks = NO_BREAKS

    def at(self, t: Floats) -> Floats:
        return self.place.to_world(self.focal * t * t, 2 * self.focal * t)

    def slope(self, t: Floats) -> Floats:
        return self.place.turn(2 * self.focal * t, np.full(len(t), 2 * self.focal))

    def parameters_of(self, points: Floats) -> Floats:
        return np.asarray(self.place.to_own(points)[:, 1] / (2 * self.focal))


@dataclass(frozen=True, eq=False)
class Hyperbola:
    """``a cosh t`` along x and ``b sinh t`` along y of a place."""

    place: Placed
    a: float
    b: float
    span = (-math.inf, math.inf)
    period = 0.0
    breaks = NO_BREAKS

    def at(self, t: Floats) -> Floats:
        return self.place.to_world(self.a * np.cosh(t), self.b * np.sinh(t))

    def slope(self, t: Floats) -> Floats:
        return self.place.turn(self.a * np.sinh(t), self.b * np.cosh(t))

    def parameters_of(self, points: Floats) -> Floats:
        return np.asarray(np.arcsinh(self.place.to_own(points)[:, 1] / self.b))


@dataclass(frozen=True, eq=False)
class Spline:
    """A B-spline, rational or not: ``control`` is (n, 4) with x w, y w, z w, w."""

    knots: Floats
    degree: int
    control: Floats

    @cached_property
    def span(self) -> tuple[float, float]:
        return float(self.knots[self.degree]), float(self.knots[len(self.control)])

    @cached_property
    def period(self) -> float:
        low, high = self.span
        ends = self.at(np.array(self.span))
        size = float(np.ptp(self.control[:, :3] / self.control[:, 3:], axis=0).max(initial=0.0))
        return high - low if float(np.abs(ends[0] - ends[1]).max()) <= 1e-7 * size else 0.0

    @cached_property
    def breaks(self) -> Floats:
        inner, times = np.unique(self.knots[self.degree + 1 : len(self.control)], return_counts=True)
        return inner[times >= self.degree]

    def at(self, t: Floats) -> Floats:
        return curve_at(self.knots, self.degree, self.control, self._within(t))[0]

    def slope(self, t: Floats) -> Floats:
        return curve_at(self.knots, self.degree, self.control, self._within(t))[1]

    def parameters_of(self, points: Floats) -> Floats:
        spans = np.unique(self.knots[self.degree : len(self.control) + 1])
        return nearest(self, points, _spread(spans, 4 * self.degree))

    def _within(self, t: Floats) -> Floats:
        low, high = self.span
        if "period" in self.__dict__ and self.period and len(t) and (t.min() < low or t.max() > high):
            return np.where((t < low) | (t > high), low + (t - low) % (high - low), t)
        return t


@dataclass(frozen=True, eq=False)
class Polyline:
    """Straight from point to point; the parameter counts them."""

    points: Floats
    period = 0.0

    @property
    def span(self) -> tuple[float, float]:
        return 0.0, float(len(self.points) - 1)

    @property
    def breaks(self) -> Floats:
        return np.arange(1.0, len(self.points) - 1)

    def at(self, t: Floats) -> Floats:
        k = np.clip(t.astype(np.int64), 0, len(self.points) - 2)
        share = (t - k)[:, None]
        return np.asarray(self.points[k] * (1 - share) + self.points[k + 1] * share)

    def slope(self, t: Floats) -> Floats:
        return np.asarray(np.diff(self.points, axis=0)[np.clip(t.astype(np.int64), 0, len(self.points) - 2)])

    def parameters_of(self, points: Floats) -> Floats:
        return nearest(self, points, _spread(np.arange(float(len(self.points))), 4))


@dataclass(frozen=True, eq=False)
class Piece:
    """Part of a curve, forward or backward: parameters from 0 to 1."""

    curve: Curve
    first: float
    last: float
    span = (0.0, 1.0)
    period = 0.0

    @property
    def breaks(self) -> Floats:
        inner = (self.curve.breaks - self.first) / (self.last - self.first or 1.0)
        return np.sort(inner[(inner > 0) & (inner < 1)])

    def at(self, t: Floats) -> Floats:
        return self.curve.at(self.first + t * (self.last - self.first))

    def slope(self, t: Floats) -> Floats:
        return self.curve.slope(self.first + t * (self.last - self.first)) * (self.last - self.first)

    def parameters_of(self, points: Floats) -> Floats:
        return nearest(self, points, np.linspace(0.0, 1.0, 33))


@dataclass(frozen=True, eq=False)
class Chain:
    """Several curves one after the other, each with parameters of length one."""

    pieces: tuple[Piece, ...]

    @property
    def span(self) -> tuple[float, float]:
        return 0.0, float(len(self.pieces))

    @cached_property
    def period(self) -> float:
        ends = self.at(np.array(self.span))
        around = self.at(np.linspace(*self.span, 17))
        closed = float(np.abs(ends[0] - ends[1]).max()) <= 1e-6 * float(np.ptp(around, axis=0).max())
        return float(len(self.pieces)) if closed else 0.0

    @property
    def breaks(self) -> Floats:
        inner = [k + piece.breaks for k, piece in enumerate(self.pieces)]
        return np.sort(np.concatenate([np.arange(1.0, len(self.pieces)), *inner]))

    def at(self, t: Floats) -> Floats:
        return self._each(t, lambda piece, own: piece.at(own))

    def slope(self, t: Floats) -> Floats:
        return self._each(t, lambda piece, own: piece.slope(own))

    def parameters_of(self, points: Floats) -> Floats:
        return nearest(self, points, _spread(np.arange(len(self.pieces) + 1.0), 16))

    def _each(self, t: Floats, ask: Callable[[Piece, Floats], Floats]) -> Floats:
        count = len(self.pieces)
        if "period" in self.__dict__ and self.period:
            t = np.where((t < 0) | (t > count), t % count, t)
        which = np.clip(t.astype(np.int64), 0, count - 1)
        out = np.empty((len(t), 3))
        for k in np.unique(which):
            mine = which == k
            out[mine] = ask(self.pieces[k], t[mine] - k)
        return out


@dataclass(frozen=True, eq=False)
class Mapped:
    """A curve seen another way: its points and directions go through functions of their own."""

    curve: Curve
    place: Callable[[Floats], Floats]
    turn: Callable[[Floats, Floats], Floats]
    closed: float = 0.0  # the period, where it is closed and the curve is not

    @property
    def span(self) -> tuple[float, float]:
        return self.curve.span

    @property
    def period(self) -> float:
        return self.closed or self.curve.period

    @property
    def breaks(self) -> Floats:
        return self.curve.breaks

    def at(self, t: Floats) -> Floats:
        return self.place(self.curve.at(t))

    def slope(self, t: Floats) -> Floats:
        return self.turn(self.curve.at(t), self.curve.slope(t))

    def parameters_of(self, points: Floats) -> Floats:
        return nearest(self, points, samples_of(self))


def samples_of(curve: Curve, most: float = 1e3) -> Floats:
    """Parameters that are near enough to each other to tell which part of a curve is meant."""
    if isinstance(curve, Mapped):
        return samples_of(curve.curve, most)
    if isinstance(curve, Spline):
        return _spread(np.unique(curve.knots[curve.degree : len(curve.control) + 1]), 4 * curve.degree)
    if isinstance(curve, Polyline | Chain):
        return _spread(np.arange(curve.span[0], curve.span[1] + 1), 16)
    if isinstance(curve, Hyperbola):
        most = min(most, 25.0)  # beyond which it is a million million times as far away as wide
    low, high = max(curve.span[0], -most), min(curve.span[1], most)
    return np.linspace(low, high, 65)


def nearest(curve: Curve, points: Floats, samples: Floats) -> Floats:
    """The parameter at which a curve is nearest to each point, found from the nearest of samples."""
    _, which = near.nearest(points, curve.at(samples))
    low, high = samples[np.maximum(which - 1, 0)], samples[np.minimum(which + 1, len(samples) - 1)]
    return _refined(curve, points, samples[which], low, high)


def _refined(curve: Curve, points: Floats, t: Floats, low: Floats | None = None, high: Floats | None = None) -> Floats:
    for _ in range(12):
        slope = curve.slope(t)
        size = np.maximum(np.einsum("nk,nk->n", slope, slope), 1e-300)
        step = np.einsum("nk,nk->n", points - curve.at(t), slope) / size
        moved = t + step
        if low is not None and high is not None:
            moved = np.clip(moved, low, high)
        if np.abs(moved - t).max(initial=0.0) <= 1e-14 * max(1.0, float(np.abs(t).max(initial=0.0))):
            return moved
        t = moved
    return t


def _spread(ends: Floats, pieces: int) -> Floats:
    """Values at even distances between each two of some."""
    share = np.arange(pieces) / pieces
    return np.append((ends[:-1, None] + np.diff(ends)[:, None] * share).ravel(), ends[-1])
