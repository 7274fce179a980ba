"""Faults that were found when the product was used in earnest, each as its user saw it."""

from __future__ import annotations

import numpy as np
import pytest

import zesty_otter as zo
from build import CUBE_FACES, cube, moved, scene_of, texts
from zesty_otter import pixels
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse
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
