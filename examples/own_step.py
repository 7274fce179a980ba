"""A step of one's own, known to jobs by its word: sink the boat into the water."""

from dataclasses import replace
from pathlib import Path
from typing import ClassVar

from pydantic import Field

import zesty_otter as zo
from zesty_otter.demo import write_kit


@zo.steps.register
class Sink(zo.steps.Step):
    """Lower the whole scene.

    Looks at the frame to know which way is down. Changes the places of the outermost nodes.
    """

    slug: ClassVar[str] = "sink"
    whole_scene: ClassVar[bool] = True

    depth: zo.steps.Length = Field("0.5m", validate_default=True, description="How far down.")

    def change(self, scene: zo.Scene) -> zo.Scene:
        axis, sign = scene.frame.up

        def lower(node: zo.Node) -> zo.Node:
            transform = node.transform.copy()
            transform[axis, 3] -= sign * self.depth / scene.frame.unit
            return replace(node, transform=transform)

        roots = tuple(lower(node) for node in scene.roots)
        return replace(scene, roots=roots).with_notes(self.note(f"sunk by {self.depth:g} m"))


write_kit(Path("kit"))
Path("afloat.toml").write_text(
    """
steps = ["weld distance=1mm", "normals by=angle angle=50", "sink depth=30cm"]

[[sources]]
files = "kit/work_boat/work_boat.obj"
unit = "ft"
axes = "back right up"

[[outputs]]
target = "m-left-up-forward"
"""
)
result = zo.run_job("afloat.toml")
low, high = zo.read(result.folder / result.assets[0].files[0].path).bounds()
print(f"The boat now lies between {low[1]:.2f} m and {high[1]:.2f} m.")
