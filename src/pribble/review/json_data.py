"""Data as JSON, and JSON as a page can hold it."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from decimal import Decimal
from itertools import islice

from pribble.regexes import regex
from pribble.values.kinds import Data, Opaque
from pribble.values.lookup import names, record_field

# What JSON is made of.
Json = str | int | float | bool | None | Sequence["Json"] | Mapping[str, "Json"]

_SURROGATE = regex("[\ud800-\udfff]")


# Data are shown so deep, and so many values of them.
_DEEPEST, _MOST = 100, 50_000
_LEFT_OUT = "…"


def plain_data(data: Data) -> Json:
    """Returns data as JSON has them; what it has no form for, as a text.  What is very deep or very much, as data that
    hold themselves, is left out."""
    return _PlainData().value(data, 0)


class _PlainData:
    def __init__(self) -> None:
        self._left = _MOST

    def value(self, data: Data, depth: int) -> Json:
        self._left -= 1
        if self._left < 0 or depth > _DEEPEST:
            return _LEFT_OUT
        if data is None or isinstance(data, str | bool | int | float):
            return data
        if isinstance(data, Mapping):
            return {str(name): self.value(data[name], depth + 1) for name in islice(data, max(0, self._left))}
        if isinstance(data, list | tuple):
            return [self.value(one, depth + 1) for one in data[: max(0, self._left)]]
        if isinstance(data, Decimal):
            return _json_number(data)
        if isinstance(data, Opaque) or not (fields := list(names(data))):
            return str(data)
        return {name: self.value(record_field(data, name), depth + 1) for name in fields}


def _json_number(data: Decimal) -> Json:
    """Returns a decimal as the number that it is, where a number of JSON's readers holds it; else as a text."""
    if data.is_finite() and -300 < data.adjusted() < 300:
        number = int(data) if data == data.to_integral_value() else float(data)
        if isinstance(number, int) or Decimal(repr(number)) == data:
            return number
    return str(data)


def json_for_pages(value: Json) -> str:
    """Returns JSON that can stand in an element of a page: nothing in it ends one, or begins a comment."""
    return written_json(value).replace("<", "\\u003c").replace(">", "\\u003e")


def written_json(value: Json, indent: int | None = None) -> str:
    """Returns JSON as UTF-8 can hold it: halves of surrogate pairs as U+FFFD."""
    separators = (",", ":") if indent is None else (",", ": ")
    return _SURROGATE.sub("\ufffd", json.dumps(value, ensure_ascii=False, separators=separators, indent=indent))
