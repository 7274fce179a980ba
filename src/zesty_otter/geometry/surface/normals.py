"""Face normals, corner normals and hard edges."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface import _corners as corner_kernels
from zesty_otter.geometry.surface import _normals as kernels
from zesty_otter.geometry.surface import _topology as edge_kernels

if TYPE_CHECKING:
    from zesty_otter.geometry.surface.topology import Topology


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

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (2, 0, 0), (0, 3, 0)], float)
    >>> area, normal = face_areas_and_normals(points, np.array([0, 3], np.int32), np.arange(3, dtype=np.int32))
    >>> area.tolist(), normal.tolist()
    ([3.0], [[0.0, 0.0, 1.0]])
    """
    normal = np.empty((len(face_start) - 1, 3))
    corner_kernels.face_normals(points, face_start, corner_point, normal)
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

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float)
    >>> start, corner = np.array([0, 3, 6], np.int32), np.array([0, 1, 2, 0, 2, 3], np.int32)
    >>> group = np.array([1, 0], np.int32)
    >>> values, index = normals_by_group(points, start, corner, np.arange(4, dtype=np.int32), group)
    >>> values[index].tolist()[0]
    [0.0, 0.0, 1.0]
    """
    _, normal = face_areas_and_normals(points, face_start, corner_point)
    values = np.empty((len(corner_point), 3))
    index = np.empty(len(corner_point), np.int32)
    count = kernels.smooth_by_group(
        np.ascontiguousarray(points, np.float64),
        np.ascontiguousarray(face_start, np.int32),
        np.ascontiguousarray(corner_point, np.int32),
        np.ascontiguousarray(joined, np.int32),
        np.ascontiguousarray(group, np.int32),
        normal,
        values,
        index,
        np.full(len(points), -1, np.int32),
        np.empty(len(corner_point), np.int32),
        np.empty(len(corner_point), np.int32),
    )
    return unit_rows(values[:count]), index


def filled_normals(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    joined: NDArray[np.int32],
    group: NDArray[np.int32] | None,
    own: tuple[NDArray[np.float32], NDArray[np.int32]] | None,
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """A normal for every corner: its own, else from smoothing groups, else that of the face.

    Parameters
    ----------
    group : (F,) int32 or None
    own : (values, index) or None
        The normals there are; index -1 where a corner has none.
    """
    groups = np.zeros(len(face_start) - 1, np.int32) if group is None else group
    values, index = normals_by_group(points, face_start, corner_point, joined, groups)
    if own is None:
        return values, index
    filled = np.where(own[1] < 0, index + len(own[0]), own[1]).astype(np.int32)
    return np.concatenate([own[0], values]), filled


WEIGHTS = {"angle": (True, False), "area": (False, True), "angle-and-area": (True, True), "none": (False, False)}
"""How faces are weighted in a normal they share: by their corner's angle, by their area, by both or not."""


