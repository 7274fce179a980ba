"""Surfaces as they look with all their maps, drawn from any side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_pieces
from zesty_otter.geometry.raster import _pixels as kernels
from zesty_otter.geometry.raster import drawing as raster

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]

_BAND = 64  # rows
ROLES = ("base_color", "normal", "roughness", "metallic", "emissive", "occlusion")
"""The maps of a material, in the order of UVs and of the columns of materials."""


@dataclass(frozen=True, eq=False)
class Pages:
    """Images of materials, each with ever smaller ones behind it.

    Parameters
    ----------
    table : (X, 5) int64
        First byte, width, height, whether the edge goes on, and how many sizes there are.
    pixels : (N,) uint8
        RGBA.
    """

    table: NDArray[np.int64]
    pixels: NDArray[np.uint8]

    @classmethod
    def of(cls, images: Sequence[tuple[NDArray[np.uint8], bool]]) -> Pages:
        """Pages of images (H, W, 4), each with whether its edge goes on."""
        rows, parts, first = [], [], 0
        for image, clamped in images:
            sizes = [image]
            while max(sizes[-1].shape[:2]) > 1 and len(sizes) < 14:
                sizes.append(_halved(sizes[-1]))
            rows.append((first, image.shape[1], image.shape[0], int(clamped), len(sizes)))
            parts += [one.ravel() for one in sizes]
            first += sum(one.size for one in sizes)
        if not rows:
            return cls(np.zeros((0, 5), np.int64), np.zeros(4, np.uint8))
        return cls(np.array(rows, np.int64), np.concatenate(parts))


def _halved(image: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """An image of half the size, each pixel the mean of four."""
    high, wide = max(image.shape[0] // 2, 1), max(image.shape[1] // 2, 1)
    kept = image[: 2 * high if image.shape[0] > 1 else 1, : 2 * wide if image.shape[1] > 1 else 1].astype(np.uint16)
    down = kept[::2] + kept[1::2] if image.shape[0] > 1 else 2 * kept
    across = down[:, ::2] + down[:, 1::2] if image.shape[1] > 1 else 2 * down
    return ((across + 2) // 4).astype(np.uint8)


@dataclass(frozen=True, eq=False)
class Looks:
    """Triangles with everything that says what they look like.

    Parameters
    ----------
    place : (T, 3, 3) float64
    normal : (T, 9) float32
    tangent : (T, 10) float32
        Its sign last.
    uv : (T, 6, 6) float32
        Of the three corners, by role.
    material : (T,) int32
    materials : (M, 23) float64
        See the kernel.
    cutoff : (T,) float32
        The alpha below which nothing is there; negative where alpha does not count.
    pages : Pages
    """

    place: Floats
    normal: Singles
    tangent: Singles
    uv: Singles
    material: NDArray[np.int32]
    materials: Floats
    cutoff: Singles
    pages: Pages


_SHOWN = np.where(
    (_bytes := np.arange(256) / 255.0) <= 0.04045, _bytes / 12.92, ((_bytes + 0.055) / 1.055) ** 2.4
).astype(np.float32)


def drawn(
    looks: Looks, axes: Floats, middle: Floats, scale: float, size: tuple[int, int], *, fine: int, ground: float
) -> tuple[Singles, NDArray[np.bool_]]:
    """A picture in parallel rays.

    Parameters
    ----------
    looks : Looks
    axes : (3, 3) float64
        Rows: to the right, up, and towards whoever looks.
    middle : (3,) float64
        What is in the middle of the picture.
    scale : float
        Pixels for each unit of length.
    size : (int, int)
        Width and height in pixels.
    fine : int
        Places to each side of a pixel that are averaged.
    ground : float
        The light behind it, from 0 to 1.

    Returns
    -------
    light : (H, W, 3) float32
    covered : (H, W) bool
    """
    wide, high = size[0] * fine, size[1] * fine
    own = (looks.place - middle) @ axes.T
    corner = np.ones((len(own), 12), np.float32)
    for k in range(3):
        corner[:, 4 * k] = wide / 2 + own[:, k, 0] * (scale * fine)
        corner[:, 4 * k + 1] = high / 2 - own[:, k, 1] * (scale * fine)
        corner[:, 4 * k + 2] = -own[:, k, 2]
    ids, depth = np.full((high, wide), -1, np.int32), np.full((high, wide), np.inf, np.float32)
    out = np.full((high, wide, 3), ground, np.float32)
    light_up(looks, corner, axes, depth, ids, out)
    light: Singles = np.add.reduce([out[i::fine, j::fine] for i in range(fine) for j in range(fine)]) / fine**2
    met = ids >= 0
    covered: NDArray[np.bool_] = np.logical_or.reduce([met[i::fine, j::fine] for i in range(fine) for j in range(fine)])
    return light, covered


def light_up(looks: Looks, corner: Singles, axes: Floats, depth: Singles, ids: NDArray[np.int32], out: Singles) -> None:
    """Draws triangles where they are nearest, and the light that comes from them.

    Parameters
    ----------
    looks : Looks
    corner : (T, 12) float32
        Of each corner its place in the picture, its depth, and 1.
    axes : (3, 3) float64
        Rows: to the right, up, and towards whoever looks.
    depth, ids, out : (H, W) float32, (H, W) int32 and (H, W, 3) float32
        Changed where a triangle is nearest.
    """
    # Backs of what has one side are not there.
    seen = _faces_us(corner) | (looks.materials[looks.material, kernels.TWO_SIDED] > 0)
    base = looks.materials[looks.material, kernels.TEXTURE + kernels.BASE].astype(np.int32)
    table = np.ascontiguousarray(looks.pages.table[:, :4]) if len(looks.pages.table) else raster.NO_TABLE
    raster.fill(
        np.where(seen[:, None], corner, np.float32(0)), depth, ids, uv=np.ascontiguousarray(looks.uv[:, kernels.BASE]),
        texture=base, cutoff=looks.cutoff, table=table, pixels=looks.pages.pixels,
    )  # fmt: skip
    level = _levels(looks, corner)
    lamp = np.array([-0.4, 0.55, 0.75]) @ axes
    lamp /= np.linalg.norm(lamp)
    toward = np.ascontiguousarray(axes[2])

    def band(first: int, stop: int) -> None:
        kernels.look(
            corner, looks.normal, looks.tangent, looks.uv, level, looks.material, looks.materials, looks.pages.table,
            looks.pages.pixels, _SHOWN, lamp, toward, first, stop, ids, out,
        )  # fmt: skip

    in_pieces(band, len(ids), _BAND)


def _faces_us(corner: Singles) -> NDArray[np.bool_]:
    x0, y0, x1, y1, x2, y2 = (corner[:, k] for k in (0, 1, 4, 5, 8, 9))
    return np.asarray((x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0) < 0)


def _levels(looks: Looks, corner: Singles) -> NDArray[np.int8]:
    """(T, 6) in which of its sizes each map has about as many pixels as the picture there."""
    x0, y0, x1, y1, x2, y2 = (corner[:, k].astype(np.float64) for k in (0, 1, 4, 5, 8, 9))
    area = np.abs((x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0))
    level = np.zeros((len(corner), len(ROLES)), np.int8)
    for role in range(len(ROLES)):
        number = looks.materials[looks.material, kernels.TEXTURE + role].astype(np.int64)
        if not (number >= 0).any():
            continue
        u = looks.uv[:, role].astype(np.float64)
        laid = np.abs((u[:, 2] - u[:, 0]) * (u[:, 5] - u[:, 1]) - (u[:, 4] - u[:, 0]) * (u[:, 3] - u[:, 1]))
        texels = looks.pages.table[number, 1] * looks.pages.table[number, 2]
        ratio = laid * texels / np.maximum(area, 1e-9)
        level[:, role] = np.clip(np.rint(0.5 * np.log2(np.maximum(ratio, 1e-9))), 0, 13)
    return level
