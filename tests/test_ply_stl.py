from __future__ import annotations

import math
import struct

import numpy as np
import pytest

import zesty_otter as zo
from build import CUBE_FACES, CUBE_POINTS, cube, light, scene_of, texts, volume
from zesty_otter.model import Layer

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

HEAD = "ply\nformat {} 1.0\ncomment made by hand\n{}end_header\n"
SQUARE = "element vertex 4\nproperty float x\nproperty float y\nproperty float z\n"


def ply(folder, elements: str, data: bytes | str = b"", kind: str = "ascii"):
    path = folder / "thing.ply"
    path.write_bytes(HEAD.format(kind, elements).encode() + (data.encode() if isinstance(data, str) else data))
    return path


def test_ascii_polygons_of_any_size(tmp_path):
    elements = SQUARE + "element face 2\nproperty list uchar int vertex_indices\n"
    mesh = zo.read(ply(tmp_path, elements, "0 0 0\n1 0 0\n1 1 0\n0 1 0\n4 0 1 2 3\n3 0 1 2\n")).meshes[0]
    assert mesh.face_size.tolist() == [4, 3]
    assert mesh.points.tolist() == [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
    assert mesh.corner_point.tolist() == [0, 1, 2, 3, 0, 1, 2]


@pytest.mark.parametrize(("kind", "order"), [("binary_little_endian", "<"), ("binary_big_endian", ">")])
@pytest.mark.parametrize("even", [True, False])
def test_binary_lists_scalars_and_colours_in_both_byte_orders(tmp_path, kind, order, even):
    elements = (
        "element vertex 4\nproperty double x\nproperty double y\nproperty double z\nproperty uchar red\n"
        "property ushort green\nproperty float blue\nelement face 2\nproperty short before\n"
        "property list ushort uint vertex_index\nproperty uchar after\nelement edge 1\nproperty int a\n"
    )
    points = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]
    data = b"".join(struct.pack(f"{order}3dBHf", *p, 255, 65535, 0.5) for p in points)
    faces = [(0, 1, 2), (0, 2, 3)] if even else [(0, 1, 2, 3), (0, 2, 3)]
    data += b"".join(struct.pack(f"{order}hH{len(f)}IB", 7, len(f), *f, 9) for f in faces)
    scene = zo.read(ply(tmp_path, elements, data + struct.pack(f"{order}i", 3), kind))
    mesh = scene.meshes[0]
    assert [mesh.corner_point[a:b].tolist() for a, b in zip(mesh.face_start, mesh.face_start[1:], strict=False)] == [
        list(face) for face in faces
    ]
    assert mesh.layers_of("color")[0].values[0].tolist() == pytest.approx([1.0, 1.0, *light(0.5)])
    for words in ("1 edge not carried", "properties of face not carried: before, after"):
        assert words in texts(scene.notes)


def test_lists_of_lists_beside_scalars_are_found_in_text_and_binary(tmp_path):
    elements = SQUARE + "element face 2\nproperty list uchar int vertex_indices\nproperty list uchar float texcoord\nproperty uchar red\nproperty uchar green\nproperty uchar blue\n"  # fmt: skip
    points = "0 0 0\n1 0 0\n1 1 0\n0 1 0\n"
    text = points + "3 0 1 2 6 0 0 1 0 1 1 255 0 0\n3 0 2 3 6 0 0 1 1 0 1 0 255 0\n"
    data = np.array(points.split(), "<f4").tobytes()
    for face, uvs, color in (
        ((0, 1, 2), (0, 0, 1, 0, 1, 1), (255, 0, 0)),
        ((0, 2, 3), (0, 0, 1, 1, 0, 1), (0, 255, 0)),
    ):
        data += struct.pack("<B3iB6f3B", 3, *face, 6, *uvs, *color)
    for kind, content in (("ascii", text), ("binary_little_endian", data)):
        mesh = zo.read(ply(tmp_path, elements, content, kind)).meshes[0]
        assert mesh.uv_sets[0].at_corners().tolist() == [[0, 0], [1, 0], [1, 1], [0, 0], [1, 1], [0, 1]]
        assert mesh.layers_of("color")[0].at_corners()[[0, 3]].tolist() == [[1, 0, 0], [0, 1, 0]]


