"""Tables of places to scenes of boxes, which a swap exchanges for meshes."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zesty_otter.errors import InputError, UsageError, closest
from zesty_otter.formats.bare import said_frame
from zesty_otter.formats.files import load_bytes
from zesty_otter.formats.places.listing import COLUMNS, Things, scene_of
from zesty_otter.formats.text import NotNumbersError, numbers_in
from zesty_otter.geometry.surface.placing import composed
from zesty_otter.model import LARGEST, Frame, Note, Scene, count_of, is_within, shortened

_NEEDED = ("x", "y", "z")
_MISSING = dict(zip(COLUMNS, (0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0, 1.0, 1.0, 1.0), strict=True))


def read(path: Path, *, progress: Callable[[float], None] | None = None, folders: Sequence[Path] = ()) -> Scene:
    """The places in a table, with a box for each name; the frame is the one it says, or the format's."""
    del progress, folders
    data = load_bytes(path)
    things, frame, notes = _from_json(path, data) if path.suffix.lower() == ".json" else _from_csv(path, data)
    count = sum(len(one.places) for one in things)
    said = f"{count_of(count, 'place')} of {count_of(len(things), 'name')}"
    text = f"{said}; boxes stand there until the step swap puts meshes there"
    notes.append(Note("done", text, "places", str(path)))
    return Scene(scene_of(things, frame, path.stem).roots, frame, path.stem, tuple(notes), path)


def _from_csv(path: Path, data: bytes) -> tuple[list[Things], Frame, list[Note]]:
    data = data.removeprefix(b"\xef\xbb\xbf").replace(b"\r\n", b"\n").replace(b"\r", b"\n")
    line, skipped = 1, 0
    while data[skipped : skipped + 1] == b"#":
        end = data.find(b"\n", skipped)
        skipped, line = (len(data) if end < 0 else end + 1), line + 1
    end = data.find(b"\n", skipped)
    head = data[skipped : len(data) if end < 0 else end]
    body = data[len(data) if end < 0 else end + 1 :]
    separator = ";" if head.count(b";") > head.count(b",") else ","
    try:
        names = [one.strip() for one in next(csv.reader([head.decode("utf-8")], delimiter=separator), [])]
    except UnicodeDecodeError:
        raise InputError("is not UTF-8 text.", file=path, remedy="Save it as UTF-8.") from None
    _check_columns(path, names, line)
    called, table, words = _rows(path, body, names, separator, line + 1)
    if not len(table):
        raise InputError("has no places.", file=path, remedy="Add a line for each.")
    column = {name: n for n, name in enumerate(names)}
    rows = [table[:, column[one]] if one in column else np.full(len(table), _MISSING[one]) for one in COLUMNS]
    values = np.stack(rows, axis=1)
    _check_values(path, values, lambda n: f"line {_line_of(body, n, line + 1)}")
    own = {name: n for name, n in column.items() if name not in COLUMNS and name != "name" and name not in words}
    things = _by_name(called, values, {name: table[:, n] for name, n in own.items()})
    notes = [Note("lost", f"columns that are no numbers: {shortened(words)}", "places", str(path))] if words else []
    return things, said_frame(data[:1024]) or Frame("left up forward"), notes


def _check_columns(path: Path, names: list[str], line: int) -> None:
    missing = [one for one in ("name", *_NEEDED) if one not in names]
    if missing:
        near = "".join(closest(one, names) for one in missing[:1])
        remedy = f"It needs name, x, y and z, and may have {', '.join(COLUMNS[3:])} and columns of your own."
        problem = f"has no column '{missing[0]}'.{near}"
        raise InputError(problem, file=path, place=f"line {line}", remedy=remedy)
    doubled = next((one for one in names if names.count(one) > 1), None)
    if doubled is not None:
        raise InputError(f"has the column '{doubled}' twice.", file=path, place=f"line {line}", remedy="Remove one.")
    some = [one for one in ("qx", "qy", "qz", "qw") if one in names]
    if some and len(some) < 4:
        problem = "a rotation needs qx, qy, qz and qw."
        raise InputError(problem, file=path, place=f"line {line}", remedy="Add the others, or remove these.")


def _rows(
    path: Path, body: bytes, names: list[str], separator: str, first: int
) -> tuple[list[tuple[str, int]], NDArray[np.float64], list[str]]:
    """Runs of names with their lengths, all numbers (N, columns), and columns that hold other words."""
    if not body.endswith(b"\n"):
        body += b"\n"
    quick = _quick_rows(body, names.index("name"), len(names), separator.encode())
    if quick is not None:
        return (*quick, [])
    return _slow_rows(path, body, names, separator, first)


