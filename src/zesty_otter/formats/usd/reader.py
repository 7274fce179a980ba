"""USD layers, as text or binary, and packages of them, to a scene."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.archive import open_package
from zesty_otter.formats.bare import if_sound
from zesty_otter.formats.facets import ExactFacts, Facets, became, facts_of
from zesty_otter.formats.files import find_beside, load_bytes, missing_texture
from zesty_otter.formats.usd.materials import Materials
from zesty_otter.formats.usd.mesh import (
    SOLIDS,
    Shape,
    as_rows,
    numbers_of,
    read_mesh,
    read_solid,
    uv_names,
    value_of,
    whole_numbers_of,
    word_of,
    words_of,
)
from zesty_otter.formats.usd.skins import posed, target_above
from zesty_otter.formats.usd.stage import Stage
from zesty_otter.formats.usd.text import Asset, Prim, listed, width_of, word_in
from zesty_otter.geometry.surface.aim import about_axis
from zesty_otter.geometry.surface.placing import composed, rotations
from zesty_otter.model import (
    Camera,
    Content,
    Frame,
    Light,
    Material,
    Mesh,
    Node,
    Note,
    Placed,
    Scatter,
    Scene,
    Texture,
    determinant,
    is_within,
)
from zesty_otter.polygons import box_mesh

_NONE = np.zeros(0)

AXES = {"Y": "left up forward", "Z": "left back up"}
"""What the axes mean for each up axis."""

WHOLE, SHOWN = "zesty_otter_scene", "zesty_otter_content"
"""Marks of ours: a prim that stands for the whole scene, and one that is what the node above it shows."""

_NO_NODES = frozenset({"Material", "Shader", "NodeGraph", "GeomSubset"})
_NOT_CARRIED = frozenset({"BasisCurves", "NurbsCurves", "Points", "TetMesh", "Volume", "HermiteCurves"})
_LIGHTS = {"DistantLight": "directional", "SphereLight": "point", "DiskLight": "spot", "RectLight": "spot"}

_MOST_NUMBERS = 64  # in a property that is a list


def read(
    path: Path,
    *,
    progress: Callable[[float], None] | None = None,
    folders: Sequence[Path] = (),
    facets: Facets | str | None = None,
) -> Scene:
    """Read a .usda, .usdc or .usd file, or a .usdz package of them."""
    del progress
    data = load_bytes(path)
    package = open_package(path, data) if data[:2] == b"PK" else None
    reading = _Reading(path, folders, package, None if facets is None else Facets.parsed(facets))
    try:
        return reading.scene(data)
    except RecursionError:
        raise InputError("nests too deeply.", file=path) from None


def facts(path: Path, progress: Callable[[float], None] | None = None) -> ExactFacts:
    """What patches are in a file, and what each density makes of them."""

    def reading(facets: Facets) -> tuple[Scene, dict[str, int]]:
        data = load_bytes(path)
        made = _Reading(path, (), open_package(path, data) if data[:2] == b"PK" else None, facets)
        return made.scene(data), made.exact

    return facts_of(reading, progress)


class _Reading:
    def __init__(
        self, path: Path, folders: Sequence[Path], package: dict[str, bytes] | None, facets: Facets | None
    ) -> None:
        self.path, self.folders, self.package, self.facets = path, folders, package, facets
        self.unit = 0.01
        self.exact: dict[str, int] = {}
        self.notes: dict[tuple[str, str], Note] = {}
        self.read_files: list[Path] = []
        self.textures: dict[str, Texture | None] = {}
        self.meshes: dict[tuple[Any, ...], Mesh] = {}
        self.shapes: dict[tuple[Any, ...], Shape | None] = {}
        self.materials = Materials(self.find, self.texture, self.note)
        self.prims: dict[str, Prim] = {}
        self.two_sided: dict[int, Material] = {}
        self.alive: list[Any] = []

    def note(self, kind: str, text: str) -> None:
        self.notes.setdefault((kind, text), Note(kind, text, "usd", str(self.path)))

    def find(self, path: str) -> Prim | None:
        return self.prims.get(path)

    def scene(self, data: bytes) -> Scene:
        name = str(self.path)
        if self.package is not None:
            root = next((one for one in self.package if one.lower().endswith((".usda", ".usd", ".usdc"))), None)
            if root is None:
                raise InputError("is a package without a USD layer.", file=self.path)
            name, data = root, self.package[root]
        try:
            stage = Stage(name, data, self._fetch)
            roots = list(stage.prims())
        except InputError as error:
            if self.package is None:
                raise
            raise InputError(error.problem, file=self.path, place=f"{error.file} {error.place or ''}".strip()) from None
        for prim in roots:
            self._know(prim, f"/{prim.name}")
        self.unit = metres = self._metres(stage.root.meta)
        up = word_in(stage.root.meta, "upAxis").upper()
        if up not in AXES and "upAxis" in stage.root.meta:
            self.note("assumed", f"its upAxis is {stage.root.meta['upAxis']!r}, which is neither Y nor Z; Y is taken")
        nodes = [node for prim in roots for node in self._nodes(prim, f"/{prim.name}", np.eye(4), "")]
        if len(roots) == 1 and _is_marked(roots[0], WHOLE) and len(nodes) == 1 and _is_bare(nodes[0]):
            nodes = list(nodes[0].children)
        for remark in stage.remarks:
            self.note("lost", remark)
        if self.exact:
            self.note("done", became(self.exact))
        default = word_in(stage.root.meta, "defaultPrim")
        frame = Frame(AXES.get(up, AXES["Y"]), metres)
        title = word_in(roots[0].meta, "displayName") or default if default and roots else self.path.stem
        return Scene(tuple(nodes), frame, title, tuple(self.notes.values()), self.path, tuple(self.read_files))

    def _metres(self, meta: Mapping[str, Any]) -> float:
        """The metres in a unit."""
        told = meta.get("metersPerUnit")
        if isinstance(told, int | float) and 0 < told < math.inf and not isinstance(told, bool):
            return float(told)
        why = f"its metersPerUnit is {told!r}" if "metersPerUnit" in meta else "the file does not say its unit"
        self.note("assumed", f"{why}; the default of USD, centimetres, is taken")
        return 0.01

    def _know(self, prim: Prim, path: str) -> None:
        self.prims[path] = prim
        for name, child in prim.children.items():
            self._know(child, f"{path}/{name}")
        # Relative targets start from the prim they stand in.
        for one in prim.properties.values():
            if any(not target.startswith("/") for target in one.targets):
                one.targets = tuple(_absolute(target, path) for target in one.targets)

    def _fetch(self, wanted: str, layer: str) -> tuple[str, bytes] | None:
        """A layer another one names."""
        if self.package is not None:
            key = _inside(wanted, layer)
            return (key, self.package[key]) if key in self.package else None
        found = find_beside(Path(layer), wanted, also_in=(*self.folders, self.path.parent))
        if found.remark:
            self.note("assumed", found.remark)
        if found.path is None:
            return None
        self.read_files.append(found.path)
        data = load_bytes(found.path)
        if data[:2] == b"PK":
            inner = open_package(found.path, data)
            root = next((one for one in inner if one.lower().endswith((".usda", ".usd", ".usdc"))), None)
            return (f"{found.path}[{root}]", inner[root]) if root else None
        return str(found.path), data

    def texture(self, asset: Asset) -> Texture | None:
        """The image a texture reads."""
        key = f"{asset.layer}\0{asset.path}"
        if key in self.textures:
            return self.textures[key]
        path = re.sub(r"<UDIM>", "1001", asset.path)
        if path != asset.path:
            self.note("lost", f"texture '{asset.path}': of its tiles only the first is taken")
        if self.package is not None:
            inside = _inside(path, asset.layer)
            data = self.package.get(inside)
            if data is None:
                self.note("lost", f"texture '{asset.path}' is not in the package")
            made: Texture | None = Texture(PurePosixPath(inside).name, None, data, asset.path)
        else:
            layer = Path(asset.layer) if asset.layer else self.path
            found = find_beside(layer, path, also_in=(*self.folders, self.path.parent))
            if found.remark:
                self.note("assumed", found.remark)
            if found.path is None:
                self.note("lost", missing_texture(asset.path, found))
            name = found.path.name if found.path else re.split(r"[\\/]", path)[-1]
            made = Texture(name, found.path, None, path, found.looked_in)
        self.textures[key] = made
        return made

    # Nodes

    def _nodes(self, prim: Prim, path: str, above: NDArray[np.float64], bound: str) -> list[Node]:
        """The node of a prim; none when it is not defined or holds only materials."""
        if prim.specifier != "def" or prim.type in _NO_NODES or prim.meta.get("active") is False:
            return []
        if prim.type == "Scope" and prim.children and all(c.type in _NO_NODES for c in prim.children.values()):
            return []
        if prim.type in _NOT_CARRIED:
            self.note("lost", f"{prim.type} {path} is not carried")
            return []
        if prim.type.startswith("Skel") and prim.type != "SkelRoot":
            self.note("lost", "skeletons are left out")
            return []
        bound = self._binding(prim, path) or bound
        matrix, reset = self._transform(prim, path)
        local = matrix
        if reset and abs(determinant(above)) > 0:
            local = np.asarray(np.linalg.solve(above, matrix), np.float64)
            local[3] = (0.0, 0.0, 0.0, 1.0)
        world = matrix if reset else above @ matrix
        if prim.type == "PointInstancer":
            return [self._scattered(prim, path, local, bound)]
        below: list[Node] = []
        content, role = self._content(prim, path, bound, world), _role(prim)
        for key, child in prim.children.items():
            made = self._nodes(child, f"{path}/{key}", world, bound)
            if _is_marked(child, SHOWN) and content is None and len(made) == 1 and _is_unmoved(made[0]):
                # All that the prim shows: what is drawn has nothing below it in files that follow the rules.
                content, role = made[0].content, made[0].role if role == "visible" else role
                continue
            below += made
        name = word_in(prim.meta, "displayName") or prim.name
        return [
            Node(
                name,
                local,
                tuple(below),
                content,
                word_of(prim, "visibility") != "invisible",
                role=role,
                properties=_properties(prim),
            )
        ]

    def _content(self, prim: Prim, path: str, bound: str, world: NDArray[np.float64]) -> Content | None:
        if prim.type in ("Mesh", "NurbsPatch") or prim.type in SOLIDS:
            return self._mesh(prim, path, bound, world)
        if prim.type in _LIGHTS:
            return if_sound(lambda: self._light(prim), self.note)
        if prim.type == "Camera":
            return if_sound(lambda: self._camera(prim), self.note)
        if prim.type.endswith("Light"):
            self.note("lost", f"{prim.type} {path} is not carried")
        return None

    def _binding(self, prim: Prim, path: str) -> str:
        for name in ("material:binding", "material:binding:preview", "material:binding:full"):
            one = prim.properties.get(name)
            if one is not None and one.targets:
                return one.targets[0]
        return ""

    def _mesh(self, prim: Prim, path: str, bound: str, world: NDArray[np.float64]) -> Mesh | None:
        # Copies that references made share their arrays; so do the meshes made of them.
        arrays = [
            one.value
            for name, one in prim.properties.items()
            if isinstance(one.value, np.ndarray) and one.value.size > 4 and not name.startswith("xformOp:")
        ]
        self.alive += arrays
        key = (prim.type, *sorted(map(id, arrays))) if arrays else (prim.type, path)
        if key not in self.shapes:
            if prim.type == "Mesh":
                self.shapes[key] = read_mesh(prim, path, self.note)
            elif prim.type == "NurbsPatch":
                # Few files have any, and curved surfaces are much to load.
                from zesty_otter.formats.usd.exact import read_patch

                patch = read_patch(prim, path, self.facets or Facets(), self.unit, self.note)
                self.shapes[key] = None if patch is None else Shape(patch)
                self.exact["B-spline"] = self.exact.get("B-spline", 0) + 1
            else:
                self.shapes[key] = Shape(read_solid(prim))
        shape = self.shapes[key]
        if shape is None:
            return None
        slots, face_slot = self._slots(prim, path, bound, shape)
        if isinstance(two := value_of(prim, "doubleSided"), int) and two == 1:
            slots = tuple(self._two_sided(slot) for slot in slots)
        kept = (*key, *map(id, slots))
        if kept not in self.meshes:
            self.meshes[kept] = shape.mesh.replace(slots=slots, face_slot=face_slot)
        mesh = self.meshes[kept]
        if "primvars:skel:jointIndices" in prim.properties:
            mesh = self._skinned(mesh, shape, prim, path, world)
        if prim.type == "Mesh" and word_of(prim, "subdivisionScheme") != "none":
            mesh = self._smooth(mesh, shape, prim, kept)
        return mesh

    def _smooth(self, mesh: Mesh, shape: Shape, prim: Prim, key: tuple[Any, ...]) -> Mesh:
        """What a cage stands for, where a level is asked for; else the cage."""
        scheme = word_of(prim, "subdivisionScheme") or "catmullClark"
        if self.facets is None or self.facets.level is None or scheme != "catmullClark":
            how = "; --facets level=2 divides them" if scheme == "catmullClark" else f" ({scheme} is not followed)"
            self.note("assumed", f"subdivision meshes are taken as their cage{how}")
            return mesh
        from zesty_otter.formats.usd.exact import subdivided_mesh

        known = ("smooth", *key, id(mesh))
        if known not in self.meshes:
            self.meshes[known] = subdivided_mesh(mesh, prim, shape.points, self.facets, self.unit)
            self.note("done", "subdivision surfaces became polygons; --facets level=N says how often they are divided")
            self.alive.append(mesh)
        return self.meshes[known]

    def _skinned(self, mesh: Mesh, shape: Shape, prim: Prim, path: str, world: NDArray[np.float64]) -> Mesh:
        """A mesh in the pose of its skeleton; as it was modelled where that does not say enough."""
        skeleton = target_above(path, "skel:skeleton", self.find)
        place = self._world(skeleton)
        found = None
        if skeleton and abs(determinant(place)) > 0:
            below = np.asarray(np.linalg.solve(place, world), np.float64)
            found = posed(mesh, shape.points, prim, skeleton, below, self.find)
        if found is None:
            self.note("lost", "skins are left out; skinned meshes whose skeleton is not found stand as modelled")
            return mesh
        self.note("lost", "skins are left out; skinned meshes stand in the pose of their skeleton")
        if "skel:blendShapes" in prim.properties:
            self.note("lost", "shape variants are left out; the base shape is taken")
        return found

    def _world(self, path: str) -> NDArray[np.float64]:
        """The world transform of a prim."""
        matrix = np.eye(4)
        while path:
            prim = self.find(path)
            own, reset = self._transform(prim, path) if prim is not None else (np.eye(4), False)
            matrix = own @ matrix
            if reset:
                break
            path = path.rpartition("/")[0]
        return matrix

    def _two_sided(self, material: Material | None) -> Material | None:
        if material is None or material.two_sided or self.materials.says_its_sides(material):
            return material
        if id(material) not in self.two_sided:
            self.two_sided[id(material)] = replace(material, two_sided=True)
        return self.two_sided[id(material)]

    def _slots(
        self, prim: Prim, path: str, bound: str, shape: Shape
    ) -> tuple[tuple[Material | None, ...], NDArray[np.int32] | None]:
        """The material of the whole mesh, or those of its subsets in order, with the rest where faces are left; and
        which each face has, where there are several."""
        sets = uv_names(prim)
        whole = self.materials.at(bound, sets) if bound else None
        if not any(child.type == "GeomSubset" for child in prim.children.values()):
            return (whole,), None
        faces = shape.faces
        number = np.full(int(faces.max()) + 1, -1, np.int64)
        slots: list[Material | None] = []
        for name, child in prim.children.items():
            target = self._binding(child, f"{path}/{name}")
            if child.type != "GeomSubset" or not target:
                continue
            members = whole_numbers_of(child, "indices")
            number[members[(members >= 0) & (members < len(number))]] = len(slots)
            slots.append(self.materials.at(target, sets))
        of_face = number[faces]
        if not slots or (of_face < 0).any():
            of_face = np.where(of_face < 0, len(slots), of_face)
            slots.append(whole)
        return tuple(slots), of_face.astype(np.int32) if len(slots) > 1 else None

    def _scattered(self, prim: Prim, path: str, local: NDArray[np.float64], bound: str) -> Node:
        """A point instancer: a scatter of every mesh of its prototypes, in one node when there is only one."""
        targets = prim.properties["prototypes"].targets if "prototypes" in prim.properties else ()
        transforms, which, own = _copies(prim)
        sound = np.isfinite(transforms).all(axis=(1, 2))
        if not sound.all():
            self.note("lost", f"{path}: copies with places that are not finite numbers left out")
        found: list[tuple[Placed, Scatter]] = []
        for number, target in enumerate(targets):
            source = self.find(target)
            mine = sound & (which == number)
            copies, own_here = transforms[mine], {key: values[mine] for key, values in own.items()}
            piece = _piece(source) if source is not None else None
            if piece is not None and len(targets) == 1:
                name = word_in(prim.meta, "displayName") or prim.name
                box = as_rows(numbers_of(source, "extentsHint"), 3) if source is not None else np.zeros((0, 3))
                mesh = box_mesh(name, *(box if len(box) == 2 else np.array([[0.0] * 3, [1.0] * 3])))
                scatter = Scatter(mesh, copies, own_here)
                visible = word_of(prim, "visibility") != "invisible"
                properties = {**_properties(prim), "piece": piece}
                return Node(name, local, (), scatter, visible, properties=properties)
            prototype = self._nodes(_defined(source), target, np.eye(4), bound) if source is not None else []
            for placed in Scene(tuple(prototype), Frame(AXES["Y"])).walk():
                if placed.node.mesh is not None and placed.visible and len(copies):
                    found.append((placed, Scatter(placed.node.mesh, copies @ placed.world, own_here)))
                elif placed.node.content is not None:
                    self.note("lost", f"{path}: of what it scatters only meshes that are shown are carried")
        name = word_in(prim.meta, "displayName") or prim.name
        visible = word_of(prim, "visibility") != "invisible"
        properties = _properties(prim)
        if len(found) == 1:
            role = found[0][0].node.role
            return Node(name, local, (), found[0][1], visible, role=role, properties=properties)
        below = tuple(Node(placed.node.name, content=scatter, role=placed.node.role) for placed, scatter in found)
        return Node(name, local, below, visible=visible, properties=properties)

    def _light(self, prim: Prim) -> Light:
        def value(name: str, missing: list[float]) -> list[float]:
            found = numbers_of(prim, f"inputs:{name}")
            found = found if len(found) else numbers_of(prim, name)
            return found.tolist() if len(found) and np.isfinite(found).all() else missing

        color = (*value("color", [1.0, 1.0, 1.0]), 1.0, 1.0)[:3]
        angle = value("shaping:cone:angle", [90.0])[0]
        kind = _LIGHTS[prim.type]
        if kind == "point" and f"inputs:{'shaping:cone:angle'}" in prim.properties:
            kind = "spot"
        unsaid = 50_000.0 if kind == "directional" else 1.0
        strength = value("intensity", [unsaid])[0] * 2.0 ** value("exposure", [0.0])[0]
        intensity = strength * self._shining(prim, value)
        cone = math.radians(min(max(angle, 0.0), 90.0))
        name = word_in(prim.meta, "displayName") or prim.name
        soft = value("shaping:cone:softness", [1.0])[0]
        inner = cone * (1.0 - min(max(soft, 0.0), 1.0))
        return Light(name, kind, (color[0], color[1], color[2]), max(intensity, 0.0), cone=(inner, cone))

    def _shining(self, prim: Prim, value: Callable[[str, list[float]], list[float]]) -> float:
        """The luminous intensity, or illuminance, of a light of strength one (UsdLux, "Normalization").

        Its strength is a luminance, or with ``normalize`` that times the area, or the solid angle, it comes from.
        """
        even = value_of(prim, "inputs:normalize") in (1, True)
        radius = value("radius", [0.5])[0] * self.unit
        if prim.type == "DistantLight":
            half = math.radians(min(max(value("angle", [0.53])[0], 0.0), 360.0)) / 2
            solid = math.pi * math.sin(half) ** 2 if half <= math.pi / 2 else math.pi * (2 - math.sin(half) ** 2)
            return 1.0 if even or solid == 0 else solid
        if prim.type == "SphereLight":
            return 0.25 if even else math.pi * radius**2
        if prim.type == "RectLight":
            return 1.0 if even else value("width", [1.0])[0] * value("height", [1.0])[0] * self.unit**2
        return 1.0 if even else math.pi * radius**2

    def _camera(self, prim: Prim) -> Camera:
        def value(name: str, missing: float) -> float:
            found = numbers_of(prim, name)
            return float(found[0]) if len(found) and found[0] > 0 else missing

        wide, high = value("horizontalAperture", 20.955), value("verticalAperture", 15.2908)
        near, far = (*numbers_of(prim, "clippingRange").tolist(), 1.0, 1e6)[:2]
        name = word_in(prim.meta, "displayName") or prim.name
        if word_of(prim, "projection") == "orthographic":
            return Camera(name, False, high / 10.0, wide / high, near, far)
        # Aperture and focal length are in tenths of a unit both, so that only their ratio matters.
        height = 2 * math.atan(high / 2 / value("focalLength", 50.0))
        return Camera(name, True, height, wide / high, near, far)

    def _transform(self, prim: Prim, path: str) -> tuple[NDArray[np.float64], bool]:
        """The local transform of all xformOps in order, and whether those of ancestors do not count."""
        matrix, reset = np.eye(4), False
        for op in words_of(prim, "xformOpOrder"):
            if op == "!resetXformStack!":
                matrix, reset = np.eye(4), True
                continue
            inverse = op.startswith("!invert!")
            name = op.removeprefix("!invert!")
            step = _xform_op(name.split(":")[1] if ":" in name else "", numbers_of(prim, name))
            if step is None or not np.isfinite(step).all():
                self.note("lost", f"{path}: {name} cannot be read")
                continue
            if inverse:
                if abs(determinant(step)) < 1e-300:
                    continue
                step = np.asarray(np.linalg.inv(step), np.float64)
            matrix = matrix @ step
        if any(one.samples for key, one in prim.properties.items() if key.startswith("xformOp:")):
            self.note("lost", "animations are left out; everything stands as at the earliest time")
        return matrix, reset


def _copies(prim: Prim) -> tuple[NDArray[np.float64], NDArray[np.int64], dict[str, NDArray[Any]]]:
    """Places of the copies of a point instancer that are not hidden, their prototypes, and what each has of its own.

    (N, 4, 4), (N,), and by name arrays (N,) or (N, k).
    """
    which = whole_numbers_of(prim, "protoIndices")
    widths = {"positions": 3, "orientationsf": 4, "orientations": 4, "scales": 3}
    columns = {name: as_rows(numbers_of(prim, name), width) for name, width in widths.items()}
    count = min(len(which), len(columns["positions"]))
    turned = columns["orientationsf"] if len(columns["orientationsf"]) >= count else columns["orientations"]
    transforms = composed(
        count,
        columns["positions"][:count],
        turned[:count, [1, 2, 3, 0]] if len(turned) >= count else None,
        columns["scales"][:count] if len(columns["scales"]) >= count else None,
    )
    said = whole_numbers_of(prim, "ids")
    ids = said[:count] if len(said) >= count else np.arange(count)
    shown = ~np.isin(ids, whole_numbers_of(prim, "invisibleIds"))
    own = {}
    for name, one in prim.properties.items():
        width = width_of(one.type)
        key = name.removeprefix("primvars:")
        values = numbers_of(prim, name).ravel() if name != key and one.type.endswith("[]") and width <= 4 else _NONE
        if len(values) == count * width and count and is_within(values):
            whole = one.type.startswith("int")
            table = (values if width == 1 else as_rows(values, width)).astype(np.int64 if whole else np.float64)
            own[key] = table[shown]
    return transforms[shown], which[:count][shown].astype(np.int64), own


def _defined(prim: Prim) -> Prim:
    """A prototype, which may be a class or an over."""
    return prim if prim.specifier == "def" else replace(prim, specifier="def")


def _role(prim: Prim) -> str:
    schemas = set(map(str, listed(prim.meta.get("apiSchemas"))))
    if schemas & {"PhysicsCollisionAPI", "PhysicsMeshCollisionAPI"}:
        return "collision"
    return {"proxy": "stand-in", "guide": "marker"}.get(word_of(prim, "purpose"), "visible")


def _piece(prim: Prim) -> str | None:
    """The file that a prim shows as a piece of a level."""
    custom = prim.meta.get("customData")
    found = custom.get("piece") if isinstance(custom, dict) else None
    return found if isinstance(found, str) else None


def _is_unmoved(node: Node) -> bool:
    """Whether a node is as our writer left it: somebody may have moved or hidden it since."""
    return node.visible and np.array_equal(node.transform, np.eye(4))


def _is_bare(node: Node) -> bool:
    """Whether a node is nothing but what holds others together."""
    return _is_unmoved(node) and node.content is None


def _is_marked(prim: Prim, mark: str) -> bool:
    custom = prim.meta.get("customData")
    return isinstance(custom, dict) and custom.get(mark) is True


def _properties(prim: Prim) -> dict[str, Any]:
    custom = prim.meta.get("customData")
    found = custom if isinstance(custom, dict) else {}
    kept: dict[str, Any] = {}
    for key, value in found.items():
        if key in (WHOLE, SHOWN):
            continue
        if isinstance(value, str | int | float | bool):
            kept[key] = value
        elif (
            isinstance(value, np.ndarray)
            and value.ndim == 1
            and value.size <= _MOST_NUMBERS
            and value.dtype.kind in "fi"
        ):
            kept[key] = value.tolist()
    return kept


def _absolute(target: str, path: str) -> str:
    if target.startswith("/"):
        return target
    base = path.strip("/").split("/")
    prim, dot, rest = target.partition(".") if not target.startswith(".") else ("", "", target)
    if target.startswith("."):
        words = target.split("/")
        while words and words[0] == "..":
            base, words = base[:-1], words[1:]
        return "/" + "/".join([*base, *words])
    return "/" + "/".join([*base, prim]) + dot + rest


def _inside(wanted: str, layer: str) -> str:
    """The name of a file in a package, as another one in it spells it."""
    home = PurePosixPath(layer).parent
    parts: list[str] = []
    for part in (home / wanted.replace("\\", "/")).parts:
        if part == "..":
            parts = parts[:-1]
        elif part not in (".", "/"):
            parts.append(part)
    return "/".join(parts)


def _xform_op(kind: str, values: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """The matrix of one xformOp; None when its numbers are too few (Pixar, "UsdGeomXformOp")."""
    if not np.isfinite(values).all():
        return None
    matrix = np.eye(4)
    if kind == "transform":
        if len(values) < 16:
            return None
        matrix = values[:16].reshape(4, 4).T.copy()
        matrix[3] = (0.0, 0.0, 0.0, 1.0)
    elif kind == "translate" and len(values) >= 3:
        matrix[:3, 3] = values[:3]
    elif kind == "scale" and len(values) >= 3:
        matrix[:3, :3] = np.diag(values[:3])
    elif kind == "orient" and len(values) >= 4:
        matrix[:3, :3] = rotations(values[[1, 2, 3, 0]])[0]
    elif kind in ("rotateX", "rotateY", "rotateZ") and len(values) >= 1:
        matrix[:3, :3] = about_axis(np.eye(3)["XYZ".index(kind[-1])], math.radians(values[0]))
    elif re.fullmatch("rotate[XYZ]{3}", kind) and len(values) >= 3:
        # The first letter turns first: it stands farthest to the right.
        for letter in kind[6:]:
            axis = "XYZ".index(letter)
            matrix[:3, :3] = about_axis(np.eye(3)[axis], math.radians(values[axis])) @ matrix[:3, :3]
    else:
        return None
    return matrix
