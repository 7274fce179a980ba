"""Convex shapes: hulls, hulls of few corners, and boxes cut at their corners."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.queries.near import pairs_within
from zesty_otter.geometry.solids import _hulls
from zesty_otter.geometry.vectors import cross

Ints = NDArray[np.int32]

_SAME = 1e-9  # of the size, below which points are one
_FEW = 5000  # points, up to which hulls are made here
# Of the size: what lies less in front of a face is on it, and what no point may lie in front of any when all is done;
# the others where the first tears, as it may when 32-bit numbers lay on planes.
_SLACKS = (1e-12, 8e-9), (1e-8, 8e-8), (1e-7, 8e-7)
_SURELY_THICK = 1e-5  # the volume of a hull of a size of one that is not flat
_HAIR = 1e-6  # of the size: files with 32-bit numbers tell points apart that far from each other


@dataclass(frozen=True, eq=False)
class Hull:
    """A convex solid.

    Parameters
    ----------
    points : (P, 3) float64
        Its corners.
    face_start, corner_point : (F + 1,), (C,) int32
        Its faces as polygons, seen anticlockwise from outside.
    planes : (F, 4) float64
        Of each face its outward normal and minus how far it lies along that.
    volume, area : float
    """

    points: NDArray[np.float64]
    face_start: Ints
    corner_point: Ints
    planes: NDArray[np.float64]
    volume: float
    area: float

    @cached_property
    def triangles(self) -> Ints:
        """(T, 3) its faces as fans."""
        size = np.diff(self.face_start)
        if len(self.corner_point) == 3 * len(size):
            return self.corner_point.reshape(-1, 3)
        face = np.repeat(np.arange(len(size)), size - 2)
        step = np.arange(len(face)) - np.repeat(np.cumsum(size - 2) - (size - 2), size - 2)
        first = self.face_start[:-1][face]
        return np.stack([self.corner_point[first + k] for k in (0 * step, step + 1, step + 2)], axis=1)

    def above(self, places: NDArray[np.float64]) -> NDArray[np.float64]:
        """(N,) how far places are in front of the face they are farthest in front of; below 0 inside.

        Parameters
        ----------
        places : (N, 3) float64

        Returns
        -------
        (N,) float64
            In the unit of the places.

        Examples
        --------
        >>> import numpy as np
        >>> from itertools import product
        >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
        >>> cube.above(np.array([(0.5, 0.5, 0.75), (0.5, 0.5, 3)])).round(6).tolist()
        [-0.25, 2.0]
        """
        highest = np.empty(len(places))
        _hulls.above(np.ascontiguousarray(places), self.planes, highest)
        return highest


@dataclass(frozen=True, eq=False)
class _Triangles:
    """A hull as triangles: corners (T, 3), outward planes (T, 4), volume and area."""

    simplices: Ints
    equations: NDArray[np.float64]
    volume: float
    area: float


def _few_points_hull(points: NDArray[np.float64], shared: bool = True) -> _Triangles | None:
    """The hull of points of a size of about one; None where they are many or flat, or rounding might spoil it.

    With ``shared`` the triangles on one plane have the very same.
    """
    count = len(points)
    if not 4 <= count <= _FEW:
        return None
    points, most = np.ascontiguousarray(points), 2 * count + 8
    faces, planes, height = np.empty((most, 3), np.int32), np.empty((most, 5)), np.empty(most)
    links, rim, chain = np.empty((most, 8), np.int32), np.empty((most, 4), np.int32), np.empty((count, 2), np.int32)
    for slack, trust in _SLACKS:
        made, volume, area = _hulls.hull(points, slack, trust, shared, faces, planes, links, height, chain, rim)
        if made > 0:
            return _Triangles(faces[:made], planes[:made, :4], volume, area)
    return None


def hull_triangles(points: NDArray[np.float64], shared: bool = True) -> Any:
    """The hull of points as triangles, with their planes, volume and area.

    Parameters
    ----------
    points : (P, 3) float64
        Of a size of about one.
    shared : bool
        Whether triangles on one plane must have the very same.

    Raises
    ------
    ValueError
        When they lie on a plane.
    """
    found = _few_points_hull(points, shared)
    if found is not None:
        return found
    if len(points) < 4 or np.ptp(_principal(points) @ points.T, axis=1).min() < 1e-12:
        raise ValueError("the points lie on a plane")
    from scipy.spatial import ConvexHull

    return ConvexHull(points)


def convex_hull(points: NDArray[np.float64], thickness: float = 0.0) -> Hull:
    """The convex hull of points.

    Parameters
    ----------
    points : (P, 3) float64
        At least one.
    thickness : float
        What a hull of points on a plane, a line or a place is made thick by; a ten-thousandth of the size (or of a
        unit) when it is less.

    Returns
    -------
    Hull

    References
    ----------
    C. Barber, D. Dobkin and H. Huhdanpaa (1996), "The Quickhull algorithm for convex hulls".

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
    >>> cube.volume, cube.area, len(cube.planes)
    (1.0, 6.0, 6)
    """
    inner, found, centre, size = _spanned(points, thickness)
    # What lies on fewer than three planes is no corner.
    _, plane = _alike(found.equations, 7)
    pairs = np.unique(found.simplices.ravel().astype(np.int64) * len(plane) + np.repeat(plane, 3))
    corner = np.flatnonzero(np.bincount(pairs // len(plane), minlength=len(inner)) >= 3)
    if 4 <= len(corner) < len(np.unique(found.simplices)):
        again = hull_triangles(inner[corner])
        if again.volume >= (1 - 1e-7) * found.volume:
            inner, found = inner[corner], again
    return _as_polygons(inner, found, centre, size)


def rough_hull(points: NDArray[np.float64], thickness: float = 0.0) -> Hull:
    """What `convex_hull` gives, in half the time: of triangles, and perhaps with corners that are none."""
    return _as_triangles(*_spanned(points, thickness))


def _spanned(
    points: NDArray[np.float64], thickness: float
) -> tuple[NDArray[np.float64], _Triangles, NDArray[np.float64], float]:
    """Points about the origin and of a size of one, thick in every direction; their hull; and centre and size."""
    columns = np.ascontiguousarray(points.T)  # NumPy is slow at reducing along a long axis beside a short one
    low, high = columns.min(axis=1), columns.max(axis=1)
    size, centre = float((high - low).max()) or 1.0, (low + high) / 2
    inner = (points - centre) / size
    found = _few_points_hull(inner)
    if found is not None and found.volume > _SURELY_THICK:
        return inner, found, centre, size
    axes = _principal(inner)
    flat = np.ptp(axes @ np.ascontiguousarray(inner.T), axis=1) < 1e-6
    if flat.any():
        if thickness > size:
            # Beside what it is to be thick, it may be flat in every direction.
            inner, size = inner * (size / thickness), thickness
            flat = np.ptp(axes @ inner.T, axis=1) < 1e-6
        half = max(thickness, 1e-4 * size) / size / 2
        moved = [inner]
        for axis in axes[flat]:
            moved = [one + sign * half * axis for one in moved for sign in (-1.0, 1.0)]
        inner = np.concatenate(moved)
        found = _few_points_hull(inner)
    if found is None:
        from scipy.spatial import ConvexHull, QhullError

        try:
            found = ConvexHull(inner)
        except QhullError:
            found = ConvexHull(inner, qhull_options="QJ")
    return inner, found, centre, size


def _as_polygons(inner: NDArray[np.float64], found: Any, centre: NDArray[np.float64], size: float) -> Hull:
    """A hull whose triangles on one plane are one face."""
    first, plane = _alike(found.equations, 9)
    number = np.full(len(inner), -1, np.int32)
    used = np.unique(found.simplices)
    number[used] = np.arange(len(used))
    # Each corner of each plane once, in the order of the angle it is seen at from the middle.
    rows = np.unique(np.repeat(plane, 3) * len(inner) + found.simplices.ravel())
    face, corner = rows // len(inner), rows % len(inner)
    count = np.bincount(face)
    normal = found.equations[first, :3]
    helper = np.eye(3)[np.argmin(np.abs(normal), axis=1)]
    u = cross(normal, helper)
    v = cross(normal, u)
    middle = np.stack([np.bincount(face, inner[corner, k]) for k in range(3)], axis=1) / count[:, None]
    offset = inner[corner] - middle[face]
    angle = np.arctan2((offset * v[face]).sum(axis=1), (offset * u[face]).sum(axis=1))
    order = np.lexsort([angle, face])
    rows = number[corner[order]]
    if len(used) - len(rows) // 2 + len(count) != 2:
        # By rounding, planes that are nearly the same do not fit together: triangles always do.
        return _as_triangles(inner, found, centre, size)
    return _sized(inner[used], np.concatenate([[0], np.cumsum(count)]), rows, found, normal, first, centre, size)


def _as_triangles(inner: NDArray[np.float64], found: Any, centre: NDArray[np.float64], size: float) -> Hull:
    """A hull of triangles, all of them outward."""
    number = np.full(len(inner), -1, np.int32)
    number[found.simplices.ravel()] = 0
    used = np.flatnonzero(number == 0)
    number[used] = np.arange(len(used))
    normal, triangles = found.equations[:, :3], found.simplices
    if not isinstance(found, _Triangles):  # ours are outward
        a, b, c = (inner[triangles[:, k]] for k in range(3))
        agrees = (cross(b - a, c - a) * normal).sum(axis=1) > 0
        triangles = np.where(agrees[:, None], triangles, triangles[:, ::-1])
    every = np.arange(len(triangles) + 1)
    return _sized(inner[used], 3 * every, number[triangles].ravel(), found, normal, every[:-1], centre, size)


def _sized(
    corners: NDArray[np.float64],
    face_start: NDArray[np.int64],
    corner_point: Ints,
    found: Any,
    normal: NDArray[np.float64],
    planes: NDArray[np.int64],
    centre: NDArray[np.float64],
    size: float,
) -> Hull:
    """A hull of a size of one about the origin where and as large as it was."""
    back = size * found.equations[planes, 3] - normal @ centre
    return Hull(
        corners * size + centre,
        face_start.astype(np.int32),
        corner_point,
        np.column_stack([normal, back]),
        float(found.volume) * size**3,
        float(found.area) * size**2,
    )


def tidied(hull: Hull, apart: float) -> Hull:
    """A hull without corners that lie closer together than that: what files with 32-bit numbers make of them is none.

    It may be smaller by as much.
    """
    close = pairs_within(hull.points, apart)
    # The outermost of those that are close to each other stays.
    out = np.linalg.norm(hull.points - hull.points.mean(axis=0), axis=1)
    close = np.where((out[close[:, 0]] < out[close[:, 1]])[:, None], close[:, ::-1], close)
    kept = np.ones(len(hull.points), bool)
    for one, other in close[np.argsort(-out[close[:, 0]], kind="stable")]:
        if kept[one]:
            kept[other] = False
    return hull if kept.all() or kept.sum() < 4 else convex_hull(hull.points[kept], apart)


def around_with_corners(hull: Hull, most: int) -> Hull:
    """A convex solid with at most so many corners that holds a hull, with little more volume.

    Begins with a box along the principal axes and cuts off, again and again, the corner that stands out farthest,
    along the plane that rests on the hull and faces it; none goes through the hull.

    Parameters
    ----------
    hull : Hull
    most : int
        At least 8.

    References
    ----------
    G. Kamenev (1992), "A class of adaptive algorithms for approximating convex bodies by polyhedra".
    """
    if len(hull.points) <= most:
        return hull
    from zesty_otter.geometry.queries.distance import Surface

    surface = Surface(hull.points, hull.triangles)
    axes = _principal(hull.points)
    inside = hull.points.mean(axis=0)
    normals = [*axes, *(-axes)]
    best = _between(hull, normals, inside)
    failed = 0
    while failed < 8:
        away, triangle, shares = surface.nearest(best.points)
        order = np.argsort(-away, kind="stable")
        worst = order[min(failed, len(order) - 1)]
        if away[worst] <= 1e-9 * np.ptp(hull.points):
            break
        touched = np.einsum("k,kj->j", shares[worst], hull.points[hull.triangles[triangle[worst]]])
        normal = (best.points[worst] - touched) / away[worst]
        try:
            finer = _between(hull, [*normals, normal], inside)
        except (RuntimeError, ValueError):  # planes that rounding tears
            failed += 1
            continue
        if len(finer.points) > most:
            failed += 1
            continue
        normals, best, failed = [*normals, normal], finer, 0
    return best


def _alike(equations: NDArray[np.float64], digits: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Planes that are the same to some digits: the first of each kind, and the kind of each."""
    # Mixed to one number, which sorts many times faster than rows do.
    mixed = equations.round(digits) @ np.array([1.0, np.pi, np.e**2, np.sqrt(119.0)])
    _, first, kind = np.unique(mixed.round(digits + 3), return_index=True, return_inverse=True)
    return first.astype(np.int64), kind.ravel().astype(np.int64)


