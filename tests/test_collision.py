"""Collision and shadow: known shapes first, then what holds for any, then hostile meshes."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import linprog
from scipy.spatial import ConvexHull

import zesty_otter as zo
from build import cube, moved, scene_of, texts
from zesty_otter.audit import collision_facts
from zesty_otter.audit.checks import check
from zesty_otter.audit.comparison import compare
from zesty_otter.geometry.queries.distance import Surface
from zesty_otter.geometry.solids.decompose import decompose
from zesty_otter.geometry.solids.fits import smallest_capsule, smallest_cylinder
from zesty_otter.geometry.solids.footing import Shapes, footing
from zesty_otter.geometry.solids.hulls import around_with_corners, convex_hull, cut_box, tidied, within_with_corners
from zesty_otter.geometry.solids.solid import Solid
from zesty_otter.geometry.surface.placing import rotations
from zesty_otter.geometry.surface.topology import topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Material, Mesh, Node
from zesty_otter.pictures import Look, picture
from zesty_otter.steps import Collision, Shadow, step_from_text
from zesty_otter.targets import load


def of_cells(xs, ys, zs, solid) -> Mesh:
    """The closed surface of the cells of a grid that are solid, as quads."""
    solid = np.pad(np.asarray(solid, bool), 1)
    grid = np.stack(np.meshgrid(xs, ys, zs, indexing="ij"), axis=-1)
    number = np.arange(grid[..., 0].size).reshape(grid.shape[:3])
    faces = []
    for axis in range(3):
        u, v = np.eye(3, dtype=int)[(axis + 1) % 3], np.eye(3, dtype=int)[(axis + 2) % 3]
        ahead = np.eye(3, dtype=int)[axis]
        for cell in np.argwhere(solid):
            for side in (0, 1):
                if not solid[tuple(cell + (2 * side - 1) * ahead)]:
                    corner = cell - 1 + side * ahead
                    ring = [corner, corner + u, corner + u + v, corner + v]
                    faces.append([int(number[tuple(one)]) for one in (ring if side else ring[::-1])])
    mesh = Mesh.from_faces("cells", grid.reshape(-1, 3), faces)
    return mesh.keep_points(mesh.point_used)


def stairs(count: int) -> Mesh:
    """Steps 20 cm high and 30 cm deep, rising along -X."""
    edges = np.arange(count + 1)
    full = np.add.outer(edges[:-1], edges[:-1]) < count
    return of_cells(0.3 * edges, 0.2 * edges, [0, 1], full[:, :, None])


def ring(sides: int, inner: float = 0.6) -> Mesh:
    angle = np.arange(sides) * 2 * np.pi / sides
    rim = np.stack([np.cos(angle), 0 * angle, np.sin(angle)], axis=1)
    points = np.concatenate([r * rim + (0, y, 0) for r in (1, inner) for y in (0, 0.4)])
    faces = []
    for i in range(sides):
        j = (i + 1) % sides
        a, b, c, d = (k * sides for k in range(4))
        faces += [[a + i, b + i, b + j, a + j], [c + j, d + j, d + i, c + i], [b + i, d + i, d + j, b + j],
                  [a + j, c + j, c + i, a + i]]  # fmt: skip
    return Mesh.from_faces("ring", points, faces)


def plank(low, high) -> Mesh:
    return of_cells(*np.stack([low, high], axis=1), np.ones((1, 1, 1)))


def table() -> Mesh:
    solid = np.zeros((3, 2, 3), bool)
    solid[:, 1] = True
    solid[::2, 0, ::2] = True
    return of_cells([0, 0.1, 1.1, 1.2], [0, 0.7, 0.75], [0, 0.1, 0.7, 0.8], solid)


def room() -> Mesh:
    """Walls 20 cm thick around a space of 3.6 x 2.5 x 2.6 m, with a doorway 1 m wide and 2 m high."""
    solid = np.ones((5, 4, 3), bool)
    solid[1:4, 1:3, 1] = False
    solid[2, 1, 0] = False
    return of_cells([0, 0.2, 1.5, 2.5, 3.8, 4], [0, 0.2, 2.2, 2.7, 2.9], [0, 0.2, 2.8, 3], solid)


def as_triangles(mesh: Mesh):
    corners, _ = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
    return mesh.points, mesh.corner_point[corners].astype(np.int32)


def covered(hulls, places: np.ndarray) -> np.ndarray:
    return np.min([hull.above(places) for hull in hulls], axis=0)


def check_parts(hulls, most: int = 64) -> None:
    for hull in hulls:
        size = np.ptp(hull.points, axis=0).max()
        assert len(hull.points) <= most
        assert hull.above(hull.points).max() <= 1e-6 * size
        edges = topology(hull.points, hull.face_start, hull.corner_point)
        assert (edges.use == 2).all() and edges.agrees.all()
        a, b, c = (hull.points[hull.triangles[:, k]] for k in range(3))
        assert np.einsum("ij,ij->", a, np.cross(b, c)) / 6 == pytest.approx(hull.volume, rel=1e-6)


@pytest.mark.parametrize(
    ("mesh", "tolerance", "most", "volume"),
    [
        (plank((0, 0, 0), (1, 2, 3)), 0.02, 1, 6.0),
        (of_cells([0, 0.4, 2], [0, 0.4, 1.5], [0, 1], [[[1], [1]], [[1], [0]]]), 0.02, 2, 1.24),
        (of_cells([0, 1, 2, 3], [0, 1, 2, 3], [0, 1], [[[0], [1], [0]], [[1], [1], [1]], [[0], [1], [0]]]), 0.02, 3, 5),
        (table(), 0.02, 5, 0.076),
        (room(), 0.02, 8, 11.0),
        *((stairs(n), 0.02, n, 0.06 * n * (n + 1) / 2) for n in (2, 5, 12)),
    ],
    ids=["box", "L", "plus", "table", "room", "2 steps", "5 steps", "12 steps"],
)
def test_shapes_of_boxes_come_apart_into_their_boxes(mesh, tolerance, most, volume):
    points, triangles = as_triangles(mesh)
    found = decompose(points, triangles, tolerance)
    check_parts(found.parts)
    assert len(found.parts) <= most and found.misfit < 1e-9
    places = np.random.default_rng(0).random((20_000, 3)) * np.ptp(points, axis=0) + points.min(axis=0)
    inside = Solid(points, triangles).is_inside(places)
    assert ((covered(found.parts, places) < 0) == inside).mean() > 0.9999
    assert inside.mean() * np.prod(np.ptp(points, axis=0)) == pytest.approx(volume, rel=0.05)
    stood = footing(
        Solid(points, triangles), Shapes(found.parts), np.array([0, 1.0, 0]), headroom=1, reach=1, margin=0.02
    )
    assert stood.floats < 1e-3 and stood.sinks < 1e-3 and stood.falls == 0


@pytest.mark.parametrize("sides", [32, 64])
def test_a_ring_keeps_its_hole(sides):
    found = decompose(*as_triangles(ring(sides)), 0.1)
    check_parts(found.parts)
    assert len(found.parts) <= 12
    ball = 0.9 * 0.6 * np.random.default_rng(0).standard_normal((2000, 3))
    ball /= np.maximum(np.linalg.norm(ball, axis=1, keepdims=True) / (0.9 * 0.6), 1)
    assert covered(found.parts, ball + (0, 0.2, 0)).min() > 0


@pytest.mark.parametrize("scale", [1e-3, 1.0, 1e3])
def test_turned_scaled_and_renumbered_meshes_come_apart_alike(scale):
    points, triangles = as_triangles(stairs(4))
    order = np.random.default_rng(1).permutation(len(points))
    turned = (points @ rotations([0.3, -0.5, 0.2, 0.8])[0].T * scale + 5 * scale)[order]
    renumbered = np.argsort(order)[triangles].astype(np.int32)
    before, after = decompose(points, triangles, 0.02), decompose(turned, renumbered, 0.02 * scale)
    assert np.allclose([one.volume for one in after.parts], [one.volume * scale**3 for one in before.parts], rtol=1e-6)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 10**6), st.integers(8, 40))
def test_hulls_of_few_corners_hold_their_points_or_lie_within(seed, most):
    points = np.random.default_rng(seed).standard_normal((300, 3)) * (3, 2, 1)
    hull = convex_hull(points)
    check_parts([hull], most=300)
    outer, inner = around_with_corners(hull, most), within_with_corners(hull, most)
    check_parts([outer, inner], most)
    assert outer.above(points).max() <= 1e-9 and hull.above(inner.points).max() <= 1e-9
    assert inner.volume <= hull.volume <= outer.volume
    volumes = [cut_box(points, sides).volume for sides in (6, 14, 26)]
    assert volumes == sorted(volumes, reverse=True) and volumes[2] >= hull.volume


@pytest.mark.parametrize("count", [1, 2, 3])
def test_hulls_of_what_is_flat_are_as_thick_as_asked(count):
    points = np.array([(0, 0, 0), (2, 0, 0), (0, 0, 3.0)])[:count]
    hull = convex_hull(points, 0.01)
    check_parts([hull])
    assert sorted(np.ptp(hull.points, axis=0))[0] == pytest.approx(0.01)


@pytest.mark.parametrize("size", [1e-41, 1e-19, 1e-9, 1.0])
def test_hulls_of_specks_are_as_large_as_their_thickness(size):
    points = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0), (1, 1, 0)]) * size
    for few in (points[:4], points[:2], points[:1]):
        hull = convex_hull(few, 2.0)
        assert hull.above(few).max() < 1e-9 and hull.volume >= (8 if size < 1e-6 else 2 * size**2)


def test_capsules_and_cylinders_fit_what_they_were_made_of():
    angle = np.arange(60) * np.pi / 30
    turn = rotations([0.2, 0.4, -0.1, 0.9])[0]
    rims = np.concatenate([np.stack([np.cos(angle), np.sin(angle), 0 * angle + z], 1) for z in (-3, 3)])
    centre, axis, half, radius = smallest_cylinder(rims @ turn.T + (5, 0, 0))
    assert (half, radius) == pytest.approx((3, 1), rel=1e-4) and abs(axis @ turn[:, 2]) == pytest.approx(1)
    assert np.allclose(centre, (5, 0, 0), atol=1e-3)
    poles = np.concatenate([rims, [(0, 0, 4), (0, 0, -4)]])
    _, _, half, radius = smallest_capsule(poles @ turn.T)
    assert (half, radius) == pytest.approx((3, 1), rel=1e-3)


def test_footing_says_how_far_feet_float_sink_and_fall():
    steps = Solid(*as_triangles(stairs(3)))
    up = np.array([0, 1.0, 0])
    one = footing(steps, Shapes([convex_hull(steps.points)]), up, headroom=1, reach=1, margin=0.02)
    # The slope over the steps rises 20 cm above the inner edge of a tread.
    assert one.floats == pytest.approx(0.2, abs=2e-3) and one.sinks == 0 and one.falls == 0
    low = footing(steps, Shapes([convex_hull(steps.points * (1, 0.5, 1))]), up, headroom=1, reach=1, margin=0.02)
    assert low.sinks == pytest.approx(0.3, abs=0.02)
    half = footing(steps, Shapes([convex_hull(plank((0, 0, 0), (0.9, 0.6, 0.5)).points)]), up, headroom=1, reach=1,
                   margin=0.02)  # fmt: skip
    assert half.falls == pytest.approx(0.5, abs=0.02) and not half.held[half.place[:, 2] > 0.51].any()
    seat = Solid(*as_triangles(room()))
    shut = footing(seat, Shapes([convex_hull(seat.points)]), up, headroom=1, reach=5, margin=0.02)
    assert shut.floats == pytest.approx(2.7) and shut.blocked > 1.2
    assert shut.sideways == pytest.approx(0.5, abs=0.05)  # half the doorway


def crate(**rest) -> Mesh:
    return plank((-0.5, 0, -0.5), (0.5, 1, 0.5)).replace(name="crate", **rest)


@pytest.mark.parametrize(
    ("mesh", "shape", "parts"),
    [
        (crate(), "box", 1),
        (plank((0, 0, 0), (1, 1, 1)).replace(points=plank((0, 0, 0), (1, 1, 1)).points @ rotations([0.2, 0.1, 0.3, 0.9])[0].T),
         "turned-box", 1),
        (stairs(3), "parts", 3),
    ],
)  # fmt: skip
def test_auto_takes_the_cheapest_shape_that_fits_and_says_why(mesh, shape, parts):
    scene = scene_of(Node("it", moved(3, 0, 0), content=mesh))
    done = Collision().apply(scene)
    solid = done.roots[1:]
    assert len(solid) == parts
    for node in solid:
        assert node.role == "collision" and node.properties["shape"] == shape
        assert np.array_equal(node.transform, scene.roots[0].transform)
        assert not node.mesh.layers and not any(node.mesh.slots)
    (facts,) = collision_facts(done)
    assert facts.convex and facts.closed and facts.floats < 1e-6 and facts.falls == 0
    texts = [note.text for note in done.notes]
    assert any(text.startswith(shape) for text in texts)
    if shape != "box":
        assert any("is the cheapest shape within 2 cm;" in text and "is off by" in text for text in texts)


def test_rules_choose_by_name_material_and_size():
    leaf = Material("leafy")
    scene = scene_of(
        Node("post", content=crate()),
        Node("weed", content=crate(slots=(leaf,))),
        Node("nail", moved(5, 0, 0), content=plank((0, 0, 0), (0.01, 0.1, 0.01))),
        Node("steps", content=stairs(2)),
    )
    rules = [
        {"shape": "none", "material": "leaf*"},
        {"shape": "none", "smaller_than": "20cm"},
        {"shape": "sphere", "nodes": "post"},
    ]
    done = Collision(shape="hull", rules=rules).apply(scene)
    assert {node.name: node.properties["shape"] for node in done.roots if node.role == "collision"} == {
        "post_collision_1": "sphere", "steps_collision_1": "hull",
    }  # fmt: skip
    assert any("more than the 2 cm" in note.text for note in done.notes)


def test_collision_that_is_there_is_used_mended_replaced_or_joined_by_more():
    own = plank((-0.5, 0, -0.5), (0.5, 1, 0.5)).replace(slots=(Material("red"),), name="own")
    opened = own.take_faces(np.arange(5))
    scene = scene_of(Node("crate", content=crate()), Node("crate_collision_1", moved(0, 0.004, 0), content=opened))
    kept = Collision().apply(scene)
    assert len(kept.roots) == 2
    node = kept.roots[1]
    assert np.array_equal(node.transform, np.eye(4)) and node.mesh.points[:, 1].min() == pytest.approx(0.004)
    assert not any(node.mesh.slots) and collision_facts(kept)[0].closed
    said = " ".join(note.text for note in kept.notes)
    assert all(words in said for words in ("lost materials", "closed and made convex", "moved to the pivot"))
    replaced = Collision(existing="replace", shape="sphere").apply(scene)
    assert [one.properties.get("shape") for one in replaced.roots] == [None, "sphere"]
    both = Collision(existing="beside", shape="box", names="{name}_coarse_{n}").apply(scene)
    assert [one.name for one in both.roots] == ["crate", "crate_coarse_1", "crate_collision_1"]


@pytest.mark.parametrize("ending", ["glb", "usda", "dae", "x3d"])
def test_collision_is_solid_again_when_read_back(tmp_path, ending):
    done = Collision(shape="parts").apply(scene_of(Node("steps", moved(1, 2, 3), content=stairs(3))))
    before = collision_facts(done)
    zo.write(done, tmp_path / f"a.{ending}")
    after = collision_facts(zo.apply(zo.read(tmp_path / f"a.{ending}"), zo.steps.Roles()))
    assert [(one.parts, one.convex, one.closed) for one in after] == [(3, True, True)]
    assert after[0].floats == pytest.approx(before[0].floats, abs=1e-5)


def hostile() -> dict[str, Mesh]:
    box = plank((0, 0, 0), (1, 1, 1))
    triangle = Mesh.from_faces("t", [(0, 0, 0), (1, 0, 0), (0, 0, 1)], [[0, 1, 2]])
    rng = np.random.default_rng(0)
    loose = np.concatenate([0.02 * box.points + 2 * rng.random(3) for _ in range(300)])
    step = len(box.points)
    faces = np.concatenate([box.corner_point + step * n for n in range(300)]).reshape(-1, 4).tolist()
    return {
        "flat": triangle,
        "line": triangle.replace(points=[(0, 0, 0), (1, 0, 0), (2, 0, 0)]),
        "point": triangle.replace(points=np.zeros((3, 3))),
        "inside out": stairs(2).turned_round(),
        "open below": box.take_faces(np.flatnonzero(box.points[box.corner_point, 1].reshape(-1, 4).max(axis=1) > 0)),
        "doubled": box.take_faces(np.repeat(np.arange(6), 2)),
        "loose": Mesh.from_faces("loose", loose, faces),
        "far away": stairs(2).replace(points=stairs(2).points + 1e6),
    }


@pytest.mark.parametrize(
    "shape", ["auto", "box", "capsule", "sphere", "cylinder", "cut-box", "hull", "parts", "surface"]
)
@pytest.mark.parametrize("name", list(hostile()))
def test_anything_gets_something_to_stand_on(name, shape):
    done = Collision(shape=shape, most_parts=4).apply(scene_of(Node("it", content=hostile()[name])))
    solid = [node for node in done.roots if node.role == "collision"]
    assert 1 <= len(solid) <= 4 and all(node.mesh.face_count for node in solid)
    if name in ("flat", "line", "point"):
        assert any("flat" in note.text or "no area" in note.text for note in done.notes)


def test_an_empty_scene_gets_none():
    assert not Collision().apply(scene_of(Node("empty"))).notes


def test_a_shadow_mesh_is_closed_inside_and_light():
    mesh = hostile()["open below"].replace(slots=(Material("wood"),))
    done = Shadow(inward="5cm", share=1).apply(scene_of(Node("crate", content=mesh)))
    node = done.roots[1]
    assert (node.name, node.role) == ("crate_shadow", "shadow")
    edges = node.mesh.surface(topology)
    assert (edges.use == 2).all() and edges.agrees.all()
    assert node.mesh.all_triangles and not node.mesh.layers and not any(node.mesh.slots)
    # Every face moves inward by 5 cm.
    assert np.allclose(np.sort(np.unique(node.mesh.points.round(6))), [0.05, 0.95], atol=1e-6)
    turned = Shadow(inward=0, reversed=True).apply(scene_of(Node("crate", content=crate()))).roots[1].mesh
    a, b, c = turned.points[turned.corner_point].reshape(-1, 3, 3).transpose(1, 0, 2)
    assert np.einsum("ij,ij->", a, np.cross(b, c)) / 6 == pytest.approx(-1)
    sheet = Shadow().apply(scene_of(Node("net", content=hostile()["flat"])))
    assert any("stays open: 3 open edges" in note.text for note in sheet.notes)


def rocks() -> list[tuple[Mesh, np.ndarray]]:
    """Convex meshes, rough and smooth, and the planes of their faces."""
    random = np.random.default_rng(3)
    heaps = [random.normal(size=(60, 3)) * random.uniform(0.6, 1.6, 3) for _ in range(12)]
    heaps += [
        one / np.linalg.norm(one, axis=1, keepdims=True) for one in (random.normal(size=(300, 3)) for _ in (0, 1))
    ]
    found = []
    for heap in heaps:
        hull = ConvexHull(heap)
        out = np.cross(*(heap[hull.simplices[:, k]] - heap[hull.simplices[:, 0]] for k in (1, 2)))
        turned = np.einsum("ij,ij->i", out, hull.equations[:, :3]) < 0
        faces = np.where(turned[:, None], hull.simplices[:, ::-1], hull.simplices)
        found.append((Mesh.from_faces("rock", heap, faces.tolist()), hull.equations))
    return found


@pytest.mark.parametrize("share", [0.1, 0.25, 1])
def test_every_face_of_a_convex_shadow_comes_in_by_the_length_that_is_asked(share):
    lighter = 0
    for mesh, planes in rocks():
        (own,) = Shadow(inward="5cm", share=share).apply(scene_of(Node("rock", content=mesh))).nodes(role="shadow")
        behind = -(own.node.mesh.points @ planes[:, :3].T + planes[:, 3]).max(axis=0)
        assert behind.min() > 0.05 - 1e-9
        assert behind.max() < 0.055
        if share == 1:
            # Nothing is left of some of the smallest faces; all others lie exactly on their planes.
            for gap, (*normal, off) in zip(behind, planes, strict=True):
                most = linprog(np.negative(normal), planes[:, :3], -planes[:, 3] - 0.05, bounds=(None, None))
                assert gap == pytest.approx(most.fun - off, abs=1e-6)
        lighter += own.node.mesh.face_count < mesh.face_count
    assert (lighter > 0) == (share < 1)


def torus(around: int = 96, across: int = 36) -> Mesh:
    a, b = (np.arange(n) * 2 * np.pi / n for n in (around, across))
    a, b = np.repeat(a, across), np.tile(b, around)
    rim = 1 + 0.3 * np.cos(b)
    i, j = np.repeat(np.arange(around), across), np.tile(np.arange(across), around)
    corners = [(i, j), (i, j + 1), (i + 1, j + 1), (i + 1, j)]
    faces = np.stack([p % around * across + q % across for p, q in corners], axis=1)
    return Mesh.from_faces("ring", np.stack([rim * np.cos(a), 0.3 * np.sin(b), rim * np.sin(a)], 1), faces.tolist())


def test_a_lighter_shadow_of_a_ring_comes_in_by_no_less_than_the_length():
    points, triangles = as_triangles(torus())
    shadow = Shadow(inward="2cm", share=0.1).apply(scene_of(Node("ring", content=torus())))
    own = shadow.nodes(role="shadow")[0].node.mesh
    assert own.face_count < 0.5 * len(triangles)
    middles = own.points[own.corner_point].reshape(-1, 3, 3).mean(axis=1)
    for places in (own.points, middles):
        assert Surface(points, triangles).nearest(places)[0].min() > 0.0195
    smooth = Shadow(inward="1mm", share=0.1).apply(scene_of(Node("ball", content=rocks()[-1][0])))
    assert "ball: keeps 596 triangles of 596 in its shadow mesh" in texts(smooth.notes)


@pytest.mark.parametrize("size", [1e-41, 1e-6, 1e12])
def test_the_shadow_of_a_speck_and_of_an_island_stays_within_it(size):
    mesh = torus(24, 12)
    mesh = mesh.replace(points=mesh.points * size)
    (own,) = Shadow(inward="5mm").apply(scene_of(Node("ring", content=mesh))).nodes(role="shadow")
    assert np.abs(own.node.mesh.points).max() <= np.abs(mesh.points).max()


def test_thin_walls_do_not_turn_inside_out_in_the_shadow():
    done = Shadow(inward="5cm", share=1).apply(scene_of(Node("wall", content=plank((0, 0, 0), (1, 1, 0.02)))))
    points = done.roots[1].mesh.points
    assert points[:, 2].min() > 0 and points[:, 2].max() < 0.02 and np.ptp(points[:, 2]) > 0
    assert any("too thin" in note.text for note in done.notes)


def test_the_command_line_makes_measures_and_reports_collision(tmp_path, run):
    zo.write(scene_of(Node("steps", content=stairs(3))), tmp_path / "steps.glb")
    done = run("convert", tmp_path / "steps.glb", tmp_path / "out.glb", "--collision", "auto", "--shadow", "1cm")
    assert done.status == 0 and "Collision" in done.out
    assert "steps: parts, as hull would be " in done.out
    found = json.loads(run("survey", tmp_path / "out.glb", "--json").out)["collision"]
    assert [(one["asset"], one["parts"], one["convex"]) for one in found] == [("steps", 3, True)]
    assert found[0]["why"].startswith("hull would be ")
    hull = run("convert", tmp_path / "steps.glb", tmp_path / "hull.glb", "--collision", "hull")
    assert "more than the 2 cm" in hull.err
    assert json.loads(run("survey", tmp_path / "hull.glb", "--json").out)["collision"][0]["floats"] > 0.15
    wrong = run("convert", tmp_path / "steps.glb", tmp_path / "no.glb", "--collision", "blob")
    assert wrong.status == 2 and "'turned-box'" in wrong.err and not (tmp_path / "no.glb").exists()


def soup(seed: int) -> Mesh:
    """A heap of triangles that share points at random, some of them flat or twice there."""
    rng = np.random.default_rng(seed)
    points = rng.integers(0, 4, (rng.integers(3, 12), 3)) * rng.choice([1e-3, 0.5, 100.0])
    faces = rng.integers(0, len(points), (rng.integers(1, 25), 3))
    return Mesh("heap", points.astype(float), np.arange(0, faces.size + 1, 3), faces.ravel())


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10**6))
def test_any_heap_of_triangles_gets_through_everything(seed):
    """Collision, shadow, footing, checks, pictures, comparison: whatever comes in, something sound comes out."""
    scene = scene_of(Node("heap", content=soup(seed)))
    done = zo.apply(scene, Collision(most_parts=6), Shadow())
    solid = [node.mesh for node in done.roots if node.role == "collision"]
    assert 1 <= len(solid) <= 6 and all(np.isfinite(mesh.points).all() for mesh in solid)
    for facts in collision_facts(done, count=300):
        assert facts.floats >= 0 and facts.sinks >= 0 and 0 <= facts.falls <= 1
    assert {one.severity for one in check(done, load("m-left-up-forward"))} <= {"error", "warning"}
    assert compare(done, done).within(0)
    assert picture(done, Look(style="footing", size=(96, 64))).size == (96, 64)


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 10**6), st.booleans())
def test_rays_meet_what_trying_every_triangle_meets(seed, backs_only):
    rng = np.random.default_rng(seed)
    points, triangles = rng.standard_normal((30, 3)), rng.integers(0, 30, (40, 3)).astype(np.int32)
    places, directions = rng.standard_normal((50, 3)), rng.standard_normal((50, 3))
    directions /= np.linalg.norm(directions, axis=1, keepdims=True)
    away, which = Surface(points, triangles).first_hits(places, directions, 1e-9, backs_only=backs_only)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    for place, direction, got, triangle in zip(places, directions, away, which, strict=True):
        normal = np.cross(b - a, c - a)
        climb = normal @ direction
        with np.errstate(all="ignore"):
            far = ((a - place) * normal).sum(axis=1) / climb
            at = place + far[:, None] * direction
            sides = [(np.cross(q - p, at - p) * normal).sum(axis=1) >= 0 for p, q in ((a, b), (b, c), (c, a))]
        met = np.all(sides, axis=0) & (far > 1e-9) & ((climb > 0) | (not backs_only)) & (climb != 0)
        assert got == pytest.approx(far[met].min(initial=np.inf))
        assert (triangle < 0) == (not met.any())


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 10**6))
def test_what_a_hull_holds_its_surface_goes_round(seed):
    rng = np.random.default_rng(seed)
    hull = convex_hull(rng.standard_normal((20, 3)))
    places = 1.5 * rng.standard_normal((300, 3))
    height = hull.above(places)
    solid = Solid(hull.points, hull.triangles[:, ::-1])  # which way it faces does not matter
    clear = np.abs(height) > 1e-6
    assert np.array_equal(solid.is_inside(places)[clear], (height < 0)[clear])
    outside = height > 1e-6
    assert (solid.outside_by(places)[outside] >= height[outside] - 1e-9).all()
    assert (solid.outside_by(places)[~outside] <= 1e-6).all()


def test_corners_that_files_cannot_tell_apart_become_one():
    cube = np.array([(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)], float)
    hull = convex_hull(np.concatenate([cube, cube + (1e-8, -1e-8, 2e-8)]))
    tidy = tidied(hull, 1e-6)
    assert len(tidy.points) == 8 and tidy.volume == pytest.approx(1, abs=1e-6)
    assert tidied(tidy, 1e-6) is tidy


def test_thousands_of_loose_parts_are_taken_together():
    plain = plank((0, 0, 0), (0.02, 0.02, 0.02))
    rng = np.random.default_rng(0)
    count = 1500
    points = np.concatenate([plain.points + 2 * rng.random(3) for _ in range(count)])
    faces = np.concatenate([plain.corner_point + 8 * n for n in range(count)])
    found = decompose(*as_triangles(Mesh("many", points, np.arange(0, len(faces) + 1, 4), faces)), 0.02, most_parts=8)
    check_parts(found.parts)
    assert len(found.parts) <= 8 and covered(found.parts, points).max() < 0.02


@pytest.mark.parametrize("piece", ["mooring_post", "lock_gate", "quay_wall", "jib_crane", "fish_ladder", "crate_stack"])
def test_no_shadow_mesh_of_the_kit_stands_out_of_what_it_is_the_shadow_of(mended, piece):
    scene = zo.apply(mended[piece], zo.steps.Shadow(share=0.25, inward="5mm"))
    meshes = {one.node.name: mesh for one, mesh in scene.placed_meshes()}
    shadows = [one.node.name for one, _ in scene.placed_meshes() if one.node.role == "shadow"]
    assert shadows
    for name in shadows:
        own, source = meshes[name], meshes[name.removesuffix("_shadow")]
        assert (own.surface_bounds[0] >= source.surface_bounds[0] - 1e-9).all()
        assert (own.surface_bounds[1] <= source.surface_bounds[1] + 1e-9).all()
        assert own.all_triangles
    assert "stands out" not in texts(scene.notes)


def test_parts_that_a_rule_asks_for_are_made_even_where_they_do_not_fit(mended):
    """`auto` gives a bent thin hull up for a light surface; a rule that says parts gets as good ones as there are."""
    boat = zo.apply(mended["work_boat"], zo.steps.Select(keep="hull"))
    (auto,) = collision_facts(zo.apply(boat, Collision()))
    (ruled,) = collision_facts(zo.apply(boat, Collision(rules=[{"nodes": ["hull"], "shape": "parts"}])))
    assert (auto.shape, ruled.shape) == ("surface", "parts") and 1 < ruled.parts <= 32


def test_a_mirrored_mesh_gets_mirrored_collision(mended):
    boat = zo.apply(mended["work_boat"], Collision())
    near, far = (
        np.concatenate([
            one.node.mesh.points @ one.world[:3, :3].T + one.world[:3, 3]
            for one in boat.walk()
            if one.node.role == "collision" and one.node.properties["asset"] == asset
        ])
        for asset in ("hull", "hull_mirrored")
    )  # fmt: skip
    mirrored = near * (-1, 1, 1)
    apart = np.linalg.norm(mirrored[:, None] - far[None], axis=2)
    assert len(near) == len(far) and apart.min(axis=1).max() < 1e-6 and apart.min(axis=0).max() < 1e-6


@pytest.mark.parametrize("step", ["collision shape=hull", "collision shape=capsule"])
def test_copies_of_a_great_many_proportions_share_what_nearly_fits_them(step):
    """Whatever is lent goes around the mesh, as what was made for it would."""
    chance = np.random.default_rng(4)
    mesh = cube((1, 2, 3))
    places = [np.diag([*chance.uniform(0.95, 1.05, 3), 1.0]) for _ in range(80)]
    scene = scene_of(*(Node(f"crate_{n}", place, content=mesh) for n, place in enumerate(places)))
    done = step_from_text(step).apply(scene)
    role = step.partition(" ")[0]
    made = [one for one in done.walk() if one.node.role == role]
    assert len(made) == 80
    assert 40 < len({id(one.node.mesh) for one in made}) <= 64
    assert "of other proportions got the" in texts(done.notes)
    for one, place in zip(made, places, strict=True):
        low, high = one.node.mesh.surface_bounds @ one.world[:3, :3].T + one.world[:3, 3]
        size = np.array([1, 2, 3]) @ place[:3, :3]
        assert (low < 1e-9).all() and (high > size - 1e-9).all()
