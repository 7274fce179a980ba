"""Curves, surfaces and bodies of STEP (ISO 10303-42, geometric and topological representation)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np

from zesty_otter.formats.step.exchange import Exchange, ExchangeError, Instance, Ref, Typed
from zesty_otter.geometry.curves.curves import (
    Chain,
    Curve,
    Ellipse,
    Floats,
    Hyperbola,
    Line,
    Mapped,
    Parabola,
    Piece,
    Placed,
    Polyline,
    Spline,
)
from zesty_otter.geometry.curves.faceting import Body, Edge, Face
from zesty_otter.geometry.curves.splines import bezier_knots, even_knots
from zesty_otter.geometry.curves.surfaces import (
    Cone,
    Extruded,
    Offset,
    Plane,
    Revolved,
    Sphere,
    SplineSurface,
    Surface,
    Torus,
)

_DEEPEST = 30  # curves and surfaces made of others

T = TypeVar("T")


def number_of(value: Any) -> float:
    """A number, from itself or from a measure."""
    if isinstance(value, Typed):
        return number_of(value.value)
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise ExchangeError("a number is missing")
    return float(value)


def ref_of(value: Any) -> int:
    if not isinstance(value, Ref):
        raise ExchangeError("a reference is missing")
    return value.number


def refs_of(value: Any) -> list[int]:
    """The instances of a list."""
    if isinstance(value, np.ndarray) and value.dtype == np.int64:
        return [int(one) for one in value]
    if not isinstance(value, list):
        raise ExchangeError("a list is missing")
    return [one.number for one in value if isinstance(one, Ref)]


def numbers_of(value: Any) -> Floats:
    if isinstance(value, np.ndarray) and value.dtype == np.float64:
        return value
    if not isinstance(value, list):
        raise ExchangeError("a list of numbers is missing")
    return np.array([number_of(one) for one in value], float)


@dataclass
class Shapes:
    """What instances stand for, each made once. ``angle`` is the unit of angles of the context they are used in."""

    exchange: Exchange
    angle: float = 1.0
    curves: dict[tuple[int, float], Curve] = field(default_factory=dict)
    surfaces: dict[tuple[int, float], Surface] = field(default_factory=dict)
    depth: int = 0

    # Places

    def instance(self, number: int) -> Instance:
        found = self.exchange.at(number)
        if found is None:
            raise ExchangeError(f"#{number} is missing")
        return found

    def _arguments(self, number: int, kind: str, count: int) -> list[Any]:
        args = self.instance(number).parts.get(kind)
        if args is None:
            raise ExchangeError(f"#{number} is not a {kind}")
        if len(args) < count:
            raise ExchangeError(f"#{number} has too few arguments")
        return args

    def point(self, number: int) -> Floats:
        return self.exchange.point(number)

    def direction(self, number: int) -> Floats:
        given = numbers_of(self._arguments(number, "DIRECTION", 2)[1])
        size = math.sqrt(sum(one * one for one in given.tolist()))
        if given.shape != (3,) or size == 0 or not math.isfinite(size):
            raise ExchangeError(f"#{number} is no direction in space")
        return given / size

    def vector(self, number: int) -> Floats:
        args = self._arguments(number, "VECTOR", 3)
        return self.direction(ref_of(args[1])) * number_of(args[2])

    def placement(self, number: int) -> Placed:
        instance = self.instance(number)
        args = instance.args
        if instance.kind == "AXIS1_PLACEMENT":
            return placed(self.point(ref_of(args[1])), self._optional(args, 2), None)
        args = self._arguments(number, "AXIS2_PLACEMENT_3D", 2)
        return placed(self.point(ref_of(args[1])), self._optional(args, 2), self._optional(args, 3))

    def _optional(self, args: list[Any], k: int) -> Floats | None:
        return self.direction(args[k].number) if len(args) > k and isinstance(args[k], Ref) else None

    def matrix(self, number: int) -> Floats:
        """(4, 4) a placement, or a transformation operator."""
        instance = self.instance(number)
        for kind in ("CARTESIAN_TRANSFORMATION_OPERATOR_3D", "CARTESIAN_TRANSFORMATION_OPERATOR"):
            if kind in instance.parts:
                # name, description?, axis1, axis2, origin, scale, axis3: what is not there is derived.
                args = [one for part in instance.parts.values() for one in part]
                refs = [one.number for one in args if isinstance(one, Ref)]
                origins = [one for one in refs if self.exchange.kind_of(one) == "CARTESIAN_POINT"]
                axes = [self.direction(one) for one in refs if self.exchange.kind_of(one) == "DIRECTION"]
                scales = [float(one) for one in args if isinstance(one, int | float)]
                x = axes[0] if axes else np.array([1.0, 0, 0])
                z = axes[2] if len(axes) > 2 else np.cross(x, axes[1]) if len(axes) > 1 else None
                place = placed(self.point(origins[0]) if origins else np.zeros(3), z, x)
                own = np.eye(4)
                own[:3, :3] = place.axes.T * (scales[0] if scales else 1.0)
                own[:3, 3] = place.origin
                return own
        place = self.placement(number)
        own = np.eye(4)
        own[:3, :3], own[:3, 3] = place.axes.T, place.origin
        return own

    # Curves

    def curve(self, number: int) -> Curve:
        return self._made(self.curves, number, self._curve)

    def surface(self, number: int) -> Surface:
        return self._made(self.surfaces, number, self._surface)

    def _made(self, known: dict[tuple[int, float], T], number: int, make: Callable[[int], T]) -> T:
        key = number, self.angle
        if key not in known:
            self.depth += 1
            try:
                if self.depth > _DEEPEST:
                    raise ExchangeError(f"#{number} is made of itself")
                known[key] = make(number)
            finally:
                self.depth -= 1
        return known[key]

    def _curve(self, number: int) -> Curve:
        instance = self.instance(number)
        if _is_spline(instance.parts, "CURVE"):
            return self._spline(instance)
        args = instance.args
        match instance.kind:
            case "LINE":
                return Line(self.point(ref_of(args[1])), _nonzero(self.vector(ref_of(args[2])), number))
            case "CIRCLE":
                radius = _positive(args[2], number)
                return Ellipse(self.placement(ref_of(args[1])), radius, radius)
            case "ELLIPSE":
                return Ellipse(self.placement(ref_of(args[1])), _positive(args[2], number), _positive(args[3], number))
            case "PARABOLA":
                return Parabola(self.placement(ref_of(args[1])), _positive(args[2], number))
            case "HYPERBOLA":
                return Hyperbola(
                    self.placement(ref_of(args[1])), _positive(args[2], number), _positive(args[3], number)
                )
            case "POLYLINE":
                points = self.exchange.points_of(np.array(refs_of(args[1]), np.int64))
                if len(points) < 2:
                    raise ExchangeError(f"#{number} has too few points")
                return Polyline(points)
            case "TRIMMED_CURVE":
                return self._trimmed(args)
            case "SURFACE_CURVE" | "SEAM_CURVE" | "INTERSECTION_CURVE" | "BOUNDED_SURFACE_CURVE":
                return self.curve(ref_of(args[1]))
            case "COMPOSITE_CURVE" | "COMPOSITE_CURVE_ON_SURFACE" | "BOUNDARY_CURVE" | "OUTER_BOUNDARY_CURVE":
                return Chain(tuple(self._segments(refs_of(args[1]), number)))
            case "PCURVE":
                return self._on_surface(args)
            case "OFFSET_CURVE_3D":
                return self._beside(self.curve(ref_of(args[1])), number_of(args[2]), self.direction(ref_of(args[4])))
            case "CURVE_REPLICA":
                return moved_curve(self.curve(ref_of(args[1])), self.matrix(ref_of(args[2])))
        raise ExchangeError(f"{instance.kind or f'#{number}'} is not a curve that can be read")

    def _spline(self, instance: Instance) -> Spline:
        parts = instance.parts
        kind = "B_SPLINE_CURVE"
        if kind in parts:
            degree, points = parts[kind][0], parts[kind][1]
        else:
            degree, points = instance.args[1], instance.args[2]
        control = self.exchange.points_of(np.array(refs_of(points), np.int64))
        degree = int(number_of(degree))
        count = len(control)
        if not 1 <= degree < count or degree > 64:
            raise ExchangeError(f"#{instance.number} has too few control points for its degree")
        weights = np.ones(count)
        if "RATIONAL_B_SPLINE_CURVE" in parts:
            weights = numbers_of(parts["RATIONAL_B_SPLINE_CURVE"][-1])
        if kind + "_WITH_KNOTS" in parts:
            own = parts[kind + "_WITH_KNOTS"]
            knots = _knots(own[-3], own[-2])
        elif "BEZIER_CURVE" in parts:
            knots = bezier_knots(degree, count)
        else:
            knots = even_knots(degree, count, held="UNIFORM_CURVE" not in parts)
        return Spline(_sound_knots(knots, degree, count, instance), degree, _weighted(control, weights, instance))

    def _trimmed(self, args: list[Any]) -> Curve:
        base = self.curve(ref_of(args[1]))
        turns = self.angle if isinstance(base, Ellipse) else 1.0
        ends = []
        for trim in args[2:4]:
            values = [one for one in trim if isinstance(one, Typed | int | float)]
            points = [one.number for one in trim if isinstance(one, Ref)]
            if values:
                ends.append(number_of(values[0]) * turns)
            elif points:
                ends.append(float(base.parameters_of(self.point(points[0])[None])[0]))
            else:
                raise ExchangeError("a trimmed curve has no ends")
        first, last = ends
        forward = args[4] != ".F."
        if base.period:
            if forward and last <= first:
                last += base.period
            elif not forward and last >= first:
                last -= base.period
        return Piece(base, first, last)

    def _segments(self, numbers: list[int], whole: int) -> Iterator[Piece]:
        for number in numbers:
            segment = self._arguments(number, self.instance(number).kind, 3)
            curve = self.curve(ref_of(segment[2]))
            low, high = curve.span
            if not math.isfinite(high - low):
                raise ExchangeError(f"#{whole} has a part without ends")
            yield Piece(curve, low, high) if segment[1] != ".F." else Piece(curve, high, low)
        if not numbers:
            raise ExchangeError(f"#{whole} has no parts")

    def _on_surface(self, args: list[Any]) -> Curve:
        surface = self.surface(ref_of(args[1]))
        items = refs_of(self.instance(ref_of(args[2])).args[1])
        flat = self._flat_curve(items[0])

        def turn(uv: Floats, slope: Floats) -> Floats:
            du, dv = surface.slopes(uv[:, :2])
            return slope[:, :1] * du + slope[:, 1:2] * dv

        axis = int(np.argmax(np.abs(flat.along[:2]))) if isinstance(flat, Line) else 0
        ends = surface.box[:, axis]
        if isinstance(flat, Line) and np.isfinite(ends).all():
            # Once along the parameters, round the surface where that is closed.
            first, last = sorted(((ends - flat.origin[axis]) / flat.along[axis]).tolist())
            flat = Piece(flat, first, last)
            once = surface.at(flat.at(np.array([0.0, 1.0]))[:, :2])
            size = float(np.ptp(surface.at(flat.at(np.linspace(0.0, 1.0, 9))[:, :2]), axis=0).max())
            if float(np.abs(once[0] - once[1]).max()) <= 1e-9 * size:
                return Mapped(flat, lambda uv: surface.at(uv[:, :2]), turn, 1.0)
        return Mapped(flat, lambda uv: surface.at(uv[:, :2]), turn)

    def _flat_curve(self, number: int) -> Curve:
        """A curve of parameters, as one in the plane z = 0."""
        instance = self.instance(number)
        args = instance.args
        if instance.kind == "LINE":
            vector = self._arguments(ref_of(args[2]), "VECTOR", 3)
            along = numbers_of(self._arguments(ref_of(vector[1]), "DIRECTION", 2)[1]) * number_of(vector[2])
            return Line(self._flat_point(ref_of(args[1])), np.append(along[:2], 0.0))
        if instance.kind in ("CIRCLE", "ELLIPSE"):
            place = self._arguments(ref_of(args[1]), "AXIS2_PLACEMENT_2D", 2)
            x = np.array([1.0, 0.0, 0.0])
            if len(place) > 2 and isinstance(place[2], Ref):
                x[:2] = numbers_of(self._arguments(place[2].number, "DIRECTION", 2)[1])[:2]
            own = placed(self._flat_point(ref_of(place[1])), np.array([0.0, 0, 1]), x)
            a = _positive(args[2], number)
            return Ellipse(own, a, _positive(args[-1], number))
        if _is_spline(instance.parts, "CURVE"):
            kept = self.exchange.points_of
            try:
                self.exchange.points_of = lambda numbers: np.stack([self._flat_point(int(n)) for n in numbers])  # type: ignore[method-assign]
                return self._spline(instance)
            finally:
                self.exchange.points_of = kept  # type: ignore[method-assign]
        raise ExchangeError(f"{instance.kind} on a surface cannot be read")

    def _flat_point(self, number: int) -> Floats:
        given = numbers_of(self._arguments(number, "CARTESIAN_POINT", 2)[1])
        return np.append(given[:2], 0.0)

    def _beside(self, base: Curve, by: float, across: Floats) -> Curve:
        def slope(t: Floats) -> Floats:
            return base.slope(t)

        def place(t: Floats) -> Floats:
            along = slope(t)
            side = np.cross(along, across)
            return base.at(t) + by * side / np.maximum(np.linalg.norm(side, axis=1, keepdims=True), 1e-300)

        low, high = base.span
        t = np.linspace(max(low, -1e3), min(high, 1e3), 257)
        return Polyline(place(t))

    # Surfaces

    def _surface(self, number: int) -> Surface:
        instance = self.instance(number)
        if _is_spline(instance.parts, "SURFACE"):
            return self._spline_surface(instance)
        args = instance.args
        match instance.kind:
            case "PLANE":
                return Plane(self.placement(ref_of(args[1])))
            case "CYLINDRICAL_SURFACE":
                return Cone(self.placement(ref_of(args[1])), _positive(args[2], number))
            case "CONICAL_SURFACE":
                angle = number_of(args[3]) * self.angle
                if not 0 < abs(angle) < math.pi / 2 - 1e-9:
                    raise ExchangeError(f"#{number} has no angle of a cone")
                return Cone(self.placement(ref_of(args[1])), number_of(args[2]), angle)
            case "SPHERICAL_SURFACE":
                return Sphere(self.placement(ref_of(args[1])), _positive(args[2], number))
            case "TOROIDAL_SURFACE" | "DEGENERATE_TOROIDAL_SURFACE":
                outer = len(args) < 5 or args[4] != ".F."
                return Torus(
                    self.placement(ref_of(args[1])), abs(number_of(args[2])), _positive(args[3], number), outer
                )
            case "SURFACE_OF_LINEAR_EXTRUSION":
                return extruded(self.curve(ref_of(args[1])), _nonzero(self.vector(ref_of(args[2])), number))
            case "SURFACE_OF_REVOLUTION":
                return Revolved(self.curve(ref_of(args[1])), self.placement(ref_of(args[2])))
            case "OFFSET_SURFACE":
                return offset(self.surface(ref_of(args[1])), number_of(args[2]))
            case "RECTANGULAR_TRIMMED_SURFACE" | "CURVE_BOUNDED_SURFACE":
                return self.surface(ref_of(args[1]))
            case "SURFACE_REPLICA":
                raise ExchangeError("copies of surfaces cannot be read")
        raise ExchangeError(f"{instance.kind or f'#{number}'} is not a surface that can be read")

    def _spline_surface(self, instance: Instance) -> SplineSurface:
        parts, kind = instance.parts, "B_SPLINE_SURFACE"
        own = parts[kind][:3] if kind in parts else instance.args[1:4]
        degrees = int(number_of(own[0])), int(number_of(own[1]))
        rows = [np.array(refs_of(row), np.int64) for row in own[2]]
        if not rows or len({len(row) for row in rows}) != 1:
            raise ExchangeError(f"#{instance.number} has rows of different lengths")
        shape = len(rows), len(rows[0])
        if any(not 1 <= d < n or d > 64 for d, n in zip(degrees, shape, strict=True)):
            raise ExchangeError(f"#{instance.number} has too few control points for its degree")
        control = self.exchange.points_of(np.concatenate(rows))
        weights = np.ones(shape)
        if "RATIONAL_B_SPLINE_SURFACE" in parts:
            weights = np.array([numbers_of(row) for row in parts["RATIONAL_B_SPLINE_SURFACE"][-1]])
            if weights.shape != shape:
                raise ExchangeError(f"#{instance.number} has weights that do not fit its points")
        if kind + "_WITH_KNOTS" in parts:
            said = parts[kind + "_WITH_KNOTS"]
            knots = [_knots(said[-5], said[-3]), _knots(said[-4], said[-2])]
        elif "BEZIER_SURFACE" in parts:
            knots = [bezier_knots(d, n) for d, n in zip(degrees, shape, strict=True)]
        else:
            held = "UNIFORM_SURFACE" not in parts
            knots = [even_knots(d, n, held=held) for d, n in zip(degrees, shape, strict=True)]
        u, v = (_sound_knots(k, d, n, instance) for k, d, n in zip(knots, degrees, shape, strict=True))
        return SplineSurface((u, v), degrees, _weighted(control, weights.ravel(), instance).reshape(*shape, 4))


def placed(origin: Floats, z: Floats | None, x: Floats | None) -> Placed:
    """Axes from a direction of z and one that x is near to (ISO 10303-42, first_proj_axis)."""
    # In plain numbers: there are a great many of these, and arrays of three take their time.
    zx, zy, zz = (0.0, 0.0, 1.0) if z is None else z.tolist()
    for given in (None if x is None else x.tolist(), [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]):
        if given is None:
            continue
        gx, gy, gz = given
        share = gx * zx + gy * zy + gz * zz
        ax, ay, az = gx - share * zx, gy - share * zy, gz - share * zz
        size = math.sqrt(ax * ax + ay * ay + az * az)
        if size > 1e-9:
            ax, ay, az = ax / size, ay / size, az / size
            across = (zy * az - zz * ay, zz * ax - zx * az, zx * ay - zy * ax)
            return Placed(origin, np.array([(ax, ay, az), across, (zx, zy, zz)]))
    raise ExchangeError("a placement has no axes")


def extruded(curve: Curve, along: Floats) -> Surface:
    """A surface of extrusion; a plane or a cylinder where it is one."""
    if isinstance(curve, Line):
        x = curve.along / np.linalg.norm(curve.along)
        z = np.cross(curve.along, along)
        size = float(np.linalg.norm(z))
        if size > 1e-12 * float(np.linalg.norm(curve.along) * np.linalg.norm(along)):
            z = z / size
            return Plane(Placed(curve.origin, np.stack([x, np.cross(z, x), z])))
    return Extruded(curve, along)


def offset(base: Surface, by: float) -> Surface:
    """A surface beside another, of the same kind where it has one."""
    if isinstance(base, Plane):
        return Plane(Placed(base.place.origin + by * base.place.axes[2], base.place.axes))
    if isinstance(base, Cone) and not base.angle and base.radius + by > 0:
        return Cone(base.place, base.radius + by)
    if isinstance(base, Sphere) and base.radius + by > 0:
        return Sphere(base.place, base.radius + by)
    return Offset(base, by)


def moved_curve(curve: Curve, matrix: Floats) -> Curve:
    turn = matrix[:3, :3]
    return Mapped(curve, lambda p: p @ turn.T + matrix[:3, 3], lambda _, slope: slope @ turn.T)


def _is_spline(parts: dict[str, list[Any]], what: str) -> bool:
    return (
        any(f"{name}{what}" in parts for name in ("B_SPLINE_", "BEZIER_", "UNIFORM_", "QUASI_UNIFORM_"))
        or f"B_SPLINE_{what}_WITH_KNOTS" in parts
    )


def _positive(value: Any, number: int) -> float:
    found = number_of(value)
    if found <= 0:
        raise ExchangeError(f"#{number} has no size")
    return found


def _nonzero(vector: Floats, number: int) -> Floats:
    if not vector.any():
        raise ExchangeError(f"#{number} has no direction")
    return vector


def _knots(times: Any, values: Any) -> Floats:
    counts = numbers_of(times).astype(np.int64)
    ends = numbers_of(values)
    if len(counts) != len(ends) or (counts < 1).any() or counts.sum() > 10_000_000:
        raise ExchangeError("knots do not fit their multiplicities")
    return np.repeat(ends, counts)


def _sound_knots(knots: Floats, degree: int, count: int, instance: Instance) -> Floats:
    if len(knots) != count + degree + 1 or (np.diff(knots) < 0).any() or not knots[degree] < knots[count]:
        raise ExchangeError(f"#{instance.number} has knots that do not fit its points")
    return knots


def _weighted(control: Floats, weights: Floats, instance: Instance) -> Floats:
    if len(weights) != len(control) or (weights <= 0).any():
        raise ExchangeError(f"#{instance.number} has weights that do not fit its points")
    return np.concatenate([control * weights[:, None], weights[:, None]], axis=1)


@dataclass
class Bodies:
    """Bodies from shells, with what could not be read of them."""

    shapes: Shapes
    tolerance: float
    problems: list[str] = field(default_factory=list)

    def of(self, shells: list[tuple[int, bool]]) -> tuple[Body, list[int]]:
        """The faces of shells, each turned round or not, and the number of each face."""
        making = _Making(self.shapes, self.tolerance)
        for shell, forward in shells:
            for face, same in self._faces(shell, forward):
                try:
                    making.face(face, same)
                except (ExchangeError, IndexError, TypeError, ValueError) as error:
                    self.problems.append(f"face #{face} left out: {error}")
        return Body(making.table(), making.edges, making.faces), making.numbers

    def _faces(self, shell: int, forward: bool, depth: int = 0) -> Iterator[tuple[int, bool]]:
        instance = self.shapes.instance(shell)
        if depth > 5:
            raise ExchangeError(f"#{shell} is made of itself")
        if instance.kind in ("ORIENTED_CLOSED_SHELL", "ORIENTED_OPEN_SHELL"):
            same = (instance.args[3] != ".F.") == forward
            yield from self._faces(ref_of(instance.args[2]), same, depth + 1)
            return
        for face in refs_of(instance.args[1]):
            own = self.shapes.exchange.at(face)
            if own is not None and own.kind == "ORIENTED_FACE":
                yield ref_of(own.args[2]), (own.args[3] != ".F.") == forward
            else:
                yield face, forward


class _Making:
    def __init__(self, shapes: Shapes, tolerance: float) -> None:
        self.shapes, self.tolerance = shapes, tolerance
        self.vertices: dict[int, int] = {}
        self.places: list[Floats] = []
        self.at_place: dict[tuple[float, float, float], int] = {}
        self.known_edges: dict[Any, int] = {}
        self.known_ways: dict[int, tuple[int, bool]] = {}
        self.edges: list[Edge] = []
        self.faces: list[Face] = []
        self.numbers: list[int] = []

    def table(self) -> Floats:
        return np.array(self.places, float).reshape(-1, 3)

    def _vertex(self, number: int) -> int:
        """Of a vertex, or of the point itself."""
        if number not in self.vertices:
            instance = self.shapes.instance(number)
            at = number if "CARTESIAN_POINT" in instance.parts else ref_of(instance.args[1])
            place = self.shapes.point(at)
            # Faces that were not sewn have vertices of their own in the same places.
            x, y, z = place.tolist()
            known = self.at_place.setdefault((x, y, z), len(self.places))
            if known == len(self.places):
                self.places.append(place)
            self.vertices[number] = known
        return self.vertices[number]

    def face(self, number: int, forward: bool) -> None:
        instance = self.shapes.instance(number)
        args = instance.args
        loops = [one for bound in refs_of(args[1]) for one in [self._loop(bound)] if one]
        if instance.kind in ("ADVANCED_FACE", "FACE_SURFACE"):
            surface, same = self.shapes.surface(ref_of(args[2])), args[3] != ".F."
        elif loops:
            surface, same = self._flat_within(loops), True
        else:
            raise ExchangeError("it has no surface")
        if not forward:
            loops = [[(edge, not way) for edge, way in reversed(loop)] for loop in loops]
        self.faces.append(Face(surface, tuple(tuple(loop) for loop in loops), same == forward))
        self.numbers.append(number)

    def _flat_within(self, loops: list[list[tuple[int, bool]]]) -> Plane:
        """The plane through the corners of the first loop, with its normal (M. E. Newell, 1978)."""
        ids = [self.edges[edge].start if way else self.edges[edge].end for edge, way in loops[0]]
        points = np.array([self.places[k] for k in ids])
        centred = points - points.mean(axis=0)
        normal = np.cross(centred, np.roll(centred, -1, axis=0)).sum(axis=0)
        size = float(np.linalg.norm(normal))
        if size == 0:
            raise ExchangeError("it has no area")
        return Plane(placed(points.mean(axis=0), normal / size, points[1] - points[0]))

    def _loop(self, bound: int) -> list[tuple[int, bool]]:
        args = self.shapes.instance(bound).args
        forward = len(args) < 3 or args[2] != ".F."
        loop = self.shapes.instance(ref_of(args[1]))
        if loop.kind == "VERTEX_LOOP":
            return []
        if loop.kind == "POLY_LOOP":
            points = [self._vertex(one) for one in refs_of(loop.args[1])]
            pairs = [(a, b) for a, b in zip(points, points[1:] + points[:1], strict=True) if a != b]
            found = [self._straight(a, b) for a, b in pairs]
        elif loop.kind == "EDGE_LOOP":
            found = [self._oriented(one) for one in refs_of(loop.args[1])]
        else:
            raise ExchangeError(f"#{loop.number} is not a loop that can be read")
        self._check_joined(found)
        return found if forward else [(edge, not way) for edge, way in reversed(found)]

    def _check_joined(self, loop: list[tuple[int, bool]]) -> None:
        """Edges of a loop have to follow each other; vertices that stand at one place count as one."""
        for (edge, way), (following, ahead) in zip(loop, loop[1:] + loop[:1], strict=True):
            end = self.edges[edge].end if way else self.edges[edge].start
            start = self.edges[following].start if ahead else self.edges[following].end
            if end != start:
                away = float(np.linalg.norm(self.places[end] - self.places[start]))
                size = float(np.ptp([self.places[self.edges[one].start] for one, _ in loop], axis=0).max())
                if away > max(10 * self.tolerance, 0.02 * size):
                    raise ExchangeError(f"its edges do not meet by {away:.3g}")

    def _straight(self, a: int, b: int) -> tuple[int, bool]:
        key = ("straight", min(a, b), max(a, b))
        if key not in self.known_edges:
            low, high = min(a, b), max(a, b)
            along = self.places[high] - self.places[low]
            self.known_edges[key] = len(self.edges)
            self.edges.append(Edge(Line(self.places[low], along), 0.0, 1.0, low, high))
        return self.known_edges[key], a < b

    def _oriented(self, number: int) -> tuple[int, bool]:
        forward = True
        for _ in range(8):
            args = self.shapes.instance(number).args
            if self.shapes.instance(number).kind != "ORIENTED_EDGE":
                break
            forward = forward == (args[4] != ".F.")
            number = ref_of(args[3])
        edge, way = self._edge(number)
        return edge, way == forward

    def _edge(self, number: int) -> tuple[int, bool]:
        """An edge, and whether it runs as its instance says: one that is there already may run the other way."""
        if number not in self.known_ways:
            self.known_ways[number] = self._shared(self._new_edge(number))
        return self.known_ways[number]

    def _shared(self, edge: Edge) -> tuple[int, bool]:
        a, b = edge.start, edge.end
        middle, early = edge.curve.at(np.array([0.5, 0.25]) * (edge.last - edge.first) + edge.first)
        key = (min(a, b), max(a, b), *np.rint(middle / max(self.tolerance, 1e-12)).tolist())
        if key not in self.known_edges:
            self.known_edges[key] = len(self.edges)
            self.edges.append(edge)
            return len(self.edges) - 1, True
        known = self.known_edges[key]
        other = self.edges[known]
        if a != b:
            return known, other.start == a
        there = other.curve.at(np.array([0.25, 0.75]) * (other.last - other.first) + other.first)
        near, far = np.linalg.norm(there - early, axis=1)
        return known, bool(near <= far)

    def _new_edge(self, number: int) -> Edge:
        instance = self.shapes.instance(number)
        if instance.kind != "EDGE_CURVE":
            raise ExchangeError(f"#{number} is not an edge that can be read")
        args = instance.args
        start, end = self._vertex(ref_of(args[1])), self._vertex(ref_of(args[2]))
        curve = self.shapes.curve(ref_of(args[3]))
        same = args[4] != ".F."
        if isinstance(curve, Line) and start != end:
            # The line from one to the other, which its own is within the tolerance.
            along = self.places[end] - self.places[start]
            size = math.sqrt(float((along @ along) * (curve.along @ curve.along)))
            if abs(along @ curve.along) > (1 - 1e-12) * size:
                return Edge(Line(self.places[start], along), 0.0, 1.0, start, end)
        places = np.array([self.places[start], self.places[end]])
        first, last = (float(t) for t in curve.parameters_of(places))
        meets = curve.at(np.array([first, last]))
        period = curve.period
        if period:
            slack = 1e-9 * period
            closed = float(np.linalg.norm(places[0] - places[1])) <= self.tolerance and start == end
            if same:
                last += period * math.ceil((first - last) / period - 1e-12)
                if last - first < slack or (closed and last - first < period / 2):
                    last = first + period
                if closed and last - first > 1.5 * period:
                    last -= period
            else:
                last -= period * math.ceil((last - first) / period - 1e-12)
                if first - last < slack or (closed and first - last < period / 2):
                    last = first - period
                if closed and first - last > 1.5 * period:
                    last += period
        elif start == end:
            low, high = curve.span
            if not math.isfinite(high - low):
                raise ExchangeError(f"edge #{number} has no length")
            first, last = (low, high) if same else (high, low)
        # Its ends are its vertices, wherever the curve ends; what is far off is not meant.
        away = float(np.linalg.norm(meets - places, axis=1).max())
        size = float(np.ptp(curve.at(np.linspace(first, last, 9)), axis=0).max())
        if not away <= max(10 * self.tolerance, 0.02 * size):
            raise ExchangeError(f"edge #{number} is off its vertices by {away:.3g}")
        return Edge(curve, first, last, start, end)
