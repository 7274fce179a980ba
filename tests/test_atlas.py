"""Many materials as one."""

from __future__ import annotations

import math

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, light, moved, scene_of, texts
from zesty_otter import pixels
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse

SQUARE = [(0, 0), (1, 0), (1, 1), (0, 1)]


def quad(name, material, uv=SQUARE, x=0.0):
    layer = Layer("uv", np.array(uv, float), range(4))
    points = [(x, 0, 0), (x + 1, 0, 0), (x + 1, 1, 0), (x, 1, 0)]
    return zo.Mesh.from_faces(name, points, [(0, 1, 2, 3)], layers=(layer,), slots=(material,))


def image(values, name="image.png"):
    values = np.asarray(values, np.uint8)
    if values.shape[-1] == 3:
        values = np.concatenate([values, np.full((*values.shape[:2], 1), 255, np.uint8)], axis=2)
    return Texture(name, data=pixels.png_of(values))


def noise(seed, size=(16, 16), channels=3):
    return np.random.default_rng(seed).integers(0, 256, (size[1], size[0], channels))


def atlas(*contents, **settings):
    return zo.steps.Atlas(**{"of": "scene", **settings}).apply(scene_of(*contents))


def looked_up(scene, mesh, role, places):
    """(N, 4) what the map of a role has at places (N, 2) of a quad, from the nearest pixel."""
    (material,) = mesh.slots
    use = material.textures[role]
    values = pixels.rgba(use.texture.read())
    uv = mesh.uv_sets[use.uv_set].at_corners().astype(float)
    s, t = np.array(places, float).T
    at = (uv[0] + s[:, None] * (uv[1] - uv[0])) + t[:, None] * (uv[3] - uv[0])
    column = np.floor(at[:, 0] * values.shape[1]).astype(int)
    row = np.floor((1 - at[:, 1]) * values.shape[0]).astype(int)
    return values[row, column]


def middles(size):
    """(N, 2) the middles of the pixels of an image, along a quad."""
    x, y = np.meshgrid((np.arange(size[0]) + 0.5) / size[0], (np.arange(size[1]) + 0.5) / size[1])
    return np.stack([x.ravel(), y.ravel()], axis=1)


def shown(values, places):
    """(N, 3) the pixels of an image at places that repeat."""
    high, wide = values.shape[:2]
    column = np.floor(places[:, 0] % 1 * wide).astype(int) % wide
    row = np.floor((1 - places[:, 1] % 1) * high).astype(int) % high
    return values[row, column, :3]


def test_ten_plain_colours_come_out_exactly_at_every_corner():
    colors = np.random.default_rng(3).integers(0, 256, (10, 3))
    meshes = [
        quad(f"q{k}", Material(f"m{k}", base_color=(*light(*(color / 255)), 1.0), roughness=k / 10), x=2.0 * k)
        for k, color in enumerate(colors)
    ]
    scene = atlas(*meshes)
    assert len(scene.materials) == 1
    for color, mesh, k in zip(colors, scene.meshes, range(10), strict=True):
        assert (looked_up(scene, mesh, "base_color", SQUARE)[:, :3] == color).all()
        assert np.abs(looked_up(scene, mesh, "roughness", SQUARE)[:, 1] / 255 - k / 10).max() < 1 / 255
        assert np.ptp(mesh.uv_sets[0].values, axis=0).min() > 0
    assert "10 materials became 1, 10 slots 10, 10 draw calls 10" in texts(scene.notes)


def test_slots_of_one_mesh_become_one():
    box = cube(slots=tuple(Material(f"m{k}", metallic=k / 5) for k in range(6)), face_slot=range(6))
    scene = atlas(box)
    assert "6 materials became 1, 6 slots 1, 6 draw calls 1" in texts(scene.notes)
    assert scene.meshes[0].face_slot is None or not scene.meshes[0].face_slot.any()


def test_textures_arrive_pixel_by_pixel():
    first, second = noise(1), noise(2, (32, 8))
    materials = [
        Material(name).with_textures({"base_color": TextureUse(image(values, f"{name}.png"))})
        for name, values in (("a", first), ("b", second))
    ]
    scene = atlas(quad("a", materials[0]), quad("b", materials[1], x=2))
    for mesh, values in zip(scene.meshes, (first, second), strict=True):
        places = middles(values.shape[1::-1])
        assert (looked_up(scene, mesh, "base_color", places)[:, :3] == shown(values, places)).all()


