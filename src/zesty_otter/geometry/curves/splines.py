"""B-splines: what their control points come to (L. Piegl and W. Tiller, 1997, "The NURBS Book", chapters 2 to 4)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves import _kernels as kernels

Floats = NDArray[np.float64]


def basis(knots: Floats, degree: int, t: Floats) -> tuple[NDArray[np.int64], Floats, Floats]:
    """The basis functions that are not zero, and their slopes.

    Parameters
    ----------
    knots : (n + degree + 1,) float64
        Ascending.
    degree : int
    t : (N,) float64
        Within the range of the knots; what lies outside is taken at its ends.

    Returns
    -------
    first : (N,) int64
        The control point the first of them belongs to.
    value : (N, degree + 1) float64
    slope : (N, degree + 1) float64

    Examples
    --------
    >>> import numpy as np
    >>> first, value, slope = basis(np.array([0, 0, 1, 1.0]), 1, np.array([0.25]))
    >>> first.tolist(), value.tolist(), slope.tolist()
    ([0], [[0.75, 0.25]], [[-1.0, 1.0]])
    """
    count = len(knots) - degree - 1
    t = np.clip(t, knots[degree], knots[count])
    span = np.clip(np.searchsorted(knots, t, side="right") - 1, degree, count - 1)
    # The last span that is longer than zero, so that the end of a curve is on it.
    ends = np.flatnonzero(np.diff(knots[degree : count + 1]) > 0)
    span = np.minimum(span, degree + (int(ends[-1]) if len(ends) else 0))
    value = np.zeros((degree + 1, len(t)))
    value[0] = 1.0
    lower = value
    for p in range(1, degree + 1):
        lower = value[:p].copy()
        value[p] = 0.0
        for k in range(p):
            left, right = knots[span + 1 - p + k], knots[span + 1 + k]
            width = right - left
            share = np.divide(lower[k], width, out=np.zeros_like(width), where=width > 0)
            before = (right - t) * share
            value[k] = before if k == 0 else value[k] + before
            value[k + 1] = (t - left) * share
    slope = np.zeros((degree + 1, len(t)))
    for k in range(degree):
        width = knots[span + 1 + k] - knots[span + 1 - degree + k]
        share = np.divide(degree * lower[k], width, out=np.zeros_like(width), where=width > 0)
        slope[k] -= share
        slope[k + 1] += share
    return span - degree, value.T, slope.T


def curve_at(knots: Floats, degree: int, control: Floats, t: Floats) -> tuple[Floats, Floats]:
    """Points of a rational curve, and its derivatives; ``control`` is (n, 4): x w, y w, z w, w.

    Examples
    --------
    >>> import numpy as np
    >>> line = np.array([(0, 0, 0, 1), (2, 0, 0, 1.0)])
    >>> curve_at(np.array([0, 0, 1, 1.0]), 1, line, np.array([0.5]))[0].tolist()
    [[1.0, 0.0, 0.0]]
    """
    first, value, slope = basis(knots, degree, t)
    held = control[first[:, None] + np.arange(degree + 1)]
    place, move = np.einsum("nk,nkj->nj", value, held), np.einsum("nk,nkj->nj", slope, held)
    weight = place[:, 3:]
    points = place[:, :3] / weight
    return points, (move[:, :3] - points * move[:, 3:]) / weight


def surface_at(
    knots: tuple[Floats, Floats], degree: tuple[int, int], control: Floats, uv: Floats
) -> tuple[Floats, Floats, Floats]:
    """Points of a rational surface, and its derivatives along u and v; ``control`` is (n, m, 4)."""
    first_u, value_u, slope_u = basis(knots[0], degree[0], uv[:, 0])
    first_v, value_v, slope_v = basis(knots[1], degree[1], uv[:, 1])
    place, du, dv = (np.empty((len(uv), 3)) for _ in range(3))
    kernels.surface_at(
        np.stack([first_u, first_v], axis=1),
        np.ascontiguousarray(value_u),
        np.ascontiguousarray(slope_u),
        np.ascontiguousarray(value_v),
        np.ascontiguousarray(slope_v),
        np.ascontiguousarray(control),
        place,
        du,
        dv,
    )
    return place, du, dv


def bezier_knots(degree: int, count: int) -> Floats:
    """The knots of ``count`` control points in pieces of their own.

    Examples
    --------
    >>> bezier_knots(2, 5).tolist()
    [0.0, 0.0, 0.0, 1.0, 1.0, 2.0, 2.0, 2.0]
    """
    pieces = max((count - 1) // degree, 1)
    times = np.full(pieces + 1, degree)
    times[[0, -1]] = degree + 1
    return np.repeat(np.arange(pieces + 1.0), times)


def even_knots(degree: int, count: int, *, held: bool) -> Floats:
    """Knots at even distances; ``held`` repeats the first and last, so that the ends are control points.

    Examples
    --------
    >>> even_knots(2, 4, held=True).tolist(), even_knots(1, 2, held=False).tolist()
    ([0.0, 0.0, 0.0, 1.0, 2.0, 2.0, 2.0], [-1.0, 0.0, 1.0, 2.0])
    """
    if not held:
        return np.arange(count + degree + 1.0) - degree
    return np.concatenate([np.zeros(degree), np.arange(count - degree + 1.0), np.full(degree, float(count - degree))])
