"""The command line. Thin: parse, call, print."""

from __future__ import annotations

import json
import os
import sys
from typing import Any

import typer

from zesty_otter import __version__
from zesty_otter.cli import check, compare, convert, demo, formats, picture, rehearse, run, steps, survey, targets
from zesty_otter.cli.console import messages
from zesty_otter.errors import ZestyOtterError

# What all of the parser's own complaints have in common; where it lives depends on Typer's version.
_ParserError: Any = typer.BadParameter.mro()[2]

app = typer.Typer(
    name="zesty-otter",
    help="Get meshes and scenes from a modelling package into a real-time engine: the right size, the right"
    " way up, clean and checked.",
    epilog="Exit status: 0 done, 1 findings say no, 2 wrong usage, 3 an input could not be read, 4 an output"
    " could not be written.",
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
app.command("demo")(demo.command)
app.command("survey")(survey.command)
app.command("convert")(convert.command)
app.command("run")(run.command)
app.command("check")(check.command)
app.command("rehearse")(rehearse.command)
app.command("compare")(compare.command)
app.command("picture")(picture.command)
app.command("steps")(steps.command)
app.command("targets")(targets.command)
app.command("formats")(formats.command)


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"zesty-otter {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: bool = typer.Option(False, "--version", callback=_show_version, is_eager=True, help="Say the version."),
) -> None:
    del version


def main(arguments: list[str] | None = None) -> None:
    """Run one command and leave with its exit status."""
    given = (sys.argv[1:] if arguments is None else arguments) or ["--help"]
    try:
        status = app(given, standalone_mode=False)
        sys.stdout.flush()
        sys.exit(status or 0)
    except ZestyOtterError as error:
        _report(str(error), given)
        sys.exit(error.exit_status)
    except typer.Abort:
        _report("stopped.", given)
        sys.exit(130)
    except KeyboardInterrupt:
        _report("stopped; nothing half-written was left.", given)
        sys.exit(130)
    except _ParserError as error:
        _report(f"{error.format_message()} `zesty-otter --help` shows what there is.", given)
        sys.exit(2)
    except BrokenPipeError:
        # Whoever read our output has gone, as `head` does; keep the interpreter from complaining too.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except MemoryError:
        _report("there is not enough memory for this.", given)
        sys.exit(3)


def _report(text: str, arguments: list[str]) -> None:
    messages.print(f"[problem]zesty-otter:[/] {_escaped(text)}", soft_wrap=True)
    if "--json" in arguments:
        print(json.dumps({"error": text}))


def _escaped(text: str) -> str:
    from rich.markup import escape

    return escape(text)
