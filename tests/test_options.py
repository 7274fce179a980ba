"""Every option of every command does something: with it and without, what comes out differs."""

from __future__ import annotations

import re
from importlib import import_module
from pathlib import Path

import numpy as np
import pytest
import typer

import zesty_otter as zo
from build import cube, moved, scene_of
from exact import cylinder, written
from test_found_in_use import ball
from zesty_otter.cli import COMMANDS
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse
from zesty_otter.pixels import png_of

# What each option is tried with: words for it, and the file that is converted (a.glb where nothing else is said).
CONVERT = {
    "--unit": ["--unit", "cm"], "--axes": ["--axes", "right forward up"], "--pose": None, "--scene": None, "--colors": ["--colors", "linear"],
    "--textures-from": ["--textures-from", "{folder}/maps"], "--target": ["--target", "{folder}/t.toml"],
    "--to-unit": ["--to-unit", "cm"], "--to-axes": ["--to-axes", "forward right up"], "--keep": ["--keep", "buoy"],
    "--drop": ["--drop", "buoy"], "--lights": ["--lights"], "--cameras": ["--cameras"], "--scale": ["--scale", "50%"],
    "--height": ["--height", "1m"], "--bake": ["--bake"], "--pivot": ["--pivot", "base"],
    "--pivot-of": ["--pivot", "base", "--pivot-of", "scene"], "--place": ["--place", "origin"], "--weld": ["--weld", "2mm"],
    "--clean": ["--clean"], "--normals": ["--normals", "smooth"], "--triangulate": ["--triangulate", "fixed"],
    "--tangents": ["--tangents", "all"], "--budget": ["--budget", "200"], "--materials": ["--materials", "plain"],
    "--textures": ["--textures", "none"], "--levels": ["--levels", "50"], "--card": ["--card", "2"],
    "--collision": ["--collision", "box"], "--collision-tolerance": ["--collision", "auto", "--collision-tolerance", "70cm"],
    "--shadow": ["--shadow", "1cm"], "--names": ["--names", "x_{name}"], "--names-table": ["--names-table", "{folder}/n.csv"],
    "--quantized": ["--quantized"], "--step": ["--step", "scale factor=2"], "--json": ["--json"], "--quiet": ["--quiet"],
    "--verbose": ["--verbose"], "--unwrap": ["--unwrap", "light"], "--atlas": ["--atlas", "128"],
    "--bake-from": ["--unwrap", "paint", "--bake-from", "{folder}/a.glb"], "--writing": ["--writing", "quantized=yes"], "--facets": ["--facets", "density=0"],
    "--gather": ["--gather"], "--swap": ["--swap", "{folder}/s.csv"], "--stand-ins": ["--stand-ins", "buoy"], "--cells": ["--cells", "2m"],
}  # fmt: skip
AGAINST = {
    "--bake-from": ["--unwrap", "paint"],
    "--pivot-of": ["--pivot", "base"],
    "--collision-tolerance": ["--collision", "auto"],
}
ENDING = {"--to-unit": "obj", "--to-axes": "obj", "--triangulate": "obj", "--tangents": "glb"}
SOURCE = {"--gather": "g.glb", "--atlas": "m.glb", "--unit": "a.obj", "--colors": "a.obj", "--axes": "a.obj", "--triangulate": "a.obj", "--weld": "w.obj", "--textures-from": "a.obj", "--materials": "b.glb", "--textures": "b.glb",
          "--clean": "b.glb", "--tangents": "b.glb", "--facets": "c.step"}  # fmt: skip


