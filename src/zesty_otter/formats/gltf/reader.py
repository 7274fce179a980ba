"""glTF 2.0 to a scene (Khronos, "glTF 2.0 specification", 2021), from .glb or .gltf."""

from __future__ import annotations

import base64
import binascii
import json
import math
import struct
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from zesty_otter import pixels
from zesty_otter.errors import InputError, UsageError
from zesty_otter.formats.bare import if_sound, sound_material, usable_rows
from zesty_otter.formats.files import find_beside, load, missing_texture
from zesty_otter.formats.gltf.compressed import (
    PACKED_MESH,
    PACKED_VIEW,
    unpacked_mesh,
    unpacked_view,
)
from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.formats.gltf.extras import UV_NAMES
from zesty_otter.formats.gltf.pose import posed
from zesty_otter.formats.gltf.shape import DOCUMENT, PARTS, TEXTURE_INFO
from zesty_otter.formats.skinning import Weights
from zesty_otter.geometry.surface.placing import composed
from zesty_otter.metal_rough import GLOSS
from zesty_otter.model import (
    ALPHA_MODES,
    Camera,
    Content,
    Frame,
    Layer,
    Light,
    Material,
    Mesh,
    Node,
    Note,
    Scatter,
    Scene,
    Texture,
    TextureUse,
    count_of,
    determinant,
    is_within,
    shortened,
)

_COMPONENTS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_TRIANGLES, _STRIP, _FAN = 4, 5, 6
_SHAPED = ("POSITION", "NORMAL", "TANGENT")  # what shape variants move
_ATTRIBUTE_TYPES: dict[str, tuple[str, ...]] = {
    "POSITION": ("VEC3",),
    "NORMAL": ("VEC3",),
    "TANGENT": ("VEC4",),
    "TEXCOORD": ("VEC2",),
    "COLOR": ("VEC3", "VEC4"),
    "JOINTS": ("VEC4",),
    "WEIGHTS": ("VEC4",),
}
_TAKEN_APART = frozenset({"KHR_materials_clearcoat", "KHR_materials_emissive_strength", "KHR_materials_unlit"})
_ENDINGS = {
    "image/png": ".png",
    "image/jpeg": ".jpg",
    "image/ktx2": ".ktx2",
    "image/webp": ".webp",
    "image/avif": ".avif",
}
_KNOWN_EXTENSIONS = frozenset(
    {
        PACKED_MESH,
        PACKED_VIEW,
        "EXT_mesh_gpu_instancing",
        "EXT_texture_avif",
        "EXT_texture_webp",
        "KHR_lights_punctual",
        "KHR_materials_clearcoat",
        "KHR_materials_emissive_strength",
        GLOSS,
        "KHR_materials_unlit",
        "KHR_mesh_quantization",
        "KHR_node_visibility",
        "KHR_texture_basisu",
        "KHR_texture_transform",
    }
)


def read(
    path: Path,
    *,
    progress: Callable[[float], None] | None = None,
    folders: Sequence[Path] = (),
    pose: str | None = None,
    scene: str | None = None,
) -> Scene:
    """Read one scene of a .glb or .gltf file with all it refers to, at rest or in a pose of an animation."""
    data = load(path)
    try:
        return _Reader(path, data, folders, progress, pose, scene).scene()
    except RecursionError:
        raise InputError("is nested too deeply.", file=path) from None
    except UnsoundError as error:
        raise InputError(f"is not sound glTF: {error}.", file=path, remedy="Export it again.") from None


