"""A job worked out: which source becomes which files by which steps."""

from __future__ import annotations

import contextlib
import fnmatch
import functools
import glob
import operator
import os
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from zesty_otter import steps, targets
from zesty_otter._lazy import uncollected
from zesty_otter.errors import InputError, UsageError, ZestyOtterError, closest
from zesty_otter.formats import Format, all_formats, format_named
from zesty_otter.formats.files import is_text
from zesty_otter.jobs.job_file import Job, LayOut, Output, Source
from zesty_otter.model import Frame
from zesty_otter.page import ON_A_PAGE
from zesty_otter.pipeline import SourceFile, Wanted, selection, target_steps
from zesty_otter.pipeline.framing import worked_in
from zesty_otter.steps import Step
from zesty_otter.steps.assets import match_template, usual_templates
from zesty_otter.targets import Target


@dataclass(frozen=True)
class Part:
    """A file of an assembled asset, its role there, and the level its name says."""

    file: SourceFile
    role: str = "visible"
    level: int = 0


@dataclass(frozen=True)
class PlannedOutput:
    """An output with everything it builds on; ``steps`` are what its settings and its target come to."""

    name: str
    settings: Output
    target: Target | None
    kinds: tuple[Format, ...]
    frame: Frame | None
    steps: tuple[Step, ...]
    on_existing: str = "replace"

    @property
    def wanted(self) -> Wanted:
        """What it is to be, whatever its files are called."""
        own = self.settings
        return Wanted(
            self.frame,
            self.target,
            self.steps,
            own.split,
            own.meshes,
            own.place,
            own.common,
            own.check,
            {**own.writing, **({"quantized": True} if own.quantized else {})},
            "hidden" in own.keep,
        )

    def path(self, kind: Format, tokens: Mapping[str, str]) -> Path:
        """Where a file goes, from the folder of the job."""
        return Path(self.place(kind, tokens))

    def place(self, kind: Format, tokens: Mapping[str, str]) -> str:
        """The same as text."""
        file = self.settings.file
        if self.settings.suffix and "{suffix}" not in file:
            file += "{suffix}"
        folder = _tidy(filled(self.settings.folder, tokens))
        return f"{folder}{_safe(filled(file, tokens))}{kind.suffixes[0]}"

    def tokens(self, task: Task, name: str, group: str = "", number: int = 1) -> dict[str, str]:
        """What stands for the words in folder and file templates."""
        found = {
            "name": name,
            "source": task.stem,
            "group": group,
            "output": self.name,
            "target": self.target.name if self.target else "",
            "number": str(number),
            "suffix": "",
        }
        safe = {key: _safe(value) if value else value for key, value in found.items()}
        tokens = {**safe, "folder": task.parts[0].file.below}
        return {**tokens, "suffix": filled(self.settings.suffix, tokens)}


@dataclass(frozen=True)
class Task:
    """One asset's way from its sources to its files.

    Parameters
    ----------
    name : str
    stem : str
        Its name in names of files.
    parts : tuple of Part
        The sources it is put together from.
    steps : tuple of Step
    outputs : tuple of PlannedOutput
    frame : Frame or None
        The space in which steps are taken; that of the source when None.
    folder : Path
        That of the job.
    many : bool
        Whether it is one of so many that its picture in the report is a small one.
    """

    name: str
    stem: str
    parts: tuple[Part, ...]
    steps: tuple[Step, ...]
    outputs: tuple[PlannedOutput, ...]
    frame: Frame | None
    folder: Path
    many: bool = False

    def known_files(self) -> Iterator[tuple[Path, PlannedOutput]]:
        """The files whose names do not depend on what is in the source.

        Yields
        ------
        path : Path
        output : PlannedOutput

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
        >>> planned = plan(zo.jobs.load("yard.toml"))
        >>> [path.name for task in planned.tasks for path, _ in task.known_files()]
        ['sail.obj']
        """
        for place, output in _known_places(self):
            yield Path(place), output


