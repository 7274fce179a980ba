"""A scene to PLY, binary, little-endian: one mesh with normals, UVs and colours at its vertices."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import as_one_mesh, frame_comment
from zesty_otter.formats.files import Buffer, Encoded
from zesty_otter.geometry.surface.corners import split_corners, take_rows
from zesty_otter.model import Mesh, Note, Scene
from zesty_otter.shading import with_implied_normals

_PROPERTIES = {"normal": ("nx", "ny", "nz"), "uv": ("s", "t"), "color": ("red", "green", "blue", "alpha")}


def encode(scene: Scene, name: str) -> Encoded:
    """The file of a scene."""
    mesh, notes = as_one_mesh(scene, "ply")
    mesh = with_implied_normals(mesh)
    kept = [next(iter(mesh.layers_of(kind)), None) for kind in _PROPERTIES]
    layers = [layer for layer in kept if layer is not None]
    if len(mesh.layers_of("color")) > 1:
        notes.append(Note("lost", "PLY has one vertex colour; further ones are left out", "ply"))
    no_slots = np.zeros(mesh.face_count, np.int32)
    vertex, corner = split_corners(
        mesh.face_start, mesh.corner_point, no_slots, [(layer.values, layer.index) for layer in layers]
    )
    columns: dict[tuple[str, ...], NDArray[Any]] = {("x", "y", "z"): take_rows(mesh.points, mesh.corner_point, corner)}
    for layer in layers:
        values = take_rows(layer.values, layer.index, corner, 1.0 if layer.kind == "color" else 0.0)
        names = _PROPERTIES[layer.kind][: values.shape[1]]
        columns[names] = np.rint(np.clip(values, 0, 1) * 255).astype(np.uint8) if layer.kind == "color" else values
    rows = np.empty(len(corner), [(" ".join(names), of.dtype, of.shape[1:]) for names, of in columns.items()])
    for names, of in columns.items():
        rows[" ".join(names)] = of
    head = ["ply", "format binary_little_endian 1.0"]
    head.append(f"comment {frame_comment(scene.frame)}")
    head.append(f"element vertex {len(rows)}")
    for names, of in columns.items():
        head += [f"property {'uchar' if of.dtype == np.uint8 else 'float'} {name}" for name in names]
    head += [f"element face {mesh.face_count}", "property list uchar int vertex_indices"]
    head.append("end_header\n")
    text = "\n".join(head).encode()
    return Encoded({name: [text, rows.view(np.uint8), *_face_rows(mesh, vertex)]}, notes)


def _face_rows(mesh: Mesh, vertex: NDArray[np.int32]) -> Iterator[Buffer]:
    size = mesh.face_size
    if len(size) and (size == size[0]).all():
        rows = np.empty(mesh.face_count, [("n", "u1"), ("v", "<i4", (int(size[0]),))])
        rows["n"], rows["v"] = size[0], vertex.reshape(-1, size[0])
        yield rows.view(np.uint8)
        return
    # Bytes of every row: its count, then its corners.
    start = np.concatenate([[0], np.cumsum(1 + 4 * size.astype(np.int64))])
    out = np.empty(int(start[-1]), np.uint8)
    out[start[:-1]] = size
    corner = np.ascontiguousarray(vertex, "<i4").view(np.uint8).reshape(-1, 4)
    place = np.repeat(start[:-1] + 1, size)
    place += 4 * (np.arange(len(vertex)) - np.repeat(mesh.face_start[:-1], size))
    for k in range(4):
        out[place + k] = corner[:, k]
    yield out
