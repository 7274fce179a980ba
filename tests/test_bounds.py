"""The smallest shapes around points, and the step that says how large an asset is."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import zesty_otter as zo
from build import cube, moved, scene_of, texts, volume
from zesty_otter.geometry.solids.fits import smallest_box, smallest_sphere
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.geometry.surface.placing import rotations
from zesty_otter.model import Node
from zesty_otter.steps import Bounds, Levels

CLOUDS = st.integers(0, 10_000).map(lambda seed: np.random.default_rng(seed))


@pytest.mark.parametrize(
    ("points", "centre", "radius"),
    [
        ([[1, 2, 3]], [1, 2, 3], 0),
        ([[0, 0, 0], [2, 0, 0], [1, 0.5, 0]], [1, 0, 0], 1),
        ([[0, 0, 0], [2, 0, 0], [1, np.sqrt(3), 0]], [1, 1 / np.sqrt(3), 0], 2 / np.sqrt(3)),
        ([[x, y, z] for x in (0, 2) for y in (0, 4) for z in (0, 4)], [1, 2, 2], 3),
        ([[0, 0, 0], [0, 0, 0], [0, 0, 8]], [0, 0, 4], 4),
    ],
)
def test_the_smallest_sphere_worked_out_by_hand(points, centre, radius):
    found, size = smallest_sphere(np.array(points, float))
    assert found == pytest.approx(centre, abs=1e-9)
    assert size == pytest.approx(radius, abs=1e-9)


@given(CLOUDS)
def test_the_smallest_sphere_is_that_of_trying_all_pairs_threes_and_fours(dice):
    points = dice.normal(size=(dice.integers(2, 9), 3)) * dice.choice([1e-3, 1, 1e4])
    best = np.inf
    for count in (2, 3, 4):
        for few in combinations(points, min(count, len(points))):
            sides = np.array(few[1:]) - few[0]
            centre = few[0] + np.linalg.lstsq(2 * sides, (sides**2).sum(1), rcond=None)[0]
            reach = np.linalg.norm(points - centre, axis=1).max()
            if reach <= np.linalg.norm(few[0] - centre) * (1 + 1e-9):
                best = min(best, reach)
    centre, radius = smallest_sphere(points)
    assert radius == pytest.approx(best, rel=1e-7)
    assert np.linalg.norm(points - centre, axis=1).max() <= radius


@settings(max_examples=6)
@given(CLOUDS)
def test_the_smallest_box_holds_all_and_is_no_larger_than_trying_many_turns(dice):
    points = dice.normal(size=(dice.integers(4, 30), 3)) * dice.uniform(0.2, 3, 3)
    centre, axes, half = smallest_box(points)
    assert np.allclose(axes @ axes.T, np.eye(3), atol=1e-9) and np.linalg.det(axes) > 0
    assert (np.abs((points - centre) @ axes.T) <= half * (1 + 1e-9) + 1e-12).all()
    turned = np.einsum("nij,pj->npi", rotations(dice.normal(size=(3000, 4))), points)
    assert 8 * np.prod(half) <= np.prod(np.ptp(turned, axis=1), axis=1).min() * 1.001


@pytest.mark.parametrize("flat", [(1, 1, 0), (1, 0, 0), (0, 0, 0)])
def test_boxes_around_what_is_flat_are_flat(flat):
    turn = about_axis(np.array([1.0, 2, 3]), 0.7)
    points = np.array([[x, y, z] for x in (0.0, 4) for y in (0.0, 2) for z in (0.0, 1)]) * flat @ turn.T + 5
    centre, _, half = smallest_box(points)
    sides = np.sort(half)[::-1]
    assert sides == pytest.approx(np.array([2 * flat[0], 1 * flat[1], 0]), abs=1e-9)
    assert centre == pytest.approx(turn @ (np.array([2.0, 1, 0]) * flat) + 5)


@pytest.mark.parametrize("shape", ["box", "turned-box", "sphere"])
def test_bounds_go_around_the_mesh_wherever_it_stands(tmp_path, shape):
    turn = np.eye(4)
    turn[:3, :3] = about_axis(np.array([0.0, 1, 0]), 0.5)
    hut = Node("hut", moved(9, 0, 0) @ turn, content=cube((4, 2, 1)))
    done = zo.apply(scene_of(Node("yard", moved(0, 3, 0), (hut,)), unit="m"), Bounds(shape=shape))
    _, bounds = done.roots[0].children
    assert (bounds.name, bounds.role, bounds.properties["asset"]) == ("hut_bounds", "bounds", "hut")
    assert np.array_equal(bounds.transform, hut.transform)
    assert bounds.properties["centre"] == pytest.approx([2, 1, 0.5])
    assert bounds.mesh is not None and volume(bounds.mesh) > 0 and not bounds.mesh.layers
    if shape == "sphere":
        assert bounds.properties["radius"] == pytest.approx(np.sqrt(21) / 2)
    else:
        assert sorted(bounds.properties["half"]) == pytest.approx([0.5, 1, 2])
        assert volume(bounds.mesh) == pytest.approx(8)
    zo.write(done, tmp_path / "hut.glb")
    (name, size), *_ = zo.audit.survey(zo.steps.Roles().apply(zo.read(tmp_path / "hut.glb"))).bounds
    assert name == "hut_bounds" and min(size) > 0.9


def test_bounds_know_levels_chosen_meshes_and_what_is_there_already():
    far = Node("hut_LOD1", moved(0, 5, 0), content=cube(name="far"))
    scene = scene_of(Node("hut", content=cube()), far)
    assert Bounds().apply(scene).roots[1].properties["half"] == [0.5, 3.0, 0.5]
    assert Bounds(of="hut").apply(scene).roots[1].properties["half"] == [0.5, 0.5, 0.5]
    none = Bounds(of="shed").apply(scene)
    assert len(none.roots) == 2 and "none of its meshes fits" in texts(none.notes)
    by_hand = scene_of(Node("hut", content=cube()), Node("hut_bounds", content=cube()))
    assert len(Bounds().apply(by_hand).roots) == 2
    in_cm = Bounds(shape="sphere").apply(scene_of(cube((300, 400, 0.001)), unit="cm"))
    assert in_cm.roots[1].properties["radius"] == pytest.approx(2.5)
    both = zo.apply(scene_of(cube()), Levels(chain="50"), Bounds())
    assert [node.role for node in both.roots] == ["visible", "bounds"]


@pytest.mark.parametrize("ending", ["glb", "usda", "dae"])
def test_what_bounds_say_of_themselves_travels(tmp_path, ending):
    scene = Bounds(shape="sphere").apply(scene_of(Node("a", content=cube())))
    zo.write(scene, tmp_path / f"a.{ending}")
    (bounds,) = [one.node for one in zo.read(tmp_path / f"a.{ending}").walk() if one.node.name == "a_bounds"]
    assert dict(bounds.properties) == dict(scene.roots[1].properties)
