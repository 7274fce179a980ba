from __future__ import annotations

import math

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, light, moved, scene_of, texts, volume
from zesty_otter.demo.textures import timber
from zesty_otter.model import Camera, Layer, Light, Material, Node, Texture, TextureUse

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

SQUARE = """
<source id="pos"><float_array id="pos-a" count="15">0 0 0 1 0 0 1 1 0 0 1 0 .5 .5 1</float_array>
 <technique_common><accessor source="#pos-a" count="5" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<source id="uv"><float_array id="uv-a" count="8">0 0 1 0 1 1 0 1</float_array>
 <technique_common><accessor source="#uv-a" count="4" stride="2"><param name="S" type="float"/><param name="T" type="float"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#pos"/></vertices>
"""


def dae(folder, geometry: str = "", nodes: str = "", rest: str = "", asset: str = "", version: str = "1.4.1"):
    """A COLLADA file with one geometry and a scene; nodes show it unless others are given."""
    path = folder / "thing.dae"
    nodes = nodes or '<node id="n" name="Thing"><instance_geometry url="#g"/></node>'
    path.write_text(f"""<?xml version="1.0" encoding="utf-8"?>
<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="{version}">
<asset>{asset}</asset>
<library_geometries><geometry id="g" name="Shape"><mesh>{SQUARE}{geometry}</mesh></geometry></library_geometries>
{rest}
<library_visual_scenes><visual_scene id="s" name="Yard">{nodes}</visual_scene></library_visual_scenes>
<scene><instance_visual_scene url="#s"/></scene>
</COLLADA>""")
    return path


VERTEX = '<input semantic="VERTEX" source="#v" offset="0"/>'
TRIANGLES = f'<triangles count="2" material="A">{VERTEX}<p>0 1 2 0 2 3</p></triangles>'


@pytest.mark.parametrize(
    ("primitive", "faces"),
    [
        (TRIANGLES, [[0, 1, 2], [0, 2, 3]]),
        (f'<polylist count="2">{VERTEX}<vcount>4 3</vcount><p>0 1 2 3 0 1 4</p></polylist>', [[0, 1, 2, 3], [0, 1, 4]]),
        (f'<polygons count="2">{VERTEX}<p>0 1 2 3</p><p>0 1 4</p></polygons>', [[0, 1, 2, 3], [0, 1, 4]]),
        (f'<tristrips count="2">{VERTEX}<p>0 1 3 2</p><p>0 1 4</p></tristrips>', [[0, 1, 3], [3, 1, 2], [0, 1, 4]]),
        (f'<trifans count="1">{VERTEX}<p>0 1 2 3</p><p>4 0 1</p></trifans>', [[0, 1, 2], [0, 2, 3], [4, 0, 1]]),
        (f'<lines count="1">{VERTEX}<p>0 1</p></lines>{TRIANGLES}', [[0, 1, 2], [0, 2, 3]]),
    ],
)  # fmt: skip
def test_every_primitive_that_makes_faces_is_read(tmp_path, primitive, faces):
    scene = zo.read(dae(tmp_path, primitive))
    (node,) = scene.roots
    mesh = node.mesh
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0.5, 0.5, 1]])
    for face, first, last in zip(faces, mesh.face_start[:-1], mesh.face_start[1:], strict=True):
        assert np.array_equal(mesh.points[mesh.corner_point[first:last]], points[face])
    assert (node.name, mesh.name, scene.name) == ("Thing", "Shape", "Yard")
    assert ("lines not carried" in texts(scene.notes)) == ("<lines" in primitive)


def test_holes_in_polygons_are_bridged(tmp_path):
    outer = "0 0 0 4 0 0 4 4 0 0 4 0 1 1 0 3 1 0 3 3 0 1 3 0"
    holed = f'<polygons count="1">{VERTEX}<ph><p>0 1 2 3</p><h>4 5 6 7</h></ph></polygons>'
    path = dae(tmp_path, holed)
    path.write_text(
        path.read_text().replace("0 0 0 1 0 0 1 1 0 0 1 0 .5 .5 1", outer).replace('count="5"', 'count="8"')
    )
    scene = zo.apply(zo.read(path), zo.steps.Triangulate())
    mesh = scene.meshes[0]
    corners = mesh.points[mesh.corner_point].reshape(-1, 3, 3)
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2
    assert area == pytest.approx(12.0)


