"""UsdGeomMesh, and the simple solids, to meshes (Pixar, "UsdGeom": Mesh, Primvar, Subset, Gprim)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import points_into, usable_rows
from zesty_otter.formats.usd import _integers as kernels
from zesty_otter.formats.usd.text import Prim, Property, listed, word_in
from zesty_otter.formats.x3d.shapes import turned_outline
from zesty_otter.geometry.surface.corners import join_rows
from zesty_otter.model import Layer, Mesh, compact, compact_within, count_of, shortened

Note = Callable[[str, str], None]

_UV_TYPES = ("texCoord2f", "texCoord2d", "texCoord2h", "float2")

SOLIDS = frozenset({"Cube", "Sphere", "Cylinder", "Cone", "Capsule", "Plane"})


def value_of(prim: Prim, name: str) -> Any:
    """What a property says: its value, else its earliest sample."""
    one = prim.properties.get(name)
    if one is None:
        return None
    if one.value is None and one.samples:
        return one.samples[min(one.samples)]
    return one.value


def word_of(prim: Prim, name: str) -> str:
    """The word a property says; "" where it says something else, or nothing."""
    value = value_of(prim, name)
    return value if isinstance(value, str) else ""


def words_of(prim: Prim, name: str) -> list[str]:
    """The words in the list a property says."""
    return [one for one in listed(value_of(prim, name)) if isinstance(one, str)]


def numbers_of(prim: Prim, name: str) -> NDArray[np.float64]:
    """The numbers of a property; none when it says none."""
    value = value_of(prim, name)
    if isinstance(value, np.ndarray):
        return value
    if isinstance(value, bool) or not isinstance(value, int | float):
        return np.zeros(0)
    return np.array([float(value)])


def whole_numbers_of(prim: Prim, name: str) -> NDArray[np.int32]:
    """The whole numbers of a property; those that are none are -1."""
    found = numbers_of(prim, name)
    if found.dtype == np.int32:
        return np.asarray(found, np.int32)
    return np.clip(np.nan_to_num(found, nan=-1.0), -(2**31), 2**31 - 1).astype(np.int32)


@dataclass(frozen=True)
class Shape:
    """The mesh of a prim, without materials, and which faces and points of the file it has, None for all."""

    mesh: Mesh
    kept_faces: NDArray[np.int64] | None = None
    kept_points: NDArray[np.int64] | None = None

    @property
    def faces(self) -> NDArray[np.int64]:
        """(F,) the number each face has in the file."""
        return np.arange(self.mesh.face_count) if self.kept_faces is None else self.kept_faces

    @property
    def points(self) -> NDArray[np.int64]:
        """(P,) the number each point has in the file."""
        return np.arange(self.mesh.point_count) if self.kept_points is None else self.kept_points


def read_mesh(prim: Prim, path: str, note: Note) -> Shape | None:
    """The shape of a mesh prim; None, with a note, when it has no usable face."""
    points = as_rows(numbers_of(prim, "points"), 3)
    size = whole_numbers_of(prim, "faceVertexCounts")
    point = whole_numbers_of(prim, "faceVertexIndices")
    holes = whole_numbers_of(prim, "holeIndices")
    finite = usable_rows(points)
    start = np.zeros(len(size) + 1, np.int32)
    # Nearly all meshes are as they should be, which takes a look at every number.
    if len(size) and not len(holes) and finite.all() and kernels.starts(size, len(point), start) == len(size):
        point = point[: start[-1]]
        placed = compact_within(point, len(points))
        if placed is not None:
            places = _Places(point, size, None)
            places.known["vertex"], places.within[len(points)] = placed, True
            return _shape(prim, points, None, start, places, path, note)
    if len(size) and size.min() < 0:
        size = np.maximum(size, 0)
    whole = len(size)
    if size.sum() > len(point):
        whole = int(np.searchsorted(np.cumsum(size), len(point), side="right"))
    if whole < len(size):
        note("lost", f"{path}: {count_of(len(size) - whole, 'face')} without corners left out")
    all_sizes = size[:whole]
    point = point[: int(all_sizes.sum())]
    bad = all_sizes < 3
    if not (finite.all() and points_into(point, len(points))):
        good = (point >= 0) & (point < len(points))
        if len(points):
            good &= finite[np.where(good, point, 0)]
        bad |= np.bincount(_face_of_corner(all_sizes), ~good, whole) > 0
    unwanted = bad.copy()
    unwanted[holes[(holes >= 0) & (holes < whole)]] = True
    if bad.any():
        note("lost", f"{path}: {count_of(int(bad.sum()), 'face')} without three usable corners left out")
    faces = np.flatnonzero(~unwanted)
    if not len(faces):
        note("lost", f"{path} has no usable face")
        return None
    kept = ~unwanted[_face_of_corner(all_sizes)] if unwanted.any() else None
    places = _Places(point if kept is None else point[kept], all_sizes, kept)
    start = np.zeros(len(faces) + 1, np.int32)
    np.cumsum(all_sizes if kept is None else all_sizes[faces], out=start[1:])
    return _shape(prim, points, faces, start, places, path, note)


def _shape(
    prim: Prim, points: NDArray[np.float64], faces: NDArray[np.int64] | None, start: NDArray[np.int32],
    places: _Places, path: str, note: Note,
) -> Shape:  # fmt: skip
    """The shape of faces that have points."""
    used, corner_point = places.compacted("vertex")
    layers = tuple(_layers(prim, places, path, note))
    positions = _only(points, used).astype(np.float64, copy=False)
    mesh = Mesh.trusted(prim.name, positions, start, corner_point, layers=layers)
    if word_of(prim, "orientation") == "leftHanded":
        mesh = mesh.turned_round()
    return Shape(mesh, faces, used)


def _only(table: NDArray[Any], used: NDArray[np.int64] | None) -> NDArray[Any]:
    """The rows of a table that are used; the table itself where all are."""
    return table if used is None or len(used) == len(table) else table[used]


def as_rows(values: NDArray[np.float64], width: int) -> NDArray[np.float64]:
    """Numbers as the rows of a table, without a last one that is not whole."""
    return values[: len(values) // width * width].reshape(-1, width)


def _face_of_corner(sizes: NDArray[np.int32]) -> NDArray[np.int32]:
    return np.repeat(np.arange(len(sizes), dtype=np.int32), sizes)


class _Places:
    """What a value of a primvar is for at each corner that is read: the corner, the point, the face or the mesh."""

    def __init__(self, point: NDArray[np.int32], sizes: NDArray[np.int32], kept: NDArray[np.bool_] | None) -> None:
        self.point, self.sizes, self.kept = point, sizes, kept
        self.made: dict[str, NDArray[np.int32]] = {}
        self.known: dict[str, tuple[NDArray[np.int64] | None, NDArray[np.int32]]] = {}
        self.within: dict[int, bool] = {}

    def __len__(self) -> int:
        return len(self.point)

    def of(self, how: str) -> NDArray[np.int32]:
        if how in ("vertex", "varying"):
            return self.point
        if how not in self.made:
            if how == "constant":
                self.made[how] = np.zeros(len(self.point), np.int32)
            else:
                count = int(self.sizes.sum())
                found = np.arange(count, dtype=np.int32) if how == "faceVarying" else _face_of_corner(self.sizes)
                self.made[how] = found if self.kept is None else found[self.kept]
        return self.made[how]

    def all_within(self, rows: NDArray[np.int32], count: int) -> bool:
        """Whether the rows of all corners are among so many: asked once of those that primvars share."""
        if rows is not self.point:
            return points_into(rows, count)
        if count not in self.within:
            self.within[count] = points_into(rows, count)
        return self.within[count]

    def compacted(self, how: str) -> tuple[NDArray[np.int64] | None, NDArray[np.int32]]:
        """What `compact_within` makes of the places, once for all primvars that share them."""
        how = "vertex" if how == "varying" else how
        if how not in self.known:
            self.known[how] = compact(self.of(how))
        return self.known[how]


def _layers(prim: Prim, places: _Places, path: str, note: Note) -> Iterator[Layer]:
    def primvar(name: str, width: int) -> tuple[NDArray[np.float32], NDArray[np.int32]] | None:
        return _primvar(prim, name, width, places)

    normals = primvar("primvars:normals", 3) or primvar("normals", 3)
    if normals is not None:
        yield Layer.taking("normal", *normals)
    for name in uv_names(prim):
        found = primvar(f"primvars:{name}", 2)
        if found is not None:
            said = word_in(prim.properties[f"primvars:{name}"].meta, "displayName")
            yield Layer.taking("uv", *found, name=said or ("" if name == "st" else name))
    color = primvar("primvars:displayColor", 3)
    # One colour for the whole prim is what it is drawn in where nothing else says so.
    spread = word_in(prim.properties["primvars:displayColor"].meta, "interpolation") if color is not None else ""
    if color is not None and spread != "constant" and (spread or len(color[0]) > 1):
        values, index = color
        opacity = primvar("primvars:displayOpacity", 1)
        if opacity is not None and np.array_equal(opacity[1], index):
            values = np.concatenate([values, opacity[0]], axis=1)
        yield Layer.taking("color", np.clip(values, 0, 1), index)
    others = [one for one in prim.properties if one.startswith("primvars:") and one.count(":") == 1
              and one[9:] not in (*uv_names(prim), "normals", "displayColor", "displayOpacity")]  # fmt: skip
    if others:
        note("lost", f"{path}: primvars not carried: {shortened((one[9:] for one in others), 6)}")


def uv_names(prim: Prim) -> list[str]:
    """The UV sets of a mesh by name: the usual first one first, then in order of name."""
    found = [
        name[9:]
        for name, one in prim.properties.items()
        if name.startswith("primvars:") and one.type.rstrip("[]") in _UV_TYPES
    ]
    return sorted(found, key=lambda name: (name != "st", name))


def _primvar(
    prim: Prim, name: str, width: int, places: _Places
) -> tuple[NDArray[np.float32], NDArray[np.int32]] | None:
    """The table of a primvar and the row of every corner."""
    values = as_rows(numbers_of(prim, name), width)
    if not len(values):
        return None
    one = prim.properties[name]
    index = whole_numbers_of(prim, f"{name}:indices")
    rows = index if len(index) else None
    how = _interpolation(one, name, len(values) if rows is None else len(rows), places)
    if rows is None:
        of = places.of(how)
    elif how == "faceVarying" and len(places) == len(rows) and places.kept is None:
        of = rows  # those of all corners, in their order
    else:
        place = places.of(how)
        of = np.where(place < len(rows), rows[np.minimum(place, len(rows) - 1)], -1)
    finite = usable_rows(values)
    used: NDArray[np.int64] | None
    sound = bool(finite.all()) and places.all_within(of, len(values))
    if not sound:
        good = (of >= 0) & (of < len(values))
        of = np.where(good & finite[np.where(good, of, 0)], of, -1)
    if rows is None and len(values) == len(places) and len(values) > 1:
        # A value for every corner: those that are the same are one again.
        joined = join_rows((values if sound else np.nan_to_num(values)).astype(np.float32, copy=False))
        of = joined[of] if sound else np.where(of >= 0, joined[of], -1)
        used, index = compact(of)
    elif rows is None and sound:
        used, index = places.compacted(how)
    else:
        used, index = compact(of)
    return _only(values, used).astype(np.float32, copy=False), index


def _interpolation(one: Property, name: str, count: int, places: _Places) -> str:
    """How values are spread over the surface; told from their number when it is not said."""
    said = word_in(one.meta, "interpolation")
    if said in ("constant", "uniform", "varying", "vertex", "faceVarying"):
        return said
    if name == "normals":
        return "vertex" if count < len(places) else "faceVarying"
    return "constant" if count == 1 else "faceVarying" if count == len(places) else "vertex"


def read_solid(prim: Prim) -> Mesh:
    """A cube, sphere, cylinder, cone, capsule or plane, as polygons."""
    axis = word_of(prim, "axis") or "Z"
    # Made about Y, or on XZ, and brought to their axis by changing the letters round.
    order = {"X": (1, 2, 0), "Y": (0, 1, 2)}.get(axis, (2, 0, 1))
    if prim.type == "Plane":
        wide, long = (float((*numbers_of(prim, name), 2.0)[0]) / 2 for name in ("width", "length"))
        # The width runs along X, or Z about X; the length along Y, or Z about Y ("UsdGeomPlane").
        x, z = (long, wide) if axis == "Z" else (wide, long)
        corners = np.array([[-x, 0, -z], [-x, 0, z], [x, 0, z], [x, 0, -z]])
        return Mesh.from_faces(prim.name, corners[:, order], [[0, 1, 2, 3]])
    if prim.type == "Cube":
        half = float((*numbers_of(prim, "size"), 2.0)[0]) / 2
        points = np.array([[a, b, c] for c in (-half, half) for b in (-half, half) for a in (-half, half)])
        faces = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]]
        return Mesh.from_faces(prim.name, points, faces)
    radius = float((*numbers_of(prim, "radius"), 1.0)[0])
    height = float((*numbers_of(prim, "height"), 2.0)[0]) / 2
    if prim.type == "Sphere":
        angle = np.linspace(-math.pi / 2, math.pi / 2, 17)
        outline = np.stack([np.cos(angle), np.sin(angle)], axis=1) * radius
        outline[[0, -1], 0] = 0.0
        return turned_outline(prim.name, outline, smooth=True)
    if prim.type == "Capsule":
        if "radius" not in prim.properties:
            radius = 0.5
        height = float((*numbers_of(prim, "height"), 1.0)[0]) / 2
        angle = np.linspace(0.0, math.pi / 2, 9)
        cap = np.stack([np.cos(angle), np.sin(angle)], axis=1) * radius
        cap[-1, 0] = 0.0
        outline = np.concatenate([(cap * (1, -1) - (0, height))[::-1], cap + (0, height)])
        mesh = turned_outline(prim.name, outline, smooth=True)
        return mesh.replace(points=mesh.points[:, order])
    top = [] if prim.type == "Cone" else [[radius, height]]
    outline = np.array([[0, -height], [radius, -height], *top, [0, height]])
    mesh = turned_outline(prim.name, outline, smooth=False)
    return mesh.replace(points=mesh.points[:, order])
