"""Copies found again, however they are stored; known places, proved against transforms worked out here."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from zesty_otter.geometry.surface.copies import Shape, find_copies, similarities
from zesty_otter.model import Layer, Node, Scatter, expanded, transformed
from zesty_otter.shading import with_all_normals
from zesty_otter.steps import Gather

Floats = NDArray[np.float64]


def pot(name: str, around: int, high: int, seed: int) -> zo.Mesh:
    """A lumpy vessel without any symmetry, with UVs and normals at its corners."""
    dice = np.random.default_rng(seed)
    angle = 2 * np.pi * np.arange(around) / around
    rings = [
        np.stack([r * np.cos(angle), np.full(around, 0.3 * k), r * np.sin(angle)], axis=1)
        for k in range(high + 1)
        for r in [1 + 0.3 * dice.random(around)]
    ]
    faces = [
        [j * around + i, (j + 1) * around + i, (j + 1) * around + (i + 1) % around, j * around + (i + 1) % around]
        for j in range(high)
        for i in range(around)
    ]
    mesh = zo.Mesh.from_faces(name, np.concatenate(rings), faces, slots=(zo.Material("clay"),))
    uvs = dice.random((mesh.corner_count, 2)).astype(np.float32)
    return with_all_normals(mesh.replace(layers=(Layer("uv", uvs, np.arange(mesh.corner_count)),)))


POTS = (pot("reed", 5, 6, 1), pot("cobble", 8, 4, 2), pot("buoy", 9, 7, 3))


def place(k: int, dice: np.random.Generator) -> Floats:
    """A turned, scaled and every other time mirrored place."""
    matrix = np.eye(4)
    matrix[:3, :3] = Rotation.random(random_state=k).as_matrix() * dice.uniform(0.2, 4)
    if k % 2:
        matrix[:3, :3] = matrix[:3, :3] @ np.diag([1, 1, -1])
    matrix[:3, 3] = dice.uniform(-300, 300, 3)
    return matrix


def stored(mesh: zo.Mesh, matrix: Floats, name: str) -> Node:
    """A node that shows a mesh with its place in its points."""
    return Node(name, content=transformed(mesh, matrix[:3, :3], matrix[:3, 3]).replace(name=name))


def renumbered(mesh: zo.Mesh, dice: np.random.Generator) -> zo.Mesh:
    """The same surface, its faces in another order and its points with other numbers."""
    shuffled = mesh.take_faces(dice.permutation(mesh.face_count))
    order = dice.permutation(shuffled.point_count)
    back = np.argsort(order).astype(np.int32)
    return shuffled.replace(points=shuffled.points[order], corner_point=back[shuffled.corner_point])


def points_of(scene: zo.Scene) -> Floats:
    return np.concatenate(
        [mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3] for placed, mesh in scene.placed_meshes()]
    )


def scatters_of(scene: zo.Scene) -> list[Scatter]:
    return [one.node.content for one in scene.walk() if isinstance(one.node.content, Scatter)]


@pytest.mark.parametrize("how", ["as they are", "rounded to 32 bits", "renumbered"])
def test_a_thousand_copies_of_three_meshes_become_three_scatters_with_their_places(how):
    dice = np.random.default_rng(5)
    count = 90 if how == "renumbered" else 1000
    places = [place(k, dice) for k in range(count)]
    nodes = [stored(POTS[k % 3], matrix, f"{POTS[k % 3].name}_{k}") for k, matrix in enumerate(places)]
    if how != "as they are":
        change = (
            (lambda mesh: renumbered(mesh, dice))
            if how == "renumbered"
            else (lambda mesh: mesh.replace(points=mesh.points.astype(np.float32)))
        )
        nodes = [Node(one.name, content=change(one.content)) for one in nodes]
    scene = scene_of(*nodes)
    gathered = Gather().apply(scene)
    found = scatters_of(gathered)
    assert [one.count for one in found] == [len(range(k, count, 3)) for k in range(3)]
    for k, scatter in enumerate(found):
        if how == "renumbered":
            continue
        own = np.concatenate([scatter.mesh.points, np.ones((scatter.mesh.point_count, 1))], axis=1)
        found_at = (scatter.transforms @ own.T)[:, :3].transpose(0, 2, 1)
        meant = np.array([nodes[n].content.points for n in range(k, count, 3)])
        off = np.linalg.norm(found_at - meant, axis=2).max(axis=1)
        # Every copy stands where it was placed, as its pivot shows: at its foot, as all are stored without one.
        assert np.allclose(scatter.mesh.surface_bounds.mean(axis=0)[[0, 2]], 0, atol=1e-9)
        assert scatter.mesh.surface_bounds[0, 1] == pytest.approx(0, abs=1e-9)
        turned = np.array([places[n][:3, :3] @ np.linalg.inv(places[k][:3, :3]) for n in range(k, count, 3)])
        assert np.allclose(scatter.transforms[:, :3, :3], turned, atol=1e-12 if how == "as they are" else 2e-3)
        sizes = np.array([np.linalg.norm(np.ptp(nodes[n].content.points, axis=0)) for n in range(k, count, 3)])
        allowed = 1e-6 * sizes if how == "as they are" else 1e-4 * sizes + 1e-4
        assert (off <= allowed).all()
    before, after = points_of(scene), points_of(expanded(gathered)[0])
    assert len(before) == len(after)
    slack = 2e-4 if how == "rounded to 32 bits" else 1e-9
    assert cKDTree(before).query(after)[0].max() < slack


def changed(mesh: zo.Mesh, what: str) -> zo.Mesh:
    if what == "one vertex by a percent":
        points = mesh.points.copy()
        points[7] += 0.01 * np.linalg.norm(np.ptp(points, axis=0)) * np.array([0.6, 0.0, 0.8])
        return mesh.replace(points=points)
    if what == "a material":
        return mesh.replace(slots=(zo.Material("brass"),))
    if what == "scaled along one axis":
        return transformed(mesh, np.diag([1.0, 1.05, 1.0]))
    kind = {"a UV": "uv", "a normal": "normal"}[what]
    layers = []
    for layer in mesh.layers:
        values = layer.values.copy()
        if layer.kind == kind:
            values[3] = values[3, ::-1] + (0.01 if kind == "uv" else 0)
        layers.append(Layer(layer.kind, values, layer.index))
    return mesh.replace(layers=tuple(layers))


@pytest.mark.parametrize("what", ["one vertex by a percent", "a material", "scaled along one axis", "a UV", "a normal"])
@pytest.mark.parametrize("order", ["same order", "renumbered"])
def test_nothing_is_gathered_that_differs(what, order):
    dice = np.random.default_rng(1)
    other = changed(POTS[0], what)
    other = renumbered(other, dice) if order == "renumbered" else other
    matrix = place(4, dice)
    scene = scene_of(stored(POTS[0], np.eye(4), "a"), stored(other, matrix, "b"))
    assert Gather().apply(scene) is scene


def test_mirror_images_count_only_when_asked_for():
    mirror = np.diag([1.0, 1, -1, 1])
    scene = scene_of(stored(POTS[0], np.eye(4), "a"), stored(POTS[0], mirror, "b"))
    assert Gather(mirrored=False).apply(scene) is scene
    (scatter,) = scatters_of(Gather().apply(scene))
    assert np.allclose(scatter.transforms[1], mirror, atol=1e-12)


def test_what_is_only_moved_is_only_moved():
    dice = np.random.default_rng(2)
    places = [moved(*dice.uniform(-50, 50, 3)) for _ in range(20)]
    nodes = [stored(POTS[1], matrix, f"a{k}") for k, matrix in enumerate(places)]
    nodes = [Node(one.name, content=one.content.replace(points=one.content.points.astype(np.float32))) for one in nodes]
    (scatter,) = scatters_of(Gather().apply(scene_of(*nodes)))
    assert (scatter.transforms[:, :3, :3] == np.eye(3)).all()


def test_boxes_that_look_the_same_from_many_sides_are_found_among_others():
    sizes = [(1, 2, 3), (1, 2, 3), (2, 3, 1), (1, 2, 3.1), (2, 4, 6)]
    scene = scene_of(*(Node(f"box{k}", moved(9 * k, 0, 0), content=cube(size)) for k, size in enumerate(sizes)))
    (scatter,) = scatters_of(Gather().apply(scene))
    assert scatter.count == 4
    assert np.allclose(np.cbrt(np.abs(np.linalg.det(scatter.transforms[:, :3, :3]))), [1, 1, 1, 2])


def test_an_asset_goes_with_its_levels_and_what_lacks_one_stays():
    def post(k: int, *, level: bool = True) -> list[Node]:
        at = moved(3 * k, 0, 0)
        low = Node(f"post_{k}_LOD1", at, content=LOW, role="level", properties={"level": 1, "asset": f"post_{k}"})
        return [
            Node(f"post_{k}", at, content=POTS[0], properties={"seed": k, "yard": "east"}),
            *([low] if level else []),
        ]

    LOW = cube(name="low")  # noqa: N806
    nodes = [node for k in range(4) for node in post(k, level=k != 2)]
    done = Gather().apply(scene_of(*nodes))
    kinds = [(one.node.kind, one.node.role, one.node.name) for one in done.walk()]
    assert kinds == [
        ("scatter", "visible", "post_0"),
        ("scatter", "level", "post_0_LOD1"),
        ("mesh", "visible", "post_2"),
    ]
    first, second = scatters_of(done)
    assert np.array_equal(first.transforms, second.transforms)
    assert first.properties["seed"].tolist() == [0, 1, 3]
    assert done.roots[0].properties["yard"] == "east"
    assert done.roots[1].properties["asset"] == "post_0"


def test_nodes_with_the_same_children_are_gathered_and_lights_stay():
    def lantern(k: int, turn: Floats) -> Node:
        lamp = Node("lamp", moved(0, 2, 0), content=cube(name="glass"))
        return Node(f"lantern_{k}", moved(5 * k, 0, 0) @ turn, (lamp,), cube((1, 2, 1), "stand"))

    # Stands are meshes of their own; the third has its lamp elsewhere.
    quarter = np.eye(4)
    quarter[:3, :3] = Rotation.from_euler("y", 90, degrees=True).as_matrix()
    nodes = [lantern(k, np.linalg.matrix_power(quarter, k)) for k in range(3)]
    odd = Node("odd", moved(50, 0, 0), (Node("lamp", moved(0, 3, 0), content=cube(name="glass")),), cube((1, 2, 1)))
    lit = Node("lit", moved(60, 0, 0), (Node("bulb", content=zo.Light("bulb")),), cube((1, 2, 1)))
    scene = scene_of(*nodes, odd, lit)
    done = Gather().apply(scene)
    assert [one.path for one in done.walk()] == [("lantern_0",), ("lantern_0", "lamp"), ("odd",), ("odd", "lamp"), ("lit",),
                                                 ("lit", "bulb")]  # fmt: skip
    assert np.allclose(np.sort(points_of(expanded(done)[0]), axis=0), np.sort(points_of(scene), axis=0), atol=1e-9)


def test_loose_parts_that_are_copies_become_a_scatter():
    from zesty_otter.model import joined_meshes

    dice = np.random.default_rng(3)
    parts = [transformed(POTS[k % 2], place(k, dice)[:3, :3], dice.uniform(-90, 90, 3)) for k in range(30)]
    wall = cube((4, 4, 4), "wall").replace(slots=(zo.Material("clay"),))
    whole = joined_meshes("flat", [with_all_normals(one.replace(layers=())) for one in (*parts, wall)])
    scene = scene_of(Node("flat", moved(1, 0, 0), content=whole))
    done = Gather(inside=True, least=5).apply(scene)
    assert [one.count for one in scatters_of(done)] == [15, 15]
    (root,) = done.roots
    assert root.mesh is not None
    assert root.mesh.face_count == 6
    assert cKDTree(points_of(scene)).query(points_of(expanded(done)[0]))[0].max() < 1e-9
    assert "30 loose parts that are copies became 2 scatters" in texts(done.notes)


def test_only_chosen_nodes_are_gathered():
    nodes = [stored(POTS[0], moved(4 * k, 0, 0), f"{'a' if k < 3 else 'b'}{k}") for k in range(6)]
    done = Gather(only="a*").apply(scene_of(*nodes))
    assert [one.node.kind for one in done.walk()] == ["scatter", "mesh", "mesh", "mesh"]


def test_similarity_of_flat_points_can_mirror_or_not():
    flat = np.array([[0, 0, 0], [3, 0, 0], [0, 1, 0.0]])
    other = flat @ np.diag([1.0, -1, 1])
    plain, off = similarities(flat, other[None])
    assert off[0] < 1e-12
    assert np.linalg.det(plain[0]) == pytest.approx(1)
    mirrored, off = similarities(flat, other[None], mirror=True)
    assert off[0] < 1e-12
    assert np.linalg.det(mirrored[0]) == pytest.approx(-1)


def test_shapes_without_size_are_copies_of_nothing():
    dot = Shape(np.zeros((3, 3)), np.array([0, 3], np.int32), np.arange(3, dtype=np.int32), np.zeros(1, np.int32))
    line = Shape(np.eye(3)[[0, 0, 0]] * np.arange(3)[:, None], dot.face_start, dot.corner_point, dot.slot)
    first, _, untried = find_copies([dot, dot, line, line])
    assert untried == 0
    assert first.tolist() == [0, 1, 2, 2]
    assert find_copies([])[0].tolist() == []
