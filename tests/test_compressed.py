"""Compressed glTF, unpacked: views packed here from the description of the format, and meshes with known answers."""

from __future__ import annotations

import base64
import json
import random
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, features

import zesty_otter as zo
from build import Gltf, cube, scene_of, texts
from receivers import polygons, without_packing
from zesty_otter.demo.textures import timber
from zesty_otter.formats.gltf.compressed import unpacked_view
from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.model import Layer, Material, Texture, TextureUse

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

EXTENSION = "EXT_meshopt_compression"


def zigzag(step: int, bits: int) -> int:
    step = (step + (1 << (bits - 1))) % (1 << bits) - (1 << (bits - 1))
    return (step << 1 if step >= 0 else (-step << 1) - 1) % (1 << bits)


def packed_bytes(steps: list[int], widths: tuple[int, ...]) -> bytes:
    """The steps of one byte of the rows of a block, in groups of 16 of the shortest of four numbers of bits."""
    steps = steps + [0] * (-len(steps) % 16)
    head, body = bytearray((len(steps) // 16 + 3) // 4), bytearray()
    for group in range(len(steps) // 16):
        sixteen = steps[16 * group : 16 * group + 16]
        ways = []
        for code, bits in enumerate(widths):
            most = (1 << bits) - 1
            if bits == 8 or not bits:
                ways += [(code, bytes(sixteen) if bits else b"")] if bits or not any(sixteen) else []
                continue
            # Of single bits the lowest comes first.
            order = sixteen if bits > 1 else sixteen[7::-1] + sixteen[:7:-1]
            word = int("".join(format(min(one, most), f"0{bits}b") for one in order), 2)
            ways.append((code, word.to_bytes(2 * bits, "big") + bytes(one for one in sixteen if one >= most)))
        code, data = min(ways, key=lambda way: len(way[1]))
        head[group >> 2] |= code << (2 * (group & 3))
        body += data
    return bytes(head + body)


def blocks(rows: np.ndarray) -> Iterator[np.ndarray]:
    """Blocks of rows of bytes, each with the row before it."""
    size = min((8192 // rows.shape[1]) & ~15, 256)
    before = rows[:1]
    for first in range(0, len(rows), size):
        part = np.concatenate([before, rows[first : first + size]])
        yield part
        before = part[-1:]


def packed_attributes(rows: np.ndarray) -> bytes:
    """Rows of bytes as compressed views have them, version 0."""
    out = bytearray([0xA0])
    for block in blocks(rows):
        for lane in block.T.astype(int):
            out += packed_bytes([zigzag(int(b - a), 8) for a, b in pairwise(lane)], (0, 2, 4, 8))
    return bytes(out) + bytes(max(32 - rows.shape[1], 0)) + rows[:1].tobytes()


def packed_attributes1(rows: np.ndarray, modes: bytes) -> bytes:
    """As `packed_attributes`, version 1: words of steps of bytes (0), of pairs (1), or of bits turned by 16 parts (2)."""
    out = bytearray([0xA1])
    for block in blocks(rows):
        control, body = bytearray(len(modes)), bytearray()
        for word, mode in enumerate(modes):
            four = np.ascontiguousarray(block[:, 4 * word : 4 * word + 4])
            if mode & 3 == 2:
                pairs = pairwise(four.view("<u4")[:, 0].tolist())
                turned = mode >> 4
                changed = [((a ^ b) << turned | (a ^ b) >> (32 - turned)) & 0xFFFFFFFF for a, b in pairs]
                steps = np.array(changed, "<u4").view(np.uint8).reshape(-1, 4)
            else:
                kind, bits = ("u1", 8) if mode == 0 else ("<u2", 16)
                columns = four.view(kind).astype(int).T.tolist()
                coded = [[zigzag(b - a, bits) for a, b in pairwise(column)] for column in columns]
                steps = np.array(coded, kind).T.copy().view(np.uint8).reshape(-1, 4)
            for lane in range(4):
                values = steps[:, lane].tolist()
                ways = [
                    (0, packed_bytes(values, (0, 1, 2, 4))),
                    (1, packed_bytes(values, (1, 2, 4, 8))),
                    (3, bytes(values)),
                ]
                way, data = min(ways, key=lambda way: len(way[1])) if any(values) else (2, b"")
                control[word] |= way << (2 * lane)
                body += data
        out += control + body
    tail = rows[:1].tobytes() + modes
    return bytes(out) + bytes(max(24 - len(tail), 0)) + tail


def vbyte(value: int) -> bytes:
    out = bytearray()
    while value > 127:
        out.append(value & 127 | 128)
        value >>= 7
    return bytes([*out, value])


def packed_triangles(corners: list[int]) -> bytes:
    """Corners of triangles as compressed views have them, version 1, with every kind of code."""
    codes, data, edges, vertices, following, last = bytearray(), bytearray(), [], [], 0, 0

    def free(value: int) -> bytes:
        nonlocal last
        step, last = value - last, value
        return vbyte(zigzag(step, 32))

    def push(one: int) -> None:
        vertices.insert(0, one)
        del vertices[16:]

    for k in range(0, len(corners), 3):
        three = corners[k : k + 3]
        match = None
        for turn in range(3):
            a, b, c = three[turn:] + three[:turn]
            if (a, b) in edges[:15]:
                match = edges.index((a, b)), a, b, c
                break
        if match:
            fe, a, b, c = match
            if c == following:
                codes.append(fe << 4)
                following += 1
                push(c)
            elif c in vertices[1:12]:
                codes.append(fe << 4 | vertices.index(c))
            else:
                if c in (last - 1, last + 1):
                    codes.append(fe << 4 | (13 if c < last else 14))
                    last = c
                else:
                    codes.append(fe << 4 | 15)
                    data += free(c)
                push(c)
            fresh = [(c, b), (a, c)]
        else:
            a, b, c = three
            if three == [following, following + 1, following + 2]:
                codes.append(0xF0)
                following += 3
                fresh_vertices = three
            else:
                start = a == following
                codes.append(0xFE if start else 0xFF)
                following += start
                kinds = []
                for one in (b, c):
                    if one == following:
                        kinds.append(0)
                        following += 1
                    else:
                        kinds.append(vertices.index(one) + 1 if one in vertices[:13] else 15)
                if not any(kinds):
                    kinds[1] = 15  # 0 would start the count anew
                    following -= 1
                data.append(kinds[0] << 4 | kinds[1])
                data += b"" if start else free(a)
                for one, kind in zip((b, c), kinds, strict=True):
                    data += free(one) if kind == 15 else b""
                fresh_vertices = [a, *(one for one, kind in zip((b, c), kinds, strict=True) if kind in (0, 15))]
            for one in fresh_vertices:
                push(one)
            fresh = [(b, a), (c, b), (a, c)]
        for edge in fresh:
            edges.insert(0, edge)
        del edges[16:]
    return bytes([0xE1]) + bytes(codes) + bytes(data) + bytes(16)


def packed_indices(values: list[int]) -> bytes:
    out, last = bytearray([0xD1]), [0, 0]
    for k, value in enumerate(values):
        which = k % 2
        out += vbyte(zigzag(value - last[which], 32) << 1 | which)
        last[which] = value
    return bytes(out) + bytes(4)


def gltf_of(folder: Path, views: list[tuple[bytes, dict]], accessors: list[dict], primitive: dict) -> Path:
    """A glTF file whose buffer views are all compressed."""
    data = b"".join(one + bytes(-len(one) % 4) for one, _ in views)
    made, at = [], 0
    for one, about in views:
        size = about["count"] * about["byteStride"]
        extension = {"buffer": 0, "byteOffset": at, "byteLength": len(one), **about}
        made.append({"buffer": 1, "byteLength": size, "extensions": {EXTENSION: extension}})
        at += len(one) + -len(one) % 4
    uri = "data:application/octet-stream;base64," + base64.b64encode(data).decode()
    document = {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"name": "a", "mesh": 0}],
        "meshes": [{"primitives": [primitive]}], "accessors": accessors, "bufferViews": made,
        "buffers": [{"uri": uri, "byteLength": len(data)}, {"byteLength": 1 << 20, "extensions": {EXTENSION: {"fallback": True}}}],
        "extensionsUsed": [EXTENSION], "extensionsRequired": [EXTENSION],
    }  # fmt: skip
    path = folder / "a.gltf"
    path.write_text(json.dumps(document))
    return path


def sheet(side: int) -> tuple[np.ndarray, np.ndarray]:
    """Points of a bent sheet (side * side, 3) and the corners of its triangles."""
    y, x = np.divmod(np.arange(side * side), side)
    points = np.stack([x, y, np.sin(x / 3.0) * np.cos(y / 5.0)], axis=1).astype("<f4")
    first = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    return points, np.stack(
        [first, first + 1, first + side + 1, first, first + side + 1, first + side], axis=1
    ).reshape(-1, 3)


@pytest.mark.parametrize("order", ["kept", "shuffled", "renumbered"])
@pytest.mark.parametrize("side", [2, 7, 40])
def test_compressed_views_are_unpacked_to_the_last_bit(tmp_path, side, order):
    points, triangles = sheet(side)
    chance = np.random.default_rng(side)
    if order == "shuffled":
        triangles = triangles[chance.permutation(len(triangles))]
    elif order == "renumbered":
        new = chance.permutation(len(points))
        points, triangles = points[np.argsort(new)], new[triangles]
    normals = np.zeros((len(points), 4), np.int8)
    normals[:, :3] = chance.integers(-40, 40, (len(points), 3))
    views = [
        (packed_attributes(points.view(np.uint8)), {"count": len(points), "byteStride": 12, "mode": "ATTRIBUTES"}),
        (packed_triangles(triangles.ravel().tolist()), {"count": triangles.size, "byteStride": 4, "mode": "TRIANGLES"}),
    ]
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": len(points), "type": "VEC3"},
        {"bufferView": 1, "componentType": 5125, "count": triangles.size, "type": "SCALAR"},
    ]
    mesh = zo.read(gltf_of(tmp_path, views, accessors, {"attributes": {"POSITION": 0}, "indices": 1})).meshes[0]
    found = mesh.points[mesh.corner_point.reshape(-1, 3)]
    wanted = points[triangles].astype(float)
    # A triangle may begin at another corner.
    turns = [np.roll(wanted, turn, axis=1) for turn in range(3)]
    assert np.all(np.any([np.all(found == one, axis=(1, 2)) for one in turns], axis=0))


@pytest.mark.parametrize("count", [1, 16, 257, 700])
@pytest.mark.parametrize("modes", [b"\0", b"\1", b"\2", b"\x72\0\1", bytes([2, 0x12, 0xF2, 1, 0]) * 12])
def test_rows_of_version_1_are_unpacked_to_the_last_bit(modes, count):
    # Each word of a row changes in another way: not at all, a little, in single bits, by anything.
    chance = np.random.default_rng(count)
    most = chance.choice([0, 1, 3, 40, 2**16, 2**32 - 1], len(modes))
    words = np.cumsum(chance.integers(0, most + 1, (count, len(modes)), np.int64), axis=0).astype("<u4")
    rows = words.view(np.uint8)
    data = packed_attributes1(rows, modes)
    about = {"count": count, "byteStride": rows.shape[1], "mode": "ATTRIBUTES"}
    assert np.array_equal(unpacked_view(about, np.frombuffer(data, np.uint8)).reshape(rows.shape), rows)
    tail = max(rows.shape[1] + len(modes), 24)
    with pytest.raises(UnsoundError, match="cut short"):
        unpacked_view(about, np.frombuffer(data[:1] + data[-tail:], np.uint8))


@pytest.mark.parametrize("order", ["kept", "shuffled", "renumbered", "reversed"])
def test_what_is_written_compressed_is_the_same_for_an_independent_reader(tmp_path, order):
    points, triangles = sheet(23)
    chance = np.random.default_rng(5)
    if order == "shuffled":
        triangles = triangles[chance.permutation(len(triangles))]
    elif order == "renumbered":
        new = chance.permutation(len(points))
        points, triangles = points[np.argsort(new)], new[triangles]
    elif order == "reversed":
        triangles = triangles[::-1]
    uvs = Layer("uv", chance.random((len(points), 2)), triangles.ravel())
    slots = (Material("oak"), Material("tar"))
    bent = zo.Mesh.from_faces(
        "bent", points, triangles, layers=(uvs,), slots=slots, face_slot=np.arange(len(triangles)) % 3 // 2
    )
    scene = scene_of(bent, zo.Node("box", content=cube((1, 2, 3)), transform=np.diag([1, -2, 1, 1.0])))
    zo.write(scene, tmp_path / "plain.glb")
    notes = zo.write(scene, tmp_path / "packed.glb", compressed=True)
    assert (tmp_path / "packed.glb").stat().st_size < 0.8 * (tmp_path / "plain.glb").stat().st_size
    assert f"readers must know {EXTENSION}" in texts(notes)
    plain, packed = (
        sorted(repr(one) for one in turned_to_the_lowest(polygons(path)))
        for path in (tmp_path / "plain.glb", without_packing(tmp_path / "packed.glb"))
    )
    assert plain == packed
    assert zo.audit.arrived(scene, tmp_path / "packed.glb").problems == ()
    zo.write(scene, tmp_path / "packed.gltf", compressed=True, quantized=True)
    assert np.abs(zo.read(tmp_path / "packed.gltf").bounds() - scene.bounds()).max() < 25 / 65535


def turned_to_the_lowest(polygons):
    """Polygons that begin at their lowest corner."""
    for rows, material in polygons:
        three = np.asarray(rows).tolist()
        first = three.index(min(three))
        yield three[first:] + three[:first], material


def test_indices_and_filters(tmp_path):
    normals = np.array([[0, 0, 127, 0], [127, 0, 127, 0], [-20, 60, 127, 0], [-100, -80, 127, 0]], np.int8)
    halves = np.array(
        [
            [3 << 24 | 5, (-2 % 256) << 24 | 12, 0],
            [0, 0, 0],
            [1, 2, 3],
            [(-1 % 256) << 24 | (-7 % (1 << 24)), 0, 1 << 24 | 9],
        ],
        "<u4",
    )
    views = [
        (packed_attributes(halves.view(np.uint8)), {"count": 4, "byteStride": 12, "mode": "ATTRIBUTES", "filter": "EXPONENTIAL"}),
        (packed_attributes(normals.view(np.uint8)), {"count": 4, "byteStride": 4, "mode": "ATTRIBUTES", "filter": "OCTAHEDRAL"}),
        (packed_indices([0, 1, 2, 3, 2, 1]), {"count": 6, "byteStride": 2, "mode": "INDICES"}),
    ]  # fmt: skip
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
        {"bufferView": 1, "componentType": 5120, "count": 4, "type": "VEC3", "normalized": True},
        {"bufferView": 2, "componentType": 5123, "count": 6, "type": "SCALAR"},
    ]
    mesh = zo.read(
        gltf_of(tmp_path, views, accessors, {"attributes": {"POSITION": 0, "NORMAL": 1}, "indices": 2})
    ).meshes[0]
    points = mesh.points[mesh.corner_point]
    assert points.tolist() == [[40, 3, 0], [0, 0, 0], [1, 2, 3], [-3.5, 0, 18], [1, 2, 3], [0, 0, 0]]
    # Laid flat: the corner (-100, -80) is folded over from below.
    expected = np.array([[0, 0, 127], [127, 0, 0], [-20, 60, 47], [-47, -27, -53]], float)
    expected /= np.linalg.norm(expected, axis=1, keepdims=True)
    found = mesh.normals.at_corners()
    assert np.allclose(found[:4] / np.linalg.norm(found[:4], axis=1, keepdims=True), expected, atol=0.012)


def test_damaged_views_are_read_or_refused(tmp_path):
    points, triangles = sheet(9)
    parts = [packed_attributes(points.view(np.uint8)), packed_triangles(triangles.ravel().tolist())]
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": len(points), "type": "VEC3"},
        {"bufferView": 1, "componentType": 5125, "count": triangles.size, "type": "SCALAR"},
    ]
    refused = 0
    for seed in range(200):
        chance = random.Random(seed)
        bad = [bytearray(one) for one in parts]
        which = chance.randrange(2)
        for _ in range(chance.choice((1, 2, 6))):
            bad[which][chance.randrange(len(bad[which]))] = chance.randrange(256)
        if seed % 5 == 0:
            del bad[which][chance.randrange(1, len(bad[which])) :]
        modes = (
            {"count": len(points), "byteStride": 12, "mode": "ATTRIBUTES"},
            {"count": triangles.size, "byteStride": 4, "mode": "TRIANGLES"},
        )
        path = gltf_of(
            tmp_path,
            [(bytes(one), about) for one, about in zip(bad, modes, strict=True)],
            accessors,
            {"attributes": {"POSITION": 0}, "indices": 1},
        )
        try:
            zo.read(path)
        except zo.ZestyOtterError as error:
            refused += 1
            assert str(error)
    assert 20 < refused < 200


