"""How two scenes differ as pictures."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from zesty_otter.appearance import Appearance, compared, looks_of
from zesty_otter.errors import UsageError
from zesty_otter.model import Placed, Scene
from zesty_otter.steps.roles import Roles


def appearance(
    before: Scene, after: Scene, height: float = 400, progress: Callable[[float], None] | None = None
) -> Appearance:
    """Draws what is visible in two scenes from 26 sides, with all maps, and says how many pixels look different.

    Parameters
    ----------
    before, after : Scene
        In any frames; they are drawn in metres where both have a unit.
    height : float
        Pixels of the longest side of the first.
    progress : callable, optional

    Returns
    -------
    Appearance

    Raises
    ------
    UsageError
        When there is nothing to see in one of them.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> appearance(zo.Scene.from_mesh(sail), zo.Scene.from_mesh(sail), 64).share
    0.0
    """
    both = before.frame.unit is not None and after.frame.unit is not None
    looks = [looks_of(_seen(scene), _basis(scene, with_unit=both)) for scene in (before, after)]
    return compared(looks[0], looks[1], height, progress)


def _basis(scene: Scene, *, with_unit: bool) -> NDArray[np.float64]:
    return scene.frame.basis * ((scene.frame.unit or 1.0) if with_unit else 1.0)


def _seen(scene: Scene) -> list[Placed]:
    """What is visible; the best level of what has only levels."""
    placed = [one for one in Roles().apply(scene).walk() if one.node.drawn is not None and one.node.drawn.face_count]
    shown = [one for one in placed if one.node.is_shown and one.visible]
    found = shown or [one for one in placed if one.node.role == "level"][:1]
    if not found:
        raise UsageError("there is nothing to see in one of the scenes.", remedy="Compare files with visible meshes.")
    return found


__all__ = ["Appearance", "appearance"]
