"""The binary form of USD (crate, versions 0.7 and later), as far as meshes, materials and placements need it."""

from __future__ import annotations

import struct
from typing import Any

import lz4.block
import numpy as np
from numpy.typing import NDArray

from zesty_otter.rehearsal.receivers.faces import RefusedError, UnknownFormError, require
from zesty_otter.rehearsal.receivers.usd_prims import Prim, Stage

_SPECIFIERS = ("def", "over", "class")
_PRIM, _ATTRIBUTE, _RELATIONSHIP = 6, 1, 8  # kinds of specs
# Kinds of values by their number: their numbers, and how many of them.
_NUMBERS: dict[int, tuple[str, int]] = {
    1: ("u1", 1), 2: ("u1", 1), 3: ("<i4", 1), 4: ("<u4", 1), 5: ("<i8", 1), 6: ("<u8", 1), 7: ("<f2", 1),
    8: ("<f4", 1), 9: ("<f8", 1), 15: ("<f8", 16), 16: ("<f8", 4), 17: ("<f4", 4), 18: ("<f2", 4), 19: ("<f8", 2),
    20: ("<f4", 2), 21: ("<f2", 2), 23: ("<f8", 3), 24: ("<f4", 3), 25: ("<f2", 3), 27: ("<f8", 4), 28: ("<f4", 4),
}  # fmt: skip
_STRING, _TOKEN, _ASSET, _TOKENS, _PATHS, _REFERENCES, _SPECIFIER = 10, 11, 12, 32, 34, 35, 42


def stage(data: bytes) -> Stage:
    """The prims of a layer."""
    return _Crate(data).stage()


