"""What one surface looks like, drawn into the UVs of another."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_order
from zesty_otter.geometry.queries.distance import Surface
from zesty_otter.geometry.raster import drawing as raster

Floats = NDArray[np.float64]

_CHUNK = 1 << 14  # places that a core works on at a time


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

    ``frame`` (N, 3, 3) are the rows tangent, bitangent and normal of where they started, ``number`` (N,) the pixel,
    and ``sample`` which of its places.
    """

    triangle: NDArray[np.int64]
    shares: Floats
    place: Floats
    rise: Floats
    frame: Floats
    number: NDArray[np.int64]
    sample: int

    def along(self, directions: Floats) -> Floats:
        """(N, 3) directions by the tangent frame: what a normal map holds.

        The frame is taken as it is mixed, neither square nor of length one (Mikkelsen 2008).
        """
        t, b, n = self.frame[:, 0], self.frame[:, 1], self.frame[:, 2]
        across = np.stack([np.cross(b, n), np.cross(n, t), np.cross(t, b)], axis=1)
        turn = np.sign(np.einsum("nj,nj->n", t, across[:, 0]))
        found = np.einsum("nkj,nj->nk", across, directions) * np.where(turn == 0, 1.0, turn)[:, None]
        length = np.linalg.norm(found, axis=1, keepdims=True)
        return np.asarray(np.where(length > 0, found / np.where(length > 0, length, 1.0), (0.0, 0.0, 1.0)))


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
    tried = np.zeros(wide * high, bool)
    side = round(samples**0.5)
    flat = np.stack([canvas.uv[..., 0] * wide, (1.0 - canvas.uv[..., 1]) * high], axis=2)
    for step in range(side * side):
        shift = np.array([(step % side + 0.5) / side, (step // side + 0.5) / side]) - 0.5
        ids = _drawn(flat, shift, canvas.size)
        pixels = np.flatnonzero(ids >= 0)
        tried[pixels] = True

        def work(
            first: int,
            stop: int,
            step: int = step,
            pixels: NDArray[np.int64] = pixels,
            ids: NDArray[np.int32] = ids,
            shift: Floats = shift,
        ) -> tuple[Met, Mapping[str, NDArray[np.float32]]]:
            pixel = pixels[first:stop]
            triangle = ids[pixel]
            at = np.stack([pixel % wide, pixel // wide], axis=1) + 0.5 + shift
            met = _met(canvas, source, reach, pixel, triangle, _shares(flat[triangle], at), step)
            return met, wanted(met)

        pieces = [(first, min(first + _CHUNK, len(pixels))) for first in range(0, len(pixels), _CHUNK)]
        for number, (met, found) in enumerate(in_order(work, pieces)):
            counts[met.number] += 1  # once each, as a pixel has one place at a time
            for name, values in found.items():
                total = sums.setdefault(name, np.zeros((wide * high, values.shape[1]), np.float32))
                total[met.number] += values
            if progress is not None:
                progress((step + number / len(pieces)) / (side * side))
    filled = counts > 0
    images = {}
    nearest = _nearest(filled.reshape(high, wide)) if filled.any() else np.arange(wide * high)
    for name, total in sums.items():
        total /= np.maximum(counts, 1)[:, None]
        images[name] = total[nearest].reshape(high, wide, -1)
    missed = float((tried & ~filled).sum()) / max(int(tried.sum()), 1)
    return Baked(images, float(tried.mean()), missed, filled.reshape(high, wide))


def _drawn(flat: Floats, shift: Floats, size: tuple[int, int]) -> NDArray[np.int32]:
    """(H * W,) the triangle at one place of every pixel, -1 for none; the first where they overlap."""
    corner = np.ones((len(flat), 12), np.float32)
    for j in range(3):
        corner[:, 4 * j : 4 * j + 2] = flat[:, j] - shift
        corner[:, 4 * j + 2] = 0.0
    depth, ids = np.full(size[::-1], np.inf, np.float32), np.full(size[::-1], -1, np.int32)
    raster.fill(corner, depth, ids)
    return ids.ravel()


def _shares(corner: Floats, at: Floats) -> Floats:
    """(N, 3) the shares of the corners of triangles (N, 3, 2) at places (N, 2)."""
    a, b, c = corner[:, 0], corner[:, 1], corner[:, 2]
    area = (b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]
    one = ((b - at)[:, 0] * (c - at)[:, 1] - (b - at)[:, 1] * (c - at)[:, 0]) / area
    two = ((c - at)[:, 0] * (a - at)[:, 1] - (c - at)[:, 1] * (a - at)[:, 0]) / area
    shares = np.clip(np.stack([one, two, 1 - one - two], axis=1), 0.0, 1.0)
    return np.asarray(shares / shares.sum(axis=1, keepdims=True))


def _met(
    canvas: Canvas,
    source: Surface,
    reach: float,
    pixel: NDArray[np.int64],
    triangle: NDArray[np.int32],
    shares: Floats,
    sample: int,
) -> Met:
    def mixed(values: Floats) -> Floats:
        return np.asarray(np.einsum("nk,nkj->nj", shares, values[triangle]))

    place, way = mixed(canvas.place), mixed(canvas.way)
    length = np.linalg.norm(way, axis=1, keepdims=True)
    way /= np.where(length > 0, length, 1.0)
    away, found, where = source.fronts(place + reach * way, -way, 2 * reach)
    rows = np.flatnonzero(found >= 0)
    place, way = place[rows], way[rows]
    triangle, shares = triangle[rows], shares[rows]
    normal, tangent = mixed(canvas.normal), mixed(canvas.tangent[..., :3])
    sign = canvas.tangent[triangle, 0, 3]
    frame = np.stack([tangent, sign[:, None] * np.cross(normal, tangent), normal], axis=1)
    rise = reach - away[rows]
    return Met(found[rows], where[rows], place + rise[:, None] * way, rise, frame, pixel[rows], sample)


def _nearest(filled: NDArray[np.bool_]) -> NDArray[np.int64]:
    """(H * W,) of every pixel the nearest that is filled."""
    from scipy import ndimage

    rows, columns = ndimage.distance_transform_edt(~filled, return_distances=False, return_indices=True)
    return np.asarray((rows.astype(np.int64) * filled.shape[1] + columns).ravel())
