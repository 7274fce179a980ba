from __future__ import annotations

import io
import math
import re
import zipfile
from dataclasses import replace

import numpy as np
import pytest

import zesty_otter as zo
from build import cube, moved, scene_of, texts, volume
from receivers import polygons
from zesty_otter.demo.textures import timber
from zesty_otter.formats.usd.text import Asset, Target, UsdSyntaxError, parse
from zesty_otter.model import Camera, Layer, Light, Material, Node, Texture, TextureUse

pytestmark = pytest.mark.checked  # runs on kernels with bounds checked as well

HEAD = '#usda 1.0\n(\n    "made by hand"\n    metersPerUnit = 1\n    upAxis = "Y"\n)\n'
BOX = """
    point3f[] points = [(0,0,0),(1,0,0),(0,1,0),(1,1,0),(0,0,1),(1,0,1),(0,1,1),(1,1,1)]
    int[] faceVertexCounts = [4, 4, 4, 4, 4, 4]
    int[] faceVertexIndices = [0,2,3,1, 4,5,7,6, 0,1,5,4, 2,6,7,3, 0,4,6,2, 1,3,7,5]
    uniform token subdivisionScheme = "none"
"""


def usda(folder, text: str, name: str = "thing.usda", head: str = HEAD):
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(head + text)
    return path


def test_the_grammar_of_values():
    text = """#usda 1.0
(
    subLayers = [ @a.usda@ (offset = 1; scale = 2), @@@b@c.usda@@@ ]
    relocates = { </A>: </B>, </C>: <> }
    prefixSubstitutions = { "$Left": "Right" }
    customLayerData = { string who = "me"; dictionary deep = { int[] n = [1, 2] } }
)
# a comment
over "a" (
    doc = \"\"\"long "text"
over lines\"\"\"
    prepend references = [@x.usda@</R>, </Inner>]
    add apiSchemas = ["One"]
   ; variants = { string size = "large" }
    kind = "prop"
)
{
    custom bool flag = true
    string name = "a \\"quoted\\" \\n word"
    token[] words = ["one", 'two']
    float inf = inf
    double low = -1.5e-3
    matrix4d m = ( (1,0,0,0), (0,1,0,0), (0,0,1,0), (4,5,6,1) )
    asset file = @maps/wood.png@
    rel to = [</A>, <../B>]
    float x.timeSamples = { 1: 2.5, 2: None, }
    float y.connect = </A.outputs:r>
    float3[] nothing = None
    reorder properties = ["x"]
    variantSet "size" = { "large" { def "big" {} } "small" (kind = "x") { } }
}
"""
    root = parse(text.encode(), "here")
    prim = root.children["a"]
    assert root.meta["subLayers"] == [Asset("a.usda", "here"), Asset("b@c.usda", "here")]
    assert root.meta["customLayerData"]["deep"]["n"].tolist() == [1, 2]
    assert prim.meta["references"] == [Asset("x.usda", "here", "/R"), Target("/Inner")]
    values = {name: one.value for name, one in prim.properties.items()}
    assert (values["flag"], values["name"], values["words"]) == (True, 'a "quoted" \n word', ["one", "two"])
    assert (values["inf"], values["low"], values["nothing"]) == (math.inf, -0.0015, None)
    assert values["m"].tolist() == [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 4, 5, 6, 1]
    assert values["file"] == Asset("maps/wood.png", "here")
    assert prim.properties["to"].targets == ("/A", "../B")
    assert prim.properties["x"].samples == {1.0: 2.5, 2.0: None}
    assert prim.properties["y"].targets == ("/A.outputs:r",)
    assert list(prim.variants["size"]) == ["large", "small"]


@pytest.mark.parametrize(
    ("text", "message", "line"),
    [
        ("no", "does not begin with #usda", 1),
        ('#usda 1.0\ndef "a" {', "end of 'a' is missing", 2),
        ('#usda 1.0\n\ndef Mesh {}', "a text in quotes", 3),
        ('#usda 1.0\ndef "a" {\n float x = [1, 2\n}', "end of an array", 3),
        ('#usda 1.0\ndef "a" { float[] x = [1, two] }', "'two' is not a number", 2),
        *(
            (f'#usda 1.0\ndef "a" (\n)\n{{\n {statement}\n}}\n', message, 5)
            for statement, message in [
                ("int[] a = [3,,3]", "commas or brackets are wrong near '[3,,3]'"),
                ("int[] a = [,3]", "commas or brackets"),
                ("int[] a = [3 3]", "commas or brackets"),
                ("point3f[] a = [(1,2,3) (4,5,6)]", "commas or brackets"),
                ("point3f[] a = [1,2,3]", "commas or brackets"),
                ("float3 a = (1 2 3)", "commas or brackets"),
                ("matrix4d a = (1,0,0,0,0,1,0,0,0,0,1,0,0,0,0,1)", "commas or brackets"),
                ('string[] a = ["b" "c"]', "one comma is expected before '\"c\"]'"),
                ("string a = b", "'b' is no value of type string"),
                ('asset a = "b.png"', "no value of type asset"),
                ("bool a = maybe", "'maybe' is no value of type bool"),
                ("float a = true", "no value of type float"),
                ("int a = 1.5", "no value of type int"),
                ("uchar a = 300", "no value of type uchar"),
                ("int a = 1 int b = 2", "a new line is expected before 'int b = 2'"),
                ("int a = 1, int b = 2", "a comma has no place here"),
                ("int a.connect = 3", "a path is expected"),
                ("int a = 1 (doc)", "'=' is expected"),
                ('int a = 1 (doc = "b" hidden = true)', "a new line is expected before 'hidden = true)'"),
                ('def "b" {} def "b" {}', "'b' is there twice"),
            ]
        ),
        ("#usda 1.0\n" + 'def "a" { ' * 400, "nest deeper than 200", 2),
        ('#usda 1.0\ndef "a" { x }', "a name is expected", 2),
    ],
)  # fmt: skip
def test_mistakes_are_named_with_their_line(text, message, line):
    with pytest.raises(UsdSyntaxError, match=re.escape(message)) as caught:
        parse(text.encode())
    assert caught.value.line == line


