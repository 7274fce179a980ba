"""COLLADA effects to materials (specification 1.4.1, chapter 8, "profile_COMMON")."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from zesty_otter import pixels
from zesty_otter.formats.bare import sound_material
from zesty_otter.formats.files import find_beside, missing_texture
from zesty_otter.formats.xml import Element, child, children, floats, name_of, number, text_of
from zesty_otter.model import Material, Texture, TextureUse, roughness_of_shininess

Note = Callable[[str, str], None]
Find = Callable[[str | None], Element | None]

_MODELS = ("phong", "blinn", "lambert", "constant")


class Materials:
    """The materials of a file, each with the names of the UV sets its textures ask for."""

    def __init__(self, path: Path, folders: Sequence[Path], find: Find, note: Note) -> None:
        self.path, self.folders, self.find, self.note = path, folders, find, note
        self._effects: dict[str, tuple[Material, dict[str, str]]] = {}
        self._bound: dict[tuple[str, tuple[tuple[str, int], ...]], Material] = {}
        self._textures: dict[str, Texture] = {}

    def bound(self, url: str | None, uv_set_of: Mapping[str, int]) -> Material | None:
        """A material with its textures on the UV sets that a node binds their names to."""
        if not url:
            return None
        if url not in self._effects:
            element = self.find(url)
            if element is None:
                self.note("lost", f"material '{url}' is not in the file; a plain one takes its place")
                self._effects[url] = Material(url.lstrip("#")), {}
            else:
                self._effects[url] = self._read(element)
        material, names = self._effects[url]
        sets = {role: uv_set_of[name] for role, name in names.items() if uv_set_of.get(name, 0)}
        key = url, tuple(sorted(sets.items()))
        if key not in self._bound:
            uses = {role: replace(use, uv_set=sets.get(role, 0)) for role, use in material.textures.items()}
            self._bound[key] = material.with_textures(uses) if sets else material
        return self._bound[key]

    def _read(self, element: Element) -> tuple[Material, dict[str, str]]:
        name = element.get("name") or element.get("id") or "material"
        instance = child(element, "instance_effect")
        effect = self.find(instance.get("url")) if instance is not None else None
        profile = child(effect, "profile_COMMON")
        if profile is None:
            self.note("lost", f"material '{name}' has no common profile; a plain one takes its place")
            return Material(name), {}
        return _Effect(self, name, profile).material()

    def texture(self, profile: Element, sampler: str) -> Texture | None:
        """The image behind the name of a sampler, or of the image itself, as old files have it."""
        params = {one.get("sid", ""): one for one in profile.iter() if name_of(one) == "newparam"}
        image: Element | None = None
        surface = child(params.get(sampler), "sampler2D")
        if surface is not None:
            instance = child(surface, "instance_image")
            source = text_of(child(surface, "source"))
            wanted = text_of(child(params.get(source), "surface", "init_from")) or source
            image = self.find(instance.get("url") if instance is not None else f"#{wanted}")
        image = self.find(f"#{sampler}") if image is None else image
        if image is None:
            self.note("lost", f"texture '{sampler}' names no image")
            return None
        start = child(image, "init_from")
        inner = child(start, "ref")
        wanted = unquote(text_of(inner if inner is not None else start))
        if not wanted:
            return self._embedded(image)
        if wanted not in self._textures:
            self._textures[wanted] = self._found(re.sub(r"^file:/*(?=[A-Za-z]:|/|\.)?", "", wanted), wanted)
        return self._textures[wanted]

    def _found(self, path: str, wanted: str) -> Texture:
        found = find_beside(self.path, path, also_in=self.folders)
        if found.remark:
            self.note("assumed", found.remark)
        if found.path is None:
            self.note("lost", missing_texture(wanted, found))
        name = found.path.name if found.path else re.split(r"[\\/]", path)[-1]
        return Texture(name, found.path, None, path, found.looked_in)

    def _embedded(self, image: Element) -> Texture | None:
        data = child(image, "data")
        data = child(image, "init_from", "hex") if data is None else data
        try:
            content = bytes.fromhex("".join(text_of(data).split()))
            kind = pixels.inspect(content).kind.lower()
        except (ValueError, pixels.ImageError):
            self.note("lost", f"image '{image.get('id')}' names no file")
            return None
        name = image.get("name") or image.get("id") or "image"
        return self._textures.setdefault(f"\0{name}", Texture(f"{name}.{kind.replace('jpeg', 'jpg')}", data=content))


def _share(value: float) -> float:
    return min(max(value, 0.0), 1.0)


class _Effect:
    """One effect on its way to a material."""

    def __init__(self, table: Materials, name: str, profile: Element) -> None:
        self.table, self.name, self.profile = table, name, profile
        technique = child(profile, "technique")
        self.technique = technique if technique is not None else profile
        self.model = next(children(self.technique, *_MODELS), None)
        self.uses: dict[str, TextureUse] = {}
        self.sets: dict[str, str] = {}

    def note(self, kind: str, text: str) -> None:
        self.table.note(kind, f"material '{self.name}': {text}")

    def material(self) -> tuple[Material, dict[str, str]]:
        diffuse = self._slot("diffuse", "base_color")
        emission = self._slot("emission", "emissive")
        glow = (1.0, 1.0, 1.0) if "emissive" in self.uses else emission or (0.0, 0.0, 0.0)
        color = diffuse or ((1.0, 1.0, 1.0, 1.0) if "base_color" in self.uses else (0.8, 0.8, 0.8, 1.0))
        shading: dict[str, Any] = {}
        specular, shininess = self._color("specular"), self._float("shininess")
        if specular is not None:
            shading["specular"] = list(specular[:3])
        if shininess is not None:
            shading["shininess"] = shininess
        shiny = shininess is not None and specular is not None and any(specular[:3])
        opacity = self._opacity()
        alpha_mode = "blend" if opacity < 1.0 else "opaque"
        if "alpha" in self.uses:
            alpha_mode = self._alpha_mode(self.uses["alpha"])
        self._bump()
        everything = list(self.profile.iter())
        material = sound_material(
            self.name,
            base_color=(_share(color[0]), _share(color[1]), _share(color[2]), opacity),
            roughness=roughness_of_shininess(shininess) if shiny and shininess is not None else 1.0,
            emissive=(max(glow[0], 0.0), max(glow[1], 0.0), max(glow[2], 0.0)),
            alpha_mode=alpha_mode,
            two_sided=any(name_of(one) == "double_sided" and text_of(one) in ("1", "true") for one in everything),
            shading=shading,
        )  # fmt: skip
        return material.with_textures(self.uses), self.sets

    def _slot(self, name: str, role: str) -> tuple[float, ...] | None:
        """A colour, or a texture that is taken for a role."""
        texture = child(self.model, name, "texture")
        if texture is not None:
            found = self.table.texture(self.profile, texture.get("texture", ""))
            if found is not None:
                self._use(role, TextureUse(found), texture)
        return self._color(name)

    def _use(self, role: str, use: TextureUse, texture: Element) -> None:
        placed = {name_of(one): number(one.text, 0.0) for extra in children(texture, "extra") for one in extra.iter()}
        scale = placed.get("repeatU") or 1.0, placed.get("repeatV") or 1.0
        offset = placed.get("offsetU", 0.0), placed.get("offsetV", 0.0)
        self.uses[role] = replace(use, scale=scale, offset=offset)
        self.sets[role] = texture.get("texcoord", "")

    def _color(self, name: str) -> tuple[float, ...] | None:
        element = child(self.model, name, "color")
        if element is None:
            element = self._param(child(self.model, name, "param"))
        values = floats(element.text).tolist() if element is not None else []
        return tuple(values[:4] + [1.0] * (4 - len(values))) if len(values) >= 3 else None

    def _float(self, name: str) -> float | None:
        element = child(self.model, name, "float")
        if element is None:
            element = self._param(child(self.model, name, "param"))
        values = floats(element.text if element is not None else None)
        return float(values[0]) if len(values) else None

    def _param(self, reference: Element | None) -> Element | None:
        if reference is None:
            return None
        for one in self.profile.iter():
            if name_of(one) == "newparam" and one.get("sid") == reference.get("ref"):
                return next((value for value in children(one) if name_of(value).startswith("float")), None)
        return None

    def _opacity(self) -> float:
        """How opaque the common profile's transparent and transparency make it (1.4.1, "transparent")."""
        element = child(self.model, "transparent")
        mode = (element.get("opaque") if element is not None else None) or "A_ONE"
        share = self._float("transparency")
        share = 1.0 if share is None else share
        texture = child(element, "texture")
        if texture is not None:
            found = self.table.texture(self.profile, texture.get("texture", ""))
            if found is not None:
                self._use("alpha", TextureUse(found, channel="a" if mode.startswith("A") else None), texture)
                if mode.endswith("ZERO"):
                    self.note("assumed", f"its transparency map is of the kind {mode}; taken as it is, white is opaque")
            return 1.0
        color = self._color("transparent")
        if element is None and share == 1.0:
            return 1.0
        r, g, b, a = tuple(color or (1.0, 1.0, 1.0, 1.0))
        # Rec. 709 luminance, as the specification asks for.
        light = 0.212671 * r + 0.715160 * g + 0.072169 * b
        opacity = {"A_ONE": a * share, "A_ZERO": 1.0 - a * share, "RGB_ZERO": 1.0 - light * share}.get(
            mode, light * share
        )
        if opacity <= 1e-6:
            self.note("assumed", "it is fully transparent, which some programs write by mistake; taken as opaque")
            return 1.0
        return min(max(opacity, 0.0), 1.0)

    def _alpha_mode(self, use: TextureUse) -> str:
        try:
            data = use.texture.read()
            channel = "a" if pixels.has_alpha(data) and use.channel == "a" else "l"
            if channel == "l":
                self.uses["alpha"] = replace(use, channel=None)
            return "mask" if pixels.is_cut_out(data, channel) else "blend"
        except (pixels.ImageError, OSError):
            return "blend"

    def _bump(self) -> None:
        """A bump or normal map, which widespread extras hold."""
        for one in self.profile.iter():
            texture = child(one, "texture") if name_of(one) in ("bump", "normalmap") else None
            if texture is None:
                continue
            found = self.table.texture(self.profile, texture.get("texture", ""))
            if found is None or not found.found:
                return
            try:
                if pixels.looks_like_normal_map(found.read()):
                    self._use("normal", TextureUse(found), texture)
                else:
                    self.note("lost", f"its bump map '{found.name}' holds heights, which are not carried; bake normals")
            except (pixels.ImageError, OSError):
                self.note("lost", f"its bump map '{found.name}' is not an image")
            return
