"""Polygon meshes with indexed per-corner data."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, fields
from functools import partial
from html import escape
from typing import Any, TypeVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from zesty_otter.errors import ModelError
from zesty_otter.model import _arrays as kernels
from zesty_otter.model.checking import (
    LARGEST,
    NOTHING,
    ReadOnlyDict,
    copied,
    is_within,
    named,
    of_numbers,
    one_of,
    read_only,
    taken_over,
)
from zesty_otter.model.material import Material
from zesty_otter.model.naming import count_of

T = TypeVar("T")

_DTYPES: dict[str, Any] = {
    "points": np.float64,
    "face_start": np.int32,
    "corner_point": np.int32,
    "face_slot": np.int32,
    "face_smoothing": np.int32,
}

LAYER_WIDTHS = {"normal": (3,), "tangent": (4,), "uv": (2,), "color": (3, 4)}
"""The kinds of per-corner data and how many numbers each value may have."""


@dataclass(frozen=True, eq=False, repr=False)
class Layer:
    """Per-corner data as a table of values and an index for every corner.

    Parameters
    ----------
    kind : {"normal", "tangent", "uv", "color"}
        What the numbers mean. Tangents carry their sign as the fourth number; UVs have their origin in
        the lower left corner of the image; colours are linear.
    values : (K, n) float32
        The distinct values; corners that share one have no seam between them. Copied, as ``index`` is, unless
        read-only; see `taking`.
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
        self._take(copied(self.values, np.float32), copied(self.index, np.int32))

    @classmethod
    def taking(cls, kind: str, values: NDArray[Any], index: NDArray[Any], name: str = "") -> Layer:
        """A layer whose arrays are handed over instead of copied: nobody can write to them any more.

        Parameters
        ----------
        kind : {"uv", "normal", "tangent", "color"}
        values : (K, n) float32
        index : (C,) int32
            The row of each corner, negative where there is none.
        name : str

        Returns
        -------
        Layer

        Raises
        ------
        ModelError
            When the arrays do not fit together.

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> zo.Layer.taking("uv", np.eye(2, dtype=np.float32), np.zeros(3, np.int32), "light").name
        'light'
        """
        layer = object.__new__(cls)
        layer.__dict__.update(kind=kind, name=name)
        layer._take(taken_over(values, np.float32), taken_over(index, np.int32))
        return layer

    def _take(self, values: NDArray[np.float32], index: NDArray[np.int32]) -> None:
        place = f"layer {self.name}" if self.name else "layer"
        one_of(self.kind, LAYER_WIDTHS, "the kind of a layer", place)
        named(self.name, place)
        if values.ndim != 2 or values.shape[1] not in LAYER_WIDTHS[self.kind]:
            raise ModelError(f"a {self.kind} layer cannot have values of shape {values.shape}.", place=place)
        if index.ndim != 1:
            raise ModelError(f"the index of a {self.kind} layer cannot have the shape {index.shape}.", place=place)
        self.__dict__.update(values=values, index=index)

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(kind=state["kind"], name=state["name"])
        self._take(taken_over(state["values"], np.float32), taken_over(state["index"], np.int32))

    def __repr__(self) -> str:
        name = f" '{self.name}'" if self.name else ""
        return f"Layer {self.kind}{name}: {len(self.values):,} values at {len(self.index):,} corners"

    def same_as(self, other: Layer) -> bool:
        """Whether another layer has the same kind, name, values and index, bit for bit.

        Parameters
        ----------
        other : Layer

        Returns
        -------
        bool

        Examples
        --------
        >>> import zesty_otter as zo
        >>> near = zo.Layer("uv", [(0, 0), (1, 0)], [0, 1, 1])
        >>> near.same_as(zo.Layer("uv", [(0, 0), (1, 0)], [0, 1, 1]))
        True
        >>> near.same_as(zo.Layer("uv", [(0, 0)], [0, 0, 0]))
        False
        """
        return (
            (self.kind, self.name) == (other.kind, other.name)
            and np.array_equal(self.values, other.values)
            and np.array_equal(self.index, other.index)
        )

    def at_corners(self, missing: float = 0.0) -> NDArray[np.float32]:
        """(C, n) the value at every corner, ``missing`` where it has none.

        Parameters
        ----------
        missing : float
            What stands where a corner has no value.

        Returns
        -------
        (C, n) float32

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.Layer("uv", [(0, 0), (1, 0.5)], [0, 1, -1]).at_corners(missing=-1).tolist()
        [[0.0, 0.0], [1.0, 0.5], [-1.0, -1.0]]
        """
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


