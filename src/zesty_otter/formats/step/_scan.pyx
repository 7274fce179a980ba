"""The exchange structure of ISO 10303-21 as rows of tokens."""

from libc.stdint cimport int32_t, int64_t, uint8_t, uint64_t
from libc.string cimport memcpy
from zesty_otter.formats._numbers cimport read_float

cdef int64_t _LARGE = 1 << 55

cdef enum:
    _OPEN = 0
    _CLOSE = 1
    _REFERENCE = 2
    _INTEGER = 3
    _REAL = 4
    _TEXT = 5
    _WORD = 6
    _NOTHING = 7
    _DERIVED = 8
    _KEYWORD = 9
    _BINARY = 10


cdef inline bint _is_letter(uint8_t c) noexcept nogil:
    return <uint8_t> ((c | 32) - 97) <= 25 or c == 95 or c == 33 or c == 45


cdef inline bint _is_digit(uint8_t c) noexcept nogil:
    return <uint8_t> (c - 48) <= 9


cdef inline int64_t _after_space(const uint8_t *data, int64_t at, int64_t stop) noexcept nogil:
    # Behind spaces and comments.
    while at < stop:
        if data[at] <= 32:
            at += 1
        elif data[at] == 47 and at + 1 < stop and data[at + 1] == 42:
            at += 2
            while at + 1 < stop and not (data[at] == 42 and data[at + 1] == 47):
                at += 1
            at = at + 2 if at + 2 < stop else stop
        else:
            return at
    return stop


