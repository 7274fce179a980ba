"""Refresh docs/screenshots from the demo kit: `make screenshots`.

Terminal views are taken of a real terminal window on a virtual screen; that needs Xvfb, xterm and
ImageMagick's `import` (Debian packages xvfb, xterm, imagemagick).
"""

from __future__ import annotations

import os
import runpy
import shlex
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path
from typing import Any

import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plt
import matplotlib.ticker
import numpy as np
from numpy.typing import NDArray

import zesty_otter as zo
from zesty_otter.audit import inspect_glb
from zesty_otter.audit.glb import read_sections
from zesty_otter.demo import PIECES, write_kit
from zesty_otter.geometry.simplify import simplify
from zesty_otter.geometry.triangulation import DIAGONALS
from zesty_otter.model import count_of

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


def pieces(folder: Path) -> None:
    """The pieces as their written files hold them, each with its size."""
    figure, grid = plt.subplots(2, 4, figsize=(12.8, 8), facecolor=PAPER)
    for piece, axes in zip(PIECES, grid.ravel(), strict=True):
        path = folder / "otterweir" / "ready" / "engine" / piece.out
        facts = inspect_glb(path)
        axes.imshow(_rendered(path, 310, 330), interpolation="antialiased")
        axes.set_axis_off()
        width, height, depth = facts.size
        axes.set_title(
            f"{piece.out}\n{width:.4g} × {height:.4g} × {depth:.4g} m\n{facts.triangles:,} triangles",
            color=INK,
            fontsize=10,
        )
    figure.tight_layout()
    figure.savefig(SHOTS / "pieces.png", dpi=100)


def weld(folder: Path) -> None:
    """The seam of a hull and a button on it, before and after welding at 2 mm."""
    del folder
    wobble = np.random.default_rng(0).uniform(-5e-4, 5e-4, (9, 2))
    y = np.linspace(0.0, 0.8, 9)
    left = np.concatenate([np.c_[-0.1 + 0 * y, y], np.c_[0 * y, y]])
    right = np.concatenate([np.c_[0 * y, y] + wobble, np.c_[0.1 + 0 * y, y]])
    angles = 2 * np.pi * np.arange(8) / 8
    button = 0.001 * np.c_[np.cos(angles), np.sin(angles)] + (0.05, 0.45)
    flat = np.concatenate([left, right, button])
    quads = [[k, k + 9, k + 10, k + 1] for k in range(8)]
    faces = [*quads, *([c + 18 for c in quad] for quad in quads), [36 + k for k in range(8)]]
    mesh = zo.Mesh.from_faces("hull", np.c_[flat, np.zeros(len(flat))], faces)
    scene = zo.Scene((zo.Node("hull", content=mesh),), zo.Frame("left up forward", "m"))
    after = zo.steps.Weld(distance="2mm").apply(scene).meshes[0]
    figure, grid = plt.subplots(1, 4, figsize=(12.8, 3.9), facecolor=PAPER)
    views = (("seam, 4 mm wide", (0.0, 0.4), 0.002), ("button, 2 mm wide", (0.05, 0.45), 0.0015))
    for row, (title, centre, reach) in enumerate(views):
        for column, (when, one) in enumerate((("before", mesh), ("after", after))):
            axes = grid[2 * row + column]
            _outlines(axes, one, centre, reach)
            axes.set_title(f"{title}: {when}\n{one.point_count} points in all", color=INK, fontsize=11)
    figure.tight_layout()
    figure.savefig(SHOTS / "weld.png", dpi=100)


def _outlines(axes: Any, mesh: zo.Mesh, centre: tuple[float, float], reach: float) -> None:
    for start, stop in pairwise(mesh.face_start):
        outline = mesh.points[mesh.corner_point[start:stop], :2]
        drawn = np.concatenate([outline, outline[:1]])
        axes.fill(*outline.T, color="#b9cfc4", alpha=0.6)
        axes.plot(*drawn.T, color="#2f6b58", linewidth=1.6)
        axes.plot(*outline.T, "o", color="#b3541e", markersize=5)
    axes.set_xlim(centre[0] - reach, centre[0] + reach)
    axes.set_ylim(centre[1] - reach, centre[1] + reach)
    axes.set_aspect("equal")
    axes.set_xticks([])
    axes.set_yticks([])


