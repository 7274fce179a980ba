"""Prims, properties and values to a binary USD layer, version 0.8 (see `crate` for the format)."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.usd import _integers as kernels
from zesty_otter.formats.usd.crate import MAGIC, NUMBERS, PLAIN
from zesty_otter.formats.usd.text import Asset, Prim, Property, Target, listed

_VERSION = bytes((0, 8, 0))
_BLOCK = 0x7E000000  # bytes that one compressed block may hold

_TYPES = {
    "bool": 1, "uchar": 2, "int": 3, "uint": 4, "int64": 5, "uint64": 6, "half": 7, "float": 8, "double": 9,
    "string": 10, "token": 11, "asset": 12, "matrix2d": 13, "matrix3d": 14, "matrix4d": 15, "quatd": 16, "quatf": 17,
    "quath": 18, "double2": 19, "float2": 20, "half2": 21, "int2": 22, "double3": 23, "float3": 24, "half3": 25,
    "int3": 26, "double4": 27, "float4": 28, "half4": 29, "int4": 30,
}  # fmt: skip
_ROLES = re.compile(r"(?:point|normal|vector|color|texCoord)([234])([hfd])$")
_WIDE = {"h": "half", "f": "float", "d": "double"}
_SPECIFIERS = {"def": 0, "over": 1, "class": 2}
_ARRAY, _INLINED, _COMPRESSED = 1 << 63, 1 << 62, 1 << 61
_WORDS = frozenset({"interpolation", "kind", "defaultPrim", "upAxis"})  # metadata that are tokens, not texts
_EXPLICIT, _PREPENDED = 3, 32  # heads of lists of edits


def encode(root: Prim) -> bytes:
    """The layer whose pseudo-root this is: prims without variants, and what our writer says of them."""
    return _Crate(root).data()


class _Crate:
    def __init__(self, root: Prim) -> None:
        self.out: list[bytes] = [bytes(88)]
        self.length = 88
        # The first token is none, so that a property is known by the sign of its number.
        self.tokens: dict[str, int] = {";-)": 0}
        self.strings: dict[int, int] = {}
        self.fields: dict[tuple[int, int], int] = {}
        self.sets: dict[tuple[int, ...], int] = {}
        self.set_members: list[int] = []
        self.paths: dict[str, int] = {}
        self.tree: list[tuple[int, int, int]] = []  # of each path its number, its token and the jump to its sibling
        self.known: dict[tuple[int, bytes], int] = {}
        self.specs: list[tuple[int, int, int]] = []
        self._number_paths(root, "/")
        self._prim(root, "/", 7)

    def data(self) -> bytes:
        sections = []
        for name, content in (
            ("TOKENS", self._tokens()),
            ("STRINGS", struct.pack("<Q", len(self.strings)) + np.array(list(self.strings), "<u4").tobytes()),
            ("FIELDS", self._fields()),
            ("FIELDSETS", struct.pack("<Q", len(self.set_members)) + packed(self.set_members)),
            ("PATHS", self._paths()),
            ("SPECS", self._specs()),
        ):
            sections.append(struct.pack("<16sqq", name.encode(), self._put(content, 1), len(content)))
        toc = self._put(struct.pack("<Q", len(sections)) + b"".join(sections), 1)
        self.out[0] = (MAGIC + _VERSION).ljust(16, b"\0") + struct.pack("<q", toc) + bytes(64)
        return b"".join(self.out)

    def _put(self, data: bytes, align: int = 8) -> int:
        """Where some bytes stand from now on."""
        gap = -self.length % align
        self.out += [bytes(gap), data]
        at = self.length + gap
        self.length = at + len(data)
        return at

    def _token(self, text: str) -> int:
        return self.tokens.setdefault(text, len(self.tokens))

    def _string(self, text: str) -> int:
        token = self._token(text)
        return self.strings.setdefault(token, len(self.strings))

    # Sections

    def _tokens(self) -> bytes:
        text = b"".join(one.encode("utf-8", "replace") + b"\0" for one in self.tokens)
        inner = deflated(text)
        return struct.pack("<QQQ", len(self.tokens), len(text), len(inner)) + inner

    def _fields(self) -> bytes:
        names, reps = zip(*self.fields, strict=True)
        inner = deflated(np.array(reps, "<u8").tobytes())
        return struct.pack("<Q", len(names)) + packed(names) + struct.pack("<Q", len(inner)) + inner

    def _paths(self) -> bytes:
        columns = zip(*self.tree, strict=True)
        return struct.pack("<QQ", len(self.tree), len(self.tree)) + b"".join(map(packed, columns))

    def _specs(self) -> bytes:
        return struct.pack("<Q", len(self.specs)) + b"".join(map(packed, zip(*self.specs, strict=True)))

    def _number_paths(self, prim: Prim, path: str) -> None:
        """Every path in the order of the tree, with the way from one to the next."""
        waiting: list[tuple[Prim | None, str, int, int]] = [(prim, path, 0, -1)]
        last: list[int] = []
        while waiting:
            one, path, token, depth = waiting.pop()
            number = self.paths.setdefault(path, len(self.paths))
            depth += 1
            # The one before this among its siblings learns how far away this is.
            if depth < len(last):
                before = last[depth]
                where, of, jump = self.tree[before]
                self.tree[before] = where, of, len(self.tree) - before if jump == -1 else 0
                del last[depth:]
            last.append(len(self.tree))
            below: list[tuple[Prim | None, str, int, int]] = []
            if one is not None:
                start = "" if path == "/" else path
                below = [(child, f"{start}/{name}", self._token(name), depth) for name, child in one.children.items()]
                below += [(None, f"{path}.{name}", -self._token(name), depth) for name in one.properties]
            self.tree.append((number, token, -1 if below else -2))
            waiting += reversed(below)

    # Specs

    def _spec(self, path: str, kind: int, fields: Iterable[tuple[str, int]]) -> None:
        numbers = []
        for name, rep in fields:
            key = self._token(name), rep
            numbers.append(self.fields.setdefault(key, len(self.fields)))
        members = tuple(numbers)
        if members not in self.sets:
            self.sets[members] = len(self.set_members)
            self.set_members += [*members, -1]
        self.specs.append((self.paths[path], self.sets[members], kind))

    def _prim(self, prim: Prim, path: str, kind: int) -> None:
        waiting = [(prim, path, kind)]
        while waiting:
            one, path, kind = waiting.pop()
            fields = []
            if kind == 6:
                fields.append(("specifier", _INLINED | 42 << 48 | _SPECIFIERS[one.specifier]))
                if one.type:
                    fields.append(("typeName", self._word(one.type)))
            fields += [(name, rep) for key, value in one.meta.items() for name, rep in self._meta(key, value)]
            if one.children:
                fields.append(("primChildren", self._token_vector(one.children)))
            if one.properties:
                fields.append(("properties", self._token_vector(one.properties)))
            self._spec(path, kind, fields)
            for name, about in one.properties.items():
                self._property(f"{path}.{name}", about)
            start = "" if path == "/" else path
            waiting += [(child, f"{start}/{name}", 6) for name, child in reversed(one.children.items())]

    def _property(self, path: str, one: Property) -> None:
        relation = one.type == "rel"
        fields = [] if relation else [("typeName", self._word(one.type))]
        if one.uniform or relation:
            fields.append(("variability", _INLINED | 44 << 48 | 1))
        if one.value is not None:
            fields.append(("default", self._value(one.type, one.value)))
        if one.targets:
            name = "targetPaths" if relation else "connectionPaths"
            numbers = [self.paths.get(target, 0) for target in one.targets]
            data = struct.pack("<BQ", _EXPLICIT, len(numbers)) + np.array(numbers, "<u4").tobytes()
            fields.append((name, self._stored(34, data)))
        fields += [(name, rep) for key, value in one.meta.items() for name, rep in self._meta(key, value)]
        self._spec(path, 8 if relation else 1, fields)

    def _meta(self, key: str, value: Any) -> Iterable[tuple[str, int]]:
        if key == "apiSchemas":
            names = [self._token(str(one)) for one in listed(value)]
            data = struct.pack("<BQ", _PREPENDED, len(names)) + np.array(names, "<u4").tobytes()
            yield key, self._stored(32, data)
        elif key == "references":
            yield key, self._stored(35, self._references(list(listed(value))))
        elif isinstance(value, dict):
            yield key, self._dictionary(value)
        elif isinstance(value, str):
            yield key, self._word(value) if key in _WORDS else _INLINED | 10 << 48 | self._string(value)
        else:
            yield key, self._plain(value)

    def _references(self, targets: list[Any]) -> bytes:
        out = struct.pack("<BQ", _PREPENDED, len(targets))
        for one in targets:
            prim = one.path if isinstance(one, Target) else one.prim
            file = one.path if isinstance(one, Asset) else ""
            # No shift of time, no custom data.
            out += struct.pack("<IIddQ", self._string(file), self.paths.get(prim, 0), 0.0, 1.0, 0)
        return out

    # Values

    def _stored(self, kind: int, data: bytes, flags: int = 0) -> int:
        """The representation of bytes that stand somewhere, once however often they are said."""
        key = kind | flags >> 48, data
        if key not in self.known:
            self.known[key] = flags | kind << 48 | self._put(data)
        return self.known[key]

    def _word(self, text: str) -> int:
        return _INLINED | 11 << 48 | self._token(text)

    def _token_vector(self, names: Iterable[str]) -> int:
        numbers = [self._token(one) for one in names]
        return self._stored(41, struct.pack("<Q", len(numbers)) + np.array(numbers, "<u4").tobytes())

    def _plain(self, value: Any) -> int:
        """A value whose type nobody says: a switch, a whole number, a number or a list of them."""
        if isinstance(value, bool):
            return self._value("bool", value)
        if isinstance(value, int):
            return self._value("int" if -(2**31) <= value < 2**31 else "int64", value)
        return self._value("double[]" if isinstance(value, np.ndarray) else "double", value)

    def _dictionary(self, values: dict[str, Any]) -> int:
        if not values:
            return _INLINED | 31 << 48
        # Values first, so that what points ahead from each key finds its representation right there.
        reps = {}
        for key, value in values.items():
            if isinstance(value, dict):
                reps[key] = self._dictionary(value)
            else:
                text = isinstance(value, str)
                reps[key] = _INLINED | 10 << 48 | self._string(value) if text else self._plain(value)
        data = struct.pack("<Q", len(reps))
        for key, rep in reps.items():
            data += struct.pack("<IqQ", self._string(key), 8, rep)
        return self._stored(31, data)

    def _value(self, kind: str, value: Any) -> int:
        code = _code_of(kind)
        if kind.endswith("[]"):
            return self._array(code, value)
        if code in (10, 11, 12):
            if code == 10:
                return _INLINED | code << 48 | self._string(str(value))
            return _INLINED | code << 48 | self._token(value.path if isinstance(value, Asset) else str(value))
        dtype = NUMBERS[code][0]
        numbers = _ordered(code, np.atleast_1d(np.asarray(value)).astype(dtype))
        data = numbers.tobytes()
        if len(data) <= 4:
            return _INLINED | code << 48 | int.from_bytes(data, "little")
        if code == 9 and float(np.float32(numbers[0])) == numbers[0]:
            return _INLINED | code << 48 | int.from_bytes(numbers.astype("<f4").tobytes(), "little")
        return self._stored(code, data)

    def _array(self, code: int, value: Any) -> int:
        if code in (10, 11, 12):
            numbers: NDArray[Any] = np.array([self._member(code, one) for one in value], "<u4")
        else:
            numbers = _ordered(code, np.ascontiguousarray(value, NUMBERS[code][0]).ravel())
        width = 1 if code in (10, 11, 12) else NUMBERS[code][1]
        count = len(numbers) // width
        if not count:
            return _ARRAY | code << 48
        if code == 3 and count >= PLAIN:
            return self._stored(code, struct.pack("<Q", count) + packed(numbers), _ARRAY | _COMPRESSED)
        return self._stored(code, struct.pack("<Q", count) + numbers.tobytes(), _ARRAY)

    def _member(self, code: int, one: Any) -> int:
        text = one.path if isinstance(one, Asset) else str(one)
        return self._string(text) if code == 10 else self._token(text)


def _code_of(kind: str) -> int:
    base = kind.removesuffix("[]")
    role = _ROLES.match(base)
    return _TYPES[f"{_WIDE[role[2]]}{role[1]}" if role else base]


def _ordered(code: int, numbers: NDArray[Any]) -> NDArray[Any]:
    """Quaternions have their real part last."""
    return numbers.reshape(-1, 4)[:, [1, 2, 3, 0]].ravel() if code in (16, 17, 18) else numbers


def deflated(data: bytes) -> bytes:
    """Bytes as `crate.inflated` takes them."""
    import lz4.block

    if len(data) <= _BLOCK:
        return b"\0" + bytes(lz4.block.compress(data, store_size=False))
    blocks = [lz4.block.compress(data[at : at + _BLOCK], store_size=False) for at in range(0, len(data), _BLOCK)]
    return bytes((len(blocks),)) + b"".join(struct.pack("<i", len(one)) + one for one in blocks)


def packed(values: Any) -> bytes:
    """Whole numbers, compressed, with the size of that before them."""
    numbers = np.ascontiguousarray(values, np.int32)
    steps = np.diff(numbers[:4096], prepend=np.int32(0))
    different, counts = np.unique(steps, return_counts=True)
    common = int(different[np.argmax(counts)]) if len(different) else 0
    out = np.zeros(4 + (2 * len(numbers) + 7) // 8 + 4 * len(numbers), np.uint8)
    inner = deflated(out[: kernels.encode32(numbers, common, out)].tobytes())
    return struct.pack("<Q", len(inner)) + inner
