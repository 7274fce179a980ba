"""Files read for steps that need a second one; formats are loaded when the first is read."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zesty_otter.model import Scene


def read_scene(path: Path, unit: str | None = None, axes: str | None = None) -> Scene:
    """The scene in a file, as `zesty_otter.read` gives it.

    By name, since steps and formats are neighbours that do not know each other.
    """
    scene: Scene = import_module("zesty_otter.formats").read(path, unit, axes)
    return scene
