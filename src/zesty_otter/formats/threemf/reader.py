"""3MF to a scene (3MF Consortium, "3D Manufacturing Format core specification & reference guide", 1.3)."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from pathlib import Path

import numpy as np
from lxml import etree
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.archive import open_package
from zesty_otter.formats.bare import sound_material, usable_rows
from zesty_otter.formats.files import load_bytes
from zesty_otter.formats.threemf import _kernels as kernels
from zesty_otter.formats.xml import Element, child, children, floats, name_of, number, parsed
from zesty_otter.geometry.parallel import in_order
from zesty_otter.model import Frame, Material, Mesh, Node, Note, Scene, compact, count_of

UNITS = {"micron": 1e-6, "millimeter": 1e-3, "centimeter": 1e-2, "inch": 0.0254, "foot": 0.3048, "meter": 1.0}
"""The length of each unit in metres (specification, section 3.4)."""

_LIST = re.compile(rb"<((?:[\w-]+:)?(?:vertices|triangles))(?:\s[^>]*?)?(/)?>")
_COLOR = re.compile(r"#([0-9A-Fa-f]{6})([0-9A-Fa-f]{2})?$")
_PIECE = 1 << 21  # bytes of a list that are read in a row
_DEEPEST, _MOST_NODES = 60, 200_000


def read(path: Path, *, progress: Callable[[float], None] | None = None, folders: Sequence[Path] = ()) -> Scene:
    """Read a 3MF package."""
    del progress, folders
    return _Reading(path, open_package(path, load_bytes(path))).scene()


class _Reading:
    def __init__(self, path: Path, files: Mapping[str, bytes]) -> None:
        self.path = path
        self.notes: dict[tuple[str, str], Note] = {}
        name = _model_in(files)
        if name is None:
            raise InputError("is a package without a 3D model.", file=path, remedy="Export it again.")
        # Lists of numbers are read on their own, many at a time; what is left is small.
        self.lists: list[bytes] = []
        self.document = parsed(path, self._without_lists(files[name]), "model")
        self.root = self.document.root
        for text in self.document.mended:
            self.note("assumed", text)
        self.materials: dict[str, list[Material]] = {}
        self.objects: dict[str, Element] = {}
        self.meshes: dict[str, Mesh | None] = {}
        self.count = 0

    def note(self, kind: str, text: str) -> None:
        self.notes.setdefault((kind, text), Note(kind, text, "3mf", str(self.path)))

    def _without_lists(self, text: bytes) -> bytes:
        """A document with the number of each list of vertices and triangles in its place."""
        pieces, at = [], 0
        while (found := _LIST.search(text, at)) is not None:
            end = found.end() if found[2] else text.find(b"</" + found[1], found.end())
            behind = end if found[2] else text.find(b">", end) + 1
            if end < 0 or behind <= 0:
                break  # the XML library says what is wrong
            pieces += [text[at : found.start()], b'<%s list="%d"/>' % (found[1], len(self.lists))]
            self.lists.append(b"" if found[2] else text[found.end() : end])
            at = behind
        return b"".join([*pieces, text[at:]])

    def scene(self) -> Scene:
        unit = self.root.get("unit", "millimeter")
        if unit not in UNITS:
            self.note("assumed", f"'{unit}' is not a unit of 3MF; millimetres are taken")
        for one in children(child(self.root, "resources")):
            kind, known = name_of(one), one.get("id", "")
            if kind == "basematerials":
                self.materials[known] = [_material(base, n) for n, base in enumerate(children(one, "base"))]
            elif kind == "object":
                self.objects[known] = one
            else:
                self.note("lost", f"{kind} is not carried")
        roots = []
        for item in children(child(self.root, "build"), "item"):
            node = self._node(item, 0)
            roots += [node] if node is not None else []
        title = next((one.text for one in children(self.root, "metadata") if one.get("name") == "Title"), None)
        frame = Frame("right forward up", UNITS.get(unit, UNITS["millimeter"]))
        return Scene(tuple(roots), frame, title or self.path.stem, tuple(self.notes.values()), self.path)

    def _node(self, placing: Element, depth: int) -> Node | None:
        """What an item of the build, or a component, places: an object by its number, and where."""
        self.count += 1
        if depth > _DEEPEST or self.count > _MOST_NODES:
            raise InputError("its objects are nested recursively.", file=self.path)
        known = placing.get("objectid", "")
        element = self.objects.get(known)
        if element is None:
            self.note("lost", f"object {known} that is placed is not there")
            return None
        name = element.get("name") or f"object_{known}"
        mesh = self._mesh(known, element, name) if child(element, "mesh") is not None else None
        below: list[Node] = []
        for one in children(child(element, "components"), "component"):
            own = self._node(one, depth + 1)
            if own is None:
                continue
            # A mesh that is placed plainly is what the object shows.
            if mesh is None and own.mesh is not None and not own.children and not one.get("transform"):
                mesh = own.mesh
            else:
                below.append(own)
        return Node(name, self._transform(placing, name), tuple(below), mesh)

    def _transform(self, placing: Element, name: str) -> NDArray[np.float64]:
        """Rows of four points of a matrix for rows (specification, section 3.3)."""
        matrix = np.eye(4)
        text = placing.get("transform")
        if text is None:
            return matrix
        values = floats(text)
        if len(values) != 12 or not np.isfinite(values).all():
            self.note("lost", f"the transform of '{name}' cannot be read")
            return matrix
        matrix[:3] = values.reshape(4, 3).T
        return matrix

    def _mesh(self, known: str, element: Element, name: str) -> Mesh | None:
        if known not in self.meshes:
            self.meshes[known] = self._read_mesh(element, name)
        return self.meshes[known]

    def _read_mesh(self, element: Element, name: str) -> Mesh | None:
        body = child(element, "mesh")
        points = self._table(child(body, "vertices"), ("x", "y", "z"))
        rows = self._table(child(body, "triangles"), ("v1", "v2", "v3", "pid", "p1"))
        corners = np.nan_to_num(rows[:, :3], nan=-1.0, posinf=-1.0, neginf=-1.0).clip(-1, 2**31 - 1).astype(np.int64)
        there = (corners >= 0) & (corners < len(points))
        sound = usable_rows(points)
        good = there & (sound[np.where(there, corners, 0)] if len(points) else there)
        whole = good.all(axis=1)
        if not whole.all():
            text = f"object '{name}': {count_of(int((~whole).sum()), 'triangle')} without usable corners left out"
            self.note("lost", text)
        corners, rows = corners[whole], rows[whole]
        if not len(corners):
            self.note("lost", f"object '{name}' has no usable triangle")
            return None
        used, index = compact(corners.ravel())
        slots, of_face = self._slots(element, rows)
        start = np.arange(0, corners.size + 1, 3, dtype=np.int32)
        several = of_face if len(slots) > 1 else None
        return Mesh.taking(name, points[used], start, index, (), slots, several)

    def _slots(
        self, element: Element, rows: NDArray[np.float64]
    ) -> tuple[tuple[Material | None, ...], NDArray[np.int32]]:
        """The material of each triangle: its own, else that of the object."""
        said = np.where((rows[:, 3:] >= 0) & (rows[:, 3:] < 2**31), rows[:, 3:], -1.0).astype(np.int64)
        # Both numbers in one, which sorts far sooner than pairs do.
        keys, of_face = np.unique((said[:, 0] + 1) << 32 | (said[:, 1] + 1), return_inverse=True)
        pairs = np.stack([(keys >> 32) - 1, (keys & 0xFFFFFFFF) - 1], axis=1)
        whole = element.get("pid", ""), int(min(max(number(element.get("pindex"), 0.0), -1.0), 2.0**31))
        slots = []
        for one, n in pairs.tolist():
            pid, index = (str(one), n) if n >= 0 and one >= 0 else (whole[0], n if n >= 0 else whole[1])
            found = self.materials.get(pid, [])
            if pid and pid not in self.materials:
                self.note("lost", "colours and textures beyond the core of 3MF are not carried")
            slots.append(found[index] if 0 <= index < len(found) else None)
        return tuple(slots), of_face.ravel().astype(np.int32)

    def _table(self, element: Element | None, names: Sequence[str]) -> NDArray[np.float64]:
        """(N, n) what some attributes of each element of a list say, NaN where one does not."""
        place = floats(element.get("list") if element is not None else None)
        text = self.lists[int(place[0])] if len(place) and 0 <= place[0] < len(self.lists) else b""
        return attributes(text, names)


def attributes(text: bytes, names: Sequence[str]) -> NDArray[np.float64]:
    """(N, n) the numbers of some attributes of the elements in a text, whatever order they are in; NaN for none."""
    data = np.frombuffer(text, np.uint8)
    ends = [0]
    if b"<!--" not in text:
        # Values hold no beginnings of elements, so that the text may be cut at any.
        while (cut := text.find(b"<", ends[-1] + _PIECE)) >= 0:
            ends.append(cut)
    pieces = list(pairwise([*ends, len(data)]))
    counts = [*in_order(lambda first, stop: kernels.count_elements(data, first, stop), pieces)]
    rows = dict(zip(pieces, pairwise(np.cumsum([0, *counts]).tolist()), strict=True))
    words = np.frombuffer("".join(names).encode(), np.uint8)
    starts = np.cumsum([0, *map(len, names)])
    out = np.full((sum(counts), len(names)), np.nan)

    def fill(first: int, stop: int) -> None:
        begin, end = rows[first, stop]
        kernels.read_attributes(data, first, stop, words, starts, out[begin:end])

    for _ in in_order(fill, pieces):
        pass
    return out


def _model_in(files: Mapping[str, bytes]) -> str | None:
    """The name of the model, as the relationships of the package say (Open Packaging Conventions)."""
    said = files.get("_rels/.rels", b"")
    for found in re.finditer(rb"<(?:\w+:)?Relationship\b[^>]*>", said):
        target = re.search(rb'Target\s*=\s*"/?([^"]+)"', found[0])
        if b"/3dmodel" in found[0] and target and target[1].decode("utf-8", "replace") in files:
            return target[1].decode("utf-8", "replace")
    return next((name for name in files if name.lower().endswith(".model")), None)


def _material(base: etree._Element, number: int) -> Material:
    found = _COLOR.match(base.get("displaycolor", ""))
    values = [int(found[1][k : k + 2], 16) / 255 for k in (0, 2, 4)] if found else [0.8, 0.8, 0.8]
    alpha = int(found[2], 16) / 255 if found and found[2] else 1.0
    mode = "blend" if alpha < 1 else "opaque"
    return sound_material(
        base.get("name") or f"material_{number}", base_color=(*values, alpha), metallic=0.0, alpha_mode=mode
    )