def test_brackets_behind_a_file_are_its_metadata_unless_they_shift_time():
    text = '#usda 1.0\ndef "a" (\n references = @b.usda@</B> (offset = 2)\n)\n{\n asset f = @x.png@ (\n doc = "a (b)"\n)\n}'
    prim = parse(text.encode()).children["a"]
    assert prim.meta["references"] == Asset("b.usda", "", "/B")
    assert (prim.properties["f"].value, prim.properties["f"].meta) == (Asset("x.png"), {"doc": "a (b)"})


@pytest.mark.parametrize(
    ("head", "axes", "unit"),
    [
        ("#usda 1.0\n", "left up forward", 0.01),
        ('#usda 1.0\n(\n upAxis = "Z"\n metersPerUnit = 0.0254\n)\n', "left back up", 0.0254),
    ],
)
def test_unit_and_up_axis(tmp_path, head, axes, unit):
    scene = zo.read(usda(tmp_path, f'def Mesh "box" {{{BOX}}}', head=head))
    assert (" ".join(scene.frame.axes), scene.frame.unit) == (axes, unit)
    assert ("does not say its unit" in texts(scene.notes)) == (unit == 0.01)


PRIMVARS = [
    ('float2[] primvars:st = [(0.5, 0.25)] (interpolation = "constant")', lambda c: [[0.5, 0.25]] * 24),
    ('texCoord2f[] primvars:st = [(0,0),(1,0),(2,0),(3,0),(4,0),(5,0)] (interpolation = "uniform")', lambda c: [[k // 4, 0] for k in range(24)]),
    ("texCoord2f[] primvars:st = [(0,0),(1,0),(2,0),(3,0),(4,0),(5,0),(6,0),(7,0)] (interpolation = \"vertex\")", lambda c: [[k, 0] for k in c]),
    (
        'texCoord2f[] primvars:st = [(9,0),(8,0)] (interpolation = "faceVarying")\nint[] primvars:st:indices = [' + ",".join("01" * 12) + "]",
        lambda c: [[9 - k % 2, 0] for k in range(24)],
    ),
    ('texCoord2f[] primvars:st = [' + ",".join(f"({k % 3},0)" for k in range(24)) + "]", lambda c: [[k % 3, 0] for k in range(24)]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "expected"), PRIMVARS)
def test_primvars_of_every_interpolation(tmp_path, text, expected):
    mesh = zo.read(usda(tmp_path, f'def Mesh "box" {{{BOX}\n{text}\n}}')).meshes[0]
    assert mesh.uv_sets[0].at_corners().tolist() == expected(mesh.corner_point.tolist())
    assert volume(mesh) == pytest.approx(1)


@pytest.mark.parametrize(("count", "each"), [(8, lambda c: c), (24, lambda c: list(range(24)))])
def test_normals_without_interpolation_are_told_from_their_number(tmp_path, count, each):
    rows = ",".join(f"({k + 1},0,1)" for k in range(count))
    mesh = zo.read(usda(tmp_path, f'def Mesh "box" {{{BOX}\nnormal3f[] normals = [{rows}]\n}}')).meshes[0]
    found = mesh.normals.at_corners()
    assert np.rint(found[:, 0] / found[:, 2]).tolist() == [k + 1 for k in each(mesh.corner_point.tolist())]


def test_meshes_with_everything(tmp_path):
    more = f"""
    uniform token orientation = "leftHanded"
    uniform bool doubleSided = 1
    int[] holeIndices = [5]
    normal3f[] normals = [{",".join(["(0,0,1)"] * 8)}] (interpolation = "vertex")
    normal3f[] primvars:normals = [(0,1,0)] (interpolation = "constant")
    color3f[] primvars:displayColor = [{",".join(f"({k / 10},0,0)" for k in range(8))}] (interpolation = "vertex")
    texCoord2f[] primvars:light = [{",".join("(0,0)" for k in range(24))}] (interpolation = "faceVarying")
    float[] primvars:heat = [1]
    rel material:binding = </Looks/a>
    def GeomSubset "lid" {{ uniform token elementType = "face"; int[] indices = [3, 1]; rel material:binding = </Looks/b> }}
    """
    looks = 'def Scope "Looks" { def Material "a" {} def Material "b" {} }'
    text = BOX.replace('uniform token subdivisionScheme = "none"', "")
    scene = zo.read(usda(tmp_path, f'def Mesh "box" {{{text}{more}}}\n{looks}'))
    mesh = scene.meshes[0]
    assert mesh.face_count == 5
    assert mesh.normals.at_corners()[0].tolist() == [0, 1, 0]
    assert len(mesh.uv_sets) == 1
    assert [slot.name for slot in mesh.slots] == ["b", "a"]
    assert mesh.face_slot.tolist() == [1, 0, 1, 0, 1]
    assert all(slot.two_sided for slot in mesh.slots)
    assert mesh.layers_of("color")[0].values.shape == (8, 3)
    for words in ("taken as their cage", "primvars not carried: heat", "has no preview surface"):
        assert words in texts(scene.notes)


@pytest.mark.parametrize(
    ("ops", "point"),
    [
        ("double3 xformOp:translate = (1, 2, 3)\nuniform token[] xformOpOrder = [\"xformOp:translate\"]", [2, 2, 3]),
        ("float xformOp:rotateZ = 90\ndouble3 xformOp:translate = (1, 0, 0)\nuniform token[] xformOpOrder = [\"xformOp:translate\", \"xformOp:rotateZ\"]", [1, 1, 0]),
        ("float xformOp:rotateZ = 90\ndouble3 xformOp:translate = (1, 0, 0)\nuniform token[] xformOpOrder = [\"xformOp:rotateZ\", \"xformOp:translate\"]", [0, 2, 0]),
        ("float3 xformOp:rotateXYZ = (90, 0, 90)\nuniform token[] xformOpOrder = [\"xformOp:rotateXYZ\"]", [0, 1, 0]),
        ("float3 xformOp:rotateZYX = (90, 0, 90)\nuniform token[] xformOpOrder = [\"xformOp:rotateZYX\"]", [0, 0, 1]),
        ("quatf xformOp:orient = (0.70710678, 0, 0, 0.70710678)\nuniform token[] xformOpOrder = [\"xformOp:orient\"]", [0, 1, 0]),
        ("matrix4d xformOp:transform = ((0,1,0,0),(-1,0,0,0),(0,0,1,0),(5,0,0,1))\nuniform token[] xformOpOrder = [\"xformOp:transform\"]", [5, 1, 0]),
        ("float3 xformOp:scale = (2,2,2)\ndouble3 xformOp:translate:pivot = (1,0,0)\nuniform token[] xformOpOrder = [\"xformOp:translate:pivot\", \"xformOp:scale\", \"!invert!xformOp:translate:pivot\"]", [1, 0, 0]),
        ("double3 xformOp:translate = (9, 9, 9)", [1, 0, 0]),
    ],
)  # fmt: skip
def test_transform_operations_in_order(tmp_path, ops, point):
    scene = zo.read(usda(tmp_path, f'def Xform "a" {{\n{ops}\ndef Mesh "box" {{{BOX}}}\n}}'))
    assert np.allclose((scene.roots[0].transform @ [1, 0, 0, 1])[:3], point, atol=1e-6)


def test_a_reset_stack_forgets_its_parents(tmp_path):
    ops = 'double3 xformOp:translate = (1, 0, 0)\nuniform token[] xformOpOrder = [{}"xformOp:translate"]'
    text = f'def Xform "a" {{ {ops.format("")}\n def Mesh "box" {{ {ops.format(chr(34) + "!resetXformStack!" + chr(34) + ", ")}\n{BOX} }} }}'
    placed = list(zo.read(usda(tmp_path, text)).walk())
    assert placed[1].world[:3, 3].tolist() == [1, 0, 0]


def test_layers_are_composed_in_their_order_of_strength(tmp_path):
    usda(
        tmp_path,
        f'def Xform "Post" (variants = {{ string size = "small" }}) {{ variantSet "size" = {{ "small" {{ double3 xformOp:translate = (1,0,0) }} "tall" {{ double3 xformOp:translate = (2,0,0) }} }}\n uniform token[] xformOpOrder = ["xformOp:translate"]\n def Mesh "box" {{{BOX} rel material:binding = </Post/Looks/wood> }} def Scope "Looks" {{ def Material "wood" {{}} }} }}',
        "parts/post.usda",
    )
    usda(
        tmp_path,
        'over "far" { double3 xformOp:translate = (7,0,0) }\ndef Xform "extra" (payload = @parts/post.usda@</Post>) {}',
        "weak.usda",
    )
    text = """
class "_base" { custom string note = "x"; token visibility = "invisible" }
def "near" (prepend references = @parts/post.usda@</Post>) {}
def "far" (references = @./parts/post.usda@</Post>; variants = { string size = "tall" }) {}
def "shy" (inherits = </_base>; instanceable = true; references = @parts/post.usda@</Post>) {}
over "nobody" { def Mesh "x" {} }
def "gone" (active = false) { }
def "lost" (references = @nowhere.usda@) {}
"""
    path = usda(tmp_path, text, head="#usda 1.0\n(subLayers = [@weak.usda@]; metersPerUnit = 1)\n")
    scene = zo.read(path)
    nodes = {one.path: one for one in scene.walk()}
    assert set(nodes) == {
        ("near",),
        ("near", "box"),
        ("far",),
        ("far", "box"),
        ("extra",),
        ("extra", "box"),
        ("shy",),
        ("shy", "box"),
        ("lost",),
    }
    places = {name: nodes[(name,)].world[0, 3] for name in ("near", "far", "extra")}
    # A sublayer's opinion is weaker than this layer's own, but stronger than what a reference brings.
    assert places == {"near": 1.0, "far": 7.0, "extra": 1.0}
    assert not nodes[("shy", "box")].visible
    assert len(scene.meshes) == 1
    assert all(one.node.mesh.slots[0].name == "wood" for one in scene.walk() if one.node.mesh)
    assert "'nowhere.usda' is not to be had" in texts(scene.notes)
    assert {one.name for one in scene.read_files} == {"weak.usda", "post.usda"}


def test_variants_that_are_not_chosen_are_taken_in_order_and_said(tmp_path):
    text = f'def "a" {{ variantSet "look" = {{ "one" {{ def Mesh "box" {{{BOX}}} }} "two" {{}} }} }}'
    scene = zo.read(usda(tmp_path, text))
    assert [one.node.name for one in scene.walk()] == ["a", "box"]
    assert "no variant of 'look' is chosen" in texts(scene.notes)


def test_references_in_circles_and_bombs_are_refused(tmp_path):
    usda(tmp_path, 'def "a" (references = @thing.usda@</a>) {}')
    with pytest.raises(zo.InputError, match="recursively"):
        zo.read(tmp_path / "thing.usda")
    bomb = "\n".join(
        f'def "l{n}" {{ def "x" (references = </l{n + 1}>) {{}} def "y" (references = </l{n + 1}>) {{}} }}'
        for n in range(30)
    )
    usda(tmp_path, f'{bomb}\ndef "l30" {{}}', "bomb.usda")
    with pytest.raises(zo.InputError, match=r"too many prims|recursively"):
        zo.read(tmp_path / "bomb.usda")


def test_point_instancers_are_scatters_of_their_prototypes(tmp_path):
    text = f"""def PointInstancer "buoys" {{
    int[] protoIndices = [0, 0, 1, 5]
    point3f[] positions = [(0,0,0),(4,0,0),(8,0,0),(9,9,9)]
    quath[] orientations = [(1,0,0,0),(0,0,1,0),(1,0,0,0),(1,0,0,0)]
    float3[] scales = [(1,1,1),(2,2,2),(1,1,1),(1,1,1)]
    rel prototypes = [</buoys/p/red>, </buoys/p/blue>]
    def "p" {{ def Mesh "red" {{{BOX}}} def Mesh "blue" {{{BOX}}} }}
}}"""
    scene = zo.read(usda(tmp_path, text))
    (buoys,) = scene.roots
    assert [(node.name, node.content.count) for node in buoys.children] == [("red", 2), ("blue", 1)]
    scene, _ = zo.model.expanded(scene)
    assert [one.path[1:] for one in scene.walk()][2:4] == [("red", "red_1"), ("red", "red_2")]
    second = scene.roots[0].children[0].children[1]
    assert np.allclose(zo.Scene((second,), scene.frame).bounds(), [[2, 0, -2], [4, 2, 0]])


MATERIAL = """
def Scope "Looks" {
  def Material "wood" {
    token outputs:surface.connect = </Looks/wood/s.outputs:surface>
    color3f inputs:tint = (1, 0.5, 0)
    def Shader "s" {
      uniform token info:id = "UsdPreviewSurface"
      color3f inputs:diffuseColor.connect = </Looks/wood/t.outputs:rgb>
      color3f inputs:emissiveColor.connect = </Looks/wood.inputs:tint>
      float inputs:roughness = 0.25
      float inputs:metallic.connect = </Looks/wood/t.outputs:b>
      float inputs:opacity.connect = </Looks/wood/t.outputs:a>
      float inputs:opacityThreshold = 0.4
      token outputs:surface
    }
    def Shader "t" {
      uniform token info:id = "UsdUVTexture"
      asset inputs:file = @maps/wood.png@
      token inputs:wrapS = "clamp"
      float2 inputs:st.connect = </Looks/wood/place.outputs:result>
    }
    def Shader "place" { uniform token info:id = "UsdTransform2d"; float2 inputs:scale = (2, 3); float2 inputs:in.connect = </Looks/wood/r.outputs:result> }
    def Shader "r" { uniform token info:id = "UsdPrimvarReader_float2"; string inputs:varname = "second" }
  }
}
"""


def test_uvs_whose_name_is_no_text_are_the_first_ones(tmp_path):
    (tmp_path / "maps").mkdir()
    (tmp_path / "maps" / "wood.png").write_bytes(timber())
    odd = MATERIAL.replace('string inputs:varname = "second"', "float[] inputs:varname = [1, 2]")
    uvs = 'texCoord2f[] primvars:st = [(0,0)] (interpolation = "constant")\n'
    text = f'def Xform "x" {{ rel material:binding = </Looks/wood>\n def Mesh "box" {{{BOX}{uvs}}} }}{odd}'
    assert zo.read(usda(tmp_path, text)).materials[0].textures["base_color"].uv_set == 0


def test_preview_surfaces_are_followed_through_their_networks(tmp_path):
    (tmp_path / "maps").mkdir()
    (tmp_path / "maps" / "wood.png").write_bytes(timber())
    uvs = "".join(f'texCoord2f[] primvars:{name} = [(0,0)] (interpolation = "constant")\n' for name in ("second", "st"))
    scene = zo.read(
        usda(
            tmp_path,
            f'def Xform "x" {{ rel material:binding = </Looks/wood>\n def Mesh "box" {{{BOX}{uvs}}} }}{MATERIAL}',
        )
    )
    (material,) = scene.materials
    color = material.textures["base_color"]
    assert (material.roughness, material.emissive) == (0.25, (1.0, 0.5, 0.0))
    assert (material.alpha_mode, material.alpha_cutoff) == ("mask", 0.4)
    assert (color.texture.path, color.scale, color.clamp, color.uv_set) == (
        tmp_path / "maps" / "wood.png",
        (2, 3),
        True,
        1,
    )
    assert (material.textures["metallic"].channel, material.textures["alpha"].channel) == ("b", "a")


@pytest.mark.parametrize(
    ("lamp", "candela"),
    [
        ('SphereLight "a" { float inputs:intensity = 8; float inputs:radius = 0.5 }', 8 * math.pi * 0.5**2),
        ('SphereLight "a" { float inputs:intensity = 8; bool inputs:normalize = 1 }', 2.0),
        ('DiskLight "a" { float inputs:intensity = 8; float inputs:radius = 1 }', 8 * math.pi),
        ('DiskLight "a" { float inputs:intensity = 8; bool inputs:normalize = true }', 8.0),
        ('RectLight "a" { float inputs:intensity = 8; float inputs:width = 2; float inputs:height = 0.5 }', 8.0),
        ('DistantLight "a" { float inputs:intensity = 8; bool inputs:normalize = 1 }', 8.0),
        ('DistantLight "a" { }', 50_000 * math.pi * math.sin(math.radians(0.265)) ** 2),
    ],
)
def test_light_is_read_as_intensity_whatever_it_shines_from(tmp_path, lamp, candela):
    (node,) = zo.read(usda(tmp_path, f"def {lamp}")).roots
    assert node.content.intensity == pytest.approx(candela)


def test_lights_cameras_solids_roles_and_strangers(tmp_path):
    text = """
def Cube "c" { double size = 4 }
def Cylinder "y" { double radius = 1; double height = 4; uniform token axis = "X" }
def DistantLight "sun" { float inputs:intensity = 2; float inputs:exposure = 1; color3f inputs:color = (1, 0.5, 0) }
def Camera "eye" { float focalLength = 50; float verticalAperture = 100; float horizontalAperture = 200; float2 clippingRange = (0.5, 90) }
def DomeLight "sky" {}
def BasisCurves "rope" {}
def SkelRoot "s" { def Skeleton "k" {} }
def Cube "proxy" { uniform token purpose = "proxy" }
def Cube "solid" (prepend apiSchemas = ["PhysicsCollisionAPI"]; customData = { int mass = 3; string kind = "oak" }) {}
"""
    scene = zo.read(usda(tmp_path, text))
    nodes = {node.name: node for node in scene.roots}
    assert np.ptp(nodes["c"].mesh.surface_bounds, axis=0).tolist() == [4, 4, 4]
    assert np.allclose(np.ptp(nodes["y"].mesh.surface_bounds, axis=0), [4, 2, 2])
    assert volume(nodes["y"].mesh) == pytest.approx(4 * math.pi, rel=0.01)
    # A luminance of 2 x 2^1 from a disc of 0.53 degrees.
    solid_angle = math.pi * math.sin(math.radians(0.265)) ** 2
    assert nodes["sun"].content.intensity == pytest.approx(4.0 * solid_angle)
    assert nodes["sun"].content.kind == "directional"
    assert nodes["eye"].content.height == pytest.approx(math.pi / 2)
    assert (nodes["proxy"].role, nodes["solid"].role) == ("stand-in", "collision")
    assert dict(nodes["solid"].properties) == {"mass": 3, "kind": "oak"}
    for words in ("DomeLight /sky is not carried", "BasisCurves /rope is not carried", "skeletons are left out"):
        assert words in texts(scene.notes)


@pytest.mark.parametrize(
    "op", ["rotateX = nan", "rotateXYZ = (0, inf, 0)", "translate = (nan, 0, 0)", "scale = (1, inf, 1)"]
)
def test_transforms_without_sense_are_left_out_and_said(tmp_path, op):
    kind = "double" if op.startswith("rotateX =") else "double3"
    name = f"xformOp:{op.partition(' ')[0]}"
    text = f'def Cube "c" {{ {kind} xformOp:{op}; uniform token[] xformOpOrder = ["{name}"] }}'
    scene = zo.read(usda(tmp_path, text))
    assert np.array_equal(scene.roots[0].transform, np.eye(4)) and f"{name} cannot be read" in texts(scene.notes)


@pytest.mark.parametrize("end", ["usda", "usdc"])
def test_physical_shapes_that_are_alike_are_written_once(tmp_path, end):
    shape = cube(name="block", slots=(Material("steel"),))
    kids = [Node(name, moved(at, 0, 0), content=shape, role="collision") for at, name in enumerate("abc")]
    with_more = replace(kids[0], name="d", children=(Node("grip", content=cube(name="grip")),))
    scene = scene_of(Node("a", content=shape), Node("b", content=shape), *kids, with_more)
    zo.write(scene, tmp_path / f"s.{end}")
    back = zo.read(tmp_path / f"s.{end}")
    assert len(back.meshes) == {"usda": 3, "usdc": 2}[end] and len(list(back.nodes(role="collision"))) == 4
    assert zo.audit.arrived(scene, tmp_path / f"s.{end}").problems == ()
    assert len([one for one in back.materials if one.name == "steel"]) == 1
    if end == "usda":
        text = (tmp_path / "s.usda").read_text()
        # One that is seen, one that is touched, and the grip.
        assert text.count("point3f[] points") == 3 and text.count('"PhysicsCollisionAPI"') == 4
        assert len(list(polygons(tmp_path / "s.usda"))) == 42


def test_copies_are_written_plain_for_readers_that_know_no_references(tmp_path, run):
    shared = cube(name="crate", slots=(Material("oak"),))
    scene = scene_of(Node("a", content=shared), Node("b", moved(3, 0, 0), (Node("lid", moved(0, 1, 0)),), shared))
    zo.write(scene, tmp_path / "a.usda")
    zo.write(scene, tmp_path / "b.usda", copies="plain")
    assert "instanceable" in (tmp_path / "a.usda").read_text()
    text = (tmp_path / "b.usda").read_text()
    assert "references" not in text and "instanceable" not in text and text.count("point3f[] points") == 2
    assert zo.audit.arrived(scene, tmp_path / "b.usda").problems == ()
    assert run("convert", tmp_path / "a.usda", tmp_path / "c.usda", "--writing", "copies=plain").status == 0
    assert (tmp_path / "c.usda").read_text().count("point3f[] points") == 2
    for given, words in (
        ("copies=some", "cannot be 'some'. Say instances or plain"),
        ("copy=plain", "Did you mean 'copies'"),
        ("plain", "KEY=VALUE|=VALUE"),
    ):
        wrong = run("convert", tmp_path / "a.usda", tmp_path / "d.usda", "--writing", given)
        assert (
            wrong.status == 2 and re.search(words, " ".join(wrong.err.split())) and not (tmp_path / "d.usda").exists()
        )
    (tmp_path / "job.toml").write_text(
        '[[sources]]\nfiles = "a.usda"\n[[outputs]]\nformats = ["usda", "glb"]\nfolder = "out"\nwriting = { copies = "plain" }\n'
    )
    assert run("run", tmp_path / "job.toml").status == 0
    assert "instanceable" not in next(tmp_path.rglob("out/**/a.usda")).read_text()
    (tmp_path / "job.toml").write_text((tmp_path / "job.toml").read_text().replace("copies", "copiez"))
    wrong = run("run", tmp_path / "job.toml")
    assert wrong.status == 2 and "none of its formats has the setting 'copiez'" in " ".join(wrong.err.split())


def packed(path, files: dict[str, bytes], method: int = zipfile.ZIP_STORED):
    with zipfile.ZipFile(path, "w", method) as archive:
        for name, content in files.items():
            archive.writestr(name, content)
    return path


def test_packages_hold_layers_and_textures(tmp_path):
    scene_text = (
        f'{HEAD}def Mesh "box" (references = @./parts/a.usda@</a>) {{ rel material:binding = </Looks/wood> }}{MATERIAL}'
    )
    files = {
        "root.usda": scene_text.encode(),
        "parts/a.usda": f'{HEAD}def Mesh "a" {{{BOX}}}'.encode(),
        "maps/wood.png": timber(),
    }
    scene = zo.read(packed(tmp_path / "a.usdz", files))
    assert scene.materials[0].textures["base_color"].texture.data == timber()
    assert scene.meshes[0].face_count == 6


@pytest.mark.parametrize(
    ("files", "message"),
    [
        ({"a.txt": b""}, "without a USD layer"),
        ({"a.usdc": b"PXR-USDC........"}, "is not sound binary USD"),
        ({"../a.usda": b"#usda 1.0"}, "leads out of the package"),
        ({"a.usda": b"#usda 1.0\nbroken"}, "a name is expected"),
        ({"a.usda": b"#usda 1.0\n" + bytes(300_000_000)}, "would grow to"),
    ],
)
def test_packages_that_cannot_be_trusted_are_refused(tmp_path, files, message):
    path = packed(tmp_path / "a.usdz", files, zipfile.ZIP_DEFLATED)
    with pytest.raises(zo.InputError, match=message):
        zo.read(path)


def test_binary_layers_and_broken_packages_are_named(tmp_path):
    for ending in (".usd", ".usdc"):
        (tmp_path / f"a{ending}").write_bytes(b"PXR-USDC" + bytes(80))
        with pytest.raises(
            zo.InputError, match=r"is not sound binary USD: version 0.0.0 is not known. Export it again"
        ):
            zo.read(tmp_path / f"a{ending}")
    (tmp_path / "b.usdz").write_bytes(b"PK\3\4 and nothing more")
    with pytest.raises(zo.InputError, match="that can be opened"):
        zo.read(tmp_path / "b.usdz")


def test_written_packages_are_aligned_and_stored(tmp_path):
    wood = Material("wood", textures={"base_color": TextureUse(Texture("wood.png", data=timber()))})
    zo.write(scene_of(cube(slots=(wood,))), tmp_path / "a.usdz")
    raw = (tmp_path / "a.usdz").read_bytes()
    with zipfile.ZipFile(io.BytesIO(raw)) as archive:
        assert archive.testzip() is None
        entries = archive.infolist()
    assert [one.filename for one in entries] == ["a.usdc", "a_textures/wood.png"]
    for one in entries:
        size = int.from_bytes(raw[one.header_offset + 26 : one.header_offset + 28], "little")
        extra = int.from_bytes(raw[one.header_offset + 28 : one.header_offset + 30], "little")
        assert (one.header_offset + 30 + size + extra) % 64 == 0
        assert one.compress_type == zipfile.ZIP_STORED


def test_roles_properties_names_and_instances_come_back(tmp_path):
    mesh = cube()
    solid = Node(
        "solid",
        content=cube(name="s"),
        role="collision",
        properties={"mass": 2.5, "tag": 'a "b"', "on": True, "half": [1, 2.5], "odd": {"a": 1}},
    )
    lamp = Node("lamp", moved(1, 0, 0), content=Light("lamp", "spot", direction=(0.0, -1.0, 0.0)))
    eye = Node("eye", content=Camera("eye", direction=(1.0, 0.0, 0.0), height=1.0))
    scene = scene_of(
        Node("Pöller 1", content=mesh),
        Node("Pöller 1", moved(3, 0, 0), content=mesh),
        solid,
        lamp,
        eye,
        Node("gone", content=cube(name="g"), visible=False),
    )
    notes = zo.write(scene, tmp_path / "a.usda")
    text = (tmp_path / "a.usda").read_text()
    assert text.count("point3f[] points") == 3
    assert "PhysicsCollisionAPI" in text
    found = zo.read(tmp_path / "a.usda")
    assert [node.name for node in found.roots] == ["Pöller 1", "Pöller 1", "solid", "lamp", "eye", "gone"]
    assert found.roots[0].mesh is found.roots[1].mesh
    assert found.roots[1].transform[:3, 3].tolist() == [3, 0, 0]
    assert (found.roots[2].role, dict(found.roots[2].properties)) == (
        "collision",
        {"mass": 2.5, "tag": 'a "b"', "on": True, "half": [1.0, 2.5]},
    )
    assert np.allclose(found.roots[3].transform[:3, :3] @ [0, 0, -1], [0, -1, 0], atol=1e-7)
    assert found.roots[4].content.height == pytest.approx(1.0)
    assert not found.roots[5].visible
    assert "property 'odd'" in texts(notes)


def test_every_kind_of_layer_is_written_with_its_interpolation(tmp_path):
    hard = Layer("normal", np.eye(3), np.arange(24) % 3)
    soft = Layer("color", np.linspace(0, 1, 32).reshape(8, 4), cube().corner_point)
    holes = Layer("uv", [[0.5, 0.5]], np.where(np.arange(24) < 4, -1, 0))
    notes = zo.write(scene_of(cube(layers=(hard, soft, holes))), tmp_path / "a.usda")
    mesh = zo.read(tmp_path / "a.usda").meshes[0]
    assert np.array_equal(mesh.normals.at_corners(), np.eye(3)[np.arange(24) % 3])
    assert len(mesh.normals.values) == 24 or len(mesh.normals.values) == 3
    assert np.allclose(mesh.layers_of("color")[0].values, soft.values)
    assert mesh.uv_sets[0].at_corners()[0].tolist() == [0, 0]
    assert "corners without uv get zeros" in texts(notes)


SKIN = """
def SkelRoot "root" { rel skel:skeleton = </root/bones>
  def Skeleton "bones" {
    double3 xformOp:scale = (2, 2, 2); uniform token[] xformOpOrder = ["xformOp:scale"]
    uniform token[] joints = ["a", "a/b"]
    uniform matrix4d[] bindTransforms = [((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,0,0,1)), ((1,0,0,0),(0,1,0,0),(0,0,1,0),(1,0,0,1))]
    uniform matrix4d[] restTransforms = [((1,0,0,0),(0,1,0,0),(0,0,1,0),(0,3,0,1)), ((0,1,0,0),(-1,0,0,0),(0,0,1,0),(5,0,0,1))]
    %s
  }
  def SkelAnimation "still" { uniform token[] joints = ["a/b"]
    float3[] translations.timeSamples = { 1: [(7, 0, 0)], 2: [(8, 0, 0)] }
    quatf[] rotations = [(1, 0, 0, 0)]; half3[] scales = [(1, 1, 1)] }
  def Mesh "skin" { point3f[] points = [(0,0,0),(2,0,0),(2,1,0)]; int[] faceVertexCounts = [3]; int[] faceVertexIndices = [0,1,2]
    uniform token subdivisionScheme = "none"; normal3f[] normals = [(0,1,0)] (interpolation = "constant")
    double3 xformOp:translate = (9, 9, 9); uniform token[] xformOpOrder = ["xformOp:translate"]
    int[] primvars:skel:jointIndices = [0,0, 1,0, 0,1] (elementSize = 2; interpolation = "vertex")
    float[] primvars:skel:jointWeights = [1,0, 1,0, 0.5,0.5] (elementSize = 2; interpolation = "vertex")
  }
}
"""


@pytest.mark.parametrize(
    ("source", "expected"),
    [
        # b rests at (5, 3), turned a quarter: (2, 0) was 1 along X from it.
        ("", [[0, 6, 0], [10, 8, 0], [6, 8, 0]]),
        ("rel skel:animationSource = </root/still>", [[0, 6, 0], [16, 6, 0], [10, 8, 0]]),
    ],
)
def test_skins_stand_where_their_skeleton_holds_them(tmp_path, source, expected):
    scene = zo.read(usda(tmp_path, SKIN % source))
    placed = next(one for one in scene.walk() if one.node.name == "skin")
    points = placed.node.mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3]
    assert np.allclose(points, expected, atol=1e-12)
    normal = placed.node.mesh.normals.at_corners()[1]
    assert np.allclose(normal, [0, 1, 0] if source else [-1, 0, 0], atol=1e-6)
    assert "stand in the pose of their skeleton" in texts(scene.notes)
    # A joint that is not there.
    lost = zo.read(usda(tmp_path, SKIN.replace("= [0,0, 1,0", "= [0,0, 2,0") % source))
    assert "stand as modelled" in texts(lost.notes)


@pytest.mark.parametrize(
    ("text", "size", "content"),
    [
        ('Plane "a" { double width = 4; double length = 6 }', (4, 6, 0), None),
        ('Plane "a" { double width = 4; double length = 6; uniform token axis = "X" }', (0, 6, 4), None),
        ('Plane "a" { double width = 4; double length = 6; uniform token axis = "Y" }', (4, 0, 6), None),
        (
            'Capsule "a" { double radius = 1; double height = 3; uniform token axis = "X" }',
            (5, 2, 2),
            math.pi * (3 + 4 / 3),
        ),
        ('Capsule "a" {}', (1, 1, 2), math.pi * (0.25 + 0.5 / 3)),
        ('Cone "a" { double radius = 1; double height = 3; uniform token axis = "Y" }', (2, 3, 2), math.pi),
    ],
)
def test_simple_solids_stand_along_their_axis(tmp_path, text, size, content):
    mesh = zo.read(usda(tmp_path, f"def {text}")).meshes[0]
    assert np.allclose(np.ptp(mesh.surface_bounds, axis=0), size, atol=1e-6)
    if content is not None:
        assert volume(mesh) == pytest.approx(content, rel=0.03)
    else:
        corner = mesh.points[mesh.corner_point[:3]]
        assert np.cross(corner[1] - corner[0], corner[2] - corner[1])[size.index(0)] > 0


def test_comments_in_arrays_are_no_numbers(tmp_path):
    text = BOX.replace("(1,0,0),(0,1,0)", "(1,0,0), # right ] 9\n // more 7\n (0,1,0) /* 8 ] */").replace(
        "4, 4, 4]", "4, # ]\n 4, 4]"
    )
    mesh = zo.read(usda(tmp_path, f'def Mesh "a" {{ {text} }}')).meshes[0]
    assert mesh.face_count == 6 and volume(mesh) == pytest.approx(1)


@pytest.mark.parametrize(
    "text",
    [
        'def Xform "a b" {}', 'def Xform "1a" {}', 'def Xform "" {}', 'def Mesh "a" { point3f[] points = [(0,0,0),(1,0)] }',
        'def Mesh "a" { point3f[] points = (0,0,0) }', 'def Xform "a" { double x = "one" }', 'def Xform "a" { float3 x = (1,2) }',
        'def Xform "a" { float x = [1] }', 'def Xform "a" { matrix4d x = ((1,0,0,0),(0,1,0,0)) }',
        'def Xform "a" { float2 x.timeSamples = { 1: (1,2,3) } }',
    ],
)  # fmt: skip
def test_values_that_are_not_of_their_type_are_refused_with_their_line(tmp_path, text):
    with pytest.raises(zo.InputError, match="line 8"):
        zo.read(usda(tmp_path, "\n" + text))


def test_another_version_of_the_text_is_refused(tmp_path):
    with pytest.raises(zo.InputError, match="version 2 of this text is not known"):
        zo.read(usda(tmp_path, "", head="#usda 2.0\n"))


def prims_in(text: str) -> dict[str, str]:
    """The type of every prim of a layer by its path, from nothing but the indentation of its text."""
    found, open_names = {}, []
    for line in text.splitlines():
        head = re.match(r'( *)(def|class) (\w* ?)"(\w+)"', line)
        if head:
            open_names = [*open_names[: len(head[1]) // 4], head[4]]
            found["/" + "/".join(open_names)] = head[3].strip()
    return found


def test_all_of_a_file_is_inside_its_one_root_and_nothing_drawn_is_below_another(tmp_path):
    oak, tar = Material("oak"), Material("tar")
    post = cube((0.2, 2, 0.2), "post", slots=(oak,))
    hull = cube((1, 1, 3), "hull", slots=(oak, tar), face_slot=np.arange(6) % 2)
    deck = Node(
        "deck",
        moved(0, 1, 0),
        (Node("post", content=post), Node("bow", moved(1, 0, 0), (Node("hook", content=cube(name="hook")),), hull)),
        hull,
    )
    solid = Node("deck_collision_1", content=cube((1, 1, 3), "solid"), role="collision")
    copies = Node("reeds", content=zo.Scatter(post, np.stack([moved(k, 0, 5) for k in range(4)])))
    scene = scene_of(deck, solid, Node("post 2", moved(5, 0, 0), content=post), copies)
    zo.write(scene, tmp_path / "yard.usda")
    text = (tmp_path / "yard.usda").read_text()
    prims = prims_in(text)
    root = re.search(r'defaultPrim = "(\w+)"', text)[1]
    assert {path.split("/")[1] for path in prims} == {root}
    drawn = {path for path, kind in prims.items() if kind in ("Mesh", "PointInstancer")}
    for path in drawn:
        above = path.rpartition("/")[0]
        while above:
            assert above not in drawn or prims[above] == "PointInstancer", path
            above = above.rpartition("/")[0]
    assert text.count("instanceable = true") == 5  # two hulls, three posts of which one is scattered
    for target in re.findall(r"material:binding = <(.*?)>", text):
        assert prims[target] == "Material"
    # What refers to the file gets meshes and materials with it, at every place.
    (tmp_path / "quay.usda").write_text(f'{HEAD}def Xform "quay" {{ def "a" (references = @yard.usda@) {{}} }}')
    found = zo.read(tmp_path / "quay.usda")
    assert {m.name for m in found.materials} == {"oak", "tar"}
    assert np.allclose(found.bounds(), scene.bounds())
    slots = {
        one.node.name: [slot and slot.name for slot in one.node.drawn.slots] for one in found.walk() if one.node.drawn
    }
    assert slots == {"deck": ["oak", "tar"], "post": ["oak"], "bow": ["oak", "tar"], "hook": [None],
                     "deck_collision_1": [None], "post 2": ["oak"], "reeds": ["oak"]}  # fmt: skip
    # And read by itself it is the tree it was.
    back = zo.read(tmp_path / "yard.usda")
    assert [one.path for one in back.walk()] == [one.path for one in scene.walk()]
    assert len(back.meshes) == 4 and [one.node.role for one in back.walk()] == [one.node.role for one in scene.walk()]
    zo.write(back, tmp_path / "again.usda")
    assert (tmp_path / "again.usda").read_text() == text


@pytest.mark.parametrize("ending", ["usda", "usdc"])
def test_the_strength_of_normal_maps_travels(tmp_path, ending):
    use = TextureUse(Texture("bumps.png", data=timber()), strength=0.25)
    zo.write(scene_of(cube(slots=(Material("m", textures={"normal": use}),))), tmp_path / f"a.{ending}")
    assert zo.read(tmp_path / f"a.{ending}").materials[0].textures["normal"].strength == pytest.approx(0.25)


def test_what_somebody_moved_in_a_file_of_ours_stays_moved(tmp_path):
    scene = scene_of(
        Node("post", moved(1, 0, 0), (Node("lamp", moved(0, 2, 0), content=cube(name="lamp")),), cube(name="oak"))
    )
    zo.write(scene, tmp_path / "a.usda")
    text = (tmp_path / "a.usda").read_text()
    move = 'double3 xformOp:translate = (10, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n'
    for where, expected in (
        ('def Xform "test"', [[11, 0, 0], [12, 3, 1]]),
        ('def Mesh "oak"', [[1, 0, 0], [12, 3, 1]]),
    ):
        at = text.index("{\n", text.index(")", text.index(where))) + 2
        (tmp_path / "b.usda").write_text(text[:at] + move + text[at:])
        assert zo.read(tmp_path / "b.usda").bounds().tolist() == expected
