from __future__ import annotations

import contextlib
import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import CUBE_FACES, CUBE_POINTS, cube, moved, scene_of
from zesty_otter.demo.textures import timber
from zesty_otter.jobs import Job, Output, Source, load, record, schema, work
from zesty_otter.jobs.lay_out import in_rows
from zesty_otter.jobs.record import Record
from zesty_otter.model import Layer, Material, Node, Texture, TextureUse
from zesty_otter.page import report
from zesty_otter.pipeline.pieces import split


def obj_cube(size: float = 1.0, *names: str, at: float = 0.0, groups: dict[str, str] | None = None) -> str:
    """OBJ text of one cube for each name, side by side."""
    lines = []
    for number, name in enumerate(names or ("thing",)):
        lines.append(f"o {name}")
        lines += [f"g {groups[name]}"] if groups and name in groups else []
        lines += [f"v {x * size + at + 2 * number} {y * size} {z * size}" for x, y, z in CUBE_POINTS]
        lines += ["f " + " ".join(str(p + 1 + 8 * number) for p in face) for face in CUBE_FACES]
    return "\n".join(lines) + "\n"


OUTPUT = '[[outputs]]\nformats = "glb"\n'


@pytest.fixture
def yard(tmp_path):
    """A folder with three sources and a way to write jobs for them."""
    props = tmp_path / "props"
    props.mkdir()
    for name, size in (("post", 1.0), ("gate", 2.0), ("net", 3.0)):
        (props / f"{name}.obj").write_text(obj_cube(size))

    def write(text: str = "", sources: str = 'files = "props"\nunit = "m"', outputs: str = OUTPUT) -> Path:
        path = tmp_path / "yard.toml"
        path.write_text(f"{text}\n[[sources]]\n{sources}\n{outputs}")
        return path

    return write


def made(folder: Path) -> list[str]:
    """The files below a folder, without what the job remembers."""
    files = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file())
    return [name for name in files if not name.endswith((".jsonl", ".record", ".report", "report.html"))]


def contents(folder: Path) -> dict[str, bytes | list[str]]:
    """What files hold: their bytes, or what databases say of the assets."""
    return {path.relative_to(folder).as_posix(): held(path) for path in folder.rglob("*") if path.is_file()}


def held(path: Path) -> bytes | list[str]:
    if path.read_bytes()[:6] != b"SQLite":
        return path.read_bytes()
    if path.suffix == ".record":
        return Record(path).as_json().splitlines()
    with contextlib.closing(sqlite3.connect(path)) as database:
        return sorted(database.iterdump())


def states(result) -> dict[str, str]:
    return {Path(asset.name).stem: asset.state for asset in result.assets}


# What comes out


def test_a_folder_becomes_a_file_each_and_says_what_arrived(yard, tmp_path, run):
    ran = run("run", yard('title = "Props"'))
    assert ran.status == 0
    assert "Props" in ran.out
    assert "3 written; 3 files" in ran.out
    assert made(tmp_path / "ready") == ["gate.glb", "net.glb", "post.glb"]
    arrivals = [json.loads(line) for line in (tmp_path / "ready" / "arrivals.jsonl").read_text().splitlines()]
    sizes = {one["asset"]: (one["files"][0]["size"], one["files"][0]["triangles"]) for one in arrivals}
    assert sizes == {f"props/{name}.obj": ([s] * 3, 12) for name, s in (("gate", 2.0), ("net", 3.0), ("post", 1.0))}
    assert all(one["files"][0]["arrived"] for one in arrivals)


@pytest.mark.parametrize(
    ("settings", "files"),
    [
        ('split = "scene"', ["yard.glb"]),
        ('split = "object"', ["crate.glb", "pole.glb", "rope.glb"]),
        ('split = "group"', ["deck.glb", "rope.glb"]),
        (
            'split = "object"\nfile = "{source}_{name}_{number:3}"',
            ["yard_crate_001.glb", "yard_pole_002.glb", "yard_rope_003.glb"],
        ),
        ('split = "object"\nfolder = "{group}"', ["deck/crate.glb", "deck/pole.glb", "rope.glb"]),
        ('suffix = "_far"', ["yard_far.glb"]),
        ('suffix = "_far"\nfile = "{output}{suffix}_{name}"\nname = "a b"', ["a_b_far_yard.glb"]),
        ('formats = ["glb", "obj"]', ["yard.glb", "yard.obj"]),
        ('keep = "pole"\nsplit = "object"', ["pole.glb"]),
        ('split = "object"\ncommon = "rope"', ["crate.glb", "pole.glb"]),
    ],
)  # fmt: skip
def test_outputs_are_split_and_named_as_asked(yard, tmp_path, settings, files):
    groups = {"crate": "deck", "pole": "deck", "rope": "default"}
    (tmp_path / "yard.obj").write_text(obj_cube(1.0, "crate", "pole", "rope", groups=groups))
    result = zo.run_job(yard(sources='files = "yard.obj"\nunit = "m"', outputs=f"[[outputs]]\n{settings}"))
    assert result.status == 0
    assert made(tmp_path / "ready") == files
    if "common" in settings:
        assert [len(zo.read(tmp_path / "ready" / name).meshes) for name in files] == [2, 2]


def tree() -> zo.Scene:
    """yard > (quay > (wall, rung), mast > flag), lamp: two groups in one, and something in none."""
    quay = Node(
        "quay",
        moved(1, 0, 0),
        (Node("wall", content=cube(name="wall")), Node("rung", moved(0, 2, 0), content=cube(name="rung"))),
    )
    mast = Node("mast", moved(5, 0, 0), (Node("flag", moved(0, 3, 0), content=cube(name="flag")),))
    lamp = Node("lamp", moved(9, 0, 0), content=cube(name="lamp"))
    return scene_of(Node("yard", moved(0, 0, 7), (quay, mast)), lamp)


