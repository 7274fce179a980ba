from __future__ import annotations

import base64
import copy
import json
import math
import struct

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import zesty_otter as zo
from build import Gltf, cube, moved, scene_of, texts, written
from test_mtl import png
from zesty_otter.model import Camera, Layer, Light, Node, Texture, TextureUse

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

FLOATS = {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}
INDICES = {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"}


def document(**rest):
    """A glTF document with one triangle; keyword arguments replace or add whole sections."""
    points = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0)], "<f4").tobytes()
    data = "data:application/octet-stream;base64," + base64.b64encode(points + struct.pack("<3HH", 0, 1, 2, 0)).decode()
    base = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": [0]}],
        "nodes": [{"name": "n", "mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "accessors": [
            FLOATS,
            INDICES,
        ],
        "bufferViews": [
            {"buffer": 0, "byteLength": 36},
            {"buffer": 0, "byteOffset": 36, "byteLength": 8},
        ],
        "buffers": [{"byteLength": len(points) + 8, "uri": data}],
    }
    return {**base, **rest}


def read(folder, content, name="a.gltf"):
    path = folder / name
    path.write_bytes(content if isinstance(content, bytes) else json.dumps(content).encode())
    return zo.read(path)


def packed(*arrays):
    """A buffer of arrays one after the other, and a view of each."""
    views, data = [], b""
    for array in arrays:
        views.append({"buffer": 0, "byteOffset": len(data), "byteLength": array.nbytes})
        data += array.tobytes() + bytes(-array.nbytes % 4)
    uri = "data:;base64," + base64.b64encode(data).decode()
    return {"bufferViews": views, "buffers": [{"byteLength": len(data), "uri": uri}]}


def test_a_triangle_with_its_tree(tmp_path):
    nodes = [
        {"name": "top", "children": [1], "scale": [2, 2, 2], "translation": [1, 0, 0]},
        {"mesh": 0, "rotation": [0, 0, 0.5**0.5, 0.5**0.5], "extras": {"tide": 4}},
    ]
    scene = read(tmp_path, document(nodes=nodes))
    assert scene.frame == zo.Frame("left up forward", "m")
    assert scene.roots[0].children[0].properties["tide"] == 4
    assert np.allclose(scene.bounds(), [[-1, 0, 0], [1, 2, 0]])


@pytest.mark.parametrize(
    ("mode", "index", "triangles"),
    [
        (4, [0, 1, 2, 3, 2, 1], [[0, 1, 2], [3, 2, 1]]),
        (5, [0, 1, 2, 3], [[0, 1, 2], [1, 3, 2]]),
        (5, [0, 1, 2, 2, 3], [[0, 1, 2], [2, 2, 3]][:1]),
        (6, [0, 1, 2, 3], [[1, 2, 0], [2, 3, 0]]),
        (1, [0, 1], None),
    ],
)
def test_lists_strips_and_fans(tmp_path, mode, index, triangles):
    points = np.random.default_rng(0).random((4, 3)).astype("<f4")
    scene = read(
        tmp_path,
        document(
            **packed(points, np.array(index, "u1")),
            accessors=[
                {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
                {"bufferView": 1, "componentType": 5121, "count": len(index), "type": "SCALAR"},
            ],
            meshes=[{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1, "mode": mode}]}],
        ),
    )
    mesh = scene.meshes[0]
    if triangles is None:
        assert mesh.face_count == 0
        assert "points and lines are not carried" in texts(scene.notes)
    else:
        assert mesh.corner_point.reshape(-1, 3).tolist() == triangles


