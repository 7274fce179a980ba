"""Meshes exchanged for others, by a table or by name."""

from __future__ import annotations

import contextlib
import fnmatch
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from zesty_otter._reading import read_scene
from zesty_otter.errors import InputError, UsageError, ZestyOtterError, closest
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.model import (
    Material,
    Mesh,
    Node,
    Note,
    Placed,
    Scatter,
    Scene,
    reframed,
    shortened,
    transformed,
    turned_content,
    with_nodes_behind,
)
from zesty_otter.steps.assets import Asset, assets_of
from zesty_otter.steps.base import Step
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.stand_ins import FOR, MATERIALS, REPLACED, SIZE, TRIANGLES
from zesty_otter.steps.swap_tables import Row, read_table
from zesty_otter.steps.words import chosen_numbers

Floats = NDArray[np.float64]


class Swap(Step):
    """Put other meshes in place of those there are: by a table, or those of the same name in another file.

    Looks at visible meshes, scatters and stand-ins, by the name of their node, then of their mesh. Places, names and
    properties stay, and every copy of a scatter; levels, collision, shadow and bounds go with the old mesh and come
    with the new one. A table has a row for each, as CSV or TOML; a name that is written out comes before a pattern.
    Reports what no row matches, rows that match nothing, and new meshes of quite another size. Refuses rows with the
    same name, files and nodes that are not there, and scales that are not above zero.
    """

    slug: ClassVar[str] = "swap"
    example: ClassVar[dict[str, Any]] = {"table": "swaps.csv"}

    table: Path | None = Field(None, description="Table of swaps: .csv or .toml, with files from its folder.")
    source: Path | None = Field(
        None, description="Instead of a table: a file whose nodes take the place of those with the same name."
    )
    unit: str | None = Field(None, description="Unit of the source, where it does not say.")
    axes: str | None = Field(None, description="Axes of the source, where it does not say.")
    size_factor: float = Field(
        2.0, gt=1, description="How many times larger or smaller a new mesh may be without a finding."
    )

    @model_validator(mode="after")
    def _has_one_of_both(self) -> Swap:
        if (self.table is None) == (self.source is None):
            raise ValueError("set either table or source")
        return self

    def files(self) -> tuple[Path, ...]:
        named = super().files()
        with contextlib.suppress(ZestyOtterError):  # said when it is applied
            rows = read_table(self.table) if self.table is not None else ()
            named += tuple(dict.fromkeys(row.file for row in rows if row.file is not None and row.file.is_file()))
        return named

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        library = _Library(scene)
        rows = read_table(self.table) if self.table is not None else ()
        behind: dict[int, list[Node]] = {}
        changed: dict[int, Node] = {}
        gone: set[int] = set()
        used: set[str] = set()
        unmatched: list[str] = []
        notes: list[Note] = []
        for asset in assets_of(scene):
            for placed in asset.main:
                node = placed.node
                if placed.number not in numbers or node.drawn is None or not node.is_shown:
                    continue
                row = self._row(rows, node, library)
                if row is None:
                    unmatched += [node.name] if self.table is not None or node.role == "stand-in" else []
                    continue
                used.add(row.name)
                new = library.of(row, self.table)
                factor = new.size / _size_of(node, scene.frame.unit)
                if (
                    new.size
                    and (node.role != "stand-in" or SIZE in node.properties)
                    and not 1 / self.size_factor <= factor <= self.size_factor
                ):
                    text = f"the new mesh is {factor:.3g} times as large as the old one"
                    notes.append(self.note(text, kind="finding", node=node.name))
                nodes, lost = new.in_place_of(node)
                changed[placed.number], behind[placed.number] = nodes[0], nodes[1:]
                if lost:
                    notes.append(self.note(f"has no place in a scatter: {lost}", kind="lost", node=node.name))
            if any(one.number in changed for one in asset.main):
                gone |= {one.number for one in asset.rest if one.node.role in REPLACED}
        idle = [row.name for row in rows if row.name not in used]
        notes += self._remarks(len(changed), unmatched, idle)
        dropped = scene.rebuilt(
            lambda n, node: (
                node
                if n not in gone
                else replace(node, content=None, role="visible", name=node.name if node.children else _GONE)
            )
        )
        swapped = with_nodes_behind(dropped, behind, changed).map_nodes(_without_gone)
        swapped, renamed = _with_material_names(swapped)
        if renamed:
            text = f"materials that differ from others of their name now have numbers: {shortened(renamed)}"
            notes.append(self.note(text, kind="finding"))
        read = tuple(dict.fromkeys([*scene.read_files, *([self.table] if self.table else []), *library.read]))
        return replace(swapped, read_files=read).with_notes(*notes)

    def _remarks(self, count: int, unmatched: Sequence[str], idle: Sequence[str]) -> Iterator[Note]:
        """What was done, what no row is for, and which rows are for nothing."""
        if not count:
            where = self.table or self.source
            yield self.note(f"nothing in the scene has a name of {where}", kind="finding")
            return
        yield self.note("1 node shows another mesh now" if count == 1 else f"{count:,} nodes show other meshes now")
        if unmatched:
            matches = "no row matches" if self.table is not None else "not in the source"
            yield self.note(f"{matches}: {shortened(dict.fromkeys(unmatched))}", kind="finding")
        if idle:
            yield self.note(f"rows that match nothing: {shortened(idle)}", kind="finding")

    def _row(self, rows: Sequence[Row], node: Node, library: _Library) -> Row | None:
        """The row for a node: one that is written out, else the first whose pattern fits; its own name comes first."""
        assert node.drawn is not None
        told = node.properties.get(FOR)
        own = [*([told] if isinstance(told, str) else []), node.name]
        if self.source is not None:
            wanted = [Row(name=name, file=self.source, node=name, unit=self.unit, axes=self.axes) for name in own]
            return next((row for row in wanted if library.has(row)), None)
        names = dict.fromkeys([*own, node.drawn.name])
        for name in names:
            for row in rows:
                if row.name == name:
                    return row
        return next((row for name in names for row in rows if fnmatch.fnmatchcase(name, row.name)), None)


