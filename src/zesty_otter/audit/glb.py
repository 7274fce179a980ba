"""An independent look at a written glTF file: is it sound, and what does it hold?

Shares nothing with the writer, so that a mistake made there is not made again here.
"""

from __future__ import annotations

import io
import json
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.audit.facts import FileFacts
from zesty_otter.errors import InputError
from zesty_otter.formats.files import readable
from zesty_otter.formats.gltf.compressed import PACKED_VIEW, unpacked_view
from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.model import copies_bounds

_COMPONENTS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}


def inspect_glb(path: Path) -> FileFacts:
    """Check the chunks, views, accessors, bounds and indices of a .glb or .gltf file, and count.

    Parameters
    ----------
    path : Path

    Returns
    -------
    FileFacts

    Raises
    ------
    InputError
        At the first thing that breaks the glTF 2.0 specification.

    Examples
    --------
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> inspect_glb(Path("sail.glb")).triangles
    1
    """
    try:
        return _Inspection(Path(path)).facts()
    except (KeyError, IndexError, ValueError, struct.error) as error:
        raise InputError(f"is not sound glTF: {type(error).__name__} {error}.", file=path) from None


# What is looked at, and of which kind it has to be: {name: form} of an object, {"": form} of all that is in it, [form]
# of a list. What else is in a document, such as what others put into materials, is nothing to it.
_NUMBERS: Any = [(int, float)]
_FORM: Any = {
    "asset": {},
    "scene": int,
    "scenes": [{"nodes": [int]}],
    "nodes": [
        {
            "mesh": int,
            "children": [int],
            **dict.fromkeys(("matrix", "rotation", "scale", "translation"), _NUMBERS),
            "extensions": {"EXT_mesh_gpu_instancing": {"attributes": {"": int}}},
        }
    ],
    "meshes": [{"primitives": [{"attributes": {"": int}, "indices": int, "material": int}]}],
    "materials": [{"pbrMetallicRoughness": {"baseColorFactor": _NUMBERS, "baseColorTexture": {"index": int}}}],
    "textures": [{"source": int}],
    "images": [{"bufferView": int}],
    "accessors": [{"bufferView": int, "byteOffset": int, "componentType": int, "count": int, "type": str}],
    "bufferViews": [
        {
            **dict.fromkeys(("byteLength", "byteOffset", "byteStride"), int),
            "extensions": {PACKED_VIEW: dict.fromkeys(("byteLength", "byteOffset", "byteStride", "count"), int)},
        }
    ],
    "buffers": [{"byteLength": int, "uri": str}],
}


def _wrong(value: Any, form: Any, place: str) -> str:
    """What of a document is not of its form, in words; nothing where all is."""
    if isinstance(form, dict):
        if not isinstance(value, dict):
            return f"{place or 'its JSON'} is not an object"
        every = form.get("")
        inner = ((f"{place}.{key}", one, form.get(key, every)) for key, one in value.items() if every or key in form)
    elif isinstance(form, list):
        if not isinstance(value, list):
            return f"{place} is not a list"
        inner = ((f"{place}[{n}]", one, form[0]) for n, one in enumerate(value))
    else:
        good = isinstance(value, form) and not isinstance(value, bool) and (isinstance(value, str) or abs(value) < 1e30)
        return "" if good else f"{place} is {value!r:.40}"
    return next((said for where, one, of in inner if (said := _wrong(one, of, where.lstrip(".")))), "")


Section = tuple[NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any]]


def read_sections(path: Path) -> Iterator[Section]:
    """Every material section of a sound file, placed: points, normals, UVs, triangles and base colour image.

    Yields
    ------
    points, normals : (V, 3) float64
    uvs : (V, 2) float64, from the upper left corner of the image
    triangles : (T, 3) int64
    image : (H, W, 4) float64, 0 to 1; one pixel where there is no texture
    """
    inspection = _Inspection(Path(path))
    every = ((node, world) for node, worlds, _ in inspection._placed() for world in worlds if "mesh" in node)
    for node, world in every:
        for primitive in inspection.document["meshes"][node["mesh"]]["primitives"]:
            data = {name: inspection._accessor(n).astype(float) for name, n in primitive["attributes"].items()}
            points = data["POSITION"] @ world[:3, :3].T + world[:3, 3]
            uvs = data.get("TEXCOORD_0", np.zeros((len(points), 2)))
            triangles = inspection._accessor(primitive["indices"]).reshape(-1, 3).astype(np.int64)
            yield points, data["NORMAL"] @ world[:3, :3].T, uvs, triangles, inspection.base_color(primitive)


