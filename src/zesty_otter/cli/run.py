"""`zesty-otter run`: a job."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict
from json import dumps
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.console import RenderableType
from rich.markup import escape
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

from zesty_otter.cli import console
from zesty_otter.cli.console import format_size, messages, results
from zesty_otter.cli.steps import setting_line
from zesty_otter.errors import InputError, UsageError
from zesty_otter.formats.files import save
from zesty_otter.jobs import (
    AssetResult,
    Event,
    JobResult,
    Round,
    load,
    plan,
    run_job,
    schema,
    watch_job,
)
from zesty_otter.jobs.planning import PlannedOutput, Task, short_names
from zesty_otter.jobs.record import record_of
from zesty_otter.model import count_of, shortened
from zesty_otter.pipeline.framing import frame_in
from zesty_otter.steps import Step

if TYPE_CHECKING:
    from zesty_otter.jobs import Cluster

_MOST_ROWS, _MOST_LINES = 60, 40
_LONGEST = 100
_WORDS = {
    "written": "[done]written[/]",
    "unchanged": "[faint]unchanged[/]",
    "kept": "[problem]kept[/]",
    "failed": "[problem]failed[/]",
    "planned": "to do",
}


def command(
    job: Annotated[Path | None, typer.Argument(help="The job file, .toml.", show_default=False)] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show what would be done, and write nothing.")] = False,
    workers: Annotated[
        int | None, typer.Option(metavar="N", min=1, help="Number of processes; one per processor by default.")
    ] = None,
    only: Annotated[
        str | None, typer.Option(metavar="PATTERN", help="Only assets whose names match, such as 'gate*'.")
    ] = None,
    fresh: Annotated[bool, typer.Option("--fresh", help="Convert everything again, even if nothing changed.")] = False,
    replace_edited: Annotated[
        bool, typer.Option("--replace-edited", help="Overwrite files that were edited by hand.")
    ] = False,
    replace_foreign: Annotated[
        bool,
        typer.Option("--replace-foreign", help="Overwrite files that this job did not make."),
    ] = False,
    cluster: Annotated[
        str | None,
        typer.Option(metavar="SCHEDULER", help="Work on a cluster: the address of its scheduler, or its file."),
    ] = None,
    ship: Annotated[
        str | None, typer.Option(metavar="files", help="Send files to workers that share no folder with this machine.")
    ] = None,
    worker_folder: Annotated[
        list[str] | None,
        typer.Option(metavar="HERE=THERE", help="A shared folder that workers have at another path; repeatable."),
    ] = None,
    export: Annotated[
        Path | None,
        typer.Option("--export-record", metavar="FILE", help="Write what the record says as JSON, and run nothing."),
    ] = None,
    show_schema: Annotated[
        bool, typer.Option("--schema", help="Print the JSON Schema of job files, for editors.")
    ] = False,
    watch: Annotated[
        bool,
        typer.Option(
            "--watch", help="Keep running and convert again whenever a source or the job changes; Ctrl-C ends it."
        ),
    ] = False,
    json: console.Json = False,
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Run a job: read its sources, apply its steps, write its outputs, and read them back."""
    if show_schema:
        console.print_json(schema())
        return 0
    if job is None:
        raise UsageError("which job?", remedy="Name a job file: zesty-otter run JOB.toml")
    if export is not None:
        return _export(job, export)
    way = _way(cluster, ship, worker_folder or [])
    if watch:
        if dry_run or fresh:
            raise UsageError(
                f"--watch does not go with {'--dry-run' if dry_run else '--fresh'}.", remedy="Leave one out."
            )
        options = {"way": way, "only": only, "replace_edited": replace_edited, "replace_foreign": replace_foreign}
        return _watch(job, workers or os.cpu_count() or 1, options, json=json, quiet=quiet, verbose=verbose)
    if dry_run and not (json or quiet):
        _show_plan(job, only)
    with run_progress(quiet=quiet or json) as on_progress:
        result = run_job(
            job,
            on_progress=on_progress,
            workers=workers or os.cpu_count() or 1,
            way=way,
            only=only,
            fresh=fresh,
            replace_edited=replace_edited,
            replace_foreign=replace_foreign,
            dry_run=dry_run,
        )
    if json:
        console.print_json(document(result))
    else:
        show(result, dry_run=dry_run, verbose=verbose, quiet=quiet)
    return result.status


