"""The text form of USD, one statement a line."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from zesty_otter.rehearsal.receivers.faces import RefusedError, UnknownFormError, numbers, require
from zesty_otter.rehearsal.receivers.usd_prims import Prim, Stage

_HEAD = re.compile(r'(def|class|over) ?(\w*) "(\w+)"( \()?$')
_ORDER = re.compile(r"^(prepend|append|add) ")


def stage(data: bytes) -> Stage:
    """The prims of a layer."""
    lines = data.decode("utf-8").splitlines()
    require(bool(lines) and lines[0].startswith("#usda 1.0"), "it does not begin as USD text")
    if any(one.strip().startswith(("#", '"""', "variantSet")) for one in lines[1:]):
        raise UnknownFormError("comments or variants")
    prims: Stage = {}
    at = lines.index(")") + 1 if "(" in lines[1:2] else 1
    while at < len(lines):
        at = _prim(lines, at, "", prims)
    return prims


def _prim(lines: list[str], at: int, above: str, prims: Stage) -> int:
    """One prim with all below it; where it ends."""
    line = lines[at].strip()
    if not line:
        return at + 1
    head = _HEAD.match(line)
    if head is None:
        raise UnknownFormError(f"line {at + 1}")
    specifier, kind, name, more = head.groups()
    path = f"{above}/{name}"
    require(path not in prims, f"{path} is there twice")
    prim = prims[path] = Prim(specifier, kind, name)
    if above:
        prims[above].children.append(path)
    at += 1
    if more:
        at = _meta(lines, at, "", prim)
    require(lines[at].strip() == "{", f"line {at + 1} does not open {path}")
    at += 1
    while (text := lines[at].strip()) != "}":
        if not text or _HEAD.match(text):
            at = _prim(lines, at, path, prims)
            continue
        declared, equals, value = text.partition(" = ")
        key = declared.split()[-1]
        at += 1
        said = equals and value.endswith(" (")
        if said:
            value = value[:-2]
        if equals:
            prim.values[key] = _value(value)
        if said:
            at = _meta(lines, at, f"{key} ", prim)
    return at + 1


def _meta(lines: list[str], at: int, before: str, prim: Prim) -> int:
    """What stands in round brackets about a prim or a value; where it ends."""
    deep = 0
    while (line := lines[at].strip()) != ")" or deep:
        key, equals, value = _ORDER.sub("", line).partition(" = ")
        deep += line.endswith("{") - (line == "}")
        if equals and not deep and not line.endswith("{"):
            prim.meta[f"{before}{key}"] = value.strip('"').strip("<>")
        at += 1
    return at + 1


def _value(text: str) -> Any:
    if text.startswith(('"', "<", "@")):
        return text[1:-1]
    if text.startswith(('["', "[<")):
        return [one.strip().strip('"<>') for one in text[1:-1].split(",")]
    if text in ("true", "false", "[]"):
        return np.array([text == "true"] * (text != "[]"), np.float64)
    try:
        return numbers(text.translate(str.maketrans("[]()", "    ")))
    except RefusedError:
        return text  # refused where it is needed
