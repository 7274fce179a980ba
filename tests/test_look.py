"""What the page shows of a scene, whom it lets in, and how it follows files; without a browser."""

from __future__ import annotations

import json
import runpy
import socket
import threading
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import numpy as np
import pytest

import zesty_otter as zo
from build import Gltf, cube, moved, obj, scene_of
from zesty_otter.errors import UsageError
from zesty_otter.jobs.looking import JobFiles, Runs
from zesty_otter.page.packing import Budget, finding_facts, footing_places, pack
from zesty_otter.page.server import PageServer
from zesty_otter.page.shelf import Change, Contents, Shelf, Shown


def ball(triangles: int) -> zo.Mesh:
    """A closed ball of about so many triangles."""
    around = max(int((triangles / 2) ** 0.5), 4)
    down = around
    u, v = np.meshgrid(np.arange(around) * 2 * np.pi / around, np.linspace(0.1, np.pi - 0.1, down + 1))
    points = np.stack([np.cos(u) * np.sin(v), np.cos(v), -np.sin(u) * np.sin(v)], -1).reshape(-1, 3)
    k, row = np.meshgrid(np.arange(around), np.arange(down) * around)
    a, b = row + k, row + (k + 1) % around
    return zo.Mesh.from_faces("ball", points, np.stack([a, a + around, b + around, b], -1).reshape(-1, 4).tolist())


# ---- packing


def test_a_cube_is_packed_with_its_twelve_edges_and_in_metres():
    packed = pack(scene_of(cube((100, 200, 50)), axes="right forward up", unit="cm"))
    facts = packed.facts
    # A metre wide, two deep, half a metre high.
    assert np.ptp(np.array(facts["bounds"]), axis=0).tolist() == pytest.approx([1.0, 0.5, 2.0], rel=1e-6)
    assert facts["axes"] == ["right", "forward", "up"]
    assert facts["directions"] == [[-1, 0, 0], [0, 0, 1], [0, 1, 0]]
    kinds = np.frombuffer(packed.edges, np.uint8)
    assert len(kinds) == 12 * 3 and (kinds > 0).sum() == 12


def test_a_triangle_edge_inside_a_polygon_is_no_edge_and_borders_are_told_apart():
    sheet = zo.Mesh.from_faces("sheet", [(0, 0, 0), (1, 0, 0), (2, 0, 0), (2, 1, 0), (1, 1, 0), (0, 1, 0)],
                               [(0, 1, 4, 5), (1, 2, 3, 4)])  # fmt: skip
    kinds = np.frombuffer(pack(scene_of(sheet)).edges, np.uint8)
    assert sorted(kinds[kinds > 0].tolist()) == [1, 4, 4, 4, 4, 4, 4]  # one between the faces, six at the border


def test_slots_keep_edges_with_their_triangles(tmp_path):
    paints = tuple(zo.Material(name) for name in "ab")
    two = cube().replace(slots=paints, face_slot=np.array([1, 0, 1, 0, 1, 0], np.int32))
    packed = pack(scene_of(two))
    (tmp_path / "packed.glb").write_bytes(packed.model)
    made = Gltf(tmp_path / "packed.glb")
    flags = np.frombuffer(packed.edges, np.uint8).reshape(-1, 3)
    lengths: set[float] = set()
    first = 0
    for primitive in made.json["meshes"][0]["primitives"]:
        corners = made.values(primitive["indices"]).reshape(-1, 3)
        points = made.values(primitive["attributes"]["POSITION"])
        ends = np.concatenate(
            [corners[:, [k, (k + 1) % 3]][flags[first : first + len(corners), k] > 0] for k in range(3)]
        )
        lengths |= set(np.linalg.norm(points[ends[:, 0]] - points[ends[:, 1]], axis=1).round(3).tolist())
        first += len(corners)
    assert first == 12 and len(lengths) == 1  # sides of the cube only, no diagonal


@pytest.mark.parametrize(
    ("axes", "unit", "metre"),
    [("left up forward", "m", 1.0), ("right up forward", "cm", 0.01), ("forward right up", "in", 0.0254)],
)
def test_places_and_boxes_are_in_metres_left_up_forward(axes, unit, metre):
    node = zo.Node("crate", moved(3, 5, 7), content=cube())
    scene = scene_of(node, axes=axes, unit=unit)
    facts = pack(scene).facts
    basis = scene.frame.basis * metre
    assert facts["nodes"][0]["pivot"] == pytest.approx((basis @ (3, 5, 7)).tolist(), rel=1e-6)
    corners = scene.bounds() @ basis.T
    assert facts["bounds"][0] == pytest.approx(corners.min(axis=0).tolist(), rel=1e-6)
    assert facts["nodes"][0]["size"] == pytest.approx([metre] * 3)


