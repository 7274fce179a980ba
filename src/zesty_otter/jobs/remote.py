"""What the workers of a cluster run: a task that was sent to them as bytes, and what is asked before it.

Paths are those of whoever runs the job. On the way to a worker they become its own, on the way back the other's.
"""

from __future__ import annotations

import contextlib
import contextvars
import io
import os
import pickle
import shutil
import socket
import tempfile
import uuid
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path, PurePath
from typing import Any

from zesty_otter import __version__, formats
from zesty_otter.errors import InputError, OutputError, ZestyOtterError
from zesty_otter.formats.files import inputs_of
from zesty_otter.geometry.parallel import cores_are_shared
from zesty_otter.jobs import modules
from zesty_otter.jobs.planning import Task
from zesty_otter.jobs.work import Done, work
from zesty_otter.model import Scene

Places = tuple[tuple[str, str], ...]
"""Pairs of folders: as one side has them, and as the other."""

HERE = "."  # stands for the folder that relative paths start from

_places: contextvars.ContextVar[Places] = contextvars.ContextVar("places", default=())


@dataclass(frozen=True)
class Parcel:
    """A task on its way.

    Parameters
    ----------
    texts : mapping of str to str
        Modules to run before it is unpacked.
    data : bytes
        The pickled task and the folder it is made in.
    places : Places
        Folders here and there.
    report : bool
    files : mapping of str to bytes or None
        What it reads, where worker and job share no folder.
    beside : int
        How many tasks the workers of that machine can do at a time.
    home : str
        The folder that the job's paths start from, where they are relative.
    """

    texts: Mapping[str, str]
    data: bytes
    places: Places
    report: bool
    files: Mapping[str, bytes] | None
    beside: int
    home: str = ""


def moved(path: str, places: Places) -> str:
    """A path with the folder it is in replaced, the longest that fits; as it is when none does."""
    for one, other in sorted(places, key=lambda pair: -len(pair[0])):
        stem = one.rstrip("/\\")
        if path == stem or path.startswith((stem + "/", stem + "\\")):
            rest = path[len(stem) :].replace("\\", "/")
            return (rest[1:] or ".") if other == HERE else other.rstrip("/\\") + rest
    return path


def placed(path: str) -> Path:
    """A path where it is unpacked."""
    return Path(moved(path, _places.get()))


def unpacked(data: bytes, places: Places = ()) -> Any:
    """What was packed, with its paths as this side has them."""
    token = _places.set(places)
    try:
        return pickle.loads(data)
    finally:
        _places.reset(token)


def packed(value: Any) -> bytes:
    """Anything as bytes, with paths that become others where it is unpacked."""

    class Packer(pickle.Pickler):
        def reducer_override(self, value: Any) -> Any:
            return (placed, (str(value),)) if isinstance(value, PurePath) else NotImplemented

    out = io.BytesIO()
    Packer(out, protocol=5).dump(value)
    return out.getvalue()


class NoRoomError(OutputError):
    """A worker that was sent files cannot write its own."""


def run_remote(parcel: bytes) -> bytes:
    """Do a task that was sent, and send back what came of it.

    Parameters
    ----------
    parcel : bytes
        A pickled `Parcel`.

    Returns
    -------
    bytes
        The packed `Done`, and the files it made where no folder is shared, by the paths they have there.
    """
    told: Parcel = pickle.loads(parcel)
    if told.beside >= (os.cpu_count() or 1):
        cores_are_shared()
    modules.install(told.texts)
    if told.files is None:
        done = _work(told, told.places)
        return packed((_as_seen_there(done, _back(told)), {}))
    folder = _own_folder()
    try:
        home = Path(tempfile.mkdtemp(prefix="zesty-otter-", dir=folder))
    except OSError as error:
        why = f"can make no folder for the files it was sent: {error.strerror or error}."
        return packed((Done(error=_no_room(why, Path(folder or tempfile.gettempdir()))), {}))
    try:
        # All of the other side's folders, below one of our own.
        root = str(home / "root")
        try:
            for path, content in told.files.items():
                own = Path(root + path)
                own.parent.mkdir(parents=True, exist_ok=True)
                own.write_bytes(content)
        except OSError as error:
            why = f"has no room for the files it was sent: {error.strerror or error}."
            return packed((Done(error=_no_room(why, home)), {}))
        done = _work(told, (("", root),))
        if isinstance(done.error, OutputError):
            why = f"cannot write what it made: {done.error.problem}"
            return packed((replace(done, error=_no_room(why, home)), {}))
        made = {path for one in done.made for path, _ in one.files.values()}
        data = {str(path)[len(root) :]: path.read_bytes() for path in made}
        return packed((_as_seen_there(done, _back(told, root)), data))
    finally:
        shutil.rmtree(home, ignore_errors=True)


def _own_folder() -> str | None:
    """The folder of this worker, which is cleared also when it was killed; None where this is none."""
    with contextlib.suppress(Exception):
        from distributed import get_worker

        return str(get_worker().local_directory)
    return None


def begun_mark(staging: Path) -> Path:
    """The file that says that a worker is at what it makes in a folder."""
    return staging.with_name(f"{staging.name}.begun")


def begun_key(staging: Path) -> list[str]:
    """Where the scheduler keeps, of one run of a job, that a worker began what it makes in a folder."""
    return [f"zesty-otter-{staging.name.split('-')[1]}", staging.name]