def test_interleaved_normalised_and_sparse_accessors(tmp_path):
    rows = np.zeros(3, [("p", "<f4", 3), ("uv", "<u2", 2)])
    rows["p"] = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    rows["uv"] = [(0, 0), (65535, 0), (0, 13107)]
    about = packed(rows, np.array([1], "u1"), np.array([(5, 5, 5)], "<f4"))
    about["bufferViews"][0]["byteStride"] = 16
    sparse = {
        "count": 1,
        "indices": {"bufferView": 1, "componentType": 5121},
        "values": {"bufferView": 2},
    }
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3", "sparse": sparse},
        {"bufferView": 0, "byteOffset": 12, "componentType": 5123, "normalized": True, "count": 3, "type": "VEC2"},
    ]
    primitive = {"attributes": {"POSITION": 0, "TEXCOORD_0": 1}}
    mesh = read(tmp_path, document(**about, accessors=accessors, meshes=[{"primitives": [primitive]}])).meshes[0]
    assert mesh.points.tolist() == [[0, 0, 0], [5, 5, 5], [0, 1, 0]]
    assert mesh.uv_sets[0].values == pytest.approx(np.array([(0, 1), (1, 1), (0, 0.8)]))


def test_what_is_written_is_read_and_written_the_same(tmp_path):
    image = Texture("a.png", data=png([[[1, 2, 3]]]))
    shading = {"clearcoat": 0.5, "unlit": True}
    material = zo.Material(
        "iron",
        (0.5, 0.25, 1.0, 1.0),
        0.5,
        0.25,
        (2.0, 0.0, 0.0),
        "mask",
        0.25,
        True,
        shading=shading,
    ).with_textures(
        {
            "base_color": TextureUse(image, offset=(0.5, 0.25), scale=(2.0, 4.0), clamp=True),
            "metallic": TextureUse(image, channel="b"),
            "roughness": TextureUse(image, channel="g"),
            "normal": TextureUse(image, uv_set=1, strength=0.5),
        }
    )
    layers = (
        Layer("uv", np.random.default_rng(0).random((24, 2)), np.arange(24)),
        Layer("uv", np.random.default_rng(1).random((24, 2)), np.arange(24)),
        Layer("color", [[1, 0, 0], [0, 1, 0]], np.arange(24) % 2),
    )
    mesh = cube(layers=layers, slots=(material, None), face_slot=[0, 1, 0, 1, 0, 1])
    spot = Light("spot", "spot", (1.0, 0.5, 0.0), 100.0, 8.0, (0.1, 0.5))
    scene = scene_of(
        Node(
            "root",
            moved(1, 2, 3),
            (Node("lamp", content=spot), Node("eye", content=Camera("eye", False, 4.0, 1.5))),
            mesh,
        )
    )
    written(scene, tmp_path, "a.glb")
    first = zo.read(tmp_path / "a.glb")
    for name in ("b.glb", "c.gltf"):
        zo.write(first, tmp_path / name)
    assert (tmp_path / "a.glb").read_bytes() == (tmp_path / "b.glb").read_bytes()
    second = zo.read(tmp_path / "c.gltf")
    for again in (first, second):
        assert again.materials[0].textures["base_color"].offset == (0.5, 0.25)
        assert again.materials[0].emissive == (2, 0, 0)
        assert [child.kind for child in again.roots[0].children] == ["light", "camera"]
        assert again.roots[0].children[0].content.cone == (0.1, 0.5)
        assert [layer.kind for layer in again.meshes[0].layers] == ["uv", "uv", "color", "normal"]
        assert np.array_equal(again.bounds(), scene.bounds())


def test_lights_that_shine_elsewhere_get_a_node_that_aims_them(tmp_path):
    scene = scene_of(cube(), Node("sun", content=Light("sun", "directional", direction=(0.6, -0.8, 0.0))))
    written(scene, tmp_path)
    back = zo.read(tmp_path / "out.glb")
    baked = zo.apply(back, zo.steps.BakeTransforms()).roots[1].children[0].content
    assert baked.direction == pytest.approx((0.6, -0.8, 0.0), abs=1e-6)
    assert zo.audit.arrived(scene, tmp_path / "out.glb").problems == ()


