from __future__ import annotations

import itertools

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, volume
from zesty_otter.model import Layer, Node, all_axes, format_length, parse_length, reframed


def test_three_words_name_all_48_spaces_half_of_them_right_handed():
    frames = {zo.Frame(axes) for axes in all_axes()}
    assert len(frames) == 48
    assert sum(frame.right_handed for frame in frames) == 24


@pytest.mark.parametrize(
    ("axes", "right_handed"),
    [("left up forward", True), ("right up forward", False), ("right forward up", True), ("forward right up", False)],
)
def test_handedness_of_common_spaces(axes, right_handed):
    assert zo.Frame(axes).right_handed is right_handed


def test_matrix_takes_a_known_point_to_its_place():
    there = zo.Frame("right forward up", "cm").matrix_to(zo.Frame("left up forward", "m"))
    # 100 cm to the right, 200 forward, 300 up.
    assert np.allclose(there @ (100, 200, 300), (-1, 3, 2))


def test_every_space_to_every_other_and_back_is_exact():
    for a, b in itertools.product(all_axes(), repeat=2):
        there, back = zo.Frame(a).matrix_to(zo.Frame(b)), zo.Frame(b).matrix_to(zo.Frame(a))
        assert np.array_equal(there @ back, np.eye(3))
        assert (np.linalg.det(there) > 0) == (zo.Frame(a).right_handed == zo.Frame(b).right_handed)


@pytest.mark.parametrize("axes", ["left up", "left right up", "up up forward", "left up nowhere", ""])
def test_words_that_span_no_space_are_refused(axes):
    with pytest.raises(zo.UsageError, match="axes"):
        zo.Frame(axes)


@pytest.mark.parametrize("unit", ["yards", 0, -1, "nan", float("inf")])
def test_units_that_are_no_length_are_refused(unit):
    with pytest.raises(zo.UsageError, match="unit"):
        zo.Frame("left up forward", unit)


@pytest.mark.parametrize(
    ("text", "metres"), [("2cm", 0.02), ("1.5 m", 1.5), (3, 3.0), ("1e1mm", 0.01), (".5ft", 0.1524)]
)
def test_lengths_are_read_with_their_unit(text, metres):
    assert parse_length(text) == pytest.approx(metres)


@pytest.mark.parametrize(("metres", "text"), [(0.0042, "4.2 mm"), (0.12, "12 cm"), (1.83, "1.83 m"), (4200, "4.2 km")])
def test_lengths_are_said_as_people_say_them(metres, text):
    assert format_length(metres) == text


@pytest.mark.parametrize("axes", all_axes())
def test_reframing_keeps_faces_outward_and_leaves_nothing_on_nodes(axes):
    child = Node("child", moved(0, 2, 0), content=cube())
    scene = scene_of(Node("root", moved(1, 0, 0), (child,), cube((1, 2, 3))), axes="right forward up", unit="in")
    there = reframed(scene, zo.Frame(axes, "mm"))
    for placed, mesh in there.placed_meshes():
        assert volume(mesh) > 0
        assert np.array_equal(placed.node.transform[:3, :3], np.eye(3))
    back = reframed(there, scene.frame)
    assert np.allclose(back.bounds(), scene.bounds(), rtol=1e-12)
    for (_, new), (_, old) in zip(back.placed_meshes(), scene.placed_meshes(), strict=True):
        assert np.array_equal(new.corner_point, old.corner_point)


def test_reframing_turns_normals_and_tangent_signs_round():
    normal = Layer("normal", np.array([[0, 0, 1]]), np.zeros(24, int))
    tangent = Layer("tangent", np.array([[1, 0, 0, 1]]), np.zeros(24, int))
    scene = scene_of(cube(layers=(normal, tangent)), axes="left up forward")
    mesh = reframed(scene, zo.Frame("right forward up", "m")).meshes[0]
    assert mesh.normals.values.tolist() == [[0, 1, 0]]  # forward is +Y now
    assert mesh.layers_of("tangent")[0].values.tolist() == [[-1, 0, 0, 1]]
    mirrored = reframed(scene, zo.Frame("right up forward", "m")).meshes[0]
    assert mirrored.layers_of("tangent")[0].values.tolist() == [[-1, 0, 0, -1]]


def test_a_rotated_and_scaled_node_keeps_its_meaning():
    turn = np.array([[0, -2, 0, 5], [3, 0, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])
    scene = scene_of(Node("n", turn, content=cube()))
    there = reframed(scene, zo.Frame("right forward up", "cm"))
    matrix = scene.frame.matrix_to(there.frame)
    corners = scene.bounds() @ matrix.T
    assert np.allclose(there.bounds(), np.stack([corners.min(axis=0), corners.max(axis=0)]))


def test_a_unit_cannot_be_invented():
    with pytest.raises(zo.UnknownUnitError, match="--unit"):
        reframed(scene_of(cube(), unit=None), zo.Frame("left up forward", "m"))
