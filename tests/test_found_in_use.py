"""Faults that were found when the product was used in earnest, each as its user saw it."""

from __future__ import annotations

import io
import json
import os
import re

import numpy as np
import pytest
from PIL import Image

import zesty_otter as zo
from build import CUBE_FACES, ENDINGS, cube, moved, scene_of, texts
from zesty_otter import pixels
from zesty_otter.jobs import record
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse
from zesty_otter.pipeline.delivery import deliver
from zesty_otter.pixels import png_of


def lit(mesh: zo.Mesh, sign: float = 1.0) -> zo.Mesh:
    """The mesh with normals of its faces, or against them."""
    corners = mesh.points[mesh.corner_point].reshape(-1, 4, 3)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal *= sign / np.linalg.norm(normal, axis=1, keepdims=True)
    index = np.repeat(np.arange(len(normal)), 4).astype(np.int32)
    return mesh.replace(layers=(Layer("normal", normal.astype(np.float32), index),))


def read_obj(text: str) -> list[tuple[str, np.ndarray, np.ndarray]]:
    """Object, positions and normals of each face, by a reader that shares nothing with ours."""
    points, normals, faces, name = [], [], [], ""
    for line in text.split("\n"):
        word, *rest = line.split() or [""]
        if word == "o":
            name = rest[0]
        elif word in ("v", "vn"):
            (points if word == "v" else normals).append([float(number) for number in rest[:3]])
        elif word == "f":
            corners = [corner.split("/") for corner in rest]
            at = np.array([points[int(corner[0]) - 1] for corner in corners])
            faces.append((name, at, np.array([normals[int(corner[2]) - 1] for corner in corners])))
    return faces


def test_every_object_of_an_obj_file_has_its_own_normals(tmp_path):
    """Forty turned cubes: normals that were made for one place must not be taken for those of another."""
    mesh = lit(cube((1, 2, 3)))
    nodes = []
    for n in range(40):
        turn = moved(5 * n, 0, 0)
        turn[:2, :2] = [[np.cos(n), -np.sin(n)], [np.sin(n), np.cos(n)]]
        nodes.append(Node(f"box_{n}", turn @ np.diag([-1.0 if n % 2 else 1.0, 1, 1, 1]), content=mesh))
    zo.write(scene_of(*nodes), tmp_path / "a.obj")
    faces = read_obj((tmp_path / "a.obj").read_text())
    assert len(faces) == 40 * 6
    for name, at, normal in faces:
        facing = np.cross(at[1] - at[0], at[2] - at[0])
        assert (normal @ (facing / np.linalg.norm(facing)) > 0.999).all(), name


@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_after_cleaning_faces_look_the_way_their_normals_do(sign):
    """An inside-out box: normals turn with faces they agreed with, and stay where they were right already."""
    inside_out = zo.Mesh.from_faces("box", cube().points, [face[::-1] for face in CUBE_FACES])
    (mesh,) = zo.apply(scene_of(lit(inside_out, sign)), zo.steps.CleanUp()).meshes
    corners = mesh.points[mesh.corner_point].reshape(-1, 4, 3)
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    assert ((corners.mean(axis=1) - 0.5) * facing > -1e-9).all()
    normals = mesh.layers[0].at_corners(0.0).reshape(-1, 4, 3)
    assert ((normals * facing[:, None]).sum(axis=2) > 0.999).all()


def test_backs_and_decals_are_no_doubles():
    """A card with a back, a decal on it, and one face that really is there twice."""
    square = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
    faces = [[0, 1, 2, 3], [3, 2, 1, 0], [0, 1, 2, 3], [1, 2, 3, 0]]
    mesh = zo.Mesh.from_faces("card", np.array(square, float), faces).replace(
        slots=(Material("net"), Material("decal", roughness=0.2)), face_slot=np.array([0, 0, 1, 0], np.int32)
    )
    done = zo.apply(scene_of(mesh), zo.steps.CleanUp(orient="keep"))
    assert done.meshes[0].face_count == 3
    said = texts(done.notes)
    assert "dropped 1 duplicate face" in said
    assert "2 faces on top of others, but facing the other way or of another material; kept" in said


@pytest.mark.parametrize("ending", ["glb", "obj", "dae", "x3d", "usda"])
def test_collision_of_an_artist_may_have_a_material(tmp_path, ending):
    solid = cube(name="crate_collision").replace(
        slots=(Material("red"), Material("blue")), face_slot=np.array([0, 1, 0, 1, 0, 1], np.int32)
    )
    scene = scene_of(Node("crate", content=cube(name="crate")), Node("crate_collision", content=solid))
    done = zo.apply(scene, zo.steps.Roles(), zo.steps.Collision())
    zo.write(done, tmp_path / f"crate.{ending}")
    again = zo.apply(zo.read(tmp_path / f"crate.{ending}"), zo.steps.Roles())
    kept = [node.drawn for node in (one.node for one in again.walk()) if node.role == "collision"]
    assert len(kept) == 1
    assert not any(kept[0].slots)


def test_all_that_hangs_below_an_asset_goes_to_the_origin_with_it():
    socket = Node("socket", moved(0, 2, 0), (Node("lamp", moved(0, 0.5, 0)),))
    door = Node("door", moved(5, 0, 3), (socket,), content=cube())
    done = zo.apply(scene_of(door), zo.steps.Pivot(at="base", place="origin"))
    places = {one.node.name: one.world[:3, 3].tolist() for one in done.walk()}
    assert places == {"door": [0, 0, 0], "socket": [-0.5, 2, -0.5], "lamp": [-0.5, 2.5, -0.5]}


def test_normals_by_groups_that_are_not_there_are_kept_and_said():
    mesh = cube()
    smooth = mesh.replace(layers=(Layer("normal", np.ones((1, 3), np.float32) / np.float32(3**0.5),
                                        np.zeros(24, np.int32)),))  # fmt: skip
    done = zo.apply(scene_of(smooth), zo.steps.Normals(by="groups"))
    assert np.array_equal(done.meshes[0].normals.at_corners(0.0), smooth.normals.at_corners(0.0))
    assert "1 mesh without smoothing groups; normals are kept" in texts(done.notes)


