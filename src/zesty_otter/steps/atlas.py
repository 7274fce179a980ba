"""One material and one page of textures in place of many."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter import pixels
from zesty_otter.errors import UsageError
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.geometry.uv.charts import Sheet, islands
from zesty_otter.geometry.uv.packing import pack
from zesty_otter.model import Layer, Material, Mesh, Node, Note, Scene, Texture, TextureUse, count_of
from zesty_otter.shading import alpha_channel, placed_uvs, unplaced_uvs
from zesty_otter.steps.assets import assets_of
from zesty_otter.steps.base import Step, tell
from zesty_otter.steps.roles import Roles

Floats = NDArray[np.float64]

_UNSAFE = re.compile(r"[^\w.-]+")
_PLAIN = Material("plain")
_PATCH = 8  # pixels along a side of what has one colour
_SMALLEST = 32
_ROWS = 1 << 18  # pixels that are drawn at a time
_LEAST = 1e-3  # of its pixels along a side: what would shrink more does not fit
_MOST = 1 << 18  # pixels along a side of what is drawn, however often a texture repeats, before it shrinks

_PAGES = {
    "base_color": ("base_color", "alpha"),
    "surface": ("occlusion", "roughness", "metallic"),
    "normal": ("normal",),
    "emissive": ("emissive",),
}
"""The pages that an atlas may have, and the roles of textures that go into each."""


class Atlas(Step):
    """Turn the materials of an asset into one, with all their textures on one page.

    Looks at the visible meshes and levels of each asset, or of all that are chosen. Draws the used part of every
    texture into a page: colour, occlusion with roughness and metal, normals, emission; repeats, placements and
    factors are drawn in, so that the new material has none. Materials that are opaque, cut out and blended stay
    apart. UVs follow. Notes how many slots and draw calls there were, and how much the textures shrank.
    """

    slug: ClassVar[str] = "atlas"
    example: ClassVar[dict[str, Any]] = {"size": 2048}

    size: int = Field(2048, ge=32, le=16384, description="Maximum pixels along a side of a page.")
    of: Literal["asset", "scene"] = Field(
        "asset", description="One atlas for each asset, or one for all nodes that are chosen."
    )
    gutter: int = Field(4, ge=0, le=256, description="Minimum distance between textures, in pixels.")
    name: str = Field("{name}_atlas", description="Template for the name of the material; {name} is the asset.")

    def change(self, scene: Scene) -> Scene:
        scene = Roles().apply(scene)
        groups = list(self._groups(scene))
        notes: list[Note] = []
        made: dict[int, Mesh] = {}
        for number, (name, nodes) in enumerate(groups):
            tell(number / len(groups))
            meshes = {id(node.drawn): node.drawn for node in nodes if node.drawn is not None}
            todo = [mesh for key, mesh in meshes.items() if key not in made and _slots(mesh)]
            slots = sum(len(_slots(mesh)) for mesh in todo)
            materials = len({id(material) for mesh in todo for material in _slots(mesh).values()})
            if materials < 2:
                continue
            atlas = _Atlas(self, name, todo)
            new = atlas.meshes()
            made |= new
            main = [node for node in nodes if node.role == "visible" and id(node.drawn) in new]
            before = sum(len(_slots(node.drawn)) for node in main if node.drawn is not None)
            after = sum(len(_slots(new[id(node.drawn)])) for node in main)
            left = sum(len(_slots(mesh)) for mesh in new.values())
            text = f"{count_of(materials, 'material')} became {len(atlas.modes)}, {count_of(slots, 'slot')} {left},"
            text += f" {count_of(before, 'draw call')} {after}" + (" (join makes them fewer)" if len(main) > 1 else "")
            notes.append(self.note(f"{text}; {atlas.said}", node=name))
            notes += [self.note(lost, kind="lost", node=name) for lost in atlas.lost]
        if not made:
            return scene.with_notes(self.note("nothing has two materials; nothing to do", kind="finding"))
        return scene.map_meshes(lambda mesh: made.get(id(mesh), mesh)).with_notes(*notes)

    def _groups(self, scene: Scene) -> Iterator[tuple[str, list[Node]]]:
        """What shares an atlas, and what it is called."""
        assets = assets_of(scene)
        own = [
            (asset.name, [one.node for one in (*asset.main, *asset.rest) if one.node.role in ("visible", "level")])
            for asset in assets
        ]
        if self.of == "scene":
            name = next((root.name for root in scene.roots), "scene") if len(scene.roots) == 1 else "scene"
            yield name, [node for _, nodes in own for node in nodes]
        else:
            # Pieces of one thing stand below one node.
            tops: dict[str, list[Node]] = {}
            for asset, (name, nodes) in zip(assets, own, strict=True):
                path = asset.main[0].path if asset.main else (name,)
                tops.setdefault(path[0] if len(path) > 1 else name, []).extend(nodes)
            yield from tops.items()


def _slots(mesh: Mesh) -> dict[int, Material]:
    """The slots of a mesh that faces use; what has no material is plain."""
    return {number: mesh.slots[number] or _PLAIN for number in mesh.used_slots} if mesh.face_count else {}


@dataclass(eq=False)
class _Region:
    """The part of a material's textures that is used, from ``low`` to ``high`` (2,) of its placed UVs."""

    material: Material
    use: TextureUse | None
    low: Floats
    high: Floats
    texels: tuple[int, int]
    rect: tuple[int, int, int, int] = (0, 0, 0, 0)  # of the page: x, y from below, width, height
    share: float = 1.0  # of its own pixels that are drawn

    @property
    def size(self) -> tuple[int, int]:
        """Its own pixels."""
        if self.use is None:
            return _PATCH, _PATCH
        wide, high = (self.high - self.low) * self.texels
        return max(round(float(wide)), 1), max(round(float(high)), 1)


