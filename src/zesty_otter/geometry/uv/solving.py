"""Systems of equations between neighbours."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.geometry.uv import _flatten as kernels

# Multiplications, up to which systems are solved for here: loading the other way takes longer than that.
_LIGHT = 100_000_000
_MOST = 20_000  # unknowns, beyond which there always are more
_SAFE = 1e-12  # of the diagonal, added to it


class Symmetric:
    """A positive symmetric or Hermitian matrix, factorised to solve with it again and again.

    Parameters
    ----------
    rows, columns : (N,) int
        Both triangles of it; what is given for one place several times adds up.
    values : (N,) float64 or complex128
    size : int
        How many unknowns there are.
    """

    def __init__(self, rows: NDArray[Any], columns: NDArray[Any], values: NDArray[Any], size: int) -> None:
        own = rows == columns
        diagonal = float(np.abs(np.bincount(rows[own], values[own].real, size)).mean()) if size else 1.0
        every = np.arange(size)
        rows, columns = np.concatenate([rows, every]), np.concatenate([columns, every])
        values = np.concatenate([values, np.full(size, _SAFE * diagonal)])
        self._solve = _alone(rows, columns, values, size) or _with_library(rows, columns, values, size)

    def solve(self, side: NDArray[Any]) -> NDArray[Any]:
        """(N,) or (N, K) what the matrix makes these numbers of.

        Parameters
        ----------
        side : (N,) or (N, K)
            Of the kind the matrix is.

        Examples
        --------
        >>> import numpy as np
        >>> rows, columns = np.array([0, 0, 1, 1]), np.array([0, 1, 0, 1])
        >>> system = Symmetric(rows, columns, np.array([2.0, 1.0, 1.0, 3.0]), 2)
        >>> system.solve(np.array([5.0, 10.0])).round(6).tolist()
        [1.0, 3.0]
        """
        return np.asarray(self._solve(side))


def _alone(rows: NDArray[Any], columns: NDArray[Any], values: NDArray[Any], size: int) -> Any:
    """What solves by the kernels; None where that would take long."""
    if size > _MOST:
        return None
    order = np.empty(size, np.int32)
    sorted_ = np.argsort(rows, kind="stable")
    row_start = np.searchsorted(rows[sorted_], np.arange(size + 1))
    kernels.narrow_order(row_start, columns[sorted_].astype(np.int32), np.zeros(size, np.int32), order)
    order = order[::-1]
    place = np.empty(size, np.int64)
    place[order] = np.arange(size)
    rows, columns = place[rows], place[columns]
    parts = 1
    if np.iscomplexobj(values):
        # A number of two parts is two unknowns side by side.
        parts = 2
        rows = np.concatenate([2 * rows, 2 * rows, 2 * rows + 1, 2 * rows + 1])
        columns = np.concatenate([2 * columns, 2 * columns + 1, 2 * columns, 2 * columns + 1])
        values = np.concatenate([values.real, -values.imag, values.imag, values.real])
    lower = columns <= rows
    rows, columns, values = rows[lower], columns[lower], values[lower]
    first = np.arange(parts * size)
    np.minimum.at(first, rows, columns)
    wide = np.arange(parts * size) - first + 1
    if float((wide.astype(float) ** 2).sum()) > _LIGHT:
        return None
    start = np.concatenate([[0], np.cumsum(wide)])
    matrix = np.asarray(np.bincount(start[rows] + columns - first[rows], values, start[-1]), np.float64)
    kernels.factorise(matrix, start, first)

    def solved(side: NDArray[Any]) -> NDArray[Any]:
        table = side.reshape(size, -1)[order]
        if parts == 2:
            table = np.stack([table.real, table.imag], axis=1).reshape(2 * size, -1)
        sides = np.ascontiguousarray(table.T)
        kernels.solve(matrix, start, first, sides)
        found = sides.T
        if parts == 2:
            found = found[::2] + 1j * found[1::2]
        return found[place].reshape(side.shape)

    return solved


def _with_library(rows: NDArray[Any], columns: NDArray[Any], values: NDArray[Any], size: int) -> Any:
    """What solves by elimination in an order that fills least, for large systems."""
    from scipy.sparse import csc_matrix
    from scipy.sparse.linalg import splu

    matrix = csc_matrix((values, (rows, columns)), shape=(size, size))
    return splu(matrix, permc_spec="MMD_AT_PLUS_A", diag_pivot_thresh=0.0, options={"SymmetricMode": True}).solve
