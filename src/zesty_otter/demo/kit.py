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
from zesty_otter.demo.winch import winch_drum
from zesty_otter.formats.gltf.writer import encode
from zesty_otter.geometry.surface.normals import normals_all_smooth
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Frame, Layer, Light, Material, Mesh, Node, Scene, Texture, TextureUse


@dataclass(frozen=True)
class Piece:
    """One dirty file of the kit.

    ``unit`` and ``axes`` are what an artist would say of it (None where the file does), ``steps`` what
    they would do, each as `convert --step` takes it; ``wrong`` says what is dirty; ``size`` is (width,
    height, depth) in metres, worked out by hand from the drawing; ``facets`` is how exact surfaces become polygons.
    """

    file: str
    out: str
    unit: str | None
    axes: str | None
    steps: tuple[str, ...]
    wrong: tuple[str, ...]
    size: tuple[float, float, float]
    make: Callable[[], dict[str, str | bytes]]
    facets: str | None = None


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
        "mooring_post_sculpt.glb": _sculpt([(r * inch, h * inch) for r, h in (*post, *cap[1:])]),
    }


def _sculpt(profile: list[tuple[float, float]]) -> bytes:
    """The dense version of the post, to bake from: cracks along the timber, dents in the iron, where ropes rubbed."""
    rows, around = 150, 144
    length = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(np.array(profile), axis=0).T))])
    at = np.unique(np.concatenate([np.linspace(0, length[-1], rows), length]))
    radius, height = (np.interp(at, length, column) for column in np.array(profile).T)
    angle = 2 * np.pi * np.arange(around) / around
    a, h = np.meshgrid(angle, height)
    cracks = np.maximum(np.cos(9 * a + 2 * np.sin(7 * h)), 0) ** 24 + np.maximum(np.cos(5 * a - 3 * h), 0) ** 40
    rubbed = np.exp(-(((h - 0.89) / 0.03) ** 2)) * (1 + 0.3 * np.cos(60 * h + a))
    dents = 0.5 + 0.5 * np.sin(13 * a + 40 * h) * np.sin(90 * h)
    iron = h > 1.12
    carved = (
        np.where(iron, 0.0025 * dents, 0.007 * cracks + 0.006 * rubbed) * np.sin(np.pi * at / at[-1])[:, None] ** 0.2
    )
    r = radius[:, None] - carved
    points = np.concatenate([np.stack([r * np.sin(a), h, r * np.cos(a)], axis=2).reshape(-1, 3),
                             [(0, height[0], 0), (0, height[-1], 0)]])  # fmt: skip
    first = (np.arange(len(at) - 1)[:, None] * around + np.arange(around)).ravel()
    after = (np.arange(len(at) - 1)[:, None] * around + (np.arange(around) + 1) % around).ravel()
    quads = np.stack([first, after, after + around, first + around], axis=1)
    last = (len(at) - 1) * around
    ends = [(len(points) - 2, (k + 1) % around, k) for k in range(around)]
    ends += [(len(points) - 1, last + k, last + (k + 1) % around) for k in range(around)]
    triangles = np.concatenate([quads[:, [0, 1, 2]], quads[:, [0, 2, 3]], np.array(ends)]).astype(np.int32)
    start = np.arange(0, triangles.size + 1, 3, dtype=np.int32)
    corners = np.ascontiguousarray(triangles.ravel())
    values, index = normals_all_smooth(points, start, corners, np.arange(len(points), dtype=np.int32))
    mesh = Mesh.taking("sculpt", points, start, corners, (Layer.taking("normal", values, index),))
    return dict(encode(Scene.from_mesh(mesh), "sculpt.glb").joined())["sculpt.glb"]


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


