"""OBJ, after its specification (version 3.0, appendix B1): polygons, normals, texture vertices, materials."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from zesty_otter.rehearsal.receivers.faces import (
    Faces,
    Floats,
    Ints,
    UnknownFormError,
    light,
    numbers,
    placed_faces,
    require,
    rows_of,
    said_rows,
    whole_numbers,
)

_TABLES = (b"v", b"vt", b"vn", b"f")
_IGNORED = (b"", b"#", b"o", b"g", b"s")


def received(path: Path) -> Faces:
    text = path.read_bytes()
    if b"\\\n" in text:
        raise UnknownFormError("lines that go on in the next one")
    lines = _Lines(text)
    names, of_face = _materials(lines, path)
    points, width = lines.rows(b"v")
    require(set(np.unique(width)) <= {3, 6}, "a point has other than three numbers, or six")
    if len(np.unique(width)) > 1:
        raise UnknownFormError("colours at some points")
    points = points.reshape(-1, int(width[0]) if len(width) else 3)
    colors = light(points[:, 3:]) if points.shape[1] == 6 else None
    tables = []
    for word in (b"vt", b"vn"):
        values, width = lines.rows(word)
        require(len(np.unique(width)) <= 1, f"lines of {word.decode()} differ in length")
        tables.append(values.reshape(-1, int(width[0]) if len(width) else 3))
    uvs, normals = tables
    index, sizes = lines.corners()
    require(not len(sizes) or sizes.min() >= 3, "a face has fewer than three corners")
    point, uv, normal = (
        lines.from_start(column, word, sizes) for column, word in zip(index.T, _TABLES[:3], strict=True)
    )
    return placed_faces(
        np.eye(4),
        rows_of(points[:, :3], point, "points"),
        sizes,
        normals=said_rows(normals, normal, 3, "normals"),
        uvs=said_rows(uvs, uv, 2, "texture vertices"),
        colors=None if colors is None else colors[point],
        material=of_face,
        names=names,
    )


def _materials(lines: _Lines, path: Path) -> tuple[list[str], Ints]:
    """The names of materials, and the number of that of each face."""
    known: set[str] = set()
    names, since = [""], [-1]
    for number, word, rest in lines.others():
        if word == b"mtllib":
            library = path.parent / rest
            require(library.is_file(), f"its library {rest} is not there")
            known |= set(re.findall(r"^newmtl (.*?)\s*$", library.read_text("utf-8"), re.MULTILINE))
        elif word == b"usemtl":
            require(rest in known, f"material {rest} is in no library")
            names.append(rest)
            since.append(number)
        elif word not in _IGNORED:
            raise UnknownFormError(f"statements {word.decode(errors='replace')}")
    of_face = np.searchsorted(np.array(since), lines.numbers_of(b"f"), side="right") - 1
    return names, of_face


class _Lines:
    """The lines of a text by their first word, each kind taken at once."""

    def __init__(self, text: bytes) -> None:
        self.bytes = np.frombuffer(text if text.endswith(b"\n") else text + b"\n", np.uint8)
        ends = np.flatnonzero(self.bytes == ord("\n"))
        self.start, self.end = np.concatenate([[0], ends[:-1] + 1]), ends
        head = self.bytes[np.minimum(self.start[:, None] + np.arange(3), len(self.bytes) - 1)]
        head = np.where(np.arange(3) < (self.end - self.start)[:, None], head, ord(" "))
        blank = head <= ord(" ")
        self.kind = np.full(len(ends), -1)
        for kind, word in enumerate(_TABLES):
            same = (head[:, : len(word)] == np.frombuffer(word, np.uint8)).all(axis=1)
            self.kind[same & blank[:, len(word)]] = kind

    def numbers_of(self, word: bytes) -> Ints:
        return np.flatnonzero(self.kind == _TABLES.index(word))

    def others(self) -> list[tuple[int, bytes, str]]:
        """Lines of other kinds: number, first word and what follows it."""
        found = []
        for number in np.flatnonzero((self.kind < 0) & (self.end > self.start)).tolist():
            line = self.bytes[self.start[number] : self.end[number]].tobytes().strip()
            word, _, rest = line.partition(b" ")
            found.append((number, b"#" if word.startswith(b"#") else word, rest.strip().decode()))
        return found

    def text(self, word: bytes) -> tuple[NDArray[np.uint8], Ints]:
        """The bytes of all lines of a kind, without the word, and the line (from 0) of each byte."""
        rows = self.numbers_of(word)
        start, size = self.start[rows] + len(word), self.end[rows] + 1 - self.start[rows] - len(word)
        line = np.repeat(np.arange(len(rows)), size)
        at = np.arange(int(size.sum())) + np.repeat(start - np.concatenate([[0], np.cumsum(size)[:-1]]), size)
        return self.bytes[at], line

    def rows(self, word: bytes) -> tuple[Floats, Ints]:
        """The numbers in all lines of a kind, and how many each line has."""
        data, line = self.text(word)
        return numbers(data.tobytes()), np.bincount(line[_begins(data)], minlength=len(self.numbers_of(word)))

    def corners(self) -> tuple[Ints, Ints]:
        """(C, 3) numbers of point, texture vertex and normal of each corner, 0 for none; (F,) corners of each face."""
        data, line = self.text(b"f")
        begins = _begins(data)
        corner = np.cumsum(begins) - 1
        slash = data == ord("/")
        slashes = np.bincount(corner[slash], minlength=int(begins.sum()))
        require(not slashes.size or slashes.max() <= 2, "a corner names more than three things")
        split = np.where(slash, ord(" "), data).astype(np.uint8).tobytes()
        # What is left out between two slashes is said as 0.
        gaps = np.flatnonzero(slash[:-1] & slash[1:]) + 1
        if len(gaps):
            split = np.insert(np.frombuffer(split, np.uint8), gaps, ord("0")).tobytes()
        values = whole_numbers(split)
        first = np.concatenate([[0], np.cumsum(slashes + 1)[:-1]]).astype(np.int64)
        require(len(values) == int((slashes + 1).sum()), "a corner ends with a slash")
        found = np.zeros((len(slashes), 3), np.int64)
        for column in range(3):
            has = slashes >= column
            found[has, column] = values[first[has] + column]
        return found, np.bincount(line[begins], minlength=len(self.numbers_of(b"f")))

    def from_start(self, index: Ints, word: bytes, sizes: Ints) -> Ints:
        """References counted from 0, -1 for none; negative ones count back from the line they stand in."""
        before = np.searchsorted(self.numbers_of(word), self.numbers_of(b"f"))
        return np.where(index > 0, index - 1, np.where(index < 0, np.repeat(before, sizes) + index, -1))


def _begins(data: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Where words begin."""
    solid = data > ord(" ")
    return solid & ~np.concatenate([[False], solid[:-1]])
