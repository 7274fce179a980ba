"""How exact curves and surfaces become polygons, in one word for all of it."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from zesty_otter.errors import UsageError
from zesty_otter.geometry.curves.limits import KINDS, Limits
from zesty_otter.model import Scene, count_of, parse_length, seen_bounds

EXACT = "exact surfaces became polygons"
"""How the remark begins that readers make where they met some."""

DENSITIES = (0.0, 0.25, 0.5, 0.75, 1.0)
"""Densities whose triangles are told of a file with exact surfaces."""

_MANY = 2000  # surfaces, from which on fewer densities are tried

_REMEDY = (
    "Write words such as 'chord=0.2mm angle=20 shortest=1mm', 'density=0.7', 'quads' or 'ngons'; chord also takes a"
    " share of the size, such as 0.1%."
)


@dataclass(frozen=True)
class Facets:
    """How exact curves and surfaces become polygons.

    Parameters
    ----------
    density : float
        From 0, coarse, to 1, fine: what sets all that is not said itself.
    chord : float or str, optional
        The most that polygons may be off: a length (metres, or text with a unit), or a share of each part's size such
        as ``"0.1%"``.
    angle : float, optional
        The most that normals of neighbours may turn, in degrees.
    shortest, longest : float or str, optional
        Lengths that edges are not divided below, and are not longer than.
    kind : str
        ``triangles``, ``quads`` or ``ngons``.
    level : int or str, optional
        How often cages of subdivision surfaces are divided: a number, or ``auto``, as often as the chord error asks.
        They stay cages when absent.
    uvs : bool
        Make UVs from the parameters of surfaces, one metre for one metre.
    unit : float, optional
        The length of one unit of the file in metres, where the file does not say.

    Examples
    --------
    >>> Facets.parsed("density=0.3 ngons").kind
    'ngons'
    """

    density: float = 0.5
    chord: float | str | None = None
    angle: float | None = None
    shortest: float | str | None = None
    longest: float | str | None = None
    kind: str = "triangles"
    level: int | str | None = None
    uvs: bool = False
    unit: float | None = None

    def __post_init__(self) -> None:
        if not 0 <= self.density <= 1:
            raise UsageError(f"a density of {self.density:g} is not from 0 to 1.", remedy=_REMEDY)
        if self.kind not in KINDS:
            raise UsageError(f"'{self.kind}' is not a kind of facets.", remedy=_REMEDY)
        if self.angle is not None and not 0 < self.angle <= 120:
            raise UsageError(f"an angle of {self.angle:g} degrees is not above 0 and up to 120.", remedy=_REMEDY)
        if self.level not in (None, "auto", *range(7)):
            raise UsageError(f"a level of {self.level} is neither from 0 to 6 nor auto.", remedy=_REMEDY)
        for name in ("chord", "shortest", "longest"):
            value = getattr(self, name)
            share, length = _share_or_length(value) if value is not None else (None, 1.0)
            if not (share or length or 0) > 0 or (share is not None and name != "chord"):
                raise UsageError(f"'{value}' is not a length for {name}.", remedy=_REMEDY)

    @classmethod
    def parsed(cls, text: str | Facets | None) -> Facets:
        """From words: ``'chord=0.2mm angle=20 shortest=1mm'``, ``'density=0.3'``, ``'ngons'``.

        Raises
        ------
        UsageError
            When a word is not known.
        """
        if text is None or isinstance(text, Facets):
            return text or cls()
        if not isinstance(text, str):
            raise UsageError(f"facets cannot be {text!r}.", remedy=_REMEDY)
        said: dict[str, Any] = {}
        for word in re.split(r"[\s,]+", text.strip()):
            name, equals, value = word.partition("=")
            if word in KINDS:
                said["kind"] = word
            elif word == "uvs":
                said["uvs"] = True
            elif equals and name == "level":
                said["level"] = int(value) if value.isdecimal() else value
            elif equals and name in ("density", "angle"):
                try:
                    said[name] = float(value.removesuffix("°"))
                except ValueError:
                    raise UsageError(f"'{value}' is not a number for {name}.", remedy=_REMEDY) from None
            elif equals and name in ("chord", "shortest", "longest"):
                said[name] = value
            elif word:
                raise UsageError(f"'{word}' is not a word of facets.", remedy=_REMEDY)
        return cls(**said)

    def limits(self, size: float, unit: float) -> Limits:
        """For a part of a size, both in units of the given length in metres.

        Parameters
        ----------
        size : float
        unit : float

        Returns
        -------
        Limits
        """
        share = 10 ** (-1.7 - 2 * self.density)
        chord = share * size
        if self.chord is not None:
            part, length = _share_or_length(self.chord)
            chord = part * size if part is not None else (length or 0.0) / unit
        angle = math.radians(self.angle if self.angle is not None else 60.0 / 8**self.density)
        shortest = parse_length(self.shortest) / unit if self.shortest is not None else 1.5 * share * size
        if self.shortest is None:
            shortest = min(shortest, 4 * chord)
        longest = parse_length(self.longest) / unit if self.longest is not None else math.inf
        return Limits(max(chord, 1e-7 * size), angle, shortest, max(longest, 1e-5 * size), self.kind)


@dataclass(frozen=True)
class ExactFacts:
    """What exact surfaces a file holds.

    Parameters
    ----------
    surfaces : tuple of (str, int)
        How many of each kind, the commonest first.
    size : (float, float, float) or None
        Width, height and depth, in metres, as the finest polygons measure.
    triangles : tuple of (float, int)
        What each density gives, all copies counted.
    """

    surfaces: tuple[tuple[str, int], ...]
    size: tuple[float, float, float] | None
    triangles: tuple[tuple[float, int], ...]


def _share_or_length(value: float | str) -> tuple[float | None, float | None]:
    if isinstance(value, str) and value.endswith("%"):
        try:
            return float(value[:-1]) / 100, None
        except ValueError:
            raise UsageError(f"'{value}' is not a share.", remedy=_REMEDY) from None
    return None, parse_length(value)


def became(surfaces: Mapping[str, int]) -> str:
    """The remark that exact surfaces became polygons."""
    said = ", ".join(count_of(count, f"{kind} surface") for kind, count in _sorted(surfaces))
    return f"{EXACT} ({said}); --facets says how fine"


def facts_of(
    read: Callable[[Facets], tuple[Scene, Mapping[str, int]]], progress: Callable[[float], None] | None = None
) -> ExactFacts:
    """What a file holds: ``read`` gives its scene, and how many surfaces of each kind there are."""
    triangles: list[tuple[float, int]] = []
    densities = list(DENSITIES)
    while densities:
        density = densities.pop(0)
        scene, surfaces = read(Facets(density))
        meshes = (one.node.mesh for one in scene.walk())
        triangles.append((density, sum(mesh.triangle_count for mesh in meshes if mesh is not None)))
        if sum(surfaces.values()) > _MANY:
            densities = [one for one in densities if one in (0.5, 1.0)]
        if progress is not None:
            progress(len(triangles) / (len(triangles) + len(densities)))
    box = seen_bounds(scene)
    sides = scene.frame.sides(box) if np.isfinite(box).all() else None
    unit = scene.frame.unit or 1.0
    size = None if sides is None else (sides[0] * unit, sides[1] * unit, sides[2] * unit)
    return ExactFacts(_sorted(surfaces), size, tuple(triangles))


def _sorted(surfaces: Mapping[str, int]) -> tuple[tuple[str, int], ...]:
    return tuple(sorted(surfaces.items(), key=lambda one: (-one[1], one[0])))