@pytest.mark.parametrize("data", [b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 9 9\n", b"P6\n1 1\n255\nabc"])
def test_images_of_other_kinds_are_not_opened(data):
    with pytest.raises(pixels.ImageError, match="is not an image of a known kind"):
        pixels.inspect(data)


def test_a_fault_of_the_program_ends_one_asset_and_not_the_job(tmp_path, run, monkeypatch):
    for name in ("good", "bad"):
        zo.write(scene_of(cube(name=name)), tmp_path / f"{name}.glb")
    (tmp_path / "job.toml").write_text('[[sources]]\nfiles = "*.glb"\nsteps = ["weld"]\n[[outputs]]\n')
    weld = zo.steps.Weld.change

    def broken(self, scene):
        if scene.meshes[0].name == "bad":
            raise IndexError("index 7 is out of bounds")
        return weld(self, scene)

    monkeypatch.setattr(zo.steps.Weld, "change", broken)
    done = run("run", tmp_path / "job.toml", "--workers", 1)
    assert done.status == 3
    assert (tmp_path / "ready" / "good.glb").exists() and not (tmp_path / "ready" / "bad.glb").exists()
    assert (
        "failed by a fault of the program (IndexError). Please report it with" in " ".join(done.out.split()) + done.err
    )
    alone = run("convert", tmp_path / "bad.glb", tmp_path / "out.glb", "--weld", "1mm")
    assert alone.status == 3
    assert "failed by a fault of the program (IndexError)" in alone.err and "Traceback" not in alone.err


def test_flat_faces_with_constant_normals_merge():
    """A plane of 100 quads whose normals differ in their last bits, turned so that no number is round."""
    y, x = np.mgrid[0:11, 0:11]
    points = np.stack([x, y, 0 * x], -1).reshape(-1, 3) @ np.linalg.qr([[1, 2, 3], [2, 1, 1], [1, 1, 4.0]])[0]
    a = (np.arange(10)[:, None] * 11 + np.arange(10)).ravel()
    mesh = zo.Mesh.from_faces("plane", points, np.stack([a, a + 1, a + 12, a + 11], 1).tolist())
    normal = np.cross(points[1] - points[0], points[11] - points[0])
    normals = np.tile(normal / np.linalg.norm(normal), (400, 1)).astype(np.float32)
    normals += np.random.default_rng(0).uniform(-1e-7, 1e-7, normals.shape).astype(np.float32)
    mesh = mesh.replace(layers=(Layer("normal", normals, np.arange(400, dtype=np.int32)),))
    assert zo.apply(scene_of(mesh), zo.steps.MergeFlat()).meshes[0].face_count == 1


def test_a_pivot_keeps_instances_together():
    mesh = cube((0.3, 0.7, 1.1))
    nodes = [Node(f"post_{n}", moved(n / 3, 0, n / 7), content=mesh) for n in range(100)]
    assert len(zo.apply(scene_of(*nodes), zo.steps.Pivot(at="base")).meshes) == 1


@pytest.mark.parametrize(("said", "metres"), [("inch", 0.0254), ("meters", 1), ("yd", 0.9144), ("Feet", 0.3048)])
def test_units_may_be_written_out(said, metres):
    assert zo.Frame("left up forward", said).unit == pytest.approx(metres)
    assert zo.steps.Scale(height=f"2 {said}").height == pytest.approx(2 * metres)


@pytest.mark.parametrize("said", ["collada", "dae", ".dae"])
def test_formats_of_a_job_go_by_name_or_ending(tmp_path, run, said):
    zo.write(scene_of(cube()), tmp_path / "a.glb")
    (tmp_path / "job.toml").write_text(f'[[sources]]\nfiles = "a.glb"\n[[outputs]]\nformats = ["{said}"]\n')
    assert run("run", tmp_path / "job.toml").status == 0
    assert (tmp_path / "ready" / "a.dae").exists()


def test_uv_sets_are_not_lost_without_a_word():
    layers = tuple(
        Layer("uv", np.zeros((1, 2), np.float32), np.zeros(24, np.int32), name) for name in ("base", "light")
    )
    image = Texture("net.png", data=png_of(np.zeros((2, 2, 4), np.uint8)))
    net = Material("net").with_textures({"base_color": TextureUse(image, uv_set=1)})
    scene = scene_of(cube().replace(layers=layers, slots=(net,)))
    none = zo.apply(scene, zo.steps.UvSets(keep=("paint*",)))
    assert len(none.meshes[0].uv_sets) == 2 and "no UV set fits keep = paint*; its sets are kept" in texts(none.notes)
    first = zo.apply(scene, zo.steps.UvSets(keep=("base",)))
    assert "textures of 'net' used UV set 1, which is gone; they are on set 0 now" in texts(first.notes)


def test_a_folder_of_textures_that_is_not_there_is_an_error(tmp_path, run):
    zo.write(scene_of(cube()), tmp_path / "a.glb")
    done = run("convert", tmp_path / "a.glb", tmp_path / "b.glb", "--textures-from", tmp_path / "maps")
    assert done.status == 3 and "maps: is not a folder." in done.err


@pytest.mark.parametrize("target", ["cm-forward-right-up", "own.toml"])
def test_convert_for_a_target_writes_what_a_job_for_it_writes(tmp_path, run, kit, target):
    own = 'triangulate = false\nlongest_name = 12\ndrop = ["kind:light", "role:marker"]\nformats = ["dae", "obj"]\n'
    own += '[names]\nvisible = "p_{name}"\ncollision = "hit_{name}_{n}"\n[limits]\ntexture_size = 64\n'
    own += '[textures]\npower_of_two = true\nnormal_green = "down"\n[frame]\naxes = "right forward up"\nunit = "cm"\n'
    (tmp_path / "own.toml").write_text(own)
    chosen = tmp_path / target if target.endswith(".toml") else target
    endings = ["obj", "glb", "gltf", "dae", "usda", "usdz", "x3d", "ply", "stl"]
    done_before: set[str] = set()
    for piece, model in kit:
        lines = [f'target = "{chosen}"', "report = false", "[[sources]]", f'files = "{model}"']
        lines += [f'{key} = "{said}"' for key, said in (("unit", piece.unit), ("axes", piece.axes)) if said]
        (tmp_path / "job.toml").write_text("\n".join([*lines, "[[outputs]]", f"formats = {endings}"]))
        assert run("run", tmp_path / "job.toml").status == 0
        said = [one for key in ("unit", "axes") if (word := getattr(piece, key)) for one in (f"--{key}", word)]
        (stem,) = {one.stem for one in (tmp_path / "ready").glob("*.glb")} - done_before
        done_before.add(stem)
        for ending in endings:
            done = run("convert", model, tmp_path / "one" / f"{stem}.{ending}", *said, "--target", chosen)
            assert done.status == 0, done.err
        files = [one for one in (tmp_path / "one").rglob("*") if one.is_file()]
        for one in files:
            other = tmp_path / "ready" / one.relative_to(tmp_path / "one")
            assert one.read_bytes() == other.read_bytes(), one.name
        assert len(files) >= len(endings)


def split_cube(gap: float) -> zo.Mesh:
    """A cube whose top has points of its own, a gap above those of its sides."""
    points = np.concatenate([cube().points, cube().points[4:] + (0, 0, gap)])
    return zo.Mesh.from_faces("box", points, [[c + 4 for c in f] if f == CUBE_FACES[1] else f for f in CUBE_FACES])


@pytest.mark.parametrize(("scale", "gap", "welded"), [(100, 5e-5, False), (100, 5e-7, True), (0.01, 5e-3, True)])
def test_lengths_are_those_of_the_world_whatever_the_scale_of_a_node(scale, gap, welded):
    """0.1 mm on a node that is scaled up or down; the mirror must not matter."""
    turn = np.diag([scale, -scale, scale, 1.0])
    node = Node("box", turn, content=split_cube(gap))
    done = zo.apply(scene_of(Node("above", moved(3, 0, 0), (node,))), zo.steps.Weld(distance="0.1mm"))
    assert (done.meshes[0].point_count == 8) is welded
    hole = zo.Mesh.from_faces("open", cube().points, CUBE_FACES[1:])
    outline = 4 * scale
    for length, closed in ((outline * 1.01, True), (outline * 0.99, False)):
        mended = zo.apply(scene_of(Node("open", turn, content=hole)), zo.steps.CleanUp(close_holes=length))
        assert (mended.meshes[0].face_count == 6) is closed


def test_a_mesh_at_several_scales_takes_the_strictest_and_says_so():
    mesh = split_cube(5e-5)
    done = zo.apply(scene_of(Node("a", content=mesh), Node("b", np.diag([9.0, 9, 9, 1]), content=mesh)),
                    zo.steps.Weld(distance="0.1mm"))  # fmt: skip
    assert done.meshes[0].point_count == 12
    done = zo.apply(scene_of(Node("a", content=mesh), Node("b", np.diag([1.5, 1, 1, 1]), content=mesh)),
                    zo.steps.Weld(distance="0.1mm"))  # fmt: skip
    assert "shown at several scales, lengths are those where it is largest: box" in texts(done.notes)


def test_size_is_of_what_is_seen(tmp_path, run):
    """A door of 2 m with a taller collision, a marker above it and a lamp post that is hidden."""
    door = Node("door", content=cube((1, 2, 0.1)))
    rest = [Node("door_collision_1", content=cube((1, 3, 0.2), "door_collision_1")),
            Node("door_marker", moved(0, 9, 0), content=cube()), Node("post", content=cube((1, 8, 1)), visible=False)]  # fmt: skip
    zo.write(scene_of(door, *rest), tmp_path / "door.usda")
    said = run("survey", tmp_path / "door.usda", "--json").json
    done = run("convert", tmp_path / "door.usda", tmp_path / "out.glb", "--height", "1m", "--json").json
    assert said["size"] == pytest.approx([1, 2, 0.1])
    assert done["size"] == pytest.approx([0.5, 1, 0.05])
    assert done["facts"]["seen_triangles"] == 12
    (tmp_path / "job.toml").write_text('[[sources]]\nfiles = "door.usda"\n[[outputs]]\nformats = ["glb", "obj"]\n')
    ran = run("run", tmp_path / "job.toml", "--json").json
    assert [one["size"] for one in ran["assets"][0]["files"]] == [pytest.approx([1, 2, 0.1])] * 2


@pytest.mark.parametrize("ending", ["dae", "usda", "x3d"])
@pytest.mark.parametrize("axes", ["left up forward", "left back up", "up right forward", "right forward up"])
def test_axes_that_are_asked_for_are_written_or_refused(tmp_path, run, ending, axes):
    """A tall box; where a file names its up axis, it lies along the axis that was asked for."""
    zo.write(scene_of(cube((1, 5, 2))), tmp_path / "a.glb")
    done = run("convert", tmp_path / "a.glb", tmp_path / f"b.{ending}", "--to-axes", axes)
    can = {"dae": 3, "usda": 2, "x3d": 1}[ending]
    if ["left up forward", "left back up", "up right forward", "right forward up"].index(axes) >= can:
        assert done.status == 2 and f"a .{ending} file can only have the axes 'left up forward'" in done.err
        assert not (tmp_path / f"b.{ending}").exists()
    else:
        scene = zo.read(tmp_path / f"b.{ending}")
        assert " ".join(scene.frame.axes) == axes
        assert np.argmax(np.diff(scene.bounds(), axis=0)) == axes.split().index("up")


@pytest.mark.parametrize("ending", ["glb", "usda", "x3d", "obj", "dae", "ply", "stl"])
def test_hidden_nodes_stay_hidden_or_are_left_out_and_said(tmp_path, run, ending):
    below = Node("flag", content=cube(name="flag"))
    scene = scene_of(Node("gate", content=cube(name="gate")), Node("mast", moved(0, 9, 0), (below,), visible=False))
    zo.write(scene, tmp_path / "a.usda")
    for options, kept in (([], False), (["--keep", "hidden"], True), (["--drop", "hidden"], None)):
        done = run("convert", tmp_path / "a.usda", tmp_path / f"b.{ending}", *options)
        assert done.status == 0
        there = zo.read(tmp_path / f"b.{ending}", "m")
        tall = bool(there.bounds().max() > 5)
        if kept is None:
            assert not tall
        elif ending in ("glb", "usda", "x3d"):
            assert tall and [one.node.name for one in there.walk() if not one.visible] == ["mast", "flag"]
        else:
            assert tall is kept
            assert ("left out 1 hidden node: flag" in done.err) is not kept
            assert ("written visible, 1 hidden node: flag" in done.err) is kept


@pytest.mark.parametrize("case", ["lower", "snake", "upper", "kebab", "pascal", "camel"])
def test_a_case_for_names_leaves_roles_as_they_are(case):
    names = ["HarbourGate", "HarbourGate_LOD1", "HarbourGate_LOD2", "HarbourGate_collision_1", "HarbourGate_shadow"]
    scene = zo.apply(scene_of(*(Node(name, content=cube(name=name)) for name in names)), zo.steps.Roles())
    done = zo.apply(scene, zo.steps.Names(case=case, template="the_{name}"))
    again = zo.apply(scene_of(*(Node(one.node.name, content=cube()) for one in done.walk())), zo.steps.Roles())
    assert [one.node.role for one in again.walk()] == ["visible", "level", "level", "collision", "shadow"]
    assert {one.node.properties["asset"] for one in again.walk() if one.node.role != "visible"} == {again.roots[0].name}


def test_names_after_two_steps_are_undone_to_the_first(tmp_path):
    scene = scene_of(Node("Tür", content=cube(name="Tür")), Node("b", content=cube(name="b")))
    done = zo.apply(scene, zo.steps.Names(), zo.steps.Names(case="upper", template="x_{name}"))
    assert {(one.kind, one.old, one.new) for one in done.renamed if one.kind == "node"} == {
        ("node", "Tür", "X_TUER"), ("node", "b", "X_B"),
    }  # fmt: skip
    (tmp_path / "names.csv").write_text(zo.steps.names.table_text(done.renamed))
    back = zo.apply(done, zo.steps.Names(table=tmp_path / "names.csv", undo=True))
    assert [one.node.name for one in back.walk()] == ["Tür", "b"]


def test_tangents_follow_the_set_of_the_normal_map_and_authored_ones_stay():
    """Set 0 runs along x, set 1 along y: a tangent on set 1 points up."""
    square = zo.Mesh.from_faces("s", [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2, 3]])
    flat = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)
    uvs = tuple(Layer("uv", values, np.arange(4)) for values in (flat, flat[:, ::-1]))
    bumps = Material("m", textures={"normal": TextureUse(Texture("n.png", data=b"n"), uv_set=1)})
    mesh = square.replace(layers=uvs, slots=(bumps,))
    made = zo.apply(scene_of(mesh), zo.steps.Tangents()).meshes[0]
    assert np.allclose(made.layers_of("tangent")[0].at_corners()[:, :3], [0, 1, 0])
    own = mesh.replace(layers=(*uvs, Layer("tangent", [[0, 0, 1, 1]], [0] * 4)))
    kept = zo.apply(scene_of(own), zo.steps.Tangents())
    assert np.allclose(kept.meshes[0].layers_of("tangent")[0].at_corners()[:, 2], 1)
    assert "tangents of 1 mesh were there already; kept" in texts(kept.notes)
    anew = zo.apply(scene_of(own), zo.steps.Tangents(existing="replace")).meshes[0]
    assert np.allclose(anew.layers_of("tangent")[0].at_corners()[:, :3], [0, 1, 0])


