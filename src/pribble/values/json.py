"""Values as JSON (RFC 8259): the formatter, and values in a JSON text of a page."""

from __future__ import annotations

from decimal import Decimal
from json import dumps
from typing import Any

from pribble.errors import FieldError, LimitReached
from pribble.values.arithmetic import LONGEST_TEXT
from pribble.values.counting import fields
from pribble.values.fit import Json
from pribble.values.kinds import bounded, kind, named, plain
from pribble.values.numbers import Apply
from pribble.values.settings import Settings

_DEEPEST = 50
# In a page's script, < could begin its end tag, and & is written so for readers that see the page as XML.
_IN_SCRIPT = str.maketrans({c: f"\\u{ord(c):04x}" for c in "<>&\u2028\u2029"})


def json(settings: Settings) -> Apply:
    """A value as JSON, numbers in full, days and moments in ISO 8601."""
    return lambda value: Json(written(value))


def written(value: Any) -> str:
    """`value` as a JSON text."""
    made = _Written()
    made.write(value, 0)
    return "".join(made.pieces)


def in_script(json_text: str) -> str:
    """A JSON text within a script element: ``< > &`` as escapes, which stand in its strings only."""
    return json_text.translate(_IN_SCRIPT)


def characters(text: str) -> str:
    """A text within a JSON string of a script element."""
    return in_script(dumps(text, ensure_ascii=False)[1:-1])


class _Written:
    """A JSON text that is being written; it is no longer than is permitted at any time, however values are shared."""

    def __init__(self) -> None:
        self.pieces: list[str] = []
        self._room = LONGEST_TEXT

    def _add(self, piece: str) -> None:
        self._room -= len(piece)
        if self._room < 0:
            raise LimitReached(f"json makes a text of more than {LONGEST_TEXT:,} characters")
        self.pieces.append(piece)

    def write(self, value: Any, depth: int) -> None:
        if depth > _DEEPEST:
            raise LimitReached(f"json takes lists and records up to {_DEEPEST} within each other")
        value = plain(value)
        what = kind(value)
        if what == "list":
            self._add("[")
            for number, item in enumerate(value):
                self._add(", " if number else "")
                self.write(item, depth + 1)
            self._add("]")
        elif what == "record":
            self._add("{")
            for number, (name, item) in enumerate((fields(value) or {}).items()):
                self._add(f"{', ' if number else ''}{dumps(str(name), ensure_ascii=False)}: ")
                self.write(item, depth + 1)
            self._add("}")
        else:
            self._add(_scalar(value, what))


def _scalar(value: Any, what: str) -> str:
    match what:
        case "none" | "nothing":
            return "null"
        case "flag":
            return "true" if value else "false"
        case "number":
            return f"{bounded(value):f}" if isinstance(value, Decimal) else str(bounded(value))
        case "text":
            return dumps(value, ensure_ascii=False)
        case "day" | "time" | "moment":
            return f'"{value.isoformat()}"'
    raise FieldError(f"{named(value)} has no form in JSON")
