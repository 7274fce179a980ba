"""Solids of exact surfaces as STEP text, and what their polygons measure."""

from __future__ import annotations

import math
from itertools import product
from pathlib import Path

import numpy as np

import zesty_otter as zo
from zesty_otter.demo.step_text import StepText

X, Y, Z = np.eye(3)


def written(path: Path, make, name: str = "part", **more) -> Path:
    """A file with one solid, which ``make`` adds to a `StepText`."""
    step = StepText(**more)
    step.part(name, [make(step)])
    path.write_text(step.text())
    return path


def cylinder(step: StepText, radius=1.0, height=2.0, *, seam=True, base=(0, 0, 0)) -> str:
    low = np.array(base, float)
    top = low + (0, 0, height)
    a, b = low + (radius, 0, 0), top + (radius, 0, 0)
    circle, upper = step.arc(a, a, low, Z), step.arc(b, b, top, Z)
    loops = [[(circle, True)], [(upper, False)]]
    if seam:
        line = step.line(a, b)
        loops = [[(circle, True), (line, True), (upper, False), (line, False)]]
    return step.solid("cylinder", [
        step.face(step.cylinder(low, Z, radius), *loops),
        step.face(step.plane(top, Z), [(upper, True)]),
        step.face(step.plane(low, -Z), [(circle, False)]),
    ])  # fmt: skip


def cone(step: StepText, radius=1.0, height=2.0) -> str:
    a, tip = np.array([radius, 0, 0]), np.array([0, 0, height])
    circle, side = step.arc(a, a, (0, 0, 0), Z), step.line(a, tip)
    surface = step.cone((0, 0, 0), Z, radius, -math.atan(radius / height))
    return step.solid("cone", [
        step.face(surface, [(circle, True), (side, True), (side, False)]),
        step.face(step.plane((0, 0, 0), -Z), [(circle, False)]),
    ])  # fmt: skip


def sphere(step: StepText, radius=1.0) -> str:
    low, high = -radius * Z, radius * Z
    seam = step.arc(low, high, (0, 0, 0), -Y)
    return step.solid("sphere", [step.face(step.sphere((0, 0, 0), radius), [(seam, True), (seam, False)])])


def bowl(step: StepText, radius=1.0, cut=0.6) -> str:
    """A sphere cut off at a height, with a flat top where its pole was."""
    rim = math.sqrt(radius**2 - cut**2)
    a = np.array([rim, 0, cut])
    circle = step.arc(a, a, (0, 0, cut), Z)
    return step.solid("bowl", [
        step.face(step.sphere((0, 0, 0), radius), [(circle, False)]),
        step.face(step.plane((0, 0, cut), Z), [(circle, True)]),
    ])  # fmt: skip


def torus(step: StepText, major=2.0, minor=0.5) -> str:
    a = np.array([major + minor, 0, 0])
    ring, pipe = step.arc(a, a, (0, 0, 0), Z), step.arc(a, a, (major, 0, 0), -Y)
    loop = [(ring, True), (pipe, True), (ring, False), (pipe, False)]
    return step.solid("torus", [step.face(step.torus((0, 0, 0), Z, major, minor), loop)])


def halved_torus(step: StepText, major=2.0, minor=0.5) -> str:
    """The upper half of a ring, with a flat ring below."""
    a, b = np.array([major + minor, 0, 0]), np.array([major - minor, 0, 0])
    outer, inner = step.arc(a, a, (0, 0, 0), Z), step.arc(b, b, (0, 0, 0), Z)
    return step.solid("half", [
        step.face(step.torus((0, 0, 0), Z, major, minor), [(outer, True)], [(inner, False)]),
        step.face(step.plane((0, 0, 0), -Z), [(outer, False)], [(inner, True)]),
    ])  # fmt: skip