def test_skins_animations_and_further_scenes_are_noted(tmp_path):
    extra = {
        "animations": [{}, {}],
        "skins": [{}],
        "scenes": [{"nodes": [0]}, {"nodes": []}],
        "extensionsUsed": ["X_y"],
    }
    notes = texts(read(tmp_path, document(**extra)).notes)
    for words in ("2 animations left out", "skins are left out", "1 further scene left out: 1", "not carried: X_y"):
        assert words in notes


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"asset": {"version": "1.0"}}, "is glTF 1.0; only 2.0"),
        ({"asset": {}}, "of no version"),
        ({"extensionsRequired": ["EXT_river"]}, "needs EXT_river"),
        ({"nodes": [{"children": [0]}]}, "below itself"),
        ({"nodes": [{"children": [1, 1]}, {}]}, "two parents"),
        ({"nodes": [{"mesh": 7}]}, r"refers to meshes\[7\], but there are 1"),
        ({"nodes": [{"mesh": -1}]}, r"not sound glTF: nodes\[0\].mesh is -1, not a whole number of 0 or more"),
        ({"nodes": [{"mesh": 0, "scale": ["a", 1, 1]}]}, r"nodes\[0\].scale\[0\] is 'a', not a number"),
        ({"nodes": [{"mesh": 0, "translation": [1e999, 0, 0]}]}, "not finite|not sound"),
        ({"bufferViews": [{"buffer": 0, "byteLength": 9999}, {"buffer": 0, "byteLength": 6}]}, "beyond its buffer"),
        ({"accessors": [{**FLOATS, "count": 10**9}] * 2}, "beyond its data"),
        ({"accessors": [{"componentType": 5126, "count": 4 * 10**9, "type": "VEC3"}] * 2}, "not in the file"),
        ({"accessors": [FLOATS, {**FLOATS, "byteOffset": 12, "componentType": 5125, "type": "SCALAR"}]}, "uses vertex"),
        ({"buffers": [{"byteLength": 99, "uri": "../secret.bin"}]}, "was not found"),
        ({"buffers": [{"byteLength": 99, "uri": "data:;base64,AAAA"}]}, "99 bytes were promised"),
        ({"buffers": [{"byteLength": 99}]}, "binary chunk that is not there"),
        ({"meshes": 5}, "meshes is 5, not a list"),
        ({"scenes": [{"nodes": "a"}]}, r"scenes\[0\].nodes is 'a', not a list"),
        ({"accessors": [{**FLOATS, "type": "VEC2"}, INDICES]}, r"accessors\[0\] is a VEC2 where VEC3 is needed"),
        ({"accessors": [FLOATS, {**FLOATS, "type": "SCALAR"}]}, "has indices that are not whole numbers"),
        ({"meshes": [{"primitives": [{}]}]}, r"meshes\[0\].primitives\[0\] has no 'attributes'"),
        ({"nodes": [{"camera": 0}], "cameras": [{"type": "perspective"}]}, r"cameras\[0\] has no 'perspective'"),
    ],
)  # fmt: skip
def test_files_that_are_not_sound_are_refused(tmp_path, change, message):
    (tmp_path.parent / "secret.bin").write_bytes(bytes(99))
    with pytest.raises(zo.InputError, match=message) as caught:
        read(tmp_path, document(**change))
    assert "a.gltf" in str(caught.value)


def places_in(content, place=()):
    """Where values are in a document, from the outermost in."""
    yield place
    pairs = content.items() if isinstance(content, dict) else enumerate(content) if isinstance(content, list) else ()
    for key, one in pairs:
        yield from places_in(one, (*place, key))


@pytest.mark.parametrize("odd", [None, True, -1, 7, 10**400, 1.5, math.inf, "a", [], [[]], {}, "VEC4", 5126])
def test_any_value_may_be_of_another_kind(tmp_path, odd):
    zo.write(scene_of(Node("a", content=cube()), Node("b", content=zo.Light("l", "spot"))), tmp_path / "whole.gltf")
    whole = json.loads((tmp_path / "whole.gltf").read_text())
    for place in places_in(whole):
        changed = copy.deepcopy(whole)
        at = changed
        for key in place[:-1]:
            at = at[key]
        if place:
            at[place[-1]] = odd
        (tmp_path / "b.gltf").write_text(json.dumps(changed if place else odd))
        try:
            zo.read(tmp_path / "b.gltf")
        except zo.InputError as error:
            assert "b.gltf" in str(error) or "whole.bin" in str(error)