def test_strips_normals_and_vertex_uvs(tmp_path):
    elements = (
        "element vertex 5\nproperty float x\nproperty float y\nproperty float z\nproperty float nx\nproperty float ny\n"
        "property float nz\nproperty float s\nproperty float t\n"
        "element tristrips 1\nproperty list int int vertex_indices\n"
    )
    rows = "\n".join(f"{x} {y} 0 0 0 1 {x} {y}" for x, y in ((0, 0), (1, 0), (0, 1), (1, 1), (0, 2)))
    mesh = zo.read(ply(tmp_path, elements, rows + "\n8 0 1 2 3 -1 2 3 4\n")).meshes[0]
    assert mesh.corner_point.reshape(-1, 3).tolist() == [[0, 1, 2], [2, 1, 3], [2, 3, 4]]
    assert volume(mesh) == 0
    assert mesh.normals.at_corners().tolist() == [[0, 0, 1]] * 9
    assert np.array_equal(mesh.uv_sets[0].at_corners(), mesh.points[mesh.corner_point][:, :2])


@pytest.mark.parametrize(
    ("elements", "data", "problem"),
    [
        ("element vertex 4000000000\nproperty float x\nproperty float y\nproperty float z\n", "0 0 0\n", "promises 4,000,000,000"),
        (SQUARE + "element face 4000000000\nproperty list uchar int vertex_indices\n", "0 0 0\n" * 4 + "3 0 1 2\n", "promises"),
        (SQUARE + "element face 2\nproperty list uchar int vertex_indices\n", "0 0 0\n" * 4 + "3 0 1 9\n3 0 1 2\n", "skipped, the first is face 0"),
        (SQUARE + "element face 1\nproperty list uchar int vertex_indices\n", "0 0 0\nnan 0 0\n0 1 0\n1 1 0\n3 0 1 2\n", "no usable face"),
    ],
)  # fmt: skip
def test_promises_and_indices_that_lead_nowhere_are_noted(tmp_path, elements, data, problem):
    assert problem in texts(zo.read(ply(tmp_path, elements, data)).notes)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("plx\n", "has no PLY header"),
        ("ply\nformat ascii 1.0\nelement vertex 1\n", "has no PLY header"),
        ("ply\nformat odd 1.0\nend_header\n", "'odd' is not a kind of PLY"),
        ("ply\nformat ascii 1.0\nelement vertex 1\nproperty colour x\nend_header\n", "line 4: 'property colour x' is not a property"),
        ("ply\nformat ascii 1.0\nwhat is this\nend_header\n", "line 3: 'what is this' is not a header line"),
        ("ply\nformat ascii 1.0\nelement face 4\xb3\nend_header\n", "is not a header line"),
        ("ply\nformat ascii 1.0\nelement face 0\nend_header\n", "has no vertices"),
        ("ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nend_header\nabc\n", "'abc' is not a number"),
        ("ply\nformat ascii 1.0\nelement face 1\nproperty list float int v\nend_header\n", "cannot be a fraction"),
    ],
)  # fmt: skip
def test_what_is_no_ply_is_refused_with_its_place(tmp_path, text, message):
    (tmp_path / "a.ply").write_text(text, "latin-1")
    with pytest.raises(zo.InputError, match=message):
        zo.read(tmp_path / "a.ply")


def test_a_texture_named_in_a_comment_is_found(tmp_path):
    from zesty_otter.demo.textures import timber

    (tmp_path / "wood.png").write_bytes(timber())
    elements = "comment TextureFile wood.png\n" + SQUARE + "element face 1\nproperty list uchar int vertex_indices\n"
    scene = zo.read(ply(tmp_path, elements, "0 0 0\n1 0 0\n1 1 0\n0 1 0\n3 0 1 2\n"))
    assert scene.materials[0].textures["base_color"].texture.path == tmp_path / "wood.png"