@dataclass(frozen=True)
class Plan:
    """Everything a job is going to do.

    Parameters
    ----------
    title : str
    name : str
    folder : Path
    tasks : tuple of Task
    problems : tuple of (str, ZestyOtterError)
        Sources that are not there, by name.
    lay_out : LayOut or None
    lay_out_of : PlannedOutput or None
        The output whose files are laid out.
    report : bool
        Whether a page is made.
    """

    title: str
    name: str
    folder: Path
    tasks: tuple[Task, ...]
    problems: tuple[tuple[str, ZestyOtterError], ...]
    lay_out: LayOut | None
    lay_out_of: PlannedOutput | None
    report: bool = True


@uncollected()
def plan(job: Job, *, name: str = "job", home: Path | None = None, only: str | None = None) -> Plan:
    """Work out a job.

    Parameters
    ----------
    job : Job
    name : str
        What the job is called: that of its file.
    home : Path, optional
        The folder source names are given from.
    only : str, optional
        A pattern; assets whose names it does not fit are left out.

    Returns
    -------
    Plan

    Raises
    ------
    UsageError
        When the job makes no sense, or two outputs would write one file.

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
    >>> [task.name for task in plan(zo.jobs.load("yard.toml")).tasks]
    ['sail.glb']
    """
    outputs = tuple(_planned_outputs(job))
    if not outputs:
        raise UsageError("the job has no outputs.", remedy="Add a table [[outputs]].")
    frame = targets.load(job.target).space if job.target else outputs[0].frame
    problems: list[tuple[str, ZestyOtterError]] = []
    tasks = tuple(_tasks(job, outputs, frame, home or Path(), problems))
    if only is not None:
        tasks = tuple(task for task in tasks if _fits(task, only))
        if not tasks:
            raise UsageError(
                f"no asset matches '{only}'.", remedy="`--dry-run` lists them; * and ? stand for anything."
            )
    if not tasks and not problems:
        raise UsageError("the job has no sources.", remedy="Add a table [[sources]] with files.")
    _refuse_clashes(tasks)
    lay_out_of = _named_output(outputs, job.lay_out.of) if job.lay_out else None
    return Plan(
        job.title, name, Path(job.folder), tasks, tuple(problems), job.lay_out, lay_out_of, job.report
    )  # fmt: skip


def filled(template: str, tokens: Mapping[str, str]) -> str:
    """A template with its words filled in; digits after a colon pad a number."""

    if "{" not in template:
        return template
    return "".join(
        piece if not word else tokens[word].zfill(digits) if digits else tokens[word]
        for piece, word, digits in _pieces_of(template)
    )


@functools.lru_cache(256)
def _pieces_of(template: str) -> list[tuple[str, str, int]]:
    """Text, or a word with its digits, one after the other."""
    found = []
    for number, piece in enumerate(re.split(r"\{([^{}]*)\}", template)):
        word, _, digits = piece.partition(":") if number % 2 else ("", "", "")
        found.append((piece, word, int(digits) if digits.isdecimal() else 0))
    return found


@functools.cache
def _readable() -> frozenset[str]:
    """The endings of files that can be read."""
    return frozenset(suffix for one in all_formats() if one.reader and not one.only_places for suffix in one.suffixes)


@functools.lru_cache(4096)
def _tidy(folder: str) -> str:
    """A folder as text that a name can follow."""
    tidy = Path(folder).as_posix()
    return "" if tidy == "." else f"{tidy.rstrip('/')}/"


@functools.lru_cache(4096)
def _safe(name: str) -> str:
    return _names().safe(name)


@functools.cache
def _names() -> steps.Names:
    return steps.Names()


