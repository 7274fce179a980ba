from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

import zesty_otter as zo
from build import cube, scene_of
from zesty_otter.geometry.surface.triangulation import DIAGONALS, bridge_holes, triangulate
from zesty_otter.model import Layer

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

L_SHAPE = [(0, 0), (2, 0), (2, 1), (1, 1), (1, 2), (0, 2)]
COMB = [
    (0, 0),
    (7, 0),
    (7, 3),
    (6, 3),
    (6, 1),
    (5, 1),
    (5, 3),
    (4, 3),
    (4, 1),
    (3, 1),
    (3, 3),
    (2, 3),
    (2, 1),
    (1, 1),
    (1, 3),
    (0, 3),
]
MIDPOINTS = [(0, 0), (1, 0), (2, 0), (2, 1), (2, 2), (1, 2), (0, 2), (0, 1)]
ONE_LONG_SIDE = [(0, 0), (4, 0), (0, 3), (0, 2.5), (0, 2), (0, 1.5), (0, 1), (0, 0.5)]
# A square with a square hole, joined by a bridge whose two ends are there twice.
BRIDGED = [(0, 0), (4, 0), (4, 4), (0, 4), (0, 0), (1, 1), (1, 3), (3, 3), (3, 1), (1, 1)]
SHAPES = {
    "L": (L_SHAPE, 3),
    "comb": (COMB, 15),
    "midpoints": (MIDPOINTS, 4),
    "side": (ONE_LONG_SIDE, 6),
    "bridged": (BRIDGED, 12),
}


def areas(outline, diagonal="shortest-diagonal", rotation=None, noise=None):
    """Signed areas of the triangles of one face, positive where they face as it does."""
    points = np.c_[np.array(outline, float), np.zeros(len(outline))]
    if noise is not None:
        points[:, 2] += noise
    normal = np.array([0, 0, 1.0])
    if rotation is not None:
        points, normal = rotation.apply(points), rotation.apply(normal)
    triangles, face = triangulate(points, np.array([0, len(points)]), np.arange(len(points)), diagonal=diagonal)
    assert len(triangles) == len(outline) - 2
    assert not face.any()
    a, b, c = points[triangles].transpose(1, 0, 2)
    return np.cross(b - a, c - a) @ normal / 2


@pytest.mark.parametrize("diagonal", DIAGONALS)
@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("turned", [False, True])
def test_area_is_kept_and_no_triangle_is_turned_over(shape, diagonal, turned):
    outline, area = SHAPES[shape]
    rotation = Rotation.from_euler("xyz", (0.3, 1.1, -0.7)) if turned else None
    for start in range(len(outline)):
        found = areas(outline[start:] + outline[:start], diagonal, rotation)
        assert found.sum() == pytest.approx(area, rel=1e-12)
        assert found.min() > 1e-3  # no triangle without area where one can be avoided


