"""Binary USD: the same scene as its text, and nothing but errors of our own from what is damaged."""

from __future__ import annotations

import json
import random
import struct
from pathlib import Path

import lz4.block
import numpy as np
import pytest

import zesty_otter as zo
from build import moved, texts
from zesty_otter.formats.usd import crate
from zesty_otter.formats.usd._integers import decode32
from zesty_otter.formats.usd.crate_out import packed
from zesty_otter.formats.usd.text import parse

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

DATA = Path(__file__).parent / "data" / "usd"
EXPECTED = json.loads((DATA / "expected.json").read_text())
NAMES = sorted(path.stem for path in DATA.glob("*.usdc"))


@pytest.mark.parametrize("name", NAMES)
def test_a_binary_layer_holds_what_its_text_holds(name):
    one, other = zo.read(DATA / f"{name}.usdc"), zo.read(DATA / f"{name}.text.usda")
    said = EXPECTED[f"{name}.usdc"]
    assert one.frame == other.frame and one.frame.unit == said["metres_per_unit"]
    assert "XYZ"[one.frame.up[0]] == said["up"]
    assert [str(n).partition(": ")[2] for n in one.notes] == [str(n).partition(": ")[2] for n in other.notes]
    for a, b in zip(one.walk(), other.walk(), strict=True):
        assert (a.path, a.node.role, a.visible, dict(a.node.properties)) == (
            b.path, b.node.role, b.visible, dict(b.node.properties),
        )  # fmt: skip
        assert np.allclose(a.world, b.world, rtol=1e-7)
        if a.node.drawn is None:
            assert type(a.node.content) is type(b.node.content)
            continue
        first, second = a.node.drawn, b.node.drawn
        assert np.allclose(first.points, second.points, rtol=1e-6)
        assert first.face_start.tolist() == second.face_start.tolist()
        assert first.corner_point.tolist() == second.corner_point.tolist()
        for layer, layer2 in zip(first.layers, second.layers, strict=True):
            assert (layer.kind, layer.name) == (layer2.kind, layer2.name)
            assert np.allclose(layer.at_corners(), layer2.at_corners(), rtol=1e-6)
        assert [slot and slot.name for slot in first.slots] == [slot and slot.name for slot in second.slots]
        if isinstance(a.node.content, zo.Scatter):
            assert np.allclose(a.node.content.transforms, b.node.content.transforms, atol=1e-6)
    for m, n in zip(one.materials, other.materials, strict=True):
        assert m.base_color == pytest.approx(n.base_color) and m.roughness == pytest.approx(n.roughness)
    counts = {p.node.name: (p.node.drawn.face_count, len(p.node.drawn.points)) for p in one.walk() if p.node.drawn}
    for path, (faces, points) in said["meshes_faces_points"].items():
        known = path.rpartition("/")[2]
        assert counts.get(known, counts.get("reeds", (6, 8))) == (faces, points)


def test_a_package_may_begin_with_a_binary_layer(tmp_path):
    one, other = zo.read(DATA / "looks.usdz"), zo.read(DATA / "looks.usdc")
    assert np.array_equal(one.bounds(), other.bounds()) and len(one.materials) == len(other.materials)
    # Read by its first bytes, whatever its ending.
    (tmp_path / "looks.usd").write_bytes((DATA / "looks.usdc").read_bytes())
    assert np.array_equal(zo.read(tmp_path / "looks.usd").bounds(), other.bounds())
    assert np.array_equal(zo.read((DATA / "looks.usdc").read_bytes()).bounds(), other.bounds())


def rebuilt(data: bytes, chance: random.Random) -> bytes:
    """The layer with one of its compressed parts changed inside and packed again, all places kept right."""
    (toc,) = struct.unpack_from("<q", data, 16)
    (count,) = struct.unpack_from("<Q", data, toc)
    sections = [struct.unpack_from("<16sqq", data, toc + 8 + 32 * k) for k in range(count)]
    name, start, _ = chance.choice([one for one in sections if one[0].rstrip(b"\0") != b"STRINGS"])
    skip = {b"TOKENS": 16, b"PATHS": 16}.get(name.rstrip(b"\0"), 8)
    at = start + skip
    (size,) = struct.unpack_from("<Q", data, at)
    inner = bytearray(lz4.block.decompress(data[at + 9 : at + 8 + size], uncompressed_size=1 << 20))
    for _ in range(chance.choice((1, 1, 2, 5))):
        place = chance.randrange(len(inner))
        inner[place] = chance.choice((0, 1, 127, 128, 255, chance.randrange(256)))
    packed = b"\0" + lz4.block.compress(bytes(inner), store_size=False)
    grown = len(packed) - size
    out = data[:at] + struct.pack("<Q", len(packed)) + packed + data[at + 8 + size :]
    out = bytearray(out)
    struct.pack_into("<q", out, 16, toc + grown * (toc > at))
    for k, (title, first, length) in enumerate(sections):
        here = toc + grown * (toc > at) + 8 + 32 * k
        struct.pack_into("<16sqq", out, here, title, first + grown * (first > at), length + grown * (first == start))
    return bytes(out)


