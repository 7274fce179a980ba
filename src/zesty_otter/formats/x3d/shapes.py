"""X3D geometry nodes to meshes (ISO/IEC 19775-1, chapters 11, 13 and 14)."""

from __future__ import annotations

import math
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import points_into, usable_rows
from zesty_otter.formats.strips import triangles_of_strips
from zesty_otter.formats.x3d.swept import creased, elevation_grid, extrusion, is_true
from zesty_otter.formats.xml import Element, children, floats, ints, name_of, number
from zesty_otter.model import Layer, Mesh, compact, count_of

Note = Callable[[str, str], None]
Resolve = Callable[[Element], Element]

PATCHES = frozenset({"NurbsPatchSurface", "NurbsTrimmedSurface", "NurbsSurface"})
FACE_SETS = frozenset(
    {
        "IndexedFaceSet",
        "IndexedTriangleSet",
        "IndexedTriangleStripSet",
        "IndexedTriangleFanSet",
        "IndexedQuadSet",
        "TriangleSet",
        "TriangleStripSet",
        "TriangleFanSet",
        "QuadSet",
    }
)
PRIMITIVES = frozenset({"Box", "Sphere", "Cone", "Cylinder"})
SWEPT = frozenset({"ElevationGrid", "Extrusion"})

_AROUND = 32  # sides of a round primitive


def read_geometry(element: Element, name: str, resolve: Resolve, note: Note) -> Mesh | None:
    """The mesh of a geometry node; None, with a note, when it holds no faces."""
    kind = name_of(element)
    if kind in PRIMITIVES:
        return _primitive(element, kind, name)
    if kind in SWEPT:
        made = elevation_grid(element, name) if kind == "ElevationGrid" else extrusion(element, name)
        if made is None:
            note("lost", f"{kind} '{name}' has no usable face")
        return made
    if kind not in FACE_SETS:
        note("lost", f"geometry of the kind {kind} is not carried")
        return None
    mesh = _FaceSet(element, kind, name, resolve, note).mesh()
    if mesh is None:
        note("lost", f"{kind} '{name}' has no usable face")
    return mesh


