"""Simple solids, in metres, +X left, +Y up, +Z forward: what the kit's pieces are put together from."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

Point2 = tuple[float, float]


@dataclass(frozen=True, eq=False)
class Part:
    """A piece of surface: points, faces, and for every face its UVs, material and smoothing group."""

    points: NDArray[np.float64]
    faces: list[list[int]]
    uvs: list[list[Point2]] = field(default_factory=list)
    material: str = ""
    smoothing: list[int] = field(default_factory=list)

    def moved(self, x: float = 0.0, y: float = 0.0, z: float = 0.0) -> Part:
        return replace(self, points=self.points + np.array([x, y, z]))

    def painted(self, material: str) -> Part:
        return replace(self, material=material)


def lathe(profile: Sequence[Point2], segments: int, smoothing: Sequence[int]) -> Part:
    """A profile of (radius, height), from the bottom up, turned about the vertical axis; ends are n-gons.

    ``smoothing`` names the group of each band between two profile points.
    """
    angles = 2 * math.pi * np.arange(segments) / segments
    ring = np.stack([np.sin(angles), np.zeros(segments), np.cos(angles)], axis=1)
    # Quarter turns are made exact, so that the diameter is.
    ring = np.where(np.abs(ring) < 1e-12, 0.0, ring)
    points = np.concatenate([ring * radius + (0.0, height, 0.0) for radius, height in profile])
    faces: list[list[int]] = []
    uvs: list[list[Point2]] = []
    groups: list[int] = []
    for band in range(len(profile) - 1):
        low, high = band * segments, (band + 1) * segments
        for k in range(segments):
            n = (k + 1) % segments
            faces.append([low + k, low + n, high + n, high + k])
            v0, v1 = profile[band][1], profile[band + 1][1]
            u0, u1 = k / segments, (k + 1) / segments
            uvs.append([(u0, v0), (u1, v0), (u1, v1), (u0, v1)])
            groups.append(smoothing[band])
    for row, up in ((0, False), (len(profile) - 1, True)):
        order = list(range(segments)) if up else list(range(segments))[::-1]
        faces.append([row * segments + k for k in order])
        uvs.append([(0.5 + 0.5 * float(ring[k, 0]), 0.5 + 0.5 * float(ring[k, 2])) for k in order])
        groups.append(0)
    return Part(points, faces, uvs, smoothing=groups)


def prism(outline: Sequence[Point2], depth: float) -> Part:
    """An outline in the X-Y plane, counter-clockwise seen from +Z, given a depth about z = 0."""
    count = len(outline)
    flat = np.array(outline, float)
    points = np.concatenate([np.c_[flat, np.full(count, z)] for z in (depth / 2, -depth / 2)])
    faces = [list(range(count)), list(range(2 * count - 1, count - 1, -1))]
    faces += [[k, count + k, count + (k + 1) % count, (k + 1) % count] for k in range(count)]
    return box_mapped(Part(points, faces, smoothing=[0] * len(faces)))


def box(width: float, height: float, depth: float) -> Part:
    """A box about the origin."""
    x, y = width / 2, height / 2
    return prism([(-x, -y), (x, -y), (x, y), (-x, y)], depth)


def box_mapped(part: Part) -> Part:
    """UVs in metres, projected along the axis each face looks along most."""
    uvs = []
    points = part.points.tolist()
    for face in part.faces:
        corners = [points[k] for k in face]
        normal = [0.0, 0.0, 0.0]
        for (ax, ay, az), (bx, by, bz) in zip(corners, [*corners[1:], corners[0]], strict=True):
            normal[0] += ay * bz - az * by
            normal[1] += az * bx - ax * bz
            normal[2] += ax * by - ay * bx
        x, y, z = map(abs, normal)
        u, v = (2, 1) if x >= max(y, z) else (0, 2) if y >= z else (0, 1)
        uvs.append([(p[u], p[v]) for p in corners])
    return replace(part, uvs=uvs)


def sheet(rows: NDArray[np.float64], smoothing: int) -> Part:
    """Quads over a grid of points (R, C, 3); faces look to the left of the way from row to row."""
    high, wide = rows.shape[:2]
    faces, uvs = [], []
    for r in range(high - 1):
        for c in range(wide - 1):
            a = r * wide + c
            faces.append([a, a + 1, a + wide + 1, a + wide])
            u0, u1, v0, v1 = r / (high - 1), (r + 1) / (high - 1), c / (wide - 1), (c + 1) / (wide - 1)
            uvs.append([(u0, v0), (u0, v1), (u1, v1), (u1, v0)])
    return Part(rows.reshape(-1, 3), faces, uvs, smoothing=[smoothing] * len(faces))
