"""What can be done to a scene: one module per kind of fix, each step a frozen settings model."""

from __future__ import annotations

import inspect
import re
import tomllib
from collections.abc import Iterator, MutableMapping
from typing import TYPE_CHECKING

from zesty_otter._lazy import homes_of, loaded_when_asked
from zesty_otter._plugins import plugins
from zesty_otter.errors import UsageError, closest

if TYPE_CHECKING:
    from zesty_otter.steps.atlas import Atlas
    from zesty_otter.steps.bake import BakeTransforms
    from zesty_otter.steps.bake_maps import BakeMaps
    from zesty_otter.steps.base import Length, Step, apply
    from zesty_otter.steps.bounds import Bounds
    from zesty_otter.steps.card import Card
    from zesty_otter.steps.cells import Cells
    from zesty_otter.steps.cleanup import CleanUp, Weld
    from zesty_otter.steps.collision import Collision
    from zesty_otter.steps.gather import Gather
    from zesty_otter.steps.instances import Expand
    from zesty_otter.steps.joining import Divide, Join
    from zesty_otter.steps.levels import Levels
    from zesty_otter.steps.lighter import Lighten
    from zesty_otter.steps.materials import Materials
    from zesty_otter.steps.measures import LevelFacts, level_facts
    from zesty_otter.steps.names import Names
    from zesty_otter.steps.pivot import Pivot
    from zesty_otter.steps.polygons import MergeFlat, Triangulate
    from zesty_otter.steps.reframe import Reframe
    from zesty_otter.steps.roles import Roles
    from zesty_otter.steps.scale import Scale
    from zesty_otter.steps.selection import Select
    from zesty_otter.steps.shadow import Shadow
    from zesty_otter.steps.smoothing import Normals, Tangents
    from zesty_otter.steps.stand_ins import StandIns
    from zesty_otter.steps.swap import Swap
    from zesty_otter.steps.textures import Textures
    from zesty_otter.steps.unwrap import Pack, Unwrap
    from zesty_otter.steps.uvs import UvSets
    from zesty_otter.steps.words import Words

