"""What every step is: frozen settings with one `apply`."""

from __future__ import annotations

from collections.abc import Callable
from contextvars import ContextVar
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, ClassVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, WithJsonSchema, model_validator

from zesty_otter._settings import as_value
from zesty_otter.errors import UsageError, closest
from zesty_otter.model import Node, Note, Scene, parse_length
from zesty_otter.steps.words import Words, chosen_numbers

as_length = as_value(parse_length)
Length = Annotated[
    float, BeforeValidator(as_length), WithJsonSchema({"type": ["number", "string"], "examples": ["2cm", 0.02]})
]
"""A length in metres; also written with a unit, such as ``"2cm"``."""


_progress: ContextVar[Callable[[float], None] | None] = ContextVar("progress", default=None)


def tell(share: float) -> None:
    """Say from within a step how much of it is done."""
    told = _progress.get()
    if told is not None:
        told(share)


class Step(BaseModel):
    """One change from scene to scene. The fields are its settings and their descriptions its manual.

    A subclass sets ``slug``, the word for it in commands and job files, and ``example``, settings that
    make sense; its docstring says what it looks at, what it changes and what it refuses. It writes down
    `change`; users call `apply`. ``whole_scene`` says that it makes no sense for a part of a scene.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    slug: ClassVar[str]
    example: ClassVar[dict[str, Any]] = {}
    whole_scene: ClassVar[bool] = False

    only: Words = Field((), description="Node filter: the nodes to work on, in the words of select; all when empty.")

    def __init__(self, **settings: Any) -> None:
        try:
            super().__init__(**settings)
        except ValidationError as error:
            raise UsageError(_first_problem(type(self), error)) from None

    @model_validator(mode="after")
    def _not_of_a_part(self) -> Step:
        if self.only and self.whole_scene:
            raise ValueError(f"'{self.slug}' works on the whole scene and takes no 'only'")
        return self

    def apply(self, scene: Scene, progress: Callable[[float], None] | None = None) -> Scene:
        """The changed scene, with notes on what was done; what ``only`` does not choose is as it was.

        ``progress`` is called with the share that is done by steps that take long.

        Parameters
        ----------
        scene : Scene
        progress : callable, optional

        Returns
        -------
        Scene

        Raises
        ------
        ZestyOtterError
            When the scene lacks what the step needs.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> scene = zo.Scene.from_mesh(sail)
        >>> zo.steps.Scale(factor=2).apply(scene).bounds()[1].tolist()
        [4.0, 6.0, 0.0]
        """
        token = _progress.set(progress)
        try:
            return self._applied(scene)
        finally:
            _progress.reset(token)

    def files(self) -> tuple[Path, ...]:
        """The files that its settings name, and all in folders that they name.

        Returns
        -------
        tuple of Path
            Those that are there.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> zo.steps.Scale(factor=2).files()
        ()
        """
        found: list[Path] = []
        for name in type(self).model_fields:
            value = getattr(self, name)
            for one in value if isinstance(value, tuple) else (value,):
                if isinstance(one, Path):
                    found += sorted(below for below in one.rglob("*") if below.is_file()) if one.is_dir() else [one]
        return tuple(one for one in found if one.is_file())

    def _applied(self, scene: Scene) -> Scene:
        if not self.only:
            return self.change(scene)
        numbers = chosen_numbers(scene, self.only)
        if not numbers:
            return scene.with_notes(
                self.note(f"{self.slug}: no node matches only = {', '.join(self.only)}; nothing done", kind="finding")
            )
        return self.change_part(scene, numbers)

    def change(self, scene: Scene) -> Scene:
        """The whole scene changed.

        Parameters
        ----------
        scene : Scene

        Returns
        -------
        Scene
        """
        raise NotImplementedError

    def change_part(self, scene: Scene, numbers: set[int]) -> Scene:
        """The scene with the nodes at some places of its walk changed.

        Right for steps that keep the tree and work on meshes; others have their own.

        Parameters
        ----------
        scene : Scene
        numbers : set of int
            Places of nodes in the scene's walk.

        Returns
        -------
        Scene
        """
        before = [placed.node for placed in scene.walk()]
        alone = scene.rebuilt(lambda n, node: node if n in numbers else replace(node, content=None))

        def restored(n: int, node: Node) -> Node:
            return node if n in numbers else replace(before[n], children=node.children)

        return self.change(alone).rebuilt(restored)

    def note(self, text: str, *, kind: str = "done", node: str = "") -> Note:
        """A note in this step's name.

        Parameters
        ----------
        text : str
        kind : {"done", "assumed", "lost", "finding"}
        node : str

        Returns
        -------
        Note

        Examples
        --------
        >>> from zesty_otter.steps import Weld
        >>> Weld().note("2 points welded", node="sail").maker
        'weld'
        """
        return Note(kind, text, self.slug, node=node)


def apply(scene: Scene, *steps: Step) -> Scene:
    """The scene after some steps, in order.

    Parameters
    ----------
    scene : Scene
    *steps : Step

    Returns
    -------
    Scene

    Raises
    ------
    UsageError
        When a step is asked for what the scene cannot have.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> scene = zo.Scene((), zo.Frame("left up forward", "m"))
    >>> zo.apply(scene, zo.steps.Reframe(unit="cm")).frame.unit
    0.01
    """
    for step in steps:
        if not isinstance(step, Step):
            raise UsageError(
                f"apply takes steps, not {step!r}.", remedy="`zo.steps.step_from_text` makes one of a text."
            )
        scene = step.apply(scene)
    return scene


def _first_problem(step: type[Step], error: ValidationError) -> str:
    problem = error.errors()[0]
    field = step.model_fields.get(str(problem["loc"][0])) if problem["loc"] else None
    loc = (field.alias, *problem["loc"][1:]) if field is not None and field.alias else problem["loc"]
    where = ".".join(str(part) for part in loc)
    if problem["type"] == "extra_forbidden":
        known = [*(field.alias or name for name, field in step.model_fields.items() if name != "only"), "only"]
        return f"step '{step.slug}' has no setting '{where}'; it has {', '.join(known)}.{closest(where, known)}"
    given = problem.get("input")
    message = problem["msg"].removeprefix("Value error, ").replace("Input should be", "must be").rstrip(".")
    text = f"step '{step.slug}', setting '{where}': {message}" if where else f"step '{step.slug}': {message}"
    if not isinstance(given, str | int | float) or repr(given) in text:
        return text if text.endswith("?") else f"{text}."
    return f"{text} (given: {given!r}).{closest(str(given), message.split(chr(39))[1::2])}"
