"""Lights and cameras of two scenes compared: where they are, which way they look, and their values."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from zesty_otter.model import Camera, Light, Placed, Scene, count_of

_PLACE = 1e-5  # of how far things are, that a place may be off
_ANGLE = 0.1  # degrees
_SHARE = 2e-3  # of a value


def light_differences(one: Scene, other: Scene, *, only: frozenset[str] = frozenset()) -> Iterator[str]:
    """What differs between the lights and cameras of two scenes in one frame, in words.

    They are matched in the order of the tree. Of values only those in ``only``, when it names any.
    """
    for kind, noun in ((Light, "light"), (Camera, "camera")):
        ours, theirs = _all(one, kind), _all(other, kind)
        if len(ours) != len(theirs):
            yield f"{count_of(len(ours), noun)} became {len(theirs)}"
            continue
        for mine, yours in zip(ours, theirs, strict=True):
            changed = list(_changes(mine, yours, only))
            if changed:
                yield f"{noun} '{mine.node.name}': {', '.join(changed)}"


def _all(scene: Scene, kind: type) -> list[Placed]:
    return [placed for placed in scene.walk() if isinstance(placed.node.content, kind)]


def _changes(mine: Placed, yours: Placed, only: frozenset[str]) -> Iterator[str]:
    a, b = mine.world[:3, 3], yours.world[:3, 3]
    apart = float(np.linalg.norm(a - b))
    if apart > _PLACE * max(float(np.abs(a).max()), 1.0):
        yield f"moved by {apart:.3g}"
    ours, theirs = mine.node.content, yours.node.content
    if isinstance(ours, Light) and isinstance(theirs, Light):
        if ours.kind != theirs.kind:
            yield f"{ours.kind} became {theirs.kind}"
            return
        turned = _between(mine, ours.direction, yours, theirs.direction) if ours.kind != "point" else 0.0
        values: dict[str, tuple[Any, Any]] = {
            "colour": (ours.color, theirs.color),
            "intensity": (ours.intensity, theirs.intensity),
        }
        if ours.kind != "directional":
            values["reach"] = ours.reach or 0.0, theirs.reach or 0.0
        if ours.kind == "spot":
            values["cone"] = ours.cone, theirs.cone
    elif isinstance(ours, Camera) and isinstance(theirs, Camera):
        if ours.perspective != theirs.perspective:
            yield "perspective changed"
            return
        turned = _between(mine, ours.direction, yours, theirs.direction)
        values = {"height of view": (ours.height, theirs.height)}
    else:
        return
    if turned > _ANGLE:
        yield f"turned by {turned:.3g}°"
    for what, (left, right) in values.items():
        if only and what not in only:
            continue
        if not np.allclose(left, right, rtol=_SHARE, atol=_SHARE):
            yield f"{what} {_said(left)} became {_said(right)}"


def _between(mine: Placed, ours: Any, yours: Placed, theirs: Any) -> float:
    """Degrees between two directions in the world."""
    a, b = (placed.world[:3, :3] @ np.asarray(way, float) for placed, way in ((mine, ours), (yours, theirs)))
    return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b)))


def _said(value: Any) -> str:
    return " ".join(f"{one:.4g}" for one in np.atleast_1d(np.asarray(value, float)))
