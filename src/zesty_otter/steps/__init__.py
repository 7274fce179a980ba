"""What can be done to a scene: one module per kind of fix, each step a frozen settings model."""

from zesty_otter.steps.base import Length, Step, apply
from zesty_otter.steps.names import Names
from zesty_otter.steps.pivot import Pivot
from zesty_otter.steps.reframe import Reframe
from zesty_otter.steps.scale import Scale
from zesty_otter.steps.triangulate import Triangulate

STEPS: dict[str, type[Step]] = {step.slug: step for step in (Reframe, Scale, Pivot, Names, Triangulate)}
"""Every step by its word in commands and job files."""

__all__ = ["STEPS", "Length", "Names", "Pivot", "Reframe", "Scale", "Step", "Triangulate", "apply"]
