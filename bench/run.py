"""How far each hot path is from a limit measured in the same run: `make bench`.

Prints ratios, never bare seconds: 3.0 means three times as long as the limit beside it.
"""

from __future__ import annotations

import math
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

import zesty_otter as zo
from zesty_otter import formats, jobs
from zesty_otter.formats.gltf.compressed import packed_rows, unpacked_view
from zesty_otter.geometry.simplify.collapse import Attribute, simplify
from zesty_otter.geometry.simplify.deviation import Shape, deviation
from zesty_otter.geometry.surface.placing import composed
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Layer, Node, transformed
from zesty_otter.pipeline.delivery import deliver

WIDE, DEEP = 1000, 500  # half a million quads


def usual(run: Callable[[], Any], times: int = 9) -> float:
    """The median of several runs, after one to warm up."""
    run()
    return statistics.median(_timed(run) for _ in range(times))


def in_turn(*runs: Callable[[], Any], times: int = 7) -> list[float]:
    """The best of several runs of each, one after the other, for what waits for the disk as well."""
    return [min(column) for column in zip(*([_timed(run) for run in runs] for _ in range(times)), strict=True)]


def side_by_side(run: Callable[[], Any], other: Callable[[], Any], times: int = 6) -> float:
    """How long one takes for each second of another: there and back, as machines change their speed meanwhile."""
    rounds = ([_timed(one) for one in (run, other, other, run)] for _ in range(times))
    return statistics.median((first + last) / (second + third) for first, second, third, last in rounds)


def _timed(run: Callable[[], Any]) -> float:
    start = time.perf_counter()
    run()
    return time.perf_counter() - start


def terrain() -> zo.Scene:
    """Half a million quads with normals and UVs."""
    y, x = np.mgrid[0 : DEEP + 1, 0 : WIDE + 1]
    points = np.stack([x * 0.1, np.sin(x * 0.01) * np.cos(y * 0.013) * 10, y * 0.1], -1).reshape(-1, 3)
    normals = np.stack([-np.cos(x * 0.01), np.ones_like(x), np.sin(y * 0.013)], -1).reshape(-1, 3)
    uvs = np.stack([x / WIDE, y / DEEP], -1).reshape(-1, 2)
    first = (np.arange(DEEP)[:, None] * (WIDE + 1) + np.arange(WIDE)).ravel()
    corners = np.stack([first, first + WIDE + 1, first + WIDE + 2, first + 1], 1).ravel().astype(np.int32)
    layers = (Layer("uv", uvs, corners), Layer("normal", normals, corners))
    mesh = zo.Mesh("terrain", points, np.arange(0, len(corners) + 1, 4, dtype=np.int32), corners, layers)
    return zo.Scene((Node("terrain", content=mesh),), zo.Frame("left up forward", "m"))


def obj_bytes(mesh: zo.Mesh) -> bytes:
    """The mesh as OBJ text, six decimals."""

    def rows(word: str, values: NDArray[Any]) -> Iterator[str]:
        return (f"{word} " + " ".join(f"{v:.6f}" for v in row) for row in values.tolist())

    uv, normal = mesh.layers
    faces = mesh.corner_point.reshape(-1, 4) + 1
    lines = [*rows("v", mesh.points), *rows("vt", uv.values), *rows("vn", normal.values), "s 1"]
    lines += ["f " + " ".join(f"{c}/{c}/{c}" for c in face) for face in faces.tolist()]
    return "\n".join(lines).encode()


def ply_text(mesh: zo.Mesh) -> bytes:
    """The mesh as ASCII PLY, six decimals."""
    head = f"ply\nformat ascii 1.0\nelement vertex {mesh.point_count}\n"
    head += "".join(f"property float {name}\n" for name in "xyz")
    head += f"element face {mesh.face_count}\nproperty list uchar int vertex_indices\nend_header\n"
    rows = (" ".join(f"{v:.6f}" for v in row) for row in mesh.points.tolist())
    faces = ("4 " + " ".join(map(str, face)) for face in mesh.corner_point.reshape(-1, 4).tolist())
    return (head + "\n".join([*rows, *faces])).encode()


