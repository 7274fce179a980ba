"""Meshes joined, and meshes divided."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.errors import UsageError
from zesty_otter.geometry.queries.distance import Surface
from zesty_otter.geometry.surface.corners import join_points, split_corners
from zesty_otter.geometry.surface.cutting import cut_to_size
from zesty_otter.geometry.surface.topology import parts
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Content, Mesh, Node, Placed, Scene, content_bounds, count_of, joined_meshes, transformed
from zesty_otter.shading import with_all_normals, with_implied_normals
from zesty_otter.steps.assets import Asset, assets_of, level_of
from zesty_otter.steps.base import Step
from zesty_otter.steps.lighter import HeavyMesh
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.words import chosen_numbers


class Join(Step):
    """Join all visible meshes into one, and the meshes of each level into one level.

    Looks at visible meshes, levels and shadow meshes in world space. Transforms are baked, slots with the same
    material are merged, seams, normals and UV sets stay. A mesh without a certain level enters it as it was at the
    level before, and the deviation of the whole is measured again. Collision parts stay separate and belong to the
    joined asset; nodes that end up empty are removed. Refuses nothing.
    """

    slug: ClassVar[str] = "join"
    example: ClassVar[dict[str, Any]] = {"name": "quay", "at": "origin"}

    name: str | None = Field(None, description="Name of the joined mesh; that of the scene when absent.")
    at: Literal["first", "parent", "origin"] = Field(
        "first",
        description="Its pivot: that of the first mesh, that of the parent of the first mesh, or the world's origin.",
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        assets = [one for one in assets_of(scene) if any(_is_joinable(placed, numbers) for placed in one.main)]
        visible = [placed for one in assets for placed in one.main if _is_joinable(placed, numbers)]
        if len(visible) < 2:
            return scene
        name = self.name or scene.name or visible[0].node.name
        pivot = self._pivot(scene, visible[0])
        metre = scene.frame.unit or 1.0
        whole = joined_node(visible, name, pivot)
        made = [replace(whole, role=visible[0].node.role, properties=visible[0].node.properties)]
        gone = {placed.number for placed in visible}
        rest = [placed for one in assets for placed in one.rest if _is_joinable(placed, numbers)]
        levels = [placed for placed in rest if placed.node.role == "level"]
        for level in sorted({level_of(placed.node) for placed in levels} - {0}):
            group = [placed for one in assets for placed in _as_of_level(one, level, numbers)]
            node = joined_node(group, f"{name}_LOD{level}", pivot)
            made.append(replace(node, role="level", properties=_measured(name, level, group, whole, node, metre)))
        gone |= {placed.number for placed in levels}
        shadows = [placed for placed in rest if placed.node.role == "shadow"]
        if shadows:
            node = joined_node(shadows, f"{name}_shadow", pivot)
            made.append(replace(node, role="shadow", properties={**shadows[0].node.properties, "asset": name}))
            gone |= {placed.number for placed in shadows}
        solid = [placed.number for placed in rest if placed.node.role == "collision"]
        number = {one: n for n, one in enumerate(solid, 1)}

        def of_the_whole(n: int, node: Node) -> Node:
            if n not in number:
                return node
            properties = {**node.properties, "asset": name}
            return replace(node, name=f"{name}_collision_{number[n]}", properties=properties)

        rest_of_scene = without_content(scene.rebuilt(of_the_whole), gone)
        note = self.note(f"{count_of(len(gone), 'mesh')} joined into {len(made)}: {', '.join(n.name for n in made)}")
        return replace(rest_of_scene, roots=(*made, *rest_of_scene.roots)).with_notes(note)

    def _pivot(self, scene: Scene, first: Placed) -> NDArray[np.float64]:
        if self.at == "origin":
            return np.zeros(3)
        if self.at == "parent" and first.parent >= 0:
            return next(placed.world[:3, 3] for placed in scene.walk() if placed.number == first.parent)
        return first.world[:3, 3]


def _is_joinable(placed: Placed, numbers: set[int]) -> bool:
    mesh = placed.node.mesh
    return placed.number in numbers and mesh is not None and placed.node.role != "bounds"


def _as_of_level(asset: Asset, level: int, numbers: set[int]) -> list[Placed]:
    """What an asset shows at a level: its own mesh for that, else the last one before."""
    there: dict[int, list[Placed]] = {0: [one for one in asset.main if _is_joinable(one, numbers)]}
    for placed in asset.rest:
        if placed.node.role == "level" and _is_joinable(placed, numbers):
            there.setdefault(level_of(placed.node), []).append(placed)
    return there[max(number for number in there if number <= level)]


def _measured(name: str, level: int, group: Sequence[Placed], whole: Node, light: Node, metre: float) -> dict[str, Any]:
    """The properties of a joined level: what it differs by from the joined mesh, and from where it may be shown."""
    parts = [placed for placed in group if _number(placed, "distance") is not None]
    properties: dict[str, Any] = {"asset": name, "level": level}
    if whole.mesh is None or light.mesh is None or not parts:
        return properties
    found = HeavyMesh(whole.mesh).measured(light.mesh)
    first = max(parts, key=lambda one: _number(one, "distance") or 0.0)
    before, height = _number(first, "distance") or 0.0, _number(first, "screen_height")
    # One metre of deviation is seen as far off as in its parts.
    known = [(_number(one, "distance") or 0.0, _number(one, "deviation")) for one in parts]
    reach = max((away / moved for away, moved in known if moved), default=0.0)
    distance = max(before, reach * found.largest * metre)
    measures = {
        "deviation": found.largest * metre,
        "deviation_95": found.most * metre,
        "deviation_mean": found.mean * metre,
        "normal_deviation": found.normals,
        "texture_slide": found.texture * metre,
        "border_drift": found.border * metre,
        "seam_drift": found.seam * metre,
        "distance": distance,
    }
    if distance > 0 and height:
        sizes = [float(np.ptp(content_bounds(one), axis=0).max()) for one in (first, replace(first, node=whole))]
        grown = sizes[1] / max(sizes[0], 1e-12)
        measures["screen_height"] = height * grown * before / distance
    rounded = {key: float(f"{value:.6g}") for key, value in measures.items()}
    return {**properties, "triangles": light.mesh.triangle_count, **rounded}


def _number(placed: Placed, key: str) -> float | None:
    """A property that is a number; a file may say anything."""
    value = placed.node.properties.get(key)
    return float(value) if isinstance(value, int | float) and math.isfinite(value) and value >= 0 else None


def joined_node(group: Sequence[Placed], name: str, pivot: NDArray[np.float64]) -> Node:
    """One node at ``pivot`` that shows what several nodes show, upright and unscaled."""
    meshes = []
    for placed in group:
        assert placed.node.mesh is not None
        linear, offset = placed.world[:3, :3], placed.world[:3, 3] - pivot
        straight = np.array_equal(linear, np.eye(3)) and not offset.any()
        meshes.append(placed.node.mesh if straight else transformed(placed.node.mesh, linear, offset))
    transform = np.eye(4)
    transform[:3, 3] = pivot
    groups = tuple(dict.fromkeys(group_name for placed in group for group_name in placed.node.groups))
    return Node(name, transform, (), joined_meshes(name, meshes), any(p.visible for p in group), groups)


def without_content(scene: Scene, numbers: set[int]) -> Scene:
    """The scene with some nodes empty, and without those of them, and of their parents, that hold nothing more."""

    def make(n: int, node: Node) -> Node | None:
        had = before[n]
        content: Content | None = None if n in numbers else node.content
        emptied = n in numbers or bool(had.children and not node.children)
        if content is None and not node.children and emptied:
            return None
        return replace(node, content=content)

    before = [placed.node for placed in scene.walk()]
    return scene.rebuilt(make)


class Divide(Step):
    """Divide meshes: into loose parts, by material, or into pieces that 16-bit indices can count.

    Looks at every mesh. Each part becomes a node below the one that showed the mesh, which stays as an empty
    parent, so that nothing moves. Cut to a size, levels and shadow meshes are cut where their visible mesh is, so that
    each piece has its own. Normals that depend on smoothing groups are fixed first, so that no seam shows. Refuses a
    size that is smaller than a single face.
    """

    slug: ClassVar[str] = "divide"
    example: ClassVar[dict[str, Any]] = {"by": "size", "vertices": 65535}

    by: Literal["parts", "material", "size"] = Field(
        "parts", description="parts: by connected parts; material: by slot; size: into the fewest compact pieces."
    )
    vertices: int = Field(
        65535, ge=3, description="For by = size: maximum vertices of a piece, counted as renderers do, split at seams."
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        divided: dict[int, tuple[Mesh, ...]] = {}
        beside = self._cut_alike(scene, numbers, divided) if self.by == "size" else {}

        def make(n: int, node: Node) -> Node:
            mesh = node.mesh
            if mesh is None or n not in numbers or not mesh.face_count:
                return node
            pieces = beside.get(n) or self._divided(mesh, divided)
            if len(pieces) == 1:
                return node
            children = tuple(
                _piece(node, piece, piece.name.removeprefix(mesh.name), number)
                for number, piece in enumerate(pieces, 1)
            )
            return replace(node, content=None, children=(*children, *node.children))

        changed = scene.rebuilt(make)
        several = [pieces for pieces in divided.values() if len(pieces) > 1]
        if not several:
            return scene
        total = sum(map(len, several))
        return changed.with_notes(self.note(f"{count_of(len(several), 'mesh')} divided into {total}, by {self.by}"))

    def _divided(self, mesh: Mesh, divided: dict[int, tuple[Mesh, ...]]) -> tuple[Mesh, ...]:
        """The pieces of a mesh, found once for all the nodes that show it."""
        if id(mesh) not in divided:
            divided[id(mesh)] = _taken_apart(mesh, *self._numbers(mesh))
        return divided[id(mesh)]

    def _cut_alike(
        self, scene: Scene, numbers: set[int], divided: dict[int, tuple[Mesh, ...]]
    ) -> dict[int, tuple[Mesh, ...]]:
        """The pieces of levels and shadow meshes by the number of their node, cut where their visible mesh is.

        So each piece has levels and a shadow of its own. Those of visible meshes are added to ``divided``.
        """
        found: dict[int, tuple[Mesh, ...]] = {}
        for asset in assets_of(scene):
            main = asset.main[0] if asset.main else None
            if main is None or main.number not in numbers or main.node.mesh is None or not main.node.mesh.face_count:
                continue
            beside = [
                (placed, placed.node.mesh)
                for placed in asset.rest
                if placed.node.role in ("level", "shadow") and placed.number in numbers
                and placed.node.mesh is not None and placed.node.mesh.face_count
            ]  # fmt: skip
            pieces = self._divided(main.node.mesh, divided)
            if not beside or all(
                len(self._divided(mesh, divided)) == 1 for mesh in (main.node.mesh, *(mesh for _, mesh in beside))
            ):
                continue
            most = self.vertices
            while most >= max(self.vertices // 16, 3):
                if len(pieces) > 1:
                    nearest, names = _NearestPiece(pieces, main.world), [one.name.rpartition("_")[2] for one in pieces]
                    cut = {
                        placed.number: _taken_apart(mesh, nearest(mesh, placed.world), names) for placed, mesh in beside
                    }
                    if all(self._fits(piece) for own in cut.values() for piece in own):
                        found |= cut
                        divided[id(main.node.mesh)] = pieces
                        break
                most = most * 3 // 4
                pieces = _taken_apart(main.node.mesh, *_counted(self._cut(main.node.mesh, most)))
        return found

    def _fits(self, mesh: Mesh) -> bool:
        return not self._cut(mesh, self.vertices).any()

    def _numbers(self, mesh: Mesh) -> tuple[NDArray[np.int32], list[str]]:
        """The piece of each face, and the endings of the pieces' names."""
        if self.by == "material":
            used, slot_number = np.unique(mesh.slot_of_face, return_inverse=True)
            slots = [mesh.slots[slot] for slot in used]
            names = [slot.name if slot is not None else "plain" for slot in slots]
            repeated = len(set(names)) < len(names)
            return slot_number.astype(np.int32), [
                f"{name}_{n}" if repeated else name for n, name in enumerate(names, 1)
            ]
        number: NDArray[Any]
        if self.by == "parts":
            number, _ = parts(mesh.face_start, mesh.corner_point, mesh.surface(join_points))
        else:
            number = self._cut(mesh, self.vertices)
        return _counted(number)

    def _cut(self, mesh: Mesh, most: int) -> NDArray[np.int32]:
        if mesh.corner_count <= most:
            return np.zeros(mesh.face_count, np.int32)
        largest = int(mesh.face_size.max())
        if largest > self.vertices:
            raise UsageError(
                f"a face has {largest:,} corners, more than the {self.vertices:,} vertices a piece may have.",
                place=f"mesh {mesh.name}",
                remedy="Triangulate first.",
            )
        # A format that wants normals gets hard ones where the mesh says none.
        mesh = with_all_normals(mesh)
        layers = [(layer.values, layer.index) for layer in mesh.layers]
        joined = mesh.surface(join_points)[mesh.corner_point]
        vertex, _ = split_corners(mesh.face_start, joined, mesh.slot_of_face, layers)
        size = mesh.face_size
        centres = np.add.reduceat(mesh.points[mesh.corner_point], mesh.face_start[:-1], axis=0) / size[:, None]
        return cut_to_size(centres, mesh.face_start, vertex, max(most, largest))


