"""3MF: known answers by hand, the tree, and what is damaged."""

from __future__ import annotations

import zipfile

import numpy as np
import pytest
from lxml import etree

import zesty_otter as zo
from build import cube, light, moved, scene_of, texts, volume
from zesty_otter.formats.threemf.reader import attributes
from zesty_otter.model import Material, Node

CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
TETRAHEDRON = """<vertices><vertex x="0" y="0" z="0"/><vertex z="0" x="2" y="0"/>
 <vertex y = '3' x="0" z="0"></vertex><vertex x="0" y="0" z="4e0"/></vertices>
<triangles><triangle v1="0" v2="2" v3="1"/><triangle v3="3" v1="0" v2="1" p1="1" pid="5"/><!-- <triangle/> -->
 <triangle v1="1" v2="2" v3="3" pid="5" p1="0" p2="0" p3="0"/><triangle v1="0" v2="3" v3="2"/></triangles>"""


def package(folder, model: str, name: str = "3D/3dmodel.model", rels: str | None = None):
    path = folder / "a.3mf"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr(name, model)
        if rels:
            archive.writestr("_rels/.rels", rels)
    return path


def model(resources: str, build: str, unit: str = ' unit="centimeter"') -> str:
    return f'<?xml version="1.0"?><model{unit} xmlns="{CORE}"><resources>{resources}</resources><build>{build}</build></model>'


def test_a_model_with_materials_components_and_units(tmp_path):
    resources = f"""<basematerials id="5"><base name="oak" displaycolor="#804000"/><base name="glass" displaycolor="#FFFFFF80"/></basematerials>
<object id="7" name="wedge" pid="5" pindex="0"><mesh>{TETRAHEDRON}</mesh></object>
<object id="8" name="pair"><components><component objectid="7"/><component objectid="7" transform="1 0 0 0 1 0 0 0 1 10 0 0"/></components></object>"""
    build = '<item objectid="8" transform="0 1 0 -1 0 0 0 0 1 0 0 5"/><item objectid="7"/>'
    scene = zo.read(package(tmp_path, model(resources, build)))
    assert (scene.frame.unit, " ".join(scene.frame.axes)) == (0.01, "right forward up")
    pair, wedge = scene.roots
    assert [pair.name, wedge.name, pair.children[0].name] == ["pair", "wedge", "wedge"]
    assert pair.mesh is wedge.mesh is pair.children[0].mesh
    assert volume(wedge.mesh) == pytest.approx(4)
    # A quarter about Z, and 5 up: the second wedge, 10 along X, stands along Y.
    placed = next(one for one in scene.walk() if one.path == ("pair", "wedge") or one.path == "pair/wedge")
    assert placed.world[:3, 3].tolist() == [0, 10, 5]
    names = [wedge.mesh.slots[k].name for k in wedge.mesh.slot_of_face]
    assert names == ["oak", "glass", "oak", "oak"]
    oak, glass = (next(m for m in scene.materials if m.name == name) for name in ("oak", "glass"))
    assert oak.base_color == pytest.approx((*light(128 / 255, 64 / 255, 0), 1))
    assert (glass.alpha_mode, glass.base_color[3]) == ("blend", pytest.approx(128 / 255))


def test_attributes_in_any_order_and_dress():
    text = b'<v b="2" a="1.5"/><v\n\ta = \'-3\' />\n<v aa="9" a=""></v><x:v b="1e2" a="4"/>'
    assert attributes(text, ("a", "b")).tolist()[:2] == [[1.5, 2], [-3, pytest.approx(np.nan, nan_ok=True)]]
    assert attributes(text, ("a", "b")).tolist()[3] == [4, 100]
    assert attributes(b"", ("a",)).shape == (0, 1)


