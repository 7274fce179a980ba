"""glTF 2.0, after its specification (Khronos Group, 2021): nodes, triangles, textures' places, instances."""

from __future__ import annotations

import base64
import json
import math
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.rehearsal.receivers.faces import (
    Faces,
    Floats,
    UnknownFormError,
    all_of,
    place,
    placed_faces,
    require,
    rows_of,
    turned_by,
)

_KINDS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
_KNOWN = {"EXT_mesh_gpu_instancing", "KHR_texture_transform", "KHR_mesh_quantization", "KHR_node_visibility"}


def received(path: Path) -> Faces:
    return all_of(_Document(path).parts())


class _Document:
    def __init__(self, path: Path) -> None:
        data = path.read_bytes()
        own = b""
        if data[:4] == b"glTF":
            magic, version, length, size, kind = struct.unpack_from("<4sIIII", data)
            require((magic, version, length, kind) == (b"glTF", 2, len(data), 0x4E4F534A), "its header is not sound")
            require(size % 4 == 0, "its chunks are not a multiple of four bytes")
            data, own = data[20 : 20 + size], data[28 + size :]
        self.json: dict[str, Any] = json.loads(data)
        unknown = set(self.json.get("extensionsRequired", ())) - _KNOWN
        if unknown:
            raise UnknownFormError(", ".join(sorted(unknown)))
        self.buffers = [_loaded(one, path.parent, own) for one in self.json.get("buffers", ())]
        for one, buffer in zip(self.json.get("buffers", ()), self.buffers, strict=True):
            require(len(buffer) >= one["byteLength"], "a buffer is shorter than it says")

    def values(self, number: int, *, signed: bool = False) -> Floats:
        """(N, n) what an accessor holds, as plain numbers."""
        one = self.json["accessors"][number]
        kind = np.dtype(_KINDS[one["componentType"]])
        width, count = _WIDTHS[one["type"]], one["count"]
        if "sparse" in one or "bufferView" not in one:
            raise UnknownFormError("sparse accessors")
        view = self.json["bufferViews"][one["bufferView"]]
        start, step = one.get("byteOffset", 0), view.get("byteStride", kind.itemsize * width)
        reach = start + step * (count - 1) + kind.itemsize * width
        require(count > 0 and reach <= view["byteLength"], "an accessor reaches beyond its view")
        require((start + view.get("byteOffset", 0)) % kind.itemsize == 0, "an accessor is not aligned")
        data = np.frombuffer(self.buffers[view["buffer"]], np.uint8, reach, view.get("byteOffset", 0))
        rows = np.ndarray((count, width), kind, data, start, (step, kind.itemsize))
        found = rows.astype(np.float64)
        if one.get("normalized"):
            found = np.maximum(found / np.iinfo(kind).max, -1)
        if "min" in one and not one.get("normalized"):
            low, high = rows.min(axis=0), rows.max(axis=0)
            said = np.array([one["min"], one["max"]], np.float32 if kind.kind == "f" else np.float64)
            require(np.array_equal(said, [low, high]), "the extremes of an accessor are not those of its values")
        return found

    def parts(self) -> Iterator[Faces]:
        nodes = self.json.get("nodes", [])
        scene = self.json["scenes"][self.json.get("scene", 0)]
        waiting = [(number, np.eye(4), True) for number in reversed(scene.get("nodes", []))]
        met: set[int] = set()
        while waiting:
            number, above, seen = waiting.pop()
            require(number not in met, "a node is in the tree twice")
            met.add(number)
            node = nodes[number]
            seen = seen and node.get("extensions", {}).get("KHR_node_visibility", {}).get("visible", True)
            world = above @ _matrix(node)
            waiting += [(child, world, seen) for child in reversed(node.get("children", []))]
            if not seen or "mesh" not in node:
                continue
            if "skin" in node:
                raise UnknownFormError("skins")
            for copy in self._copies(node):
                for primitive in self.json["meshes"][node["mesh"]]["primitives"]:
                    yield self._triangles(primitive, world @ copy)

    def _copies(self, node: dict[str, Any]) -> list[Floats]:
        said = node.get("extensions", {}).get("EXT_mesh_gpu_instancing")
        if said is None:
            return [np.eye(4)]
        columns = {name: self.values(number) for name, number in said["attributes"].items()}
        count = len(next(iter(columns.values())))
        moves = columns.get("TRANSLATION", np.zeros((count, 3)))
        turns = columns.get("ROTATION", np.tile([0.0, 0, 0, 1], (count, 1)))
        scales = columns.get("SCALE", np.ones((count, 3)))
        return [place(*one) for one in zip(moves, map(turned_by, turns), scales, strict=True)]

    def _triangles(self, primitive: dict[str, Any], world: Floats) -> Faces:
        if primitive.get("mode", 4) != 4 or "targets" in primitive:
            raise UnknownFormError("primitives other than triangles")
        found = {name: self.values(number) for name, number in primitive["attributes"].items()}
        count = len(found["POSITION"])
        require(all(len(one) == count for one in found.values()), "attributes differ in number")
        index = np.arange(count)
        if "indices" in primitive:
            index = self.values(primitive["indices"])[:, 0].astype(np.int64)
        require(len(index) % 3 == 0, "indices are not a multiple of three")
        for name in ("NORMAL", "TANGENT"):
            if name in found:
                length = np.linalg.norm(found[name][:, :3], axis=1)
                require(bool((np.abs(length - 1) < 0.02).all()), f"{name} is not of length one")
        material = self.json["materials"][primitive["material"]] if "material" in primitive else {}
        colors = found["COLOR_0"][:, :3][index] if "COLOR_0" in found else None
        uvs = self._uvs(material, found)
        return placed_faces(
            world,
            rows_of(found["POSITION"], index, "vertices"),
            np.full(len(index) // 3, 3),
            normals=found["NORMAL"][index] if "NORMAL" in found else None,
            uvs=None if uvs is None else uvs[index],
            colors=colors,
            names=[material.get("name", "")],
        )

    def _uvs(self, material: dict[str, Any], found: dict[str, Floats]) -> Floats | None:
        info = material.get("pbrMetallicRoughness", {}).get("baseColorTexture", {})
        moved = info.get("extensions", {}).get("KHR_texture_transform", {})
        uvs = found.get(f"TEXCOORD_{moved.get('texCoord', info.get('texCoord', 0))}")
        if uvs is None:
            return None
        cos, sin = math.cos(moved.get("rotation", 0)), math.sin(moved.get("rotation", 0))
        scaled = uvs * moved.get("scale", (1, 1))
        turned = scaled @ np.array([[cos, -sin], [sin, cos]]) + moved.get("offset", (0, 0))
        return np.asarray(turned * (1, -1) + (0, 1))


def _matrix(node: dict[str, Any]) -> Floats:
    if "matrix" in node:
        require(not {"translation", "rotation", "scale"} & node.keys(), "a node has a matrix and parts of one")
        return np.array(node["matrix"], np.float64).reshape(4, 4).T
    turn = turned_by(node["rotation"]) if "rotation" in node else None
    return place(node.get("translation", (0, 0, 0)), turn, node.get("scale", (1, 1, 1)))


def _loaded(about: dict[str, Any], folder: Path, own: bytes) -> bytes | NDArray[np.uint8]:
    uri = about.get("uri")
    if uri is None:
        return own
    if uri.startswith("data:"):
        return base64.b64decode(uri.partition(",")[2], validate=True)
    return (folder / unquote(uri)).read_bytes()