def _counted(number: NDArray[Any]) -> tuple[NDArray[np.int32], list[str]]:
    """The piece of each face, and the endings of the pieces' names: their numbers from 1."""
    count = int(number.max()) + 1
    digits = len(str(count))
    return number.astype(np.int32), [str(n).zfill(digits) for n in range(1, count + 1)]


def _taken_apart(mesh: Mesh, number: NDArray[np.int32], names: Sequence[str]) -> tuple[Mesh, ...]:
    """A mesh for each number that faces have, called after it."""
    if len(names) == 1:
        return (mesh,)
    mesh = with_implied_normals(mesh)
    order = np.argsort(number, kind="stable")
    bounds = np.searchsorted(number[order], np.arange(len(names) + 1))
    return tuple(
        mesh.take_faces(order[first:last], f"{mesh.name}_{name}")
        for name, first, last in zip(names, bounds, bounds[1:], strict=False)
        if last > first
    )


class _NearestPiece:
    """Which of several meshes under one transform is nearest to each face of another mesh."""

    def __init__(self, pieces: Sequence[Mesh], world: NDArray[np.float64]) -> None:
        of_piece = [piece.corner_point[piece.surface(triangulate)[0]] for piece in pieces]
        first = np.cumsum([0, *(piece.point_count for piece in pieces)])
        points = np.concatenate([piece.points for piece in pieces]) @ world[:3, :3].T + world[:3, 3]
        triangles = [corners + start for corners, start in zip(of_piece, first, strict=False)]
        self._surface = Surface(points, np.concatenate(triangles).astype(np.int32))
        self._piece = np.repeat(np.arange(len(pieces), dtype=np.int32), [len(one) for one in of_piece])

    def __call__(self, mesh: Mesh, world: NDArray[np.float64]) -> NDArray[np.int32]:
        middles = np.add.reduceat(mesh.points[mesh.corner_point], mesh.face_start[:-1], axis=0)
        middles = middles / mesh.face_size[:, None] @ world[:3, :3].T + world[:3, 3]
        return self._piece[self._surface.nearest(middles)[1]]


def _piece(node: Node, mesh: Mesh, ending: str, number: int) -> Node:
    """The node of a piece. What tells the role of the whole by its name tells that of the piece."""
    name, properties = node.name + ending, node.properties
    if node.role != "visible":
        properties = {**properties, "piece": number}
        asset = str(properties.get("asset", ""))
        if asset and node.name.startswith(asset):
            name = asset + ending + node.name.removeprefix(asset)
    return Node(name, content=mesh, visible=node.visible, groups=node.groups, role=node.role, properties=properties)
