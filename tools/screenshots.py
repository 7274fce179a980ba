"""Refresh docs/screenshots from the demo kit: `make screenshots`.

Terminal views are taken of a real terminal window on a virtual screen; that needs Xvfb, xterm and
ImageMagick's `import` (Debian packages xvfb, xterm, imagemagick).
"""

from __future__ import annotations

import os
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
import numpy as np
from numpy.typing import NDArray

import zesty_otter as zo
from zesty_otter.audit import inspect_glb
from zesty_otter.audit.glb import read_sections
from zesty_otter.demo import PIECES, write_kit
from zesty_otter.geometry.triangulation import DIAGONALS
from zesty_otter.model import count_of

SHOTS = Path(__file__).parent.parent / "docs" / "screenshots"
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


def _rendered(path: Path, width: int, height: int) -> NDArray[np.float64]:
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
            _fill(canvas, depth, at[triangle], light[triangle], uvs[triangle], image)
    return canvas.reshape(height, 2, width, 2, 3).mean(axis=(1, 3))


def _fill(canvas: Any, depth: Any, corners: Any, light: Any, uvs: Any, image: Any) -> None:
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
    color = (color[:, :3] * (share[patch_drawn] @ light)[:, None])[color[:, 3] >= 0.5]
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
            terminal("steps", "zesty-otter steps", "zesty-otter steps weld", folder=folder)
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
            for picture in (overview, pieces, weld, triangulate, normals):
                picture(folder)
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
