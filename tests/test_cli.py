from __future__ import annotations

import json
import os
import subprocess
import sys

import numpy as np
import pytest

import zesty_otter as zo
from build import Gltf, obj
from zesty_otter.formats import FORMATS
from zesty_otter.steps import STEPS, step_from_text

PERSON = "o Figur\nv 0 0 0\nv 50 0 0\nv 50 0 30\nv 0 183 0\nf 1 3 2\nf 1 2 4\nf 2 3 4\nf 3 1 4\n"


def test_a_unitless_source_is_not_guessed(run, tmp_path):
    source = obj(tmp_path, PERSON)
    ran = run("convert", source, tmp_path / "out.glb")
    assert ran.status == 2
    assert ran.out == ""
    assert "cm 50 × 183 × 30 cm 183 cm" in ran.err or "cm 0.5 × 1.83 × 0.3 m 1.83 m a person" in ran.err
    assert "say which unit it is in, for example --unit cm" in ran.err
    assert not (tmp_path / "out.glb").exists()
    document = run("convert", source, tmp_path / "out.glb", "--json").json
    assert [(guess["unit"], guess["like"]) for guess in document["guesses"]][1:3] == [
        ("cm", "a person"),
        ("m", "a football pitch"),
    ]


def test_a_height_says_enough_of_a_file_without_a_unit(run, tmp_path):
    (tmp_path / "mast.obj").write_text("v 0 0 0\nv 3 0 0\nv 0 12 0\nf 1 2 3\n")
    ran = run("convert", tmp_path / "mast.obj", tmp_path / "mast.glb", "--height", "6m")
    assert ran.status == 0, ran.err
    assert np.allclose(zo.read(tmp_path / "mast.glb").bounds()[1], (1.5, 6, 0))
    job = '[[sources]]\nfiles = "mast.obj"\nsteps = ["scale height=6m"]\n[[outputs]]\nformats = "ply"\nunit = "cm"\n'
    (tmp_path / "job.toml").write_text(job)
    assert run("run", tmp_path / "job.toml").status == 0
    assert np.allclose(zo.read(next(tmp_path.rglob("*.ply"))).bounds()[1], (150, 600, 0))
    # A length that counts before has to know the unit.
    (tmp_path / "job.toml").write_text(job.replace('["', '["weld distance=1mm", "'))
    assert run("run", tmp_path / "job.toml").status == 2


def test_convert_says_what_arrived(run, tmp_path):
    ran = run("convert", obj(tmp_path, PERSON), tmp_path / "out.glb", "--unit", "cm", "--pivot", "base")
    assert ran.status == 0
    for words in (
        "0.5 × 1.83 × 0.3 m",
        "a person",
        "triangles 4",
        "read back: size, faces, normals, UV sets, colours, materials and names as meant",
    ):
        assert words in " ".join(ran.out.split())
    assert "assumed" in ran.err and "axes 'left up forward', the usual ones" in ran.err
    assert "old name" not in ran.out
    gltf = Gltf(tmp_path / "out.glb")
    assert gltf.json["nodes"][0]["translation"] == [0.25, 0, 0.15]


