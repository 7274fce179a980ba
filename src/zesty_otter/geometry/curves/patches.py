"""B-spline patches with loops in their parameters, sewn into bodies."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from zesty_otter.geometry.curves.curves import Curve, Floats, Mapped, Spline
from zesty_otter.geometry.curves.faceting import Body, Edge, Face
from zesty_otter.geometry.curves.surfaces import SplineSurface


@dataclass
class Patches:
    """Faces that share the edges which are the same from end to end.

    Curves of loops lie in the plane z = 0, whose x and y are the parameters u and v.
    """

    places: list[Floats] = field(default_factory=list)
    edges: list[Edge] = field(default_factory=list)
    faces: list[Face] = field(default_factory=list)
    known_vertices: dict[tuple[float, ...], int] = field(default_factory=dict)
    known_edges: dict[tuple[object, ...], int] = field(default_factory=dict)

    def body(self) -> Body:
        return Body(np.array(self.places, float).reshape(-1, 3), self.edges, self.faces)

    def add(self, surface: SplineSurface, loops: Sequence[Sequence[Curve]] = (), *, whole: bool = True) -> None:
        """A patch within its sides, where ``whole``, and loops.

        Parameters
        ----------
        surface : SplineSurface
        loops : sequence of sequence of Curve
            Each closed, or all but closed, by curves that follow each other; which way they run does not matter.
        whole : bool
            False where the loops hold the outer one.
        """
        bounds = [bound] if whole and (bound := self._sides(surface)) else []
        for loop in loops:
            bounds.append(self._loop(surface, loop))
        kept = tuple(tuple(bound) for bound in bounds if bound)
        if kept or whole:
            self.faces.append(Face(surface, kept))

    def _vertex(self, place: Floats) -> int:
        key = tuple(float(f"{one:.9e}") + 0.0 for one in place)
        if key not in self.known_vertices:
            self.known_vertices[key] = len(self.places)
            self.places.append(np.asarray(place, float))
        return self.known_vertices[key]

    def _sides(self, surface: SplineSurface) -> list[tuple[int, bool]]:
        """The loop along the four sides: along u, along v, back along u, back along v."""
        control, (along_u, along_v), (p, q) = surface.control, surface.knots, surface.degree
        sides = (
            (control[:, 0], along_u, p, True),
            (control[-1], along_v, q, True),
            (control[:, -1], along_u, p, False),
            (control[0], along_v, q, False),
        )
        held = all(_is_held(knots, degree) for knots, degree in ((along_u, p), (along_v, q)))
        found = []
        for n, (row, knots, degree, forward) in enumerate(sides):
            curve: Curve = Spline(knots, degree, np.ascontiguousarray(row)) if held else _side_of(surface, n)
            edge = self._edge(curve, (row.tobytes(), knots.tobytes()) if held else (id(surface), n))
            if edge is not None:
                found.append((edge[0], edge[1] == forward))
        return found

    def _edge(self, curve: Curve, key: tuple[object, ...]) -> tuple[int, bool] | None:
        """An edge, and whether it is gone along forward; None where it is a point."""
        low, high = curve.span
        ends = curve.at(np.array([low, high]))
        around = curve.at(np.linspace(low, high, 9))
        size = float(np.ptp(around, axis=0).max())
        if size <= 1e-9 * (1.0 + float(np.abs(around).max())):
            return None
        start, end = self._vertex(ends[0]), self._vertex(ends[1])
        if key in self.known_edges:
            return self.known_edges[key], True
        if start != end or size > 0:
            # The same edge from a neighbour may run the other way.
            middle = tuple(float(f"{one:.6e}") + 0.0 for one in around[4])
            for a, b, forward in ((start, end, True), (end, start, False)):
                shared = self.known_edges.get(("place", a, b, middle))
                if shared is not None:
                    return shared, forward
            self.known_edges["place", start, end, middle] = len(self.edges)
        self.known_edges[key] = len(self.edges)
        self.edges.append(Edge(curve, low, high, start, end))
        return len(self.edges) - 1, True

    def _loop(self, surface: SplineSurface, loop: Sequence[Curve]) -> list[tuple[int, bool]]:
        found = []
        for curve in loop:
            edge = self._edge(on_surface(surface, curve), (id(surface), id(curve)))
            if edge is not None:
                found.append(edge)
        return found


def on_surface(surface: SplineSurface, flat: Curve) -> Curve:
    """A curve of parameters as one in space."""

    def turn(uv: Floats, slope: Floats) -> Floats:
        du, dv = surface.slopes(uv[:, :2])
        return slope[:, :1] * du + slope[:, 1:2] * dv

    return Mapped(flat, lambda uv: surface.at(uv[:, :2]), turn)


def _is_held(knots: Floats, degree: int) -> bool:
    """Whether a curve begins and ends at its first and last control points."""
    return bool(knots[0] == knots[degree] and knots[-1] == knots[-degree - 1])


def _side_of(surface: SplineSurface, n: int) -> Curve:
    (u0, v0), (u1, v1) = surface.box
    a, b = (((u0, v0), (u1, v0)), ((u1, v0), (u1, v1)), ((u0, v1), (u1, v1)), ((u0, v0), (u0, v1)))[n]
    axis = n % 2
    knots = surface.knots[axis]
    inner = np.unique(knots[surface.degree[axis] : -surface.degree[axis]])
    share = (inner - inner[0]) / (inner[-1] - inner[0])
    control = np.zeros((len(share), 4))
    control[:, :2] = np.array(a) + share[:, None] * (np.array(b) - np.array(a))
    control[:, 3] = 1.0
    along = Spline(np.concatenate([inner[:1], inner, inner[-1:]]), 1, control)
    return on_surface(surface, along)
