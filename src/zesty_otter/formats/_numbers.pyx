"""Numbers in text, read and written as bytes by compiled code.

Read exact to the last bit up to 18 digits: D. Lemire (2021), Number parsing at a gigabyte per second. Software: Practice
and Experience 51(8); W. D. Clinger (1990), How to read floating point numbers accurately. PLDI. Written as the shortest
decimals that read back as the same number: G. L. Steele and J. L. White (1990), How to print floating-point numbers
accurately. PLDI. Here for 32-bit numbers only, whose neighbours 64-bit arithmetic tells apart with bits to spare.
"""

from libc.math cimport INFINITY, NAN, frexp, ldexp, pow
from libc.stdint cimport int32_t, int64_t, uint64_t, uint8_t


WIDEST = 16
"""The most bytes a number takes, with a blank before it."""

# Powers of ten: the leading bits of those numbers are read with, and those that are exact.
cdef enum:
    _LOWEST = -342
    _HIGHEST = 308

cdef uint64_t[651] _HIGH
cdef uint64_t[651] _LOW
cdef double[23] _EXACT

# Those that 32-bit numbers are written with.
cdef enum:
    _LEAST = -60

cdef double[121] _POWERS
cdef int64_t[10] _WHOLE
cdef double[10] _PARTS


def _fill_tables():
    # The leading 128 bits of 5**q, rounded down for q >= 0 and up for q < 0 (Lemire 2021, section 5).
    for q in range(_LOWEST, _HIGHEST + 1):
        power = 5 ** abs(q)
        if q >= 0:
            shift = power.bit_length() - 128
            bits = power >> shift if shift >= 0 else power << -shift
        else:
            bits = (1 << (power.bit_length() + 127)) // power + 1
            bits >>= max(0, bits.bit_length() - 128)
        _HIGH[q - _LOWEST] = bits >> 64
        _LOW[q - _LOWEST] = bits & (2**64 - 1)
    for n in range(23):
        _EXACT[n] = 10.0**n
    for n in range(121):
        _POWERS[n] = float(f"1e{n + _LEAST}")
    for n in range(10):
        _WHOLE[n], _PARTS[n] = 10**n, 10.0**-n


_fill_tables()


cdef inline uint64_t _product_high(uint64_t a, uint64_t b) noexcept nogil:
    # High 64 bits of a 64 x 64 bit product.
    cdef uint64_t a0, a1, b0, b1, half, mask, middle, p00, p01, p10, p11
    mask, half = 0xFFFFFFFF, 32
    a0, a1, b0, b1 = a & mask, a >> half, b & mask, b >> half
    p00, p01, p10, p11 = a0 * b0, a0 * b1, a1 * b0, a1 * b1
    middle = (p00 >> half) + (p01 & mask) + (p10 & mask)
    return p11 + (p01 >> half) + (p10 >> half) + (middle >> half)


cdef double scaled(int64_t digits, int64_t exponent) noexcept nogil:
    """The double nearest to digits * 10**exponent, for 0 <= digits < 10**18."""
    cdef bint halfway
    cdef int64_t power, upper, zeros
    cdef uint64_t high, low, low_sum, mantissa, second, shift, w
    if digits < (<int64_t>1 << 53) and -22 <= exponent <= 22:
        if exponent < 0:
            return <double>digits / _EXACT[-exponent]
        return <double>digits * _EXACT[exponent]
    if digits == 0 or exponent < _LOWEST:
        return 0.0
    if exponent > _HIGHEST:
        return INFINITY
    w = <uint64_t>digits
    zeros = 0
    while not (w & <uint64_t>0x8000000000000000):
        w = w << 1
        zeros += 1
    high = _product_high(w, _HIGH[exponent - _LOWEST])
    low = w * _HIGH[exponent - _LOWEST]
    if (high & 0x1FF) == 0x1FF:
        second = _product_high(w, _LOW[exponent - _LOWEST])
        low_sum = low + second
        if low_sum < low:
            high += 1
        low = low_sum
    upper = <int64_t>(high >> 63)
    shift = <uint64_t>(upper + 9)
    mantissa = high >> shift
    power = ((217706 * exponent) >> 16) + 63 + upper - zeros
    if power < -1022:
        return <double>digits * 1e-150 * pow(10.0, exponent + 150)  # subnormal: the last bit may be off
    halfway = low <= 1 and -4 <= exponent <= 23 and (mantissa << shift) == high
    if halfway and (mantissa & 3) == 1:
        mantissa = mantissa & ~<uint64_t>1
    mantissa = (mantissa + (mantissa & 1)) >> 1
    if power > 1023:
        return INFINITY
    return ldexp(<double>mantissa, power - 52)


