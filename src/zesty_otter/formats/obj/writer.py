"""A scene to OBJ with an MTL library and textures beside it.

B.1 of "The Advanced Visualizer, appendix B1: object files" names the statements. Every node that shows a
mesh becomes an object with its place baked into its points; polygons, shared normals and UVs, smoothing
groups and groups are kept; numbers stand in the shortest form that reads back as the same 32-bit number.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import frame_comment, nothing_to_write
from zesty_otter.formats.files import Buffer, Encoded
from zesty_otter.formats.obj import _kernels as kernels
from zesty_otter.formats.obj.library import Library
from zesty_otter.formats.text import number_lines
from zesty_otter.model import Mesh, Note, Placed, Scene, count_of, shortened, transformed
from zesty_otter.polygons import hard_to_fan

_MOST_SETS = 62  # as many bits as fit beside the sign

_BUFFER = 1 << 22


def encode(scene: Scene, name: str) -> Encoded:
    """The files of a scene: ``name``, its .mtl and its textures when there are materials."""
    if not any(mesh.face_count for mesh in scene.meshes):
        raise nothing_to_write(scene)
    stem = name.rsplit(".", 1)[0]
    notes = list(_losses(scene))
    library = Library(scene, stem)
    files: dict[str, list[Buffer]] = dict(library.files)
    notes += library.notes
    head = f"# {frame_comment(scene.frame)}\n"
    if library.files:
        head += f"mtllib {stem}.mtl\n"
    return Encoded({**files, name: _Lines(scene, head, library)}, notes)


def _losses(scene: Scene) -> Iterator[Note]:
    """What OBJ has no place for."""
    placed = list(scene.walk())
    extras = [one.node.name for one in placed if one.node.kind in ("light", "camera")]
    if extras:
        text = f"OBJ has no lights and cameras; left out: {shortened(extras)}"
        yield Note("lost", text, "obj")
    if any(one.parent >= 0 or not np.array_equal(one.world, np.eye(4)) for one in placed):
        yield Note("lost", "OBJ has no tree and no pivots: places of nodes are in the points now", "obj")
    shown = [mesh for _, mesh in scene.placed_meshes()]
    if len({id(mesh) for mesh in shown}) < len(shown):
        yield Note("lost", "OBJ has no instances: each is written as points of its own", "obj")
    colored = [mesh.name for mesh in scene.meshes if any(_split_color(mesh))]
    if colored:
        text = "OBJ has a colour for each point, so colours that change within one are mixed, and alpha is left out"
        yield Note("lost", f"{text}: {shortened(colored)}", "obj")
    hard = sum(int(hard_to_fan(mesh).sum()) for mesh in scene.meshes)
    if hard:
        text = f"{count_of(hard, 'face')} of more than four corners or concave, which some readers of OBJ split wrongly"
        yield Note("finding", f"{text}; --triangulate shortest-diagonal leaves them nothing to split", "obj")
    with_properties = [one.node.name for one in placed if one.node.properties and one.node.role == "visible"]
    if with_properties:
        yield Note("lost", f"OBJ has no properties; left out of {shortened(with_properties)}", "obj")


def _split_color(mesh: Mesh) -> Iterator[bool]:
    for layer in mesh.layers_of("color")[:1]:
        yield layer.values.shape[1] == 4 and bool((layer.values[:, 3] < 1).any())
        values = layer.at_corners(1.0)[:, :3]
        first = np.zeros((mesh.point_count, 3), np.float32)
        first[mesh.corner_point] = values
        yield bool((first[mesh.corner_point] != values).any())


@dataclass(frozen=True)
class _Lines:
    """The text of the file, made piece by piece each time it is gone through."""

    scene: Scene
    head: str
    library: Library

    def __iter__(self) -> Iterator[Buffer]:
        yield self.head.encode()
        base = np.ones(3, np.int64)
        shared: dict[tuple[int, str], int] = {}
        # Groups and smoothing hold until the next statement, whichever object they stood in.
        said: set[str] = set()
        for placed, mesh in self.scene.placed_meshes():
            yield f"o {_one_line(placed.node.name)}\n".encode()
            yield from self._object(placed, mesh, base, shared, said)

    def _object(
        self, placed: Placed, mesh: Mesh, base: NDArray[np.int64], shared: dict[tuple[int, str], int], said: set[str]
    ) -> Iterator[Buffer]:
        own_layers = {id(layer.values) for layer in mesh.layers}
        if not np.array_equal(placed.world, np.eye(4)):
            mesh = transformed(mesh, placed.world[:3, :3], placed.world[:3, 3])
        yield from number_lines("v", _points_and_colors(mesh))
        columns = np.full((3, mesh.corner_count), -1, np.int32)
        columns[0] = mesh.corner_point
        counts = [mesh.point_count, 0, 0]
        own = base.copy()
        for k, kind, word in ((1, "uv", "vt"), (2, "normal", "vn")):
            layer = next(iter(mesh.layers_of(kind)), None)
            if layer is None:
                continue
            columns[k] = layer.index
            # Instances share the tables that their places do not change. What was made for this place alone is gone
            # soon, and its number may come again.
            key = id(layer.values), kind
            if key in shared:
                own[k] = shared[key]
                continue
            if id(layer.values) in own_layers:
                shared[key] = int(base[k])
            if kind == "uv" and layer.name:
                yield f"# UV set: {_one_line(layer.name)}\n".encode()
            yield from number_lines(word, layer.values)
            counts[k] = len(layer.values)
        table = _Statements()
        statement = np.empty((mesh.face_count, 3), np.int32)
        statement[:, 0] = _groups(placed, mesh, table, said)
        materials = [table.add(self.library.use(slot)) for slot in mesh.slots]
        statement[:, 1] = np.array(materials, np.int32)[mesh.slot_of_face]
        statement[:, 2] = _smoothing(mesh, table, said)
        yield from _face_lines(mesh, columns, own, statement, table)
        base += counts


def _face_lines(
    mesh: Mesh,
    columns: NDArray[np.int32],
    base: NDArray[np.int64],
    statement: NDArray[np.int32],
    table: _Statements,
) -> Iterator[Buffer]:
    text, text_start = table.bytes()
    longest = int(mesh.face_size.max(initial=0)) * 34 + len(text) + 3
    out = np.empty(max(_BUFFER, longest), np.uint8)
    current = np.full(3, -1, np.int32)
    start, columns = np.ascontiguousarray(mesh.face_start, np.int32), np.ascontiguousarray(columns, np.int32)
    face = 0
    while face < mesh.face_count:
        face, size = kernels.put_faces(start, columns, base, statement, current, text, text_start, face, out)
        yield out[:size].copy()


def _groups(placed: Placed, mesh: Mesh, table: _Statements, said: set[str]) -> int | NDArray[np.int32]:
    """The statement that names the groups of each face: those of the node, or those that hold some of its faces."""
    if placed.node.groups:
        said.add("g")
        return table.add(f"g {' '.join(map(_one_word, placed.node.groups))}\n")
    names = list(mesh.face_sets)[:_MOST_SETS]
    if not names:
        return table.add("g default\n" if "g" in said else "")
    said.add("g")
    member = np.zeros(mesh.face_count, np.int64)
    for bit, name in enumerate(names):
        member[mesh.face_sets[name]] |= 1 << bit
    sets, number = np.unique(member, return_inverse=True)
    inside = [[_one_word(name) for bit, name in enumerate(names) if one >> bit & 1] for one in sets.tolist()]
    return np.array([table.add(f"g {' '.join(words) or 'default'}\n") for words in inside], np.int32)[number]


def _smoothing(mesh: Mesh, table: _Statements, said: set[str]) -> int | NDArray[np.int32]:
    """The smoothing statement of each face."""
    if mesh.face_smoothing is None:
        return table.add("s off\n" if "s" in said else "")
    said.add("s")
    groups, number = np.unique(mesh.face_smoothing, return_inverse=True)
    words = [table.add(f"s {group}\n" if group > 0 else "s off\n") for group in groups.tolist()]
    return np.array(words, np.int32)[number]


class _Statements:
    """Statements that stand between faces, each once."""

    def __init__(self) -> None:
        self.numbers: dict[str, int] = {}

    def add(self, text: str) -> int:
        return self.numbers.setdefault(text, len(self.numbers))

    def bytes(self) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
        encoded = [text.encode() for text in self.numbers]
        start = np.concatenate([[0], np.cumsum([len(one) for one in encoded])]).astype(np.int64)
        return np.frombuffer(b"".join(encoded) or b"\0", np.uint8), start


def _points_and_colors(mesh: Mesh) -> NDArray[np.float32]:
    """(P, 3) positions, or (P, 6) with the colour of each point behind them."""
    points = mesh.points.astype(np.float32)
    layer = next(iter(mesh.layers_of("color")), None)
    if layer is None:
        return points
    colors = np.ones((mesh.point_count, 3), np.float32)
    total = np.zeros((mesh.point_count, 3))
    count = np.bincount(mesh.corner_point, minlength=mesh.point_count)
    values = layer.at_corners(1.0)[:, :3]
    for k in range(3):
        total[:, k] = np.bincount(mesh.corner_point, values[:, k], mesh.point_count)
    used = count > 0
    colors[used] = (total[used] / count[used, None]).astype(np.float32)
    return np.concatenate([points, colors], axis=1)


def _one_line(name: str) -> str:
    return re.sub(r"[\r\n]+", " ", name).strip() or "unnamed"


def _one_word(name: str) -> str:
    return re.sub(r"\s+", "_", name.strip()) or "default"
