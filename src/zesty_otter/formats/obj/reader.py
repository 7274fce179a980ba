"""OBJ text to a scene.

Objects (``o``) become nodes; where a file has none, groups (``g``) do, and where it has both, groups are
kept as named face sets. The file says neither unit nor axes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.bare import said_frame, usable_rows
from zesty_otter.formats.facets import ExactFacts, Facets, became, facts_of
from zesty_otter.formats.files import find_beside, load
from zesty_otter.formats.obj import _kernels as kernels
from zesty_otter.formats.obj.mtl import read_library
from zesty_otter.model import (
    Frame,
    Layer,
    Material,
    Mesh,
    Node,
    Note,
    Scene,
    compact,
    corners_of_faces,
    count_of,
    shortened,
)

_PAUSE = 4 << 20  # bytes between two reports of progress

_NOT_CARRIED = {
    "l": "lines",
    "p": "single points",
    "curv": "curves",
}

_SILENT = frozenset(
    {
        "vp",
        "curv2",
        "surf",
        "cstype",
        "bmat",
        "step",
        "deg",
        "parm",
        "trim",
        "hole",
        "end",
        "lod",
        "bevel",
        "c_interp",
        "d_interp",
        "call",
        "mg",
    }
)


@dataclass
class _Scanned:
    """What the scanner found, as arrays trimmed to size."""

    points: NDArray[np.float64]
    colors: NDArray[np.float32]
    uvs: NDArray[np.float32]
    normals: NDArray[np.float32]
    face_start: NDArray[np.int32]
    corners: NDArray[np.int32]  # (C, 3) point, UV, normal
    face_line: NDArray[np.int32]
    runs: NDArray[np.int64]  # (R, 5) first face, object, group, material, smoothing group
    names: NDArray[np.int64]  # (N, 5) kind, start, stop, line, how often (for objects: points before it)
    state: NDArray[np.int64]


def read(
    path: Path,
    *,
    progress: Callable[[float], None] | None = None,
    folders: Sequence[Path] = (),
    facets: Facets | str | None = None,
) -> Scene:
    """Read an OBJ file and the material libraries it names."""
    return _reading(path, progress, folders, Facets.parsed(facets))[0]


def facts(path: Path, progress: Callable[[float], None] | None = None) -> ExactFacts:
    """What free-form surfaces are in a file, and what each density makes of them."""
    return facts_of(lambda facets: _reading(path, None, (), facets), progress)


def _reading(
    path: Path, progress: Callable[[float], None] | None, folders: Sequence[Path], facets: Facets
) -> tuple[Scene, dict[str, int]]:
    data = load(path)
    _refuse_other_encodings(path, data)
    found = _scan_all(data, progress)
    if found.state[kernels.POINTS] == 0 and found.state[kernels.FACES] == 0:
        raise InputError("holds no OBJ statements (no point, no face).", file=path, remedy="Is it really an OBJ file?")
    names = [data[start:stop].tobytes() for _, start, stop, *_ in found.names.tolist()]
    uv_names = _uv_names(data)
    others = found.names[found.names[:, 0] == kernels.KIND_OTHER]
    freeform = data.tobytes() if any(data[a:b].tobytes() == b"surf" for _, a, b, *_ in others.tolist()) else b""
    del data  # the text is not needed any more, and as large as all that was read from it
    assembly = _Assembly(path, names, found, folders, uv_names, freeform, facets)
    return assembly.scene(), assembly.exact


def _uv_names(data: NDArray[np.uint8]) -> dict[int, str]:
    """The names of UV sets that comments of our own writer say, by where they stand in the text."""
    if said_frame(data[:400].tobytes()) is None:
        return {}
    text, word = data.tobytes(), b"# UV set: "
    names, at = {}, text.find(word)
    while at >= 0:
        if text[at - 1 : at] in (b"\n", b""):
            end = text.find(b"\n", at)
            line = text[at + len(word) : end if end >= 0 else len(text)]
            names[at] = line.partition(b"\r")[0].decode("utf-8", "replace")
        at = text.find(word, at + 1)
    return names


def _refuse_other_encodings(path: Path, data: NDArray[np.uint8]) -> None:
    head = data[:4096].tobytes()
    if head[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise InputError("is text in UTF-16.", file=path, remedy="Save it as UTF-8.")
    if b"\0" in head:
        raise InputError("is binary, not OBJ text.", file=path, remedy="Check that its ending is right.")


def _scan_all(data: NDArray[np.uint8], progress: Callable[[float], None] | None) -> _Scanned:
    size = len(data)
    state = np.zeros(kernels.STATE_SIZE, np.int64)
    state[kernels.AT] = 3 if data[:3].tobytes() == b"\xef\xbb\xbf" else 0
    state[kernels.LINE] = 1
    state[kernels.OBJECT] = state[kernels.GROUP] = state[kernels.MATERIAL] = -1
    room = size // 128 + 256
    points, colors = np.empty((room, 3)), np.empty((0, 3), np.float32)
    uvs, normals = np.empty((room, 2), np.float32), np.empty((room, 3), np.float32)
    face_start, face_line = np.zeros(room + 1, np.int32), np.empty(room, np.int32)
    corners = np.empty((2 * room, 3), np.int32)
    runs, names = np.empty((256, 5), np.int64), np.empty((256, 5), np.int64)
    table = np.full(1024, -1, np.int32)
    row = np.empty(8)
    pause = int(state[kernels.AT])
    status = kernels.PAUSED
    while status != kernels.DONE:
        if status == kernels.PAUSED:
            pause = min(size, pause + _PAUSE)
        status = kernels.scan(
            data,
            size,
            pause,
            state,
            points,
            colors,
            uvs,
            normals,
            face_start,
            corners,
            face_line,
            runs,
            names,
            table,
            row,
        )
        # resize() enlarges in place where the system can; what was read stays.
        if status == kernels.FULL_POINTS:
            points.resize((len(points) * 2, 3), refcheck=False)
            if len(colors):
                colors.resize((len(points), 3), refcheck=False)
        elif status == kernels.WANT_COLORS:
            colors = np.full((len(points), 3), np.nan, np.float32)
        elif status == kernels.FULL_UVS:
            uvs.resize((len(uvs) * 2, 2), refcheck=False)
        elif status == kernels.FULL_NORMALS:
            normals.resize((len(normals) * 2, 3), refcheck=False)
        elif status == kernels.FULL_FACES:
            face_line.resize(len(face_line) * 2, refcheck=False)
            face_start.resize(len(face_line) + 1, refcheck=False)
        elif status == kernels.FULL_CORNERS:
            corners.resize((len(corners) * 2, 3), refcheck=False)
        elif status == kernels.FULL_RUNS:
            runs.resize((len(runs) * 2, 5), refcheck=False)
        elif status == kernels.FULL_NAMES:
            names.resize((len(names) * 2, 5), refcheck=False)
            table = np.full(4 * len(names), -1, np.int32)
            kernels.rehash(data, names, state[kernels.NAMES], table)
        elif progress is not None:
            progress(state[kernels.AT] / size)
    return _Scanned(
        points[: state[kernels.POINTS]],
        colors[: state[kernels.POINTS]],
        uvs[: state[kernels.UVS]],
        normals[: state[kernels.NORMALS]],
        face_start[: state[kernels.FACES] + 1],
        corners[: state[kernels.CORNERS]],
        face_line[: state[kernels.FACES]],
        runs[: state[kernels.RUNS]],
        names[: state[kernels.NAMES]],
        state,
    )


class _Assembly:
    """Turns what the scanner found into nodes, and keeps the notes."""

    def __init__(
        self,
        path: Path,
        names: list[bytes],
        found: _Scanned,
        folders: Sequence[Path],
        uv_names: dict[int, str],
        freeform: bytes,
        facets: Facets,
    ) -> None:
        self.uv_names, self.freeform, self.facets = uv_names, freeform, facets
        self.exact: dict[str, int] = {}
        self.path, self.names, self.found, self.folders = path, names, found, folders
        self.notes: list[Note] = []
        self.read_files: list[Path] = []
        self.not_utf8 = False

    def note(self, kind: str, text: str, line: int = 0) -> None:
        self.notes.append(Note(kind, text, "obj", str(self.path), f"line {line}" if line else ""))

    def scene(self) -> Scene:
        self._note_statements()
        materials = self._materials()
        finite = usable_rows(self.found.points)
        faces = self._usable_faces(finite)
        nodes = (*self._nodes(faces, finite, materials), *self._exact_nodes(materials))
        if self.not_utf8:
            self.note("assumed", "some names are not UTF-8; they were read as Latin-1")
        if not len(faces) and not self.exact:
            self.note("lost", "there is no usable face in the file")
        frame = Frame("left up forward")
        return Scene(nodes, frame, self.path.stem, tuple(self.notes), self.path, tuple(self.read_files))

    def _exact_nodes(self, materials: dict[int, Material]) -> Iterator[Node]:
        """Free-form surfaces as polygons."""
        if not self.freeform:
            return
        # Few files have any, and curved surfaces are much to load.
        from zesty_otter.formats.exact import mesh_of_patches
        from zesty_otter.formats.obj.freeform import sheets_of

        by_name = {material.name: material for material in materials.values()}
        for sheet in sheets_of(self.freeform, self.found.points, self.note):
            body = sheet.patches.body()
            self.exact["free-form"] = self.exact.get("free-form", 0) + len(body.faces)
            name = sheet.name or self.path.stem
            mesh, problems = mesh_of_patches(name, body, self.facets, self.facets.unit or 1.0)
            for text in problems:
                self.note("lost", f"'{name}': {text}")
            if mesh is not None:
                slot = by_name.get(sheet.material) or (Material(sheet.material) if sheet.material else None)
                yield Node(name, content=mesh.replace(slots=(slot,)))
        if self.exact:
            self.note("done", became(self.exact))

    def _usable_faces(self, finite: NDArray[np.bool_]) -> NDArray[np.int64]:
        """The numbers of the faces all of whose corners are there, and notes on the others."""
        found, state = self.found, self.found.state
        point = found.corners[:, 0]
        absent = (point < 0) | (point >= len(finite))
        bad = absent if finite.all() else absent | ~finite[np.where(absent, 0, point)]
        for count, line, what in (
            (state[kernels.SHORT_FACES], state[kernels.SHORT_FACE_LINE], "with fewer than three corners"),
            (state[kernels.BAD_CORNERS], state[kernels.BAD_CORNER_LINE], "with a corner that cannot be read"),
        ):
            if count:
                self.note("lost", f"{count_of(count, 'face')} {what} skipped, the first here", line)
        if state[kernels.BAD_NUMBERS]:
            text = f"{count_of(state[kernels.BAD_NUMBERS], 'point')} without three usable numbers, the first here"
            self.note("lost", text, state[kernels.BAD_NUMBER_LINE])
        if not bad.any():
            return np.arange(len(found.face_line))
        bad_face = np.logical_or.reduceat(bad, found.face_start[:-1])
        missing = np.logical_or.reduceat(absent, found.face_start[:-1])
        for mask, what in (
            (missing, "with points the file does not have"),
            (bad_face & ~missing, "with points that have no usable position"),
        ):
            if mask.any():
                line = int(found.face_line[np.argmax(mask)])
                self.note("lost", f"{count_of(int(mask.sum()), 'face')} {what} skipped, the first here", line)
        return np.flatnonzero(~bad_face)

    def _nodes(
        self, faces: NDArray[np.int64], finite: NDArray[np.bool_], materials: dict[int, Material]
    ) -> Iterator[Node]:
        found = self.found
        run_count = np.diff(np.append(found.runs[:, 0], len(found.face_line)))
        face_run = np.repeat(np.arange(len(found.runs)), run_count)[faces]
        by_object = bool(found.state[kernels.OBJECTS])
        key = found.runs[:, 1 if by_object else 2][face_run]
        if len(key) and (np.diff(key) < 0).any():
            order = np.argsort(key, kind="stable")
            faces, face_run, key = faces[order], face_run[order], key[order]
        corners: Any = slice(None)
        start: NDArray[Any] = found.face_start
        if len(faces) != len(found.face_line) or (len(faces) and (np.diff(faces) != 1).any()):
            corners, start = corners_of_faces(start, faces)
        point = np.ascontiguousarray(found.corners[corners, 0])
        uv = self._layer_index(corners, 1, found.uvs, "UV", kernels.HAS_UV)
        normal = self._layer_index(corners, 2, found.normals, "normal", kernels.HAS_NORMAL)
        colors = self._colors()
        first = np.flatnonzero(np.diff(key, prepend=-2)) if len(key) else np.zeros(0, np.int64)
        loose = self._loose_points(point, finite, key[first], by_object)
        for f, stop in zip(first, np.append(first, len(faces))[1:], strict=True):
            span = slice(start[f], start[stop])
            extra = loose.get(int(key[f]), np.zeros(0, np.int32))
            used, renumbered = compact(np.concatenate([point[span], extra]))
            corner_point = renumbered[: start[stop] - start[f]]
            layers = [
                *_layer("uv", found.uvs, uv, span, self._uv_name(int(key[f])) if by_object else ""),
                *_layer("normal", found.normals, normal, span),
                *_color_layer(colors, used, corner_point),
            ]
            run, run_of_face = compact(face_run[f:stop])
            slots, slot_of_run = self._slots(found.runs[run, 3], materials)
            smoothing = found.runs[run, 4]
            name, groups, sets = self._names(int(key[f]), found.runs[run, 2], run_of_face, by_object)
            mesh = Mesh.taking(
                name,
                found.points[used],
                start[f : stop + 1] - start[f],
                corner_point,
                tuple(layers),
                slots,
                slot_of_run[run_of_face] if len(slots) > 1 else None,
                smoothing[run_of_face].astype(np.int32) if smoothing.any() else None,
                sets,
            )
            yield Node(name, content=mesh, groups=groups)

    def _layer_index(
        self, corners: Any, column: int, values: NDArray[np.float32], what: str, has: int
    ) -> NDArray[np.int32] | None:
        """The row of each corner in a table of values, -1 where it has none that can be used."""
        if not self.found.state[has]:
            return None
        index = np.ascontiguousarray(self.found.corners[corners, column])
        absent = (index == kernels.INVALID) | (index >= len(values))
        finite = usable_rows(values)
        if not finite.all():
            absent |= ~finite[np.clip(index, 0, len(values) - 1)] & (index >= 0)
        if absent.any():
            text = f"{count_of(int(absent.sum()), 'corner')} lost the {what} their face asks for: it is not there"
            self.note("lost", text)
            index[absent] = -1
        return index

    def _colors(self) -> NDArray[np.float32] | None:
        colors = self.found.colors
        if not len(colors):
            return None
        highest = float(np.nanmax(colors, initial=0.0))
        if highest > 1.0:
            self.note("assumed", f"vertex colours go up to {highest:g}; taken as 0 to 255")
            colors = colors / np.float32(255.0)
        return np.clip(colors, 0.0, 1.0)

    def _loose_points(
        self, point: NDArray[np.int32], finite: NDArray[np.bool_], keys: NDArray[np.int64], by_object: bool
    ) -> dict[int, NDArray[np.int32]]:
        """The points no face uses, by the node they were declared in."""
        unused = finite.copy()
        unused[point] = False
        loose = np.flatnonzero(unused).astype(np.int32)
        if not len(loose) or not len(keys):
            return {}
        if len(keys) == 1:
            owned = {int(keys[0]): loose}
        elif by_object:
            objects = np.flatnonzero(self.found.names[:, 0] == kernels.KIND_OBJECT)
            owner = np.searchsorted(self.found.names[objects, 4], loose, side="right") - 1
            owned = {
                int(n): loose[owner == k]
                for k, n in enumerate(objects)
                if int(n) in set(keys.tolist()) and (owner == k).any()
            }
        else:
            owned = {}
        left_out = len(loose) - sum(len(points) for points in owned.values())
        if left_out:
            self.note("lost", f"{count_of(left_out, 'point')} that belong to no face and no object are left out")
        return owned

    def _slots(
        self, material: NDArray[np.int64], materials: dict[int, Material]
    ) -> tuple[tuple[Material | None, ...], NDArray[np.int32]]:
        """The slots in order of first use, and the slot of each run."""
        order = list(dict.fromkeys(material.tolist()))
        number = {name: slot for slot, name in enumerate(order)}
        slots = tuple(materials.get(name) for name in order)
        return slots, np.array([number[name] for name in material.tolist()], np.int32)

    def _names(
        self, key: int, group: NDArray[np.int64], run_of_face: NDArray[np.int32], by_object: bool
    ) -> tuple[str, tuple[str, ...], dict[str, NDArray[np.int32]]]:
        """A node's name, its groups, and the face sets of the groups that hold a part of it."""
        words = {g: tuple(self._text(g).split()) or ("default",) for g in dict.fromkeys(group.tolist()) if g >= 0}
        if not by_object:
            groups = words.get(key, ())
            return (groups[0] if groups else self.path.stem), groups, {}
        name = self._text(key) if key >= 0 else ""
        # Without a group statement faces are in the group called default: that is none.
        words = {g: names for g, names in words.items() if names != ("default",)}
        if len(words) == 1 and (group == next(iter(words))).all():
            return name or self.path.stem, next(iter(words.values())), {}
        sets: dict[str, list[NDArray[np.int64]]] = {}
        group_of_face = group[run_of_face]
        order = np.argsort(group_of_face, kind="stable")
        ordered = group_of_face[order]
        for g, names in words.items():
            low, high = np.searchsorted(ordered, [g, g + 1])
            for one in names:
                sets.setdefault(one, []).append(order[low:high])
        return (
            name or self.path.stem,
            (),
            {one: np.sort(np.concatenate(parts)).astype(np.int32) for one, parts in sets.items()},
        )

    def _materials(self) -> dict[int, Material]:
        """The material of each name the faces use."""
        names = self.found.names
        library: dict[str, Material] = {}
        for n in np.flatnonzero(names[:, 0] == kernels.KIND_LIBRARY).tolist():
            for path in self._library_paths(n):
                read_materials, notes = read_library(path, self.folders)
                self.read_files.append(path)
                self.notes += notes
                library = {**read_materials, **library}
        materials: dict[int, Material] = {}
        made: dict[str, Material] = {}
        for n in np.flatnonzero(names[:, 0] == kernels.KIND_MATERIAL).tolist():
            name = self._text(n)
            if not name:
                continue
            if name not in library and name not in made:
                self.note("lost", f"material '{name}' is in no library; a plain one takes its place", names[n, 3])
                made[name] = Material(name, base_color=(0.8, 0.8, 0.8, 1.0))
            material = library[name] if name in library else made[name]
            if not material.shading.get("none"):
                materials[n] = material
        return materials

    def _library_paths(self, n: int) -> Iterator[Path]:
        # The statement may name several files, or one whose name holds blanks.
        whole = self._text(n)
        for wanted in [whole, *(whole.split() if " " in whole else ())]:
            reference = find_beside(self.path, wanted, also_in=self.folders)
            if reference.remark:
                self.note("assumed", reference.remark, self.found.names[n, 3])
            if reference.path is not None:
                yield reference.path
                if wanted == whole:
                    return
            elif wanted != whole or " " not in whole:
                self.note("lost", f"material library '{wanted}' was not found", self.found.names[n, 3])
                self.read_files += [folder / wanted for folder in reference.looked_in[:1]]  # it may appear

    def _note_statements(self) -> None:
        names, state = self.found.names, self.found.state
        if state[kernels.DEPTHS]:
            self.note("lost", "third texture coordinates are not carried")
        lost: dict[str, tuple[int, int]] = {}
        unknown: list[tuple[str, int]] = []
        for n in np.flatnonzero(names[:, 0] == kernels.KIND_OTHER).tolist():
            word, line, times = self._text(n), int(names[n, 3]), int(names[n, 4])
            if word in _NOT_CARRIED:
                before = lost.get(_NOT_CARRIED[word], (0, line))
                lost[_NOT_CARRIED[word]] = (before[0] + times, before[1])
            elif word not in _SILENT:
                unknown.append((word, line))
        for what, (times, line) in lost.items():
            self.note("lost", f"{what} are not carried ({count_of(times, 'statement')}), the first here", line)
        if unknown:
            words = shortened((f"'{word[:20]}'" for word, _ in unknown), 3)
            self.note("lost", f"statements not known: {words}; the first here", unknown[0][1])

    def _uv_name(self, n: int) -> str:
        """What a comment behind an object statement says of its UVs."""
        if not self.uv_names or n < 0:
            return ""
        starts = self.found.names[self.found.names[:, 0] == kernels.KIND_OBJECT, 1]
        own = self.found.names[n, 1]
        stop = starts[starts > own].min(initial=np.iinfo(np.int64).max)
        return next((name for place, name in self.uv_names.items() if own < place < stop), "")

    def _text(self, n: int) -> str:
        raw = self.names[n]
        try:
            return raw.decode("utf-8")
        except UnicodeDecodeError:
            self.not_utf8 = True
            return raw.decode("latin-1")


def _layer(
    kind: str, values: NDArray[np.float32], index: NDArray[np.int32] | None, span: slice, name: str = ""
) -> Iterator[Layer]:
    if index is not None:
        used, renumbered = compact(index[span])
        if len(used):
            yield Layer.taking(kind, values[used], renumbered, name)


def _color_layer(
    colors: NDArray[np.float32] | None, used: NDArray[np.int64], corner_point: NDArray[np.int32]
) -> Iterator[Layer]:
    if colors is None:
        return
    values = colors[used]
    colored = usable_rows(values)
    if colored.any():
        index = corner_point if colored.all() else np.where(colored[corner_point], corner_point, -1)
        yield Layer.taking("color", np.nan_to_num(values), index)