def jib_crane() -> dict[str, str | bytes]:
    """A crane of nested groups: mast 4 m tall, jib reaching 3 m, a mirrored counterweight up to 4.1 m.

    Drawn in centimetres lying on its back, and stood up by a rotation and a scale on the outermost group.
    """
    lying = np.array([[1, 0, 0, 0], [0, 0, -1, 0], [0, 1, 0, 0], [0, 0, 0, 1.0]])
    back = lying.T @ np.diag([100.0, 100.0, 100.0, 1.0])

    def drawn(part: Part, name: str, material: Material) -> Mesh:
        points = part.points @ back[:3, :3].T
        corners = np.concatenate([np.array(face) for face in part.faces])
        uv = np.concatenate([np.array(face) for face in part.uvs])
        layer = Layer.taking("uv", uv, np.arange(len(corners), dtype=np.int32))
        start = np.concatenate([[0], np.cumsum([len(face) for face in part.faces])])
        return Mesh(name, points, start, corners, (layer,), (material,), face_smoothing=np.array(part.smoothing))

    iron = Material("iron", metallic=0.9, roughness=0.6).with_textures(
        {"base_color": TextureUse(Texture("iron.png", data=textures.iron()))}
    )
    stone = Material("weight", roughness=0.9).with_textures(
        {"base_color": TextureUse(Texture("stone.png", data=textures.stone()))}
    )
    mast = drawn(lathe([(0.15, 0.0), (0.15, 4.0)], 16, [1]), "mast", iron)
    beam = drawn(box(1.0, 0.2, 0.2).moved(0.5, 0.0, 0.0), "beam", iron)
    weight = drawn(box(0.5, 0.6, 0.5).moved(0.25, 0.0, 0.0), "weight", stone)
    hook = drawn(box(0.1, 0.4, 0.1).moved(0.0, -0.2, 0.0), "hook", iron)
    # In the lying space of the drawing: X stays, up is -Z there... the groups are placed in it.
    stretched = np.diag([3.0, 1.0, 1.0, 1.0])
    raised = np.eye(4)
    raised[:3, 3] = back[:3, :3] @ (0.0, 3.8, 0.0)
    mirrored = np.diag([-1.0, 1.0, 1.0, 1.0])
    out_there = np.eye(4)
    out_there[:3, 3] = back[:3, :3] @ (0.95, -0.1, 0.0)
    jib = Node("jib", raised @ stretched, (Node("beam", content=beam), Node("hook", out_there, content=hook)))
    counter = Node("counter", raised @ mirrored, (Node("weight", content=weight),))
    lamp = Light("lamp", "point", (1.0, 0.8, 0.5), 40.0)
    lamp_place = np.eye(4)
    lamp_place[:3, 3] = back[:3, :3] @ (0.0, 4.2, 0.0)
    turning = Node("turning", children=(jib, counter, Node("lamp", lamp_place, content=lamp)))
    outer = lying @ np.diag([0.01, 0.01, 0.01, 1.0])
    root = Node("crane export", outer, (Node("mast", content=mast), turning))
    scene = Scene((root,), Frame("left up forward", "m"), "jib crane")
    return dict(encode(scene, "jib_crane.gltf").joined())


def net_rack() -> dict[str, str | bytes]:
    """A net drying on a rack: one flat card with a cut-out map between two posts, 2.4 x 1.8 x 0.1 m."""
    posts = [box(0.1, 1.8, 0.1).moved(x, 0.9, 0.0) for x in (-1.15, 1.15)]
    bar = box(2.4, 0.08, 0.08).moved(0.0, 1.7, 0.0)
    net = Part(
        np.array([[-1.1, 0.2, 0.0], [1.1, 0.2, 0.0], [1.1, 1.66, 0.0], [-1.1, 1.66, 0.0]]),
        [[0, 1, 2, 3]],
        [[(0.0, 1.0), (3.0, 1.0), (3.0, -1.0), (0.0, -1.0)]],  # V the wrong way up
        "net",
        [0],
    )
    library = _material("net", "net_color.bmp", "map_d net_holes.png") + _material("timber", "Timber.PNG", "Ns 10")
    parts = [part.painted("timber") for part in (*posts, bar)]
    return {
        "net_rack.obj": obj_text(
            [("rack", parts), ("net", [net])], Frame("left forward down", "m"), library="net_rack.mtl"
        ),
        "net_rack.mtl": library,
        "net_color.bmp": textures.net_color(),
        "net_holes.png": textures.net_holes(),
        "timber.png": textures.timber(),
    }


