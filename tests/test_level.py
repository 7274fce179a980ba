"""Swaps, stand-ins, cells, pieces and tables of places: a level taken apart and put together again."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

import zesty_otter as zo
from build import WRITTEN, cube, moved, scene_of, texts
from test_gather import points_of, pot, scatters_of
from zesty_otter.demo import write_level
from zesty_otter.geometry.surface.placing import composed
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.model import Layer, Light, Node, Scatter, expanded
from zesty_otter.steps import Cells, Expand, Levels, StandIns, Swap

Floats = NDArray[np.float64]
WOOD, STONE = zo.Material("wood", base_color=(0.4, 0.25, 0.1, 1.0)), zo.Material("stone")


def box(size: tuple[float, float, float], name: str, material: zo.Material | None = WOOD) -> zo.Mesh:
    return cube(size, name, slots=(material,), face_smoothing=np.zeros(6, np.int32))


def spots(count: int, seed: int = 0) -> Floats:
    """Places on the ground, 60 x 60 m about the origin, turned and scaled; every third is mirrored."""
    dice = np.random.default_rng(seed)
    angle = dice.uniform(0, 3, count)
    turned = np.stack([0 * angle, np.sin(angle), 0 * angle, np.cos(angle)], axis=1)
    scales = np.repeat(dice.uniform(0.5, 2, (count, 1)), 3, axis=1)
    scales[::3, 0] *= -1
    places = dice.uniform(-30, 30, (count, 3)) * (1, 0, 1)
    return composed(count, places, turned, scales)


def level(count: int = 40) -> zo.Scene:
    """A quay, bollards with level and collision, a shed with a door, reeds scattered with a level, a lamp."""
    post, low, solid = box((0.3, 1, 0.3), "post"), box((0.3, 0.9, 0.3), "post_low"), box((0.4, 1, 0.4), "solid", None)
    nodes = [Node("quay", moved(-20, -2, 0), content=box((40, 2, 6), "quay", STONE))]
    for k in range(4):
        at = moved(-18 + 6 * k, 0, 1) @ np.diag([-1.0 if k % 2 else 1.0, 1, 1, 1])
        of = {"asset": f"post_{k}"}
        nodes += [
            Node(f"post_{k}", at, content=post),
            Node(f"post_{k}_LOD1", at, content=low, role="level", properties={"level": 1, **of}),
            Node(f"post_{k}_collision", at, content=solid, role="collision", properties=of),
        ]
    door = Node("door", moved(1, 0, 0), content=box((1, 2, 0.1), "door"))
    nodes.append(Node("yard", moved(3, 0, 0), (Node("shed", moved(2, 0, 20), (door,), box((4, 3, 5), "shed", STONE)),)))
    own = {"seed": np.arange(count), "tint": np.random.default_rng(2).random((count, 3)).round(2)}
    reeds = Scatter(box((0.1, 1.5, 0.1), "reed"), spots(count), own)
    far = Node("reeds_LOD1", content=Scatter(box((0.1, 1.4, 0.1), "reed_low"), reeds.transforms), role="level",
               properties={"level": 1, "asset": "reeds"})  # fmt: skip
    lamp = Node("lamp", moved(0, 5, 0), content=Light("lamp", "point", (1.0, 0.9, 0.8), 400.0))
    return scene_of(*nodes, Node("reeds", content=reeds), far, lamp)


def written(scene: zo.Scene, path: Path) -> Path:
    zo.write(scene, path)
    return path


def table(folder: Path, text: str, name: str = "swaps.csv") -> Path:
    path = folder / name
    path.write_text(text)
    return path


# What each copy has of its own


@pytest.mark.parametrize("ending", [".glb", ".gltf", ".usda", ".usdc", ".usdz", ".json", ".csv"])
def test_what_each_copy_has_of_its_own_travels(tmp_path, ending):
    own = {"seed": [3, 1 << 20, 7], "weight": [0.5, 0.25, 0.125], "tint": [[0.5, 0, 1], [1, 0, 0], [0, 1, 0]]}
    scene = scene_of(Node("reeds", content=Scatter(box((1, 1, 1), "reed"), spots(3), own)))
    (scatter,) = scatters_of(zo.read(written(scene, tmp_path / f"a{ending}")))
    assert {key: values.tolist() for key, values in scatter.properties.items()} == own
    assert scatter.properties["seed"].dtype == np.int64


def test_copies_as_nodes_keep_what_they_have_of_their_own():
    scene = scene_of(Node("reeds", content=Scatter(box((1, 1, 1), "reed"), spots(2), {"seed": [4, 9]})))
    assert [one.properties for one in Expand().apply(scene).roots[0].children] == [{"seed": 4}, {"seed": 9}]


@pytest.mark.parametrize(
    ("own", "message"),
    [
        ({"seed": [1, 2]}, r"property 'seed' has shape \(2,\)"),
        ({"seed": [1, np.nan, 2]}, "finite"),
        ({"a": np.zeros((3, 5))}, "k from 1 to 4"),
        ({"a": ["x", "y", "z"]}, "must hold numbers"),
    ],
)
def test_what_copies_cannot_have_is_refused(own, message):
    with pytest.raises(zo.ZestyOtterError, match=message):
        Scatter(box((1, 1, 1), "reed"), spots(3), own)


# Swaps and stand-ins


def test_stand_ins_there_and_back_is_the_identity(tmp_path):
    original = written(level(), tmp_path / "level.glb")
    scene = zo.read(original)
    light = StandIns().apply(scene)
    assert {one.node.role for one in light.walk() if one.node.drawn is not None} == {"stand-in"}
    assert all(mesh.triangle_count == 12 for mesh in light.meshes)
    assert np.allclose(light.bounds()[:, [0, 2]], scene.bounds()[:, [0, 2]], atol=1e-3)
    quay = next(one.node for one in light.walk() if one.node.name == "quay")
    assert quay.properties["stand_in_size"] == [40.0, 2.0, 6.0]
    assert (quay.properties["stand_in_triangles"], quay.properties["stand_in_materials"]) == (12, "stone")
    returned = zo.read(written(light, tmp_path / "light.usda"))
    back = Swap(source=original).apply(returned)
    assert zo.audit.compare(scene, back).nodes
    assert zo.audit.compare(scene, back).within(1e-6)
    assert not any("stand_in_size" in one.node.properties for one in back.walk())


def test_a_swap_by_table_keeps_places_names_and_copies(tmp_path):
    library = scene_of(
        Node("heavy", moved(7, 0, 0), content=box((1, 2, 1), "heavy", STONE)),
        Node("heavy_LOD1", moved(7, 0, 0), content=box((1, 1.9, 1), "heavy_low", STONE)),
    )
    written(library, tmp_path / "library.glb")
    swaps = table(
        tmp_path,
        "name,file,node,turn,scale,pivot\nreeds,library.glb,heavy,,0.5,\npost_*,library.glb,heavy,0 90 0,,base\n",
    )
    scene = level()
    done = Swap(table=swaps).apply(scene)
    nodes = {one.node.name: one for one in done.walk()}
    reeds = nodes["reeds"].node.content
    assert np.array_equal(reeds.transforms, spots(40))
    assert np.allclose(reeds.mesh.surface_bounds, [[0, 0, 0], [0.5, 1, 0.5]])
    assert reeds.properties["seed"].tolist() == list(range(40))
    assert nodes["reeds_LOD1"].node.content.count == 40
    # Turned a quarter about the vertical, and moved so that the middle of its foot is the pivot.
    assert np.allclose(nodes["post_1"].node.mesh.surface_bounds, [[-0.5, 0, -0.5], [0.5, 2, 0.5]])
    assert np.array_equal(nodes["post_1"].world, next(p.world for p in scene.walk() if p.node.name == "post_1"))
    assert "post_1_collision" not in nodes
    assert nodes["post_1_LOD1"].node.properties == {"level": 1, "asset": "post_1"}
    assert "no row matches: quay, shed, door" in texts(done.notes)
    assert "node post_0: the new mesh is 2 times as large" in texts(
        Swap(table=swaps, size_factor=1.5).apply(scene).notes
    )
    assert tmp_path / "library.glb" in done.read_files


def test_a_node_of_the_scene_itself_can_be_swapped_in(tmp_path):
    swaps = table(tmp_path, '[[swap]]\nname = "post_[123]"\nnode = "quay"\nscale = 0.1\n', "swaps.toml")
    done = Swap(table=swaps).apply(level())
    posts = [one.node for one in done.walk() if one.node.name in ("post_1", "post_2", "post_3")]
    assert all(np.allclose(np.ptp(node.mesh.surface_bounds, axis=0), [4, 0.2, 0.6]) for node in posts)
    assert len({id(node.mesh) for node in posts}) == 1


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("name,file\npost_0,none.glb\n", "none.glb: there is no such file.*named in swaps.csv, line 2"),
        ("name,node\npost_0,quai\n", "line 2: the scene has no node 'quai'. Did you mean 'quay'"),
        ("name,node\npost_0,quay\npost_0,shed\n", "line 3: 'post_0' is replaced twice, in line 2"),
        ("name,node,scale\npost_0,quay,0\n", "line 2: scale: must be more than 0"),
        ("name,node,scale\npost_0,quay,-1\n", "line 2: scale: must be more than 0"),
        ("name,node,scale\npost_0,quay,nan\n", "line 2: scale: must be more than 0"),
        ("name,node,turn\npost_0,quay,0 90\n", "line 2: turn: must be three numbers"),
        ("name,nod\npost_0,quay\n", "line 1: 'nod' is not a column.*Did you mean 'node'"),
        ("name,node\npost_0,\n", "line 2: name a file, a node, or both"),
        ("name\n", "has no rows"),
        ("node\nquay\n", "has no column 'name'"),
        ("name,node\na,b,c\n", "line 2: has more values than there are columns"),
        ("", "has no column 'name'"),
    ],
)
def test_a_table_that_makes_no_sense_is_refused_with_its_line(tmp_path, text, message):
    with pytest.raises(zo.ZestyOtterError, match=message):
        Swap(table=table(tmp_path, text)).apply(level())


def test_materials_that_only_share_a_name_stay_apart(tmp_path):
    other = scene_of(Node("post", content=box((0.3, 1, 0.3), "post", zo.Material("stone", base_color=(1.0, 0, 0, 1)))))
    written(other, tmp_path / "other.glb")
    done = Swap(table=table(tmp_path, "name,file,node\npost_*,other.glb,post\n")).apply(level())
    assert sorted(one.name for one in done.materials) == ["stone", "stone_2", "wood"]
    assert "now have numbers: stone_2" in texts(done.notes)


# Cells


def of_cell(name: str) -> tuple[int, int]:
    """The square of the ground a name such as cell_r3_b1 means: to the right, forward."""
    across, along = name.split("_")[1:3]
    return (int(across[1:]) * (1 if across[0] == "r" else -1), int(along[1:]) * (1 if along[0] == "f" else -1))


def test_every_copy_is_in_exactly_one_cell_and_the_union_is_the_whole():
    scene = level(300)
    done = Cells(size=7).apply(scene)
    seeds, checked = [], 0
    for cell in done.roots:
        x, y = of_cell(cell.name)
        for node in cell.children:
            if node.name.startswith("reeds_") and node.role == "visible":
                places = node.content.transforms[:, :3, 3]
                seeds += node.content.properties["seed"].tolist()
                # Right is -X, forward is +Z.
                ground = np.floor(places[:, [0, 2]] * (-1, 1) / 7)
                assert (ground == (x, y)).all()
                checked += len(places)
            if node.name == f"reeds_{cell.properties['cell']}_LOD1":
                assert node.properties["asset"] == f"reeds_{cell.properties['cell']}"
    assert checked == 300
    assert sorted(seeds) == list(range(300))
    before, after = (np.sort(points_of(expanded(one)[0]), axis=0) for one in (scene, done))
    assert np.allclose(before, after, atol=1e-9)
    assert "larger than a cell of 7 m: quay; by=cut" in texts(done.notes)


def test_a_change_in_one_corner_changes_its_cell_only():
    scene = level(200)
    first = Cells(size=10).apply(scene)
    more = zo.Scene(
        (*scene.roots, Node("crate", moved(-22, 0, 27), content=box((1, 1, 1), "crate"))), scene.frame, "test"
    )
    second = Cells(size=10).apply(more)
    changed = [
        b.name
        for b in second.roots
        if not any(
            a.name == b.name and [n.name for n in a.children] == [n.name for n in b.children] for a in first.roots
        )
    ]
    assert changed == ["cell_r2_f2"]


@pytest.mark.parametrize("limit", [{"instances": 40}, {"triangles": 500}])
def test_full_cells_are_quartered_within_their_limits(limit):
    scene = scene_of(Node("reeds", content=Scatter(box((0.1, 1, 0.1), "reed"), spots(600))))
    done = Cells(size=60, **limit).apply(scene)
    counts = {cell.name: sum(node.content.count for node in cell.children) for cell in done.roots}
    assert sum(counts.values()) == 600
    assert max(counts.values()) <= 41
    assert {name.split("_")[1] for name in counts} == {"r0", "l1"}
    assert any(name.count("_") == 3 for name in counts)


def test_one_place_over_the_limit_is_told():
    scene = scene_of(Node("reeds", content=Scatter(box((0.1, 1, 0.1), "reed"), np.tile(moved(1, 0, 1), (50, 1, 1)))))
    assert "over the limit" in texts(Cells(size=10, instances=5).apply(scene).notes)


def test_too_many_cells_are_refused():
    with pytest.raises(zo.UsageError, match=r"gives 9\d,\d\d\d cells. Choose a larger size"):
        Cells(size="1mm").apply(scene_of(Node("reeds", content=Scatter(box((1, 1, 1), "reed"), spots(99_000)))))


def terrain(count: int) -> zo.Mesh:
    """A hilly square of 100 x 100 m about (13, 0) with UVs that are where its points are."""
    x, z = np.meshgrid(np.linspace(-37, 63, count), np.linspace(-50, 50, count), indexing="ij")
    points = np.stack([x, 3 * np.sin(x / 7) + 2 * np.cos(z / 5), z], axis=2).reshape(-1, 3)
    at = np.arange(count * count).reshape(count, count)
    faces = np.stack([at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]], axis=2).reshape(-1, 4).tolist()
    mesh = zo.Mesh.from_faces("ground", points, faces, face_smoothing=np.ones(len(faces), np.int32))
    return mesh.replace(layers=(Layer("uv", ((points[:, [0, 2]] + 50) / 113).astype(np.float32), mesh.corner_point),))


def end_to_end(meshes: list[zo.Mesh]) -> tuple[Floats, NDArray[np.int32], NDArray[np.int32]]:
    firsts = np.cumsum([0, *(one.point_count for one in meshes)])
    corners = np.concatenate([one.corner_point + first for one, first in zip(meshes, firsts, strict=False)])
    sizes = np.concatenate([one.face_size for one in meshes])
    start = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int32)
    return np.concatenate([one.points for one in meshes]), start, corners.astype(np.int32)


@pytest.mark.parametrize("axes", ["left up forward", "forward right up"])
def test_terrain_is_cut_without_gaps_and_its_levels_meet(axes):
    scene = zo.steps.Reframe(axes=axes).apply(scene_of(Node("ground", content=terrain(60))))
    done = Cells(size="20m", by="cut").apply(scene)
    pieces = [mesh for _, mesh in done.placed_meshes()]
    assert len(pieces) == 36
    for mesh in pieces:
        uvs = mesh.uv_sets[0]
        back = zo.Frame(axes, "m").basis @ mesh.points[mesh.corner_point].T
        assert np.abs(uvs.values[uvs.index] - (back[[0, 2]].T + 50) / 113).max() < 1e-6
        assert (np.ptp(back[[0, 2]], axis=1) <= 20 + 1e-9).all()

    def rims(meshes: list[zo.Mesh]) -> Floats:
        """Ends of the edges that only one face has, in left and forward, that are not on the rim of the whole."""
        points, start, corners = end_to_end(meshes)
        edges = topology(points, start, corners)
        ends = (points @ zo.Frame(axes, "m").basis.T)[edges.edge_points[edges.border]][:, :, [0, 2]]
        rim = np.zeros(len(ends), bool)
        for axis, value in ((0, -37), (0, 63), (1, -50), (1, 50)):
            rim |= np.isclose(ends[:, :, axis], value).all(axis=1)
        return ends[~rim]

    assert len(rims(pieces)) == 0
    levels = Levels(chain="60", keep_border="all").apply(done)
    lighter = [one.node.mesh for one in levels.walk() if one.node.role == "level"]
    assert len(lighter) == 36
    assert sum(mesh.triangle_count for mesh in lighter) < 0.75 * sum(mesh.triangle_count for mesh in pieces)
    assert len(rims(lighter)) == 0


def test_what_is_not_chosen_stays_where_it_is():
    done = Cells(size=10, only="reeds*").apply(level())
    names = [root.name for root in done.roots if not root.name.startswith("cell_")]
    assert names[:2] == ["quay", "post_0"]
    assert names[-1] == "lamp"
    assert "reeds" not in names


# Pieces


def job(folder: Path, split: str, ending: str, more: str = "") -> Path:
    path = folder / "level.toml"
    path.write_text(
        f'folder = "ready"\nreport = false\n[[sources]]\nfiles = "level.glb"\n[[outputs]]\nformats = "{ending}"\n'
        f'split = "{split}"\ndrop = []\n{more}'
    )
    return path


@pytest.mark.parametrize("ending", [one.suffixes[0].lstrip(".") for one in WRITTEN if one.pieces])
def test_a_level_in_pieces_reads_back_as_the_level(tmp_path, ending):
    written(level(), tmp_path / "level.glb")
    result = zo.run_job(job(tmp_path, "pieces", ending))
    assert result.status == 0
    names = {Path(file.path).stem for file in result.assets[0].files}
    assert names == {"level_scene", "quay", "post", "shed", "door", "reeds"}
    meant = zo.read(tmp_path / "level.glb")
    found = zo.read(tmp_path / "ready" / f"level_scene.{ending}")
    if not scatters_of(found):
        meant = expanded(meant)[0]
    comparison = zo.audit.compare(meant, found)
    assert (comparison.added, comparison.removed, comparison.materials) == ((), (), ())
    assert len(comparison.nodes) == len(list(zo.Scene.placed_meshes(meant))) + len(scatters_of(meant))
    assert all(one.moved < 1e-5 and not one.changes for one in comparison.nodes)
    assert not any(one.node.piece for one in found.walk())
    assert ("yard", "shed", "door") in {one.path for one in found.walk()}
    assert tmp_path / "ready" / f"post.{ending}" in found.read_files


def test_the_scene_of_a_level_is_light_and_a_missing_piece_is_told(tmp_path):
    written(level(), tmp_path / "level.glb")
    zo.run_job(job(tmp_path, "pieces", "gltf"))
    document = json.loads((tmp_path / "ready" / "level_scene.gltf").read_text())
    assert {node["extras"]["piece"] for node in document["nodes"] if "piece" in node.get("extras", {})} == {
        "quay.gltf", "post.gltf", "shed.gltf", "door.gltf", "reeds.gltf"
    }  # fmt: skip
    (tmp_path / "ready" / "post.gltf").unlink()
    found = zo.read(tmp_path / "ready" / "level_scene.gltf")
    assert "piece 'post.gltf' was not found" in texts(found.notes)
    assert next(one.node for one in found.walk() if one.node.name == "post_2").piece == "post.gltf"


def test_a_piece_that_places_itself_or_lies_outside_is_not_followed(tmp_path):
    inner = tmp_path / "inner"
    inner.mkdir()
    written(scene_of(box((1, 1, 1), "secret")), tmp_path / "secret.glb")
    for piece, message in (("loop.gltf", "places itself"), ("../secret.glb", "was not found")):
        node = Node("a", properties={"piece": piece})
        zo.write(scene_of(node, Node("b", content=box((1, 1, 1), "b"))), inner / "loop.gltf")
        found = zo.read(inner / "loop.gltf")
        assert message in texts(found.notes)
        assert [mesh.name for mesh in found.meshes] == ["b"]


def test_one_bad_asset_does_not_stop_the_others(tmp_path):
    two = cube((40, 2, 6), "quay", slots=(STONE, WOOD), face_slot=[0, 0, 0, 1, 1, 1])
    scene = level()
    written(zo.Scene((Node("quay", content=two), *scene.roots[1:]), scene.frame, "level"), tmp_path / "level.glb")
    (tmp_path / "strict.toml").write_text('[limits]\nslots = 1\n[severities]\nslots = "error"\n')
    result = zo.run_job(job(tmp_path, "pieces", "glb", 'target = "strict.toml"\ncheck = "stop"\n'))
    (asset,) = result.assets
    assert (asset.state, asset.stopped, result.status) == ("written", ("quay",), 1)
    assert "quay is not written: 1 error" in texts(asset.notes)
    names = {path.name for path in (tmp_path / "ready").glob("*.glb")}
    assert names == {"level_scene.glb", "post.glb", "shed.glb", "door.glb", "reeds.glb"}
    # Nothing is taken as done that was not.
    assert zo.run_job(tmp_path / "level.toml").assets[0].stopped == ("quay",)


def test_formats_that_cannot_place_others_refuse_pieces(tmp_path):
    written(level(), tmp_path / "level.glb")
    with pytest.raises(zo.UsageError, match=r"OBJ with MTL files cannot place others.*Formats that can: collada, glb"):
        zo.run_job(job(tmp_path, "pieces", "obj"))


def test_only_cells_that_change_are_written_again(tmp_path):
    written(level(), tmp_path / "level.glb")
    path = job(tmp_path, "cell", "glb", 'steps = ["cells size=10m by=cut"]\n')
    zo.run_job(path)
    before = {one.name: one.stat().st_mtime_ns for one in (tmp_path / "ready").glob("*.glb")}
    assert {"cell_r0_f0.glb", "cell_l1_f2.glb"} <= before.keys()
    scene = level()
    crate = Node("crate", moved(-25, 0, 27), content=box((1, 1, 1), "crate"))
    written(zo.Scene((*scene.roots, crate), scene.frame, "level"), tmp_path / "level.glb")
    zo.run_job(path)
    after = {one.name: one.stat().st_mtime_ns for one in (tmp_path / "ready").glob("*.glb")}
    assert {name for name, time in after.items() if before.get(name) != time} == {"cell_r2_f2.glb"}


def test_a_file_per_cell_needs_cells(tmp_path):
    written(level(), tmp_path / "level.glb")
    result = zo.run_job(job(tmp_path, "cell", "glb"))
    assert "Add a step such as 'cells size=20m'" in str(result.assets[0].error)


# Places


@pytest.mark.parametrize(
    ("ending", "unit", "axes"), [("csv", "cm", "forward right up"), ("json", "in", "right up back")]
)
def test_places_there_and_back_in_any_space(tmp_path, ending, unit, axes):
    scene = zo.steps.Reframe(axes=axes, unit=unit).apply(level())
    notes = zo.write(scene, tmp_path / f"a.{ending}")
    assert "left out level: post_0_LOD1" in texts(notes)
    found = zo.read(tmp_path / f"a.{ending}")
    assert found.frame == scene.frame
    assert [one.name for one in found.roots] == [
        "quay",
        "post_0",
        "post_1",
        "post_2",
        "post_3",
        "shed",
        "door",
        "reeds",
    ]
    for placed in scene.walk():
        if placed.node.drawn is None or placed.node.role != "visible":
            continue
        node = next(one for one in found.roots if one.name == placed.node.name)
        wanted, got = placed.world[None], node.transform[None]
        if isinstance(node.content, Scatter):
            wanted, got = placed.world @ placed.node.content.transforms, node.content.transforms
        assert np.allclose(got, wanted, atol=2e-6 * np.abs(wanted).max())


def test_a_table_written_by_hand_becomes_a_scene_with_its_meshes(tmp_path):
    written(scene_of(Node("post", content=box((0.3, 1, 0.3), "post"))), tmp_path / "post.glb")
    places = table(
        tmp_path,
        'name;x;y;z;sx;sy;sz;kind;age\n"big; post";1;0;2;;;;oak;3\npost;4;0;5;2;2;2;pine;4\npost;6;0,5;7;1;1;1;;5\n'
        .replace("0,5", "0.5"),
        "yard.csv",
    )  # fmt: skip
    scene = zo.read(places, unit="m", axes="left up forward")
    assert "columns that are no numbers: kind" in texts(scene.notes)
    swapped = Swap(table=table(tmp_path, "name,file,node\n*post,post.glb,post\n")).apply(scene)
    one, two = swapped.roots
    assert (one.name, one.properties["age"], two.content.properties["age"].tolist()) == ("big; post", 3, [4, 5])
    assert np.allclose(swapped.bounds(), [[1, 0, 2], [6.3, 2, 7.3]])


@pytest.mark.parametrize(
    ("name", "text", "message"),
    [
        ("a.csv", "name,x,y\na,1,2\n", "line 1: has no column 'z'"),
        ("a.csv", "name,x,y,z\na,1,2,three\n", "line 2: z is 'three', which is not a number"),
        ("a.csv", "# hello\nname,x,y,z\na,1,2,3\na,1,nan,3\n", "line 4: holds numbers that are not finite"),
        ("a.csv", "name,x,y,z,sx,sy,sz\na,1,2,3,1,1,1\nb,1,2,3,1,0,1\n", "line 3: has a scale of zero"),
        ("a.csv", "name,x,y,z,qx,qy,qz,qw\na,1,2,3,0,0,0,0\n", "line 2: has a rotation of length zero"),
        ("a.csv", "name,x,y,z,qx\na,1,2,3,0\n", "a rotation needs qx, qy, qz and qw"),
        ("a.csv", "name,x,y,z,x\na,1,2,3,4\n", "has the column 'x' twice"),
        ("a.csv", "name,x,y,z\na,1,2,3,4\n", "line 2: has 5 values for 4 columns"),
        ("a.csv", "name,x,y,z\n", "has no places"),
        ("a.json", "{", "is not JSON"),
        ("a.json", '{"a": 1}', "is not a table of places"),
        ("a.json", '{"format": "places", "version": 2}', "version 2"),
        (
            "a.json",
            '{"format": "places", "version": 1, "things": [{"name": "a", "position": [[1, 2]]}]}',
            "thing 1: 'pos",
        ),
        (
            "a.json",
            '{"format": "places", "version": 1, "things": [{"name": "a", "position": [[1, 2, 3]], "scale": []}]}',
            "has 1 positions and 0 of 'scale'",
        ),
        ("a.json", '{"format": "places", "version": 1, "axes": "up up up", "things": []}', "Correct 'axes'"),
    ],
)
def test_a_table_of_places_that_makes_no_sense_is_refused_with_its_line(tmp_path, name, text, message):
    with pytest.raises(zo.InputError, match=message):
        zo.read(table(tmp_path, text, name))


def test_quick_and_careful_reading_of_tables_agree(tmp_path):
    scene = scene_of(Node("reeds", content=Scatter(box((1, 1, 1), "reed"), spots(50), {"seed": np.arange(50)})))
    path = written(scene, tmp_path / "a.csv")
    # A quote anywhere makes every line be read with care.
    quoted = table(tmp_path, path.read_text().replace("\nreeds,", '\n"reeds",', 1), "b.csv")
    one, other = (scatters_of(zo.read(each))[0] for each in (path, quoted))
    assert np.array_equal(one.transforms, other.transforms)
    assert np.array_equal(one.properties["seed"], other.properties["seed"])


# Large ones


def test_a_million_copies_are_not_taken_apart(tmp_path):
    count = 1_000_000
    transforms = np.tile(np.eye(4), (count, 1, 1))
    transforms[:, 0, 3] = np.arange(count)
    scene = scene_of(Node("reeds", content=Scatter(box((0.1, 1, 0.1), "reed"), transforms)))
    with pytest.raises(
        zo.OutputError, match=r"OBJ with MTL has no scatters: 1,000,000 copies.*12,000,000 triangles"
    ) as told:
        zo.write(scene, tmp_path / "a.obj")
    assert "Write glTF or USD" in str(told.value)
    assert list(tmp_path.iterdir()) == []
    assert zo.audit.survey(scene).triangles == 12_000_000
    cells = Cells(size=50_000).apply(scene)
    assert sum(one.content.count for cell in cells.roots for one in cell.children) == count


def test_arrival_sees_a_copy_that_moved(tmp_path):
    from zesty_otter.audit.arrival import arrived

    scene = scene_of(Node("reeds", content=Scatter(box((0.1, 1, 0.1), "reed"), spots(30), {"seed": np.arange(30)})))
    path = written(scene, tmp_path / "a.glb")
    assert arrived(scene, path).problems == ()
    wrong = scene.roots[0].content.transforms.copy()
    wrong[7, 2, 3] += 0.05
    moved_one = scene_of(Node("reeds", content=Scatter(scene.meshes[0], wrong, {"seed": np.arange(30)})))
    assert "copies are up to 0.05 m away" in texts(arrived(moved_one, path).problems)
    other = scene_of(Node("reeds", content=Scatter(scene.meshes[0], spots(30), {"seed": np.arange(30) + 1})))
    assert "of its copies differ: seed" in texts(arrived(other, path).problems)
    comparison = zo.audit.compare(scene, moved_one)
    assert comparison.nodes[0].moved == pytest.approx(0.05)


def test_a_crowd_is_drawn_as_its_copies_are(tmp_path):
    from zesty_otter.pictures import Look, crowds, picture

    mesh = pot("reed", 24, 20, 1)
    scene = scene_of(Node("pots", content=Scatter(mesh, spots(60))))
    look = Look(size=(480, 320), figure=False)
    full = np.asarray(picture(scene, look), float)
    kept = crowds.TRIANGLES
    try:
        crowds_in_view = __import__("zesty_otter.pictures.view", fromlist=["TRIANGLES"])
        crowds_in_view.TRIANGLES = 2_000
        light = np.asarray(picture(scene, look), float)
    finally:
        crowds_in_view.TRIANGLES = kept
    drawn = np.abs(full - full[1, 1]).max(axis=2) > 20
    seen = np.abs(light - light[1, 1]).max(axis=2) > 20
    assert drawn.sum() > 2_000
    assert (drawn & seen).sum() > 0.7 * drawn.sum()
    assert np.abs(full - light).mean() > 0.05


def test_the_level_of_the_kit_arrives(tmp_path):
    result = zo.run_job(write_level(tmp_path))
    assert result.status == 0
    (asset,) = result.assets
    assert asset.state == "written"
    scene = zo.read(tmp_path / "level" / "pieces" / "yard_scene.glb")
    counts = sorted(one.count for one in scatters_of(scene))
    assert counts == [100, 100, 100, 2000]
    assert sum(one.node.kind == "light" for one in scene.walk()) == 8
    assert all(one.mesh.triangle_count == 30 for one in scatters_of(scene) if one.count == 2000)
    cells = [zo.read(path) for path in sorted((tmp_path / "level" / "cells").glob("*.glb"))]
    assert sum(one.count for cell in cells for one in scatters_of(cell)) == 2300
