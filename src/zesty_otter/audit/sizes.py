"""What a size compares with: the table that settles which unit a file is in."""

from __future__ import annotations

import math
from dataclasses import dataclass

from zesty_otter.model import UNITS

# Everyday things by their largest dimension in metres.
_THINGS = (
    (0.001, "a grain of sand"),
    (0.01, "a fingernail"),
    (0.025, "a coin"),
    (0.1, "a mug"),
    (0.3, "a shoe"),
    (0.9, "a chair"),
    (1.8, "a person"),
    (4.5, "a car"),
    (9.0, "a house"),
    (18.0, "a lorry with trailer"),
    (45.0, "a church"),
    (110.0, "a football pitch"),
    (400.0, "a container ship"),
    (1500.0, "a village"),
    (8000.0, "a mountain"),
)


@dataclass(frozen=True)
class SizeGuess:
    """What a size would be in one unit.

    Parameters
    ----------
    unit : str
    size : (float, float, float)
        In metres, along the file's axes.
    height : float
        In metres.
    like : str
        Something of that size.
    """

    unit: str
    size: tuple[float, float, float]
    height: float
    like: str


def likeness(metres: float) -> str:
    """The everyday thing whose largest dimension is nearest to ``metres``, in proportion.

    Parameters
    ----------
    metres : float

    Returns
    -------
    str

    Examples
    --------
    >>> likeness(1.8)
    'a person'
    """
    if not math.isfinite(metres) or metres <= 0:
        return "nothing: it has no size"
    if metres < _THINGS[0][0] / 2:
        return f"smaller than {_THINGS[0][1]}"
    if metres > _THINGS[-1][0] * 2:
        return f"larger than {_THINGS[-1][1]}"
    return min(_THINGS, key=lambda thing: abs(math.log(metres / thing[0])))[1]


def size_guesses(size: tuple[float, float, float], up: int) -> list[SizeGuess]:
    """What a size in unknown units would be in each of the usual ones.

    Parameters
    ----------
    size : three lengths in the file's unit
    up : index of the vertical axis

    Returns
    -------
    list of SizeGuess

    Examples
    --------
    >>> [(guess.unit, round(guess.height, 3)) for guess in size_guesses((213.0, 91.0, 731.0), 1)][:2]
    [('mm', 0.091), ('cm', 0.91)]
    """
    guesses = []
    for unit, metres in UNITS.items():
        scaled = (size[0] * metres, size[1] * metres, size[2] * metres)
        guesses.append(SizeGuess(unit, scaled, scaled[up], likeness(max(scaled))))
    return guesses
