"""Materials and textures to glTF 2.0 JSON (specification, section 3.9 and the ratified extensions)."""

from __future__ import annotations

import hashlib
import math
import re
from collections.abc import Callable
from typing import Any

import numpy as np

from zesty_otter import pixels
from zesty_otter.formats.placement import is_placed, matrix_of
from zesty_otter.model import Material, Note, Texture, TextureUse

_MIME = {"PNG": ("image/png", ".png"), "JPEG": ("image/jpeg", ".jpg")}


class MaterialTable:
    """Collects the materials, textures and images of one file; each distinct image is stored once.

    ``add_image(name, bytes, mime)`` stores an image and returns its glTF image object.
    """

    def __init__(self, add_image: Callable[[str, bytes, str], dict[str, Any]]) -> None:
        self.materials: list[dict[str, Any]] = []
        self.textures: list[dict[str, Any]] = []
        self.images: list[dict[str, Any]] = []
        self.samplers: list[dict[str, Any]] = []
        self.extensions: set[str] = set()
        self.required: set[str] = set()
        self._cards: set[int] = set()
        self.notes: list[Note] = []
        self._add_image = add_image
        self._number: dict[int, int] = {}
        self._image_of: dict[str, int] = {}
        self._texture_of: dict[tuple[int, bool], int] = {}
        self._png_of: dict[int, bytes | None] = {}

    def number(self, material: Material) -> int:
        """The index of a material, added when first asked for."""
        if id(material) not in self._number:
            self._number[id(material)] = len(self.materials)
            self.materials.append(self._encoded(material))
        return self._number[id(material)]

    def _note(self, kind: str, text: str) -> None:
        self.notes.append(Note(kind, text, "gltf"))

    def _encoded(self, material: Material) -> dict[str, Any]:
        surface: dict[str, Any] = {}
        if material.base_color != (1.0, 1.0, 1.0, 1.0):
            surface["baseColorFactor"] = list(material.base_color)
        self._put(surface, "baseColorTexture", self._base_color(material))
        if material.metallic != 1.0:
            surface["metallicFactor"] = material.metallic
        if material.roughness != 1.0:
            surface["roughnessFactor"] = material.roughness
        self._put(surface, "metallicRoughnessTexture", self._metal_rough(material))
        out: dict[str, Any] = {"name": material.name, "pbrMetallicRoughness": surface}
        normal = material.textures.get("normal")
        if normal is not None:
            self._put(out, "normalTexture", self._texture(normal), scale=normal.strength)
        occlusion = material.textures.get("occlusion")
        if occlusion is not None:
            self._put(out, "occlusionTexture", self._single_channel(material, occlusion), strength=occlusion.strength)
        emissive = material.textures.get("emissive")
        if emissive is not None:
            self._put(out, "emissiveTexture", self._texture(emissive))
        self._put_emission(out, material)
        if material.alpha_mode != "opaque":
            out["alphaMode"] = material.alpha_mode.upper()
        if material.alpha_mode == "mask" and material.alpha_cutoff != 0.5:
            out["alphaCutoff"] = material.alpha_cutoff
        if material.two_sided:
            out["doubleSided"] = True
        if material.shading.get("unlit"):
            self._extend(out, "KHR_materials_unlit", {})
        clearcoat = float(material.shading.get("clearcoat", 0.0))
        if clearcoat > 0:
            self._extend(
                out,
                "KHR_materials_clearcoat",
                {
                    "clearcoatFactor": min(clearcoat, 1.0),
                    "clearcoatRoughnessFactor": min(
                        max(float(material.shading.get("clearcoat_roughness", 0.0)), 0.0), 1.0
                    ),
                },
            )
        for name, content in material.shading.get("extensions", {}).items():
            self._extend(out, name, self._written(content))
        return out

    def _written(self, content: Any) -> Any:
        """What an extension said when it was read, with its textures as they are numbered here."""
        if isinstance(content, list):
            return [self._written(one) for one in content]
        if not isinstance(content, dict):
            return content
        encoded: dict[str, Any] = {}
        for key, value in content.items():
            new = self._texture(value) if isinstance(value, TextureUse) else self._written(value)
            encoded |= {} if new is None and value is not None else {key: new}
        return encoded

    def _put_emission(self, out: dict[str, Any], material: Material) -> None:
        strength = max(material.emissive)
        if strength <= 0:
            return
        # The core field ends at 1; what is brighter goes into an extension as a factor.
        out["emissiveFactor"] = [value / max(strength, 1.0) for value in material.emissive]
        if strength > 1:
            self._extend(out, "KHR_materials_emissive_strength", {"emissiveStrength": strength})

    def _extend(self, out: dict[str, Any], name: str, content: dict[str, Any]) -> None:
        out.setdefault("extensions", {})[name] = content
        self.extensions.add(name)

    def _put(self, out: dict[str, Any], key: str, info: dict[str, Any] | None, **extra: float | None) -> None:
        if info is not None:
            out[key] = {**info, **{k: v for k, v in extra.items() if v is not None and v != 1.0}}

    def _base_color(self, material: Material) -> dict[str, Any] | None:
        color, alpha = material.textures.get("base_color"), material.textures.get("alpha")
        data = self._bytes(alpha.texture) if alpha is not None and alpha.texture.found else None
        if alpha is None or data is None:
            return None if color is None else self._texture(color)
        channel = alpha.channel or ("a" if pixels.has_alpha(data) else "l")
        if color is not None and color.texture is alpha.texture and channel == "a":
            return self._texture(color)
        color_data = self._bytes(color.texture) if color is not None and color.texture.found else None
        info = pixels.inspect(color_data or data)
        rgb: list[pixels.Source] = [(color_data, c) if color_data else 255 for c in "rgb"]
        merged = pixels.pack((info.width, info.height), rgb[0], rgb[1], rgb[2], (data, channel))
        stem = _stem((color or alpha).texture.name)
        self._note("done", f"material '{material.name}': colour and transparency maps were merged into one image")
        self._note_places(material, color, alpha)
        return self._use(self._image(f"{stem}_alpha", merged), color or alpha)

    def _metal_rough(self, material: Material) -> dict[str, Any] | None:
        metallic, roughness = material.textures.get("metallic"), material.textures.get("roughness")
        metal_data = self._bytes(metallic.texture) if metallic and metallic.texture.found else None
        rough_data = self._bytes(roughness.texture) if roughness and roughness.texture.found else None
        if metal_data is None and rough_data is None:
            return None
        if (
            metallic is not None
            and roughness is not None
            and metallic.texture is roughness.texture
            and (metallic.channel, roughness.channel) == ("b", "g")
        ):
            return self._texture(roughness)
        sizes = [pixels.inspect(data) for data in (metal_data, rough_data) if data is not None]
        size = (max(s.width for s in sizes), max(s.height for s in sizes))
        green: pixels.Source = (rough_data, (roughness and roughness.channel) or "l") if rough_data else 255
        blue: pixels.Source = (metal_data, (metallic and metallic.channel) or "l") if metal_data else 255
        packed = pixels.pack(size, 255, green, blue)
        use = roughness if rough_data else metallic
        assert use is not None
        self._note("done", f"material '{material.name}': metal and rough maps were packed into one image")
        self._note_places(material, roughness, metallic)
        return self._use(self._image(f"{_stem(use.texture.name)}_metal_rough", packed), use)

    def _note_places(self, material: Material, one: TextureUse | None, other: TextureUse | None) -> None:
        """Says when two maps that became one lay differently."""
        if one is None or other is None:
            return
        if one.uv_set != other.uv_set or not np.allclose(matrix_of(one), matrix_of(other), rtol=0, atol=1e-9):
            text = f"material '{material.name}': '{other.texture.name}' lies as '{one.texture.name}' does now"
            self._note("lost", text)

    def _single_channel(self, material: Material, use: TextureUse) -> dict[str, Any] | None:
        data = self._bytes(use.texture) if use.texture.found else None
        if use.channel in (None, "r") or data is None:
            return self._texture(use)
        info = pixels.inspect(data)
        red = pixels.pack((info.width, info.height), (data, use.channel or "r"), 0, 0)
        self._note("done", f"material '{material.name}': the occlusion channel was moved to red")
        return self._use(self._image(f"{_stem(use.texture.name)}_occlusion", red), use)

    def _texture(self, use: TextureUse) -> dict[str, Any] | None:
        if not use.texture.found:
            return None
        data = self._for_cards(use.texture) or self._bytes(use.texture)
        return None if data is None else self._use(self._image(_stem(use.texture.name), data), use)

    def _for_cards(self, texture: Texture) -> bytes | None:
        """A texture for graphics cards, which is passed on as it is."""
        try:
            data = texture.read()
        except OSError:
            return None  # said where it is opened
        return data if pixels.is_for_graphics_cards(data) else None

    def _bytes(self, texture: Texture) -> bytes | None:
        """The texture as PNG or JPEG; None, with a note, when it is not an image."""
        if id(texture) not in self._png_of:
            self._png_of[id(texture)] = None
            try:
                data = texture.read()
                if pixels.is_for_graphics_cards(data):
                    text = f"texture '{texture.name}' is for graphics cards and cannot be put together with others"
                    self._note("lost", f"{text}; it is left out")
                    return None
                kind = pixels.inspect(data).kind
                if pixels.is_cut_short(data):
                    self._note("lost", f"texture '{texture.name}' is cut short; it is copied as it is")
                if kind not in _MIME:
                    self._note("done", f"texture '{texture.name}' was turned from {kind} into PNG")
                    data = pixels.to_png(data)
                self._png_of[id(texture)] = data
            except (pixels.ImageError, OSError) as error:
                self._note("lost", f"texture '{texture.name}' {error}; it is left out")
        return self._png_of[id(texture)]

    def _image(self, stem: str, data: bytes) -> int:
        mark = hashlib.sha256(data).hexdigest()
        if mark not in self._image_of:
            packed = pixels.is_for_graphics_cards(data)
            mime, ending = ("image/ktx2", ".ktx2") if packed else _MIME[pixels.inspect(data).kind]
            self._image_of[mark] = len(self.images)
            if packed:
                self._cards.add(len(self.images))
            self.images.append(self._add_image(stem + ending, data, mime))
        return self._image_of[mark]

    def _use(self, image: int, use: TextureUse) -> dict[str, Any]:
        key = (image, use.clamp)
        if key not in self._texture_of:
            wrap = 33071 if use.clamp else 10497
            sampler = {"magFilter": 9729, "minFilter": 9987, "wrapS": wrap, "wrapT": wrap}
            if sampler not in self.samplers:
                self.samplers.append(sampler)
            self._texture_of[key] = len(self.textures)
            texture: dict[str, Any] = {"sampler": self.samplers.index(sampler)}
            if image in self._cards:
                # There is no other image for those that do not know it.
                self._extend(texture, "KHR_texture_basisu", {"source": image})
                self.required.add("KHR_texture_basisu")
            else:
                texture["source"] = image
            self.textures.append(texture)
        info: dict[str, Any] = {"index": self._texture_of[key]}
        if use.uv_set:
            info["texCoord"] = use.uv_set
        if is_placed(use):
            # Our UVs start at the lower left corner, glTF's at the upper left; both turn to the left.
            c, s = math.cos(use.rotation), math.sin(use.rotation)
            offset = [use.offset[0] - s * use.scale[1], 1.0 - c * use.scale[1] - use.offset[1]]
            turn = {"rotation": use.rotation} if use.rotation else {}
            self._extend(info, "KHR_texture_transform", {"offset": offset, "scale": list(use.scale), **turn})
        return info


def _stem(name: str) -> str:
    stem = re.sub(r"[^\w.-]+", "_", name.rsplit(".", 1)[0]).strip("_.")
    return stem or "texture"
