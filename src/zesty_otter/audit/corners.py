"""Two meshes compared corner by corner: positions, winding, normals, UVs, colours and materials."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Layer, Mesh, cofactors_of, count_of, determinant

_EPS = float(np.finfo(np.float32).eps)


@dataclass(frozen=True)
class Slack:
    """What may differ without being a difference: what numbers of 32 bits, or fewer, round off.

    ``length`` is in the unit of the points, ``angle`` in degrees; ``uv`` and ``color`` are in their own numbers.
    """

    length: float
    angle: float = 0.2
    uv: float = 2e-5
    color: float = 0.003


@dataclass(frozen=True, eq=False)
class Corners:
    """The faces of a mesh as they stand in the world.

    ``points`` is (C, 3), a row for each corner; ``start`` (F + 1,); ``normals`` (C, 3), NaN where there is none, or
    None; ``tangents`` (C, 4), or None; ``uvs`` and ``colors`` a table (C, n) for each set; ``material`` (F,) the
    names of materials.
    """

    points: NDArray[np.float64]
    start: NDArray[np.int64]
    normals: NDArray[Any] | None
    uvs: list[NDArray[np.float32]] = field(default_factory=list)
    colors: list[NDArray[np.float32]] = field(default_factory=list)
    material: NDArray[np.object_] = field(default_factory=lambda: np.zeros(0, object))
    tangents: NDArray[Any] | None = None

    @property
    def face_count(self) -> int:
        return len(self.start) - 1

    def taken(self, faces: NDArray[np.int64]) -> Corners:
        """Some of the faces, in the given order."""
        size = np.diff(self.start)[faces]
        start = np.concatenate([[0], np.cumsum(size)])
        corner = np.repeat(self.start[faces] - start[:-1], size) + np.arange(start[-1])
        return self.turned(corner, start, self.material[faces] if len(self.material) else self.material)

    def turned(self, corner: NDArray[np.int64], start: NDArray[np.int64], material: NDArray[np.object_]) -> Corners:
        """The corners in another order."""
        return Corners(
            self.points[corner],
            start,
            None if self.normals is None else self.normals[corner],
            [one[corner] for one in self.uvs],
            [one[corner] for one in self.colors],
            material,
            None if self.tangents is None else self.tangents[corner],
        )


def corners_of(mesh: Mesh, world: NDArray[np.float64], *, triangles: bool) -> Corners:
    """A mesh under a transform, as triangles or as the faces it has."""
    linear = world[:3, :3]
    corner: NDArray[Any] | None = None  # in their own order where it is None, which saves going through them
    start, face = mesh.face_start.astype(np.int64), None
    if triangles and not mesh.all_triangles:
        split, face = mesh.surface(triangulate)
        corner, start = split.ravel().astype(np.int64), np.arange(0, split.size + 1, 3)
    if determinant(linear) < 0:
        sizes = np.diff(start)
        turned = np.repeat(start[1:] + start[:-1] - 1, sizes) - np.arange(int(start[-1]))
        corner = turned if corner is None else corner[turned]

    def at(layer: Layer, missing: float) -> NDArray[Any]:
        if corner is None:
            return layer.at_corners(missing)
        return Layer.taking(layer.kind, layer.values, layer.index[corner]).at_corners(missing)

    normals = None
    if mesh.normals is not None:
        normals = at(mesh.normals, np.nan)
        if not np.array_equal(linear, np.eye(3)):
            cofactors = cofactors_of(linear)
            normals = normals.astype(np.float64) @ cofactors.T * (np.sign(determinant(linear)) or 1.0)
    tangents = None
    for layer in mesh.layers_of("tangent"):
        tangents = at(layer, np.nan).astype(np.float64)
        tangents[:, :3] = tangents[:, :3] @ linear.T
        tangents[:, 3] *= np.sign(determinant(linear)) or 1.0
    names = np.array([" ".join(slot.name.split()) if slot is not None else "" for slot in mesh.slots], object)
    placed = mesh.points if np.array_equal(world, np.eye(4)) else mesh.points @ linear.T + world[:3, 3]
    slot_of_face = mesh.slot_of_face if face is None else mesh.slot_of_face[face]
    return Corners(
        placed[mesh.corner_point if corner is None else mesh.corner_point[corner]],
        start,
        normals,
        [at(one, 0.0) for one in mesh.uv_sets],
        [at(one, 1.0) for one in mesh.layers_of("color")],
        names[slot_of_face],
        tangents,
    )


def end_to_end(many: list[Corners]) -> Corners:
    """Several as one; of UV and colour sets those that all have."""
    if len(many) == 1:
        return many[0]
    sizes = np.concatenate([np.diff(one.start) for one in many])
    tangents = [one.tangents for one in many if one.tangents is not None]
    has_normals = all(one.normals is not None for one in many)
    return Corners(
        np.concatenate([one.points for one in many]),
        np.concatenate([[0], np.cumsum(sizes)]),
        np.concatenate([one.normals for one in many if one.normals is not None]) if has_normals else None,
        [np.concatenate(sets) for sets in zip(*(one.uvs for one in many), strict=False)],
        [
            np.concatenate([values[:, :3] for values in sets])
            for sets in zip(*(one.colors for one in many), strict=False)
        ],
        np.concatenate([one.material for one in many]),
        np.concatenate(tangents) if len(tangents) == len(many) else None,
    )


@dataclass(frozen=True, eq=False)
class _Pairs:
    """Faces of two meshes that are the same: of each its faces in one order, their corners one for one.

    ``flipped`` (F,) says which of them face the other way; ``rest`` is about the faces that found no other.
    """

    one: Corners
    other: Corners
    flipped: NDArray[np.bool_]
    rest: _Rest | None = None


class _Rest:
    """Faces of two meshes that are cut otherwise between the same points, compared at these.

    ``row`` (R,) are corners of ``one``, those of faces all of whose points the other has.
    """

    def __init__(self, one: Corners, other: Corners, slack: float) -> None:
        from scipy.spatial import cKDTree

        self.one, self.other = one, other
        places, self._their_place = np.unique(other.points, axis=0, return_inverse=True)
        away, place = cKDTree(places).query(one.points, distance_upper_bound=slack)
        whole = np.logical_and.reduceat(np.isfinite(away), one.start[:-1])
        self.row = np.flatnonzero(np.repeat(whole, np.diff(one.start)))
        self._place = place[self.row]
        self.points = one.points[self.row]

    def values(self, mine: NDArray[Any], yours: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
        """(R, n) what corners of one mesh say, and what comes nearest to it at the same places in the other."""
        from scipy.spatial import cKDTree

        width = min(mine.shape[1], yours.shape[1])
        mine = mine[self.row, :width]
        here, there = np.nan_to_num(mine), np.nan_to_num(yours[:, :width])
        apart = 10.0 * (1.0 + float(np.ptp(np.concatenate([here, there]), axis=0).max(initial=0.0)))
        tree = cKDTree(np.column_stack([self._their_place * apart, there]))
        return mine, yours[tree.query(np.column_stack([self._place * apart, here]))[1], :width]

    def flipped(self) -> NDArray[np.int64]:
        """Faces of ``one`` at none of whose points the other has a face that looks the same way."""
        mine, yours = (np.repeat(_normals(it), np.diff(it.start), axis=0) for it in (self.one, self.other))
        along = np.einsum("ij,ij->i", *self.values(mine, yours)) >= -0.5
        face = np.repeat(np.arange(self.one.face_count), np.diff(self.one.start))[self.row]
        return np.setdiff1d(face, face[along])


def differences(one: Corners, other: Corners, slack: Slack, unit: str = " m") -> Iterator[str]:
    """What differs between two meshes that should be the same, in words, each with its largest difference and place.

    Nothing is said of meshes with different numbers of faces, of further sets that only the other has, and of faces
    that lie where the other has none: other comparisons tell.
    """
    pairs = _paired(one, other, slack.length)
    if pairs is None:
        return
    for what, there, still in (("UV set", one.uvs, other.uvs), ("vertex colour", one.colors, other.colors)):
        yield from (f"{what} {number} is gone" for number in range(len(still), len(there)))
    if one.normals is not None and other.normals is None:
        yield "its normals are gone"
    rest = pairs.rest
    one, other = pairs.one, pairs.other
    apart = one.points - other.points
    away = np.sqrt(np.einsum("ij,ij->i", apart, apart))
    points = one.points if rest is None else np.concatenate([one.points, rest.points])

    def at(corner: int) -> str:
        return place(points[corner])

    def place(point: NDArray[np.float64]) -> str:
        return "at (" + ", ".join(f"{value:.4g}" for value in point) + f"){unit}"

    def both(what: Callable[[Corners], NDArray[Any]]) -> tuple[NDArray[Any], NDArray[Any]]:
        """What two meshes say at each corner that they share."""
        mine, yours = what(one), what(other)
        width = min(mine.shape[1], yours.shape[1])
        mine, yours = mine[:, :width], yours[:, :width]
        if rest is None:
            return mine, yours
        further = rest.values(what(rest.one), what(rest.other))
        return np.concatenate([mine, further[0]]), np.concatenate([yours, further[1]])

    def worst(off: NDArray[np.floating], limit: float) -> tuple[float, int] | None:
        if not len(off) or not (off > limit).any():
            return None
        corner = int(np.nanargmax(off))
        return float(off[corner]), corner

    found = worst(away, slack.length)
    if found:
        yield f"positions differ by up to {found[0]:.3g}{unit}, {at(found[1])}"
    firsts = [one.points[one.start[:-1]][pairs.flipped]]
    if rest is not None:
        firsts.append(rest.one.points[rest.one.start[rest.flipped()]])
    if count := sum(map(len, firsts)):
        where = place(np.concatenate(firsts)[0])
        yield f"{count_of(count, 'face')} {'faces' if count == 1 else 'face'} the other way, the first {where}"
    if one.normals is not None and other.normals is not None:
        found = worst(_angles(*both(_normals_of), slack.angle), slack.angle)
        if found:
            yield f"normals differ by up to {found[0]:.3g}°, {at(found[1])}"
    if one.tangents is not None and other.tangents is not None:
        mine, yours = both(_tangents_of)
        off = _angles(mine[:, :3], yours[:, :3], slack.angle)
        off[mine[:, 3] * yours[:, 3] < 0] = 180.0
        found = worst(off, slack.angle)
        if found:
            yield f"tangents differ by up to {found[0]:.3g}°, {at(found[1])}"
    for kind, sets, limit in (("UV set", _uvs_of, slack.uv), ("vertex colour", _colors_of, slack.color)):
        for number in range(min(len(sets(one)), len(sets(other)))):
            left, right = both(lambda it, number=number, sets=sets: sets(it)[number])  # type: ignore[misc]
            found = worst((np.abs(left - right) - 4 * _EPS * np.abs(left)).max(axis=1), limit)
            if found:
                yield f"{kind} {number}: differs by up to {found[0]:.3g}, {at(found[1])}"
    if len(one.material) and len(other.material):
        wrong = one.material != other.material
        if wrong.any():
            face = int(np.argmax(wrong))
            names = f"'{one.material[face]}' became '{other.material[face]}'"
            yield f"{count_of(int(wrong.sum()), 'face')} of another material: {names}, {at(int(one.start[face]))}"


def _normals_of(corners: Corners) -> NDArray[Any]:
    assert corners.normals is not None
    return corners.normals


def _tangents_of(corners: Corners) -> NDArray[Any]:
    assert corners.tangents is not None
    return corners.tangents


def _uvs_of(corners: Corners) -> list[NDArray[np.float32]]:
    return corners.uvs


def _colors_of(corners: Corners) -> list[NDArray[np.float32]]:
    return corners.colors


def _angles(one: NDArray[Any], other: NDArray[Any], least: float) -> NDArray[np.float64]:
    """(C,) degrees between directions where they are more than ``least``; 0 elsewhere, and where one has none."""
    dot = np.einsum("ij,ij->i", one, other)
    size = np.sqrt(np.einsum("ij,ij->i", one, one) * np.einsum("ij,ij->i", other, other))
    angle = np.zeros(len(one))
    far = np.flatnonzero((dot < math.cos(math.radians(least)) * size) & (size > 0))
    across = np.linalg.norm(np.cross(one[far], other[far]), axis=1)
    angle[far] = np.degrees(np.arctan2(across, dot[far]))
    return angle


def _paired(one: Corners, other: Corners, slack: float) -> _Pairs | None:
    sizes, theirs = np.diff(one.start), np.diff(other.start)
    if len(sizes) != len(theirs) or not len(sizes):
        return None
    # Nearly always the order is that of the file, or that of the sections in it.
    straight = np.zeros(len(sizes), bool)
    if np.array_equal(sizes, theirs) and np.abs(one.points - other.points).max() <= slack:
        return _Pairs(one, other, straight)
    slot = np.unique(one.material.astype(str), return_inverse=True)[1]
    if len(slot) and slot.any():
        first = np.unique(slot, return_index=True)[1]
        order = np.argsort(np.argsort(np.argsort(first))[slot], kind="stable")
        ordered = one.taken(order)
        if np.array_equal(sizes[order], theirs) and np.abs(ordered.points - other.points).max() <= slack:
            return _Pairs(ordered, other, straight)
    return _found_again(one, other, sizes, theirs, slack)


def _found_again(
    one: Corners, other: Corners, sizes: NDArray[np.int64], theirs: NDArray[np.int64], slack: float
) -> _Pairs:
    """Faces paired by where their middles are, and their corners by which turn brings them nearest."""
    from scipy.spatial import cKDTree

    middle, their_middle = _middles(one), _middles(other)
    size = float(np.ptp(one.points, axis=0).max()) or 1.0
    # What moved has to be found as well, but not beyond its own size.
    reach = max(4 * slack, 1e-3 * size)
    away, nearest = cKDTree(their_middle).query(middle, distance_upper_bound=reach)
    good = np.isfinite(away) & (np.append(theirs, 0)[np.minimum(nearest, len(theirs))] == sizes)
    used = np.bincount(nearest[good], minlength=len(theirs))
    good &= np.append(used, 0)[np.minimum(nearest, len(theirs))] == 1
    mine, yours = np.flatnonzero(good), nearest[good]
    order = np.argsort(sizes[mine], kind="stable")
    ours, matched = one.taken(mine[order]), other.taken(yours[order])
    flipped = np.zeros(len(order), bool)
    corner = np.arange(len(ours.points))
    count = np.diff(ours.start)
    for k in np.unique(count).tolist():
        rows = np.flatnonzero(count == k)
        first = ours.start[rows]
        at = first[:, None] + np.arange(k)
        here, there = ours.points[at], matched.points[at]
        best = np.full(len(rows), np.inf)
        for mirrored in (False, True):
            for turn in range(min(k, 64)):
                shift = (turn - np.arange(k)) % k if mirrored else (turn + np.arange(k)) % k
                off = np.linalg.norm(here - there[:, shift], axis=2).max(axis=1)
                better = off < best - (slack if mirrored else 0.0)
                best[better] = off[better]
                flipped[rows[better]] = mirrored
                corner[at[better]] = first[better, None] + shift
    left = np.setdiff1d(np.arange(len(theirs)), yours)
    rest = _Rest(one.taken(np.flatnonzero(~good)), other.taken(left), slack) if len(left) else None
    return _Pairs(ours, matched.turned(corner, ours.start, matched.material), flipped, rest)


def _normals(faces: Corners) -> NDArray[np.float64]:
    """(F, 3) the direction of each face, of length one; zero where it has no area."""
    start, sizes = faces.start[:-1], np.diff(faces.start)
    after = np.arange(len(faces.points)) + 1
    after[faces.start[1:] - 1] = start
    here = faces.points - np.repeat(faces.points[start], sizes, axis=0)
    area = np.add.reduceat(np.cross(here, here[after]), start, axis=0)
    length = np.linalg.norm(area, axis=1, keepdims=True)
    return np.divide(area, length, out=np.zeros_like(area), where=length > 0)


def _middles(faces: Corners) -> NDArray[np.float64]:
    return np.add.reduceat(faces.points, faces.start[:-1], axis=0) / np.diff(faces.start)[:, None]
