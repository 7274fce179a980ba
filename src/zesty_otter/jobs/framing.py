"""The frame an output is written in."""

from __future__ import annotations

from zesty_otter.errors import UsageError
from zesty_otter.formats import Format
from zesty_otter.model import Frame, format_unit


def frame_in(kind: Format, space: Frame | None, axes: str | None, unit: str | float | None) -> Frame:
    """The frame to write a format in: the format's own where it has only one.

    Raises
    ------
    UsageError
        When another is asked for and the format has only one.
    """
    fixed = kind.frame
    asked = space or fixed
    asked = Frame(axes or asked.axes, asked.unit if unit is None else unit)
    if fixed.unit is not None and asked != fixed and (axes or unit):
        raise UsageError(
            f"a {kind.suffixes[0]} file is always in {format_unit(fixed.unit)} with axes '{' '.join(fixed.axes)}'.",
            remedy="Leave unit and axes of the output out; whatever reads the file turns it into its own frame.",
        )
    return fixed if fixed.unit is not None else asked
