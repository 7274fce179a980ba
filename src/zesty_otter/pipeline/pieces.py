"""A scene taken apart into the pieces that become files."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from zesty_otter.errors import UsageError
from zesty_otter.model import Node, Placed, Scene
from zesty_otter.steps.assets import CELL, assets_of, level_of, usual_templates
from zesty_otter.steps.words import chosen
from zesty_otter.targets import Target


@dataclass(frozen=True, eq=False)
class Piece:
    """What goes into one file.

    Parameters
    ----------
    name : str
    group : str
        The group it is or belongs to.
    scene : Scene
    places : bool
        Whether its nodes place other pieces, which they name.
    """

    name: str
    group: str
    scene: Scene
    places: bool = False


def split(scene: Scene, how: str, name: str, common: tuple[str, ...] = ()) -> list[Piece]:
    """Take a scene apart.

    Parameters
    ----------
    how : {"scene", "object", "group", "top-group", "cell", "pieces"}
        One piece; a piece for every asset; for every innermost group, with the assets in it; for every
        outermost group, with everything in it; for every cell that the step cells made. Assets in no group are
        pieces of their own. With pieces, each asset once about its own pivot, and a light scene that places them.
    name : str
        The name of the piece when there is only one.
    common : tuple of str
        Words that choose nodes which, with all below them, go into every piece and make none.

    Returns
    -------
    list of Piece
        In the order of the tree; everything stays in its place in the world.
    """
    if how == "scene":
        return [Piece(name, "", scene)]
    if how == "pieces":
        from zesty_otter.pipeline.level import in_pieces

        return [Piece(*one) for one in in_pieces(scene, name)]
    order = list(scene.walk())
    shared = _with_all_below(order, {one.number for one in order if common and chosen(common, one)})
    rest = [one for one in order if one.number not in shared]
    find = {"object": _objects, "group": _groups, "top-group": _top_groups, "cell": _cells}[how]
    pieces = []
    for piece_name, group, numbers in find(scene, rest, order):
        own = numbers - shared
        if any(order[number].node.content is not None for number in own):
            pieces.append(Piece(piece_name, group, taken(scene, own | shared)))
    return pieces


def taken(scene: Scene, numbers: set[int]) -> Scene:
    """The scene with only some nodes, by place in the walk, none of them moved.

    A node whose parent goes hangs from the nearest that stays, or becomes a root.
    """
    done: list[list[Node]] = []
    order = [placed.node for placed in scene.walk()]
    for n in range(len(order) - 1, -1, -1):
        node = order[n]
        below = [child for children in [done.pop() for _ in node.children] for child in children]
        if n in numbers:
            done.append([replace(node, children=tuple(below))])
        else:
            done.append(
                [
                    replace(child, transform=node.transform @ child.transform, visible=node.visible and child.visible)
                    for child in below
                ]
            )
    return replace(scene, roots=tuple(node for nodes in reversed(done) for node in nodes))


def levels_apart(piece: Piece, target: Target | None) -> list[Piece]:
    """The piece without its levels of detail, and a piece for each number, where the target wants them apart.

    They are called as its template says. Collision and all else stay in the first piece.
    """
    if target is None or target.levels.files == "together":
        return [piece]
    template = target.names.get("level", usual_templates()["level"][0])
    order = list(piece.scene.walk())
    numbers = {one.number: level_of(one.node) for one in order if one.node.role == "level"}
    pieces = []
    for level in sorted({level for level in numbers.values() if level > 0}):
        name = template.replace("{name}", piece.name).replace("{level}", str(level))
        scene = taken(piece.scene, {number for number, own in numbers.items() if own == level})
        pieces.append(Piece(name, piece.group, scene))
    if not pieces:
        return [piece]
    near = {one.number for one in order if numbers.get(one.number, 0) == 0}
    return [replace(piece, scene=taken(piece.scene, near)), *pieces]


def joined(piece: Piece, how: str) -> Piece:
    """The piece with its visible meshes as one."""
    from zesty_otter.steps import Join

    step = Join(name=piece.name, at="origin" if how == "scene" else "parent")
    return replace(piece, scene=step.apply(piece.scene))


def at_origin(piece: Piece, common: tuple[str, ...] = ()) -> Piece:
    """The piece moved so that its first node, other than the common ones, stands at the world's origin."""
    order = list(piece.scene.walk())
    shared = _with_all_below(order, {one.number for one in order if common and chosen(common, one)})
    own = [one for one in order if one.number not in shared]
    first = next((one for one in own if one.parent < 0), None)
    if first is not None and not first.world[:3, 3].any():
        # A group at the origin that holds an asset elsewhere.
        first = next((one for one in own if one.node.drawn is not None), None)
    if first is None or not first.world[:3, 3].any():
        return piece

    def moved(node: Node) -> Node:
        transform = node.transform.copy()
        transform[:3, 3] = transform[:3, 3] - first.world[:3, 3] + 0.0
        return replace(node, transform=transform)

    return replace(piece, scene=replace(piece.scene, roots=tuple(moved(node) for node in piece.scene.roots)))