def test_inputs_have_offsets_and_sets_of_their_own(tmp_path):
    primitive = f"""<polylist count="1" material="A">{VERTEX}
<input semantic="TEXCOORD" source="#uv" offset="2" set="4"/><input semantic="TEXCOORD" source="#uv" offset="1" set="1"/>
<vcount>4</vcount><p>0 0 3 1 1 2 2 2 1 3 3 0</p></polylist>"""
    mesh = zo.read(dae(tmp_path, primitive)).meshes[0]
    assert [layer.at_corners().tolist() for layer in mesh.uv_sets] == [
        [[0, 0], [1, 0], [1, 1], [0, 1]],
        [[0, 1], [1, 1], [1, 0], [0, 0]],
    ]


@pytest.mark.parametrize(
    ("asset", "axes", "unit"),
    [
        ("", "left up forward", 1.0),
        ('<unit name="inch" meter="0.0254"/><up_axis>Z_UP</up_axis>', "left back up", 0.0254),
        ('<unit meter="0.01"/><up_axis>X_UP</up_axis>', "up right forward", 0.01),
        ('<unit meter="-1"/>', "left up forward", 1.0),
    ],
)
def test_unit_and_up_axis_are_honoured(tmp_path, asset, axes, unit):
    frame = zo.read(dae(tmp_path, TRIANGLES, asset=asset)).frame
    assert (" ".join(frame.axes), frame.unit) == (axes, unit)
    assert frame.right_handed


@pytest.mark.parametrize(
    ("elements", "point"),
    [
        ("<translate>1 2 3</translate>", [1, 2, 3]),
        ("<translate>1 2 3</translate><scale>2 2 2</scale>", [1, 2, 3]),
        ("<scale>2 2 2</scale><translate>1 2 3</translate>", [2, 4, 6]),
        ("<rotate>0 0 1 90</rotate><translate>1 2 3</translate>", [-2, 1, 3]),
        ("<matrix>1 0 0 5 0 1 0 6 0 0 1 7 0 0 0 1</matrix><rotate>1 0 0 90</rotate>", [5, 6, 7]),
        ("<skew>45 0 1 0 1 0 0</skew><translate>0 1 0</translate>", [0, 1, 0]),
        ("<lookat>1 2 3 1 2 2 0 1 0</lookat>", [1, 2, 3]),
    ],
)
def test_transform_elements_work_in_order(tmp_path, elements, point):
    scene = zo.read(dae(tmp_path, TRIANGLES, f'<node name="n">{elements}<instance_geometry url="#g"/></node>'))
    assert np.allclose((scene.roots[0].transform @ [0, 0, 0, 1])[:3], point)


def test_what_looks_at_a_point_has_it_in_front(tmp_path):
    aimed = '<node name="n"><lookat>0 0 5 4 0 5 0 1 0</lookat><instance_geometry url="#g"/></node>'
    transform = zo.read(dae(tmp_path, TRIANGLES, aimed)).roots[0].transform
    assert np.allclose((transform @ [0, 0, -4, 1])[:3], [4, 0, 5])
    assert np.allclose(transform[:3, 1], [0, 1, 0])


def test_nodes_are_instanced_and_circles_refused(tmp_path):
    library = '<library_nodes><node id="post" name="post"><translate>0 0 1</translate><instance_geometry url="#g"/></node></library_nodes>'
    twice = '<node name="a"><instance_node url="#post"/></node><node name="b" layer="quay wet"><instance_node url="#post"/></node>'
    scene = zo.read(dae(tmp_path, TRIANGLES, twice, library))
    assert [one.path for one in scene.walk()] == [("a",), ("a", "post"), ("b",), ("b", "post")]
    assert len(scene.meshes) == 1
    assert scene.roots[1].groups == ("quay", "wet")
    circle = '<library_nodes><node id="post"><instance_node url="#post"/></node></library_nodes>'
    assert "holds itself" in texts(zo.read(dae(tmp_path, TRIANGLES, twice, circle)).notes)


MATERIALS = """<library_images><image id="wood"><init_from>maps/wood%20a.png</init_from></image></library_images>
<library_materials><material id="m1" name="Wood"><instance_effect url="#e1"/></material></library_materials>
<library_effects><effect id="e1"><profile_COMMON>
<newparam sid="sf"><surface type="2D"><init_from>wood</init_from></surface></newparam>
<newparam sid="sa"><sampler2D><source>sf</source></sampler2D></newparam>
<technique sid="common"><phong><emission><color>0 0 0 1</color></emission>
<diffuse>{diffuse}</diffuse>{more}</phong></technique>{extra}</profile_COMMON></effect></library_effects>"""
TEXTURED = '<texture texture="sa" texcoord="UV"/>'


