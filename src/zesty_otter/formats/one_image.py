"""Colour and transparency in one image, for formats that know no map of transparency."""

from __future__ import annotations

from dataclasses import replace

from zesty_otter import pixels
from zesty_otter.model import Material, Note, Scene, Texture


def with_alpha_in_color(scene: Scene, maker: str) -> tuple[Scene, list[Note]]:
    """The scene with every transparency map in the alpha of the colour map, and notes on what was merged."""
    notes: list[Note] = []
    made: dict[tuple[int, int, str], Texture] = {}

    def merged(material: Material) -> Material:
        alpha = material.textures.get("alpha")
        if alpha is None or not alpha.texture.found:
            return material
        color = material.textures.get("base_color")
        try:
            data = alpha.texture.read()
            channel = alpha.channel or ("a" if pixels.has_alpha(data) else "l")
            if color is not None and color.texture is alpha.texture and channel == "a":
                return material
            color_data = color.texture.read() if color is not None and color.texture.found else None
            key = id(color.texture) if color is not None else 0, id(alpha.texture), channel
            if key not in made:
                info = pixels.inspect(color_data or data)
                rgb: list[pixels.Source] = [(color_data, c) if color_data else 255 for c in "rgb"]
                packed = pixels.pack((info.width, info.height), rgb[0], rgb[1], rgb[2], (data, channel))
                stem = (color or alpha).texture.name.rsplit(".", 1)[0]
                made[key] = Texture(f"{stem}_alpha.png", data=packed)
        except (pixels.ImageError, OSError) as error:
            notes.append(Note("lost", f"material '{material.name}': its transparency map {error}", maker))
            return material
        text = f"material '{material.name}': colour and transparency maps were merged into one image"
        notes.append(Note("done", text, maker))
        use = replace(color or alpha, texture=made[key], channel=None)
        return material.with_textures(
            {**material.textures, "base_color": use, "alpha": replace(use, channel="a")}
        )  # fmt: skip

    return scene.map_materials(merged), notes
