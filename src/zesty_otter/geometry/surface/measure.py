"""Areas, volumes and their centres."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.triangulation import triangulate


def centre_of_area(
    points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32]
) -> tuple[float, NDArray[np.float64]]:
    """The area of a surface and its centre (3,)."""
    corners, _ = triangulate(points, face_start, corner_point)
    a, b, c = points[corner_point[corners]].transpose(1, 0, 2)
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2
    total = float(area.sum())
    if total <= 0:
        return 0.0, np.asarray(points[corner_point].mean(axis=0))
    return total, np.asarray(((a + b + c) / 3 * area[:, None]).sum(axis=0) / total)


def centre_of_volume(
    points: NDArray[np.float64], face_start: NDArray[np.int32], corner_point: NDArray[np.int32]
) -> tuple[float, NDArray[np.float64]]:
    """The signed volume a surface encloses and its centre (3,), by the divergence theorem.

    Meant for closed surfaces; of an open one it is what a cone to the middle of its points encloses.
    """
    corners, _ = triangulate(points, face_start, corner_point)
    middle = points[corner_point].mean(axis=0)
    a, b, c = (points[corner_point[corners]] - middle).transpose(1, 0, 2)
    volume = np.einsum("ij,ij->i", a, np.cross(b, c)) / 6
    total = float(volume.sum())
    if abs(total) <= 1e-12 * float(np.abs(a).max(initial=0.0)) ** 3:
        return 0.0, np.asarray(middle)
    return total, np.asarray(((a + b + c) / 4 * volume[:, None]).sum(axis=0) / total + middle)
