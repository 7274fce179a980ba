"""NURBS surfaces of X3D (ISO/IEC 19775-1, chapter 27)."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from zesty_otter.formats.xml import Element, children, floats, name_of, number
from zesty_otter.geometry.curves.curves import Curve, Floats, Polyline, Spline
from zesty_otter.geometry.curves.patches import Patches
from zesty_otter.geometry.curves.splines import even_knots
from zesty_otter.geometry.curves.surfaces import SplineSurface

Note = Callable[[str, str], None]
Resolve = Callable[[Element], Element]


def add_patch(patches: Patches, element: Element, name: str, resolve: Resolve, note: Note) -> bool:
    """The patch of a node; False, with a note, where it is none."""
    counts = [int(number(element.get(f"{axis}Dimension"), 0.0)) for axis in "uv"]
    orders = [int(number(element.get(f"{axis}Order"), 3.0)) for axis in "uv"]
    points = _points(element, resolve)
    fits = all(1 < order <= count for order, count in zip(orders, counts, strict=True)) and max(orders) <= 64
    if not fits or len(points) < counts[0] * counts[1] or not np.isfinite(points).all():
        note("lost", f"{name_of(element)} '{name}': its orders or dimensions do not fit its points; it is left out")
        return False
    whole = counts[0] * counts[1]
    weights = floats(element.get("weight"))
    weights = weights[:whole] if len(weights) >= whole and (weights > 0).all() else np.ones(whole)
    control = np.concatenate([points[:whole] * weights[:, None], weights[:, None]], axis=1)
    # Rows along u follow each other.
    control = np.ascontiguousarray(control.reshape(counts[1], counts[0], 4).transpose(1, 0, 2))
    u, v = (
        _knots(floats(element.get(f"{axis}Knot")), count, order)
        for axis, count, order in zip("uv", counts, orders, strict=True)
    )
    surface = SplineSurface((u, v), (orders[0] - 1, orders[1] - 1), control)
    loops = []
    for one in children(element):
        contour = resolve(one)
        if name_of(contour) in ("Contour2D", "ContourPolyline2D", "NurbsCurve2D"):
            loop = [
                _contour(resolve(part)) for part in (children(contour) if name_of(contour) == "Contour2D" else [one])
            ]
            found = [curve for curve in loop if curve is not None]
            if found:
                loops.append(found)
    # The first contour goes round what is kept.
    patches.add(surface, loops, whole=not loops)
    return True


def _points(element: Element, resolve: Resolve) -> Floats:
    values = floats(element.get("controlPoint"))
    for one in children(element):
        target = resolve(one)
        if name_of(target) in ("Coordinate", "CoordinateDouble"):
            values = floats(target.get("point"))
    return values[: len(values) // 3 * 3].reshape(-1, 3)


def _knots(own: Floats, count: int, order: int) -> Floats:
    if len(own) == count + order and (np.diff(own) >= 0).all() and own[order - 1] < own[count]:
        return own
    return even_knots(order - 1, count, held=True)


def _contour(element: Element) -> Curve | None:
    values = floats(element.get("controlPoint") or element.get("point"))
    flat = values[: len(values) // 2 * 2].reshape(-1, 2)
    if len(flat) < 2 or not np.isfinite(flat).all():
        return None
    places = np.concatenate([flat, np.zeros((len(flat), 1))], axis=1)
    if name_of(element) == "ContourPolyline2D":
        return Polyline(places)
    order = int(number(element.get("order"), 3.0))
    if not 1 < order <= len(flat):
        return None
    weights = floats(element.get("weight"))
    weights = weights if len(weights) == len(flat) and (weights > 0).all() else np.ones(len(flat))
    control = np.concatenate([places * weights[:, None], weights[:, None]], axis=1)
    return Spline(_knots(floats(element.get("knot")), len(flat), order), order - 1, control)
