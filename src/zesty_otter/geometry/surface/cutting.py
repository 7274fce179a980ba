"""Surfaces cut into parts that have no more vertices than an index can count."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int32]


def cut_to_size(centres: NDArray[np.float64], face_start: Ints, vertex: NDArray[Any], most: int) -> NDArray[np.int32]:
    """Divide faces into few parts that lie together, each with at most ``most`` vertices.

    Halves are taken across the longest side, where the fuller half is least full; the number of parts
    begins at the fewest there could be and grows only when cuts repeat too many vertices.

    Parameters
    ----------
    centres : (F, 3) float64
        Where each face lies.
    face_start : (F + 1,) int32
    vertex : (C,) int
        The vertex of each corner.
    most : int
        At least as many as the largest face has corners.

    Returns
    -------
    (F,) int32
        The part of each face, numbered from 0.
    """
    count = len(np.unique(vertex))
    if count <= most:
        return np.zeros(len(centres), np.int32)
    wanted = -(-count // most)
    while True:
        part = np.zeros(len(centres), np.int32)
        if _cut(np.arange(len(centres)), wanted, centres, face_start, vertex, most, part, 0):
            return part
        wanted += max(1, wanted // 64)


def _cut(
    faces: NDArray[np.int64],
    wanted: int,
    centres: NDArray[np.float64],
    face_start: Ints,
    vertex: NDArray[Any],
    most: int,
    part: NDArray[np.int32],
    first: int,
) -> bool:
    """Numbers ``faces`` from ``first`` on in at most ``wanted`` parts; false when they would be too large."""
    size = np.diff(face_start)[faces]
    if wanted <= 1 or len(faces) < 2:
        part[faces] = first
        corners = np.repeat(face_start[faces] - np.cumsum(size) + size, size) + np.arange(size.sum())
        return len(np.unique(vertex[corners])) <= most
    box = centres[faces]
    axis = int(np.argmax(np.ptp(box, axis=0)))
    faces = faces[np.argsort(box[:, axis], kind="stable")]
    before, after = _vertices_before_and_after(faces, face_start, vertex)
    left = wanted // 2
    at = int(np.argmin(np.maximum(before[1:-1] / left, after[1:-1] / (wanted - left)))) + 1
    return _cut(faces[:at], left, centres, face_start, vertex, most, part, first) and _cut(
        faces[at:], wanted - left, centres, face_start, vertex, most, part, first + left
    )


def _vertices_before_and_after(
    faces: NDArray[np.int64], face_start: Ints, vertex: NDArray[Any]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """For each of the F + 1 places between faces, how many vertices those before it and after it use."""
    size = np.diff(face_start)[faces]
    corners = np.repeat(face_start[faces] - np.cumsum(size) + size, size) + np.arange(size.sum())
    place = np.repeat(np.arange(len(faces)), size)
    used, number = np.unique(vertex[corners], return_inverse=True)
    first = np.full(len(used), len(faces))
    last = np.zeros(len(used), np.int64)
    np.minimum.at(first, number, place)
    np.maximum.at(last, number, place)
    begins = np.bincount(first, minlength=len(faces))
    ends = np.bincount(last, minlength=len(faces))
    before = np.concatenate([[0], np.cumsum(begins)])
    return before, np.concatenate([np.cumsum(ends[::-1])[::-1], [0]])
