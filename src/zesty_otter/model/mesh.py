"""Polygon meshes with indexed per-corner data."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields
from functools import partial
from types import MappingProxyType
from typing import Any, TypeVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from zesty_otter.errors import ModelError
from zesty_otter.model.material import Material

T = TypeVar("T")

LAYER_WIDTHS = {"normal": (3,), "tangent": (4,), "uv": (2,), "color": (3, 4)}
"""The kinds of per-corner data and how many numbers each value may have."""

_INDEX_LIMIT = 2**31 - 1


@dataclass(frozen=True, eq=False)
class Layer:
    """Per-corner data as a table of values and an index for every corner.

    Parameters
    ----------
    kind : {"normal", "tangent", "uv", "color"}
        What the numbers mean. Tangents carry their sign as the fourth number; UVs have their origin in
        the lower left corner of the image.
    values : (K, n) float32
        The distinct values; corners that share one have no seam between them.
    index : (C,) int32
        The row of ``values`` for each corner of the mesh; -1 where the corner has none.
    name : str
        The name of a UV or colour set.
    """

    kind: str
    values: NDArray[np.float32]
    index: NDArray[np.int32]
    name: str = ""

    def __post_init__(self) -> None:
        values = _sealed(self.values, np.float32)
        index = _sealed(self.index, np.int32)
        if self.kind not in LAYER_WIDTHS:
            raise ModelError(f"'{self.kind}' is not a kind of layer.")
        if values.ndim != 2 or values.shape[1] not in LAYER_WIDTHS[self.kind]:
            raise ModelError(f"a {self.kind} layer cannot have values of shape {values.shape}.")
        object.__setattr__(self, "values", values)
        object.__setattr__(self, "index", index)

    def at_corners(self, missing: float = 0.0) -> NDArray[np.float32]:
        """(C, n) the value at every corner, ``missing`` where it has none."""
        if len(self.values) == 0:
            return np.full((len(self.index), self.values.shape[1]), missing, np.float32)
        taken = self.values[self.index]
        if self.has_holes:
            taken[self.index < 0] = missing
        return taken

    @property
    def has_holes(self) -> bool:
        """Whether some corner has no value."""
        return len(self.index) > 0 and int(self.index.min()) < 0


@dataclass(frozen=True, eq=False)
class Mesh:
    """Polygons of any size over shared points.

    Parameters
    ----------
    points : (P, 3) float64
        Positions in the mesh's own space, in the unit of the scene's frame.
    face_start : (F + 1,) int32
        Where each face's corners begin in ``corner_point``; the last entry is the corner count.
    corner_point : (C,) int32
        The point of each corner, in such order that the cross product of a face's edges points outward:
        counter-clockwise seen from outside in a right-handed frame, clockwise in a left-handed one.
    layers : tuple of Layer
        Normals, tangents, UV sets and colours, in order.
    slots : tuple of Material or None
        The material of each slot.
    face_slot : (F,) int32, optional
        The slot of each face; all zero when absent.
    face_smoothing : (F,) int32, optional
        Smoothing group of each face, 0 for none.
    face_sets, point_sets : mapping of str to index array
        Named faces and points.

    Raises
    ------
    ModelError
        When an index points nowhere, a position is not finite, a face has fewer than three corners or
        sizes disagree. Data is checked here, where it enters; `replace` trusts its caller.
    """

    name: str
    points: NDArray[np.float64]
    face_start: NDArray[np.int32]
    corner_point: NDArray[np.int32]
    layers: tuple[Layer, ...] = ()
    slots: tuple[Material | None, ...] = (None,)
    face_slot: NDArray[np.int32] | None = None
    face_smoothing: NDArray[np.int32] | None = None
    face_sets: Mapping[str, NDArray[np.int32]] = field(default_factory=lambda: MappingProxyType({}))
    point_sets: Mapping[str, NDArray[np.int32]] = field(default_factory=lambda: MappingProxyType({}))
    properties: Mapping[str, Any] = field(default_factory=lambda: MappingProxyType({}))

    def __post_init__(self) -> None:
        self._seal()
        self._check()

    @staticmethod
    def from_faces(name: str, points: ArrayLike, faces: list[list[int]], **rest: Any) -> Mesh:
        """A mesh from a list of faces, each a list of point indices: for small meshes made by hand."""
        start = np.concatenate([[0], np.cumsum([len(face) for face in faces])]) if faces else np.zeros(1)
        corners = np.concatenate([np.asarray(face) for face in faces]) if faces else np.zeros(0)
        return Mesh(name, np.asarray(points, float).reshape(-1, 3), start.astype(int), corners.astype(int), **rest)

    @classmethod
    def trusted(cls, name: str, points: NDArray[np.float64], face_start: Any, corner_point: Any, **rest: Any) -> Mesh:
        """A mesh whose maker has checked what the constructor would check, for readers that meet every number."""
        return _EMPTY.replace(name=name, points=points, face_start=face_start, corner_point=corner_point, **rest)

    @property
    def point_count(self) -> int:
        return len(self.points)

    @property
    def face_count(self) -> int:
        return len(self.face_start) - 1

    @property
    def corner_count(self) -> int:
        return len(self.corner_point)

    @property
    def triangle_count(self) -> int:
        """How many triangles triangulation would give."""
        return self.corner_count - 2 * self.face_count

    @property
    def face_size(self) -> NDArray[np.int32]:
        """(F,) how many corners each face has."""
        return np.diff(self.face_start)

    @property
    def corner_face(self) -> NDArray[np.int32]:
        """(C,) the face each corner belongs to."""
        return np.repeat(np.arange(self.face_count, dtype=np.int32), self.face_size)

    @property
    def all_triangles(self) -> bool:
        return self.corner_count == 3 * self.face_count

    @property
    def slot_of_face(self) -> NDArray[np.int32]:
        """(F,) the slot of each face, also when `face_slot` is absent."""
        return np.zeros(self.face_count, np.int32) if self.face_slot is None else self.face_slot

    @property
    def used_slots(self) -> tuple[int, ...]:
        """The slots that faces have, lowest first."""
        return tuple(np.flatnonzero(np.bincount(self.slot_of_face)).tolist())

    @property
    def point_used(self) -> NDArray[np.bool_]:
        """(P,) whether a face uses the point."""
        return self.cached(_point_used)

    @property
    def surface_bounds(self) -> NDArray[np.float64]:
        """(2, 3) lowest and highest corner of all faces (of all points when there are no faces)."""
        return self.cached(_surface_bounds)

    def layers_of(self, kind: str) -> tuple[Layer, ...]:
        """The layers of one kind, in order."""
        return tuple(layer for layer in self.layers if layer.kind == kind)

    @property
    def normals(self) -> Layer | None:
        return next(iter(self.layers_of("normal")), None)

    @property
    def uv_sets(self) -> tuple[Layer, ...]:
        return self.layers_of("uv")

    def cached(self, compute: Callable[[Mesh], T]) -> T:
        """The result of ``compute(self)``, computed when first asked and kept with the mesh."""
        return self._keep(compute, lambda: compute(self))

    def _keep(self, key: Any, make: Callable[[], T]) -> T:
        kept: dict[Any, Any] = self.__dict__.setdefault("_kept", {})
        if key not in kept:
            kept[key] = make()
        result: T = kept[key]
        return result

    def surface(self, compute: Callable[[NDArray[Any], NDArray[Any], NDArray[Any]], T]) -> T:
        """``compute(points, face_start, corner_point)``, computed when first asked and kept with the mesh."""
        return self._keep(compute, lambda: compute(self.points, self.face_start, self.corner_point))

    def replace(self, **changes: Any) -> Mesh:
        """A mesh with some fields changed; the others are shared. The caller vouches for the new ones."""
        new = object.__new__(Mesh)
        new.__dict__.update({f.name: getattr(self, f.name) for f in fields(self)})
        new.__dict__.update(changes)
        new._seal()
        return new

    def take_faces(self, faces: NDArray[Any], name: str | None = None) -> Mesh:
        """The mesh of some faces, in the given order, with only the points, values and slots they use."""
        faces = np.asarray(faces)
        if faces.dtype == bool:
            faces = np.flatnonzero(faces)
        corners, start = corners_of_faces(self.face_start, faces)
        used, corner_point = compact(self.corner_point[corners])
        slots, face_slot = compact(self.slot_of_face[faces])
        return self.replace(
            name=self.name if name is None else name,
            points=self.points[used],
            face_start=start,
            corner_point=corner_point,
            layers=tuple(_take_corners(layer, corners) for layer in self.layers),
            slots=tuple(self.slots[slot] for slot in slots) or self.slots[:1],
            face_slot=face_slot,
            face_smoothing=None if self.face_smoothing is None else self.face_smoothing[faces],
            face_sets=_renumbered_sets(self.face_sets, faces, self.face_count),
            point_sets=_renumbered_sets(self.point_sets, used, self.point_count),
        )

    def keep_points(self, kept: NDArray[np.bool_]) -> Mesh:
        """The mesh without some points, which no face may use; ``kept`` is (P,)."""
        number = np.cumsum(kept, dtype=np.int32) - np.int32(1)
        return self.replace(
            points=self.points[kept],
            corner_point=number[self.corner_point],
            point_sets=_renumbered_sets(self.point_sets, np.flatnonzero(kept), self.point_count),
        )

    def turned_round(self, faces: NDArray[np.bool_] | None = None) -> Mesh:
        """The same mesh with faces seen from their other side, all or those in ``faces`` (F,).

        Normals are left as they are.
        """
        order = _mirrored_order if faces is None else partial(_partly_mirrored, faces=faces)
        return self.with_index(lambda index: order(index, self.face_start))

    def with_index(self, change: Callable[[NDArray[np.int32]], NDArray[Any]], **changes: Any) -> Mesh:
        """The mesh with ``change(index)`` for the index of points and of every layer at the corners.

        Indices that share their memory are changed once and go on sharing it. Further ``changes`` are those
        of `replace`.
        """
        done: dict[Any, NDArray[Any]] = {}

        def changed(index: NDArray[np.int32]) -> NDArray[Any]:
            key = index.__array_interface__["data"][0], len(index)
            if key not in done:
                done[key] = change(index)
            return done[key]

        layers = tuple(Layer(one.kind, one.values, changed(one.index), one.name) for one in self.layers)
        return self.replace(corner_point=changed(self.corner_point), layers=layers, **changes)

    def _seal(self) -> None:
        dtypes: dict[str, Any] = {
            "points": np.float64,
            "face_start": np.int32,
            "corner_point": np.int32,
            "face_slot": np.int32,
            "face_smoothing": np.int32,
        }
        for name, dtype in dtypes.items():
            value = getattr(self, name)
            if value is not None:
                object.__setattr__(self, name, _sealed(value, dtype))

    def _check(self) -> None:
        place = f"mesh {self.name}"
        points, start, corners = self.points, self.face_start, self.corner_point
        if points.ndim != 2 or points.shape[1] != 3:
            raise ModelError(f"points must have shape (P, 3), not {points.shape}.", place=place)
        if not all_finite(points):
            bad = int(np.flatnonzero(~np.isfinite(points).all(axis=1))[0])
            raise ModelError(f"point {bad} has a position that is not a finite number.", place=place)
        if len(start) == 0 or start[0] != 0 or start[-1] != len(corners):
            raise ModelError("face_start must run from 0 to the number of corners.", place=place)
        if len(start) > 1 and int(np.diff(start).min()) < 3:
            face = int(np.argmin(np.diff(start)))
            raise ModelError(f"face {face} has fewer than three corners.", place=place)
        ranges: dict[Any, tuple[int, int]] = {}
        _check_index(corners, 0, len(points), "corner_point", place, ranges)
        for layer in self.layers:
            if len(layer.index) != len(corners):
                raise ModelError(
                    f"the {layer.kind} layer has {len(layer.index)} indices for {len(corners)} corners.",
                    place=place,
                )
            _check_index(layer.index, -1, len(layer.values), f"the {layer.kind} layer", place, ranges)
            if not all_finite(layer.values):
                raise ModelError(f"the {layer.kind} layer holds numbers that are not finite.", place=place)
        if not self.slots:
            raise ModelError("a mesh needs at least one slot (None for no material).", place=place)
        for name in ("face_slot", "face_smoothing"):
            value = getattr(self, name)
            if value is not None and len(value) != len(start) - 1:
                raise ModelError(f"{name} has {len(value)} entries for {len(start) - 1} faces.", place=place)
        if self.face_slot is not None:
            _check_index(self.face_slot, 0, len(self.slots), "face_slot", place)
        for sets, limit in ((self.face_sets, len(start) - 1), (self.point_sets, len(points))):
            for name, members in sets.items():
                _check_index(members, 0, limit, f"set {name}", place)


def corners_of_faces(face_start: NDArray[Any], faces: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The corner numbers of some faces, one face after the other, and where each face begins among them."""
    size = np.diff(face_start)[faces]
    start = np.concatenate([[0], np.cumsum(size, dtype=np.int64)])
    return np.repeat(face_start[faces] - start[:-1], size) + np.arange(start[-1]), start


