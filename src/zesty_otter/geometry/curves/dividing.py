"""How finely curves and surfaces are divided."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np

from zesty_otter.geometry.curves.curves import Curve, Ellipse, Floats, Line, Polyline, samples_of
from zesty_otter.geometry.curves.limits import Limits
from zesty_otter.geometry.curves.surfaces import Cone, Plane, Sphere, Surface, Torus

ONE_WAY = frozenset({"plane", "cylinder", "cone", "extruded"})
"""Surfaces that bend along one of their parameters at most."""

_MOST = 4096  # pieces of one edge, or of one direction of a surface


def divided(curve: Curve, first: float, last: float, limits: Limits, finer: int = 1) -> Floats:
    """(N,) parameters that divide part of a curve, both ends included.

    Parameters
    ----------
    curve : Curve
    first, last : float
        ``last`` may be the lower one.
    limits : Limits
    finer : int
        How many times as many pieces to make.

    Examples
    --------
    >>> import numpy as np
    >>> from zesty_otter.geometry.curves.curves import Ellipse, Placed
    >>> circle = Ellipse(Placed(np.zeros(3), np.eye(3)), 1.0, 1.0)
    >>> len(divided(circle, 0.0, 2 * np.pi, Limits(chord=0.01, angle=1.0)))
    24
    """
    if last < first:
        return divided(curve, last, first, limits, finer)[::-1]
    if isinstance(curve, Line):
        if finer == 1 and limits.longest == math.inf:
            return np.array([first, last])
        length = (last - first) * float(np.linalg.norm(curve.along))
        count = finer * (math.ceil(length / limits.longest - 1e-9) if limits.longest < math.inf else 1)
        return np.linspace(first, last, max(min(count, _MOST), 1) + 1)
    if isinstance(curve, Ellipse) and curve.a == curve.b:
        step = float(limits.step(np.array([1 / curve.a]))[0]) / curve.a
        count = finer * math.ceil((last - first) / step - 1e-9)
        return np.linspace(first, last, max(min(count, _MOST), 1) + 1)
    breaks = curve.breaks
    if curve.period and len(breaks):
        breaks = np.concatenate([breaks - curve.period, breaks, breaks + curve.period])
    slack = 1e-9 * (last - first)
    inner = breaks[(breaks > first + slack) & (breaks < last - slack)]
    ends = np.concatenate([[first], inner, [last]])
    if isinstance(curve, Polyline):
        return np.unique(np.concatenate([ends, *(np.linspace(a, b, finer + 1) for a, b in pairwise(ends.tolist()))]))
    parts = [_evenly(curve, a, b, limits, finer) for a, b in pairwise(ends.tolist())]
    return np.concatenate([parts[0], *(part[1:] for part in parts[1:])])


def _evenly(curve: Curve, first: float, last: float, limits: Limits, finer: int) -> Floats:
    """Parameters of pieces that are all as good as they need to be, told from how a smooth curve bends in samples."""
    known = samples_of(curve)
    inside = int(((known > first) & (known < last)).sum())
    t = np.linspace(first, last, max(33, min(4 * inside, 1025)))
    points = curve.at(t)
    move = np.diff(points, axis=0)
    length = np.linalg.norm(move, axis=1)
    total = float(length.sum())
    if total <= 0:
        return np.array([first, last])
    along = move / np.maximum(length, 1e-300)[:, None]
    turn = 2 * np.arcsin(np.clip(np.linalg.norm(np.diff(along, axis=0), axis=1) / 2, 0.0, 1.0))
    at_sample = turn / np.maximum((length[1:] + length[:-1]) / 2, 1e-9 * total)
    bent = np.concatenate([at_sample[:1], np.maximum(at_sample[1:], at_sample[:-1]), at_sample[-1:]])
    pieces = np.concatenate([[0.0], np.cumsum(length / limits.step(bent))])
    count = finer * math.ceil(pieces[-1] - 1e-6)
    # A closed curve is more than a line to and fro.
    count = max(count, 3 if np.linalg.norm(points[0] - points[-1]) < 1e-6 * total else 1)
    wanted = np.linspace(0.0, pieces[-1], min(count, _MOST) + 1)
    found = np.interp(wanted, pieces, t)
    found[0], found[-1] = first, last
    return found


def steps(surface: Surface, uv: Floats, limits: Limits) -> tuple[Floats, Floats]:
    """How far apart points may be along u and v, and the length of one u and one v, where its parameters are used.

    Parameters
    ----------
    surface : Surface
    uv : (N, 2) float64
        Places spread over the part of the surface that matters.
    limits : Limits

    Returns
    -------
    step : (2,) float64
        Of the parameters; infinite along what is straight, as far as no longest edge is asked for.
    scale : (2,) float64
    """
    if isinstance(surface, Plane):
        return np.full(2, limits.longest), np.ones(2)
    if isinstance(surface, Cone):
        widest = float(np.abs(surface.radius + uv[:, 1] * math.tan(surface.angle)).max()) or 1.0
        around = float(limits.step(np.array([math.cos(surface.angle) / widest]))[0]) / widest
        scale = np.array([widest, 1 / math.cos(surface.angle)])
        return np.array([around, limits.longest / float(scale[1])]), scale
    if isinstance(surface, Sphere):
        both = float(limits.step(np.array([1 / surface.radius]), 0.5)[0]) / surface.radius
        return np.array([both, both]), np.full(2, surface.radius)
    if isinstance(surface, Torus):
        reach = np.abs(surface.major + surface.minor * np.cos(uv[:, 1]))
        bent = np.abs(np.cos(uv[:, 1])) / np.maximum(reach, 1e-9 * surface.major)
        steps_around = limits.step(bent, 0.5) / np.maximum(reach, 1e-300)
        across = float(limits.step(np.array([1 / surface.minor]), 0.5)[0]) / surface.minor
        return np.array([float(steps_around.min()), across]), np.array([float(reach.max()) or 1.0, surface.minor])
    du, dv = surface.slopes(uv)
    lengths = np.stack([np.linalg.norm(du, axis=1), np.linalg.norm(dv, axis=1)], axis=1)
    scale = np.maximum(lengths.max(axis=0), 1e-300)
    return _sampled_steps(surface, uv, limits), scale


def _sampled_steps(surface: Surface, uv: Floats, limits: Limits) -> Floats:
    """From how normals turn along u and v, at nine of ten places; what bends more elsewhere is divided again later."""
    found = np.empty(2)
    size = np.ptp(uv, axis=0)
    closed = np.array(surface.period) > 0
    low, high = np.where(closed, -math.inf, surface.box[0]), np.where(closed, math.inf, surface.box[1])
    for axis in (0, 1):
        step = np.zeros(2)
        step[axis] = 0.01 * size[axis]
        ahead, behind = np.clip(uv + step, low, high), np.clip(uv - step, low, high)
        turn = np.linalg.norm(surface.normals(ahead) - surface.normals(behind), axis=1)
        way = np.linalg.norm(surface.at(ahead) - surface.at(behind), axis=1)
        good = way > 1e-6 * way.max(initial=0.0)
        if not good.any():
            found[axis] = math.inf
            continue
        turn, way, apart = turn[good], way[good], (ahead - behind)[good, axis]
        bent = np.where(turn < 1e-9, 0.0, np.minimum(turn, 1.0) / way)
        lengths = np.where(bent > 0, limits.step(bent, 0.5), limits.longest) / (way / apart)
        found[axis] = np.quantile(lengths, 0.1, method="lower")
    return found
