"""Pictures: what is drawn is where it should be, and nothing that is drawn from breaks them."""

from __future__ import annotations

import contextlib
import io
import math
import sqlite3
from dataclasses import replace

import numpy as np
import pytest
from PIL import Image

import zesty_otter as zo
from build import moved, scene_of
from test_collision import plank, stairs
from zesty_otter.model import Frame, Layer, Material, Mesh, Node, Scene, Texture, TextureUse
from zesty_otter.pictures import SIDES, STYLES, Card, Look, cards_of, in_columns, level_cards, picture, save, sheet
from zesty_otter.pictures.palette import INK, LAMP, PAPER, PLUM, diverging, rgb
from zesty_otter.pictures.small import small_picture
from zesty_otter.steps import Collision, Levels, Reframe

BARE = Look(size=(320, 200), figure=False, grid=False, axes=False, words=False)


def drawn(scene, **look) -> np.ndarray:
    return np.asarray(picture(scene, replace(BARE, **look))).astype(int)


def is_paper(pixels: np.ndarray) -> np.ndarray:
    return (np.abs(pixels - rgb(PAPER)) <= 2).all(axis=-1)


def wall(*slots, wide=2.0, high=1.0) -> Mesh:
    """An upright rectangle that faces forward, with UVs from its lower left corner as seen from the front."""
    mesh = Mesh.from_faces("wall", [(-wide / 2, 0, 0), (wide / 2, 0, 0), (wide / 2, high, 0), (-wide / 2, high, 0)],
                           [[0, 1, 2, 3]])  # fmt: skip
    uv = Layer("uv", np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float32), np.arange(4, dtype=np.int32))
    return mesh.replace(slots=slots or (None,), layers=(uv,))


def textured(pixels: np.ndarray, **rest) -> Material:
    out = io.BytesIO()
    Image.fromarray(pixels.astype(np.uint8)).save(out, "PNG")
    return Material("painted", textures={"base_color": TextureUse(Texture("t.png", data=out.getvalue()))}, **rest)


def test_a_wall_seen_from_the_front_covers_what_it_should():
    pixels = drawn(scene_of(Node("w", content=wall())), view="front")
    covered = ~is_paper(pixels)
    rows, columns = np.nonzero(covered)
    # Twice as wide as high, filling the picture's height or width but for the margin.
    assert np.ptp(columns) + 1 == pytest.approx(2 * (np.ptp(rows) + 1), abs=2)
    assert np.ptp(columns) + 1 == pytest.approx(0.88 * 320, abs=2)
    assert covered[rows.min() : rows.max(), columns.min() : columns.max()].all()
    assert np.mean(columns) == pytest.approx(159.5, abs=1) and np.mean(rows) == pytest.approx(99.5, abs=1)


@pytest.mark.parametrize(
    ("axes", "place"),
    [("left up forward", (1, 0, 0)), ("right forward up", (-1, 0, 0)), ("forward right up", (0, -1, 0))],
)
def test_left_and_right_are_those_of_the_asset_in_every_frame(axes, place):
    """From the front, the left of what is looked at is on the right of the picture."""
    mesh = plank((-0.1, -0.1, -0.1), (0.1, 0.1, 0.1))
    far = Material("far", base_color=(1, 0, 0, 1))
    scene = Scene(
        (Node("near", content=mesh), Node("left", moved(*place), content=mesh.replace(slots=(far,)))), Frame(axes, "m")
    )
    pixels = drawn(scene, view="front")
    red = pixels[..., 0] > 2 * pixels[..., 1]
    assert np.nonzero(red)[1].mean() > 200 and not red[:, :160].any()


def test_textures_stand_upright_and_cut_outs_let_through():
    pixels = np.zeros((2, 2, 4))
    pixels[...] = [[(255, 0, 0, 255), (0, 255, 0, 255)], [(0, 0, 255, 255), (255, 255, 0, 0)]]
    seen = drawn(scene_of(Node("w", content=wall(textured(pixels)))), view="front")
    for (row, column), channel in (((75, 90), 0), ((75, 230), 1), ((125, 90), 2)):
        assert seen[row, column].argmax() == channel
    cut = drawn(scene_of(Node("w", content=wall(textured(pixels, alpha_mode="mask")))), view="front")
    assert is_paper(cut)[125, 230] and not is_paper(cut)[125, 90] and not is_paper(seen)[125, 230]


