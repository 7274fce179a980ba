"""Python modules that a job names, with steps of the user's own, also in workers that have never seen them."""

from __future__ import annotations

import hashlib
import re
import sys
import traceback
from collections.abc import Mapping
from pathlib import Path
from types import ModuleType

from zesty_otter.errors import InputError

loaded: dict[str, str] = {}
"""The text of every module that was brought in, by the name it has here."""


def bring_in(path: Path) -> None:
    """Run a module, so that steps it registers are known.

    What it is called tells its text: one that has changed is another module, and so are its steps.

    Parameters
    ----------
    path : Path

    Raises
    ------
    InputError
        When it cannot be read, or fails.
    """
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or str(error)
        raise InputError(f"the module could not be read: {why}.", file=path, remedy="Check 'modules'.") from None
    stem = re.sub(r"\W", "_", path.stem)
    name = f"zesty_otter_job_{stem}_{hashlib.sha256(text.encode()).hexdigest()[:12]}"
    try:
        install({name: text}, {name: str(path)})
    except Exception as error:
        line = traceback.extract_tb(error.__traceback__)[-1].lineno
        line = error.lineno if isinstance(error, SyntaxError) else line
        problem = f"the module fails: {type(error).__name__}: {error}."
        raise InputError(problem, file=path, place=f"line {line}", remedy="Mend it, and run again.") from None


def install(texts: Mapping[str, str], files: Mapping[str, str] | None = None) -> None:
    """Run modules that are not there yet.

    Parameters
    ----------
    texts : mapping of str to str
        Their texts by their names.
    files : mapping of str to str, optional
        Where they come from, for messages.
    """
    for name, text in texts.items():
        if name in sys.modules:
            continue
        module = ModuleType(name)
        module.__file__ = (files or {}).get(name, f"<{name}>")
        sys.modules[name] = module
        try:
            exec(compile(text, module.__file__, "exec"), module.__dict__)
        except BaseException:
            del sys.modules[name]
            raise
        loaded[name] = text


class Brought:
    """Stands before what needs them when it is sent to another process: there they are run first."""

    def __reduce__(self) -> tuple[object, ...]:
        return install, (dict(loaded),)
