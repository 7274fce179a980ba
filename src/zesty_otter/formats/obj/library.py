"""Materials to an MTL library and the textures beside it."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_otter import pixels
from zesty_otter.formats.files import Buffer
from zesty_otter.formats.obj.mtl import NO_MATERIAL
from zesty_otter.formats.textures_out import TextureFiles
from zesty_otter.model import Material, Note, Scene, Texture, TextureUse

_STATEMENTS = {
    "base_color": "map_Kd",
    "alpha": "map_d",
    "metallic": "map_Pm",
    "roughness": "map_Pr",
    "normal": "norm",
    "occlusion": "map_ao",
    "emissive": "map_Ke",
}

_NUMBERS = {
    "shininess": "Ns",
    "refraction": "Ni",
    "illumination": "illum",
    "clearcoat": "Pc",
    "clearcoat_roughness": "Pcr",
}
_COLORS = {"ambient": "Ka", "specular": "Ks", "filter": "Tf"}
_ONE_NUMBER = ("alpha", "metallic", "roughness", "occlusion")


class Library:
    """The library of one file: its own ``files`` by name, its ``notes``, and the statement that uses a material."""

    def __init__(self, scene: Scene, stem: str) -> None:
        self.stem = stem
        self.files: dict[str, list[Buffer]] = {}
        self.notes: list[Note] = []
        self.textures = TextureFiles(stem, "obj")
        self._names: dict[int, str] = {}
        self._grey: dict[tuple[int, str], Texture] = {}
        lines: list[str] = []
        for material in scene.materials:
            self._names[id(material)] = self._unique(material.name)
            lines += ["", *self._statements(material)]
        self.has_plain = bool(lines) and any(slot is None for mesh in scene.meshes for slot in mesh.slots)
        if self.has_plain:
            self._plain = self._unique("plain")
            # MTL has no way back to no material; the comment tells our reader.
            lines += ["", NO_MATERIAL, f"newmtl {self._plain}", "Kd 1 1 1"]
        self.files.update(self.textures.files)
        self.notes += self.textures.notes
        if lines:
            self.files[f"{stem}.mtl"] = ["\n".join(lines[1:]).encode() + b"\n"]

    def use(self, material: Material | None) -> str:
        """The statement that stands before faces of a material."""
        if material is not None:
            return f"usemtl {self._names[id(material)]}\n"
        return f"usemtl {self._plain}\n" if self.has_plain else ""

    def _unique(self, name: str) -> str:
        base = " ".join(name.split()) or "unnamed"
        new, count = base, 1
        while new in self._names.values():
            count += 1
            new = f"{base}_{count}"
        if count > 1:
            self.notes.append(Note("done", f"another material is called '{base}'; this one becomes '{new}'", "obj"))
        return new

    def _statements(self, material: Material) -> Iterator[str]:
        yield f"newmtl {self._names[id(material)]}"
        yield f"Kd {_numbers(*material.base_color[:3])}"
        if material.base_color[3] < 1.0 and material.alpha_mode == "blend":
            yield f"d {_numbers(material.base_color[3])}"
        if any(material.emissive):
            yield f"Ke {_numbers(*material.emissive)}"
        yield f"Pm {_numbers(material.metallic)}"
        yield f"Pr {_numbers(material.roughness)}"
        for key, word in _COLORS.items():
            if key in material.shading:
                yield f"{word} {_numbers(*material.shading[key])}"
        for key, word in _NUMBERS.items():
            if key in material.shading:
                yield f"{word} {_numbers(material.shading[key])}"
        uses = dict(material.textures)
        color = uses.get("base_color")
        if material.alpha_mode != "opaque" and "alpha" not in uses and color is not None and _has_alpha(color.texture):
            uses["alpha"] = TextureUse(color.texture, color.uv_set, "a", color.offset, color.scale)
        for role, use in uses.items():
            if role in _STATEMENTS:
                yield self._map(material, role, use)
        self._note_losses(material)

    def _map(self, material: Material, role: str, use: TextureUse) -> str:
        words = [_STATEMENTS[role]]
        if role == "normal" and use.strength != 1.0:
            words.append(f"-bm {_numbers(use.strength)}")
        if use.clamp:
            text = f"material '{material.name}': that its {role} texture ends at its edges is left out of the MTL"
            self.notes.append(Note("lost", text, "obj"))
        return " ".join([*words, self.textures.path(self._plain_texture(material, role, use))])

    def _plain_texture(self, material: Material, role: str, use: TextureUse) -> Texture:
        """An image that is read rightly by whoever knows nothing of channels: grey, in a file of its own.

        Options before the name of an image are not understood by many readers, which then miss the image.
        """
        if role not in _ONE_NUMBER or not use.texture.found:
            return use.texture
        try:
            data = use.texture.read()
            channel = use.channel or ("a" if role == "alpha" and pixels.has_alpha(data) else "")
            if not channel or pixels.inspect(data).channels in ("1", "L"):
                return use.texture
            key = id(use.texture), channel
            if key not in self._grey:
                stem = use.texture.name.rpartition(".")[0] or use.texture.name
                self._grey[key] = Texture(f"{stem}_{role}.png", data=pixels.single_channel(data, channel))
                text = f"material '{material.name}': {role} stands in an image of its own, {self._grey[key].name}"
                self.notes.append(Note("done", text, "obj"))
            return self._grey[key]
        except (pixels.ImageError, OSError):
            return use.texture  # said where it is copied

    def _note_losses(self, material: Material) -> None:
        lost = []
        if material.two_sided and material.alpha_mode != "mask":
            lost.append("that it is seen from both sides")
        if material.alpha_mode == "mask" and material.alpha_cutoff != 0.5:
            lost.append(f"the threshold {material.alpha_cutoff:g} of its cut-out")
        if material.alpha_mode == "mask" and not material.textures.keys() & {"alpha", "base_color"}:
            lost.append("that it is cut out where it has no map")
        if lost:
            text = f"material '{material.name}': MTL cannot say {' and '.join(lost)}"
            self.notes.append(Note("lost", text, "obj"))


def _has_alpha(texture: Texture) -> bool:
    try:
        return pixels.has_alpha(texture.read())
    except (pixels.ImageError, OSError):
        return False


def _numbers(*values: float) -> str:
    return " ".join(f"{value:.7g}" for value in values)
