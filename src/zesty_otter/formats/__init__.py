"""Reading and writing files: one module or package per format, found by first bytes and by suffix."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from importlib import import_module
from os import PathLike
from pathlib import Path
from typing import BinaryIO

from zesty_otter.errors import InputError, ModelError, UsageError
from zesty_otter.formats.bare import said_frame
from zesty_otter.formats.files import Encoded, inputs_of, load, readable, save
from zesty_otter.formats.streams import Companions, Source, opened, put_out
from zesty_otter.model import ROLES, Frame, Node, Note, Scene, count_of, expanded, format_unit

Progress = Callable[[float], None]
"""Called with the share of the work that is done, 0 to 1."""

CARRIES = (
    "names",
    "tree",
    "polygons",
    "smoothing groups",
    "normals",
    "UV sets",
    "colours",
    "materials",
    "metal/rough",
    "textures",
    "embedded textures",
    "scatters",
    "properties",
    "mesh properties",
    "lights and cameras",
    "visibility",
    "unit",
    "axes",
)
"""What a format may be able to carry; the columns of the table of formats."""


@dataclass(frozen=True)
class Format:
    """One file format, as the registry knows it.

    ``frame`` is the space its files are in: axes, and the unit when the format fixes one; ``spaces`` are further
    axes that a file can say, ``axes_vary`` is for formats that say none and may be in any. ``carries``
    names entries of `CARRIES`; ``chooses`` what a reader lets one choose: a pose, a scene.
    """

    name: str
    title: str
    suffixes: tuple[str, ...]
    frame: Frame
    carries: frozenset[str]
    reader: str | None = None
    writer: str | None = None
    magic: tuple[bytes, ...] = ()
    axes_vary: bool = False
    spaces: tuple[str, ...] = ()
    chooses: frozenset[str] = frozenset()
    quantizes: bool = False

    def read(
        self, path: Path, progress: Progress | None = None, folders: Sequence[Path] = (), **chosen: str | None
    ) -> Scene:
        """Read a file; what is ``chosen`` from it is one of `_CHOICES`."""
        if self.reader is None:
            raise InputError(
                f"{self.title} files cannot be read yet, only written.",
                file=path,
                remedy="`zesty-otter formats` lists what can be read.",
            )
        more = {what: which for what, which in chosen.items() if which is not None}
        for what in more.keys() - self.chooses:
            able = ", ".join(suffix for one in FORMATS if what in one.chooses for suffix in one.suffixes)
            raise UsageError(
                f"{_CHOICES[what]} of {self.title} files are not read, so there is no {what} to choose.",
                file=path,
                remedy=f"A {what} can be chosen in {able}.",
            )
        try:
            scene: Scene = import_module(self.reader).read(path, progress=progress, folders=folders, **more)
        except ModelError as error:
            raise InputError(error.problem, file=path, place=error.place, remedy=error.remedy) from None
        return scene.map_nodes(_with_told_role) if "properties" in self.carries else scene

    def carried(self, scene: Scene, *, keep_hidden: bool = False) -> tuple[Scene, list[Note]]:
        """What a file gets of a scene: no hidden nodes where it cannot hide them, unless ``keep_hidden``; and notes."""
        if "visibility" in self.carries:
            return scene, []
        hidden = {one.number for one in scene.walk() if not one.visible}
        names = [one.node.name for one in scene.walk() if not one.visible and one.node.content is not None]
        if not hidden:
            return scene, []
        shown = f"{count_of(len(names), 'hidden node')}: {', '.join(names[:5])}" + (
            f" and {len(names) - 5} more" if len(names) > 5 else ""
        )
        if keep_hidden:
            seen = scene.map_nodes(lambda node: node if node.visible else replace(node, visible=True))
            return seen, [Note("lost", f"{self.title} cannot hide nodes; written visible, {shown}", self.name)]
        left = scene.rebuilt(lambda n, node: None if n in hidden else node)
        text = f"{self.title} cannot hide nodes; left out {shown} (keep = hidden writes them)"
        return left, [Note("lost", text, self.name)] if names else []

    def encode(self, scene: Scene, name: str, *, quantized: bool = False, keep_hidden: bool = False) -> Encoded:
        if self.writer is None:
            raise UsageError(
                f"{self.title} files cannot be written yet, only read.",
                remedy="`zesty-otter formats` lists what can be written.",
            )
        if quantized and not self.quantizes:
            able = ", ".join(suffix for one in FORMATS if one.quantizes for suffix in one.suffixes)
            raise UsageError(f"{self.title} files cannot be quantized.", remedy=f"Only {able} files can.")
        scene, notes = self.carried(scene, keep_hidden=keep_hidden)
        copies = 0
        if "scatters" not in self.carries:
            scene, copies = expanded(scene)
        if "properties" in self.carries:
            scene = scene.map_nodes(_telling_its_role)
        encoded: Encoded = import_module(self.writer).encode(scene, name, **({"quantized": True} if quantized else {}))
        encoded.notes += notes
        owners = [mesh.name for mesh in scene.meshes if mesh.properties]
        owners += ["the scene"] if scene.properties else []
        if owners and "mesh properties" not in self.carries:
            text = f"properties of meshes and scenes have no place in {self.title}: those of {', '.join(owners[:5])}"
            encoded.notes.append(Note("lost", text, self.name))
        if copies:
            text = f"{self.title} has no scatters; their copies became {count_of(copies, 'node')}"
            encoded.notes.append(Note("lost", text, self.name))
        return encoded


ROLE = "role"
"""The property of a node that tells its role, in formats that carry properties of nodes and not roles."""


def _telling_its_role(node: Node) -> Node:
    if node.role == "visible":
        return node
    return replace(node, properties={**node.properties, ROLE: node.role})


def _with_told_role(node: Node) -> Node:
    role = node.properties.get(ROLE)
    if role not in ROLES:
        return node
    rest = {key: value for key, value in node.properties.items() if key != ROLE}
    return replace(node, role=str(role), properties=rest)


_CHOICES = {"pose": "animations", "scene": "several scenes"}

_GLTF_CARRIES = frozenset(
    {
        "names",
        "tree",
        "normals",
        "UV sets",
        "colours",
        "materials",
        "metal/rough",
        "textures",
        "unit",
        "axes",
        "lights and cameras",
        "scatters",
        "visibility",
        "properties",
    }
)

_USD_CARRIES = _GLTF_CARRIES | {"polygons"}
_GLTF_CARRIES |= {"mesh properties"}

FORMATS = (
    Format(
        "obj",
        "OBJ with MTL",
        (".obj",),
        Frame("left up forward"),
        frozenset(
            {
                "names",
                "polygons",
                "smoothing groups",
                "normals",
                "UV sets",
                "colours",
                "materials",
                "metal/rough",
                "textures",
            }
        ),
        reader="zesty_otter.formats.obj.reader",
        writer="zesty_otter.formats.obj.writer",
        axes_vary=True,
    ),
    Format(
        "ply",
        "PLY",
        (".ply",),
        Frame("left up forward"),
        frozenset({"polygons", "normals", "UV sets", "colours"}),
        reader="zesty_otter.formats.ply.reader",
        writer="zesty_otter.formats.ply.writer",
        magic=(b"ply",),
        axes_vary=True,
    ),
    Format(
        "stl",
        "STL",
        (".stl",),
        Frame("right forward up"),
        frozenset(),
        reader="zesty_otter.formats.stl.reader",
        writer="zesty_otter.formats.stl.writer",
        axes_vary=True,
    ),
    Format(
        "collada",
        "COLLADA 1.4.1",
        (".dae",),
        Frame("left up forward"),
        frozenset(
            {
                "names",
                "tree",
                "polygons",
                "normals",
                "UV sets",
                "colours",
                "materials",
                "textures",
                "lights and cameras",
                "properties",
                "unit",
                "axes",
            }
        ),
        spaces=("left back up", "up right forward"),
        reader="zesty_otter.formats.collada.reader",
        writer="zesty_otter.formats.collada.writer",
    ),
    Format(
        "x3d",
        "X3D in XML",
        (".x3d",),
        Frame("left up forward"),
        frozenset(
            {"names", "tree", "polygons", "normals", "UV sets", "colours", "materials", "textures", "unit", "axes"}
            | {"lights and cameras", "visibility"}
        ),
        reader="zesty_otter.formats.x3d.reader",
        writer="zesty_otter.formats.x3d.writer",
    ),
    Format(
        "usda",
        "USD text",
        (".usda", ".usd"),
        Frame("left up forward"),
        _USD_CARRIES,
        spaces=("left back up",),
        reader="zesty_otter.formats.usd.reader",
        writer="zesty_otter.formats.usd.writer",
        magic=(b"#usda", b"PXR-USDC"),  # of binary layers the reader says what to do
    ),
    Format(
        "usdz",
        "USD package",
        (".usdz",),
        Frame("left up forward"),
        _USD_CARRIES | {"embedded textures"},
        spaces=("left back up",),
        reader="zesty_otter.formats.usd.reader",
        writer="zesty_otter.formats.usd.writer",
        magic=(b"PK\3\4",),
    ),
    Format(
        "glb",
        "glTF 2.0, one file",
        (".glb",),
        Frame("left up forward", "m"),
        _GLTF_CARRIES | {"embedded textures"},
        reader="zesty_otter.formats.gltf.reader",
        writer="zesty_otter.formats.gltf.writer",
        chooses=frozenset(_CHOICES),
        quantizes=True,
        magic=(b"glTF",),
    ),
    Format(
        "gltf",
        "glTF 2.0, with files beside it",
        (".gltf",),
        Frame("left up forward", "m"),
        _GLTF_CARRIES,
        reader="zesty_otter.formats.gltf.reader",
        writer="zesty_otter.formats.gltf.writer",
        chooses=frozenset(_CHOICES),
        quantizes=True,
    ),
)
"""Every format. A new one is a module and an entry here."""


def format_of(path: Path, first_bytes: bytes = b"") -> Format:
    """The format of a file, by its first bytes where they tell, else by its suffix."""
    return _format_of(path, first_bytes, said=str(path))


def _format_of(path: Path, first_bytes: bytes, said: str) -> Format:
    for one in FORMATS:
        if first_bytes.startswith(one.magic):
            return one
    for one in FORMATS:
        if path.suffix.lower() in one.suffixes:
            return one
    known = ", ".join(suffix for one in FORMATS for suffix in one.suffixes)
    if said == "bytes":
        raise UsageError("the first bytes do not tell the format.", file=said, remedy="Say it with format=.")
    raise UsageError(
        f"'{path.suffix or path.name}' is not the ending of a known format.", file=said, remedy=f"Known: {known}."
    )


def format_named(name: str) -> Format:
    """The format of a short name, such as ``"collada"``, or of an ending, such as ``"dae"``."""
    word = name.lower().lstrip(".")
    for one in FORMATS:
        if word == one.name or f".{word}" in one.suffixes:
            return one
    raise UsageError(f"'{name}' is not a format.", remedy=f"There are {', '.join(one.name for one in FORMATS)}.")


def read(
    source: Source,
    unit: float | str | None = None,
    axes: str | None = None,
    *,
    progress: Progress | None = None,
    folders: Sequence[str | PathLike[str]] = (),
    pose: str | None = None,
    scene: str | None = None,
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
        found = kind.read(path, progress, [Path(folder) for folder in folders], pose=pose, scene=scene)
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
                "guess",
                f"axes assumed to be '{' '.join(given.axes)}', the usual for this format; files of it do not say."
                " Use --axes when the asset lies down or looks the wrong way.",
                kind.name,
                file.name,
            )
        )
    if unit is not None and found.frame.unit is not None and given.unit != found.frame.unit:
        text = f"the file says {format_unit(found.frame.unit)}; taken as {format_unit(given.unit)} as asked"
        notes.append(Note("done", text, kind.name, file.name))
    return replace(found, frame=given).with_notes(*notes)


def write(
    scene: Scene,
    target: str | PathLike[str] | BinaryIO,
    *,
    quantized: bool = False,
    keep_hidden: bool = False,
    format: str | None = None,
    companions: Callable[[str, bytes], None] | None = None,
) -> list[Note]:
    """Write a scene. The scene's frame becomes the format's.

    A file appears whole or not at all, and never replaces one the scene was read from.

    Parameters
    ----------
    scene : Scene
    target : path or binary file object
    quantized : bool
        For glTF: positions in 16 bits, normals in 8, UVs in 16; about half the size. The note says how far
        positions move.
    keep_hidden : bool
        Write hidden nodes also where the format cannot hide them; they are left out else.
    format : str, optional
        The name or ending of the format; the ending of the path says it when absent.
    companions : callable, optional
        For file objects: called with the name and the bytes of each texture or library that stands beside the file.

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
    """
    if isinstance(target, str | PathLike):
        path = Path(target)
        kind = format_named(format) if format else format_of(path)
        encoded = kind.encode(scene, path.name, quantized=quantized, keep_hidden=keep_hidden)
        save(encoded.files, path, inputs=inputs_of(scene))
        return encoded.notes
    if format is None:
        raise UsageError("a file object does not tell the format.", remedy='Say it, for example format="glb".')
    name = f"{scene.name or 'scene'}{format_named(format).suffixes[0]}"
    encoded = format_named(format).encode(scene, name, quantized=quantized, keep_hidden=keep_hidden)
    put_out(encoded, name, target, companions)
    return encoded.notes


__all__ = ["CARRIES", "FORMATS", "Encoded", "Format", "Progress", "format_named", "format_of", "load", "read", "write"]
