"""Formatters that make pieces of addresses, and whole addresses (RFC 3986)."""

from __future__ import annotations

from collections.abc import Mapping

from pribble.errors import FieldError
from pribble.values.counting import join_counted, record_items
from pribble.values.kinds import NOTHING, Data, canonical, named
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import AddressText, EncodedText
from pribble.values.settings import Settings
from pribble.values.showing import text as shown
from pribble.values.url_values import base as checked_base
from pribble.values.url_values import percent_encode, segment, whole_address


def url(settings: Settings) -> Apply:
    """Percent-encodes a whole text, ``/`` too."""
    return lambda value: EncodedText(percent_encode(shown(value)))


def path_segments(settings: Settings) -> Apply:
    """Percent-encodes a text as segments of a path: ``/`` stays."""

    def apply(value: Data) -> EncodedText:
        given = text_of(value, "path")
        if any(piece in (".", "..") for piece in given.split("/")):
            raise FieldError(f'"{given[:40]}" leads out of its path')
        return EncodedText("/".join(percent_encode(piece) for piece in given.split("/")))

    return apply


def query(settings: Settings) -> Apply:
    """Writes a record as the query of an address: ``name=value&…``; fields without a value are left out."""
    return lambda value: EncodedText(_query(_record(value)))


def link_address(settings: Settings, *pieces: Data, **parameters: Data) -> Apply:
    """Makes an address of a base, pieces of a path, each percent-encoded whole, and the parameters of a query."""

    def apply(value: Data) -> AddressText:
        base = checked_base(shown(value)) if pieces else whole_address(shown(value))
        made = "/".join([base, *(segment(piece) for piece in map(shown, pieces))])
        asked = _query(parameters)
        if asked and "#" in made:
            raise FieldError("an address with a fragment takes no parameters")
        return AddressText(whole_address(f"{made}{'&' if '?' in made else '?'}{asked}") if asked else made)

    return apply


def _record(value: Data) -> Mapping[str, Data]:
    found = record_items(value)
    if found is None:
        raise FieldError(f"query takes a record, not {named(canonical(value))}")
    return found


def _query(parameters: Mapping[str, Data]) -> str:
    pairs = ((name, canonical(value)) for name, value in parameters.items())
    said = ((name, value) for name, value in pairs if value is not None and value is not NOTHING)
    return join_counted(
        (
            f"{'&' if number else ''}{percent_encode(str(name))}={percent_encode(_parameter(value))}"
            for number, (name, value) in enumerate(said)
        ),
        "query",
    )


def _parameter(value: Data) -> str:
    return ("true" if value else "false") if isinstance(value, bool) else shown(value)
