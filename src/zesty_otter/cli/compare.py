"""`zesty-otter compare`: what differs between two files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.markup import escape

from zesty_otter import formats
from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.errors import UsageError
from zesty_otter.model import format_length, parse_length

if TYPE_CHECKING:
    from zesty_otter.audit import Appearance


def command(
    before: Annotated[Path, typer.Argument(metavar="A", help="The first file.", show_default=False)],
    after: Annotated[Path, typer.Argument(metavar="B", help="The second file.", show_default=False)],
    tolerance: Annotated[
        str, typer.Option("--tolerance", metavar="LENGTH", help="Tolerance for surfaces that moved.")
    ] = "0.01mm",
    unit: Annotated[str | None, typer.Option("--unit", metavar="UNIT", help="Unit of files without one.")] = None,
    axes: Annotated[str | None, typer.Option("--axes", metavar="'X Y Z'", help="Axes of the first file.")] = None,
    axes_b: Annotated[str | None, typer.Option("--axes-b", metavar="'X Y Z'", help="Axes of the second file.")] = None,
    looks: Annotated[
        int | None,
        typer.Option("--looks", metavar="PIXELS", min=8, help="Compare pictures too, drawn this large from 26 sides."),
    ] = None,
    picture: Annotated[
        Path | None,
        typer.Option("--picture", metavar="OUT.png", help="With --looks: write the side that differs most here."),
    ] = None,
    json: console.Json = False,
    quiet: console.Quiet = False,
) -> int:
    """Show what differs between two files of any format; exit status 1 when something does."""
    from zesty_otter.audit.appearances import appearance
    from zesty_otter.audit.comparison import compare
    from zesty_otter.formats.files import save
    from zesty_otter.pixels import png_of

    allowed = parse_length(tolerance)
    with console.progress("Comparing", quiet=quiet or json) as progress:
        scenes = []
        for n, (path, own) in enumerate(((before, axes), (after, axes_b))):
            scene = formats.read(path, None, own)
            scenes.append(scene if scene.frame.unit or unit is None else formats.read(path, unit, own))
            progress((n + 1) / 3)
        found = compare(*scenes)
        seen = None if looks is None else appearance(scenes[0], scenes[1], looks)
    if picture is not None:
        if seen is None:
            raise UsageError("--picture needs --looks.", remedy="Write: --looks 400 --picture OUT.png")
        save({picture.name: [png_of(seen.pictures)]}, picture, inputs=[before, after])
    alike = found.within(allowed)
    if json:
        said = (
            {} if seen is None else {"looks": {"share": seen.share, "worst": seen.worst, "side": side_in_words(seen)}}
        )
        console.print_json({"before": str(before), "after": str(after), "within": alike, **found.as_dict(), **said})
        return 0 if alike else 1
    verdict = "[done]no difference[/]" if alike else "[problem]differ[/]"
    results.print(f"[title]{escape(before.name)} and {escape(after.name)}[/]: {verdict}")

    def length(value: float) -> str:
        if value < 1e-9:
            return "0"
        return format_length(float(f"{value:.3g}")) if found.unit_known else f"{value:.4g} units"

    changed = [one for one in found.nodes if not one.same]
    if changed:
        made = console.table("node", "moved by", "mostly", "at", "size", "what else", numbers=("moved by", "mostly"))
        for one in changed:
            name = escape(one.node) + (f" → {escape(one.renamed)}" if one.renamed else "")
            at = "" if one.moved_at is None else ", ".join(f"{v:.3g}" for v in one.moved_at)
            sizes = [" × ".join(length(side) for side in size) for size in (one.size_before, one.size_after)]
            size = sizes[0] if sizes[0] == sizes[1] else f"{sizes[0]} → {sizes[1]}"
            made.add_row(name, length(one.moved), length(one.moved_mean), at, size, escape("; ".join(one.changes)))
        results.print(made)
    for words, names in (("only in the first", found.removed), ("only in the second", found.added)):
        if names:
            results.print(f"[finding]{words}[/]: {escape(', '.join(names))}")
    if found.materials:
        results.print(f"[finding]materials[/]: {escape('; '.join(found.materials))}")
    if found.lights:
        results.print(f"[finding]lights and cameras[/]: {escape('; '.join(found.lights))}")
    if seen is not None:
        text = f"{100 * seen.share:.2g} % of the pixels look different at {seen.height:,} pixels from all sides"
        results.print(f"[label]looks[/] {text}; {100 * seen.worst:.2g} % from {side_in_words(seen)}")
    if not found.unit_known:
        console.messages.print(
            "[assumed]assumed[/] lengths are in units, as not both files know theirs; --unit says it"
        )
    return 0 if alike else 1


def side_in_words(seen: Appearance) -> str:
    """The side from which pictures differ most."""
    words = (("right", "", "left"), ("below", "", "above"), ("behind", "", "the front"))
    return " and ".join(words[k][seen.side[k] + 1] for k in (2, 0, 1) if seen.side[k])