def _objects(scene: Scene, rest: list[Placed], order: list[Placed]) -> Iterator[tuple[str, str, set[int]]]:
    owned = _assets(scene, {one.number for one in rest}, order)
    for first, numbers in owned.items():
        yield order[first].node.name, _group_name(order[first], order), numbers


def _groups(scene: Scene, rest: list[Placed], order: list[Placed]) -> Iterator[tuple[str, str, set[int]]]:
    found: dict[tuple[str, int], set[int]] = {}
    for first, numbers in _assets(scene, {one.number for one in rest}, order).items():
        placed = order[first]
        if placed.node.groups:
            key = placed.node.groups[0], -1
        elif placed.parent >= 0:
            key = order[placed.parent].node.name, placed.parent
        else:
            key = placed.node.name, first
        found.setdefault(key, set()).update(numbers | ({key[1]} if key[1] >= 0 else set()))
    for (name, _), numbers in found.items():
        yield name, name, numbers


def _top_groups(_: Scene, rest: list[Placed], order: list[Placed]) -> Iterator[tuple[str, str, set[int]]]:
    found: dict[tuple[str, int], set[int]] = {}
    for one in rest:
        top = one
        while top.parent >= 0:
            top = order[top.parent]
        key = (top.node.groups[0], -1) if top.node.groups else (top.node.name, top.number)
        found.setdefault(key, set()).add(one.number)
    for (name, _number), numbers in found.items():
        yield name, name, numbers


def _cells(_: Scene, rest: list[Placed], order: list[Placed]) -> Iterator[tuple[str, str, set[int]]]:
    found: dict[str, set[int]] = {}
    inside: dict[int, str] = {}
    for one in order:
        cell = inside.get(one.parent)
        if cell is None and isinstance(one.node.properties.get(CELL), str):
            cell = one.node.name
        if cell is not None:
            inside[one.number] = cell
    if not inside:
        raise UsageError(
            "split = 'cell' needs cells, and the scene has none.", remedy="Add a step such as 'cells size=20m'."
        )
    for one in rest:
        found.setdefault(inside.get(one.number, "rest"), set()).add(one.number)
    for name, numbers in found.items():
        yield name, name, numbers


def _assets(scene: Scene, rest: set[int], order: list[Placed]) -> dict[int, set[int]]:
    """The nodes of each asset by its first node: the visible mesh, what belongs to it, and what hangs below."""
    owned: dict[int, set[int]] = {}
    for asset in assets_of(scene):
        nodes = [one for one in (*asset.main, *asset.rest) if one.number in rest]
        if nodes:
            owned[nodes[0].number] = {one.number for one in nodes}
    owner = {number: first for first, numbers in owned.items() for number in numbers}
    for one in order:
        if one.number in rest and one.number not in owner and one.parent in owner and one.node.kind != "mesh":
            owner[one.number] = owner[one.parent]
            owned[owner[one.number]].add(one.number)
    return owned


def _group_name(placed: Placed, order: list[Placed]) -> str:
    if placed.node.groups:
        return placed.node.groups[0]
    return order[placed.parent].node.name if placed.parent >= 0 else ""


def _with_all_below(order: list[Placed], numbers: set[int]) -> set[int]:
    found = set(numbers)
    for one in order:
        if one.parent in found:
            found.add(one.number)
    return found


def has_mesh(scene: Scene) -> bool:
    """Whether there is a face to write."""
    return bool(np.any([mesh.face_count > 0 for mesh in scene.meshes]))
