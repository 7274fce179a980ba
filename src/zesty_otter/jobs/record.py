"""What a job remembers of its last run, so that unchanged assets are not made again.

An SQLite database beside the outputs with a row for each asset, written as work is done. What it says of the assets
depends on the job and its files alone, whoever made them in whatever order; when they were last looked at, and how
long they took, stands in columns of its own.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import itertools
import json
import os
import sqlite3
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import IO, Any

from zesty_otter import __version__
from zesty_otter.audit.facts import FileFacts
from zesty_otter.audit.findings import Finding
from zesty_otter.errors import InputError, OutputError
from zesty_otter.formats.files import save
from zesty_otter.jobs.planning import Task, absolute
from zesty_otter.jobs.work import Made, hash_of
from zesty_otter.steps import Step

ENDING = ".record"
_AT_ONCE = 500  # rows that are read in one go
_PATIENCE = 20.0  # seconds for another program to let go of the file
_NO_RECORD = (sqlite3.SQLITE_ERROR, sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)  # there is none in the file
_SETTLED, _COARSE = 0.1, 2.0  # seconds after which a file's times tell a later change, by how exact they are

Stamp = tuple[int, int, int]
"""A file's size and the times of its last change, of its bytes and of what is said of it."""


@dataclass(frozen=True)
class Delivered:
    """A file in its place.

    Parameters
    ----------
    output : str
        The name of the output it is of.
    path : str
        From the folder of the job.
    hashes : mapping of str to str
        Of it and of the files that belong to it, by path from the folder of the job.
    facts : FileFacts
        What is in it; of files that were not made anew the paths of nodes are not known any more.
    problems : tuple of str
        How it differs from what was meant.
    read_back : bool
        False where the format can only be written.
    """

    output: str
    path: str
    hashes: dict[str, str]
    facts: FileFacts
    problems: tuple[str, ...] = ()
    read_back: bool = True


@dataclass(frozen=True)
class Entry:
    """One asset of the last run. ``findings`` stand for as long as nothing changes; ``stamps`` are those of its files
    when they were as their hashes say; ``seconds`` is how long it took."""

    settings: str
    inputs: dict[str, str | None]
    files: tuple[Delivered, ...]
    findings: tuple[Finding, ...] = ()
    stamps: dict[str, Stamp] = field(default_factory=dict)
    seconds: float = 0.0

    def hashes(self) -> dict[str, str]:
        """Of all its files, by path from the folder of the job."""
        return {path: was for file in self.files for path, was in file.hashes.items()}

    def compared(self, folder: Path, intended: Mapping[str, str], *, inputs: bool = True) -> Standing:
        """How its files stand now, and what it was made of where ``inputs``.

        Sizes and times tell of most files that they are the same; of the others their bytes do.

        Parameters
        ----------
        folder : Path
            That of the job.
        intended : mapping of str to str
            Hashes of files that a run was about to put in place.
        """
        stamps = dict(self.stamps)
        home = str(folder)

        def now(path: str, was: str | None) -> str | None:
            """The hash of a file, or what it was where nothing speaks against it; None where it is gone."""
            full = os.path.join(home, path)  # noqa: PTH118
            stamp = _stamp_of(full)
            if stamp is not None and stamp == self.stamps.get(path):
                return was
            stamps.pop(path, None)
            found = None if stamp is None else hash_of(Path(full))
            if found is not None and found == was and stamp is not None and _has_settled(stamp):
                stamps[path] = stamp
            return found

        missing, edited = False, []
        for path, was in self.hashes().items():
            found = now(path, was)
            missing = missing or found is None
            if found not in (was, intended.get(path), None):
                edited.append(path)
        same = inputs and all(now(path, was) == was for path, was in self.inputs.items())
        return Standing(same, missing, edited, stamps)


@dataclass(frozen=True)
class Standing:
    """Whether inputs are the same, whether files are missing, which were edited by hand, and stamps of now."""

    same: bool
    missing: bool
    edited: list[str]
    stamps: dict[str, Stamp]


