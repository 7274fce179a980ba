"""What casts the shadow."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field

from zesty_otter.geometry.distance import Surface, areas
from zesty_otter.geometry.simplify import simplify
from zesty_otter.geometry.solid import Solid
from zesty_otter.geometry.topology import facing_outward, holes, topology
from zesty_otter.geometry.triangulation import triangulate
from zesty_otter.model import Mesh, Node, Note, Scene, count_of, format_length
from zesty_otter.steps.assets import Roles, assets_of
from zesty_otter.steps.base import Length, Step
from zesty_otter.steps.collision import face_normals, point_normals, triangle_mesh
from zesty_otter.steps.siblings import holds, sibling, with_nodes_behind
from zesty_otter.steps.words import chosen_numbers

_TRIES = 6  # to move what stands out back in


class Shadow(Step):
    """Give every visible mesh a light, closed mesh to cast its shadow.

    Looks at visible meshes. Adds a node with the role of shadow behind each, about the same pivot: triangles only,
    hard-edged, without materials and UVs, holes closed, and pulled inward so that it does not shadow its own source.
    Shadow meshes that are there stay. Notes holes that could not be closed, and where they are. Refuses nothing.
    """

    slug: ClassVar[str] = "shadow"
    example: ClassVar[dict[str, Any]] = {"inward": "5mm", "share": 0.25}

    share: float = Field(0.25, gt=0, le=1, description="Share of the triangles that is left.")
    inward: Length = Field(0.01, ge=0, description="How far it is pulled inward, where the mesh is thick enough.")
    largest_hole: float = Field(1.0, gt=0, description="The longest hole to close, as a share of the size.")
    reversed: bool = Field(False, description="Turn its faces inward.")
    names: Annotated[str, AfterValidator(holds("name"))] = Field(
        "{name}_shadow", description="Names of the nodes, from {name}."
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        metre = scene.unit_for("pulling shadow meshes inward")
        behind: dict[int, list[Node]] = {}
        notes: list[Note] = []
        made: dict[int, tuple[Mesh, list[str]]] = {}
        for asset in assets_of(scene):
            if any(one.node.role == "shadow" for one in asset.rest):
                continue
            for placed in asset.main:
                mesh = placed.node.drawn
                if placed.number not in numbers or mesh is None or not mesh.face_count:
                    continue
                scale = metre * abs(float(np.linalg.det(placed.world[:3, :3]))) ** (1 / 3)
                if id(mesh) not in made:
                    made[id(mesh)] = self._made(mesh, scale or 1.0)
                shadow, remarks = made[id(mesh)]
                name = self.names.replace("{name}", placed.node.name)
                notes.extend(self.note(one, kind="guess", node=placed.node.name) for one in remarks)
                if not shadow.face_count:
                    continue
                named = shadow.replace(name=name)
                behind[placed.number] = [sibling(placed, named, "shadow", {"asset": asset.name})]
        if behind:
            notes.insert(0, self.note(f"shadow meshes added to {count_of(len(behind), 'mesh')}"))
        return with_nodes_behind(scene, behind, {}).with_notes(*notes)

    def _made(self, mesh: Mesh, scale: float) -> tuple[Mesh, list[str]]:
        """The shadow mesh of a mesh, ``scale`` metres to its unit, and what there is to say of it."""
        remarks: list[str] = []
        corners, _ = mesh.surface(triangulate)
        triangles = mesh.corner_point[corners].astype(np.int32)
        triangles = triangles[areas(mesh.points, triangles) > 0]
        points = mesh.points
        triangles = self._closed(points, triangles, scale, remarks)
        if not len(triangles):
            remarks.append("has no area and casts no shadow")
            return triangle_mesh(mesh.name, np.zeros((0, 3)), np.zeros((0, 3), np.int32)), remarks
        points, triangles = self._light(points, triangles, scale, remarks)
        if self.reversed:
            triangles = triangles[:, ::-1]
        # A hard edge everywhere: no normals, no smoothing.
        return triangle_mesh(mesh.name, points, triangles), remarks

    def _light(
        self, points: NDArray[np.float64], triangles: NDArray[np.int32], scale: float, remarks: list[str]
    ) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
        """A mesh with fewer triangles, pulled in; with more of them again until nothing of it shows outside."""
        source = Solid(points, triangles)
        share, targets = self.share, []
        while share < 1.0:
            targets.append(max(round(share * len(triangles)), 4))
            share *= 2
        tries = list(simplify(points, triangles, targets[::-1], limit=0.02))[::-1]
        out = reached = 0.0
        for at, corners in [*((one.points, one.triangles) for one in tries), (points, triangles)]:
            edges = topology(at, np.arange(0, 3 * len(corners) + 1, 3, dtype=np.int32), corners.ravel())
            # Points at one place move as one.
            found, faces = at, edges.joined[corners]
            if self.inward:
                found, reached = _pulled_in(found, faces, self.inward / scale)
                # Of open sheets everything is outside.
                if not source.is_sheet.any():
                    found, out = _kept_inside(at, found, faces, source, 0.1 * self.inward / scale)
            if out <= 0.0:
                break
        if self.inward and reached < 0.99 * self.inward / scale:
            remarks.append(
                f"is too thin to be pulled in by {format_length(self.inward)} everywhere; at its thinnest it is by"
                f" {format_length(reached * scale)}"
            )
        if out > 0.0:
            remarks.append(f"its shadow mesh stands out of it by up to {format_length(out * scale)}")
        return found, faces

    def _closed(
        self, points: NDArray[np.float64], triangles: NDArray[np.int32], scale: float, remarks: list[str]
    ) -> NDArray[np.int32]:
        """Triangles that face outward, with their holes closed."""
        if not len(triangles):
            return triangles
        triangles = _outward(points, triangles)
        start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
        edges = topology(points, start, triangles.ravel())
        size = float(np.ptp(points[triangles.ravel()], axis=0).max())
        added, left = [], []
        for loop in holes(triangles.ravel(), start, edges):
            around = edges.joined[triangles.ravel()[loop]]
            span = float(np.ptp(points[around], axis=0).max())
            sheet = len(around) >= edges.border.size and _is_flat(points, triangles)
            if len(around) < 3 or span > self.largest_hole * size * 1.001 or sheet:
                left.append(points[around].mean(axis=0))
                continue
            corners, _ = triangulate(points, np.array([0, len(around)], np.int32), around.astype(np.int32))
            added.append(around[corners])
        if added:
            remarks.append(f"{count_of(len(added), 'hole')} closed in its shadow mesh")
            triangles = _outward(points, np.concatenate([triangles, *added]).astype(np.int32))
        edges = topology(points, np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32), triangles.ravel())
        if len(edges.border):
            where = left[0] if left else points[edges.edge_points[edges.border[0]]].mean(axis=0)
            shown = ", ".join(f"{value * scale:.3g}" for value in where)
            remarks.append(
                f"its shadow mesh stays open: {count_of(len(edges.border), 'open edge')}, the first at ({shown}) m"
                " from its pivot"
            )
        return triangles


def _outward(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.int32]:
    start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
    turned = facing_outward(points, start, triangles.ravel(), topology(points, start, triangles.ravel())).turned
    return np.where(turned[:, None], triangles[:, ::-1], triangles).astype(np.int32)


def _kept_inside(
    home: NDArray[np.float64], points: NDArray[np.float64], triangles: NDArray[np.int32], source: Solid, by: float
) -> tuple[NDArray[np.float64], float]:
    """Points moved on against their averaged normals, a bit more than any place of the triangles is out of a solid.

    Where that does not help they go back ``home``, to where they were before they were pulled in. Returns how far out
    the worst still is: what was cut off by simplifying may lie beyond a hollow, or a wall be too thin.
    """
    normals, before = point_normals(points, triangles), face_normals(points, triangles)
    slack = 1e-6 * source.size
    out = _out_of(source, points, triangles)
    best, least = points, out
    for _ in range(_TRIES):
        if out.max() <= slack:
            turned = (before * face_normals(points, triangles)).sum(axis=1) < 0
            return points, float(turned.any()) * by
        move = np.zeros(len(points))
        np.maximum.at(move, triangles.ravel(), np.repeat(np.where(out > slack, out + by, 0.0), 3))
        points = points - move[:, None] * normals
        touched = np.flatnonzero((move[triangles] > 0).any(axis=1))
        out = out.copy()
        out[touched] = _out_of(source, points, triangles[touched])
        if out.max() < least.max():
            best, least = points, out
    back = best.copy()
    stuck = triangles[least > slack].ravel()
    back[stuck] = home[stuck]
    out = _out_of(source, back, triangles)
    if out.max() < least.max():
        best, least = back, out
    return best, float(least.max()) if least.max() > slack else 0.0


def _out_of(source: Solid, points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(T,) how far corners, middles of edges and the middle of each triangle are outside at most."""
    sides = points[triangles]
    places = np.concatenate([sides, (sides + np.roll(sides, 1, axis=1)) / 2, sides.mean(axis=1)[:, None]], axis=1)
    return source.outside_by(places.reshape(-1, 3)).reshape(len(triangles), -1).max(axis=1)


