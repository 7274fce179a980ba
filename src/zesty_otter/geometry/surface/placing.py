"""Transforms as translations, rotations and scales, many at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

_BLOCK = 1 << 14  # transforms that are worked on at a time, so that a million take no more room than they have to


def rotations(quaternions: ArrayLike) -> NDArray[np.float64]:
    """Rotation matrices of quaternions.

    Parameters
    ----------
    quaternions : (N, 4)
        x, y, z, w; of any length, and no rotation where it is zero.

    Returns
    -------
    (N, 3, 3) float64
    """
    given = np.asarray(quaternions, np.float64).reshape(-1, 4)
    length = np.linalg.norm(given, axis=1, keepdims=True)
    x, y, z, w = np.where(length > 0, given / np.where(length > 0, length, 1.0), (0.0, 0.0, 0.0, 1.0)).T
    rows = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    return np.array(rows).transpose(2, 0, 1)


def composed(
    count: int,
    translations: NDArray[np.float64] | None = None,
    quaternions: NDArray[np.float64] | None = None,
    scales: NDArray[np.float64] | None = None,
) -> NDArray[np.float64]:
    """(N, 4, 4) transforms that scale (N, 3), then rotate by x, y, z, w (N, 4), then move (N, 3)."""
    made = np.tile(np.eye(4), (count, 1, 1))
    if quaternions is not None:
        made[:, :3, :3] = rotations(quaternions)
    if scales is not None:
        made[:, :3, :3] *= scales[:, None, :]
    if translations is not None:
        made[:, :3, 3] = translations
    return made


def taken_apart(
    transforms: NDArray[np.float64],
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """The parts that `composed` takes, of transforms without shear; a mirroring one has a negative first scale.

    Parameters
    ----------
    transforms : (N, 4, 4) float64

    Returns
    -------
    translations : (N, 3) float64
    quaternions : (N, 4) float64
        x, y, z, w, of length one and w not negative (S. W. Shepperd, 1978, "Quaternion from rotation matrix").
    scales : (N, 3) float64
    """
    count = len(transforms)
    places, turns, scales = np.empty((count, 3)), np.empty((count, 4)), np.empty((count, 3))
    for at in range(0, count, _BLOCK):
        part = slice(at, at + _BLOCK)
        places[part], turns[part], scales[part] = _taken_apart(transforms[part])
    return places, turns, scales


def _taken_apart(
    transforms: NDArray[np.float64],
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """As `taken_apart`, all at once."""
    linear = transforms[:, :3, :3]
    scales = np.linalg.norm(linear, axis=1)
    scales[:, 0] *= np.where(_mirrors(linear), -1.0, 1.0)
    turned = linear / np.where(scales != 0, scales, 1.0)[:, None, :]
    flat = (scales == 0).any(axis=1)
    if flat.any():
        turned[flat] = _completed(turned[flat], scales[flat] == 0)
    m00, m11, m22 = turned[:, 0, 0], turned[:, 1, 1], turned[:, 2, 2]
    # Four times the square of each part; the largest of them is safe to divide by.
    squares = np.stack([1 + m00 - m11 - m22, 1 - m00 + m11 - m22, 1 - m00 - m11 + m22, 1 + m00 + m11 + m22], axis=1)
    a, b, c = (turned[:, i, j] + turned[:, j, i] for i, j in ((0, 1), (0, 2), (1, 2)))
    x, y, z = (turned[:, i, j] - turned[:, j, i] for i, j in ((2, 1), (0, 2), (1, 0)))
    products = np.array([[squares[:, 0], a, b, x], [a, squares[:, 1], c, y], [b, c, squares[:, 2], z],
                         [x, y, z, squares[:, 3]]])  # fmt: skip
    best = np.argmax(squares, axis=1)
    found = products[best, :, np.arange(len(best))]
    found /= np.linalg.norm(found, axis=1, keepdims=True)
    return transforms[:, :3, 3].copy(), np.where(found[:, 3:] < 0, -found, found), scales


def _mirrors(linear: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(N,) which matrices (N, 3, 3) mirror."""
    return np.asarray(np.einsum("ni,ni->n", linear[:, 0], np.cross(linear[:, 1], linear[:, 2])) < 0)


def _completed(turned: NDArray[np.float64], missing: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Rotations (N, 3, 3) with something at right angles in place of columns that are ``missing`` (N, 3)."""
    left, _, right = np.linalg.svd(turned)
    whole = left @ right
    first = np.argmax(missing, axis=1)
    whole[np.arange(len(whole)), :, first] *= np.where(_mirrors(whole), -1.0, 1.0)[:, None]
    return np.asarray(whole)


def straightened(transforms: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Transforms without the shear that is only in the digits they were written with.

    A rotation that is written with six digits is none any more. What is as near to a rotation and a scale as its own
    digits tell, or those of 32-bit numbers, becomes the nearest one (N. Higham, 1986, "Computing the polar
    decomposition"); all others stay to the last bit.

    Parameters
    ----------
    transforms : (N, 4, 4) float64

    Returns
    -------
    transforms : (N, 4, 4) float64
    changed : (N,) bool
    """
    linear = transforms[:, :3, :3]
    lengths = np.linalg.norm(linear, axis=1)
    sound = np.isfinite(linear).all(axis=(1, 2)) & (lengths > 0).all(axis=1)
    unit = np.where(sound[:, None, None], linear / np.where(lengths > 0, lengths, 1.0)[:, None, :], np.eye(3))
    gram = np.einsum("nki,nkj->nij", unit, unit)
    off = np.abs(gram[:, [0, 0, 1], [1, 2, 2]]).max(axis=1, initial=0.0)
    near = sound & (off > 1e-14) & (off < 1e-3)
    near[near] = off[near] <= 6 * _rounding(linear[near]) / lengths[near].min(axis=1)
    if not near.any():
        return transforms, near
    left, _, right = np.linalg.svd(unit[near])
    out = transforms.copy()
    out[near, :3, :3] = (left @ right) * lengths[near][:, None, :]
    return out, near


def _rounding(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """(N,) how far the numbers of matrices may be off for having been written with few digits."""
    size = np.abs(linear)
    found = size.max(axis=(1, 2)) * 2.0**-24
    leading = np.floor(np.log10(np.where(size > 0, size, 1.0)))
    for digits in (9, 8, 7, 6, 5):
        step = 10.0 ** (leading - (digits - 1))
        fits = (np.abs(linear - np.round(linear / step) * step) <= 1e-12 * size).all(axis=(1, 2))
        found = np.where(fits, np.maximum(found, step.max(axis=(1, 2), where=size > 0, initial=0.0) / 2), found)
    return found


def sheared(transforms: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(N,) which transforms are no translation, rotation and scale, or scale something to nothing."""
    parts = [_sheared(transforms[at : at + _BLOCK]) for at in range(0, len(transforms), _BLOCK)]
    return np.concatenate(parts) if parts else np.zeros(0, bool)


def _sheared(transforms: NDArray[np.float64]) -> NDArray[np.bool_]:
    # Columns that lie together are multiplied many times faster than small matrices.
    rows = np.ascontiguousarray(transforms[:, :3, :3].transpose(1, 2, 0))
    pairs = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))
    gram = np.array([(rows[:, i] * rows[:, j]).sum(axis=0) for i, j in pairs])
    lengths, across = gram[:3], np.abs(gram[3:]).max(axis=0)
    size = np.maximum(lengths.max(axis=0), across)
    return np.asarray((across > 1e-9 * np.maximum(size, 1e-300)) | (lengths.min(axis=0) <= 1e-24 * size))