KTX2 = b"\xabKTX 20\xbb\r\n\x1a\n" + bytes(68)


def test_textures_for_the_graphics_card_are_kept_and_never_keep_a_mesh_out(tmp_path):
    use = TextureUse(Texture("oak.ktx2", data=KTX2))
    scene = scene_of(cube(slots=(Material("oak", textures={"base_color": use}),)))
    zo.write(scene, tmp_path / "a.glb")
    found = Gltf(tmp_path / "a.glb").json
    assert found["extensionsRequired"] == ["KHR_texture_basisu"] and found["images"][0]["mimeType"] == "image/ktx2"
    assert (
        found["textures"][0]["extensions"] == {"KHR_texture_basisu": {"source": 0}}
        and "source" not in found["textures"][0]
    )
    back = zo.read(tmp_path / "a.glb")
    assert back.textures[0].read() == KTX2 and back.textures[0].name.endswith(".ktx2")
    zo.write(back, tmp_path / "b.gltf")
    assert [one.read_bytes() for one in tmp_path.rglob("*.ktx2")] == [KTX2]
    assert "which a package may not hold" in texts(zo.write(back, tmp_path / "a.usdz"))
    for ending in ("obj", "usda", "dae", "x3d"):
        notes = zo.write(back, tmp_path / ending / f"a.{ending}")
        assert "oak.ktx2' is for graphics cards" in texts(notes), ending
        assert zo.read(tmp_path / ending / f"a.{ending}", "m").meshes[0].face_count


