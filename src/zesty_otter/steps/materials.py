"""Materials and their slots."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Mapping
from dataclasses import replace
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from zesty_otter.metal_rough import with_metal_rough
from zesty_otter.model import Material, Mesh, Note, Scene, Texture, TextureUse, count_of
from zesty_otter.steps.base import Step


class Materials(Step):
    """Rename, merge, order, limit and simplify materials.

    Looks at every material and the slots of every mesh. Changes, in this order: old shading to metal/rough, names
    by table (two that get the same name are merged), one material for all, plain mode, alpha and sides, the order
    of slots. Refuses nothing; meshes with more slots than the limit are noted.
    """

    slug: ClassVar[str] = "materials"
    example: ClassVar[dict[str, Any]] = {"plain": True, "limit": 4}

    rename: dict[str, str] = Field(
        default_factory=dict,
        description="Old names (with * and ?) and new ones; materials that get the same name are merged.",
    )
    one: str | None = Field(None, description="Use a single material of this name everywhere.")
    order: tuple[str, ...] = Field(
        (), description="Names in the order wanted for their slots; others follow in their old order."
    )
    index: dict[str, int] = Field(
        default_factory=dict, description="Slot numbers for some materials, counted from 0; others fill the free slots."
    )
    limit: int | None = Field(None, ge=1, description="Maximum slots of a mesh; meshes with more are noted.")
    alpha: dict[str, str] = Field(
        default_factory=dict, description="Alpha by material name: opaque, blend, mask or 'mask 0.3' (the threshold)."
    )
    two_sided: tuple[str, ...] = Field((), description="Names (with * and ?) of materials seen from both sides.")
    one_sided: tuple[str, ...] = Field((), description="Names (with * and ?) of materials seen from the front only.")
    shading: Literal["keep", "metal-rough"] = Field(
        "keep",
        description="metal-rough: work out metallic and roughness from diffuse, specular and shininess or glossiness.",
    )
    plain: bool = Field(False, description="Keep only the base colour texture; drop everything else.")

    @field_validator("alpha")
    @classmethod
    def _known_alpha(cls, value: dict[str, str]) -> dict[str, str]:
        for text in value.values():
            if not re.fullmatch(r"opaque|blend|mask(\s+(0?\.\d+|0|1|1\.0*|0\.))?", text):
                raise ValueError(f"'{text}' is not opaque, blend, mask or 'mask 0.3'")
        return value

    def change(self, scene: Scene) -> Scene:
        before, changed, lost = scene.materials, scene, list[str]()
        if self.shading == "metal-rough":
            changed, lost = with_metal_rough(scene, lambda material: True)
        changed = changed.map_materials(self._changed)
        if self.rename:
            changed = _merged_by_name(changed)
        if self.one is not None:
            changed = _with_one(changed, self.one)
        if self.order or self.index:
            changed = changed.map_meshes(self._reordered)
        notes = [self.note(text, kind="lost") for text in lost]
        notes += self._notes(scene, changed) if before else []
        return changed.with_notes(*notes)

    def _changed(self, material: Material) -> Material:
        new = material
        for old, name in self.rename.items():
            if fnmatch.fnmatchcase(material.name, old):
                new = replace(new, name=name)
                break
        if self.plain:
            base = {role: use for role, use in new.textures.items() if role in ("base_color", "alpha")}
            new = replace(
                new, metallic=0.0, roughness=1.0, emissive=(0.0, 0.0, 0.0), shading={}, base_color=_plain_color(new)
            ).with_textures(base)
        for pattern, text in self.alpha.items():
            if fnmatch.fnmatchcase(material.name, pattern):
                mode, _, threshold = text.partition(" ")
                new = replace(new, alpha_mode=mode, alpha_cutoff=float(threshold) if threshold.strip() else 0.5)
        for patterns, sides in ((self.two_sided, True), (self.one_sided, False)):
            if any(fnmatch.fnmatchcase(material.name, pattern) for pattern in patterns):
                new = replace(new, two_sided=sides)
        return new

    def _reordered(self, mesh: Mesh) -> Mesh:
        names = [slot.name if slot else "" for slot in mesh.slots]
        wanted = sorted(
            range(len(names)), key=lambda k: self.order.index(names[k]) if names[k] in self.order else len(self.order)
        )
        fixed = {self.index[names[k]]: k for k in wanted if names[k] in self.index and self.index[names[k]] >= 0}
        rest = [k for k in wanted if k not in fixed.values()]
        # Slots named by number stand there; gaps before them are filled with the others, then with none.
        slots: list[int | None] = []
        while rest or any(at >= len(slots) for at in fixed):
            at = len(slots)
            slots.append(fixed[at] if at in fixed else rest.pop(0) if rest else None)
        if slots == list(range(len(names))):
            return mesh
        number = np.zeros(len(names), np.int32)
        for at, k in enumerate(slots):
            if k is not None:
                number[k] = at
        return mesh.replace(
            slots=tuple(None if k is None else mesh.slots[k] for k in slots), face_slot=number[mesh.slot_of_face]
        )

    def _notes(self, before: Scene, after: Scene) -> list[Note]:
        notes = []
        old, new = {id(m) for m in before.materials}, after.materials
        touched = sum(id(material) not in old for material in new)
        if touched or len(new) != len(old):
            notes.append(self.note(f"{count_of(len(old), 'material')} became {len(new)}, {touched} of them changed"))
        if self.limit is not None:
            for mesh in after.meshes:
                if len(mesh.slots) > self.limit:
                    text = f"has {count_of(len(mesh.slots), 'slot')}, {self.limit} are allowed; merge some with rename"
                    notes.append(self.note(text, kind="finding", node=mesh.name))
        return notes


def _with_one(scene: Scene, name: str) -> Scene:
    first = next(iter(scene.materials), None)
    single = Material(name) if first is None else replace(first, name=name)
    return scene.map_meshes(lambda mesh: mesh.replace(slots=(single,), face_slot=None))


def _plain_color(material: Material) -> tuple[float, float, float, float]:
    return (1.0, 1.0, 1.0, material.base_color[3]) if "base_color" in material.textures else material.base_color


def _merged_by_name(scene: Scene) -> Scene:
    """The scene with the first material of each name in place of all others of that name."""
    first: dict[str, Material] = {}
    for material in scene.materials:
        first.setdefault(material.name, material)
    return with_merged_slots(scene.map_materials(lambda material: first[material.name]))


def merged_materials(scene: Scene) -> Scene:
    """The scene with materials, and textures, that are the same in all but name made one.

    Materials of plain grey stay apart unless their names differ only in a number.
    """
    textures: dict[Any, Texture] = {}
    materials: dict[Any, Material] = {}

    def same_texture(texture: Texture) -> Texture:
        key = (str(texture.path), texture.data) if texture.found else ("", texture.wanted or texture.name)
        return textures.setdefault(key, texture)

    def same(material: Material) -> Material:
        uses = {role: replace_texture(use, same_texture(use.texture)) for role, use in material.textures.items()}
        moved = any(uses[role] is not use for role, use in material.textures.items())
        kept = material.with_textures(uses) if moved else material
        looks = _looks(kept)
        red, green, blue, alpha = kept.base_color
        if red == green == blue and looks == _looks(Material(kept.name, base_color=(red, red, red, alpha))):
            # One of plain grey stands for what nobody has said yet, such as where its library is missing: its name
            # is all there is to it, but for a number.
            looks = (looks, re.sub(r"[\s._-]*\d+$", "", kept.name))
        return materials.setdefault(looks, kept)

    if not scene.materials:
        return scene
    return with_merged_slots(scene.map_materials(same))


def replace_texture(use: TextureUse, texture: Texture) -> TextureUse:
    """The same use of another texture."""
    return use if use.texture is texture else replace(use, texture=texture)


def _looks(material: Material) -> Any:
    """Everything a material says but its name."""
    uses = tuple(
        (role, id(use.texture), use.uv_set, use.channel, use.offset, use.scale, use.rotation, use.clamp, use.strength)
        for role, use in material.textures.items()
    )
    return (
        material.base_color,
        material.metallic,
        material.roughness,
        material.emissive,
        material.alpha_mode,
        material.alpha_cutoff,
        material.two_sided,
        uses,
        repr(sorted(material.shading.items())),
    )


def with_merged_slots(scene: Scene) -> Scene:
    """The scene with slots that hold the same material made one."""

    def merge(mesh: Mesh) -> Mesh:
        number: dict[int, int] = {}
        new = np.array([number.setdefault(id(slot), len(number)) for slot in mesh.slots], np.int32)
        if len(number) == len(mesh.slots):
            return mesh
        slots = tuple({id(slot): slot for slot in mesh.slots}.values())
        return mesh.replace(slots=slots, face_slot=new[mesh.slot_of_face])

    return scene.map_meshes(merge)


def textures_changed(scene: Scene, change: Mapping[int, Texture | None]) -> Scene:
    """The scene with textures replaced, by identity; None leaves their uses out."""

    def swap(material: Material) -> Material:
        if not any(id(use.texture) in change for use in material.textures.values()):
            return material
        uses = {}
        for role, use in material.textures.items():
            new = change.get(id(use.texture), use.texture)
            if new is not None:
                uses[role] = replace_texture(use, new)
        return material.with_textures(uses)

    return scene.map_materials(swap)
