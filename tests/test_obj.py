from __future__ import annotations

import os

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import zesty_otter as zo
from build import light, obj, texts
from zesty_otter.formats.obj import reader

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

SQUARE = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\n"


def read(folder, text, **beside):
    return zo.read(obj(folder, text, **beside), unit="m")


def only_mesh(scene):
    (mesh,) = scene.meshes
    return mesh


@pytest.mark.parametrize(
    ("corners", "uvs", "normals"),
    [
        ("1 2 3 4", None, None),
        ("1/4 2/3 3/2 4/1", [3, 2, 1, 0], None),
        ("1//1 2//1 3//2 4//2", None, [0, 0, 1, 1]),
        ("1/1/2 2/2/2 3/3/1 4/4/1", [0, 1, 2, 3], [1, 1, 0, 0]),
        ("-4/-4/-1 -3/-3/-1 -2/-2/-2 -1/-1/-2", [0, 1, 2, 3], [1, 1, 0, 0]),
    ],
)
def test_corners_in_every_form(tmp_path, corners, uvs, normals):
    table = "vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\nvn 0 1 0\n"
    mesh = only_mesh(read(tmp_path, SQUARE + table + f"f {corners}\n"))
    assert mesh.points[mesh.corner_point].tolist() == [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
    wanted_uv, wanted_normal = np.array([[0, 0], [1, 0], [1, 1], [0, 1]]), np.array([[0, 0, 1], [0, 1, 0]])
    assert len(mesh.layers) == (uvs is not None) + (normals is not None)
    if uvs is not None:
        assert mesh.uv_sets[0].at_corners().tolist() == wanted_uv[uvs].tolist()
    if normals is not None:
        assert mesh.normals.at_corners().tolist() == wanted_normal[normals].tolist()


@pytest.mark.parametrize(
    "text",
    [
        SQUARE + "f 1 2 3 4",
        (SQUARE + "f 1 2 3 4\n").replace("\n", "\r\n"),
        (SQUARE + "f 1 2 3 4\n").replace("\n", "\r"),
        "\ufeff# made by hand C:\\path\\\n\n" + SQUARE + "\t f \t1 2 \\\n 3 4 # a face\n",
        "v +0. .0 -0\nv 1e0 0E+0 0\nv 1.0000 1 0 1.0 # weight\nv 0 10e-1 0\nfo 1 2 3 4\n",
        "v 0 0 \\\r\n0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1 2 3\\\n 4\n",
    ],
)
def test_spellings_of_one_square(tmp_path, text):
    mesh = only_mesh(read(tmp_path, text))
    assert mesh.face_start.tolist() == [0, 4]
    assert mesh.points[mesh.corner_point].tolist() == [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]


def test_objects_become_nodes_and_keep_to_their_own_points(tmp_path):
    text = (
        f"o left\n{SQUARE}f 1 2 3\no right\nv 5 5 5\nv 6 5 5\nv 6 6 5\nv 9 9 9\nf 5 6 7\nf -3 -2 1\no left\nf 1 3 4\n"
    )
    scene = read(tmp_path, text)
    assert [node.name for node in scene.roots] == ["left", "right", "left"]
    assert [mesh.point_count for mesh in scene.meshes] == [3, 5, 3]
    right = scene.meshes[1]
    assert right.points[right.corner_point[3:]].tolist() == [[6, 5, 5], [6, 6, 5], [0, 0, 0]]


def test_stray_points_stay_with_their_object(tmp_path):
    text = f"o a\n{SQUARE}v 7 7 7\nf 1 2 3 4\no b\nv 0 0 1\nv 1 0 1\nv 0 1 1\nv 8 8 8\nf 6 7 8\n"
    scene = read(tmp_path, text)
    assert [mesh.points[~mesh.point_used].tolist() for mesh in scene.meshes] == [[[7, 7, 7]], [[8, 8, 8]]]


def test_groups_become_nodes_where_there_are_no_objects(tmp_path):
    scene = read(tmp_path, f"{SQUARE}f 1 2 3\ng a shared\nf 1 2 4\ng\nf 2 3 4\ng a shared\nf 1 3 4\n")
    assert [(node.name, node.groups, node.mesh.face_count) for node in scene.roots] == [
        ("thing", (), 1),
        ("a", ("a", "shared"), 2),
        ("default", ("default",), 1),
    ]


def test_groups_within_an_object_become_face_sets(tmp_path):
    mesh = only_mesh(read(tmp_path, f"o thing\n{SQUARE}g lid\nf 1 2 3\ng lid rim\nf 1 2 4\ng rim\nf 2 3 4\n"))
    assert {name: faces.tolist() for name, faces in mesh.face_sets.items()} == {"lid": [0, 1], "rim": [1, 2]}


def test_slots_come_in_order_of_first_use_and_smoothing_groups_survive(tmp_path):
    scene = read(
        tmp_path,
        f"mtllib thing.mtl\n{SQUARE}usemtl b c\ns 2\nf 1 2 3\nusemtl a\ns off\nf 1 2 4\nusemtl b c\ns 0\nf 2 3 4\n",
        mtl="newmtl a\nnewmtl b c\nKd 1 0 0\n",
    )
    mesh = only_mesh(scene)
    assert [slot.name for slot in mesh.slots] == ["b c", "a"]
    assert mesh.slot_of_face.tolist() == [0, 1, 0]
    assert mesh.face_smoothing.tolist() == [2, 0, 0]
    assert mesh.slots[0].base_color == (1, 0, 0, 1)


def test_vertex_colours_behind_the_position(tmp_path):
    scene = read(tmp_path, "v 0 0 0 1 0 0\nv 1 0 0 0 .5 0 1\nv 1 1 0\nf 1 2 3\n")
    (colors,) = only_mesh(scene).layers_of("color")
    assert colors.at_corners(missing=-1).ravel() == pytest.approx([1, 0, 0, 0, *light(0.5), 0, -1, -1, -1])
    scene = read(tmp_path, "v 0 0 0 255 0 0\nv 1 0 0 0 51 0\nv 1 1 0 0 0 0\nf 1 2 3\n")
    assert only_mesh(scene).layers[0].at_corners()[1].tolist() == pytest.approx([0, *light(0.2), 0])
    assert "0 to 255" in texts(scene.notes)


def test_names_that_are_not_utf8_are_read_and_noted(tmp_path):
    scene = read(tmp_path, b"o P\xf6ller\n" + SQUARE.encode() + b"f 1 2 3\n")
    assert scene.roots[0].name == "Pöller"
    assert "Latin-1" in texts(scene.notes)


def test_several_libraries_with_blanks_in_their_names(tmp_path):
    (tmp_path / "my colours.mtl").write_text("newmtl one\nKd 1 0 0\n")
    (tmp_path / "b.mtl").write_text("newmtl two\n")
    scene = read(
        tmp_path,
        f"mtllib my colours.mtl\nmtllib thing.mtl b.mtl\n{SQUARE}usemtl one\nf 1 2 3\nusemtl two\n"
        "f 1 2 4\nusemtl x\nf 2 3 4\n",
        mtl="newmtl x\nKd 0 0 1\n",
    )
    expected = {"one": (1, 0, 0), "two": light(0.8, 0.8, 0.8), "x": (0, 0, 1)}
    assert {m.name: m.base_color[:3] for m in scene.materials} == {k: pytest.approx(v) for k, v in expected.items()}
    assert "lost" not in {note.kind for note in scene.notes}


@pytest.mark.parametrize(
    ("text", "faces", "note"),
    [
        (SQUARE + "f 1 2\nf 1\nf 1 2 3\n", 1, "line 5: 2 faces with fewer than three corners skipped"),
        (SQUARE + "f 1 2 9\nf 1 2 3\n", 1, "line 5: 1 face with points the file does not have"),
        (SQUARE + "f 1 2 -9\nf 1 2 0\nf 1 2 3\n", 1, "line 5: 2 faces"),
        (SQUARE + "f 1 2 99999999999999999999\nf 1 2 3\n", 1, "line 5: 1 face"),
        (SQUARE + "f 1 2 x\nf 1 2 3\n", 1, "line 5: 1 face with a corner that cannot be read"),
        (SQUARE + "v 0 nan 0\nv 1e999 0 0\nv 1 2\nf 1 2 5\nf 1 2 6\nf 1 2 3\n", 1, "line 5: 3 points without"),
        (SQUARE + "v 1 two 3\nf 1 2 5\nf 2 3 4\n", 1, "line 6: 1 face with points that have no usable position"),
        (SQUARE + "vt 0 0\nf 1/1 2/7 3/-9\n", 1, "2 corners lost the UV"),
        (SQUARE + "vn nan 0 0\nf 1//1 2//1 3//1\n", 1, "3 corners lost the normal"),
        (SQUARE + "usemtl gone\nf 1 2 3\n", 1, "line 5: material 'gone' is in no library"),
        ("mtllib gone.mtl\n" + SQUARE + "f 1 2 3\n", 1, "line 1: material library 'gone.mtl' was not found"),
        (SQUARE + "l 1 2\nl 2 3\np 1\nf 1 2 3\n", 1, "line 5: lines are not carried (2 statements)"),
        (SQUARE + "wobble 1\nf 1 2 3\n", 1, "line 5: statements not known: 'wobble'"),
        (SQUARE, 0, "no usable face"),
        (SQUARE + "f 1 2 3 4\nf 1 2", 1, "line 6: 1 face with fewer"),
    ],
)
def test_what_cannot_be_used_is_skipped_and_noted_and_the_rest_arrives(tmp_path, text, faces, note):
    scene = read(tmp_path, text)
    assert sum(mesh.face_count for mesh in scene.meshes) == faces
    assert note in texts(scene.notes)


def test_a_uv_hole_stays_a_hole(tmp_path):
    mesh = only_mesh(read(tmp_path, SQUARE + "vt .5 .25\nf 1/1 2 3/8\n"))
    assert mesh.uv_sets[0].index.tolist() == [0, -1, -1]


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"", "empty"),
        (b"\x00\x01\x02garbage" * 50, "binary"),
        ("v 0 0 0\n".encode("utf-16"), "UTF-16"),
        (b"hello\nworld\n", "no OBJ statements"),
    ],
)
def test_what_is_no_obj_file_is_refused(tmp_path, data, message):
    with pytest.raises(zo.InputError, match=message) as caught:
        zo.read(obj(tmp_path, data))
    assert "thing.obj" in str(caught.value)