def material_of(folder, diffuse: str = "<color>0.5 0.25 0 1</color>", more: str = "", extra: str = "", bind: str = ""):
    (folder / "maps").mkdir(exist_ok=True)
    (folder / "maps" / "wood a.png").write_bytes(timber())
    primitive = TRIANGLES.replace(
        VERTEX,
        VERTEX
        + '<input semantic="TEXCOORD" source="#uv" offset="0" set="0"/><input semantic="TEXCOORD" source="#uv" offset="0" set="3"/>',
    )
    nodes = f'<node><instance_geometry url="#g"><bind_material><technique_common><instance_material symbol="A" target="#m1">{bind}</instance_material></technique_common></bind_material></instance_geometry></node>'
    scene = zo.read(dae(folder, primitive, nodes, MATERIALS.format(diffuse=diffuse, more=more, extra=extra)))
    return scene.materials[0], scene


def test_materials_are_bound_by_symbol_with_textures_on_the_right_uv_set(tmp_path):
    material, scene = material_of(
        tmp_path, TEXTURED, bind='<bind_vertex_input semantic="UV" input_semantic="TEXCOORD" input_set="3"/>'
    )
    use = material.textures["base_color"]
    assert (material.name, use.texture.path, use.uv_set) == ("Wood", tmp_path / "maps" / "wood a.png", 1)
    assert len(scene.meshes[0].uv_sets) == 2


@pytest.mark.parametrize(
    ("more", "opacity"),
    [
        ("", 1.0),
        ("<transparency><float>0.25</float></transparency>", 0.25),
        ("<transparency><float>0</float></transparency>", 1.0),
        ('<transparent opaque="A_ONE"><color>1 1 1 0.5</color></transparent><transparency><float>0.5</float></transparency>', 0.25),
        ('<transparent opaque="RGB_ZERO"><color>0.5 0.5 0.5 1</color></transparent><transparency><float>1</float></transparency>', 0.5),
        ('<transparent opaque="A_ZERO"><color>1 1 1 0.25</color></transparent>', 0.75),
        ('<transparent opaque="RGB_ONE"><color>0.5 0.5 0.5 1</color></transparent>', 0.5),
    ],
)  # fmt: skip
def test_transparency_is_read_as_its_mode_says(tmp_path, more, opacity):
    material, _ = material_of(tmp_path, more=more)
    assert material.base_color == pytest.approx((*light(0.5, 0.25, 0.0), opacity), abs=1e-5)
    assert material.alpha_mode == ("blend" if opacity < 1 else "opaque")


def test_shininess_sides_and_cut_outs(tmp_path):
    material, _ = material_of(
        tmp_path,
        more="<specular><color>1 1 1 1</color></specular><shininess><float>30</float></shininess>",
        extra='<extra><technique profile="any"><double_sided>1</double_sided></technique></extra>',
    )
    assert material.roughness == pytest.approx((2 / 32) ** 0.25)
    assert material.two_sided
    transparent = f'<transparent opaque="A_ONE">{TEXTURED}</transparent>'
    material, _ = material_of(tmp_path, TEXTURED, transparent)
    assert material.textures["alpha"].texture is material.textures["base_color"].texture


def test_later_versions_and_old_habits_are_understood(tmp_path):
    (tmp_path / "wood.png").write_bytes(timber())
    newer = """<library_images><image id="wood"><init_from><ref>./wood.png</ref></init_from></image></library_images>
<library_materials><material id="A" name="Wood"><instance_effect url="#e1"/></material></library_materials>
<library_effects><effect id="e1"><profile_COMMON><newparam sid="sa"><sampler2D><instance_image url="#wood"/></sampler2D></newparam>
<technique sid="common"><lambert><diffuse><texture texture="sa" texcoord="UV"/></diffuse></lambert></technique></profile_COMMON></effect></library_effects>"""
    # No binding at all: the symbol is the material, and the texture may name the image itself.
    for text in (newer, newer.replace('texture="sa"', 'texture="wood"')):
        scene = zo.read(dae(tmp_path, TRIANGLES, rest=text, version="1.5.0"))
        assert scene.materials[0].textures["base_color"].texture.path == tmp_path / "wood.png"