@pytest.mark.parametrize(
    ("placement", "uv"),
    [
        ({}, [(0, 0), (3, 0), (3, 2), (0, 2)]),
        ({}, [(-2, 5), (-1, 5), (-1, 6), (-2, 6)]),
        ({"scale": (2.0, 3.0), "offset": (0.25, 0.5)}, SQUARE),
        ({"scale": (1.0, -1.0)}, SQUARE),
        ({"rotation": math.pi / 2, "offset": (1.0, 0.0)}, SQUARE),
    ],
)
def test_repeats_and_placements_are_drawn_in(placement, uv):
    values = noise(4)
    use = TextureUse(image(values), **placement)
    tiled = quad("tiled", Material("tiled").with_textures({"base_color": use}), uv)
    scene = atlas(tiled, quad("plain", Material("plain"), x=2))
    new = scene.meshes[0]
    span = np.ptp(np.array(uv, float), axis=0) * np.abs(use.scale)
    places = middles((16 * span).astype(int))
    own = np.array(uv[0]) + places * (np.array(uv[2]) - np.array(uv[0]))
    c, s = math.cos(use.rotation), math.sin(use.rotation)
    x, y = (own * use.scale).T
    placed = np.stack([c * x - s * y, s * x + c * y], axis=1) + use.offset
    assert (looked_up(scene, new, "base_color", places)[:, :3] == shown(values, placed + 1e-9)).all()
    (material,) = new.slots
    assert all((one.scale, one.offset, one.rotation) == ((1, 1), (0, 0), 0) for one in material.textures.values())


def test_factors_are_multiplied_in():
    values = np.full((8, 8, 3), 200)
    maps = {
        "base_color": TextureUse(image(values, "c.png")), "roughness": TextureUse(image(values, "r.png"), channel="r"),
        "emissive": TextureUse(image(values, "e.png")), "occlusion": TextureUse(image(values, "o.png"), strength=0.5),
    }  # fmt: skip
    lamp = Material("lamp", (0.5, 1, 1, 1), roughness=0.5, metallic=0.25, emissive=(1, 0.5, 0)).with_textures(maps)
    scene = atlas(quad("lamp", lamp), quad("plain", Material("plain", emissive=(0, 0, 1)), x=2))
    mesh, bare = scene.meshes
    (material,) = mesh.slots
    (full,) = light(200 / 255)
    assert light(looked_up(scene, mesh, "base_color", [(0.5, 0.5)])[0, 0] / 255)[0] == pytest.approx(full / 2, abs=4e-3)
    surface = looked_up(scene, mesh, "roughness", [(0.5, 0.5)])[0] / 255
    assert surface[:3] == pytest.approx([1 - 0.5 * 55 / 255, 0.5 * 200 / 255, 0.25], abs=3e-3)
    glow = looked_up(scene, mesh, "emissive", [(0.5, 0.5)])[0] / 255
    assert [light(one)[0] for one in glow[:3]] == pytest.approx([full, full / 2, 0], abs=4e-3)
    assert looked_up(scene, bare, "emissive", [(0.5, 0.5)])[0, :3].tolist() == [0, 0, 255]
    assert (material.roughness, material.metallic, material.emissive) == (1.0, 1.0, (1.0, 1.0, 1.0))
    assert material.textures["occlusion"].channel == "r"


def test_normals_keep_their_strength_and_turn_with_the_placement():
    tilted = np.full((8, 8, 3), (128 + 64, 128, 238))
    use = TextureUse(image(tilted), strength=0.5, rotation=math.pi / 2, offset=(1.0, 0.0))
    scene = atlas(quad("a", Material("a").with_textures({"normal": use})), quad("b", Material("b"), x=2))
    found = looked_up(scene, scene.meshes[0], "normal", [(0.5, 0.5)])[0, :3] / 255 * 2 - 1
    flat = looked_up(scene, scene.meshes[1], "normal", [(0.5, 0.5)])[0, :3]
    assert flat.tolist() == [128, 128, 255]
    # Half as strong, and what went along U goes along V now.
    wanted = np.array([0, 0.5 * 0.506, 0.867])
    assert found == pytest.approx(wanted / np.linalg.norm(wanted), abs=0.01)


def test_opaque_cut_out_and_blended_stay_apart():
    values = np.full((8, 8, 4), 255)
    values[:, :4, 3] = 80
    leaf = Material("leaf", alpha_mode="mask", alpha_cutoff=0.25, two_sided=True).with_textures(
        {"base_color": TextureUse(image(values))}
    )
    fern = Material("fern", alpha_mode="mask", alpha_cutoff=0.4).with_textures(
        {"base_color": TextureUse(image(values))}
    )
    glass = Material("glass", (1, 1, 1, 0.5), alpha_mode="blend")
    scene = atlas(*(quad(m.name, m, x=2.0 * k) for k, m in enumerate((leaf, fern, glass, Material("wood")))))
    modes = {mesh.name: mesh.slots[0].alpha_mode for mesh in scene.meshes}
    assert modes == {"leaf": "mask", "fern": "mask", "glass": "blend", "wood": "opaque"}
    assert len(scene.materials) == 3
    # What was cut out by either threshold is, by the one they share: 80 of 255 is above 0.25 and below 0.4.
    kept = [looked_up(scene, mesh, "base_color", [(0.25, 0.5)])[0, 3] / 255 >= 0.5 for mesh in scene.meshes[:2]]
    assert kept == [True, False]
    assert scene.meshes[0].slots[0].two_sided


