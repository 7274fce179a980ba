"""What strict receivers take written files for, polygon by polygon, and slow unpackers for compressed ones.

A polygon is its corners and the name of its material. A corner is a row of position (3), normal (3), UV where the
colour's texture is looked up (2) and colour as amounts of light (3); NaN where the file has none.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import numpy as np

from zesty_otter.rehearsal.receivers import take

Polygon = tuple[np.ndarray, str]
EMPTY = (np.nan,) * 3


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


def placed(translation=(0, 0, 0), rotation=None, scale=(1, 1, 1)) -> np.ndarray:
    matrix = np.eye(4)
    matrix[:3, :3] = (np.eye(3) if rotation is None else rotation) * np.array(scale)
    matrix[:3, 3] = translation
    return matrix


def polygons(path: Path) -> Iterator[Polygon]:
    """What the strict receiver of a format takes a file for."""
    faces = take(path)
    rows = np.concatenate([faces.points, faces.normals, faces.uvs, faces.colors], axis=1)
    for face, (first, last) in enumerate(pairwise(faces.start)):
        yield rows[first:last], faces.names[faces.material[face]]


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


def without_packing(path: Path) -> Path:
    """A file beside it that holds the same without compressed views."""
    data = path.read_bytes()
    size = int.from_bytes(data[12:16], "little")
    document, buffer = json.loads(data[20 : 20 + size]), data[28 + size :]
    plain = b""
    for view in document["bufferViews"]:
        start, length = view.get("byteOffset", 0), view["byteLength"]
        packed = view.get("extensions", {}).pop("EXT_meshopt_compression", None)
        if packed is None:
            part = buffer[start : start + length]
        else:
            assert document["buffers"][view["buffer"]]["extensions"]["EXT_meshopt_compression"]["fallback"]
            part = buffer[packed["byteOffset"] :][: packed["byteLength"]]
            if packed["mode"] == "TRIANGLES":
                assert length == packed["count"] * packed["byteStride"]
                part = unpacked_corners(part, packed["count"])
                for accessor in document["accessors"]:
                    if document["bufferViews"][accessor["bufferView"]] is view:
                        accessor["componentType"] = 5125
            else:
                part = unpacked_rows(part, packed["count"], packed["byteStride"])
                assert len(part) == length
        view.update(buffer=0, byteOffset=len(plain), byteLength=len(part))
        plain += part + bytes(-len(part) % 4)
    document["buffers"] = [{"byteLength": len(plain)}]
    for key in ("extensionsRequired", "extensionsUsed"):
        document[key] = [one for one in document.get(key, ()) if one != "EXT_meshopt_compression"]
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    out = path.with_name(f"plain_{path.name}")
    head = struct.pack("<4sIIII", b"glTF", 2, 28 + len(text) + len(plain), len(text), 0x4E4F534A)
    out.write_bytes(head + text + struct.pack("<II", len(plain), 0x004E4942) + plain)
    return out
