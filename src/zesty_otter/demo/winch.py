"""A winch drum with its handles, of exact surfaces."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from zesty_otter.demo.step_text import StepText

_Z = np.array([0.0, 0.0, 1.0])
_ROUND = np.array([(1, 0), (1, 1), (0, 1), (-1, 1), (-1, 0), (-1, -1), (0, -1), (1, -1), (1, 0)], float)
_WEIGHTS = [1.0, math.sqrt(0.5)] * 4 + [1.0]
_KNOTS = [0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 4]

Profile = Sequence[tuple[float, float, tuple[float, float] | None]]
"""Radius and height of each corner, with the centre of the arc to the next one, or None for a straight line."""


def winch_drum() -> dict[str, str | bytes]:
    """A drum between two flanges, bolted down through the lower one: 240 mm across, 300 mm tall, with two handles."""
    step = StepText()
    drum = _drum(step)
    handle = _handle(step)
    step.color(drum, (0.70, 0.48, 0.22))
    step.color(handle, (0.33, 0.20, 0.11))
    body, grip = step.part("COMPOUND", [drum]), step.part("COMPOUND (2)", [handle])
    # Drawn lying along X, a good way from the origin.
    whole = step.part("WINCH ASSY v7 final")
    at = np.array([1200.0, -340.0, 55.0])
    step.place(body, whole, "1", at, z=(1, 0, 0), x=(0, 1, 0))
    step.place(grip, whole, "2", at + (300, 0, 0), z=(1, 0, 0), x=(0, 1, 0))
    step.place(grip, whole, "3", at + (300, 0, 0), z=(1, 0, 0), x=(0, -1, 0))
    return {"winch_drum.step": step.text()}


def _drum(step: StepText) -> str:
    barrel = 60.0
    profile: Profile = [
        (20, 0, None), (114, 0, (114, 6)), (120, 6, None), (120, 14, (114, 14)), (114, 20, None), (70, 20, (70, 30)),
        (barrel, 30, None), (barrel, 270, (70, 270)), (70, 280, None), (114, 280, (114, 286)), (120, 286, None),
        (120, 294, (114, 294)), (114, 300, None), (20.5, 300, None), (20, 299.5, None),
    ]  # fmt: skip
    bolts = [(92 * math.cos(turn), 92 * math.sin(turn)) for turn in np.arange(6) * math.pi / 3 + math.pi / 6]
    low, high = (
        [[(_ring(step, 8.0, z, x, y), True)] for x, y in bolts] for z in (0.0, 20.0)
    )  # fmt: skip
    faces = _turned(step, profile, holes={0: low, 4: [[(edge, False)] for [(edge, _)] in high]})
    for (x, y), [(below, _)], [(above, _)] in zip(bolts, low, high, strict=True):
        # Inward: the material lies outside.
        loops = [(below, False)], [(above, True)]
        faces.append(step.face(step.cylinder((x, y, 0), _Z, 8.0), *loops, same=False))
    return step.solid("", faces)


def _ring(step: StepText, radius: float, z: float, x: float = 0.0, y: float = 0.0) -> str:
    start = (x + radius, y, z)
    return step.arc(start, start, (x, y, z), _Z)


def _turned(step: StepText, profile: Profile, holes: dict[int, list[list[tuple[str, bool]]]]) -> list[str]:
    """The faces of a profile turned round z; it runs with the material on its left."""
    rings = [_ring(step, radius, z) for radius, z, _ in profile]
    faces = []
    for k, (r, z, centre) in enumerate(profile):
        following = (k + 1) % len(profile)
        end, top = profile[following][:2]
        loops = [(rings[k], True)], [(rings[following], False)]
        if centre is not None:
            out = np.array([top - z, r - end])
            middle = np.array([(r + end) / 2, (z + top) / 2]) - centre
            surface = step.torus((0, 0, centre[1]), _Z, centre[0], math.hypot(r - centre[0], z - centre[1]))
            faces.append(step.face(surface, *loops, same=bool(out @ middle > 0)))
        elif r == end:
            faces.append(step.face(step.cylinder((0, 0, 0), _Z, r), *loops, same=top > z))
        elif z == top:
            # The outer ring is the wider one; it runs with the normal.
            wide, narrow = loops if r > end else loops[::-1]
            faces.append(step.face(step.plane((0, 0, z), (0, 0, r - end)), wide, narrow, *holes.get(k, [])))
        else:
            slant = math.atan((end - r) / (top - z))
            faces.append(step.face(step.cone((0, 0, z), _Z, r, slant), *loops, same=top > z))
    return faces


def _handle(step: StepText) -> str:
    """A bent bar that swells towards its grip: circles of several sizes along a curve, with a smooth skin."""
    path = np.array([(30, 0, -2), (30, 0, 40), (34, 0, 90), (90, 0, 110), (150, 0, 108), (205, 0, 112)], float)
    radii = [14, 13, 11, 12, 17, 15]
    ahead = np.gradient(path, axis=0)
    rows = []
    for place, along, radius in zip(path, ahead, radii, strict=True):
        along = along / np.linalg.norm(along)
        x = np.array([0.0, 1.0, 0.0])
        y = np.cross(along, x)
        rows.append(place + radius * (_ROUND[:, :1] * x + _ROUND[:, 1:] * y))
    points = np.array(rows).transpose(1, 0, 2)  # round it, then along it
    along_knots = [0, 0, 0, 0, 1, 2, 3, 3, 3, 3]
    surface = step.spline_surface(points, (_KNOTS, along_knots), (2, 3), np.outer(_WEIGHTS, np.ones(len(path))))
    first, last = (step.spline(points[:, k], _KNOTS, 2, _WEIGHTS) for k in (0, -1))
    seam = step.spline(points[0], along_knots, 3)
    caps = [np.cross(np.array([0.0, 1, 0]), np.cross(one / np.linalg.norm(one), (0, 1, 0))) for one in ahead[[0, -1]]]
    return step.solid("", [
        step.face(surface, [(first, True), (seam, True), (last, False), (seam, False)]),
        step.face(step.plane(path[0], -caps[0]), [(first, False)]),
        step.face(step.plane(path[-1], caps[1]), [(last, True)]),
    ])  # fmt: skip