def _planned_outputs(job: Job) -> Iterator[PlannedOutput]:
    for number, own in enumerate(job.outputs, 1):
        output = _with_saved(own, job)
        name = output.name or own.use or str(number)
        wanted = output.target or job.target
        target = targets.load(wanted) if wanted else None
        formats = output.formats or (target.formats[:1] if target else ("glb",))
        kinds = tuple(format_named(one) for one in formats)
        for key in [*output.writing, *(["quantized"] if output.quantized else [])]:
            if not any(kind.known({key: None}) for kind in kinds):
                problem = f"output '{name}': none of its formats has the setting '{key}'."
                raise UsageError(problem, remedy="`zesty-otter formats` lists what each has.")
        for kind in kinds:
            kind.checked(kind.known(output.writing))
            if output.split == "pieces" and not kind.pieces:
                able = ", ".join(one.name for one in all_formats() if one.pieces)
                raise UsageError(
                    f"output '{name}': {kind.title} files cannot place others, so split = 'pieces' is not for them.",
                    remedy=f"Formats that can: {able}.",
                )
        frame = worked_in(kinds, target.space if target else None, output.axes, output.unit)
        for alike in _prepared_alike(kinds, target):
            yield PlannedOutput(
                name,
                output,
                target,
                alike,
                frame,
                tuple(_output_steps(output, target, alike)),
                output.on_existing or job.on_existing,
            )


def _prepared_alike(kinds: tuple[Format, ...], target: Target | None) -> list[tuple[Format, ...]]:
    """Formats by what is written to them: tangents take triangles, so n-gons stay in those that hold no tangents."""
    if target is None or target.triangulate or target.tangents == "none":
        return [kinds]
    with_tangents = tuple(kind for kind in kinds if "tangents" in kind.carries)
    others = tuple(kind for kind in kinds if kind not in with_tangents)
    return [alike for alike in (with_tangents, others) if alike]


def _with_saved(output: Output, job: Job, above: tuple[str, ...] = ()) -> Output:
    if output.use is None:
        return output
    if output.use in above:
        raise UsageError(f"the settings '{output.use}' use themselves.", remedy="Take one of the 'use' out.")
    if output.use not in job.settings:
        known = list(job.settings)
        there = f"There are {', '.join(known)}." if known else "Add a table [settings.NAME]."
        raise UsageError(f"there are no saved settings '{output.use}'.{closest(output.use, known)}", remedy=there)
    base = _with_saved(job.settings[output.use], job, (*above, output.use))
    said = {key: getattr(output, key) for key in output.model_fields_set}
    return base.model_copy(update={**said, "use": None})


def _output_steps(output: Output, target: Target | None, kinds: tuple[Format, ...]) -> Iterator[Step]:
    """What an output does to the whole scene before it is split: its own steps, then what its target asks for."""
    own = "drop" in output.model_fields_set
    drop = (*output.drop, *(target.drop if target and not own else ()))
    if not own:
        # What is asked for by kind or role is not dropped by default.
        drop = tuple(word for word in drop if word not in output.keep)
    step, _ = selection(output.keep, drop)
    if step is not None:
        yield step
    yield from output.steps
    if target is not None:
        yield from target_steps(target, kinds)


def _named_output(outputs: tuple[PlannedOutput, ...], name: str | None) -> PlannedOutput:
    if name is None:
        return outputs[0]
    known = [output.name for output in outputs]
    for output in outputs:
        if output.name == name:
            return output
    raise UsageError(
        f"there is no output '{name}' to lay out.{closest(name, known)}", remedy=f"There are {', '.join(known)}."
    )


