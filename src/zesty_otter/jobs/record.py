"""What a job remembers of its last run, so that unchanged assets are not made again.

A JSON file beside the outputs. It holds hashes, no times and no order of events: the same job over the
same files always leaves the same record.
"""

from __future__ import annotations

import functools
import hashlib
import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zesty_otter import __version__
from zesty_otter.audit.facts import FileFacts
from zesty_otter.audit.findings import Finding
from zesty_otter.formats.files import save
from zesty_otter.jobs.planning import Task
from zesty_otter.jobs.work import Made, hash_of
from zesty_otter.steps import Step


@dataclass(frozen=True)
class Delivered:
    """A file in its place.

    Parameters
    ----------
    output : str
        The name of the output it is of.
    path : str
        From the folder of the job.
    hashes : mapping of str to str
        Of it and of the files that belong to it, by path from the folder of the job.
    facts : FileFacts
        What is in it; of files that were not made anew the paths of nodes are not known any more.
    problems : tuple of str
        How it differs from what was meant.
    read_back : bool
        False where the format can only be written.
    """

    output: str
    path: str
    hashes: dict[str, str]
    facts: FileFacts
    problems: tuple[str, ...] = ()
    read_back: bool = True


@dataclass(frozen=True)
class Entry:
    """One asset of the last run. ``findings`` stand for as long as nothing changes."""

    settings: str
    inputs: dict[str, str | None]
    files: tuple[Delivered, ...]
    findings: tuple[Finding, ...] = ()

    def edited(self, folder: Path, intended: Mapping[str, str]) -> list[str]:
        """Files that are not as they were written; ``intended`` are those that a run was about to put in place."""
        return [path for path, was in self._hashes() if hash_of(folder / path) not in (was, intended.get(path), None)]

    def missing(self, folder: Path) -> bool:
        return any(not (folder / path).exists() for path, _ in self._hashes())

    def is_of(self, settings: str, folder: Path) -> bool:
        """Whether the asset would come out the same: same settings, same inputs."""
        if settings != self.settings:
            return False
        return all(hash_of(folder / path) == was for path, was in self.inputs.items())

    def _hashes(self) -> Iterable[tuple[str, str]]:
        return {path: was for file in self.files for path, was in file.hashes.items()}.items()


@dataclass
class Record:
    """The entries of all assets, by name. ``intended`` are files that a run that was stopped was about to put in
    place, with their hashes; ``plain`` says that page and arrivals are not named after the job."""

    path: Path
    entries: dict[str, Entry] = field(default_factory=dict)
    intended: dict[str, str] = field(default_factory=dict)
    plain: bool = True

    def write(self) -> None:
        """Put the record in its place; what was intended is done."""
        text = _lines("{", {name: _plain(self.entries[name]) for name in sorted(self.entries)}, "}")
        head = f'"zesty_otter": "{__version__}", "plain": {json.dumps(self.plain)}'
        save({self.path.name: [f'{{{head}, "assets": {text}}}\n'.encode()]}, self.path)
        self._journal.unlink(missing_ok=True)

    @property
    def _journal(self) -> Path:
        return self.path.with_name(f".{self.path.stem}.journal")

    def intend(self, hashes: Mapping[str, str]) -> None:
        """Say which files are about to be put in place, so that a run that is killed then knows them as its own."""
        self.intended.update(hashes)
        with self._journal.open("a", encoding="utf-8") as file:
            file.write(json.dumps(hashes) + "\n")

    def owns(self, path: str) -> bool:
        """Whether a run of this job made the file, or was about to."""
        if not hasattr(self, "_owned"):
            self._owned = {one for entry in self.entries.values() for file in entry.files for one in file.hashes}
        return path in self._owned or path in self.intended


def load(path: Path) -> Record:
    """The record of the last run; an empty one when there is none that can be read.

    Of a run of another version it says which files are the job's own, and that none is current.
    """
    record = Record(path)
    try:
        document = json.loads(path.read_text("utf-8"))
        record.entries = {name: _entry(one) for name, one in document["assets"].items()}
        record.plain = bool(document.get("plain", True))
        if document["zesty_otter"] != __version__:
            record.entries = {name: replace(one, settings="") for name, one in record.entries.items()}
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        record.entries = {}
    try:
        for line in record._journal.read_text("utf-8").splitlines():
            record.intended.update(json.loads(line))
    except (OSError, ValueError, TypeError):
        pass  # none, or its last line was not finished: what stands before it counts
    return record


def others_in(folder: Path, own: Path) -> dict[str, str]:
    """The files that other jobs made in a folder, and the names of these jobs."""
    found: dict[str, str] = {}
    for path in sorted(folder.glob("*.record.json")):
        if path != own:
            name = path.name.removesuffix(".record.json")
            entries = load(path).entries.values()
            found |= {one: name for entry in entries for file in entry.files for one in file.hashes}
    return found


def _lines(opening: str, items: dict[str, Any], closing: str) -> str:
    """JSON with a line for each item, quick to make and easy to compare; a list when it opens with a bracket."""
    lines = [json.dumps(item, ensure_ascii=False) for item in items.values()]
    if opening == "{":
        lines = [f"{json.dumps(name, ensure_ascii=False)}: {line}" for name, line in zip(items, lines, strict=True)]
    return opening + ",".join(f"\n {line}" for line in lines) + f"\n{closing}"


