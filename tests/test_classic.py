"""VRML97 and X3D in its classic encoding."""

from __future__ import annotations

import gzip
import random

import numpy as np
import pytest

import zesty_otter as zo

pytestmark = pytest.mark.checked

HEADS = {"wrl": "#VRML V2.0 utf8\n", "x3dv": '#X3D V3.3 utf8\nPROFILE Interchange\nMETA "title" "weir"\n'}
SQUARE = (
    "geometry IndexedFaceSet { solid FALSE coord Coordinate { point [ 0 0 0, 4 0 0, # a remark\n 4 1 0  0 1 0 ] }"
    " coordIndex [ 0 1 2 3 -1 ] texCoord TextureCoordinate { point [0 0, 1 0 1 1 0 1] } }"
)
YARD = """
DEF quay Transform { translation 0 0 -2 children [
    DEF wall Shape { appearance DEF look Appearance { material DEF stone Material { diffuseColor 1 0.5 0 transparency 0.25 } } SQUARE }
    Transform { translation 10 0 0 children USE wall }
] }
Switch { whichChoice 1 choice [ Shape { geometry Sphere { radius 3 } } DEF seen Shape { geometry Box { size 1 2 3 } } ] }
Viewpoint { position 0 1 5 description "front" }
DEF clock TimeSensor { loop TRUE }
ROUTE clock.fraction_changed TO quay.set_translation
Shape { geometry Text { string [ "hello", "weir" ] } }
""".replace("SQUARE", SQUARE)


def read(tmp_path, text, ending="wrl", head=True) -> zo.Scene:
    path = tmp_path / f"a.{ending}"
    path.write_text((HEADS[ending] if head else "") + text)
    return zo.read(path)


@pytest.mark.parametrize("ending", HEADS)
def test_nodes_names_and_materials_come_through(tmp_path, ending):
    scene = read(tmp_path, YARD, ending)
    placed = {one.path: one for one in scene.walk() if one.node.mesh is not None}
    assert [path[-1] for path in placed] == ["wall", "transform", "switch", "seen"]
    wall, copy = list(placed.values())[:2]
    assert wall.node.mesh.points.tolist() == [[0, 0, 0], [4, 0, 0], [4, 1, 0], [0, 1, 0]]
    assert wall.world[:3, 3].tolist() == [0, 0, -2]
    assert copy.world[:3, 3].tolist() == [10, 0, -2]
    assert copy.node.mesh.points is wall.node.mesh.points
    material = wall.node.mesh.slots[0]
    assert material.name == "stone"
    assert material.two_sided
    assert material.base_color == pytest.approx((1, 0.2140, 0, 0.75), abs=1e-4)
    assert wall.node.mesh.uv_sets[0].at_corners().tolist() == [[0, 0], [1, 0], [1, 1], [0, 1]]
    assert [one.visible for one in placed.values()] == [True, True, False, True]
    said = " ".join(note.text for note in scene.notes)
    assert "Text is not carried" in said
    assert "routes and what they drive are left out" in said
    assert ("lengths are metres" in said) == (ending == "wrl")


def test_the_classic_encoding_and_xml_give_the_same_scene(tmp_path):
    box = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)], slots=(zo.Material("cloth"),))
    zo.write(zo.Scene.from_mesh(box), tmp_path / "a.x3d")
    classic = (
        "DEF sail Transform { children Shape { appearance Appearance { material DEF cloth Material { diffuseColor 1 1 1 } }"
        " geometry IndexedFaceSet { coordIndex [0 1 2 -1] coord Coordinate { point [0 0 0 2 0 0 0 3 0] } } } }"
    )
    one, other = zo.read(tmp_path / "a.x3d"), read(tmp_path, classic, "x3dv")
    assert [node.name for node in one.roots] == [node.name for node in other.roots]
    assert np.array_equal(one.meshes[0].points, other.meshes[0].points)
    assert one.meshes[0].slots[0].name == other.meshes[0].slots[0].name == "cloth"


