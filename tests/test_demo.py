from __future__ import annotations

import doctest
import importlib
import pkgutil
import re
import runpy
from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import volume
from zesty_otter.audit import inspect_glb
from zesty_otter.audit.surveying import leftover
from zesty_otter.demo import PIECES, write_kit
from zesty_otter.steps import STEPS

EXAMPLES = sorted((Path(__file__).parent.parent / "examples").glob("*.py"))


@pytest.fixture(scope="module")
def kit(tmp_path_factory):
    folder = tmp_path_factory.mktemp("kit")
    return dict(zip([piece.out for piece in PIECES], write_kit(folder), strict=True))


def mended(kit, piece):
    scene = zo.read(kit[piece.out], piece.unit, piece.axes)
    scene = zo.apply(scene, zo.steps.Reframe(axes="left up forward", unit="m"))
    return zo.apply(scene, *(zo.steps.step_from_text(text) for text in piece.steps))


@pytest.mark.parametrize("piece", PIECES, ids=lambda piece: piece.out)
def test_each_piece_arrives_clean_and_in_the_size_of_its_drawing(kit, tmp_path, piece):
    scene = mended(kit, piece)
    zo.write(scene, tmp_path / piece.out)
    # Of exact surfaces as nearly as their facets.
    assert inspect_glb(tmp_path / piece.out).size == pytest.approx(piece.size, abs=5e-4 if piece.facets else 2e-6)
    assert all(leftover(placed.node.transform) == () for placed in scene.walk())
    if piece.out not in ("net_rack.glb", "quay_wall.glb"):  # these have an open sheet
        closed = [mesh for mesh in scene.meshes if not mesh.name.startswith("hull")]
        assert closed
        assert all(volume(mesh) > 0 for mesh in closed)


def test_the_dirt_that_is_announced_is_there(kit):
    def survey(name):
        piece = next(piece for piece in PIECES if piece.out == name)
        return zo.audit.survey(zo.read(kit[name], piece.unit, piece.axes))

    crane = survey("jib_crane.glb")
    assert {part for node in crane.nodes for part in node.leftover} == {"rotation", "scale", "mirror"}
    crates = survey("crate_stack.glb")
    assert (crates.loose_points, set(crates.default_names)) == (2, {"Cube", "Cube.001", "cube"})
    assert survey("mooring_post.glb").faces.largest == 24
    assert survey("net_rack.glb").materials[1].alpha_mode == "mask"


def test_the_crates_lose_what_is_there_twice(kit):
    piece = next(piece for piece in PIECES if piece.out == "crate_stack.glb")
    scene = mended(kit, piece)
    assert [(mesh.face_count, mesh.point_count) for mesh in scene.meshes] == [(6, 8)] * 3
    assert len(scene.materials) == 1
    assert [node.name for node in scene.roots] == ["crate_01", "crate_02", "crate_03"]


@pytest.mark.parametrize("piece", PIECES, ids=lambda piece: piece.out)
def test_pieces_end_in_names_one_would_give(kit, piece):
    names = [placed.node.name for placed in mended(kit, piece).walk() if placed.node.mesh is not None]
    assert names and not [name for name in names if re.search(r"default|^[A-Z]?[a-z]+\.?\d{3}$|[^a-z0-9_]", name)]


def test_quay_modules_meet_their_neighbours(kit):
    mesh = zo.read(kit["quay_wall.glb"], "m").meshes[0]
    edges = [np.round(mesh.points[np.isclose(mesh.points[:, 0], x)][:, 1:], 9) for x in (0, 2)]
    assert {tuple(p) for p in edges[0]} == {tuple(p) for p in edges[1]}
    assert len(edges[0]) > 8


def test_the_kit_is_the_same_every_time(kit, tmp_path):
    for path, again in zip(kit.values(), write_kit(tmp_path), strict=True):
        for file in path.parent.rglob("*"):
            if file.is_file():
                assert file.read_bytes() == (again.parent / file.relative_to(path.parent)).read_bytes()


def test_the_demo_says_what_was_wrong_and_mended(run, tmp_path):
    ran = run("demo", tmp_path / "yard")
    assert ran.status == 0
    text = " ".join(ran.out.split())
    for piece in PIECES:
        assert f"{piece.file} was wrong {' '.join(piece.wrong[0].split())}" in text
        assert (tmp_path / "yard" / "ready" / "engine" / piece.out).exists()
        assert (tmp_path / "yard" / "ready" / "joined" / piece.out.replace(".glb", ".obj")).exists()
    assert text.count("as meant") == 3 * len(PIECES) + 1
    page = (tmp_path / "yard" / "ready" / "report.html").read_text()
    assert page.count("<article") == len(PIECES) and "<svg viewBox" in page and "footing: where feet" in page
    assert "12 m from the origin" in text
    blocked = run("demo", tmp_path / "yard" / "ready" / "engine" / PIECES[0].out)
    assert blocked.status == 4
    assert "Name another folder" in blocked.err


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.stem)
def test_examples_run(path, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    before = dict(STEPS)
    runpy.run_path(str(path), run_name="__main__")
    assert list(tmp_path.rglob("*.gl*"))
    for slug in STEPS.keys() - before:
        del STEPS[slug]


def documented() -> list[doctest.DocTest]:
    """Every docstring with examples, once."""
    found = {}
    for module in pkgutil.walk_packages(zo.__path__, "zesty_otter."):
        if not module.name.endswith("__main__"):
            for test in doctest.DocTestFinder().find(importlib.import_module(module.name)):
                if test.examples:
                    found[test.name] = test
    return list(found.values())


@pytest.mark.parametrize("test", documented(), ids=lambda test: test.name.removeprefix("zesty_otter."))
def test_examples_in_docstrings_are_true(test, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    assert doctest.DocTestRunner().run(test).failed == 0


def test_the_pages_of_steps_are_what_the_settings_say():
    tools = runpy.run_path(str(Path(__file__).parent.parent / "tools" / "step_pages.py"))
    for path, text in tools["pages"]().items():
        assert path.read_text("utf-8") == text, "run `make docs`"
    assert sorted(slug for slugs in tools["FAMILIES"].values() for slug in slugs) == sorted(STEPS)
