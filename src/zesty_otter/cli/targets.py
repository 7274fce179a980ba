"""`zesty-otter targets`: what receives files."""

from __future__ import annotations

from typing import Annotated

import typer

from zesty_otter import targets
from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.model import format_unit


def command(
    name: Annotated[str | None, typer.Argument(help="A target to show.", show_default=False)] = None,
    json: console.Json = False,
) -> None:
    """List the targets, or show one: the space it works in."""
    found = [targets.load(one) for one in ([name] if name else targets.names())]
    if json:
        documents = [
            {
                "name": one.name,
                "title": one.title,
                "axes": " ".join(one.frame.axes),
                "unit": one.frame.unit,
                "right_handed": one.frame.right_handed,
            }
            for one in found
        ]
        console.print_json(documents[0] if name else documents)
        return
    made = console.table("target", "axes (+X +Y +Z)", "unit", "hand", "in words")
    for one in found:
        hand = "right" if one.frame.right_handed else "left"
        made.add_row(one.name, " ".join(one.frame.axes), format_unit(one.frame.unit), hand, one.title)
    results.print(made)
