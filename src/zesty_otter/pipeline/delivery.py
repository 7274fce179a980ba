"""A scene written, and read back to see that it arrived."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path
from typing import Any

from zesty_otter import audit, formats
from zesty_otter.audit import Arrival
from zesty_otter.formats.files import joined, put
from zesty_otter.model import Frame, Note, Scene

_LIGHT = 1 << 20  # bytes


def deliver(scene: Scene, path: Path, *, keep_hidden: bool = False, **settings: Any) -> tuple[list[Note], Arrival]:
    """Write a scene, called like its file, with some settings, and compare what stands there with what was meant.

    Returns
    -------
    notes : list of Note
        What the writer translated or could not carry.
    arrival : Arrival
    """
    scene, notes = _carried(scene, path, keep_hidden=keep_hidden)
    written = formats.write(scene, path, **settings)
    return _once(notes, written), arrival_of(scene, path, **settings)


@dataclass(frozen=True, eq=False)
class Staged:
    """What came of writing a scene where nobody looks yet.

    Parameters
    ----------
    notes, arrival
        As of `deliver`.
    files : dict of str to (Path, str)
        Every file that was made, by name from where the first will stand: where it is now, and its SHA-256.
    found : Scene or None
        What was read back; None where the format can only be written.
    content : bytes or None
        What a light file holds, where that is in memory anyway.
    """

    notes: list[Note]
    arrival: Arrival
    files: dict[str, tuple[Path, str]]
    found: Scene | None
    content: bytes | None


def stage(scene: Scene, name: str, folder: Path, *, keep_hidden: bool = False, **settings: Any) -> Staged:
    """Write a scene, called like its file, to a folder that nobody looks into yet, and compare.

    Parameters
    ----------
    name : str
        The name the file is to have; the files it names go by that.
    folder : Path
        Not there yet. A file that stands alone is put beside it, which saves making it.
    """
    scene, notes = _carried(scene, Path(name), keep_hidden=keep_hidden)
    encoded = formats.format_of(Path(name)).encode(scene, name, **settings)
    if len(encoded.files) == 1:
        places = {name: folder.with_name(folder.name + Path(name).suffix)}
    else:
        places = {one: folder / one for one in encoded.files}
    files = {one: (places[one], put(buffers, places[one])) for one, buffers in encoded.files.items()}
    arrival, found = _compared(scene, places[name], settings)
    pieces = encoded.files[name]
    light = isinstance(pieces, list) and sum(memoryview(one).nbytes for one in pieces) <= _LIGHT
    content = joined(pieces) if light else None
    return Staged(_once(notes, encoded.notes), replace(arrival, path=name), files, found, content)


def _once(*notes: Sequence[Note]) -> list[Note]:
    """Notes without those that were told before."""
    return list(dict.fromkeys(chain(*notes)))


def _carried(scene: Scene, path: Path, *, keep_hidden: bool) -> tuple[Scene, list[Note]]:
    """The scene called like its file, with the nodes that this gets."""
    return formats.format_of(path).carried(replace(scene, name=path.stem), keep_hidden=keep_hidden)


def arrival_of(scene: Scene, path: Path, **settings: Any) -> Arrival:
    """The comparison of a file with the scene it was written from."""
    return _compared(scene, path, settings)[0]


def _compared(scene: Scene, path: Path, settings: dict[str, Any]) -> tuple[Arrival, Scene | None]:
    found = read_back(path, scene.frame) if formats.format_of(path).reader else None
    return audit.arrived(scene, path, found, quantized=settings.get("quantized", False)), found


def read_back(path: Path, frame: Frame | None) -> Scene:
    """What a file holds that was written in a frame; files that say their own are believed."""
    if frame is None or not formats.format_of(path).axes_vary:
        return formats.read(path)
    return formats.read(path, frame.unit, " ".join(frame.axes))