def _way(cluster: str | None, ship: str | None, folders: list[str]) -> Cluster | None:
    """The cluster that was asked for."""
    if cluster is None:
        if ship or folders:
            option = "--ship" if ship else "--worker-folder"
            raise UsageError(f"{option} is for runs on a cluster.", remedy="Name its scheduler: --cluster ADDRESS.")
        return None
    if ship not in (None, "files"):
        raise UsageError(f"'{ship}' cannot be sent.", remedy="Say --ship files.")
    pairs = [tuple(one.partition("=")[::2]) for one in folders]
    for one, (here, there) in zip(folders, pairs, strict=True):
        if not (Path(here).is_absolute() and there):
            remedy = "Say --worker-folder HERE=THERE, such as /mnt/props=/data/props."
            raise UsageError(f"'{one}' does not tell a folder here and where workers have it.", remedy=remedy)
    from zesty_otter.jobs import Cluster

    return Cluster(cluster, ship=ship == "files", folders=tuple((here, there) for here, there in pairs))


def _export(job: Path, path: Path) -> int:
    """Write the record as JSON."""
    record = record_of(Path(load(job).folder), job.stem)
    try:
        if not len(record):
            raise InputError("the job has no record yet.", file=job, remedy="Run it first.")
        save({path.name: [record.as_json().encode()]}, path)
    finally:
        record.close()
    results.print(f"written: {escape(str(path))}", soft_wrap=True)
    return 0


def _watch(job: Path, workers: int, options: dict[str, Any], *, json: bool, quiet: bool, verbose: bool) -> int:
    """Run the job again and again; a line, or a document of one line, for each time."""
    with contextlib.suppress(KeyboardInterrupt):
        rounds = None
        with run_progress(quiet=quiet or json) as on_progress:
            rounds = watch_job(job, on_progress=on_progress, workers=workers, **options)
            first = next(rounds)
        if json:
            results.print(dumps(document(first.result)), soft_wrap=True, highlight=False, markup=False)
        else:
            show(first.result, dry_run=False, verbose=verbose, quiet=quiet)
            results.print("watching; Ctrl-C ends it")
        for one in rounds:
            if json:
                results.print(dumps(document(one.result)), soft_wrap=True, highlight=False, markup=False)
            else:
                _show_round(one, job)
    if not json:
        results.print("\nno longer watching")
    return 0


def _show_round(one: Round, job: Path) -> None:
    now = time.strftime("%H:%M:%S")
    if one.error is not None:
        text = f"{now} [problem]failed[/] {escape(str(one.error))} The job as it was before goes on."
        messages.print(text, soft_wrap=True)
    for asset in one.assets:
        if asset.error is not None:
            stay = " Its files of the last good run stay."
            messages.print(f"{now} [problem]failed[/] {escape(_with_name(asset))}{stay}", soft_wrap=True)
            continue
        files = count_of(len(asset.files), "file")
        differs = [problem for file in asset.files for problem in file.problems]
        said = f"[problem]differs[/]: {escape('; '.join(differs[:2]))}" if differs else "[done]as meant[/]"
        text = f"{now} {escape(asset.name)} {_WORDS[asset.state]}, {files} in {one.seconds:.2f} s, {said}"
        results.print(text, soft_wrap=True)
    for name in one.recovered:
        results.print(f"{now} {escape(name)} is as it was; its files are right", soft_wrap=True)
    for remark in one.result.remarks:
        results.print(f"{now} {escape(remark)}", soft_wrap=True)
    if one.error is None and not (one.assets or one.recovered or one.result.remarks):
        results.print(f"{now} {escape(job.name)} changed; nothing to make", soft_wrap=True)


