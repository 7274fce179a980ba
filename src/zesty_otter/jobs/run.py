"""A job run: unchanged assets skipped, the others worked on in parallel, files put in place whole."""

from __future__ import annotations

import contextlib
import functools
import itertools
import json
import os
import shutil
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from zesty_otter._lazy import uncollected
from zesty_otter.audit.findings import Finding
from zesty_otter.errors import OutputError, UsageError, ZestyOtterError
from zesty_otter.jobs import job_file, record, report
from zesty_otter.jobs.job_file import Job
from zesty_otter.jobs.lay_out import in_rows
from zesty_otter.jobs.locking import held
from zesty_otter.jobs.modules import bring_in
from zesty_otter.jobs.planning import Plan, Task, clash, plan
from zesty_otter.jobs.record import Delivered, Entry, Record, Stamp, Standing
from zesty_otter.jobs.ways import Processes, Way
from zesty_otter.jobs.work import Done, Made, hash_of, only_planned, work
from zesty_otter.model import Note
from zesty_otter.pipeline.delivery import deliver, read_back

if TYPE_CHECKING:
    from distributed import Client

State = Literal["written", "unchanged", "kept", "failed", "planned"]

_RECORD_EVERY = 2.0  # seconds between records of a run under way, at the least


@dataclass(frozen=True)
class Event:
    """One asset is done.

    Parameters
    ----------
    done : int
        How many are.
    total : int
        Of how many.
    asset : str
        Which it was.
    state : State
        What became of it.
    worker : str
        Who worked on it, where there are several machines.
    at_work : tuple of (str, str)
        What workers are at now: some of them, if they are many, with the names of assets.
    """

    done: int
    total: int
    asset: str
    state: State
    worker: str = ""
    at_work: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class AssetResult:
    """What became of one asset.

    Parameters
    ----------
    name : str
    state : State
        written, unchanged (nothing to do), kept (files edited by hand were left alone), failed or planned (a
        dry run).
    files : tuple of Delivered
    notes : tuple of Note
    findings : tuple of Finding
        What targets object to.
    error : ZestyOtterError or None
        Why it failed.
    stopped : tuple of str
        Pieces that were not written, as they break rules.
    """

    name: str
    state: State
    files: tuple[Delivered, ...] = ()
    notes: tuple[Note, ...] = ()
    findings: tuple[Finding, ...] = ()
    error: ZestyOtterError | None = None
    stopped: tuple[str, ...] = ()

    @property
    def status(self) -> int:
        """The exit status this alone would give."""
        if self.error is not None:
            return self.error.exit_status
        return int(self.state == "kept" or bool(self.stopped) or any(file.problems for file in self.files))


@dataclass(frozen=True)
class JobResult:
    """What became of a job.

    Parameters
    ----------
    title : str
    folder : Path
    assets : tuple of AssetResult
        In the order of the sources.
    overview : AssetResult or None
        The scene they were laid out in, where one was asked for.
    remarks : tuple of str
        On the whole job.
    report : Path or None
        The page that shows all of it.
    """

    title: str
    folder: Path
    assets: tuple[AssetResult, ...]
    overview: AssetResult | None = None
    remarks: tuple[str, ...] = ()
    report: Path | None = None

    @property
    def status(self) -> int:
        """0 when all is well, else the worst of the exit statuses of its assets."""
        results = (*self.assets, *((self.overview,) if self.overview else ()))
        return max((result.status for result in results), default=0)