def _tasks(
    job: Job,
    outputs: tuple[PlannedOutput, ...],
    frame: Frame | None,
    home: Path,
    problems: list[tuple[str, ZestyOtterError]],
) -> Iterator[Task]:
    single: dict[str, SourceFile] = {}
    together: dict[str, SourceFile] = {}
    for source in job.sources:
        for file in _files(source, Path(job.folder), home, problems):
            key = absolute(file.path)
            if key not in single and key not in together:
                (together if source.assemble else single)[key] = file
    assembled = _assembled(list(together.values()))
    common = (job.steps, outputs, frame, Path(job.folder), len(single) + len(assembled) > ON_A_PAGE)
    for file in single.values():
        yield Task(_shown(file.path, home), file.path.stem, (Part(file),), *common)
    for stem, parts in assembled.items():
        name = _shown(parts[0].file.path.parent / stem, home)
        yield Task(name, stem, tuple(parts), *common)


def _assembled(files: list[SourceFile]) -> dict[str, list[Part]]:
    """The files of each asset, its body first, matched by the name templates of roles."""
    found: dict[str, list[Part]] = {}
    for file in files:
        role, asset, level = match_template(file.path.stem, usual_templates())
        found.setdefault(asset, []).append(Part(file, role, level))
    order = {"visible": 0, "level": 1}
    return {
        asset: sorted(parts, key=lambda part: (order.get(part.role, 2), part.level, str(part.file.path)))
        for asset, parts in found.items()
    }


def _files(
    source: Source, ready: Path, home: Path, problems: list[tuple[str, ZestyOtterError]]
) -> Iterator[SourceFile]:
    """The files of a table, without what lies in ``ready``, the folder for outputs, where that is inside theirs."""
    made = f"{absolute(ready)}{os.sep}"
    left_out = {path.resolve() for pattern in source.exclude for path in _globbed(Path(pattern))[0]}
    for pattern in source.files:
        paths, root = _expanded(pattern)
        if left_out:
            paths = [path for path in paths if path.resolve() not in left_out]
        if made.startswith(absolute(root).rstrip(os.sep) + os.sep) and absolute(root) != absolute(ready):
            paths = [path for path in paths if not absolute(path).startswith(made)]
        if not paths:
            shown = _shown(Path(pattern), home)
            if glob.has_magic(pattern) or Path(pattern).is_dir():
                known = ", ".join(sorted(_readable()))
                problem = InputError("no file that can be read fits this.", file=shown, remedy=f"Files end in {known}.")
            else:
                problem = InputError("there is no such file.", file=shown, remedy="Check the path in [[sources]].")
            problems.append((shown, problem))
        folders = tuple(map(Path, source.textures_from))
        belows: dict[Path, str] = {}
        for path in paths:
            if not is_text(shown := _shown(path, home)):
                told = shown.encode("utf-8", "replace").decode()
                problem = InputError("its name or folder is not text in UTF-8.", file=told, remedy="Rename it.")
                problems.append((told, problem))
                continue
            home_of = path.parent
            if home_of not in belows:
                below = home_of.relative_to(root).as_posix() if home_of.is_relative_to(root) else "."
                belows[home_of] = "" if below == "." else below
            yield SourceFile(
                path,
                source.unit,
                source.axes,
                folders,
                source.steps,
                belows[home_of],
                source.pose,
                source.scene,
                source.colors,
                source.facets if holds_exact(path) else None,
            )


def absolute(path: Path) -> str:
    """The path from the root: folders are asked for once for all files in them, of which a job may have very many."""
    head, name = os.path.split(path)
    if name in ("", "..", "."):
        return os.path.abspath(path)  # noqa: PTH100
    return os.path.join(_absolute(head, os.getcwd()), name)  # noqa: PTH109, PTH118


@functools.lru_cache(4096)
def _absolute(folder: str, current: str) -> str:
    return os.path.normpath(os.path.join(current, folder))  # noqa: PTH118


def holds_exact(path: Path) -> bool:
    """Whether files such as this one can hold exact surfaces, which facets are chosen for."""
    return path.suffix.lower() in _exact()


@functools.cache
def _exact() -> frozenset[str]:
    return frozenset(suffix for one in all_formats() if "facets" in one.chooses for suffix in one.suffixes)


