"""What casts the shadow."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field

from zesty_otter.geometry.queries.distance import areas
from zesty_otter.geometry.solids.shadows import Cast, cast, closed
from zesty_otter.geometry.surface.triangulation import triangulate
from zesty_otter.model import Mesh, Node, Note, Scene, count_of, determinant, format_length, with_nodes_behind
from zesty_otter.steps.assets import assets_of
from zesty_otter.steps.base import Length, Step
from zesty_otter.steps.collision import triangle_mesh
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.siblings import OfSizes, Siblings, holds
from zesty_otter.steps.words import chosen_numbers

_LIGHT = 500  # triangles of a shadow mesh, up to which nobody minds that it has more than asked for
_LARGER = 1.02  # times as large a copy may be, to lend its shadow: lengths are right to two hundredths


class Shadow(Step):
    """Give every visible mesh a light, closed mesh to cast its shadow.

    Looks at visible meshes. Adds a node with the role of shadow after each, with the same pivot: triangles only,
    hard-edged, without materials and UVs, holes closed, and pulled inward so that it does not shadow its own
    source. Its properties say what share of the volume and of the silhouette it keeps. Where the mesh is thick
    enough, every face comes in by at least the length; in a convex mesh at most by a tenth more, or by a
    two-thousandth of the size, so that fewer triangles are enough. Existing shadow meshes stay. Notes holes that
    could not be closed, with their places, and shadow meshes that are much heavier than asked. Refuses nothing.
    """

    slug: ClassVar[str] = "shadow"
    example: ClassVar[dict[str, Any]] = {"inward": "5mm", "share": 0.25}

    share: float = Field(0.25, gt=0, le=1, description="Share of the triangles to keep.")
    inward: Length = Field(0.01, ge=0, description="Distance it is pulled inward, where the mesh is thick enough.")
    most_lost: float = Field(
        0.15,
        gt=0,
        le=1,
        description="Maximum share of the volume to lose to fewer triangles; more triangles are kept where needed.",
    )
    largest_hole: float = Field(1.0, gt=0, description="The longest hole to close, as a share of the size.")
    cut_outs: Literal["outline", "card"] = Field(
        "outline",
        description="For meshes with a cut-out material, such as nets: outline treats them as solid; card uses their"
        " picture card, else the mesh itself, with the cut-out material, so that light shines through.",
    )
    reversed: bool = Field(False, description="Turn its faces inward.")
    names: Annotated[str, AfterValidator(holds("name"))] = Field(
        "{name}_shadow", description="Names of the new nodes, from {name}."
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
        whole = closed(points, triangles[areas(points, triangles) > 0], self.largest_hole)
        if whole.closed:
            remarks.append(f"{count_of(whole.closed, 'hole')} closed in its shadow mesh")
        if whole.open_at is not None:
            shown = ", ".join(f"{value:.3g}" for value in whole.open_at)
            remarks.append(
                f"its shadow mesh stays open: {count_of(whole.open_edges, 'open edge')}, the first at ({shown}) m"
                " from its pivot"
            )
        if not len(whole.triangles):
            return nothing, [*remarks, "has no area and casts no shadow"], {}
        found = cast(points, whole.triangles, share=self.share, inward=self.inward, most_lost=self.most_lost)
        remarks += self._remarks(found, len(whole.triangles))
        kept = {"silhouette_kept": found.silhouette}
        if found.volume is not None:
            kept["volume_kept"] = found.volume
        # A hard edge everywhere: no normals, no smoothing.
        shadow = triangle_mesh(
            mesh.name, found.points @ np.linalg.inv(stretch), found.triangles[:, :: -1 if self.reversed else 1]
        )
        return shadow, remarks, {key: float(f"{value:.4g}") for key, value in kept.items()}

    def _remarks(self, found: Cast, triangles: int) -> Iterator[str]:
        """What there is to say of a shadow mesh of what has so many triangles."""
        if self.inward and found.least < 0.99 * self.inward:
            yield (
                f"is too thin to be pulled in by {format_length(self.inward)} everywhere; at its thinnest it is by"
                f" {format_length(float(f'{found.least:.3g}'))}"
            )
        if self.share < 1 and len(found.triangles) > max(_LIGHT, 1.5 * self.share * triangles):
            count = count_of(len(found.triangles), "triangle")
            yield (
                f"keeps {count} of {triangles} in its shadow mesh: fewer would come too near its surface, or lose too"
                " much of its shape; a larger inward may allow fewer"
            )
        if found.out > 0.0:
            yield f"its shadow mesh stands out of it by up to {format_length(float(f'{found.out:.3g}'))}"


def _is_cut_out(mesh: Mesh) -> bool:
    used = (mesh.slots[number] for number in mesh.used_slots)
    return any(slot is not None and slot.alpha_mode == "mask" for slot in used)


def _stretch(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """(3, 3) what a matrix does to lengths, without the turn it makes: the symmetric factor of its polar form."""
    values, axes = np.linalg.eigh(linear.T @ linear)
    return np.asarray((axes * np.sqrt(np.maximum(values, 0.0))) @ axes.T)