@contextlib.contextmanager
def run_progress(*, quiet: bool) -> Iterator[Callable[[Event], None] | None]:
    """A progress bar on standard error in a terminal, and lines in a log; yields what to call when an asset is done."""
    if quiet:
        yield None
        return
    if not messages.is_terminal:
        yield _Lines().show
        return
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeElapsedColumn())
    # Drawn when something happens, not by a thread: workers are forked from this process.
    at_work: tuple[tuple[str, str], ...] = ()

    class Board(Progress):
        """The bar, and under it what workers of a cluster are at."""

        def get_renderables(self) -> Iterator[RenderableType]:
            yield self.make_tasks_table(self.tasks)
            if at_work:
                yield console.facts([(escape(worker), escape(asset)) for worker, asset in at_work])

    with Board(*columns, console=messages, transient=True, auto_refresh=False) as bar:
        task = bar.add_task("Working", total=None)
        bar.refresh()

        def show_event(event: Event) -> None:
            nonlocal at_work
            at_work = event.at_work
            bar.update(task, description=escape(event.asset), completed=event.done, total=event.total)
            bar.refresh()

        yield show_event


class _Lines:
    """Progress in a log: a line every few seconds."""

    def __init__(self) -> None:
        self.due = time.monotonic() + _LINE_EVERY

    def show(self, event: Event) -> None:
        if time.monotonic() >= self.due:
            where = f" by {event.worker}" if event.worker else ""
            text = f"{event.done} of {event.total} done, {event.asset} {event.state}{where}"
            messages.print(escape(text), soft_wrap=True)
            self.due = time.monotonic() + _LINE_EVERY


def _show_plan(path: Path, only: str | None) -> None:
    """What happens to every source, in words; files follow in the table of results."""
    made = plan(load(path), name=path.stem, home=path.parent, only=only)
    results.print(f"[title]{escape(made.title or path.name)}[/]\n")
    groups: dict[tuple[str, ...], list[Task]] = {}
    for task in made.tasks:
        lines = tuple(_line(step) for part in task.parts[:1] for step in (*part.file.steps, *task.steps))
        groups.setdefault(lines, []).append(task)
    for lines, tasks in groups.items():
        names = shortened((task.name for task in tasks), 8)
        rows = [("sources", escape(names)), ("steps", escape("\n".join(lines)) or "none")]
        results.print(console.facts(rows))
        results.print()
    for output in made.tasks[0].outputs if made.tasks else ():
        rows = [("output", f"{escape(output.name)}: {escape(_output_words(output))}")]
        if output.steps:
            rows.append(("first", escape("\n".join(map(_line, output.steps)))))
        results.print(console.facts(rows))
    results.print()


def _output_words(output: PlannedOutput) -> str:
    settings = output.settings
    per = {"scene": "source", "object": "object", "group": "innermost group", "top-group": "outermost group"}
    words = [f"a {' and a '.join(kind.suffixes[0] for kind in output.kinds)} file per {per[settings.split]}"]
    words.append("one mesh each" if settings.meshes == "joined" else "meshes separate")
    if settings.place == "origin":
        words.append("moved to the origin")
    frames = [frame_in(kind, output.frame, None, None) for kind in output.kinds]
    words += [f"in {frame}" for frame in dict.fromkeys(frames)]
    return ", ".join(words)


_LINE_EVERY = 5.0  # seconds


def _line(step: Step) -> str:
    """A step as `--step` takes it, with what is not default; long settings cut short."""
    line = setting_line(step)
    return line if len(line) <= _LONGEST else f"{line[: _LONGEST - 3]}..."


