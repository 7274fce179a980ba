"""A scene to COLLADA 1.4.1 (Khronos Group, 2008, "Digital asset schema release 1.4.1").

Elements stand in the order the schema asks for, so that strict readers take them. Polygons, and what is
shared between corners, stay as they are.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from pathlib import PurePosixPath
from typing import Any
from urllib.parse import quote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import nothing_to_write, shows_nothing
from zesty_otter.formats.collada.reader import AXES, PROPERTIES
from zesty_otter.formats.colors import DIELECTRIC, strong
from zesty_otter.formats.files import Buffer, Encoded
from zesty_otter.formats.one_image import with_alpha_in_color
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
    Scene,
    Texture,
    TextureUse,
    format_unit,
    reframed,
)
from zesty_otter.shading import with_implied_normals

_NAMESPACE = "http://www.collada.org/2005/11/COLLADASchema"
_SEMANTICS = {"normal": ("NORMAL", "XYZ"), "uv": ("TEXCOORD", "ST"), "color": ("COLOR", "RGBA")}
# A file must say when it was made; always the same, so that the same scene gives the same bytes.
_MADE = "2000-01-01T00:00:00Z"


def encode(scene: Scene, name: str) -> Encoded:
    """The files of a scene: ``name`` and its textures."""
    if shows_nothing(scene):
        raise nothing_to_write(scene)
    up_axis = "XYZ"[scene.frame.up[0]] + "_UP"
    frame = Frame(AXES[up_axis], scene.frame.unit)
    turned = scene if scene.frame.axes == frame.axes else reframed(scene, frame)
    turned, notes = with_alpha_in_color(turned, "collada")
    writer = _Writer(turned, name, up_axis)
    writer.write()
    files: dict[str, Iterable[Buffer]] = {**writer.textures.files, name: writer.xml.buffers}
    return Encoded(files, [*notes, *writer.notes, *writer.textures.notes])


class _Writer:
    def __init__(self, scene: Scene, name: str, up_axis: str) -> None:
        self.scene, self.up_axis = scene, up_axis
        self.stem = name.rsplit(".", 1)[0]
        self.textures = TextureFiles(self.stem, "collada")
        self.notes: list[Note] = []
        self.xml = Xml()
        self.ids = Ids()
        # Other files place what is in this one by the names of its roots.
        self.roots = {id(one): self.ids.new(one.name) for one in scene.roots}
        self.materials = {id(one): self.ids.new(one.name) for one in scene.materials}
        self.images = {id(one): self.ids.new(f"{one.name}-image") for one in scene.textures}
        self.meshes = {id(one): self.ids.new(f"{one.name}-mesh") for one in scene.meshes if one.face_count}
        self.extras: dict[int, str] = {}
        self.solid: list[tuple[str, str]] = []  # ids of the nodes and meshes of collision

    def write(self) -> None:
        xml = self.xml
        xml.begin("COLLADA", xmlns=_NAMESPACE, version="1.4.1")
        xml.begin("asset")
        xml.begin("contributor")
        xml.leaf("authoring_tool", "Zesty Otter")
        xml.end()
        xml.leaf("created", _MADE)
        xml.leaf("modified", _MADE)
        unit = self.scene.frame.unit
        xml.leaf("unit", name=format_unit(unit) if unit else "unit", meter=f"{unit or 1.0:.17g}")
        xml.leaf("up_axis", self.up_axis)
        xml.end()
        contents = [placed.node.content for placed in self.scene.walk()]
        self._cameras([one for one in contents if isinstance(one, Camera)])
        self._lights([one for one in contents if isinstance(one, Light)])
        self._images(self.scene.textures)
        self._materials(self.scene.materials)
        xml.begin("library_geometries")
        for mesh in self.scene.meshes:
            if mesh.face_count:
                self._geometry(mesh)
        xml.end()
        scene_id = self.ids.new(self.scene.name or self.stem)
        xml.begin("library_visual_scenes")
        xml.begin("visual_scene", id=scene_id, name=self.scene.name or self.stem)
        self._nodes()
        xml.end(2)
        physics = self._physics()
        xml.begin("scene")
        if physics:
            xml.leaf("instance_physics_scene", url=f"#{physics}")
        xml.leaf("instance_visual_scene", url=f"#{scene_id}")
        xml.end(2)

    def _physics(self) -> str:
        """A rigid body that stays where it is for every collision mesh; the id of the scene they are in."""
        if not self.solid:
            return ""
        xml = self.xml
        model, scene = self.ids.new("collision-model"), self.ids.new("collision-scene")
        xml.begin("library_physics_models")
        xml.begin("physics_model", id=model)
        for node, mesh in self.solid:
            xml.begin("rigid_body", sid=f"{node}-body")
            xml.begin("technique_common")
            xml.leaf("dynamic", "false")
            xml.begin("shape")
            xml.leaf("instance_geometry", url=f"#{mesh}")
            xml.end(3)
        xml.end(2)
        xml.begin("library_physics_scenes")
        xml.begin("physics_scene", id=scene)
        xml.begin("instance_physics_model", url=f"#{model}")
        for node, _ in self.solid:
            xml.begin("instance_rigid_body", body=f"{node}-body", target=f"#{node}")
            xml.leaf("technique_common")
            xml.end()
        xml.end()
        xml.leaf("technique_common")
        xml.end(2)
        return scene

    def _cameras(self, cameras: list[Camera]) -> None:
        if not cameras:
            return
        self.xml.begin("library_cameras")
        for camera in {id(one): one for one in cameras}.values():
            self.extras[id(camera)] = self.ids.new(f"{camera.name}-camera")
            self.xml.begin("camera", id=self.extras[id(camera)], name=camera.name)
            self.xml.begin("optics")
            self.xml.begin("technique_common")
            self.xml.begin("perspective" if camera.perspective else "orthographic")
            if camera.perspective:
                self.xml.leaf("yfov", plain(math.degrees(camera.height)))
            else:
                self.xml.leaf("ymag", plain(camera.height / 2))
            if camera.aspect:
                self.xml.leaf("aspect_ratio", plain(camera.aspect))
            self.xml.leaf("znear", plain(camera.near))
            self.xml.leaf("zfar", plain(camera.far or camera.near + 10000.0))
            self.xml.end(4)
        self.xml.end()

    def _lights(self, lights: list[Light]) -> None:
        if not lights:
            return
        self.xml.begin("library_lights")
        for light in {id(one): one for one in lights}.values():
            self.extras[id(light)] = self.ids.new(f"{light.name}-light")
            self.xml.begin("light", id=self.extras[id(light)], name=light.name)
            self.xml.begin("technique_common")
            self.xml.begin(light.kind)
            self.xml.leaf("color", plain(*strong(light.color, light.intensity)))
            if light.kind == "spot":
                self.xml.leaf("falloff_angle", plain(math.degrees(2 * light.cone[1])))
            self.xml.end(3)
            if light.kind == "spot" and light.cone[0] > 0:
                self._lost(f"COLLADA lights have one cone; the inner one of light '{light.name}' is left out")
            if light.reach is not None:
                self._lost(f"COLLADA lights have no reach; that of light '{light.name}' is left out")
        self.xml.end()

    def _images(self, textures: tuple[Texture, ...]) -> None:
        if not textures:
            return
        self.xml.begin("library_images")
        for texture in textures:
            self.xml.begin("image", id=self.images[id(texture)], name=texture.name)
            self.xml.leaf("init_from", quote(self.textures.path(texture)))
            self.xml.end()
        self.xml.end()

    def _materials(self, materials: tuple[Material, ...]) -> None:
        if not materials:
            return
        self.xml.begin("library_materials")
        for material in materials:
            known = self.materials[id(material)]
            self.xml.begin("material", id=known, name=material.name)
            self.xml.leaf("instance_effect", url=f"#{known}-effect")
            self.xml.end()
        self.xml.end()
        self.xml.begin("library_effects")
        for material in materials:
            self._effect(material)
        self.xml.end()

    def _effect(self, material: Material) -> None:
        xml = self.xml
        xml.begin("effect", id=f"{self.materials[id(material)]}-effect")
        xml.begin("profile_COMMON")
        used = {role: use for role, use in material.textures.items() if role in _ROLES}
        for texture in {id(use.texture): use.texture for use in used.values()}.values():
            image = self.images[id(texture)]
            for kind, name, inner in (("surface", f"{image}-surface", image), ("sampler2D", f"{image}-sampler", "")):
                xml.begin("newparam", sid=name)
                if kind == "surface":
                    xml.begin(kind, type="2D")
                    xml.leaf("init_from", inner)
                else:
                    xml.begin(kind)
                    xml.leaf("source", f"{image}-surface")
                xml.end(2)
        xml.begin("technique", sid="common")
        shininess = material.shading.get("shininess")
        xml.begin("phong")
        self._color_or_texture("emission", (*material.emissive, 1.0), used.get("emissive"))
        self._color_or_texture("diffuse", (*material.base_color[:3], 1.0), used.get("base_color"))
        specular = material.shading.get("specular")
        if specular is None and (shininess is not None or material.roughness < 1.0):
            specular = DIELECTRIC  # without it the shininess means nothing
        if specular is not None:
            self._color_or_texture("specular", (*(float(c) for c in specular), 1.0), None)
        if shininess is not None or material.roughness < 1.0:
            # The exponent whose highlight is as wide (B. Walter et al., 2007).
            exponent = 2.0 / max(material.roughness, 0.01) ** 4 - 2.0 if shininess is None else float(shininess)
            xml.begin("shininess")
            xml.leaf("float", plain(exponent))
            xml.end()
        self._transparency(material, used)
        xml.end(2)
        if material.two_sided or "normal" in used:
            xml.begin("extra")
            xml.begin("technique", profile="common")
            if material.two_sided:
                xml.leaf("double_sided", "1")
            if "normal" in used:
                xml.begin("bump")
                self._texture(used["normal"])
                xml.end()
            xml.end(2)
        xml.end(2)
        self._note_losses(material)

    def _color_or_texture(self, name: str, color: tuple[float, ...], use: TextureUse | None) -> None:
        self.xml.begin(name)
        if use is not None:
            self._texture(use)
        else:
            self.xml.leaf("color", plain(*color))
        self.xml.end()

    def _texture(self, use: TextureUse) -> None:
        sampler = f"{self.images[id(use.texture)]}-sampler"
        self.xml.leaf("texture", texture=sampler, texcoord=f"UVSET{use.uv_set}")

    def _transparency(self, material: Material, used: dict[str, TextureUse]) -> None:
        if material.alpha_mode == "opaque":
            return
        use = used.get("alpha") or used.get("base_color")
        self.xml.begin("transparent", opaque="A_ONE")
        if use is None:
            self.xml.leaf("color", "1 1 1 1")
        else:
            self._texture(use)
        self.xml.end()
        self.xml.begin("transparency")
        self.xml.leaf("float", plain(material.base_color[3]))
        self.xml.end()

    def _note_losses(self, material: Material) -> None:
        lost = [f"{role} map" for role in material.textures if role not in _ROLES]
        if material.metallic:
            lost.append("metallic value")
        if material.alpha_mode == "mask":
            lost.append("cut-out threshold")
        if any(use.clamp for use in material.textures.values()):
            lost.append("textures that end at their edges")
        normal = material.textures.get("normal")
        if normal is not None and normal.strength != 1.0:
            lost.append("strength of the normal map")
        if "base_color" in material.textures and material.base_color[:3] != (1.0, 1.0, 1.0):
            lost.append("colour beside its texture")
        if lost:
            self._lost(f"material '{material.name}': the common profile has no place for its {', '.join(lost)}")

    def _lost(self, text: str) -> None:
        note = Note("lost", text, "collada")
        if note not in self.notes:
            self.notes.append(note)

    def _geometry(self, mesh: Mesh) -> None:
        xml, known = self.xml, self.meshes[id(mesh)]
        mesh = with_implied_normals(mesh)
        xml.begin("geometry", id=known, name=mesh.name)
        xml.begin("mesh")
        self._source(f"{known}-positions", mesh.points, "XYZ")
        inputs = []
        for number, layer in _numbered(mesh):
            if layer.kind == "tangent":
                continue
            semantic, params = _SEMANTICS[layer.kind]
            source = f"{known}-{layer.kind}{number}"
            values = np.pad(layer.values, ((0, 0), (0, 4 - layer.values.shape[1])), constant_values=1.0) \
                if layer.kind == "color" else layer.values  # fmt: skip
            index = layer.index
            if layer.has_holes:
                # Every corner needs a row: those without a value share one of zeros.
                self._lost(
                    f"mesh '{mesh.name}': corners without {layer.kind} get zeros, which COLLADA cannot leave out"
                )
                index = np.where(index < 0, len(values), index)
                values = np.concatenate([values, np.zeros((1, values.shape[1]), np.float32)])
            self._source(source, values, params, layer.name)
            inputs.append((semantic, source, number if layer.kind != "normal" else None, index))
        xml.begin("vertices", id=f"{known}-vertices")
        xml.leaf("input", semantic="POSITION", source=f"#{known}-positions")
        xml.end()
        for slot in range(len(mesh.slots)):
            self._polygons(mesh, known, slot, inputs)
        xml.end(2)

    def _polygons(
        self, mesh: Mesh, known: str, slot: int, inputs: list[tuple[str, str, int | None, NDArray[np.int32]]]
    ) -> None:
        faces = mesh.slot_of_face == slot
        if not faces.any():
            return
        sizes = mesh.face_size[faces]
        corners = np.repeat(faces, mesh.face_size)
        xml = self.xml
        kind = "triangles" if (sizes == 3).all() else "polylist"
        xml.begin(kind, material=_symbol(slot) if mesh.slots[slot] is not None else None, count=len(sizes))
        xml.leaf("input", semantic="VERTEX", source=f"#{known}-vertices", offset=0)
        for offset, (semantic, source, number, _) in enumerate(inputs, 1):
            xml.leaf("input", semantic=semantic, source=f"#{source}", offset=offset, set=number)
        if kind == "polylist":
            xml.numbers("vcount", sizes.reshape(-1, 1))
        columns = [mesh.corner_point[corners], *(index[corners] for *_, index in inputs)]
        xml.numbers("p", np.stack(columns, axis=1))
        xml.end()

    def _source(self, known: str, values: NDArray[np.floating], params: str, name: str = "") -> None:
        xml = self.xml
        xml.begin("source", id=known, name=name or None)
        xml.numbers("float_array", values.astype(np.float32), id=f"{known}-array", count=values.size)
        xml.begin("technique_common")
        xml.begin("accessor", source=f"#{known}-array", count=len(values), stride=values.shape[1])
        for name in params:
            xml.leaf("param", name=name, type="float")
        xml.end(3)

    def _nodes(self) -> None:
        above: list[Node] = []
        for placed in self.scene.walk():
            while len(above) > len(placed.path) - 1:
                self._end_node(above.pop())
            self._node(placed.node)
            above.append(placed.node)
        while above:
            self._end_node(above.pop())

    def _end_node(self, node: Node) -> None:
        """What stands behind the children of a node: its properties."""
        simple = {key: value for key, value in node.properties.items() if _is_simple(value)}
        if len(simple) < len(node.properties):
            self._lost(f"properties of '{node.name}' that are not simple values are left out")
        if simple:
            self.xml.begin("extra")
            self.xml.begin("technique", profile=PROPERTIES)
            for key, value in simple.items():
                listed = isinstance(value, list | tuple)
                text = " ".join(repr(float(one)) for one in value) if listed else str(value)
                self.xml.leaf("param", text, name=key, type="floats" if listed else type(value).__name__)
            self.xml.end(2)
        self.xml.end()

    def _node(self, node: Node) -> None:
        """Opens the node of a tree and writes what stands in it, apart from its children."""
        xml = self.xml
        layer = " ".join("_".join(group.split()) for group in node.groups) or None
        known = self.roots.get(id(node)) or self.ids.new(node.name)
        xml.begin("node", id=known, name=node.name, layer=layer)
        matrix = node.transform
        content = node.content
        if node.role == "collision" and isinstance(content, Mesh) and content.face_count:
            self.solid.append((known, self.meshes[id(content)]))
        turned = aim(content.direction, content.up if isinstance(content, Camera) else None) \
            if isinstance(content, Light | Camera) else None  # fmt: skip
        if np.array_equal(matrix[:3, :3], np.eye(3)):
            if matrix[:3, 3].any():
                xml.leaf("translate", plain(*matrix[:3, 3]))
        else:
            xml.leaf("matrix", plain(*matrix.ravel()))
        if turned is not None:
            xml.begin("node", name=f"{node.name}_aim")
            xml.leaf("matrix", plain(*turned.ravel()))
        if node.piece is not None:
            stem = PurePosixPath(node.piece).stem
            xml.leaf("instance_node", url=f"{quote(node.piece)}#{Ids().new(stem)}")
        elif isinstance(content, Camera):
            xml.leaf("instance_camera", url=f"#{self.extras[id(content)]}")
        elif isinstance(content, Mesh) and content.face_count:
            self._instance(content)
        elif isinstance(content, Light):
            xml.leaf("instance_light", url=f"#{self.extras[id(content)]}")
        if turned is not None:
            xml.end()

    def _instance(self, mesh: Mesh) -> None:
        xml = self.xml
        used = [slot for slot in mesh.used_slots if mesh.slots[slot] is not None]
        if not used:
            xml.leaf("instance_geometry", url=f"#{self.meshes[id(mesh)]}")
            return
        xml.begin("instance_geometry", url=f"#{self.meshes[id(mesh)]}")
        xml.begin("bind_material")
        xml.begin("technique_common")
        for slot in used:
            xml.begin("instance_material", symbol=_symbol(slot), target=f"#{self.materials[id(mesh.slots[slot])]}")
            for number in range(len(mesh.uv_sets)):
                xml.leaf(
                    "bind_vertex_input",
                    semantic=f"UVSET{number}",
                    input_semantic="TEXCOORD",
                    input_set=number,
                )
            xml.end()
        xml.end(3)


_ROLES = frozenset({"base_color", "alpha", "normal", "emissive"})


def _symbol(slot: int) -> str:
    return f"slot{slot}"


def _numbered(mesh: Mesh) -> list[tuple[int, Layer]]:
    counts: dict[str, int] = {}
    found = []
    for layer in mesh.layers:
        counts[layer.kind] = counts.get(layer.kind, -1) + 1
        if layer.kind != "normal" or counts[layer.kind] == 0:
            found.append((counts[layer.kind], layer))
    return found


def _is_simple(value: Any) -> bool:
    """Whether a property is text, a number, or a list of numbers."""
    if isinstance(value, list | tuple):
        return bool(value) and all(type(one) in (int, float) for one in value)
    return isinstance(value, str | int | float)
