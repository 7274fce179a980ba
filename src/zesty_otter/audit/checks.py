"""Every check of a scene against a target: small functions, each with a rule, how bad it is and what mends it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from zesty_otter.audit.budget import over_budget
from zesty_otter.audit.findings import Finding
from zesty_otter.audit.footing import CollisionFacts, collision_facts
from zesty_otter.audit.surveying import clashing, leftover
from zesty_otter.geometry.corners import join_points
from zesty_otter.geometry.topology import duplicate_faces, flat_faces, topology
from zesty_otter.geometry.triangulation import triangulate
from zesty_otter.geometry.uv import uv_facts
from zesty_otter.model import COLOR_ROLES, Mesh, Placed, Scene, count_of, format_length, is_default_name
from zesty_otter.steps.assets import Asset, Roles, assets_of
from zesty_otter.targets import Target

Found = Iterator[tuple[str, str]]
"""Where something is wrong, and what."""

SMALLEST, LARGEST = 0.005, 500.0  # metres, the plausible sizes of an asset
_COARSE = 1e-3  # metres that a position may be off by as a 32-bit number


class _Subject:
    """A scene with what several checks ask of it."""

    def __init__(self, scene: Scene, target: Target) -> None:
        self.scene, self.target = Roles().apply(scene), target
        self.placed = list(self.scene.walk())
        self.shown = [one for one in self.placed if one.node.drawn is not None and one.node.drawn.face_count]
        self.metre = scene.frame.unit

    @cached_property
    def assets(self) -> list[Asset]:
        return assets_of(self.scene)

    @cached_property
    def meshes(self) -> list[Mesh]:
        return [mesh for mesh in self.scene.meshes if mesh.face_count]

    @cached_property
    def seen(self) -> list[Mesh]:
        """The meshes somebody sees."""
        return list({id(m): m for one in self.shown if one.node.role in ("visible", "level")
                     if (m := one.node.drawn) is not None}.values())  # fmt: skip

    @cached_property
    def solid(self) -> list[Placed]:
        return [one for one in self.shown if one.node.role == "collision"]

    @cached_property
    def collision(self) -> tuple[CollisionFacts, ...]:
        return collision_facts(self.scene, count=4000)


@dataclass(frozen=True)
class Check:
    """One check: its rule, error or warning, and the step that mends it, as --step takes it."""

    rule: str
    severity: str
    mend: str
    about: str
    find: Callable[[_Subject], Found]


CHECKS: list[Check] = []
"""Every check, in the order in which findings are told."""


def _check(rule: str, severity: str, mend: str = "") -> Callable[[Callable[[_Subject], Found]], None]:
    def keep(find: Callable[[_Subject], Found]) -> None:
        CHECKS.append(Check(rule, severity, mend, (find.__doc__ or "").strip(), find))

    return keep


def check(scene: Scene, target: Target) -> list[Finding]:
    """What a target would object to, the worst first.

    Parameters
    ----------
    scene : Scene
        As read from the file that the target is to receive.
    target : Target
        Its ``severities`` say which rules are errors, warnings or of no interest to it.
    """
    subject = _Subject(scene, target)
    findings = [
        Finding(one.rule, one.severity, text, where, one.mend) for one in CHECKS for where, text in one.find(subject)
    ]
    findings += over_budget(scene, target)
    severities = target.severities
    judged = [replace(one, severity=severities.get(one.rule, one.severity)) for one in dict.fromkeys(findings)]
    return sorted((one for one in judged if one.severity != "off"), key=lambda one: one.severity != "error")


@_check("unit-unknown", "error")
def _unit_unknown(subject: _Subject) -> Found:
    """The file does not say what its numbers measure."""
    if subject.metre is None and subject.shown:
        yield "", "the unit is not known; read it with --unit"


@_check("unit-implausible", "warning", "scale factor=...")
def _unit_implausible(subject: _Subject) -> Found:
    """An asset is smaller than a fingernail or larger than a ship lock."""
    for asset in subject.assets if subject.metre else ():
        box = asset.bounds()
        side = float(np.nan_to_num(box[1] - box[0]).max()) * (subject.metre or 1.0)
        if side and not SMALLEST <= side <= LARGEST:
            yield asset.name, f"is {format_length(side)} large; was it read in the wrong unit?"


@_check("transform-leftover", "warning", "bake")
def _transform_leftover(subject: _Subject) -> Found:
    """A node has a rotation or scale left."""
    for one in subject.placed:
        parts = [part for part in leftover(one.node.transform) if part != "mirror"]
        if parts:
            yield one.node.name, f"has {' and '.join(parts)} left in its transform"


@_check("node-mirrored", "warning", "bake")
def _node_mirrored(subject: _Subject) -> Found:
    """A node turns its mesh inside out."""
    for one in subject.placed:
        if "mirror" in leftover(one.node.transform):
            yield one.node.name, "is mirrored by its transform"


@_check("pivot-away", "warning", "pivot at=base")
def _pivot_away(subject: _Subject) -> Found:
    """A pivot lies far outside of its mesh."""
    for one in subject.shown:
        mesh = one.node.drawn
        if one.node.role != "visible" or mesh is None:
            continue
        box = mesh.surface_bounds
        off = np.linalg.norm(np.maximum(np.maximum(box[0], -box[1]), 0.0))
        if off > 0.5 * np.linalg.norm(box[1] - box[0]):
            yield one.node.name, f"its pivot is {_length(float(off), subject)} outside of the mesh"


@_check("name-default", "warning", "names replace_defaults={file}_{number}")
def _name_default(subject: _Subject) -> Found:
    """A name that nobody chose."""
    for one in subject.placed:
        if is_default_name(one.node.name):
            yield one.node.name, "is a name nobody chose"


@_check("name-clash", "error", "names")
def _name_clash(subject: _Subject) -> Found:
    """Names that differ in nothing but case, or in nothing."""
    for name in clashing([one.node.name for one in subject.placed]):
        yield name, "another node has this name, when case is ignored"


@_check("name-unsafe", "error", "names")
def _name_unsafe(subject: _Subject) -> Found:
    """Characters that not every program and file system takes."""
    for one in subject.placed:
        odd = sorted(set(re.sub(r"[A-Za-z0-9_\-.]", "", one.node.name)))
        if odd:
            yield one.node.name, f"has characters that are not safe: {' '.join(repr(c) for c in odd[:6])}"


@_check("name-long", "error", "names longest=...")
def _name_long(subject: _Subject) -> Found:
    """A name longer than the target takes."""
    most = subject.target.longest_name
    for one in subject.placed:
        if len(one.node.name) > most:
            yield one.node.name, f"has {len(one.node.name)} characters, {most} are allowed"


@_check("name-template", "warning", "names")
def _name_template(subject: _Subject) -> Found:
    """A name that does not tell its role as the target wants it to."""
    for one in subject.placed:
        template = subject.target.names.get(one.node.role)
        if template is None or one.node.kind == "empty":
            continue
        pattern = re.escape(template).replace(r"\{name\}", ".+").replace(r"\{level\}", r"\d+").replace(r"\{n\}", r"\d+")
        if not re.fullmatch(pattern, one.node.name):
            yield one.node.name, f"is a {one.node.role} that is not named like {template}"


@_check("faces-not-triangles", "warning", "triangulate")
def _faces_not_triangles(subject: _Subject) -> Found:
    """Faces with more corners than the target takes."""
    for mesh in subject.meshes if subject.target.triangulate else ():
        count = int((mesh.face_size > 3).sum())
        if count:
            yield mesh.name, f"{count_of(count, 'face')} of more than three corners"


@_check("faces-bent", "warning", "triangulate")
def _faces_bent(subject: _Subject) -> Found:
    """Faces that are not flat: every program splits them in its own way."""
    for mesh in subject.meshes:
        if mesh.all_triangles:
            continue
        bent = _bent(mesh)
        if bent:
            yield mesh.name, f"{count_of(bent, 'face')} not flat; programs split them in different ways"


@_check("faces-flat", "warning", "clean-up")
def _faces_flat(subject: _Subject) -> Found:
    """Faces without area."""
    for mesh in subject.meshes:
        count = int(mesh.surface(flat_faces).sum())
        if count:
            yield mesh.name, f"{count_of(count, 'face')} without area"


@_check("faces-double", "warning", "clean-up")
def _faces_double(subject: _Subject) -> Found:
    """Faces that are there twice."""
    for mesh in subject.meshes:
        joined = mesh.surface(join_points)
        count = int(duplicate_faces(mesh.face_start, mesh.corner_point, joined, mesh.slot_of_face).sum())
        if count:
            yield mesh.name, f"{count_of(count, 'face')} on the same points as another"


@_check("not-manifold", "warning")
def _not_manifold(subject: _Subject) -> Found:
    """Edges that more than two faces share."""
    for mesh in subject.meshes:
        count = len(mesh.surface(topology).non_manifold)
        if count:
            yield mesh.name, f"{count_of(count, 'edge')} with more than two faces"


@_check("faces-contrary", "warning", "clean-up")
def _faces_contrary(subject: _Subject) -> Found:
    """Neighbours that look to different sides."""
    for mesh in subject.meshes:
        count = len(mesh.surface(topology).contrary)
        if count:
            yield mesh.name, f"{count_of(count, 'edge')} between faces that look to different sides"


@_check("faces-inward", "error", "clean-up")
def _faces_inward(subject: _Subject) -> Found:
    """A closed mesh that is inside out."""
    for mesh in subject.meshes:
        edges = mesh.surface(topology)
        if len(edges.border) or len(edges.non_manifold) or len(edges.contrary):
            continue
        a = mesh.points[mesh.corner_point[mesh.face_start[:-1]]][mesh.corner_face]
        after = np.arange(1, mesh.corner_count + 1)
        after[mesh.face_start[1:] - 1] = mesh.face_start[:-1]
        b, c = mesh.points[mesh.corner_point], mesh.points[mesh.corner_point[after]]
        if float(np.einsum("ij,ij->", a - mesh.points[0], np.cross(b - a, c - a))) < 0:
            yield mesh.name, "is inside out: its faces look inward"


@_check("not-closed", "error", "collision there=replace")
def _not_closed(subject: _Subject) -> Found:
    """Collision and shadow meshes have to be closed."""
    for one in subject.shown:
        mesh = one.node.drawn
        if one.node.role not in ("collision", "shadow") or mesh is None:
            continue
        count = len(mesh.surface(topology).border)
        if count:
            yield one.node.name, f"is open: {count_of(count, 'open edge')}"


@_check("normals-missing", "warning", "normals by=angle angle=30")
def _normals_missing(subject: _Subject) -> Found:
    """Neither normals nor smoothing groups."""
    for mesh in subject.seen:
        if mesh.normals is None and mesh.face_smoothing is None:
            yield mesh.name, "says nothing of its smoothing: neither normals nor smoothing groups"
        elif mesh.normals is not None and mesh.normals.has_holes:
            yield mesh.name, "has no normals at some corners"


@_check("normals-bad", "error", "normals by=angle angle=30")
def _normals_bad(subject: _Subject) -> Found:
    """Normals that are zero or not of length one."""
    for mesh in subject.seen:
        if mesh.normals is not None:
            length = np.linalg.norm(mesh.normals.values, axis=1)
            zero, odd = int((length < 1e-6).sum()), int((np.abs(length - 1) > 1e-2).sum())
            if zero:
                yield mesh.name, f"{count_of(zero, 'normal')} of no length"
            elif odd:
                yield mesh.name, f"{count_of(odd, 'normal')} not of length one"


@_check("uv-missing", "warning")
def _uv_missing(subject: _Subject) -> Found:
    """A texture, and no UVs to lay it on."""
    for mesh in subject.seen:
        textured = [slot.name for slot in mesh.slots if slot is not None and slot.textures]
        if textured and not mesh.uv_sets:
            yield mesh.name, f"has no UVs, and {textured[0]} has textures"


@_check("uv-bad", "warning")
def _uv_bad(subject: _Subject) -> Found:
    """UVs that are missing in places or have no area; a second set that overlaps or leaves 0 to 1."""
    for mesh in subject.seen:
        for number, layer in enumerate(mesh.uv_sets[:2]):
            facts = uv_facts(mesh.surface(triangulate)[0], layer.values, layer.index)
            if facts.missing:
                yield mesh.name, f"UV set {number + 1}: {count_of(facts.missing, 'triangle')} without UVs"
            if facts.zero_area:
                yield mesh.name, f"UV set {number + 1}: {count_of(facts.zero_area, 'triangle')} without area"
            if number == 1 and facts.overlap > 0.01 * facts.covered:
                share = 100 * facts.overlap / facts.covered
                yield mesh.name, f"UV set 2 overlaps itself by {share:.2g} %; light baked on it would smear"
            if number == 1 and facts.outside:
                yield mesh.name, f"UV set 2: {count_of(facts.outside, 'triangle')} outside 0 to 1"


@_check("texture-misused", "warning")
def _texture_misused(subject: _Subject) -> Found:
    """One image for colours and for plain numbers: one of both is read wrongly."""
    for texture in subject.scene.textures:
        roles = {
            role
            for material in subject.scene.materials
            for role, use in material.textures.items()
            if use.texture is texture
        }
        if roles & COLOR_ROLES and roles - COLOR_ROLES - {"alpha"} and roles & {"normal", "roughness", "metallic"}:
            yield texture.name, f"is used as {' and '.join(sorted(roles))}"


@_check("index-width", "warning", "divide by=size vertices=65535")
def _index_width(subject: _Subject) -> Found:
    """More vertices than indices of the target's width can count."""
    for mesh in subject.meshes if subject.target.limits.index_bits == 16 else ():
        if mesh.point_count > 65_535:
            yield mesh.name, f"at least {mesh.point_count:,} vertices; 16 bits count 65,535"


