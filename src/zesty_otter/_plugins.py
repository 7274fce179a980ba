"""What packages of others add, by entry points."""

from __future__ import annotations

from functools import cache
from typing import Any

from zesty_otter.errors import UsageError


@cache
def _entry_points() -> Any:
    from importlib.metadata import entry_points

    return entry_points()


@cache
def plugins(group: str) -> tuple[Any, ...]:
    """What the entry points of a group name, loaded, in the order of their names.

    Raises
    ------
    UsageError
        When one of them cannot be loaded.
    """
    found = []
    for point in sorted(_entry_points().select(group=group), key=lambda one: one.name):
        try:
            found.append(point.load())
        except Exception as error:  # whatever a package of somebody else does wrong when it is imported
            owner = point.dist.name if point.dist else point.value
            raise UsageError(
                f"'{point.name}' of the package {owner} cannot be loaded: {type(error).__name__}: {error}.",
                remedy=f"Update or remove {owner}.",
            ) from error
    return tuple(found)
