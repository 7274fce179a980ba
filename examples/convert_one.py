"""Read a dirty OBJ from the demo kit, mend it, and write a clean GLB."""

from pathlib import Path

import zesty_otter as zo
from zesty_otter.demo import write_kit

write_kit(Path("kit"))
scene = zo.read("kit/mooring_post/mooring post.obj", unit="in", axes="right forward up")
scene = zo.apply(scene, zo.steps.Pivot(at="base", of="scene", place="origin"), zo.steps.Names())
zo.write(scene, "mooring_post.glb")

for note in scene.notes:
    print(note)
for one in scene.renamed:
    print(f"{one.kind}: {one.old} -> {one.new}")
