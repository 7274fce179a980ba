"""Textures written beside a file, in a folder of their own."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from zesty_otter import pixels
from zesty_otter.formats.files import Buffer
from zesty_otter.model import Note, Texture

_YOUNG = ("WEBP", "AVIF")  # kinds of images that are younger than these formats, which few of their readers open


class TextureFiles:
    """The textures of one file: each image that was found is written once, ``path`` says where.

    ``kinds`` are those that may be written, as `pixels.inspect` names them; others become PNG, and young ones always.
    """

    def __init__(self, stem: str, maker: str, kinds: Sequence[str] = ()) -> None:
        self.folder, self.maker, self.kinds = f"{stem}_textures", maker, kinds
        self._of_content: dict[bytes, str] = {}
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
        kept_out = data is not None and bool(self.kinds) and pixels.is_for_graphics_cards(data)
        if data is None or kept_out:
            path = (texture.wanted or texture.name).replace("\\", "/").rsplit("/", 1)[-1]
            why = "is for graphics cards, which a package may not hold" if kept_out else "is missing"
            self.notes.append(Note("lost", f"texture '{path}' {why}; it is named but not written", self.maker))
        else:
            mark = hashlib.sha256(data).digest()
            if mark in self._of_content:
                # One image under two spellings.
                self._paths[id(texture)] = self._of_content[mark]
                return self._paths[id(texture)]
            stem, dot, ending = texture.name.rpartition(".")
            stem, ending = (stem, f".{ending}") if dot else (ending, "")
            data, ending = self._fit(texture.name, data, ending)
            path, count = f"{self.folder}/{stem}{ending}", 1
            while path.lower() in {name.lower() for name in self.files}:
                count += 1
                path = f"{self.folder}/{stem}_{count}{ending}"
            self.files[path] = [data]
            self._of_content[mark] = path
        self._paths[id(texture)] = path
        return path

    def _fit(self, name: str, data: bytes, ending: str) -> tuple[bytes, str]:
        """An image of a kind that may be written, and its ending; with a note where it is damaged."""
        if pixels.is_for_graphics_cards(data):
            text = f"texture '{name}' is for graphics cards; few readers of this format open it"
            self.notes.append(Note("finding", f"{text}; it is copied as it is", self.maker))
            return data, ending
        try:
            kind = pixels.inspect(data).kind
            if pixels.is_cut_short(data):
                self.notes.append(Note("lost", f"texture '{name}' is cut short; it is copied as it is", self.maker))
            elif kind in _YOUNG or (self.kinds and kind not in self.kinds):
                self.notes.append(Note("done", f"texture '{name}' was turned from {kind} into PNG", self.maker))
                return pixels.to_png(data), ".png"
        except pixels.ImageError as error:
            self.notes.append(Note("lost", f"texture '{name}' {error}; it is copied as it is", self.maker))
        return data, ending