@pytest.mark.parametrize("cut", [4, 11, 19, 60, -1])
def test_cut_off_files_are_refused(tmp_path, cut):
    zo.write(scene_of(cube()), tmp_path / "whole.glb")
    with pytest.raises(zo.InputError):
        read(tmp_path, (tmp_path / "whole.glb").read_bytes()[:cut], "cut.glb")


def test_triangles_without_finite_positions_are_skipped(tmp_path):
    points = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (np.nan, 0, 0)], "<f4")
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3"},
        {"bufferView": 1, "componentType": 5121, "count": 6, "type": "SCALAR"},
    ]
    scene = read(tmp_path, document(**packed(points, np.array([0, 1, 2, 1, 2, 3], "u1")), accessors=accessors))
    assert scene.meshes[0].face_count == 1
    assert "1 triangle without finite positions skipped" in texts(scene.notes)


@given(st.data())
def test_damaged_files_never_raise_anything_but_our_errors(tmp_path_factory, data):
    folder = tmp_path_factory.getbasetemp()
    binary = data.draw(st.booleans())
    if binary:
        scene = scene_of(cube(slots=(zo.Material("m"),)))
        path = folder / "damaged.glb"
        zo.write(scene, path)
        raw = bytearray(path.read_bytes())
    else:
        path = folder / "damaged.gltf"
        raw = bytearray(json.dumps(document(materials=[{"pbrMetallicRoughness": {}}])).encode())
    for _ in range(data.draw(st.integers(1, 8))):
        at = data.draw(st.integers(0, len(raw) - 1))
        raw[at : at + data.draw(st.integers(0, 2))] = data.draw(st.binary(max_size=3))
    path.write_bytes(bytes(raw))
    try:
        scene = zo.read(path)
    except zo.InputError:
        return
    assert all(np.isfinite(mesh.points).all() for mesh in scene.meshes)


def accessors(*arrays):
    """Accessors of arrays, one view each."""
    kinds = {"<f4": 5126, "<u2": 5123, "|u1": 5121}
    types = {1: "SCALAR", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
    return [
        {
            "bufferView": n,
            "componentType": kinds[a.dtype.str],
            "count": len(a),
            "type": types[a.shape[1] if a.ndim > 1 else 1],
        }
        for n, a in enumerate(arrays)
    ]


TRIANGLE = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0)], "<f4")


def test_skinned_meshes_stand_in_the_pose_of_their_joints(tmp_path):
    joints = np.array([[0, 0, 0, 0], [1, 0, 0, 0], [0, 1, 0, 0]], "|u1")
    weights = np.array([[1, 0, 0, 0], [1, 0, 0, 0], [0.5, 0.5, 0, 0]], "<f4")
    normals = np.tile(np.array([[0, 1, 0]], "<f4"), (3, 1))
    # Both joints were bound at the origin; the second now stands 10 along X and turned a quarter about Z.
    bind = np.tile(np.eye(4, dtype="<f4").ravel(), (2, 1))
    arrays = (TRIANGLE, joints, weights, normals, bind)
    content = document(
        nodes=[
            {"name": "rig", "children": [1, 2, 3], "scale": [2, 2, 2]},
            {"name": "skin", "mesh": 0, "skin": 0, "translation": [99, 99, 99]},
            {"name": "a"},
            {"name": "b", "translation": [5, 0, 0], "rotation": [0, 0, 0.5**0.5, 0.5**0.5]},
        ],
        skins=[{"joints": [2, 3], "inverseBindMatrices": 4}],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0, "JOINTS_0": 1, "WEIGHTS_0": 2, "NORMAL": 3}}]}],
        accessors=accessors(*arrays),
        **packed(*arrays),
    )
    scene = read(tmp_path, content)
    placed = next(one for one in scene.walk() if one.node.name == "skin")
    points = placed.node.mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3]
    # 2 * (0,0,0); 2 * ((5,0,0) + turned (1,0,0)); the mean of 2 * (0,1,0) and 2 * ((5,0,0) + turned (0,1,0)).
    assert np.allclose(points, [[0, 0, 0], [10, 2, 0], [4, 1, 0]], atol=1e-6)
    assert np.allclose(placed.node.mesh.normals.at_corners()[1], [-1, 0, 0], atol=1e-6)
    content["meshes"][0]["primitives"][0]["attributes"].pop("WEIGHTS_0")
    assert np.ptp(read(tmp_path, content).bounds(), axis=0).tolist() == [1, 1, 0]
    content["skins"][0]["joints"] = [2]
    content["meshes"][0]["primitives"][0]["attributes"]["WEIGHTS_0"] = 2
    with pytest.raises(zo.InputError, match="joint that is not there"):
        read(tmp_path, content)


