"""What a package of somebody else's brings by entry points is known everywhere: formats, steps, rules, targets, roles."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

import zesty_otter as zo
from build import cube, moved, scene_of
from zesty_otter.model import Node

HOME = Path(__file__).parent / "third_party"


@pytest.fixture
def told(tmp_path):
    def told(*words, status=0):
        paths = os.pathsep.join([str(HOME), os.environ.get("PYTHONPATH", "")])
        done = subprocess.run(
            [sys.executable, "-m", "zesty_otter", *map(str, words)], cwd=tmp_path, capture_output=True, text=True,
            env={**os.environ, "PYTHONPATH": paths}, check=False,
        )  # fmt: skip
        assert done.returncode == status, done.stdout + done.stderr
        return done.stdout

    return told


def test_what_a_package_brings_is_listed_and_used(tmp_path, told):
    zo.write(scene_of(Node("box", moved(0, -0.5, 0), content=cube(name="box"))), tmp_path / "a.glb")
    assert "Triangles as text" in told("formats")
    assert "raise" in told("steps") and "Lift everything by a metre." in told("steps", "raise")
    assert "river" in told("targets")
    told("convert", "a.glb", "b.tri", "--target", "river", "--step", "bake", "--step", "raise")
    assert len((tmp_path / "b.tri").read_text().split()) == 12 * 9
    found = json.loads(told("check", "a.glb", "--json", status=1))["findings"]
    assert [one["node"] for one in found if one["rule"] == "sunk"] == ["box"]
    assert "lies below" not in told("check", "b.tri", "--unit", "m", "--axes", "left up forward", "--target", "river")


def test_a_role_of_a_package_is_known_by_name_and_kept_by_formats(tmp_path, told):
    scene = scene_of(Node("bell", content=cube(name="bell")), Node("bell_sound", content=cube(name="ring")))
    zo.write(scene, tmp_path / "a.glb")
    assert "sound" in told("convert", "a.glb", "b.usda", "--step", "roles", "--verbose")
    assert 'purpose = "guide"' in (tmp_path / "b.usda").read_text()
    told("convert", "a.glb", "c.glb", "--step", "roles", "--keep", "role:sound")
    nodes = json.loads(told("survey", "c.glb", "--json"))["nodes"]
    assert [(one["path"][-1], one["role"]) for one in nodes] == [("bell_sound", "sound")]


def test_a_format_that_is_only_written_is_delivered_and_not_read_back(tmp_path, told):
    zo.write(scene_of(cube(name="box")), tmp_path / "a.glb")
    (tmp_path / "job.toml").write_text('[[sources]]\nfiles = "a.glb"\n[[outputs]]\nformats = ["tri", "count"]\n')
    assert "not read back" in told("run", "job.toml")
    assert (tmp_path / "ready" / "a.count").read_text() == "12"
    assert "not read back" in told("convert", "a.glb", "b.count")


def test_a_package_that_cannot_be_loaded_is_named(tmp_path, told, monkeypatch):
    broken = tmp_path / "broken"
    (broken / "leaky-1.0.dist-info").mkdir(parents=True)
    (broken / "leaky-1.0.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: leaky\nVersion: 1.0\n")
    (broken / "leaky-1.0.dist-info" / "entry_points.txt").write_text("[zesty_otter.formats]\nleak = leaky:FORMAT\n")
    (broken / "leaky.py").write_text("raise RuntimeError('no boat')")
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(broken), os.environ.get("PYTHONPATH", "")]))
    assert told("formats", status=2) == ""