class _FaceSet:
    def __init__(self, element: Element, kind: str, name: str, resolve: Resolve, note: Note) -> None:
        self.element, self.kind, self.name, self.note = element, kind, name, note
        self.parts = {name_of(one): resolve(one) for one in children(element)}

    def _table(self, node: str, field: str, width: int) -> NDArray[np.float64]:
        part = self.parts.get(node)
        values = floats(part.get(field)) if part is not None else np.zeros(0)
        return values[: len(values) // width * width].reshape(-1, width)

    def mesh(self) -> Mesh | None:
        points = self._table("Coordinate", "point", 3)
        if not len(points):
            points = self._table("CoordinateDouble", "point", 3)
        point, size, place, face = self._corners(len(points))
        point, size, place, face = self._usable(points, point, size, place, face)
        if not len(size):
            return None
        start = np.concatenate([[0], np.cumsum(size)]).astype(np.int32)
        used, corner_point = compact(point)
        layers = [
            *self._layer("normal", self._table("Normal", "vector", 3), point, place, face, size),
            *self._layer("uv", self._uv_table(), point, place, face, size),
            *self._layer("color", self._color_table(), point, place, face, size),
        ]
        mesh = Mesh.taking(self.name, points[used], start, corner_point, tuple(layers))
        if not is_true(self.element, "ccw", True):
            mesh = mesh.turned_round()
        if mesh.normals is not None or self.kind != "IndexedFaceSet":
            return mesh
        return creased(mesh, number(self.element.get("creaseAngle"), 0.0))

    def _corners(self, count: int) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any]]:
        """For every corner its point and its place in the index; for every face its size and number."""
        kind = self.kind
        if kind == "IndexedFaceSet":
            index: NDArray[Any] = ints(self.element.get("coordIndex"))
            breaks = index < 0
            place = np.flatnonzero(~breaks)
            # What stands between two breaks is a face, where it is anything.
            ends = np.flatnonzero(np.append(breaks, True))
            sizes = np.diff(ends, prepend=-1) - 1
            faces = np.flatnonzero(sizes)
            return index[place], sizes[faces], place, faces
        indexed = kind.startswith("Indexed")
        index = ints(self.element.get("index")).astype(np.int64) if indexed else np.arange(count)
        if kind.endswith(("StripSet", "FanSet")):
            fans = kind.endswith("FanSet")
            if not indexed:
                lengths = ints(self.element.get("fanCount" if fans else "stripCount"))
                ends = np.cumsum(np.maximum(lengths, 0))
                index = np.insert(index[: int(ends[-1]) if len(ends) else 0], ends[:-1][ends[:-1] <= len(index)], -1)
            corners = triangles_of_strips(index < 0, fans=fans)
            of = index[corners]
            flat = (of[:, 0] == of[:, 1]) | (of[:, 1] == of[:, 2]) | (of[:, 0] == of[:, 2]) if len(of) else of[:, 0] > 0
            place = corners[~flat].ravel()
            return index[place], np.full(len(place) // 3, 3), place, np.arange(len(place) // 3)
        sides = 4 if "Quad" in kind else 3
        place = np.arange(len(index) // sides * sides)
        return index[place], np.full(len(place) // sides, sides), place, np.arange(len(place) // sides)

    def _usable(
        self, points: NDArray[Any], point: NDArray[Any], size: NDArray[Any], place: NDArray[Any], face: NDArray[Any]
    ) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any]]:
        finite = usable_rows(points)
        if len(size) and int(size.min()) >= 3 and points_into(point, len(points)) and finite.all():
            return point, size, place, face
        there = (point >= 0) & (point < len(points))
        good = there & finite[np.where(there, point, 0)] if len(points) else there
        of = np.repeat(np.arange(len(size)), size)
        bad = (size < 3) | (np.bincount(of, ~good, len(size)) > 0)
        if not bad.any():
            return point, size, place, face
        self.note("lost", f"'{self.name}': {count_of(int(bad.sum()), 'face')} without three usable corners left out")
        kept = ~bad[of]
        return point[kept], size[~bad], place[kept], face[~bad]

    def _layer(
        self,
        kind: str,
        table: NDArray[Any],
        point: NDArray[Any],
        place: NDArray[Any],
        face: NDArray[Any],
        size: NDArray[Any],
    ) -> list[Layer]:
        """A layer of values at vertices or at faces, with an index of its own or that of the points."""
        if not len(table):
            return []
        words = {"normal": ("normalIndex", "normalPerVertex"), "color": ("colorIndex", "colorPerVertex")}
        key, per = words.get(kind, ("texCoordIndex", ""))
        own = ints(self.element.get(key)) if self.kind == "IndexedFaceSet" else np.zeros(0, np.int32)
        if per and not is_true(self.element, per, True):
            of = np.repeat(_taken(own, face) if len(own) else face, size)
        else:
            of = _taken(own, place) if len(own) else point
        finite = usable_rows(table)
        if not (finite.all() and points_into(of, len(table))):
            good = (of >= 0) & (of < len(table))
            of = np.where(good & finite[np.where(good, of, 0)], of, -1)
        used, index32 = compact(of)
        values = table if len(used) == len(table) else table[used]
        return [Layer.taking(kind, np.clip(values, 0, 1) if kind == "color" else values, index32)] if len(used) else []

    def _uv_table(self) -> NDArray[np.float64]:
        several = self.parts.get("MultiTextureCoordinate")
        if several is not None:
            first = next(children(several, "TextureCoordinate"), None)
            if first is not None:
                self.parts["TextureCoordinate"] = first
            self.note("lost", "several texture coordinates share one index; the first set is taken")
        return self._table("TextureCoordinate", "point", 2)

    def _color_table(self) -> NDArray[np.float64]:
        table = self._table("Color", "color", 3)
        return table if len(table) else self._table("ColorRGBA", "color", 4)


def _taken(index: NDArray[Any], at: NDArray[Any]) -> NDArray[Any]:
    """Entries of an index, -1 beyond its end."""
    if len(at) and int(at.max()) < len(index):
        return index[at]
    return np.where(at < len(index), index[np.minimum(at, len(index) - 1)], -1)


def _primitive(element: Element, kind: str, name: str) -> Mesh:
    if kind == "Box":
        x, y, z = (*floats(element.get("size")).tolist(), 2.0, 2.0, 2.0)[:3]
        points = np.array([[a, b, c] for c in (-0.5, 0.5) for b in (-0.5, 0.5) for a in (-0.5, 0.5)]) * (x, y, z)
        faces = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]]
        return Mesh.from_faces(name, points, faces)
    radius = number(element.get("bottomRadius" if kind == "Cone" else "radius"), 1.0)
    height = number(element.get("height"), 2.0)
    if kind == "Sphere":
        angle = np.linspace(-math.pi / 2, math.pi / 2, _AROUND // 2 + 1)
        outline = np.stack([np.cos(angle), np.sin(angle)], axis=1) * radius
        outline[[0, -1], 0] = 0.0
    elif kind == "Cone":
        outline = np.array([[0, -height / 2], [radius, -height / 2], [0, height / 2]])
    else:
        outline = np.array([[0, -height / 2], [radius, -height / 2], [radius, height / 2], [0, height / 2]])
    return turned_outline(name, outline, smooth=kind == "Sphere")


def turned_outline(name: str, outline: NDArray[np.float64], *, smooth: bool) -> Mesh:
    """The surface of an outline (N, 2) of radius and height, turned about +Y, its ends on the axis."""
    around = np.arange(_AROUND) * (2 * math.pi / _AROUND)
    points: list[NDArray[np.float64]] = []
    rings: list[list[int]] = []
    for radius, height in outline:
        first = len(points)
        if radius == 0:
            points.append(np.array([0.0, height, 0.0]))
            rings.append([first] * _AROUND)
        else:
            points += [np.array([radius * math.sin(a), height, radius * math.cos(a)]) for a in around]
            rings.append(list(range(first, first + _AROUND)))
    faces, groups = [], []
    for band, (low, high) in enumerate(pairwise(rings)):
        flat = outline[band, 1] == outline[band + 1, 1]
        if flat and (low[0] == low[1] or high[0] == high[1]):
            # An end is one polygon.
            ring = high[::-1] if low[0] == low[1] else low
            faces.append(ring)
            groups.append(0)
            continue
        for k in range(_AROUND):
            n = (k + 1) % _AROUND
            face = [low[k], low[n], high[n], high[k]]
            faces.append([p for at, p in enumerate(face) if p != face[at - 1]])
            groups.append(1 if smooth else 2)
    return Mesh.from_faces(name, np.array(points), faces, face_smoothing=np.array(groups))