def settled(folder: Path, stamps: Mapping[str, Stamp], before: float | None = None) -> dict[str, Stamp]:
    """Those stamps that files still have and that tell a later change, or that are older than ``before``."""
    home, found = str(folder), {}
    for path, stamp in stamps.items():
        old = _has_settled(stamp) if before is None else max(stamp[1:]) / 1e9 < before - _COARSE
        if old and _stamp_of(os.path.join(home, path)) == stamp:  # noqa: PTH118
            found[path] = stamp
    return found


def stamps_of(folder: Path, paths: Iterable[str]) -> dict[str, Stamp]:
    """Sizes and times of files that are there."""
    home = str(folder)
    found = {path: _stamp_of(os.path.join(home, path)) for path in paths}  # noqa: PTH118
    return {path: stamp for path, stamp in found.items() if stamp is not None}


def _stamp_of(path: str) -> Stamp | None:
    try:
        about = os.stat(path)  # noqa: PTH116
    except OSError:
        return None
    return about.st_size, about.st_mtime_ns, about.st_ctime_ns


def _has_settled(stamp: Stamp) -> bool:
    """Whether a file that is changed from now on will have other times."""
    last = max(stamp[1:])
    return time.time() - last / 1e9 > (_SETTLED if last % 1_000_000_000 else _COARSE)


_TABLES = """
CREATE TABLE IF NOT EXISTS about (key TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS assets (
    name TEXT PRIMARY KEY, settings TEXT, inputs TEXT, files TEXT, findings TEXT, stamps TEXT, seconds REAL
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS made (path TEXT PRIMARY KEY, asset TEXT) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS made_of ON made (asset);
"""
_ROW = "name, settings, inputs, files, findings, stamps, seconds"


