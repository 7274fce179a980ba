"""What a rule is, and what rules look at."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zesty_otter.audit.footing import QUICK, CollisionFacts, collision_facts, rounded_place
from zesty_otter.model import Mesh, Placed, Scatter, Scene
from zesty_otter.steps.assets import Asset, assets_of
from zesty_otter.steps.roles import Roles
from zesty_otter.targets import Target


@dataclass(frozen=True)
class Spot:
    """Something wrong whose place is known: in the axes of the scene and in metres."""

    where: str
    text: str
    place: tuple[float, float, float] | None
    mend: str = ""


Found = Iterator[tuple[str, ...] | Spot]
"""Where something is wrong and what, and which step mends it where that is another than is usual for the rule."""


class Subject:
    """A scene and a target, with what several rules ask of them."""

    def __init__(self, scene: Scene, target: Target) -> None:
        self.scene, self.target = Roles.named_by(target.names).apply(scene), target
        self.placed = list(self.scene.walk())
        self.shown = [one for one in self.placed if one.node.drawn is not None and one.node.drawn.face_count]
        self.metre = scene.frame.unit

    @cached_property
    def assets(self) -> list[Asset]:
        return assets_of(self.scene)

    @cached_property
    def meshes(self) -> list[Mesh]:
        return [mesh for mesh in self.scene.meshes if mesh.face_count]

    @cached_property
    def seen(self) -> list[Mesh]:
        """The meshes somebody sees."""
        return list({id(m): m for one in self.shown if one.node.role in ("visible", "level")
                     if (m := one.node.drawn) is not None}.values())  # fmt: skip

    @cached_property
    def solid(self) -> list[Placed]:
        return [one for one in self.shown if one.node.role == "collision"]

    def place_of(self, mesh: Mesh, points: NDArray[np.int32]) -> tuple[float, float, float] | None:
        """The middle of some points of a mesh, where it stands first."""
        shown = next((one for one in self.shown if one.node.drawn is mesh), None)
        if shown is None or not len(points):
            return None
        world = shown.world
        if isinstance(shown.node.content, Scatter):
            world = world @ shown.node.content.transforms[0]
        place = (world[:3, :3] @ mesh.points[points].mean(axis=0) + world[:3, 3]) * (self.metre or 1.0)
        return rounded_place(place)

    def face_place(self, mesh: Mesh, faces: NDArray[np.bool_]) -> tuple[float, float, float] | None:
        """The middle of the first of some faces of a mesh."""
        first = int(np.argmax(faces))
        return self.place_of(mesh, mesh.corner_point[mesh.face_start[first] : mesh.face_start[first + 1]])

    @cached_property
    def collision(self) -> tuple[CollisionFacts, ...]:
        return collision_facts(self.scene, count=QUICK)


@dataclass(frozen=True)
class Rule:
    """One rule: its name, how bad it is to break it, the step that mends it, as --step takes it, and who finds it.

    ``limit`` says that it depends on numbers of the target, which are checked with every output.
    """

    name: str
    severity: str
    mend: str
    about: str
    find: Callable[[Subject], Found]
    limit: bool = False


RULES: dict[str, Rule] = {}
"""Every rule by its name, in the order in which findings are told."""


def rule(
    name: str, severity: str, mend: str = "", *, limit: bool = False
) -> Callable[[Callable[[Subject], Found]], None]:
    """Make a function that finds what breaks a rule known; its docstring says what it finds.

    Examples
    --------
    >>> from zesty_otter.audit.rules import rule
    >>> @rule("moss", "warning", "materials plain=true")  # doctest: +SKIP
    ... def moss(subject):
    ...     "Materials that look like moss."
    ...     for material in subject.scene.materials:
    ...         if "moss" in material.name:
    ...             yield material.name, "looks like moss"
    """

    def keep(find: Callable[[Subject], Found]) -> None:
        RULES[name] = Rule(name, severity, mend, (find.__doc__ or "").strip(), find, limit)

    return keep
