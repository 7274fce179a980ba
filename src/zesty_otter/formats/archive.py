"""Zip archives from elsewhere, opened with care."""

from __future__ import annotations

import io
import zipfile
import zlib
from pathlib import Path

from zesty_otter.errors import InputError

_LARGEST = 1 << 31
_MOST_TIMES = 200  # larger than the archive


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