def _mirrored_order(values: NDArray[np.int32], face_start: NDArray[np.int32]) -> NDArray[np.int32]:
    """Values at corners with the order in every face reversed, first corners kept where they are."""
    # So that what depends on the first corner (fixed diagonals) stays put.
    size = int(face_start[1]) if len(face_start) > 1 else 1
    if len(values) == size * (len(face_start) - 1) and (np.diff(face_start) == size).all():
        rows, out = values.reshape(-1, size), np.empty((len(face_start) - 1, size), np.int32)
        for k in range(size):
            out[:, k] = rows[:, -k % size]
        return out.ravel()
    sizes = np.diff(face_start)
    start = np.repeat(face_start[:-1], sizes)
    within = np.arange(len(values), dtype=np.int32) - start
    return values[start + np.where(within == 0, 0, np.repeat(sizes, sizes) - within)]


def _partly_mirrored(
    values: NDArray[np.int32], face_start: NDArray[np.int32], faces: NDArray[np.bool_]
) -> NDArray[np.int32]:
    return np.where(np.repeat(faces, np.diff(face_start)), _mirrored_order(values, face_start), values)


def compact(index: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """The numbers that occur in ``index``, ascending, and ``index`` renumbered to point into them.

    Negative entries stay as they are.
    """
    if len(index) == 0 or int(index.max()) < 0:
        return np.zeros(0, np.int64), index.astype(np.int32)
    low, high = max(int(index.min()), 0), int(index.max())
    if high - low > 8 * len(index) + 1024:
        used = np.unique(index[index >= 0]).astype(np.int64)
        return used, np.where(index < 0, index, np.searchsorted(used, index)).astype(np.int32)
    shifted = index - low if low else index
    holes = int(shifted.min()) < 0
    occurs = np.zeros(high - low + 1, bool)
    occurs[shifted[shifted >= 0] if holes else shifted] = True
    if occurs.all() and not holes:
        return np.arange(low, high + 1), shifted.astype(np.int32)
    new = np.cumsum(occurs, dtype=np.int32) - np.int32(1)
    renumbered = np.where(index < 0, index, new[np.maximum(shifted, 0)]) if holes else new[shifted]
    return np.flatnonzero(occurs) + low, renumbered.astype(np.int32, copy=False)


def _take_corners(layer: Layer, corners: NDArray[Any]) -> Layer:
    used, index = compact(layer.index[corners])
    return Layer(layer.kind, layer.values[used], index, layer.name)


def _renumbered_sets(
    sets: Mapping[str, NDArray[np.int32]], kept: NDArray[Any], count: int
) -> Mapping[str, NDArray[np.int32]]:
    if not sets:
        return sets
    new = np.full(count, -1, np.int32)
    new[kept] = np.arange(len(kept))
    return MappingProxyType({name: new[members][new[members] >= 0] for name, members in sets.items()})


def _sealed(array: ArrayLike, dtype: Any) -> NDArray[Any]:
    given = np.asarray(array)
    if dtype is np.int32 and given.dtype.itemsize > 4 and given.size and given.max() > _INDEX_LIMIT:
        raise ModelError(f"an index of {given.max()} is beyond what a mesh can hold ({_INDEX_LIMIT}).")
    view = given.astype(dtype, order="C", copy=False).view()
    view.flags.writeable = False
    return view


def _check_index(
    index: NDArray[Any], low: int, high: int, what: str, place: str, ranges: dict[Any, tuple[int, int]] | None = None
) -> None:
    """Complains when an index points nowhere; ``ranges`` keeps the extremes of arrays that are met again."""
    if not len(index):
        return
    ranges = {} if ranges is None else ranges
    key = index.__array_interface__["data"][0], len(index)
    if key not in ranges:
        ranges[key] = int(index.min()), int(index.max())
    lowest, highest = ranges[key]
    if lowest < low or highest >= high:
        raise ModelError(f"{what} holds {lowest} to {highest}, but only {low} to {high - 1} exist.", place=place)


def all_finite(values: NDArray[Any]) -> bool:
    """Whether an array holds finite numbers only."""
    # Nearly always it does, and then its sum tells, which is quicker to get than a flag for every number.
    with np.errstate(over="ignore", invalid="ignore"):
        return bool(np.isfinite(values.sum()) or np.isfinite(values).all())


def box_of(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner of points (P, 3); NaN when there are none."""
    if len(points) == 0:
        return np.full((2, 3), np.nan)
    # Column by column: NumPy is slow at reducing along a long axis beside a short one.
    columns = [points[:, k] for k in range(3)]
    return np.array([[column.min() for column in columns], [column.max() for column in columns]])


def _point_used(mesh: Mesh) -> NDArray[np.bool_]:
    used = np.zeros(mesh.point_count, bool)
    used[mesh.corner_point] = True
    return used


def _surface_bounds(mesh: Mesh) -> NDArray[np.float64]:
    used = mesh.point_used
    points = mesh.points if used.all() or not mesh.face_count else mesh.points[used]
    return box_of(points)


_EMPTY = Mesh("", np.zeros((0, 3)), np.zeros(1, np.int32), np.zeros(0, np.int32))