@pytest.mark.parametrize("ending", ["glb", "gltf", "dae", "usda", "usdz", "obj"])
def test_names_of_uv_sets_and_their_places_come_along(tmp_path, ending):
    layers = tuple(Layer("uv", np.eye(2) * k, np.arange(24) % 2, name) for k, name in enumerate(("skin", "Licht 2"), 1))
    more = cube(name="b").replace(layers=(Layer("uv", np.eye(2), np.arange(24) % 2, "other"),))
    zo.write(scene_of(cube(name="a").replace(layers=layers), more), tmp_path / f"a.{ending}")
    again = zo.read(tmp_path / f"a.{ending}")
    expected = [["skin", "Licht 2"][: 1 if ending == "obj" else 2], ["other"]]
    assert [[one.name for one in mesh.uv_sets] for mesh in again.meshes] == expected
    assert again.meshes[0].uv_sets[-1].values.max() == len(expected[0])
    assert not any(mesh.properties for mesh in again.meshes)


@pytest.mark.parametrize("ending", ["obj", "ply"])
def test_a_file_of_ours_says_its_axes_and_unit(tmp_path, run, ending):
    zo.write(scene_of(cube((1, 2, 3)), axes="forward right up", unit="in"), tmp_path / f"a.{ending}")
    again = zo.read(tmp_path / f"a.{ending}")
    assert again.frame == zo.Frame("forward right up", "in")
    assert "assumed" not in texts(again.notes)
    assert zo.read(tmp_path / f"a.{ending}", "cm", "left up forward").frame == zo.Frame("left up forward", "cm")
    assert run("convert", tmp_path / f"a.{ending}", tmp_path / "b.glb").status == 0


def painted_box() -> zo.Scene:
    """A box with all that can differ at a corner: normals, UVs, colours, two materials, a texture."""
    mesh = lit(cube((1, 2, 3), "box"))
    rng = np.random.default_rng(4)
    layers = (*mesh.layers, Layer("uv", rng.random((24, 2)), np.arange(24)),
              Layer("color", rng.random((24, 3)), np.arange(24)))  # fmt: skip
    image = Texture("wood.png", data=png_of(np.full((2, 2, 4), 90, np.uint8)))
    wood = Material("wood", roughness=0.4, textures={"base_color": TextureUse(image)})
    mesh = mesh.replace(layers=layers, slots=(wood, Material("iron", metallic=1.0)), face_slot=np.arange(6) % 2)
    return scene_of(Node("post"), Node("box", moved(5, 0, 0), content=mesh))


def with_mesh(scene: zo.Scene, **changes) -> zo.Scene:
    return scene.map_meshes(lambda mesh: mesh.replace(**changes))


def with_layer(scene: zo.Scene, kind: str, change) -> zo.Scene:
    def layers(mesh):
        return tuple(
            Layer(one.kind, change(one.values.copy()), one.index) if one.kind == kind else one for one in mesh.layers
        )

    return scene.map_meshes(lambda mesh: mesh.replace(layers=layers(mesh)))


def put(values: np.ndarray, row: int, add: float) -> np.ndarray:
    values[row] += add
    return values


def without_textures(scene: zo.Scene) -> zo.Scene:
    return scene.map_materials(lambda one: one.with_textures({}))


