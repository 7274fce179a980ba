"""Subdivision surfaces: a cage of polygons, and the smooth surface it stands for."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

_ENDLESS = 10.0  # sharpness from which on an edge stays sharp


@dataclass(frozen=True, eq=False)
class Cage:
    """Polygons to subdivide.

    Parameters
    ----------
    points : (P, 3) float64
    face_start : (F + 1,) int
    corner_point : (C,) int
    edges : (E, 2) int
        Edges that are sharper than others.
    sharpness : (E,) float64
        For how many levels each stays sharp; for ever from 10 on.
    corners : (K,) int
        Points that are sharper than others.
    corner_sharpness : (K,) float64
    keeps_corners : bool
        Whether points of one face only stay where they are.
    tables : tuple of ((R, n) float64, (C,) int)
        What corners have, such as UVs: values and the row of each corner. They are divided in halves.
    faces : (F,) int
        The face of the first cage that each is part of.
    """

    points: NDArray[np.float64]
    face_start: NDArray[np.int64]
    corner_point: NDArray[np.int64]
    edges: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))
    sharpness: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    corners: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    corner_sharpness: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    keeps_corners: bool = True
    tables: tuple[tuple[NDArray[np.float64], NDArray[np.int64]], ...] = ()
    faces: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))


def subdivided(cage: Cage) -> tuple[Cage, float]:
    """One level finer, all quads, and the most that the middle of an edge moved.

    Parameters
    ----------
    cage : Cage

    Returns
    -------
    cage : Cage
    moved : float

    References
    ----------
    E. Catmull and J. Clark (1978), "Recursively generated B-spline surfaces on arbitrary topological meshes";
    T. DeRose, M. Kass and T. Truong (1998), "Subdivision surfaces in character animation".

    Examples
    --------
    >>> import numpy as np
    >>> square = np.array([(0, 0, 0), (4, 0, 0), (4, 4, 0), (0, 4, 0)], float)
    >>> finer, moved = subdivided(Cage(square, np.array([0, 4]), np.arange(4)))
    >>> len(finer.face_start) - 1, finer.points[8].tolist()
    (4, [2.0, 2.0, 0.0])
    """
    points, start, corner = cage.points, cage.face_start.astype(np.int64), cage.corner_point.astype(np.int64)
    size = np.diff(start)
    count, faces = len(points), len(size)
    number = np.arange(len(corner))
    following = np.where(number + 1 == np.repeat(start[1:], size), np.repeat(start[:-1], size), number + 1)
    before = np.empty_like(following)
    before[following] = number
    face_of = np.repeat(np.arange(faces), size)
    centre = np.add.reduceat(points[corner], start[:-1], axis=0) / size[:, None]
    # Edges, with the corner each leaves from.
    ends = np.sort(np.stack([corner, corner[following]], axis=1), axis=1)
    keys, edge_of = np.unique(ends[:, 0] * count + ends[:, 1], return_inverse=True)
    edge_of = edge_of.reshape(-1)
    edges = np.stack([keys // count, keys % count], axis=1)
    times = np.bincount(edge_of, minlength=len(edges))
    sharp = _sharpness(cage, keys, count)
    sharp[times != 2] = np.inf
    middle = (points[edges[:, 0]] + points[edges[:, 1]]) / 2
    around = np.zeros((len(edges), 3))
    np.add.at(around, edge_of, centre[face_of])
    smooth = (2 * middle + around) / 4
    share = np.clip(sharp, 0.0, 1.0)[:, None]
    edge_point = np.where(times[:, None] == 2, share * middle + (1 - share) * smooth, middle)
    vertex = _vertices(cage, points, corner, edges, sharp, times, middle, centre, face_of)
    # Each corner becomes a quad: itself, the middle of its edge, the middle of its face, the middle of the edge before.
    quads = np.stack(
        [corner, count + edge_of, count + len(edges) + face_of, count + edge_of[before]], axis=1
    )  # fmt: skip
    tables = tuple(_divided(values, row, following, before, face_of, start, size) for values, row in cage.tables)
    stays = sharp > 1.0
    stays &= np.isfinite(sharp)
    stays |= np.isinf(sharp) & (times == 2)
    left = np.where(sharp >= _ENDLESS, sharp, sharp - 1.0)[stays]
    at = count + np.flatnonzero(stays)
    finer_edges = np.concatenate(
        [np.stack([edges[stays, 0], at], axis=1), np.stack([at, edges[stays, 1]], axis=1)]
    )  # fmt: skip
    corner_left = np.where(cage.corner_sharpness >= _ENDLESS, cage.corner_sharpness, cage.corner_sharpness - 1.0)
    source = cage.faces if len(cage.faces) else np.arange(faces)
    finer = Cage(
        np.concatenate([vertex, edge_point, centre]),
        np.arange(0, 4 * len(corner) + 1, 4),
        quads.ravel(),
        finer_edges,
        np.concatenate([left, left]),
        cage.corners[corner_left > 0],
        corner_left[corner_left > 0],
        cage.keeps_corners,
        tables,
        source[face_of],
    )
    return finer, float(np.linalg.norm(edge_point - middle, axis=1).max(initial=0.0))


def _sharpness(cage: Cage, keys: NDArray[np.int64], count: int) -> NDArray[np.float64]:
    found = np.zeros(len(keys))
    if len(cage.edges):
        own = np.sort(cage.edges, axis=1)
        wanted = own[:, 0] * count + own[:, 1]
        at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
        there = keys[at] == wanted
        np.maximum.at(found, at[there], cage.sharpness[there])
    return found


def _vertices(
    cage: Cage, points: NDArray[np.float64], corner: NDArray[np.int64], edges: NDArray[np.int64],
    sharp: NDArray[np.float64], times: NDArray[np.int64], middle: NDArray[np.float64], centre: NDArray[np.float64],
    face_of: NDArray[np.int64],
) -> NDArray[np.float64]:  # fmt: skip
    """Where points go: by their faces and edges, by two sharp edges, or nowhere."""
    count = len(points)
    valence = np.bincount(edges.ravel(), minlength=count)
    of_faces = np.bincount(corner, minlength=count)
    around = np.zeros((count, 3))
    np.add.at(around, corner, centre[face_of])
    halves = np.zeros((count, 3))
    np.add.at(halves, edges[:, 0], middle)
    np.add.at(halves, edges[:, 1], middle)
    n = np.maximum(valence, 1)[:, None]
    smooth = (around / np.maximum(of_faces, 1)[:, None] + 2 * halves / n + (n - 3) * points) / n
    hard = sharp > 0
    sharp_edges = np.bincount(edges[hard].ravel(), minlength=count)
    along = np.zeros((count, 3))
    np.add.at(along, edges[hard, 0], points[edges[hard, 1]])
    np.add.at(along, edges[hard, 1], points[edges[hard, 0]])
    creased = (6 * points + along) / 8
    # How sharp a point is: as its sharp edges are on average, and no sharper than those allow.
    total = np.zeros(count)
    limited = np.minimum(sharp, _ENDLESS)
    np.add.at(total, edges[hard].ravel(), np.repeat(limited[hard], 2))
    share = np.clip(total / np.maximum(sharp_edges, 1), 0.0, 1.0)[:, None]
    found = np.where((sharp_edges == 2)[:, None], share * creased + (1 - share) * smooth, smooth)
    found = np.where((sharp_edges > 2)[:, None], share * points + (1 - share) * smooth, found)
    own = np.zeros(count)
    if len(cage.corners):
        np.maximum.at(own, cage.corners, cage.corner_sharpness)
    if cage.keeps_corners:
        own[(of_faces == 1) & (sharp_edges == 2) & (np.bincount(edges[times == 1].ravel(), minlength=count) == 2)] = (
            np.inf
        )
    own[valence == 0] = np.inf
    hold = np.clip(own, 0.0, 1.0)[:, None]
    return np.asarray(hold * points + (1 - hold) * found)


def _divided(
    values: NDArray[np.float64], row: NDArray[np.int64], following: NDArray[np.int64], before: NDArray[np.int64],
    face_of: NDArray[np.int64], start: NDArray[np.int64], size: NDArray[np.int64],
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:  # fmt: skip
    """Values at the corners of the quads: as they were, and halfway between them."""
    count = len(values)
    pairs = np.sort(np.stack([row, row[following]], axis=1), axis=1)
    keys, pair_of = np.unique(pairs[:, 0] * count + pairs[:, 1], return_inverse=True)
    pair_of = pair_of.reshape(-1)
    halves = (values[keys // count] + values[keys % count]) / 2
    middles = np.add.reduceat(values[row], start[:-1], axis=0) / size[:, None]
    rows = np.stack(
        [row, count + pair_of, count + len(halves) + face_of, count + pair_of[before]], axis=1
    )  # fmt: skip
    return np.concatenate([values, halves, middles]), rows.ravel()
