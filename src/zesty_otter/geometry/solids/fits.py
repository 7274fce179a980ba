"""The smallest simple shapes around points."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.solids import _fits as kernels
from zesty_otter.geometry.solids.hulls import hull_triangles
from zesty_otter.geometry.surface.placing import rotations

_MOST_SIDES = 2000  # of a hull, that are tried as a side of the box
_CLOSE_SIDES = 48  # of a hull that a quick box is laid on
_PLAIN = 1.05  # how much larger a box along the axes may be, to be taken
_TURNS = 40  # tried besides
_MOST_ROUNDS = 20  # of turning a box; what is all but flat could get thinner without end


def outermost(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """The corners of the convex hull of points (P, 3); all of them when they are few or lie in a plane."""
    if len(points) < 5:
        return points
    found = _hull_of(points)
    return np.unique(points, axis=0) if found is None else np.asarray(points[np.unique(found.simplices)])


def _hull_of(points: NDArray[np.float64]) -> Any:
    """The hull of points as triangles, as large as one; None where they lie on a plane."""
    size = float(np.ptp(points, axis=0).max()) or 1.0
    try:
        return hull_triangles((points - points.mean(axis=0)) / size)
    except (RuntimeError, ValueError):
        return None


def smallest_sphere(points: NDArray[np.float64]) -> tuple[NDArray[np.float64], float]:
    """The smallest sphere around points, exact but for rounding.

    Parameters
    ----------
    points : (P, 3) float64
        At least one.

    Returns
    -------
    centre : (3,) float64
    radius : float

    References
    ----------
    B. Gaertner (1999), "Fast and robust smallest enclosing balls".

    Examples
    --------
    >>> import numpy as np
    >>> centre, radius = smallest_sphere(np.array([(0, 0, 0), (4, 0, 0), (2, 1, 0)], float))
    >>> centre.round(6).tolist(), round(radius, 6)
    ([2.0, 0.0, 0.0], 2.0)
    """
    shift = points.mean(axis=0)
    about = np.ascontiguousarray(points - shift)
    size = float(np.sqrt(np.einsum("nk,nk->n", about, about).max()))
    centre = np.empty(3)
    kernels.smallest_sphere(about, size, centre)
    centre += shift
    return centre, float(np.linalg.norm(points - centre, axis=1).max())


def smallest_box(points: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """A box of any orientation around points, with as little volume as could be found.

    Every side of the hull is tried as a side of the box, with the best rectangle around what is seen along it. The
    best of these, and others turned every way, then turn about each of their own axes in the same manner until none
    gets smaller, and the best three a little about all axes at once (J. Nelder and R. Mead, 1965).

    Parameters
    ----------
    points : (P, 3) float64
        At least one.

    Returns
    -------
    centre : (3,) float64
    axes : (3, 3) float64
        Rows of length one, right-handed.
    half : (3,) float64
        Half of each side.

    References
    ----------
    H. Freeman and R. Shapira (1975), "Determining the minimum-area encasing rectangle for an arbitrary closed curve";
    J. O'Rourke (1985), "Finding minimal enclosing boxes".

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> centre, axes, half = smallest_box(np.array(list(product((0, 1), (0, 2), (0, 3))), float))
    >>> centre.round(6).tolist(), sorted(half.round(6).tolist())
    ([0.5, 1.0, 1.5], [0.5, 1.0, 1.5])
    """
    boxes = _Boxes(outermost(points))
    tries = sorted([np.eye(3), boxes.principal, *map(boxes.around, _side_normals(boxes.corners))], key=boxes.volume)
    # Turns spread evenly stand for the boxes that no side of the hull lies in.
    turns = rotations(_even_turns(_TURNS)) if len(boxes.corners) > 4 else np.zeros((0, 3, 3))
    found = sorted(map(boxes.settled, [*tries[:8], *turns]), key=boxes.volume)
    return _box_along(points, min(map(boxes.polished, found[:3]), key=boxes.volume))


def close_box(points: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """A box around points that is nearly the smallest, found many times faster than `smallest_box`.

    Of boxes along the axes, along the principal ones and on sides of the hull; along the axes where that is not much
    larger.

    Parameters
    ----------
    points : (P, 3) float64
        At least one.

    Returns
    -------
    centre : (3,) float64
    axes : (3, 3) float64
        Rows of length one, right-handed.
    half : (3,) float64
        Half of each side.

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> close_box(np.array(list(product((0, 1), (0, 2), (0, 3))), float))[2].tolist()
    [0.5, 1.0, 1.5]
    """
    boxes = _Boxes(outermost(points))
    sides = _side_normals(boxes.corners)
    step = max(1, len(sides) // _CLOSE_SIDES)
    axes = min([boxes.principal, *map(boxes.around, sides[::step])], key=boxes.volume)
    if boxes.volume(np.eye(3)) <= _PLAIN * boxes.volume(axes):
        axes = np.eye(3)
    return _box_along(points, axes)


def _box_along(
    points: NDArray[np.float64], axes: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Centre, right-handed axes and half sides of the box along some axes, by rows."""
    axes = axes * (1.0 if np.linalg.det(axes) > 0 else -1.0)
    along = points @ axes.T
    low, high = along.min(axis=0), along.max(axis=0)
    return (low + high) / 2 @ axes, axes, (high - low) / 2


