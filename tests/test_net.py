"""Random scenes through every writer and step, taken up by receivers that share no code with the package."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.spatial import cKDTree

import zesty_otter as zo
from build import cube, moved, scene_of
from receivers import Polygon, corner, facing, placed, polygons, turned_by
from zesty_otter.demo.textures import timber
from zesty_otter.model import Layer, Material, Mesh, Node, Scatter, Texture, TextureUse
from zesty_otter.steps import step_from_text

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

TEXTURE = Texture("mark.png", data=timber())
ALL_SETS = ("glb", "dae", "usda")  # formats that carry more than one UV set
WRITTEN = ("obj", "ply", "stl", "glb", "gltf", "dae", "x3d", "3mf", "usda", "usdc", "usdz")


def random_turn(chance: np.random.Generator) -> np.ndarray:
    turn = chance.normal(size=4)
    return turned_by(turn / np.linalg.norm(turn))


def random_place(chance: np.random.Generator) -> np.ndarray:
    """Moved, turned, scaled differently along each axis, and mirrored half the time."""
    scale = chance.uniform(0.4, 2.0, 3) * chance.choice([-1.0, 1.0], 3)
    return placed(chance.uniform(-3, 3, 3), random_turn(chance), scale)


def random_mesh(chance: np.random.Generator, name: str, materials: list[Material], sets: int) -> Mesh:
    """A bent box of quads and triangles, with seams, two UV sets, colours and two materials."""
    box = cube(tuple(chance.uniform(0.5, 2, 3)), name)
    points = box.points + chance.normal(scale=0.03, size=box.points.shape)
    faces = [
        *([box.corner_point[k : k + 4].tolist() for k in range(0, 20, 4)]),
        *np.reshape([1, 3, 7, 1, 7, 5], (2, 3)).tolist(),
    ]
    mesh = Mesh.from_faces(name, points, faces)
    count = mesh.corner_count
    normals = chance.normal(size=(11, 3))
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    layers = [Layer("normal", normals.astype(np.float32), chance.integers(0, 11, count))]
    layers += [Layer("uv", chance.random((9, 2)).astype(np.float32), chance.integers(0, 9, count)) for _ in range(sets)]
    layers.append(Layer("color", chance.random((8, 3)).astype(np.float32), mesh.corner_point))
    slots = tuple(materials[k] for k in chance.permutation(len(materials))[:2])
    return mesh.replace(layers=tuple(layers), slots=slots, face_slot=chance.integers(0, 2, mesh.face_count))


def random_scene(seed: int, sets: int) -> zo.Scene:
    """Nested, mirrored, scaled and sheared nodes; meshes that are shared, scattered and of several materials."""
    chance = np.random.default_rng(seed)
    materials = []
    for k in range(3):
        rotation = float(chance.uniform(-3, 3)) if k else 0.0
        scale = tuple(chance.uniform(0.5, 3, 2).tolist()) if k else (1.0, 1.0)
        use = TextureUse(
            TEXTURE, int(chance.integers(sets)), offset=tuple(chance.random(2).tolist()), scale=scale, rotation=rotation
        )
        materials.append(
            Material(f"paint {k}", tuple(chance.random(3).tolist()) + (1.0,), textures={"base_color": use})
        )
    one, other = (random_mesh(chance, name, materials, sets) for name in ("hull", "post"))
    copies = np.array(
        [placed(chance.uniform(-3, 3, 3), random_turn(chance), chance.uniform(0.5, 2, 3)) for _ in range(3)]
    )
    deep = Node("tip", random_place(chance), (Node("end", random_place(chance), content=other),), one)
    return scene_of(
        Node("yard", random_place(chance), (deep, Node("post", random_place(chance), content=other))),
        Node("hull", random_place(chance), content=one),
        Node("reeds", moved(1, 2, 3), content=Scatter(other, copies)),
    )


def expected(scene: zo.Scene, *, textured: bool = True) -> list[Polygon]:
    """The polygons of a scene, walked and placed here."""
    found: list[Polygon] = []

    def show(mesh: Mesh, world: np.ndarray) -> None:
        normals, colors = mesh.layers_of("normal"), mesh.layers_of("color")
        for face in range(mesh.face_count):
            slot = mesh.slots[mesh.slot_of_face[face]] if mesh.slots else None
            use = slot.textures.get("base_color") if slot else None
            uvs = mesh.uv_sets[use.uv_set if use else 0] if mesh.uv_sets else None
            rows = []
            for k in range(mesh.face_start[face], mesh.face_start[face + 1]):
                uv = uvs.values[uvs.index[k]].astype(float) if uvs is not None else None
                if uv is not None and use is not None and textured:
                    c, s = math.cos(use.rotation), math.sin(use.rotation)
                    u, v = uv * use.scale
                    uv = np.array([c * u - s * v, s * u + c * v]) + use.offset
                normal = normals[0].values[normals[0].index[k]] if normals else None
                color = colors[0].values[colors[0].index[k]][:3] if colors else None
                rows.append(corner(world, mesh.points[mesh.corner_point[k]], normal, uv, color))
            found.append((facing(rows, world), slot.name if slot else ""))

    def walk(node: Node, above: np.ndarray) -> None:
        world = above @ node.transform
        if isinstance(node.content, Mesh):
            show(node.content, world)
        elif isinstance(node.content, Scatter):
            for copy in node.content.transforms:
                show(node.content.mesh, world @ copy)
        for child in node.children:
            walk(child, world)

    for root in scene.roots:
        walk(root, np.eye(4))
    return found


NAMES = (
    "position",
    "position",
    "position",
    "normal",
    "normal",
    "normal",
    "UV",
    "UV",
    "colour",
    "colour",
    "colour",
    "material",
)


def table(all_of_it: list[Polygon], names: dict[str, int]) -> np.ndarray:
    rows = [
        np.column_stack([one, np.full(len(one), 10.0 * names.setdefault(name, len(names)))]) for one, name in all_of_it
    ]
    return np.concatenate(rows)


def area_vectors(all_of_it: list[Polygon]) -> np.ndarray:
    """Twice the area that looks along each axis, which tells winding; zero for what is closed but for each material."""
    by_name: dict[str, np.ndarray] = {}
    for rows, name in all_of_it:
        point = rows[:, :3]
        for k in range(1, len(point) - 1):
            cross = np.cross(point[k] - point[0], point[k + 1] - point[0])
            by_name[name] = by_name.get(name, 0) + np.append(cross, 0)
    return np.array([by_name[name] for name in sorted(by_name)])


def assert_same(found: list[Polygon], meant: list[Polygon], columns: slice | list[int], slack: float = 2e-4) -> None:
    """Every corner of one is a corner of the other, in what the format carries."""
    names: dict[str, int] = {}
    one, other = (np.nan_to_num(table(every, names), nan=-50.0)[:, columns] for every in (found, meant))
    for a, b, what in ((one, other, "is not meant"), (other, one, "did not arrive")):
        away, near = cKDTree(b).query(a, p=np.inf)
        worst = int(np.argmax(away))
        where = int(np.argmax(np.abs(a[worst] - b[near[worst]])))
        assert away[worst] < slack, f"{np.array(NAMES)[columns][where]} {what}: {a[worst]} beside {b[near[worst]]}"


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("ending", WRITTEN)
def test_a_receiver_gets_what_was_meant(tmp_path, ending, seed):
    scene = random_scene(seed, 2 if ending in ALL_SETS else 1)
    path = tmp_path / f"a.{ending}"
    zo.write(scene, path)
    found = list(polygons(path))
    if ending == "3mf":  # has a space of its own
        scene = zo.apply(scene, zo.steps.Reframe(axes="right forward up"))
    meant = expected(scene, textured=ending != "ply")
    columns = {"stl": list(range(3)), "ply": list(range(8)), "3mf": [0, 1, 2, 11]}.get(ending, list(range(12)))
    assert_same(found, meant, columns)
    if ending == "ply":
        assert_same(found, meant, list(range(11)), 6e-3)  # bytes of colour
    mine, theirs = area_vectors(found), area_vectors(meant)
    if ending in ("ply", "stl"):
        mine, theirs = mine.sum(axis=0), theirs.sum(axis=0)
    assert np.allclose(mine, theirs, atol=1e-3)


# Steps that move nothing, whatever else they change; what is named anew is known by its place.
KEEPING = [
    "bake", "bake translation=drop", "join", "gather", "expand", "divide by=parts", "divide by=material", "pivot at=base",
    "pivot at=centre of=scene", "triangulate", "tangents of=all", "roles", "names", "clean-up", "uv-sets",
]  # fmt: skip


@pytest.mark.parametrize("ending", ["glb", "usda"])
@pytest.mark.parametrize("step", KEEPING)
def test_a_step_that_moves_nothing_moves_nothing(tmp_path, step, ending):
    for seed in (11, 12):
        scene = random_scene(seed, 2)
        changed = zo.apply(scene, step_from_text(step))
        path = tmp_path / f"a.{ending}"
        zo.write(changed, path)
        named = step != "names"
        assert_same(list(polygons(path)), expected(scene), list(range(12 if named else 11)))


@pytest.mark.parametrize("ending", ["obj", "glb", "dae", "x3d", "usda"])
@pytest.mark.parametrize("axes", ["right forward up", "forward right down", "back left up"])
def test_another_frame_moves_nothing_either(tmp_path, axes, ending):
    scene = random_scene(21, 1)
    there = zo.apply(scene, zo.steps.Reframe(axes=axes, unit="cm"))
    back = zo.apply(there, zo.steps.Reframe(axes="left up forward", unit="m"))
    zo.write(back, tmp_path / f"a.{ending}")
    assert_same(list(polygons(tmp_path / f"a.{ending}")), expected(scene), list(range(12)))
    if ending == "glb":  # always in its own space
        zo.write(there, tmp_path / "b.glb")
        assert_same(list(polygons(tmp_path / "b.glb")), expected(scene), list(range(12)))
