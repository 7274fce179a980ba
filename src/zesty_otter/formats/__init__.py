"""Reading and writing files: one package per format, found by first bytes and by suffix."""

from __future__ import annotations

import pkgutil
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from importlib import import_module
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from zesty_otter._plugins import plugins
from zesty_otter.errors import InputError, UsageError
from zesty_otter.formats.bare import said_frame
from zesty_otter.formats.base import CARRIES, Format, Progress
from zesty_otter.formats.files import Encoded, inputs_of, load, readable, save
from zesty_otter.formats.streams import Companions, Source, opened, put_out
from zesty_otter.model import Frame, Note, Scene, format_unit

if TYPE_CHECKING:
    from zesty_otter.formats.facets import ExactFacts, Facets


def _declared() -> Iterator[Format]:
    """What the packages in this one declare, in the order of their names."""
    for found in pkgutil.iter_modules(__path__):
        if found.ispkg:
            yield from import_module(f"{__name__}.{found.name}").FORMATS


FORMATS = tuple(_declared())
"""Every format of our own. A new one is a package here that declares itself."""


def all_formats() -> tuple[Format, ...]:
    """Every format, those that other packages bring by entry points in the group ``zesty_otter.formats`` last.

    Returns
    -------
    tuple of Format

    Examples
    --------
    >>> [one.name for one in all_formats()][:3]
    ['collada', 'glb', 'gltf']
    """
    return (*FORMATS, *_of_others())


def _of_others() -> Iterator[Format]:
    for one in plugins("zesty_otter.formats"):
        yield from (one,) if isinstance(one, Format) else one


def format_of(path: Path, first_bytes: bytes = b"") -> Format:
    """The format of a file, by its first bytes where they tell, else by its suffix.

    Parameters
    ----------
    path : Path
    first_bytes : bytes

    Returns
    -------
    Format

    Raises
    ------
    UsageError
        When neither tells a format.

    Examples
    --------
    >>> from pathlib import Path
    >>> format_of(Path("boat.dae")).name
    'collada'
    """
    return _format_of(path, first_bytes, said=str(path))


def _format_of(path: Path, first_bytes: bytes, said: str) -> Format:
    # Asking for the packages of others takes time, and seldom is there need to.
    for ours in (True, False):
        there = FORMATS if ours else tuple(_of_others())
        alike = [one for one in there if first_bytes.startswith(one.magic)]
        if alike:
            # Several formats are archives of one kind, which only their endings tell apart.
            return next((one for one in alike if path.suffix.lower() in one.suffixes), alike[0])
        for one in there:
            if path.suffix.lower() in one.suffixes:
                return one
    known = ", ".join(dict.fromkeys(suffix for one in all_formats() for suffix in one.suffixes))
    if said == "bytes":
        raise UsageError("the first bytes do not tell the format.", file=said, remedy="Say it with format=.")
    raise UsageError(
        f"'{path.suffix or path.name}' is not the ending of a known format.", file=said, remedy=f"Known: {known}."
    )


def format_named(name: str) -> Format:
    """The format of a short name, such as ``"collada"``, or of an ending, such as ``"dae"``.

    Parameters
    ----------
    name : str

    Returns
    -------
    Format

    Raises
    ------
    UsageError
        When there is none of this name.

    Examples
    --------
    >>> format_named("dae").name
    'collada'
    """
    word = name.lower().lstrip(".")
    for ours in (True, False):
        for one in FORMATS if ours else _of_others():
            if word == one.name or f".{word}" in one.suffixes:
                return one
    raise UsageError(f"'{name}' is not a format.", remedy=f"There are {', '.join(one.name for one in all_formats())}.")


