"""Selection, roles, pivots and names: what happens to nodes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from zesty_otter.model import Camera, Light, Node, Texture, TextureUse
from zesty_otter.steps import Names, Pivot, Roles, Select, step_from_text
from zesty_otter.steps.assets import assets_of
from zesty_otter.steps.names import read_table, table_text


def names(scene):
    return [placed.node.name for placed in scene.walk()]


# Selection and roles


def yard():
    hidden = Node("ghost", content=cube(), visible=False)
    lamp = Node("lamp", content=Light("lamp"))
    quay = Node(
        "quay",
        children=(
            Node("wall_1", content=cube(), properties={"tide": 4}),
            Node("wall_2", content=cube(), groups=("far",)),
            lamp,
        ),
    )
    return scene_of(
        quay, hidden, Node("view", content=Camera("view")), Node("gate_collision", content=cube(), role="collision")
    )


@pytest.mark.parametrize(
    ("keep", "drop", "left"),
    [
        ("wall_*", "", ["quay", "wall_1", "wall_2"]),
        ("group:quay", "kind:light", ["quay", "wall_1", "wall_2"]),
        ("", "hidden,kind:camera,role:collision", ["quay", "wall_1", "wall_2", "lamp"]),
        (["group:far"], [], ["quay", "wall_2"]),
        ("kind:mesh", "visible", ["ghost"]),
        ("property:tide", "", ["quay", "wall_1"]),
        ("property:tide=4", "property:tide=5", ["quay", "wall_1"]),
    ],
)
def test_words_choose_what_stays(keep, drop, left):
    done = Select(keep=keep, drop=drop).apply(yard())
    assert names(done) == left
    assert "dropped" in texts(done.notes)
    assert Select().apply(yard()).roots[0].name == "quay"


@pytest.mark.parametrize(
    ("word", "message"), [("rol:collision", "does not begin"), ("role:colision", "Did you mean 'collision'")]
)
def test_words_nobody_knows_are_refused(word, message):
    with pytest.raises(zo.UsageError, match=message):
        Select(keep=word)
    with pytest.raises(zo.UsageError, match=r"no node is left: none matches nothing\*. There are quay, wall_1"):
        Select(keep="nothing*").apply(yard())


def test_roles_are_recognised_by_name_and_make_assets():
    scene = scene_of(
        Node("gate", content=cube()),
        Node("gate_LOD1", content=cube()),
        Node("gate_collision_2", content=cube()),
        Node("gate_marker"),
        Node("post_LOD0", content=cube()),
        Node("post_LOD1", content=cube()),
        Node("sill", content=cube(), children=(Node("any", content=cube(), role="shadow"),)),
        Node("solid", groups=("blocks",), content=cube()),
    )
    done = Roles(assign={"collision": "group:blocks"}).apply(scene)
    assert "6 nodes recognised: 2 collision, 3 level, 1 marker" in texts(done.notes)
    assert {p.node.name: p.node.role for p in done.walk()}["solid"] == "collision"
    found = {a.name: ([p.node.name for p in a.main], [p.node.name for p in a.rest]) for a in assets_of(done)}
    assert found["gate"] == (["gate"], ["gate_LOD1", "gate_collision_2", "gate_marker"])
    assert found["post"] == (["post_LOD0"], ["post_LOD1"])
    assert found["sill"] == (["sill"], ["any"])
    assert done.roots[1].properties["level"] == 1
    with pytest.raises(zo.UsageError, match="'colision' is not a role"):
        Roles(assign={"colision": "x"})


# Pivots of assets


@pytest.mark.parametrize(
    ("at", "expected"),
    [
        ("left down back", [14, 20, 30]),
        ("centre up forward", [12, 22, 36]),
        ("0.25 0 1", [11, 20, 36]),
        ("area", [12, 21, 33]),
        ("volume", [12, 21, 33]),
        ("grid:4m", [16, 20, 32]),
        ("point:1 200cm 3m", [1, 2, 3]),
        ("vertex:7", [14, 22, 36]),
        ("marker:hinge*", [10, 20.5, 30]),
    ],
)
def test_levels_and_collision_share_the_pivot_of_the_visible_mesh(at, expected):
    gate = Node("gate", moved(10, 20, 30), (Node("hinge_1", moved(0, 0.5, 0)),), cube((4, 2, 6)))
    scene = scene_of(
        gate, Node("gate_LOD1", moved(11, 20, 31), content=cube((2, 2, 2))), Node("gate_collision", content=cube())
    )
    done = Pivot(at=at).apply(scene)
    assert {placed.node.role for placed in done.walk()} == {"visible"}
    worlds = {placed.node.name: placed.world[:3, 3].tolist() for placed in done.walk()}
    assert worlds["gate"] == pytest.approx(expected)
    assert worlds["gate_LOD1"] == worlds["gate_collision"] == worlds["gate"]
    assert worlds["hinge_1"] == [10, 20.5, 30]
    assert np.allclose(done.bounds(), scene.bounds())


def test_the_mesh_with_the_role_of_bounds_decides_where_the_base_is():
    scene = scene_of(cube((2, 2, 2), "crane"), Node("crane_bounds", moved(0, -1, 0), content=cube((4, 4, 4), "b")))
    done = Pivot(at="base").apply(Roles().apply(scene))
    assert done.roots[0].transform[:3, 3].tolist() == [2, -1, 2]


@pytest.mark.parametrize(
    ("at", "message"),
    [
        ("marker:hing", "no node called 'hing'.*Did you mean 'hinge'"),
        ("vertex:99", "no vertex 99; the mesh has 8 points"),
        ("leftt down back", "Did you mean 'left'"),
        ("grid:2 yards", "not a length"),
    ],
)
def test_pivots_that_are_not_there_are_refused(at, message):
    with pytest.raises(zo.UsageError, match=message):
        Pivot(at=at).apply(scene_of(Node("gate", content=cube()), Node("hinge")))


# Names


@pytest.mark.parametrize(
    ("settings", "old", "new"),
    [
        ({"case": "snake"}, "OldGate Left02", "old_gate_left_02"),
        ({"case": "camel"}, "old gate-left", "oldGateLeft"),
        ({"case": "pascal"}, "old_gate", "OldGate"),
        ({"case": "kebab"}, "OldGate", "old-gate"),
        ({"case": "upper"}, "gate", "GATE"),
        ({"search": [[r"_v(\d+)$", r"-\1"]]}, "gate_v3", "gate-3"),
        ({"prefixes": {"visible": "mesh_"}, "suffixes": {"visible": "_x"}}, "gate", "mesh_gate_x"),
        ({}, "CON", "CON_"),
        ({"longest": 10}, "a very long name", "a_very_lon"),
        ({"template": "{group}_{material}_{name}"}, "gate", "quay_iron_gate"),
        ({"replace_defaults": "{file}_{number}"}, "Cube.001", "test_01"),
        ({"transliterate": False, "allowed": r"\w"}, "Höhe", "Höhe"),
    ],
)
def test_names_are_built_as_told(settings, old, new):
    node = Node(old, content=cube(slots=(zo.Material("iron"),)), groups=("quay",))
    assert Names(**settings).apply(scene_of(node)).roots[0].name == new


def test_names_of_levels_come_from_the_asset():
    scene = Roles().apply(scene_of(cube(name="gate"), cube(name="gate_LOD1"), cube(name="gate_collision")))
    done = Names(template="p_{name}", roles={"level": "p_{name}_level{level}", "collision": "p_{name}_solid"}).apply(
        scene
    )
    assert names(done) == ["p_gate", "p_gate_level1", "p_gate_solid"]


def test_default_names_and_clashes_are_noted():
    done = Names().apply(scene_of(Node("Cube.001"), Node("gate"), Node("Gate")))
    assert "default names: 'Cube.001'" in texts(done.notes)
    assert "duplicate names, now numbered: 'Gate'" in texts(done.notes)


def test_the_table_of_names_is_written_read_and_undone(tmp_path):
    texture = Texture("Höhe.png", wanted="x")
    material = zo.Material("Öl").with_textures({"base_color": TextureUse(texture)})
    scene = scene_of(cube(name="Tür", slots=(material,)), cube(name="tuer"), Node('a,b "c"'))
    done = Names().apply(scene)
    path = tmp_path / "names.csv"
    path.write_text(table_text(done.renamed), "utf-8")
    assert read_table(path) == list(done.renamed)
    assert names(Names(table=path).apply(scene)) == names(done)
    back = Names(table=path, undo=True).apply(done)
    assert names(back) == names(scene)
    assert back.materials[0].name == "Öl"
    assert back.textures[0].name == "Höhe.png"
    path.write_text("a,b\n1,2\n")
    with pytest.raises(zo.InputError, match=r"names.csv, line 1: .* columns kind, old and new"):
        Names(table=path).apply(scene)
    with pytest.raises(zo.InputError, match="No such file"):
        Names(table=tmp_path / "none.csv").apply(scene)


# Steps as text


def test_steps_are_read_from_a_line():
    assert step_from_text("weld distance=0.1mm across=matching").model_dump(exclude={"only"}) == {
        "distance": 0.0001,
        "across": "matching",
    }
    assert step_from_text("select keep=['name:a b',\"role:level\"] drop=hidden").keep == ("name:a b", "role:level")
    assert step_from_text("pivot at='left down back'").at == "left down back"
    assert step_from_text("materials rename={'a*'=\"b\"}").rename == {"a*": "b"}
    assert step_from_text(f"textures search=['{Path('x')}'] leave_out=true").leave_out is True


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("wled", "Did you mean 'weld'"),
        ("weld 0.1mm", "Write: weld 0.1mm=VALUE"),
        ("weld distanc=1", "Did you mean 'distance'"),
        ("", "is not a step"),
    ],
)
def test_lines_that_are_no_step_are_refused(text, message):
    with pytest.raises(zo.UsageError, match=message):
        step_from_text(text)
