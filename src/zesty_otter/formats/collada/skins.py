"""COLLADA skins: what each point of a geometry hangs on, and where that has gone (specification 1.4.1, "skin")."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.collada.mesh import Find, within
from zesty_otter.formats.skinning import Weights
from zesty_otter.formats.xml import Element, child, children, floats, ints, text_of

Places = Mapping[Element, NDArray[np.float64]]
"""The world transform of every node of a scene."""


def bind_shape(skin: Element) -> NDArray[np.float64]:
    """The matrix that brings a geometry into the place it was bound at."""
    values = floats(text_of(child(skin, "bind_shape_matrix")))
    if len(values) < 16 or not np.isfinite(values[:16]).all():
        return np.eye(4)
    matrix = values[:16].reshape(4, 4).copy()
    matrix[3] = (0.0, 0.0, 0.0, 1.0)
    return matrix


def posed(
    skin: Element, used: NDArray[np.int64], roots: Iterable[Element], places: Places, find: Find
) -> NDArray[np.float64] | None:
    """Where the joints hold the points of a geometry: (N, 3, 4) a matrix for each, into the scene's world.

    Parameters
    ----------
    skin
        The <skin> of a controller.
    used
        (N,) the numbers that the points of the mesh have in the file.
    roots
        The nodes below which joints are looked for first.
    places
        The nodes of the scene; joints elsewhere are not found.
    find
        Looks up a reference.

    Returns
    -------
    NDArray or None
        None where the skin does not say what hangs on which joint, or its joints are not in the scene.
    """
    find = within(skin, find)
    sources = {one.get("semantic"): one.get("source") for one in children(child(skin, "joints"), "input")}
    joints = _joint_worlds(find(sources.get("JOINT")), list(roots), places, find)
    inverse = _matrices(find(sources.get("INV_BIND_MATRIX")))
    if joints is None or inverse is None or len(inverse) < len(joints):
        return None
    weights = _weights(skin, len(joints), find)
    if weights is None:
        return None
    # What hangs on joint -1 keeps the place it was bound at (specification, "vertex_weights").
    matrices = np.concatenate([joints @ inverse[: len(joints)], np.eye(4)[None]]) @ bind_shape(skin)
    if not np.isfinite(matrices).all():
        return None
    count = max(int(used.max(initial=-1)), int(weights.point.max(initial=-1))) + 1
    return weights.blended(matrices, count)[used]


def _joint_worlds(
    source: Element | None, roots: list[Element], places: Places, find: Find
) -> NDArray[np.float64] | None:
    """(J, 4, 4) where the joints of a skin stand; None when one is not in the scene."""
    if source is None:
        return None
    names, by_id = _words(source, "Name_array"), False
    if not names:
        names, by_id = _words(source, "IDREF_array"), True
    by_sid: dict[str, Element] = {}
    for node in (*(one for root in roots for one in root.iter()), *places):
        if node in places and node.get("sid"):
            by_sid.setdefault(node.get("sid", ""), node)
    worlds = []
    for name in names:
        joint = by_sid.get(name) if not by_id else None
        joint = joint if joint is not None else find(f"#{name}")
        if joint is None or joint not in places:
            return None
        worlds.append(places[joint])
    return np.array(worlds) if worlds else None


def _words(source: Element, kind: str) -> list[str]:
    return text_of(child(source, kind)).split()


def _matrices(source: Element | None) -> NDArray[np.float64] | None:
    if source is None:
        return None
    values = floats(text_of(child(source, "float_array")))
    return values[: len(values) // 16 * 16].reshape(-1, 4, 4)


def _weights(skin: Element, joints: int, find: Find) -> Weights | None:
    """The weights of a skin; None where they are not whole."""
    table = child(skin, "vertex_weights")
    inputs = {one.get("semantic"): one for one in children(table, "input")}
    if table is None or not {"JOINT", "WEIGHT"} <= inputs.keys():
        return None
    source = find(inputs["WEIGHT"].get("source"))
    values = floats(text_of(child(source, "float_array")))
    offsets = {key: _offset(inputs[key]) for key in ("JOINT", "WEIGHT")}
    stride = max((_offset(one) for one in children(table, "input")), default=0) + 1
    counts = np.maximum(ints(text_of(child(table, "vcount"))).astype(np.int64), 0)
    rows = ints(text_of(child(table, "v"))).astype(np.int64)
    rows = rows[: len(rows) // stride * stride].reshape(-1, stride)
    if int(counts.sum()) > len(rows):
        return None
    point = np.repeat(np.arange(len(counts)), counts)
    joint, weight = rows[: len(point), offsets["JOINT"]], rows[: len(point), offsets["WEIGHT"]]
    if len(point) and (joint.max() >= joints or joint.min() < -1 or weight.max() >= len(values) or weight.min() < 0):
        return None
    return Weights(point, np.where(joint < 0, joints, joint), np.nan_to_num(values[weight], posinf=0.0))


def _offset(element: Element) -> int:
    text = element.get("offset", "0")
    return int(text) if text.isdecimal() and len(text) < 3 else 0


def worlds_below(
    node: Element,
    above: NDArray[np.float64],
    transform: Callable[[Element], NDArray[np.float64]],
    places: dict[Element, NDArray[np.float64]],
) -> None:
    """Adds the world transforms of a node and of all below it to ``places``."""
    waiting = [(node, above)]
    while waiting:
        one, over = waiting.pop()
        places[one] = over @ transform(one)
        waiting += [(inner, places[one]) for inner in children(one, "node")]
