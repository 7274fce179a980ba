"""What one surface looks like, drawn into the UVs of another."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_order
from zesty_otter.geometry.queries import _rays as kernels
from zesty_otter.geometry.queries.distance import Surface, mixed
from zesty_otter.geometry.raster import drawing as raster
from zesty_otter.geometry.raster.spreading import nearest_filled

Floats = NDArray[np.float64]

_TILE = 32  # pixels along a side
_CHUNK = 1 << 15  # places that a core works on at a time


@dataclass(frozen=True, eq=False)
class Canvas:
    """What is drawn into: triangles with their UVs.

    Parameters
    ----------
    place, normal, way : (T, 3, 3) float64
        Positions, normals, and the directions along which rays go in, at the corners.
    tangent : (T, 3, 4) float64
        With their sign as the fourth number.
    uv : (T, 3, 2) float64
    size : (int, int)
        Width and height in pixels.
    """

    place: Floats
    normal: Floats
    way: Floats
    tangent: Floats
    uv: Floats
    size: tuple[int, int]


@dataclass(frozen=True, eq=False)
class Met:
    """Where rays met the source: its ``triangle`` (N,), ``shares`` (N, 3), ``place`` (N, 3); ``rise`` (N,) outward.

    ``normal`` and ``tangent`` (N, 3) and its ``sign`` (N,) are those of where they started, ``number`` (N,) a number of
    each.
    """

    triangle: NDArray[np.int64]
    shares: Floats
    place: Floats
    rise: Floats
    normal: Floats
    tangent: Floats
    sign: Floats
    number: NDArray[np.int64]

    def along(self, directions: Floats) -> Floats:
        """(N, 3) directions by the tangent frame: what a normal map holds.

        The frame is taken as it is mixed, neither square nor of length one (Mikkelsen 2008).
        """
        out = np.empty_like(self.place)
        kernels.by_frame(self.normal, self.tangent, self.sign, np.ascontiguousarray(directions), out)
        return out


@dataclass(frozen=True, eq=False)
class Baked:
    """Images by name, (H, W, n) float32, filled beyond what was met; shares of the pixels drawn, and of those missed.

    ``met`` (H, W) says which pixels a ray of theirs brought something.
    """

    images: Mapping[str, NDArray[np.float32]]
    drawn: float
    missed: float
    met: NDArray[np.bool_]


def bake(
    canvas: Canvas,
    source: Surface,
    reach: float,
    wanted: Callable[[Met], Mapping[str, NDArray[np.float32]]],
    *,
    samples: int = 4,
    progress: Callable[[float], None] | None = None,
) -> Baked:
    """Draws a source into the UVs of a canvas: from each place of a pixel, a ray from ``reach`` above goes straight in.

    Parameters
    ----------
    canvas : Canvas
    source : Surface
    reach : float
        How far above and below the canvas the source may lie.
    wanted : callable
        What to draw: for where rays met the source, arrays (N, n) by name.
    samples : int
        Places of a pixel, a square number; what they find is averaged.
    progress : callable, optional

    Returns
    -------
    Baked
        What no ray brought anything for has what the nearest pixel has.
    """
    wide, high = canvas.size
    sums: dict[str, NDArray[np.float32]] = {}
    counts = np.zeros(wide * high, np.float32)
    side = round(samples**0.5)
    flat = np.ascontiguousarray(np.stack([canvas.uv[..., 0] * wide, (1.0 - canvas.uv[..., 1]) * high], axis=2))
    corners = np.ascontiguousarray(
        np.concatenate([canvas.place, canvas.way, canvas.normal, canvas.tangent], axis=2), np.float64
    )
    shifts = [np.array([(k % side + 0.5) / side, (k // side + 0.5) / side]) for k in range(side * side)]
    ids = np.stack([_drawn(flat, shift - 0.5, canvas.size) for shift in shifts])
    pixels = _by_tiles(np.flatnonzero((ids >= 0).any(axis=0)), wide)

    def work(first: int, stop: int) -> tuple[NDArray[np.int64], dict[str, NDArray[np.float32]]]:
        """What all places of some pixels come to: how many brought something, and its sums."""
        pixel = pixels[first:stop]
        place, own = np.nonzero(ids[:, pixel] >= 0)
        triangle = ids[place, pixel[own]].astype(np.int64)
        shares = np.empty((len(own), 3))
        ends = np.searchsorted(place, np.arange(len(shifts) + 1))
        for k, (x, y) in enumerate(shifts):
            rows = slice(ends[k], ends[k + 1])
            kernels.share_pixels(flat, triangle[rows], pixel[own[rows]], wide, x, y, shares[rows])
        met, kept = _met(corners, source, reach, pixel[own] * len(shifts) + place, triangle, shares)
        at, found = own[kept], {}
        for name, values in wanted(met).items():
            columns = [np.bincount(at, values[:, k], len(pixel)) for k in range(values.shape[1])]
            found[name] = np.stack(columns, axis=1).astype(np.float32)
        return np.bincount(at, minlength=len(pixel)), found

    step = max(_CHUNK // len(shifts), 1)
    pieces = [(first, min(first + step, len(pixels))) for first in range(0, len(pixels), step)]
    for number, ((first, stop), (many, found)) in enumerate(zip(pieces, in_order(work, pieces), strict=True)):
        counts[pixels[first:stop]] = many
        for name, values in found.items():
            total = sums.setdefault(name, np.zeros((wide * high, values.shape[1]), np.float32))
            total[pixels[first:stop]] = values
        if progress is not None:
            progress(number / len(pieces))
    filled = counts > 0
    images = {}
    nearest = nearest_filled(filled.reshape(high, wide)).ravel() if filled.any() else np.arange(wide * high)
    for name, total in sums.items():
        total /= np.maximum(counts, 1)[:, None]
        images[name] = total[nearest].reshape(high, wide, -1)
    missed = float((~filled[pixels]).sum()) / max(len(pixels), 1)
    return Baked(images, len(pixels) / (wide * high), missed, filled.reshape(high, wide))


def _by_tiles(pixels: NDArray[np.int64], wide: int) -> NDArray[np.int64]:
    """Pixels in the order of small squares, so that rays that follow each other meet the same triangles."""
    row, column = np.divmod(pixels, wide)
    tile = (row // _TILE) * (wide // _TILE + 1) + column // _TILE
    return pixels[np.argsort(tile, kind="stable")]


def _drawn(flat: Floats, shift: Floats, size: tuple[int, int]) -> NDArray[np.int32]:
    """(H * W,) the triangle at one place of every pixel, -1 for none; the first where they overlap."""
    corner = np.ones((len(flat), 12), np.float32)
    for j in range(3):
        corner[:, 4 * j : 4 * j + 2] = flat[:, j] - shift
        corner[:, 4 * j + 2] = 0.0
    depth, ids = np.full(size[::-1], np.inf, np.float32), np.full(size[::-1], -1, np.int32)
    raster.fill(corner, depth, ids)
    return ids.ravel()


def _met(
    corners: Floats,
    source: Surface,
    reach: float,
    number: NDArray[np.int64],
    triangle: NDArray[np.int64],
    shares: Floats,
) -> tuple[Met, NDArray[np.int64]]:
    """Where rays meet the source; ``corners`` (T, 3, 13) of what is drawn into: place, way, normal, tangent, sign.

    Also gives the rows of those that did.
    """
    found = mixed(corners, triangle, shares)
    place, way = found[:, :3], found[:, 3:6]
    length = np.sqrt(np.einsum("nk,nk->n", way, way))
    way = way / np.where(length > 0, length, 1.0)[:, None]
    away, met, where = source.fronts(place + reach * way, -way, 2 * reach)
    rows = np.flatnonzero(met >= 0)
    found, way = found[rows], way[rows]
    rise = reach - away[rows]
    sign = np.where(corners[triangle[rows], 0, 12] < 0, -1.0, 1.0)
    place = found[:, :3] + rise[:, None] * way
    normal, tangent = (np.ascontiguousarray(found[:, k : k + 3]) for k in (6, 9))
    return Met(met[rows], where[rows], place, rise, normal, tangent, sign, number[rows]), rows
