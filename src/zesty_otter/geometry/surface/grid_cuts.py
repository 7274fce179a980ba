"""Surfaces cut along the lines of a grid on the ground."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Table = NDArray[np.float32]

_ON_LINE = 1e-9  # of a cell: points this near to a line lie on it


def cut_along_grid(
    points: Floats, ground: Floats, triangles: Ints, tables: Sequence[Table], size: float
) -> tuple[Floats, Floats, Ints, Ints, list[Table]]:
    """Triangles cut where they cross the lines of a grid, so that none lies in two cells.

    Triangles that share an edge share its new points: these depend on the ends of the edge only, as all lines are taken
    in one order. Values between two corners are mixed as places are.

    Parameters
    ----------
    points : (P, 3) float64
    ground : (P, 2) float64
        Where each lies on the ground; cells are multiples of ``size`` in both directions.
    triangles : (T, 3) int64
    tables : sequence of (T, 3, n) float32
        What corners have.
    size : float
        Of a cell.

    Returns
    -------
    points, ground : (P + N, 3), (P + N, 2) float64
        Those given, and new ones on lines.
    triangles : (K, 3) int64
    source : (K,) int64
        The triangle each is a piece of.
    tables : list of (K, 3, n) float32
    """
    source = np.arange(len(triangles))
    found = [np.ascontiguousarray(one) for one in tables]
    for axis in (0, 1):
        along = ground[triangles, axis] / size
        # All lines that something may cross, from low to high.
        for line in range(int(np.floor(along.min())) + 1, int(np.ceil(along.max()))) if len(along) else ():
            away = ground[triangles, axis] / size - line
            side = np.where(np.abs(away) <= _ON_LINE, 0, np.sign(away)).astype(np.int8)
            crossed = np.flatnonzero((side.min(axis=1) < 0) & (side.max(axis=1) > 0))
            if not len(crossed):
                continue
            points, ground, pieces, parent, values = _split(
                points, ground, triangles[crossed], side[crossed], [one[crossed] for one in found], axis, line * size
            )
            kept = np.ones(len(triangles), bool)
            kept[crossed] = False
            triangles = np.concatenate([triangles[kept], pieces])
            source = np.concatenate([source[kept], source[crossed][parent]])
            found = [np.concatenate([one[kept], more]) for one, more in zip(found, values, strict=True)]
    order = np.argsort(source, kind="stable")
    return points, ground, triangles[order], source[order], [one[order] for one in found]


def _split(
    points: Floats,
    ground: Floats,
    triangles: Ints,
    side: NDArray[np.int8],
    tables: Sequence[Table],
    axis: int,
    line: float,
) -> tuple[Floats, Floats, Ints, Ints, list[Table]]:
    """Triangles that cross one line, cut in two or three pieces; new points lie exactly on it."""
    # Turned so that the first corner is alone on its side, or, where one is on the line, the first is that.
    on_line = (side == 0).any(axis=1)
    alone = np.where(
        on_line, np.argmax(side == 0, axis=1), np.argmax(side == -np.sign(side.sum(axis=1))[:, None], axis=1)
    )
    turn = (alone[:, None] + np.arange(3)) % 3
    rows = np.arange(len(triangles))[:, None]
    tri, values = triangles[rows, turn], [one[rows, turn] for one in tables]
    # Edges that are cut: of those with one on the line the one across; else both at the first corner.
    halves = np.flatnonzero(on_line)
    thirds = np.flatnonzero(~on_line)
    edges = np.concatenate([tri[halves][:, [1, 2]], tri[thirds][:, [0, 1]], tri[thirds][:, [0, 2]]])
    ends, number = np.unique(np.sort(edges, axis=1), axis=0, return_inverse=True)
    low, high = ground[ends[:, 0], axis], ground[ends[:, 1], axis]
    share = (line - low) / (high - low)
    first = len(points)
    points = np.concatenate([points, points[ends[:, 0]] + (points[ends[:, 1]] - points[ends[:, 0]]) * share[:, None]])
    new = ground[ends[:, 0]] + (ground[ends[:, 1]] - ground[ends[:, 0]]) * share[:, None]
    new[:, axis] = line
    ground = np.concatenate([ground, new])
    number = number.ravel() + first
    own = np.where(edges[:, 0] == ends[number - first, 0], share[number - first], 1 - share[number - first])[:, None]
    p, q, r = np.split(number, [len(halves), len(halves) + len(thirds)])
    sp, sq, sr = np.split(own.astype(np.float32), [len(halves), len(halves) + len(thirds)])

    def pieces(corner: NDArray[np.generic], at_p: NDArray[np.generic], at_q: NDArray[np.generic],
               at_r: NDArray[np.generic]) -> NDArray[np.generic]:  # fmt: skip
        half, third = corner[halves], corner[thirds]
        return np.concatenate(
            [
                np.stack([half[:, 0], half[:, 1], at_p], axis=1),
                np.stack([half[:, 0], at_p, half[:, 2]], axis=1),
                np.stack([third[:, 0], at_q, at_r], axis=1),
                np.stack([at_q, third[:, 1], third[:, 2]], axis=1),
                np.stack([at_q, third[:, 2], at_r], axis=1),
            ]
        )

    mixed = [
        pieces(
            one,
            one[halves][:, 1] + (one[halves][:, 2] - one[halves][:, 1]) * sp,
            one[thirds][:, 0] + (one[thirds][:, 1] - one[thirds][:, 0]) * sq,
            one[thirds][:, 0] + (one[thirds][:, 2] - one[thirds][:, 0]) * sr,
        )
        for one in values
    ]
    parent = np.concatenate([halves, halves, thirds, thirds, thirds])
    made = pieces(tri, p, q, r)
    return points, ground, np.asarray(made, np.int64), parent, [np.asarray(one, np.float32) for one in mixed]
