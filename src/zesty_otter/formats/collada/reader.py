"""COLLADA to a scene.

Khronos Group (2008), COLLADA digital asset schema release 1.4.1; Khronos Group (2008), release 1.5.0. What is
widespread beside them (double-sided and bump extras) is read as well.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.bare import if_sound
from zesty_otter.formats.collada.materials import Materials
from zesty_otter.formats.collada.mesh import Shape, read_shape
from zesty_otter.formats.collada.morphs import morphed
from zesty_otter.formats.collada.skins import bind_shape, posed, worlds_below
from zesty_otter.formats.skinning import moved
from zesty_otter.formats.xml import Element, child, children, floats, name_of, number, parse, text_of
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.model import Camera, Content, Frame, Light, Mesh, Node, Note, Scene, transformed

AXES = {"X_UP": "up right forward", "Y_UP": "left up forward", "Z_UP": "left back up"}
"""What the axes mean for each up axis (specification 1.4.1, "up_axis": right, up and in)."""

_DEEPEST = 60  # instances of nodes in nodes
_MOST_NODES = 200_000


def read(path: Path, *, progress: Callable[[float], None] | None = None, folders: Sequence[Path] = ()) -> Scene:
    """Read a COLLADA file."""
    del progress
    document = parse(path, "COLLADA")
    reading = _Reading(path, document.root, folders)
    for text in document.mended:
        reading.note("assumed", text)
    return reading.scene()


_MOST_NUMBERS = 64  # in a property that is a list
PROPERTIES = "zesty_otter_properties"
"""The profile of the extras that hold properties of nodes."""


class _Reading:
    def __init__(self, path: Path, root: Element, folders: Sequence[Path]) -> None:
        self.path, self.root = path, root
        self.notes: dict[tuple[str, str], Note] = {}
        # Held, so that each element is one object for as long as the reading lasts.
        self.everything = list(root.iter())
        self.by_id = {one.get("id"): one for one in self.everything if one.get("id")}
        self.materials = Materials(path, folders, self.find, self.note)
        self.shapes: dict[str, Shape | None] = {}
        self.meshes: dict[tuple[Any, ...], Mesh] = {}
        self.places: dict[Element, NDArray[np.float64]] = {}
        self.count = 0
        self.solids = self._solids()

    def note(self, kind: str, text: str) -> None:
        self.notes.setdefault((kind, text), Note(kind, text, "collada", str(self.path)))

    def find(self, url: str | None) -> Element | None:
        """What a reference within the file points to."""
        if not url:
            return None
        before, hash_sign, name = url.partition("#")
        if hash_sign and before:
            self.note("lost", f"'{url}' is in another file, which is not read")
            return None
        found: Element | None = self.by_id.get(name if hash_sign else url)
        return found

    def scene(self) -> Scene:
        asset = child(self.root, "asset")
        unit_element = child(asset, "unit")
        metres = number(unit_element.get("meter") if unit_element is not None else None, 1.0)
        if unit_element is None:
            self.note("assumed", "the file does not say its unit; the default of COLLADA, the metre, is taken")
        if not metres > 0:
            self.note("assumed", f"a unit of {metres:g} metres makes no sense; taken as 1")
            metres = 1.0
        up = text_of(child(asset, "up_axis"), "Y_UP").upper()
        if up not in AXES:
            self.note("assumed", f"'{up}' is not an up axis; Y_UP is taken")
        instance = child(self.root, "scene", "instance_visual_scene")
        visual = self.find(instance.get("url")) if instance is not None else None
        if visual is None:
            scenes = [one for one in self.root.iter() if name_of(one) == "visual_scene"]
            visual = scenes[0] if scenes else None
            if len(scenes) > 1:
                self.note("lost", f"{len(scenes) - 1} further scenes")
        if visual is None:
            self.note("assumed", "there is no scene; every geometry is placed at the origin")
            roots = self._loose_geometries()
        else:
            if child(self.root, "library_controllers") is not None:
                for one in children(visual, "node"):
                    worlds_below(one, np.eye(4), self._transform, self.places)
            roots = [self._node(one, 0, ()) for one in children(visual, "node")]
        if child(self.root, "library_animations") is not None:
            self.note("lost", "animations are left out; everything stands as modelled")
        frame = Frame(AXES.get(up, AXES["Y_UP"]), metres)
        name = (visual.get("name") or visual.get("id") if visual is not None else None) or self.path.stem
        return Scene(tuple(roots), frame, name, tuple(self.notes.values()), self.path)

    def _solids(self) -> dict[str, list[str]]:
        """The urls of the geometries that are the physical shape of a node, by its id."""
        bodies = {one.get("sid"): one for one in self.everything if name_of(one) == "rigid_body"}
        found: dict[str, list[str]] = {}
        for one in self.everything:
            if name_of(one) != "instance_rigid_body":
                continue
            shapes = list(children(child(bodies.get(one.get("body")), "technique_common"), "shape"))
            urls = [inner.get("url") or "" for shape in shapes for inner in children(shape, "instance_geometry")]
            if len(urls) < len(shapes):
                self.note("lost", "physics shapes other than meshes are left out")
            found.setdefault((one.get("target") or "").lstrip("#"), []).extend(urls)
        return found

    def _loose_geometries(self) -> list[Node]:
        nodes = []
        for library in children(self.root, "library_geometries"):
            for geometry in children(library, "geometry"):
                mesh = self._mesh(geometry, None)
                if mesh is not None:
                    nodes.append(Node(mesh.name, content=mesh))
        return nodes

    def _node(self, element: Element, depth: int, above: tuple[str, ...]) -> Node:
        self.count += 1
        if depth > _DEEPEST or self.count > _MOST_NODES:
            raise InputError("its nodes are nested recursively.", file=self.path, place=f"node {element.get('id')}")
        name = element.get("name") or element.get("id") or "node"
        below: list[Node] = []
        contents: list[Content] = []
        for one in children(element):
            kind = name_of(one)
            if kind == "node":
                below.append(self._node(one, depth + 1, above))
            elif kind == "instance_node" and _piece(one) is None:
                below += self._instance(one, depth, above)
            elif kind in ("instance_geometry", "instance_controller"):
                mesh = self._instance_mesh(one, kind, element)
                contents += [mesh] if mesh is not None else []
            elif kind == "instance_light":
                light = if_sound(partial(self._light, self.find(one.get("url"))), self.note)
                contents += [light] if light is not None else []
            elif kind == "instance_camera":
                camera = if_sound(partial(self._camera, self.find(one.get("url"))), self.note)
                contents += [camera] if camera is not None else []
        content = contents[0] if len(contents) == 1 else None
        if len(contents) > 1:
            below = [Node(f"{name}_{n}", content=one) for n, one in enumerate(contents, 1)] + below
        groups = tuple((element.get("layer") or "").split())
        solid = self.solids.get(element.get("id") or "", [])
        shown = {one.get("url") for one in children(element, "instance_geometry")}
        for count, url in enumerate((url for url in solid if url not in shown), 1):
            target = self.find(url)
            mesh = self._mesh(target, None) if target is not None and name_of(target) == "geometry" else None
            if mesh is not None:
                below.append(Node(f"{name}_collision_{count}", content=mesh, role="collision"))
        role = "collision" if shown.intersection(solid) else "visible"
        properties = dict(_properties(element))
        placed = [piece for one in children(element, "instance_node") if (piece := _piece(one)) is not None]
        if len(placed) == 1 and content is None:
            properties["piece"] = placed[0]
        elif placed:
            self.note("lost", f"node '{name}' places several other files; only a node of its own places one")
        return Node(
            name, self._transform(element), tuple(below), content, groups=groups, role=role, properties=properties
        )

    def _instance(self, one: Element, depth: int, above: tuple[str, ...]) -> list[Node]:
        url = one.get("url") or ""
        target = self.find(url)
        if target is None or name_of(target) != "node" or url in above:
            self.note("lost", f"node '{url}' that is instanced is not there, or holds itself")
            return []
        return [self._node(target, depth + 1, (*above, url))]

    def _transform(self, element: Element) -> NDArray[np.float64]:
        """All transform elements of a node, in order (specification, "node")."""
        matrix = np.eye(4)
        for one in children(element, "matrix", "translate", "rotate", "scale", "lookat", "skew"):
            values = floats(one.text)
            step = _step(name_of(one), values)
            if step is None or not np.isfinite(step).all():
                self.note("lost", f"a <{name_of(one)}> of node '{element.get('name')}' cannot be read")
                continue
            matrix = matrix @ step
        return matrix

    def _instance_mesh(self, one: Element, kind: str, node: Element) -> Mesh | None:
        target = self.find(one.get("url"))
        skins: list[Element] = []
        morphs: list[Element] = []
        if kind == "instance_controller" and target is not None:
            target, skins, morphs = self._controlled(target)
        if target is None or name_of(target) != "geometry":
            self.note("lost", f"geometry '{one.get('url')}' is not in the file")
            return None
        mesh = self._mesh(target, child(one, "bind_material", "technique_common"))
        for morph in reversed(morphs):
            mesh = None if mesh is None else self._morphed(mesh, target, morph)
        return mesh if mesh is None or not skins else self._skinned(mesh, target, skins, one, node)

    def _skinned(self, mesh: Mesh, geometry: Element, skins: list[Element], one: Element, node: Element) -> Mesh:
        """A mesh in the pose its joints stand in; in its bind pose where they are not to be found."""
        shape = self.shapes[geometry.getroottree().getpath(geometry)]
        roots = [root for text in children(one, "skeleton") if (root := self.find(text_of(text))) is not None]
        matrix = None
        if shape is not None and len(skins) == 1 and node in self.places:
            matrix = posed(skins[0], shape.used, roots, self.places, self.find)
        found = moved(mesh, matrix, self.places[node]) if matrix is not None else None
        if found is not None:
            self.note("lost", "skins are left out; skinned meshes stand in the pose of their joints")
            return found
        self.note("lost", "skins are left out; skinned meshes whose joints are not found stand in their bind pose")
        bind = np.eye(4)
        for skin in skins:
            bind = bind @ bind_shape(skin)
        return mesh if np.array_equal(bind, np.eye(4)) else transformed(mesh, bind[:3, :3], bind[:3, 3])

    def _morphed(self, mesh: Mesh, geometry: Element, morph: Element) -> Mesh:
        """A mesh as the weights of its variants have it; in its base shape where they cannot be told."""
        shape = self.shapes[geometry.getroottree().getpath(geometry)]
        found = None if shape is None else morphed(morph, mesh, shape.used, self.find)
        shown = "the base shape is taken" if found is None else "meshes stand as their weights have them"
        self.note("lost", f"shape variants are left out; {shown}")
        return mesh if found is None else found

    def _controlled(self, controller: Element) -> tuple[Element | None, list[Element], list[Element]]:
        """The geometry behind a controller, and the skins and morphs on the way to it."""
        skins: list[Element] = []
        morphs: list[Element] = []
        element: Element | None = controller
        for _ in range(8):
            skin, morph = child(element, "skin"), child(element, "morph")
            body = skin if skin is not None else morph
            if body is None:
                break
            (morphs if skin is None else skins).append(body)
            element = self.find(body.get("source"))
        return element, skins, morphs

    def _mesh(self, geometry: Element, binding: Element | None) -> Mesh | None:
        """The mesh of a geometry with the materials that a node binds; shared when another binds the same."""
        key = geometry.getroottree().getpath(geometry)
        if key not in self.shapes:
            self.shapes[key] = read_shape(geometry, self.find, self.note)
        shape = self.shapes[key]
        if shape is None:
            return None
        bound = {one.get("symbol"): one for one in children(binding, "instance_material")}
        materials = []
        for symbol in shape.symbols:
            one = bound.get(symbol)
            if one is None:
                # Old files name the material itself.
                element = self.find(f"#{symbol}") if symbol else None
                named = element is not None and name_of(element) == "material"
                materials.append(self.materials.bound(f"#{symbol}", {}) if named else None)
                continue
            sets = {
                bind.get("semantic", ""): shape.uv_sets.index(at)
                for bind in children(one, "bind_vertex_input")
                if (at := int(number(bind.get("input_set"), 0))) in shape.uv_sets
            }
            materials.append(self.materials.bound(one.get("target"), sets))
        kept = (key, *map(id, materials))
        if kept not in self.meshes:
            self.meshes[kept] = shape.mesh.replace(slots=tuple(materials))
        return self.meshes[kept]

    def _light(self, element: Element | None) -> Light | None:
        for kind in ("point", "directional", "spot"):
            found = child(element, "technique_common", kind)
            if element is None or found is None:
                continue
            color = np.array([*floats(text_of(child(found, "color"))).tolist(), 1.0, 1.0, 1.0][:3])
            # Brighter than white is how files of this format say how strong a light is.
            intensity = max(1.0, float(np.nan_to_num(color).max()))
            red, green, blue = (color / intensity).tolist()
            half = math.radians(number(text_of(child(found, "falloff_angle")), 180.0)) / 2
            name = element.get("name") or element.get("id") or "light"
            cone = (0.0, min(half, math.pi / 2))
            return Light(name, kind, (red, green, blue), intensity, cone=cone)
        self.note("lost", "ambient lights are left out")
        return None

    def _camera(self, element: Element | None) -> Camera | None:
        optics = child(element, "optics", "technique_common")
        lens = next(children(optics, "perspective", "orthographic"), None)
        if element is None or lens is None:
            self.note("lost", "a camera that cannot be read")
            return None
        about = {name_of(one): number(one.text, 0.0) for one in children(lens)}
        aspect = about.get("aspect_ratio") or None
        near, far = about.get("znear") or 0.1, about.get("zfar")
        name = element.get("name") or element.get("id") or "camera"
        if name_of(lens) == "orthographic":
            height = 2 * (about.get("ymag") or about.get("xmag", 1.0) / (aspect or 1.0))
            return Camera(name, False, height or 1.0, aspect, near, far)
        if "yfov" in about:
            height = math.radians(about["yfov"])
        else:
            height = 2 * math.atan(math.tan(math.radians(about.get("xfov", 45.0)) / 2) / (aspect or 1.0))
        return Camera(name, True, height, aspect, near, far)


def _properties(element: Element) -> Iterator[tuple[str, str | int | float | bool | list[float]]]:
    """The properties of a node, as our writer puts them into its extras."""
    for extra in children(element, "extra"):
        for technique in children(extra, "technique"):
            for one in children(technique, "param") if technique.get("profile") == PROPERTIES else ():
                text, kind = (one.text or "").strip(), one.get("type")
                if kind in ("int", "float"):
                    value = number(text, 0.0)
                    yield one.get("name", ""), int(value) if kind == "int" else value
                elif kind == "floats":
                    yield one.get("name", ""), [number(word, 0.0) for word in text.split()[:_MOST_NUMBERS]]
                else:
                    yield one.get("name", ""), text == "True" if kind == "bool" else text


def _step(kind: str, values: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """The matrix of one transform element; None when its numbers are too few."""
    need = {"matrix": 16, "translate": 3, "rotate": 4, "scale": 3, "lookat": 9, "skew": 7}[kind]
    if len(values) < need:
        return None
    matrix = np.eye(4)
    if kind == "matrix":
        matrix = values[:16].reshape(4, 4).copy()
        matrix[3] = (0.0, 0.0, 0.0, 1.0)
    elif kind == "translate":
        matrix[:3, 3] = values[:3]
    elif kind == "scale":
        matrix[:3, :3] = np.diag(values[:3])
    elif kind == "rotate":
        matrix[:3, :3] = about_axis(values[:3], math.radians(values[3]))
    elif kind == "lookat":
        eye, target, up = values[:3], values[3:6], values[6:9]
        back = _unit(eye - target)
        right = _unit(np.cross(up, back))
        matrix[:3, :3] = np.stack([right, np.cross(back, right), back], axis=1)
        matrix[:3, 3] = eye
    else:
        angle, about, along = math.radians(values[0]), _unit(values[1:4]), _unit(values[4:7])
        matrix[:3, :3] += math.tan(angle) * np.outer(about, along)
    return matrix


def _unit(vector: NDArray[np.float64]) -> NDArray[np.float64]:
    length = float(np.linalg.norm(vector))
    return vector / length if length > 0 else vector


def _piece(instance: Element) -> str | None:
    """The other file that an instance places, as a path; None where it is in this one."""
    before, hash_sign, _ = (instance.get("url") or "").partition("#")
    return unquote(before) if hash_sign and before else None
