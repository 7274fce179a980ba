"""STL, binary: triangles with the normal of each."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zesty_otter.rehearsal.receivers.faces import Faces, UnknownFormError, placed_faces, require


def received(path: Path) -> Faces:
    data = path.read_bytes()
    count = int.from_bytes(data[80:84], "little")
    if data[:5] == b"solid" and len(data) != 84 + 50 * count:
        raise UnknownFormError("text")
    require(len(data) == 84 + 50 * count, "its size is not what its header says")
    require(data[:5] != b"solid", "a binary file begins as text ones do")
    rows = np.frombuffer(data, [("values", "<f4", (4, 3)), ("spare", "<u2")], count, 84)
    normals, corners = rows["values"][:, 0].astype(np.float64), rows["values"][:, 1:].astype(np.float64)
    flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = np.linalg.norm(flat, axis=1)
    along = np.einsum("ij,ij->i", normals, flat)
    require(bool(((along > 0.999 * area) | (area == 0)).all()), "the normal of a triangle is not that of its corners")
    return placed_faces(np.eye(4), corners.reshape(-1, 3), np.full(count, 3))