def arrivals(entries: dict[str, Entry]) -> str:
    """What arrived, as JSON: for each asset its files with width, height and depth in metres, and counts."""
    items = {
        name: {
            "asset": name,
            "files": [
                {
                    "output": one.output,
                    "file": one.path,
                    "bytes": one.facts.bytes,
                    "size": [round(side, 6) for side in one.facts.size],
                    "nodes": one.facts.nodes,
                    "meshes": one.facts.meshes,
                    "triangles": one.facts.triangles,
                    "seen_triangles": one.facts.seen_triangles,
                    "vertices": one.facts.vertices,
                    "sections": one.facts.sections,
                    "materials": list(one.facts.materials),
                    "arrived": not one.problems,
                    "read_back": one.read_back,
                    "problems": list(one.problems),
                }
                for one in entry.files
            ],
        }
        for name, entry in sorted(entries.items())
    }
    return f'{{"assets": {_lines("[", items, "]")}}}\n'


def entry_of(
    settings: str,
    inputs: Iterable[tuple[Path, str | None]],
    files: Iterable[Delivered],
    folder: Path,
    findings: Iterable[Finding] = (),
) -> Entry:
    """The entry of an asset that was just made."""
    return Entry(settings, {_from(folder, path): one for path, one in inputs}, tuple(files), tuple(findings))


def delivered(made: Made, name: str) -> Delivered:
    """A made file as it stands in its place under ``name``."""
    home = Path(name).parent
    hashes = {(home / path).as_posix(): one for path, (_, one) in made.files.items()}
    return Delivered(made.output, name, hashes, made.facts, made.problems, made.read_back)


def settings_of(tasks: Sequence[Task], home: Path) -> dict[str, str]:
    """For each task by name a hash of everything in a job that decides how it comes out, apart from its files."""
    if not tasks:
        return {}
    # What they have in common is gone through once.
    common = {
        "version": __version__,
        "frame": str(tasks[0].frame),
        "steps": _steps(tasks[0].steps),
        "outputs": [
            {
                "settings": output.settings.model_dump(mode="json", exclude={"steps", "target"}),
                "kinds": [kind.name for kind in output.kinds],
                "frame": str(output.frame),
                "target": output.target.model_dump(mode="json") if output.target else None,
                "steps": _steps(output.steps),
            }
            for output in tasks[0].outputs
        ],
    }
    start = hashlib.sha256(json.dumps(common, sort_keys=True).encode())
    hashes = {}
    for task in tasks:
        parts = [
            {
                "path": _from(home, part.file.path),
                "role": part.role,
                "level": part.level,
                "unit": part.file.unit,
                "axes": part.file.axes,
                "pose": part.file.pose,
                "scene": part.file.scene,
                "colors": part.file.colors,
                "facets": part.file.facets,
                "folders": [_from(home, folder) for folder in part.file.folders],
                "steps": _steps(part.file.steps),
            }
            for part in task.parts
        ]
        own = start.copy()
        own.update(json.dumps(parts, sort_keys=True).encode())
        hashes[task.name] = own.hexdigest()
    return hashes


def _steps(steps: Iterable[Step]) -> list[Any]:
    return [[type(step).__module__, type(step).__qualname__, step.model_dump(mode="json")] for step in steps]


def _from(folder: Path, path: Path) -> str:
    home = _relative(str(folder.absolute()), str(path.parent.absolute()))
    return path.name if home == "." else f"{home}/{path.name}"


@functools.lru_cache(4096)
def _relative(folder: str, home: str) -> str:
    """One folder from another: asked for once for all the files in it."""
    try:
        return Path(os.path.relpath(home, folder)).as_posix()
    except ValueError:  # on another drive
        return Path(home).as_posix()


def _plain(entry: Entry) -> dict[str, Any]:
    return {
        "settings": entry.settings,
        "inputs": entry.inputs,
        "files": [
            {
                "output": one.output,
                "path": one.path,
                "hashes": one.hashes,
                "problems": list(one.problems),
                "read_back": one.read_back,
                "facts": {key: value for key, value in vars(one.facts).items() if key != "paths"},
            }
            for one in entry.files
        ],
        "findings": [vars(one) for one in entry.findings],
    }


def _entry(document: dict[str, Any]) -> Entry:
    files = tuple(
        Delivered(
            one["output"],
            one["path"],
            one["hashes"],
            _facts(one["facts"]),
            tuple(one["problems"]),
            one.get("read_back", True),
        )
        for one in document["files"]
    )
    findings = tuple(
        Finding(**{**one, "place": tuple(one["place"]) if one.get("place") else None})
        for one in document.get("findings", ())
    )
    return Entry(document["settings"], dict(document["inputs"]), files, findings)


def _facts(document: dict[str, Any]) -> FileFacts:
    lists: dict[str, Any] = {key: tuple(value) if isinstance(value, list) else value for key, value in document.items()}
    return FileFacts(**lists, paths=())
