"""Checks: each rule is broken by something, said where, and mended by the step it names."""

from __future__ import annotations

import json
from xml.etree import ElementTree

import numpy as np
import pytest

import zesty_otter as zo
from build import moved, scene_of
from test_collision import plank, stairs
from zesty_otter.audit.checks import check, steps_that_mend
from zesty_otter.audit.rules import all_rules
from zesty_otter.model import Frame, Layer, Material, Mesh, Node, Scene, Texture, TextureUse
from zesty_otter.steps import Collision, step_from_text
from zesty_otter.targets import Limits, Required, Target, load

TARGET = load("m-left-up-forward")
SHORT = TARGET.model_copy(update={"limits": Limits(index_bits=16)})
FLAT = np.array([(0, 0, 1)], np.float32)


def smooth(mesh: Mesh) -> Mesh:
    return mesh.replace(face_smoothing=np.zeros(mesh.face_count, int))


def crate(name="crate", **rest) -> Mesh:
    return smooth(plank((-0.5, 0, -0.5), (0.5, 1, 0.5)).replace(name=name, **rest))


def sheet(corners, faces, **rest) -> Mesh:
    return smooth(Mesh.from_faces("sheet", corners, faces)).replace(**rest)


def with_layer(kind: str, values) -> Mesh:
    mesh = crate()
    values = np.resize(np.array(values, np.float32), (mesh.corner_count, len(values[0])))
    return mesh.replace(layers=(Layer(kind, values, np.arange(mesh.corner_count, dtype=np.int32)),))


def textured(*roles: str) -> Mesh:
    use = TextureUse(Texture("t.png", data=b"x"))
    return crate(slots=(Material("m", textures=dict.fromkeys(roles, use)),))


def facing(mesh: Mesh) -> np.ndarray:
    """(C, 3) the direction each face of a box looks in, at its corners."""
    at = mesh.points[mesh.corner_point].reshape(-1, 4, 3)
    normal = np.cross(at[:, 1] - at[:, 0], at[:, 2] - at[:, 0])
    return np.repeat(normal / np.linalg.norm(normal, axis=1, keepdims=True), 4, axis=0)


SQUARE = [(0, 0, 0), (1, 0, 0), (1, 0, 1), (0, 0, 1)]
OVERLAP = Layer(
    "uv", np.tile(np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float32), (6, 1)), np.arange(24, dtype=np.int32)
)


def ground(side: int) -> Mesh:
    """A flat sheet of so many points to a side."""
    number = np.arange(side * side).reshape(side, side)
    corners = np.stack([number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]], axis=-1).reshape(-1)
    points = np.stack([*np.divmod(np.arange(side * side), side), np.zeros(side * side)], axis=1)[:, [1, 2, 0]] / 10
    return smooth(Mesh("ground", points, np.arange(0, len(corners) + 1, 4), corners))


