"""Rows of numbers as XML elements, put together by compiled code."""

from libc.stdint cimport int64_t, uint8_t
from libc.string cimport memcpy


cpdef int64_t put_elements(
    const uint8_t[::1] lines, const uint8_t[::1] words, const int64_t[::1] word_start, uint8_t[::1] out
) noexcept:
    """An element for each line of numbers; returns how many bytes it took.

    words[word_start[0]:word_start[1]] begins each, the next ones stand in place of blanks, the last of the end of a
    line. ``out`` holds all of it.
    """
    cdef bint begun = False
    cdef int64_t at = 0, column = 0, k, size
    with nogil:
        for k in range(len(lines)):
            if not begun:
                size = word_start[1] - word_start[0]
                memcpy(&out[at], &words[word_start[0]], size)
                at += size
                begun, column = True, 0
            if lines[k] != 32 and lines[k] != 10:
                out[at] = lines[k]
                at += 1
                continue
            column = column + 1 if lines[k] == 32 else len(word_start) - 2
            size = word_start[column + 1] - word_start[column]
            memcpy(&out[at], &words[word_start[column]], size)
            at += size
            begun = lines[k] == 32
    return at
