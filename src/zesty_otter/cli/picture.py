"""`zesty-otter picture`: draw files."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from zesty_otter import formats
from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.errors import InputError, UsageError, closest
from zesty_otter.formats.files import save
from zesty_otter.model import Scene, count_of

if TYPE_CHECKING:
    from PIL.Image import Image

    from zesty_otter.pictures import Card, Look


def command(
    files: Annotated[list[Path], typer.Argument(help="Files, or folders of files, to draw.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", "-o", metavar="OUT.png", help="The picture to write.")],
    views: Annotated[
        str, typer.Option(metavar="SIDES", help="front, back, left, right, top, bottom, three-quarter; with commas.")
    ] = "three-quarter",
    style: Annotated[
        str, typer.Option(metavar="STYLE", help="shaded, maps, wire, both, normals, uv, islands, collision or footing.")
    ] = "shaded",
    levels: Annotated[bool, typer.Option("--levels", help="Draw every level of detail side by side.")] = False,
    assets: Annotated[bool, typer.Option("--assets", help="Draw each asset of a file on its own.")] = False,
    size: Annotated[
        str, typer.Option(metavar="WxH", help="Size of a picture in pixels; a sheet has the same width.")
    ] = "1280x800",
    unit: console.Unit = None,
    axes: console.Axes = None,
    quiet: console.Quiet = False,
) -> int:
    """Draw a file, several sides or levels of it, or a sheet of many files."""
    from zesty_otter import pictures

    sides = _known([one.strip() for one in views.split(",") if one.strip()], list(pictures.SIDES), "view")
    _known([style], list(pictures.STYLES), "style")
    if out.suffix.lower() != ".png":
        raise UsageError("pictures are PNG files.", file=out, remedy="Give a name that ends in .png.")
    wide, high = _pixels(size)
    paths = _paths(files)
    look = pictures.Look(style=style, view=sides[0], size=(wide, high))
    small = pictures.Look(style=style, view=sides[0], size=(wide // 2, high // 2), figure=False, words=False)
    status = 0
    cards: list[Card] = []
    rows: list[list[Card]] = []
    image: Image | None = None
    with console.progress("Drawing", quiet=quiet) as progress:
        for n, path in enumerate(paths):
            try:
                scene = formats.read(path, unit, axes)
            except InputError as error:
                if len(paths) == 1:
                    raise
                # It has its place on the sheet all the same.
                status = error.exit_status
                cards.append(pictures.Card(path.name, problem=str(error).removeprefix(f"{path}: ")))
                continue
            if levels:
                rows += pictures.level_cards(scene, small)
            elif assets:
                cards += pictures.cards_of(scene, small)
            elif len(paths) == 1 and len(sides) == 1:
                image = pictures.picture(scene, look)
            else:
                cards += [_of_side(scene, path, side, small, len(sides)) for side in sides]
            progress((n + 1) / len(paths))
    columns = 0
    if rows:
        made, columns = pictures.in_columns(rows)
        cards = [*made, *cards]
    if image is None:
        title = paths[0].name if len(paths) == 1 else count_of(len(paths), "file")
        image = pictures.sheet(cards, wide=wide, title=title, columns=columns)
    save({out.name: [pictures.save(image)]}, out, inputs=paths)
    drawn = max(sum(bool(card.title) for card in cards), 1)
    results.print(f"[title]{out}[/] {image.width} x {image.height}, {count_of(drawn, 'picture')}")
    return status


def _of_side(scene: Scene, path: Path, side: str, look: Look, sides: int) -> Card:
    from zesty_otter.pictures import card_of

    return card_of(scene, replace(look, view=side), f"{path.stem}, {side}" if sides > 1 else path.stem)


def _known(given: list[str], known: list[str], what: str) -> list[str]:
    for one in given:
        if one not in known:
            raise UsageError(f"'{one}' is not a {what}; there are {', '.join(known)}.{closest(one, known)}")
    if not given:
        raise UsageError(f"no {what} is named.", remedy=f"There are {', '.join(known)}.")
    return given


def _pixels(size: str) -> tuple[int, int]:
    wide, cross, high = size.lower().partition("x")
    if not (cross and wide.isdecimal() and high.isdecimal() and 64 <= int(wide) <= 8192 and 64 <= int(high) <= 8192):
        raise UsageError(f"'{size}' is not a picture size.", remedy="Write 1280x800; a side has 64 to 8192 pixels.")
    return int(wide), int(high)


def _paths(files: list[Path]) -> list[Path]:
    """The files named, and those below the folders named."""
    endings = {suffix for one in formats.all_formats() if one.reader and not one.only_places for suffix in one.suffixes}
    found: list[Path] = []
    for path in files:
        if path.is_dir():
            below = sorted(one for one in path.rglob("*") if one.suffix.lower() in endings and one.is_file())
            if not below:
                raise InputError(
                    "holds no file that can be drawn.", file=path, remedy=f"Files end in {', '.join(sorted(endings))}."
                )
            found += below
        else:
            found.append(path)
    return found