TAMPERED = {
    "normals": (lambda one: with_layer(one, "normal", lambda values: -values), "normals differ by up to 180°", "normals differ by up to 180°"),
    "UVs": (lambda one: with_layer(one, "uv", lambda values: put(values, 7, 0.25)), r"UV set 0: differs by up to 0.25, at \(5, 2, 3\) m", "UV set 0: differs by up to 0.25"),
    "no UVs": (lambda one: with_layer(one, "uv", np.zeros_like), "UV set 0: differs", "UV set 0: differs"),
    "colours": (lambda one: with_layer(one, "color", lambda values: 1 - values), "vertex colour 0: differs", "vertex colour 0: differs"),
    "a corner": (lambda one: with_mesh(one, points=put(one.meshes[0].points.copy(), 7, 1e-3)), "positions differ by up to 0.00173 m|bounds", ""),
    "winding": (lambda one: one.map_meshes(lambda mesh: mesh.turned_round(np.arange(6) == 3)), "2 faces face the other way", "2 faces face the other way"),
    "materials": (lambda one: with_mesh(one, face_slot=(np.arange(6) + 1) % 2), "of another material: '(wood|iron)' became", "of another material"),
    "textures": (without_textures, None, "wood: textures base colour became none"),
    "roughness": (lambda one: one.map_materials(lambda m: zo.Material(m.name, m.base_color, m.metallic, 0.9, textures=m.textures)), "'wood': roughness 0.9 became 0.4", "wood: roughness 0.4 became 0.9"),
    "image": (lambda one: one.map_materials(lambda m: m.with_textures({r: TextureUse(Texture("x.png", data=png_of(np.zeros((2, 2, 4), np.uint8)))) for r in m.textures})), None, "wood: base colour image changed"),
    "pivot": (lambda one: with_mesh(one, points=one.meshes[0].points + (5, 0, 0)).map_nodes(lambda node: Node(node.name, content=node.content)), None, "pivot: moved by 5 m"),
}  # fmt: skip


@pytest.mark.parametrize("what", list(TAMPERED))
def test_arrival_and_compare_see_what_differs_at_a_corner(tmp_path, run, what):
    change, arrival, comparison = TAMPERED[what]
    scene = painted_box()
    changed = change(scene)
    zo.write(scene, tmp_path / "a.glb")
    assert zo.audit.arrived(scene, tmp_path / "a.glb").problems == ()
    if arrival is not None:
        assert re.search(arrival, "; ".join(zo.audit.arrived(changed, tmp_path / "a.glb").problems))
    zo.write(scene, tmp_path / "a.usda")
    zo.write(changed, tmp_path / "b.glb")
    assert run("compare", tmp_path / "a.usda", tmp_path / "a.glb").status == 0
    done = run("compare", tmp_path / "a.usda", tmp_path / "b.glb", "--json")
    assert done.status == 1
    said = [*done.json["materials"], *(text for node in done.json["nodes"] for text in node["changes"])]
    assert comparison in "; ".join(said)


def test_a_texture_that_did_not_arrive_is_a_problem(tmp_path):
    scene = painted_box()
    zo.write(without_textures(scene), tmp_path / "a.glb")
    assert "material 'wood' lacks its texture for base_color" in zo.audit.arrived(scene, tmp_path / "a.glb").problems


def a_job(folder, name="job", **texts: str) -> None:
    """A job over a cube called crate, with further files beside it."""
    zo.write(scene_of(cube(name="crate")), folder / "crate.glb")
    (folder / f"{name}.toml").write_text('[[sources]]\nfiles = "crate.glb"\n[[outputs]]\nformats = "obj"\n')
    for path, text in texts.items():
        (folder / path).write_text(text)


def test_an_output_edited_by_hand_is_said_and_not_called_as_meant(tmp_path, run):
    a_job(tmp_path)
    assert run("run", tmp_path / "job.toml").status == 0
    out = tmp_path / "ready" / "crate.obj"
    out.write_text(out.read_text() + "# mine\n")
    done = run("run", tmp_path / "job.toml")
    assert done.status == 1
    assert "as meant" not in done.out and "edited by hand" in " ".join((done.out + done.err).split())
    assert out.read_text().endswith("# mine\n")
    assert run("run", tmp_path / "job.toml", "--replace-edited").status == 0
    assert "# mine" not in out.read_text()


def test_two_jobs_in_one_folder_leave_each_other_alone(tmp_path, run):
    a_job(tmp_path)
    a_job(tmp_path, "other")
    (tmp_path / "other.toml").write_text((tmp_path / "other.toml").read_text().replace('"obj"', '"glb"'))
    for name in ("job", "other", "job", "other"):
        assert run("run", tmp_path / f"{name}.toml").status == 0
    there = sorted(path.name for path in (tmp_path / "ready").iterdir())
    assert there == [".job.report", ".other.report", "arrivals.jsonl", "crate.glb", "crate.obj", "job.record",
                     "other.arrivals.jsonl", "other.record", "other.report.html", "report.html"]  # fmt: skip
    (tmp_path / "other.toml").write_text(
        (tmp_path / "other.toml")
        .read_text()
        .replace("[[outputs]]", "steps = ['scale factor=2']\n[[outputs]]")
        .replace('"glb"', '"obj"')
    )
    before = (tmp_path / "ready" / "crate.obj").read_bytes()
    done = run("run", tmp_path / "other.toml")
    assert done.status == 4 and "crate.obj: is there already and was made by the job 'job'" in done.err
    assert (tmp_path / "ready" / "crate.obj").read_bytes() == before


def test_files_that_no_run_made_are_not_written_over(tmp_path, run):
    a_job(tmp_path)
    (tmp_path / "ready").mkdir()
    (tmp_path / "ready" / "crate.obj").write_text("mine")
    done = run("run", tmp_path / "job.toml")
    assert done.status == 4 and "was not made by this job" in done.err and "--replace-foreign" in done.err
    assert (tmp_path / "ready" / "crate.obj").read_text() == "mine"
    assert run("run", tmp_path / "job.toml", "--replace-foreign").status == 0
    assert run("run", tmp_path / "job.toml").status == 0


def test_a_run_killed_before_its_record_knows_its_own_files(tmp_path, run, monkeypatch):
    """The file is in its place and the record is not written: the next run goes on, and calls nobody a forger."""
    a_job(tmp_path)
    assert run("run", tmp_path / "job.toml").status == 0
    zo.write(scene_of(cube((2, 2, 2), "crate")), tmp_path / "crate.glb")
    monkeypatch.setattr(record.Record, "commit", lambda self: os._exit(9))
    if os.fork() == 0:
        zo.jobs.run_job(tmp_path / "job.toml")
        os._exit(0)
    assert os.WEXITSTATUS(os.wait()[1]) == 9
    monkeypatch.undo()
    done = run("run", tmp_path / "job.toml")
    assert done.status == 0 and "edited by hand" not in done.err
    assert not (tmp_path / "ready" / ".job.journal").exists()
    assert zo.read(tmp_path / "ready" / "crate.obj", "m").bounds()[1].tolist() == [2, 2, 2]


OWN_NAMES = (
    'formats = ["{ending}"]\n[names]\nvisible = "P_{{name}}"\nlevel = "{{name}}.L{{level}}"\ncollision = "hit-{{name}}-{{n}}"\n'
    '[limits]\nfooting = "1cm"\n[require]\ncollision = true\nlevels = 1\n'
)


@pytest.mark.parametrize("ending", ["glb", "usda", "dae", "obj"])
def test_roles_travel_to_a_target_with_names_of_its_own(tmp_path, run, ending):
    """Made for the target, the file is known again by check, rehearse and survey; collision 80 cm off is said."""
    (tmp_path / "t.toml").write_text(OWN_NAMES.format(ending=ending))
    steps = cube((4, 1, 1), "steps")
    zo.write(scene_of(Node("ramp", content=steps)), tmp_path / "a.glb")
    made = run("convert", tmp_path / "a.glb", tmp_path / f"b.{ending}", "--target", tmp_path / "t.toml",
               "--levels", "50", "--step", "collision shape=box", "--pivot", "base")  # fmt: skip
    assert made.status == 0, made.err
    names = {one.node.name for one in zo.read(tmp_path / f"b.{ending}").walk()}
    assert names == {"P_ramp", "hit-ramp-1"} | ({"ramp.L1"} if len(names) == 3 else set())
    (tmp_path / "t2.toml").write_text(OWN_NAMES.format(ending=ending).replace("levels = 1", "levels = 0"))
    words = ["--target", tmp_path / "t2.toml", *(["--unit", "m"] if ending == "obj" else [])]
    found = run("check", tmp_path / f"b.{ending}", *words, "--json").json["findings"]
    assert not {one["rule"] for one in found} & {"collision-missing", "name-template", "copies", "level-doubled"}
    assert run("rehearse", tmp_path / f"b.{ending}", *words[:2]).status == 0
    far = zo.apply(zo.read(tmp_path / f"b.{ending}", "m"), zo.steps.Reframe(unit="m"))
    off = far.rebuilt(
        lambda n, node: (
            Node(node.name, moved(0, -0.8, 0), (), node.content, role=node.role) if "hit" in node.name else node
        )
    )
    zo.write(off, tmp_path / f"c.{ending}")
    done = run("rehearse", tmp_path / f"c.{ending}", *words[:2])
    assert done.status == 1 and "feet would sink by 80 cm, 1 cm are allowed" in " ".join((done.out + done.err).split())


