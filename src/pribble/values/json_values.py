"""Values as JSON (RFC 8259): the formatter, and values in a JSON text of a page."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from json import dumps

from pribble.errors import FieldError, LimitReached
from pribble.values.counting import join_counted, record_items
from pribble.values.kinds import Data, bounded, canonical, kind, named
from pribble.values.numbers import Apply
from pribble.values.safe_text import JsonText
from pribble.values.settings import Settings

_DEEPEST = 50
# In a page's script, < could begin its end tag, and & is written so for readers that see the page as XML.
_IN_SCRIPT = str.maketrans({c: f"\\u{ord(c):04x}" for c in "<>&\u2028\u2029"})


def json(settings: Settings) -> Apply:
    """Writes a value as JSON, with numbers in full, and days and moments in ISO 8601."""
    return lambda value: JsonText(json_text(value))


def json_text(value: Data) -> str:
    """Returns `value` as a JSON text."""
    return join_counted(_json_pieces(value, 0), "json")


def in_script(json_text: str) -> str:
    """Returns a JSON text within a script element: ``< > &`` as escapes, which stand in its strings only."""
    return json_text.translate(_IN_SCRIPT)


def json_characters(text: str) -> str:
    """Returns a text within a JSON string of a script element."""
    return in_script(dumps(text, ensure_ascii=False)[1:-1])


def _json_pieces(value: Data, depth: int) -> Iterator[str]:
    """Yields a JSON text in pieces, none of which is made before it is asked for, however values are shared."""
    if depth > _DEEPEST:
        raise LimitReached(f"json takes lists and records up to {_DEEPEST} within each other")
    value = canonical(value)
    what = kind(value)
    if what == "list":
        yield "["
        for number, item in enumerate(value):
            yield ", " if number else ""
            yield from _json_pieces(item, depth + 1)
        yield "]"
    elif what == "record":
        yield "{"
        for number, (name, item) in enumerate((record_items(value) or {}).items()):
            yield f"{', ' if number else ''}{dumps(str(name), ensure_ascii=False)}: "
            yield from _json_pieces(item, depth + 1)
        yield "}"
    else:
        yield _scalar(value, what)


def _scalar(value: Data, what: str) -> str:
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
