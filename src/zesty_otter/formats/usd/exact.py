"""Patches and subdivision surfaces of USD (Pixar, "UsdGeom": NurbsPatch, Mesh)."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.exact import mesh_of_patches
from zesty_otter.formats.facets import Facets
from zesty_otter.formats.usd.mesh import Note, as_rows, numbers_of, whole_numbers_of, word_of
from zesty_otter.formats.usd.text import Prim
from zesty_otter.geometry.curves.curves import Curve, Spline
from zesty_otter.geometry.curves.patches import Patches
from zesty_otter.geometry.curves.splines import even_knots
from zesty_otter.geometry.curves.subdivision import Cage, subdivided
from zesty_otter.geometry.curves.surfaces import SplineSurface
from zesty_otter.model import Layer, Mesh, compact

_MOST_FACES = 4_000_000
_MOST_LEVELS = 5


def read_patch(prim: Prim, path: str, facets: Facets, unit: float, note: Note) -> Mesh | None:
    """The mesh of a NURBS patch; None, with a note, when it is none."""
    counts = [int((*whole_numbers_of(prim, f"{axis}VertexCount"), 0)[0]) for axis in "uv"]
    orders = [int((*whole_numbers_of(prim, f"{axis}Order"), 4)[0]) for axis in "uv"]
    points = as_rows(numbers_of(prim, "points"), 3)
    if any(not 1 < order <= count for order, count in zip(orders, counts, strict=True)) or max(orders) > 64:
        note("lost", f"{path}: the orders of the patch do not fit its points; it is left out")
        return None
    if len(points) != counts[0] * counts[1] or not np.isfinite(points).all():
        note("lost", f"{path}: the patch does not have {counts[0]} x {counts[1]} points; it is left out")
        return None
    weights = numbers_of(prim, "pointWeights")
    weights = weights if len(weights) == len(points) and (weights > 0).all() else np.ones(len(points))
    control = np.concatenate([points * weights[:, None], weights[:, None]], axis=1).reshape(*counts, 4)
    knots = []
    for axis, count, order in zip("uv", counts, orders, strict=True):
        own = np.asarray(numbers_of(prim, f"{axis}Knots"), np.float64)
        good = len(own) == count + order and (np.diff(own) >= 0).all() and own[order - 1] < own[count]
        if not good:
            note("assumed", f"{path}: {axis}Knots do not fit; even ones are taken")
            own = even_knots(order - 1, count, held=True)
        knots.append(own)
    surface = SplineSurface((knots[0], knots[1]), (orders[0] - 1, orders[1] - 1), control)
    loops = _trims(prim)
    patches = Patches()
    patches.add(surface, loops, whole=not loops)
    mesh, problems = mesh_of_patches(prim.name, patches.body(), facets, unit)
    for text in problems:
        note("lost", f"{path}: {text}")
    if mesh is not None and word_of(prim, "orientation") == "leftHanded":
        mesh = mesh.turned_round()
    return mesh


def _trims(prim: Prim) -> list[list[Curve]]:
    """Loops in the parameters, each of several curves."""
    counts = whole_numbers_of(prim, "trimCurve:counts").tolist()
    orders = whole_numbers_of(prim, "trimCurve:orders").tolist()
    vertices = whole_numbers_of(prim, "trimCurve:vertexCounts").tolist()
    knots, points = numbers_of(prim, "trimCurve:knots"), as_rows(numbers_of(prim, "trimCurve:points"), 3)
    loops: list[list[Curve]] = []
    curve = knot = point = 0
    for count in counts:
        loop: list[Curve] = []
        for _ in range(count):
            if curve >= min(len(orders), len(vertices)):
                return loops
            order, size = orders[curve], vertices[curve]
            own, places = knots[knot : knot + order + size], points[point : point + size]
            curve, knot, point = curve + 1, knot + order + size, point + size
            if not 1 < order <= size or len(places) < size or len(own) < order + size:
                return loops
            if (np.diff(own) < 0).any() or not own[order - 1] < own[size] or not np.isfinite(places).all():
                continue
            weight = np.where(places[:, 2:] > 0, places[:, 2:], 1.0)
            control = np.concatenate([places[:, :2], np.zeros((size, 1)), weight], axis=1)
            loop.append(Spline(np.asarray(own, np.float64), order - 1, control))
        if loop:
            loops.append(loop)
    return loops


def subdivided_mesh(mesh: Mesh, prim: Prim, numbers: NDArray[np.int64], facets: Facets, unit: float) -> Mesh:
    """The smooth surface that a cage stands for, as finely as facets ask.

    ``numbers`` are those of the mesh's points in the file.
    """
    new = np.full(int(numbers.max(initial=-1)) + 1, -1, np.int64)
    new[numbers] = np.arange(len(numbers))

    def known(index: NDArray[np.int32]) -> NDArray[np.int64]:
        inside = (index >= 0) & (index < len(new))
        return np.where(inside, new[np.where(inside, index, 0)], -1)

    edges, sharpness = _creases(prim)
    creased_edges = known(edges.ravel()).reshape(-1, 2)
    there = (creased_edges >= 0).all(axis=1)
    corners = known(whole_numbers_of(prim, "cornerIndices"))
    own = numbers_of(prim, "cornerSharpnesses")[: len(corners)]
    corners = corners[: len(own)]
    layers = [layer for layer in mesh.layers if layer.kind != "normal" and not layer.has_holes]
    cage = Cage(
        mesh.points,
        mesh.face_start.astype(np.int64),
        mesh.corner_point.astype(np.int64),
        creased_edges[there],
        sharpness[there],
        corners[corners >= 0],
        np.asarray(own, np.float64)[corners >= 0],
        word_of(prim, "interpolateBoundary") in ("", "edgeAndCorner"),
        tuple((layer.values.astype(np.float64), layer.index.astype(np.int64)) for layer in layers),
    )
    size = float(np.linalg.norm(np.ptp(mesh.points, axis=0))) if len(mesh.points) else 1.0
    chord = facets.limits(size, unit).chord
    for _ in range(facets.level if isinstance(facets.level, int) else _MOST_LEVELS):
        if 4 * len(cage.face_start) > _MOST_FACES:
            break
        cage, moved = subdivided(cage)
        if facets.level == "auto" and moved <= chord:
            break
    made = []
    for layer, (values, row) in zip(layers, cage.tables, strict=True):
        used, index = compact(row)
        made.append(Layer.taking(layer.kind, values[used].astype(np.float32), index, layer.name))
    source = cage.faces if len(cage.faces) else np.arange(mesh.face_count)
    sharp = bool((sharpness > 0).any())
    finer = Mesh.taking(
        mesh.name, cage.points, cage.face_start.astype(np.int32), cage.corner_point.astype(np.int32), tuple(made),
        mesh.slots, None if mesh.face_slot is None else mesh.face_slot[source],
    )  # fmt: skip
    if sharp:
        from zesty_otter.formats.x3d.swept import creased

        return creased(finer, np.radians(30))
    return finer.replace(face_smoothing=np.ones(finer.face_count, np.int32))


def _creases(prim: Prim) -> tuple[NDArray[np.int32], NDArray[np.float64]]:
    """Pairs of points, and how sharp the edge between them is: chains of points with a number each, or one for all."""
    index, lengths = whole_numbers_of(prim, "creaseIndices"), whole_numbers_of(prim, "creaseLengths")
    values = numbers_of(prim, "creaseSharpnesses")
    pairs: list[tuple[int, int]] = []
    sharp: list[float] = []
    first = edge = 0
    for number, length in enumerate(np.maximum(lengths, 0).tolist()):
        chain = index[first : first + length].tolist()
        first += length
        for a, b in pairwise(chain):
            place = number if len(values) == len(lengths) else edge
            edge += 1
            if place < len(values) and np.isfinite(values[place]):
                pairs.append((a, b))
                sharp.append(max(float(values[place]), 0.0))
    return np.array(pairs, np.int32).reshape(-1, 2), np.array(sharp, np.float64)
