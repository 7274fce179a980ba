"""What must hold for every scene: random trees of random meshes through readers, steps and writers."""

from __future__ import annotations

import string

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

import zesty_otter as zo
from build import CUBE_FACES, CUBE_POINTS, Gltf, obj, scene_of, texts, volume
from zesty_otter import pixels
from zesty_otter.audit.surveying import leftover
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.geometry.surface.topology import topology, weld_representatives
from zesty_otter.model import Layer, Node, all_axes, reframed
from zesty_otter.steps import (
    BakeTransforms,
    CleanUp,
    MergeFlat,
    Names,
    Normals,
    Pivot,
    Roles,
    Tangents,
    Triangulate,
    UvSets,
    Weld,
)

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

seeds = st.integers(0, 2**32 - 1)


def random_mesh(random: np.random.Generator, name: str) -> zo.Mesh:
    """A lumpy closed or open surface of quads and triangles, with some of the layers a mesh can have."""
    rows, columns = random.integers(3, 7, 2)
    u, v = np.meshgrid(np.linspace(0, 2 * np.pi, columns + 1)[:-1], np.linspace(0.4, 2.7, rows))
    radius = 1 + 0.3 * random.random(u.shape)
    points = np.stack([radius * np.cos(u) * np.sin(v), radius * np.cos(v), -radius * np.sin(u) * np.sin(v)], -1)
    faces = []
    for i in range(rows - 1):
        for j in range(columns):
            a, b = i * columns + j, i * columns + (j + 1) % columns
            quad = [a, a + columns, b + columns, b]
            faces += [quad] if random.random() < 0.6 else [quad[:3], [quad[0], *quad[2:]]]
    if random.random() < 0.7:
        faces += [list(range(columns)), list(range(rows * columns - 1, (rows - 1) * columns - 1, -1))]
    corners = sum(map(len, faces))
    layers = []
    if random.random() < 0.6:
        layers.append(Layer("uv", random.random((9, 2)), random.integers(-1, 9, corners)))
    if random.random() < 0.4:
        layers.append(Layer("color", random.random((4, 3)), random.integers(0, 4, corners)))
    if random.random() < 0.4:
        directions = random.normal(size=(7, 3))
        unit = directions / np.linalg.norm(directions, axis=1)[:, None]
        layers.append(Layer("normal", unit, random.integers(-1, 7, corners)))
    slots = tuple(zo.Material(f"material {k}") for k in range(random.integers(1, 4)))
    return zo.Mesh.from_faces(
        name,
        points.reshape(-1, 3) * random.uniform(0.1, 3, 3) + random.normal(size=3) * 5,
        faces,
        layers=tuple(layers),
        slots=slots,
        face_slot=random.integers(0, len(slots), len(faces)),
        face_smoothing=random.integers(0, 3, len(faces)) if random.random() < 0.5 else None,
    )


def random_transform(random: np.random.Generator) -> np.ndarray:
    matrix = np.eye(4)
    if random.random() < 0.7:
        matrix[:3, :3] = Rotation.random(rng=random).as_matrix() * random.choice([-1.0, 0.2, 1.0, 3.0], 3)
    matrix[:3, 3] = random.normal(size=3) * 10
    return matrix


def random_scene(seed: int) -> zo.Scene:
    """A tree of up to nine nodes, some of which share a mesh."""
    random = np.random.default_rng(seed)
    meshes = [random_mesh(random, f"mesh {k}") for k in range(3)]

    def node(depth: int) -> Node:
        children = tuple(node(depth - 1) for _ in range(random.integers(0, 3))) if depth else ()
        content = meshes[random.integers(3)] if random.random() < 0.8 or not children else None
        name = "".join(random.choice(list("aAbß _.01"), 4))
        return Node(name, random_transform(random), children, content)

    axes = all_axes()[random.integers(48)]
    return zo.Scene((node(2), node(1)), zo.Frame(axes, random.choice([0.001, 0.01, 0.3048, 1.0])), "random")


def corner_cloud(scene: zo.Scene) -> np.ndarray:
    """Every corner of every face in world space, sorted, so that scenes can be compared."""
    placed = [(p.world, mesh) for p, mesh in scene.placed_meshes()]
    cloud = np.concatenate([(m.points @ w[:3, :3].T + w[:3, 3])[m.corner_point] for w, m in placed])
    return cloud[np.lexsort(np.round(cloud, 6).T)]


def area(scene: zo.Scene) -> float:
    total = 0.0
    for placed, mesh in Triangulate().apply(scene).placed_meshes():
        points = mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3]
        total += face_areas_and_normals(points, mesh.face_start, mesh.corner_point)[0].sum()
    return float(total)


STEPS = [
    BakeTransforms(),
    BakeTransforms(translation="drop"),
    Pivot(at="base"),
    Pivot(at="volume", of="scene"),
    Weld(distance=0),
    CleanUp(),
    Normals(by="angle"),
    Normals(by="groups", groups="make"),
    Names(),
    UvSets(report=True),
    Roles(),
]