_OWN = {
    "roles": ("roles", "Roles", "Give nodes their roles: by name template, by group or by hand."),
    "select": ("selection", "Select", "Keep some nodes and drop others."),
    "reframe": (
        "reframe",
        "Reframe",
        "Change the units and axes of everything, leaving no rotation or scale on any node.",
    ),
    "scale": (
        "scale",
        "Scale",
        "Make everything larger or smaller about the scene's origin, in the data and not on the nodes.",
    ),
    "bake": (
        "bake",
        "BakeTransforms",
        "Set the rotation of nodes to zero and their scale to one, without moving anything.",
    ),
    "weld": ("cleanup", "Weld", "Merge points that are very close to each other."),
    "clean-up": (
        "cleanup",
        "CleanUp",
        "Remove what draws nothing, turn faces outward, close small holes and merge duplicates.",
    ),
    "merge-flat": (
        "polygons",
        "MergeFlat",
        "Merge coplanar faces into clean n-gons: the way back from triangles.",
    ),
    "normals": ("smoothing", "Normals", "Decide which edges are smooth and which are hard."),
    "uv-sets": ("uvs", "UvSets", "Keep, drop, rename, reorder and flip UV sets, and report what is wrong with them."),
    "unwrap": (
        "unwrap",
        "Unwrap",
        "Give meshes new UVs: surfaces laid out flat in islands, none over another, packed into the image.",
    ),
    "pack": (
        "unwrap",
        "Pack",
        "Pack the islands that meshes have side by side, without overlap: one mesh or several onto a page.",
    ),
    "materials": ("materials", "Materials", "Rename, merge, order, limit and simplify materials."),
    "atlas": ("atlas", "Atlas", "Turn the materials of an asset into one, with all their textures on one page."),
    "textures": (
        "textures",
        "Textures",
        "Find textures, change their size and file type, pack and unpack channels, flip normal maps.",
    ),
    "gather": ("gather", "Gather", "Turn nodes that show copies of one thing under the same parent into one scatter."),
    "swap": (
        "swap",
        "Swap",
        "Put other meshes in place of those there are: by a table, or those of the same name in another file.",
    ),
    "stand-ins": (
        "stand_ins",
        "StandIns",
        "Put boxes in place of heavy meshes, to arrange a scene that is light; swap brings the meshes back.",
    ),
    "cells": ("cells", "Cells", "Cut scatters and whole levels into square cells of the ground, a node for each."),
    "expand": ("instances", "Expand", "Turn the copies of scatters into nodes that share one mesh."),
    "join": ("joining", "Join", "Join all visible meshes into one, and the meshes of each level into one level."),
    "divide": (
        "joining",
        "Divide",
        "Divide meshes: into loose parts, by material, or into pieces that 16-bit indices can count.",
    ),
    "pivot": ("pivot", "Pivot", "Put the pivot of every asset where it belongs, without moving what is seen."),
    "lighten": ("lighter", "Lighten", "Reduce meshes that are too heavy to a number of triangles."),
    "levels": ("levels", "Levels", "Give every visible mesh a chain of lighter versions, and measure each."),
    "card": (
        "card",
        "Card",
        "Add a flat picture of every visible mesh as its last level: for nets, foliage and anything far away.",
    ),
    "collision": (
        "collision",
        "Collision",
        "Give every visible mesh the collision it needs, and tidy up the collision that is already there.",
    ),
    "shadow": ("shadow", "Shadow", "Give every visible mesh a light, closed mesh to cast its shadow."),
    "bounds": (
        "bounds",
        "Bounds",
        "Add a shape to each asset that says how large it is: a box or a sphere, with the role of bounds.",
    ),
    "bake-maps": (
        "bake_maps",
        "BakeMaps",
        "Bake maps from a heavy mesh onto light ones, so that these look like it.",
    ),
    "names": (
        "names",
        "Names",
        "Give nodes, meshes, materials and textures names that every program and file system accepts.",
    ),
    "triangulate": ("polygons", "Triangulate", "Split every face into triangles, always in the same way."),
    "tangents": ("smoothing", "Tangents", "Add the tangents that normal maps need."),
}
"""Our own, by slug, in the order in which they are usually taken: where each declares itself, as what, and
the first line of what it says it does, which a list of steps shows without loading any."""

__getattr__ = loaded_when_asked(
    __name__,
    {name: module for module, name, _ in _OWN.values()}
    | homes_of(base="Length Step apply", measures="LevelFacts level_facts", words="Words"),
)


if TYPE_CHECKING:
    _ByName = MutableMapping[str, type[Step]]
else:
    _ByName = MutableMapping


class _Steps(_ByName):
    """Steps by their words; one of ours is loaded when it is asked for."""

    def __init__(self) -> None:
        self._added: dict[str, type[Step]] = {}

    def __getitem__(self, slug: str) -> type[Step]:
        if slug in self._added:
            return self._added[slug]
        step: type[Step] = __getattr__(_OWN[slug][1])
        return step

    def __setitem__(self, slug: str, step: type[Step]) -> None:
        self._added[slug] = step

    def __delitem__(self, slug: str) -> None:
        del self._added[slug]

    def __iter__(self) -> Iterator[str]:
        yield from _OWN
        yield from self._added

    def __len__(self) -> int:
        return len(_OWN) + len(self._added)


STEPS: MutableMapping[str, type[Step]] = _Steps()
"""Every step by its word in commands and job files, in the order in which they are usually taken."""


def register(step: type[Step]) -> type[Step]:
    """Make a step of one's own known by its slug, in job files and on the command line; also as a decorator.

    Parameters
    ----------
    step : type of Step

    Returns
    -------
    type of Step
        The same.

    Raises
    ------
    UsageError
        When one of ours has this slug.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> @zo.steps.register  # doctest: +SKIP
    ... class Nothing(zo.steps.Step):
    ...     slug = "nothing"
    ...
    ...     def change(self, scene):
    ...         return scene
    """
    if step.slug in _OWN:
        raise UsageError(f"there is a step '{step.slug}' already.", remedy="Give yours another slug.")
    STEPS[step.slug] = step
    return step


