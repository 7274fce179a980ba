"""A scene to glTF 2.0 (Khronos, "glTF 2.0 specification", 2021), as .glb or as .gltf with files beside it."""

from __future__ import annotations

import json
import math
import struct
from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any
from urllib.parse import quote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import nothing_to_write, shows_nothing
from zesty_otter.formats.files import Buffer, Encoded
from zesty_otter.formats.gltf.compressed import PACKED_VIEW, packed_corners, packed_rows
from zesty_otter.formats.gltf.extras import UV_NAMES
from zesty_otter.formats.gltf.materials import MaterialTable
from zesty_otter.geometry.surface.aim import aim
from zesty_otter.geometry.surface.corners import extent, join_points, split_vertices, take_rows
from zesty_otter.geometry.surface.normals import unit_rows
from zesty_otter.geometry.surface.placing import sheared, taken_apart
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import (
    ROLES,
    Camera,
    Frame,
    Light,
    Mesh,
    Node,
    Note,
    Scatter,
    Scene,
    count_of,
    expanded,
    format_length,
    reframed,
    shortened,
    transformed,
    turned_content,
)
from zesty_otter.shading import with_all_normals, with_normals

FRAME = Frame("left up forward", "m")
"""The only space a glTF file can be in (specification, section 3.4)."""

_COMPONENTS = {"i1": 5120, "u2": 5123, "u4": 5125, "f4": 5126}
_VERTICES, _INDICES = 34962, 34963
_TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}


def encode(scene: Scene, name: str, *, quantized: bool = False, compressed: bool = False) -> Encoded:
    """The files of a scene: one when ``name`` ends in .glb, else a .gltf, its .bin and its textures.

    ``quantized`` stores positions in 16 bits, normals and tangents in 8, and UVs between 0 and 1 in 16
    (extension KHR_mesh_quantization). ``compressed`` packs attributes and indices (EXT_meshopt_compression).
    """
    if shows_nothing(scene):
        raise nothing_to_write(scene)
    scene, baked = _without_shear(reframed(scene, FRAME))
    # Copies are made of a translation, a rotation and a scale as well.
    scene, apart = expanded(scene, lambda scatter: bool(sheared(scatter.transforms).any()))
    if apart:
        scene, more = _without_shear(scene)
        baked += more
    writer = _Writer(scene, name, quantized, compressed)
    if baked:
        text = f"shear, which glTF nodes cannot have, was baked into the meshes of {shortened(baked)}"
        writer.notes.append(Note("done", text, "gltf"))
    return writer.encoded()


def _without_shear(scene: Scene) -> tuple[Scene, list[str]]:
    """The scene with the transforms of sheared nodes moved into their meshes and children, and their names.

    A glTF matrix must be made of a translation, a rotation and a scale (specification, section 3.5.2).
    """
    names: list[str] = []
    meshes: dict[tuple[int, bytes], Mesh] = {}

    def straight(node: Node, above: NDArray[np.float64]) -> tuple[Node, NDArray[np.float64]]:
        """The node, given what its parent passed on, and what it passes on to its children."""
        transform = above @ node.transform
        linear = transform[:3, :3]
        gram = linear.T @ linear
        if np.abs(gram - np.diag(np.diag(gram))).max() <= 1e-9 * max(float(np.abs(gram).max()), 1e-300):
            return (node if above is _UNIT else replace(node, transform=transform)), _UNIT
        names.append(node.name)
        place, passed = np.eye(4), np.eye(4)
        place[:3, 3], passed[:3, :3] = transform[:3, 3], linear
        content = turned_content(node.content, linear)
        if isinstance(content, Mesh):
            key = (id(content), linear.tobytes())
            content = meshes.setdefault(key, transformed(content, linear))
        return replace(node, transform=place, content=content), passed

    order: list[Node] = []
    passed_on: dict[int, NDArray[np.float64]] = {-1: _UNIT}
    for placed in scene.walk():
        node, passed_on[placed.number] = straight(placed.node, passed_on[placed.parent])
        order.append(node)
    if not names:
        return scene, []
    return scene.rebuilt(lambda n, node: replace(order[n], children=node.children)), names


