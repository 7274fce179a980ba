"""Damaged files through the whole chain: read, three steps, write, read. What comes is a result or an error of ours."""

from __future__ import annotations

import contextlib
import math
import random
import re
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of
from zesty_otter.model import Layer, Material, Node
from zesty_otter.steps import STEPS, step_from_text

ENDINGS = ["obj", "glb", "gltf", "dae", "usda", "usdz", "x3d", "ply", "stl"]
NUMBERS = [b"0", b"-1", b"1e308", b"1e-308", b"nan", b"inf", b"-1e30", b"1e20", b"99999999999", b"1e15", b"-0", b"3"]
WORDS = [bytes(4), b"\xff" * 4, b"\xff\xff\x7f\x7f", b"\0\0\x80\x7f", b"\0\0\xc0\x7f", b"\0\0\0\x80", b"\1\0\0\0"]
FURTHER = ["collision shape=parts", "collision shape=capsule", "bounds shape=sphere", "bounds shape=turned-box",
           "divide by=parts", "clean-up close_holes=1m", "normals by=hard", "pivot at=centre place=origin"]  # fmt: skip


def something() -> zo.Scene:
    uv = Layer("uv", np.random.default_rng(0).random((24, 2)), np.arange(24))
    box = cube((1, 2, 3), "box", layers=(uv,), slots=(Material("a"), Material("b")), face_slot=np.arange(6) % 2)
    below = (
        Node("box", np.diag([1, -1, 2, 1.0]), content=box), Node("box_collision_1", content=cube((1, 2, 3), "solid")),
        Node("lamp", content=zo.Light("l", "spot")), Node("eye", content=zo.Camera("c")),
    )  # fmt: skip
    many = zo.Scatter(box, np.stack([np.eye(4), moved(4, 0, 0)]))
    return scene_of(Node("top", moved(1, 0, 0), below), Node("many", content=many))


def damaged(data: bytes, chance: random.Random, *, text: bool) -> bytes:
    """Numbers, bytes and words that are others, and pieces that are gone."""
    out = bytearray(data)
    for _ in range(chance.choice([1, 1, 2, 3, 6])):
        kind = chance.random()
        numbers = list(re.finditer(rb"-?\d+\.?\d*(?:e-?\d+)?", out)) if text and kind < 0.75 else []
        at = chance.randrange(max(len(out) - 4, 1))
        if numbers:
            found = chance.choice(numbers)
            out[found.start() : found.end()] = chance.choice(NUMBERS)
        elif kind < 0.85:
            out[at] = chance.randrange(256)
        elif kind < 0.93:
            out[at : at + 4] = chance.choice(WORDS)
        else:
            del out[at : at + chance.randrange(1, 60)]
    return bytes(out)


def every_step() -> list[str]:
    """Steps with the settings of their examples, and some more."""
    ours = [step for step in STEPS.values() if step.__module__.startswith("zesty_otter")]
    said = [step.slug + "".join(f" {k}={v}" for k, v in step.example.items() if isinstance(v, str | int) and " " not in str(v))
            for step in ours if step.slug not in ("select", "textures", "names", "roles", "scale", "uv-sets")]  # fmt: skip
    return [*said, *FURTHER]


@pytest.mark.checked
@pytest.mark.filterwarnings("error::RuntimeWarning")  # nobody is to read those
@pytest.mark.parametrize("scale", [1e-320, 1e-308, 1e-104, 1e14])
@pytest.mark.parametrize("along", [(1, 1, 1), (1, 0, 0), (0, 1, 1)])
def test_nodes_squashed_or_blown_up_go_through_every_step_and_format(tmp_path, scale, along):
    squashed = np.diag([*(scale if one else 1.0 for one in along), 1.0])
    turned = np.array([[0, -2, 0, 0], [math.cos(0.02), 0, -math.sin(0.02), 0], [math.sin(0.02), 0, 1, 0], [0, 0, 0, 1]])
    scene = something().map_nodes(
        lambda node: node if not node.content else replace(node, transform=turned @ squashed @ node.transform)
    )
    for step in every_step():
        with contextlib.suppress(zo.ZestyOtterError):
            step_from_text(step).apply(scene)
    for ending in ENDINGS:
        with contextlib.suppress(zo.ZestyOtterError):
            zo.write(scene, tmp_path / f"a.{ending}")
            zo.read(tmp_path / f"a.{ending}", "m")


@pytest.mark.checked
@pytest.mark.filterwarnings("error::RuntimeWarning")  # nobody is to read those
@pytest.mark.parametrize("ending", ENDINGS)
def test_damaged_files_go_through_or_are_refused(tmp_path: Path, ending: str):
    zo.write(something(), tmp_path / f"a.{ending}")
    data = (tmp_path / f"a.{ending}").read_bytes()
    steps = every_step()
    through = 0
    for seed in range(20):
        chance = random.Random(f"{ending} {seed}")
        (tmp_path / f"b.{ending}").write_bytes(
            damaged(data, chance, text=ending in ("obj", "gltf", "dae", "usda", "x3d"))
        )
        out = tmp_path / f"c.{chance.choice(ENDINGS)}"
        try:
            scene = zo.read(tmp_path / f"b.{ending}", "m")
            for _ in range(3):
                scene = step_from_text(chance.choice(steps)).apply(scene)
            zo.write(scene, out)
            zo.read(out, "m")
            through += 1
        except zo.ZestyOtterError as error:
            assert str(error)
    assert through or ending == "usdz"  # packages have check sums
