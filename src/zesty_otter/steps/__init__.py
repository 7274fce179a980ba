"""What can be done to a scene: one module per kind of fix, each step a frozen settings model."""

import re
import tomllib

from zesty_otter.errors import UsageError, closest
from zesty_otter.steps.assets import Roles
from zesty_otter.steps.bake import BakeTransforms
from zesty_otter.steps.base import Length, Step, apply
from zesty_otter.steps.bounds import Bounds
from zesty_otter.steps.card import Card
from zesty_otter.steps.cleanup import CleanUp, Weld
from zesty_otter.steps.collision import Collision
from zesty_otter.steps.instances import Expand, Gather
from zesty_otter.steps.joining import Divide, Join
from zesty_otter.steps.levels import LevelFacts, Levels, level_facts
from zesty_otter.steps.lighter import Lighten
from zesty_otter.steps.materials import Materials
from zesty_otter.steps.names import Names
from zesty_otter.steps.pivot import Pivot
from zesty_otter.steps.polygons import MergeFlat, Triangulate
from zesty_otter.steps.reframe import Reframe
from zesty_otter.steps.scale import Scale
from zesty_otter.steps.selection import Select
from zesty_otter.steps.shadow import Shadow
from zesty_otter.steps.smoothing import Normals, Tangents
from zesty_otter.steps.textures import Textures
from zesty_otter.steps.uvs import UvSets
from zesty_otter.steps.words import Words

STEPS: dict[str, type[Step]] = {
    step.slug: step
    for step in (
        Roles,
        Select,
        Reframe,
        Scale,
        BakeTransforms,
        Weld,
        CleanUp,
        MergeFlat,
        Normals,
        UvSets,
        Materials,
        Textures,
        Gather,
        Expand,
        Join,
        Divide,
        Pivot,
        Lighten,
        Levels,
        Card,
        Collision,
        Shadow,
        Bounds,
        Names,
        Triangulate,
        Tangents,
    )
}
"""Every step by its word in commands and job files, in the order in which they are usually taken."""


def register(step: type[Step]) -> type[Step]:
    """Make a step of one's own known by its slug, in job files and on the command line; also as a decorator.

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
    known = STEPS.get(step.slug)
    if known is not None and known.__module__.startswith("zesty_otter."):
        raise UsageError(f"there is a step '{step.slug}' already.", remedy="Give yours another slug.")
    STEPS[step.slug] = step
    return step


def step_named(slug: str) -> type[Step]:
    """The step of a word, such as ``"weld"``."""
    if slug not in STEPS:
        raise UsageError(
            f"'{slug}' is not a step.{closest(slug, list(STEPS))}", remedy="`zesty-otter steps` lists them."
        )
    return STEPS[slug]


def step_from_text(text: str) -> Step:
    """A step from one line: its word and settings, such as ``"weld distance=0.1mm across=matching"``.

    Values are read as TOML where they are that (numbers, true, lists), else as they stand.
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
    "BakeTransforms",
    "Bounds",
    "Card",
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
    "Pivot",
    "Reframe",
    "Roles",
    "Scale",
    "Select",
    "Shadow",
    "Step",
    "Tangents",
    "Textures",
    "Triangulate",
    "UvSets",
    "Weld",
    "Words",
    "apply",
    "level_facts",
    "register",
    "step_from_text",
    "step_named",
]
