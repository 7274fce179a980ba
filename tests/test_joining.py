from __future__ import annotations

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts, volume
from zesty_otter.geometry.surface.cutting import cut_to_size
from zesty_otter.model import Layer, Material, Node, joined_meshes
from zesty_otter.steps import Divide, Join, Names, Normals, Weld
from zesty_otter.steps.assets import assets_of
from zesty_otter.targets import load

RED, BLUE = Material("red"), Material("blue")


def quads(side: int, name: str = "sheet", **rest) -> zo.Mesh:
    """A flat square of side x side quads."""
    y, x = np.mgrid[0 : side + 1, 0 : side + 1]
    points = np.stack([x, 0 * x, y], -1).reshape(-1, 3)
    a = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).ravel()
    corners = np.stack([a, a + side + 1, a + side + 2, a + 1], 1).ravel()
    return zo.Mesh(name, points, np.arange(0, len(corners) + 1, 4), corners, **rest)


def test_joining_keeps_slots_layers_smoothing_and_sets():
    uv = Layer("uv", [[0.25, 0.5]], np.zeros(24, int), "light")
    color = Layer("color", [[1, 0, 0]], np.zeros(24, int))
    alpha = Layer("color", [[0, 1, 0, 0.5]], np.zeros(24, int))
    one = cube(
        slots=(RED, BLUE), face_slot=np.array([0, 1] * 3), layers=(uv, color), face_smoothing=np.full(6, 3),
        face_sets={"lid": np.array([5])},
    )  # fmt: skip
    other = cube(slots=(BLUE, None), face_slot=np.array([0, 1] * 3), layers=(alpha,), face_smoothing=np.full(6, 1),
                 face_sets={"lid": np.array([0])}, point_sets={"hook": np.array([7])})  # fmt: skip
    both = joined_meshes("both", [one, other])
    assert both.slots == (RED, BLUE, None)
    assert both.slot_of_face.tolist() == [0, 1] * 3 + [1, 2] * 3
    assert [(layer.kind, layer.name) for layer in both.layers] == [("uv", "light"), ("color", "")]
    assert both.layers[0].index.tolist() == [0] * 24 + [-1] * 24
    assert both.layers[1].at_corners()[[0, 24]].tolist() == [[1, 0, 0, 1], [0, 1, 0, 0.5]]
    assert both.face_smoothing.tolist() == [3] * 6 + [4] * 6
    assert (both.face_sets["lid"].tolist(), both.point_sets["hook"].tolist()) == ([5, 6], [15])


def yard() -> zo.Scene:
    """Two crates, one mirrored, in a turned group, with a level each and a collision mesh."""
    mirrored = np.diag([-1.0, 1.0, 1.0, 1.0])
    level = {"asset": "a", "level": 1}
    group = Node("crates", moved(10, 0, 0), (
        Node("a", content=cube(name="a", slots=(RED,))),
        Node("b", moved(2, 0, 0) @ mirrored, content=cube((1, 2, 1), name="b", slots=(BLUE,))),
        Node("a_LOD1", content=cube(), role="level", properties=level),
        Node("b_LOD1", content=cube(), role="level", properties=level),
        Node("a_collision", content=cube(), role="collision"),
    ))  # fmt: skip
    return scene_of(group)


@pytest.mark.parametrize(("at", "place"), [("first", 10), ("parent", 10), ("origin", 0)])
def test_visible_meshes_become_one_and_levels_another(at, place):
    before = yard().bounds()
    done = Join(name="crates", at=at).apply(yard())
    assert [node.name for node in done.roots] == ["crates", "crates_LOD1", "crates"]
    assert [child.name for child in done.roots[2].children] == ["crates_collision_1"]
    whole, level = done.roots[:2]
    assert (whole.mesh.face_count, whole.mesh.slots, whole.transform[0, 3]) == (12, (RED, BLUE), place)
    assert (level.role, dict(level.properties)) == ("level", {"asset": "crates", "level": 1})
    assert np.array_equal(done.bounds(), before)
    assert volume(whole.mesh) == pytest.approx(3.0)
    assert "4 meshes joined into 2" in texts(done.notes)


