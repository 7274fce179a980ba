"""The pages that a job writes of what it made, put together from parts that its workers made beside their files."""

from __future__ import annotations

import contextlib
import hashlib
import re
import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from zesty_otter import __version__, formats
from zesty_otter._lazy import uncollected
from zesty_otter.audit.findings import Finding
from zesty_otter.errors import ZestyOtterError
from zesty_otter.formats.files import save
from zesty_otter.model import Note, Renamed, Scene, count_of
from zesty_otter.page import ON_A_PAGE

if TYPE_CHECKING:
    from zesty_otter.jobs.planning import Task
    from zesty_otter.jobs.record import Delivered, Entry, Record
    from zesty_otter.jobs.run import AssetResult, JobResult
    from zesty_otter.page.report import Part, ReportAsset, Shown

T = TypeVar("T")

NAME = "report.html"
_AT_ONCE = 20  # parts that are read or kept together: some are large


def key_of(entry: Entry) -> str:
    """What a part depends on: what was read, what was written last, and who draws it."""
    last = sorted(entry.files[-1].hashes.items()) if entry.files else ""
    said = repr((__version__, sorted(entry.inputs.items(), key=str), last))
    return hashlib.sha256(said.encode()).hexdigest()[:32]


class Parts:
    """The parts of a job's report, by their keys: a database beside its outputs.

    It holds nothing that could not be made again, so one that can not be used is replaced, and what can not be kept
    is made when a page asks for it.

    Parameters
    ----------
    path : Path
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._opened: sqlite3.Connection | None = None
        self._taken: list[tuple[str, ...]] = []  # to be kept together

    def take(self, key: str, part: Part | None) -> None:
        """Keep what a worker made."""
        if part is not None:
            self._taken.append((key, part.html, part.model))
        if len(self._taken) >= _AT_ONCE:
            self._keep()

    def read(self, keys: Collection[str]) -> dict[str, Part]:
        """Some parts, by their keys: those that are there."""
        from zesty_otter.page.report import Part

        self._keep()
        wanted = ", ".join("?" * len(keys))
        found = self._found(f"SELECT key, html, model FROM parts WHERE key IN ({wanted})", *keys)
        return {key: Part(html, model) for key, html, model in found}

    def keep_only(self, keys: set[str]) -> None:
        """Remove the parts of what is no longer so."""
        self._keep()
        known = self._found("SELECT key FROM parts")
        gone = [one for one in known if one[0] not in keys]
        if gone:
            self._done("DELETE FROM parts WHERE key = ?", gone)
            if len(gone) > len(keys):
                self.close()
                self._found("VACUUM")

    def close(self) -> None:
        """Let go of the database."""
        self._keep()
        if self._opened is not None:
            with contextlib.suppress(sqlite3.Error):
                self._opened.commit()
            self._opened.close()
            self._opened = None

    def _keep(self) -> None:
        taken, self._taken = self._taken, []
        if taken:
            self._done("INSERT OR REPLACE INTO parts VALUES (?, ?, ?)", taken)

    def _done(self, text: str, rows: list[tuple[str, ...]]) -> None:
        self._tried(lambda database: database.executemany(text, rows))

    def _found(self, text: str, *values: str) -> list[tuple[str, ...]]:
        return self._tried(lambda database: database.execute(text, values).fetchall()) or []

    def _tried(self, do: Callable[[sqlite3.Connection], T]) -> T | None:
        """What comes of it, in a new database where the one that is there is broken; None where there can be none."""
        for _ in range(2):
            try:
                if self._opened is None:
                    self._opened = self._open()
                return do(self._opened)
            except sqlite3.OperationalError:
                return None
            except sqlite3.DatabaseError:
                self.close()
                with contextlib.suppress(OSError):
                    self.path.unlink(missing_ok=True)
        return None

    def _open(self) -> sqlite3.Connection:
        database = sqlite3.connect(self.path, timeout=1.0)
        try:
            database.execute("PRAGMA journal_mode = MEMORY")
            database.execute("PRAGMA synchronous = OFF")
            database.execute("CREATE TABLE IF NOT EXISTS parts (key TEXT PRIMARY KEY, html TEXT, model TEXT)")
        except BaseException:
            database.close()
            raise
        return database


@uncollected()
def write_report(
    result: JobResult, tasks: Sequence[Task], record: Record, parts: Parts, path: Path, made: Mapping[str, str]
) -> set[str]:
    """Write the page of a job, or the page that lists several.

    Parameters
    ----------
    result : JobResult
    tasks : sequence of Task
    record : Record
    parts : Parts
        Those that are not there are made here; what cannot be read any more has no picture.
    path : Path
        Where the page goes; those it lists stand beside it, with numbers.
    made : mapping of str to str
        The keys of the parts of what was made just now, by the names of assets; all others are in the record.

    Returns
    -------
    set of str
        The keys of the parts of all these assets, also of those that failed this time.
    """
    from zesty_otter.page.report import Part, index_page, page

    by_name = {task.name: task for task in tasks}
    others = [one.name for one in result.assets if one.name not in made]
    entries = zip(others, record.get_all(others), strict=True)
    keys = {**made, **{name: key_of(entry) for name, entry in entries if entry is not None}}
    assets = [_told(asset, keys.get(asset.name, "")) for asset in result.assets]

    def parts_of(some: Sequence[ReportAsset]) -> Iterator[Part]:
        known: dict[str, Part] = {}
        for n, asset in enumerate(some):
            if n % _AT_ONCE == 0:
                known = parts.read({one.key for one in some[n : n + _AT_ONCE] if one.key})
            if asset.key and asset.key not in known:
                entry = record.get(asset.name)
                shown = _shown(entry.files).path if entry else ""
                drawn = _part_of(by_name.get(asset.name), result.folder / shown, small=len(assets) > ON_A_PAGE)
                known[asset.key] = drawn or Part()
                parts.take(asset.key, known[asset.key])
            yield known.get(asset.key) or Part()

    title = result.title or "What the job made"
    summary = _summary(result)
    if len(assets) <= ON_A_PAGE:
        _save(page(title, summary, assets, parts_of(assets)), path)
        names: list[str] = []
    else:
        starts = range(0, len(assets), ON_A_PAGE)
        names = [f"{path.stem}_{number}{path.suffix}" for number in range(1, len(starts) + 1)]
        _save(index_page(title, summary, assets, names), path)
        for name, first in zip(names, starts, strict=True):
            # What a run did stands in the list, so that pages of assets that stay the same stay the same.
            own = [
                replace(one, state=one.state if one.state in ("failed", "kept") else "")
                for one in assets[first : first + ON_A_PAGE]
            ]
            made_of = _digest(own, title, names)
            if _made_of(path.with_name(name)) == made_of:
                continue
            about = f"{count_of(len(own), 'asset')} of {len(assets):,}"
            pieces = page(
                f"{title}, page {names.index(name) + 1}", about, own, parts_of(own), index=path.name, first=first
            )
            _save(pieces, path.with_name(name), made_of)
    _remove_others(path, set(names))
    return set(keys.values())


def _told(asset: AssetResult, key: str) -> ReportAsset:
    """What a page says of an asset."""
    from zesty_otter.page.report import ReportAsset, ReportFile

    made = bool(key and asset.files)
    return ReportAsset(
        asset.name,
        asset.state,
        "" if asset.error is None else str(asset.error),
        tuple(ReportFile(one.path, one.facts.triangles_in_words, one.problems) for one in asset.files),
        asset.findings,
        () if made else _worth_telling(asset.notes),  # its part has them, and keeps them while it stays the same
        key if made else "",
    )


def _worth_telling(notes: Sequence[Note]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(str(note) for note in notes if note.kind != "done"))


def _summary(result: JobResult) -> str:
    states = ("written", "unchanged", "kept", "failed")
    counts = {state: sum(asset.state == state for asset in result.assets) for state in states}
    words = {"kept": "left as edited by hand"}
    said = ", ".join(f"{count:,} {words.get(state, state)}" for state, count in counts.items() if count)
    files = count_of(sum(len(asset.files) for asset in result.assets), "file")
    return f"{count_of(len(result.assets), 'asset')}: {said or 'nothing to do'}; {files}."


def _digest(assets: Sequence[ReportAsset], *more: object) -> str:
    return hashlib.sha256(repr((__version__, assets, more)).encode()).hexdigest()[:32]


_MADE_OF = re.compile(rb"<!-- made of ([0-9a-f]+) -->")


def _made_of(path: Path) -> str:
    """What the page that is there was made of."""
    try:
        with path.open("rb") as file:
            found = _MADE_OF.search(file.read(400))
    except OSError:
        return ""
    return found[1].decode() if found else ""


def _save(pieces: Iterable[str], path: Path, made_of: str = "") -> None:
    def said() -> Iterator[bytes]:
        mark = f"<head>\n<!-- made of {made_of} -->" if made_of else ""
        for piece in pieces:
            yield (piece.replace("<head>", mark, 1) if mark else piece).encode()
            mark = ""

    save({path.name: said()}, path)


def _remove_others(path: Path, names: set[str]) -> None:
    """Remove numbered pages of an earlier run that had more assets."""
    numbered = re.compile(re.escape(path.stem) + r"_\d+" + re.escape(path.suffix))
    for old in path.parent.glob(f"{path.stem}_*{path.suffix}"):
        if numbered.fullmatch(old.name) and old.name not in names and _made_of(old):
            old.unlink(missing_ok=True)


def _shown(files: Sequence[Delivered]) -> Delivered:
    """The last file that shows meshes."""
    return next((one for one in reversed(files) if not formats.format_of(Path(one.path)).only_places), files[-1])


def shown_as(
    before: Scene | None, after: Scene, renamed: Sequence[Renamed], findings: Sequence[Finding], notes: Sequence[Note],
    content: bytes | None,
) -> Shown:  # fmt: skip
    """What the part of an asset is made of: of the file written last, which usually has most beside the mesh.

    Of an asset that was taken apart, ``after`` is the whole scene; else ``content`` is what it was read from.
    """
    from zesty_otter.page.report import Shown

    names = [(one.old, one.new) for one in renamed if one.kind == "node" and one.old != one.new]
    return Shown(before, after, names, findings, _worth_telling(notes), content)


def _part_of(task: Task | None, written: Path, *, small: bool) -> Part | None:
    """The part of an asset, made once more of its file and its source; None where the file cannot be read."""
    from zesty_otter.audit.comparison import compare
    from zesty_otter.page.report import Shown, make_parts

    after = _read(partial(formats.read, written))
    if after is None:
        return None
    before = _read(task.parts[0].file.read) if task is not None else None
    known = compare(before, after).nodes if before is not None else ()
    names = [(one.node, one.renamed) for one in known if one.renamed]
    return make_parts([Shown(before, after, names)], small=small)[0]


def _read(read: Callable[[], Scene]) -> Scene | None:
    try:
        return read()
    except ZestyOtterError:
        return None