def triangulate(folder: Path) -> None:
    """The notched front of the lock gate, split by each rule, and merged back."""
    source = folder / "otterweir" / "sources" / "lock_gate" / "lock_gate.obj"
    scene = zo.apply(zo.read(source, "cm", "right up forward"), zo.steps.Reframe(axes="left up forward", unit="m"))
    mesh = scene.meshes[0]
    front = mesh.take_faces(np.array([0]))
    alone = zo.Scene((zo.Node("front", content=front),), scene.frame)
    split = {rule: zo.steps.Triangulate(diagonal=rule).apply(alone) for rule in DIAGONALS}
    merged = zo.steps.MergeFlat().apply(split["shortest-diagonal"])
    panels = {"as it came": alone, **split, "merged back": merged}
    figure, grid = plt.subplots(1, len(panels), figsize=(12.8, 3.3), facecolor=PAPER)
    for axes, (title, one) in zip(grid, panels.items(), strict=True):
        drawn = one.meshes[0]
        _outlines(axes, drawn, (1.5, 2.0), 2.3)
        axes.set_title(f"{title}\n{count_of(drawn.face_count, 'face')}", color=INK, fontsize=11)
    figure.tight_layout()
    figure.savefig(SHOTS / "triangulate.png", dpi=100)


def overview(folder: Path) -> None:
    """The kit as its job lays it out."""
    figure, axes = plt.subplots(figsize=(12.8, 8), facecolor=PAPER)
    axes.imshow(_rendered(folder / "otterweir" / "ready" / "overview.glb", 1240, 760), interpolation="antialiased")
    axes.set_axis_off()
    figure.tight_layout()
    figure.savefig(SHOTS / "overview.png", dpi=100)


def normals(folder: Path) -> None:
    """The fish ladder with its one smoothing group, and with hard edges above 30 degrees."""
    source = folder / "otterweir" / "sources" / "fish_ladder" / "fish_ladder.obj"
    scene = zo.read(source, "mm")
    mended = zo.apply(scene, zo.steps.Weld(distance="0.1mm"), zo.steps.Normals(by="angle", angle=30))
    figure, grid = plt.subplots(1, 2, figsize=(12.8, 5), facecolor=PAPER)
    for axes, (title, one) in zip(grid, {"as it came": scene, "hard above 30 degrees": mended}.items(), strict=True):
        zo.write(one, folder / "ladder.glb")
        axes.imshow(_rendered(folder / "ladder.glb", 620, 420), interpolation="antialiased")
        axes.set_axis_off()
        axes.set_title(title, color=INK, fontsize=11)
    figure.tight_layout()
    figure.savefig(SHOTS / "normals.png", dpi=100)


def rough(side: int) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """The ground that the bench simplifies."""
    found: tuple[NDArray[np.float64], NDArray[np.int32]] = runpy.run_path(str(ROOT / "bench" / "run.py"))["rough"](side)
    return found


def levels(folder: Path) -> None:
    """The boat and a mooring post with their levels, in shaded wireframe, with what was measured."""
    figure, grid = plt.subplots(2, 4, figsize=(12.8, 8), facecolor=PAPER)
    for row, (piece, name) in enumerate((("work_boat", "hull"), ("mooring_post", "Poeller_gross_01"))):
        scene = zo.read(folder / "otterweir" / "ready" / "engine" / f"{piece}.glb")
        done = zo.steps.Levels(chain=CHAIN, only=name).apply(scene)
        facts = {one.node: one for one in zo.steps.level_facts(done)}
        shown = [one for one in done.walk() if one.node.name == name or one.node.name in facts]
        for axes, placed in zip(grid[row], shown, strict=True):
            alone = zo.Scene((zo.Node("level", placed.world, content=placed.node.mesh),), done.frame)
            zo.write(alone, folder / "level.glb")
            axes.imshow(_rendered(folder / "level.glb", 310, 330, wire=True), interpolation="antialiased")
            axes.set_axis_off()
            one = facts.get(placed.node.name)
            said = (
                "as it came"
                if one is None
                else f"moved by {1000 * (one.deviation or 0):.3g} mm, from {one.distance or 0:.3g} m"
            )
            count = alone.meshes[0].triangle_count
            axes.set_title(f"{placed.node.name}\n{count:,} triangles\n{said}", color=INK, fontsize=10)
    figure.tight_layout()
    figure.savefig(SHOTS / "levels.png", dpi=100)


CHAIN = "50 25 12.5"


def deviation(folder: Path) -> None:
    """How far the surface moves as triangles go, for two pieces of the kit and a ball."""
    figure, axes = plt.subplots(figsize=(12.8, 6), facecolor=PAPER)
    axes.set_facecolor(PAPER)
    chain = "90 80 70 60 50 40 30 25 20 15 12.5 10 8 6"
    boat = folder / "otterweir" / "ready" / "engine" / "work_boat.glb"
    post = folder / "otterweir" / "ready" / "engine" / "mooring_post.glb"
    lantern = zo.Scene((zo.Node("lantern", content=_ball()),), zo.Frame("left up forward", "m"))
    curves = ((zo.read(boat), "hull"), (zo.read(post), "Poeller_gross_01"), (lantern, "lantern"))
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