cdef (double, int64_t, bint) read_float(const uint8_t* data, int64_t at, int64_t stop) noexcept nogil:
    """The number that starts at data[at]: (value, index behind it, whether there was one).

    Any spelling that C's strtod takes in decimal is taken, with nan and inf. Digits beyond the 18th
    are dropped, which can change the last bit.
    """
    cdef bint any_digit, minus, negative
    cdef double value
    cdef int64_t d, digits, exponent, first, mark, power, seen, start
    negative = False
    if at < stop and (data[at] == 45 or data[at] == 43):
        negative = data[at] == 45
        at += 1
    start = at
    digits = 0
    exponent = 0
    seen = 0  # significant digits taken
    any_digit = False
    while at < stop:
        d = <int64_t>data[at] - 48
        if not 0 <= d <= 9:
            break
        any_digit = True
        if seen < 18:
            digits = digits * 10 + d
            if digits > 0:
                seen += 1
        else:
            exponent += 1
        at += 1
    if at < stop and data[at] == 46:
        at += 1
        while at < stop:
            d = <int64_t>data[at] - 48
            if not 0 <= d <= 9:
                break
            any_digit = True
            if seen < 18:
                digits = digits * 10 + d
                if digits > 0:
                    seen += 1
                exponent -= 1
            at += 1
    if not any_digit:
        return _read_word(data, start, stop, negative)
    if at < stop and (data[at] | 32) == 101:
        mark = at
        at += 1
        minus = False
        if at < stop and (data[at] == 45 or data[at] == 43):
            minus = data[at] == 45
            at += 1
        first = at
        power = 0
        while at < stop and 48 <= data[at] <= 57:
            if power < 100000:
                power = power * 10 + <int64_t>data[at] - 48
            at += 1
        if at == first:
            at = mark
        else:
            exponent += -power if minus else power
    value = scaled(digits, exponent)
    return (-value if negative else value), at, True


def number_at(const uint8_t[::1] data, int64_t at, int64_t stop):
    """`read_float` for callers from Python."""
    return read_float(&data[0], at, stop)


cdef inline (double, int64_t, bint) _read_word(
    const uint8_t* data, int64_t at, int64_t stop, bint negative
) noexcept nogil:
    # nan, inf and infinity in any case, as C prints them: also -nan(ind) and the like.
    cdef int64_t a, b, c
    if at + 3 <= stop:
        a, b, c = data[at] | 32, data[at + 1] | 32, data[at + 2] | 32
        if a == 110 and b == 97 and c == 110:
            return NAN, _word_end(data, at, stop), True
        if a == 105 and b == 110 and c == 102:
            return (-INFINITY if negative else INFINITY), _word_end(data, at, stop), True
    return 0.0, at, False


cdef inline bint _is_letter(uint8_t c) noexcept nogil:
    return 97 <= (c | 32) <= 122


cdef inline int64_t _word_end(const uint8_t* data, int64_t at, int64_t stop) noexcept nogil:
    """The end of letters, and of others in brackets right behind them."""
    while at < stop and _is_letter(data[at]):
        at += 1
    if at + 1 < stop and data[at] == 40 and _is_letter(data[at + 1]):
        while at < stop and data[at] > 32 and data[at] != 41:
            at += 1
        at = min(at + 1, stop)
    return at


cdef inline bint _is_blank(uint8_t c) noexcept nogil:
    """Blanks and what stands between numbers in lists: , ; ( ) [ ]."""
    return c <= 32 or c == 44 or c == 59 or c == 40 or c == 41 or c == 91 or c == 93


cpdef int64_t count_words(const uint8_t[::1] data, int64_t at, int64_t stop) noexcept:
    """How many words stand in data[at:stop]."""
    cdef bint blank, now
    cdef int64_t count, k
    with nogil:
        count = 0
        blank = True
        for k in range(at, stop):
            now = _is_blank(data[k])
            if blank and not now:
                count += 1
            blank = now
        return count


