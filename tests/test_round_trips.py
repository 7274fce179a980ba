"""Every format to every other and back, and files that were damaged on the way."""

from __future__ import annotations

import io
import json
import random
import re
import struct
import zipfile
from typing import Any

import numpy as np
import pytest

import zesty_otter as zo
from build import WRITTEN, cube, light, scene_of
from test_collada import TRIANGLES, dae
from zesty_otter.formats import format_of
from zesty_otter.formats.usd.package import package as package_of
from zesty_otter.pipeline.delivery import deliver
from zesty_otter.steps import Gather, Join, Reframe, Triangulate

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

ENDINGS = [one.suffixes[0] for one in WRITTEN]


def placed(scene: zo.Scene) -> list[tuple[str, np.ndarray, list[np.ndarray], zo.Mesh]]:
    """Every node with a mesh: its name, its corners in world space, its layers at the corners, its mesh."""
    found = []
    baked = zo.apply(scene, zo.steps.BakeTransforms(translation="drop"), Triangulate(diagonal="fixed"))
    for one, mesh in baked.placed_meshes():
        layers = [layer.at_corners() for layer in mesh.layers if layer.kind != "tangent"]
        found.append((one.node.name, mesh.points[mesh.corner_point], layers, mesh))
    return found


@pytest.mark.parametrize("second", ENDINGS)
@pytest.mark.parametrize("first", ENDINGS)
def test_every_format_to_every_other_and_back(mended, tmp_path, first, second):
    """What both formats can carry comes through: geometry to 32 bits, names, tree, slots, UVs, normals."""
    name = ["quay_wall", "jib_crane", "net_rack", "fish_ladder"][(ENDINGS.index(first) + ENDINGS.index(second)) % 4]
    meant = mended[name]
    carries = format_of(tmp_path / f"a{first}").carries & format_of(tmp_path / f"a{second}").carries
    scene = meant
    for number, ending in enumerate((first, second, first)):
        path = tmp_path / f"{number}" / f"{name}{ending}"
        _, arrival = deliver(scene, path)
        assert arrival.problems == ()
        scene = zo.read(path, *(("m", "left up forward") if format_of(path).axes_vary else (None, None)))
        scene = zo.apply(scene, Reframe(axes="left up forward", unit="m"))
    if "names" not in carries:
        meant, scene = (zo.apply(one, Join(name="all", at="origin")) for one in (meant, scene))
    if "tree" in carries:
        assert [one.path for one in scene.walk()] == [one.path for one in meant.walk()]
    before, after = placed(meant), placed(scene)
    if "names" in carries:
        assert [one[0] for one in after] == [one[0] for one in before]
    assert len(after) == len(before)
    for (_, meant_corners, meant_layers, meant_mesh), (_, corners, layers, mesh) in zip(before, after, strict=True):
        if "polygons" not in carries or mesh.face_count != meant_mesh.face_count:
            # Triangles may come in another order when slots were gathered.
            meant_corners, corners = (np.unique(c.round(4).reshape(-1, 3), axis=0) for c in (meant_corners, corners))
        assert corners.shape == meant_corners.shape
        order = np.lexsort(corners.round(4).T[::-1]), np.lexsort(meant_corners.round(4).T[::-1])
        assert np.allclose(corners[order[0]], meant_corners[order[1]], rtol=1e-6, atol=2e-6)
        kinds = [layer.kind for layer in mesh.layers if layer.kind != "tangent"]
        assert ("uv" in kinds) == ("UV sets" in carries and bool(meant_mesh.uv_sets))
        if {"normals", "UV sets", "polygons", "names"} <= carries:
            for one, other in zip(sorted(layers, key=np.shape), sorted(meant_layers, key=np.shape), strict=True):
                assert np.allclose(np.sort(one, axis=0), np.sort(other, axis=0), atol=1e-5)
    if "materials" in carries:
        assert sorted(m.name for m in scene.materials) == sorted(m.name for m in meant.materials)
        for name in {m.name for m in meant.materials}:
            one, other = (next(m for m in s.materials if m.name == name) for s in (scene, meant))
            # COLLADA has either a colour or a texture.
            through = first == ".dae" or (second == ".dae" and "textures" in carries)
            tinted = "base_color" in other.textures and through
            off = 4e-3 if ".3mf" in (first, second) else 1e-5  # 3MF has a byte for each part of a colour
            assert np.allclose(one.base_color, (1, 1, 1, 1) if tinted else other.base_color, atol=off)
            assert ("base_color" in one.textures) == ("textures" in carries and "base_color" in other.textures)


