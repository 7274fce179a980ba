"""Triangles laid out flat, and the systems that are solved for it, compiled.

``rest`` (T, 3) is a triangle's own shape: its first corner at 0, the second at (x1, 0), the third at (x2, y2); x1 and
y2 are above 0. ``uv`` (V, 2) are places of vertices. Symmetric systems between neighbours are factorised within the
envelope of their rows: E. Cuthill and J. McKee (1969), "Reducing the bandwidth of sparse symmetric matrices", for the
order; A. Jennings (1966), "A compact storage scheme for the solution of symmetric linear simultaneous equations".
"""

from libc.math cimport INFINITY, fabs, fmax, fmin, sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t


cpdef void rest_shapes(
    const double[:, ::1] points, const int32_t[:, ::1] place, double least, double[:, ::1] rest
) noexcept:
    """The own shape of triangles; those without area are given a little, ``least`` of their length, or of 1."""
    cdef double ax, ay, az, bx, by, bz, along, length, rise
    cdef int64_t t
    with nogil:
        for t in range(len(place)):
            ax, ay, az = points[place[t, 0], 0], points[place[t, 0], 1], points[place[t, 0], 2]
            bx, by, bz = points[place[t, 2], 0] - ax, points[place[t, 2], 1] - ay, points[place[t, 2], 2] - az
            ax, ay, az = points[place[t, 1], 0] - ax, points[place[t, 1], 1] - ay, points[place[t, 1], 2] - az
            length = sqrt(ax * ax + ay * ay + az * az)
            rise = sqrt(bx * bx + by * by + bz * bz)
            if length < least * rise or length <= 0.0:
                length = fmax(least * rise, least)
                rest[t, 0], rest[t, 1], rest[t, 2] = length, 0.0, fmax(rise, length)
                continue
            along = (ax * bx + ay * by + az * bz) / length
            rest[t, 0], rest[t, 1] = length, along
            rest[t, 2] = fmax(sqrt(fmax(rise * rise - along * along, 0.0)), least * fmax(length, rise))


cpdef void conformal_weights(const double[:, ::1] rest, double[:, :, ::1] real, double[:, :, ::1] imaginary) noexcept:
    """What each pair of corners of a triangle adds to the matrix of least squares conformal maps, (T, 3, 3)."""
    cdef double area
    cdef double[3] x, y
    cdef int64_t i, j, t
    with nogil:
        for t in range(len(rest)):
            area = rest[t, 0] * rest[t, 2]
            x[0], y[0] = rest[t, 1] - rest[t, 0], rest[t, 2]
            x[1], y[1] = -rest[t, 1], -rest[t, 2]
            x[2], y[2] = rest[t, 0], 0.0
            for i in range(3):
                for j in range(3):
                    real[t, i, j] = (x[i] * x[j] + y[i] * y[j]) / area
                    imaginary[t, i, j] = (x[i] * y[j] - y[i] * x[j]) / area


cdef inline double _energy(
    double x1, double x2, double y2, const double[:, ::1] uv, int32_t p, int32_t q, int32_t r, double *jacobian
) noexcept nogil:
    """The symmetric Dirichlet energy of a triangle for its area, 4 where it keeps its shape and size.

    Infinite where it is flipped. J. Smith and S. Schaefer (2015), Bijective parameterization with free boundaries.
    """
    cdef double a, b, c, d, det
    a, c = (uv[q, 0] - uv[p, 0]) / x1, (uv[q, 1] - uv[p, 1]) / x1
    b = (uv[r, 0] - uv[p, 0] - a * x2) / y2
    d = (uv[r, 1] - uv[p, 1] - c * x2) / y2
    jacobian[0], jacobian[1], jacobian[2], jacobian[3] = a, b, c, d
    det = a * d - b * c
    if not det > 1e-12:
        return INFINITY
    return (a * a + b * b + c * c + d * d) * (1.0 + 1.0 / (det * det))


cpdef void energies(
    const int32_t[:, ::1] corners, const double[:, ::1] rest, const int32_t[::1] chart, const double[:, ::1] uv,
    double[::1] total
) noexcept:
    """Adds up the energy of each chart, times area."""
    cdef double[4] jacobian
    cdef int64_t t
    with nogil:
        for t in range(len(corners)):
            total[chart[t]] += 0.5 * rest[t, 0] * rest[t, 2] * _energy(
                rest[t, 0], rest[t, 1], rest[t, 2], uv, corners[t, 0], corners[t, 1], corners[t, 2], jacobian
            )


