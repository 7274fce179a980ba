"""UV sets."""

from __future__ import annotations

import fnmatch
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.geometry.uv.sets import UvFacts, uv_facts
from zesty_otter.model import Layer, Material, Mesh, Note, Scene, TextureUse, count_of
from zesty_otter.steps.base import Step


class UvSets(Step):
    """Keep, drop, rename, reorder and flip UV sets, and report what is wrong with them.

    Looks at the UV sets of every mesh, by name or by number counted from 0 (``0``, ``1``). Changes their number,
    order and names; textures follow the set they use. Notes meshes without UVs, and missing, flat, mirrored,
    overlapping and outlying UVs. Refuses nothing.
    """

    slug: ClassVar[str] = "uv-sets"
    example: ClassVar[dict[str, Any]] = {"keep": ["0"], "report": True}

    keep: tuple[str, ...] = Field(
        (), description="Names (with * and ?) or numbers of the sets to keep; all when empty."
    )
    drop: tuple[str, ...] = Field((), description="Names (with * and ?) or numbers of the sets to drop.")
    rename: dict[str, str] = Field(default_factory=dict, description="Old names or numbers, and new names.")
    order: tuple[str, ...] = Field((), description="Names or numbers in the order wanted; others follow.")
    most: int | None = Field(None, ge=0, description="Maximum number of sets; the last ones are dropped.")
    flip_v: bool = Field(False, description="Flip V.")
    report: bool = Field(True, description="Note what is wrong with the remaining sets.")

    def change(self, scene: Scene) -> Scene:
        notes: list[Note] = []
        moved: dict[int, dict[int, int]] = {}
        dropped = 0

        def change(mesh: Mesh) -> Mesh:
            nonlocal dropped
            kept = self._wanted(mesh)
            if self.keep and mesh.uv_sets and not any(_named(self.keep, *one[::-1]) for one in enumerate(mesh.uv_sets)):
                text = f"no UV set fits keep = {', '.join(self.keep)}; its sets are kept"
                notes.append(self.note(text, kind="finding", node=mesh.name))
                kept = list(range(len(mesh.uv_sets)))
            dropped += len(mesh.uv_sets) - len(kept)
            new = mesh.replace(layers=_with_sets(mesh, [self._changed(mesh.uv_sets[k], k) for k in kept]))
            if kept != list(range(len(mesh.uv_sets))):
                moved.update({id(slot): {old: at for at, old in enumerate(kept)} for slot in mesh.slots if slot})
            if self.report and mesh.face_count:
                notes.extend(self._findings(new))
            return new

        changed = scene.map_meshes(change)
        if moved:
            changed = changed.map_materials(lambda material: _following(material, moved.get(id(material))))
            for material in scene.materials:
                places = moved.get(id(material), {})
                lost = sorted({use.uv_set for use in material.textures.values() if places and use.uv_set not in places})
                if lost:
                    sets = ", ".join(map(str, lost))
                    text = f"textures of '{material.name}' used UV set {sets}, which is gone; they are on set 0 now"
                    notes.append(self.note(text, kind="lost"))
        if dropped:
            notes.insert(0, self.note(f"{count_of(dropped, 'UV set')} dropped"))
        return changed.with_notes(*notes)

    def _wanted(self, mesh: Mesh) -> list[int]:
        sets = mesh.uv_sets
        kept = [
            k
            for k, layer in enumerate(sets)
            if (not self.keep or _named(self.keep, layer, k)) and not _named(self.drop, layer, k)
        ]
        place = {
            k: next((n for n, word in enumerate(self.order) if _named((word,), sets[k], k)), len(self.order))
            for k in kept
        }
        return sorted(kept, key=lambda k: place[k])[: self.most]

    def _changed(self, layer: Layer, number: int) -> Layer:
        name = next((new for old, new in self.rename.items() if _named((old,), layer, number)), layer.name)
        values = (
            layer.values * np.array([1, -1], np.float32) + np.array([0, 1], np.float32) if self.flip_v else layer.values
        )
        return Layer.taking("uv", values, layer.index, name)

    def _findings(self, mesh: Mesh) -> list[Note]:
        if not mesh.uv_sets:
            return [self.note("has no UVs", kind="finding", node=mesh.name)]
        notes = []
        triangles, _ = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
        for number, layer in enumerate(mesh.uv_sets):
            words = _words(uv_facts(triangles, layer.values, layer.index))
            if words:
                name = f"UV set {number}" + (f" '{layer.name}'" if layer.name else "")
                notes.append(self.note(f"{name}: {', '.join(words)}", kind="finding", node=mesh.name))
        return notes


def _words(facts: UvFacts) -> list[str]:
    """What is wrong with a UV set, in words."""
    words = [
        f"{number:,} of {facts.triangles:,} triangles {what}"
        for number, what in (
            (facts.missing, "without UVs"),
            (facts.zero_area, "without area"),
            (facts.mirrored, "mirrored"),
            (facts.outside, "outside the image"),
        )
        if number
    ]
    if facts.overlap > 1e-3 * facts.covered:
        words.append(f"{100 * facts.overlap / facts.covered:.2g} % of the covered area covered more than once")
    return words


def _named(words: tuple[str, ...], layer: Layer, number: int) -> bool:
    return any(word == str(number) or (layer.name and fnmatch.fnmatchcase(layer.name, word)) for word in words)


def _with_sets(mesh: Mesh, sets: list[Layer]) -> tuple[Layer, ...]:
    at = next((k for k, layer in enumerate(mesh.layers) if layer.kind == "uv"), len(mesh.layers))
    others = [layer for layer in mesh.layers if layer.kind != "uv"]
    return (*others[:at], *sets, *others[at:])


def _following(material: Material, places: dict[int, int] | None) -> Material:
    """The material with its textures on the sets where theirs went; set 0 where theirs is gone."""
    if places is None:
        return material
    uses: dict[str, TextureUse] = {
        role: replace(use, uv_set=places.get(use.uv_set, 0)) for role, use in material.textures.items()
    }
    return material.with_textures(uses)
