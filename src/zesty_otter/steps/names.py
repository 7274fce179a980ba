"""Names that are safe, unique and built by a template."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field, field_validator

from zesty_otter.model import Material, Mesh, Node, Renamed, Scene, Texture, count_of
from zesty_otter.steps.base import Step

# Letters that lose more than an accent when spelled in ASCII.
_SPELLINGS = str.maketrans(
    {
        "ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue", "ß": "ss", "ẞ": "SS",
        "æ": "ae", "Æ": "Ae", "œ": "oe", "Œ": "Oe", "ø": "o", "Ø": "O", "å": "a", "Å": "A",
        "ð": "d", "Ð": "D", "þ": "th", "Þ": "Th", "đ": "d", "Đ": "D", "ł": "l", "Ł": "L", "ı": "i",
    }
)  # fmt: skip

_TOKENS = ("name", "role", "number", "group")


class Names(Step):
    """Give nodes, meshes, materials and textures names that every program and file system takes.

    Looks at all names. Changes characters that are not allowed, names that differ only in case, and
    whatever the template says; a table of old and new names is kept with the scene. Refuses a template
    with unknown tokens.
    """

    slug: ClassVar[str] = "names"
    example: ClassVar[dict[str, Any]] = {"template": "boatyard_{name}"}

    template: str = Field(
        "{name}",
        description="How node names are built, from {name}, {role}, {group} and {number} (a counter; {number:3}"
        " has three digits).",
    )
    allowed: str = Field("A-Za-z0-9_-", description="Characters that may stay, as in a regular expression's brackets.")
    longest: int = Field(63, ge=4, description="Most characters a name may have.")

    @field_validator("template")
    @classmethod
    def _known_tokens(cls, template: str) -> str:
        for token in re.findall(r"\{([^{}]*)\}", template):
            if token.partition(":")[0] not in _TOKENS:
                raise ValueError(f"'{{{token}}}' is not one of {', '.join('{' + t + '}' for t in _TOKENS)}")
        return template

    @field_validator("allowed")
    @classmethod
    def _valid_class(cls, allowed: str) -> str:
        try:
            re.compile(f"[{allowed}]")
        except re.error as error:
            raise ValueError(f"'[{allowed}]' is not a set of characters ({error})") from None
        return allowed

    def apply(self, scene: Scene) -> Scene:
        renamed: list[Renamed] = []
        node_names = self._node_names(scene, renamed)
        meshes = _table("mesh", scene.meshes, self._mesh_namer(scene, node_names), renamed)
        materials = _table("material", scene.materials, self._unique_namer(), renamed)
        textures = _table("texture", scene.textures, self._file_namer(), renamed)

        made: dict[int, Texture] = {}

        def rename_texture(texture: Texture) -> Texture:
            name = textures[id(texture)]
            return texture if name == texture.name else made.setdefault(id(texture), replace(texture, name=name))

        def rename_material(material: Material) -> Material:
            uses = {
                role: use if (new := rename_texture(use.texture)) is use.texture else replace(use, texture=new)
                for role, use in material.textures.items()
            }
            name = materials[id(material)]
            if name == material.name and all(uses[role] is use for role, use in material.textures.items()):
                return material
            return replace(material, name=name).with_textures(uses)

        def rename_mesh(mesh: Mesh) -> Mesh:
            name = meshes[id(mesh)]
            return mesh if name == mesh.name else mesh.replace(name=name)

        def rename_node(n: int, node: Node) -> Node:
            return node if node.name == node_names[n] else replace(node, name=node_names[n])

        changed = scene.map_meshes(rename_mesh).map_materials(rename_material).rebuilt(rename_node)
        if not renamed:
            return scene
        note = self.note(f"{count_of(len(renamed), 'name')} changed")
        return replace(changed, renamed=(*scene.renamed, *renamed)).with_notes(note)

    def safe(self, name: str) -> str:
        """The name spelled with allowed characters only."""
        plain = unicodedata.normalize("NFC", name).translate(_SPELLINGS)
        plain = "".join(c for c in unicodedata.normalize("NFKD", plain) if not unicodedata.combining(c))
        plain = re.sub(f"[^{self.allowed}]+", "_", plain)
        return re.sub(r"_{2,}", "_", plain).strip("_")[: self.longest] or "unnamed"

    def _node_names(self, scene: Scene, renamed: list[Renamed]) -> list[str]:
        unique = self._unique_namer()
        names = []
        for number, placed in enumerate(scene.walk(), 1):
            node = placed.node
            new = unique(self._filled(node, number))
            names.append(new)
            if new != node.name:
                renamed.append(Renamed("node", node.name, new))
        return names

    def _filled(self, node: Node, number: int) -> str:
        def fill(found: re.Match[str]) -> str:
            token, _, digits = found[1].partition(":")
            if token == "number":
                return str(number).zfill(int(digits) if digits.isdigit() else 2)
            return {"name": node.name, "role": node.role, "group": node.groups[0] if node.groups else ""}[token]

        return re.sub(r"\{([^{}]*)\}", fill, self.template)

    def _unique_namer(self) -> Callable[[str], str]:
        taken: set[str] = set()

        def unique(name: str) -> str:
            base = self.safe(name)
            new, count = base, 2
            while new.lower() in taken:
                ending = f"_{count}"
                new, count = base[: self.longest - len(ending)] + ending, count + 1
            taken.add(new.lower())
            return new

        return unique

    def _mesh_namer(self, scene: Scene, node_names: list[str]) -> Callable[[str], str]:
        """Meshes are named after the first node that shows them."""
        first: dict[int, str] = {}
        for placed, mesh in scene.placed_meshes():
            first.setdefault(id(mesh), node_names[placed.number])
        order = iter(first.values())
        return lambda _: next(order)

    def _file_namer(self) -> Callable[[str], str]:
        unique = self._unique_namer()

        def rename(name: str) -> str:
            stem, dot, ending = name.rpartition(".")
            return f"{unique(stem)}.{self.safe(ending)}" if dot else unique(name)

        return rename


def _table(kind: str, things: tuple[Any, ...], rename: Callable[[str], str], renamed: list[Renamed]) -> dict[int, str]:
    """The new name of each thing, by identity; changes are added to ``renamed``."""
    names = {}
    for thing in things:
        names[id(thing)] = rename(thing.name)
        if names[id(thing)] != thing.name:
            renamed.append(Renamed(kind, thing.name, names[id(thing)]))
    return names
