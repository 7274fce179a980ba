"""The pieces of the boatyard kit and what is wrong with each."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zesty_otter.demo import textures
from zesty_otter.demo.obj_text import obj_text
from zesty_otter.demo.shapes import Part, box, box_mapped, lathe, prism, sheet
from zesty_otter.model import Frame


@dataclass(frozen=True)
class Piece:
    """One dirty file of the kit.

    ``unit``, ``axes``, ``pivot`` and ``place`` are what an artist would tell `convert`; ``wrong`` says
    what is dirty; ``size`` is (width, height, depth) in metres, worked out by hand from the drawing.
    """

    file: str
    out: str
    unit: str
    axes: str
    pivot: str
    place: str
    wrong: tuple[str, ...]
    size: tuple[float, float, float]
    make: Callable[[], dict[str, str | bytes]]


def _material(name: str, texture: str, *rest: str) -> str:
    return "\n".join((f"newmtl {name}", "Kd 0.8 0.8 0.8", *rest, f"map_Kd {texture}", ""))


def mooring_post() -> dict[str, str | bytes]:
    """A turned timber post with an iron cap: 12 in across, 48 in tall."""
    inch = 0.0254
    post = [(5, 0), (5, 30), (4, 32), (4, 38), (6, 40), (6, 43), (5, 44)]
    cap = [(5.5, 44), (5.5, 46), (3, 48)]
    timber = lathe([(r * inch, h * inch) for r, h in post], 24, [1, 2, 1, 2, 1, 2]).painted("Holz (alt)")
    iron = lathe([(r * inch, h * inch) for r, h in cap], 24, [1, 2]).painted("Eisen, rostig")
    frame = Frame("right forward up", "in")
    library = _material("Holz (alt)", "timber.png", "Ns 20", "illum 2", "Ks 0.1 0.1 0.1")
    library += _material("Eisen, rostig", "iron.png", "Pm 1.0", "Pr 0.55")
    return {
        "mooring post.obj": obj_text(
            [("Pöller groß 01", [timber]), ("pöller GROß 01", [iron])],
            frame,
            library="mooring post.mtl",
            offset=(400.0, -250.0, 0.0),
        ),
        "mooring post.mtl": library,
        "timber.png": textures.timber(),
        "iron.png": textures.iron(),
    }


def lock_gate() -> dict[str, str | bytes]:
    """One leaf of a lock gate, notched at the top for its paddle gear: 300 x 420 x 40 cm."""
    # The notch makes the front and back concave: eight corners, two of them turning inward.
    outline = [(0, 0), (3, 0), (3, 4), (2.2, 4), (2.2, 3.2), (1.4, 3.2), (1.4, 4), (0, 4)]
    leaf = prism([(float(x), float(y)) for x, y in outline], 0.3).painted("timber")
    beam = box(3.0, 0.2, 0.4).moved(1.5, 4.1, 0.0).painted("timber")
    straps = [box(2.6, 0.12, 0.36).moved(1.5, y, 0.0).painted("iron") for y in (0.6, 2.4)]
    rod = lathe([(0.05, 0.4), (0.05, 4.0)], 16, [3]).moved(1.8, 0.0, 0.17 - 0.05).painted("iron")
    library = _material("timber", "TEXTURES\\timber.png", "d 1.0") + _material(
        "iron", "TEXTURES\\iron.png", "Pm 0.9", "Pr 0.6"
    )
    return {
        "lock_gate.obj": obj_text(
            [("gate", [leaf, beam]), ("Gate", [*straps, rod])],
            Frame("right up forward", "cm"),
            library="lock_gate.mtl",
        ),
        "lock_gate.mtl": library,
        "textures/timber.png": textures.timber(),
        "textures/iron.png": textures.iron(),
    }


def quay_wall() -> dict[str, str | bytes]:
    """A wall module that tiles every 2 m: its left and right edges meet those of its neighbours."""
    columns, rows = 16, 8
    grid = np.zeros((columns + 1, rows + 1, 3))
    for i in range(columns + 1):
        for j in range(rows + 1):
            # The bulge is nothing at the edges, so that modules meet.
            bulge = 0.04 * math.sin(math.pi * 4 * i / columns) ** 2 * math.sin(math.pi * j / rows)
            grid[i, j] = (1.0 - 2.0 * i / columns, 3.0 * j / rows, 0.4 + bulge)
    front = box_mapped(sheet(grid, 1))
    back = box(2.0, 3.0, 0.8).moved(0.0, 1.5, 0.0)
    keep = [k for k, face in enumerate(back.faces) if not np.allclose(back.points[face, 2], 0.4)]
    shell = Part(
        back.points,
        [back.faces[k] for k in keep],
        [back.uvs[k] for k in keep],
        smoothing=[0] * len(keep),
    )
    coping = box(2.0, 0.2, 0.9).moved(0.0, 3.1, 0.0)
    parts = [part.painted("stone") for part in (front, shell, coping)]
    library = _material("stone", "C:\\Users\\mira\\Desktop\\final_v3\\stone.png")
    return {
        "quay_wall.obj": obj_text(
            [("default", parts)],
            Frame("left up forward", "m"),
            library="quay_wall.mtl",
            offset=(1.0, 0.0, 0.45),
            keyword="g",
            negative=True,
        ),
        "quay_wall.mtl": library,
        "stone.png": textures.stone(),
    }


def work_boat() -> dict[str, str | bytes]:
    """An open hull, one half mirrored from the other: 24 ft long, 7 ft wide, 3 ft deep."""
    foot = 0.3048
    stations, lines = 24, 8
    half = np.zeros((stations + 1, lines + 1, 3))
    for i in range(stations + 1):
        along = i / stations
        # Widest a third of the way from the stern, half as wide at the transom, nothing at the bow.
        swing = math.pi * (0.25 + 0.75 * along)
        beam = 3.5 * math.sin(swing) ** 0.8
        rise = 0.9 * along**4
        for j in range(lines + 1):
            angle = 0.5 * math.pi * j / lines
            half[i, j] = (
                foot * beam * math.sin(angle) ** 0.7,
                foot * (rise + (3.0 - rise) * (1 - math.cos(angle)) ** 1.2),
                foot * (24.0 * along - 12.0),
            )
    half = np.where(np.abs(half) < 1e-9, 0.0, half)
    # The planking is 35 mm thick; at the gunwale a rim joins the outside to the inside.
    inside = np.stack(
        [np.maximum(half[..., 0] - 0.035, 0.0), np.minimum(half[..., 1] + 0.035, half[:, -1:, 1]), half[..., 2]], -1
    )
    rim = np.stack([half[:, -1], inside[:, -1]], axis=1)
    port = [sheet(half, 1), sheet(inside[::-1], 2), sheet(rim, 0)]
    port = [part.painted("hull paint") for part in port]
    starboard = [
        Part(
            part.points * (-1.0, 1.0, 1.0),
            [face[::-1] for face in part.faces],
            [uv[::-1] for uv in part.uvs],
            part.material,
            part.smoothing,
        )
        for part in port
    ]
    transom_edge = half[0]
    flat = [
        (float(x), float(y)) for x, y in np.concatenate([transom_edge[::-1, :2] * (-1.0, 1.0), transom_edge[1:, :2]])
    ]
    transom = prism(flat, 0.04).moved(z=-12.0 * foot + 0.02).painted("hull paint")
    thwarts = [
        box(w * foot, 0.04, 0.25).moved(0.0, 2.0 * foot, z * foot).painted("timber")
        for w, z in ((5.6, -4.0), (5.2, 2.0))
    ]
    library = _material("hull paint", "paint.png", "Ns 60", "Ks 0.3 0.3 0.3", "illum 2") + _material(
        "timber", "timber.png"
    )
    return {
        "work_boat.obj": obj_text(
            [("hull", port), ("hull_mirrored", starboard), ("transom", [transom]), ("thwarts", thwarts)],
            Frame("back right up", "ft"),
            library="work_boat.mtl",
        ),
        "work_boat.mtl": library,
        "paint.png": textures.paint(),
        "timber.png": textures.timber(),
    }


PIECES = (
    Piece(
        "mooring post.obj",
        "mooring_post.glb",
        "in",
        "right forward up",
        "base",
        "origin",
        (
            "inches, +Z up",
            "left 12 m from the origin",
            "names with spaces and umlauts that differ only in case",
            "caps of 24 corners",
        ),
        (0.3048, 1.2192, 0.3048),
        mooring_post,
    ),
    Piece(
        "lock_gate.obj",
        "lock_gate.glb",
        "cm",
        "right up forward",
        "keep",
        "keep",
        (
            "centimetres, left-handed",
            "concave faces with a notch",
            "smoothing groups but no normals",
            "texture paths with backslashes and wrong case",
        ),
        (3.0, 4.2, 0.4),
        lock_gate,
    ),
    Piece(
        "quay_wall.obj",
        "quay_wall.glb",
        "m",
        "left up forward",
        "keep",
        "keep",
        (
            "group called default",
            "indices that count backwards",
            "a texture on somebody's desktop",
        ),
        (2.0, 3.2, 0.9),
        quay_wall,
    ),
    Piece(
        "work_boat.obj",
        "work_boat.glb",
        "ft",
        "back right up",
        "base",
        "origin",
        (
            "feet, +Z up, bow along -X",
            "one half mirrored, the halves not joined",
        ),
        (2.1336, 0.9144, 7.3152),
        work_boat,
    ),
)
"""The kit, piece by piece."""


def write_kit(folder: Path) -> list[Path]:
    """Write every piece into its own folder below ``folder``; returns the model files, in order."""
    models = []
    for piece in PIECES:
        home = folder / Path(piece.out).stem
        for name, content in piece.make().items():
            path = home / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content.encode() if isinstance(content, str) else content)
        models.append(home / piece.file)
    return models
