"""`zesty-otter swap`: other meshes in place of those in a file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from zesty_otter import steps
from zesty_otter.cli import console
from zesty_otter.cli.console import option
from zesty_otter.cli.convert import as_json, show
from zesty_otter.errors import UsageError
from zesty_otter.pipeline import SourceFile, convert

Source = Annotated[Path, typer.Argument(help="The file to read.", show_default=False)]
Out = Annotated[Path, typer.Argument(help="The file to write; its ending sets the format.", show_default=False)]
Table = Annotated[
    Path | None, option("Meshes", metavar="FILE", help="Table of swaps, .csv or .toml: `zesty-otter steps swap`.")
]
Originals = Annotated[
    Path | None,
    option("Meshes", metavar="FILE", help="Take the nodes of the same names from this file, as stand-ins tell them."),
]


def command(
    source: Source,
    out: Out,
    table: Table = None,
    originals: Originals = None,
    unit: console.Unit = None,
    axes: console.Axes = None,
    json: console.Json = False,
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Put other meshes in place of those in a file, by a table or by name; places and everything else stay."""
    if (table is None) == (originals is None):
        raise UsageError("name a table or a file with the originals.", remedy="Add --table FILE or --originals FILE.")
    step = steps.Swap(table=table, source=originals)
    with console.stages(quiet=quiet or json) as told:
        done = convert(SourceFile(source, unit, axes), out, [step], watch=told)
    if json:
        console.print_json(as_json(source, done))
    else:
        show(source, done)
        console.print_notes(done.notes, verbose=verbose, quiet=quiet)
    return 1 if any(arrival.problems for arrival in done.arrivals) else 0
