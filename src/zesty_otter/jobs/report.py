"""The page that a job writes of what it made."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_otter import formats
from zesty_otter.audit.comparison import compare
from zesty_otter.errors import ZestyOtterError
from zesty_otter.formats.files import save
from zesty_otter.jobs.planning import Task
from zesty_otter.model import Scene, count_of

if TYPE_CHECKING:
    from zesty_otter.jobs.run import AssetResult, JobResult
    from zesty_otter.pictures.report import ReportAsset

NAME = "report.html"


def write_report(result: JobResult, tasks: Sequence[Task]) -> Path:
    """Write the page into the folder of the job; what cannot be read any more has no picture on it."""
    from zesty_otter.pictures.report import page

    by_name = {task.name: task for task in tasks}
    told = [_told(asset, by_name.get(asset.name), result.folder) for asset in result.assets]
    counts = {
        state: sum(asset.state == state for asset in result.assets) for state in ("written", "unchanged", "failed")
    }
    said = ", ".join(f"{count} {state}" for state, count in counts.items() if count)
    files = count_of(sum(len(asset.files) for asset in result.assets), "file")
    text = page(result.title, f"{count_of(len(result.assets), 'asset')}: {said or 'nothing to do'}; {files}.", told)
    save({NAME: [text.encode()]}, result.folder / NAME)
    return result.folder / NAME


def _told(asset: AssetResult, task: Task | None, folder: Path) -> ReportAsset:
    from zesty_otter.pictures.report import ReportAsset, ReportFile

    # The last output is usually the one with the most beside the mesh.
    after = _read(partial(formats.read, folder / asset.files[-1].path)) if asset.files else None
    before = None if task is None or after is None else _read(task.parts[0].file.read)
    names: tuple[tuple[str, str], ...] = ()
    if before is not None and after is not None:
        names = tuple((one.node, one.renamed) for one in compare(before, after).nodes if one.renamed)
    return ReportAsset(
        asset.name,
        asset.state,
        "" if asset.error is None else str(asset.error),
        tuple(ReportFile(one.path, one.facts.triangles, one.problems) for one in asset.files),
        asset.findings,
        tuple(dict.fromkeys(str(note) for note in asset.notes if note.kind != "done")),
        names,
        before,
        after,
    )


def _read(read: Callable[[], Scene]) -> Scene | None:
    try:
        return read()
    except ZestyOtterError:
        return None
