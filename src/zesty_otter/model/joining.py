"""Several meshes as one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from zesty_otter.model.material import Material
from zesty_otter.model.mesh import Layer, Mesh


def joined_meshes(name: str, meshes: Sequence[Mesh]) -> Mesh:
    """One mesh of several in the same space, nothing of any of them lost.

    Slots of one material become one, in the order of first use. Layers are matched by kind and order;
    corners of a mesh without one have no value there. Smoothing groups of different meshes stay
    different, so that meshes which touch are not smoothed across.

    Parameters
    ----------
    meshes : sequence of Mesh
        At least one.

    Returns
    -------
    Mesh

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> joined_meshes("rig", [sail, sail])
    Mesh 'rig': 2 faces, 6 points
    """
    if len(meshes) == 1:
        return meshes[0].replace(name=name)
    slot_number: dict[int, int] = {}
    slots: list[Material | None] = []
    for mesh in meshes:
        for slot in mesh.slots:
            if id(slot) not in slot_number:
                slot_number[id(slot)] = len(slots)
                slots.append(slot)
    point_base = _bases([mesh.point_count for mesh in meshes])
    corner_base = _bases([mesh.corner_count for mesh in meshes])
    face_base = _bases([mesh.face_count for mesh in meshes])
    return Mesh.taking(
        name,
        np.concatenate([mesh.points for mesh in meshes]),
        np.concatenate(
            [[0], *(mesh.face_start[1:] + base for mesh, base in zip(meshes, corner_base, strict=False))]
        ).astype(np.int64),
        np.concatenate([mesh.corner_point + base for mesh, base in zip(meshes, point_base, strict=False)]),
        _joined_layers(meshes, corner_base),
        tuple(slots),
        None
        if len(slots) == 1
        else np.concatenate(
            [np.array([slot_number[id(slot)] for slot in mesh.slots], np.int32)[mesh.slot_of_face] for mesh in meshes]
        ),
        _joined_smoothing(meshes),
        _joined_sets([mesh.face_sets for mesh in meshes], face_base),
        _joined_sets([mesh.point_sets for mesh in meshes], point_base),
    )


def _bases(counts: list[int]) -> list[int]:
    return [0, *np.cumsum(counts).tolist()]


def _joined_layers(meshes: Sequence[Mesh], corner_base: list[int]) -> tuple[Layer, ...]:
    numbered = [_numbered(mesh) for mesh in meshes]
    keys = dict.fromkeys(key for layers in numbered for key in layers)
    joined = []
    for key in keys:
        have = [layers.get(key) for layers in numbered]
        width = max(layer.values.shape[1] for layer in have if layer is not None)
        index = np.full(corner_base[-1], -1, np.int32)
        values: list[NDArray[np.float32]] = []
        rows = 0
        for layer, first, last in zip(have, corner_base, corner_base[1:], strict=False):
            if layer is None:
                continue
            index[first:last] = np.where(layer.index < 0, -1, layer.index + rows)
            rows += len(layer.values)
            # A colour without alpha is opaque.
            missing = width - layer.values.shape[1]
            values.append(
                np.pad(layer.values, ((0, 0), (0, missing)), constant_values=1.0) if missing else layer.values
            )
        name = next((layer.name for layer in have if layer is not None and layer.name), "")
        joined.append(Layer.taking(key[0], np.concatenate(values), index, name))
    return tuple(joined)


def _numbered(mesh: Mesh) -> dict[tuple[str, int], Layer]:
    counts: dict[str, int] = {}
    found = {}
    for layer in mesh.layers:
        number = counts[layer.kind] = counts.get(layer.kind, -1) + 1
        found[layer.kind, number] = layer
    return found


def _joined_smoothing(meshes: Sequence[Mesh]) -> NDArray[np.int32] | None:
    if all(mesh.face_smoothing is None for mesh in meshes):
        return None
    groups = []
    highest = 0
    for mesh in meshes:
        own = np.zeros(mesh.face_count, np.int32) if mesh.face_smoothing is None else mesh.face_smoothing
        groups.append(np.where(own > 0, own + highest, 0))
        highest += int(own.max(initial=0))
    return np.concatenate(groups).astype(np.int32)


def _joined_sets(sets: Sequence[Mapping[str, NDArray[np.int32]]], bases: list[int]) -> Mapping[str, NDArray[np.int32]]:
    joined: dict[str, list[NDArray[np.int32]]] = {}
    for own, base in zip(sets, bases, strict=False):
        for name, members in own.items():
            joined.setdefault(name, []).append(members + base)
    return {name: np.concatenate(parts).astype(np.int32) for name, parts in joined.items()}
