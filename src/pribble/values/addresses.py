"""Formatters that make pieces of addresses (RFC 3986), whole addresses, and JSON."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from json import dumps
from typing import Any
from urllib.parse import quote

from pribble.errors import FieldError, LimitReached
from pribble.values.arithmetic import LONGEST_TEXT
from pribble.values.escaping import url as checked_url
from pribble.values.escaping import url_query
from pribble.values.fit import Address, Encoded
from pribble.values.kinds import NOTHING, field_names, kind, named, plain
from pribble.values.numbers import Apply, text_of
from pribble.values.settings import Settings
from pribble.values.showing import text as shown


def url(settings: Settings) -> Apply:
    """A text percent-encoded whole, ``/`` too."""
    return lambda value: Encoded(url_query(shown(value)))


def path(settings: Settings) -> Apply:
    """A text percent-encoded as several segments of a path: ``/`` stays."""

    def apply(value: Any) -> Encoded:
        given = text_of(value, "path")
        if any(segment in (".", "..") for segment in given.split("/")):
            raise FieldError(f'"{given[:40]}" leads out of its path')
        return Encoded("/".join(url_query(segment) for segment in given.split("/")))

    return apply


def query(settings: Settings) -> Apply:
    """A record as the query of an address: ``name=value&…``; fields that are nothing or none are left out."""
    return lambda value: Encoded(_query(_record(value)))


def link(settings: Settings, *pieces: Any, **parameters: Any) -> Apply:
    """An address made of a base, pieces of a path, each encoded whole, and the parameters of a query."""

    def apply(value: Any) -> Address:
        base = checked_url(shown(value))
        if pieces and ("?" in base or "#" in base):
            raise FieldError("an address that goes on may hold no query or fragment")
        segments = [quote(piece, safe="") for piece in map(shown, pieces)]
        if any(segment in ("", ".", "..") for segment in segments):
            raise FieldError("a piece of an address is empty, or leads out of it")
        made = "/".join([base.rstrip("/") if segments else base, *segments])
        asked = _query(parameters)
        return Address(f"{made}{'&' if '?' in made else '?'}{asked}" if asked else made)

    return apply


def _record(value: Any) -> Mapping[str, Any]:
    value = plain(value)
    if isinstance(value, Mapping):
        return value
    if kind(value) == "record":
        return {name: getattr(value, name) for name in field_names(value) or ()}
    raise FieldError(f"query takes a record, not {named(value)}")


def _query(parameters: Mapping[str, Any]) -> str:
    pairs = [(name, plain(value)) for name, value in parameters.items()]
    return "&".join(f"{url_query(str(name))}={url_query(_parameter(value))}" for name, value in pairs
                    if value is not None and value is not NOTHING)


def _parameter(value: Any) -> str:
    return ("true" if value else "false") if isinstance(value, bool) else shown(value)


def json(settings: Settings) -> Apply:
    """A value as JSON (RFC 8259), numbers in full, days and moments in ISO 8601."""

    def apply(value: Any) -> str:
        made = _json_text(value, 0)
        if len(made) > LONGEST_TEXT:
            raise LimitReached(f"json makes a text of more than {LONGEST_TEXT:,} characters")
        return made

    return apply


_DEEPEST_JSON = 50


def _json_text(value: Any, depth: int) -> str:
    if depth > _DEEPEST_JSON:
        raise LimitReached(f"json takes lists and records up to {_DEEPEST_JSON} within each other")
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
            return f"[{', '.join([_json_text(item, depth + 1) for item in value])}]"
        case "record":
            fields = [f"{dumps(str(name), ensure_ascii=False)}: {_json_text(inner, depth + 1)}"
                      for name, inner in _record(value).items()]
            return f"{{{', '.join(fields)}}}"
        case "day" | "time" | "moment":
            return f'"{value.isoformat()}"'
    raise FieldError(f"{named(value)} has no form in JSON")
