"""TOML files (https://toml.io/en/v1.0.0): what one says, and where in it each key and value stands."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal

from pribble.cached_property import cached_property
from pribble.errors import DataError, Place, PribbleError, Source
from pribble.regexes import regex

# The way to a value: names of tables and keys, numbers in arrays.
Keys = tuple[str | int, ...]
# Which of the two an error is about.
At = Literal["key", "value"]
_AT = regex(r"\(at line (\d+), column (\d+)\)$")


class TomlFile:
    """A TOML file: its `data`, and errors about them that show their place.

    Raises `DataError` for what is no TOML.
    """

    def __init__(self, name: str, text: str) -> None:
        self.source = Source(name, text)
        try:
            self.data: dict[str, Any] = tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            raise self._no_toml(str(error)) from None
        except RecursionError:
            raise DataError(f"{name}: tables and arrays are nested too deeply") from None

    @classmethod
    def read(cls, path: Path) -> TomlFile:
        """Returns the file at a path.  Raises `OSError` as well, and `DataError` for what is no UTF-8."""
        try:
            return cls(str(path), path.read_bytes().decode("utf-8-sig").replace("\r\n", "\n"))
        except UnicodeDecodeError as error:
            raise DataError(f"{path}: this is no UTF-8 ({error.reason} at byte {error.start})") from None

    def _no_toml(self, said: str) -> DataError:
        text = self.source.text
        found = _AT.search(said)
        offset = len(text)
        if found:
            lines = text.split("\n")
            offset = sum(len(line) + 1 for line in lines[: int(found[1]) - 1]) + int(found[2]) - 1
        offset = min(offset, len(text))
        words = said.partition(" (at ")[0]
        return DataError(
            f"this is no TOML: {words[:1].lower()}{words[1:]}",
            place=self.source.place(offset, min(offset + 1, len(text))),
        )

    def wrong(self, problem: str, *keys: str | int, at: At = "key", hint: str | None = None) -> DataError:
        """Returns an error about what stands at the end of this way, or about the nearest that is there."""
        return DataError(problem, place=self.place(*keys, at=at), hint=hint)

    def place(self, *keys: str | int, at: At = "key") -> Place:
        """Returns where a key, or its value, stands."""
        found = self._places
        for end in range(len(keys), 0, -1):
            spans = found.get(keys[:end])
            if spans is not None:
                start, stop = spans[1] if at == "value" and end == len(keys) else spans[0]
                return self.source.place(start, stop)
        return self.source.place(0, 0)

    def wrong_within(self, error: PribbleError, *keys: str | int) -> DataError:
        """Returns an error about the text that is the value of a key, at its place in the file."""
        place = self.place(*keys, at="value")
        inner = error.place
        written = self.source.text[place.start + 1 : place.end - 1]
        if inner is not None and inner.source.text == written and "\\" not in written:
            place = self.source.place(place.start + 1 + inner.start, place.start + 1 + inner.end)
        elif inner is not None and inner.source.text != written:
            return DataError(error.problem, place=inner, hint=error.hint)  # in a file of its own
        return DataError(error.problem, place=place, hint=error.hint)

    @cached_property
    def _places(self) -> dict[Keys, tuple[tuple[int, int], tuple[int, int]]]:
        return _Scanner(self.source.text).places()


_SPACE = regex(r"(?:[ \t\n]|#[^\n]*)*")
_BLANK = regex(r"[ \t]*")
_BARE_KEY = regex(r"[A-Za-z0-9_-]+")
_BARE_VALUE = regex(r"[^,\]}#\n]*")
# A string, from its first quote; in basic ones a backslash takes the next character along.
_STRING = regex(
    r'"""(?:[^"\\]|\\[\s\S]|"{1,2}(?!"))*"{3,5}'
    r"|'''(?:[^']|'{1,2}(?!'))*'{3,5}"
    r'|"(?:[^"\\\n]|\\.)*"'
    r"|'[^'\n]*'"
)


class _Scanner:
    """Goes through a text that is known to be TOML, once."""

    def __init__(self, text: str) -> None:
        self._text, self._at = text, 0
        self._found: dict[Keys, tuple[tuple[int, int], tuple[int, int]]] = {}
        self._counts: dict[Keys, int] = {}

    def places(self) -> dict[Keys, tuple[tuple[int, int], tuple[int, int]]]:
        """Returns the stretches of each key and of its value."""
        table: Keys = ()
        while True:
            self._skip(_SPACE)
            if self._at >= len(self._text):
                return self._found
            if self._text[self._at] == "[":
                table = self._header()
            else:
                self._pair(table)

    def _skip(self, pattern: re.Pattern[str]) -> str:
        found = pattern.match(self._text, self._at)
        assert found is not None
        self._at = found.end()
        return found[0]

    def _header(self) -> Keys:
        """Returns the table that begins with ``[name]`` or ``[[name]]``."""
        start = self._at
        is_array = self._text.startswith("[[", start)
        self._at += 1 + is_array
        names = self._names()
        self._at += 1 + is_array
        keys: Keys = ()
        for number, name in enumerate(names):
            keys = (*keys, name)
            is_last = number == len(names) - 1
            if is_last and is_array:
                self._counts[keys] = self._counts.get(keys, -1) + 1
            if keys in self._counts:
                if is_last:
                    self._found.setdefault(keys, ((start, self._at), (start, self._at)))
                keys = (*keys, self._counts[keys])
        self._found.setdefault(keys, ((start, self._at), (start, self._at)))
        return keys

    def _names(self) -> list[str]:
        """Returns the names of a dotted key."""
        names = []
        while True:
            self._skip(_BLANK)
            if self._text[self._at] in "\"'":
                written = self._skip(_STRING)
                names.append(str(tomllib.loads(f"x = {written}")["x"]))
            else:
                names.append(self._skip(_BARE_KEY))
            self._skip(_BLANK)
            if self._text[self._at] != ".":
                return names
            self._at += 1

    def _pair(self, table: Keys) -> None:
        start = self._at
        keys: Keys = (*table, *self._names())
        end = start + len(self._text[start : self._at].rstrip())
        self._at += 1  # =
        self._skip(_BLANK)
        self._value(keys, (start, end))

    def _value(self, keys: Keys, key: tuple[int, int]) -> None:
        start, first = self._at, self._text[self._at]
        if first in "\"'":
            self._skip(_STRING)
        elif first == "[":
            self._many("]", lambda number: self._item(keys, number))
        elif first == "{":
            self._many("}", lambda number: self._pair(keys))
        else:
            self._at = start + len(self._skip(_BARE_VALUE).rstrip())
        self._found.setdefault(keys, (key, (start, self._at)))

    def _item(self, keys: Keys, number: int) -> None:
        start = self._at
        self._value((*keys, number), (start, start))
        self._found[*keys, number] = ((start, self._at), (start, self._at))

    def _many(self, closing: str, read: Callable[[int], None]) -> None:
        self._at += 1
        number = 0
        while True:
            self._skip(_SPACE)
            if self._text[self._at] == closing:
                self._at += 1
                return
            read(number)
            number += 1
            self._skip(_SPACE)
            if self._text[self._at] == ",":
                self._at += 1
