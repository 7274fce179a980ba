"""COLLADA geometry to meshes (specification 1.4.1, chapter 5, "mesh" and the primitives)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import points_into, usable_rows
from zesty_otter.formats.strips import triangles_of_strips
from zesty_otter.formats.xml import Element, child, children, floats, ints, name_of, words_of
from zesty_otter.geometry.surface.triangulation import bridge_holes
from zesty_otter.model import Layer, Mesh, all_finite, compact, count_of

Note = Callable[[str, str], None]
Find = Callable[[str | None], Element | None]

_KINDS = {"NORMAL": "normal", "TEXCOORD": "uv", "COLOR": "color"}
_PRIMITIVES = ("triangles", "polylist", "polygons", "tristrips", "trifans")


@dataclass
class Shape:
    """A geometry as its file has it: one mesh whose slots are symbols that a node binds to materials.

    ``uv_sets`` are the set numbers of its UV layers, in order; ``used`` (N,) the numbers of its points in the file.
    """

    mesh: Mesh
    symbols: tuple[str, ...]
    uv_sets: tuple[int, ...]
    used: NDArray[np.int64]


@dataclass
class _Column:
    """One layer while primitives are read: the tables of its sources, and the rows of every primitive's corners."""

    tables: dict[str, tuple[int, NDArray[np.float32]]] = field(default_factory=dict)
    rows: list[tuple[int, NDArray[np.int64]]] = field(default_factory=list)
    length: int = 0
    name: str = ""


def read_shape(geometry: Element, find: Find, note: Note) -> Shape | None:
    """The shape of a geometry; None, with a note, when it holds no polygons."""
    name = geometry.get("name") or geometry.get("id") or "mesh"
    body = child(geometry, "mesh")
    if body is None:
        body = child(geometry, "convex_mesh")
    if body is None:
        note("lost", f"geometry '{name}' is not a polygon mesh; it is left out")
        return None
    return _Reading(name, body, within(geometry, find), note).shape()


def positions_of(geometry: Element, find: Find) -> NDArray[np.float64] | None:
    """(P, 3) the positions of a geometry, as its file numbers them."""
    body = child(geometry, "mesh")
    if body is None:
        return None
    reading = _Reading("", body, within(geometry, find), lambda kind, text: None)
    return reading.positions()


def within(element: Element, find: Find) -> Find:
    """Looks up references within an element first: ids that several elements share mean the one at hand."""
    own: dict[str, Element] = {}
    for one in element.iter():
        if one.get("id"):
            own.setdefault(one.get("id", ""), one)

    def looked_up(url: str | None) -> Element | None:
        found = own.get(url[1:]) if url and url.startswith("#") else None
        return found if found is not None else find(url)

    return looked_up