@pytest.mark.parametrize(
    ("how", "expected"),
    [
        ("scene", {"all": ["yard", "quay", "wall", "rung", "mast", "flag", "lamp"]}),
        ("object", {"wall": ["wall"], "rung": ["rung"], "flag": ["flag"], "lamp": ["lamp"]}),
        ("group", {"quay": ["quay", "wall", "rung"], "mast": ["mast", "flag"], "lamp": ["lamp"]}),
        ("top-group", {"yard": ["yard", "quay", "wall", "rung", "mast", "flag"], "lamp": ["lamp"]}),
    ],
)
def test_a_tree_is_split_and_nothing_moves(how, expected):
    before = {placed.node.name: placed.world for placed in tree().walk()}
    pieces = split(tree(), how, "all")
    assert {piece.name: [one.node.name for one in piece.scene.walk()] for piece in pieces} == expected
    for piece in pieces:
        assert all(np.array_equal(one.world, before[one.node.name]) for one in piece.scene.walk())


def test_levels_and_collision_go_with_their_asset():
    names = ("gate", "gate_LOD1", "gate_collision", "post")
    scene = zo.apply(scene_of(*(cube(name=name) for name in names)), zo.steps.Roles())
    pieces = split(scene, "object", "")
    assert [[one.node.name for one in piece.scene.walk()] for piece in pieces] == [list(names[:3]), ["post"]]


def test_joined_files_hold_one_mesh_and_origin_moves_the_first_node(yard, tmp_path):
    (tmp_path / "yard.obj").write_text(obj_cube(1.0, "crate", "pole"))
    job = yard(
        sources='files = "yard.obj"\nunit = "m"\nsteps = ["pivot at=base"]',
        outputs='[[outputs]]\nfolder = "one"\nmeshes = "joined"\n'
        '[[outputs]]\nfolder = "own"\nsplit = "object"\nplace = "origin"\n',
    )
    assert zo.run_job(job).status == 0
    one = zo.read(tmp_path / "ready" / "one" / "yard.glb")
    assert [(node.name, node.mesh.triangle_count) for node in one.roots] == [("yard", 24)]
    assert one.bounds().tolist() == [[0, 0, 0], [3, 1, 1]]
    assert not one.roots[0].transform[:3, 3].any()
    own = zo.read(tmp_path / "ready" / "own" / "pole.glb")
    assert own.bounds().tolist() == [[-0.5, 0, -0.5], [0.5, 1, 0.5]]


def test_steps_run_in_order_for_the_source_the_job_and_the_output(yard, tmp_path):
    job = yard(
        'steps = ["scale factor=3", { step = "names", template = "b_{name}", only = "thing" }]\n',
        sources='files = "props/post.obj"\nunit = "m"\nsteps = ["names template=a_{name} only=thing"]',
        outputs='[[outputs]]\nfolder = "x"\n[[outputs]]\nfolder = "y"\nsteps = ["names template=c_{name}"]',
    )
    zo.run_job(job)
    assert [node.name for node in zo.read(tmp_path / "ready" / "x" / "post.glb").roots] == ["a_thing"]
    out = zo.read(tmp_path / "ready" / "y" / "post.glb")
    assert [node.name for node in out.roots] == ["c_a_thing"]
    assert np.ptp(out.bounds(), axis=0).tolist() == [3, 3, 3]


def test_saved_settings_and_bases_are_built_upon(yard, tmp_path):
    (tmp_path / "house").mkdir()
    (tmp_path / "house" / "style.toml").write_text(
        'folder = "../out"\nsteps = ["scale factor=2"]\n[settings.far]\nsuffix = "_far"\ntarget = "mine.toml"\n'
    )
    (tmp_path / "house" / "mine.toml").write_text(
        'extends = "cm-forward-right-up"\nformats = ["obj"]\n[limits]\ntriangles = 10\n'
    )
    result = zo.run_job(yard('based_on = "house/style.toml"', outputs='[[outputs]]\nuse = "far"\nsuffix = "_x"'))
    assert made(tmp_path / "out") == ["gate_x.obj", "net_x.obj", "post_x.obj"]
    post = zo.read(tmp_path / "out" / "post_x.obj", unit="cm", axes="forward right up")
    assert np.ptp(post.bounds(), axis=0).tolist() == [200, 200, 200]
    assert {finding.rule for asset in result.assets for finding in asset.findings} == {"triangles"}


@pytest.mark.parametrize(("bits", "count"), [(None, 1), (16, 2)])
def test_meshes_are_cut_for_narrow_indices(yard, tmp_path, bits, count):
    n = 300
    points = "\n".join(f"v {k % n} 0 {k // n}" for k in range(n * n))
    faces = "\n".join(f"f {a} {a + n} {a + n + 1} {a + 1}" for r in range(n - 1) for a in range(r * n + 1, r * n + n))
    (tmp_path / "flood.obj").write_text(f"o flood\n{points}\ns 1\n{faces}\n")
    limit = f"[limits]\nindex_bits = {bits}\n" if bits else ""
    (tmp_path / "old.toml").write_text(f'extends = "m-left-up-forward"\n{limit}')
    job = yard('target = "old.toml"', sources='files = "flood.obj"\nunit = "m"', outputs="[[outputs]]\n")
    assert zo.run_job(job).status == 0
    scene = zo.read(tmp_path / "ready" / "flood.glb")
    assert len(scene.meshes) == count
    assert sum(mesh.triangle_count for mesh in scene.meshes) == 2 * (n - 1) ** 2
    assert max(mesh.point_count for mesh in scene.meshes) <= (65535 if bits else n * n)


# Assembling


