"""Numbers in the attributes of XML elements, read and written by compiled code."""

from libc.stdint cimport int64_t, uint8_t
from libc.string cimport memcpy


from zesty_otter.formats._numbers cimport read_float

cdef enum:
    _QUOTE = 34
    _APOSTROPHE = 39
    _SLASH = 47
    _BEGIN = 60
    _EQUALS = 61


cdef inline bint _begins_element(const uint8_t[::1] data, int64_t at, int64_t stop) noexcept nogil:
    return data[at] == _BEGIN and at + 1 < stop and data[at + 1] != _SLASH and data[at + 1] != 33 and data[at + 1] != 63


cdef inline int64_t _comment_end(const uint8_t[::1] data, int64_t at, int64_t stop) noexcept nogil:
    """Behind a comment that begins here; here, where none does."""
    cdef int64_t k
    if at + 4 > stop or data[at] != _BEGIN or data[at + 1] != 33 or data[at + 2] != 45 or data[at + 3] != 45:
        return at
    for k in range(at + 4, stop - 2):
        if data[k] == 45 and data[k + 1] == 45 and data[k + 2] == 62:
            return k + 3
    return stop


cpdef int64_t count_elements(const uint8_t[::1] data, int64_t at, int64_t stop) noexcept:
    """How many elements begin in data[at:stop], those in comments left out."""
    cdef int64_t after, count = 0
    with nogil:
        while at < stop:
            after = _comment_end(data, at, stop)
            if after > at:
                at = after
                continue
            count += _begins_element(data, at, stop)
            at += 1
    return count


cpdef void read_attributes(
    const uint8_t[::1] data, int64_t at, int64_t stop, const uint8_t[::1] names, const int64_t[::1] name_start,
    double[:, ::1] out
) noexcept:
    """Rows of what each element of data[at:stop] says; what it does not say, or not in a number, stays.

    The attribute of column k is called names[name_start[k]:name_start[k + 1]].
    """
    cdef bint found
    cdef double value
    cdef int64_t after, column, end, first, k, last, name_end, name_first, row = -1
    cdef uint8_t mark
    with nogil:
        while at < stop:
            after = _comment_end(data, at, stop)
            if after > at:
                at = after
                continue
            mark = data[at]
            if mark != _QUOTE and mark != _APOSTROPHE:
                row += _begins_element(data, at, stop)
                at += 1
                continue
            first = at + 1
            last = first
            while last < stop and data[last] != mark:
                last += 1
            # The name stands before the equals sign, with a blank before it.
            name_end = at
            while name_end > 0 and data[name_end - 1] <= 32:
                name_end -= 1
            at = last + 1
            if row < 0 or row >= len(out) or name_end == 0 or data[name_end - 1] != _EQUALS:
                continue
            name_end -= 1
            while name_end > 0 and data[name_end - 1] <= 32:
                name_end -= 1
            name_first = name_end
            while name_first > 0 and data[name_first - 1] > 32 and data[name_first - 1] != _BEGIN:
                name_first -= 1
            for column in range(len(name_start) - 1):
                if name_start[column + 1] - name_start[column] != name_end - name_first:
                    continue
                found = True
                for k in range(name_end - name_first):
                    if names[name_start[column] + k] != data[name_first + k]:
                        found = False
                        break
                if not found:
                    continue
                while first < last and data[first] <= 32:
                    first += 1
                while last > first and data[last - 1] <= 32:
                    last -= 1
                if first < last:
                    value, end, found = read_float(&data[0], first, last)
                    if found and end == last:
                        out[row, column] = value
                break


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
