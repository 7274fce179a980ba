"""What casts the shadow of a mesh: lighter, closed, and pulled inward."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.simplify.collapse import simplify
from zesty_otter.geometry.solids.hulls import convex_hull
from zesty_otter.geometry.solids.inset import Inset, behind_by, brought_within, inset, volume_of, widths_of
from zesty_otter.geometry.solids.solid import Solid
from zesty_otter.geometry.surface.topology import facing_outward, holes, topology
from zesty_otter.geometry.surface.triangulation import triangulate

_TRIES = 4  # to bring back what stands out
_BOX = 12  # triangles: nothing lighter casts its shadow
_NEARER = 0.02  # of the length, that a lighter mesh may come in by less than the full one does
_FARTHER = 0.1, 5e-4  # of the length, and of the size: the more of both a face of a convex mesh may come in by


@dataclass(frozen=True)
class Cast:
    """What casts a shadow, and what there is to say of it. Lengths are in the unit of the points.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    least : float
        How far the face that moved least came inward.
    out : float
        How far it stands out of its source at most.
    silhouette : float
        The mean share of its source's widths that it has, from thirteen sides.
    volume : float or None
        The share of its source's volume, where that has one.
    """

    points: NDArray[np.float64]
    triangles: NDArray[np.int32]
    least: float
    out: float
    silhouette: float
    volume: float | None


@dataclass(frozen=True)
class Closed:
    """A surface that faces outward, with its holes closed.

    Parameters
    ----------
    triangles : (T, 3) int32
    closed : int
        How many holes were.
    open_edges : int
    open_at : (3,) float64 or None
        Where the first hole is that is left.
    """

    triangles: NDArray[np.int32]
    closed: int
    open_edges: int
    open_at: NDArray[np.float64] | None


def cast(
    points: NDArray[np.float64], triangles: NDArray[np.int32], *, share: float, inward: float, most_lost: float
) -> Cast:
    """A mesh with fewer triangles, pulled in; with more of them where that would show outside or lose too much.

    Of a convex solid no face comes in by less than the length, where it is thick enough, nor by more than a tenth of
    it, or a two-thousandth of the size, beyond it. Others are pulled in as deep as the whole surface would be.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
        Facing outward, at least one, none without area.
    share : float
        Share of the triangles that is wanted.
    inward : float
        The length.
    most_lost : float
        Share of the volume that having fewer triangles may cost.

    Returns
    -------
    Cast
    """
    source = Solid(points, triangles)
    joined = topology(points, np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32), triangles.ravel()).joined
    solid = not source.is_sheet.any()
    full = inset(points, joined[triangles], inward) if inward else Inset(points, joined[triangles], 0.0)
    wanted_volume, wanted_widths = volume_of(*full[:2]), widths_of(full.points[np.unique(full.triangles)])
    targets: list[int] = []
    while share < 1.0 and len(triangles) > _BOX:
        targets.append(max(round(share * len(triangles)), 4))
        share *= 2
    base = points, triangles
    if full.is_convex:
        # Its corners are many planes' corners pulled apart: it may have more triangles than its source.
        targets += [len(triangles)] * (bool(targets) and len(full.triangles) > len(triangles))
        base = full.points, full.triangles
    best, best_out, wanted_depth = _brought_back(source, points, full) if solid else (full, 0.0, 0.0)
    for light in list(simplify(*base, targets[::-1], limit=0.02))[::-1]:
        if full.is_convex:
            found, out = _convex_within(full, light.points[np.unique(light.triangles)], source), 0.0
        else:
            found, out = _pulled(source, light.points, light.triangles, inward, wanted_depth)
        if found is None or out > 0.0:
            continue
        widths = widths_of(found.points[np.unique(found.triangles)])
        narrow = float((wanted_widths - widths).max()) > 0.05 * source.size
        lost = solid and volume_of(*found[:2]) < (1 - most_lost) * wanted_volume
        if not narrow and not lost:
            best, best_out = found, 0.0
            break
    before = np.maximum(widths_of(points[np.unique(triangles)]), 1e-300)
    silhouette = float(np.mean(widths_of(best.points[np.unique(best.triangles)]) / before))
    whole = volume_of(points, triangles)
    has_volume = solid and whole > 1e-15 * float(np.ptp(points, axis=0).max()) ** 3
    volume = volume_of(best.points, best.triangles) / whole if has_volume else None
    return Cast(best.points, best.triangles, best.least, best_out, silhouette, volume)


def _pulled(
    source: Solid, points: NDArray[np.float64], triangles: NDArray[np.int32], inward: float, wanted_depth: float
) -> tuple[Inset | None, float]:
    """A lighter mesh pulled in as deep as the full one is, and how far it stands out; None where that cannot be.

    Lighter meshes bulge here and there, so that what is pulled in by the length itself may come too near.
    """
    start = np.arange(0, triangles.size + 1, 3, dtype=np.int32)
    faces = topology(points, start, triangles.ravel()).joined[triangles]
    solid = not source.is_sheet.any()
    if not inward:
        found = Inset(points, faces, 0.0)
        return found, float(_out(source, found.points, found.triangles)[0].max()) if solid else 0.0
    by = inward
    for _ in range(_TRIES):
        found, out = inset(points, faces, by), 0.0
        if not solid:
            return found, out
        found, out, depth = _brought_back(source, points, found)
        if depth >= (1 - _NEARER) * wanted_depth:
            return found, out
        by += wanted_depth - depth
    return None, 0.0


def closed(points: NDArray[np.float64], triangles: NDArray[np.int32], largest: float) -> Closed:
    """A surface that faces outward, with its holes closed.

    Parameters
    ----------
    points : (P, 3) float64
    triangles : (T, 3) int32
    largest : float
        The longest hole to close, as a share of the size.

    Returns
    -------
    Closed
    """
    if not len(triangles):
        return Closed(triangles, 0, 0, None)
    triangles = _outward(points, triangles)
    start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
    edges = topology(points, start, triangles.ravel())
    size = float(np.ptp(points[triangles.ravel()], axis=0).max())
    added, left = [], []
    for loop in holes(triangles.ravel(), start, edges):
        around = edges.joined[triangles.ravel()[loop]]
        span = float(np.ptp(points[around], axis=0).max())
        sheet = len(around) >= edges.border.size and _is_flat(points, triangles)
        if len(around) < 3 or span > largest * size * 1.001 or sheet:
            left.append(points[around].mean(axis=0))
            continue
        corners, _ = triangulate(points, np.array([0, len(around)], np.int32), around.astype(np.int32))
        added.append(around[corners])
    if added:
        triangles = _outward(points, np.concatenate([triangles, *added]).astype(np.int32))
    edges = topology(points, np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32), triangles.ravel())
    where = None
    if len(edges.border):
        where = left[0] if left else points[edges.edge_points[edges.border[0]]].mean(axis=0)
    return Closed(triangles, len(added), len(edges.border), where)


def _outward(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.int32]:
    start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
    turned = facing_outward(points, start, triangles.ravel(), topology(points, start, triangles.ravel())).turned
    return np.where(turned[:, None], triangles[:, ::-1], triangles).astype(np.int32)


def _convex_within(full: Inset, points: NDArray[np.float64], source: Solid) -> Inset | None:
    """The hull of points about a convex mesh, brought within it; None where that is much farther in anywhere."""
    hull = convex_hull(brought_within(full.points, full.triangles, points))
    found = Inset(hull.points, hull.triangles.astype(np.int32), full.least, is_convex=True)
    farthest = float(behind_by(source.points, source.triangles, found.points).max())
    return found if farthest <= full.least + max(_FARTHER[0] * full.least, _FARTHER[1] * source.size) else None


def _brought_back(source: Solid, home: NDArray[np.float64], found: Inset) -> tuple[Inset, float, float]:
    """A surface that was pulled in, with the points of what still stands out where they were.

    Also how far it still does, and how near it comes to the surface it is pulled in from.
    """
    if found.is_convex:
        return found, 0.0, 0.0
    points, triangles = found.points, found.triangles
    out, near = _out(source, points, triangles)
    for _ in range(_TRIES):
        wrong = triangles[out > 0].ravel()
        if not len(wrong):
            break
        moved = np.zeros(len(points), bool)
        moved[wrong] = (points[wrong] != home[wrong]).any(axis=1)
        points = np.where(moved[:, None], home, points)
        # All others lie as they lay.
        anew = np.flatnonzero(moved[triangles].any(axis=1))
        if not len(anew):
            break
        out[anew], near[anew] = _out(source, points, triangles[anew])
        found = Inset(points, triangles, 0.0)
    return found, float(out.max(initial=0.0)), float(near.min(initial=np.inf))


def _out(
    source: Solid, points: NDArray[np.float64], triangles: NDArray[np.int32]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(T,) how far the worst place of each triangle is outside of a solid, 0 within what rounding does; and how near
    any of it comes to its surface.
    """
    places, of = _places(points, triangles)
    away = source.surface.nearest(places)[0]
    is_far = away > 1e-6 * source.size
    is_far[is_far] = ~source.is_inside(places[is_far])
    return np.where(is_far, away, 0.0)[of].max(axis=1), away[of].min(axis=1)


def _places(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Corners, middles of edges and middles of triangles, each once; and (T, 7) those of each triangle."""
    used, renumbered = np.unique(triangles, return_inverse=True)
    points, count = points[used], len(used)
    triangles = renumbered.reshape(-1, 3).astype(np.int32)
    after = np.roll(triangles, -1, axis=1).astype(np.int64)
    keys, edge = np.unique(np.minimum(triangles, after) * count + np.maximum(triangles, after), return_inverse=True)
    ends = points[np.stack(np.divmod(keys, count))]
    places = np.concatenate([points, ends.mean(axis=0), points[triangles].mean(axis=1)])
    middle = count + len(keys) + np.arange(len(triangles))
    return places, np.column_stack([triangles, count + edge.reshape(-1, 3), middle])


def _is_flat(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> bool:
    used = points[np.unique(triangles)]
    spread = np.linalg.svd(used - used.mean(axis=0), compute_uv=False)
    return bool(spread[2] <= 1e-6 * spread[0])
