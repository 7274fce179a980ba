from __future__ import annotations

import copy
import pickle
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

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
        ({"face_slot": [0, 0]}, "2 entries for 1 face"),
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
    with pytest.raises(zo.ModelError, match=r"child.*zero scale"):
        scene.with_worlds({0: np.diag([0.0, 1, 1, 1])}, {})


@pytest.mark.parametrize("bad", [np.full((4, 4), np.nan), np.ones((4, 4)), np.eye(3)])
def test_transforms_that_place_nothing_are_refused(bad):
    with pytest.raises(zo.ModelError, match="node crooked"):
        Node("crooked", bad)


def test_nothing_outside_can_change_a_mesh():
    points, corners = np.array(CUBE_POINTS, float), np.array(CUBE_FACES).ravel()
    values, index = np.zeros((8, 2), np.float32), corners.astype(np.int32)
    mesh = zo.Mesh("m", points, np.arange(0, 25, 4), corners, (Layer("uv", values, index),))
    box = mesh.surface_bounds.copy()
    points[:], values[:], corners[:], index[:] = 7, 7, 0, 0
    assert np.array_equal(mesh.surface_bounds, box) and mesh.points.max() == 1
    assert mesh.layers[0].values.max() == 0 and mesh.corner_point.max() == mesh.layers[0].index.max() == 7
    handed = np.array(CUBE_POINTS, float)
    new = mesh.replace(points=handed[:, :])
    with pytest.raises(ValueError, match="read-only"):
        handed[0, 0] = 5
    assert new.points[0, 0] == 0
    with pytest.raises(TypeError, match="does not change"):
        Node("n", properties={"a": 1}).properties["a"] = 2


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (lambda: zo.Material("m", base_color="red"), "material m: base_color must be 4 numbers, not 'red'"),
        (lambda: zo.Material("m", base_color=(1, 0, np.nan, 1)), "material m: base_color is nan"),
        (lambda: zo.Material("m", alpha_mode="maks"), "alpha_mode is 'maks'. Did you mean 'mask'.*opaque, mask, blend"),
        (lambda: zo.Material("m", roughness=2), "roughness is 2.*from 0 to 1"),
        (lambda: zo.Material("m", textures={"normals": 1}), "role of a texture is 'normals'. Did you mean 'normal'"),
        (lambda: zo.Material(7), "name must be text"),
        (lambda: zo.TextureUse("net.png"), "must use a Texture"),
        (lambda: zo.TextureUse(zo.Texture("t"), channel="x"), "channel is 'x'.*Use r, g, b, a"),
        (lambda: zo.Light("l", "sport"), "kind is 'sport'. Did you mean 'spot'.*point, spot, directional"),
        (lambda: zo.Light("l", "spot", cone=(1.0, 0.5)), "inner angle is larger"),
        (lambda: zo.Light("l", direction=(0, 0, 0)), "points nowhere"),
        (lambda: zo.Camera("c", height=0.0), "height is 0.0"),
        (lambda: Node("n", content="gate.obj"), "holds 'gate.obj'"),
        (lambda: Node("n", children=("a",)), "children must be nodes, not 'a'"),
        (lambda: Node("n", role="colision"), "role is 'colision'. Did you mean 'collision'"),
        (lambda: Node("n", np.diag([1e20, 1, 1, 1])), "finite numbers up to 1e.15"),
        (lambda: zo.Scene(("a",), zo.Frame("left up forward")), "roots must be nodes"),
        (lambda: zo.Scene.from_mesh("gate"), "takes meshes, not 'gate'"),
        (lambda: cube(slots=("wood",)), "slot must hold a material or None, not 'wood'"),
        (lambda: zo.Mesh.from_faces("m", np.eye(3) * 1e16, [[0, 1, 2]]), "point 0 has a position beyond 1e.15"),
        (lambda: zo.Mesh.from_faces("m", [(0, 0, 0), (1, 0)], [[0, 1, 1]]), "must all have the same length"),
        (lambda: zo.Mesh.from_faces("m", CUBE_POINTS, [3, 4, 5]), "lists of the numbers of points"),
        (
            lambda: zo.Mesh("m", CUBE_POINTS, [0, 3], "abc"),
            "mesh m: corner_point: an array must hold numbers, not text",
        ),
        (lambda: cube().replace(layers=(Layer("uv", [(0, 0)], [0]),)), "uv layer has 1 indices for 24 corners"),
        (lambda: cube().replace(points=np.zeros((7, 3))), "corner_point holds 0 to 7, but only 0 to 6 exist"),
        (lambda: cube().replace(face_slot=[9] * 6), "face_slot holds 9 to 9"),
        (lambda: cube().replace(slot=()), "field of a mesh is 'slot'. Did you mean 'slots'"),
        (lambda: cube().replace(layers="uv"), "layers must be a list"),
        (lambda: Node("n", groups="yard"), "groups must be a list of texts"),
        (lambda: Node("n", visible="no"), "visible is 'no'. Use True or False"),
        (lambda: zo.Material("m", two_sided="no"), "two_sided is 'no'"),
        (lambda: zo.TextureUse(zo.Texture("t"), uv_set=1.5), "uv_set is 1.5. Use a whole number"),
        (lambda: zo.Texture("t", path=3), "path must be a path, not 3"),
        (lambda: zo.Note("dome", "swept"), "kind is 'dome'. Did you mean 'done'"),
        (lambda: scene_of(cube()).with_notes("swept"), "notes must be notes"),
        (lambda: scene_of(cube()).nodes(kind="meshes"), "kind is 'meshes'. Did you mean 'mesh'"),
        (lambda: scene_of(cube(), cube()).with_node(Node("x"), below="cube"), "2 nodes called 'cube', where one is"),
    ],
)
def test_values_that_make_no_sense_are_refused_where_they_are_given(make, message):
    with pytest.raises(zo.ModelError, match=message):
        make()


