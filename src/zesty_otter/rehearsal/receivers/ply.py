"""PLY, binary and little-endian: one list of vertices with their values, one of faces."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from zesty_otter.rehearsal.receivers.faces import Faces, Ints, UnknownFormError, light, placed_faces, require

_KINDS = {"char": "i1", "uchar": "u1", "short": "<i2", "ushort": "<u2", "int": "<i4", "uint": "<u4"}
_KINDS |= {"float": "<f4", "double": "<f8", "int8": "i1", "uint8": "u1", "int16": "<i2", "uint16": "<u2"}
_KINDS |= {"int32": "<i4", "uint32": "<u4", "float32": "<f4", "float64": "<f8"}


def received(path: Path) -> Faces:
    head, _, data = path.read_bytes().partition(b"end_header\n")
    lines = [line.split() for line in head.decode("ascii", "replace").splitlines()]
    lines = [line for line in lines if line and line[0] not in ("comment", "obj_info")]
    require(lines and lines[0] == ["ply"], "it does not begin as PLY")
    if lines[1] != ["format", "binary_little_endian", "1.0"] or [line[1] for line in lines if line[0] == "element"] != [
        "vertex",
        "face",
    ]:
        raise UnknownFormError("text, big-endian numbers or further elements")
    vertices, faces = (int(line[2]) for line in lines if line[0] == "element")
    lists = [line for line in lines if line[0] == "property" and line[1] == "list"]
    if len(lists) != 1 or lists[0][2:4] != ["uchar", "int"]:
        raise UnknownFormError("faces with more than their corners")
    columns = [(line[2], _KINDS[line[1]]) for line in lines if line[0] == "property" and len(line) == 3]
    table = np.frombuffer(data, columns, vertices)
    bytes_of_faces = np.frombuffer(data, np.uint8, offset=table.nbytes)
    start = _starts(bytes_of_faces, faces)
    sizes = bytes_of_faces[start].astype(np.int64)
    require(int((1 + 4 * sizes).sum()) == len(bytes_of_faces), "there is more, or less, than the header says")
    require(not faces or sizes.min() >= 3, "a face has fewer than three corners")
    first = np.repeat(start + 1 - 4 * (np.cumsum(sizes) - sizes), sizes) + 4 * np.arange(int(sizes.sum()))
    index = bytes_of_faces[first[:, None] + np.arange(4)].copy().view("<i4")[:, 0]
    require(not len(index) or (index.min() >= 0 and index.max() < vertices), "a face names a vertex that is not there")

    def of(*names: str) -> NDArray[np.float64] | None:
        if not set(names) <= set(table.dtype.names or ()):
            return None
        return np.stack([table[name][index].astype(np.float64) for name in names], axis=1)

    points, colors = of("x", "y", "z"), of("red", "green", "blue")
    require(points is not None, "its vertices have no place")
    assert points is not None
    return placed_faces(
        np.eye(4),
        points,
        sizes,
        normals=of("nx", "ny", "nz"),
        uvs=of("s", "t"),
        colors=None if colors is None else light(colors / 255),
    )


def _starts(data: NDArray[np.uint8], faces: int) -> Ints:
    """Where each face begins: each says where the next one does, which is followed twice as far at every step."""
    if not faces:
        return np.zeros(0, np.int64)
    require(13 * faces <= len(data), "there is less than the header says")
    follows = np.minimum(np.arange(len(data), dtype=np.int64) + 1 + 4 * data.astype(np.int64), len(data) - 1)
    found = np.zeros(1, np.int64)
    while len(found) < faces:
        found = np.concatenate([found, follows[found]])
        follows = follows[follows]
    found = found[:faces]
    require(bool((np.diff(found) > 0).all()), "there is less than the header says")
    return found
