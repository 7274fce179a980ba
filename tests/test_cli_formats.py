"""The command line over every format, and what a job prints."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import WRITTEN, cube, obj, scene_of
from zesty_otter._settings import Settings, read_settings
from zesty_otter.jobs.record import Record
from zesty_otter.model import Node

ENDINGS = [suffix for one in WRITTEN for suffix in one.suffixes]
CUBE = "o crate\n" + "".join(f"v {x} {y} {z}\n" for z in (0, 3) for y in (0, 2) for x in (0, 1))
CUBE += "f 1 3 4 2\nf 5 6 8 7\nf 1 2 6 5\nf 3 7 8 4\nf 1 5 7 3\nf 2 4 8 6\n"


@pytest.mark.parametrize("ending", ENDINGS)
def test_convert_and_survey_speak_every_format(run, tmp_path, ending):
    source = obj(tmp_path, CUBE)
    out = tmp_path / "out" / f"crate{ending}"
    ran = run("convert", source, out, "--unit", "cm", "--axes", "left up forward", "--json")
    assert ran.status == 0
    assert ran.json["problems"] == []
    assert np.allclose(ran.json["size"], [0.01, 0.02, 0.03])
    assert ran.json["facts"]["triangles"] == 12
    seen = (
        run("survey", out, "--unit", "cm", "--json")
        if ending in (".obj", ".ply", ".stl")
        else run("survey", out, "--json")
    )
    assert seen.status == 0


@pytest.mark.parametrize(
    ("ending", "unit", "axes", "found"),
    [
        (".obj", "cm", "forward right up", (0.01, "forward right up")),
        (".ply", "in", "right forward up", (0.0254, "right forward up")),
        (".dae", "cm", "right forward up", (0.01, "left back up")),  # the way COLLADA says that Z is up
        (".usda", "mm", "forward right up", (0.001, "left back up")),
        (".x3d", "ft", "right up forward", (0.3048, "left up forward")),
    ],
)
def test_files_for_a_target_are_as_near_to_its_space_as_the_format_allows(run, tmp_path, ending, unit, axes, found):
    out = tmp_path / f"out{ending}"
    (tmp_path / "t.toml").write_text(f'[frame]\naxes = "{axes}"\nunit = "{unit}"\n')
    arguments = ["convert", obj(tmp_path, CUBE), out, "--unit", "m", "--target", tmp_path / "t.toml"]
    assert run(*arguments).status == 0
    said = (unit, axes) if ending in (".obj", ".ply") else (None, None)
    scene = zo.read(out, *said)
    assert (pytest.approx(scene.frame.unit), " ".join(scene.frame.axes)) == found
    scene = zo.apply(scene, zo.steps.Reframe(axes="left up forward", unit="m"))
    assert np.allclose(np.ptp(scene.bounds(), axis=0), [1, 2, 3], atol=1e-5)


@pytest.mark.parametrize("ending", [".dae", ".x3d", ".usda", ".usdz", ".ply", ".stl"])
def test_an_empty_or_foreign_file_gets_one_clear_message(run, tmp_path, ending):
    for content in (b"", b"GIF89a nothing of the kind", bytes(40)):
        path = tmp_path / f"bad{ending}"
        path.write_bytes(content)
        ran = run("survey", path)
        assert ran.status == 3
        assert f"bad{ending}" in ran.err
        assert ran.err.count("zesty-otter:") == 1
        assert "Traceback" not in ran.err


@pytest.mark.parametrize("ending", [".dae", ".x3d", ".usda", ".ply", ".stl", ".obj"])
def test_a_scene_without_faces_is_not_written(tmp_path, ending):
    points = zo.Mesh("cloud", [[0, 0, 0], [1, 0, 0]], [0], [])
    with pytest.raises(zo.InputError, match="there is nothing to write: the scene has no faces"):
        zo.write(scene_of(points), tmp_path / f"a{ending}")
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("ending", [one.suffixes[0] for one in WRITTEN])
def test_the_same_scene_gives_the_same_bytes(tmp_path, ending):
    scene = scene_of(cube(slots=(zo.Material("a b"),)), Node("ö", content=cube(name="x")))
    for folder in ("one", "two"):
        zo.write(scene, tmp_path / folder / f"a{ending}")
    files = [sorted(path for path in (tmp_path / folder).rglob("*") if path.is_file()) for folder in ("one", "two")]
    assert [path.name for path in files[0]] == [path.name for path in files[1]]
    assert [path.read_bytes() for path in files[0]] == [path.read_bytes() for path in files[1]]


def job(folder: Path, rest: str = "") -> Path:
    (folder / "crate.obj").write_text(CUBE)
    path = folder / "yard.toml"
    path.write_text(
        f'title = "Crates"\n{rest}\n[[sources]]\nfiles = "crate.obj"\nunit = "m"\n[[outputs]]\nformats = "glb"\n'
    )
    return path


def test_a_job_prints_a_table_notes_and_where_to_look(run, tmp_path):
    ran = run("run", job(tmp_path))
    assert ran.status == 0
    for words in (
        "Crates",
        "crate.glb",
        "1 × 2 × 3 m",
        "12",
        "as meant",
        f"1 written; 1 file in {tmp_path / 'ready'}",
    ):
        assert words in ran.out
    assert "the usual ones for this format" in ran.err
    assert run("run", job(tmp_path), "--fresh", "--quiet").err == ""
    assert "neither normals nor smoothing groups" in run("run", job(tmp_path), "--fresh", "--verbose").err


def test_a_job_as_json_is_one_document(run, tmp_path):
    document = run("run", job(tmp_path, "[lay_out]\nfile = 'all.glb'"), "--json").json
    assert (document["status"], document["title"]) == (0, "Crates")
    (asset,) = document["assets"]
    assert (asset["state"], asset["files"][0]["file"], asset["files"][0]["size"]) == ("written", "crate.glb", [1, 2, 3])
    assert document["overview"]["files"][0]["triangles"] == 12
    assert Record(tmp_path / "ready" / "yard.record").names() == {"crate.obj", "all.glb"}


def test_a_job_that_is_not_there_is_asked_for(run, tmp_path):
    assert "Name a job file" in run("run").err
    ran = run("run", tmp_path / "none.toml")
    assert (ran.status, "there is no such file" in ran.err) == (3, True)
    assert run("run", tmp_path).status == 3


class Inner(Settings):
    a: int = 0


class Outer(Settings):
    x: int = 0
    inner: Inner = Inner()
    rows: tuple[Inner, ...] = ()
    words: tuple[str, ...] = ()


@pytest.mark.parametrize(
    ("text", "line"),
    [
        ("y = 1", 1),
        ("\n\n# c\nx = 'no'", 4),
        ("[inner]\n\nb = 1", 3),
        ("inner.a = 'no'", 1),
        ("inner = { a = 1, b = 2 }", 1),
        ("[[rows]]\na = 1\n[[rows]]\na = 'no'", 4),
        ("rows = [\n  { a = 1 },\n  { a = 2, c = 3 } ]", 3),
        ("words = ['a',\n\"b#,]\",\n 3]", 3),
        ('words = ["""\n]]\n""",\n 7]', 4),
        ("x = 1 # y = 2\n'q r' = 3", 2),
    ],
)
def test_complaints_about_settings_point_at_their_line(tmp_path, text, line):
    path = tmp_path / "s.toml"
    path.write_text(text)
    with pytest.raises(zo.UsageError) as caught:
        read_settings(path, Outer)
    assert caught.value.place == f"line {line}"
