"""Meshes with fewer triangles."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zesty_otter.geometry.queries.distance import wall_thickness
from zesty_otter.geometry.simplify.collapse import Attribute, Reduced, simplify
from zesty_otter.geometry.simplify.deviation import Deviation, Shape, Values, deviation
from zesty_otter.geometry.surface.corners import join_points, split_vertices
from zesty_otter.geometry.surface.normals import face_areas_and_normals, unit_rows
from zesty_otter.geometry.surface.topology import parts
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Layer, Mesh, Note, Scene, count_of, format_length
from zesty_otter.shading import with_all_normals
from zesty_otter.steps.base import Step, tell
from zesty_otter.steps.stretches import Stretches

# A change of normals by one radian is as bad as this share of the size, of UVs as this share of the length that
# a texture covers, of colours from black to white as this share of the size.
_LOOKS = {"normal": 0.005, "uv": 0.05, "color": 0.01}
_FACETED = 0.9
LIMIT = "Maximum deviation, as a share of the size."
_OF_WALL = 0.4  # of the thickness of a wall
_PLACES = 20  # to measure at, for each triangle
_DROPPABLE = 0.1  # the longest diagonal of a loose part that may go, as a share of that of the whole


class Lighten(Step):
    """Reduce meshes that are too heavy to a number of triangles.

    Looks at every mesh with more triangles than that, such as scans and sculpts. Borders, UV seams, edges between
    materials and hard edges keep their course; a note says how far the surface moved. Refuses nothing; if the
    target cannot be reached, the note says what was.
    """

    slug: ClassVar[str] = "lighten"
    example: ClassVar[dict[str, Any]] = {"triangles": 20000}

    triangles: int = Field(ge=1, description="Maximum number of triangles of a mesh.")
    attribute_weight: float = Field(
        1.0, ge=0, description="How much normals, UVs and colours count beside the shape; at 0 only the shape counts."
    )
    points: Literal["best", "old"] = Field(
        "best", description="Where points may go: where they fit best, or only where an old point was."
    )

    limit: float = Field(0.015, gt=0, description=LIMIT)

    def change(self, scene: Scene) -> Scene:
        notes: list[Note] = []
        stretches = Stretches(scene)

        def change(mesh: Mesh) -> Mesh:
            if mesh.triangle_count <= self.triangles:
                return mesh
            heavy = HeavyMesh(
                mesh, attribute_weight=self.attribute_weight, only_old=self.points == "old", limit=self.limit
            )
            (light,) = heavy.lightened([self.triangles], tell)
            text = f"{mesh.triangle_count:,} triangles became {light.triangle_count:,}"
            if light.triangle_count and scene.frame.unit is not None:
                moved = heavy.measured(light).largest * stretches.of(mesh).most * scene.frame.unit
                text += f"; the surface moved by {format_length(moved)} at most"
            notes.append(self.note(text, node=mesh.name))
            notes.extend(self.note(one, kind="finding", node=mesh.name) for one in heavy.remarks)
            return light

        return scene.map_meshes(change).with_notes(*notes)


class HeavyMesh:
    """A mesh to make lighter ones of.

    Parameters
    ----------
    mesh : Mesh
        With at least one face.
    attribute_weight : float
        How much attributes count beside the shape.
    only_old : bool
        Whether points may only be where one was before.
    locked : (P,) bool, optional
        Points that stay where they are.
    limit : float
        The farthest that anything may move, as a share of the size.
    fuse : float, optional
        Where no edge can go any more, points closer than this become one; in the unit of the mesh.
    """

    def __init__(
        self,
        mesh: Mesh,
        *,
        attribute_weight: float = 1.0,
        only_old: bool = False,
        locked: NDArray[np.bool_] | None = None,
        fuse: float | None = None,
        limit: float = 0.015,
    ) -> None:
        says_shading = mesh.normals is not None or (mesh.face_smoothing is not None and bool(mesh.face_smoothing.any()))
        self.mesh = with_all_normals(mesh) if says_shading else mesh
        self.only_old, self.locked, self.fuse, self.limit = only_old, locked, fuse, limit
        self._remarks: dict[str, None] = {}
        self._unmet: list[tuple[int, int]] = []
        corners, self.face = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
        self.corners = corners
        self.triangles = self.mesh.corner_point[corners]
        self.layers = [one for one in self.mesh.layers if one.kind != "tangent"]
        self.faceted = self._is_faceted()
        if self.faceted:
            self.layers = [one for one in self.layers if one.kind != "normal"]
        size = float(np.ptp(mesh.points, axis=0).max(initial=0.0))
        lengths = {"normal": size, "color": size, "uv": self.shape.texture_length}
        self.attributes = [
            Attribute(*self._filled(one), weight=attribute_weight * _LOOKS[one.kind] * lengths[one.kind])
            for one in self.layers
        ]

    def _is_faceted(self) -> bool:
        """Whether nearly every edge is hard, so that normals say no more than the faces do."""
        normals = self.mesh.normals
        if normals is None or not len(self.corners):
            return False
        place = self.mesh.surface(join_points)[self.mesh.corner_point]
        section = np.zeros(len(self.corners), np.int32)
        _, first = split_vertices(self.corners, section, place, [(normals.values, normals.index)])
        return len(first) > _FACETED * self.corners.size

    def _filled(self, layer: Layer) -> Values:
        """The layer at the corners of triangles; where it has no value it is zero."""
        index = layer.index[self.corners]
        if (index < 0).any():
            self._remarks[f"corners without {layer.kind} count as zero"] = None
            values = np.concatenate([layer.values, np.zeros((1, layer.values.shape[1]), np.float32)])
            return values, np.where(index < 0, len(layer.values), index).astype(np.int32)
        return layer.values, index

    @property
    def remarks(self) -> list[str]:
        """What went beyond collapsing edges, and what could not be reached."""
        if not self._unmet:
            return list(self._remarks)
        asked = ", ".join(f"{target:,}" for target, _ in self._unmet)
        fewest = (
            f"{self._unmet[-1][1]:,} are the fewest without moving anything by much more than {100 * self.limit:.2g} %"
        )
        return [*self._remarks, f"asked for {asked} triangles; {fewest} of its size"]

    def forget(self) -> None:
        """Drop all remarks."""
        self._remarks.clear()
        self._unmet.clear()

    @cached_property
    def shape(self) -> Shape:
        """What lighter versions are measured against."""
        return shape_of(self.mesh, min(max(_PLACES * self.mesh.triangle_count, 5_000), 100_000))

    def measured(self, light: Mesh) -> Deviation:
        """What a lighter version differs by."""
        return deviation(self.shape, shape_of(light, self.shape.samples))

    def lightened(self, targets: Sequence[int], progress: Callable[[float], None] | None = None) -> Iterator[Mesh]:
        """A mesh for each number of triangles, from the largest number to the smallest."""
        for target, reduced in zip(targets, self._reduced(targets, progress), strict=True):
            if len(reduced.triangles) > target and self.fuse is not None:
                reduced = self._fused(reduced, target, self.fuse)
            if len(reduced.triangles) > target:
                reduced = self._without_small_parts(reduced, target)
            if len(reduced.triangles) > target:
                self._unmet.append((target, len(reduced.triangles)))
            yield self._mesh(reduced)

    def _reduced(self, targets: Sequence[int], progress: Callable[[float], None] | None) -> Iterator[Reduced]:
        return simplify(
            self.mesh.points,
            self.triangles,
            targets,
            attributes=self.attributes,
            section=self._sections(),
            locked=self.locked,
            only_old=self.only_old,
            limit=self.limit,
            reach=self._reach(),
            progress=progress,
        )

    def _reach(self) -> NDArray[np.float64]:
        """(P,) how far points may come to lie: less than half of the wall behind them."""
        mesh = self.mesh
        joined = mesh.surface(join_points)
        place = joined[self.triangles]
        a, b, c = (mesh.points[place[:, k]] for k in range(3))
        of_face = np.cross(b - a, c - a)
        normals = np.stack(
            [sum(np.bincount(place[:, k], of_face[:, j], mesh.point_count) for k in range(3)) for j in range(3)], axis=1
        )
        size = float(np.ptp(mesh.points, axis=0).max(initial=0.0)) or 1.0
        reach = 2 * self.limit * size / _OF_WALL
        return _OF_WALL * wall_thickness(mesh.points, place, unit_rows(normals).astype(np.float64), reach)[joined]

    def _sections(self) -> NDArray[np.int32] | None:
        slot = self.mesh.face_slot
        return None if slot is None else slot[self.face].astype(np.int32)

    def _fused(self, reduced: Reduced, target: int, size: float) -> Reduced:
        """The mesh with points of one cell of a grid as one (J. Rossignac and P. Borrel, 1993), and reduced again."""
        cells = np.floor(reduced.points / size).astype(np.int64)
        _, cell = np.unique(cells, axis=0, return_inverse=True)
        cell = cell.ravel()
        count = np.bincount(cell).astype(float)
        centres = np.stack([np.bincount(cell, reduced.points[:, k]) / count for k in range(3)], axis=1)
        again = next(
            simplify(
                centres,
                cell[reduced.triangles].astype(np.int32),
                [target],
                attributes=[
                    Attribute(values, index, one.weight)
                    for (values, index), one in zip(reduced.attributes, self.attributes, strict=True)
                ],
            )
        )
        if not len(again.triangles):
            return reduced
        self._remarks["points near each other were joined; parts and holes may have closed"] = None
        return Reduced(again.points, again.triangles, reduced.source[again.source], again.attributes)

    def _without_small_parts(self, reduced: Reduced, target: int) -> Reduced:
        """The mesh without its smallest loose parts, as far as that is needed and they are small."""
        start = np.arange(0, reduced.triangles.size + 1, 3, dtype=np.int32)
        corner_point = np.ascontiguousarray(reduced.triangles.ravel())
        part, count = parts(start, corner_point, np.arange(len(reduced.points), dtype=np.int32))
        if count < 2:
            return reduced
        low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
        place = reduced.points[reduced.triangles]
        np.minimum.at(low, part, place.min(axis=1))
        np.maximum.at(high, part, place.max(axis=1))
        diagonal = np.linalg.norm(high - low, axis=1)
        faces = np.bincount(part, minlength=count)
        whole = float(np.linalg.norm(np.ptp(reduced.points, axis=0)))
        order = np.argsort(diagonal, kind="stable")[:-1]
        left = len(part) - np.concatenate([[0], np.cumsum(faces[order])])
        gone = order[(left[:-1] > target) & (diagonal[order] <= _DROPPABLE * whole)]
        if not len(gone):
            return reduced
        share = float(diagonal[gone].max()) / whole
        self._remarks[f"{count_of(len(gone), 'loose part')} dropped, at most {share:.2g} of the whole in size"] = None
        kept = ~np.isin(part, gone)
        return Reduced(
            reduced.points,
            reduced.triangles[kept],
            reduced.source[kept],
            tuple((values, index[kept]) for values, index in reduced.attributes),
        )

    def _mesh(self, reduced: Reduced) -> Mesh:
        mesh, source = self.mesh, self.face[reduced.source]
        start = np.arange(0, reduced.triangles.size + 1, 3, dtype=np.int32)
        corners = reduced.triangles.ravel()
        layers = []
        for layer, (values, index) in zip(self.layers, reduced.attributes, strict=True):
            if layer.kind == "normal":
                values = unit_rows(values)
            elif layer.kind == "color":
                values = np.clip(values, 0.0, 1.0)
            layers.append(Layer.taking(layer.kind, values, index.ravel(), layer.name))
        if self.faceted:
            _, normals = face_areas_and_normals(reduced.points, start, corners)
            of_face = np.repeat(np.arange(len(source), dtype=np.int32), 3)
            layers.append(Layer.taking("normal", normals.astype(np.float32), of_face))
        light = Mesh.taking(
            mesh.name,
            reduced.points,
            start,
            corners,
            tuple(layers),
            mesh.slots,
            None if mesh.face_slot is None else mesh.face_slot[source],
            None if mesh.face_smoothing is None else mesh.face_smoothing[source],
            {
                name: np.flatnonzero(np.isin(source, members)).astype(np.int32)
                for name, members in mesh.face_sets.items()
            },
        )
        used = light.point_used
        return light if used.all() else light.keep_points(used)


def shape_of(mesh: Mesh, samples: int) -> Shape:
    """A mesh as triangles to measure at so many places."""
    corners, _ = triangulate(mesh.points, mesh.face_start, mesh.corner_point)
    normals, uvs = mesh.normals, next(iter(mesh.uv_sets), None)

    def at(layer: Layer | None) -> Values | None:
        return None if layer is None or layer.has_holes else (layer.values, layer.index[corners])

    return Shape(mesh.points, mesh.corner_point[corners], at(normals), at(uvs), samples)
