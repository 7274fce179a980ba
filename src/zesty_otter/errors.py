"""Every error the library raises on purpose.

    ZestyOtterError            root: catch this to catch them all
    ├── UsageError             an argument or setting makes no sense          (exit status 2)
    │   └── UnknownUnitError   a length is needed but the file has no unit  (exit status 2)
    ├── FindingsError          a check says no                                (exit status 1)
    ├── InternalError          a fault of the program itself                  (exit status 3)
    ├── InputError             a file could not be read                       (exit status 3)
    │   └── ModelError         arrays do not make a valid mesh, node or scene (exit status 3)
    └── OutputError            a file could not be written                    (exit status 4)

A message names the file, the place in it, what is wrong, and the way out.
"""

from __future__ import annotations

from collections.abc import Iterable
from os import PathLike, fspath
from pathlib import Path


class ZestyOtterError(Exception):
    """Root of the tree.

    Parameters
    ----------
    problem : str
        What is wrong, in one sentence.
    file : path, optional
        The file it is about.
    place : str, optional
        Where in that file: ``"line 12"``, ``"node Gate"``.
    remedy : str, optional
        What to do next.
    """

    exit_status = 2

    def __init__(
        self,
        problem: str,
        *,
        file: str | PathLike[str] | None = None,
        place: str | None = None,
        remedy: str | None = None,
    ) -> None:
        self.problem = problem
        self.file = None if file is None else fspath(file)
        self.place = place
        self.remedy = remedy
        super().__init__(problem, file, place, remedy)

    def __reduce__(self) -> tuple[object, ...]:
        # Errors cross from worker processes to the one that reports them.
        return _remade, (type(self), self.problem, self.file, self.place, self.remedy)

    def __str__(self) -> str:
        where = ", ".join(part for part in (self.file, self.place) if part)
        text = f"{where}: {self.problem}" if where else self.problem
        return f"{text} {self.remedy}" if self.remedy else text


def _remade(
    kind: type[ZestyOtterError], problem: str, file: str | None, place: str | None, remedy: str | None
) -> ZestyOtterError:
    return kind(problem, file=file, place=place, remedy=remedy)


class UsageError(ZestyOtterError):
    """An argument, option or setting makes no sense."""


class UnknownUnitError(UsageError):
    """A length in metres is needed, but the source has no unit and none was given."""


class FindingsError(ZestyOtterError):
    """A check found what must not be."""

    exit_status = 1
    findings: tuple[object, ...] = ()
    """Everything that the check found, where it is known."""


class InternalError(ZestyOtterError):
    """A fault of the program itself, not of what it was given; the trace is in a log."""

    exit_status = 3

    @classmethod
    def of(cls, error: Exception, file: str | PathLike[str] | None = None) -> InternalError:
        """What to tell of an error nobody foresaw, with its trace written to a log."""
        # Nobody waits for what only faults need.
        import hashlib
        import tempfile
        import traceback

        trace = "".join(traceback.format_exception(error))
        digest = hashlib.sha256(trace.encode("utf-8", "replace")).hexdigest()[:8]
        log = Path(tempfile.gettempdir(), f"zesty-otter-{digest}.log")
        try:
            log.write_text(trace, "utf-8", "replace")
            remedy = f"Please report it with {log}."
        except OSError:
            remedy = "Please report it."
        return cls(f"failed by a fault of the program ({type(error).__name__}).", file=file, remedy=remedy)


class InputError(ZestyOtterError):
    """A file could not be read."""

    exit_status = 3


class ModelError(InputError):
    """Arrays do not make a valid mesh, node or scene."""


class OutputError(ZestyOtterError):
    """A file could not be written."""

    exit_status = 4


def closest(word: str, known: Iterable[str]) -> str:
    """``" Did you mean 'x'?"`` when something known is spelled much like ``word``, else nothing."""
    import difflib

    near = difflib.get_close_matches(word, list(known), 1)
    return f" Did you mean '{near[0]}'?" if near else ""