class _Reading:
    def __init__(self, name: str, body: Element, find: Find, note: Note) -> None:
        self.name, self.body, self.find, self.note = name, body, find, note
        self.sources: dict[str, NDArray[np.float64]] = {}
        self.columns: dict[tuple[str, int], _Column] = {}
        self.corners: list[NDArray[np.int64]] = []
        self.sizes: list[NDArray[np.int64]] = []
        self.symbols: dict[str, int] = {}
        self.slots: list[NDArray[np.int32]] = []
        self.corner_count = 0
        self.points = np.zeros((0, 3))

    def _shared(self) -> dict[str, str | None]:
        return {one.get("semantic", ""): one.get("source") for one in children(child(self.body, "vertices"), "input")}

    def positions(self) -> NDArray[np.float64] | None:
        points = self._source(self._shared().get("POSITION"))
        return None if points is None or points.shape[1] < 3 else points[:, :3]

    def shape(self) -> Shape | None:
        shared = self._shared()
        points = self.positions()
        if points is None:
            self.note("lost", f"geometry '{self.name}' has no positions; it is left out")
            return None
        self.points = points
        lost = 0
        for primitive in children(self.body):
            kind = name_of(primitive)
            if kind in _PRIMITIVES:
                self._primitive(primitive, kind, shared)
            elif kind in ("lines", "linestrips"):
                lost += 1
        if lost:
            self.note("lost", f"geometry '{self.name}': {count_of(lost, 'group')} of lines not carried")
        return self._finished()

    def _source(self, url: str | None) -> NDArray[np.float64] | None:
        """The values of a source, (N, width)."""
        if not url:
            return None
        if url in self.sources:
            return self.sources[url]
        element = self.find(url)
        accessor = child(element, "technique_common", "accessor")
        array = self.find(accessor.get("source")) if accessor is not None else child(element, "float_array")
        if element is None or array is None:
            return None
        values = floats(array.text)
        params = list(children(accessor, "param"))
        stride = max(_whole(accessor, "stride", max(len(params), 1)) if accessor is not None else 3, 1)
        offset = _whole(accessor, "offset", 0) if accessor is not None else 0
        columns = min(len(params) or 3, stride)
        count = max(len(values) - offset, 0) // stride
        if accessor is not None:
            count = min(count, _whole(accessor, "count", count))
        table = values[offset : offset + count * stride].reshape(-1, stride)[:, :columns]
        # Parameters without a name are there to be skipped (specification, "accessor").
        named = [k for k, param in enumerate(params[:columns]) if param.get("name")]
        self.sources[url] = table[:, named] if named and len(named) < columns else table
        return self.sources[url]

    def _primitive(self, element: Element, kind: str, shared: Mapping[str, str | None]) -> None:
        inputs = [
            (one.get("semantic", ""), one.get("source"), _whole(one, "offset", 0), _whole(one, "set", 0))
            for one in children(element, "input")
        ]
        stride = max((offset for _, _, offset, _ in inputs), default=-1) + 1
        vertex = next((offset for semantic, _, offset, _ in inputs if semantic == "VERTEX"), None)
        if vertex is None or not 0 < stride < 64:
            self.note("lost", f"geometry '{self.name}': a group of {kind} without vertices is left out")
            return
        rows, sizes = _rows_and_sizes(element, kind, stride, self.points, vertex)
        point = rows[:, vertex]
        rows, sizes, skipped = _usable(rows, sizes, point, usable_rows(self.points))
        if skipped:
            text = f"geometry '{self.name}': {count_of(skipped, 'face')} with fewer than three usable corners left out"
            self.note("lost", text)
        if not len(sizes):
            return
        point = rows[:, vertex]
        self.corners.append(point)
        self.sizes.append(sizes)
        slot = self.symbols.setdefault(element.get("material") or "", len(self.symbols))
        self.slots.append(np.full(len(sizes), slot, np.int32))
        for semantic, source, offset, number in inputs:
            if semantic in _KINDS:
                self._take((_KINDS[semantic], number), source, rows[:, offset])
        for semantic, source in shared.items():
            if semantic in _KINDS and not any(one[0] == semantic for one in inputs):
                self._take((_KINDS[semantic], 0), source, point)
        self.corner_count += len(point)

    def _take(self, key: tuple[str, int], url: str | None, rows: NDArray[np.int64]) -> None:
        """Rows of one layer for the corners of the primitive at hand."""
        values = self._source(url)
        width = {"normal": 3, "uv": 2, "color": 3}[key[0]]
        if values is None or values.shape[1] < width or url is None:
            self.note("lost", f"geometry '{self.name}': {key[0]} values that are not there")
            return
        column = self.columns.setdefault(key, _Column())
        if url not in column.tables:
            kept = values[:, : 4 if key[0] == "color" and values.shape[1] >= 4 else width].astype(np.float32)
            column.tables[url] = column.length, kept
            column.length += len(kept)
            source = self.find(url)
            column.name = column.name or (source.get("name") or "" if source is not None else "")
        base, table = column.tables[url]
        finite = usable_rows(table)
        index = rows + base
        if not (finite.all() and points_into(rows, len(table))):
            there = (rows >= 0) & (rows < len(table))
            good = there & finite[np.where(there, rows, 0)] if len(table) else there
            index = np.where(good, index, -1)
        column.rows.append((self.corner_count, index))

    def _finished(self) -> Shape | None:
        if not self.corners:
            self.note("lost", f"geometry '{self.name}' has no usable face; it is left out")
            return None
        used, corner_point = compact(np.concatenate(self.corners) if len(self.corners) > 1 else self.corners[0])
        size = np.concatenate(self.sizes)
        order = {"normal": 0, "uv": 1, "color": 2}
        layers: list[Layer] = []
        uv_sets: list[int] = []
        for kind, number in sorted(self.columns, key=lambda key: (order[key[0]], key[1])):
            column = self.columns[kind, number]
            if kind == "normal" and any(layer.kind == "normal" for layer in layers):
                continue
            layers.append(self._layer(kind, column))
            if kind == "uv":
                uv_sets.append(number)
        slots = np.concatenate(self.slots)
        mesh = Mesh.taking(
            self.name,
            self.points[used],
            np.concatenate([[0], np.cumsum(size)]).astype(np.int64),
            corner_point,
            tuple(layers),
            (None,) * len(self.symbols),
            slots if len(self.symbols) > 1 else None,
        )
        return Shape(mesh, tuple(self.symbols), tuple(uv_sets), used)

    def _layer(self, kind: str, column: _Column) -> Layer:
        index = column.rows[0][1]
        if len(column.rows) > 1 or len(index) != self.corner_count:
            index = np.full(self.corner_count, -1, np.int64)
            for first, rows in column.rows:
                index[first : first + len(rows)] = rows
        width = max(table.shape[1] for _, table in column.tables.values())
        tables = [table for _, table in column.tables.values()]
        padded = [np.pad(t, ((0, 0), (0, width - t.shape[1])), constant_values=1.0) for t in tables]
        values = np.concatenate(padded) if len(tables) > 1 else tables[0]
        if kind == "color":
            values = np.clip(np.nan_to_num(values), 0.0, 1.0)
        used, index32 = compact(index)
        kept = values if len(used) == len(values) else values[used]
        return Layer.taking(
            kind, kept if all_finite(kept) else np.nan_to_num(kept), index32, column.name if kind != "normal" else ""
        )


