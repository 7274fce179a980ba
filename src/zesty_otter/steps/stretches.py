"""How much longer things are in the world than in the space of their mesh."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from zesty_otter.model import Mesh, Scatter, Scene, shortened


@dataclass(frozen=True)
class Stretch:
    """What the places of a mesh make of a length in it, along whichever direction: the least and the most."""

    least: float
    most: float

    @property
    def varies(self) -> bool:
        """Whether a length in the mesh is not the same everywhere it is shown."""
        return self.most > 1.001 * self.least

    def local(self, length: float) -> float:
        """A length of the world, in the scene's unit, in the mesh: where it is shown at its largest."""
        return length / self.most if self.most > 0 else length


class Stretches:
    """The stretch of every mesh of a scene, copies of scatters included."""

    def __init__(self, scene: Scene) -> None:
        found: dict[int, list[float]] = {}
        for placed in scene.walk():
            mesh, content = placed.node.drawn, placed.node.content
            if mesh is None:
                continue
            linear = placed.world[None, :3, :3]
            if isinstance(content, Scatter):
                linear = linear @ content.transforms[:, :3, :3]
            sizes = np.linalg.svd(linear, compute_uv=False)
            if sizes.size:
                found.setdefault(id(mesh), []).extend((float(sizes.min()), float(sizes.max())))
        self._of: Mapping[int, Stretch] = {key: Stretch(min(sizes), max(sizes)) for key, sizes in found.items()}

    def of(self, mesh: Mesh) -> Stretch:
        """That of a mesh of the scene."""
        return self._of.get(id(mesh), Stretch(1.0, 1.0))

    def remark(self, meshes: Iterable[Mesh]) -> str:
        """What there is to say of meshes that are shown at several scales; nothing when there are none."""
        odd = [mesh for mesh in meshes if self.of(mesh).varies]
        names = shortened(mesh.name for mesh in odd)
        return f"shown at several scales, lengths are those where it is largest: {names}" if odd else ""
