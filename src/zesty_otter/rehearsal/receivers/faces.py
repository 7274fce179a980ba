"""Faces in the world, and what all receivers need to get there: numbers in text, places, mirrored faces."""

from __future__ import annotations

import math
import warnings
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

_OF_NUMBERS = b"0123456789+-.eE \t\r\n"


class RefusedError(ValueError):
    """A file breaks its specification; the text says how."""


class UnknownFormError(ValueError):
    """A file has a form that the receiver does not know; the text names it."""


def require(sound: object, problem: str) -> None:
    """Refuse a file that is not sound."""
    if not sound:
        raise RefusedError(problem)


@dataclass(frozen=True, eq=False)
class Faces:
    """Polygons, facing outward.

    Parameters
    ----------
    points : (C, 3)
        Where each corner is.
    sizes : (F,)
        How many corners each face has.
    normals : (C, 3)
        Of length one; NaN where there is none.
    uvs : (C, 2)
        Where the texture of the colour is looked up, from the lower left corner; NaN where there are none.
    colors : (C, 3)
        As amounts of light; NaN where there are none.
    material : (F,)
        The number of the material of each face in ``names``.
    names : tuple of str
        The names of materials; empty for none.
    """

    points: Floats
    sizes: Ints
    normals: Floats
    uvs: Floats
    colors: Floats
    material: Ints
    names: tuple[str, ...]

    @property
    def start(self) -> Ints:
        return np.concatenate([[0], np.cumsum(self.sizes)])


def placed_faces(
    world: Floats,
    points: Floats,
    sizes: Ints,
    *,
    normals: Floats | None = None,
    uvs: Floats | None = None,
    colors: Floats | None = None,
    material: Ints | None = None,
    names: Sequence[str] = ("",),
) -> Faces:
    """Faces under a transform (4, 4); what is mirrored is turned round, so that it faces outward.

    All are of the first material where there is no number for each.
    """
    require(bool(np.isfinite(world).all()), "a transform holds something that is not a number")
    require(bool((np.abs(points) < 1e18).all()), "a position is beyond all bounds, or not a number")
    linear = world[:3, :3]
    mirrored = bool(np.linalg.det(linear) < 0)
    order = np.arange(len(points))
    if mirrored:
        ends = np.cumsum(sizes)
        order = np.repeat(2 * ends - sizes - 1, sizes) - order
    turned = np.full((len(points), 3), np.nan)
    if normals is not None:
        turned = normals @ np.linalg.inv(linear)
        length = np.linalg.norm(turned, axis=1, keepdims=True)
        turned = np.divide(turned, length, out=np.full_like(turned, np.nan), where=length > 0)
    empty = np.full((len(points), 3), np.nan)
    return Faces(
        (points @ linear.T + world[:3, 3])[order],
        np.asarray(sizes, np.int64),
        turned[order],
        (empty[:, :2] if uvs is None else uvs)[order],
        (empty if colors is None else colors)[order],
        np.zeros(len(sizes), np.int64) if material is None else material,
        tuple(names),
    )


def all_of(parts: Iterable[Faces]) -> Faces:
    """Several as one."""
    many = [placed_faces(np.eye(4), np.zeros((0, 3)), np.zeros(0, np.int64)), *parts]
    first = np.cumsum([0, *(len(one.names) for one in many)])
    return Faces(
        np.concatenate([one.points for one in many]),
        np.concatenate([one.sizes for one in many]),
        np.concatenate([one.normals for one in many]),
        np.concatenate([one.uvs for one in many]),
        np.concatenate([one.colors for one in many]),
        np.concatenate([one.material + start for one, start in zip(many, first.tolist(), strict=False)]),
        tuple(name for one in many for name in one.names),
    )


def numbers(text: str | bytes | None) -> Floats:
    """The numbers in a text, apart by blanks or commas."""
    data = (text.encode() if isinstance(text, str) else text or b"").replace(b",", b" ")
    require(not data.translate(None, _OF_NUMBERS), "a list of numbers holds something else")
    letters = np.frombuffer(b" " + data, np.uint8) > ord(" ")
    count = int((letters[1:] & ~letters[:-1]).sum())
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)  # it tells of what cannot be read, and stops there
        found = np.fromstring(data, np.float64, sep=" ") if count else np.zeros(0)
    require(len(found) == count, "a list of numbers holds something else")
    return found


def whole_numbers(text: str | bytes | None) -> Ints:
    """The whole numbers in a text."""
    found = numbers(text)
    require(bool((np.abs(found) < 2**53).all()), "an index is out of bounds")
    require(bool((found == np.rint(found)).all()), "an index is not a whole number")
    return found.astype(np.int64)


def rows_of(table: Floats, index: Ints, what: str) -> Floats:
    """(N, n) the rows that an index points to."""
    require(not len(index) or (index.min() >= 0 and index.max() < len(table)), f"an index of {what} points nowhere")
    return table[index]


def said_rows(table: Floats, index: Ints, width: int, what: str) -> Floats:
    """(N, n) the rows that an index points to; NaN where it is negative, as nothing is said there."""
    found = np.full((len(index), width), np.nan)
    said = index >= 0
    found[said] = rows_of(table[:, :width], index[said], what)
    return found


def light(seen: Floats) -> Floats:
    """Colours as they look on screen, as amounts of light (IEC 61966-2-1)."""
    return np.where(seen <= 0.04045, seen / 12.92, ((np.maximum(seen, 0) + 0.055) / 1.055) ** 2.4)


def turned_by(quaternion: ArrayLike) -> Floats:
    """(3, 3) the rotation of a quaternion x, y, z, w of length one."""
    x, y, z, w = (float(value) for value in np.asarray(quaternion, np.float64))
    require(abs(x * x + y * y + z * z + w * w - 1) < 1e-4, "a quaternion is not of length one")
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def turned_about(axis: Sequence[float], angle: float) -> Floats:
    """(3, 3) a turn by an angle in radians about an axis."""
    length = math.sqrt(sum(value * value for value in axis))
    if length == 0 or angle == 0:
        return np.eye(3)
    x, y, z = (value / length * math.sin(angle / 2) for value in axis)
    return turned_by((x, y, z, math.cos(angle / 2)))


def place(translation: ArrayLike = (0, 0, 0), rotation: Floats | None = None, scale: ArrayLike = (1, 1, 1)) -> Floats:
    """(4, 4) a scale, then a rotation, then a translation."""
    matrix = np.eye(4)
    matrix[:3, :3] = (np.eye(3) if rotation is None else rotation) @ np.diag(np.asarray(scale, np.float64))
    matrix[:3, 3] = translation
    return matrix
