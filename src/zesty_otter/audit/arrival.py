"""The comparison of what was written and read back with what was meant."""

from __future__ import annotations

from collections.abc import Container, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zesty_otter.audit.facts import FileFacts, facts_of
from zesty_otter.audit.glb import inspect_glb
from zesty_otter.model import Frame, Scene, expanded, reframed

_EVERYTHING = frozenset({"names", "tree", "materials"})


@dataclass(frozen=True)
class Arrival:
    """What stands in a written file, and every way in which it differs from what was meant."""

    path: str
    facts: FileFacts
    problems: tuple[str, ...]


def arrived(
    scene: Scene,
    path: Path,
    found: Scene | None = None,
    carries: Container[str] = _EVERYTHING,
    *,
    quantized: bool = False,
) -> Arrival:
    """Compare a written file with the scene it was written from.

    Parameters
    ----------
    scene : Scene
        What was meant.
    path : Path
        What was written. A glTF file is taken apart here, by code that shares nothing with its writer.
    found : Scene, optional
        What was read back from a file of any other format.
    carries : container of str
        What that format carries, of names, tree and materials; the rest is not missed.
    quantized : bool
        Whether positions were meant to be rounded to 16 bits.
    """
    if found is None:
        facts = inspect_glb(path)
        meant = facts_of(reframed(scene, Frame("left up forward", "m")))
    else:
        facts = facts_of(found, path.stat().st_size)
        meant = facts_of(scene if scene.frame == found.frame else reframed(scene, found.frame))
    return Arrival(str(path), facts, tuple(_problems(scene, meant, facts, carries, quantized)))


def _problems(
    scene: Scene, meant: FileFacts, found: FileFacts, carries: Container[str], quantized: bool
) -> Iterator[str]:
    box = np.array([meant.lowest, meant.highest])
    got = np.array([found.lowest, found.highest])
    # Sizes may differ by what 32-bit numbers round off at that distance from the origin.
    slack = 4 * np.finfo(np.float32).eps * max(float(np.abs(box).max()), 1e-30)
    if quantized:
        slack += float(np.linalg.norm(box[1] - box[0])) / 65535
    if np.abs(got - box).max() > slack:
        yield f"its bounds are {got.tolist()}, meant were {box.tolist()}"
    for what, have, wanted in (
        ("triangles", found.triangles, meant.triangles),
        ("material sections", found.sections, meant.sections),
    ):
        if have != wanted and (what == "triangles" or "materials" in carries):
            yield f"it has {have:,} {what}, meant were {wanted:,}"
    if "tree" in carries:
        # Lights and cameras may have got a node of their own to aim them, rounded meshes one to spread them.
        known = set(meant.paths)
        paths = tuple(one for one in found.paths if one in known or not one[-1].endswith(("_aim", "_quantized")))
        wanted_paths = meant.paths
    else:
        paths = tuple(one[-1:] for one in found.paths)
        wanted_paths = tuple(
            (placed.node.name,) for placed, mesh in expanded(scene)[0].placed_meshes() if mesh.face_count
        )
    if paths != wanted_paths and "names" in carries:
        yield _first_difference(paths, wanted_paths)
    missing = [name for name in meant.materials if " ".join(name.split()) not in found.materials]
    if missing and "materials" in carries:
        yield f"it lacks the materials {', '.join(missing[:5])}"


def _first_difference(found: tuple[tuple[str, ...], ...], meant: tuple[tuple[str, ...], ...]) -> str:
    for have, wanted in zip(found, meant, strict=False):
        if have != wanted:
            return f"its nodes are not as meant: {'/'.join(have)} stands where {'/'.join(wanted)} should"
    return f"it has {len(found)} nodes, meant were {len(meant)}"