def read(
    source: Source,
    unit: float | str | None = None,
    axes: str | None = None,
    *,
    progress: Progress | None = None,
    folders: Sequence[str | PathLike[str]] = (),
    pose: str | None = None,
    scene: str | None = None,
    facets: Facets | str | None = None,
    colors: str | None = None,
    format: str | None = None,
    companions: Companions | None = None,
) -> Scene:
    """Read a file into a scene.

    Parameters
    ----------
    source : path, bytes or binary file object
    unit : str or float, optional
        The length of one unit: ``mm cm m in ft`` or a number of metres. Needed before anything in metres
        can be done when the file does not say; believed over the file when given.
    axes : str, optional
        What +X, +Y and +Z mean, as three words such as ``"right forward up"``. The format's usual axes
        when neither the file nor the caller says.
    progress : callable, optional
        Called now and then with the share that is done.
    folders : sequence of path, optional
        Further folders in which referenced files may be looked for.
    pose : str, optional
        The moment of an animation at which everything is to stand still: ``"NAME@SECONDS"``, or seconds into
        the first one. Everything stands at rest when absent.
    scene : str, optional
        Which scene of a file that holds several: its name, or its number counted from 0. The file's default
        when absent.
    facets : Facets or str, optional
        How exact curves and surfaces become polygons: ``"chord=0.2mm angle=20 shortest=1mm"``, ``"density=0.3"``,
        ``"ngons"``.
    colors : str, optional
        What its colours mean: ``"screen"``, as they look, or ``"linear"``, amounts of light. As is usual for the
        format when absent; images are always as they look.
    format : str, optional
        The name or ending of the format, where neither the first bytes nor a name tell.
    companions : callable, optional
        Called with the name of each texture, library or layer as the file spells it; returns its bytes, or None to
        let it be looked for beside the file.

    Returns
    -------
    Scene
        In the file's own frame; its notes say what was assumed, repaired or lost.

    Raises
    ------
    InputError
        When the file is missing, damaged or not of a known format.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> scene = zo.read("gate.obj", unit="cm", axes="right forward up")  # doctest: +SKIP
    """
    for folder in folders:
        if not Path(folder).is_dir():
            raise InputError("is not a folder.", file=folder, remedy="Name a folder to look for textures in.")
    ending = format_named(format).suffixes[0] if format else Path(str(getattr(source, "name", ""))).suffix
    with opened(source, ending, companions) as file:
        path = file.path
        with readable(path):
            if path.is_dir():
                raise IsADirectoryError
            with path.open("rb") as stream:
                first_bytes = stream.read(1024)
        kind = format_named(format) if format else _format_of(path, first_bytes, said=file.name)
        if facets is not None and unit is not None and "facets" in kind.chooses:
            facets = _facets_in(facets, unit)
        chosen = {"pose": pose, "scene": scene, "facets": facets}
        beside = [Path(folder) for folder in folders]
        found = kind.read(path, progress, beside, colors, **chosen)
        if any(one.node.piece for one in found.walk()):
            from zesty_otter.formats.pieces import with_pieces

            found = with_pieces(
                found, path, beside, lambda piece: read(piece, unit, axes, folders=folders, colors=colors)
            )
        found = file.rid_of_folder(found)
    said = said_frame(first_bytes) if kind.axes_vary else None
    if said is not None:
        found = replace(found, frame=said)
    given = Frame(axes or found.frame.axes, unit if unit is not None else found.frame.unit)
    notes: list[Note] = []
    if said is not None:
        text = f"a comment in the file says {said}; " + (
            "taken as asked" if (axes or unit) and given != said else "taken so"
        )
        notes.append(Note("done", text, kind.name, file.name))
    elif axes is None and kind.axes_vary:
        notes.append(
            Note(
                "assumed",
                f"axes '{' '.join(given.axes)}', the usual ones for this format, as the file has none."
                " Use --axes if the asset lies on its back or faces the wrong way.",
                kind.name,
                file.name,
            )
        )
    if unit is not None and found.frame.unit is not None and given.unit != found.frame.unit:
        text = f"the file says {format_unit(found.frame.unit)}; taken as {format_unit(given.unit)} as asked"
        notes.append(Note("done", text, kind.name, file.name))
    return replace(found, frame=given).with_notes(*notes)


def _facets_in(facets: Facets | str, unit: float | str) -> Facets:
    """Facets with the unit of a file that says none."""
    from zesty_otter.formats.facets import Facets

    return replace(Facets.parsed(facets), unit=Frame("left up forward", unit).unit)


def exact_facts(path: str | PathLike[str], progress: Progress | None = None) -> ExactFacts | None:
    """What exact surfaces a file holds; None where its format has none.

    Parameters
    ----------
    path : path
    progress : callable, optional
        Called now and then with the share that is done.

    Returns
    -------
    ExactFacts or None

    Raises
    ------
    InputError
        When the file is damaged or cannot be read.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> zo.formats.exact_facts("fairlead.step").triangles  # doctest: +SKIP
    """
    with readable(Path(path)), Path(path).open("rb") as stream:
        kind = _format_of(Path(path), stream.read(1024), said=str(path))
    if "facets" not in kind.chooses or kind.reader is None:
        return None
    found: ExactFacts = import_module(kind.reader).facts(Path(path), progress)
    return found


def write(
    scene: Scene,
    target: str | PathLike[str] | BinaryIO,
    *,
    keep_hidden: bool = False,
    format: str | None = None,
    companions: Callable[[str, bytes], None] | None = None,
    **settings: Any,
) -> list[Note]:
    """Write a scene. The scene's frame becomes the format's.

    A file appears whole or not at all, and never replaces one the scene was read from.

    Parameters
    ----------
    scene : Scene
    target : path or binary file object
    keep_hidden : bool
        Write hidden nodes also where the format cannot hide them; they are left out else.
    format : str, optional
        The name or ending of the format; the ending of the path says it when absent.
    companions : callable, optional
        For file objects: called with the name and the bytes of each texture or library that stands beside the file.
    **settings
        What the format lets one choose, such as ``quantized=True`` of glTF; `Format.settings` lists it.

    Returns
    -------
    list of Note
        What the writer translated or could not carry.

    Raises
    ------
    UnknownUnitError
        When the format needs a unit and the scene has none.
    OutputError
        When the file cannot be written.

    Examples
    --------
    >>> import zesty_otter as zo
    >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
    >>> notes = zo.write(zo.Scene.from_mesh(sail, unit="cm"), "sail.glb")
    >>> notes[0].text
    'neither normals nor smoothing groups, so hard edges everywhere: sail'
    >>> zo.read("sail.glb").bounds()[1].round(6).tolist()
    [0.02, 0.03, 0.0]
    """
    if not isinstance(scene, Scene):
        raise UsageError(f"write takes a scene, not {scene!r:.60}.", remedy="`zo.Scene.from_mesh(mesh)` makes one.")
    if isinstance(target, str | PathLike):
        path = Path(target)
        kind = format_named(format) if format else format_of(path)
        encoded = kind.encode(scene, path.name, keep_hidden=keep_hidden, **settings)
        save(encoded.files, path, inputs=inputs_of(scene))
        return encoded.notes
    if format is None:
        raise UsageError("a file object does not tell the format.", remedy='Say it, for example format="glb".')
    name = f"{scene.name or 'scene'}{format_named(format).suffixes[0]}"
    encoded = format_named(format).encode(scene, name, keep_hidden=keep_hidden, **settings)
    put_out(encoded, name, target, companions)
    return encoded.notes


__all__ = [
    "CARRIES",
    "FORMATS",
    "Encoded",
    "Format",
    "Progress",
    "all_formats",
    "exact_facts",
    "format_named",
    "format_of",
    "load",
    "read",
    "write",
]