@given(st.integers(5, 60), st.integers(0, 10**6), st.sampled_from(sorted(DIAGONALS)))
def test_star_shaped_polygons_keep_their_area(size, seed, diagonal):
    random = np.random.default_rng(seed)
    angles = np.sort(random.uniform(0, 2 * np.pi, size))
    # Gaps under half a turn, so that the centre sees every corner and the outline is simple.
    angles = (
        (angles + np.arange(size) * 2 * np.pi / size) / 2 if np.diff(angles, append=angles[0] + 7).max() > 3 else angles
    )
    radius = random.uniform(0.1, 10, size)
    outline = np.c_[radius * np.cos(angles), radius * np.sin(angles)]
    x, y = outline.T
    area = (x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2
    rotation = Rotation.random(rng=random)
    found = areas(outline, diagonal, rotation)
    assert found.sum() == pytest.approx(area, rel=1e-9)
    assert found.min() > -1e-9 * area


def test_a_slightly_bent_polygon_is_not_turned_over():
    random = np.random.default_rng(3)
    for outline, _ in SHAPES.values():
        assert areas(outline, noise=random.uniform(-0.03, 0.03, len(outline))).min() > -1e-12


@pytest.mark.parametrize(
    "outline", [[(0, 0)] * 6, [(k, 2 * k) for k in range(6)], [(0, 0), (1, 0), (1, 0), (1, 0), (0, 1), (0, 1)]]
)
def test_faces_without_much_area_still_give_their_triangles(outline):
    assert areas(outline).min() >= -1e-12


def test_a_large_ragged_polygon_is_split_whole():
    angles = np.linspace(0, 2 * np.pi, 20001)[:-1]
    radius = 10 + np.where(np.arange(20000) % 2, 3.0, -3.0)
    outline = np.c_[radius * np.cos(angles), radius * np.sin(angles)]
    x, y = outline.T
    assert areas(outline).sum() == pytest.approx((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2, rel=1e-9)


def test_an_outline_that_crosses_itself_a_thousand_times_still_gives_its_triangles():
    outline = np.random.default_rng(0).random((4000, 2))
    for rule in DIAGONALS:
        assert np.isfinite(areas(outline, rule)).all()


@pytest.mark.parametrize("turned", [False, True])
def test_holes_are_bridged(turned):
    # A window of four panes, the last one drawn the other way round: 10 x 6 less four holes of 2 x 1.
    panes = [(1, 1), (6, 1), (1, 4), (6, 4)]
    flat = [(0, 0), (10, 0), (10, 6), (0, 6)]
    for x, y in panes:
        flat += [(x, y), (x + 2, y), (x + 2, y + 1), (x, y + 1)]
    points = np.c_[np.array(flat, float), np.full(20, 3.0)]
    if turned:
        points = Rotation.from_euler("xyz", (0.3, 1.1, -0.7)).apply(points)
    holes = [np.arange(4 + 4 * k, 8 + 4 * k) for k in range(4)]
    holes[3] = holes[3][::-1]
    outline = bridge_holes(points, np.arange(4), holes)
    assert len(outline) == 4 + 4 * 6
    triangles, _ = triangulate(points, np.array([0, len(outline)]), outline)
    a, b, c = points[outline[triangles]].transpose(1, 0, 2)
    normals = np.cross(b - a, c - a) / 2
    up = np.cross(points[1] - points[0], points[3] - points[0]) / 60
    assert (normals @ up).min() > 1e-3
    assert (normals @ up).sum() == pytest.approx(52)


@pytest.mark.parametrize(
    ("rule", "quad", "first"),
    [
        ("shortest-diagonal", [(0, 0), (3, 0), (4, 1), (1, 1)], [0, 1, 3]),
        ("shortest-diagonal", [(0, 0), (1, 0), (1, 1), (0, 1)], [0, 1, 2]),
        ("fixed", [(0, 0), (3, 0), (4, 1), (1, 1)], [0, 1, 2]),
        ("fixed", [(0, 0), (2, -1), (0.5, 0), (2, 1)], [0, 1, 2]),
        ("fixed", [(2, -1), (0.5, 0), (2, 1), (0, 0)], [0, 1, 3]),
        ("best-angle", [(0, 0), (1, 0), (1.2, 0.5), (0, 3)], [0, 1, 2]),
    ],
)
def test_which_diagonal_splits_a_quad(rule, quad, first):
    points = np.c_[np.array(quad, float), np.zeros(4)]
    triangles, _ = triangulate(points, np.array([0, 4]), np.arange(4), diagonal=rule)
    assert triangles[0].tolist() == first


def test_the_smallest_angle_is_largest_by_best_angle():
    def smallest(rule):
        points = np.c_[np.array(COMB, float), np.zeros(len(COMB))]
        triangles, _ = triangulate(points, np.array([0, len(COMB)]), np.arange(len(COMB)), diagonal=rule)
        sides = points[triangles] - points[np.roll(triangles, 1, axis=1)]
        unit = sides / np.linalg.norm(sides, axis=2)[..., None]
        cosines = -(unit * np.roll(unit, 1, axis=1)).sum(axis=2)
        return np.degrees(np.arccos(cosines.clip(-1, 1))).min()

    # The long lower edge needs a corner at height 1 between the ends: at best it sees arctan(1/3) - arctan(1/4).
    assert smallest("best-angle") == pytest.approx(np.degrees(np.arctan(1 / 3) - np.arctan(1 / 4)))
    assert smallest("best-angle") > 2 * smallest("fixed")


def test_a_convex_face_is_a_fan_when_fixed():
    points = np.c_[np.cos(np.arange(7)), np.sin(np.arange(7)), np.zeros(7)][[0, 1, 2, 3, 4, 5, 6]]
    triangles, _ = triangulate(points, np.array([0, 7]), np.arange(7), diagonal="fixed")
    assert triangles.tolist() == [[0, k, k + 1] for k in range(1, 6)]


def test_the_step_carries_layers_slots_smoothing_and_sets():
    uv = Layer("uv", np.arange(48).reshape(24, 2), np.arange(24))
    mesh = cube(
        layers=(uv,),
        slots=(None, zo.Material("b")),
        face_slot=[0, 1, 0, 1, 0, 1],
        face_smoothing=[1, 2, 3, 4, 5, 6],
        face_sets={"top": np.array([3])},
    )
    done = zo.apply(scene_of(mesh), zo.steps.Triangulate()).meshes[0]
    assert done.all_triangles
    assert done.face_slot.tolist() == [0, 0, 1, 1] * 3
    assert done.face_smoothing.tolist() == [1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6]
    assert done.face_sets["top"].tolist() == [6, 7]
    assert np.array_equal(done.layers[0].at_corners()[:3], uv.values[[0, 1, 2]])


def test_quads_can_be_kept_beside_split_faces():
    points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (3, 0.5, 0), (2, 1, 0)]
    mesh = zo.Mesh.from_faces("m", points, [[0, 1, 2, 3], [1, 4, 5, 6, 2], [0, 3, 2]])
    done = zo.apply(scene_of(mesh), zo.steps.Triangulate(keep_quads=True)).meshes[0]
    assert done.face_size.tolist() == [4, 3, 3, 3, 3]
    assert done.corner_point[:4].tolist() == [0, 1, 2, 3]
    assert done.corner_point[-3:].tolist() == [0, 3, 2]


def test_a_target_that_takes_convex_quads_gets_these_and_triangles(tmp_path, run):
    """A quad, a concave quad and a pentagon."""
    points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (3, 0.5, 0), (2, 1, 0), (0.5, 1.2, 0), (0.5, 3, 0)]
    mesh = zo.Mesh.from_faces("m", points, [[0, 1, 2, 3], [1, 4, 5, 6, 2], [3, 7, 2, 8]])
    zo.write(scene_of(mesh), tmp_path / "a.obj")
    (tmp_path / "t.toml").write_text('extends = "m-left-up-forward"\ntriangulate = false\npolygons = "convex-quads"\n')
    found = run("check", tmp_path / "a.obj", "--unit", "m", "--target", tmp_path / "t.toml", "--json").json
    (one,) = [one for one in found["findings"] if one["rule"] == "faces-not-triangles"]
    assert one["text"].startswith("2 faces of more than four corners or concave") and "keep_quads" in one["mend"]
    out = tmp_path / "b.obj"
    assert run("convert", tmp_path / "a.obj", out, "--unit", "m", "--target", tmp_path / "t.toml").status == 0
    assert zo.read(out, "m").meshes[0].face_size.tolist() == [4, 3, 3, 3, 3, 3]
