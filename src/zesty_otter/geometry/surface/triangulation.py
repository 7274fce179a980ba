"""Faces of any size to triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.parallel import in_pieces
from zesty_otter.geometry.surface import _triangulation as kernels

_PIECE = 100_000  # faces that are split in a row

DIAGONALS = ("shortest-diagonal", "best-angle", "fixed")  # in the order of the kernel's rules
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
        with the largest smallest angle (afterwards diagonals are turned while that makes the smallest angle
        beside them larger), or the one a fan about the first corner would have.

    Returns
    -------
    triangles : (C - 2 F, 3) int32
        Corner numbers, so that per-corner data can be carried along.
    face : (C - 2 F,) int32
        The face each triangle comes from.

    References
    ----------
    G. H. Meisters (1975), Polygons have ears. American Mathematical Monthly 82, 648-651.
    C. L. Lawson (1977), Software for C1 surface interpolation. Mathematical Software III (turning diagonals).
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
    points = np.ascontiguousarray(points, np.float64)
    face_start = np.ascontiguousarray(face_start, np.int32)
    corner_point = np.ascontiguousarray(corner_point, np.int32)

    def some(first: int, stop: int) -> None:
        kernels.triangulate_faces(
            points,
            face_start,
            corner_point,
            DIAGONALS.index(diagonal),
            first,
            stop,
            triangles,
            face,
            np.empty((largest, 2)),
            np.empty((kernels.LINK_ROWS, 3 * largest), np.int64),
            np.empty((2, largest + 2), np.int64),
            np.empty(3 * largest),
        )

    in_pieces(some, len(face_start) - 1, _PIECE)
    return triangles, face


def hard_to_fan(
    points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32]
) -> NDArray[np.bool_]:
    """(F,) the faces that plain readers split wrongly: of more than four corners, or not convex."""
    hard = np.empty(len(face_start) - 1, np.uint8)
    kernels.hard_to_fan(points, face_start, corner_point, hard)
    return hard.view(bool)


def bridge_holes(
    points: NDArray[np.float64], outline: NDArray[np.int64], holes: list[NDArray[np.int64]]
) -> NDArray[np.int64]:
    """One outline for a polygon with holes: every hole is joined to it by a bridge walked both ways.

    Parameters
    ----------
    points : (P, 3) float64
        Nearly in one plane.
    outline : (N,) int
        Points of the outer outline, in order.
    holes : list of (M,) int
        Points of each hole, in either direction.

    Returns
    -------
    (N + sum(M + 2),) int
        Points of the joined outline; both ends of each bridge occur twice. `triangulate` takes it.

    References
    ----------
    D. Eberly (2002), Triangulation by ear clipping, section on polygons with holes; here bridges are the
    shortest that cross nothing.
    """
    flat = _in_plane(points, outline)
    joined = np.asarray(outline, np.int64)
    # The hole that reaches farthest to the right first, so that later ones can use it.
    for hole in sorted(holes, key=lambda one: -float(flat[one, 0].max())):
        loop = np.asarray(hole, np.int64)
        if _signed_area(flat[loop]) * _signed_area(flat[outline]) > 0:
            loop = loop[::-1]
        at, to = _bridge(flat, joined, loop, holes)
        turned = np.roll(loop, -to)
        joined = np.concatenate([joined[: at + 1], turned, turned[:1], joined[at:]])
    return joined


def _in_plane(points: NDArray[np.float64], outline: NDArray[np.int64]) -> NDArray[np.float64]:
    """(P, 2) points in the plane of an outline's Newell normal."""
    own = points[outline] - points[outline[0]]
    normal = np.cross(own, np.roll(own, -1, axis=0)).sum(axis=0)
    axis = np.eye(3)[int(np.argmin(np.abs(normal)))]
    right = np.cross(axis, normal)
    basis = np.stack([right, np.cross(normal, right)], axis=1)
    length = np.linalg.norm(basis, axis=0)
    return np.asarray((points - points[outline[0]]) @ (basis / np.where(length > 0, length, 1.0)))


def _signed_area(outline: NDArray[np.float64]) -> float:
    x, y = outline.T
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)


def _bridge(
    flat: NDArray[np.float64], joined: NDArray[np.int64], loop: NDArray[np.int64], holes: list[NDArray[np.int64]]
) -> tuple[int, int]:
    """Places in the outline and the hole of the shortest bridge that crosses no edge."""
    starts = np.concatenate([joined, *holes])
    ends = np.concatenate([np.roll(joined, -1), *(np.roll(hole, -1) for hole in holes)])
    apart = np.linalg.norm(flat[joined][:, None] - flat[loop][None], axis=2)
    for pick in np.argsort(apart, axis=None, kind="stable"):
        at, to = divmod(int(pick), len(loop))
        if not _crosses(flat[joined[at]], flat[loop[to]], flat[starts], flat[ends]):
            return at, to
    return divmod(int(np.argmin(apart)), len(loop))


def _crosses(
    a: NDArray[np.float64], b: NDArray[np.float64], starts: NDArray[np.float64], ends: NDArray[np.float64]
) -> bool:
    """Whether the segment a-b crosses an edge; edges that end at a or b do not count."""
    along, edge = b - a, ends - starts
    side_start = along[0] * (starts[:, 1] - a[1]) - along[1] * (starts[:, 0] - a[0])
    side_end = along[0] * (ends[:, 1] - a[1]) - along[1] * (ends[:, 0] - a[0])
    side_a = edge[:, 0] * (a[1] - starts[:, 1]) - edge[:, 1] * (a[0] - starts[:, 0])
    side_b = edge[:, 0] * (b[1] - starts[:, 1]) - edge[:, 1] * (b[0] - starts[:, 0])
    own = np.zeros(len(starts), bool)
    for point in (a, b):
        own |= (starts == point).all(axis=1) | (ends == point).all(axis=1)
    touches = (side_start * side_end <= 0) & (side_a * side_b <= 0) & ~((side_start == 0) & (side_end == 0))
    return bool((touches & ~own).any())
