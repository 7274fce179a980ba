"""The receiver: what a target makes of a file that was written."""

from __future__ import annotations

import json

import numpy as np
import pytest

import zesty_otter as zo
from build import moved, scene_of
from test_chain import something
from test_collision import plank, stairs
from test_net import WRITTEN, random_scene
from zesty_otter.model import Material, Node
from zesty_otter.rehearsal import receive
from zesty_otter.rehearsal.second import second_reading
from zesty_otter.steps import Collision, Levels, Shadow
from zesty_otter.targets import Target, load


def finished():
    steps = stairs(4).replace(slots=(Material("stone"),))
    return zo.apply(
        scene_of(Node("steps", moved(2, 0, 0), content=steps)), Levels(chain="50"), Collision(shape="parts"), Shadow()
    )


@pytest.mark.parametrize("name", ["m-left-up-forward", "cm-forward-right-up", "m-right-forward-up"])
@pytest.mark.parametrize("ending", ["glb", "usda", "dae"])
def test_a_finished_asset_is_seen_whole_by_every_target(tmp_path, name, ending):
    zo.write(finished(), tmp_path / f"a.{ending}")
    found, scene = receive(tmp_path / f"a.{ending}", load(name))
    (asset,) = found.assets
    assert (asset.name, asset.levels, asset.collision, asset.shadow, asset.leftover) == ("steps", 1, 4, True, ())
    assert asset.size == pytest.approx((1.2, 0.8, 1.0), rel=1e-6) and asset.lowest == pytest.approx(0, abs=1e-6)
    # Ten cells on two sides, and four each of treads, risers, backs and soles: 36 quads.
    assert asset.triangles == 72 and asset.draws == 1 and len(asset.switches) == 1
    assert asset.footing is not None and asset.footing.floats < 1e-4 and found.problems == ()
    assert scene.frame == load(name).space


@pytest.mark.parametrize("ending", WRITTEN)
def test_a_strict_receiver_sees_what_the_reader_sees(tmp_path, ending):
    for number, scene in enumerate((something(), finished(), random_scene(5, 2), random_scene(6, 1))):
        zo.write(scene, tmp_path / f"{number}.{ending}")
        said, problems = second_reading(tmp_path / f"{number}.{ending}", zo.read(tmp_path / f"{number}.{ending}"))
        assert said.startswith("the same at all ") and problems == ()


@pytest.mark.parametrize(
    ("ending", "old", "new", "words"),
    [
        ("obj", b"usemtl stone", b"usemtl sand", "refuses the file: material sand is in no library"),
        ("gltf", b'"max":[1.2', b'"max":[1.3', "the extremes of an accessor are not those of its values"),
        ("x3d", b'USE="stone-look"', b'USE="sand"', "USE sand is of nothing"),
        (
            "dae",
            b'<polylist material="slot0" count="36"',
            b'<polylist material="slot0" count="35"',
            "there are other polygons than said",
        ),
        ("usda", b"</test/materials/stone>", b"</test/materials/sand>", "/test/materials/sand is no material"),
    ],
)
def test_files_that_break_their_specification_are_refused(tmp_path, run, ending, old, new, words):
    file = tmp_path / f"a.{ending}"
    zo.write(finished(), file)
    data = file.read_bytes()
    assert old in data
    file.write_bytes(data.replace(old, new))
    found, _ = receive(file, load("m-left-up-forward"))
    assert found.second == "refused" and any(words in text for text in found.unlike)
    ran = run("rehearse", file, "--target", "m-left-up-forward")
    assert ran.status == 1 and words in ran.out


def test_what_a_strict_receiver_does_not_know_is_no_complaint(tmp_path):
    zo.write(finished(), tmp_path / "a.glb", compressed=True)
    found, _ = receive(tmp_path / "a.glb", load("m-left-up-forward"))
    assert found.second == "not done, as it does not know EXT_meshopt_compression" and found.problems == ()


def test_memory_is_what_vertices_and_indices_take(tmp_path):
    zo.write(scene_of(Node("crate", content=plank((0, 0, 0), (1, 1, 1)))), tmp_path / "a.glb")
    (asset,) = receive(tmp_path / "a.glb", load("m-left-up-forward"))[0].assets
    # Hard edges: 24 vertices of position and normal, 36 indices of two bytes.
    assert asset.vertices == 24 and asset.bytes == 24 * 24 + 36 * 2


def test_a_file_that_says_nothing_is_taken_literally(tmp_path):
    (tmp_path / "a.obj").write_text("o a\nv 0 0 0\nv 100 0 0\nv 0 0 200\nf 1 2 3\n")
    found, _ = receive(tmp_path / "a.obj", load("m-left-up-forward"))
    assert found.assets[0].size == pytest.approx((100, 0, 200)) and "target's own axes and unit" in found.frame
    found, _ = receive(tmp_path / "a.obj", load("cm-forward-right-up"))
    # There +X is forward and +Z up, whatever the artist meant.
    assert found.assets[0].size == pytest.approx((0, 2, 1))


def test_what_is_named_in_another_way_is_not_recognised(tmp_path):
    zo.write(finished(), tmp_path / "a.glb")
    base = load("m-left-up-forward")
    other = base.model_copy(update={"names": {**base.names, "collision": "solid_{name}_{n}"}})
    found, _ = receive(tmp_path / "a.glb", other)
    strays = [text for text in found.strays if "meant as collision, taken as visible" in text]
    assert len(strays) == 4 and "solid_{name}_{n}" in strays[0] and len(found.assets) == 5


def test_what_would_go_wrong_is_told(tmp_path):
    scene = scene_of(
        Node("Gate", content=plank((0, 0, 0), (1, 1, 1))),
        Node("gate", moved(3, 0, 0) @ np.diag([2, 2, 2, 1.0]), content=plank((0, 0, 0), (1, 1, 1))),
        Node("lamp_collision_1", content=plank((0, 0, 0), (1, 1, 1))),
    )
    zo.write(scene, tmp_path / "a.glb")
    strict = Target(names=load("m-left-up-forward").names, require={"collision": True})
    problems = " | ".join(receive(tmp_path / "a.glb", strict)[0].problems)
    for words in (
        "belongs to lamp, which is not there",
        "would overwrite each other",
        "scale left",
        "no collision mesh",
    ):
        assert words in problems


def test_the_command_line_rehearses(tmp_path, run):
    zo.write(finished(), tmp_path / "a.glb")
    words = ("--target", "cm-forward-right-up")
    done = run("rehearse", tmp_path / "a.glb", *words, "-o", tmp_path / "a.png")
    assert done.status == 0 and "nothing would go wrong" in done.out and (tmp_path / "a.png").exists()
    document = json.loads(run("rehearse", tmp_path / "a.glb", *words, "--json").out)
    assert document["assets"][0]["collision"] == 4 and document["problems"] == []
    assert run("rehearse", tmp_path / "b.glb", *words).status == 3
    assert run("rehearse", tmp_path / "a.glb", "--target", "nowhere").status == 2
    assert run("rehearse", tmp_path / "a.glb", *words, "-o", tmp_path / "a.gif").status == 2
