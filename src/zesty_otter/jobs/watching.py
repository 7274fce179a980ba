"""A job that is run again whenever something that it is made of changes."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from zesty_otter.errors import ZestyOtterError
from zesty_otter.formats import all_formats
from zesty_otter.jobs import job_file, record
from zesty_otter.jobs.job_file import Job
from zesty_otter.jobs.planning import Plan, plan
from zesty_otter.jobs.run import AssetResult, Event, JobResult, run_planned
from zesty_otter.jobs.ways import Processes, Way
from zesty_otter.pipeline.watching import Stamp, stamp_of, wait_for_change, wait_for_rest

_BESIDE = (
    ".toml",
    ".csv",
    ".mtl",
    ".bin",
    ".png",
    ".jpg",
    ".jpeg",
    ".webp",
    ".avif",
    ".tga",
    ".bmp",
    ".gif",
    ".tif",
    ".tiff",
)
_PATIENCE = 60.0  # seconds that a run waits for another of the same job
_AGAIN = 0.3  # seconds after which what could not be read is read once more: it may not have been whole


@dataclass(frozen=True)
class Round:
    """One run of a job that is watched.

    Parameters
    ----------
    changed : tuple of Path
        The files that had changed, none at first.
    result : JobResult
    seconds : float
        How long it took.
    assets : tuple of AssetResult
        What was made or failed; of what goes on failing in the same way only the first time.
    recovered : tuple of str
        Sources that failed the time before and are now as they were when their files were made.
    error : ZestyOtterError or None
        What is wrong with the job itself, in which case it went on as it was before.
    """

    changed: tuple[Path, ...]
    result: JobResult
    seconds: float
    assets: tuple[AssetResult, ...] = ()
    recovered: tuple[str, ...] = ()
    error: ZestyOtterError | None = None


def watch_job(
    job: str | os.PathLike[str],
    *,
    on_progress: Callable[[Event], None] | None = None,
    workers: int = 1,
    way: Way | None = None,
    only: str | None = None,
    replace_edited: bool = False,
    replace_foreign: bool = False,
    stop: threading.Event | None = None,
) -> Iterator[Round]:
    """Run a job, and again whenever its sources, what they refer to, its targets or the job file change.

    Only what is affected is made; a source that cannot be read leaves the files of its last good run in place.

    Parameters
    ----------
    job : path
        A job file.
    stop : threading.Event, optional
        Ends the watching between two runs.

    The others are those of `run_job`; ``on_progress`` is told of the first run only.

    Yields
    ------
    Round
        The first run, and then each in which anything was made or failed, or the job was changed.

    Raises
    ------
    ZestyOtterError
        As of `run_job`, when the job makes no sense at the first run.

    Examples
    --------
    >>> from threading import Event
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> _ = Path("yard.toml").write_text('''
    ... folder = "ready"
    ... [[sources]]
    ... files = "sail.glb"
    ... [[outputs]]
    ... formats = "obj"
    ... ''')
    >>> stop = Event()
    >>> for made in zo.watch_job("yard.toml", stop=stop):
    ...     print([result.name for result in made.result.assets])
    ...     stop.set()
    ['sail.glb']
    """
    path = Path(job).absolute()
    known = job_file.load(path)
    changed: set[Path] = set()
    last = str(None)
    said: dict[str, str] = {}  # of assets that failed, or were left alone, why
    first = True
    while stop is None or not stop.is_set():
        started, begun = time.monotonic(), time.time_ns()
        error: ZestyOtterError | None = None
        try:
            known, made = _read(path, only, again=not first)
        except ZestyOtterError as problem:
            if first:
                raise
            error = problem
            made = _planned(known, path, only)
        stamps = _stamps(made, known, path)

        def run(made: Plan = made, *, first: bool = first) -> JobResult:
            return run_planned(
                made,
                on_progress=on_progress if first else None,
                way=way or Processes(max(workers, 1)),
                in_part=bool(only),
                replace_edited=replace_edited,
                replace_foreign=replace_foreign,
                patience=_PATIENCE,
            )

        result = run()
        if not first and any(one.state == "failed" and said.get(one.name) != _why(one) for one in result.assets):
            time.sleep(_AGAIN)
            result = run()
        news = tuple(
            one
            for one in result.assets
            if one.state == "written" or (one.state != "unchanged" and said.get(one.name) != _why(one))
        )
        back = tuple(one.name for one in result.assets if one.state == "unchanged" and one.name in said)
        said = {one.name: _why(one) for one in result.assets if one.state in ("failed", "kept")}
        done = Round(tuple(sorted(changed)), result, time.monotonic() - started, news, back, error)
        if first or done.assets or back or result.remarks or str(error) != last or path in changed:
            yield done
        last = str(error)
        first = False
        again = _planned(known, path, only)
        now = _stamps(again, known, path)
        changed = {one for one, was in stamps.items() if now.get(one) != was}
        # What this run was the first to look for may have appeared since.
        changed |= {one for one in now.keys() - stamps.keys() if (found := now[one]) and found[0] >= begun}
        if changed:
            wait_for_rest(changed)
        elif [task.name for task in again.tasks] == [task.name for task in made.tasks]:

            def anew(job: Job = known, before: Plan = again) -> set[Path]:
                return _sources(_planned(job, path, only)) ^ _sources(before)

            folders = _folders(known, path)
            changed = wait_for_change(now, folders, _endings(), but_in=made.folder, anew=anew, stop=stop)
            if not changed:
                return


def _why(asset: AssetResult) -> str:
    return f"{asset.state} {asset.error}"


def _read(path: Path, only: str | None, *, again: bool) -> tuple[Job, Plan]:
    """A job file and its plan; ``again`` reads once more what makes no sense, in case it was not whole."""
    try:
        job = job_file.load(path)
        return job, _planned(job, path, only)
    except ZestyOtterError:
        if not again:
            raise
    time.sleep(_AGAIN)
    return _read(path, only, again=False)


def _planned(job: Job, path: Path, only: str | None) -> Plan:
    return plan(job, name=path.stem, home=path.parent, only=only)


def _sources(made: Plan) -> set[Path]:
    return {part.file.path.absolute() for task in made.tasks for part in task.parts}


def _stamps(made: Plan, job: Job, path: Path) -> dict[Path, Stamp]:
    """Every file that the job is made of, as far as it is known, with its time and size."""
    files = {path, *_targets(job)}
    files |= _sources(made)
    kept = record.record_of(made.folder, made.name)
    for _, entry in kept.entries():
        files |= {Path(os.path.normpath(made.folder.absolute() / one)) for one in entry.inputs}
    kept.close()
    return {one: stamp_of(one) for one in files}


def _targets(job: Job) -> Iterator[Path]:
    yield from (Path(module).absolute() for module in job.modules)
    for name in (job.target, *(output.target for output in (*job.outputs, *job.settings.values()))):
        if name and name.endswith(".toml"):
            yield Path(name).absolute()


def _folders(job: Job, path: Path) -> Iterator[Path]:
    """Where new sources may appear: the fixed part of each pattern."""
    yield path.parent
    for source in job.sources:
        for pattern in source.files:
            fixed = Path(pattern).absolute()
            while any(sign in str(fixed) for sign in "*?["):
                fixed = fixed.parent
            yield fixed if fixed.is_dir() else fixed.parent


def _endings() -> set[str]:
    return {suffix for one in all_formats() if one.reader for suffix in one.suffixes} | set(_BESIDE)
