"""Write docs/steps.md and docs/steps/ from the settings models: `make docs`. A test keeps them true."""

from __future__ import annotations

from pathlib import Path

from zesty_otter.cli.steps import document
from zesty_otter.steps import STEPS

DOCS = Path(__file__).parent.parent / "docs"

FAMILIES = {
    "Choosing": ("roles", "select"),
    "Space and size": ("reframe", "scale", "bake", "pivot"),
    "Surface": ("weld", "clean-up", "merge-flat", "triangulate"),
    "Joining and dividing": ("join", "divide"),
    "Copies and cells": ("gather", "expand", "swap", "stand-ins", "cells"),
    "Levels and collision": ("levels", "card", "lighten", "collision", "shadow", "bounds"),
    "Shading": ("normals", "tangents"),
    "UVs and maps": ("unwrap", "pack", "uv-sets", "atlas", "bake-maps"),
    "Looks": ("materials", "textures"),
    "Names": ("names",),
}


def pages() -> dict[Path, str]:
    """Every page by its path: one for each family, and an index."""
    index = [
        "# Steps",
        "",
        "A step takes a scene and returns a new one. On the command line the common ones are options of",
        "`zesty-otter convert`; every one can be given as `--step 'NAME key=value'`, in Python as a class of",
        "`zesty_otter.steps`. Lengths take a unit (`2cm`). These pages are made from the settings themselves, as is",
        "`zesty-otter steps NAME`.",
        "",
        "| step | what it does |",
        "|---|---|",
    ]
    found = {}
    for family, slugs in FAMILIES.items():
        name = f"{family.lower().replace(' ', '-')}.md"
        lines = [f"# {family}", "", "[All steps](../steps.md)", ""]
        for slug in slugs:
            lines += _section(slug)
            index.append(f"| [{slug}](steps/{name}#{slug}) | {document(STEPS[slug])['summary']} |")
        found[DOCS / "steps" / name] = "\n".join(lines)
    return {DOCS / "steps.md": "\n".join(index) + "\n", **found}


def _section(slug: str) -> list[str]:
    about = document(STEPS[slug])
    lines = [f"## {slug}", "", about["summary"], "", about["description"], ""]
    lines += ["| setting | default | what it says |", "|---|---|---|"]
    for field in about["settings"]:
        cells = (field["name"], field["default"], field["description"])
        lines.append("| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |")
    return [*lines, "", f"Python: `zo.steps.{STEPS[slug].__name__}`. Command line:", "", f"    {about['example']}", ""]


if __name__ == "__main__":
    for path, text in pages().items():
        path.parent.mkdir(exist_ok=True)
        path.write_text(text, "utf-8")
