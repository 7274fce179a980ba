"""Maps baked from heavy meshes onto light ones, and how versions look."""

from __future__ import annotations

import json

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from laying import sphere, terrain
from zesty_otter import pixels
from zesty_otter.appearance import SEEN, difference
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse

SQUARE = [(0, 0), (1, 0), (1, 1), (0, 1)]


def plate(half=1.2, name="plate", mirrored=False, **rest):
    """A square that looks up +Z, with UVs over it and a normal."""
    uv = np.array([(1 - u, v) if mirrored else (u, v) for u, v in SQUARE], float)
    layers = (Layer("uv", uv, range(4)), Layer("normal", [(0, 0, 1)], [0] * 4))
    points = np.array([(-half, -half, 0), (half, -half, 0), (half, half, 0), (-half, half, 0)])
    return zo.Mesh.from_faces(name, points, [(0, 1, 2, 3)], layers=layers, **rest)


def dome(count=48):
    """Half a ball above the plate, with the normals of a ball."""
    ball = sphere(count)
    faces = np.flatnonzero([ball.points[ball.corner_point[a:b], 2].mean() > 0 for a, b in zip(ball.face_start, ball.face_start[1:], strict=False)])  # fmt: skip
    half = ball.take_faces(faces, "dome")
    return half.replace(layers=(Layer("normal", half.points.astype(np.float32), half.corner_point),))


def baked(scene, **settings):
    return zo.steps.BakeMaps(**{"size": 64, **settings}).apply(scene)


def map_of(mesh, role):
    return pixels.rgba(mesh.slots[0].textures[role].texture.read())


def directions(image):
    found = image[..., :3] / 255 * 2 - 1
    return found / np.linalg.norm(found, axis=2, keepdims=True)


def places(size, half=1.2):
    at = (np.arange(size) + 0.5) / size * 2 * half - half
    return np.meshgrid(at, -at)


@pytest.mark.checked
@pytest.mark.parametrize("mirrored", [False, True])
def test_half_a_ball_gives_its_normals_within_a_degree(mirrored):
    scene = baked(scene_of(plate(mirrored=mirrored), dome(96)), source="dome", size=128, reach=1.5)
    (mesh,) = scene.meshes
    found = directions(map_of(mesh, "normal"))
    x, y = places(128)
    x = -x if mirrored else x
    true = np.stack([-x if mirrored else x, y, np.sqrt(np.maximum(1 - x**2 - y**2, 0))], axis=2)
    inside = x**2 + y**2 < 0.98**2
    off = np.degrees(np.arccos(np.clip((found * true).sum(axis=2), -1, 1)))[inside]
    assert (off < 1).mean() > 0.99
    assert "1 source dropped" in texts(scene.notes) and "% of its pixels met nothing" in texts(scene.notes)


@pytest.mark.parametrize("world", [np.eye(4), np.diag([-1.0, 1.0, 1.0, 1.0]), np.diag([2.0, 1.0, 0.5, 1.0])])
def test_a_mesh_baked_onto_itself_stays_flat(world):
    mesh = zo.steps.Unwrap(purpose="paint", size=128).apply(scene_of(sphere(12))).meshes[0]
    smooth = zo.steps.Normals(by="smooth").apply(scene_of(mesh)).meshes[0]
    nodes = Node("ball", world, content=smooth), Node("heavy", world, content=smooth.replace(name="heavy"))
    (mesh,) = baked(scene_of(*nodes), source="heavy", size=128).meshes
    image = map_of(mesh, "normal")
    assert np.abs(image[..., :2].astype(int) - 128).max() <= 1
    assert image[..., 2].min() >= 254


def test_levels_get_maps_of_the_visible_mesh_and_may_share_them():
    scene = zo.steps.Unwrap(purpose="paint", size=128).apply(scene_of(sphere(16)))
    scene = zo.apply(scene, zo.steps.Normals(by="smooth"), zo.steps.Levels(chain="50 25"))
    heavy, *levels = baked(scene).meshes
    assert not heavy.slots[0]
    names = [level.slots[0].textures["normal"].texture.name for level in levels]
    assert names == ["ball_LOD1_normal.png", "ball_LOD2_normal.png"]
    shared = baked(scene, share=True).meshes[1:]
    assert shared[0].slots[0] is shared[1].slots[0]
    assert shared[0].slots[0].textures["normal"].texture.name == "ball_LOD1_normal.png"


