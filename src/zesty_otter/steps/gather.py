"""Copies of one thing found and turned into lists of places."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, Field, WithJsonSchema

from zesty_otter.geometry.surface.copies import Shape, find_copies
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.topology import parts
from zesty_otter.model import (
    Material,
    Mesh,
    Node,
    Note,
    Scatter,
    Scene,
    count_of,
    determinant,
    shortened,
    transformed,
)
from zesty_otter.steps.assets import assets_of, level_of
from zesty_otter.steps.base import Step, tell
from zesty_otter.steps.words import chosen_numbers

Floats = NDArray[np.float64]


def _as_share(value: Any) -> Any:
    """A share of the size: a number, or a text such as ``"0.01%"``."""
    if isinstance(value, str) and value.strip().endswith("%"):
        return float(value.strip()[:-1]) / 100
    return value


Share = Annotated[float, BeforeValidator(_as_share), WithJsonSchema({"type": ["number", "string"], "examples": ["1%"]})]


class Gather(Step):
    """Turn nodes that show copies of one thing under the same parent into one scatter.

    Looks at nodes that share a mesh, and at meshes that are stored separately but equal up to rotation, translation,
    uniform scale and mirroring; materials, UVs, normals and colours must agree. An asset with its levels, collision
    and shadow, and a node with children, is one thing: it becomes a scatter for each of its meshes, all with the same
    places. The scatter takes the place of the first copy and the name of the mesh. Numbers among the properties
    become columns of the scatter; names and other properties of the copies are lost. A mesh that was stored with its
    place in its points gets its pivot at its foot. With ``inside``, loose parts of
    one mesh that are copies become scatters below its node. Leaves hidden nodes, and those with lights or cameras.
    """

    slug: ClassVar[str] = "gather"
    example: ClassVar[dict[str, Any]] = {"least": 10}

    least: int = Field(2, ge=2, description="Minimum number of copies for a scatter; fewer stay as they are.")
    stored: bool = Field(
        True, description="Also find copies that are stored as meshes of their own; else only nodes that share a mesh."
    )
    mirrored: bool = Field(True, description="Count mirror images as copies.")
    tolerance: Share = Field(
        0.0001,
        gt=0,
        le=0.01,
        description="How far points of a copy may be off, as a share of its size: 0.0001 or 0.01%.",
    )
    inside: bool = Field(
        False, description="Also look for copies among the loose parts of each mesh, for scenes that were flattened."
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        notes: list[Note] = []
        changed = scene
        if self.inside:
            changed = self._taken_out(scene, numbers, notes)
            numbers = chosen_numbers(changed, self.only)
        gathering = _Gathering(changed, self._same_meshes(changed, numbers, notes), self.least, numbers)
        changed = gathering.scene()
        if gathering.scatters:
            copies = count_of(gathering.copies, "copy")
            notes.append(self.note(f"{copies} gathered into {count_of(gathering.scatters, 'scatter')}"))
        if gathering.lost:
            text = f"of copies that are one scatter now, not kept: {shortened(sorted(gathering.lost))}"
            notes.append(self.note(text, kind="lost"))
        return changed.with_notes(*notes) if notes else scene

    def _same_meshes(self, scene: Scene, numbers: set[int], notes: list[Note]) -> dict[int, tuple[Mesh, Floats]]:
        """The mesh each is a copy of by id, and what takes that to it; of those that are none of another, nothing."""
        if not self.stored:
            return {}
        slots = _Slots()
        shown = {id(one.node.mesh): one.node.mesh for one in scene.walk() if one.number in numbers and one.node.mesh}
        meshes = [mesh for mesh in shown.values() if mesh.face_count]
        first, transforms = self._found([_shape_of(mesh, slots) for mesh in meshes], notes)
        return {
            id(mesh): (meshes[of], transforms[n])
            for n, (mesh, of) in enumerate(zip(meshes, first, strict=True))
            if of != n
        }

    def _found(self, shapes: Sequence[Shape], notes: list[Note]) -> tuple[NDArray[np.int64], Floats]:
        first, transforms, untried = find_copies(
            shapes, tolerance=self.tolerance, mirrored=self.mirrored, progress=tell
        )
        if untried:
            text = (
                f"{untried:,} meshes that look alike but are numbered otherwise were not compared: there are too many"
            )
            notes.append(self.note(text, kind="finding"))
        return first, transforms

    def _taken_out(self, scene: Scene, numbers: set[int], notes: list[Note]) -> Scene:
        """The scene with loose parts of meshes that are copies of each other as scatters."""
        slots = _Slots()
        taken: dict[int, tuple[Mesh | None, list[Scatter]]] = {}
        for placed in scene.walk():
            mesh = placed.node.mesh
            if mesh is None or placed.number not in numbers or id(mesh) in taken:
                continue
            taken[id(mesh)] = self._parts_of(mesh, slots, scene.frame.up, notes)
            scatters = taken[id(mesh)][1]
            if scatters:
                kinds = count_of(len(scatters), "scatter")
                text = f"{sum(one.count for one in scatters):,} loose parts that are copies became {kinds}"
                notes.append(self.note(text, node=placed.node.name))

        def make(n: int, node: Node) -> Node:
            if node.mesh is None or n not in numbers or not taken[id(node.mesh)][1]:
                return node
            rest, scatters = taken[id(node.mesh)]
            if rest is None and len(scatters) == 1:
                return replace(node, content=scatters[0])
            below = tuple(
                Node(f"{node.name}_part_{n}", content=one, visible=node.visible, groups=node.groups, role=node.role)
                for n, one in enumerate(scatters, 1)
            )
            return replace(node, content=rest, children=(*below, *node.children))

        return scene.rebuilt(make) if any(scatters for _, scatters in taken.values()) else scene

    def _parts_of(
        self, mesh: Mesh, slots: _Slots, up: tuple[int, float], notes: list[Note]
    ) -> tuple[Mesh | None, list[Scatter]]:
        """What is left of a mesh without its loose parts that are copies, and scatters of these."""
        part, count = parts(mesh.face_start, mesh.corner_point, mesh.surface(join_points))
        if count < self.least:
            return mesh, []
        faces = np.argsort(part, kind="stable")
        bounds = np.searchsorted(part[faces], np.arange(count + 1))
        shapes = _shapes_of_parts(mesh, faces, bounds, slots)
        first, transforms = self._found(shapes, notes)
        sizes = np.bincount(first, minlength=count)
        scatters: list[Scatter] = []
        gone = np.zeros(mesh.face_count, bool)
        for model in np.flatnonzero(sizes >= self.least):
            name = f"{mesh.name}_part_{len(scatters) + 1}"
            own = mesh.take_faces(faces[bounds[model] : bounds[model + 1]], name)
            foot = _foot(own, up)
            copies = np.flatnonzero(first == model)
            places = transforms[copies].copy()
            places[:, :3, 3] += places[:, :3, :3] @ foot
            scatters.append(Scatter(transformed(own, np.eye(3), -foot), places))
            for copy in copies:
                gone[faces[bounds[copy] : bounds[copy + 1]]] = True
        if not scatters:
            return mesh, []
        return (None if gone.all() else mesh.take_faces(np.flatnonzero(~gone))), scatters


class _Slots:
    """A number for each material, the same for equal ones."""

    def __init__(self) -> None:
        self._of: dict[int, int] = {}
        self._known: list[Material | None] = []

    def __call__(self, material: Material | None) -> int:
        if id(material) not in self._of:
            number = next((n for n, one in enumerate(self._known) if one == material), len(self._known))
            if number == len(self._known):
                self._known.append(material)
            self._of[id(material)] = number
        return self._of[id(material)]

    def of_faces(self, mesh: Mesh) -> NDArray[np.int32]:
        if not mesh.slots:
            return np.full(mesh.face_count, self(None), np.int32)
        return np.array([self(one) for one in mesh.slots], np.int32)[mesh.slot_of_face]


def _shape_of(mesh: Mesh, slots: _Slots) -> Shape:
    used = mesh.point_used
    corner, points = mesh.corner_point, mesh.points
    if not used.all():
        corner, points = (np.cumsum(used, dtype=np.int32) - 1)[corner], points[used]
    # What has smoothing groups is equal only where these are: a layer of their own, compared as they stand.
    layers = [
        (layer.kind, layer.at_corners(0.0 if layer.kind in ("normal", "tangent") else -1e6)) for layer in mesh.layers
    ]
    if mesh.face_smoothing is not None:
        layers.append(("uv", mesh.face_smoothing[mesh.corner_face].astype(np.float32)[:, None]))
    return Shape(points, mesh.face_start, corner, slots.of_faces(mesh), tuple(layers))


def _shapes_of_parts(mesh: Mesh, faces: NDArray[np.int64], bounds: NDArray[np.int64], slots: _Slots) -> list[Shape]:
    """The parts of a mesh, whose faces stand in order between bounds."""
    whole = mesh.take_faces(faces)
    full = _shape_of(whole, slots)
    corners = whole.face_start[bounds]
    shapes = []
    for first, last, begin, end in zip(bounds, bounds[1:], corners, corners[1:], strict=False):
        used, number = np.unique(full.corner_point[begin:end], return_inverse=True)
        shapes.append(
            Shape(
                full.points[used],
                full.face_start[first : last + 1] - begin,
                number.astype(np.int32),
                full.slot[first:last],
                tuple((kind, values[begin:end]) for kind, values in full.layers),
            )
        )
    return shapes


def _foot(mesh: Mesh, up: tuple[int, float]) -> Floats:
    """The middle of the lower side of the box of a mesh."""
    box = mesh.surface_bounds
    foot = box.mean(axis=0)
    axis, sign = up
    foot[axis] = box[0 if sign > 0 else 1, axis]
    return np.asarray(foot)


@dataclass(frozen=True, eq=False)
class _Thing:
    """One or several sibling nodes that are gathered together: what they are, and where each mesh of them is.

    ``key`` is what copies have in common, ``places`` (D, 4, 4) takes each mesh to the parent's space.
    """

    nodes: tuple[Node, ...]
    key: tuple[Any, ...]
    places: Floats


class _Gathering:
    """Copies under the same parents found and replaced, in one walk."""

    def __init__(self, scene: Scene, same: Mapping[int, tuple[Mesh, Floats]], least: int, numbers: set[int]) -> None:
        self._scene, self._same, self._least, self._numbers = scene, same, least, numbers
        self.copies = self.scatters = 0
        self._moved: dict[tuple[int, bytes], tuple[Mesh, Mesh]] = {}
        self.lost: set[str] = set()
        self._beside: dict[int, list[int]] = {}  # by number of a first node: all nodes of its asset
        self._apart: set[int] = set()  # numbers of nodes whose asset is in several places of the tree
        for asset in assets_of(scene):
            nodes = (*asset.main, *asset.rest)
            tops = [one for one in nodes if one.above is None or one.above not in nodes]
            if len(tops) > 1 and asset.main:
                alone = len({one.parent for one in tops}) > 1
                if alone:
                    self._apart |= {one.number for one in tops}
                else:
                    self._beside[tops[0].number] = [one.number for one in tops]

    def scene(self) -> Scene:
        order = list(self._scene.walk())
        children: dict[int, list[int]] = {}
        for placed in order:
            children.setdefault(placed.parent, []).append(placed.number)
        done: dict[int, Node] = {}
        for placed in reversed(order):
            below = tuple(self._gathered([(n, done.pop(n)) for n in children.get(placed.number, ())]))
            same = len(below) == len(placed.node.children) and all(
                one is other for one, other in zip(below, placed.node.children, strict=True)
            )
            done[placed.number] = placed.node if same else replace(placed.node, children=below)
        return replace(self._scene, roots=tuple(self._gathered([(n, done.pop(n)) for n in children.get(-1, ())])))

    def _gathered(self, nodes: Sequence[tuple[int, Node]]) -> list[Node]:
        """Siblings, with numbers of the walk, with copies as scatters in the place of the first."""
        by_number = dict(nodes)
        things: dict[tuple[Any, ...], list[_Thing]] = {}
        taken: set[int] = set()
        for number in by_number:
            if number in taken or number in self._apart or number not in self._numbers:
                continue
            own = [n for n in self._beside.get(number, [number]) if n in by_number]
            thing = self._thing([by_number[n] for n in own])
            if thing is not None:
                taken |= set(own)
                things.setdefault(thing.key, []).append(thing)
        instead: dict[int, tuple[Node, ...]] = {}
        for alike in things.values():
            for group in _placed_alike(alike):
                if len(group) >= self._least:
                    instead |= {id(node): () for thing in group for node in thing.nodes}
                    instead[id(group[0].nodes[0])] = self._scattered(group)
        return [new for _, node in nodes for new in instead.get(id(node), (node,))]

    def _thing(self, nodes: Sequence[Node]) -> _Thing | None:
        """What is gathered of some nodes; None where it cannot be."""
        places: list[Floats] = []
        keys = [self._key(node, np.eye(4), places) for node in nodes]
        if any(key is None for key in keys) or not places:
            return None
        return _Thing(tuple(nodes), tuple(keys), np.array(places))

    def _key(self, node: Node, above: Floats, places: list[Floats]) -> tuple[Any, ...] | None:
        """What a node and all below it have in common with copies; where its meshes are goes to ``places``."""
        if not node.visible or not (node.content is None or isinstance(node.content, Mesh)):
            return None
        if node.content is None and (not node.children or node.role != "visible"):
            return None
        here = above @ node.transform
        shown: int | None = None
        if node.mesh is not None:
            mesh, placed = self._same.get(id(node.mesh), (node.mesh, np.eye(4)))
            shown = id(mesh)
            places.append(here @ placed)
        below = []
        for child in node.children:
            key = self._key(child, here, places)
            if key is None:
                return None
            below.append(key)
        return node.role, node.groups, level_of(node), shown, tuple(below)

    def _scattered(self, group: Sequence[_Thing]) -> tuple[Node, ...]:
        """The nodes of the first of several copies, with scatters for their meshes."""
        self.copies += len(group)
        places = np.array([thing.places for thing in group])
        columns, kept = self._properties(group)
        shifts = self._pivots(group, places)
        number = iter(range(places.shape[1]))
        alone = places.shape[1] == 1 and not group[0].nodes[0].children

        def scattered(node: Node, first: bool) -> Node:
            content = None
            if node.mesh is not None:
                self.scatters += 1
                k = next(number)
                mesh = self._same.get(id(node.mesh), (node.mesh,))[0]
                content = self._about(mesh, places[:, k], shifts[k], columns if first else {})
            children = tuple(scattered(child, False) for child in node.children)
            name = node.mesh.name if alone and node.mesh is not None else node.name
            properties = (
                {**kept, **{k: v for k, v in node.properties.items() if k not in columns}} if first else node.properties
            )
            return replace(
                node, name=name, transform=np.eye(4), children=children, content=content, properties=properties
            )

        return tuple(scattered(node, n == 0) for n, node in enumerate(group[0].nodes))

    def _pivots(self, group: Sequence[_Thing], places: Floats) -> Floats:
        """(D, 3) where the pivot of each mesh goes, in its space: to the foot of what was stored without one.

        A mesh whose place is in its points has its pivot somewhere else; one that nodes share keeps it.
        """
        shifts = np.zeros((places.shape[1], 3))
        main = next((node.mesh for thing in group[:1] for node in thing.nodes if node.mesh is not None), None)
        shared = len({id(thing.nodes[0].mesh) for thing in group}) == 1
        if main is None or shared:
            return shifts
        mesh = self._same.get(id(main), (main,))[0]
        low, high = mesh.surface_bounds
        if (low <= 0).all() and (high >= 0).all():
            return shifts
        foot = places[0, 0] @ [*_foot(mesh, self._scene.frame.up), 1.0]
        for k, own in enumerate(places[0]):
            if abs(determinant(own[:3, :3])) > 0:
                shifts[k] = (np.linalg.inv(own) @ foot)[:3]
        return shifts

    def _about(self, mesh: Mesh, places: Floats, shift: Floats, columns: Mapping[str, NDArray[Any]]) -> Scatter:
        """A scatter of a mesh about another pivot."""
        if not shift.any():
            return Scatter(mesh, places, columns)
        key = id(mesh), shift.tobytes()
        if key not in self._moved:
            self._moved[key] = mesh, transformed(mesh, np.eye(3), -shift)
        places = places.copy()
        places[:, :3, 3] += places[:, :3, :3] @ shift
        return Scatter(self._moved[key][1], places, columns)

    def _properties(self, group: Sequence[_Thing]) -> tuple[dict[str, NDArray[Any]], dict[str, Any]]:
        """Numbers that each copy has, as columns, and what all have alike; names of the rest go to ``lost``."""
        own = [thing.nodes[0].properties for thing in group]
        columns: dict[str, NDArray[Any]] = {}
        kept: dict[str, Any] = {}
        for key in dict.fromkeys(key for one in own for key in one):
            values = [one.get(key) for one in own]
            if all(value == values[0] for value in values[1:]):
                kept[key] = values[0]
                continue
            try:
                column = np.array(values)
            except ValueError:
                column = np.array([None])
            if column.dtype.kind in "if" and column.ndim <= 2 and column[0].size <= 4:
                columns[key] = column
            else:
                self.lost.add(f"property '{key}'")
        for thing in group:
            for mesh in (node.mesh for node in thing.nodes if node.mesh is not None):
                model = self._same.get(id(mesh), (mesh,))[0]
                if mesh.properties != model.properties:
                    self.lost.add("properties of meshes")
                if mesh.face_sets.keys() != model.face_sets.keys() or mesh.point_sets.keys() != model.point_sets.keys():
                    self.lost.add("sets of faces and points")
        return columns, kept


def _placed_alike(things: Sequence[_Thing]) -> Iterable[list[_Thing]]:
    """Things in groups whose meshes stand alike about each other."""
    rest = list(things)
    while rest:
        places = np.array([thing.places for thing in rest])
        if places.shape[1] == 1:
            yield rest
            return
        first = places[0, 0]
        if not abs(determinant(first[:3, :3])) > 0:
            rest = rest[1:]
            continue
        moved = places[:, :1] @ (np.linalg.inv(first) @ places[0])
        size = np.abs(places).max(axis=(1, 2, 3))
        same = np.abs(moved - places).max(axis=(1, 2, 3)) <= 1e-5 * size
        yield [one for one, fits in zip(rest, same, strict=True) if fits]
        rest = [one for one, fits in zip(rest, same, strict=True) if not fits]
