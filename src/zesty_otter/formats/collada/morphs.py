"""COLLADA morphs: geometries blended by weights (specification 1.4.1, "morph")."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import usable_rows
from zesty_otter.formats.collada.mesh import Find, positions_of, within
from zesty_otter.formats.xml import Element, child, children, floats, text_of
from zesty_otter.model import Mesh
from zesty_otter.shading import with_points


def morphed(morph: Element, mesh: Mesh, used: NDArray[np.int64], find: Find) -> Mesh | None:
    """A mesh as its variants shape it by their weights; None where these are not whole.

    Parameters
    ----------
    morph
        The <morph> of a controller.
    mesh
        Its base shape.
    used
        (N,) the numbers that the points of the mesh have in the file.
    find
        Looks up a reference.
    """
    inside = within(morph, find)
    sources = {one.get("semantic"): inside(one.get("source")) for one in children(child(morph, "targets"), "input")}
    names = text_of(child(sources.get("MORPH_TARGET"), "IDREF_array")).split()
    weights = floats(text_of(child(sources.get("MORPH_WEIGHT"), "float_array")))[: len(names)]
    if len(weights) < len(names) or not np.isfinite(weights).all():
        return None
    relative = morph.get("method") == "RELATIVE"
    moved = mesh.points * (1.0 if relative else 1.0 - weights.sum())
    for name, weight in zip(names, weights.tolist(), strict=True):
        if not weight:
            continue
        target = find(f"#{name}")
        points = positions_of(target, find) if target is not None else None
        if points is None or (len(used) and int(used.max()) >= len(points)):
            return None
        with np.errstate(over="ignore", invalid="ignore"):
            moved = moved + weight * points[used]
    if not usable_rows(moved).all():
        return None
    return mesh if np.array_equal(moved, mesh.points) else with_points(mesh, moved)
