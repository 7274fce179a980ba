"""One run of a job at a time."""

from __future__ import annotations

import contextlib
import os
import socket
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from zesty_otter.errors import OutputError

_AGAIN = 0.1  # seconds


@contextlib.contextmanager
def held(folder: Path, job: str, *, patience: float = 0.0) -> Iterator[float]:
    """Hold a job while its files are made, so that no second run works on them, here or on another machine.

    The operating system lets go of it when the process ends, however it ends.

    Parameters
    ----------
    folder : Path
        That of the job, which is there.
    job : str
    patience : float
        How many seconds to wait for another run to be done.

    Yields
    ------
    float
        The time as the file system has it, in seconds since 1970.

    Raises
    ------
    OutputError
        When another run holds it, or its file cannot be written. Where the file system knows no locks there are none.
    """
    path = folder / f".{job}.lock"
    until = time.monotonic() + patience
    while True:
        try:
            file = path.open("a+", encoding="utf-8")
        except OSError as error:
            remedy = "Change the permissions, or choose another folder."
            raise OutputError(f"could not be written: {error.strerror}.", file=path, remedy=remedy) from None
        try:
            _lock(file)
        except (BlockingIOError, PermissionError):
            file.seek(0)
            who = file.read().strip() or "another process"
            file.close()
            if time.monotonic() >= until:
                raise OutputError(
                    f"the job is being run by {who}.", file=folder, remedy="Wait until it is done, or stop it."
                ) from None
            time.sleep(_AGAIN)
            continue
        except OSError:
            break
        if _is_at(file, path):  # the one before may have taken it away meanwhile
            break
        file.close()
    try:
        file.truncate(0)
        file.write(f"process {os.getpid()} on {socket.gethostname()}\n")
        file.flush()
        yield os.fstat(file.fileno()).st_mtime
    finally:
        with contextlib.suppress(OSError):  # some systems keep what is open
            path.unlink()
        file.close()


def _is_at(file: IO[str], path: Path) -> bool:
    try:
        return os.path.samestat(os.fstat(file.fileno()), path.stat())
    except OSError:
        return False


def _lock(file: IO[str]) -> None:
    if sys.platform == "win32":
        import msvcrt

        # Beyond what is written, so that others can read who it is.
        file.seek(1 << 20)
        msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)
    else:
        import fcntl

        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
