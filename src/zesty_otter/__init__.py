"""Zesty Otter: meshes and scenes from a modelling package into a real-time engine.

import zesty_otter as zo

scene = zo.read("gate.obj", unit="in", axes="right forward up")
scene = zo.apply(scene, zo.steps.Pivot(at="base"))
zo.write(scene, "gate.glb")
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from zesty_otter.errors import (
    InputError,
    ModelError,
    OutputError,
    UnknownUnitError,
    UsageError,
    ZestyOtterError,
)

if TYPE_CHECKING:
    from zesty_otter import audit, formats, geometry, jobs, model, pictures, steps, targets
    from zesty_otter.formats import read, write
    from zesty_otter.jobs import run_job, watch_job
    from zesty_otter.model import (
        Camera,
        Frame,
        Layer,
        Light,
        Material,
        Mesh,
        Node,
        Note,
        Scatter,
        Scene,
        Texture,
        TextureUse,
    )
    from zesty_otter.steps import apply

__version__ = "0.1.0"

# Loaded when first asked for, so that importing the package costs next to nothing.
_HOME = {
    **dict.fromkeys(("read", "write"), "zesty_otter.formats"),
    **dict.fromkeys(
        ("Camera", "Frame", "Layer", "Light", "Material", "Mesh", "Node", "Note", "Scatter", "Scene", "Texture")
        + ("TextureUse",),
        "zesty_otter.model",
    ),
    "apply": "zesty_otter.steps",
    "run_job": "zesty_otter.jobs",
    "watch_job": "zesty_otter.jobs",
}
_ROOMS = ("audit", "formats", "geometry", "jobs", "model", "pictures", "steps", "targets")


def __getattr__(name: str) -> Any:
    if name in _HOME:
        return getattr(import_module(_HOME[name]), name)
    if name in _ROOMS:
        return import_module(f"zesty_otter.{name}")
    raise AttributeError(f"module 'zesty_otter' has no attribute '{name}'")


def __dir__() -> list[str]:
    return sorted(__all__)


__all__ = [
    "Camera",
    "Frame",
    "InputError",
    "Layer",
    "Light",
    "Material",
    "Mesh",
    "ModelError",
    "Node",
    "Note",
    "OutputError",
    "Scatter",
    "Scene",
    "Texture",
    "TextureUse",
    "UnknownUnitError",
    "UsageError",
    "ZestyOtterError",
    "__version__",
    "apply",
    "audit",
    "formats",
    "geometry",
    "jobs",
    "model",
    "pictures",
    "read",
    "run_job",
    "steps",
    "targets",
    "watch_job",
    "write",
]