def test_levels_with_islands_of_their_own_share_no_maps():
    scene = zo.apply(scene_of(sphere(16)), zo.steps.Normals(by="smooth"), zo.steps.Levels(chain="50 25"))
    scene = baked(zo.steps.Unwrap(purpose="paint", size=128).apply(scene), share=True)
    maps = {level.slots[0].textures["normal"].texture.data for level in scene.meshes[1:]}
    assert len(maps) == 2 and "than those of ball_LOD1, so that it gets maps of its own" in texts(scene.notes)


def test_levels_of_a_mesh_without_faces_have_nothing_to_bake_from():
    empty = zo.Mesh.from_faces("plate", np.zeros((0, 3)), [])
    assert "no mesh to bake onto" in texts(baked(scene_of(empty, plate(name="plate_LOD1"))).notes)


def test_colours_roughness_and_glow_are_those_of_the_source():
    squares = np.zeros((2, 2, 4), np.uint8) + 255
    squares[0, 0, :3], squares[1, 1, :3] = (255, 0, 0), (0, 0, 255)
    use = TextureUse(Texture("squares.png", data=pixels.png_of(squares)), clamp=True)
    heavy = plate(name="heavy", slots=(Material("paint", roughness=0.25, metallic=0.75, emissive=(0, 1, 0)).with_textures({"base_color": use}),))  # fmt: skip
    (mesh,) = baked(scene_of(plate(), heavy), source="heavy", maps="color metal-rough emission").meshes
    color = map_of(mesh, "base_color")
    assert [color[y, x, :3].tolist() for y, x in ((8, 8), (56, 56), (8, 56))] == [[255, 0, 0], [0, 0, 255], [255] * 3]
    assert map_of(mesh, "roughness")[9, 9, 1:3].tolist() == [64, 191]
    assert map_of(mesh, "emissive")[9, 9, :3].tolist() == [0, 255, 0]
    (material,) = mesh.slots
    assert (material.roughness, material.metallic, material.emissive) == (1.0, 1.0, (1.0, 1.0, 1.0))


def test_occlusion_is_what_a_wall_hides():
    wall = zo.Mesh.from_faces(
        "wall", [(0, -99, 0), (0, 99, 0), (0, 99, 99), (0, -99, 99)], [(0, 1, 2, 3), (3, 2, 1, 0)]
    )
    scene = baked(
        scene_of(plate(), plate(half=99, name="floor"), wall), source="floor,wall", maps="occlusion", rays=256
    )
    image = map_of(scene.meshes[0], "occlusion")[..., 0] / 255
    # Beside a wall without end, half of the light that falls on a floor is gone.
    assert image[:, 31].mean() == pytest.approx(0.5, abs=0.03)


def test_normal_maps_of_the_source_are_baked_too():
    tilted = np.full((4, 4, 4), (128 + 64, 128, 238, 255), np.uint8)
    use = TextureUse(Texture("bump.png", data=pixels.png_of(tilted)))
    heavy = plate(name="heavy", slots=(Material("bumps").with_textures({"normal": use}),))
    (mesh,) = baked(scene_of(plate(), heavy), source="heavy").meshes
    assert directions(map_of(mesh, "normal"))[9, 9] == pytest.approx([0.506, 0.004, 0.867], abs=0.012)


def test_height_goes_into_the_alpha_of_the_normal_map():
    raised = plate(name="heavy").replace(points=plate().points + (0, 0, 0.05))
    (mesh,) = baked(scene_of(plate(), raised), source="heavy", maps="normal height", reach=0.1).meshes
    assert map_of(mesh, "normal")[9, 9].tolist() == [128, 128, 255, 191]