class _Reader:
    def __init__(
        self,
        path: Path,
        data: NDArray[np.uint8],
        folders: Sequence[Path],
        progress: Callable[[float], None] | None,
        pose: str | None,
        wanted: str | None,
    ) -> None:
        self.path, self.folders, self.progress, self.pose, self.wanted = path, folders, progress, pose, wanted
        self.places: dict[int, dict[str, list[float]]] = {}
        self.notes: list[Note] = []
        self.read_files: list[Path] = []
        self.binary: NDArray[np.uint8] | None = None
        self.sound: set[tuple[str, int]] = set()
        self.document = self._document(data)
        self.buffers: dict[int, NDArray[np.uint8]] = {}
        self.textures: dict[int, Texture] = {}
        self.materials: dict[int, Material] = {}
        self.meshes: dict[tuple[int, int, tuple[float, ...]], Mesh] = {}
        self.unpacked: dict[int, tuple[NDArray[np.uint8], int]] = {}
        self.worlds: dict[int, NDArray[np.float64]] = {}
        self.own: dict[int, NDArray[np.float64]] = {}
        self.parents: dict[int, int] = {}

    def fail(self, problem: str, place: str = "") -> InputError:
        return InputError(problem, file=self.path, place=place or None)

    def note(self, kind: str, text: str, node: str = "") -> None:
        self.notes.append(Note(kind, text, "gltf", str(self.path), node=node))

    def scene(self) -> Scene:
        asset = self.document.get("asset", {})
        if str(asset.get("version", "")).split(".")[0] != "2":
            raise self.fail(f"is glTF {asset.get('version', 'of no version')}; only 2.0 can be read.")
        self._check_extensions()
        if self.pose is not None:
            self.places = posed(self._parts("animations"), self.pose, self._accessor)
        self.chosen = self._choose()
        roots = self._roots()
        nodes = self._nodes(roots)
        if self.document.get("animations"):
            many = count_of(len(self.document["animations"]), "animation")
            how = "at rest" if self.pose is None else f"in the pose {self.pose}"
            self.note("lost", f"{many} left out; everything stands {how}")
        if self.document.get("skins"):
            self.note("lost", "skins are left out; skinned meshes stand in the pose of their nodes")
        return Scene(
            nodes,
            Frame("left up forward", "m"),
            str(self.chosen.get("name") or self.path.stem),
            tuple(self.notes),
            self.path,
            tuple(self.read_files),
            properties=_properties(self.chosen),
        )

    # The file and its buffers

    def _document(self, data: NDArray[np.uint8]) -> dict[str, Any]:
        text = data.tobytes() if data[:4].tobytes() != b"glTF" else self._chunks(data)
        try:
            document = json.loads(text.decode("utf-8-sig"))
        except json.JSONDecodeError as error:
            raise UnsoundError(f"line {error.lineno}, column {error.colno}: {error.msg}") from None
        except ValueError as error:  # not UTF-8, or a number of thousands of digits
            raise UnsoundError(str(error)) from None
        if not isinstance(document, dict):
            raise self.fail("is JSON, but not glTF.")
        DOCUMENT(document, "")
        return document

    def _chunks(self, data: NDArray[np.uint8]) -> bytes:
        if len(data) < 20:
            raise self.fail("is cut off in its header.")
        version, length = struct.unpack_from("<II", data.data, 4)
        if version != 2:
            raise self.fail(f"is binary glTF {version}; only 2 can be read.")
        if length > len(data):
            raise self.fail(f"is cut off: {len(data):,} of {length:,} bytes are there.")
        at, text = 12, None
        while at + 8 <= len(data):
            size, kind = struct.unpack_from("<I4s", data.data, at)
            if at + 8 + size > len(data):
                raise self.fail("is cut off within a chunk.", f"byte {at}")
            chunk = data[at + 8 : at + 8 + size]
            if kind == b"JSON" and text is None:
                text = chunk.tobytes()
            elif kind == b"BIN\0" and self.binary is None:
                self.binary = chunk
            at += 8 + size + (-size % 4)
        if text is None:
            raise self.fail("has no JSON chunk.")
        return text

    def _check_extensions(self) -> None:
        def unknown(key: str) -> list[str]:
            # What materials say beyond the core is kept as it is, understood or not.
            names = map(str, self._list(key))
            return [name for name in names if name not in _KNOWN_EXTENSIONS and "_materials_" not in name]

        required, used = unknown("extensionsRequired"), unknown("extensionsUsed")
        if "KHR_materials_variants" in self._list("extensionsUsed"):
            self.note("lost", "variants of materials are left out; meshes have the materials they have by default")
        if required:
            raise self.fail(f"needs {', '.join(required)}, which cannot be read yet.")
        if used:
            self.note("lost", f"extensions not carried: {', '.join(map(str, used))}")

    def _list(self, key: str) -> list[Any]:
        found: list[Any] = self.document.get(key, [])
        return found

    def _part(self, key: str, number: int) -> dict[str, Any]:
        """An entry of one of the lists; looked at before it is used for the first time."""
        if key == "lights":
            there = self.document.get("extensions", {}).get("KHR_lights_punctual", {}).get("lights", [])
        else:
            there = self._list(key)
        if number >= len(there):
            raise UnsoundError(f"refers to {key}[{number}], but there are {len(there)}")
        if (key, number) not in self.sound:
            PARTS[key](there[number], f"{key}[{number}]")
            self.sound.add((key, number))
        found: dict[str, Any] = there[number]
        return found

    def _parts(self, key: str) -> list[dict[str, Any]]:
        return [self._part(key, number) for number in range(len(self._list(key)))]

    def _buffer(self, number: int) -> NDArray[np.uint8]:
        if number not in self.buffers:
            about = self._part("buffers", number)
            uri = about.get("uri")
            if uri is None:
                if self.binary is None:
                    raise self.fail("refers to a binary chunk that is not there.", f"buffer {number}")
                data = self.binary
            else:
                data = np.frombuffer(self._referenced(uri, f"buffer {number}"), np.uint8)
            if len(data) < about["byteLength"]:
                raise self.fail(
                    f"{about['byteLength']:,} bytes were promised, {len(data):,} are there.", f"buffer {number}"
                )
            self.buffers[number] = data
        return self.buffers[number]

    def _real_buffers(self) -> Iterator[int]:
        """The buffers that hold something: some only say where uncompressed data would be."""
        for number, one in enumerate(self._parts("buffers")):
            if not one.get("extensions", {}).get(PACKED_VIEW, {}).get("fallback"):
                yield number

    def _referenced(self, uri: str, place: str) -> bytes:
        if uri.startswith("data:"):
            return _data_uri(uri)[1]
        found = find_beside(self.path, unquote(uri), also_in=self.folders)
        if found.path is None:
            raise self.fail(f"'{uri}' was not found.", place)
        self.read_files.append(found.path)
        return load(found.path).tobytes()

    def _view(self, number: int) -> tuple[NDArray[np.uint8], int]:
        if number in self.unpacked:
            return self.unpacked[number]
        view = self._part("bufferViews", number)
        packed = view.get("extensions", {}).get(PACKED_VIEW)
        where = view if packed is None else packed
        buffer = self._buffer(where["buffer"])
        start, length = int(where.get("byteOffset", 0)), int(where["byteLength"])
        if start < 0 or length < 0 or start + length > len(buffer):
            raise self.fail("reaches beyond its buffer.", f"bufferView {number}")
        data = buffer[start : start + length]
        if packed is None:
            return data, int(view.get("byteStride", 0))
        self.unpacked[number] = unpacked_view(packed, data), int(packed["byteStride"])
        return self.unpacked[number]

    def _accessor(self, number: int, *types: str) -> NDArray[Any]:
        """The values of an accessor, (count, width); whole numbers that stand for shares become these.

        Of some types only, where any are said.
        """
        place = f"accessor {number}"
        about = self._part("accessors", number)
        dtype, width, count = np.dtype(_COMPONENTS[about["componentType"]]), _WIDTHS[about["type"]], int(about["count"])
        if types and about["type"] not in types:
            raise UnsoundError(f"accessors[{number}] is a {about['type']} where {' or '.join(types)} is needed")
        if "bufferView" in about:
            values = self._strided(about["bufferView"], int(about.get("byteOffset", 0)), count, width, dtype, place)
        else:
            if count * width > 4 * sum(len(self._buffer(n)) for n in self._real_buffers()) + 65536:
                raise self.fail(f"promises {count:,} values that are not in the file.", place)
            values = np.zeros((count, width), dtype)
        if "sparse" in about:
            values = self._sparse(values.copy(), about["sparse"], width, dtype, place)
        if about.get("normalized") and dtype.kind != "f":
            limit = np.iinfo(dtype).max
            values = np.maximum(values.astype(np.float32) / np.float32(limit), np.float32(-1.0))
        return values

    def _strided(
        self, view: int, offset: int, count: int, width: int, dtype: np.dtype[Any], place: str
    ) -> NDArray[Any]:
        data, stride = self._view(view)
        step = stride or width * dtype.itemsize
        end = offset + (count - 1) * step + width * dtype.itemsize if count else offset
        if offset < 0 or step < width * dtype.itemsize or end > len(data):
            raise self.fail("reaches beyond its data.", place)
        if count == 0:
            return np.zeros((0, width), dtype)
        return np.ndarray((count, width), dtype, data[offset:].data, strides=(step, dtype.itemsize))

    def _sparse(
        self, values: NDArray[Any], sparse: Mapping[str, Any], width: int, dtype: np.dtype[Any], place: str
    ) -> NDArray[Any]:
        count, where, what = int(sparse["count"]), sparse["indices"], sparse["values"]
        index_type = np.dtype(_COMPONENTS[where["componentType"]])
        index = self._strided(where["bufferView"], int(where.get("byteOffset", 0)), count, 1, index_type, place)
        if count and not 0 <= int(index.min()) <= int(index.max()) < len(values):
            raise self.fail("replaces values it does not have.", place)
        values[index[:, 0]] = self._strided(
            what["bufferView"], int(what.get("byteOffset", 0)), count, width, dtype, place
        )
        return values

    # The tree

    def _roots(self) -> list[int]:
        if not self._list("scenes") and self.wanted is None:
            children = {child for node in self._parts("nodes") for child in node.get("children", [])}
            return [n for n in range(len(self._list("nodes"))) if n not in children]
        return list(self.chosen.get("nodes", []))

    def _choose(self) -> dict[str, Any]:
        """What the file says of the scene that is read: the one asked for, or the default."""
        scenes = self._parts("scenes")
        names = [str(one.get("name") or number) for number, one in enumerate(scenes)]
        if self.wanted is None:
            which = self.document.get("scene", 0)
        elif self.wanted in names:
            which = names.index(self.wanted)
        elif self.wanted.isdecimal() and int(self.wanted) < len(scenes):
            which = int(self.wanted)
        else:
            there = f"There are {shortened(names, 12)}." if scenes else "It holds no scenes, only nodes: leave it out."
            raise UsageError(f"there is no scene '{self.wanted}'.", file=self.path, remedy=there)
        others = [name for number, name in enumerate(names) if number != which]
        if others:
            many = count_of(len(others), "further scene")
            self.note("lost", f"{many} left out: {shortened(others, 12)}; choose with --scene NAME")
        return self._part("scenes", which) if scenes else {}

    def _nodes(self, roots: list[int]) -> tuple[Node, ...]:
        order: list[int] = []
        stack = list(reversed(roots))
        seen: set[int] = set()
        while stack:
            number = stack.pop()
            about = self._part("nodes", number)
            if number in seen:
                raise self.fail("is below itself or has two parents: the nodes do not form a tree.", f"node {number}")
            seen.add(number)
            order.append(number)
            children = about.get("children", [])
            self.parents |= dict.fromkeys(children, number)
            stack.extend(reversed(children))
        # In the pose that was asked for.
        abouts = [{**self._part("nodes", number), **self.places.get(number, {})} for number in order]
        for number, own in zip(order, _transforms(abouts), strict=True):
            if not np.isfinite(own).all():
                raise self.fail("has a transform with numbers that are not finite.", f"node {number}")
            above = self.worlds.get(self.parents.get(number, -1))
            self.own[number], self.worlds[number] = own, own if above is None else above @ own
        made: dict[int, Node] = {}
        for done, number in enumerate(reversed(order)):
            made[number] = self._node(number, self._part("nodes", number), made)
            if self.progress is not None and done % 64 == 0:
                self.progress(done / len(order))
        return tuple(made[number] for number in roots)

    def _node(self, number: int, about: Mapping[str, Any], made: Mapping[int, Node]) -> Node:
        name = str(about.get("name") or f"node_{number}")
        transform = self.own[number]
        content: Content | None = None
        if "mesh" in about:
            content = self._mesh(about["mesh"], about.get("skin", -1), about.get("weights"))
            if "skin" in about:
                # Only its joints place a skinned mesh (specification, section 3.7.3.3).
                above = self.worlds.get(self.parents.get(number, -1), np.eye(4))
                transform = np.eye(4)
                if abs(determinant(above)) > 0:
                    transform = np.asarray(np.linalg.inv(above), np.float64)
                    transform[3] = (0.0, 0.0, 0.0, 1.0)
        elif "camera" in about:
            content = if_sound(lambda: self._camera(about["camera"]), self.note)
        elif "KHR_lights_punctual" in about.get("extensions", {}):
            content = if_sound(lambda: self._light(about["extensions"]["KHR_lights_punctual"]["light"]), self.note)
        children = tuple(made[child] for child in about.get("children", []))
        scatter = about.get("extensions", {}).get("EXT_mesh_gpu_instancing")
        if scatter is not None and isinstance(content, Mesh):
            content = self._scatter(name, content, scatter)
        shown = about.get("extensions", {}).get("KHR_node_visibility", {}).get("visible", True)
        return Node(
            name,
            transform,
            children,
            content,
            bool(shown),
            properties=_properties(about),
        )

    def _scatter(self, name: str, mesh: Mesh, about: Mapping[str, Any]) -> Scatter:
        """The copies of a mesh (extension EXT_mesh_gpu_instancing)."""
        columns = {}
        for key, kind in (("TRANSLATION", "VEC3"), ("ROTATION", "VEC4"), ("SCALE", "VEC3")):
            if key in about["attributes"]:
                columns[key] = self._accessor(about["attributes"][key], kind).astype(np.float64)
        count = min((len(values) for values in columns.values()), default=0)
        there = {key: values[:count] for key, values in columns.items()}
        transforms = composed(count, there.get("TRANSLATION"), there.get("ROTATION"), there.get("SCALE"))
        sound = np.isfinite(transforms).all(axis=(1, 2))
        if not sound.all():
            text = f"{count_of(int((~sound).sum()), 'copy')} with places that are not finite numbers left out"
            self.note("lost", text, name)
        own = self._copies_own(about["attributes"], len(transforms))
        extra = [key for key in about["attributes"] if key not in columns and key.removeprefix("_") not in own]
        if extra:
            self.note("lost", f"of its copies not carried: {shortened(map(str, extra), 6)}", name)
        return Scatter(mesh, transforms[sound], {key: values[sound] for key, values in own.items()})

    def _copies_own(self, attributes: Mapping[str, Any], count: int) -> dict[str, NDArray[Any]]:
        """What each copy has of its own, by name: attributes that begin with an underscore."""
        found = {}
        for key, number in attributes.items():
            kind = self._part("accessors", number).get("type")
            if not key.startswith("_") or kind not in ("SCALAR", "VEC2", "VEC3", "VEC4"):
                continue
            values = self._accessor(number, kind).astype(np.float64)
            whole = np.isfinite(values).all() and (values == np.round(values)).all()
            if len(values) == count and is_within(values):
                found[key[1:]] = values.astype(np.int64) if whole and kind == "SCALAR" else values
        return found

    def _joints(self, number: int) -> NDArray[np.float64]:
        """(J, 4, 4) what each joint of a skin does to the vertices that hang on it, in the pose of the nodes."""
        about = self._part("skins", number)
        joints = [self.worlds.get(joint, np.eye(4)) for joint in about["joints"]]
        bind = np.tile(np.eye(4), (len(joints), 1, 1))
        if "inverseBindMatrices" in about:
            values = self._accessor(about["inverseBindMatrices"], "MAT4").astype(np.float64)
            bind = values[: len(joints)].reshape(-1, 4, 4).transpose(0, 2, 1)
        return np.asarray(np.reshape(joints, (-1, 4, 4))[: len(bind)] @ bind)

    def _camera(self, number: int) -> Camera:
        about = self._part("cameras", number)
        name = str(about.get("name") or f"camera_{number}")
        if about["type"] not in about:
            raise UnsoundError(f"cameras[{number}] has no '{about['type']}'")
        lens = about[about["type"]]
        if about["type"] == "perspective":
            return Camera(name, True, lens["yfov"], lens.get("aspectRatio"), lens["znear"], lens.get("zfar"))
        aspect = lens["xmag"] / lens["ymag"] if lens["ymag"] else 0.0
        return Camera(name, False, 2 * lens["ymag"], aspect, lens["znear"], lens["zfar"])

    def _light(self, number: int) -> Light:
        about = self._part("lights", number)
        spot = about.get("spot", {})
        color = [float(value) for value in about.get("color", (1.0, 1.0, 1.0))]
        return Light(
            str(about.get("name") or f"light_{number}"),
            about["type"],
            (color[0], color[1], color[2]),
            float(about.get("intensity", 1.0)),
            about.get("range"),
            (float(spot.get("innerConeAngle", 0.0)), float(spot.get("outerConeAngle", np.pi / 4))),
        )

    # Meshes

    def _mesh(self, number: int, skin: int, weights: Sequence[float] | None) -> Mesh:
        about = self._part("meshes", number)
        # How much of each shape variant shows: what the node says goes before what the mesh says.
        shares = tuple(float(one) for one in (about.get("weights", ()) if weights is None else weights))
        key = number, skin, shares
        if key not in self.meshes:
            name = str(about.get("name") or f"mesh_{number}")
            joints = self._joints(skin) if skin >= 0 else None
            mesh = _assembled(name, list(self._primitives(about, name, joints, shares)))
            self.meshes[key] = _with_extras(mesh, _properties(about))
        return self.meshes[key]

    def _primitives(
        self, about: Mapping[str, Any], name: str, joints: NDArray[np.float64] | None, shares: Sequence[float]
    ) -> Iterator[_Primitive]:
        for number, primitive in enumerate(about["primitives"]):
            place = f"mesh {name}, primitive {number}"
            mode = primitive.get("mode", _TRIANGLES)
            if mode not in (_TRIANGLES, _STRIP, _FAN):
                self.note("lost", f"{place}: points and lines are not carried")
                continue
            packed = primitive.get("extensions", {}).get(PACKED_MESH)
            attributes: dict[str, NDArray[Any]] = {}
            index: NDArray[Any] | None = None
            if packed is not None:
                attributes, index = self._unpacked(primitive, packed)
            for key, one in primitive["attributes"].items():
                if key not in attributes:
                    attributes[key] = self._accessor(one, *_ATTRIBUTE_TYPES.get(key.partition("_")[0], ()))
            if "POSITION" not in attributes:
                self.note("lost", f"{place}: has no positions")
                continue
            count = len(attributes["POSITION"])
            if any(len(values) != count for values in attributes.values()):
                raise self.fail("its attributes differ in number.", place)
            if "targets" in primitive:
                variants = [
                    {key: self._accessor(one, "VEC3") for key, one in target.items() if key in _SHAPED}
                    for target in primitive["targets"]
                ]
                _shape_by(attributes, variants, shares)
                shown = "as their weights have them" if any(shares) else "as the base shape"
                self.note("lost", f"shape variants (morph targets) are left out; meshes stand {shown}")
            if joints is not None and {"JOINTS_0", "WEIGHTS_0"} <= attributes.keys():
                _pose(attributes, joints)
            if index is None and "indices" in primitive:
                index = self._accessor(primitive["indices"], "SCALAR")[:, 0]
                if index.dtype.kind != "u":
                    raise self.fail("has indices that are not whole numbers of 0 or more.", place)
            elif index is None:
                index = np.arange(count)
            if len(index) and int(index.max()) >= count:
                raise self.fail(f"uses vertex {int(index.max())}, but has only {count}.", place)
            # Found to be small enough above, so that the bits may stay as they are.
            narrow = index.view(np.int32) if index.dtype == np.uint32 and count < 2**31 else index.astype(np.int32)
            # Compressed triangles are listed, whatever a document says of those beside them.
            corners = _triangles(narrow, mode if packed is None else _TRIANGLES)
            sound = usable_rows(attributes["POSITION"])
            if not sound.all():
                bad = ~sound[corners].all(axis=1)
                self.note("lost", f"{place}: {count_of(int(bad.sum()), 'triangle')} without finite positions skipped")
                corners = corners[~bad]
                attributes["POSITION"] = np.where(sound[:, None], attributes["POSITION"], 0)
            material = self._material(primitive["material"]) if "material" in primitive else None
            yield _Primitive(attributes, corners, material)

    def _unpacked(
        self, primitive: Mapping[str, Any], packed: Mapping[str, Any]
    ) -> tuple[dict[str, NDArray[Any]], NDArray[np.uint32]]:
        """The attributes of a compressed primitive, and its indices."""
        data, _ = self._view(packed["bufferView"])
        found, index = unpacked_mesh(data, packed["attributes"])
        for key, values in found.items():
            types = _ATTRIBUTE_TYPES.get(key.partition("_")[0], ())
            if types and values.shape[1] not in [_WIDTHS[one] for one in types]:
                raise UnsoundError(f"a compressed mesh has {key} of {values.shape[1]} numbers each")
            about = self._part("accessors", primitive["attributes"][key]) if key in primitive["attributes"] else {}
            stored = np.dtype(_COMPONENTS[about.get("componentType", 5126)])
            if about.get("normalized") and values.dtype.kind in "iu" and stored.kind in "iu":
                limit = np.float32(np.iinfo(stored).max)
                found[key] = np.maximum(values.astype(np.float32) / limit, np.float32(-1.0))
        return found, index

    # Materials

    def _material(self, number: int) -> Material:
        if number in self.materials:
            return self.materials[number]
        about = self._part("materials", number)
        surface, extensions = about.get("pbrMetallicRoughness", {}), about.get("extensions", {})
        uses = {
            "base_color": self._use(surface.get("baseColorTexture")),
            "metallic": self._use(surface.get("metallicRoughnessTexture"), "b"),
            "roughness": self._use(surface.get("metallicRoughnessTexture"), "g"),
            "normal": self._use(about.get("normalTexture"), strength="scale"),
            "occlusion": self._use(about.get("occlusionTexture"), "r", strength="strength"),
            "emissive": self._use(about.get("emissiveTexture")),
        }
        strength = float(extensions.get("KHR_materials_emissive_strength", {}).get("emissiveStrength", 1.0))
        emissive = [strength * float(value) for value in about.get("emissiveFactor", (0, 0, 0))]
        color = [float(value) for value in surface.get("baseColorFactor", (1, 1, 1, 1))]
        coat = extensions.get("KHR_materials_clearcoat", {})
        shading: dict[str, Any] = {}
        if coat.get("clearcoatFactor"):
            shading = {
                "clearcoat": coat["clearcoatFactor"],
                "clearcoat_roughness": coat.get("clearcoatRoughnessFactor", 0),
            }
        if "KHR_materials_unlit" in extensions:
            shading["unlit"] = True
        gloss = extensions.get(GLOSS)
        metallic, rough = float(surface.get("metallicFactor", 1.0)), float(surface.get("roughnessFactor", 1.0))
        if gloss is not None and not surface:
            # The older model is all that the file says; its own maps are kept with the extension.
            shading["specular"] = tuple(float(one) for one in gloss.get("specularFactor", (1, 1, 1)))[:3]
            shading["glossiness"] = float(gloss.get("glossinessFactor", 1.0))
            uses["base_color"] = self._use(gloss.get("diffuseTexture"))
            color = [float(value) for value in gloss.get("diffuseFactor", (1, 1, 1, 1))]
            metallic, rough = 0.0, 1.0 - shading["glossiness"]
        kept = {name: self._kept(content) for name, content in extensions.items() if name not in _TAKEN_APART}
        if any(key.endswith("Texture") for key in coat):
            kept["KHR_materials_clearcoat"] = self._kept(coat)
        if kept:
            shading["extensions"] = kept
        mode = str(about.get("alphaMode", "OPAQUE")).lower()
        self.materials[number] = sound_material(
            str(about.get("name") or f"material_{number}"),
            base_color=(color[0], color[1], color[2], color[3]),
            metallic=metallic,
            roughness=rough,
            emissive=(emissive[0], emissive[1], emissive[2]),
            alpha_mode=mode if mode in ALPHA_MODES else "opaque",
            alpha_cutoff=float(about.get("alphaCutoff", 0.5)),
            two_sided=bool(about.get("doubleSided", False)),
            shading=shading,
        ).with_textures({role: use for role, use in uses.items() if use is not None})
        return self.materials[number]

    def _kept(self, content: Any) -> Any:
        """What an extension says, with the textures it refers to."""
        if isinstance(content, list):
            return [self._kept(one) for one in content]
        if not isinstance(content, dict):
            return content
        kept: dict[str, Any] = {}
        for key, value in content.items():
            if key.endswith("Texture") and isinstance(value, dict) and "index" in value:
                TEXTURE_INFO(value, key)
                use = self._use(value)
                kept |= {key: use} if use is not None else {}
            else:
                kept[key] = self._kept(value)
        return kept

    def _use(
        self, info: Mapping[str, Any] | None, channel: str | None = None, *, strength: str = ""
    ) -> TextureUse | None:
        if info is None:
            return None
        texture = self._part("textures", info["index"])
        more = texture.get("extensions", {})
        source = more.get("EXT_texture_webp", texture).get("source", texture.get("source"))
        avif = more.get("EXT_texture_avif", {}).get("source")
        if avif is not None and (source is None or pixels.opens("AVIF")):
            source = avif
        if source is None:
            source = more.get("KHR_texture_basisu", {}).get("source")
        if source is None:
            self.note("lost", "a texture has no image that can be read")
            return None
        place = info.get("extensions", {}).get("KHR_texture_transform", {})
        offset, scale = place.get("offset", (0.0, 0.0)), place.get("scale", (1.0, 1.0))
        turned = float(place.get("rotation", 0.0))
        sampler = self._part("samplers", texture["sampler"]) if "sampler" in texture else {}
        return TextureUse(
            self._image(source),
            int(place.get("texCoord", info.get("texCoord", 0))),
            channel,
            # glTF's UVs start at the upper left corner, ours at the lower left; both turn to the left.
            (
                float(offset[0]) + math.sin(turned) * float(scale[1]),
                1.0 - math.cos(turned) * float(scale[1]) - float(offset[1]),
            ),
            (float(scale[0]), float(scale[1])),
            turned,
            sampler.get("wrapS") == 33071,
            float(info.get(strength, 1.0)) if strength else 1.0,
        )

    def _image(self, number: int) -> Texture:
        if number not in self.textures:
            about = self._part("images", number)
            self.textures[number] = self._texture(number, about)
        return self.textures[number]

    def _texture(self, number: int, about: Mapping[str, Any]) -> Texture:
        ending = _ENDINGS.get(about.get("mimeType", ""), "")
        name = str(about.get("name") or f"image_{number}")
        if "bufferView" in about:
            data, _ = self._view(about["bufferView"])
            return Texture(name if name.endswith(ending) else name + ending, data=data.tobytes())
        if "uri" not in about:
            raise UnsoundError(f"images[{number}] has neither 'uri' nor 'bufferView'")
        uri = about["uri"]
        if uri.startswith("data:"):
            mime, content = _data_uri(uri)
            ending = _ENDINGS.get(mime, ending)
            return Texture(name if name.endswith(ending) else name + ending, data=content)
        wanted = unquote(uri)
        found = find_beside(self.path, wanted, also_in=self.folders)
        if found.remark:
            self.note("assumed", found.remark)
        if found.path is None:
            self.note("lost", missing_texture(wanted, found))
        return Texture(wanted.replace("\\", "/").rsplit("/", 1)[-1], found.path, None, wanted, found.looked_in)


