"""A scene to USD, as text, binary, or a package with its textures.

Everything is said in text; the binary layer is that text taken apart, with its long arrays as they are.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import nothing_to_write, shows_nothing
from zesty_otter.formats.files import Buffer, Encoded, joined
from zesty_otter.formats.one_image import with_alpha_in_color
from zesty_otter.formats.placement import is_placed
from zesty_otter.formats.text import list_of
from zesty_otter.formats.textures_out import TextureFiles
from zesty_otter.formats.usd.crate_out import encode as encode_layer
from zesty_otter.formats.usd.package import package
from zesty_otter.formats.usd.reader import AXES, SHOWN, WHOLE
from zesty_otter.formats.usd.text import parse, width_of
from zesty_otter.geometry.surface.aim import aim
from zesty_otter.geometry.surface.placing import sheared, taken_apart
from zesty_otter.model import (
    ROLES,
    Camera,
    Frame,
    Layer,
    Light,
    Material,
    Mesh,
    Node,
    Note,
    Scatter,
    Scene,
    TextureUse,
    count_of,
    expanded,
    reframed,
)
from zesty_otter.shading import with_implied_normals

_LIGHTS = {"point": "SphereLight", "spot": "DiskLight", "directional": "DistantLight"}
_INPUTS = {
    "base_color": ("diffuseColor", "color3f", "rgb"),
    "emissive": ("emissiveColor", "color3f", "rgb"),
    "metallic": ("metallic", "float", "r"),
    "roughness": ("roughness", "float", "r"),
    "normal": ("normal", "normal3f", "rgb"),
    "occlusion": ("occlusion", "float", "r"),
    "alpha": ("opacity", "float", "a"),
}
_SIMPLE = (str, bool, int, float)
_LAMP = 0.01  # metres: the radius of what lights are shown as

_CONTENT = ["customData = {", f"    bool {SHOWN} = true", "}"]


def encode(scene: Scene, name: str, *, copies: str = "instances") -> Encoded:
    """The files of a scene: a layer and its textures, or one package of both when ``name`` ends in .usdz."""
    if shows_nothing(scene):
        raise nothing_to_write(scene)
    axes = AXES["Z" if scene.frame.up[0] == 2 else "Y"]
    turned = scene
    if scene.frame.axes != Frame(axes).axes:
        turned = reframed(scene, Frame(axes, scene.frame.unit))
    # Copies are made of a translation, a rotation and a scale.
    turned, apart = expanded(turned, lambda scatter: bool(sheared(scatter.transforms).any()))
    turned, notes = with_alpha_in_color(turned, "usd")
    if apart:
        notes.append(Note("lost", f"scatters with sheared copies became {count_of(apart, 'node')}", "usd"))
    writer = _Writer(turned, name, copies)
    writer.write()
    notes += [*writer.notes, *writer.textures.notes]
    layer: list[Buffer] = [writer.binary()] if writer.is_binary else writer.out
    if not name.lower().endswith(".usdz"):
        return Encoded({**writer.textures.files, name: layer}, notes)
    inside: dict[str, Iterable[Buffer]] = {f"{name[:-5]}.usdc": layer, **writer.textures.files}
    return Encoded({name: [package(inside)]}, notes)


class _Writer:
    def __init__(self, scene: Scene, name: str, copies: str) -> None:
        self.scene = scene
        self.stem = name.rsplit(".", 1)[0]
        packed = name.lower().endswith(".usdz")
        self.is_binary = packed or name.lower().endswith(".usdc")
        self.arrays: list[tuple[str, NDArray[Any]]] = []
        self.textures = TextureFiles(self.stem, "usd", ("PNG", "JPEG") if packed else ())
        self.notes: list[Note] = []
        self.out: list[Buffer] = []
        self.depth = 0
        self.root = _identifier(scene.name or self.stem, set())
        # Everything is inside one prim, so that a file that refers to this one gets all of it.
        inside: set[str] = set()
        self.root_names = [_identifier(node.name, inside) for node in scene.roots]
        self.library = f"/{self.root}/{_identifier('materials', inside)}"
        self.prototypes = f"/{self.root}/{_identifier('prototypes', inside)}"
        used: set[str] = set()
        self.materials = {id(one): _identifier(one.name, used) for one in scene.materials}
        used = set()
        self.shared = _shared(scene, used, solid=False) if copies == "instances" else {}
        self.solids = _shared(scene, used, solid=True) if copies == "instances" else {}

    def _line(self, text: str = "") -> None:
        self.out.append(f"{'    ' * self.depth}{text}\n".encode() if text else b"\n")

    def _array(self, start: str, values: NDArray[Any], end: str = "") -> None:
        """A property whose value is a list of numbers; in a binary layer a number stands for it in the text."""
        if self.is_binary:
            kind, name = start.split()
            width = width_of(kind)
            place = ", ".join([str(len(self.arrays))] * width)
            place = f"({place})" if width > 1 else place
            self.arrays.append((name, values))
            self.out.append(f"{'    ' * self.depth}{start} = [{place}]{end}\n".encode())
            return
        self.out += [f"{'    ' * self.depth}{start} = [".encode(), *list_of(values), f"]{end}\n".encode()]

    def binary(self) -> bytes:
        """The layer that the text says, with its lists of numbers in their places."""
        root = parse(joined(self.out))
        waiting = [root]
        while waiting:
            prim = waiting.pop()
            waiting += prim.children.values()
            for name, one in prim.properties.items():
                if isinstance(one.value, np.ndarray) and len(one.value) == width_of(one.type) and one.type[-1] == "]":
                    number = int(one.value[0])
                    if 0 <= number < len(self.arrays) and self.arrays[number][0] == name:
                        one.value = self.arrays[number][1]
        return encode_layer(root)

    def _open(self, head: str, meta: list[str]) -> None:
        if meta:
            self._line(f"{head} (")
            self.depth += 1
            for one in meta:
                self._line(one)
            self.depth -= 1
            self._line(")")
        else:
            self._line(head)
        self._line("{")
        self.depth += 1

    def _close(self) -> None:
        self.depth -= 1
        self._line("}")

    def _lost(self, text: str) -> None:
        note = Note("lost", text, "usd")
        if note not in self.notes:
            self.notes.append(note)

    def write(self) -> None:
        self._line("#usda 1.0")
        self._line("(")
        self.depth += 1
        self._line(f"defaultPrim = {_quoted(self.root)}")
        self._line(f"metersPerUnit = {self.scene.frame.unit or 1.0:.17g}")
        self._line(f'upAxis = "{"XYZ"[self.scene.frame.up[0]]}"')
        self.depth -= 1
        self._line(")")
        meta = ['kind = "component"', "customData = {", f"    bool {WHOLE} = true", "}"]
        self._open(f'def Xform "{self.root}"', self._named(meta, self.scene.name, self.root))
        if self.materials:
            self._open(f'def Scope "{self.library.rpartition("/")[2]}"', [])
            for material in self.scene.materials:
                self._material(material)
            self._close()
        if self.shared or self.solids:
            self._line()
            self._open(f'class "{self.prototypes.rpartition("/")[2]}"', [])
            for mesh in self.scene.meshes:
                if id(mesh) in self.shared:
                    self._open(f'def Xform "{self.shared[id(mesh)]}"', [])
                    self._content(mesh, mesh.name, bound=False)
                    self._close()
                if id(mesh) in self.solids:
                    self._open(f'def Mesh "{self.solids[id(mesh)]}"', _applied(_schemas_of(mesh, solid=False)))
                    self._mesh(mesh)
                    self._close()
            self._close()
        self._nodes()
        self._close()

    def _named(self, meta: list[str], name: str, known: str) -> list[str]:
        """Metadata with the name of something, where its prim cannot be called so."""
        return meta if not name or name == known else [f"displayName = {_quoted(name)}", *meta]

    def _nodes(self) -> None:
        names: list[tuple[str, set[str]]] = []  # of the open prims: path, and the names taken in it
        roots = iter(self.root_names)
        for placed in self.scene.walk():
            while len(names) > len(placed.path) - 1:
                self._close()
                names.pop()
            name = next(roots) if not names else _identifier(placed.node.name, names[-1][1])
            path = f"{names[-1][0] if names else f'/{self.root}'}/{name}"
            taken: set[str] = set()
            self._line()
            self._open_node(placed.node, name, path, taken)
            names.append((path, taken))
        while names:
            self._close()
            names.pop()

    def _open_node(self, node: Node, name: str, path: str, taken: set[str]) -> None:
        """The prim of a node; names of prims in it that are no children of the node are added to ``taken``."""
        content = node.content
        mesh = content if isinstance(content, Mesh) and content.face_count else None
        scatter = content if isinstance(content, Scatter) and content.mesh.face_count else None
        kind = "Xform"
        if isinstance(content, Light):
            kind = _LIGHTS[content.kind]
        elif isinstance(content, Camera):
            kind = "Camera"
        # Nothing that is drawn has anything below it, but for what stands for all of it.
        apart = bool(node.children)
        solid = mesh is not None and node.role == "collision"
        shared = mesh is not None and not solid and id(mesh) in self.shared
        schemas: list[str] = []
        meta: list[str] = []
        if not apart and scatter is not None:
            kind = "PointInstancer"
        elif not apart and shared and mesh is not None:
            schemas, meta = self._instance(mesh)
        elif not apart and mesh is not None:
            kind, schemas, meta = "Mesh", _schemas_of(mesh, solid=solid), self._solid_source(mesh, solid=solid)
        if isinstance(content, Light) and content.kind == "spot":
            schemas.append("ShapingAPI")
        if node.piece is not None and content is None:
            meta += [*([] if apart else ["instanceable = true"]), f"prepend references = @./{node.piece}@"]
        meta += _applied(schemas)
        self._open(f'def {kind} "{name}"', self._named([*meta, *self._custom(node)], node.name, name))
        if not apart and shared and mesh is not None:
            self._bind_whole(mesh)
        elif not apart and mesh is not None and not (solid and id(mesh) in self.solids):
            self._mesh(mesh)
        if solid and not apart:
            self._line('uniform token physics:approximation = "convexHull"')
        if ROLES[node.role].is_guide or solid:
            self._line('uniform token purpose = "guide"')
        elif node.role == "stand-in":
            self._line('uniform token purpose = "proxy"')
        if isinstance(content, Light):
            self._light(content)
        elif isinstance(content, Camera):
            self._camera(content)
        if not node.visible:
            self._line('token visibility = "invisible"')
        self._placement(node)
        if scatter is not None and not apart:
            self._scatter(scatter, path, node.piece)
        if apart and mesh is not None:
            own = _identifier(mesh.name, taken)
            if shared:
                self._open_instance(mesh, own)
                self._close()
            else:
                self._content(mesh, mesh.name, solid=solid)
        elif apart and scatter is not None:
            own = _identifier(f"{name}_copies", taken)
            self._open(f'def PointInstancer "{own}"', _CONTENT)
            self._scatter(scatter, f"{path}/{own}", node.piece)
            self._close()

    def _content(self, mesh: Mesh, name: str, *, solid: bool = False, bound: bool = True) -> None:
        """A mesh that is all that the prim above it shows, ``bound`` to its material here."""
        meta = [*self._solid_source(mesh, solid=solid), *_applied(_schemas_of(mesh, solid=solid)), *_CONTENT]
        known = _identifier(name, set())
        self._open(f'def Mesh "{known}"', self._named(meta, name, known))
        if not (solid and id(mesh) in self.solids):
            self._mesh(mesh, bound=bound)
        if solid:
            self._line('uniform token physics:approximation = "convexHull"')
        self._close()

    def _solid_source(self, mesh: Mesh, *, solid: bool) -> list[str]:
        """Metadata of a physical shape of which there are several: each is a mesh of its own that refers to one."""
        shared = solid and id(mesh) in self.solids
        return [f"prepend references = <{self.prototypes}/{self.solids[id(mesh)]}>"] if shared else []

    def _instance(self, mesh: Mesh) -> tuple[list[str], list[str]]:
        """Schemas and metadata of a prim that shows a mesh which others show too."""
        whole = len(mesh.used_slots) == 1 and mesh.slots[mesh.used_slots[0]] is not None
        source = f"{self.prototypes}/{self.shared[id(mesh)]}"
        return ["MaterialBindingAPI"] if whole else [], ["instanceable = true", f"prepend references = <{source}>"]

    def _open_instance(self, mesh: Mesh, name: str) -> None:
        schemas, meta = self._instance(mesh)
        self._open(f'def Xform "{name}"', [*meta, *_applied(schemas), *_CONTENT])
        self._bind_whole(mesh)

    def _bind_whole(self, mesh: Mesh) -> None:
        """The material of a mesh that has only one."""
        used = mesh.used_slots
        if len(used) == 1 and mesh.slots[used[0]] is not None:
            self._line(f"rel material:binding = <{self._material_path(mesh.slots[used[0]])}>")

    def _scatter(self, scatter: Scatter, path: str, piece: str | None) -> None:
        """The copies of a mesh, and the mesh itself where no other shows it, and no other file has it."""
        places, turned, scales = taken_apart(scatter.transforms)
        turned = turned[:, [3, 0, 1, 2]]
        self._line(f"rel prototypes = <{path}/prototypes/mesh>")
        self._array("int[] protoIndices", np.zeros(scatter.count, np.int32))
        self._array("point3f[] positions", places)
        self._array("quath[] orientations", turned.astype(np.float16).astype(np.float64))
        # What half precision rounds off is kept for readers that know the later property.
        self._array("quatf[] orientationsf", turned)
        self._array("float3[] scales", scales)
        for key, values in scatter.properties.items():
            self._of_copies(key, values)
        self._line(f"float3[] extent = [{', '.join(f'({_numbers(*one)})' for one in _reach(scatter))}]")
        self._line()
        self._open('def Scope "prototypes"', [])
        self._line()
        mesh = scatter.mesh
        if piece is not None:
            self._open('def Xform "mesh"', ["customData = {", f"    string piece = {_quoted(piece)}", "}",
                                            f"prepend references = @./{piece}@"])  # fmt: skip
            self._array("float3[] extentsHint", mesh.surface_bounds)
        elif id(mesh) in self.shared:
            self._open_instance(mesh, "mesh")
        else:
            meta = _applied(_schemas_of(mesh, solid=False))
            self._open('def Mesh "mesh"', self._named(meta, mesh.name, "mesh"))
            self._mesh(mesh)
        self._close()
        self._close()

    def _of_copies(self, key: str, values: NDArray[Any]) -> None:
        """What each copy has of its own, (N,) or (N, k)."""
        if re.fullmatch(r"[A-Za-z_]\w*", key) is None:
            self._lost(f"property '{key}' of copies is not a name that USD allows; it is left out")
            return
        if values.dtype.kind == "i" and values.ndim == 1 and bool(((values >= 0) & (values < 2**31)).all()):
            kind, stored = "int[]", values.astype(np.int32)
        else:
            width = values.shape[1] if values.ndim == 2 else 1
            kind, stored = f"float{width if width > 1 else ''}[]", values.reshape(-1, width).astype(np.float32)
            if values.dtype.kind == "i" and not np.array_equal(stored.reshape(values.shape), values):
                self._lost(f"whole numbers of property '{key}' of copies are rounded to 32-bit floats")
        self._array(f"{kind} primvars:{key}", stored, self._about('interpolation = "varying"'))

    def _custom(self, node: Node) -> list[str]:
        """Properties that travel with a node."""
        words = []
        for key, value in node.properties.items():
            named = re.fullmatch(r"[A-Za-z_]\w*", key) is not None
            if named and isinstance(value, list | tuple) and all(type(one) in (int, float) for one in value):
                words.append(f"    double[] {key} = [{', '.join(repr(float(one)) for one in value)}]")
            elif not isinstance(value, _SIMPLE) or not named:
                self._lost(f"property '{key}' of node '{node.name}' is not a simple value; it is left out")
            elif isinstance(value, bool):
                words.append(f"    bool {key} = {str(value).lower()}")
            elif isinstance(value, int):
                words.append(f"    int {key} = {value}")
            elif isinstance(value, float):
                words.append(f"    double {key} = {value!r}")
            else:
                words.append(f"    string {key} = {_quoted(value)}")
        return ["customData = {", *words, "}"] if words else []

    def _placement(self, node: Node) -> None:
        matrix = node.transform
        content = node.content
        turned = None
        if isinstance(content, Camera):
            turned = aim(content.direction, content.up)
        elif isinstance(content, Light) and content.kind != "point":
            turned = aim(content.direction)
        if turned is not None:
            self._lost(f"'{node.name}' is turned so that its light or camera looks along -Z, as USD has it")
            matrix = matrix @ turned
        if np.array_equal(matrix, np.eye(4)):
            return
        if np.array_equal(matrix[:3, :3], np.eye(3)):
            self._line(f"double3 xformOp:translate = ({', '.join(f'{v:.17g}' for v in matrix[:3, 3])})")
            self._line('uniform token[] xformOpOrder = ["xformOp:translate"]')
            return
        # Rows of a USD matrix are columns of ours.
        rows = ", ".join(f"({', '.join(f'{v:.17g}' for v in row)})" for row in matrix.T)
        self._line(f"matrix4d xformOp:transform = ({rows})")
        self._line('uniform token[] xformOpOrder = ["xformOp:transform"]')

    def _light(self, light: Light) -> None:
        self._line(f"color3f inputs:color = ({_numbers(*light.color)})")
        # Strength that does not depend on how large the lamp is (UsdLux, "Normalization").
        self._line(f"float inputs:intensity = {_numbers(light.intensity * (4.0 if light.kind == 'point' else 1.0))}")
        self._line("bool inputs:normalize = 1")
        if light.kind != "directional":
            self._line(f"float inputs:radius = {_numbers(_LAMP / (self.scene.frame.unit or 1.0))}")
        if light.kind == "point":
            self._line("bool treatAsPoint = 1")
        if light.kind == "spot":
            self._line(f"float inputs:shaping:cone:angle = {_numbers(math.degrees(light.cone[1]))}")
            if 0 < light.cone[0] < light.cone[1]:
                self._line(f"float inputs:shaping:cone:softness = {_numbers(1 - light.cone[0] / light.cone[1])}")
        if light.reach is not None:
            self._lost(f"light '{light.name}': USD lights have no reach")

    def _camera(self, camera: Camera) -> None:
        aspect = camera.aspect or 1.5
        high = 15.2908 if camera.perspective else camera.height * 10.0
        if camera.perspective:
            self._line(f"float focalLength = {_numbers(high / 2 / math.tan(camera.height / 2))}")
        else:
            self._line('token projection = "orthographic"')
        self._line(f"float horizontalAperture = {_numbers(high * aspect)}")
        self._line(f"float verticalAperture = {_numbers(high)}")
        self._line(f"float2 clippingRange = ({_numbers(camera.near, camera.far or 1e6)})")

    def _mesh(self, mesh: Mesh, *, bound: bool = True) -> None:
        mesh = with_implied_normals(mesh)
        if any(slot is not None and slot.two_sided for slot in mesh.slots):
            self._line("uniform bool doubleSided = true")
        box = mesh.surface_bounds
        self._line(f"float3[] extent = [({_numbers(*box[0])}), ({_numbers(*box[1])})]")
        self._array("int[] faceVertexCounts", mesh.face_size)
        self._array("int[] faceVertexIndices", mesh.corner_point)
        self._array("point3f[] points", mesh.points)
        self._line('uniform token subdivisionScheme = "none"')
        for name, layer in _named_layers(mesh):
            self._layer(mesh, name, layer)
        used = mesh.used_slots
        if len(used) > 1:
            self._subsets(mesh, used)
        elif bound:
            self._bind_whole(mesh)

    def _subsets(self, mesh: Mesh, used: Sequence[int]) -> None:
        self._line('uniform token subsetFamily:materialBind:familyType = "partition"')
        taken: set[str] = set()
        for number in used:
            slot = mesh.slots[number]
            name = _identifier(slot.name if slot is not None else "plain", taken)
            schema = ['prepend apiSchemas = ["MaterialBindingAPI"]'] if slot is not None else []
            self._open(f'def GeomSubset "{name}"', schema)
            self._line('uniform token elementType = "face"')
            self._line('uniform token familyName = "materialBind"')
            self._array("int[] indices", np.flatnonzero(mesh.slot_of_face == number))
            if slot is not None:
                self._line(f"rel material:binding = <{self._material_path(slot)}>")
            self._close()

    def _layer(self, mesh: Mesh, name: str, layer: Layer) -> None:
        kind = {"normal": "normal3f", "uv": "texCoord2f", "color": "color3f"}[layer.kind]
        values, index = layer.values, layer.index
        if layer.has_holes:
            self._lost(f"mesh '{mesh.name}': corners without {layer.kind} get zeros; USD wants a value for each")
            values = np.concatenate([values, np.zeros((1, values.shape[1]), np.float32)])
            index = np.where(index < 0, len(layer.values), index)
        plain = len(values) == len(mesh.points) and np.array_equal(index, mesh.corner_point)
        of_point = None if plain else _row_of_point(mesh, index)
        if of_point is not None:
            values, plain = values[of_point], True
        said = [f'interpolation = "{"vertex" if plain else "faceVarying"}"']
        said += [f"displayName = {_quoted(layer.name)}"] if layer.kind == "uv" and layer.name else []
        how = self._about(*said)
        tables = [(f"{kind}[] {name}", values[:, :3])]
        if values.shape[1] == 4:
            tables.append((f"float[] {name.replace('Color', 'Opacity')}", values[:, 3:]))
        for start, table in tables:
            if name == "normals" and not plain:
                # Not every reader knows normals with an index.
                self._array(start, table[index], how)
                continue
            self._array(start, table, how)
            if not plain:
                self._array(f"int[] {start.split()[1]}:indices", index)

    def _about(self, *said: str) -> str:
        """Metadata of an attribute; a line for each, as not every reader knows it in the line of its attribute."""
        pad = "    " * self.depth
        return f" (\n{''.join(f'{pad}    {one}' + chr(10) for one in said)}{pad})"

    def _material_path(self, material: Material | None) -> str:
        return f"{self.library}/{self.materials[id(material)]}"

    def _material(self, material: Material) -> None:
        name = self.materials[id(material)]
        path = f"{self.library}/{name}"
        meta = [f"displayName = {_quoted(material.name)}"] if name != material.name else []
        # USD says on which side a mesh is seen, not a material.
        meta += ["customData = {", f"    bool two_sided = {str(material.two_sided).lower()}", "}"]
        self._open(f'def Material "{name}"', meta)
        self._line(f"token outputs:surface.connect = <{path}/surface.outputs:surface>")
        uses = {role: use for role, use in material.textures.items() if role in _INPUTS}
        if "alpha" not in uses and material.alpha_mode != "opaque" and "base_color" in uses:
            uses["alpha"] = uses["base_color"]
        self._open('def Shader "surface"', [])
        self._line('uniform token info:id = "UsdPreviewSurface"')
        values: dict[str, tuple[float, ...]] = {
            "base_color": material.base_color[:3],
            "emissive": material.emissive,
            "metallic": (material.metallic,),
            "roughness": (material.roughness,),
            "alpha": (material.base_color[3] if material.alpha_mode != "opaque" else 1.0,),
        }
        for role, (key, kind, output) in _INPUTS.items():
            if role in uses:
                channel = uses[role].channel if output != "rgb" and uses[role].channel else output
                self._line(f"{kind} inputs:{key}.connect = <{path}/{role}.outputs:{channel}>")
            elif role in values:
                numbers = _numbers(*values[role])
                self._line(f"{kind} inputs:{key} = {f'({numbers})' if kind == 'color3f' else numbers}")
        if material.alpha_mode == "mask":
            self._line(f"float inputs:opacityThreshold = {_numbers(material.alpha_cutoff or 1e-6)}")
        for key, name in (("clearcoat", "clearcoat"), ("clearcoat_roughness", "clearcoatRoughness")):
            if material.shading.get("clearcoat") and key in material.shading:
                self._line(f"float inputs:{name} = {_numbers(float(material.shading[key]))}")
        self._line("token outputs:surface")
        self._close()
        for number in sorted({use.uv_set for use in uses.values()}):
            self._open(f'def Shader "uv{number}"', [])
            self._line('uniform token info:id = "UsdPrimvarReader_float2"')
            self._line(f"string inputs:varname = {_quoted(_uv_name(number))}")
            self._line("float2 outputs:result")
            self._close()
        for role, use in uses.items():
            factor = tuple(values.get(role, (1.0,)))
            self._texture(path, role, use, factor if len(factor) == 3 else factor * 3)
        self._close()

    def _texture(self, path: str, role: str, use: TextureUse, factor: tuple[float, ...]) -> None:
        source = f"{path}/uv{use.uv_set}.outputs:result"
        if is_placed(use):
            self._open(f'def Shader "{role}_place"', [])
            self._line('uniform token info:id = "UsdTransform2d"')
            self._line(f"float2 inputs:in.connect = <{source}>")
            self._line(f"float2 inputs:scale = ({_numbers(*use.scale)})")
            self._line(f"float2 inputs:translation = ({_numbers(*use.offset)})")
            self._line(f"float inputs:rotation = {_numbers(math.degrees(use.rotation))}")
            self._line("float2 outputs:result")
            self._close()
            source = f"{path}/{role}_place.outputs:result"
        wrap = "clamp" if use.clamp else "repeat"
        space = "sRGB" if role in ("base_color", "emissive", "alpha") else "raw"
        self._open(f'def Shader "{role}"', [])
        self._line('uniform token info:id = "UsdUVTexture"')
        self._line(f"asset inputs:file = @{self.textures.path(use.texture)}@")
        self._line(f'token inputs:sourceColorSpace = "{space}"')
        self._line(f"float2 inputs:st.connect = <{source}>")
        self._line(f'token inputs:wrapS = "{wrap}"')
        self._line(f'token inputs:wrapT = "{wrap}"')
        if role == "normal":
            # How strong it is says how far it leans.
            self._line(f"float4 inputs:scale = ({_numbers(2 * use.strength, 2 * use.strength)}, 2, 1)")
            self._line(f"float4 inputs:bias = ({_numbers(-use.strength, -use.strength)}, -1, 0)")
        elif any(value != 1.0 for value in factor):
            self._line(f"float4 inputs:scale = ({_numbers(*factor, factor[0] if role == 'alpha' else 1.0)})")
        self._line("float3 outputs:rgb")
        for channel in "rgba":
            self._line(f"float outputs:{channel}")
        self._close()


def _shared(scene: Scene, taken: set[str], *, solid: bool) -> dict[int, str]:
    """Meshes that several nodes show, or that several physical shapes have, with a name for each."""
    nodes = (placed.node for placed in scene.walk())
    shown = Counter(id(node.drawn) for node in nodes if (node.role == "collision" and node.mesh is not None) == solid)
    several = (mesh for mesh in scene.meshes if shown[id(mesh)] > 1 and mesh.face_count)
    return {id(mesh): _identifier(mesh.name, taken) for mesh in several}


def _applied(schemas: Sequence[str]) -> list[str]:
    return [f"prepend apiSchemas = [{', '.join(map(_quoted, schemas))}]"] if schemas else []


def _schemas_of(mesh: Mesh, *, solid: bool) -> list[str]:
    bound = ["MaterialBindingAPI"] if any(slot is not None for slot in mesh.slots) else []
    return [*bound, "PhysicsCollisionAPI", "PhysicsMeshCollisionAPI"] if solid else bound


def _reach(scatter: Scatter) -> NDArray[np.float64]:
    """(2, 3) a box that holds all copies: their places, with the size of the largest about them."""
    linear, places = scatter.transforms[:, :3, :3], scatter.transforms[:, :3, 3]
    if not len(places):
        return np.zeros((2, 3))
    low, high = scatter.mesh.surface_bounds
    middle, half = (low + high) / 2, (high - low) / 2
    centre = places + linear @ middle
    about = np.einsum("nij,j->ni", np.abs(linear), half)
    return np.stack([(centre - about).min(axis=0), (centre + about).max(axis=0)])


def _named_layers(mesh: Mesh) -> Iterator[tuple[str, Layer]]:
    for layer in mesh.layers_of("normal")[:1]:
        yield "normals", layer
    for number, layer in enumerate(mesh.uv_sets):
        yield f"primvars:{_uv_name(number)}", layer
    for layer in mesh.layers_of("color")[:1]:
        yield "primvars:displayColor", layer


def _row_of_point(mesh: Mesh, index: NDArray[Any]) -> NDArray[Any] | None:
    """(P,) the row of each point in a table, where all corners of a point have the same; else None."""
    if not len(index):
        return None
    found = np.zeros(len(mesh.points), np.int32)
    found[mesh.corner_point] = index
    return found if np.array_equal(found[mesh.corner_point], index) else None


def _uv_name(number: int) -> str:
    return "st" if number == 0 else f"st{number}"


def _identifier(name: str, taken: set[str]) -> str:
    """A name that is an identifier, and new among its siblings."""
    base = re.sub(r"[^A-Za-z0-9_]", "_", name) or "_"
    if base[0].isdigit():
        base = f"_{base}"
    found, count = base, 1
    while found in taken:
        count += 1
        found = f"{base}_{count}"
    taken.add(found)
    return found


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\r", "\\r")
    return f'"{escaped}"'


def _numbers(*values: float) -> str:
    return ", ".join(f"{float(np.float32(value)):.9g}" for value in values)
