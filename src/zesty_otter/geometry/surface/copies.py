"""Surfaces that are one another turned, mirrored, scaled and moved."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.corners import join_points

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

_LAYER_TOLERANCE = {"normal": 0.02, "tangent": 0.02, "uv": 2e-4, "color": 4e-3}
"""How far values may be apart: a degree, about half a pixel of a large texture, a step of eight bits."""

_ROUNDING = 2.0**-22
"""How far off the numbers of a file may be, as a share of the largest: four times what 32 bits round off."""

_CHUNK = 3_000_000  # numbers that are worked on at a time
_LIKE = 1e-3  # how far apart what tells points apart may be for them to be like each other, in radii
_PATIENCE = 2_000  # pairs numbered otherwise that are tried in vain among those that might be copies
_MOST_TRIES = 64  # ways in which a surface is laid onto another, point for point


@dataclass(frozen=True, eq=False)
class Shape:
    """A surface and what must agree for another to be a copy of it.

    Parameters
    ----------
    points : (P, 3) float64
        All of them used.
    face_start : (F + 1,) int
    corner_point : (C,) int
    slot : (F,) int
        The material of each face; the same number for the same material in all shapes.
    layers : tuple of (str, (C, n) float32)
        Kind (normal, tangent, uv or color) and values at corners.
    """

    points: Floats
    face_start: NDArray[np.int32]
    corner_point: NDArray[np.int32]
    slot: NDArray[np.int32]
    layers: tuple[tuple[str, NDArray[np.float32]], ...] = ()

    @property
    def key(self) -> tuple[object, ...]:
        """What copies have in common however their points and faces are numbered."""
        sizes = b"" if len(self.corner_point) == 3 * len(self.slot) else np.bincount(np.diff(self.face_start)).tobytes()
        slots = np.bincount(self.slot).tobytes()
        return len(self.slot), len(self.corner_point), sizes, slots, tuple((k, v.shape[1]) for k, v in self.layers)

    @property
    def layout(self) -> tuple[object, ...]:
        """What copies have in common whose points and faces are numbered alike."""
        return len(self.points), self.face_start.tobytes(), self.slot.tobytes()

    @cached_property
    def size(self) -> float:
        """The diagonal of its box."""
        return float(np.linalg.norm(np.ptp(self.points, axis=0)))

    def allowed(self, tolerance: float) -> float:
        """How far its points may be off for a tolerance that is a share of its size, with what files round off."""
        return tolerance * self.size + _ROUNDING * float(np.abs(self.points).max(initial=0.0))

    @cached_property
    def places(self) -> _Places:
        joined = join_points(self.points)
        first, number = np.unique(joined[self.corner_point], return_inverse=True)
        return _Places(self.points[first], number)


@dataclass(frozen=True, eq=False)
class _Places:
    """The points (U, 3) of a surface, each position once, and the one of each corner (C,)."""

    points: Floats
    number: Ints

    @cached_property
    def faces(self) -> Ints:
        """(U,) how many corners are there."""
        return np.bincount(self.number, minlength=len(self.points))

    @cached_property
    def centre(self) -> Floats:
        return np.asarray(self.faces @ self.points / self.faces.sum())

    @cached_property
    def radius(self) -> float:
        """How far corners are from the centre, as a root of the mean of squares."""
        away = self.points - self.centre
        return float(np.sqrt(self.faces @ np.einsum("ij,ij->i", away, away) / self.faces.sum()))

    @cached_property
    def away(self) -> Floats:
        """(U,) how far each is from the centre, in radii."""
        return np.asarray(np.linalg.norm(self.points - self.centre, axis=1) / max(self.radius, 1e-300))

    def kinds(self, *others: int) -> Floats:
        """What tells points apart: how many faces they have, how far they are from the centre and from others."""
        columns = [self.faces.astype(np.float64), self.away]
        columns += [np.linalg.norm(self.points - self.points[k], axis=1) / self.radius for k in others]
        return np.stack(columns, axis=1)

    def axes(self, at: int, second: int, third: int) -> Floats | None:
        """A frame (3, 3) from three points, by columns; None where they lie on a line."""
        one, other = self.points[second] - self.points[at], self.points[third] - self.points[at]
        across = np.cross(one, other)
        if np.linalg.norm(across) <= 1e-6 * np.linalg.norm(one) * np.linalg.norm(other):
            return None
        x, z = one / np.linalg.norm(one), across / np.linalg.norm(across)
        return np.stack([x, np.cross(z, x), z], axis=1)

    @cached_property
    def reference(self) -> tuple[Floats, list[Floats]] | None:
        """A frame from three points that few others are like, and what these are like; None where all lie on a line."""
        far = np.zeros(len(self.points), bool)
        far[np.argsort(-self.away, kind="stable")[:_MOST_TRIES]] = True
        at = self._rare(self.kinds(), far)
        second = self._rare(self.kinds(at), far & (np.arange(len(far)) != at))
        along = self.points[second] - self.points[at]
        third = int(np.argmax(np.linalg.norm(np.cross(along, self.points - self.points[at]), axis=1)))
        axes = self.axes(at, second, third)
        kinds = [self.kinds()[at], self.kinds(at)[second], self.kinds(at, second)[third]]
        return None if axes is None else (axes, kinds)

    def _rare(self, kinds: Floats, among: NDArray[np.bool_]) -> int:
        """The point that fewest others are like, of those the one farthest from the centre."""
        places = np.flatnonzero(among)
        like = [int((np.abs(kinds - kinds[k]) <= _LIKE).all(axis=1).sum()) for k in places]
        return int(places[np.lexsort((-self.away[places], np.array(like)))[0]])


def find_copies(
    shapes: Sequence[Shape],
    *,
    tolerance: float = 1e-4,
    mirrored: bool = True,
    progress: Callable[[float], None] | None = None,
) -> tuple[Ints, Floats, int]:
    """Which surfaces are copies of earlier ones, up to rotation, translation, uniform scale and mirroring.

    Candidates agree in what no numbering and placing changes: numbers of faces and corners, materials, distances of
    corners from the middle, lengths of edges, means of UVs and colours. Each is then proved point by point: laid onto
    the first by the similarity with the least squares of the distances (S. Umeyama, 1991, "Least-squares estimation of
    transformation parameters between two point patterns"), with points in the order they have, else in one found from
    three points that few others are like.

    Parameters
    ----------
    shapes : sequence of Shape
    tolerance : float
        How far a point may be off, as a share of the size of its surface; what 32-bit numbers round off is allowed
        besides.
    mirrored : bool
        Whether mirror images count; their faces run the other way round, so that they look outward as well.
    progress : callable, optional
        Called with the share that is done.

    Returns
    -------
    first : (N,) int64
        The number of the first surface each is a copy of; its own where it is of none.
    transforms : (N, 4, 4) float64
        What takes the first to each.
    untried : int
        How many surfaces that are numbered otherwise were not tried, as too many alike had been tried in vain.
    """
    first = np.arange(len(shapes))
    transforms = np.tile(np.eye(4), (len(shapes), 1, 1))
    alike: dict[tuple[object, ...], list[int]] = {}
    for number, shape in enumerate(shapes):
        if shape.size > 0:
            alike.setdefault(shape.key, []).append(number)
    done = 0
    untried: set[int] = set()
    for numbers in alike.values():
        for group, near in _clusters(shapes, np.array(numbers), tolerance) if len(numbers) > 1 else ():
            patience = _PATIENCE
            left = np.ones(len(group), bool)
            for k, source in enumerate(group):
                if not left[k]:
                    continue
                left[k] = False
                others = near(k, np.flatnonzero(left))
                if not len(others):
                    continue
                matches, placed, failed, skipped = _copies_of(
                    shapes, int(source), group[others], tolerance, mirrored=mirrored, patience=patience
                )
                patience -= failed
                untried |= set(group[others[skipped]].tolist())
                same = others[matches]
                left[same] = False
                first[group[same]] = source
                transforms[group[same]] = placed[matches]
        done += len(numbers)
        if progress is not None:
            progress(done / len(shapes))
    return first, transforms, sum(first[n] == n for n in untried)


def _clusters(
    shapes: Sequence[Shape], numbers: Ints, tolerance: float
) -> Iterator[tuple[Ints, Callable[[int, Ints], Ints]]]:
    """Numbers of surfaces in groups beyond which none can be a copy, each in order; and what tells which of some of a
    group might be copies of one.
    """
    traits = [_traits(shapes, part, tolerance) for part in _chunks(shapes, numbers)]
    values, lengths, rough = (np.concatenate([one[k] for one in traits]) for k in range(3))
    widths = np.max([one[3] for one in traits], axis=0)
    waiting = [(np.arange(len(numbers)), 0)]
    while waiting:
        group, column = waiting.pop()
        if len(group) < 2:
            continue
        if column == values.shape[1]:
            group = np.sort(group)

            def near(k: int, others: Ints, group: Ints = group) -> Ints:
                """Those of which no mean differs, no distance from the middle and no length of an edge."""
                source = group[k]
                found = others[(np.abs(values[group[others]] - values[source]) <= widths).all(axis=1)]
                off = np.abs(lengths[group[found]] - lengths[source]).max(axis=1)
                return found[off <= 3 * np.maximum(rough[group[found]], rough[source])]

            yield numbers[group], near
            continue
        order = group[np.argsort(values[group, column], kind="stable")]
        gaps = np.flatnonzero(np.diff(values[order, column]) > widths[column])
        waiting += [(part, column + 1) for part in np.split(order, gaps + 1)]


def _traits(
    shapes: Sequence[Shape], numbers: Ints, tolerance: float
) -> tuple[Floats, NDArray[np.float32], Floats, Floats]:
    """What copies have in common: (N, K) means, and (N, 2 C) distances of corners from the middle and lengths of edges.

    These are in radii, from small to large. And (N,) how far off they may be, (K,) how far apart the means may be.
    """
    corners = np.stack([shapes[n].points[shapes[n].corner_point] for n in numbers])
    away = corners - corners.mean(axis=1, keepdims=True)
    distance = np.sqrt(np.einsum("nij,nij->ni", away, away))
    radius = np.maximum(np.sqrt((distance**2).mean(axis=1)), 1e-300)
    after = np.stack([_next_corners(shapes[n]) for n in numbers])
    edges = np.linalg.norm(corners - np.take_along_axis(corners, after[:, :, None], axis=1), axis=2)
    distance = np.sort(distance / radius[:, None], axis=1)
    lengths = np.concatenate([distance, np.sort(edges / radius[:, None], axis=1)], axis=1).astype(np.float32)
    rough = np.array([shapes[n].allowed(tolerance) for n in numbers]) / radius + 4 * np.finfo(np.float32).eps
    columns = [distance.mean(axis=1), edges.mean(axis=1) / radius]
    widths = [4 * float(rough.max())] * 2
    for n, (kind, values) in enumerate(shapes[numbers[0]].layers):
        if kind in ("uv", "color"):
            means = np.array([shapes[k].layers[n][1].mean(axis=0, dtype=np.float64) for k in numbers])
            columns += list(means.T)
            widths += [2 * _LAYER_TOLERANCE[kind]] * values.shape[1]
    return np.stack(columns, axis=1), lengths, rough, np.array(widths)


def _next_corners(shape: Shape) -> Ints:
    """(C,) the corner that follows each in its face."""
    after = np.arange(1, len(shape.corner_point) + 1)
    after[shape.face_start[1:] - 1] = shape.face_start[:-1]
    return after


def _chunks(shapes: Sequence[Shape], numbers: Ints) -> Iterator[Ints]:
    """Surfaces of as many corners, few enough at a time to be worked on together."""
    step = max(1, _CHUNK // (4 * max(len(shapes[numbers[0]].corner_point), 1)))
    return (numbers[at : at + step] for at in range(0, len(numbers), step))


def _copies_of(
    shapes: Sequence[Shape], source: int, numbers: Ints, tolerance: float, *, mirrored: bool, patience: int
) -> tuple[NDArray[np.bool_], Floats, int, Ints]:
    """Which surfaces are copies of one, (N,), what takes it to each, (N, 4, 4), and how many were tried in vain.

    Those numbered otherwise are tried one by one, until as many as ``patience`` have failed; last which were not tried.
    """
    model = shapes[source]
    matches, transforms = np.zeros(len(numbers), bool), np.tile(np.eye(4), (len(numbers), 1, 1))
    layout = model.layout
    ordered = np.array([shapes[n].layout == layout for n in numbers])
    in_order = np.zeros(len(numbers), bool)
    flips = _flips(model)
    for part in _chunks(shapes, np.flatnonzero(ordered)) if ordered.any() else ():
        corners = np.stack([shapes[n].corner_point for n in numbers[part]])
        for how, order in enumerate(flips):
            if how and not mirrored:
                continue
            fits = part[(corners[:, order] == model.corner_point).all(axis=1) & ~in_order[part]]
            if len(fits):
                others = [shapes[n] for n in numbers[fits]]
                in_order[fits], matches[fits], transforms[fits] = _laid_over(
                    model, others, order, tolerance, mirror=how > 0
                )
    failed = 0
    waiting = np.flatnonzero(~in_order)
    for done, k in enumerate(waiting):
        if failed >= patience:
            return matches, transforms, failed, waiting[done:]
        found = _laid_onto(model, shapes[numbers[k]], tolerance, mirrored=mirrored)
        if found is None:
            failed += 1
        else:
            matches[k], transforms[k] = True, found
    return matches, transforms, failed, waiting[:0]


def _flips(shape: Shape) -> list[Ints]:
    """Orders of corners: as they are, and two in which faces run the other way round: from their first, or last."""
    size = np.diff(shape.face_start)
    start = np.repeat(shape.face_start[:-1], size).astype(np.int64)
    sizes, within = np.repeat(size, size), np.arange(len(shape.corner_point)) - start
    return [np.arange(len(start)), start + (sizes - within) % sizes, start + sizes - 1 - within]


def _laid_over(
    model: Shape, others: list[Shape], order: Ints, tolerance: float, *, mirror: bool
) -> tuple[NDArray[np.bool_], NDArray[np.bool_], Floats]:
    """Which of some surfaces numbered like the model have its shape, which are copies, and what takes it to each.

    Corner k of the model is corner ``order[k]`` of the others.
    """
    points = np.stack([one.points for one in others])
    transforms, off = similarities(model.points, points, mirror=mirror)
    alike = off <= np.array([one.allowed(tolerance) for one in others])
    matches = alike.copy()
    if model.layers and matches.any():
        tables = [np.stack([one.layers[n][1][order] for one in others]) for n in range(len(model.layers))]
        matches &= _layers_agree(model, tables, transforms, mirror=mirror)
    return alike, matches, transforms


def similarities(source: Floats, targets: Floats, *, mirror: bool = False) -> tuple[Floats, Floats]:
    """What takes points nearest to others: a uniform scale, a rotation (and mirroring) and a translation.

    A turn or scale that is none but for rounding is none.

    Parameters
    ----------
    source : (P, 3) float64
    targets : (N, P, 3) float64
        In the same order.
    mirror : bool
        Whether to mirror.

    Returns
    -------
    transforms : (N, 4, 4) float64
    off : (N,) float64
        How far the point is off that is off farthest.
    """
    centre, centres = source.mean(axis=0), targets.mean(axis=1)
    own, theirs = source - centre, targets - centres[:, None]
    left, sizes, right = np.linalg.svd(np.einsum("npi,pj->nij", theirs, own))
    sign = np.sign(np.linalg.det(left) * np.linalg.det(right)) * (-1.0 if mirror else 1.0)
    left[:, :, 2] *= sign[:, None]
    sizes[:, 2] *= sign
    turned = left @ right
    scale = sizes.sum(axis=1) / max(float((own**2).sum()), 1e-300)
    # Flat ones can be turned about; a copy that is only moved is to be exactly that.
    eps = (
        _ROUNDING
        * (np.abs(targets).max(axis=(1, 2)) + np.abs(source).max())
        / max(float(np.ptp(own, axis=0).max()), 1e-300)
    )
    scale = np.where(np.abs(scale - 1) <= eps, 1.0, scale)
    plain = np.rint(turned)
    turned = np.where((np.abs(turned - plain).max(axis=(1, 2)) <= eps)[:, None, None], plain, turned)
    transforms = np.tile(np.eye(4), (len(targets), 1, 1))
    transforms[:, :3, :3] = turned * scale[:, None, None]
    transforms[:, :3, 3] = centres - transforms[:, :3, :3] @ centre
    moved = np.einsum("nij,pj->npi", transforms[:, :3, :3], own) - theirs
    return transforms, np.sqrt(np.einsum("npi,npi->np", moved, moved).max(axis=1))


def _layers_agree(
    model: Shape, tables: list[NDArray[np.float32]], transforms: Floats, *, mirror: bool
) -> NDArray[np.bool_]:
    """(N,) whether what corners have agrees with what the model's have once it is placed."""
    agree = np.ones(len(transforms), bool)
    linear = transforms[:, :3, :3]
    turns = (linear / np.linalg.norm(linear, axis=1, keepdims=True)).astype(np.float32)
    for (kind, own), theirs in zip(model.layers, tables, strict=True):
        if kind in ("normal", "tangent"):
            off = np.abs(np.einsum("nij,cj->nci", turns, own[:, :3]) - theirs[:, :, :3])
            agree &= off.max(axis=(1, 2)) <= _LAYER_TOLERANCE[kind]
            if kind == "tangent" and own.shape[1] == 4:
                agree &= (np.sign(theirs[:, :, 3]) == np.sign(own[:, 3]) * (-1 if mirror else 1)).all(axis=1)
        else:
            agree &= np.abs(theirs - own).max(axis=(1, 2)) <= _LAYER_TOLERANCE[kind]
    return agree


def _laid_onto(model: Shape, other: Shape, tolerance: float, *, mirrored: bool) -> Floats | None:
    """What takes a surface to another, (4, 4), that is numbered differently; None where nothing does."""
    from scipy.spatial import cKDTree

    ours, theirs = model.places, other.places
    if len(ours.points) != len(theirs.points) or not ours.radius > 0 or not theirs.radius > 0:
        return None
    allowed = other.allowed(tolerance)
    near = 4 * max(allowed / theirs.radius, model.allowed(tolerance) / ours.radius)
    tree = cKDTree(theirs.points)
    scale = theirs.radius / ours.radius
    flips = _flips(model)
    tries = 0
    for source, target in _frames(ours, theirs, near):
        for mirror in (False, True) if mirrored else (False,):
            tries += 1
            if tries > _MOST_TRIES:
                return None
            turn = (target * (1.0, 1.0, -1.0 if mirror else 1.0)) @ source.T
            laid = (ours.points - ours.centre) @ (scale * turn).T + theirs.centre
            distance, partner = tree.query(laid)
            if distance.max() > 4 * allowed or len(np.unique(partner)) < len(partner):
                continue
            transforms, off = similarities(ours.points, theirs.points[partner][None], mirror=mirror)
            if off[0] > allowed:
                continue
            order = _order_of_faces(model, partner[ours.number], other, flips[1] if mirror else flips[0])
            if order is None or not (model.slot[order[0]] == other.slot[order[1]]).all():
                continue
            mine, other_corners = order[2], order[3]
            laid_out = Shape(model.points, model.face_start, model.corner_point, model.slot,
                             tuple((kind, values[mine]) for kind, values in model.layers))  # fmt: skip
            tables = [values[other_corners][None] for _, values in other.layers]
            if _layers_agree(laid_out, tables, transforms, mirror=mirror)[0]:
                return np.asarray(transforms[0])
    return None


def _frames(ours: _Places, theirs: _Places, near: float) -> Iterator[tuple[Floats, Floats]]:
    """Pairs of frames (3, 3), by columns: one of our points, and each like it of theirs."""
    if ours.reference is None:
        return
    source, kinds = ours.reference
    # Of what looks the same from all sides the first few ways are as good as all.
    for one in np.flatnonzero((np.abs(theirs.kinds() - kinds[0]) <= near).all(axis=1)).tolist():
        for two in np.flatnonzero((np.abs(theirs.kinds(one) - kinds[1]) <= near).all(axis=1)).tolist():
            for three in np.flatnonzero((np.abs(theirs.kinds(one, two) - kinds[2]) <= near).all(axis=1)).tolist():
                target = theirs.axes(one, two, three)
                if target is not None:
                    yield source, target


def _order_of_faces(model: Shape, mapped: Ints, other: Shape, flip: Ints) -> tuple[Ints, Ints, Ints, Ints] | None:
    """Faces and corners of two surfaces in an order in which they are the same; None where they are not.

    ``mapped`` (C,) is the other's place of each corner of the model, ``flip`` the order its corners are taken in.
    """
    ours, mine = _sorted_faces(mapped[flip], model.face_start)
    theirs, yours = _sorted_faces(other.places.number, other.face_start)
    if ours.shape != theirs.shape or not np.array_equal(ours, theirs):
        return None
    return mine[0], yours[0], flip[mine[1]], yours[1]


def _sorted_faces(places: Ints, face_start: NDArray[np.int32]) -> tuple[Ints, tuple[Ints, Ints]]:
    """Faces as rows of places (F, n), filled with -1, each from its lowest place on, in order.

    And the faces and corners in that order.
    """
    size = np.diff(face_start)
    start = face_start[:-1].astype(np.int64)
    widest = int(size.max())
    steps = np.arange(widest)
    there = steps < size[:, None]
    rows = np.where(there, places[np.where(there, start[:, None] + steps, 0)], np.iinfo(np.int64).max)
    lowest = np.argmin(rows, axis=1)
    corner = start[:, None] + (lowest[:, None] + steps) % size[:, None]
    rows = np.where(there, places[np.where(there, corner, 0)], -1)
    order = np.lexsort((*rows.T[::-1], size))
    return rows[order], (order, corner[order][there[order]])