@_check("collision-not-convex", "error", "collision there=replace")
def _collision_not_convex(subject: _Subject) -> Found:
    """A part of collision that is not convex."""
    for facts in subject.collision:
        if not facts.convex and facts.shape != "surface":
            yield facts.asset, "has collision that is not convex"


@_check("collision-pivot", "warning", "collision")
def _collision_pivot(subject: _Subject) -> Found:
    """Collision with a pivot of its own."""
    for asset in subject.assets:
        for one in asset.rest:
            beside = one.node.role == "collision" and asset.main and one.parent == asset.main[0].parent
            if beside and not np.allclose(one.world[:3, 3], asset.main[0].world[:3, 3], rtol=0, atol=1e-6):
                yield one.node.name, f"does not share the pivot of {asset.main[0].node.name}"


@_check("collision-dressed", "warning", "collision")
def _collision_dressed(subject: _Subject) -> Found:
    """Collision with materials."""
    for one in subject.solid:
        mesh = one.node.drawn
        if mesh is not None and any(slot is not None for slot in mesh.slots):
            yield one.node.name, "has materials, which nobody sees"


@_check("footing", "warning", "collision there=replace")
def _footing(subject: _Subject) -> Found:
    """Feet would float, sink or fall through."""
    most = subject.target.limits.footing
    for facts in subject.collision:
        off = max(facts.floats, facts.sinks)
        if off > most:
            how = "float" if facts.floats >= facts.sinks else "sink"
            where = "" if facts.worst_at is None else " at " + ", ".join(f"{v:.3g}" for v in facts.worst_at)
            yield facts.asset, f"feet {how} by {format_length(off)}{where}"
        if facts.falls > 0.01:
            yield facts.asset, f"feet fall through in {100 * facts.falls:.2g} % of the places one can stand on"