def run_job(
    job: str | os.PathLike[str] | Job,
    *,
    on_progress: Callable[[Event], None] | None = None,
    workers: int = 1,
    way: Way | None = None,
    cluster: str | Client | None = None,
    only: str | None = None,
    fresh: bool = False,
    replace_edited: bool = False,
    replace_foreign: bool = False,
    dry_run: bool = False,
) -> JobResult:
    """Run a job.

    Parameters
    ----------
    job : path or Job
        A job file, or a job made in Python, whose relative paths start from the current folder.
    on_progress : callable, optional
        Called with an `Event` when an asset is done.
    workers : int
        How many processes work at the same time.
    way : callable, optional
        Another way of running its tasks: `zesty_otter.jobs.Way`.
    cluster : str or distributed.Client, optional
        The scheduler of a cluster that shares its folders with this machine; `zesty_otter.jobs.Cluster` is a way that
        has more settings.
    only : str, optional
        A pattern; other assets are left as they are.
    fresh : bool
        Make everything again, whatever the record says.
    replace_edited : bool
        Write over files that were edited by hand since the last run.
    replace_foreign : bool
        Write over files that are in the way and that no run of this job made.
    dry_run : bool
        Write nothing; sources are read where that is needed to know the files.

    Returns
    -------
    JobResult
        A source that fails does not stop the others; its error is in its result.

    Raises
    ------
    UsageError
        When the job makes no sense, or two outputs would write one file.
    InputError
        When the job file cannot be read.
    OutputError
        When the folder of the job cannot be written to.

    Examples
    --------
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
    >>> [(result.name, result.state) for result in zo.run_job("yard.toml").assets]
    [('sail.glb', 'written')]
    """
    if isinstance(job, Job):
        for module in job.modules:
            bring_in(Path(module))
        made = plan(job, only=only)
    else:
        if not isinstance(job, str | os.PathLike):
            raise UsageError(f"run_job takes the path of a job file or a Job, not {job!r}.")
        path = Path(job)
        made = plan(job_file.load(path), name=path.stem, home=path.parent, only=only)
    if cluster is not None:
        from zesty_otter.jobs.cluster import Cluster

        way = Cluster(cluster)
    return run_planned(
        made,
        on_progress=on_progress,
        way=way or Processes(max(workers, 1)),
        in_part=bool(only),
        fresh=fresh,
        replace_edited=replace_edited,
        replace_foreign=replace_foreign,
        dry_run=dry_run,
    )


def run_planned(
    made: Plan,
    *,
    way: Way,
    on_progress: Callable[[Event], None] | None = None,
    in_part: bool = False,
    fresh: bool = False,
    replace_edited: bool = False,
    replace_foreign: bool = False,
    dry_run: bool = False,
    patience: float = 0.0,
) -> JobResult:
    """Run a job that is worked out, of which a part when ``in_part``; the others are those of `run_job`.

    For another run of it that is under way it waits for as long as ``patience`` says.
    """
    run = _Run(
        made,
        on_progress or (lambda event: None),
        fresh=fresh,
        replace_edited=replace_edited,
        replace_foreign=replace_foreign,
        in_part=in_part,
    )
    return run.planned() if dry_run else run.result(way, patience=patience)


