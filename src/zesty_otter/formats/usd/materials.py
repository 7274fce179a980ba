"""UsdPreviewSurface networks to materials (Pixar, "UsdPreviewSurface specification")."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from zesty_otter.formats.bare import sound_material
from zesty_otter.formats.usd.mesh import numbers_of, value_of, word_of
from zesty_otter.formats.usd.text import Asset, Prim, word_in
from zesty_otter.metal_rough import metal_rough
from zesty_otter.model import LARGEST, Material, Texture, TextureUse

Note = Callable[[str, str], None]
Find = Callable[[str], Prim | None]
TextureOf = Callable[[Asset], Texture | None]

_ROLES = {
    "diffuseColor": "base_color",
    "emissiveColor": "emissive",
    "metallic": "metallic",
    "roughness": "roughness",
    "normal": "normal",
    "occlusion": "occlusion",
    "opacity": "alpha",
}


@dataclass
class Materials:
    """The materials of a stage; one for each set of UV names that meshes have."""

    find: Find
    texture_of: TextureOf
    note: Note

    def __post_init__(self) -> None:
        self._made: dict[tuple[str, tuple[str, ...]], Material | None] = {}
        self._alike: dict[Any, Material] = {}
        self._sided: set[str] = set()

    def says_its_sides(self, material: Material) -> bool:
        """Whether a material of this stage says itself from which sides it is seen."""
        return material.name in self._sided

    def at(self, path: str, uv_sets: Sequence[str]) -> Material | None:
        """The material at a path, for a mesh with UV sets of some names."""
        key = path, tuple(uv_sets)
        if key not in self._made:
            prim = self.find(path)
            if prim is None:
                self.note("lost", f"material {path} is not there; a plain one takes its place")
                self._made[key] = Material(path.rsplit("/", 1)[-1])
            else:
                self._made[key] = self._read(prim, path, uv_sets)
            made = self._made[key]
            # Copies that references brought along are one material again.
            self._made[key] = self._alike.setdefault(_looks(made), made) if made is not None else None
        return self._made[key]

    def _read(self, prim: Prim, path: str, uv_sets: Sequence[str]) -> Material:
        name = word_in(prim.meta, "displayName") or prim.name
        outputs = ("outputs:surface", "outputs:preview:surface")
        source = next((t for one in outputs if one in prim.properties for t in prim.properties[one].targets), "")
        surface = self.find(source.partition(".")[0]) if source else None
        if surface is None or word_of(surface, "info:id") != "UsdPreviewSurface":
            self.note("lost", f"material {path} has no preview surface; a plain one takes its place")
            return Material(name)
        uses: dict[str, TextureUse] = {}
        for key, role in _ROLES.items():
            use = self._use(surface, f"inputs:{key}", uv_sets)
            if use is not None:
                uses[role] = use
        color = self._color(surface, "diffuseColor", (0.18, 0.18, 0.18), "base_color" in uses)
        glow = self._color(surface, "emissiveColor", (0.0, 0.0, 0.0), "emissive" in uses)
        opacity = self._factor(surface, "opacity")[3] if "alpha" in uses else self._number(surface, "opacity", 1.0)
        threshold = self._number(surface, "opacityThreshold", 0.0)
        see_through = "alpha" in uses or opacity < 1.0
        said = prim.meta.get("customData")
        two_sided = said.get("two_sided") if isinstance(said, dict) else None
        if two_sided is not None:
            self._sided.add(name)
        coat = self._number(surface, "clearcoat", 0.0)
        shading: dict[str, Any] = {}
        if coat > 0:
            shading = {"clearcoat": coat, "clearcoat_roughness": self._number(surface, "clearcoatRoughness", 0.01)}
        metallic = self._factor(surface, "metallic")[0] if "metallic" in uses else None
        roughness = self._factor(surface, "roughness")[0] if "roughness" in uses else None
        made = sound_material(
            name,
            base_color=(*color, min(max(opacity, 0.0), 1.0)),
            metallic=self._number(surface, "metallic", 0.0) if metallic is None else metallic,
            roughness=self._number(surface, "roughness", 0.5) if roughness is None else roughness,
            emissive=glow,
            alpha_mode="mask" if see_through and threshold > 0 else "blend" if see_through else "opaque",
            alpha_cutoff=threshold if threshold > 0 else 0.5,
            two_sided=two_sided is True,
            shading=shading,
        ).with_textures(uses)
        return self._from_specular(made, surface, path)

    def _from_specular(self, material: Material, surface: Prim, path: str) -> Material:
        """A material as metal and roughness, where the file says its specular colour."""
        if not self._number(surface, "useSpecularWorkflow", 0.0):
            return material
        if "inputs:specularColor" in surface.properties and surface.properties["inputs:specularColor"].targets:
            self.note("lost", f"material {path}: its map of specular colour is left out")
        said = {
            "specular": self._color(surface, "specularColor", (0.0, 0.0, 0.0), False),
            "roughness": material.roughness,
        }
        found = metal_rough(replace(material, shading={**material.shading, **said})).material
        self.note("done", f"material {path}: its specular colour became metal and roughness")
        return replace(found, shading=material.shading)

    def _source(self, prim: Prim, key: str) -> tuple[Prim, str] | None:
        """What an input is connected to in the end: the shader, and its output."""
        for _ in range(16):
            one = prim.properties.get(key)
            if one is None or not one.targets:
                return None
            where, _, output = one.targets[0].partition(".")
            found = self.find(where)
            if found is None:
                return None
            if word_of(found, "info:id"):
                return found, output
            prim, key = found, output
        return None

    def _use(self, surface: Prim, key: str, uv_sets: Sequence[str]) -> TextureUse | None:
        source = self._source(surface, key)
        if source is None or word_of(source[0], "info:id") != "UsdUVTexture":
            return None
        shader, output = source
        asset = self._value(shader, "inputs:file")
        texture = self.texture_of(asset) if isinstance(asset, Asset) and asset.path else None
        if texture is None:
            return None
        channel = output.rpartition(":")[2]
        use = TextureUse(texture, channel=channel if channel in ("r", "g", "b", "a") else None)
        if channel == "r" and key in ("inputs:metallic", "inputs:roughness", "inputs:occlusion"):
            use = replace(use, channel="r")
        use = replace(use, clamp=word_of(shader, "inputs:wrapS") in ("clamp", "black"))
        leaning = numbers_of(shader, "inputs:scale")
        if key == "inputs:normal" and len(leaning) and 0 < leaning[0] < LARGEST:
            use = replace(use, strength=float(leaning[0]) / 2)
        coordinates = self._source(shader, "inputs:st")
        if coordinates is not None and word_of(coordinates[0], "info:id") == "UsdTransform2d":
            use = self._placed(use, coordinates[0])
            coordinates = self._source(coordinates[0], "inputs:in")
        if coordinates is not None:
            name = self._value(coordinates[0], "inputs:varname")
            if isinstance(name, str) and name in uv_sets:
                use = replace(use, uv_set=list(uv_sets).index(name))
        return use

    def _placed(self, use: TextureUse, shader: Prim) -> TextureUse:
        scale = (*numbers_of(shader, "inputs:scale"), 1.0, 1.0)[:2]
        shift = (*numbers_of(shader, "inputs:translation"), 0.0, 0.0)[:2]
        turned = (*numbers_of(shader, "inputs:rotation"), 0.0)[0]
        placed = replace(use, scale=(float(scale[0]), float(scale[1])), offset=(float(shift[0]), float(shift[1])))
        return replace(placed, rotation=float(np.radians(turned)))

    def _value(self, prim: Prim, key: str) -> Any:
        """The value of an input, followed through connections to interface inputs."""
        for _ in range(16):
            one = prim.properties.get(key)
            if one is None or not one.targets:
                return value_of(prim, key)
            where, _, output = one.targets[0].partition(".")
            found = self.find(where)
            if found is None or found is prim:
                return value_of(prim, key)
            prim, key = found, output
        return None

    def _number(self, prim: Prim, name: str, missing: float) -> float:
        value = self._value(prim, f"inputs:{name}")
        number = float(value[0]) if isinstance(value, np.ndarray) and len(value) else value
        good = isinstance(number, int | float) and np.isfinite(number)
        return float(number) if good else missing

    def _factor(self, surface: Prim, name: str) -> tuple[float, float, float, float]:
        """What the texture of an input is multiplied by."""
        source = self._source(surface, f"inputs:{name}")
        scale = numbers_of(source[0], "inputs:scale") if source is not None else np.zeros(0)
        if len(scale) < 4 or not np.isfinite(scale).all():
            return 1.0, 1.0, 1.0, 1.0
        r, g, b, a = np.clip(scale[:4], 0.0, 1.0).tolist()
        return r, g, b, a

    def _color(
        self, prim: Prim, name: str, missing: tuple[float, float, float], textured: bool
    ) -> tuple[float, float, float]:
        if textured:
            return self._factor(prim, name)[:3]
        value = self._value(prim, f"inputs:{name}")
        if not isinstance(value, np.ndarray) or len(value) < 3 or not np.isfinite(value[:3]).all():
            return missing
        r, g, b = np.maximum(value[:3], 0.0).tolist()
        return (r, g, b) if name == "emissiveColor" else (min(r, 1.0), min(g, 1.0), min(b, 1.0))


def _looks(material: Material) -> Any:
    """Everything a material says, its name included."""
    uses = tuple(
        (role, id(use.texture), use.uv_set, use.channel, use.offset, use.scale, use.rotation, use.clamp)
        for role, use in material.textures.items()
    )
    numbers = material.metallic, material.roughness, material.alpha_cutoff
    return material.name, material.two_sided, material.base_color, material.emissive, material.alpha_mode, numbers, uses
