"""Find the stones of a level again, swap its boxes for reeds and buoys, and cut it into squares of 16 m."""

from pathlib import Path

import zesty_otter as zo
from zesty_otter.demo import write_level

write_level(Path())
sources = Path("sources/level")
scene = zo.read(sources / "yard.glb")
scene = zo.apply(
    scene,
    zo.steps.Gather(least=20),
    zo.steps.Swap(table=sources / "swaps.csv", only=["reed", "lantern_buoy*"]),
    zo.steps.Cells(size="16m", by="cut"),
)
for cell in scene.roots:
    copies = sum(node.content.count for node in cell.children if node.kind == "scatter")
    print(f"{cell.name}: {len(cell.children)} things, {copies} copies")
zo.write(scene, "cells.glb")
zo.write(scene, "places.csv")
