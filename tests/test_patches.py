"""Patches in OBJ, X3D, VRML97 and USD: the same surface in each; and subdivision surfaces."""

from __future__ import annotations

import random

import numpy as np
import pytest

import zesty_otter as zo
from exact import measured
from zesty_otter.geometry.curves.subdivision import Cage, subdivided

pytestmark = pytest.mark.checked

# The graph y = x (2 - x) + z (2 - z) / 2 over a square of 2, as one Bezier patch of degree 2 both ways.
HEIGHTS = np.array([[0, 1, 0], [1, 2, 1], [0, 1, 0]], float)  # by z, then by x
POINTS = np.array([[(x, HEIGHTS[z, x], z) for x in range(3)] for z in range(3)], float)
HOLE = [(0.4, 0.4), (0.6, 0.4), (0.6, 0.6), (0.4, 0.6), (0.4, 0.4)]


def numbers(rows) -> str:
    return ", ".join(" ".join(f"{one:g}" for one in row) for row in rows)


def obj() -> str:
    points = "".join(f"v {x:g} {y:g} {z:g}\n" for x, y, z in POINTS.reshape(-1, 3))
    flat = "".join(f"vp {u} {v}\n" for u, v in HOLE[:4])
    curve = "cstype bspline\ndeg 1\ncurv2 -4 -3 -2 \\\n -1 -4\nparm u 0 0 1 2 3 4 4\nend\n"
    surface = "cstype bezier\ndeg 2 2\nsurf 0 1 0 1 1 2 3 4 5 6 7 8 -1\nparm u 0 1\nparm v 0 1\nhole 0 4 1\nend\n"
    return f"{points}{flat}g dome\n{curve}{surface}"


def x3d(kind: str) -> str:
    fields = "uDimension 3 vDimension 3 uOrder 3 vOrder 3 uKnot [0 0 0 1 1 1] vKnot [0 0 0 1 1 1]"
    points = numbers(POINTS.reshape(-1, 3))
    outer = "ContourPolyline2D { controlPoint [0 0, 1 0, 1 1, 0 1, 0 0] }"
    hole = f"ContourPolyline2D {{ controlPoint [{numbers(HOLE)}] }}"
    contours = f"trimmingContour [ Contour2D {{ children {outer} }} Contour2D {{ children {hole} }} ]"
    node = f"{kind} {{ {fields} controlPoint Coordinate {{ point [{points}] }} {contours} }}"
    return f"#X3D V3.3 utf8\nDEF dome Shape {{ geometry {node} }}"


def usd() -> str:
    # Along u first, which is a row here.
    points = ", ".join(f"({x:g}, {y:g}, {z:g})" for x, y, z in POINTS.transpose(1, 0, 2).reshape(-1, 3))
    outer = "(0,0,1), (1,0,1), (1,1,1), (0,1,1), (0,0,1)"
    hole = ", ".join(f"({u}, {v}, 1)" for u, v in HOLE)
    return f"""#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
)
def NurbsPatch "dome"
{{
    int uVertexCount = 3
    int vVertexCount = 3
    int uOrder = 3
    int vOrder = 3
    double[] uKnots = [0, 0, 0, 1, 1, 1]
    double[] vKnots = [0, 0, 0, 1, 1, 1]
    point3f[] points = [{points}]
    int[] trimCurve:counts = [1, 1]
    int[] trimCurve:orders = [2, 2]
    int[] trimCurve:vertexCounts = [5, 5]
    double[] trimCurve:knots = [0, 0, 1, 2, 3, 4, 4, 0, 0, 1, 2, 3, 4, 4]
    double3[] trimCurve:points = [{outer}, {hole}]
}}
"""


FILES = {"a.obj": obj(), "a.x3dv": x3d("NurbsTrimmedSurface"), "a.usda": usd()}


def read(path, facets=None) -> zo.Mesh:
    scene = zo.read(path, facets=facets, unit="m" if path.suffix == ".obj" else None)
    assert [note.text for note in scene.notes if note.kind == "lost"] == []
    return scene.meshes[0]


