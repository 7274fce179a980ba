"""What characters walk on and bump into."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from copy import copy
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase
from functools import lru_cache
from itertools import permutations, product
from typing import Annotated, Any, ClassVar, Literal, cast, get_args

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field, WithJsonSchema

from zesty_otter._settings import Settings
from zesty_otter.geometry.queries.distance import areas
from zesty_otter.geometry.queries.near import nearest
from zesty_otter.geometry.solids.hulls import (
    Hull,
    around_with_corners,
    convex_hull,
    tidied,
    within_with_corners,
)
from zesty_otter.geometry.solids.shapes import (
    Simple,
    closed_at_foot,
    hull_of_nearly_convex,
    light_shell,
    moved_outward,
    simple_solid,
)
from zesty_otter.geometry.solids.solid import Solid, misfit
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import (
    LARGEST,
    Mesh,
    Node,
    Note,
    Placed,
    Scene,
    count_of,
    determinant,
    format_length,
    shortened,
    with_nodes_behind,
)
from zesty_otter.steps.assets import Asset, assets_of
from zesty_otter.steps.base import Length, Step, tell
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.siblings import OfSizes, Siblings, holds, size_of
from zesty_otter.steps.words import Words, chosen, chosen_numbers

Shape = Literal[
    "auto", "none", "box", "turned-box", "cut-box", "sphere", "capsule", "cylinder", "hull", "parts", "surface"
]

_ALIKE = 8  # meshes before, that one is compared with
_LARGER = 1.1  # times as large a copy may be, to lend its collision
_OF_ANY_SIZE = ("box", "turned-box", "cut-box", "sphere", "capsule", "cylinder", "hull")
_CONVEX: tuple[Shape, ...] = ("box", "turned-box", "capsule", "sphere", "hull", "parts", "surface")


class Rule(Settings):
    """Which shape some meshes get. All that is said has to fit."""

    shape: Shape = Field(description="The shape they get; none for no collision.")
    nodes: Words = Field((), description="Words that choose nodes, as in select.")
    material: str | None = Field(None, description="A pattern for the name of one of their materials: leaf*.")
    smaller_than: Length | None = Field(None, description="The longest side of their bounds.")


_RuleSchema = WithJsonSchema(
    {
        "type": "array",
        "items": {
            "type": "object",
            "properties": {
                "shape": {"enum": list(get_args(Shape))},
                "nodes": {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
                "material": {"type": "string"},
                "smaller_than": {"type": ["number", "string"], "examples": ["20cm"]},
            },
            "required": ["shape"],
            "additionalProperties": False,
        },
    }
)


class Collision(Step):
    """Give every visible mesh the collision it needs, and tidy up the collision that is already there.

    Looks at visible meshes. Adds nodes with the role of collision after each, with the same pivot, without
    materials, UVs and normals; their properties give the shape, its misfit, and why no cheaper one was taken.
    ``auto`` picks the cheapest shape that stays within the tolerance, and says which and why. Collision made by the
    artist is kept: it loses materials, UVs and normals, gets the pivot of its mesh, and is closed where it is
    convex but for a few holes. Refuses nothing; a note says what could not be reached.
    """

    slug: ClassVar[str] = "collision"
    example: ClassVar[dict[str, Any]] = {"shape": "auto", "tolerance": "2cm"}

    shape: Shape = Field(
        "auto",
        description="auto, none, box, turned-box, cut-box (a box without corners and edges), sphere, capsule, cylinder,"
        " hull, parts (several hulls), or surface (a light copy).",
    )
    tolerance: Length = Field(0.02, gt=0, description="Maximum distance of collision from the mesh.")
    rules: Annotated[tuple[Rule, ...], _RuleSchema] = Field(
        (), description="Shapes for some meshes; the first match counts: {shape='none', nodes='leaf*'}; also material"
        " and smaller_than."
    )  # fmt: skip
    most_parts: int = Field(32, ge=1, description="Maximum number of parts for one mesh.")
    most_corners: int = Field(64, ge=8, description="Maximum number of corners of a hull or a part.")
    hulls: Literal["around", "inside"] = Field(
        "around",
        description="Hulls with too many corners are reduced so that they enclose the mesh, or stay within it.",
    )
    thickness: Length | None = Field(
        None, gt=0, description="Thickness for flat meshes; a quarter of the tolerance by default."
    )
    outward: Length = Field(0.0, ge=0, description="Distance by which a surface is pushed outward.")
    existing: Literal["keep", "replace", "beside"] = Field(
        "keep", description="What happens to existing collision: keep it, replace it, or add beside it."
    )
    names: Annotated[str, AfterValidator(holds("name", "n"))] = Field(
        "{name}_collision_{n}", description="Names of the new nodes, from {name} and {n}."
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        if self.existing == "replace":
            scene, numbers = _without_collision(scene, numbers)
        metre = scene.unit_for("making collision")
        axis, sign = scene.frame.up
        up = sign * np.eye(3)[axis]
        notes: list[Note] = []
        behind: dict[int, list[Node]] = {}
        changed: dict[int, Node] = {}
        solutions = _Solutions(self, up)
        said: dict[str, list[str]] = {}
        siblings = Siblings()
        assets = assets_of(scene)
        todo = [(asset, placed) for asset in assets for placed in asset.main if placed.number in numbers]
        for done, (asset, placed) in enumerate(todo):
            tell(done / len(todo))
            mesh, linear = placed.node.drawn, placed.world[:3, :3] * metre
            if mesh is None or not mesh.face_count:
                continue
            there = [one for one in asset.rest if one.node.role == "collision"]
            shape = self._shape_of(placed, mesh, linear)
            if there and self.existing == "keep":
                own, text = self._looked_after(there, placed, metre)
                changed |= own
                notes.extend(self.note(one, node=placed.node.name) for one in text)
                continue
            if shape == "none":
                said.setdefault("none, as a rule says", []).append(placed.node.name)
                continue
            if abs(determinant(linear)) < 1e-300:
                notes.append(self.note("is squashed flat by its transform; it gets none", kind="finding",
                                       node=placed.node.name))  # fmt: skip
                continue
            meshes, found = solutions.of(mesh, linear, shape, _share_of(done, len(todo)))
            behind[placed.number] = self._nodes(asset, placed, siblings, meshes, found)
            said.setdefault(found.why, []).append(placed.node.name)
            remarks = [*found.remarks, *self._too_far_off(shape, found)]
            notes.extend(self.note(one, kind="finding", node=placed.node.name) for one in remarks)
            if found.because:
                notes.append(self.note(found.because, node=placed.node.name))
        if solutions.alike:
            some = count_of(solutions.alike, "copy")
            notes.append(self.note(f"{some} of other proportions got the collision of one that is nearly the same"))
        for why, names in said.items():
            notes.insert(0, self.note(f"{why}: {shortened(names, 6)}"))
        return with_nodes_behind(scene, behind, changed).with_notes(*notes)

    def _too_far_off(self, shape: Shape, found: _Found) -> Iterator[str]:
        if shape != "auto" and found.misfit > self.tolerance:
            most = format_length(self.tolerance)
            off = format_length(found.misfit)
            yield f"as {found.why} its collision is off by {off}, more than the {most} that may be"

    def _shape_of(self, placed: Placed, mesh: Mesh, linear: NDArray[np.float64]) -> Shape:
        for rule in self.rules:
            named = rule.material is None or any(fnmatchcase(slot.name, rule.material) for slot in mesh.slots if slot)
            box = mesh.surface_bounds
            small = rule.smaller_than is None or (
                float(np.abs((box[1] - box[0]) * np.linalg.norm(linear, axis=0)).max()) < rule.smaller_than
            )
            if named and small and (not rule.nodes or chosen(rule.nodes, placed)):
                return rule.shape
        return self.shape

    def _made(
        self,
        mesh: Mesh,
        linear: NDArray[np.float64],
        shape: Shape,
        up: NDArray[np.float64],
        progress: Callable[[float], None],
    ) -> tuple[list[Mesh], _Found]:
        """The collision meshes of a mesh in its own space, and what there is to say of them.

        Parameters
        ----------
        mesh : Mesh
        linear : (3, 3) float64
            Makes of the mesh's space that of the world, but for where it lies.
        shape : Shape
        up : (3,) float64
            In the world.
        progress : callable
            Called with the share that is done.
        """
        corners, _ = mesh.surface(triangulate)
        triangles = mesh.corner_point[corners].astype(np.int32)
        # In metres, as the world sees it.
        points = mesh.points @ linear.T
        if determinant(linear) < 0:
            triangles = triangles[:, ::-1]
        triangles = triangles[areas(points, triangles) > 0]
        found = _Found()
        used = points[np.unique(mesh.corner_point)]
        if not len(triangles):
            found.remarks.append("has no area; its collision is a thin box around its points")
            hull = convex_hull(used, self._thick)
            found.why = "box"
            found.shape, found.misfit = "box", 0.0
            return [_as_mesh(mesh.name, hull, linear)], found
        flat = np.linalg.svd(used - used.mean(axis=0), compute_uv=False)
        if flat[2] <= 1e-6 * flat[0]:
            found.remarks.append(f"is flat; its collision is {format_length(self._thick)} thick")
        else:
            closed = closed_at_foot(points, triangles, up)
            if closed is not None:
                triangles = closed
                found.remarks.append("is open at its foot; its collision is closed there")
        solid = Solid(points, triangles)
        tries: tuple[Shape, ...] = (shape,)
        parts: Sequence[Hull] = ()
        refused: dict[str, float] = {}
        if shape == "auto":
            # Every convex shape around the mesh holds its hull: where that is too far off, all are.
            off = misfit(solid, convex_hull(used, self._thick), self.tolerance)
            tries = _CONVEX if off <= self.tolerance else ("parts", "surface")
            refused |= {"hull": off} if off > self.tolerance else {}
        for one in tries:
            if one == "surface":
                parts = ()
                found.shape, found.why = "surface", "surface"
                surface = self._surface(mesh.name, solid, linear, found)
                break
            parts = self._parts(one, solid, used, linear, progress, must_fit=shape == "auto")
            if not parts:
                refused[one] = math.inf
                continue
            found.shape, found.misfit = one, max(misfit(solid, hull, self.tolerance) for hull in parts)
            if shape != "auto" or found.misfit <= self.tolerance:
                break
            refused[one] = found.misfit
        found.why = found.shape if not parts or len(parts) == 1 else f"{found.shape}, {len(parts)} of them"
        if shape == "auto" and refused:
            found.because = (
                f"{found.why.partition(',')[0]} is the cheapest shape within {format_length(self.tolerance)};"
                f" {'; '.join(_refusal(name, off, self.most_parts) for name, off in refused.items())}"
            )
            nearest = min(refused, key=refused.__getitem__)
            found.instead = f"{nearest} would be {format_length(float(f'{refused[nearest]:.3g}'))} off"
        if not parts:
            return [surface], found
        return [_as_mesh(mesh.name, hull, linear) for hull in parts], found

    @property
    def _thick(self) -> float:
        return self.tolerance / 4 if self.thickness is None else self.thickness

    def _parts(
        self, shape: Shape, solid: Solid, used: NDArray[np.float64], linear: NDArray[np.float64],
        progress: Callable[[float], None], *, must_fit: bool,
    ) -> Sequence[Hull]:  # fmt: skip
        """The convex parts of a shape around a mesh, in metres; none where they must fit and will not."""
        if shape == "parts":
            from zesty_otter.geometry.solids.decompose import decompose

            return decompose(
                solid.points, solid.triangles, self.tolerance, most_parts=self.most_parts,
                most_corners=self.most_corners, thickness=self._thick, must_fit=must_fit, progress=progress,
            ).parts  # fmt: skip
        if shape == "hull":
            hull = tidied(convex_hull(used, self._thick), 1e-5 * solid.size)
            limited = around_with_corners if self.hulls == "around" else within_with_corners
            return [limited(hull, self.most_corners)]
        simple = cast(Simple, shape)
        # A box runs along the axes of the mesh, whatever way the node is turned.
        return [simple_solid(simple, used, self._thick, linear if shape == "box" else None)]

    def _surface(self, name: str, solid: Solid, linear: NDArray[np.float64], found: _Found) -> Mesh:
        """A light copy, moved outward if that is wanted."""
        points, triangles, off = light_shell(solid, self.tolerance / 2)
        found.misfit = off + self.outward
        if self.outward:
            points = moved_outward(points, triangles, self.outward)
        found.why = f"surface, {count_of(len(triangles), 'triangle')}"
        back = points @ np.linalg.inv(linear).T
        if determinant(linear) < 0:
            triangles = triangles[:, ::-1]
        return triangle_mesh(name, back, triangles)

    def _nodes(self, asset: Asset, placed: Placed, siblings: Siblings, meshes: list[Mesh], found: _Found) -> list[Node]:
        facts = {"asset": asset.name, "shape": found.shape, "misfit": float(f"{found.misfit:.6g}")}
        if found.instead:
            facts["why"] = found.instead
        template = self.names.replace("{name}", placed.node.name)
        return [
            siblings.beside(placed, mesh, template.replace("{n}", str(n)), "collision", facts)
            for n, mesh in enumerate(meshes, 1)
        ]

    def _looked_after(self, there: list[Placed], main: Placed, metre: float) -> tuple[dict[int, Node], list[str]]:
        """Collision an artist made, without what it should not have; and what was done to it."""
        changed: dict[int, Node] = {}
        done: dict[str, int] = {}
        for one in there:
            mesh, node = one.node.mesh, one.node
            if mesh is None or not mesh.face_count:
                continue
            new = mesh
            if new.layers or any(new.slots) or new.face_smoothing is not None:
                new = new.replace(layers=(), slots=(None,), face_slot=None, face_smoothing=None)
                done["lost materials, UVs and normals"] = done.get("lost materials, UVs and normals", 0) + 1
            if _is_inside_out(new, one.world):
                new = new.turned_round()
                done["flipped, as it was inside out"] = done.get("flipped, as it was inside out", 0) + 1
            closed = _made_convex(new, one.world[:3, :3] * metre, self.tolerance)
            if closed is not None:
                new = closed
                done["closed and made convex"] = done.get("closed and made convex", 0) + 1
            elsewhere = one.parent == main.parent and not np.array_equal(node.transform, main.node.transform)
            if elsewhere and abs(determinant(main.world)) > 0:
                matrix = np.linalg.solve(main.world, one.world)
                with np.errstate(over="ignore", invalid="ignore"):
                    points = new.points @ matrix[:3, :3].T + matrix[:3, 3]
                if np.abs(points).max(initial=0.0) <= LARGEST:  # not all squashed by the transforms of the mesh
                    new = new.replace(points=points)
                    new = new.turned_round() if determinant(matrix[:3, :3]) < 0 else new
                    node = replace(node, transform=main.node.transform)
                    done["moved to the pivot of the mesh"] = done.get("moved to the pivot of the mesh", 0) + 1
            if new is not mesh or node is not one.node:
                changed[one.number] = replace(node, content=new)
        text = [f"its own collision, {count_of(count, 'mesh')}: {what}" for what, count in done.items()]
        return changed, text or [f"its own collision, {count_of(len(there), 'mesh')}, is used as it is"]


class _Found:
    """What is known of the collision of a mesh."""

    def __init__(self) -> None:
        self.shape = ""
        self.misfit = 0.0
        self.why = self.because = self.instead = ""
        self.remarks: list[str] = []


def _share_of(done: int, count: int) -> Callable[[float], None]:
    return lambda share: tell((done + share) / count)


def triangle_mesh(name: str, points: NDArray[np.float64], triangles: NDArray[np.int32]) -> Mesh:
    """A mesh of nothing but triangles, without points that none has."""
    start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
    mesh = Mesh.taking(name, points, start, triangles.ravel())
    return mesh.keep_points(np.bincount(triangles.ravel(), minlength=len(points)) > 0)


def _as_mesh(name: str, hull: Hull, linear: NDArray[np.float64]) -> Mesh:
    """A hull in metres as a mesh in its own space."""
    mesh = Mesh.taking(name, hull.points @ np.linalg.inv(linear).T, hull.face_start, hull.corner_point)
    return mesh.turned_round() if determinant(linear) < 0 else mesh


def _is_inside_out(mesh: Mesh, world: NDArray[np.float64]) -> bool:
    """Whether a closed mesh looks inward, as it stands in the world."""
    edges = mesh.surface(topology)
    if len(edges.border) or len(edges.non_manifold) or len(edges.contrary):
        return False
    corners, _ = mesh.surface(triangulate)
    at = mesh.points[mesh.corner_point[corners]]
    at = at - at[0, 0] if len(at) else at
    inside_out = float(np.einsum("ij,ij->", at[:, 0], np.cross(at[:, 1], at[:, 2]))) < 0
    return inside_out != bool(determinant(world[:3, :3]) < 0)


def _made_convex(mesh: Mesh, linear: NDArray[np.float64], tolerance: float) -> Mesh | None:
    """The hull of a mesh when that is nearly what it is; None when it is convex and closed, or far from it."""
    turn = float(determinant(linear))
    if abs(turn) < 1e-300 or not mesh.face_count:
        return None
    corners, _ = mesh.surface(triangulate)
    triangles = mesh.corner_point[corners].astype(np.int32)
    is_open = bool(len(mesh.surface(topology).border))
    hull = hull_of_nearly_convex(
        mesh.points @ linear.T, triangles if turn > 0 else triangles[:, ::-1], tolerance, is_open=is_open
    )
    return None if hull is None else _as_mesh(mesh.name, hull, linear)


def _without_collision(scene: Scene, numbers: set[int]) -> tuple[Scene, set[int]]:
    """The scene without the collision of some nodes, and where these nodes are in it."""
    gone = {
        one.number
        for asset in assets_of(scene)
        if any(placed.number in numbers for placed in asset.main)
        for one in asset.rest
        if one.node.role == "collision"
    }
    order = [one.number for one in scene.walk() if one.number not in gone or one.node.children]

    def make(n: int, node: Node) -> Node | None:
        if n not in gone:
            return node
        return replace(node, content=None, role="visible") if node.children else None

    return scene.rebuilt(make), {new for new, old in enumerate(order) if old in numbers}


class _Solutions:
    """Collision of the meshes of a scene, each worked out once for all nodes that it fits."""

    def __init__(self, step: Collision, up: NDArray[np.float64]) -> None:
        self.step, self.up = step, up
        self._same: dict[Any, tuple[list[Mesh], _Found]] = {}
        self._of_sizes: OfSizes[tuple[list[Mesh], _Found]] = OfSizes()
        self._alike: dict[Any, list[_Solved]] = {}
        self.alike = 0  # copies that got what was made for others of nearly their form

    def of(
        self, mesh: Mesh, linear: NDArray[np.float64], shape: Shape, progress: Callable[[float], None]
    ) -> tuple[list[Mesh], _Found]:
        """The collision meshes of a mesh, and what there is to say of them."""
        # What turns a mesh about the vertical changes nothing of its collision.
        size = size_of(linear)
        unit = linear / size  # so that what is tiny is told apart as well
        key = (
            id(mesh),
            shape,
            f"{size:.9g}",
            *((one.round(9) + 0.0).tobytes() for one in (unit.T @ unit, self.up @ unit)),
        )
        if key not in self._same:
            self._same[key] = (
                self._of_a_larger_one(mesh, linear, shape)
                or self._of_nearly_its_form(mesh, linear, shape)
                or self._new(mesh, linear, shape, progress)
            )
        return self._same[key]

    def _new(
        self, mesh: Mesh, linear: NDArray[np.float64], shape: Shape, progress: Callable[[float], None]
    ) -> tuple[list[Mesh], _Found]:
        alike = self._alike.setdefault((shape, _outer_shape(mesh)), [])
        known = ((one.carried(mesh, linear, self.up), one.found) for one in alike[-_ALIKE:])
        carried = next(((meshes, found) for meshes, found in known if meshes is not None), None)
        made = carried or self.step._made(mesh, linear, shape, self.up, progress)
        if carried is None:
            alike.append(_Solved(mesh, linear, *made))
        self._of_sizes.keep(mesh, linear, shape, self._up_in(linear), made)
        return made

    def _of_a_larger_one(
        self, mesh: Mesh, linear: NDArray[np.float64], shape: Shape
    ) -> tuple[list[Mesh], _Found] | None:
        """Collision of a copy that is larger: it is as good for this one, and better by how much."""
        if self.step.outward or self.step.thickness is not None:
            return None  # lengths that are to be exact
        lent = self._of_sizes.lent(
            mesh, linear, shape, self._up_in(linear), np.inf if shape in _OF_ANY_SIZE else _LARGER
        )
        if lent is None or (lent[0] < 1 / _LARGER and lent[1][1].remarks):
            return None
        share, (meshes, found) = lent
        own = copy(found)
        own.misfit *= share
        return meshes, own

    def _of_nearly_its_form(
        self, mesh: Mesh, linear: NDArray[np.float64], shape: Shape
    ) -> tuple[list[Mesh], _Found] | None:
        """Collision of a copy of nearly the same proportions, where there are a great many."""
        if self.step.outward or self.step.thickness is not None or shape == "box":
            return None  # lengths that are to be exact, or sides along the axes
        # What is made as exact as a tolerance says is lent to smaller ones only.
        limits = (np.inf, 0.0) if shape in _OF_ANY_SIZE else (1.0 + 1e-9, 1 / _LARGER)
        lent = self._of_sizes.of_nearly_its_form(mesh, linear, shape, *limits)
        if lent is None or lent[1][1].remarks:
            return None
        share, (meshes, found) = lent
        own = copy(found)
        own.misfit *= share
        self.alike += 1
        return meshes, own

    def _up_in(self, linear: NDArray[np.float64]) -> bytes:
        """What is up for a copy, in its own space."""
        return ((self.up @ linear / size_of(linear)).round(6) + 0.0).tobytes()


@dataclass(frozen=True, eq=False)
class _Solved:
    """Collision that was made for a mesh, and serves others that are the same but turned or mirrored."""

    mesh: Mesh
    linear: NDArray[np.float64]
    meshes: list[Mesh]
    found: _Found

    def carried(self, mesh: Mesh, linear: NDArray[np.float64], up: NDArray[np.float64]) -> list[Mesh] | None:
        """Its collision for a mesh that is this one turned by quarters or mirrored; None where it is not.

        Boxes are along the axes of a mesh, and feet are below: only turns that keep both carry collision over.
        """
        if mesh.face_count != self.mesh.face_count or not mesh.face_count:
            return None
        low, high = self.mesh.surface_bounds
        there = mesh.surface_bounds
        size = float(np.abs(high - low).max()) or 1.0
        # The turns in the world; they must neither stretch nor tip over.
        world = np.linalg.inv(self.linear).T @ _quarter_turns() @ linear.T
        stretch = np.abs(world @ world.transpose(0, 2, 1) - np.eye(3)).max(axis=(1, 2))
        for way in _quarter_turns()[(stretch <= 1e-6) & (np.abs(up @ world - up).max(axis=1) <= 1e-6)]:
            box = np.sort(np.stack([low @ way, high @ way]), axis=0)
            shift = there[0] - box[0]
            if np.abs(box + shift - there).max() <= 1e-6 * size and self._lies_on(mesh, way, shift, 1e-6 * size):
                moved = [one.replace(name=mesh.name, points=one.points @ way + shift) for one in self.meshes]
                return [one.turned_round() for one in moved] if determinant(way) < 0 else moved
        return None

    def _lies_on(self, mesh: Mesh, way: NDArray[np.float64], shift: NDArray[np.float64], apart: float) -> bool:
        """Whether the points and the middles of the faces are those of another mesh, in whatever order."""
        for one, other in zip(_places_of(self.mesh), _places_of(mesh), strict=True):
            moved = one @ way + shift
            if max(nearest(moved, other)[0].max(), nearest(other, moved)[0].max()) > apart:
                return False
        return True


def _outer_shape(mesh: Mesh) -> tuple[object, ...]:
    """What quarter turns and mirrors leave as it is, and tells most meshes apart: faces, corners and sides."""
    sides = sorted(np.ptp(mesh.surface_bounds, axis=0).tolist())
    return mesh.face_count, mesh.corner_count, *(f"{side:.5e}" for side in sides)


def _places_of(mesh: Mesh) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    corners = mesh.points[mesh.corner_point]
    middles = np.add.reduceat(corners, mesh.face_start[:-1]) / np.diff(mesh.face_start)[:, None]
    return mesh.points[mesh.point_used], middles


@lru_cache(1)
def _quarter_turns() -> NDArray[np.float64]:
    """(48, 3, 3) the ways to turn a cube by quarters and mirror it; to leave it first."""
    return np.array(
        [
            np.eye(3)[list(order)] * np.array(signs)[:, None]
            for order in permutations(range(3))
            for signs in product((1.0, -1.0), repeat=3)
        ]
    )


def _refusal(shape: str, off: float, most_parts: int) -> str:
    """Why a shape was not taken."""
    if math.isinf(off):
        return f"{most_parts} parts are not enough"
    return f"{shape} is off by {format_length(off)}"
