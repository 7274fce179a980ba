"""Flat pictures as the last level."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from zesty_otter import pixels
from zesty_otter.geometry.raster.cards import Paint, kept_cover, portrait
from zesty_otter.geometry.raster.colors import to_linear, to_srgb
from zesty_otter.geometry.solids.hulls import convex_hull
from zesty_otter.model import Layer, Material, Mesh, Node, Texture, TextureUse
from zesty_otter.shading import painted
from zesty_otter.steps import Card, Levels, Reframe

RED, BLUE = (255, 0, 0, 255), (0, 0, 255, 255)


def image(*rows: list[tuple[int, int, int, int]]) -> bytes:
    return pixels.png_of(np.array(rows, np.uint8))


def textured(name: str, data: bytes, **rest) -> Material:
    use = TextureUse(Texture(f"{name}.png", data=data))
    return Material(name, **rest).with_textures({"base_color": use})


def sheet(wide: float, tall: float, material: Material | None = None, name: str = "net") -> Mesh:
    """An upright sheet that faces forward, its UVs from corner to corner."""
    uvs = np.array([(x, y) for y in (0, 1) for x in (0, 0.25, 0.5, 0.75, 1)])
    points = np.column_stack([(uvs[:, 0] - 0.5) * wide, uvs[:, 1] * tall, 0 * uvs[:, 0]])
    faces = [[n, n + 1, n + 6, n + 5] for n in range(4)]
    uv = Layer("uv", uvs, np.array(faces).ravel())
    return Mesh.from_faces(name, points, faces, layers=(uv,), slots=(material,))


def card_of(scene: zo.Scene, **settings) -> tuple[Node, np.ndarray]:
    """The last level of a scene's only asset, and its picture."""
    done = Card(**settings).apply(scene)
    node = [placed.node for placed in done.walk() if placed.node.role == "level"][-1]
    return node, pixels.rgba(node.mesh.slots[0].textures["base_color"].texture.read())


def test_a_picture_shows_what_is_in_front_where_it_is():
    red, blue = np.array([1.0, 0, 0, 1]), np.array([0, 0, 1.0, 1])
    left, right = [(0, 0, 0), (1, 0, 0), (1, 2, 0)], [(0, 0, 1), (2, 0, 1), (0, 2, 1)]
    paint = Paint(
        np.zeros((2, 3, 2), np.float32),
        np.stack([np.tile(red, (3, 1)), np.tile(blue, (3, 1))]).astype(np.float32),
        np.full(2, -1, np.int32),
        np.full(2, -1.0, np.float32),
        [],
    )
    seen = portrait(np.array([left, right], float), paint, (0.0, 0.0, 2.0, 2.0), (2, 2))
    # The blue half covers the lower left all over, and half of the upper left and the lower right.
    assert seen[1, 0].tolist() == [0, 0, 1, 1]
    assert seen[0, 0, 3] == pytest.approx(0.7, abs=0.1)
    assert seen[1, 1, 3] == pytest.approx(0.6, abs=0.1)
    assert seen[0, 1, 3] == 0
    assert seen[0, 1, :3].tolist() in (seen[0, 0, :3].tolist(), seen[1, 1, :3].tolist())  # to be mixed with


def test_cutting_off_leaves_as_much_as_was_covered():
    thin = np.full((8, 8), 0.25)
    thin[:, ::2] = 0.3
    cut = kept_cover(thin) >= 0.5
    assert 0.2 < cut.mean() <= 0.5
    assert kept_cover(np.eye(4)).tolist() == np.eye(4).tolist()
    assert kept_cover(np.zeros((3, 3))).max() == 0


def test_light_and_numbers_of_srgb_are_each_other_turned_round():
    values = np.linspace(0, 1, 256)
    assert to_srgb(to_linear(values)) == pytest.approx(values)
    assert to_linear(np.array([0.5])) == pytest.approx([0.21404], abs=1e-4)


def test_the_card_of_a_flat_sheet_is_the_sheet_with_its_picture():
    mesh = sheet(2.0, 1.0, textured("flag", image([RED, BLUE])))
    node, picture = card_of(scene_of(mesh), pixels=64)
    assert (node.name, node.role, node.mesh.triangle_count) == ("net_LOD1", "level", 2)
    assert np.allclose(node.mesh.surface_bounds, mesh.surface_bounds)
    assert node.properties["deviation"] == 0
    assert picture.shape == (32, 64, 4)
    assert (picture[5, 5].tolist(), picture[5, 58].tolist()) == (list(RED), list(BLUE))
    assert (node.mesh.slots[0].alpha_mode, node.mesh.slots[0].two_sided) == ("mask", True)
    # A pixel of 2 m / 64 is as large as one of 1,080 in 60 degrees from here on.
    assert node.properties["distance"] == pytest.approx(2 / 64 * 1080 / (2 * np.tan(np.radians(30))), rel=1e-4)


