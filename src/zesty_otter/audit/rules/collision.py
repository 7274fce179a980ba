"""Rules on what is solid."""

from __future__ import annotations

import numpy as np

from zesty_otter.audit.rules.base import Found, Spot, Subject, rule
from zesty_otter.model import format_length


@rule("collision-not-convex", "error", "collision existing=replace")
def _collision_not_convex(subject: Subject) -> Found:
    """A collision part that is not convex."""
    for facts in subject.collision:
        if not facts.convex and facts.shape != "surface":
            yield facts.asset, "has collision that is not convex"


@rule("collision-pivot", "warning", "collision")
def _collision_pivot(subject: Subject) -> Found:
    """Collision with a pivot of its own."""
    for asset in subject.assets:
        for one in asset.rest:
            beside = one.node.role == "collision" and asset.main and one.parent == asset.main[0].parent
            if beside and not np.allclose(one.world[:3, 3], asset.main[0].world[:3, 3], rtol=0, atol=1e-6):
                yield one.node.name, f"does not share the pivot of {asset.main[0].node.name}"


@rule("collision-dressed", "warning", "collision")
def _collision_dressed(subject: Subject) -> Found:
    """Collision with materials."""
    for one in subject.solid:
        mesh = one.node.drawn
        if mesh is not None and any(slot is not None for slot in mesh.slots):
            yield one.node.name, "has materials; collision needs none"


@rule("footing", "warning", "collision existing=replace")
def _footing(subject: Subject) -> Found:
    """Collision that makes feet float, sink or fall through."""
    most = subject.target.limits.footing
    for facts in subject.collision:
        off = max(facts.floats, facts.sinks)
        if off > most:
            how = "float" if facts.floats >= facts.sinks else "sink"
            where = "" if facts.worst_at is None else " at " + ", ".join(f"{v:.3g}" for v in facts.worst_at)
            yield Spot(facts.asset, f"feet {how} by {format_length(off)}{where}", facts.worst_at)
        if facts.falls > 0.01:
            yield facts.asset, f"feet fall through in {100 * facts.falls:.2g} % of the places one can stand on"
