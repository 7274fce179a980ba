"""Compressed meshes: files of the standard's own implementation, streams made by hand, and damaged ones."""

import base64
import json
import random
import struct
from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import volume
from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.formats.gltf.packed import read_mesh
from zesty_otter.formats.gltf.packed.stream import Stream

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well
DATA = Path(__file__).parent / "data" / "draco"
EXPECTED = json.loads((DATA / "expected.json").read_text())
NUMBERS = {"ring_all": {"COLOR_0": 0, "TEXCOORD_0": 1, "NORMAL": 2, "POSITION": 3}}
NUMBERS["torn_ring"] = {"COLOR_0": 0, "TEXCOORD_0": 1, "NORMAL": 2, "POSITION": 3}
HEAD = b"DRACO\x02\x02\x01\x00\x00\x00"


def packed(data):
    return read_mesh(np.frombuffer(data, np.uint8))


def document_of(data, numbers, *, points, triangles, **primitive):
    types = {"COLOR_0": (5121, "VEC3"), "TEXCOORD_0": (5126, "VEC2")}
    accessors = []
    for key in numbers:
        component, kind = types.get(key, (5126, "VEC3"))
        accessors.append({"componentType": component, "count": points, "type": kind, "normalized": component == 5121})
    accessors.append({"componentType": 5125, "count": 3 * triangles, "type": "SCALAR"})
    primitive |= {
        "attributes": {key: n for n, key in enumerate(numbers)}, "indices": len(numbers),
        "extensions": {"KHR_draco_mesh_compression": {"bufferView": 0, "attributes": numbers}},
    }  # fmt: skip
    return {
        "asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [primitive]}], "accessors": accessors,
        "bufferViews": [{"buffer": 0, "byteLength": len(data)}],
        "buffers": [{"uri": "data:;base64," + base64.b64encode(data).decode(), "byteLength": len(data)}],
        "extensionsUsed": ["KHR_draco_mesh_compression"], "extensionsRequired": ["KHR_draco_mesh_compression"],
    }  # fmt: skip


def mesh_of(tmp_path, document):
    path = tmp_path / "a.gltf"
    path.write_text(json.dumps(document))
    return zo.read(path).meshes[0]


