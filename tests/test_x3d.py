from __future__ import annotations

import math

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, light, moved, scene_of, texts, volume
from zesty_otter.demo.textures import timber
from zesty_otter.formats import xml
from zesty_otter.model import Layer, Material, Node

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well


def x3d(folder, scene: str, head: str = ""):
    path = folder / "thing.x3d"
    path.write_text(f'<X3D version="3.3" profile="Interchange"><head>{head}</head><Scene>{scene}</Scene></X3D>')
    return path


FACES = "<Shape><IndexedFaceSet coordIndex='0 1 2 3 -1 0 1 4' {more}><Coordinate point='0 0 0, 1 0 0, 1 1 0, 0 1 0, .5 .5 1'/>{parts}</IndexedFaceSet></Shape>"
POINTS = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0.5, 0.5, 1]])


def faces_of(mesh: zo.Mesh) -> list[list[list[float]]]:
    return [
        mesh.points[mesh.corner_point[a:b]].tolist()
        for a, b in zip(mesh.face_start[:-1], mesh.face_start[1:], strict=True)
    ]


@pytest.mark.parametrize(
    ("geometry", "faces"),
    [
        ("<IndexedTriangleSet index='0 1 2 0 2 3'>{}</IndexedTriangleSet>", [[0, 1, 2], [0, 2, 3]]),
        ("<IndexedTriangleStripSet index='0 1 3 2 -1 0 1 4 -1'>{}</IndexedTriangleStripSet>", [[0, 1, 3], [3, 1, 2], [0, 1, 4]]),
        ("<IndexedTriangleFanSet index='0 1 2 3 -1'>{}</IndexedTriangleFanSet>", [[0, 1, 2], [0, 2, 3]]),
        ("<IndexedQuadSet index='0 1 2 3'>{}</IndexedQuadSet>", [[0, 1, 2, 3]]),
        ("<TriangleSet>{}</TriangleSet>", [[0, 1, 2]]),
        ("<QuadSet>{}</QuadSet>", [[0, 1, 2, 3]]),
        ("<TriangleStripSet stripCount='4'>{}</TriangleStripSet>", [[0, 1, 2], [2, 1, 3]]),
        ("<TriangleFanSet fanCount='5'>{}</TriangleFanSet>", [[0, 1, 2], [0, 2, 3], [0, 3, 4]]),
    ],
)  # fmt: skip
def test_every_set_of_faces_is_read(tmp_path, geometry, faces):
    coordinate = "<Coordinate point='0 0 0 1 0 0 1 1 0 0 1 0 .5 .5 1'/>"
    mesh = zo.read(x3d(tmp_path, f"<Shape>{geometry.format(coordinate)}</Shape>")).meshes[0]
    assert faces_of(mesh) == [POINTS[face].tolist() for face in faces]


def test_indices_of_layers_at_corners_and_faces(tmp_path):
    parts = (
        "<Normal vector='0 0 1 0 1 0'/><TextureCoordinate point='0 0 1 0 1 1 0 1'/><Color color='1 0 0 0 1 0 0 0 1'/>"
    )
    more = "normalPerVertex='false' normalIndex='1 0' texCoordIndex='3 2 1 0 -1 0 0 1' colorIndex='0 1 2 0 -1 1 1 1'"
    mesh = zo.read(x3d(tmp_path, FACES.format(more=more, parts=parts))).meshes[0]
    assert mesh.normals.at_corners().tolist() == [[0, 1, 0]] * 4 + [[0, 0, 1]] * 3
    assert mesh.uv_sets[0].at_corners().tolist() == [[0, 1], [1, 1], [1, 0], [0, 0], [0, 0], [0, 0], [1, 0]]
    assert mesh.layers_of("color")[0].at_corners()[[0, 2, 4]].tolist() == [[1, 0, 0], [0, 0, 1], [0, 1, 0]]
    plain = zo.read(
        x3d(tmp_path, FACES.format(more="", parts="<Normal vector='0 0 1 0 0 1 0 0 1 0 0 1 1 0 0'/>"))
    ).meshes[0]
    assert plain.normals.at_corners()[6].tolist() == [1, 0, 0]


