"""Values as JSON (RFC 8259): the formatter, and values in a JSON text of a page."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from json import dumps
from typing import Any

from pribble.errors import FieldError, LimitReached
from pribble.values.arithmetic import LONGEST_TEXT
from pribble.values.fit import Json
from pribble.values.kinds import field_names, kind, named, plain
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
    made = _text(value, 0)
    if len(made) > LONGEST_TEXT:
        raise LimitReached(f"json makes a text of more than {LONGEST_TEXT:,} characters")
    return made


def in_script(json_text: str) -> str:
    """A JSON text within a script element: ``< > &`` as escapes, which stand in its strings only."""
    return json_text.translate(_IN_SCRIPT)


def characters(text: str) -> str:
    """A text within a JSON string of a script element."""
    return in_script(dumps(text, ensure_ascii=False)[1:-1])


def fields(value: Any) -> Mapping[str, Any] | None:
    """The fields of a record; None for any other value."""
    value = plain(value)
    if isinstance(value, Mapping):
        return value
    if kind(value) == "record":
        return {name: getattr(value, name) for name in field_names(value) or ()}
    return None


def _text(value: Any, depth: int) -> str:
    if depth > _DEEPEST:
        raise LimitReached(f"json takes lists and records up to {_DEEPEST} within each other")
    value = plain(value)
    match kind(value):
        case "none" | "nothing":
            return "null"
        case "flag":
            return "true" if value else "false"
        case "number":
            return f"{value:f}" if isinstance(value, Decimal) else str(value)
        case "text":
            return dumps(value, ensure_ascii=False)
        case "list":
            return f"[{', '.join([_text(item, depth + 1) for item in value])}]"
        case "record":
            inner = [
                f"{dumps(str(name), ensure_ascii=False)}: {_text(item, depth + 1)}"
                for name, item in (fields(value) or {}).items()
            ]
            return f"{{{', '.join(inner)}}}"
        case "day" | "time" | "moment":
            return f'"{value.isoformat()}"'
    raise FieldError(f"{named(value)} has no form in JSON")
