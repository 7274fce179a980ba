"""Comparison of two scenes: what is the same is the same in any frame, what differs is found and measured."""

from __future__ import annotations

import json
import re
from dataclasses import replace

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of
from test_collision import plank, stairs
from zesty_otter.audit import arrived
from zesty_otter.audit.comparison import compare
from zesty_otter.model import Frame, Layer, Material, Node, Scene, Texture, TextureUse
from zesty_otter.pixels import png_of
from zesty_otter.steps import Reframe, Triangulate


def yard() -> Scene:
    steps = stairs(3).replace(slots=(Material("stone"),))
    return scene_of(Node("steps", moved(1, 0, 0), content=steps), Node("crate", content=plank((0, 0, 0), (1, 1, 1))))


@pytest.mark.parametrize("axes", ["right forward up", "forward right up", "left up back"])
def test_a_scene_in_another_frame_and_format_is_the_same(axes, tmp_path):
    scene = yard()
    found = compare(scene, Reframe(axes=axes, unit="cm").apply(scene))
    assert found.within(1e-9) and found.unit_known and found.moved < 1e-12
    zo.write(scene, tmp_path / "a.glb")
    back = compare(zo.apply(scene, Triangulate()), zo.read(tmp_path / "a.glb"))
    assert not (back.added or back.removed) and back.moved < 1e-6 and not any(one.changes for one in back.nodes)


def test_what_moved_is_measured_with_its_place():
    scene = yard()
    points = scene.roots[1].mesh.points.copy()
    corner = int(np.argmax(points.sum(axis=1)))
    points[corner] += 0.3
    dented = replace(
        scene, roots=(scene.roots[0], replace(scene.roots[1], content=scene.roots[1].mesh.replace(points=points)))
    )
    (one,) = [one for one in compare(scene, dented).nodes if not one.same]
    assert one.node == "crate" and one.moved == pytest.approx(0.3 * 3**0.5)
    assert one.moved_at == pytest.approx((1.3, 1.3, 1.3)) and one.moved_mean < 0.2
    assert one.size_after == pytest.approx((1.3, 1.3, 1.3)) and one.changes == ()


_OTHER = {  # of the layers of a square that is cut into triangles along its other diagonal
    "winding": ({}, "2 faces face the other way"),
    "normals": ({"normal": [(0.6, 0, 0.8)] * 4}, "normals differ by up to 36.9°"),
    "a UV": ({"uv": [(0, 0), (1, 0), (1, 1), (0, 0.5)]}, "UV set 0: differs by up to 0.5, at (0, 1, 0) m"),
    "colours": ({"color": [(1, 0, 0)] * 4}, "vertex colour 0: differs by up to 1"),
    "nothing": ({}, ""),
}


@pytest.mark.parametrize("what", _OTHER)
def test_corners_are_compared_where_triangles_are_cut_otherwise(what):
    layers = {"normal": [(0, 0, 1)] * 4, "uv": [(0, 0), (1, 0), (1, 1), (0, 1)], "color": [(1, 1, 1)] * 4}
    square = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]

    def made(faces, values):
        kinds = tuple(Layer(kind, np.array(rows, np.float32), np.ravel(faces)) for kind, rows in values.items())
        return scene_of(zo.Mesh.from_faces("square", square, faces, layers=kinds))

    others, words = _OTHER[what]
    faces = [(0, 3, 1), (1, 3, 2)] if what == "winding" else [(0, 1, 3), (1, 2, 3)]
    found = compare(made([(0, 1, 2), (0, 2, 3)], layers), made(faces, layers | others))
    assert [one for pair in found.nodes for one in pair.changes if words in one] if words else found.within(1e-9)


def test_sets_that_are_new_or_gone_are_told(tmp_path):
    quad = plank((0, 0, 0), (1, 1, 1))
    layer = Layer("uv", np.zeros((1, 2), np.float32), np.zeros(len(quad.corner_point), int))
    red = Layer("color", np.array([(1, 0, 0, 1)], np.float32), layer.index)
    one, two = scene_of(quad.replace(layers=(layer,))), scene_of(quad.replace(layers=(layer, layer, red)))
    changes = compare(one, two).nodes[0].changes
    assert changes == ("UV sets: 1 became 2", "vertex colours: none became 1 set")
    zo.write(one, tmp_path / "a.glb")
    problems = zo.audit.arrived(two, tmp_path / "a.glb").problems
    assert [text.split(": ")[-1] for text in problems] == ["UV set 1 is gone", "vertex colour 0 is gone"]
    zo.write(two, tmp_path / "b.obj")  # has one set of UVs by nature
    assert not zo.audit.arrived(two, tmp_path / "b.obj").problems