def stl_text(mesh: zo.Mesh) -> bytes:
    """A fifth of the mesh as ASCII STL, six decimals."""
    rows = [" ".join(f"{v:.6f}" for v in row) for row in mesh.points.tolist()]
    facets = []
    for a, b, c, d in mesh.corner_point.reshape(-1, 4)[::5].tolist():
        for corners in ((a, b, c), (a, c, d)):
            vertices = "\n".join(f"   vertex {rows[n]}" for n in corners)
            facets.append(f" facet normal 0 1 0\n  outer loop\n{vertices}\n  endloop\n endfacet")
    return ("solid terrain\n" + "\n".join(facets) + "\nendsolid terrain\n").encode()


def arrays_of(mesh: zo.Mesh) -> list[NDArray[Any]]:
    return [
        mesh.points,
        mesh.face_start,
        mesh.corner_point,
        *(a for one in mesh.layers for a in (one.values, one.index)),
    ]


def ratios() -> Iterator[tuple[str, float, str]]:
    """(what, ratio, what it is a ratio to), one after the other."""
    scene = terrain()
    mesh = scene.meshes[0]
    with tempfile.TemporaryDirectory() as folder:
        source, out, copy = (Path(folder) / name for name in ("a.obj", "a.glb", "copy.bin"))
        source.write_bytes(obj_bytes(mesh))
        reading = usual(source.read_bytes)
        size = source.stat().st_size
        took = usual(lambda: zo.read(source, unit="m"))
        yield f"read OBJ, {size / 1e6:.0f} MB", took / reading, "reading its bytes"
        # What a 60 MB/s parser would take, as a multiple of reading the bytes.
        yield "  the bound of 60 MB/s", size / 60e6 / reading, "reading its bytes"

        zo.write(scene, out)
        content = out.read_bytes()
        arrays = arrays_of(mesh)

        def copy_and_write() -> None:
            for array in arrays:
                array.copy()
            part = copy.with_suffix(".part")
            part.write_bytes(content)
            part.replace(copy)

        limit = usual(copy_and_write)
        yield (
            "write GLB",
            usual(lambda: zo.write(scene, out)) / limit,
            "copying the arrays, writing its bytes beside and renaming",
        )

        yield from _every_format(scene, Path(folder))

    sort = usual(lambda: np.argsort(mesh.corner_point))
    split = usual(lambda: triangulate(mesh.points, mesh.face_start, mesh.corner_point))
    yield "triangulate 500,000 quads", split / sort, "an argsort of their corners"
    yield from _steps_on_a_million_triangles(scene)
    yield from _levels()
    yield from _curves()
    yield from _maps()
    yield from _scatters()
    yield from _solid()
    yield from _seen()
    yield from _jobs()
    yield from _page()
    yield from _cluster()
    yield from _starts()