_UNIT = np.eye(4)


class _Writer:
    def __init__(self, scene: Scene, name: str, quantized: bool, compressed: bool) -> None:
        self.scene, self.name, self.quantized, self.compressed = scene, name, quantized, compressed
        self.spread: dict[int, NDArray[np.float64]] = {}
        self.stem = name.rsplit(".", 1)[0]
        self.binary = name.lower().endswith(".glb")
        self.chunks: list[Buffer] = []
        self.length = 0
        self.unpacked = 0  # bytes of what is compressed, once it is unpacked
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.files: dict[str, list[Buffer]] = {}
        self.notes: list[Note] = []
        self.made_flat: list[str] = []
        lit = {id(one.node.drawn) for one in scene.walk() if ROLES[one.node.role].has_look}
        self.unlit = {id(mesh) for mesh in scene.meshes} - lit
        self.lights: list[dict[str, Any]] = []
        self.cameras: list[dict[str, Any]] = []
        self.table = MaterialTable(self._add_image)
        self.required: set[str] = set()

    def _storable(self, properties: Mapping[str, Any], owner: str) -> dict[str, Any]:
        """Properties without numbers that JSON has none for."""
        lost = [key for key, value in properties.items() if not _is_finite(value)]
        if lost:
            text = f"properties of {owner} that are not finite numbers are left out: {shortened(lost)}"
            self.notes.append(Note("lost", text, "gltf"))
        return {key: value for key, value in properties.items() if key not in lost}

    def encoded(self) -> Encoded:
        meshes = [mesh for mesh in self.scene.meshes if mesh.face_count]
        number = {id(mesh): n for n, mesh in enumerate(meshes)}
        mesh_json = [self._mesh(mesh) for mesh in meshes]
        if self.made_flat:
            text = "neither normals nor smoothing groups, so hard edges everywhere: " + ", ".join(self.made_flat)
            self.notes.append(Note("assumed", text, "gltf"))
        if self.quantized:
            coarsest = max(float(one[0, 0]) for one in self.spread.values()) / 2
            text = f"positions rounded to 16 bits, which moves them by up to {format_length(coarsest)}"
            self.notes.append(Note("done", text, "gltf"))
        if self.unpacked:
            self.table.extensions.add(PACKED_VIEW)
            self.required.add(PACKED_VIEW)
            packed = sum(view["extensions"][PACKED_VIEW]["byteLength"] for view in self.views if "extensions" in view)
            text = f"geometry packed into {packed / self.unpacked:.0%} of its bytes; readers must know {PACKED_VIEW}"
            self.notes.append(Note("done", text, "gltf"))
        nodes: list[dict[str, Any]] = []
        matrices = [one.node.transform for one in self.scene.walk()]
        self.moves = iter(_transforms(np.array(matrices).reshape(-1, 4, 4)))
        roots = [self._node(root, nodes, number) for root in self.scene.roots]
        if "KHR_node_visibility" in self.table.extensions:
            hidden = [one.node.name for one in self.scene.walk() if not one.node.visible]
            text = f"{count_of(len(hidden), 'hidden node')} marked by KHR_node_visibility; readers without it show them"
            self.notes.append(Note("finding", f"{text}: {shortened(hidden)}", "gltf"))
        document: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": "Zesty Otter"},
            "scene": 0,
            "scenes": [{"name": self.scene.name or self.stem, "nodes": roots}],
            "nodes": nodes,
            "meshes": mesh_json,
            "materials": self.table.materials,
            "textures": self.table.textures,
            "images": self.table.images,
            "samplers": self.table.samplers,
            "accessors": self.accessors,
            "bufferViews": self.views,
            "buffers": [{"byteLength": self.length}],
            "cameras": self.cameras,
            "extensionsUsed": sorted(self.table.extensions),
            "extensionsRequired": sorted(self.required | self.table.required),
        }
        if self.scene.properties:
            document["scenes"][0]["extras"] = self._storable(self.scene.properties, "the scene")
        if self.lights:
            document["extensions"] = {"KHR_lights_punctual": {"lights": self.lights}}
        if self.unpacked:
            document["buffers"].append({"byteLength": self.unpacked, "extensions": {PACKED_VIEW: {"fallback": True}}})
        if not self.binary:
            document["buffers"][0]["uri"] = quote(f"{self.stem}.bin")
        document = {key: value for key, value in document.items() if value != []}
        encoded = json.dumps(document, ensure_ascii=False, separators=(",", ":"), allow_nan=False).encode()
        if self.binary:
            self.files[self.name] = list(_glb_chunks(encoded, self.chunks, self.length))
        else:
            self.files[f"{self.stem}.bin"] = self.chunks
            self.files[self.name] = [encoded]
        return Encoded({**self.files}, [*self.notes, *self.table.notes])

    def _node(self, root: Node, nodes: list[dict[str, Any]], number: dict[int, int]) -> int:
        first = len(nodes)
        stack: list[tuple[Node, list[int] | None]] = [(root, None)]
        while stack:
            node, siblings = stack.pop()
            if siblings is not None:
                siblings.append(len(nodes))
            out: dict[str, Any] = {"name": node.name, **next(self.moves)}
            nodes.append(out)
            place = out
            if node.drawn is not None and id(node.drawn) in number:
                shown, spread = out, self.spread.get(id(node.drawn), _UNIT)
                if isinstance(node.content, Scatter):
                    self._scatter(node.content, spread, out)
                elif spread is not _UNIT and node.children:
                    # What undoes the rounding must not move the children.
                    shown = {"name": f"{node.name}_quantized", **_transform(spread)}
                    out["children"] = [len(nodes)]
                    nodes.append(shown)
                elif spread is not _UNIT:
                    for key in ("translation", "rotation", "scale"):
                        out.pop(key, None)
                    out |= _transform(node.transform @ spread)
                shown["mesh"] = number[id(node.drawn)]
            elif node.drawn is not None:
                self.notes.append(Note("lost", "has no faces; written as an empty node", "gltf", node=node.name))
            elif node.content is not None:
                self._add_extra(node, out, nodes)
            if not node.visible:
                out.setdefault("extensions", {})["KHR_node_visibility"] = {"visible": False}
                self.table.extensions.add("KHR_node_visibility")
            if node.properties:
                out["extras"] = self._storable(node.properties, f"node '{node.name}'")
            if node.children:
                children = place.setdefault("children", [])
                stack.extend((child, children) for child in reversed(node.children))
        return first

    def _scatter(self, scatter: Scatter, spread: NDArray[np.float64], out: dict[str, Any]) -> None:
        """The places of the copies of a mesh (extension EXT_mesh_gpu_instancing)."""
        if not scatter.count:
            self.notes.append(Note("lost", "scatters no copy; written as an empty node", "gltf", node=out["name"]))
            return
        spread_out = scatter.transforms if spread is _UNIT else scatter.transforms @ spread
        columns = zip(("TRANSLATION", "ROTATION", "SCALE"), taken_apart(spread_out), strict=True)
        numbers = {key: self._add_accessor(values.astype(np.float32), None, False) for key, values in columns}
        for key, values in scatter.properties.items():
            stored = values.astype(np.float32)
            if values.dtype.kind == "i" and not np.array_equal(stored.astype(np.int64), values):
                text = f"whole numbers of '{key}' beyond {1 << 24:,} are rounded: glTF holds them as 32-bit floats"
                self.notes.append(Note("lost", text, "gltf", node=out["name"]))
            numbers[f"_{key}"] = self._add_accessor(stored, None, False)
        out["extensions"] = {"EXT_mesh_gpu_instancing": {"attributes": numbers}}
        # Whoever does not know it would show one copy in the wrong place.
        self.table.extensions.add("EXT_mesh_gpu_instancing")
        self.required.add("EXT_mesh_gpu_instancing")

    def _add_extra(self, node: Node, out: dict[str, Any], nodes: list[dict[str, Any]]) -> None:
        """A light or camera; those that do not look along -Z, as glTF's do, get a node of their own."""
        content = node.content
        assert isinstance(content, Light | Camera)
        up = content.up if isinstance(content, Camera) else None
        everywhere = isinstance(content, Light) and content.kind == "point"
        turned = None if everywhere else aim(content.direction, up)
        if turned is not None:
            holder: dict[str, Any] = {"name": f"{node.name}_aim", **_transform(turned)}
            out.setdefault("children", []).append(len(nodes))
            nodes.append(holder)
            out = holder
        if isinstance(content, Camera):
            out["camera"] = len(self.cameras)
            self.cameras.append(_camera_json(content))
        else:
            out["extensions"] = {"KHR_lights_punctual": {"light": len(self.lights)}}
            self.lights.append(_light_json(content))
            self.table.extensions.add("KHR_lights_punctual")

    def _mesh(self, mesh: Mesh) -> dict[str, Any]:
        source, mesh = mesh, self._with_normals(mesh)
        triangles, face = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
        slot = np.zeros(len(face), np.int32) if mesh.face_slot is None else mesh.face_slot[face]
        if len(mesh.slots) > 1 and (np.diff(slot) < 0).any():
            order = np.argsort(slot, kind="stable")
            triangles, slot = triangles[order], slot[order]
        # Points of one position count as one: sources that were split at seams are joined where none is left.
        joined = mesh.surface(join_points)
        alone = np.array_equal(joined, np.arange(len(joined)))
        place = mesh.corner_point if alone else joined[mesh.corner_point]
        vertex, corner = split_vertices(triangles, slot, place, [(one.values, one.index) for one in mesh.layers])
        attributes: dict[str, NDArray[Any]] = dict(self._attributes(mesh, corner))
        if self.quantized:
            attributes, self.spread[id(source)] = rounded(attributes)
            self.table.extensions.add("KHR_mesh_quantization")
            self.required.add("KHR_mesh_quantization")
        first = np.searchsorted(slot, np.arange(len(mesh.slots) + 1, dtype=slot.dtype))
        primitives = []
        done = 0
        for n, material in enumerate(mesh.slots):
            index = vertex[first[n] : first[n + 1]]
            if not len(index):
                continue
            stop = int(index.max()) + 1
            primitive: dict[str, Any] = {
                "attributes": {
                    key: self._add_accessor(
                        values[done:stop],
                        _VERTICES,
                        key == "POSITION",
                        normalized=key != "POSITION" and values.dtype != np.float32,
                    )
                    for key, values in attributes.items()
                },
                "indices": self._add_indices(index.ravel() - done if done else index.ravel(), stop - done),
            }
            if material is not None:
                primitive["material"] = self.table.number(material)
            primitives.append(primitive)
            done = stop
        about: dict[str, Any] = {"name": mesh.name, "primitives": primitives}
        names = [layer.name for layer in source.uv_sets]
        extras = {**self._storable(mesh.properties, f"mesh '{mesh.name}'"), **({UV_NAMES: names} if any(names) else {})}
        return {**about, "extras": extras} if extras else about

    def _with_normals(self, mesh: Mesh) -> Mesh:
        """The mesh with a unit normal at every corner: its own, or those its smoothing groups ask for."""
        if mesh.normals is None and mesh.face_smoothing is None:
            if id(mesh) in self.unlit:
                return mesh  # nobody sees it
            self.made_flat.append(mesh.name)
        if mesh.normals is not None:
            mesh = with_normals(mesh, unit_rows(mesh.normals.values), mesh.normals.index)
        return with_all_normals(mesh)

    def _attributes(self, mesh: Mesh, corner: NDArray[np.int32]) -> dict[str, NDArray[np.float32]]:
        out = {"POSITION": take_rows(mesh.points, mesh.corner_point, corner)}
        counts: dict[str, int] = {}
        for layer in mesh.layers:
            number = counts[layer.kind] = counts.get(layer.kind, -1) + 1
            values = take_rows(layer.values, layer.index, corner, 1.0 if layer.kind == "color" else 0.0)
            if layer.kind == "uv":
                # Ours start at the lower left corner of the image, glTF's at the upper left.
                values[:, 1] = 1.0 - values[:, 1]
                out[f"TEXCOORD_{number}"] = values
            elif layer.kind == "color":
                out[f"COLOR_{number}"] = values
            elif number == 0:
                out["NORMAL" if layer.kind == "normal" else "TANGENT"] = values
        return out

    def _add_indices(self, index: NDArray[np.int32], vertex_count: int) -> int:
        # The highest 16-bit value is reserved (specification, section 3.7.2.1).
        narrow = vertex_count <= 65535
        return self._add_accessor(index.astype(np.uint16) if narrow else index.view(np.uint32), _INDICES, False)

    def _add_accessor(self, values: NDArray[Any], target: int | None, bounds: bool, normalized: bool = False) -> int:
        width = 1 if values.ndim == 1 else values.shape[1]
        accessor: dict[str, Any] = {
            "bufferView": self._add_rows(values, target),
            "componentType": _COMPONENTS[values.dtype.str[1:]],
            "count": len(values),
            "type": _TYPES[width],
        }
        if normalized:
            accessor["normalized"] = True
        if bounds:
            accessor["min"], accessor["max"] = extent(values).tolist()
        self.accessors.append(accessor)
        return len(self.accessors) - 1

    def _add_rows(self, values: NDArray[Any], target: int | None) -> int:
        """The view of a table; every row of an attribute begins at a multiple of four bytes (section 3.6.2.4)."""
        missing = -(values.itemsize * values.shape[1]) % 4 // values.itemsize if target == _VERTICES else 0
        if missing:
            values = np.ascontiguousarray(np.pad(values, ((0, 0), (0, missing))))
        packed = self.compressed and target is not None
        number = self._add_packed(values, target) if packed else self._add_view(values, values.nbytes, target)
        if missing:
            self.views[number]["byteStride"] = values.itemsize * values.shape[1]
        return number

    def _add_view(self, data: Buffer, size: int, target: int | None = None) -> int:
        view = {"buffer": 0, "byteOffset": self._append(data, size), "byteLength": size}
        self.views.append(view if target is None else {**view, "target": target})
        return len(self.views) - 1

    def _add_packed(self, values: NDArray[Any], target: int | None) -> int:
        """The view of a table that is compressed, in a buffer that is there only once it is unpacked."""
        data = packed_corners(values) if target == _INDICES else packed_rows(values)
        about = {
            "buffer": 0,
            "byteOffset": self._append(data, len(data)),
            "byteLength": len(data),
            "byteStride": values.nbytes // len(values),
            "count": len(values),
            "mode": "TRIANGLES" if target == _INDICES else "ATTRIBUTES",
        }
        view = {"buffer": 1, "byteOffset": self.unpacked, "byteLength": values.nbytes, "target": target}
        self.views.append({**view, "extensions": {PACKED_VIEW: about}})
        self.unpacked += values.nbytes + -values.nbytes % 4
        return len(self.views) - 1

    def _append(self, data: Buffer, size: int) -> int:
        """Where some bytes begin in the buffer, which goes on at a multiple of four."""
        begin = self.length
        self.chunks.append(data)
        self.length += size
        if self.length % 4:
            self.chunks.append(bytes(-self.length % 4))
            self.length += -self.length % 4
        return begin

    def _add_image(self, name: str, data: bytes, mime: str) -> dict[str, Any]:
        if self.binary:
            return {
                "name": name.rsplit(".", 1)[0],
                "mimeType": mime,
                "bufferView": self._add_view(data, len(data)),
            }
        folder = f"{self.stem}_textures"
        stem, ending = name.rsplit(".", 1)
        path = f"{folder}/{name}"
        taken = {one.lower() for one in self.files}
        count = 2
        while path.lower() in taken:
            path = f"{folder}/{stem}_{count}.{ending}"
            count += 1
        self.files[path] = [data]
        return {"name": stem, "uri": quote(path)}