def test_transparency_is_where_cut_outs_have_it():
    holes = np.full((8, 8, 4), 255)
    holes[:, :4, 3] = 0
    gray = np.full((8, 8, 3), 255)
    gray[:, :4] = 0
    nets = [
        Material(f"net{k}", alpha_mode="mask", alpha_cutoff=0.5).with_textures(
            {"alpha": TextureUse(image(values, f"{k}"))}
        )
        for k, values in enumerate((holes, gray))
    ]
    scene = atlas(*(quad(net.name, net, x=2.0 * k) for k, net in enumerate(nets)))
    for mesh in scene.meshes:
        assert looked_up(scene, mesh, "base_color", [(0.25, 0.5), (0.75, 0.5)])[:, 3].tolist() == [0, 255]


def test_what_is_too_large_shrinks_and_says_so():
    materials = [Material(f"m{k}").with_textures({"base_color": TextureUse(image(noise(k, (128, 128)), f"{k}.png"))}) for k in range(4)]  # fmt: skip
    scene = atlas(*(quad(m.name, m, x=2.0 * k) for k, m in enumerate(materials)), size=128)
    (material,) = scene.materials
    info = pixels.inspect(material.textures["base_color"].texture.read())
    assert max(info.width, info.height) <= 128
    assert "% of their pixels along a side" in texts(scene.notes)
    with pytest.raises(zo.ZestyOtterError, match="do not fit"):
        atlas(*(quad(f"{k}", Material(f"p{k}", roughness=k / 99), x=2.0 * k) for k in range(99)), size=32)


def test_beyond_a_texture_its_colours_go_on():
    red, blue = np.full((16, 16, 3), (255, 0, 0)), np.full((16, 16, 3), (0, 0, 255))
    materials = [
        Material(n).with_textures({"base_color": TextureUse(image(v, n))}) for n, v in (("a", red), ("b", blue))
    ]
    scene = atlas(*(quad(m.name, m, x=2.0 * k) for k, m in enumerate(materials)), gutter=8)
    for mesh, color in zip(scene.meshes, ([255, 0, 0], [0, 0, 255]), strict=True):
        values = pixels.rgba(mesh.slots[0].textures["base_color"].texture.read())
        size = values.shape[1], values.shape[0]
        corner = mesh.uv_sets[0].values.min(axis=0) * size - 2.5  # two pixels beyond
        assert values[int(size[1] - corner[1]), int(corner[0]), :3].tolist() == color


def test_each_asset_gets_its_own_and_missing_textures_are_named():
    lost = Material("lost").with_textures({"base_color": TextureUse(Texture("gone.png"))})
    crate = Node("crate", content=cube(name="crate", slots=(Material("a"), lost), face_slot=[0, 0, 0, 1, 1, 1]))
    alone = Node("alone", moved(4, 0, 0), content=cube(name="alone", slots=(Material("c"),)))
    scene = zo.steps.Atlas().apply(scene_of(crate, alone))
    assert [material.name for material in scene.materials] == ["c"] or {m.name for m in scene.materials} == {"crate_atlas", "c"}  # fmt: skip
    assert "texture 'gone.png' is missing" in texts(scene.notes)
    assert "nothing has two materials" in texts(zo.steps.Atlas().apply(scene_of(alone)).notes)


def test_levels_take_the_same_page():
    box = cube(slots=(Material("a", metallic=0.1), Material("b")), face_slot=[0, 0, 0, 1, 1, 1])
    level = Node("cube_LOD1", content=box.take_faces(np.array([0, 1, 3]), "cube_LOD1"), role="level", properties={"asset": "cube", "level": 1})  # fmt: skip
    scene = zo.steps.Atlas().apply(scene_of(Node("cube", content=box), level))
    assert len(scene.materials) == 1
    assert [len(mesh.used_slots) for mesh in scene.meshes] == [1, 1]


def test_repeated_bricks_look_the_same_as_before():
    bricks = TextureUse(image(np.kron(noise(7, (4, 4)), np.ones((8, 8, 1), int)), "bricks.png"))
    wall = quad("wall", Material("wall", two_sided=True).with_textures({"base_color": bricks}), [(0, 0), (2, 0), (2, 2), (0, 2)])  # fmt: skip
    sill = quad("sill", Material("sill", (0.2, 0.2, 0.3, 1.0), two_sided=True), x=2)
    before = scene_of(wall, sill)
    assert zo.audit.appearance(before, atlas(wall, sill), 150).share < 0.002
