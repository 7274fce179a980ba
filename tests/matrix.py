"""What each format carries, changes and loses, found by writing and reading back: `python tests/matrix.py` writes it.

A probe is a scene with one thing in it, and how to see that thing in a scene. Kept is what is seen again; changed is
what is seen otherwise; lost is what is seen as in a scene that never had it.
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

import zesty_otter as zo
from build import ENDINGS, cube, moved, scene_of
from zesty_otter.formats import format_of
from zesty_otter.model import Camera, Layer, Light, Material, Node, Scatter, Texture, TextureUse
from zesty_otter.pixels import png_of

PAGE = Path(__file__).parent.parent / "docs" / "matrix.md"

UVS = Layer("uv", np.random.default_rng(1).random((24, 2)).astype(np.float32), np.arange(24))
IMAGE = Texture("planks.png", data=png_of(np.arange(64, dtype=np.uint8).reshape(4, 4, 4)))

BENT = Texture("bent.png", data=png_of(np.full((4, 4, 4), (128, 128, 255, 255), np.uint8)))


@dataclass(frozen=True)
class Probe:
    """A thing that a file may carry: a scene that has it, one that has not, and what is seen of it."""

    group: str
    what: str
    having: zo.Scene
    lacking: zo.Scene
    seen: Callable[[zo.Scene], Any]
    slack: float = 1e-4

    def state(self, found: zo.Scene) -> str:
        """What became of it: kept, changed or lost."""
        try:
            now = self.seen(found)
        except _NOT_THERE:
            return "lost"
        if same(now, self.seen(self.having), self.slack):
            return "kept"
        try:
            return "lost" if same(now, self.seen(self.lacking), self.slack) else "changed"
        except _NOT_THERE:
            return "changed"


_NOT_THERE = (IndexError, KeyError, AttributeError, LookupError)


def same(one: Any, other: Any, slack: float) -> bool:
    if isinstance(one, float | int | np.ndarray) and not isinstance(one, bool):
        a, b = np.asarray(one, float), np.asarray(other if other is not None else np.nan, float)
        return a.shape == b.shape and bool(np.allclose(a, b, atol=slack))
    if isinstance(one, tuple | list):
        pairs = zip(one, other, strict=False) if isinstance(other, tuple | list) else ()
        return isinstance(other, tuple | list) and len(one) == len(other) and all(same(a, b, slack) for a, b in pairs)
    return bool(one == other)


def first(scene: zo.Scene) -> zo.Mesh:
    return scene.meshes[0]


def material(scene: zo.Scene) -> Material:
    return scene.materials[0]


def use(role: str) -> Callable[[zo.Scene], TextureUse]:
    return lambda scene: material(scene).textures[role]


def content(scene: zo.Scene, kind: type) -> Any:
    found = [placed for placed in scene.walk() if isinstance(placed.node.content, kind)]
    return found[0]


def corners(kind: str, number: int = 0) -> Callable[[zo.Scene], Any]:
    """The values of a layer at every corner of the first mesh, in the order of where they are."""

    def seen(scene: zo.Scene) -> Any:
        mesh = first(scene)
        layer = [one for one in mesh.layers if one.kind == kind][number]
        values = layer.values[layer.index]
        rows = np.column_stack([mesh.points[mesh.corner_point].round(4), values.round(3)])
        return np.unique(rows, axis=0)

    return seen


def painted(**said: Any) -> zo.Scene:
    return scene_of(cube(slots=(Material("planks", **said),), layers=(UVS,)))


def textured(role: str, image: Texture = IMAGE, **said: Any) -> zo.Scene:
    return painted(textures={role: TextureUse(image, **said)})


def layered(*layers: Layer) -> zo.Scene:
    return scene_of(cube(layers=layers))


def with_node(**said: Any) -> zo.Scene:
    return scene_of(Node("gate", content=cube(name="gate"), **said))


def lit(light: Light) -> zo.Scene:
    return scene_of(cube(), Node("lamp", moved(0, 3, 0), content=light))


def places(scene: zo.Scene) -> Any:
    """Where the corners of everything stand."""
    shown = [
        mesh.points[mesh.corner_point] @ one.world[:3, :3].T + one.world[:3, 3] for one, mesh in scene.placed_meshes()
    ]
    return np.unique(np.concatenate(shown).round(3), axis=0)


def place_of(scene: zo.Scene) -> Any:
    """Where a few UVs look up the base colour."""
    one, uvs = use("base_color")(scene), corners("uv")(scene)[:, 3:5]
    turn = np.array([[np.cos(one.rotation), -np.sin(one.rotation)], [np.sin(one.rotation), np.cos(one.rotation)]])
    return np.sort((one.offset + (uvs * one.scale) @ turn.T).round(3), axis=0)


def probes() -> list[Probe]:
    plain, bare = scene_of(cube()), scene_of()
    rng = np.random.default_rng(0)
    colors = Layer("color", rng.random((24, 3)).astype(np.float32), np.arange(24))
    clear = Layer("color", rng.random((24, 4)).astype(np.float32), np.arange(24))
    tangent = Layer("tangent", np.tile([1, 0, 0, 1], (24, 1)).astype(np.float32), np.arange(24))
    directions = rng.normal(size=(24, 3))
    normal = Layer(
        "normal",
        (directions / np.linalg.norm(directions, axis=1, keepdims=True)).astype(np.float32),
        np.arange(24),
    )
    second = Layer("uv", rng.random((24, 2)).astype(np.float32), np.arange(24), name="light")
    prism = zo.Mesh.from_faces(
        "prism",
        [(np.cos(a), y, np.sin(a)) for y in (0, 1) for a in np.arange(6) * np.pi / 3],
        [[0, 1, 2, 3, 4, 5], [11, 10, 9, 8, 7, 6]],
    )
    two = (Material("iron"), Material("wood"))
    shared = cube(name="shared")
    many = Scatter(cube(), np.stack([moved(3 * k, 0, 0) for k in range(3)]))
    mirrored, sheared = np.diag([-1.0, 1, 1, 1]), np.eye(4)
    sheared[0, 1] = 0.5
    white = painted()
    material_values: list[tuple[str, dict[str, Any], Callable[[Material], Any]]] = [
        ("base colour", {"base_color": (0.2, 0.4, 0.6, 1)}, lambda one: one.base_color),
        ("opacity", {"base_color": (1, 1, 1, 0.5), "alpha_mode": "blend"}, lambda one: one.base_color[3]),
        ("cut-outs", {"base_color": (1, 1, 1, 0.9), "alpha_mode": "mask"}, lambda one: one.alpha_mode),
        ("metallic", {"metallic": 0.7}, lambda one: one.metallic),
        ("roughness", {"roughness": 0.3}, lambda one: one.roughness),
        ("emission", {"emissive": (0.1, 0.5, 0.2)}, lambda one: one.emissive),
        ("emission beyond white", {"emissive": (2.0, 4.0, 0.0)}, lambda one: one.emissive),
        ("two-sided", {"two_sided": True}, lambda one: one.two_sided),
        ("unlit", {"shading": {"unlit": True}}, lambda one: bool(one.shading.get("unlit"))),
        ("clearcoat", {"shading": {"clearcoat": 0.5}}, lambda one: float(one.shading.get("clearcoat", 0))),
    ]
    spot = Light("l", "spot", (1, 0.5, 0.25), 40.0, None, (0.3, 0.6))
    level = {"level": 1, "distance": 12.5}
    return [
        Probe("tree", "names of nodes", with_node(), bare, lambda s: {one.node.name for one in s.walk()} >= {"gate"}),
        Probe("tree", "nodes below nodes", with_node(children=(Node("hinge", moved(1, 2, 3)),)), with_node(),
              lambda s: [(one.depth if hasattr(one, "depth") else len(one.path)) for one in s.walk()
                         if one.node.name == "hinge"]),
        Probe("tree", "placements", with_node(transform=moved(1, 2, 3)), with_node(),
              places),
        Probe("tree", "pivots", with_node(transform=moved(1, 2, 3)), with_node(),
              lambda s: content(s, zo.Mesh).world[:3, 3]),
        Probe("tree", "mirrored nodes", with_node(transform=mirrored), with_node(),
              places),
        Probe("tree", "sheared nodes", with_node(transform=sheared), with_node(),
              places),
        Probe("tree", "meshes shown twice", scene_of(Node("a", content=shared), Node("b", moved(2, 0, 0), content=shared)),
              scene_of(Node("a", content=shared), Node("b", moved(2, 0, 0), content=cube(name="other"))),
              lambda s: (len(list(s.placed_meshes())), len(s.meshes))),
        Probe("tree", "scatters", scene_of(Node("many", content=many)), plain,
              lambda s: len(content(s, Scatter).node.content.transforms)),
        Probe("tree", "hidden nodes", scene_of(cube(), Node("gate", content=cube(name="g"), visible=False)), plain,
              lambda s: [one.node.visible for one in s.walk() if one.node.name == "gate"]),
        Probe("tree", "properties of nodes", with_node(properties={"weight": 12}), with_node(),
              lambda s: content(s, zo.Mesh).node.properties.get("weight")),
        Probe("tree", "properties of meshes", scene_of(cube(properties={"weight": 12})), plain,
              lambda s: first(s).properties.get("weight")),
        Probe("tree", "roles", scene_of(cube(), Node("solid", content=cube(name="solid"), role="collision")), plain,
              lambda s: sorted(one.node.role for one in s.walk() if one.node.content is not None)),
        Probe("tree", "distances of levels",
              scene_of(cube(), Node("cube_LOD1", content=cube(name="l"), role="level", properties=level)), plain,
              lambda s: [one.node.properties.get("distance") for one in s.walk() if "LOD1" in one.node.name]),
        Probe("surface", "quads", plain, bare, lambda s: first(s).face_count),
        Probe("surface", "faces of more corners", scene_of(prism), bare, lambda s: first(s).face_count),
        Probe("surface", "normals", layered(normal), plain, corners("normal"), 2e-2),
        Probe("surface", "smoothing groups", scene_of(cube(face_smoothing=[1, 1, 2, 2, 3, 0])), plain,
              lambda s: None if first(s).face_smoothing is None else first(s).face_smoothing.tolist()),
        Probe("surface", "tangents", layered(UVS, normal, tangent), layered(UVS, normal), corners("tangent"), 2e-2),
        Probe("surface", "UVs", layered(UVS), plain, corners("uv"), 2e-3),
        Probe("surface", "second UV set", layered(UVS, second), layered(UVS), corners("uv", 1), 2e-3),
        Probe("surface", "names of UV sets", layered(UVS, second), layered(UVS),
              lambda s: [one.name for one in first(s).layers if one.kind == "uv"][1]),
        Probe("surface", "colours of corners", layered(colors), plain, lambda s: corners("color")(s)[:, :6], 6e-3),
        Probe("surface", "opacity of corners", layered(clear), plain, lambda s: corners("color")(s)[:, 6], 6e-3),
        Probe("surface", "slots", scene_of(cube(slots=two, face_slot=[0, 1, 0, 1, 0, 1])), plain,
              lambda s: [one.name for one in s.materials]),
        *(Probe("materials", what, painted(**said), white, lambda s, see=see: see(material(s)), 5e-3)
          for what, said, see in material_values),
        *(Probe("textures", f"{role.replace('_', ' ')} map", textured(role), white,
                lambda s, role=role: role in material(s).textures)
          for role in ("base_color", "metallic", "roughness", "occlusion", "emissive")),
        Probe("textures", "normal map", textured("normal", image=BENT), white, lambda s: "normal" in material(s).textures),
        Probe("textures", "pixels", textured("base_color"), white,
              lambda s: use("base_color")(s).texture.read() == IMAGE.data),
        Probe("textures", "offset, turn and size", textured("base_color", offset=(0.2, 0.1), rotation=0.5, scale=(2, 3)),
              textured("base_color"), place_of, 5e-3),
        Probe("textures", "clamping", textured("base_color", clamp=True), textured("base_color"),
              lambda s: use("base_color")(s).clamp),
        Probe("textures", "strength of normals", textured("normal", image=BENT, strength=0.5), textured("normal", image=BENT),
              lambda s: use("normal")(s).strength, 1e-3),
        Probe("lights and cameras", "spot", lit(spot), plain, lambda s: content(s, Light).node.content.kind),
        Probe("lights and cameras", "colour of lights", lit(spot), lit(replace(spot, color=(1, 1, 1))),
              lambda s: content(s, Light).node.content.color, 5e-3),
        Probe("lights and cameras", "intensity", lit(spot), lit(replace(spot, intensity=1)),
              lambda s: content(s, Light).node.content.intensity, 0.05),
        Probe("lights and cameras", "reach", lit(replace(spot, reach=5)), lit(spot),
              lambda s: content(s, Light).node.content.reach, 1e-3),
        Probe("lights and cameras", "cone", lit(spot), lit(replace(spot, cone=(0, 0.785398))),
              lambda s: content(s, Light).node.content.cone, 2e-3),
        Probe("lights and cameras", "sun", lit(Light("l", "directional")), plain,
              lambda s: content(s, Light).node.content.kind),
        Probe("lights and cameras", "camera", scene_of(cube(), Node("eye", content=Camera("eye", height=0.6))), plain,
              lambda s: content(s, Camera).node.content.height, 1e-3),
        Probe("file", "size in metres", scene_of(cube(), unit="cm"), plain,
              lambda s: (s.frame.unit or 1) * np.ptp(places(s), axis=0)),
    ]  # fmt: skip


@dataclass(frozen=True)
class Answer:
    """What became of a thing in a format, and the notes that were said beyond those of a scene without it."""

    state: str
    notes: tuple[str, ...]


def answer(probe: Probe, ending: str, folder: Path) -> Answer:
    found, said = through(probe.having, ending, folder)
    usual = set() if probe.what in ("quads", "size in metres") else through(scene_of(cube()), ending, folder)[1]
    return Answer(probe.state(found), tuple(sorted(said - usual)))


def through(scene: zo.Scene, ending: str, folder: Path) -> tuple[zo.Scene, set[str]]:
    path = folder / f"a.{ending}"
    notes = zo.write(scene, path)
    varies = format_of(path).axes_vary
    found = zo.read(path, scene.frame.unit if varies else None, "left up forward" if varies else None)
    frame = zo.steps.Reframe(axes="left up forward", unit="m" if scene.frame.unit == 1 else None)
    return zo.apply(found, frame), {note.text for note in notes}


def page(folder: Path) -> str:
    """The table as Markdown."""
    shown = [ending for ending in ENDINGS if ending not in ("gltf", "usdc", "usdz")]
    lines = [
        "# What becomes of each thing in each format",
        "",
        "Written by `make docs` from what the tests find (`tests/matrix.py`): each thing is written alone, read back and",
        "compared. *kept*: the same again; *changed*: there, but otherwise, as the note of the writer says; *lost*: not",
        "there, as the note says. What [Formats](formats.md) says of the reasons holds for `.gltf` as for `.glb`, and for",
        "`.usdc` and `.usdz` as for `.usda`.",
    ]
    group = ""
    for probe in probes():
        if probe.group != group:
            group = probe.group
            lines += ["", f"| {group} | {' | '.join(shown)} |", f"|---|{'---|' * len(shown)}"]
        states = [answer(probe, ending, folder).state for ending in shown]
        lines.append(f"| {probe.what} | {' | '.join(states)} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as made:
        PAGE.write_text(page(Path(made)), "utf-8")
    sys.stdout.write(f"{PAGE}\n")
