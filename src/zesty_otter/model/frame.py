"""Which way the axes of a space point, and how long one unit is.

A frame's axes are three words, for +X, +Y and +Z, from the asset's own point of view: ``left up
forward`` means that +X is the asset's left, +Y its top, and that it looks along +Z. Three words name all
48 spaces; handedness follows from them. Everything that converts between spaces is built on
`Frame.matrix_to`.
"""

from __future__ import annotations

import functools
import itertools
import math
import re
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zesty_otter.errors import UsageError

if TYPE_CHECKING:  # frames are told and compared without NumPy, which takes most of the time of small commands
    import numpy as np
    from numpy.typing import NDArray

# Directions in the right-handed reference space that every frame is compared in: left, up, forward.
_DIRECTIONS = {
    "left": (1.0, 0.0, 0.0),
    "right": (-1.0, 0.0, 0.0),
    "up": (0.0, 1.0, 0.0),
    "down": (0.0, -1.0, 0.0),
    "forward": (0.0, 0.0, 1.0),
    "back": (0.0, 0.0, -1.0),
}

UNITS = {"mm": 0.001, "cm": 0.01, "m": 1.0, "in": 0.0254, "ft": 0.3048, "yd": 0.9144}
"""Unit names and their lengths in metres."""

_SPELLINGS = {
    **dict.fromkeys(("millimetre", "millimetres", "millimeter", "millimeters"), "mm"),
    **dict.fromkeys(("centimetre", "centimetres", "centimeter", "centimeters"), "cm"),
    **dict.fromkeys(("metre", "metres", "meter", "meters"), "m"),
    **dict.fromkeys(("inch", "inches"), "in"),
    **dict.fromkeys(("foot", "feet"), "ft"),
}
"""Other ways people write them."""


def _unit_name(text: str) -> str:
    name = text.strip().lower()
    return _SPELLINGS.get(name, name)


@dataclass(frozen=True)
class Frame:
    """A space: what +X, +Y and +Z mean, and the length of one unit.

    Parameters
    ----------
    axes : str or tuple of str
        Three of the words ``left right up down forward back``, one of each pair.
    unit : float, str or None
        Metres in one unit, a name from `UNITS`, or None when nobody has said.

    Raises
    ------
    UsageError
        When the words do not span a space or the unit is not a positive length.
    """

    axes: tuple[str, str, str]
    unit: float | None = None

    def __init__(self, axes: str | tuple[str, ...], unit: float | str | None = None) -> None:
        object.__setattr__(self, "axes", parse_axes(axes))
        object.__setattr__(self, "unit", None if unit is None else parse_unit(unit))

    @property
    def basis(self) -> NDArray[np.float64]:
        """(3, 3) columns: where +X, +Y and +Z point, in the order left, up, forward."""
        return _basis(self.axes)

    @property
    def right_handed(self) -> bool:
        """Whether the axes are those of a right hand."""
        (a, b, c), (d, e, f), (g, h, i) = (_DIRECTIONS[word] for word in self.axes)
        return a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g) > 0

    @property
    def up(self) -> tuple[int, float]:
        """The axis that is vertical (0, 1 or 2) and the sign of its upward direction."""
        return self.towards("up")

    def sides(self, box: NDArray[np.float64]) -> tuple[float, float, float]:
        """Width (left to right), height and depth (front to back) of a box (2, 3) along the axes.

        Parameters
        ----------
        box : (2, 3) float64
            Its lowest and its highest corner, in this frame.

        Returns
        -------
        width, height, depth : float
            In the unit of the box.

        Examples
        --------
        >>> import numpy as np
        >>> import zesty_otter as zo
        >>> zo.Frame("left up forward", "m").sides(np.array([[0, 0, 0], [1, 2, 3.0]]))
        (1.0, 2.0, 3.0)
        """
        sides = box[1] - box[0]
        width, height, depth = (float(sides[self.towards(word)[0]]) for word in ("left", "up", "forward"))
        return width, height, depth

    def towards(self, word: str) -> tuple[int, float]:
        """The axis (0, 1 or 2) and sign (+1 or -1) that point ``word``-wards.

        Parameters
        ----------
        word : {"right", "left", "up", "down", "forward", "back"}

        Returns
        -------
        axis : int
        sign : float

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.Frame("left up forward", "m").towards("right")
        (0, -1.0)
        """
        return _towards(self.axes, word)

    def matrix_to(self, other: Frame) -> NDArray[np.float64]:
        """(3, 3) matrix that takes a position in this frame to the same position in ``other``.

        Lengths are converted when both frames know their unit, and kept otherwise.

        Parameters
        ----------
        other : Frame

        Returns
        -------
        (3, 3) float64
            Multiplied with a column of coordinates in this frame it gives those in the other.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> lying, standing = zo.Frame("right forward up", "cm"), zo.Frame("left up forward", "m")
        >>> (lying.matrix_to(standing) @ [0, 0, 100]).tolist()
        [0.0, 1.0, 0.0]
        """
        scale = self.unit / other.unit if self.unit and other.unit else 1.0
        return scale * (other.basis.T @ self.basis)

    def __str__(self) -> str:
        return f"{' '.join(self.axes)}, {format_unit(self.unit)}"