@pytest.mark.parametrize("ending", ["glb", "usda", "dae"])
@pytest.mark.parametrize("role", ["collision", "shadow", "level", "bounds", "marker", "stand-in"])
def test_roles_are_kept_whatever_the_names(tmp_path, ending, role):
    scene = scene_of(Node("a", content=cube(name="a")), Node("other", content=cube(name="b"), role=role))
    zo.write(scene, tmp_path / f"a.{ending}")
    again = {one.node.name: one.node for one in zo.read(tmp_path / f"a.{ending}").walk()}
    assert again["other"].role == role and "role" not in again["other"].properties
    assert again["a"].role == "visible"


def ball(name: str, n: int = 24) -> zo.Mesh:
    """A ball of radius 1 with 2 n^2 quads, poles left open by a hair."""
    v, u = np.mgrid[0.02 : np.pi - 0.02 : (n + 1) * 1j, 0 : 2 * np.pi : (2 * n + 1) * 1j]
    points = np.stack([np.sin(v) * np.cos(u), np.cos(v), np.sin(v) * np.sin(u)], -1)[:, :-1].reshape(-1, 3)
    a = np.arange(n)[:, None] * 2 * n + np.arange(2 * n)
    b = np.arange(n)[:, None] * 2 * n + (np.arange(2 * n) + 1) % (2 * n)
    return zo.Mesh.from_faces(name, points, np.stack([a, b, b + 2 * n, a + 2 * n], -1).reshape(-1, 4).tolist())


def test_a_joined_asset_has_whole_levels_with_true_measures(tmp_path, run):
    """A buoy with a plank, which gets no lighter: every level has both, and says by how much it is off."""
    zo.write(scene_of(Node("buoy", content=ball("buoy")), Node("plank", moved(3, 0, 0), content=cube((4, 0.1, 1), "plank"))),
             tmp_path / "a.glb")  # fmt: skip
    (tmp_path / "job.toml").write_text(
        'steps = ["normals by=smooth", "levels chain=[50,20]", "collision shape=box", "shadow"]\n[[sources]]\nfiles = "a.glb"\n'
        '[[outputs]]\nmeshes = "joined"\ntarget = "m-left-up-forward"\n'
    )
    done = run("run", tmp_path / "job.toml")
    assert done.status == 0, done.out + done.err
    nodes = {one.node.name: one for one in zo.read(tmp_path / "ready" / "a.glb").walk()}
    assert {name: one.node.role for name, one in nodes.items()} == {
        "a": "visible", "a_LOD1": "level", "a_LOD2": "level", "a_shadow": "shadow",
        "a_collision_1": "collision", "a_collision_2": "collision",
    }  # fmt: skip
    whole = nodes["a"].node.mesh
    for name in ("a_LOD1", "a_LOD2"):
        light = nodes[name].node.mesh
        assert np.allclose(np.ptp(light.points, axis=0)[0], 8, atol=0.4)
        # Far points of the whole are no farther from the points of the level than it says, plus its own edges.
        says = nodes[name].node.properties["deviation"]
        middle = light.points[light.corner_point].reshape(-1, 3, 3).mean(axis=1)
        places = np.concatenate([light.points, middle])
        away = np.min(np.linalg.norm(whole.points[:, None] - places[None], axis=2), axis=1)
        ball_only = np.linalg.norm(whole.points, axis=1) < 1.01
        assert 0.2 * says < away[ball_only].max() < says + 0.6
        assert {one.node.properties.get("asset") for one in nodes.values()} <= {None, "a"}


def test_levels_that_are_cut_stay_levels(tmp_path, run):
    """Cut for 16-bit indices, through a format that knows roles by names only."""
    (tmp_path / "t.toml").write_text('formats = ["obj"]\n[limits]\nindex_bits = 16\n')
    zo.write(scene_of(ball("dome", 135)), tmp_path / "a.glb")
    done = run("convert", tmp_path / "a.glb", tmp_path / "b.obj", "--target", tmp_path / "t.toml", "--levels", "60")
    assert done.status == 0, done.err
    scene = zo.apply(zo.read(tmp_path / "b.obj"), zo.steps.Roles())
    roles = {one.node.name: one.node.role for one in scene.walk()}
    assert len(roles) > 4 and list(roles.values()).count("level") >= 2
    assert all((role == "level") is name.endswith("_LOD1") for name, role in roles.items())
    assert (
        run("convert", tmp_path / "a.glb", tmp_path / "b.glb", "--target", tmp_path / "t.toml", "--levels", "60").status
        == 0
    )
    again = zo.read(tmp_path / "b.glb")
    assert {one.node.role for one in again.walk() if one.node.mesh and "LOD" in one.node.name} == {"level"}
    assert "level-doubled" not in {one["rule"] for one in run("check", tmp_path / "b.glb", "--json").json["findings"]}


def of_shadow(scene: zo.Scene) -> dict[str, np.ndarray]:
    """The sides of every shadow mesh in the world."""
    return {
        one.node.name: np.ptp(one.node.mesh.points @ one.world[:3, :3].T, axis=0)
        for one in scene.walk() if one.node.role == "shadow"
    }  # fmt: skip


@pytest.mark.parametrize("scale", [(1, 1, 1), (100, 100, 100), (0.01, 0.01, 0.01), (2, -0.5, 1)])
def test_a_shadow_is_pulled_in_by_the_length_that_is_asked(scale):
    """Posts and beams in the world, whatever the scale of their node; a twelve-sided post keeps its volume."""
    angle = np.arange(12) * np.pi / 6
    ring = np.stack([np.cos(angle), 0 * angle, np.sin(angle)], 1) * 0.05
    faces = [list(range(12)), [12 + k for k in range(11, -1, -1)]]
    faces += [[k, 12 + k, 12 + (k + 1) % 12, (k + 1) % 12] for k in range(12)]
    post = zo.Mesh.from_faces("post", np.concatenate([ring, ring + (0, 2, 0)]), faces)
    turn = np.diag([*scale, 1.0])
    unscaled = np.linalg.inv(turn)
    beam = cube((3, 0.2, 0.1), "beam")
    nodes = [
        Node(mesh.name, turn, content=mesh.replace(points=mesh.points @ unscaled[:3, :3].T)) for mesh in (post, beam)
    ]
    if np.prod(scale) < 0:
        nodes = [Node(one.name, one.transform, content=one.content.turned_round()) for one in nodes]
    sides = of_shadow(zo.apply(scene_of(*nodes), zo.steps.Shadow(inward="1cm", share=1)))
    assert np.allclose(sides["beam_shadow"], [2.98, 0.18, 0.08], atol=1e-6)
    inner = 0.05 * np.cos(np.pi / 12) - 0.01  # of the circle within the ring
    assert np.allclose(
        sides["post_shadow"], [2 * inner / np.cos(np.pi / 12), 1.98, 2 * inner / np.cos(np.pi / 12)], atol=1e-6
    )


def test_a_lighter_shadow_keeps_its_volume_and_thin_things_are_pulled_in_less():
    done = zo.apply(scene_of(ball("buoy"), cube((2, 0.03, 1), "thwart")), zo.steps.Shadow(inward="2cm"))
    kept = {one.node.name: one.node.properties for one in done.walk() if one.node.role == "shadow"}
    assert kept["buoy_shadow"]["volume_kept"] > 0.75 and kept["buoy_shadow"]["silhouette_kept"] > 0.9
    thin = of_shadow(done)["thwart_shadow"]
    assert 0.004 < thin[1] < 0.03 and thin[0] > 1.95
    assert "thwart: is too thin to be pulled in by 2 cm everywhere" in texts(done.notes)


