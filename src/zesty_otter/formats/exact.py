"""Meshes of exact patches, for the formats that hold some."""

from __future__ import annotations

import numpy as np

from zesty_otter.formats.facets import Facets
from zesty_otter.geometry.curves.curves import Floats, Line
from zesty_otter.geometry.curves.faceting import Body, Polygons, faceted
from zesty_otter.geometry.curves.surfaces import Plane, SplineSurface
from zesty_otter.model import Layer, Mesh


def size_of(body: Body) -> float:
    """The diagonal of the box around a body, as nearly as its edges tell."""
    places = [body.vertices]
    for edge in body.edges:
        if isinstance(edge.curve, Line):
            continue
        places.append(edge.curve.at(np.linspace(edge.first, edge.last, 9)))
    for face in body.faces:
        surface = face.surface
        if isinstance(surface, SplineSurface):
            places.append((surface.control[..., :3] / surface.control[..., 3:]).reshape(-1, 3))
        elif not face.loops and not isinstance(surface, Plane):
            box = np.where(np.isfinite(surface.box), surface.box, 0.0)
            u, v = np.meshgrid(*(np.linspace(box[0][k], box[1][k], 9) for k in (0, 1)))
            places.append(surface.at(np.stack([u.ravel(), v.ravel()], axis=1)))
    points = np.concatenate(places)
    points = points[np.isfinite(points).all(axis=1)]
    return float(np.linalg.norm(np.ptp(points, axis=0))) if len(points) else 1.0


def mesh_of_patches(name: str, body: Body, facets: Facets, unit: float) -> tuple[Mesh | None, list[str]]:
    """The mesh of patches, with UVs that run from 0 to 1 over each; and what could not be made.

    Parameters
    ----------
    name : str
    body : Body
    facets : Facets
    unit : float
        The length of one unit in metres.
    """
    polygons = faceted(body, facets.limits(size_of(body), unit))
    problems = [f"patch {number + 1}: {text}" for number, text in polygons.problems]
    if not len(polygons.face):
        return None, problems
    boxes = np.array([_box_of(body, number) for number in range(len(body.faces))])
    of_corner = np.repeat(polygons.face, np.diff(polygons.face_start))
    of_row = np.zeros(len(polygons.uvs), np.int64)
    of_row[polygons.uv_index] = of_corner
    low, size = boxes[of_row, 0], np.ptp(boxes[of_row], axis=1)
    uvs = ((polygons.uvs - low) / np.where(size > 0, size, 1.0)).astype(np.float32)
    layers = (
        Layer.taking("normal", polygons.normals, polygons.normal_index),
        Layer.taking("uv", uvs, polygons.uv_index),
    )
    return Mesh.taking(name, polygons.points, polygons.face_start, polygons.corner_point, layers), problems


def lengths_on(polygons: Polygons) -> Floats:
    """UVs of polygons in lengths along the surfaces."""
    of_corner = np.repeat(polygons.face, np.diff(polygons.face_start))
    of_row = np.zeros(len(polygons.uvs), np.int64)
    of_row[polygons.uv_index] = of_corner
    return np.asarray(polygons.uvs * polygons.lengths[of_row])


def _box_of(body: Body, number: int) -> Floats:
    box = body.faces[number].surface.box
    return np.where(np.isfinite(box), box, [[0.0, 0.0], [1.0, 1.0]])
