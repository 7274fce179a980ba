"""Numbers and bits of compressed meshes, coded by their frequencies (asymmetric numeral systems, Duda 2009)."""

from libc.stdint cimport int32_t, int64_t, uint32_t, uint64_t, uint8_t


cpdef int64_t frequencies(const uint8_t[::1] data, int64_t at, uint32_t[::1] sums) noexcept:
    """How often each of ``len(sums) - 1`` numbers comes, added up from 0; returns where it ends, or -1.

    Invariant: ``sums`` never fall, as they stay below 2 to the power of 20, the most that numbers are read by.
    """
    cdef int64_t count = len(sums) - 1, k = 0, more, run
    cdef uint32_t total = 0, share
    with nogil:
        sums[0] = 0
        while k < count:
            if at >= len(data):
                return -1
            more = data[at] & 3
            if more == 3:
                # A run of numbers that never come.
                run = (data[at] >> 2) + 1
                at += 1
                if k + run > count:
                    return -1
                for k in range(k, k + run):
                    sums[k + 1] = total
                k += 1
                continue
            if at + more >= len(data):
                return -1
            share = data[at] >> 2
            if more > 0:
                share |= <uint32_t> data[at + 1] << 6
            if more > 1:
                share |= <uint32_t> data[at + 2] << 14
            at += 1 + more
            if share > (1 << 20) - total:
                return -1
            total += share
            k += 1
            sums[k] = total
        return at


cpdef int64_t numbers(
    const uint8_t[::1] data, const uint32_t[::1] sums, int64_t precision, uint64_t[::1] table, uint32_t[::1] out
) noexcept:
    """Numbers of the frequencies ``sums``, which add up to 2 to the power of ``precision``; 0, or -1 when unsound.

    The bytes are read from the last to the first. ``table`` holds a power of two of places, at most as many as the
    frequencies add up to: for each share of them the first number that it can be, its frequency and their sum before it.
    """
    cdef int64_t at = len(data), k, shift = 0, place
    cdef uint32_t base = 4 << precision, mask = (1 << precision) - 1, rest, number = 0
    cdef uint64_t state, entry
    with nogil:
        if len(sums) < 2 or sums[len(sums) - 1] != mask + 1:
            return -1
        while len(table) << shift < mask + 1:
            shift += 1
        for place in range(len(table)):
            while sums[number + 1] <= place << shift:
                number += 1
            table[place] = <uint64_t> number << 42 | <uint64_t> (sums[number + 1] - sums[number]) << 21 | sums[number]
        if not _begun(data, &at, 4, &state):
            return -1
        state += base
        if state >= <uint64_t> base << 8:
            return -1
        for k in range(len(out)):
            while state < base and at > 0:
                at -= 1
                state = state << 8 | data[at]
            rest = state & mask
            entry = table[rest >> shift]
            if rest - (entry & 0x1FFFFF) < (entry >> 21 & 0x1FFFFF):
                out[k] = <uint32_t> (entry >> 42)
                state = (state >> precision) * (entry >> 21 & 0x1FFFFF) + rest - (entry & 0x1FFFFF)
                continue
            number = <uint32_t> (entry >> 42) + 1
            while sums[number + 1] <= rest:
                number += 1
            out[k] = number
            state = (state >> precision) * (sums[number + 1] - sums[number]) + rest - sums[number]
        return 0


cdef bint _begun(const uint8_t[::1] data, int64_t* at, int64_t most, uint64_t* state) noexcept nogil:
    """Takes the state from the end of the bytes: two bits say how many bytes it has, at most ``most``."""
    cdef int64_t size, k
    if at[0] < 1:
        return False
    size = (data[at[0] - 1] >> 6) + 1
    if size > most or size > at[0]:
        return False
    state[0] = data[at[0] - 1] & 63
    for k in range(1, size):
        state[0] = state[0] << 8 | data[at[0] - 1 - k]
    at[0] -= size
    return True


cdef inline int64_t _bit(const uint8_t[::1] data, int64_t* at, uint64_t* state, uint64_t ones) noexcept nogil:
    cdef uint64_t high, rest
    if state[0] < 4096 and at[0] > 0:
        at[0] -= 1
        state[0] = state[0] << 8 | data[at[0]]
    high, rest = (state[0] >> 8) * ones, state[0] & 255
    if rest < ones:
        state[0] = high + rest
        return 1
    state[0] -= high + ones
    return 0


cpdef int64_t bits(const uint8_t[::1] data, int64_t zeros, uint8_t[::1] out) noexcept:
    """Bits of which ``zeros`` in 256 are 0; 0, or -1 when unsound."""
    cdef int64_t at = len(data), k
    cdef uint64_t state
    with nogil:
        if not _begun(data, &at, 3, &state):
            return -1
        state += 4096
        for k in range(len(out)):
            out[k] = _bit(data, &at, &state, 256 - zeros)
        return 0


cpdef int64_t tagged(const uint8_t[::1] data, const uint32_t[::1] lengths, int64_t each, uint32_t[::1] out) noexcept:
    """Numbers, ``each`` of them of as many bits as their common length says; returns the bytes taken, or -1."""
    cdef int64_t place = 0, k, j, n, held
    cdef uint64_t value
    with nogil:
        for k in range(len(lengths)):
            n = lengths[k]
            if n > 32 or place + n * each > 8 * len(data):
                return -1
            for j in range(each):
                value, held = 0, 0
                while held < n:
                    value |= <uint64_t> (data[place >> 3] >> (place & 7)) << held
                    held += 8 - (place & 7)
                    place += 8 - (place & 7)
                place -= max(held - n, 0)
                out[k * each + j] = value & ((<uint64_t> 1 << n) - 1)
        return (place + 7) >> 3


cpdef int64_t seams(const uint8_t[::1] data, int64_t zeros, const int32_t[::1] opposite, uint8_t[::1] out) noexcept:
    """Which edges, given by the corners opposite to them, are seams; 0, or -1 when unsound.

    An edge at a boundary always is; of the others a bit says so, at the first of its two corners.
    """
    cdef int64_t at = len(data), k
    cdef uint64_t state
    cdef int64_t there
    with nogil:
        if not _begun(data, &at, 3, &state):
            return -1
        state += 4096
        for k in range(len(opposite)):
            there = opposite[k]
            if there < 0:
                out[k] = 1
            elif there // 3 >= k // 3:
                out[k] = out[there] = _bit(data, &at, &state, 256 - zeros)
        return 0
