"""A scene to X3D 3.3 in its XML encoding (ISO/IEC 19776-1)."""

from __future__ import annotations

import math
from collections.abc import Iterable
from urllib.parse import quote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import nothing_to_write, shows_nothing
from zesty_otter.formats.colors import DIELECTRIC
from zesty_otter.formats.files import Buffer, Encoded
from zesty_otter.formats.one_image import with_alpha_in_color
from zesty_otter.formats.text import face_lines, number_lines
from zesty_otter.formats.textures_out import TextureFiles
from zesty_otter.formats.xml_out import Ids, Xml, plain
from zesty_otter.geometry.surface.aim import aim
from zesty_otter.model import (
    Camera,
    Frame,
    Layer,
    Light,
    Material,
    Mesh,
    Node,
    Note,
    Placed,
    Scene,
    determinant,
    reframed,
    shortened,
)
from zesty_otter.shading import with_implied_normals

_LIGHTS = {"point": "PointLight", "spot": "SpotLight", "directional": "DirectionalLight"}


def encode(scene: Scene, name: str) -> Encoded:
    """The files of a scene: ``name`` and its textures."""
    if shows_nothing(scene):
        raise nothing_to_write(scene)
    frame = Frame("left up forward", scene.frame.unit)
    turned = scene if scene.frame.axes == frame.axes else reframed(scene, frame)
    turned, notes = with_alpha_in_color(turned, "x3d")
    writer = _Writer(turned, name)
    writer.write()
    files: dict[str, Iterable[Buffer]] = {**writer.textures.files, name: writer.xml.buffers}
    return Encoded(files, [*notes, *writer.notes, *writer.textures.notes])


