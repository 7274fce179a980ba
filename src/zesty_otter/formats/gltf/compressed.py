"""Compressed geometry of glTF: buffer views and whole meshes, by the two registered extensions for them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.gltf.errors import UnsoundError

PACKED_VIEW, PACKED_MESH = "EXT_meshopt_compression", "KHR_draco_mesh_compression"
_MOST = 1 << 31  # bytes of one view


def unpacked_view(about: Mapping[str, Any], data: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """The bytes of a buffer view that its extension holds compressed.

    Parameters
    ----------
    about
        What the extension says: count, byteStride, mode and filter.
    data
        The compressed bytes.

    Raises
    ------
    UnsoundError
        When these are not what the extension allows.
    """
    from zesty_otter.formats.gltf import _views as kernels

    count, stride = int(about["count"]), int(about["byteStride"])
    mode, how = str(about["mode"]), str(about.get("filter", "NONE"))
    # A byte holds 256 rows at most, when nothing changes.
    if not 0 < stride <= 256 or not count >= 0 or count * stride > min(_MOST, 256 * stride * len(data)):
        raise UnsoundError("a compressed view promises more than it can hold")
    data = np.ascontiguousarray(data)
    head = {"ATTRIBUTES": 0xA0, "TRIANGLES": 0xE0, "INDICES": 0xD0}.get(mode)
    if head is None or not len(data) or data[0] & 0xF0 != head:
        raise UnsoundError(f"a compressed view does not hold {mode}")
    if data[0] & 0x0F > 1:
        raise UnsoundError(f"a compressed view is of version {int(data[0] & 0x0F)}, which is not known")
    if mode == "ATTRIBUTES":
        if stride % 4:
            raise UnsoundError("rows of a compressed view are not whole words")
        rows = np.empty((count, stride), np.uint8)
        if kernels.attributes(data, stride, rows) < 0:
            raise UnsoundError("a compressed view is cut short")
        return _unfiltered(rows, how)
    if stride not in (2, 4) or (mode == "TRIANGLES" and count % 3):
        raise UnsoundError("indices of a compressed view are of a wrong size or number")
    out = np.empty(count, np.uint32)
    if (kernels.triangles if mode == "TRIANGLES" else kernels.indices)(data, out) < 0:
        raise UnsoundError("a compressed view is cut short")
    return out.astype("<u2" if stride == 2 else "<u4").view(np.uint8)


def _unfiltered(rows: NDArray[np.uint8], how: str) -> NDArray[np.uint8]:
    from zesty_otter.formats.gltf import _views as kernels

    stride = rows.shape[1]
    if how == "OCTAHEDRAL" and stride in (4, 8):
        if stride == 4:
            kernels.octahedral8(rows.view(np.int8))
        else:
            kernels.octahedral16(rows.view(np.int16))
    elif how == "QUATERNION" and stride == 8:
        kernels.quaternions(rows.view(np.int16))
    elif how == "EXPONENTIAL" and stride % 4 == 0:
        out = np.empty(rows.size // 4, np.float32)
        kernels.exponential(rows.reshape(-1).view(np.int32), out)
        return out.view(np.uint8)
    elif how != "NONE":
        raise UnsoundError(f"a compressed view has a filter {how} that does not fit")
    return rows.reshape(-1)


def packed_rows(rows: NDArray[Any]) -> NDArray[np.uint8]:
    """The rows (N, n) of an attribute, compressed; their size is a multiple of four bytes and at most 256."""
    from zesty_otter.formats.gltf import _views as kernels

    data = np.ascontiguousarray(rows).view(np.uint8).reshape(len(rows), -1)
    count, stride = data.shape
    # Steps of 8 bits in whole groups, and two bits for each group, of which four share a byte in every block.
    out = np.empty(1 + stride * (count + 16 + (count + 15) // 16 + 1) + max(stride, 32), np.uint8)
    return out[: kernels.pack_attributes(data, out)]


def packed_corners(corners: NDArray[Any]) -> NDArray[np.uint8]:
    """The corners (3 T,) of triangles, compressed; a triangle may come to begin at another of its corners."""
    from zesty_otter.formats.gltf import _views as kernels

    out = np.empty(17 * (len(corners) // 3 + 1), np.uint8)
    return out[: kernels.pack_triangles(corners.astype(np.uint32), out)]


def unpacked_mesh(
    data: NDArray[np.uint8], wanted: Mapping[str, Any]
) -> tuple[dict[str, NDArray[Any]], NDArray[np.uint32]]:
    """The attributes of a compressed mesh by name, each (V, n), and the corners of its triangles.

    ``wanted`` says the number of each attribute in the compressed mesh.

    Raises
    ------
    UnsoundError
        When it is damaged, or an attribute is not in it.
    """
    from zesty_otter.formats.gltf.packed import read_mesh

    there, corners = read_mesh(data)
    if not set(map(int, wanted.values())) <= there.keys():
        raise UnsoundError("a compressed mesh lacks an attribute that the document says it has")
    return {name: there[int(number)] for name, number in wanted.items()}, corners
