"""New UVs: surfaces laid out flat, and islands packed side by side."""

from __future__ import annotations

import fnmatch
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, ConfigDict, Field

from zesty_otter.errors import UsageError
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.geometry.uv.carrying import Charted, carried_over
from zesty_otter.geometry.uv.charts import Sheet, corner_classes, islands
from zesty_otter.geometry.uv.packing import Packed, pack
from zesty_otter.geometry.uv.sets import uv_facts
from zesty_otter.geometry.uv.unwrap import Unwrapped, unwrap
from zesty_otter.model import Layer, Mesh, Note, Placed, Scatter, Scene, count_of, determinant, shortened
from zesty_otter.steps.assets import assets_of, level_of
from zesty_otter.steps.base import Step, tell
from zesty_otter.steps.roles import Roles

Floats = NDArray[np.float64]

_OVERLAP = 1e-3  # of what is covered: more than that is not good enough for baked light
_SEAMS = ("hard", "islands", "slots")


def parse_size(value: Any) -> tuple[int, int]:
    """Width and height of a page in pixels, from ``1024``, ``"1024"`` or ``"2048x1024"``."""
    found = re.fullmatch(r"(\d{1,6})(?:\s*[x×]\s*(\d{1,6}))?", str(value)) if isinstance(value, str | int) else None
    sides = [int(one or found[1]) for one in found.groups()] if found else list(value) if _is_pair(value) else []
    if len(sides) != 2 or not all(16 <= side <= 16384 for side in sides):
        raise ValueError(f"must be pixels from 16 to 16384, such as 1024 or 2048x1024, not {value!r}")
    return sides[0], sides[1]


def _is_pair(value: Any) -> bool:
    return isinstance(value, list | tuple) and len(value) == 2 and all(type(side) is int for side in value)


SetName = Annotated[str, BeforeValidator(lambda value: str(value) if type(value) is int else value)]
PageSize = Annotated[tuple[int, int], BeforeValidator(parse_size)]


class _Laying(Step):
    """What laying out and packing have in common."""

    model_config = ConfigDict(populate_by_name=True)

    size: PageSize = Field((1024, 1024), description="Width and height of a page in pixels: 1024 or 2048x1024.")
    gutter: int = Field(4, ge=0, le=256, description="Minimum distance between islands, in pixels.")
    density: float | None = Field(
        None, gt=0, description="Pixels per metre; takes as many pages as needed, along U. Fills one page when absent."
    )
    weights: dict[str, float] = Field(
        default_factory=dict, description="Density of some nodes, by name (with * and ?): {'lamp*' = 2} doubles it."
    )
    share: Literal["mesh", "asset", "scene"] = Field(
        "mesh", description="What shares a page: each mesh has its own, or all meshes of an asset, or of the scene."
    )
    crop: bool = Field(False, description="Cut the page above the islands, so that it is not square any more.")

    def _groups(self, scene: Scene) -> list[list[_Part]]:
        """The meshes that share a page, each mesh once."""
        metre = scene.frame.unit or 1.0
        shown: dict[int, list[Placed]] = {}
        meshes: dict[int, Mesh] = {}
        for placed in scene.walk():
            mesh = placed.node.drawn
            if mesh is not None and mesh.face_count and placed.node.role in ("visible", "level"):
                shown.setdefault(id(mesh), []).append(placed)
                meshes[id(mesh)] = mesh
        parts = {
            key: _Part(meshes[key], _largest(places) * metre, self._weight(places)) for key, places in shown.items()
        }
        if self.share == "mesh":
            return [[part] for part in parts.values()]
        if self.share == "scene":
            return [list(parts.values())] if parts else []
        groups = []
        for asset in assets_of(scene):
            own = [one for one in (*asset.main, *asset.rest) if id(one.node.drawn) in parts]
            # Levels show one at a time, so that each has the page for itself.
            for level in sorted({level_of(one.node) for one in own}):
                keys = dict.fromkeys(id(one.node.drawn) for one in own if level_of(one.node) == level)
                group = [parts.pop(key) for key in keys if key in parts]
                groups += [group] if group else []
        return groups

    def _weight(self, places: Sequence[Placed]) -> float:
        names = [one.node.name for one in places]
        found = [w for pattern, w in self.weights.items() if any(fnmatch.fnmatchcase(one, pattern) for one in names)]
        for weight in found:
            if not (math.isfinite(weight) and weight > 0):
                raise UsageError(f"step '{self.slug}', setting 'weights': must be above 0 (given: {weight!r}).")
        return found[0] if found else 1.0

    def _packed(self, laid: Sequence[tuple[_Part, Floats, NDArray[np.int32], NDArray[np.int32]]], turn: bool) -> Packed:
        """The islands of all parts of a group on their pages."""
        uvs, corners, charts = [], [], []
        vertices = count = 0
        for part, uv, triangles, chart in laid:
            uvs.append(uv * part.weight)
            corners.append(triangles + vertices)
            charts.append(chart + count)
            vertices += len(uv)
            count += int(chart.max()) + 1
        try:
            return pack(
                np.concatenate(uvs), np.concatenate(corners).astype(np.int32), np.concatenate(charts).astype(np.int32),
                size=self.size, gutter=self.gutter, scale=self.density, turn=turn, crop=self.crop,
            )  # fmt: skip
        except ValueError as error:
            names = shortened(part.mesh.name for part, *_ in laid)
            raise UsageError(
                f"step '{self.slug}': {error} ({names}).", remedy="Use a larger size, a smaller gutter or less density."
            ) from None

    def _said(self, packed: Packed, islands_: int, names: Sequence[str], unit: float | None) -> Note:
        pages = "a page" if packed.pages == 1 else f"{packed.pages} pages"
        text = f"{count_of(islands_, 'island')} on {pages} of {packed.size[0]} × {packed.size[1]} pixels"
        text += f", {100 * packed.covered:.0f} % covered, {packed.scale:.4g} pixels to a {'metre' if unit else 'unit'}"
        return self.note(text, node=shortened(names))