@pytest.mark.parametrize("name", sorted(path.stem for path in DATA.glob("*.drc")))
def test_compressed_meshes_have_their_known_answers(tmp_path, name):
    data, said = (DATA / f"{name}.drc").read_bytes(), EXPECTED[f"{name}.drc"]
    numbers = NUMBERS.get(name.rpartition("_")[0], {"POSITION": 0})
    mesh = mesh_of(tmp_path, document_of(data, numbers, points=said["points"], triangles=said["triangles"]))
    assert mesh.face_count == said["triangles"]
    size = 1e-6 * float(np.max(np.subtract(said["high"], said["low"])))
    assert np.allclose(mesh.surface_bounds, [said["low"], said["high"]], atol=size)
    assert volume(mesh) == pytest.approx(said["volume"], rel=1e-5, abs=size)
    corner = mesh.points[mesh.corner_point]
    assert np.allclose(corner.sum(axis=0), said["sum_of_corner_positions"], atol=size * len(corner))
    if len(numbers) > 1:
        uvs = mesh.uv_sets[0].at_corners().sum(axis=0, dtype=float) * (1, -1) + (0, len(corner))
        assert np.allclose(uvs, said["corner_uv_sum"], rtol=1e-5)
        colors = mesh.layers_of("color")[0].at_corners() * 255
        assert np.allclose(colors.sum(axis=0), said["corner_color_sum"], rtol=1e-5)
        normals = mesh.normals.at_corners().sum(axis=0, dtype=float)
        assert np.allclose(normals, said["corner_normal_sum"], atol=1e-5 * len(corner))
    # What a document has beside, such as shape variants, comes in this order.
    points = packed(data)[0][numbers["POSITION"]]
    assert len(points) == said["points"]
    assert points[[0, 1, len(points) // 2, -1]].tolist() == said["some_points"]


def test_one_mesh_is_the_same_however_it_is_compressed():
    # Both were made of the same torn ring; the order of their triangles differs, and that of their corners.
    found = []
    for level in (5, 10):
        attributes, corners = packed((DATA / f"torn_ring_level{level}.drc").read_bytes())
        rows = np.concatenate([attributes[n][corners].reshape(-1, 3, attributes[n].shape[1]) for n in (3, 1, 2, 0)], -1)
        turned = np.stack([np.roll(rows, k, axis=1).reshape(len(rows), -1) for k in range(3)])
        first = np.lexsort(turned.transpose(2, 0, 1)[:5][::-1], axis=0)[0]
        whole = turned[first, np.arange(len(rows))]
        found.append(whole[np.lexsort(whole.T)])
    assert np.array_equal(*found)


def attribute(kind, type_, width, held, number=7):
    """A group of one attribute."""
    return bytes([1, 1, kind, type_, width, 0, number, held])


SQUARE = HEAD + bytes([2, 4, 1, 0, 1, 2, 0, 2, 3])  # two triangles over four points


def test_values_are_quantized_steps_from_a_corner():
    values = [0, 1, 2, 3, 15, 0, 4, 5, 6, 7, 8, 9]
    data = SQUARE + attribute(0, 9, 3, 2) + bytes([0xFE, 0, 1, *(2 * one for one in values)])
    data += struct.pack("<4fB", -1, 0, 2, 30, 4)
    attributes, corners = packed(data)
    assert corners.tolist() == [0, 1, 2, 0, 2, 3]
    assert attributes[7].tolist() == (np.reshape(values, (4, 3)) * 2.0 + (-1, 0, 2)).tolist()


def test_corrections_that_leave_the_range_come_in_at_the_other_side():
    # 3; 3 + 14 is 16 too much; 1 - 5 is 16 too little; 12 and nothing more.
    data = SQUARE + attribute(4, 2, 1, 1) + bytes([0, 1, 0, 1, 6, 28, 9, 0]) + struct.pack("<2i", 0, 15)
    assert packed(data)[0][7].ravel().tolist() == [3, 1, 12, 12]


def test_directions_are_steps_on_an_unfolded_octahedron():
    # From the rim, whose middle is -x, to +y, to the middle, +x; steps below 0 are those of the other side.
    data = SQUARE + attribute(1, 9, 3, 3) + bytes([0, 2, 0, 1, 0, 0, 7, 0, 8, 0, 0, 0]) + struct.pack("<iB", 15, 4)
    expected = [[-1, 0, 0], [-0.0, 1, 0], [1, 0, 0], [1, 0, 0]]
    found = packed(data)[0][7]
    assert np.allclose(found, expected, atol=1e-6), found


def test_long_lists_of_corners_take_as_many_bytes_as_they_need():
    numbers = [0, 127, 128, 16383, 16384, 2097151]
    coded = b"\x00\x7f\x80\x01\xff\x7f\x80\x80\x01\xff\xff\x7f"
    stream = Stream(np.frombuffer(coded + b"\x05", np.uint8))
    assert stream.numbers(6).tolist() == numbers
    assert stream.whole() == 5
    with pytest.raises(UnsoundError, match="cut short"):
        Stream(np.frombuffer(b"\x80\x80", np.uint8)).numbers(1)


def test_frequencies_that_add_up_to_more_than_there_can_be_are_refused():
    # In 32 bits they would come to 4096 again, as they should.
    most = b"\xfe\xff\xff"  # two more bytes, and 2 ** 22 - 1
    counts = most * 1024 + struct.pack("<H", 5120 << 2 | 1)
    data = bytes([1, 1, 0x81, 0x08]) + counts + bytes([4, 0, 0, 0, 0x80])
    with pytest.raises(UnsoundError, match="damaged"):
        Stream(np.frombuffer(data, np.uint8)).symbols(5)


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"D", "cut short"),
        (b"DRAKO" + HEAD[5:], "does not begin as one"),
        (HEAD.replace(b"\x02\x02", b"\x02\x01"), "version 2.1, and only 2.2"),
        (HEAD.replace(b"\x02\x02\x01", b"\x02\x02\x00"), "no triangles"),
        (SQUARE.replace(b"\x02\x03", b"\x02\x09") + attribute(0, 9, 3, 2), "corners without points"),
        (SQUARE + attribute(0, 12, 3, 2), "a type that is not known"),
        (SQUARE + attribute(0, 9, 3, 2), "cut short"),
        (SQUARE + attribute(0, 9, 3, 2) + bytes([3, 1, 0, 1]) + bytes(99), "in a way that is not known"),
        (HEAD + b"\xff\xff\xff\xff\x7f\x04\x01", "damaged"),
    ],
)
def test_what_is_no_such_mesh_is_refused(tmp_path, data, message):
    with pytest.raises(UnsoundError, match=message):
        packed(data)
    with pytest.raises(zo.InputError, match=rf"a\.gltf.*{message}"):
        mesh_of(tmp_path, document_of(data, {"POSITION": 0}, points=4, triangles=2))


def test_a_mesh_lists_its_triangles_whatever_a_document_says_of_others(tmp_path):
    said = EXPECTED["two_pieces_level5.drc"]
    data = (DATA / "two_pieces_level5.drc").read_bytes()
    document = document_of(data, {"POSITION": 0}, points=said["points"], triangles=said["triangles"], mode=5)
    assert mesh_of(tmp_path, document).face_count == said["triangles"]


def test_an_attribute_that_is_not_there_is_missed(tmp_path):
    data = (DATA / "two_pieces_level5.drc").read_bytes()
    for number, kind, message in ((5, "POSITION", "lacks an attribute"), (0, "TEXCOORD_0", "TEXCOORD_0 of 3 numbers")):
        document = document_of(data, {kind: number}, points=320, triangles=640)
        with pytest.raises(zo.InputError, match=message):
            mesh_of(tmp_path, document)


@pytest.mark.parametrize("name", sorted(path.stem for path in DATA.glob("*.drc")))
def test_damaged_meshes_are_read_or_refused(name):
    whole = (DATA / f"{name}.drc").read_bytes()
    refused = 0
    for seed in range(200):
        chance = random.Random(f"{name}{seed}")
        data = bytearray(whole)
        for _ in range(chance.choice((1, 2, 6))):
            # Half of them near the beginning, where the counts are.
            data[chance.randrange(11, chance.choice((80, len(data))))] = chance.randrange(256)
        if seed % 5 == 0:
            del data[chance.randrange(1, len(data)) :]
        try:
            attributes, corners = packed(bytes(data))
        except UnsoundError:
            refused += 1
        else:
            assert all(corners.max(initial=0) < len(values) for values in attributes.values())
    assert refused > 40