def _shape_by(
    attributes: dict[str, NDArray[Any]], variants: Sequence[Mapping[str, NDArray[Any]]], shares: Sequence[float]
) -> None:
    """Moves the vertices of a primitive towards its shape variants (specification, section 3.7.2.2)."""
    for share, variant in zip(shares, variants, strict=False):
        for key in _SHAPED if share else ():
            if key in variant and key in attributes and len(variant[key]) == len(attributes[key]):
                attributes[key] = attributes[key].astype(np.float64)
                attributes[key][:, :3] += share * variant[key][:, :3]
    for key in {"NORMAL", "TANGENT"} & attributes.keys() if any(shares) else ():
        length = np.linalg.norm(attributes[key][:, :3].astype(np.float64), axis=1, keepdims=True)
        attributes[key] = attributes[key].astype(np.float64)
        attributes[key][:, :3] /= np.where(length > 0, length, 1.0)


def _pose(attributes: dict[str, NDArray[Any]], joints: NDArray[np.float64]) -> None:
    """Moves the vertices of a skinned primitive to where its joints hold them (specification, section 3.7.3)."""
    sets = [key[7:] for key in attributes if key.startswith("JOINTS_") and f"WEIGHTS_{key[7:]}" in attributes]
    which = np.concatenate([attributes[f"JOINTS_{one}"] for one in sets], axis=1).astype(np.int64)
    share = np.concatenate([attributes[f"WEIGHTS_{one}"] for one in sets], axis=1).astype(np.float64)
    if len(which) and (not 0 <= int(which.min()) <= int(which.max()) < len(joints) or not np.isfinite(share).all()):
        raise UnsoundError("a vertex hangs on a joint that is not there")
    share[~(share.sum(axis=1) > 0)] = 1.0
    point = np.repeat(np.arange(len(which)), which.shape[1])
    matrix = Weights(point, which.ravel(), share.ravel()).blended(joints, len(which))
    for key in {"POSITION", "NORMAL", "TANGENT"} & attributes.keys():
        values = attributes[key].astype(np.float64)
        turned = np.einsum("vij,vj->vi", matrix[:, :, :3], values[:, :3])
        if key == "POSITION":
            turned += matrix[:, :, 3]
        else:
            length = np.linalg.norm(turned, axis=1, keepdims=True)
            turned /= np.where(length > 0, length, 1.0)
        values[:, :3] = turned
        attributes[key] = values


