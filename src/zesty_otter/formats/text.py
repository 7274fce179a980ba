"""Tables of numbers as text: read in one go, written a buffer at a time."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats import _digits as digits
from zesty_otter.formats import _numbers as numbers

BUFFER = 1 << 22


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
    out = np.empty(BUFFER, np.uint8)
    most = BUFFER // (len(start) + 1 + digits.WIDEST * rows.shape[1])
    for first in range(0, len(rows), most):
        size = digits.put_rows(start, rows, first, min(first + most, len(rows)), out)
        yield out[:size].copy()


def whole_number_lines(values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """Lines of whole numbers of zero or more, a row each.

    Parameters
    ----------
    values : (N, n)
    """
    rows = np.ascontiguousarray(values, np.int64)
    out = np.empty(BUFFER, np.uint8)
    most = max(BUFFER // (1 + 11 * rows.shape[1]), 1)
    for first in range(0, len(rows), most):
        size = digits.put_whole_rows(rows, first, min(first + most, len(rows)), out)
        yield out[:size].copy()


def list_of(values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """A list with commas, of whole numbers (N,), of 32-bit numbers (N, 1), or of tuples of these (N, n)."""
    whole = values.dtype.kind in "iu"
    rows = np.ascontiguousarray(values, np.int64 if whole else np.float32)
    put: Any = digits.put_list if whole else digits.put_tuples
    out = np.empty(BUFFER, np.uint8)
    most = BUFFER // 13 if whole else BUFFER // (4 + (digits.WIDEST + 2) * rows.shape[1])
    for first in range(0, len(rows), most):
        stop = min(first + most, len(rows))
        size = put(rows, first, stop, out)
        # Nothing stands behind the last.
        yield out[: size - 2 if stop == len(rows) else size].copy()


def face_lines(face_start: NDArray[Any], values: NDArray[Any]) -> Iterator[NDArray[np.uint8]]:
    """Lines of whole numbers, one for each face, that end in -1.

    Parameters
    ----------
    face_start : (F + 1,) int
    values : (C,) int
    """
    start, rows = np.ascontiguousarray(face_start, np.int64), np.ascontiguousarray(values, np.int64)
    longest = int(np.diff(start).max(initial=0)) * 12 + 4
    out = np.empty(max(BUFFER, longest), np.uint8)
    face = 0
    while face < len(start) - 1:
        face, size = digits.put_faces(start, rows, face, out)
        yield out[:size].copy()


class NotNumbersError(ValueError):
    """A word among numbers that is none; its text is the message."""


def numbers_in(text: str | bytes | NDArray[np.uint8]) -> NDArray[np.float64]:
    """The numbers in a text, whatever stands between them: blanks, commas, brackets.

    Raises
    ------
    NotNumbersError
        When there is a word that is no number.
    """
    return _read(text, np.float64, "read_numbers")


def whole_numbers_in(text: str | bytes | NDArray[np.uint8]) -> NDArray[np.int32]:
    """As `numbers_in`, for whole numbers."""
    return _read(text, np.int32, "read_whole_numbers")


def most_numbers_in(text: str | bytes) -> tuple[NDArray[np.float64], int]:
    """As `numbers_in`, with NaN for each word that is none, and how many there were."""
    return _read_on(text, np.float64, "read_numbers", np.nan)


def most_whole_numbers_in(text: str | bytes) -> tuple[NDArray[np.int32], int]:
    """As `whole_numbers_in`, with -1 for each word that is none, and how many there were."""
    return _read_on(text, np.int32, "read_whole_numbers", -1)


def _read_on(text: str | bytes, dtype: Any, reader: str, missing: float) -> tuple[NDArray[Any], int]:
    data, out = _prepared(text, dtype)
    read = getattr(numbers, reader)
    done = at = wrong = 0
    while True:
        count, at = read(data, at, len(data), out[done:])
        done += count
        if done >= len(out):
            return out, wrong
        at = numbers.words_end(data, at, len(data))
        out[done] = missing
        done += 1
        wrong += 1


def _prepared(text: str | bytes | NDArray[np.uint8], dtype: Any) -> tuple[NDArray[np.uint8], NDArray[Any]]:
    """The bytes of a text, and a table as long as it has words."""
    if isinstance(text, str):
        text = text.encode("utf-8", "replace")
    data = np.ascontiguousarray(np.frombuffer(text, np.uint8) if isinstance(text, bytes) else text, np.uint8)
    # Counting first costs little and keeps memory to what is needed.
    return data, np.empty(numbers.count_words(data, 0, len(data)), dtype)


def _read(text: str | bytes | NDArray[np.uint8], dtype: Any, reader: str) -> NDArray[Any]:
    data, out = _prepared(text, dtype)
    count, at = getattr(numbers, reader)(data, 0, len(data), out)
    if count < len(out):
        word = bytes(data[at : at + 40]).split()[0:1]
        raise NotNumbersError(f"'{word[0].decode('utf-8', 'replace') if word else ''}' is not a number")
    return out
