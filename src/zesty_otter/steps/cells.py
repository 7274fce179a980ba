"""Scatters and whole levels cut into squares of the ground."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field

from zesty_otter.errors import UsageError
from zesty_otter.geometry.surface.grid_cuts import cut_along_grid
from zesty_otter.geometry.surface.normals import unit_rows
from zesty_otter.model import (
    Layer,
    Mesh,
    Node,
    Placed,
    Scatter,
    Scene,
    content_bounds,
    corners_of_faces,
    count_of,
    format_length,
    shortened,
)
from zesty_otter.polygons import triangulated
from zesty_otter.shading import with_implied_normals
from zesty_otter.steps.assets import CELL, Asset, assets_of
from zesty_otter.steps.base import Length, Step
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.siblings import holds
from zesty_otter.steps.words import chosen_numbers

_MOST_CELLS = 50_000
_MOST_QUARTERS = 6
_ON_LINE = 1e-9  # of a cell

Floats = NDArray[np.float64]


class Cells(Step):
    """Cut scatters and whole levels into square cells of the ground, a node for each.

    Looks at everything with a mesh, light or camera. Copies of a scatter go to the cell they stand in; an asset goes
    with its levels, collision and all below it to the cell of its pivot. Cut, meshes that reach over several cells
    are cut along their borders, with levels and collision, so that each cell has its piece and no gap is left. Nodes
    of cells stand at the origin and are named by their place: r3_f2 is the fourth to the right of the origin and the
    third forward, l1_b1 the first to the left and back; so a change in one corner changes the cells there only.
    Groups keep the names of former parents. Reports what is larger than a cell. Refuses sizes that give too many
    cells.
    """

    slug: ClassVar[str] = "cells"
    example: ClassVar[dict[str, Any]] = {"size": 20.0, "triangles": 500_000}

    size: Length = Field(gt=0, allow_inf_nan=False, description="Side of a cell: 20m.")
    by: Literal["pivot", "cut"] = Field(
        "pivot", description="pivot: everything goes whole to the cell of its pivot; cut: large meshes are cut."
    )
    instances: int | None = Field(
        None,
        ge=1,
        description="Maximum copies and objects in a cell; fuller ones are quartered, and named r3_f2_0 to _3.",
    )
    triangles: int | None = Field(
        None, ge=1, description="Maximum visible triangles in a cell, all copies counted; fuller ones are quartered."
    )
    names: Annotated[str, AfterValidator(holds("cell"))] = Field(
        "cell_{cell}", description="Names of the nodes, from {cell}."
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        metre = scene.unit_for("cutting into cells")
        ground = _Ground(scene, self.size / metre)
        sorting = _Sorting(scene, ground, numbers, cut=self.by == "cut")
        loads = sorting.loads()
        cells = _by_cell(loads)
        if len(cells) > _MOST_CELLS:
            raise UsageError(
                f"step '{self.slug}': {format_length(self.size)} gives {len(cells):,} cells.",
                remedy="Choose a larger size.",
            )
        made: list[Node] = []
        full: list[str] = []
        for (x, y), load in sorted(cells.items(), key=lambda pair: pair[0]):
            for name, part in self._quartered(_place_name(x, y), load, np.array([x, y]) + 0.5, 0.25):
                if self._is_over(part):
                    full.append(name)
                children = tuple(node for one in part for node in one.nodes(name))
                properties = {CELL: name, "cell_size": self.size}
                made.append(Node(self.names.replace("{cell}", name), children=children, properties=properties))
        notes = [self.note(f"cut into {count_of(len(made), 'cell')} of {format_length(self.size)}")]
        if sorting.large:
            remedy = "by=cut cuts meshes, or choose a larger size" if self.by == "pivot" else "choose a larger size"
            text = f"larger than a cell of {format_length(self.size)}: {shortened(sorting.large)}; {remedy}"
            notes.append(self.note(text, kind="finding"))
        if full:
            text = f"over the limit after {_MOST_QUARTERS} divisions, or for one object alone: {shortened(full)}"
            notes.append(self.note(text, kind="finding"))
        if not made:
            return scene.with_notes(self.note("nothing to cut into cells", kind="finding"))
        rest = sorting.rest()
        return replace(rest, roots=(*rest.roots, *made)).with_notes(*notes)

    def _is_over(self, loads: Sequence[_Load]) -> bool:
        copies, triangles = sum(one.count for one in loads), sum(one.triangles for one in loads)
        over = self.instances is not None and copies > self.instances
        return over or (self.triangles is not None and triangles > self.triangles)

    def _quartered(
        self, name: str, loads: list[_Load], middle: Floats, half: float
    ) -> Iterator[tuple[str, list[_Load]]]:
        """A cell, or the parts of it that are within its limits, by name."""
        if not self._is_over(loads) or sum(one.count for one in loads) < 2 or half < 0.25 / 2 ** (_MOST_QUARTERS - 1):
            yield name, loads
            return
        inner = name if half < 0.25 else f"{name}_"
        for quarter in range(4):
            parts = [part for one in loads if (part := one.in_quarter(quarter, middle)) is not None]
            if parts:
                away = (half * (1 if quarter & 1 else -1), half * (1 if quarter & 2 else -1))
                yield from self._quartered(f"{inner}{quarter}", parts, middle + away, half / 2)


def _triangles_of(node: Node) -> int:
    """How many triangles a node shows near by, all copies counted."""
    if node.drawn is None or not node.is_shown:
        return 0
    return node.drawn.triangle_count * (node.content.count if isinstance(node.content, Scatter) else 1)


def _place_name(x: int, y: int) -> str:
    across = f"r{x}" if x >= 0 else f"l{-x}"
    along = f"f{y}" if y >= 0 else f"b{-y}"
    return f"{across}_{along}"


@dataclass(frozen=True, eq=False)
class _Load:
    """What goes into cells: whole nodes that stand in one place, or scatters whose copies stand in several.

    ``where`` (N, 2) is in cells, to the right and forward; ``each`` is the number of triangles in one of them.
    """

    whole: tuple[Node, ...]
    where: Floats
    each: int
    scattered: bool = False
    picked: NDArray[np.int64] | None = None

    @property
    def count(self) -> int:
        return len(self.where)

    @property
    def triangles(self) -> int:
        return self.each * self.count

    def at(self, which: NDArray[np.int64]) -> _Load:
        """Only some of it."""
        picked = which if self.picked is None else self.picked[which]
        return replace(self, where=self.where[which], picked=picked)

    def in_quarter(self, quarter: int, middle: Floats) -> _Load | None:
        sides = (self.where >= middle).astype(np.int8)
        which = np.flatnonzero(sides[:, 0] + 2 * sides[:, 1] == quarter)
        return self.at(which) if len(which) else None

    def nodes(self, cell: str) -> tuple[Node, ...]:
        """What goes into a cell; parts of scatters are called after it."""
        if not self.scattered or self.picked is None:
            return self.whole
        main = self.whole[0].name
        parts = []
        for node in self.whole:
            assert isinstance(node.content, Scatter)
            part = replace(node, content=node.content.take(self.picked))
            parts.append(_called_after(part, main, f"_{cell}"))
        return tuple(parts)


def _called_after(node: Node, main: str, ending: str) -> Node:
    """A part of a node, or of what belongs to it, with an ending behind the name of the asset."""
    if node.name == main:
        return replace(node, name=main + ending)
    name = main + ending + node.name.removeprefix(main) if node.name.startswith(main) else node.name + ending
    return replace(node, name=name, properties={**node.properties, "asset": main + ending})


def _by_cell(loads: Sequence[_Load]) -> dict[tuple[int, int], list[_Load]]:
    found: dict[tuple[int, int], list[_Load]] = {}
    for load in loads:
        cells = np.floor(load.where).astype(np.int64)
        order = np.lexsort((cells[:, 1], cells[:, 0]))
        rows = cells[order]
        starts = np.flatnonzero(np.concatenate([[True], (rows[1:] != rows[:-1]).any(axis=1)]))
        for start, stop in zip(starts, [*starts[1:], len(rows)], strict=True):
            whole = start == 0 and stop == len(rows)
            part = load if whole else load.at(order[start:stop])
            found.setdefault((int(rows[start, 0]), int(rows[start, 1])), []).append(part)
    return found


class _Ground:
    """Where things stand on the ground, in cells to the right and forward."""

    def __init__(self, scene: Scene, size: float) -> None:
        basis = scene.frame.basis  # to left, up, forward
        self._rows = np.stack([-basis[0], basis[2]]) / size

    def of(self, points: Floats) -> Floats:
        """(N, 2) of points (N, 3) in the space of the scene."""
        return points @ self._rows.T

    def spans(self, box: Floats) -> bool:
        """Whether a box (2, 3) reaches over several cells."""
        corners = self.of(box)
        low, high = corners.min(axis=0) + _ON_LINE, corners.max(axis=0) - _ON_LINE
        return bool((np.floor(low) != np.floor(high)).any() and (low < high).any())

    def is_larger(self, box: Floats) -> bool:
        """Whether a box is larger than a cell."""
        corners = self.of(box)
        return bool((np.ptp(corners, axis=0) > 1 + _ON_LINE).any())


@dataclass(eq=False)
class _Sorting:
    """What goes into cells, and what stays as it is."""

    scene: Scene
    ground: _Ground
    numbers: set[int]
    cut: bool
    large: list[str] = field(default_factory=list)
    moved: set[int] = field(default_factory=set)

    def __post_init__(self) -> None:
        self._order = list(self.scene.walk())
        self._children: dict[int, list[Placed]] = {}
        for placed in self._order:
            self._children.setdefault(placed.parent, []).append(placed)
        self._asset: dict[int, Asset] = {}
        for asset in assets_of(self.scene):
            for one in (*asset.main, *asset.rest):
                self._asset[one.number] = asset

    def rest(self) -> Scene:
        """The scene without what went into cells, and without parents that have nothing left."""

        def make(n: int, node: Node) -> Node | None:
            if n in self.moved:
                return replace(node, content=None, role="visible", properties={}) if node.children else None
            emptied = node.content is None and not node.children and self._order[n].node.children
            return None if emptied else node

        return self.scene.rebuilt(make)

    def loads(self) -> list[_Load]:
        found: list[_Load] = []
        for placed in self._order:
            if placed.number in self.moved or placed.number not in self.numbers or not self._leads(placed):
                continue
            found += self._taken(placed)
        return found

    def _leads(self, placed: Placed) -> bool:
        """Whether it is what others go with, and not itself with something else that is moved."""
        content = placed.node.content
        if (content is None and placed.node.role == "visible") or (isinstance(content, Scatter) and not content.count):
            return False
        asset = self._asset.get(placed.number)
        leader = asset.main[0] if asset is not None and asset.main else None
        return leader is None or placed in asset.main or leader.number not in self.numbers  # type: ignore[union-attr]

    def _taken(self, placed: Placed) -> Iterator[_Load]:
        """What goes into cells with a node, which is moved by that."""
        node = placed.node
        asset = self._asset.get(placed.number)
        rest = [one for one in asset.rest if one.number in self.numbers] if asset and placed in asset.main else []
        box = content_bounds(placed)
        if isinstance(node.content, Scatter):
            together = [one for one in (placed, *rest) if self._is_scattered_alike(one, placed)]
            self.moved |= {one.number for one in together}
            places = placed.world[:3, :3] @ node.content.transforms[:, :3, 3].T + placed.world[:3, 3:]
            nodes = tuple(self._in_world(one, whole=False) for one in together)
            yield _Load(nodes, self.ground.of(places.T), node.content.mesh.triangle_count, scattered=True)
            for one in rest:
                if one.number not in self.moved:
                    yield from self._taken(one)
            return
        if self.cut and node.mesh is not None and np.isfinite(box).all() and self.ground.spans(box):
            for one in (placed, *rest):
                if one.node.mesh is not None and one.number not in self.moved:
                    self.moved.add(one.number)
                    yield from self._pieces(one, placed)
            return
        if node.drawn is not None and np.isfinite(box).all() and self.ground.is_larger(box):
            self.large.append(node.name)
        where = box.mean(axis=0) if self.cut and np.isfinite(box).all() else placed.world[:3, 3]
        whole = [self._in_world(placed, whole=True)]
        inside = self._all_below(placed)
        self.moved |= inside
        for one in rest:
            if one.number not in self.moved:
                whole.append(self._in_world(one, whole=True))
                self.moved |= self._all_below(one)
        triangles = sum(_triangles_of(self._order[n].node) for n in inside)
        yield _Load(tuple(whole), self.ground.of(where[None]), triangles)

    @staticmethod
    def _is_scattered_alike(one: Placed, main: Placed) -> bool:
        own, other = one.node.content, main.node.content
        if not (isinstance(own, Scatter) and isinstance(other, Scatter)):
            return False
        return np.array_equal(one.world, main.world) and np.array_equal(own.transforms, other.transforms)

    def _all_below(self, placed: Placed) -> set[int]:
        found, waiting = set(), [placed]
        while waiting:
            one = waiting.pop()
            found.add(one.number)
            waiting += self._children.get(one.number, [])
        return found

    def _in_world(self, placed: Placed, *, whole: bool) -> Node:
        """A node as it hangs from the root, with all below it when ``whole``."""
        groups = tuple(dict.fromkeys([*placed.node.groups, *placed.path[-2::-1]]))
        children = placed.node.children if whole else ()
        visible = placed.visible
        return replace(placed.node, transform=placed.world, children=children, groups=groups, visible=visible)

    def _pieces(self, placed: Placed, main: Placed) -> Iterator[_Load]:
        """The pieces of a mesh that reaches over several cells."""
        mesh = placed.node.mesh
        assert mesh is not None
        node = self._in_world(placed, whole=False)
        for (x, y), piece in cut_mesh(mesh, self.ground.of(mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3])):
            ending = f"_{_place_name(x, y)}"
            new = _called_after(node, main.node.name, ending)
            new = replace(new, content=piece.replace(name=mesh.name + ending))
            shown = piece.triangle_count if node.is_shown else 0
            yield _Load((new,), np.array([[x + 0.5, y + 0.5]]), shown)


def cut_mesh(mesh: Mesh, ground: Floats) -> Iterator[tuple[tuple[int, int], Mesh]]:
    """The pieces of a mesh in the cells of a grid, by cell; faces that cross a border are cut there.

    Parameters
    ----------
    mesh : Mesh
    ground : (P, 2) float64
        Where each point lies on the ground, in cells.

    Yields
    ------
    cell : (int, int)
    piece : Mesh
    """
    if not mesh.face_count:
        return
    mesh = with_implied_normals(mesh)
    corners = ground[mesh.corner_point]
    low = np.floor(np.minimum.reduceat(corners, mesh.face_start[:-1], axis=0) + _ON_LINE)
    high = np.ceil(np.maximum.reduceat(corners, mesh.face_start[:-1], axis=0) - _ON_LINE)
    crossing = np.asarray((high - low > 1).any(axis=1))
    if crossing.any():
        mesh, ground = _cut(mesh, crossing, ground)
    sums = np.add.reduceat(ground[mesh.corner_point], mesh.face_start[:-1], axis=0)
    cell = np.floor(sums / mesh.face_size[:, None]).astype(np.int64)
    order = np.lexsort((cell[:, 1], cell[:, 0]))
    rows = cell[order]
    starts = np.flatnonzero(np.concatenate([[True], (rows[1:] != rows[:-1]).any(axis=1)]))
    for start, stop in zip(starts, [*starts[1:], len(rows)], strict=True):
        yield (int(rows[start, 0]), int(rows[start, 1])), mesh.take_faces(order[start:stop])


def _cut(mesh: Mesh, crossing: NDArray[np.bool_], ground: Floats) -> tuple[Mesh, Floats]:
    """The mesh with some faces cut along the borders of cells, and where its points lie."""
    sizes = np.where(crossing, mesh.face_size - 2, 1)
    mesh = triangulated(mesh, "shortest-diagonal", crossing)
    crossing = np.repeat(crossing, sizes)
    taken = np.flatnonzero(crossing)
    corners, _ = corners_of_faces(mesh.face_start, taken)
    tables = [layer.at_corners(0.0)[corners].reshape(-1, 3, layer.values.shape[1]) for layer in mesh.layers]
    triangles = mesh.corner_point[corners].reshape(-1, 3).astype(np.int64)
    points, ground, pieces, source, values = cut_along_grid(mesh.points, ground, triangles, tables, 1.0)
    kept = np.flatnonzero(~crossing)
    old, start = corners_of_faces(mesh.face_start, kept)
    face = np.concatenate([kept, taken[source]])
    layers = []
    for layer, table in zip(mesh.layers, values, strict=True):
        rows, number = np.unique(table.reshape(-1, table.shape[2]), axis=0, return_inverse=True)
        if layer.kind in ("normal", "tangent"):
            rows[:, :3] = unit_rows(rows[:, :3])
        if layer.kind == "tangent" and rows.shape[1] == 4:
            rows[:, 3] = np.where(rows[:, 3] < 0, -1, 1)
        index = np.concatenate([layer.index[old], len(layer.values) + number.ravel()])
        layers.append(Layer(layer.kind, np.concatenate([layer.values, rows]), index, layer.name))
    return mesh.replace(
        points=points,
        face_start=np.concatenate([start, start[-1] + 3 * np.arange(1, len(pieces) + 1)]),
        corner_point=np.concatenate([mesh.corner_point[old], pieces.ravel()]),
        layers=tuple(layers),
        face_slot=None if mesh.face_slot is None else mesh.face_slot[face],
        face_smoothing=None if mesh.face_smoothing is None else mesh.face_smoothing[face],
        face_sets={name: np.flatnonzero(np.isin(face, members)) for name, members in mesh.face_sets.items()},
    ), ground
