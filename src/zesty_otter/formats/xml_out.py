"""XML written: text where there is little of it, buffers where there are numbers."""

from __future__ import annotations

import re
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.files import Buffer
from zesty_otter.formats.text import number_lines, whole_number_lines

# Characters that XML 1.0 cannot hold at all (section 2.2).
_NO_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


class Xml:
    """A document on its way: elements that are open, and the buffers of what is written."""

    def __init__(self) -> None:
        self.buffers: list[Buffer] = [b'<?xml version="1.0" encoding="UTF-8"?>\n']
        self._open: list[str] = []

    def begin(self, tag: str, /, **attributes: Any) -> None:
        """Begin an element; attributes that are None are left out."""
        self._line(f"<{tag}{_attributes(attributes)}>")
        self._open.append(tag)

    def end(self, count: int = 1) -> None:
        """End the elements opened last."""
        for _ in range(count):
            name = self._open.pop()
            self._line(f"</{name}>")

    def leaf(self, tag: str, text: str | None = None, /, **attributes: Any) -> None:
        """An element without others in it."""
        inner = "" if text is None else escape(_NO_XML.sub("", text))
        if text is None:
            self._line(f"<{tag}{_attributes(attributes)}/>")
        else:
            self._line(f"<{tag}{_attributes(attributes)}>{inner}</{tag}>")

    def numbers(self, tag: str, values: NDArray[Any], /, **attributes: Any) -> None:
        """An element that holds rows of 32-bit or whole numbers."""
        self._line(f"<{tag}{_attributes(attributes)}>")
        lines = whole_number_lines if values.dtype.kind in "iu" else lambda rows: number_lines("", rows)
        self.buffers += lines(np.atleast_2d(values))
        self._line(f"</{tag}>")

    def wide(self, tag: str, /, *, closed: bool = True, **attributes: Any) -> None:
        """An element whose attributes may be buffers of text that needs no escaping, given as iterables."""
        self.buffers.append(f"{'  ' * len(self._open)}<{tag}".encode())
        for key, value in attributes.items():
            if isinstance(value, str):
                self.buffers.append(_attributes({key: value}).encode())
            elif value is not None:
                self.buffers += [f" {key}='".encode(), *value, b"'"]
        self.buffers.append(b"/>\n" if closed else b">\n")
        if not closed:
            self._open.append(tag)

    def _line(self, text: str) -> None:
        self.buffers.append(f"{'  ' * len(self._open)}{text}\n".encode())


def _attributes(attributes: dict[str, Any]) -> str:
    said = {key.rstrip("_"): value for key, value in attributes.items() if value is not None}
    return "".join(f" {key}={quoteattr(_NO_XML.sub('', str(value)))}" for key, value in said.items())


def plain(*values: float) -> str:
    """Numbers with blanks between them, as many digits as 32-bit ones need."""
    return " ".join(f"{float(np.float32(value)):.9g}" for value in values)


class Ids:
    """Names that XML takes as identifiers, each once (XML 1.0, section 2.3; ASCII only)."""

    def __init__(self) -> None:
        self._taken: set[str] = set()

    def new(self, name: str) -> str:
        """An identifier made from a name."""
        base = re.sub(r"[^A-Za-z0-9_.-]", "_", name) or "_"
        if not re.match(r"[A-Za-z_]", base):
            base = f"_{base}"
        found, count = base, 1
        while found in self._taken:
            count += 1
            found = f"{base}-{count}"
        self._taken.add(found)
        return found
