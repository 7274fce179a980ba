"""Triangles between given edges in the plane."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves import _kernels as kernels

_SPREAD = [
    (np.uint64(shift), np.uint64(mask))
    for shift, mask in (
        (16, 0x0000FFFF0000FFFF), (8, 0x00FF00FF00FF00FF), (4, 0x0F0F0F0F0F0F0F0F), (2, 0x3333333333333333),
        (1, 0x5555555555555555),
    )
]  # fmt: skip
_HALF = 1 << 27  # places become whole numbers up to this


def constrained(
    points: NDArray[np.float64], segments: NDArray[np.int32]
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """The Delaunay triangulation that keeps segments, of what they enclose.

    Inside is what an odd number of segments lies around, so that loops may run either way; a segment that stands twice
    encloses nothing, but stays.

    Parameters
    ----------
    points : (P, 2) float64
        Points nearer to each other than 1e-8 of their extent count as one.
    segments : (S, 2) int32

    Returns
    -------
    triangles : (T, 3) int32
        Counter-clockwise.
    crossed : (K,) int32
        Segments that could not be kept, as they cross others.

    References
    ----------
    C. L. Lawson (1977), "Software for C1 surface interpolation"; S. W. Sloan (1993), "A fast algorithm for generating
    constrained Delaunay triangulations".

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0), (4, 0), (4, 2), (0, 2)], float)
    >>> triangles, crossed = constrained(points, np.array([(0, 1), (1, 2), (2, 3), (3, 0)], np.int32))
    >>> len(triangles), crossed.tolist()
    (2, [])
    """
    count = len(points)
    if count < 3 or len(segments) < 3:
        return np.zeros((0, 3), np.int32), np.zeros(0, np.int32)
    low, high = points.min(axis=0), points.max(axis=0)
    scale = (2 * _HALF - 2) / max(float((high - low).max()), 1e-300)
    whole = np.rint((points - (low + high) / 2) * scale).astype(np.int32)
    order = _order(whole)
    far = 4 * _HALF - 1
    place = np.concatenate([np.array([(-far, -far), (far, -far), (0, far)], np.int32), whole[order]])
    most = 2 * count + 8
    corner, beside = np.empty((most, 3), np.int32), np.empty((most, 3), np.int32)
    fixed = np.zeros((most, 3), np.uint8)
    at, same = np.empty(count + 3, np.int32), np.empty(count + 3, np.int32)
    stack = np.empty(6 * most + 64, np.int32)
    made = kernels.insert(place, corner, beside, fixed, at, stack, same)
    number = np.empty(count, np.int32)
    number[order] = np.arange(3, count + 3, dtype=np.int32)
    failed = np.zeros(len(segments), np.uint8)
    ends = same[number[segments]]
    bad = kernels.hold(place, ends, corner, beside, fixed, at, stack, np.empty((most, 2), np.int32), failed)
    inside = np.empty(made, np.uint8)
    kernels.settle(place, made, corner, beside, fixed, at, stack, inside)
    back = np.concatenate([np.zeros(3, np.int32), order.astype(np.int32)])
    kept = corner[:made][inside.astype(bool)]
    # Of loops that are not kept what lies outside may count as inside.
    triangles = back[kept[(kept > 2).all(axis=1)]] if bad else back[kept]
    return triangles, np.flatnonzero(failed).astype(np.int32) if bad else np.zeros(0, np.int32)


def _order(whole: NDArray[np.int32]) -> NDArray[np.int64]:
    """Rounds that each hold twice as many places as the one before, along a curve that fills the plane.

    Each place lies near the one before, and rows of places do not make ever longer triangles.

    References
    ----------
    N. Amenta, S. Choi and G. Rote (2003), "Incremental constructions con BRIO"; G. M. Morton (1966).
    """
    key = (whole + _HALF).astype(np.uint64)
    for shift, mask in _SPREAD:
        key = (key | key << shift) & mask
    mixed = (np.arange(1, len(whole) + 1, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(11)
    rounds = np.minimum(-np.log2((mixed.astype(np.float64) + 1) / 2.0**53), 30.0).astype(np.uint64)
    return np.argsort((np.uint64(31) - rounds) << np.uint64(57) | key[:, 0] | key[:, 1] << np.uint64(1), kind="stable")
