"""The demo's job on a cluster of two workers that lives as long as this script."""

from pathlib import Path

from distributed import Client, LocalCluster

import zesty_otter as zo
from zesty_otter.demo import write_kit

if __name__ == "__main__":
    write_kit(Path("kit"))
    Path("yard.toml").write_text(
        """
steps = ["weld distance=1mm", "normals by=angle angle=50"]

[[sources]]
files = "kit/work_boat/work_boat.obj"
unit = "ft"
axes = "back right up"

[[sources]]
files = "kit/mooring_post/*.obj"
unit = "cm"

[[outputs]]
target = "m-left-up-forward"
"""
    )
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster, Client(cluster) as client:
        result = zo.run_job(
            "yard.toml", cluster=client, on_progress=lambda event: print(event.asset, event.state, "by", event.worker)
        )
    print(f"{len(result.assets)} assets in {result.folder}")
