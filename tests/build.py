"""What several tests build or take apart."""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

import zesty_otter as zo
from zesty_otter.formats import FORMATS
from zesty_otter.model import Node

WRITTEN = [one for one in FORMATS if one.writer and not one.only_places]
"""Every format that meshes are written to."""
ENDINGS = [one.suffixes[0].lstrip(".") for one in WRITTEN]
"""The first ending of each of them."""

CUBE_POINTS = [[x, y, z] for z in (0, 1) for y in (0, 1) for x in (0, 1)]
CUBE_FACES = [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]]


def cube(size: tuple[float, float, float] = (1.0, 1.0, 1.0), name: str = "cube", **rest: Any) -> zo.Mesh:
    """A box from the origin to ``size``, six quads facing outward in a right-handed space."""
    return zo.Mesh.from_faces(name, np.array(CUBE_POINTS) * size, CUBE_FACES, **rest)


def scene_of(*contents: zo.Mesh | Node, axes: str = "left up forward", unit: Any = "m") -> zo.Scene:
    """A scene whose roots show these meshes."""
    nodes = tuple(one if isinstance(one, Node) else Node(one.name, content=one) for one in contents)
    return zo.Scene(nodes, zo.Frame(axes, unit), "test")


def moved(x: float, y: float, z: float) -> np.ndarray:
    matrix = np.eye(4)
    matrix[:3, 3] = (x, y, z)
    return matrix


def volume(mesh: zo.Mesh, world: np.ndarray | None = None) -> float:
    """Signed volume: positive when the cross products of the faces point outward."""
    world = np.eye(4) if world is None else world
    points = mesh.points @ world[:3, :3].T + world[:3, 3]
    total = 0.0
    for start, stop in zip(mesh.face_start, mesh.face_start[1:], strict=False):
        face = points[mesh.corner_point[start:stop]]
        for k in range(1, len(face) - 1):
            total += float(np.dot(face[0], np.cross(face[k], face[k + 1]))) / 6
    return total


def light(*seen: float) -> tuple[float, ...]:
    """The amounts of light of a colour as it looks on screen (IEC 61966-2-1)."""
    return tuple(one / 12.92 if one <= 0.04045 else ((one + 0.055) / 1.055) ** 2.4 for one in seen)


def obj(folder: Path, text: str | bytes, name: str = "thing.obj", **beside: str | bytes) -> Path:
    """An OBJ file, with other files beside it (``mtl=`` becomes thing.mtl)."""
    for ending, content in beside.items():
        path = folder / f"thing.{ending}"
        path.write_bytes(content.encode() if isinstance(content, str) else content)
    path = folder / name
    path.write_bytes(text.encode() if isinstance(text, str) else text)
    return path


def texts(notes: Any) -> str:
    return "\n".join(str(note) for note in notes)


class Gltf:
    """A written glTF file, taken apart with nothing but struct and JSON."""

    def __init__(self, path: Path) -> None:
        raw = path.read_bytes()
        if path.suffix == ".glb":
            length = struct.unpack_from("<I", raw, 12)[0]
            self.json = json.loads(raw[20 : 20 + length])
            self.buffer = raw[28 + length :]
        else:
            self.json = json.loads(raw)
            self.buffer = (path.parent / self.json["buffers"][0]["uri"]).read_bytes()

    def values(self, accessor: int) -> np.ndarray:
        about = self.json["accessors"][accessor]
        view = self.json["bufferViews"][about["bufferView"]]
        dtype = {5123: "<u2", 5125: "<u4", 5126: "<f4"}[about["componentType"]]
        width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[about["type"]]
        flat = np.frombuffer(self.buffer, dtype, about["count"] * width, view["byteOffset"])
        return flat.reshape(-1, width) if width > 1 else flat

    def primitive(self, mesh: int = 0, number: int = 0) -> tuple[dict[str, np.ndarray], np.ndarray]:
        """Attributes by name, and triangles (T, 3)."""
        primitive = self.json["meshes"][mesh]["primitives"][number]
        attributes = {name: self.values(a) for name, a in primitive["attributes"].items()}
        return attributes, self.values(primitive["indices"]).reshape(-1, 3).astype(int)

    def image(self, number: int = 0) -> bytes:
        view = self.json["bufferViews"][self.json["images"][number]["bufferView"]]
        return self.buffer[view["byteOffset"] : view["byteOffset"] + view["byteLength"]]


def written(scene: zo.Scene, folder: Path, name: str = "out.glb") -> Gltf:
    zo.write(scene, folder / name)
    return Gltf(folder / name)
