"""Flat pictures of a surface, from its sides."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.raster import drawing as raster
from zesty_otter.geometry.raster.colors import to_linear, to_srgb
from zesty_otter.geometry.raster.spreading import nearest_filled

_FINE = 4  # places to each side of a pixel that are looked at


@dataclass(frozen=True, eq=False)
class Paint:
    """What triangles look like.

    Parameters
    ----------
    uvs : (T, 3, 2) float32
    colors : (T, 3, 4) float32
        Linear light and alpha at the corners, which a texture is multiplied by.
    texture : (T,) int32
        Which of the images, -1 for none.
    cutoff : (T,) float32
        The alpha below which nothing is there; negative where alpha does not count.
    images : sequence of (H, W, 4) uint8
        In the sRGB space, the first row on top.
    """

    uvs: NDArray[np.float32]
    colors: NDArray[np.float32]
    texture: NDArray[np.int32]
    cutoff: NDArray[np.float32]
    images: Sequence[NDArray[np.uint8]]


def portrait(
    sides: NDArray[np.float64], paint: Paint, box: tuple[float, float, float, float], size: tuple[int, int]
) -> NDArray[np.float64]:
    """A picture of triangles in parallel rays, without light or shade.

    Parameters
    ----------
    sides : (T, 3, 3) float64
        Corners: to the right, up, and toward whoever looks.
    paint : Paint
    box : (left, bottom, right, top)
        What the picture shows.
    size : (width, height)
        In pixels.

    Returns
    -------
    (height, width, 4) float64
        Linear light, and the share of each pixel that is covered. What is not covered at all has the colour of the
        nearest that is, so that nothing foreign bleeds in where pixels are mixed.
    """
    wide, high = size[0] * _FINE, size[1] * _FINE
    left, bottom, right, top = box
    corner = np.ones((len(sides), 12), np.float32)
    for k in range(3):
        corner[:, 4 * k] = (sides[:, k, 0] - left) * (wide / (right - left))
        corner[:, 4 * k + 1] = (top - sides[:, k, 1]) * (high / (top - bottom))
        corner[:, 4 * k + 2] = -sides[:, k, 2]
    table, first = [], 0
    for image in paint.images:
        table.append((first, image.shape[1], image.shape[0], 0))
        first += image.size
    pixels = np.concatenate([image.ravel() for image in paint.images]) if table else np.zeros(4, np.uint8)
    depth, ids = np.full((high, wide), np.inf, np.float32), np.full((high, wide), -1, np.int32)
    raster.fill(
        corner, depth, ids, uv=paint.uvs.reshape(-1, 6), texture=paint.texture, cutoff=paint.cutoff,
        table=np.array(table) if table else raster.NO_TABLE, pixels=pixels,
    )  # fmt: skip
    y, x = np.nonzero(ids >= 0)
    seen = ids[y, x]
    shares = _shares(corner[seen].astype(np.float64), np.stack([x, y], axis=1) + 0.5)
    color = np.einsum("nk,nkj->nj", shares, paint.colors[seen])
    uv = np.einsum("nk,nkj->nj", shares, paint.uvs[seen])
    for number, image in enumerate(paint.images):
        own = paint.texture[seen] == number
        color[own] *= _looked_up(image, uv[own])
    color[paint.cutoff[seen] < 0, 3] = 1.0
    fine = np.zeros((high, wide, 4))
    fine[y, x, :3] = color[:, :3] * color[:, 3:]
    fine[y, x, 3] = color[:, 3]
    mixed = fine.reshape(size[1], _FINE, size[0], _FINE, 4).mean(axis=(1, 3))
    covered = mixed[..., 3] > 0
    mixed[covered, :3] /= mixed[covered, 3:]
    if covered.any():
        mixed[..., :3] = mixed.reshape(-1, 4)[nearest_filled(covered), :3]
    return mixed


def _shares(corner: NDArray[np.float64], place: NDArray[Any]) -> NDArray[np.float64]:
    """(N, 3) the shares of the corners of triangles at places (N, 2) of a picture."""
    x, y = place.T
    x0, y0, x1, y1, x2, y2 = (corner[:, k] for k in (0, 1, 4, 5, 8, 9))
    area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
    b0 = ((x1 - x) * (y2 - y) - (x2 - x) * (y1 - y)) / area
    b1 = ((x2 - x) * (y0 - y) - (x0 - x) * (y2 - y)) / area
    return np.stack([b0, b1, 1 - b0 - b1], axis=1)


def _looked_up(image: NDArray[np.uint8], uv: NDArray[np.float64]) -> NDArray[np.float64]:
    """(N, 4) the linear colour and alpha of an image that repeats, from the nearest pixel."""
    high, wide = image.shape[:2]
    column = np.minimum(((uv[:, 0] % 1.0) * wide).astype(int), wide - 1)
    row = np.minimum(((1.0 - uv[:, 1] % 1.0) * high).astype(int), high - 1)
    found = image[row, column] / 255.0
    found[:, :3] = to_linear(found[:, :3])
    return found


def kept_cover(alpha: NDArray[np.float64], cutoff: float = 0.5) -> NDArray[np.float64]:
    """Alpha raised so that cutting it off leaves as much as it covers: thin cords would vanish otherwise."""
    cover = float(alpha.mean())
    if not cover:
        return alpha
    ranked = np.sort(alpha.ravel())[::-1]
    least = float(ranked[min(round(cover * len(ranked)), len(ranked)) - 1]) or float(ranked[ranked > 0][-1])
    return alpha if least >= cutoff else np.clip(alpha * (cutoff / least), 0.0, 1.0)


@dataclass(frozen=True, eq=False)
class View:
    """A surface as it is seen level, from one side.

    Parameters
    ----------
    axes : (3, 3) float64
        Rows: to the right, up, and towards whoever looks.
    places : (P, 3) float64
        Its points along these axes.
    box : four floats
        Left, bottom, right and top of what is seen.
    """

    axes: NDArray[np.float64]
    places: NDArray[np.float64]
    box: tuple[float, float, float, float]

    @property
    def size(self) -> tuple[float, float]:
        """Width and height."""
        return self.box[2] - self.box[0], self.box[3] - self.box[1]

    def portrait(self, triangles: NDArray[Any], paint: Paint, texel: float) -> NDArray[np.float64]:
        """(H, W, 4) its picture, in linear light, with pixels of about this size; see `portrait`."""
        pixels = (max(round(self.size[0] / texel), 1), max(round(self.size[1] / texel), 1))
        return portrait(self.places[triangles], paint, self.box, pixels)

    def rectangle(self, middle: NDArray[np.float64]) -> NDArray[np.float64]:
        """(4, 3) the corners of what is seen, counterclockwise from the lower left, at the depth of a place."""
        left, bottom, right, top = self.box
        depth = float(middle @ self.axes[2])
        flat = [(left, bottom, depth), (right, bottom, depth), (right, top, depth), (left, top, depth)]
        return np.array([one @ self.axes for one in flat])


def upright_views(points: NDArray[np.float64], triangles: NDArray[Any], count: int, *, first: float) -> list[View]:
    """Views of a surface from sides that share half a turn; none from an edge of what is flat.

    Parameters
    ----------
    points : (P, 3) float64
        Left, up, forward.
    triangles : (T, 3) int
    count : int
    first : float
        The angle of the first view, in radians to the side.
    """
    views = []
    for angle in first + np.arange(count) * (math.pi / count):
        c, s = math.cos(angle), math.sin(angle)
        axes = np.array([(c, 0, -s), (0, 1, 0), (s, 0, c)])
        places = points @ axes.T
        used = places[triangles.ravel()]
        (left, bottom, _), (right, top, _) = used.min(axis=0).tolist(), used.max(axis=0).tolist()
        views.append(View(axes, places, (left, bottom, right, top)))
    longest = max(max(view.size) for view in views)
    return [view for view in views if min(view.size) > 1e-6 * longest]


def side_by_side(
    pictures: Sequence[NDArray[np.float64]],
) -> tuple[NDArray[np.uint8], list[tuple[float, float, float, float]]]:
    """One image of sides that are powers of two, and the UVs of the lower left and upper right of each picture."""
    gap = 2
    wide = 1 << (sum(one.shape[1] + gap for one in pictures) - gap - 1).bit_length()
    high = 1 << (max(one.shape[0] for one in pictures) - 1).bit_length()
    image = np.zeros((high, wide, 4))
    spans, at = [], 0
    for one in pictures:
        tall, broad = one.shape[:2]
        end = min(at + broad + gap, wide)
        # Colours go on beyond the edge, where nothing is covered, so that what is mixed in there fits.
        image[:, at:end, :3] = np.pad(one, ((0, high - tall), (0, end - at - broad), (0, 0)), "edge")[..., :3]
        image[:tall, at : at + broad, 3] = kept_cover(one[..., 3])
        spans.append((at / wide, 1 - tall / high, (at + broad) / wide, 1.0))
        at = end
    image[..., :3] = to_srgb(image[..., :3])
    return (image * 255).round().astype(np.uint8), spans
