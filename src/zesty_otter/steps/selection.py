"""Which nodes: by name, role, group, kind or visibility."""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Annotated, Any, ClassVar

from pydantic import AfterValidator, BeforeValidator, Field

from zesty_otter.errors import UsageError
from zesty_otter.model import ROLES, Node, Placed, Scene, count_of
from zesty_otter.steps.base import Step, closest

KINDS = ("mesh", "light", "camera", "empty")
_KEYS = ("name", "role", "group", "kind", "property")


def _as_list(value: Any) -> Any:
    return [part.strip() for part in value.split(",") if part.strip()] if isinstance(value, str) else value


def _checked(words: tuple[str, ...]) -> tuple[str, ...]:
    for word in words:
        key, colon, value = word.partition(":")
        known = {"role": ROLES, "kind": KINDS}.get(key, ())
        if colon and key not in _KEYS:
            raise ValueError(f"'{word}' does not begin with name:, role:, group:, kind: or property:")
        if colon and known and value not in known:
            raise ValueError(f"'{value}' is no {key}; there are {', '.join(known)}.{closest(value, list(known))}")
    return words


Words = Annotated[tuple[str, ...], BeforeValidator(_as_list), AfterValidator(_checked)]
"""Words that choose nodes: ``name:gate*`` (or just ``gate*``), ``role:collision``, ``group:quay*``,
``kind:light``, ``property:solid`` (it has one), ``property:solid=yes``, ``hidden``, ``visible``; as a list or
with commas. A node is chosen when any word fits."""


def chosen(words: Sequence[str], placed: Placed) -> bool:
    """Whether any of the words fits a node."""
    return any(_fits(word, placed) for word in words)


def _fits(word: str, placed: Placed) -> bool:
    node = placed.node
    key, colon, value = word.partition(":")
    if not colon:
        if word in ("hidden", "visible"):
            return placed.visible == (word == "visible")
        key, value = "name", word
    if key == "group":
        return any(fnmatch.fnmatchcase(group, value) for group in (*node.groups, *placed.path[:-1]))
    if key == "property":
        name, equals, wanted = value.partition("=")
        return name in node.properties and (not equals or fnmatch.fnmatchcase(str(node.properties[name]), wanted))
    have = {"name": node.name, "role": node.role, "kind": node.kind}[key]
    return fnmatch.fnmatchcase(have, value)


def chosen_numbers(scene: Scene, words: Sequence[str]) -> set[int]:
    """The places in the walk of the nodes that the words choose; all of them when there are no words."""
    return {placed.number for placed in scene.walk() if not words or chosen(words, placed)}


class Select(Step):
    """Keep some nodes and drop others.

    Looks at names, roles, groups (and the names of ancestors), kinds and visibility. A node that goes
    takes its content with it; where nodes below it stay, an empty node stays in its place. Refuses words
    it does not know, and to drop everything.
    """

    slug: ClassVar[str] = "select"
    example: ClassVar[dict[str, Any]] = {"keep": ["name:*"], "drop": ["hidden", "kind:camera"]}

    keep: Words = Field(
        (),
        description="Words that choose what stays, everything when there are none: name:gate* (or just gate*),"
        " role:collision, group:quay*, kind:light, property:solid, property:solid=yes, hidden, visible.",
    )
    drop: Words = Field((), description="Words that choose what goes, also of what was to stay.")

    def apply(self, scene: Scene) -> Scene:
        placed = list(scene.walk())
        stays = [
            (not self.keep or chosen(self.keep, one)) and not (self.drop and chosen(self.drop, one)) for one in placed
        ]
        if all(stays):
            return scene

        if not any(stays):
            words = ", ".join((*self.keep, *(f"not {word}" for word in self.drop)))
            there = ", ".join(dict.fromkeys(one.node.name for one in placed[:6]))
            raise UsageError(f"no node is left: none fits {words}.", file=scene.source, remedy=f"There are {there}.")

        def make(n: int, node: Node) -> Node | None:
            if stays[n]:
                return node
            return replace(node, content=None) if node.children else None

        gone = [one for one, kept in zip(placed, stays, strict=True) if not kept]
        # Lights and cameras go without being asked for; that is worth saying.
        kind = "lost" if any(one.node.kind in ("light", "camera") for one in gone) else "done"
        return scene.rebuilt(make).with_notes(self.note(f"dropped {_counted(gone)}", kind=kind))


def _counted(gone: Iterable[Placed]) -> str:
    """``"2 meshes and 1 light: gate, lamp, ..."``."""
    gone = list(gone)
    words = [
        count_of(number, "empty node" if kind == "empty" else kind)
        for kind in KINDS
        if (number := sum(one.node.kind == kind for one in gone))
    ]
    names = ", ".join(one.node.name for one in gone[:5]) + (", ..." if len(gone) > 5 else "")
    return f"{' and '.join(words)}: {names}"
