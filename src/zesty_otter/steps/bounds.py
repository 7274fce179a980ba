"""What says how large an asset is."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import AfterValidator, Field

from zesty_otter.geometry.solids.fits import smallest_box, smallest_sphere
from zesty_otter.model import Mesh, Node, Note, Scene, count_of, determinant, is_within, with_nodes_behind
from zesty_otter.polygons import BOX_FACES
from zesty_otter.steps.assets import assets_of
from zesty_otter.steps.base import Step
from zesty_otter.steps.roles import Roles
from zesty_otter.steps.siblings import Siblings, holds
from zesty_otter.steps.words import Words, chosen, chosen_numbers


class Bounds(Step):
    """Add a shape to each asset that says how large it is: a box or a sphere, with the role of bounds.

    Looks at the visible mesh with its levels, or at the meshes you choose. Adds a node after the visible one, with
    the same pivot, without materials, UVs and normals; its properties give centre and radius, or centre and half
    sides, in metres. Existing bounds stay. Refuses nothing.
    """

    slug: ClassVar[str] = "bounds"
    example: ClassVar[dict[str, Any]] = {"shape": "sphere"}

    shape: Literal["box", "turned-box", "sphere"] = Field(
        "box",
        description="A box along the axes, the smallest box found in any orientation, or the smallest sphere.",
    )
    of: Words = Field(
        (),
        description="The meshes to enclose, in the words of select; visible meshes and levels when empty.",
    )
    names: Annotated[str, AfterValidator(holds("name"))] = Field(
        "{name}_bounds", description="Names of the new nodes, from {name}."
    )

    def change(self, scene: Scene) -> Scene:
        return self.change_part(scene, chosen_numbers(scene, ()))

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        scene = Roles().apply(scene)
        metre = scene.unit_for("measuring bounds")
        behind: dict[int, list[Node]] = {}
        notes: list[Note] = []
        made: dict[Any, tuple[Mesh, dict[str, list[float]]]] = {}
        siblings = Siblings()
        for asset in assets_of(scene):
            main = next((one for one in asset.main if one.number in numbers and one.node.mesh is not None), None)
            if main is None or any(one.node.role == "bounds" for one in asset.rest):
                continue
            around = [*asset.main, *(one for one in asset.rest if self.of or one.node.role == "level")]
            if self.of:
                around = [one for one in around if chosen(self.of, one)]
            own = np.linalg.inv(main.world) if abs(determinant(main.world)) > 0 else np.eye(4)
            places = [np.zeros((0, 3))]
            with np.errstate(over="ignore", invalid="ignore"):
                parts = [(one.node.mesh, own @ one.world) for one in around if one.node.mesh is not None]
                for part, matrix in parts:
                    places.append(part.points[part.point_used] @ matrix[:3, :3].T + matrix[:3, 3])
            points = np.concatenate(places)
            if not len(points) or not is_within(points):
                text = "has no bounds: none of its meshes fits" if self.of else "has no faces to go around"
                text = "has no bounds: it is all but squashed flat by its transform" if len(points) else text
                notes.append(self.note(text, kind="finding", node=main.node.name))
                continue
            name = self.names.replace("{name}", main.node.name)
            # Assets of the same meshes at the same places have the same bounds.
            key = tuple((id(part), (matrix.round(9) + 0.0).tobytes()) for part, matrix in parts)
            if key not in made:
                made[key] = self._around(name, points)
            mesh, facts = made[key]
            scale = metre * abs(float(determinant(main.world[:3, :3]))) ** (1 / 3)
            said = {key: [float(f"{scale * v:.9g}") for v in values] for key, values in facts.items()}
            properties = {"asset": asset.name, **{k: v if len(v) > 1 else v[0] for k, v in said.items()}}
            behind[main.number] = [siblings.beside(main, mesh, name, "bounds", properties)]
        if behind:
            notes.insert(0, self.note(f"bounds added to {count_of(len(behind), 'asset')}, each a {self.shape}"))
        return with_nodes_behind(scene, behind, {}).with_notes(*notes)

    def _around(self, name: str, points: NDArray[np.float64]) -> tuple[Mesh, dict[str, list[float]]]:
        """The shape around points, and what it is."""
        if self.shape == "sphere":
            centre, radius = smallest_sphere(points)
            return _ball(name, centre, radius), {"centre": centre.tolist(), "radius": [radius]}
        if self.shape == "turned-box":
            centre, axes, half = smallest_box(points)
        else:
            low, high = points.min(axis=0), points.max(axis=0)
            centre, axes, half = (low + high) / 2, np.eye(3), (high - low) / 2
        signs = np.array([[x, y, z] for z in (-1, 1) for y in (-1, 1) for x in (-1, 1)], float)
        mesh = Mesh.from_faces(name, centre + (signs * half) @ axes, BOX_FACES)
        return mesh, {"centre": centre.tolist(), "half": half.tolist()}


def _ball(name: str, centre: NDArray[np.float64], radius: float) -> Mesh:
    """A ball of triangles, its points on the sphere."""
    angle = np.arange(16) * np.pi / 8
    rings = [np.stack([np.cos(angle) * np.sin(t), np.sin(angle) * np.sin(t), np.full(16, np.cos(t))], 1)
             for t in np.arange(1, 8) * np.pi / 8]  # fmt: skip
    points = np.concatenate([*rings, [[0, 0, 1.0], [0, 0, -1.0]]])
    faces = [
        [16 * r + k, 16 * r + 16 + k, 16 * r + 16 + (k + 1) % 16, 16 * r + (k + 1) % 16]
        for r in range(6)
        for k in range(16)
    ]
    faces += [[112, k, (k + 1) % 16] for k in range(16)] + [[113, 96 + (k + 1) % 16, 96 + k] for k in range(16)]
    return Mesh.from_faces(name, centre + radius * points, faces)