@pytest.fixture(scope="module")
def yard(tmp_path_factory) -> Path:
    """Files with something for every option."""
    folder = tmp_path_factory.mktemp("yard")
    (folder / "maps").mkdir()
    (folder / "t.toml").write_text('[names]\nvisible = "t_{name}"\n')
    gap = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 1 0.001 0\nv 2 0 0\nv 1 1 0\n"
    written(folder / "c.step", cylinder)
    (folder / "w.obj").write_text(f"o sheet\n{gap}f 1 2 3\nf 4 5 6\n")
    (folder / "maps" / "net.png").write_bytes(png_of(np.full((8, 8, 4), 90, np.uint8)))
    (folder / "a.mtl").write_text("newmtl net\nKd .5 .5 .5\nmap_Kd net.png\n")
    bend = "v 0 0 0\nv 1 0 0.4\nv 1 1 0\nv 0 1 0.4\nv 0 2 0\nvt 0 0\nvt 1 1\nvt 1 0\n"
    (folder / "a.obj").write_text(f"mtllib a.mtl\no sail\nusemtl net\n{bend}f 1/1 2/2 3/3 4/1\nf 4/1 3/2 5/3\n")
    small = Texture("small.png", data=png_of(np.arange(256, dtype=np.uint8).reshape(8, 8, 4)))
    net = Material("net", metallic=0.5, textures={"base_color": TextureUse(small)})
    faces = [[0, 2, 3, 1], [0, 2, 3, 1], [4, 5, 7, 6]]
    box = zo.Mesh.from_faces("box", cube().points, faces, slots=(net,))
    box = box.replace(layers=(Layer("uv", np.random.default_rng(1).random((12, 2)), np.arange(12)),))
    zo.write(scene_of(Node("box", content=box)), folder / "b.glb")
    tilted = moved(3, 1, 0) @ np.diag([1.0, 2, 1, 1])
    nodes = (
        Node("buoy", moved(1, 1, 1), content=ball("buoy", 10)),
        Node("Crate 1", tilted, content=cube((1, 1, 1.3), "crate")),
        Node("lamp", content=zo.Light("lamp")), Node("eye", content=zo.Camera("eye")),
    )  # fmt: skip
    zo.write(scene_of(*nodes), folder / "a.glb")
    two = cube(name="two", slots=(Material("red", (1, 0, 0, 1)), Material("blue")), face_slot=[0, 0, 0, 1, 1, 1])
    zo.write(scene_of(two), folder / "m.glb")
    (folder / "s.csv").write_text("name,file,node\nbuoy,b.glb,box\n")
    zo.write(
        scene_of(*(Node(f"post_{k}", moved(k, 0, 0), content=cube(name=f"p{k}")) for k in range(3))), folder / "g.glb"
    )
    return folder


def options_of(command: str) -> set[str]:
    made = typer.Typer(add_completion=False)
    made.command()(import_module(f"zesty_otter.cli.{command}").command)
    found = typer.main.get_command(made)
    return {one.opts[0] for one in found.params if one.opts[0].startswith("--")}


def outcome(ran, folder: Path, out: Path) -> tuple:
    """All that comes of a command: status, what it says, and the files it makes, without the name of the folder."""
    files = {
        path.name: path.read_bytes() for path in sorted(out.rglob("*")) if path.is_file() and not path.name.startswith(".")
    }  # fmt: skip
    said = (
        re.sub(r"\S*" + re.escape(out.name) + r"\S*", "", ran.out),
        re.sub(r"\S*" + re.escape(out.name) + r"\S*", "", ran.err),
    )
    return ran.status, said, files


def test_no_option_of_convert_is_forgotten():
    assert options_of("convert") == {*CONVERT, "--watch"}  # which does not end: test_watching has it


@pytest.mark.parametrize("option", [one for one, words in CONVERT.items() if words])
def test_options_of_convert_do_something(yard, tmp_path, run, option):
    source = yard / SOURCE.get(option, "a.glb")
    ending = ENDING.get(option, "glb")
    always = ["--unit", "m"] if source.suffix == ".obj" and option != "--unit" else []
    against = AGAINST.get(option, ["--unit", "m"] if option == "--unit" else [])
    found = []
    for n, words in enumerate((against, CONVERT[option])):
        out = tmp_path / f"out{n}"
        out.mkdir()
        words = [word.replace("{folder}", str(out if "n.csv" in word else yard)) for word in words]
        ran = run("convert", source, out / f"x.{ending}", *always, *words)
        assert ran.status in (0, 1), ran.err
        found.append(outcome(ran, tmp_path, out))
    if option in ("--json", "--quiet", "--verbose"):
        assert found[0][1] != found[1][1] and found[0][2] == found[1][2]
    else:
        assert found[0][2] != found[1][2]


OTHERS = {
    "survey": {"--unit": ["--unit", "cm"],  "--axes": ["--axes", "right forward up"], "--json": ["--json"], "--quiet": ["--quiet"],
               "--verbose": None},
    "check": {"--target": ["--target", "strict.toml"], "--junit": ["--junit", "j.xml"], "--fix": ["--fix", "f.toml"],
              "--unit": ["--unit", "cm"], "--axes": None, "--json": ["--json"],
              "--quiet": None, "--verbose": None},
    "compare": {"--tolerance": ["--tolerance", "10m"], "--unit": ["--unit", "cm"], "--axes": ["--axes", "right forward up"],
                "--axes-b": ["--axes-b", "right forward up"], "--json": ["--json"], "--quiet": None},
    "rehearse": {"--target": ["--target", "strict.toml"], "--json": ["--json"], "--picture": None, "--quiet": None},
    "swap": {"--table": None, "--originals": ["--originals", "a.glb"], "--unit": ["--unit", "cm", "--originals", "a.glb"],
             "--axes": ["--axes", "right forward up", "--originals", "a.glb"], "--json": ["--json", "--originals", "a.glb"],
             "--quiet": None, "--verbose": None},
}  # fmt: skip
ARGUMENTS = {
    "survey": ["a.obj"],
    "check": ["a.obj"],
    "compare": ["a.obj", "c.obj"],
    "rehearse": ["a.glb"],
    "swap": ["a.obj", "swapped.glb"],
}


