"""Levels of detail as their users meet them: a step, an option, a number to prove each."""

from __future__ import annotations

import math

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from test_simplify import ball, box, grid
from zesty_otter.audit.checks import over_limits
from zesty_otter.model import Layer, Material, Node, Scatter
from zesty_otter.steps import Levels, Lighten, Names, level_facts
from zesty_otter.targets import load


def mesh_of(points: np.ndarray, triangles: np.ndarray, name: str = "buoy", **rest) -> zo.Mesh:
    return zo.Mesh(name, points, np.arange(0, triangles.size + 1, 3), triangles.ravel(), **rest)


def buoy(size: float = 1.0) -> zo.Mesh:
    """A ball of radius ``size`` with smooth normals."""
    points, triangles = ball(64, 32)
    return mesh_of(points * size, triangles, layers=(Layer("normal", points, triangles.ravel()),))


def test_a_chain_by_share_stands_behind_its_mesh_and_is_measured():
    above = Node("yard", moved(5, 0, 0), (Node("buoy", moved(0, 2, 0), content=buoy()), Node("hut", content=cube())))
    done = Levels(chain="50 25 10").apply(scene_of(above))
    yard = done.roots[0]
    assert [node.name for node in yard.children] == ["buoy", "buoy_LOD1", "buoy_LOD2", "buoy_LOD3", "hut"]
    facts = level_facts(done)
    assert [one.triangles for one in facts] == [1984, 992, 396]
    assert [(one.asset, one.level) for one in facts] == [("buoy", 1), ("buoy", 2), ("buoy", 3)]
    for node, one in zip(yard.children[1:4], facts, strict=True):
        assert node.role == "level" and np.array_equal(node.transform, yard.children[0].transform)
        assert node.mesh is not None and np.allclose(np.linalg.norm(node.mesh.normals.values, axis=1), 1, atol=1e-6)
        # The mesh lies within the ball or just outside; its farthest place is what was measured.
        reach = np.abs(np.linalg.norm(node.mesh.points, axis=1) - 1).max()
        assert reach < one.deviation < 8 / one.triangles
        assert one.deviation_mean < one.deviation_95 < one.deviation
        # A pixel of a picture 1080 high, seen at 60 degrees.
        assert one.distance == pytest.approx(one.deviation * 1080 / (2 * math.tan(math.radians(30))), rel=1e-5)
        assert one.screen_height == pytest.approx(2 / (2 * one.distance * math.tan(math.radians(30))), rel=1e-5)
    assert facts[0].distance < facts[1].distance < facts[2].distance
    assert "3 levels made for 1 mesh" in texts(done.notes)


def test_lengths_are_metres_whatever_the_unit_and_the_scale_of_the_node():
    plain = level_facts(Levels(chain="20").apply(scene_of(buoy())))[0]
    in_shorter = level_facts(Levels(chain="20").apply(scene_of(buoy(128), unit=1 / 128)))[0]
    scaled = Node("buoy", np.diag([1 / 128, 1 / 128, 1 / 128, 1]), content=buoy(128))
    on_node = level_facts(Levels(chain="20").apply(scene_of(scaled)))[0]
    for other in (in_shorter, on_node):
        assert other.deviation == pytest.approx(plain.deviation, rel=1e-4)
        assert other.distance == pytest.approx(plain.distance, rel=1e-4)


@pytest.mark.parametrize(
    ("chain", "allowed"),
    [
        ("deviation 2mm 2cm", [0.002, 0.02]),
        ("deviation 0.1% 1%", [0.002, 0.02]),
        ("screen 0.5 0.1", [2 / (0.5 * 1080), 2 / (0.1 * 1080)]),
        (["screen", "50%", 0.1], [2 / (0.5 * 1080), 2 / (0.1 * 1080)]),
    ],
)
def test_a_wanted_deviation_is_kept_and_used(chain, allowed):
    facts = level_facts(Levels(chain=chain).apply(scene_of(buoy())))
    assert len(facts) == 2
    for one, limit in zip(facts, allowed, strict=True):
        assert 0.3 * limit < one.deviation <= limit
    assert facts[1].triangles < facts[0].triangles