def test_meshes_stand_as_the_weights_of_their_shape_variants_have_them(tmp_path):
    up, tilt = np.array([(0, 0, 2), (0, 0, 0), (0, 0, 0)], "<f4"), np.tile(np.array([[1, 0, 0]], "<f4"), (3, 1))
    normals = np.tile(np.array([[0, 0, 1]], "<f4"), (3, 1))
    arrays = (TRIANGLE, normals, up, tilt)
    content = document(
        nodes=[
            {"children": [1, 2, 3]},
            {"name": "a", "mesh": 0},
            {"name": "b", "mesh": 0, "weights": [1, 0]},
            {"name": "c", "mesh": 0, "weights": [0, 0]},
        ],
        meshes=[
            {
                "weights": [0.5, 1.0],
                "primitives": [
                    {"attributes": {"POSITION": 0, "NORMAL": 1}, "targets": [{"POSITION": 2}, {"NORMAL": 3}]}
                ],
            }
        ],
        accessors=accessors(*arrays),
        **packed(*arrays),
    )
    scene = read(tmp_path, content)
    found = {
        node.name: (node.mesh.points[0, 2], node.mesh.normals.at_corners()[0].tolist())
        for node in scene.roots[0].children
    }
    half = 0.5**0.5
    assert found == {"a": (1, pytest.approx([half, 0, half])), "b": (2, [0, 0, 1]), "c": (0, [0, 0, 1])}
    assert "meshes stand as their weights have them" in texts(scene.notes)


def test_instances_are_a_scatter_of_their_mesh(tmp_path):
    places, sizes = np.array([(1, 0, 0), (0, 0, 7)], "<f4"), np.array([(1, 1, 1), (2, 2, 2)], "<f4")
    extension = {"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": 1, "SCALE": 2}}}
    content = document(
        nodes=[{"name": "buoy", "mesh": 0, "translation": [0, 5, 0], "extensions": extension}],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0}}]}],
        extensionsRequired=["EXT_mesh_gpu_instancing"],
        accessors=accessors(TRIANGLE, places, sizes),
        **packed(TRIANGLE, places, sizes),
    )
    scene = read(tmp_path, content)
    (buoy,) = scene.roots
    assert buoy.kind == "scatter"
    assert buoy.content.transforms[:, :3, 3].tolist() == [[1, 0, 0], [0, 0, 7]]
    assert buoy.content.transforms[1, :3, :3].tolist() == (2 * np.eye(3)).tolist()
    assert scene.bounds().tolist() == [[0, 5, 0], [2, 7, 7]]


