"""Small strict receivers of written files, one for each format, by the specifications alone.

They share no code with the package. Each gives polygons in the world of the file: their corners, and the name of the
material. A corner is a row of position (3), normal (3), UV where the colour's texture is looked up (2) and colour as
amounts of light (3); NaN where the file has none.
"""

from __future__ import annotations

import json
import math
import re
import struct
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from lxml import etree

Polygon = tuple[np.ndarray, str]
EMPTY = (np.nan,) * 3
NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")


def numbers(text: str | None) -> np.ndarray:
    words = (text or "").replace(",", " ").split()
    assert all(NUMBER.fullmatch(word) for word in words)
    return np.array(words, float)


def light(seen: np.ndarray) -> np.ndarray:
    return np.where(seen <= 0.04045, seen / 12.92, ((seen + 0.055) / 1.055) ** 2.4)


def corner(world: np.ndarray, point, normal=None, uv=None, color=None) -> list[float]:
    """A row for a corner that stands in ``world``."""
    place = world[:3, :3] @ point + world[:3, 3]
    turned = EMPTY
    if normal is not None:
        linear = world[:3, :3]
        turned = np.linalg.det(linear) * np.linalg.inv(linear).T @ normal * np.sign(np.linalg.det(linear))
        turned = turned / np.linalg.norm(turned)
    return [*place, *turned, *(EMPTY[:2] if uv is None else uv), *(EMPTY if color is None else color)]


def facing(rows: list[list[float]], world: np.ndarray) -> np.ndarray:
    """The corners of a polygon so that it faces outward: a mirrored place turns it round."""
    return np.array(rows[::-1] if np.linalg.det(world) < 0 else rows)


def turned_by(quaternion) -> np.ndarray:
    x, y, z, w = quaternion
    assert abs(x * x + y * y + z * z + w * w - 1) < 1e-6
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def about(axis, angle: float) -> np.ndarray:
    axis = np.array(axis) / np.linalg.norm(axis)
    return turned_by([*(axis * math.sin(angle / 2)), math.cos(angle / 2)])


def placed(translation=(0, 0, 0), rotation=None, scale=(1, 1, 1)) -> np.ndarray:
    matrix = np.eye(4)
    matrix[:3, :3] = (np.eye(3) if rotation is None else rotation) * np.array(scale)
    matrix[:3, 3] = translation
    return matrix


# OBJ


def in_obj(path: Path) -> Iterator[Polygon]:
    points, normals, uvs, material = [], [], [], ""
    known = set()
    for line in path.read_text("utf-8").splitlines():
        word, _, rest = line.partition(" ")
        if word == "v":
            values = numbers(rest)
            assert len(values) in (3, 6)
            points.append((values[:3], light(values[3:]) if len(values) == 6 else None))
        elif word in ("vn", "vt"):
            (normals if word == "vn" else uvs).append(numbers(rest))
        elif word == "mtllib":
            text = (path.parent / rest).read_text("utf-8")
            known = set(re.findall(r"^newmtl (.*)$", text, re.MULTILINE))
        elif word == "usemtl":
            assert rest in known
            material = rest
        elif word == "f":
            rows = []
            for one in rest.split():
                v, t, n = ([int(k) if k else 0 for k in one.split("/")] + [0, 0])[:3]
                assert 0 < v <= len(points) and 0 <= t <= len(uvs) and 0 <= n <= len(normals)
                place, color = points[v - 1]
                rows.append(
                    corner(np.eye(4), place, normals[n - 1] if n else None, uvs[t - 1][:2] if t else None, color)
                )
            yield np.array(rows), material
        else:
            assert word in ("", "#", "o", "g", "s")


# PLY and STL