def fish_ladder() -> dict[str, str | bytes]:
    """Five stepped pools beside the weir, in triangles with one smoothing group over all: 2 x 1.5 x 5 m."""
    steps, rise, run = 5, 0.3, 1.0
    outline: list[tuple[float, float]] = [(0.0, 0.0), (steps * run, 0.0), (steps * run, steps * rise)]
    for k in range(steps, 1, -1):
        outline += [((k - 1) * run, k * rise), ((k - 1) * run, (k - 1) * rise)]
    outline.append((0.0, rise))
    block = prism(outline, 2.0)
    # Turned so that the water comes from the back: the outline's length runs along -Z.
    turned = block.points @ np.array([[0.0, 0.0, -1.0], [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]])
    start = np.concatenate([[0], np.cumsum([len(face) for face in block.faces])]).astype(np.int32)
    corners = np.concatenate(block.faces).astype(np.int32)
    uv = np.concatenate([np.array(face) for face in block.uvs])
    triangles, _ = triangulate(turned, start, corners)
    part = Part(
        turned,
        corners[triangles].tolist(),
        [[(float(u), float(v)) for u, v in uv[triangle]] for triangle in triangles],
        "stone",
        [1] * len(triangles),
    )
    return {
        "fish_ladder.obj": obj_text(
            [("fish_ladder", [part])], Frame("left up forward", "mm"), library="fish_ladder.mtl"
        ),
        "fish_ladder.mtl": _material("stone", "stone.png"),
        "stone.png": textures.stone(),
    }


def crate_stack() -> dict[str, str | bytes]:
    """Three crates somebody copied in a hurry: 1.7 x 1.6 x 0.8 m."""
    crate = box(0.8, 0.8, 0.8)
    # Every face has points of its own, as from a program that does not weld.
    points = np.concatenate([crate.points[face] for face in crate.faces])
    loose = Part(
        points,
        [list(range(at, at + 4)) for at in range(0, 24, 4)],
        crate.uvs,
        "wood",
        [0] * 6,
    )
    doubled = Part(loose.points, [*loose.faces, *loose.faces[:3]], [*loose.uvs, *loose.uvs[:3]], "wood.001", [0] * 9)
    inside_out = Part(
        np.concatenate([loose.points, [[5.0, 9.0, 5.0], [-7.0, 3.0, 1.0]]]),
        [[*face[::-1]] for face in loose.faces] + [[0, 1, 1], [0, 1, 0]],
        [[*uv[::-1]] for uv in loose.uvs] + [[(0.0, 0.0)] * 3] * 2,
        "wood.002",
        [0] * 8,
    )
    library = "".join(_material(name, "timber.png") for name in ("wood", "wood.001", "wood.002", "never used"))
    stack = [
        ("Cube", [loose.moved(-0.45, 0.4, 0.0)]),
        ("Cube.001", [doubled.moved(0.45, 0.4, 0.0)]),
        ("cube", [inside_out.moved(0.0, 1.2, 0.0)]),
    ]
    return {
        "crate_stack.obj": obj_text(stack, Frame("left up forward", "cm"), library="crate_stack.mtl"),
        "crate_stack.mtl": library,
        "timber.png": textures.timber(),
    }