def damaged_within(data: bytes, ending: str, dice: random.Random) -> bytes:
    """A file whose container is whole, so that what reads its inside has to cope."""
    if ending == ".usdz":
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            inside = {name: [package.read(name)] for name in package.namelist()}
        root = next(iter(inside))
        return package_of(inside | {root: [damaged(inside[root][0], dice)]})
    start = 20 if ending == ".glb" else 0
    length = int.from_bytes(data[12:16], "little") if start else len(data)
    document = json.loads(data[start : start + length])
    for _ in range(dice.randint(1, 4)):
        _spoil(document, dice)
    text = json.dumps(document).encode()
    if not start:
        return text
    text += b" " * (-len(text) % 4)
    rest = data[start + length :]
    return b"glTF" + struct.pack("<III", 2, 20 + len(text) + len(rest), len(text)) + b"JSON" + text + rest


def _spoil(document: Any, dice: random.Random) -> None:
    """Changes one thing somewhere in a JSON document."""
    here = document
    while True:
        keys = list(here) if isinstance(here, dict) else list(range(len(here)))
        if not keys:
            return
        key = dice.choice(keys)
        if not isinstance(here[key], dict | list) or dice.random() < 0.1:
            break
        here = here[key]
    if dice.random() < 0.2:
        del here[key]
    else:
        wrong = [-1, 0, 1, 2, 7, 1e9, 4294967295, 2**63, 1e308, 0.5, None, True, "", "../x", [], {}, [0], {"index": 3}, 5121, 5126, "SCALAR", "MAT4"]  # fmt: skip
        here[key] = dice.choice(wrong)


MARKS = [b"-1", b"0", b"999999999", b"nan", b'"', b"<", b">", b"(", b")", b"[", b"]", b"{", b"}", b"\0", b"\xff", b"@", b"/>", b"../", b"4294967295"]  # fmt: skip


def damaged(data: bytes, dice: random.Random) -> bytes:
    """The bytes with a few of the things that happen to files."""
    out = bytearray(data)
    for _ in range(dice.randint(1, 5)):
        at, other, size = dice.randrange(len(out)), dice.randrange(len(out)), dice.randint(1, 40)
        what = dice.randrange(6)
        if what == 0:
            out[at] = dice.randrange(256)
        elif what == 1:
            del out[at : at + size]
        elif what == 2:
            out[at:at] = dice.choice(MARKS)
        elif what == 3:
            out[at:at] = out[other : other + size]
        elif what == 4:
            numbers = list(re.finditer(rb"\d+", bytes(out[:3000])))
            if numbers:
                found = dice.choice(numbers)
                out[found.start() : found.end()] = dice.choice([b"0", b"7", b"-5", b"4000000000", b"99999"])
        else:
            del out[at:]
        if not out:
            return b"x"
    return bytes(out)


@pytest.mark.parametrize("ending", ENDINGS)
def test_damaged_files_are_read_or_refused_and_nothing_else(mended, tmp_path, ending):
    dice = random.Random(ending)
    whole = []
    for name in ("net_rack", "jib_crane"):
        scattered = zo.apply(mended[name], Gather()) if name == "net_rack" else mended[name]
        zo.write(scattered, tmp_path / f"{name}{ending}")
        whole.append((tmp_path / f"{name}{ending}").read_bytes())
    path = tmp_path / f"damaged{ending}"
    outcomes = {"read": 0, "refused": 0}
    for _ in range(150):
        inside = ending in (".usdz", ".glb", ".gltf") and dice.random() < 0.7
        source = dice.choice(whole)
        path.write_bytes(damaged_within(source, ending, dice) if inside else damaged(source, dice))
        try:
            scene = zo.read(path)
            assert all(np.isfinite(mesh.points).all() for mesh in scene.meshes)
            outcomes["read"] += 1
        except zo.ZestyOtterError as error:
            assert str(path) in str(error) or error.place
            outcomes["refused"] += 1
    assert sum(outcomes.values()) == 150


def painted() -> zo.Scene:
    """A cube whose material is half as bright as white on screen, its points a quarter."""
    values = np.array([[*light(0.25, 0.25, 0.25)]], np.float32)
    paint = zo.Material("paint", (*light(0.5, 0.25, 1.0), 1.0), emissive=light(0.25, 0.0, 0.0))
    return scene_of(cube(slots=(paint,), layers=(zo.Layer("color", values, np.zeros(24, np.int32)),)))


# How each format writes those numbers: as they look on screen, or as amounts of light.
WRITTEN_COLORS = {
    "obj": (r"Kd 0\.5 0\.25 1\n[^#]*Ke 0\.25 0 0", r"v 0 0 0 0\.25 0\.25 0\.25\n"),
    "dae": (r"<diffuse>\s*<color[^>]*>0?\.5 0?\.25 1 1<", r">\s*0?\.25 0?\.25 0?\.25"),
    "x3d": (r"(?:diffuse|base)Color=.0?\.5 0?\.25 1", r"Color[^>]*color='0?\.25 0?\.25 0?\.25"),
    "usda": (r"diffuseColor = \(0\.2140411\d*, 0\.0508760\d*, 1\)", r"displayColor = \[\(0\.0508760\d*, "),
    "gltf": (r'"baseColorFactor":\[0\.2140411\d*,0\.0508760\d*,1', ""),
    "ply": ("", ""),
}