@settings(max_examples=25)
@pytest.mark.parametrize("step", STEPS, ids=lambda step: f"{step.slug}-{len(str(step))}")
@given(seeds)
def test_steps_that_move_nothing_move_nothing(step, seed):
    scene = random_scene(seed)
    before = corner_cloud(scene)
    arrays = [(mesh.points, mesh.points.copy()) for mesh in scene.meshes]
    done = step.apply(scene)
    size = np.ptp(before, axis=0).max()
    assert np.abs(done.bounds() - scene.bounds()).max() <= 1e-9 * size
    after = corner_cloud(done)
    assert len(after) == len(before)
    assert np.abs(after.sum(axis=0) - before.sum(axis=0)).max() <= 1e-8 * size * len(before)
    assert all(np.array_equal(now, then) for now, then in arrays)


@given(seeds)
def test_baked_nodes_are_clean_and_instances_stay_instances(seed):
    scene = random_scene(seed)
    done = BakeTransforms().apply(scene)
    assert all(leftover(placed.node.transform) == () for placed in done.walk())
    linear = {(id(mesh), np.round(p.world[:3, :3], 9).tobytes()) for p, mesh in scene.placed_meshes()}
    assert len(done.meshes) <= len(linear)


@given(seeds, st.sampled_from(all_axes()), st.sampled_from([0.001, 0.0254, 1.0]))
def test_reframing_there_and_back_is_the_same(seed, axes, unit):
    scene = random_scene(seed)
    there = reframed(scene, zo.Frame(axes, unit))
    metres = np.linalg.norm(np.diff(scene.bounds(), axis=0)) * scene.frame.unit
    assert np.linalg.norm(np.diff(there.bounds(), axis=0)) * unit == pytest.approx(metres, rel=1e-9)
    back = reframed(there, scene.frame)
    assert np.allclose(corner_cloud(back), corner_cloud(scene), rtol=0, atol=1e-9 * metres / scene.frame.unit)


@settings(max_examples=30)
@given(seeds)
def test_what_is_written_arrives_and_is_read_the_same(tmp_path_factory, seed):
    scene = random_scene(seed)
    path = tmp_path_factory.getbasetemp() / "random.glb"
    zo.write(scene, path)
    assert zo.audit.arrived(scene, path).problems == ()
    back = zo.read(path)
    meant = reframed(scene, back.frame)
    rounding = 1e-5 * np.abs(meant.bounds()).max()
    assert np.allclose(back.bounds(), meant.bounds(), rtol=0, atol=rounding)
    assert area(back) == pytest.approx(area(meant), rel=1e-4)
    gltf = Gltf(path)
    for primitive in (p for mesh in gltf.json["meshes"] for p in mesh["primitives"]):
        # No two vertices of a section are the same in everything, and all are used.
        attributes = np.concatenate([gltf.values(a).astype(float) for a in primitive["attributes"].values()], axis=1)
        assert len(np.unique(attributes, axis=0)) == len(attributes)
        assert len(np.unique(gltf.values(primitive["indices"]))) == len(attributes)
    zo.write(back, path.with_name("again.glb"))
    again = zo.read(path.with_name("again.glb"))
    assert np.array_equal(corner_cloud(again), corner_cloud(back))


@given(seeds)
def test_triangulation_keeps_points_slots_and_counts(seed):
    scene = random_scene(seed)
    done = Triangulate().apply(scene)
    for old, new in zip(scene.meshes, done.meshes, strict=True):
        assert new.face_count == old.triangle_count
        assert new.points is old.points or np.array_equal(new.points, old.points)
        for slot in range(len(old.slots)):
            triangles = (old.face_size[old.slot_of_face == slot] - 2).sum()
            assert (new.slot_of_face == slot).sum() == triangles


@given(seeds)
def test_turned_faces_of_a_closed_mesh_are_turned_back(seed):
    random = np.random.default_rng(seed)
    mesh = random_mesh(random, "closed").replace(layers=(), face_smoothing=None)
    assume(len(mesh.surface(topology).border) == 0)
    scrambled = mesh.turned_round(random.random(mesh.face_count) < random.random())
    done = CleanUp(flat_faces=False).apply(scene_of(scrambled)).meshes[0]
    assert len(done.surface(topology).contrary) == 0
    assert volume(done.replace(points=done.points - done.points.mean(axis=0))) > 0


@given(seeds, st.floats(1e-6, 0.4))
def test_welded_points_are_near_and_far_ones_stay(seed, distance):
    random = np.random.default_rng(seed)
    mesh = random_mesh(random, "m")
    points = mesh.points + random.normal(size=mesh.points.shape) * distance / 10
    target = weld_representatives(points, mesh.face_start, mesh.corner_point, distance)
    kept = target == np.arange(len(points))
    assert np.array_equal(target[target], target)
    assert np.linalg.norm(points - points[target], axis=1).max() <= distance
    # Nothing that shares an edge falls together unless the edge is shorter than the distance.
    ends = topology(points, mesh.face_start, mesh.corner_point).edge_points
    collapsed = target[ends[:, 0]] == target[ends[:, 1]]
    length = np.linalg.norm(points[ends[:, 0]] - points[ends[:, 1]], axis=1)
    assert (length[collapsed] <= 2 * distance).all()
    assert kept.any()