def _properties(about: Mapping[str, Any]) -> Mapping[str, Any]:
    """What the extras of something say."""
    extras = about.get("extras", {})
    return dict(extras) if isinstance(extras, dict) else {"extras": extras}


def _with_extras(mesh: Mesh, extras: Mapping[str, Any]) -> Mesh:
    """The mesh with its properties, and with the names of UV sets that stand among them."""
    names = extras.get(UV_NAMES)
    if isinstance(names, list) and len(names) == len(mesh.uv_sets) and all(isinstance(one, str) for one in names):
        of_set = iter(names)
        layers = tuple(replace(one, name=next(of_set)) if one.kind == "uv" else one for one in mesh.layers)
        mesh = mesh.replace(layers=layers)
        extras = {key: value for key, value in extras.items() if key != UV_NAMES}
    return mesh.replace(properties=dict(extras)) if extras else mesh


class _Primitive:
    """A material section as the file has it: attributes by name (V, n), triangles (T, 3), material."""

    def __init__(self, attributes: dict[str, NDArray[Any]], corners: NDArray[np.int32], material: Material | None):
        self.attributes, self.corners, self.material = attributes, corners, material


def _assembled(name: str, primitives: list[_Primitive]) -> Mesh:
    """One mesh with a slot for each primitive. Primitives with the same material share a slot."""
    slots: dict[int, int] = {}
    face_slot, corner_point, points = [], [], []
    base = 0
    for one in primitives:
        slot = slots.setdefault(id(one.material), len(slots))
        face_slot.append(np.full(len(one.corners), slot, np.int32))
        corner_point.append(one.corners.ravel() + base if base else one.corners.ravel())
        points.append(one.attributes["POSITION"].astype(np.float64))
        base += len(points[-1])
    if not primitives:
        return Mesh.taking(name, np.zeros((0, 3)), np.zeros(1, np.int32), np.zeros(0, np.int32))
    corners = _end_to_end(corner_point)
    materials = tuple({id(one.material): one.material for one in primitives}.values())
    keys = list(dict.fromkeys(key for one in primitives for key in one.attributes))
    layers = [layer for key in sorted(keys, key=_layer_order) for layer in _layer(key, primitives, corners)]
    # Positions, indices and values were all looked at above.
    return Mesh.trusted(
        name,
        _end_to_end(points),
        np.arange(0, len(corners) + 1, 3, dtype=np.int32),
        corners,
        layers=tuple(layers),
        slots=materials,
        face_slot=np.concatenate(face_slot) if len(materials) > 1 else None,
    )


