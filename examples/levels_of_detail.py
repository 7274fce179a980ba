"""Give the work boat of the demo kit levels of detail, and say what each costs."""

from pathlib import Path

import zesty_otter as zo
from zesty_otter.demo import write_kit

write_kit(Path("kit"))
scene = zo.read("kit/work_boat/work_boat.obj", unit="ft", axes="back right up")
scene = zo.apply(scene, zo.steps.BakeTransforms(), zo.steps.Levels(chain="screen 0.5 0.2", keep_border="neighbours"))
zo.write(scene, "work_boat.glb")

for level in zo.steps.level_facts(scene):
    moved, away = 1000 * (level.deviation or 0), level.distance or 0
    print(f"{level.node}: {level.triangles} triangles, moved by {moved:.1f} mm, may be shown from {away:.1f} m")
