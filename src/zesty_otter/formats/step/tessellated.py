"""Tessellated shapes of application protocol 242: polygons that stand beside, or in place of, exact ones."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.step.exchange import Exchange, ExchangeError, Instance, Ref
from zesty_otter.formats.step.looks import Looks
from zesty_otter.formats.step.shapes import ref_of, refs_of
from zesty_otter.model import Material, Mesh

TESSELLATED = ("TESSELLATED_SOLID", "TESSELLATED_SHELL", "TRIANGULATED_SURFACE_SET", "COMPLEX_TRIANGULATED_SURFACE_SET")

_SETS = {"TRIANGULATED_FACE", "TRIANGULATED_SURFACE_SET"}
_COMPLEX = {"COMPLEX_TRIANGULATED_FACE", "COMPLEX_TRIANGULATED_SURFACE_SET"}


def tessellated(exchange: Exchange, instance: Instance, name: str, looks: Looks, representation: int) -> Mesh | None:
    """The mesh of a tessellated item; None where it has no triangles."""
    if instance.kind in ("TESSELLATED_SOLID", "TESSELLATED_SHELL"):
        said = instance.args[0] if isinstance(instance.args[0], str) else ""
        faces = refs_of(instance.args[1])
    else:
        said, faces = "", [instance.number]
    points: list[NDArray[np.float64]] = []
    triangles: list[NDArray[np.int64]] = []
    slots: list[Material | None] = []
    slot_of: list[int] = []
    first: dict[int, int] = {}
    count = 0
    for face in faces:
        own = exchange.at(face)
        if own is None or own.kind not in _SETS | _COMPLEX:
            continue
        table, rows = _triangles(exchange, own)
        if table not in first:
            first[table] = count
            points.append(_coordinates(exchange, table))
            count += len(points[-1])
        most = count - first[table]
        good = ((rows >= 0) & (rows < most)).all(axis=1)
        good &= (rows[:, 0] != rows[:, 1]) & (rows[:, 1] != rows[:, 2]) & (rows[:, 2] != rows[:, 0])
        triangles.append(rows[good] + first[table])
        around = [face, instance.number, representation]
        material = next((found for one in around if (found := looks.material_of(one)) is not None), None)
        place = next((n for n, one in enumerate(slots) if one is material), len(slots))
        if place == len(slots):
            slots.append(material)
        slot_of += [place] * int(good.sum())
    if not triangles or not sum(len(one) for one in triangles):
        return None
    corner = np.concatenate(triangles)
    used, index = np.unique(corner, return_inverse=True)
    start = np.arange(0, 3 * len(corner) + 1, 3, dtype=np.int32)
    return Mesh.taking(
        said.strip() or name, np.concatenate(points)[used], start, index.reshape(-1).astype(np.int32), (),
        tuple(slots), np.array(slot_of, np.int32),
    )  # fmt: skip


def _coordinates(exchange: Exchange, number: int) -> NDArray[np.float64]:
    instance = exchange.at(number)
    if instance is None or instance.kind != "COORDINATES_LIST" or len(instance.args) < 3:
        raise ExchangeError(f"#{number} is not a list of coordinates")
    points = np.array([list(map(float, row)) for row in instance.args[2]], float)
    if points.ndim != 2 or points.shape[1] != 3 or not np.isfinite(points).all():
        raise ExchangeError(f"#{number} has coordinates that are not three numbers")
    return points


def _triangles(exchange: Exchange, instance: Instance) -> tuple[int, NDArray[np.int64]]:
    """The list of coordinates a face takes, and the rows of its triangles in it."""
    args = instance.args
    table = ref_of(args[1])
    lists = [one for one in args[2:] if isinstance(one, list | np.ndarray)]
    del exchange
    plain: list[NDArray[np.int64]] = []
    if instance.kind in _SETS:
        # normals, pnindex, triangles
        index, rows = _whole(lists[-2]), _rows(lists[-1])
        plain += rows
    else:
        # normals, pnindex, strips, fans
        index = _whole(lists[-3])
        for strip in _rows(lists[-2]):
            plain += _strip(strip)
        for fan in _rows(lists[-1]):
            plain += [np.array([fan[0], fan[k], fan[k + 1]]) for k in range(1, len(fan) - 1)]
    corner = np.array([one for one in plain if len(one) == 3], np.int64).reshape(-1, 3)
    if len(index):
        inside = (corner >= 1) & (corner <= len(index))
        corner = np.where(inside, index[np.clip(corner - 1, 0, len(index) - 1)], 0)
    return table, corner - 1


def _strip(strip: NDArray[np.int64]) -> Iterator[NDArray[np.int64]]:
    for k in range(len(strip) - 2):
        a, b, c = strip[k : k + 3]
        yield np.array([a, b, c] if k % 2 == 0 else [b, a, c])


def _whole(value: Any) -> NDArray[np.int64]:
    return np.array([int(one) for one in value if not isinstance(one, Ref)], np.int64)


def _rows(value: Any) -> list[NDArray[np.int64]]:
    return [np.array([int(one) for one in row], np.int64) for row in value]
