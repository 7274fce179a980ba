"""XML from elsewhere, read with care: no entities, nothing from outside, no bottomless nesting."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import Any
from weakref import WeakValueDictionary

import numpy as np
from lxml import etree
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats import _numbers as numbers
from zesty_otter.formats.files import load
from zesty_otter.formats.text import most_numbers_in, most_whole_numbers_in

Element = etree._Element

DEEPEST = 200
"""How far elements may nest."""


_LONG = 1 << 14  # bytes of numbers, from which on a list is kept from the XML library
_MOST = 1 << 16  # of such lists
_MARK = b"\x7f"  # stands around the number of such a list; XML files hold it by accident at most
_aside: WeakValueDictionary[int, _Aside] = WeakValueDictionary()
_counter = count(1)


class _Aside:
    """Lists of numbers of a document that its elements hold the places of."""

    def __init__(self, data: NDArray[np.uint8], spans: NDArray[np.int64]) -> None:
        self.data, self.spans = data, spans


@dataclass(frozen=True, eq=False)
class Document:
    """The root of an XML file, and what had to be mended to read it.

    `floats` and `ints` read its numbers as long as it is there.
    """

    root: Element
    mended: list[str]
    aside: _Aside | None = None


def parse(path: Path, wanted: str) -> Document:
    """An XML file whose root is an element called ``wanted``.

    Raises
    ------
    InputError
        When it is no XML, begins with another element, declares entities, or nests too deeply.
    """
    return parsed(path, load(path), wanted)


def parsed(path: Path, data: bytes | NDArray[np.uint8], wanted: str) -> Document:
    """As `parse`, of text that is at hand; ``path`` is what messages name."""
    small, aside = _without_lists(np.frombuffer(data, np.uint8))
    if aside is not None:
        try:
            root: Any = etree.fromstring(small, _parser(recover=False))
        except (etree.XMLSyntaxError, ValueError):
            pass  # told below, with its place in the whole text
        else:
            return Document(_checked(path, root, wanted), [], aside)
    text = bytes(data)
    mended: list[str] = []
    if b"<!ENTITY" in text or "<!ENTITY".encode("utf-16-le") in text or "<!ENTITY".encode("utf-16-be") in text:
        raise InputError("declares XML entities, which are refused.", file=path, remedy="Write it without a DTD.")
    try:
        root = etree.fromstring(text, _parser(recover=False))
    except etree.XMLSyntaxError as error:
        try:
            root = etree.fromstring(text, _parser(recover=True))
        except etree.XMLSyntaxError:
            root = None
        if root is None or not isinstance(root.tag, str):
            place = f"line {error.lineno}" if error.lineno else None
            raise InputError(f"is not XML: {error.msg}.", file=path, place=place) from None
        mended.append(f"is not well-formed ({error.msg}); what could be read was taken")
    except ValueError as error:
        raise InputError(f"is not XML: {error}.", file=path) from None
    return Document(_checked(path, root, wanted), mended)


def _checked(path: Path, root: Element, wanted: str) -> Element:
    if name_of(root) != wanted:
        raise InputError(f"is XML, but no {wanted}: it begins with <{name_of(root)}>.", file=path)
    _refuse_depth(path, root)
    return root


def _without_lists(data: NDArray[np.uint8]) -> tuple[bytes, _Aside | None]:
    """A text with a word in place of each long list of numbers: these are most of a file, and no work for a parser."""
    if len(data) < _LONG or not data[:1024].all():
        return b"", None
    spans = np.empty((_MOST, 2), np.int64)
    spans = spans[: numbers.find_lists(data, _LONG, spans)].copy()
    # Whole attributes, or all that is in an element.
    ends = np.stack([data[spans[:, 0] - 1], data[np.minimum(spans[:, 1], len(data) - 1)]], axis=1)
    whole = [one.tobytes() in (b'""', b"''", b"><") for one in ends]
    spans = spans[np.array(whole, bool) & (spans[:, 0] > 0) & (spans[:, 1] < len(data))]
    firsts, lasts = spans.T.tolist()
    pieces = [data[at:first].tobytes() for at, first in zip([0, *lasts], [*firsts, len(data)], strict=True)]
    if not len(spans) or any(_MARK in piece for piece in pieces):
        return b"", None
    aside, number = _Aside(data, spans), next(_counter)
    _aside[number] = aside
    marks = [b"", *(b"%s%d:%d%s" % (_MARK, number, n, _MARK) for n in range(len(spans)))]
    return b"".join(part for pair in zip(marks, pieces, strict=True) for part in pair), aside


def words_of(text: str | None) -> str | NDArray[np.uint8]:
    """The numbers of an attribute or element as text: what was kept aside of it, where that was."""
    if text is None or not text.startswith("\x7f"):
        return text or ""
    number, _, place = text.strip("\x7f").partition(":")
    aside = _aside.get(int(number)) if number.isdecimal() and place.isdecimal() else None
    if aside is None or int(place) >= len(aside.spans):
        return text
    first, last = aside.spans[int(place)]
    return aside.data[first:last]


def _parser(*, recover: bool) -> etree.XMLParser:
    return etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        dtd_validation=False,
        huge_tree=True,
        remove_comments=True,
        remove_pis=True,
        recover=recover,
    )


def _refuse_depth(path: Path, root: Element) -> None:
    depth = 0
    for event, _ in etree.iterwalk(root, events=("start", "end")):
        depth += 1 if event == "start" else -1
        if depth > DEEPEST:
            raise InputError(f"nests elements deeper than {DEEPEST}, which is refused.", file=path)


def name_of(element: Element) -> str:
    """The name of an element, without its namespace."""
    tag = element.tag
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""


def children(element: Iterable[Element] | None, *names: str) -> Iterator[Element]:
    """The elements in one, or in a list, of some names, or all, in order."""
    for child in element if element is not None else ():
        if isinstance(child.tag, str) and (not names or name_of(child) in names):
            yield child


def child(element: Element | None, *path: str) -> Element | None:
    """The first element down a path of names."""
    for name in path:
        element = next(children(element, name), None)
    return element


def text_of(element: Element | None, missing: str = "") -> str:
    """The text of an element, without blanks around it."""
    return missing if element is None or element.text is None else element.text.strip()


def floats(text: str | None) -> NDArray[np.float64]:
    """The numbers in a text, NaN for words that are none."""
    return most_numbers_in(words_of(text))[0]


def few_floats(text: str | None, count: int) -> list[float] | None:
    """The first numbers of a short text, None where it does not begin with so many finite ones."""
    if text is None:
        return None
    try:
        values = [float(word) for word in text.replace(",", " ").split()] if "_" not in text else []
    except ValueError:
        values = []
    # What is not plain is left to whom it concerns.
    values = (values or floats(text).tolist())[:count]
    return values if len(values) == count and all(map(math.isfinite, values)) else None


def ints(text: str | None) -> NDArray[np.int32]:
    """The whole numbers in a text, -1 for words that are none."""
    return most_whole_numbers_in(words_of(text))[0]


def number(text: str | None, missing: float) -> float:
    """The first number in a text."""
    found = floats(text)
    return float(found[0]) if len(found) and np.isfinite(found[0]) else missing
