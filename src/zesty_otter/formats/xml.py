"""XML from elsewhere, read with care: no entities, nothing from outside, no bottomless nesting."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from lxml import etree
from numpy.typing import NDArray

from zesty_otter.errors import InputError
from zesty_otter.formats.files import load
from zesty_otter.formats.text import most_numbers_in, most_whole_numbers_in

Element = etree._Element

DEEPEST = 200
"""How far elements may nest."""


def parse(path: Path, wanted: str) -> tuple[Element, list[str]]:
    """The root of an XML file, which is an element called ``wanted``, and what had to be mended to read it.

    Raises
    ------
    InputError
        When it is no XML, begins with another element, declares entities, or nests too deeply.
    """
    return parsed(path, load(path).tobytes(), wanted)


def parsed(path: Path, text: bytes, wanted: str) -> tuple[Element, list[str]]:
    """As `parse`, of text that is at hand; ``path`` is what messages name."""
    mended: list[str] = []
    root: Any
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
    if name_of(root) != wanted:
        raise InputError(f"is XML, but no {wanted}: it begins with <{name_of(root)}>.", file=path)
    _refuse_depth(path, root)
    return root, mended


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
    return most_numbers_in(text or "")[0]


def ints(text: str | None) -> NDArray[np.int32]:
    """The whole numbers in a text, -1 for words that are none."""
    return most_whole_numbers_in(text or "")[0]


def number(text: str | None, missing: float) -> float:
    """The first number in a text."""
    found = floats(text)
    return float(found[0]) if len(found) and np.isfinite(found[0]) else missing
