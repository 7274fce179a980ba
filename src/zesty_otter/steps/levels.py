"""Levels of detail: lighter versions of meshes, each measured."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, BeforeValidator, Field, WithJsonSchema, model_validator

from zesty_otter.geometry.curves.limits import Limits
from zesty_otter.geometry.queries.near import nearest
from zesty_otter.geometry.simplify.deviation import Deviation
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.model import Mesh, Node, Note, Placed, Scene, count_of, parse_length, transformed, with_nodes_behind
from zesty_otter.steps.assets import Asset, assets_of, level_of
from zesty_otter.steps.base import Length, Step, tell
from zesty_otter.steps.lighter import LIMIT, HeavyMesh
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.siblings import Siblings, holds
from zesty_otter.steps.stretches import Stretches
from zesty_otter.steps.words import chosen_numbers

if TYPE_CHECKING:
    from zesty_otter.appearance import Appearance
    from zesty_otter.geometry.raster.looks import Looks

_KINDS = ("ratio", "triangles", "deviation", "screen")
_FINER = 0.8  # how much lighter each try is than the one before, where a deviation is asked for


@dataclass(frozen=True)
class Wish:
    """What a level is to be: ``kind`` is ratio, triangles, deviation (in metres), share (of the size) or screen."""

    kind: str
    value: float


def parse_chain(given: Any) -> tuple[Wish, ...]:
    """Levels from ``"50 25 10"`` (percent), ``"triangles 5000 1000"``, ``"deviation 2mm 1%"``, ``"screen 0.5 0.1"``.

    A list of the words may stand for the text.
    """
    if isinstance(given, tuple) and all(isinstance(one, Wish) for one in given):
        return given
    if isinstance(given, int | float):
        given = [given]
    words = re.split(r"[\s,]+", given) if isinstance(given, str) else [str(word) for word in given]
    words = [word for word in words if word]
    kind = words.pop(0) if words and words[0].isalpha() else "ratio"
    if kind not in _KINDS:
        raise ValueError(f"{kind} is not a kind of level; there are {', '.join(_KINDS)}")
    if not words:
        raise ValueError("name at least one level, for example 50 25 10")
    wishes = tuple(_wish(kind, word) for word in words)
    for (one, word), (other, later) in pairwise(zip(wishes, words, strict=True)):
        heavier = other.value <= one.value if kind == "deviation" else other.value >= one.value
        if heavier and one.kind == other.kind:
            raise ValueError(f"{later} after {word} is not lighter; name the finest level first")
    return wishes


def _wish(kind: str, word: str) -> Wish:
    percent = word.endswith("%")
    try:
        if kind == "deviation" and not percent:
            wish = Wish(kind, parse_length(word))
        else:
            value = float(word.removesuffix("%"))
            share = value / 100 if percent or kind == "ratio" else value
            wish = Wish("share" if kind == "deviation" else kind, share)
    except ValueError:
        raise ValueError(f"{word} is not a level of kind {kind}") from None
    most = math.inf if wish.kind in ("triangles", "deviation") else 1.0
    if not 0 < wish.value <= most or (kind == "triangles" and (percent or wish.value < 1)):
        raise ValueError(f"{word} is out of range for a level of kind {kind}")
    return wish


PixelError = Annotated[float, Field(gt=0, description="Maximum shift, in pixels, when a level appears.")]
PictureHeight = Annotated[int, Field(ge=1, description="Height of the picture in pixels.")]
LevelNames = Annotated[
    str,
    AfterValidator(holds("name", "level")),
    Field(description="Names of the new nodes, from {name} and {level}."),
]
FieldOfView = Annotated[float, Field(gt=0, lt=180, description="Vertical field of view in degrees.")]


def distance_of(length: float, pixel_error: float, picture_height: int, field_of_view: float) -> float:
    """How far away a length is as large as the pixels that may change."""
    return length * picture_height / (2 * math.tan(math.radians(field_of_view) / 2) * pixel_error)


class Levels(Step):
    """Give every visible mesh a chain of lighter versions, and measure each.

    Looks at visible meshes and existing levels: hand-made levels are used for their numbers, missing ones are made
    from the mesh itself. Adds a node for each level after that of the mesh. Its properties say what was measured:
    ``deviation`` and the like in metres, the ``distance`` from which it may be shown, and the share of the
    picture's height the mesh then has. Borders, UV seams, edges between materials and hard edges keep their course.
    If the target cannot be reached, loose parts too small to matter are removed, never the largest; a note says so.
    Refuses a chain that does not get lighter.
    """

    slug: ClassVar[str] = "levels"
    example: ClassVar[dict[str, Any]] = {"chain": "50 25 10"}

    chain: Annotated[
        tuple[Wish, ...],
        BeforeValidator(parse_chain),
        WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array"}], "examples": ["50 25 10", "screen 0.5 0.1"]}),
    ] = Field(
        "50 25 12.5",
        validate_default=True,
        description="The levels: 50 25 10 (percent of the triangles), triangles 5000 1000, deviation 1mm 5mm (or"
        " 0.5% of the size), or screen 0.5 0.2 (shares of the picture's height, with the deviation that"
        " pixel_error allows there).",
    )
    by: Literal["shape", "appearance"] = Field(
        "shape",
        description="What decides for a chain of screen: how far the shape moved, or how different pictures of it look"
        " from 26 sides at that size, with all maps.",
    )
    changed: float = Field(
        0.02, gt=0, lt=1, description="By appearance: the share of its pixels whose change an eye may tell."
    )
    pixel_error: PixelError = 1.0
    picture_height: PictureHeight = 1080
    field_of_view: FieldOfView = 60.0
    attribute_weight: float = Field(
        1.0, ge=0, description="How much normals, UVs and colours count beside the shape; at 0 only the shape counts."
    )
    points: Literal["best", "old"] = Field(
        "best", description="Where points may go: where they fit best, or only where an old point was."
    )
    keep_border: Literal["free", "neighbours", "all"] = Field(
        "free",
        description="Points on open borders: free to move along them, fixed where they meet another visible mesh, or"
        " all fixed (for pieces that tile).",
    )
    fuse: Length | None = Field(
        None, gt=0, description="When no edge can be removed any more, merge what is closer than this; holes may close."
    )
    limit: float = Field(0.015, gt=0, description=LIMIT)
    hand_made: bool = Field(True, description="Use existing hand-made levels.")
    curves: bool = Field(
        False,
        description="Where a mesh was made of exact surfaces just now, make its levels of them as well, and take"
        " whichever is lighter or closer.",
    )
    names: LevelNames = "{name}_LOD{level}"

    @model_validator(mode="after")
    def _by_size(self) -> Levels:
        if self.by == "appearance" and any(wish.kind != "screen" for wish in self.chain):
            raise ValueError("by=appearance needs a chain of sizes, such as chain='screen 0.5 0.2'")
        return self

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        metre = scene.unit_for("measuring levels")
        chains: dict[int, _Chain] = {}
        behind: dict[int, list[Node]] = {}
        changed: dict[int, Node] = {}
        notes: list[Note] = []
        siblings = Siblings()
        assets = assets_of(scene)
        stretches = Stretches(scene)
        for number, asset in enumerate(assets):
            for placed in asset.main:
                tell(number / len(assets))
                mesh = placed.node.drawn
                if placed.number not in numbers or mesh is None or not mesh.face_count:
                    continue
                if id(mesh) not in chains:
                    scale = metre * (stretches.of(mesh).most or 1.0)
                    span = number / len(assets), 1 / len(assets)
                    chains[id(mesh)] = _Chain(self, mesh, scale, self._fixed(scene, mesh), span)
                made, kept = self._of(asset, placed, chains[id(mesh)], siblings)
                behind[placed.number] = made
                changed |= kept
                if kept:
                    notes.append(self.note(f"{len(kept)} of its levels were there already", node=placed.node.name))
        for chain in chains.values():
            notes += [self.note(text, kind="finding", node=chain.mesh.name) for text in chain.remarks]
        count = sum(map(len, behind.values()))
        if count:
            made_for = count_of(sum(map(bool, behind.values())), "mesh")
            remade_points = {id(mesh.points) for chain in chains.values() for mesh in chain.exact}
            exact = sum(id(one.mesh.points) in remade_points for own in behind.values() for one in own if one.mesh)
            of_them = f", {exact} of them from exact surfaces" if exact else ""
            notes.insert(0, self.note(f"{count_of(count, 'level')} made for {made_for}{of_them}"))
        if self.curves and count and not any(chain.curved for chain in chains.values()):
            text = "no mesh was made of exact surfaces in the same run, or UVs were added or meshes joined since"
            notes.append(self.note(text, kind="finding"))
        return with_nodes_behind(scene, behind, changed).with_notes(*notes)

    def _fixed(self, scene: Scene, mesh: Mesh) -> NDArray[np.bool_] | None:
        """(P,) the points that have to stay where they are, as any of the nodes with this mesh has neighbours."""
        if self.keep_border == "free":
            return None
        edges = mesh.surface(topology)
        border = np.zeros(mesh.point_count, bool)
        border[edges.edge_points[edges.border].ravel()] = True
        border = border[edges.joined]
        if self.keep_border == "all":
            return border
        met = np.zeros(mesh.point_count, bool)
        visible = [(one, other) for one, other in scene.placed_meshes() if one.node.role == "visible"]
        where = [other.points @ one.world[:3, :3].T + one.world[:3, 3] for one, other in visible]
        reach = 1e-4 / (scene.frame.unit or 1.0)
        for n, (_, own) in enumerate(visible):
            others = where[:n] + where[n + 1 :]
            if own is mesh and others:
                met |= nearest(where[n], np.concatenate(others))[0] < reach
        return border & met

    def _of(
        self, asset: Asset, placed: Placed, chain: _Chain, siblings: Siblings
    ) -> tuple[list[Node], dict[int, Node]]:
        """The nodes to add behind a mesh, and those of its levels that are there already, with what was measured."""
        there: dict[int, Placed] = {}
        for one in asset.rest:
            if one.node.role == "level" and one.node.mesh is not None and one.node.mesh.face_count and self.hand_made:
                there.setdefault(level_of(one.node), one)
        made: list[Node] = []
        kept: dict[int, Node] = {}
        distance = 0.0
        count = placed.node.drawn.triangle_count if placed.node.drawn is not None else 0
        for number in range(1, len(self.chain) + 1):
            hand_made = there.get(number)
            if hand_made is not None and hand_made.node.mesh is not None:
                own = np.asarray(np.linalg.solve(placed.world, hand_made.world), np.float64)
                mesh = transformed(hand_made.node.mesh, own[:3, :3], own[:3, 3])
                found, looks = chain.measured(mesh), None
            else:
                mesh, found = chain.levels[number - 1]
                looks = chain.seen.get(number - 1)
                if mesh.triangle_count >= count or not mesh.triangle_count:
                    chain.skipped.append((placed.node.name, number))
                    continue  # no lighter than the one before
            count = mesh.triangle_count
            if looks is None:
                moved = found.largest * chain.scale
                away = distance_of(moved, self.pixel_error, self.picture_height, self.field_of_view)
            else:
                away = chain.size / (2 * self.chain[number - 1].value * math.tan(math.radians(self.field_of_view) / 2))
            distance = max(distance, away)
            properties = {"asset": asset.name, "level": number, **self._facts(mesh, found, chain, distance)}
            if looks is not None:
                properties["appearance"] = float(f"{looks.share:.4g}")
            if hand_made is not None:
                both = {**hand_made.node.properties, **properties}
                kept[hand_made.number] = replace(hand_made.node, properties=both)
                continue
            name = self.names.replace("{name}", placed.node.name).replace("{level}", str(number))
            made.append(siblings.beside(placed, mesh, name, "level", properties, visible=placed.node.visible))
        return made, kept

    def _facts(self, mesh: Mesh, found: Deviation, chain: _Chain, distance: float) -> Mapping[str, Any]:
        facts = {
            "deviation": found.largest * chain.scale,
            "deviation_95": found.most * chain.scale,
            "deviation_mean": found.mean * chain.scale,
            "normal_deviation": found.normals,
            "texture_slide": found.texture * chain.scale,
            "border_drift": found.border * chain.scale,
            "seam_drift": found.seam * chain.scale,
            "distance": distance,
        }
        if distance > 0:
            facts["screen_height"] = chain.size / (2 * distance * math.tan(math.radians(self.field_of_view) / 2))
        return {"triangles": mesh.triangle_count, **{key: float(f"{value:.6g}") for key, value in facts.items()}}


class _Chain:
    """The levels of one mesh, made when first asked for.

    ``scale`` is the metres of one unit of it, ``span`` the share of all work that lies before it and its own.
    """

    def __init__(
        self, step: Levels, mesh: Mesh, scale: float, fixed: NDArray[np.bool_] | None, span: tuple[float, float]
    ) -> None:
        self.step, self.mesh, self.scale, self.fixed, self.span = step, mesh, scale, fixed, span
        self.skipped: list[tuple[str, int]] = []
        self.exact: list[Mesh] = []
        self.seen: dict[int, Appearance] = {}  # by appearance, what was seen of each level
        self.faceted: dict[float, Mesh | None] = {}
        box = mesh.surface_bounds
        self.size = float((box[1] - box[0]).max()) * scale

    @cached_property
    def heavy(self) -> HeavyMesh:
        step = self.step
        fuse = None if step.fuse is None else step.fuse / self.scale
        only_old = step.points == "old"
        return HeavyMesh(
            self.mesh,
            attribute_weight=step.attribute_weight,
            only_old=only_old,
            locked=self.fixed,
            fuse=fuse,
            limit=step.limit,
        )

    @property
    def remarks(self) -> list[str]:
        """What there is to say of the levels that were made."""
        if "levels" not in self.__dict__:
            return []
        counts = [self.mesh.triangle_count, *(mesh.triangle_count for mesh, _ in self.levels)]
        missing = sum(light >= heavy for heavy, light in pairwise(counts))
        said = [f"{count_of(missing, 'level')} left out, as no lighter than the one before"] if missing else []
        if not missing and self.skipped:
            names = ", ".join(dict.fromkeys(f"level {number} of {name}" for name, number in self.skipped))
            said.append(f"{names} not made: a hand-made level before it is lighter already")
        return [*self.heavy.remarks, *said]

    def measured(self, mesh: Mesh) -> Deviation:
        return self.heavy.measured(mesh)

    @cached_property
    def curved(self) -> Callable[[Limits], Mesh | None] | None:
        """What makes the mesh of its exact surfaces again, where that is wanted and known."""
        if not self.step.curves:
            return None
        from zesty_otter.exact import remade

        return remade(self.mesh)

    def _faceted(self, chord: float) -> Mesh | None:
        """The mesh made of its exact surfaces again, this far off at most, in its own unit."""
        if chord not in self.faceted:
            limits = Limits(chord, math.radians(120), 2 * chord)
            self.faceted[chord] = None if self.curved is None else self.curved(limits)
        return self.faceted[chord]

    def _chords(self) -> list[float]:
        """Chord errors to try, ever coarser."""
        size = self.size / self.scale
        return [size * 10 ** (-4 + k / 6) for k in range(16)]

    def _closer(self, light: Mesh, target: int) -> tuple[Mesh, Deviation]:
        """A lighter mesh, or one of exact surfaces that has no more triangles than asked for and is nearer."""
        found = self.measured(light)
        if self.curved is None:
            return light, found
        for chord in self._chords():
            mesh = self._faceted(chord)
            if mesh is not None and mesh.triangle_count <= max(target, light.triangle_count):
                own = self.measured(mesh)
                if own.largest < found.largest:
                    self.exact.append(mesh)
                    return mesh, own
                break
        return light, found

    def _lighter(self, light: Mesh, found: Deviation, allowed: float) -> tuple[Mesh, Deviation]:
        """A mesh that is near enough, or one of exact surfaces that is near enough and has fewer triangles."""
        if self.curved is None:
            return light, found
        for chord in reversed(self._chords()):
            if chord * self.scale > 2 * allowed:
                continue
            mesh = self._faceted(chord)
            if mesh is None or mesh.triangle_count >= light.triangle_count:
                break
            own = self.measured(mesh)
            if own.largest * self.scale <= allowed:
                self.exact.append(mesh)
                return mesh, own
        return light, found

    @cached_property
    def levels(self) -> list[tuple[Mesh, Deviation]]:
        """A mesh for each wish, and what it differs by."""
        wishes = self.step.chain
        full = self.mesh.triangle_count
        if wishes[0].kind in ("ratio", "triangles"):
            targets = [
                max(round(full * wish.value), 1) if wish.kind == "ratio" else min(int(wish.value), full)
                for wish in wishes
            ]
            made = zip(self.heavy.lightened(targets, self._tell), targets, strict=True)
            return [self._closer(mesh, target) for mesh, target in made]
        targets = []
        count = float(full)
        while count >= 4:
            count *= _FINER
            targets.append(int(count))
        tries = list(self.heavy.lightened(targets or [full], self._tell))
        self.heavy.forget()  # what could not be done for tries nobody needs to know
        if self.step.by == "appearance":
            return [self._lightest_alike(tries, number, wish.value) for number, wish in enumerate(wishes)]
        measured: dict[int, Deviation] = {}
        near = [(self._allowed(wish), self._lightest_within(tries, self._allowed(wish), measured)) for wish in wishes]
        return [self._lighter(*found, allowed) for allowed, found in near]

    def _tell(self, share: float) -> None:
        tell(self.span[0] + share * self.span[1])

    def _allowed(self, wish: Wish) -> float:
        """The deviation a wish allows, in metres."""
        if wish.kind == "screen":
            return self.step.pixel_error * self.size / (wish.value * self.step.picture_height)
        return wish.value * (self.size if wish.kind == "share" else 1.0)

    def _lightest_alike(self, tries: list[Mesh], number: int, share: float) -> tuple[Mesh, Deviation]:
        """The last of ever lighter meshes of which few enough pixels look different; the mesh itself when none does."""
        from zesty_otter.appearance import compared, looks_of

        height = share * self.step.picture_height
        low, high = -1, len(tries)
        while high - low > 1:
            middle = (low + high) // 2
            found = compared(self._looks, looks_of(Scene.from_mesh(tries[middle]).nodes(), np.eye(3)), height)
            if found.share <= self.step.changed:
                low = middle
                self.seen[number] = found
            else:
                high = middle
        mesh = self.mesh if low < 0 else tries[low]
        return mesh, self.measured(mesh)

    @cached_property
    def _looks(self) -> Looks:
        from zesty_otter.appearance import looks_of

        return looks_of(Scene.from_mesh(self.mesh).nodes(), np.eye(3))

    def _lightest_within(
        self, tries: list[Mesh], allowed: float, measured: dict[int, Deviation]
    ) -> tuple[Mesh, Deviation]:
        """The last of ever lighter meshes that is near enough; the mesh itself when none is."""
        low, high = -1, len(tries)  # the lightest known to be near enough, and the heaviest known not to be
        while high - low > 1:
            middle = (low + high) // 2
            if middle not in measured:
                measured[middle] = self.measured(tries[middle])
            low, high = (middle, high) if measured[middle].largest * self.scale <= allowed else (low, middle)
        if low < 0:
            return self.mesh, self.measured(self.mesh)
        return tries[low], measured[low]
