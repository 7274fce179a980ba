"""PLY to a scene.

G. Turk (1994), The PLY polygon file format. ASCII and both binary byte orders, any elements and
properties; vertices, faces and triangle strips are understood, all else is skipped and noted.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.bare import usable_rows
from zesty_otter.formats.files import find_beside, load, missing_texture
from zesty_otter.formats.ply import _rows as kernels
from zesty_otter.formats.strips import triangles_of_strips
from zesty_otter.formats.text import NotNumbersError, numbers_in
from zesty_otter.model import Frame, Layer, Material, Mesh, Node, Note, Scene, Texture, TextureUse, count_of, shortened

_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip

_UVS = (("s", "t"), ("u", "v"), ("texture_u", "texture_v"), ("texcoord_u", "texcoord_v"))
_COLORS = (("red", "green", "blue", "alpha"), ("r", "g", "b", "a"))
_INDICES = ("vertex_indices", "vertex_index")
_UNDERSTOOD = frozenset(
    {"x", "y", "z", "nx", "ny", "nz", *_INDICES, "texcoord", *(name for pair in (*_UVS, *_COLORS) for name in pair)}
)


@dataclass
class _Property:
    name: str
    dtype: str
    count_dtype: str | None = None


@dataclass
class _Element:
    """An element of the header, and its data once read: columns by name, lists as (start, values)."""

    name: str
    count: int
    properties: list[_Property] = field(default_factory=list)
    columns: dict[str, NDArray[Any]] = field(default_factory=dict)
    lists: dict[str, tuple[NDArray[Any], NDArray[Any]]] = field(default_factory=dict)
    # The least and the largest value of lists that are all of one length, as far as they are known.
    extremes: dict[str, tuple[int, int]] = field(default_factory=dict)


def read(path: Path, *, progress: Callable[[float], None] | None = None, folders: Sequence[Path] = ()) -> Scene:
    """Read a PLY file: one node with its mesh."""
    del progress
    return _Reading(path, load(path), folders).scene()


class _Reading:
    def __init__(self, path: Path, data: NDArray[np.uint8], folders: Sequence[Path]) -> None:
        self.path, self.data, self.folders = path, data, folders
        self.notes: list[Note] = []
        self.textures: list[str] = []
        self.elements: dict[str, _Element] = {}

    def note(self, kind: str, text: str) -> None:
        self.notes.append(Note(kind, text, "ply", str(self.path)))

    def fail(self, problem: str, place: str | None = None) -> InputError:
        return InputError(problem, file=self.path, place=place, remedy="Export it again.")

    def scene(self) -> Scene:
        at, kind = self._header()
        if kind == "ascii":
            self._read_text(at)
        else:
            self._read_binary(at, kind == "binary_little_endian")
        mesh = self._mesh()
        frame = Frame("left up forward")
        return Scene((Node(self.path.stem, content=mesh),), frame, self.path.stem, tuple(self.notes), self.path)

    def _header(self) -> tuple[int, str]:
        """Where the data begins and how it is spelled; fills ``elements``."""
        head = bytes(self.data[: 1 << 20])
        end = re.search(rb"(?:^|[\r\n])end_header[ \t]*(\r\n|\n|\r)", head)
        if not head.startswith(b"ply") or end is None:
            raise self.fail("has no PLY header.", "line 1")
        kind = ""
        last: _Element | None = None
        for number, line in enumerate(re.split(rb"\r\n|\n|\r", head[: end.start()]), 1):
            words = line.decode("latin-1").split()
            place = f"line {number}"
            if not words or words[0] in ("ply", "obj_info"):
                continue
            if words[0] == "comment":
                if len(words) > 2 and words[1].lower() == "texturefile":
                    self.textures.append(" ".join(words[2:]))
            elif words[0] == "format" and len(words) > 1:
                kind = words[1]
            elif words[0] == "element" and len(words) == 3 and words[2].isdecimal():
                last = self.elements[words[1]] = _Element(words[1], int(words[2]))
            elif words[0] == "property" and last is not None and len(words) in (3, 5):
                types = words[2:4] if words[1] == "list" else words[1:2]
                if (len(words) == 5) != (words[1] == "list") or any(one not in _TYPES for one in types):
                    raise self.fail(f"'{' '.join(words)}' is not a property.", place)
                dtypes = [_TYPES[one] for one in types]
                last.properties.append(_Property(words[-1], dtypes[-1], dtypes[0] if len(dtypes) == 2 else None))
                if dtypes[0][0] == "f" and len(dtypes) == 2:
                    raise self.fail("the length of a list cannot be a fraction.", place)
            else:
                raise self.fail(f"'{' '.join(words)[:60]}' is not a header line.", place)
        if kind not in ("ascii", "binary_little_endian", "binary_big_endian"):
            raise self.fail(f"'{kind}' is not a kind of PLY.", "line 2")
        return end.end(), kind

    def _read_binary(self, at: int, little: bool) -> None:
        order = "<" if little else ">"
        for element in self.elements.values():
            if any(one.count_dtype for one in element.properties):
                at = self._read_lists(element, at, little)
                continue
            dtype = np.dtype([(f"{n}", order + one.dtype) for n, one in enumerate(element.properties)])
            if dtype.itemsize == 0:
                continue
            there = max(len(self.data) - at, 0) // dtype.itemsize
            self._shorten(element, there)
            rows = np.frombuffer(self.data, dtype, element.count, at)
            for n, one in enumerate(element.properties):
                element.columns[one.name] = rows[f"{n}"]
            at += element.count * dtype.itemsize

    def _read_lists(self, element: _Element, at: int, little: bool) -> int:
        order = "<" if little else ">"
        properties = element.properties
        sizes = [np.dtype(one.dtype).itemsize for one in properties]
        lists = [one for one in properties if one.count_dtype]
        if len(properties) == 1 and element.count:
            done = self._read_even_list(element, at, order)
            if done:
                return done
        # Every row takes at least a byte of count for each list: claims beyond that are not believed.
        least = sum(np.dtype(one.count_dtype).itemsize if one.count_dtype else size
                    for one, size in zip(properties, sizes, strict=True))  # fmt: skip
        self._shorten(element, max(len(self.data) - at, 0) // least)
        starts = np.empty((element.count, len(lists)), np.int64)
        counts = np.empty((element.count, len(lists)), np.int64)
        rows, end = kernels.walk_rows(
            self.data,
            at,
            len(self.data),
            np.array([one.count_dtype is not None for one in properties]),
            np.array([np.dtype(one.count_dtype or "u1").itemsize for one in properties]),
            np.array(sizes),
            little,
            starts,
            counts,
        )
        self._shorten(element, int(rows))
        starts, counts = starts[:rows], counts[:rows]
        for n, one in enumerate(lists):
            size = np.dtype(one.dtype).itemsize
            out = np.empty(int(counts[:, n].sum()) * size, np.uint8)
            own_start, own_count = np.ascontiguousarray(starts[:, n]), np.ascontiguousarray(counts[:, n])
            kernels.take_lists(self.data, own_start, own_count, size, out)
            start = np.concatenate([[0], np.cumsum(own_count)])
            element.lists[one.name] = start, out.view(order + one.dtype)
        self._read_scalars_beside_lists(element, at, starts, counts, sizes, order)
        return int(end)

    def _read_scalars_beside_lists(
        self, element: _Element, at: int, starts: NDArray[Any], counts: NDArray[Any], sizes: list[int], order: str
    ) -> None:
        """Columns of an element that has lists as well: each stands at some distance from a list or the row's start."""
        ends = starts[:, -1] + counts[:, -1] * sizes[max(n for n, p in enumerate(element.properties) if p.count_dtype)]
        last = max(n for n, one in enumerate(element.properties) if one.count_dtype)
        tail = sum(sizes[last + 1 :])
        row = np.concatenate([[at], ends[:-1] + tail]) if len(ends) else np.zeros(0, np.int64)
        here, number = row.copy(), 0
        for one, size in zip(element.properties, sizes, strict=True):
            if one.count_dtype:
                here = starts[:, number] + counts[:, number] * size
                number += 1
                continue
            picked = here[:, None] + np.arange(size)
            element.columns[one.name] = self.data[picked].view(order + one.dtype).ravel()
            here = here + size

    def _read_even_list(self, element: _Element, at: int, order: str) -> int:
        """The quick way for lists that are all of one length; 0 when they are not."""
        one = element.properties[0]
        assert one.count_dtype is not None
        if at + np.dtype(one.count_dtype).itemsize > len(self.data):
            return 0
        length = int(np.frombuffer(self.data, order + one.count_dtype, 1, at)[0])
        if not 0 < length < 64:
            return 0
        dtype = np.dtype([("n", order + one.count_dtype), ("v", order + one.dtype, (length,))])
        if element.count * dtype.itemsize > len(self.data) - at or element.count * length >= 2**31:
            return 0
        rows = np.frombuffer(self.data, dtype, element.count, at)
        if rows["n"].dtype.isnative and rows["v"].dtype.isnative and one.dtype[0] != "f":
            values = np.empty(rows["v"].shape, one.dtype)
            count_bytes = np.dtype([("n", "u1", (rows["n"].itemsize,)), ("v", "V", rows["v"].itemsize * length)])
            counts = np.frombuffer(self.data, count_bytes, element.count, at)["n"]
            even, *extremes = kernels.take_even_lists(counts, rows["v"], values)
            if even < element.count:
                return 0
            element.extremes[one.name] = int(extremes[0]), int(extremes[1])
        else:
            values = rows["v"]
            if (rows["n"] != length).any():
                return 0
        start = np.arange(0, element.count * length + 1, length, dtype=np.int32)
        element.lists[one.name] = start, values.reshape(-1)
        return at + element.count * dtype.itemsize

    def _read_text(self, at: int) -> None:
        try:
            words = numbers_in(self.data[at:])
        except NotNumbersError as error:
            raise self.fail(f"{error}.", "after the header") from None
        for element in self.elements.values():
            flags = np.array([one.count_dtype is not None for one in element.properties], bool)
            if not len(flags):
                continue
            if not flags.any():
                self._shorten(element, len(words) // len(flags))
                rows = words[: element.count * len(flags)].reshape(-1, len(flags))
                words = words[rows.size :]
                for n, one in enumerate(element.properties):
                    element.columns[one.name] = _typed(rows[:, n], one.dtype)
                continue
            self._shorten(element, len(words) // len(flags))
            starts = np.empty((element.count, int(flags.sum())), np.int64)
            counts = np.empty_like(starts)
            rows_read, end = kernels.walk_words(words, flags, starts, counts)
            self._shorten(element, int(rows_read))
            self._take_text_lists(element, words, starts[:rows_read], counts[:rows_read])
            words = words[end:]
        # What a float or integer property says is exact in 64 bits.

    def _take_text_lists(
        self, element: _Element, words: NDArray[np.float64], starts: NDArray[Any], counts: NDArray[Any]
    ) -> None:
        here = np.concatenate([[0], (starts[:, -1] + counts[:, -1])[:-1]]) if len(starts) else np.zeros(0, np.int64)
        last = max(n for n, one in enumerate(element.properties) if one.count_dtype)
        here[1:] += len(element.properties) - 1 - last
        number = 0
        for one in element.properties:
            if one.count_dtype is None:
                element.columns[one.name] = _typed(words[here], one.dtype)
                here = here + 1
                continue
            own, count = starts[:, number], counts[:, number]
            start = np.concatenate([[0], np.cumsum(count)])
            picked = np.repeat(own - start[:-1], count) + np.arange(start[-1])
            element.lists[one.name] = start, words[picked]
            here = own + count
            number += 1

    def _shorten(self, element: _Element, there: int) -> None:
        if there < element.count:
            text = f"the header promises {count_of(element.count, element.name)}; there are {there:,}"
            self.note("lost", f"{text}, the file seems cut off")
            element.count = there

    def _mesh(self) -> Mesh:
        vertex = self.elements.get("vertex", _Element("vertex", 0))
        columns = vertex.columns
        if not {"x", "y", "z"} <= columns.keys():
            raise self.fail("has no vertices with x, y and z.")
        points, finite = _stacked(columns, ("x", "y", "z"), np.float64)
        start, corners, face_of = self._faces(len(points), finite)
        if not finite.all():
            points = np.where(finite[:, None], points, 0.0)
        layers = [
            *_column_layer("normal", columns, ("nx", "ny", "nz"), corners),
            *self._uv_layer(columns, corners, face_of, start),
            *_colors(columns, corners),
            *self._face_colors(face_of, np.diff(start)),
        ]
        material = self._material()
        mesh = Mesh.trusted(self.path.stem, points, start, corners, layers=tuple(layers), slots=(material,))
        for element in self.elements.values():
            if element.name not in ("vertex", "face", "tristrips") and element.count:
                self.note("lost", f"{count_of(element.count, element.name)} not carried")
        self._note_properties()
        if not mesh.face_count:
            self.note("lost", "there is no usable face in the file")
        return mesh if finite.all() else mesh.keep_points(finite | mesh.point_used)

    def _note_properties(self) -> None:
        for name in ("vertex", "face"):
            element = self.elements.get(name)
            extra = [one.name for one in element.properties if one.name not in _UNDERSTOOD] if element else []
            if extra:
                self.note("lost", f"properties of {name} not carried: {shortened(extra, 8)}")

    def _faces(self, points: int, finite: NDArray[np.bool_]) -> tuple[NDArray[Any], NDArray[Any], NDArray[np.integer]]:
        """Where faces start, their corners, and the number of the face element each comes from (-1 for strips)."""
        face = self.elements.get("face", _Element("face", 0))
        name = next((one for one in _INDICES if one in face.lists), None)
        start, values = face.lists[name] if name else (np.zeros(1, np.int64), np.zeros(0, np.int64))
        if values.dtype.kind in "iu" and values.dtype.itemsize == 4 and len(values) and not self._strip_element():
            least = int(start[1]) if name in face.extremes else int(np.diff(start).min())
            low, high = face.extremes.get(str(name)) or (int(values.min()), int(values.max()))
            if least >= 3 and low >= 0 and high < points and finite.all():
                return start, values.astype(np.int32, copy=False), np.arange(len(start) - 1, dtype=np.int32)
        corners = values.astype(np.int64)
        number = np.arange(len(start) - 1)
        strips = self._strips()
        if len(strips):
            number = np.concatenate([number, np.full(len(strips), -1)])
            start = np.concatenate([start, start[-1] + 3 * np.arange(1, len(strips) + 1)])
            corners = np.concatenate([corners, strips.ravel()])
        size = np.diff(start)
        there = (corners >= 0) & (corners < points)
        usable = there & finite[np.where(there, corners, 0)] if points else there
        bad = np.zeros(len(size), bool)
        if len(size):
            bad_of_corner = np.concatenate([[0], np.cumsum(~usable)])
            bad = (bad_of_corner[start[1:]] - bad_of_corner[start[:-1]] > 0) | (size < 3)
        if not bad.any():
            return start, corners, number
        text = f"{count_of(int(bad.sum()), 'face')} with fewer than three corners or without usable points skipped"
        self.note("lost", f"{text}, the first is face {int(np.argmax(bad))}")
        kept_corner = np.repeat(~bad, size)
        return np.concatenate([[0], np.cumsum(size[~bad])]), corners[kept_corner], number[~bad]

    def _strip_element(self) -> _Element | None:
        return self.elements.get("tristrips")

    def _strips(self) -> NDArray[np.int64]:
        element = self._strip_element()
        name = next((one for one in _INDICES if element and one in element.lists), None)
        if element is None or name is None:
            return np.zeros((0, 3), np.int64)
        start, values = element.lists[name]
        # A break between strips, so that one does not run on into the next.
        parted = np.insert(values.astype(np.int64), start[1:-1], -1)
        found = parted[triangles_of_strips(parted < 0)]
        flat = (found[:, 0] == found[:, 1]) | (found[:, 1] == found[:, 2]) | (found[:, 0] == found[:, 2])
        return np.asarray(found[~flat])

    def _uv_layer(
        self, columns: dict[str, NDArray[Any]], corners: NDArray[Any], face_of: NDArray[Any], start: NDArray[Any]
    ) -> list[Layer]:
        face = self.elements.get("face")
        if face is not None and "texcoord" in face.lists:
            uv_start, values = face.lists["texcoord"]
            size = np.diff(start)
            count = np.diff(uv_start)
            fits = (face_of >= 0) & (count[np.maximum(face_of, 0)] == 2 * size)
            base = np.where(fits, uv_start[:-1][np.maximum(face_of, 0)], -1) // 2
            index = np.repeat(base, size) + np.arange(len(corners)) - np.repeat(start[:-1], size)
            index = np.where(np.repeat(fits, size), index, -1)
            pairs = values[: len(values) // 2 * 2].reshape(-1, 2).astype(np.float32)
            if fits.any() and np.isfinite(pairs).all():
                return [Layer.taking("uv", pairs, index.astype(np.int32))]
        for pair in _UVS:
            found = _column_layer("uv", columns, pair, corners)
            if found:
                return found
        return []

    def _face_colors(self, face_of: NDArray[Any], size: NDArray[Any]) -> list[Layer]:
        face = self.elements.get("face")
        vertex = self.elements["vertex"]
        if face is None or _has_colors(vertex) or not _has_colors(face):
            return []
        return _colors(face.columns, np.repeat(face_of, size))

    def _material(self) -> Material | None:
        if not self.textures:
            return None
        if len(self.textures) > 1:
            self.note("lost", f"{len(self.textures) - 1} further textures; the first is used")
        wanted = self.textures[0]
        found = find_beside(self.path, wanted, also_in=self.folders)
        if found.remark:
            self.note("assumed", found.remark)
        if found.path is None:
            self.note("lost", missing_texture(wanted, found))
        name = found.path.name if found.path else re.split(r"[\\/]", wanted)[-1]
        texture = Texture(name, found.path, None, wanted, found.looked_in)
        return Material(Path(name).stem).with_textures({"base_color": TextureUse(texture)})


def _has_colors(element: _Element) -> bool:
    return any(set(names[:3]) <= element.columns.keys() for names in _COLORS)


def _typed(values: NDArray[np.float64], dtype: str) -> NDArray[Any]:
    """Numbers from text as the type the header says, where that is one of whole numbers."""
    if dtype[0] == "f":
        return values
    limits = np.iinfo(dtype)
    return np.clip(np.nan_to_num(values), limits.min, limits.max).astype(dtype)


def _stacked(
    columns: dict[str, NDArray[Any]], names: tuple[str, ...], dtype: Any
) -> tuple[NDArray[Any], NDArray[np.bool_]]:
    """Columns as one table, and which of its rows hold finite numbers only."""
    out = np.empty((len(columns[names[0]]), len(names)), dtype)
    side_by_side = _side_by_side([columns[name] for name in names])
    if side_by_side is not None and kernels.take_columns(side_by_side, out):
        return out, np.ones(len(out), bool)
    with np.errstate(invalid="ignore"):
        for k, name in enumerate(names):
            out[:, k] = columns[name]
    return out, usable_rows(out)


def _side_by_side(columns: list[NDArray[Any]]) -> NDArray[Any] | None:
    """Columns of floats that lie beside each other in the file as a view of all of them; None for others."""
    first = columns[0]
    size, step = first.itemsize, first.strides[0]
    start = first.__array_interface__["data"][0]
    for n, one in enumerate(columns):
        at = one.__array_interface__["data"][0]
        if one.dtype != first.dtype or at != start + n * size or one.strides[0] != step:
            return None
    if first.dtype.kind != "f" or not first.dtype.isnative or step < len(columns) * size:
        return None
    return np.lib.stride_tricks.as_strided(first, (len(first), len(columns)), (step, size), writeable=False)


def _column_layer(
    kind: str, columns: dict[str, NDArray[Any]], names: tuple[str, ...], corners: NDArray[Any]
) -> list[Layer]:
    """A layer that is indexed like the points, with holes where its numbers are not finite."""
    if not set(names) <= columns.keys():
        return []
    values, finite = _stacked(columns, names, np.float32)
    if finite.all():
        return [Layer.taking(kind, values, corners.astype(np.int32, copy=False))]
    index = np.where(finite[corners], corners, -1)
    return [Layer.taking(kind, np.where(finite[:, None], values, 0), index.astype(np.int32))]


def _colors(columns: dict[str, NDArray[Any]], rows: NDArray[Any]) -> list[Layer]:
    """A colour layer; whole numbers are shares of the largest their type holds."""
    for names in _COLORS:
        if not set(names[:3]) <= columns.keys():
            continue
        channels = []
        for name in names[: 4 if names[3] in columns else 3]:
            values = columns[name]
            if values.dtype.kind in "iu":
                channels.append(values.astype(np.float32) / np.float32(np.iinfo(values.dtype).max))
            else:
                values = np.nan_to_num(values.astype(np.float32))
                channels.append(values / 255 if values.max(initial=0) > 1 else values)
        values = np.clip(np.stack(channels, axis=1), 0, 1)
        return [Layer.taking("color", values, np.where(rows < len(values), rows, -1).astype(np.int32))]
    return []
