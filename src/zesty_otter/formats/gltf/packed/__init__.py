"""Compressed meshes of glTF: our own reader of the published bitstream, version 2.2.

Triangles are listed, or a surface is built from the steps in which it was taken apart (`surface`); attributes are
corrections to what is foreseen from the values met before (`values`); numbers are coded by their frequencies
(`stream`).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.formats.gltf.packed.stream import Stream
from zesty_otter.formats.gltf.packed.surface import read_corners, read_surface
from zesty_otter.formats.gltf.packed.values import Attribute, Lay, read_heads, read_values

__all__ = ["read_mesh"]

_METADATA = 0x8000


def read_mesh(data: NDArray[np.uint8]) -> tuple[dict[int, NDArray[Any]], NDArray[np.uint32]]:
    """The attributes of a compressed mesh by their numbers, each (P, n), and the corners (3 T,) of its triangles.

    Raises
    ------
    UnsoundError
        When the bytes are not such a mesh, or are damaged.
    """
    stream = Stream(data)
    if stream.take(5).tobytes() != b"DRACO":
        raise UnsoundError("a compressed mesh does not begin as one")
    version, kind, how = (stream.whole(), stream.whole()), stream.whole(), stream.whole()
    if version != (2, 2):
        raise UnsoundError(f"a compressed mesh is of version {version[0]}.{version[1]}, and only 2.2 is known")
    if kind != 1 or how > 1:
        raise UnsoundError("a compressed mesh holds no triangles")
    if stream.whole(2) & _METADATA:
        for _ in range(stream.number()):
            stream.number()
            _skip_metadata(stream)
        _skip_metadata(stream)
    if how == 1:
        return _over_surface(stream)
    corners, count = read_corners(stream)
    groups = [read_heads(stream) for _ in range(stream.whole())]
    if corners.max(initial=0) >= max(count, 1):
        raise UnsoundError("a compressed mesh has corners without points")
    lay = Lay(count, np.empty(0, np.int32), corners.view(np.int32), None)
    for group in groups:
        read_values(stream, group, lay, ())
    return {one.number: one.values for group in groups for one in group}, corners


def _over_surface(stream: Stream) -> tuple[dict[int, NDArray[Any]], NDArray[np.uint32]]:
    whole, cuts = read_surface(stream)
    uses = []
    for _ in range(stream.whole()):
        number, at_corners, by_degree = stream.whole(signed=True), stream.whole(), stream.whole()
        if (
            not -1 <= number < len(cuts)
            or at_corners > 1
            or by_degree > 1
            or (at_corners and (by_degree or number < 0))
        ):
            raise UnsoundError("a compressed mesh has attributes of a form that is not known")
        uses.append((cuts[number] if at_corners else whole, bool(by_degree)))
    point, first = whole.points(cuts)
    lays: dict[tuple[int, bool], Lay] = {}
    before: list[Attribute] = []
    values: dict[int, NDArray[Any]] = {}
    for (surface, by_degree), group in zip(uses, [read_heads(stream) for _ in uses], strict=True):
        key = id(surface), by_degree
        if key not in lays:
            order, entry = surface.by_degree() if by_degree else surface.by_depth()
            lays[key] = Lay(len(order), order, entry, surface)
        before += group
        read_values(stream, group, lays[key], before)
        there = lays[key].entry.take(first)
        values |= {one.number: one.values.take(there, axis=0) for one in group}
    return values, point.view(np.uint32)


def _skip_metadata(stream: Stream, depth: int = 0) -> None:
    """Names and values beside the mesh, which nothing here has a use for."""
    if depth > 32:
        raise UnsoundError("a compressed mesh has notes nested too deep")
    for _ in range(stream.number()):
        stream.take(stream.whole())
        stream.take(stream.number())
    for _ in range(stream.number()):
        stream.take(stream.whole())
        _skip_metadata(stream, depth + 1)
