"""What is known of levels of detail, as their nodes carry it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from zesty_otter.model import Scene


@dataclass(frozen=True)
class LevelFacts:
    """One level as measured: lengths in metres, angles in degrees; None for what a file did not keep.

    Parameters
    ----------
    asset : str
    level : int
        1 for the first that is lighter.
    node : str
    triangles : int
    deviation : float or None
        The farthest it is from the visible mesh.
    deviation_95 : float or None
        What 95 of 100 places are not farther than.
    deviation_mean : float or None
    normal_deviation : float or None
        The most that a normal turned.
    texture_slide : float or None
        The most that a texture moved on the surface.
    border_drift : float or None
        The most that an open edge moved.
    seam_drift : float or None
        The most that a UV seam moved.
    distance : float or None
        From where on it is to be shown.
    screen_height : float or None
        The share of the picture's height it fills there.
    appearance : float or None
        The share of its pixels whose change an eye tells there.
    """

    asset: str
    level: int
    node: str
    triangles: int
    deviation: float | None
    deviation_95: float | None
    deviation_mean: float | None
    normal_deviation: float | None
    texture_slide: float | None
    border_drift: float | None
    seam_drift: float | None
    distance: float | None
    screen_height: float | None
    appearance: float | None = None


def level_facts(scene: Scene) -> tuple[LevelFacts, ...]:
    """The levels of a scene, with what is known of them, in the order of the tree.

    Parameters
    ----------
    scene : Scene

    Returns
    -------
    tuple of LevelFacts

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> scene = zo.Scene.from_mesh(sail)
    >>> level_facts(scene)
    ()
    """
    found = []
    for placed in scene.walk():
        node = placed.node
        if node.role != "level" or node.drawn is None:
            continue

        def number(key: str, of: Mapping[str, Any] = node.properties) -> float | None:
            value = of.get(key)
            return float(value) if isinstance(value, int | float) and math.isfinite(value) else None

        measures = (
            "deviation", "deviation_95", "deviation_mean", "normal_deviation", "texture_slide", "border_drift",
            "seam_drift", "distance", "screen_height", "appearance",
        )  # fmt: skip
        about = str(node.properties.get("asset", node.name)), int(number("level") or 0), node.name
        found.append(LevelFacts(*about, node.drawn.triangle_count, *(number(key) for key in measures)))
    return tuple(found)