def test_winding_creases_and_sides(tmp_path):
    text = "<Shape>{}</Shape>"
    box = "<IndexedFaceSet ccw='{ccw}' creaseAngle='{crease}' solid='{solid}' coordIndex='0 2 3 1 -1 4 5 7 6 -1 0 1 5 4 -1 2 6 7 3 -1 0 4 6 2 -1 1 3 7 5 -1'><Coordinate point='0 0 0 1 0 0 0 1 0 1 1 0 0 0 1 1 0 1 0 1 1 1 1 1'/></IndexedFaceSet>"
    right = zo.read(x3d(tmp_path, text.format(box.format(ccw="true", crease=0, solid="true")))).meshes[0]
    assert volume(right) == pytest.approx(1)
    assert right.normals is None
    wrong = zo.read(x3d(tmp_path, text.format(box.format(ccw="false", crease=2, solid="true")))).meshes[0]
    assert volume(wrong) == pytest.approx(-1)
    assert np.abs(wrong.normals.at_corners()).round(3).max() == 0.577
    look = "<Appearance><Material/></Appearance>"
    for solid in ("true", "false"):
        scene = zo.read(x3d(tmp_path, text.format(look + box.format(ccw="true", crease=0, solid=solid))))
        assert scene.materials[0].two_sided == (solid == "false")


@pytest.mark.parametrize(
    ("geometry", "size", "content"),
    [
        ("<Box size='1 2 3'/>", (1, 2, 3), 6),
        ("<Sphere radius='2'/>", (4, 4, 4), 4 / 3 * math.pi * 8),
        ("<Cylinder radius='1' height='4'/>", (2, 4, 2), 4 * math.pi),
        ("<Cone bottomRadius='1' height='3'/>", (2, 3, 2), math.pi),
    ],
)
def test_primitives_are_closed_and_as_large_as_they_say(tmp_path, geometry, size, content):
    mesh = zo.read(x3d(tmp_path, f"<Shape>{geometry}</Shape>")).meshes[0]
    assert np.allclose(np.ptp(mesh.surface_bounds, axis=0), size)
    assert content * 0.97 < volume(mesh) <= content + 1e-9


@pytest.mark.parametrize(
    ("fields", "point"),
    [
        ("translation='1 2 3'", [2, 2, 3]),
        ("rotation='0 0 1 1.5707963267948966'", [0, 1, 0]),
        ("scale='2 1 1' translation='1 0 0'", [3, 0, 0]),
        ("center='1 0 0' rotation='0 0 1 1.5707963267948966'", [1, 0, 0]),
        ("scale='2 1 1' scaleOrientation='0 0 1 0.7853981633974483'", [1.5, 0.5, 0]),
    ],
)
def test_transforms_turn_about_their_centre(tmp_path, fields, point):
    scene = zo.read(x3d(tmp_path, f"<Transform DEF='t' {fields}><Shape><Box/></Shape></Transform>"))
    assert np.allclose((scene.roots[0].transform @ [1, 0, 0, 1])[:3], point)


def test_groups_uses_levels_switches_and_proxies(tmp_path):
    text = """<Transform DEF='post' translation='1 0 0'><Shape DEF='s'><Box DEF='b'/></Shape></Transform>
<Group DEF='pair'><Transform USE='post'/><Transform DEF='far' translation='9 0 0'><Shape USE='s'/></Transform></Group>
<LOD DEF='hut' range='10 50'><Shape DEF='h0'><Box/></Shape><Shape DEF='h1'><Box/></Shape><Shape DEF='h2'><Box/></Shape></LOD>
<Switch DEF='sw' whichChoice='1'><Shape DEF='a'><Box/></Shape><Shape DEF='b2'><Box/></Shape></Switch>
<Collision DEF='col'><Shape DEF='seen'><Box/></Shape><Transform DEF='solid' containerField='proxy'><Shape><Box/></Shape></Transform></Collision>"""
    scene = zo.read(x3d(tmp_path, text))
    nodes = {one.node.name: one for one in scene.walk()}
    assert list(nodes) == ["post", "pair", "far", "hut", "h0", "h1", "h2", "sw", "a", "b2", "col", "seen", "solid"]
    assert nodes["far"].node.mesh is nodes["post"].node.mesh
    assert [nodes[name].node.role for name in ("h0", "h1", "seen", "solid")] == [
        "visible",
        "level",
        "visible",
        "collision",
    ]
    assert dict(nodes["h2"].node.properties) == {"asset": "h0", "level": 2, "distance": 50.0}
    assert (nodes["a"].visible, nodes["b2"].visible) == (False, True)


