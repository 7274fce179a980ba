"""TOML files read into settings models, with complaints that point at the line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from zesty_otter.errors import InputError, UsageError, closest

T = TypeVar("T")
Key = tuple[str | int, ...]


class Settings(BaseModel):
    """A frozen table of a TOML file; keys it does not know are refused."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


M = TypeVar("M", bound=BaseModel)


def as_value(parse: Callable[[Any], T]) -> Callable[[Any], T]:
    """A validator that turns what a parser says of a wrong value into a complaint that points at its place."""

    def parsed(value: Any) -> T:
        try:
            return parse(value)
        except UsageError as error:
            raise ValueError(str(error)) from None

    return parsed


def read_text(path: Path) -> str:
    """The text in a file.

    Raises
    ------
    InputError
        When the file cannot be read or is no UTF-8.
    """
    try:
        return path.read_text("utf-8-sig")
    except FileNotFoundError:
        raise InputError("there is no such file.", file=path, remedy="Check the path.") from None
    except IsADirectoryError:
        raise InputError(
            "is a folder, not a file.", file=path, remedy=f"Name a {path.suffix or '.toml'} file."
        ) from None
    except UnicodeDecodeError:
        raise InputError("is not UTF-8 text.", file=path, remedy="Save it as UTF-8.") from None
    except OSError as error:
        raise InputError(f"could not be read: {error.strerror or error}.", file=path) from None


def read_settings(path: Path, model: type[M]) -> M:
    """The settings in a TOML file.

    Raises
    ------
    InputError
        When the file cannot be read or is no TOML.
    UsageError
        When a key or value makes no sense; the message names the line and the near word.
    """
    text = read_text(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.fullmatch(r"(.*?) \(at (line \d+).*\)", str(error))
        problem, place = (found[1], found[2]) if found else (str(error), None)
        raise InputError(f"is not TOML: {problem}.", file=path, place=place) from None
    try:
        return model(**data)
    except ValidationError as error:
        raise _complaint(path, text, model, error) from None


def _complaint(path: Path, text: str, model: type[BaseModel], error: ValidationError) -> UsageError:
    problem = error.errors()[0]
    places = _Places(text)
    key: Key = tuple(part for part in problem["loc"] if places.knows(part))
    message = problem["msg"].removeprefix("Value error, ").replace("Input should be", "must be").rstrip(".")
    name = ".".join(str(part) for part in key if isinstance(part, str))
    if problem["type"] == "extra_forbidden":
        known = _fields_at(model, key[:-1])
        there = ", ".join(known)
        text = f"'{name}' is not a key; there are {there}.{closest(str(key[-1]), known)}"
    else:
        given = problem.get("input")
        words = message.split("'")[1::2]
        near = closest(given, words) if isinstance(given, str) and message.startswith("must be") else ""
        said = f" (given: {given!r})" if isinstance(given, str | int | float) and repr(given) not in message else ""
        text = f"{name}: {message}{said}{'' if message.endswith('?') else '.'}{near}"
        # A step is one value here; the setting it complains of has a line of its own.
        setting = re.search(r"setting '(\w+)'", message)
        if setting and places.line((*key, setting[1])):
            key = (*key, setting[1])
    line = places.line(key)
    return UsageError(text, file=path, place=f"line {line}" if line else None)


def _fields_at(model: type[BaseModel], key: Sequence[str | int]) -> list[str]:
    """The keys of the table a key path leads to."""
    for part in key:
        if isinstance(part, str) and part in model.model_fields:
            inner = _model_in(model.model_fields[part].annotation)
            model = inner or model
    return list(model.model_fields)


def _model_in(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    for inner in getattr(annotation, "__args__", ()):
        found = _model_in(inner)
        if found:
            return found
    return None


_KEY = re.compile(r"""\s*("(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_-]+)\s*""")
_STRING = re.compile(r'"""(?:[^\\]|\\.)*?"{3,5}|\'\'\'.*?\'{3,5}|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'', re.DOTALL)
_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_PLAIN = re.compile(r"[^,\]}\n#]*")


class _Places:
    """The line of every key and value in the text of a TOML file that is known to be right."""

    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.lines: dict[Key, int] = {}
        self._rows: dict[Key, int] = {}
        table: Key = ()
        self._skip()
        while self.at < len(text):
            if text[self.at] == "[":
                table = self._header()
            else:
                self._pair(table)
            self._skip()

    def line(self, key: Key) -> int:
        """The line of a key, or of the nearest table around it; 0 when there is none."""
        for size in range(len(key), 0, -1):
            if key[:size] in self.lines:
                return self.lines[key[:size]]
        return 0

    def knows(self, part: str | int) -> bool:
        """Whether a part of a location is a key or number of this file, and not a word of the validator's."""
        return any(part in key for key in self.lines)

    def _skip(self) -> None:
        found = _BLANK.match(self.text, self.at)
        self.at = found.end() if found else self.at

    def _keys(self) -> list[str]:
        keys: list[str] = []
        while True:
            found = _KEY.match(self.text, self.at)
            if found is None:
                return keys
            keys.append(found[1].strip("\"'"))
            self.at = found.end()
            if self.text[self.at : self.at + 1] != ".":
                return keys
            self.at += 1

    def _mark(self, key: Key) -> Key:
        self.lines.setdefault(key, self.text.count("\n", 0, self.at) + 1)
        return key

    def _header(self) -> Key:
        double = self.text.startswith("[[", self.at)
        self.at += 2 if double else 1
        names = self._keys()
        key: Key = ()
        for number, name in enumerate(names):
            key = (*key, name)
            if double and number == len(names) - 1:
                self._rows[key] = self._rows.get(key, -1) + 1
            if key in self._rows:
                self._mark(key)
                key = (*key, self._rows[key])
        self.at += 2 if double else 1
        return self._mark(key)

    def _pair(self, table: Key) -> None:
        start = self.at
        key = (*table, *self._keys())
        end, self.at = self.at, start
        self._mark(key)
        self.at = end + 1  # behind the equals sign
        self._value(key)

    def _value(self, key: Key) -> None:
        self._skip()
        self._mark(key)
        opening = self.text[self.at : self.at + 1]
        if opening == "[":
            self._items(key, "]", numbered=True)
        elif opening == "{":
            self._items(key, "}", numbered=False)
        else:
            found = _STRING.match(self.text, self.at) or _PLAIN.match(self.text, self.at)
            self.at = found.end() if found else self.at + 1

    def _items(self, key: Key, closing: str, *, numbered: bool) -> None:
        self.at += 1
        number = 0
        while True:
            self._skip()
            if self.at >= len(self.text) or self.text[self.at] == closing:
                self.at += 1
                return
            if numbered:
                self._value((*key, number))
            else:
                self._pair(key)
            number += 1
            self._skip()
            self.at += self.text[self.at : self.at + 1] == ","