def test_a_card_shows_textures_as_their_material_places_them():
    flag = textured("flag", image([RED, BLUE]))
    use = flag.textures["base_color"]
    halved = flag.with_textures({"base_color": replace(use, scale=(0.5, 1.0), offset=(0.5, 0.0))})
    assert card_of(scene_of(sheet(2.0, 1.0, halved)), pixels=64)[1][5, 5].tolist() == list(BLUE)
    doubled = flag.with_textures({"base_color": replace(use, scale=(2.0, 1.0))})
    picture = card_of(scene_of(sheet(2.0, 1.0, doubled)), pixels=64)[1]
    assert [picture[5, x].tolist() for x in (8, 24, 40, 56)] == [list(RED), list(BLUE)] * 2


def test_what_is_cut_out_blended_or_in_a_map_of_its_own_is_open_in_the_card():
    holes = image([RED, (0, 0, 0, 0)])
    for material in (textured("net", holes, alpha_mode="mask"), textured("net", holes, alpha_mode="blend")):
        _, picture = card_of(scene_of(sheet(2.0, 1.0, material)), pixels=64)
        assert (picture[10, 10, 3], picture[10, 50, 3]) == (255, 0)
    apart = textured("net", image([RED, RED]), alpha_mode="mask")
    grey = Texture("holes.png", data=image([(255, 255, 255, 255), (0, 0, 0, 255)]))
    apart = apart.with_textures({**apart.textures, "alpha": TextureUse(grey)})
    assert painted(apart)[0][0, :, 3].tolist() == [255, 0]
    _, picture = card_of(scene_of(sheet(2.0, 1.0, apart)), pixels=64)
    assert (picture[10, 10, 3], picture[10, 50, 3]) == (255, 0)


@pytest.mark.parametrize("planes", [1, 2, 3, 4])
def test_rectangles_cross_in_the_middle_and_hold_what_they_show(planes):
    node, picture = card_of(scene_of(cube((2.0, 1.0, 1.0), "crate")), planes=planes, pixels=32)
    mesh = node.mesh
    assert (mesh.face_count, mesh.triangle_count) == (planes, 2 * planes)
    middles = mesh.points[mesh.corner_point].reshape(planes, 4, 3).mean(axis=1)
    assert np.allclose(middles, [1, 0.5, 0.5])
    assert np.allclose(mesh.surface_bounds[:, 1], [0, 1])
    assert (picture[..., 3] == 255).any()
    uv = mesh.uv_sets[0].values
    assert uv.min() >= 0
    assert uv.max() <= 1
    assert node.properties["deviation"] >= (0.5 if planes == 1 else 0.2)


@pytest.mark.parametrize(("facing", "flat"), [("auto", 2), ("front", 2), ("side", 0)])
def test_the_first_faces_where_it_is_widest_or_as_told(facing, flat):
    node, _ = card_of(scene_of(cube((2.0, 1.0, 0.5), "crate")), facing=facing, pixels=16)
    span = np.ptp(node.mesh.points, axis=0)
    assert [k for k in range(3) if span[k] < 1e-9] == [flat]


@pytest.mark.parametrize("axes", ["left up forward", "right up forward", "forward right up", "back left down"])
def test_a_card_is_the_same_in_every_space(axes):
    scene = scene_of(Node("crate", moved(3, 0, 0), content=cube((2.0, 1.0, 0.5), "crate")))
    there = zo.apply(scene, Reframe(axes=axes, unit="cm"), Card(pixels=16), Reframe(axes="left up forward", unit="m"))
    here = Card(pixels=16).apply(scene)
    one, other = (done.roots[1].mesh for done in (here, there))
    order = [np.lexsort(mesh.points.round(6).T) for mesh in (one, other)]
    assert np.allclose(one.points[order[0]], other.points[order[1]])
    assert here.roots[1].properties["distance"] == pytest.approx(there.roots[1].properties["distance"])
    images = [mesh.slots[0].textures["base_color"].texture.read() for mesh in (one, other)]
    assert images[0] == images[1]


def test_a_card_comes_after_the_levels_there_are_and_copies_share_it():
    post = cube((0.2, 1.0, 0.2), "post")
    scene = scene_of(Node("post", content=post), Node("post_b", moved(2, 0, 0), content=post))
    done = zo.apply(scene, Levels(chain="triangles 6", limit=1), Card(planes=2, pixels=16))
    names = [placed.node.name for placed in done.walk()]
    assert names == ["post", "post_LOD1", "post_LOD2", "post_b", "post_b_LOD1", "post_b_LOD2"]
    levels = [placed.node.properties["level"] for placed in done.walk() if placed.node.role == "level"]
    assert levels == [1, 2, 1, 2]
    cards = [placed.node for placed in done.walk() if placed.node.properties.get("level") == 2]
    assert cards[0].mesh.slots[0] is cards[1].mesh.slots[0]
    before = [placed.node for placed in done.walk() if placed.node.properties.get("level") == 1]
    assert all(
        card.properties["distance"] >= one.properties["distance"] for card, one in zip(cards, before, strict=True)
    )


