from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from zesty_otter.demo.textures import timber
from zesty_otter.formats.text import number_lines
from zesty_otter.model import Layer, Light, Material, Node, Texture, TextureUse


def text_of(scene: zo.Scene, folder) -> list[str]:
    zo.write(scene, folder / "out.obj")
    return (folder / "out.obj").read_text().splitlines()


def back(scene: zo.Scene, folder, name: str = "out.obj") -> zo.Scene:
    zo.write(scene, folder / name)
    return zo.read(folder / name, unit=scene.frame.unit, axes=" ".join(scene.frame.axes))


def lines(values) -> list[str]:
    return b"".join(bytes(part) for part in number_lines("", np.atleast_2d(values))).decode().split("\n")[:-1]


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (0.0, "0"), (-0.0, "0"), (1.0, "1"), (-2.5, "-2.5"), (0.1, "0.1"), (100.0, "100"), (1e9, "1e9"),
        (0.001, "0.001"), (123456792.0, "123456790"),
        (16777216.0, "16777216"), (1e-7, "1e-7"), (1.5e-7, "1.5e-7"), (1e-45, "1e-45"),
        (3.4028235e38, "3.4028235e38"), (0.3333333433, "0.33333334"), (2.0**-126, "1.1754944e-38"),
    ],
)  # fmt: skip
def test_numbers_stand_in_their_shortest_exact_form(value, text):
    assert lines([np.float32(value)]) == [text]


@given(st.lists(st.floats(width=32, allow_nan=False, allow_infinity=False), min_size=1, max_size=30))
def test_numbers_read_back_as_they_were_and_none_is_longer_than_need_be(values):
    written = lines(np.array(values, np.float32).reshape(-1, 1))
    assert [np.float32(text) for text in written] == [np.float32(value) for value in values]
    for value, text in zip(values, written, strict=True):
        digits = [part.split("e")[0].replace(".", "").strip("-0") for part in (text, str(np.float32(value)))]
        assert len(digits[0]) <= len(digits[1])


def test_a_cube_is_written_by_hand(tmp_path):
    assert text_of(scene_of(cube((1, 2, 3)), unit="cm"), tmp_path) == [
        "# left up forward, cm (+X +Y +Z, unit)",
        "o cube",
        *(f"v {x} {y} {z}" for z in (0, 3) for y in (0, 2) for x in (0, 1)),
        "f 1 3 4 2", "f 5 6 8 7", "f 1 2 6 5", "f 3 7 8 4", "f 1 5 7 3", "f 2 4 8 6",
    ]  # fmt: skip


def dressed() -> zo.Scene:
    """Two meshes with everything OBJ can carry: shared UVs, holes in normals, groups, smoothing, slots, colours."""
    wood = Material("Holz (alt)", (0.5, 0.25, 0.125, 1.0), 0.0, 0.75)
    net = Material(
        "net", (1.0, 1.0, 1.0, 0.5), alpha_mode="blend", shading={"specular": (0.1, 0.2, 0.3), "shininess": 20.0}
    )
    corners = cube().corner_point
    uv = Layer("uv", [[0, 0], [1, 0], [1, 1], [0, 0.1]], np.tile([0, 1, 2, 3], 6))
    normals = Layer("normal", np.eye(3), np.where(np.arange(24) < 12, np.arange(24) % 3, -1))
    colors = Layer("color", np.linspace(0, 1, 24).reshape(8, 3), corners)
    first = cube(
        name="a b", layers=(uv, normals, colors), slots=(wood, net), face_slot=np.array([1, 0, 0, 1, 1, 0]),
        face_smoothing=np.array([1, 1, 0, 2, 2, 0]), face_sets={"lid": np.array([3]), "top": np.array([3, 4])},
    )  # fmt: skip
    second = cube((2, 2, 2), name="second", layers=(uv,), slots=(wood,))
    return scene_of(first, Node("second", content=second, groups=("deck", "wet")), cube(name="third"))


def test_everything_obj_can_carry_comes_back(tmp_path):
    scene = dressed()
    found = back(scene, tmp_path)
    assert [node.name for node in found.roots] == ["a b", "second", "third"]
    assert [node.groups for node in found.roots] == [(), ("deck", "wet"), ()]
    for a, b in zip(scene.meshes, found.meshes, strict=True):
        assert np.array_equal(a.points.astype(np.float32), b.points.astype(np.float32))
        assert np.array_equal(a.face_start, b.face_start)
        assert np.array_equal(a.corner_point, b.corner_point)
        assert [layer.kind for layer in b.layers] == [layer.kind for layer in a.layers]
        for one, other in zip(a.layers, b.layers, strict=True):
            # A colour as it looks has seven digits.
            off = 1e-6 if one.kind == "color" else 0.0
            assert np.allclose(one.at_corners(np.nan), other.at_corners(np.nan), rtol=0, atol=off, equal_nan=True)
        assert np.array_equal(*(np.zeros(6) if m.face_smoothing is None else m.face_smoothing for m in (a, b)))
        assert [[s and s.name for s in m.slots][k] for m in (a, b) for k in m.slot_of_face[:1]]
        named = [[m.slots[k].name if m.slots[k] else "plain" for k in m.slot_of_face] for m in (a, b)]
        assert named[0] == named[1]
    assert {name: faces.tolist() for name, faces in found.meshes[0].face_sets.items()} == {"lid": [3], "top": [3, 4]}
    wood, net = (next(m for m in found.materials if m.name == name) for name in ("Holz (alt)", "net"))
    assert wood.base_color == pytest.approx((0.5, 0.25, 0.125, 1.0), abs=1e-6)
    assert (wood.roughness, net.alpha_mode, net.base_color[3]) == (0.75, "blend", 0.5)
    assert (net.shading["specular"], net.shading["shininess"]) == (pytest.approx((0.1, 0.2, 0.3), abs=1e-6), 20.0)
    # What was read once stays as it is.
    second = back(found, tmp_path, "second.obj")
    back(second, tmp_path, "third.obj")
    texts_of = [(tmp_path / f"{name}.obj").read_text().replace(f"{name}.mtl", "") for name in ("second", "third")]
    assert texts_of[0] == texts_of[1]