def assembled(yard, tmp_path, **parts: tuple[float, float, str]):
    for name, (size, at, unit) in parts.items():
        (tmp_path / unit).mkdir(exist_ok=True)
        (tmp_path / unit / f"{name}.obj").write_text(obj_cube(size, "Object", at=at))
    sources = "\n[[sources]]\n".join(
        f'files = "{unit}/*.obj"\nunit = "{unit}"\nassemble = true' for unit in sorted({p[2] for p in parts.values()})
    )
    return zo.run_job(yard(sources=sources))


def test_one_asset_is_assembled_from_several_files(yard, tmp_path):
    result = assembled(yard, tmp_path, hut=(1.0, 0.0, "m"), hut_LOD1=(100.0, 0.0, "cm"), hut_collision=(1.0, 0.0, "m"))
    assert result.status == 0
    scene = zo.read(tmp_path / "ready" / "hut.glb")
    assert [node.name for node in scene.roots] == ["hut", "hut_LOD1", "hut_collision"]
    assert all(np.array_equal(mesh.surface_bounds, [[0, 0, 0], [1, 1, 1]]) for mesh in scene.meshes)
    rules = [finding.rule for asset in result.assets for finding in asset.findings]
    assert [rule for rule in rules if rule.startswith("assembly")] == ["assembly-frame"]


@pytest.mark.parametrize(
    ("part", "rule"),
    [
        ((100.0, 0.0, "m"), "seems to be in another unit"),
        ((1.4, 0.0, "m"), "1.4 times as large"),
    ],
)
def test_parts_that_do_not_fit_are_found(yard, tmp_path, part, rule):
    result = assembled(yard, tmp_path, hut=(1.0, 0.0, "m"), hut_LOD1=part)
    (finding,) = [one for one in result.assets[0].findings if one.rule.startswith("assembly")]
    assert rule in finding.text


# Lay-out


def test_assets_are_laid_out_in_rows_with_even_gaps(yard, tmp_path):
    result = zo.run_job(yard('[lay_out]\nfile = "all.glb"\ngap = "25cm"\nper_row = 2'))
    assert result.overview.state == "written"
    scene = zo.read(tmp_path / "ready" / "all.glb")
    boxes = {root.name: zo.Scene((root,), scene.frame).bounds() for root in scene.roots}
    assert list(boxes) == ["gate", "net", "post"]
    assert boxes["gate"].tolist() == [[0, 0, 0], [2, 2, 2]]
    assert boxes["net"].tolist() == [[2.25, 0, 0], [5.25, 3, 3]]
    assert boxes["post"].tolist() == [[0, 0, 3.25], [1, 1, 4.25]]


@pytest.mark.parametrize("axes", ["left up forward", "forward right up", "right forward up"])
def test_rows_stand_on_the_ground_in_every_frame(axes):
    scenes = [scene_of(Node("a", moved(3, 4, 5), content=cube((k, k, k))), axes=axes, unit="cm") for k in (1, 2, 3)]
    laid = in_rows(scenes, 0.01)
    up, sign = laid.frame.towards("up")
    heights = [zo.Scene((root,), laid.frame).bounds()[:, up] * sign for root in laid.roots]
    assert np.allclose([min(height) for height in heights], 0)


# Again and again


def test_only_what_changed_is_made_again(yard, tmp_path):
    job = yard('[lay_out]\nfile = "all.glb"')
    assert set(states(zo.run_job(job)).values()) == {"written"}
    before = contents(tmp_path / "ready")
    again = zo.run_job(job)
    assert set(states(again).values()) == {"unchanged"}
    assert again.overview.state == "unchanged"
    assert contents(tmp_path / "ready") == before
    (tmp_path / "props" / "gate.obj").write_text(obj_cube(5.0))
    third = zo.run_job(job)
    assert states(third) == {"gate": "written", "net": "unchanged", "post": "unchanged"}
    assert third.overview.state == "written"
    (tmp_path / "ready" / "net.glb").unlink()
    assert states(zo.run_job(job))["net"] == "written"
    assert set(states(zo.run_job(job, fresh=True)).values()) == {"written"}
    yard('steps = ["scale factor=2"]')
    assert set(states(zo.run_job(job)).values()) == {"written"}


def test_the_record_is_the_same_whatever_the_workers(yard, tmp_path):
    job = yard()
    kept = []
    for workers in (1, 2):
        zo.run_job(job, workers=workers, fresh=True)
        kept.append(contents(tmp_path / "ready"))
    assert kept[0] == kept[1]


def test_a_job_is_the_same_from_wherever_it_is_run(yard, tmp_path, monkeypatch):
    (tmp_path / "names.csv").write_text("kind,old,new\nnode,thing,oar\n")
    yard('steps = ["names table=names.csv"]')
    monkeypatch.chdir(tmp_path.parent)
    assert set(states(zo.run_job(Path(tmp_path.name) / "yard.toml")).values()) == {"written"}
    for folder in (tmp_path, tmp_path / "props"):
        monkeypatch.chdir(folder)
        assert set(states(zo.run_job(Path(os.path.relpath(tmp_path / "yard.toml")))).values()) == {"unchanged"}


def test_files_that_look_the_same_are_not_read_again(yard, tmp_path, monkeypatch):
    job = yard()
    zo.run_job(job)
    time.sleep(0.3)  # files that were written this moment could change without looking different
    zo.run_job(job)
    read = []
    hash_of = record.hash_of
    monkeypatch.setattr(record, "hash_of", lambda path: (read.append(path.name), hash_of(path))[1])
    assert set(states(zo.run_job(job)).values()) == {"unchanged"} and read == []
    os.utime(tmp_path / "props" / "gate.obj")
    assert set(states(zo.run_job(job)).values()) == {"unchanged"} and read == ["gate.obj"]
    # The same size and time of change, but other bytes.
    net = tmp_path / "ready" / "net.glb"
    was = net.stat()
    net.write_bytes(bytes(reversed(net.read_bytes())))
    os.utime(net, ns=(was.st_atime_ns, was.st_mtime_ns))
    for _ in range(2):
        time.sleep(0.3)
        assert states(zo.run_job(job))["net"] == "kept"