def test_missing_folders_and_forbidden_files_are_refused(tmp_path):
    with pytest.raises(zo.InputError, match="no such file"):
        zo.read(tmp_path / "nothing.obj")
    with pytest.raises(zo.InputError, match="folder"):
        zo.read(tmp_path)
    locked = obj(tmp_path, SQUARE)
    locked.chmod(0)
    if not os.access(locked, os.R_OK):
        with pytest.raises(zo.InputError, match="may not be read"):
            zo.read(locked)


def test_unit_and_axes_are_unknown_until_somebody_says(tmp_path):
    path = obj(tmp_path, SQUARE + "f 1 2 3\n")
    scene = zo.read(path)
    assert scene.frame == zo.Frame("left up forward", None)
    assert "axes 'left up forward', the usual ones" in texts(scene.notes)
    told = zo.read(path, unit="in", axes="right forward up")
    assert told.frame == zo.Frame("right forward up", "in")
    assert told.notes == ()


def test_reading_in_small_rooms_and_pieces_changes_nothing(tmp_path, monkeypatch):
    random = np.random.default_rng(1)
    lines = []
    for k in range(2000):
        lines.append(f"v {random.random():.6f} {k} 0" + (" .1 .2 .3" if k % 3 == 0 else ""))
        lines += [f"vt {k} 0", f"vn 0 {k + 1} 0", f"g part{k % 700}", f"s {k % 5}"]
        if k > 3:
            lines.append(f"f {k}/{k}/{k} {k - 1}/{k}/{k} {k - 2}/{k}/{k} " + f"{k - 3}/1/1 " * (k % 7))
    path = obj(tmp_path, "\n".join(lines))
    whole = zo.read(path)
    monkeypatch.setattr(reader, "_PAUSE", 97)
    shares = []
    pieces = zo.read(path, progress=shares.append)
    assert shares == sorted(shares)
    assert len(shares) > 100
    assert len(whole.roots) == len(pieces.roots) == 700
    for a, b in zip(whole.meshes, pieces.meshes, strict=True):
        assert np.array_equal(a.points[a.corner_point], b.points[b.corner_point])
        assert np.array_equal(a.face_smoothing, b.face_smoothing)


@given(st.data())
def test_damaged_text_never_raises_anything_but_our_errors(tmp_path_factory, data):
    text = bytearray(
        f"mtllib a.mtl\no x\n{SQUARE}vt 0 0\nvn 0 0 1\ng y\nusemtl m\ns 1\nf 1/1/1 2/1/1 3/1/1 -1\n".encode()
    )
    for _ in range(data.draw(st.integers(1, 12))):
        at = data.draw(st.integers(0, len(text) - 1))
        text[at : at + data.draw(st.integers(0, 3))] = data.draw(st.binary(max_size=4))
    path = tmp_path_factory.getbasetemp() / "damaged.obj"
    path.write_bytes(bytes(text))
    try:
        scene = zo.read(path)
    except zo.InputError:
        return
    assert all(np.isfinite(mesh.points).all() for mesh in scene.meshes)
