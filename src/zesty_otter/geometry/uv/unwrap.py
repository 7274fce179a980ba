"""Surfaces laid out flat in charts: new UVs."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.uv.charts import Charts, Sheet, charts_of, corner_classes, rims
from zesty_otter.geometry.uv.flatten import crossing, lay_out

Ints = NDArray[np.int32]

_ROUNDS = 24
_CLOSED = 1e-3  # of the length of a side, how far the two sides of a slit may be apart to be closed
_HALF = 0.55  # of its area, at most, is what a chart is divided into


@dataclass(frozen=True, eq=False)
class Unwrapped:
    """A surface laid out, chart by chart, each in a plane of its own.

    Parameters
    ----------
    uv : (V, 2) float64
        In the unit of the surface; every chart has the area it has there.
    vertex : (C,) int32
        The row of ``uv`` of each corner, -1 for those of no triangle.
    chart : (T,) int32
        Of each triangle.
    stretch : (K,) float64
        Of each chart the root mean square stretch of lengths, 1 where nothing is distorted (Sander 2001).
    poor : (K,) bool
        The charts that are one polygon and still flipped or over themselves.
    """

    uv: NDArray[np.float64]
    vertex: Ints
    chart: Ints
    stretch: NDArray[np.float64]
    poor: NDArray[np.bool_]


def unwrap(
    points: NDArray[np.float64],
    corner_point: Ints,
    triangles: Ints,
    face: Ints,
    *,
    feature_angle: float = math.radians(50),
    corner_keys: Sequence[NDArray[Any]] = (),
    face_keys: Sequence[NDArray[Any]] = (),
    stretch: float = 1.15,
    progress: Callable[[float], None] | None = None,
) -> Unwrapped:
    """Divides a surface into charts and lays each out, with no triangle flipped and none over another.

    Charts grow as long as they can be laid out; those that turn out distorted are divided again. Polygons stay whole.

    Parameters
    ----------
    points : (P, 3) float64
    corner_point : (C,) int32
    triangles : (T, 3) int32
        Corner numbers.
    face : (T,) int32
        The polygon of each triangle.
    feature_angle : float
        In radians: edges that are sharper become seams, but on small things.
    corner_keys : sequence of (C,) arrays
        Numbers of corners: an edge along which those of its two sides differ is a seam whatever else it is.
    face_keys : sequence of (F,) arrays
        Numbers of polygons, likewise.
    stretch : float
        The most that a chart may be distorted, above 1.
    progress : callable, optional
        Gets the share that is done.

    Returns
    -------
    Unwrapped

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (2, 0, 0), (2, 3, 0), (0, 3, 0)], float)
    >>> triangles, corner = np.array([(0, 1, 2), (0, 2, 3)], np.int32), np.arange(4, dtype=np.int32)
    >>> made = unwrap(points, corner, triangles, np.zeros(2, np.int32))
    >>> len(made.stretch), len(made.uv), round(float(made.stretch[0]), 6)
    (1, 4, 1.0)
    """
    sheet = Sheet.of(points, corner_point, triangles, face)
    kept = sheet.apart(corner_keys, face_keys)
    found = _Layout(sheet, len(corner_point))
    charts = charts_of(sheet, feature_angle=feature_angle, seams=kept)
    for number in range(_ROUNDS):
        charts = found.add(charts, stretch)
        if not found.again.any() or number == _ROUNDS - 1:
            break
        size = np.asarray(np.bincount(charts.chart, sheet.area), np.float64)
        charts = charts_of(
            sheet, feature_angle=feature_angle, seams=kept, within=charts, again=found.again,
            strict=2.0 ** (number + 1), most=_HALF * size[charts.chart],
        )  # fmt: skip
        if progress is not None:
            progress(1 - 0.7 ** (number + 1))
    return found.result(charts)


class _Layout:
    """What is laid out so far. ``again`` (T,) are the triangles whose charts came out badly."""

    def __init__(self, sheet: Sheet, corner_count: int) -> None:
        self.sheet, self.corner_count = sheet, corner_count
        count = len(sheet.place)
        self.uv = np.zeros((corner_count, 2))  # at corners
        self.stretch, self.poor = np.ones(count), np.zeros(count, bool)
        self.again = np.ones(count, bool)

    def add(self, charts: Charts, most: float) -> Charts:
        """Lays out the charts of what is to be done again; the charts without slits that close by themselves."""
        sheet, rows = self.sheet, np.flatnonzero(self.again)
        corners, small, chart, count = self._vertices(charts, rows)
        laid = lay_out(sheet.points, sheet.place[rows], small, chart, int(small.max()) + 1)
        self.uv[corners.ravel()] = laid.uv[small.ravel()]
        self.stretch[rows] = laid.stretch[chart]
        charts = self._sewn(charts)
        corners, small, chart, count = self._vertices(charts, rows)
        crossed = self._crossed(charts, rows, chart, count)
        polygons = np.bincount(chart[np.unique(sheet.face[rows], return_index=True)[1]], minlength=count)
        flipped = laid.flipped
        hopeless = (flipped | crossed) & (polygons == 1)
        if hopeless.any():
            # A polygon that cannot be divided is taken as it is seen.
            mine = np.flatnonzero(hopeless[chart])
            corners, small, own, _ = self._vertices(charts, rows[mine])
            seen = lay_out(sheet.points, sheet.place[rows[mine]], small, own, int(small.max()) + 1, straight=True)
            self.uv[corners.ravel()] = seen.uv[small.ravel()]
            self.stretch[rows[mine]] = seen.stretch[own]
            flipped = flipped.copy()
            flipped[hopeless] = seen.flipped
            crossed = self._crossed(charts, rows, chart, count)
        wrong = flipped | crossed
        bad = wrong | (laid.stretch > most)
        self.poor[rows] = wrong[chart]
        self.again = np.zeros(len(self.again), bool)
        self.again[rows] = (bad & (polygons > 1))[chart]
        return charts

    def _crossed(self, charts: Charts, rows: NDArray[np.int64], chart: Ints, count: int) -> NDArray[np.bool_]:
        """(K,) the charts among some triangles, as they are numbered there, that lie over themselves."""
        sheet = self.sheet
        ends, of = rims(charts, sheet)
        mine = self.again[ends[:, 0] // 3]
        flat = sheet.corners.ravel()
        sides = np.concatenate([self.uv[flat[ends[mine, k]]] for k in range(2)], axis=1)
        at = np.zeros(int(charts.chart.max()) + 1, np.int32)
        at[charts.chart[rows]] = chart
        return crossing(sides, at[of[mine]], count)

    def result(self, charts: Charts) -> Unwrapped:
        vertex, count = corner_classes(self.sheet, charts.joined, self.corner_count)
        uv = np.zeros((count, 2))
        used = vertex >= 0
        uv[vertex[used]] = self.uv[used]
        first = np.unique(charts.chart, return_index=True)[1]
        return Unwrapped(uv, vertex, charts.chart, self.stretch[first], self.poor[first])

    def _vertices(self, charts: Charts, rows: NDArray[np.int64]) -> tuple[Ints, Ints, Ints, int]:
        """The corners of some triangles, their vertices and charts, numbered anew, and how many charts there are."""
        vertex, _ = corner_classes(self.sheet, charts.joined, self.corner_count)
        corners = self.sheet.corners[rows]
        small = np.unique(vertex[corners], return_inverse=True)[1].reshape(-1, 3)
        names, chart = np.unique(charts.chart[rows], return_inverse=True)
        return corners, np.ascontiguousarray(small, np.int32), chart.astype(np.int32).ravel(), len(names)

    def _sewn(self, charts: Charts) -> Charts:
        """The charts without slits whose two sides came to lie on each other."""
        sheet = self.sheet
        inner = np.flatnonzero(~charts.joined & (sheet.edges.use == 2) & sheet.edges.agrees)
        inner = inner[charts.chart[sheet.sides[inner, 0] // 3] == charts.chart[sheet.sides[inner, 1] // 3]]
        one, one_after, other, other_after = (self.uv[at] for at in sheet.ends(inner))
        gap = np.maximum(
            np.abs(one - other).max(axis=1, initial=0), np.abs(one_after - other_after).max(axis=1, initial=0)
        )
        long = np.abs(one - one_after).max(axis=1, initial=0)
        joined = charts.joined.copy()
        joined[inner[gap <= _CLOSED * long]] = True
        return Charts(charts.chart, joined)
