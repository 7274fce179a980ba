"""Which nodes stay."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from zesty_otter.errors import UsageError
from zesty_otter.model import Node, Placed, Scene, count_of, shortened
from zesty_otter.steps.assets import assets_of
from zesty_otter.steps.base import Step
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.words import KINDS, Words, chosen


class Select(Step):
    """Keep some nodes and drop others.

    Looks at names, roles, groups (and the names of ancestors), kinds and visibility. A dropped node takes its
    content with it; if nodes below it stay, an empty node stays in its place. The levels, collision, shadow and
    other nodes of a mesh are kept and dropped with it. Refuses words it does not know, and to drop everything.
    """

    slug: ClassVar[str] = "select"
    whole_scene: ClassVar[bool] = True
    example: ClassVar[dict[str, Any]] = {"keep": ["name:*"], "drop": ["hidden", "kind:camera"]}

    keep: Words = Field(
        (),
        description="What to keep, everything when empty: name:gate* (or just gate*),"
        " role:collision, group:quay*, kind:light, property:solid, property:solid=yes, hidden, visible.",
    )
    drop: Words = Field((), description="What to drop, even from what is kept.")
    alone: bool = Field(
        False,
        description="Choose only the nodes that match, without their levels, collision and so on.",
    )

    def change(self, scene: Scene) -> Scene:
        placed = list(scene.walk())
        kept, gone_by_words = self._fitting(scene, placed, self.keep), self._fitting(scene, placed, self.drop)
        stays = [(not self.keep or one.number in kept) and one.number not in gone_by_words for one in placed]
        if all(stays):
            return scene

        if not any(stays):
            words = ", ".join((*self.keep, *(f"not {word}" for word in self.drop)))
            there = ", ".join(dict.fromkeys(one.node.name for one in placed[:6]))
            raise UsageError(f"no node is left: none matches {words}.", file=scene.source, remedy=f"There are {there}.")

        def make(n: int, node: Node) -> Node | None:
            if stays[n]:
                return node
            return replace(node, content=None) if node.children else None

        gone = [one for one, kept in zip(placed, stays, strict=True) if not kept]
        # Lights and cameras go without being asked for; that is worth saying.
        kind = "lost" if any(one.node.kind in ("light", "camera") for one in gone) else "done"
        return scene.rebuilt(make).with_notes(self.note(f"dropped {_counted(gone)}", kind=kind))

    def _fitting(self, scene: Scene, placed: list[Placed], words: tuple[str, ...]) -> set[int]:
        """The numbers of the nodes that words choose, and of what belongs to those.

        What is chosen by role, kind or visibility is meant as it stands.
        """
        found = {one.number for one in placed if words and chosen(words, one)}
        whole = tuple(word for word in words if word.partition(":")[0] not in ("role", "kind", "hidden", "visible"))
        if not whole or self.alone:
            return found
        for asset in assets_of(Roles().apply(scene)):
            if asset.main and all(chosen(whole, one) for one in asset.main):
                found |= {one.number for one in asset.rest}
        return found


def _counted(gone: Iterable[Placed]) -> str:
    """``"2 meshes and 1 light: gate, lamp, ..."``."""
    gone = list(gone)
    words = [
        count_of(number, "empty node" if kind == "empty" else kind)
        for kind in KINDS
        if (number := sum(one.node.kind == kind for one in gone))
    ]
    names = shortened(one.node.name for one in gone)
    return f"{' and '.join(words)}: {names}"
