"""A scene to a 3MF package (3MF Consortium, core specification, 1.3)."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import nothing_to_write
from zesty_otter.formats.files import Encoded, joined
from zesty_otter.formats.text import number_lines, whole_number_lines
from zesty_otter.formats.threemf import _kernels as kernels
from zesty_otter.formats.threemf.reader import UNITS
from zesty_otter.formats.xml_out import Xml
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Frame, Material, Mesh, Node, Note, Scene, reframed

_CORE = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
_MODEL = "3D/3dmodel.model"
_TYPES = """<?xml version="1.0" encoding="UTF-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">
<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>
<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/>
</Types>
"""
_RELATIONS = f"""<?xml version="1.0" encoding="UTF-8"?>
<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">
<Relationship Id="model" Target="/{_MODEL}" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/>
</Relationships>
"""
_MATERIALS = 1  # the number of the one group of materials; objects follow


def encode(scene: Scene, name: str) -> Encoded:
    """The file of a scene: triangles, names, the tree, and a colour for each material."""
    if not any(mesh.face_count for mesh in scene.meshes):
        raise nothing_to_write(scene)
    notes = list(_losses(scene))
    unit = next((word for word, metres in UNITS.items() if scene.frame.unit == metres), None)
    if unit is None and scene.frame.unit is not None:
        notes.append(Note("done", "3MF has no such unit; written in metres", "3mf"))
        scene, unit = reframed(scene, Frame(" ".join(scene.frame.axes), "m")), "meter"
    turned = (
        scene
        if scene.frame.axes == Frame("right forward up").axes
        else reframed(scene, Frame("right forward up", scene.frame.unit))
    )
    writer = _Writer(turned, unit or "millimeter")
    files = {"[Content_Types].xml": _TYPES.encode(), "_rels/.rels": _RELATIONS.encode(), _MODEL: writer.model()}
    return Encoded({name: [_zipped(files)]}, notes)


def _losses(scene: Scene) -> Iterator[Note]:
    lost = [what for what, there in (
        ("normals and smoothing", any(mesh.normals or mesh.face_smoothing is not None for mesh in scene.meshes)),
        ("UVs", any(mesh.uv_sets for mesh in scene.meshes)),
        ("colours of vertices", any(mesh.layers_of("color") for mesh in scene.meshes)),
        ("textures and all of a material but its colour", any(one.textures for one in scene.materials)),
        ("lights and cameras", any(one.node.kind in ("light", "camera") for one in scene.walk())),
        ("empty nodes", any(one.node.content is None and not one.node.children for one in scene.walk())),
        ("properties", any(one.node.properties for one in scene.walk())),
    ) if there]  # fmt: skip
    if lost:
        yield Note("lost", f"3MF has no place for {', '.join(lost)}", "3mf")


class _Writer:
    def __init__(self, scene: Scene, unit: str) -> None:
        self.scene, self.unit = scene, unit
        self.materials = {id(one): n for n, one in enumerate(scene.materials)}
        self.xml = Xml()
        self.next = _MATERIALS + 1
        self.meshes: dict[int, int] = {}

    def model(self) -> bytes:
        xml = self.xml
        xml.begin("model", unit=self.unit, xmlns=_CORE)
        xml.leaf("metadata", self.scene.name or "scene", name="Title")
        xml.begin("resources")
        if self.materials:
            xml.begin("basematerials", id=_MATERIALS)
            for one in self.scene.materials:
                xml.leaf("base", name=one.name, displaycolor=_color(one))
            xml.end()
        for mesh in self.scene.meshes:
            if mesh.face_count:
                self._mesh(mesh)
        objects = self._objects()
        xml.end()
        xml.begin("build")
        for node, number in objects:
            xml.leaf("item", objectid=number, transform=_transform(node.transform))
        xml.end(2)
        return joined(xml.buffers)

    def _number(self) -> int:
        self.next += 1
        return self.next - 1

    def _mesh(self, mesh: Mesh) -> None:
        number = self.meshes[id(mesh)] = self._number()
        corners, face = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
        slot = mesh.slot_of_face[face]
        known = np.array([self.materials.get(id(one), -1) for one in mesh.slots] or [-1])
        material = known[np.minimum(slot, len(known) - 1)]
        whole = int(material[0]) if len(material) and (material == material[0]).all() else -1
        about = {"pid": _MATERIALS, "pindex": whole} if whole >= 0 else {}
        self.xml.begin("object", id=number, type="model", name=mesh.name, **about)
        self.xml.begin("mesh")
        self.xml.begin("vertices")
        self.xml.buffers.append(_elements("vertex", ("x", "y", "z"), number_lines("", mesh.points), mesh.point_count))
        self.xml.end()
        self.xml.begin("triangles")
        points = mesh.corner_point[corners]
        for first, stop, one in _runs(material if whole < 0 else np.full(len(material), -1)):
            more = f' pid="{_MATERIALS}" p1="{one}"' if one >= 0 else ""
            lines = whole_number_lines(points[first:stop])
            self.xml.buffers.append(_elements("triangle", ("v1", "v2", "v3"), lines, stop - first, more))
        self.xml.end(3)

    def _objects(self) -> list[tuple[Node, int]]:
        """An object for each node, those below before those above; the roots and their numbers."""
        made: dict[int, list[tuple[Node, int]]] = {-1: []}
        placed = list(self.scene.walk())
        for one in reversed(placed):
            below = made.pop(one.number, [])[::-1]
            mesh = one.node.mesh if one.node.mesh is not None and one.node.mesh.face_count else None
            if mesh is None and not below:
                continue  # an object must hold something (section 4.1)
            number = self._number()
            self.xml.begin("object", id=number, type="model", name=one.node.name)
            self.xml.begin("components")
            if mesh is not None:
                self.xml.leaf("component", objectid=self.meshes[id(mesh)])
            for node, inner in below:
                # Plain places are said too, so that what is below is not taken for what the object shows.
                self.xml.leaf("component", objectid=inner, transform=_transform(node.transform) or _PLAIN)
            self.xml.end(2)
            made.setdefault(one.parent, []).append((one.node, number))
        return made[-1][::-1]


_PLAIN = "1 0 0 0 1 0 0 0 1 0 0 0"


def _transform(matrix: NDArray[np.float64]) -> str | None:
    if np.array_equal(matrix, np.eye(4)):
        return None
    return " ".join(f"{value:.17g}" for value in matrix[:3].T.ravel())


def _color(material: Material) -> str:
    numbers = [*material.base_color[:3], material.base_color[3] if material.alpha_mode != "opaque" else 1.0]
    return "#" + "".join(f"{round(255 * min(max(value, 0.0), 1.0)):02X}" for value in numbers)


def _runs(values: NDArray[np.int64]) -> Iterator[tuple[int, int, int]]:
    """Where a value begins, where it ends, and what it is."""
    ends = np.flatnonzero(np.diff(values, append=values[-1:] - 1)) + 1 if len(values) else np.zeros(0, np.int64)
    first = 0
    for stop in ends.tolist():
        yield first, stop, int(values[first])
        first = stop


def _elements(
    tag: str, names: tuple[str, ...], lines: Iterable[NDArray[np.uint8]], count: int, more: str = ""
) -> NDArray[np.uint8]:
    """An element for each row of numbers, which are lines with blanks between them."""
    words = [f'<{tag} {names[0]}="', *(f'" {name}="' for name in names[1:]), f'"{more}/>\n']
    every = np.frombuffer("".join(words).encode(), np.uint8)
    starts = np.cumsum([0, *map(len, words)])
    text = np.concatenate([np.zeros(0, np.uint8), *lines])
    out = np.empty(len(text) + count * len(every), np.uint8)
    return out[: kernels.put_elements(text, every, starts, out)]


def _zipped(files: dict[str, bytes]) -> bytes:
    """An archive that is the same every time."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as archive:
        for name, data in files.items():
            about = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
            about.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(about, data)
    return out.getvalue()
