"""Corners of the triangles of a compressed mesh: 3 t, 3 t + 1 and 3 t + 2 are those of triangle t."""

from libc.stdint cimport int32_t, uint32_t


cdef inline int32_t next_of(int32_t corner) noexcept nogil:
    return corner - 2 if <uint32_t> corner % 3 == 2 else corner + 1


cdef inline int32_t previous_of(int32_t corner) noexcept nogil:
    return corner + 2 if <uint32_t> corner % 3 == 0 else corner - 1


cdef inline int32_t left_of(const int32_t[::1] opposite, int32_t corner) noexcept nogil:
    """The next corner of the same vertex to the left, or -1."""
    cdef int32_t across = opposite[next_of(corner)]
    return -1 if across < 0 else next_of(across)


cdef inline int32_t right_of(const int32_t[::1] opposite, int32_t corner) noexcept nogil:
    cdef int32_t across = opposite[previous_of(corner)]
    return -1 if across < 0 else previous_of(across)


cdef inline int32_t around(
    const int32_t[::1] opposite, int32_t corner, int32_t first, bint* leftwards
) noexcept nogil:
    """The corner of the same vertex after this one: leftwards from the ``first``, then from it to the right; or -1."""
    if leftwards[0]:
        corner = left_of(opposite, corner)
        if corner < 0:
            leftwards[0], corner = False, first
    if not leftwards[0]:
        corner = right_of(opposite, corner)
    return -1 if corner == first else corner
