"""Rules on what travels along."""

from __future__ import annotations

import numpy as np

from zesty_otter.audit.rules.base import Found, Subject, rule
from zesty_otter.model import Mesh


@rule("hidden", "warning", "select drop=hidden")
def _hidden(subject: Subject) -> Found:
    """Hidden nodes."""
    for one in subject.placed:
        if not one.visible and one.node.role == "visible" and one.node.kind != "empty":
            yield one.node.name, "is hidden, and would be exported where the format cannot hide it"


@rule("empty-node", "warning")
def _empty_node(subject: Subject) -> Found:
    """Nodes without content and without children."""
    for one in subject.placed:
        if one.node.kind == "empty" and not one.node.children and one.node.role == "visible":
            yield one.node.name, "is empty"


@rule("copies", "warning")
def _copies(subject: Subject) -> Found:
    """Identical meshes that could be shared."""
    alike: dict[tuple[int, int, bytes], list[str]] = {}
    for mesh in subject.seen:
        if mesh.face_count >= 8:
            key = mesh.point_count, mesh.face_count, _shape_of(mesh)
            alike.setdefault(key, []).append(mesh.name)
    for names in alike.values():
        if len(names) > 1:
            yield names[0], f"is the same mesh as {', '.join(names[1:4])}" + (" and more" if len(names) > 4 else "")


def _shape_of(mesh: Mesh) -> bytes:
    """What meshes have in common that are the same but for where they are."""
    points = mesh.points - mesh.points.min(axis=0)
    size = float(points.max()) or 1.0
    return (points / size * 1e5).round().astype(np.int32).tobytes() + mesh.corner_point.tobytes()