BROKEN = {
    "unit-unknown": Scene((Node("a", content=crate()),), Frame("left up forward")),
    "unit-implausible": scene_of(Node("a", np.diag([1e4, 1e4, 1e4, 1.0]), content=crate())),
    "transform-leftover": scene_of(Node("a", np.diag([2, 2, 2, 1.0]), content=crate())),
    "node-mirrored": scene_of(Node("a", np.diag([-1, 1, 1, 1.0]), content=crate())),
    "pivot-away": scene_of(Node("a", content=smooth(plank((5, 0, 0), (6, 1, 1))))),
    "name-default": scene_of(Node("Cube.001", content=crate())),
    "name-clash": scene_of(Node("Gate", content=crate()), Node("gate", content=crate())),
    "name-unsafe": scene_of(Node("weir gate", content=crate())),
    "name-long": scene_of(Node("g" * 64, content=crate())),
    "name-template": zo.Scene((Node("a", content=crate()), Node("solid", content=crate(), role="collision")), Frame("left up forward", "m")),
    "faces-not-triangles": scene_of(Node("a", content=crate())),
    "faces-bent": scene_of(Node("a", content=sheet([*SQUARE[:2], (1, 0.5, 1), SQUARE[3]], [[0, 1, 2, 3]]))),
    "faces-flat": scene_of(Node("a", content=sheet([*SQUARE, (2, 0, 0)], [[0, 3, 2, 1], [0, 1, 4]]))),
    "faces-double": scene_of(Node("a", content=sheet(SQUARE, [[0, 3, 2, 1], [0, 3, 2, 1]]))),
    "not-manifold": scene_of(Node("a", content=sheet([*SQUARE, (0.5, 1, 0), (0.5, -1, 0)], [[0, 3, 2, 1], [0, 1, 4], [0, 1, 5]]))),
    "faces-contrary": scene_of(Node("a", content=sheet([*SQUARE, (0, 0, -1), (1, 0, -1)], [[0, 3, 2, 1], [0, 1, 5, 4][::-1]]))),
    "faces-inward": scene_of(Node("a", content=crate().turned_round())),
    "not-closed": scene_of(Node("a", content=crate()), Node("a_collision_1", content=crate().take_faces(np.arange(5)))),
    "normals-missing": scene_of(Node("a", content=crate(face_smoothing=None).replace(face_smoothing=None))),
    "normals-bad": scene_of(Node("a", content=with_layer("normal", [(0, 0, 0.5)]))),
    "normals-against-faces": scene_of(Node("a", content=with_layer("normal", -facing(crate())))),
    "uv-missing": scene_of(Node("a", content=textured("base_color"))),
    "uv-bad": scene_of(Node("a", content=crate(layers=(OVERLAP, OVERLAP)))),
    "texture-misused": scene_of(Node("a", content=textured("base_color", "normal"))),
    "index-width": scene_of(Node("a", content=ground(270))),
    "collision-not-convex": scene_of(Node("a", content=crate()), Node("a_collision_1", content=stairs(3))),
    "collision-pivot": scene_of(Node("a", content=crate()), Node("a_collision_1", moved(0, 1, 0), content=crate())),
    "collision-dressed": scene_of(Node("a", content=crate()), Node("a_collision_1", content=crate(slots=(Material("m"),)))),
    "footing": Collision(shape="hull").apply(scene_of(Node("a", content=smooth(stairs(3))))),
    "hidden": scene_of(Node("a", content=crate()), Node("b", content=crate(), visible=False)),
    "empty-node": scene_of(Node("a", content=crate()), Node("b")),
    "copies": scene_of(Node("a", content=smooth(stairs(2))), Node("b", content=smooth(stairs(2)))),
    "far-away": scene_of(Node("a", moved(1e5, 0, 0), content=crate())),
}  # fmt: skip


RULES = [one for one in all_rules().values() if not one.limit]


def rules_of(scene: Scene, target: Target = TARGET) -> set[str]:
    return {one.rule for one in check(scene, target)}


def test_every_rule_has_something_that_breaks_it():
    assert {one.name for one in RULES} == set(BROKEN)
    assert all(one.about and one.severity in ("error", "warning") for one in all_rules().values())


@pytest.mark.parametrize("rule", list(BROKEN))
def test_what_breaks_a_rule_is_found_and_nothing_sound_is(rule):
    found = [one for one in check(BROKEN[rule], SHORT) if one.rule == rule]
    assert found and all(one.text and one.severity in ("error", "warning") for one in found)
    sound = zo.apply(scene_of(Node("post", content=crate("post"))), zo.steps.Triangulate())
    assert check(sound, SHORT) == []


@pytest.mark.parametrize(("alpha", "told"), [("opaque", ["clean-up close_holes=..."]), ("mask", [])])
def test_the_shadow_of_a_mesh_with_openings_is_told_unless_it_is_a_net(alpha, told):
    """The shadow has no material of its own; that of the mesh it stands for tells."""
    net = sheet(SQUARE, [[0, 3, 2, 1]]).replace(slots=(Material("mesh", alpha_mode=alpha),))
    scene = zo.apply(scene_of(Node("net", content=net)), zo.steps.Shadow())
    assert [one.mend for one in check(scene, TARGET) if one.rule == "not-closed"] == told


@pytest.mark.parametrize(
    ("shape", "faces", "told"), [("surface", 5, []), ("surface", 6, ["a_collision_1"]), ("hull", 5, ["a_collision_1"])]
)
def test_a_surface_may_be_as_open_as_its_mesh(shape, faces, told):
    open_crate = crate().take_faces(np.arange(5))
    solid = Node("a_collision_1", content=open_crate, role="collision", properties={"shape": shape})
    scene = scene_of(Node("a", content=crate().take_faces(np.arange(faces))), solid)
    assert [one.node for one in check(scene, TARGET) if one.rule == "not-closed"] == told


@pytest.mark.parametrize("one", [one for one in RULES if one.mend and "..." not in one.mend], ids=lambda one: one.name)
def test_the_step_that_is_named_mends_it(one):
    found = [finding for finding in check(BROKEN[one.name], SHORT) if finding.rule == one.name]
    (step,) = steps_that_mend(found)
    assert one.name not in rules_of(zo.apply(BROKEN[one.name], step_from_text(step)), SHORT)


