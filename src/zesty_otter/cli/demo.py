"""`zesty-otter demo`: the kit, written and converted."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from zesty_otter import steps
from zesty_otter.cli import console
from zesty_otter.cli.console import format_size, results
from zesty_otter.cli.convert import convert, verdict
from zesty_otter.demo import PIECES, write_kit
from zesty_otter.errors import OutputError
from zesty_otter.formats import FORMATS


def command(
    folder: Annotated[Path, typer.Argument(help="Where to write the kit.")] = Path("otterweir"),
    quiet: console.Quiet = False,
    verbose: console.Verbose = False,
) -> int:
    """Write the demo kit, convert it, and say what was wrong and what was mended."""
    try:
        models = write_kit(folder / "sources")
    except OSError as error:
        raise OutputError(
            f"the kit could not be written: {error.strerror or error}.",
            file=folder,
            remedy="Name another folder.",
        ) from None
    frame = next(one for one in FORMATS if one.name == "glb").frame
    status = 0
    results.print("[title]Otterweir, a small boatyard at a weir[/]")
    for piece, model in zip(PIECES, models, strict=True):
        chosen = [steps.step_from_text(text) for text in piece.steps]
        if not any(isinstance(step, steps.Names) for step in chosen):
            chosen.append(steps.Names())
        scene, notes, arrival = convert(
            model, folder / "ready" / piece.out, piece.unit, piece.axes, frame, chosen, quiet=quiet
        )
        status |= bool(arrival.problems)
        mended = [note.text for note in (*scene.notes, *notes) if note.kind != "lost" or note.maker in steps.STEPS]
        results.print(f"\n[title]{escape(piece.file)} → {escape(piece.out)}[/]")
        results.print(
            console.facts(
                [
                    ("was wrong", escape("; ".join(piece.wrong))),
                    ("mended", escape("; ".join(mended))),
                    ("size now", f"{format_size(arrival.facts.size, 1.0)} (width × height × depth)"),
                    ("arrival", verdict(arrival)),
                ]
            )
        )
        console.print_notes([note for note in notes if note.kind == "lost"], verbose=verbose, quiet=quiet)
    results.print(
        f"\nDirty sources in {folder / 'sources'}, clean .glb files in {folder / 'ready'}. Look inside one:",
        soft_wrap=True,
    )
    results.print(
        f"  zesty-otter survey {folder / 'sources' / 'lock_gate' / 'lock_gate.obj'} --unit cm", soft_wrap=True
    )
    return status