cpdef int64_t scan(
    const uint8_t[::1] text, int64_t at, int64_t[::1] number, int64_t[::1] first, uint8_t[::1] kind,
    int64_t[::1] start, int32_t[::1] size, int64_t[::1] value, int64_t[::1] counts
) noexcept:
    """Reads instances from a place on; returns where it ends: at ENDSEC, at the end, or where it cannot go on.

    ``number`` and ``first`` get a row for each instance: its number, and its first token. Tokens have a kind, where
    their text starts, its size, and a value: the number referred to, a whole number, the bits of a real one, the hash of
    a keyword, or for brackets the token of the other one. ``counts`` gets the numbers of instances and tokens and whether
    it ended in the middle of an instance. Instances that are broken are left out, and end at their semicolon.
    """
    cdef const uint8_t *data = &text[0]
    cdef int64_t stop = len(text), rows = 0, tokens = 0, most = len(kind), most_rows = len(number), begun, held, name
    cdef int64_t whole, opened
    cdef int32_t depth
    cdef uint64_t h
    cdef uint8_t c
    cdef double real
    cdef bint broken, negative
    cdef int64_t[128] stack
    with nogil:
        counts[2] = 0
        while True:
            at = _after_space(data, at, stop)
            if at >= stop or data[at] != 35:
                break
            begun = at
            held = tokens
            at += 1
            name = 0
            while at < stop and _is_digit(data[at]):
                if name < _LARGE:
                    name = name * 10 + <int64_t> data[at] - 48
                at += 1
            at = _after_space(data, at, stop)
            broken = at >= stop or data[at] != 61
            at += not broken
            depth = 0
            while True:
                at = _after_space(data, at, stop)
                if at >= stop or tokens >= most:
                    broken = True
                    counts[2] = 1
                    break
                c = data[at]
                opened = at
                if c == 59:
                    at += 1
                    broken = broken or depth != 0
                    break
                if c == 44:
                    at += 1
                    continue
                if c == 40:
                    if depth >= 128:
                        broken = True
                        at += 1
                        continue
                    kind[tokens] = _OPEN
                    stack[depth] = tokens
                    depth += 1
                    at += 1
                elif c == 41:
                    at += 1
                    if depth == 0:
                        broken = True
                        continue
                    depth -= 1
                    kind[tokens] = _CLOSE
                    value[tokens] = stack[depth]
                    value[stack[depth]] = tokens
                    start[tokens] = opened
                    size[tokens] = 1
                    tokens += 1
                    continue
                elif c == 35:
                    at += 1
                    whole = 0
                    while at < stop and _is_digit(data[at]):
                        if whole < _LARGE:
                            whole = whole * 10 + <int64_t> data[at] - 48
                        at += 1
                    kind[tokens] = _REFERENCE
                    value[tokens] = whole
                elif c == 39:
                    at += 1
                    while at < stop:
                        if data[at] == 39:
                            if at + 1 < stop and data[at + 1] == 39:
                                at += 1
                            else:
                                break
                        at += 1
                    if at >= stop:
                        broken = True
                        counts[2] = 1
                        break
                    at += 1
                    kind[tokens] = _TEXT
                elif c == 34:
                    at += 1
                    while at < stop and data[at] != 34:
                        at += 1
                    at += at < stop
                    kind[tokens] = _BINARY
                elif c == 36:
                    kind[tokens] = _NOTHING
                    at += 1
                elif c == 42:
                    kind[tokens] = _DERIVED
                    at += 1
                elif c == 46 and at + 1 < stop and not _is_digit(data[at + 1]):
                    at += 1
                    while at < stop and data[at] != 46 and data[at] != 59 and data[at] != 41:
                        at += 1
                    if at < stop and data[at] == 46:
                        at += 1
                    kind[tokens] = _WORD
                elif _is_digit(c) or c == 43 or c == 45 or c == 46:
                    negative = c == 45
                    at += c == 43 or c == 45
                    whole = 0
                    while at < stop and _is_digit(data[at]):
                        if whole < _LARGE:
                            whole = whole * 10 + <int64_t> data[at] - 48
                        at += 1
                    if at < stop and (data[at] == 46 or (data[at] | 32) == 101):
                        # A point may end a number here, which others want a digit behind.
                        real, at = _real(data, opened, stop)
                        kind[tokens] = _REAL
                        memcpy(&value[tokens], &real, 8)
                    else:
                        kind[tokens] = _INTEGER
                        value[tokens] = -whole if negative else whole
                    if at == opened:
                        broken = True
                        at += 1
                        continue
                elif _is_letter(c):
                    h = <uint64_t> 0xCBF29CE484222325
                    while at < stop and (_is_letter(data[at]) or _is_digit(data[at])):
                        c = data[at]
                        c = c - 32 if 97 <= c <= 122 else c
                        h = (h ^ c) * <uint64_t> 0x100000001B3
                        at += 1
                    kind[tokens] = _KEYWORD
                    value[tokens] = <int64_t> h
                else:
                    broken = True
                    at += 1
                    continue
                start[tokens] = opened
                size[tokens] = <int32_t> (at - opened) if at - opened < 0x7FFFFFFF else 0x7FFFFFFF
                tokens += 1
            if broken or rows >= most_rows:
                tokens = held
                counts[3] += 1
                if counts[2]:
                    at = begun
                    break
                continue
            number[rows] = name
            first[rows] = held
            rows += 1
        first[rows] = tokens
        counts[0] = rows
        counts[1] = tokens
        return at


cdef (double, int64_t) _real(const uint8_t *data, int64_t at, int64_t stop) noexcept nogil:
    cdef double real
    cdef int64_t end
    cdef bint good
    real, end, good = read_float(data, at, stop)
    if not good:
        return 0.0, at
    return real, end


cpdef void count(const uint8_t[::1] text, int64_t at, int64_t[::1] counts) noexcept:
    """At least as many instances and tokens as there are from a place on."""
    cdef const uint8_t *data = &text[0]
    cdef int64_t stop = len(text), instances = 1, tokens = 1
    cdef uint8_t c
    with nogil:
        while at < stop:
            c = data[at]
            # Every token stands before or behind one of these.
            if c == 44 or c == 40 or c == 41:
                tokens += 2
            elif c == 59:
                instances += 1
                tokens += 2
            elif c == 61:
                tokens += 2
            at += 1
        counts[0], counts[1] = instances, tokens
