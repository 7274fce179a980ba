"""Textures written beside a file, in a folder of their own."""

from __future__ import annotations

from zesty_otter.formats.files import Buffer
from zesty_otter.model import Note, Texture


class TextureFiles:
    """The textures of one file: each found one is written once, ``path`` says where."""

    def __init__(self, stem: str, maker: str) -> None:
        self.folder, self.maker = f"{stem}_textures", maker
        self.files: dict[str, list[Buffer]] = {}
        self.notes: list[Note] = []
        self._paths: dict[int, str] = {}

    def path(self, texture: Texture) -> str:
        """Where a texture is written, relative to the file; the name its source had when it is missing."""
        if id(texture) in self._paths:
            return self._paths[id(texture)]
        try:
            data: bytes | None = texture.read()
        except OSError:
            data = None
        if data is None:
            path = (texture.wanted or texture.name).replace("\\", "/").rsplit("/", 1)[-1]
            self.notes.append(Note("lost", f"texture '{path}' is missing; it is named but not written", self.maker))
        else:
            stem, dot, ending = texture.name.rpartition(".")
            stem, ending = (stem, f".{ending}") if dot else (ending, "")
            path, count = f"{self.folder}/{stem}{ending}", 1
            while path.lower() in {name.lower() for name in self.files}:
                count += 1
                path = f"{self.folder}/{stem}_{count}{ending}"
            self.files[path] = [data]
        self._paths[id(texture)] = path
        return path
