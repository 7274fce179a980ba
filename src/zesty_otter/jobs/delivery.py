"""A scene written, and read back to see that it arrived."""

from __future__ import annotations

from pathlib import Path

from zesty_otter import audit, formats
from zesty_otter.audit import Arrival
from zesty_otter.model import Note, Scene


def deliver(scene: Scene, path: Path) -> tuple[list[Note], Arrival]:
    """Write a scene and compare what stands in the file with what was meant.

    Returns
    -------
    notes : list of Note
        What the writer translated or could not carry.
    arrival : Arrival
    """
    notes = formats.write(scene, path)
    kind = formats.format_of(path)
    if kind.name in ("glb", "gltf"):
        return notes, audit.arrived(scene, path)
    found = formats.read(path, scene.frame.unit, " ".join(scene.frame.axes))
    return notes, audit.arrived(scene, path, found)