def test_what_is_nearer_hides_what_is_behind_and_backs_look_like_backs():
    red, blue = Material("r", base_color=(1, 0, 0, 1)), Material("b", base_color=(0, 0, 1, 1))
    for order in (1, -1):
        nodes = [Node("front", moved(0, 0, 1), content=wall(red)), Node("behind", content=wall(blue))][::order]
        assert drawn(scene_of(*nodes), view="front")[100, 160].argmax() == 0
        assert drawn(scene_of(*nodes), view="back")[100, 160].argmax() == 2
    front = drawn(scene_of(Node("w", content=wall(red))), view="front")[100, 160]
    back = drawn(scene_of(Node("w", content=wall(red))), view="back")[100, 160]
    both = drawn(scene_of(Node("w", content=wall(replace(red, two_sided=True)))), view="back")[100, 160]
    assert np.abs(front - back).max() > 40 and np.abs(front - both).max() <= 40


def test_polygons_are_drawn_as_polygons_and_borders_in_their_own_colour():
    pixels = drawn(scene_of(Node("w", content=wall())), view="front", style="wire")
    lamp = (np.abs(pixels - rgb(LAMP)) < 60).all(axis=-1)
    assert lamp.sum() > 400 and not lamp[90:110, 60:260].any()
    # No diagonal: a quad is one face.
    assert np.ptp(pixels[100, 60:260], axis=0).max() <= 3
    cube = drawn(scene_of(Node("c", content=plank((0, 0, 0), (1, 1, 1)))), style="wire")
    assert (cube < np.array(rgb(INK)) + 90).all(axis=-1).sum() > 200


@pytest.mark.parametrize("style", STYLES)
@pytest.mark.parametrize("view", list(SIDES))
def test_every_style_and_side_draws_the_same_every_time(style, view):
    scene = Collision(shape="hull").apply(scene_of(Node("steps", content=stairs(3))))
    look = Look(style=style, view=view, size=(240, 160))
    assert save(picture(scene, look)) == save(picture(scene, look))
    assert not is_paper(np.asarray(picture(scene, replace(BARE, style=style, view=view)))).all()


def test_a_change_of_frame_changes_no_picture():
    scene = scene_of(Node("steps", content=stairs(3)))
    turned = Reframe(axes="forward right up", unit="cm").apply(scene)
    assert (np.abs(drawn(scene) - drawn(turned)) > 3).any(axis=-1).mean() < 1e-3


@pytest.mark.parametrize("axes", ["left up forward", "right forward up"])
@pytest.mark.parametrize("factors", [(1, 1, 1), (2, 0.5, 1), (-1, 1, 1), (0.02, 0.02, 0.02)])
def test_small_pictures_show_what_pictures_show(axes, factors):
    """Pixel for pixel but for the figure, which lets through what is behind it, and lines on the ground."""
    red = Material("red", base_color=(0.6, 0.1, 0.1, 1.0), two_sided=True)
    both = Scene.from_nodes(
        Node("steps", content=stairs(6), transform=np.diag([*factors, 1.0])),
        Node("plank", content=plank((0, 0, 0), (1, 0.1, 0.4)).replace(slots=(red,)), transform=moved(0.3, 1.5, 0.2)),
    )
    scene = Reframe(axes=axes, unit="cm").apply(replace(both, frame=Frame("left up forward", "m")))
    small = small_picture(scene, (176, 112))
    whole = picture(scene, Look(size=(176, 112), words=False, axes=False, smooth=False))
    one, other = (np.asarray(image.convert("RGB"), int) for image in (small, whole))
    off = np.abs(one - other).max(axis=2) > 2
    ground = (np.abs(other - rgb(PAPER)).max(axis=2) > 2) & (np.abs(one - rgb(PAPER)).max(axis=2) > 2)
    assert (ground & ~off).sum() > 0.95 * ground.sum() > 1000
    assert off.mean() < 0.015


def test_footing_is_coloured_by_how_far_feet_float():
    scene = Collision(shape="hull").apply(scene_of(Node("steps", content=stairs(3))))
    floats = drawn(scene, style="footing", view="top")
    level = drawn(
        Collision(shape="parts").apply(scene_of(Node("steps", content=stairs(3)))), style="footing", view="top"
    )
    orange = [(one[..., 0] > one[..., 2] + 60).sum() for one in (floats, level)]
    assert orange[0] > 5000 and orange[1] < 50


def test_scales_have_their_middle_in_the_middle():
    colors = diverging(np.array([-1.0, 0.0, 1.0, np.nan]))
    assert colors[0][2] > colors[0][0] and colors[2][0] > colors[2][2] and np.array_equal(colors[1], colors[3])