def _every_format(scene: zo.Scene, folder: Path) -> Iterator[tuple[str, float, str]]:
    """Reading and writing the same half a million quads in each format, and what would be quick enough."""
    wanted = {
        ".ply": 4.0,
        ".stl": 4.0,
        ".dae": 60e6,
        ".x3d": 0.0,
        ".usda": 40e6,
        ".usdc": 0.0,
        ".obj": 150e6,
        ".glb": 0.0,
    }
    for ending, bound in wanted.items():
        path = folder / f"b{ending}"
        zo.write(scene, path)
        size = path.stat().st_size
        reading = usual(path.read_bytes, 5)
        took = usual(partial(zo.read, path), 5)
        if ending in (".glb", ".usdc"):
            floats = scene.meshes[0].points.astype(np.float32)
            converting = usual(lambda floats=floats: floats.astype(np.float64), 5)  # type: ignore[misc]
            what = "reading its bytes and converting positions (bound 3)"
            yield f"read {ending}, {size / 1e6:.0f} MB", took / (reading + converting), what
            yield _written(scene, path)
            continue
        # A bound in bytes a second, as a multiple of reading the bytes.
        limit = bound if bound < 100 else size / bound / reading
        said = f" (bound {limit:.0f})" if limit else ""
        yield f"read {ending}, {size / 1e6:.0f} MB", took / reading, f"reading its bytes{said}"
        if ending in (".ply", ".stl"):
            yield _written(scene, path)
            continue
        took = usual(partial(zo.write, scene, path), 5)
        said = f" (bound {size / 60e6 / reading:.0f})" if ending == ".obj" else ""
        yield f"write {ending}", took / reading, f"reading its bytes{said}"

    rows = np.rint(scene.meshes[0].points * 100).astype("<i2").repeat(2, axis=1)[:, :4]
    packed, about = packed_rows(rows), {"count": len(rows), "byteStride": 8, "mode": "ATTRIBUTES"}
    took = usual(lambda: unpacked_view(about, packed), 5)
    yield f"unpack a view of glTF, {rows.nbytes / 1e6:.0f} MB", took / usual(rows.copy, 5), "copying what is in it"

    for ending, text in ((".ply", ply_text(scene.meshes[0])), (".stl", stl_text(scene.meshes[0]))):
        path = folder / f"text{ending}"
        path.write_bytes(text)
        reading = usual(path.read_bytes, 5)
        took = usual(partial(zo.read, path), 5)
        limit = len(text) / 80e6 / reading
        yield (
            f"read {ending} in ASCII, {len(text) / 1e6:.0f} MB",
            took / reading,
            f"reading its bytes (bound {limit:.0f})",
        )


def _written(scene: zo.Scene, path: Path) -> tuple[str, float, str]:
    """What writing a binary file takes over putting its bytes in its place."""
    content, part = path.read_bytes(), path.with_suffix(".part")

    def put() -> None:
        part.write_bytes(content)
        part.replace(path)

    took, limit = in_turn(partial(zo.write, scene, path), put, times=5)
    return f"write {path.suffix}", took / limit, "writing its bytes beside and renaming (bound 3)"


def _curves() -> Iterator[tuple[str, float, str]]:
    """Exact surfaces: reading their text, and making polygons of them."""
    from zesty_otter.demo.winch import winch_drum
    from zesty_otter.formats.step.exchange import Exchange

    text = str(winch_drum()["winch_drum.step"])
    body = text[text.index("DATA;") + 5 : text.rindex("ENDSEC;")]
    count = body.count("\n")
    copies = [re.sub(r"#(\d+)", lambda found, n=n: f"#{int(found[1]) + n * count}", body) for n in range(100)]  # type: ignore[misc]
    many = text.replace(body, "".join(copies)).encode()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "many.step"
        path.write_bytes(many)
        reading = usual(path.read_bytes, 5)
        limit = len(many) / 30e6 / reading
        took = usual(lambda: Exchange(path.read_bytes()), 5)
        yield f"scan STEP, {len(many) / 1e6:.0f} MB", took / reading, f"reading its bytes (bound {limit:.0f})"
        path.write_text(text)
        words = "chord=0.004mm angle=2 shortest=0.01mm"
        mesh = max(zo.read(path, facets=words).meshes, key=lambda one: one.face_count)
        sort = usual(lambda: np.argsort(mesh.corner_point), 5)
        triangles = sum(one.triangle_count for one in zo.read(path, facets=words).meshes)
        limit = triangles / 300e3 / sort
        took = usual(lambda: zo.read(path, facets=words), 3)
        yield (
            f"{triangles:,} triangles of exact surfaces",
            took / sort,
            f"an argsort of their corners (bound {limit:.0f})",
        )


