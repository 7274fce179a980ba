"""Where a cluster stops scaling: what a task costs the machine that runs the job, measured, and 100 workers, simulated.

`python bench/cluster_scale.py` prints the table of docs/clusters.md.
"""

from __future__ import annotations

import heapq
import pickle
import random
import tempfile
import time
from pathlib import Path

from distributed import Client, LocalCluster

import zesty_otter as zo
from zesty_otter.jobs import cluster, remote

COUNT = 400
SHED = "v 0 0 0\nv 1 0 0\nv 0 {n} 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n"
WORKERS = (1, 10, 30, 100, 300)
SECONDS = (0.05, 0.5, 5.0)  # that a worker takes for an asset


def measured(folder: Path) -> tuple[float, float, float]:
    """Seconds of this machine's processor for a task, and bytes that go to a worker and come back."""
    (folder / "sheds").mkdir()
    for n in range(COUNT):
        (folder / "sheds" / f"shed{n}.obj").write_text(SHED.format(n=1 + n / COUNT))
    job = folder / "sheds.toml"
    job.write_text('report = false\n[[sources]]\nfiles = "sheds"\nunit = "m"\n[[outputs]]\nformats = "glb"\n')
    sizes: list[tuple[int, int]] = []
    unpacked = remote.unpacked

    def noted(data: bytes, places: remote.Places = ()) -> object:
        sizes.append((0, len(data)))
        return unpacked(data, places)

    vars(cluster)["unpacked"] = noted
    own = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": None}
    with LocalCluster(**own) as local, Client(local) as client:
        zo.run_job(job, cluster=client)
        sizes.clear()
        began = time.process_time()
        zo.run_job(job, cluster=client, fresh=True)
        spent = time.process_time() - began
    planned = zo.jobs.plan(zo.jobs.load(job))
    there = len(pickle.dumps(cluster._packed_here((planned.tasks[0], folder))))
    return spent / COUNT, float(there), sum(back for _, back in sizes) / max(len(sizes), 1)


def rate(workers: int, seconds: float, own: float, assets: int = 3000, latency: float = 0.002) -> float:
    """Assets a second, when each takes a worker some time and this machine ``own``, one after the other."""
    draw = random.Random(1)
    ready = [(0.0, worker) for worker in range(workers) for _ in range(2)]  # two tasks in hand each
    heapq.heapify(ready)
    busy = [0.0] * workers
    here = last = 0.0
    for _ in range(assets):
        when, worker = heapq.heappop(ready)
        here = max(here, when) + own  # the last one taken, the next one sent
        busy[worker] = max(busy[worker], here + latency) + seconds * draw.uniform(0.5, 1.5)
        heapq.heappush(ready, (busy[worker] + latency, worker))
        last = max(last, busy[worker])
    return assets / max(last, here)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as folder:
        own, there, back = measured(Path(folder))
    print(f"a task: {1e3 * own:.1f} ms of this machine, {there / 1e3:.1f} kB there, {back / 1e3:.1f} kB back")
    print("| workers | " + " | ".join(f"{seconds:g} s an asset" for seconds in SECONDS) + " |")
    print("|---|" + "---|" * len(SECONDS))
    for workers in WORKERS:
        rates = [rate(workers, seconds, own) for seconds in SECONDS]
        cells = [f"{one:,.3g}/s ({100 * one * s / workers:.0f} %)" for one, s in zip(rates, SECONDS, strict=True)]
        print(f"| {workers} | " + " | ".join(cells) + " |")
