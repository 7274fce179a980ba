"""X3D in its XML encoding to a scene (ISO/IEC 19775-1 for the nodes, ISO/IEC 19776-1 for the encoding)."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.bare import if_sound, sound_material
from zesty_otter.formats.facets import ExactFacts, Facets, became, facts_of
from zesty_otter.formats.files import find_beside, missing_texture
from zesty_otter.formats.placement import moved_uvs, placed_by
from zesty_otter.formats.x3d.classic import parse_classic, text_of
from zesty_otter.formats.x3d.shapes import FACE_SETS, PATCHES, PRIMITIVES, SWEPT, read_geometry
from zesty_otter.formats.x3d.swept import is_true
from zesty_otter.formats.xml import Document, Element, child, children, few_floats, floats, name_of, number, parse
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.model import (
    Camera,
    Content,
    Frame,
    Light,
    Material,
    Mesh,
    Node,
    Note,
    Scene,
    Texture,
    TextureUse,
    joined_meshes,
    roughness_of_shininess,
)

_PLACED = frozenset({"Transform", "CADPart", "HAnimHumanoid", "HAnimJoint", "HAnimSite"})
_GROUPS = _PLACED | {
    "Group", "StaticGroup", "Anchor", "Billboard", "Switch", "LOD", "Collision", "CADAssembly", "CADLayer", "CADFace",
    "HAnimSegment", "PickableGroup", "LayerSet", "Layer", "EspduTransform",
}  # fmt: skip
# Fields that name again what stands in the tree already.
_NAMED_AGAIN = frozenset({"joints", "segments", "sites", "viewpoints", "skinCoord", "skinNormal", "displacers"})
_SHAPED = FACE_SETS | PRIMITIVES | SWEPT
_SILENT = frozenset(
    {
        "WorldInfo", "NavigationInfo", "Background", "MetadataSet", "MetadataString", "MetadataFloat",
        "MetadataInteger", "MetadataDouble", "MetadataBoolean", "Fog", "TextureBackground",
    }
)  # fmt: skip
_LIGHTS = {"PointLight": "point", "SpotLight": "spot", "DirectionalLight": "directional"}
_TEXTURE_ROLES = {
    "baseTexture": "base_color", "diffuseTexture": "base_color", "normalTexture": "normal",
    "emissiveTexture": "emissive", "occlusionTexture": "occlusion", "texture": "base_color",
}  # fmt: skip
_MOST_NODES = 200_000
_MOST_FILES = 30  # files in files
_ENDINGS = (".x3d", ".x3dv", ".wrl", ".vrml", ".wrz")


def read(
    path: Path,
    *,
    progress: Callable[[float], None] | None = None,
    folders: Sequence[Path] = (),
    facets: Facets | str | None = None,
) -> Scene:
    """Read an X3D or VRML97 file."""
    del progress
    return _Reading(path, folders, facets=Facets.parsed(facets)).scene()


def facts(path: Path, progress: Callable[[float], None] | None = None) -> ExactFacts:
    """What patches are in a file, and what each density makes of them."""

    def reading(facets: Facets) -> tuple[Scene, dict[str, int]]:
        made = _Reading(path, (), facets=facets)
        return made.scene(), made.exact

    return facts_of(reading, progress)


class _Reading:
    def __init__(self, path: Path, folders: Sequence[Path], above: tuple[Path, ...] = (), *, facets: Facets) -> None:
        self.path, self.folders, self.above, self.facets = path, folders, (*above, path.resolve()), facets
        self.exact: dict[str, int] = {}
        self.metres = 1.0
        self.notes: dict[tuple[str, str], Note] = {}
        self.defined: dict[str, Element] = {}
        self.files: list[Path] = []
        self.inlined: dict[str, list[Node]] = {}
        # Held, as long as numbers are read from it.
        self.document = self._parsed()
        self.root = self.document.root
        for text in self.document.mended:
            self.note("assumed", text)
        # Held, so that each element is one object for as long as the reading lasts.
        self.everything = list(self.root.iter())
        for one in self.everything:
            if one.get("DEF"):
                self.defined.setdefault(one.get("key") or one.get("DEF") or "", one)
        self.meshes: dict[tuple[Any, ...], Mesh] = {}
        self.stretched: dict[int, NDArray[np.float64]] = {}
        self.geometries: dict[int, Mesh | None] = {}
        self.materials: dict[tuple[Any, ...], Material | None] = {}
        self.textures: dict[str, Texture | None] = {}
        self.count = 0

    def _parsed(self) -> Document:
        with self.path.open("rb") as file:
            first = file.read(256).lstrip(b"\xef\xbb\xbf \t\r\n")
        is_named = self.path.suffix.lower() in (".wrl", ".vrml", ".wrz", ".x3dv")
        self.is_vrml = first.startswith((b"#VRML", b"\x1f\x8b")) or (is_named and not first.startswith(b"#X3D"))
        if first.startswith((b"#VRML", b"#X3D", b"\x1f\x8b")) or (is_named and not first.startswith(b"<")):
            return parse_classic(self.path, self._other)
        return parse(self.path, "X3D")

    def _other(self, url: str) -> tuple[Path, str] | None:
        """Another file in the classic encoding that this one refers to."""
        found = find_beside(self.path, url, also_in=self.folders).path
        if found is None:
            return None
        self.files.append(found)
        return found, text_of(found)

    def note(self, kind: str, text: str) -> None:
        self.notes.setdefault((kind, text), Note(kind, text, "x3d", str(self.path)))

    def resolve(self, element: Element) -> Element:
        """The element itself, or the one it stands for."""
        use = element.get("USE")
        if not use:
            return element
        if use not in self.defined:
            self.note("lost", f"nothing is defined as '{use}'")
        return self.defined.get(use, element)

    def scene(self) -> Scene:
        metres = 1.0
        for unit in children(child(self.root, "head"), "unit"):
            if unit.get("category") == "length":
                metres = number(unit.get("conversionFactor"), 1.0)
        if not metres > 0:
            self.note("assumed", f"a unit of {metres:g} metres makes no sense; taken as 1")
            metres = 1.0
        self.metres = metres
        roots = self._nodes(child(self.root, "Scene"), 0, (), "")
        if any(name_of(one) == "ROUTE" for one in self.root.iter()):
            self.note("lost", "routes and what they drive are left out; everything stands as modelled")
        frame = Frame("left up forward", metres)
        if self.exact:
            self.note("done", became(self.exact))
        if self.is_vrml:
            self.note("assumed", "lengths are metres, as the standard says; --unit if they are not")
        return Scene(tuple(roots), frame, self.path.stem, tuple(self.notes.values()), self.path, tuple(self.files))

    def _nodes(self, parent: Iterable[Element] | None, depth: int, above: tuple[int, ...], name: str) -> list[Node]:
        """The nodes of everything that stands in a grouping node."""
        found: list[Node] = []
        for element in children(parent):
            self.count += 1
            if element.get("containerField") in _NAMED_AGAIN:
                continue
            target = self.resolve(element)
            kind = name_of(target)
            if kind in _GROUPS:
                if depth > 60 or self.count > _MOST_NODES or id(target) in above:
                    raise InputError("its nodes are nested recursively.", file=self.path)
                found += self._group(element, target, kind, depth, (*above, id(target)))
            elif kind == "Shape":
                mesh = self._shape(target, target.get("DEF") or name or "shape")
                if mesh is not None:
                    found.append(Node(element.get("DEF") or target.get("DEF") or mesh.name, content=mesh))
            elif kind in _LIGHTS:
                found.append(self._light(target, kind))
            elif kind in ("Viewpoint", "OrthoViewpoint"):
                found.append(self._camera(target, kind))
            elif kind == "Inline":
                found += self._inline(target)
            elif kind.startswith("Proto") or kind in ("ExternProtoDeclare", "Script"):
                self.note("lost", f"{kind} is not understood; it is left out")
            elif kind not in _SILENT and not kind.endswith(("Sensor", "Interpolator")) and kind not in ("ROUTE",):
                self.note("lost", f"{kind} is not carried")
        return found

    def _inline(self, element: Element) -> list[Node]:
        """The nodes of another file that is shown in this one."""
        text = element.get("url") or ""
        urls = [unquote(url) for url in re.findall(r'"([^"]*)"', text) or [text.strip().strip("'")] if url]
        key = " ".join(urls)
        if key not in self.inlined:
            tries = [find_beside(self.path, url.partition("#")[0], also_in=self.folders) for url in urls]
            path = next((one.path for one in tries if one.path is not None), None)
            self.inlined[key] = []
            if path is None:
                self.note(
                    "lost", f"another file ({', '.join(urls) or 'without a name'}) that is shown in this one is missing"
                )
            elif path.resolve() in self.above or len(self.above) > _MOST_FILES:
                self.note("lost", f"'{path.name}' is shown in itself; it is left out there")
            elif path.suffix.lower() not in _ENDINGS:
                self.note("lost", f"'{path.name}' that is shown in this one is not X3D or VRML97; it is left out")
            else:
                inner = _Reading(path, self.folders, self.above, facets=self.facets)
                scene = inner.scene()
                factor = (scene.frame.unit or 1.0) / self.metres
                self.notes |= inner.notes
                self.files += [path, *inner.files]
                nodes = list(scene.roots)
                if factor != 1.0:
                    nodes = [Node(path.stem, np.diag([factor, factor, factor, 1.0]), tuple(nodes))]
                self.inlined[key] = nodes
        name = _called(element)
        nodes = self.inlined[key]
        return [Node(name, children=tuple(nodes))] if name and nodes else nodes

    def _piece(self, element: Element) -> str | None:
        """The file that an inline shows as a piece of a level, if it is there."""
        marks = (one.get("name") for one in children(element) if name_of(one) == "MetadataString")
        if name_of(element) != "Inline" or "piece" not in marks:
            return None
        found = re.findall(r'"([^"]*)"', element.get("url") or "")
        if len(found) != 1 or "#" in found[0] or find_beside(self.path, unquote(found[0])).path is None:
            return None
        return unquote(found[0])

    def _group(self, element: Element, target: Element, kind: str, depth: int, above: tuple[int, ...]) -> list[Node]:
        name = _called(target) or kind.lower()
        pieces = [(one, piece) for one in children(target) if (piece := self._piece(one)) is not None]
        if kind == "Transform" and len(pieces) == 1:
            rest = [one for one in children(target) if one is not pieces[0][0]]
            hung = tuple(self._nodes(rest, depth + 1, above, name))
            properties = {"piece": pieces[0][1]}
            visible = is_true(target, "visible", True)
            return [Node(name, _transform(target), hung, visible=visible, properties=properties)]
        if kind == "Transform":
            shapes, rest = self._own_shapes(target)
            mesh = self._joined(shapes, name)
            if mesh is not None:
                hung = tuple(self._nodes(rest, depth + 1, above, name))
                return [Node(name, _transform(target), hung, content=mesh, visible=is_true(target, "visible", True))]
        proxies = [one for one in children(target) if one.get("containerField") == "proxy"]
        below = self._nodes(target, depth + 1, above, name)
        if kind == "Collision":
            return self._collision(target, proxies, depth, above, name)
        visible = is_true(target, "visible", True)
        if kind == "LOD":
            below = [_as_level(one, below[0].name, n, target, self.metres) for n, one in enumerate(below)]
            if not _called(target):
                return below
        elif kind == "Switch":
            choice = int(number(target.get("whichChoice"), -1.0))
            below = [replace(one, visible=one.visible and n == choice) for n, one in enumerate(below)]
            if len(below) == 1:
                return below
        transform = _transform(target) if kind in _PLACED else np.eye(4)
        only = below[0] if len(below) == 1 else None
        extra = only is not None and only.kind in ("light", "camera")
        if kind == "Transform" and only is not None and extra and np.array_equal(only.transform, np.eye(4)):
            return [Node(name, transform, content=only.content, visible=visible)]
        if element is not target and len(below) == 1 and kind == "Group":
            return below
        return [Node(name, transform, tuple(below), visible=visible)]

    def _collision(
        self, target: Element, proxies: list[Element], depth: int, above: tuple[int, ...], name: str
    ) -> list[Node]:
        """What collides in place of what is seen has the role of collision; the rest is just there."""
        chosen = set(map(id, proxies))
        seen: list[Node] = []
        for one in children(target):
            nodes = self._nodes([one], depth + 1, above, name)
            if id(one) in chosen:
                nodes = [_with_role(node, "collision") for node in nodes]
            seen += nodes
        if len(seen) == 1 and proxies:
            return seen
        return [Node(name, children=tuple(seen))]

    def _own_shapes(self, target: Element) -> tuple[list[Element], list[Element]]:
        """The shapes that are the mesh of a transform, and what hangs on it.

        They are all that is in it; or beside others those which are named after it, or the only one where that has no
        name of its own.
        """
        inside = [one for one in children(target) if not name_of(self.resolve(one)).startswith("Metadata")]
        shapes = [one for one in inside if name_of(self.resolve(one)) == "Shape"]
        if len(shapes) < len(inside):
            named = [one.get("DEF", "").startswith(f"{target.get('DEF')}-shape") for one in shapes]
            if not all(named) and (len(shapes) > 1 or shapes[0].get("DEF")):
                return [], inside
        return shapes, [one for one in inside if name_of(self.resolve(one)) != "Shape"]

    def _joined(self, shapes: list[Element], name: str) -> Mesh | None:
        """One mesh of shapes, which are the slots of it."""
        inside = map(self.resolve, shapes)
        meshes = [mesh for one in inside if (mesh := self._shape(one, name)) is not None]
        if len(meshes) < 2:
            return meshes[0] if meshes else None
        key = ("joined", *map(id, meshes))
        if key not in self.meshes:
            self.meshes[key] = joined_meshes(name, meshes)
        return self.meshes[key]

    def _shape(self, shape: Element, name: str) -> Mesh | None:
        geometry: Element | None = None
        appearance: Element | None = None
        for one in children(shape):
            target = self.resolve(one)
            if name_of(target) == "Appearance":
                appearance = target
            elif name_of(target) in _SHAPED | PATCHES or one.get("containerField", "geometry") == "geometry":
                geometry = target
        if geometry is None:
            return None
        if id(geometry) not in self.geometries:
            called = geometry.get("DEF") or name
            self.geometries[id(geometry)] = (
                self._patch(geometry, called)
                if name_of(geometry) in PATCHES
                else read_geometry(geometry, called, self.resolve, self.note)
            )
        mesh = self.geometries[id(geometry)]
        if mesh is None:
            return None
        two_sided = name_of(geometry) in FACE_SETS | SWEPT | PATCHES and not is_true(geometry, "solid", True)
        material = self._material(appearance, two_sided)
        stretched = self.stretched.get(id(appearance))
        key = id(mesh), id(material), id(stretched)
        if key not in self.meshes:
            own = mesh.replace(slots=(material,))
            self.meshes[key] = own if stretched is None else moved_uvs(own, stretched)
        return self.meshes[key]

    def _patch(self, geometry: Element, name: str) -> Mesh | None:
        # Few files have any, and curved surfaces are much to load.
        from zesty_otter.formats.exact import mesh_of_patches
        from zesty_otter.formats.x3d.nurbs import add_patch
        from zesty_otter.geometry.curves.patches import Patches

        patches = Patches()
        if not add_patch(patches, geometry, name, self.resolve, self.note):
            return None
        self.exact["B-spline"] = self.exact.get("B-spline", 0) + 1
        mesh, problems = mesh_of_patches(name, patches.body(), self.facets, self.metres)
        for text in problems:
            self.note("lost", f"'{name}': {text}")
        return mesh

    def _material(self, appearance: Element | None, two_sided: bool) -> Material | None:
        if appearance is None:
            return None
        key = id(appearance), two_sided
        if key not in self.materials:
            made = self._read_material(appearance)
            self.materials[key] = replace(made, two_sided=two_sided) if made is not None else None
        return self.materials[key]

    def _read_material(self, appearance: Element) -> Material | None:
        parts = {name_of(one): self.resolve(one) for one in children(appearance)}
        body = next((parts[kind] for kind in ("PhysicalMaterial", "Material", "UnlitMaterial") if kind in parts), None)
        uses: dict[str, TextureUse] = {}
        for holder in (appearance, body):
            for one in children(holder):
                target = self.resolve(one)
                role = _TEXTURE_ROLES.get(one.get("containerField", "texture"))
                if name_of(target) in ("PixelTexture", "MovieTexture", "MultiTexture"):
                    self.note("lost", f"{name_of(target)} is not carried")
                elif name_of(target) == "ImageTexture" and role:
                    texture = self._texture(target)
                    if texture is not None:
                        uses[role] = self._placed(
                            TextureUse(texture), parts.get("TextureTransform"), target, appearance
                        )
        if body is None and not uses:
            return None
        name = (_called(body) if body is not None else "") or _called(appearance) or "material"
        about = body if body is not None else appearance
        textured = "base_color" in uses
        kind = name_of(about)
        color = _color(about, "baseColor" if kind == "PhysicalMaterial" else "diffuseColor")
        color = color or ((1.0, 1.0, 1.0) if textured or kind == "PhysicalMaterial" else (0.8, 0.8, 0.8))
        opacity = 1.0 - min(max(number(about.get("transparency"), 0.0), 0.0), 1.0)
        shading: dict[str, Any] = {}
        roughness = 1.0
        if kind == "PhysicalMaterial":
            roughness = number(about.get("roughness"), 1.0)
        elif about.get("shininess") is not None:
            # Shininess 0 to 1 stands for exponents up to 128 (ISO/IEC 19775-1, 17.2.2.4).
            shading["shininess"] = 128.0 * number(about.get("shininess"), 0.2)
            specular = _color(about, "specularColor")
            if specular is not None:
                shading["specular"] = list(specular)
                roughness = roughness_of_shininess(shading["shininess"]) if any(specular) else 1.0
        glow = _color(about, "emissiveColor") or (0.0, 0.0, 0.0)
        alpha = (appearance.get("alphaMode") or "").lower()
        default = "blend" if opacity < 1.0 else "opaque"
        return sound_material(
            name,
            base_color=(*color, opacity),
            metallic=number(about.get("metallic"), 1.0) if kind == "PhysicalMaterial" else 0.0,
            roughness=roughness,
            emissive=glow,
            alpha_mode=alpha if alpha in ("opaque", "mask", "blend") else default,
            alpha_cutoff=number(appearance.get("alphaCutoff"), 0.5),
            shading=shading,
        ).with_textures(uses)

    def _placed(self, use: TextureUse, about: Element | None, image: Element, appearance: Element) -> TextureUse:
        clamp = not (is_true(image, "repeatS", True) and is_true(image, "repeatT", True))
        use = replace(use, clamp=clamp)
        if about is None:
            return use
        centre, scale, shift = (
            np.nan_to_num([*floats(about.get(key)).tolist(), missing, missing][:2])
            for key, missing in (("center", 0.0), ("scale", 1.0), ("translation", 0.0))
        )
        turned = number(about.get("rotation"), 0.0)
        # Moved, rotated about the centre and then scaled (ISO/IEC 19775-1, 18.4.8).
        c, s = math.cos(turned), math.sin(turned)
        linear = np.array([[c, -s], [s, c]]) * scale[:, None]
        matrix = np.column_stack([linear, linear @ (shift + centre) - centre])
        placed = placed_by(use, matrix)
        if placed is None:
            # Stretched after it was turned, which only UVs can have.
            self.stretched[id(appearance)] = matrix
        return placed or use

    def _texture(self, element: Element) -> Texture | None:
        text = element.get("url") or ""
        urls = re.findall(r'"([^"]*)"', text) or [text.strip().strip("'")]
        urls = [unquote(url) for url in urls if url]
        if not urls:
            return None
        if urls[0] not in self.textures:
            tries = [find_beside(self.path, url, also_in=self.folders) for url in urls]
            found = next((one for one in tries if one.path is not None), tries[0])
            if found.remark:
                self.note("assumed", found.remark)
            if found.path is None:
                self.note("lost", missing_texture(urls[0], found))
            name = found.path.name if found.path else re.split(r"[\\/]", urls[0])[-1]
            self.textures[urls[0]] = Texture(name, found.path, None, urls[0], found.looked_in)
        return self.textures[urls[0]]

    def _light(self, element: Element, kind: str) -> Node:
        name = element.get("DEF") or kind.lower()
        direction = (*floats(element.get("direction")).tolist(), 0.0, 0.0, -1.0)[:3]
        if not any(direction):
            direction = (0.0, 0.0, -1.0)
        half = min(max(number(element.get("cutOffAngle"), math.pi / 2), 0.0), math.pi / 2)
        beam = min(max(number(element.get("beamWidth"), math.pi / 4), 0.0), half)
        reach = number(element.get("radius"), 0.0) if kind != "DirectionalLight" else 0.0
        light = if_sound(
            lambda: Light(
                name,
                _LIGHTS[kind],
                _color(element, "color") or (1.0, 1.0, 1.0),
                number(element.get("intensity"), 1.0),
                reach if reach > 0 else None,
                cone=(beam, half),
                direction=(direction[0], direction[1], direction[2]),
            ),
            self.note,
        )
        return _moved_node(name, element, "location", light)

    def _camera(self, element: Element, kind: str) -> Node:
        name = element.get("DEF") or element.get("description") or "viewpoint"
        turned = _rotation(element.get("orientation"))
        look, up = turned @ (0.0, 0.0, -1.0), turned @ (0.0, 1.0, 0.0)
        view = floats(element.get("fieldOfView"))
        if kind == "OrthoViewpoint":
            height = float(view[3] - view[1]) if len(view) == 4 and view[3] > view[1] else 2.0
        else:
            height = float(view[0]) if len(view) and 0 < view[0] < math.pi else math.pi / 4
        camera = if_sound(
            lambda: Camera(name, kind == "Viewpoint", height, direction=_three(look), up=_three(up)), self.note
        )
        default = (0.0, 0.0, 10.0)
        return _moved_node(name, element, "position", camera, default)


def _called(element: Element) -> str:
    """The name of a node: that in its metadata, else the one it is defined as."""
    for one in children(element, "MetadataString"):
        found = re.fullmatch(r'\s*"((?:[^"\\]|\\.)*)"\s*', one.get("value") or "")
        if one.get("name") == "name" and found:
            return re.sub(r"\\(.)", r"\1", found[1])
    return element.get("DEF") or ""


def _three(values: NDArray[np.float64]) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])


def _moved_node(
    name: str,
    element: Element,
    field: str,
    content: Content | None,
    missing: tuple[float, float, float] = (0.0, 0.0, 0.0),
) -> Node:
    matrix = np.eye(4)
    place = floats(element.get(field))
    matrix[:3, 3] = place[:3] if len(place) >= 3 and np.isfinite(place[:3]).all() else missing
    return Node(name, matrix, content=content)


def _with_role(node: Node, role: str) -> Node:
    return replace(node, role=role, children=tuple(_with_role(one, role) for one in node.children))


def _as_level(node: Node, asset: str, level: int, lod: Element, metres: float) -> Node:
    """A child of an LOD node; the distance in metres from which it is shown travels with it. The first is the asset."""
    if level == 0:
        return node
    properties: dict[str, Any] = {**node.properties, "asset": asset, "level": level}
    ranges = floats(lod.get("range"))
    if 0 < level <= len(ranges):
        properties["distance"] = float(ranges[level - 1]) * metres
    return replace(node, role="level", properties=properties)


def _color(element: Element, key: str) -> tuple[float, float, float] | None:
    values = few_floats(element.get(key), 3)
    if values is None:
        return None
    r, g, b = (max(value, 0.0) for value in values)
    return min(r, 1.0), min(g, 1.0), min(b, 1.0)


def _rotation(text: str | None) -> NDArray[np.float64]:
    values = few_floats(text, 4)
    return np.eye(3) if values is None else about_axis(np.array(values[:3]), values[3])


def _transform(element: Element) -> NDArray[np.float64]:
    """T C R SR S -SR -C (ISO/IEC 19775-1, 10.4.4)."""

    scale, centre, moved = (few_floats(element.get(key), 3) for key in ("scale", "center", "translation"))
    matrix = np.eye(4)
    linear = matrix[:3, :3]
    linear[:] = _rotation(element.get("rotation"))
    if scale is not None:
        along = _rotation(element.get("scaleOrientation"))
        linear[:] = linear @ (along * scale) @ along.T
    if moved is not None:
        matrix[:3, 3] = moved
    if centre is not None:
        matrix[:3, 3] += np.array(centre) - linear @ centre
    return matrix