def with_those_of_others() -> MutableMapping[str, type[Step]]:
    """Every step, those too that other packages bring by entry points in the group ``zesty_otter.steps``.

    Returns
    -------
    mapping of str to type of Step
        By slug.

    Examples
    --------
    >>> "weld" in with_those_of_others()
    True
    """
    for step in plugins("zesty_otter.steps"):
        STEPS.setdefault(step.slug, step)
    return STEPS


def summaries() -> dict[str, str]:
    """What every step does, in a line each, without loading those of our own.

    Returns
    -------
    dict of str to str
        By slug.

    Examples
    --------
    >>> summaries()["weld"]
    'Merge points that are very close to each other.'
    """
    known = with_those_of_others()
    return {slug: _OWN[slug][2] if slug in _OWN else first_line(known[slug]) for slug in known}


def first_line(step: type[Step]) -> str:
    """What a step does, in a line.

    Parameters
    ----------
    step : type of Step

    Returns
    -------
    str

    Examples
    --------
    >>> from zesty_otter.steps import Weld
    >>> first_line(Weld)
    'Merge points that are very close to each other.'
    """
    return (inspect.getdoc(step) or "").partition("\n")[0]


def step_named(slug: str) -> type[Step]:
    """The step of a word, such as ``"weld"``.

    Parameters
    ----------
    slug : str

    Returns
    -------
    type of Step

    Raises
    ------
    UsageError
        When there is none.

    Examples
    --------
    >>> step_named("weld").__name__
    'Weld'
    """
    if slug not in STEPS:
        with_those_of_others()
    if slug not in STEPS:
        raise UsageError(
            f"'{slug}' is not a step.{closest(slug, list(STEPS))}", remedy="`zesty-otter steps` lists them."
        )
    return STEPS[slug]


def step_from_text(text: str) -> Step:
    """A step from one line: its word and settings, such as ``"weld distance=0.1mm across=matching"``.

    Values are read as TOML where they are that (numbers, true, lists), else as they stand.

    Parameters
    ----------
    text : str

    Returns
    -------
    Step

    Raises
    ------
    UsageError
        When the step or a setting is unknown, or a value makes no sense.

    Examples
    --------
    >>> step_from_text("weld distance=0.1mm").distance
    0.0001
    """
    # Words end at blanks, but not within quotes and brackets.
    slug, *words = re.findall(r"""(?:[^\s"'\[{]|"[^"]*"|'[^']*'|\[[^]]*\]|\{[^}]*\})+""", text) or [""]
    settings = {}
    for word in words:
        key, equals, value = word.partition("=")
        if not equals:
            raise UsageError(f"'{word}' is not a setting.", remedy=f"Write: {slug} {key}=VALUE")
        try:
            settings[key] = tomllib.loads(f"value = {value}")["value"]
        except tomllib.TOMLDecodeError:
            settings[key] = value
    return step_named(slug)(**settings)


__all__ = [
    "STEPS",
    "Atlas",
    "BakeMaps",
    "BakeTransforms",
    "Bounds",
    "Card",
    "Cells",
    "CleanUp",
    "Collision",
    "Divide",
    "Expand",
    "Gather",
    "Join",
    "Length",
    "LevelFacts",
    "Levels",
    "Lighten",
    "Materials",
    "MergeFlat",
    "Names",
    "Normals",
    "Pack",
    "Pivot",
    "Reframe",
    "Roles",
    "Scale",
    "Select",
    "Shadow",
    "StandIns",
    "Step",
    "Swap",
    "Tangents",
    "Textures",
    "Triangulate",
    "Unwrap",
    "UvSets",
    "Weld",
    "Words",
    "apply",
    "first_line",
    "level_facts",
    "register",
    "step_from_text",
    "step_named",
    "summaries",
    "with_those_of_others",
]
