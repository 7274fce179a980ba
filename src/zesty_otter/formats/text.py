"""Tables of numbers as text: read in one go, written a buffer at a time."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from functools import lru_cache
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats import _numbers as kernels
from zesty_otter.geometry.parallel import in_order

_PIECE = 1 << 21  # bytes of text that are read or written in a row


def number_lines(prefix: str, values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """Lines of a word and the numbers of a row, which read back as the same 32-bit numbers.

    Parameters
    ----------
    prefix : str
        What each line begins with, in ASCII.
    values : (N, n)

    Yields
    ------
    (B,) uint8
    """
    rows = np.ascontiguousarray(values, np.float32)
    start = np.frombuffer(prefix.encode("ascii"), np.uint8)
    room = len(start) + 1 + kernels.WIDEST * rows.shape[1]

    def put(first: int, stop: int) -> NDArray[np.uint8]:
        out = np.empty((stop - first) * room, np.uint8)
        return out[: kernels.put_rows(start, rows, first, stop, out)]

    yield from in_order(put, _pieces(len(rows), room))


def whole_number_lines(values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """Lines of whole numbers of zero or more, a row each.

    Parameters
    ----------
    values : (N, n)
    """
    rows = np.ascontiguousarray(values, np.int64)
    room = 1 + 11 * rows.shape[1]

    def put(first: int, stop: int) -> NDArray[np.uint8]:
        out = np.empty((stop - first) * room, np.uint8)
        return out[: kernels.put_whole_rows(rows, first, stop, out)]

    yield from in_order(put, _pieces(len(rows), room))


def list_of(values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """A list with commas, of whole numbers (N,), of 32-bit numbers (N, 1), or of tuples of these (N, n)."""
    whole = values.dtype.kind in "iu"
    rows = np.ascontiguousarray(values, np.int64 if whole else np.float32)
    kernel: Any = kernels.put_list if whole else kernels.put_tuples
    room = 13 if whole else 4 + (kernels.WIDEST + 2) * rows.shape[1]

    def put(first: int, stop: int) -> NDArray[np.uint8]:
        out = np.empty((stop - first) * room, np.uint8)
        size = kernel(rows, first, stop, out)
        # Nothing stands behind the last.
        return out[: size - 2 if stop == len(rows) else size]

    yield from in_order(put, _pieces(len(rows), room))


def face_lines(face_start: NDArray[Any], values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """Lines of whole numbers, one for each face, that end in -1.

    Parameters
    ----------
    face_start : (F + 1,) int
    values : (C,) int
    """
    start, rows = np.ascontiguousarray(face_start, np.int64), np.ascontiguousarray(values, np.int64)
    if len(start) < 2:
        return
    # Pieces of about the same number of corners; each face lies whole in one.
    ends = np.searchsorted(start, np.arange(start[0], start[-1], _PIECE // 16)[1:], "left")
    faces = np.unique([0, *ends, len(start) - 1]).tolist()

    def put(first: int, stop: int) -> NDArray[np.uint8]:
        room = 12 * (start[stop] - start[first]) + 16 * (stop - first)
        out = np.empty(room, np.uint8)
        return out[: kernels.put_faces(start[: stop + 1], rows, first, out)[1]]

    yield from in_order(put, pairwise(faces))


def _pieces(count: int, room: int) -> Iterator[tuple[int, int]]:
    """Pieces of some rows that each take so many bytes at most."""
    most = max(_PIECE // room, 1)
    return ((first, min(first + most, count)) for first in range(0, count, most))


class NotNumbersError(ValueError):
    """A word among numbers that is none; its text is the message."""


def numbers_in(text: str | bytes | NDArray[np.uint8]) -> NDArray[np.float64]:
    """The numbers in a text, whatever stands between them: blanks, commas, brackets.

    Raises
    ------
    NotNumbersError
        When there is a word that is no number.
    """
    return _read(text, np.float64)


def whole_numbers_in(text: str | bytes | NDArray[np.uint8]) -> NDArray[np.int32]:
    """As `numbers_in`, for whole numbers."""
    return _read(text, np.int32)


def numbers_of_list(
    text: str | bytes | NDArray[np.uint8], depth: int, width: int, *, whole: bool = False
) -> NDArray[Any]:
    """The numbers of a list in [ ], or in ( ) where it is but one value.

    Parameters
    ----------
    text : str, bytes or (N,) uint8
    depth : int
        How many ( are around each number: none, one around ``width`` numbers, or another around ``width`` of these.
    width : int
    whole : bool
        Whether they are whole numbers of 32 bits.

    Raises
    ------
    NotNumbersError
        Where its brackets or commas are others, or there is a word that is no number.
    """
    data = _bytes_of(text)
    gaps, groups = _gaps(bytes(data[:1]) == b"[", depth, width)

    def read(data: NDArray[np.uint8], first: int, stop: int, out: NDArray[Any], before: int = 0) -> tuple[int, int]:
        count, at, sound = kernels.read_listed(data, first, stop, out, before, gaps, groups)
        if not sound:
            around = bytes(data[max(at - 8, 0) : at + 12]).decode("utf-8", "replace")
            raise NotNumbersError(f"commas or brackets are wrong near '{' '.join(around.split())}'")
        return count, at

    return _read(data, np.int32 if whole else np.float64, read)


@lru_cache(maxsize=100)
def _gaps(listed: bool, depth: int, width: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """What stands between the numbers of a list, as the kernel tells it, and after how many it is something else."""
    opened, closed = "(" * depth, ")" * depth
    outer = closed + "," + opened
    between = [",", "),(" if depth > 1 else outer, outer]
    if listed:
        marks = ["[" + opened, closed + "]", closed + ",]", *between, "[]"]
    else:
        marks = [opened, closed, closed, *between, ";"]
    codes = [sum(1 + ",()[];".index(mark) << 3 * place for place, mark in enumerate(one[::-1])) for one in marks]
    return np.array(codes), np.array([width, width ** max(depth, 1)])


def most_numbers_in(text: str | bytes | NDArray[np.uint8]) -> tuple[NDArray[np.float64], int]:
    """As `numbers_in`, with NaN for each word that is none, and how many there were."""
    return _read_on(text, np.float64, np.nan)


def most_whole_numbers_in(text: str | bytes | NDArray[np.uint8]) -> tuple[NDArray[np.int32], int]:
    """As `whole_numbers_in`, with -1 for each word that is none, and how many there were."""
    return _read_on(text, np.int32, -1)


def _next_numbers(
    data: NDArray[np.uint8], first: int, stop: int, out: NDArray[Any], before: int = 0
) -> tuple[int, int]:
    """Fills ``out`` from a piece of text, before which there are other numbers; how many, and where it ended."""
    read = kernels.read_whole_numbers if out.dtype == np.int32 else kernels.read_numbers
    return read(data, first, stop, out)


def _read_on(text: str | bytes | NDArray[np.uint8], dtype: Any, missing: float) -> tuple[NDArray[Any], int]:
    with contextlib.suppress(NotNumbersError):
        return _read(text, dtype), 0
    data = _bytes_of(text)
    out = np.empty(kernels.count_words(data, 0, len(data)), dtype)
    done = at = wrong = 0
    while True:
        count, at = _next_numbers(data, at, len(data), out[done:])
        done += count
        if done >= len(out):
            return out, wrong
        at = kernels.words_end(data, at, len(data))
        out[done] = missing
        done += 1
        wrong += 1


def _bytes_of(text: str | bytes | NDArray[np.uint8]) -> NDArray[np.uint8]:
    if isinstance(text, str):
        text = text.encode("utf-8", "replace")
    return np.ascontiguousarray(np.frombuffer(text, np.uint8) if isinstance(text, bytes) else text, np.uint8)


def _read(
    text: str | bytes | NDArray[np.uint8], dtype: Any, read: Callable[..., tuple[int, int]] = _next_numbers
) -> NDArray[Any]:
    data = _bytes_of(text)
    if len(data) < _PIECE:
        out = np.empty(kernels.count_words(data, 0, len(data)), dtype)
        count, at = read(data, 0, len(data), out)
        if count < len(out):
            raise _not_a_number(data, at)
        return out
    # Each piece is read into its place, which counting the words before it tells.
    ends = _word_ends(data)
    counts = [*in_order(lambda first, stop: kernels.count_words(data, first, stop), ends)]
    out = np.empty(sum(counts), dtype)
    places = np.cumsum([0, *counts]).tolist()
    slots = dict(zip(ends, pairwise(places), strict=True))

    def fill(first: int, stop: int) -> tuple[int, int]:
        begin, end = slots[first, stop]
        count, at = read(data, first, stop, out[begin:end], begin)
        return begin + count - end, at

    for missing, at in in_order(fill, ends):
        if missing:
            raise _not_a_number(data, at)
    return out


def _not_a_number(data: NDArray[np.uint8], at: int) -> NotNumbersError:
    word = bytes(data[at : min(kernels.words_end(data, at, len(data)), at + 40)])
    return NotNumbersError(f"'{word.decode('utf-8', 'replace')}' is not a number")


def _word_ends(data: NDArray[np.uint8]) -> list[tuple[int, int]]:
    """Pieces of text that end right behind a word."""
    ends = [0]
    while ends[-1] < len(data):
        end = kernels.words_end(data, min(ends[-1] + _PIECE, len(data)), len(data))
        while end < len(data) and kernels.words_end(data, end - 1, end) < end:
            end = kernels.words_end(data, end + 1, len(data))
        ends.append(end)
    return list(pairwise(ends))