def test_a_light_alone_in_a_transform_is_the_node_and_in_a_group_a_child(tmp_path):
    lamp = "<PointLight DEF='lamp' intensity='0.5'/>"
    text = f"<Shape><Box/></Shape><Transform DEF='mast' translation='0 3 0'>{lamp}</Transform><Group DEF='yard'>{lamp}</Group>"
    paths = [(*one.path, one.node.kind) for one in zo.read(x3d(tmp_path, text)).walk()][1:]
    assert paths == [("mast", "light"), ("yard", "empty"), ("yard", "lamp", "light")]


def test_materials_textures_units_lights_and_views(tmp_path):
    (tmp_path / "wood.png").write_bytes(timber())
    text = """<Shape><Appearance DEF='look'><Material DEF='wood' diffuseColor='.5 .25 0' transparency='.25' shininess='.5' specularColor='1 1 1'/>
<ImageTexture url='"gone.png" "wood.png"' repeatS='false'/><TextureTransform scale='2 2' translation='.25 0'/></Appearance><Box/></Shape>
<Shape><Appearance><PhysicalMaterial baseColor='1 0 0' metallic='.75' roughness='.25'/></Appearance><Box/></Shape>
<SpotLight DEF='lamp' location='1 2 3' direction='0 -1 0' cutOffAngle='.5' color='1 .5 0'/><Viewpoint DEF='eye' position='0 1 5' orientation='0 1 0 1.5707963267948966'/>
<Inline url='"other.x3d"'/><TouchSensor/><PointSet/>"""
    scene = zo.read(x3d(tmp_path, text, "<unit category='length' name='cm' conversionFactor='0.01'/>"))
    assert (scene.frame.unit, " ".join(scene.frame.axes)) == (0.01, "left up forward")
    wood, metal = scene.materials
    use = wood.textures["base_color"]
    assert (wood.name, wood.alpha_mode) == ("wood", "blend")
    assert wood.base_color == pytest.approx((*light(0.5, 0.25, 0.0), 0.75))
    assert (use.texture.path, use.scale, use.offset, use.clamp) == (tmp_path / "wood.png", (2, 2), (0.5, 0), True)
    assert (wood.shading["shininess"], metal.metallic, metal.roughness) == (64.0, 0.75, 0.25)
    lamp, eye = (next(one.node for one in scene.walk() if one.node.name == name) for name in ("lamp", "eye"))
    assert (lamp.content.kind, lamp.content.direction, lamp.transform[:3, 3].tolist()) == (
        "spot",
        (0, -1, 0),
        [1, 2, 3],
    )
    assert np.allclose(eye.content.direction, (-1, 0, 0))
    for words in ("other.x3d", "PointSet is not carried"):
        assert words in texts(scene.notes)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("<X3D><Scene><Group DEF='a'><Group USE='a'/></Group></Scene></X3D>", "recursively"),
        ("<html/>", "no X3D"),
        ("<X3D>", "is not XML|no usable"),
        ('<!DOCTYPE a [<!ENTITY x "y">]><X3D/>', "XML entities"),
    ],
)
def test_what_cannot_be_read_is_refused(tmp_path, text, message):
    (tmp_path / "a.x3d").write_text(text)
    if text == "<X3D>":
        assert "not well-formed" in texts(zo.read(tmp_path / "a.x3d").notes)
        return
    with pytest.raises(zo.InputError, match=message):
        zo.read(tmp_path / "a.x3d")


