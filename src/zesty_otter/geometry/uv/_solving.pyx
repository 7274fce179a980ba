"""Symmetric systems between neighbours, factorised within the envelope of their rows, compiled.

E. Cuthill and J. McKee (1969), "Reducing the bandwidth of sparse symmetric matrices", for the order; A. Jennings
(1966), "A compact storage scheme for the solution of symmetric linear simultaneous equations".
"""

from libc.stdint cimport int32_t, int64_t


cdef inline int64_t _spread(
    const int64_t[::1] start, const int32_t[::1] others, int64_t first, int32_t mark, int32_t[::1] seen,
    int32_t[::1] order, int64_t at
) noexcept nogil:
    """Puts what hangs together with one row into the order, nearest first; where the order ends then."""
    cdef int64_t k, n = at
    order[at] = <int32_t>first
    seen[first] = mark
    at += 1
    while n < at:
        for k in range(start[order[n]], start[order[n] + 1]):
            if seen[others[k]] != mark:
                seen[others[k]] = mark
                order[at] = others[k]
                at += 1
        n += 1
    return at


cpdef void narrow_order(
    const int64_t[::1] start, const int32_t[::1] others, int32_t[::1] seen, int32_t[::1] order
) noexcept:
    """An order (N,) of rows in which those that have to do with each other, ``others`` from ``start`` on, are close.

    ``seen`` (N,) begins as 0.
    """
    cdef int64_t at = 0, end, n
    with nogil:
        for n in range(len(order)):
            if seen[n]:
                continue
            # Once to find one at the far end, once from there.
            end = _spread(start, others, n, 1, seen, order, at)
            at = _spread(start, others, order[end - 1], 2, seen, order, at)


cpdef void factorise(double[::1] matrix, const int64_t[::1] start, const int64_t[::1] first) noexcept:
    """The rows of a positive symmetric matrix, each from its ``first`` column to the diagonal, made L and D of L D L^T.

    Row ``n`` ends before ``start[n + 1]`` of ``matrix``.
    """
    cdef double even, odd, pivot, value
    cdef int64_t i, j, k, left, mine, yours
    with nogil:
        for i in range(len(first)):
            mine = start[i] - first[i]
            for j in range(first[i], i):
                yours = start[j] - first[j]
                left = max(first[i], first[j])
                even = odd = 0.0
                for k in range(left, j - 1, 2):
                    even += matrix[mine + k] * matrix[yours + k]
                    odd += matrix[mine + k + 1] * matrix[yours + k + 1]
                if (j - left) % 2 == 1:
                    even += matrix[mine + j - 1] * matrix[yours + j - 1]
                matrix[mine + j] -= even + odd
            pivot = matrix[mine + i]
            for j in range(first[i], i):
                value = matrix[mine + j]
                matrix[mine + j] = value / matrix[start[j + 1] - 1]
                pivot -= value * matrix[mine + j]
            matrix[mine + i] = pivot


cpdef void solve(
    const double[::1] matrix, const int64_t[::1] start, const int64_t[::1] first, double[:, ::1] sides
) noexcept:
    """Turns right sides (K, N) into what solves them, with what `factorise` made."""
    cdef double value
    cdef int64_t i, j, n
    with nogil:
        for n in range(sides.shape[0]):
            for i in range(len(first)):
                value = sides[n, i]
                for j in range(first[i], i):
                    value -= matrix[start[i] - first[i] + j] * sides[n, j]
                sides[n, i] = value
            for i in range(len(first)):
                sides[n, i] /= matrix[start[i + 1] - 1]
            for i in range(len(first) - 1, -1, -1):
                value = sides[n, i]
                for j in range(first[i], i):
                    sides[n, j] -= matrix[start[i] - first[i] + j] * value