def rounded(attributes: dict[str, NDArray[Any]]) -> tuple[dict[str, NDArray[Any]], NDArray[np.float64]]:
    """Attributes as small whole numbers, and the (4, 4) transform that puts the positions back.

    It scales alike along all axes, so that normals stay what they are.
    """
    points = attributes["POSITION"].astype(np.float64)
    low, high = points.min(axis=0), points.max(axis=0)
    step = float((high - low).max()) / 65535 or 1.0
    spread = np.diag([step, step, step, 1.0])
    spread[:3, 3] = low
    out = {**attributes, "POSITION": np.rint((points - low) / step).astype(np.uint16)}
    for name, values in attributes.items():
        if name in ("NORMAL", "TANGENT"):
            out[name] = np.rint(values * 127.0).astype(np.int8)
        elif name.startswith("TEXCOORD") and values.min() >= 0 and values.max() <= 1:
            out[name] = np.rint(values * 65535.0).astype(np.uint16)
    return out, spread


def _transforms(matrices: NDArray[np.float64]) -> list[dict[str, Any]]:
    """Transforms of nodes (N, 4, 4) as JSON: what of translation, rotation and scale each has."""
    out: list[dict[str, Any]] = [{} for _ in matrices]
    moves = matrices[:, :3, 3]
    for n in np.flatnonzero(moves.any(axis=1)).tolist():
        out[n]["translation"] = moves[n].tolist()
    more = np.flatnonzero((matrices[:, :3, :3] != np.eye(3)).any(axis=(1, 2)))
    _, turned, scales = taken_apart(matrices[more])
    # So many digits, and of length one when rounded, that reading and writing again changes none.
    for _ in range(8):
        turned = np.round(turned / np.linalg.norm(turned, axis=1, keepdims=True), 12) + 0.0
    for n, turn, scale in zip(more.tolist(), turned.tolist(), scales.tolist(), strict=True):
        if any(turn[:3]):
            out[n]["rotation"] = turn
        rounded = [float(f"{one:.12g}") for one in scale]
        if rounded != [1.0, 1.0, 1.0]:
            out[n]["scale"] = rounded
    return out


