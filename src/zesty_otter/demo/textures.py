"""Small tiling textures, drawn from sums of waves so that every run makes the same bytes."""

from __future__ import annotations

import io
from functools import cache

import numpy as np
from numpy.typing import NDArray
from PIL import Image

_SIZE = 128


def _grid() -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    y, x = np.mgrid[0:_SIZE, 0:_SIZE] / _SIZE
    return x, y


def _ripple(x: NDArray[np.float64], y: NDArray[np.float64], seed: int) -> NDArray[np.float64]:
    """A smooth tiling pattern between -1 and 1."""
    random = np.random.default_rng(seed)
    total = np.zeros_like(x)
    for strength in (1.0, 0.7, 0.5, 0.35, 0.25):
        kx, ky = random.integers(1, int(8 / strength), 2)
        total += strength * np.sin(2 * np.pi * (kx * x + ky * y + random.random()))
    return total / np.abs(total).max()


def _png(rgb: NDArray[np.float64]) -> bytes:
    out = io.BytesIO()
    Image.fromarray((rgb.clip(0, 1) * 255).round().astype(np.uint8)).save(out, "PNG", compress_level=2)
    return out.getvalue()


def _tinted(tone: NDArray[np.float64], dark: tuple[int, int, int], light: tuple[int, int, int]) -> bytes:
    mix = ((tone + 1) / 2)[..., None]
    return _png((np.array(dark) * (1 - mix) + np.array(light) * mix) / 255)


@cache
def timber() -> bytes:
    """Grey-brown planks."""
    x, y = _grid()
    grain = 0.6 * np.sin(2 * np.pi * (x * 12 + 0.15 * _ripple(x, y, 1))) + 0.4 * _ripple(x, y * 0, 2)
    return _tinted(np.where((x * 4) % 1 < 0.04, -1.6, grain), (74, 58, 42), (140, 116, 84))


@cache
def iron() -> bytes:
    """Dark iron with rust."""
    x, y = _grid()
    return _tinted(_ripple(x, y, 3), (48, 50, 54), (112, 78, 56))


@cache
def stone() -> bytes:
    """Courses of grey stone."""
    x, y = _grid()
    row = np.floor(y * 4)
    joint = ((y * 4) % 1 < 0.06) | (((x * 3 + 0.5 * (row % 2)) % 1) < 0.04)
    return _tinted(np.where(joint, -1.4, 0.6 * _ripple(x, y, 4)), (92, 96, 92), (150, 154, 146))


def paint() -> bytes:
    """River-green hull paint, worn at the waterline."""
    x, y = _grid()
    return _tinted(0.5 * _ripple(x, y, 5) + np.where(np.abs(y - 0.5) < 0.05, 1.0, 0.0), (28, 74, 62), (96, 150, 126))


def net_color() -> bytes:
    """The colour of tarred twine, as the kind of file no engine reads."""
    x, y = _grid()
    tone = 0.4 * _ripple(x, y, 6)
    mix = ((tone + 1) / 2)[..., None]
    pixels = np.array((52, 44, 34)) * (1 - mix) + np.array((120, 104, 78)) * mix
    out = io.BytesIO()
    Image.fromarray(pixels.round().astype(np.uint8)).save(out, "BMP")
    return out.getvalue()


def net_holes() -> bytes:
    """White where there is twine, black in the meshes of the net."""
    x, y = _grid()
    twine = (np.abs((x + y) * 8 % 1 - 0.5) > 0.38) | (np.abs((x - y) * 8 % 1 - 0.5) > 0.38)
    out = io.BytesIO()
    Image.fromarray((twine * 255).astype(np.uint8)).save(out, "PNG", compress_level=2)
    return out.getvalue()