@pytest.mark.parametrize(
    ("call", "message"),
    [
        (lambda: zo.read(5), "a path, bytes or an open file, not 5"),
        (lambda: zo.apply(scene_of(cube()), "weld"), "takes steps, not 'weld'"),
        (lambda: zo.Frame(3), "axes must be three words, not 3"),
        (lambda: zo.run_job(5), "a job file or a Job, not 5"),
    ],
)
def test_calls_that_make_no_sense_are_refused(call, message):
    with pytest.raises(zo.UsageError, match=message):
        call()


def a_bit_of_everything() -> zo.Scene:
    net = zo.Material("net", textures={"base_color": zo.TextureUse(zo.Texture("net.png", data=b"png"))})
    uv = Layer("uv", np.eye(2), np.arange(24) % 2, "st")
    mesh = cube(slots=(net, None), face_slot=[0, 1] * 3, layers=(uv,), face_sets={"lid": [1]})
    scatter = zo.Scatter(mesh, np.stack([np.eye(4), moved(1, 2, 3)]))
    below = (Node("lamp", content=zo.Light("lamp")), Node("eye", content=zo.Camera("eye")))
    return scene_of(Node("a", moved(1, 0, 0), below, mesh, properties={"k": [1]}), Node("many", content=scatter))


@pytest.mark.parametrize("how", ["pickle", "deepcopy", "process"])
def test_a_scene_goes_through_a_process_pool_and_back(how):
    scene = a_bit_of_everything()
    scene.meshes[0].surface_bounds  # noqa: B018, what is kept with a mesh stays behind
    if how == "process":
        with ProcessPoolExecutor(1, get_context("spawn")) as pool:
            again = pool.submit(zo.apply, scene, zo.steps.Scale(factor=1)).result()
    else:
        again = pickle.loads(pickle.dumps(scene)) if how == "pickle" else copy.deepcopy(scene)
    assert again.same_as(scene) and again.materials == scene.materials
    assert again.meshes[0] is again.roots[1].content.mesh
    with pytest.raises(ValueError, match="read-only"):
        again.meshes[0].points[0, 0] = 1
    moved_one = scene.with_node(Node("many", moved(0, 0, 1), content=scene.roots[1].content), instead_of="many")
    assert not moved_one.same_as(scene)


def test_what_is_printed_is_one_line():
    scene = a_bit_of_everything()
    assert repr(scene.meshes[0]) == "Mesh 'cube': 6 faces, 8 points, 1 UV set"
    assert repr(scene) == "Scene 'test': 4 nodes, 1 mesh, left up forward, m"
    assert repr(scene.roots[0]) == "Node 'a': mesh, 2 children"
    assert repr(scene.meshes[0].layers[0]) == "Layer uv 'st': 2 values at 24 corners"
    assert repr(scene.materials[0]) == "Material 'net': base_color 1 1 1 1, 1 texture"
    assert "<td>1 × 1 × 1 m</td>" in scene._repr_html_()
    deep = Node("leaf")
    for _ in range(3000):
        deep = Node("n", children=(deep,))
    assert repr(scene_of(deep)).startswith("Scene 'test': 3,001 nodes")
    assert pickle.loads(pickle.dumps(scene_of(deep))).same_as(scene_of(deep))


def test_meshes_from_what_people_have():
    faces = [[0, 1, 2], [0, 2, 3, 1]]
    points = np.arange(12.0).reshape(4, 3)
    ragged = zo.Mesh.from_arrays(points, faces, uvs=points[:, :2], normals=np.ones((7, 3)))
    flat = zo.Mesh.from_arrays(points, [0, 1, 2, 0, 2, 3, 1], sizes=[3, 4], uvs=points[:, :2], normals=np.ones((7, 3)))
    assert ragged.same_as(flat)
    assert ragged.uv_sets[0].at_corners(0)[3:].tolist() == points[[0, 2, 3, 1], :2].tolist()
    even = zo.Mesh.from_arrays(
        points, np.array([[0, 1, 2], [0, 2, 3]]), uvs={"a": points[:, :2], "b": (np.eye(2), [0] * 6)}
    )
    assert even.face_size.tolist() == [3, 3] and [one.name for one in even.uv_sets] == ["a", "b"]
    with pytest.raises(zo.ModelError, match="5 rows of uv values fit neither 4 points nor 6 corners"):
        zo.Mesh.from_arrays(points, np.array([[0, 1, 2], [0, 2, 3]]), uvs=np.zeros((5, 2)))


def test_nodes_are_found_and_changed_without_a_walk():
    hinge = Node("hinge", moved(0, 1, 0), role="marker")
    scene = zo.Scene.from_nodes(
        Node("yard", moved(2, 0, 0), (Node("gate_left", children=(hinge,)), Node("gate_right")))
    )
    assert [one.node.name for one in scene.find("gate*")] == ["gate_left", "gate_right"]
    (placed,) = scene.nodes(role="marker")
    assert placed.world[:3, 3].tolist() == [2, 1, 0]
    assert [one.node.name for one in placed.ancestors] == ["gate_left", "yard"]
    more = scene.with_node(Node("bolt"), below="gate_right").without("gate_left")
    assert [one.path[-1] for one in more.walk()] == ["yard", "gate_right", "bolt"]
    assert [one.node.name for one in zo.Scene.from_mesh(cube(), unit="cm").walk()] == ["cube"]
