from __future__ import annotations

import numpy as np
import pytest

import zesty_otter as zo
from build import CUBE_FACES, CUBE_POINTS, cube, moved, scene_of, volume
from zesty_otter.model import Layer, Node, compact


def test_a_quad_mesh_counts_what_triangulation_would_give():
    mesh = cube()
    assert (mesh.point_count, mesh.face_count, mesh.corner_count, mesh.triangle_count) == (8, 6, 24, 12)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"corner_point": [0, 1, 9]}, "only 0 to 2 exist"),
        ({"corner_point": [0, 1, -1]}, "only 0 to 2 exist"),
        ({"points": [[0, 0, 0], [1, np.nan, 0], [0, 1, 0]]}, "point 1 .* not a finite"),
        ({"points": [[0, 0], [1, 0], [0, 1]]}, "shape"),
        ({"face_start": [0, 2]}, "face_start"),
        ({"face_start": [0, 1, 3]}, "fewer than three"),
        ({"face_slot": [3]}, "only 0 to 0 exist"),
        ({"face_slot": [0, 0]}, "2 entries for 1 faces"),
        ({"slots": ()}, "at least one slot"),
        ({"face_sets": {"lid": np.array([5])}}, "set lid"),
        ({"layers": (Layer("uv", [[0, 0]], [0, 0]),)}, "2 indices for 3 corners"),
        ({"layers": (Layer("uv", [[0, 0]], [0, 0, 1]),)}, "uv layer holds 0 to 1"),
        ({"layers": (Layer("uv", [[0, np.inf]], [0, 0, 0]),)}, "not finite"),
    ],
)
def test_arrays_that_make_no_mesh_are_refused(change, message):
    sound = {"points": np.eye(3), "face_start": [0, 3], "corner_point": [0, 1, 2]}
    with pytest.raises(zo.ModelError, match=message):
        zo.Mesh("bad", **{**sound, **change})


def test_arrays_are_read_only_and_shared():
    mesh = cube()
    with pytest.raises(ValueError, match="read-only"):
        mesh.points[0, 0] = 5
    assert np.shares_memory(mesh.replace(name="other").points, mesh.points)


def test_taking_faces_takes_only_what_they_use():
    red, blue = zo.Material("red"), zo.Material("blue")
    uv = Layer("uv", np.arange(48).reshape(24, 2), np.arange(24))
    mesh = cube(slots=(red, blue), face_slot=[0, 0, 0, 1, 1, 1], layers=(uv,), face_sets={"top": np.array([1, 4])})
    part = mesh.take_faces(np.array([4, 1]), "part")
    assert part.face_count == 2
    assert part.point_count == 6
    assert part.points[part.corner_point].tolist() == mesh.points[[0, 4, 6, 2, 4, 5, 7, 6]].tolist()
    assert part.layers[0].at_corners().tolist() == uv.values[[16, 17, 18, 19, 4, 5, 6, 7]].tolist()
    assert [part.slots[s].name for s in part.slot_of_face] == ["blue", "red"]
    assert part.face_sets["top"].tolist() == [1, 0]


def test_turning_round_keeps_the_first_corner():
    turned = cube().turned_round()
    assert volume(turned) == pytest.approx(-1)
    assert turned.corner_point[:4].tolist() == [0, 1, 3, 2]


@pytest.mark.parametrize("index", [[5, 3, 5], [-1, 2, -1, 0], [-1, -1], [], [7, 2**30, -1, 7]])
def test_compacting_keeps_what_indices_point_to(index):
    index = np.array(index, np.int64)
    used, new = compact(index)
    assert used.tolist() == sorted(set(index[index >= 0].tolist()))
    assert np.array_equal(np.where(new < 0, -1, np.append(used, 0)[new]), np.where(index < 0, -1, index))


def test_bounds_count_placed_faces_and_no_stray_points():
    mesh = zo.Mesh.from_faces("m", [*CUBE_POINTS, [99, 99, 99]], CUBE_FACES)
    scene = scene_of(Node("a", moved(1, 0, 0), (Node("b", moved(0, 5, 0), content=mesh),), mesh))
    assert scene.bounds().tolist() == [[1, 0, 0], [2, 6, 1]]
    turned = np.array([[0, -1, 0, 0], [1, 0, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])
    assert scene_of(Node("t", turned, content=mesh)).bounds().tolist() == [[-1, 0, 0], [0, 1, 1]]
    eighth = np.eye(4)
    eighth[:2, :2] = np.array([[1, -1], [1, 1]]) / np.sqrt(2)
    assert np.allclose(scene_of(Node("e", eighth, content=mesh)).bounds()[1], [2**-0.5, 2**0.5, 1])
    assert np.isnan(scene_of().bounds()).all()


def test_mapping_keeps_sharing_and_untouched_nodes():
    mesh = cube()
    scene = scene_of(Node("a", content=mesh), Node("b", moved(3, 0, 0), content=mesh), Node("empty"))
    changed = scene.map_meshes(lambda one: one.replace(name="renamed"))
    assert len(changed.meshes) == 1
    assert changed.roots[2] is scene.roots[2]
    assert scene.map_nodes(lambda node: None if node.name == "a" else node).roots == scene.roots[1:]


def test_a_very_deep_tree_is_walked_and_mapped():
    node = Node("leaf", content=cube())
    for _ in range(5000):
        node = Node("n", moved(1, 0, 0), (node,))
    scene = scene_of(node)
    assert scene.bounds()[0, 0] == 5000
    assert sum(1 for _ in scene.map_nodes(lambda one: one).walk()) == 5001


def test_moving_a_parent_leaves_its_children():
    child = Node("child", moved(1, 0, 0), content=cube())
    scene = scene_of(Node("parent", moved(0, 7, 0), (child,), cube()))
    changed = scene.with_worlds({0: np.diag([2.0, 2, 2, 1])}, {})
    worlds = [placed.world.tolist() for placed in changed.walk()]
    assert worlds == [np.diag([2.0, 2, 2, 1]).tolist(), moved(1, 7, 0).tolist()]
    with pytest.raises(zo.ModelError, match=r"child.*scaled to nothing"):
        scene.with_worlds({0: np.diag([0.0, 1, 1, 1])}, {})


@pytest.mark.parametrize("bad", [np.full((4, 4), np.nan), np.ones((4, 4)), np.eye(3)])
def test_transforms_that_place_nothing_are_refused(bad):
    with pytest.raises(zo.ModelError, match="node crooked"):
        Node("crooked", bad)