def _whole(element: Element, key: str, missing: int) -> int:
    try:
        return max(int(element.get(key, missing)), 0)
    except ValueError:
        return missing


def _rows_and_sizes(
    element: Element, kind: str, stride: int, points: NDArray[np.float64], vertex: int
) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """The rows of indices of every corner, (C, stride), and the corners of each face."""
    if kind in ("triangles", "polylist"):
        rows = _rows([one.text for one in children(element, "p")], stride)[0]
        if kind == "triangles":
            return rows[: len(rows) // 3 * 3], np.full(len(rows) // 3, 3, np.int64)
        sizes = ints(getattr(child(element, "vcount"), "text", "")).astype(np.int64)
        sizes = np.maximum(sizes, 0)
        whole = np.searchsorted(np.cumsum(sizes), len(rows), side="right")
        sizes = sizes[:whole]
        return rows[: sizes.sum()], sizes
    if kind in ("tristrips", "trifans"):
        rows, run = _rows([one.text for one in children(element, "p")], stride)
        # A break behind every run.
        place = np.arange(len(rows)) + run
        breaks = np.ones(int(place[-1]) + 2 if len(place) else 0, bool)
        breaks[place] = False
        row_at = np.zeros(len(breaks), np.int64)
        row_at[place] = np.arange(len(rows))
        found = row_at[triangles_of_strips(breaks, fans=kind == "trifans")]
        point = rows[found, vertex] if len(rows) else np.zeros((0, 3))
        flat = (point[:, 0] == point[:, 1]) | (point[:, 1] == point[:, 2]) | (point[:, 0] == point[:, 2])
        found = found[~flat]
        return rows[found.ravel()], np.full(len(found), 3, np.int64)
    return _polygons(element, stride, points, vertex)


def _rows(texts: list[str | None], stride: int) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """The rows of several lists of indices, and the list each stands in; all are read in one go."""
    if len(texts) == 1:
        words = ints(texts[0])
        words = words[: len(words) // stride * stride]
        return words.reshape(-1, stride), np.zeros(len(words) // stride, np.int64)
    # A number that no index is stands between the lists.
    every = [one if isinstance(one, str) else one.tobytes().decode("ascii") for one in map(words_of, texts)]
    words = ints(" -7 ".join(every)).astype(np.int64)
    breaks = words == -7
    run = np.cumsum(breaks)[~breaks]
    words = words[~breaks]
    count = np.bincount(run, minlength=max(len(texts), 1)) if len(run) else np.zeros(max(len(texts), 1), np.int64)
    whole = count // stride * stride
    within = np.arange(len(words)) - np.repeat(np.cumsum(count) - count, count)
    kept = within < np.repeat(whole, count)
    rows = words[kept].reshape(-1, stride)
    return rows, run[kept][::stride]


def _polygons(
    element: Element, stride: int, points: NDArray[np.float64], vertex: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    rows, run = _rows([one.text for one in children(element, "p")], stride)
    sizes = np.bincount(run, minlength=sum(1 for _ in children(element, "p"))) if len(run) else np.zeros(0, np.int64)
    parts, more = [rows], [sizes.astype(np.int64)]
    for outlined in _with_holes(element, stride, points, vertex):
        parts.append(outlined)
        more.append(np.array([len(outlined)]))
    return np.concatenate(parts), np.concatenate(more)


def _with_holes(element: Element, stride: int, points: NDArray[np.float64], vertex: int) -> Iterator[NDArray[np.int64]]:
    """Every polygon with holes as one outline."""
    for polygon in children(element, "ph"):
        loops = [_rows([one.text], stride)[0] for one in (*children(polygon, "p"), *children(polygon, "h"))]
        loops = [loop for loop in loops if len(loop) >= 3]
        if not loops:
            continue
        rows = np.concatenate(loops)
        if len(loops) == 1 or (rows[:, vertex] < 0).any() or (rows[:, vertex] >= len(points)).any():
            yield loops[0]
            continue
        at = np.cumsum([0, *map(len, loops)])
        numbers = [np.arange(first, last) for first, last in pairwise(at)]
        yield rows[bridge_holes(points[rows[:, vertex]], numbers[0], numbers[1:])]


def _usable(
    rows: NDArray[Any], sizes: NDArray[np.int64], point: NDArray[Any], finite: NDArray[Any]
) -> tuple[NDArray[Any], NDArray[np.int64], int]:
    """Rows and sizes of the faces all of whose corners can be used, and how many others there were."""
    if len(sizes) and int(sizes.min()) >= 3 and points_into(point, len(finite)) and finite.all():
        return rows, sizes, 0
    there = (point >= 0) & (point < len(finite))
    good = there & finite[np.where(there, point, 0)] if len(finite) else there
    face = np.repeat(np.arange(len(sizes)), sizes)
    bad = (sizes < 3) | (np.bincount(face, ~good, len(sizes)) > 0)
    # A polygon without any corner is no face that could be missed.
    if not bad.any():
        return rows, sizes, 0
    return rows[~bad[face]], sizes[~bad], int(bad.sum())
