"""Charts put side by side on pages."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_pieces
from zesty_otter.geometry.uv import _packing as kernels

Ints = NDArray[np.int32]
Floats = NDArray[np.float64]

_COARSE = 256  # pixels: on smaller pages, the scale is not looked for at half the size first
_CLOSE = 0.015, 0.003  # how near the scale comes to the best, with many charts and with few
_MOST_PAGES = 64


@dataclass(frozen=True, eq=False)
class Packed:
    """Where charts went.

    Parameters
    ----------
    uv : (V, 2) float64
        From 0 to 1 on the first page, from 1 to 2 along U on the second, and so on; V runs up.
    page : (K,) int32
        Of each chart, from 0.
    pages : int
    size : (int, int)
        Width and height of a page in pixels.
    scale : float
        Pixels for each unit of length of the charts.
    covered : float
        The share of the pages that charts cover.
    """

    uv: Floats
    page: Ints
    pages: int
    size: tuple[int, int]
    scale: float
    covered: float


def pack(
    uv: Floats,
    corners: Ints,
    chart: Ints,
    *,
    size: tuple[int, int] = (1024, 1024),
    gutter: int = 4,
    scale: float | None = None,
    turn: bool = True,
    crop: bool = False,
    most_pages: int = _MOST_PAGES,
) -> Packed:
    """Puts charts side by side, with at least ``gutter`` pixels between any two and half of that to the rim.

    Parameters
    ----------
    uv : (V, 2) float64
        Places of vertices, each chart at its own scale of density.
    corners : (T, 3) int32
        Vertices of triangles, each vertex in one chart.
    chart : (T,) int32
        From 0.
    size : (int, int)
        Width and height of a page in pixels.
    gutter : int
        In pixels.
    scale : float, optional
        Pixels for each unit; the largest with which all fits on one page when absent. With it, as many pages as
        are needed.
    turn : bool
        Whether charts may be turned: upright first, then by quarters.
    crop : bool
        Whether what is free above all charts is cut off the page.
    most_pages : int
        How many pages there may be, with a scale.

    Returns
    -------
    Packed

    Raises
    ------
    ValueError
        When a page has no room for that many charts, or for a chart at this scale.

    References
    ----------
    B. Levy, S. Petitjean, N. Ray and J. Maillot (2002), Least squares conformal maps, section 4 (packing by pixels).

    Examples
    --------
    >>> import numpy as np
    >>> square = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
    >>> corners = np.array([(0, 1, 2), (0, 2, 3), (4, 5, 6), (4, 6, 7)], np.int32)
    >>> packed = pack(np.concatenate([square, square]), corners, np.array([0, 0, 1, 1]), size=(64, 64), gutter=2)
    >>> packed.pages, packed.scale < 32
    (1, True)
    """
    job = _Job(uv, corners, chart, size, gutter, turn=turn)
    if scale is not None:
        found = job.placed(scale, -(-size[0] // 64) * 64, size, gutter, most_pages)
        if found is None:
            longest = math.ceil(float(job.span.max()) * scale)
            if longest > min(size):
                raise ValueError(f"the largest island needs {longest} of {min(size)} pixels")
            raise ValueError(f"{job.count:,} islands do not fit on {most_pages} pages of {size[0]} × {size[1]} pixels")
    else:
        scale, found = job.largest(size)
    return job.result(found, scale, size, crop=crop)


class _Job:
    def __init__(
        self, uv: Floats, corners: Ints, chart: Ints, page: tuple[int, int], gutter: int, *, turn: bool
    ) -> None:
        self.page, self.gutter, self.quarters = page, gutter, 4 if turn else 1
        self.count = int(chart.max(initial=-1)) + 1
        self.home = np.zeros(len(uv), np.int32)
        self.home[corners.ravel()] = np.repeat(chart, 3)
        order = np.argsort(chart, kind="stable")
        self.corners = corners[order]
        self.start = np.searchsorted(chart[order], np.arange(self.count + 1)).astype(np.int64)
        if turn:
            uv = self._upright(uv)
        low, high = (np.full((self.count, 2), bound) for bound in (np.inf, -np.inf))
        np.minimum.at(low, self.home, uv)
        np.maximum.at(high, self.home, uv)
        self.uv = uv - low[self.home]
        self.span = high - low
        p, q, r = (self.uv[self.corners[:, k]] for k in range(3))
        self.area = np.abs((q - p)[:, 0] * (r - p)[:, 1] - (q - p)[:, 1] * (r - p)[:, 0]) / 2

    def _upright(self, uv: Floats) -> Floats:
        """Charts turned so that their smallest rectangle is upright."""
        order = np.lexsort((uv[:, 1], uv[:, 0], self.home))
        start = np.searchsorted(self.home[order], np.arange(self.count + 1)).astype(np.int64)
        turn = np.empty((self.count, 2))
        kernels.narrow_turns(np.ascontiguousarray(uv[order]), start, np.empty(2 * len(uv) + 2, np.int64), turn)
        c, s = turn[self.home].T
        return np.stack([uv[:, 0] * c + uv[:, 1] * s, uv[:, 1] * c - uv[:, 0] * s], axis=1)

    def largest(self, size: tuple[int, int]) -> tuple[float, tuple[Ints, Ints]]:
        """The largest scale with which all charts fit on one page, and where they go."""
        total, longest = float(self.area.sum()), float(self.span.max(initial=0.0))
        most = math.sqrt(size[0] * size[1] / total) if total > 0 else math.inf
        most = min(most, max(size) / longest) if longest > 0 else 1.0
        # On a page of half the size first, where a try takes a quarter of the time.
        half = max(size[0] // 2, 1), max(size[1] // 2, 1)
        low, high = 0.0, most
        if max(half) >= _COARSE:
            low, high, _ = self._between(0.0, most, half, 0.02)
            low, high = 0.97 * low, min(1.06 * high, most)
        low, high, best = self._between(low, high, size, _CLOSE[0] if self.count > 40 else _CLOSE[1])
        if best is None:
            raise ValueError(f"{self.count:,} islands do not fit on a page of {size[0]} × {size[1]} pixels")
        return low, best

    def _between(
        self, low: float, high: float, size: tuple[int, int], close: float
    ) -> tuple[float, float, tuple[Ints, Ints] | None]:
        """The largest scale found between two that fits and the least that does not, and what fits."""
        ratio = size[0] / self.page[0]
        wide = -(-size[0] // 64) * 64
        longest = float(self.span.max(initial=0.0))
        best = None
        while high * longest * self.count > 1e-3:
            # Two tries at a time, on two cores where there are.
            if best is not None:
                tries = [low + k * (high - low) / 3 for k in (1, 2)]
            else:
                tries = [low, (low + high) / 2] if low else [0.72 * high, 0.85 * high]
            found: list[tuple[Ints, Ints] | None] = [None, None]

            def attempt(first: int, _: int, tries: list[float] = tries, found: list[Any] = found) -> None:
                # The larger first: where it fits before the other is begun, that need not be tried.
                if found[1] is None:
                    found[1 - first] = self.placed(tries[1 - first] * ratio, wide, size, self.gutter * ratio, 1)

            in_pieces(attempt, 2, 1)
            if found[1] is not None:
                low, best = tries[1], found[1]
            elif found[0] is not None:
                low, high, best = tries[0], tries[1], found[0]
            else:
                low, high = low if best is not None else 0.0, tries[0]
            if best is not None and high - low <= close * high:
                break
        return low, high, best

    def placed(
        self, scale: float, wide: int, size: tuple[int, int], gutter: float, most_pages: int
    ) -> tuple[Ints, Ints] | None:
        """Page, x, y and quarters of each chart (K, 4), and its width and height in pixels; None where one is left."""
        if float(self.span.max(initial=0.0)) * scale > max(size):
            return None
        pixels = np.maximum(np.ceil(self.span * scale - 1e-6), 1).astype(np.int32)
        gap = math.ceil(gutter)
        margin = (gap + 1) // 2
        corners = np.ascontiguousarray((self.uv[self.corners] * scale).reshape(-1, 6))
        order = np.lexsort((np.arange(self.count), -pixels.min(axis=1), -pixels.max(axis=1))).astype(np.int64)
        pages = np.zeros((most_pages, size[1], wide // 64), np.uint64)
        if wide > size[0]:
            taken = np.zeros((wide,), bool)
            taken[size[0] :] = True
            pages[:] = np.packbits(taken, bitorder="little").view(np.uint64)
        free = np.full((most_pages, size[1]), size[0], np.int32)
        longest = int(pixels.max(initial=1)) + 2 * gap
        place = np.zeros((self.count, 4), np.int32)
        used = kernels.place_charts(
            corners, self.start, pixels, order, gap, margin, self.quarters, most_pages,
            np.empty(int((pixels[:, 0].astype(np.int64) * pixels[:, 1]).max(initial=1)), np.uint8),
            np.empty(longest * longest, np.uint8), np.empty(longest, np.int32),
            np.empty((2, longest * (longest // 2 + 1), 3), np.int32), pages, free,
            np.zeros((most_pages, 64, 64), np.int32), place,
        )  # fmt: skip
        return None if used < 0 else (place, pixels)

    def result(self, found: tuple[Ints, Ints], scale: float, size: tuple[int, int], *, crop: bool) -> Packed:
        place, pixels = found
        uv = self.uv * scale
        wide, high = pixels[self.home].T
        turn = place[self.home, 3]
        x, y = uv.T
        # As the masks were turned: a quarter takes the last row to the first column.
        turned_x = np.choose(turn, [x, high - y, wide - x, y])
        turned_y = np.choose(turn, [y, x, high - y, wide - x])
        pages = int(place[:, 0].max(initial=0)) + 1
        if crop and pages == 1:
            tall = np.where(place[:, 3] & 1, pixels[:, 0], pixels[:, 1])
            size = size[0], min(int((place[:, 2] + tall).max(initial=0)) + (self.gutter + 1) // 2, size[1])
        at = np.stack([turned_x + place[self.home, 1], turned_y + place[self.home, 2]], axis=1)
        made = at / np.array(size) + np.stack([place[self.home, 0], np.zeros(len(at))], axis=1)
        covered = float(self.area.sum()) * scale**2 / (pages * size[0] * size[1])
        return Packed(made, place[:, 0].copy(), pages, size, scale, covered)