def box(step: StepText, size=(4.0, 3.0, 2.0), radius=0.5) -> str:
    """A box with 12 rounded edges and 8 rounded corners."""
    half, inner = np.array(size) / 2, np.array(size) / 2 - radius
    faces = []

    def at(signs, axis):
        """Where a flat side ends at a corner."""
        place = inner * signs
        place[axis] = half[axis] * signs[axis]
        return place

    def line(signs, along, side):
        """The straight edge along an axis, on a side."""
        low, high = np.array(signs), np.array(signs)
        low[along], high[along] = -1, 1
        return step.line(at(low, side), at(high, side))

    def arc(signs, one, other):
        """The arc of a corner from one side to another, counter-clockwise about the third axis or against it."""
        third = 3 - one - other
        turn = np.cross(np.eye(3)[one] * signs[one], np.eye(3)[other] * signs[other])
        a, b = at(np.array(signs), one), at(np.array(signs), other)
        if turn[third] > 0:
            return step.arc(a, b, inner * signs, np.eye(3)[third]), True
        return step.arc(b, a, inner * signs, np.eye(3)[third]), False

    for axis, sign in product(range(3), (-1.0, 1.0)):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        corners = []
        for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
            signs = np.zeros(3)
            signs[axis], signs[u], signs[v] = sign, a, b
            corners.append(signs)
        loop = []
        for k, signs in enumerate(corners):
            along = (u, v)[k % 2]
            loop.append((line(signs, along, axis), k < 2))
        if sign < 0:
            loop = [(edge, not way) for edge, way in reversed(loop)]
        faces.append(step.face(step.plane(sign * half[axis] * np.eye(3)[axis], sign * np.eye(3)[axis]), loop))
    for along in range(3):
        one, other = (along + 1) % 3, (along + 2) % 3
        for a, b in product((-1.0, 1.0), repeat=2):
            low, high = np.zeros(3), np.zeros(3)
            for signs, end in ((low, -1.0), (high, 1.0)):
                signs[along], signs[one], signs[other] = end, a, b
            first, last = line(low, along, one), line(low, along, other)
            (below, below_way), (above, above_way) = arc(low, one, other), arc(high, one, other)
            loop = [(first, True), (above, above_way), (last, False), (below, not below_way)]
            if a * b > 0:
                loop = [(edge, not way) for edge, way in reversed(loop)]
            place = inner * low
            faces.append(step.face(step.cylinder(place, np.eye(3)[along], radius), loop))
    for signs in product((-1.0, 1.0), repeat=3):
        loop = [arc(signs, k, (k + 1) % 3) for k in range(3)]
        if np.prod(signs) < 0:
            loop = [(edge, not way) for edge, way in reversed(loop)]
        faces.append(step.face(step.sphere(inner * signs, radius), loop))
    return step.solid("box", faces)


def plate(step: StepText, count=10, radius=0.3, thick=0.4) -> str:
    """A flat plate with ``count`` times ``count`` holes through it."""
    size = float(count)
    corners = np.array([(0, 0, 0), (size, 0, 0), (size, size, 0), (0, size, 0)], float)
    up = np.array([0, 0, thick])
    low = [step.line(a, b) for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True)]
    high = [step.line(a + up, b + up) for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True)]
    posts = [step.line(a, a + up) for a in corners]
    faces = []
    for k in range(4):
        following = (k + 1) % 4
        along = corners[following] - corners[k]
        loop = [(low[k], True), (posts[following], True), (high[k], False), (posts[k], False)]
        faces.append(step.face(step.plane(corners[k], np.cross(along, Z)), loop))
    top, bottom = [[(one, True) for one in high]], [[(one, False) for one in reversed(low)]]
    for i, j in product(range(count), repeat=2):
        centre = np.array([i + 0.5, j + 0.5, 0.0])
        a = centre + (radius, 0, 0)
        circle, upper = step.arc(a, a, centre, Z), step.arc(a + up, a + up, centre + up, Z)
        top.append([(upper, False)])
        bottom.append([(circle, True)])
        loops = [[(circle, False)], [(upper, True)]]
        faces.append(step.face(step.cylinder(centre, Z, radius), *loops, same=False))
    faces += [step.face(step.plane(up, Z), *top), step.face(step.plane((0, 0, 0), -Z), *bottom)]
    return step.solid("plate", faces)


def quarter(step: StepText, radius=1.0, height=1.0) -> str:
    """A quarter of a cylinder whose round side is a rational B-spline surface."""
    r, h = radius, height
    points = np.array([[(r, 0, 0), (r, r, 0), (0, r, 0)], [(r, 0, h), (r, r, h), (0, r, h)]], float)
    weights = np.array([[1, math.sqrt(0.5), 1]] * 2)
    knots = ([0, 0, 1, 1], [0, 0, 0, 1, 1, 1])
    arcs = [step.spline(row, knots[1], 2, weights[0]) for row in points]
    a, b = step.line(points[0, 0], points[1, 0]), step.line(points[0, 2], points[1, 2])
    centre = step.line((0, 0, 0), (0, 0, h))
    spokes = [[step.line((0, 0, z), points[k, end]) for end in (0, 2)] for k, z in ((0, 0.0), (1, h))]
    surface = step.spline_surface(points, knots, (1, 2), weights)
    return step.solid("quarter", [
        # Along u it goes up, so that its normals point inward.
        step.face(surface, [(arcs[0], True), (b, True), (arcs[1], False), (a, False)], same=False),
        step.face(step.plane((0, 0, 0), -Z), [(spokes[0][1], True), (arcs[0], False), (spokes[0][0], False)]),
        step.face(step.plane((0, 0, h), Z), [(spokes[1][0], True), (arcs[1], True), (spokes[1][1], False)]),
        step.face(step.plane((0, 0, 0), -Y), [(spokes[0][0], True), (a, True), (spokes[1][0], False), (centre, False)]),
        step.face(step.plane((0, 0, 0), -X), [(centre, True), (spokes[1][1], True), (b, False), (spokes[0][1], False)]),
    ])  # fmt: skip


