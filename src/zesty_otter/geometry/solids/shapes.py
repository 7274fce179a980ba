"""Simple solids around points, and light shells, as collision takes them."""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface, sampled
from zesty_otter.geometry.simplify.collapse import simplify
from zesty_otter.geometry.solids.fits import smallest_box, smallest_capsule, smallest_cylinder, smallest_sphere
from zesty_otter.geometry.solids.hulls import Hull, convex_hull, cut_box
from zesty_otter.geometry.solids.inset import face_normals
from zesty_otter.geometry.solids.solid import Solid
from zesty_otter.geometry.surface.topology import holes, topology
from zesty_otter.geometry.surface.triangulation import triangulate

Simple = Literal["box", "turned-box", "cut-box", "sphere", "capsule", "cylinder"]

_SIDES = 24  # of a cylinder
_RINGS = 12  # of a ball
_SIGNS = np.array([[x, y, z] for z in (-1, 1) for y in (-1, 1) for x in (-1, 1)], float)


def simple_solid(
    kind: Simple, points: NDArray[np.float64], thickness: float, axes: NDArray[np.float64] | None = None
) -> Hull:
    """A simple solid with little volume that holds points; balls and cylinders by flat sides outside of them.

    Parameters
    ----------
    kind : one of Simple
    points : (P, 3) float64
        At least one.
    thickness : float
        What is flat is made as thick as this.
    axes : (3, 3) float64, optional
        Columns along which the edges of a box run, of any length; those of the space when absent.
    """
    if kind == "box":
        axes = np.eye(3) if axes is None else axes
        own = points @ np.linalg.inv(axes).T
        low, high = own.min(axis=0), own.max(axis=0)
        ends = np.stack(np.meshgrid(*zip(low, high, strict=True), indexing="ij"), -1).reshape(-1, 3)
        return convex_hull(ends @ axes.T, thickness)
    if kind == "turned-box":
        centre, along, half = smallest_box(points)
        return convex_hull(centre + (_SIGNS * half) @ along, thickness)
    if kind == "cut-box":
        return cut_box(convex_hull(points, thickness).points, 26)
    if kind == "sphere":
        centre, radius = smallest_sphere(points)
        return convex_hull(centre + max(radius, thickness) * _ball())
    fit = smallest_capsule if kind == "capsule" else smallest_cylinder
    centre, axis, half_length, radius = fit(points)
    side = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    frame = np.stack([side / np.linalg.norm(side), np.cross(axis, side / np.linalg.norm(side)), axis])
    radius = max(radius, thickness / 2)
    if kind == "capsule":
        end, along = radius * _ball(), np.array([0.0, 0.0, half_length])
    else:
        angle = np.arange(_SIDES) * 2 * np.pi / _SIDES
        # Outside the circle, so that what is within it is held.
        rim = radius / math.cos(np.pi / _SIDES)
        end = np.stack([rim * np.cos(angle), rim * np.sin(angle), 0 * angle], axis=1)
        along = np.array([0.0, 0.0, max(half_length, thickness / 2)])
    return convex_hull(centre + np.concatenate([end + along, end - along]) @ frame)


@lru_cache(1)
def _ball() -> NDArray[np.float64]:
    """(N, 3) points of a solid a ball of radius 1 fits in."""
    tilt = (np.arange(_RINGS) + 0.5) * np.pi / _RINGS
    turn = np.arange(2 * _RINGS) * np.pi / _RINGS
    points = np.stack(
        [np.outer(np.sin(tilt), np.cos(turn)), np.outer(np.sin(tilt), np.sin(turn)),
         np.outer(np.cos(tilt), np.ones(2 * _RINGS))], axis=-1,
    ).reshape(-1, 3)  # fmt: skip
    return np.asarray(points / -convex_hull(points).planes[:, 3].max())


def light_shell(solid: Solid, allowed: float) -> tuple[NDArray[np.float64], NDArray[np.int32], float]:
    """The lightest copy of a surface that is nowhere farther from it than allowed, and how far it is.

    Parameters
    ----------
    solid : Solid
    allowed : float
        In the unit of its points, both ways.

    Returns
    -------
    points : (P, 3) float64
    triangles : (T, 3) int32
    off : float
    """
    count = len(solid.triangles)
    targets = sorted({max(count >> k, 1) for k in range(1, 12)}, reverse=True)
    best, best_off = (solid.points, solid.triangles), 0.0
    own = sampled(solid.points, solid.triangles, 4000).position
    for light in simplify(solid.points, solid.triangles, targets, limit=allowed / solid.size):
        if not len(light.triangles):
            break
        places = sampled(light.points, light.triangles, 4000).position
        off = max(
            float(solid.surface.nearest(places)[0].max()),
            float(Surface(light.points, light.triangles).nearest(own)[0].max()),
        )
        if off > allowed:
            break
        best, best_off = (light.points, light.triangles), off
    return *best, best_off


def closed_at_foot(
    points: NDArray[np.float64], triangles: NDArray[np.int32], up: NDArray[np.float64]
) -> NDArray[np.int32] | None:
    """Triangles with what is open at the lowest height closed, as many things stand on the ground without a bottom.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    up : (3,) float64

    Returns
    -------
    (T + n, 3) int32
        None where nothing is open there.
    """
    start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
    edges = topology(points, start, triangles.ravel())
    height = points @ up
    low, size = height[triangles.ravel()].min(), float(np.ptp(points[triangles.ravel()], axis=0).max())
    added = []
    for loop in holes(triangles.ravel(), start, edges):
        around = triangles.ravel()[loop]
        if len(around) > 2 and height[around].max() - low <= 1e-6 * size:
            corners, _ = triangulate(points, np.array([0, len(around)], np.int32), around.astype(np.int32))
            added.append(around[corners])
    return np.concatenate([triangles, *added]).astype(np.int32) if added else None


def hull_of_nearly_convex(
    points: NDArray[np.float64], triangles: NDArray[np.int32], tolerance: float, *, is_open: bool
) -> Hull | None:
    """The hull of a surface that looks outward and is nowhere deeper in it than a tolerance.

    None when it is farther from its hull, or is convex and closed as it is.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    tolerance : float
    is_open : bool
        Whether the surface has borders.
    """
    used = points[np.unique(triangles)]
    if len(used) < 4:
        return None
    hull = convex_hull(used)
    places = sampled(points, triangles, 2000)
    deep = float(-hull.above(places.position).min())
    # A room seen from inside has to stay one.
    facing = face_normals(points, triangles)[places.triangle] * (places.position - hull.points.mean(axis=0))
    looks_outward = bool((facing.sum(axis=1) > 0).all())
    is_sound = not is_open and deep <= 1e-5 * float(np.ptp(used, axis=0).max())
    return None if is_sound or deep > tolerance or not looks_outward else hull


def moved_outward(points: NDArray[np.float64], triangles: NDArray[np.int32], distance: float) -> NDArray[np.float64]:
    """(P, 3) points of a surface moved along their normals, which are those of their faces by area."""
    normal = face_normals(points, triangles)
    total = np.stack(
        [sum(np.bincount(triangles[:, k], normal[:, j], minlength=len(points)) for k in range(3)) for j in range(3)],
        axis=1,
    )
    length = np.linalg.norm(total, axis=1, keepdims=True)
    return np.asarray(points + distance * total / np.where(length > 0, length, 1.0))
