"""Reading from and writing to memory: bytes and open files in place of paths."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from os import PathLike
from pathlib import Path
from typing import BinaryIO

from zesty_otter.errors import InputError, UsageError
from zesty_otter.formats.files import Encoded, asked_for, joined
from zesty_otter.model import Material, Scene, Texture

Source = str | PathLike[str] | bytes | BinaryIO
"""A path, the bytes of a file, or a file that is open for reading bytes."""

Companions = Callable[[str], bytes | None]
"""Given the name of a texture, library or layer as a file spells it, its bytes; None where there is no such thing."""


@dataclass(frozen=True)
class Opened:
    """A source as a file on disk. ``name`` is what messages call it; ``folder`` is gone when it was read."""

    path: Path
    name: str
    folder: Path | None = None

    def rid_of_folder(self, scene: Scene) -> Scene:
        """The scene with everything in it that stood in the folder."""
        folder = self.folder
        if folder is None:
            return scene
        notes = tuple(replace(note, file=self.name) if _is_in(note.file, folder) else note for note in scene.notes)
        changed: dict[int, Texture] = {}

        def kept(texture: Texture) -> Texture:
            if texture.path is None or not _is_in(texture.path, folder):
                return texture
            return changed.setdefault(id(texture), replace(texture, path=None, data=texture.path.read_bytes()))

        def with_data(material: Material) -> Material:
            uses = {role: replace(use, texture=kept(use.texture)) for role, use in material.textures.items()}
            return material.with_textures(uses) if uses else material

        source = None if scene.source is None or _is_in(scene.source, folder) else scene.source
        files = tuple(path for path in scene.read_files if not _is_in(path, folder))
        return replace(scene.map_materials(with_data), notes=notes, source=source, read_files=files)


@contextmanager
def opened(source: Source, ending: str, companions: Companions | None) -> Iterator[Opened]:
    """A source as a file on disk while it is read, with companions found where they are asked for."""
    if isinstance(source, str | PathLike) and companions is None:
        yield Opened(Path(source), str(source))
        return
    with tempfile.TemporaryDirectory(prefix="zesty-otter-") as made:
        folder = Path(made).resolve()
        path, name = folder / f"bytes{ending}", "bytes"
        if isinstance(source, str | PathLike):
            path = Path(source)
            name = str(source)
        else:
            if not (isinstance(source, bytes | bytearray | memoryview) or hasattr(source, "read")):
                raise UsageError(f"read takes a path, bytes or an open file, not {source!r}.")
            data = source.read() if hasattr(source, "read") else bytes(source)
            if not isinstance(data, bytes):
                raise UsageError("is not open for bytes.", file=name, remedy="Open it with mode 'rb'.")
            name = str(getattr(source, "name", name))
            path.write_bytes(data)
        find = companions or (lambda _: None)
        try:
            with asked_for(find, folder):
                yield Opened(path, name, folder)
        except InputError as error:
            if error.file is None or not _is_in(error.file, folder):
                raise
            raise type(error)(error.problem, file=name, place=error.place, remedy=error.remedy) from None


def put_out(encoded: Encoded, name: str, target: BinaryIO, keep: Callable[[str, bytes], None] | None) -> None:
    """Write the files of a scene to an open one; ``keep`` takes those that stand beside it."""
    beside: Iterable[str] = [one for one in encoded.files if one != name]
    if beside and keep is None:
        raise UsageError(
            f"textures or libraries stand beside it: {', '.join(beside)}.",
            remedy="Give companions=, called with the name and the bytes of each, or write a format in one file (glb).",
        )
    for one in beside:
        assert keep is not None
        keep(one, joined(encoded.files[one]))
    target.write(joined(encoded.files[name]))


def _is_in(path: str | PathLike[str], folder: Path) -> bool:
    return Path(path).is_relative_to(folder)
