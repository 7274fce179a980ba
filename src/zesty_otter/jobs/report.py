"""The page that a job writes of what it made."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_otter import __version__, formats
from zesty_otter.errors import ZestyOtterError
from zesty_otter.formats.files import save
from zesty_otter.model import Renamed, Scene, count_of

if TYPE_CHECKING:
    from zesty_otter.jobs.planning import Task
    from zesty_otter.jobs.record import Delivered
    from zesty_otter.jobs.run import JobResult

NAME = "report.html"


def write_report(result: JobResult, tasks: Sequence[Task], parts: dict[str, str], path: Path) -> None:
    """Write the page of a job.

    Parameters
    ----------
    result : JobResult
    tasks : sequence of Task
    parts : dict of str to str
        What workers made of assets as they worked, by asset; others are taken from the page that is there, and made
        here where it has none. What cannot be read any more has no picture.
    path : Path
        Where the page goes.
    """
    from zesty_otter.pictures.report import ReportAsset, ReportFile, page, parts_in

    known: dict[str, str] = {}
    with contextlib.suppress(OSError, UnicodeDecodeError):
        known = parts_in(path.read_text("utf-8"))
    by_name = {task.name: task for task in tasks}
    told = []
    for asset in result.assets:
        key = _key(asset.files)
        made = parts.get(asset.name) or known.get(key)
        if made is None and asset.files:
            made = part_of(by_name.get(asset.name), result.folder / _shown(asset.files).path)
        told.append(
            ReportAsset(
                asset.name,
                asset.state,
                "" if asset.error is None else str(asset.error),
                tuple(ReportFile(one.path, one.facts.triangles_in_words, one.problems) for one in asset.files),
                asset.findings,
                tuple(dict.fromkeys(str(note) for note in asset.notes if note.kind != "done")),
                key,
                made or "",
            )
        )
    counts = {
        state: sum(asset.state == state for asset in result.assets) for state in ("written", "unchanged", "failed")
    }
    said = ", ".join(f"{count} {state}" for state, count in counts.items() if count)
    files = count_of(sum(len(asset.files) for asset in result.assets), "file")
    text = page(result.title, f"{count_of(len(result.assets), 'asset')}: {said or 'nothing to do'}; {files}.", told)
    save({path.name: [text.encode()]}, path)


def _shown(files: Sequence[Delivered]) -> Delivered:
    """The last file that shows meshes."""
    return next((one for one in reversed(files) if not formats.format_of(Path(one.path)).only_places), files[-1])


def part_of(task: Task | None, written: Path | Scene, renamed: Sequence[Renamed] | None = None) -> str:
    """The pictures and tables of a task's asset, of the file written last: it usually has most beside the mesh.

    Of an asset that was taken apart, the whole scene. "" where it cannot be read. Names that are not given are found by
    comparing it with the source.
    """
    from zesty_otter.pictures.report import part

    after = written if isinstance(written, Scene) else _read(partial(formats.read, written))
    if after is None:
        return ""
    before = None if task is None else _read(task.parts[0].file.read)
    if renamed is not None:
        names = [(one.old, one.new) for one in renamed if one.kind == "node" and one.old != one.new]
    elif before is not None:
        from zesty_otter.audit.comparison import compare

        names = [(one.node, one.renamed) for one in compare(before, after).nodes if one.renamed]
    else:
        names = []
    return part(before, after, names)


def _key(files: Sequence[Delivered]) -> str:
    """What a part depends on: the files of the last output, and how it is drawn."""
    said = repr((__version__, sorted(files[-1].hashes.items()) if files else ""))
    return hashlib.sha256(said.encode()).hexdigest()[:32]


def _read(read: Callable[[], Scene]) -> Scene | None:
    try:
        return read()
    except ZestyOtterError:
        return None
