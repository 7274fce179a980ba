"""A scene written, and read back to see that it arrived."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from zesty_otter import audit, formats
from zesty_otter.audit import Arrival
from zesty_otter.formats.files import put
from zesty_otter.model import Note, Scene


def deliver(scene: Scene, path: Path, *, quantized: bool = False) -> tuple[list[Note], Arrival]:
    """Write a scene and compare what stands in the file with what was meant.

    Returns
    -------
    notes : list of Note
        What the writer translated or could not carry.
    arrival : Arrival
    """
    return formats.write(scene, path, quantized=quantized), arrival_of(scene, path, quantized=quantized)


def stage(
    scene: Scene, name: str, folder: Path, *, quantized: bool = False
) -> tuple[list[Note], Arrival, dict[str, tuple[Path, str]]]:
    """Write a scene to a folder that nobody looks into yet, and compare.

    Parameters
    ----------
    name : str
        The name the file is to have; the files it names go by that.
    folder : Path
        Not there yet. A file that stands alone is put beside it, which saves making it.

    Returns
    -------
    notes, arrival
        As of `deliver`.
    files : dict of str to (Path, str)
        Every file that was made, by name from where ``name`` will stand: where it is now, and its SHA-256.
    """
    encoded = formats.format_of(Path(name)).encode(scene, name, quantized=quantized)
    if len(encoded.files) == 1:
        places = {name: folder.with_name(folder.name + Path(name).suffix)}
    else:
        places = {one: folder / one for one in encoded.files}
    files = {one: (places[one], put(buffers, places[one])) for one, buffers in encoded.files.items()}
    return encoded.notes, replace(arrival_of(scene, places[name], quantized=quantized), path=name), files


def arrival_of(scene: Scene, path: Path, *, quantized: bool = False) -> Arrival:
    """The comparison of a file with the scene it was written from."""
    kind = formats.format_of(path)
    if kind.name in ("glb", "gltf"):
        return audit.arrived(scene, path, quantized=quantized)
    # Files that say their frame are believed; others are in that of the scene.
    said = (scene.frame.unit, " ".join(scene.frame.axes)) if kind.axes_vary else (None, None)
    return audit.arrived(scene, path, formats.read(path, *said), kind.carries)
