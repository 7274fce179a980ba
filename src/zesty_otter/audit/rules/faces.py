"""Rules on faces and edges."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.audit.rules.base import Found, Spot, Subject, rule
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
            large = mesh.face_size > 3
            if large.any():
                text = f"{count_of(int(large.sum()), 'face')} of more than three corners"
                yield Spot(mesh.name, text, subject.face_place(mesh, large))
        elif takes_quads:
            hard = hard_to_fan(mesh)
            if hard.any():
                text = f"{count_of(int(hard.sum()), 'face')} of more than four corners or concave"
                yield Spot(mesh.name, text, subject.face_place(mesh, hard), "triangulate keep_quads=true")


@rule("faces-bent", "warning", "triangulate")
def _faces_bent(subject: Subject) -> Found:
    """Faces that are not flat: programs split them in different ways."""
    for mesh in subject.meshes:
        if mesh.all_triangles:
            continue
        bent = _bent(mesh)
        if bent.any():
            text = f"{count_of(int(bent.sum()), 'face')} not flat; programs split them in different ways"
            yield Spot(mesh.name, text, subject.face_place(mesh, bent))


@rule("faces-flat", "warning", "clean-up")
def _faces_flat(subject: Subject) -> Found:
    """Faces without area."""
    for mesh in subject.meshes:
        flat = mesh.surface(flat_faces)
        if flat.any():
            yield Spot(mesh.name, f"{count_of(int(flat.sum()), 'face')} without area", subject.face_place(mesh, flat))


@rule("faces-double", "warning", "clean-up")
def _faces_double(subject: Subject) -> Found:
    """Duplicate faces."""
    for mesh in subject.meshes:
        joined = mesh.surface(join_points)
        double = duplicate_faces(mesh.face_start, mesh.corner_point, joined, mesh.slot_of_face)
        if double.any():
            text = f"{count_of(int(double.sum()), 'face')} on the same points as another"
            yield Spot(mesh.name, text, subject.face_place(mesh, double))


@rule("not-manifold", "warning")
def _not_manifold(subject: Subject) -> Found:
    """Edges that more than two faces share."""
    for mesh in subject.meshes:
        edges = mesh.surface(topology)
        if len(edges.non_manifold):
            text = f"{count_of(len(edges.non_manifold), 'edge')} with more than two faces"
            yield Spot(mesh.name, text, subject.place_of(mesh, edges.edge_points[edges.non_manifold[0]]))


@rule("faces-contrary", "warning", "clean-up")
def _faces_contrary(subject: Subject) -> Found:
    """Inconsistent face winding."""
    for mesh in subject.meshes:
        edges = mesh.surface(topology)
        if len(edges.contrary):
            text = f"{count_of(len(edges.contrary), 'edge')} between faces of opposite winding"
            yield Spot(mesh.name, text, subject.place_of(mesh, edges.edge_points[edges.contrary[0]]))


@rule("faces-inward", "error", "clean-up")
def _faces_inward(subject: Subject) -> Found:
    """A closed mesh that is inside out."""
    for mesh in subject.meshes:
        edges = mesh.surface(topology)
        if len(edges.border) or len(edges.non_manifold) or len(edges.contrary):
            continue
        a = mesh.points[mesh.corner_point[mesh.face_start[:-1]]][mesh.corner_face]
        after = mesh.corner_after
        b, c = mesh.points[mesh.corner_point], mesh.points[mesh.corner_point[after]]
        if float(np.einsum("ij,ij->", a - mesh.points[0], np.cross(b - a, c - a))) < 0:
            yield mesh.name, "is inside out: its faces look inward"


@rule("not-closed", "error", "collision existing=replace")
def _not_closed(subject: Subject) -> Found:
    """Collision and shadow meshes have to be closed, but for shadows of nets and surfaces of open shells."""
    of = {one.number: asset for asset in subject.assets for one in asset.rest}
    for one in subject.shown:
        mesh = one.node.drawn
        if one.node.role not in ("collision", "shadow") or mesh is None:
            continue
        main = of[one.number].main if one.number in of else ()
        seen = [other.node.drawn for other in main if other.node.drawn is not None]
        is_shadow = one.node.role == "shadow"
        if is_shadow and any(slot and slot.alpha_mode == "mask" for drawn in (mesh, *seen) for slot in drawn.slots):
            continue  # the shadow of a net lets light through
        edges = mesh.surface(topology)
        if not len(edges.border):
            continue
        is_surface = one.node.properties.get("shape") == "surface"
        if is_surface and any(len(drawn.surface(topology).border) for drawn in seen):
            continue
        text = f"is open: {count_of(len(edges.border), 'open edge')}"
        place = subject.place_of(mesh, edges.edge_points[edges.border[0]])
        yield Spot(one.node.name, text, place, "clean-up close_holes=..." if is_shadow else "")


@rule("index-width", "warning", "divide by=size vertices=65535")
def _index_width(subject: Subject) -> Found:
    """More vertices than the target's indices can address."""
    for mesh in subject.meshes if subject.target.limits.index_bits == 16 else ():
        if mesh.point_count > 65_535:
            yield mesh.name, f"at least {mesh.point_count:,} vertices; 16 bits count 65,535"


def _bent(mesh: Mesh) -> NDArray[np.bool_]:
    """(F,) which faces have corners farther from their plane than a hundredth of their size."""
    face = mesh.corner_face
    count = mesh.face_size
    points = mesh.points[mesh.corner_point]
    middle = (
        np.stack([np.bincount(face, points[:, k], minlength=mesh.face_count) for k in range(3)], 1) / count[:, None]
    )
    after = mesh.corner_after
    own = points - middle[face]
    turn = np.cross(own, own[after])
    normal = np.stack([np.bincount(face, turn[:, k], minlength=mesh.face_count) for k in range(3)], 1)
    length = np.linalg.norm(normal, axis=1)
    unit = normal / np.where(length > 0, length, 1.0)[:, None]
    height = np.abs((own * unit[face]).sum(axis=1))
    off, size = np.zeros(mesh.face_count), np.zeros(mesh.face_count)
    np.maximum.at(off, face, height)
    np.maximum.at(size, face, np.linalg.norm(own, axis=1))
    return np.asarray((count > 3) & (off > 0.01 * size))
