"""The frame an output is written in."""

from __future__ import annotations

from collections.abc import Iterable

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


def worked_in(kinds: Iterable[Format], space: Frame | None, axes: str | None, unit: str | float | None) -> Frame:
    """The frame in which a scene is made ready for some formats.

    It is the target's, or the one that is asked for, whichever formats there are, so that a format gets the same
    numbers alone and among others; those that know one space only turn the scene themselves. Without a target it is
    that of the formats.

    Raises
    ------
    UsageError
        When another is asked for and a format has only one.
    """
    frames = {kind.frame.unit is None: frame_in(kind, space, axes, unit) for kind in kinds}
    return space if space is not None and True not in frames else frames[max(frames)]
