"""Names nobody chose."""

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