def _end_to_end(arrays: list[NDArray[Any]]) -> NDArray[Any]:
    """Arrays as one, without a copy when there is only one."""
    return arrays[0] if len(arrays) == 1 else np.concatenate(arrays)


def _layer_order(key: str) -> tuple[int, str]:
    kinds = ("TEXCOORD", "COLOR", "NORMAL", "TANGENT")
    word = key.partition("_")[0]
    return kinds.index(word) if word in kinds else len(kinds), key


def _layer(key: str, primitives: list[_Primitive], corners: NDArray[np.int32]) -> Iterator[Layer]:
    """The layer of an attribute over all primitives; corners of those without it have none."""
    kind = {"NORMAL": "normal", "TANGENT": "tangent", "TEXCOORD": "uv", "COLOR": "color"}.get(key.partition("_")[0])
    if kind is None:
        return
    widths = {len(one.attributes[key][0]) for one in primitives if key in one.attributes and len(one.attributes[key])}
    if not widths:
        return
    width = max(widths)
    values = []
    there: list[NDArray[np.bool_]] = []
    for one in primitives:
        own = one.attributes.get(key)
        count = len(one.attributes["POSITION"])
        if own is not None and own.dtype == np.float32 and own.shape[1] == width:
            block = own
        else:
            block = np.full((count, width), 1.0 if kind == "color" else 0.0, np.float32)
            block[:, : 0 if own is None else own.shape[1]] = 0.0 if own is None else own
        finite = usable_rows(block)
        values.append(block if finite.all() else np.where(finite[:, None], block, np.float32(0.0)))
        there.append(finite if own is not None else np.zeros(count, bool))
    table, known = _end_to_end(values), _end_to_end(there)
    if kind == "uv":
        # Ours start at the lower left corner.
        upright = np.empty_like(table)
        upright[:, 0] = table[:, 0]
        np.subtract(np.float32(1.0), table[:, 1], out=upright[:, 1])
        table = upright
    index = corners if known.all() else np.where(known[corners], corners, -1)
    yield Layer.taking(kind, table, index)