def test_a_finding_knows_its_place_in_any_frame():
    open_box = zo.Mesh.from_faces("box_collision", *_without_lid())
    body = zo.Node("box", content=cube())
    solid = zo.Node("box_collision", moved(10, 0, 0), role="collision", content=open_box)
    scene = scene_of(body, solid, axes="right up back", unit="cm")
    found = {one.rule: one for one in zo.audit.check(scene, zo.targets.load("m-left-up-forward"))}["not-closed"]
    assert found.place is not None
    place = finding_facts(found, scene)["place"]
    # An edge of the lid that is missing: at the top of a box ten units to the right, so to the left of nothing.
    assert place[1] == pytest.approx(0.01) and -0.111 < place[0] < -0.099
    assert finding_facts(found, scene)["nodes"] == [1]


def _without_lid() -> tuple[list[tuple[int, int, int]], list[tuple[int, ...]]]:
    points = [(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)]
    return points, [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (0, 2, 6, 4), (1, 5, 7, 3)]


def test_levels_and_their_distances_are_told_by_asset():
    scene = zo.apply(scene_of(ball(800)), zo.steps.Levels(chain="50 25"))
    (asset,) = pack(scene).facts["assets"]
    assert asset["name"] == "ball" and asset["main"] == [0]
    assert [one["number"] for one in asset["levels"]] == [1, 2]
    near, far = (one["distance"] for one in asset["levels"])
    assert 0 < near < far


def test_what_is_too_heavy_is_shown_as_its_level_or_reduced_and_a_remark_says_so():
    heavy = scene_of(ball(4000))
    reduced = pack(heavy, Budget(triangles=1000))
    assert len(reduced.edges) // 3 <= 1000
    assert any("ball: shown with" in text and "of its" in text for text in reduced.facts["remarks"])
    with_level = zo.apply(heavy, zo.steps.Levels(chain="20"))
    shown = pack(with_level, Budget(triangles=1700))
    assert any("shown as its level of" in text for text in shown.facts["remarks"])
    assert pack(heavy).facts["remarks"] == []


def test_prints_tell_what_moved_from_what_has_another_shape():
    prints = [pack(scene_of(zo.Node("a", moved(x, 0, 0), content=cube((s, 1, 1))))).facts["nodes"][0]["print"]
              for x, s in ((0, 1), (1, 1), (0, 2))]  # fmt: skip
    (where, what), (elsewhere, same), (there, other) = prints
    assert (what == same and where != elsewhere) and (where == there and what != other)


def test_nothing_to_draw_and_no_unit_are_said():
    empty = pack(zo.Scene.from_nodes(zo.Node("quay")))
    assert empty.model == b"" and "nothing to draw" in empty.facts["remarks"][0]
    bare = pack(scene_of(cube(), unit=None))
    assert bare.facts["unit"] is None and "does not say its unit" in bare.facts["remarks"][0]


def test_footing_places_are_where_one_can_stand():
    scene = zo.apply(scene_of(cube(), axes="left up forward"), zo.steps.Collision(shape="box"))
    rows = np.frombuffer(footing_places(scene, 500), "<f4").reshape(-1, 4)
    top = scene.bounds()[1, 1]
    assert len(rows) and np.allclose(rows[:, 1], top, atol=1e-5) and np.abs(rows[:, 3]).max() < 1e-4


# ---- serving


def shelf_of(*paths: Path) -> Shelf:
    shown = tuple(Shown(path.name, partial(zo.read, path), (path,)) for path in paths)
    return Shelf(lambda: Contents("yard", shown, files=paths))


@contextmanager
def served(shelf: Shelf) -> Iterator[str]:
    with PageServer(shelf).in_background() as address:
        yield address