def test_a_single_mesh_is_left_as_it_is():
    scene = scene_of(cube())
    assert Join().apply(scene) is scene


def test_joining_only_some_leaves_the_others():
    scene = scene_of(cube(name="a1"), cube(name="a2"), cube(name="b"))
    assert [node.name for node in Join(name="a", only="a*").apply(scene).roots] == ["a", "b"]


def test_loose_parts_and_materials_become_nodes_below():
    two = joined_meshes(
        "two", [cube(slots=(RED,)), cube((2, 2, 2), slots=(BLUE,)).replace(points=cube((2, 2, 2)).points + 5)]
    )
    scene = scene_of(Node("two", moved(1, 2, 3), content=two, groups=("deck",)))
    for by, names in (("parts", ["two_1", "two_2"]), ("material", ["two_red", "two_blue"])):
        done = Divide(by=by).apply(scene)
        (top,) = done.roots
        assert top.content is None
        assert [child.name for child in top.children] == names
        assert [child.mesh.slots for child in top.children] == [(RED,), (BLUE,)]
        assert [child.mesh.point_count for child in top.children] == [8, 8]
        assert all(child.groups == ("deck",) for child in top.children)
        assert np.array_equal(done.bounds(), scene.bounds())


def test_instances_stay_instances_when_divided():
    mesh = joined_meshes("pair", [cube(), cube().replace(points=cube().points + 5)])
    done = Divide().apply(scene_of(Node("x", content=mesh), Node("y", moved(9, 0, 0), content=mesh)))
    assert [[child.name for child in node.children] for node in done.roots] == [["x_1", "x_2"], ["y_1", "y_2"]]
    assert len(done.meshes) == 2


@pytest.mark.parametrize(("side", "most", "parts"), [(9, 100, 1), (19, 200, 3), (99, 2600, 4), (60, 500, 8)])
def test_meshes_are_cut_into_few_compact_pieces(side, most, parts):
    mesh = quads(side)
    done = Divide(by="size", vertices=most).apply(scene_of(mesh))
    pieces = done.meshes
    assert len(pieces) == parts
    assert sum(piece.face_count for piece in pieces) == side * side
    assert all(piece.point_count <= most for piece in pieces)
    # Compact: not longer than four times its width.
    assert all(np.ptp(p.points, axis=0)[[0, 2]].max() <= 4 * np.ptp(p.points, axis=0)[[0, 2]].min() for p in pieces)


def test_seams_count_as_vertices_when_cutting():
    hard = Layer("normal", np.random.default_rng(1).normal(size=(100, 3)), np.repeat(np.arange(100), 4))
    sheet = quads(10, layers=(hard,))
    assert len(Divide(by="size", vertices=130).apply(scene_of(quads(10))).meshes) == 1
    assert len(Divide(by="size", vertices=130).apply(scene_of(sheet)).meshes) == 4


def bumpy(side: int) -> zo.Mesh:
    sheet = quads(side)
    up = np.random.default_rng(3).random(len(sheet.points)) * 0.3
    return sheet.replace(points=sheet.points + np.outer(up, (0, 1, 0)))


def test_corners_that_a_format_makes_hard_count_as_vertices_when_cutting():
    pieces = Divide(by="size", vertices=130).apply(scene_of(bumpy(10))).meshes  # 121 points, 400 corners
    assert len(pieces) > 1 and all(piece.corner_count <= 130 for piece in pieces)


