"""The edges of polygons, told apart by kind."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.surface.topology import topology
from zesty_otter.model import Mesh
from zesty_otter.shading import with_all_normals

KINDS = ("edge", "hard", "seam", "border")
"""What an edge can be: plain, hard, a UV seam or an open border; the later word counts where several hold."""

_SAME_NORMAL = 0.9995  # the cosine of an angle that nobody sees


def edge_kinds(mesh: Mesh, uv_set: int = 0) -> NDArray[np.uint8]:
    """(E,) a number into `KINDS` for every edge of a mesh's `topology`.

    Parameters
    ----------
    mesh : Mesh
    uv_set : int
        The set whose seams count.
    """
    edges = mesh.surface(topology)
    first, other = edges.first, edges.later[edges.first]
    inner = np.flatnonzero(other >= 0)
    after = mesh.corner_after
    a, b = first[inner], other[inner]
    # Neighbours run along an edge in opposite directions, when they agree.
    near, far = np.where(edges.agrees[inner], after[b], b), np.where(edges.agrees[inner], b, after[b])
    kinds = np.zeros(len(first), np.uint8)
    layer = with_all_normals(mesh).normals
    if layer is not None:
        values, index = layer.values, layer.index
        hard = ((values[index[a]] * values[index[near]]).sum(axis=1) < _SAME_NORMAL) | (
            (values[index[after[a]]] * values[index[far]]).sum(axis=1) < _SAME_NORMAL
        )
        kinds[inner[hard]] = KINDS.index("hard")
    if mesh.uv_sets:
        values, index = mesh.uv_sets[uv_set].values, mesh.uv_sets[uv_set].index
        seam = (values[index[a]] != values[index[near]]).any(axis=1) | (
            values[index[after[a]]] != values[index[far]]
        ).any(axis=1)
        kinds[inner[seam]] = KINDS.index("seam")
    kinds[edges.use == 1] = KINDS.index("border")
    return kinds
