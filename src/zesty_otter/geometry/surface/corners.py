"""Which corners are one: exact positions, and the fewest vertices that keep every seam."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import _corners as kernels


def join_points(points: NDArray[np.float64], *_: Any) -> NDArray[np.int32]:
    """The first point at each point's exact position.

    Parameters
    ----------
    points : (P, 3) float64
        Faces may follow, as functions of a surface take them; they do not matter here.

    Returns
    -------
    (P,) int32
        For each point the lowest index of a point that is equal to it; minus zero equals zero.

    Examples
    --------
    >>> import numpy as np
    >>> join_points(np.array([(0, 0, 0), (1, 0, 0), (-0.0, 0, 0)])).tolist()
    [0, 1, 0]
    """
    return _joined(np.ascontiguousarray(points, np.float64).view(np.uint64))


def join_rows(values: NDArray[np.float32]) -> NDArray[np.int32]:
    """As `join_points`, of values in single precision.

    Parameters
    ----------
    values : (N, n) float32

    Returns
    -------
    (N,) int32

    Examples
    --------
    >>> import numpy as np
    >>> join_rows(np.array([(0, 1), (1, 1), (0, 1)], np.float32)).tolist()
    [0, 1, 0]
    """
    return _joined(np.ascontiguousarray(values, np.float32).view(np.uint32))


def _joined(bits: NDArray[Any]) -> NDArray[np.int32]:
    representative = np.empty(len(bits), np.int32)
    size = 1 << (2 * len(bits) + 1).bit_length()
    kernels.join_rows(bits, representative, np.zeros(min(size, 1 << 13), np.uint64), np.zeros(size, np.uint64))
    return representative


def split_vertices(
    corners: NDArray[np.int32],
    section: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    layers: Sequence[tuple[NDArray[np.float32], NDArray[np.int32]]],
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Number the vertices a renderer needs: one for each distinct combination of point and layer values.

    Parameters
    ----------
    corners : (T, 3) int32
        Corner numbers of triangles.
    section : (T,) int32
        The section (material slot) of each triangle, ascending; sections share no vertices.
    corner_point : (C,) int32
    layers : sequence of (values (K, n) float32, index (C,) int32)
        Values that are equal count as one, whatever their index.

    Returns
    -------
    vertex : (T, 3) int32
        The vertex of each triangle corner, numbered in order of first use.
    first_corner : (V,) int32
        A corner of each vertex, to take its data from.

    Examples
    --------
    >>> import numpy as np
    >>> corners, section = np.array([(0, 1, 2), (3, 4, 5)], np.int32), np.zeros(2, np.int32)
    >>> point = np.array([0, 1, 2, 0, 2, 3], np.int32)
    >>> vertex, first = split_vertices(corners, section, point, [])
    >>> vertex.tolist(), first.tolist()
    ([[0, 1, 2], [0, 2, 3]], [0, 1, 2, 5])
    """
    ends = 3 * np.append(np.flatnonzero(np.diff(section)) + 1, len(section)).astype(np.int64)
    vertex, first_corner = _split(np.ascontiguousarray(corners, np.int32).ravel(), ends, corner_point, layers)
    return vertex.reshape(-1, 3), first_corner


def _split(
    corners: NDArray[np.int32],
    section_end: NDArray[np.int64],
    corner_point: NDArray[np.int32],
    layers: Sequence[tuple[NDArray[np.float32], NDArray[np.int32]]],
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """The vertex of each of some corners (N,), and the first corner of each; sections end at ``section_end`` (S,)."""
    if len(corners) == 0:
        return np.zeros(0, np.int32), np.zeros(0, np.int32)
    # A layer that is indexed like the points cannot split one.
    layers = [layer for layer in layers if not np.array_equal(layer[1], corner_point)]
    width = np.array([values.shape[1] for values, _ in layers], np.int64)
    size = np.array([values.size for values, _ in layers], np.int64)
    keys = (
        np.stack([np.asarray(index, np.int32) for _, index in layers])
        if layers
        else np.zeros((0, len(corner_point)), np.int32)
    )
    flat = np.concatenate([values.ravel() for values, _ in layers]) if layers else np.zeros(0, np.float32)
    vertex = np.empty(corners.size, np.int32)
    most = min(corners.size, len(corner_point))  # every vertex has a corner of its own
    first_corner = np.empty(most, np.int32)
    count = kernels.split_vertices(
        corners,
        section_end,
        np.ascontiguousarray(corner_point, np.int32),
        keys,
        flat,
        np.concatenate([[0], np.cumsum(size)[:-1]]).astype(np.int64) if layers else np.zeros(0, np.int64),
        width,
        vertex,
        first_corner,
        np.full(int(corner_point.max()) + 1, -1, np.int32),
        np.empty(most, np.int32),
    )
    return vertex, first_corner[:count].copy()


def split_corners(
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    slot: NDArray[np.int32],
    layers: Sequence[tuple[NDArray[np.float32], NDArray[np.int32]]],
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """As `split_vertices`, for polygons.

    Parameters
    ----------
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    slot : (F,) int32
        Faces of different slots share no vertices.
    layers : sequence of (values (K, n) float32, index (C,) int32)

    Returns
    -------
    vertex : (C,) int32
        The vertex of each corner.
    first_corner : (V,) int32
        A corner of each vertex.
    """
    corners = np.arange(len(corner_point), dtype=np.int32)
    if not len(slot) or (slot == slot[0]).all():
        return _split(corners, np.array([len(corners)], np.int64), corner_point, layers)
    of_corner = np.repeat(slot, np.diff(face_start))
    order = np.argsort(of_corner, kind="stable").astype(np.int32)
    ends = np.append(np.flatnonzero(np.diff(of_corner[order])) + 1, len(order)).astype(np.int64)
    in_order, first_corner = _split(order, ends, corner_point, layers)
    vertex = np.empty(len(corner_point), np.int32)
    vertex[order] = in_order
    return vertex, first_corner


def take_rows(
    values: NDArray[Any], index: NDArray[np.int32], corner: NDArray[np.int32], missing: float = 0.0
) -> NDArray[np.float32]:
    """What corners have of a layer, as 32-bit numbers.

    Parameters
    ----------
    values : (K, n)
    index : (C,) int32
        The row of each corner, negative where there is none.
    corner : (N,) int32
    missing : float
        What stands in rows for corners without one.

    Returns
    -------
    (N, n) float32
    """
    out = np.empty((len(corner), values.shape[1]), np.float32)
    kernels.take_rows(values, index, corner, missing, out)
    return out


def extent(values: NDArray[Any]) -> NDArray[Any]:
    """(2, n) the lowest and the highest number in each column of some rows (N, n), of which there is one at least.

    They are 32-bit numbers, or whole ones of 16 bits.
    """
    box = np.stack([values[0], values[0]])
    kernels.extent(values, box)
    return box
