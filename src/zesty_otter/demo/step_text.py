"""Solids of exact surfaces, written as STEP text (ISO 10303-21 and 10303-42)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

Loop = Sequence[tuple[str, bool]]
"""Edges, each with whether it is gone along forward."""

UNITS = {
    "mm": ["(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))"],
    "m": ["(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT($,.METRE.))"],
    "in": [
        "DIMENSIONAL_EXPONENTS(1.,0.,0.,0.,0.,0.,0.)",
        "(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))",
        "LENGTH_MEASURE_WITH_UNIT(LENGTH_MEASURE(25.4),{1})",
        "(CONVERSION_BASED_UNIT('INCH',{2})LENGTH_UNIT()NAMED_UNIT({0}))",
    ],
}


class StepText:
    """A file that grows instance by instance; what is made is named by its number, such as ``#12``.

    Parameters
    ----------
    unit : str
        One of `UNITS`.
    degrees : bool
        Say angles in degrees.
    """

    def __init__(self, unit: str = "mm", *, degrees: bool = False) -> None:
        self.lines: list[str] = []
        self.known: dict[object, str] = {}
        context = self.add("APPLICATION_CONTEXT('automotive design')")
        self.about = self.add(f"PRODUCT_CONTEXT('',{context},'mechanical')")
        self.design = self.add(f"PRODUCT_DEFINITION_CONTEXT('part definition',{context},'design')")
        made: list[str] = []
        for text in UNITS[unit]:
            made.append(self.add(text.format(*made)))
        radian = self.add("(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.))")
        if degrees:
            exponents = self.add("DIMENSIONAL_EXPONENTS(0.,0.,0.,0.,0.,0.,0.)")
            size = self.add(f"PLANE_ANGLE_MEASURE_WITH_UNIT(PLANE_ANGLE_MEASURE(0.0174532925199433),{radian})")
            radian = self.add(f"(CONVERSION_BASED_UNIT('DEGREE',{size})NAMED_UNIT({exponents})PLANE_ANGLE_UNIT())")
        solid = self.add("(NAMED_UNIT(*)SI_UNIT($,.STERADIAN.)SOLID_ANGLE_UNIT())")
        near = self.add(f"UNCERTAINTY_MEASURE_WITH_UNIT(LENGTH_MEASURE(1.E-05),{made[-1]},'distance','')")
        self.space = self.add(
            f"(GEOMETRIC_REPRESENTATION_CONTEXT(3)GLOBAL_UNCERTAINTY_ASSIGNED_CONTEXT(({near}))"
            f"GLOBAL_UNIT_ASSIGNED_CONTEXT(({made[-1]},{radian},{solid}))REPRESENTATION_CONTEXT('',''))"
        )

    def add(self, text: str) -> str:
        """An instance."""
        self.lines.append(text)
        return f"#{len(self.lines)}"

    def once(self, text: str) -> str:
        """An instance, the same one when it is asked for again."""
        if text not in self.known:
            self.known[text] = self.add(text)
        return self.known[text]

    # Places

    def point(self, place: ArrayLike) -> str:
        return self.once(f"CARTESIAN_POINT('',({_numbers(place)}))")

    def direction(self, along: ArrayLike) -> str:
        given = np.asarray(along, float)
        return self.once(f"DIRECTION('',({_numbers(given / np.linalg.norm(given))}))")

    def placement(self, origin: ArrayLike, z: ArrayLike = (0, 0, 1), x: ArrayLike | None = None) -> str:
        """Where something stands: its own z along ``z``, x as near to ``x`` as can be."""
        if x is None:
            x = (1, 0, 0) if abs(np.asarray(z, float)[0]) < 0.9 * np.linalg.norm(np.asarray(z, float)) else (0, 1, 0)
        return self.once(f"AXIS2_PLACEMENT_3D('',{self.point(origin)},{self.direction(z)},{self.direction(x)})")

    def vertex(self, place: ArrayLike) -> str:
        return self.once(f"VERTEX_POINT('',{self.point(place)})")

    # Edges

    def edge(self, start: ArrayLike, end: ArrayLike, curve: str, *, same: bool = True) -> str:
        text = f"EDGE_CURVE('',{self.vertex(start)},{self.vertex(end)},{curve},{_flag(same)})"
        return self.once(text)

    def line(self, start: ArrayLike, end: ArrayLike) -> str:
        """A straight edge."""
        a, b = np.asarray(start, float), np.asarray(end, float)
        vector = self.once(f"VECTOR('',{self.direction(b - a)},1.)")
        return self.edge(a, b, self.once(f"LINE('',{self.point(a)},{vector})"))

    def arc(
        self, start: ArrayLike, end: ArrayLike, centre: ArrayLike, z: ArrayLike, radius: float | None = None
    ) -> str:
        """An edge along a circle, counter-clockwise about ``z``; a whole one where both ends are the same."""
        at = np.asarray(start, float)
        x = at - np.asarray(centre, float)
        size = float(np.linalg.norm(x)) if radius is None else radius
        return self.edge(at, end, self.once(f"CIRCLE('',{self.placement(centre, z, x)},{_real(size)})"))

    def spline(
        self, points: NDArray[np.float64], knots: Sequence[float], degree: int, weights: Sequence[float] | None = None
    ) -> str:
        """An edge along a B-spline whose ends are its first and last points."""
        return self.edge(points[0], points[-1], self.spline_curve(points, knots, degree, weights))

    def spline_curve(
        self, points: NDArray[np.float64], knots: Sequence[float], degree: int, weights: Sequence[float] | None = None
    ) -> str:
        ends, times = np.unique(np.asarray(knots, float), return_counts=True)
        refs = _list(self.point(one) for one in points)
        said = f"{_list(times)},{_list(_real(one) for one in ends)},.UNSPECIFIED."
        if weights is None:
            return self.once(f"B_SPLINE_CURVE_WITH_KNOTS('',{degree},{refs},.UNSPECIFIED.,.F.,.F.,{said})")
        return self.once(
            f"(BOUNDED_CURVE()B_SPLINE_CURVE({degree},{refs},.UNSPECIFIED.,.F.,.F.)B_SPLINE_CURVE_WITH_KNOTS({said})"
            f"CURVE()GEOMETRIC_REPRESENTATION_ITEM()RATIONAL_B_SPLINE_CURVE({_list(_real(one) for one in weights)})"
            "REPRESENTATION_ITEM(''))"
        )

    # Surfaces

    def plane(self, origin: ArrayLike, z: ArrayLike) -> str:
        return self.once(f"PLANE('',{self.placement(origin, z)})")

    def cylinder(self, origin: ArrayLike, z: ArrayLike, radius: float) -> str:
        return self.once(f"CYLINDRICAL_SURFACE('',{self.placement(origin, z)},{_real(radius)})")

    def cone(self, origin: ArrayLike, z: ArrayLike, radius: float, angle: float) -> str:
        return self.once(f"CONICAL_SURFACE('',{self.placement(origin, z)},{_real(radius)},{_real(angle)})")

    def sphere(self, origin: ArrayLike, radius: float, z: ArrayLike = (0, 0, 1)) -> str:
        return self.once(f"SPHERICAL_SURFACE('',{self.placement(origin, z)},{_real(radius)})")

    def torus(self, origin: ArrayLike, z: ArrayLike, major: float, minor: float) -> str:
        return self.once(f"TOROIDAL_SURFACE('',{self.placement(origin, z)},{_real(major)},{_real(minor)})")

    def spline_surface(
        self, points: NDArray[np.float64], knots: tuple[Sequence[float], Sequence[float]], degree: tuple[int, int],
        weights: NDArray[np.float64] | None = None,
    ) -> str:  # fmt: skip
        """``points`` is (n, m, 3)."""
        refs = _list(_list(self.point(one) for one in row) for row in points)
        (u, ut), (v, vt) = (np.unique(np.asarray(one, float), return_counts=True) for one in knots)
        said = (
            f"{_list(ut)},{_list(vt)},{_list(_real(one) for one in u)},{_list(_real(one) for one in v)},.UNSPECIFIED."
        )
        head = f"{degree[0]},{degree[1]},{refs},.UNSPECIFIED.,.F.,.F.,.F."
        if weights is None:
            return self.once(f"B_SPLINE_SURFACE_WITH_KNOTS('',{head},{said})")
        rows = _list(_list(_real(one) for one in row) for row in weights)
        return self.once(
            f"(BOUNDED_SURFACE()B_SPLINE_SURFACE({head})B_SPLINE_SURFACE_WITH_KNOTS({said})"
            f"GEOMETRIC_REPRESENTATION_ITEM()RATIONAL_B_SPLINE_SURFACE({rows})REPRESENTATION_ITEM('')SURFACE())"
        )

    # Bodies

    def face(self, surface: str, *loops: Loop, same: bool = True) -> str:
        """The first loop is the outer one."""
        bounds = []
        for k, loop in enumerate(loops):
            edges = _list(self.add(f"ORIENTED_EDGE('',*,*,{edge},{_flag(way)})") for edge, way in loop)
            whole = self.add(f"EDGE_LOOP('',{edges})")
            bounds.append(self.add(f"FACE_{'OUTER_' if k == 0 else ''}BOUND('',{whole},.T.)"))
        return self.add(f"ADVANCED_FACE('',{_list(bounds)},{surface},{_flag(same)})")

    def solid(self, name: str, faces: Sequence[str]) -> str:
        shell = self.add(f"CLOSED_SHELL('',{_list(faces)})")
        return self.add(f"MANIFOLD_SOLID_BREP('{name}',{shell})")

    def color(self, item: str, rgb: Sequence[float], *, alpha: float = 1.0) -> None:
        """Draw a solid or a face in a colour."""
        color = self.once(f"COLOUR_RGB('',{_numbers(rgb)})")
        area = self.once(f"FILL_AREA_STYLE_COLOUR('',{color})")
        fill = self.once(f"FILL_AREA_STYLE('',({area}))")
        styles = [self.once(f"SURFACE_STYLE_FILL_AREA({fill})")]
        if alpha < 1:
            clear = self.once(f"SURFACE_STYLE_TRANSPARENT({_real(1 - alpha)})")
            styles.append(self.once(f"SURFACE_STYLE_RENDERING_WITH_PROPERTIES(.NORMAL_SHADING.,{color},({clear}))"))
        side = self.once(f"SURFACE_SIDE_STYLE('',{_list(styles)})")
        usage = self.once(f"SURFACE_STYLE_USAGE(.BOTH.,{side})")
        style = self.once(f"PRESENTATION_STYLE_ASSIGNMENT(({usage}))")
        self.add(f"STYLED_ITEM('color',({style}),{item})")

    # Products

    def part(self, name: str, items: Sequence[str] = ()) -> tuple[str, str]:
        """A product with its shape: its definition, and the representation of its shape."""
        origin = self.placement((0, 0, 0))
        kind = "ADVANCED_BREP_SHAPE_REPRESENTATION" if items else "SHAPE_REPRESENTATION"
        shape = self.add(f"{kind}('{name}',{_list([origin, *items])},{self.space})")
        product = self.add(f"PRODUCT('{name}','{name}','',({self.about}))")
        formation = self.add(f"PRODUCT_DEFINITION_FORMATION('','',{product})")
        definition = self.add(f"PRODUCT_DEFINITION('design','',{formation},{self.design})")
        about = self.add(f"PRODUCT_DEFINITION_SHAPE('','',{definition})")
        self.add(f"SHAPE_DEFINITION_REPRESENTATION({about},{shape})")
        return definition, shape

    def place(
        self, part: tuple[str, str], within: tuple[str, str], name: str, origin: ArrayLike, z: ArrayLike = (0, 0, 1),
        x: ArrayLike | None = None,
    ) -> None:  # fmt: skip
        """Put a part into another one."""
        usage = self.add(f"NEXT_ASSEMBLY_USAGE_OCCURRENCE('{name}','{name}','',{within[0]},{part[0]},$)")
        about = self.add(f"PRODUCT_DEFINITION_SHAPE('','',{usage})")
        own, there = self.placement((0, 0, 0)), self.placement(origin, z, x)
        move = self.add(f"ITEM_DEFINED_TRANSFORMATION('','',{own},{there})")
        relation = self.add(
            f"(REPRESENTATION_RELATIONSHIP('','',{part[1]},{within[1]})"
            f"REPRESENTATION_RELATIONSHIP_WITH_TRANSFORMATION({move})SHAPE_REPRESENTATION_RELATIONSHIP())"
        )
        self.add(f"CONTEXT_DEPENDENT_SHAPE_REPRESENTATION({relation},{about})")

    def text(self) -> str:
        """The whole file."""
        head = (
            "ISO-10303-21;\nHEADER;\nFILE_DESCRIPTION((''),'2;1');\nFILE_NAME('','2000-01-01T00:00:00',(''),(''),'','','');"
            "\nFILE_SCHEMA(('AUTOMOTIVE_DESIGN { 1 0 10303 214 1 1 1 1 }'));\nENDSEC;\nDATA;\n"
        )
        body = "".join(f"#{k}={line};\n" for k, line in enumerate(self.lines, 1))
        return f"{head}{body}ENDSEC;\nEND-ISO-10303-21;\n"


def _real(value: float) -> str:
    text = f"{float(value):.15G}"
    if "." not in text:
        text = text.replace("E", ".E") if "E" in text else f"{text}."
    return text


def _numbers(values: ArrayLike) -> str:
    return ",".join(_real(one if abs(one) > 1e-14 else 0.0) for one in np.asarray(values, float).ravel().tolist())


def _list(items: object) -> str:
    return f"({','.join(str(one) for one in items)})"  # type: ignore[attr-defined]


def _flag(value: bool) -> str:
    return ".T." if value else ".F."