def test_a_record_that_cannot_be_read_counts_as_none_and_is_written_as_json_when_asked(yard, tmp_path, run):
    job = yard()
    assert "has no record yet" in run("run", job, "--export-record", tmp_path / "r.json").err
    zo.run_job(job)
    assert run("run", job, "--export-record", tmp_path / "r.json").status == 0
    told = json.loads((tmp_path / "r.json").read_text())["assets"]
    assert list(told) == ["props/gate.obj", "props/net.obj", "props/post.obj"]
    assert set(told["props/gate.obj"]) == {"settings", "inputs", "files", "findings"}
    assert list(told["props/gate.obj"]["inputs"]) == ["../props/gate.obj"]
    (tmp_path / "ready" / "yard.record").write_bytes(b"SQLite format 3\0" + bytes(range(256)) * 20)
    assert set(states(zo.run_job(job)).values()) == {"written"}
    assert set(states(zo.run_job(job)).values()) == {"unchanged"}


def test_a_record_in_use_is_not_thrown_away_and_one_without_room_is_said(yard, tmp_path, run, monkeypatch):
    job = yard()
    zo.run_job(job)
    kept = tmp_path / "ready" / "yard.record"
    monkeypatch.setattr(record, "_PATIENCE", 0.1)
    with contextlib.closing(sqlite3.connect(kept, isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        ran = run("run", job)
        assert ran.status == 3 and "the record cannot be read: database is locked. Close what uses it" in ran.err
        other.execute("ROLLBACK")
    assert set(states(zo.run_job(job)).values()) == {"unchanged"}
    kept.unlink()
    code = (
        "import resource, signal, sys; resource.setrlimit(resource.RLIMIT_FSIZE, (6000, 6000));"
        "signal.signal(signal.SIGXFSZ, signal.SIG_IGN); from zesty_otter.cli import main; main(sys.argv[1:])"
    )
    ran = subprocess.run([sys.executable, "-c", code, "run", str(job)], capture_output=True, text=True)
    assert ran.returncode == 4 and "the record could not be written" in ran.stderr, ran.stderr
    assert set(states(zo.run_job(job)).values()) == {"written"}


@pytest.mark.parametrize("workers", [1, 2])
def test_what_takes_long_is_told_one_by_one(yard, tmp_path, monkeypatch, workers):
    for k in range(90):
        (tmp_path / "props" / f"oar{k:02}.obj").write_text(obj_cube())
    monkeypatch.setattr(work, "LONG", 0.0)
    told = []
    result = zo.run_job(yard(), workers=workers, on_progress=told.append)
    assert set(states(result).values()) == {"written"} and len(result.assets) == 93
    assert sorted(one.asset for one in told) == sorted(one.name for one in result.assets)
    assert [one.done for one in told] == list(range(1, 94))


def test_a_large_job_tells_counts_and_the_worst(yard, tmp_path, run):
    for k in range(90):
        (tmp_path / "props" / f"oar{k:02}.obj").write_text(obj_cube() if k != 77 else "v 1\n")
    ran = run("run", yard())
    assert "oar77.obj" in ran.out and "oar12.obj" not in ran.out
    assert "and 92 more assets; --verbose lists all" in ran.out and "92 written, 1 failed" in ran.out
    assert "oar12.obj" in run("run", yard(), "--verbose").out
    for path in (tmp_path / "props").glob("oar*"):
        path.unlink()
    ran = run("run", yard())
    assert ran.err.count("is left from an earlier run") == 40
    assert "and 49 more remarks; --verbose lists all" in ran.err


def test_names_that_are_not_text_fail_alone(yard, tmp_path, run):
    nameless = tmp_path / "props" / os.fsdecode(b"oar\xff.obj")
    try:
        nameless.write_text(obj_cube())
    except OSError:
        pytest.skip("names are text here")
    ran = run("run", yard("report = true"))
    assert "props/oar?.obj: its name or folder is not text in UTF-8. Rename it." in ran.err
    assert ran.status == 3 and "3 written, 1 failed" in ran.out
    with pytest.raises(zo.InputError, match="its name is not text"):
        zo.read(nameless)
    with pytest.raises(zo.OutputError, match="its name is not text"):
        zo.write(zo.read(tmp_path / "ready" / "net.glb"), tmp_path / os.fsdecode(b"oar\xff.glb"))
    assert not list(tmp_path.glob("oar*"))


def test_textures_count_as_inputs_also_when_they_appear_later(yard, tmp_path):
    from zesty_otter.demo.textures import timber

    (tmp_path / "props" / "post.obj").write_text("mtllib post.mtl\nusemtl wood\n" + obj_cube())
    (tmp_path / "props" / "post.mtl").write_text("newmtl wood\nmap_Kd wood.png\n")
    job = yard()
    zo.run_job(job)
    assert set(states(zo.run_job(job)).values()) == {"unchanged"}
    (tmp_path / "props" / "wood.png").write_bytes(timber())
    assert states(zo.run_job(job)) == {"gate": "unchanged", "net": "unchanged", "post": "written"}
    assert len(zo.read(tmp_path / "ready" / "post.glb").textures) == 1


def test_files_edited_by_hand_are_named_and_left_alone(yard, tmp_path, run):
    job = yard()
    zo.run_job(job)
    gate = tmp_path / "ready" / "gate.glb"
    gate.write_bytes(b"my own work")
    ran = run("run", job)
    assert ran.status == 1
    assert "gate.glb: was edited by hand" in ran.err
    (tmp_path / "props" / "gate.obj").write_text(obj_cube(4.0))
    ran = run("run", job)
    assert ran.status == 1
    assert gate.read_bytes() == b"my own work"
    assert run("run", job).status == 1
    ran = run("run", job, "--replace-edited")
    assert ran.status == 0
    assert np.ptp(zo.read(gate).bounds(), axis=0).tolist() == [4, 4, 4]


def test_an_overview_edited_by_hand_is_left_alone(yard, tmp_path, run):
    job = yard('[lay_out]\nfile = "all.glb"')
    zo.run_job(job)
    (tmp_path / "ready" / "all.glb").write_bytes(b"my own work")
    ran = run("run", job)
    assert ran.status == 0
    assert "all.glb: was edited by hand" in ran.err
    (tmp_path / "props" / "gate.obj").write_text(obj_cube(4.0))
    assert run("run", job).status == 1
    assert (tmp_path / "ready" / "all.glb").read_bytes() == b"my own work"
    assert run("run", job, "--replace-edited").status == 0
    assert len(zo.read(tmp_path / "ready" / "all.glb").roots) == 3


def test_an_overview_is_not_written_over_an_asset_or_a_source(yard, tmp_path, run):
    ran = run("run", yard('[lay_out]\nfile = "gate.glb"'))
    assert ran.status == 2
    assert "gate.glb: props/gate.obj is written to it already" in ran.err
    assert len(zo.read(tmp_path / "ready" / "gate.glb").roots) == 1
    before = (tmp_path / "props" / "gate.obj").read_bytes()
    ran = run("run", yard('folder = "props"\n[lay_out]\nfile = "gate.obj"'))
    assert ran.status == 4
    assert "is one of the sources of the job" in ran.err
    assert (tmp_path / "props" / "gate.obj").read_bytes() == before


def test_what_is_not_made_any_more_is_named(yard, tmp_path):
    job = yard()
    zo.run_job(job)
    (tmp_path / "props" / "net.obj").unlink()
    result = zo.run_job(job)
    assert result.remarks == ("net.glb is left from an earlier run; props/net.obj is no longer in the job",)
    assert (tmp_path / "ready" / "net.glb").exists()
    yard(outputs='[[outputs]]\nsuffix = "_b"')
    assert zo.run_job(job).remarks == tuple(
        f"{name}.glb is left from an earlier run; props/{name}.obj no longer produces it" for name in ("gate", "post")
    )


@pytest.mark.parametrize(
    ("rule", "names", "size"),
    [("replace", ["gate.glb"], 2.0), ("keep", ["gate.glb"], None), ("number", ["gate.glb", "gate_2.glb"], None)],
)
def test_existing_files_are_treated_as_asked(yard, tmp_path, rule, names, size):
    job = yard(f'on_existing = "{rule}"', sources='files = "props/gate.obj"\nunit = "m"')
    (tmp_path / "ready").mkdir()
    (tmp_path / "ready" / "gate.glb").write_bytes(b"before")
    assert zo.run_job(job, replace_foreign=rule == "replace").status == 0
    assert made(tmp_path / "ready") == names
    first = tmp_path / "ready" / "gate.glb"
    assert (first.read_bytes() == b"before") == (size is None)
    newest = zo.read(tmp_path / "ready" / names[-1]) if rule != "keep" else None
    assert newest is None or np.ptp(newest.bounds(), axis=0).tolist() == [2, 2, 2]


def test_only_some_assets_are_run(yard, tmp_path, run):
    assert run("run", yard(), "--only", "g*").status == 0
    assert made(tmp_path / "ready") == ["gate.glb"]
    ran = run("run", yard(), "--only", "boat*")
    assert ran.status == 2
    assert "no asset matches 'boat*'" in ran.err


def test_a_dry_run_says_everything_and_writes_nothing(yard, tmp_path, run):
    outputs = '[[outputs]]\nsplit = "object"\nfile = "{source}_{name}"'
    ran = run("run", yard('steps = ["weld distance=2mm"]', outputs=outputs), "--dry-run")
    assert ran.status == 0
    for words in ("weld distance=2mm", "gate_thing.glb", "to do", "a .glb file per object", "Nothing was written"):
        assert words in ran.out
    assert not (tmp_path / "ready").exists()


def test_python_gets_results_and_progress(tmp_path):
    (tmp_path / "a.obj").write_text(obj_cube())
    (tmp_path / "b.obj").write_text(obj_cube(2.0))
    events = []
    job = Job(sources=(Source(files=(str(tmp_path),), unit="cm"),), outputs=(Output(),), folder=str(tmp_path / "out"))
    result = zo.run_job(job, on_progress=events.append)
    assert [(event.done, event.total, event.state) for event in events] == [(1, 2, "written"), (2, 2, "written")]
    sizes = np.array([asset.files[0].facts.size for asset in result.assets])
    assert np.allclose(sizes, [[0.01] * 3, [0.02] * 3])


# Bad input


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("steeps = []", "line 1: 'steeps' is not a key.*Did you mean 'steps'"),
        ('title = "x"\non_existing = "overwrite"', "line 2: on_existing: must be 'replace', 'keep' or 'number'"),
        ('title = "x"\n\nsteps = [\n  "weld",\n  "wled",\n]', "line 5: steps: 'wled' is not a step"),
        ('[[steps]]\nstep = "weld"\ndistanse = "1mm"', "line 3: .*no setting 'distanse'.*Did you mean 'distance'"),
        ("[[steps]]\ndistance = 1", "line 1: steps: a step needs its name"),
        ('[lay_out]\nfile = "x.glb"\ngap = "wide"', "line 3: lay_out.gap: 'wide' is not a length"),
        ('based_on = "yard.toml"', "is based on itself: yard.toml → yard.toml"),
        ('target = "m-left-up-foward"', "'m-left-up-foward' is not a target. Did you mean 'm-left-up-forward'"),
        ('target = "nowhere.toml"', "nowhere.toml: there is no such file"),
        ("[settings.a]\nuse = 'b'\n[settings.b]\nuse = 'a'\n[[outputs]]\nuse = 'a'", "use themselves"),
        ("[[outputs]]\nuse = 'far'", "no saved settings 'far'. Add a table"),
        ("[[outputs]]\nfile = '{nam}'", "line 2: outputs.file: '{nam}' is not one of .*Did you mean 'name'"),
        ("[[outputs]]\nsplit = 'objects'", "line 2: outputs.split: must be.*Did you mean 'object'"),
        ("[[outputs]]\nformats = ['glb', 'glbb']", "'glbb' cannot be written; there are.*Did you mean 'glb'"),
        ("[[outputs]]\nunit = 'yards'", "line 2: outputs.unit: 'yards' is not a unit"),
        ("[[outputs]]\naxes = 'up up up'", "line 2: outputs.axes: .*one direction twice"),
        ("[[outputs]]\nkeep = 'rol:level'", "line 2: outputs.keep: 'rol:level' does not begin with"),
        ("[[outputs]]\nunit = 'cm'\nformats = 'glb'", "a .glb file is always in m"),
        ("[[outputs]]\n[lay_out]\nof = 'far'", "no output 'far' to lay out"),
        ("x = [", "is not TOML"),
    ],
)  # fmt: skip
def test_mistakes_in_a_job_are_pointed_at(tmp_path, run, text, message):
    (tmp_path / "thing.obj").write_text(obj_cube())
    (tmp_path / "yard.toml").write_text(
        text + '\n[[sources]]\nfiles = "thing.obj"\nunit = "m"\n' + ("" if "outputs" in text else OUTPUT)
    )
    ran = run("run", tmp_path / "yard.toml")
    assert ran.status in (2, 3)
    assert re.search(message, ran.err), ran.err
    assert not (tmp_path / "ready").exists()