@dataclass(frozen=True, eq=False, repr=False)
class Mesh:
    """Polygons of any size over shared points.

    A mesh owns its arrays: they are copied, unless they are read-only already or handed over with `taking`.
    `from_arrays` makes one from plain arrays and lists.

    Parameters
    ----------
    name : str
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
    properties : mapping
        Free properties that travel with it.

    Raises
    ------
    ModelError
        When an index points nowhere, a number is not finite or beyond 1e15, a face has fewer than three corners
        or sizes disagree.
    """

    name: str
    points: NDArray[np.float64]
    face_start: NDArray[np.int32]
    corner_point: NDArray[np.int32]
    layers: tuple[Layer, ...] = ()
    slots: tuple[Material | None, ...] = (None,)
    face_slot: NDArray[np.int32] | None = None
    face_smoothing: NDArray[np.int32] | None = None
    face_sets: Mapping[str, NDArray[np.int32]] = NOTHING
    point_sets: Mapping[str, NDArray[np.int32]] = NOTHING
    properties: Mapping[str, Any] = NOTHING

    def __post_init__(self) -> None:
        self._seal(copied)
        self._check()

    @classmethod
    def taking(cls, *fields_: Any, **more: Any) -> Mesh:
        """A mesh whose arrays are handed over instead of copied: nobody can write to them any more.

        Parameters
        ----------
        *fields_, **more
            As for `Mesh` itself.

        Returns
        -------
        Mesh

        Raises
        ------
        ModelError
            When the arrays do not fit together.

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
        >>> zo.Mesh.taking("sail", points, np.array([0, 3], np.int32), np.arange(3, dtype=np.int32))
        Mesh 'sail': 1 face, 3 points
        >>> points.flags.writeable
        False
        """
        mesh = _EMPTY._with({**dict(zip(_FIELDS, fields_, strict=False)), **more})
        mesh._check()
        return mesh

    @classmethod
    def trusted(cls, name: str, points: NDArray[np.float64], face_start: Any, corner_point: Any, **rest: Any) -> Mesh:
        """As `taking`, for makers that have checked what that would check: readers that meet every number.

        Parameters
        ----------
        name : str
        points : (P, 3) float64
        face_start : (F + 1,) int32
        corner_point : (C,) int32
        **rest
            Further fields of `Mesh`.

        Returns
        -------
        Mesh

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> zo.Mesh.trusted("sail", np.eye(3), np.array([0, 3], np.int32), np.arange(3, dtype=np.int32))
        Mesh 'sail': 1 face, 3 points
        """
        known = {"name": name, "points": points, "face_start": face_start, "corner_point": corner_point}
        return _EMPTY._with({**known, **rest})

    @staticmethod
    def from_faces(name: str, points: ArrayLike, faces: Sequence[Sequence[int]], **rest: Any) -> Mesh:
        """A mesh from a list of faces, each a list of point indices: for small meshes made by hand.

        Parameters
        ----------
        name : str
        points : (P, 3) array_like
        faces : sequence of sequence of int
            The points of each face, counterclockwise as seen from outside.
        **rest
            Further fields of `Mesh`.

        Returns
        -------
        Mesh

        Raises
        ------
        ModelError
            When a face names a point that is not there, or has fewer than three.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        Mesh 'sail': 1 face, 3 points
        """
        corners, start = _flattened(faces, None)
        found = of_numbers(points, np.float64)
        return Mesh(name, found if found.size else np.zeros((0, 3)), start, corners, **rest)

    @staticmethod
    def from_arrays(
        points: ArrayLike,
        faces: Any,
        *,
        sizes: ArrayLike | None = None,
        uvs: Any = None,
        normals: Any = None,
        colors: Any = None,
        name: str = "mesh",
        **rest: Any,
    ) -> Mesh:
        """A mesh from what other libraries have.

        Parameters
        ----------
        points : (P, 3)
        faces : (F, k), list of lists, or (C,) with ``sizes``
            The points of every face, counted from 0, in the order that makes a face look outward.
        sizes : (F,), optional
            How many corners each face has, where ``faces`` is flat.
        uvs, normals, colors : (P, n) or (C, n), a pair of values and index, or a mapping of these by name
            Per point, per corner in the order of the faces, or values (K, n) with the row of each corner (C,). A
            mapping makes several UV or colour sets. Where there are as many points as corners, rows are those of
            points.
        name : str
        **rest
            Further fields of a mesh, such as ``slots`` and ``face_slot``.

        Returns
        -------
        Mesh

        Raises
        ------
        ModelError
            When shapes disagree or an index points nowhere.

        Examples
        --------
        >>> import numpy as np, zesty_otter as zo
        >>> zo.Mesh.from_arrays(np.eye(3), [[0, 1, 2]], uvs=np.zeros((3, 2)), name="sail")
        Mesh 'sail': 1 face, 3 points, 1 UV set
        """
        table = np.asarray(points, np.float64)
        corners, start = _flattened(faces, sizes)
        layers = [
            Layer(kind, *_at_corners(values, corners, len(table), kind), set_name)
            for kind, given in (("normal", normals), ("uv", uvs), ("color", colors))
            if given is not None
            for set_name, values in (given.items() if isinstance(given, Mapping) else [("", given)])
        ]
        return Mesh(name, table, start, corners, (*layers, *rest.pop("layers", ())), **rest)

    def __getstate__(self) -> dict[str, Any]:
        return {one.name: getattr(self, one.name) for one in fields(self)}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._seal(taken_over)

    def __repr__(self) -> str:
        parts = [count_of(self.face_count, "face"), count_of(self.point_count, "point")]
        parts += [count_of(len(self.uv_sets), "UV set")] if self.uv_sets else []
        return f"Mesh '{self.name}': {', '.join(parts)}"

    def _repr_html_(self) -> str:
        low, high = self.surface_bounds
        sides = " × ".join(f"{side:.4g}" for side in np.nan_to_num(high - low))
        return f"<code>{escape(repr(self))}, {sides}</code>"

    def same_as(self, other: Mesh) -> bool:
        """Whether another mesh has the same name, surface, layers, slots, sets and properties, bit for bit.

        Parameters
        ----------
        other : Mesh

        Returns
        -------
        bool

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> sail.same_as(sail.replace()), sail.same_as(sail.replace(name="jib"))
        (True, False)
        """
        return (
            self.name == other.name
            and all(_same(getattr(self, key), getattr(other, key)) for key in (*_DTYPES, "face_sets", "point_sets"))
            and len(self.layers) == len(other.layers)
            and all(map(Layer.same_as, self.layers, other.layers))
            and self.slots == other.slots
            and self.properties == other.properties
        )

    @property
    def point_count(self) -> int:
        """How many points there are."""
        return len(self.points)

    @property
    def face_count(self) -> int:
        """How many faces there are."""
        return len(self.face_start) - 1

    @property
    def corner_count(self) -> int:
        """How many corners all faces have together."""
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
    def corner_after(self) -> NDArray[np.int32]:
        """(C,) the next corner of the same face."""
        after = np.arange(1, self.corner_count + 1, dtype=np.int32)
        after[self.face_start[1:] - 1] = self.face_start[:-1]
        return after

    @property
    def all_triangles(self) -> bool:
        """Whether no face has more than three corners."""
        return self.corner_count == 3 * self.face_count

    @property
    def slot_of_face(self) -> NDArray[np.int32]:
        """(F,) the slot of each face, also when `face_slot` is absent."""
        return np.zeros(self.face_count, np.int32) if self.face_slot is None else self.face_slot

    @property
    def used_slots(self) -> tuple[int, ...]:
        """The slots that faces have, lowest first."""
        if self.face_slot is None or len(self.slots) == 1:
            return (0,) if self.face_count else ()
        return tuple(np.flatnonzero(np.bincount(self.face_slot)).tolist())

    @property
    def point_used(self) -> NDArray[np.bool_]:
        """(P,) whether a face uses the point."""
        return self.cached(_point_used)

    @property
    def surface_bounds(self) -> NDArray[np.float64]:
        """(2, 3) lowest and highest corner of all faces (of all points when there are no faces)."""
        return self.cached(_surface_bounds)

    def layers_of(self, kind: str) -> tuple[Layer, ...]:
        """The layers of one kind, in order.

        Parameters
        ----------
        kind : {"uv", "normal", "tangent", "color"}

        Returns
        -------
        tuple of Layer

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> sail.replace(layers=(zo.Layer("uv", [(0, 0)], [0, 0, 0], "light"),)).layers_of("uv")[0].name
        'light'
        """
        return tuple(layer for layer in self.layers if layer.kind == kind)

    @property
    def normals(self) -> Layer | None:
        """The layer of normals, the first if there are several; None when there is none."""
        return next(iter(self.layers_of("normal")), None)

    @property
    def uv_sets(self) -> tuple[Layer, ...]:
        """The layers of UVs, by number."""
        return self.layers_of("uv")

    def cached(self, compute: Callable[[Mesh], T]) -> T:
        """The result of ``compute(self)``, computed when first asked and kept with the mesh.

        Parameters
        ----------
        compute : callable
            Takes the mesh; the same function is asked once for each mesh.

        Returns
        -------
        object
            What it gives.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> sail.cached(lambda mesh: float(mesh.points.sum()))
        5.0
        """
        return self._keep(compute, lambda: compute(self))

    def _keep(self, key: Any, make: Callable[[], T]) -> T:
        kept: dict[Any, Any] = self.__dict__.setdefault("_kept", {})
        if key not in kept:
            kept[key] = make()
        result: T = kept[key]
        return result

    def surface(self, compute: Callable[[NDArray[Any], NDArray[Any], NDArray[Any]], T]) -> T:
        """``compute(points, face_start, corner_point)``, computed when first asked and kept with the mesh.

        Parameters
        ----------
        compute : callable
            Takes points (P, 3), face starts (F + 1,) and the points of the corners (C,).

        Returns
        -------
        object
            What it gives; meshes that share these arrays share it.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> areas, _ = sail.surface(zo.geometry.face_areas_and_normals)
        >>> areas.tolist()
        [3.0]
        """
        return self._keep(compute, lambda: compute(self.points, self.face_start, self.corner_point))

    def replace(self, **changes: Any) -> Mesh:
        """A mesh with some fields changed; the others are shared. New arrays are handed over, as in `taking`.

        Parameters
        ----------
        **changes
            Fields of `Mesh` by name.

        Returns
        -------
        Mesh

        Raises
        ------
        ModelError
            When there is no such field, or what is new does not fit the rest.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> sail.replace(name="jib")
        Mesh 'jib': 1 face, 3 points
        """
        new = self._with(changes)
        new._check(self)
        return new

    def _with(self, changes: Mapping[str, Any]) -> Mesh:
        """As `replace`, unchecked."""
        for key in changes:
            one_of(key, _FIELDS, "the field of a mesh", f"mesh {self.name}")
        new = object.__new__(Mesh)
        new.__dict__.update({key: self.__dict__[key] for key in _FIELDS})
        new.__dict__.update(changes)
        new._seal(taken_over)
        return new

    def take_faces(self, faces: NDArray[Any], name: str | None = None) -> Mesh:
        """The mesh of some faces, in the given order, with only the points, values and slots they use.

        Parameters
        ----------
        faces : (K,) int or (F,) bool
            Their numbers, or whether each is wanted.
        name : str, optional
            What to call it; as the mesh when absent.

        Returns
        -------
        Mesh

        Examples
        --------
        >>> import zesty_otter as zo
        >>> points = [(0, 0, 0), (2, 0, 0), (2, 1, 0), (0, 1, 0)]
        >>> plank = zo.Mesh.from_faces("plank", points, [(0, 1, 2), (0, 2, 3)])
        >>> plank.take_faces([1], name="half")
        Mesh 'half': 1 face, 3 points
        """
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
        """The mesh without some points, which no face may use; ``kept`` is (P,).

        Parameters
        ----------
        kept : (P,) bool

        Returns
        -------
        Mesh

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0), (9, 9, 9)], [(0, 1, 2)])
        >>> sail.keep_points(sail.point_used)
        Mesh 'sail': 1 face, 3 points
        """
        number = np.cumsum(kept, dtype=np.int32) - np.int32(1)
        return self.replace(
            points=self.points[kept],
            corner_point=number[self.corner_point],
            point_sets=_renumbered_sets(self.point_sets, np.flatnonzero(kept), self.point_count),
        )

    def turned_round(self, faces: NDArray[np.bool_] | None = None) -> Mesh:
        """The same mesh with faces seen from their other side, all or those in ``faces`` (F,).

        Normals are left as they are.

        Parameters
        ----------
        faces : (F,) bool, optional
            All when absent.

        Returns
        -------
        Mesh

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> sail.turned_round().corner_point.tolist()
        [0, 2, 1]
        """
        order = _mirrored_order if faces is None else partial(_partly_mirrored, faces=faces)
        return self.with_index(lambda index: order(index, self.face_start))

    def with_index(self, change: Callable[[NDArray[np.int32]], NDArray[Any]], **changes: Any) -> Mesh:
        """The mesh with ``change(index)`` for the index of points and of every layer at the corners.

        Indices that share their memory are changed once and go on sharing it. Further ``changes`` are those
        of `replace`.

        Parameters
        ----------
        change : callable
            Takes an index (C,) and gives another (C',); called once for each distinct one.
        **changes
            Further fields of `Mesh`.

        Returns
        -------
        Mesh

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> sail.with_index(lambda index: index[::-1]).corner_point.tolist()
        [2, 1, 0]
        """
        done: dict[Any, NDArray[Any]] = {}

        def changed(index: NDArray[np.int32]) -> NDArray[Any]:
            key = index.__array_interface__["data"][0], len(index)
            if key not in done:
                done[key] = change(index)
            return done[key]

        layers = tuple(Layer.taking(one.kind, one.values, changed(one.index), one.name) for one in self.layers)
        return self.replace(corner_point=changed(self.corner_point), layers=layers, **changes)

    def _seal(self, seal: Callable[[ArrayLike, Any], NDArray[Any]]) -> None:
        place = f"mesh {self.name}"
        own = self.__dict__
        for key, dtype in _DTYPES.items():
            if own[key] is not None:
                try:
                    own[key] = seal(own[key], dtype)
                except ModelError as error:
                    raise ModelError(f"{key}: {error.problem}", place=place) from None
        for key in ("face_sets", "point_sets"):
            if own[key]:
                sets = read_only(own[key], key, place)
                own[key] = ReadOnlyDict({name: seal(members, np.int32) for name, members in sets.items()})
        own["properties"] = read_only(own["properties"], "properties", place)
        for key in ("layers", "slots"):
            if isinstance(own[key], str) or not isinstance(own[key], Iterable):
                raise ModelError(f"{key} must be a list, not {own[key]!r}.", place=place)
            own[key] = tuple(own[key])

    def _check(self, old: Mesh | None = None) -> None:
        """Complains about what does not fit together; what is the same in ``old`` is known to."""
        named(self.name, "mesh")
        place = f"mesh {self.name}"
        self._check_shapes(place)
        start, corners, count = self.face_start, self.corner_point, len(self.face_start) - 1
        ranges: dict[Any, tuple[int, int]] = {}
        as_many = old is not None and len(old.points) == len(self.points) and old.face_start is start
        if old is None or old.corner_point is not corners or not as_many:
            _check_index(corners, 0, len(self.points), "corner_point", place, ranges)
        if (old is None or old.points is not self.points) and not is_within(self.points):
            bad = int(np.flatnonzero(~(np.abs(self.points) <= LARGEST).all(axis=1))[0])
            problem = "a position that is not a finite number" if not all_finite(self.points[bad]) else "a position"
            raise ModelError(f"point {bad} has {problem}{_beyond(self.points[bad])}.", place=place)
        if (old is None or old.face_start is not start) and count and int(np.diff(start).min()) < 3:
            face = int(np.argmin(np.diff(start)))
            raise ModelError(f"face {face} has fewer than three corners.", place=place)
        known = {id(layer) for layer in old.layers} if old is not None else set()
        known_values = {id(layer.values) for layer in old.layers} if old is not None else set()
        for layer in self.layers:
            if len(layer.index) != len(corners):
                raise ModelError(
                    f"the {layer.kind} layer has {len(layer.index)} indices for {len(corners)} corners.",
                    place=place,
                )
            if id(layer) in known:
                continue
            _check_index(layer.index, -1, len(layer.values), f"the {layer.kind} layer", place, ranges)
            if id(layer.values) not in known_values and not is_within(layer.values):
                raise ModelError(
                    f"the {layer.kind} layer holds numbers that are not finite or beyond {LARGEST:g}.", place=place
                )
        for key in ("face_slot", "face_smoothing"):
            value = getattr(self, key)
            if value is not None and value.shape != (count,):
                raise ModelError(f"{key} has {len(value)} entries for {count_of(count, 'face')}.", place=place)
        if self.face_slot is not None and (
            old is None or old.face_slot is not self.face_slot or len(old.slots) > len(self.slots)
        ):
            _check_index(self.face_slot, 0, len(self.slots), "face_slot", place)
        for sets, limit in ((self.face_sets, count), (self.point_sets, len(self.points))):
            for name, members in sets.items():
                _check_index(members, 0, limit, f"set {name}", place)

    def _check_shapes(self, place: str) -> None:
        points, start, corners = self.points, self.face_start, self.corner_point
        if points.ndim != 2 or points.shape[1] != 3:
            raise ModelError(f"points must have shape (P, 3), not {points.shape}.", place=place)
        if corners.ndim != 1 or start.ndim != 1 or len(start) == 0 or start[0] != 0 or start[-1] != len(corners):
            raise ModelError("face_start must run from 0 to the number of corners.", place=place)
        for layer in self.layers:
            if not isinstance(layer, Layer):
                raise ModelError(f"layers must be layers, not a {type(layer).__name__}.", place=place)
        if not self.slots:
            raise ModelError("a mesh needs at least one slot (None for no material).", place=place)
        for slot in self.slots:
            if slot is not None and not isinstance(slot, Material):
                raise ModelError(f"a slot must hold a material or None, not {slot!r}.", place=place)