@pytest.mark.parametrize(
    ("more", "parts", "words"),
    [
        ("", "<Normal vector='x'/>", ""),
        ("texCoordIndex='99 1'", "<TextureCoordinate point='0 0 1 1'/>", ""),
        ("colorPerVertex='false' colorIndex='7'", "<Color color='1 0 0'/>", ""),
    ],
)
def test_layers_that_lead_nowhere_leave_holes(tmp_path, more, parts, words):
    scene = zo.read(x3d(tmp_path, FACES.format(more=more, parts=parts)))
    assert scene.meshes[0].face_count == 2
    assert words in texts(scene.notes)


def test_names_hidden_nodes_and_any_transform_come_back(tmp_path):
    turned = np.eye(4)
    turned[:3, :3] = np.linalg.qr(np.random.default_rng(3).normal(size=(3, 3)))[0] @ np.diag([1.0, 2.0, -3.0]) @ np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0]  # fmt: skip
    half = np.diag([-1.0, -1.0, 1.0, 1.0])
    nodes = (
        Node('Pöller "groß" <1>', turned, (Node("half", half, content=cube()),)),
        Node("half", content=cube(name="x"), visible=False),
        Node("solid", content=cube(name="y"), role="collision"),
    )
    scene = scene_of(*nodes, unit="in")
    zo.write(scene, tmp_path / "a.x3d")
    found = zo.read(tmp_path / "a.x3d")
    assert [one.path for one in found.walk() if one.node.mesh] == [
        ('Pöller "groß" <1>', "half"),
        ("half",),
        ("solid",),
    ]
    assert [(one.visible, one.node.role) for one in found.walk() if one.node.mesh] == [
        (True, "visible"),
        (False, "visible"),
        (True, "collision"),
    ]
    assert np.allclose(next(found.walk()).world, turned, atol=1e-6)
    assert found.frame.unit == pytest.approx(0.0254)


@pytest.mark.parametrize("slots", [1, 2])
def test_a_mesh_with_others_hung_on_it_comes_back_as_it_was(tmp_path, slots):
    crate = cube(name="crate", slots=(Material("oak"), Material("tar"))[:slots], face_slot=np.arange(6) % slots)
    lid = Node("lid", moved(0, 1, 0), content=cube(name="lid"))
    zo.write(scene_of(Node("crate", moved(3, 0, 0), (lid,), crate), Node("twin", content=crate)), tmp_path / "a.x3d")
    found = zo.read(tmp_path / "a.x3d")
    assert [(one.name, one.mesh.face_count, len(one.mesh.slots)) for one in found.roots] == [
        ("crate", 6, slots), ("twin", 6, slots)
    ]  # fmt: skip
    assert [one.name for one in found.roots[0].children] == ["lid"]
    assert found.roots[0].mesh is found.roots[1].mesh


def test_what_x3d_has_no_place_for_is_said(tmp_path):
    uv = Layer("uv", [[0, 0]], np.zeros(24, int))
    metal = zo.Material("iron", metallic=1.0)
    said = texts(zo.write(scene_of(cube(layers=(uv, uv), slots=(metal,))), tmp_path / "a.x3d"))
    for words in ("has one UV set", "no place for its metallic value"):
        assert words in said
    mesh = cube()
    zo.write(scene_of(Node("a", content=mesh), Node("b", moved(2, 0, 0), content=mesh)), tmp_path / "b.x3d")
    assert (tmp_path / "b.x3d").read_text().count("<Coordinate") == 1


def test_terrain_comes_as_a_grid_of_quads(tmp_path):
    text = "<Shape><ElevationGrid xDimension='3' zDimension='2' xSpacing='2' zSpacing='5' height='0 1 0 0 0 4' colorPerVertex='false'><Color color='1 0 0 0 1 0'/></ElevationGrid></Shape>"
    mesh = zo.read(x3d(tmp_path, text)).meshes[0]
    assert mesh.surface_bounds.tolist() == [[0, 0, 0], [4, 4, 5]]
    assert mesh.face_size.tolist() == [4, 4]
    assert mesh.layers_of("color")[0].at_corners()[[0, 4]].tolist() == [[1, 0, 0], [0, 1, 0]]
    corners = mesh.points[mesh.corner_point[:3]]
    assert np.cross(corners[1] - corners[0], corners[2] - corners[0])[1] > 0
    assert "no usable face" in texts(zo.read(x3d(tmp_path, text.replace("'3'", "'3000000000'"))).notes)


