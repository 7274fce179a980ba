"""Roles of nodes, and which nodes make one asset: a visible mesh with its levels, collision and the rest."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cache

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import ROLES, Node, Note, Placed, Scene, content_bounds, count_of

TOKENS = {"name": r"(?P<name>.+?)", "level": r"(?P<level>\d+)", "n": r"(?P<n>\d+)"}
"""What a name template may hold, and what stands for it in a name."""

CELL = "cell"
"""The property of a node that holds what stands in a cell: where that is."""

_Patterns = list[tuple[str, re.Pattern[str]]]


def usual_templates() -> dict[str, tuple[str, ...]]:
    """How the names of nodes tell their roles where nothing else is said."""
    return {role.name: role.templates for role in ROLES.values() if role.templates}


def with_roles(
    scene: Scene,
    templates: Mapping[str, tuple[str, ...]] | None = None,
    *,
    visible: str = "{name}",
    assigned: Mapping[int, str] | None = None,
) -> Scene:
    """A scene whose nodes have the roles that their names tell, with a note of how many got one.

    Parameters
    ----------
    scene : Scene
    templates : mapping of str to tuple of str, optional
        Name templates for each role; the usual ones when None.
    visible : str
        How the meshes are named that these belong to.
    assigned : mapping of int to str, optional
        The roles that nodes get whatever their names are, by their numbers in the walk.

    Returns
    -------
    Scene
        The same one where nothing changes.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_nodes(zo.Node("sail", content=sail), zo.Node("sail_far1", content=sail))
    >>> [placed.node.role for placed in with_roles(scene, {"level": ("{name}_far{level}",)}).walk()]
    ['visible', 'level']
    """
    templates = usual_templates() if templates is None else templates
    patterns = [(role, _pattern(one)) for role, of_role in templates.items() for one in of_role]
    found: dict[int, Node] = {}
    for placed in scene.walk():
        node = _with_role(placed, patterns, visible, (assigned or {}).get(placed.number))
        if node is not placed.node:
            found[placed.number] = node
    if not found:
        return scene

    def make(n: int, node: Node) -> Node:
        new = found.get(n)
        return node if new is None else replace(node, role=new.role, properties=new.properties)

    counts = {role: sum(node.role == role for node in found.values()) for role in ROLES}
    text = ", ".join(f"{count} {role}" for role, count in counts.items() if count)
    return scene.rebuilt(make).with_notes(Note("done", f"{count_of(len(found), 'node')} recognised: {text}", "roles"))


def _with_role(placed: Placed, patterns: _Patterns, visible: str, assigned: str | None) -> Node:
    node = placed.node
    role, properties = assigned or node.role, dict(node.properties)
    if role == "visible" and node.role == "visible":
        found = _matched(node.name, patterns)
        if found is not None:
            role, asset, level = found
            properties["asset"] = visible.replace("{name}", asset)
            if level is not None:
                properties["level"] = level
    elif role != "visible" and "asset" not in properties:
        # Formats that know roles need not know what belongs together; names do.
        found = _matched(node.name, [one for one in patterns if one[0] == role])
        if found is not None:
            properties["asset"] = visible.replace("{name}", found[1])
    if role == node.role and properties == dict(node.properties):
        return node
    return replace(node, role=role, properties=properties)


def match_template(name: str, templates: Mapping[str, tuple[str, ...]]) -> tuple[str, str, int]:
    """The role a name tells, the asset it belongs to and its level; visible and the name itself when it tells none."""
    patterns = [(role, _pattern(one)) for role, of_role in templates.items() for one in of_role]
    role, asset, level = _matched(name, patterns) or ("visible", name, None)
    return role, asset, level or 0


def _matched(name: str, patterns: _Patterns) -> tuple[str, str, int | None] | None:
    for role, pattern in patterns:
        match = pattern.fullmatch(name)
        if match:
            return role, match["name"], int(match["level"]) if "level" in pattern.groupindex else None
    return None


@cache
def _pattern(template: str) -> re.Pattern[str]:
    pieces = re.split(r"(\{[^{}]*\})", template)
    return re.compile("".join(TOKENS[p[1:-1]] if p.startswith("{") else re.escape(p) for p in pieces))


@dataclass(frozen=True, eq=False)
class Asset:
    """What an artist calls one thing. ``main`` are its visible nodes (or its best level), ``rest`` all others."""

    name: str
    main: tuple[Placed, ...]
    rest: tuple[Placed, ...]

    def bounds(self) -> NDArray[np.float64]:
        """(2, 3) world bounds of what is visible, or of the mesh with the role of bounds when there is one."""
        named = [one for one in self.rest if one.node.role == "bounds"]
        boxes = np.array([content_bounds(one) for one in named or self.main if one.node.drawn is not None])
        boxes = boxes[np.isfinite(boxes).all(axis=(1, 2))] if len(boxes) else np.zeros((0, 2, 3))
        if not len(boxes):
            return np.full((2, 3), np.nan)
        return np.stack([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])


def assets_of(scene: Scene) -> list[Asset]:
    """The assets of a scene, in the order of their visible nodes.

    A node with another role belongs to the nearest visible ancestor, else to the asset its name says. That may be an
    empty node below which the visible mesh is in pieces.
    """
    main: dict[str, list[Placed]] = {}
    others: list[tuple[str, Placed]] = []
    owner: dict[int, str] = {}
    empty: dict[str, int] = {}
    for placed in scene.walk():
        node = placed.node
        above = owner.get(placed.parent, "")
        # A box beside what it could stand for belongs to that; below another box it stands for itself.
        spare = node.role != "visible" and above in main and main[above][0].node.role == "visible"
        if node.is_shown and node.drawn is not None and not spare:
            key = f"{placed.number}\0{node.name}"
            main[key] = [placed]
            owner[placed.number] = key
        else:
            owner[placed.number] = above
            if node.role == "visible":
                empty.setdefault(node.name, placed.number)
            else:
                others.append((above or str(node.properties.get("asset", "")), placed))
    by_name: dict[str, str] = {}
    for key in main:
        by_name.setdefault(key.partition("\0")[2], key)
    wanted = {name for name, _ in others if name in empty and name not in by_name}
    wholes = {empty[name]: f"{empty[name]}\0{name}" for name in wanted}
    # The key of the whole for that of each piece.
    whole_of = {key: wholes[own[0].parent] for key, own in main.items() if own[0].parent in wholes}
    if whole_of:
        pieces, main = main, {}
        for key, own in pieces.items():
            main.setdefault(whole_of.get(key, key), []).extend(own)
        by_name = {one: whole_of.get(key, key) for one, key in by_name.items()}
        by_name |= {whole.partition("\0")[2]: whole for whole in whole_of.values()}
        others = [(whole_of.get(above, above), placed) for above, placed in others]
    rest: dict[str, list[Placed]] = {}
    for name, placed in others:
        key = name if name in main else by_name.get(name, f"\0{name}")
        rest.setdefault(key, []).append(placed)
    found = [Asset(key.partition("\0")[2], tuple(own), tuple(rest.pop(key, ()))) for key, own in main.items()]
    for key, orphans in rest.items():
        # Levels without a visible mesh: the lowest number is the asset itself.
        levels = [one for one in orphans if one.node.role == "level" and one.node.mesh is not None]
        best = tuple(sorted(levels, key=lambda one: level_of(one.node))[:1])
        found.append(Asset(key[1:], best, tuple(one for one in orphans if one not in best)))
    return found


def level_of(node: Node) -> int:
    """The number of a level, 0 for other nodes and where a file says something that is none."""
    number = node.properties.get("level", 0) if node.role == "level" else 0
    return int(number) if isinstance(number, int | float) and math.isfinite(number) else 0
