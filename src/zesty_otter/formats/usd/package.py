"""USD packages: zip archives without compression whose files begin at multiples of 64 bytes."""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Iterable
from pathlib import Path

from zesty_otter.errors import InputError
from zesty_otter.formats.files import Buffer, joined

_LARGEST = 1 << 31
_MOST_TIMES = 200  # larger than the package, for archives that are compressed against the rules
_ALIGNMENT = 64
_PADDING_ID = 0x1986


def open_package(path: Path, data: bytes) -> dict[str, bytes]:
    """The files of a package by name, in order.

    Raises
    ------
    InputError
        When it is no archive, leads out of itself, or would grow beyond reason.
    """
    files: dict[str, bytes] = {}
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            total = sum(one.file_size for one in archive.infolist())
            if total > min(_LARGEST, _MOST_TIMES * len(data) + (1 << 20)):
                raise InputError(f"would grow to {total:,} bytes when opened, which is refused.", file=path)
            for one in archive.infolist():
                parts = one.filename.replace("\\", "/").split("/")
                if one.filename.startswith(("/", "\\")) or ".." in parts:
                    raise InputError(f"holds '{one.filename}', which leads out of the package.", file=path)
                if one.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
                    raise InputError(f"holds '{one.filename}' compressed in a way that packages may not.", file=path)
                if one.filename and not one.is_dir():
                    files[one.filename] = archive.read(one)
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, zlib.error, EOFError, OSError, ValueError) as error:
        raise InputError(f"is not a package that can be opened: {error}.", file=path) from None
    return files


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