class _Crate:
    def __init__(self, data: bytes) -> None:
        self.data = data
        require(data[:8] == b"PXR-USDC", "it does not begin as binary USD")
        if (data[8], data[9]) < (0, 7):
            raise UnknownFormError("versions before 0.7")
        (contents,) = struct.unpack_from("<q", data, 16)
        (count,) = struct.unpack_from("<Q", data, contents)
        self.at: dict[str, int] = {}
        for number in range(count):
            name, start, size = struct.unpack_from("<16sqq", data, contents + 8 + 32 * number)
            require(start >= 0 and start + size <= len(data), "a section reaches beyond the file")
            self.at[name.rstrip(b"\0").decode()] = start
        self.tokens = self._tokens()
        at = self.at["STRINGS"]
        self.strings = np.frombuffer(data, "<u4", struct.unpack_from("<Q", data, at)[0], at + 8)
        self.fields = self._fields()
        at = self.at["FIELDSETS"]
        self.sets, _ = self._integers(at + 8, struct.unpack_from("<Q", data, at)[0])
        self.paths = self._paths()

    def _tokens(self) -> list[str]:
        at = self.at["TOKENS"]
        count, size, packed = struct.unpack_from("<QQQ", self.data, at)
        text = _unpacked(self.data[at + 24 : at + 24 + packed], size)
        found = [one.decode("utf-8") for one in text.split(b"\0")]
        require(len(found) == count + 1 and not found[-1], "tokens are not as many as said")
        return found[:-1]

    def _integers(self, at: int, count: int) -> tuple[NDArray[np.int64], int]:
        """Whole numbers, each said by what it differs from the one before, and where they end."""
        (packed,) = struct.unpack_from("<Q", self.data, at)
        data = self.data[at + 8 : at + 8 + packed]
        return _differences(_unpacked(data, 4 + (count * 2 + 7) // 8 + 4 * count), count), at + 8 + packed

    def _fields(self) -> list[tuple[str, int]]:
        at = self.at["FIELDS"]
        (count,) = struct.unpack_from("<Q", self.data, at)
        names, at = self._integers(at + 8, count)
        (packed,) = struct.unpack_from("<Q", self.data, at)
        values = np.frombuffer(_unpacked(self.data[at + 8 : at + 8 + packed], 8 * count), "<u8", count)
        return [(self.tokens[name], value) for name, value in zip(names.tolist(), values.tolist(), strict=True)]

    def _paths(self) -> list[str]:
        at = self.at["PATHS"]
        count, coded = struct.unpack_from("<QQ", self.data, at)
        index, at = self._integers(at + 16, coded)
        element, at = self._integers(at, coded)
        jump, _ = self._integers(at, coded)
        found = [""] * count
        waiting = [(0, "")]
        while waiting:
            row, above = waiting.pop()
            while True:
                token = int(element[row])
                name = self.tokens[abs(token)]
                path = "/" if not above else f"{above.rstrip('/')}{'.' if token < 0 else '/'}{name}"
                found[int(index[row])] = path
                leap = int(jump[row])
                # A child follows its parent; a brother stands where the jump leads.
                if leap > 0:
                    waiting.append((row + leap, above))
                if leap in (0, -2):
                    if leap == -2:
                        break
                    row += 1
                    continue
                above, row = path, row + 1
        return found

    def stage(self) -> Stage:
        at = self.at["SPECS"]
        (count,) = struct.unpack_from("<Q", self.data, at)
        paths, at = self._integers(at + 8, count)
        sets, at = self._integers(at, count)
        kinds, _ = self._integers(at, count)
        prims: Stage = {}
        for path, first, kind in sorted(
            (self.paths[path], first, kind)
            for path, first, kind in zip(paths.tolist(), sets.tolist(), kinds.tolist(), strict=True)
        ):
            said = self._said(first)
            if kind == _PRIM:
                words = said.get("specifier", "over"), said.get("typeName", "")
                require(all(isinstance(word, str) for word in words), f"{path} has a type that is no text")
                prims[path] = Prim(*words, path.rpartition("/")[2])
                prims[path].meta.update({key: value for key, value in said.items() if isinstance(value, str)})
            elif kind in (_ATTRIBUTE, _RELATIONSHIP):
                owner, _, name = path.partition(".")
                _keep(prims[owner], name, said)
            elif path != "/":
                raise UnknownFormError("variants")
        for path, first, kind in zip(paths.tolist(), sets.tolist(), kinds.tolist(), strict=True):
            if kind == _PRIM and self.paths[path] in prims:
                below = self._said(first).get("primChildren", [])
                own = self.paths[path]
                prims[own].children.extend(f"{own}/{name}" for name in below)
        return prims

    def _said(self, first: int) -> dict[str, Any]:
        """The fields of a spec that are known."""
        found: dict[str, Any] = {}
        while self.sets[first] >= 0:
            name, value = self.fields[int(self.sets[first])]
            first += 1
            if (known := self._value(value)) is not None:
                found[name] = known
        return found

    def _value(self, value: int) -> Any:
        kind, payload = value >> 48 & 0xFF, value & (1 << 48) - 1
        is_array, inlined, packed = value >> 63 & 1, value >> 62 & 1, value >> 61 & 1
        if is_array:
            return self._array(kind, payload, packed=bool(packed))
        if inlined:
            return self._inlined(kind, payload)
        if kind in _NUMBERS:
            numbers, width = _NUMBERS[kind]
            return np.frombuffer(self.data, numbers, width, payload).astype(np.float64)
        if kind in (_TOKENS, _PATHS, _REFERENCES):
            return self._list(kind, payload)
        if kind == 41:  # a vector of tokens
            (count,) = struct.unpack_from("<Q", self.data, payload)
            return [self.tokens[n] for n in np.frombuffer(self.data, "<u4", count, payload + 8).tolist()]
        return None

    def _array(self, kind: int, at: int, *, packed: bool) -> Any:
        if not at:
            return np.zeros(0) if kind in _NUMBERS else []
        (count,) = struct.unpack_from("<Q", self.data, at)
        if kind in (_TOKEN, _STRING):
            rows = np.frombuffer(self.data, "<u4", count, at + 8).tolist()
            return [self.tokens[n] for n in rows] if kind == _TOKEN else [self._string(n) for n in rows]
        if kind not in _NUMBERS:
            return None
        numbers, width = _NUMBERS[kind]
        if not packed:
            found = np.frombuffer(self.data, numbers, count * width, at + 8)
            # Quaternions have their real part last here, and first in text.
            return np.roll(found.reshape(-1, 4), 1, axis=1) if kind in (16, 17, 18) else found
        if kind in (3, 4):
            return self._integers(at + 8, count)[0]
        if kind not in (7, 8, 9):
            return None
        code = self.data[at + 8 : at + 9]
        if code == b"i":
            return self._integers(at + 9, count)[0].astype(np.float64)
        require(code == b"t", "numbers are packed in no known way")
        (size,) = struct.unpack_from("<I", self.data, at + 9)
        table = np.frombuffer(self.data, numbers, size, at + 13)
        return table[self._integers(at + 13 + table.nbytes, count)[0]]

    def _inlined(self, kind: int, payload: int) -> Any:
        if kind == _TOKEN:
            return self.tokens[payload]
        if kind == _STRING:
            return self._string(payload)
        if kind == _ASSET:
            return self.tokens[payload]
        if kind == _SPECIFIER:
            return _SPECIFIERS[payload]
        if kind not in _NUMBERS:
            return None
        numbers, width = _NUMBERS[kind]
        data = (payload & 0xFFFFFFFF).to_bytes(4, "little")
        if kind == 15:  # a diagonal of small whole numbers
            return np.diag(np.frombuffer(data, "i1", 4).astype(np.float64)).ravel()
        if width > 1:
            return np.frombuffer(data, "i1", width).astype(np.float64)
        small = {"<f8": "<f4", "<i8": "<i4", "<u8": "<u4"}.get(numbers, numbers)
        return np.frombuffer(data, small, 1).astype(np.float64)

    def _string(self, number: int) -> str:
        return self.tokens[int(self.strings[number])]

    def _list(self, kind: int, at: int) -> Any:
        """The items of a list that is said in parts; of references the path of the first."""
        bits = self.data[at]
        at += 1
        found: list[str] = []
        for bit in (2, 4, 32, 64, 8, 16):  # explicit, added, before, after, deleted, ordered
            if not bits & bit:
                continue
            (count,) = struct.unpack_from("<Q", self.data, at)
            at += 8
            if kind == _REFERENCES:
                asset, path = struct.unpack_from("<II", self.data, at)
                if count != 1 or self._string(asset):
                    raise UnknownFormError("references to other files")
                return self.paths[path]
            rows = np.frombuffer(self.data, "<u4", count, at).tolist()
            at += 4 * count
            if bit not in (8, 16):
                found += [self.tokens[n] if kind == _TOKENS else self.paths[n] for n in rows]
        return found


def _keep(prim: Prim, name: str, said: dict[str, Any]) -> None:
    """What a spec says of a value of a prim."""
    if "default" in said:
        prim.values[name] = said["default"]
    if "targetPaths" in said:
        prim.values[name] = said["targetPaths"]
    if "connectionPaths" in said:
        prim.values[f"{name}.connect"] = said["connectionPaths"]
    for key in ("interpolation", "displayName"):
        if isinstance(said.get(key), str):
            prim.meta[f"{name} {key}"] = said[key]


def _unpacked(data: bytes, most: int) -> bytes:
    """What LZ4 has packed, in one piece or in several."""
    require(len(data) > 0, "nothing is where packed data should be")
    pieces, at = [data[1:]] if data[0] == 0 else [], 1
    for _ in range(data[0]):
        (size,) = struct.unpack_from("<i", data, at)
        pieces.append(data[at + 4 : at + 4 + size])
        at += 4 + size
    try:
        return b"".join(lz4.block.decompress(one, uncompressed_size=most) for one in pieces)
    except lz4.block.LZ4BlockError as error:
        raise RefusedError(f"packed data cannot be unpacked: {error}") from None


def _differences(data: bytes, count: int) -> NDArray[np.int64]:
    (usual,) = struct.unpack_from("<i", data, 0)
    codes = np.frombuffer(data, np.uint8, (count * 2 + 7) // 8, 4)
    code = (codes[:, None] >> np.array([0, 2, 4, 6]) & 3).ravel()[:count]
    size = np.array([0, 1, 2, 4])[code]
    first = 4 + len(codes) + np.cumsum(size) - size
    whole = np.frombuffer(data, np.uint8)
    found = np.full(count, usual, np.int64)
    for kind, numbers in ((1, "i1"), (2, "<i2"), (3, "<i4")):
        rows = np.flatnonzero(code == kind)
        parts = whole[first[rows, None] + np.arange(np.dtype(numbers).itemsize)]
        found[rows] = np.ascontiguousarray(parts).view(numbers)[:, 0]
    return np.cumsum(found)