def test_what_can_have_no_card_or_no_picture_is_said():
    lying = Mesh.from_faces("lid", [(0, 0, 0), (1, 0, 0), (1, 0, 1), (0, 0, 1)], [[0, 3, 2, 1]])
    done = Card().apply(scene_of(lying))
    assert len(done.roots) == 1
    assert "has no width or no height and gets no card" in texts(done.notes)
    light = Mesh.from_faces("net", [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], [[0, 1, 2, 3]])
    assert "node net: gets no card: it has 2 triangles as it is" in texts(Card().apply(scene_of(light)).notes)
    gone = Material("rusty").with_textures({"base_color": TextureUse(Texture("rust.png"))})
    broken = textured("torn", b"no image")
    done = Card(pixels=16).apply(scene_of(sheet(1, 1, gone, "a"), sheet(1, 1, broken, "b")))
    for name in ("rusty", "torn"):
        assert f"textures of '{name}' are missing or damaged" in texts(done.notes)
    with pytest.raises(zo.UsageError, match="planes"):
        Card(planes=9)


@pytest.mark.parametrize("ending", [".glb", ".gltf", ".obj", ".dae", ".usda", ".usdz", ".x3d"])
def test_cards_arrive_in_every_format_that_has_pictures(run, tmp_path, ending):
    scene = scene_of(sheet(2.0, 1.0, textured("flag", image([RED, BLUE]))))
    zo.write(scene, tmp_path / "flag.glb")
    ran = run("convert", tmp_path / "flag.glb", tmp_path / f"out{ending}", "--card", "2", "--unit", "m")
    assert ran.status == 0, ran.err
    back = zo.apply(zo.read(tmp_path / f"out{ending}", unit="m"), zo.steps.Roles())
    card = next(one.node for one in back.walk() if one.node.name.startswith("net_LOD") and one.node.drawn is not None)
    assert card.drawn.triangle_count == 2  # of one that is flat the other rectangle shows nothing
    assert card.drawn.slots[0].textures["base_color"].texture.found


@pytest.mark.parametrize("said", ["abc", float("nan"), None, [1]])
def test_a_level_whose_number_is_none_stops_nothing(said):
    odd = Node("post_x", content=cube(name="post_x"), role="level", properties={"asset": "post", "level": said})
    scene = scene_of(Node("post", content=cube((0.2, 1.0, 0.2), "post")), odd)
    done = zo.apply(scene, Levels(chain="50", limit=1), Card(pixels=16))
    assert any(one.node.name.startswith("post_LOD") for one in done.walk())


def test_copies_share_what_is_made_for_them():
    """A mesh at several nodes, turned about the vertical, in two sizes."""
    hull = convex_hull(np.random.default_rng(0).normal(size=(200, 3)))
    mesh = Mesh.taking("buoy", hull.points, hull.face_start, hull.corner_point)
    turns = [np.array([(np.cos(a), 0, np.sin(a)), (0, 1, 0), (-np.sin(a), 0, np.cos(a))]) for a in (0, 0.3, 0.7, -0.6)]
    nodes = []
    for n, turn in enumerate(turns):
        world = moved(4.0 * n, 0, 0)
        world[:3, :3] = turn * (1 + n % 2)
        nodes.append(Node(f"buoy_{n}", world, content=mesh))
    steps = zo.steps.Levels(chain="50"), zo.steps.Card(pixels=32), zo.steps.Collision(shape="hull"), zo.steps.Shadow()
    found = zo.apply(scene_of(*nodes), *steps, zo.steps.Bounds(shape="turned-box"))
    assert len({id(one.node.mesh) for one in found.nodes(role="bounds")}) == 1 < len(list(found.nodes(role="bounds")))
    behind = {role: [one.node for one in found.nodes(role=role)] for role in ("level", "collision", "shadow")}
    assert [len(nodes) for nodes in behind.values()] == [8, 4, 4]
    assert {node.name for node in behind["collision"]} == {f"buoy_{n}_collision_1" for n in range(4)}
    levels = [node.mesh for node in behind["level"] if "planes" not in node.properties]
    cards = [node for node in behind["level"] if "planes" in node.properties]
    assert len({id(one) for one in levels}) == len({id(node.mesh) for node in cards}) == 1
    # Lengths are those of the world, so that each size has its own.
    assert [len({id(node.mesh) for node in behind[role]}) for role in ("collision", "shadow")] == [2, 2]
    distance = [node.properties["distance"] for node in cards]
    assert distance[1] == pytest.approx(2 * distance[0], rel=1e-4) and distance[0] == pytest.approx(distance[2])
    # A card lies in the place of its mesh, as seen by whoever draws the node.
    for node, own in zip(cards, nodes, strict=True):
        assert np.array_equal(node.transform, own.transform)
