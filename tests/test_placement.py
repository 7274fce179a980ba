"""Where a texture lies: offset, rotation and scale together, worked out by each format's own formula."""

from __future__ import annotations

import json
import math
import re
import struct
from pathlib import Path

import numpy as np
import pytest
from lxml import etree

import zesty_otter as zo
from build import cube, scene_of, texts
from zesty_otter.demo.textures import timber
from zesty_otter.formats.placement import matrix_of, placed_by
from zesty_otter.model import Layer, Material, Texture, TextureUse

UVS = np.random.default_rng(7).random((24, 2)).astype(np.float32)
PLACES = [
    {"offset": (0.25, -0.5), "scale": (2.0, 3.0), "rotation": 0.7},
    {"offset": (0.25, 0.5)},
    {"scale": (2.0, 2.0), "rotation": -1.2},
    {"rotation": math.pi / 2, "scale": (1.0, -2.0)},
    {"scale": (3.0, 0.5)},
]  # fmt: skip


def placed(place: dict) -> zo.Scene:
    """A cube with a marked texture that lies somewhere."""
    use = TextureUse(Texture("mark.png", data=timber()), **place)
    return scene_of(
        cube(slots=(Material("m", textures={"base_color": use}),), layers=(Layer("uv", UVS, np.arange(24)),))
    )


def meant(place: dict) -> np.ndarray:
    """Where each corner looks the texture up: scaled, rotated to the left, moved; from the lower left corner."""
    (sx, sy), (ox, oy), turn = place.get("scale", (1, 1)), place.get("offset", (0, 0)), place.get("rotation", 0.0)
    c, s = math.cos(turn), math.sin(turn)
    u, v = UVS[:, 0] * sx, UVS[:, 1] * sy
    return np.stack([c * u - s * v + ox, s * u + c * v + oy], axis=1)


