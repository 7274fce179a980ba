"""Materials, textures and UV sets: what happens to looks."""

from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

import zesty_otter as zo
from build import cube, scene_of, texts
from test_mtl import png
from zesty_otter import pixels
from zesty_otter.geometry.uv.sets import uv_facts
from zesty_otter.model import Layer, Texture, TextureUse
from zesty_otter.steps import Materials, Textures, UvSets

# Materials


def painted(*materials, faces=None):
    count = len(materials)
    return scene_of(cube(slots=materials, face_slot=faces or [k % count for k in range(6)]))


def slots(scene):
    mesh = scene.meshes[0]
    return [slot.name if slot else None for slot in mesh.slots], mesh.slot_of_face.tolist()


def test_renaming_to_one_name_merges_slots():
    done = Materials(rename={"wood*": "timber"}).apply(
        painted(zo.Material("wood.1"), zo.Material("iron"), zo.Material("wood.2"))
    )
    assert slots(done) == (["timber", "iron"], [0, 1, 0, 0, 1, 0])
    assert "3 materials became 2" in texts(done.notes)


@pytest.mark.parametrize(
    ("settings", "expected"),
    [
        ({"one": "all"}, (["all"], [0] * 6)),
        ({"order": ["c", "a"]}, (["c", "a", "b"], [1, 2, 0, 1, 2, 0])),
        ({"index": {"a": 3}}, (["b", "c", None, "a"], [3, 0, 1, 3, 0, 1])),
        ({"index": {"c": 0}}, (["c", "a", "b"], [1, 2, 0, 1, 2, 0])),
    ],
)
def test_slots_are_ordered_and_overridden(settings, expected):
    done = Materials(**settings).apply(painted(*(zo.Material(name) for name in "abc")))
    assert slots(done) == expected


def test_alpha_sides_plain_mode_and_limit():
    texture = Texture("a.png", data=b"")
    rich = zo.Material("leaf", metallic=0.5, emissive=(1, 1, 1), base_color=(0.2, 0.2, 0.2, 1)).with_textures(
        {"base_color": TextureUse(texture), "normal": TextureUse(texture)}
    )
    done = Materials(plain=True, alpha={"leaf": "mask 0.3"}, two_sided=["le*"], limit=1).apply(
        painted(rich, zo.Material("b"))
    )
    made = done.materials[0]
    assert (made.metallic, made.roughness, made.emissive, made.base_color) == (0, 1, (0, 0, 0), (1, 1, 1, 1))
    assert (made.alpha_mode, made.alpha_cutoff, made.two_sided, list(made.textures)) == (
        "mask",
        0.3,
        True,
        ["base_color"],
    )
    assert "node cube: has 2 slots, 1 are allowed" in texts(done.notes)
    with pytest.raises(zo.UsageError, match="is not opaque, blend, mask"):
        Materials(alpha={"x": "maks"})


@pytest.mark.parametrize(
    ("diffuse", "specular", "metallic", "color"),
    [
        # A dielectric with the usual reflection keeps its colour; a mirror takes that of its reflection.
        ((0.5, 0.2, 0.1), (0.04, 0.04, 0.04), 0, (0.5, 0.2, 0.1)),
        ((0, 0, 0), (1.0, 0.8, 0.3), 1, (1.0, 0.8, 0.3)),
        ((0.5, 0.5, 0.5), (0, 0, 0), 0, (0.5208, 0.5208, 0.5208)),
    ],
)
def test_old_shading_becomes_metal_and_rough(diffuse, specular, metallic, color):
    old = zo.Material("m", base_color=(*diffuse, 1), shading={"specular": specular, "shininess": 30})
    made = Materials(shading="metal-rough").apply(painted(old)).materials[0]
    assert made.metallic == pytest.approx(metallic, abs=1e-3)
    assert made.base_color[:3] == pytest.approx(color, abs=1e-3)
    assert made.roughness == pytest.approx(0.5)


# Textures


def textured(role, texture, **use):
    return painted(zo.Material("m").with_textures({role: TextureUse(texture, **use)}))


def image_of(scene, role):
    return Image.open(io.BytesIO(scene.materials[0].textures[role].texture.read()))


@pytest.mark.parametrize(
    ("size", "largest", "power", "expected"),
    [
        ((100, 50), None, "no", (100, 50)),
        ((100, 50), 64, "no", (64, 32)),
        ((100, 50), None, "nearest", (128, 64)),
        ((100, 50), None, "lower", (64, 32)),
        ((100, 50), 100, "nearest", (64, 64)),
        ((1, 3000), 1024, "lower", (1, 1024)),
    ],
)
def test_images_are_brought_to_size(size, largest, power, expected):
    assert pixels.fitting_size(size, largest, power) == expected
    scene = textured("base_color", Texture("a.png", data=png(np.zeros((size[1], size[0], 3)))))
    done = Textures(largest=largest, power_of_two=power).apply(scene)
    assert image_of(done, "base_color").size == expected


def test_green_is_flipped_in_normal_maps_only_and_kinds_are_changed():
    texture = Texture("n.png", data=png([[[10, 20, 250]]]))
    both = painted(zo.Material("m").with_textures({"normal": TextureUse(texture)}))
    assert image_of(Textures(flip_green=True).apply(both), "normal").getpixel((0, 0)) == (10, 235, 250)
    color = textured("base_color", texture)
    assert Textures(flip_green=True).apply(color).textures[0] is texture
    done = Textures(kind="jpeg").apply(color)
    assert (done.textures[0].name, image_of(done, "base_color").format) == ("n.jpg", "JPEG")
    clear = textured("base_color", Texture("c.png", data=png([[[1, 2, 3, 0]]])))
    assert Textures(kind="jpeg").apply(clear).textures[0].name == "c.png"


