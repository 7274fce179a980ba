"""Refresh docs/screenshots from the demo kit: `make screenshots`.

Terminal views are taken of a real terminal window on a virtual screen; that needs Xvfb, xterm and
ImageMagick's `import`; the report needs a browser (Debian packages xvfb, xterm, imagemagick, chromium).
"""

from __future__ import annotations

import os
import runpy
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plt
import matplotlib.ticker
import numpy as np
from numpy.typing import NDArray

import zesty_otter as zo
from zesty_otter.demo import write_kit
from zesty_otter.geometry.simplify.collapse import simplify

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


def rough(side: int) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """The ground that the bench simplifies."""
    found: tuple[NDArray[np.float64], NDArray[np.int32]] = runpy.run_path(str(ROOT / "bench" / "run.py"))["rough"](side)
    return found


def drawn(folder: Path) -> None:
    """What `zesty-otter picture` makes of the kit."""
    ready = folder / "otterweir" / "ready"
    hull = folder / "ladder_hull.glb"
    made = (
        (str(ready / "engine"), "sheet"),
        (str(folder / "two.glb"), "levels", "--levels", "--style", "wire"),
        (str(hull), "footing", "--style", "footing"),
        (str(ready / "finished" / "lock_gate.glb"), "collision", "--style", "collision"),
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


def report(folder: Path) -> None:
    """The report page of the demo's job, in a browser."""
    page = (folder / "otterweir" / "ready" / "report.html").as_uri()
    flags = ["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
             "--disable-background-networking", "--disable-component-update", "--hide-scrollbars",
             f"--user-data-dir={folder / 'browser'}", "--window-size=1280,1500",
             f"--screenshot={SHOTS / 'report.png'}"]  # fmt: skip
    subprocess.run(["chromium", *flags, page], check=True, stderr=subprocess.DEVNULL)


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


def growth(folder: Path) -> None:
    """The time simplification takes, for ever more triangles, against n log n from ten thousand on."""
    del folder
    counts, took = [], []
    for side in (24, 40, 72, 128, 224, 400, 708, 1000, 1415):
        points, triangles = rough(side)
        runs = [_seconds(points, triangles) for _ in range(2)]
        counts.append(len(triangles))
        took.append(min(runs))
    figure, axes = plt.subplots(figsize=(12.8, 6), facecolor=PAPER)
    axes.set_facecolor(PAPER)
    n = np.array(counts, float)
    line = n * np.log(n)
    axes.plot(n, np.array(took) / took[2], "o-", color="#2f6b58", label="simplified to an eighth")
    axes.plot(n, line / line[2], "--", color="#b3541e", label="n log n")
    axes.set(xscale="log", yscale="log", xlabel="triangles", ylabel="time, as a multiple of that for ten thousand")
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(matplotlib.ticker.StrMethodFormatter("{x:,.7g}"))
    axes.grid(True, which="both", alpha=0.25)
    axes.legend(frameon=False, fontsize=10)
    figure.tight_layout()
    figure.savefig(SHOTS / "growth.png", dpi=100)


def _seconds(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> float:
    start = time.perf_counter()
    list(simplify(points, triangles, [len(triangles) // 8]))
    return time.perf_counter() - start


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
            terminal(
                "levels_table",
                "zesty-otter convert otterweir/ready/engine/work_boat.glb light.glb --levels 50,25,10",
                folder=folder,
            )
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
            for picture in (drawn, facets, report, deviation, growth):
                picture(folder)
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