@pytest.mark.parametrize("ending", WRITTEN_COLORS)
def test_colours_are_written_as_the_format_means_them_and_come_back(tmp_path, ending):
    path = tmp_path / f"a.{ending}"
    zo.write(painted(), path)
    text = "".join(one.read_bytes().decode("latin-1") for one in sorted(tmp_path.iterdir()) if one.suffix != ".bin")
    for pattern in WRITTEN_COLORS[ending]:
        assert re.search(pattern, text), pattern
    scene = zo.read(path, "m")
    (colors,) = scene.meshes[0].layers_of("color")
    assert colors.values[0, :3] == pytest.approx(light(0.25, 0.25, 0.25), abs=1e-4 if ending != "ply" else 2e-3)
    if ending != "ply":
        assert scene.materials[0].base_color == pytest.approx((*light(0.5, 0.25, 1.0), 1.0), abs=1e-6)
        assert scene.materials[0].emissive == pytest.approx(light(0.25, 0.0, 0.0), abs=1e-6)
    seen = ending in ("obj", "dae", "x3d", "ply")
    other = zo.read(path, "m", colors="linear" if seen else "screen").meshes[0].layers_of("color")[0].values[0, 0]
    assert other == pytest.approx(0.25 if seen else light(light(0.25)[0])[0], abs=2e-3)
    with pytest.raises(zo.UsageError, match="colours cannot be 'bright'"):
        zo.read(path, "m", colors="bright")


def rotation(seed: int) -> np.ndarray:
    q, r = np.linalg.qr(np.random.default_rng(seed).normal(size=(3, 3)))
    return q * np.sign(np.diag(r)) * np.sign(np.linalg.det(q * np.sign(np.diag(r))))


@pytest.mark.parametrize("form", ["{:f}", "{:g}", "{:.9g}"])
@pytest.mark.parametrize("size", [0.01, 1.0, 254.0])
def test_matrices_of_few_digits_are_rotations_and_no_shear(tmp_path, form, size):
    for seed in range(8):
        matrix = np.eye(4)
        matrix[:3, :3] = rotation(seed) * size * np.array([1, 1, 2])
        text = " ".join(form.format(one) for one in matrix.ravel())
        nodes = f'<node name="arm"><matrix>{text}</matrix><node name="hand"><instance_geometry url="#g"/></node></node>'
        scene = zo.read(dae(tmp_path, TRIANGLES, nodes))
        linear = scene.roots[0].transform[:3, :3]
        assert np.allclose(linear, matrix[:3, :3], rtol=0, atol=1e-6 + 2e-5 * size)
        gram = linear.T @ linear
        assert np.abs(gram - np.diag(np.diag(gram))).max() < 1e-12 * size**2
        zo.write(scene, tmp_path / "out.gltf")
        arm, hand = json.loads((tmp_path / "out.gltf").read_text())["nodes"]
        assert {"rotation", "scale"} <= arm.keys() and "matrix" not in arm and "rotation" not in hand


def test_shear_that_is_meant_stays(tmp_path):
    for off in (0.5, 1e-3):
        nodes = f'<node><matrix>1 {off} 0 0 0 1 0 0 0 0 1 0 0 0 0 1</matrix><instance_geometry url="#g"/></node>'
        assert zo.read(dae(tmp_path, TRIANGLES, nodes)).roots[0].transform[0, 1] == off


@pytest.mark.parametrize("scale", [(0, 0, 0), (0, 2, 0), (1, 0, 3), (-1, 0, 1)])
def test_nodes_of_no_size_are_written_validly(tmp_path, scale):
    turned = np.eye(4)
    turned[:3, :3] = rotation(1) * scale
    zo.write(scene_of(zo.Node("flat", turned, content=cube())), tmp_path / "a.gltf")
    node = json.loads((tmp_path / "a.gltf").read_text())["nodes"][0]
    assert np.linalg.norm(node.get("rotation", [0, 0, 0, 1])) == pytest.approx(1, abs=1e-9)
    assert np.allclose(zo.read(tmp_path / "a.gltf").roots[0].transform, turned, atol=1e-9)


@pytest.mark.parametrize("ending", ["dae", "x3d"])
@pytest.mark.parametrize("intensity", [0.25, 1.0, 6.0])
def test_lights_look_the_same_where_nothing_else_has_a_colour(tmp_path, ending, intensity):
    lamp = zo.Light("lamp", "point", light(0.5, 1.0, 0.25), intensity)
    zo.write(scene_of(zo.Node("lamp", content=lamp), cube()), tmp_path / f"a.{ending}")
    found = next(one.node.content for one in zo.read(tmp_path / f"a.{ending}").walk() if one.node.kind == "light")
    strong = np.array(found.color) * found.intensity
    assert strong == pytest.approx(np.array(lamp.color) * intensity, rel=1e-4)
