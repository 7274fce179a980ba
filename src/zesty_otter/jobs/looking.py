"""What a job made, as a page shows it: its files beside their sources."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from zesty_otter import formats
from zesty_otter.errors import ZestyOtterError
from zesty_otter.jobs import job_file, record
from zesty_otter.jobs.planning import Plan, Task, plan, short_names
from zesty_otter.jobs.record import Delivered, Entry
from zesty_otter.jobs.run import AssetResult
from zesty_otter.jobs.watching import Round, watch_job
from zesty_otter.page.shelf import Contents, Shown
from zesty_otter.targets import Target


@dataclass
class JobFiles:
    """The files of a job.

    Parameters
    ----------
    path : Path
        The job file.
    target : Target or None
        In place of those of its outputs.
    """

    path: Path
    target: Target | None = None
    last: dict[str, AssetResult] = field(default_factory=dict)
    _plan: Plan | None = None

    def contents(self) -> Contents:
        """Every asset of the job with its last output, from the job's record.

        Raises
        ------
        ZestyOtterError
            When the job makes no sense at the first time; later it goes on as it was.
        """
        try:
            job = job_file.load(self.path)
            self._plan = plan(job, name=self.path.stem, home=self.path.parent)
        except ZestyOtterError:
            if self._plan is None:
                raise
        made = self._plan
        kept = record.record_of(made.folder, made.name)
        short = short_names(task.name for task in made.tasks)
        assets = tuple(
            shown for task in made.tasks for shown in self._shown(task, short[task.name], kept.get(task.name), made)
        )
        state = f"This job has not made any file yet; `zesty-otter run {self.path.name}` makes them."
        if not len(kept):
            assets = ()
        kept.close()
        return Contents(made.title or self.path.name, assets, state, files=(self.path, kept.path))

    def _shown(self, task: Task, name: str, entry: Entry | None, made: Plan) -> Iterator[Shown]:
        result = self.last.get(task.name)
        error = "" if result is None or result.error is None else str(result.error)
        source = task.parts[0].file
        if entry is None or not entry.files:
            yield Shown(name, source.read, (source.path,), state="failed" if error else "not made yet", error=error)
            return
        files = _of_last_output(entry.files)
        output = next((one for one in task.outputs if one.name == files[-1].output), None)
        for one in files:
            path = made.folder / one.path
            state = "failed" if error else "differs" if one.problems else "written"
            yield Shown(
                name if len(files) == 1 else f"{name}: {path.stem}",
                partial(formats.read, path),
                (path,),
                source.read,
                (source.path,),
                state,
                error,
                findings=entry.findings,
                target=self.target or (output.target if output else None),
                triangles=one.facts.seen_triangles,
                size=one.facts.size,
            )


def _of_last_output(files: tuple[Delivered, ...]) -> list[Delivered]:
    """The files of the last output that show meshes, each once."""
    seen = [one for one in files if not formats.format_of(Path(one.path)).only_places]
    last = (seen or list(files))[-1]
    own = [one for one in seen or files if one.output == last.output]
    return [one for one in own if Path(one.path).suffix == Path(last.path).suffix]


class Runs:
    """A job that runs, in this process, whenever its sources change, with what its page shows kept up to date.

    Parameters
    ----------
    job : JobFiles
    """

    def __init__(self, job: JobFiles) -> None:
        self.job, self.stop = job, threading.Event()

    def __iter__(self) -> Iterator[Round]:
        # Threads that serve a page do not go with the forked processes of several workers.
        for made in watch_job(self.job.path, stop=self.stop):
            self.job.last = {one.name: one for one in made.result.assets}
            yield made
