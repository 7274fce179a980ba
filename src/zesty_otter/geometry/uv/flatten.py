"""Charts laid out flat, with as little distortion as there can be and no triangle flipped."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.uv import _flatten as kernels
from zesty_otter.geometry.uv.solving import Symmetric

Ints = NDArray[np.int32]
Floats = NDArray[np.float64]

_LEAST = 1e-3  # what triangles without area have for a height, as a share of their length
_ROUNDS = 12
_ENOUGH = 1e-3  # of the energy above its least: what a round has to gain


@dataclass(frozen=True, eq=False)
class Laid:
    """Charts laid out: ``uv`` (V, 2) in the unit of the surface, and of each chart its ``stretch`` and ``flipped``.

    ``stretch`` (K,) is the root mean square stretch of lengths, 1 where nothing is distorted; ``flipped`` (K,) says
    whether some triangle is.
    """

    uv: Floats
    stretch: Floats
    flipped: NDArray[np.bool_]


def lay_out(
    points: Floats, place: Ints, corners: Ints, chart: Ints, vertex_count: int, *, straight: bool = False
) -> Laid:
    """Lays out charts.

    Parameters
    ----------
    points : (P, 3) float64
    place : (T, 3) int32
        The points of triangles.
    corners : (T, 3) int32
        Their vertices, of which each belongs to one chart.
    chart : (T,) int32
        From 0; each a disc.
    vertex_count : int
    straight : bool
        Whether charts are only looked at from where they face.

    Returns
    -------
    Laid

    References
    ----------
    B. Levy, S. Petitjean, N. Ray and J. Maillot (2002), Least squares conformal maps.
    W. T. Tutte (1963), How to draw a graph (where these flip a triangle).
    S. Z. Kovalsky, M. Galun and Y. Lipman (2016), Accelerated quadratic proxy for geometric optimization.
    J. Smith and S. Schaefer (2015), Bijective parameterization with free boundaries.
    """
    rest = np.empty((len(place), 3))
    size = float(np.ptp(points, axis=0).max(initial=0.0)) or 1.0
    kernels.rest_shapes(points / size, place, _LEAST, rest)
    count = int(chart.max(initial=-1)) + 1
    home = np.zeros(vertex_count, np.int32)
    home[corners.ravel()] = np.repeat(chart, 3)
    where = np.zeros((vertex_count, 3))
    where[corners.ravel()] = points[place.ravel()] / size
    seen = _of_own_size(_seen(place, points / size, chart, home, where, count), rest, corners, chart, home, count)
    if straight:
        return _measured(seen, rest, corners, chart, count, size)
    uv = _conformal(rest, corners, home, where, count)
    uv = _of_own_size(uv, rest, corners, chart, home, count)
    energy, other = (_energies(rest, corners, chart, one, count) for one in (uv, seen))
    uv = np.where((other < energy)[home, None], seen, uv)
    energy = np.minimum(energy, other)
    if not np.isfinite(energy).all():
        uv = _rounded(uv, corners, chart, home, ~np.isfinite(energy))
        uv = _of_own_size(uv, rest, corners, chart, home, count)
    uv = _relaxed(uv, rest, corners, chart, home, count)
    uv = _of_own_size(uv, rest, corners, chart, home, count)
    return _measured(uv, rest, corners, chart, count, size)


def _measured(uv: Floats, rest: Floats, corners: Ints, chart: Ints, count: int, size: float) -> Laid:
    """Charts with how distorted they are."""
    stretch, area = np.empty(len(rest)), np.empty(len(rest))
    kernels.measure(corners, rest, uv, stretch, area)
    own = rest[:, 0] * rest[:, 2] / 2
    own[rest[:, 2] <= 1.001 * _LEAST * np.maximum(rest[:, 0], np.hypot(rest[:, 1], rest[:, 2]))] *= 1e-9
    whole = np.bincount(chart, own, count)
    bad = np.bincount(chart, ~np.isfinite(stretch), count) > 0
    mean = np.bincount(chart, own * np.where(np.isfinite(stretch), stretch, 0.0), count) / whole
    return Laid(uv * size, np.where(bad, np.inf, np.sqrt(mean)), bad)


def _conformal(rest: Floats, corners: Ints, home: Ints, where: Floats, count: int) -> Floats:
    """Least squares conformal maps of all charts, each with two vertices at their distance."""
    real, imaginary = np.empty((len(rest), 3, 3)), np.empty((len(rest), 3, 3))
    kernels.conformal_weights(rest, real, imaginary)
    total = len(home)
    rows, columns = np.repeat(corners, 3, axis=1).ravel(), np.tile(corners, (1, 3)).ravel()
    values = (real + 1j * imaginary).ravel()
    one, other = _far_apart(home, where, count)
    uv = np.zeros(total, complex)
    uv[other] = np.linalg.norm(where[one] - where[other], axis=1)
    free = np.ones(total, bool)
    free[one] = free[other] = False
    if free.any():
        _solve_for(free, uv, rows, columns, values)
    return np.ascontiguousarray(np.stack([uv.real, uv.imag], axis=1))


def _solve_for(free: NDArray[np.bool_], found: NDArray[Any], rows: Ints, columns: Ints, values: NDArray[Any]) -> None:
    """Finds the rows of ``found`` that are free, so that a symmetric matrix makes 0 of all."""
    number = np.cumsum(free) - 1
    pulled = free[rows] & ~free[columns]
    side = np.zeros_like(found)
    np.subtract.at(side, rows[pulled], (found[columns[pulled]].T * values[pulled]).T)
    inner = free[rows] & free[columns]
    system = Symmetric(number[rows[inner]], number[columns[inner]], values[inner], int(free.sum()))
    found[free] = system.solve(side[free])


def _far_apart(home: Ints, where: Floats, count: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Of each chart two vertices far from each other."""
    members = np.maximum(np.bincount(home, minlength=count), 1)
    middle = np.stack([np.bincount(home, where[:, k], count) / members for k in range(3)], axis=1)
    one = _farthest(home, np.linalg.norm(where - middle[home], axis=1), count)
    away = np.linalg.norm(where - where[one][home], axis=1)
    away[one] = -1.0
    return one, _farthest(home, away, count)