@pytest.mark.parametrize(("kind", "extension"), [("WEBP", "EXT_texture_webp"), ("AVIF", "EXT_texture_avif")])
def test_smaller_textures_are_read_and_written_as_plain_ones(tmp_path, kind, extension):
    if not features.check(kind.lower()):
        pytest.skip(f"Pillow was built without {kind}")
    oak = Material("oak", textures={"base_color": TextureUse(Texture("oak.png", data=timber()))})
    zo.write(scene_of(cube(slots=(oak,))), tmp_path / "a.gltf")
    document = json.loads((tmp_path / "a.gltf").read_text())
    brown = Image.new("RGB", (8, 4), (150, 90, 40))
    brown.save(tmp_path / "brown", kind)
    document["images"].append({"uri": "brown", "mimeType": f"image/{kind.lower()}"})
    document["textures"][0]["extensions"] = {extension: {"source": 1}}
    document["extensionsUsed"] = [extension]
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    found = zo.read(tmp_path / "a.gltf")
    assert zo.pixels.inspect(found.textures[0].read()).kind == kind
    for ending in ("glb", "obj", "dae", "usda", "usdz", "x3d"):
        notes = texts(zo.write(found, tmp_path / ending / f"b.{ending}"))
        assert ending == "glb" or f"was turned from {kind} into PNG" in notes
        written = zo.read(tmp_path / ending / f"b.{ending}", "m").textures[0].read()
        assert zo.pixels.inspect(written) == zo.pixels.ImageInfo("PNG", 8, 4, "RGB")
        assert np.abs(np.asarray(zo.pixels.rgba(written), float)[..., :3].mean(axis=(0, 1)) - (150, 90, 40)).max() < 6
    # It may be required, and stand inside the file.
    del document["textures"][0]["source"]
    document["extensionsRequired"] = [extension]
    document["images"][1] = {
        "uri": f"data:image/{kind.lower()};base64,{base64.b64encode((tmp_path / 'brown').read_bytes()).decode()}"
    }
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    assert zo.read(tmp_path / "a.gltf").textures[0].name.endswith(f".{kind.lower()}")