cpdef (int64_t, int64_t) read_numbers(const uint8_t[::1] data, int64_t at, int64_t stop, double[::1] out) noexcept:
    """Reads as many numbers as ``out`` holds; returns how many there were, and where reading ended.

    Words that are no numbers end it before its time.
    """
    cdef bint found
    cdef double value
    cdef int64_t count, end
    with nogil:
        count = 0
        while count < len(out):
            while at < stop and _is_blank(data[at]):
                at += 1
            if at >= stop:
                break
            value, end, found = read_float(&data[0], at, stop)
            if not found or (end < stop and not _is_blank(data[end])):
                break
            out[count] = value
            count += 1
            at = end
        return count, at


cpdef int64_t words_end(const uint8_t[::1] data, int64_t at, int64_t stop) noexcept:
    """Where the word that begins at data[at] ends."""
    with nogil:
        while at < stop and not _is_blank(data[at]):
            at += 1
        return at


cdef inline (int64_t, int64_t, bint) _read_whole(const uint8_t* data, int64_t at, int64_t stop) noexcept nogil:
    """A whole number, the largest or smallest of 32 bits where it is beyond, its end, and whether there is one."""
    cdef bint negative = data[at] == 45
    cdef int64_t k = at + 1 if negative or data[at] == 43 else at, first = k, value = 0
    while k < stop and 48 <= data[k] <= 57:
        if value < 2147483647:
            value = value * 10 + <int64_t>data[k] - 48
        k += 1
    value = min(value, 2147483647)
    return -value if negative else value, k, k > first


cpdef (int64_t, int64_t) read_whole_numbers(
    const uint8_t[::1] data, int64_t at, int64_t stop, int32_t[::1] out
) noexcept:
    """As `read_numbers`, for whole numbers; those beyond 32 bits become the largest there is."""
    cdef bint found
    cdef int64_t count, k, value
    with nogil:
        count = 0
        while count < len(out):
            while at < stop and _is_blank(data[at]):
                at += 1
            if at >= stop:
                break
            value, k, found = _read_whole(&data[0], at, stop)
            if not found or (k < stop and not _is_blank(data[k])):
                break
            out[count] = <int32_t> value
            count += 1
            at = k
        return count, at


cdef uint8_t[256] _MARKS
for _n in range(256):
    _MARKS[_n] = ",()[];".find(chr(_n)) + 1 if _n > 32 else 0
    if _n > 32 and _MARKS[_n] == 0:
        _MARKS[_n] = 255


cdef inline (int64_t, int64_t) _gap(const uint8_t* data, int64_t at, int64_t stop) noexcept nogil:
    """Passes blanks, commas and brackets; which of these there were, in order, three bits for each, and the end."""
    cdef int64_t code = 0
    cdef uint8_t mark
    while at < stop:
        mark = _MARKS[data[at]]
        if mark == 255:
            break
        if mark:
            code = code << 3 | mark
        at += 1
    return code, at


ctypedef fused listed:
    double
    int32_t


cpdef (int64_t, int64_t, bint) read_listed(
    const uint8_t[::1] data, int64_t at, int64_t stop, object out, int64_t number, const int64_t[::1] gaps,
    const int64_t[::1] groups,
):
    """As `read_numbers` and `read_whole_numbers`, of a list whose brackets and commas are looked at.

    ``number`` is how many there are before. ``gaps`` says in the way of `_gap` what stands before the first of all, behind
    the last, or there in another way, and before a number whose own number is divisible by none, by the first, or by
    both ``groups``, of which the second is a multiple of the first; and last, where there is none. Returns also whether
    all was as it should be. ``out`` is of 64-bit floats or of 32-bit whole numbers.
    """
    if out.itemsize == 8:
        return _read_listed[double](data, at, stop, out, number, gaps, groups)
    return _read_listed[int32_t](data, at, stop, out, number, gaps, groups)