def test_skins_without_joints_stand_in_their_bind_pose(tmp_path):
    rest = """<library_controllers><controller id="c"><skin source="#g"><bind_shape_matrix>2 0 0 0 0 2 0 0 0 0 2 5 0 0 0 1</bind_shape_matrix></skin></controller></library_controllers>
<library_animations><animation/></library_animations>"""
    scene = zo.read(dae(tmp_path, TRIANGLES, '<node><instance_controller url="#c"/></node>', rest))
    assert scene.bounds().tolist() == [[0, 0, 5], [2, 2, 5]]
    for words in ("bind pose", "animations are left out"):
        assert words in texts(scene.notes)


@pytest.mark.parametrize(
    ("method", "weights", "top"),
    [
        ("NORMALIZED", "0.25 0", 3.25),
        ("RELATIVE", "0.25 0", 3.5),
        ("NORMALIZED", "0.5 0.5", 4.5),
        ("NORMALIZED", "1", 1),
        ("NORMALIZED", "nan 1", 1),
    ],
)
def test_morphs_stand_as_their_weights_have_them(tmp_path, method, weights, top):
    """The square's third corner is at height 1 in the base shape (0 elsewhere), at 10 and -1 in two variants."""
    square = SQUARE.replace("1 1 0", "1 1 1")

    def variant(name: str, height: str) -> str:
        source = square.replace('"p"', f'"{name}p"').replace('#p"', f'#{name}p"').replace("1 1 1", f"1 1 {height}")
        return f'<geometry id="{name}"><mesh>{source.replace(chr(34) + "v" + chr(34), chr(34) + name + "v" + chr(34))}</mesh></geometry>'

    rest = f"""<library_geometries>{variant("up", "10")}{variant("down", "-1")}</library_geometries>
<library_controllers><controller id="c"><morph source="#g" method="{method}">
<source id="mt"><IDREF_array id="a" count="2">up down</IDREF_array></source>
<source id="mw"><float_array id="w" count="2">{weights}</float_array></source>
<targets><input semantic="MORPH_TARGET" source="#mt"/><input semantic="MORPH_WEIGHT" source="#mw"/></targets></morph></controller></library_controllers>"""
    path = dae(tmp_path, TRIANGLES, '<node><instance_controller url="#c"/></node>', rest)
    path.write_text(path.read_text().replace(SQUARE, square))
    scene = zo.read(path)
    assert scene.meshes[0].points[:, 2].max() == pytest.approx(top, abs=1e-6)
    words = "base shape is taken" if top == 1 else "as their weights have them"
    assert words in texts(scene.notes)


@pytest.mark.parametrize("kind", ["Name_array", "IDREF_array"])
def test_skins_stand_where_their_joints_hold_them(tmp_path, kind):
    # Point 1 hangs on b, point 2 half on each, point 3 on nothing that moves, point 4 on a. b stands 5 along X and is
    # turned a quarter about Z below a rig twice as large; both were bound at the origin.
    names = "a b" if kind == "Name_array" else "ja jb"
    rest = f"""<library_controllers><controller id="c"><skin source="#g">
<source id="j"><{kind} id="ja-a" count="2">{names}</{kind}></source>
<source id="i"><float_array id="ia" count="32">{"1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1 " * 2}</float_array></source>
<source id="w"><float_array id="wa" count="2">1 0.5</float_array></source>
<joints><input semantic="JOINT" source="#j"/><input semantic="INV_BIND_MATRIX" source="#i"/></joints>
<vertex_weights count="5"><input semantic="JOINT" source="#j" offset="0"/><input semantic="WEIGHT" source="#w" offset="1"/>
<vcount>1 1 2 1 1</vcount><v>0 0 1 0 0 1 1 1 -1 0 0 0</v></vertex_weights></skin></controller></library_controllers>"""
    nodes = """<node id="rig"><scale>2 2 2</scale><node id="ja" sid="a"/>
<node id="jb" sid="b"><translate>5 0 0</translate><rotate>0 0 1 90</rotate></node></node>
<node name="skin"><translate>9 9 9</translate><instance_controller url="#c"><skeleton>#rig</skeleton></instance_controller></node>"""
    scene = zo.read(dae(tmp_path, TRIANGLES, nodes, rest))
    placed = next(one for one in scene.walk() if one.node.name == "skin")
    points = placed.node.mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3]
    # 2 * (0,0,0); 2 * ((5,0,0) + turned (1,0,0)); the mean of 2 * (1,1,0) and 2 * ((5,0,0) + (-1,1,0)); (0,1,0) bound.
    assert np.allclose(points, [[0, 0, 0], [10, 2, 0], [5, 2, 0], [0, 1, 0]], atol=1e-12)
    assert "stand in the pose of their joints" in texts(scene.notes)
    lost = zo.read(dae(tmp_path, TRIANGLES, nodes, rest.replace(f">{names}<", ">a nobody<")))
    assert "stand in their bind pose" in texts(lost.notes)


