"""STEP to a scene (ISO 10303-21; application protocols 203, 214 and 242)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from zesty_otter.errors import InputError
from zesty_otter.exact import Origin, reading
from zesty_otter.formats.exact import lengths_on, size_of
from zesty_otter.formats.facets import ExactFacts, Facets, became, facts_of
from zesty_otter.formats.files import load_bytes
from zesty_otter.formats.step.exchange import Exchange, ExchangeError, Instance, Ref, Typed
from zesty_otter.formats.step.looks import Looks
from zesty_otter.formats.step.shapes import Bodies, Shapes, number_of, ref_of, refs_of
from zesty_otter.formats.step.tessellated import TESSELLATED, tessellated
from zesty_otter.geometry.curves.curves import Floats
from zesty_otter.geometry.curves.faceting import Polygons, faceted
from zesty_otter.model import Frame, Layer, Mesh, Node, Note, Scene, count_of, shortened

_PREFIX = {
    "EXA": 1e18, "PETA": 1e15, "TERA": 1e12, "GIGA": 1e9, "MEGA": 1e6, "KILO": 1e3, "HECTO": 1e2, "DECA": 1e1,
    "DECI": 1e-1, "CENTI": 1e-2, "MILLI": 1e-3, "MICRO": 1e-6, "NANO": 1e-9, "PICO": 1e-12, "FEMTO": 1e-15,
}  # fmt: skip
_DEEPEST, _MOST_NODES = 60, 200_000
_SOLIDS = ("MANIFOLD_SOLID_BREP", "BREP_WITH_VOIDS", "FACETED_BREP")
_SURFACES = ("SHELL_BASED_SURFACE_MODEL", "FACE_BASED_SURFACE_MODEL", "GEOMETRIC_SET")


def read(
    path: Path,
    *,
    progress: Callable[[float], None] | None = None,
    folders: Sequence[Path] = (),
    facets: Facets | str | None = None,
) -> Scene:
    """Read a STEP file."""
    del folders
    return _Reading(path, _exchange(path), Facets.parsed(facets), progress, reading()).scene()


def _exchange(path: Path) -> Exchange:
    try:
        exchange = Exchange(load_bytes(path))
    except ExchangeError as error:
        raise InputError(f"{error}.", file=path, remedy="Export it again as STEP.") from None
    if not len(exchange.numbers):
        raise InputError("holds no instances.", file=path, remedy="Export it again as STEP.")
    return exchange


def facts(path: Path, progress: Callable[[float], None] | None = None) -> ExactFacts:
    """What surfaces are in a STEP file, and what each density makes of them."""
    exchange = _exchange(path)

    def read_as(facets: Facets) -> tuple[Scene, dict[str, int]]:
        made = _Reading(path, exchange, facets)
        return made.scene(), made.surfaces

    return facts_of(read_as, progress)


@dataclass(frozen=True)
class _Context:
    """Lengths in metres, angles in radians, and how near to each other things are that meet."""

    unit: float
    angle: float
    tolerance: float


@dataclass(frozen=True)
class _Shown:
    """A mesh in its place within a part, with its groups."""

    name: str
    mesh: Mesh
    groups: tuple[str, ...] = ()
    place: Floats | None = None


@dataclass
class _Part:
    """What is placed: meshes with their names, and parts below with their transforms."""

    name: str
    meshes: list[_Shown] = field(default_factory=list)
    polygons: list[_Shown] = field(default_factory=list)  # tessellated shapes, where nothing exact stands for them
    below: list[tuple[str, int, Floats]] = field(default_factory=list)


class _Reading:
    def __init__(
        self,
        path: Path,
        exchange: Exchange,
        facets: Facets,
        progress: Callable[[float], None] | None = None,
        keep: Callable[[Origin], None] | None = None,
    ) -> None:
        self.keep = keep
        self.path, self.exchange, self.facets, self.progress = path, exchange, facets, progress
        self.notes: dict[tuple[str, str], Note] = {}
        self.shapes = Shapes(exchange)
        self.looks = Looks(exchange)
        self.contexts: dict[int, _Context] = {}
        self.count = 0
        self.problems: list[str] = []
        self.surfaces: dict[str, int] = {}
        self.solids = self.done = 0
        self.made: dict[int, list[_Shown]] = {}
        self.healed: dict[int, float] = {}
        self.turned = 0
        self.unit = 0.001

    def note(self, kind: str, text: str) -> None:
        self.notes.setdefault((kind, text), Note(kind, text, "step", str(self.path)))

    def scene(self) -> Scene:
        exchange = self.exchange
        if exchange.is_cut:
            self.note("lost", "the file ends in the middle; what is whole before that is read")
        if exchange.broken:
            self.note("lost", f"{count_of(exchange.broken, 'instance')} that cannot be read left out")
        if exchange.missing:
            self.note("lost", f"{count_of(exchange.missing, 'reference')} to instances that are not in the file")
        self.solids = max(len(exchange.of_kind(*_SOLIDS, *_SURFACES, *TESSELLATED)), 1)
        representations = [row for row in self._representations() if row]
        contexts = [self._context_of(one) for one in representations]
        units = [one.unit for one in contexts if one is not None]
        if units:
            self.unit = max(sorted(set(units)), key=units.count)
        else:
            self.note("assumed", "the file does not say its unit; millimetres are taken")
        roots = self._assembled()
        if not roots:
            roots = self._loose()
        if self.problems:
            shown = shortened(self.problems, 5)
            self.note("lost", f"{count_of(len(self.problems), 'face')} not carried: {shown}")
        if self.healed:
            worst = max(self.healed, key=lambda face: self.healed[face])
            self.note("assumed", f"{count_of(len(self.healed), 'face')} with edges off their surface, by up to"
                      f" {self.healed[worst]:.3g} (face #{worst}); they keep their edges")  # fmt: skip
        if self.turned:
            self.note("assumed", f"{count_of(self.turned, 'solid')} inside out; turned outward")
        if self.looks.lost:
            self.note("lost", f"not carried: {shortened(sorted(self.looks.lost), 6)}")
        if not any(self.made.values()):
            self.note("lost", "the file holds no faces")
        frame = Frame("right forward up", self.unit)
        if self.surfaces:
            self.note("done", became(self.surfaces))
        self.note("done", "axes 'right forward up', as usual for STEP, which says none; --axes if it lies otherwise")
        return Scene(tuple(roots), frame, self.path.stem, tuple(self.notes.values()), self.path)

    # Contexts

    def _representations(self) -> list[int]:
        kinds = (
            "SHAPE_REPRESENTATION", "ADVANCED_BREP_SHAPE_REPRESENTATION", "FACETED_BREP_SHAPE_REPRESENTATION",
            "MANIFOLD_SURFACE_SHAPE_REPRESENTATION", "GEOMETRICALLY_BOUNDED_SURFACE_SHAPE_REPRESENTATION",
            "GEOMETRICALLY_BOUNDED_WIREFRAME_SHAPE_REPRESENTATION", "TESSELLATED_SHAPE_REPRESENTATION",
            "SHELL_BASED_WIREFRAME_SHAPE_REPRESENTATION", "EDGE_BASED_WIREFRAME_SHAPE_REPRESENTATION",
            "CSG_SHAPE_REPRESENTATION", "NON_MANIFOLD_SURFACE_SHAPE_REPRESENTATION", "REPRESENTATION",
        )  # fmt: skip
        return self.exchange.of_kind(*kinds)

    def _context_of(self, representation: int) -> _Context | None:
        instance = self.exchange.at(representation)
        if instance is None:
            return None
        for args in instance.parts.values():
            if len(args) >= 3 and isinstance(args[-1], Ref) and not isinstance(args[-2], Ref):
                return self._context(args[-1].number)
        return None

    def _context(self, number: int) -> _Context | None:
        if number not in self.contexts:
            instance = self.exchange.at(number)
            if instance is None or "GLOBAL_UNIT_ASSIGNED_CONTEXT" not in instance.parts:
                return None
            unit, angle = 0.0, 1.0
            for one in refs_of(instance.parts["GLOBAL_UNIT_ASSIGNED_CONTEXT"][0]):
                kind, size = self._unit(one, 0)
                if kind == "length":
                    unit = size
                elif kind == "angle":
                    angle = size
            tolerance = 0.0
            if "GLOBAL_UNCERTAINTY_ASSIGNED_CONTEXT" in instance.parts:
                for one in refs_of(instance.parts["GLOBAL_UNCERTAINTY_ASSIGNED_CONTEXT"][0]):
                    tolerance = max(tolerance, self._uncertainty(one))
            unit = unit if math.isfinite(unit) and 1e-12 < unit < 1e12 else 0.001
            self.contexts[number] = _Context(unit, angle, tolerance or 1e-5)
        return self.contexts[number]

    def _uncertainty(self, number: int) -> float:
        instance = self.exchange.at(number)
        if instance is None:
            return 0.0
        for args in instance.parts.values():
            for one in args:
                if isinstance(one, Typed) and one.kind in ("LENGTH_MEASURE", "POSITIVE_LENGTH_MEASURE"):
                    try:
                        return max(number_of(one), 0.0)
                    except ExchangeError:
                        return 0.0
        return 0.0

    def _unit(self, number: int, depth: int) -> tuple[str, float]:
        """What a unit measures, and its size in metres or radians."""
        instance = self.exchange.at(number)
        if instance is None or depth > 8:
            return "", 1.0
        parts = instance.parts
        kind = "length" if "LENGTH_UNIT" in parts else "angle" if "PLANE_ANGLE_UNIT" in parts else ""
        if "SI_UNIT" in parts:
            said = [one.strip(".") for one in parts["SI_UNIT"] if isinstance(one, str)]
            if not kind:
                kind = "length" if "METRE" in said else "angle" if "RADIAN" in said else ""
            return kind, math.prod(_PREFIX.get(one, 1.0) for one in said)
        if "CONVERSION_BASED_UNIT" in parts:
            factor = next((one.number for one in parts["CONVERSION_BASED_UNIT"] if isinstance(one, Ref)), 0)
            measure = self.exchange.at(factor)
            if measure is not None:
                for args in measure.parts.values():
                    values = [one for one in args if isinstance(one, Typed | int | float)]
                    bases = [one for one in args if isinstance(one, Ref)]
                    if values and bases:
                        base, size = self._unit(bases[0].number, depth + 1)
                        try:
                            return kind or base, number_of(values[0]) * size
                        except ExchangeError:
                            break
            name = str(parts["CONVERSION_BASED_UNIT"][0]).upper()
            known = {"INCH": 0.0254, "FOOT": 0.3048, "DEGREE": math.pi / 180, "MILLIMETRE": 0.001}
            return kind, known.get(name, 1.0)
        return kind, 1.0

    # Products

    def _assembled(self) -> list[Node]:
        exchange = self.exchange
        shown = self._shown()
        below: dict[int, list[tuple[str, int, int]]] = {}
        used: set[int] = set()
        for usage in exchange.of_kind("NEXT_ASSEMBLY_USAGE_OCCURRENCE"):
            args = self._args(usage)
            if len(args) > 4 and isinstance(args[3], Ref) and isinstance(args[4], Ref):
                name = str(args[1] or args[0] or "")
                below.setdefault(args[3].number, []).append((name, args[4].number, usage))
                used.add(args[4].number)
        places = self._places(shown)
        products = list(dict.fromkeys([*shown, *below]))
        parts: dict[int, _Part] = {}
        for product in products:
            part = _Part(self._product_name(product))
            for representation in shown.get(product, []):
                self._collect(representation, part, product)
            for name, child, usage in below.get(product, []):
                part.below.append((name, child, places.get(usage, np.eye(4))))
            parts[product] = part
        roots = [one for one in products if one not in used]
        nodes = [self._node(one, "", np.eye(4), parts, shown, 0) for one in roots]
        return [node for node in nodes if node is not None]

    def _args(self, number: int) -> list[Any]:
        instance = self.exchange.at(number)
        return instance.args if instance is not None else []

    def _shown(self) -> dict[int, list[int]]:
        """Of each product definition its representations, those that others stand for as well."""
        exchange = self.exchange
        same: dict[int, list[int]] = {}
        for relation in exchange.of_kind("SHAPE_REPRESENTATION_RELATIONSHIP"):
            instance = exchange.at(relation)
            if instance is None or "REPRESENTATION_RELATIONSHIP_WITH_TRANSFORMATION" in instance.parts:
                continue
            refs = [one.number for args in instance.parts.values() for one in args if isinstance(one, Ref)]
            if len(refs) >= 2:
                same.setdefault(refs[0], []).append(refs[1])
                same.setdefault(refs[1], []).append(refs[0])
        found: dict[int, list[int]] = {}
        for row in exchange.of_kind("SHAPE_DEFINITION_REPRESENTATION"):
            args = self._args(row)
            if len(args) < 2 or not isinstance(args[0], Ref) or not isinstance(args[1], Ref):
                continue
            product = next((one.number for one in self._args(args[0].number) if isinstance(one, Ref)), 0)
            if "PRODUCT_DEFINITION" not in self.exchange.kind_of(product) or self._is_usage(product):
                continue
            waiting, seen = [args[1].number], set()
            while waiting:
                one = waiting.pop()
                if one not in seen:
                    seen.add(one)
                    found.setdefault(product, []).append(one)
                    waiting += same.get(one, [])
        return {product: list(dict.fromkeys(rows)) for product, rows in found.items()}

    def _is_usage(self, number: int) -> bool:
        return self.exchange.kind_of(number) in ("NEXT_ASSEMBLY_USAGE_OCCURRENCE", "PRODUCT_DEFINITION_SHAPE")

    def _places(self, shown: dict[int, list[int]]) -> dict[int, Floats]:
        """Of each usage where it stands in what it is part of."""
        found: dict[int, Floats] = {}
        of_usage = {}
        for usage in self.exchange.of_kind("NEXT_ASSEMBLY_USAGE_OCCURRENCE"):
            args = self._args(usage)
            if len(args) > 4 and isinstance(args[4], Ref):
                of_usage[usage] = args[1], args[4].number
        for row in self.exchange.of_kind("CONTEXT_DEPENDENT_SHAPE_REPRESENTATION"):
            args = self._args(row)
            if len(args) < 2 or not isinstance(args[0], Ref) or not isinstance(args[1], Ref):
                continue
            usage = next((one.number for one in self._args(args[1].number) if isinstance(one, Ref)), 0)
            relation = self.exchange.at(args[0].number)
            if usage not in of_usage or relation is None:
                continue
            said = [args for kind, args in relation.parts.items() if kind.endswith("WITH_TRANSFORMATION")]
            if not said or not said[0] or not isinstance(said[0][-1], Ref):
                continue
            refs = [one.number for args in relation.parts.values() for one in args if isinstance(one, Ref)]
            name, child = of_usage[usage]
            is_turned = len(refs) > 1 and refs[1] in shown.get(child, []) and refs[0] not in shown.get(child, [])
            try:
                place = self._between(said[0][-1].number, turned=is_turned)
                place[:3, 3] *= self._scale_of(refs[0] if is_turned else refs[-1])
                found[usage] = place
            except (ExchangeError, IndexError) as error:
                self.note("lost", f"the place of '{name}' cannot be read: {error}")
        return found

    def _between(self, number: int, *, turned: bool) -> Floats:
        instance = self.exchange.at(number)
        if instance is None:
            raise ExchangeError(f"#{number} is missing")
        if "ITEM_DEFINED_TRANSFORMATION" in instance.parts:
            args = instance.parts["ITEM_DEFINED_TRANSFORMATION"]
            one, other = self.shapes.matrix(ref_of(args[2])), self.shapes.matrix(ref_of(args[3]))
            if turned:
                one, other = other, one
            return np.asarray(other @ np.linalg.inv(one))
        return self.shapes.matrix(number)

    def _product_name(self, definition: int) -> str:
        args = self._args(definition)
        formation = next((one.number for one in args if isinstance(one, Ref)), 0)
        product = next((one.number for one in self._args(formation) if isinstance(one, Ref)), 0)
        said = self._args(product)
        for one in (*said[1:2], *said[:1], *args[:1]):
            if isinstance(one, str) and one.strip():
                return one.strip()
        return f"part_{definition}"

    def _node(
        self, product: int, name: str, transform: Floats, parts: dict[int, _Part], shown: dict[int, list[int]],
        depth: int,
    ) -> Node | None:  # fmt: skip
        self.count += 1
        if depth > _DEEPEST or self.count > _MOST_NODES:
            raise InputError("its parts are nested recursively.", file=self.path)
        part = parts.get(product)
        if part is None:
            return Node(name or self._product_name(product), transform)
        children = [self._node(child, own, place, parts, shown, depth + 1) for own, child, place in part.below]
        below = [one for one in children if one is not None]
        # The name of a usage is often a mere number, that of the part what it is called.
        called = part.name if not name or name.isdigit() or name.upper().startswith("NAUO") else name
        return self._with_meshes(called, transform, part.meshes or part.polygons, below)

    def _with_meshes(self, name: str, transform: Floats, shown: list[_Shown], below: list[Node]) -> Node:
        if len(shown) == 1 and shown[0].place is None:
            return Node(name, transform, tuple(below), shown[0].mesh, groups=shown[0].groups)
        own = tuple(
            Node(
                one.name or f"{name}_{n + 1}",
                np.eye(4) if one.place is None else one.place,
                content=one.mesh,
                groups=one.groups,
            )
            for n, one in enumerate(shown)
        )
        return Node(name, transform, (*own, *below))

    # Representations

    def _collect(
        self, representation: int, part: _Part, product: int, place: Floats | None = None, depth: int = 0
    ) -> None:
        instance = self.exchange.at(representation)
        if instance is None or depth > 12:
            return
        args = next((one for one in instance.parts.values() if len(one) >= 2), [])
        context = self._context_of(representation) or _Context(self.unit, 1.0, 1e-5)
        items = args[1] if len(args) > 1 else []
        for item in refs_of(items) if isinstance(items, list | np.ndarray) else []:
            kind = self.exchange.kind_of(item)
            if kind == "MAPPED_ITEM":
                self._mapped(item, part, product, place, depth)
                continue
            into = part.polygons if kind in TESSELLATED else part.meshes
            into += [replace(one, place=place) for one in self._meshes_of(item, context, part.name, representation)]

    def _mapped(self, item: int, part: _Part, product: int, place: Floats | None, depth: int) -> None:
        try:
            args = self._args(item)
            mapping = self._args(ref_of(args[1]))
            origin, target = self.shapes.matrix(ref_of(mapping[0])), self.shapes.matrix(ref_of(args[2]))
            own = target @ np.linalg.inv(origin)
            own[:3, 3] *= self._scale_of(ref_of(mapping[1]))
            whole = own if place is None else place @ own
            self._collect(ref_of(mapping[1]), part, product, whole, depth + 1)
        except (ExchangeError, IndexError, np.linalg.LinAlgError) as error:
            self.note("lost", f"mapped item #{item} cannot be read: {error}")

    def _loose(self) -> list[Node]:
        """Without products: every representation that holds bodies, else every body."""
        part = _Part(self.path.stem)
        mapped = {one.number for row in self.exchange.of_kind("REPRESENTATION_MAP") for one in self._args(row)[1:2]
                  if isinstance(one, Ref)}  # fmt: skip
        for representation in self._representations():
            if representation not in mapped:
                self._collect(representation, part, 0)
        if not part.meshes and not part.polygons:
            context = next(iter(self.contexts.values()), None) or _Context(self.unit, 1.0, 1e-5)
            for item in self.exchange.of_kind(*_SOLIDS, *_SURFACES, *TESSELLATED):
                part.meshes += self._meshes_of(item, context, part.name, 0)
        node = self._with_meshes(part.name, np.eye(4), part.meshes or part.polygons, [])
        return [node] if node.mesh is not None or node.children else []

    # Bodies

    def _meshes_of(self, item: int, context: _Context, name: str, representation: int) -> list[_Shown]:
        if item not in self.made:
            try:
                self.made[item] = list(self._new_meshes(item, context, name, representation))
            except (ExchangeError, IndexError, TypeError) as error:
                self.problems.append(f"#{item} ({error})")
                self.made[item] = []
        return self.made[item]

    def _new_meshes(self, item: int, context: _Context, name: str, representation: int) -> Iterator[_Shown]:
        instance = self.exchange.at(item)
        if instance is None:
            return
        if instance.kind in TESSELLATED:
            mesh = tessellated(self.exchange, instance, name, self.looks, representation)
            if mesh is not None:
                yield self._finished(mesh, item, context)
            self._step_on()
            return
        shells = list(self._shells_of(instance))
        if not shells:
            if instance.kind not in ("AXIS2_PLACEMENT_3D", "CARTESIAN_POINT", "DIRECTION"):
                self.looks.lost.add(instance.kind.lower().replace("_", " "))
            return
        said = instance.args[0] if instance.args and isinstance(instance.args[0], str) else ""
        self.shapes.angle = context.angle
        for number, group in enumerate(shells):
            bodies = Bodies(self.shapes, context.tolerance)
            body, faces = bodies.of(group)
            self.problems += bodies.problems
            for face in body.faces:
                self.surfaces[face.surface.kind] = self.surfaces.get(face.surface.kind, 0) + 1
            limits = self.facets.limits(size_of(body), context.unit)
            polygons = faceted(body, limits)
            self.problems += [f"face #{faces[k]} left out: {text}" for k, text in polygons.problems]
            far = {faces[k]: off for k, off in polygons.off.items() if off > 10 * context.tolerance}
            self.healed |= far
            if len(polygons.face):
                own = said.strip() if len(shells) == 1 else f"{said or name}_{number + 1}"
                mesh = self._mesh(own or name, polygons, faces, group, item, representation, context.unit)
                is_turned = instance.kind in _SOLIDS and volume_of(mesh) < 0
                if is_turned:
                    mesh = mesh.turned_round()
                    self.turned += 1
                shown = self._finished(mesh, item, context)
                if self.keep is not None:
                    slots = np.zeros(len(faces), np.int32)
                    slots[polygons.face] = mesh.slot_of_face
                    self.keep(Origin(body, slots, shown.mesh.points, context.unit / self.unit, is_turned))
                yield shown
        self._step_on()

    def _step_on(self) -> None:
        self.done += 1
        if self.progress is not None:
            self.progress(min(self.done / self.solids, 1.0))

    def _finished(self, mesh: Mesh, item: int, context: _Context) -> _Shown:
        if context.unit != self.unit:
            mesh = mesh.replace(points=mesh.points * (context.unit / self.unit))
        return _Shown(mesh.name, mesh, self.looks.layers_of(item))

    def _scale_of(self, representation: int) -> float:
        """How many units of the scene one unit of a representation is."""
        context = self._context_of(representation)
        return 1.0 if context is None else context.unit / self.unit

    def _shells_of(self, instance: Instance) -> Iterator[list[tuple[int, bool]]]:
        args = instance.args
        match instance.kind:
            case "MANIFOLD_SOLID_BREP" | "FACETED_BREP":
                yield [(ref_of(args[1]), True)]
            case "BREP_WITH_VOIDS":
                yield [(ref_of(args[1]), True), *((one, True) for one in refs_of(args[2]))]
            case "SHELL_BASED_SURFACE_MODEL" | "FACE_BASED_SURFACE_MODEL":
                yield [(one, True) for one in refs_of(args[1])]
            case "CLOSED_SHELL" | "OPEN_SHELL" | "CONNECTED_FACE_SET":
                yield [(instance.number, True)]

    def _mesh(
        self, name: str, polygons: Polygons, faces: list[int], shells: list[tuple[int, bool]], item: int,
        representation: int, unit: float,
    ) -> Mesh:  # fmt: skip
        layers = [Layer.taking("normal", polygons.normals, polygons.normal_index)]
        if self.facets.uvs:
            uvs = (lengths_on(polygons) * unit).astype(np.float32)
            layers.append(Layer.taking("uv", uvs, polygons.uv_index))
        around = (*(shell for shell, _ in shells), item, representation)
        slots, slot_of_face = self.looks.slots([faces[k] for k in range(len(faces))], around)
        # Polygons come face by face.
        used, first = np.unique(polygons.face, return_index=True)
        ends = [*first.tolist(), len(polygons.face)]
        sets = {
            f"face_{faces[k]}": np.arange(a, b, dtype=np.int32)
            for k, a, b in zip(used.tolist(), ends[:-1], ends[1:], strict=True)
        }
        return Mesh.taking(
            name, polygons.points, polygons.face_start, polygons.corner_point, tuple(layers), slots,
            slot_of_face[polygons.face], face_sets=sets,
        )  # fmt: skip


def volume_of(mesh: Mesh) -> float:
    """The volume that polygons enclose, negative where they face inward."""
    start, corner = mesh.face_start, mesh.corner_point
    points = mesh.points - mesh.points.mean(axis=0)
    size = np.diff(start)
    first = np.repeat(corner[start[:-1]], size)
    following = corner[np.where(np.arange(len(corner)) + 1 == np.repeat(start[1:], size), np.repeat(start[:-1], size),
                                np.arange(len(corner)) + 1)]  # fmt: skip
    return float(np.einsum("nk,nk->", points[first], np.cross(points[corner], points[following])))
