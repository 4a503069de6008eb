"""Formatters that make pieces of addresses, and whole addresses (RFC 3986)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pribble.errors import FieldError
from pribble.values import url_values
from pribble.values.counting import fields, together
from pribble.values.kinds import NOTHING, named, plain
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import Address, Encoded
from pribble.values.settings import Settings
from pribble.values.showing import text as shown


def url(settings: Settings) -> Apply:
    """A text percent-encoded whole, ``/`` too."""
    return lambda value: Encoded(url_values.encoded(shown(value)))


def path(settings: Settings) -> Apply:
    """A text percent-encoded as several segments of a path: ``/`` stays."""

    def apply(value: Any) -> Encoded:
        given = text_of(value, "path")
        if any(segment in (".", "..") for segment in given.split("/")):
            raise FieldError(f'"{given[:40]}" leads out of its path')
        return Encoded("/".join(url_values.encoded(segment) for segment in given.split("/")))

    return apply


def query(settings: Settings) -> Apply:
    """A record as the query of an address: ``name=value&…``; fields that are nothing or none are left out."""
    return lambda value: Encoded(_query(_record(value)))


def link(settings: Settings, *pieces: Any, **parameters: Any) -> Apply:
    """An address made of a base, pieces of a path, each encoded whole, and the parameters of a query."""

    def apply(value: Any) -> Address:
        base = url_values.base(shown(value)) if pieces else url_values.whole(shown(value))
        made = "/".join([base, *(url_values.segment(piece) for piece in map(shown, pieces))])
        asked = _query(parameters)
        if asked and "#" in made:
            raise FieldError("an address with a fragment takes no parameters")
        return Address(url_values.whole(f"{made}{'&' if '?' in made else '?'}{asked}") if asked else made)

    return apply


def _record(value: Any) -> Mapping[str, Any]:
    found = fields(value)
    if found is None:
        raise FieldError(f"query takes a record, not {named(plain(value))}")
    return found


def _query(parameters: Mapping[str, Any]) -> str:
    pairs = ((name, plain(value)) for name, value in parameters.items())
    said = ((name, value) for name, value in pairs if value is not None and value is not NOTHING)
    return together(
        (
            f"{'&' if number else ''}{url_values.encoded(str(name))}={url_values.encoded(_parameter(value))}"
            for number, (name, value) in enumerate(said)
        ),
        "query",
    )


def _parameter(value: Any) -> str:
    return ("true" if value else "false") if isinstance(value, bool) else shown(value)