def _transform(matrix: NDArray[np.float64]) -> dict[str, Any]:
    return _transforms(matrix[None])[0]


def _camera_json(camera: Camera) -> dict[str, Any]:
    if camera.perspective:
        lens = {"yfov": camera.height, "znear": camera.near, "zfar": camera.far, "aspectRatio": camera.aspect}
        lens = {key: value for key, value in lens.items() if value is not None}
        return {"name": camera.name, "type": "perspective", "perspective": lens}
    high = camera.height / 2
    lens = {
        "xmag": high * (camera.aspect or 1.0),
        "ymag": high,
        "znear": camera.near,
        "zfar": camera.far or camera.near + 1000.0,
    }
    return {"name": camera.name, "type": "orthographic", "orthographic": lens}


def _light_json(light: Light) -> dict[str, Any]:
    out: dict[str, Any] = {
        "name": light.name,
        "type": light.kind,
        "color": list(light.color),
        "intensity": light.intensity,
    }
    if light.reach is not None:
        out["range"] = light.reach
    if light.kind == "spot":
        out["spot"] = {"innerConeAngle": light.cone[0], "outerConeAngle": light.cone[1]}
    return out


def _glb_chunks(text: bytes, chunks: list[Buffer], length: int) -> Iterator[Buffer]:
    # Specification, section 4.4: header, JSON chunk padded with blanks, binary chunk.
    text += b" " * (-len(text) % 4)
    yield struct.pack("<4sII", b"glTF", 2, 12 + 8 + len(text) + 8 + length)
    yield struct.pack("<I4s", len(text), b"JSON")
    yield text
    yield struct.pack("<I4s", length, b"BIN\0")
    yield from chunks


def _is_finite(value: Any) -> bool:
    if isinstance(value, Mapping):
        return all(map(_is_finite, value.values()))
    if isinstance(value, list | tuple):
        return all(map(_is_finite, value))
    return not isinstance(value, float) or math.isfinite(value)
