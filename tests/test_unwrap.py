"""Laying surfaces out and packing islands."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from laying import covered, island_count, l2_stretch, signed, sphere, terrain, torus, triangles_of, tube
from zesty_otter.geometry.uv.packing import pack
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse


def unwrapped(*contents, **settings):
    return zo.steps.Unwrap(**{"purpose": "paint", "size": 512, **settings}).apply(scene_of(*contents))


def hull():
    from zesty_otter.demo import PIECES

    piece = next(one for one in PIECES if one.out == "work_boat.glb")
    text = piece.make()["work_boat.obj"]
    return zo.read((text if isinstance(text, bytes) else text.encode()), format="obj", unit="ft").meshes[0]


@pytest.mark.parametrize(("mesh", "islands"), [(cube(), 6), (cube((3, 1, 0.1)), 6), (tube(), 3), (tube(40, 6), 3)])
def test_a_box_has_six_islands_and_a_cylinder_three_none_distorted(mesh, islands):
    new = unwrapped(mesh).meshes[0]
    assert island_count(new) == islands
    assert l2_stretch(*triangles_of(new)) == pytest.approx(1.0, abs=1e-5)


def test_six_squares_fill_a_page_that_is_cropped():
    scene = unwrapped(cube(), size=1024, crop=True)
    size = [int(side) for side in re.search(r"(\d+) × (\d+) pixels", texts(scene.notes)).groups()]
    assert size[0] == 1024 and size[1] < 700
    assert (covered(triangles_of(scene.meshes[0])[1], size) == 1).mean() > 0.95


@pytest.mark.parametrize("make", [terrain, torus, sphere, hull], ids=lambda make: make.__name__)
def test_nothing_is_flipped_nothing_lies_over_anything_and_little_is_stretched(make):
    mesh = make(60) if make is terrain else make()
    new = unwrapped(mesh).meshes[0]
    place, uv = triangles_of(new)
    area = np.linalg.norm(np.cross(place[:, 1] - place[:, 0], place[:, 2] - place[:, 0]), axis=1)
    kept = area > 1e-9 * area.max()
    assert (signed(uv)[kept] > 0).all()
    assert covered(uv, (512, 512)).max() == 1
    assert l2_stretch(place[kept], uv[kept]) < 1.25
    assert (uv > 0).all() and (uv < 1).all()


def test_density_is_even_over_all_islands():
    place, uv = triangles_of(unwrapped(cube((4, 1, 0.2))).meshes[0])
    density = signed(uv) / np.linalg.norm(np.cross(place[:, 1] - place[:, 0], place[:, 2] - place[:, 0]), axis=1)
    assert density.min() == pytest.approx(density.max(), rel=1e-4)


def test_twenty_mixed_parts_cover_two_thirds_of_a_page():
    rng = np.random.default_rng(1)
    makers = [cube, tube, torus, sphere]
    nodes = []
    for k in range(20):
        mesh = makers[k % 4]()
        mesh = mesh.replace(points=mesh.points * rng.uniform(0.4, 1.6, 3), name=f"part {k}")
        nodes.append(Node(mesh.name, content=mesh))
    scene = unwrapped(*nodes, share="scene", size=2048, gutter=4)
    uv = np.concatenate([triangles_of(mesh)[1] for mesh in scene.meshes])
    counts = covered(uv, (2048, 2048))
    assert (counts > 1).sum() == 0
    assert (counts > 0).mean() > 0.65


@pytest.mark.checked
def test_islands_keep_their_distance():
    squares = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], float)
    uv = np.concatenate([squares * side for side in (5, 3, 2, 2, 1)])
    first = 4 * np.arange(5)[:, None]
    corners = np.concatenate([first + [0, 1, 2], first + [0, 2, 3]], axis=1).reshape(-1, 3).astype(np.int32)
    packed = pack(uv, corners, np.repeat(np.arange(5), 2).astype(np.int32), size=(128, 128), gutter=8)
    boxes = packed.uv.reshape(5, 4, 2) * 128
    low, high = boxes.min(axis=1), boxes.max(axis=1)
    for k in range(5):
        for n in range(k):
            assert (np.maximum(low[k] - high[n], low[n] - high[k]).max()) >= 8 - 1e-6
    assert low.min() >= 4 - 1e-6 and high.max() <= 124 + 1e-6


def test_polygons_stay_whole_and_results_the_same():
    mesh = tube(12)
    one, other = (unwrapped(mesh).meshes[0] for _ in range(2))
    assert one.face_count == mesh.face_count
    assert one.uv_sets[0].same_as(other.uv_sets[0])
    assert not one.uv_sets[0].has_holes


def test_a_mirrored_and_stretched_place_counts_for_density_and_flips_nothing():
    world = np.diag([-3.0, 1.0, 1.0, 1.0])
    new = unwrapped(Node("box", world, content=cube())).meshes[0]
    place, uv = triangles_of(new)
    assert (signed(uv) > 0).all()
    long = (
        np.abs(np.diff(place[..., 0], axis=1)).max(axis=1) > 0
    )  # what runs along the stretched axis is three times as large
    assert signed(uv)[long].max() == pytest.approx(3 * signed(uv)[~long].max(), rel=1e-4)


def test_light_gets_a_second_set_only_where_there_is_none_without_overlap():
    twice = cube(layers=(Layer("uv", [(0, 0), (1, 0), (1, 1), (0, 1)], np.tile(np.arange(4), 6)),), name="twice")
    good = unwrapped(cube(name="good")).meshes[0]
    scene = zo.steps.Unwrap(size=256).apply(scene_of(twice, good, cube(name="bare")))
    sets = {mesh.name: [layer.name for layer in mesh.uv_sets] for mesh in scene.meshes}
    assert sets == {"twice": ["", "light"], "good": [""], "bare": ["light"]}
    assert scene.meshes[1] is good
    assert "good" in texts(scene.notes) and "kept" in texts(scene.notes)
    assert scene.meshes[0].uv_sets[0].same_as(twice.uv_sets[0])


def test_pages_follow_from_a_density():
    scene = unwrapped(*(cube(name=f"crate {k}") for k in range(6)), share="scene", size=128, density=40)
    assert "pages of 128 × 128" in texts(scene.notes) and "40 pixels to a metre" in texts(scene.notes)
    uv = np.concatenate([mesh.uv_sets[0].values for mesh in scene.meshes])
    assert uv[:, 0].max() > 1 and uv[:, 1].max() < 1
    faces = sum(len(members) for mesh in scene.meshes for members in mesh.face_sets.values())
    assert faces == 36
    _, laid = triangles_of(scene.meshes[0])
    assert np.abs(signed(laid)).sum() * 128**2 == pytest.approx(6 * 40**2, rel=1e-3)
    with pytest.raises(zo.ZestyOtterError, match="largest island needs 4000 of 128 pixels"):
        unwrapped(cube(), size=128, density=4000)


def test_weights_make_some_denser():
    scene = unwrapped(cube(name="lamp"), cube(name="wall"), share="scene", weights={"lamp*": 2})
    lamp, wall = (np.abs(signed(triangles_of(mesh)[1])).sum() for mesh in scene.meshes)
    assert lamp == pytest.approx(4 * wall, rel=1e-3)


def test_seams_lie_where_they_are_asked_for():
    flat = zo.Mesh.from_faces(
        "deck", [(x, 0, z) for z in (0, 1) for x in range(4)], [(k, k + 1, k + 5, k + 4) for k in range(3)],
        slots=(Material("a"), Material("b")), face_slot=[0, 1, 1],
        layers=(Layer("normal", [(0, -1, 0), (0, -1, 0.1)], [0] * 8 + [1] * 4),),
    )  # fmt: skip
    assert [island_count(unwrapped(flat, seams=seams).meshes[0]) for seams in ((), ("slots",), ("hard",), ("slots", "hard"))] == [1, 2, 2, 3]  # fmt: skip
    apart = unwrapped(flat, seams=("slots",)).meshes[0]
    again = unwrapped(apart, seams=("islands",)).meshes[0]
    assert island_count(again) == 2
    assert island_count(unwrapped(cube(), angle=100).meshes[0]) < 6


def test_levels_use_the_islands_of_the_visible_mesh():
    scene = zo.steps.Levels(chain="30", points="old").apply(scene_of(torus()))
    scene = zo.steps.Unwrap(purpose="paint", levels="visible", size=512).apply(scene)
    heavy, light = (triangles_of(mesh) for mesh in scene.meshes)
    assert "uses the islands of 'torus'" in texts(scene.notes)
    # Where they are near each other, their UVs are.
    from scipy.spatial import cKDTree

    away, nearest = cKDTree(heavy[0].reshape(-1, 3)).query(light[0].reshape(-1, 3))
    same = away < 1e-3
    assert same.sum() > 20
    off = np.linalg.norm(heavy[1].reshape(-1, 2)[nearest] - light[1].reshape(-1, 2), axis=1)[same]
    assert np.quantile(off, 0.5) < 0.01
    assert (signed(light[1]) < 0).mean() < 0.02


def test_polygons_of_levels_over_a_seam_stay_on_one_side_of_it():
    scene = zo.steps.Levels(chain="50 25").apply(scene_of(tube(40, 6)))
    scene = zo.steps.Unwrap(purpose="paint", levels="visible", size=512).apply(scene)
    for mesh in scene.meshes[1:]:
        place, uv = triangles_of(mesh)
        assert covered(uv, (512, 512)).max() == 1
        assert l2_stretch(place, uv) < 1.001 and (signed(uv) > 0).all()


def test_a_level_of_a_mesh_that_keeps_its_uvs_is_laid_out_for_itself():
    heavy = unwrapped(torus()).meshes[0]
    over = torus().replace(
        name="torus_LOD1", layers=(Layer("uv", [(0, 0), (1, 0), (0, 1)], np.arange(torus().corner_count) % 3),)
    )
    scene = zo.steps.Unwrap(levels="visible", size=512).apply(scene_of(heavy, over))
    kept, level = scene.meshes
    assert kept is heavy and "UV set 0 has no overlap; kept" in texts(scene.notes)
    assert len(level.uv_sets) == 2 and covered(triangles_of(level, 1)[1], (512, 512)).max() == 1


def test_pack_puts_what_lies_over_each_other_apart_and_keeps_its_shape():
    twice = cube((2, 1, 1), layers=(Layer("uv", [(0, 0), (1, 0), (1, 1), (0, 1)], np.tile(np.arange(4), 6)),))
    scene = zo.steps.Pack(size=512).apply(scene_of(twice))
    _, uv = triangles_of(scene.meshes[0])
    assert covered(uv, (512, 512)).max() == 1
    assert island_count(scene.meshes[0]) == 6
    kept = zo.steps.Pack(size=512, even=False).apply(scene_of(twice))
    assert np.ptp(np.abs(signed(triangles_of(kept.meshes[0])[1]))) < 1e-6
    assert np.ptp(np.abs(signed(uv))) > 1e-3
    assert "no UV set '0'" in texts(zo.steps.Pack().apply(scene_of(cube())).notes)


def test_textures_that_no_longer_fit_are_said():
    material = Material("paint").with_textures({"base_color": TextureUse(Texture("paint.png"))})
    painted = unwrapped(cube(slots=(material,))).meshes[0]
    assert "textures of paint do not fit" in texts(unwrapped(painted).notes)
    assert "textures of paint do not fit" in texts(zo.steps.Pack().apply(scene_of(painted)).notes)


def moebius():
    turn = np.arange(40) * 2 * np.pi / 40
    sides = [np.stack([(1 + s * np.cos(turn / 2)) * np.cos(turn), (1 + s * np.cos(turn / 2)) * np.sin(turn),
                       s * np.sin(turn / 2)], axis=1) for s in (-0.3, 0.3)]  # fmt: skip
    faces = [(k, k + 1, k + 41, k + 40) for k in range(39)] + [(39, 40, 0, 79)]
    return zo.Mesh.from_faces("strip", np.concatenate(sides), faces)


def soup():
    rng = np.random.default_rng(2)
    faces = [rng.choice(60, 3, replace=False) for _ in range(80)]
    return zo.Mesh.from_faces("soup", rng.uniform(-1, 1, (60, 3)), faces)


def both_sides():
    mesh = terrain(8)
    return zo.Mesh.from_faces("leaf", np.concatenate([mesh.points, mesh.points]),
                              [list(f) for f in mesh.corner_point.reshape(-1, 4)]
                              + [list(f[::-1] + mesh.point_count) for f in mesh.corner_point.reshape(-1, 4)])  # fmt: skip


BAD = {
    "one triangle": zo.Mesh.from_faces("one", [(0, 0, 0), (1, 0, 0), (0, 1, 0)], [(0, 1, 2)]),
    "no area": zo.Mesh.from_faces("none", [(0, 0, 0), (1, 0, 0), (2, 0, 0)], [(0, 1, 2)]),
    "a point": zo.Mesh.from_faces("point", [(1, 1, 1)] * 3, [(0, 1, 2)]),
    "three at an edge": zo.Mesh.from_faces(
        "fins", [(0, 0, 0), (0, 0, 1), (1, 0, 0), (0, 1, 0), (-1, 0, 0)], [(0, 1, 2), (0, 1, 3), (0, 1, 4)]
    ),
    "moebius": moebius(),
    "soup": soup(),
    "both sides of a leaf": both_sides(),
    "a bent star": zo.Mesh.from_faces(
        "star",
        [(r * np.cos(a), r * np.sin(a), 0.2 * np.sin(3 * a)) for r, a in
         ((0.3 if k % 2 else 1.0, 2 * np.pi * k / 40) for k in range(40))],
        [list(range(40))],
    ),
}  # fmt: skip


@pytest.mark.checked
@pytest.mark.parametrize("mesh", BAD.values(), ids=BAD)
def test_bad_surfaces_are_laid_out_without_overlap(mesh):
    new = unwrapped(mesh, size=256).meshes[0]
    uv = triangles_of(new)[1]
    assert np.isfinite(uv).all() and (uv >= 0).all() and (uv <= 1).all()
    assert covered(uv, (256, 256)).max(initial=0) <= 1
    if mesh.name == "leaf":
        assert island_count(new) < 8


@pytest.mark.parametrize("scale", [1e-9, 1e6])
def test_size_does_not_matter(scale):
    mesh = torus(24, 12)
    new = unwrapped(replace(mesh, points=mesh.points * scale)).meshes[0]
    assert l2_stretch(*triangles_of(new)) < 1.1


def test_many_small_shells_come_out_one_by_one():
    meshes = [cube(name="crate")] * 40
    scene = unwrapped(*(Node(f"crate {k}", moved(2.0 * k, 0, 0), content=mesh) for k, mesh in enumerate(meshes)))
    joined = unwrapped(zo.steps.Join(name="crates").apply(scene).meshes[0]).meshes[0]
    assert island_count(joined) == 240
    assert covered(triangles_of(joined)[1], (512, 512)).max() == 1