def _even_turns(count: int) -> NDArray[np.float64]:
    """(N, 4) quaternions spread evenly over all rotations (K. Shoemake, 1992), the same every time."""
    number = np.arange(1, count + 1)
    u, v, w = (number * step % 1.0 for step in (0.8191725133961645, 0.6710436067037893, 0.5497004779019703))
    a, b = np.sqrt(1 - u), np.sqrt(u)
    v, w = 2 * np.pi * v, 2 * np.pi * w
    return np.stack([a * np.sin(v), a * np.cos(v), b * np.sin(w), b * np.cos(w)], axis=1)


class _Boxes:
    """Boxes around the corners (P, 3) of a hull, each by its axes, the rows of (3, 3)."""

    def __init__(self, corners: NDArray[np.float64]) -> None:
        self.corners = np.ascontiguousarray(corners)
        self._room = np.empty((len(corners), 2)), np.empty((2 * len(corners) + 1, 2))
        about = corners - corners.mean(axis=0)
        self.principal = np.linalg.svd(about, full_matrices=True)[2] if len(corners) > 1 else np.eye(3)

    def volume(self, axes: NDArray[np.float64]) -> float:
        return kernels.box_volume(self.corners, np.ascontiguousarray(axes))

    def around(self, side: NDArray[np.float64]) -> NDArray[np.float64]:
        """The smallest box that has one side across a direction."""
        axes = np.empty((3, 3))
        kernels.box_around(self.corners, np.ascontiguousarray(side), *self._room, axes)
        return axes

    def settled(self, axes: NDArray[np.float64]) -> NDArray[np.float64]:
        """A box turned about one of its axes after the other, as long as it gets smaller."""
        turned = axes.copy(order="C")
        kernels.settle_box(self.corners, turned, _MOST_ROUNDS, *self._room)
        return turned

    def polished(self, axes: NDArray[np.float64]) -> NDArray[np.float64]:
        """A box turned a little about all axes at once, and settled again."""
        turned = np.empty((3, 3))
        by = _downhill(lambda by: kernels.turn_box(self.corners, axes, by, turned), 0.1 * np.eye(4, 3, -1), 1e-9, 400)
        kernels.turn_box(self.corners, axes, by, turned)
        return min((axes, self.settled(turned)), key=self.volume)


def _downhill(
    measure: Callable[[NDArray[np.float64]], float], simplex: NDArray[np.float64], apart: float, most: int
) -> NDArray[np.float64]:
    """(N,) where a function is least: a simplex (N + 1, N) creeps down until its corners are no farther apart.

    References
    ----------
    J. A. Nelder and R. Mead (1965), A simplex method for function minimization.
    """
    values = np.array([measure(corner) for corner in simplex])
    for _ in range(most):
        order = np.argsort(values, kind="stable")
        simplex, values = simplex[order], values[order]
        if np.abs(simplex[1:] - simplex[0]).max() <= apart:
            break
        middle = simplex[:-1].mean(axis=0)
        way = middle - simplex[-1]
        new = middle + way
        value = measure(new)
        if value < values[0]:
            farther = middle + 2 * way
            if (lower := measure(farther)) < value:
                new, value = farther, lower
        elif value >= values[-2]:
            least = min(value, float(values[-1]))
            new = middle + (0.5 if value < values[-1] else -0.5) * way
            value = measure(new)
            if value > least:
                simplex[1:] = (simplex[0] + simplex[1:]) / 2
                values[1:] = [measure(corner) for corner in simplex[1:]]
                continue
        simplex[-1], values[-1] = new, value
    return np.asarray(simplex[np.argmin(values)])