@dataclass(frozen=True, eq=False)
class _Part:
    """A mesh, how its space lies in metres, and how dense it is to be."""

    mesh: Mesh
    linear: Floats
    weight: float

    @property
    def points(self) -> Floats:
        """(P, 3) in metres; mirrored again where the place mirrors, so that charts have the mesh's own side up."""
        turned = self.linear if determinant(self.linear) >= 0 else -self.linear
        return np.ascontiguousarray(self.mesh.points @ turned.T)


def _largest(places: Sequence[Placed]) -> Floats:
    """The place that makes a mesh largest, without where it is."""
    found: list[Floats] = []
    for one in places:
        linear = one.world[None, :3, :3]
        if isinstance(one.node.content, Scatter):
            linear = linear @ one.node.content.transforms[:, :3, :3]
        found.extend(linear)
    sizes = [abs(determinant(linear)) for linear in found]
    best = found[int(np.argmax(sizes))]
    return best if abs(determinant(best)) > 1e-300 else np.eye(3)


class Unwrap(_Laying):
    """Give meshes new UVs: surfaces laid out flat in islands, none over another, packed into the image.

    Looks at visible meshes and levels. Makes seams along sharp edges and where a surface cannot be laid out without
    distortion, flattens each island and packs them. For light, makes a second set, only for meshes that have no set
    without overlap yet; for paint, replaces the first one. Polygons stay whole. Refuses a page that is too small.
    """

    slug: ClassVar[str] = "unwrap"
    example: ClassVar[dict[str, Any]] = {"for": "light", "size": 512}

    purpose: Literal["light", "paint"] = Field(
        "light", alias="for", description="light: a second set for baked light; paint: the first set, for textures."
    )
    set: SetName = Field("", description="Name or number of the set to write, from 0; as 'for' says when empty.")
    seams: tuple[Literal["hard", "islands", "slots"], ...] = Field(
        (),
        description="Where seams are always: hard (edges), islands (of the set so far), slots (of materials).",
    )
    angle: float = Field(50.0, gt=0, le=180, description="Degrees above which an edge becomes a seam.")
    stretch: float = Field(1.15, gt=1, le=10, description="How much lengths may be distorted: 1 is not at all.")
    levels: Literal["own", "visible"] = Field(
        "own", description="own: levels get islands of their own; visible: they use those of the visible mesh."
    )

    def change(self, scene: Scene) -> Scene:
        scene = Roles().apply(scene)
        notes: list[Note] = []
        made: dict[int, Mesh] = {}
        groups, asked = self._groups(scene), self._followers(scene) if self.levels == "visible" else {}
        parts = {id(part.mesh): part.mesh for group in groups for part in group}
        wanted = {key for key, mesh in parts.items() if key not in asked and not self._is_good(mesh, notes)}
        # A level of a mesh that keeps what it has is laid out for itself.
        followers = {level: pair for level, pair in asked.items() if id(pair[0]) in wanted}
        alone = [key for key in parts if key in asked and key not in followers]
        wanted.update(key for key in alone if not self._is_good(parts[key], notes))
        groups = [[part for part in group if id(part.mesh) in wanted] for group in groups]
        groups = [group for group in groups if group]
        total = sum(part.mesh.triangle_count for group in groups for part in group) or 1
        done = 0
        charted: dict[int, tuple[Unwrapped, Packed, slice]] = {}
        for group in groups:
            laid = []
            for part in group:
                span = done / total, part.mesh.triangle_count / total
                laid.append((part, self._laid(part, span)))
                done += part.mesh.triangle_count
            corners = [part.mesh.surface(triangulate)[0] for part, _ in laid]
            packed = self._packed(
                [(p, u.uv, u.vertex[c], u.chart) for (p, u), c in zip(laid, corners, strict=True)], turn=True
            )
            first, island = 0, 0
            for part, unwrapped in laid:
                rows = slice(first, first + len(unwrapped.uv))
                pages = packed.page[island : island + len(unwrapped.stretch)]
                first, island = rows.stop, island + len(unwrapped.stretch)
                made[id(part.mesh)] = self._with_set(part.mesh, packed.uv[rows], unwrapped, pages, notes)
                charted[id(part.mesh)] = unwrapped, packed, rows
                notes.extend(self._remarks(part.mesh, unwrapped))
            notes.append(self._said(packed, island, [part.mesh.name for part in group], scene.frame.unit))
        for level, (main, relative) in followers.items():
            made[level] = self._following(scene, level, main, relative, charted[id(main)], notes)
        if not made:
            return scene.with_notes(*notes)
        changed = scene.map_meshes(lambda mesh: made.get(id(mesh), mesh))
        return changed.with_notes(*notes, *self._misfits(scene, made))

    def _is_good(self, mesh: Mesh, notes: list[Note]) -> bool:
        """Whether a mesh has a set already that baked light can use."""
        if self.purpose != "light" or self.set:
            return False
        corners, _ = mesh.surface(triangulate)
        for number, layer in enumerate(mesh.uv_sets):
            facts = uv_facts(corners, layer.values, layer.index, coverage=False)
            if facts.missing or facts.outside or facts.zero_area > _flat(mesh, corners):
                continue
            facts = uv_facts(corners, layer.values, layer.index)
            if facts.overlap <= _OVERLAP * facts.covered:
                name = f" '{layer.name}'" if layer.name else ""
                notes.append(self.note(f"UV set {number}{name} has no overlap; kept", node=mesh.name))
                return True
        return False

    def _laid(self, part: _Part, span: tuple[float, float]) -> Unwrapped:
        mesh = part.mesh
        corners, face = mesh.surface(triangulate)
        keys = []
        if "hard" in self.seams and mesh.normals is not None:
            keys.append(_numbers(mesh.normals, 1e-4))
        number = self._number(mesh)
        if "islands" in self.seams and mesh.uv_sets:
            keys.append(_numbers(mesh.uv_sets[min(number, len(mesh.uv_sets) - 1)], 1e-6))
        return unwrap(
            part.points, mesh.corner_point, corners, face, feature_angle=math.radians(self.angle), corner_keys=keys,
            face_keys=[mesh.slot_of_face] if "slots" in self.seams else [], stretch=self.stretch,
            progress=lambda share: tell(span[0] + share * span[1]),
        )  # fmt: skip

    def _number(self, mesh: Mesh) -> int:
        """The number of the set to write."""
        if self.set.isdigit():
            return min(int(self.set), len(mesh.uv_sets))
        if self.set:
            return next((k for k, layer in enumerate(mesh.uv_sets) if layer.name == self.set), len(mesh.uv_sets))
        return 0 if self.purpose == "paint" else min(1, len(mesh.uv_sets))

    def _with_set(
        self, mesh: Mesh, uv: Floats, unwrapped: Unwrapped, pages: NDArray[np.int32], notes: list[Note]
    ) -> Mesh:
        new = self._with_layer(mesh, uv.astype(np.float32), unwrapped.vertex, notes)
        if not pages.any():
            return new
        _, face = mesh.surface(triangulate)
        page = np.zeros(mesh.face_count, np.int32)
        page[face] = pages[unwrapped.chart]
        sets = {f"page {k + 1}": np.flatnonzero(page == k).astype(np.int32) for k in range(int(page.max()) + 1)}
        return new.replace(face_sets={**new.face_sets, **sets})

    def _with_layer(self, mesh: Mesh, values: NDArray[np.float32], index: NDArray[np.int32], notes: list[Note]) -> Mesh:
        number, sets = self._number(mesh), list(mesh.uv_sets)
        if self.set.isdigit() and int(self.set) > number:
            text = f"has {count_of(len(sets), 'UV set')}, so the new one is number {number}, not {self.set}"
            notes.append(self.note(text, kind="finding", node=mesh.name))
        name = self.set if self.set and not self.set.isdigit() else ""
        name = name or (sets[number].name if number < len(sets) else "light" if self.purpose == "light" else "")
        layer = Layer.taking("uv", values, index, name)
        sets[number : number + 1] = [layer]
        others = [one for one in mesh.layers if one.kind not in ("uv", "tangent")]
        # Tangents follow the first set.
        kept = [one for one in mesh.layers if one.kind == "tangent" and number > 0]
        return mesh.replace(layers=(*others, *kept, *sets))

    def _remarks(self, mesh: Mesh, unwrapped: Unwrapped) -> Iterator[Note]:
        if unwrapped.poor.any():
            count = count_of(int(unwrapped.poor.sum()), "polygon")
            yield self.note(f"{count} cannot be laid out without overlap", kind="finding", node=mesh.name)

    def _followers(self, scene: Scene) -> dict[int, tuple[Mesh, Floats]]:
        """The visible mesh of each level, and what brings the level into its space."""
        found: dict[int, tuple[Mesh, Floats]] = {}
        for asset in assets_of(scene):
            for one in asset.rest:
                level = one.node.drawn
                if one.node.role != "level" or level is None or not level.face_count:
                    continue
                near = [main for main in asset.main if main.parent == one.parent] or list(asset.main)
                main = min(near, key=lambda main: _how_far(main, one)) if near else None
                if main is not None and main.node.drawn is not None and abs(determinant(main.world[:3, :3])) > 1e-300:
                    found.setdefault(
                        id(level), (main.node.drawn, np.asarray(np.linalg.solve(main.world, one.world), np.float64))
                    )
        return found

    def _following(
        self,
        scene: Scene,
        level: int,
        main: Mesh,
        relative: Floats,
        charted: tuple[Unwrapped, Packed, slice],
        notes: list[Note],
    ) -> Mesh:
        mesh = next(one for one in scene.meshes if id(one) == level)
        unwrapped, packed, rows = charted
        own, _ = main.surface(triangulate)
        uv = packed.uv[rows][unwrapped.vertex[own]]
        source = Charted(main.points, np.ascontiguousarray(main.corner_point[own]), uv, unwrapped.chart)
        corners, face = mesh.surface(triangulate)
        points = np.ascontiguousarray(mesh.points @ relative[:3, :3].T + relative[:3, 3])
        triangles = np.ascontiguousarray(mesh.corner_point[corners])
        if determinant(relative[:3, :3]) < 0:
            triangles = np.ascontiguousarray(triangles[:, ::-1])
            corners = np.ascontiguousarray(corners[:, ::-1])
        values, index = carried_over(source, points, triangles, mesh.corner_count, corners, face)
        notes.append(self.note(f"uses the islands of '{main.name}'", node=mesh.name))
        return self._with_layer(mesh, values, index, notes)

    def _misfits(self, scene: Scene, made: Mapping[int, Mesh]) -> Iterator[Note]:
        """Materials whose textures lay on a set that is another one now."""
        names: dict[str, None] = {}
        for mesh in scene.meshes:
            if id(mesh) in made and mesh.uv_sets:
                number = self._number(mesh)
                for material in mesh.slots:
                    if material and any(use.uv_set == number for use in material.textures.values()):
                        names[material.name] = None
        if names and self.purpose == "paint":
            text = f"textures of {shortened(names)} do not fit the new UVs: bake them anew with bake-maps"
            yield self.note(text, kind="finding")


