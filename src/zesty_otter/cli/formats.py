"""`zesty-otter formats`: what can be read and written."""

from __future__ import annotations

from dataclasses import asdict

from zesty_otter.cli import console
from zesty_otter.formats import CARRIES, all_formats


def command(json: console.Json = False) -> None:
    """List the formats: which are read and written, and what each can carry."""
    if json:
        console.print_json(
            [
                {
                    "name": one.name,
                    "title": one.title,
                    "suffixes": one.suffixes,
                    "reads": one.reader is not None,
                    "writes": one.writer is not None,
                    "carries": [what for what in CARRIES if what in one.carries],
                    "settings": [asdict(own) for own in one.settings],
                }
                for one in all_formats()
            ]
        )
        return
    made = console.table("format", "ending", "reads", "writes", "carries")
    for one in all_formats():
        made.add_row(
            one.title,
            " ".join(one.suffixes),
            "yes" if one.reader else "no",
            "yes" if one.writer else "no",
            ", ".join(what for what in CARRIES if what in one.carries) or "bare triangles",
        )
    console.results.print(made)
    console.results.print()
    settings = console.table("setting", "of", "values", "what it says")
    for own in dict.fromkeys(own for one in all_formats() for own in one.settings):
        owners = dict.fromkeys(suffix for one in all_formats() if own in one.settings for suffix in one.suffixes)
        values = "yes or no" if own.values[0] in (True, False) else " or ".join(own.values)
        settings.add_row(own.name, " ".join(owners), values, own.description)
    console.results.print(settings)