@_check("hidden", "warning", "select drop=hidden")
def _hidden(subject: _Subject) -> Found:
    """Hidden things that travel along."""
    for one in subject.placed:
        if not one.visible and one.node.role == "visible" and one.node.kind != "empty":
            yield one.node.name, "is hidden and will be exported all the same"


@_check("empty-node", "warning")
def _empty_node(subject: _Subject) -> Found:
    """Nodes with nothing in them and below them."""
    for one in subject.placed:
        if one.node.kind == "empty" and not one.node.children and one.node.role == "visible":
            yield one.node.name, "is empty"


@_check("copies", "warning")
def _copies(subject: _Subject) -> Found:
    """Meshes that are the same, and could be one."""
    alike: dict[tuple[int, int, bytes], list[str]] = {}
    for mesh in subject.seen:
        if mesh.face_count >= 8:
            key = mesh.point_count, mesh.face_count, _shape_of(mesh)
            alike.setdefault(key, []).append(mesh.name)
    for names in alike.values():
        if len(names) > 1:
            yield names[0], f"is the same mesh as {', '.join(names[1:4])}" + (" and more" if len(names) > 4 else "")


@_check("far-away", "warning", "pivot place=origin")
def _far_away(subject: _Subject) -> Found:
    """So far from the origin that 32-bit numbers lose more than a millimetre."""
    for one in subject.shown if subject.metre else ():
        mesh = one.node.drawn
        if mesh is None:
            continue
        box = mesh.surface_bounds
        farthest = max(float(np.abs(box).max()), float(np.abs(one.world[:3, 3]).max()))
        lost = float(np.spacing(np.float32(min(farthest, 3e38)))) / 2 * (subject.metre or 1.0)
        if lost > _COARSE / 2:
            yield one.node.name, f"is so far out that positions are off by up to {format_length(2 * lost)}"