@pytest.mark.parametrize(
    "scene",
    [
        Scene((), Frame("left up forward")),
        scene_of(Node("dot", content=Mesh.from_faces("dot", np.zeros((3, 3)), [[0, 1, 2]]))),
        scene_of(Node("line", content=Mesh.from_faces("l", [(0, 0, 0), (1, 0, 0), (2, 0, 0)], [[0, 1, 2]]))),
        scene_of(Node("flat", np.diag([1, 0, 1, 1.0]), content=stairs(2))),
        scene_of(Node("far", moved(1e7, 0, 0), content=stairs(2))),
        scene_of(Node("huge", np.diag([1e9, 1e9, 1e9, 1.0]), content=stairs(2))),
        scene_of(Node("odd", content=wall(Material("m", textures={"base_color": TextureUse(Texture("gone.png"))})))),
        scene_of(
            Node("bad", content=wall(Material("m", textures={"base_color": TextureUse(Texture("b", data=b"x"))})))
        ),
    ],
)
@pytest.mark.parametrize("style", ["shaded", "both", "footing"])
def test_what_cannot_be_seen_draws_something_all_the_same(scene, style):
    image = np.asarray(picture(scene, Look(style=style, size=(200, 120)))).astype(int)
    assert image.shape == (120, 200, 3) and not is_paper(image).all()


def test_cards_and_sheets_say_what_there_is():
    scene = Levels(chain="50").apply(
        scene_of(Node("steps", content=stairs(4)), Node("box", content=plank((0, 0, 0), (1, 1, 1))))
    )
    cards = cards_of(Collision(shape="box").apply(scene), BARE)
    assert [card.title for card in cards] == ["steps", "box"]
    assert cards[1].lines[:2] == ("1 m x 1 m x 1 m", "12 triangles, 1 slot") and "1 collision mesh" in cards[0].lines[2]
    rows = level_cards(scene, BARE)
    assert [card.title for card in rows[0]] == ["steps", "steps_LOD1"] and "moved by" in rows[0][1].lines[1]
    in_rows, columns = in_columns([*rows, [Card("alone")]])
    assert columns == 2 and [card.title for card in in_rows][-2:] == ["alone", ""]
    page = np.asarray(sheet([*cards, Card("broken.glb", problem="is not sound " * 30)], wide=600, title="3 files"))
    assert page.shape[1] == 600 and (np.abs(page.astype(int) - rgb(PLUM)) < 30).all(axis=-1).sum() > 300


def test_the_command_line_draws_files_folders_sides_and_levels(tmp_path, run):
    (tmp_path / "in").mkdir()
    zo.write(Levels(chain="50").apply(scene_of(Node("steps", content=stairs(4)))), tmp_path / "in" / "steps.glb")
    (tmp_path / "in" / "bad.glb").write_bytes(b"glTF")
    out = tmp_path / "o.png"
    small = ("--size", "320x200", "-o", out)
    for words in ((), ("--views", "front,top"), ("--levels",), ("--assets",), ("--style", "uv")):
        done = run("picture", tmp_path / "in" / "steps.glb", *small, *words)
        assert done.status == 0 and Image.open(out).width == 320
    folder = run("picture", tmp_path / "in", *small)
    assert folder.status == 3 and "2 pictures" in folder.out
    out.unlink()
    for words, message in (
        (("--style", "fancy"), "is not a style"),
        (("--views", "frnt"), "Did you mean 'front'"),
        (("--size", "9x9"), "not a picture size"),
    ):
        wrong = run("picture", tmp_path / "in" / "steps.glb", *small, *words)
        assert wrong.status == 2 and message in wrong.err
    assert "end in .png" not in run("picture", tmp_path / "in" / "bad.glb", *small).err
    assert run("picture", tmp_path / "in" / "steps.glb", "-o", tmp_path / "o.jpg").status == 2
    assert not out.exists()


def test_a_job_writes_one_page_with_all_of_it(tmp_path, run):
    """Everything is in the page: pictures as data, no link outward, names as text and not as markup."""
    zo.write(scene_of(Node("steps", content=stairs(3))), tmp_path / "a.glb")
    (tmp_path / "bad.glb").write_bytes(b"glTF")
    steps = 'steps = ["levels chain=\'50 25\'", "collision shape=hull"]\ntarget = "m-left-up-forward"\ncheck = "all"\n'
    job = f'title = "Weir <b>&"\n[[sources]]\nfiles = ["a.glb", "bad.glb"]\n[[outputs]]\n{steps}'
    (tmp_path / "j.toml").write_text(job)
    done = run("run", tmp_path / "j.toml")
    page = (tmp_path / "ready" / "report.html").read_text()
    assert done.status == 3 and "report.html" in done.out
    assert "Weir &lt;b&gt;&amp;" in page and "http://" not in page and "https://" not in page and 'src="data:' in page
    for words in (
        "a.glb",
        "bad.glb",
        "is cut off in its header",
        "steps_LOD1",
        "feet float by",
        "as meant",
        "footing:",
    ):
        assert words in page
    run("run", tmp_path / "j.toml", "--fresh")
    assert (tmp_path / "ready" / "report.html").read_text() == page
    (tmp_path / "j.toml").write_text("report = false\n" + job.replace("bad.glb", "a.glb"))
    (tmp_path / "ready" / "report.html").unlink()
    run("run", tmp_path / "j.toml", "--fresh")
    assert not (tmp_path / "ready" / "report.html").exists()