@functools.cache
def _basis(axes: tuple[str, str, str]) -> NDArray[np.float64]:
    import numpy as np

    basis = np.array([_DIRECTIONS[word] for word in axes]).T
    basis.flags.writeable = False  # all frames with these axes get the same
    return basis


@functools.lru_cache(maxsize=512)
def _towards(axes: tuple[str, str, str], word: str) -> tuple[int, float]:
    along = [sum(a * b for a, b in zip(_DIRECTIONS[one], _DIRECTIONS[word], strict=True)) for one in axes]
    axis = next(k for k in range(3) if along[k])
    return axis, along[axis]


@functools.lru_cache(maxsize=256)
def parse_axes(axes: str | tuple[str, ...]) -> tuple[str, str, str]:
    """Three direction words as a tuple, from text such as ``"left up forward"``."""
    if not isinstance(axes, str | tuple | list):
        raise UsageError(f"axes must be three words, not {axes!r}.", remedy="Write for example 'left up forward'.")
    words = re.split(r"[\s,\-]+", axes.strip().lower()) if isinstance(axes, str) else [str(word) for word in axes]
    unknown = [word for word in words if word not in _DIRECTIONS]
    if len(words) != 3 or unknown:
        raise UsageError(
            f"axes '{' '.join(words)}' are not three of the words left, right, up, down, forward, back.",
            remedy="Name what +X, +Y and +Z mean for the asset, for example 'left up forward'.",
        )
    if len({tuple(map(abs, _DIRECTIONS[word])) for word in words}) < 3:
        raise UsageError(
            f"axes '{' '.join(words)}' name one direction twice.",
            remedy="Use one of left/right, one of up/down and one of forward/back.",
        )
    return words[0], words[1], words[2]


def all_axes() -> list[tuple[str, str, str]]:
    """The 48 ways to name three perpendicular axes.

    Returns
    -------
    list of (str, str, str)
        What +X, +Y and +Z mean.

    Examples
    --------
    >>> len(all_axes()), all_axes()[0]
    (48, ('left', 'up', 'forward'))
    """
    pairs = (("left", "right"), ("up", "down"), ("forward", "back"))
    return [
        (words[0], words[1], words[2])
        for choice in itertools.product(*pairs)
        for words in itertools.permutations(choice)
    ]


def parse_unit(unit: float | str) -> float:
    """Metres in one unit, from a name (``"cm"``) or a number of metres.

    Parameters
    ----------
    unit : str or float

    Returns
    -------
    float

    Raises
    ------
    UsageError
        When it is no unit.

    Examples
    --------
    >>> parse_unit("mm")
    0.001
    """
    if isinstance(unit, str):
        name = _unit_name(unit)
        if name in UNITS:
            return UNITS[name]
        try:
            unit = float(name)
        except ValueError:
            raise UsageError(
                f"'{unit}' is not a unit.", remedy=f"Use one of {', '.join(UNITS)}, or a number of metres."
            ) from None
    if not math.isfinite(unit) or unit <= 0:
        raise UsageError(f"a unit of {unit} metres makes no sense.", remedy="Use a positive number.")
    return float(unit)


def parse_length(text: float | str) -> float:
    """A length in metres, from text with a unit (``"2cm"``, ``"1.5 m"``) or a number of metres.

    Parameters
    ----------
    text : str or float

    Returns
    -------
    float
        In metres.

    Raises
    ------
    UsageError
        When it is no length.

    Examples
    --------
    >>> parse_length("2cm")
    0.02
    """
    if not isinstance(text, str):
        return float(text)
    found = re.fullmatch(r"\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:e[-+]?\d+)?)\s*([a-z]*)\s*", text.lower())
    if not found or (found[2] and _unit_name(found[2]) not in UNITS):
        raise UsageError(f"'{text}' is not a length.", remedy="Write a number and a unit, for example 2cm or 1.8m.")
    return float(found[1]) * UNITS[_unit_name(found[2]) or "m"]


def format_unit(unit: float | None) -> str:
    """A unit's name, or its length in metres when it has none.

    Parameters
    ----------
    unit : float or None
        In metres.

    Returns
    -------
    str

    Examples
    --------
    >>> format_unit(0.01), format_unit(0.5), format_unit(None)
    ('cm', '0.5 m', 'unit unknown')
    """
    if unit is None:
        return "unit unknown"
    for name, metres in UNITS.items():
        if math.isclose(unit, metres, rel_tol=1e-9):
            return name
    return f"{unit:g} m"


def format_length(metres: float) -> str:
    """A length as people say it: ``"1.83 m"``, ``"12 cm"``, ``"4.2 km"``.

    Parameters
    ----------
    metres : float

    Returns
    -------
    str

    Examples
    --------
    >>> format_length(1.83), format_length(0.12), format_length(4200)
    ('1.83 m', '12 cm', '4.2 km')
    """
    size = abs(metres)
    if size == 0:
        return "0 m"
    for limit, factor, name in ((0.01, 1000, "mm"), (1.0, 100, "cm"), (1000.0, 1, "m")):
        if size < limit:
            return f"{metres * factor:.4g} {name}"
    return f"{metres / 1000:.4g} km" if size < 1e9 else f"{metres / 1000:.3g} km"