def in_ply(path: Path) -> Iterator[Polygon]:
    head, data = path.read_bytes().split(b"end_header\n", 1)
    lines = [line.split() for line in head.decode().splitlines() if not line.startswith("comment")]
    assert lines[0] == ["ply"] and lines[1] == ["format", "binary_little_endian", "1.0"]
    count, faces = (int(line[2]) for line in lines if line[0] == "element")
    columns = [
        (line[2], {"float": "<f4", "uchar": "u1"}[line[1]])
        for line in lines
        if line[0] == "property" and len(line) == 3
    ]
    vertex = np.frombuffer(data, columns, count)
    at, names = vertex.nbytes, vertex.dtype.names
    for _ in range(faces):
        size = data[at]
        index = np.frombuffer(data, "<i4", size, at + 1)
        assert 3 <= size <= 4 and index.min() >= 0 and index.max() < count
        at += 1 + 4 * size
        rows = []
        for one in vertex[index]:
            color = light(np.array([one[k] for k in ("red", "green", "blue")]) / 255) if "red" in names else None
            normal = [one[k] for k in ("nx", "ny", "nz")] if "nx" in names else None
            uv = [one["s"], one["t"]] if "s" in names else None
            rows.append(corner(np.eye(4), np.array([one[k] for k in "xyz"], float), normal, uv, color))
        yield np.array(rows), ""
    assert at == len(data)


def in_stl(path: Path) -> Iterator[Polygon]:
    data = path.read_bytes()
    assert data[:5] != b"solid" and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little")
    for at in range(84, len(data), 50):
        values = np.frombuffer(data, "<f4", 12, at).reshape(4, 3).astype(float)
        flat = np.cross(values[2] - values[1], values[3] - values[1])
        assert np.linalg.norm(flat) == 0 or values[0] @ flat > 0.999 * np.linalg.norm(flat)
        yield np.array([corner(np.eye(4), one) for one in values[1:]]), ""


# glTF


