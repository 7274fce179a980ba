"""A corner of the boatyard as a small level: quay, bank, reeds and cobbles scattered, buoys, a shed; and its job."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike, NDArray

from zesty_otter.demo.shapes import Part, box, lathe, prism, sheet
from zesty_otter.formats.gltf.writer import encode
from zesty_otter.geometry.surface.placing import composed
from zesty_otter.model import Frame, Light, Material, Mesh, Node, Scatter, Scene, transformed

REEDS, COBBLES, BUOYS = 2_000, 300, 8

_STONE = Material("stone", base_color=(0.23, 0.22, 0.2, 1.0), roughness=0.9)
_COBBLE = Material("cobble", base_color=(0.3, 0.27, 0.24, 1.0), roughness=0.85)
_EARTH = Material("earth", base_color=(0.14, 0.12, 0.06, 1.0), roughness=1.0)
_WATER = Material("water", base_color=(0.02, 0.06, 0.07, 1.0), roughness=0.15)
_PLANKS = Material("planks", base_color=(0.17, 0.1, 0.05, 1.0), roughness=0.8)
_ROOF = Material("roof", base_color=(0.08, 0.09, 0.1, 1.0), roughness=0.7)
_REED = Material("reed", base_color=(0.12, 0.2, 0.04, 1.0), roughness=0.9, two_sided=True)
_FLOAT = Material("float_paint", base_color=(0.5, 0.05, 0.02, 1.0), roughness=0.5)
_LAMP = Material("lamp_glass", base_color=(0.8, 0.6, 0.2, 1.0), emissive=(1.0, 0.6, 0.15), roughness=0.3)

_SWAPS = """\
name,file,node,turn,scale,pivot
reed,library.glb,reed,,,
lantern_buoy_*,library.glb,lantern_buoy,0 180 0,,base
"""

_JOB = """\
title = "Otterweir, the corner by the weir as a level"
folder = "level"

# Cobbles were stored one by one, reeds and buoys are boxes until the table swaps them.
[[sources]]
files = "sources/level/yard.glb"
steps = [
    "gather least=20",
    "swap table=sources/level/swaps.csv only=reed,lantern_buoy*",
]

# Each thing once, and a light scene that places them.
[[outputs]]
name = "pieces"
target = "m-left-up-forward"
formats = ["glb", "usda"]
folder = "pieces"
split = "pieces"
drop = "kind:camera"

# Squares of 16 m, the bank and the water cut along their borders, with levels that meet there.
[[outputs]]
name = "cells"
target = "m-left-up-forward"
folder = "cells"
split = "cell"
drop = "kind:camera"
steps = ["cells size=16m by=cut", "levels chain='50 25' only=bank* keep_border=neighbours"]

# Only where things are, for a program that wants centimetres and Z up.
[[outputs]]
name = "places"
target = "cm-forward-right-up"
formats = "csv"
folder = "places"
"""


def write_level(folder: Path) -> Path:
    """Write the level and its library below ``folder``/sources/level, and its job; returns the job's file."""
    home = folder / "sources" / "level"
    home.mkdir(parents=True, exist_ok=True)
    for name, scene in (("yard.glb", yard()), ("library.glb", library())):
        (home / name).write_bytes(dict(encode(scene, name).joined())[name])
    (home / "swaps.csv").write_text(_SWAPS, "utf-8")
    path = folder / "level.toml"
    path.write_text(_JOB, "utf-8")
    return path


def yard() -> Scene:
    """The level: 40 x 46 m, as an export that flattened its cobbles leaves it; reeds and buoys are boxes."""
    dice = np.random.default_rng(1871)
    module = _mesh("quay_module", box(2.0, 2.0, 3.0).moved(0.0, -1.0, -1.5), _STONE)
    quay = tuple(Node(f"quay_{n:02}", _at(-9.0 + 2 * n, 0.4, 0.0), content=module) for n in range(10))
    x, z = np.meshgrid(np.linspace(-20, 20, 41), np.linspace(0, 26, 27), indexing="ij")
    bank = sheet(np.stack([x, ground(x, z), z], axis=2), 1)
    water = sheet(np.array([[(a, -0.5, b) for b in (-20.0, 4.0)] for a in (-20.0, 20.0)]), 1)
    nodes = [
        Node("quay", children=quay),
        Node("bank", content=_mesh("bank", bank, _EARTH)),
        Node("water", content=_mesh("water", water, _WATER)),
        _shed(),
        *_cobbles(dice),
        _reeds(dice),
        *_buoys(dice),
    ]
    return Scene(tuple(nodes), Frame("left up forward", "m"), "yard")


