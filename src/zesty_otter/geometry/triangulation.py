"""Faces of any size to triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry import _triangulation as loops

DIAGONALS = {
    "shortest-diagonal": loops.SHORTEST,
    "best-angle": loops.BEST_ANGLE,
    "fixed": loops.FIXED,
}
"""Rules that choose among the diagonals that lie inside a face."""


def triangulate(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    *,
    diagonal: str = "shortest-diagonal",
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Split faces into triangles, by ear clipping in the plane that fits each face best.

    Every face of n corners becomes exactly n - 2 triangles, wound as the face was, in the order of the
    faces. A simple polygon that is planar, concave or not, keeps its area to rounding; where corners
    repeat or lie on a line some triangles may have no area. The result depends on nothing but the input.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
        Where each face's corners begin in ``corner_point``.
    corner_point : (C,) int32
    diagonal : {"shortest-diagonal", "best-angle", "fixed"}
        Which of the possible diagonals is cut first: the shortest, the one that cuts off the triangle
        with the largest smallest angle, or the one a fan about the first corner would have.

    Returns
    -------
    triangles : (C - 2 F, 3) int32
        Corner numbers, so that per-corner data can be carried along.
    face : (C - 2 F,) int32
        The face each triangle comes from.

    References
    ----------
    G. H. Meisters (1975), Polygons have ears. American Mathematical Monthly 82, 648-651.
    I. E. Sutherland, R. F. Sproull and R. A. Schumacker (1974), A characterization of ten hidden-surface
    algorithms. Computing Surveys 6 (Newell's normal).

    Examples
    --------
    >>> import numpy as np
    >>> arrow = np.array([[0, 0, 0], [2, -1, 0], [1, 0, 0], [2, 1, 0]], float)  # concave at corner 2
    >>> triangulate(arrow, np.array([0, 4]), np.arange(4))[0].tolist()
    [[0, 1, 2], [0, 2, 3]]
    """
    count = len(corner_point) - 2 * (len(face_start) - 1)
    triangles = np.empty((count, 3), np.int32)
    face = np.empty(count, np.int32)
    if len(corner_point) == 3 * (len(face_start) - 1):
        triangles.ravel()[:] = np.arange(len(corner_point), dtype=np.int32)
        face[:] = np.arange(count, dtype=np.int32)
        return triangles, face
    largest = int(np.diff(face_start).max())
    loops.triangulate_faces(
        np.ascontiguousarray(points, np.float64),
        np.ascontiguousarray(face_start, np.int32),
        np.ascontiguousarray(corner_point, np.int32),
        DIAGONALS[diagonal],
        triangles,
        face,
        np.empty((largest, 2)),
        np.empty((loops.LINK_ROWS, 3 * largest), np.int64),
        np.empty((2, largest + 2), np.int64),
        np.empty(3 * largest),
    )
    return triangles, face