def test_what_materials_say_beyond_the_core_is_kept_and_written_back(tmp_path):
    from zesty_otter.demo.textures import timber

    (tmp_path / "wood.png").write_bytes(timber())
    extensions = {
        "KHR_materials_sheen": {"sheenColorFactor": [1, 0.5, 0], "sheenColorTexture": {"index": 0, "texCoord": 1}},
        "KHR_materials_clearcoat": {"clearcoatFactor": 0.5, "clearcoatTexture": {"index": 0}},
        "X_materials_moss": {"depth": 3, "layers": [{"name": "a"}]},
    }
    content = document(
        materials=[{"name": "m", "extensions": extensions}],
        textures=[{"source": 0}],
        images=[{"uri": "wood.png"}],
        extensionsUsed=[*extensions],
    )
    content["meshes"][0]["primitives"][0]["material"] = 0
    scene = read(tmp_path, content)
    assert "not carried" not in texts(scene.notes)
    zo.write(scene, tmp_path / "out" / "b.glb")
    found = Gltf(tmp_path / "out" / "b.glb").json
    kept = found["materials"][0]["extensions"]
    assert kept["KHR_materials_sheen"] == extensions["KHR_materials_sheen"]
    assert kept["X_materials_moss"] == extensions["X_materials_moss"]
    assert kept["KHR_materials_clearcoat"]["clearcoatTexture"] == {"index": 0}
    assert set(found["extensionsUsed"]) == set(extensions)
    assert len(found["images"]) == 1
    assert zo.audit.arrived(scene, tmp_path / "out" / "b.glb").problems == ()


@pytest.mark.parametrize(
    ("how", "pose", "place", "turned"),
    [
        ("LINEAR", "walk@1", [1, 0, 0], 45),
        ("LINEAR", "0.5", [0.5, 0, 0], 22.5),
        ("LINEAR", "walk@-3", [0, 0, 0], 0),
        ("LINEAR", "walk@99", [2, 0, 0], 90),
        ("STEP", "walk@1.9", [0, 0, 0], 0),
        ("CUBICSPLINE", "walk@1", [1, 0, 0], 45),
    ],
)
def test_animated_nodes_stand_still_at_the_moment_asked_for(tmp_path, how, pose, place, turned):
    times = np.array([0, 2], "<f4")
    places = np.array([(0, 0, 0), (2, 0, 0)], "<f4")
    turns = np.array([(0, 0, 0, 1), (0, 0, 0.5**0.5, 0.5**0.5)], "<f4")
    if how == "CUBICSPLINE":  # no slopes: eased, and half way in the middle
        places, turns = (np.stack([0 * v, v, 0 * v], axis=1).reshape(-1, v.shape[1]) for v in (places, turns))
    arrays = (TRIANGLE, times, places, turns)
    content = document(
        nodes=[{"name": "n", "mesh": 0, "scale": [3, 3, 3], "translation": [9, 9, 9]}],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0}}]}],
        animations=[
            {
                "name": "walk",
                "channels": [
                    {"sampler": 0, "target": {"node": 0, "path": "translation"}},
                    {"sampler": 1, "target": {"node": 0, "path": "rotation"}},
                    {"sampler": 1, "target": {"node": 0, "path": "weights"}},
                ],
                "samplers": [{"input": 1, "output": n, "interpolation": how} for n in (2, 3)],
            }
        ],
        accessors=accessors(*arrays),
        **packed(*arrays),
    )
    (tmp_path / "a.gltf").write_text(json.dumps(content))
    scene = zo.read(tmp_path / "a.gltf", pose=pose)
    matrix = scene.roots[0].transform
    assert np.allclose(matrix[:3, 3], place, atol=1e-6)
    assert np.degrees(np.arctan2(matrix[1, 0], matrix[0, 0])) == pytest.approx(turned, abs=1e-4)
    assert np.linalg.norm(matrix[:3, 0]) == pytest.approx(3)
    assert zo.read(tmp_path / "a.gltf").roots[0].transform[:3, 3].tolist() == [9, 9, 9]


@pytest.mark.parametrize(
    ("pose", "message"),
    [
        ("wlak@1", "there is no animation 'wlak'. Did you mean 'walk'"),
        ("walk@soon", "is not a pose"),
        ("nan", "is not a pose"),
    ],
)
def test_poses_that_are_not_there_are_refused(tmp_path, pose, message):
    content = document(animations=[{"name": "walk", "channels": [], "samplers": []}])
    (tmp_path / "a.gltf").write_text(json.dumps(content))
    with pytest.raises(zo.UsageError, match=message):
        zo.read(tmp_path / "a.gltf", pose=pose)
    (tmp_path / "a.obj").write_text("v 0 0 0\n")
    with pytest.raises(zo.UsageError, match="pose cannot be chosen"):
        zo.read(tmp_path / "a.obj", pose="walk@1")