def test_one_bad_source_does_not_stop_the_others(yard, tmp_path, run):
    (tmp_path / "props" / "broken.obj").write_text("nothing in it\n")
    (tmp_path / "props" / "damaged.glb").write_bytes(b"glTF\0\0\0\0")
    ran = run("run", yard(sources='files = ["props", "lost.obj", "more/*.obj"]\nunit = "m"'), "--workers", 2)
    assert ran.status == 3
    assert made(tmp_path / "ready") == ["gate.glb", "net.glb", "post.glb"]
    for words in ("lost.obj: there is no such file", "more/*.obj: no file that can be read", "damaged.glb"):
        assert words in ran.err
    assert "3 written" in ran.out
    assert run("run", yard(sources='files = ["props", "lost.obj"]\nunit = "m"'), "--json").json["status"] == 3


def test_a_step_that_fails_names_its_asset(yard, run):
    ran = run("run", yard('steps = ["pivot at=marker:hinge"]'))
    assert ran.status == 2
    assert ran.err.count("no node called 'hinge'") == 3


def test_an_unknown_unit_asks_for_it_in_the_job(yard, run):
    ran = run("run", yard(sources='files = "props/post.obj"'))
    assert ran.status == 2
    assert "post.obj: changing units needs" in ran.err
    assert 'Say it in its [[sources]], for example unit = "cm"' in ran.err


