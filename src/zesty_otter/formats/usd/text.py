"""The text of a USD layer, taken apart into prims, properties and values.

Pixar (2016 onward), USD "usda" file format: header, metadata, prims with properties, variants and values of
every kind. Arrays of numbers are read by compiled code.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.text import NotNumbersError, numbers_in, numbers_of_list

DEEPEST = 200
"""How far prims and values may nest."""

_NUMERIC = re.compile(
    r"(?:half|float|double|int|uint|int64|uint64|uchar|quat[hfd]|matrix[234]d|(?:point|normal|vector|color|texCoord)"
    r"[234][hfd])[234]?[hfdi]?(?:\[\])?$"
)
_SPACE = re.compile(rb"(?:[ \t\r\n;,]+|#[^\n]*|//[^\n]*|/\*.*?\*/)*", re.DOTALL)
_WORD = re.compile(rb"[A-Za-z_\x80-\xff][A-Za-z0-9_:.\x80-\xff]*(?:\[\])?")
_NUMBER = re.compile(rb"[-+]?(?:inf|nan|(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)")
_STRING = re.compile(
    rb'"""(?:[^\\]|\\.)*?"""|\'\'\'(?:[^\\]|\\.)*?\'\'\'|"(?:[^"\\\n]|\\.)*"|\'(?:[^\'\\\n]|\\.)*\'', re.DOTALL
)
_ASSET = re.compile(rb"@@@(.*?)@@@|@([^@\n]*)@", re.DOTALL)
_PATH = re.compile(rb"<([^>\n]*)>")
_IN_ARRAY = re.compile(rb"#[^\n]*|//[^\n]*|/\*.*?\*/|\]", re.DOTALL)
_SPACE_AND_WORD = re.compile(_SPACE.pattern + b"(" + _WORD.pattern + b")", re.DOTALL)
_BLANKS = frozenset(bytes([mark]) for mark in b" \t\r\n;,#/")
_QUOTES = (b'"', b"'")
_ROUND, _BRACES = re.compile(rb"[()]"), re.compile(rb"[{}]")
_WHOLE = re.compile(rb"[-+]?\d{1,18}$")
_RANGES = {
    "uchar": (0, 255),
    "int": (-(1 << 31), (1 << 31) - 1),
    "uint": (0, (1 << 32) - 1),
    "int64": (-(1 << 63), (1 << 63) - 1),
    "uint64": (0, (1 << 64) - 1),
}
_BEFORE_TYPES = frozenset(("prepend", "append", "add", "delete", "reorder", "custom", "uniform", "varying", "config"))
_OFFSET = re.compile(rb"\(\s*(offset|scale|customData)\b")
_VALUES = {"None": None, "true": True, "false": False}
_ENDS = re.compile(rb"[\r\n;]")
_COMMENT = re.compile(rb"#[^\n]*|//[^\n]*|/\*.*?\*/", re.DOTALL)
_IDENTIFIER = re.compile(r"[^\W\d]\w*$")
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r"}
_LIST_WORDS = (b"prepend", b"append", b"add", b"delete", b"reorder")


class UsdSyntaxError(ValueError):
    """The text is not what the grammar allows; ``line`` says where."""

    def __init__(self, problem: str, line: int) -> None:
        super().__init__(problem)
        self.line = line


@dataclass(frozen=True)
class Asset:
    """A reference to another file, and the layer it stands in; with a path, to a prim in it."""

    path: str
    layer: str = ""
    prim: str = ""


@dataclass(frozen=True)
class Target:
    """A path to a prim or property."""

    path: str


_WORDS: dict[str, type | tuple[type, ...]] = {"string": str, "token": str, "asset": Asset, "bool": (bool, int)}
"""What values of these types are."""


@dataclass
class Property:
    """An attribute or relationship: its value, samples over time, what it is connected to, its metadata.

    ``uniform`` says that it never changes over time.
    """

    type: str
    value: Any = None
    samples: dict[float, Any] = field(default_factory=dict)
    targets: tuple[str, ...] = ()
    meta: dict[str, Any] = field(default_factory=dict)
    uniform: bool = False


@dataclass
class Prim:
    """A prim as one layer has it."""

    specifier: str
    type: str
    name: str
    meta: dict[str, Any] = field(default_factory=dict)
    properties: dict[str, Property] = field(default_factory=dict)
    children: dict[str, Prim] = field(default_factory=dict)
    variants: dict[str, dict[str, Prim]] = field(default_factory=dict)


def parse(data: bytes, layer: str = "") -> Prim:
    """The pseudo-root of a layer: its metadata and root prims.

    Raises
    ------
    UsdSyntaxError
        Where the text breaks the grammar.
    """
    return _Parser(data, layer).layer_spec()


class _Parser:
    def __init__(self, data: bytes, layer: str) -> None:
        self.data, self.at, self.layer = data, 0, layer

    def fail(self, problem: str) -> UsdSyntaxError:
        return UsdSyntaxError(problem, self.data.count(b"\n", 0, self.at) + 1)

    def layer_spec(self) -> Prim:
        version = re.match(rb"#usda\s+(\d+)\.\d", self.data)
        if version is None:
            raise self.fail("it does not begin with #usda and a version")
        if version[1] != b"1":
            raise self.fail(f"version {version[1].decode()} of this text is not known")
        root = Prim("def", "", "")
        if self._mark() == b"(":
            root.meta = self._metadata()
        while self._mark():
            self._content(root, 0)
        return root

    # Small pieces

    def _mark(self) -> bytes:
        """The next byte that is no blank and in no comment; nothing at the end."""
        mark = self.data[self.at : self.at + 1]
        if mark in _BLANKS:
            found = _SPACE.match(self.data, self.at)
            self.at = found.end() if found else self.at
            mark = self.data[self.at : self.at + 1]
        return mark

    def _gap(self) -> bytes:
        """What stands before the next mark, comments aside."""
        start = self.at
        self._mark()
        gap = self.data[start : self.at]
        return _COMMENT.sub(b" ", gap) if b"#" in gap or b"/" in gap else gap

    def _take(self, mark: bytes) -> None:
        if self._mark() != mark:
            raise self.fail(f"'{mark.decode()}' is expected, not '{self._seen()}'")
        self.at += 1

    def _seen(self) -> str:
        return self.data[self.at : self.at + 20].decode("utf-8", "replace").split("\n")[0]

    def _word(self) -> str:
        found = _SPACE_AND_WORD.match(self.data, self.at)
        if found is None:
            self._mark()
            raise self.fail(f"a name is expected, not '{self._seen()}'")
        self.at = found.end()
        return found[1].decode("utf-8", "replace")

    def _string(self) -> str:
        self._mark()
        found = _STRING.match(self.data, self.at)
        if found is None:
            raise self.fail("a text in quotes is expected")
        self.at = found.end()
        text = found[0].decode("utf-8", "replace")
        quotes = 3 if text.startswith(('"""', "'''")) else 1
        if "\\" not in text:
            return text[quotes:-quotes]
        return re.sub(r"\\(.)", lambda m: _ESCAPES.get(m[1], m[1]), text[quotes:-quotes], flags=re.DOTALL)

    # Prims

    def _content(self, prim: Prim, depth: int) -> None:
        """One statement inside a prim: a child, a variant set or a property."""
        if depth > DEEPEST:
            raise self.fail(f"prims nest deeper than {DEEPEST}")
        start = self.at
        word = self._word()
        if word in ("def", "over", "class"):
            child = self._prim(word, depth)
            if child.name in prim.children:
                raise self.fail(f"'{child.name}' is there twice")
            prim.children[child.name] = child
        elif word == "variantSet":
            self._variant_set(prim, depth)
        elif word == "reorder" and self._is_reordering():
            self._word()
            self._take(b"=")
            self._value("", 0)
        else:
            self.at = start
            self._property(prim)

    def _is_reordering(self) -> bool:
        self._mark()
        return self.data.startswith((b"nameChildren", b"properties", b"rootPrims"), self.at)

    def _prim(self, specifier: str, depth: int) -> Prim:
        kind = "" if self._mark() in _QUOTES else self._word()
        prim = Prim(specifier, kind, self._string())
        if not _IDENTIFIER.match(prim.name):
            raise self.fail(f"'{prim.name}' is not a name that a prim may have")
        if self._mark() == b"(":
            prim.meta = self._metadata()
        self._body(prim, depth)
        return prim

    def _body(self, prim: Prim, depth: int) -> None:
        self._take(b"{")
        while (mark := self._mark()) != b"}":
            if not mark:
                raise self.fail(f"the end of '{prim.name}' is missing")
            self._content(prim, depth + 1)
        self.at += 1

    def _variant_set(self, prim: Prim, depth: int) -> None:
        name = self._string()
        self._take(b"=")
        self._take(b"{")
        variants = prim.variants.setdefault(name, {})
        while self._mark() != b"}":
            variant = Prim("over", "", self._string())
            if self._mark() == b"(":
                variant.meta = self._metadata()
            self._body(variant, depth + 1)
            variants[variant.name] = variant
        self.at += 1

    def _property(self, prim: Prim) -> None:
        words = [self._word()]
        while words[-1] in _BEFORE_TYPES:
            words.append(self._word())
        kind, removing = words[-1], "delete" in words
        name = self._word()
        suffix = ""
        if "." in name:
            for ending in (".connect", ".timeSamples", ".default", ".spline"):
                if name.endswith(ending):
                    name, suffix = name[: -len(ending)], ending
        known = prim.properties.setdefault(name, Property(kind))
        known.uniform |= "uniform" in words
        if not known.type or known.type == "rel":
            known.type = kind
        gap = self._gap()
        if self.data.startswith(b"=", self.at):
            self.at += 1
            self._assign(known, kind, suffix, removing=removing)
            gap = self._gap()
        if self.data.startswith(b"(", self.at):
            known.meta.update(self._metadata())
            gap = self._gap()
        self._end_statement(gap, b"}")

    def _end_statement(self, gap: bytes, bracket: bytes) -> None:
        """Checks what is between a statement and what follows: a new line, unless a closing bracket does."""
        if b"," in gap:
            raise self.fail("a comma has no place here")
        if not _ENDS.search(gap) and not self.data.startswith(bracket, self.at) and self.at < len(self.data):
            raise self.fail(f"a new line is expected before '{self._seen()}'")

    def _assign(self, known: Property, kind: str, suffix: str, *, removing: bool) -> None:
        if suffix == ".timeSamples":
            self._take(b"{")
            while self._mark() != b"}":
                time = self._number()
                self._take(b":")
                known.samples[time] = self._typed(kind)
            self.at += 1
        elif suffix == ".spline":
            self._skip_braces()
        elif suffix == ".connect" or kind == "rel":
            value = self._value("", 0)
            found = [] if value is None else value if isinstance(value, list) else [value]
            if not all(isinstance(one, Target) for one in found):
                raise self.fail("a path is expected")
            paths = tuple(one.path for one in found)
            known.targets = () if removing else paths
        else:
            known.value = self._typed(kind)

    def _typed(self, kind: str) -> Any:
        """A value that is one of its type: as many numbers as that has, a list where it is one."""
        is_list = self._mark() == b"["
        value = self._value(kind, 0)
        if value is None:
            return value
        base, width = kind.removesuffix("[]"), _numbers_of(kind)
        sound = is_list == kind.endswith("[]")
        if width:
            count = value.size if isinstance(value, np.ndarray) else 1
            sound &= isinstance(value, np.ndarray | int | float) and not isinstance(value, bool)
            sound &= not count % width if is_list else count == width
            if sound and base.rstrip("234") in _RANGES and getattr(value, "dtype", None) != np.int32:
                lowest, highest = _RANGES[base.rstrip("234")]
                numbers = np.asarray(value)
                sound = bool(((numbers >= lowest) & (numbers <= highest) & (numbers == np.floor(numbers))).all())
        elif base in _WORDS:
            sound &= all(isinstance(one, _WORDS[base]) for one in (value if isinstance(value, list) else (value,)))
        else:
            sound = True
        if not sound:
            raise self.fail(f"this is no value of type {kind}")
        return value

    def _skip_braces(self) -> None:
        self._take(b"{")
        depth = 1
        while depth:
            found = _BRACES.search(self.data, self.at)
            if found is None:
                raise self.fail("a closing brace is missing")
            depth += 1 if found[0] == b"{" else -1
            self.at = found.end()

    def _number(self) -> float:
        self._mark()
        found = _NUMBER.match(self.data, self.at)
        if found is None:
            raise self.fail("a number is expected")
        self.at = found.end()
        return float(found[0])

    # Metadata and values

    def _metadata(self) -> dict[str, Any]:
        self._take(b"(")
        meta: dict[str, Any] = {}
        while (mark := self._mark()) != b")":
            if not mark:
                raise self.fail("a closing parenthesis is missing")
            if mark in _QUOTES:
                self._string()  # a comment
                continue
            key = self._word()
            operation = ""
            if key.encode() in _LIST_WORDS:
                operation, key = key, self._word()
            self._take(b"=")
            value = self._value("", 0)
            self._end_statement(self._gap(), b")")
            if operation == "delete":
                continue
            if operation in ("prepend", "append", "add") and key in meta:
                value = [*_listed(meta[key]), *_listed(value)]
            meta[key] = value
        self.at += 1
        return meta

    def _value(self, kind: str, depth: int) -> Any:
        if depth > DEEPEST:
            raise self.fail(f"values nest deeper than {DEEPEST}")
        mark = self._mark()
        if mark == b"[":
            return self._array(kind, depth)
        if mark == b"(":
            return self._tuple(kind)
        if mark == b"{":
            return self._dictionary(depth)
        if mark in _QUOTES:
            return self._string()
        if mark == b"@":
            return self._asset()
        if mark == b"<":
            return self._path()
        found = _NUMBER.match(self.data, self.at)
        if found is not None:
            self.at = found.end()
            text = found[0]
            return int(text) if _WHOLE.match(text) else float(text)
        word = self._word()
        if kind and word not in _VALUES:
            raise self.fail(f"'{word}' is no value of type {kind}")
        return _VALUES.get(word, word)

    def _array(self, kind: str, depth: int) -> Any:
        if _numbers_of(kind):
            # Arrays of numbers hold no other brackets: the end is the next one, but for comments.
            end = self.data.find(b"]", self.at)
            if end < 0:
                raise self.fail("the end of an array is missing")
            try:
                span = np.frombuffer(self.data, np.uint8, end + 1 - self.at, self.at)
                if self.data.find(b"#", self.at, end) >= 0 or self.data.find(b"/", self.at, end) >= 0:
                    span, end = self._without_comments()
                narrow = kind.startswith("int") and not kind.startswith("int64")
                values = numbers_of_list(span, _depth_of(kind), _width_in(kind), whole=narrow)
            except NotNumbersError as error:
                raise self.fail(str(error)) from None
            self.at = end + 1
            return values
        self.at += 1
        values_list: list[Any] = []
        while True:
            gap = self._gap()
            mark = self.data[self.at : self.at + 1]
            if not mark:
                raise self.fail("the end of an array is missing")
            commas = gap.count(b",")
            if b";" in gap or commas > bool(values_list) or (commas < bool(values_list) and mark != b"]"):
                raise self.fail(f"one comma is expected before '{self._seen()}'")
            if mark == b"]":
                break
            values_list.append(self._value(kind.removesuffix("[]"), depth + 1))
        self.at += 1
        return values_list

    def _without_comments(self) -> tuple[NDArray[np.uint8], int]:
        """The text of an array without its comments, and where it ends."""
        kept, at = [], self.at
        for found in _IN_ARRAY.finditer(self.data, self.at):
            kept.append(self.data[at : found.start()])
            at = found.end()
            if found[0] == b"]":
                return np.frombuffer(b" ".join([*kept, b"]"]), np.uint8), at - 1
        raise self.fail("the end of an array is missing")

    def _tuple(self, kind: str) -> NDArray[np.float64]:
        """The numbers of a tuple, tuples in it included."""
        depth, start = 0, self.at
        for found in _ROUND.finditer(self.data, self.at):
            depth += 1 if found[0] == b"(" else -1
            if depth == 0:
                self.at = found.end()
                break
        else:
            raise self.fail("a closing parenthesis is missing")
        span = self.data[start : self.at]
        if _numbers_of(kind):
            try:
                return numbers_of_list(_COMMENT.sub(b" ", span), _depth_of(kind), _width_in(kind))
            except NotNumbersError as error:
                raise self.fail(str(error)) from None
        try:
            return numbers_in(span)
        except NotNumbersError:
            return np.zeros(0)  # a layer offset or a tuple of words

    def _dictionary(self, depth: int) -> dict[str, Any]:
        self._take(b"{")
        found: dict[str, Any] = {}
        while (mark := self._mark()) != b"}":
            if not mark:
                raise self.fail("a closing brace is missing")
            if mark == b"<" or mark in _QUOTES:
                # Substitutions and relocations have no types.
                key = str(self._value("", depth + 1))
                self._take(b":")
                found[key] = self._value("", depth + 1)
                continue
            kind = self._word()
            name = self._string() if self._mark() in _QUOTES else self._word()
            self._take(b"=")
            found[name] = self._value("" if kind == "dictionary" else kind, depth + 1)
        self.at += 1
        return found

    def _asset(self) -> Asset:
        found = _ASSET.match(self.data, self.at)
        if found is None:
            raise self.fail("the end of a file name is missing")
        self.at = found.end()
        path = (found[1] if found[1] is not None else found[2]).decode("utf-8", "replace")
        prim = self._path().path if self._follows(b"<") else ""
        self._skip_offset()
        return Asset(path, self.layer, prim)

    def _follows(self, mark: bytes) -> bool:
        """Whether a mark is next; only then are the blanks before it passed."""
        start = self.at
        if self._mark() == mark:
            return True
        self.at = start
        return False

    def _skip_offset(self) -> None:
        """Passes a layer offset behind a reference, which shifts time only; what is in other brackets stays."""
        start = self.at
        if not self._follows(b"("):
            return
        if not _OFFSET.match(self.data, self.at):
            self.at = start
            return
        end = self.data.find(b")", self.at)
        if end < 0:
            raise self.fail("a closing parenthesis is missing")
        self.at = end + 1

    def _path(self) -> Target:
        found = _PATH.match(self.data, self.at)
        if found is None:
            raise self.fail("the end of a path is missing")
        self.at = found.end()
        self._skip_offset()
        return Target(found[1].decode("utf-8", "replace"))