def test_channels_are_packed_and_unpacked_again():
    uses = {
        role: TextureUse(Texture(f"{role}.png", data=png([[value]])))
        for role, value in (("occlusion", 200), ("roughness", 120), ("metallic", 30))
    }
    scene = painted(zo.Material("m").with_textures(uses))
    packed = Textures(channels="pack").apply(scene)
    assert len(packed.textures) == 1
    assert image_of(packed, "roughness").getpixel((0, 0)) == (200, 120, 30)
    assert {role: use.channel for role, use in packed.materials[0].textures.items()} == {
        "metallic": "b",
        "roughness": "g",
        "occlusion": "r",
    }
    back = Textures(channels="unpack").apply(packed)
    assert [image_of(back, role).getpixel((0, 0)) for role in uses] == [200, 120, 30]
    assert not Textures(leave_out=True).apply(scene).textures


def test_missing_textures_are_searched_below_the_folders_only(tmp_path):
    (tmp_path / "lib" / "deep").mkdir(parents=True)
    (tmp_path / "lib" / "deep" / "Stone.TGA").write_bytes(b"x")
    (tmp_path / "outside.png").write_bytes(b"x")
    (tmp_path / "lib" / "outside.png").symlink_to(tmp_path / "outside.png")
    stone = textured("base_color", Texture("stone.png", wanted="D:\\old\\stone.png"))
    done = Textures(search=[tmp_path / "lib"]).apply(stone)
    assert done.textures[0].path == tmp_path / "lib" / "deep" / "Stone.TGA"
    away = Textures(search=[tmp_path / "lib"]).apply(
        textured("base_color", Texture("outside.png", wanted="outside.png"))
    )
    assert not away.textures[0].found
    assert "in none of the folders" in texts(away.notes)


def test_damaged_images_are_noted_and_left():
    done = Textures(largest=1).apply(textured("base_color", Texture("a.png", data=b"nonsense")))
    assert (
        "texture 'a.png' is not an image of a known kind (PNG, JPEG, WEBP, AVIF, TGA, BMP, GIF, TIFF); left as it is"
        in texts(done.notes)
    )


# UV sets


def with_uvs(*sets):
    index = np.arange(24) % 4
    square = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
    layers = tuple(Layer("uv", square * (k + 1), index, name) for k, name in enumerate(sets))
    material = zo.Material("m").with_textures({"base_color": TextureUse(Texture("a"), uv_set=len(sets) - 1)})
    return scene_of(cube(layers=layers, slots=(material,)))


@pytest.mark.parametrize(
    ("settings", "left", "used"),
    [
        ({"keep": ["light"]}, ["light"], 0),
        ({"drop": ["0"]}, ["b", "light"], 1),
        ({"order": ["light", "2"]}, ["light", "a", "b"], 0),
        ({"most": 1}, ["a"], 0),
        ({"rename": {"0": "map"}}, ["map", "b", "light"], 2),
    ],
)
def test_uv_sets_are_chosen_and_textures_follow_them(settings, left, used):
    done = UvSets(**settings, report=False).apply(with_uvs("a", "b", "light"))
    assert [layer.name for layer in done.meshes[0].uv_sets] == left
    assert done.materials[0].textures["base_color"].uv_set == used


def test_flipping_v_twice_is_nothing():
    scene = with_uvs("a")
    once = UvSets(flip_v=True).apply(scene)
    assert once.meshes[0].uv_sets[0].values.tolist() == [[0, 1], [1, 1], [1, 0], [0, 0]]
    assert (
        UvSets(flip_v=True).apply(once).meshes[0].uv_sets[0].values.tolist()
        == scene.meshes[0].uv_sets[0].values.tolist()
    )


def test_what_is_wrong_with_uvs_is_measured():
    # Two unit squares, one shifted by half a side over the other: half of each lies on the other.
    square = np.array([(0, 0), (1, 0), (1, 1), (0, 0), (1, 1), (0, 1)], np.float32)
    values = np.concatenate([square, square + (0.5, 0), square[::-1] + (3, 0), [[5, 5]]]).astype(np.float32)
    index = np.concatenate([np.arange(18), [18, 18, 18, -1, 0, 1]]).astype(np.int32)
    facts = uv_facts(np.arange(24, dtype=np.int32).reshape(-1, 3), values, index)
    assert (facts.triangles, facts.missing, facts.zero_area, facts.mirrored) == (8, 1, 1, 2)
    assert facts.outside == 5
    assert facts.covered == pytest.approx(2.5, rel=3e-3)
    assert facts.overlap == pytest.approx(0.5, rel=3e-3)
    neat = uv_facts(np.arange(6, dtype=np.int32).reshape(-1, 3), square, np.arange(6, dtype=np.int32))
    assert (neat.covered, neat.overlap, neat.outside) == (1, 0, 0)


@pytest.mark.parametrize("count", [1, 7, 63])
def test_what_many_triangles_cover_in_a_line_is_counted_once(count):
    # Each two wide, and begun one behind the other.
    corners = np.array([(k + x, y) for k in range(count) for x, y in ((0, 0), (2, 0), (2, 1), (0, 1))], np.float32)
    triangles = np.array([(4 * k, 4 * k + a, 4 * k + a + 1) for k in range(count) for a in (1, 2)], np.int32)
    facts = uv_facts(triangles, corners, np.arange(4 * count, dtype=np.int32))
    assert (facts.covered, facts.overlap) == (count + 1, count - 1)
    assert "has no UVs" in texts(UvSets().apply(scene_of(cube())).notes)
    assert "UV set 0 'a': " in texts(UvSets().apply(with_uvs("a")).notes)
    assert "covered more than once" in texts(UvSets().apply(with_uvs("a")).notes)