def _farthest(home: Ints, away: Floats, count: int) -> NDArray[np.int64]:
    order = np.lexsort((np.arange(len(home)), -away, home))
    first = np.zeros(count, np.int64)
    starts = np.searchsorted(home[order], np.arange(count))
    first[:] = order[np.minimum(starts, len(order) - 1)]
    return first


def _of_own_size(uv: Floats, rest: Floats, corners: Ints, chart: Ints, home: Ints, count: int) -> Floats:
    """Charts with the area that they have on the surface, turned over where most of them is flipped."""
    p, q, r = (uv[corners[:, k]] for k in range(3))
    area = ((q - p)[:, 0] * (r - p)[:, 1] - (q - p)[:, 1] * (r - p)[:, 0]) / 2
    laid = np.bincount(chart, area, count)
    own = np.bincount(chart, rest[:, 0] * rest[:, 2] / 2, count)
    factor = np.sqrt(own / np.where(np.abs(laid) > 1e-300, np.abs(laid), np.inf))
    factor = np.where(factor > 0, factor, 1.0)
    scale = np.stack([factor * np.where(laid < 0, -1.0, 1.0), factor], axis=1)
    return np.ascontiguousarray(uv * scale[home])


def _energies(rest: Floats, corners: Ints, chart: Ints, uv: Floats, count: int) -> Floats:
    total = np.zeros(count)
    kernels.energies(corners, rest, chart, np.ascontiguousarray(uv), total)
    return total


def _seen(place: Ints, points: Floats, chart: Ints, home: Ints, where: Floats, count: int) -> Floats:
    """Charts as they are seen from where they look to."""
    a, b, c = (points[place[:, k]] for k in range(3))
    cross = np.cross(b - a, c - a)
    toward = np.stack([np.bincount(chart, cross[:, k], count) for k in range(3)], axis=1)
    toward = toward / np.maximum(np.linalg.norm(toward, axis=1, keepdims=True), 1e-300)
    least = np.argmin(np.abs(toward), axis=1)
    right = np.cross(np.eye(3)[least], toward)
    right /= np.maximum(np.linalg.norm(right, axis=1, keepdims=True), 1e-300)
    up = np.cross(toward, right)
    return np.stack([(where * right[home]).sum(axis=1), (where * up[home]).sum(axis=1)], axis=1)