def _scatters() -> Iterator[tuple[str, float, str]]:
    """A million copies worked on, and copies found; against copying their places, or their points."""
    from zesty_otter.pictures import picture

    rng = np.random.default_rng(3)

    def places(count: int) -> NDArray[np.float64]:
        angle = rng.uniform(0, np.pi, count)
        turned = np.stack([0 * angle, np.sin(angle), 0 * angle, np.cos(angle)], axis=1)
        scales = np.repeat(rng.uniform(0.5, 2, (count, 1)), 3, axis=1)
        return composed(count, rng.uniform(-500, 500, (count, 3)) * (1, 0, 1), turned, scales)

    box = zo.Mesh.from_faces(
        "box", [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], [(0, 2, 1), (0, 1, 3), (0, 3, 2), (1, 2, 3)]
    )
    many = places(1_000_000)
    million = zo.Scene((Node("box", content=zo.Scatter(box, many)),), zo.Frame("left up forward", "m"))
    copying = usual(many.copy, 5)
    with tempfile.TemporaryDirectory() as folder:
        works: list[tuple[str, Callable[[], Any]]] = [
            ("survey", lambda: zo.audit.survey(million)),
            ("reframe", lambda: zo.steps.Reframe(axes="right forward up", unit="cm").apply(million)),
            ("cells", lambda: zo.steps.Cells(size="20m").apply(million)),
            *(
                (f"write {kind}", partial(zo.write, million, Path(folder) / f"a.{kind}"))
                for kind in ("glb", "usdc", "usda")
            ),
        ]
        for what, work in works:
            bound = f"copying their places (bound {3 / copying:.0f})"
            yield f"a million copies, {what}", usual(work, 3) / copying, bound
    points, triangles = rough(16)
    stone = zo.Mesh.from_arrays(points, triangles, name="stone")
    nodes = [
        Node(f"stone_{k}", content=transformed(stone, matrix[:3, :3], matrix[:3, 3]))
        for k, matrix in enumerate(places(10_000))
    ]
    apart = zo.Scene(tuple(nodes), million.frame)
    took = usual(lambda: zo.steps.Gather().apply(apart), 1)
    copying = usual(lambda: [node.content.points.copy() for node in nodes], 5)  # type: ignore[union-attr]
    yield f"gather 10,000 copies of {len(triangles)} triangles", took / copying, f"copying (bound {10 / copying:.0f})"
    crowd = zo.Scene((Node("stone", content=zo.Scatter(stone, many[:100_000])),), million.frame)
    pixels = rng.random((1600, 2560, 3), np.float32)
    took, copying = usual(lambda: picture(crowd), 1), usual(pixels.copy, 5)
    yield "picture of 100,000 copies", took / copying, f"copying its pixels (bound {10 / copying:.0f})"