@dataclass
class _Run:
    """The state of one run."""

    plan: Plan
    on_progress: Callable[[Event], None]
    fresh: bool
    replace_edited: bool
    replace_foreign: bool
    in_part: bool
    results: dict[str, AssetResult] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.folder = self.plan.folder
        self.unstamped: dict[str, tuple[dict[str, Stamp], dict[str, Stamp]]] = {}  # inputs and files of new entries
        self.part_keys: dict[str, str] = {}  # of what is made, by the names of assets
        self.parts = report.Parts(self.folder / f".{self.plan.name}.report")
        self.settings = record.settings_of(self.plan.tasks, self.folder)
        self.total = len(self.plan.tasks)
        self.record_due = time.monotonic() + _RECORD_EVERY

    @functools.cached_property
    def sources(self) -> set[tuple[int, int]]:
        """What tells their files from all others."""
        return {_identity(part.file.path) for task in self.plan.tasks for part in task.parts}

    def _open_record(self) -> None:
        self.record: Record = record.record_of(self.folder, self.plan.name)
        self.before = self.record.names()
        self.others = record.others_in(self.folder, self.record.path)
        if not self.before:
            self.record.plain = not self.others

    def planned(self) -> JobResult:
        """What a run would do."""
        self._open_record()
        for task, entry in self._recorded():
            known = list(task.known_files())
            done = Done(tuple(only_planned(output, path) for path, output in known))
            if any(output.settings.split != "scene" for output in task.outputs):
                done = work(task, None)
            files = tuple(Delivered(one.output, one.path.as_posix(), {}, one.facts) for one in done.made)
            state: State = "failed" if done.error else "unchanged" if self._current(task, entry) else "planned"
            self._finish(AssetResult(task.name, state, files, error=done.error))
        self._refuse_clashes({name: _claimed(r.files) for name, r in self.results.items()})
        self._close()
        return self._job_result(None)

    def result(self, way: Way, *, patience: float = 0.0) -> JobResult:
        """Do it."""
        with contextlib.ExitStack() as stack:
            stack.callback(self._leave_folder)
            self._make(self.folder)
            self.began = stack.enter_context(held(self.folder, self.plan.name, patience=patience))
            self._open_record()
            stack.callback(self._close)
            try:
                self._sweep()
                self._make(self.folder / self._staging)
                self.record.renew()
                self._work(self._changed(), way)
                overview = self._lay_out()
                self._forget_gone()
                self._write_record()
            except KeyboardInterrupt:
                self._write_record()
                raise
            finally:
                self._sweep()
            return self._reported(self._job_result(overview))

    def _close(self) -> None:
        self.parts.close()
        for one in (self.record, *self.others.values()):
            one.close()

    def _leave_folder(self) -> None:
        with contextlib.suppress(OSError):
            self.folder.rmdir()  # only succeeds when nothing was put there

    def _work(self, todo: list[Task], way: Way) -> None:
        held_back: list[tuple[Task, Done]] = []
        hold = len(self.plan.tasks) > 1 and any(map(_names_may_clash, todo))
        seconds = self.record.seconds() if todo else {}
        for task, done in way(todo, self.folder / self._staging, report=self.plan.report, seconds=seconds):
            if hold:
                held_back.append((task, done))
            else:
                self._publish(task, done)
        if held_back:
            order = {task.name: n for n, task in enumerate(todo)}
            held_back.sort(key=lambda pair: order[pair[0].name])
            self._refuse_clashes({task.name: _claims(done) for task, done in held_back})
            for task, done in held_back:
                self._publish(task, done)

    def _reported(self, result: JobResult) -> JobResult:
        """The result with its page, which is made anew when anything was."""
        path = self.folder / self._named(report.NAME)
        if not self.plan.report or not result.assets:
            return result
        news = any(asset.state in ("written", "failed") for asset in result.assets)
        if news or not path.exists() or self.before != self.record.names():
            keys = report.write_report(result, self.plan.tasks, self.record, self.parts, path, self.part_keys)
            if not self.in_part:
                self.parts.keep_only(keys)
        return replace(result, report=path)

    def _job_result(self, overview: AssetResult | None) -> JobResult:
        failed = [AssetResult(name, "failed", error=error) for name, error in self.plan.problems]
        assets = tuple(self.results[task.name] for task in self.plan.tasks)
        return JobResult(self.plan.title, self.folder, (*assets, *failed), overview, tuple(self.remarks))

    def _make(self, folder: Path) -> None:
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise OutputError(
                f"nothing can be written there: {error.strerror or error}.",
                file=self.folder,
                remedy="Choose another folder in the job, or change its permissions.",
            ) from None

    @property
    def _staging(self) -> str:
        """A folder of this job's own, in which files stand until they are whole."""
        return f".zesty-otter-{self.plan.name}"

    def _sweep(self) -> None:
        """Remove what runs that were killed left behind."""
        shutil.rmtree(self.folder / self._staging, ignore_errors=True)
        for part in self.folder.glob(".*.part"):
            if not _is_running(part.suffixes[-2].lstrip(".") if len(part.suffixes) > 1 else ""):
                part.unlink(missing_ok=True)

    def _recorded(self) -> Iterator[tuple[Task, Entry | None]]:
        """All assets, and what is recorded of them that counts."""
        tasks = self.plan.tasks
        if self.fresh:
            return zip(tasks, itertools.repeat(None), strict=False)
        return zip(tasks, self.record.get_all(task.name for task in tasks), strict=True)

    @uncollected()
    def _changed(self) -> list[Task]:
        """What is to be made; the results of all others are there."""
        todo = []
        for task, entry in self._recorded():
            current = self._current(task, entry)
            if current is None:
                todo.append(task)
            else:
                self._skip(task, *current)
        return todo

    def _current(self, task: Task, entry: Entry | None) -> tuple[Entry, Standing] | None:
        """What is recorded of an asset and how it stands, where nothing is to be done."""
        if entry is None or entry.settings != self.settings[task.name]:
            return None
        if self.record.intended and any(path in self.record.intended for path in entry.hashes()):
            return None  # a run was stopped while it put these in place
        standing = entry.compared(self.folder, self.record.intended)
        if not standing.same or standing.missing or (self.replace_edited and standing.edited):
            return None
        return entry, standing

    def _skip(self, task: Task, entry: Entry, standing: Standing) -> None:
        if standing.stamps != entry.stamps:
            self.record.put_stamps(task.name, standing.stamps)
        edited = standing.edited
        findings, files = (*entry.findings, *map(_edited, edited)), entry.files
        if edited:
            files = tuple(
                replace(one, problems=(_EDITED,)) if one.hashes.keys() & set(edited) else one for one in files
            )
        self._finish(AssetResult(task.name, "kept" if edited else "unchanged", files, findings=findings))

    def _edited_of(self, entry: Entry) -> list[str]:
        return entry.compared(self.folder, self.record.intended, inputs=False).edited

    def _publish(self, task: Task, done: Done) -> None:
        """Put what a task made in its place, and remember it."""
        error = done.error or _clash_within(task, done)
        if error is not None:
            self._finish(AssetResult(task.name, "failed", (), done.notes, done.findings, error), done)
            return
        before = self.record.get(task.name)
        edited = set(self._edited_of(before)) if before and not self.replace_edited else set()
        files: list[Delivered] = []
        findings = list(done.findings)
        kept = False
        read = {_identity(path): was for path, was in done.inputs if was is not None}
        try:
            for made in done.made:
                one = record.delivered(made, made.path.as_posix())
                touched = sorted(edited & one.hashes.keys())
                if touched:
                    kept = True
                    findings += [_edited(path) for path in touched]
                    files += [old for old in before.files if old.path == one.path] if before else []
                    continue
                self._put_in_place(made, one.hashes, read)
                files.append(one)
        except OutputError as error:
            self._finish(AssetResult(task.name, "failed", tuple(files), done.notes, tuple(findings), error), done)
            return
        if before is not None:
            now = {path for one in files for path in one.hashes}
            gone = [one.path for one in before.files if one.path not in now and (self.folder / one.path).exists()]
            self.remarks += [f"{path} is left from an earlier run; {task.name} no longer produces it" for path in gone]
        state: State = "kept" if kept else "written"
        settings = "edited" if kept else "stopped" if done.stopped else self.settings[task.name]
        entry = record.entry_of(settings, done.inputs, files, self.folder, done.findings, done.seconds)
        self._remember(task.name, entry, as_made=not kept)
        if self.plan.report and not kept:
            self.part_keys[task.name] = report.key_of(entry)
            self.parts.take(self.part_keys[task.name], done.part)
        self._finish(
            AssetResult(task.name, state, tuple(files), done.notes, tuple(findings), stopped=done.stopped), done
        )
        if time.monotonic() > self.record_due:
            self._commit()

    def _remember(self, name: str, entry: Entry, *, as_made: bool = True) -> None:
        self.record.put(name, entry)
        if as_made:
            inputs, files = (record.stamps_of(self.folder, paths) for paths in (entry.inputs, entry.hashes()))
            self.unstamped[name] = inputs, files

    def _put_in_place(self, made: Made, hashes: Mapping[str, str], read: dict[tuple[int, int], str]) -> None:
        """Move a file and its companions to where they belong, the file itself last.

        ``hashes`` are theirs, by path from the folder of the job; ``read`` those of the files it was made from, by
        identity.
        """
        home = (self.folder / made.path).parent
        names = sorted(made.files, key=lambda name: (name == made.path.name, name))
        for name in names:
            target = home / name
            self._refuse_source(target)
            if read.get(_identity(target), made.files[name][1]) != made.files[name][1]:
                raise OutputError("belongs to one of the sources.", file=target, remedy="Choose another folder.")
            if target.is_dir():
                raise OutputError("is a folder.", file=target, remedy="Move it away, or choose another name.")
        self._refuse_foreign(hashes)
        try:
            self.record.intend(hashes)
            for name in names:
                target = home / name
                if not target.parent.exists():
                    target.parent.mkdir(parents=True, exist_ok=True)
                if target.exists() and hash_of(target) == made.files[name][1]:
                    continue  # what watches the folder is to see only what changed
                _move(made.files[name][0], target)
        except OSError as error:
            raise OutputError(
                f"could not be written: {error.strerror or error}.",
                file=self.folder / made.path,
                remedy="Make room or choose another folder, and run again.",
            ) from None

    def _refuse_foreign(self, hashes: Mapping[str, str]) -> None:
        """Nothing is written over that this job did not make, unless it says the same."""
        for path, content in hashes.items() if not self.replace_foreign else ():
            target = self.folder / path
            if not target.exists() or self.record.owner(path) is not None or hash_of(target) == content:
                continue
            other = next((job for job, one in self.others.items() if one.owner(path)), None)
            whose = "was not made by this job" if other is None else f"was made by the job '{other}'"
            raise OutputError(
                f"is there already and {whose}.",
                file=target,
                remedy="Move it away, choose another folder, or run with --replace-foreign to write over it.",
            )

    def _refuse_source(self, target: Path) -> None:
        if target.exists() and _identity(target) in self.sources:
            raise OutputError("is one of the sources of the job.", file=target, remedy="Choose another folder.")

    def _named(self, name: str) -> str:
        """What a file of the job itself is called: plainly, unless another job has it."""
        return name if self.record.plain else f"{self.plan.name}.{name}"

    def _finish(self, result: AssetResult, done: Done | None = None) -> None:
        self.results[result.name] = result
        by = (done.worker, done.at_work) if done else ()
        self.on_progress(Event(len(self.results), self.total, result.name, result.state, *by))

    def _refuse_clashes(self, claims: dict[str, list[_Claim]]) -> None:
        """Nothing is in its place yet: two assets that want one are an error now."""
        unchanged = {name: _claimed(r.files) for name, r in self.results.items() if r.state == "unchanged"}
        written: dict[str, tuple[str, str]] = {}
        for name, wanted in (unchanged | claims).items():
            for path, content, _ in wanted:
                other = written.setdefault(path.lower(), (name, content))
                if other[0] != name and (other[1] != content or not content):
                    raise clash(Path(path), (other[0], ""), (name, ""))

    def _lay_out(self) -> AssetResult | None:
        """The overview, unless nothing in it has changed."""
        settings, output = self.plan.lay_out, self.plan.lay_out_of
        if settings is None or output is None:
            return None
        name = settings.file
        results = [self.results[task.name] for task in self.plan.tasks]
        files = [file for result in results for file in result.files if file.output == output.name]
        first = {Path(file.path).with_suffix(""): file for file in reversed(files)}
        files = [file for file in files if first[Path(file.path).with_suffix("")] is file]
        key = json.dumps([settings.model_dump(mode="json"), [file.hashes for file in files]], sort_keys=True)
        old = self.record.get(name)
        if old is not None:
            standing = old.compared(self.folder, self.record.intended, inputs=False)
            findings = tuple(map(_edited, standing.edited))
            current = not self.fresh and old.settings == key and not standing.missing
            if (findings and not self.replace_edited) or (current and not findings):
                return AssetResult(name, "unchanged" if current else "kept", old.files, findings=findings)
        try:
            self._refuse_source(self.folder / name)
            for result in results:
                if any(Path(name).as_posix().lower() == path.lower() for file in result.files for path in file.hashes):
                    remedy = "Call the file of [lay_out] something else."
                    raise UsageError(f"{result.name} is written to it already.", file=name, remedy=remedy)
            if not files:
                raise UsageError("there is nothing to lay out: no asset was made.", file=self.folder / name)
            paths = [self.folder / file.path for file in files]
            scenes = [replace(read_back(path, output.frame), name=path.stem) for path in paths]
            scene = in_rows(scenes, settings.gap, settings.per_row)
            self._refuse_foreign({name: ""})
            notes, arrival = deliver(scene, self.folder / name)
        except ZestyOtterError as error:
            return AssetResult(name, "failed", error=error)
        hashes = {name: hash_of(self.folder / name) or ""}
        one = Delivered("overview", name, hashes, arrival.facts, arrival.problems)
        self._remember(name, record.entry_of(key, (), (one,), self.folder))
        return AssetResult(name, "written", (one,), tuple(note for note in notes if note.kind == "lost"))

    def _forget_gone(self) -> None:
        """Assets the job does not have any more leave the record, and what they made is named."""
        overview = self.plan.lay_out.file if self.plan.lay_out else ""
        there = {task.name for task in self.plan.tasks} | {name for name, _ in self.plan.problems} | {overview}
        for name in sorted(self.before - there) if not self.in_part else ():
            gone = self.record.get(name)
            self.record.forget(name)
            left = [file.path for file in gone.files if (self.folder / file.path).exists()] if gone else []
            self.remarks += [f"{path} is left from an earlier run; {name} is no longer in the job" for path in left]

    def _commit(self) -> None:
        """What was done until now is recorded, also for a run after this one was killed."""
        for name, (inputs, files) in self.unstamped.items():
            stamps = {**record.settled(self.folder, inputs, self.began), **record.settled(self.folder, files)}
            self.record.put_stamps(name, stamps)
        self.unstamped.clear()
        self.record.commit()
        self.record_due = time.monotonic() + _RECORD_EVERY

    def _write_record(self) -> None:
        self._commit()
        path = self.folder / self._named("arrivals.jsonl")
        states = {one.state for one in self.results.values()}
        if states - {"unchanged"} or self.before != self.record.names() or not path.exists():
            record.write_arrivals(self.record, path)


