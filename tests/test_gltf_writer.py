from __future__ import annotations

import io
import json
import math

import numpy as np
import pytest
from PIL import Image

import zesty_otter as zo
from build import Gltf, cube, light, moved, obj, scene_of, texts, written
from test_mtl import TRIANGLE, png
from zesty_otter.model import Layer, Node

FACE_NORMALS = np.array([[0, 0, -1], [0, 0, 1], [0, -1, 0], [0, 1, 0], [-1, 0, 0], [1, 0, 0]], float)


def test_a_cube_with_one_smoothing_group_needs_eight_vertices(tmp_path):
    attributes, triangles = written(scene_of(cube(face_smoothing=[1] * 6)), tmp_path).primitive()
    assert len(attributes["POSITION"]) == 8
    assert len(triangles) == 12
    # Each corner of a cube has three faces at right angles: the normal is the diagonal.
    outward = attributes["POSITION"] - 0.5
    assert np.allclose(attributes["NORMAL"], outward / np.linalg.norm(outward, axis=1)[:, None], atol=1e-6)


def test_a_hard_cube_needs_a_vertex_for_each_corner(tmp_path):
    gltf = written(scene_of(cube()), tmp_path)
    attributes, triangles = gltf.primitive()
    assert len(attributes["POSITION"]) == 24
    assert attributes["NORMAL"][triangles[::2, 0]].tolist() == FACE_NORMALS.tolist()
    about = gltf.json["accessors"][gltf.json["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
    assert (about["min"], about["max"]) == ([0, 0, 0], [1, 1, 1])


def test_equal_values_under_different_indices_do_not_split_vertices(tmp_path):
    normals = Layer("normal", np.tile([0, 0, 2.0], (24, 1)), np.arange(24))
    uvs = Layer("uv", np.tile([0.25, 0.75], (24, 1)), np.arange(24)[::-1])
    attributes, _ = written(scene_of(cube(layers=(uvs, normals))), tmp_path).primitive()
    assert len(attributes["POSITION"]) == 8
    assert attributes["NORMAL"].tolist() == [[0, 0, 1]] * 8
    assert attributes["TEXCOORD_0"].tolist() == [[0.25, 0.25]] * 8  # glTF counts from the top


def test_slots_become_sections_in_their_order_and_empty_ones_do_not(tmp_path):
    slots = (zo.Material("b"), zo.Material("unused"), None, zo.Material("a"))
    gltf = written(scene_of(cube(slots=slots, face_slot=[3, 0, 2, 0, 3, 0])), tmp_path)
    primitives = gltf.json["meshes"][0]["primitives"]
    names = [gltf.json["materials"][p["material"]]["name"] if "material" in p else None for p in primitives]
    assert names == ["b", None, "a"]
    assert [len(gltf.primitive(0, k)[1]) for k in range(3)] == [6, 2, 4]


def test_holes_in_layers_are_filled(tmp_path):
    index = np.where(np.arange(24) < 4, 0, -1)
    layers = (Layer("uv", [[0, 1]], index), Layer("color", [[0, 0, 1]], index), Layer("normal", [[0, 1, 0]], index))
    attributes, triangles = written(scene_of(cube(layers=layers)), tmp_path).primitive()
    first, last = triangles[0, 0], triangles[-1, 0]
    assert attributes["NORMAL"][[first, last]].tolist() == [[0, 1, 0], [1, 0, 0]]
    assert attributes["COLOR_0"][[first, last]].tolist() == [[0, 0, 1], [1, 1, 1]]


@pytest.mark.parametrize(("side", "width"), [(254, 5123), (255, 5125)])
def test_indices_are_as_narrow_as_they_can_be(tmp_path, side, width):
    # (254 + 1) ** 2 = 65,025 vertices fit 16 bits; 65,536 do not, because the last value is reserved.
    grid = np.stack(np.meshgrid(np.arange(side + 1.0), np.arange(side + 1.0)), -1).reshape(-1, 2)
    first = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).ravel()
    corners = np.stack([first, first + 1, first + side + 2, first + side + 1], 1).ravel()
    mesh = zo.Mesh(
        "grid",
        np.c_[grid, np.zeros(len(grid))],
        np.arange(0, len(corners) + 1, 4),
        corners,
        face_smoothing=np.ones(side * side),
    )
    gltf = written(scene_of(mesh), tmp_path)
    assert gltf.json["accessors"][gltf.json["meshes"][0]["primitives"][0]["indices"]]["componentType"] == width
    attributes, triangles = gltf.primitive()
    assert len(attributes["POSITION"]) == len(grid)
    assert triangles.max() == len(grid) - 1


def test_the_tree_is_written_once_for_shared_meshes(tmp_path):
    mesh = cube()
    turned = np.array([[0, -2, 0, 5], [2, 0, 0, 0], [0, 0, 2, 0], [0, 0, 0, 1.0]])
    leaf = Node("leaf", turned, content=mesh, properties={"tide": 3})
    gltf = written(scene_of(Node("root", moved(1, 2, 3), (leaf, Node("other"))), Node("again", content=mesh)), tmp_path)
    nodes = gltf.json["nodes"]
    assert [node["name"] for node in nodes] == ["root", "leaf", "other", "again"]
    assert nodes[0]["children"] == [1, 2]
    assert gltf.json["scenes"][0]["nodes"] == [0, 3]
    assert nodes[0]["translation"] == [1, 2, 3]
    assert (nodes[1]["translation"], nodes[1]["scale"]) == ([5, 0, 0], [2, 2, 2])
    assert nodes[1]["rotation"] == pytest.approx([0, 0, 0.5**0.5, 0.5**0.5], abs=1e-12)
    assert nodes[1]["extras"] == {"tide": 3}
    assert "translation" not in nodes[3]
    assert len(gltf.json["meshes"]) == 1


def test_shear_is_baked_because_gltf_nodes_cannot_have_it(tmp_path):
    shear = np.eye(4)
    shear[0, 1] = 0.5
    mesh = cube()
    leaf = Node("leaf", moved(0, 2, 0), content=mesh)
    scene = scene_of(Node("top", moved(3, 0, 0) @ shear, (leaf,), mesh), Node("plain", content=mesh))
    gltf = written(scene, tmp_path)
    assert [set(node) - {"name", "children", "mesh"} for node in gltf.json["nodes"]] == [{"translation"}] * 2 + [set()]
    assert gltf.json["nodes"][1]["translation"] == [1, 2, 0]
    assert np.allclose(zo.read(tmp_path / "out.glb").bounds(), scene.bounds())
    assert "top, leaf" in texts(zo.write(scene, tmp_path / "again.glb"))
    assert zo.audit.arrived(scene, tmp_path / "out.glb").problems == ()


def material_json(folder, statements, **images):
    for name, pixels in images.items():
        (folder / f"{name}.png").write_bytes(png(pixels))
    scene = zo.read(obj(folder, TRIANGLE, mtl=f"newmtl m\n{statements}\n"), unit="m")
    gltf = written(scene, folder)
    return gltf, gltf.json["materials"][0]


@pytest.mark.parametrize(
    ("statements", "expected"),
    [
        ("Kd 1 1 1\nPm 1\nPr 1", {"pbrMetallicRoughness": {}}),
        (
            "Kd 1 .5 0\nPm 0\nPr .5\nd .5",
            {
                "alphaMode": "BLEND",
                "pbrMetallicRoughness": {
                    "baseColorFactor": pytest.approx([1, *light(0.5), 0, 0.5]),
                    "metallicFactor": 0,
                    "roughnessFactor": 0.5,
                },
            },
        ),
        (
            "Kd 1 1 1\nPm 1\nKe 4 2 0",
            {
                "emissiveFactor": pytest.approx([1, *light(0.5), 0]),
                "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 4}},
                "pbrMetallicRoughness": {},
            },
        ),
        (
            "Kd 1 1 1\nPm 1\nPc .5\nPcr .25",
            {
                "extensions": {"KHR_materials_clearcoat": {"clearcoatFactor": 0.5, "clearcoatRoughnessFactor": 0.25}},
                "pbrMetallicRoughness": {},
            },
        ),
    ],
)
def test_factors(tmp_path, statements, expected):
    gltf, made = material_json(tmp_path, statements)
    assert made == {"name": "m", **expected}
    assert gltf.json.get("extensionsUsed", []) == sorted(expected.get("extensions", {}))


def pixel(gltf, number):
    return Image.open(io.BytesIO(gltf.image(number))).getpixel((0, 0))


def test_one_image_used_twice_is_stored_once(tmp_path):
    gltf, made = material_json(
        tmp_path, "map_Kd a.png\nmap_Ke a.png\nnorm b.png", a=[[[9, 9, 9]]], b=[[[128, 128, 255]]]
    )
    assert len(gltf.json["images"]) == 2
    assert made["emissiveTexture"]["index"] == made["pbrMetallicRoughness"]["baseColorTexture"]["index"]
    assert pixel(gltf, made["normalTexture"]["index"]) == (128, 128, 255)


def test_metal_and_rough_maps_are_packed(tmp_path):
    gltf, made = material_json(tmp_path, "map_Pm a.png\nmap_Pr b.png\nPr .5", a=[[200]], b=[[40, 40], [40, 40]])
    surface = made["pbrMetallicRoughness"]
    assert surface["roughnessFactor"] == 0.5
    assert "metallicFactor" not in surface
    assert pixel(gltf, surface["metallicRoughnessTexture"]["index"]) == (255, 40, 200)


def test_a_cut_out_map_joins_the_colour_map(tmp_path):
    gltf, made = material_json(tmp_path, "map_Kd a.png\nmap_d b.png", a=[[[1, 2, 3]]], b=[[0, 255], [255, 255]])
    assert made["alphaMode"] == "MASK"
    assert made["doubleSided"] is True
    image = Image.open(io.BytesIO(gltf.image(made["pbrMetallicRoughness"]["baseColorTexture"]["index"])))
    assert image.mode == "RGBA"
    assert image.getpixel((0, 0))[:3] == (1, 2, 3)


def test_the_placing_of_a_texture_is_turned_to_count_from_the_top(tmp_path):
    gltf, made = material_json(tmp_path, "map_Kd -s 2 4 -o .5 .25 -clamp on a.png", a=[[[1, 2, 3]]])
    use = made["pbrMetallicRoughness"]["baseColorTexture"]
    # v' = 4 v + 0.25 from below is 1 - v' = 4 (1 - v) + (1 - 4 - 0.25) from above.
    assert use["extensions"]["KHR_texture_transform"] == {"offset": [0.5, -3.25], "scale": [2, 4]}
    assert gltf.json["samplers"][0]["wrapS"] == 33071


def test_other_image_formats_are_turned_into_png_and_damaged_ones_left_out(tmp_path):
    Image.new("RGB", (2, 2), (7, 8, 9)).save(tmp_path / "a.bmp")
    (tmp_path / "b.png").write_bytes(b"\x89PNG\r\n\x1a\nnonsense")
    scene = zo.read(obj(tmp_path, TRIANGLE, mtl="newmtl m\nmap_Kd a.bmp\nmap_Ke b.png\n"), unit="m")
    notes = zo.write(scene, tmp_path / "out.glb")
    gltf = Gltf(tmp_path / "out.glb")
    assert pixel(gltf, 0) == (7, 8, 9)
    assert len(gltf.json["images"]) == 1
    assert "turned from BMP into PNG" in texts(notes)
    assert "'b.png' is damaged" in texts(notes) or "'b.png' is not an image" in texts(notes)


def test_a_gltf_file_lays_its_parts_beside_it(tmp_path):
    (tmp_path / "src").mkdir()
    (tmp_path / "src" / "a b.png").write_bytes(png([[[1, 2, 3]]]))
    scene = zo.read(obj(tmp_path / "src", TRIANGLE, mtl="newmtl m\nmap_Kd a b.png\n"), unit="m")
    zo.write(scene, tmp_path / "new" / "my gate.gltf")
    assert sorted(p.relative_to(tmp_path / "new").as_posix() for p in (tmp_path / "new").rglob("*") if p.is_file()) == [
        "my gate.bin",
        "my gate.gltf",
        "my gate_textures/a_b.png",
    ]
    document = json.loads((tmp_path / "new" / "my gate.gltf").read_text())
    assert document["buffers"][0]["uri"] == "my%20gate.bin"
    assert document["images"][0]["uri"] == "my%20gate_textures/a_b.png"
    assert zo.audit.inspect_glb(tmp_path / "new" / "my gate.gltf").triangles == 1


def test_the_same_scene_gives_the_same_bytes(tmp_path):
    scene = scene_of(cube(slots=(zo.Material("a"), zo.Material("b")), face_slot=[0, 1, 0, 1, 1, 0]))
    written(scene, tmp_path, "a.glb")
    written(scene, tmp_path, "b.glb")
    assert (tmp_path / "a.glb").read_bytes() == (tmp_path / "b.glb").read_bytes()


def test_a_scene_without_faces_is_not_written(tmp_path):
    with pytest.raises(zo.InputError, match="nothing to write"):
        zo.write(scene_of(Node("empty")), tmp_path / "x.glb")
    assert not list(tmp_path.iterdir())


def test_quantized_positions_are_where_they_were_to_a_65535th(tmp_path):
    uvs = Layer("uv", np.array([[0, 0], [1, 0], [0.5, 1]]), np.arange(24) % 3)
    mesh = cube((1, 2, 4), layers=(uvs,))
    below = Node("below", moved(0, 0, 1), content=mesh)
    scene = scene_of(Node("above", moved(7, 0, 0), content=mesh, children=(below,)))
    notes = zo.write(scene, tmp_path / "q.glb", quantized=True)
    gltf = Gltf(tmp_path / "q.glb")
    assert gltf.json["extensionsRequired"] == ["KHR_mesh_quantization"]
    kinds = {
        name: gltf.json["accessors"][n] for name, n in gltf.json["meshes"][0]["primitives"][0]["attributes"].items()
    }
    assert {name: (one["componentType"], one.get("normalized", False)) for name, one in kinds.items()} == {
        "POSITION": (5123, False),
        "NORMAL": (5120, True),
        "TEXCOORD_0": (5123, True),
    }
    assert kinds["POSITION"]["max"] == [round(65535 / 4), round(65535 / 2), 65535]
    assert all(view.get("byteStride", 4) % 4 == 0 for view in gltf.json["bufferViews"])
    found = zo.read(tmp_path / "q.glb")
    assert np.abs(found.bounds() - scene.bounds()).max() < 4 / 65535
    assert [one.path[-1] for one in found.walk()] == ["above", "above_quantized", "below"]
    assert "up to 0.03052 mm" in texts(notes)
    assert zo.audit.arrived(scene, tmp_path / "q.glb", quantized=True).problems == ()
    assert zo.audit.arrived(scene, tmp_path / "q.glb").problems != ()


@pytest.mark.parametrize(("said", "meant"), [(True, True), ("yes", True), (False, False), ("no", False)])
def test_settings_are_values_or_the_words_for_them(tmp_path, said, meant):
    zo.write(scene_of(cube()), tmp_path / "q.glb", quantized=said)
    assert ("KHR_mesh_quantization" in Gltf(tmp_path / "q.glb").json.get("extensionsRequired", [])) is meant
    with pytest.raises(zo.UsageError, match=r"cannot be 'perhaps'\. Say no or yes\."):
        zo.write(scene_of(cube()), tmp_path / "q.glb", quantized="perhaps")


def test_only_gltf_can_be_quantized(tmp_path):
    with pytest.raises(
        zo.UsageError, match=r"OBJ with MTL: no setting is called 'quantized'. Only .glb, .gltf files have it"
    ):
        zo.write(scene_of(cube()), tmp_path / "q.obj", quantized=True)


def test_properties_that_are_no_numbers_are_left_out_and_said(tmp_path):
    said = {"weight": 12, "far": math.inf, "parts": [1.0, math.nan]}
    notes = zo.write(scene_of(Node("gate", content=cube(), properties=said)), tmp_path / "a.glb")
    assert dict(zo.read(tmp_path / "a.glb").roots[0].properties) == {"weight": 12}
    assert "properties of node 'gate' that are not finite numbers are left out: far, parts" in texts(notes)
