"""Refresh docs/screenshots from the demo kit: `make screenshots`.

Terminal views are taken of a real terminal window on a virtual screen; that needs Xvfb, xterm and
ImageMagick's `import`; pages need a browser (Debian packages xvfb, xterm, imagemagick, chromium, chromium-driver).
"""

from __future__ import annotations

import io
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plt
import matplotlib.ticker
import numpy as np

import zesty_otter as zo
from zesty_otter.demo import write_kit, write_level
from zesty_otter.jobs.looking import JobFiles
from zesty_otter.page.server import PageServer
from zesty_otter.page.shelf import Shelf

ROOT = Path(__file__).parent.parent
SHOTS = ROOT / "docs" / "screenshots"
DISPLAY = ":87"
INK, PAPER = "#22322d", "#f4f1e8"


def terminal(name: str, *commands: str, folder: Path) -> None:
    """A picture of a terminal window after some commands."""
    script = "\n".join(f"printf '$ %s\\n' {shlex.quote(one)}; {one}; echo" for one in commands)
    (folder / "show.sh").write_text(f"cd {folder}\n{script}\ntput civis\ntouch done\nsleep 30\n")
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "COLORTERM": "truecolor",
        "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
    }
    look = [
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "11",
        "-bg",
        "#15201d",
        "-fg",
        "#dfe7df",
        "-geometry",
        "140x42+0+0",
        "-b",
        "12",
    ]
    xterm = subprocess.Popen(
        ["xterm", *look, "-tn", "xterm-256color", "+sb", "-e", "bash", str(folder / "show.sh")], env=environment
    )
    for _ in range(600):
        time.sleep(0.1)
        if (folder / "done").exists():
            break
    time.sleep(0.5)
    target = str(SHOTS / f"{name}.png")
    subprocess.run(["import", "-window", "root", target], env=environment, check=True)
    subprocess.run(["mogrify", "-crop", "1280x800+0+0", "+repage", target], check=True)
    xterm.terminate()
    xterm.wait()
    (folder / "done").unlink()


def drawn(folder: Path) -> None:
    """What `zesty-otter picture` makes of the kit."""
    ready = folder / "otterweir" / "ready"
    hull = folder / "ladder_hull.glb"
    made = (
        (str(ready / "engine"), "sheet"),
        (str(folder / "two.glb"), "levels", "--levels", "--style", "wire"),
        (str(hull), "footing", "--style", "footing"),
    )
    scene = zo.read(ready / "engine" / "fish_ladder.glb")
    zo.write(zo.apply(scene, zo.steps.Collision(shape="hull")), hull)
    boat, post = (zo.read(ready / "engine" / f"{name}.glb") for name in ("work_boat", "mooring_post"))
    two = [
        node
        for one, name in ((boat, "hull"), (post, "mooring_post"))
        for node in zo.apply(one, zo.steps.Select(keep=name), zo.steps.Levels(chain=CHAIN)).roots
    ]
    zo.write(zo.Scene(tuple(two), boat.frame), folder / "two.glb")
    for path, name, *words in made:
        command = [str(Path(sys.executable).parent / "zesty-otter"), "picture", path, "-o", str(SHOTS / f"{name}.png")]
        subprocess.run([*command, *words], check=True, stdout=subprocess.DEVNULL)