@given(st.lists(st.tuples(*[st.sampled_from([0.0, -0.0, 1.0, 1.0 + 2**-52, 1e-300])] * 3), min_size=1, max_size=40))
def test_points_are_joined_exactly(points):
    array = np.array(points)
    joined = join_points(array)
    for n, first in enumerate(joined):
        assert first == next(k for k in range(n + 1) if np.array_equal(array[k] + 0.0, array[n] + 0.0))


@given(st.lists(st.text(max_size=12), min_size=1, max_size=12), st.integers(4, 20))
def test_names_are_always_safe_and_unique(names, longest):
    done = Names(longest=longest).apply(scene_of(*(Node(name) for name in names)))
    new = [node.name for node in done.roots]
    assert len({name.lower() for name in new}) == len(new)
    assert all(
        set(name) <= set(string.ascii_letters + string.digits + "_-") and 0 < len(name) <= longest for name in new
    )
    changed = [(one.old, one.new) for one in done.renamed]
    assert changed == [(old, now) for old, now in zip(names, new, strict=True) if old != now]


@given(seeds)
def test_tangents_are_unit_and_at_right_angles_to_normals(seed):
    random = np.random.default_rng(seed)
    mesh = random_mesh(random, "m")
    corners = mesh.corner_count
    uv = Layer("uv", random.random((corners, 2)), np.arange(corners))
    done = Tangents(of="all").apply(scene_of(mesh.replace(layers=(uv,)))).meshes[0]
    tangent, normal = done.layers_of("tangent")[0].at_corners(), done.normals.at_corners()
    assert np.allclose(np.linalg.norm(tangent[:, :3], axis=1), 1, atol=1e-5)
    assert np.abs((tangent[:, :3] * normal).sum(axis=1)).max() < 1e-4
    assert set(np.unique(tangent[:, 3])) <= {-1.0, 1.0}


@settings(max_examples=25)
@given(seeds, st.floats(0.01, 30))
def test_merging_flat_faces_keeps_the_surface(seed, angle):
    scene = random_scene(seed)
    plain = scene.map_meshes(lambda mesh: mesh.replace(layers=()))
    done = MergeFlat(angle=angle).apply(plain)
    assert sum(m.face_count for m in done.meshes) <= sum(m.face_count for m in plain.meshes)
    for mesh in done.meshes:
        edges = mesh.surface(topology)
        assert len(edges.contrary) == 0
        for start, stop in zip(mesh.face_start, mesh.face_start[1:], strict=False):
            outline = edges.joined[mesh.corner_point[start:stop]]
            assert len(np.unique(outline)) == len(outline)
    if angle < 0.1:
        assert area(done) == pytest.approx(area(plain), rel=1e-3)


@given(seeds)
def test_the_survey_counts_what_is_there(seed):
    scene = random_scene(seed)
    found = zo.audit.survey(scene)
    shown = [mesh for _, mesh in scene.placed_meshes()]
    assert found.triangles == sum(mesh.triangle_count for mesh in shown)
    assert found.faces.triangles + found.faces.quads + found.faces.ngons == sum(mesh.face_count for mesh in shown)
    assert sorted(found.size) == pytest.approx(sorted(np.ptp(scene.bounds(), axis=0)))
    assert len(found.nodes) == sum(1 for _ in scene.walk())


@given(st.binary(max_size=60))
def test_images_of_any_bytes_are_read_or_refused(data):
    for change in (pixels.inspect, pixels.to_png, pixels.has_alpha, pixels.looks_like_normal_map):
        with pytest.raises(pixels.ImageError):
            change(data)


@given(st.binary(max_size=200))
def test_material_libraries_of_any_bytes_are_read(tmp_path_factory, data):
    folder = tmp_path_factory.getbasetemp()
    path = obj(
        folder, "mtllib thing.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl m\nf 1 2 3\n", mtl=b"newmtl m\nKd 1 0 0\n" + data
    )
    scene = zo.read(path, unit="m")
    assert len(scene.materials) == 1
    assert all(0 <= value <= 1 for value in scene.materials[0].base_color)


@pytest.mark.parametrize("offset", [0, 1e3, 1e6])
def test_small_things_far_away_keep_their_shape(offset):
    points = np.array(CUBE_POINTS) * 0.05 + offset
    mesh = zo.Mesh.from_faces("far", points, CUBE_FACES)
    done = zo.apply(scene_of(mesh), Weld(distance="1mm"), CleanUp(), Triangulate(), MergeFlat(), Pivot(at="base"))
    near = done.meshes[0]
    assert near.face_size.tolist() == [4] * 6
    assert volume(near) == pytest.approx(0.05**3, rel=1e-6)
    assert "dropped" not in texts(done.notes)