def measured(mesh: zo.Mesh) -> tuple[float, float, int]:
    """Area, volume, and how many sides are not met by one that runs the other way."""
    triangles = zo.steps.Triangulate().apply(zo.Scene.from_mesh(mesh)).meshes[0].corner_point.reshape(-1, 3)
    a, b, c = (mesh.points[triangles[:, k]] for k in range(3))
    area = float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2)
    volume = float(np.einsum("nk,nk->", a, np.cross(b, c)) / 6)
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)
    there, back = sides[:, 0] << 32 | sides[:, 1], sides[:, 1] << 32 | sides[:, 0]
    return area, volume, int((~np.isin(there, back)).sum()) + len(there) - len(np.unique(there))


ROUND = np.array([(1, 0), (1, 1), (0, 1), (-1, 1), (-1, 0), (-1, -1), (0, -1), (1, -1), (1, 0)], float)
WEIGHT = np.array([1, math.sqrt(0.5)] * 4 + [1])
KNOTS = [0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 4]


def turned(step: StepText, outline: np.ndarray, weights: np.ndarray, knots: list[float]) -> str:
    """The rational B-spline surface of an outline (n, 2) of radius and height turned round z."""
    points = np.array([[(r * x, r * y, z) for r, z in outline] for x, y in ROUND])
    return step.spline_surface(points, (KNOTS, knots), (2, 2), np.outer(WEIGHT, weights))


def globe(step: StepText) -> str:
    """A sphere as a B-spline surface: closed along u, and a point at either end of v."""
    outline = np.array([(0, -1), (1, -1), (1, 0), (1, 1), (0, 1)], float)
    weights, knots = WEIGHT[:5], [0, 0, 0, 1, 1, 2, 2, 2]
    seam = step.spline(np.insert(outline, 1, 0.0, axis=1), knots, 2, weights)
    return step.solid("globe", [step.face(turned(step, outline, weights, knots), [(seam, True), (seam, False)])])


def patched(step: StepText) -> str:
    """A torus as a B-spline surface, closed both ways, with inner knots of full multiplicity."""
    outline = np.stack([2 + 0.5 * ROUND[:, 0], 0.5 * ROUND[:, 1]], axis=1)
    ring = step.spline(np.insert(2.5 * ROUND, 2, 0.0, axis=1), KNOTS, 2, WEIGHT)
    pipe = step.spline(np.insert(outline, 1, 0.0, axis=1), KNOTS, 2, WEIGHT)
    loop = [(ring, True), (pipe, True), (ring, False), (pipe, False)]
    return step.solid("patched", [step.face(turned(step, outline, WEIGHT, KNOTS), loop)])


def slice(step: StepText) -> str:
    """A segment of a cylinder whose round face runs across the seam of its parameters."""
    a = math.pi / 3

    def at(turn, height):
        return np.array([math.cos(turn), math.sin(turn), height])

    low, high = step.arc(at(-a, 0), at(a, 0), (0, 0, 0), Z), step.arc(at(-a, 1), at(a, 1), (0, 0, 1), Z)
    right, left = step.line(at(-a, 0), at(-a, 1)), step.line(at(a, 0), at(a, 1))
    below, above = step.line(at(-a, 0), at(a, 0)), step.line(at(-a, 1), at(a, 1))
    return step.solid("slice", [
        step.face(step.cylinder((0, 0, 0), Z, 1.0), [(low, True), (left, True), (high, False), (right, False)]),
        step.face(step.plane((0, 0, 1), Z), [(high, True), (above, False)]),
        step.face(step.plane((0, 0, 0), -Z), [(below, True), (low, False)]),
        step.face(step.plane(at(a, 0), -X), [(right, True), (above, True), (left, False), (below, False)]),
    ])  # fmt: skip


def elbow(step: StepText) -> str:
    """A sixth of a torus, all round the pipe and across the seam of its ring."""
    a = math.pi / 6
    ends = []
    for turn in (-a, a):
        out = np.array([math.cos(turn), math.sin(turn), 0])
        ends.append((step.arc(2.5 * out, 2.5 * out, 2 * out, np.cross(out, Z)), out, np.cross(Z, out)))
    (first, out, along), (last, far, ahead) = ends
    return step.solid("elbow", [
        step.face(step.torus((0, 0, 0), Z, 2.0, 0.5), [(first, False)], [(last, True)]),
        step.face(step.plane(2 * far, ahead), [(last, False)]),
        step.face(step.plane(2 * out, -along), [(first, True)]),
    ])  # fmt: skip