def test_what_belongs_to_an_asset_stays_and_goes_with_it(tmp_path, run):
    names = ["shed", "shed_LOD1", "shed_collision_1", "boat", "boat_collision_1"]
    zo.write(scene_of(*(Node(name, content=cube(name=name)) for name in names)), tmp_path / "a.usda")

    def left(*words):
        assert run("convert", tmp_path / "a.usda", tmp_path / "b.usda", *words).status == 0
        return [one.node.name for one in zo.read(tmp_path / "b.usda").walk()]

    assert left("--keep", "shed") == names[:3]
    assert left("--drop", "shed") == names[3:]
    assert left("--keep", "role:collision") == ["shed_collision_1", "boat_collision_1"]
    assert left("--step", "select keep=shed alone=true") == ["shed"]


def test_a_mesh_of_two_sided_and_one_sided_slots_keeps_both_in_usd(tmp_path):
    slots = (Material("net", two_sided=True), Material("wood"))
    zo.write(scene_of(cube(slots=slots, face_slot=[0, 1] * 3)), tmp_path / "a.usda")
    again = zo.read(tmp_path / "a.usda")
    assert [(one.name, one.two_sided) for one in again.materials] == [("net", True), ("wood", False)]


def test_own_collision_that_is_inside_out_is_flipped():
    for turn in (np.eye(4), np.diag([-1.0, 1, 1, 1])):
        solid = cube(name="crate_collision") if turn[0, 0] < 0 else cube(name="crate_collision").turned_round()
        scene = scene_of(Node("crate", turn, content=cube()), Node("crate_collision", turn, content=solid))
        done = zo.apply(scene, zo.steps.Collision())
        (one,) = done.nodes(role="collision")
        points = one.node.mesh.points[one.node.mesh.corner_point].reshape(-1, 4, 3)
        facing = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0])
        outward = ((points.mean(axis=1) - 0.5) * facing).sum(axis=1) > 0
        assert (outward if turn[0, 0] > 0 else ~outward).all()
        assert "flipped, as it was inside out" in texts(done.notes)


@pytest.mark.parametrize("command", ["survey", "convert", "run"])
@pytest.mark.parametrize(
    ("nodes", "rule"),
    [
        (["a", "a_LOD1", "a_LOD1"], "level-doubled"), (["a", "a_LOD2"], "level-gap"), (["a", "b_LOD1"], "level-orphaned"),
        (["a", "a_LOD1 moved"], "level-displaced"), (["a", "a_LOD1 heavy"], "level-not-lighter"),
    ],
)  # fmt: skip
def test_levels_that_are_wrong_are_said_everywhere(tmp_path, run, command, nodes, rule):
    light = zo.Mesh.from_faces("light", cube().points, [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4]])
    made = []
    for text in nodes:
        name, _, how = text.partition(" ")
        mesh = cube(name=name) if name == "a" or how == "heavy" else light
        made.append(Node(name, moved(5 if how == "moved" else 0, 0, 0), content=mesh))
    zo.write(scene_of(*made), tmp_path / "a.usda")
    (tmp_path / "job.toml").write_text('[[sources]]\nfiles = "a.usda"\n[[outputs]]\n')
    words = {
        "survey": [tmp_path / "a.usda"],
        "convert": [tmp_path / "a.usda", tmp_path / "b.glb"],
        "run": [tmp_path / "job.toml"],
    }
    found = run(command, *words[command], "--json").json
    found = found["assets"][0] if command == "run" else found
    assert rule in {one["rule"] for one in found["findings"]}
    assert "warning" in run(command, *words[command], *(["--fresh"] if command == "run" else [])).err


def test_words_of_outputs_do_what_they_say(tmp_path, run):
    lamp = Node("lamp", moved(0, 2, 0), content=zo.Light("lamp"))
    zo.write(scene_of(Node("yard", children=(Node("gate", moved(7, 0, 0), content=cube(), groups=()),)),
                      Node("grid", content=cube(name="grid")), lamp), tmp_path / "a.glb")  # fmt: skip
    (tmp_path / "job.toml").write_text(
        '[[sources]]\nfiles = "a.glb"\n'
        '[[outputs]]\nname = "low"\nsuffix = "_{output}"\nkeep = ["gate", "kind:light"]\n'
        '[[outputs]]\nsuffix = "_0"\nplace = "origin"\ncommon = "grid"\n'
    )
    assert run("run", tmp_path / "job.toml").status == 0
    low = zo.read(tmp_path / "ready" / "a_low.glb")
    assert {one.node.name for one in low.walk()} == {"yard", "gate", "lamp"} and low.nodes(kind="light")
    (gate,) = zo.read(tmp_path / "ready" / "a_0.glb").find("gate")
    assert gate.world[:3, 3].tolist() == [0, 0, 0]


@pytest.mark.parametrize(
    ("name", "plain"),
    [("水門", "ShuiMen"), ("Шлюз 2", "Shlyuz_2"), ("Tür", "Tuer"), ("Ærø", "Aero"), ("πύλη", "pyli")],
)
def test_names_in_the_script_of_an_artist_are_spelled_or_kept_never_erased(tmp_path, run, name, plain):
    zo.write(scene_of(Node(name, content=cube(name=name))), tmp_path / "a.glb")
    (tmp_path / "wide.toml").write_text('allowed_characters = "\\\\w-"\n[names]\nvisible = "{name}"\n')
    run("convert", tmp_path / "a.glb", tmp_path / "b.glb")
    assert [one.node.name for one in zo.read(tmp_path / "b.glb").walk()] == [plain]
    run("convert", tmp_path / "a.glb", tmp_path / "c.glb", "--target", tmp_path / "wide.toml")
    assert [one.node.name for one in zo.read(tmp_path / "c.glb").walk()] == [name.replace(" ", "_")]
    found = run("check", tmp_path / "c.glb", "--target", tmp_path / "wide.toml", "--json").json["findings"]
    assert "name-unsafe" not in {one["rule"] for one in found}


def test_default_names_are_told_by_their_shape(tmp_path, run):
    names = ["Würfel.001", "Node12", "17", "gate_3", "post_2", "rail", "quay_wall_4"]
    scene = scene_of(*(Node(name, content=cube(name=name, slots=(Material("Gate paint"),))) for name in names))
    zo.write(scene, tmp_path / "mooring_post.glb")
    assert run("survey", tmp_path / "mooring_post.glb", "--json").json["default_names"] == names[:3]


def test_images_are_shrunk_as_light_mixes_and_normals_keep_their_length():
    checker = np.zeros((64, 64, 4), np.uint8)
    checker[..., 3] = 255
    checker[::2, ::2, :3] = checker[1::2, 1::2, :3] = 255
    half = pixels.rgba(pixels.rework(png_of(checker), size=(8, 8), flip_green=False, kind="PNG"))
    assert abs(int(half[4, 4, 0]) - 188) <= 1  # half of the light
    data = pixels.rgba(pixels.rework(png_of(checker), size=(8, 8), flip_green=False, kind="PNG", holds="data"))
    assert abs(int(data[4, 4, 0]) - 128) <= 1
    bumps = np.full((64, 64, 4), 255, np.uint8)
    bumps[..., :3] = np.where((np.arange(64) % 2 > 0)[:, None], (218, 128, 218), (37, 128, 218))
    small = pixels.rgba(pixels.rework(png_of(bumps), size=(8, 8), flip_green=False, kind="PNG", holds="normal"))
    length = np.linalg.norm(small[2:-2, 2:-2, :3] / 127.5 - 1, axis=2)
    assert np.allclose(length, 1, atol=0.02)


