from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from zesty_otter.model import Node, Texture, TextureUse
from zesty_otter.steps import STEPS, Names, Pivot, Reframe, Scale


def worlds(scene):
    return {placed.node.name: placed.world[:3, 3].tolist() for placed in scene.walk()}


def corners(scene):
    return np.concatenate([mesh.points @ p.world[:3, :3].T + p.world[:3, 3] for p, mesh in scene.placed_meshes()])


@pytest.mark.parametrize(
    ("axes", "at", "expected"),
    [
        ("left up forward", "base", [12, 20, 33]),
        ("left up forward", "centre", [12, 21, 33]),
        ("left up forward", "origin", [0, 0, 0]),
        ("right forward up", "base", [12, 21, 30]),
        ("left down back", "base", [12, 22, 33]),
    ],
)
def test_the_pivot_goes_where_it_is_told_and_nothing_moves(axes, at, expected):
    scene = scene_of(Node("box", moved(10, 20, 30), content=cube((4, 2, 6))), axes=axes)
    done = Pivot(at=at).apply(scene)
    assert worlds(done)["box"] == expected
    assert np.allclose(corners(done), corners(scene))
    assert np.allclose(
        Pivot(at=at, place="origin").apply(scene).bounds().mean(axis=0), np.array([12, 21, 33]) - expected
    )


def test_pivots_of_turned_parents_leave_children_in_place():
    parent = np.eye(4)
    parent[:3, :3] = Rotation.from_euler("xyz", (0.4, 0.2, 1)).as_matrix() @ np.diag([1, 2, 3])
    child = Node("child", moved(3, 1, 0), content=cube())
    scene = scene_of(
        Node("parent", parent, (child,), cube((1, 5, 1))), Node("twin", moved(9, 0, 0), content=child.mesh)
    )
    done = Pivot(at="centre").apply(scene)
    assert np.allclose(corners(done), corners(scene))
    assert done.roots[0].children[0].mesh is done.roots[1].mesh or len(done.meshes) == 3
    assert worlds(done)["twin"] == [9.5, 0.5, 0.5]


def test_all_objects_can_share_the_pivot_of_the_scene():
    scene = scene_of(Node("a", content=cube()), Node("b", moved(3, 0, 0), content=cube()))
    done = Pivot(at="base", of="scene", place="origin").apply(scene)
    assert list(worlds(done).values()) == [[0, 0, 0], [0, 0, 0]]
    assert done.bounds().tolist() == [[-2, 0, -0.5], [2, 1, 0.5]]


def test_a_flat_node_cannot_change_its_pivot():
    with pytest.raises(zo.ModelError, match=r"node flat.*zero scale"):
        Pivot(at="centre").apply(scene_of(Node("flat", np.diag([1.0, 0, 1, 1]), content=cube())))


def test_scaling_by_factor_percentage_and_height():
    scene = scene_of(Node("a", moved(0, 2, 0), content=cube((1, 3, 1))), axes="left up forward", unit="cm")
    assert Scale(factor="50%").apply(scene).bounds().tolist() == [[0, 1, 0], [0.5, 2.5, 0.5]]
    assert Scale(factor=2).apply(scene).bounds()[1].tolist() == [2, 10, 2]
    tall = Scale(height="1.8m").apply(scene)
    assert np.diff(tall.bounds(), axis=0)[0].tolist() == pytest.approx([60, 180, 60])
    assert np.array_equal(tall.roots[0].transform[:3, :3], np.eye(3))


def test_a_height_needs_no_unit_but_something_tall():
    sized = Scale(height="2m").apply(scene_of(cube((4, 4, 4)), unit=None))
    assert sized.frame.unit == 1.0 and np.allclose(np.ptp(sized.bounds(), axis=0), 2)
    with pytest.raises(zo.UnknownUnitError):
        zo.steps.Weld(distance="1mm").apply(scene_of(cube(), unit=None))
    with pytest.raises(zo.UsageError, match="no height"):
        Scale(height="1m").apply(scene_of(cube((1, 0, 1))))


def test_names_become_safe_unique_and_are_listed():
    image = Texture("Höhe über.PNG", wanted="x")
    material = zo.Material("Eisen, rostig").with_textures({"base_color": TextureUse(image)})
    scene = scene_of(
        cube(name="Pöller groß", slots=(material,)), cube(name="poeller GROSS"), Node("日本"), Node(""), Node("łódź/å")
    )
    done = Names().apply(scene)
    assert [node.name for node in done.roots] == ["Poeller_gross", "poeller_GROSS_2", "RiBen", "unnamed", "lodz_a"]
    assert done.meshes[1].name == "poeller_GROSS_2"
    assert done.materials[0].name == "Eisen_rostig"
    assert done.textures[0].name == "Hoehe_ueber.PNG"
    assert ("material", "Eisen, rostig", "Eisen_rostig") in [(r.kind, r.old, r.new) for r in done.renamed]
    assert len(done.renamed) == 9
    assert "9 names changed" in texts(done.notes)
    assert Names().apply(done).renamed == done.renamed


def test_names_by_template_with_counter_role_and_group():
    scene = scene_of(Node("a", groups=("quay",)), Node("b", role="collision"))
    done = Names(template="{group}_{name}_{role}_{number:3}").apply(scene)
    assert [node.name for node in done.roots] == ["quay_a_visible_001", "b_collision_002"]


def test_long_names_stay_unique_when_cut():
    done = Names(longest=8).apply(scene_of(*(Node("a" * 20) for _ in range(12))))
    names = [node.name for node in done.roots]
    assert len(set(names)) == 12
    assert max(map(len, names)) == 8


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: Pivot(at="bas"), "step 'pivot', setting 'at': 'bas' is not a place.*Did you mean 'base'"),
        (lambda: Pivot(att="base"), "no setting 'att'; it has at, of, place, templates, only. Did you mean 'at'"),
        (lambda: Scale(), "either factor or height"),
        (lambda: Scale(factor=0), "greater than 0"),
        (lambda: Scale(factor="big"), "not a factor"),
        (lambda: Scale(height="tall"), "not a length"),
        (lambda: Names(template="{nam}"), "'{nam}' is not one of {name}"),
        (lambda: Names(allowed="z-a"), "not a set of characters"),
        (lambda: Reframe(axes="up up up").apply(scene_of()), "one direction twice"),
    ],
)
def test_settings_that_make_no_sense_are_refused(make, message):
    with pytest.raises(zo.UsageError, match=message.replace("(", r"\(").replace(")", r"\)").replace("{", r"\{")):
        make()


@pytest.mark.parametrize("slug", STEPS)
def test_every_step_explains_its_settings_and_runs_its_example(slug, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    Path("swaps.csv").write_text("name,node\ncube,cube\n")
    step = STEPS[slug]
    assert all(field.description for field in step.model_fields.values())
    scene = scene_of(cube((1, 2, 3)), axes="left up forward", unit="m")
    before = corners(scene).copy()
    done = step(**step.example).apply(scene)
    assert np.isfinite(done.bounds()).all()
    assert np.array_equal(corners(scene), before)
