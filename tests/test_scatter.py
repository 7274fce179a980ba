"""One mesh in many places: kept where a format can, taken apart where it cannot."""

from __future__ import annotations

import json

import numpy as np
import pytest

import zesty_otter as zo
from build import WRITTEN, cube, moved, scene_of, texts
from zesty_otter import Scatter
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.geometry.surface.placing import composed, sheared, taken_apart
from zesty_otter.model import Node, expanded
from zesty_otter.pipeline.delivery import deliver
from zesty_otter.steps import BakeTransforms, Expand, Gather, Reframe, Scale

ENDINGS = [one.suffixes[0] for one in WRITTEN]
QUARTER = np.eye(4)
QUARTER[:3, :3] = about_axis(np.array([0.0, 1, 0]), np.pi / 2)


def buoys(*transforms: np.ndarray, above: np.ndarray | None = None) -> zo.Scene:
    """Boxes of 1 x 2 x 3 scattered from a node."""
    scatter = Scatter(cube((1, 2, 3), "buoy"), np.array(transforms))
    return scene_of(Node("buoys", np.eye(4) if above is None else above, content=scatter))


PLACES = (moved(10, 0, 0), moved(0, 5, 0) @ QUARTER, moved(0, 0, -4) @ np.diag([2.0, 2, 2, 1]))


def test_bounds_cover_every_copy_under_the_node():
    assert np.allclose(buoys(*PLACES).bounds(), [[0, 0, -4], [11, 7, 3]])
    assert np.allclose(buoys(*PLACES, above=moved(0, 100, 0)).bounds(), [[0, 100, -4], [11, 107, 3]])
    assert np.isnan(buoys().bounds()).all()


@pytest.mark.parametrize(
    "step",
    [
        Reframe(axes="right forward up", unit="cm"),
        Reframe(axes="left up back"),
        Scale(factor=0.25),
        BakeTransforms(),
    ],
)
def test_a_scatter_changes_as_its_copies_would(step):
    scene = buoys(*PLACES, above=QUARTER @ np.diag([1.0, 2, 1, 1]))
    scattered, apart = step.apply(scene), step.apply(Expand().apply(scene))
    assert scattered.roots[0].kind == "scatter"
    assert np.allclose(scattered.bounds(), apart.bounds(), rtol=0, atol=1e-12)


def test_gathering_and_expanding_undo_each_other():
    scene = buoys(*PLACES)
    nodes = Expand().apply(scene)
    assert [one.path[-1] for one in nodes.walk()] == ["buoys", "buoys_1", "buoys_2", "buoys_3"]
    (node,) = Gather().apply(nodes).roots[0].children
    assert np.array_equal(node.content.transforms, scene.roots[0].content.transforms)
    assert Gather(least=4).apply(nodes) is nodes


def test_placing_takes_apart_what_it_composes():
    dice = np.random.default_rng(4)
    quaternions = dice.normal(size=(200, 4))
    quaternions /= np.linalg.norm(quaternions, axis=1, keepdims=True)
    quaternions *= np.sign(quaternions[:, 3:])
    scales = dice.uniform(0.1, 4, (200, 3))
    scales[::2, 0] *= -1
    places = dice.normal(size=(200, 3))
    transforms = composed(200, places, quaternions, scales)
    for found, meant in zip(taken_apart(transforms), (places, quaternions, scales), strict=True):
        assert np.allclose(found, meant, rtol=0, atol=1e-12)
    assert not sheared(transforms).any()
    slanted = np.eye(4)
    slanted[0, 1] = 0.5
    assert sheared(np.array([np.eye(4), slanted, np.diag([1.0, 0, 1, 1])])).tolist() == [False, True, True]


@pytest.mark.parametrize("ending", ENDINGS)
def test_every_format_brings_every_copy(tmp_path, ending):
    slanted = moved(3, 0, 0)
    slanted[0, 1] = 0.5
    mirrored = moved(0, -9, 0) @ np.diag([1.0, -1, 1, 1])
    for number, transforms in enumerate(((*PLACES, mirrored), (*PLACES, slanted))):
        scene = buoys(*transforms)
        path = tmp_path / f"{number}{ending}"
        notes, arrival = deliver(scene, path)
        assert arrival.problems == ()
        found = zo.read(path, *(("m", "left up forward") if ending in (".obj", ".ply", ".stl") else (None, None)))
        found = zo.apply(found, zo.steps.Reframe(axes="left up forward", unit="m"))
        assert np.allclose(found.bounds(), scene.bounds(), rtol=0, atol=2e-6)
        kept = ending in (".glb", ".gltf", ".usda", ".usdc", ".usdz") and number == 0
        assert [one.node.kind for one in found.walk()].count("scatter") == kept
        assert kept or number or "became 4 nodes" in texts(notes)
        copies, _ = expanded(found)
        if ending not in (".ply", ".stl"):
            assert len(list(copies.placed_meshes())) == 4


def test_gltf_that_scatters_asks_for_readers_that_can(tmp_path):
    path = tmp_path / "buoys.gltf"
    zo.write(buoys(*PLACES), path)
    document = json.loads(path.read_text())
    assert document["extensionsRequired"] == document["extensionsUsed"] == ["EXT_mesh_gpu_instancing"]
    assert len(document["meshes"]) == len(document["nodes"]) == 1


def test_survey_counts_the_copies_and_measures_around_them():
    found = zo.audit.survey(buoys(*PLACES))
    assert (found.triangles, found.meshes, found.nodes[0].copies) == (36, 1, 3)
    assert np.allclose(found.size, (11, 7, 7))


def test_places_that_are_no_transforms_are_refused():
    with pytest.raises(zo.ZestyOtterError, match="0 0 0 1"):
        buoys(np.ones((4, 4)))
    with pytest.raises(zo.ZestyOtterError, match="finite"):
        buoys(np.full((4, 4), np.nan))
