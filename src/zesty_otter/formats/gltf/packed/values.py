"""The attributes of a compressed mesh."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.formats.gltf.packed import _values as kernels
from zesty_otter.formats.gltf.packed.stream import Stream, sound
from zesty_otter.formats.gltf.packed.surface import Ints, Surface

_TYPES = ("", "i1", "u1", "<i2", "<u2", "<i4", "<u4", "<i8", "<u8", "<f4", "<f8", "?")
_POSITION = 0  # kind of attribute
_RAW, _WHOLE, _QUANTIZED, _DIRECTIONS = range(4)  # how values are held
_NOTHING, _BEFORE, _PARALLELOGRAM, _CHOSEN, _PLACEMENT, _AROUND = -2, 0, 1, 4, 5, 6  # what they are foreseen from
_WAYS = (_BEFORE, _PARALLELOGRAM, _CHOSEN, _PLACEMENT, _AROUND)
_WRAPPED, _OCTAHEDRON, _TURNED_OCTAHEDRON = 1, 2, 3  # how corrections are meant


@dataclass(frozen=True, slots=True)
class Lay:
    """How the values of some attributes lie on their surface, or none, where they are those of the points in order."""

    count: int
    order: Ints  # the corner at which each value was met
    entry: Ints  # (3 T,) the value at each corner
    surface: Surface | None


@dataclass(slots=True)
class Attribute:
    """An attribute as its head says, and its values (N, n) when they are read: as whole numbers, and as meant."""

    number: int
    kind: int
    type: np.dtype[Any]
    width: int
    held: int
    place: Ints = field(init=False)  # (3 T,) the value at each corner
    whole: Ints | None = None
    values: NDArray[Any] = field(init=False)


def read_heads(stream: Stream) -> list[Attribute]:
    """What the attributes of one group are."""
    attributes = []
    count = stream.number()
    if count > len(stream.data):
        raise UnsoundError("a compressed mesh is cut short")
    for _ in range(count):
        kind, type_, width, _ = (stream.whole() for _ in range(4))
        if not 0 < type_ < len(_TYPES) or not 0 < width <= 16:
            raise UnsoundError("a compressed mesh has an attribute of a type that is not known")
        attributes.append(Attribute(stream.number(), kind, np.dtype(_TYPES[type_]), width, _RAW))
    for attribute in attributes:
        attribute.held = stream.whole()
        directions = attribute.held == _DIRECTIONS
        if attribute.held > _DIRECTIONS or (directions and attribute.width != 3):
            raise UnsoundError("a compressed mesh has an attribute in a form that is not known")
    return attributes


def read_values(stream: Stream, group: Sequence[Attribute], lay: Lay, before: Sequence[Attribute]) -> None:
    """Reads the values of a group of attributes that lie alike; ``before`` holds those of all groups so far."""
    for attribute in group:
        attribute.place = lay.entry
        if attribute.held == _RAW:
            data = stream.take(lay.count * attribute.width * attribute.type.itemsize).copy()
            attribute.values = data.view(attribute.type).reshape(-1, attribute.width)
        else:
            width = 2 if attribute.held == _DIRECTIONS else attribute.width
            attribute.whole = _whole(stream, width, lay, before)
    for attribute in group:
        if attribute.whole is not None:
            attribute.values = _meant(stream, attribute, attribute.whole)


def _whole(stream: Stream, width: int, lay: Lay, before: Sequence[Attribute]) -> Ints:
    """The values of an attribute as whole numbers (N, width)."""
    foreseen = stream.whole(signed=True)
    meant = stream.whole(signed=True) if foreseen != _NOTHING else None
    count = lay.count * width
    if stream.whole():
        numbers = stream.symbols(count, width)
    else:
        size = stream.whole()
        if not 0 < size <= 4:
            raise UnsoundError("a compressed mesh has numbers in a form that is not known")
        padded = np.zeros((count, 4), np.uint8)
        padded[:, :size] = stream.take(size * count).reshape(-1, size)
        numbers = padded.view("<u4")[:, 0].astype(np.uint32)
    octahedron = meant in (_OCTAHEDRON, _TURNED_OCTAHEDRON)
    if not octahedron:
        # The sign is in the lowest bit.
        numbers = (numbers >> np.uint32(1)) ^ (np.uint32(0) - (numbers & np.uint32(1)))
    values = numbers.view(np.int32).reshape(-1, width)
    if foreseen == _NOTHING:
        return values
    if foreseen not in _WAYS:
        raise UnsoundError("a compressed mesh foresees its values in a way that is not known")
    if lay.surface is None:
        foreseen = _BEFORE
    if octahedron and width == 2:
        _directions(stream, values, foreseen, lay, before, turned=meant == _TURNED_OCTAHEDRON)
    elif meant == _WRAPPED:
        _corrections(stream, values, foreseen, lay, before)
    else:
        raise UnsoundError("a compressed mesh foresees its values in a way that is not known")
    return values


def _corrections(stream: Stream, values: Ints, foreseen: int, lay: Lay, before: Sequence[Attribute]) -> None:
    """Turns corrections into values, in place."""
    runs, left_out, turns = np.zeros((4, 2), np.int64), np.empty(0, np.uint8), np.empty(0, np.uint8)
    if foreseen == _CHOSEN:
        flags = [_flags(stream, 4 * lay.count) for _ in range(4)]
        runs[:, 1] = np.cumsum([len(part) for part in flags])
        runs[1:, 0], left_out = runs[:-1, 1], np.concatenate(flags)
    elif foreseen == _PLACEMENT:
        count = stream.whole(4)
        if count > lay.count:
            raise UnsoundError("a compressed mesh is damaged")
        # A bit is 0 where the side changes.
        turns = 1 - (np.cumsum(1 - stream.bits(count)) & 1).astype(np.uint8)
    low, high = stream.whole(4, signed=True), stream.whole(4, signed=True)
    if low > high:
        raise UnsoundError("a compressed mesh is damaged")
    if foreseen == _BEFORE or lay.surface is None:
        kernels.differences(values, low, high)
        return
    opposite = lay.surface.opposite
    if foreseen == _PARALLELOGRAM:
        kernels.parallelograms(values, lay.order, lay.entry, opposite, low, high)
    elif foreseen == _CHOSEN:
        sound(kernels.chosen_parallelograms(values, lay.order, lay.entry, opposite, left_out, runs, low, high))
    elif foreseen == _PLACEMENT and values.shape[1] == 2:
        positions, place = _positions(before)
        sound(kernels.placements(values, lay.order, lay.entry, positions, place, turns, low, high))
    else:
        raise UnsoundError("a compressed mesh foresees its values in a way that does not fit")


def _flags(stream: Stream, most: int) -> NDArray[np.uint8]:
    """Bits with their number before them."""
    count = stream.number()
    if count > most:
        raise UnsoundError("a compressed mesh is damaged")
    return stream.bits(count) if count else np.empty(0, np.uint8)


def _directions(
    stream: Stream, values: Ints, foreseen: int, lay: Lay, before: Sequence[Attribute], *, turned: bool
) -> None:
    """Turns corrections of directions into values, in place."""
    most = stream.whole(4, signed=True)
    if turned:
        stream.whole(4)  # the middle, which follows from it
    if not 1 <= most < 1 << 30:
        raise UnsoundError("a compressed mesh is damaged")
    half = (1 << (most.bit_length() - 1)) - 1
    if foreseen == _BEFORE:
        kernels.direction_differences(values, half, turned)
    elif foreseen == _AROUND and lay.surface is not None:
        flips = stream.bits(lay.count)
        positions, place = _positions(before)
        opposite = lay.surface.opposite
        sound(kernels.normals(values, lay.order, opposite, positions, place, flips, half, turned))
    else:
        raise UnsoundError("a compressed mesh foresees its directions in a way that does not fit")


def _positions(before: Sequence[Attribute]) -> tuple[Ints, Ints]:
    """The positions (N, 3) as whole numbers, and which of them is at each corner."""
    for attribute in before:
        if attribute.kind == _POSITION and attribute.whole is not None and attribute.width == 3:
            return attribute.whole, attribute.place
    raise UnsoundError("a compressed mesh foresees values from positions that it does not have")


def _meant(stream: Stream, attribute: Attribute, whole: Ints) -> NDArray[Any]:
    """The values that whole numbers stand for."""
    if attribute.held == _QUANTIZED:
        least, span, bits = stream.floats(attribute.width), stream.floats(1)[0], stream.whole()
        if not 1 <= bits <= 31:
            raise UnsoundError("a compressed mesh is damaged")
        return whole.astype(np.float32) * (span / np.float32((1 << bits) - 1)) + least
    if attribute.held == _DIRECTIONS:
        bits = stream.whole()
        if not 2 <= bits <= 30:
            raise UnsoundError("a compressed mesh is damaged")
        out = np.empty((len(whole), 3), np.float32)
        kernels.unfolded(whole, (1 << (bits - 1)) - 1, out)
        return out
    return whole.astype(attribute.type)