def test_a_report_of_many_assets_has_pages_that_stay_while_theirs_do(tmp_path, run):
    (tmp_path / "in").mkdir()
    for number in range(203):
        text = "\n".join(f"v {x} {y} {z}" for x, y, z in ((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1 + number, 0)))
        (tmp_path / "in" / f"sail_{number:03}.obj").write_text(f"o sail_{number:03}\n{text}\nf 1 2 3 4\n")
    (tmp_path / "j.toml").write_text('[[sources]]\nfiles = "in/*.obj"\nunit = "m"\n[[outputs]]\nformats = "glb"\n')
    ready = tmp_path / "ready"
    assert run("run", tmp_path / "j.toml").status == 0
    index, first, last = (ready / f"report{tail}.html" for tail in ("", "_1", "_2"))
    listed = index.read_text()
    assert listed.count("<tr data-name=") == 203 and 'href="report_2.html#202-in-sail-202-obj"' in listed
    assert first.read_text().count("<article") == 200 and last.read_text().count("<article") == 3
    assert 'id="202-in-sail-202-obj"' in last.read_text() and 'href="report.html"' in last.read_text()
    parts = sqlite3.connect(ready / ".j.report")
    rows = "SELECT key, html, model FROM parts"
    before = set(parts.execute(rows))
    pages = first.stat().st_mtime_ns, last.stat().st_mtime_ns
    assert len(before) == 203
    (tmp_path / "in" / "sail_201.obj").write_text("v 0 0 0\nv 2 0 0\nv 2 2 0\nf 1 2 3\n")
    assert "1 written, 202 unchanged" in run("run", tmp_path / "j.toml").out
    assert len(set(parts.execute(rows)) & before) == 202 and len(set(parts.execute(rows))) == 203
    assert (first.stat().st_mtime_ns, last.stat().st_mtime_ns > pages[1]) == (pages[0], True)
    parts.execute("DELETE FROM parts WHERE rowid % 70 = 0")
    parts.commit()
    parts.close()
    for number in (5, 150, 202):
        (tmp_path / "in" / f"sail_{number:03}.obj").unlink()
    assert run("run", tmp_path / "j.toml").status == 0
    # Now it is one page; what was lost is drawn again, and the page that is not needed any more is gone.
    assert index.read_text().count("<article") == 200 and index.read_text().count("<img") == 200
    assert not first.exists() and not last.exists()
    # Parts that cannot be read are made again, and so is what kept them.
    (ready / ".j.report").write_bytes(b"no database" * 400)
    (tmp_path / "in" / "sail_201.obj").write_text("v 0 0 0\nv 3 0 0\nv 2 2 0\nf 1 2 3\n")
    assert run("run", tmp_path / "j.toml").status == 0
    assert index.read_text().count("<article") == 200 and index.read_text().count("<img") == 200
    with contextlib.closing(sqlite3.connect(ready / ".j.report")) as parts:
        assert parts.execute("SELECT count(*) FROM parts").fetchone() == (200,)


@pytest.mark.parametrize(
    ("placing", "expected"),
    [
        ({}, "red green blue yellow"),  # upper left, upper right, lower left, lower right
        ({"offset": (0.5, 0.0)}, "green red yellow blue"),
        ({"offset": (0.0, 0.5)}, "blue yellow red green"),
        ({"rotation": math.pi / 2, "offset": (1.0, 0.0)}, "blue red yellow green"),
    ],
)
def test_textures_are_drawn_where_they_are_placed(placing, expected):
    """Worked out by hand; a quarter turn takes (u, v) to (-v, u)."""
    colors = {"red": (255, 0, 0), "green": (0, 255, 0), "blue": (0, 0, 255), "yellow": (255, 255, 0)}
    image = Image.new("RGB", (2, 2))
    for n, color in enumerate(colors.values()):
        image.putpixel((n % 2, n // 2), color)
    data = io.BytesIO()
    image.save(data, "PNG")
    use = zo.TextureUse(zo.Texture("quarters.png", data=data.getvalue()), **placing)
    corners = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
    sheet = zo.Mesh.from_arrays(np.array(corners, float), [(0, 1, 2, 3)], uvs=np.array(corners, float)[:, :2])
    sheet = sheet.replace(slots=(zo.Material("paint", textures={"base_color": use}),))
    look = Look(view="front", size=(200, 200), figure=False, grid=False, axes=False, words=False, perspective=False)
    drawn = picture(scene_of(sheet), look).convert("RGB")
    seen = []
    for x, y in ((80, 80), (120, 80), (80, 120), (120, 120)):
        pixel = np.array(drawn.getpixel((x, y)), float)
        seen.append(max(colors, key=lambda name: float(np.dot(pixel - 128, np.array(colors[name]) - 128.0))))
    assert " ".join(seen) == expected
