"""Binary USD layers, taken apart into the same prims, properties and values as text.

Pixar, "crate" file format of USD, versions 0.4 to 0.13: a table of contents and six sections (tokens, strings, fields,
field sets, paths, specs); values stand anywhere and are found by 64-bit representations. Sections and long arrays are
compressed (Y. Collet, LZ4 block format; whole numbers as steps, see the kernel).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.usd import _integers as kernels
from zesty_otter.formats.usd.text import Asset, Prim, Property, Target, listed

MAGIC = b"PXR-USDC"
PLAIN = 16
"""Numbers below which an array is not compressed."""

_OLDEST, _NEWEST = (0, 4), (0, 13)
_MOST = 1 << 28  # numbers in an array
_DEEPEST = 60  # values in values
_VARIANT = re.compile(r"\{([^={}]*)=([^={}]*)\}$")

_PRIM, _PSEUDO_ROOT, _ATTRIBUTE, _RELATIONSHIP, _VARIANT_SPEC, _VARIANT_SET = 6, 7, 1, 8, 10, 11
_SPECIFIERS = ("def", "over", "class")

NUMBERS = {
    1: ("u1", 1), 2: ("u1", 1), 3: ("<i4", 1), 4: ("<u4", 1), 5: ("<i8", 1), 6: ("<u8", 1), 7: ("<f2", 1),
    8: ("<f4", 1), 9: ("<f8", 1), 13: ("<f8", 4), 14: ("<f8", 9), 15: ("<f8", 16), 16: ("<f8", 4), 17: ("<f4", 4),
    18: ("<f2", 4), 19: ("<f8", 2), 20: ("<f4", 2), 21: ("<f2", 2), 22: ("<i4", 2), 23: ("<f8", 3), 24: ("<f4", 3),
    25: ("<f2", 3), 26: ("<i4", 3), 27: ("<f8", 4), 28: ("<f4", 4), 29: ("<f2", 4), 30: ("<i4", 4), 56: ("<f8", 1),
}  # fmt: skip
"""Of each type of number its NumPy type, and how many make one value."""
_BOOL, _STRING, _TOKEN, _ASSET = 1, 10, 11, 12
_MATRICES, _QUATERNIONS = {13: 2, 14: 3, 15: 4}, (16, 17, 18)
_DICTIONARY, _TOKEN_LIST, _STRING_LIST, _PATH_LIST, _REFERENCE_LIST, _PAYLOAD_LIST = 31, 32, 33, 34, 35, 55
_PATHS, _TOKENS, _SPECIFIER, _PERMISSION, _VARIABILITY = 40, 41, 42, 43, 44
_SELECTIONS, _SAMPLES, _PAYLOAD, _DOUBLES, _STRINGS, _BLOCK = 45, 46, 47, 48, 50, 51


class CrateError(ValueError):
    """The bytes are not what the format allows."""


def parse(data: bytes, layer: str = "") -> Prim:
    """The pseudo-root of a layer: its metadata and root prims.

    Raises
    ------
    CrateError
        Where the bytes break the format.
    """
    try:
        return _Crate(data, layer).root()
    except (struct.error, IndexError, UnicodeDecodeError, OverflowError) as error:
        raise CrateError(f"its tables do not fit together ({error})") from None


def inflated(data: bytes | memoryview, most: int) -> bytes:
    """What was compressed: one block, or several that follow each other, each with its size.

    Raises
    ------
    CrateError
        When it is damaged, or longer than ``most``.
    """
    import lz4.block

    if not len(data):
        raise CrateError("a compressed part is empty")
    # A block holds at most 255 times its size, so that what it claims can be checked before there is room for it.
    blocks = [data[1:]]
    if data[0]:
        blocks, at = [], 1
        for _ in range(data[0]):
            (size,) = struct.unpack_from("<i", data, at)
            if size < 0 or at + 4 + size > len(data):
                raise CrateError("a compressed part is longer than the file")
            blocks.append(data[at + 4 : at + 4 + size])
            at += 4 + size
    out = []
    for block in blocks:
        room = min(most, 255 * len(block) + 64)
        try:
            out.append(lz4.block.decompress(block, uncompressed_size=room))
        except (lz4.block.LZ4BlockError, MemoryError, ValueError):
            raise CrateError("a compressed part is damaged") from None
        most -= len(out[-1])
    return b"".join(out)


class _Crate:
    def __init__(self, data: bytes, layer: str) -> None:
        self.data, self.layer = memoryview(data), layer
        if len(data) < 88:
            raise CrateError("it is shorter than its head")
        self.version: tuple[int, int] = (data[8], data[9])
        if not _OLDEST <= self.version <= _NEWEST:
            raise CrateError(f"version {data[8]}.{data[9]}.{data[10]} is not known")
        (start,) = struct.unpack_from("<q", data, 16)
        (count,) = self._at("<Q", start)
        if count > 64:
            raise CrateError("its table of contents is damaged")
        self.sections: dict[str, tuple[int, int]] = {}
        for k in range(count):
            name, first, size = self._at("<16sqq", start + 8 + 32 * k)
            if first < 0 or size < 0 or first + size > len(data):
                raise CrateError("a section lies outside the file")
            self.sections[name.rstrip(b"\0").decode("ascii", "replace")] = first, size
        self.tokens = self._tokens()
        self.strings = self._strings()
        self.fields = self._fields()
        self.paths = self._paths()
        self.values: dict[int, Any] = {}

    def _at(self, form: str, place: int) -> tuple[Any, ...]:
        if place < 0 or place + struct.calcsize(form) > len(self.data):
            raise CrateError("it is cut short, or points outside itself")
        return struct.unpack_from(form, self.data, place)

    def _bytes(self, place: int, size: int) -> memoryview:
        if place < 0 or size < 0 or place + size > len(self.data):
            raise CrateError("it is cut short, or points outside itself")
        return self.data[place : place + size]

    def _section(self, name: str) -> int:
        if name not in self.sections:
            raise CrateError(f"it has no section {name}")
        return self.sections[name][0]

    # Sections

    def _tokens(self) -> list[str]:
        at = self._section("TOKENS")
        count, long, packed = self._at("<QQQ", at)
        if count > _MOST or long > _MOST:
            raise CrateError("it has too many tokens")
        text = inflated(self._bytes(at + 24, packed), long)
        found = text.decode("utf-8", "replace").split("\0")
        if len(found) < count:
            raise CrateError("tokens are missing")
        return found[:count]

    def _strings(self) -> list[str]:
        at = self._section("STRINGS")
        (count,) = self._at("<Q", at)
        return [self._token(one) for one in self._numbers("<u4", count, at + 8).tolist()]

    def _token(self, number: int) -> str:
        if not 0 <= number < len(self.tokens):
            raise CrateError("a token is not there")
        return self.tokens[number]

    def _string(self, number: int) -> str:
        if not 0 <= number < len(self.strings):
            raise CrateError("a text is not there")
        return self.strings[number]

    def _path(self, number: int) -> str:
        if not 0 <= number < len(self.paths):
            raise CrateError("a path is not there")
        return self.paths[number]

    def _fields(self) -> list[tuple[str, int]]:
        """The name of each field, and the representation of its value."""
        at = self._section("FIELDS")
        (count,) = self._at("<Q", at)
        names, at = self._packed(count, at + 8)
        (size,) = self._at("<Q", at)
        data = inflated(self._bytes(at + 8, size), 8 * count)
        if len(data) < 8 * count:
            raise CrateError("values of fields are missing")
        reps = np.frombuffer(data, "<u8", count).tolist()
        return [(self._token(name), rep) for name, rep in zip(names.tolist(), reps, strict=True)]

    def _packed(self, count: int, at: int) -> tuple[NDArray[np.int32], int]:
        """Whole numbers that are compressed, with their size before them, and where they end."""
        (size,) = self._at("<Q", at)
        return self._integers(self._bytes(at + 8, size), count, 4), at + 8 + size

    def _integers(self, data: memoryview, count: int, width: int) -> NDArray[Any]:
        # Two bits a number at least, of which a compressed byte can hold 255 times 8.
        if count > _MOST or count > 1020 * len(data) + 64:
            raise CrateError("an array is longer than its bytes")
        coded = inflated(data, width + (2 * count + 7) // 8 + width * count)
        narrow, wide = np.empty(count if width == 4 else 0, np.int32), np.empty(count if width == 8 else 0, np.int64)
        span = np.frombuffer(coded, np.uint8)
        if (kernels.decode32(span, narrow) if width == 4 else kernels.decode64(span, wide)) < 0:
            raise CrateError("an array is cut short")
        return narrow if width == 4 else wide

    def _paths(self) -> list[str]:
        at = self._section("PATHS")
        total, count = self._at("<QQ", at)
        numbers, at = self._packed(count, at + 16)
        elements, at = self._packed(count, at)
        jumps, at = self._packed(count, at)
        if total > _MOST or count > total:
            raise CrateError("it has too many paths")
        found = [""] * total
        waiting = [(0, "")]
        where, token, jump = numbers.tolist(), elements.tolist(), jumps.tolist()
        seen = 0
        while waiting:
            k, above = waiting.pop()
            while k < count:
                seen += 1
                if seen > count or not 0 <= where[k] < total:
                    raise CrateError("its paths run in a circle")
                found[where[k]] = path = _below(above, token[k], self._token(abs(token[k]))) if above else "/"
                child, sibling = jump[k] > 0 or jump[k] == -1, jump[k] >= 0
                if child and sibling:
                    waiting.append((k + jump[k], above))
                if child:
                    above = path
                if not child and not sibling:
                    break
                k += 1
        return found

    # The tree

    def root(self) -> Prim:
        at = self._section("FIELDSETS")
        (count,) = self._at("<Q", at)
        sets, _ = self._packed(count, at + 8)
        at = self._section("SPECS")
        (count,) = self._at("<Q", at)
        paths, at = self._packed(count, at + 8)
        fields, at = self._packed(count, at)
        kinds, _ = self._packed(count, at)
        made: dict[str, Prim] = {}
        order: dict[str, tuple[str, ...]] = {}
        later: list[tuple[str, int, dict[str, int]]] = []
        for path, first, kind in zip(paths.tolist(), fields.tolist(), kinds.tolist(), strict=True):
            where = self._path(path)
            said = self._said(sets, first)
            if kind in (_PRIM, _PSEUDO_ROOT, _VARIANT_SPEC):
                made[where] = self._prim(where, said)
                children = self._value(said["primChildren"], 0) if "primChildren" in said else ()
                order[where] = tuple(one for one in listed(children) if isinstance(one, str))
            elif kind in (_ATTRIBUTE, _RELATIONSHIP):
                later.append((where, kind, said))
        if "/" not in made:
            raise CrateError("it has no root")
        for where, kind, said in later:
            above, _, name = where.rpartition(".")
            if above in made:
                made[above].properties[name] = self._property(kind, said)
        # Deeper ones first, so that a child is whole when it is put into its parent; in the order the parent says.
        for where in sorted(made, key=lambda one: (-one.count("/") - one.count("{"), one)):
            prim = made[where]
            below = {name: made[one] for name in order[where] if (one := _below(where, 1, name)) in made}
            prim.children.update(below)
        for where, prim in made.items():
            found = _VARIANT.search(where)
            holder = made.get(where[: found.start()]) if found else None
            if found and holder is not None:
                holder.variants.setdefault(found[1], {})[found[2]] = prim
        return made["/"]

    def _said(self, sets: NDArray[np.int32], first: int) -> dict[str, int]:
        """The fields of a set that begins somewhere and ends with -1."""
        found: dict[str, int] = {}
        while 0 <= first < len(sets) and sets[first] >= 0:
            number = int(sets[first])
            if number >= len(self.fields):
                raise CrateError("a field is not there")
            name, rep = self.fields[number]
            found[name] = rep
            first += 1
        return found

    def _prim(self, path: str, said: dict[str, int]) -> Prim:
        variant = _VARIANT.search(path)
        name = variant[2] if variant else path.rpartition("/")[2].rpartition("}")[2]
        specifier = self._value(said["specifier"], 0) if "specifier" in said else "def" if path == "/" else "over"
        kind = self._value(said["typeName"], 0) if "typeName" in said else ""
        known = isinstance(specifier, str) and specifier in _SPECIFIERS
        prim = Prim(str(specifier) if known else "over", kind if isinstance(kind, str) else "", name)
        for field, rep in said.items():
            if field in _NO_META:
                continue
            prim.meta[_META.get(field, field)] = self._value(rep, 0)
        if isinstance(prim.meta.get("subLayers"), list):
            prim.meta["subLayers"] = [Asset(str(one), self.layer) for one in prim.meta["subLayers"]]
        return prim

    def _property(self, kind: int, said: dict[str, int]) -> Property:
        name = str(self._value(said["typeName"], 0)) if "typeName" in said else ""
        made = Property("rel" if kind == _RELATIONSHIP else name)
        for field, rep in said.items():
            if field == "default":
                made.value = self._value(rep, 0)
            elif field == "timeSamples":
                samples = self._value(rep, 0)
                made.samples = samples if isinstance(samples, dict) and rep >> 48 & 0xFF == _SAMPLES else {}
            elif field in ("targetPaths", "connectionPaths"):
                paths = self._value(rep, 0)
                made.targets = tuple(one.path for one in listed(paths) if isinstance(one, Target))
            elif field not in _NO_META:
                made.meta[field] = self._value(rep, 0)
        return made

    # Values

    def _value(self, rep: int, depth: int) -> Any:
        """The value of a representation; one that stands somewhere is read once, so that copies share it."""
        if depth > _DEEPEST:
            raise CrateError("values nest too deeply")
        if rep >> 62 & 1:
            return self._inlined(rep)
        if rep not in self.values:
            self.values[rep] = self._read(rep, depth)
        return self.values[rep]

    def _inlined(self, rep: int) -> Any:
        kind, payload = rep >> 48 & 0xFF, rep & 0xFFFFFFFFFFFF
        low = payload & 0xFFFFFFFF
        raw = struct.pack("<Q", payload)
        if kind == _TOKEN:
            return self._token(low)
        if kind == _STRING:
            return self._string(low)
        if kind == _ASSET:
            return Asset(self._token(low), self.layer)
        if kind == _SPECIFIER:
            return _SPECIFIERS[low] if low < 3 else "over"
        if kind == _DICTIONARY:
            return {}
        if kind in _MATRICES:
            size = _MATRICES[kind]
            return np.diag(np.frombuffer(raw, "i1", size).astype(np.float64)).ravel()
        if kind not in NUMBERS:
            return None
        dtype, width = NUMBERS[kind]
        if width > 1:
            return np.frombuffer(raw, "i1", width).astype(_held(dtype))
        if kind == _BOOL:
            return bool(low)
        # What takes more than 32 bits is inlined where 32 bits say the same.
        number = np.frombuffer(raw, {"<f8": "<f4", "<i8": "<i4", "<u8": "<u4"}.get(dtype, dtype), 1)[0]
        return number.item()

    def _read(self, rep: int, depth: int) -> Any:
        kind, at = rep >> 48 & 0xFF, rep & 0xFFFFFFFFFFFF
        if rep >> 63:
            return self._array(kind, at, compressed=bool(rep >> 61 & 1))
        if kind in NUMBERS:
            dtype, width = NUMBERS[kind]
            found = self._numbers(dtype, width, at)
            if kind in _QUATERNIONS:
                found = found[[3, 0, 1, 2]]  # stored with the real part last, said with it first
            return found.astype(_held(dtype)) if width > 1 else found[0].item()
        if kind in _READERS:
            return _READERS[kind](self, at, depth)
        return None

    def _numbers(self, dtype: str, count: int, at: int) -> NDArray[Any]:
        size = np.dtype(dtype).itemsize
        if count > len(self.data) // size:
            raise CrateError("an array is longer than the file")
        return np.frombuffer(self._bytes(at, count * size), dtype, count)

    def _array(self, kind: int, at: int, *, compressed: bool) -> Any:
        if at == 0:
            return [] if kind in (_STRING, _TOKEN, _ASSET) else np.zeros(0, np.float64 if kind > 6 else np.int32)
        if self.version < (0, 5):
            at += 4  # the rank, always 1
        count, at = (self._at("<I", at)[0], at + 4) if self.version < (0, 7) else (self._at("<Q", at)[0], at + 8)
        if kind in (_STRING, _TOKEN, _ASSET):
            numbers = self._numbers("<u4", count, at).tolist()
            if kind == _ASSET:
                return [Asset(self._token(one), self.layer) for one in numbers]
            return [(self._string if kind == _STRING else self._token)(one) for one in numbers]
        if kind not in NUMBERS:
            return None
        dtype, width = NUMBERS[kind]
        if not compressed or count < PLAIN:
            found = self._numbers(dtype, width * count, at)
        elif kind in (3, 4, 5, 6):
            (size,) = self._at("<Q", at)
            found = self._integers(self._bytes(at + 8, size), count, 4 if kind < 5 else 8)
        else:
            found = self._few_floats(dtype, count, at)
        if kind in _QUATERNIONS:
            found = found.reshape(-1, 4)[:, [3, 0, 1, 2]].ravel()
        if kind == _BOOL:
            return [bool(one) for one in found[:_MOST].tolist()]
        return found.astype(_held(dtype), copy=False)

    def _few_floats(self, dtype: str, count: int, at: int) -> NDArray[Any]:
        """Numbers that are whole, or of which there are few different ones."""
        (code,) = self._at("c", at)
        if code == b"i":
            (size,) = self._at("<Q", at + 1)
            return self._integers(self._bytes(at + 9, size), count, 4).astype(dtype)
        if code != b"t":
            raise CrateError("an array is compressed in a way that is not known")
        (different,) = self._at("<I", at + 1)
        table = self._numbers(dtype, different, at + 5)
        at += 5 + table.nbytes
        (size,) = self._at("<Q", at)
        index = self._integers(self._bytes(at + 8, size), count, 4)
        if len(index) and (int(index.min()) < 0 or int(index.max()) >= len(table)):
            raise CrateError("an array refers to what is not there")
        return np.asarray(table[index])

    def _members(self, at: int, form: str) -> tuple[list[Any], int]:
        """A list with its length before it, and where it ends."""
        (count,) = self._at("<Q", at)
        size = struct.calcsize(form)
        if count > len(self.data) // size:
            raise CrateError("a list is longer than the file")
        return [one for (one,) in struct.iter_unpack(form, self._bytes(at + 8, count * size))], at + 8 + count * size

    def _ahead(self, at: int) -> tuple[int, int]:
        """The representation that stands as far ahead as is said here, behind what it is of; and where it ends."""
        (ahead,) = self._at("<q", at)
        if ahead < 8:
            raise CrateError("a value points back to itself")
        return self._at("<Q", at + ahead)[0], at + ahead + 8

    def _dictionary(self, at: int, depth: int) -> dict[str, Any]:
        return self._dictionary_and_end(at, depth)[0]

    def _dictionary_and_end(self, at: int, depth: int) -> tuple[dict[str, Any], int]:
        (count,) = self._at("<Q", at)
        if count > len(self.data) // 12:
            raise CrateError("a dictionary is longer than the file")
        found: dict[str, Any] = {}
        at += 8
        for _ in range(count):
            (key,) = self._at("<I", at)
            rep, at = self._ahead(at + 4)
            found[self._string(key)] = self._value(rep, depth + 1)
        return found, at

    def _list_of(self, at: int, depth: int, read: Callable[[int, int], tuple[list[Any], int]]) -> list[Any]:
        """What a list of edits comes to: its own items, or what is added before and behind."""
        head, at = self._at("<B", at)[0], at + 1
        lists: dict[int, list[Any]] = {}
        for bit in (2, 4, 32, 64, 8, 16):  # explicit, added, prepended, appended, deleted, ordered
            if head & bit:
                lists[bit], at = read(at, depth)
        if head & 1:
            return lists.get(2, [])
        return [*lists.get(32, []), *lists.get(4, []), *lists.get(64, [])]

    def _tokens_at(self, at: int, depth: int) -> tuple[list[Any], int]:
        found, at = self._members(at, "<I")
        return [self._token(one) for one in found], at

    def _strings_at(self, at: int, depth: int) -> tuple[list[Any], int]:
        found, at = self._members(at, "<I")
        return [self._string(one) for one in found], at

    def _paths_at(self, at: int, depth: int) -> tuple[list[Any], int]:
        found, at = self._members(at, "<I")
        return [Target(self._path(one)) for one in found], at

    def _references_at(self, at: int, depth: int, *, payload: bool = False) -> tuple[list[Any], int]:
        (count,) = self._at("<Q", at)
        if count > len(self.data) // 8:
            raise CrateError("a list is longer than the file")
        found: list[Any] = []
        at += 8
        for _ in range(count):
            one, at = self._reference(at, depth, payload=payload)
            found.append(one)
        return found, at

    def _reference(self, at: int, depth: int, *, payload: bool) -> tuple[Asset | Target, int]:
        asset, path = self._at("<II", at)
        at += 8
        if not payload or self.version >= (0, 8):
            self._at("<dd", at)  # how its time is shifted
            at += 16
        if not payload:
            at = self._dictionary_and_end(at, depth + 1)[1]
        file, prim = self._string(asset), self._path(path)
        prim = "" if prim == "/" else prim
        return Asset(file, self.layer, prim) if file else Target(prim), at

    def _selections(self, at: int, depth: int) -> dict[str, Any]:
        (count,) = self._at("<Q", at)
        if count > len(self.data) // 8:
            raise CrateError("a list is longer than the file")
        pairs = (self._at("<II", at + 8 + 8 * k) for k in range(count))
        return {self._string(key): self._string(value) for key, value in pairs}

    def _samples(self, at: int, depth: int) -> dict[float, Any]:
        """The earliest sample: nothing moves here."""
        rep, at = self._ahead(at)
        times = self._value(rep, depth + 1)
        (ahead,) = self._at("<q", at)
        at += ahead
        (count,) = self._at("<Q", at)
        times = times if isinstance(times, list) else times.tolist() if isinstance(times, np.ndarray) else []
        if not times or not count:
            return {}
        first = min(range(min(len(times), count)), key=lambda k: times[k])
        (rep,) = self._at("<Q", at + 8 + 8 * first)
        return {float(times[first]): self._value(rep, depth + 1)}


def _below(path: str, element: int, name: str) -> str:
    """The path of something in a prim: a property where the number of its token is negative."""
    if element < 0:
        return f"{path}.{name}"
    if name.startswith("{") or path.endswith(("/", "}")):
        return path + name
    return f"{path}/{name}"


def _held(dtype: str) -> Any:
    """The type in which numbers are kept: half precision is too narrow to be worked with."""
    return {"<f2": np.float32, "<u4": np.int64, "u1": np.int32}.get(dtype, np.dtype(dtype).newbyteorder("="))


# What is said by where something stands, or shifts time, or says how a value may change.
_NO_META = frozenset(
    {"specifier", "typeName", "primChildren", "properties", "variantSetChildren", "variantChildren", "primOrder",
     "propertyOrder", "targetChildren", "connectionChildren", "variability", "custom", "subLayerOffsets"}
)  # fmt: skip
# What text calls otherwise.
_META = {"inheritPaths": "inherits", "variantSelection": "variants", "variantSetNames": "variantSets"}


def _listed(name: str, **more: bool) -> Callable[[_Crate, int, int], Any]:
    def read(crate: _Crate, at: int, depth: int) -> list[Any]:
        def members(at: int, depth: int) -> tuple[list[Any], int]:
            found: tuple[list[Any], int] = getattr(crate, name)(at, depth, **more)
            return found

        return crate._list_of(at, depth, members)

    return read


_READERS: dict[int, Callable[[_Crate, int, int], Any]] = {
    _DICTIONARY: _Crate._dictionary,
    _TOKEN_LIST: _listed("_tokens_at"),
    _STRING_LIST: _listed("_strings_at"),
    _PATH_LIST: _listed("_paths_at"),
    _REFERENCE_LIST: _listed("_references_at"),
    _PAYLOAD_LIST: _listed("_references_at", payload=True),
    _PATHS: lambda crate, at, depth: crate._paths_at(at, depth)[0],
    _TOKENS: lambda crate, at, depth: crate._tokens_at(at, depth)[0],
    _SELECTIONS: _Crate._selections,
    _SAMPLES: _Crate._samples,
    _PAYLOAD: lambda crate, at, depth: [crate._reference(at, depth, payload=True)[0]],
    _DOUBLES: lambda crate, at, depth: crate._members(at, "<d")[0],
    _STRINGS: lambda crate, at, depth: crate._strings_at(at, depth)[0],
}