def _quick_rows(
    body: bytes, at: int, count: int, separator: bytes
) -> tuple[list[tuple[str, int]], NDArray[np.float64]] | None:
    """As `_rows`, of lines without quotes and gaps whose first word is the name; None for others."""
    if at != 0 or b'"' in body or count < 2:
        return None
    text = np.frombuffer(body, np.uint8)
    marks = np.flatnonzero((text == separator[0]) | (text == 10))
    if len(marks) % count or not (text[marks[count - 1 :: count]] == 10).all():
        return None
    rows = marks.reshape(-1, count)
    if (text[rows[:, :-1]] == 10).any():
        return None
    start = np.concatenate([[0], rows[:-1, -1] + 1])
    size = rows[:, 0] - start
    # A new run begins where a name is not that of the line before.
    width = int(size.max(initial=0))
    if width == 0 or width > 4096:
        return None
    new = np.concatenate([[True], size[1:] != size[:-1]])
    for k in range(width):
        inside = np.flatnonzero(~new & (size > k))
        inside = inside[text[start[inside] + k] != text[start[inside - 1] + k]]
        new[inside] = True
    numbers = text.copy()
    edges = np.zeros(len(text) + 1, np.int8)
    edges[start] += 1
    edges[rows[:, 0]] -= 1
    numbers[np.cumsum(edges[:-1], dtype=np.int8).astype(bool)] = 32
    numbers[rows.ravel()] = 32
    try:
        values = numbers_in(numbers)
    except NotNumbersError:
        return None
    if len(values) != len(rows) * (count - 1):
        return None
    heads = np.flatnonzero(new)
    try:
        called = [body[start[n] : start[n] + size[n]].decode("utf-8").strip() for n in heads]
    except UnicodeDecodeError:
        return None
    lengths = np.diff([*heads, len(rows)]).tolist()
    table = np.concatenate([np.zeros((len(rows), 1)), values.reshape(-1, count - 1)], axis=1)
    return list(zip(called, lengths, strict=True)), table


def _slow_rows(
    path: Path, body: bytes, names: list[str], separator: str, first: int
) -> tuple[list[tuple[str, int]], NDArray[np.float64], list[str]]:
    """As `_rows`, line by line."""
    try:
        reader = csv.reader(io.StringIO(body.decode("utf-8")), delimiter=separator)
    except UnicodeDecodeError:
        raise InputError("is not UTF-8 text.", file=path, remedy="Save it as UTF-8.") from None
    rows: list[list[float]] = []
    called: list[tuple[str, int]] = []
    words: dict[str, None] = {}
    at = names.index("name")
    try:
        for cells in reader:
            place = f"line {reader.line_num + first - 1}"
            if not any(one.strip() for one in cells):
                continue
            if len(cells) > len(names):
                raise InputError(f"has {len(cells)} values for {len(names)} columns.", file=path, place=place)
            cells += [""] * (len(names) - len(cells))
            called.append((cells[at].strip(), 1))
            rows.append([_number(path, place, n, one, cells[k], words) for k, (n, one) in enumerate(
                (name, name in COLUMNS) for name in names)])  # fmt: skip
    except csv.Error as error:
        raise InputError(f"is not CSV: {error}.", file=path, place=f"line {reader.line_num + first - 1}") from None
    return called, np.array(rows, np.float64).reshape(-1, len(names)), list(words)


def _number(path: Path, place: str, name: str, known: bool, text: str, words: dict[str, None]) -> float:
    if name == "name":
        return 0.0
    text = text.strip()
    if not text:
        return _MISSING.get(name, 0.0)
    try:
        return float(text)
    except ValueError:
        if known:
            raise InputError(f"{name} is '{text[:40]}', which is not a number.", file=path, place=place) from None
        words[name] = None
        return 0.0


def _line_of(body: bytes, row: int, first: int) -> int:
    """The line of a row, of which blank ones are none."""
    seen = -1
    for number, line in enumerate(body.split(b"\n"), first):
        seen += bool(line.strip(b" ,;\t"))
        if seen == row:
            return number
    return first + row


def _check_values(path: Path, values: NDArray[np.float64], place: Callable[[int], str]) -> None:
    """Complains about rows (N, 10) of position, rotation and scale that are no places."""
    tests = (
        (~np.isfinite(values).all(axis=1), "holds numbers that are not finite"),
        (np.abs(np.nan_to_num(values)).max(axis=1) > LARGEST, f"holds numbers beyond {LARGEST:g}"),
        ((values[:, 3:7] == 0).all(axis=1), "has a rotation of length zero"),
        ((values[:, 7:] == 0).any(axis=1), "has a scale of zero"),
    )
    for wrong, text in tests:
        if wrong.any():
            more = f" (and {int(wrong.sum()) - 1:,} more)" if wrong.sum() > 1 else ""
            raise InputError(
                f"{text}{more}.", file=path, place=place(int(np.argmax(wrong))), remedy="Correct the table."
            )


