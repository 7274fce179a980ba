"""Points of a light surface that are moved where it is farthest from the dense one."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from test_simplify import grid
from zesty_otter.geometry.queries.distance import Surface, sampled
from zesty_otter.geometry.simplify.collapse import simplify
from zesty_otter.geometry.simplify.settling import Neighbourhood, settled

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

Points = np.ndarray


@dataclass
class Ridge:
    """A dense sheet of 12 x 4 squares with a ridge of height 1 along its middle, and a light one, flat there."""

    height: float = 1.0
    light: Points = field(init=False)
    dense: Points = field(init=False)

    def __post_init__(self) -> None:
        self.dense, self.dense_triangles = grid(12, 4, lambda x, y: self.height * np.maximum(1 - abs(x - 6) / 6, 0))
        self.light, self.triangles = grid(2, 2)
        self.light *= [6, 2, 1]

    def settled(self, **changes) -> Points:
        about = {
            "fixed": np.zeros(9, bool),
            "on_line": np.zeros(9, bool),
            "dense_on_line": np.zeros(len(self.dense), bool),
            "leeway": np.full(9, np.inf),
        } | changes
        home = ((self.dense[:, :2] - [0, 0]) / [6, 2]).round().astype(np.int32)
        return settled(
            Neighbourhood(self.light, self.triangles),
            Neighbourhood(self.dense, self.dense_triangles),
            home[:, 0] + 3 * home[:, 1],
            **about,
        )

    def apart(self, points: Points) -> float:
        """The largest distance between both surfaces, either way."""
        there = Surface(points, self.triangles).nearest(sampled(self.dense, self.dense_triangles, 3000).position)[0]
        back = Surface(self.dense, self.dense_triangles).nearest(sampled(points, self.triangles, 3000).position)[0]
        return float(max(there.max(), back.max()))


def test_the_middle_of_a_flat_sheet_rises_to_the_ridge_it_stands_for():
    ridge = Ridge()
    points = ridge.settled()
    assert ridge.apart(ridge.light) == pytest.approx(1, abs=0.02)
    assert ridge.apart(points) < 0.35
    # Nothing but the middle row had to move.
    assert np.array_equal(points[[0, 2, 3, 5, 6, 8]], ridge.light[[0, 2, 3, 5, 6, 8]])
    assert (points[[1, 4, 7], 2] > 0.65).all()


@pytest.mark.parametrize(
    ("changes", "still"),
    [
        ({"fixed": np.ones(9, bool)}, range(9)),
        ({"fixed": np.arange(9) == 4}, [4]),
        ({"on_line": np.ones(9, bool)}, range(9)),
        ({"leeway": np.full(9, 0.01)}, range(9)),
    ],
)
def test_what_may_not_move_stays_to_the_last_bit(changes, still):
    ridge = Ridge()
    points = ridge.settled(**changes)
    assert np.array_equal(points[list(still)], ridge.light[list(still)])


def test_points_on_a_line_move_for_what_is_on_one_only():
    ridge = Ridge()
    middle = np.isin(np.arange(9), [1, 4, 7])
    on_ridge = ridge.dense[:, 0] == 6
    assert ridge.apart(ridge.settled(on_line=middle, dense_on_line=on_ridge)) < 0.35


def test_points_without_a_home_and_surfaces_that_are_alike_ask_for_nothing():
    ridge = Ridge(height=0.0)
    assert np.array_equal(ridge.settled(), ridge.light)
    tall = Ridge()
    nothing = settled(
        Neighbourhood(tall.light, tall.triangles),
        Neighbourhood(tall.dense, tall.dense_triangles),
        np.full(len(tall.dense), -1, np.int32),
        fixed=np.zeros(9, bool),
        on_line=np.zeros(9, bool),
        dense_on_line=np.zeros(len(tall.dense), bool),
        leeway=np.full(9, np.inf),
    )
    assert np.array_equal(nothing, tall.light)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([3, 6, 12]))
def test_settling_never_makes_the_worst_distance_larger(seed, part):
    random = np.random.default_rng(seed)
    points, triangles = grid(30, 30, lambda x, y: 2 * np.sin(x * 0.3 + seed) + random.normal(0, 0.2, x.shape))
    shares = np.array([(a, b, 12 - a - b) for a in range(13) for b in range(13 - a)]) / 12

    def places(points, triangles) -> Points:
        return np.einsum("gk,tkx->tgx", shares, points[triangles]).reshape(-1, 3)

    original = Surface(points, triangles)

    def apart(light) -> float:
        own = Surface(light.points, light.triangles)
        there, back = places(points, triangles), places(light.points, light.triangles)
        return float(max(own.nearest(there)[0].max(), original.nearest(back)[0].max()))

    # Where points may be old ones only nothing is settled; both are of the same collapse when all are locked.
    target = [len(triangles) // part]
    (mended,) = simplify(points, triangles, target)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("zesty_otter.geometry.simplify.collapse.settled", lambda light, *rest, **more: light.points)
        (plain,) = simplify(points, triangles, target)
    assert np.array_equal(mended.triangles, plain.triangles)
    assert apart(mended) <= 1.02 * apart(plain)  # between the places that were looked at