def test_a_fallback_is_used_where_its_better_cannot_be_opened(tmp_path, monkeypatch):
    oak = Material("oak", textures={"base_color": TextureUse(Texture("oak.png", data=timber()))})
    zo.write(scene_of(cube(slots=(oak,))), tmp_path / "a.gltf")
    document = json.loads((tmp_path / "a.gltf").read_text())
    (tmp_path / "oak.avif").write_bytes(b"\0\0\0\x1cftypavif" + bytes(40))
    document["images"].append({"uri": "oak.avif"})
    document["textures"][0]["extensions"] = {"EXT_texture_avif": {"source": 1}}
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    monkeypatch.setattr("zesty_otter.pixels.images._others", lambda: ["WEBP", "TIFF", "TGA"])
    found = zo.read(tmp_path / "a.gltf")
    assert found.textures[0].read() == timber()
    del document["textures"][0]["source"]
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    notes = texts(zo.write(zo.read(tmp_path / "a.gltf"), tmp_path / "b.glb"))
    assert "'oak.avif' is not an image of a known kind (PNG, JPEG, WEBP, TGA, BMP, GIF, TIFF)" in notes


def test_a_fallback_goes_before_a_texture_for_the_graphics_card(tmp_path):
    zo.write(
        scene_of(
            cube(slots=(Material("oak", textures={"base_color": TextureUse(Texture("oak.png", data=timber()))}),))
        ),
        tmp_path / "a.gltf",
    )
    document = json.loads((tmp_path / "a.gltf").read_text())
    (tmp_path / "oak.ktx2").write_bytes(KTX2)
    document["images"].append({"uri": "oak.ktx2", "mimeType": "image/ktx2"})
    document["textures"][0]["extensions"] = {"KHR_texture_basisu": {"source": 1}}
    document["extensionsUsed"] = ["KHR_texture_basisu"]
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    assert zo.read(tmp_path / "a.gltf").textures[0].read() == timber()
    del document["textures"][0]["source"]
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    assert zo.read(tmp_path / "a.gltf").textures[0].read() == KTX2
