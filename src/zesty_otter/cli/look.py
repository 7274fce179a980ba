"""`zesty-otter look`: files in the round, in a browser page of this machine."""

from __future__ import annotations

import contextlib
import os
import threading
import time
import webbrowser
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.markup import escape

from zesty_otter import formats
from zesty_otter.cli import console
from zesty_otter.cli.console import messages, results
from zesty_otter.errors import InputError, UsageError, ZestyOtterError
from zesty_otter.model import count_of
from zesty_otter.page.server import PageServer
from zesty_otter.page.shelf import Change, Contents, Shelf, Shown
from zesty_otter.targets import Target, load

if TYPE_CHECKING:
    from zesty_otter.jobs.looking import Runs


def command(
    what: Annotated[Path, typer.Argument(metavar="FILE|FOLDER|JOB", help="What to show.", show_default=False)],
    before: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Another version of the file, to be seen beside it.")
    ] = None,
    target: Annotated[
        str | None, typer.Option(metavar="NAME", help="The target whose rules are checked; see `zesty-otter targets`.")
    ] = None,
    unit: console.Unit = None,
    axes: console.Axes = None,
    watch: Annotated[
        bool, typer.Option("--watch", help="Of a job: run it as well, and again whenever its sources change.")
    ] = False,
    port: Annotated[int, typer.Option(metavar="N", min=0, max=65535, help="The port; a free one by default.")] = 0,
    no_open: Annotated[bool, typer.Option("--no-open", help="Do not open a browser; print the address only.")] = False,
    quiet: console.Quiet = False,
) -> int:
    """Show a file, a folder or what a job made in the round, in a browser page that follows the files."""
    held_to = load(target) if target else None
    is_job = what.suffix.lower() == ".toml"
    if watch and not is_job:
        raise UsageError("--watch runs a job, and this is none.", file=what, remedy="The page follows files anyway.")
    if before is not None and (is_job or what.is_dir()):
        raise UsageError(
            "--before goes with one file.", remedy="Of a job, the page shows its sources beside its files."
        )
    runs: Runs | None = None
    if is_job:
        from zesty_otter.jobs import looking

        if watch:
            _run_once(what, quiet=quiet)
        job = looking.JobFiles(what, held_to)
        shelf = Shelf(job.contents)
        runs = looking.Runs(job) if watch else None
    elif what.is_dir():
        shelf = Shelf(partial(_folder, what, unit, axes, held_to))
    else:
        shelf = Shelf(partial(_file, what, before, unit, axes, held_to))
    server = PageServer(shelf, port)
    results.print(f"[title]{escape(str(what))}[/] is at {server.address}", soft_wrap=True)
    if not (no_open or _opened(server.address)):
        messages.print("No browser could be opened; open this address in one.", soft_wrap=True)
    if not quiet:
        results.print("Files are followed as they change; Ctrl-C ends it.")
    if runs is not None:
        threading.Thread(target=_keep_running, args=(runs, server), daemon=True).start()
    with contextlib.suppress(KeyboardInterrupt):
        server.serve(None if quiet else _show)
    if runs is not None:
        runs.stop.set()
    if not quiet:
        results.print("\nno longer shown")
    return 0


def _run_once(job: Path, *, quiet: bool) -> None:
    """Run a job before anything is shown: later runs make little, and share this process with the page."""
    from zesty_otter.cli.run import run_progress
    from zesty_otter.jobs import run_job

    with run_progress(quiet=quiet) as on_progress:
        run_job(job, on_progress=on_progress, workers=os.cpu_count() or 1)


def _show(change: Change) -> None:
    if change.text:
        results.print(f"{time.strftime('%H:%M:%S')} {escape(change.text)}", soft_wrap=True)


def _keep_running(runs: Runs, server: PageServer) -> None:
    """Run a job again and again, in a thread of its own; the page is told of what fails."""
    try:
        for made in runs:
            for asset in made.assets:
                if asset.error is not None:
                    messages.print(f"[problem]failed[/] {escape(str(asset.error))}", soft_wrap=True)
            server.refresh()
    except ZestyOtterError as error:
        messages.print(f"[problem]zesty-otter:[/] {escape(str(error))}", soft_wrap=True)
        server.end()


def _opened(address: str) -> bool:
    # Without a display a browser would take over the terminal.
    if (
        os.name == "posix"
        and os.uname().sysname == "Linux"
        and not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))
    ):
        return False
    try:
        return webbrowser.open(address)
    except webbrowser.Error:
        return False


def _file(path: Path, before: Path | None, unit: str | None, axes: str | None, target: Target | None) -> Contents:
    for one in (path, before):
        if one is not None and not one.exists() and path not in _SEEN:
            raise InputError("there is no such file.", file=one)
    _SEEN.add(path)
    shown = _shown(path, path.name, unit, axes, target)
    if before is not None:
        shown = Shown(
            shown.name, shown.read, shown.files, partial(formats.read, before, unit, axes), (before,), target=target
        )
    return Contents(path.name, (shown,), files=(path,))


_SEEN: set[Path] = set()  # what was there once may vanish while it is looked at


def _folder(folder: Path, unit: str | None, axes: str | None, target: Target | None) -> Contents:
    endings = {suffix for one in formats.all_formats() if one.reader and not one.only_places for suffix in one.suffixes}
    found = sorted(path for path in folder.rglob("*") if path.suffix.lower() in endings and path.is_file())
    assets = tuple(_shown(path, path.relative_to(folder).as_posix(), unit, axes, target) for path in found)
    state = f"There is no file in {folder.name or folder} that can be shown yet. This page follows the folder."
    return Contents(f"{folder.name or folder}: {count_of(len(found), 'file')}", assets, state, folders=(folder,))


def _shown(path: Path, name: str, unit: str | None, axes: str | None, target: Target | None) -> Shown:
    kind = path.suffix.lower().lstrip(".")
    return Shown(name, partial(formats.read, path, unit, axes), (path,), state=kind, target=target)
