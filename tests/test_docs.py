"""The manual says what the code says."""

from __future__ import annotations

from pathlib import Path

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


def _pictures(text: str) -> set[str]:
    return {part.split(")")[0] for part in text.split("screenshots/")[1:]}
