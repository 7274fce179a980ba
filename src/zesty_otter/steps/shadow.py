"""What casts the shadow."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field

from zesty_otter.geometry.queries.distance import areas
from zesty_otter.geometry.simplify.collapse import simplify
from zesty_otter.geometry.solids.hulls import convex_hull
from zesty_otter.geometry.solids.inset import Inset, behind_by, brought_within, inset, volume_of, widths_of
from zesty_otter.geometry.solids.solid import Solid
from zesty_otter.geometry.surface.topology import facing_outward, holes, topology
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Mesh, Node, Note, Scene, count_of, determinant, format_length
from zesty_otter.steps.assets import Roles, assets_of
from zesty_otter.steps.base import Length, Step
from zesty_otter.steps.collision import triangle_mesh
from zesty_otter.steps.siblings import OfSizes, Siblings, holds, with_nodes_behind
from zesty_otter.steps.words import chosen_numbers

_TRIES = 4  # to bring back what stands out

_BOX = 12  # triangles: nothing lighter casts its shadow
_LIGHT = 500  # triangles of a shadow mesh, up to which nobody minds that it has more than asked for
_NEARER = 0.02  # of the length, that a lighter mesh may come in by less than the full one does
_FARTHER = 0.1, 5e-4  # of the length, and of the size: the more of both a face of a convex mesh may come in by
_LARGER = 1.02  # times as large a copy may be, to lend its shadow: lengths are right to two hundredths


class Shadow(Step):
    """Give every visible mesh a light, closed mesh to cast its shadow.

    Looks at visible meshes. Adds a node with the role of shadow behind each, about the same pivot: triangles only,
    hard-edged, without materials and UVs, holes closed, and pulled inward so that it does not shadow its own source;
    its properties say what share of the volume and of the silhouette it keeps.
    No face comes in by less than the length where the mesh is thick enough; where fewer triangles mean that some come
    in farther, those of convex meshes do by a tenth of it, or by a two-thousandth of the size, at most.
    Shadow meshes that are there stay. Notes holes that could not be closed, and where they are, and shadow meshes that
    are much heavier than asked. Refuses nothing.
    """

    slug: ClassVar[str] = "shadow"
    example: ClassVar[dict[str, Any]] = {"inward": "5mm", "share": 0.25}

    share: float = Field(0.25, gt=0, le=1, description="Share of the triangles that is left.")
    inward: Length = Field(0.01, ge=0, description="How far it is pulled inward, where the mesh is thick enough.")
    most_lost: float = Field(
        0.15, gt=0, le=1, description="Share of the volume that having fewer triangles may cost; heavier where more."
    )
    largest_hole: float = Field(1.0, gt=0, description="The longest hole to close, as a share of the size.")
    cut_outs: Literal["outline", "card"] = Field(
        "outline",
        description="For meshes with a cut-out material, such as nets: outline, as if they were solid; or card: their"
        " picture card, else the mesh itself, with the cut-out material, so that light comes through.",
    )
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
        made: dict[tuple[int, bytes], tuple[Mesh, list[str], dict[str, float]]] = {}
        siblings = Siblings()
        of_sizes: OfSizes[tuple[Mesh, list[str], dict[str, float]]] = OfSizes()
        for asset in assets_of(scene):
            if any(one.node.role == "shadow" for one in asset.rest):
                continue
            for placed in asset.main:
                mesh = placed.node.drawn
                if placed.number not in numbers or mesh is None or not mesh.face_count:
                    continue
                if self.cut_outs == "card" and _is_cut_out(mesh):
                    card = next((one.node.mesh for one in asset.rest if "planes" in one.node.properties), None) or mesh
                    name = self.names.replace("{name}", placed.node.name)
                    behind[placed.number] = [siblings.beside(placed, card, name, "shadow", {"asset": asset.name})]
                    continue
                # Lengths are those of the world, whatever the node does to the mesh but for turning it.
                stretch = _stretch(placed.world[:3, :3] * metre)
                key = id(mesh), (stretch.round(9) + 0.0).tobytes()
                if key not in made:
                    lent = of_sizes.lent(mesh, stretch, "", "", _LARGER)
                    made[key] = self._made(mesh, stretch) if lent is None else lent[1]
                    if lent is None:
                        of_sizes.keep(mesh, stretch, "", "", made[key])
                shadow, remarks, kept = made[key]
                name = self.names.replace("{name}", placed.node.name)
                notes.extend(self.note(one, kind="finding", node=placed.node.name) for one in remarks)
                if not shadow.face_count:
                    continue
                said = {"asset": asset.name, **kept}
                behind[placed.number] = [siblings.beside(placed, shadow, name, "shadow", said)]
        if behind:
            notes.insert(0, self.note(f"shadow meshes added to {count_of(len(behind), 'mesh')}"))
        return with_nodes_behind(scene, behind, {}).with_notes(*notes)

    def _made(self, mesh: Mesh, stretch: NDArray[np.float64]) -> tuple[Mesh, list[str], dict[str, float]]:
        """The shadow mesh of a mesh, what there is to say of it, and what it keeps.

        ``stretch`` (3, 3) makes of the mesh's space the world's in metres, but for turning it.
        """
        remarks: list[str] = []
        nothing = triangle_mesh(mesh.name, np.zeros((0, 3)), np.zeros((0, 3), np.int32))
        if abs(determinant(stretch)) < 1e-300:
            return nothing, ["is squashed flat by its transform; it casts no shadow"], {}
        corners, _ = mesh.surface(triangulate)
        triangles = mesh.corner_point[corners].astype(np.int32)
        points = mesh.points @ stretch
        triangles = triangles[areas(points, triangles) > 0]
        triangles = self._closed(points, triangles, remarks)
        if not len(triangles):
            return nothing, [*remarks, "has no area and casts no shadow"], {}
        points, triangles, kept = self._light(points, triangles, remarks)
        if self.reversed:
            triangles = triangles[:, ::-1]
        # A hard edge everywhere: no normals, no smoothing.
        return triangle_mesh(mesh.name, points @ np.linalg.inv(stretch), triangles), remarks, kept

    def _light(
        self, points: NDArray[np.float64], triangles: NDArray[np.int32], remarks: list[str]
    ) -> tuple[NDArray[np.float64], NDArray[np.int32], dict[str, float]]:
        """A mesh with fewer triangles, pulled in; with more of them where that would show outside or lose too much."""
        source = Solid(points, triangles)
        joined = topology(points, np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32), triangles.ravel()).joined
        solid = not source.is_sheet.any()
        full = inset(points, joined[triangles], self.inward) if self.inward else Inset(points, joined[triangles], 0.0)
        wanted_volume, wanted_widths = volume_of(*full[:2]), widths_of(full.points[np.unique(full.triangles)])
        share, targets = self.share, []
        while share < 1.0 and len(triangles) > _BOX:
            targets.append(max(round(share * len(triangles)), 4))
            share *= 2
        base = points, triangles
        if full.is_convex:
            # Its corners are many planes' corners pulled apart: it may have more triangles than its source.
            targets += [len(triangles)] * (bool(targets) and len(full.triangles) > len(triangles))
            base = full.points, full.triangles
        best, best_out = _brought_back(source, points, full) if solid else (full, 0.0)
        wanted_depth = _depth(source, best) if solid and self.inward else 0.0
        for light in list(simplify(*base, targets[::-1], limit=0.02))[::-1]:
            if full.is_convex:
                found, out = _convex_within(full, light.points[np.unique(light.triangles)], source), 0.0
            else:
                found, out = self._pulled(source, light.points, light.triangles, wanted_depth)
            if found is None or out > 0.0:
                continue
            widths = widths_of(found.points[np.unique(found.triangles)])
            narrow = float((wanted_widths - widths).max()) > 0.05 * source.size
            lost = solid and volume_of(*found[:2]) < (1 - self.most_lost) * wanted_volume
            if not narrow and not lost:
                best, best_out = found, 0.0
                break
        pulled, faces, reached, _ = best
        if self.inward and reached < 0.99 * self.inward:
            remarks.append(
                f"is too thin to be pulled in by {format_length(self.inward)} everywhere; at its thinnest it is by"
                f" {format_length(float(f'{reached:.3g}'))}"
            )
        if self.share < 1 and len(faces) > max(_LIGHT, 1.5 * self.share * len(triangles)):
            remarks.append(
                f"keeps {count_of(len(faces), 'triangle')} of {len(triangles)} in its shadow mesh: fewer would come too"
                " near its surface, or lose too much of its shape; a larger inward may allow fewer"
            )
        if best_out > 0.0:
            remarks.append(f"its shadow mesh stands out of it by up to {format_length(float(f'{best_out:.3g}'))}")
        before = np.maximum(widths_of(points[np.unique(triangles)]), 1e-300)
        kept = {"silhouette_kept": float(np.mean(widths_of(pulled[np.unique(faces)]) / before))}
        whole = volume_of(points, triangles)
        if solid and whole > 1e-15 * float(np.ptp(points, axis=0).max()) ** 3:
            kept["volume_kept"] = volume_of(pulled, faces) / whole
        return pulled, faces, {key: float(f"{value:.4g}") for key, value in kept.items()}

    def _pulled(
        self, source: Solid, points: NDArray[np.float64], triangles: NDArray[np.int32], wanted_depth: float
    ) -> tuple[Inset | None, float]:
        """A lighter mesh pulled in as deep as the full one is, and how far it stands out; None where that cannot be.

        Lighter meshes bulge here and there, so that what is pulled in by the length itself may come too near.
        """
        start = np.arange(0, triangles.size + 1, 3, dtype=np.int32)
        faces = topology(points, start, triangles.ravel()).joined[triangles]
        solid = not source.is_sheet.any()
        if not self.inward:
            found = Inset(points, faces, 0.0)
            return found, _out(source, found).max() if solid else 0.0
        by = self.inward
        for _ in range(_TRIES):
            found, out = inset(points, faces, by), 0.0
            if not solid:
                return found, out
            found, out = _brought_back(source, points, found)
            depth = _depth(source, found)
            if depth >= (1 - _NEARER) * wanted_depth:
                return found, out
            by += wanted_depth - depth
        return None, 0.0

    def _closed(
        self, points: NDArray[np.float64], triangles: NDArray[np.int32], remarks: list[str]
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
            shown = ", ".join(f"{value:.3g}" for value in where)
            remarks.append(
                f"its shadow mesh stays open: {count_of(len(edges.border), 'open edge')}, the first at ({shown}) m"
                " from its pivot"
            )
        return triangles


def _outward(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.int32]:
    start = np.arange(0, 3 * len(triangles) + 1, 3, dtype=np.int32)
    turned = facing_outward(points, start, triangles.ravel(), topology(points, start, triangles.ravel())).turned
    return np.where(turned[:, None], triangles[:, ::-1], triangles).astype(np.int32)


def _is_cut_out(mesh: Mesh) -> bool:
    used = (mesh.slots[number] for number in mesh.used_slots)
    return any(slot is not None and slot.alpha_mode == "mask" for slot in used)


def _convex_within(full: Inset, points: NDArray[np.float64], source: Solid) -> Inset | None:
    """The hull of points about a convex mesh, brought within it; None where that is much farther in anywhere."""
    hull = convex_hull(brought_within(full.points, full.triangles, points))
    found = Inset(hull.points, hull.triangles.astype(np.int32), full.least, is_convex=True)
    farthest = float(behind_by(source.points, source.triangles, found.points).max())
    return found if farthest <= full.least + max(_FARTHER[0] * full.least, _FARTHER[1] * source.size) else None


def _depth(source: Solid, found: Inset) -> float:
    """How near a shadow mesh comes to the surface it is pulled in from."""
    return float(source.surface.nearest(_places(found.points, found.triangles))[0].min(initial=np.inf))


def _brought_back(source: Solid, home: NDArray[np.float64], found: Inset) -> tuple[Inset, float]:
    """A surface that was pulled in, with the points of what still stands out where they were, and how far it does."""
    if found.is_convex:
        return found, 0.0
    points, triangles = found.points, found.triangles
    for _ in range(_TRIES):
        out = _out(source, found)
        wrong = triangles[out > 0].ravel()
        if not len(wrong):
            return found, 0.0
        points = points.copy()
        points[wrong] = home[wrong]
        found = Inset(points, triangles, 0.0)
    return found, float(_out(source, found).max())


def _out(source: Solid, found: Inset) -> NDArray[np.float64]:
    """(T,) how far the worst place of each triangle is outside of its source; 0 within what rounding does."""
    out = source.outside_by(_places(found.points, found.triangles)).reshape(len(found.triangles), -1).max(axis=1)
    return np.where(out > 1e-6 * source.size, out, 0.0)


def _places(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> NDArray[np.float64]:
    """(7 T, 3) corners, middles of edges and the middle of each triangle."""
    sides = points[triangles]
    places = np.concatenate([sides, (sides + np.roll(sides, 1, axis=1)) / 2, sides.mean(axis=1)[:, None]], axis=1)
    return np.asarray(places.reshape(-1, 3))


def _is_flat(points: NDArray[np.float64], triangles: NDArray[np.int32]) -> bool:
    used = points[np.unique(triangles)]
    spread = np.linalg.svd(used - used.mean(axis=0), compute_uv=False)
    return bool(spread[2] <= 1e-6 * spread[0])


def _stretch(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3, 3) what a matrix does to lengths, without the turn it makes: the symmetric factor of its polar form."""
    values, axes = np.linalg.eigh(linear.T @ linear)
    return np.asarray((axes * np.sqrt(np.maximum(values, 0.0))) @ axes.T)