def test_another_file_is_a_source_wherever_its_axes_and_unit_say(tmp_path):
    heavy = zo.apply(scene_of(dome(24)), zo.steps.Reframe(axes="right forward up", unit="cm"))
    zo.write(heavy, tmp_path / "dome.obj")
    scene = baked(scene_of(plate()), file=tmp_path / "dome.obj", reach=1.5, unit="cm", axes="right forward up")
    found = directions(map_of(scene.meshes[0], "normal"))[16, 40]
    x, y = (one[16, 40] for one in places(64))
    assert found == pytest.approx([x, y, np.sqrt(1 - x * x - y * y)], abs=0.03)
    assert tmp_path / "dome.obj" in scene.read_files


@pytest.mark.parametrize(
    ("scene", "settings", "said"),
    [
        (scene_of(cube(), cube(name="heavy")), {"source": "heavy"}, "no UVs without overlap.*unwrap"),
        (scene_of(plate(), Node("heavy", moved(9, 0, 0), content=cube())), {"source": "heavy"}, "lies .* m from plate"),
        (scene_of(plate()), {"source": "heavy"}, "no mesh matches source = heavy"),
        (scene_of(plate()), {"file": "gone.glb"}, "there is no such file"),
        (scene_of(plate(), plate(name="heavy")), {"source": "heavy", "set": "3"}, "no UV set '3'"),
        (scene_of(plate(), plate(name="heavy")), {"source": "heavy", "samples": 3}, "must be 1, 4, 9 or 16"),
        (scene_of(plate(), plate(name="heavy")), {"source": "heavy", "maps": "colour"}, "Did you mean 'color'"),
    ],
)
def test_what_cannot_be_baked_is_refused_with_the_way_out(scene, settings, said):
    with pytest.raises(zo.ZestyOtterError, match=said):
        baked(scene, **settings)


def test_without_levels_there_is_nothing_to_bake_onto():
    assert "levels makes some" in texts(baked(scene_of(plate())).notes)


@pytest.mark.checked
def test_the_same_looks_the_same_and_another_colour_does_not():
    gray, red = (scene_of(cube(slots=(Material("m", (*color, 1.0)),))) for color in ((0.5, 0.5, 0.5), (0.5, 0.1, 0.1)))
    assert zo.audit.appearance(gray, gray, 64).share == 0
    found = zo.audit.appearance(gray, red, 64)
    assert found.share > 0.9
    assert found.pictures.shape[1] % 3 == 0
    far = zo.audit.appearance(gray, zo.apply(gray, zo.steps.Reframe(axes="right forward up", unit="cm")), 64)
    assert far.share == 0


def test_differences_are_those_of_cielab_and_fine_patterns_blur():
    # Of two flat greys, the difference of lightness (CIE 1976): 116 times that of cube roots.
    one, other = (np.full((32, 32, 3), value, np.float32) for value in (0.2, 0.3))
    assert difference(one, other, 40).mean() == pytest.approx(116 * (0.3 ** (1 / 3) - 0.2 ** (1 / 3)), rel=1e-3)
    squares = np.indices((32, 32)).sum(axis=0) % 2 * 0.4
    pattern = np.repeat(squares[..., None].astype(np.float32), 3, axis=2)
    flat = np.full_like(pattern, 0.2)
    assert difference(pattern, flat, 200).max() < SEEN < difference(pattern, flat, 5).max()


def test_baked_maps_make_a_light_mesh_look_more_like_the_heavy_one():
    scene = zo.steps.Unwrap(purpose="paint", size=256).apply(scene_of(terrain(60)))
    scene = zo.apply(scene, zo.steps.Normals(by="smooth"), zo.steps.Levels(chain="5", limit=0.05, attribute_weight=0))

    def unlike(scene):
        heavy, level = (scene_of(Node("ground", content=mesh)) for mesh in scene.meshes)
        return zo.audit.appearance(heavy, level, 200).share

    assert unlike(baked(scene, size=256)) < 0.7 * unlike(scene)