INDEX_TYPES = {"char": "b", "uchar": "B", "short": "h", "ushort": "H", "int": "i", "uint": "I", "float": "f"}


@pytest.mark.parametrize("sizes", [(3, 3, 3), (4, 4, 4), (3, 3, 4), (3, 2, 3)])
@pytest.mark.parametrize("type_", INDEX_TYPES)
@pytest.mark.parametrize(("kind", "order"), [("binary_little_endian", "<"), ("binary_big_endian", ">")])
def test_lists_of_every_index_type_even_and_uneven(tmp_path, kind, order, type_, sizes):
    elements = SQUARE + f"element face 3\nproperty list uchar {type_} vertex_indices\n"
    faces = [list(range(size)) for size in sizes]
    data = struct.pack(f"{order}12f", 0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0)
    data += b"".join(struct.pack(f"{order}B{len(face)}{INDEX_TYPES[type_]}", len(face), *face) for face in faces)
    mesh = zo.read(ply(tmp_path, elements, data, kind)).meshes[0]
    kept = [face for face in faces if len(face) > 2]
    assert mesh.face_size.tolist() == [len(face) for face in kept]
    assert mesh.corner_point.tolist() == [point for face in kept for point in face]


@pytest.mark.parametrize("index", [-1, 4, 2**31 - 1])
def test_even_lists_with_an_index_that_leads_nowhere_lose_that_face(tmp_path, index):
    elements = SQUARE + "element face 2\nproperty list uchar int vertex_indices\n"
    data = struct.pack("<12f", 0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0) + struct.pack("<B3iB3i", 3, 0, 1, index, 3, 0, 1, 2)
    scene = zo.read(ply(tmp_path, elements, data, "binary_little_endian"))
    assert scene.meshes[0].corner_point.tolist() == [0, 1, 2]
    assert "1 face with fewer than three corners or without usable points skipped, the first is face 0" in texts(
        scene.notes
    )


@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf])
@pytest.mark.parametrize("column", range(6))
def test_numbers_that_are_none_cost_their_faces_or_their_normals_only(tmp_path, bad, column):
    names = "".join(f"property float {name}\n" for name in ("x", "y", "z", "nx", "ny", "nz"))
    elements = f"element vertex 4\n{names}element face 2\nproperty list uchar int vertex_indices\n"
    rows = np.array([[x, y, 0, 0, 0, 1] for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))], "<f4")
    rows[3, column] = bad
    data = rows.tobytes() + struct.pack("<B3iB3i", 3, 0, 1, 2, 3, 0, 2, 3)
    mesh = zo.read(ply(tmp_path, elements, data, "binary_little_endian")).meshes[0]
    assert mesh.face_count == (1 if column < 3 else 2)
    assert mesh.normals.index.tolist() == ([0, 1, 2] if column < 3 else [0, 1, 2, 0, 2, -1])


def test_large_faces_are_written_in_triangles(tmp_path):
    angle = np.arange(300) * (2 * np.pi / 300)
    disc = zo.Mesh("disc", np.stack([np.cos(angle), np.sin(angle), 0 * angle], 1), np.array([0, 300]), np.arange(300))
    zo.write(scene_of(disc, cube()), tmp_path / "a.ply")
    found = zo.read(tmp_path / "a.ply").meshes[0]
    assert found.face_size.tolist() == [3] * 298 + [4] * 6
    flat = found.points[found.corner_point[: 3 * 298].reshape(-1, 3)]
    area = np.cross(flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0])[:, 2].sum() / 2
    assert area == pytest.approx(150 * math.sin(2 * math.pi / 300))


# STL


def facets(mesh: zo.Mesh) -> np.ndarray:
    faces = [(f[0], f[k], f[k + 1]) for f in CUBE_FACES for k in (1, 2)]
    return mesh.points[np.array(faces)].astype("<f4")


def binary_stl(head: bytes, triangles: np.ndarray, colors: list[int] | None = None, count: int | None = None) -> bytes:
    rows = np.zeros(len(triangles), [("n", "<f4", 3), ("p", "<f4", (3, 3)), ("c", "<u2")])
    rows["p"] = triangles
    rows["c"] = 0 if colors is None else colors
    return head.ljust(80)[:80] + struct.pack("<I", len(triangles) if count is None else count) + rows.tobytes()


