"""What every step is: frozen settings with one `apply`."""

from __future__ import annotations

import difflib
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError

from zesty_otter.errors import UsageError
from zesty_otter.model import Note, Scene, parse_length

Length = Annotated[float, BeforeValidator(parse_length)]
"""A length in metres; also written with a unit, such as ``"2cm"``."""


class Step(BaseModel):
    """One change from scene to scene. The fields are its settings and their descriptions its manual.

    A subclass sets ``slug``, the word for it in commands and job files, and ``example``, settings that
    make sense; its docstring says what it looks at, what it changes and what it refuses.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    slug: ClassVar[str]
    example: ClassVar[dict[str, Any]] = {}

    def __init__(self, **settings: Any) -> None:
        try:
            super().__init__(**settings)
        except ValidationError as error:
            raise UsageError(_first_problem(type(self), error)) from None

    def apply(self, scene: Scene) -> Scene:
        """The changed scene, with notes on what was done."""
        raise NotImplementedError

    def note(self, text: str, *, kind: str = "done", node: str = "") -> Note:
        """A note in this step's name."""
        return Note(kind, text, self.slug, node=node)


def apply(scene: Scene, *steps: Step) -> Scene:
    """The scene after some steps, in order.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> scene = zo.Scene((), zo.Frame("left up forward", "m"))
    >>> zo.apply(scene, zo.steps.Reframe(unit="cm")).frame.unit
    0.01
    """
    for step in steps:
        scene = step.apply(scene)
    return scene


def closest(word: str, known: list[str]) -> str:
    """``" Did you mean 'x'?"`` when something known is spelled much like ``word``, else nothing."""
    near = difflib.get_close_matches(word, known, 1)
    return f" Did you mean '{near[0]}'?" if near else ""


def _first_problem(step: type[Step], error: ValidationError) -> str:
    problem = error.errors()[0]
    where = ".".join(str(part) for part in problem["loc"])
    if problem["type"] == "extra_forbidden":
        known = list(step.model_fields)
        return f"step '{step.slug}' has no setting '{where}'; it has {', '.join(known)}.{closest(where, known)}"
    given = problem.get("input")
    message = problem["msg"].removeprefix("Value error, ").replace("Input should be", "must be").rstrip(".")
    text = f"step '{step.slug}', setting '{where}': {message}" if where else f"step '{step.slug}': {message}"
    if not isinstance(given, str | int | float) or repr(given) in text:
        return text if text.endswith("?") else f"{text}."
    return f"{text} (given: {given!r}).{closest(str(given), message.split(chr(39))[1::2])}"