@pytest.mark.parametrize(
    "outputs",
    [
        '[[outputs]]\n[[outputs]]\nplace = "origin"',
        '[[outputs]]\nfile = "one"',
        '[[outputs]]\nsplit = "object"',
        '[[outputs]]\nsplit = "object"\nfile = "{source}"\nkeep = "thing"\n[[outputs]]\n',
    ],
)
def test_two_outputs_for_one_file_are_refused_before_anything_is_written(yard, tmp_path, run, outputs):
    ran = run("run", yard(outputs=outputs))
    assert ran.status == 2
    assert "would both be written to it" in ran.err
    assert made(tmp_path / "ready") == []


def test_a_source_is_never_written_over(tmp_path, run):
    zo.write(scene_of(cube()), tmp_path / "gate.glb")
    before = (tmp_path / "gate.glb").read_bytes()
    (tmp_path / "yard.toml").write_text(f'folder = "."\n[[sources]]\nfiles = "gate.glb"\n{OUTPUT}')
    ran = run("run", tmp_path / "yard.toml")
    assert ran.status == 4
    assert "is one of the sources of the job" in ran.err
    assert (tmp_path / "gate.glb").read_bytes() == before


def test_a_material_library_that_was_read_is_never_written_over(tmp_path, run):
    (tmp_path / "post.obj").write_text("mtllib gate.mtl\nusemtl wood\n" + obj_cube())
    library = "# ours\nnewmtl wood\nKd 1 0 0\n"
    (tmp_path / "gate.mtl").write_text(library)
    job = tmp_path / "yard.toml"
    job.write_text(
        'folder = "."\n[[sources]]\nfiles = "post.obj"\nunit = "m"\n[[outputs]]\nformats = "obj"\nfile = "gate"\n'
    )
    ran = run("run", job)
    assert ran.status == 4
    assert "gate.mtl: belongs to one of the sources" in ran.err
    assert (tmp_path / "gate.mtl").read_text() == library
    assert not (tmp_path / "gate.obj").exists()


def test_a_folder_that_cannot_be_written_is_named(yard, tmp_path, run):
    (tmp_path / "ready").write_text("a file in the way")
    ran = run("run", yard())
    assert ran.status == 4
    assert "ready: nothing can be written there" in ran.err