@pytest.mark.parametrize(
    ("rule", "target", "mend"),
    [
        ("triangles", Target(limits=Limits(triangles=40)), "lighten triangles=40"),
        ("levels-missing", Target(require=Required(levels=2)), "levels"),
        ("collision-missing", Target(require=Required(collision=True)), "collision"),
        ("vertices", Target(limits=Limits(vertices=100)), "divide by=size vertices=100"),
        ("slots", Target(limits=Limits(slots=1)), "materials one=..."),
    ],
)
def test_the_step_that_is_named_keeps_a_limit(rule, target, mend):
    two = smooth(stairs(9)).replace(slots=(Material("a"), Material("b")), face_slot=np.arange(stairs(9).face_count) % 2)
    scene = scene_of(Node("a", content=ground(12) if rule in ("vertices", "triangles") else two))
    (found,) = [one for one in check(scene, target) if one.rule == rule]
    assert found.mend == mend
    assert rule not in rules_of(zo.apply(scene, step_from_text(mend.replace("...", "wood"))), target)


def test_severities_of_rules_that_are_not_there_are_refused(tmp_path, run):
    zo.write(scene_of(crate()), tmp_path / "a.glb")
    (tmp_path / "t.toml").write_text('[severities]\nfotting = "error"\n')
    (tmp_path / "job.toml").write_text('target = "t.toml"\n[[sources]]\nfiles = "a.glb"\n[[outputs]]\n')
    for words in (["check", tmp_path / "a.glb", "--target", tmp_path / "t.toml"], ["run", tmp_path / "job.toml"]):
        done = run(*words)
        assert done.status == 2 and "'fotting', which is not a rule. Did you mean 'footing'" in done.err


def test_targets_say_how_bad_a_rule_is():
    scene = BROKEN["hidden"]
    for severity in ("error", "warning"):
        strict = TARGET.model_copy(update={"severities": {"hidden": severity}})
        assert [one.severity for one in check(scene, strict) if one.rule == "hidden"] == [severity]
    assert "hidden" not in rules_of(scene, TARGET.model_copy(update={"severities": {"hidden": "off"}}))


def test_the_command_line_tells_writes_and_mends(tmp_path, run):
    folder = tmp_path / "in"
    folder.mkdir()
    text = "o Cube\nv 0 0 0\nv 100 0 0\nv 100 0 100\nv 0 0 100\nf 4 3 2 1\no cube\nf 4 3 2 1\n"
    (folder / "a.obj").write_text(text)
    words = ("--unit", "cm", "--target", "m-left-up-forward")
    done = run("check", folder / "a.obj", *words, "--fix", tmp_path / "fix.toml", "--junit", tmp_path / "j.xml")
    assert done.status == 1 and "name-clash" in done.out and "error" in done.out
    suite = ElementTree.parse(tmp_path / "j.xml").getroot()[0]
    assert suite.get("failures") == "1" and {one.get("name") for one in suite} >= {"name-clash", "faces-not-triangles"}
    assert run("run", tmp_path / "fix.toml").status == 0
    after = run("check", tmp_path / "mended" / "a.glb", "--json")
    assert after.status == 0
    assert not [one for one in json.loads(after.out)["findings"] if one["severity"] == "error"]
    (folder / "b.glb").write_bytes(b"glTF")
    both = run("check", folder / "a.obj", folder / "b.glb", *words, "--json", "--junit", tmp_path / "j.xml")
    assert both.status == 3 and "error" in json.loads(both.out)[1]
    assert ElementTree.parse(tmp_path / "j.xml").getroot()[1].get("errors") == "1"
    assert run("check", folder / "a.obj", "--fix", tmp_path / "fix.txt").status == 2
    assert run("check", folder / "b.glb").status == 3


def test_a_job_writes_nothing_that_breaks_a_rule_when_told_so(tmp_path, run):
    inward = "o post\nv 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\nf 1 4 2\nf 1 3 4\nf 2 4 3\n"
    (tmp_path / "a.obj").write_text(inward)
    job = '[[sources]]\nfiles = "a.obj"\nunit = "m"\n[[outputs]]\ntarget = "m-left-up-forward"\ncheck = "stop"\n'
    (tmp_path / "j.toml").write_text(job)
    stopped = run("run", tmp_path / "j.toml")
    assert stopped.status == 1 and "is inside out" in " ".join((stopped.err + stopped.out).split())
    assert not list((tmp_path / "ready").rglob("*.glb"))
    (tmp_path / "j.toml").write_text(job.replace("[[outputs]]", '[[steps]]\nstep = "clean-up"\n[[outputs]]'))
    assert run("run", tmp_path / "j.toml").status == 0
