"""Compiled kernels: as new as their sources, as their stubs say, and right beside slow ways of asking the same."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial import ConvexHull

import zesty_otter
from zesty_otter.geometry import parallel
from zesty_otter.geometry.queries import near
from zesty_otter.geometry.queries.distance import Surface, areas, sampled
from zesty_otter.geometry.raster.spreading import nearest_filled
from zesty_otter.geometry.solids.hulls import behind_planes, convex_hull, hull_triangles, rough_hull
from zesty_otter.geometry.solids.solid import Solid
from zesty_otter.geometry.surface.corners import split_corners, take_rows
from zesty_otter.geometry.uv.solving import Symmetric

pytestmark = pytest.mark.checked
HOME = Path(zesty_otter.__file__).parent


def ball(seed: int, count: int = 12) -> tuple[np.ndarray, np.ndarray]:
    """The hull of random points, as a closed surface."""
    points = np.random.default_rng(seed).normal(size=(count, 3))
    hull = convex_hull(points / np.linalg.norm(points, axis=1, keepdims=True))
    return hull.points, hull.triangles


@pytest.mark.skipif(not (HOME.parent.parent / "tools").is_dir(), reason="needs the sources")
def test_stubs_say_what_kernels_say():
    tool = HOME.parent.parent / "tools" / "kernel_stubs.py"
    assert subprocess.run([sys.executable, tool, "--check"], capture_output=True, text=True).stdout == ""


def points_of_many_kinds(seed: int) -> np.ndarray:
    dice = np.random.default_rng(seed)
    count = int(dice.integers(5, 130))
    points = (
        dice.normal(size=(count, 3)),
        dice.integers(0, 4, (count, 3)).astype(float),
        dice.normal(size=(count, 3)).round(1),
        dice.normal(size=(count, 3)) * (1, 1, 1e-4),
        # On planes turned any way, but for what 32-bit numbers lose.
        (dice.integers(0, 6, (4 * count, 3)) @ np.linalg.qr(dice.normal(size=(3, 3)))[0]).astype(np.float32),
    )[seed % 5].astype(float)
    points = points - points.mean(axis=0)
    return points / max(np.ptp(points, axis=0).max(), 1e-9)


@given(st.integers(0, 10**6))
def test_hulls_have_the_volume_and_area_of_another_way(seed):
    points = points_of_many_kinds(seed)
    if np.linalg.svd(points - points.mean(axis=0), compute_uv=False)[2] < 1e-6:
        return  # flat, which is another matter
    ours, other = hull_triangles(points), ConvexHull(points)
    noise = 10 if seed % 5 == 4 else 1
    assert ours.volume == pytest.approx(other.volume, rel=noise * 1e-7, abs=1e-12)
    assert ours.area == pytest.approx(other.area, rel=noise * 1e-7)
    planes = ours.equations
    assert (points @ planes[:, :3].T + planes[:, 3]).max() < noise * 1e-8


@given(st.integers(0, 1000), st.floats(0.01, 0.5))
def test_what_is_farther_than_a_limit_is_measured_to_be(seed, limit):
    surface = Surface(*ball(seed))
    places = np.random.default_rng(seed + 1).normal(size=(200, 3))
    distance = surface.nearest(places)[0]
    sure = np.abs(distance - limit) > 1e-9
    assert (surface.farther_than(places, limit) == (distance > limit))[sure].all()


@given(
    st.integers(0, 10**6),
    st.integers(1, 40),
    st.sampled_from([1e-25, 1e-4, 1.0, 1e5, 1e12]),
    st.sampled_from([0.0, 300.0]),
)
def test_many_triangles_are_asked_as_each_alone_would_be(seed, count, size, away):
    """Distances and rays, half of these along axes and from corner to corner, however full the last leaf is."""
    dice = np.random.default_rng(seed)
    points = (dice.integers(0, 4, (3 * count, 3)) + away) * size
    triangles = np.arange(3 * count, dtype=np.int32).reshape(-1, 3)
    places = np.concatenate([dice.integers(-1, 5, (20, 3)), dice.uniform(-1, 5, (20, 3))]) * size + away * size
    ways = np.concatenate(
        [np.eye(3)[dice.integers(0, 3, 20)] * dice.choice([-1, 1], (20, 1)), dice.normal(size=(20, 3))]
    )
    ways /= np.linalg.norm(ways, axis=1, keepdims=True)
    together, alone = Surface(points, triangles), [Surface(points, triangles[[k]]) for k in range(count)]
    for ask in (
        lambda one: one.nearest(places)[0],
        lambda one: one.nearest(places, ways)[0],
        lambda one: one.first_hits(places, ways, 0.0)[0],
        lambda one: one.first_hits(places, ways, 0.1 * size, 3 * size, backs_only=True)[0],
        lambda one: one.fronts(places, ways, 4 * size)[0],
    ):
        least = np.min([ask(one) for one in alone], axis=0)
        assert ask(together) == pytest.approx(least, rel=1e-9, abs=1e-12 * size)


@given(st.integers(0, 10**6), st.integers(1, 40))
def test_what_is_near_is_found_with_and_without_a_tree(seed, count):
    dice = np.random.default_rng(seed)
    places, others = (dice.integers(0, 4, (count + k, 3)).astype(float) for k in (0, 3))
    found = []
    for few in (1000, 0):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(near, "_FEW", few)
            found.append((set(map(tuple, near.pairs_within(places, 1.0))), near.nearest(places, others)[0]))
    assert found[0][0] == found[1][0]
    assert found[0][1] == pytest.approx(found[1][1])


@given(st.integers(0, 10**6), st.integers(1, 60))
def test_places_are_spread_by_area_and_then_on_the_corners(seed, count):
    points, triangles = ball(seed)
    triangles = triangles[: 1 + seed % len(triangles)]
    found = sampled(points, triangles, count)
    upto = np.cumsum(areas(points, triangles))
    where = (np.arange(count) + 0.5) / count * upto[-1]
    assert (upto[found.triangle[:count]] >= where - 1e-12).all()
    assert (upto[found.triangle[:count]] - areas(points, triangles)[found.triangle[:count]] <= where + 1e-12).all()
    assert found.shares.sum(axis=1) == pytest.approx(1) and found.shares.min() >= -1e-12
    assert found.position == pytest.approx(np.einsum("nk,nkj->nj", found.shares, points[triangles[found.triangle]]))
    used = np.unique(triangles)
    assert found.position[count:] == pytest.approx(points[used[:: -(-len(used) // count) if len(used) > count else 1]])


@given(st.integers(0, 10**6), st.floats(0.5, 1.2))
def test_places_are_all_inside_when_each_is(seed, size):
    solid = Solid(*ball(seed))
    places = size * sampled(*ball(seed + 1), 30).position
    for upto in range(1, len(places), 7):
        assert solid.all_inside(places[:upto]) == solid.is_inside(places[:upto]).all()


@given(st.integers(0, 10**6))
def test_what_lies_behind_the_planes_of_a_hull_is_the_hull(seed):
    points, _ = ball(seed, 4 + seed % 40)
    hull = convex_hull(points)
    corners = behind_planes(hull.planes, hull.points.mean(axis=0))
    assert convex_hull(corners).volume == pytest.approx(hull.volume, rel=1e-6)
    assert hull.above(corners).max() < 1e-6


@given(st.integers(0, 10**6), st.booleans())
def test_systems_between_neighbours_are_solved_as_a_table_would_be(seed, is_complex):
    dice = np.random.default_rng(seed)
    count = int(dice.integers(1, 40))
    a, b = dice.integers(0, count, (2, 2 * count))
    values = dice.normal(size=2 * count) + 1j * is_complex * dice.normal(size=2 * count)
    table = np.zeros((count, count), complex)
    np.add.at(table, (a, b), values)
    table = table + table.conj().T
    table += np.diag(np.abs(table).sum(axis=1) + 1)
    if not is_complex:
        table = table.real
    rows, columns = np.nonzero(table)
    side = dice.normal(size=(count, 2)).astype(table.dtype)
    found = Symmetric(rows, columns, table[rows, columns], count).solve(side)
    assert found == pytest.approx(np.linalg.solve(table, side), rel=1e-6, abs=1e-9)


@given(st.integers(0, 10**6))
def test_the_nearest_filled_pixel_is_found(seed):
    dice = np.random.default_rng(seed)
    filled = dice.random(dice.integers(1, 16, 2)) < dice.choice([0.02, 0.2, 0.7])
    found = nearest_filled(filled)
    if not filled.any():
        assert (found == -1).all()
        return
    places, others = np.argwhere(np.ones_like(filled)), np.argwhere(filled)
    away = np.linalg.norm(places[:, None] - others, axis=2).min(axis=1)
    assert filled.ravel()[found].all()
    assert np.hypot(*(places - np.stack(np.divmod(found.ravel(), filled.shape[1]), axis=1)).T) == pytest.approx(away)


@given(st.integers(0, 10**6))
def test_rough_hulls_are_as_large_as_clean_ones(seed):
    points = points_of_many_kinds(seed)
    rough, clean = rough_hull(points, 0.01), convex_hull(points, 0.01)
    assert (rough.volume, rough.area) == pytest.approx((clean.volume, clean.area), rel=1e-5)
    assert clean.above(points).max() < 1e-6 > rough.above(points).max()


def test_results_do_not_depend_on_the_number_of_cores(monkeypatch):
    surface = Surface(*ball(3, 200))
    places = np.random.default_rng(5).normal(size=(20_000, 3))

    def all_of_it() -> list[np.ndarray]:
        return [
            *surface.nearest(places),
            surface.surrounds(places),
            surface.farther_than(places, 0.2),
            *surface.first_hits(places, np.array([0.0, 1.0, 0.0]), 0.0),
        ]

    alone = monkeypatch.setattr(parallel, "_cores", lambda: 1) or all_of_it()
    monkeypatch.setattr(parallel, "_cores", lambda: 4)
    monkeypatch.setattr(parallel, "_pool", None)
    for one, other in zip(alone, all_of_it(), strict=True):
        assert np.array_equal(one, other)


@pytest.mark.parametrize("seed", range(40))
def test_vertices_of_polygons_are_the_combinations_there_are(seed):
    chance = np.random.default_rng(seed)
    sizes = chance.integers(3, 7, chance.integers(0, 12))
    start = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int32)
    count = int(start[-1])
    point, slot = chance.integers(0, 6, count).astype(np.int32), chance.integers(0, 3, len(sizes)).astype(np.int32)
    layers = [
        (chance.integers(0, 2, (4, width)).astype(np.float32), chance.integers(-1, 4, count).astype(np.int32))
        for width in (2, 3)
    ]
    vertex, first = split_corners(start, point, slot, layers)

    def said(corner: int) -> tuple:
        own = [tuple(values[index[corner]]) if index[corner] >= 0 else None for values, index in layers]
        return np.repeat(slot, sizes)[corner], point[corner], *own

    assert len(first) == len({said(corner) for corner in range(count)})
    assert all(said(first[vertex[corner]]) == said(corner) for corner in range(count))
    for values, index in layers:
        rows = [values[index[one]] if index[one] >= 0 else np.full(values.shape[1], 7.0) for one in first]
        assert take_rows(values, index, first, 7.0).tolist() == [row.tolist() for row in rows]