class Pack(_Laying):
    """Pack the islands that meshes have side by side, without overlap: one mesh or several onto a page.

    Looks at visible meshes and levels with UVs. Moves, turns and scales islands, which keep their shape. Islands that
    lie over each other, such as mirrored halves, are put apart. Refuses a page that is too small.
    """

    slug: ClassVar[str] = "pack"
    example: ClassVar[dict[str, Any]] = {"share": "asset", "size": 2048}

    set: SetName = Field("0", description="Name or number of the set to pack.")
    turn: bool = Field(True, description="Turn islands where that saves room.")
    even: bool = Field(True, description="Scale islands so that all have the same density; else they keep their sizes.")

    def change(self, scene: Scene) -> Scene:
        scene = Roles().apply(scene)
        notes: list[Note] = []
        made: dict[int, Mesh] = {}
        for group in self._groups(scene):
            laid, layers = [], []
            for part in group:
                number = self._number(part.mesh)
                if number is None:
                    text = f"has no UV set '{self.set}'; unwrap makes one"
                    notes.append(self.note(text, kind="finding", node=part.mesh.name))
                    continue
                laid.append(self._islands(part, part.mesh.uv_sets[number]))
                layers.append((part.mesh, number))
            if not laid:
                continue
            packed = self._packed([(one.part, one.uv, one.corners, one.chart) for one in laid], turn=self.turn)
            first = 0
            for one, (mesh, number) in zip(laid, layers, strict=True):
                uv = packed.uv[first : first + len(one.uv)].astype(np.float32)
                first += len(one.uv)
                layer = Layer.taking("uv", uv, one.vertex, mesh.uv_sets[number].name)
                kept = [old for old in mesh.layers if old.kind != "tangent" or number > 0]
                made[id(mesh)] = mesh.replace(
                    layers=tuple(layer if old is mesh.uv_sets[number] else old for old in kept)
                )
            count = sum(int(one.chart.max()) + 1 for one in laid)
            notes.append(self._said(packed, count, [mesh.name for mesh, _ in layers], scene.frame.unit))
        textured = [
            material.name
            for mesh in scene.meshes
            if id(mesh) in made
            for material in mesh.slots
            if material and any(use.uv_set == self._number(mesh) for use in material.textures.values())
        ]
        if textured:
            text = f"textures of {shortened(dict.fromkeys(textured))} do not fit the new UVs: bake them anew"
            notes.append(self.note(text, kind="finding"))
        return scene.map_meshes(lambda mesh: made.get(id(mesh), mesh)).with_notes(*notes)

    def _number(self, mesh: Mesh) -> int | None:
        for number, layer in enumerate(mesh.uv_sets):
            if self.set in (str(number), layer.name):
                return number
        return None

    def _islands(self, part: _Part, layer: Layer) -> _Islands:
        mesh = part.mesh
        corners, face = mesh.surface(triangulate)
        corners = corners[(layer.index[corners] >= 0).all(axis=1)] if layer.has_holes else corners
        sheet = Sheet.of(part.points, mesh.corner_point, corners, face[: len(corners)])
        found = islands(sheet, [_numbers(layer, 1e-7)])
        vertex, count = corner_classes(sheet, found.joined, mesh.corner_count)
        uv = np.zeros((count, 2))
        used = vertex >= 0
        uv[vertex[used]] = layer.values[layer.index[used]]
        home = np.zeros(count, np.int32)
        home[vertex[corners].ravel()] = np.repeat(found.chart, 3)
        p, q, r = (uv[vertex[corners[:, k]]] for k in range(3))
        laid = np.abs((q - p)[:, 0] * (r - p)[:, 1] - (q - p)[:, 1] * (r - p)[:, 0]) / 2
        sizes = np.bincount(found.chart, sheet.area), np.bincount(found.chart, laid)
        if not self.even:
            sizes = (np.full(len(sizes[0]), sizes[0].sum()), np.full(len(sizes[0]), sizes[1].sum()))
        factor = np.sqrt(sizes[0] / np.where(sizes[1] > 0, sizes[1], np.inf))
        return _Islands(part, uv * factor[home, None], vertex, vertex[corners].astype(np.int32), found.chart)


@dataclass(frozen=True, eq=False)
class _Islands:
    part: _Part
    uv: Floats
    vertex: NDArray[np.int32]
    corners: NDArray[np.int32]
    chart: NDArray[np.int32]


def _numbers(layer: Layer, within: float) -> NDArray[np.int64]:
    """(C,) a number for each corner that is equal where values are, to some digits."""
    _, number = np.unique(np.rint(layer.values / within).astype(np.int64), axis=0, return_inverse=True)
    return np.where(layer.index < 0, -1, number.ravel()[layer.index])


def _flat(mesh: Mesh, corners: NDArray[np.int32]) -> int:
    """How many triangles have no area on the surface, and cannot have any in UVs."""
    a, b, c = (mesh.points[mesh.corner_point[corners[:, k]]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    longest = np.maximum(np.linalg.norm(b - a, axis=1), np.linalg.norm(c - a, axis=1))
    return int((area <= 1e-9 * longest**2).sum())


def _how_far(one: Placed, other: Placed) -> float:
    return float(np.linalg.norm(one.world[:3, 3] - other.world[:3, 3]))
