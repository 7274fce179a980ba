"""Tables of numbers as text, a buffer at a time."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter._late import LateModule, read_only

digits = LateModule("zesty_otter.formats._digits")

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
    rows = read_only(values, np.float32)
    start = np.frombuffer(prefix.encode("ascii"), np.uint8)
    out = np.empty(BUFFER, np.uint8)
    most = BUFFER // (len(start) + 1 + digits.WIDEST * rows.shape[1])
    for first in range(0, len(rows), most):
        size = digits.put_rows(start, rows, first, min(first + most, len(rows)), out)
        yield out[:size].copy()
