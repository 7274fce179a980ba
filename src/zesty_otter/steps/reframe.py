"""Units and axes."""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import Field

from zesty_otter.model import Frame, Scene, format_unit, reframed
from zesty_otter.steps.base import Step


class Reframe(Step):
    """Change the units and axes of everything, leaving no rotation or scale on any node.

    Looks at the scene's frame. Changes every position, direction and transform and, when the handedness changes,
    the winding of every face. Refuses to set a unit when the scene's own is unknown.
    """

    slug: ClassVar[str] = "reframe"
    whole_scene: ClassVar[bool] = True
    example: ClassVar[dict[str, Any]] = {"axes": "forward right up", "unit": "cm"}

    axes: str | None = Field(
        None,
        description="What +X, +Y and +Z mean afterwards, for example 'left up forward'; kept when absent.",
    )
    unit: float | str | None = Field(
        None, description="Unit afterwards: mm, cm, m, in, ft or a number of metres; kept when absent."
    )

    def change(self, scene: Scene) -> Scene:
        frame = Frame(self.axes or scene.frame.axes, scene.frame.unit if self.unit is None else self.unit)
        if frame == scene.frame:
            return scene
        changed = reframed(scene, frame)
        words = []
        if frame.axes != scene.frame.axes:
            words.append(f"axes from '{' '.join(scene.frame.axes)}' to '{' '.join(frame.axes)}'")
        if frame.unit != scene.frame.unit:
            words.append(f"unit from {format_unit(scene.frame.unit)} to {format_unit(frame.unit)}")
        if frame.right_handed != scene.frame.right_handed:
            words.append("faces flipped, because the handedness changed")
        return changed.with_notes(self.note("; ".join(words)))