def unpacked_rows(data: bytes, count: int, stride: int) -> bytes:
    """Rows of a compressed view of attributes (version 0): bit by bit, as its description tells."""
    assert data[0] == 0xA0
    rows = np.zeros((count, stride), np.uint8)
    last = np.frombuffer(data[-stride:], np.uint8).astype(int)
    at, block = 1, min(256, 8192 // stride // 16 * 16)
    for first in range(0, count, block):
        groups = (min(block, count - first) + 15) // 16
        for lane in range(stride):
            head, at = data[at : at + (groups + 3) // 4], at + (groups + 3) // 4
            for group in range(groups):
                bits = (0, 2, 4, 8)[head[group // 4] >> 2 * (group % 4) & 3]
                word, at = int.from_bytes(data[at : at + 2 * bits], "big"), at + 2 * bits
                for k in range(16):
                    step = word >> (bits * (15 - k)) & ((1 << bits) - 1)
                    if bits in (2, 4) and step == (1 << bits) - 1:
                        step, at = data[at], at + 1
                    last[lane] += step // 2 if step % 2 == 0 else -(step + 1) // 2
                    if first + 16 * group + k < min(first + block, count):
                        rows[first + 16 * group + k, lane] = last[lane] % 256
                    else:
                        assert step == 0
    assert at == len(data) - max(stride, 32)
    return rows.tobytes()


def unpacked_corners(data: bytes, count: int) -> bytes:
    """Corners of triangles of a compressed view (version 1)."""
    assert data[0] == 0xE1
    codes, rest, table = data[1 : 1 + count // 3], list(data[1 + count // 3 : -16]), data[-16:]
    edges, recent, out, following, last = [(-1, -1)] * 16, [-1] * 16, [], 0, 0

    def free() -> int:
        nonlocal last
        value = shift = 0
        while True:
            byte = rest.pop(0)
            value |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                break
        last = (last + (value // 2 if value % 2 == 0 else -(value + 1) // 2)) % (1 << 32)
        return last

    def new() -> int:
        nonlocal following
        following += 1
        return following - 1

    for code in codes:
        if code < 0xF0:
            a, b = edges[code >> 4]
            kind = code & 15
            if kind in (13, 14):
                last += 1 if kind == 14 else -1
            c = new() if kind == 0 else free() if kind == 15 else last if kind > 12 else recent[kind]
            recent = [c, *recent] if kind in (0, 13, 14, 15) else recent
            edges = [(a, c), (c, b), *edges]
        else:
            more = table[code & 15] if code < 0xFE else rest.pop(0)
            if code >= 0xFE and more == 0:
                following = 0
            kinds = [15 if code == 0xFF else 0, more >> 4, more & 15]
            three = [new() if kind == 0 else recent[kind - 1] if kind < 15 else None for kind in kinds]
            a, b, c = (free() if one is None else one for one in three)
            for one, kind in zip((a, b, c), kinds, strict=True):
                recent = [one, *recent] if kind in (0, 15) else recent
            edges = [(a, c), (c, b), (b, a), *edges]
        out += [a, b, c]
        edges, recent = edges[:16], recent[:16]
    assert not rest
    return np.array(out, "<u4").tobytes()


class Gltf:
    def __init__(self, path: Path) -> None:
        data = path.read_bytes()
        magic, version, length, size, kind = struct.unpack_from("<4sIIII", data)
        assert (magic, version, length, kind) == (b"glTF", 2, len(data), 0x4E4F534A) and size % 4 == 0
        self.json = json.loads(data[20 : 20 + size])
        self.buffer = data[28 + size :]

    def values(self, number: int) -> np.ndarray:
        one = self.json["accessors"][number]
        view = self.json["bufferViews"][one["bufferView"]]
        kind = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}[one["componentType"]]
        width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[one["type"]]
        size = np.dtype(kind).itemsize * width
        start, step = view.get("byteOffset", 0) + one.get("byteOffset", 0), view.get("byteStride", size)
        data, packed = self.buffer, view.get("extensions", {}).get("EXT_meshopt_compression")
        if packed:
            assert self.json["buffers"][view["buffer"]]["extensions"]["EXT_meshopt_compression"]["fallback"]
            part = data[packed["byteOffset"] :][: packed["byteLength"]]
            start = one.get("byteOffset", 0)
            if packed["mode"] == "TRIANGLES":
                kind, data, step = "<u4", unpacked_corners(part, packed["count"]), 4
            else:
                data = unpacked_rows(part, packed["count"], packed["byteStride"])
        rows = [np.frombuffer(data, kind, width, start + k * step) for k in range(one["count"])]
        return np.array(rows)

    def polygons(self) -> Iterator[Polygon]:
        assert set(self.json.get("extensionsRequired", ())) <= {
            "EXT_mesh_gpu_instancing", "EXT_meshopt_compression", "KHR_texture_transform",
        }  # fmt: skip
        scene = self.json["scenes"][self.json["scene"]]
        waiting = [(number, np.eye(4)) for number in scene["nodes"]]
        while waiting:
            number, above = waiting.pop()
            node = self.json["nodes"][number]
            assert "matrix" not in node
            turn = turned_by(node["rotation"]) if "rotation" in node else None
            world = above @ placed(node.get("translation", (0, 0, 0)), turn, node.get("scale", (1, 1, 1)))
            waiting += [(child, world) for child in node.get("children", ())]
            copies = node.get("extensions", {}).get("EXT_mesh_gpu_instancing")
            places = [np.eye(4)]
            if copies:
                columns = [self.values(copies["attributes"][k]) for k in ("TRANSLATION", "ROTATION", "SCALE")]
                places = [placed(t, turned_by(r.astype(float)), s) for t, r, s in zip(*columns, strict=True)]
            for place in places if "mesh" in node else ():
                for primitive in self.json["meshes"][node["mesh"]]["primitives"]:
                    yield from self.triangles(primitive, world @ place)

    def triangles(self, primitive: dict, world: np.ndarray) -> Iterator[Polygon]:
        assert primitive.get("mode", 4) == 4
        found = {key: self.values(one).astype(float) for key, one in primitive["attributes"].items()}
        index = self.values(primitive["indices"])[:, 0]
        assert len(index) % 3 == 0 and index.max() < len(found["POSITION"])
        material = self.json["materials"][primitive["material"]] if "material" in primitive else {}
        info = material.get("pbrMetallicRoughness", {}).get("baseColorTexture", {})
        place = info.get("extensions", {}).get("KHR_texture_transform", {})
        uv = found.get(f"TEXCOORD_{info.get('texCoord', 0)}")
        if uv is not None:
            c, s = math.cos(place.get("rotation", 0)), math.sin(place.get("rotation", 0))
            uv = uv * place.get("scale", (1, 1)) @ np.array([[c, s], [-s, c]]).T + place.get("offset", (0, 0))
            uv = uv * (1, -1) + (0, 1)  # to the lower left corner
        for key in ("NORMAL", "TANGENT"):
            assert key not in found or np.allclose(np.linalg.norm(found[key][:, :3], axis=1), 1, atol=1e-3)
        for three in index.reshape(-1, 3):
            rows = [
                corner(
                    world, found["POSITION"][k], found["NORMAL"][k] if "NORMAL" in found else None,
                    None if uv is None else uv[k], found["COLOR_0"][k, :3] if "COLOR_0" in found else None,
                )
                for k in three
            ]  # fmt: skip
            yield facing(rows, world), material.get("name", "")


def in_glb(path: Path) -> Iterator[Polygon]:
    yield from Gltf(path).polygons()


# COLLADA


class Collada:
    def __init__(self, path: Path) -> None:
        self.root = etree.fromstring(path.read_bytes())
        self.names = {"c": self.root.nsmap[None]}
        ids = [one.get("id") for one in self.root.iter() if one.get("id")]
        assert len(ids) == len(set(ids))
        self.ids = {one.get("id"): one for one in self.root.iter() if one.get("id")}
        assert float(self.find(self.root, "c:asset/c:unit")[0].get("meter")) == 1
        assert self.find(self.root, "c:asset/c:up_axis")[0].text == "Y_UP"

    def find(self, element, path: str):
        return element.xpath(path, namespaces=self.names)

    def table(self, url: str) -> np.ndarray:
        source = self.ids[url[1:]]
        (accessor,) = self.find(source, "c:technique_common/c:accessor")
        array = self.ids[accessor.get("source")[1:]]
        values = numbers(array.text)
        assert len(values) == int(array.get("count")) == int(accessor.get("count")) * int(accessor.get("stride"))
        return values.reshape(-1, int(accessor.get("stride")))

    def polygons(self) -> Iterator[Polygon]:
        (instance,) = self.find(self.root, "c:scene/c:instance_visual_scene")
        for node in self.find(self.ids[instance.get("url")[1:]], "c:node"):
            yield from self.node(node, np.eye(4))

    def node(self, node, above: np.ndarray) -> Iterator[Polygon]:
        world = above
        for one in node:
            kind, values = etree.QName(one).localname, one.text
            if kind == "matrix":
                world = world @ numbers(values).reshape(4, 4)
            elif kind == "translate":
                world = world @ placed(numbers(values))
            elif kind == "scale":
                world = world @ placed(scale=numbers(values))
            elif kind == "rotate":
                *axis, angle = numbers(values)
                world = world @ placed(rotation=about(axis, math.radians(angle)))
        for one in self.find(node, "c:instance_geometry"):
            bound = {m.get("symbol"): m for m in self.find(one, ".//c:instance_material")}
            for primitive in self.find(self.ids[one.get("url")[1:]], "c:mesh/c:polylist | c:mesh/c:triangles"):
                yield from self.primitive(primitive, world, bound)
        for one in self.find(node, "c:node"):
            yield from self.node(one, world)

    def primitive(self, primitive, world: np.ndarray, bound: dict) -> Iterator[Polygon]:
        symbol = primitive.get("material")
        material, wanted = "", 0
        if symbol:
            element = self.ids[bound[symbol].get("target")[1:]]
            material = element.get("name")
            wanted = self.uv_set(element, bound[symbol])
        tables: dict[str, tuple[np.ndarray, int]] = {}
        width = 0
        for one in self.find(primitive, "c:input"):
            kind, offset = one.get("semantic"), int(one.get("offset"))
            width = max(width, offset + 1)
            if kind == "VERTEX":
                for inner in self.find(self.ids[one.get("source")[1:]], "c:input"):
                    tables[inner.get("semantic")] = self.table(inner.get("source")), offset
            elif kind != "TEXCOORD" or int(one.get("set", 0)) == wanted:
                tables[kind] = self.table(one.get("source")), offset
        rows = numbers(self.find(primitive, "c:p")[0].text).astype(int).reshape(-1, width)
        sizes = [int(k) for k in numbers("".join(self.find(primitive, "c:vcount/text()")))] or [3] * (len(rows) // 3)
        assert len(sizes) == int(primitive.get("count")) and sum(sizes) == len(rows)
        at = 0
        for size in sizes:
            found = []
            for row in rows[at : at + size]:
                said = {k: table[row[offset]] for k, (table, offset) in tables.items() if row[offset] >= 0}
                color = light(said["COLOR"][:3]) if "COLOR" in said else None
                uv = said["TEXCOORD"][:2] if "TEXCOORD" in said else None
                found.append(corner(world, said["POSITION"], said.get("NORMAL"), uv, color))
            at += size
            yield facing(found, world), material

    def uv_set(self, material, binding) -> int:
        """The set that the texture of the colour is looked up by."""
        effect = self.ids[self.find(material, "c:instance_effect")[0].get("url")[1:]]
        texture = self.find(effect, ".//c:diffuse/c:texture")
        if not texture:
            return 0
        called = texture[0].get("texcoord")
        return next(
            int(one.get("input_set", 0))
            for one in self.find(binding, "c:bind_vertex_input")
            if one.get("semantic") == called
        )


def in_dae(path: Path) -> Iterator[Polygon]:
    yield from Collada(path).polygons()


# X3D


def in_x3d(path: Path) -> Iterator[Polygon]:
    root = etree.fromstring(path.read_bytes())
    defined: dict[str, object] = {}
    for one in root.iter():
        if one.get("DEF"):
            assert one.get("DEF") not in defined
            defined[one.get("DEF")] = one

    def meant(element):
        return defined[element.get("USE")] if element.get("USE") else element

    def walk(element, world) -> Iterator[Polygon]:
        kind = element.tag
        if kind == "Transform":
            turn = numbers(element.get("rotation", "0 0 1 0"))
            own = placed(
                numbers(element.get("translation", "0 0 0")),
                about(turn[:3], turn[3]),
                numbers(element.get("scale", "1 1 1")),
            )
            if element.get("scaleOrientation"):
                along = numbers(element.get("scaleOrientation"))
                other = placed(rotation=about(along[:3], along[3]))
                own = placed(numbers(element.get("translation", "0 0 0")), about(turn[:3], turn[3])) @ other
                own = own @ placed(scale=numbers(element.get("scale", "1 1 1"))) @ np.linalg.inv(other)
            world = world @ own
        if kind == "Shape":
            yield from shape(element, world)
            return
        if kind == "Switch" and element.get("whichChoice", "-1") == "-1":
            return
        for child in element:
            yield from walk(meant(child), world)

    def shape(element, world) -> Iterator[Polygon]:
        parts = {meant(one).tag: meant(one) for one in element}
        look = {meant(one).tag: meant(one) for one in parts["Appearance"]} if "Appearance" in parts else {}
        name = ""
        if "Material" in look:
            name = look["Material"].get("DEF")
            for one in look["Material"]:
                name = one.get("value").strip('"') if one.get("name") == "name" else name
        faces = parts["IndexedFaceSet"]
        tables = {meant(one).tag: meant(one) for one in faces}
        point = numbers(tables["Coordinate"].get("point")).reshape(-1, 3)
        color = next((one for tag, one in tables.items() if tag.startswith("Color")), None)
        width = 4 if color is not None and color.tag == "ColorRGBA" else 3
        columns = {
            "coordIndex": point,
            "normalIndex": numbers(tables["Normal"].get("vector")).reshape(-1, 3) if "Normal" in tables else None,
            "texCoordIndex": numbers(tables["TextureCoordinate"].get("point")).reshape(-1, 2) if "TextureCoordinate" in tables else None,
            "colorIndex": light(numbers(color.get("color")).reshape(-1, width)[:, :3]) if color is not None else None,
        }  # fmt: skip
        index = {key: numbers(faces.get(key) or faces.get("coordIndex")).astype(int) for key in columns}
        ends = np.flatnonzero(index["coordIndex"] == -1)
        at = 0
        for end in ends:
            rows = []
            for k in range(at, end):
                said = {
                    key: table[index[key][k]]
                    for key, table in columns.items()
                    if table is not None and index[key][k] >= 0
                }
                rows.append(
                    corner(
                        world,
                        said["coordIndex"],
                        said.get("normalIndex"),
                        said.get("texCoordIndex"),
                        said.get("colorIndex"),
                    )
                )
            at = end + 1
            yield facing(rows, world), name

    (scene,) = root.iter("Scene")
    yield from walk(scene, np.eye(4))


# USD text


class Usda:
    """Prims with properties as text, from the layout our writer keeps: one statement a line, arrays on one line."""

    HEAD = re.compile(r'(def|class) ?(\w*) "(\w+)"( \()?$')

    def __init__(self, path: Path) -> None:
        self.lines = path.read_text("utf-8").splitlines()
        assert self.lines[0] == "#usda 1.0"
        self.prims: dict[str, dict] = {}
        self.at = self.lines.index(")") + 1
        assert "    metersPerUnit = 1" in self.lines[: self.at] and '    upAxis = "Y"' in self.lines[: self.at]
        while self.at < len(self.lines):
            self.prim("")

    def prim(self, above: str) -> None:
        line = self.lines[self.at].strip()
        self.at += 1
        if not line:
            return
        kind, type_name, name, more = self.HEAD.match(line).groups()
        path = f"{above}/{name}"
        one = self.prims[path] = {"specifier": kind, "type": type_name, "name": name, "children": []}
        if above:
            self.prims[above]["children"].append(path)
        while more and self.lines[self.at].strip() != ")":
            key, _, value = self.lines[self.at].strip().partition(" = ")
            one[key] = value
            self.at += 1
        self.at += bool(more)
        assert self.lines[self.at].strip() == "{"
        self.at += 1
        while self.lines[self.at].strip() != "}":
            text = self.lines[self.at].strip()
            if not text or self.HEAD.match(text):
                self.prim(path)
                continue
            self.at += 1
            key, _, value = text.partition(" = ")
            key = key.split()[-1]
            if value.endswith(" ("):
                value = value[:-2]
                while self.lines[self.at].strip() != ")":
                    inner, _, said = self.lines[self.at].strip().partition(" = ")
                    one[f"{key} {inner}"] = said.strip('"')
                    self.at += 1
                self.at += 1
            one[key] = value
        self.at += 1

    def array(self, prim: dict, key: str, width: int) -> np.ndarray | None:
        if key not in prim:
            return None
        return numbers(re.sub(r"[\[\]()]", " ", prim[key])).reshape(-1, width)

    def polygons(self) -> Iterator[Polygon]:
        (root,) = [path for path in self.prims if path.count("/") == 1]
        yield from self.walk(root, np.eye(4), "", root)

    def walk(self, path: str, above: np.ndarray, bound: str, shown: str) -> Iterator[Polygon]:
        prim = self.prims[path]
        if prim["specifier"] != "def":
            return
        if prim["type"] == "Mesh" and "prepend references" in prim:
            prim = {**self.prims[prim.pop("prepend references").strip("<>")], **prim}
        world = above
        if "xformOpOrder" in prim:
            op = re.search(r"xformOp:\w+", prim["xformOpOrder"])[0]
            values = numbers(re.sub(r"[()]", " ", prim[op]))
            world = world @ (placed(values) if op.endswith("translate") else values.reshape(4, 4).T)
        bound = prim.get("material:binding", bound).strip("<>")
        if prim.get("visibility") == '"invisible"':
            return
        if prim["type"] == "Mesh":
            yield from self.mesh(prim, world, bound)
        if prim["type"] == "PointInstancer":
            columns = [self.array(prim, key, k) for key, k in (("positions", 3), ("orientationsf", 4), ("scales", 3))]
            (target,) = re.findall(r"<(.*?)>", prim["prototypes"])
            for position, turn, scale in zip(*columns, strict=True):
                place = placed(position, turned_by(turn[[1, 2, 3, 0]]), scale)
                yield from self.walk(target, world @ place, bound, target)
            return
        for child in prim["children"]:
            yield from self.walk(child, world, bound, child)
        if "prepend references" in prim:
            source = prim["prepend references"].strip("<>")
            assert self.prims[source]["type"] == "Xform" and prim.get("instanceable") == "true"
            for child in self.prims[source]["children"]:
                yield from self.walk(child, world, bound, child)

    def mesh(self, prim: dict, world: np.ndarray, bound: str) -> Iterator[Polygon]:
        sizes = self.array(prim, "faceVertexCounts", 1)[:, 0].astype(int)
        index = self.array(prim, "faceVertexIndices", 1)[:, 0].astype(int)
        points = self.array(prim, "points", 3)
        assert sizes.sum() == len(index) and index.max() < len(points)
        of_face = np.array([bound] * len(sizes), object)
        for child in prim["children"]:
            subset = self.prims[child]
            assert subset["type"] == "GeomSubset"
            members = self.array(subset, "indices", 1)[:, 0].astype(int)
            of_face[members] = subset.get("material:binding", "").strip("<>")
        columns = {}
        for key, width in (("normals", 3), ("primvars:displayColor", 3), ("primvars:st", 2), ("primvars:st1", 2)):
            table = self.array(prim, key, width)
            if table is not None:
                how = prim[f"{key} interpolation"]
                rows = self.array(prim, f"{key}:indices", 1)
                row = np.arange(len(index)) if how == "faceVarying" else index
                columns[key] = table[rows[:, 0].astype(int)[row] if rows is not None else row]
        at = 0
        for face, size in enumerate(sizes):
            material = self.prims[of_face[face]] if of_face[face] else None
            uv = self.looked_up(of_face[face], columns)
            rows = [
                corner(
                    world, points[index[k]], columns["normals"][k] if "normals" in columns else None,
                    None if uv is None else uv[k],
                    columns["primvars:displayColor"][k] if "primvars:displayColor" in columns else None,
                )
                for k in range(at, at + size)
            ]  # fmt: skip
            at += size
            name = "" if material is None else material.get("displayName", material["name"]).strip('"')
            yield facing(rows, world), name

    def looked_up(self, material: str, columns: dict) -> np.ndarray | None:
        """The UVs at which the texture of a material's colour is looked up."""
        shader = self.prims.get(f"{material}/base_color")
        if shader is None:
            return columns.get("primvars:st")
        source = shader["inputs:st.connect"].strip("<>").partition(".")[0]
        place = self.prims[source]
        reader = (
            self.prims[place["inputs:in.connect"].strip("<>").partition(".")[0]]
            if "inputs:in.connect" in place
            else place
        )
        uv = columns.get("primvars:" + reader["inputs:varname"].strip('"'))
        if uv is None or place is reader:
            return uv
        scale, shift = (numbers(re.sub(r"[()]", " ", place[f"inputs:{key}"])) for key in ("scale", "translation"))
        turn = math.radians(float(place["inputs:rotation"]))
        c, s = math.cos(turn), math.sin(turn)
        return (uv * scale) @ np.array([[c, -s], [s, c]]).T + shift


def in_usda(path: Path) -> Iterator[Polygon]:
    yield from Usda(path).polygons()


RECEIVERS = {"obj": in_obj, "ply": in_ply, "stl": in_stl, "glb": in_glb, "dae": in_dae, "x3d": in_x3d, "usda": in_usda}