@pytest.mark.parametrize(
    ("chain", "message"),
    [
        ("", "at least one level"),
        ("10 50", "50 after 10 is not lighter"),
        ("deviation 5mm 1mm", "1mm after 5mm is not lighter"),
        ("half", "half is not a kind of level; there are ratio"),
        ("ratio half", "half is not a level of kind ratio"),
        ("triangles 50%", "out of range"),
        ("screen 3", "out of range"),
        ("150", "out of range"),
        (150, "out of range"),
        ({"a": 1}, "a is not a kind of level"),
    ],
)
def test_chains_that_make_no_sense_are_refused(chain, message):
    with pytest.raises(zo.UsageError, match=message):
        Levels(chain=chain)


def test_hand_made_levels_are_used_and_the_missing_are_made():
    points, triangles = ball(16, 8)
    by_hand = mesh_of(points, triangles, "low")
    scene = scene_of(buoy(), Node("buoy_LOD2", content=by_hand), Node("buoy_LOD5", content=by_hand))
    done = Levels(chain="50 10").apply(scene)
    assert [node.name for node in done.roots] == ["buoy", "buoy_LOD1", "buoy_LOD2", "buoy_LOD5"]
    assert done.roots[2].mesh is by_hand
    facts = level_facts(done)
    assert facts[1].triangles == 224 and 0.005 < facts[1].deviation < 0.05
    assert facts[2].deviation is None
    assert "1 of its levels were there already" in texts(done.notes)
    found = {one.rule for one in over_limits(done, load("m-left-up-forward"))}
    assert found == {"level-gap", "level-not-lighter"}
    twice = scene_of(buoy(), Node("buoy_LOD1", content=by_hand), Node("BUOY_LOD1", content=by_hand))
    twice = zo.apply(twice, zo.steps.Roles(assign={"level": "BUOY*"}))
    doubled = zo.Scene((*twice.roots[:2], Node("buoy_LOD1", content=by_hand)), twice.frame)
    assert "level-doubled" in {one.rule for one in over_limits(doubled, load("m-left-up-forward"))}


@pytest.mark.parametrize("shared", [False, True])
def test_adjoining_modules_meet_at_every_level(shared):
    points, triangles = grid(16, 16, lambda x, y: np.sin(x * np.pi / 8) * np.cos(y * 0.3))
    quay = mesh_of(points, triangles, "quay")
    other = quay if shared else quay.replace(name="other")
    scene = scene_of(Node("left", content=quay), Node("right", moved(16, 0, 0), content=other))
    done = Levels(chain="60 30", keep_border="neighbours", limit=0.2).apply(scene)
    rims = {}
    for placed, mesh in done.placed_meshes():
        world = mesh.points + placed.world[:3, 3]
        rims[placed.node.name] = {tuple(p) for p in world[world[:, 0] == 16].round(12)}
    assert len(rims) == 6
    assert all(len(rim & rims["left"]) == 17 for rim in rims.values())


def test_materials_and_scattered_meshes_come_along():
    points, triangles, _, _ = box(8)
    wood, iron = Material("wood"), Material("iron")
    slot = (points[triangles].mean(1)[:, 0] > 0.5).astype(int)
    mesh = mesh_of(points, triangles, "crate", slots=(wood, iron), face_slot=slot)
    scatter = Scatter(mesh, np.array([moved(k, 0, 0) for k in range(5)]))
    done = Levels(chain="20").apply(scene_of(Node("crates", content=scatter)))
    crates, light = done.roots
    assert light.kind == "scatter" and np.array_equal(light.content.transforms, crates.content.transforms)
    assert light.drawn.slots == (wood, iron)
    centres = light.drawn.points[light.drawn.corner_point.reshape(-1, 3)].mean(1)
    assert ((centres[:, 0] > 0.5) == light.drawn.face_slot).all()


def test_small_loose_parts_go_when_nothing_else_can_and_fusing_joins_them():
    points, triangles = box(1)[:2]
    places = [(0, 0, 0, 10.0), *((12 + 1.2 * k, 0, 0, 1.0) for k in range(8))]
    many = np.concatenate([points * s + (x, y, z) for x, y, z, s in places])
    corners = np.concatenate([triangles + 8 * k for k in range(len(places))])
    scene = scene_of(mesh_of(many, corners, "heap"))
    done = Levels(chain="50", limit=0.005).apply(scene)
    assert done.roots[1].mesh.triangle_count == 48  # the large box and three small ones
    assert np.ptp(done.roots[1].mesh.points[:, 1]) == 10
    assert "5 loose parts dropped" in texts(done.notes)
    fused = Levels(chain="50", fuse=1.5, limit=0.005).apply(scene)
    assert fused.roots[1].mesh.triangle_count <= 54
    assert "points near each other were joined" in texts(fused.notes)