cdef (int64_t, int64_t, bint) _read_listed(
    const uint8_t[::1] data, int64_t at, int64_t stop, listed[::1] out, int64_t number, const int64_t[::1] gaps,
    const int64_t[::1] groups,
) noexcept:
    cdef bint found
    cdef double value
    cdef int64_t count = 0, end, code, begin, whole, wanted, most = len(out)
    cdef int64_t first = groups[0], second = groups[1], inner = number % first, outer = number % second - inner
    cdef int64_t between = gaps[3], behind = gaps[4], beyond = gaps[5]
    cdef const uint8_t* text = &data[0]
    with nogil:
        wanted = gaps[0] if number == 0 else between if inner else behind if outer else beyond
        while True:
            begin = at
            code, at = _gap(text, at, stop)
            if at >= stop:
                if number + count == 0:
                    return count, begin, code == gaps[6]
                return count, begin, count == most and (at == begin or code == gaps[1] or code == gaps[2])
            if count >= most or code != wanted:
                return count, begin, False
            if listed is double:
                value, end, found = read_float(text, at, stop)
                if found:
                    out[count] = value
            else:
                whole, end, found = _read_whole(text, at, stop)
                out[count] = <int32_t> whole
            if not found or (end < stop and _MARKS[text[end]] == 255):
                return count, at, True
            count += 1
            at = end
            wanted = between
            inner += 1
            if inner == first:
                inner = 0
                wanted = behind
                outer += first
                if outer == second:
                    outer = 0
                    wanted = beyond


cdef uint8_t[256] _OF_LISTS
for _n in range(256):
    _OF_LISTS[_n] = chr(_n) in "0123456789 \n\r\t+,-.Ee"