def library() -> Scene:
    """What the boxes of the level are swapped for."""
    blades = []
    for n, (angle, lean, height) in enumerate([(0.2, 0.10, 1.5), (1.5, 0.22, 1.2), (2.7, 0.14, 1.7), (4.1, 0.3, 1.0),
                                               (5.2, 0.18, 1.4)]):  # fmt: skip
        out = np.array([np.sin(angle), 0.0, np.cos(angle)])
        side = np.array([np.cos(angle), 0.0, -np.sin(angle)]) * 0.025
        middle = 0.05 * n / 5 * out
        rows = [[middle + s * w * side + t * height * np.array([0, 1.0, 0]) + lean * t * t * height * out
                 for s in (-1, 1)] for t, w in ((0.0, 1.0), (0.4, 0.9), (0.75, 0.6), (1.0, 0.1))]  # fmt: skip
        blades.append(sheet(np.array(rows), 1))
    reed = _mesh("reed", _together(blades), _REED)
    body = [
        (lathe([(0.1, -0.35), (0.42, -0.1), (0.42, 0.15), (0.12, 0.35)], 20, [1, 1, 1]), _FLOAT),
        (lathe([(0.05, 0.35), (0.05, 1.3)], 12, [1]), _ROOF),
        (lathe([(0.12, 1.3), (0.14, 1.4), (0.14, 1.62), (0.1, 1.7)], 12, [0, 1, 0]), _LAMP),
        (lathe([(0.2, 1.7), (0.02, 1.86)], 12, [1]), _ROOF),
    ]
    buoy = _mesh("lantern_buoy", *(value for pair in body for value in pair))
    nodes = [Node("reed", content=reed), Node("lantern_buoy", _at(3.0, 0.0, 0.0), content=buoy)]
    return Scene(tuple(nodes), Frame("left up forward", "m"), "library")


def ground(x: ArrayLike, z: ArrayLike) -> NDArray[np.float64]:
    """How high the bank is, in metres."""
    x, z = np.asarray(x), np.asarray(z)
    rise = np.clip(z / 10, 0, 1.4)
    return np.asarray(rise * rise * (1.2 - 0.35 * rise) - 0.9 + 0.12 * np.sin(0.9 * x + 0.4 * z) * np.sin(0.7 * z))


def _shed() -> Node:
    """A shed of 5 x 3.4 x 4 m with a door that hangs from it."""
    walls = box(5.0, 2.4, 4.0).moved(0.0, 1.2, 0.0)
    roof = prism([(-2.8, 2.4), (2.8, 2.4), (0.0, 3.6)], 4.4)
    door = _mesh("shed_door", box(0.9, 1.9, 0.08).moved(0.45, 0.95, 0.0), _ROOF)
    hinge = Node("shed_door", _at(-0.45, 0.0, -2.02), content=door)
    shed = _mesh("shed", walls, _PLANKS, roof, _ROOF)
    return Node("shed", _at(9.0, float(ground(9.0, 18.0)) - 0.1, 18.0), (hinge,), shed)