class _Atlas:
    def __init__(self, step: Atlas, name: str, meshes: Sequence[Mesh]) -> None:
        self.step, self.name, self.all = step, name, meshes
        self.lost: list[str] = []
        self.said = ""
        self._known: dict[tuple[int, bool], NDArray[np.float32] | None] = {}
        materials = {id(material): material for mesh in meshes for material in _slots(mesh).values()}
        self.modes: dict[str, list[Material]] = {}
        for material in materials.values():
            self.modes.setdefault(material.alpha_mode, []).append(material)
        self.uses = {key: self._use(material) for key, material in materials.items()}
        # The placed UVs of each mesh, moved by whole numbers so that islands lie near the origin.
        self.placed = {id(mesh): self._placed(mesh) for mesh in meshes}
        self.regions = {key: self._region(material) for key, material in materials.items()}

    def meshes(self) -> dict[int, Mesh]:
        """The meshes with their new UVs and materials, by the identity of those before."""
        made: dict[int, Material] = {}
        sizes: dict[int, tuple[int, int]] = {}
        least, spots = 1.0, []
        for mode, materials in self.modes.items():
            regions = [self.regions[id(material)] for material in materials]
            size = self._arranged(regions)
            single = self._drawn(mode, regions, size)
            for region in regions:
                made[id(region.material)] = single
                sizes[id(region.material)] = size
                least = min(least, region.share)
            spots.append(f"{size[0]} × {size[1]}")
        self.said = f"page of {' and '.join(spots)} pixels"
        self.said += f", textures at {100 * least:.0f} % of their pixels along a side" if least < 0.995 else ""
        return {id(mesh): self._changed(mesh, made, sizes) for mesh in self.all}

    def _use(self, material: Material) -> TextureUse | None:
        """The use of a texture that says where all textures of a material lie."""
        for use in material.textures.values():
            if self._numbers(use.texture, linear=False) is not None:
                return use
        return None

    def _numbers(self, texture: Texture, *, linear: bool) -> NDArray[np.float32] | None:
        key = id(texture), linear
        if key not in self._known:
            try:
                self._known[key] = pixels.numbers_of(texture.read(), linear=linear)
            except (OSError, pixels.ImageError):
                self._known[key] = None
                self.lost.append(f"texture '{texture.name}' is missing or damaged, and not in the atlas")
        return self._known[key]

    def _placed(self, mesh: Mesh) -> Floats:
        """(C, 2) where each corner lies in the textures of its material."""
        slot_of_corner = mesh.slot_of_face[mesh.corner_face]
        found = np.zeros((mesh.corner_count, 2))
        corners, face = mesh.surface(triangulate)
        for number, material in _slots(mesh).items():
            use, mine = self.uses[id(material)], slot_of_corner == number
            if use is None or use.uv_set >= len(mesh.uv_sets):
                found[mine] = _by_position(mesh, mine)
                continue
            layer = mesh.uv_sets[use.uv_set]
            found[mine] = placed_uvs(layer.at_corners(0.0)[mine], use)
            if use.clamp:
                continue
            rows = np.flatnonzero(mesh.slot_of_face[face] == number)
            sheet = Sheet.of(mesh.points, mesh.corner_point, corners[rows], face[rows])
            island = islands(sheet, [found[:, 0], found[:, 1]]).chart
            low = np.full((int(island.max(initial=-1)) + 1, 2), np.inf)
            np.minimum.at(low, np.repeat(island, 3), found[sheet.corners.ravel()])
            moved = np.zeros((mesh.corner_count, 2))
            moved[sheet.corners.ravel()] = np.floor(low + 1e-6)[np.repeat(island, 3)]
            found[mine] -= moved[mine]
        return found

    def _region(self, material: Material) -> _Region:
        use = self.uses[id(material)]
        low, high = np.full(2, np.inf), np.full(2, -np.inf)
        for mesh in self.all:
            for number, own in _slots(mesh).items():
                if own is material:
                    there = self.placed[id(mesh)][mesh.slot_of_face[mesh.corner_face] == number]
                    low, high = np.minimum(low, there.min(axis=0)), np.maximum(high, there.max(axis=0))
        if use is None:
            return _Region(material, None, low, np.maximum(high, low + 1e-9), (1, 1))
        values = self._numbers(use.texture, linear=False)
        assert values is not None
        texels = values.shape[1], values.shape[0]
        # Whole pixels, so that what is not shrunk is drawn as it is.
        low, high = np.floor(low * texels + 1e-4) / texels, np.ceil(high * texels - 1e-4) / texels
        return _Region(material, use, low, np.maximum(high, low + 1 / np.array(texels)), texels)

    def _arranged(self, regions: list[_Region]) -> tuple[int, int]:
        """Gives every region its place; the size of the page."""
        share = 1.0
        biggest = self.step.size
        while True:
            sizes = [_shrunk(region.size, share, region.use is None) for region in regions]
            area = sum((w + self.step.gutter) * (h + self.step.gutter) for w, h in sizes)
            side = _SMALLEST
            while side < biggest and side * side < area:
                side *= 2
            for page in (
                (side, side // 2),
                (side, side),
                (min(2 * side, biggest), side),
                (min(2 * side, biggest),) * 2,
            ):
                page = min(page[0], biggest), min(page[1], biggest)
                places = _side_by_side(sizes, page, self.step.gutter) if page[0] * page[1] >= area else None
                if places is not None:
                    for region, (x, y), (w, h) in zip(regions, places, sizes, strict=True):
                        region.rect = x, y, w, h
                        region.share = 1.0 if region.use is None else min(w / region.size[0], h / region.size[1])
                    return page
            if share < _LEAST:
                text = f"{count_of(len(regions), 'material')} do not fit on a page of {biggest} pixels"
                raise UsageError(f"step '{self.step.slug}': {text}.", remedy="Use a larger size or a smaller gutter.")
            share *= min(0.97, math.sqrt(biggest * biggest / area) if area > biggest * biggest else 1.0)

    def _drawn(self, mode: str, regions: list[_Region], size: tuple[int, int]) -> Material:
        """The material for all regions of a page, with its textures."""
        name = self.step.name.replace("{name}", self.name) + ("" if len(self.modes) == 1 else f"_{mode}")
        first = regions[0].material
        materials = [region.material for region in regions]
        strongest = [max(max(one.emissive[k] for one in materials), 1e-9) for k in range(3)]
        glow = tuple(max(one, 1.0) for one in strongest)
        uses: dict[str, TextureUse] = {}
        values: dict[str, Any] = {}
        for page, roles in _PAGES.items():
            if page == "normal" and not any("normal" in one.textures for one in materials):
                continue
            drawn = any(role in one.textures for one in materials for role in roles)
            looks = {_factors(one, page) for one in materials}
            if not drawn and len(looks) == 1:
                values |= _kept(first, page)
                continue
            image = np.zeros((size[1], size[0], 4), np.float32)
            image[..., 3] = 1.0
            if page == "normal":
                image[..., :3] = 0.5, 0.5, 1.0
            for region in regions:
                self._draw(image, region, page, mode, glow)
            light = page in ("base_color", "emissive")
            wide = 4 if page == "base_color" and mode != "opaque" else 3
            data = pixels.png_of(pixels.bytes_of(image[..., :wide], linear=light))
            texture = Texture(f"{_UNSAFE.sub('_', name)}_{page}.png", data=data)
            if page == "emissive":
                values["emissive"] = glow
            if page == "surface":
                values |= {"metallic": 1.0, "roughness": 1.0}
                shaded = any("occlusion" in one.textures for one in materials)
                channels = zip(roles, "rgb", strict=True)
                uses |= {role: TextureUse(texture, channel=c) for role, c in channels if shaded or c != "r"}
            else:
                uses[roles[0]] = TextureUse(texture)
        two_sided = any(one.two_sided for one in materials)
        made = Material(name, alpha_mode=mode, alpha_cutoff=0.5, two_sided=two_sided, **values)
        return made.with_textures(uses)

    def _draw(self, image: NDArray[np.float32], region: _Region, page: str, mode: str, glow: tuple[float, ...]) -> None:
        """Draws what a material has for a page, and goes on into half of the gutter around it."""
        x, y, wide, high = region.rect
        over = self.step.gutter // 2
        columns = np.arange(max(x - over, 0), min(x + wide + over, image.shape[1]))
        rows = np.arange(max(y - over, 0), min(y + high + over, image.shape[0]))  # from below
        sample = self._sampler(region, page, mode, glow)
        step = max(_ROWS // max(len(columns), 1), 1)
        for first in range(0, len(rows), step):
            some = rows[first : first + step]
            u, v = np.meshgrid((columns + 0.5 - x) / wide, (some + 0.5 - y) / high)
            places = region.low + np.stack([u.ravel(), v.ravel()], axis=1) * (region.high - region.low)
            image[image.shape[0] - 1 - some[:, None], columns] = sample(places).reshape(len(some), len(columns), 4)

    def _sampler(self, region: _Region, page: str, mode: str, glow: tuple[float, ...]) -> Any:
        """What gives the numbers (N, 4) of a page at placed UVs (N, 2) of a material."""
        material, base = region.material, region.use
        looks = {role: self._look(region, role) for role in _PAGES[page]}

        def at(role: str, places: Floats) -> NDArray[np.float32] | None:
            look, use = looks[role], material.textures.get(role)
            if look is None or use is None or base is None:
                return None
            return look.at(placed_uvs(unplaced_uvs(places, base), use) if use is not base else places)

        def channel(role: str, usual: str, places: Floats) -> NDArray[np.float32] | float:
            found = at(role, places)
            use = material.textures.get(role)
            return 1.0 if found is None or use is None else found[:, "rgba".index(use.channel or usual)]

        def sample(places: Floats) -> NDArray[np.float32]:
            out = np.ones((len(places), 4), np.float32)
            if page == "base_color":
                found = at("base_color", places)
                out[:] = material.base_color
                out *= 1.0 if found is None else found
                found, use, look = at("alpha", places), material.textures.get("alpha"), looks["alpha"]
                if found is not None and use is not None and look is not None:
                    out[:, 3] = material.base_color[3] * found[:, alpha_channel(use, look.values)]
                if mode == "mask":
                    # One threshold for all: what was just kept is just kept.
                    cut = material.alpha_cutoff
                    low, high = out[:, 3] / max(2 * cut, 1e-6), 0.5 + (out[:, 3] - cut) / max(2 * (1 - cut), 1e-6)
                    out[:, 3] = np.where(out[:, 3] < cut, low, high)
            elif page == "surface":
                use = material.textures.get("occlusion")
                strength = use.strength if use is not None else 1.0
                out[:, 0] = 1 + strength * (channel("occlusion", "r", places) - 1)
                out[:, 1] = material.roughness * channel("roughness", "g", places)
                out[:, 2] = material.metallic * channel("metallic", "b", places)
            elif page == "normal":
                out[:, :3] = 0.5, 0.5, 1.0
                found, use = at("normal", places), material.textures.get("normal")
                if found is not None and use is not None:
                    out[:, :3] = _turned_normals(found, use, base or use) / 2 + 0.5
            else:
                found = at("emissive", places)
                out[:, :3] = np.array(material.emissive) / np.array(glow)
                if found is not None:
                    out[:, :3] *= found[:, :3]
            return out

        return sample

    def _look(self, region: _Region, role: str) -> pixels.Look | None:
        use = region.material.textures.get(role)
        if use is None or region.use is None:
            return None
        if use.uv_set != region.use.uv_set:
            text = f"'{region.material.name}': {role} lies on another UV set than the rest, and is not in the atlas"
            if text not in self.lost:
                self.lost.append(text)
            return None
        values = self._numbers(use.texture, linear=role in ("base_color", "emissive"))
        return None if values is None else pixels.Look(values, use.clamp).shrunk(region.share)

    def _changed(self, mesh: Mesh, made: Mapping[int, Material], sizes: Mapping[int, tuple[int, int]]) -> Mesh:
        placed = self.placed[id(mesh)]
        new = np.zeros((mesh.corner_count, 2))
        slot_of_corner = mesh.slot_of_face[mesh.corner_face]
        slots: dict[int, int] = {}
        number_of = np.zeros(len(mesh.slots), np.int32)
        singles: list[Material] = []
        for number, material in _slots(mesh).items():
            region, mine = self.regions[id(material)], slot_of_corner == number
            x, y, wide, high = region.rect
            share = (placed[mine] - region.low) / (region.high - region.low)
            if region.use is None:
                share = 0.25 + 0.5 * share  # well within its patch
            new[mine] = (np.array([x, y]) + share * (wide, high)) / sizes[id(material)]
            single = made[id(material)]
            if id(single) not in slots:
                slots[id(single)] = len(singles)
                singles.append(single)
            number_of[number] = slots[id(single)]
        values, index = np.unique(new.astype(np.float32), axis=0, return_inverse=True)
        old = mesh.uv_sets
        layer = Layer.taking("uv", values, index.ravel().astype(np.int32), old[0].name if old else "")
        others = [one for one in mesh.layers if one.kind not in ("uv", "tangent")]
        face_slot = number_of[mesh.slot_of_face] if len(singles) > 1 else None
        return mesh.replace(layers=(*others, layer, *old[1:]), slots=tuple(singles), face_slot=face_slot)


def _by_position(mesh: Mesh, mine: NDArray[np.bool_]) -> Floats:
    """Somewhere to lie for corners of one colour: as they are seen from the corner of the box."""
    low, high = mesh.surface_bounds
    place = (mesh.points[mesh.corner_point[mine]] - low) / max(float((high - low).max()), 1e-300)
    return np.stack([place[:, 0] + 0.31 * place[:, 2], place[:, 1] + 0.53 * place[:, 2]], axis=1)


def _shrunk(size: tuple[int, int], share: float, plain: bool) -> tuple[int, int]:
    if plain:
        return size
    share /= max(max(size) / _MOST, 1.0)
    return max(round(size[0] * share), 1), max(round(size[1] * share), 1)


def _side_by_side(sizes: Sequence[tuple[int, int]], page: tuple[int, int], gutter: int) -> list[tuple[int, int]] | None:
    """The lower left corners of rectangles on a page; None where they do not fit."""
    uv = np.array([[(0, 0), (w, 0), (w, h), (0, h)] for w, h in sizes], float).reshape(-1, 2)
    first = 4 * np.arange(len(sizes))[:, None]
    corners = np.concatenate([first + [[0, 1, 2]], first + [[0, 2, 3]]], axis=1).reshape(-1, 3).astype(np.int32)
    chart = np.repeat(np.arange(len(sizes), dtype=np.int32), 2)
    try:
        # A hair smaller, as a rectangle that ends at a pixel's edge touches the next pixel.
        packed = pack(uv * (1 - 1e-6), corners, chart, size=page, gutter=gutter, scale=1.0, turn=False, most_pages=1)
    except ValueError:
        return None
    return [(round(x), round(y)) for x, y in packed.uv[::4] * page]


def _factors(material: Material, page: str) -> Any:
    """What a material says for a page beside its textures."""
    return {
        "base_color": material.base_color,
        "surface": (material.metallic, material.roughness),
        "emissive": material.emissive,
    }.get(page)


def _kept(material: Material, page: str) -> dict[str, Any]:
    """The values of a page on which all materials agree."""
    names = {"base_color": ("base_color",), "surface": ("metallic", "roughness"), "emissive": ("emissive",)}
    return {name: getattr(material, name) for name in names.get(page, ())}


def _turned_normals(found: NDArray[np.float32], use: TextureUse, base: TextureUse) -> NDArray[np.float32]:
    """Normals of a map, as strong as they are used, along the UVs that the base placement makes."""
    normal = found[:, :3] * 2 - 1
    x, y = (normal[:, k] * use.strength * (math.copysign(1, base.scale[k])) for k in range(2))
    c, s = math.cos(base.rotation), math.sin(base.rotation)
    turned = np.stack([c * x - s * y, s * x + c * y, np.maximum(normal[:, 2], 1e-3)], axis=1)
    return np.asarray(turned / np.linalg.norm(turned, axis=1, keepdims=True), np.float32)


__all__ = ["Atlas"]
