"""Collision measured against what is seen: where would feet float or sink, what stands out, what is blocked."""

from __future__ import annotations

import hashlib
import math
from collections import OrderedDict
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.topology import topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Placed, Scene, determinant
from zesty_otter.steps.assets import assets_of

if TYPE_CHECKING:
    from zesty_otter.geometry.solids.footing import Footing, Standing

_ASIDE = 0.02  # metres that feet may be pushed aside by
QUICK = 4_000  # places of each asset, where it is one of many: in checks, and reports of jobs
_FAR = 100.0  # sizes of a mesh: what lies no farther from its origin is told by single precision
_ROUND = 1e-5  # of the size, within which a mesh counts as convex


@dataclass(frozen=True)
class CollisionFacts:
    """The collision of one asset. Lengths are in metres, places in the scene's own axes and metres.

    Parameters
    ----------
    asset : str
    shape : str
        ``own`` for what an artist made.
    parts : int
        How many meshes.
    corners : int
        Points of the largest of them.
    triangles : int
    convex : bool
    closed : bool
    places : int
        How many were looked at.
    floats : float
        The most that feet are above the surface.
    sinks : float
        The most that they are below it.
    off_95 : float
        What they are not off by more in 95 of 100 places.
    falls : float
        The share of places where nothing holds them.
    worst_at : (float, float, float) or None
        The worst of all places.
    sideways : float
        How far upright sides stand out.
    sideways_at : (float, float, float) or None
    blocked : float
        The radius of the largest ball of open space that is solid for collision.
    blocked_at : (float, float, float) or None
    why : str
        What kept a cheaper shape from being taken, where one was looked for.
    """

    asset: str
    shape: str
    parts: int
    corners: int
    triangles: int
    convex: bool
    closed: bool
    places: int
    floats: float
    sinks: float
    off_95: float
    falls: float
    worst_at: tuple[float, float, float] | None
    sideways: float
    sideways_at: tuple[float, float, float] | None
    blocked: float
    blocked_at: tuple[float, float, float] | None
    why: str = ""


def collision_facts(scene: Scene, *, slope: float = 45.0, count: int = 20_000) -> tuple[CollisionFacts, ...]:
    """What there is to say of the collision of every asset that has some; nothing when the unit is not known.

    Parameters
    ----------
    scene : Scene
    slope : float
        The steepest that one can stand on, in degrees.
    count : int
        How many places of each asset to look at.

    Returns
    -------
    tuple of CollisionFacts

    Examples
    --------
    >>> import numpy as np
    >>> from itertools import product
    >>> import zesty_otter as zo
    >>> from zesty_otter.geometry import convex_hull
    >>> cube = convex_hull(np.array(list(product((0, 1), repeat=3)), float))
    >>> crate = zo.Mesh.from_faces("crate", cube.points, cube.triangles.tolist())
    >>> scene = zo.apply(zo.Scene.from_mesh(crate), zo.steps.Collision())
    >>> [(facts.asset, facts.shape, facts.parts) for facts in collision_facts(scene)]
    [('crate', 'box', 1)]
    """
    if scene.frame.unit is None or not any(one.node.role == "collision" for one in scene.walk()):
        return ()
    return tuple(_facts(name, scene, seen, solid, slope, count) for name, seen, solid in with_collision(scene))


def with_collision(scene: Scene) -> Iterator[tuple[str, list[Placed], list[Placed]]]:
    """Every asset that has collision: its name, what is seen of it, and what is solid."""
    for asset in assets_of(scene):
        solid = [one for one in asset.rest if one.node.role == "collision" and _has_faces(one)]
        seen = [one for one in asset.main if _has_faces(one)]
        if solid and seen:
            yield asset.name, seen, solid


_measured: OrderedDict[bytes, tuple[Footing, bool, bool]] = OrderedDict()
_REMEMBERED = 64  # footings of the latest solids: the same ones are measured for checks, tables and pictures


def footing_of(
    scene: Scene, seen: list[Placed], solid: list[Placed], *, slope: float = 45.0, count: int = 20_000
) -> tuple[Footing, bool, bool]:
    """The footing of what is seen on what is solid, in metres; and whether all of that is convex, and closed."""
    # Measuring solids is much to load; most files have no collision.
    from zesty_otter.geometry.solids.footing import Shapes, footing
    from zesty_otter.geometry.solids.hulls import convex_hull
    from zesty_otter.geometry.solids.solid import Solid

    metre = scene.frame.unit or 1.0
    axis, sign = scene.frame.up
    digest = hashlib.sha256(repr((axis, sign, slope, count, metre, len(seen))).encode())
    for one in (*seen, *solid):
        _add_print(digest, one)
    key = digest.digest()
    if key in _measured:
        _measured.move_to_end(key)
        return _measured[key]
    points, triangles = joined([_in_metres(one, metre) for one in seen])
    hulls, surfaces = [], []
    closed = True
    for one in solid:
        own, faces = _in_metres(one, metre)
        mesh = one.node.drawn
        closed = closed and mesh is not None and not len(mesh.surface(topology).border)
        hull = convex_hull(own[np.unique(faces)])
        inside = -hull.above((own[faces].sum(axis=1)) / 3)
        # Convex is what lies nowhere below its own hull.
        if float(inside.max(initial=0.0)) <= _ROUND * float(np.ptp(own, axis=0).max()) or _is_flat(hull.points):
            hulls.append(hull)
        else:
            surfaces.append((own, faces))
    body = Solid(points, triangles)
    found = footing(
        body, Shapes(hulls, surfaces), sign * np.eye(3)[axis], slope=slope, headroom=min(1.0, body.size),
        reach=max(0.5, body.size), margin=min(_ASIDE, 0.02 * body.size), count=count,
    )  # fmt: skip
    _measured[key] = found, not surfaces, closed
    if len(_measured) > _REMEMBERED:
        _measured.popitem(last=False)
    return _measured[key]