def test_what_is_written_is_what_the_specification_asks(tmp_path):
    oak, tar = Material("oak", (*light(0.5, 0.25, 0), 1.0)), Material("tar & pitch")
    hull = cube((1, 2, 3), "hull", slots=(oak, tar), face_slot=np.arange(6) % 2)
    tree = Node(
        "boat",
        moved(1, 0, 0),
        (Node("bow", np.diag([1.0, 2, 1, 1]), content=cube(name="stem")), Node("twin", moved(0, 0, 4), content=hull)),
        hull,
    )
    scene = scene_of(tree, axes="right forward up", unit="mm")
    notes = zo.write(scene, tmp_path / "a.3mf")
    assert [str(note) for note in notes] == ["12 faces of more than three corners became triangles"]
    with zipfile.ZipFile(tmp_path / "a.3mf") as archive:
        assert archive.namelist()[0] == "[Content_Types].xml" and archive.testzip() is None
        root = etree.fromstring(archive.read("3D/3dmodel.model"))
    space = {"c": CORE}
    assert root.get("unit") == "millimeter"
    known = []
    for one in root.xpath("c:resources/c:object", namespaces=space):
        # What is referred to stands before, and indices are inside the list.
        assert all(int(k) in known for k in one.xpath("c:components/c:component/@objectid", namespaces=space))
        known.append(int(one.get("id")))
        count = len(one.xpath(".//c:vertex", namespaces=space))
        for triangle in one.xpath(".//c:triangle", namespaces=space):
            corners = [int(triangle.get(key)) for key in ("v1", "v2", "v3")]
            assert len(set(corners)) == 3 and max(corners) < count
    assert [b.get("displaycolor") for b in root.iter(f"{{{CORE}}}base")] == ["#804000FF", "#FFFFFFFF"]
    back = zo.read(tmp_path / "a.3mf")
    assert [one.path for one in back.walk()] == [one.path for one in scene.walk()]
    assert np.allclose(back.bounds(), scene.bounds()) and back.frame == scene.frame
    assert back.roots[0].mesh is back.roots[0].children[1].mesh
    zo.write(back, tmp_path / "b.3mf")
    assert zo.read(tmp_path / "b.3mf").meshes[0].face_count == 12


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (model('<object id="1"><components><component objectid="1"/></components></object>', '<item objectid="1"/>'), "nested recursively"),
        ("<html/>", "no model: it begins with <html>"),
        ("not xml", "is not XML"),
        ('<!DOCTYPE a [<!ENTITY x "y">]><model/>', "XML entities"),
    ],
)  # fmt: skip
def test_what_is_no_model_is_refused(tmp_path, content, message):
    with pytest.raises(zo.InputError, match=message):
        zo.read(package(tmp_path, content))


def test_what_is_odd_is_told(tmp_path):
    bad = TETRAHEDRON.replace('v1="0" v2="2" v3="1"', 'v1="0" v2="2" v3="77"').replace('x="2"', 'x="two"')
    resources = f'<object id="1" name="w"><mesh>{bad}</mesh></object><object id="2"><mesh>{TETRAHEDRON}</mesh></object><colorgroup id="9"/>'
    build = '<item objectid="1"/><item objectid="2" transform="1 2"/><item objectid="4"/>'
    said = texts(zo.read(package(tmp_path, model(resources, build, ' unit="parsec"'))).notes)
    for words in ("without usable corners left out", "'parsec' is not a unit", "object 4 that is placed is not there",
                  "the transform of 'object_2' cannot be read", "colorgroup is not carried"):  # fmt: skip
        assert words in said
    with pytest.raises(zo.InputError, match="without a 3D model"):
        path = tmp_path / "b.3mf"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("readme.txt", "")
        zo.read(path)
    rels = '<Relationships><Relationship Target="/other/thing.xml" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>'
    whole = model(f'<object id="2"><mesh>{TETRAHEDRON}</mesh></object>', '<item objectid="2"/>')
    assert zo.read(package(tmp_path, whole, "other/thing.xml", rels)).meshes[0].face_count == 4
    assert zo.read(package(tmp_path, whole).read_bytes(), format="3mf").meshes[0].face_count == 4


@pytest.mark.checked
@pytest.mark.parametrize("seed", range(20))
def test_attributes_are_what_an_xml_library_reads(seed):
    """Any order, either quotes, blanks around, names that begin alike, words, nothing, comments."""
    random = np.random.default_rng(seed)
    names = ["x", "y", "v1", "p1"]
    values = ["1", "-2.5e-3", " 7 ", "", "a", "1 2", "0x1", "+4", ".5", "nan"]

    def element() -> str:
        said = random.permutation([*names, "v11", "x1", "ax"])[: random.integers(0, 7)]
        texts = [f"{random.choice(['', ' '])}={random.choice(['', ' '])}".join((name, quoted())) for name in said]
        return random.choice(["<!-- <t x='9'/> -->", ""]) + f"<t {' '.join(texts)}{random.choice(['/>', '></t>'])}\n"

    def quoted() -> str:
        mark = random.choice(['"', "'"])
        return f"{mark}{random.choice(values)}{mark}"

    def number(text: str | None) -> float:
        words = (text or "").split()
        try:
            return float(words[0]) if len(words) == 1 else np.nan
        except ValueError:
            return np.nan

    text = "".join(element() for _ in range(random.integers(0, 60)))
    elements = [one for one in etree.fromstring(f"<all>{text}</all>") if isinstance(one.tag, str)]
    wanted = [[number(one.get(name)) for name in names] for one in elements]
    found = attributes(text.encode(), names)
    assert np.array_equal(found, np.reshape(wanted, (-1, len(names))), equal_nan=True)