cpdef void gradients(
    const int32_t[:, ::1] corners, const double[:, ::1] rest, const double[:, ::1] uv, double[:, ::1] slope
) noexcept:
    """Adds up how the energy grows with each coordinate of each vertex."""
    cdef double a, area, b, c, d, det, fall, size, x1, x2, y2
    cdef double[4] jacobian
    cdef double ga, gb, gc, gd
    cdef int32_t p, q, r
    cdef int64_t t
    with nogil:
        for t in range(len(corners)):
            p, q, r = corners[t, 0], corners[t, 1], corners[t, 2]
            x1, x2, y2 = rest[t, 0], rest[t, 1], rest[t, 2]
            if _energy(x1, x2, y2, uv, p, q, r, jacobian) == INFINITY:
                continue
            a, b, c, d = jacobian[0], jacobian[1], jacobian[2], jacobian[3]
            det = a * d - b * c
            size = a * a + b * b + c * c + d * d
            fall = -2.0 * size / (det * det * det)
            det = 2.0 * (1.0 + 1.0 / (det * det))
            area = 0.5 * x1 * y2
            ga, gb = area * (det * a + fall * d), area * (det * b - fall * c)
            gc, gd = area * (det * c - fall * b), area * (det * d + fall * a)
            # Through b and d, the second corner counts as well.
            ga, gc = ga - gb * x2 / y2, gc - gd * x2 / y2
            slope[q, 0] += ga / x1
            slope[q, 1] += gc / x1
            slope[r, 0] += gb / y2
            slope[r, 1] += gd / y2
            slope[p, 0] -= ga / x1 + gb / y2
            slope[p, 1] -= gc / x1 + gd / y2


cpdef void longest_steps(
    const int32_t[:, ::1] corners, const int32_t[::1] chart, const double[:, ::1] uv, const double[:, ::1] way,
    double[::1] longest
) noexcept:
    """The largest share of a way that each chart can go before one of its triangles has no area."""
    cdef double a, ax, ay, b, bx, by, c, cx, cy, dx, dy, root, step
    cdef int32_t p, q, r
    cdef int64_t t
    with nogil:
        for t in range(len(corners)):
            p, q, r = corners[t, 0], corners[t, 1], corners[t, 2]
            ax, ay = uv[q, 0] - uv[p, 0], uv[q, 1] - uv[p, 1]
            bx, by = uv[r, 0] - uv[p, 0], uv[r, 1] - uv[p, 1]
            cx, cy = way[q, 0] - way[p, 0], way[q, 1] - way[p, 1]
            dx, dy = way[r, 0] - way[p, 0], way[r, 1] - way[p, 1]
            a, b, c = cx * dy - cy * dx, ax * dy - ay * dx + cx * by - cy * bx, ax * by - ay * bx
            # The least positive root of a s^2 + b s + c, as c is above 0.
            step = INFINITY
            if fabs(a) < 1e-300:
                if b < 0.0:
                    step = -c / b
            else:
                root = b * b - 4 * a * c
                if root >= 0.0:
                    root = sqrt(root)
                    # Written so that nothing cancels.
                    if b < 0.0:
                        step = 2 * c / (root - b)
                    elif a < 0.0:
                        step = -(b + root) / (2 * a)
            if step < longest[chart[t]]:
                longest[chart[t]] = step


cpdef void measure(
    const int32_t[:, ::1] corners, const double[:, ::1] rest, const double[:, ::1] uv, double[::1] stretch,
    double[::1] area
) noexcept:
    """Of each triangle the mean square stretch of its lengths, infinite where flipped, and its area laid out.

    P. V. Sander, J. Snyder, S. J. Gortler and H. Hoppe (2001), Texture mapping progressive meshes, equation 2.
    """
    cdef double a, b, c, d, det, size
    cdef double[4] jacobian
    cdef int64_t t
    with nogil:
        for t in range(len(corners)):
            _energy(rest[t, 0], rest[t, 1], rest[t, 2], uv, corners[t, 0], corners[t, 1], corners[t, 2], jacobian)
            a, b, c, d = jacobian[0], jacobian[1], jacobian[2], jacobian[3]
            det = a * d - b * c
            size = a * a + b * b + c * c + d * d
            # Stretch is of the way back, from the plane to the surface.
            stretch[t] = 0.5 * size / (det * det) if det > 0.0 else INFINITY
            area[t] = 0.5 * rest[t, 0] * rest[t, 2] * det


cpdef void find_crossings(
    const double[:, ::1] ends, const int32_t[::1] chart, uint8_t[::1] crossed
) noexcept:
    """Marks the charts of which two sides cross.

    ``ends`` (B, 4) are the sides, in the order of their charts and of their least x.
    """
    cdef double ax, ay, bx, by, high, low, one, other, right
    cdef int64_t i, j
    with nogil:
        for i in range(len(ends)):
            if crossed[chart[i]]:
                continue
            ax, ay, bx, by = ends[i, 0], ends[i, 1], ends[i, 2], ends[i, 3]
            right, low, high = fmax(ax, bx), fmin(ay, by), fmax(ay, by)
            for j in range(i + 1, len(ends)):
                if chart[j] != chart[i] or fmin(ends[j, 0], ends[j, 2]) > right:
                    break
                if fmin(ends[j, 1], ends[j, 3]) > high or fmax(ends[j, 1], ends[j, 3]) < low:
                    continue
                one = _turn(ax, ay, bx, by, ends[j, 0], ends[j, 1])
                other = _turn(ax, ay, bx, by, ends[j, 2], ends[j, 3])
                if not one * other < 0.0:
                    continue
                one = _turn(ends[j, 0], ends[j, 1], ends[j, 2], ends[j, 3], ax, ay)
                other = _turn(ends[j, 0], ends[j, 1], ends[j, 2], ends[j, 3], bx, by)
                if one * other < 0.0:
                    crossed[chart[i]] = 1
                    break


cdef inline double _turn(double ax, double ay, double bx, double by, double x, double y) noexcept nogil:
    return (bx - ax) * (y - ay) - (by - ay) * (x - ax)


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