def _no_room(why: str, home: Path) -> NoRoomError:
    return NoRoomError(f"the worker {socket.gethostname()} {why}", file=home, remedy="Make room there.")


def _work(told: Parcel, places: Places) -> Done:
    task, staging = unpacked(told.data, places)
    with _told_begun(told, staging):
        return replace(work(task, staging, report=told.report), worker=socket.gethostname())


@contextlib.contextmanager
def _told_begun(told: Parcel, staging: Path) -> Iterator[None]:
    """Leave word that this worker is at a task, for when it is lost: a file, or else something the scheduler keeps."""
    if told.files is not None:
        with contextlib.suppress(Exception):  # this is no worker, or there is nobody to tell
            from distributed import get_worker
            from distributed.utils import sync

            worker = get_worker()
            sync(worker.loop, worker.scheduler.set_metadata, keys=begun_key(staging), value=True)
        yield
        return
    mark = begun_mark(staging)
    with contextlib.suppress(OSError):
        mark.touch()
    try:
        yield
    finally:
        with contextlib.suppress(OSError):
            mark.unlink()


def _back(told: Parcel, root: str = "") -> Places:
    """The folders on the way back; below ``root`` are those of the other side where none is shared."""
    pairs = [(root, "")] if root else [(there, here) for here, there in told.places]
    if told.home:
        pairs.insert(0, (root + told.home if root else moved(told.home, told.places), HERE))
    return tuple(pairs)


def _as_seen_there(done: Done, places: Places) -> Done:
    """What came of it, with the folders in its messages as the other side has them."""

    error = done.error
    if error is not None and error.file is not None:
        error = type(error)(error.problem, file=moved(error.file, places), place=error.place, remedy=error.remedy)
    token = _places.set(places)
    try:
        made = tuple(
            replace(one, files={name: (placed(str(path)), content) for name, (path, content) in one.files.items()})
            for one in done.made
        )
        inputs = tuple((placed(str(path)), was) for path, was in done.inputs)
    finally:
        _places.reset(token)
    notes = tuple(replace(note, file=moved(note.file, places)) for note in done.notes)
    part = done.part
    if part is not None:  # it tells notes with their files
        text = part.html
        for one, other in sorted(places, key=lambda pair: -len(pair[0])):
            text = text.replace(f"{one}/", "" if other == HERE else f"{other}/")
        part = replace(part, html=text)
    return replace(done, error=error, made=made, inputs=inputs, notes=notes, part=part)


def look_at(mark: str | None, text: str, sources: Sequence[tuple[str, int]]) -> tuple[str, str, str]:
    """What a worker says before a job: its version, the mark it left, and what it cannot see ("" for nothing).

    Parameters
    ----------
    mark : str or None
        A file in the folder of the job that holds ``text``; None where no folder is shared.
    text : str
    sources : sequence of (str, int)
        Some sources, and how many bytes they have.
    """
    if mark is None:
        return __version__, "", ""
    own = f"{mark}-{uuid.uuid4().hex}"
    try:
        if Path(mark).read_text("utf-8") != text:
            return __version__, "", f"another {Path(mark).parent}"
        Path(own).write_text(text, "utf-8")
    except OSError as error:
        return __version__, "", f"{Path(mark).parent}: {error.strerror or error}"
    for path, size in sources:
        try:
            if os.stat(path).st_size != size:  # noqa: PTH116
                return __version__, own, f"another {path}"
        except OSError as error:
            return __version__, own, f"{path}: {error.strerror or error}"
    return __version__, own, ""


def files_to_send(task: Task, most: int) -> dict[str, bytes]:
    """All files that a task reads, by their absolute paths.

    Parameters
    ----------
    task : Task
    most : int
        Bytes of all of them that are sent at the most.

    Raises
    ------
    InputError
        When they are more, or cannot be read.
    """
    found: dict[str, bytes] = {}
    total = 0
    for path in _read_by(task):
        full = str(path.absolute())
        if full in found:
            continue
        try:
            total += path.stat().st_size
            if total > most:
                problem = f"it and what belongs to it are more than the {most / 1e6:.0f} MB that are sent."
                raise InputError(problem, file=task.name, remedy="Share a folder with the workers instead.")
            found[full] = path.read_bytes()
        except OSError as error:
            raise InputError(f"could not be read: {error.strerror or error}.", file=path) from None
    return found


def _read_by(task: Task) -> Iterator[Path]:
    """The files that a task reads: its sources, what they refer to, and what its steps name."""
    steps = [*task.steps, *(step for one in task.parts for step in one.file.steps)]
    steps += [step for one in task.outputs for step in one.steps]
    named = [path for step in steps for path in step.files()]
    reads: list[tuple[Path, Callable[[], Scene]]] = [(part.file.path, part.file.read) for part in task.parts]
    reads += [(one, partial(formats.read, one)) for one in named]
    for path, read in reads:
        yield path
        if path.suffix.lower() not in _ALONE:
            with contextlib.suppress(ZestyOtterError):  # tables, and what the worker says is wrong
                yield from inputs_of(read())


_ALONE = {".stl", ".ply", ".3mf", ".stp", ".step", ".usdz"}  # they refer to nothing
