"""Rows of a PLY element that hold lists, found by compiled code."""

from zesty_otter._compile import kernel


@kernel
def _count_at(data, at, size, little):
    value = 0
    for k in range(size):
        value = value * 256 + data[at + size - 1 - k if little else at + k]
    return value


@kernel
def walk_rows(data, at, stop, is_list, count_size, item_size, little, starts, counts):
    """Where each list of each row begins, and how long it is; returns the whole rows and where they end.

    ``is_list``, ``count_size`` and ``item_size`` are of each property; ``starts`` and ``counts`` are
    (rows, lists).
    """
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


@kernel
def take_columns(table, out):
    """The columns of a table, which need not be aligned; returns whether all of them are finite numbers."""
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


@kernel
def take_even_lists(counts, table, out):
    """Lists of a known length; returns the rows before the first of another length, and the extremes of theirs.

    ``counts`` (R,) and ``table`` (R, length) lie beside each other in the file and need not be aligned.
    """
    low, high = table[0, 0], table[0, 0]
    length = table.shape[1]
    for row in range(len(out)):
        if counts[row] != length:
            return row, low, high
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
    return len(out), low, high


@kernel
def take_lists(data, starts, counts, item_size, out):
    """The bytes of lists, one after the other."""
    at = 0
    for row in range(len(starts)):
        for k in range(starts[row], starts[row] + counts[row] * item_size):
            out[at] = data[k]
            at += 1
    return at


@kernel
def walk_words(words, is_list, starts, counts):
    """As `walk_rows`, over numbers that were read from text; returns the whole rows and the numbers in them."""
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
            counts[row, one] = int(count)
            here += int(count)
            one += 1
        if here > len(words):
            return row, at
        at = here
    return len(starts), at