def ascii_stl(*solids: tuple[str, np.ndarray], ending: str = "\n") -> str:
    lines = []
    for name, triangles in solids:
        lines.append(f"solid {name}")
        for triangle in triangles:
            lines += ["facet normal 0 0 0", " outer loop", *(f"  VERTEX {x} {y} {z:e}" for x, y, z in triangle)]
            lines += [" endloop", "endfacet"]
        lines.append(f"endsolid {name}")
    return ending.join(lines) + ending


@pytest.mark.parametrize("ending", ["\n", "\r\n", "\r"])
def test_solids_become_nodes_with_shared_points(tmp_path, ending):
    (tmp_path / "a.stl").write_text(ascii_stl(("post a", facets(cube())), ("gate", facets(cube((2, 2, 2)))), ending=ending), newline="")  # fmt: skip
    scene = zo.read(tmp_path / "a.stl", unit="m")
    assert [(node.name, node.mesh.face_count, node.mesh.point_count) for node in scene.roots] == [
        ("post a", 12, 8), ("gate", 12, 8)
    ]  # fmt: skip
    assert [volume(mesh) for mesh in scene.meshes] == pytest.approx([1, 8])


@pytest.mark.parametrize("head", [b"", b"solid liar", b"solid facet normal"])
@pytest.mark.parametrize("count", [None, 0, 4_000_000_000])
def test_binary_files_are_known_by_their_size_not_their_header(tmp_path, head, count):
    if head.startswith(b"solid") and count is not None:
        head += b"\0"  # then only the zero tells
    (tmp_path / "a.stl").write_bytes(binary_stl(head, facets(cube()), count=count))
    scene = zo.read(tmp_path / "a.stl")
    assert (scene.meshes[0].face_count, scene.meshes[0].point_count) == (12, 8)
    assert ("promises" in texts(scene.notes)) == (count is not None)


@pytest.mark.parametrize("spread", [1, 40, 10_000])
def test_corners_at_one_position_share_a_point_however_far_apart_they_stand_in_the_file(tmp_path, spread):
    random = np.random.default_rng(spread)
    corners = random.integers(-spread, spread, (9000, 3, 3)).astype("<f4")
    corners[corners == 0] *= random.choice([-1, 1], int((corners == 0).sum())).astype("f4")  # minus zero is zero
    corners[7, 1, 2] = corners[8000, 0, 0] = np.nan
    (tmp_path / "a.stl").write_bytes(binary_stl(b"", corners))
    mesh = zo.read(tmp_path / "a.stl").meshes[0]
    whole = np.delete(corners, [7, 8000], axis=0).reshape(-1, 3)
    assert np.array_equal(mesh.points[mesh.corner_point], whole)
    assert mesh.point_count == len(np.unique(whole, axis=0)) == len(np.unique(mesh.points, axis=0))


def test_colours_in_the_spare_bits_are_read_both_ways(tmp_path):
    red_low, red_high = 31, 31 << 10
    plain = [red_high | 1 << 15] * 6 + [0] * 6
    (tmp_path / "a.stl").write_bytes(binary_stl(b"x", facets(cube()), plain))
    color = zo.read(tmp_path / "a.stl").meshes[0].layers_of("color")[0]
    assert color.at_corners(np.nan)[0].tolist() == [1, 0, 0, 1]
    assert np.isnan(color.at_corners(np.nan)[35]).all()
    (tmp_path / "b.stl").write_bytes(
        binary_stl(b"COLOR=\x00\xff\x00\xff", facets(cube()), [red_low] * 6 + [1 << 15] * 6)
    )
    color = zo.read(tmp_path / "b.stl").meshes[0].layers_of("color")[0]
    assert color.at_corners()[[0, 35]].tolist() == [[1, 0, 0, 1], [0, 1, 0, 1]]


