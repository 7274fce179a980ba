"""Skinned meshes of USD in the pose of their skeleton (Pixar, "UsdSkel", schemas and "Skinning")."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.skinning import Weights, moved
from zesty_otter.formats.usd.mesh import as_rows, numbers_of, whole_numbers_of, words_of
from zesty_otter.formats.usd.text import Prim, word_in
from zesty_otter.geometry.surface.placing import composed
from zesty_otter.model import Mesh, determinant

Find = Callable[[str], "Prim | None"]


def target_above(path: str, name: str, find: Find) -> str:
    """What a relationship of a prim, or of the nearest one above that has it, points to; "" for none."""
    while path:
        prim = find(path)
        one = prim.properties.get(name) if prim is not None else None
        if one is not None and one.targets:
            return one.targets[0]
        path = path.rpartition("/")[0]
    return ""


def posed(
    mesh: Mesh, used: NDArray[np.int64], prim: Prim, skeleton: str, world: NDArray[np.float64], find: Find
) -> Mesh | None:
    """The mesh of a prim where the joints of a skeleton hold it.

    ``used`` (N,) are the numbers that the points of the mesh have in the file, ``world`` (4, 4) leads from the space
    of the mesh to that of the skeleton. None where skeleton or weights do not say enough.
    """
    bones = find(skeleton)
    if bones is None or bones.type != "Skeleton":
        return None
    names = words_of(bones, "joints")
    joints = _skinning(bones, skeleton, names, find)
    weights = _weights(prim, used, mesh.points)
    if joints is None or weights is None:
        return None
    own = words_of(prim, "skel:joints")
    if own:
        if not set(own) <= set(names):
            return None
        joints = joints[[names.index(one) for one in own]]
    bind = as_rows(numbers_of(prim, "primvars:skel:geomBindTransform"), 16)
    if len(bind):
        joints = joints @ _matrices(bind)[0]
    if len(weights.joint) and (int(weights.joint.max()) >= len(joints) or int(weights.joint.min()) < 0):
        return None
    return moved(mesh, weights.blended(joints, len(mesh.points)), world)


def _matrices(rows: NDArray[np.float64]) -> NDArray[np.float64]:
    """Matrices for columns, from the rows of 16 numbers the file has for rows."""
    return rows.reshape(-1, 4, 4).transpose(0, 2, 1)


def _skinning(bones: Prim, path: str, names: list[str], find: Find) -> NDArray[np.float64] | None:
    """(J, 4, 4) what each joint does to the points that hang on it, in the space of the skeleton."""
    bind = as_rows(numbers_of(bones, "bindTransforms"), 16)
    if not names or len(bind) < len(names):
        return None
    bind = _matrices(bind[: len(names)])
    if (np.abs(determinant(bind)) < 1e-300).any():
        return None
    local = _animated(names, find(target_above(path, "skel:animationSource", find)))
    rest = as_rows(numbers_of(bones, "restTransforms"), 16)
    if local is None and len(rest) < len(names):
        return np.tile(np.eye(4), (len(names), 1, 1))
    standing = _matrices(rest[: len(names)]).copy() if len(rest) >= len(names) else None
    for number, name in enumerate(names):
        if local is not None and name in local:
            standing = np.tile(np.eye(4), (len(names), 1, 1)) if standing is None else standing
            standing[number] = local[name]
    if standing is None:
        return None
    # Those above stand before those below, as the schema asks of the order of joints.
    at = {name: number for number, name in enumerate(names)}
    for number, name in enumerate(names):
        above = at.get(name.rpartition("/")[0], number)
        if above < number:
            standing[number] = standing[above] @ standing[number]
    found = standing @ np.linalg.inv(bind)
    return found if np.isfinite(found).all() else None


def _animated(names: list[str], animation: Prim | None) -> dict[str, NDArray[np.float64]] | None:
    """The local transforms of the joints an animation moves, at its earliest time."""
    if animation is None or animation.type != "SkelAnimation":
        return None
    moving = words_of(animation, "joints")
    offsets = as_rows(numbers_of(animation, "translations"), 3)
    turns = as_rows(numbers_of(animation, "rotations"), 4)
    sizes = as_rows(numbers_of(animation, "scales"), 3)
    if not moving or min(len(offsets), len(turns)) < len(moving) or not set(moving) & set(names):
        return None
    count = len(moving)
    scale: Any = sizes[:count] if len(sizes) >= count else None
    return dict(zip(moving, composed(count, offsets[:count], turns[:count, [1, 2, 3, 0]], scale), strict=True))


def _weights(prim: Prim, used: NDArray[np.int64], points: NDArray[np.float64]) -> Weights | None:
    joint = whole_numbers_of(prim, "primvars:skel:jointIndices").astype(np.int64)
    share = numbers_of(prim, "primvars:skel:jointWeights").astype(np.float64)
    about = prim.properties.get("primvars:skel:jointIndices")
    if about is None or not len(joint) or len(joint) != len(share):
        return None
    said = about.meta.get("elementSize", 1)
    width = int(said) if isinstance(said, int | float) and 0 < said <= len(joint) else 1
    joint = joint[: len(joint) // width * width].reshape(-1, width)
    share = as_rows(np.nan_to_num(share, posinf=0.0), width)
    if word_in(about.meta, "interpolation") == "constant":
        rows = np.zeros(len(points), np.int64)
    elif int(used.max(initial=-1)) < len(joint):
        rows = used
    else:
        return None
    point = np.repeat(np.arange(len(points)), width)
    return Weights(point, joint[rows].ravel(), share[rows].ravel())