def _maps() -> Iterator[tuple[str, float, str]]:
    """UVs laid out and packed, maps baked, looks compared; against sorting as much as is worked on."""
    from zesty_otter.geometry.uv.packing import pack
    from zesty_otter.geometry.uv.unwrap import unwrap

    def sorting(count: int) -> float:
        numbers = np.random.default_rng(1).random(count)
        return usual(lambda: np.argsort(numbers), 5)

    for side in (112, 224):
        points, triangles = rough(side)
        corners = np.arange(triangles.size, dtype=np.int32).reshape(-1, 3)
        own, face = np.ascontiguousarray(triangles.ravel(), np.int32), np.arange(len(triangles), dtype=np.int32)
        took, sort = usual(lambda c=corners, p=points, o=own, f=face: unwrap(p, o, c, f), 3), sorting(triangles.size)  # type: ignore[misc]
        bound = f"an argsort of their corners (bound {8.0 * len(triangles) / 1e5 / sort:.0f})"
        yield f"unwrap, {len(triangles):,} triangles", took / sort, bound
    rng = np.random.default_rng(2)
    squares = np.array([(0, 0), (1, 0), (1, 1), (0, 0.6)])
    uv = np.concatenate([squares * rng.uniform(0.2, 1, 2) for _ in range(1000)])
    first = 4 * np.arange(1000)[:, None]
    corners = np.concatenate([first + [0, 1, 2], first + [0, 2, 3]], axis=1).reshape(-1, 3).astype(np.int32)
    took = usual(lambda: pack(uv, corners, np.repeat(np.arange(1000, dtype=np.int32), 2), size=(2048, 2048)), 3)
    sort = sorting(2048 * 2048)
    yield "pack 1,000 islands, 2048", took / sort, f"an argsort of the pixels (bound {2 / sort:.0f})"
    points, triangles = rough(708)
    heavy = zo.steps.Normals(by="smooth").apply(
        zo.Scene.from_mesh(zo.Mesh.from_arrays(points, triangles, name="heavy"))
    )
    low, high = points.min(axis=0), points.max(axis=0)
    flat = [(low[0], low[1], 0), (high[0], low[1], 0), (high[0], high[1], 0), (low[0], high[1], 0)]
    rim = np.array([(0.08, 0.08), (0.92, 0.08), (0.92, 0.92), (0.08, 0.92)], np.float32)
    layer = zo.Layer("uv", rim, np.arange(4, dtype=np.int32))
    light = zo.Mesh.from_faces("light", flat, [(0, 1, 2, 3)], layers=(layer,))
    scene = zo.Scene((Node("light", content=light), Node("heavy", content=heavy.meshes[0])), heavy.frame)
    step = zo.steps.BakeMaps(source="heavy", maps="normal color", size=2048)
    took = usual(lambda: step.apply(scene), 1)
    yield (
        f"bake from {len(triangles):,} triangles, 2048",
        took / sort,
        f"an argsort of the pixels (bound {20 / sort:.0f})",
    )
    points, triangles = rough(71)
    ground = zo.Scene.from_mesh(zo.Mesh.from_arrays(points, triangles, name="ground"))
    took, sort = usual(lambda: zo.audit.appearance(ground, ground, 300), 3), sorting(52 * 300 * 300)
    yield "looks of two meshes from 26 sides", took / sort, f"an argsort of their pixels (bound {3 / sort:.0f})"


def _steps_on_a_million_triangles(scene: zo.Scene) -> Iterator[tuple[str, float, str]]:
    steps = zo.steps
    mesh = steps.Triangulate().apply(scene).meshes[0]
    turned = np.array([[0, -2, 0, 5], [2, 0, 0, 0], [0, 0, 2, 0], [0, 0, 0, 1.0]])

    def fresh(transform: NDArray[np.float64]) -> zo.Scene:
        # A mesh made anew has nothing computed for it yet.
        return zo.Scene((Node("terrain", transform, content=mesh.replace()),), scene.frame)

    copying = usual(lambda: [array.copy() for array in arrays_of(mesh)])
    sort = usual(lambda: np.argsort(mesh.corner_point))
    simple = (steps.BakeTransforms(), steps.Reframe(axes="right up forward"), steps.Pivot(at="base"))
    for step in simple:
        took = usual(lambda step=step: step.apply(fresh(turned)))  # type: ignore[misc]
        yield f"{step.slug}, a million triangles", took / copying, "copying the arrays (bound 4)"
    surface: tuple[tuple[str, zo.steps.Step], ...] = (
        ("weld", steps.Weld(distance="1mm")),
        ("orient", steps.CleanUp(flat_faces=False, duplicate_faces=False, loose_points=False)),
        ("normals by angle", steps.Normals(by="angle")),
        ("normals smooth", steps.Normals(by="smooth")),
        ("merge-flat", steps.MergeFlat()),
    )
    for label, one in surface:
        took = usual(lambda one=one: one.apply(fresh(np.eye(4))), 5)  # type: ignore[misc]
        yield f"{label}, a million triangles", took / sort, "an argsort of the corners (bound 6)"