@pytest.mark.parametrize("command", list(OTHERS))
def test_options_of_commands_that_look_do_something(yard, tmp_path, run, monkeypatch, command):
    monkeypatch.chdir(yard)
    (yard / "strict.toml").write_text("longest_name = 4\n[limits]\ntriangles = 1\n[require]\nuv_sets = 3\n")
    (yard / "c.obj").write_text((yard / "a.obj").read_text().replace("v 0 2 0", "v 0 2.5 0"))
    plain = run(command, *ARGUMENTS[command])
    for option, words in OTHERS[command].items():
        if words:
            before = set(yard.iterdir())
            ran = run(command, *ARGUMENTS[command], *words)
            changed = (ran.status, ran.out, ran.err) != (plain.status, plain.out, plain.err)
            assert changed or set(yard.iterdir()) - before, option


PICTURE = {
    "--unit": ["a.obj", "--unit", "cm"], "--axes": ["a.obj", "--axes", "right forward up"], "--out": None,
    "--views": ["a.obj", "--views", "top"], "--style": ["a.obj", "--style", "normals"],
    "--levels": ["levels.glb", "--levels"], "--assets": ["levels.glb", "--assets"], "--size": ["a.obj", "--size", "300x200"],
    "--quiet": None,  # progress on a terminal only
}  # fmt: skip


def test_options_of_picture_do_something(yard, tmp_path, run, monkeypatch):
    monkeypatch.chdir(yard)
    nodes = [Node(f"{name}{end}", content=ball(name, 6 + 4 * (not end))) for name in "ab" for end in ("", "_lod1")]
    zo.write(scene_of(*nodes), yard / "levels.glb")
    assert options_of("picture") == set(PICTURE)
    for option, words in PICTURE.items():
        found = []
        for n, given in enumerate((words[:1], words) if words else ()):
            out = tmp_path / f"{option}{n}"
            out.mkdir()
            ran = run("picture", *given, "--out", out / "x.png")
            assert ran.status == 0, ran.err
            found.append(outcome(ran, tmp_path, out))
        assert not words or found[0] != found[1], option


# What each option of `run` is tried with, and what was done to the folder before.
RUN = {
    "--dry-run": (["--dry-run"], "new"), "--workers": (["--workers", "0"], "new"), "--only": (["--only", "nobody*"], "new"),
    "--fresh": (["--fresh"], "made"), "--replace-edited": (["--replace-edited"], "edited"),
    "--replace-foreign": (["--replace-foreign"], "foreign"), "--schema": (["--schema"], "new"), "--json": (["--json"], "new"),
    "--quiet": (["--quiet"], "new"), "--verbose": (["--verbose"], "new"), "--cluster": (["--cluster", "x://y"], "new"),
    "--ship": (["--ship", "files"], "new"), "--worker-folder": (["--worker-folder", "/a=/b"], "new"),
}  # fmt: skip


def test_options_of_run_do_something(yard, tmp_path, run):
    assert options_of("run") == {*RUN, "--watch", "--export-record"}  # as above, and in test_jobs.py
    for option, (words, before) in RUN.items():
        found = []
        for n, given in enumerate(([], words)):
            folder = tmp_path / f"{option}{n}"
            made = folder / "ready" / "out" / "a.glb"
            made.parent.mkdir(parents=True)
            (folder / "a.glb").write_bytes((yard / "a.glb").read_bytes())
            (folder / "job.toml").write_text(
                '[[sources]]\nfiles = ["a.glb"]\n[[outputs]]\nfolder = "out"\nformats = ["glb"]\nsteps = ["scale factor=2"]\n'
            )
            if before in ("made", "edited"):
                assert run("run", folder / "job.toml", "--quiet").status == 0
            if before in ("edited", "foreign"):
                made.write_bytes(b"by hand")
            ran = run("run", folder / "job.toml", *given)
            found.append(
                (
                    (ran.status, ran.out.replace(folder.name, ""), ran.err.replace(folder.name, "")),
                    made.is_file() and made.read_bytes(),
                )
            )
        if option in ("--quiet", "--json", "--verbose"):
            assert found[0][0] != found[1][0] and found[0][1] == found[1][1], option
        else:
            assert found[0] != found[1], option


def test_every_command_has_help_that_names_its_options(run):
    for command in COMMANDS:
        ran = run(command, "--help")
        assert ran.status == 0 and all(option in ran.out for option in options_of(command)), command
