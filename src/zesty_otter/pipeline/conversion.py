"""One file to another, all the way."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from zesty_otter.audit import Arrival
from zesty_otter.audit.findings import Finding
from zesty_otter.formats.bare import nothing_to_write
from zesty_otter.model import Frame, Note, Scene
from zesty_otter.pipeline.delivery import deliver
from zesty_otter.pipeline.pieces import levels_apart
from zesty_otter.pipeline.source import SourceFile
from zesty_otter.pipeline.wanted import Wanted, checked, pieces_of, prepare
from zesty_otter.steps import Roles, Step

Watch = Callable[[str, float], None]
"""Called with what is done just now, and its share from 0 to 1."""


@dataclass(frozen=True)
class Conversion:
    """What came of a conversion.

    Parameters
    ----------
    scene : Scene
        As it was written.
    notes : tuple of Note
    findings : tuple of Finding
        What the target objects to.
    arrivals : tuple of Arrival
        Each file read back; more than one when the target wants levels of detail apart.
    """

    scene: Scene
    notes: tuple[Note, ...]
    findings: tuple[Finding, ...]
    arrivals: tuple[Arrival, ...]


def convert(
    source: SourceFile,
    out: Path,
    steps: Sequence[Step] = (),
    wanted: Wanted | None = None,
    *,
    frame: Frame | None = None,
    watch: Watch | None = None,
) -> Conversion:
    """Read a file, take some steps, make of it what is wanted, write it and read it back.

    Parameters
    ----------
    source : SourceFile
    out : Path
        The file to write; its ending sets the format. Levels that the target wants apart stand beside it.
    steps : sequence of Step
        What is done before the wishes of the target.
    wanted : Wanted, optional
        What the output is to be.
    frame : Frame, optional
        The frame in which the steps are taken; that of the source when absent.
    watch : callable, optional
        Told what is done and how much of it.

    Returns
    -------
    Conversion

    Raises
    ------
    ZestyOtterError
        When the source cannot be read, a step refuses its work or the file cannot be written.

    Examples
    --------
    >>> from pathlib import Path
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> _ = zo.write(zo.Scene.from_mesh(sail), "sail.glb")
    >>> made = convert(SourceFile(Path("sail.glb")), Path("sail.obj"), [zo.steps.Scale(factor=2)])
    >>> made.arrivals[0].problems, made.notes[0].text
    ((), 'everything scaled by 2')
    """
    wanted = wanted or Wanted()
    told = watch or (lambda _, __: None)
    scene = source.read(lambda share: told(f"Reading {source.path.name}", share))
    names = wanted.target.names if wanted.target else {}
    scene = Roles.named_by(names).apply(source.brought_into(frame, scene, steps))
    for number, step in enumerate(steps):
        scene = step.apply(scene, _part_of(told, number, len(steps)))
        told("Mending", (number + 1) / len(steps))
    scene = prepare(scene, wanted)
    pieces = pieces_of(scene, out.stem, wanted)
    if not pieces:
        raise nothing_to_write(scene)
    findings = [finding for piece in pieces for finding in checked(piece, wanted)]
    parts = [part for piece in pieces for part in levels_apart(piece, wanted.target)]
    notes, arrivals = list(scene.notes), []
    for number, part in enumerate(parts, 1):
        told(f"Writing {out.name}", (number - 1) / len(parts))
        path = out if part.name == out.stem else out.with_name(part.name + out.suffix)
        written, arrival = deliver(part.scene, path, keep_hidden=wanted.keep_hidden, **wanted.writing)
        notes += written
        arrivals.append(arrival)
    seen = pieces[0].scene if len(pieces) == 1 else scene
    return Conversion(replace(seen, notes=scene.notes), tuple(notes), tuple(dict.fromkeys(findings)), tuple(arrivals))


def _part_of(told: Watch, done: int, of: int) -> Callable[[float], None]:
    """What a step tells its share to, of several steps."""
    return lambda share: told("Mending", (done + share) / of)