def _beyond(point: NDArray[np.float64]) -> str:
    return f" beyond {LARGEST:g}" if all_finite(point) else ""


def _flattened(faces: Any, sizes: ArrayLike | None) -> tuple[NDArray[Any], NDArray[Any]]:
    """The point of every corner, and where each face begins among them."""
    if sizes is None and not isinstance(faces, np.ndarray):
        faces = list(faces) if isinstance(faces, Iterable) else [faces]
        if any(isinstance(face, str) or not isinstance(face, Iterable) for face in faces):
            raise ModelError("faces must be lists of the numbers of points.", place="faces")
        sizes = [len(face) for face in faces]
        faces = [corner for face in faces for corner in face]
    elif sizes is None:
        if faces.ndim != 2:
            raise ModelError("flat faces need their sizes.", place="faces", remedy="Give sizes=, one for each face.")
        sizes = np.full(len(faces), faces.shape[1])
    corners = np.asarray(faces).ravel()
    if corners.size and corners.dtype.kind not in "iu":
        raise ModelError(f"faces must be whole numbers, not {corners.dtype}.", place="faces")
    return corners.astype(np.int64), np.concatenate([[0], np.cumsum(np.asarray(sizes, np.int64))])


def _at_corners(values: Any, corners: NDArray[Any], points: int, kind: str) -> tuple[NDArray[Any], NDArray[Any]]:
    """Values and the row of each corner, from rows of points, of corners, or a pair that has them already."""
    if isinstance(values, tuple) and len(values) == 2:
        table, index = values
        return of_numbers(table, np.float32), of_numbers(index, np.int32)
    table = of_numbers(values, np.float32)
    if len(table) == points:
        return table, corners
    if len(table) == len(corners):
        return table, np.arange(len(corners))
    rows, several = count_of(len(table), "row"), (count_of(points, "point"), count_of(len(corners), "corner"))
    raise ModelError(
        f"{rows} of {kind} values fit neither {several[0]} nor {several[1]}.",
        place=kind,
        remedy="Give a row for each point or each corner, or a pair of values and index.",
    )


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, dict):
        return one.keys() == other.keys() and all(np.array_equal(one[key], other[key]) for key in one)
    return (one is None) == (other is None) and (one is None or np.array_equal(one, other))