def test_levels_by_appearance_stay_below_the_bound():
    (heavy,) = scene_of(zo.steps.Normals(by="smooth").apply(scene_of(sphere(20))).meshes[0]).meshes
    scenes = [
        zo.steps.Levels(chain="screen 0.2", by="appearance", changed=changed, limit=0.1).apply(scene_of(heavy))
        for changed in (0.02, 0.3)
    ]
    facts = [zo.steps.level_facts(scene)[0] for scene in scenes]
    assert facts[0].appearance <= 0.02 < facts[1].appearance <= 0.3
    assert heavy.triangle_count > facts[0].triangles > facts[1].triangles
    assert facts[0].screen_height == pytest.approx(0.2, rel=1e-3)
    from zesty_otter.page.report import Shown, make_parts

    said = f"{100 * facts[0].appearance:.2g} % of its pixels"
    assert said in make_parts([Shown(None, scenes[0])])[0].html
    with pytest.raises(zo.ZestyOtterError, match="needs a chain of sizes"):
        zo.steps.Levels(chain="50", by="appearance")


def test_a_target_may_bound_how_different_levels_look(tmp_path, run):
    heavy = zo.steps.Normals(by="smooth").apply(scene_of(sphere(20))).meshes[0]
    level = Node("ball_LOD1", content=cube().replace(points=cube().points * 1.4 - 0.7), role="level",
                 properties={"asset": "ball", "level": 1, "screen_height": 0.1})  # fmt: skip
    scene = scene_of(Node("ball", content=heavy), level)
    zo.write(scene, tmp_path / "a.glb")
    (tmp_path / "t.toml").write_text('extends = "m-left-up-forward"\n[limits]\nappearance = 0.05\n')
    ran = run("check", tmp_path / "a.glb", "--target", tmp_path / "t.toml")
    assert "look different at 108 pixels, 5 % are allowed" in " ".join(ran.out.split())
    zo.write(scene_of(Node("ball", content=heavy)), tmp_path / "b.glb")
    ran = run(
        "compare", tmp_path / "a.glb", tmp_path / "b.glb", "--looks", "64", "--picture", tmp_path / "x.png", "--json"
    )
    assert json.loads(ran.out)["looks"]["share"] == 0
    assert (tmp_path / "x.png").read_bytes()[:4] == b"\x89PNG"
    assert "--picture needs --looks" in run("compare", tmp_path / "a.glb", tmp_path / "b.glb", "--picture", "x.png").err


def test_pictures_show_maps_and_islands(tmp_path):
    from zesty_otter.pictures import Look, picture

    small = {"size": (160, 100), "figure": False, "words": False, "grid": False, "axes": False}
    bumps = np.random.default_rng(1).integers(60, 200, (32, 32, 4)).astype(np.uint8)
    bumps[..., 2:] = 255
    use = TextureUse(Texture("bump.png", data=pixels.png_of(bumps)))
    plain, bumpy = (scene_of(plate(slots=(Material("m").with_textures(uses),))) for uses in ({}, {"normal": use}))
    drawn = {
        (name, style): np.asarray(picture(scene, Look(style=style, view="front", **small)))
        for name, scene in (("plain", plain), ("bumpy", bumpy))
        for style in ("shaded", "maps", "islands")
    }
    assert (drawn["plain", "shaded"] == drawn["bumpy", "shaded"]).all()
    assert (drawn["plain", "maps"] != drawn["bumpy", "maps"]).any()
    stretched = plate()
    uv = stretched.uv_sets[0]
    stretched = stretched.replace(layers=(Layer("uv", uv.values * (3, 1), uv.index), *stretched.layers[1:]))
    assert (np.asarray(picture(scene_of(stretched), Look(style="islands", view="front", **small))) != drawn["plain", "islands"]).any()  # fmt: skip


def test_a_job_runs_again_when_what_is_baked_from_changes(tmp_path):
    zo.write(scene_of(plate()), tmp_path / "plate.glb")
    zo.write(scene_of(dome(8)), tmp_path / "dome.glb")
    (tmp_path / "job.toml").write_text(
        '[[sources]]\nfiles = "plate.glb"\n[[outputs]]\ntarget = "m-left-up-forward"\nfolder = "out"\n'
        'steps = ["bake-maps file=dome.glb size=32 reach=1.5m"]\n'
    )

    def states():
        return [asset.state for asset in zo.run_job(tmp_path / "job.toml", workers=1).assets]

    assert (states(), states()) == (["written"], ["unchanged"])
    zo.write(scene_of(dome(12)), tmp_path / "dome.glb")
    assert states() == ["written"]
