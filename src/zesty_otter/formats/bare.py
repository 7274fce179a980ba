"""What several formats need of tables, meshes and scenes."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError, ModelError, UsageError
from zesty_otter.model import (
    LARGEST,
    Frame,
    Material,
    Mesh,
    Note,
    Scene,
    format_unit,
    is_within,
    joined_meshes,
    shortened,
    transformed,
)

T = TypeVar("T")

_FRAME = re.compile(rb"^(?:#|comment) (\w+ \w+ \w+), ([^()\r\n]+) \(\+X \+Y \+Z, unit\)", re.MULTILINE)


def frame_comment(frame: Frame) -> str:
    """What files of formats that say neither axes nor unit get as a comment, for people and for `said_frame`."""
    return f"{' '.join(frame.axes)}, {format_unit(frame.unit)} (+X +Y +Z, unit)"


def said_frame(head: bytes) -> Frame | None:
    """The frame that the comment of one of our writers says at the head of a file."""
    found = _FRAME.search(head)
    if found is None:
        return None
    unit = found[2].decode("latin-1")
    try:
        return Frame(found[1].decode("latin-1"), None if unit == format_unit(None) else unit.removesuffix(" m"))
    except UsageError:
        return None


_RANGES = {"metallic": 1.0, "roughness": 1.0, "alpha_cutoff": LARGEST, "base_color": LARGEST, "emissive": LARGEST}
"""The highest number a material may have there; the lowest is 0."""


def sound_material(name: str, **said: Any) -> Material:
    """A material with numbers that are out of range brought into it."""
    for key, highest in _RANGES.items():
        if key in said:
            value = said[key]
            numbers = [_clipped(one, highest) for one in (value if isinstance(value, Iterable) else [value])]
            said[key] = tuple(numbers) if isinstance(value, Iterable) else numbers[0]
    return Material(name, **said)


def _clipped(value: float, highest: float) -> float:
    return min(max(float(value), 0.0), highest) if not math.isnan(value) else 0.0


def if_sound(make: Callable[[], T], note: Callable[[str, str], None]) -> T | None:
    """What ``make`` gives; None with a note where a file says something of it that cannot be."""
    try:
        return make()
    except ModelError as error:
        note("lost", f"{error.place}: {error.problem} It is left out.")
        return None


def usable_rows(values: NDArray[Any]) -> NDArray[np.bool_]:
    """(N,) which rows of a table (N, n) hold only numbers that a mesh may hold: finite, and up to `LARGEST`."""
    if is_within(values):
        return np.ones(len(values), bool)
    good = np.abs(values[:, 0]) <= LARGEST
    for k in range(1, values.shape[1]):
        good &= np.abs(values[:, k]) <= LARGEST
    return np.asarray(good)


def points_into(index: NDArray[Any], count: int) -> bool:
    """Whether all of an index are numbers of so many things."""
    return not len(index) or (int(index.min()) >= 0 and int(index.max()) < count)


def shows_nothing(scene: Scene) -> bool:
    """Whether a scene has no face, and places no other file that might have some."""
    return not any(mesh.face_count for mesh in scene.meshes) and not any(one.node.piece for one in scene.walk())


def nothing_to_write(scene: Scene) -> InputError:
    """The complaint about a scene without a face."""
    return InputError(
        "there is nothing to write: the scene has no faces.",
        file=scene.source,
        remedy="`zesty-otter survey` shows what was read.",
    )


def as_one_mesh(scene: Scene, maker: str) -> tuple[Mesh, list[Note]]:
    """Everything placed as one mesh in world space, and what that loses.

    Raises
    ------
    InputError
        When there is no face.
    """
    placed = [(one, mesh) for one, mesh in scene.placed_meshes() if mesh.face_count]
    if not placed:
        raise nothing_to_write(scene)
    meshes = [
        mesh if np.array_equal(one.world, np.eye(4)) else transformed(mesh, one.world[:3, :3], one.world[:3, 3])
        for one, mesh in placed
    ]
    notes = []
    title = maker.upper()
    if len(placed) > 1:
        names = shortened(one.node.name for one, _ in placed)
        notes.append(Note("lost", f"{title} has one mesh and no names: {names} became one", maker))
    elif scene.name and any(one.node.name != scene.name for one in scene.walk()):
        names = shortened(one.node.name for one in scene.walk() if one.node.name != scene.name)
        notes.append(Note("done", f"{title} has no names: left out {names}", maker))
    if any(one.node.properties and one.node.role == "visible" for one in scene.walk()):
        notes.append(Note("lost", f"{title} has no properties; they are left out", maker))
    if len(placed) == 1 and not np.array_equal(placed[0][0].world, np.eye(4)):
        notes.append(Note("lost", f"{title} has no places: that of the node is in the points now", maker))
    if scene.materials:
        notes.append(Note("lost", f"{title} has no materials; they are left out", maker))
    if any(one.node.kind in ("light", "camera") for one in scene.walk()):
        notes.append(Note("lost", f"{title} has no lights and cameras; they are left out", maker))
    return joined_meshes(placed[0][0].node.name if len(placed) == 1 else scene.name, meshes), notes