def _levels() -> Iterator[tuple[str, float, str]]:
    """Simplifying rough ground of ever more triangles, and measuring what came of it."""
    took: dict[int, float] = {}
    for side in (24, 71, 224, 708):
        points, triangles = rough(side)
        took[side] = min(_timed(partial(_reduced, points, triangles)) for _ in range(2))
    count = {side: 2 * (side - 1) ** 2 for side in took}
    sort = usual(lambda: np.argsort(triangles.ravel()), 5)
    yield "simplify a million triangles to an eighth", took[708] / sort, "an argsort of their corners"
    grown = took[708] / took[71] / (count[708] * math.log(count[708]) / count[71] / math.log(count[71]))
    yield "  a million against ten thousand", grown, "growth by n log n (bound 1)"
    uvs = (points[:, :2] / 708).astype(np.float32)
    across = (points[triangles].mean(axis=1)[:, :1] > 354) * len(points)
    looks = [
        Attribute(points.astype(np.float32), triangles, 0.005),
        Attribute(np.concatenate([uvs, uvs + 1]), (triangles + across).astype(np.int32), 35.0),
    ]
    eighth = len(triangles) // 8
    dressed = _timed(lambda: list(simplify(points, triangles, [eighth], attributes=looks)))
    yield "  with normals and UVs in two pieces", dressed / took[708], "without (bound 2)"
    chain = [len(triangles) // part for part in (2, 4, 8, 16, 32)]
    five = _timed(lambda: list(simplify(points, triangles, chain)))
    alone = _timed(lambda: list(simplify(points, triangles, chain[-1:])))
    yield "  a chain of five levels", five / alone, "its coarsest alone"
    (light,) = simplify(points, triangles, [eighth])
    before, after = Shape(points, triangles), Shape(light.points, light.triangles)
    yield (
        "measure a level of it, both ways",
        _timed(lambda: deviation(before, after)) / sort,
        "an argsort of the corners",
    )


def _reduced(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> None:
    list(simplify(points, triangles, [len(triangles) // 8]))


def rough(side: int) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Hilly ground of 2 * (side - 1) ** 2 triangles."""
    y, x = np.mgrid[0:side, 0:side]
    bumps = np.random.default_rng(0).normal(0, 0.3, x.shape)
    points = np.stack([x, y, 20 * np.sin(x * 0.02) * np.cos(y * 0.017) + bumps], -1).reshape(-1, 3).astype(float)
    a = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    return points, np.stack([a, a + 1, a + side + 1, a, a + side + 1, a + side], 1).reshape(-1, 3).astype(np.int32)


def _jobs() -> Iterator[tuple[str, float, str]]:
    """What a job costs over the work in it, what remembering saves, and what a second worker brings."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        small, large = folder / "small", folder / "large"
        small.mkdir()
        large.mkdir()
        for number in range(300):  # more than on one page
            zo.write(sheet(20, number), small / f"piece_{number:03}.obj")
        for number in range(16):
            zo.write(sheet(316, number), large / f"piece_{number}.obj")
        chosen = (zo.steps.Weld(), zo.steps.Normals(by="angle"), zo.steps.Pivot(at="base"))
        # Every job finds out roles first and drops lights and cameras last.
        all_steps = (zo.steps.Roles(), *chosen, zo.steps.Select(drop=("kind:light", "kind:camera")))
        output = jobs.Output(formats=("glb",))

        def job(source: Path, *, report: bool = False) -> jobs.Job:
            files = jobs.Source(files=(str(source),), unit="m")
            ready = str(folder / "ready")
            return jobs.Job(sources=(files,), steps=chosen, outputs=(output,), folder=ready, report=report)

        def parts() -> None:
            for path in sorted(small.iterdir()):
                scene = zo.apply(
                    zo.read(path, unit="m"), zo.steps.Reframe(axes="left up forward", unit="m"), *all_steps
                )
                deliver(scene, folder / "parts" / f"{path.stem}.glb")

        whole, sum_of_parts = in_turn(lambda: zo.run_job(job(small), fresh=True), parts)
        yield "a job over 300 small assets", whole / sum_of_parts, "reading, mending, writing each (bound 1.1)"
        told, untold = (partial(zo.run_job, job(small, report=report), fresh=True) for report in (True, False))
        yield "its report", side_by_side(told, untold) - 1, "its files (wanted: 0.2 or less)"
        again = usual(lambda: zo.run_job(job(small)), 5)
        yield "the same with nothing changed", again / whole, "the first run (bound 0.1)"
        one, two = in_turn(*(partial(zo.run_job, job(large), fresh=True, workers=n) for n in (1, 2)), times=4)
        yield "one worker, 16 of 200,000 triangles", one / two, "two workers (wanted: 1.6 or more)"


def _cluster() -> Iterator[tuple[str, float, str]]:
    """Assets of 50,000 triangles on two workers of a cluster and in two processes."""
    try:
        from distributed import Client, LocalCluster
    except ImportError:
        return
    with tempfile.TemporaryDirectory() as home:
        folder = Path(home)
        (folder / "sheets").mkdir()
        for number in range(12):
            zo.write(_sheet(160 + number % 3), folder / "sheets" / f"sheet{number}.obj")
        job = folder / "sheets.toml"
        job.write_text('steps = ["weld", "levels chain=0.4,0.1"]\n[[sources]]\nfiles = "sheets"\nunit = "m"\n'
                       '[[outputs]]\nformats = "glb"\n')  # fmt: skip
        own = {"n_workers": 2, "threads_per_worker": 1, "dashboard_address": None}
        with LocalCluster(**own) as cluster, Client(cluster) as client:
            zo.run_job(job, cluster=client)
            there, here = in_turn(
                lambda: zo.run_job(job, cluster=client, fresh=True),
                lambda: zo.run_job(job, workers=2, fresh=True),
                times=2,
            )
        yield "12 assets on two workers of a cluster", there / here, "in two processes (wanted: 1.2 or less)"


def _sheet(side: int) -> zo.Scene:
    y, x = np.mgrid[0:side, 0:side]
    points = np.stack([0.02 * x, 0.3 * np.sin(0.1 * x) * np.cos(0.13 * y), 0.02 * y], -1).reshape(-1, 3)
    first = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).ravel()
    corners = np.stack([first, first + side, first + side + 1, first + 1], 1)
    return zo.Scene.from_mesh(zo.Mesh.from_arrays(points, corners, name="sheet"), unit="m")


def _page() -> Iterator[tuple[str, float, str]]:
    """What a browser gets of a million triangles, over the file that it is made of."""
    from zesty_otter.page.packing import pack

    scene = zo.apply(terrain(), zo.steps.Normals(by="smooth"))
    glb = formats.format_named("glb")
    packed, written = in_turn(lambda: pack(scene), lambda: glb.encode(scene, "a.glb", quantized=True), times=4)
    yield "a million triangles for the page", packed / written, "writing them as quantized GLB"


def _starts() -> Iterator[tuple[str, float, str]]:
    """Whole processes, beside one that only loads NumPy."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for ending in ("glb", "obj"):
            zo.write(sheet(4, 0), folder / f"small.{ending}")

        def started(*arguments: str) -> Callable[[], object]:
            return partial(subprocess.run, [sys.executable, *arguments], cwd=folder, check=True, capture_output=True)

        numpy = usual(started("-c", "import numpy"), 5)
        for line, bound in (
            ("--help", 1.5), ("--version", 1.5), ("formats", 3.0), ("steps", 3.0), ("targets", 3.0),
            ("survey small.glb", 4.0), ("survey small.obj --unit m", 4.0), ("convert small.obj out.glb --unit m", 5.0),
        ):  # fmt: skip
            took = usual(started("-m", "zesty_otter", *line.split()), 5)
            yield f"zesty-otter {line}", took / numpy, f'python -c "import numpy" (bound {bound:g})'


def sheet(side: int, seed: int) -> zo.Scene:
    """A rough square of 2 x side x side triangles."""
    y, x = np.mgrid[0 : side + 1, 0 : side + 1]
    points = np.stack([x, np.sin(x * 0.3 + seed) * np.cos(y * 0.2), y], -1).reshape(-1, 3)
    a = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).ravel()
    corners = np.stack([a, a + side + 1, a + side + 2, a, a + side + 2, a + 1], 1).ravel().astype(np.int32)
    mesh = zo.Mesh("sheet", points, np.arange(0, len(corners) + 1, 3, dtype=np.int32), corners)
    return zo.Scene((Node("sheet", content=mesh),), zo.Frame("left up forward", "m"))


def _solid() -> Iterator[tuple[str, float, str]]:
    """Hulls, convex parts and footing, beside the hull of the same points."""
    from scipy.spatial import ConvexHull

    from zesty_otter.geometry.solids.decompose import decompose
    from zesty_otter.geometry.solids.footing import Shapes, footing
    from zesty_otter.geometry.solids.hulls import convex_hull
    from zesty_otter.geometry.solids.solid import Solid

    cloud = np.random.default_rng(0).standard_normal((100_000, 3))
    alone = usual(lambda: ConvexHull(cloud), 5)
    yield "hull of 100,000 points", usual(lambda: convex_hull(cloud), 5) / alone, "Qhull alone (bound 2)"
    took = {}
    for side in (71, 224):
        points, triangles = rough(side)
        size = float(np.ptp(points, axis=0).max())
        took[side] = _timed(lambda p=points, t=triangles, s=size: decompose(p, t, 0.02 * s))  # type: ignore[misc]
    sort = usual(lambda: np.argsort(triangles.ravel()), 5)
    yield "parts of 100,000 triangles, 2 % off", took[224] / sort, "an argsort of their corners"
    yield "  against 10,000 triangles", took[224] / took[71] / 10, "growing in proportion (bound 1)"
    body, shapes = Solid(points, triangles), Shapes([convex_hull(points)])
    ask = {"headroom": 0.01, "reach": size, "margin": 0.01, "count": 100_000}
    up = np.array([0.0, 0.0, 1.0])
    footing(body, shapes, up, **{**ask, "count": 10})  # type: ignore[arg-type]
    yield "footing at 100,000 places", _timed(lambda: footing(body, shapes, up, **ask)) / sort, "the same"  # type: ignore[arg-type]


def _seen() -> Iterator[tuple[str, float, str]]:
    """A picture and all checks of a million triangles, beside reading them."""
    from zesty_otter.audit.checks import check
    from zesty_otter.pictures import Look, picture
    from zesty_otter.targets import load

    points, triangles = rough(708)
    mesh = zo.Mesh("ground", points, np.arange(0, triangles.size + 1, 3, dtype=np.int32), triangles.ravel())
    scene = zo.Scene((zo.Node("ground", content=mesh),), zo.Frame("left forward up", "m"))
    sort = usual(lambda: np.argsort(triangles.ravel()), 5)
    picture(scene, Look(size=(64, 64)))
    yield (
        "a picture of a million triangles",
        _timed(lambda: picture(scene, Look())) / sort,
        "an argsort of their corners",
    )
    target = load("m-left-up-forward")
    fresh = zo.Scene((zo.Node("ground", content=mesh.replace(name="again")),), scene.frame)
    yield "all checks of them", _timed(lambda: check(fresh, target)) / sort, "the same"


def main() -> None:
    print(f"{'what':<40}{'ratio':>8}  to")
    for what, ratio, to in ratios():
        print(f"{what:<40}{ratio:>8.2f}  {to}")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
