"""Data as JSON, and JSON as a page can hold it."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from decimal import Decimal

from pribble.values.kinds import Data

# What JSON is made of.
Json = str | int | float | bool | None | Sequence["Json"] | Mapping[str, "Json"]

_SURROGATE = re.compile("[\ud800-\udfff]")


def plain_data(data: Data) -> Json:
    """Returns data as JSON has them; what it has no form for, as a text."""
    if data is None or isinstance(data, str | bool | int | float):
        return data
    if isinstance(data, Mapping):
        return {str(name): plain_data(value) for name, value in data.items()}
    if isinstance(data, list | tuple):
        return [plain_data(value) for value in data]
    if isinstance(data, Decimal) and data.is_finite() and -300 < data.adjusted() < 300:
        number = int(data) if data == data.to_integral_value() else float(data)
        if isinstance(number, int) or Decimal(repr(number)) == data:
            return number
    return str(data)


def json_for_pages(value: Json) -> str:
    """Returns JSON that can stand in an element of a page: nothing in it ends one, or begins a comment."""
    return json_text(value).replace("<", "\\u003c").replace(">", "\\u003e")


def json_text(value: Json, indent: int | None = None) -> str:
    """Returns JSON as UTF-8 can hold it: halves of surrogate pairs as U+FFFD."""
    separators = (",", ":") if indent is None else (",", ": ")
    return _SURROGATE.sub("\ufffd", json.dumps(value, ensure_ascii=False, separators=separators, indent=indent))