class _Inspection:
    def __init__(self, path: Path) -> None:
        self.path = path
        with readable(path):
            self.raw = path.read_bytes()
        self.document, self.buffer = self._split()

    def _checked(self, text: bytes) -> dict[str, Any]:
        """The document, once what is looked at in it is known to be of the kinds it should be."""
        document = json.loads(text)
        problem = _wrong(document, _FORM, "")
        if problem:
            raise self.fail(problem)
        return dict(document)

    def fail(self, problem: str) -> InputError:
        return InputError(f"is not sound glTF: {problem}.", file=self.path)

    def facts(self) -> FileFacts:
        if self.document.get("asset", {}).get("version") != "2.0":
            raise self.fail("its version is not 2.0")
        triangles = vertices = sections = 0
        boxes: list[NDArray[Any]] = []
        meshes = self.document.get("meshes", [])
        counted = [self._mesh(mesh) for mesh in meshes]
        every = self._placed()
        for node, worlds, _ in every:
            if "mesh" in node:
                count, vertex_count, section_count, points = counted[node["mesh"]]
                triangles, vertices, sections = (
                    triangles + count * len(worlds),
                    vertices + vertex_count * len(worlds),
                    sections + section_count * len(worlds),
                )
                boxes.append(copies_bounds(points, worlds))
        everything = np.concatenate(boxes) if boxes else np.zeros((1, 3))
        return FileFacts(
            len(self.raw),
            ("left", "up", "forward"),
            len(every),
            tuple(path for _, _, path in every),
            len(meshes),
            sections,
            triangles,
            vertices,
            tuple(material.get("name", "") for material in self.document.get("materials", [])),
            len(self.document.get("images", [])),
            tuple(everything.min(axis=0).tolist()),
            tuple(everything.max(axis=0).tolist()),
        )

    def _split(self) -> tuple[dict[str, Any], bytes]:
        if self.path.suffix.lower() == ".gltf":
            document = self._checked(self.raw)
            uri = unquote(document["buffers"][0]["uri"])
            with readable(self.path.parent / uri):
                buffer = (self.path.parent / uri).read_bytes()
        else:
            if len(self.raw) < 20 or self.raw[:4] != b"glTF":
                raise self.fail("its header is missing")
            version, length, text_length = struct.unpack_from("<III", self.raw, 4)
            if version != 2 or length != len(self.raw) or self.raw[16:20] != b"JSON" or text_length % 4:
                raise self.fail("its header does not match the file")
            document = self._checked(self.raw[20 : 20 + text_length])
            at = 20 + text_length
            binary_length, kind = struct.unpack_from("<I4s", self.raw, at)
            if kind != b"BIN\0" or at + 8 + binary_length != length or binary_length % 4:
                raise self.fail("its binary chunk does not match the file")
            buffer = self.raw[at + 8 :]
        if document["buffers"][0]["byteLength"] > len(buffer):
            raise self.fail("its buffer is shorter than it says")
        return document, buffer

    def _accessor(self, number: int) -> NDArray[Any]:
        accessor = self.document["accessors"][number]
        view = self.document["bufferViews"][accessor["bufferView"]]
        dtype = np.dtype(_COMPONENTS[accessor["componentType"]])
        width = _WIDTHS[accessor["type"]]
        buffer, begin = self._bytes_of(view)
        start = begin + accessor.get("byteOffset", 0)
        row = width * dtype.itemsize
        stride = view.get("byteStride", row)
        size = (accessor["count"] - 1) * stride + row
        if start % dtype.itemsize or stride % dtype.itemsize:
            raise self.fail(f"accessor {number} is not aligned")
        if size > view["byteLength"] or start + size > len(buffer) or accessor["count"] < 1:
            raise self.fail(f"accessor {number} reaches beyond its data")
        values = np.ndarray((accessor["count"], width), dtype, buffer, start, (stride, dtype.itemsize))
        if accessor.get("normalized"):
            values = np.maximum(values / np.iinfo(dtype).max, -1.0)
        if dtype.kind == "f" and not np.isfinite(values).all():
            raise self.fail(f"accessor {number} holds numbers that are not finite")
        return values

    def _bytes_of(self, view: dict[str, Any]) -> tuple[Any, int]:
        """What a view is a part of, and where it begins there; one that is compressed is unpacked."""
        about = view.get("extensions", {}).get(PACKED_VIEW)
        if about is None:
            return self.buffer, view.get("byteOffset", 0)
        if view["byteLength"] != about["count"] * about["byteStride"]:
            raise self.fail("a compressed view is not as long as it says")
        packed = np.frombuffer(self.buffer, np.uint8)[about["byteOffset"] :][: about["byteLength"]]
        try:
            return unpacked_view(about, packed), 0
        except UnsoundError as error:
            raise self.fail(str(error)) from None

    def _mesh(self, mesh: dict[str, Any]) -> tuple[int, int, int, NDArray[Any]]:
        triangles = vertices = 0
        points = []
        for primitive in mesh["primitives"]:
            position = primitive["attributes"]["POSITION"]
            values = self._accessor(position).astype(float)
            stated = self.document["accessors"][position]
            if stated.get("min") != values.min(axis=0).tolist() or stated.get("max") != values.max(axis=0).tolist():
                raise self.fail(f"the bounds of accessor {position} are not those of its data")
            for name, number in primitive["attributes"].items():
                attribute = self._accessor(number)
                if len(attribute) != len(values):
                    raise self.fail(f"{name} has {len(attribute)} entries for {len(values)} vertices")
                # Rounded to 8 bits, a normal is off by half a step along each axis.
                slack = 0.0005 if attribute.dtype == np.float32 else 0.5 / 127 * 3**0.5
                if name == "NORMAL" and np.abs(np.linalg.norm(attribute, axis=1) - 1).max() > slack:
                    raise self.fail("a normal is not of length one")
            index = self._accessor(primitive["indices"])
            if len(index) % 3 or int(index.max()) >= len(values):
                raise self.fail("its indices point to vertices that are not there")
            triangles += len(index) // 3
            vertices += len(values)
            points.append(values)
        return triangles, vertices, len(mesh["primitives"]), np.concatenate(points)

    def base_color(self, primitive: dict[str, Any]) -> NDArray[Any]:
        """The base colour of a section as an image."""
        material = self.document["materials"][primitive["material"]] if "material" in primitive else {}
        surface = material.get("pbrMetallicRoughness", {})
        factor = np.array(surface.get("baseColorFactor", (1, 1, 1, 1))) ** (1 / 2.2)
        if "baseColorTexture" not in surface or self.path.suffix.lower() != ".glb":
            return np.asarray(factor.reshape(1, 1, 4))
        texture = self.document["textures"][surface["baseColorTexture"]["index"]]
        view = self.document["bufferViews"][self.document["images"][texture["source"]]["bufferView"]]
        data = self.buffer[view["byteOffset"] : view["byteOffset"] + view["byteLength"]]
        from PIL import Image

        with Image.open(io.BytesIO(data), formats=("PNG", "JPEG", "WEBP")) as image:
            return np.asarray(np.asarray(image.convert("RGBA")) / 255 * factor)

    def _placed(self) -> list[tuple[dict[str, Any], NDArray[Any], tuple[str, ...]]]:
        """Every node of the scene with its world transforms (N, 4, 4) and the names down to it, in tree order."""
        nodes = self.document.get("nodes", [])
        scene = self.document["scenes"][self.document.get("scene", 0)]
        stack: list[tuple[int, NDArray[Any], tuple[str, ...]]] = [(n, np.eye(4), ()) for n in scene["nodes"][::-1]]
        placed = []
        while stack:
            number, above, names = stack.pop()
            node = nodes[number]
            world, path = above @ _local(node), (*names, node.get("name", ""))
            placed.append((node, world, path))
            stack.extend((child, world, path) for child in node.get("children", [])[::-1])
            if len(placed) > len(nodes):
                raise self.fail("its node tree is not a tree")
        return [(node, world @ self._copies(node), path) for node, world, path in placed]

    def _copies(self, node: dict[str, Any]) -> NDArray[Any]:
        """(N, 4, 4) where a node shows its mesh, in its own space: once, or where it scatters it."""
        about = node.get("extensions", {}).get("EXT_mesh_gpu_instancing")
        if about is None:
            return np.eye(4)[None]
        given = {key: number for key, number in about["attributes"].items() if not key.startswith("_")}
        columns = {key.lower(): self._accessor(number).astype(float) for key, number in given.items()}
        if not columns:
            raise self.fail("a scatter has no places")
        if len({len(values) for values in columns.values()}) > 1:
            raise self.fail("a scatter has not as many rotations or scales as places")
        return _locals(columns, len(next(iter(columns.values()))))


def _local(node: dict[str, Any]) -> NDArray[Any]:
    if "matrix" in node:
        return np.array(node["matrix"]).reshape(4, 4).T
    given: dict[str, NDArray[Any]] = {
        key: np.array([node[key]], float) for key in ("rotation", "scale", "translation") if key in node
    }
    return np.asarray(_locals(given, 1)[0])


def _locals(columns: dict[str, NDArray[Any]], count: int) -> NDArray[Any]:
    """(N, 4, 4) matrices of rotations (x, y, z, w), scales and translations."""
    matrices = np.tile(np.eye(4), (count, 1, 1))
    if "rotation" in columns:
        x, y, z, w = columns["rotation"].T
        rows = [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
        matrices[:, :3, :3] = np.array(rows).transpose(2, 0, 1)
    if "scale" in columns:
        matrices[:, :3, :3] *= columns["scale"][:, None, :]
    if "translation" in columns:
        matrices[:, :3, 3] = columns["translation"]
    return matrices