def test_textures_go_into_a_folder_of_their_own_and_missing_ones_are_named(tmp_path):
    texture, lost = Texture("wood.png", data=timber()), Texture("lost.png", wanted="C:\\maps\\lost.png")
    use = TextureUse(texture, offset=(0.25, 0.0), scale=(2.0, 2.0), channel="b", clamp=True)
    textures = {"base_color": TextureUse(texture), "roughness": use, "normal": TextureUse(lost, strength=0.5)}
    scene = scene_of(cube(slots=(Material("wood").with_textures(textures),)))
    notes = zo.write(scene, tmp_path / "out" / "crate.obj")
    assert "texture 'lost.png' is missing" in texts(notes)
    assert (tmp_path / "out" / "crate_textures" / "wood.png").read_bytes() == timber()
    found = zo.read(tmp_path / "out" / "crate.obj").materials[0].textures
    assert list(found) == ["base_color", "roughness", "normal"]
    rough = found["roughness"]
    # Of its channel, and without options, which many readers do not know.
    assert (rough.texture.name, rough.channel, rough.clamp) == ("wood_roughness.png", None, False)
    blue = np.asarray(Image.open(io.BytesIO(timber())).convert("RGB"))[..., 2]
    assert np.array_equal(np.asarray(Image.open(io.BytesIO(rough.texture.read()))), blue)
    assert "map_Pr crate_textures/wood_roughness.png\n" in (tmp_path / "out" / "crate.mtl").read_text()
    for words in ("its roughness texture lies where its others lie", "ends at its edges", "in an image of its own"):
        assert words in texts(notes)
    assert (found["normal"].strength, found["normal"].texture.found) == (0.5, False)


def test_places_are_in_the_points_and_mirrored_ones_stay_outward(tmp_path):
    mirrored = np.diag([-1.0, 2.0, 1.0, 1.0])
    inner = Node("inner", mirrored, content=cube(), properties={"mass": 3})
    scene = scene_of(Node("outer", moved(5, 0, 0), (inner, Node("lamp", content=Light("lamp")))), cube(name="copy"))
    notes = zo.write(scene, tmp_path / "out.obj")
    for words in ("no lights and cameras; left out: lamp", "no tree and no pivots", "no properties; left out of inner"):
        assert words in texts(notes)
    found = zo.read(tmp_path / "out.obj")
    assert found.meshes[0].surface_bounds.tolist() == [[4, 0, 0], [5, 2, 1]]
    from build import volume

    assert volume(found.meshes[0]) == pytest.approx(2.0)


def test_instances_share_what_their_places_do_not_change(tmp_path):
    uv = Layer("uv", [[0, 0], [1, 0], [1, 1], [0, 1]], np.tile([0, 1, 2, 3], 6))
    mesh = cube(layers=(uv,))
    written = text_of(scene_of(Node("a", content=mesh), Node("b", moved(3, 0, 0), content=mesh)), tmp_path)
    assert sum(line.startswith("vt") for line in written) == 4
    assert sum(line.startswith("v ") for line in written) == 16
    assert written[-1] == "f 10/1 12/2 16/3 14/4"


def test_what_obj_cannot_carry_is_said(tmp_path):
    uvs = [Layer("uv", [[0, 0]], np.zeros(24, int), name) for name in ("a", "b")]
    color = Layer("color", [[1, 0, 0, 0.5], [0, 1, 0, 1]], np.arange(24) % 2)
    leaf = Material("leaf", alpha_mode="mask", alpha_cutoff=0.3)
    glass = Material("glass", two_sided=True)
    scene = scene_of(cube(layers=(*uvs, color), slots=(leaf, glass)))
    said = texts(zo.write(scene, tmp_path / "out.obj"))
    for words in ("one UV set", "a colour for each point", "threshold 0.3 of its cut-out", "seen from both sides"):
        assert words in said


def test_materials_of_one_name_stay_apart(tmp_path):
    red, blue = Material("paint", (1.0, 0, 0, 1)), Material("paint", (0, 0, 1.0, 1))
    scene = scene_of(cube(name="a", slots=(red,)), cube(name="b", slots=(blue,)))
    found = back(scene, tmp_path)
    assert [(m.name, m.base_color[2]) for m in found.materials] == [("paint", 0.0), ("paint_2", 1.0)]


@pytest.mark.parametrize("axes", ["forward right up", "left up forward"])
def test_a_face_larger_than_a_buffer_is_written_whole(tmp_path, axes):
    count = 200_000
    angle = np.arange(count) * (2 * np.pi / count)
    points = np.stack([np.cos(angle), np.sin(angle), 0 * angle], 1)
    mesh = zo.Mesh("disc", points, np.array([0, count]), np.arange(count))
    found = back(scene_of(mesh, axes=axes), tmp_path).meshes[0]
    assert np.array_equal(found.corner_point, np.arange(count))
    assert np.array_equal(found.points.astype(np.float32), points.astype(np.float32))