def test_the_command_line_and_jobs_take_a_pose(tmp_path, run):
    content = document(animations=[{"name": "walk", "channels": [], "samplers": []}])
    (tmp_path / "a.gltf").write_text(json.dumps(content))
    assert run("convert", tmp_path / "a.gltf", tmp_path / "b.glb", "--pose", "walk@1").status == 0
    assert run("survey", tmp_path / "a.gltf", "--pose", "run@1").status == 2
    (tmp_path / "j.toml").write_text('[[sources]]\nfiles = "a.gltf"\npose = "run@1"\n[[outputs]]\nformats = "glb"\n')
    assert "there is no animation 'run'" in run("run", tmp_path / "j.toml").err


def test_any_scene_of_a_file_can_be_read(tmp_path, run):
    scenes = [{"name": "yard", "nodes": [0]}, {"nodes": [1]}, {"name": "weir", "nodes": [0, 1], "extras": {"n": 1}}]
    content = document(scenes=scenes, scene=1, nodes=[{"name": "post", "mesh": 0}, {"name": "lamp", "mesh": 0}])
    (tmp_path / "a.gltf").write_text(json.dumps(content))
    read = {which: zo.read(tmp_path / "a.gltf", scene=which) for which in (None, "yard", "1", "weir", "2")}
    roots = {which: [node.name for node in scene.roots] for which, scene in read.items()}
    assert roots == {None: ["lamp"], "yard": ["post"], "1": ["lamp"], "weir": ["post", "lamp"], "2": ["post", "lamp"]}
    assert [read[which].name for which in (None, "yard", "2")] == ["a", "yard", "weir"]
    assert read["weir"].properties == {"n": 1} and read["yard"].properties == {}
    assert "2 further scenes left out: yard, weir; choose" in read[None].notes[0].text
    for unknown in ("wier", "3", "-1"):
        with pytest.raises(zo.UsageError, match=f"no scene '{unknown}'.*There are yard, 1, weir"):
            zo.read(tmp_path / "a.gltf", scene=unknown)
    done = run("convert", tmp_path / "a.gltf", tmp_path / "b.glb", "--scene", "weir")
    assert done.status == 0 and len(zo.read(tmp_path / "b.glb").roots) == 2
    (tmp_path / "a.obj").write_text("v 0 0 0\n")
    assert "scene cannot be chosen" in run("survey", tmp_path / "a.obj", "--scene", "weir").err
    (tmp_path / "j.toml").write_text('[[sources]]\nfiles = "a.gltf"\nscene = "wier"\n[[outputs]]\nformats = "glb"\n')
    assert "no scene 'wier'" in run("run", tmp_path / "j.toml").err


def test_extras_of_nodes_meshes_and_scenes_travel_with_them(tmp_path):
    content = document(
        scenes=[{"nodes": [0], "extras": {"yard": "Otterweir"}}],
        nodes=[{"name": "buoy", "mesh": 0, "extras": {"lamp": True}}],
        meshes=[{"primitives": [{"attributes": {"POSITION": 0}}], "extras": {"batch": [1, 2]}}],
        accessors=accessors(TRIANGLE),
        **packed(TRIANGLE),
    )
    scene = read(tmp_path, content)
    zo.write(scene, tmp_path / "again.glb")
    for found in (scene, zo.read(tmp_path / "again.glb")):
        kept = [dict(one.properties) for one in (found, found.roots[0], found.meshes[0])]
        assert kept == [{"yard": "Otterweir"}, {"lamp": True}, {"batch": [1, 2]}]
    assert "those of mesh_0, the scene" in texts(zo.write(scene, tmp_path / "other.usda"))
