"""Bake, weld, clean-up, smoothing and polygons: what happens to the surface."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

import zesty_otter as zo
from build import CUBE_FACES, CUBE_POINTS, cube, moved, scene_of, texts, volume
from zesty_otter.audit.surveying import leftover
from zesty_otter.geometry.surface.topology import holes, topology
from zesty_otter.model import Layer, Light, Node
from zesty_otter.steps import BakeTransforms, CleanUp, MergeFlat, Normals, Tangents, Triangulate, Weld

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well


def world_corners(scene):
    placed = [(p.world, mesh) for p, mesh in scene.placed_meshes()]
    return np.concatenate([(m.points @ w[:3, :3].T + w[:3, 3])[m.corner_point] for w, m in placed])


def patch(there, turn=None):
    """A flat square of unit cells, those where ``there`` (N, N) says so."""
    side = len(there) + 1
    points = np.array([(i, j, 0.0) for i in range(side) for j in range(side)])
    first = [side * i + j for i in range(side - 1) for j in range(side - 1) if there[i][j]]
    faces = [[a, a + side, a + side + 1, a + 1] for a in first]
    return zo.Mesh.from_faces("patch", points if turn is None else points @ turn.T, faces)


def signed_areas(mesh, normal):
    """Areas of the triangles of a mesh, seen along a normal."""
    done = Triangulate().apply(scene_of(mesh)).meshes[0]
    a, b, c = done.points[done.corner_point].reshape(-1, 3, 3).transpose(1, 0, 2)
    return np.cross(b - a, c - a) @ normal / 2


def soup(mesh):
    """The mesh with points of its own for every face."""
    return mesh.replace(points=mesh.points[mesh.corner_point], corner_point=np.arange(mesh.corner_count))


def grid_cube(cells: int) -> zo.Mesh:
    """A unit cube of small quads, each side with points of its own."""
    points, faces = [], []
    for axis in range(3):
        for side in (0, 1):
            base = len(points)
            for i in range(cells + 1):
                for j in range(cells + 1):
                    point = [0.0, 0.0, 0.0]
                    point[axis], point[(axis + 1) % 3], point[(axis + 2) % 3] = side, i / cells, j / cells
                    points.append(point)
            for i in range(cells):
                for j in range(cells):
                    a = base + i * (cells + 1) + j
                    face = [a, a + cells + 1, a + cells + 2, a + 1]
                    faces.append(face if side else face[::-1])
    return zo.Mesh.from_faces("grid", points, faces)


def merged_by_position(scene):
    return Weld(distance=1e-6).apply(scene)


# Baking


def messy_tree():
    turn = np.eye(4)
    turn[:3, :3] = Rotation.from_euler("xyz", (0.3, -1.1, 2.0)).as_matrix()
    normals = Layer(
        "normal",
        np.array([[0, 0, -1], [0, 0, 1], [0, -1, 0], [0, 1, 0], [-1, 0, 0], [1, 0, 0]]),
        np.repeat(np.arange(6), 4),
    )
    shared = cube((1, 2, 3), layers=(normals,))
    leaf = Node("leaf", moved(1, 1, 0) @ turn @ np.diag([1, -2, 0.5, 1]), content=shared)
    twin = Node("twin", moved(-4, 0, 0) @ turn @ np.diag([1, -2, 0.5, 1]), content=shared)
    lamp = Node("lamp", moved(0, 3, 0), content=Light("lamp", direction=(0.0, -1.0, 0.0)))
    middle = Node("middle", turn @ np.diag([3.0, 1, 1, 1]), (leaf, twin, lamp), shared)
    return scene_of(Node("root", moved(5, 0, 0) @ np.diag([1.0, 1, -1, 1]), (middle,)))


def test_baking_moves_nothing_and_leaves_clean_nodes():
    scene = messy_tree()
    done = BakeTransforms().apply(scene)
    size = np.diff(scene.bounds(), axis=0).max()
    before, after = world_corners(scene), world_corners(done)
    assert np.abs(np.sort(before, axis=0) - np.sort(after, axis=0)).max() < 1e-9 * size
    assert all(leftover(placed.node.transform) == () for placed in done.walk())
    assert all(volume(mesh) > 0 for mesh in done.meshes)
    # The twins turn alike and stay one mesh; the middle one does not.
    assert len(done.meshes) == 2
    assert [p.world[:3, 3].tolist() for p in done.walk()][3] == pytest.approx([p.world[:3, 3] for p in scene.walk()][3])
    assert "4 of 5 nodes had rotation or scale" in texts(done.notes) or "5 of 5" in texts(done.notes)


def test_baked_normals_stay_at_right_angles_to_their_faces():
    for mesh in BakeTransforms().apply(messy_tree()).meshes:
        for face, normal in enumerate(mesh.normals.at_corners()[mesh.face_start[:-1]]):
            corners = mesh.points[mesh.corner_point[mesh.face_start[face] : mesh.face_start[face + 1]]]
            assert np.abs((corners - corners[0]) @ normal).max() < 1e-5
            assert np.linalg.norm(normal) == pytest.approx(1, abs=1e-6)
            outward = np.cross(corners[1] - corners[0], corners[2] - corners[0])
            assert outward @ normal > 0


def test_baking_a_selection_leaves_the_others_where_they_are():
    scene = messy_tree()
    done = BakeTransforms(only="middle").apply(scene)
    assert np.allclose(np.sort(world_corners(scene), axis=0), np.sort(world_corners(done), axis=0))
    dropped = BakeTransforms(translation="drop").apply(scene)
    # All but the lamp, which has nothing else to say where it is.
    lamp = next(placed.world for placed in scene.walk() if placed.node.name == "lamp")
    expected = {"lamp": moved(*lamp[:3, 3])}
    assert all(np.array_equal(one.world, expected.get(one.node.name, np.eye(4))) for one in dropped.walk())
    assert np.allclose(dropped.bounds(), scene.bounds())


def test_directions_of_lights_are_baked_too():
    scene = scene_of(Node("n", np.diag([1.0, -2, 1, 1]), (Node("l", content=Light("l", direction=(0, -1, 0))),)))
    assert BakeTransforms().apply(scene).roots[0].children[0].content.direction == (0, 1, 0)


def test_a_node_scaled_to_nothing_is_flattened_and_named():
    done = BakeTransforms().apply(scene_of(Node("squashed", np.diag([1.0, 0, 1, 1]), content=cube())))
    assert "node squashed: has zero scale" in texts(done.notes)
    assert done.bounds()[1].tolist() == [1, 0, 1]


# Welding


def test_welding_closes_seams_and_spares_a_button_on_a_hull():
    hull = soup(cube((30, 4, 8)))
    jitter = np.random.default_rng(0).uniform(-2e-4, 2e-4, hull.points.shape)
    button = soup(cube((0.002, 0.002, 0.0005)))
    points = np.concatenate([hull.points + jitter, button.points + np.array([10, 5, 2])])
    start = np.concatenate([hull.face_start, button.face_start[1:] + 24])
    mesh = zo.Mesh("boat", points, start, np.concatenate([hull.corner_point, button.corner_point + 24]))
    done = Weld(distance="2mm").apply(scene_of(mesh))
    welded = done.meshes[0]
    assert welded.point_count == 16
    assert welded.face_count == 12
    part = welded.take_faces(np.arange(6, 12))
    assert np.ptp(part.points, axis=0).tolist() == pytest.approx([0.002, 0.002, 0.0005])
    assert "32 points welded" in texts(done.notes)


@pytest.mark.parametrize("scale", [0.001, 1, 1000])
def test_welding_does_not_depend_on_turn_scale_or_order(scale):
    random = np.random.default_rng(1)
    mesh = soup(grid_cube(4))
    order = random.permutation(mesh.point_count)
    inverse = np.argsort(order)
    turn = Rotation.random(rng=random).as_matrix()
    copy = mesh.replace(points=(mesh.points @ turn.T * scale)[order], corner_point=inverse[mesh.corner_point])
    done = Weld(distance=0.01 * scale).apply(scene_of(copy)).meshes[0]
    assert (done.point_count, done.face_count) == (98, 96)


def test_welding_only_points_with_matching_attributes():
    mesh = soup(cube())
    uv = Layer("uv", np.repeat([[0, 0], [1, 1]], 3, axis=0), np.repeat(np.arange(6), 4))
    split = mesh.replace(layers=(uv,))
    assert Weld(distance=0.01).apply(scene_of(split)).meshes[0].point_count == 8
    # Three sides have one UV, three the other; two corners of the cube belong to one kind only.
    matching = Weld(distance=0.01, across="matching").apply(scene_of(split)).meshes[0]
    values = matching.layers[0].at_corners()
    for point in range(matching.point_count):
        assert len(np.unique(values[matching.corner_point == point], axis=0)) == 1
    assert 8 < matching.point_count < 24


def test_faces_that_collapse_are_dropped():
    mesh = zo.Mesh.from_faces(
        "m", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (1e-7, 0, 0)], [[0, 1, 2, 3], [0, 4, 1], [0, 4, 2, 3]]
    )
    done = Weld(distance=1e-5).apply(scene_of(mesh)).meshes[0]
    assert done.face_size.tolist() == [4, 3]
    with pytest.raises(zo.UnknownUnitError):
        Weld(distance="1mm").apply(scene_of(mesh, unit=None))


# Cleaning up


def test_slots_of_materials_that_are_in_no_library_stay_apart(tmp_path):
    face = "f 1 2 3 4\n"
    names = ("oak", "iron", "rope.001", "rope.002")
    slots = "".join(f"usemtl {name}\n{face}{face}" for name in names)
    (tmp_path / "a.obj").write_text(f"mtllib gone.mtl\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\n{slots}")
    done = CleanUp().apply(zo.read(tmp_path / "a.obj", "m"))
    assert [slot.name for slot in done.meshes[0].slots] == ["oak", "iron", "rope.001"]
    assert list(done.meshes[0].face_slot) == [0, 1, 2]


def test_what_draws_nothing_is_dropped_and_counted():
    points = [*CUBE_POINTS, (9, 9, 9)]
    faces = [*CUBE_FACES, CUBE_FACES[0], CUBE_FACES[1], [0, 1, 1], [0, 1, 0]]
    oak = {"base_color": (0.4, 0.3, 0.2, 1.0)}
    slots = (*(zo.Material(name, **oak) for name in ("a", "b", "b twin")), zo.Material("c", roughness=0.5))
    mesh = zo.Mesh.from_faces("m", points, faces, slots=slots, face_slot=[0, 1, 2, 0, 1, 2, 0, 0, 0, 0])
    done = CleanUp().apply(scene_of(mesh))
    clean = done.meshes[0]
    assert (clean.face_count, clean.point_count) == (6, 8)
    assert [slot.name for slot in clean.slots] == ["a"]
    assert "2 flat faces, 2 duplicate faces, 1 loose point, 2 duplicate materials, 1 unused slot" in texts(done.notes)


@pytest.mark.parametrize("nested", ["solid", "cavity"])
def test_scrambled_nested_shells_are_turned_outward(nested):
    random = np.random.default_rng(5)
    sizes = (9.0, 5.0, 2.0)
    shells = [grid_cube(3).replace(points=(grid_cube(3).points - 0.5) * size) for size in sizes]
    points = np.concatenate([shell.points for shell in shells]) + 1000
    start = np.concatenate([[0], np.cumsum(np.full(3 * 54, 4))])
    corners = np.concatenate([shell.corner_point + k * 96 for k, shell in enumerate(shells)])
    mesh = merged_by_position(scene_of(zo.Mesh("nest", points, start, corners))).meshes[0]
    scrambled = mesh.turned_round(random.random(162) < 0.5)
    done = CleanUp(nested=nested).apply(scene_of(scrambled)).meshes[0]
    found = [
        volume(
            done.take_faces(np.arange(k * 54, (k + 1) * 54)).replace(
                points=done.take_faces(np.arange(k * 54, (k + 1) * 54)).points - 1000
            )
        )
        for k in range(3)
    ]
    signs = (1, 1, 1) if nested == "solid" else (1, -1, 1)
    assert found == pytest.approx([sign * size**3 for sign, size in zip(signs, sizes, strict=True)], rel=1e-6)


def test_an_open_shell_turns_outward_and_a_sheet_stays():
    whole = merged_by_position(scene_of(grid_cube(6))).meshes[0]
    lidless = whole.take_faces(np.arange(36, 216))
    done = CleanUp().apply(scene_of(lidless.turned_round()))
    assert np.array_equal(done.meshes[0].corner_point, lidless.corner_point)
    assert "24 open edges" in texts(done.notes)
    kept = CleanUp(orient="agree").apply(scene_of(lidless.turned_round())).meshes[0]
    assert np.array_equal(kept.corner_point, lidless.turned_round().corner_point)
    sheet = whole.take_faces(np.arange(36))
    for one in (sheet, sheet.turned_round()):
        assert np.array_equal(CleanUp().apply(scene_of(one)).meshes[0].corner_point, one.corner_point)


def test_normals_turn_with_their_faces():
    normal = Layer("normal", [[0, 0, 1.0]], np.zeros(24, int))
    mesh = cube(layers=(normal,)).turned_round(np.array([True, False, False, False, False, False]))
    done = CleanUp().apply(scene_of(mesh)).meshes[0]
    assert done.normals.at_corners()[[0, 4]].tolist() == [[0, 0, -1], [0, 0, 1]]


def test_a_moebius_strip_is_said_to_have_one_side():
    angles = np.linspace(0, 2 * np.pi, 13)[:-1]
    ring = np.stack([np.cos(angles), np.sin(angles), 0 * angles], 1)
    lift = (
        np.stack([np.cos(angles / 2) * np.cos(angles), np.cos(angles / 2) * np.sin(angles), np.sin(angles / 2)], 1)
        * 0.3
    )
    points = np.concatenate([ring + lift, ring - lift])
    faces = [[k, k + 1, k + 13, k + 12] for k in range(11)] + [[11, 12, 0, 23]]
    done = CleanUp().apply(scene_of(zo.Mesh.from_faces("strip", points, faces)))
    assert "1 edge where faces cannot agree" in texts(done.notes)


def test_holes_are_found_and_closed_up_to_a_size():
    open_cube = cube().take_faces(np.array([0, 2, 3, 4, 5]))
    (loop,) = holes(open_cube.corner_point, open_cube.face_start, open_cube.surface(topology))
    assert len(loop) == 4
    uv = Layer("uv", np.random.default_rng(0).random((20, 2)), np.arange(20))
    scene = scene_of(open_cube.replace(layers=(uv,)))
    closed = CleanUp(close_holes=4.1).apply(scene)
    assert volume(closed.meshes[0]) == pytest.approx(1)
    assert "closed 1 hole" in texts(closed.notes)
    assert closed.meshes[0].face_size.tolist() == [4] * 6
    assert "4 open edges, at" in texts(CleanUp(close_holes=3.9).apply(scene).notes)


def test_edges_of_three_faces_are_named_with_their_place():
    mesh = zo.Mesh.from_faces(
        "fan", [(0, 0, 0), (0, 0, 2), (1, 0, 0), (-1, 1, 0), (-1, -1, 0)], [[0, 1, 2], [0, 1, 3], [0, 1, 4]]
    )
    assert "1 edge shared by more than two faces, at (0, 0, 1)" in texts(CleanUp().apply(scene_of(mesh)).notes)


# Smoothing


@pytest.mark.parametrize(
    ("by", "distinct"),
    [
        ({"by": "hard"}, 24),
        ({"by": "smooth"}, 8),
        ({"by": "angle", "angle": 89}, 24),
        ({"by": "angle", "angle": 91}, 8),
    ],
)
def test_normals_of_a_cube(by, distinct):
    mesh = Normals(**by).apply(scene_of(soup(cube()))).meshes[0]
    used = mesh.normals.at_corners()
    assert len(np.unique(np.round(np.c_[mesh.points[mesh.corner_point], used], 5), axis=0)) == distinct
    if distinct == 8:
        away = mesh.points[mesh.corner_point] - 0.5
        assert np.allclose(used, away / np.linalg.norm(away, axis=1)[:, None], atol=1e-6)


def test_weights_decide_what_a_long_face_counts():
    # A roof ridge of two faces at right angles, one twice as wide as the other.
    mesh = zo.Mesh.from_faces(
        "roof", [(0, 0, 0), (1, 0, 0), (1, 0, 2), (0, 0, 2), (0, -1, 0), (0, -1, 2)], [[0, 3, 2, 1], [0, 4, 5, 3]]
    )
    wide = mesh.replace(points=mesh.points * (2, 1, 1))
    at_ridge = {
        w: Normals(by="smooth", weight=w).apply(scene_of(wide)).meshes[0].normals.at_corners()[0]
        for w in ("angle", "area", "none")
    }
    assert np.allclose(at_ridge["angle"], [-(0.5**0.5), 0.5**0.5, 0], atol=1e-6)
    assert np.allclose(at_ridge["area"], np.array([-1, 2, 0]) / 5**0.5, atol=1e-6)
    assert np.allclose(at_ridge["none"], at_ridge["angle"], atol=1e-6)


def test_smoothing_groups_and_hard_edges_tell_the_same():
    mesh = cube(face_smoothing=[1, 1, 2, 2, 1, 0])
    by_groups = Normals(by="groups").apply(scene_of(mesh)).meshes[0]
    back = Normals(groups="make").apply(scene_of(by_groups)).meshes[0]
    again = Normals(by="groups").apply(scene_of(back)).meshes[0]
    assert np.allclose(by_groups.normals.at_corners(), again.normals.at_corners(), atol=1e-5)
    assert back.face_smoothing[5] == 0
    assert (back.face_smoothing[:5] > 0).sum() >= 2


def test_authored_normals_are_kept_and_holes_filled():
    index = np.where(np.arange(24) < 4, 0, -1)
    mesh = cube(layers=(Layer("normal", [[1, 0, 0]], index),), face_smoothing=None)
    done = Normals().apply(scene_of(mesh)).meshes[0].normals.at_corners()
    assert done[:4].tolist() == [[1, 0, 0]] * 4
    assert done[4].tolist() == [0, 0, 1]


def test_normals_of_faces_without_area_are_some_direction():
    mesh = zo.Mesh.from_faces("line", [(0, 0, 0), (1, 0, 0), (2, 0, 0)], [[0, 1, 2]])
    assert Normals(by="smooth").apply(scene_of(mesh)).meshes[0].normals.at_corners().tolist() == [[0, 0, 1]] * 3


@pytest.mark.parametrize(("mirrored", "sign"), [(False, 1), (True, -1)])
def test_tangents_follow_growing_u(mirrored, sign):
    points = [(0, 0, 0), (2, 0, 0), (2, 1, 0), (0, 1, 0)]
    uvs = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
    if mirrored:
        uvs[:, 0] = 1 - uvs[:, 0]
    turn = Rotation.from_euler("xyz", (0.2, 0.5, 1.3)).as_matrix()
    mesh = zo.Mesh.from_faces(
        "quad", np.array(points) @ turn.T, [[0, 1, 2, 3]], layers=(Layer("uv", uvs, np.arange(4)),)
    )
    done = Tangents(of="all").apply(scene_of(mesh)).meshes[0]
    (layer,) = done.layers_of("tangent")
    assert done.all_triangles
    for value in layer.at_corners():
        assert np.allclose(value[:3], sign * turn[:, 0], atol=1e-6)
        assert value[3] == sign
        assert np.allclose(value[3] * np.cross(turn[:, 2], value[:3]), turn[:, 1], atol=1e-6)


def test_tangents_are_split_where_uvs_are_mirrored_and_shared_elsewhere():
    # Two quads side by side whose UVs mirror each other about the middle, as on a symmetric body.
    points = [(0, 0, 0), (1, 0, 0), (2, 0, 0), (0, 1, 0), (1, 1, 0), (2, 1, 0)]
    uv = Layer("uv", [(1, 0), (0, 0), (1, 0), (1, 1), (0, 1), (1, 1)], [0, 1, 4, 3, 1, 2, 5, 4])
    material = zo.Material("m").with_textures({"normal": zo.TextureUse(zo.Texture("n.png"))})
    mesh = zo.Mesh.from_faces("pair", points, [[0, 1, 4, 3], [1, 2, 5, 4]], layers=(uv,), slots=(material,))
    done = Tangents().apply(scene_of(mesh)).meshes[0]
    values = done.layers_of("tangent")[0].at_corners()
    assert {tuple(np.round(v, 5) + 0.0) for v in values[:6]} == {(-1, 0, 0, -1)}
    assert {tuple(np.round(v, 5) + 0.0) for v in values[6:]} == {(1, 0, 0, 1)}
    assert len(done.layers_of("tangent")[0].values) <= 8
    untouched = Tangents().apply(scene_of(cube()))
    assert untouched.meshes[0].layers == ()


# Flat faces merged


def test_a_cube_of_triangles_becomes_six_quads():
    scene = merged_by_position(Triangulate().apply(scene_of(grid_cube(8))))
    done = MergeFlat().apply(scene).meshes[0]
    assert done.face_size.tolist() == [4] * 6
    assert done.point_count == 8
    assert volume(done) == pytest.approx(1)


def test_faces_that_differ_in_slot_group_or_uv_stay_apart():
    base = Triangulate().apply(merged_by_position(scene_of(grid_cube(2)))).meshes[0]
    slots = base.replace(slots=(None, zo.Material("b")), face_slot=(np.arange(48) % 8 < 4).astype(int))
    assert MergeFlat().apply(scene_of(slots)).meshes[0].face_count == 12
    groups = base.replace(face_smoothing=(np.arange(48) % 8 < 2).astype(int))
    assert MergeFlat().apply(scene_of(groups)).meshes[0].face_count > 6
    # UVs that bend within a side: (x, y) here, (2x, y) there.
    at = base.points[base.corner_point]
    uv = Layer(
        "uv",
        np.c_[np.where(at[:, 0] > 0.5, 2 * at[:, 0] - 0.5, at[:, 0]), at[:, 1] + at[:, 2]],
        np.arange(base.corner_count),
    )
    bent = MergeFlat().apply(scene_of(base.replace(layers=(uv,)))).meshes[0]
    assert bent.face_count == 10
    corners = bent.points[bent.corner_point]
    assert np.allclose(bent.layers[0].at_corners()[:, 1], corners[:, 1] + corners[:, 2], atol=1e-6)


def test_a_ring_becomes_polygons_without_holes_or_t_junctions():
    there = np.ones((5, 5), bool)
    there[2, 2] = False
    done = MergeFlat().apply(Triangulate().apply(scene_of(patch(there)))).meshes[0]
    assert 2 <= done.face_count <= 6
    edges = done.surface(topology)
    assert len(edges.non_manifold) == 0
    for f in range(done.face_count):
        outline = done.corner_point[done.face_start[f] : done.face_start[f + 1]]
        assert len(np.unique(outline)) == len(outline)
    assert signed_areas(done, [0, 0, 1]).sum() == pytest.approx(24)
    # No corner of one polygon lies within an edge of another.
    used = done.points[done.point_used]
    for e in edges.edge_points:
        p, q = done.points[e[0]], done.points[e[1]]
        along = (used - p) @ (q - p) / ((q - p) @ (q - p))
        off = np.linalg.norm(used - p - along[:, None] * (q - p), axis=1)
        assert not ((off < 1e-9) & (along > 1e-9) & (along < 1 - 1e-9)).any()


@given(st.integers(0, 10**6), st.floats(0.05, 0.6))
def test_merging_random_flat_patches_keeps_their_area(seed, missing):
    random = np.random.default_rng(seed)
    there = random.random((7, 7)) > missing
    if not there.any():
        return
    turn = Rotation.random(rng=random).as_matrix()
    done = MergeFlat().apply(Triangulate(diagonal="fixed").apply(scene_of(patch(there, turn)))).meshes[0]
    signed = signed_areas(done, turn[:, 2])
    assert signed.sum() == pytest.approx(there.sum(), rel=1e-9)
    assert signed.min() > -1e-9
    assert done.face_count <= there.sum()


# Nothing to do


@pytest.mark.parametrize(
    "step", [Weld(), CleanUp(), MergeFlat(), Normals(by="angle"), Tangents(of="all"), Triangulate(), BakeTransforms()]
)
@pytest.mark.parametrize("points", [[], [(1, 2, 3)], [(0, 0, 0), (1, 0, 0)]])
def test_meshes_without_faces_come_through(step, points):
    done = step.apply(scene_of(zo.Mesh.from_faces("bare", points, [])))
    assert done.meshes[0].face_count == 0