class _Writer:
    def __init__(self, scene: Scene, name: str) -> None:
        self.scene = scene
        self.textures = TextureFiles(name.rsplit(".", 1)[0], "x3d")
        self.notes: list[Note] = []
        self.with_properties: list[str] = []
        self.xml = Xml()
        self.ids = Ids()
        self.shapes: dict[int, list[str]] = {}
        self.appearances: dict[tuple[int, bool], str] = {}

    def _lost(self, text: str) -> None:
        note = Note("lost", text, "x3d")
        if note not in self.notes:
            self.notes.append(note)

    def write(self) -> None:
        xml = self.xml
        # Lights brighter than 1 came with 4.0.
        bright = any(
            isinstance(one.node.content, Light) and one.node.content.intensity > 1 for one in self.scene.walk()
        )
        xml.begin("X3D", profile="Immersive", version="4.0" if bright else "3.3")
        xml.begin("head")
        unit = self.scene.frame.unit
        if unit is not None and unit != 1.0:
            xml.leaf("unit", category="length", name="unit", conversionFactor=f"{unit:.17g}")
        xml.leaf("meta", name="generator", content="Zesty Otter")
        xml.end()
        xml.begin("Scene")
        self._nodes()
        xml.end(2)
        if self.with_properties:
            self._lost(f"properties of nodes are not carried: those of {shortened(self.with_properties)}")

    def _nodes(self) -> None:
        ends: list[int] = []  # how many elements each open node takes to close
        first, last = self._chains()
        for placed in self.scene.walk():
            while len(ends) > len(placed.path) - 1:
                self.xml.end(ends.pop())
            if placed.number in first:
                self.xml.begin("LOD", range=plain(*first[placed.number]))
            ends.append(self._open_node(placed) + (placed.number in last))
        while ends:
            self.xml.end(ends.pop())

    def _chains(self) -> tuple[dict[int, list[float]], set[int]]:
        """Where an asset with its levels behind it begins, with their distances in units, and where each ends."""
        first: dict[int, list[float]] = {}
        last: dict[int, int] = {}
        head: dict[int, Placed] = {}  # by parent: the node whose levels may follow
        for placed in self.scene.walk():
            node, above = placed.node, head.get(placed.parent)
            distance = node.properties.get("distance")
            if node.role != "level":
                head[placed.parent] = placed
            elif (
                above is not None
                and above.node.role == "visible"
                and node.properties.get("asset") == above.node.name
                and isinstance(distance, int | float)
            ):
                first.setdefault(above.number, []).append(distance / (self.scene.frame.unit or 1.0))
                last[above.number] = placed.number
        return first, set(last.values())

    def _open_node(self, placed: Placed) -> int:
        node, xml = placed.node, self.xml
        count = 1
        field = None
        if not node.visible:
            xml.begin("Switch", whichChoice="-1")
            count += 1
        if node.role == "collision":
            xml.begin("Collision")
            field = "proxy"
            count += 1
        known = self.ids.new(node.name)
        if node.properties.keys() - {"piece"} and node.role == "visible":
            self.with_properties.append(node.name)
        xml.begin("Transform", DEF=known, containerField=field, **_placement(node))
        self._keep_name(known, node.name)
        content = node.content
        if node.piece is not None:
            xml.begin("Inline", url=f'"{quote(node.piece)}"')
            xml.leaf("MetadataString", containerField="metadata", name="piece", value='"level"')
            xml.end()
        elif isinstance(content, Mesh) and content.face_count:
            self._shapes(content, known)
        elif isinstance(content, Light):
            self._light(content)
        elif isinstance(content, Camera):
            self._camera(content)
        return count

    def _keep_name(self, known: str, name: str) -> None:
        """What something is called, where that is no XML identifier or already taken."""
        if known != name:
            quoted = name.replace("\\", "\\\\").replace('"', '\\"')
            self.xml.leaf("MetadataString", containerField="metadata", name="name", value=f'"{quoted}"')

    def _light(self, light: Light) -> None:
        color = plain(*light.color)
        intensity = plain(light.intensity)
        direction = None if light.kind == "point" else plain(*light.direction)
        inner, cone = map(plain, light.cone) if light.kind == "spot" else (None, None)
        reach = None if light.reach is None or light.kind == "directional" else plain(light.reach)
        known = self.ids.new(light.name)
        kind = _LIGHTS[light.kind]
        self.xml.leaf(
            kind, DEF=known, color=color, intensity=intensity, direction=direction, beamWidth=inner, cutOffAngle=cone,
            radius=reach,
        )  # fmt: skip

    def _camera(self, camera: Camera) -> None:
        turned = aim(camera.direction, camera.up)
        orientation = None if turned is None else plain(*_axis_angle(turned[:3, :3]))
        known = self.ids.new(camera.name)
        if camera.perspective:
            view = plain(camera.height)
            self.xml.leaf("Viewpoint", DEF=known, position="0 0 0", orientation=orientation, fieldOfView=view)
        else:
            half = camera.height / 2
            view = plain(-half, -half, half, half)
            self.xml.leaf("OrthoViewpoint", DEF=known, position="0 0 0", orientation=orientation, fieldOfView=view)

    def _shapes(self, mesh: Mesh, owner: str) -> None:
        """A shape for each slot that has faces; written once, and used wherever the mesh stands."""
        if id(mesh) in self.shapes:
            for known in self.shapes[id(mesh)]:
                self.xml.leaf("Shape", USE=known)
            return
        whole = with_implied_normals(mesh)
        made = self.shapes[id(mesh)] = []
        if any(slot is None for slot in mesh.slots) and any(slot is not None for slot in mesh.slots):
            self._lost(f"mesh '{mesh.name}': faces without a material become a shape of their own")
        for number in mesh.used_slots:
            part = whole if len(mesh.slots) == 1 else whole.take_faces(mesh.slot_of_face == number)
            known = self.ids.new(f"{owner}-shape{number or ''}")
            made.append(known)
            self.xml.begin("Shape", DEF=known)
            material = mesh.slots[number]
            if material is not None:
                self._appearance(material)
            self._faces(part, solid=material is None or not material.two_sided)
            self.xml.end()

    def _faces(self, mesh: Mesh, *, solid: bool) -> None:
        normal, uv, color = (next(iter(mesh.layers_of(kind)), None) for kind in ("normal", "uv", "color"))
        tables = {}
        indices: dict[str, Iterable[Buffer]] = {"coordIndex": face_lines(mesh.face_start, mesh.corner_point)}
        for key, layer in (("normalIndex", normal), ("texCoordIndex", uv), ("colorIndex", color)):
            if layer is not None:
                values, index = self._whole(mesh, layer)
                indices[key] = face_lines(mesh.face_start, index)
                tables[key] = values
        self.xml.wide("IndexedFaceSet", closed=False, solid="true" if solid else "false", convex="false", **indices)
        self.xml.wide("Coordinate", point=number_lines("", mesh.points))
        if "normalIndex" in tables:
            self.xml.wide("Normal", vector=number_lines("", tables["normalIndex"]))
        if "texCoordIndex" in tables:
            self.xml.wide("TextureCoordinate", point=number_lines("", tables["texCoordIndex"]))
        if "colorIndex" in tables:
            kind = "Color" if tables["colorIndex"].shape[1] == 3 else "ColorRGBA"
            self.xml.wide(kind, color=number_lines("", tables["colorIndex"]))
        self.xml.end()

    def _whole(self, mesh: Mesh, layer: Layer) -> tuple[NDArray[np.float32], NDArray[np.int32]]:
        """A layer's table and index, where every corner has a row."""
        if not layer.has_holes:
            return layer.values, layer.index
        self._lost(f"mesh '{mesh.name}': corners without {layer.kind} get zeros; X3D wants a value for each")
        values = np.concatenate([layer.values, np.zeros((1, layer.values.shape[1]), np.float32)])
        return values, np.where(layer.index < 0, len(layer.values), layer.index).astype(np.int32)

    def _appearance(self, material: Material) -> None:
        xml = self.xml
        key = id(material), material.two_sided
        if key in self.appearances:
            xml.leaf("Appearance", USE=self.appearances[key])
            return
        known = self.appearances[key] = self.ids.new(f"{material.name}-look")
        xml.begin("Appearance", DEF=known)
        name = self.ids.new(material.name)
        exponent = material.shading.get("shininess")
        if exponent is None and material.roughness < 1.0:
            exponent = 2.0 / max(material.roughness, 0.01) ** 4 - 2.0
        specular = material.shading.get("specular")
        if specular is None and exponent is not None:
            specular = DIELECTRIC
        xml.begin(
            "Material",
            DEF=name,
            diffuseColor=plain(*material.base_color[:3]),
            emissiveColor=plain(*np.clip(material.emissive, 0, 1)) if any(material.emissive) else None,
            specularColor=None if specular is None else plain(*specular),
            shininess=None if exponent is None else plain(min(float(exponent) / 128.0, 1.0)),
            transparency=plain(1.0 - material.base_color[3]) if material.base_color[3] < 1.0 else None,
        )
        self._keep_name(name, material.name)
        xml.end()
        use = material.textures.get("base_color")
        if use is not None:
            repeat = "false" if use.clamp else None
            xml.leaf("ImageTexture", url=f'"{quote(self.textures.path(use.texture))}"', repeatS=repeat, repeatT=repeat)
        lost = [f"{role} map" for role in material.textures if role not in ("base_color", "alpha")]
        lost += ["metallic value"] if material.metallic else []
        lost += ["cut-out threshold"] if material.alpha_mode == "mask" else []
        lost += ["emission beyond white"] if max(material.emissive) > 1 else []
        lost += ["roughness below 0.35"] if exponent is not None and exponent > 128 else []
        if lost:
            self._lost(f"material '{material.name}': X3D 3.3 has no place for its {', '.join(lost)}")
        xml.end()