def _expanded(pattern: str) -> tuple[list[Path], Path]:
    """The files a pattern names, in order, and the folder it starts from."""
    path = Path(pattern)
    if path.is_dir():
        return sorted(_readable_below(path), key=_parts), path
    if path.exists() or not glob.has_magic(pattern):
        return ([path] if path.exists() else []), path.parent
    paths, root = _globbed(path)
    return sorted((one for one in paths if _is_readable(one)), key=_parts), root


_parts = operator.attrgetter("parts")


def _readable_below(folder: Path) -> Iterator[Path]:
    """The files in a folder and all in it that can be read."""
    left = [folder]
    while left:
        here = left.pop()
        with contextlib.suppress(OSError), os.scandir(here) as found:
            for one in found:
                if one.is_dir(follow_symlinks=False):
                    left.append(here / one.name)
                elif not one.name.startswith(".") and _ending(one.name) in _readable() and one.is_file():
                    yield here / one.name


def _ending(name: str) -> str:
    return os.path.splitext(name)[1].lower()  # noqa: PTH122


def _globbed(pattern: Path) -> tuple[list[Path], Path]:
    """What fits a pattern, and the folder it starts from."""
    first = next((n for n, part in enumerate(pattern.parts) if glob.has_magic(part)), len(pattern.parts))
    root, rest = Path(*pattern.parts[:first]), Path(*pattern.parts[first:])
    if first == len(pattern.parts):
        return ([pattern] if pattern.exists() else []), pattern.parent
    return list(root.glob(str(rest))), root


def _is_readable(path: Path) -> bool:
    return path.suffix.lower() in _readable() and not path.name.startswith(".") and path.is_file()


def _shown(path: Path, home: Path) -> str:
    """A path from the job's folder where it lies below, as messages and the record name it."""
    folder = _folder_shown(path.parent, home)
    return path.name if folder == "." else f"{folder.rstrip('/')}/{path.name}" if path.name else path.as_posix()


@functools.lru_cache(4096)
def _folder_shown(folder: Path, home: Path) -> str:
    return folder.relative_to(home).as_posix() if folder.is_relative_to(home) else folder.as_posix()


def _fits(task: Task, pattern: str) -> bool:
    return any(fnmatch.fnmatchcase(name, pattern) for name in (task.name, task.stem, Path(task.name).name))


def _known_places(task: Task) -> Iterator[tuple[str, PlannedOutput]]:
    for output in task.outputs:
        if output.settings.split == "scene":
            tokens = output.tokens(task, task.stem)
            for kind in output.kinds:
                yield output.place(kind, tokens), output


def _refuse_clashes(tasks: tuple[Task, ...]) -> None:
    written: dict[str, tuple[str, str]] = {}
    for task in tasks:
        for place, output in _known_places(task):
            own = task.name, output.name
            other = written.setdefault(place.lower(), own)
            if other is not own:
                raise clash(Path(place), other, own)


def clash(path: Path, one: tuple[str, str], other: tuple[str, str]) -> UsageError:
    """The complaint about two assets or outputs that would write one file."""
    if one[0] == other[0]:
        who = f"the outputs '{one[1]}' and '{other[1]}' of {one[0]}" if one[1] != other[1] else f"two parts of {one[0]}"
        remedy = "Give one of the outputs a suffix or a folder of its own."
    else:
        who = f"{one[0]} and {other[0]}"
        remedy = 'Tell them apart in the template, for example folder = "{folder}" or file = "{source}_{name}".'
    return UsageError(f"{who} would both be written to it. Nothing was written.", file=path.as_posix(), remedy=remedy)


def short_names(names: Iterable[str]) -> dict[str, str]:
    """Names of assets without their folders, but for those of which several would be the same."""
    given = list(names)
    short = [one.rpartition("/")[2] for one in given]
    counts = Counter(short)
    return {one: one if counts[own] > 1 else own for one, own in zip(given, short, strict=True)}
