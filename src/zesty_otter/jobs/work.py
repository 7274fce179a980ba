"""One task of a job: read, mend, take apart, write to one side, read back."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from zesty_otter.audit.facts import FileFacts, facts_of
from zesty_otter.audit.findings import Finding
from zesty_otter.errors import FindingsError, InputError, InternalError, UnknownUnitError, ZestyOtterError
from zesty_otter.formats import Format, format_of
from zesty_otter.formats.files import inputs_of
from zesty_otter.jobs.assemble import ReadPart, assembled
from zesty_otter.jobs.planning import Part, PlannedOutput, Task, holds_exact
from zesty_otter.model import Note, Scene
from zesty_otter.pipeline.delivery import Staged, stage
from zesty_otter.pipeline.level import linked
from zesty_otter.pipeline.pieces import Piece, levels_apart
from zesty_otter.pipeline.wanted import checked, pieces_of, prepare
from zesty_otter.steps import Roles, apply

if TYPE_CHECKING:
    from zesty_otter.page import report as pages

LONG = 0.5
"""How many seconds of work are handed out at once."""

_BLOCK = 1 << 20
_THERE = "was there already"


@dataclass(frozen=True)
class Made:
    """A file that was made, with those that belong to it.

    ``path`` is where it goes, from the folder of the job. ``files`` says where it and its companions stand
    until then, and their hashes, by name from the folder of ``path``. ``facts`` and ``problems`` are those
    of its arrival.
    """

    output: str
    path: Path
    files: dict[str, tuple[Path, str]]
    facts: FileFacts
    problems: tuple[str, ...]
    read_back: bool = True


@dataclass(frozen=True)
class Done:
    """What came of a task.

    ``inputs`` are hashes of what was read; None where a file was looked for in vain. ``part`` is its part of the
    report. ``stopped`` are the names of pieces that were not written, as they break rules. ``seconds`` is how long it
    took, and ``worker`` who did it, where there are several machines; ``at_work`` are other workers (some of them, if
    they are many) with the names of the tasks they were at then.
    """

    made: tuple[Made, ...] = ()
    inputs: tuple[tuple[Path, str | None], ...] = ()
    notes: tuple[Note, ...] = ()
    findings: tuple[Finding, ...] = ()
    error: ZestyOtterError | None = None
    part: pages.Part | None = None
    stopped: tuple[str, ...] = ()
    seconds: float = 0.0
    worker: str = ""
    at_work: tuple[tuple[str, str], ...] = ()


def work(task: Task, staging: Path | None, *, report: bool = False) -> Done:
    """Do a task; files are made in folders called like ``staging`` with a number behind it.

    Nothing is written when ``staging`` is None. With ``report`` the asset's part of the page is made as well.
    Whatever goes wrong with the source is part of what came of it.
    """
    return work_on_all([(task, staging)], report=report)[0]


def work_on_all(tasks: Sequence[tuple[Task, Path | None]], *, report: bool) -> list[Done]:
    """Do tasks, each with its folder as `work` has it: first the files of all, then the parts of the page of all.

    Small things take a third less time among their like. As soon as they have taken long, the rest is left.
    """
    done: list[Done] = []
    shown: dict[int, pages.Shown] = {}
    start = time.perf_counter()
    for number, (task, staging) in enumerate(tasks):
        began = time.perf_counter()
        if done and began - start > LONG:
            break
        try:
            one, what = _work(task, staging, report=report)
        except Exception as error:  # one asset's fault does not end the job
            one, what = _failed(task, error), None
        done.append(replace(one, seconds=time.perf_counter() - began))
        if what is not None:
            shown[number] = what
    began = time.perf_counter()
    parts: dict[int, pages.Part] = {}
    try:
        parts.update(_parts_of(shown, small=tasks[0][0].many))
    except Exception:
        for number, what in shown.items():
            try:
                parts.update(_parts_of({number: what}, small=tasks[0][0].many))
            except Exception as error:
                done[number] = _failed(tasks[number][0], error)
    for number, part in parts.items():
        seconds = done[number].seconds + (time.perf_counter() - began) / len(shown)
        done[number] = replace(done[number], part=part, seconds=seconds)
    return done


def _parts_of(shown: Mapping[int, pages.Shown], *, small: bool) -> Mapping[int, pages.Part]:
    if not shown:
        return {}
    from zesty_otter.page.report import make_parts

    return dict(zip(shown, make_parts(list(shown.values()), small=small), strict=True))


def _failed(task: Task, error: Exception) -> Done:
    """What comes of a task that cannot be done."""
    match error:
        case UnknownUnitError():
            remedy = 'Say it in its [[sources]], for example unit = "cm"; `zesty-otter survey` shows what fits.'
            return Done(error=UnknownUnitError(error.problem, file=error.file or task.name, remedy=remedy))
        case FindingsError():
            return Done(error=error, findings=tuple(one for one in error.findings if isinstance(one, Finding)))
        case ZestyOtterError():
            return Done(error=error)
        case MemoryError():
            return Done(error=InputError("there is not enough memory for this.", file=task.name))
        case RecursionError():
            return Done(error=InputError("is nested too deeply.", file=task.name))
    return Done(error=InternalError.of(error, task.name))


def _mended(task: Task, parts: list[ReadPart]) -> tuple[Scene, list[Finding]]:
    """The scene of a task, mended as its job says, and what does not fit together in it."""
    findings: list[Finding] = []
    if len(parts) > 1 or parts[0].role != "visible":
        scene, findings = assembled(task.stem, parts)
    else:
        scene = parts[0].scene
    names = {role: one for output in task.outputs if output.target for role, one in output.target.names.items()}
    return apply(scene, Roles.named_by(names), *task.steps), findings


def _read_part(part: Part, task: Task, facets: str | None) -> ReadPart:
    """One of its sources; ``facets`` stands in place of what sources with exact surfaces say."""
    exact = facets is not None and holds_exact(part.file.path)
    scene = (replace(part.file, facets=facets) if exact else part.file).read()
    inside = part.file.brought_into(task.frame, scene, task.steps if len(task.parts) == 1 else ())
    return ReadPart(part.file.path.stem, part.role, part.level, inside, scene)


def _work(task: Task, staging: Path | None, *, report: bool) -> tuple[Done, pages.Shown | None]:
    """What came of a task, and with ``report`` what its part of the page is to be made of."""
    exact = any(holds_exact(part.file.path) for part in task.parts)
    asked = [output.settings.facets if exact else None for output in task.outputs]
    ways = dict.fromkeys(asked or [None])
    parts_as = {facets: [_read_part(one, task, facets) for one in task.parts] for facets in ways}
    read_as = {facets: _mended(task, parts) for facets, parts in parts_as.items()}
    scene = next(iter(read_as.values()))[0]
    renamed = scene.renamed
    made: list[Made] = []
    stopped: list[str] = []
    whole: dict[str, Scene] = {}  # what each output was made of
    notes = [note for scene, _ in read_as.values() for note in scene.notes]
    findings = [finding for _, found in read_as.values() for finding in found]
    used = [one for one, _ in read_as.values()]
    last: Staged | None = None  # of the last file that shows meshes
    for output, facets in zip(task.outputs, asked, strict=True):
        scene = read_as[facets][0]
        prepared = prepare(scene, output.wanted)
        whole[output.name] = prepared
        used.append(prepared)
        renamed = prepared.renamed
        about = {"file": str(task.parts[0].file.path), "place": f"output {output.name}"}
        notes += [replace(note, **about) for note in prepared.notes[len(scene.notes) :]]
        pieces = pieces_of(prepared, task.stem, output.wanted)
        if not pieces:
            text = f"output '{output.name}' has nothing to write: no mesh with a face is left"
            notes.append(Note("lost", text, "job", task.name))
        for number, piece in enumerate(pieces, 1):
            try:
                findings += checked(piece, output.wanted, output.name) if not piece.places else ()
            except FindingsError as bad:
                if len(pieces) == 1:
                    raise
                # One bad piece does not stop the others.
                stopped.append(piece.name)
                findings += [one for one in bad.findings if isinstance(one, Finding)]
                notes.append(Note("lost", f"{piece.name} {bad.problem}", "job", task.name))
                continue
            parts = levels_apart(piece, output.target) if not piece.places else [piece]
            for part, path in [(one, path) for one in parts for path in _paths(task, output, one, number, notes)]:
                if staging is None:
                    made.append(only_planned(output, path))
                    continue
                folder = staging.with_name(f"{staging.name}-{len(made)}")
                placing = linked(part.scene, _beside(task, output, path, pieces)) if part.places else part.scene
                staged = stage(
                    placing,
                    path.name,
                    folder,
                    keep_hidden=output.wanted.keep_hidden,
                    **format_of(path).known(output.wanted.writing),
                )
                notes += [replace(note, **about) for note in staged.notes]
                arrival, facts = staged.arrival, staged.arrival.facts
                last = last if format_of(path).only_places else staged
                if part.places:  # what it shows is in other files
                    facts = replace(facts, seen=facts_of(prepared).seen)
                made.append(Made(output.name, path, staged.files, facts, arrival.problems, bool(arrival.compared)))
    if not made and staging is not None and not any(note.text.startswith(_THERE) for note in notes):
        remedy = "`zesty-otter survey` shows what was read."
        error = InputError("has nothing to write: no mesh with a face is left.", file=task.name, remedy=remedy)
        return Done(inputs=tuple(_inputs(used)), notes=tuple(notes), findings=tuple(findings), error=error), None
    broken = tuple(dict.fromkeys(findings))
    shown: pages.Shown | None = None
    if report and made and staging is not None:
        from zesty_otter.jobs.report import shown_as

        # Of several pieces all together.
        drawn = [one for one in made if not format_of(one.path).only_places] or made
        several = sum(one.output == drawn[-1].output for one in made) > len(_kinds_of(task, drawn[-1].output))
        found = last.found if last is not None and not several else None
        content = last.content if last is not None and found is not None else None
        after = whole[drawn[-1].output] if found is None else found
        before = parts_as[asked[-1] if asked else None][0].read
        shown = shown_as(before, after, renamed, broken, notes, content)
    return Done(tuple(made), tuple(_inputs(used)), tuple(notes), broken, stopped=tuple(stopped)), shown


def _kinds_of(task: Task, output: str) -> list[Format]:
    """The formats of an output."""
    return [kind for one in task.outputs if one.name == output for kind in one.kinds]


def _beside(task: Task, output: PlannedOutput, path: Path, pieces: Sequence[Piece]) -> dict[str, str]:
    """Where the files of pieces stand, from the folder of the one that places them."""
    kind = format_of(path)
    found = {}
    for number, piece in enumerate(pieces, 1):
        own = output.path(kind, output.tokens(task, piece.name, piece.group, number))
        found[piece.name] = Path(os.path.relpath(own, path.parent)).as_posix()
    return found


def _paths(task: Task, output: PlannedOutput, piece: Piece, number: int, notes: list[Note]) -> Iterator[Path]:
    """The files to write of a piece: a format each, less those that are there and kept."""
    tokens = output.tokens(task, piece.name, piece.group, number)
    for kind in output.kinds:
        path = output.path(kind, tokens)
        there = (task.folder / path).exists()
        if there and output.on_existing == "keep":
            notes.append(Note("finding", f"{_THERE} and is kept, as on_existing says", "job", path.as_posix()))
        else:
            yield _numbered(task.folder, path) if there and output.on_existing == "number" else path


def _numbered(folder: Path, path: Path) -> Path:
    """The first free name with a number behind it."""
    count = 2
    while (folder / (new := path.with_name(f"{path.stem}_{count}{path.suffix}"))).exists():
        count += 1
    return new


def only_planned(output: PlannedOutput, path: Path) -> Made:
    """A file that is not written."""
    nothing = FileFacts(0, ("left", "up", "forward"), 0, (), 0, 0, 0, 0, (), 0, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
    return Made(output.name, path, {}, nothing, ())


def _inputs(scenes: Sequence[Scene]) -> Iterator[tuple[Path, str | None]]:
    """Everything that scenes depend on, with what was looked for and may appear."""
    for path in dict.fromkeys(path for scene in scenes for path in inputs_of(scene)):
        yield path, hash_of(path)
    missing = [texture for scene in scenes for texture in scene.textures if not texture.found]
    for path in dict.fromkeys(folder / texture.name for texture in missing for folder in texture.looked_in):
        yield path, None


def hash_of(path: Path) -> str | None:
    """The SHA-256 of a file's bytes; None when it is not there."""
    try:
        with path.open("rb", buffering=0) as file:
            # No larger than the file: making large buffers takes longer than hashing small files.
            size = min(os.fstat(file.fileno()).st_size + 1, _BLOCK)
            digest = hashlib.sha256()
            while block := file.read(size):
                digest.update(block)
            return digest.hexdigest()
    except OSError:
        return None
