"""Rules on where things are and how large."""

from __future__ import annotations

import numpy as np

from zesty_otter.audit.rules.base import Found, Subject, rule
from zesty_otter.audit.surveying import leftover
from zesty_otter.model import format_length

SMALLEST, LARGEST = 0.005, 500.0  # metres, the plausible sizes of an asset
_COARSE = 1e-3  # metres that a position may be off by as a 32-bit number


@rule("unit-unknown", "error")
def _unit_unknown(subject: Subject) -> Found:
    """The file does not name its unit."""
    if subject.metre is None and subject.shown:
        yield "", "the unit is not known; read it with --unit"


@rule("unit-implausible", "warning", "scale factor=...")
def _unit_implausible(subject: Subject) -> Found:
    """An asset is smaller than a fingernail or larger than a ship lock."""
    for asset in subject.assets if subject.metre else ():
        box = asset.bounds()
        side = float(np.nan_to_num(box[1] - box[0]).max()) * (subject.metre or 1.0)
        if side and not SMALLEST <= side <= LARGEST:
            yield asset.name, f"is {format_length(side)} large; was it read in the wrong unit?"


@rule("transform-leftover", "warning", "bake")
def _transform_leftover(subject: Subject) -> Found:
    """A node has a leftover rotation or scale."""
    for one in subject.placed:
        parts = [part for part in leftover(one.node.transform) if part != "mirror"]
        if parts:
            yield one.node.name, f"has {' and '.join(parts)} left in its transform"


@rule("node-mirrored", "warning", "bake")
def _node_mirrored(subject: Subject) -> Found:
    """A node with negative scale mirrors its mesh."""
    for one in subject.placed:
        if "mirror" in leftover(one.node.transform):
            yield one.node.name, "is mirrored by its transform"


@rule("pivot-away", "warning", "pivot at=base")
def _pivot_away(subject: Subject) -> Found:
    """A pivot lies far outside its mesh."""
    for one in subject.shown:
        mesh = one.node.drawn
        if one.node.role != "visible" or mesh is None:
            continue
        box = mesh.surface_bounds
        off = np.linalg.norm(np.maximum(np.maximum(box[0], -box[1]), 0.0))
        if off > 0.5 * np.linalg.norm(box[1] - box[0]):
            yield one.node.name, f"its pivot is {_length(float(off), subject)} outside of the mesh"


@rule("far-away", "warning", "pivot place=origin")
def _far_away(subject: Subject) -> Found:
    """So far from the origin that 32-bit numbers are off by more than a millimetre."""
    for one in subject.shown if subject.metre else ():
        mesh = one.node.drawn
        if mesh is None:
            continue
        box = mesh.surface_bounds
        farthest = max(float(np.abs(box).max()), float(np.abs(one.world[:3, 3]).max()))
        lost = float(np.spacing(np.float32(min(farthest, 3e38)))) / 2 * (subject.metre or 1.0)
        if lost > _COARSE / 2:
            yield one.node.name, f"is so far out that positions are off by up to {format_length(2 * lost)}"


def _length(length: float, subject: Subject) -> str:
    return format_length(length * subject.metre) if subject.metre else f"{length:.4g} units"
