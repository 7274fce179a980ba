"""Files from elsewhere, read with care, and files of ours, written whole or not at all."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError, OutputError
from zesty_otter.model import Note, Scene

_MOST_FILES = 100_000  # to look through below a folder

Buffer = bytes | memoryview | NDArray[Any]


def is_text(name: str) -> bool:
    """Whether a name of a file is text in UTF-8: those of some systems are any bytes."""
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


@contextlib.contextmanager
def readable(path: Path) -> Iterator[None]:
    """Turns what the system says about a file that cannot be read into an `InputError`."""
    if not is_text(path.name):
        raise InputError("its name is not text in UTF-8.", file=path, remedy="Rename it.")
    try:
        yield
    except FileNotFoundError:
        raise InputError("there is no such file.", file=path, remedy="Check the path.") from None
    except IsADirectoryError:
        raise InputError("is a folder, not a file.", file=path, remedy="Name a file in it.") from None
    except PermissionError:
        raise InputError("permission denied.", file=path, remedy="Change its permissions, or copy it.") from None
    except OSError as error:
        raise InputError(f"could not be read: {error.strerror or error}.", file=path) from None


def load(path: Path) -> NDArray[np.uint8]:
    """The bytes of a file that is not empty.

    Parameters
    ----------
    path : Path

    Returns
    -------
    (N,) uint8

    Raises
    ------
    InputError
        When it is missing, empty, or only points to a file that is kept elsewhere.

    Examples
    --------
    >>> from pathlib import Path
    >>> _ = Path("note.txt").write_text("otter")
    >>> bytes(load(Path("note.txt")))
    b'otter'
    """
    with readable(path):
        if path.is_dir():
            raise IsADirectoryError
        with path.open("rb") as file:
            data = np.fromfile(file, np.uint8)
    _refuse_empty(path, len(data), data[:_POINTER].tobytes())
    return data


def load_bytes(path: Path) -> bytes:
    """As `load`, for readers that search in the text."""
    with readable(path):
        if path.is_dir():
            raise IsADirectoryError
        data = path.read_bytes()
    _refuse_empty(path, len(data), data[:_POINTER])
    return data


def _refuse_empty(path: Path, size: int, begin: bytes) -> None:
    if not size:
        raise InputError("is empty (0 bytes).", file=path, remedy="Export it again.")
    if _is_pointer(begin):
        raise InputError(f"{_ONLY_POINTER}.", file=path, remedy="Fetch the content from the store first.")


_POINTER = 1024
_POINTS = re.compile(rb"version https?://\S+\r?\n(?:ext-\S+ \S+\r?\n)*oid [a-z0-9]+:[0-9a-f]{32,}\r?\nsize \d+")
_ONLY_POINTER = "holds only a pointer to its content in a version-control store"


def _is_pointer(head: bytes) -> bool:
    """Whether a file stands in for one that a version-control store keeps elsewhere."""
    return _POINTS.match(head) is not None


@dataclass(frozen=True)
class Reference:
    """Where a file that another file names was found, or where it was looked for."""

    path: Path | None
    looked_in: tuple[Path, ...]
    remark: str = ""


_resolver: ContextVar[tuple[Callable[[str], bytes | None], Path] | None] = ContextVar("resolver", default=None)


@contextlib.contextmanager
def asked_for(find: Callable[[str], bytes | None], folder: Path) -> Iterator[None]:
    """While it lasts, files that others refer to and that are not there come from ``find``; they go to a folder."""
    token = _resolver.set((find, folder))
    try:
        yield
    finally:
        _resolver.reset(token)


_tree: ContextVar[Path | None] = ContextVar("tree", default=None)


@contextlib.contextmanager
def in_tree(folder: Path) -> Iterator[None]:
    """While it lasts, files may refer to others by paths that lead out of their own folder, but not out of this."""
    token = _tree.set(folder)
    try:
        yield
    finally:
        _tree.reset(token)


def _given(wanted: str) -> Path | None:
    """A file that somebody gave when asked for it."""
    asked = _resolver.get()
    data = asked[0](wanted) if asked is not None else None
    if asked is None or data is None:
        return None
    name = PurePosixPath(wanted.replace("\\", "/")).name[-100:]
    path = asked[1] / hashlib.sha256(wanted.encode()).hexdigest()[:16] / (name or "file")
    path.parent.mkdir(exist_ok=True)
    path.write_bytes(data)
    return path


def find_beside(source: Path, wanted: str, *, also_in: Sequence[Path] = ()) -> Reference:
    """Find a file that ``source`` refers to, in its folder or in folders the user allowed.

    Separators of any system are understood and case is forgiven. A path that leads out of the folder is followed
    inside folders the user allowed and inside the tree of sources (`in_tree`); else, as of absolute ones, only the
    file's name is used, and said so. A link that leads out is not followed.
    """
    home = source.parent
    parts = PurePosixPath(wanted.strip().strip('"').replace("\\", "/"))
    leads_out = _leads_out(parts, wanted)
    given = _given(wanted)
    if given is not None:
        return Reference(given, (home,))
    # No name is longer on any system; a text that went astray is.
    if not parts.name or "\0" in wanted or len(wanted) > 1000 or len(parts.name.encode()) > 255:
        return Reference(None, (home,))
    tree = _tree.get()
    roots = [folder.resolve() for folder in (*also_in, *((tree,) if tree is not None else ()))]
    if ".." in parts.parts and not parts.is_absolute():
        beside = _ignoring_case(home / parts)
        if beside is not None and beside.is_file() and any(beside.resolve().is_relative_to(one) for one in roots):
            return _content(beside, wanted, (beside.parent,), "")
    tries = [home / parts.name] if leads_out else [home / parts, home / parts.name]
    tries += [folder / parts.name for folder in also_in]
    allowed = [home.resolve(), *roots]
    looked: dict[Path, None] = {}
    for guess in tries:
        looked[guess.parent] = None
        found = _ignoring_case(guess)
        if found is None or not found.is_file():
            continue
        if not any(found.resolve().is_relative_to(root) for root in allowed):
            return Reference(None, tuple(looked), f"'{wanted}' is a link out of the folder; it is not followed")
        remark = ""
        if found != home / parts or leads_out:
            remark = f"'{wanted}' was taken to be {found.relative_to(home) if found.is_relative_to(home) else found}"
        return _content(found, wanted, tuple(looked), remark)
    for folder in also_in:
        deep = _below(folder).get(parts.name.lower())
        if deep is not None and deep.resolve().is_relative_to(folder.resolve()):
            return _content(deep, wanted, tuple(looked), f"'{wanted}' was taken to be {deep}")
    return Reference(None, tuple(looked))


def _leads_out(parts: PurePosixPath, wanted: str) -> bool:
    return parts.is_absolute() or ".." in parts.parts or re.match(r"[A-Za-z]:|[a-z][a-z0-9+.-]+:", wanted) is not None


def _content(path: Path, wanted: str, looked_in: tuple[Path, ...], remark: str) -> Reference:
    """A file that was found, unless it only points to one."""
    with contextlib.suppress(OSError), path.open("rb") as file:
        if _is_pointer(file.read(_POINTER)):
            return Reference(None, looked_in, f"'{wanted}' {_ONLY_POINTER}; fetch it first")
    return Reference(path, looked_in, remark)


def missing_texture(wanted: str, reference: Reference) -> str:
    """What to say of a texture that was not found."""
    places = ", ".join(map(str, reference.looked_in))
    if "://" in wanted:
        return f"texture '{wanted}' is on a network, from which nothing is fetched, and none of its name is in {places}"
    if _leads_out(PurePosixPath(wanted.replace("\\", "/")), wanted):
        return (
            f"texture '{wanted}' is outside the model's folder, and none of its name is in {places}; "
            "--textures-from, or textures_from in a job, lets in the folder it is in"
        )
    return (
        f"texture '{wanted}' was not found (looked in {places}); "
        "--textures-from, or textures_from in a job, names a folder to look through"
    )


def _below(folder: Path) -> dict[str, Path]:
    """The files below a folder by their names in lower case, those nearest to it first."""
    found: dict[str, Path] = {}
    for home, folders, files in os.walk(folder):
        folders.sort()
        for name in sorted(files):
            found.setdefault(name.lower(), Path(home) / name)
        if len(found) > _MOST_FILES:
            break
    return found


def _ignoring_case(path: Path) -> Path | None:
    if path.exists():
        return path
    folder = path.parent if path.parent.is_dir() else _ignoring_case_folder(path.parent)
    if folder is None:
        return None
    with contextlib.suppress(OSError):
        return next((p for p in sorted(folder.iterdir()) if p.name.lower() == path.name.lower()), None)
    return None


def _ignoring_case_folder(folder: Path) -> Path | None:
    return None if folder == folder.parent else _ignoring_case(folder)


@dataclass
class Encoded:
    """What a writer made.

    Parameters
    ----------
    files : dict of str to iterable of bytes-like
        Pieces of each file, by name relative to the output folder.
    notes : list of Note
        What was translated or lost.
    """

    files: dict[str, Iterable[Buffer]] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)

    def joined(self) -> dict[str, bytes]:
        """The contents of every file.

        Returns
        -------
        dict of str to bytes
            By name, the file itself first.

        Examples
        --------
        >>> import zesty_otter as zo
        >>> sail = zo.Mesh.from_faces("sail", [(0, 0, 0), (2, 0, 0), (0, 3, 0)], [(0, 1, 2)])
        >>> list(zo.formats.format_named("obj").encode(zo.Scene.from_mesh(sail), "sail.obj").joined())
        ['sail.obj']
        """
        return {name: joined(parts) for name, parts in self.files.items()}


def joined(buffers: Iterable[Buffer]) -> bytes:
    """Buffers as one."""
    return b"".join(map(bytes, map(_plain, buffers)))


def _plain(buffer: Buffer) -> bytes | memoryview:
    return np.ascontiguousarray(buffer).data if isinstance(buffer, np.ndarray) else buffer


def save(files: dict[str, Iterable[Buffer]], path: Path, *, inputs: Iterable[Path] = ()) -> list[Path]:
    """Write files beside ``path``, all of them or none; the one named like ``path`` appears last.

    Each file is written under a temporary name and renamed when all are complete. An input is never
    replaced.
    """
    folder = path.parent
    targets = {name: folder / name for name in sorted(files, key=lambda name: (name == path.name, name))}
    originals = {one.resolve() for one in inputs if one.exists()}
    for target in targets.values():
        if target.resolve() in originals:
            raise OutputError(
                "is one of the files the scene was read from.", file=target, remedy="Write to another name."
            )
        if target.is_dir():
            raise OutputError("is a folder.", file=target, remedy="Name a file in it.")
    staged: dict[Path, Path] = {}
    made: list[Path] = []
    try:
        for name, target in targets.items():
            made += _make_folders(target.parent)
            staged[target] = target.with_name(f".{target.name}.{os.getpid()}.part")
            with staged[target].open("wb") as file:
                for buffer in files[name]:
                    file.write(_plain(buffer))
        for target, part in staged.items():
            part.replace(target)
    except OSError as error:
        reason = error.strerror or str(error)
        raise OutputError(
            f"could not be written: {reason}.",
            file=path,
            remedy="Nothing was changed; make room or choose another folder, and run again.",
        ) from None
    finally:
        for part in staged.values():
            with contextlib.suppress(OSError):
                part.unlink(missing_ok=True)
        for made_folder in reversed(made):
            with contextlib.suppress(OSError):
                made_folder.rmdir()  # only succeeds when nothing was put there
    return list(targets.values())


def put(buffers: Iterable[Buffer], path: Path) -> str:
    """Write a file to a place that nobody looks at yet, so that it need not appear whole; returns its SHA-256."""
    digest = hashlib.sha256()
    try:
        if not path.parent.exists():
            path.parent.mkdir(parents=True)
        with path.open("wb") as file:
            for buffer in buffers:
                plain = _plain(buffer)
                file.write(plain)
                digest.update(plain)
        return digest.hexdigest()
    except OSError as error:
        raise OutputError(
            f"could not be written: {error.strerror or error}.",
            file=path,
            remedy="Nothing was changed; make room or choose another folder, and run again.",
        ) from None


def _make_folders(folder: Path) -> list[Path]:
    missing = [one for one in (folder, *folder.parents) if not one.exists()]
    for one in reversed(missing):
        one.mkdir(exist_ok=True)
    return missing[::-1]


def inputs_of(scene: Scene) -> list[Path]:
    """Every file a scene was read from, and those that it would have been read from, had they been there."""
    textures = [texture.path for texture in scene.textures if texture.path is not None]
    return [*([scene.source] if scene.source else []), *scene.read_files, *textures]