def test_textures_are_found_below_a_folder_and_missed_with_a_remedy(tmp_path, run):
    deep = tmp_path / "maps" / "wood" / "old"
    deep.mkdir(parents=True)
    (deep / "Plank.png").write_bytes(png_of(np.zeros((2, 2, 4), np.uint8)))
    (tmp_path / "a.mtl").write_text("newmtl wood\nmap_Kd C:\\somewhere\\plank.png\n")
    (tmp_path / "a.obj").write_text("mtllib a.mtl\nusemtl wood\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    found = run("convert", tmp_path / "a.obj", tmp_path / "b.glb", "--unit", "m", "--textures-from", tmp_path / "maps")
    assert found.status == 0 and "was not found" not in found.err
    assert zo.read(tmp_path / "b.glb").textures[0].found
    missed = run("convert", tmp_path / "a.obj", tmp_path / "c.glb", "--unit", "m")
    assert "plank.png' is outside the model's folder, and none of its name is in" in missed.err
    assert "--textures-from, or textures_from in a job, lets in the folder it is in" in missed.err
    searched = zo.apply(zo.read(tmp_path / "a.obj", "m"), zo.steps.Textures(search=(str(tmp_path / "maps"),)))
    assert "was not found" not in texts(searched.notes)


def test_a_survey_tells_lights_cameras_uv_names_and_clashes_of_materials(tmp_path, run):
    mesh = cube(slots=(Material("Wood"), Material("wood")), face_slot=[0, 1] * 3)
    mesh = mesh.replace(layers=(Layer("uv", np.zeros((1, 2)), [0] * 24, "light"),))
    scene = scene_of(Node("box", content=mesh), Node("lamp", content=zo.Light("l", "spot", intensity=40.0)),
                     Node("eye", content=zo.Camera("c")))  # fmt: skip
    zo.write(scene, tmp_path / "a.glb")
    out = " ".join(run("survey", tmp_path / "a.glb").out.split())
    assert "spot light, 40 cd" in out and "camera, 45.8° high" in out and "1: light" in out
    assert "material Wood" in out


def test_every_step_lists_every_word_a_setting_may_be(run):
    for step in run("steps", "--json").json:
        for setting in zo.steps.step_named(step["name"]).model_json_schema()["properties"].items():
            words = setting[1].get("enum", [])
            said = {one["name"]: one["description"] for one in step["settings"]}.get(setting[0], "")
            assert all(word in said for word in words), (step["name"], setting[0], words)


def test_glossy_materials_become_metal_and_rough(tmp_path, run):
    """Polished gold and dull wood, as the older model of glTF says them."""
    zo.write(scene_of(cube(slots=(Material("gold"), Material("wood")), face_slot=[0, 1] * 3)), tmp_path / "a.gltf")
    document = json.loads((tmp_path / "a.gltf").read_text())
    said = [{"diffuseFactor": [0, 0, 0, 1], "specularFactor": [1.0, 0.77, 0.34], "glossinessFactor": 0.9},
            {"diffuseFactor": [0.5, 0.3, 0.1, 1], "specularFactor": [0.04, 0.04, 0.04], "glossinessFactor": 0.2}]  # fmt: skip
    name = "KHR_materials_pbrSpecularGlossiness"
    for material, one in zip(document["materials"], said, strict=True):
        material.pop("pbrMetallicRoughness", None)
        material["extensions"] = {name: one}
    document["extensionsUsed"] = [name]
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    assert run("convert", tmp_path / "a.gltf", tmp_path / "b.glb", "--materials", "metal-rough").status == 0
    gold, wood = zo.read(tmp_path / "b.glb").materials
    assert gold.metallic > 0.95 and gold.roughness == pytest.approx(0.1) and gold.base_color[0] > 0.9
    assert wood.metallic < 0.05 and wood.roughness == pytest.approx(0.8)
    assert np.allclose(wood.base_color, [0.5, 0.3, 0.1, 1], atol=0.02)
    assert name not in (tmp_path / "b.glb").read_bytes().decode("latin-1")
    assert run("convert", tmp_path / "a.gltf", tmp_path / "c.glb").status == 0
    assert name in (tmp_path / "c.glb").read_bytes().decode("latin-1")


@pytest.mark.parametrize("ending", ["usda", "dae", "x3d", "3mf"])
def test_glossy_maps_become_metal_and_rough_pixel_by_pixel(tmp_path, run, ending):
    """Two pixels of dull red wood above two of polished gold, whose specular colour is its own."""
    gold, wood = [255, 197, 87], [200, 30, 10]
    zo.write(
        scene_of(cube(slots=(Material("glass"),), layers=(Layer("uv", np.zeros((1, 2)), np.zeros(24, int)),))),
        tmp_path / "a.gltf",
    )
    (tmp_path / "d.png").write_bytes(png_of(np.array([[[*wood, 255]] * 2, [[0, 0, 0, 128]] * 2], np.uint8)))
    (tmp_path / "s.png").write_bytes(
        png_of(np.array([[[56, 56, 56, 51]], [[*gold, 255]]], np.uint8))
    )  # half as wide; 56 is 0.04 of light
    document = json.loads((tmp_path / "a.gltf").read_text())
    document["images"] = [{"uri": "d.png"}, {"uri": "s.png"}]
    document["textures"] = [{"source": 0}, {"source": 1}]
    name = "KHR_materials_pbrSpecularGlossiness"
    document["extensionsUsed"] = [name, "KHR_materials_transmission"]
    said = {"diffuseTexture": {"index": 0}, "specularGlossinessTexture": {"index": 1}}
    document["materials"] = [
        {"name": "glass", "extensions": {name: said, "KHR_materials_transmission": {"transmissionFactor": 1}}}
    ]
    (tmp_path / "a.gltf").write_text(json.dumps(document))
    done = run("convert", tmp_path / "a.gltf", tmp_path / f"b.{ending}", "--verbose")
    assert done.status == 0
    notes = " ".join(done.err.split())
    assert "specular and glossiness became metal and roughness: glass" in notes
    assert notes.count("the extension KHR_materials_transmission of materials has no place") == 1
    (glass,) = zo.apply(zo.read(tmp_path / "a.gltf"), zo.steps.Materials(shading="metal-rough")).materials
    base, metal = (
        np.asarray(Image.open(io.BytesIO(glass.textures[role].texture.read()))) for role in ("base_color", "metallic")
    )
    assert base.shape == metal.shape == (2, 2, 4)
    assert (
        np.abs(base[0, 0].astype(int) - [*wood, 255]).max() <= 3
        and np.abs(base[1, 1].astype(int) - [*gold, 128]).max() <= 3
    )
    assert metal[0, :, 2].max() <= 5 and metal[1, :, 2].min() >= 250  # metal in blue
    assert (metal[:, 0, 1] == [204, 0]).all()  # roughness in green: 255 less glossiness
    assert (glass.metallic, glass.roughness, glass.base_color) == (1, 1, (1, 1, 1, 1))
    assert [use.channel for use in map(glass.textures.get, ("metallic", "roughness"))] == ["b", "g"]


def test_the_shadow_of_a_net_is_solid_or_lets_light_through():
    image = Texture(
        "net.png",
        data=png_of(np.dstack([np.full((8, 8, 3), 90), np.indices((8, 8)).sum(0) % 2 * 255]).astype(np.uint8)),
    )
    net = Material("net", alpha_mode="mask", two_sided=True, textures={"base_color": TextureUse(image)})
    sheet = zo.Mesh.from_faces("net", [[0, 0, 0], [2, 0, 0], [2, 1, 0], [0, 1, 0]], [[0, 1, 2, 3]], slots=(net,),
                               layers=(Layer("uv", np.array([[0, 0], [1, 0], [1, 1], [0, 1]]), np.arange(4)),))  # fmt: skip
    scene = scene_of(sheet)
    for steps, masked in (([zo.steps.Shadow()], False), ([zo.steps.Shadow(cut_outs="card")], True),
                          ([zo.steps.Card(), zo.steps.Shadow(cut_outs="card")], True)):  # fmt: skip
        (shadow,) = zo.apply(scene, *steps).nodes(role="shadow")
        assert (shadow.node.mesh.slots[0] is not None and shadow.node.mesh.slots[0].alpha_mode == "mask") is masked
        assert shadow.node.name == "net_shadow"


def test_a_report_and_the_exit_status_tell_of_what_was_not_made(tmp_path, run):
    """A file without faces, and one that a check stops for three errors."""
    (tmp_path / "empty.obj").write_text("v 0 0 0\n")
    zo.write(
        scene_of(*(Node(name, content=cube(name=name)) for name in ("Gate", "gate", "x" * 70))), tmp_path / "bad.glb"
    )
    (tmp_path / "t.toml").write_text("longest_name = 9\n")
    (tmp_path / "job.toml").write_text(
        '[[sources]]\nfiles = ["empty.obj", "bad.glb"]\nunit = "m"\n[[outputs]]\ntarget = "t.toml"\ncheck = "stop"\n'
    )
    done = run("run", tmp_path / "job.toml")
    assert done.status == 3
    page = (tmp_path / "ready" / "report.html").read_text()
    assert "no mesh with a face is left" in page
    for text in ("another node has this name", "has 70 characters, 9 are allowed"):
        assert text in page and text in done.err


@pytest.mark.parametrize("ending", ["obj", "dae", "usda", "usdz", "x3d", "glb"])
def test_images_are_written_once_said_when_damaged_and_of_kinds_that_may_be(tmp_path, ending):
    whole = png_of(np.arange(4096, dtype=np.uint8).reshape(32, 32, 4))
    out = io.BytesIO()
    Image.fromarray(np.zeros((4, 4, 3), np.uint8)).save(out, "BMP")
    textures = [Texture("A.png", data=whole), Texture("a.PNG", data=whole), Texture("b.bmp", data=out.getvalue()),
                Texture("short.png", data=whole[:-20])]  # fmt: skip
    slots = tuple(Material(f"m{n}", textures={"base_color": TextureUse(one)}) for n, one in enumerate(textures))
    uv = Layer("uv", np.eye(2), np.arange(24) % 2)
    notes = zo.write(scene_of(cube(slots=slots, face_slot=[0, 1, 2, 3, 0, 1], layers=(uv,))), tmp_path / f"a.{ending}")
    again = zo.read(tmp_path / f"a.{ending}", "m")
    assert "'short.png' is cut short" in texts(notes)
    assert len({one.read() for one in again.textures}) == len(again.textures) == 3
    kinds = {pixels.inspect(one.read()).kind for one in again.textures}
    assert kinds == ({"PNG"} if ending in ("usdz", "glb") else {"PNG", "BMP"})


def test_a_turned_texture_comes_back_turned(tmp_path):
    use = TextureUse(
        Texture("a.png", data=png_of(np.zeros((2, 2, 4), np.uint8))), offset=(0.1, 0.2), scale=(2, 3), rotation=0.5
    )
    net = Material("net", textures={"base_color": use})
    zo.write(scene_of(cube(slots=(net,), layers=(Layer("uv", np.eye(2), np.arange(24) % 2),))), tmp_path / "a.glb")
    again = zo.read(tmp_path / "a.glb").materials[0].textures["base_color"]
    assert again.rotation == pytest.approx(0.5) and again.offset == pytest.approx((0.1, 0.2)) and again.scale == (2, 3)


@pytest.mark.parametrize("number", ["1e17", "1e39", "nan"])
def test_a_position_out_of_range_costs_its_faces_and_not_the_file(tmp_path, number):
    path = tmp_path / "a.obj"
    path.write_text(f"v 0 0 0\nv 1 0 0\nv 0 1 0\nv {number} 0 0\nf 1 2 3\nf 1 2 4\n")
    scene = zo.read(path)
    assert scene.meshes[0].face_count == 1
    assert "line 6: 1 face with points that have no usable position skipped" in texts(scene.notes)


@pytest.mark.parametrize("ending", ENDINGS)
def test_what_transforms_carry_out_of_range_is_refused(tmp_path, ending):
    far = Node("arm", np.diag([1e12, 1e12, 1e12, 1]), (Node("hand", np.diag([1e9, 1e9, 1e9, 1]), content=cube()),))
    with pytest.raises(zo.InputError, match=r"node .hand.*stands beyond 1e\+15 units"):
        zo.write(scene_of(far), tmp_path / f"far.{ending}")
    assert not list(tmp_path.iterdir())


def test_an_unchanged_asset_keeps_its_findings(tmp_path, run):
    zo.write(scene_of(cube()), tmp_path / "crate.glb")
    (tmp_path / "few.toml").write_text("[limits]\ntriangles = 4\n")
    (tmp_path / "job.toml").write_text(
        '[[sources]]\nfiles = ["crate.glb"]\n[[outputs]]\ntarget = "few.toml"\nformats = ["glb"]\ncheck = "all"\n'
    )
    said = [run("run", tmp_path / "job.toml") for _ in range(3)]
    assert "unchanged" in said[1].out
    assert all("12 triangles, 4 are allowed" in one.err for one in said)
    assert len({one.status for one in said}) == 1


def test_no_level_is_empty_whatever_the_mesh():
    flat = zo.Mesh.from_faces("wire", [[0, 0, 0], [1, 0, 0]], [[0, 1, 0]])
    scene = zo.apply(scene_of(flat, cube()), zo.steps.Levels(chain="50"))
    assert all(one.node.mesh.triangle_count for one in scene.nodes(role="level"))


@pytest.mark.parametrize("axes", ["left up forward", "right forward up", "forward right down"])
def test_stl_lies_as_it_was_written(tmp_path, axes):
    scene = scene_of(cube((1, 2, 3)), axes=axes, unit="cm")
    zo.write(scene, tmp_path / "a.stl")
    found = zo.read(tmp_path / "a.stl")
    assert found.frame == scene.frame and np.array_equal(found.bounds(), scene.bounds())


def test_baking_places_away_keeps_lamps_and_sockets_where_they_are():
    lamp = Node("lamp", np.diag([2.0, 2, 2, 1]) @ moved(1, 2, 3), content=zo.Light("lamp"))
    socket = Node("socket", moved(4, 5, 6))
    quay = Node("quay", moved(10, 0, 0), (lamp, socket, Node("post", moved(0, 1, 0), content=cube())))
    baked = zo.apply(scene_of(quay), zo.steps.BakeTransforms(translation="drop"))
    places = {one.node.name: one.world[:3, 3].tolist() for one in baked.walk()}
    assert places == {"quay": [0, 0, 0], "lamp": [12, 4, 6], "socket": [14, 5, 6], "post": [0, 0, 0]}
    assert baked.bounds()[0].tolist() == scene_of(quay).bounds()[0].tolist()


def test_textures_beside_the_folder_of_a_model_are_found_inside_the_tree_of_sources(tmp_path, run):
    tree = tmp_path / "yard"
    (tree / "models").mkdir(parents=True)
    (tree / "textures").mkdir()
    for folder in (tree / "textures", tmp_path):
        (folder / "oak.png").write_bytes(png_of(np.full((2, 2, 4), 90, np.uint8)))
    (tree / "models" / "a.mtl").write_text("newmtl oak\nmap_Kd ../textures/oak.png\nnewmtl far\nmap_Kd ../../oak.png\n")
    model = tree / "models" / "a.obj"
    model.write_text("mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl oak\nf 1 2 3\nusemtl far\nf 1 2 3\n")

    def found(**more):
        return [one.path is not None for one in zo.read(model, "m", **more).textures]

    # By itself nothing leads out of its folder; a folder that is named lets in what is inside it, and no more.
    assert found() == [False, False] and found(folders=[tree]) == [True, True]
    (tree / "textures" / "oak.png").rename(tree / "textures" / "Oak.png")
    assert found(folders=[tree])[0]
    (tmp_path / "job.toml").write_text('[[sources]]\nfiles = ["yard"]\nunit = "m"\n[[outputs]]\nformats = ["glb"]\n')
    ran = run("run", tmp_path / "job.toml")
    assert "'../../oak.png' is outside" in ran.err and "textures/oak.png' is outside" not in ran.err


def test_a_pointer_in_place_of_content_is_told(tmp_path):
    pointer = f"version https://example.org/spec/v1\noid sha256:{'0a' * 32}\nsize 12345\n"
    (tmp_path / "a.obj").write_text(pointer)
    with pytest.raises(zo.InputError, match=r"only a pointer to its content .*Fetch the content"):
        zo.read(tmp_path / "a.obj")
    (tmp_path / "oak.png").write_text(pointer)
    (tmp_path / "b.mtl").write_text("newmtl oak\nmap_Kd oak.png\n")
    (tmp_path / "b.obj").write_text("mtllib b.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl oak\nf 1 2 3\n")
    assert "'oak.png' holds only a pointer to its content in a version-control store" in texts(
        zo.read(tmp_path / "b.obj").notes
    )


def test_faces_without_a_material_have_none_again_in_obj(tmp_path):
    oak = cube(name="crate", slots=(Material("oak"),))
    scene = scene_of(oak, Node("crate_collision_1", content=cube(name="solid"), role="collision"))
    assert deliver(scene, tmp_path / "a.obj")[1].problems == ()
    found = {
        one.node.name: [slot and slot.name for slot in one.node.mesh.slots]
        for one in zo.read(tmp_path / "a.obj").walk()
    }
    assert found["crate"] == ["oak"] and not any(found["crate_collision_1"])