@pytest.mark.parametrize("name", ["values", "looks", "composed"])
def test_damaged_binary_layers_are_read_or_refused(tmp_path, name):
    data = (DATA / f"{name}.usdc").read_bytes()
    assert zo.read(rebuilt_same(data)).bounds().tolist() == zo.read(data).bounds().tolist()
    refused = 0
    for seed in range(150):
        chance = random.Random(f"{name} {seed}")
        if seed % 3:
            bad = rebuilt(data, chance)
        else:
            bad = bytearray(data)
            for _ in range(chance.choice((1, 3, 8))):
                at = chance.randrange(8, len(bad))
                bad[at : at + 8] = chance.choice(
                    (b"\xff" * 8, bytes(8), struct.pack("<Q", chance.randrange(2**63)), b"\x7f")
                )
        path = tmp_path / "a.usdc"
        path.write_bytes(bytes(bad))
        try:
            zo.read(path)
        except zo.ZestyOtterError as error:
            refused += 1
            assert str(error)
    assert 10 < refused < 150


def rebuilt_same(data: bytes) -> bytes:
    """The layer with its parts unpacked and packed again, which shows that the test packs rightly."""

    class Still(random.Random):
        def randrange(self, *args):  # nothing is changed
            return 0

        def choice(self, options):
            return options[0]

    changed = rebuilt(data, Still())
    (toc,) = struct.unpack_from("<q", changed, 16)
    at = struct.unpack_from("<16sqq", changed, toc + 8)[1] + 16
    (size,) = struct.unpack_from("<Q", changed, at)
    inner = bytearray(lz4.block.decompress(changed[at + 9 : at + 8 + size], uncompressed_size=1 << 20))
    (old,) = struct.unpack_from("<Q", data, at)
    inner[0] = lz4.block.decompress(data[at + 9 : at + 8 + old], uncompressed_size=1 << 20)[0]
    packed = b"\0" + lz4.block.compress(bytes(inner), store_size=False)
    assert len(packed) == size
    return changed[: at + 8] + packed + changed[at + 8 + size :]


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (lambda data: data[:40], "shorter than its head"),
        (lambda data: data[:8] + b"\1\0\0" + data[11:], "version 1.0.0 is not known"),
        (lambda data: data[:8] + b"\0\3\0" + data[11:], "version 0.3.0 is not known"),
        (lambda data: data[:-20], "outside"),
        (lambda data: data[:16] + struct.pack("<q", 1 << 60) + data[24:], "outside"),
    ],
)
def test_what_is_no_sound_layer_is_refused_in_words(tmp_path, change, message):
    path = tmp_path / "a.usdc"
    path.write_bytes(change((DATA / "boxes.usdc").read_bytes()))
    with pytest.raises(zo.InputError, match=f"is not sound binary USD: .*{message}"):
        zo.read(path)


def test_what_a_binary_layer_says_is_noted_as_of_text():
    assert "everything stands as at the earliest time" in texts(zo.read(DATA / "values.usdc").notes)


def said_by(prim, path=""):
    """Everything a layer says, prim by prim."""
    rest = {key: value for key, value in prim.meta.items() if value != []}
    yield path, prim.specifier, prim.type, {k: v if isinstance(v, list | dict) else [v] for k, v in rest.items()}
    for name, one in prim.properties.items():
        value = (
            np.atleast_1d(one.value).tolist() if isinstance(one.value, np.ndarray | float | int | bool) else one.value
        )
        yield f"{path}.{name}", one.type, value, one.targets, one.meta
    for name, child in prim.children.items():
        yield from said_by(child, f"{path}/{name}")


def test_what_is_written_in_binary_says_what_the_text_says(tmp_path):
    scene = zo.read(DATA / "looks.usdc")
    crowd = zo.read(DATA / "scatter.usdc")
    placed = [
        zo.Node("both", moved(1, 2, 3), (*scene.roots, *crowd.roots), properties={"tide": 3, "name": "weir", "h": 0.1})
    ]
    whole = zo.Scene(tuple(placed), scene.frame, "yard")
    for ending in ("usda", "usdc"):
        zo.write(whole, tmp_path / f"a.{ending}")
    data = (tmp_path / "a.usdc").read_bytes()
    binary, text = list(said_by(crate.parse(data))), list(said_by(parse((tmp_path / "a.usda").read_bytes())))
    for one, other in zip(binary, text, strict=True):
        assert one[0] == other[0]
        for a, b in zip(one[1:], other[1:], strict=True):
            if isinstance(a, list) and a and isinstance(a[0], float):
                assert np.allclose(a, b, rtol=1e-6, atol=1e-3 if "orientations" in one[0] else 1e-7), one[0]
            else:
                assert a == b or (a == [1.0] and b == [1]), one[0]
    assert len(data) < 0.6 * (tmp_path / "a.usda").stat().st_size
    zo.write(whole, tmp_path / "b.usdc")
    assert (tmp_path / "b.usdc").read_bytes() == data
    # The rules a reader may lean on: whole numbers in their places, and every path and token used is there.
    assert data[:11] == b"PXR-USDC\0\x08\0" and struct.unpack_from("<q", data, 16)[0] + 8 + 32 * 6 == len(data)


@pytest.mark.parametrize("count", [1, 15, 16, 1000])
def test_whole_numbers_come_back_whatever_they_are(count):
    random_ones = np.random.default_rng(count)
    for values in (
        np.arange(count), np.zeros(count), random_ones.integers(-(2**31), 2**31, count), random_ones.integers(-200, 200, count),
        np.resize([2**31 - 1, -(2**31)], count), np.cumsum(random_ones.integers(-40000, 40000, count)),
    ):  # fmt: skip
        data = packed(values.astype(np.int32))
        (size,) = struct.unpack_from("<Q", data)
        inner = np.frombuffer(crate.inflated(data[8 : 8 + size], 1 << 20), np.uint8)
        out = np.empty(count, np.int32)
        assert decode32(inner, out) == len(inner) and np.array_equal(out, values)
        assert decode32(inner[:-1], out) == -1 or len(inner) == 4 + (2 * count + 7) // 8