def test_ids_that_two_geometries_share_mean_the_one_at_hand(tmp_path):
    other = f"""<library_geometries><geometry id="h" name="Other"><mesh>{SQUARE.replace(".5 .5 1", "9 9 9")}
<triangles count="1">{VERTEX}<p>0 1 4</p></triangles></mesh></geometry></library_geometries>"""
    nodes = '<node><instance_geometry url="#g"/></node><node><instance_geometry url="#h"/></node>'
    scene = zo.read(dae(tmp_path, f'<triangles count="1">{VERTEX}<p>0 1 4</p></triangles>', nodes, other))
    assert [node.mesh.points[2].tolist() for node in scene.roots] == [[0.5, 0.5, 1], [9, 9, 9]]


def test_lights_and_cameras_come_along(tmp_path):
    rest = """<library_lights><light id="l" name="lantern"><technique_common><spot><color>1 0.5 0</color><falloff_angle>60</falloff_angle></spot></technique_common></light>
<light id="amb"><technique_common><ambient><color>1 1 1</color></ambient></technique_common></light></library_lights>
<library_cameras><camera id="c" name="eye"><optics><technique_common><perspective><xfov>90</xfov><aspect_ratio>2</aspect_ratio><znear>0.5</znear></perspective></technique_common></optics></camera></library_cameras>"""
    nodes = '<node name="a"><instance_light url="#l"/></node><node name="b"><instance_camera url="#c"/></node><node name="d"><instance_light url="#amb"/></node><node><instance_geometry url="#g"/></node>'
    scene = zo.read(dae(tmp_path, TRIANGLES, nodes, rest))
    lamp, camera = scene.roots[0].content, scene.roots[1].content
    assert (lamp.kind, lamp.cone[1]) == ("spot", pytest.approx(math.radians(30)))
    assert lamp.color == pytest.approx(light(1.0, 0.5, 0.0))
    assert (camera.height, camera.near) == (pytest.approx(2 * math.atan(0.5)), 0.5)
    assert "ambient lights are left out" in texts(scene.notes)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "is empty"),
        ("not xml", "is not XML"),
        ("<html></html>", "no COLLADA: it begins with <html>"),
        ('<!DOCTYPE a [<!ENTITY x "y">]><COLLADA>&x;</COLLADA>', "declares XML entities"),
        ("<COLLADA>" + "<a>" * 5000 + "</a>" * 5000 + "</COLLADA>", "deeper than 200|is not XML"),
    ],
)
def test_what_is_no_collada_is_refused(tmp_path, text, message):
    (tmp_path / "a.dae").write_text(text)
    with pytest.raises(zo.InputError, match=message):
        zo.read(tmp_path / "a.dae")


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("0 2 3</p>", "0 2 99</p>", "1 face with fewer than three usable corners left out"),
        ("0 2 3</p>", "0 2 x</p>", "1 face with fewer than three usable corners left out"),
        ("0 0 0 1 0 0", "0 0 0 1.#QNAN 0 0", "1 face with fewer than three usable corners left out"),
        ('url="#g"', 'url="#nothing"', "geometry '#nothing' is not in the file"),
        ('url="#g"', 'url="other.dae#g"', "is in another file"),
        (".5 .5 1<", ".5 nan 1<", ""),
        ("</visual_scene>", "", "is not well-formed"),
        ('source="#pos-a"', 'source="#none"', "has no positions"),
    ],
)
def test_broken_files_are_read_as_far_as_they_go(tmp_path, old, new, words):
    path = dae(tmp_path, TRIANGLES)
    path.write_text(path.read_text().replace(old, new))
    assert words in texts(zo.read(path).notes)


