from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

os.environ["COLUMNS"] = "160"
import zesty_otter as zo
from zesty_otter.cli import main  # reads the width of the terminal
from zesty_otter.demo import PIECES, Piece, write_kit
from zesty_otter.steps import Names, Normals, Reframe, Select

_HOME = Path(zo.__file__).parent
_stale = [
    kernel.relative_to(_HOME)
    for kernel in _HOME.rglob("*.pyx")
    for built in kernel.parent.glob(f"{kernel.stem}.*.so")
    if built.stat().st_mtime < kernel.stat().st_mtime
]
if _stale:
    pytest.exit(f"older than their sources: {', '.join(map(str, _stale))}; `make test` compiles them again", 2)

settings.register_profile("steady", derandomize=True, deadline=None, max_examples=60)
settings.load_profile("steady")


@dataclass
class Ran:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


@pytest.fixture
def run(capsys: pytest.CaptureFixture[str]) -> Callable[..., Ran]:
    """Run the command line in this process, as a user would type it."""

    def run(*arguments: object) -> Ran:
        capsys.readouterr()
        with pytest.raises(SystemExit) as left:
            main([str(argument) for argument in arguments])
        out, err = capsys.readouterr()
        return Ran(int(left.value.code or 0), out, " ".join(err.split()))

    return run


@pytest.fixture(scope="session")
def kit(tmp_path_factory) -> list[tuple[Piece, Path]]:
    """The pieces of the demo kit with their files."""
    return list(zip(PIECES, write_kit(tmp_path_factory.mktemp("kit")), strict=True))


@pytest.fixture(scope="session")
def mended(kit) -> dict[str, zo.Scene]:
    """Some pieces as they would be handed on: named, with normals, in the space of glTF."""
    scenes = {}
    for piece, model in kit:
        scene = zo.read(model, unit=piece.unit, axes=piece.axes)
        name = piece.out[:-4]
        steps = (Reframe(axes="left up forward", unit="m"), Select(drop="kind:light"), Normals(by="keep"), Names())
        scenes[name] = zo.apply(scene, *steps)
    return scenes