def numbers(text: str) -> np.ndarray:
    return np.array(re.findall(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", text), float)


def in_glb(path: Path) -> np.ndarray:
    """KHR_texture_transform: scaled, rotated counter-clockwise as seen, moved; from the upper left corner."""
    data = path.read_bytes()
    length = struct.unpack_from("<I", data, 12)[0]
    document, buffer = json.loads(data[20 : 20 + length]), data[28 + length :]
    primitive = document["meshes"][0]["primitives"][0]
    accessor = document["accessors"][primitive["attributes"]["TEXCOORD_0"]]
    view = document["bufferViews"][accessor["bufferView"]]
    uv = np.frombuffer(buffer, "<f4", 2 * accessor["count"], view.get("byteOffset", 0)).reshape(-1, 2)
    info = document["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"]
    about = info.get("extensions", {}).get("KHR_texture_transform", {})
    (sx, sy), (ox, oy) = about.get("scale", (1, 1)), about.get("offset", (0, 0))
    c, s = math.cos(about.get("rotation", 0)), math.sin(about.get("rotation", 0))
    u, v = uv[:, 0] * sx, uv[:, 1] * sy
    # To the left as seen is from +u towards -v, since v runs down.
    return np.stack([c * u + s * v + ox, 1 - (-s * u + c * v + oy)], axis=1)


def in_usda(path: Path) -> np.ndarray:
    """UsdTransform2d: in * scale * rotate + translation, degrees counter-clockwise, from the lower left corner."""
    text = path.read_text()
    table = numbers(re.search(r"texCoord2f\[\] primvars:st = \[(.*?)\]", text, re.DOTALL)[1]).reshape(-1, 2)
    index = re.search(r"primvars:st:indices = \[(.*?)\]", text, re.DOTALL)
    uv = table[numbers(index[1]).astype(int)] if index else table
    found = {k: numbers(v) for k, v in re.findall(r"inputs:(scale|translation|rotation) = (.*)", text)}
    turn = math.radians(found.get("rotation", [0])[0])
    turned = np.array([[math.cos(turn), -math.sin(turn)], [math.sin(turn), math.cos(turn)]])
    return (uv * found.get("scale", 1)) @ turned.T + found.get("translation", 0)


def in_obj(path: Path) -> np.ndarray:
    text = path.read_text()
    assert " -o " not in text + path.with_suffix(".mtl").read_text()
    table = np.array([numbers(line) for line in re.findall(r"^vt (.*)$", text, re.MULTILINE)])
    return table[[int(one) - 1 for one in re.findall(r"\d+/(\d+)", text)]]


def in_dae(path: Path) -> np.ndarray:
    root = etree.fromstring(path.read_bytes())
    space = {"c": root.nsmap[None]}
    (source,) = {one.get("source")[1:] for one in root.xpath("//c:input[@semantic='TEXCOORD']", namespaces=space)}
    table = numbers(root.xpath(f"//c:source[@id='{source}']/c:float_array", namespaces=space)[0].text).reshape(-1, 2)
    (inputs,) = {len(one.xpath("c:input", namespaces=space)) for one in root.xpath("//c:polylist", namespaces=space)}
    offset = int(root.xpath("//c:input[@semantic='TEXCOORD']", namespaces=space)[0].get("offset"))
    return table[numbers(root.xpath("//c:p", namespaces=space)[0].text).astype(int).reshape(-1, inputs)[:, offset]]


def in_x3d(path: Path) -> np.ndarray:
    root = etree.fromstring(path.read_bytes())
    assert not root.xpath("//TextureTransform")
    table = numbers(root.xpath("//TextureCoordinate/@point")[0]).reshape(-1, 2)
    index = numbers(root.xpath("//IndexedFaceSet/@texCoordIndex")[0]).astype(int)
    return table[index[index >= 0]]


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("reader", [in_glb, in_usda, in_obj, in_dae, in_x3d])
def test_a_texture_lies_where_it_lay(tmp_path, reader, place):
    ending = reader.__name__[3:]
    path = tmp_path / f"a.{ending}"
    zo.write(placed(place), path)
    found, expected = reader(path), meant(place)
    if ending == "glb":  # triangles, so that corners come in another order
        found, expected = (np.unique(np.round(one, 4), axis=0) for one in (found, expected))
    assert np.allclose(found, expected, atol=2e-4 if ending == "glb" else 1e-5)
    # And what is read says the same.
    scene = zo.read(path, "m")
    use = scene.materials[0].textures["base_color"]
    uv = scene.meshes[0].uv_sets[0].at_corners()
    back = uv @ matrix_of(use)[:, :2].T + matrix_of(use)[:, 2]
    assert np.allclose(
        np.sort(np.unique(np.round(back, 4), axis=0)[:, 0]),
        np.unique(np.round(meant(place), 4), axis=0)[:, 0],
        atol=2e-4,
    )


def test_a_use_is_taken_apart_and_put_together():
    for place in PLACES:
        use = TextureUse(Texture("a.png", data=timber()), **place)
        assert np.allclose(matrix_of(placed_by(use, matrix_of(use))), matrix_of(use))
    assert placed_by(use, np.array([[1.0, 0.5, 0], [0, 1, 0]])) is None


@pytest.mark.parametrize(
    ("about", "expected"),
    [
        # Moved, turned and stretched, in this order, between the centre added and taken away (ISO/IEC 19775-1, 18.4.8).
        ("translation='.5 0' scale='2 3'", lambda u, v: (2 * (u + 0.5), 3 * v)),
        ("translation='.5 0' rotation='1.5707963267948966' scale='2 3'", lambda u, v: (-2 * v, 3 * (u + 0.5))),
        ("center='.5 .5' rotation='3.141592653589793'", lambda u, v: (-1 - u, -1 - v)),
        ("rotation='.5' scale='2 3'", lambda u, v: (2 * (u * math.cos(0.5) - v * math.sin(0.5)), 3 * (u * math.sin(0.5) + v * math.cos(0.5)))),
    ],
)  # fmt: skip
def test_transforms_of_textures_in_x3d(tmp_path, about, expected):
    (tmp_path / "a.png").write_bytes(timber())
    (tmp_path / "a.x3d").write_text(
        f"""<X3D profile='Interchange' version='3.3'><Scene><Shape><Appearance><Material/><ImageTexture url='"a.png"'/>
        <TextureTransform {about}/></Appearance><IndexedFaceSet coordIndex='0 1 2 -1' texCoordIndex='0 1 2 -1'>
        <Coordinate point='0 0 0 1 0 0 0 1 0'/><TextureCoordinate point='0 0 1 0 .25 .75'/></IndexedFaceSet></Shape></Scene></X3D>"""
    )
    scene = zo.read(tmp_path / "a.x3d")
    matrix = matrix_of(scene.materials[0].textures["base_color"])
    found = scene.meshes[0].uv_sets[0].at_corners() @ matrix[:, :2].T + matrix[:, 2]
    assert np.allclose(found, [expected(u, v) for u, v in ((0, 0), (1, 0), (0.25, 0.75))], atol=1e-6)


def test_textures_that_lie_differently_on_one_set_are_told(tmp_path):
    texture = Texture("mark.png", data=timber())
    uses = {"base_color": TextureUse(texture, offset=(0.5, 0.0)), "emissive": TextureUse(texture, offset=(0.25, 0.0))}
    scene = scene_of(cube(slots=(Material("m", textures=uses),), layers=(Layer("uv", UVS, np.arange(24)),)))
    for ending, told in (("obj", True), ("x3d", True), ("glb", False)):
        notes = " ".join(map(str, zo.write(scene, tmp_path / f"a.{ending}")))
        assert ("its emissive texture lies where its others lie" in notes) == told


@pytest.mark.parametrize("ending", ["obj", "ply", "x3d"])
def test_where_there_is_one_uv_set_it_is_that_of_the_colour(tmp_path, ending):
    # Three faces have a texture on the second set, moved; the others on the first.
    other = np.random.default_rng(3).random((24, 2)).astype(np.float32)
    image = Texture("mark.png", data=timber())
    far = {"base_color": TextureUse(image, uv_set=1, offset=(0.5, 0.25)), "occlusion": TextureUse(image, channel="r")}
    slots = Material("far", textures=far), Material("near", textures={"base_color": TextureUse(image)})
    layers = Layer("uv", UVS, np.arange(24)), Layer("uv", other, np.arange(24))
    scene = scene_of(cube(slots=slots, layers=layers, face_slot=np.arange(6) // 3))
    path = tmp_path / f"a.{ending}"
    notes = texts(zo.write(scene, path))
    assert "has one UV set; the others are left out of cube" in notes
    assert ("'far': occlusion would lie on a UV set that is left out" in notes) == (ending != "ply")
    # PLY has no place for where a texture lies.
    offset = (0, 0) if ending == "ply" else (0.5, 0.25)
    wanted = np.concatenate([other[:12] + np.float32(offset), UVS[12:]])
    mesh = zo.read(path).meshes[0]
    assert np.allclose(mesh.uv_sets[0].at_corners(), wanted, atol=1e-6) and len(mesh.uv_sets) == 1
    carried, _ = zo.formats.format_of(path).carried(scene)
    assert zo.audit.arrived(carried, path).problems == ()
