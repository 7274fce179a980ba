"""`zesty-otter targets`: what receives files."""

from __future__ import annotations

from typing import Annotated, Any

import typer
from rich.markup import escape

from zesty_otter import targets
from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.model import format_length, format_unit
from zesty_otter.targets import Target


def command(
    name: Annotated[str | None, typer.Argument(help="A target to show, or a .toml file.", show_default=False)] = None,
    json: console.Json = False,
) -> None:
    """List the targets, or show one: its space, formats, names, limits and requirements."""
    found = [targets.load(one) for one in ([name] if name else targets.names())]
    if json:
        documents = [_document(one) for one in found]
        console.print_json(documents[0] if name else documents)
    elif name:
        _show(found[0])
    else:
        made = console.table("target", "axes (+X +Y +Z)", "unit", "hand", "in words")
        for one in found:
            made.add_row(one.name, one.frame.axes, format_unit(one.space.unit), _hand(one), one.title)
        results.print(made)
        results.print(
            '\n`zesty-otter targets NAME` shows one. A file of your own can build on it: extends = "NAME".',
            soft_wrap=True,
        )


def _hand(target: Target) -> str:
    return "right" if target.space.right_handed else "left"


def _document(target: Target) -> dict[str, Any]:
    document = target.model_dump(mode="json", exclude={"extends", "frame"})
    space = target.space
    return {**document, "axes": " ".join(space.axes), "unit": space.unit, "right_handed": space.right_handed}


def _show(target: Target) -> None:
    """Everything a target says, in words; what it does not limit is not listed."""
    limits = {
        key: value for key, value in target.limits.model_dump().items() if value not in (None, ()) and key != "footing"
    }
    required = {key: value for key, value in target.require.model_dump().items() if value}
    rows = [
        ("space", f"{target.frame.axes}, {format_unit(target.space.unit)}, {_hand(target)}-handed"),
        ("formats", ", ".join(target.formats)),
        ("names", "\n".join(f"{role}: {escape(template)}" for role, template in target.names.items())),
        ("longest name", f"{target.longest_name} characters"),
        ("limits", "\n".join(f"{_words(key)}: {_value(value)}" for key, value in limits.items()) or "none"),
        ("footing", f"off by {format_length(target.limits.footing)} at most"),
        ("must have", "\n".join(_words(key) if v is True else f"{_words(key)}: {v}" for key, v in required.items())),
        ("left out", ", ".join(target.drop)),
        ("levels", "in one file" if target.levels.files == "together" else "a file each"),
        ("faces", "triangles" if target.triangulate else "polygons"),
        ("tangents", target.tangents),
        ("normal maps", f"green points {target.textures.normal_green}"),
    ]
    results.print(f"[title]{escape(target.name)}[/]  {escape(target.title)}\n")
    results.print(console.facts([(label, text or "nothing") for label, text in rows]))


def _words(key: str) -> str:
    return key.replace("_", " ")


def _value(value: Any) -> str:
    return ", ".join(f"{one:,}" for one in value) if isinstance(value, tuple) else f"{value:,}"