class Record:
    """What is recorded of a job.

    ``intended`` are files that a run that was stopped was about to put in place, with their hashes; ``plain`` says
    that page and arrivals are not named after the job.

    Parameters
    ----------
    path : Path
        The database; what is not one counts as none.

    Raises
    ------
    InputError
        When another program does not let go of it, or it cannot be opened.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.intended: dict[str, str] = {}
        self.plain = True
        self.is_of_this_version = True
        self._database: sqlite3.Connection | None = None
        self._journaling: IO[str] | None = None
        if path.is_file():
            try:
                self._database = self._connected()
                about = dict(self._database.execute("SELECT key, value FROM about"))
                self.plain = about.get("plain") != "no"
                self.is_of_this_version = about.get("zesty_otter") == __version__
                self._database.execute(f"SELECT {_ROW} FROM assets LIMIT 1").fetchone()
            except sqlite3.Error as error:
                self.close()
                if error.sqlite_errorcode & 0xFF not in _NO_RECORD:
                    raise self._unreadable(error) from None
        with contextlib.suppress(OSError, ValueError, TypeError):
            # Its last line may not be finished; what stands before it counts.
            for line in self._journal.read_text("utf-8").splitlines():
                self.intended.update(json.loads(line))

    def __len__(self) -> int:
        return int(self._found("SELECT count(*) FROM assets")[0][0]) if self._database else 0

    def names(self) -> set[str]:
        """Of all assets."""
        return {name for (name,) in self._found("SELECT name FROM assets")}

    def get(self, name: str) -> Entry | None:
        """The entry of an asset; of a run of another version it is current under no settings."""
        return next(self.get_all([name]))

    def get_all(self, names: Iterable[str]) -> Iterator[Entry | None]:
        """The entries of assets in the order given, a few hundred at a time; meanwhile others can be put."""
        left = iter(names)
        while some := list(itertools.islice(left, _AT_ONCE)):
            wanted = ", ".join("?" * len(some))
            rows = self._found(f"SELECT {_ROW} FROM assets WHERE name IN ({wanted})", *some)
            entries = dict(zip((row[0] for row in rows), self._entries(rows), strict=True))
            yield from map(entries.get, some)

    def entries(self) -> Iterator[tuple[str, Entry]]:
        """All of them, by name."""
        names = [name for (name,) in self._found("SELECT name FROM assets ORDER BY name")]
        for name, entry in zip(names, self.get_all(names), strict=True):
            if entry is not None:
                yield name, entry

    def seconds(self) -> dict[str, float]:
        """How long assets took."""
        return dict(self._found("SELECT name, seconds FROM assets"))

    def owner(self, path: str) -> str | None:
        """The asset that a file is of, if a run of this job made it or was about to ("")."""
        found = self._found("SELECT asset FROM made WHERE path = ?", path)
        return str(found[0][0]) if found else "" if path in self.intended else None

    def put(self, name: str, entry: Entry) -> None:
        """Remember an asset."""
        row = (
            name,
            entry.settings,
            _text(entry.inputs),
            _text([_plain_file(one) for one in entry.files]),
            _text([vars(one) for one in entry.findings]),
            _text(entry.stamps),
            entry.seconds,
        )
        self._write("DELETE FROM made WHERE asset = ?", [(name,)])
        self._write(f"INSERT OR REPLACE INTO assets ({_ROW}) VALUES (?, ?, ?, ?, ?, ?, ?)", [row])
        self._write("INSERT OR REPLACE INTO made VALUES (?, ?)", [(path, name) for path in entry.hashes()])

    def put_stamps(self, name: str, stamps: Mapping[str, Stamp]) -> None:
        """Remember how the files of an asset look, which are the same."""
        self._write("UPDATE assets SET stamps = ? WHERE name = ?", [(_text(stamps), name)])

    def forget(self, name: str) -> None:
        """Forget an asset and what it made."""
        self._write("DELETE FROM made WHERE asset = ?", [(name,)])
        self._write("DELETE FROM assets WHERE name = ?", [(name,)])

    def intend(self, hashes: Mapping[str, str]) -> None:
        """Say which files are about to be put in place, so that a run that is killed then knows them as its own."""
        self.intended.update(hashes)
        if self._journaling is None:
            self._journaling = self._journal.open("a", encoding="utf-8")
        self._journaling.write(json.dumps(hashes) + "\n")
        self._journaling.flush()

    def commit(self) -> None:
        """What was put is there from now on, also for a run after this one was killed; what was intended is done."""
        if self._database is not None:
            self._say()
            try:
                self._database.commit()
            except sqlite3.Error as error:
                raise self._unwritable(error) from None
        if self._journaling is not None:
            self._journaling.close()
            self._journaling = None
        self._journal.unlink(missing_ok=True)

    def close(self) -> None:
        """Let go of the files."""
        if self._journaling is not None:
            self._journaling.close()
            self._journaling = None
        if self._database is not None:
            self._database.close()
            self._database = None

    def as_json(self) -> str:
        """All of it to read: for each asset hashes of its settings, inputs and files, and what arrived."""
        entries = {
            name: {
                "settings": entry.settings,
                "inputs": entry.inputs,
                "files": [_plain_file(one) for one in entry.files],
                "findings": [vars(one) for one in entry.findings],
            }
            for name, entry in self.entries()
        }
        lines = ",".join(f"\n {_text(name)}: {_text(one)}" for name, one in entries.items())
        return f'{{"zesty_otter": "{__version__}", "assets": {{{lines}\n}}}}\n'

    @property
    def _journal(self) -> Path:
        return self.path.with_name(f".{self.path.stem}.journal")

    def _connected(self) -> sqlite3.Connection:
        database = sqlite3.connect(self.path, timeout=_PATIENCE)
        database.execute("PRAGMA synchronous = NORMAL")
        return database

    def _write(self, text: str, rows: Iterable[tuple[Any, ...]]) -> None:
        """Do something for each of some rows, in a database that is made where there is none."""
        try:
            if self._database is None:
                self.path.unlink(missing_ok=True)
                self._database = self._connected()
                self._database.executescript(_TABLES)
            self._database.executemany(text, rows)
        except (OSError, sqlite3.Error) as error:
            raise self._unwritable(error) from None

    def _say(self) -> None:
        about = {"zesty_otter": __version__, "plain": "yes" if self.plain else "no"}
        self._write("INSERT OR REPLACE INTO about VALUES (?, ?)", about.items())

    def renew(self) -> None:
        """Say that what is put from now on is of this version, and no entry of another is current any more."""
        if self._database is not None and not self.is_of_this_version:
            self._write("UPDATE assets SET settings = ?", [("",)])
            self.is_of_this_version = True

    def _unwritable(self, error: Exception) -> OutputError:
        remedy = "Make room, change the permissions, or choose another folder, and run again."
        return OutputError(f"the record could not be written: {error}.", file=self.path, remedy=remedy)

    def _unreadable(self, error: Exception) -> InputError:
        remedy = "Close what uses it; or delete it, and run with --replace-foreign, which makes everything again."
        return InputError(f"the record cannot be read: {error}.", file=self.path, remedy=remedy)

    def _found(self, text: str, *values: str) -> list[Any]:
        try:
            return self._database.execute(text, values).fetchall() if self._database is not None else []
        except sqlite3.Error as error:
            raise self._unreadable(error) from None

    def _entries(self, rows: Sequence[tuple[Any, ...]]) -> Iterator[Entry]:
        for row, (inputs, files, findings, stamps) in zip(rows, _read(rows), strict=True):
            yield Entry(
                row[1] if self.is_of_this_version else "",
                inputs,
                tuple(map(_file, files)),
                tuple(map(_finding, findings)),
                {path: tuple(stamp) for path, stamp in stamps.items()},
                row[6],
            )


def _read(rows: Sequence[tuple[Any, ...]]) -> list[list[Any]]:
    """The JSON in the middle of rows: many small texts read as one take a third of the time."""
    return list(json.loads(f"[{','.join(f'[{row[2]},{row[3]},{row[4]},{row[5]}]' for row in rows)}]"))


def record_of(folder: Path, job: str) -> Record:
    """The record of a job."""
    return Record(folder / f"{job}{ENDING}")


def others_in(folder: Path, own: Path) -> dict[str, Record]:
    """The records of other jobs that made files in a folder, by their names."""
    records = {path.stem: Record(path) for path in sorted(folder.glob(f"*{ENDING}")) if path != own}
    return {name: one for name, one in records.items() if len(one)}


def write_arrivals(record: Record, path: Path) -> None:
    """Say what arrived, a line of JSON for each asset: its files with width, height and depth in metres, and counts."""
    save({path.name: (f"{_text(_arrival(name, entry))}\n".encode() for name, entry in record.entries())}, path)


def _arrival(name: str, entry: Entry) -> dict[str, Any]:
    return {
        "asset": name,
        "files": [
            {
                "output": one.output,
                "file": one.path,
                "bytes": one.facts.bytes,
                "size": [round(side, 6) for side in one.facts.size],
                "nodes": one.facts.nodes,
                "meshes": one.facts.meshes,
                "triangles": one.facts.triangles,
                "seen_triangles": one.facts.seen_triangles,
                "vertices": one.facts.vertices,
                "sections": one.facts.sections,
                "materials": list(one.facts.materials),
                "arrived": not one.problems,
                "read_back": one.read_back,
                "problems": list(one.problems),
            }
            for one in entry.files
        ],
    }


def entry_of(
    settings: str,
    inputs: Iterable[tuple[Path, str | None]],
    files: Iterable[Delivered],
    folder: Path,
    findings: Iterable[Finding] = (),
    seconds: float = 0.0,
) -> Entry:
    """The entry of an asset that was just made."""
    here = absolute(folder)
    entry = Entry(settings, {_from(here, path): one for path, one in inputs}, tuple(files), tuple(findings))
    return replace(entry, seconds=round(seconds, 3))


def delivered(made: Made, name: str) -> Delivered:
    """A made file as it stands in its place under ``name``."""
    home = Path(name).parent
    hashes = {(home / path).as_posix(): one for path, (_, one) in made.files.items()}
    return Delivered(made.output, name, hashes, made.facts, made.problems, made.read_back)


def settings_of(tasks: Sequence[Task], home: Path) -> dict[str, str]:
    """For each task by name a hash of everything in a job that decides how it comes out, apart from its files."""
    if not tasks:
        return {}
    # What they have in common is gone through once.
    common = {
        "version": __version__,
        "frame": str(tasks[0].frame),
        "steps": _steps(tasks[0].steps, home),
        "outputs": [
            {
                "settings": output.settings.model_dump(mode="json", exclude={"steps", "target"}),
                "kinds": [kind.name for kind in output.kinds],
                "frame": str(output.frame),
                "target": output.target.model_dump(mode="json") if output.target else None,
                "steps": _steps(output.steps, home),
            }
            for output in tasks[0].outputs
        ],
    }
    start = hashlib.sha256(json.dumps(common, sort_keys=True).encode())
    here = absolute(home)
    said: dict[tuple[Any, ...], bytes] = {}  # of parts but for their paths, of which many are alike
    hashes = {}
    for task in tasks:
        own = start.copy()
        for part in task.parts:
            file = part.file
            key = (part.role, part.level, file.unit, file.axes, file.pose, file.scene, file.colors, file.facets)
            like = *key, id(file.folders), id(file.steps)
            if like not in said:
                folders = [_from(here, folder) for folder in file.folders]
                said[like] = _text([*key, folders, _steps(file.steps, home)]).encode()
            own.update(said[like])
            own.update(_text(_from(here, file.path)).encode())
        hashes[task.name] = own.hexdigest()
    return hashes


def _steps(steps: Iterable[Step], home: Path) -> list[Any]:
    """What steps are set to, with their files from the folder of the job, wherever one is when it is run."""

    def placed(value: Any) -> Any:
        if isinstance(value, tuple):
            return [placed(one) for one in value]
        return _from(absolute(home), value) if isinstance(value, Path) else value

    found = []
    for step in steps:
        files = {key: placed(getattr(step, key)) for key in type(step).model_fields if _holds_paths(getattr(step, key))}
        found.append([type(step).__module__, type(step).__qualname__, {**step.model_dump(mode="json"), **files}])
    return found


def _holds_paths(value: Any) -> bool:
    return isinstance(value, Path) or (isinstance(value, tuple) and any(isinstance(one, Path) for one in value))


def _from(here: str, path: Path) -> str:
    """A path from an absolute folder."""
    head, name = os.path.split(absolute(path))
    home = _relative(here, head)
    return name if home == "." else f"{home}/{name}"


@functools.lru_cache(4096)
def _relative(folder: str, home: str) -> str:
    """One folder from another: asked for once for all the files in it."""
    try:
        return Path(os.path.relpath(home, folder)).as_posix()
    except ValueError:  # on another drive
        return Path(home).as_posix()


def _text(value: Any) -> str:
    return json.dumps(value, ensure_ascii=False)


def _plain_file(one: Delivered) -> dict[str, Any]:
    return {
        "output": one.output,
        "path": one.path,
        "hashes": one.hashes,
        "problems": list(one.problems),
        "read_back": one.read_back,
        "facts": {key: value for key, value in vars(one.facts).items() if key != "paths"},
    }


def _file(document: dict[str, Any]) -> Delivered:
    facts: dict[str, Any] = {
        key: tuple(value) if isinstance(value, list) else value for key, value in document["facts"].items()
    }
    own = {**document, "problems": tuple(document["problems"]), "facts": FileFacts(**facts, paths=())}
    return Delivered(**own)


def _finding(document: dict[str, Any]) -> Finding:
    return Finding(**{**document, "place": tuple(document["place"]) if document.get("place") else None})
