"""Rules on normals, UVs and textures."""

from __future__ import annotations

import numpy as np

from zesty_otter.audit.rules.base import Found, Subject, rule
from zesty_otter.geometry.surface.normals import face_areas_and_normals
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.geometry.uv.sets import uv_facts
from zesty_otter.model import COLOR_ROLES, count_of


@rule("normals-missing", "warning", "normals by=angle angle=30")
def _normals_missing(subject: Subject) -> Found:
    """Neither normals nor smoothing groups."""
    for mesh in subject.seen:
        if mesh.normals is None and mesh.face_smoothing is None:
            yield mesh.name, "has neither normals nor smoothing groups"
        elif mesh.normals is not None and mesh.normals.has_holes:
            yield mesh.name, "has no normals at some corners"


@rule("normals-bad", "error", "normals by=angle angle=30")
def _normals_bad(subject: Subject) -> Found:
    """Normals of zero length, or not of unit length."""
    for mesh in subject.seen:
        if mesh.normals is not None:
            length = np.linalg.norm(mesh.normals.values, axis=1)
            zero, odd = int((length < 1e-6).sum()), int((np.abs(length - 1) > 1e-2).sum())
            if zero:
                yield mesh.name, f"{count_of(zero, 'normal')} of zero length"
            elif odd:
                yield mesh.name, f"{count_of(odd, 'normal')} not of unit length"


@rule("normals-against-faces", "error", "normals by=angle angle=30")
def _normals_against_faces(subject: Subject) -> Found:
    """Faces whose normals point the other way: they are lit from behind."""
    for mesh in subject.seen:
        if mesh.normals is None or mesh.normals.has_holes:
            continue
        _, facing = face_areas_and_normals(mesh.points, mesh.face_start, mesh.corner_point)
        along = np.einsum("ij,ij->i", mesh.normals.at_corners(), facing[mesh.corner_face])
        # A face is against its normals when these are so at all of its corners.
        count = int((np.maximum.reduceat(along, mesh.face_start[:-1]) < -1e-3).sum())
        if count:
            yield mesh.name, f"{count_of(count, 'face')} with normals that point the other way"


@rule("uv-missing", "warning")
def _uv_missing(subject: Subject) -> Found:
    """A texture, but no UVs."""
    for mesh in subject.seen:
        textured = [slot.name for slot in mesh.slots if slot is not None and slot.textures]
        if textured and not mesh.uv_sets:
            yield mesh.name, f"has no UVs, and {textured[0]} has textures"


@rule("uv-bad", "warning")
def _uv_bad(subject: Subject) -> Found:
    """UVs that are missing in places or have no area; a second set that overlaps or leaves 0 to 1."""
    for mesh in subject.seen:
        for number, layer in enumerate(mesh.uv_sets[:2]):
            facts = uv_facts(mesh.surface(triangulate)[0], layer.values, layer.index, coverage=number == 1)
            if facts.missing:
                yield mesh.name, f"UV set {number}: {count_of(facts.missing, 'triangle')} without UVs"
            if facts.zero_area:
                yield mesh.name, f"UV set {number}: {count_of(facts.zero_area, 'triangle')} without area"
            if number == 1 and facts.overlap > 0.01 * facts.covered:
                share = 100 * facts.overlap / facts.covered
                yield (
                    mesh.name,
                    f"UV set 1 overlaps itself by {share:.2g} %; light baked on it would smear",
                    "unwrap set=1",
                )
            if number == 1 and facts.outside:
                yield mesh.name, f"UV set 1: {count_of(facts.outside, 'triangle')} outside 0 to 1"


@rule("texture-misused", "warning")
def _texture_misused(subject: Subject) -> Found:
    """One image used for colour and for data: one of the two uses will be decoded wrongly."""
    for texture in subject.scene.textures:
        roles = {
            role
            for material in subject.scene.materials
            for role, use in material.textures.items()
            if use.texture is texture
        }
        if roles & COLOR_ROLES and roles - COLOR_ROLES - {"alpha"} and roles & {"normal", "roughness", "metallic"}:
            yield texture.name, f"is used as {' and '.join(sorted(roles))}"