@pytest.mark.parametrize("name", FILES)
def test_a_trimmed_patch_is_the_same_surface_in_every_format(tmp_path, name):
    (tmp_path / name).write_text(FILES[name])
    mesh = read(tmp_path / name, "density=0.8")
    x, y, z = mesh.points.T
    # y is (2 x - x x) / ... of both ways: the patch is the sum of two parabolas.
    assert np.allclose(y, x * (2 - x) / 2 + z * (2 - z) / 2, atol=1e-9)
    assert np.allclose([mesh.points.min(axis=0), mesh.points.max(axis=0)], [[0, 0, 0], [2, 0.98, 2]], atol=1e-3)
    u, v = mesh.uv_sets[0].at_corners().T
    place = mesh.points[mesh.corner_point]
    assert np.allclose(2 * u, place[:, 0], atol=1e-6)
    assert np.allclose(2 * v, place[:, 2], atol=1e-6)
    # Seen from above: the square without its hole, whichever way its faces look.
    triangles = mesh.points[mesh.corner_point.reshape(-1, 3)][:, :, [0, 2]]
    a, b = triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0]
    flat = (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    assert abs(flat.sum()) == pytest.approx(4 - 0.16, abs=1e-9)
    assert (flat > 0).all() or (flat < 0).all()
    normal = mesh.normals.at_corners()
    slope = np.stack([-(1 - place[:, 0]), np.ones(len(place)), -(1 - place[:, 2])], axis=1)
    slope /= np.linalg.norm(slope, axis=1, keepdims=True)
    assert np.allclose(np.abs(np.einsum("nk,nk->n", normal, slope)), 1, atol=1e-5)


@pytest.mark.parametrize("name", FILES)
def test_survey_says_what_each_density_gives(tmp_path, run, name):
    (tmp_path / name).write_text(FILES[name])
    counts = [count for _, count in run("survey", tmp_path / name, "--json").json["exact"]["triangles"]]
    assert counts == sorted(counts) and counts[0] < counts[-1]


@pytest.mark.parametrize(
    ("head", "control"),
    [
        ("cstype cardinal\ndeg 3 3\n", 16),
        ("cstype taylor\ndeg 1 1\n", 4),
        ("cstype bmatrix\ndeg 1 1\nstep 1 1\nbmat u 1 -1 0 1\nbmat v 1 -1 0 1\n", 4),
        ("cstype rat bezier\ndeg 1 1\n", 4),
        ("cstype bspline\ndeg 1 1\n", 4),
    ],
)
def test_every_kind_of_free_form_surface_is_read(tmp_path, head, control):
    """A flat square of 1: by four points, or by the middle of sixteen."""
    if control == 16:
        places = [(u - 1, 0, v - 1) for v in range(4) for u in range(4)]
    elif "taylor" in head:
        places = [(0, 0, 0), (1, 0, 0), (0, 0, 1), (0, 0, 0)]
    else:
        places = [(u, 0, v) for v in range(2) for u in range(2)]
    parm = "0 0 1 1" if "bspline" in head else "0 1"
    index = " ".join(str(k + 1) for k in range(control))
    points = "".join(f"v {x} {y} {z} 1\n" for x, y, z in places)
    (tmp_path / "a.obj").write_text(f"{points}{head}surf 0 1 0 1 {index}\nparm u {parm}\nparm v {parm}\nend\n")
    mesh = read(tmp_path / "a.obj")
    assert np.allclose([mesh.points.min(axis=0), mesh.points.max(axis=0)], [[0, 0, 0], [1, 0, 1]])
    assert measured(mesh)[0] == pytest.approx(1)


def test_patches_that_meet_are_sewn(tmp_path):
    points = "".join(f"v {x} {y} {z}\n" for z in (0, 2) for x, y in ((0, 0), (1, 2), (2, 0), (3, 2), (4, 0)))
    surfaces = "".join(f"surf 0 1 0 1 {' '.join(str(k) for k in ids)}\nparm u 0 1\nparm v 0 1\nend\n" for ids in (
        (1, 2, 3, 6, 7, 8), (3, 4, 5, 8, 9, 10)))  # fmt: skip
    (tmp_path / "a.obj").write_text(f"{points}o sail\ncstype bezier\ndeg 2 1\n{surfaces}")
    mesh = read(tmp_path / "a.obj", "density=0.7")
    # Open along the border only: the sides that two patches share are shared by their faces.
    sides = np.sort(
        np.concatenate([mesh.corner_point.reshape(-1, 3)[:, [a, b]] for a, b in ((0, 1), (1, 2), (2, 0))]), axis=1
    )
    known, times = np.unique(sides, axis=0, return_counts=True)
    middle = mesh.points[known[times == 1]].mean(axis=1)
    assert not ((np.abs(middle[:, 0] - 2) < 1e-9) & (middle[:, 2] > 0.01) & (middle[:, 2] < 1.99)).any()


CUBE = """#usda 1.0
def Mesh "cage"
{
    int[] faceVertexCounts = [4, 4, 4, 4, 4, 4]
    int[] faceVertexIndices = [0, 2, 3, 1, 4, 5, 7, 6, 0, 1, 5, 4, 2, 6, 7, 3, 0, 4, 6, 2, 1, 3, 7, 5]
    point3f[] points = [(-1, -1, -1), (1, -1, -1), (-1, 1, -1), (1, 1, -1), (-1, -1, 1), (1, -1, 1), (-1, 1, 1), (1, 1, 1)]
    texCoord2f[] primvars:st = [(0, 0), (1, 0), (1, 1), (0, 1)] (interpolation = "faceVarying")
    int[] primvars:st:indices = [0, 1, 2, 3, 0, 1, 2, 3, 0, 1, 2, 3, 0, 1, 2, 3, 0, 1, 2, 3, 0, 1, 2, 3]
MORE
}
"""


def test_a_cage_is_divided_where_facets_ask_for_it(tmp_path):
    path = tmp_path / "a.usda"
    path.write_text(CUBE.replace("MORE", ""))
    cage = zo.read(path)
    assert cage.meshes[0].face_count == 6
    assert any("taken as their cage; --facets level=2 divides them" in note.text for note in cage.notes)
    once = zo.read(path, facets="level=1").meshes[0]
    assert once.face_count == 24
    # A corner goes to (Q + 2 R) / 3: a third of the faces' middles (1/3 each way) and twice the edges' (2/3).
    assert np.abs(once.points).min(axis=1).max() == pytest.approx(5 / 9)
    assert once.uv_sets[0].values.min() == 0 and once.uv_sets[0].values.max() == 1
    fine = zo.read(path, facets="level=4").meshes[0]
    assert measured(fine)[2] == 0
    # Where corners of the limit surface are (E. Catmull and J. Clark's masks: 4/9 of a corner, 4/9 and 1/9 around it).
    assert np.abs(fine.points).min(axis=1).max() == pytest.approx(0.5, abs=1e-3)
    counts = [zo.read(path, facets=f"density={d} level=auto").meshes[0].face_count for d in (0.0, 0.5, 1.0)]
    assert zo.read(path, facets="density=1").meshes[0].face_count == 6
    assert counts == sorted(counts) and counts[0] < counts[-1]


def test_creases_and_corners_stay_sharp_for_as_long_as_they_say(tmp_path):
    path = tmp_path / "a.usda"
    rim = "int[] creaseIndices = [0, 1, 3, 2, 0]\nint[] creaseLengths = [5]\n"
    path.write_text(CUBE.replace("MORE", f"{rim}float[] creaseSharpnesses = [10]"))
    endless = zo.read(path, facets="level=4").meshes[0]
    assert endless.points[:, 2].min() == -1
    # Along it the edge is the cubic B-spline of the square: (1 + 6 + 1) / 8 of its corners, in the limit 2/3.
    rim_points = endless.points[endless.points[:, 2] == -1]
    assert np.abs(rim_points[:, :2]).min(axis=1).max() == pytest.approx(2 / 3, abs=5e-3)
    volumes = []
    for sharpness in (0, 0.5, 1, 2, 10):
        path.write_text(CUBE.replace("MORE", f"{rim}float[] creaseSharpnesses = [{sharpness}]"))
        volumes.append(measured(zo.read(path, facets="level=4").meshes[0])[1])
    assert volumes == sorted(volumes)
    assert min(np.diff(volumes)) > 0.05
    path.write_text(CUBE.replace("MORE", "int[] cornerIndices = [7]\nfloat[] cornerSharpnesses = [10]"))
    assert zo.read(path, facets="level=3").meshes[0].points.max(axis=0).tolist() == [1, 1, 1]


def test_a_flat_sheet_stays_flat_and_keeps_its_corners():
    square = Cage(np.array([(0, 0, 0), (4, 0, 0), (4, 4, 0), (0, 4, 0)], float), np.array([0, 4]), np.arange(4))
    for _ in range(3):
        square, _ = subdivided(square)
    assert not square.points[:, 2].any()
    assert square.points.min() == 0 and square.points.max() == 4
    assert len(square.face_start) - 1 == 64


@pytest.mark.parametrize("name", FILES)
def test_damaged_patches_are_read_or_refused_and_nothing_else(tmp_path, name):
    chance = random.Random(11)
    path = tmp_path / name
    for _ in range(150):
        words = list(FILES[name])
        for _ in range(chance.randrange(1, 6)):
            at = chance.randrange(len(words))
            words[at : at + chance.choice((0, 1, 1, 4))] = chance.choice(["", "9", "-", "0", "1e30", " ", "nan"])
        path.write_text("".join(words))
        try:
            zo.read(path, facets="density=0.2")
        except zo.InputError as error:
            assert error.problem
