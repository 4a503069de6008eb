"""What a bare mark shows: texts as they are, numbers in plain digits, and nothing that could surprise."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal
from urllib.parse import unquote

from pribble.errors import FieldError, UnsafeValue
from pribble.values import json_values, url_values
from pribble.values.escaping import checked_characters, markup, one_line, plain_characters
from pribble.values.kinds import NOTHING, Data, bounded, canonical, kind
from pribble.values.safe_text import AddressText, EncodedText, Fragment, JsonText

MOST_BARE_DECIMALS = 6
_HOW_TO_SHOW = {
    "flag": ("a flag", 'choose its words: {{ "yes" if … else "no" }}'),
    "day": ("a day", 'say how: {{ … as date("long") }}'),
    "time": ("a time", 'say how: {{ … as time("short") }}'),
    "moment": ("a moment", 'say how: {{ … as datetime("short") }}'),
    "span": ("a span of time", "say how: {{ … as duration }}"),
    "list": ("a list", 'loop over it, or join it: {{ … as join(", ") }}'),
    "record": ("a record", "name one of its fields"),
    "picture": ("a picture", 'it stands in <img src="{{ … }}"> only'),
}


def text(value: Data) -> str:
    """Returns the text a bare value is shown as; raises `FieldError` for what has no one obvious form."""
    if value.__class__ is int:
        return plain_digits(value)
    if isinstance(value, Fragment) and value.trusted:
        raise UnsafeValue("markup can stand between tags only")
    value = canonical(value)
    if isinstance(value, str):
        return value
    if value is NOTHING:
        return ""
    if value is None:
        raise FieldError("none cannot be shown", hint='say what to show instead: {{ …? else "…" }}')
    if kind(value) == "number":
        return plain_digits(value)
    what, how = _HOW_TO_SHOW[kind(value)]
    raise FieldError(f"{what} cannot be shown as it is", hint=how)


def plain_digits(number: Decimal | int) -> str:
    """Returns a number in plain digits, with the decimals it was given with."""
    number = bounded(number)
    if isinstance(number, int):
        return str(number)
    exponent = number.as_tuple().exponent
    assert isinstance(exponent, int)
    if -exponent > MOST_BARE_DECIMALS:
        raise FieldError(f"a number with {-exponent} decimals is shown", hint="say how many: {{ … as number(2) }}")
    return f"{number:f}"


def show_markup(value: Data) -> str:
    """Returns a value between tags."""
    if isinstance(value, Fragment):
        return value.markup
    return markup(text(value))


def show_attribute(value: Data) -> str:
    """Returns a value in a quoted attribute."""
    return markup(text(value))


def show_plain(value: Data) -> str:
    """Returns a value in a plain text."""
    return plain_characters(text(value))


def show_line(value: Data) -> str:
    """Returns a value in a subject or preheader."""
    return one_line(text(value))


def show_address(value: Data) -> str:
    """Returns a value that is a whole address."""
    return str(value) if isinstance(value, AddressText) else url_values.whole_address(text(value))


def show_segment(value: Data) -> str:
    """Returns a value that is a segment of a path, or keeps one from being empty."""
    return url_values.encoded_path(str(value)) if isinstance(value, EncodedText) else url_values.segment(text(value))


def show_encoded(value: Data) -> str:
    """Returns a value that is a piece of a segment, of a query or of a fragment."""
    return str(value) if isinstance(value, EncodedText) else url_values.percent_encode(text(value))


def show_field(value: Data) -> str:
    """Returns a value in a field of a ``mailto:`` address."""
    return url_values.mailto_field(unquote(value) if isinstance(value, EncodedText) else text(value))


def show_json(value: Data) -> str:
    """Returns a value that is a whole value of a JSON text."""
    if value is None:
        text(value)
    return json_values.in_script(
        checked_characters(value if isinstance(value, JsonText) else json_values.json_text(value))
    )


def by_text(show: Callable[[str], str]) -> Callable[[Data], str]:
    """Returns a function for any value that shows its text so."""
    return lambda value: show(text(value))