_EDITED = "edited by hand since it was written"


def _edited(path: str) -> Finding:
    text = "was edited by hand since it was written; it is left as it is (--replace-edited writes over it)"
    return Finding("edited-by-hand", "warning", text, path)


def _names_may_clash(task: Task) -> bool:
    """Whether a file's name depends on what is in the source and does not tell the source."""
    return any(
        output.settings.split != "scene" and "{source" not in output.settings.file + output.settings.folder
        for output in task.outputs
    )


_Claim = tuple[str, str, str]
"""A file that is to be written, what is in it, and the output it is of; what is in main files is not told, so that
two never count as the same. Files beside them, such as textures, may be shared when they are."""


def _claims(done: Done) -> list[_Claim]:
    return _claimed([record.delivered(made, made.path.as_posix()) for made in done.made])


def _claimed(files: Iterable[Delivered]) -> list[_Claim]:
    found: list[_Claim] = []
    for one in files:
        found.append((one.path, "", one.output))
        found += [(path, content, one.output) for path, content in one.hashes.items() if path != one.path]
    return found


def _clash_within(task: Task, done: Done) -> UsageError | None:
    written: dict[str, tuple[str, str]] = {}
    for path, content, output in _claims(done):
        key = path.lower()
        if key in written and (written[key][0] != content or not content):
            return clash(Path(path), (task.name, written[key][1]), (task.name, output))
        written[key] = content, output
    return None


def _move(source: Path, target: Path) -> None:
    try:
        source.replace(target)
    except OSError:
        if not source.exists() or target.is_dir():
            raise
        # Another file system: copied beside the target first, so that it still appears whole.
        beside = target.with_name(f".{target.name}.{os.getpid()}.part")
        try:
            shutil.copyfile(source, beside)
            beside.replace(target)
        finally:
            beside.unlink(missing_ok=True)


def _identity(path: Path) -> tuple[int, int]:
    """What tells a file from all others, by whichever way one gets to it."""
    try:
        about = os.stat(path)  # noqa: PTH116
    except OSError:
        return -1, -1
    return about.st_dev, about.st_ino


def _is_running(pid: str) -> bool:
    if sys.platform == "win32":  # where there is no harmless signal to ask with
        return True
    try:
        os.kill(int(pid), 0)
    except (ValueError, ProcessLookupError):
        return False
    except OSError:
        return True
    return True