def standing_on(scene: Scene, *, count: int = 20_000, among: Collection[int] | None = None) -> Standing:
    """Where one can stand on all assets that have collision, in metres, each measured for itself.

    Parameters
    ----------
    scene : Scene
    count : int
        How many places of each asset to look at.
    among : collection of int, optional
        The numbers of the nodes in the walk that are seen; what is visible when absent.
    """
    from zesty_otter.geometry.solids.footing import Standing

    places, gaps = [np.zeros((0, 3))], [np.zeros(0)]
    for _, seen, solid in with_collision(scene):
        shown = seen if among is None else [one for one in seen if one.number in among]
        if shown:
            found, _, _ = footing_of(scene, shown, solid, count=count)
            places.append(found.place)
            gaps.append(found.gap)
    return Standing(np.concatenate(places), np.concatenate(gaps))


def joined(
    parts: list[tuple[NDArray[np.float64], NDArray[np.int32]]],
) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """One table of points and triangles from several."""
    first = np.cumsum([0, *(len(points) for points, _ in parts)])
    triangles = [faces + start for (_, faces), start in zip(parts, first[:-1], strict=True)]
    return np.concatenate([points for points, _ in parts]), np.concatenate(triangles).astype(np.int32)


def _facts(
    name: str, scene: Scene, seen: list[Placed], solid: list[Placed], slope: float, count: int
) -> CollisionFacts:
    found, convex, closed = footing_of(scene, seen, solid, slope=slope, count=count)
    meshes = [one.node.drawn for one in solid if one.node.drawn is not None]
    shape = str(solid[0].node.properties.get("shape", ""))
    return CollisionFacts(
        name,
        shape or "own",
        len(solid),
        max(int(mesh.point_used.sum()) for mesh in meshes),
        sum(mesh.triangle_count for mesh in meshes),
        convex,
        closed,
        len(found.place),
        found.floats,
        found.sinks,
        found.most,
        found.falls,
        None if found.worst is None else rounded_place(found.place[found.worst]),
        found.sideways,
        rounded_place(found.sideways_at),
        found.blocked,
        rounded_place(found.blocked_at),
        str(solid[0].node.properties.get("why", "")),
    )


def _has_faces(placed: Placed) -> bool:
    mesh = placed.node.drawn
    return mesh is not None and mesh.face_count > 0


def _in_metres(placed: Placed, metre: float) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Points and triangles of a placed mesh; of a scatter its first copy."""
    mesh: Any = placed.node.drawn
    corners, _ = mesh.surface(triangulate)
    triangles = mesh.corner_point[corners].astype(np.int32)
    points = (mesh.points @ placed.world[:3, :3].T + placed.world[:3, 3]) * metre
    return points, triangles[:, ::-1] if determinant(placed.world[:3, :3]) < 0 else triangles


def _add_print(digest: Any, placed: Placed) -> None:
    """Adds what tells a placed mesh from others, which is the same before it is written and after it is read."""
    mesh: Any = placed.node.drawn
    corners, _ = mesh.surface(triangulate)
    places = mesh.points[mesh.corner_point[corners]]
    # Most formats hold single precision; of transforms they lose the last digits.
    near = float(np.abs(places).max(initial=0.0)) <= _FAR * float(np.ptp(places, axis=(0, 1)).max(initial=0.0))
    size = float(np.abs(placed.world[:3]).max()) or 1.0
    world = np.round(placed.world[:3] / size, 12) + 0.0
    digest.update(repr((places.shape, f"{size:.10g}")).encode() + world.tobytes())
    digest.update((places.astype(np.float32) if near else places).tobytes())


def _is_flat(points: NDArray[np.float64]) -> bool:
    spread = np.linalg.svd(points - points.mean(axis=0), compute_uv=False)
    return bool(spread[-1] <= 1e-4 * spread[0])


def rounded_place(place: NDArray[np.float64]) -> tuple[float, float, float] | None:
    """A place with six digits; None where it is not known."""
    x, y, z = (float(f"{value:.6g}") for value in place)
    return (x, y, z) if math.isfinite(x) else None
