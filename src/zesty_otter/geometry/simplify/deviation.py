"""How much of a shape and of its looks is lost in a lighter version, measured."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Samples, Surface, areas, mixed, sampled
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.vectors import cross, quantile

Values = tuple[NDArray[np.float32], NDArray[np.int32]]
"""A table (K, n) and its row at each corner of each triangle (T, 3)."""


@dataclass(frozen=True, eq=False)
class Shape:
    """Triangles to be compared, and what is kept of them between comparisons.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        At least one.
    normals, uvs : Values, optional
    samples : int
        How many places are looked at, besides as many corners at most.
    """

    points: NDArray[np.float64]
    triangles: NDArray[np.int32]
    normals: Values | None = None
    uvs: Values | None = None
    samples: int = 100_000

    @cached_property
    def surface(self) -> Surface:
        return Surface(self.points, self.triangles)

    @cached_property
    def places(self) -> Samples:
        return sampled(self.points, self.triangles, self.samples)

    @cached_property
    def spacing(self) -> float:
        """About how far the places are from each other."""
        return float(np.sqrt(areas(self.points, self.triangles).sum() / self.samples))

    @cached_property
    def texture_length(self) -> float:
        """The length on the surface that the texture covers once, zero when there are no UVs."""
        if self.uvs is None:
            return 0.0
        uv = self.uvs[0][self.uvs[1]].astype(np.float64)
        a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
        covered = float(np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2)
        return float(np.sqrt(areas(self.points, self.triangles).sum() / covered)) if covered > 0 else 0.0

    @cached_property
    def _edges(self) -> tuple[NDArray[np.int64], NDArray[np.bool_], NDArray[np.bool_]]:
        """The ends (E, 2) of every edge, by position, and which are borders and which are seams of the UVs."""
        corner = join_points(self.points)[self.triangles].astype(np.int64)
        ends = np.stack([corner, corner[:, [1, 2, 0]]], axis=2).reshape(-1, 2)
        turned = ends[:, 0] > ends[:, 1]
        key = ends.min(axis=1) * len(self.points) + ends.max(axis=1)
        order = np.argsort(key, kind="stable")
        key = key[order]
        first = np.concatenate([[True], key[1:] != key[:-1]])
        number = np.cumsum(first) - 1
        count = np.bincount(number)
        torn = np.zeros(len(count), bool)
        if self.uvs is not None:
            values, index = self.uvs
            uv = np.stack([values[index], values[index[:, [1, 2, 0]]]], axis=2).reshape(-1, 2, values.shape[1])
            uv[turned] = uv[turned, ::-1]
            uv = uv[order]
            differ = ~first[1:] & (uv[1:] != uv[:-1]).any(axis=(1, 2))
            torn[number[1:][differ]] = True
        return np.sort(ends[order[first]], axis=1), count == 1, torn

    def outline(self, what: str) -> NDArray[np.float64]:
        """(E, 2, 3) ends of the edges that are a ``border``, or a ``seam`` of the UVs."""
        ends, border, torn = self._edges
        return np.asarray(self.points[ends[border if what == "border" else torn]])

    def at(self, values: Values, triangle: NDArray[np.int64], shares: NDArray[np.float64]) -> NDArray[np.float64]:
        """(N, n) values somewhere on triangles."""
        return mixed(values[0][values[1]].astype(np.float64), triangle, shares)

    def normals_at(self, triangle: NDArray[np.int64], shares: NDArray[np.float64]) -> NDArray[np.float64]:
        """(N, 3) normals, those of the faces where there are no others."""
        if self.normals is not None:
            return self.at(self.normals, triangle, shares)
        a, b, c = (self.points[self.triangles[triangle, k]] for k in range(3))
        return cross(b - a, c - a)


@dataclass(frozen=True)
class Deviation:
    """What a lighter version differs by, lengths in the unit of the points.

    ``mean``, ``most`` (not exceeded by 95 in 100 places) and ``largest`` are distances of the surfaces, both
    ways; ``normals`` and ``texture`` are not exceeded by 95 in 100 places: degrees that normals turn, and how far
    the texture slides. ``border`` and ``seam`` are the farthest that these lines moved.
    """

    mean: float
    most: float
    largest: float
    normals: float
    texture: float
    border: float
    seam: float
    spacing: float


def deviation(before: Shape, after: Shape) -> Deviation:
    """Measure a lighter version against what it was made of.

    Distances are exact from places spread over either surface to the other one (P. Cignoni, C. Rocchini and
    R. Scopigno, 1998, "Metro: measuring error on simplified surfaces"); how dense these are is ``spacing``. Of a
    version without triangles everything is as far away as the shape is long.

    Parameters
    ----------
    before, after : Shape
        In the same space.

    Returns
    -------
    Deviation
        In the unit of the points.

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
    >>> flat = Shape(points, np.array([(0, 1, 2)], np.int32))
    >>> raised = Shape(points + (0.0, 0.0, 0.25), flat.triangles)
    >>> round(deviation(flat, raised).largest, 6)
    0.25
    """
    if not len(after.triangles) or not len(before.triangles):
        length = float(np.linalg.norm(np.ptp(before.points, axis=0))) if len(before.points) else 0.0
        return Deviation(length, length, length, 0.0, 0.0, 0.0, 0.0, before.spacing)
    there, near, shares = after.surface.nearest(before.places.position)
    back, _, _ = before.surface.nearest(after.places.position)
    normals = before.normals_at(before.places.triangle, before.places.shares)
    turned = _angle(normals, after.normals_at(near, shares))
    # Where two shells touch the nearest is at times the other one's, which faces the other way.
    astray = np.flatnonzero(turned > 90)
    further, other, own_shares = after.surface.nearest(before.places.position[astray], normals[astray])
    as_near = (other >= 0) & (further <= there[astray] + before.spacing)
    astray = astray[as_near]
    near[astray], shares[astray] = other[as_near], own_shares[as_near]
    turned[astray] = _angle(normals[astray], after.normals_at(near[astray], shares[astray]))
    slid = np.zeros(1)
    if before.uvs is not None and after.uvs is not None:
        own = before.at(before.uvs, before.places.triangle, before.places.shares)
        slid = np.linalg.norm(after.at(after.uvs, near, shares) - own, axis=1) * before.texture_length
    both = np.concatenate([there, back])
    return Deviation(
        float(both.mean()),
        float(quantile(both, 0.95)),
        float(both.max()),
        float(quantile(turned, 0.95)),
        float(quantile(slid, 0.95)),
        _drift(before.outline("border"), after.outline("border")),
        _drift(before.outline("seam"), after.outline("seam")),
        before.spacing,
    )


def _angle(one: NDArray[np.float64], other: NDArray[np.float64]) -> NDArray[np.float64]:
    """Degrees between directions, zero where one has none."""
    length = np.linalg.norm(one, axis=1) * np.linalg.norm(other, axis=1)
    cosine = np.einsum("ij,ij->i", one, other) / np.where(length > 0, length, 1.0)
    return np.asarray(np.degrees(np.arccos(np.clip(np.where(length > 0, cosine, 1.0), -1, 1))))


def _drift(before: NDArray[np.float64], after: NDArray[np.float64]) -> float:
    """The farthest that any of some lines (E, 2, 3) is from others, both ways; zero when either has none."""
    if not len(before) or not len(after):
        return 0.0
    farthest = 0.0
    for one, other in ((before, after), (after, before)):
        # A line is a triangle without area.
        surface = Surface(other.reshape(-1, 3), np.arange(2 * len(other), dtype=np.int32).reshape(-1, 2)[:, [0, 1, 1]])
        steps = np.linspace(0.0, 1.0, 5)[:, None, None]
        places = (one[:, 0] + steps * (one[:, 1] - one[:, 0])).reshape(-1, 3)
        farthest = max(farthest, float(surface.nearest(places)[0].max()))
    return farthest