def _rounded(uv: Floats, corners: Ints, chart: Ints, home: Ints, wanted: NDArray[np.bool_]) -> Floats:
    """Some charts laid into a circle: every vertex in the middle of its neighbours, so that none is flipped."""

    mine = corners[wanted[chart]]
    sides = np.stack([mine, np.roll(mine, -1, axis=1)], axis=2).reshape(-1, 2).astype(np.int64)
    total = len(uv)
    _, at, uses = np.unique(np.sort(sides, axis=1) @ np.array([total, 1]), return_index=True, return_counts=True)
    rim = sides[at[uses == 1]]
    after = np.full(total, -1)
    after[rim[:, 0]] = rim[:, 1]
    uv = uv.copy()
    fixed = np.zeros(total, bool)
    for first in _firsts(rim[:, 0], home):
        loop = [first]
        while after[loop[-1]] != first and len(loop) <= len(rim):
            loop.append(after[loop[-1]])
        angle = 2 * np.pi * np.arange(len(loop)) / len(loop)
        uv[loop] = np.stack([np.cos(angle), np.sin(angle)], axis=1)
        fixed[loop] = True
    inner = wanted[home] & ~fixed
    if inner.any():
        # Each is pulled by those it shares a side with.
        rows, columns = np.concatenate([sides, sides, sides[:, ::-1], sides[:, ::-1]]).T
        columns = np.where(np.repeat([False, True, False, True], len(sides)), rows, columns)
        values = np.repeat([-1.0, 1.0, -1.0, 1.0], len(sides))
        _solve_for(inner, uv, rows, columns, values)
    return uv


def _firsts(vertices: NDArray[np.int64], home: Ints) -> list[int]:
    """One of the vertices of each chart."""
    _, at = np.unique(home[vertices], return_index=True)
    return [int(one) for one in vertices[at]]


def _relaxed(uv: Floats, rest: Floats, corners: Ints, chart: Ints, home: Ints, count: int) -> Floats:
    """Charts with less distortion: downhill in the symmetric Dirichlet energy, never over a flip."""
    energy = _energies(rest, corners, chart, uv, count)
    own = np.bincount(chart, rest[:, 0] * rest[:, 2] / 2, count)
    busy = np.isfinite(energy) & (energy > own * (4 + 4 * _ENOUGH))
    if not busy.any():
        return uv
    # Only what is moved is solved for.
    rows = np.flatnonzero(busy[chart])
    rest, corners, chart = np.ascontiguousarray(rest[rows]), corners[rows], chart[rows]
    used, renumbered = np.unique(corners, return_inverse=True)
    small: Ints = np.ascontiguousarray(renumbered.reshape(-1, 3), np.int32)
    whole, uv = uv.copy(), np.ascontiguousarray(uv[used])
    home = home[used]
    real, imaginary = np.empty((len(rest), 3, 3)), np.empty((len(rest), 3, 3))
    kernels.conformal_weights(rest, real, imaginary)
    at, to = np.repeat(small, 3, axis=1).ravel(), np.tile(small, (1, 3)).ravel()
    values = real.ravel()
    # One vertex of each chart is kept near its place, so that the system has one solution.
    anchors = np.unique(home, return_index=True)[1]
    weight = float(np.abs(np.bincount(at[at == to], values[at == to], len(used))).mean())
    at, to = np.concatenate([at, anchors]), np.concatenate([to, anchors])
    system = Symmetric(at, to, np.concatenate([values, np.full(len(anchors), weight)]), len(used))
    for _ in range(_ROUNDS):
        slope = np.zeros_like(uv)
        kernels.gradients(small, rest, uv, slope)
        way = -np.ascontiguousarray(system.solve(slope))
        longest = np.full(count, np.inf)
        kernels.longest_steps(small, chart, uv, way, longest)
        step = np.where(busy, np.minimum(1.0, 0.8 * longest), 0.0)
        fall = np.bincount(home, (slope * way).sum(axis=1), count)
        gained = np.zeros(count)
        open_ = busy & (fall < 0)
        for _ in range(12):
            new = _energies(rest, small, chart, uv + step[home, None] * way, count)
            good = open_ & (new <= energy + 1e-4 * step * fall)
            gained = np.where(good, energy - new, gained)
            open_ = open_ & ~good
            if not open_.any():
                break
            step = np.where(open_, step / 2, step)
        step = np.where(open_ | ~busy, 0.0, step)
        step = np.where(gained > 0, step, 0.0)
        uv = np.ascontiguousarray(uv + step[home, None] * way)
        energy = energy - gained
        busy = busy & (gained > _ENOUGH * own) & (energy > own * (4 + 4 * _ENOUGH))
        if not busy.any():
            break
    whole[used] = uv
    return whole


def crossing(ends: Floats, chart: Ints, count: int) -> NDArray[np.bool_]:
    """(K,) the charts of which two sides (B, 4) cross: laid out, they lie over themselves."""
    order = np.lexsort((np.minimum(ends[:, 0], ends[:, 2]), chart))
    crossed = np.zeros(count, np.uint8)
    kernels.find_crossings(np.ascontiguousarray(ends[order]), np.ascontiguousarray(chart[order]), crossed)
    return crossed.view(bool)
