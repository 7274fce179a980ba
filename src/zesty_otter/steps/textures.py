"""Textures: found, resized, packed, flipped, or left out."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar, Literal

from pydantic import Field

from zesty_otter import pixels
from zesty_otter.model import COLOR_ROLES, Material, Note, Scene, Texture, TextureUse, count_of
from zesty_otter.steps.base import Step
from zesty_otter.steps.materials import textures_changed

_PACKED = ("occlusion", "roughness", "metallic")
_CHANNELS = "rgb"
_MOST_FILES = 100_000


class Textures(Step):
    """Find textures, change their size and file type, pack and unpack channels, flip normal maps.

    Looks at the textures of all materials. Missing ones are searched for by name in the folders you give, in any
    case and with any ending; nothing outside these folders is touched and no address is fetched. Changes, in this
    order: missing textures, dropped ones, channels, green of normal maps, size, file type. Refuses nothing; images
    that cannot be read are noted and left as they are.
    """

    slug: ClassVar[str] = "textures"
    example: ClassVar[dict[str, Any]] = {"largest": 2048, "power_of_two": "lower"}

    search: tuple[Path, ...] = Field((), description="Folders to search for missing textures, with their subfolders.")
    leave_out: bool = Field(False, description="Drop all textures; materials keep their plain values.")
    largest: int | None = Field(None, ge=1, description="Maximum pixels along a side; larger images are shrunk.")
    power_of_two: Literal["no", "nearest", "lower"] = Field(
        "no", description="Resize sides to powers of two: the nearest, or the next lower."
    )
    kind: Literal["keep", "png", "jpeg"] = Field("keep", description="Convert images to PNG or JPEG.")
    channels: Literal["keep", "pack", "unpack"] = Field(
        "keep",
        description="pack: occlusion, roughness and metallic maps of a material into the red, green and blue of one"
        " image; unpack: split such an image again.",
    )
    flip_green: bool = Field(False, description="Invert the green channel of normal maps.")

    def change(self, scene: Scene) -> Scene:
        if self.leave_out:
            count = len(scene.textures)
            dropped = textures_changed(scene, {id(texture): None for texture in scene.textures})
            return dropped.with_notes(self.note(f"{count_of(count, 'texture')} left out")) if count else scene
        notes: list[Note] = []
        scene = self._found(scene, notes)
        if self.channels != "keep":
            change = _packed if self.channels == "pack" else _unpacked
            scene = scene.map_materials(lambda material: change(material, notes, self))
        holds: dict[int, str] = {}
        for material in scene.materials:
            for role, use in material.textures.items():
                kind = "normal" if role == "normal" else "color" if role in COLOR_ROLES else "data"
                # What is used for colour as well as for something else is treated as colour.
                if kind == "color" or holds.get(id(use.texture)) != "color":
                    holds[id(use.texture)] = kind
        changed: dict[int, Texture | None] = {}
        for texture in scene.textures:
            new = self._changed(texture, holds.get(id(texture), "color"), notes)
            if new is not texture:
                changed[id(texture)] = new
        return textures_changed(scene, changed).with_notes(*notes)

    def _found(self, scene: Scene, notes: list[Note]) -> Scene:
        missing = [texture for texture in scene.textures if not texture.found]
        if not missing or not self.search:
            return scene
        files = _files_below(self.search)
        found: dict[int, Texture | None] = {}
        for texture in missing:
            name = (texture.wanted or texture.name).replace("\\", "/").rsplit("/", 1)[-1].lower()
            path = files.get(name) or files.get(name.rsplit(".", 1)[0] + ".")
            if path is None:
                notes.append(self.note(f"texture '{texture.name}' is in none of the folders", kind="lost"))
            else:
                found[id(texture)] = replace(texture, name=path.name, path=path)
                # It is no longer missing.
                missed = f"texture '{texture.wanted or texture.name}' was not found"
                scene = replace(scene, notes=tuple(note for note in scene.notes if not note.text.startswith(missed)))
                notes.append(self.note(f"missing texture '{texture.name}' found as {path}", kind="assumed"))
        return textures_changed(scene, found)

    def _changed(self, texture: Texture, holds: str, notes: list[Note]) -> Texture:
        is_normal_map = holds == "normal"
        if not texture.found:
            return texture
        try:
            data = texture.read()
            info = pixels.inspect(data)
            size = pixels.fitting_size((info.width, info.height), self.largest, self.power_of_two)
            wanted = info.kind if self.kind == "keep" else self.kind.upper()
            done = []
            if size != (info.width, info.height):
                done.append(f"{info.width} × {info.height} became {size[0]} × {size[1]}")
            if self.flip_green and is_normal_map:
                done.append("green turned upside down")
            if wanted != info.kind:
                done.append(f"{info.kind} became {wanted}")
            if not done:
                return texture
            flip = self.flip_green and is_normal_map
            new = pixels.rework(data, size=size, flip_green=flip, kind=wanted, holds=holds)
        except (pixels.ImageError, OSError) as error:
            notes.append(self.note(f"texture '{texture.name}' {error}; left as it is", kind="lost"))
            return texture
        notes.append(self.note(f"texture '{texture.name}': {', '.join(done)}"))
        ending = {"PNG": ".png", "JPEG": ".jpg"}.get(pixels.inspect(new).kind, Path(texture.name).suffix)
        return replace(texture, name=Path(texture.name).stem + ending, data=new)


def _files_below(folders: tuple[Path, ...]) -> dict[str, Path]:
    """Image files by lower-case name, and by stem with a dot; the first found counts. Links out are left."""
    files: dict[str, Path] = {}
    for folder in folders:
        home = folder.resolve()
        for count, path in enumerate(sorted(home.rglob("*"))):
            if count >= _MOST_FILES:
                break
            if path.is_file() and path.resolve().is_relative_to(home):
                name = path.name.lower()
                files.setdefault(name, path)
                if path.suffix.lower() in pixels.SUFFIXES:
                    files.setdefault(name.rsplit(".", 1)[0] + ".", path)
    return files


def _packed(material: Material, notes: list[Note], step: Step) -> Material:
    """The material with its occlusion, rough and metal maps in the channels of one image."""
    uses = {role: material.textures[role] for role in _PACKED if role in material.textures}
    uses = {role: use for role, use in uses.items() if use.texture.found}
    if len(uses) < 2 or len({id(use.texture) for use in uses.values()}) == 1:
        return material
    try:
        data = {role: use.texture.read() for role, use in uses.items()}
        sizes = [pixels.inspect(one) for one in data.values()]
        size = max(s.width for s in sizes), max(s.height for s in sizes)
        sources: list[pixels.Source] = [
            (data[role], uses[role].channel or "l") if role in uses else 255 for role in _PACKED
        ]
        image = pixels.pack(size, *sources)
    except (pixels.ImageError, OSError) as error:
        notes.append(step.note(f"material '{material.name}': a map {error}; not packed", kind="lost"))
        return material
    texture = Texture(f"{Path(next(iter(uses.values())).texture.name).stem}_packed.png", data=image)
    packed = {role: replace(use, texture=texture, channel=_CHANNELS[_PACKED.index(role)]) for role, use in uses.items()}
    notes.append(step.note(f"material '{material.name}': {', '.join(packed)} packed into '{texture.name}'"))
    return material.with_textures({**material.textures, **packed})


def _unpacked(material: Material, notes: list[Note], step: Step) -> Material:
    """The material with an image of its own for each of its occlusion, rough and metal maps."""
    uses: dict[str, TextureUse] = {}
    for role in _PACKED:
        use = material.textures.get(role)
        if use is None or use.channel is None or not use.texture.found:
            continue
        try:
            image = pixels.single_channel(use.texture.read(), use.channel)
        except (pixels.ImageError, OSError) as error:
            notes.append(step.note(f"material '{material.name}': a map {error}; not unpacked", kind="lost"))
            continue
        name = f"{Path(use.texture.name).stem}_{role}.png"
        uses[role] = replace(use, texture=Texture(name, data=image), channel=None)
    if not uses:
        return material
    notes.append(step.note(f"material '{material.name}': {', '.join(uses)} unpacked"))
    return material.with_textures({**material.textures, **uses})
