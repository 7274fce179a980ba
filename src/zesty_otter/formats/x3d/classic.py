"""The classic encoding of X3D, and VRML97, whose grammar it keeps (ISO/IEC 14772-1, annex A; ISO/IEC 19776-2).

Text becomes the same elements as XML, so that one reader serves both. Prototypes are put in where they are used.
"""

from __future__ import annotations

import contextlib
import re
import zlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lxml import etree

from zesty_otter.errors import InputError
from zesty_otter.formats.files import load_bytes
from zesty_otter.formats.xml import Document, Element

_DEEPEST = 180  # nodes in nodes
_MOST_NODES = 400_000  # prototypes in prototypes multiply
_MOST_BYTES = 1 << 31  # of a packed file when it is unpacked

_BLANK = re.compile(r"(?:[\s,]|#[^\n\r]*)*")
_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[\[\]{}]|[^\s,\[\]{}"#]+', re.S)
_NUMBERS = re.compile(r"[\s,]*[-+.\d][-+.\deExXa-fA-F\s,]*\]")
_QUOTED = frozenset({"url", "value", "string"})  # fields that are lists of texts also where they hold one
_DECLARES = frozenset(
    {"field", "exposedField", "eventIn", "eventOut", "initializeOnly", "inputOutput", "inputOnly", "outputOnly"}
)
_HAS_VALUE = frozenset({"field", "exposedField", "initializeOnly", "inputOutput"})
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


class ClassicError(ValueError):
    """The text breaks the grammar."""


@dataclass
class _Made:
    """A node as it is written: fields in order, each with a text, nodes, or the name of what it IS."""

    kind: str
    name: str = ""
    fields: list[tuple[str, Any]] = field(default_factory=list)


@dataclass
class _Use:
    name: str


@dataclass
class _Is:
    name: str


@dataclass
class _Proto:
    """What a prototype declares: fields with their usual values, and the nodes of its body."""

    fields: dict[str, Any] = field(default_factory=dict)
    body: list[_Made | _Use] = field(default_factory=list)
    known: Mapping[str, _Proto] = field(default_factory=dict)


Fetch = Callable[[str], tuple[Path, str] | None]
"""The path and text of another file, where it may be read."""


def parse_classic(path: Path, fetch: Fetch | None = None) -> Document:
    """A file in the classic encoding, as the elements that XML would hold.

    Raises
    ------
    InputError
        When it breaks the grammar before anything could be read.
    """
    return document_of(path, text_of(path), fetch)


def text_of(path: Path) -> str:
    """The text of a file, unpacked where it is packed."""
    data = load_bytes(path)
    if data[:2] == b"\x1f\x8b":
        unpack = zlib.decompressobj(31)
        try:
            data = unpack.decompress(data, _MOST_BYTES)
        except zlib.error as error:
            raise InputError(f"is damaged: {error}.", file=path, remedy="Export or copy it again.") from None
        if unpack.unconsumed_tail:
            raise InputError("is larger than 2 GB when it is unpacked, which is refused.", file=path)
    return data.decode("utf-8", "replace")


def document_of(path: Path, text: str, fetch: Fetch | None = None) -> Document:
    head = text.lstrip("\ufeff")[:32]
    if head.startswith("#VRML V1"):
        raise InputError(
            "is VRML 1.0.", file=path, remedy="VRML97 (2.0) and X3D can be read; export it as one of them."
        )
    parser = _Parser(text, fetch)
    mended = []
    nodes: list[_Made | _Use] = []
    try:
        parser.statements(nodes, until="")
    except ClassicError as error:
        line = text.count("\n", 0, parser.at) + 1
        if not nodes:
            raise InputError(f"is not VRML97 or X3D text: {error}.", file=path, place=f"line {line}") from None
        mended.append(f"is not well-formed (line {line}: {error}); what stands before that was taken")
    except RecursionError:
        raise InputError("its nodes are nested too deeply.", file=path) from None
    root = etree.Element("X3D")
    about = etree.SubElement(root, "head")
    for category, factor in parser.units:
        etree.SubElement(about, "unit", category=_clean(category), conversionFactor=_clean(factor))
    scene = etree.SubElement(root, "Scene")
    building = _Building(parser.protos)
    try:
        for node in nodes:
            building.put(scene, node, "children", building.scope, None, 0)
    except ClassicError as error:
        raise InputError(f"{error}.", file=path) from None
    for _ in range(parser.routes and 1):
        etree.SubElement(scene, "ROUTE")
    return Document(root, [*mended, *parser.remarks])


class _Parser:
    def __init__(self, text: str, fetch: Fetch | None, depth: int = 0) -> None:
        self.text, self.at, self.fetch, self.files = text, 0, fetch, depth
        self.protos: dict[str, _Proto] = {}
        self.units: list[tuple[str, str]] = []
        self.remarks: list[str] = []
        self.routes = 0
        self.waiting = ""
        self.depth = 0

    # Words

    def peek(self) -> str:
        if not self.waiting:
            blank = _BLANK.match(self.text, self.at)
            assert blank is not None
            found = _TOKEN.match(self.text, blank.end())
            if found is None:
                rest = self.text[blank.end() : blank.end() + 1]
                self.at = blank.end()
                if rest:
                    raise ClassicError("a text does not end")
                return ""
            self.at, self.waiting = found.end(), found[0]
        return self.waiting

    def take(self) -> str:
        word = self.peek()
        self.waiting = ""
        return word

    def expect(self, wanted: str) -> None:
        word = self.take()
        if word != wanted:
            raise ClassicError(f"expected {wanted}, found {word or 'the end'}")

    # Statements

    def statements(self, nodes: list[_Made | _Use], until: str) -> None:
        while True:
            word = self.peek()
            if word == until:
                self.take()
                return
            if not word:
                raise ClassicError("it ends in the middle")
            if word == "PROTO":
                self.take()
                self.proto()
            elif word == "EXTERNPROTO":
                self.take()
                self.extern()
            elif not self.statement(word):
                node = self.node()
                if node is not None:
                    nodes.append(node)

    def statement(self, word: str) -> bool:
        """A statement that makes no node."""
        counts = {"PROFILE": 1, "COMPONENT": 1, "META": 2, "EXPORT": 1, "IMPORT": 1, "UNIT": 3, "ROUTE": 3}
        if word not in counts:
            return False
        self.take()
        said = [self.take() for _ in range(counts[word])]
        if word == "UNIT":
            self.units.append((said[0], said[2]))
        elif word == "ROUTE":
            self.routes += 1
        if self.peek() == "AS":
            self.take()
            self.take()
        return True

    def interface(self, values: dict[str, Any]) -> None:
        self.expect("[")
        while self.peek() != "]":
            access, _, name = self.take(), self.take(), self.take()
            if access not in _DECLARES:
                raise ClassicError(f"expected a field, found {access or 'the end'}")
            if access in _HAS_VALUE and self.peek() not in _DECLARES and self.peek() != "]":
                values[name] = self.value(name)
        self.take()

    def proto(self) -> None:
        name = self.take()
        made = _Proto()
        self.interface(made.fields)
        self.expect("{")
        outer = self.protos
        self.protos = dict(outer)
        self.statements(made.body, until="}")
        made.known, self.protos = self.protos, outer
        self.protos[name] = made

    def extern(self) -> None:
        name = self.take()
        self.interface({})
        value = self.value("url")
        for url in re.findall(r'"((?:[^"\\]|\\.)*)"', value if isinstance(value, str) else ""):
            place, _, wanted = url.partition("#")
            found = self.fetch(place) if self.fetch is not None and self.files < 8 else None
            if found is None:
                continue
            other = _Parser(found[1], self.fetch, self.files + 1)
            with contextlib.suppress(ClassicError):  # what stands before that counts
                other.statements([], until="")
            chosen = other.protos.get(wanted) or next(iter(other.protos.values()), None)
            if chosen is not None:
                self.protos[name] = chosen
                return
        self.remarks.append(f"the prototype {name} stands in another file that was not found; it is left out")

    # Nodes

    def node(self) -> _Made | _Use | None:
        word = self.take()
        if word == "NULL":
            return None
        if word == "USE":
            return _Use(self.take())
        name = ""
        if word == "DEF":
            name, word = self.take(), self.take()
        if not re.match(r"[A-Za-z_]", word):
            raise ClassicError(f"expected a node, found {word or 'the end'}")
        made = _Made(word, name)
        self.expect("{")
        self.depth += 1
        if self.depth > _DEEPEST:
            raise ClassicError("its nodes are nested too deeply")
        while self.peek() != "}":
            key = self.take()
            if key == "ROUTE":
                self.routes += 1
                for _ in range(3):
                    self.take()
            elif key in ("PROTO", "EXTERNPROTO"):
                self.proto() if key == "PROTO" else self.extern()
            elif key in _DECLARES:
                self.take()
                own = self.take()
                if self.peek() == "IS":
                    self.take()
                    self.take()
                elif key in _HAS_VALUE:
                    self.value(own)
            elif not key:
                raise ClassicError(f"{word} does not end")
            else:
                made.fields.append((key, self.value(key)))
        self.take()
        self.depth -= 1
        return made

    def value(self, key: str) -> Any:
        word = self.peek()
        if word == "IS":
            self.take()
            return _Is(self.take())
        if word == "[":
            return self.listed()
        if word.startswith('"'):
            self.take()
            return word if key in _QUOTED else _unquoted(word)
        if word in ("TRUE", "FALSE"):
            self.take()
            return word.lower()
        if word[:1] in "+-.0123456789" and word:
            return self.numbers()
        if word in ("", "]", "}"):
            raise ClassicError(f"{key} has no value")
        node = self.node()
        return [node] if node is not None else []

    def numbers(self) -> str:
        words = []
        while (word := self.peek()) and word[0] in "+-.0123456789":
            words.append(self.take())
        return " ".join(words)

    def listed(self) -> Any:
        """A list: of numbers, mostly long ones, of texts, or of nodes."""
        self.waiting = ""
        found = _NUMBERS.match(self.text, self.at)
        if found is not None:
            self.at = found.end()
            return found[0][:-1]
        nodes: list[_Made | _Use] = []
        words: list[str] = []
        while self.peek() != "]":
            word = self.peek()
            if not word:
                raise ClassicError("a list does not end")
            if word.startswith('"') or word[0] in "+-.0123456789" or word in ("TRUE", "FALSE"):
                words.append(self.take())
            else:
                node = self.node()
                if node is not None:
                    nodes.append(node)
        self.take()
        return nodes if nodes or not words else " ".join(words)


def _unquoted(word: str) -> str:
    return re.sub(r"\\(.)", r"\1", word[1:-1], flags=re.S)


class _Scope:
    """Names that nodes have been given within a file or one use of a prototype."""

    def __init__(self) -> None:
        self.keys: dict[str, str] = {}


class _Building:
    def __init__(self, protos: Mapping[str, _Proto]) -> None:
        self.scope = _Scope()
        self.protos = protos
        self.count = 0
        self.times: dict[str, int] = {}

    def put(
        self, parent: Element, node: _Made | _Use, holder: str, scope: _Scope, within: _Within | None, depth: int
    ) -> None:
        """A node below an element, in the field of that."""
        self.count += 1
        if self.count > _MOST_NODES or depth > _DEEPEST:
            raise ClassicError("its prototypes make too many nodes")
        if isinstance(node, _Use):
            etree.SubElement(
                parent, "Group", USE=_clean(scope.keys.get(node.name, node.name)), containerField=_clean(holder)
            )
            return
        protos = within.proto.known if within is not None else self.protos
        if node.kind in protos:
            self.used(parent, node, holder, scope, within, depth, protos[node.kind])
            return
        element = etree.SubElement(parent, _tag(node.kind), containerField=_clean(holder))
        self.named(element, node.name, scope)
        self.filled(element, node.fields, scope, within, depth)

    def named(self, element: Element, name: str, scope: _Scope) -> None:
        if not name:
            return
        self.times[name] = self.times.get(name, 0) + 1
        key = _clean(name) if self.times[name] == 1 else f"{_clean(name)}#{self.times[name]}"
        scope.keys[name] = key
        element.set("DEF", _clean(name))
        element.set("key", key)

    def filled(
        self, element: Element, fields: list[tuple[str, Any]], scope: _Scope, within: _Within | None, depth: int
    ) -> None:
        for key, value in fields:
            own, of, about = value, scope, within
            if isinstance(value, _Is):
                if within is None or value.name not in within.fields:
                    continue
                own, of, about = within.fields[value.name]
            if isinstance(own, list):
                for node in own:
                    self.put(element, node, key, of, about, depth + 1)
            elif isinstance(own, str) and re.fullmatch(r"[A-Za-z_][\w.-]*", key):
                element.set(key, _clean(own))

    def used(
        self, parent: Element, node: _Made, holder: str, scope: _Scope, within: _Within | None, depth: int,
        proto: _Proto,
    ) -> None:  # fmt: skip
        """A prototype in place of a node: the first node of its body, with the fields that are said."""
        fields: dict[str, Any] = {}
        inner = _Scope()
        for key, value in proto.fields.items():
            fields[key] = value, inner, _Within(proto, {})
        for key, value in node.fields:
            if isinstance(value, _Is):
                if within is not None and value.name in within.fields:
                    fields[key] = within.fields[value.name]
            else:
                fields[key] = value, scope, within
        around = _Within(proto, fields)
        for number, body in enumerate(proto.body):
            if number == 0:
                before = len(parent)
                self.put(parent, body, holder, inner, around, depth + 1)
                if node.name and len(parent) > before:
                    self.named(parent[before], node.name, scope)
            # Further nodes of a body are not shown, but others may stand for them.
            elif isinstance(body, _Made) and body.name:
                aside = etree.SubElement(parent, "Metadata")
                self.put(aside, body, "children", inner, around, depth + 1)


@dataclass
class _Within:
    """The prototype that a node stands in, and its fields: each a value, with where that was written."""

    proto: _Proto
    fields: dict[str, tuple[Any, _Scope, _Within | None]]


def _tag(kind: str) -> str:
    clean = re.sub(r"[^A-Za-z0-9_.-]", "_", kind)
    return clean if re.match(r"[A-Za-z_]", clean) else f"_{clean}"


def _clean(text: str) -> str:
    return _CONTROL.sub("", text)