def _rendered(path: Path, width: int, height: int, *, wire: bool = False) -> NDArray[np.float64]:
    """A textured orthographic view from the front left, above; faces seen from behind are red."""
    around, up = np.radians(-35), np.radians(24)
    right = np.array([np.cos(around), 0, -np.sin(around)])
    towards = np.array([np.sin(around) * np.cos(up), np.sin(up), np.cos(around) * np.cos(up)])
    view = np.stack([right, np.cross(towards, right), towards])
    sections = list(read_sections(path))
    seen = np.concatenate([points @ view.T for points, *_ in sections])
    low, high = seen.min(axis=0), seen.max(axis=0)
    scale = 2 * min((width - 20) / (high[0] - low[0]), (height - 20) / (high[1] - low[1]))
    canvas = np.tile(np.array(matplotlib.colors.to_rgb(PAPER)), (2 * height, 2 * width, 1))
    depth = np.full((2 * height, 2 * width), -np.inf)
    for points, normals, uvs, triangles, image in sections:
        at = (points @ view.T - (low + high) / 2) * (scale, -scale, 1) + (width, height, 0)
        light = 0.45 + 0.55 * np.clip(normals @ np.array([-0.25, 0.85, 0.46]), 0, 1)
        for triangle in triangles:
            _fill(canvas, depth, at[triangle], light[triangle], uvs[triangle], image, wire=wire)
    return canvas.reshape(height, 2, width, 2, 3).mean(axis=(1, 3))


def _fill(canvas: Any, depth: Any, corners: Any, light: Any, uvs: Any, image: Any, *, wire: bool) -> None:
    """Draw one triangle into canvas and depth buffer."""
    a, b, c = corners[:, :2]
    area = (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])
    if area == 0:
        return
    low = np.maximum(np.floor(corners[:, :2].min(axis=0)).astype(int), 0)
    high = np.minimum(np.ceil(corners[:, :2].max(axis=0)).astype(int) + 1, canvas.shape[1::-1])
    x, y = np.meshgrid(np.arange(low[0], high[0]) + 0.5, np.arange(low[1], high[1]) + 0.5)
    one = ((x - a[0]) * (c[1] - a[1]) - (y - a[1]) * (c[0] - a[0])) / area
    two = ((b[0] - a[0]) * (y - a[1]) - (b[1] - a[1]) * (x - a[0])) / area
    share = np.stack([1 - one - two, one, two], -1)
    z = share @ corners[:, 2]
    patch = (slice(low[1], high[1]), slice(low[0], high[0]))
    drawn = (share.min(axis=-1) >= 0) & (z > depth[patch])
    patch_drawn = drawn.copy()
    uv = share[drawn] @ uvs
    texel = (uv % 1 * (image.shape[1], image.shape[0])).astype(int)
    color = image[texel[:, 1] % image.shape[0], texel[:, 0] % image.shape[1]]
    drawn[drawn] = color[:, 3] >= 0.5
    shade = (share[patch_drawn] @ light)[:, None]
    color = (color[:, :3] * shade)[color[:, 3] >= 0.5]
    if wire:
        # Plain, so that the lines show; as wide as a pixel of the picture.
        side = np.linalg.norm(corners[[1, 2, 0], :2] - corners[[2, 0, 1], :2], axis=1)
        near = (share[drawn] * abs(area) / np.maximum(side, 1e-9)).min(axis=-1) < 1.0
        color = np.where(near[:, None], matplotlib.colors.to_rgb(INK), (0.73, 0.81, 0.77) * shade[: len(near)])
    # The picture's y axis points down, so what faces us turns the other way round in it.
    canvas[patch][drawn] = color if area < 0 else matplotlib.colors.to_rgb("#c2452d")
    depth[patch][drawn] = z[drawn]


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
            terminal(
                "plan", "zesty-otter run otterweir/otterweir.toml --dry-run --fresh --only 'crate*'", folder=folder
            )
            terminal("formats", "zesty-otter formats", folder=folder)
            terminal("targets", "zesty-otter targets", "zesty-otter targets m-right-up-forward", folder=folder)
            terminal(
                "levels_table",
                "zesty-otter convert otterweir/ready/engine/work_boat.glb light.glb --levels 50,25,10",
                folder=folder,
            )
            for picture in (overview, pieces, weld, triangulate, normals, levels, deviation, growth):
                picture(folder)
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
