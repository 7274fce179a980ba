"""Numbers in text, read from bytes by compiled code: exact to the last bit up to 18 digits.

D. Lemire (2021), Number parsing at a gigabyte per second. Software: Practice and Experience 51(8).
W. D. Clinger (1990), How to read floating point numbers accurately. PLDI.
"""

import math

import numpy as np

from zesty_otter._compile import kernel

_LOWEST, _HIGHEST = -342, 308


def _powers_of_five():
    # The leading 128 bits of 5**q, rounded down for q >= 0 and up for q < 0 (Lemire 2021, section 5).
    high, low = [], []
    for q in range(_LOWEST, _HIGHEST + 1):
        power = 5 ** abs(q)
        if q >= 0:
            shift = power.bit_length() - 128
            bits = power >> shift if shift >= 0 else power << -shift
        else:
            bits = (1 << (power.bit_length() + 127)) // power + 1
            bits >>= max(0, bits.bit_length() - 128)
        high.append(bits >> 64)
        low.append(bits & (2**64 - 1))
    return np.array(high, np.uint64), np.array(low, np.uint64)


_HIGH, _LOW = _powers_of_five()
_EXACT = np.array([10.0**n for n in range(23)])


@kernel
def _product_high(a, b):
    # High 64 bits of a 64 x 64 bit product.
    mask, half = np.uint64(0xFFFFFFFF), np.uint64(32)
    a0, a1, b0, b1 = a & mask, a >> half, b & mask, b >> half
    p00, p01, p10, p11 = a0 * b0, a0 * b1, a1 * b0, a1 * b1
    middle = (p00 >> half) + (p01 & mask) + (p10 & mask)
    return p11 + (p01 >> half) + (p10 >> half) + (middle >> half)


@kernel
def scaled(digits, exponent):
    """The double nearest to digits * 10**exponent, for 0 <= digits < 10**18."""
    if digits < 9007199254740992 and -22 <= exponent <= 22:
        if exponent < 0:
            return float(digits) / _EXACT[-exponent]
        return float(digits) * _EXACT[exponent]
    if digits == 0 or exponent < _LOWEST:
        return 0.0
    if exponent > _HIGHEST:
        return math.inf
    w = np.uint64(digits)
    zeros = 0
    while not (w & np.uint64(0x8000000000000000)):
        w = w << np.uint64(1)
        zeros += 1
    high = _product_high(w, _HIGH[exponent - _LOWEST])
    low = w * _HIGH[exponent - _LOWEST]
    if (high & np.uint64(0x1FF)) == np.uint64(0x1FF):
        second = _product_high(w, _LOW[exponent - _LOWEST])
        low_sum = low + second
        if low_sum < low:
            high += np.uint64(1)
        low = low_sum
    upper = np.int64(high >> np.uint64(63))
    shift = np.uint64(upper + 9)
    mantissa = high >> shift
    power = ((217706 * exponent) >> 16) + 63 + upper - zeros
    if power < -1022:
        return float(digits) * 10.0 ** (exponent + 20) * 1e-20  # subnormal: the last bit may be off
    halfway = low <= np.uint64(1) and -4 <= exponent <= 23 and (mantissa << shift) == high
    if halfway and (mantissa & np.uint64(3)) == np.uint64(1):
        mantissa = mantissa & ~np.uint64(1)
    mantissa = (mantissa + (mantissa & np.uint64(1))) >> np.uint64(1)
    if power > 1023:
        return math.inf
    return math.ldexp(float(mantissa), power - 52)


@kernel
def read_float(data, at, stop):
    """The number that starts at data[at]: (value, index behind it, whether there was one).

    Any spelling that C's strtod takes in decimal is taken, with nan and inf. Digits beyond the 18th
    are dropped, which can change the last bit.
    """
    negative = False
    if at < stop and (data[at] == 45 or data[at] == 43):
        negative = data[at] == 45
        at += 1
    start = at
    digits = np.int64(0)
    exponent = 0
    seen = 0  # significant digits taken
    any_digit = False
    while at < stop:
        d = np.int64(np.uint64(data[at]) - np.uint64(48))
        if np.uint64(d) > np.uint64(9):
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
            d = np.int64(np.uint64(data[at]) - np.uint64(48))
            if np.uint64(d) > np.uint64(9):
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
                power = power * 10 + np.int64(data[at]) - 48
            at += 1
        if at == first:
            at = mark
        else:
            exponent += -power if minus else power
    value = scaled(digits, exponent)
    return (-value if negative else value), at, True


@kernel
def _read_word(data, at, stop, negative):
    # nan, inf and infinity in any case, as C prints them: also -nan(ind) and the like.
    if at + 3 <= stop:
        a, b, c = data[at] | 32, data[at + 1] | 32, data[at + 2] | 32
        if a == 110 and b == 97 and c == 110:
            return math.nan, _word_end(data, at, stop), True
        if a == 105 and b == 110 and c == 102:
            return (-math.inf if negative else math.inf), _word_end(data, at, stop), True
    return 0.0, at, False


@kernel
def _word_end(data, at, stop):
    while at < stop and data[at] > 32:
        at += 1
    return at


@kernel
def _is_blank(c):
    """Blanks and what stands between numbers in lists: , ; ( ) [ ]."""
    return c <= 32 or c == 44 or c == 59 or c == 40 or c == 41 or c == 91 or c == 93


@kernel
def count_words(data, at, stop):
    """How many words stand in data[at:stop]."""
    count = 0
    blank = True
    for k in range(at, stop):
        now = _is_blank(data[k])
        if blank and not now:
            count += 1
        blank = now
    return count


@kernel
def read_numbers(data, at, stop, out):
    """Reads as many numbers as ``out`` holds; returns how many there were, and where reading ended.

    Words that are no numbers end it before its time.
    """
    count = 0
    while count < len(out):
        while at < stop and _is_blank(data[at]):
            at += 1
        if at >= stop:
            break
        value, end, found = read_float(data, at, stop)
        if not found or (end < stop and not _is_blank(data[end])):
            break
        out[count] = value
        count += 1
        at = end
    return count, at


@kernel
def words_end(data, at, stop):
    """Where the word that begins at data[at] ends."""
    while at < stop and not _is_blank(data[at]):
        at += 1
    return at


@kernel
def read_whole_numbers(data, at, stop, out):
    """As `read_numbers`, for whole numbers; those beyond 32 bits become the largest there is."""
    count = 0
    while count < len(out):
        while at < stop and _is_blank(data[at]):
            at += 1
        if at >= stop:
            break
        negative = data[at] == 45
        k = at + 1 if negative or data[at] == 43 else at
        first = k
        value = np.int64(0)
        while k < stop and 48 <= data[k] <= 57:
            if value < 2147483647:
                value = value * 10 + np.int64(data[k]) - 48
            k += 1
        if k == first or (k < stop and not _is_blank(data[k])):
            break
        value = min(value, 2147483647)
        out[count] = -value if negative else value
        count += 1
        at = k
    return count, at