_GONE = "\0gone"


def _without_gone(node: Node) -> Node | None:
    """A node without what a swap removes; nodes below that stay."""
    return None if node.name == _GONE else node


def _with_material_names(scene: Scene) -> tuple[Scene, list[str]]:
    """The scene with equal materials made one, and others that share a name numbered; and their new names."""
    known: dict[str, list[Material]] = {}
    taken = {one.name for one in scene.materials}
    renamed: list[str] = []

    def change(material: Material) -> Material:
        alike = known.setdefault(material.name, [])
        for one in alike:
            if replace(one, name=material.name) == material:
                return one
        new = material
        if alike:
            number = 2
            while f"{material.name}_{number}" in taken:
                number += 1
            new = replace(material, name=f"{material.name}_{number}")
            taken.add(new.name)
            renamed.append(new.name)
        alike.append(new)
        return new

    return scene.map_materials(change), renamed


def _size_of(node: Node, metre: float | None) -> float:
    """The longest side of the box of a mesh, in units; what a stand-in says of the mesh it stands for."""
    said = node.properties.get(SIZE)
    if isinstance(said, list | tuple) and said and all(isinstance(one, int | float) for one in said):
        return max(float(max(said)) / (metre or 1.0), 1e-300)
    assert node.drawn is not None
    return max(_extent(node.drawn), 1e-300)


def _extent(mesh: Mesh) -> float:
    return float(np.nan_to_num(np.ptp(mesh.surface_bounds, axis=0)).max())


