"""The triangles of a compressed mesh, and the surfaces on which its attributes lie."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.formats.gltf.packed import _surface as kernels
from zesty_otter.formats.gltf.packed.stream import Stream, sound

Ints = NDArray[np.int32]
_IN_ORDER, _BY_EDGES = 0, 2  # how steps are held


@dataclass(frozen=True, slots=True)
class Surface:
    """Triangles by their corners: which of them face each other, their vertices, and the leftmost corner of each."""

    opposite: Ints  # (3 T,)
    vertex: Ints  # (3 T,)
    leftmost: Ints  # (V,), -1 for those that are no more
    touched: NDArray[np.uint8]  # (W,) which vertices of the whole lie at a seam; empty where nothing is cut
    gone: Ints  # the vertices of the whole that became one with others

    def by_depth(self) -> tuple[Ints, Ints]:
        """The corner at which each vertex is met, and the place in that order of the vertex at each corner."""
        entry, order = self._order()
        seen = np.zeros(len(self.vertex) // 3, np.uint8)
        stack = np.empty(len(seen) + 1, np.int32)
        met = kernels.by_depth(self.opposite, self.vertex, self.leftmost, entry, order, stack, seen)
        return order[:met], _at_corners(entry, self.vertex)

    def by_degree(self) -> tuple[Ints, Ints]:
        """As `by_depth`, but vertices first which can be told from most triangles."""
        entry, order = self._order()
        seen, degree = np.zeros(len(self.vertex) // 3, np.uint8), np.zeros(len(entry), np.int32)
        stacks = np.empty((3, 2 * len(seen) + 1), np.int32)
        met = kernels.by_degree(self.opposite, self.vertex, entry, order, stacks, degree, seen)
        return order[:met], _at_corners(entry, self.vertex)

    def _order(self) -> tuple[Ints, Ints]:
        return np.full(len(self.leftmost), -1, np.int32), np.empty(len(self.leftmost), np.int32)

    def cut(self, seams: NDArray[np.uint8]) -> Surface:
        """The surface without the edges that are seams, told by the corners opposite to them."""
        if not seams[self.opposite >= 0].any():
            return self
        cut, parts, first = self.opposite.copy(), self.vertex.copy(), self._first()
        touched = np.zeros(len(self.leftmost), np.uint8)
        vertices = kernels.split(self.opposite, seams, self.vertex, self.leftmost, cut, parts, first, touched)
        return Surface(cut, parts, first[: sound(vertices)], touched, self.gone)

    def points(self, surfaces: list[Surface]) -> tuple[Ints, Ints]:
        """The point at each corner, where a vertex is parted as any of ``surfaces`` part it; and a corner of each.

        Points stand in the order of the bitstream's own description, so that what a document has of them beside fits.
        """
        if not surfaces:
            # Vertices that became one with others leave no gaps.
            leftmost, number = self.leftmost.copy(), np.arange(len(self.leftmost), dtype=np.int32)
            found = kernels.without_gone(leftmost, self.gone, number, number.copy())
            point, first = number.take(self.vertex), leftmost[:found]
            if point.max(initial=-1) >= found or first.min(initial=0) < 0:
                raise UnsoundError("a compressed mesh is damaged")
            return point, first
        parted = [surface for surface in surfaces if len(surface.touched)]
        touched = np.zeros(len(self.leftmost), np.uint8)
        for surface in parted:
            touched |= surface.touched
        parts = np.empty((len(parted), len(self.vertex)), np.int32)
        for row, surface in zip(parts, parted, strict=True):
            row[:] = surface.vertex
        number, point = np.empty(len(self.leftmost), np.int32), np.full(len(self.vertex), -1, np.int32)
        first = np.empty(len(self.vertex), np.int32)
        found = kernels.points(self.opposite, self.vertex, self.leftmost, parts, touched, number, point, first)
        if found < 0 or point.min(initial=0) < 0:
            raise UnsoundError("a compressed mesh is damaged")
        return point, first[:found]

    def _first(self) -> Ints:
        first = np.empty(len(self.leftmost) + len(self.vertex), np.int32)
        first[: len(self.leftmost)] = self.leftmost
        return first


def _at_corners(entry: Ints, vertex: Ints) -> Ints:
    out = np.empty_like(vertex)
    sound(kernels.at_corners(entry, vertex, out))
    return out


def read_surface(stream: Stream) -> tuple[Surface, list[Surface]]:
    """The surface that a stream begins with, and that cut along the seams of each attribute which has its own."""
    how = stream.whole()
    if how not in (_IN_ORDER, _BY_EDGES):
        raise UnsoundError("a compressed mesh is of a form that is not known")
    vertices, faces = stream.number(), stream.number()
    parts, count, merged = stream.whole(), stream.number(), stream.number()
    if not count <= faces <= _most(stream) or vertices + merged > 3 * faces:
        raise UnsoundError("a compressed mesh is damaged")
    splits = _splits(stream)
    steps, runs = np.empty(count, np.uint8), np.empty((0, 2), np.int64)
    if how == _IN_ORDER:
        kernels.codes(stream.take(stream.number()), steps)
    closing = stream.coded()
    seams = [stream.coded() for _ in range(parts)]
    if how == _BY_EDGES:
        steps, runs = _steps_by_edges(stream, count)
    opposite, leftmost = np.full(3 * faces, -1, np.int32), np.full(vertices + merged, -1, np.int32)
    vertex, stack = np.empty(3 * faces, np.int32), np.empty(count + 1, np.int32)
    edges, kept = np.zeros(len(leftmost), np.int32), np.full(count, -1, np.int32)
    counts, gone = np.array([count, 0, 0, 0], np.int64), np.empty(min(merged, count), np.int32)
    sound(kernels.surface(steps, runs, splits, counts, opposite, vertex, leftmost, edges, kept, stack, gone))
    inner = np.empty(counts[2], np.uint8)
    sound(kernels.bits(closing[1], closing[0], inner))
    if kernels.close(stack, inner, opposite, vertex, leftmost, count) != faces:
        raise UnsoundError("a compressed mesh is damaged")
    whole = Surface(opposite, vertex, leftmost, np.empty(0, np.uint8), gone[: counts[3]])
    return whole, [whole.cut(_seams(zeros, data, opposite)) for zeros, data in seams]


def _most(stream: Stream) -> int:
    """How many triangles or points are believed, so that no room is made for what cannot be there.

    A flat grid of squares, which takes least, has some 30 triangles in a byte.
    """
    return min(1 << 26, 65536 + 256 * len(stream.data))


def _steps_by_edges(stream: Stream, count: int) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """Steps by the number of edges, 2 to 7, at the vertex ahead; and where those of each begin and end."""
    parts = []
    for _ in range(6):
        size = stream.number()
        if size > count:
            raise UnsoundError("a compressed mesh is damaged")
        parts.append(stream.symbols(size))
    ends = np.cumsum([0, *map(len, parts)])
    return np.concatenate(parts).clip(max=5).astype(np.uint8), np.stack((ends[:-1], ends[1:]), axis=1)


def _seams(zeros: int, data: NDArray[np.uint8], opposite: Ints) -> NDArray[np.uint8]:
    edge = np.empty(len(opposite), np.uint8)
    sound(kernels.seams(data, zeros, opposite, edge))
    return edge


def _splits(stream: Stream) -> Ints:
    """The steps at which edges are kept for later: from, for, and whether it is the right edge (N, 3)."""
    count, last = stream.number(), 0
    if count > len(stream.data):
        raise UnsoundError("a compressed mesh is cut short")
    out = np.empty((count, 3), np.int64)
    for row in out:
        last += stream.number()
        later = last - stream.number()
        if not 0 <= later <= last < 1 << 31:
            raise UnsoundError("a compressed mesh is damaged")
        row[:2] = last, later
    out[:, 2] = np.unpackbits(stream.take((count + 7) // 8), bitorder="little")[:count]
    return out.astype(np.int32)


def read_corners(stream: Stream) -> tuple[NDArray[np.uint32], int]:
    """The corners (3 T,) of triangles that are simply listed, and how many points there are."""
    faces, points = stream.number(), stream.number()
    if max(faces, points) > _most(stream):
        raise UnsoundError("a compressed mesh is damaged")
    how = stream.whole()
    if how == 0:
        steps = stream.symbols(3 * faces)
        half = (steps >> 1).astype(np.int64)
        return np.cumsum(np.where(steps & 1, -half, half)).astype(np.uint32), points
    if how != 1:
        raise UnsoundError("a compressed mesh is of a form that is not known")
    if points >= 1 << 21:
        return stream.take(12 * faces).view("<u4").astype(np.uint32), points
    if points >= 1 << 16:
        return stream.numbers(3 * faces), points
    kind = "<u1" if points < 256 else "<u2"
    return stream.take(3 * faces * np.dtype(kind).itemsize).view(kind).astype(np.uint32), points
