"""What stands in a job file, and how one is read."""

from __future__ import annotations

import string
import tomllib
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, GetJsonSchemaHandler, TypeAdapter, WithJsonSchema
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from zesty_otter._settings import Settings, read_settings
from zesty_otter.errors import UsageError, closest
from zesty_otter.formats import all_formats, format_named
from zesty_otter.jobs.modules import bring_in
from zesty_otter.steps import STEPS, Length, Step, Words, step_from_text, step_named
from zesty_otter.targets import Axes, Unit

TOKENS = ("name", "source", "folder", "group", "output", "target", "suffix", "number")
"""What folder and file templates may hold."""


def _as_tuple(value: Any) -> Any:
    return (value,) if isinstance(value, str) else value


def _as_step(value: Any) -> Any:
    """A step from a line, or from a table whose key ``step`` names it."""
    try:
        if isinstance(value, str):
            return step_from_text(value)
        if isinstance(value, dict):
            if "step" not in value:
                raise ValueError('a step needs its name: step = "weld"')
            return step_named(value["step"])(**{key: one for key, one in value.items() if key != "step"})
    except UsageError as error:
        raise ValueError(str(error)) from None
    return value


class _StepSchema:
    """The JSON Schema of any step: a line of text, or a table with its settings."""

    @staticmethod
    def __get_pydantic_json_schema__(_: CoreSchema, __: GetJsonSchemaHandler) -> JsonSchemaValue:
        tables = []
        for slug, step in STEPS.items():
            schema = step.model_json_schema()
            schema["properties"] = {"step": {"const": slug}, **schema.get("properties", {})}
            schema["required"] = ["step", *schema.get("required", [])]
            tables.append(schema)
        return {"anyOf": [{"type": "string"}, *tables]}


def _known_facets(text: str) -> str:
    from zesty_otter.formats.facets import Facets

    try:
        Facets.parsed(text)
    except UsageError as error:
        raise ValueError(str(error)) from None
    return text


def _known_format(name: str) -> str:
    """The name of a format that can be written, given that or one of its endings."""
    try:
        kind = format_named(name)
    except UsageError:
        kind = None
    if kind is None or kind.writer is None:
        known = [one.name for one in all_formats() if one.writer]
        raise ValueError(f"'{name}' cannot be written; there are {', '.join(known)}.{closest(name, known)}")
    return kind.name


def _known_tokens(template: str) -> str:
    try:
        tokens = [name for _, name, _, _ in string.Formatter().parse(template) if name is not None]
    except ValueError as error:
        raise ValueError(f"'{template}' is not a template: {error}") from None
    for token in tokens:
        if token not in TOKENS:
            there = ", ".join(f"{{{one}}}" for one in TOKENS)
            raise ValueError(f"'{{{token}}}' is not one of {there}.{closest(token, TOKENS)}")
    return template


_ONE_OR_MORE = WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]})
Texts = Annotated[tuple[str, ...], BeforeValidator(_as_tuple), _ONE_OR_MORE]
Template = Annotated[str, AfterValidator(_known_tokens)]
AnyStep = Annotated[Step, BeforeValidator(_as_step), _StepSchema]
FacetsText = Annotated[str, AfterValidator(_known_facets)]
FormatName = Annotated[str, AfterValidator(_known_format)]
OnExisting = Literal["replace", "keep", "number"]


class Source(Settings):
    """Files to read."""

    files: Texts = Field(min_length=1, description="Files, folders (with subfolders) and patterns (props/*.obj).")
    exclude: Texts = Field((), description="Patterns of files to leave out.")
    unit: Unit | None = Field(None, description="Unit of files without one: mm, cm, m, in, ft or metres.")
    axes: Axes | None = Field(None, description="What their +X, +Y and +Z mean, for files without axes.")
    pose: str | None = Field(None, description="Moment of an animation to freeze: NAME@SECONDS.")
    scene: str | None = Field(None, description="Scene to read from files with several: name, or number from 0.")
    facets: FacetsText | None = Field(
        None, description="How exact curves and surfaces become polygons: 'chord=0.2mm angle=20', 'density=0.3', ngons."
    )
    colors: Literal["screen", "linear"] | None = Field(
        None, description="Read their colours as sRGB (screen) or as linear; as is usual for the format when absent."
    )
    textures_from: Texts = Field((), description="More folders for textures and material libraries.")
    steps: tuple[AnyStep, ...] = Field((), description="Steps for these files only, before those of the job.")
    assemble: bool = Field(
        False, description="Combine files whose names belong together into one asset: gate, gate_LOD1, gate_collision."
    )


