"""Faces of an OBJ file, written into bytes by compiled code."""

from libc.stdint cimport uint8_t, int32_t, int64_t
from zesty_otter.formats._digits cimport put_integer


cpdef (int64_t, int64_t) put_faces(
    const int32_t[::1] face_start, const int32_t[:, ::1] columns, const int64_t[::1] base,
    const int32_t[:, ::1] statement, int32_t[::1] current, const uint8_t[::1] text, const int64_t[::1] text_start,
    int64_t first, uint8_t[::1] out
) noexcept:
    """Writes face statements until the buffer is nearly full; returns the next face and the bytes written.

    ``columns`` (3, C) are the rows of points, UVs and normals at the corners, -1 for none; ``base`` what is
    added to each. ``statement`` (F, S) are numbers of statements in ``text`` that must stand before a face,
    written when one differs from what ``current`` (S,) says was written last.
    """
    cdef int32_t corner, normal, one, uv
    cdef int64_t at, c, face, k, need
    with nogil:
        at = 0
        face = first
        while face < len(face_start) - 1:
            need = 34 * (face_start[face + 1] - face_start[face]) + 3
            for k in range(statement.shape[1]):
                one = statement[face, k]
                need += text_start[one + 1] - text_start[one]
            if at + need > len(out):
                break
            for k in range(statement.shape[1]):
                one = statement[face, k]
                if one != current[k]:
                    current[k] = one
                    for c in range(text_start[one], text_start[one + 1]):
                        out[at] = text[c]
                        at += 1
            out[at] = 102
            at += 1
            for corner in range(face_start[face], face_start[face + 1]):
                out[at] = 32
                at = put_integer(columns[0, corner] + base[0], out, at + 1)
                uv, normal = columns[1, corner], columns[2, corner]
                if uv >= 0 or normal >= 0:
                    out[at] = 47
                    at += 1
                    if uv >= 0:
                        at = put_integer(uv + base[1], out, at)
                    if normal >= 0:
                        out[at] = 47
                        at = put_integer(normal + base[2], out, at + 1)
            out[at] = 10
            at += 1
            face += 1
        return face, at
