"""How far polygons may be from curved shapes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

KINDS = ("triangles", "quads", "ngons")
"""What polygons curved shapes become: triangles; grids of quads where a surface is one; whole flat faces as well."""


@dataclass(frozen=True)
class Limits:
    """How far polygons may be from what they stand for.

    Parameters
    ----------
    chord : float
        The most that they may be off.
    angle : float
        The most that normals of neighbours may turn, in radians.
    shortest : float
        Edges are not divided into shorter pieces.
    longest : float
        No piece of an edge is longer; infinite where that does not matter.
    kind : str
        One of `KINDS`.
    """

    chord: float
    angle: float
    shortest: float = 0.0
    longest: float = math.inf
    kind: str = "triangles"

    def step(self, curvature: NDArray[np.float64], share: float = 1.0) -> NDArray[np.float64]:
        """How long a piece may be where a curve bends so much; ``share`` is the part of the chord error it may use."""
        bent = np.maximum(curvature, 1e-300)
        most = np.minimum(np.sqrt(8 * share * self.chord / bent), self.angle / bent)
        # No piece turns by more than a third of a circle, however short the others would be.
        most = np.minimum(np.maximum(most, self.shortest), 2 * math.pi / 3 / bent)
        return np.minimum(most, self.longest)
