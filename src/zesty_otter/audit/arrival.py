"""The comparison of what was written and read back with what was meant."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zesty_otter.audit.glb import GlbFacts, inspect_glb
from zesty_otter.model import Frame, Scene, reframed


@dataclass(frozen=True)
class Arrival:
    """What stands in a written file, and every way in which it differs from what was meant."""

    path: str
    facts: GlbFacts
    problems: tuple[str, ...]


def arrived(scene: Scene, path: Path) -> Arrival:
    """Read a written glTF file back and compare it with the scene it was written from.

    Sizes may differ by what 32-bit numbers round off at that distance from the origin.
    """
    facts = inspect_glb(path)
    meant = reframed(scene, Frame("left up forward", "m"))
    problems = []
    box = meant.bounds()
    rounding = 4 * np.finfo(np.float32).eps * max(float(np.abs(box).max()), 1e-30)
    found = np.array([facts.lowest, facts.highest])
    if np.abs(found - box).max() > rounding:
        problems.append(f"its bounds are {found.tolist()}, meant were {box.tolist()}")
    shown = [mesh for _, mesh in meant.placed_meshes()]
    triangles = sum(mesh.triangle_count for mesh in shown)
    if facts.triangles != triangles:
        problems.append(f"it has {facts.triangles:,} triangles, meant were {triangles:,}")
    names = tuple(placed.node.name for placed in meant.walk())
    # Lights and cameras may have got a node of their own to aim them.
    if tuple(name for name in facts.nodes if name in names or not name.endswith("_aim")) != names:
        problems.append("its nodes are not named as meant")
    sections = sum(len(np.unique(mesh.slot_of_face)) for mesh in shown)
    if facts.sections != sections:
        problems.append(f"it has {facts.sections} material sections, meant were {sections}")
    return Arrival(str(path), facts, tuple(problems))
