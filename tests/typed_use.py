"""What a user writes, checked in strict mode: the public surface has types."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

import zesty_otter as zo


def boatyard(folder: Path) -> list[str]:
    points: NDArray[np.float64] = np.eye(3)
    mesh = zo.Mesh.from_arrays(points, [[0, 1, 2]], uvs={"st": np.zeros((3, 2))}, name="sail")
    scene = zo.Scene.from_mesh(mesh, unit="m").with_node(zo.Node("lamp", content=zo.Light("lamp", "spot")))
    scene = zo.apply(scene, zo.steps.Pivot(at="base"), zo.steps.Names(template="yard_{name}"))
    notes: list[zo.Note] = zo.write(scene, folder / "sail.glb", quantized=False)
    out = io.BytesIO()
    zo.write(scene, out, format="glb")
    again: zo.Scene = zo.read(out.getvalue())
    low, high = again.bounds()
    names = [placed.node.name for placed in again.nodes(role="visible")]
    hull = zo.geometry.convex_hull(points, 0.1)
    target = zo.targets.load("m-left-up-forward")
    facts = zo.audit.survey(again)
    job = zo.jobs.Job(sources=(zo.jobs.Source(files=(str(folder / "sail.glb"),)),), outputs=(zo.jobs.Output(),))
    result = zo.run_job(job, dry_run=True)
    return [*names, target.name, str(high - low), str(hull.volume), facts.axes, result.title, *map(str, notes)]
