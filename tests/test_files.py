from __future__ import annotations

import io
import json
import resource
from functools import reduce
from operator import getitem

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, obj, scene_of
from zesty_otter.audit import inspect_glb
from zesty_otter.pixels import png_of

TRIANGLE = "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"


def names(folder):
    return sorted(path.name for path in folder.iterdir())


def test_a_full_disk_leaves_the_old_file_and_nothing_else(tmp_path):
    zo.write(scene_of(cube()), tmp_path / "a.glb")
    before = (tmp_path / "a.glb").read_bytes()
    many = scene_of(*(cube((k, 1, 1)) for k in range(1, 40)))
    limits = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (4096, limits[1]))
    try:
        with pytest.raises(zo.OutputError, match="could not be written: File too large"):
            zo.write(many, tmp_path / "a.glb")
        with pytest.raises(zo.OutputError):
            zo.write(many, tmp_path / "deep" / "er" / "b.gltf")
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, limits)
    assert names(tmp_path) == ["a.glb"]
    assert (tmp_path / "a.glb").read_bytes() == before


def test_an_input_is_never_replaced(tmp_path):
    scene = zo.read(obj(tmp_path, TRIANGLE, name="same.glb.obj"), unit="m")
    link = tmp_path / "link.glb"
    link.symlink_to(tmp_path / "same.glb.obj")
    with pytest.raises(zo.OutputError, match="one of the files the scene was read from"):
        zo.write(scene, link)
    assert (tmp_path / "same.glb.obj").read_text() == TRIANGLE


def test_unwritable_places_are_refused(tmp_path):
    (tmp_path / "folder.glb").mkdir()
    (tmp_path / "file").write_text("x")
    for path in (tmp_path / "folder.glb", tmp_path / "file" / "a.glb"):
        with pytest.raises(zo.OutputError):
            zo.write(scene_of(cube()), path)
    with pytest.raises(zo.UsageError, match="not the ending of a known format"):
        zo.write(scene_of(cube()), tmp_path / "a.xyz")


@pytest.mark.parametrize("seed", range(40))
def test_the_inspection_finds_damage_or_reads_the_same(tmp_path, seed):
    path = tmp_path / "a.glb"
    zo.write(scene_of(cube()), path)
    facts = inspect_glb(path)
    assert (facts.triangles, facts.vertices, facts.sections, facts.size) == (12, 24, 1, (1, 1, 1))
    raw = bytearray(path.read_bytes())
    random = np.random.default_rng(seed)
    raw[4:20] = random.bytes(16) if seed % 2 else raw[4:20]
    if seed % 2 == 0:
        raw = raw[: random.integers(12, len(raw) - 1)]
    path.write_bytes(raw)
    with pytest.raises(zo.InputError, match="not sound glTF"):
        inspect_glb(path)


def places_in(value, above=()):
    """Where every part of a JSON document stands."""
    parts = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, one in parts:
        yield (*above, key)
        yield from places_in(one, (*above, key))


@pytest.mark.parametrize("other", [None, -1, 1.5, "x", {}, [], ["x"], [1]], ids=json.dumps)
def test_the_inspection_takes_no_value_of_another_kind_for_a_fault_of_the_program(tmp_path, other):
    zo.write(a_scatter_and_a_texture(), tmp_path / "a.gltf")
    assert inspect_glb(tmp_path / "a.gltf").triangles == 36  # numbers of others called alike are nothing to it
    text = (tmp_path / "a.gltf").read_text()
    refused = 0
    for place in list(places_in(json.loads(text))):
        document = json.loads(text)
        above = reduce(getitem, place[:-1], document)
        above[place[-1]] = other
        (tmp_path / "b.gltf").write_text(json.dumps(document))
        try:
            inspect_glb(tmp_path / "b.gltf")
        except zo.InputError:
            refused += 1
    assert refused > 30


def a_scatter_and_a_texture() -> zo.Scene:
    image = zo.Texture("t.png", data=png_of(np.full((2, 2, 4), 90, np.uint8)))
    uses = {
        "base_color": zo.TextureUse(image, scale=(2.0, 2.0), rotation=0.3),
        "normal": zo.TextureUse(image, strength=0.5),
        "occlusion": zo.TextureUse(image, strength=0.4),
    }
    theirs = {"extensions": {"OTTER_wear": {"scale": 3.0, "count": "many", "source": None, "children": 1.5}}}
    uv = zo.Layer("uv", np.eye(2), np.arange(24) % 2)
    mesh = cube(slots=(zo.Material("m", textures=uses, shading=theirs),), layers=(uv,))
    seen_by = (zo.Node("lamp", content=zo.Light("lamp", "spot")), zo.Node("eye", content=zo.Camera("eye")))
    return scene_of(mesh, *seen_by, zo.Node("many", content=zo.Scatter(mesh, np.stack([np.eye(4)] * 2))))


@pytest.mark.parametrize("ending", ["glb", "gltf", "obj", "usda", "dae", "x3d"])
@pytest.mark.parametrize("opened", [bytes, io.BytesIO])
def test_scenes_go_through_memory(ending, opened):
    """Bytes out, bytes in, with what stands beside the file in a dictionary."""
    png = png_of(np.full((2, 2, 4), 255, np.uint8))
    net = zo.Material("net", textures={"base_color": zo.TextureUse(zo.Texture("net.png", data=png))})
    uv = zo.Layer("uv", np.eye(2), np.arange(24) % 2)
    scene = scene_of(cube(slots=(net,), layers=(uv,)))
    beside: dict[str, bytes] = {}
    out = io.BytesIO()
    zo.write(scene, out, format=ending, companions=beside.__setitem__)
    again = zo.read(opened(out.getvalue()), "m", format=f".{ending}", companions=beside.get)
    assert again.source is None and again.read_files == ()
    (texture,) = again.textures
    assert texture.read() == png and texture.path is None
    assert again.meshes[0].triangle_count == 12
    assert bool(beside) == (ending != "glb")
    if beside:
        with pytest.raises(zo.UsageError, match="stand beside it"):
            zo.write(scene, io.BytesIO(), format=ending)


def test_messages_on_bytes_name_no_file_of_ours():
    with pytest.raises(zo.InputError, match=r"^bytes: is not sound|^bytes: "):
        zo.read(b"glTF" + bytes(30))
    with pytest.raises(zo.UsageError, match="first bytes do not tell the format"):
        zo.read(b"v 0 0 0")
    with pytest.raises(zo.UsageError, match="not open for bytes"):
        zo.read(io.StringIO("v 0 0 0"), format="obj")
    notes = zo.read(b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", format="obj").notes
    assert [note.file for note in notes] == ["bytes"]