class Turned(StepText):
    """Surfaces with axes turned about what they are symmetric to: seams and poles lie anywhere, the shape is the same."""

    def __init__(self, seed: int, away: float = 0.0) -> None:
        self.chance = np.random.default_rng(seed)
        self.away = away * np.array([1.0, -0.8, 0.35])
        super().__init__()

    def point(self, place) -> str:
        return super().point(np.asarray(place, float) + self.away)

    def _placed(self, origin, z) -> str:
        return self.placement(origin, z, self.chance.normal(size=3))

    def plane(self, origin, z) -> str:
        return self.once(f"PLANE('',{self._placed(origin, z)})")

    def cylinder(self, origin, z, radius) -> str:
        z = np.asarray(z, float) * self.chance.choice([-1, 1])
        return self.once(f"CYLINDRICAL_SURFACE('',{self._placed(np.asarray(origin) + z, z)},{radius:.15f})")

    def cone(self, origin, z, radius, angle) -> str:
        return self.once(f"CONICAL_SURFACE('',{self._placed(origin, z)},{radius:.15f},{angle:.15f})")

    def sphere(self, origin, radius, z=(0, 0, 1)) -> str:
        z = self.chance.normal(size=3) if self.chance.integers(4) else self.chance.permutation(X)
        return self.once(f"SPHERICAL_SURFACE('',{self._placed(origin, z)},{radius:.15f})")

    def torus(self, origin, z, major, minor) -> str:
        z = np.asarray(z, float) * self.chance.choice([-1, 1])
        return self.once(f"TOROIDAL_SURFACE('',{self._placed(origin, z)},{major:.15f},{minor:.15f})")


class Swept(StepText):
    """Round surfaces as what a curve makes when it is moved, turned or set off."""

    def _circle(self, origin, z, radius, x=None) -> str:
        return self.once(f"CIRCLE('',{self.placement(origin, z, x)},{radius:.15f})")

    def _turned(self, curve, origin, z) -> str:
        axis = self.once(f"AXIS1_PLACEMENT('',{self.point(origin)},{self.direction(z)})")
        return self.once(f"SURFACE_OF_REVOLUTION('',{curve},{axis})")

    def cylinder(self, origin, z, radius) -> str:
        vector = self.once(f"VECTOR('',{self.direction(z)},3.)")
        return self.once(f"SURFACE_OF_LINEAR_EXTRUSION('',{self._circle(origin, z, radius)},{vector})")

    def cone(self, origin, z, radius, angle) -> str:
        start = np.asarray(origin, float) + (radius, 0, 0)
        along = np.array([math.tan(angle), 0.0, 1.0])
        line = self.once(
            f"LINE('',{self.point(start)},{self.once(f'VECTOR({chr(39) * 2},{self.direction(along)},1.)')})"
        )
        first, last = (f"PARAMETER_VALUE({value:.15f})" for value in (0.0, radius / abs(math.sin(angle))))
        side = self.once(f"TRIMMED_CURVE('',{line},({first}),({last}),.T.,.PARAMETER.)")
        return self._turned(side, origin, z)

    def sphere(self, origin, radius, z=(0, 0, 1)) -> str:
        # Half a circle in the plane of x and z, from the lower pole to the upper one.
        whole = self._circle(origin, -Y, radius, x=-Z)
        ends = [f"PARAMETER_VALUE({value:.15f})" for value in (0.0, math.pi)]
        return self._turned(self.once(f"TRIMMED_CURVE('',{whole},({ends[0]}),({ends[1]}),.T.,.PARAMETER.)"), origin, Z)

    def torus(self, origin, z, major, minor) -> str:
        ring = self._circle(np.asarray(origin, float) + (major, 0, 0), -Y, minor)
        return self._turned(ring, origin, z)


class SetOff(Swept):
    """Cylinders as surfaces beside thinner ones."""

    def cylinder(self, origin, z, radius) -> str:
        return self.once(f"OFFSET_SURFACE('',{super().cylinder(origin, z, 0.7 * radius)},{0.3 * radius:.15f},.F.)")


class Unsewn(StepText):
    """Every face has edges and vertices of its own, which run along it."""

    def face(self, surface, *loops, same=True) -> str:
        return super().face(surface, *([self._copy(edge, way) for edge, way in loop] for loop in loops), same=same)

    def _copy(self, edge: str, way: bool) -> tuple[str, bool]:
        start, end, curve, _ = self.lines[int(edge[1:]) - 1].removeprefix("EDGE_CURVE('',").rstrip(")").split(",")
        start, end = (self.add(self.lines[int(one[1:]) - 1]) for one in (start, end))
        ends = (start, end) if way else (end, start)
        return self.add(f"EDGE_CURVE('',{','.join(ends)},{curve},{'.T.' if way else '.F.'})"), True