def test_convert_with_every_option(run, tmp_path):
    source = obj(tmp_path, PERSON.replace("Figur", "Große Figur"))
    ran = run(
        "convert", source, tmp_path / "out.glb", "--unit", "0.01", "--axes", "right forward up", "--height", "90cm",
        "--scale", "200%", "--pivot", "centre", "--pivot-of", "scene", "--place", "origin", "--names", "yard_{name}",
        "--triangulate", "fixed", "--target", "cm-forward-right-up", "--json", "--quiet",
    )  # fmt: skip
    assert ran.status == 0
    assert ran.err == ""
    document = ran.json
    assert document["size"] == pytest.approx([0.9 / 30 * 50, 0.9, 0.9 / 30 * 183], rel=1e-6)
    assert {"kind": "node", "old": "Große Figur", "new": "yard_Grosse_Figur"} in document["renamed"]
    assert document["problems"] == []
    assert "translation" not in Gltf(tmp_path / "out.glb").json["nodes"][0]
    kept = run("convert", source, tmp_path / "kept.glb", "--unit", "cm", "--names", "keep")
    assert kept.status == 0
    assert Gltf(tmp_path / "kept.glb").json["nodes"][0]["name"] == "Große Figur"


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (["nothing.obj", "out.glb"], 3, "nothing.obj: there is no such file"),
        ([".", "out.glb"], 3, "is a folder"),
        (["empty.obj", "out.glb"], 3, "empty.obj: is empty (0 bytes)"),
        (["points.obj", "out.glb", "--unit", "m"], 3, "nothing to write: the scene has no faces"),
        (["thing.obj", "out.xyz", "--unit", "m"], 2, "'.xyz' is not the ending of a known format"),
        (["thing.obj", "thing.obj", "--unit", "m"], 4, "one of the files the scene was read from"),
        (["thing.obj", "out.glb", "--unit", "yards"], 2, "'yards' is not a unit. Use one of mm, cm, m, in, ft"),
        (["thing.obj", "out.glb", "--unit", "m", "--axes", "up up up"], 2, "one direction twice"),
        (["thing.obj", "out.glb", "--unit", "m", "--pivot", "top"], 2, "setting 'at'"),
        (["thing.obj", "out.glb", "--unit", "m", "--target", "moon"], 2, "'moon' is not a target. There are cm"),
        (["thing.obj", "out.glb", "--unit", "m", "--to-unit", "cm"], 2, "a .glb file is always in m"),
        (["thing.obj", "empty.obj/out.glb", "--unit", "m"], 4, "could not be written"),
        (["thing.obj", "out.glb", "--wobble"], 2, "No such option"),
        (["thing.obj"], 2, "Missing argument"),
    ],
)  # fmt: skip
def test_wrong_input_gets_one_clear_message_and_its_status(run, tmp_path, monkeypatch, arguments, status, message):
    monkeypatch.chdir(tmp_path)
    obj(tmp_path, PERSON)
    obj(tmp_path, "v 0 0 0\n", "points.obj")
    obj(tmp_path, "", "empty.obj")
    before = sorted(path.name for path in tmp_path.iterdir())
    ran = run("convert", *arguments)
    assert ran.status == status
    assert message in ran.err
    assert "Traceback" not in ran.err
    assert sorted(path.name for path in tmp_path.iterdir()) == before
    assert json.loads(run("convert", *arguments, "--json").out or "{}").get("error", message).find(message[:12]) >= 0


def test_the_usual_steps_are_options(run, tmp_path):
    doubled = PERSON.replace("f 2 3 4", "f 3 4 2\nf 2 3 4") + "v 9 9 9\no sign\nf 1 2 3\n"
    source = obj(tmp_path, doubled)
    ran = run(
        "convert", source, tmp_path / "out.glb", "--unit", "cm", "--drop", "sign", "--weld", "1mm", "--clean", "--bake",
        "--normals", "30", "--materials", "plain", "--textures", "256", "--names-table", tmp_path / "names.csv",
        "--step", "names prefixes={visible='yard_'}", "--step", "uv-sets report=true", "--verbose",
    )  # fmt: skip
    assert ran.status == 0
    for words in (
        "dropped 1 mesh: sign",
        "1 duplicate face, 1 loose point",
        "normals of 1 mesh made by angle",
        "no UVs",
    ):
        assert words in ran.err
    assert (tmp_path / "names.csv").read_text().splitlines()[:2] == ["kind,old,new", "node,Figur,yard_Figur"]
    assert Gltf(tmp_path / "out.glb").json["nodes"][0]["name"] == "yard_Figur"
    again = run("convert", tmp_path / "out.glb", tmp_path / "again.glb", "--normals", "smooth", "--textures", "none")
    assert again.status == 0
    assert len(Gltf(tmp_path / "again.glb").primitive()[0]["POSITION"]) == 4


def test_steps_are_listed_and_explained_from_their_settings(run):
    listed = run("steps")
    assert all(slug in listed.out for slug in STEPS)
    explained = " ".join(run("steps", "weld").out.split())
    for words in (
        "Merge points that are very close to each other",
        "distance",
        "0.1 mm",
        "--step 'weld distance=0.1mm'",
    ):
        assert words in explained
    for document in run("steps", "--json").json:
        line = document["example"].removeprefix("--step '").removesuffix("'")
        assert (
            step_from_text(line).model_dump() == STEPS[document["name"]](**STEPS[document["name"]].example).model_dump()
        )
    assert run("steps", "wled").status == 2


