"""Scenes that place other files: the pieces of a level."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import replace
from pathlib import Path, PurePosixPath

import numpy as np

from zesty_otter.formats.files import find_beside
from zesty_otter.model import (
    Material,
    Mesh,
    Node,
    Note,
    Scatter,
    Scene,
    count_of,
    reframed,
    shortened,
    with_nodes_behind,
)

_DEEPEST = 8

_above: ContextVar[tuple[Path, ...]] = ContextVar("above", default=())


@contextmanager
def _inside(path: Path) -> Iterator[None]:
    token = _above.set((*_above.get(), path.resolve()))
    try:
        yield
    finally:
        _above.reset(token)


def with_pieces(scene: Scene, path: Path, folders: Sequence[Path], read: Callable[[Path], Scene]) -> Scene:
    """The scene with what its nodes place of other files.

    A node whose property ``piece`` names a file shows what is in there: it becomes the node of the piece that is
    called like the file, if that stands at the piece's origin, and the others of the piece stand beside it. A scatter
    of a stand-in becomes one of the piece's mesh.

    Parameters
    ----------
    scene : Scene
    path : Path
        The file it was read from; pieces are looked for from its folder.
    folders : sequence of Path
        Further folders to look in.
    read : callable
        Reads a piece.

    Returns
    -------
    Scene
        Nodes whose piece is missing stay as they are, and notes say so.
    """
    order = [placed.node for placed in scene.walk()]
    if not any(node.piece for node in order):
        return scene
    read_files: dict[Path, None] = {}
    notes: dict[str, Note] = {}
    pieces: dict[str, tuple[str, Scene] | None] = {}

    def lost(text: str) -> None:
        notes.setdefault(text, Note("lost", text, "pieces", str(path)))

    def piece_of(name: str) -> tuple[str, Scene] | None:
        found = find_beside(path, name, also_in=folders)
        if found.path is None:
            where = shortened(map(str, found.looked_in))
            lost(found.remark or f"piece '{name}' was not found (looked in {where})")
            return None
        if found.path.resolve() in (*_above.get(), path.resolve()) or len(_above.get()) >= _DEEPEST:
            lost(f"piece '{name}' places itself or is nested too deeply; it is left out there")
            return None
        with _inside(path):
            piece = read(found.path)
        read_files.update(dict.fromkeys([found.path, *piece.read_files]))
        for note in piece.notes:
            if note.kind == "lost":
                notes.setdefault(str(note), note)
        if piece.frame.unit is not None and scene.frame.unit is not None:
            piece = reframed(piece, scene.frame)
        return PurePosixPath(name.replace("\\", "/")).stem, piece

    changed: dict[int, Node] = {}
    behind: dict[int, list[Node]] = {}
    inside: dict[int, tuple[Node, ...]] = {}
    for number, node in enumerate(order):
        if node.piece is None:
            continue
        if node.piece not in pieces:
            pieces[node.piece] = piece_of(node.piece)
        piece = pieces[node.piece]
        if piece is not None:
            changed[number], behind[number], inside[number] = _shown(node, *piece)
    made = _with_shared_materials(with_nodes_behind(scene, behind, changed, inside))
    there = sum(piece is not None for piece in pieces.values())
    if there:
        text = f"{count_of(there, 'piece')} placed at {count_of(len(changed), 'node')}"
        notes.setdefault(text, Note("done", text, "pieces", str(path)))
    return replace(made, read_files=(*made.read_files, *read_files)).with_notes(*notes.values())


def _with_shared_materials(scene: Scene) -> Scene:
    """The scene with materials that several pieces have made one."""
    known: dict[str, list[Material]] = {}

    def first(material: Material) -> Material:
        alike = known.setdefault(material.name, [])
        found = next((one for one in alike if one == material), material)
        if found is material:
            alike.append(material)
        return found

    return scene.map_materials(first)


def _shown(node: Node, stem: str, piece: Scene) -> tuple[Node, list[Node], tuple[Node, ...]]:
    """A node with what its piece holds, what stands beside it, and what hangs below it."""
    properties = {key: value for key, value in node.properties.items() if key != "piece"}
    main = next((one for one in piece.roots if one.name == stem), None)
    if main is None:  # file names cannot have every letter
        shown = [one for one in piece.roots if one.is_shown]
        main = shown[0] if len(shown) == 1 else None
    alone = main is not None and main.mesh is not None and np.array_equal(main.transform, np.eye(4))
    scatter = node.content if isinstance(node.content, Scatter) else None
    if main is None or not alone:
        return replace(node, content=None, properties=properties), [], piece.roots
    assert main.mesh is not None
    content = main.mesh if scatter is None else replace(scatter, mesh=main.mesh)
    beside = []
    for one in piece.roots:
        if one is main:
            continue
        asset = main.name
        name = node.name + (one.name.removeprefix(asset) if one.name.startswith(asset) else f"_{one.name}")
        more = {**one.properties, "asset": node.name} if one.role != "visible" else dict(one.properties)
        if scatter is not None and isinstance(one.content, Mesh):
            places = scatter.transforms @ one.transform
            new = replace(one, content=Scatter(one.content, places), transform=node.transform)
        else:
            new = replace(one, transform=node.transform @ one.transform)
        beside.append(replace(new, name=name, properties=more, groups=node.groups))
    whole = replace(node, content=content, role=main.role, properties={**main.properties, **properties})
    return whole, beside, main.children
