"""What the values of a scene may be, and arrays and mappings that nobody can change from outside."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any, NoReturn

import numpy as np
from numpy.typing import ArrayLike, NDArray

from zesty_otter.errors import ModelError, closest
from zesty_otter.model import _arrays as kernels

LARGEST = 1e15
"""The largest position, size or value that a scene may hold, in any unit: far beyond anything one can build, and small
enough for areas, volumes and their squares to be numbers still."""

INDEX_LIMIT = 2**31 - 1


class ReadOnlyDict(dict[str, Any]):
    """A dictionary that does not change: what properties, textures and sets of a scene are kept in."""

    def _refuse(self, *_: Any, **__: Any) -> NoReturn:
        """Change nothing.

        Parameters
        ----------
        *_, **__
            What a dictionary would take.

        Raises
        ------
        TypeError
            Always; the message says how to make another mapping.

        Examples
        --------
        >>> ReadOnlyDict(color="red").update(color="blue")
        Traceback (most recent call last):
        TypeError: this mapping does not change; make a new one: {**mapping, key: value}
        """
        raise TypeError("this mapping does not change; make a new one: {**mapping, key: value}")

    __setitem__ = __delitem__ = __ior__ = update = pop = popitem = clear = setdefault = _refuse

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (dict(self),)

    def __hash__(self) -> int:  # type: ignore[override]
        return hash(frozenset(self))


NOTHING = ReadOnlyDict()


def read_only(mapping: Mapping[str, Any], what: str, place: str) -> ReadOnlyDict:
    """A mapping with text keys, as one that does not change."""
    if isinstance(mapping, ReadOnlyDict):
        return mapping
    if not isinstance(mapping, Mapping):
        raise ModelError(f"{what} must be a mapping, not {_kind(mapping)}.", place=place)
    return ReadOnlyDict(mapping)


def copied(array: ArrayLike, dtype: Any) -> NDArray[Any]:
    """An array nobody else can write to: a copy, unless it cannot be written to already."""
    given = _array_of(array)
    made = _as(given, dtype)
    if made is given and not _is_sealed(given):
        made = given.copy()
    return taken_over(made, dtype)


def taken_over(array: ArrayLike, dtype: Any) -> NDArray[Any]:
    """An array that is handed over: it, and what it is a view of, cannot be written to any more."""
    made = of_numbers(array, dtype)
    one: Any = made
    while isinstance(one, np.ndarray) and one.flags.writeable:
        one.flags.writeable = False
        one = one.base
    return made


def of_numbers(array: ArrayLike, dtype: Any) -> NDArray[Any]:
    """An array of a type, from anything that holds numbers."""
    return _as(_array_of(array), dtype)


def _array_of(array: ArrayLike) -> NDArray[Any]:
    try:
        found = np.asarray(array)
    except ValueError:
        raise ModelError("rows of numbers must all have the same length.") from None
    if found.dtype.kind not in "biuf":
        held = {"U": "text", "S": "bytes", "c": "complex numbers"}.get(found.dtype.kind, "objects")
        raise ModelError(f"an array must hold numbers, not {held}.")
    return found


def _as(array: NDArray[Any], dtype: Any) -> NDArray[Any]:
    if dtype is np.int32 and array.dtype.itemsize > 4 and array.size and array.max() > INDEX_LIMIT:
        raise ModelError(f"an index of {array.max()} is beyond what a mesh can hold ({INDEX_LIMIT}).")
    return array.astype(dtype, order="C", copy=False)


def _is_sealed(array: NDArray[Any]) -> bool:
    one: Any = array
    while isinstance(one, np.ndarray):
        if one.flags.writeable:
            return False
        one = one.base
    return True


def is_within(values: NDArray[Any]) -> bool:
    """Whether an array holds numbers up to `LARGEST` only.

    Parameters
    ----------
    values : array of numbers

    Returns
    -------
    bool
        False where there is a NaN.

    Examples
    --------
    >>> import numpy as np
    >>> is_within(np.array([1e12])), is_within(np.array([1e16]))
    (True, False)
    """
    if not values.size:
        return True
    if values.flags.c_contiguous and values.dtype in (np.float32, np.float64):
        flat = values.reshape(-1)
        return bool((kernels.within32 if flat.dtype == np.float32 else kernels.within64)(flat, LARGEST))
    return bool(values.min() >= -LARGEST and values.max() <= LARGEST)  # not so where there is a NaN


def named(name: Any, place: str) -> None:
    """Complains about a name that is not text."""
    if not isinstance(name, str):
        raise ModelError(f"a name must be text, not {_kind(name)}.", place=place)


def flag(value: Any, what: str, place: str) -> None:
    """Complains about what is neither true nor false."""
    if not isinstance(value, bool | np.bool_):
        raise ModelError(f"{what} is {value!r}. Use True or False.", place=place)


def texts(value: Any, what: str, place: str) -> tuple[str, ...]:
    """Some texts."""
    if isinstance(value, str) or not isinstance(value, Iterable):
        raise ModelError(f"{what} must be a list of texts, not {value!r}.", place=place)
    found = tuple(value)
    for one in found:
        if not isinstance(one, str):
            raise ModelError(f"{what} must be texts, not {one!r}.", place=place)
    return found


def one_of(value: Any, known: Iterable[str], what: str, place: str) -> None:
    """Complains about a word that is not one of those it may be."""
    words = list(known)
    if value not in words:
        hint = closest(value, words) if isinstance(value, str) else ""
        raise ModelError(f"{what} is {value!r}.{hint}", place=place, remedy=f"Use {', '.join(words)}.")


def number(value: Any, what: str, place: str, lowest: float = 0.0, highest: float = LARGEST) -> float:
    """A finite number in its range."""
    if isinstance(value, bool) or not isinstance(value, int | float | np.number):
        raise ModelError(f"{what} must be a number, not {_kind(value)}.", place=place)
    if not (math.isfinite(value) and lowest <= value <= highest):
        raise ModelError(f"{what} is {value!r}.", place=place, remedy=f"Use a number {_range(lowest, highest)}.")
    return float(value)


def numbers(
    value: Any, count: int, what: str, place: str, lowest: float = 0.0, highest: float = LARGEST
) -> tuple[float, ...]:
    """So many finite numbers in their range."""
    if isinstance(value, str) or not isinstance(value, Iterable) or len(found := tuple(value)) != count:
        raise ModelError(f"{what} must be {count} numbers, not {value!r}.", place=place)
    return tuple(number(one, what, place, lowest, highest) for one in found)


def _range(lowest: float, highest: float) -> str:
    if highest >= LARGEST:
        return "that is finite" if lowest <= -LARGEST else f"of {lowest:g} or more"
    return f"of {highest:.6g} or less" if lowest <= -LARGEST else f"from {lowest:g} to {highest:.6g}"


def _kind(value: Any) -> str:
    return f"{value!r}" if isinstance(value, str) else f"{type(value).__name__}"