def _triangles(index: NDArray[np.int32], mode: int) -> NDArray[np.int32]:
    """(T, 3) vertices of a list, strip or fan of triangles; those without three vertices are left out."""
    if mode == _TRIANGLES:
        return index[: len(index) // 3 * 3].reshape(-1, 3)
    count = max(len(index) - 2, 0)
    steps = np.arange(count)
    if mode == _FAN:
        corners = np.stack([steps + 1, steps + 2, np.zeros(count, np.int64)], axis=1)
    else:
        odd = steps % 2
        corners = np.stack([steps, steps + 1 + odd, steps + 2 - odd], axis=1)
    found = index[corners]
    distinct = (found[:, 0] != found[:, 1]) & (found[:, 1] != found[:, 2]) & (found[:, 2] != found[:, 0])
    return np.asarray(found[distinct])


def _transforms(abouts: Sequence[Mapping[str, Any]]) -> NDArray[np.float64]:
    """(N, 4, 4) the transforms of nodes."""
    usual = {"translation": (0, 0, 0), "rotation": (0, 0, 0, 1), "scale": (1, 1, 1)}
    columns = [np.array([about.get(key, value) for about in abouts], float).reshape(-1, len(value))
               for key, value in usual.items()]  # fmt: skip
    made = composed(len(abouts), *columns)
    for n, about in enumerate(abouts):
        if "matrix" in about:
            made[n] = np.array(about["matrix"], float).reshape(4, 4).T
            made[n, 3] = (0, 0, 0, 1)
    return made


def _data_uri(uri: str) -> tuple[str, bytes]:
    """The media type and the bytes of a data URI."""
    head, comma, body = uri[5:].partition(",")
    if not comma:
        raise UnsoundError("a data URI without data")
    try:
        content = (
            base64.b64decode(body, validate=False) if head.endswith(";base64") else unquote(body).encode("latin-1")
        )
    except (binascii.Error, UnicodeEncodeError):
        raise UnsoundError("a data URI that cannot be read") from None
    return head.partition(";")[0], content
