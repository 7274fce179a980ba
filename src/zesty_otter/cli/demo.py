"""`zesty-otter demo`: the kit, written, and its job, run."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.cli.run import run_progress, show
from zesty_otter.demo import PIECES, write_job, write_kit, write_level
from zesty_otter.errors import OutputError
from zesty_otter.jobs import run_job


def command(
    folder: Annotated[Path, typer.Argument(help="Where to write the kit.")] = Path("otterweir"),
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Write the demo kit, run its job, and show what was wrong and what was mended."""
    try:
        write_kit(folder / "sources")
        job = write_job(folder)
        level = write_level(folder)
    except OSError as error:
        raise OutputError(
            f"the kit could not be written: {error.strerror or error}.",
            file=folder,
            remedy="Name another folder.",
        ) from None
    with run_progress(quiet=quiet) as on_progress:
        result = run_job(job, on_progress=on_progress, workers=os.cpu_count() or 1)
    made = {Path(asset.name).name: asset for asset in result.assets}
    for piece in PIECES:
        mended = [
            note.text for note in made[piece.file].notes if note.kind == "done" and not note.place.startswith("output")
        ]
        rows = [("was wrong", escape("; ".join(piece.wrong)))]
        if mended:
            rows.append(("mended", escape("; ".join(dict.fromkeys(mended)))))
        results.print(f"[title]{escape(piece.file)}[/]")
        results.print(console.facts(rows))
        results.print()
    show(result, dry_run=False, verbose=verbose, quiet=True)
    results.print(
        f"\nDirty sources are in {folder / 'sources'}; {job} says what was done to them. Look inside, or run it again:",
        soft_wrap=True,
    )
    results.print(f"  zesty-otter survey {result.folder / 'overview.glb'}", soft_wrap=True)
    results.print(f"  zesty-otter run {job}", soft_wrap=True)
    results.print(
        "\nA level with 2,000 reeds is there as well; its job swaps them, and writes it in pieces and in cells:"
    )
    results.print(f"  zesty-otter run {level}", soft_wrap=True)
    return result.status