def facets(folder: Path) -> None:
    """The winch drum at three densities, and as n-gons."""
    from PIL import Image

    source = folder / "otterweir" / "sources" / "winch_drum" / "winch_drum.step"
    sheet = Image.new("RGB", (1280, 800))
    for number, words in enumerate(("density=0", "density=0.5", "density=1", "density=0.5 ngons")):
        kept, out = folder / f"drum{number}.obj", folder / f"drum{number}.png"
        zo.write(zo.read(source, facets=words), kept)
        command = [str(Path(sys.executable).parent / "zesty-otter"), "picture", str(kept), "-o", str(out)]
        subprocess.run([*command, "--style", "both", "--size", "640x400"], check=True, stdout=subprocess.DEVNULL)
        sheet.paste(Image.open(out).convert("RGB"), (number % 2 * 640, number // 2 * 400))
    sheet.quantize(128).save(SHOTS / "facets.png", optimize=True)


def scatters(folder: Path) -> None:
    """The level of the kit: as it comes, swapped, as stand-ins, and in cells."""
    from PIL import Image

    from zesty_otter.pictures import Look, picture

    yard = folder / "otterweir"
    zo.run_job(write_level(yard))
    level = zo.read(yard / "level" / "pieces" / "yard_scene.glb")
    cells: list[zo.Node] = []
    for number, path in enumerate(sorted((yard / "level" / "cells").glob("*.glb"))):
        # Cells in four colours, as on a board.
        x, y = (int(word[1:]) for word in path.stem.split("_")[1:3])
        tints = ((0.45, 0.2, 0.08), (0.1, 0.3, 0.24), (0.12, 0.2, 0.42), (0.4, 0.36, 0.2))
        paint = zo.Material(f"cell_{number}", base_color=(*tints[x % 2 + 2 * (y % 2)], 1.0))
        cells += zo.read(path).map_materials(partial(_painted, paint)).roots
    made = (
        (
            zo.read(yard / "sources" / "level" / "yard.glb"),
            "As it comes: reeds and buoys are boxes, stones lie one by one",
        ),
        (level, "Swapped and gathered, read back from its pieces"),
        (
            zo.steps.StandIns(only=["reed", "cobble*", "shed*", "quay*", "lantern*"]).apply(level),
            "Stand-ins, to arrange it",
        ),
        (zo.Scene(tuple(cells), level.frame), "Cells of 16 m, a file for each"),
    )
    sheet = Image.new("RGB", (1280, 800))
    for number, (scene, words) in enumerate(made):
        look = Look(size=(640, 400), caption=words, axes=False)
        sheet.paste(picture(scene, look).convert("RGB"), (number % 2 * 640, number // 2 * 400))
    sheet.save(SHOTS / "scatters.png", optimize=True)


def _painted(paint: zo.Material, _: zo.Material) -> zo.Material:
    return paint


FLAGS = (
    "--headless=new", "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-sync", "--hide-scrollbars",
    "--disable-background-networking", "--disable-component-update", "--use-angle=swiftshader",
    "--enable-unsafe-swiftshader",
)  # fmt: skip


def pages(folder: Path) -> None:
    """The report of the demo's job with an asset turned around, and the page of `zesty-otter look`, in a browser."""
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    options.binary_location = shutil.which("chromium") or "chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService(shutil.which("chromedriver")))

    def click(*words: str) -> None:
        for word in words:
            named = "find(one => one.textContent.includes(arguments[0]))"
            driver.execute_script(f"[...document.querySelectorAll('label, button, .card')].{named}.click()", word)
            time.sleep(1.5)

    def shoot(name: str, high: int) -> None:
        size = {"width": 1280, "height": high, "deviceScaleFactor": 1, "mobile": False}
        driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        time.sleep(1.5)
        driver.save_screenshot(str(SHOTS / f"{name}.png"))

    job = folder / "otterweir" / "otterweir.toml"
    try:
        driver.get((folder / "otterweir" / "ready" / "report.html").as_uri())
        click("Turn it around")
        shoot("report", 1500)
        with PageServer(Shelf(JobFiles(job).contents)).in_background() as address:
            driver.get(address)
            time.sleep(3)
            click("work_boat")
            time.sleep(3)
            click("edges", "before and after")
            time.sleep(3)
            click("front", "corner")
            shoot("look", 800)
    finally:
        driver.quit()


CHAIN = "50 25 12.5"


def deviation(folder: Path) -> None:
    """How far the surface moves as triangles go, for two pieces of the kit and a ball."""
    figure, axes = plt.subplots(figsize=(12.8, 6), facecolor=PAPER)
    axes.set_facecolor(PAPER)
    chain = "90 80 70 60 50 40 30 25 20 15 12.5 10 8 6"
    boat = folder / "otterweir" / "ready" / "engine" / "work_boat.glb"
    post = folder / "otterweir" / "ready" / "engine" / "mooring_post.glb"
    lantern = zo.Scene((zo.Node("lantern", content=_ball()),), zo.Frame("left up forward", "m"))
    curves = ((zo.read(boat), "hull"), (zo.read(post), "mooring_post"), (lantern, "lantern"))
    for (scene, name), color, mark in zip(curves, ("#2f6b58", "#b3541e", "#3c5a8a"), "os^", strict=True):
        found = zo.steps.level_facts(zo.steps.Levels(chain=chain, only=name).apply(scene))
        mesh = next(mesh for placed, mesh in scene.placed_meshes() if placed.node.name == name)
        share = 100 / float(np.ptp(mesh.points, axis=0).max())
        counts = [one.triangles for one in found]
        for style, label, moved in (
            ("-", f"{name}, {mesh.triangle_count:,} triangles: at most", [one.deviation for one in found]),
            (":", "on average", [one.deviation_mean for one in found]),
        ):
            axes.plot(counts, [share * (one or 0.0) for one in moved], mark + style, color=color, label=label)
    axes.set(xscale="log", yscale="log", xlabel="triangles", ylabel="how far the surface moved, of its longest side")
    axes.xaxis.set_major_formatter(matplotlib.ticker.StrMethodFormatter("{x:,.0f}"))
    axes.xaxis.set_minor_formatter(matplotlib.ticker.NullFormatter())
    axes.yaxis.set_major_formatter(matplotlib.ticker.StrMethodFormatter("{x:g} %"))
    axes.grid(True, which="both", alpha=0.25)
    axes.legend(frameon=False, fontsize=10)
    figure.tight_layout()
    figure.savefig(SHOTS / "deviation.png", dpi=100)


def _ball() -> zo.Mesh:
    """A ball of 20,000 triangles, from a grid of latitudes and longitudes."""
    around, down = 100, 101
    u, v = np.meshgrid(np.arange(around) * 2 * np.pi / around, np.linspace(0, np.pi, down + 1)[1:-1])
    rings = np.stack([np.cos(u) * np.sin(v), np.cos(v), -np.sin(u) * np.sin(v)], -1).reshape(-1, 3) * 0.2
    points = np.concatenate([rings, [[0, 0.2, 0], [0, -0.2, 0]]])
    here = np.arange(around)
    beside, top, last = (here + 1) % around, len(rings), len(rings) - around
    quads = [
        np.stack([r + here, r + around + here, r + around + beside, r + beside], 1) for r in range(0, last, around)
    ]
    caps = [[top, int(a), int(b)] for a, b in zip(here, beside, strict=True)]
    caps += [[top + 1, int(last + b), int(last + a)] for a, b in zip(here, beside, strict=True)]
    return zo.Mesh.from_faces("ball", points, [*np.concatenate(quads).tolist(), *caps])


def maps(folder: Path) -> None:
    """Islands and squares of new UVs; a post: heavy, light, and light with baked maps; an atlas before and after."""
    from PIL import Image, ImageDraw

    from zesty_otter.pictures import Look, picture
    from zesty_otter.pictures.view import font

    ready, sources = folder / "otterweir" / "ready", folder / "otterweir" / "sources"
    drum = zo.apply(zo.read(ready / "engine" / "winch_drum.glb"), zo.steps.Unwrap(purpose="paint", size=1024))
    post = zo.read(ready / "engine" / "mooring_post.glb")
    clay = zo.Material("clay", (0.55, 0.5, 0.42, 1.0))
    plain = post.map_materials(lambda material: clay)
    bare = zo.apply(plain, zo.steps.Unwrap(purpose="paint", size=1024), zo.steps.Normals(by="angle", angle=50))
    sculpt = sources / "mooring_post" / "mooring_post_sculpt.glb"
    with_maps = zo.steps.BakeMaps(file=sculpt, maps="normal occlusion", size=1024).apply(bare)
    heavy = zo.read(sculpt).map_meshes(lambda mesh: mesh.replace(slots=(clay,)))
    crane = zo.read(ready / "joined" / "jib_crane.obj")
    single = zo.steps.Atlas(size=256).apply(crane)
    cells = [
        (drum, "islands", "three-quarter", "new UVs: seams dashed, pale where lengths are kept"),
        (drum, "uv", "three-quarter", "the same, as squares"),
        (heavy, "maps", "three-quarter", f"heavy: {heavy.meshes[0].triangle_count:,} triangles"),
        (bare, "maps", "three-quarter", f"light: {bare.meshes[0].triangle_count:,} triangles"),
        (with_maps, "maps", "three-quarter", "light, with baked maps"),
        (single, "maps", "three-quarter", "a crane with an atlas"),
    ]
    page = Image.new("RGB", (1280, 800), "#f4f1e8")
    ink = ImageDraw.Draw(page)
    at = 0
    for number, (scene, style, view, words) in enumerate(cells):
        wide, top = (640, 0) if number < 2 else (256, 400)
        at = 0 if number in (0, 2) else at
        look = Look(style=style, view=view, size=(wide, 370), figure=False, grid=False, axes=False, words=False)
        page.paste(picture(scene, look), (at, top + 28))
        ink.text((at + 12, top + 8), words, INK, font(14))
        at += wide
    atlas = Image.open(io.BytesIO(single.materials[0].textures["base_color"].texture.read())).convert("RGB")
    atlas.thumbnail((224, 224))
    page.paste(atlas, (at + 16, 470))
    ink.text((at + 12, 408), "its page", INK, font(14))
    page.save(SHOTS / "maps.png", optimize=True)


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x900x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            write_kit(folder / "otterweir" / "sources")
            gate = "otterweir/sources/lock_gate/lock_gate.obj"
            terminal("demo", "zesty-otter demo otterweir", folder=folder)
            terminal("survey", f"zesty-otter survey {gate}", folder=folder)
            terminal(
                "convert",
                f"zesty-otter convert {gate} gate.glb",
                f"zesty-otter convert {gate} gate.glb --unit cm --axes 'right up forward' --pivot base",
                folder=folder,
            )
            terminal("steps", "zesty-otter steps", "zesty-otter steps scale", folder=folder)
            terminal(
                "run",
                "echo '# mended' >> otterweir/sources/lock_gate/lock_gate.obj",
                "zesty-otter run otterweir/otterweir.toml",
                folder=folder,
            )
            terminal("formats", "zesty-otter formats", folder=folder)
            terminal("targets", "zesty-otter targets", "zesty-otter targets m-right-up-forward", folder=folder)
            crates = "otterweir/sources/crate_stack/crate_stack.obj --unit cm --target m-left-up-forward"
            terminal("check", f"zesty-otter check {crates} --fix mend.toml", folder=folder)
            finished = "otterweir/ready/finished"
            terminal(
                "rehearse",
                f"zesty-otter rehearse {finished}/mooring_post.glb --target cm-forward-right-up",
                f"zesty-otter survey {finished}/fish_ladder.glb | head -22",
                folder=folder,
            )
            terminal(
                "compare",
                "zesty-otter convert otterweir/ready/engine/work_boat.glb light.glb --budget 300 --names keep -q",
                "zesty-otter compare otterweir/ready/engine/work_boat.glb light.glb",
                folder=folder,
            )
            for picture in (drawn, facets, pages, deviation, maps, scatters):
                picture(folder)
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