def test_survey_shows_the_table_of_units_and_all_that_is_in_the_file(run, tmp_path):
    ran = run("survey", obj(tmp_path, "mtllib gone.mtl\nusemtl a\n" + PERSON + "o figur\nf 1 2 3 4\nf 1 2 3 4 2\n"))
    assert ran.status == 0
    text = " ".join(ran.out.split())
    for words in (
        "right-handed", "not known", "50 × 183 × 30 units", "4 triangles, 1 quad, 1 n-gon (up to 5 corners)",
        "9 triangles", "clash when case is ignored: Figur, figur", "1.83 m a person", "clean",
    ):  # fmt: skip
        assert words in text
    assert "gone.mtl' was not found" in ran.err
    document = run("survey", tmp_path / "thing.obj", "--unit", "cm", "--json").json
    assert document["size"] == [50, 183, 30]
    assert document["unit"] == 0.01
    assert [node["faces"]["ngons"] for node in document["nodes"]] == [0, 1]


def test_survey_tells_roles_and_the_bounds_that_are_named(run, tmp_path):
    text = PERSON + PERSON.replace("Figur", "Figur_bounds").replace("v 50", "v 80").replace("f 1 3 2", "f 5 7 6")
    ran = run("survey", obj(tmp_path, text), "--unit", "cm")
    shown = " ".join(ran.out.split())
    assert "size 0.5 × 1.83 × 0.3 m" in shown
    assert "as Figur_bounds says" in shown
    assert "role" in shown


def test_survey_of_several_files_goes_on_after_a_bad_one(run, tmp_path):
    good = obj(tmp_path, PERSON)
    ran = run("survey", tmp_path / "no.obj", good, "--json")
    assert ran.status == 3
    assert "no such file" in ran.json[0]["error"]
    assert ran.json[1]["triangles"] == 4


def test_formats_lists_what_is_read_and_written(run):
    ran = run("formats")
    assert ran.status == 0
    assert all(one.title in ran.out for one in FORMATS)
    table = run("formats", "--json").json
    assert [one["name"] for one in table] == [
        "collada",
        "glb",
        "gltf",
        "obj",
        "places-csv",
        "places-json",
        "ply",
        "step",
        "stl",
        "3mf",
        "usda",
        "usdc",
        "usdz",
        "x3d",
        "x3dv",
        "vrml",
    ]
    assert all(one["reads"] for one in table)
    assert [one["name"] for one in table if not one["writes"]] == ["step", "x3dv", "vrml"]


def test_targets_say_which_space_they_work_in(run, tmp_path):
    hands = {one["name"]: one["right_handed"] for one in run("targets", "--json").json}
    assert hands == {
        "cm-forward-right-up": False,
        "m-left-up-forward": True,
        "m-right-forward-up": True,
        "m-right-up-forward": False,
    }
    assert "forward right up" in run("targets", "cm-forward-right-up").out
    assert run("targets", "moon").status == 2
    ran = run("convert", obj(tmp_path, PERSON), tmp_path / "a.glb", "--unit", "cm", "--target", "cm-forward-right-up")
    assert ran.status == 0
    assert "a .glb file is written in left up forward, m; 'cm-forward-right-up' turns it when it reads it" in ran.err


def test_the_installed_command_starts_and_pipes(tmp_path):
    command = [sys.executable, "-m", "zesty_otter"]
    version = subprocess.run([*command, "--version"], capture_output=True, text=True, check=True)
    assert version.stdout.startswith("zesty-otter ")
    nothing = subprocess.run(command, capture_output=True, text=True, check=False)
    assert "survey" in nothing.stdout + nothing.stderr
    read, write = os.pipe()
    os.close(read)
    gone = subprocess.run([*command, "formats"], stdout=write, stderr=subprocess.PIPE, text=True, check=False)
    os.close(write)
    assert (gone.returncode, gone.stderr) == (0, "")