PIECES = (
    Piece(
        "mooring post.obj",
        "mooring_post.glb",
        "in",
        "right forward up",
        ("pivot at=base of=scene place=origin", "join name=mooring_post"),
        (
            "inches, +Z up",
            "left 12 m from the origin",
            "one post in two nodes, whose names have umlauts and differ only in case",
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
        ("pivot at='right down back' of=scene", 'names search=[["^Gate$","frame"]]'),
        (
            "centimetres, left-handed",
            "two parts whose names differ only in case",
            "concave faces with a notch",
            "smoothing groups but no normals",
            "texture paths with backslashes and wrong case",
            "a hinge that is not where the origin is",
        ),
        (3.0, 4.2, 0.4),
        lock_gate,
    ),
    Piece(
        "quay_wall.obj",
        "quay_wall.glb",
        "m",
        "left up forward",
        ("pivot at=grid:2m", "names template={file}"),
        (
            "group called default",
            "indices that count backwards",
            "a texture on somebody's desktop",
            "a pivot off the 2 m grid",
        ),
        (2.0, 3.2, 0.9),
        quay_wall,
    ),
    Piece(
        "work_boat.obj",
        "work_boat.glb",
        "ft",
        "back right up",
        ("weld distance=1mm", "normals by=angle angle=50", "pivot at=base of=scene place=origin"),
        (
            "feet, +Z up, bow along -X",
            "one half mirrored, the halves not joined",
        ),
        (2.1336, 0.9144, 7.3152),
        work_boat,
    ),
    Piece(
        "jib_crane.gltf",
        "jib_crane.glb",
        None,
        None,
        ("select drop=kind:light", "bake"),
        (
            "drawn in centimetres, lying down, stood up by a rotation and a scale of 0.01",
            "a group stretched to three times its length, with a hook below it",
            "a mirrored counterweight",
            "a lamp nobody asked for",
        ),
        (3.5, 4.1, 0.5),
        jib_crane,
    ),
    Piece(
        "net_rack.obj",
        "net_rack.glb",
        "m",
        "left forward down",
        ("uv-sets flip_v=true report=false", "textures largest=64"),
        (
            "upside down, left-handed",
            "a cut-out map in a file of its own, and a colour map no engine reads",
            "UVs turned over",
            "a texture name in the wrong case",
        ),
        (2.4, 1.8, 0.1),
        net_rack,
    ),
    Piece(
        "fish_ladder.obj",
        "fish_ladder.glb",
        "mm",
        "left up forward",
        ("weld distance=0.1mm", "merge-flat", "normals by=angle angle=30", "pivot at='left down back'"),
        (
            "millimetres",
            "one smoothing group over every step, so nothing is flat",
            "triangles where polygons were",
        ),
        (2.0, 1.5, 5.0),
        fish_ladder,
    ),
    Piece(
        "crate_stack.obj",
        "crate_stack.glb",
        "cm",
        "left up forward",
        ("weld distance=0.1mm", "clean-up", "names replace_defaults=crate_{number}"),
        (
            "default names that differ only in case",
            "points of its own for every face, faces there twice, flat faces, stray points",
            "one crate inside out",
            "one material three times",
        ),
        (1.7, 1.6, 0.8),
        crate_stack,
    ),
    Piece(
        "winch_drum.step",
        "winch_drum.glb",
        None,
        None,
        ("names template=winch_drum", "pivot at=base of=scene place=origin", "join name=winch_drum"),
        (
            "exact curves and surfaces in millimetres, +Z up",
            "1.2 m from the origin",
            "parts called COMPOUND",
            "edges broken by half a millimetre, which would drown in triangles",
        ),
        (0.427, 0.24, 0.4123),
        winch_drum,
        facets="chord=0.8mm angle=40 shortest=6mm",
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


def _quoted(text: str) -> str:
    return f"'{text}'" if '"' in text else f'"{text}"'


def write_job(folder: Path) -> Path:
    """Write the job that mends the kit below ``folder``; returns its file."""
    lines = ['title = "Otterweir, a small boatyard at a weir"', ""]
    for piece in PIECES:
        lines += ["[[sources]]", f'files = "sources/{Path(piece.out).stem}/{piece.file}"']
        lines += [
            f'{key} = "{value}"'
            for key, value in (("unit", piece.unit), ("axes", piece.axes), ("facets", piece.facets))
            if value
        ]
        lines += ["steps = [", *(f"    {_quoted(step)}," for step in piece.steps), "]", ""]
    path = folder / "otterweir.toml"
    path.write_text("\n".join(lines) + _OUTPUTS, "utf-8")
    return path


_OUTPUTS = """\
# As they are: metres, right-handed, a file each.
[[outputs]]
name = "engine"
target = "m-left-up-forward"
folder = "engine"

# The same for a program that wants centimetres, left-handed, Z up, and one mesh in a file.
[[outputs]]
name = "joined"
target = "cm-forward-right-up"
formats = "obj"
folder = "joined"
meshes = "joined"

# With one material for the crane, levels of detail, UVs for baked light that levels share, relief baked once from the
# sculpt of the post (whose levels keep the UVs it gets before them), collision and a mesh for the shadow, checked
# against everything the target expects.
[[outputs]]
name = "finished"
target = "m-left-up-forward"
folder = "finished"
check = "all"
steps = [
    "atlas size=512 only=mast,beam,hook,weight",
    "unwrap for=light size=256 only=mooring*",
    "levels chain='50 25'",
    "unwrap for=light size=256 levels=visible",
    '''bake-maps file=sources/mooring_post/mooring_post_sculpt.glb maps=normal,occlusion size=256 rays=16
    share=true only=mooring*''',
    "card only=rack",
    { step = "collision", rules = [
        { shape = "surface", nodes = ["hull*", "winch*"] },
        { shape = "none", nodes = "net" },
    ] },
    "shadow inward=1cm",
]

# Everything in rows, to look over.
[lay_out]
file = "overview.glb"
of = "engine"
gap = "1m"
"""