def width_of(kind: str) -> int:
    """How many numbers a value of a type has, or each in a list of them."""
    kind = kind.removesuffix("[]")
    if kind.startswith("matrix"):
        return int(kind[6]) ** 2
    if kind.startswith("quat"):
        return 4
    digits = kind.rstrip("hfdi")[-1:]
    return int(digits) if digits in ("2", "3", "4") and kind not in ("int64", "uint64") else 1


def _depth_of(kind: str) -> int:
    """How many brackets are around the numbers of a value."""
    return 2 if kind.startswith("matrix") else int(width_of(kind) > 1)


def _width_in(kind: str) -> int:
    """How many numbers, or rows of a matrix, stand in a bracket."""
    return int(kind[6]) if kind.startswith("matrix") else width_of(kind)


@lru_cache(maxsize=1000)
def _numbers_of(kind: str) -> int:
    """How many numbers a value of a type has, or each in a list of them; none where it does not consist of numbers."""
    return width_of(kind) if _NUMERIC.match(kind) else 0


def _listed(value: Any) -> list[Any]:
    if isinstance(value, np.ndarray):
        return []  # numbers are no list of anything that is looked up
    return value if isinstance(value, list) else [value]


def word_in(meta: dict[str, Any], key: str) -> str:
    """What metadata say in a word; "" where they say something else, or nothing."""
    value = meta.get(key)
    return value if isinstance(value, str) else ""


def listed(value: Any) -> Iterator[Any]:
    """A value that may be one thing, several or nothing."""
    yield from (one for one in _listed(value) if one is not None)
