"""All assets of a job in rows, as one scene to look over."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model import Frame, Node, Scene
from zesty_otter.steps.materials import merged_materials


def in_rows(scenes: Sequence[Scene], gap: float, per_row: int | None = None) -> Scene:
    """Several scenes side by side.

    Parameters
    ----------
    scenes : sequence of Scene
        Brought into the frame of the first; each becomes a node with its own name and all of it below.
    gap : float
        Metres between neighbours, and between rows.
    per_row : int, optional
        How many stand in a row; so many that the whole is about square when absent.

    Returns
    -------
    Scene
        Seen from in front it reads like text, the first row farthest away; all stand on height zero.
    """
    frame = scenes[0].frame
    from_here = np.eye(3) if frame.unit is None else frame.matrix_to(Frame("left forward up", "m"))
    boxes = [_turned(scene.bounds(), from_here) for scene in scenes]
    sizes = np.array([box[1] - box[0] for box in boxes])
    limit = math.inf if per_row else max(math.sqrt(float(((sizes[:, 0] + gap) * (sizes[:, 1] + gap)).sum())) * 1.2,
                                         float(sizes[:, 0].max()))  # fmt: skip
    to_here = np.linalg.inv(from_here)
    roots = []
    x = y = depth = 0.0
    in_row = 0
    for scene, box, size in zip(scenes, boxes, sizes, strict=True):
        if in_row and (x + size[0] > limit or in_row == per_row):
            x, y, depth, in_row = 0.0, y + depth + gap, 0.0, 0
        transform = np.eye(4)
        transform[:3, 3] = to_here @ (np.array([x, y, 0.0]) - box[0]) + 0.0
        roots.append(Node(scene.name, transform, scene.roots))
        x, depth, in_row = x + size[0] + gap, max(depth, size[1]), in_row + 1
    whole = Scene(tuple(roots), frame, "overview", read_files=tuple(one.source for one in scenes if one.source))
    return replace(merged_materials(whole), name="overview")


def _turned(box: NDArray[np.float64], matrix: NDArray[np.float64]) -> NDArray[np.float64]:
    turned = np.nan_to_num(box) @ matrix.T
    return np.stack([turned.min(axis=0), turned.max(axis=0)])