class Output(Settings):
    """Files to write of every asset."""

    name: str = Field("", description="Name in the plan and the summary.")
    use: str | None = Field(None, description="Saved settings, [settings.NAME], to start from.")
    target: str | None = Field(None, description="Target of the files: a built-in one or a .toml file.")
    unit: Unit | None = Field(None, description="Unit to write, instead of the target's.")
    axes: Axes | None = Field(None, description="Axes to write, instead of the target's.")
    formats: Annotated[tuple[FormatName, ...], BeforeValidator(_as_tuple)] = Field(
        (), description="Formats to write; the target's preferred one when absent."
    )
    folder: Template = Field("", description="Folder below that of the job, with {folder}, {source}, {group} ...")
    file: Template = Field("{name}", description="Name of each file, without its ending.")
    suffix: Template = Field("", description="Text after the name, to tell outputs apart: _low, _{target}.")
    split: Literal["scene", "object", "group", "top-group", "cell", "pieces"] = Field(
        "scene",
        description="A file for the whole source, each object, each innermost or outermost group, each cell that the"
        " step cells made; or pieces: each asset once, and a light scene {source}_scene that places them.",
    )
    meshes: Literal["separate", "joined"] = Field(
        "separate", description="separate: nodes keep their places; joined: one mesh, slots merged by material."
    )
    place: Literal["keep", "origin"] = Field(
        "keep", description="origin: move the first node of each file to the world's origin."
    )
    keep: Words = Field((), description="Nodes to write, in the words of select; all when absent.")
    drop: Words = Field(("kind:light", "kind:camera"), description="Nodes to leave out, in the words of select.")
    common: Words = Field((), description="Nodes that go into every file, in the words of select.")
    facets: FacetsText | None = Field(
        None, description="How exact surfaces become polygons for this output, instead of what their source says."
    )
    quantized: bool = Field(False, description="For glTF: positions in 16 bits, normals in 8, UVs in 16.")
    writing: dict[str, Any] = Field(
        default_factory=dict, description="Settings of formats, as listed by `zesty-otter formats`."
    )
    check: Literal["limits", "all", "stop"] = Field(
        "limits",
        description="limits: check the target's limits; all: check everything; stop: like all, and write no file that"
        " breaks a rule of severity error.",
    )
    steps: tuple[AnyStep, ...] = Field((), description="Steps for this output only, after those of the job.")
    on_existing: OnExisting | None = Field(None, description="replace, keep or number; that of the job when absent.")


class LayOut(Settings):
    """All assets of the job in rows, as one scene to look over."""

    file: str = Field("overview.glb", description="The file to write, below the folder of the job.")
    of: str | None = Field(None, description="The output whose files are laid out; the first when absent.")
    gap: Length = Field("50cm", validate_default=True, ge=0, description="Space between assets.")
    per_row: int | None = Field(None, ge=1, description="Assets in a row; about a square when absent.")


class Job(Settings):
    """A job: these sources, these steps, these outputs. Relative paths start from the job file's folder."""

    title: str = Field("", description="One line on what the job is for.")
    based_on: Texts = Field((), description="Job files to start from; keys of this one override theirs.")
    modules: Texts = Field((), description="Python files with steps of your own, which are run when the job is read.")
    folder: str = Field("ready", description="Folder for outputs, the record and arrivals.jsonl.")
    target: str | None = Field(None, description="Target for outputs without one.")
    on_existing: OnExisting = Field(
        "replace", description="If a file exists: replace it, keep it, or number the new one."
    )
    sources: tuple[Source, ...] = Field((), description="What to read.")
    steps: tuple[AnyStep, ...] = Field((), description="Steps for every source, in order.")
    outputs: tuple[Output, ...] = Field((), description="What to write.")
    settings: dict[str, Output] = Field(default_factory=dict, description="Saved settings of outputs, by name.")
    report: bool = Field(True, description="Write report.html, a page with pictures of everything the job made.")
    lay_out: LayOut | None = Field(None, description="One more file with all assets in rows.")