def get(address: str, **headers: str) -> tuple[int, bytes, dict[str, str]]:
    request = urllib.request.Request(address, headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            return answer.status, answer.read(), dict(answer.headers)
    except urllib.error.HTTPError as error:
        return error.code, error.read(), dict(error.headers)


@pytest.fixture
def crate(tmp_path: Path) -> Path:
    path = tmp_path / "crate.glb"
    zo.write(scene_of(cube(name="<img src=x onerror=alert(1)>")), path)
    return path


def test_only_those_who_know_the_address_are_let_in(crate):
    with served(shelf_of(crate)) as address:
        home, token = address.rstrip("/").rsplit("/", 1)
        status, body, headers = get(address)
        assert status == 200 and b"viewer.js" in body
        assert (
            "default-src 'none'" in headers["content-security-policy"]
            and "http" not in headers["content-security-policy"]
        )
        for wrong in (f"{home}/", f"{home}/{token[:-1]}/", f"{home}/x{token}/assets.json", home + "/assets.json"):
            status, body, _ = get(wrong)
            assert status == 403 and b"not complete" in body and token.encode() not in body
        port = home.rsplit(":", 1)[1]
        assert get(address, Host=f"evil.example:{port}")[0] == 403  # another name that leads here


def test_paths_lead_nowhere_but_to_the_page(crate):
    (crate.parent / "secret.txt").write_text("secret")
    with served(shelf_of(crate)) as address:
        for path in ("secret.txt", "../crate.glb", "..%2f..%2fetc%2fpasswd", "facts/..%2f..%2fsecret.txt", "model/nobody.bin",
                     "page/nobody.bin", "server.py", "facts/%00.json"):  # fmt: skip
            status, body, _ = get(address + path)
            assert status in (404, 403, 422) and b"secret" not in body and b"root:" not in body, path


def test_a_page_listens_on_this_machine_only(crate):
    look = PageServer(shelf_of(crate))
    assert look.socket.getsockname()[0] == "127.0.0.1" and len(look.token) >= 20
    assert look.token != PageServer(shelf_of(crate)).token
    look.socket.close()


def test_facts_models_and_pictures_are_served_and_names_stay_text(crate):
    with served(shelf_of(crate)) as address:
        (entry,) = json.loads(get(address + "assets.json")[1])["assets"]
        facts = json.loads(get(f"{address}facts/{entry['key']}.json")[1])
        assert facts["nodes"][0]["name"] == "<img src=x onerror=alert(1)>"
        assert get(f"{address}model/{entry['key']}.bin")[1][:4] == b"glTF"
        assert len(get(f"{address}edges/{entry['key']}.bin")[1]) == 36
        assert get(f"{address}thumb/{entry['key']}.png")[1][:4] == b"\x89PNG"
        assert isinstance(json.loads(get(f"{address}findings/{entry['key']}.json")[1]), list)
        assert json.loads(get(address + "assets.json")[1])["assets"][0]["triangles"] == 12


def test_what_cannot_be_read_is_said_in_words(tmp_path):
    broken = tmp_path / "broken.glb"
    broken.write_bytes(b"glTF" + b"\0" * 40)
    with served(shelf_of(broken)) as address:
        (entry,) = json.loads(get(address + "assets.json")[1])["assets"]
        status, body, _ = get(f"{address}facts/{entry['key']}.json")
        assert status == 422 and b"broken.glb" in body and b"Traceback" not in body


def test_a_changed_file_is_told_and_read_again(crate):
    shelf = shelf_of(crate)
    stop = threading.Event()
    changes = shelf.changes(stop)
    key = shelf.listing()["assets"][0]["key"]
    before = shelf.packed(key, "after")
    assert shelf.packed(key, "after") is before  # nothing is made twice
    heard: list[object] = []
    thread = threading.Thread(target=lambda: heard.append(next(changes)), daemon=True)
    thread.start()
    for size in (2.0, 3.0):  # the watching may begin after the first
        if heard:
            break
        threading.Event().wait(0.6)
        zo.write(scene_of(cube((size, 1, 1))), crate)
        thread.join(5)
    thread.join(30)
    stop.set()
    (change,) = heard
    assert (change.kind, change.key) == ("asset", key) and "crate.glb changed" in change.text
    assert shelf.packed(key, "after").facts["bounds"][1][0] == pytest.approx(
        float(zo.read(crate).bounds()[1, 0]), abs=1e-6
    )


def test_what_a_file_refers_to_is_followed_once_it_is_known(tmp_path):
    """A material library that is learned of while the watching goes on already."""
    text = "mtllib thing.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl red\nf 1 2 3\n"
    path = obj(tmp_path, text, mtl="newmtl red\nKd 1 0 0\n")
    shelf, stop = shelf_of(path), threading.Event()
    key = shelf.listing()["assets"][0]["key"]
    heard: list[object] = []
    changes = shelf.changes(stop)
    thread = threading.Thread(target=lambda: heard.append(next(changes)), daemon=True)
    thread.start()
    threading.Event().wait(0.5)
    before = shelf.packed(key, "after")
    (tmp_path / "thing.mtl").write_text("newmtl red\nKd 0 1 0\n")
    thread.join(30)
    stop.set()
    assert [(one.kind, one.text) for one in heard] == [("asset", "thing.mtl changed")]
    assert shelf.packed(key, "after").model != before.model


def test_a_file_that_vanishes_is_said_and_comes_back(crate):
    shelf = shelf_of(crate)
    text = crate.read_bytes()
    crate.unlink()
    (entry,) = shelf.listing()["assets"]
    assert entry["error"] == "crate.glb is not there any more."
    crate.write_bytes(text)
    assert shelf.listing()["assets"][0]["error"] == ""


# ---- jobs


def job(folder: Path, more: str = "") -> Path:
    (folder / "in").mkdir()
    for number, name in enumerate(("gate", "post")):
        zo.write(scene_of(cube((1 + number, 1, 1), name)), folder / "in" / f"{name}.obj")
    path = folder / "yard.toml"
    path.write_text(
        f'folder = "ready"\n{more}[[sources]]\nfiles = "in/*.obj"\nunit = "m"\n[[outputs]]\nformats = "glb"\n'
    )
    return path


def test_a_job_is_shown_before_and_after_it_ran(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    files = JobFiles(job(tmp_path))
    shelf = Shelf(files.contents)
    assert shelf.listing()["assets"] == [] and "has not made any file yet" in shelf.listing()["state"]
    zo.run_job("yard.toml")
    shelf.refresh()
    entries = shelf.listing()["assets"]
    assert [(one["name"], one["state"], one["before"], one["triangles"]) for one in entries] == [
        ("gate.obj", "written", True, 12), ("post.obj", "written", True, 12)]  # fmt: skip
    key = entries[1]["key"]
    assert shelf.packed(key, "after").facts["nodes"][0]["faces"] == [12, 0, 0]
    assert shelf.packed(key, "before").facts["nodes"][0]["faces"] == [0, 6, 0]


def test_a_job_that_runs_while_it_is_shown_tells_what_fails(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    files = JobFiles(job(tmp_path))
    (tmp_path / "in" / "post.obj").write_text("f 1 2 3\n")
    runs = Runs(files)
    made = next(iter(runs))
    runs.stop.set()
    assert {one.name: one.state for one in made.assets} == {"in/gate.obj": "written", "in/post.obj": "failed"}
    entries = {one["name"]: one for one in Shelf(files.contents).listing()["assets"]}
    assert entries["gate.obj"]["error"] == "" and "post.obj" in entries["post.obj"]["error"]


# ---- the command


@pytest.mark.parametrize(
    ("arguments", "status", "says"),
    [
        (("nobody.glb",), 3, "there is no such file"),
        (("crate.glb", "--watch"), 2, "--watch runs a job"),
        (("yard.toml", "--before", "crate.glb"), 2, "--before goes with one file"),
        (("crate.glb", "--port", "TAKEN"), 2, "is taken by another program"),
        (("crate.glb", "--target", "moon"), 2, "moon"),
        (("broken.toml",), 3, "broken.toml"),
    ],
)
def test_wrong_use_is_said(tmp_path, monkeypatch, run, crate, arguments, status, says):
    monkeypatch.chdir(tmp_path)
    job(tmp_path)
    (tmp_path / "broken.toml").write_text("[[sources")
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        done = run("look", *(port if one == "TAKEN" else one for one in arguments), "--no-open")
    assert done.status == status and says in done.err and "Traceback" not in done.err


@pytest.mark.parametrize("what", ["crate.glb", ".", "yard.toml", "yard.toml --watch", "crate.glb --before crate.glb"])
def test_the_command_says_where_the_page_is_and_serves_it(tmp_path, monkeypatch, run, crate, what):
    """Until it is interrupted, which is what happens here once it has answered."""
    monkeypatch.chdir(tmp_path)
    job(tmp_path)
    (tmp_path / "in" / "post.obj").write_text("f 1 2 3\n")

    def answer(look, on_change):
        with look.in_background() as address:
            listing = json.loads(get(address + "assets.json")[1])
            on_change(Change("asset", text="crate.glb changed"))
        on_change(Change("list", text=f"{len(listing['assets'])} assets"))
        raise KeyboardInterrupt

    serve = PageServer.serve
    monkeypatch.setattr(
        PageServer, "serve", lambda look, on_change=None: answer(look, on_change) if on_change else serve(look)
    )
    done = run("look", *what.split(), "--no-open")
    assert done.status == 0 and "http://127.0.0.1:" in done.out and "no longer shown" in done.out
    assert "crate.glb changed" in done.out
    count = {".": 3, "yard.toml": 0, "yard.toml --watch": 2}.get(what, 1)
    assert f"{count} assets" in done.out


def test_the_packages_of_the_page_are_asked_for_by_name(crate, monkeypatch):
    monkeypatch.setitem(__import__("sys").modules, "uvicorn", None)
    with pytest.raises(UsageError, match=r"zesty-otter\[page\]"):
        PageServer(shelf_of(crate))


def test_the_script_of_the_page_is_made_of_the_sources_beside_it():
    tools = runpy.run_path(str(Path(__file__).parent.parent / "tools" / "bundle_viewer.py"))
    script = (Path(zo.__file__).parent / "page" / "viewer.js").read_text("utf-8")
    assert tools["sources_hash"]() in script.splitlines()[0], "run `make viewer`"
