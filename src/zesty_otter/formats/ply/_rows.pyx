"""Rows of a PLY element that hold lists, found by compiled code."""

from libc.stdint cimport int8_t, uint8_t, int16_t, uint16_t, int32_t, uint32_t, int64_t


cdef inline int64_t _count_at(const uint8_t[::1] data, int64_t at, int64_t size, bint little) noexcept nogil:
    cdef int64_t k, value
    value = 0
    for k in range(size):
        value = value * 256 + data[at + size - 1 - k if little else at + k]
    return value


cpdef (int64_t, int64_t) walk_rows(
    const uint8_t[::1] data, int64_t at, int64_t stop, const uint8_t[::1] is_list, const int64_t[::1] count_size,
    const int64_t[::1] item_size, bint little, int64_t[:, ::1] starts, int64_t[:, ::1] counts
) noexcept:
    """Where each list of each row begins, and how long it is; returns the whole rows and where they end.

    ``is_list``, ``count_size`` and ``item_size`` are of each property; ``starts`` and ``counts`` are
    (rows, lists).
    """
    cdef int64_t count, here, one, p, row
    with nogil:
        for row in range(len(starts)):
            here = at
            one = 0
            for p in range(len(is_list)):
                if not is_list[p]:
                    here += item_size[p]
                    continue
                if here + count_size[p] > stop:
                    return row, at
                count = _count_at(data, here, count_size[p], little)
                here += count_size[p]
                if count < 0 or count > (stop - here) // item_size[p]:
                    return row, at
                starts[row, one] = here
                counts[row, one] = count
                here += count * item_size[p]
                one += 1
            if here > stop:
                return row, at
            at = here
        return len(starts), at


ctypedef fused real:
    float
    double

ctypedef fused target:
    float
    double

ctypedef fused whole:
    int8_t
    uint8_t
    int16_t
    uint16_t
    int32_t
    uint32_t


def take_columns(object table, object out):
    """The columns of a table, which need not be aligned; returns whether all of them are finite numbers.

    Both hold 32-bit or 64-bit numbers, be it the same or not.
    """
    if table.itemsize == 4:
        return _take_columns[float, float](table, out) if out.itemsize == 4 else _take_columns[float, double](table, out)
    return _take_columns[double, float](table, out) if out.itemsize == 4 else _take_columns[double, double](table, out)


cdef bint _take_columns(const real[:, :] table, target[:, ::1] out) noexcept:
    cdef double a, b, c
    cdef int64_t k, row
    with nogil:
        # A number by nothing is zero when it is finite and NaN when not.
        a = b = c = 0.0
        if out.shape[1] == 3:  # the usual widths once more, so that nothing waits for the sum before
            for row in range(len(out)):
                out[row, 0], out[row, 1], out[row, 2] = table[row, 0], table[row, 1], table[row, 2]
                a += out[row, 0] * 0
                b += out[row, 1] * 0
                c += out[row, 2] * 0
        elif out.shape[1] == 2:
            for row in range(len(out)):
                out[row, 0], out[row, 1] = table[row, 0], table[row, 1]
                a += out[row, 0] * 0
                b += out[row, 1] * 0
        else:
            for row in range(len(out)):
                for k in range(out.shape[1]):
                    out[row, k] = table[row, k]
                    a += out[row, k] * 0
    return a + b + c == 0


def take_even_lists(const uint8_t[:, :] counts, object table, object out):
    """Lists of a known length below 64; returns the rows before the first of another, and the extremes of theirs.

    ``counts`` (R, b), the bytes of each count with the lowest first, and ``table`` (R, length) lie beside each other
    in the file and need not be aligned. The values are whole numbers of 8 to 32 bits.
    """
    kind = table.dtype.str[1:]
    if kind == "i4":
        return _take_even_lists[int32_t](counts, table, out)
    if kind == "u4":
        return _take_even_lists[uint32_t](counts, table, out)
    if kind == "i2":
        return _take_even_lists[int16_t](counts, table, out)
    if kind == "u2":
        return _take_even_lists[uint16_t](counts, table, out)
    return _take_even_lists[int8_t](counts, table, out) if kind == "i1" else _take_even_lists[uint8_t](counts, table, out)


cdef tuple _take_even_lists(const uint8_t[:, :] counts, const whole[:, :] table, whole[:, ::1] out):
    cdef int64_t k, length, row, rows
    cdef whole high, low, value
    cdef bint even
    with nogil:
        low, high = table[0, 0], table[0, 0]
        length = table.shape[1]
        rows = len(out)
        for row in range(len(out)):
            even = counts[row, 0] == length
            for k in range(1, counts.shape[1]):
                even = even and counts[row, k] == 0
            if not even:
                rows = row
                break
            if length == 3:
                for k in range(3):
                    value = table[row, k]
                    out[row, k] = value
                    low, high = min(low, value), max(high, value)
            else:
                for k in range(length):
                    value = table[row, k]
                    out[row, k] = value
                    low, high = min(low, value), max(high, value)
    return rows, low, high


cpdef int64_t take_lists(
    const uint8_t[::1] data, const int64_t[::1] starts, const int64_t[::1] counts, int64_t item_size,
    uint8_t[::1] out
) noexcept:
    """The bytes of lists, one after the other."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(len(starts)):
            for k in range(starts[row], starts[row] + counts[row] * item_size):
                out[at] = data[k]
                at += 1
        return at


cpdef (int64_t, int64_t) walk_words(
    const double[::1] words, const uint8_t[::1] is_list, int64_t[:, ::1] starts, int64_t[:, ::1] counts
) noexcept:
    """As `walk_rows`, over numbers that were read from text; returns the whole rows and the numbers in them."""
    cdef double count
    cdef int64_t at, here, one, p, row
    with nogil:
        at = 0
        for row in range(len(starts)):
            here = at
            one = 0
            for p in range(len(is_list)):
                if here >= len(words):
                    return row, at
                if not is_list[p]:
                    here += 1
                    continue
                count = words[here]
                here += 1
                if not 0 <= count <= len(words) - here:
                    return row, at
                starts[row, one] = here
                counts[row, one] = <int64_t>count
                here += <int64_t>count
                one += 1
            if here > len(words):
                return row, at
            at = here
        return len(starts), at