def _side_normals(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """The directions of the sides of a hull, each once."""
    found = _hull_of(corners) if len(corners) > 3 else None
    if found is None:
        return np.zeros((0, 3))
    normals = found.equations[:, :3]
    normals = normals * np.where(normals[:, :1] < 0, -1.0, 1.0)
    _, first = np.unique(normals.round(6), axis=0, return_index=True)
    return np.asarray(normals[np.sort(first)[:: -(-len(first) // _MOST_SIDES)]])


def _cross(a: NDArray[np.float64], b: NDArray[np.float64]) -> NDArray[np.float64]:
    # NumPy's own takes most of its time to find out that there are just two.
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def smallest_capsule(
    points: NDArray[np.float64],
) -> tuple[NDArray[np.float64], NDArray[np.float64], float, float]:
    """A ball drawn out along a line that holds points, with as little volume as could be found.

    Parameters
    ----------
    points : (P, 3) float64
        At least one.

    Returns
    -------
    centre, axis : (3,) float64
        The axis has length one.
    half : float
        Half the length of the line.
    radius : float

    Examples
    --------
    >>> import numpy as np
    >>> rod = np.array([(0, 0, 0), (0, 9, 0), (1, 0, 0), (1, 9, 0)], float)
    >>> centre, axis, half, radius = smallest_capsule(rod)
    >>> centre.round(3).tolist(), abs(axis).round(3).tolist()
    ([0.5, 4.5, 0.0], [0.0, 1.0, 0.0])
    """

    axis = _best_axis(points, capsule=True)
    middle, radius = _round_about(points, axis)
    away = np.linalg.norm(_flattened(points, axis) - middle, axis=1)
    ball = np.sqrt(np.maximum(radius**2 - away**2, 0.0))
    along = points @ axis
    low, high = float((along + ball).min()), float((along - ball).max())
    return middle + (low + high) / 2 * axis, axis, max((high - low) / 2, 0.0), radius


def smallest_cylinder(
    points: NDArray[np.float64],
) -> tuple[NDArray[np.float64], NDArray[np.float64], float, float]:
    """An upright cylinder about some axis that holds points, with as little volume as could be found.

    Parameters and results are those of `smallest_capsule`.

    Parameters
    ----------
    points : (P, 3) float64
        At least one.

    Returns
    -------
    centre, axis : (3,) float64
        The axis has length one.
    half : float
        Half the height.
    radius : float

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> centre, axis, half, radius = smallest_cylinder(np.array(list(product((0, 1), (0, 1), (0, 9))), float))
    >>> abs(axis).round(3).tolist(), round(2 * half, 3), round(radius, 3)
    ([0.0, 0.0, 1.0], 9.0, 0.707)
    """

    axis = _best_axis(points, capsule=False)
    middle, radius = _round_about(points, axis)
    along = points @ axis
    return middle + (along.min() + along.max()) / 2 * axis, axis, float(np.ptp(along)) / 2, radius


def _best_axis(points: NDArray[np.float64], *, capsule: bool) -> NDArray[np.float64]:
    """The axis about which a capsule or a cylinder around points has the least volume."""
    corners = np.ascontiguousarray(outermost(points))
    centred = corners - corners.mean(axis=0)
    room = np.empty_like(corners)

    def volume(axis: NDArray[np.float64]) -> float:
        return kernels.volume_about(corners, np.ascontiguousarray(axis), capsule, room)

    tries = [*np.eye(3), *np.linalg.svd(centred, full_matrices=True)[2]]
    found = sorted(tries, key=volume)

    best = found[0]
    for start in found[:2]:
        u = _cross(start, np.eye(3)[int(np.argmin(np.abs(start)))])
        frame = np.array([start, u, _cross(start, u)])
        by = np.empty(2)
        kernels.turn_axis(corners, frame, capsule, room, by)
        axis = frame[0] + by[0] * frame[1] + by[1] * frame[2]
        axis /= np.linalg.norm(axis)
        # What is no better by a hair stays along the axis it was on.
        if volume(axis) < (1 - 1e-6) * volume(best):
            best = axis
    return best


def _flattened(points: NDArray[np.float64], axis: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(points - (points @ axis)[:, None] * axis)


def _round_about(points: NDArray[np.float64], axis: NDArray[np.float64]) -> tuple[NDArray[np.float64], float]:
    """The smallest circle around points seen along an axis."""
    return smallest_sphere(_flattened(points, axis))
