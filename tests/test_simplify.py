"""Fewer triangles for the same shape: what must stay, what may go, and how far anything moved."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import zesty_otter as zo
from zesty_otter.geometry.queries.distance import Surface, areas, sampled, wall_thickness
from zesty_otter.geometry.simplify.collapse import Attribute, Reduced, simplify
from zesty_otter.geometry.simplify.deviation import Shape, deviation
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.steps.lighter import HeavyMesh

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

Ints = np.ndarray


def grid(wide: int, deep: int, height=lambda x, y: 0 * x) -> tuple[np.ndarray, Ints]:
    """A sheet of 2 * wide * deep triangles, one unit a step."""
    y, x = np.mgrid[0 : deep + 1, 0 : wide + 1].astype(float)
    a = (np.arange(deep)[:, None] * (wide + 1) + np.arange(wide)).ravel()
    corners = np.stack([a, a + 1, a + wide + 2, a, a + wide + 2, a + wide + 1], 1)
    return np.stack([x, y, height(x, y)], -1).reshape(-1, 3), corners.reshape(-1, 3).astype(np.int32)


def box(segments: int) -> tuple[np.ndarray, Ints, Attribute, Attribute]:
    """A unit cube of finely divided faces, each with its own points, normal and UV island."""
    sheet, corners = grid(segments, segments)
    sheet = sheet / segments
    points, triangles, normals, uvs = [], [], [], []
    for axis in range(3):
        for side in (0.0, 1.0):
            turned = np.roll(np.column_stack([sheet[:, :2], np.full(len(sheet), side)]), axis + 1, axis=1)
            order = corners if side else corners[:, ::-1]
            triangles.append(order + sum(map(len, points)))
            points.append(turned)
            normals.append(np.tile(np.eye(3)[axis] * (2 * side - 1), (len(sheet), 1)))
            uvs.append(sheet[:, :2] / 3.5 + np.array([axis / 3, side / 2]))
    index = np.concatenate(triangles).astype(np.int32)
    place, first = np.unique(np.concatenate(points).round(9), axis=0, return_inverse=True)
    both = [Attribute(np.concatenate(v).astype(np.float32), index, w) for v, w in ((normals, 0.005), (uvs, 0.1))]
    return place, first.ravel()[index].astype(np.int32), both[0], both[1]


def ball(around: int, down: int) -> tuple[np.ndarray, Ints]:
    """A closed unit ball."""
    u, v = np.meshgrid(np.arange(around) * 2 * np.pi / around, np.linspace(0, np.pi, down + 1)[1:-1])
    rings = np.stack([np.cos(u) * np.sin(v), np.sin(u) * np.sin(v), np.cos(v)], -1).reshape(-1, 3)
    points = np.concatenate([rings, [[0, 0, 1], [0, 0, -1]]])
    here = np.arange(around)
    beside, top, bottom = (here + 1) % around, len(rings), len(rings) + 1
    strips = [
        np.concatenate([np.stack([r + here, r + around + here, r + beside], 1),
                        np.stack([r + beside, r + around + here, r + around + beside], 1)])
        for r in range(0, len(rings) - around, around)
    ]  # fmt: skip
    last = len(rings) - around
    caps = [
        np.stack([np.full(around, top), here, beside], 1),
        np.stack([np.full(around, bottom), last + beside, last + here], 1),
    ]
    return points, np.concatenate([*strips, *caps]).astype(np.int32)


def edges_of(points: np.ndarray, triangles: Ints):
    start = np.arange(0, triangles.size + 1, 3, dtype=np.int32)
    return topology(points, start, np.ascontiguousarray(triangles.ravel()))


def two_way(points: np.ndarray, triangles: Ints, light: Reduced, count: int = 20_000) -> np.ndarray:
    there = Surface(light.points, light.triangles).nearest(sampled(points, triangles, count).position)[0]
    back = Surface(points, triangles).nearest(sampled(light.points, light.triangles, count).position)[0]
    return np.concatenate([there, back])


def signed_volume(points: np.ndarray, triangles: Ints) -> float:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def test_a_flat_sheet_falls_to_two_triangles():
    points, triangles = grid(60, 40)
    (light,) = simplify(points, triangles, [2])
    assert len(light.triangles) == 2
    assert np.allclose(np.sort(light.points, axis=0), [[0, 0, 0], [0, 0, 0], [60, 40, 0], [60, 40, 0]], atol=1e-9)


def test_a_box_falls_to_twelve_triangles_with_exact_uvs():
    points, triangles, normals, uvs = box(20)
    (light,) = simplify(points, triangles, [12], attributes=[normals, uvs])
    assert len(light.triangles) == 12
    assert two_way(points, triangles, light).max() < 1e-9
    for one, (values, index) in zip((normals, uvs), light.attributes, strict=True):
        # Each corner still has one of the values it had there, and nothing in between.
        before = {
            (*points[t[k]].round(6), *one.values[i[k]].round(5))
            for t, i in zip(triangles, one.index, strict=True)
            for k in range(3)
        }
        after = {
            (*light.points[t[k]].round(6), *values[i[k]].round(5))
            for t, i in zip(light.triangles, index, strict=True)
            for k in range(3)
        }
        assert after <= before


def test_every_level_comes_from_one_pass_and_each_is_a_closed_ball():
    points, triangles = ball(96, 48)
    targets = [4500, 2000, 900, 300]
    levels = list(simplify(points, triangles, targets))
    assert [len(one.triangles) for one in levels] == targets
    largest = 0.0
    for light in levels:
        edges = edges_of(light.points, light.triangles)
        assert (edges.use == 2).all() and edges.agrees.all()
        assert len(light.points) - len(edges.use) + len(light.triangles) == 2  # Euler's number of a ball
        assert 0.9 < signed_volume(light.points, light.triangles) / signed_volume(points, triangles) < 1.01
        moved = two_way(points, triangles, light).max()
        assert largest <= moved < 10 / len(light.triangles)
        largest = moved


def test_no_level_of_a_ball_moves_farther_than_that_of_a_plain_collapse():
    """The bounds are what an independent, plain implementation of the paper reaches at the same counts."""
    points, triangles = ball(96, 48)
    bounds = {4512: 1.14e-3, 2256: 2.84e-3, 1128: 6.50e-3, 450: 14.5e-3}
    for light, bound in zip(simplify(points, triangles, list(bounds)), bounds.values(), strict=True):
        assert two_way(points, triangles, light).max() < bound


def test_attributes_cost_little_shape():
    points, triangles = ball(96, 48)
    normals = Attribute(points.astype(np.float32), triangles, 0.01)
    for target in (4000, 1000):
        (plain,), (dressed,) = (simplify(points, triangles, [target], attributes=a) for a in ((), (normals,)))
        assert two_way(points, triangles, dressed).mean() < 1.15 * two_way(points, triangles, plain).mean()
        values, index = dressed.attributes[0]
        outward = dressed.points[dressed.triangles]
        outward = outward / np.linalg.norm(outward, axis=2, keepdims=True)
        got = values[index] / np.linalg.norm(values[index], axis=2, keepdims=True)
        assert np.degrees(np.arccos(np.clip((outward * got).sum(2), -1, 1))).max() < 8


def test_borders_and_edges_between_sections_keep_their_course():
    points, triangles = grid(40, 40, lambda x, y: np.sin(x * 0.2) + 0 * y)
    section = (points[triangles].mean(1)[:, 1] > 20).astype(np.int32)
    (light,) = simplify(points, triangles, [200], section=section)
    left = section[light.source]
    edges = edges_of(light.points, light.triangles)
    border = light.points[edges.edge_points[edges.border]]
    on_frame = (np.abs(border[..., 0] - 20) > 20 - 1e-9) | (np.abs(border[..., 1] - 20) > 20 - 1e-9)
    assert on_frame.all()
    between = np.flatnonzero(
        (edges.use == 2) & (left[edges.corner_face[edges.first]] != left[edges.corner_face[edges.later[edges.first]]])
    )
    assert len(between) > 3
    assert np.abs(light.points[edges.edge_points[between], 1] - 20).max() < 1e-9


def test_a_seam_stays_one_line_with_the_uvs_of_either_side():
    points, triangles = grid(30, 20, lambda x, y: 0.05 * (x - 15) ** 2)
    right = points[triangles].mean(1)[:, 0] > 15
    values = np.concatenate([points[:, :2] / 40, points[:, :2] / 40 + (0.0, 0.5)]).astype(np.float32)
    index = np.where(right[:, None], triangles + len(points), triangles).astype(np.int32)
    (light,) = simplify(points, triangles, [120], attributes=[Attribute(values, index, 2.0)])
    got, rows = light.attributes[0]
    upper = got[rows][..., 1] - light.points[light.triangles][..., 1] / 40
    assert ((np.abs(upper) < 0.01) | (np.abs(upper - 0.5) < 0.01)).all()
    assert (np.ptp(upper.round(1), axis=1) == 0).all()  # no triangle has corners of both sides
    seam = light.points[light.triangles[np.abs(upper - 0.5) < 0.01]]
    assert np.abs(seam[:, 0].min() - 15) < 1e-6


def test_locked_points_stay_and_old_points_are_old():
    points, triangles = ball(48, 24)
    locked = points[:, 2] > 0.5
    (light,) = simplify(points, triangles, [800], locked=locked)
    kept = {tuple(p) for p in light.points.round(12)}
    assert {tuple(p) for p in points[locked].round(12)} <= kept
    (old,) = simplify(points, triangles, [300], only_old=True)
    assert {tuple(p) for p in old.points.round(9)} <= {tuple(p) for p in points.round(9)}


def test_two_sheets_that_meet_go_on_meeting_when_their_borders_are_locked():
    points, triangles = grid(24, 24, lambda x, y: np.sin(x * 0.3) * np.cos(y * 0.25))
    border = np.isin(points[:, 0], (0, 24)) | np.isin(points[:, 1], (0, 24))
    (light,) = simplify(points, triangles, [300], locked=border)
    rims = [{tuple(p[1:]) for p in light.points[light.points[:, 0] == at]} for at in (0, 24)]
    assert rims == [{tuple(p[1:]) for p in points[points[:, 0] == at]} for at in (0, 24)]


@pytest.mark.parametrize(
    ("points", "triangles", "left"),
    [
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2]], 1),
        ([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [[0, 1, 2], [0, 1, 2], [1, 2, 0]], 1),
        ([[0, 0, 0], [1, 0, 0], [2, 0, 0], [0, 1, 0]], [[0, 1, 2], [0, 1, 3], [1, 1, 3]], None),
        ([[0, 0, 0], [0, 0, 1], *([np.cos(a), np.sin(a), 0.5] for a in range(5))], [[0, 1, k] for k in range(2, 7)], 1),
        ([[1e9, 1e9, 0], [1e9 + 1, 1e9, 0], [1e9, 1e9 + 1, 0]], [[0, 1, 2]], 1),
        ([[0, 0, 0], [0, 0, 0], [0, 0, 0]], [[0, 1, 2]], 0),
    ],
)  # fmt: skip
def test_odd_meshes_come_through(points, triangles, left):
    (light,) = simplify(np.array(points, float), np.array(triangles, np.int32), [1])
    assert left is None or len(light.triangles) == left
    assert np.isfinite(light.points).all()


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([0.5, 0.2, 0.02]))
def test_any_heap_of_triangles_gets_lighter_without_worse_edges(seed, share):
    dice = np.random.default_rng(seed)
    points = dice.normal(size=(60, 3)) * dice.choice([1e-3, 1, 1e6])
    triangles = dice.integers(0, 60, (140, 3)).astype(np.int32)
    uvs = Attribute(dice.random((60, 2)).astype(np.float32), triangles, 1.0)
    (whole,) = simplify(points, triangles, [10_000], attributes=[uvs])
    (light,) = simplify(points, triangles, [int(140 * share)], attributes=[uvs])
    before, after = (edges_of(one.points, one.triangles) for one in (whole, light))
    assert len(light.triangles) <= len(whole.triangles)
    assert after.use.max(initial=0) <= max(before.use.max(initial=0), 2)
    assert np.isfinite(light.points).all() and np.isfinite(light.attributes[0][0]).all()
    assert (areas(light.points, light.triangles) >= 0).all()


def test_the_same_comes_out_whatever_the_order_of_points():
    points, triangles = ball(40, 20)
    points = points * (1.0, 1.3, 0.7) + np.sin(3 * points[:, [1, 2, 0]]) * 0.05
    (light,) = simplify(points, triangles, [300])
    order = np.random.default_rng(3).permutation(len(points))
    place = np.empty_like(order)
    place[order] = np.arange(len(order))
    (again,) = simplify(points[order], place[triangles].astype(np.int32), [300])
    assert sorted(map(tuple, light.points.round(9))) == sorted(map(tuple, again.points.round(9)))


def test_distances_are_those_worked_out_by_hand():
    surface = Surface(np.array([[0.0, 0, 0], [4, 0, 0], [0, 4, 0]]), np.array([[0, 1, 2]], np.int32))
    distance, triangle, shares = surface.nearest(np.array([[1, 1, 2.0], [5, 0, 0], [-3, -4, 0], [4, 4, 0], [2, -1, 0]]))
    assert distance == pytest.approx([2, 1, 5, 2 * np.sqrt(2), 1])
    assert (triangle == 0).all()
    assert shares[3] == pytest.approx([0, 0.5, 0.5])


def test_distances_are_those_of_trying_every_triangle():
    dice = np.random.default_rng(0)
    points, triangles = dice.normal(size=(300, 3)), dice.integers(0, 300, (500, 3)).astype(np.int32)
    places = dice.normal(size=(200, 3)) * 2
    distance, _, _ = Surface(points, triangles).nearest(places)
    alone = [Surface(points, triangles[k : k + 1]).nearest(places)[0] for k in range(500)]
    assert distance == pytest.approx(np.min(alone, axis=0))


def test_walls_are_as_thick_as_they_are():
    points, triangles = box(6)[:2]
    points = points * (4.0, 0.2, 3.0)
    normals = np.where(np.abs(points / (4.0, 0.2, 3.0) - 0.5) == 0.5, np.sign(points / (4.0, 0.2, 3.0) - 0.5), 0)
    middle = (np.abs(normals) == (0, 1, 0)).all(axis=1)
    thick = wall_thickness(points, triangles, normals / np.linalg.norm(normals, axis=1, keepdims=True), 1.0)
    assert thick[middle] == pytest.approx(0.2)
    sheet, corners = grid(3, 3)
    assert np.isinf(wall_thickness(sheet, corners, np.tile([0, 0, 1.0], (len(sheet), 1)), 1.0)).all()


def test_the_skins_of_a_thin_bent_shell_do_not_pierce_each_other():
    sheet, corners = grid(40, 40, lambda x, y: 0.03 * (x - 20) ** 2 + 2 * np.sin(y * 0.2))
    points = np.concatenate([sheet + (0, 0, 0.4), sheet])
    here = np.arange(41)
    rim = np.concatenate([here, here[1:] * 41 + 40, 41 * 40 + here[-2::-1], here[-2:0:-1] * 41])
    after = np.roll(rim, -1)
    below = len(sheet)
    side = [np.stack([rim, rim + below, after], 1), np.stack([after, rim + below, after + below], 1)]
    triangles = np.concatenate([corners, corners[:, ::-1] + below, *side]).astype(np.int32)
    assert (edges_of(points, triangles).use == 2).all()
    whole = signed_volume(points, triangles)
    heavy = HeavyMesh(zo.Mesh("shell", points, np.arange(0, triangles.size + 1, 3), triangles.ravel()))
    for light in heavy.lightened([2000, 800, 400]):
        corners_now = light.corner_point.reshape(-1, 3)
        assert two_way(points, triangles, Reduced(light.points, corners_now, np.zeros(0), ())).max() < 0.4
        assert 0.7 < signed_volume(light.points, corners_now) / whole < 1.3
        # Straight down, no skin is ever above the other: what looks up is met first.
        places = sampled(light.points, corners_now, 3000).position + (0, 0, 5.0)
        down = np.zeros((len(places) + len(light.points), 3))
        down[: len(places), 2] = 1.0
        below_all = wall_thickness(np.concatenate([places, light.points]), corners_now + len(places), down, 100.0)
        assert (below_all[: len(places)] > 5 - 0.1).mean() > 0.99


def test_shells_that_touch_are_not_taken_for_each_other():
    sheet, corners = grid(6, 6)
    points = np.concatenate([sheet, sheet + [0, 0, 1e-7]])
    # Two sheets face to face: from either the other is as near as itself, and faces the other way.
    triangles = np.concatenate([corners, corners[:, ::-1] + len(sheet)]).astype(np.int32)
    lighter = points + [0, 0, 0.01]
    before, after = Shape(points, triangles), Shape(lighter, triangles)
    assert deviation(before, after).normals == 0
    turned = Shape(lighter, triangles[:, ::-1].copy())
    assert deviation(before, turned).normals == 0  # each finds the other one's, which faces its way
    alone, over = Shape(sheet, corners), Shape(sheet, corners[:, ::-1].copy())
    assert deviation(alone, over).normals == 180


def test_the_nearest_that_faces_a_direction_may_be_none_or_farther():
    sheet, corners = grid(2, 2)
    surface = Surface(np.concatenate([sheet, sheet + [0, 0, 1]]), np.concatenate([corners, corners[:, ::-1] + 9]))
    place = np.array([[0.5, 0.7, 0.1]] * 3)
    distance, triangle, shares = surface.nearest(place, np.array([[0, 0, 1], [0, 0, -1], [1, 0, 0]], float))
    assert distance.tolist() == [pytest.approx(0.1), pytest.approx(0.9), np.inf]
    assert (triangle < 8).tolist() == [True, False, True]
    assert triangle[2] == -1
    assert shares[:2].sum(axis=1) == pytest.approx(1)