def _cobbles(dice: np.random.Generator) -> list[Node]:
    """Stones along the water, of three kinds, each stored as a mesh of its own; some are mirror images."""
    kinds = []
    for k in range(3):
        stone = lathe([(0.1, -0.12), (0.24, -0.03), (0.22, 0.1), (0.08, 0.16)], 9, [1, 1, 1])
        lumps = 1 + 0.18 * np.sin(np.arange(len(stone.points)) * (2.1 + k) + k)
        kinds.append(_mesh("cobble", Part(stone.points * lumps[:, None] * (1.2, 1.0, 0.8 + 0.15 * k), stone.faces,
                                          stone.uvs, smoothing=stone.smoothing), _COBBLE))  # fmt: skip
    nodes = []
    for n in range(COBBLES):
        x, z = dice.uniform(-19, 19), dice.uniform(4.0, 8.5)
        turn = dice.uniform(0, 2 * np.pi)
        size = dice.uniform(0.5, 1.6)
        linear = size * np.array([[np.cos(turn), 0, np.sin(turn)], [0, 1.0, 0], [-np.sin(turn), 0, np.cos(turn)]])
        if dice.random() < 0.3:
            linear = linear @ np.diag([-1.0, 1.0, 1.0])
        place = np.array([x, float(ground(x, z)) + 0.02, z])
        mesh = transformed(kinds[n % 3], linear, place)
        nodes.append(Node(f"cobble.{n:03}", content=mesh.replace(name=f"cobble.{n:03}")))
    return nodes


def _reeds(dice: np.random.Generator) -> Node:
    """Reeds in clumps along the water: boxes, with a seed and a tint for each."""
    clumps = np.stack([dice.uniform(-19, 19, 40), dice.uniform(5.5, 9.5, 40)], axis=1)
    at = clumps[dice.integers(0, 40, REEDS)] + dice.normal(0, 0.7, (REEDS, 2))
    at = np.clip(at, (-19.8, 3.0), (19.8, 14.0))
    turn = dice.uniform(0, np.pi, REEDS)
    quaternions = np.zeros((REEDS, 4))
    quaternions[:, 1], quaternions[:, 3] = np.sin(turn), np.cos(turn)
    size = np.repeat(dice.uniform(0.6, 1.3, (REEDS, 1)), 3, axis=1)
    places = np.stack([at[:, 0], ground(at[:, 0], at[:, 1]) - 0.05, at[:, 1]], axis=1)
    stand_in = _mesh("reed", box(0.3, 1.6, 0.3).moved(0.0, 0.8, 0.0), _REED)
    own = {"seed": np.arange(REEDS), "tint": np.round(dice.uniform(0.8, 1.1, (REEDS, 3)), 2)}
    return Node("reed", content=Scatter(stand_in, composed(REEDS, places, quaternions, size), own))


def _buoys(dice: np.random.Generator) -> list[Node]:
    """Boxes where lantern buoys float, each with its light."""
    stand_in = _mesh("buoy", box(0.8, 2.2, 0.8).moved(0.0, 0.6, 0.0), _FLOAT)
    light = Light("lantern", "point", (1.0, 0.72, 0.4), 60.0)
    nodes = []
    for n in range(BUOYS):
        x, z = -16 + 32 * n / (BUOYS - 1), -6 - 10 * dice.random()
        lamp = Node(f"lantern_lamp_{n + 1}", _at(0.0, 1.5, 0.0), content=light)
        nodes.append(Node(f"lantern_buoy_{n + 1}", _at(float(x), -0.4, float(z)), (lamp,), stand_in))
    return nodes


def _at(x: float, y: float, z: float) -> NDArray[np.float64]:
    matrix = np.eye(4)
    matrix[:3, 3] = x, y, z
    return matrix


def _together(parts: Sequence[Part]) -> Part:
    """Several parts as one."""
    firsts = np.cumsum([0, *(len(one.points) for one in parts)]).tolist()
    faces = [[int(k) + first for k in face] for one, first in zip(parts, firsts, strict=False) for face in one.faces]
    smoothing = [group for one in parts for group in one.smoothing]
    uvs = [uv for one in parts for uv in one.uvs]
    return Part(np.concatenate([one.points for one in parts]), faces, uvs, smoothing=smoothing)


def _mesh(name: str, *parts: Part | Material) -> Mesh:
    """A mesh of parts, each followed by its material."""
    shapes = [one for one in parts if isinstance(one, Part)]
    materials = [one for one in parts if isinstance(one, Material)]
    slots = tuple(dict.fromkeys(materials))
    whole = _together(shapes)
    slot = np.repeat([slots.index(one) for one in materials], [len(one.faces) for one in shapes])
    mesh = Mesh.from_faces(name, whole.points, whole.faces)
    return mesh.replace(slots=slots, face_slot=slot, face_smoothing=np.array(whole.smoothing))