def test_what_is_written_stands_where_the_schema_wants_it(tmp_path):
    from lxml import etree

    wood = Material(
        "wood a", two_sided=True, textures={"base_color": TextureUse(Texture("wood.png", data=timber()), uv_set=1)}
    )
    uv = Layer("uv", [[0, 0]], np.zeros(24, int))
    holes = Layer("normal", [[0, 0, 1]], np.where(np.arange(24) < 4, 0, -1))
    lamp = Light("lamp", "spot", direction=(0.0, -1.0, 0.0))
    eye = Camera("eye", direction=(1.0, 0.0, 0.0))
    nodes = (
        Node("outer & co", moved(1, 2, 3), (Node("box", content=cube(slots=(wood, None), face_slot=np.arange(6) % 2, layers=(uv, uv, holes))),)),
        Node("lamp", content=lamp), Node("eye", content=eye),
    )  # fmt: skip
    scene = zo.Scene(nodes, zo.Frame("forward right up", "cm"), "yard")
    notes = zo.write(scene, tmp_path / "out.dae")
    root = etree.parse(tmp_path / "out.dae").getroot()
    assert [etree.QName(one).localname for one in root] == [
        "asset", "library_cameras", "library_lights", "library_images", "library_materials", "library_effects",
        "library_geometries", "library_visual_scenes", "scene",
    ]  # fmt: skip
    space = {"c": "http://www.collada.org/2005/11/COLLADASchema"}
    assert root.findtext("c:asset/c:up_axis", namespaces=space) == "Z_UP"
    assert root.find("c:asset/c:unit", space).get("meter") == "0.01"
    ids = [one.get("id") for one in root.iter() if one.get("id")]
    assert len(set(ids)) == len(ids)
    for one in root.iter():
        url = one.get("url") or one.get("target") or (one.get("source") if one.tag.endswith("input") else None)
        assert url is None or url.removeprefix("#") in ids
    found = zo.read(tmp_path / "out.dae")
    assert [one.node.name for one in found.walk()] == ["outer & co", "box", "lamp", "lamp_aim", "eye", "eye_aim"]
    assert found.materials[0].textures["base_color"].uv_set == 1
    assert found.materials[0].two_sided
    assert volume(found.meshes[0]) == pytest.approx(1.0)
    assert "corners without normal" not in texts(notes)  # they are filled in
    meant = zo.apply(scene, zo.steps.Reframe(axes="left back up"))
    for kind in ("light", "camera"):
        aimed = [one for one in found.walk() if one.node.kind == kind]
        wanted = next(one for one in meant.walk() if one.node.kind == kind)
        assert np.allclose(aimed[0].world[:3, :3] @ [0, 0, -1], wanted.node.content.direction, atol=1e-6)


def test_instances_share_their_geometry(tmp_path):
    mesh = cube()
    zo.write(scene_of(Node("a", content=mesh), Node("b", moved(3, 0, 0), content=mesh)), tmp_path / "a.dae")
    assert (tmp_path / "a.dae").read_text().count("<geometry ") == 1
    assert len(zo.read(tmp_path / "a.dae").meshes) == 1


def test_collision_is_a_rigid_body_and_comes_back_as_collision(tmp_path):
    hull = Node("hull", moved(1, 0, 0), content=cube(name="low"), role="collision")
    path = tmp_path / "out.dae"
    zo.write(scene_of(cube(name="high"), hull), path)
    text = path.read_text()
    assert text.index("<instance_physics_scene") < text.index("<instance_visual_scene")
    assert '<instance_rigid_body body="hull-body" target="#hull">' in text
    assert [node.role for node in zo.read(path).roots] == ["visible", "collision"]


def test_a_rigid_body_of_another_shape_becomes_a_collision_mesh_below_its_node(tmp_path):
    shape = '<shape><instance_geometry url="#h"/></shape><shape><box><half_extents>1 1 1</half_extents></box></shape>'
    rest = f"""<library_geometries><geometry id="h" name="Low"><mesh>{SQUARE}{TRIANGLES}</mesh></geometry></library_geometries>
<library_physics_models><physics_model id="m"><rigid_body sid="b"><technique_common>{shape}</technique_common>
</rigid_body></physics_model></library_physics_models><library_physics_scenes><physics_scene id="p">
<instance_physics_model url="#m"><instance_rigid_body body="b" target="#n"><technique_common/></instance_rigid_body>
</instance_physics_model><technique_common/></physics_scene></library_physics_scenes>"""
    scene = zo.read(dae(tmp_path, TRIANGLES, rest=rest))
    assert [(one.node.name, one.node.role) for one in scene.walk()] == [
        ("Thing", "visible"),
        ("Thing_collision_1", "collision"),
    ]
    assert "physics shapes other than meshes" in texts(scene.notes)
