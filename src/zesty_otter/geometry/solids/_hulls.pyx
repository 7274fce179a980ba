"""Convex hulls of few points, compiled: points join one after the other, what they see is taken away.

M. Kallay (1981), "Convex hull made easy"; K. Clarkson and P. Shor (1989) order the points. Whether a result may be
trusted is looked at when it is done; where it may not, the caller asks a slower and surer way.
"""

from libc.math cimport fabs, sqrt
from libc.stdint cimport int32_t, int64_t, uint8_t


cdef inline bint _put_face(
    const double[:, ::1] points, int32_t[:, ::1] faces, double[:, ::1] planes, int32_t[:, ::1] owner, int64_t f,
    int64_t a, int64_t b, int64_t c, double least
) noexcept nogil:
    """Writes triangle ``f`` and its plane; whether it has any area."""
    cdef double ux, uy, uz, vx, vy, vz, nx, ny, nz, length
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = sqrt(nx * nx + ny * ny + nz * nz)
    if not length > least:
        return False
    planes[f, 0], planes[f, 1], planes[f, 2] = nx / length, ny / length, nz / length
    planes[f, 3] = -(planes[f, 0] * points[a, 0] + planes[f, 1] * points[a, 1] + planes[f, 2] * points[a, 2])
    planes[f, 4] = length / 2
    faces[f, 0], faces[f, 1], faces[f, 2] = <int32_t>a, <int32_t>b, <int32_t>c
    owner[a, b] = owner[b, c] = owner[c, a] = <int32_t>f
    return True


cdef inline double _above(
    const double[:, ::1] planes, int64_t f, const double[:, ::1] points, int64_t p
) noexcept nogil:
    return planes[f, 0] * points[p, 0] + planes[f, 1] * points[p, 1] + planes[f, 2] * points[p, 2] + planes[f, 3]


