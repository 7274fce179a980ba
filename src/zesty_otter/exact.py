"""Exact bodies that meshes were made of, kept for a while so that lighter versions can be made of them again."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.curves.faceting import Body, faceted
from zesty_otter.geometry.curves.limits import Limits
from zesty_otter.model import Layer, Mesh, transformed

_READINGS = 8  # files whose bodies are kept
_NEAR = 1e-6  # of the size, that points may be off where a mesh is recognised


@dataclass(frozen=True, eq=False)
class Origin:
    """What a mesh was made of: a body, the slot of each of its faces, and the points that were made."""

    body: Body
    slot_of_face: NDArray[np.int32]
    points: NDArray[np.float64]
    scale: float = 1.0
    turned: bool = False

    def mesh(self, limits: Limits, like: Mesh) -> Mesh | None:
        """The body again, within other limits, in the space it was made in; None where it has no faces."""
        polygons = faceted(self.body, limits)
        if not len(polygons.face) or polygons.problems:
            return None
        layer = Layer.taking("normal", polygons.normals, polygons.normal_index)
        made = Mesh.taking(
            like.name, polygons.points * self.scale, polygons.face_start, polygons.corner_point, (layer,), like.slots,
            self.slot_of_face[polygons.face],
        )  # fmt: skip
        return made.turned_round() if self.turned else made


_kept: deque[list[Origin]] = deque(maxlen=_READINGS)


def reading() -> Callable[[Origin], None]:
    """Begins to keep what one file holds; returns what is to be called with each body."""
    own: list[Origin] = []
    _kept.append(own)
    return own.append


def remade(mesh: Mesh) -> Callable[[Limits], Mesh | None] | None:
    """What makes a mesh again within other limits, where it was made of a body and only moved, turned or scaled since.

    Lengths of limits are those of the mesh's own space.
    """
    if any(layer.kind != "normal" for layer in mesh.layers):
        return None  # UVs and colours that were given since would be lost
    size = float(np.ptp(mesh.points, axis=0).max(initial=0.0))
    for origin in (one for own in reversed(_kept) for one in own):
        if len(origin.points) != mesh.point_count or int(origin.slot_of_face.max(initial=0)) >= max(len(mesh.slots), 1):
            continue
        found = _placing(origin.points, mesh.points, _NEAR * size)
        if found is None:
            continue
        linear, shift = found
        stretch = float(np.cbrt(abs(np.linalg.det(linear)))) * origin.scale

        def make(
            limits: Limits, origin: Origin = origin, linear: NDArray[np.float64] = linear,
            shift: NDArray[np.float64] = shift, stretch: float = stretch,
        ) -> Mesh | None:  # fmt: skip
            own = Limits(
                limits.chord / stretch, limits.angle, limits.shortest / stretch, limits.longest / stretch, limits.kind
            )
            made = origin.mesh(own, mesh)
            return None if made is None else transformed(made, linear, shift)

        return make
    return None


def _placing(
    old: NDArray[np.float64], new: NDArray[np.float64], near: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """The linear map and the shift that bring points to others; None where there is none, or none that is sure."""
    if len(old) < 4:
        return None
    middle = old.mean(axis=0)
    table = np.concatenate([old - middle, np.ones((len(old), 1))], axis=1)
    solved, _, rank, _ = np.linalg.lstsq(table, new, rcond=1e-9)
    if rank < 4 or float(np.abs(table @ solved - new).max()) > near:
        return None
    linear = solved[:3].T
    return linear, solved[3] - linear @ middle
