"""Names that are safe, unique and built by a template, and the table of old and new ones."""

from __future__ import annotations

import csv
import functools
import io
import re
import unicodedata
from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar, Literal

from pydantic import Field, field_validator

from zesty_otter.errors import InputError
from zesty_otter.model import (
    ROLES,
    Material,
    Mesh,
    Node,
    Note,
    Placed,
    Renamed,
    Scene,
    Texture,
    count_of,
    default_names,
    shortened,
)
from zesty_otter.steps.assets import usual_templates
from zesty_otter.steps.base import Step
from zesty_otter.steps.words import chosen_numbers

# Letters that lose more than an accent when spelled in ASCII.
_SPELLINGS = str.maketrans(
    {
        "ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue", "ß": "ss", "ẞ": "SS",
        "æ": "ae", "Æ": "Ae", "œ": "oe", "Œ": "Oe", "ø": "o", "Ø": "O", "å": "a", "Å": "A",
        "ð": "d", "Ð": "D", "þ": "th", "Þ": "Th", "đ": "d", "Đ": "D", "ł": "l", "Ł": "L", "ı": "i",
    }
)  # fmt: skip

_TOKENS = ("name", "role", "level", "n", "number", "group", "material", "file")

# Names that some file systems keep for themselves, whatever the ending.
_RESERVED = frozenset(
    {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
)

Case = Literal["keep", "lower", "upper", "snake", "kebab", "camel", "pascal"]


class Names(Step):
    """Give nodes, meshes, materials and textures names that every program and file system accepts.

    Looks at all names. Changes characters that are not allowed, names that differ only in case, reserved names, and
    then whatever table, search, case and templates ask for, in this order; a table of old and new names is kept
    with the scene. Notes default names, and names that two nodes of an asset would share. Refuses templates with
    unknown tokens.
    """

    slug: ClassVar[str] = "names"
    example: ClassVar[dict[str, Any]] = {"template": "boatyard_{name}", "case": "snake"}

    template: str = Field(
        "{name}",
        description="How node names are built, from {name}, {role}, {level}, {n} (counted for each asset"
        " and role), {group}, {material} (of the first slot), {file} and {number} (a counter; {number:3} has three"
        " digits).",
    )
    roles: dict[str, str] = Field(
        default_factory=dict,
        description="Templates for nodes of some roles, such as level; {name} is the asset's name where it is known."
        " Other roles add their usual ending to the template: {name}_LOD{level}, {name}_collision_{n}.",
    )
    prefixes: dict[str, str] = Field(default_factory=dict, description="Text before the names of a role.")
    suffixes: dict[str, str] = Field(default_factory=dict, description="Text after the names of a role.")
    materials: str = Field("{name}", description="How material names are built, from {name}, {file} and {number}.")
    search: tuple[tuple[str, str], ...] = Field(
        (), description="Pairs of a regular expression and its replacement, applied to every name."
    )
    table: Path | None = Field(None, description="A CSV file with the columns kind, old and new; it is applied first.")
    undo: bool = Field(False, description="Read the table backwards: new names become old ones again.")
    case: Case = Field("keep", description="keep, lower, upper, snake_case, kebab-case, camelCase or PascalCase.")
    replace_defaults: str | None = Field(
        None, description="A template for default names (cube.001), for example {file}_{number}."
    )
    allowed: str = Field(
        "A-Za-z0-9_-", description="Allowed characters, as inside the brackets of a regular expression."
    )
    transliterate: bool = Field(
        True, description="Spell letters with accents or of other scripts in plain ones, where they are not allowed."
    )
    longest: int = Field(63, ge=4, description="Maximum characters of a name.")

    @field_validator("template", "materials", "replace_defaults")
    @classmethod
    def _known_tokens(cls, template: str | None) -> str | None:
        for token in re.findall(r"\{([^{}]*)\}", template or ""):
            if token.partition(":")[0] not in _TOKENS:
                raise ValueError(f"'{{{token}}}' is not one of {', '.join('{' + t + '}' for t in _TOKENS)}")
        return template

    @field_validator("roles", "prefixes", "suffixes")
    @classmethod
    def _known_roles(cls, value: dict[str, str]) -> dict[str, str]:
        for role, text in value.items():
            if role not in ROLES:
                raise ValueError(f"'{role}' is not a role; there are {', '.join(ROLES)}")
            cls._known_tokens(text)
        return value

    @field_validator("search")
    @classmethod
    def _valid_search(cls, search: tuple[tuple[str, str], ...]) -> tuple[tuple[str, str], ...]:
        for pattern, new in search:
            try:
                re.sub(pattern, new, "")
            except (re.error, IndexError) as error:
                raise ValueError(f"'{pattern}' and '{new}' are not a search and replacement ({error})") from None
        return search

    @field_validator("allowed")
    @classmethod
    def _valid_class(cls, allowed: str) -> str:
        try:
            re.compile(f"[{allowed}]")
        except re.error as error:
            raise ValueError(f"'[{allowed}]' is not a set of characters ({error})") from None
        return allowed

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        table = _Table(self.table, self.undo)
        renamed: list[Renamed] = []
        notes: list[Note] = []
        node_names, owners = self._node_names(scene, numbers, table, renamed, notes)
        meshes = _named("mesh", scene.meshes, self._mesh_namer(scene, numbers, node_names, table), renamed)
        # What all nodes share keeps its name when only some are meant.
        shared = not self.only
        materials = _named("material", scene.materials if shared else (), self._material_namer(scene, table), renamed)
        textures = _named("texture", scene.textures if shared else (), self._file_namer(table), renamed)
        if not renamed:
            return scene.with_notes(*notes) if notes else scene
        changed = _with_names(scene, node_names, owners, meshes, materials, textures)
        notes.append(self.note(f"{count_of(len(renamed), 'name')} changed"))
        return replace(changed, renamed=_chained(scene.renamed, renamed)).with_notes(*notes)

    def safe(self, name: str) -> str:
        """The name in the wanted case, spelled with allowed characters only, and not a reserved one.

        Parameters
        ----------
        name : str

        Returns
        -------
        str

        Examples
        --------
        >>> Names(case="snake").safe("Mooring Post 1")
        'mooring_post_1'
        """
        return self._spelled(_in_case(name, self.case))

    def _spelled(self, name: str) -> str:
        """The name spelled with allowed characters only, and not a reserved one."""
        plain = unicodedata.normalize("NFC", name)
        if self.transliterate and not re.fullmatch(f"[{self.allowed}]*", plain):
            plain = "".join(c if re.match(f"[{self.allowed}]", c) else _in_plain_letters(c) for c in plain)
        plain = re.sub(f"[^{self.allowed}]+", "_", plain)
        plain = re.sub(r"_{2,}", "_", plain).strip("_") or "unnamed"
        plain = plain[: self.longest]
        return f"{plain[: self.longest - 1]}_" if plain.lower() in _RESERVED else plain

    def _searched(self, name: str) -> str:
        for pattern, new in self.search:
            name = re.sub(pattern, new, name)
        return name

    def _node_names(
        self, scene: Scene, numbers: set[int], table: _Table, renamed: list[Renamed], notes: list[Note]
    ) -> tuple[list[str], dict[int, str]]:
        """The new name of every node, and of the asset that nodes of other roles belong to."""
        order = list(scene.walk())
        unique = self._unique_namer(placed.node.name for placed in order if placed.number not in numbers)
        names, defaults, clashes = [], [], []
        unchosen = frozenset(default_names(scene))
        owners: dict[int, str] = {}
        visible: dict[str, tuple[str, str]] = {}  # of visible nodes: what they are called now, and what is behind that
        counts: dict[tuple[str, str], int] = {}
        for number, placed in enumerate(order, 1):
            node = placed.node
            if placed.number not in numbers:
                names.append(node.name)
                continue
            if table.has("node", node.name):
                wanted = table.new("node", node.name)
            else:
                default = node.name in unchosen
                if default:
                    defaults.append(node.name)
                tokens = _tokens(placed, scene, number, self._searched(node.name))
                if not node.is_shown and tokens["name"] in visible:
                    owners[placed.number], behind = visible[tokens["name"]]
                    tokens["name"] += behind
                same = tokens["name"], node.role
                counts[same] = counts.get(same, 0) + 1
                tokens["n"] = str(counts[same])
                if default and self.replace_defaults:
                    wanted = _in_case(_filled(self.replace_defaults, tokens), self.case)
                else:
                    wanted = self._filled(node, tokens)
                wanted = self.prefixes.get(node.role, "") + wanted + self.suffixes.get(node.role, "")
            new = wanted if table.undoes("node", node.name) else unique(wanted)
            if new.lower() != self._spelled(wanted).lower() and not table.undoes("node", node.name):
                clashes.append(self._spelled(wanted))
            names.append(new)
            if node.is_shown:
                plain = self._spelled(wanted)
                visible[node.name] = new, new[len(plain) :] if new.startswith(plain) else ""
            if new != node.name:
                renamed.append(Renamed("node", node.name, new))
        if defaults and not self.replace_defaults:
            notes.append(self.note(f"default names: {_listed(defaults)}", kind="finding"))
        if clashes:
            notes.append(self.note(f"duplicate names, now numbered: {_listed(clashes)}", kind="finding"))
        return names, owners

    def _filled(self, node: Node, tokens: Mapping[str, str]) -> str:
        """The name the templates give a node; case is that of the asset's name, not of what tells a role."""
        if node.role in self.roles and not (node.is_shown and node.role != "visible"):
            cased = {**tokens, "name": _in_case(tokens["name"], self.case)}
            return _filled(self.roles[node.role], cased)
        inner = _in_case(_filled(self.template, tokens), self.case)
        usual = usual_templates().get(node.role)
        # A stand-in keeps the name of what it stands for, so that a swap finds it.
        if usual is None or node.is_shown or "{role}" in self.template or "{name}" not in self.template:
            return inner
        # What tells its role by its name goes on telling it.
        return _filled(usual[0], {**tokens, "name": inner})

    def _unique_namer(self, used: Iterable[str] = ()) -> Callable[[str], str]:
        taken = {name.lower() for name in used}
        latest: dict[str, int] = {}

        def unique(name: str) -> str:
            base = self._spelled(name)
            new, count = base, latest.get(base.lower(), 1)
            while new.lower() in taken:
                count += 1
                ending = f"_{count}"
                new = base[: self.longest - len(ending)] + ending
            latest[base.lower()] = count
            taken.add(new.lower())
            return new

        return unique

    def _mesh_namer(
        self, scene: Scene, numbers: set[int], node_names: list[str], table: _Table
    ) -> Callable[[str], str]:
        """Meshes are named after the first node that shows them."""
        first: dict[int, str] = {}
        for placed in scene.walk():
            mesh = placed.node.drawn
            if mesh is not None:
                first.setdefault(id(mesh), node_names[placed.number] if placed.number in numbers else mesh.name)
        order = iter(first.values())

        def rename(name: str) -> str:
            after_node = next(order)
            return table.new("mesh", name) if table.undoes("mesh", name) else after_node

        return rename

    def _material_namer(self, scene: Scene, table: _Table) -> Callable[[str], str]:
        unique = self._unique_namer()
        numbers = iter(range(1, len(scene.materials) + 1))

        def rename(name: str) -> str:
            number = next(numbers)
            if table.undoes("material", name):
                return table.new("material", name)
            if table.has("material", name):
                return unique(table.new("material", name))
            tokens = {"name": self._searched(name), "file": _file(scene), "number": str(number)}
            return unique(_in_case(_filled(self.materials, tokens), self.case))

        return rename

    def _file_namer(self, table: _Table) -> Callable[[str], str]:
        unique = self._unique_namer()

        def rename(name: str) -> str:
            if table.has("texture", name):
                return table.new("texture", name)
            stem, dot, ending = self._searched(name).rpartition(".")
            stem = _in_case(stem, self.case)
            return f"{unique(stem)}.{self.safe(ending)}" if dot else unique(_in_case(name, self.case))

        return rename


@functools.cache
def _in_plain_letters(letter: str) -> str:
    """A letter of any script in plain ones, as near as they come."""
    plain = letter.translate(_SPELLINGS)
    if not plain.isascii():
        from anyascii import anyascii

        plain = anyascii(plain)
    return plain


def _chained(before: Iterable[Renamed], after: Iterable[Renamed]) -> tuple[Renamed, ...]:
    """The table of two steps as one, from the first names to the last."""
    rows = list(before)
    place = {(row.kind, row.new): n for n, row in enumerate(rows)}
    for row in after:
        n = place.pop((row.kind, row.old), None)
        if n is None:
            rows.append(row)
        else:
            rows[n] = replace(rows[n], new=row.new)
    return tuple(row for row in rows if row.old != row.new)


class _Table:
    """The rename table of a step, empty when there is none."""

    def __init__(self, path: Path | None, undo: bool) -> None:
        self.undo = undo
        self._new: dict[tuple[str, str], list[str]] = {}
        for one in read_table(path) if path is not None else ():
            old, new = (one.new, one.old) if undo else (one.old, one.new)
            self._new.setdefault((one.kind, old), []).append(new)

    def has(self, kind: str, name: str) -> bool:
        return (kind, name) in self._new

    def undoes(self, kind: str, name: str) -> bool:
        """Whether a name comes back exactly as it was, safe or not."""
        return self.undo and self.has(kind, name)

    def new(self, kind: str, name: str) -> str:
        """The new name; where one old name stands several times, its new ones come in turn."""
        names = self._new[kind, name]
        return names.pop(0) if len(names) > 1 else names[0]


def read_table(path: Path) -> list[Renamed]:
    """Read a table of old and new names: CSV with the columns kind, old, new."""
    try:
        text = path.read_text("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8 text"
        raise InputError(f"the rename table could not be read: {reason}.", file=path) from None
    rows = list(csv.DictReader(io.StringIO(text)))
    if rows and not {"old", "new"} <= rows[0].keys():
        raise InputError("a rename table needs the columns kind, old and new.", file=path, place="line 1")
    return [Renamed(row.get("kind") or "node", row["old"] or "", row["new"] or "") for row in rows]


def table_text(renamed: Iterable[Renamed]) -> str:
    """A table of old and new names as CSV, for `read_table`."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(("kind", "old", "new"))
    writer.writerows((one.kind, one.old, one.new) for one in renamed)
    return out.getvalue()


def _tokens(placed: Placed, scene: Scene, number: int, name: str) -> dict[str, str]:
    node = placed.node
    mesh = node.drawn
    material = next((slot.name for slot in mesh.slots if slot), "") if mesh else ""
    group = node.groups[0] if node.groups else (placed.path[-2] if len(placed.path) > 1 else "")
    return {
        "name": str(node.properties.get("asset", name)) if not node.is_shown else name,
        "role": node.role,
        "level": str(node.properties.get("level", 0)),
        "number": str(number),
        "group": group,
        "material": material,
        "file": _file(scene),
    }


def _file(scene: Scene) -> str:
    return scene.source.stem if scene.source else scene.name


def _filled(template: str, tokens: Mapping[str, str]) -> str:
    def fill(found: re.Match[str]) -> str:
        token, _, digits = found[1].partition(":")
        value = tokens.get(token, "")
        return value.zfill(int(digits)) if digits.isdecimal() else value.zfill(2) if token == "number" else value

    return re.sub(r"\{([^{}]*)\}", fill, template)


def _in_case(name: str, case: Case) -> str:
    if case in ("keep", "lower", "upper"):
        return {"keep": name, "lower": name.lower(), "upper": name.upper()}[case]
    words = re.findall(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+|[^\W\d_]+", name)
    if case in ("snake", "kebab"):
        return ("_" if case == "snake" else "-").join(word.lower() for word in words)
    joined = "".join(word[:1].upper() + word[1:].lower() for word in words)
    return joined[:1].lower() + joined[1:] if case == "camel" else joined


def _named(kind: str, things: tuple[Any, ...], rename: Callable[[str], str], renamed: list[Renamed]) -> dict[int, str]:
    """The new name of each thing, by identity; changes are added to ``renamed``."""
    names = {}
    for thing in things:
        names[id(thing)] = rename(thing.name)
        if names[id(thing)] != thing.name:
            renamed.append(Renamed(kind, thing.name, names[id(thing)]))
    return names


def _with_names(
    scene: Scene,
    node_names: list[str],
    owners: Mapping[int, str],
    meshes: Mapping[int, str],
    materials: Mapping[int, str],
    textures: Mapping[int, str],
) -> Scene:
    made: dict[int, Texture] = {}

    def rename_texture(texture: Texture) -> Texture:
        name = textures.get(id(texture), texture.name)
        return texture if name == texture.name else made.setdefault(id(texture), replace(texture, name=name))

    def rename_material(material: Material) -> Material:
        uses = {
            role: use if (new := rename_texture(use.texture)) is use.texture else replace(use, texture=new)
            for role, use in material.textures.items()
        }
        name = materials.get(id(material), material.name)
        if name == material.name and all(uses[role] is use for role, use in material.textures.items()):
            return material
        return replace(material, name=name).with_textures(uses)

    def rename_mesh(mesh: Mesh) -> Mesh:
        name = meshes[id(mesh)]
        return mesh if name == mesh.name else mesh.replace(name=name)

    def rename_node(n: int, node: Node) -> Node:
        if "asset" in node.properties and owners.get(n, node.properties["asset"]) != node.properties["asset"]:
            node = replace(node, properties={**node.properties, "asset": owners[n]})
        return node if node.name == node_names[n] else replace(node, name=node_names[n])

    return scene.map_meshes(rename_mesh).map_materials(rename_material).rebuilt(rename_node)


def _listed(names: list[str]) -> str:
    return shortened(map(repr, names), 6)
