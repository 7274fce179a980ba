from __future__ import annotations

import numpy as np
import pytest

import zesty_otter as zo
from build import CUBE_FACES, cube, scene_of
from zesty_otter.audit.checks import over_limits
from zesty_otter.demo.textures import timber
from zesty_otter.model import Material, Node, Texture, TextureUse
from zesty_otter.targets import load, names

MINE = """
title = "a pond"
extends = "m-right-up-forward"
formats = ["obj"]

[names]
level = "{name}-{level}"

[limits]
triangles = 11
slots = 1
"""


def test_polygons_stay_where_a_format_holds_no_tangents(tmp_path, run):
    (tmp_path / "pond.toml").write_text('extends = "m-left-up-forward"\ntriangulate = false\n')
    bumpy = Material("oak", textures={"normal": TextureUse(Texture("n.png", data=timber()))})
    uvs = [(0, 0), (1, 0), (1, 1), (0, 1)] * 6
    mesh = zo.Mesh.from_arrays(cube().points, CUBE_FACES, uvs=uvs, name="crate").replace(slots=(bumpy,))
    zo.write(scene_of(mesh), tmp_path / "crate.usda")
    assert run("convert", tmp_path / "crate.usda", tmp_path / "box.obj", "--target", tmp_path / "pond.toml").status == 0
    job = 'target = "pond.toml"\n[[sources]]\nfiles = "crate.usda"\n[[outputs]]\nformats = ["obj", "glb"]\n'
    (tmp_path / "job.toml").write_text(job)
    assert run("run", tmp_path / "job.toml").status == 0
    for file in (tmp_path / "box.obj", next(tmp_path.rglob("ready/crate.obj"))):
        assert zo.read(file, "m").meshes[0].face_count == 6
    assert any(zo.read(next(tmp_path.rglob("ready/crate.glb"))).meshes[0].layers_of("tangent"))


def test_a_target_of_ones_own_builds_on_another(tmp_path, run):
    (tmp_path / "pond.toml").write_text(MINE)
    (tmp_path / "far.toml").write_text('extends = "pond.toml"\n[limits]\nslots = 4\n')
    far = load(tmp_path / "far.toml")
    assert (far.name, far.title, far.formats, far.frame.axes) == ("far", "a pond", ("obj",), "right up forward")
    assert (far.limits.triangles, far.limits.slots) == (11, 4)
    assert (far.names["level"], far.names["visible"]) == ("{name}-{level}", "{name}")
    ran = run("targets", tmp_path / "far.toml")
    assert ran.status == 0
    for words in ("far", "a pond", "right up forward, m, left-handed", "slots: 4", "level: {name}-{level}"):
        assert words in ran.out
    assert run("targets", tmp_path / "far.toml", "--json").json["limits"]["triangles"] == 11


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("limts = {}", "line 1: 'limts' is not a key.*Did you mean 'limits'"),
        ("[limits]\ntriangels = 3", "line 2: 'limits.triangels' is not a key.*Did you mean 'triangles'"),
        ("[limits]\ntriangles = 0", "line 2: limits.triangles: must be greater than or equal to 1"),
        ("[frame]\naxes = 'up up up'", "line 2: frame.axes: .*one direction twice"),
        ("[names]\nlevell = '{name}'", "line 1: names: 'levell' is not a role.*Did you mean 'level'"),
        ("[names]\nlevel = 'x'", "must hold {name}"),
        ("extends = 'nothing'", "'nothing' is not a target"),
        ("extends = 'a.toml'", "extends itself"),
        ("[frame\n", "is not TOML"),
    ],
)
def test_mistakes_in_a_target_are_pointed_at(tmp_path, text, message):
    (tmp_path / "a.toml").write_text(text)
    with pytest.raises(zo.ZestyOtterError, match=message):
        load(tmp_path / "a.toml")


def rules(scene: zo.Scene, text: str, folder) -> set[str]:
    (folder / "t.toml").write_text(text)
    return {f"{one.rule} {one.node}: {one.text}" for one in over_limits(scene, load(folder / "t.toml"))}


def test_what_is_over_budget_or_missing_is_found(tmp_path):
    picture = Texture("wood.png", data=timber())
    wood = Material("wood").with_textures({"base_color": TextureUse(picture), "normal": TextureUse(Texture("n.png"))})
    scene = scene_of(
        Node("hut", content=cube(name="hut", slots=(wood, None), face_slot=np.arange(6) % 2)),
        Node("hut_LOD1", content=cube()), Node("shed", content=cube(name="shed")),
        Node("shed_collision", content=cube()),
    )  # fmt: skip
    found = rules(
        scene,
        "[limits]\ntriangles = 11\ntriangles_per_level = [20, 6]\nslots = 1\nvertices = 7\ntexture_size = 64\n"
        "hull_vertices = 7\n[require]\ncollision = true\nlevels = 1\nuv_sets = 2\n",
        tmp_path,
    )
    assert found == {
        "triangles hut: 12 triangles, 11 are allowed",
        "triangles shed: 12 triangles, 11 are allowed",
        "level-triangles hut: level 1 has 12 triangles, 6 are allowed",
        "level-not-lighter hut: level 1 has 12 triangles, no fewer than the 12 before it",
        "collision-missing hut: no collision mesh",
        "levels-missing shed: 0 levels of detail, 1 are wanted",
        "hull-vertices shed_collision: 8 points, 7 are allowed in a collision part",
        "uv-sets-missing hut: 0 UV sets, 2 are wanted",
        "uv-sets-missing shed: 0 UV sets, 2 are wanted",
        "slots hut: 2 material slots, 1 are allowed",
        "vertices hut: at least 8 vertices, 7 are allowed",
        "vertices shed: at least 8 vertices, 7 are allowed",
        "vertices cube: at least 8 vertices, 7 are allowed",
        "texture-size wood.png: 128 × 128 pixels, 64 along a side are allowed",
        "texture-missing n.png: was not found",
    }
    assert {one.split()[0] for one in rules(scene, "", tmp_path)} == {"texture-missing", "level-not-lighter"}


def test_every_built_in_target_is_named_by_what_it_is():
    for name in names():
        unit, *axes = name.split("-")
        target = load(name)
        assert (target.frame.unit, target.frame.axes) == (unit, " ".join(axes))
        assert target.name == name