def test_each_piece_has_levels_of_its_own(tmp_path):
    field = scene_of(Node("field", moved(2, 0, 0), content=Normals(by="smooth").apply(scene_of(bumpy(40))).meshes[0]))
    made = zo.apply(field, zo.steps.Levels(chain="60 20"), zo.steps.Shadow(), Divide(by="size", vertices=600))
    seen = {one.node.name: one.node for one in made.walk() if one.node.mesh is not None}
    pieces = [name for name in seen if "_LOD" not in name and "shadow" not in name]
    assert len(pieces) > 2
    for piece in pieces:
        box = seen[piece].mesh.surface_bounds
        for level in (1, 2):
            node = seen[f"{piece}_LOD{level}"]
            assert node.role == "level" and np.abs(node.mesh.surface_bounds - box).max() < 5  # of 40
            assert node.mesh.triangle_count < seen[piece].mesh.triangle_count
        assert seen[f"{piece}_shadow"].role == "shadow"
    # All of it is one asset, whose shadow is that of the whole.
    (asset,) = assets_of(made)
    assert asset.name == "field" and len(asset.main) == len(pieces) and len(asset.rest) == 3 * len(pieces) + 3
    zo.write(made, tmp_path / "field.glb")
    findings = zo.audit.check(zo.read(tmp_path / "field.glb"), load("m-left-up-forward"))
    assert not [one for one in findings if one.rule.startswith("level")]


def test_cuts_show_no_seam_where_groups_smooth():
    bent = quads(20, face_smoothing=np.ones(400, int))
    bent = bent.replace(points=bent.points + np.stack([np.zeros(441), np.sin(bent.points[:, 0]), np.zeros(441)], 1))
    whole = Normals(by="groups").apply(scene_of(bent)).meshes[0]
    wanted = {
        tuple(p): tuple(n)
        for p, n in zip(bent.points[whole.corner_point].round(6), whole.normals.at_corners(), strict=True)
    }
    for piece in Divide(by="size", vertices=200).apply(scene_of(bent)).meshes:
        for p, n in zip(piece.points[piece.corner_point].round(6), piece.normals.at_corners(), strict=True):
            assert np.allclose(wanted[tuple(p)], n, atol=1e-6)


def test_a_face_that_is_too_large_to_cut_is_refused():
    ring = zo.Mesh.from_faces("ring", np.random.default_rng(0).normal(size=(9, 3)), [list(range(9))])
    with pytest.raises(zo.UsageError, match="a face has 9 corners"):
        Divide(by="size", vertices=5).apply(scene_of(ring))


def test_cutting_ends_even_when_every_face_stands_alone():
    part = cut_to_size(np.zeros((50, 3)), np.arange(0, 151, 3), np.arange(150), 4)
    assert len(set(part.tolist())) == 50


@pytest.mark.parametrize("words", ["name:a*", "group:deck", "role:visible"])
def test_steps_leave_alone_what_only_does_not_choose(words):
    other = Node("b", content=cube(name="b"), role="visible" if words != "role:visible" else "collision")
    scene = scene_of(Node("a", content=quads(2, "a"), groups=("deck",)), other)
    done = Normals(by="angle", only=words).apply(scene)
    assert [node.mesh.normals is not None for node in done.roots] == [True, False]
    assert done.roots[1].mesh is other.mesh
    assert [n.name for n in Names(template="x_{name}", only=words).apply(scene).roots] == ["x_a", "b"]
    moved_pivot = zo.steps.Pivot(at="centre", only=words).apply(scene)
    assert [bool(node.transform[:3, 3].any()) for node in moved_pivot.roots] == [True, False]


def test_an_only_that_fits_nothing_is_said_and_the_whole_scene_takes_none():
    scene = scene_of(cube())
    assert "no node matches only = gate*; nothing done" in texts(Weld(only="gate*").apply(scene).notes)
    with pytest.raises(zo.UsageError, match="works on the whole scene and takes no 'only'"):
        zo.steps.Scale(factor=2, only="gate*")


def test_names_with_only_do_not_clash_with_the_rest():
    done = Names(template="b", only="a").apply(scene_of(cube(name="a"), cube(name="b")))
    assert [node.name for node in done.roots] == ["b_2", "b"]
