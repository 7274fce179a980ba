"""STL, ASCII and binary, to a scene.

3D Systems (1989), Stereolithography interface specification. Whether a file is text is found from its
size, never from its first word; corners at the same position to the last bit share a point.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.bare import usable_rows
from zesty_otter.formats.files import load
from zesty_otter.formats.stl import _kernels as kernels
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.model import Frame, Layer, Mesh, Node, Note, Scene, compact, count_of

_HEAD = 84
_BLOCK = 2048  # facets whose corners are joined among themselves before all others
_FACET = np.dtype([("normal", "<f4", 3), ("points", "<f4", (3, 3)), ("color", "<u2")])


def read(path: Path, *, progress: Callable[[float], None] | None = None, folders: Sequence[Path] = ()) -> Scene:
    """Read an STL file: a node for each solid."""
    del progress, folders
    data = load(path)
    notes: list[Note] = []
    nodes = tuple(_text(path, data, notes) if _is_text(data) else _binary(path, data, notes))
    if not nodes:
        raise InputError("holds no triangle.", file=path, remedy="Export it again.")
    return Scene(nodes, Frame("right forward up"), path.stem, tuple(notes), path)


def _is_text(data: NDArray[np.uint8]) -> bool:
    head = bytes(data[:512])
    if len(data) >= _HEAD:
        count = int(data[80:_HEAD].view("<u4")[0])
        if _HEAD + count * _FACET.itemsize == len(data):
            return False
    if head.removeprefix(b"\xef\xbb\xbf").lstrip()[:5].lower() != b"solid":
        return False
    # Text has no zero bytes; a binary file that begins with the word almost always has.
    return (b"\0" not in head and b"facet" in bytes(data[:4096]).lower()) or len(data) < _HEAD


def _binary(path: Path, data: NDArray[np.uint8], notes: list[Note]) -> Iterator[Node]:
    if len(data) < _HEAD:
        raise InputError("is shorter than an STL header.", file=path, remedy="Export it again.")
    promised = int(data[80:_HEAD].view("<u4")[0])
    there = (len(data) - _HEAD) // _FACET.itemsize
    if promised != there:
        text = f"the header promises {count_of(promised, 'triangle')}; there are {there:,}"
        notes.append(Note("assumed", f"{text}, which are taken", "stl", str(path)))
    facets = np.frombuffer(data, _FACET, there, _HEAD)
    colors = _facet_colors(bytes(data[:80]), facets["color"])
    points, corner_point, bad = _joined(facets["points"].view("<u4"))
    if bad.any():
        notes.append(_unusable(int(bad.sum()), path))
        corner_point = corner_point[np.repeat(~bad, 3)]
        colors = None if colors is None else colors[~bad]
    start = np.arange(0, len(corner_point) + 1, 3, dtype=np.int32)
    if len(corner_point):
        yield _node(path.stem, points, start, corner_point, colors)


def _joined(corners: NDArray[np.uint32]) -> tuple[NDArray[np.float64], NDArray[np.int32], NDArray[np.bool_]]:
    """The distinct positions of facets (F, 3, 3), the one of each corner, and which facets have none."""
    facets = len(corners)
    corner_point, bad = np.empty(3 * facets, np.int32), np.zeros(facets, bool)
    block = 3 * _BLOCK
    near, hashes, number = np.empty((block, 3), np.uint32), np.empty(block, np.uint64), np.empty(block, np.int32)
    near_table = np.empty(1 << block.bit_length(), np.int32)
    # A closed surface has half as many points as triangles; tables grow where there are more.
    room = 1 << (facets // 2 + block).bit_length()
    points = np.empty((0, 3), np.uint32)
    facet = count = 0
    while facet < facets:
        points = np.concatenate([points[:count], np.empty((room - count, 3), np.uint32)])
        table = np.full(2 * room, -1, np.int32)
        facet, count = kernels.join_corners(
            corners, facet, points, count, table, corner_point, bad, near, hashes, near_table, number
        )
        room *= 2
    return points[:count].view(np.float32).astype(np.float64), corner_point, bad


def _facet_colors(head: bytes, bits: NDArray[np.uint16]) -> NDArray[np.float32] | None:
    """(F, 4) colours with alpha 0 where a triangle has none, in either of the two ways that are common.

    With a colour in the header, red is in the low bits and a set highest bit means that one; without, blue
    is in the low bits and the highest bit must be set.
    """
    if not bits.any():
        return None
    fives = np.stack([bits >> shift & 31 for shift in (0, 5, 10)], axis=1) / np.float32(31.0)
    default = re.search(rb"COLOR=(.{4})", head, re.DOTALL)
    colors = np.ones((len(bits), 4), np.float32)
    if default:
        colors[:, :3] = fives
        colors[bits >> 15 == 1] = np.frombuffer(default[1], np.uint8) / np.float32(255.0)
    else:
        colors[:, :3] = fives[:, ::-1]
        colors[:, 3] = bits >> 15
    return colors if colors[:, 3].any() else None


def _text(path: Path, data: NDArray[np.uint8], notes: list[Note]) -> Iterator[Node]:
    points: NDArray[Any] = np.empty((max(len(data) // 60, 64), 3))
    face_start: NDArray[Any] = np.zeros(max(len(data) // 180, 64), np.int64)
    solids: NDArray[Any] = np.zeros((16, 2), np.int64)
    state = np.zeros(6, np.int64)
    while kernels.scan(data, points, face_start, solids, state):
        if state[kernels.POINTS] >= len(points):
            points = _longer(points)
        if state[kernels.FACES] + 1 >= len(face_start):
            face_start = _longer(face_start)
        if state[kernels.SOLIDS] >= len(solids):
            solids = _longer(solids)
    for count, what in (
        (state[kernels.SHORT], "facets with fewer than three corners"),
        (state[kernels.BAD], "corners"),
    ):
        if count:
            notes.append(Note("lost", f"{int(count):,} {what} could not be read and are left out", "stl", str(path)))
    faces = int(state[kernels.FACES])
    face_start = face_start[: faces + 1]
    solids = solids[: state[kernels.SOLIDS]] if state[kernels.SOLIDS] else np.zeros((1, 2), np.int64)
    ends = np.append(solids[1:, 0], faces)
    for (first, at), last in zip(solids.tolist(), ends.tolist(), strict=True):
        if last > first:
            span = slice(face_start[first], face_start[last])
            start = face_start[first : last + 1] - face_start[first]
            yield from _text_node(path, _solid_name(data, at) or path.stem, points[span], start, notes)


def _longer(table: NDArray[Any]) -> NDArray[Any]:
    grown = np.zeros((2 * len(table), *table.shape[1:]), table.dtype)
    grown[: len(table)] = table
    return grown


def _solid_name(data: NDArray[np.uint8], at: int) -> str:
    line = re.split(rb"[\r\n]", bytes(data[at : at + 300]), maxsplit=1)[0]
    return line[5:].decode("utf-8", "replace").strip()


def _text_node(
    path: Path, name: str, points: NDArray[np.float64], start: NDArray[Any], notes: list[Note]
) -> Iterator[Node]:
    """The node of a solid, given the positions of its corners one face after the other."""
    finite = usable_rows(points)
    if not finite.all():
        bad = np.logical_or.reduceat(~finite, start[:-1])
        notes.append(_unusable(int(bad.sum()), path))
        size = np.diff(start)
        points = points[np.repeat(~bad, size)]
        start = np.concatenate([[0], np.cumsum(size[~bad])])
    if len(start) > 1:
        used, corner_point = compact(join_points(points))
        yield _node(name, points[used], start.astype(np.int32), corner_point, None)


def _unusable(count: int, path: Path) -> Note:
    text = f"{count_of(count, 'triangle')} with positions that are not finite numbers left out"
    return Note("lost", text, "stl", str(path))


def _node(
    name: str,
    points: NDArray[np.float64],
    start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    colors: NDArray[np.float32] | None,
) -> Node:
    layers: tuple[Layer, ...] = ()
    if colors is not None:
        face = np.repeat(np.arange(len(start) - 1), np.diff(start))
        index = np.where(colors[face, 3] > 0, face, -1)
        layers = (Layer.taking("color", colors, index.astype(np.int32)),)
    return Node(name, content=Mesh.trusted(name, points, start, corner_point, layers=layers))
