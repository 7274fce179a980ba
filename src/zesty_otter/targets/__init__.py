"""What a receiving engine expects. Targets are TOML files; those in `data` are built in."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from importlib import resources

from zesty_otter.errors import UsageError
from zesty_otter.model import Frame


@dataclass(frozen=True)
class Target:
    """A target: its name, one line on what it is, and the frame it works in."""

    name: str
    title: str
    frame: Frame


def names() -> list[str]:
    """The built-in targets."""
    folder = resources.files(__name__) / "data"
    return sorted(file.name.removesuffix(".toml") for file in folder.iterdir() if file.name.endswith(".toml"))


def load(name: str) -> Target:
    """A built-in target by its name."""
    if name not in names():
        raise UsageError(f"'{name}' is not a target.", remedy=f"There are {', '.join(names())}.")
    text = (resources.files(__name__) / "data" / f"{name}.toml").read_text("utf-8")
    data = tomllib.loads(text)
    return Target(name, data["title"], Frame(data["frame"]["axes"], data["frame"]["unit"]))