def load(path: str | Path) -> Job:
    """A job from its file, with what it is based on, and with every path made absolute.

    Parameters
    ----------
    path : str or Path

    Returns
    -------
    Job

    Raises
    ------
    InputError
        When a file cannot be read.
    UsageError
        When a key or value makes no sense; the message names the line and the near word.

    Examples
    --------
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> _ = Path("yard.toml").write_text('''
    ... folder = "ready"
    ... [[sources]]
    ... files = "sail.glb"
    ... [[outputs]]
    ... formats = "obj"
    ... ''')
    >>> load("yard.toml").outputs[0].formats
    ('obj',)
    """
    path = Path(path)
    _bring_modules(path, set())
    job = _load(path, ())
    if "folder" not in job.model_fields_set:
        job = job.model_copy(update={"folder": str(path.parent / job.folder)})
    return job


def _bring_modules(path: Path, seen: set[Path]) -> None:
    """Run the modules of a job and of those it is based on, before their steps are read."""
    if path.resolve() in seen:
        return
    seen.add(path.resolve())
    try:
        raw = tomllib.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        return  # said when the job is read

    def texts(key: str) -> list[str]:
        value = raw.get(key, [])
        return [one for one in ([value] if isinstance(value, str) else value) if isinstance(one, str)]

    for base in texts("based_on"):
        _bring_modules(path.parent / base, seen)
    for one in texts("modules"):
        bring_in(path.parent / one)


def _load(path: Path, above: tuple[Path, ...]) -> Job:
    if path.resolve() in above:
        chain = " → ".join(one.name for one in (*above, path))
        raise UsageError(f"is based on itself: {chain}.", file=path, remedy="Take one of the based_on out.")
    own = anchored(read_settings(path, Job), path.parent)
    job = Job()
    for base in own.based_on:
        job = _over(job, _load(Path(base), (*above, path.resolve())))
    return _over(job, own)


def _over(base: Job, own: Job) -> Job:
    """A job with what another says in its place; lists are replaced whole, saved settings by name."""
    changes: dict[str, Any] = {key: getattr(own, key) for key in own.model_fields_set}
    changes["settings"] = {**base.settings, **own.settings}
    return base.model_copy(update=changes)


def anchored(job: Job, folder: Path) -> Job:
    """The job with its relative paths starting from a folder."""

    def at(path: str) -> str:
        return str(folder / path)

    def target_at(name: str | None) -> str | None:
        return at(name) if name and name.endswith(".toml") else name

    def output_at(output: Output) -> Output:
        return _changed(output, target=target_at(output.target), steps=_steps_at(output.steps, folder))

    changes: dict[str, Any] = {
        "based_on": tuple(map(at, job.based_on)),
        "modules": tuple(map(at, job.modules)),
        "folder": at(job.folder),
        "target": target_at(job.target),
        "steps": _steps_at(job.steps, folder),
        "outputs": tuple(map(output_at, job.outputs)),
        "settings": {name: output_at(output) for name, output in job.settings.items()},
        "sources": tuple(
            _changed(
                source,
                files=tuple(map(at, source.files)),
                exclude=tuple(map(at, source.exclude)),
                textures_from=tuple(map(at, source.textures_from)),
                steps=_steps_at(source.steps, folder),
            )
            for source in job.sources
        ),
    }
    return _changed(job, **changes)


def _changed(table: Any, **changes: Any) -> Any:
    """The table with some values changed; what was not said stays unsaid."""
    return table.model_copy(update={k: value for k, value in changes.items() if k in table.model_fields_set})


def _steps_at(steps: tuple[Step, ...], folder: Path) -> tuple[Step, ...]:
    """Steps whose paths start from a folder."""
    return tuple(_step_at(step, folder) for step in steps)


def _step_at(step: Step, folder: Path) -> Step:
    changes: dict[str, Any] = {}
    for name in step.model_fields_set:
        value = getattr(step, name)
        if isinstance(value, Path):
            changes[name] = folder / value
        elif isinstance(value, tuple) and any(isinstance(one, Path) for one in value):
            changes[name] = tuple(folder / one for one in value)
    return step.model_copy(update=changes) if changes else step


def schema() -> dict[str, Any]:
    """The JSON Schema of job files, for editors.

    Returns
    -------
    dict of str to object

    Examples
    --------
    >>> schema()["type"]
    'object'
    """
    made = TypeAdapter(Job).json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made}


__all__ = ["Job", "LayOut", "Output", "Source", "load", "schema"]
