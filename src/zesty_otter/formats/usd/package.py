"""USD packages: zip archives without compression whose files begin at multiples of 64 bytes."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable

from zesty_otter.formats.files import Buffer, joined

_ALIGNMENT = 64
_PADDING_ID = 0x1986


def package(files: dict[str, Iterable[Buffer]]) -> bytes:
    """The package of some files, the first of which is its root layer."""
    out = bytearray()
    entries = []
    for name, buffers in files.items():
        content = joined(buffers)
        encoded = name.encode()
        head = 30 + len(encoded)
        # An extra field fills the gap up to the next multiple (zip specification, 4.5).
        gap = -(len(out) + head) % _ALIGNMENT
        if 0 < gap < 4:
            gap += _ALIGNMENT
        extra = struct.pack("<HH", _PADDING_ID, gap - 4) + bytes(gap - 4) if gap else b""
        check = zlib.crc32(content)
        entries.append((encoded, check, len(content), len(out)))
        out += struct.pack(
            "<4sHHHHHIIIHH",
            b"PK\3\4",
            20,
            0x800,
            0,
            0,
            0x21,
            check,
            len(content),
            len(content),
            len(encoded),
            len(extra),
        )
        out += encoded + extra + content
    start = len(out)
    for encoded, check, size, at in entries:
        out += struct.pack(
            "<4sHHHHHHIIIHHHHHII",
            b"PK\1\2",
            20,
            20,
            0x800,
            0,
            0,
            0x21,
            check,
            size,
            size,
            len(encoded),
            0,
            0,
            0,
            0,
            0,
            at,
        )
        out += encoded
    out += struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, len(entries), len(entries), len(out) - start, start, 0)
    return bytes(out)