def normals_over_soft_edges(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    edges: Topology,
    soft: NDArray[np.bool_],
    *,
    weight: str = "angle",
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """Corner normals: one for all corners at a point that hang together over soft edges.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    edges : Topology
    soft : (E,) bool
        The edges over which faces are shaded as one.
    weight : {"angle", "area", "angle-and-area", "none"}

    Returns
    -------
    values : (K, 3) float32
        Unit normals; (0, 0, 1) where no direction can be told.
    index : (C,) int32

    Examples
    --------
    >>> import numpy as np
    >>> from zesty_otter.geometry import topology
    >>> points = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float)
    >>> start, corner = np.array([0, 3, 6], np.int32), np.array([0, 1, 2, 0, 2, 3], np.int32)
    >>> edges = topology(points, start, corner)
    >>> hard = np.zeros(len(edges.edge_points), bool)
    >>> values, index = normals_over_soft_edges(points, start, corner, edges, hard)
    >>> values[index].tolist()[0]
    [0.0, 0.0, 1.0]
    """
    parent = np.arange(len(corner_point), dtype=np.int32)
    kernels.unite_over_soft_edges(
        face_start,
        edges.corner_face,
        edges.corner_edge,
        edges.first,
        edges.later,
        soft,
        corner_point,
        edges.joined,
        parent,
    )
    return _summed(points, face_start, corner_point, parent, weight)


def normals_all_smooth(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    joined: NDArray[np.int32],
    *,
    weight: str = "angle",
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    """Corner normals without any hard edge: one for every position. See `normals_over_soft_edges`.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int32
    corner_point : (C,) int32
    joined : (P,) int32
        The first point at each point's place, as `join_points` gives it.
    weight : {"angle", "area", "angle-and-area", "none"}
        What makes a face count at a corner.

    Returns
    -------
    values : (K, 3) float32
    index : (C,) int32

    Examples
    --------
    >>> import numpy as np
    >>> points = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], float)
    >>> start, corner = np.array([0, 3, 6], np.int32), np.array([0, 1, 2, 0, 2, 3], np.int32)
    >>> values, index = normals_all_smooth(points, start, corner, np.arange(4, dtype=np.int32))
    >>> values[index[0]].tolist()
    [0.0, 0.0, 1.0]
    """
    first = np.full(len(points), -1, np.int32)
    corners = np.arange(len(corner_point), dtype=np.int32)
    place = joined[corner_point]
    first[place[::-1]] = corners[::-1]
    return _summed(points, face_start, corner_point, first[place], weight)


def _summed(
    points: NDArray[np.float64],
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    parent: NDArray[np.int32],
    weight: str,
) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
    area, normal = face_areas_and_normals(points, face_start, corner_point)
    values = np.empty((len(corner_point), 3))
    index = np.empty(len(corner_point), np.int32)
    count = kernels.sum_normals(
        points,
        face_start,
        corner_point,
        normal,
        area,
        *WEIGHTS[weight],
        parent,
        np.full(len(corner_point), -1, np.int32),
        values,
        index,
    )
    return unit_rows(values[:count]), index


def edge_bends(
    points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32], edges: Topology
) -> NDArray[np.float64]:
    """(E,) the angle in degrees by which the faces of an edge turn away from each other.

    0 where they are in one plane, 180 where they are folded together; 360 where there are not two faces.
    """
    _, normal = face_areas_and_normals(points, face_start, corner_point)
    bend = np.empty(len(edges.use))
    kernels.edge_bends(edges.first, edges.later, edges.corner_face, normal, edges.agrees, bend)
    return np.where(bend < -1.5, 360.0, np.degrees(np.arccos(np.clip(bend, -1.0, 1.0))))


def continuous_edges(
    face_start: NDArray[np.int32],
    corner_point: NDArray[np.int32],
    edges: Topology,
    values: NDArray[np.float32],
    index: NDArray[np.int32],
    *,
    tolerance: float = 0.0,
) -> NDArray[np.bool_]:
    """(E,) whether a layer has equal values on both sides of an edge of two faces, at both ends."""
    equal = np.empty(len(edges.use), bool)
    kernels.edges_with_equal_values(
        face_start,
        edges.corner_face,
        edges.first,
        edges.later,
        corner_point,
        edges.joined,
        index,
        values,
        tolerance,
        equal,
    )
    return equal


def smoothing_groups(
    face_start: NDArray[np.int32], edges: Topology, soft: NDArray[np.bool_]
) -> tuple[NDArray[np.int32], int]:
    """Smoothing groups that are hard exactly where an edge is not soft, as far as groups can say it.

    Returns
    -------
    group : (F,) int32
        0 for a face that is hard all round, else a number from 1.
    lost : int
        Hard edges between two faces of one group: groups cannot say that a crease ends inside a surface.
    """
    count = len(face_start) - 1
    region = np.full(count, -1, np.int32)
    edge_kernels.grow_regions(
        face_start,
        edges.corner_face,
        edges.corner_edge,
        edges.first,
        edges.later,
        soft & (edges.use == 2),
        np.zeros((count, 3)),
        -2.0,
        region,
        np.empty(count, np.int32),
    )
    alone = np.bincount(region, minlength=count)[region] == 1
    used, inverse = np.unique(np.where(alone, -1, region), return_inverse=True)
    group = (inverse + (0 if len(used) and used[0] == -1 else 1)).astype(np.int32)
    inner = np.flatnonzero((edges.use == 2) & ~soft)
    here = edges.first[inner]
    there = edges.later[here]
    same = region[edges.corner_face[here]] == region[edges.corner_face[there]]
    return group, int((same & ~alone[edges.corner_face[here]]).sum())


def unit_rows(vectors: NDArray[Any]) -> NDArray[np.float32]:
    """Rows (N, 3) scaled to length one, (0, 0, 1) where a row has no length."""
    unit = np.empty((len(vectors), 3), np.float32)
    corner_kernels.unit_rows(np.ascontiguousarray(vectors), unit)
    return unit
