"""Triangles into pixels, in bands of rows that the cores share."""

from __future__ import annotations

from functools import cache

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_pieces
from zesty_otter.geometry.raster import _drawing as kernels

_BAND = 128  # rows

NO_PIXELS = np.zeros(4, np.uint8)
NO_TABLE = np.array([(0, 1, 1, 0)], np.int64)


def fill(
    corner: NDArray[np.float32],
    depth: NDArray[np.float32],
    ids: NDArray[np.int32],
    *,
    uv: NDArray[np.float32] | None = None,
    texture: NDArray[np.int32] | None = None,
    cutoff: NDArray[np.float32] | None = None,
    table: NDArray[np.int64] = NO_TABLE,
    pixels: NDArray[np.uint8] = NO_PIXELS,
) -> None:
    """Puts the number of the nearest triangle into every pixel it covers; cut-outs let through.

    Parameters
    ----------
    corner : (T, 12) float32
        Of each corner its place in the picture, its depth, and one over its distance (1 for parallel rays).
    depth, ids : (H, W) float32 and int32
        Changed where a triangle is nearer.
    uv, texture, cutoff : (T, 6), (T,) and (T,), optional
        For cut-outs: a row of ``table``, -1 for none; a threshold, below 0 for none.
    table : (X, 4) int64
        First byte in ``pixels``, width, height, and whether it is clamped, of each texture.
    pixels : (N,) uint8
        RGBA.
    """
    count = len(corner)
    none = np.full(count, -1, np.int32)
    uv = np.zeros((count, 6), np.float32) if uv is None else uv
    texture = none if texture is None else texture
    cutoff = none.astype(np.float32) if cutoff is None else cutoff

    def band(first: int, stop: int) -> None:
        kernels.fill(corner, uv, texture, cutoff, table, pixels, first, stop, depth, ids, np.zeros(4))

    in_pieces(band, len(depth), _BAND)


def shade(
    corner: NDArray[np.float32],
    ids: NDArray[np.int32],
    out: NDArray[np.float32],
    where: NDArray[np.float32],
    *,
    uv: NDArray[np.float32],
    normal: NDArray[np.float32],
    texture: NDArray[np.int32],
    color: NDArray[np.float32],
    table: NDArray[np.int64],
    pixels: NDArray[np.uint8],
    mode: int,
    light: NDArray[np.float64],
    toward: NDArray[np.float64],
) -> None:
    """The colour of every pixel that a triangle is in, as numbers of light.

    Parameters
    ----------
    corner, uv, texture, table, pixels
        As of `fill`.
    ids : (H, W) int32
        What `fill` made.
    out, where : (H, W, 3) and (H, W, 2) float32
        Get colours, and the shares of the second and third corner.
    normal, color : (T, 9) and (T, 4) float32
        The last number of a colour is 1 for what has two sides.
    mode : int
        0 shades, 1 shows normals, 2 shows UVs as squares.
    light, toward : (3,) float64
        Directions to the lamp and to whoever looks.
    """

    def band(first: int, stop: int) -> None:
        kernels.shade(
            corner, uv, normal, texture, color, table, pixels, mode, light, toward, _light_of(), first, stop, ids, out,
            where, np.zeros(4),
        )  # fmt: skip

    in_pieces(band, len(ids), _BAND)


def finished(fine: NDArray[np.float32], side: int) -> NDArray[np.uint8]:
    """An image from numbers of light.

    Parameters
    ----------
    fine : (side * H, side * W, 3) float32
        Light from 0 to 1; what is beyond is taken to be at the end.
    side : int
        How many numbers to each side of a pixel.

    Returns
    -------
    (H, W, 3) uint8
        As a screen shows it, with a gamma of 2.2.
    """
    image = np.empty((len(fine) // side, fine.shape[1] // side, 3), np.uint8)

    def band(first: int, stop: int) -> None:
        kernels.finish(fine, side, _shown(), first, stop, image)

    in_pieces(band, len(image), _BAND)
    return image


def put(
    mesh: tuple[NDArray[np.float64], NDArray[np.int32], NDArray[np.int32]],
    normals: tuple[NDArray[np.float32], NDArray[np.int32]],
    colors: tuple[NDArray[np.float32], NDArray[np.int32]],
    matrix: NDArray[np.float64],
    camera: NDArray[np.float64],
    lamp: NDArray[np.float64],
    depth: NDArray[np.float32],
    image: NDArray[np.uint8],
) -> None:
    """Draws a mesh without textures into an image in one go, as `fill`, `shade` and `finished` would.

    Parameters
    ----------
    mesh : ((P, 3) float64, (C,) int32, (T, 3) int32)
        Points, the point of each corner, and the corners of each triangle.
    normals : ((N, 3) float32, (C,) int32)
        Directions, and which one each corner has.
    colors : ((S, 4) float32, (T,) int32)
        As of `shade`, and which one each triangle has.
    matrix : (3, 4) float64
        Takes points to the axes left, up, forward.
    camera : (14,) float64
        Its axes as rows: to the right of the picture, up in it, and toward whoever looks; what it looks at; pixels to
        a metre there; and how far it is away, infinite for parallel rays.
    lamp : (3,) float64
        Where the light comes from: right of, above and toward the camera.
    depth, image : (H, W) float32, (H, W, 3) uint8
        Changed where a triangle is nearer.
    """
    at = np.empty((len(mesh[0]), 4))
    kernels.put(*mesh, *normals, *colors, matrix, camera, lamp, _shown(), at, depth, image)


@cache
def _light_of() -> NDArray[np.float64]:
    return np.asarray((np.arange(256) / 255.0) ** 2.2)


@cache
def _shown() -> NDArray[np.uint8]:
    return (np.linspace(0, 1, 1 << 16) ** (1 / 2.2) * 255 + 0.5).astype(np.uint8)


ground, lines, veil = kernels.ground, kernels.lines, kernels.veil