def test_a_full_disk_fails_what_does_not_fit_and_nothing_else(yard, tmp_path):
    points = "\n".join(f"v {k} {k * k % 17} {k % 5}" for k in range(30000))
    (tmp_path / "props" / "big.obj").write_text(
        f"o big\n{points}\n" + "\n".join(f"f {k} {k + 1} {k + 2}" for k in range(1, 29999))
    )
    job = yard()
    code = (
        "import resource, sys; resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000));"
        "import signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN);"
        "import zesty_otter as zo; r = zo.run_job(sys.argv[1]);"
        "print({a.name: a.state for a in r.assets}, r.status, [str(a.error) for a in r.assets if a.error])"
    )
    ran = subprocess.run([sys.executable, "-c", code, str(job)], capture_output=True, text=True, check=True)
    assert "'props/big.obj': 'failed'" in ran.stdout
    assert "'props/gate.obj': 'written'" in ran.stdout
    assert "4 ['" in ran.stdout
    assert "could not be written: File too large" in ran.stdout
    assert [path.name for path in (tmp_path / "ready").glob(".*")] == [".yard.report"]
    assert states(zo.run_job(job)) == {"big": "written", "gate": "unchanged", "net": "unchanged", "post": "unchanged"}


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT])
def test_a_run_that_is_killed_leaves_no_half_files_and_the_next_one_completes(yard, tmp_path, how):
    n = 200
    points = "\n".join(f"v {k % n} {k * k % 7} {k // n}" for k in range(n * n))
    faces = "\n".join(f"f {a} {a + n} {a + n + 1} {a + 1}" for r in range(n - 1) for a in range(r * n + 1, r * n + n))
    for k in range(12):
        (tmp_path / "props" / f"sheet{k}.obj").write_text(f"o sheet\n{points}\n{faces}\n")
    job = yard('steps = ["weld", "normals by=angle angle=30"]')
    process = subprocess.Popen(
        [sys.executable, "-m", "zesty_otter", "run", str(job), "--workers", "2"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip
    ready = tmp_path / "ready"
    while not (ready.exists() and len(made(ready)) > 2) and process.poll() is None:
        time.sleep(0.01)
    os.killpg(process.pid, how) if how == signal.SIGINT else process.kill()
    process.wait()
    with contextlib.suppress(ProcessLookupError):
        while True:  # workers notice that their parent is gone
            os.killpg(process.pid, 0)
            time.sleep(0.01)
    for name in made(ready):
        if not name.startswith("."):
            zo.read(ready / name)
    if how == signal.SIGINT:
        assert {path.name for path in ready.glob(".*")} <= {".yard.report"}
    result = zo.run_job(job)
    assert result.status == 0
    assert len(made(ready)) == 15
    assert [path.name for path in ready.glob(".*")] == [".yard.report"]


@pytest.mark.parametrize("share", range(4))
def test_a_run_ends_that_is_interrupted_while_workers_send_much(share):
    """They are killed in the middle of it, and nobody waits for the rest."""
    code = (
        "import sys, time\nfrom pathlib import Path\nfrom zesty_otter.jobs.ways import _pool\n"
        "try:\n"
        "    with _pool([], Path(), 2, False) as pool:\n"
        "        for _ in range(4): pool.submit(bytes, 60_000_000)\n"
        f"        time.sleep({0.02 + 0.03 * share}); raise KeyboardInterrupt\n"
        "except KeyboardInterrupt: print('ended')"
    )
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert ran.stdout == "ended\n"


def test_a_job_takes_another_way_of_running(yard, tmp_path):
    asked = []

    def backwards(tasks, staging, *, report, seconds):
        asked.extend(task.name for task in tasks)
        found = list(zo.jobs.here(tasks, staging, report=report, seconds=seconds))
        yield from reversed(found)

    done = zo.run_job(yard(), way=backwards)
    assert asked == [one.name for one in done.assets] and {one.state for one in done.assets} == {"written"}


def test_a_part_of_the_report_that_cannot_be_made_costs_one_asset(yard, tmp_path, monkeypatch):
    for k in range(60):
        (tmp_path / "props" / f"oar{k:02}.obj").write_text(obj_cube(1 + k / 60, f"oar{k:02}"))
    parcel = report.parcel

    def torn(packed, scene, findings):
        if "oar33" in packed.facts["name"]:
            raise ZeroDivisionError
        return parcel(packed, scene, findings)

    monkeypatch.setattr(report, "parcel", torn)
    result = zo.run_job(yard("report = true"), workers=1)
    assert [name for name, state in states(result).items() if state != "written"] == ["oar33"]
    page = (tmp_path / "ready" / "report.html").read_text()
    assert page.count('<div class="round">') == 62 and "fault of the program (ZeroDivisionError)" in page


@pytest.mark.parametrize("beside", [0, 90])
def test_a_worker_that_dies_costs_one_asset(yard, tmp_path, beside):
    for k in range(beside):
        (tmp_path / "props" / f"oar{k:02}.obj").write_text(obj_cube())

    @zo.steps.register
    class Vanish(zo.steps.Step):
        """Kill the process that works on the tallest asset."""

        slug = "vanish"

        def change(self, scene):
            if scene.bounds()[1, 1] > 2.5:
                os.kill(os.getpid(), signal.SIGKILL)
            return scene

    try:
        result = zo.run_job(yard('steps = ["vanish"]'), workers=2)
    finally:
        del zo.steps.STEPS["vanish"]
    assert [name for name, state in states(result).items() if state != "written"] == ["net"]
    (failed,) = (one for one in result.assets if one.state == "failed")
    assert len(result.assets) == 3 + beside and "the process that worked on it was killed" in str(failed.error)


def test_the_schema_knows_every_key_and_step(run):
    document = run("run", "--schema").json
    assert document == json.loads(json.dumps(schema()))
    assert set(document["properties"]) == set(Job.model_fields)
    text = json.dumps(document)
    assert all(f'"const": "{slug}"' in text for slug in zo.steps.STEPS)


def test_paths_start_from_the_file_they_stand_in(tmp_path):
    (tmp_path / "base").mkdir()
    (tmp_path / "base" / "b.toml").write_text(
        'steps = ["names table=t.csv"]\n[[sources]]\nfiles = "x.obj"\ntextures_from = "maps"'
    )
    (tmp_path / "a.toml").write_text('based_on = "base/b.toml"\n[[outputs]]\n')
    job = load(tmp_path / "a.toml")
    assert job.sources[0].files == (str(tmp_path / "base" / "x.obj"),)
    assert job.sources[0].textures_from == (str(tmp_path / "base" / "maps"),)
    assert job.steps[0].table == tmp_path / "base" / "t.csv"
    assert job.folder == str(tmp_path / "ready")


def test_pivots_of_parts_that_are_apart_are_found(tmp_path):
    for name, place in (("hut", 0.0), ("hut_collision", 1.5)):
        zo.write(scene_of(Node("x", moved(place, 0, 0), content=cube())), tmp_path / f"{name}.glb")
    source = Source(files=(str(tmp_path / "*.glb"),), assemble=True)
    result = zo.run_job(Job(sources=(source,), outputs=(Output(),), folder=str(tmp_path / "out")))
    (finding,) = result.assets[0].findings
    assert (finding.rule, finding.node) == ("assembly-pivot", "hut_collision")
    assert "its pivot is 1.5 m away from that of hut" in finding.text


def test_sources_leave_out_files_and_find_textures_elsewhere(yard, tmp_path):
    from zesty_otter.demo.textures import timber

    (tmp_path / "maps").mkdir()
    (tmp_path / "maps" / "wood.png").write_bytes(timber())
    (tmp_path / "props" / "deep").mkdir()
    (tmp_path / "props" / "deep" / "crate.obj").write_text("mtllib c.mtl\nusemtl wood\n" + obj_cube())
    (tmp_path / "props" / "deep" / "c.mtl").write_text("newmtl wood\nmap_Kd wood.png\n")
    sources = 'files = ["props", "props/post.obj"]\nexclude = "props/n*"\nunit = "m"\ntextures_from = "maps"'
    result = zo.run_job(yard(sources=sources, outputs='[[outputs]]\nfolder = "{folder}"'))
    assert made(tmp_path / "ready") == ["deep/crate.glb", "gate.glb", "post.glb"]
    assert len(zo.read(tmp_path / "ready" / "deep" / "crate.glb").textures) == 1
    assert result.status == 0


@pytest.mark.parametrize("files", ['"."', '"**/*.*"'])
def test_what_a_job_made_is_no_source_of_it_unless_named(yard, tmp_path, files):
    job = yard(sources=f'files = {files}\nunit = "m"')
    for _ in range(2):
        assert zo.run_job(job).status == 0
        assert made(tmp_path / "ready") == ["gate.glb", "net.glb", "post.glb"]
    outputs = '[[outputs]]\nfile = "twice"'
    assert zo.run_job(yard(sources='files = "ready/net.glb"', outputs=outputs)).status == 0
    assert "twice.glb" in made(tmp_path / "ready")


def test_the_output_to_lay_out_is_chosen_by_name(yard, tmp_path):
    outputs = '[[outputs]]\nname = "a"\n[[outputs]]\nname = "b"\nsuffix = "_b"\nsteps = ["scale factor=2"]\n'
    result = zo.run_job(yard('[lay_out]\nof = "b"\nfile = "all.glb"', outputs=outputs))
    names = [root.name for root in zo.read(tmp_path / "ready" / "all.glb").roots]
    assert (names, result.overview.files[0].facts.triangles) == (["gate_b", "net_b", "post_b"], 36)


@pytest.mark.parametrize("ending", ["obj", "ply", "stl", "collada", "x3d", "usda", "usdz", "glb", "gltf"])
def test_every_format_is_an_output(yard, tmp_path, ending):
    job = yard('target = "cm-forward-right-up"', outputs=f'[[outputs]]\nformats = "{ending}"\n')
    result = zo.run_job(job)
    assert result.status == 0
    assert [round(side, 6) for side in result.assets[0].files[0].facts.size] == [2.0, 2.0, 2.0]
    assert set(states(zo.run_job(job)).values()) == {"unchanged"}


def test_textures_of_two_outputs_that_would_overwrite_each_other_are_a_clash(tmp_path):
    """Two formats in one folder have one folder of textures, which is fine while what is in it is the same."""
    wood = Material("wood").with_textures({"base_color": TextureUse(Texture("wood.png", data=timber()))})
    zo.write(
        scene_of(cube(slots=(wood,), layers=(Layer("uv", np.zeros((1, 2)), np.zeros(24, int)),))), tmp_path / "hut.glb"
    )
    text = """[[sources]]
files = "hut.glb"
[[outputs]]
formats = ["gltf", "obj"]
[[outputs]]
name = "small"
formats = "collada"
"""
    shrunk = 'steps = ["textures largest=16"]\n'
    (tmp_path / "same.toml").write_text(text)
    (tmp_path / "other.toml").write_text(text + shrunk)
    same = zo.run_job(tmp_path / "same.toml")
    assert [one.state for one in same.assets] == ["written"]
    other = zo.run_job(tmp_path / "other.toml", fresh=True)
    assert other.assets[0].state == "failed"
    assert "wood.png" in str(other.assets[0].error) and "'small'" in str(other.assets[0].error)
