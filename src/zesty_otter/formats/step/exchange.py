"""The exchange structure of ISO 10303-21: instances by their numbers, with their types and arguments."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.step import _scan as kernels

_OPEN, _CLOSE, _REFERENCE, _INTEGER, _REAL, _TEXT, _WORD, _NOTHING, _DERIVED, _KEYWORD, _BINARY = range(11)
_DEEPEST = 40  # lists in lists
_FARTHEST = 1e12
_KEPT = 20_000  # instances that are at hand at once


class ExchangeError(ValueError):
    """The text is not an exchange structure, or an instance is not what it has to be."""


@dataclass(frozen=True, slots=True)
class Ref:
    """The number of an instance."""

    number: int


@dataclass(frozen=True, slots=True)
class Typed:
    """An argument that says its own type, such as a measure."""

    kind: str
    value: Any


@dataclass(frozen=True, slots=True)
class Instance:
    """One instance: the arguments of each of its types, of which plain ones have one."""

    number: int
    parts: dict[str, list[Any]]

    @property
    def kind(self) -> str:
        return next(iter(self.parts), "")

    @property
    def args(self) -> list[Any]:
        return next(iter(self.parts.values()), [])


class Exchange:
    """What a file holds.

    Parameters
    ----------
    data : bytes

    Raises
    ------
    ExchangeError
        When there is no section of data.
    """

    def __init__(self, data: bytes) -> None:
        self.data = data
        text = np.frombuffer(data, np.uint8)
        starts = [found.end() for found in re.finditer(rb"\bDATA\s*(?:\([^;]*\)\s*)?;", data)]
        if not starts:
            raise ExchangeError("has no section DATA")
        counts = np.zeros(4, np.int64)
        kernels.count(text, starts[0], counts)
        rows, tokens = int(counts[0]) + 1, int(counts[1]) + 1
        self.kinds, self.sizes = np.empty(tokens, np.uint8), np.empty(tokens, np.int32)
        self.starts, self.values = np.empty(tokens, np.int64), np.empty(tokens, np.int64)
        number, first = np.empty(rows, np.int64), np.empty(rows + 1, np.int64)
        done, used = 0, 0
        self.broken, self.is_cut = 0, False
        for start in starts:
            counts[:] = 0
            end = kernels.scan(
                text, start, number[done:], first[done:], self.kinds[used:], self.starts[used:], self.sizes[used:],
                self.values[used:], counts,
            )  # fmt: skip
            if used:
                # Brackets know each other by number.
                own = slice(used, used + int(counts[1]))
                self.values[own][self.kinds[own] < _REFERENCE] += used
                first[done : done + int(counts[0]) + 1] += used
            done, used = done + int(counts[0]), used + int(counts[1])
            self.broken += int(counts[3])
            self.is_cut |= bool(counts[2]) or not re.match(rb"\s*ENDSEC", data[end : end + 64])
        self.numbers, self.first = number[:done].copy(), first[: done + 1].copy()
        # References are resolved at once, for all of the file: those that lead nowhere are told.
        leads = np.flatnonzero(self.kinds[:used] == _REFERENCE)
        self.targets = self.rows_of(self.values[leads])
        self.missing = int((self.targets < 0).sum())
        self.made: dict[int, Instance | None] = {}
        # Single tokens are looked up much quicker through these.
        self._kind, self._value, self._start, self._size = (
            one.data for one in (self.kinds, self.values, self.starts, self.sizes)
        )

    @cached_property
    def _order(self) -> NDArray[np.int64]:
        return np.argsort(self.numbers, kind="stable")

    @cached_property
    def _sorted(self) -> NDArray[np.int64]:
        return self.numbers[self._order]

    def rows_of(self, numbers: NDArray[np.int64]) -> NDArray[Any]:
        """The row of each number, -1 where there is none."""
        if self._dense is not None:
            return self._dense[np.clip(numbers, -1, len(self._dense) - 1)]
        if not len(self._sorted):
            return np.full(len(numbers), -1)
        at = np.minimum(np.searchsorted(self._sorted, numbers), len(self._sorted) - 1)
        return np.where(self._sorted[at] == numbers, self._order[at], -1)

    @cached_property
    def _dense(self) -> NDArray[np.int32] | None:
        """The row of each number, the first where it stands twice, with -1 last; None where numbers are far apart."""
        most = int(self.numbers.max(initial=0))
        if most > 16 * len(self.numbers) + 100_000:
            return None
        table = np.full(most + 2, -1, np.int32)
        table[self.numbers[::-1]] = np.arange(len(self.numbers) - 1, -1, -1, dtype=np.int32)
        return table

    def _row(self, number: int) -> int:
        if self._dense is None:
            return int(self.rows_of(np.array([number]))[0])
        return int(self._dense[number]) if 0 <= number < len(self._dense) else -1

    @cached_property
    def _type_of(self) -> NDArray[np.int64]:
        """The hash of each instance's type; 0 of those that have several."""
        leads = self.first[:-1]
        return np.where(self.kinds[leads] == _KEYWORD, self.values[leads], 0) if len(leads) else leads

    def of_kind(self, *kinds: str) -> list[int]:
        """The numbers of all instances of a type, in the order of the file, those among several types as well."""
        wanted = np.isin(self._type_of, [_hash(kind) for kind in kinds])
        rows = np.flatnonzero(wanted).tolist()
        rows += [row for row, has in self._mixed if not has.isdisjoint(kinds)]
        return [int(self.numbers[row]) for row in sorted(rows)]

    @cached_property
    def _mixed(self) -> list[tuple[int, frozenset[str]]]:
        found = []
        for row in np.flatnonzero(self._type_of == 0).tolist():
            instance = self.at(int(self.numbers[row]))
            if instance is not None:
                found.append((row, frozenset(instance.parts)))
        return found

    def at(self, number: int) -> Instance | None:
        """An instance; None where there is none."""
        if number not in self.made:
            if len(self.made) > _KEPT:
                self.made.clear()
            row = self._row(number)
            self.made[number] = None if row < 0 else self._instance(number, row)
        return self.made[number]

    def kind_of(self, number: int) -> str:
        instance = self.at(number)
        return instance.kind if instance is not None else ""

    def _instance(self, number: int, row: int) -> Instance:
        at, stop = int(self.first[row]), int(self.first[row + 1])
        if at >= stop:
            return Instance(number, {})
        if self._kind[at] == _OPEN:
            at, stop = at + 1, self._value[at]
        parts: dict[str, list[Any]] = {}
        while at + 1 < stop and self._kind[at] == _KEYWORD and self._kind[at + 1] == _OPEN:
            end = self._value[at + 1]
            parts[self._keyword(at)] = list(self._arguments(at + 2, end, 0))
            at = end + 1
        return Instance(number, parts)

    def _text_at(self, at: int) -> bytes:
        start = self._start[at]
        return self.data[start : start + self._size[at]]

    def _keyword(self, at: int) -> str:
        return self._text_at(at).decode("ascii", "replace").upper()

    def _arguments(self, at: int, stop: int, depth: int) -> Iterator[Any]:
        if depth > _DEEPEST:
            raise ExchangeError("nests lists too deeply")
        while at < stop:
            kind = self._kind[at]
            if kind == _OPEN:
                end = self._value[at]
                inner = self.kinds[at + 1 : end] if end - at > 24 else None
                if inner is not None and ((inner == _REAL) | (inner == _INTEGER)).all():
                    yield self._numbers(at + 1, end)
                elif inner is not None and (inner == _REFERENCE).all():
                    yield self.values[at + 1 : end].copy()
                else:
                    yield list(self._arguments(at + 1, end, depth + 1))
                at = end
            elif kind == _REFERENCE:
                yield Ref(self._value[at])
            elif kind == _INTEGER:
                yield self._value[at]
            elif kind == _REAL:
                yield self._real[at]
            elif kind == _TEXT:
                yield decoded(self._text_at(at)[1:-1])
            elif kind == _WORD:
                yield self._text_at(at).decode("ascii", "replace").upper()
            elif kind == _KEYWORD and at + 1 < stop and self._kind[at + 1] == _OPEN:
                end = self._value[at + 1]
                inside = list(self._arguments(at + 2, end, depth + 1))
                yield Typed(self._keyword(at), inside[0] if len(inside) == 1 else inside)
                at = end
            else:
                yield None
            at += 1

    @cached_property
    def _real(self) -> memoryview:
        return self.values.view(np.float64).data

    def _numbers(self, at: int, stop: int) -> NDArray[np.float64]:
        own = self.values[at:stop]
        return np.where(self.kinds[at:stop] == _REAL, own.view(np.float64), own.astype(np.float64))

    @cached_property
    def _points(self) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """All points with coordinates: their rows in the order of numbers, and (N, 3) coordinates."""
        rows = np.flatnonzero(self._type_of == _hash("CARTESIAN_POINT"))
        first, stop = self.first[rows], self.first[rows + 1]
        # CARTESIAN_POINT ( name ( x y z ) ): nine tokens, eight where there are two coordinates.
        plain = stop - first == 9
        plain[plain] &= self.kinds[first[plain] + 3] == _OPEN
        rows, first = rows[plain], first[plain]
        out = np.empty((len(rows), 3))
        for k in range(3):
            at = first + 4 + k
            own = self.values[at]
            out[:, k] = np.where(self.kinds[at] == _REAL, own.view(np.float64), own.astype(np.float64))
        return rows, out

    @cached_property
    def _place_of_row(self) -> NDArray[np.int32]:
        """Of each instance its place among the points; -1 for others."""
        rows, _ = self._points
        found = np.full(len(self.numbers), -1, np.int32)
        found[rows] = np.arange(len(rows), dtype=np.int32)
        return found

    def point(self, number: int) -> NDArray[np.float64]:
        """(3,) the coordinates of one point.

        Raises
        ------
        ExchangeError
            When it is not there, or none.
        """
        row = self._row(number)
        place = int(self._place_of_row[row]) if row >= 0 else -1
        if place < 0:
            raise ExchangeError(f"point #{number} is missing")
        return _near(self._points[1][place])

    def points_of(self, numbers: NDArray[np.int64]) -> NDArray[np.float64]:
        """(N, 3) the coordinates of points.

        Raises
        ------
        ExchangeError
            When one is not there, or none.
        """
        rows, places = self._points
        wanted = self.rows_of(np.asarray(numbers, np.int64))
        if not len(rows):
            raise ExchangeError("a point is missing")
        at = np.minimum(np.searchsorted(rows, wanted), len(rows) - 1)
        if (rows[at] != wanted).any():
            raise ExchangeError("a point is missing")
        return _near(places[at])