@pytest.mark.parametrize(
    ("fields", "size", "content"),
    [
        ("", (2, 1, 2), 4),
        ("spine='0 0 0 0 3 0' scale='1 1 0.5 0.5'", (2, 3, 2), 4 * (1 + 0.5 + 0.25)),
        ("spine='0 0 0 6 0 0'", (6, 2, 2), 24),
        ("spine='0 0 0 0 5 0' orientation='0 1 0 0.7853981633974483'", (2 * 2**0.5, 5, 2 * 2**0.5), 20),
        ("spine='0 0 0 0 4 0 4 4 0' crossSection='.5 .5 .5 -.5 -.5 -.5 -.5 .5 .5 .5'", (4.5, 4.5, 1), None),
    ],
)
def test_extrusions_sweep_their_section_along_the_spine(tmp_path, fields, size, content):
    mesh = zo.read(x3d(tmp_path, f"<Shape><Extrusion {fields}/></Shape>")).meshes[0]
    assert np.allclose(np.ptp(mesh.surface_bounds, axis=0), size, atol=1e-3)
    assert volume(mesh) > 0
    assert content is None or volume(mesh) == pytest.approx(content)


def test_assemblies_and_figures_are_groups(tmp_path):
    text = """<CADAssembly DEF='boat'><CADPart DEF='hull' translation='1 0 0'><CADFace><Shape DEF='s'><Box/></Shape></CADFace></CADPart></CADAssembly>
<HAnimHumanoid DEF='otter'><HAnimJoint DEF='root' containerField='skeleton' translation='0 2 0'><HAnimSegment><Shape><Box/></Shape></HAnimSegment></HAnimJoint><HAnimJoint USE='root' containerField='joints'/></HAnimHumanoid>"""
    scene = zo.read(x3d(tmp_path, text))
    assert len(list(scene.placed_meshes())) == 2
    assert [placed.world[:3, 3].tolist() for placed, _ in scene.placed_meshes()] == [[1, 0, 0], [0, 2, 0]]


@pytest.mark.parametrize("ending", ["x3d", "dae", "3mf"])
def test_long_lists_of_numbers_are_read_like_short_ones(tmp_path, monkeypatch, ending):
    """Those that the XML library never sees."""
    uv = Layer("uv", np.random.default_rng(0).random((24, 2)), np.arange(24))
    zo.write(
        scene_of(cube((1, 2, 3), "box", layers=(uv,)), Node("b", moved(4, 0, 0), content=cube())),
        tmp_path / f"a.{ending}",
    )
    usual = zo.read(tmp_path / f"a.{ending}")
    monkeypatch.setattr(xml, "_LONG", 2)
    aside = zo.read(tmp_path / f"a.{ending}")
    for one, other in zip(usual.meshes, aside.meshes, strict=True):
        assert np.array_equal(one.points, other.points) and np.array_equal(one.corner_point, other.corner_point)
        assert all(np.array_equal(a.values, b.values) for a, b in zip(one.layers, other.layers, strict=True))


def test_faults_beside_long_lists_are_told_with_their_line(tmp_path):
    numbers = "\n".join(["0.5 1.5 2.5"] * 3000)
    text = f'<X3D version="3.3"><Scene>\n<Shape><IndexedFaceSet coordIndex="0 1 2"><Coordinate point="{numbers}"/>'
    (tmp_path / "a.x3d").write_text(f"{text}\n<oops></Scene></X3D>")
    found = zo.read(tmp_path / "a.x3d")
    assert any("not well-formed" in note.text and "line 300" in note.text for note in found.notes)
    (tmp_path / "b.x3d").write_text(f"{text}</IndexedFaceSet></Shape></Scene></X3D>")
    assert len(zo.read(tmp_path / "b.x3d").meshes[0].points) == 3
    # The word that stands for a list may stand in a file itself.
    (tmp_path / "c.x3d").write_text(
        f'{text}</IndexedFaceSet><IndexedFaceSet coordIndex="\x7f1:0\x7f"/></Shape></Scene></X3D>'
    )
    zo.read(tmp_path / "c.x3d")