@dataclass(frozen=True, eq=False)
class _New:
    """What takes the place of a mesh: nodes without children, with what takes them to the pivot they stand about."""

    name: str
    nodes: tuple[tuple[Node, Floats], ...]

    @property
    def size(self) -> float:
        """The longest side of the largest visible mesh."""
        return max((_extent(one.drawn) for one, _ in self.nodes if one.drawn is not None and one.is_shown), default=0.0)

    def in_place_of(self, old: Node) -> tuple[list[Node], str]:
        """The new node, what stands behind it, and what could not be scattered."""
        shown = [pair for pair in self.nodes if pair[0].drawn is not None and pair[0].is_shown]
        rest = [pair for pair in self.nodes if pair not in shown]
        properties = {k: v for k, v in old.properties.items() if k not in (FOR, SIZE, TRIANGLES, MATERIALS)}
        base = replace(old, role="visible", properties=properties)
        lost = ""
        if isinstance(old.content, Scatter):
            lost = shortened([one.name for one, _ in rest if one.drawn is None])
            rest = [pair for pair in rest if pair[0].drawn is not None]
        if len(shown) == 1 and not isinstance(shown[0][0].content, Scatter):
            role = shown[0][0].role
            first = replace(base, role=role, content=_placed(shown[0][0], shown[0][1], old).content)
            more = [_placed(one, matrix, old) for one, matrix in rest]
            return [first, *(self._named(one, old) for one in more)], lost
        below = tuple(self._named(replace(_placed(one, m, old), transform=np.eye(4)), old) for one, m in self.nodes
                      if one.drawn is not None or not lost)  # fmt: skip
        return [replace(base, content=None, children=(*below, *old.children))], lost

    def _named(self, node: Node, old: Node) -> Node:
        """A node that belongs to what has the old name now."""
        ending = node.name.removeprefix(self.name) if self.name and node.name.startswith(self.name) else f"_{node.name}"
        properties = {**node.properties, "asset": old.name} if node.role != "visible" else node.properties
        return replace(node, name=old.name + ending, properties=properties, groups=old.groups)


def _placed(new: Node, matrix: Floats, old: Node) -> Node:
    """A node in the place of an old one, scattered as that was; its matrix, already in meshes, moves all else."""
    if isinstance(old.content, Scatter):
        content = new.content
        if isinstance(content, Scatter):
            places = (old.content.transforms[:, None] @ content.transforms[None]).reshape(-1, 4, 4)
            return replace(new, transform=old.transform, content=Scatter(content.mesh, places))
        assert isinstance(content, Mesh)
        return replace(new, transform=old.transform, content=replace(old.content, mesh=content))
    return replace(new, transform=old.transform @ matrix)


