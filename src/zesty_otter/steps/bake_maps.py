"""Maps baked from heavy meshes onto light ones."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BeforeValidator, Field, field_validator

from zesty_otter import pixels
from zesty_otter._reading import read_scene
from zesty_otter.errors import UsageError
from zesty_otter.geometry.queries.distance import Surface, mixed, sampled
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.normals import normals_all_smooth
from zesty_otter.geometry.surface.tangents import tangents
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.geometry.uv.baking import Baked, Canvas, Met, bake
from zesty_otter.geometry.uv.sets import uv_facts
from zesty_otter.model import (
    Material,
    Mesh,
    Note,
    Placed,
    Scene,
    Texture,
    TextureUse,
    count_of,
    determinant,
    format_length,
    shortened,
)
from zesty_otter.shading import alpha_channel, placed_uvs, with_all_normals
from zesty_otter.steps.assets import Asset, assets_of, level_of
from zesty_otter.steps.base import Length, Step, tell
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.unwrap import PageSize, SetName
from zesty_otter.steps.words import Words, chosen

Floats = NDArray[np.float64]
Map = Literal["normal", "occlusion", "color", "metal-rough", "emission", "height"]

_UNSAFE = re.compile(r"[^\w.-]+")
_COMPARED, _ALIKE = 1000, 0.05  # places whose UVs are compared, and by how much most may differ, as a share of a map
_PLACES = 20_000
_FAR = 0.5  # of the size of a mesh: a source of which half is farther lies somewhere else
_OVERLAP = 0.01
_PLAIN = Material("plain")


def _as_words(value: Any) -> Any:
    return tuple(value.strip("[]").replace(",", " ").split()) if isinstance(value, str) else value


class BakeMaps(Step):
    """Bake maps from a heavy mesh onto light ones, so that these look like it.

    Looks at what each asset's visible mesh shows and draws it into the UVs of its levels; or takes other nodes or
    another file as the source, for the visible mesh too. The UVs have to be without overlap, as unwrap makes them.
    Rays go straight in along averaged normals, from as far as the surfaces are apart. Adds the maps to the materials.
    Refuses a source that lies somewhere else, and meshes without UVs.
    """

    slug: ClassVar[str] = "bake-maps"
    example: ClassVar[dict[str, Any]] = {"maps": ["normal", "occlusion"], "size": 1024}

    source: Words = Field(
        (), description="Nodes to bake from, in the words of select; they go afterwards. The visible mesh when empty."
    )
    file: Path | None = Field(None, description="A file to bake from, instead of nodes.")
    unit: str | None = Field(
        None, description="Unit of that file, where it does not say; that of the scene when absent."
    )
    axes: str | None = Field(
        None, description="Axes of that file, where it does not say; those of the scene if absent."
    )
    maps: Annotated[tuple[Map, ...], BeforeValidator(_as_words)] = Field(
        ("normal",),
        min_length=1,
        description="What to bake: normal, occlusion, color, metal-rough, emission, height (alpha of the normal map).",
    )
    set: SetName = Field(
        "", description="Name or number of the UV set to bake into; the first without overlap when empty."
    )
    size: PageSize = Field((1024, 1024), description="Width and height of the maps in pixels: 1024 or 2048x1024.")
    samples: int = Field(4, description="Places of each pixel that are looked at: 1, 4, 9 or 16.")
    reach: Length | None = Field(
        None, gt=0, description="How far above and below a mesh its source may lie; measured when absent."
    )
    rays: int = Field(64, ge=1, le=4096, description="Rays of each place for occlusion.")
    share: bool = Field(
        False, description="Levels whose UVs lie alike use the maps of the first of them, or of the visible mesh."
    )

    @field_validator("samples")
    @classmethod
    def _is_square(cls, value: int) -> int:
        if value not in (1, 4, 9, 16):
            raise ValueError("must be 1, 4, 9 or 16")
        return value

    def change(self, scene: Scene) -> Scene:
        scene = Roles().apply(scene)
        if self.file is not None:
            scene = replace(scene, read_files=(*scene.read_files, self.file))
        notes: list[Note] = []
        made: dict[int, Mesh] = {}
        dropped: dict[int, None] = {}
        jobs = list(self._jobs(scene, dropped))
        if not jobs:
            text = "no mesh to bake onto: levels makes some, or name a source" if not self.source else "nothing to bake"
            return scene.with_notes(self.note(text, kind="finding"))
        shared: dict[str, list[_Maps]] = {}
        for number, (name, target, sources) in enumerate(jobs):
            mesh = target.node.drawn
            if mesh is None or id(mesh) in made:
                continue
            own = shared.setdefault(name, [])
            of_others = own if self.share and target.node.role == "level" else []
            found = next((one for one in of_others if one.fits(target)), None)
            if found is None:
                if of_others:
                    there = shortened(one.target.node.name for one in of_others)
                    text = f"its UVs lie elsewhere than those of {there}, so that it gets maps of its own"
                    text += " (unwrap before levels lays them out alike)"
                    notes.append(self.note(text, kind="finding", node=target.node.name))
                span = number / len(jobs), 1 / len(jobs)
                uv_set = self._uv_set(mesh)
                baked = self._baked(scene, target, mesh, uv_set, sources, span, notes)
                found = _Maps(target, uv_set, self._uses(mesh.name, uv_set, baked))
                own.append(found)
                notes.append(self.note(self._said(baked, sources), node=target.node.name))
            made[id(mesh)] = self._with_maps(mesh, found)
        changed = scene.map_meshes(lambda mesh: made.get(id(mesh), mesh))
        if dropped:
            changed = changed.rebuilt(lambda n, node: None if n in dropped else node)
            notes.append(self.note(f"{count_of(len(dropped), 'source')} dropped after baking"))
        return changed.with_notes(*notes)

    def _jobs(self, scene: Scene, dropped: dict[int, None]) -> Iterator[tuple[str, Placed, _Source]]:
        """What is baked onto: the asset's name, the node, and what is baked from."""
        assets = assets_of(scene)
        if self.file is not None:
            source = self._from_file(scene, self.file)
        elif self.source:
            nodes = [one for one in scene.walk() if one.node.drawn is not None and chosen(self.source, one)]
            nodes = [one for one in nodes if one.node.drawn is not None and one.node.drawn.face_count]
            if not nodes:
                text = f"step '{self.slug}': no mesh matches source = {', '.join(self.source)}"
                raise UsageError(f"{text}.", remedy="Name nodes of the scene, or a file with file = ....")
            dropped |= {one.number: None for one in nodes}
            source = _Source(nodes, scene.frame.unit)
        else:
            for asset in assets:
                main = [one for one in asset.main if one.node.drawn is not None and one.node.drawn.face_count]
                source = _Source(main, scene.frame.unit)
                for level in _levels(asset) if main else ():
                    yield asset.name, level, source
            return
        for asset in assets:
            for one in (*asset.main, *_levels(asset)):
                mesh = one.node.drawn
                if one.number not in dropped and mesh is not None and mesh.face_count:
                    yield asset.name, one, source

    def _from_file(self, scene: Scene, file: Path) -> _Source:
        frame = scene.frame
        read = read_scene(file, self.unit, self.axes)
        if read.frame.unit is None:
            read = replace(read, frame=replace(read.frame, unit=frame.unit))
        turn = np.eye(4)
        size = (read.frame.unit or 1.0) / (frame.unit or 1.0)
        turn[:3, :3] = frame.basis.T @ read.frame.basis * size
        placed = [
            replace(one, world=turn @ one.world)
            for one in read.walk()
            if one.visible and one.node.drawn is not None and one.node.drawn.face_count
        ]
        if not placed:
            raise UsageError(f"step '{self.slug}': {file} has no mesh to bake from.", remedy="Name another file.")
        return _Source(placed, frame.unit)

    def _uv_set(self, mesh: Mesh) -> int:
        for number, layer in enumerate(mesh.uv_sets):
            if self.set in (str(number), layer.name) and self.set:
                return number
        if not self.set:
            corners, _ = mesh.surface(triangulate)
            for number, layer in enumerate(mesh.uv_sets):
                facts = uv_facts(corners, layer.values, layer.index)
                if not facts.missing and not facts.outside and facts.overlap <= _OVERLAP * facts.covered:
                    return number
        what = f"no UV set '{self.set}'" if self.set else "no UVs without overlap"
        raise UsageError(
            f"step '{self.slug}': {mesh.name} has {what} to bake into.", remedy="Put the step unwrap before it."
        )

    def _baked(
        self,
        scene: Scene,
        target: Placed,
        mesh: Mesh,
        uv_set: int,
        source: _Source,
        span: tuple[float, float],
        notes: list[Note],
    ) -> Baked:
        surface = source.within(target)
        canvas, points, triangles = _canvas(mesh, uv_set, self.size)
        apart, reach = _apart(surface.surface, points, triangles)
        size = float(np.ptp(points[triangles.ravel()], axis=0).max(initial=0.0))
        metre = (scene.frame.unit or 1.0) * float(np.cbrt(abs(determinant(target.world[:3, :3]))) or 1.0)
        if apart > _FAR * size:
            raise UsageError(
                f"step '{self.slug}': the source {source.names} lies {format_length(apart * metre)} from "
                f"{target.node.name}, which is {format_length(size * metre)} large.",
                remedy="Both have to stand in the same place: check unit and axes, or move it with pivot or scale.",
            )
        reach = self.reach / metre if self.reach is not None else reach
        baked = bake(
            canvas, surface.surface, reach, lambda met: self._drawn(surface, met, reach, size),
            samples=self.samples, progress=lambda share: tell(span[0] + share * span[1]),
        )  # fmt: skip
        if not baked.images:
            raise UsageError(
                f"step '{self.slug}': no ray from {target.node.name} meets {source.names}.",
                remedy="Check that the faces of both look outward, or set a larger reach.",
            )
        if baked.missed > 0.001:
            text = f"{100 * baked.missed:.2g} % of its pixels met nothing and took what is beside them"
            notes.append(self.note(text, kind="finding", node=target.node.name))
        notes += [self.note(text, kind="lost", node=target.node.name) for text in surface.lost]
        return baked

    def _drawn(self, source: _Within, met: Met, reach: float, size: float) -> dict[str, NDArray[np.float32]]:
        """What is drawn for where rays met the source."""
        found: dict[str, NDArray[np.float32]] = {}
        normal = source.normal(met)
        if "normal" in self.maps or "height" in self.maps:
            found["normal"] = met.along(source.bumped(met, normal)).astype(np.float32)
        if "height" in self.maps:
            found["height"] = (met.rise[:, None] / (2 * reach) + 0.5).astype(np.float32)
        if "occlusion" in self.maps:
            found["occlusion"] = self._open(source, met, normal, size)
        for name, role in (("color", "base_color"), ("emission", "emissive"), ("metal-rough", "metallic")):
            if name in self.maps:
                found[name] = source.painted(met, role)
        return found

    def _open(self, source: _Within, met: Met, normal: Floats, size: float) -> NDArray[np.float32]:
        """(N, 1) how open it is; the places of a pixel share its rays, each turned in its own way."""
        rays = max(self.rays // self.samples, 1)
        return source.surface.open_share(met.place, normal, size, met.number, rays)[:, None]

    def _with_maps(self, mesh: Mesh, maps: _Maps) -> Mesh:
        """The mesh with what was baked in its materials."""
        for slot in mesh.slots:
            slot = slot or _PLAIN
            if id(slot) not in maps.made:
                maps.made[id(slot)] = slot, self._material(slot, maps.mesh.name, maps.uses)
        return mesh.replace(
            layers=tuple(one for one in mesh.layers if one.kind != "tangent"),
            slots=tuple(maps.made[id(slot or _PLAIN)][1] for slot in mesh.slots),
        )

    def _uses(self, name: str, uv_set: int, baked: Baked) -> dict[str, TextureUse]:
        """What was baked for a mesh as textures."""
        stem = _UNSAFE.sub("_", name)
        uses: dict[str, TextureUse] = {}

        def texture(name: str, values: NDArray[Any], *, linear: bool = False) -> Texture:
            data = pixels.png_of(pixels.bytes_of(values, linear=linear))
            return Texture(f"{stem}_{name}.png", data=data)

        images = baked.images
        if "normal" in images:
            normal: NDArray[Any] = images["normal"]
            length = np.linalg.norm(normal, axis=2, keepdims=True)
            normal = (
                np.where(length > 1e-6, normal / np.maximum(length, 1e-6), np.array([0, 0, 1], np.float32)) / 2 + 0.5
            )
            if "height" in images:
                normal = np.concatenate([normal, images["height"]], axis=2)
            uses["normal"] = TextureUse(texture("normal", normal), uv_set)
        surface = np.ones((*next(iter(images.values())).shape[:2], 3), np.float32)
        if "occlusion" in images:
            surface[..., 0] = images["occlusion"][..., 0]
        if "metal-rough" in images:
            surface[..., 1:] = images["metal-rough"][..., :2]
        if "occlusion" in images or "metal-rough" in images:
            name = "surface" if "metal-rough" in images else "occlusion"
            packed = texture(name, surface)
            uses |= {"occlusion": TextureUse(packed, uv_set, "r")} if "occlusion" in images else {}
            if "metal-rough" in images:
                uses |= {"roughness": TextureUse(packed, uv_set, "g"), "metallic": TextureUse(packed, uv_set, "b")}
        color = images.get("color")
        if color is not None:
            through = bool((color[..., 3] < 0.999).any())
            uses["base_color"] = TextureUse(texture("color", color if through else color[..., :3], linear=True), uv_set)
        if "emission" in images:
            glow = images["emission"][..., :3]
            uses["emissive"] = TextureUse(texture("emission", glow, linear=True), uv_set)
        return uses

    def _material(self, material: Material, name: str, uses: Mapping[str, TextureUse]) -> Material:
        textures = {**material.textures, **uses}
        changes: dict[str, Any] = {"name": f"{material.name}_{name}"}
        if "base_color" in uses:
            textures.pop("alpha", None)
            changes["base_color"] = (1.0, 1.0, 1.0, 1.0)
        if "roughness" in uses:
            changes |= {"metallic": 1.0, "roughness": 1.0}
        if "emissive" in uses:
            changes["emissive"] = (1.0, 1.0, 1.0)
        return replace(material, **changes).with_textures(textures)

    def _said(self, baked: Baked, source: _Source) -> str:
        text = f"{', '.join(self.maps)} baked from {source.names}, {self.size[0]} × {self.size[1]} pixels"
        return f"{text}, {100 * baked.drawn:.0f} % of them used"


def _levels(asset: Asset) -> list[Placed]:
    found = [one for one in asset.rest if one.node.role == "level" and one.node.drawn is not None]
    found = [one for one in found if one.node.drawn is not None and one.node.drawn.face_count]
    return sorted(found, key=lambda one: level_of(one.node))


@dataclass(frozen=True, eq=False)
class _Maps:
    """Maps that were baked for a mesh, which lighter versions of it may use."""

    target: Placed
    uv_set: int
    uses: Mapping[str, TextureUse]
    made: dict[int, tuple[Material, Material]] = field(default_factory=dict)  # materials with them, by what they were

    @property
    def mesh(self) -> Mesh:
        assert self.target.node.drawn is not None
        return self.target.node.drawn

    def fits(self, other: Placed) -> bool:
        """Whether most places of another mesh have about the UVs that the nearest places of this one have."""
        one, mesh = self.mesh, other.node.drawn
        if mesh is None or self.uv_set >= len(mesh.uv_sets) or abs(determinant(self.target.world[:3, :3])) < 1e-300:
            return False
        turn = np.linalg.solve(self.target.world, other.world)
        points = mesh.points @ turn[:3, :3].T + turn[:3, 3]
        corners, uvs = zip(*(_uvs_of(each, self.uv_set) for each in (mesh, one)), strict=True)
        places = sampled(points, np.ascontiguousarray(mesh.corner_point[corners[0]]), _COMPARED)
        surface = Surface(one.points, np.ascontiguousarray(one.corner_point[corners[1]]))
        _, triangle, shares = surface.nearest(places.position)
        apart = mixed(uvs[0], places.triangle, places.shares) - mixed(uvs[1], triangle, shares)
        return bool(np.median(np.linalg.norm(apart, axis=1)) <= _ALIKE)


def _uvs_of(mesh: Mesh, uv_set: int) -> tuple[NDArray[np.int32], Floats]:
    """The corners of its triangles (T, 3), and their UVs (T, 3, 2)."""
    corners, _ = mesh.surface(triangulate)
    return corners, np.ascontiguousarray(mesh.uv_sets[uv_set].at_corners(0.0)[corners], np.float64)


@dataclass(frozen=True, eq=False)
class _Source:
    """Nodes to bake from, placed in the scene of the target."""

    placed: Sequence[Placed]
    unit: float | None
    known: dict[bytes, _Within] = field(default_factory=dict)  # the last it was asked for, as levels ask one by one

    @property
    def names(self) -> str:
        return shortened(dict.fromkeys(one.node.name for one in self.placed))

    def within(self, target: Placed) -> _Within:
        """What is baked from, in the space of a target."""
        if abs(determinant(target.world[:3, :3])) < 1e-300:
            raise UsageError(f"step 'bake-maps': {target.node.name} has zero scale.", remedy="Put bake before it.")
        own = [np.asarray(np.linalg.solve(target.world, one.world), np.float64) for one in self.placed]
        key = np.stack(own).tobytes()
        if key not in self.known:
            meshes = [one.node.drawn for one in self.placed]
            parts = [_Piece.of(mesh, place) for mesh, place in zip(meshes, own, strict=True) if mesh is not None]
            self.known.clear()  # one at a time: they may be large
            self.known[key] = _Within(parts)
        return self.known[key]


@dataclass(frozen=True, eq=False)
class _Piece:
    """A mesh to bake from: ``points``, ``triangles`` of them, and what is known at the corners of these."""

    mesh: Mesh
    points: Floats
    triangles: NDArray[np.int32]
    corners: NDArray[np.int32]
    face: NDArray[np.int32]
    normal: Floats  # (T, 3, 3)
    linear: Floats

    @classmethod
    def of(cls, mesh: Mesh, own: Floats) -> _Piece:
        corners, face = mesh.surface(triangulate)
        layer = with_all_normals(mesh).normals
        assert layer is not None
        linear = own[:3, :3]
        turn = np.linalg.inv(linear).T if abs(determinant(linear)) > 1e-300 else linear
        if determinant(linear) < 0:
            corners = np.ascontiguousarray(corners[:, ::-1])
        normal = layer.values[layer.index[corners]].astype(np.float64) @ turn.T
        points = np.ascontiguousarray(mesh.points @ linear.T + own[:3, 3])
        return cls(mesh, points, mesh.corner_point[corners], corners, face, normal, linear)


class _Within:
    """All that is baked from as one surface, and what it looks like anywhere."""

    def __init__(self, pieces: Sequence[_Piece]) -> None:
        self.pieces = pieces
        first = np.cumsum([0, *(len(one.points) for one in pieces)])
        self.points = np.concatenate([one.points for one in pieces])
        rows = [one.triangles + start for one, start in zip(pieces, first, strict=False)]
        self.triangles = np.ascontiguousarray(np.concatenate(rows), np.int32)
        self.surface = Surface(self.points, self.triangles)
        self.normals = np.ascontiguousarray(np.concatenate([one.normal for one in pieces]), np.float64)
        self.starts = np.cumsum([0, *(len(one.triangles) for one in pieces)])
        self.lost: list[str] = []
        self._images: dict[tuple[int, bool], pixels.Look | None] = {}
        self._tangents: dict[int, Floats] = {}
        # Before many threads ask for them.
        for piece in pieces:
            for slot in piece.mesh.used_slots:
                for role, use in (piece.mesh.slots[slot] or _PLAIN).textures.items():
                    self._image(use, linear=role in ("base_color", "emissive"))
                    if role == "normal" and use.uv_set < len(piece.mesh.uv_sets):
                        self._tangents[id(piece)] = _tangents_of(piece.mesh, use.uv_set, piece.corners)

    def normal(self, met: Met) -> Floats:
        """(N, 3) normals of length one, where rays met it."""
        found = mixed(self.normals, met.triangle, met.shares)
        length = np.linalg.norm(found, axis=1, keepdims=True)
        return np.asarray(found / np.where(length > 0, length, 1.0))

    def _parts(self, met: Met) -> Iterator[tuple[NDArray[np.int64], _Piece, Material, NDArray[np.int64]]]:
        """The rows of each material: rows, piece, material, and triangles of the piece."""
        if len(self.pieces) == 1 and len(self.pieces[0].mesh.used_slots) == 1:
            (piece,) = self.pieces
            slots = piece.mesh.slots
            yield np.arange(len(met.triangle)), piece, slots[piece.mesh.used_slots[0]] or _PLAIN, met.triangle
            return
        for number, piece in enumerate(self.pieces):
            mine = np.flatnonzero((met.triangle >= self.starts[number]) & (met.triangle < self.starts[number + 1]))
            if not len(mine):
                continue
            own = met.triangle[mine] - self.starts[number]
            slot = piece.mesh.slot_of_face[piece.face[own]]
            for one in np.unique(slot):
                here = slot == one
                yield mine[here], piece, piece.mesh.slots[one] or _PLAIN, own[here]

    def _looked_up(
        self, met: Met, rows: NDArray[np.int64], piece: _Piece, own: NDArray[np.int64], use: TextureUse, *, linear: bool
    ) -> NDArray[np.float32] | None:
        look = self._image(use, linear=linear)
        if look is None or use.uv_set >= len(piece.mesh.uv_sets):
            return None
        layer = piece.mesh.uv_sets[use.uv_set]
        at = layer.values[layer.index[piece.corners[own]]].astype(np.float64)
        return pixels.Look(look.values, use.clamp).at(placed_uvs(np.einsum("nk,nkj->nj", met.shares[rows], at), use))

    def _image(self, use: TextureUse, *, linear: bool) -> pixels.Look | None:
        key = id(use.texture), linear
        if key not in self._images:
            try:
                self._images[key] = pixels.Look(pixels.numbers_of(use.texture.read(), linear=linear))
            except (OSError, pixels.ImageError):
                self._images[key] = None
                text = f"texture '{use.texture.name}' is missing or damaged, and not baked"
                self.lost += [text] if text not in self.lost else []
        return self._images[key]

    def painted(self, met: Met, role: str) -> NDArray[np.float32]:
        """(N, 4) colour and alpha, (N, 2) roughness and metal, or (N, 3) emission where rays met it."""
        wide = {"base_color": 4, "metallic": 2}.get(role, 3)
        out = np.zeros((len(met.number), wide), np.float32)
        for rows, piece, material, own in self._parts(met):
            if role == "metallic":
                out[rows] = material.roughness, material.metallic
                for column, (one, usual) in enumerate((("roughness", "g"), ("metallic", "b"))):
                    use = material.textures.get(one)
                    found = None if use is None else self._looked_up(met, rows, piece, own, use, linear=False)
                    if use is not None and found is not None:
                        out[rows, column] *= found[:, "rgba".index(use.channel or usual)]
                continue
            out[rows] = material.base_color if wide == 4 else material.emissive
            use = material.textures.get(role)
            found = None if use is None else self._looked_up(met, rows, piece, own, use, linear=True)
            if found is not None:
                out[rows] *= found[:, :wide]
            if wide == 4:
                self._alpha(met, rows, piece, own, material, out)
                colors = piece.mesh.layers_of("color")
                if colors:
                    at = colors[0].at_corners(1.0)[piece.corners[own]]
                    out[rows, : at.shape[2]] *= np.einsum("nk,nkj->nj", met.shares[rows], at)
        return out

    def _alpha(
        self,
        met: Met,
        rows: NDArray[np.int64],
        piece: _Piece,
        own: NDArray[np.int64],
        material: Material,
        out: NDArray[np.float32],
    ) -> None:
        if material.alpha_mode == "opaque":
            out[rows, 3] = 1.0
            return
        use = material.textures.get("alpha")
        found = None if use is None else self._looked_up(met, rows, piece, own, use, linear=False)
        if use is not None and found is not None:
            look = self._image(use, linear=False)
            assert look is not None
            out[rows, 3] = material.base_color[3] * found[:, alpha_channel(use, look.values)]

    def bumped(self, met: Met, normal: Floats) -> Floats:
        """(N, 3) normals with what normal maps of the source add."""
        out = normal
        if not self._tangents:
            return out
        for rows, piece, material, own in self._parts(met):
            use = material.textures.get("normal")
            found = None if use is None else self._looked_up(met, rows, piece, own, use, linear=False)
            if use is None or found is None or id(piece) not in self._tangents:
                continue
            out = out.copy() if out is normal else out
            tangent = self._tangents[id(piece)][own]
            t = np.einsum("nk,nkj->nj", met.shares[rows], tangent[..., :3] @ piece.linear.T)
            n = np.einsum("nk,nkj->nj", met.shares[rows], self.normals[met.triangle[rows]])
            side = tangent[:, 0, 3] * np.sign(determinant(piece.linear))
            b = side[:, None] * np.cross(n, t)
            x, y, z = (found[:, :3].astype(np.float64) * 2 - 1).T
            bent = (use.strength * x)[:, None] * t + (use.strength * y)[:, None] * b + z[:, None] * n
            length = np.linalg.norm(bent, axis=1, keepdims=True)
            out[rows] = np.where(length > 0, bent / np.where(length > 0, length, 1.0), normal[rows])
        return out


def _tangents_of(mesh: Mesh, uv_set: int, corners: NDArray[np.int32]) -> Floats:
    """(T, 3, 4) tangents along a UV set, at corners of triangles."""
    shaded = with_all_normals(mesh)
    assert shaded.normals is not None
    own, _ = mesh.surface(triangulate)
    values, index = tangents(
        mesh.points, mesh.corner_point, own, shaded.normals.at_corners(), mesh.uv_sets[uv_set].at_corners()
    )
    return np.asarray(values[index[corners]], np.float64)


def _canvas(mesh: Mesh, uv_set: int, size: tuple[int, int]) -> tuple[Canvas, Floats, NDArray[np.int32]]:
    """What is drawn into, and the points and triangles of it."""
    corners, _ = mesh.surface(triangulate)
    shaded = with_all_normals(mesh)
    assert shaded.normals is not None
    triangles = np.ascontiguousarray(mesh.corner_point[corners])
    joined = mesh.surface(join_points)
    values, index = normals_all_smooth(mesh.points, mesh.face_start, mesh.corner_point, joined)
    way = values[index[corners]].astype(np.float64)
    normal = shaded.normals.values[shaded.normals.index[corners]].astype(np.float64)
    # Where averaging leaves nothing, the normal itself.
    way = np.where(np.linalg.norm(way, axis=2, keepdims=True) > 1e-6, way, normal)
    layer = mesh.uv_sets[uv_set]
    uv = layer.values[layer.index[corners]].astype(np.float64)
    tangent = _tangents_of(mesh, uv_set, corners)
    return Canvas(mesh.points[triangles], normal, way, tangent, uv, size), mesh.points, triangles


def _apart(source: Surface, points: Floats, triangles: NDArray[np.int32]) -> tuple[float, float]:
    """How far half of a mesh is from what is baked onto it, and how far rays have to reach.

    Where few places are far from it, such as over holes that were closed, they do not count: what rays reach too far
    for is taken from other parts.
    """
    off = source.nearest(sampled(points, triangles, _PLACES).position)[0]
    size = float(np.ptp(points[triangles.ravel()], axis=0).max(initial=0.0))
    return float(np.median(off)), 1.5 * float(np.quantile(off, 0.99)) + 2e-3 * size
