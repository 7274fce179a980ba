from __future__ import annotations

import json
import os
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import pytest
from hypothesis import settings

os.environ["COLUMNS"] = "160"
from zesty_otter.cli import main  # reads the width of the terminal

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
