"""Waiting until files have changed and are whole."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Collection, Iterable, Mapping
from pathlib import Path

_REST = 0.1  # seconds in which size and time of a file stay as they are once it is whole
_LONGEST = 10.0  # seconds to wait for that
_DEBOUNCE, _STEP = 60, 20  # milliseconds in which changes count as one
_LOOK_EVERY = 1000  # milliseconds after which files are looked at, whether anything was told or not
_ANEW = 30  # looks after which new files are looked for, first of all at the first

Stamp = tuple[int, int] | None
"""Time and size of a file; None while it is not there."""


def stamp_of(path: Path) -> Stamp:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size


def wait_for_change(
    files: Mapping[Path, Stamp],
    folders: Iterable[Path],
    endings: Collection[str],
    *,
    but_in: Path | None = None,
    anew: Callable[[], set[Path]] | None = None,
    stop: threading.Event | None = None,
) -> set[Path]:
    """Block until one of some files has changed, or any with some endings below some folders, and is at rest.

    Programs save in many ways: in place, or beside and renamed over; both count once.

    Parameters
    ----------
    files : mapping of Path to time and size
        Absolute, and as they were when they were used.
    folders : iterable of Path
        Watched with all that is below.
    endings : collection of str
        Of further files that matter, in small letters, with their point.
    but_in : Path, optional
        A folder in which only ``files`` matter.
    anew : callable, optional
        Looks for files that came or went before the watching began, or on a disk that tells nobody.
    stop : threading.Event, optional
        Ends the waiting.

    Returns
    -------
    set of Path
        What changed; empty when it was stopped.
    """
    from watchfiles import watch

    there = {folder for folder in folders if folder.is_dir()} | {path.parent for path in files if path.parent.is_dir()}
    outermost = [one for one in there if not any(other in one.parents for other in there)]

    def matters(path: Path) -> bool:
        if path in files:
            return True
        inside = but_in is not None and (path == but_in or but_in in path.parents)
        return path.suffix.lower() in endings and not inside

    looks = 0
    for changes in watch(
        *outermost, debounce=_DEBOUNCE, step=_STEP, stop_event=stop, rust_timeout=_LOOK_EVERY, yield_on_timeout=True
    ):
        changed = {path for _, name in changes if matters(path := Path(name))}
        if not changes:
            # What changed before the watching began, or on a disk that tells nobody.
            changed = {path for path, was in files.items() if stamp_of(path) != was}
            if not changed and anew is not None and looks % _ANEW == 0:
                changed = anew()
            looks += 1
        if changed:
            wait_for_rest(changed)
            return changed
    return set()


def wait_for_rest(paths: Iterable[Path]) -> None:
    """Block until time and size of some files stay as they are."""
    until = time.monotonic() + _LONGEST
    before = {path: stamp_of(path) for path in paths}
    while time.monotonic() < until:
        time.sleep(_REST)
        now = {path: stamp_of(path) for path in before}
        if now == before:
            return
        before = now
