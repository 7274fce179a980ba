"""Names nobody chose, and counts in words."""

from __future__ import annotations

import re
from collections.abc import Iterable

_NUMBERED = re.compile(r"([^\W\d_]+)[\s._-]*\d+|[\s\d._-]*")


def words_of(names: Iterable[str]) -> frozenset[str]:
    """The words that names are made of, in lower case: ``MooringPost_2`` has mooring and post."""
    found: set[str] = set()
    for name in names:
        spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name)
        found |= {word.lower() for word in re.findall(r"[^\W\d_]+", spaced)}
    return frozenset(found)


def is_default_name(name: str, known: frozenset[str] = frozenset()) -> bool:
    """Whether a program may have given this name because no person did.

    It is told by its shape: nothing but a number, or one word with a number behind it, where nothing else in the
    file, of ``known`` words (see `words_of`), has that word.

    Parameters
    ----------
    name : str
    known : frozenset of str

    Returns
    -------
    bool

    Examples
    --------
    >>> is_default_name("object_12"), is_default_name("pier_2", frozenset({"pier"}))
    (True, False)
    """
    found = _NUMBERED.fullmatch(name)
    return found is not None and (found[1] is None or found[1].lower() not in known)


def count_of(number: int, noun: str) -> str:
    """``"1 face"``, ``"2,000 faces"``: a count as notes say it.

    Parameters
    ----------
    number : int
    noun : str
        In the singular.

    Returns
    -------
    str

    Examples
    --------
    >>> count_of(2, "mesh")
    '2 meshes'
    """
    if number == 1:
        return f"1 {noun}"
    plural = f"{noun[:-1]}ies" if noun.endswith("y") else f"{noun}es" if noun.endswith(("sh", "x")) else f"{noun}s"
    return f"{number:,} {plural}"


def shortened(names: Iterable[str], most: int = 5) -> str:
    """``"hull, mast and 3 more"``: a list as notes say it, each name once.

    Parameters
    ----------
    names : iterable of str
    most : int
        How many are listed before the rest is counted.

    Returns
    -------
    str

    Examples
    --------
    >>> shortened(["hull", "mast", "hull", "boom"], most=2)
    'hull, mast and 1 more'
    """
    distinct = list(dict.fromkeys(names))
    more = len(distinct) - most
    return ", ".join(distinct[:most]) + (f" and {more:,} more" if more > 0 else "")
