"""`zesty-otter steps`: what can be done to a scene."""

from __future__ import annotations

import inspect
import json as json_module
import re
from typing import TYPE_CHECKING, Annotated, Any, Literal, get_args, get_origin

import typer
from rich.markup import escape

from zesty_otter.cli import console
from zesty_otter.cli.console import results
from zesty_otter.model import format_length
from zesty_otter.steps import first_line, step_named, summaries, with_those_of_others

if TYPE_CHECKING:
    from zesty_otter.steps import Step


def command(
    name: Annotated[str | None, typer.Argument(help="A step to explain.", show_default=False)] = None,
    json: console.Json = False,
) -> None:
    """List the steps, or explain one with its settings and an example."""
    if json:
        documents = [document(step) for slug, step in with_those_of_others().items() if name in (None, slug)]
        console.print_json(document(step_named(name)) if name else documents)
    elif name is None:
        made = console.table("step", "what it does")
        for slug, line in summaries().items():
            made.add_row(slug, line)
        results.print(made)
        results.print("\n`zesty-otter steps NAME` explains one; `convert --step 'NAME key=value'` takes it.")
    else:
        explain(step_named(name))


def explain(step: type[Step]) -> None:
    """Print what a step is for and what it can be told."""
    results.print(f"[title]{step.slug}[/]  {escape(first_line(step))}\n")
    results.print(escape(body(step)))
    results.print()
    made = console.table("setting", "default", "what it says")
    for field in document(step)["settings"]:
        made.add_row(field["name"], escape(field["default"]), escape(field["description"]))
    results.print(made)
    results.print(f"\n[label]example[/]  {escape(example_line(step))}", soft_wrap=True)


def document(step: type[Step]) -> dict[str, Any]:
    """A step as plain data, taken from its settings model."""
    return {
        "name": step.slug,
        "summary": first_line(step),
        "description": body(step),
        "settings": [
            {"name": name, "default": _default(field), "description": _described(field)}
            for name, field in settings_of(step).items()
        ],
        "example": example_line(step),
    }


def _described(field: Any) -> str:
    """What a setting is for, with every value it may have where these are words."""
    text = field.description or ""
    known = [str(value) for value in _values(field.annotation)]
    missing = [value for value in known if not re.search(rf"(?<![\w-]){re.escape(value)}(?![\w-])", text)]
    return f"{text} One of {', '.join(known)}." if missing else text


def _values(annotation: Any) -> tuple[Any, ...]:
    """The words a setting may have; none where it is free."""
    if get_origin(annotation) is Literal:
        return tuple(value for value in get_args(annotation) if isinstance(value, str))
    return tuple(value for one in get_args(annotation) for value in _values(one))


def settings_of(step: type[Step]) -> dict[str, Any]:
    """The settings of a step, those of its own first."""
    fields = {field.alias or name: field for name, field in step.model_fields.items()}
    everywhere = fields.pop("only")
    return fields if step.whole_scene else {**fields, "only": everywhere}


def body(step: type[Step]) -> str:
    """The rest of the description, as one paragraph."""
    return " ".join((inspect.getdoc(step) or "").partition("\n\n")[2].split()).replace("``", "")


def example_line(step: type[Step]) -> str:
    """The step's example as `convert --step` takes it."""
    return f"--step '{_line(step.slug, step.example)}'"


def setting_line(step: Step) -> str:
    """A step as it would be written, with those of its settings that are not the default."""
    said, fields = step.model_dump(mode="json", exclude_defaults=True, by_alias=True), settings_of(type(step))
    lengths = {key: format_length(value) for key, value in said.items() if _is_length(fields[key])}
    return _line(step.slug, {**said, **{key: text.replace(" ", "") for key, text in lengths.items()}})


def _line(slug: str, settings: dict[str, Any]) -> str:
    words = []
    for key, value in settings.items():
        text = value if isinstance(value, str) and " " not in value else _toml(value)
        words.append(f"{key}={text}")
    return " ".join([slug, *words])


def _is_length(field: Any) -> bool:
    from zesty_otter.steps.base import as_length

    return any(getattr(one, "func", None) is as_length for one in field.metadata)


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{" + ",".join(f"{key}={_toml(one)}" for key, one in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ",".join(_toml(one) for one in value) + "]"
    return json_module.dumps(value, ensure_ascii=False)


def _default(field: Any) -> str:
    if field.is_required():
        return "must be set"
    value: Any = field.default_factory() if field.default_factory else field.default
    if value is None or value in ((), {}):
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if _is_length(field):
        return format_length(value)
    if isinstance(value, dict):
        return ", ".join(f"{key}: {' or '.join(one)}" for key, one in value.items())
    return str(value)
