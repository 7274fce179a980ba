"""Copies of one mesh as nodes."""

from __future__ import annotations

from typing import ClassVar

from zesty_otter.model import Scene, count_of, expanded
from zesty_otter.steps.base import Step


class Expand(Step):
    """Turn the copies of scatters into nodes that share one mesh.

    Looks at every scatter; its node stays as the empty parent of the copies. Formats without instancing get this
    when they are written. Refuses nothing.
    """

    slug: ClassVar[str] = "expand"

    def change(self, scene: Scene) -> Scene:
        changed, made = expanded(scene)
        if not made:
            return scene
        return changed.with_notes(self.note(f"scatters became {count_of(made, 'node')}"))
