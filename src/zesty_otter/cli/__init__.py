"""The command line. Thin: parse, call, print."""

from __future__ import annotations

import gc
import json
import os
import sys
from importlib import import_module
from typing import Any

import typer
from typer.core import TyperCommand, TyperGroup

from zesty_otter import __version__
from zesty_otter._lazy import uncollected
from zesty_otter.errors import InternalError, ZestyOtterError

# What all of the parser's own complaints have in common; where it lives depends on Typer's version.
_ParserError: Any = typer.BadParameter.mro()[2]

COMMANDS = {
    "demo": "Write the demo kit, run its job, and show what was wrong and what was mended.",
    "survey": "Show what is in a file: sizes, tree, counts, materials, textures, and what looks wrong.",
    "convert": "Read a file, mend it, write it, and read it back to check that it arrived.",
    "run": "Run a job: read its sources, apply its steps, write its outputs, and read them back.",
    "check": "Check files against what a target expects; exit status 1 when a finding is an error.",
    "rehearse": "Load a file as a target would and show the result; exit status 1 when something would go wrong.",
    "compare": "Show what differs between two files of any format; exit status 1 when something does.",
    "swap": "Put other meshes in place of those in a file, by a table or by name; places and everything else stay.",
    "picture": "Draw a file, several sides or levels of it, or a sheet of many files.",
    "look": "Show a file, a folder or what a job made in the round, in a browser page that follows the files.",
    "steps": "List the steps, or explain one with its settings and an example.",
    "targets": "List the targets, or show one: its space, formats, names, limits and requirements.",
    "formats": "List the formats: which are read and written, and what each can carry.",
}
"""Every command, in the order people work in, with what `--help` says of it: a module is loaded when it is called."""


class _Command(TyperCommand):
    """A command whose options stand in groups in its help, in the order of the groups' first options."""

    def format_options(self, ctx: Any, formatter: Any) -> None:
        groups: dict[str, list[Any]] = {}
        for param in self.get_params(ctx):
            record = param.get_help_record(ctx)
            if record is not None:
                argument = param.param_type_name == "argument"
                group = "Arguments" if argument else getattr(param, "rich_help_panel", None) or "Options"
                groups.setdefault(group, []).append(record)
        for name in sorted(groups, key=lambda one: one == "Options"):
            with formatter.section(name):
                formatter.write_dl(groups[name])


class _LateCommands(TyperGroup):
    """The commands, each loaded when it is called; `--help` of them all loads none."""

    def list_commands(self, ctx: Any) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: Any, cmd_name: str) -> Any:
        if cmd_name not in COMMANDS:
            return None
        alone = typer.Typer(add_completion=False, rich_markup_mode=None, pretty_exceptions_enable=False)
        with uncollected():
            module = import_module(f"zesty_otter.cli.{cmd_name}")
        gc.freeze()  # all that stays
        alone.command(cmd_name, cls=_Command)(module.command)
        return typer.main.get_command(alone)

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


# Looking for plug-ins of the validation library takes 20 ms at every start, and ours are none.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")

app = typer.Typer(
    name="zesty-otter",
    cls=_LateCommands,
    help="Get meshes and scenes from a modelling package into a real-time engine: the right size, the right"
    " way up, clean and checked.",
    epilog="Exit status: 0 done, 1 checks failed, 2 wrong usage, 3 an input could not be read, 4 an output"
    " could not be written.",
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"zesty-otter {__version__}")
        raise typer.Exit


@app.callback()
def _options(
    version: bool = typer.Option(False, "--version", callback=_show_version, is_eager=True, help="Show the version."),
) -> None:
    del version


def main(arguments: list[str] | None = None) -> None:
    """Run one command and leave with its exit status."""
    given = (sys.argv[1:] if arguments is None else arguments) or ["--help"]
    # Our matrices are small: threads of the linear algebra, one for each core in every worker, would wait busily.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
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
        context = getattr(error, "ctx", None)
        command = f"zesty-otter {context.info_name}" if context is not None and context.parent else "zesty-otter"
        _report(f"{error.format_message().rstrip('.')}. `{command} --help` shows what there is.", given)
        sys.exit(2)
    except BrokenPipeError:
        # Whoever read our output has gone, as `head` does; keep the interpreter from complaining too.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except ImportError as error:
        if not (error.name or "").startswith("zesty_otter"):
            _report(str(InternalError.of(error)), given)
            sys.exit(InternalError.exit_status)
        python = f"Python {sys.version_info.major}.{sys.version_info.minor}"
        _report(
            f"the compiled kernels are missing for {python}: {error}. Install it again with `pip install .`.", given
        )
        sys.exit(2)
    except MemoryError:
        _report("there is not enough memory for this.", given)
        sys.exit(3)
    except Exception as error:  # never a traceback
        _report(str(InternalError.of(error)), given)
        sys.exit(InternalError.exit_status)


def _report(text: str, arguments: list[str]) -> None:
    from zesty_otter.cli.console import messages

    messages.print(f"[problem]zesty-otter:[/] {_escaped(text)}", soft_wrap=True)
    if "--json" in arguments:
        print(json.dumps({"error": text}))


def _escaped(text: str) -> str:
    from rich.markup import escape

    return escape(text)
