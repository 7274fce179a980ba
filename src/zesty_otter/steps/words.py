"""Words that choose nodes: by name, role, group, kind, property or visibility."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator, WithJsonSchema

from zesty_otter.errors import closest
from zesty_otter.model import ROLES, Placed, Scene

KINDS = ("mesh", "scatter", "light", "camera", "empty")
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
            raise ValueError(f"'{value}' is not a {key}; there are {', '.join(known)}.{closest(value, list(known))}")
    return words


Words = Annotated[
    tuple[str, ...],
    BeforeValidator(_as_list),
    AfterValidator(_checked),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}),
]
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
