"""The bytes of a compressed mesh, read in order."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.gltf.errors import UnsoundError
from zesty_otter.formats.gltf.packed import _surface as kernels

_LARGEST = 1 << 20  # most kinds of numbers that frequencies are told of


class Stream:
    """Bytes, and the place of the next one; whatever runs beyond the end raises `UnsoundError`."""

    def __init__(self, data: NDArray[np.uint8]) -> None:
        self.data, self.at = np.ascontiguousarray(data), 0

    def take(self, size: int) -> NDArray[np.uint8]:
        if size > len(self.data) - self.at:
            raise UnsoundError("a compressed mesh is cut short")
        self.at += size
        return self.data[self.at - size : self.at]

    def whole(self, size: int = 1, *, signed: bool = False) -> int:
        """A number of ``size`` bytes."""
        return int.from_bytes(self.take(size).tobytes(), "little", signed=signed)

    def number(self) -> int:
        """A number in groups of seven bits, the lowest first."""
        value = 0
        for shift in range(0, 70, 7):
            byte = self.whole()
            value |= (byte & 127) << shift
            if byte < 128:
                return value
        raise UnsoundError("a compressed mesh has a number without an end")

    def numbers(self, count: int) -> NDArray[np.uint32]:
        """``count`` numbers in groups of seven bits, of 35 bits at most."""
        data = self.data[self.at :]
        ends = np.flatnonzero(data < 128)[:count]
        begins = np.concatenate(([0], ends[:-1] + 1)) if count else ends
        if len(ends) < count or (ends - begins).max(initial=0) > 4:
            raise UnsoundError("a compressed mesh is cut short")
        out = np.zeros(count, np.uint32)
        for k in range(5):
            more = begins + k <= ends
            out[more] |= (data[begins[more] + k] & np.uint32(127)) << np.uint32(7 * k)
        self.at += int(ends[-1]) + 1 if count else 0
        return out

    def floats(self, count: int) -> NDArray[np.float32]:
        return self.take(4 * count).view("<f4").astype(np.float32)

    def coded(self) -> tuple[int, NDArray[np.uint8]]:
        """How many bits in 256 are 0, and the bytes that hold them."""
        zeros = self.whole()
        return zeros, self.take(self.number())

    def bits(self, count: int) -> NDArray[np.uint8]:
        """``count`` bits, coded by their frequency."""
        zeros, data = self.coded()
        out = np.empty(count, np.uint8)
        sound(kernels.bits(data, zeros, out))
        return out

    def symbols(self, count: int, each: int = 1) -> NDArray[np.uint32]:
        """``count`` whole numbers, coded by their frequencies or by those of how many bits ``each`` of them take."""
        if not count:
            return np.empty(0, np.uint32)
        by_length = {0: True, 1: False}.get(self.whole())
        if by_length is None:
            raise UnsoundError("a compressed mesh has numbers in a form that is not known")
        out = np.empty(count, np.uint32)
        if by_length:
            lengths = self._frequent(np.empty(count // each, np.uint32), 5)
            self.take(sound(kernels.tagged(self.data[self.at :], lengths, each, out)))
            return out
        return self._frequent(out, self.whole())

    def _frequent(self, out: NDArray[np.uint32], length: int) -> NDArray[np.uint32]:
        """Numbers of at most ``length`` bits, by their frequencies."""
        precision = min(max(3 * length // 2, 12), 20)
        kinds = self.number()
        # A byte tells of 64 kinds at most.
        if kinds > min(_LARGEST, 64 * (len(self.data) - self.at)):
            raise UnsoundError("a compressed mesh is cut short")
        sums = np.empty(kinds + 1, np.uint32)
        self.at = sound(kernels.frequencies(self.data, self.at, sums))
        data = self.take(self.number())
        sound(kernels.numbers(data, sums, precision, np.empty(1 << min(precision, 13), np.uint64), out))
        return out


def sound(answer: int) -> int:
    """What a kernel answers, when it is no error."""
    if answer < 0:
        raise UnsoundError("a compressed mesh is damaged")
    return answer