def test_what_cannot_get_lighter_is_left_out_and_said():
    done = Levels(chain="50 10").apply(scene_of(cube()))
    assert [node.name for node in done.roots] == ["cube"]
    assert "12 are the fewest without moving anything by much more than 1.5 %" in texts(done.notes)
    assert "2 levels left out" in texts(done.notes)


def test_a_heavy_mesh_is_brought_to_its_budget_and_a_light_one_left():
    scene = scene_of(buoy(), cube())
    done = Lighten(triangles=500).apply(scene)
    assert [mesh.triangle_count for mesh in done.meshes] == [500, 12]
    assert done.meshes[1] is scene.meshes[1]
    assert "3,968 triangles became 500; the surface moved by" in texts(done.notes)


@pytest.mark.parametrize("ending", [".glb", ".gltf", ".usda", ".usdz", ".dae", ".x3d"])
def test_what_was_measured_is_kept_in_the_file(tmp_path, ending):
    done = zo.apply(Levels(chain="50 10").apply(scene_of(buoy())), Names())
    zo.write(done, tmp_path / f"buoy{ending}")
    found = zo.steps.Roles().apply(zo.read(tmp_path / f"buoy{ending}"))
    assert [(one.node.name, one.node.role) for one in found.walk()] == [
        ("buoy", "visible"),
        ("buoy_LOD1", "level"),
        ("buoy_LOD2", "level"),
    ]
    for one, meant in zip(level_facts(found), level_facts(done), strict=True):
        assert (one.asset, one.level, one.triangles) == (meant.asset, meant.level, meant.triangles)
        assert one.distance == pytest.approx(meant.distance, rel=1e-5)
        # X3D has a place for the distance alone.
        assert one.deviation == (None if ending == ".x3d" else pytest.approx(meant.deviation, rel=1e-5))


def test_names_go_on_telling_levels(tmp_path):
    done = zo.apply(Levels(chain="50").apply(scene_of(buoy())), Names(template="pond_{name}", case="lower"))
    assert [node.name for node in done.roots] == ["pond_buoy", "pond_buoy_LOD1"]
    assert done.roots[1].properties["asset"] == "pond_buoy"


def test_convert_makes_levels_and_says_what_they_cost(run, tmp_path):
    zo.write(scene_of(buoy()), tmp_path / "buoy.glb")
    done = run("convert", tmp_path / "buoy.glb", tmp_path / "out.glb", "--levels", "50,10")
    assert done.status == 0
    assert "3,968, 6,348 with levels" in done.out
    assert "buoy_LOD2" in done.out and "moved by" in done.out
    levels = run("survey", tmp_path / "out.glb", "--json").json["levels"]
    assert [one["triangles"] for one in levels] == [1984, 396]
    wrong = run("convert", tmp_path / "buoy.glb", tmp_path / "no.glb", "--levels", "10,50")
    assert wrong.status == 2 and "50 after 10 is not lighter" in wrong.err
    assert not (tmp_path / "no.glb").exists()
    light = run("convert", tmp_path / "buoy.glb", tmp_path / "light.glb", "--budget", 500, "--verbose")
    assert "triangles 500" in " ".join(light.out.split()) and "the surface moved by" in light.err


def test_levels_go_to_files_of_their_own_where_the_target_wants_it(run, tmp_path):
    (tmp_path / "pond.toml").write_text('extends = "m-left-up-forward"\n[levels]\nfiles = "apart"\n')
    zo.write(scene_of(buoy()), tmp_path / "buoy.glb")
    target = ["--target", tmp_path / "pond.toml"]
    done = run("convert", tmp_path / "buoy.glb", tmp_path / "out.glb", "--levels", "50,10", *target)
    assert done.status == 0
    assert "out_LOD2.glb" in done.out
    counts = {path.name: zo.read(path).meshes[0].triangle_count for path in sorted(tmp_path.glob("out*.glb"))}
    assert counts == {"out.glb": 3968, "out_LOD1.glb": 1984, "out_LOD2.glb": 396}
    (tmp_path / "job.toml").write_text(
        'target = "pond.toml"\nsteps = ["levels chain=\'50 10\'"]\n[[sources]]\nfiles = "buoy.glb"\n[[outputs]]\n'
    )
    assert run("run", tmp_path / "job.toml").status == 0
    made = sorted(path.name for path in (tmp_path / "ready").glob("*.glb"))
    assert made == ["buoy.glb", "buoy_LOD1.glb", "buoy_LOD2.glb"]