def _by_name(
    called: list[tuple[str, int]], values: NDArray[np.float64], own: Mapping[str, NDArray[np.float64]]
) -> list[Things]:
    """Things of each name, in the order of their first."""
    places = composed(len(values), values[:, :3], values[:, 3:7], values[:, 7:])
    numbers: dict[str, int] = {}
    of_run = np.array([numbers.setdefault(name or "thing", len(numbers)) for name, _ in called])
    of_row = np.repeat(of_run, [length for _, length in called])
    order = np.argsort(of_row, kind="stable")
    bounds = np.searchsorted(of_row[order], np.arange(len(numbers) + 1))
    columns = _joined_columns(own)
    return [
        Things(name, places[rows], {key: column[rows] for key, column in columns.items()})
        for name, rows in zip(numbers, (order[a:b] for a, b in pairwise(bounds)), strict=True)
    ]


def _joined_columns(own: Mapping[str, NDArray[np.float64]]) -> dict[str, NDArray[Any]]:
    """Columns such as tint.0, tint.1 as one table, and whole numbers as such."""
    found: dict[str, list[NDArray[np.float64]]] = {}
    for name, values in own.items():
        key, dot, number = name.rpartition(".")
        together = dot and number.isdecimal() and int(number) == len(found.get(key, ())) < 4
        found.setdefault(key if together else name, []).append(values)
    columns: dict[str, NDArray[Any]] = {}
    for key, parts in found.items():
        table = parts[0] if len(parts) == 1 else np.stack(parts, axis=1)
        if not is_within(table):
            continue
        columns[key] = table.astype(np.int64) if len(parts) == 1 and (table == np.rint(table)).all() else table
    return columns


def _from_json(path: Path, data: bytes) -> tuple[list[Things], Frame, list[Note]]:
    try:
        document = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise InputError(f"is not JSON: {str(error)[:80]}.", file=path) from None
    if not isinstance(document, dict) or document.get("format") != "places":
        remedy = 'A table of places begins with {"format": "places", "version": 1.'
        raise InputError("is not a table of places.", file=path, remedy=remedy)
    if document.get("version") != 1:
        raise InputError(f"has version {document.get('version')!r}; this program reads version 1.", file=path)
    try:
        frame = Frame(str(document.get("axes", "left up forward")), document.get("metres") or document.get("unit"))
    except UsageError as error:
        raise InputError(error.problem, file=path, remedy="Correct 'axes', 'unit' or 'metres'.") from None
    given = document.get("things")
    if not isinstance(given, list) or not given:
        raise InputError("has no places.", file=path, remedy='Add "things".')
    things = []
    for number, thing in enumerate(given, 1):
        place = f"thing {number}"
        if not isinstance(thing, dict) or not isinstance(thing.get("name"), str):
            raise InputError("has no name.", file=path, place=place)
        position = _table(path, place, thing, "position", 3, None)
        count = len(position)
        rotation = _table(path, place, thing, "rotation", 4, count, (0.0, 0.0, 0.0, 1.0))
        scale = _table(path, place, thing, "scale", 3, count, (1.0, 1.0, 1.0))
        values = np.concatenate([position, rotation, scale], axis=1)
        _check_values(path, values, lambda n, place=place: f"{place}, place {n + 1}")  # type: ignore[misc]
        columns = _properties(path, place, thing.get("properties", {}), count)
        if count:
            made = Things(thing["name"], composed(count, position, rotation, scale), columns)
            things.append(made)
    if not things:
        raise InputError("has no places.", file=path, remedy='Add positions to its "things".')
    return things, frame, []


def _table(
    path: Path, place: str, thing: Mapping[str, Any], key: str, width: int, count: int | None,
    missing: Sequence[float] = (),
) -> NDArray[np.float64]:  # fmt: skip
    if key not in thing and count is not None:
        return np.tile(np.array(missing), (count, 1))
    try:
        found = (
            np.array(thing.get(key), np.float64).reshape(-1, width) if thing.get(key) != [] else np.zeros((0, width))
        )
    except (ValueError, TypeError):
        raise InputError(f"'{key}' is not a list of {width} numbers for each.", file=path, place=place) from None
    if count is not None and len(found) != count:
        raise InputError(f"has {count} positions and {len(found)} of '{key}'.", file=path, place=place)
    return found


def _properties(path: Path, place: str, given: Any, count: int) -> dict[str, NDArray[Any]]:
    if not isinstance(given, dict):
        raise InputError("'properties' is not an object.", file=path, place=place)
    columns = {}
    for key, value in given.items():
        try:
            column = np.array(value)
        except ValueError:
            column = np.zeros(0, object)
        if column.dtype.kind not in "if" or column.ndim not in (1, 2) or len(column) != count or not is_within(column):
            text = f"property '{key}' is not a finite number, or up to four, for each of {count} places."
            raise InputError(text, file=path, place=place)
        columns[str(key)] = column
    return columns