def test_prototypes_stand_where_they_are_used_each_with_its_own_fields(tmp_path):
    scene = read(
        tmp_path,
        """
        PROTO Bollard [ field SFColor tint 1 0 0  exposedField SFVec3f at 0 0 0  field MFNode more []  eventIn SFBool go ]
        { Transform { translation IS at children [
            DEF post Shape { appearance Appearance { material Material { diffuseColor IS tint } } geometry Box { size 1 2 1 } }
            Transform { translation 0 3 0 children USE post }
            Group { children IS more } ] } }
        PROTO Pair [ field SFColor tint 0 1 0 ] { Group { children [ Bollard { tint IS tint } Bollard { at 5 0 0 } ] } }
        Bollard { at 0 0 7 tint 0 0 1 more [ DEF extra Shape { geometry Box { size .5 .5 .5 } } ] }
        DEF two Pair { }
        """,
    )
    found = [(one.path[-1], one.world[:3, 3].tolist(), one.node.mesh) for one in scene.walk() if one.node.mesh]
    assert [place for _, place, _ in found] == [
        [0, 0, 7], [0, 3, 7], [0, 0, 7], [0, 0, 0], [0, 3, 0], [5, 0, 0], [5, 3, 0]
    ]  # fmt: skip
    colors = [mesh.slots[0].base_color[:3] for _, _, mesh in found if mesh.slots[0] is not None]
    assert colors == [(0, 0, 1)] * 2 + [(0, 1, 0)] * 2 + [(1, 0, 0)] * 2
    assert scene.roots[1].name == "two"


def test_other_files_are_shown_in_their_place_packed_ones_too(tmp_path):
    (tmp_path / "b.wrl").write_bytes(
        gzip.compress((HEADS["wrl"] + 'Shape { geometry Box { size 2 2 2 } } Inline { url "a.wrl" }').encode())
    )
    (tmp_path / "c.wrl").write_text(
        HEADS["wrl"] + "PROTO Crate [ field SFVec3f size 1 1 1 ] { Shape { geometry Box { size IS size } } }"
    )
    scene = read(
        tmp_path,
        'Transform { translation 4 0 0 children Inline { url [ "b.wrl" ] } }'
        ' EXTERNPROTO Crate [ field SFVec3f size ] [ "c.wrl#Crate" ] Crate { size 3 3 3 } Inline { url "nowhere.wrl" }',
    )
    assert scene.bounds().tolist() == [[-1.5, -1.5, -1.5], [5, 1.5, 1.5]]
    said = " ".join(note.text for note in scene.notes)
    assert "'a.wrl' is shown in itself" in said
    assert "nowhere.wrl" in said
    assert {path.name for path in scene.read_files} == {"b.wrl", "c.wrl"}


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("#VRML V1.0 ascii\nSeparator {}", "VRML 1.0"),
        ("#VRML V2.0 utf8\n} oops", "expected a node"),
        ("#VRML V2.0 utf8\nGroup { children [", "is not VRML97 or X3D text"),
        ("#VRML V2.0 utf8\n" + "Group { children " * 300 + "} " * 300, "nested too deeply"),
        ("#VRML V2.0 utf8\nPROTO A [] { Group { children A {} } } A {}", None),
        (
            "#VRML V2.0 utf8\nPROTO P0 [] { Shape { geometry Box {} } }\n"
            + "".join(f"PROTO P{k + 1} [] {{ Group {{ children [ {f'P{k} {{}} ' * 10} ] }} }}\n" for k in range(8))
            + "P8 {}",
            "too many nodes",
        ),
    ],
)
def test_what_cannot_be_read_gets_one_clear_message(tmp_path, text, problem):
    (tmp_path / "a.wrl").write_text(text)
    if problem is None:
        zo.read(tmp_path / "a.wrl")
        return
    with pytest.raises(zo.InputError, match=problem):
        zo.read(tmp_path / "a.wrl")


def test_control_characters_anywhere_are_dropped(tmp_path):
    scene = read(
        tmp_path,
        "UNIT length \x03len 1\nDEF a\x01b Group { \x02children [ DEF c\x04 Shape { geometry Box { \x05size 1 1 1 } } ] }",
    )
    assert [one.node.name for one in scene.walk()] == ["ab", "c"]


def test_what_stands_before_a_fault_is_taken(tmp_path):
    scene = read(tmp_path, 'Shape { geometry Box { } }\nShape { geometry Box { size "a')
    assert len(scene.meshes) == 1
    assert any("line 3" in note.text for note in scene.notes)


def test_damaged_text_is_read_or_refused_and_nothing_else(tmp_path):
    chance = random.Random(5)
    whole = (
        HEADS["wrl"]
        + YARD
        + "PROTO A [ field SFNode x NULL ] { Group { children IS x } } A { x Shape { geometry Box {} } }"
    )
    path = tmp_path / "b.wrl"
    for _ in range(300):
        words = list(whole)
        for _ in range(chance.randrange(1, 8)):
            at = chance.randrange(len(words))
            words[at : at + chance.choice((0, 1, 1, 20))] = chance.choice(
                ["", "{", "}", "[", "]", '"', "#", "9", " IS ", "USE ", "NULL "]
            )
        path.write_text("".join(words))
        try:
            zo.read(path)
        except zo.InputError as error:
            assert error.problem
