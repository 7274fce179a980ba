"""X3D terrain and extrusions to meshes (ISO/IEC 19775-1, 13.3.4 and 13.3.5)."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.xml import Element, child, floats, number
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.geometry.surface.normals import edge_bends, normals_over_soft_edges
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.model import Layer, Mesh

_MOST = 1 << 24


def is_true(element: Element, key: str, missing: bool) -> bool:
    """A field that is true or false."""
    return (element.get(key) or str(missing)).strip().lower() == "true"


def creased(mesh: Mesh, crease: float) -> Mesh:
    """The mesh smooth over edges that bend by less than a crease angle in radians (11.2.3); flat when it is 0."""
    if not crease > 0.0:
        return mesh
    arrays = mesh.points, mesh.face_start, mesh.corner_point
    edges = mesh.surface(topology)
    soft = edge_bends(*arrays, edges) <= math.degrees(crease) + 1e-6
    values, index = normals_over_soft_edges(*arrays, edges, soft)
    return mesh.replace(layers=(*mesh.layers, Layer.taking("normal", values, index)))


def elevation_grid(element: Element, name: str) -> Mesh | None:
    """Heights over a grid in the XZ plane; None when there are too few."""
    height = floats(element.get("height"))
    wide, deep = (max(int(number(element.get(key), 0.0)), 0) for key in ("xDimension", "zDimension"))
    if wide < 2 or deep < 2 or wide * deep > min(len(height), _MOST) or not np.isfinite(height).all():
        return None
    z, x = np.mgrid[0:deep, 0:wide]
    spacing = number(element.get("xSpacing"), 1.0), number(element.get("zSpacing"), 1.0)
    points = np.stack([x.ravel() * spacing[0], height[: wide * deep], z.ravel() * spacing[1]], axis=1)
    corners = _quads(deep, wide)
    shares = np.stack([x.ravel() / (wide - 1), z.ravel() / (deep - 1)], axis=1)
    layers = [Layer.taking("uv", shares.astype(np.float32), corners)]
    given = floats(part.get("point") if (part := child(element, "TextureCoordinate")) is not None else None)
    if len(given) >= 2 * len(points):
        own = np.nan_to_num(given[: 2 * len(points)]).reshape(-1, 2)
        layers = [Layer.taking("uv", own.astype(np.float32), corners)]
    color = floats(part.get("color") if (part := child(element, "Color")) is not None else None)
    colors = np.clip(np.nan_to_num(color[: len(color) // 3 * 3]).reshape(-1, 3), 0, 1).astype(np.float32)
    if is_true(element, "colorPerVertex", True) and len(colors) >= len(points):
        layers.append(Layer.taking("color", colors, corners))
    elif len(colors) >= len(corners) // 4:
        layers.append(Layer.taking("color", colors, np.repeat(np.arange(len(corners) // 4, dtype=np.int32), 4)))
    return _finished(element, name, points, np.arange(0, len(corners) + 1, 4), corners, layers)


def extrusion(element: Element, name: str) -> Mesh | None:
    """A cross-section swept along a spine, scaled and turned at each of its points; None when there is none."""
    section = _pairs(element.get("crossSection"), "1 1 1 -1 -1 -1 -1 1 1 1", 2)
    spine = _pairs(element.get("spine"), "0 0 0 0 1 0", 3)
    if len(section) < 2 or len(spine) < 2 or len(section) * len(spine) > _MOST:
        return None
    scale = _spread(_pairs(element.get("scale"), "1 1", 2), len(spine))
    turns = _spread(_pairs(element.get("orientation"), "0 0 1 0", 4), len(spine))
    rings = []
    for frame, at, (sx, sz), turn in zip(_planes(spine), spine, scale, turns, strict=True):
        flat = np.stack([section[:, 0] * sx, np.zeros(len(section)), section[:, 1] * sz], axis=1)
        rings.append(flat @ about_axis(turn[:3], float(turn[3])).T @ frame.T + at)
    points = np.concatenate(rings)
    closed = np.array_equal(section[0], section[-1])
    # Sections run clockwise about the spine, so that their quads are seen from the other side.
    corners = _quads(len(spine), len(section)).reshape(-1, 4)[:, ::-1].ravel()
    size = np.full(len(corners) // 4, 4)
    last = len(section) - closed
    for wanted, first in ((is_true(element, "beginCap", True), 0), (is_true(element, "endCap", True), len(spine) - 1)):
        if wanted and last >= 3:
            ring = first * len(section) + np.arange(last)
            corners = np.concatenate([corners, ring[::-1] if first == 0 else ring]).astype(np.int32)
            size = np.append(size, last)
    return _finished(element, name, points, np.concatenate([[0], np.cumsum(size)]), corners, [])


def _quads(rows: int, columns: int) -> NDArray[np.int32]:
    """The corners of a grid of quads, which face upward where rows run along +Z and columns along +X."""
    first = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)).ravel()
    return np.stack([first, first + columns, first + columns + 1, first + 1], axis=1).ravel().astype(np.int32)


def _pairs(text: str | None, missing: str, width: int) -> NDArray[np.float64]:
    values = floats(text or missing)
    rows = values[: len(values) // width * width].reshape(-1, width)
    return rows[np.isfinite(rows).all(axis=1)]


def _spread(rows: NDArray[np.float64], count: int) -> NDArray[np.float64]:
    """A row for each of ``count``: the last one goes on where there are too few."""
    return rows[np.minimum(np.arange(count), len(rows) - 1)] if len(rows) else np.zeros((count, 2))


def _planes(spine: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """The axes of the cross-section at each point of a spine, as columns X, Y and Z (13.3.5.4)."""
    closed = np.array_equal(spine[0], spine[-1])
    ahead, behind = np.roll(spine, -1, axis=0), np.roll(spine, 1, axis=0)
    if closed:
        ahead[-1], behind[0] = spine[1], spine[-2]
    else:
        ahead[-1], behind[0] = spine[-1], spine[0]
    along = ahead - behind
    across = np.cross(ahead - spine, behind - spine)
    if not closed and len(spine) > 2:
        across[0], across[-1] = across[1], across[-2]
    y = _units(along, np.array([0.0, 1.0, 0.0]))
    length = np.linalg.norm(across, axis=1)
    if not (length > 1e-12).any():
        # A straight spine: its frame is the one that turns +Y to it.
        up = y[0]
        axis = np.cross([0.0, 1.0, 0.0], up)
        turn = about_axis(axis, math.acos(float(np.clip(up[1], -1.0, 1.0)))) if np.any(axis) else np.eye(3)
        if not np.any(axis) and up[1] < 0:
            turn = np.diag([1.0, -1.0, -1.0])
        return [turn] * len(spine)
    known = across[int(np.argmax(length > 1e-12))]
    frames = []
    for k in range(len(spine)):
        if length[k] > 1e-12:
            # The cross-section keeps to the side it was on.
            known = across[k] if float(across[k] @ known) >= 0 else -across[k]
        z = known / np.linalg.norm(known)
        x = _units(np.cross(y[k], z)[None], np.array([1.0, 0.0, 0.0]))[0]
        frames.append(np.stack([x, y[k], np.cross(x, y[k])], axis=1))
    return frames


def _units(rows: NDArray[np.float64], missing: NDArray[np.float64]) -> NDArray[np.float64]:
    length = np.linalg.norm(rows, axis=1, keepdims=True)
    return np.where(length > 1e-12, rows / np.where(length > 0, length, 1.0), missing)


def _finished(
    element: Element,
    name: str,
    points: NDArray[np.float64],
    start: NDArray[np.int64],
    corners: NDArray[np.int32],
    layers: list[Layer],
) -> Mesh:
    mesh = Mesh.taking(name, points, start.astype(np.int32), corners, tuple(layers))
    if not is_true(element, "ccw", True):
        mesh = mesh.turned_round()
    return creased(mesh, number(element.get("creaseAngle"), 0.0))
