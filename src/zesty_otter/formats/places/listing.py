"""What a table of places keeps of a scene, and the boxes that stand for what it places."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.placing import sheared
from zesty_otter.model import Frame, Mesh, Node, Note, Placed, Scatter, Scene, shortened
from zesty_otter.polygons import box_mesh

COLUMNS = ("x", "y", "z", "qx", "qy", "qz", "qw", "sx", "sy", "sz")
"""Position, rotation as a quaternion, and scale, in this order."""

_SIZE = 1.0  # metres: the side of the box that stands for what a table places


@dataclass(frozen=True, eq=False)
class Things:
    """Things of one name: where they are (N, 4, 4), and numbers of their own, (N,) or (N, k), by name."""

    name: str
    places: NDArray[np.float64]
    own: dict[str, NDArray[Any]]


def as_places(scene: Scene) -> tuple[Scene, list[Note]]:
    """The scene a table of places holds: for each name the places in the world, shown as boxes; and what that loses."""
    found: dict[str, list[tuple[NDArray[np.float64], dict[str, NDArray[Any]]]]] = {}
    lost: dict[str, list[str]] = {}
    for placed in scene.walk():
        node = placed.node
        if not (node.drawn is not None and node.is_shown and placed.visible):
            if node.content is not None or (not node.children and node.role != "visible"):
                lost.setdefault(node.kind if node.drawn is None else node.role, []).append(node.name)
            continue
        own = _own(placed, lost)
        places = np.array([placed.world])
        if isinstance(node.content, Scatter):
            places = placed.world @ node.content.transforms
        if sheared(places).any():
            lost.setdefault("shear", []).append(node.name)
        found.setdefault(node.name, []).append((places, own))
    things = []
    for name, parts in found.items():
        keys = [key for key in parts[0][1] if all(_alike(one.get(key), parts[0][1][key]) for _, one in parts)]
        if any(one.keys() - set(keys) for _, one in parts):
            lost.setdefault("numbers that not all of a name have", []).append(name)
        own = {key: np.concatenate([one[key] for _, one in parts]) for key in keys}
        things.append(Things(name, np.concatenate([places for places, _ in parts]), own))
    notes = [
        Note(
            "lost", f"a table of places holds what is seen near by only; left out {what}: {shortened(names)}", "places"
        )
        for what, names in lost.items()
    ]
    made = scene_of(things, scene.frame, scene.name)
    return Scene(made.roots, scene.frame, scene.name, scene.notes, scene.source, scene.read_files, scene.renamed), notes


def _own(placed: Placed, lost: dict[str, list[str]]) -> dict[str, NDArray[Any]]:
    """Numbers that what a node shows has of its own."""
    if isinstance(placed.node.content, Scatter):
        return dict(placed.node.content.properties)
    found = {}
    for key, value in placed.node.properties.items():
        numbers = value if isinstance(value, list | tuple) else [value]
        if 1 <= len(numbers) <= 4 and all(type(one) in (int, float) for one in numbers):
            found[key] = np.array([value])
        else:
            lost.setdefault("properties that are no numbers", []).append(placed.node.name)
    return found


def _alike(one: NDArray[Any] | None, other: NDArray[Any]) -> bool:
    return one is not None and one.shape[1:] == other.shape[1:]


def scene_of(things: list[Things], frame: Frame, name: str) -> Scene:
    """A scene with a box, or a scatter of boxes, for each name."""
    roots = []
    for one in things:
        box = _box(one.name, frame)
        if len(one.places) == 1:
            own = {key: values[0].tolist() for key, values in one.own.items()}
            roots.append(Node(one.name, one.places[0], content=box, role="stand-in", properties=own))
        else:
            roots.append(Node(one.name, content=Scatter(box, one.places, one.own), role="stand-in"))
    return Scene(tuple(roots), frame, name)


def _box(name: str, frame: Frame) -> Mesh:
    """A cube of a metre, or of a unit where that is not known, about its pivot."""
    half = 0.5 * _SIZE / (frame.unit or 1.0)
    return box_mesh(name, np.full(3, -half), np.full(3, half), right_handed=frame.right_handed)
