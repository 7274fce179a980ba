"""The frame an output is written in."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_otter.errors import UsageError
from zesty_otter.formats import Format
from zesty_otter.model import Frame, format_unit

_REMEDY = "Leave unit and axes of the output out; whatever reads the file turns it into its own frame."


def frame_in(kind: Format, space: Frame | None, axes: str | None, unit: str | float | None) -> Frame:
    """The frame a format is written in: of those it can be in, the one that is asked for or comes nearest.

    Parameters
    ----------
    kind : Format
    space : Frame, optional
        The space of the target.
    axes, unit : str, optional
        What is asked for instead.

    Raises
    ------
    UsageError
        When axes or a unit are asked for that the format cannot say.
    """
    asked = Frame(axes or (space or kind.frame).axes, (space or kind.frame).unit if unit is None else unit)
    if kind.frame.unit is not None and asked != kind.frame and (axes or unit):
        said = f"always in {format_unit(kind.frame.unit)} with axes '{' '.join(kind.frame.axes)}'"
        raise UsageError(f"a {kind.suffixes[0]} file is {said}.", remedy=_REMEDY)
    can = [kind.frame.axes, *(Frame(one).axes for one in kind.spaces)]
    if kind.axes_vary or asked.axes in can:
        return kind.frame if kind.frame.unit is not None else asked
    if axes:
        known = " or ".join(f"'{' '.join(one)}'" for one in can)
        raise UsageError(f"a {kind.suffixes[0]} file can only have the axes {known}.", remedy=_REMEDY)
    same_up = next((one for one in can if Frame(one).up[0] == asked.up[0]), can[0])
    return Frame(same_up, asked.unit if kind.frame.unit is None else kind.frame.unit)


def worked_in(kinds: Sequence[Format], space: Frame | None, axes: str | None, unit: str | float | None) -> Frame:
    """The frame in which a scene is made ready for some formats.

    It is the target's, or the one that is asked for, whichever formats there are, so that a format gets the same
    numbers alone and among others; those that cannot be in it turn the scene themselves. Without a target it is
    that of the formats.

    Raises
    ------
    UsageError
        When another is asked for than a format can be in.
    """
    for kind in kinds:
        frame_in(kind, space, axes, unit)
    free = [kind.frame for kind in kinds if kind.frame.unit is None]
    base = space or (free or [kinds[0].frame])[0]
    return Frame(axes or base.axes, base.unit if unit is None else unit)
