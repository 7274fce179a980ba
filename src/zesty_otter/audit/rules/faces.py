"""Rules on faces and edges."""

from __future__ import annotations

import numpy as np

from zesty_otter.audit.rules.base import Found, Subject, rule
from zesty_otter.geometry.surface.corners import join_points
from zesty_otter.geometry.surface.topology import duplicate_faces, flat_faces, topology
from zesty_otter.model import Mesh, count_of
from zesty_otter.polygons import hard_to_fan


@rule("faces-not-triangles", "warning", "triangulate")
def _faces_not_triangles(subject: Subject) -> Found:
    """Faces with more corners than the target allows."""
    takes_quads = subject.target.polygons == "convex-quads"
    for mesh in subject.meshes:
        if subject.target.triangulate:
            count = int((mesh.face_size > 3).sum())
            if count:
                yield mesh.name, f"{count_of(count, 'face')} of more than three corners"
        elif takes_quads:
            count = int(hard_to_fan(mesh).sum())
            if count:
                yield (
                    mesh.name,
                    f"{count_of(count, 'face')} of more than four corners or concave",
                    "triangulate keep_quads=true",
                )


@rule("faces-bent", "warning", "triangulate")
def _faces_bent(subject: Subject) -> Found:
    """Faces that are not flat: programs split them in different ways."""
    for mesh in subject.meshes:
        if mesh.all_triangles:
            continue
        bent = _bent(mesh)
        if bent:
            yield mesh.name, f"{count_of(bent, 'face')} not flat; programs split them in different ways"


@rule("faces-flat", "warning", "clean-up")
def _faces_flat(subject: Subject) -> Found:
    """Faces without area."""
    for mesh in subject.meshes:
        count = int(mesh.surface(flat_faces).sum())
        if count:
            yield mesh.name, f"{count_of(count, 'face')} without area"


@rule("faces-double", "warning", "clean-up")
def _faces_double(subject: Subject) -> Found:
    """Duplicate faces."""
    for mesh in subject.meshes:
        joined = mesh.surface(join_points)
        count = int(duplicate_faces(mesh.face_start, mesh.corner_point, joined, mesh.slot_of_face).sum())
        if count:
            yield mesh.name, f"{count_of(count, 'face')} on the same points as another"


@rule("not-manifold", "warning")
def _not_manifold(subject: Subject) -> Found:
    """Edges that more than two faces share."""
    for mesh in subject.meshes:
        count = len(mesh.surface(topology).non_manifold)
        if count:
            yield mesh.name, f"{count_of(count, 'edge')} with more than two faces"


@rule("faces-contrary", "warning", "clean-up")
def _faces_contrary(subject: Subject) -> Found:
    """Inconsistent face winding."""
    for mesh in subject.meshes:
        count = len(mesh.surface(topology).contrary)
        if count:
            yield mesh.name, f"{count_of(count, 'edge')} between faces of opposite winding"


@rule("faces-inward", "error", "clean-up")
def _faces_inward(subject: Subject) -> Found:
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


@rule("not-closed", "error", "collision existing=replace")
def _not_closed(subject: Subject) -> Found:
    """Collision and shadow meshes have to be closed."""
    for one in subject.shown:
        mesh = one.node.drawn
        if one.node.role not in ("collision", "shadow") or mesh is None:
            continue
        if one.node.role == "shadow" and any(slot and slot.alpha_mode == "mask" for slot in mesh.slots):
            continue  # the shadow of a net lets light through
        count = len(mesh.surface(topology).border)
        if count:
            yield one.node.name, f"is open: {count_of(count, 'open edge')}"


@rule("index-width", "warning", "divide by=size vertices=65535")
def _index_width(subject: Subject) -> Found:
    """More vertices than the target's indices can address."""
    for mesh in subject.meshes if subject.target.limits.index_bits == 16 else ():
        if mesh.point_count > 65_535:
            yield mesh.name, f"at least {mesh.point_count:,} vertices; 16 bits count 65,535"


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