cpdef int64_t find_lists(const uint8_t[::1] data, int64_t least, int64_t[:, ::1] found) noexcept:
    """Where lists of numbers stand that are at least so long, (first, behind the last); how many fit in ``found``.

    Nothing but digits, signs, points, exponents, commas and blanks is in them; every ``least`` / 2 bytes one is looked
    for, so that the rest is not read.
    """
    cdef int64_t at = 0, count = 0, first, last, step = max(least // 2, 1)
    with nogil:
        while at < len(data) and count < len(found):
            if not _OF_LISTS[data[at]]:
                at += step
                continue
            first = last = at
            while first > 0 and _OF_LISTS[data[first - 1]] and (count == 0 or first > found[count - 1, 1]):
                first -= 1
            while last + 8 <= len(data) and (
                _OF_LISTS[data[last]] & _OF_LISTS[data[last + 1]] & _OF_LISTS[data[last + 2]] & _OF_LISTS[data[last + 3]]
                & _OF_LISTS[data[last + 4]] & _OF_LISTS[data[last + 5]] & _OF_LISTS[data[last + 6]]
                & _OF_LISTS[data[last + 7]]
            ):
                last += 8
            while last < len(data) and _OF_LISTS[data[last]]:
                last += 1
            if last - first >= least:
                found[count, 0], found[count, 1] = first, last
                count += 1
            at = last + step
    return count


cdef inline int64_t put_float(float number, uint8_t[::1] out, int64_t at) noexcept nogil:
    """Writes a finite number that is exact in 32 bits; the same number is read back from what is written."""
    cdef double above, below, scale, scaled, step
    cdef float value
    cdef double mantissa
    cdef int binary = 0
    cdef int64_t count, digits, dropped, exponent, shorter
    value = number
    if value == 0.0:
        out[at] = 48
        return at + 1
    if value < 0.0:
        out[at] = 45
        at += 1
        value = -value
    mantissa = frexp(value, &binary)
    step = ldexp(1.0, max(binary - 24, -149))
    # A little less than half way to the neighbours; below a power of two that is closer.
    above = step * 0.499999
    below = above / 2 if mantissa == 0.5 and binary > -125 else above
    exponent = ((binary - 1) * 78913) >> 18  # the decimal exponent, or one less
    scale = _POWERS[8 - exponent - _LEAST]
    scaled = value * scale
    if scaled >= 1e9:
        exponent += 1
        scale = _POWERS[8 - exponent - _LEAST]
        scaled = value * scale
    above *= scale
    below *= scale
    digits = <int64_t>(scaled + 0.5)
    count = 9
    # Digits are dropped for as long as the number stays nearest.
    for dropped in range(1, 9):
        shorter = <int64_t>(scaled * _PARTS[dropped] + 0.5) * _WHOLE[dropped]
        if shorter - scaled >= above or scaled - shorter >= below:
            break
        digits, count = shorter, 9 - dropped
    if digits >= 1000000000:
        digits //= 10
        exponent += 1
    digits //= _WHOLE[9 - count]
    while digits % 10 == 0 and count > 1:
        digits //= 10
        count -= 1
    return _put_decimal(digits, count, exponent, out, at)


cdef inline int64_t _put_decimal(
    int64_t digits, int64_t count, int64_t exponent, uint8_t[::1] out, int64_t at
) noexcept nogil:
    """Writes d.ddd * 10**exponent, given ``count`` digits as a whole number."""
    cdef int64_t before, k
    cdef int64_t whole
    if 0 <= exponent < 9:
        # Digits before the point, zeros up to it, digits after it.
        before = exponent + 1
        if count <= before:
            put_digits(digits, count, out, at)
            for k in range(at + count, at + before):
                out[k] = 48
            return at + before
        whole = put_digits(digits, count - before, out, at + before + 1)
        out[at + before] = 46
        put_digits(whole, before, out, at)
        return at + count + 1
    if -4 <= exponent < 0:
        out[at] = 48
        out[at + 1] = 46
        at += 2
        for k in range(-exponent - 1):
            out[at] = 48
            at += 1
        put_digits(digits, count, out, at)
        return at + count
    return _put_power(digits, count, exponent, out, at)


cdef inline int64_t _put_power(
    int64_t digits, int64_t count, int64_t exponent, uint8_t[::1] out, int64_t at
) noexcept nogil:
    """Writes d.ddde-x."""
    cdef int64_t first
    first = put_digits(digits, count - 1, out, at + 2)
    out[at] = 48 + first
    out[at + 1] = 46
    at += 1 if count == 1 else count + 1
    out[at] = 101
    at += 1
    if exponent < 0:
        out[at] = 45
        at += 1
        exponent = -exponent
    return put_integer(exponent, out, at)


cpdef int64_t put_whole_rows(const int64_t[:, ::1] values, int64_t first, int64_t stop, uint8_t[::1] out) noexcept:
    """Writes rows of whole numbers of zero or more as lines; returns how many bytes they took."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(first, stop):
            for k in range(values.shape[1]):
                if k:
                    out[at] = 32
                    at += 1
                at = put_integer(values[row, k], out, at)
            out[at] = 10
            at += 1
        return at


cpdef (int64_t, int64_t) put_faces(
    const int64_t[::1] face_start, const int64_t[::1] values, int64_t first, uint8_t[::1] out
) noexcept:
    """Writes the numbers of faces, each face a line that ends in -1, until the buffer is nearly full.

    Returns the next face and the bytes written.
    """
    cdef int64_t at, corner, face
    with nogil:
        at = 0
        face = first
        while face < len(face_start) - 1:
            if at + 12 * (face_start[face + 1] - face_start[face]) + 4 > len(out):
                break
            for corner in range(face_start[face], face_start[face + 1]):
                at = put_integer(values[corner], out, at)
                out[at] = 32
                at += 1
            out[at] = 45
            out[at + 1] = 49
            out[at + 2] = 10
            at += 3
            face += 1
        return face, at


cpdef int64_t put_tuples(const float[:, ::1] values, int64_t first, int64_t stop, uint8_t[::1] out) noexcept:
    """Writes rows of 32-bit numbers in parentheses, each with a comma behind it; returns the bytes they took."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(first, stop):
            if values.shape[1] > 1:
                out[at] = 40
                at += 1
            for k in range(values.shape[1]):
                if k:
                    out[at] = 44
                    out[at + 1] = 32
                    at += 2
                at = put_float(values[row, k], out, at)
            if values.shape[1] > 1:
                out[at] = 41
                at += 1
            out[at] = 44
            out[at + 1] = 32
            at += 2
        return at


cpdef int64_t put_list(const int64_t[::1] values, int64_t first, int64_t stop, uint8_t[::1] out) noexcept:
    """Writes whole numbers, each with a comma behind it; returns the bytes they took."""
    cdef int64_t at, row
    with nogil:
        at = 0
        for row in range(first, stop):
            at = put_integer(values[row], out, at)
            out[at] = 44
            out[at + 1] = 32
            at += 2
        return at


cpdef int64_t put_rows(
    const uint8_t[::1] prefix, const float[:, ::1] values, int64_t first, int64_t stop, uint8_t[::1] out
) noexcept:
    """Writes rows of 32-bit numbers as lines that begin with some bytes; returns how many bytes they took."""
    cdef int64_t at, k, row
    with nogil:
        at = 0
        for row in range(first, stop):
            for k in range(len(prefix)):
                out[at] = prefix[k]
                at += 1
            for k in range(values.shape[1]):
                if k or len(prefix):
                    out[at] = 32
                    at += 1
                at = put_float(values[row, k], out, at)
            out[at] = 10
            at += 1
        return at
