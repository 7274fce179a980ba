"""Face normals, and corner normals from smoothing groups."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry import _corners, _normals


def face_areas_and_normals(
    points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Area and unit normal of every face, by Newell's method.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32

    Returns
    -------
    area : (F,) float64
    normal : (F, 3) float64
        Zero for a face without area.
    """
    normal = np.empty((len(face_start) - 1, 3))
    _corners.face_normals(points, face_start, corner_point, normal)
    length = np.sqrt(np.einsum("ij,ij->i", normal, normal))
    normal /= np.where(length > 0, length, 1.0)[:, None]
    return length / 2, normal


def normals_by_group(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    joined: NDArray[np.int32],
    group: NDArray[np.int32],
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """Corner normals: smooth within a smoothing group, hard between groups and in group 0.

    Faces that meet at a position and share a group are averaged, each weighted by its corner angle there.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    joined : (P,) int32
        One number for all points of one position, see `corners.join_points`.
    group : (F,) int32

    Returns
    -------
    values : (K, 3) float32
        Unit normals; (0, 0, 1) where no direction can be told.
    index : (C,) int32
        The row of each corner.

    References
    ----------
    G. Thürmer and C. A. Wüthrich (1998), Computing vertex normals from polygonal facets. Journal of
    Graphics Tools 3(1), 43-46.
    """
    _, normal = face_areas_and_normals(points, face_start, corner_point)
    values = np.empty((len(corner_point), 3))
    index = np.empty(len(corner_point), np.int32)
    count = _normals.smooth_by_group(
        points,
        face_start,
        corner_point,
        joined,
        np.asarray(group, np.int32),
        normal,
        values,
        index,
        np.full(len(points), -1, np.int32),
        np.empty(len(corner_point), np.int32),
        np.empty(len(corner_point), np.int32),
    )
    return unit_rows(values[:count]), index


def unit_rows(vectors: NDArray[Any]) -> NDArray[np.float32]:
    """Rows (N, 3) scaled to length one, (0, 0, 1) where a row has no length."""
    unit = np.empty((len(vectors), 3), np.float32)
    _corners.unit_rows(np.ascontiguousarray(vectors), unit)
    return unit
