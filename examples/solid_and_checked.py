"""Give the fish ladder of the demo kit collision and a shadow, see where feet would be, compare what was written."""

from pathlib import Path

import zesty_otter as zo
from zesty_otter.audit import collision_facts
from zesty_otter.audit.checks import check
from zesty_otter.audit.comparison import compare
from zesty_otter.demo import write_kit
from zesty_otter.pictures import Look, picture, save
from zesty_otter.targets import load

write_kit(Path("kit"))
scene = zo.read("kit/fish_ladder/fish_ladder.obj", unit="mm", axes="left up forward")
scene = zo.apply(scene, zo.steps.Triangulate(), zo.steps.Collision(tolerance="2cm"), zo.steps.Shadow(inward="1cm"))
zo.write(scene, "fish_ladder.glb")

for facts in collision_facts(scene):
    print(f"{facts.asset}: {facts.parts} parts; feet float {1000 * facts.floats:.1f} mm at most")
for finding in check(scene, load("m-left-up-forward")):
    print(finding.severity, finding)
print(f"moved on the way to the file: {compare(scene, zo.read('fish_ladder.glb')).moved:.1e} m")
Path("fish_ladder.png").write_bytes(save(picture(scene, Look(style="footing"))))
