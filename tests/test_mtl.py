from __future__ import annotations

import io

import numpy as np
import pytest
from PIL import Image

import zesty_otter as zo
from build import light, obj, texts
from zesty_otter.model import roughness_of_shininess

TRIANGLE = "mtllib thing.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl m\nf 1 2 3\n"


def png(pixels) -> bytes:
    out = io.BytesIO()
    Image.fromarray(np.array(pixels, np.uint8)).save(out, "PNG")
    return out.getvalue()


def material(folder, statements, **images):
    for name, pixels in images.items():
        (folder / f"{name}.png").write_bytes(png(pixels))
    scene = zo.read(obj(folder, TRIANGLE, mtl=f"newmtl m\n{statements}\n"))
    return scene.materials[0], texts(scene.notes)


@pytest.mark.parametrize(
    ("statements", "expected"),
    [
        ("Kd .5 .25 1", {"base_color": pytest.approx((*light(0.5, 0.25, 1), 1))}),
        ("Kd .5", {"base_color": pytest.approx((*light(0.5, 0.5, 0.5), 1))}),
        ("d .25", {"alpha_mode": "blend", "base_color": pytest.approx((*light(0.8, 0.8, 0.8), 0.25))}),
        ("Tr .75", {"alpha_mode": "blend", "base_color": pytest.approx((*light(0.8, 0.8, 0.8), 0.25))}),
        ("Ns 30\nKs 1 1 1\nillum 2", {"roughness": pytest.approx(0.5), "metallic": 0}),
        ("Ns 30\nillum 1", {"roughness": 1}),
        ("Ns 30\nKs 0 0 0", {"roughness": 1}),
        ("Pm .9\nPr .3\nNs 500", {"metallic": 0.9, "roughness": 0.3}),
        ("Ke 2 1 0", {"emissive": pytest.approx((2, 2 * light(0.5)[0], 0))}),
        ("Pr 7\nPm -3", {"metallic": 0, "roughness": 1}),
    ],
)
def test_old_and_new_words_become_metal_and_rough(tmp_path, statements, expected):
    made, _ = material(tmp_path, statements)
    assert {name: getattr(made, name) for name in expected} == expected


def test_roughness_falls_as_the_highlight_tightens():
    # (2 / (n + 2)) ** (1/4): a quarter for n = 510, a half for n = 30.
    assert roughness_of_shininess(510) == pytest.approx(0.25)
    assert roughness_of_shininess(0) == 1


def test_maps_with_options_and_blanks_in_their_names(tmp_path):
    (tmp_path / "old wood.png").write_bytes(png(np.zeros((2, 2, 3))))
    made, _ = material(tmp_path, "map_Kd -s 2 3 1 -o .5 .25 -clamp on -bm 0.5 old wood.png")
    use = made.textures["base_color"]
    assert use.texture.path == tmp_path / "old wood.png"
    assert (use.scale, use.offset, use.clamp, use.strength) == ((2, 3), (0.5, 0.25), True, 0.5)
    assert made.base_color == (1, 1, 1, 1)


@pytest.mark.parametrize(
    ("statements", "note"),
    [
        ("map_Kd gone.png", "texture 'gone.png' was not found"),
        ("map_Kd\nKd 1 1 1", "line 2: a texture statement names no file"),
        ("Kd nan 0 0", "line 2: 'Kd nan 0 0' does not hold numbers"),
        ("Kd red", "does not hold numbers"),
        ("map_Ks a.png", "specular colour map is not carried"),
        ("zz 1\nzz 2", "line 2: statement 'zz' is not known"),
        ("Ps .5", "sheen is not carried"),
        ("d 0", "fully transparent"),
        ("Kd 1 0 0\nnewmtl m", "line 3: material 'm' is defined twice"),
    ],
)
def test_what_is_guessed_or_lost_is_noted_with_its_line(tmp_path, statements, note):
    assert note in material(tmp_path, statements)[1]


def test_black_under_a_texture_is_taken_as_white(tmp_path):
    made, notes = material(tmp_path, "Kd 0 0 0\nmap_Kd a.png", a=np.zeros((2, 2, 3)))
    assert made.base_color == (1, 1, 1, 1)
    assert "white is used" in notes


@pytest.mark.parametrize(("value", "mode"), [(lambda x: 255 * (x > 3), "mask"), (lambda x: x * 30, "blend")])
def test_a_transparency_map_cuts_out_or_blends_as_its_pixels_say(tmp_path, value, mode):
    made, _ = material(tmp_path, "map_d a.png", a=[[value(x) for x in range(8)]] * 8)
    assert made.alpha_mode == mode
    assert made.two_sided == (mode == "mask")


def test_a_bump_map_of_normals_is_a_normal_map_and_one_of_heights_is_not(tmp_path):
    normals = np.full((4, 4, 3), (128, 128, 255))
    made, notes = material(tmp_path, "map_Bump -bm 0.7 a.png", a=normals)
    assert made.textures["normal"].strength == 0.7
    made, notes = material(tmp_path, "map_Bump a.png", a=np.full((4, 4), 90))
    assert not made.textures
    assert "heights" in notes


@pytest.mark.parametrize(
    ("wanted", "missed"),
    [
        ("tex\\Wood.PNG", ""),
        ("C:\\Users\\somebody\\wood.png", ""),
        ("/home/somebody/wood.png", ""),
        ("../secret/wood.png", ""),
        ("../secret.png", "is outside the model's folder, and none of its name is in"),
        ("https://example.org/other.png", "is on a network, from which nothing is fetched, and none of its name is in"),
        ("link.png", "was not found"),
        ("tex", "was not found"),
    ],
)
def test_textures_are_found_beside_the_file_and_nowhere_else(tmp_path, wanted, missed):
    home = tmp_path / "home"
    (home / "tex").mkdir(parents=True)
    (tmp_path / "secret.png").write_bytes(b"secret")
    (home / "wood.png").write_bytes(png(np.zeros((1, 1, 3))))
    (home / "tex" / "wood.png").write_bytes(png(np.zeros((1, 1, 3))))
    (home / "link.png").symlink_to(tmp_path / "secret.png")
    made, notes = material(home, f"map_Kd {wanted}")
    path = made.textures["base_color"].texture.path
    assert (path is None) == bool(missed) and missed in notes
    if path:
        assert path.resolve().is_relative_to(home)
    allowed = zo.read(home / "thing.obj", folders=[tmp_path])
    assert allowed.textures[0].found == (not missed or "secret" in wanted or wanted == "link.png")
