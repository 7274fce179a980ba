"""The part of a surface's parameters that a face is: its loops laid out flat, cut open where it runs round."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves.curves import Floats
from zesty_otter.geometry.curves.dividing import ONE_WAY, steps
from zesty_otter.geometry.curves.limits import Limits
from zesty_otter.geometry.curves.surfaces import Cone, Plane, Sphere, Surface, Torus

Ids = NDArray[np.int64]
Add = Callable[[Floats], Ids]
"""Makes points of places, and says their numbers."""

_FAR_OFF = 0.02  # of the size of a face, that its loops may be off its surface
_MOST_LINES = 1024  # of a grid, along one direction
_CLEAR = 0.4  # cells between the points of a grid and the loops
_LONG = 6.0  # how much longer than wide cells may be where a surface is bent one way only


class DomainError(ValueError):
    """The loops of a face do not enclose a part of its surface."""


@dataclass
class _Loop:
    """Parameters and points along a loop; ``turns`` says how often it runs round along u and v."""

    uv: Floats
    ids: Ids
    turns: tuple[int, int] = (0, 0)

    @property
    def area(self) -> float:
        x, y = (self.uv - self.uv[0]).T
        # From the first point on, which is the origin here.
        return float(x[:-1] @ y[1:] - x[1:] @ y[:-1]) / 2

    def moved(self, by: Sequence[float] | Floats) -> _Loop:
        return _Loop(self.uv + by, self.ids, self.turns)


@dataclass(eq=False)
class Domain:
    """Loops in the plane of the parameters: ``uv`` (N, 2), the point of each (N,), and segments (S, 2) between them."""

    surface: Surface
    uv: Floats
    point: Ids
    segments: NDArray[np.int32]
    limits: Limits
    off: float = 0.0
    """How far points of the loops are from the surface."""

    @cached_property
    def _cells(self) -> tuple[NDArray[np.int64], Floats, Floats]:
        """How many cells of a grid along u and v, the size of one, and the lengths of one u and one v."""
        low, high = self.uv.min(axis=0), self.uv.max(axis=0)
        size = np.maximum(high - low, 1e-300)
        if isinstance(self.surface, Plane) and self.limits.longest == math.inf:
            return np.ones(2, np.int64), np.full(2, size.max()), np.ones(2)
        share = np.linspace(0.0, 1.0, 7)
        u, v = np.meshgrid(low[0] + share * size[0], low[1] + share * size[1])
        spread = np.concatenate([np.stack([u.ravel(), v.ravel()], axis=1), self.uv[:: -(-len(self.uv) // 64)]])
        step, lengths = steps(self.surface, spread, self.limits)
        count = np.clip(np.ceil(size / step - 1e-6), 1, _MOST_LINES).astype(np.int64)
        straight = np.flatnonzero(~np.isfinite(step))
        if len(straight) == 1 and not self._is_strip(int(straight[0])):
            k = int(straight[0])
            across = size[1 - k] / count[1 - k] * lengths[1 - k]
            count[k] = int(np.clip(math.ceil(size[k] * lengths[k] / (_LONG * max(across, 1e-300))), 1, _MOST_LINES))
        return count, size / count, lengths

    def _is_strip(self, axis: int) -> bool:
        """Whether all points lie at either end along an axis, so that nothing is missing between."""
        low, high = self.uv[:, axis].min(), self.uv[:, axis].max()
        slack = 1e-6 * (high - low)
        return bool(((self.uv[:, axis] <= low + slack) | (self.uv[:, axis] >= high - slack)).all())

    @cached_property
    def scale(self) -> Floats:
        """What makes cells squares."""
        return np.asarray(1.0 / self._cells[1])

    @property
    def lengths(self) -> Floats:
        return self._cells[2]

    @cached_property
    def _keys(self) -> NDArray[np.int64]:
        return np.unique(_side_keys(self.segments))

    def is_segment(self, sides: NDArray[np.int32]) -> NDArray[np.bool_]:
        """Whether pairs of rows are the ends of a segment."""
        return np.isin(_side_keys(sides), self._keys)

    @cached_property
    def _pairs(self) -> frozenset[tuple[int, int]]:
        return frozenset((min(a, b), max(a, b)) for a, b in self.segments.tolist())

    def is_one_segment(self, a: int, b: int) -> bool:
        return (min(a, b), max(a, b)) in self._pairs

    def is_fine(self, uv: Floats, triangles: NDArray[np.int32]) -> bool:
        """Whether no triangle is larger than a cell, on a surface where cells are known to be small enough."""
        if not isinstance(self.surface, Cone | Sphere | Torus):
            return False
        places = uv[triangles]
        size = places.max(axis=1) - places.min(axis=1)
        bent = np.array([True, self.surface.kind not in ONE_WAY])
        return bool((size <= 1.0001 * self._cells[1])[:, bent].all())

    def inner(self) -> Floats:
        """(N, 2) the points of a grid that lie inside, clear of the loops."""
        count, cell, _ = self._cells
        if count.min() < 2:
            return np.zeros((0, 2))
        low = self.uv.min(axis=0)
        ends = (self.uv[self.segments] - low) / cell
        i, j = np.meshgrid(np.arange(1, count[0]), np.arange(1, count[1]), indexing="ij")
        wanted = _inside_rows(ends, count) & ~_near_loops(ends, count)
        kept = wanted[1:-1, 1:-1]
        return np.asarray(low + np.stack([i[kept], j[kept]], axis=1) * cell)


def _side_keys(sides: NDArray[np.int32]) -> NDArray[np.int64]:
    low, high = np.minimum(sides[:, 0], sides[:, 1]), np.maximum(sides[:, 0], sides[:, 1])
    return low.astype(np.int64) << 32 | high


def _inside_rows(ends: Floats, count: NDArray[np.int64]) -> NDArray[np.bool_]:
    """(nu + 1, nv + 1) which nodes of a grid lie behind an odd number of segments (S, 2, 2), in cells."""
    wide, high = (int(n) for n in count)
    y0, y1 = ends[:, 0, 1], ends[:, 1, 1]
    first = np.ceil(np.minimum(y0, y1)).astype(np.int64)
    stop = np.ceil(np.maximum(y0, y1)).astype(np.int64)
    first, stop = np.clip(first, 0, high + 1), np.clip(stop, 0, high + 1)
    times = stop - first
    which = np.repeat(np.arange(len(ends)), times)
    row = np.arange(len(which)) - np.repeat(np.cumsum(times) - times, times) + first[which]
    share = (row - y0[which]) / (y1 - y0)[which]
    x = ends[which, 0, 0] + share * (ends[which, 1, 0] - ends[which, 0, 0])
    # A crossing turns everything to its right.
    column = np.clip(np.floor(x).astype(np.int64) + 1, 0, wide + 1)
    turns = np.zeros((wide + 2, high + 1), np.int64)
    np.add.at(turns, (column, row), 1)
    return np.asarray(np.cumsum(turns, axis=0)[:-1] % 2 == 1)


def _near_loops(ends: Floats, count: NDArray[np.int64]) -> NDArray[np.bool_]:
    """(nu + 1, nv + 1) which nodes of a grid lie within `_CLEAR` cells of segments."""
    wide, high = (int(n) for n in count)
    length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    times = np.clip(np.ceil(length / 0.25), 1, 64 * max(wide, high)).astype(np.int64)
    which = np.repeat(np.arange(len(ends)), times)
    share = (np.arange(len(which)) - np.repeat(np.cumsum(times) - times, times) + 0.5) / times[which]
    place = ends[which, 0] + share[:, None] * (ends[which, 1] - ends[which, 0])
    near = np.zeros((wide + 1, high + 1), bool)
    base = np.floor(place).astype(np.int64)
    for du in (0, 1):
        for dv in (0, 1):
            node = base + (du, dv)
            close = np.linalg.norm(place - node, axis=1) < _CLEAR
            close &= (node >= 0).all(axis=1) & (node <= (wide, high)).all(axis=1)
            near[node[close, 0], node[close, 1]] = True
    return near


def domain_of(surface: Surface, loops: Sequence[tuple[Ids, Floats]], limits: Limits, add: Add) -> Domain:
    """Lay loops out in the plane of a surface's parameters.

    Parameters
    ----------
    surface : Surface
    loops : sequence of (ids (M,), places (2 M, 3))
        The points of each loop, and the places at them and halfway between them; the surface lies to the left.
    limits : Limits
    add : callable
        Makes points where a face is cut open.

    Raises
    ------
    DomainError
        When they enclose nothing.
    """
    flat, off = _laid_out(surface, loops)
    whole = [one for one in flat if one.turns == (0, 0)]
    if max(surface.period) > 0:
        # A cut that is gone along to and fro bounds nothing on a closed surface.
        whole = [one for one in whole if abs(one.area) > 1e-9 * max(surface.period) ** 2]
    round_it = [one for one in flat if one.turns != (0, 0)]
    laying = _Laying(surface, limits, add)
    if round_it:
        polygons = laying.cut_open(round_it, whole)
    elif max(surface.period) > 0 and not any(one.area > 0 for one in whole):
        polygons = laying.all_of_it(whole) if laying.is_whole else whole
    else:
        polygons = laying.gathered(whole)
    if not polygons:
        raise DomainError("it has no bounds")
    domain = _joined(surface, polygons, limits)
    if surface.poles:
        cell = domain._cells[1]
        domain = _joined(surface, [_with_pole_rows(one, cell) for one in polygons], limits)
    domain.off = off
    return domain


def _joined(surface: Surface, polygons: Sequence[_Loop], limits: Limits) -> Domain:
    start = np.cumsum([0, *(len(one.uv) for one in polygons)])
    segments = [
        np.stack([np.arange(a, b), np.append(np.arange(a + 1, b), a)], axis=1)
        for a, b in itertools.pairwise(start.tolist())
    ]
    uv = np.concatenate([one.uv for one in polygons])
    if not np.isfinite(uv).all():
        raise DomainError("its loops do not lie on its surface")
    ids = np.concatenate([one.ids for one in polygons])
    return Domain(surface, uv, ids, np.concatenate(segments).astype(np.int32), limits)


def _with_pole_rows(loop: _Loop, cell: Floats) -> _Loop:
    """A loop with a row at every cell where a pole is laid out as a line, so that what meets it there runs straight."""
    following = np.roll(loop.uv, -1, axis=0)
    stays = loop.ids == np.roll(loop.ids, -1)
    if not stays.any():
        return loop
    pieces = np.where(stays, np.ceil(np.abs(following - loop.uv) / cell - 1e-6).max(axis=1), 1).astype(np.int64)
    pieces = np.clip(pieces, 1, _MOST_LINES)
    row = np.repeat(np.arange(len(loop.uv)), pieces)
    share = (np.arange(len(row)) - np.repeat(np.cumsum(pieces) - pieces, pieces)) / pieces[row]
    return _Loop(loop.uv[row] + share[:, None] * (following - loop.uv)[row], loop.ids[row], loop.turns)


def _laid_out(surface: Surface, loops: Sequence[tuple[Ids, Floats]]) -> tuple[list[_Loop], float]:
    """Loops in the plane of the parameters, and how far they are from the surface."""
    if not loops:
        return [], 0.0
    places = np.concatenate([one for _, one in loops])
    uv = surface.parameters_of(places)
    size = float(np.ptp(places, axis=0).max(initial=0.0))
    off = float(np.linalg.norm(surface.at(uv) - places, axis=1).max(initial=0.0))
    if not off <= _FAR_OFF * size:
        raise DomainError(f"its edges lie up to {off:.3g} off its surface")
    found, first = [], 0
    for ids, own in loops:
        here = uv[first : first + len(own)].copy()
        first += len(own)
        at_pole = np.full(len(own), -1)
        for k, pole in enumerate(surface.poles):
            at_pole[np.linalg.norm(own - np.array(pole.point), axis=1) <= 1e-6 * size] = k
        if (at_pole < 0).any():
            found.append(_unrolled(surface, ids, here, at_pole))
    return found, off


def _unrolled(surface: Surface, ids: Ids, uv: Floats, at_pole: NDArray[np.int64]) -> _Loop:
    """A loop with parameters that do not jump; ``uv`` holds the places halfway, too, which are near each other."""
    period = surface.period
    if (at_pole < 0).all():
        turns = [0, 0]
        for axis in (0, 1):
            if period[axis]:
                closed = np.unwrap(np.append(uv[:, axis], uv[0, axis]), period=period[axis])
                uv[:, axis] = closed[:-1]
                turns[axis] = round((closed[-1] - closed[0]) / period[axis])
        return _Loop(uv[::2], ids, (turns[0], turns[1]))
    # From pole to pole: between two runs the free parameter changes while the point stays.
    poles = np.flatnonzero(at_pole >= 0)
    uv, at_pole = np.roll(uv, -poles[0], axis=0), np.roll(at_pole, -poles[0])
    number = np.roll(np.repeat(ids, 2), -poles[0])
    is_vertex = np.roll(np.arange(len(uv)) % 2 == 0, -poles[0])
    poles = np.append(poles - poles[0], len(uv))
    rows: list[Floats] = []
    names: list[int] = []
    before = None
    for k, (a, b) in enumerate(itertools.pairwise(poles.tolist())):
        pole = surface.poles[at_pole[a]]
        free = 1 - pole.axis
        run = uv[a + 1 : b].copy()
        if not len(run):
            continue
        for axis in (0, 1):
            if period[axis]:
                run[:, axis] = np.unwrap(run[:, axis], period=period[axis])
        if before is not None and period[free]:
            # With the surface on the left, one turns back above, and on below.
            turn = 1.0 if (pole.value > run[:, pole.axis].mean()) == (pole.axis == 1) else -1.0
            ahead = turn * (before - run[0, free])
            run[:, free] += turn * period[free] * (math.ceil(ahead / period[free] - 1e-6) - 1)
        entry = np.empty(2)
        entry[pole.axis], entry[free] = pole.value, run[0, free]
        if before is not None and abs(before - run[0, free]) > 1e-9:
            leave = entry.copy()
            leave[free] = before
            rows.append(leave[None])
            names.append(int(number[a]))
        rows.append(entry[None])
        names.append(int(number[a]))
        kept = is_vertex[a + 1 : b]
        rows.append(run[kept])
        names += number[a + 1 : b][kept].tolist()
        before = float(run[-1, free])
        last = surface.poles[at_pole[poles[0]]]
        if k == len(poles) - 2 and last.axis == pole.axis:
            closing = entry.copy()
            closing[pole.axis], closing[free] = last.value, before
            if abs(before - rows[0][0, free]) > 1e-9:
                rows.append(closing[None])
                names.append(int(number[0]))
    return _Loop(np.concatenate(rows), np.array(names, np.int64))


@dataclass
class _Laying:
    surface: Surface
    limits: Limits
    add: Add

    @property
    def is_whole(self) -> bool:
        """Whether the surface is closed without any loop."""
        box, period = self.surface.box, self.surface.period
        across = [len([p for p in self.surface.poles if p.axis == axis]) for axis in (0, 1)]
        return all(period[axis] > 0 or across[axis] == 2 or np.isfinite(box[:, axis]).all() for axis in (0, 1))

    def gathered(self, loops: list[_Loop]) -> list[_Loop]:
        """Holes brought beside the loop they lie in, where parameters run round."""
        if max(self.surface.period) <= 0 or len(loops) < 2:
            return loops
        outer = max(loops, key=lambda one: one.area)
        return [one if one is outer else self.brought_into(one, outer.uv) for one in loops]

    def brought_into(self, loop: _Loop, around: Floats) -> _Loop:
        period = np.array(self.surface.period)
        moved = loop
        for axis in (0, 1):
            if period[axis]:
                middle = (around[:, axis].min() + around[:, axis].max()) / 2
                own = (moved.uv[:, axis].min() + moved.uv[:, axis].max()) / 2
                by = np.zeros(2)
                by[axis] = period[axis] * round((middle - own) / period[axis])
                moved = moved.moved(by)
        low, high = around.min(axis=0), around.max(axis=0)
        best, most = moved, -1.0
        for k in (0, -1, 1):
            for m in (0, -1, 1):
                shifted = moved.moved((k * period[0], m * period[1]))
                held = float(((shifted.uv >= low) & (shifted.uv <= high)).all(axis=1).mean())
                if held > most + 1e-9 and (held < 1 or _holds(around, shifted.uv[0]) or most < 0):
                    best, most = shifted, held
        return best

    def cut_open(self, round_it: list[_Loop], holes: list[_Loop]) -> list[_Loop]:
        axis = 0 if round_it[0].turns[0] else 1
        if any(abs(one.turns[axis]) != 1 or one.turns[1 - axis] for one in round_it):
            raise DomainError("its loops run round it more than once")
        # Worked on as if it ran round along x: turned by a quarter where it is the other one.
        laid = [_turned(one, axis) for one in round_it]
        inner = [_turned(one, axis) for one in holes]
        lower = sorted((one for one in laid if one.turns[0] > 0), key=lambda one: float(one.uv[:, 1].mean()))
        upper = [one for one in laid if one.turns[0] < 0]
        strips = []
        for low in lower:
            high = self._above(low, upper, axis)
            if high is not None:
                upper = [one for one in upper if one.ids is not high.ids]
            strips.append(self._strip(low, high, inner, axis))
        strips += [self._strip(None, high, inner, axis) for high in upper]
        bounds = [_turned_back(one, axis) for one in strips]
        return [*bounds, *(self.brought_into(one, bounds[0].uv) for one in holes)]

    def _above(self, low: _Loop, upper: list[_Loop], axis: int) -> _Loop | None:
        period = self.surface.period[1 - axis]
        at = float(low.uv[:, 1].mean())
        best, least = None, math.inf
        for one in upper:
            away = float(one.uv[:, 1].mean()) - at
            shift = -period * math.floor(away / period + 1e-9) if period else 0.0
            if away + shift > 0 and away + shift < least:
                best, least = one.moved((0.0, shift)), away + shift
        return best

    def _strip(self, low: _Loop | None, high: _Loop | None, holes: list[_Loop], axis: int) -> _Loop:
        """One loop of a lower and an upper one, or of one of them and a pole, cut open from one to the other."""
        surface, period = self.surface, self.surface.period[axis]
        loop = low if low is not None else high
        assert loop is not None
        tips = [(pole.value if axis == 0 else -pole.value, pole) for pole in surface.poles if pole.axis != axis]
        sign = 1.0 if low is not None else -1.0
        tips = [(y, pole) for y, pole in tips if sign * (y - float(loop.uv[:, 1].mean())) > 0]
        other = high if low is not None else None
        if other is None and not tips:
            raise DomainError("its loops run round it, and nothing closes it on the other side")
        obstacles = [one.moved((k * period, 0.0)) for one in holes for k in (-1, 0, 1)]
        best = None
        for a in np.unique(np.linspace(0, len(loop.uv) - 1, 24).astype(np.int64)).tolist():
            start = loop.uv[a]
            if other is None:
                b, end = -1, np.array([start[0], min(tips, key=lambda tip: abs(tip[0] - start[1]))[0]])
            else:
                away = (other.uv[:, 0] - start[0]) / period
                b = int(np.argmin(np.abs(away - np.rint(away))))
                end = other.uv[b] - (period * round(float(away[b])), 0.0)
            crossings = sum(_crosses(start, end, one.uv) for one in obstacles)
            skew = abs(float(end[0] - start[0]))
            if best is None or (crossings, round(skew / period, 3)) < best[:2]:
                best = (crossings, round(skew / period, 3), a, b, end)
            if crossings == 0 and skew < 1e-6 * period:
                break
        assert best is not None
        _, _, a, b, end = best
        first = _opened(loop, a, period * loop.turns[0])
        start = first.uv[0]
        seam = self._seam(start, end, axis)
        back = np.array([period * loop.turns[0], 0.0])
        if other is None:
            pole = min(tips, key=lambda tip: abs(tip[0] - start[1]))[1]
            tip = self.add(np.array([pole.point]))
            uv = [first.uv, seam.uv + back, (end + back)[None], end[None], seam.uv[::-1]]
            ids = [first.ids, seam.ids, tip, tip, seam.ids[::-1]]
        else:
            shift = end - other.uv[b]
            second = _opened(other.moved(shift + back), b, period * other.turns[0])
            uv = [first.uv, seam.uv + back, second.uv, seam.uv[::-1]]
            ids = [first.ids, seam.ids, second.ids, seam.ids[::-1]]
        return _Loop(np.concatenate(uv), np.concatenate(ids))

    def _seam(self, start: Floats, end: Floats, axis: int) -> _Loop:
        """Points on the cut, between its ends."""
        share = np.linspace(0.0, 1.0, 9)[:, None]
        line = start + share * (end - start)
        step, _ = steps(self.surface, _uv_of(line, axis), self.limits)
        own = step[1 - axis]
        count = int(np.clip(math.ceil(abs(float(end[1] - start[1])) / own - 1e-6), 1, 4096)) if own < math.inf else 1
        inner = start + np.linspace(0.0, 1.0, count + 1)[1:-1, None] * (end - start)
        return _Loop(inner, self.add(self.surface.at(_uv_of(inner, axis))))

    def all_of_it(self, holes: list[_Loop]) -> list[_Loop]:
        """A closed surface as one rectangle of its parameters, cut open where no hole is."""
        surface, period = self.surface, self.surface.period
        low, high = surface.box.copy()
        for axis in (0, 1):
            if period[axis] and holes:
                low[axis] = _gap([one.uv[:, axis] for one in holes], period[axis])
                high[axis] = low[axis] + period[axis]
        step, _ = steps(surface, low + np.linspace(0.0, 1.0, 9)[:, None] * (high - low), self.limits)
        count = [
            int(np.clip(math.ceil((high[k] - low[k]) / step[k] - 1e-6), 3 if period[k] else 1, 1024))
            if step[k] < math.inf else 1
            for k in (0, 1)
        ]  # fmt: skip
        tips = {(pole.axis, pole.value): self.add(np.array([pole.point]))[0] for pole in surface.poles}
        corners: dict[tuple[int, int], int] = {}

        def corner(i: int, j: int) -> int:
            for axis, value in ((0, (low, high)[i][0]), (1, (low, high)[j][1])):
                if (axis, float(value)) in tips:
                    return int(tips[axis, float(value)])
            key = (0 if period[0] else i, 0 if period[1] else j)
            if key not in corners:
                place = np.array([[(low, high)[i][0], (low, high)[j][1]]])
                corners[key] = int(self.add(surface.at(place))[0])
            return corners[key]

        sides: dict[tuple[int, int], tuple[Floats, Ids]] = {}
        for axis in (0, 1):
            for end in (0, 1):
                across = (low, high)[end][1 - axis]
                share = np.linspace(0.0, 1.0, count[axis] + 1)[1:-1]
                uv = np.empty((len(share), 2))
                uv[:, axis], uv[:, 1 - axis] = low[axis] + share * (high[axis] - low[axis]), across
                if (1 - axis, float(across)) in tips:
                    sides[axis, end] = uv[:0], np.zeros(0, np.int64)
                elif end and period[1 - axis]:
                    sides[axis, end] = uv, sides[axis, 0][1]
                else:
                    sides[axis, end] = uv, self.add(surface.at(uv))
        order = [((0, 0), (0, 0), 1), ((1, 0), (1, 1), 1), ((1, 1), (0, 1), -1), ((0, 1), (1, 0), -1)]
        rows, ids = [], []
        for (i, j), side, way in order:
            rows.append(np.array([[(low, high)[i][0], (low, high)[j][1]]]))
            ids.append(np.array([corner(i, j)]))
            rows.append(sides[side][0][::way])
            ids.append(sides[side][1][::way])
        outer = _Loop(np.concatenate(rows), np.concatenate(ids))
        return [outer, *(self.brought_into(one, outer.uv) for one in holes)]


def _opened(loop: _Loop, at: int, way: float) -> _Loop:
    """A loop that runs round, from one of its points to the same one a period on."""
    uv = np.concatenate([loop.uv[at:], loop.uv[: at + 1] + (way, 0.0)])
    return _Loop(uv, np.concatenate([loop.ids[at:], loop.ids[: at + 1]]), loop.turns)


def _turned(loop: _Loop, axis: int) -> _Loop:
    if axis == 0:
        return loop
    return _Loop(np.stack([loop.uv[:, 1], -loop.uv[:, 0]], axis=1), loop.ids, (loop.turns[1], -loop.turns[0]))


def _turned_back(loop: _Loop, axis: int) -> _Loop:
    return _Loop(_uv_of(loop.uv, axis), loop.ids)


def _uv_of(xy: Floats, axis: int) -> Floats:
    return xy if axis == 0 else np.stack([-xy[:, 1], xy[:, 0]], axis=1)


def _holds(polygon: Floats, place: Floats) -> bool:
    a, b = polygon, np.roll(polygon, -1, axis=0)
    across = (a[:, 1] > place[1]) != (b[:, 1] > place[1])
    a, b = a[across], b[across]
    x = a[:, 0] + (place[1] - a[:, 1]) / (b[:, 1] - a[:, 1]) * (b[:, 0] - a[:, 0])
    return bool((x > place[0]).sum() % 2)


def _crosses(start: Floats, end: Floats, loop: Floats) -> int:
    """How often a straight line crosses a closed one."""
    along = end - start
    side = along[0] * (loop[:, 1] - start[1]) - along[1] * (loop[:, 0] - start[0])
    following, ahead = np.roll(side, -1), np.roll(loop, -1, axis=0)
    across = (side > 0) != (following > 0)
    share = side[across] / (side - following)[across]
    place = loop[across] + share[:, None] * (ahead - loop)[across]
    where = (place - start) @ along / max(float(along @ along), 1e-300)
    return int(((where > -1e-9) & (where < 1 + 1e-9)).sum())


def _gap(values: list[Floats], period: float) -> float:
    """The middle of the widest part of a period that some ranges leave free."""
    ranges = sorted((float(one.min()) % period, float(np.ptp(one))) for one in values)
    best, where, reached = -1.0, 0.0, ranges[-1][0] - period + ranges[-1][1]
    for start, size in ranges:
        if start - reached > best:
            best, where = start - reached, (start + reached) / 2
        reached = max(reached, start + size)
    return where