_STRAIGHT = np.eye(3)


def _placement(node: Node) -> dict[str, str]:
    """The fields of a Transform that place a node: T C R SR S -SR -C."""
    matrix = node.transform
    out = {}
    if matrix[:3, 3].any():
        out["translation"] = plain(*matrix[:3, 3])
    linear = matrix[:3, :3]
    if (linear == _STRAIGHT).all():
        return out
    # linear = turned * stretched, with the stretch along axes of its own (polar decomposition).
    u, sizes, v = np.linalg.svd(linear)
    turned, along = u @ v, v.T
    if determinant(turned) < 0:
        turned, sizes = -turned, -sizes
    if determinant(along) < 0:
        along = -along
    stretched = (along * sizes) @ along.T
    if np.abs(stretched * (1.0 - _STRAIGHT)).max() <= 1e-12 * np.abs(sizes).max():
        sizes, along = stretched.diagonal(), _STRAIGHT
    if np.abs(turned - _STRAIGHT).max() > 1e-12:
        out["rotation"] = plain(*_axis_angle(turned))
    if np.abs(sizes - 1.0).max() > 1e-12:
        out["scale"] = plain(*sizes)
        if along is not _STRAIGHT:
            out["scaleOrientation"] = plain(*_axis_angle(along))
    return out


def _axis_angle(turned: NDArray[np.float64]) -> tuple[float, float, float, float]:
    """The axis and angle in radians of a rotation matrix."""
    cosine = min(max((float(np.trace(turned)) - 1.0) / 2.0, -1.0), 1.0)
    angle = math.acos(cosine)
    axis = np.array([turned[2, 1] - turned[1, 2], turned[0, 2] - turned[2, 0], turned[1, 0] - turned[0, 1]])
    if float(np.linalg.norm(axis)) < 1e-9:
        # No turn, or half a one: then the axis is the eigenvector of 1.
        if cosine > 0:
            return 0.0, 0.0, 1.0, 0.0
        values, vectors = np.linalg.eigh((turned + turned.T) / 2)
        axis = vectors[:, int(np.argmax(values))]
    x, y, z = axis / np.linalg.norm(axis)
    return float(x), float(y), float(z), angle