cdef inline int64_t _first_four(const double[:, ::1] points, int64_t[::1] four, double slack) noexcept nogil:
    """Four points that span a volume; whether there are such."""
    cdef int64_t p
    cdef double best, value, ux, uy, uz, vx, vy, vz, nx, ny, nz, length
    four[0] = four[1] = 0
    for p in range(len(points)):
        if points[p, 0] < points[four[0], 0]:
            four[0] = p
        if points[p, 0] > points[four[1], 0]:
            four[1] = p
    ux = points[four[1], 0] - points[four[0], 0]
    uy = points[four[1], 1] - points[four[0], 1]
    uz = points[four[1], 2] - points[four[0], 2]
    if not ux > slack:
        return False
    best = 0.0
    for p in range(len(points)):
        vx, vy = points[p, 0] - points[four[0], 0], points[p, 1] - points[four[0], 1]
        vz = points[p, 2] - points[four[0], 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        value = nx * nx + ny * ny + nz * nz
        if value > best:
            best, four[2] = value, p
    if not best > slack * slack:
        return False
    vx = points[four[2], 0] - points[four[0], 0]
    vy = points[four[2], 1] - points[four[0], 1]
    vz = points[four[2], 2] - points[four[0], 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    length = sqrt(nx * nx + ny * ny + nz * nz)
    best = 0.0
    for p in range(len(points)):
        value = fabs(
            (points[p, 0] - points[four[0], 0]) * nx + (points[p, 1] - points[four[0], 1]) * ny
            + (points[p, 2] - points[four[0], 2]) * nz
        ) / length
        if value > best:
            best, four[3] = value, p
    if not best > slack:
        return False
    value = (
        (points[four[3], 0] - points[four[0], 0]) * nx + (points[four[3], 1] - points[four[0], 1]) * ny
        + (points[four[3], 2] - points[four[0], 2]) * nz
    )
    if value > 0.0:
        four[1], four[2] = four[2], four[1]
    return True


cdef inline void _share_planes(
    const double[:, ::1] points, const int32_t[:, ::1] faces, double[:, ::1] planes, const int32_t[:, ::1] owner,
    uint8_t[::1] done, int32_t[:, ::1] stack, int64_t count, double slack
) noexcept nogil:
    """Gives triangles on one plane the very same one: that of the largest, since those of slivers are crooked."""
    cdef int64_t a, b, depth, f, g, k, seed
    cdef bint flat
    for f in range(count):
        done[f] = 0
    while True:
        seed = -1
        for f in range(count):
            if not done[f] and (seed < 0 or planes[f, 4] > planes[seed, 4]):
                seed = f
        if seed < 0:
            return
        done[seed] = 1
        stack[0, 0] = <int32_t>seed
        depth = 1
        while depth > 0:
            depth -= 1
            f = stack[depth, 0]
            for k in range(3):
                a, b = faces[f, k], faces[f, (k + 1) % 3]
                g = owner[b, a]
                if done[g]:
                    continue
                flat = True
                for a in range(3):
                    flat = flat and fabs(_above(planes, seed, points, faces[g, a])) <= slack
                if flat:
                    done[g] = 1
                    for a in range(4):
                        planes[g, a] = planes[seed, a]
                    stack[depth, 0] = <int32_t>g
                    depth += 1


cpdef int64_t hull(
    const double[:, ::1] points, const int64_t[::1] order, double slack, int32_t[:, ::1] faces, double[:, ::1] planes,
    int32_t[:, ::1] owner, uint8_t[::1] seen, int32_t[:, ::1] rim, int64_t[::1] four
) noexcept:
    """The triangles of the hull of points (P, 3) of a size of about one, outward; -1 where it cannot be trusted.

    Points join in ``order``; what lies less than ``slack`` in front of a face is taken to be on it. ``faces`` (F, 3)
    and ``planes`` (F, 5), with the area last, are filled from the start; ``owner`` (P, P) gets the face each edge is
    of, ``seen`` (F,), ``rim`` (F, 2) and ``four`` (4,) are room. Invariant: the living faces are a closed surface, and
    every edge of them is owned by one.
    """
    cdef int64_t a, b, c, count, edges, f, free, g, k, n, p, used
    cdef bint any_seen
    with nogil:
        if not _first_four(points, four, slack):
            return -1
        count = 4
        a, b, c, p = four[0], four[1], four[2], four[3]
        if not (
            _put_face(points, faces, planes, owner, 0, a, b, c, slack * slack)
            and _put_face(points, faces, planes, owner, 1, a, p, b, slack * slack)
            and _put_face(points, faces, planes, owner, 2, b, p, c, slack * slack)
            and _put_face(points, faces, planes, owner, 3, c, p, a, slack * slack)
        ):
            return -1
        for n in range(len(order)):
            p = order[n]
            any_seen = False
            for f in range(count):
                seen[f] = _above(planes, f, points, p) > slack
                any_seen = any_seen or seen[f]
            if not any_seen:
                continue
            edges = 0
            for f in range(count):
                if not seen[f]:
                    continue
                for k in range(3):
                    a, b = faces[f, k], faces[f, (k + 1) % 3]
                    g = owner[b, a]
                    if g < 0 or g >= count:
                        return -1  # the surface is torn: two planes that nearly are one saw different halves of it
                    if not seen[g]:
                        if edges >= len(rim):
                            return -1
                        rim[edges, 0], rim[edges, 1] = <int32_t>a, <int32_t>b
                        edges += 1
            # What is seen makes room for the new faces; holes that are left are filled from the end.
            free = 0
            for k in range(edges):
                while free < count and not seen[free]:
                    free += 1
                if free >= len(faces):
                    return -1
                a, b = rim[k, 0], rim[k, 1]
                if not _put_face(points, faces, planes, owner, free, a, b, p, slack * slack):
                    return -1
                if free < count:
                    seen[free] = False
                else:
                    seen[free] = False
                    count += 1
                free += 1
            f = 0
            while f < count:
                if not seen[f]:
                    f += 1
                    continue
                count -= 1
                if f == count or seen[count]:
                    # The last one goes as well, or is the hole.
                    continue
                a, b, c = faces[count, 0], faces[count, 1], faces[count, 2]
                faces[f, 0], faces[f, 1], faces[f, 2] = <int32_t>a, <int32_t>b, <int32_t>c
                for k in range(5):
                    planes[f, k] = planes[count, k]
                owner[a, b] = owner[b, c] = owner[c, a] = <int32_t>f
                seen[f] = False
        # Sound when every edge has its other side, the surface is one ball, and no point is in front of it.
        for f in range(count):
            for k in range(3):
                a, b = faces[f, k], faces[f, (k + 1) % 3]
                g = owner[b, a]
                if g < 0 or g >= count or owner[a, b] != f:
                    return -1
                if not ((faces[g, 0] == b and faces[g, 1] == a) or (faces[g, 1] == b and faces[g, 2] == a)
                        or (faces[g, 2] == b and faces[g, 0] == a)):
                    return -1
        used = 0
        for p in range(len(points)):
            for f in range(count):
                if _above(planes, f, points, p) > 8 * slack:
                    return -1
        for f in range(count):
            for k in range(3):
                seen[faces[f, k]] = 2
        for p in range(len(points)):
            used += seen[p] == 2
        if count != 2 * used - 4:
            return -1
        _share_planes(points, faces, planes, owner, seen, rim, count, 10 * slack)
        return count
