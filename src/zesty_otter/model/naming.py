"""Names nobody chose, and counts in words."""

from __future__ import annotations

import re

_DEFAULT_NAME = re.compile(
    r"(default|untitled|unnamed|object|group|node|mesh|geometry|shape|cube|box|sphere|cylinder|cone|plane|torus"
    r"|circle|grid|polygon|empty|null|material|texture|none)?[\s._-]*\d*",
    re.IGNORECASE,
)


def is_default_name(name: str) -> bool:
    """Whether a program may have given this name because no person did."""
    return _DEFAULT_NAME.fullmatch(name) is not None


def count_of(number: int, noun: str) -> str:
    """``"1 face"``, ``"2,000 faces"``: a count as notes say it."""
    if number == 1:
        return f"1 {noun}"
    plural = f"{noun[:-1]}ies" if noun.endswith("y") else f"{noun}es" if noun.endswith(("sh", "x")) else f"{noun}s"
    return f"{number:,} {plural}"
