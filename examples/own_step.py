"""A step of one's own: sink every mesh of the boatyard half a metre into the water, then write it."""

from dataclasses import replace
from pathlib import Path
from typing import ClassVar

from pydantic import Field

import zesty_otter as zo
from zesty_otter.demo import write_kit


class Sink(zo.steps.Step):
    """Lower the whole scene.

    Looks at the frame to know which way is down. Changes the places of the outermost nodes.
    """

    slug: ClassVar[str] = "sink"

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
scene = zo.read("kit/work_boat/work_boat.obj", unit="ft", axes="back right up")
scene = zo.apply(
    scene,
    zo.steps.Reframe(axes="left up forward", unit="m"),
    zo.steps.Weld(distance="1mm"),
    zo.steps.Normals(by="angle", angle=50),
    Sink(depth="30cm"),
)
zo.write(scene, "work_boat.glb")
low, high = scene.bounds()
print(f"The boat now lies between {low[1]:.2f} m and {high[1]:.2f} m.")
