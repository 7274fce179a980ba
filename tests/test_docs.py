"""The manual says what the code says."""

from __future__ import annotations

import importlib
import inspect
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from typed_use import boatyard
from zesty_otter.audit.rules import all_rules

DOCS = Path(__file__).parent.parent / "docs"


def test_every_check_stands_in_the_manual_as_it_is():
    text = (DOCS / "checks.md").read_text()
    for one in all_rules().values():
        mend = f"`{one.mend}`" if one.mend else ""
        assert f"| `{one.name}` | {one.severity} | {one.about} | {mend} |" in text


def test_every_picture_that_is_shown_is_there_and_every_one_there_is_shown():
    pages = [*DOCS.rglob("*.md"), DOCS.parent / "README.md"]
    shown = {name for page in pages for name in _pictures(page.read_text())}
    there = {path.name for path in (DOCS / "screenshots").glob("*.png")}
    assert shown == there and len(there) < 20


def test_what_a_typed_user_writes_runs(tmp_path):
    assert boatyard(tmp_path)[:2] == ["yard_sail", "yard_lamp"]


ROOMS = ("", ".model", ".geometry", ".formats", ".audit", ".pictures", ".steps", ".jobs", ".pixels", ".rehearsal",
         ".pipeline")  # fmt: skip


def public_functions(room: str) -> Iterator[tuple[str, Callable[..., Any]]]:
    """What a room exports: functions, and the public methods of classes but for steps, which `Step` describes."""
    module = importlib.import_module(f"zesty_otter{room}")
    for name in module.__all__:
        value = getattr(module, name)
        if inspect.isfunction(value):
            yield name, value
        for key, one in list(vars(value).items()) if inspect.isclass(value) else ():
            function = getattr(one, "__func__", one)
            ours = inspect.isfunction(function) and function.__module__.startswith("zesty_otter")
            if ours and not key.startswith("_") and key not in ("change", "change_part"):
                yield f"{name}.{key}", function


@pytest.mark.parametrize("room", ROOMS)
def test_public_functions_say_what_they_take_give_and_refuse_and_show_it(room):
    for name, function in public_functions(room):
        sections = set(re.findall(r"^(\w+)\n-+$", inspect.getdoc(function) or "", re.M))
        signature = inspect.signature(function)
        wanted = {"Examples"}
        wanted |= {"Parameters"} if signature.parameters.keys() - {"self", "cls"} else set()
        wanted |= {"Raises"} if re.search(r"^\s+raise \w", inspect.getsource(function), re.M) else set()
        nothing = signature.return_annotation in (None, "None", "NoReturn")
        assert wanted <= sections and (nothing or sections & {"Returns", "Yields"}), name


def _pictures(text: str) -> set[str]:
    return {part.split(")")[0] for part in text.split("screenshots/")[1:]}
