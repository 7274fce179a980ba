"""Convert a folder: every piece of the boatyard to metres and GLB, with its pivot at its base."""

from pathlib import Path

import zesty_otter as zo
from zesty_otter.demo import write_kit

write_kit(Path("kit"))
job = zo.jobs.Job(
    sources=(zo.jobs.Source(files=("kit",), exclude=("kit/net_rack/*",), unit="cm"),),
    steps=("clean-up", "pivot at=base", "names case=snake"),
    outputs=(zo.jobs.Output(formats=("glb",), folder="{folder}"),),
)
result = zo.run_job(job, on_progress=lambda event: print(f"{event.done}/{event.total} {event.asset}: {event.state}"))
for asset in result.assets:
    for file in asset.files:
        print(file.path, f"{file.facts.triangles} triangles", "arrived" if not file.problems else file.problems)
