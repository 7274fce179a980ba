"""A level in pieces: each asset once as a file of its own, and a light scene that places them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Node, Placed, Scatter, Scene, determinant
from zesty_otter.polygons import box_mesh
from zesty_otter.steps.assets import assets_of

ENDING = "_scene"
"""What is behind the name of the scene that places the pieces."""


def in_pieces(scene: Scene, name: str) -> Iterator[tuple[str, str, Scene, bool]]:
    """Each asset of a scene about its own pivot, those that are alike once; and first the scene that places them.

    Parameters
    ----------
    scene : Scene
    name : str
        What the placing scene is called, with `ENDING`.

    Yields
    ------
    name : str
    group : str
    scene : Scene
    places : bool
        Whether it is the scene that places the others: its nodes have the property ``piece`` with their names.
    """
    taken = {_plain(name + ENDING)}
    known: dict[Any, str] = {}
    made: list[tuple[str, str, Scene, bool]] = []
    light: dict[int, Node] = {}
    gone: set[int] = set()
    shown = Counter(id(one.node.drawn) for one in scene.walk())
    for asset in assets_of(scene):
        if len(asset.main) != 1 or asset.main[0].node.drawn is None or not asset.main[0].node.drawn.face_count:
            continue
        main = asset.main[0]
        if not abs(determinant(main.world[:3, :3])) > 0:
            continue  # what is flat in one direction has no space of its own
        rest = [one for one in asset.rest if _goes_along(one, main)]
        undone = np.asarray(np.linalg.inv(main.world), np.float64)
        relative = [undone @ one.world for one in rest]
        key = _key(main, rest, relative)
        if key not in known:
            known[key] = _free(_called(main, shown), taken)
            piece = replace(scene, roots=_roots(known[key], main, rest, relative), name=known[key])
            made.append((known[key], main.node.groups[0] if main.node.groups else "", piece, False))
        light[main.number] = _light(main.node, known[key], right_handed=scene.frame.right_handed)
        gone |= {one.number for one in rest}

    def make(n: int, node: Node) -> Node | None:
        if n in gone:
            return None if not node.children else replace(node, content=None, role="visible", properties={})
        return replace(light[n], children=node.children) if n in light else node

    yield name + ENDING, "", replace(scene.rebuilt(make), name=name + ENDING), True
    yield from made


def _goes_along(one: Placed, main: Placed) -> bool:
    """Whether a node that belongs to an asset is in its file."""
    if isinstance(main.node.content, Scatter):
        own = one.node.content
        return isinstance(own, Scatter) and np.array_equal(own.transforms, main.node.content.transforms)
    return not isinstance(one.node.content, Scatter)


def _key(main: Placed, rest: list[Placed], relative: list[NDArray[np.float64]]) -> Any:
    """What assets have in common that are one piece."""
    size = [id(main.node.drawn), main.node.role]
    own = [
        (one.node.role, id(one.node.drawn) if one.node.drawn is not None else repr(one.node.content),
         repr(sorted((k, v) for k, v in one.node.properties.items() if k != "asset")),
         one.node.name.removeprefix(main.node.name), (matrix.round(6) + 0.0).tobytes())
        for one, matrix in zip(rest, relative, strict=True)
    ]  # fmt: skip
    return (*size, *own)


def _called(main: Placed, shown: Mapping[int, int]) -> str:
    """The name of a piece: of its mesh where several nodes show it, else of its node."""
    mesh = main.node.drawn
    assert mesh is not None
    return mesh.name if shown[id(mesh)] > 1 else main.node.name


def _free(name: str, taken: set[str]) -> str:
    """A name whose file is none of those that are taken, whatever letters file names may have."""
    found, count = name, 2
    while _plain(found) in taken:
        found, count = f"{name}_{count}", count + 1
    taken.add(_plain(found))
    return found


def _plain(name: str) -> str:
    return re.sub(r"\W+", "_", name.lower()).strip("_")


def _roots(name: str, main: Placed, rest: list[Placed], relative: list[NDArray[np.float64]]) -> tuple[Node, ...]:
    """The nodes of a piece, its visible mesh first and at the origin."""
    own = Node(name, content=main.node.drawn, role=main.node.role)
    beside = []
    for one, matrix in zip(rest, relative, strict=True):
        node = one.node
        ending = node.name.removeprefix(main.node.name) if node.name.startswith(main.node.name) else f"_{node.name}"
        properties = {**node.properties, "asset": name} if node.role != "visible" else node.properties
        content = node.drawn if node.drawn is not None else node.content
        # Levels of a copy stand where the copy does.
        place = np.eye(4) if isinstance(node.content, Scatter) else matrix
        beside.append(Node(name + ending, place, (), content, role=node.role, properties=properties))
    return (own, *beside)


def _light(node: Node, piece: str, *, right_handed: bool) -> Node:
    """A node that names its piece in place of its mesh."""
    content = None
    if isinstance(node.content, Scatter):
        mesh = node.content.mesh
        box = box_mesh(mesh.name, *mesh.surface_bounds, right_handed=right_handed)
        content = replace(node.content, mesh=box)
    return replace(node, content=content, role="visible", properties={**node.properties, "piece": piece})


def linked(scene: Scene, paths: dict[str, str]) -> Scene:
    """The scene that places pieces, with their paths in place of their names."""

    def make(node: Node) -> Node:
        if node.piece not in paths:
            return node
        return replace(node, properties={**node.properties, "piece": paths[node.piece]})

    return scene.map_nodes(make)
