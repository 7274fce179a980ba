"""What a node is there for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from zesty_otter._plugins import plugins
from zesty_otter.errors import ModelError


@dataclass(frozen=True)
class Role:
    """What a node may be there for.

    A package adds one by an entry point in the group ``zesty_otter.roles``.

    Parameters
    ----------
    name : str
    about : str
        What nodes of this role are.
    templates : tuple of str
        How names of such nodes tell it where nothing else is said, with ``{name}``, ``{level}`` and ``{n}``; the first
        is the one that is written.
    is_guide : bool
        Whether a viewer must not draw it over the asset.
    has_look : bool
        Whether normals and materials of it mean anything.
    """

    name: str
    about: str
    templates: tuple[str, ...] = ()
    is_guide: bool = False
    has_look: bool = True


class _Roles(Mapping[str, Role]):
    """Every role by name: our own, and those of other packages, which are loaded when they are asked for."""

    def __init__(self, *own: Role) -> None:
        self._own = {one.name: one for one in own}

    def _all(self) -> dict[str, Role]:
        others = plugins("zesty_otter.roles")
        for one in others:
            if not isinstance(one, Role):
                raise ModelError(f"{one!r} is not a role.", remedy="An entry point in zesty_otter.roles names a Role.")
        return {**self._own, **{one.name: one for one in others if one.name not in self._own}}

    def __getitem__(self, name: str) -> Role:
        return self._own[name] if name in self._own else self._all()[name]

    def __contains__(self, name: object) -> bool:
        return name in self._own or name in self._all()

    def __iter__(self) -> Iterator[str]:
        return iter(self._all())

    def __len__(self) -> int:
        return len(self._all())


ROLES: Mapping[str, Role] = _Roles(
    Role("visible", "What is seen near by."),
    Role("collision", "What things bump into.", ("{name}_collision_{n}", "{name}_collision"), has_look=False),
    Role("shadow", "What casts the shadow.", ("{name}_shadow",), is_guide=True, has_look=False),
    Role("level", "A lighter version, seen from farther away.", ("{name}_LOD{level}",), is_guide=True),
    Role("bounds", "A shape around everything.", ("{name}_bounds",), is_guide=True, has_look=False),
    Role("marker", "A place with a name.", ("{name}_marker_{n}", "{name}_marker"), is_guide=True),
    Role("stand-in", "A box in place of a heavy mesh.", ("{name}_stand-in",)),
)
"""What a node may be there for."""
