"""Closed surfaces pulled inward, and what that leaves of them."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.distance import Surface
from zesty_otter.geometry.solids.hulls import behind_planes, convex_hull
from zesty_otter.geometry.vectors import cross

_OF_WALL = 0.4  # of the thickness of a wall that each of its sides may come inward
_TURNED = 0.2  # cosine of the most that a face may turn
_DAMPING = 1e-3  # of the pull of planes, so that points on flat ground go straight in
_FARTHEST = 3.0  # times the length, for points on sharp edges
_VIEWS = np.array([(1, 0, 0), (0, 1, 0), (0, 0, 1), (1, 1, 0), (1, 0, 1), (0, 1, 1), (1, -1, 0), (1, 0, -1),
                   (0, 1, -1), (1, 1, 1), (-1, 1, 1), (1, -1, 1), (1, 1, -1)], float)  # fmt: skip
_FAR_OFF = np.array([(1, 1, 1, 1), (1, -1, -1, 1), (-1, 1, -1, 1), (-1, -1, 1, 1)]) / np.sqrt([[3, 3, 3, 1]])
_VIEWS /= np.linalg.norm(_VIEWS, axis=1, keepdims=True)


class Inset(NamedTuple):
    """A closed surface that was pulled inward.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    least : float
        How far the face that moved least came inward.
    is_convex : bool
        Whether it is what the planes of a convex solid leave; else its points are those of its source, moved.
    """

    points: NDArray[np.float64]
    triangles: NDArray[np.int32]
    least: float
    is_convex: bool = False


def inset(points: NDArray[np.float64], triangles: NDArray[np.int32], by: float) -> Inset:
    """A closed surface with every face moved inward by a length, where what lies behind it is thick enough.

    A convex solid is exactly what its planes leave when all are moved. Of others each point goes where the planes of
    its faces meet when they are moved, in the sense of least squares, and less far where the wall behind it is thin
    or a face would turn over.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        Facing outward, at least one; points at one place have one number.
    by : float
        The length, in the unit of the points.

    Returns
    -------
    Inset

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> from zesty_otter.geometry import convex_hull
    >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
    >>> inner = inset(cube.points, cube.triangles, 0.1)
    >>> inner.points.min(axis=0).round(6).tolist(), inner.points.max(axis=0).round(6).tolist()
    ([0.1, 0.1, 0.1], [0.9, 0.9, 0.9])
    """
    normals = unit_normals(points, triangles)
    planes = _planes(points, triangles)
    used = points[np.unique(triangles)]
    size = float(np.ptp(used, axis=0).max()) or 1.0
    by = min(by, size)  # no wall is thicker
    if len(planes) and float((used @ planes[:, :3].T + planes[:, 3]).max()) <= 1e-6 * size:
        return _convex_inset(points, triangles, planes, by, size)
    moved, least = _moved_in(points, triangles, normals, by)
    return Inset(moved, triangles, least)


def _convex_inset(
    points: NDArray[np.float64], triangles: NDArray[np.int32], planes: NDArray[np.float64], by: float, size: float
) -> Inset:
    planes = planes[np.unique((planes / (1.0, 1.0, 1.0, size)).round(7), axis=0, return_index=True)[1]]
    inside = points[np.unique(triangles)].mean(axis=0)
    depth = -float((planes[:, :3] @ inside + planes[:, 3]).max())
    if by > _OF_WALL * 2 * depth:
        inside, depth = _deepest(planes, inside, size)
    least = min(by, _OF_WALL * 2 * depth)
    if depth <= 1e-9 * size:
        return Inset(points, triangles, 0.0)
    if least >= depth:
        least = _OF_WALL * depth
    moved = planes + np.array([0.0, 0.0, 0.0, least])
    try:
        hull = convex_hull(behind_planes(moved, inside))
    except (RuntimeError, ValueError):  # planes that meet nowhere
        return Inset(points, triangles, 0.0)
    return Inset(hull.points, hull.triangles.astype(np.int32), least, is_convex=True)


def _deepest(
    planes: NDArray[np.float64], inside: NDArray[np.float64], size: float
) -> tuple[NDArray[np.float64], float]:
    """The centre and the radius of the largest ball behind planes (N, 4) about a place; 0 where there is none.

    A linear program in four dimensions by C. Lemke's dual simplex method (1954).
    """
    # In a space of size one about that place, within four planes far off, on which the ball rests first.
    own = planes[:, 3] + planes[:, :3] @ inside
    rows = np.concatenate([_FAR_OFF, np.column_stack([planes[:, :3], np.ones(len(planes))])])
    most = np.concatenate([np.full(4, 100.0), -own / size])
    resting = np.arange(4)
    pushes = np.linalg.solve(rows[resting].T, (0.0, 0.0, 0.0, 1.0))
    for _ in range(20 + 4 * len(planes)):
        best = np.linalg.solve(rows[resting], most[resting])
        worst = int(np.argmax(rows @ best - most))
        if rows[worst] @ best <= most[worst] + 1e-12:
            break
        # The plane that cuts into it most takes the place of the one whose push it takes over first.
        taken = np.linalg.solve(rows[resting].T, rows[worst])
        ratio = np.where(taken > 1e-12, pushes / np.where(taken > 1e-12, taken, 1.0), np.inf)
        out = int(np.argmin(ratio))
        if not np.isfinite(ratio[out]):
            return np.zeros(3), 0.0
        pushes = np.maximum(pushes - ratio[out] * taken, 0.0)
        pushes[out] = ratio[out]
        resting[out] = worst
    centre = inside + size * best[:3]
    return centre, max(-float((planes[:, :3] @ centre + planes[:, 3]).max()), 0.0)


def _moved_in(
    points: NDArray[np.float64], triangles: NDArray[np.int32], normals: NDArray[np.float64], by: float
) -> tuple[NDArray[np.float64], float]:
    corner = triangles.ravel()
    count = len(points)
    # Every plane weighs as much as the angle its face has at the point, so that how a face is split does not matter.
    weight = _angles(points, triangles).ravel()
    normal = np.repeat(normals, 3, axis=0)
    pull = np.stack([np.bincount(corner, weight * normal[:, k], count) for k in range(3)], axis=1)
    matrix = np.empty((count, 3, 3))
    for j in range(3):
        for k in range(3):
            matrix[:, j, k] = np.bincount(corner, weight * normal[:, j] * normal[:, k], count)
    trace = np.trace(matrix, axis1=1, axis2=2)
    matrix += (_DAMPING * trace + 1e-30)[:, None, None] * np.eye(3)
    inward = -np.linalg.solve(matrix, (pull * (1 + _DAMPING))[:, :, None])[:, :, 0]
    length = np.linalg.norm(inward, axis=1)
    inward *= np.minimum(1.0, _FARTHEST / np.maximum(length, 1e-300))[:, None]
    used = np.unique(triangles)
    straight = pull / np.maximum(np.linalg.norm(pull, axis=1), 1e-300)[:, None]
    # What lies opposite comes to meet it, and neither may pass the other.
    hits, _ = Surface(points, triangles).first_hits(
        points[used] - 1e-4 * by * straight[used], -straight[used], 1e-3 * by
    )
    depth = np.zeros(count)
    depth[used] = np.minimum(by, np.where(np.isfinite(hits), _OF_WALL * hits, by))
    before = face_normals(points, triangles)
    for _ in range(12):
        moved = points + depth[:, None] * inward
        after = face_normals(moved, triangles)
        sizes = (before**2).sum(axis=1) * (after**2).sum(axis=1)
        turned = (before * after).sum(axis=1) < _TURNED * np.sqrt(np.maximum(sizes, 1e-300))
        if not turned.any():
            break
        # Half as far around every face that would turn over.
        depth[np.unique(triangles[turned])] /= 2
    return points + depth[:, None] * inward, float(depth[used].min())


def face_normals(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(T, 3) normals twice as long as the triangles' areas."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return cross(b - a, c - a)


def unit_normals(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(T, 3) unit normals of triangles; zero where there is no area."""
    normals = face_normals(points, triangles)
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    return np.where(length > 0, normals / np.maximum(length, 1e-300), 0.0)