def _principal(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3, 3) the axes along which points spread most, more and least."""
    centred = points - points.mean(axis=0)
    return np.asarray(np.linalg.eigh(centred.T @ centred)[1].T[::-1])


def _between(hull: Hull, normals: list[NDArray[np.float64]], inside: NDArray[np.float64]) -> Hull:
    """What lies behind planes of some directions that rest on a hull."""
    directions = np.array(normals)
    size = float(np.ptp(hull.points, axis=0).max())
    # A hair's breadth outside, so that nothing is lost where corners that nearly meet become one.
    offset = (hull.points @ directions.T).max(axis=0) + 4 * _HAIR * size
    return tidied(convex_hull(behind_planes(np.column_stack([directions, -offset]), inside)), _HAIR * size)


def behind_planes(planes: NDArray[np.float64], inside: NDArray[np.float64]) -> NDArray[np.float64]:
    """The corners of what lies behind planes: those of their hull in the dual space are its faces.

    Parameters
    ----------
    planes : (N, 4) float64
        Unit normals, and minus how far along them.
    inside : (3,) float64
        A place behind all.

    Returns
    -------
    (C, 3) float64
        None where what is behind them has no end.

    Raises
    ------
    ValueError
        When the place is not behind all of them, or they all look along one plane.

    References
    ----------
    F. Preparata and D. Muller (1979), "Finding the intersection of n half-spaces in time O(n log n)".

    Examples
    --------
    >>> import numpy as np
    >>> sides = np.concatenate([np.eye(3), -np.eye(3)])
    >>> corners = behind_planes(np.column_stack([sides, np.full(6, -2.0)]), np.ones(3)).round(6)
    >>> len(corners), corners[np.lexsort(corners.T)][0].tolist()
    (8, [-2.0, -2.0, -2.0])
    """
    away = -(planes[:, :3] @ inside + planes[:, 3])
    least = float(away.min())
    if not least > 0:
        raise ValueError("the place is not behind all planes")
    faces = hull_triangles(planes[:, :3] * (least / away)[:, None]).equations
    faces = faces[faces[:, 3] < -1e-12]
    return np.asarray(inside - least * faces[:, :3] / faces[:, 3:])


def within_with_corners(hull: Hull, most: int) -> Hull:
    """A convex solid of at most so many of a hull's corners: always the one farthest outside joins the others.

    Parameters
    ----------
    hull : Hull
    most : int
        At least 4.
    """
    if len(hull.points) <= most:
        return hull
    points = hull.points
    chosen = [int(np.argmax(np.linalg.norm(points - points.mean(axis=0), axis=1)))]
    for _ in range(3):
        base = points[chosen[0]]
        spanned = np.linalg.qr((points[chosen[1:]] - base).T)[0] if len(chosen) > 1 else np.zeros((3, 0))
        rest = points - base
        rest = rest - rest @ spanned @ spanned.T
        chosen.append(int(np.argmax(np.linalg.norm(rest, axis=1))))
    best = convex_hull(points[chosen])
    while len(chosen) < most:
        out = best.above(points)
        farthest = int(np.argmax(out))
        if out[farthest] <= _SAME * np.ptp(points):
            break
        chosen.append(farthest)
        best = convex_hull(points[chosen])
    return best


def cut_box(points: NDArray[np.float64], sides: int) -> Hull:
    """The smallest solid around points whose faces look in fixed directions: a discrete-oriented polytope.

    Parameters
    ----------
    points : (P, 3) float64
    sides : 6, 14, 18 or 26
        The directions of a cube's sides; with its corners, with its edges, with both.

    References
    ----------
    J. Klosowski et al. (1998), "Efficient collision detection using bounding volume hierarchies of k-DOPs".
    """
    grid = np.stack(np.meshgrid(*[[-1, 0, 1]] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    axes = np.abs(grid).sum(axis=1)
    wanted = {6: (1,), 14: (1, 3), 18: (1, 2), 26: (1, 2, 3)}[sides]
    directions = grid[np.isin(axes, wanted)] / np.sqrt(axes[np.isin(axes, wanted)])[:, None]
    hull = convex_hull(points)
    return _between(hull, list(directions), hull.points.mean(axis=0))