def test_what_is_new_gone_renamed_and_changed_is_told():
    before = yard()
    after = scene_of(
        Node("stairs", moved(1, 0, 0), content=before.roots[0].mesh.replace(slots=(Material("wood"),))),
        Node("CRATE", content=before.roots[1].mesh.take_faces(np.arange(5))),
        Node("lamp", moved(9, 9, 9), content=plank((0, 0, 0), (1, 2, 1))),
    )
    found = compare(before, after)
    assert (found.added, found.removed) == (("lamp",), ())
    told = {one.node: (one.renamed, one.changes) for one in found.nodes}
    assert told["steps"] == ("stairs", ("slots: stone became wood",))
    assert told["crate"] == ("CRATE", ("triangles: 12 became 10",))
    assert found.materials == ("stone is gone", "wood is new") and not found.within(1.0)
    painted = replace(before.roots[0], content=before.roots[0].mesh.replace(slots=(Material("stone", metallic=1.0),)))
    assert compare(before, scene_of(painted, before.roots[1])).materials == ("stone: metallic 0 became 1",)


def dressed(*, tangent=(1, 0, 0, 1), offset=(0.1, 0.2), lamp=(0, 3, 0), view=0.6, **light) -> Scene:
    """A box with tangents and a picture, a lamp above and a camera."""
    normal = np.array([(0, 0, -1), (0, 0, 1), (0, -1, 0), (0, 1, 0), (-1, 0, 0), (1, 0, 0)], np.float32)
    layers = (
        Layer("uv", np.random.default_rng(0).random((24, 2)), np.arange(24)),
        Layer("normal", normal, np.arange(24) // 4),
        Layer("tangent", np.array([tangent], np.float32), np.zeros(24, int)),
    )
    image = Texture("oak.png", data=png_of(np.full((2, 2, 4), 90, np.uint8)))
    oak = Material("oak", textures={"base_color": TextureUse(image, offset=offset)})
    said = {"color": (1, 0.5, 0.2), "intensity": 30.0, "reach": None} | light
    eye = zo.Camera("eye", height=view)
    return scene_of(
        cube(layers=layers, slots=(oak,)), Node("lamp", moved(*lamp), content=zo.Light("lamp", "point", **said)),
        Node("eye", content=eye),
    )  # fmt: skip


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"tangent": (0, 0, 1, 1)}, "tangents differ by up to 90"),
        ({"tangent": (1, 0, 0, -1)}, "tangents differ by up to 180"),
        (
            {"offset": (0.6, 0.2)},
            "offset of the base colour image 0.1 0.2 became 0.6 0.2|base colour texture lies elsewhere",
        ),
        ({"lamp": (0, 3, 0.5)}, "light 'lamp': moved by 0.5"),
        ({"color": (1, 0.5, 0.3)}, "light 'lamp': colour 1 0.5 0.2 became 1 0.5 0.3"),
        ({"intensity": 3.0}, "light 'lamp': intensity 30 became 3"),
        ({"view": 0.9}, "camera 'eye': height of view 0.6 became 0.9"),
    ],
)
def test_tangents_placement_lights_and_cameras_are_compared(tmp_path, change, words):
    meant = dressed()
    zo.write(meant, tmp_path / "a.glb")
    assert arrived(meant, tmp_path / "a.glb").problems == ()
    assert {"tangents", "lights and cameras"} <= set(arrived(meant, tmp_path / "a.glb").compared)
    zo.write(dressed(**change), tmp_path / "b.glb")
    assert re.search(words, " ".join(arrived(meant, tmp_path / "b.glb").problems))
    found = compare(meant, dressed(**change))
    said = " ".join([*found.materials, *found.lights, *(text for one in found.nodes for text in one.changes)])
    assert re.search(words, said) and not found.within(1.0)


def test_files_without_a_unit_are_compared_in_units():
    scene = Scene((Node("a", content=plank((0, 0, 0), (1, 1, 1))),), Frame("left up forward"))
    found = compare(scene, Scene((Node("a", content=plank((0, 0, 0), (1, 1, 2))),), Frame("left up forward", "cm")))
    assert not found.unit_known and found.moved == pytest.approx(1)


def test_empty_scenes_are_the_same():
    empty = Scene((), Frame("left up forward", "m"))
    assert compare(empty, empty).within(0) and compare(empty, yard()).added == ("steps", "crate")


def test_the_command_line_tells_what_differs(tmp_path, run):
    zo.write(yard(), tmp_path / "a.glb")
    zo.write(Reframe(axes="right forward up", unit="cm").apply(yard()), tmp_path / "b.usda")
    zo.write(zo.apply(yard(), zo.steps.Scale(factor=1.01)), tmp_path / "c.glb")
    same = run("compare", tmp_path / "a.glb", tmp_path / "b.usda")
    assert same.status == 0 and "no difference" in same.out
    other = run("compare", tmp_path / "a.glb", tmp_path / "c.glb", "--json")
    document = json.loads(other.out)
    assert other.status == 1 and document["moved"] == pytest.approx(0.019, abs=0.003) and not document["within"]
    assert run("compare", tmp_path / "a.glb", tmp_path / "c.glb", "--tolerance", "3cm").status == 0
    assert run("compare", tmp_path / "a.glb", tmp_path / "none.glb").status == 3
    assert run("compare", tmp_path / "a.glb", tmp_path / "c.glb", "--tolerance", "far").status == 2