def show(result: JobResult, *, dry_run: bool, verbose: bool, quiet: bool) -> None:
    """Print the table of results, then everything somebody should look at."""
    everything = (*result.assets, *((result.overview,) if result.overview else ()))
    columns = ["asset and its files", *(["result"] if dry_run else ["width × height × depth", "triangles", "result"])]
    title = "" if dry_run else result.title
    made = console.table(*columns, numbers=("triangles",), whole=("asset and its files", "result"), title=title)
    short = short_names(one.name for one in everything)
    rows = sum(len(one.files) + 1 for one in everything)
    shown = everything if verbose or rows <= _MOST_ROWS else _worst(everything)
    for asset in shown:
        _add_rows(made, asset, short[asset.name], dry_run=dry_run)
    if shown:
        results.print(made)
    if len(shown) < len(everything):
        left = len(everything) - len(shown)
        said = (
            f"and {count_of(left, 'more asset')}" if shown else f"{count_of(left, 'asset')} without errors or warnings"
        )
        listed = "" if dry_run else f"; {result.folder / 'arrivals.jsonl'} has what arrived"
        results.print(f"[faint]{said}; --verbose lists all{escape(listed)}[/]", soft_wrap=True)
    lines = [f"[problem]failed[/] {escape(_with_name(one))}" for one in everything if one.error is not None]
    lines += [
        f"[problem]differs[/] {escape(file.path)}: {escape(problem)}"
        for asset in everything
        for file in asset.files
        for problem in file.problems
    ]
    _print_some(lines, "that failed or differ", verbose=verbose)
    console.print_findings(
        ((asset.name, finding) for asset in everything for finding in asset.findings), verbose=verbose, quiet=quiet
    )
    if not quiet:
        _print_some([f"[finding]remark[/] {escape(one)}" for one in result.remarks], "remarks", verbose=verbose)
        console.print_notes([note for asset in everything for note in asset.notes], verbose=verbose, quiet=quiet)
    results.print(f"\n{_summary(result, dry_run=dry_run)}", soft_wrap=True)
    if result.report is not None:
        results.print(f"report: {escape(str(result.report))}", soft_wrap=True)


def _print_some(lines: Sequence[str], what: str, *, verbose: bool) -> None:
    for line in lines if verbose else lines[:_MOST_LINES]:
        messages.print(line, soft_wrap=True)
    if len(lines) > _MOST_LINES and not verbose:
        messages.print(f"and {len(lines) - _MOST_LINES:,} more {what}; --verbose lists all")


def _worst(assets: Sequence[AssetResult]) -> list[AssetResult]:
    """The assets of a large job that somebody should look at: what failed or differs, then what has findings."""
    order = {"error": 1, "warning": 2}
    badness = {
        one.name: 0 if one.status else min((order.get(found.severity, 9) for found in one.findings), default=9)
        for one in assets
    }
    worst = sorted((one for one in assets if badness[one.name] < 9), key=lambda one: badness[one.name])
    return worst[: _MOST_ROWS // 3]


def _add_rows(made: Any, asset: AssetResult, name: str, *, dry_run: bool) -> None:
    made.add_row(escape(name), *([] if dry_run else ["", ""]), _WORDS[asset.state])
    for file in asset.files:
        path = f"  {escape(file.path)}"
        if dry_run:
            made.add_row(path)
            continue
        arrival = "[problem]differs[/]" if file.problems else "[done]as meant[/]"
        arrival = arrival if file.read_back else "[finding]not read back[/]"
        size = format_size(file.facts.size, 1.0)
        made.add_row(path, size, file.facts.triangles_in_words, arrival)


def _with_name(asset: AssetResult) -> str:
    text = str(asset.error)
    return text if asset.name in text or Path(asset.name).name in text else f"{asset.name}: {text}"


def _summary(result: JobResult, *, dry_run: bool) -> str:
    counts = {state: sum(asset.state == state for asset in result.assets) for state in _WORDS}
    words = {"planned": "to do", "kept": "left as edited by hand"}
    said = ", ".join(f"{count:,} {words.get(state, state)}" for state, count in counts.items() if count)
    files = count_of(sum(len(asset.files) for asset in result.assets), "file")
    if dry_run:
        return f"{said}; {files}. Nothing was written."
    return f"{said}; {files} in {escape(str(result.folder))}"


def document(result: JobResult) -> dict[str, Any]:
    """A result as plain data."""

    def plain(asset: AssetResult) -> dict[str, Any]:
        return {
            "asset": asset.name,
            "state": asset.state,
            "error": None if asset.error is None else str(asset.error),
            "files": [
                {
                    "output": file.output,
                    "file": file.path,
                    "size": file.facts.size,
                    "triangles": file.facts.triangles,
                    "seen_triangles": file.facts.seen_triangles,
                    "problems": file.problems,
                }
                for file in asset.files
            ],
            "findings": [asdict(finding) for finding in asset.findings],
            "notes": [asdict(note) for note in asset.notes],
        }

    return {
        "title": result.title,
        "folder": str(result.folder),
        "status": result.status,
        "assets": [plain(asset) for asset in result.assets],
        "overview": plain(result.overview) if result.overview else None,
        "remarks": list(result.remarks),
        "report": None if result.report is None else str(result.report),
    }