def _bent(mesh: Mesh) -> int:
    """How many faces have corners farther from their plane than a hundredth of their size."""
    face = mesh.corner_face
    count = mesh.face_size
    points = mesh.points[mesh.corner_point]
    middle = (
        np.stack([np.bincount(face, points[:, k], minlength=mesh.face_count) for k in range(3)], 1) / count[:, None]
    )
    after = np.arange(1, mesh.corner_count + 1)
    after[mesh.face_start[1:] - 1] = mesh.face_start[:-1]
    own = points - middle[face]
    turn = np.cross(own, own[after])
    normal = np.stack([np.bincount(face, turn[:, k], minlength=mesh.face_count) for k in range(3)], 1)
    length = np.linalg.norm(normal, axis=1)
    unit = normal / np.where(length > 0, length, 1.0)[:, None]
    height = np.abs((own * unit[face]).sum(axis=1))
    off, size = np.zeros(mesh.face_count), np.zeros(mesh.face_count)
    np.maximum.at(off, face, height)
    np.maximum.at(size, face, np.linalg.norm(own, axis=1))
    return int(((count > 3) & (off > 0.01 * size)).sum())


def _shape_of(mesh: Mesh) -> bytes:
    """What meshes have in common that are the same but for where they are."""
    points = mesh.points - mesh.points.min(axis=0)
    size = float(points.max()) or 1.0
    return (points / size * 1e5).round().astype(np.int32).tobytes() + mesh.corner_point.tobytes()


def _length(length: float, subject: _Subject) -> str:
    return format_length(length * subject.metre) if subject.metre else f"{length:.4g} units"


def steps_that_mend(findings: Iterable[Finding]) -> list[str]:
    """The steps that would mend what was found, each once, in the order in which steps are taken.

    Those with settings that only people can choose are left out.
    """
    from zesty_otter.steps import STEPS

    wanted = {one.mend for one in findings if one.mend and "..." not in one.mend}
    wanted -= {one.split()[0] for one in wanted if " " in one}
    order = list(STEPS)
    return sorted(wanted, key=lambda text: (order.index(text.split()[0]) if text.split()[0] in order else 99, text))