def corners_of_faces(face_start: NDArray[Any], faces: NDArray[Any]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """The corner numbers of some faces, one face after the other, and where each face begins among them.

    Parameters
    ----------
    face_start : (F + 1,) int32
    faces : (K,) int
        Numbers of faces.

    Returns
    -------
    corners : (N,) int64
    start : (K + 1,) int64

    Examples
    --------
    >>> import numpy as np
    >>> corners, start = corners_of_faces(np.array([0, 3, 7, 10]), np.array([1]))
    >>> corners.tolist(), start.tolist()
    ([3, 4, 5, 6], [0, 4])
    """
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

    Parameters
    ----------
    index : (N,) int

    Returns
    -------
    numbers : (K,) int64
    renumbered : (N,) int32
        Perhaps ``index`` itself, where nothing changes.

    Examples
    --------
    >>> import numpy as np
    >>> numbers, renumbered = compact(np.array([7, -1, 3, 7]))
    >>> numbers.tolist(), renumbered.tolist()
    ([3, 7], [1, -1, 0, 1])
    """
    lowest, high = (int(index.min()), int(index.max())) if len(index) else (-1, -1)
    if high < 0:
        return np.zeros(0, np.int64), index.astype(np.int32)
    low = max(lowest, 0)
    if high - low > 8 * len(index) + 1024:
        used = np.unique(index[index >= 0]).astype(np.int64)
        return used, np.where(index < 0, index, np.searchsorted(used, index)).astype(np.int32)
    shifted = index - low if low else index
    holes = lowest < 0
    occurs = np.zeros(high - low + 1, bool)
    if shifted.dtype == np.int32:
        kernels.mark(np.ascontiguousarray(shifted), occurs.view(np.uint8))
    else:
        occurs[shifted[shifted >= 0] if holes else shifted] = True
    if occurs.all() and not holes:
        return np.arange(low, high + 1), shifted.astype(np.int32, copy=False)
    new = np.cumsum(occurs, dtype=np.int32) - np.int32(1)
    renumbered = np.where(index < 0, index, new[np.maximum(shifted, 0)]) if holes else new[shifted]
    return np.flatnonzero(occurs) + low, renumbered.astype(np.int32, copy=False)


def compact_within(index: NDArray[np.int32], count: int) -> tuple[NDArray[np.int64] | None, NDArray[np.int32]] | None:
    """What `compact` gives, for an index of so many things; None where some of it is not.

    Parameters
    ----------
    index : (N,) int32
    count : int

    Returns
    -------
    (numbers, renumbered) or None
        None instead of the numbers where all occur.

    Examples
    --------
    >>> import numpy as np
    >>> compact_within(np.array([7, 3, 7], np.int32), 7) is None
    True
    """
    occurs = np.zeros(count, bool)
    if not kernels.mark(np.ascontiguousarray(index), occurs.view(np.uint8)):
        return None
    if occurs.all():
        return None, index
    return np.flatnonzero(occurs), (np.cumsum(occurs, dtype=np.int32) - np.int32(1))[index]


def _take_corners(layer: Layer, corners: NDArray[Any]) -> Layer:
    used, index = compact(layer.index[corners])
    return Layer.taking(layer.kind, layer.values[used], index, layer.name)


def _renumbered_sets(
    sets: Mapping[str, NDArray[np.int32]], kept: NDArray[Any], count: int
) -> Mapping[str, NDArray[np.int32]]:
    if not sets:
        return sets
    new = np.full(count, -1, np.int32)
    new[kept] = np.arange(len(kept))
    return {name: new[members][new[members] >= 0] for name, members in sets.items()}


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
    """Whether an array holds finite numbers only.

    Parameters
    ----------
    values : array of numbers

    Returns
    -------
    bool

    Examples
    --------
    >>> import numpy as np
    >>> all_finite(np.array([1.0, 2.0])), all_finite(np.array([1.0, np.nan]))
    (True, False)
    """
    # Nearly always it does, and then its sum tells, which is quicker to get than a flag for every number.
    with np.errstate(over="ignore", invalid="ignore"):
        return bool(np.isfinite(values.sum()) or np.isfinite(values).all())


def box_of(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """(2, 3) lowest and highest corner of points (P, 3); NaN when there are none."""
    if len(points) == 0:
        return np.full((2, 3), np.nan)
    ends = np.empty((2, 3))
    kernels.box(points, ends)
    return ends


def _point_used(mesh: Mesh) -> NDArray[np.bool_]:
    used = np.zeros(mesh.point_count, bool)
    used[mesh.corner_point] = True
    return used


def _surface_bounds(mesh: Mesh) -> NDArray[np.float64]:
    used = mesh.point_used
    points = mesh.points if used.all() or not mesh.face_count else mesh.points[used]
    return box_of(points)


_FIELDS = tuple(one.name for one in fields(Mesh))
_EMPTY = Mesh("", np.zeros((0, 3)), np.zeros(1, np.int32), np.zeros(0, np.int32))
