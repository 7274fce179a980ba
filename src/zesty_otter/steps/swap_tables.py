"""Tables that say which mesh stands in place of which: CSV or TOML."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PrivateAttr, ValidationError, field_validator, model_validator

from zesty_otter._settings import Settings, read_settings, read_text
from zesty_otter.errors import InputError, UsageError, closest


def _numbers(value: Any) -> Any:
    """Three angles from ``"0 90 0"``."""
    if isinstance(value, str):
        try:
            value = [float(word) for word in value.replace(",", " ").split()]
        except ValueError:
            value = []
    if not isinstance(value, list | tuple) or len(value) != 3:
        raise ValueError("must be three numbers of degrees, such as 0 90 0")
    return value


class Row(Settings):
    """One line of a table: what is replaced, and by what."""

    name: str = Field(min_length=1, description="Name of a node or mesh to replace; * and ? stand for anything.")
    file: Path | None = Field(None, description="File with the new mesh, from the folder of the table.")
    node: str | None = Field(
        None, description="Node in that file, or in the scene itself without one; the whole file when empty."
    )
    turn: Annotated[tuple[float, float, float], BeforeValidator(_numbers)] = Field(
        (0.0, 0.0, 0.0), description="Degrees about X, then Y, then Z of the scene."
    )
    scale: float = Field(1.0, description="Multiplies the size.")
    pivot: Literal["keep", "base", "centre"] = Field(
        "keep", description="What comes to the old pivot: keep (the new pivot), base or centre of the new mesh."
    )
    unit: str | None = Field(None, description="Unit of the file, where it does not say.")
    axes: str | None = Field(None, description="Axes of the file, where it does not say.")
    _place: str = PrivateAttr("")

    @property
    def place(self) -> str:
        """Where it stands in its table."""
        return self._place

    def at(self, place: str) -> Row:
        """The row, told where it stands."""
        self._place = place
        return self

    @field_validator("scale")
    @classmethod
    def _is_a_scale(cls, value: float) -> float:
        if not (math.isfinite(value) and value > 0):
            raise ValueError("must be more than 0; mirror copies where they stand, not in the table")
        return value

    @field_validator("turn")
    @classmethod
    def _is_finite(cls, value: tuple[float, float, float]) -> tuple[float, float, float]:
        if not all(map(math.isfinite, value)):
            raise ValueError("must be three finite numbers of degrees")
        return value

    @field_validator("file")
    @classmethod
    def _is_a_path(cls, value: Path | None) -> Path | None:
        if value is not None and "\0" in str(value):
            raise ValueError("is not a path")
        return value

    @model_validator(mode="after")
    def _has_a_source(self) -> Row:
        if self.file is None and not self.node:
            raise ValueError("name a file, a node, or both")
        return self


class _Table(Settings):
    swap: tuple[Row, ...] = Field(min_length=1, description="What is replaced, and by what.")


def read_table(path: Path) -> tuple[Row, ...]:
    """The rows of a table, with files from its folder.

    Parameters
    ----------
    path : Path
        A ``.csv`` file with a line of names, or a ``.toml`` file with tables ``[[swap]]``.

    Returns
    -------
    tuple of Row

    Raises
    ------
    InputError
        When the file cannot be read.
    UsageError
        When a row makes no sense, or two have the same name; the message names the line.

    Examples
    --------
    >>> from pathlib import Path
    >>> _ = Path("swaps.csv").write_text("name,file,scale\\nreed_*,reed.glb,1.5\\n")
    >>> [(row.name, row.file.name, row.scale) for row in read_table(Path("swaps.csv"))]
    [('reed_*', 'reed.glb', 1.5)]
    """
    if path.suffix.lower() == ".toml":
        rows = [row.at(f"row {number}") for number, row in enumerate(read_settings(path, _Table).swap, 1)]
    elif path.suffix.lower() == ".csv":
        rows = _rows_of(path)
    else:
        raise UsageError("is not a table.", file=path, remedy="Write it as .csv or .toml.")
    seen: dict[str, Row] = {}
    for row in rows:
        if row.name in seen:
            problem = f"'{row.name}' is replaced twice, in {seen[row.name].place} as well."
            raise UsageError(problem, file=path, place=row.place, remedy="Remove one of the two.")
        seen[row.name] = row
    return tuple(row if row.file is None else row.model_copy(update={"file": path.parent / row.file}) for row in rows)


def _rows_of(path: Path) -> list[Row]:
    text = read_text(path)
    # Spreadsheets of several countries write semicolons.
    head = text.partition("\n")[0]
    reader = csv.DictReader(io.StringIO(text), delimiter=";" if head.count(";") > head.count(",") else ",")
    known = list(Row.model_fields)
    for key in reader.fieldnames or ():
        if key.strip() not in known:
            problem = f"'{key}' is not a column; there are {', '.join(known)}.{closest(key, known)}"
            raise UsageError(problem, file=path, place="line 1")
    if "name" not in [key.strip() for key in reader.fieldnames or ()]:
        raise UsageError("has no column 'name'.", file=path, place="line 1", remedy="Begin with: name,file,node")
    rows = []
    try:
        for line in reader:
            if any(value for value in line.values()):
                rows.append(_row(path, reader.line_num, line))
    except csv.Error as error:
        raise InputError(f"is not CSV: {error}.", file=path, place=f"line {reader.line_num}") from None
    if not rows:
        raise UsageError("has no rows.", file=path, remedy="Add a line for each mesh to replace.")
    return rows


def _row(path: Path, line: int, values: Mapping[str | None, Any]) -> Row:
    place = f"line {line}"
    if None in values:
        raise UsageError("has more values than there are columns.", file=path, place=place)
    said = {str(key).strip(): value.strip() for key, value in values.items() if value and value.strip()}
    try:
        return Row(**said).at(place)
    except ValidationError as error:
        problem = error.errors()[0]
        key = f"{problem['loc'][0]}: " if problem["loc"] else ""
        message = problem["msg"].removeprefix("Value error, ").replace("Input should be", "must be")
        given = problem.get("input")
        shown = f" (given: {given!r})" if isinstance(given, str) else ""
        raise UsageError(f"{key}{message}{shown}.", file=path, place=place) from None
