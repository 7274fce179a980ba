"""Places of a scene to CSV or JSON."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.formats.bare import frame_comment, nothing_to_write
from zesty_otter.formats.files import Buffer, Encoded
from zesty_otter.formats.places.listing import COLUMNS, as_places
from zesty_otter.formats.text import list_of, number_lines
from zesty_otter.geometry.surface.placing import taken_apart
from zesty_otter.model import Node, Note, Scatter, Scene, format_unit

__all__ = ["as_places", "encode"]

_LARGEST_WHOLE = 1 << 24


def encode(scene: Scene, name: str) -> Encoded:
    """The file of a scene that `as_places` made: JSON when ``name`` ends in .json, else CSV."""
    if not scene.roots:
        raise nothing_to_write(scene)
    notes = [
        Note("lost", f"whole numbers of '{key}' beyond {_LARGEST_WHOLE:,} are rounded", "places", node=node.name)
        for node in scene.roots
        for key, values in _things(node)[1].items()
        if values.dtype.kind == "i" and np.abs(values).max(initial=0) > _LARGEST_WHOLE
    ]
    buffers = _json(scene) if name.lower().endswith(".json") else _csv(scene)
    return Encoded({name: buffers}, notes)


def _things(node: Node) -> tuple[NDArray[np.float64], dict[str, NDArray[Any]]]:
    """The places of a node, and numbers of their own, (N,) or (N, k)."""
    if isinstance(node.content, Scatter):
        return node.transform @ node.content.transforms, dict(node.content.properties)
    return node.transform[None], {key: np.array([value]) for key, value in node.properties.items()}


def _csv(scene: Scene) -> Iterator[Buffer]:
    widths: dict[str, int] = {}
    for node in scene.roots:
        for key, values in _things(node)[1].items():
            widths[key] = max(widths.get(key, 0), values.shape[1] if values.ndim == 2 else 1)
    names = [key if width == 1 else f"{key}.{n}" for key, width in widths.items() for n in range(width)]
    yield f"# {frame_comment(scene.frame)}\n".encode()
    yield (",".join(["name", *COLUMNS, *map(_quoted, names)]) + "\n").encode()
    for node in scene.roots:
        places, own = _things(node)
        table = np.concatenate(taken_apart(places), axis=1)
        columns = [own[key].reshape(len(places), -1) if key in own else None for key in widths]
        blank = [k for k, one in enumerate(columns) if one is None]
        table = np.concatenate([table, *(one for one in columns if one is not None)], axis=1)
        # Columns that things of this name lack stay empty.
        ends = b"," * sum(widths[list(widths)[k]] for k in blank)
        if blank and len(blank) < len(columns):
            yield from _with_gaps(node.name, table, own, widths)
            continue
        start = _quoted(node.name).encode() + b","
        for piece in number_lines("", table):
            text = piece.tobytes().replace(b" ", b",")
            # Every line ends: what stands before the first and behind each end makes the lines.
            yield start + text[:-1].replace(b"\n", ends + b"\n" + start) + ends + b"\n"


def _with_gaps(
    name: str, table: NDArray[np.float64], own: dict[str, NDArray[Any]], widths: dict[str, int]
) -> Iterator[Buffer]:
    """Lines in which some columns in the middle are empty."""
    places = [len(COLUMNS)]
    for key, width in widths.items():
        if key not in own:
            places.append(-width)
        else:
            places.append(width)
    for piece in number_lines("", table):
        for line in piece.tobytes().decode().splitlines():
            words = iter(line.split())
            cells = [next(words) for _ in range(places[0])]
            for width in places[1:]:
                cells += [""] * -width if width < 0 else [next(words) for _ in range(width)]
            yield (",".join([_quoted(name), *cells]) + "\n").encode()


def _quoted(text: str) -> str:
    plain = text.replace("\r", " ").replace("\n", " ")
    return (
        '"' + plain.replace('"', '""') + '"' if any(one in plain for one in ',";#') or plain != plain.strip() else plain
    )


def _json(scene: Scene) -> Iterator[Buffer]:
    head = {"format": "places", "version": 1, "unit": format_unit(scene.frame.unit) if scene.frame.unit else None,
            "metres": scene.frame.unit, "axes": " ".join(scene.frame.axes)}  # fmt: skip
    yield (json.dumps(head, ensure_ascii=False)[:-1] + ', "things": [\n').encode()
    for number, node in enumerate(scene.roots):
        places, own = _things(node)
        between = ",\n" if number else ""
        yield f'{between}{{"name": {json.dumps(node.name, ensure_ascii=False)}'.encode()
        for key, table in zip(("position", "rotation", "scale"), taken_apart(places), strict=True):
            yield b',\n "' + key.encode() + b'": '
            yield from _list(table)
        if own:
            yield b',\n "properties": {'
            for k, (key, values) in enumerate(own.items()):
                yield f"{', ' if k else ''}{json.dumps(key, ensure_ascii=False)}: ".encode()
                yield from _list(values)
            yield b"}"
        yield b"}"
    yield b"\n]}\n"


def _list(values: NDArray[Any]) -> Iterator[Buffer]:
    if values.ndim == 1 and values.dtype.kind == "i" and np.abs(values).max(initial=0) < 2**53:
        yield ("[" + ", ".join(map(str, values.tolist())) + "]").encode()
        return
    yield b"["
    rows = values if values.ndim == 2 else values[:, None]
    for piece in list_of(rows.astype(np.float32)):
        yield piece.tobytes().translate(_BRACKETS)
    yield b"]"


_BRACKETS = bytes.maketrans(b"()", b"[]")