def _angles(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(T, 3) the angle of each triangle at each corner."""
    at = points[triangles]
    out, back = np.roll(at, -1, axis=1) - at, np.roll(at, 1, axis=1) - at
    across = np.linalg.norm(cross(out, back), axis=2)
    return np.arctan2(across, np.einsum("ijk,ijk->ij", out, back))


def behind_by(
    source: NDArray[np.float64], triangles: NDArray[np.int32], points: NDArray[np.float64]
) -> NDArray[np.float64]:
    """(T,) how far behind the plane of each triangle of a convex solid the first of some points lies.

    Parameters
    ----------
    source : (P, 3) float64
    triangles : (T, 3) int32
        Facing outward; those without area are left out.
    points : (Q, 3) float64
    """
    planes = _planes(source, triangles)
    return np.asarray(-planes[:, 3] - _farthest_along(points, planes[:, :3]))


def brought_within(
    source: NDArray[np.float64], triangles: NDArray[np.int32], points: NDArray[np.float64]
) -> NDArray[np.float64]:
    """(Q, 3) points, those outside of a convex solid moved straight towards its middle as far as its surface.

    Parameters
    ----------
    source : (P, 3) float64
    triangles : (T, 3) int32
        Facing outward.
    points : (Q, 3) float64
    """
    planes = _planes(source, triangles)
    middle = source[np.unique(triangles)].mean(axis=0)
    away = points - middle
    behind = np.maximum(-(planes[:, :3] @ middle + planes[:, 3]), 1e-300)
    return np.asarray(middle + away / np.maximum(_farthest_along(planes[:, :3] / behind[:, None], away), 1.0)[:, None])


def _planes(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(N, 4) unit normal and minus how far along it, of each triangle that has an area."""
    normals = unit_normals(points, triangles)
    planes = np.column_stack([normals, -np.einsum("ij,ij->i", normals, points[triangles[:, 0]])])
    return planes[np.einsum("ij,ij->i", normals, normals) > 0.5]


def _farthest_along(points: NDArray[np.float64], directions: NDArray[np.float64]) -> NDArray[np.float64]:
    """(D,) how far the farthest of points (Q, 3) lies along each of some directions (D, 3)."""
    rows = max(1, 4_000_000 // max(len(points), 1))
    farthest = [(directions[at : at + rows] @ points.T).max(axis=1) for at in range(0, len(directions), rows)]
    return np.concatenate(farthest) if farthest else np.zeros(0)


def volume_of(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> float:
    """The volume a closed surface goes around."""
    at = points[triangles] - points[triangles[0, 0]] if len(triangles) else np.zeros((0, 3, 3))
    return float(np.einsum("ij,ij->", at[:, 0], cross(at[:, 1], at[:, 2]))) / 6


def widths_of(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """(13,) how wide points lie along the axes, and the diagonals of squares and cubes."""
    return np.asarray(np.ptp(points @ _VIEWS.T, axis=0))
