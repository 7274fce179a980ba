"""`zesty-otter rehearse`: how a target would see a written file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from zesty_otter import targets
from zesty_otter.cli import console
from zesty_otter.cli.console import format_bytes, format_size, results
from zesty_otter.errors import UsageError
from zesty_otter.formats.files import readable, save
from zesty_otter.model import count_of, format_length


def command(
    file: Annotated[Path, typer.Argument(help="The written file.", show_default=False)],
    target: Annotated[str, typer.Option("--target", metavar="NAME", help="Target that loads it.")],
    out: Annotated[
        Path | None, typer.Option("--out", "-o", metavar="OUT.png", help="Draw it on a metre grid, next to a figure.")
    ] = None,
    json: console.Json = False,
    quiet: console.Quiet = False,
) -> int:
    """Load a file as a target would and show the result; exit status 1 when something would go wrong."""
    from zesty_otter.rehearsal import receive

    if out is not None and out.suffix.lower() != ".png":
        raise UsageError("pictures are PNG files.", file=out, remedy="Give a name that ends in .png.")
    wanted = targets.load(target)
    with readable(file), console.progress(f"Receiving {file.name}", quiet=quiet or json):
        file.stat()
        found, scene = receive(file, wanted)
    if out is not None:
        from zesty_otter import pictures

        style = "footing" if any(one.footing for one in found.assets) else "shaded"
        image = pictures.picture(scene, pictures.Look(style=style, caption=f"{file.name} as {wanted.name}"))
        save({out.name: [pictures.save(image)]}, out, inputs=[file])
    if json:
        console.print_json(found.as_dict())
        return 1 if found.problems else 0
    results.print(f"[title]{escape(f'{file.name} as {wanted.name} would see it')}[/]")
    total = sum(one.bytes for one in found.assets)
    rows = [
        ("space", found.frame),
        ("second reading", found.second),
        ("assets", count_of(len(found.assets), "asset")),
        ("draw calls", str(sum(one.draws for one in found.assets))),
        ("memory", f"{format_bytes(total)} of vertices and indices"),
    ]
    results.print(console.facts(rows))
    if found.assets:
        results.print()
        numbers = ("triangles", "vertices", "draws", "memory")
        drawn = console.table("asset", "size", *numbers, numbers=numbers, whole=("asset", "size"))
        beside = console.table("asset", "foot", "levels", "solid", "feet", whole=("asset", "foot", "solid"))
        for one in found.assets:
            feet = ""
            if one.footing is not None and one.footing.places:
                off = max(one.footing.floats, one.footing.sinks)
                feet = "on it" if off < 1e-4 else f"off by {format_length(float(f'{off:.3g}'))}"
            foot = "at 0" if abs(one.lowest) < 5e-5 else f"{format_length(one.lowest)}"
            far = ", ".join(format_length(float(f"{away:.3g}")) for away in one.switches)
            name = escape(one.name)
            drawn.add_row(
                name, format_size(one.size, 1.0), f"{one.triangles:,}", f"{one.vertices:,}", str(one.draws),
                format_bytes(one.bytes),
            )  # fmt: skip
            solid = count_of(one.collision, "part") if one.collision else "nothing"
            beside.add_row(name, foot, f"{one.levels}" + (f" from {far}" if far else ""), solid, feet)
        results.print(drawn)
        results.print()
        results.print(beside)
    for text in found.problems:
        results.print(f"[finding]would go wrong[/] {escape(text)}", soft_wrap=True)
    if not found.problems:
        results.print("[done]nothing would go wrong[/]")
    return 1 if found.problems else 0