def test_what_is_bad_in_an_stl_is_left_out_and_said(tmp_path):
    text = ascii_stl(("a", facets(cube()))).replace("VERTEX 1.0 1.0", "VERTEX one 1.0", 1)
    (tmp_path / "a.stl").write_text(text)
    scene = zo.read(tmp_path / "a.stl")
    assert scene.meshes[0].face_count == 11
    assert "facets with fewer than three corners" in texts(scene.notes)
    nan = facets(cube())
    nan[3, 0, 0] = np.nan
    (tmp_path / "b.stl").write_bytes(binary_stl(b"", nan))
    assert zo.read(tmp_path / "b.stl").meshes[0].face_count == 11
    for content, message in ((b"solid empty\nendsolid\n", "holds no triangle"), (b"abc", "shorter than an STL header")):
        (tmp_path / "c.stl").write_bytes(content)
        with pytest.raises(zo.InputError, match=message):
            zo.read(tmp_path / "c.stl")


def test_what_stl_and_ply_lose_is_said(tmp_path):
    uv = Layer("uv", [[0, 0]], np.zeros(24, int))
    scene = scene_of(cube(name="a", layers=(uv, uv)), cube(name="b", slots=(zo.Material("wood"),)))
    said = texts(zo.write(scene, tmp_path / "a.stl"))
    for words in ("one mesh and no names: a, b became one", "no materials", "no UVs"):
        assert words in said
    assert "PLY has one UV set" in texts(zo.write(scene, tmp_path / "a.ply"))
    assert CUBE_POINTS[0] == [0, 0, 0]


def test_readers_that_fan_get_nothing_they_fan_wrongly(tmp_path):
    # A concave quad, a convex one, a pentagon and a triangle.
    points = [[0, 0, 0], [2, 0, 0], [0.5, 0.5, 0], [0, 2, 0], [3, 0, 0], [3, 2, 0], [2, 2, 0], [2.5, 3, 0]]
    mesh = zo.Mesh.from_faces("sheet", points, [[0, 1, 2, 3], [1, 4, 5, 6], [6, 5, 7], [1, 4, 5, 7, 6]])
    notes = zo.write(scene_of(mesh), tmp_path / "a.ply")
    assert "2 faces of more than four corners or concave split into triangles" in texts(notes)
    data = (tmp_path / "a.ply").read_bytes()
    at, area = data.index(b"end_header\n") + 11, 0.0
    vertex = np.frombuffer(data, "<f4", 3 * 8, at).reshape(8, 3)
    at += vertex.nbytes
    sizes = []
    while at < len(data):
        size = data[at]
        sizes.append(size)
        face = vertex[np.frombuffer(data, "<i4", size, at + 1)]
        at += 1 + 4 * size
        for k in range(1, size - 1):
            cross = np.cross(face[k] - face[0], face[k + 1] - face[0])[2]
            assert cross > 0
            area += cross / 2
    assert sorted(sizes) == [3] * 6 + [4]
    assert area == pytest.approx(1 + 2 + 0.5 + 2.5)
    said = texts(zo.write(scene_of(mesh), tmp_path / "a.obj"))
    assert "2 faces of more than four corners or concave, which some readers of OBJ split wrongly" in said


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize(("kind", "code"), [("char", "i1"), ("ushort", "u2"), ("int", "i4"), ("uint", "u4")])
def test_binary_points_may_be_whole_numbers(tmp_path, kind, code, order):
    head = f"ply\nformat binary_{'little' if order == '<' else 'big'}_endian 1.0\nelement vertex 3\n"
    head += "".join(f"property {kind} {axis}\n" for axis in "xyz")
    head += f"element face 1\nproperty list uchar {kind} vertex_indices\nend_header\n"
    points = np.array([(0, 0, 0), (4, 0, 0), (0, 5, 0)], order + code)
    path = tmp_path / "whole.ply"
    path.write_bytes(head.encode() + points.tobytes() + b"\3" + np.arange(3).astype(order + code).tobytes())
    (mesh,) = zo.read(path, unit="m").meshes
    assert mesh.points.tolist() == points.tolist() and mesh.corner_point.tolist() == [0, 1, 2]