def _near(places: NDArray[np.float64]) -> NDArray[np.float64]:
    if not (np.abs(places) < _FARTHEST).all():
        raise ExchangeError("a point is not finite, or too far away")
    return places


def _hash(kind: str) -> int:
    """As the scanner makes it (G. Fowler, L. C. Noll and K.-P. Vo, FNV-1a)."""
    value = 0xCBF29CE484222325
    for byte in kind.encode():
        value = (value ^ byte) * 0x100000001B3 & 0xFFFFFFFFFFFFFFFF
    return value - (1 << 64) if value >> 63 else value


_CODED = re.compile(r"\\X\\([0-9A-Fa-f]{2})|\\X2\\((?:[0-9A-Fa-f]{4})*)\\X0\\|\\X4\\((?:[0-9A-Fa-f]{8})*)\\X0\\"
                    r"|\\P([A-I])\\|\\S\\(.)|\\(\\)")  # fmt: skip


def decoded(text: bytes) -> str:
    r"""What a string says (ISO 10303-21, clause 6.4.3): ``''``, ``\X2\00E9\X0\``, ``\X\E9``, ``\S\i``.

    Examples
    --------
    >>> decoded(rb"K\X2\00F6\X0\rper ''A''")
    "Körper 'A'"
    """
    try:
        plain = text.decode("utf-8")
    except UnicodeDecodeError:
        plain = text.decode("latin-1")
    plain = plain.replace("''", "'").replace("\r", "").replace("\n", "")
    if "\\" not in plain:
        return plain
    page = "A"

    def one(found: re.Match[str]) -> str:
        nonlocal page
        byte, two, four, chosen, shifted, slash = found.groups()
        if byte:
            return bytes((int(byte, 16),)).decode("latin-1")
        if two is not None:
            return bytes.fromhex(two).decode("utf-16-be", "replace")
        if four is not None:
            return bytes.fromhex(four).decode("utf-32-be", "replace")
        if chosen:
            page = chosen
            return ""
        if shifted:
            code = ord(shifted) + 128
            return bytes((code,)).decode(f"iso8859_{ord(page) - 64}", "replace") if code < 256 else shifted
        return slash or ""

    return _CODED.sub(one, plain)