class _Shelf:
    """A scene to take assets from, by name; the first of a name counts."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.assets: dict[str, Asset] = {}
        for asset in assets_of(scene):
            self.assets.setdefault(asset.name, asset)
        self._children: dict[int, list[Placed]] = {}
        for placed in scene.walk():
            self._children.setdefault(placed.parent, []).append(placed)

    def below(self, asset: Asset) -> Iterator[Placed]:
        """Lights and cameras below the nodes of an asset."""
        own = {one.number for one in (*asset.main, *asset.rest)}
        waiting = [child for number in sorted(own) for child in self._children.get(number, ())]
        while waiting:
            one = waiting.pop(0)
            if one.number in own or one.node.drawn is not None:
                continue
            waiting += self._children.get(one.number, ())
            if one.node.content is not None:
                yield one


class _Library:
    """What tables name, each file read once and each row made once."""

    def __init__(self, scene: Scene) -> None:
        self._scene = scene
        self._scenes: dict[tuple[Path | None, str | None, str | None], _Shelf] = {}
        self._made: dict[Any, _New] = {}
        self.read: list[Path] = []

    def has(self, row: Row) -> bool:
        """Whether the row's file has its node."""
        return row.node in self._shelf(row).assets

    def of(self, row: Row, table: Path | None) -> _New:
        key = (row.file, row.node, row.turn, row.scale, row.pivot, row.unit, row.axes)
        if key not in self._made:
            try:
                self._made[key] = self._new(row)
            except UsageError as error:
                if table is None or error.file is not None:
                    raise
                raise UsageError(error.problem, file=table, place=row.place, remedy=error.remedy) from None
            except InputError as error:
                if table is None:
                    raise
                problem = f"{error.problem.rstrip('.')} (named in {table.name}, {row.place})."
                raise InputError(problem, file=error.file, place=error.place, remedy=error.remedy) from None
        return self._made[key]

    def _shelf(self, row: Row) -> _Shelf:
        """What a row takes from, in the frame of the scene it is for."""
        key = row.file, row.unit, row.axes
        if key not in self._scenes:
            self._scenes[key] = _Shelf(self._scene if row.file is None else self._read(row.file, row))
        return self._scenes[key]

    def _read(self, file: Path, row: Row) -> Scene:
        scene = read_scene(file, row.unit, row.axes)
        self.read += [file, *scene.read_files]
        scene.unit_for("putting it into the scene")
        frame = self._scene.frame
        return Roles().apply(reframed(scene, replace(frame, unit=frame.unit or scene.frame.unit)))

    def _new(self, row: Row) -> _New:
        shelf = self._shelf(row)
        if row.node is None:
            placed = [one for one in shelf.scene.walk() if one.node.content is not None and one.visible]
            origin = np.eye(4)
            name = next(iter(shelf.assets)) if len(shelf.assets) == 1 else ""
        else:
            found = shelf.assets.get(row.node)
            if found is None:
                known = list(shelf.assets)
                where = row.file.name if row.file is not None else "the scene"
                raise UsageError(
                    f"{where} has no node '{row.node}'.{closest(row.node, known)}",
                    remedy=f"It has {shortened(known)}." if known else "It has no mesh.",
                )
            top = found.main[0] if found.main else found.rest[0]
            placed = [*found.main, *found.rest, *shelf.below(found)]
            origin, name = top.world, found.name
        if not any(one.node.drawn is not None and one.node.drawn.face_count for one in placed):
            raise UsageError("has no mesh to put there.", file=row.file, remedy="Name another file or node.")
        undone = np.asarray(np.linalg.pinv(origin), np.float64)  # what is flat has no other
        nodes = [(one.node, np.eye(4) if one.world is origin else undone @ one.world) for one in placed]
        if row.node is not None and isinstance(placed[0].node.content, Scatter):
            # Of a scatter one copy is meant, with what is scattered alike.
            own = placed[0].node.content.transforms
            nodes = [
                (replace(node, content=node.content.mesh), np.eye(4))
                for node, _ in nodes
                if isinstance(node.content, Scatter) and np.array_equal(node.content.transforms, own)
            ]
        matrix = _matrix(row, nodes, self._scene)
        return _New(name, tuple(_baked(node, matrix @ own) for node, own in nodes))


def _matrix(row: Row, nodes: Sequence[tuple[Node, Floats]], scene: Scene) -> Floats:
    """What a row says is done with the new mesh: its pivot, then scale and turn."""
    matrix = np.eye(4)
    for axis, degrees in enumerate(row.turn):
        if degrees:
            matrix[:3, :3] = about_axis(np.eye(3)[axis], np.radians(degrees)) @ matrix[:3, :3]
    matrix[:3, :3] = np.where(
        np.abs(matrix[:3, :3] - np.rint(matrix[:3, :3])) < 1e-12, np.rint(matrix[:3, :3]), matrix[:3, :3]
    )
    matrix[:3, :3] *= row.scale
    if row.pivot != "keep":
        shown = tuple(Node(node.name, own, content=node.content) for node, own in nodes if node.drawn and node.is_shown)
        box = replace(scene, roots=shown).bounds()
        foot = box.mean(axis=0)
        if row.pivot == "base":
            axis, sign = scene.frame.up
            foot[axis] = box[0 if sign > 0 else 1, axis]
        matrix[:3, 3] = -matrix[:3, :3] @ foot
    return matrix


def _baked(node: Node, matrix: Floats) -> tuple[Node, Floats]:
    """The node without children and with the matrix in its mesh, and what is left of that for others."""
    alone = replace(node, children=(), transform=np.eye(4))
    linear, offset = matrix[:3, :3], matrix[:3, 3]
    if isinstance(node.content, Mesh):
        if np.array_equal(matrix, np.eye(4)):
            return alone, np.eye(4)
        return replace(alone, content=transformed(node.content, linear, offset)), np.eye(4)
    if isinstance(node.content, Scatter):
        return replace(alone, content=replace(node.content, transforms=matrix @ node.content.transforms)), np.eye(4)
    move = np.eye(4)
    move[:3, 3] = offset
    return replace(alone, content=turned_content(node.content, linear)), move