def _is_flat(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> bool:
    used = points[np.unique(triangles)]
    spread = np.linalg.svd(used - used.mean(axis=0), compute_uv=False)
    return bool(spread[2] <= 1e-6 * spread[0])


def _pulled_in(
    points: NDArray[np.float64], triangles: NDArray[np.int32], by: float
) -> tuple[NDArray[np.float64], float]:
    """Points moved against their averaged normals, each only as far as no face turns over; and the least of that."""
    normals = point_normals(points, triangles)
    used = np.unique(triangles)
    surface = Surface(points, triangles)
    # What lies opposite comes to meet it, and neither may pass the other.
    behind, _ = surface.first_hits(points[used] - 1e-4 * by * normals[used], -normals[used], 1e-3 * by)
    depth = np.zeros(len(points))
    depth[used] = np.minimum(by, np.where(np.isfinite(behind), 0.4 * behind, by))
    before = face_normals(points, triangles)
    for _ in range(12):
        moved = points - depth[:, None] * normals
        after = face_normals(moved, triangles)
        size = (before**2).sum(axis=1)
        turned = (before * after).sum(axis=1) < 0.2 * np.sqrt(size * np.maximum((after**2).sum(axis=1), 1e-300))
        if not turned.any():
            break
        # Half as far around every face that would turn over.
        depth[np.unique(triangles[turned])] /= 2
    return points - depth[:, None] * normals, float(depth[used].min())
