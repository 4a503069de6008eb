"""The formatters: what ``as`` can apply to a value.

Each is a function that takes the `Settings` (locale, time zone) and the formatter's own arguments and
returns the function that is applied to values.  Patterns and symbols come from Babel, once for each locale
and argument; applying them is ours, because a message may hold hundreds of amounts and dates.
"""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping
from itertools import islice
from types import MappingProxyType
from typing import Any

from pribble.errors import FieldError, LimitReached
from pribble.graphemes import graphemes
from pribble.values import address_formatters, dates, json_values, list_formatters, numbers
from pribble.values.counting import LONGEST_TEXT
from pribble.values.escaping import markup
from pribble.values.kinds import NOTHING, canonical, kind, whole_number
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import Fragment
from pribble.values.settings import Settings
from pribble.values.showing import text as shown

Factory = Callable[..., Apply]

# ---- text -----------------------------------------------------------------------------------------------------

_WORD = re.compile(r"[^\W\d_][\w’']*")


def _turkic(settings: Settings) -> bool:
    return settings.locale[:2] in ("tr", "az")


def upper(settings: Settings) -> Apply:
    """Capital letters."""
    dotted = _turkic(settings)
    return lambda value: (text_of(value, "upper").replace("i", "İ") if dotted else text_of(value, "upper")).upper()


def lower(settings: Settings) -> Apply:
    """Small letters."""
    dotted = _turkic(settings)

    def apply(value: Any) -> str:
        given = text_of(value, "lower")
        return (given.replace("I", "ı").replace("İ", "i") if dotted else given).lower()

    return apply


def title(settings: Settings) -> Apply:
    """Each word with a capital first letter, the rest small."""
    first, rest = upper(settings), lower(settings)
    return lambda value: _WORD.sub(lambda word: f"{first(word[0][0])}{rest(word[0][1:])}", text_of(value, "title"))


def capital(settings: Settings) -> Apply:
    """The first letter a capital, the rest as it is."""
    first = upper(settings)

    def apply(value: Any) -> str:
        given = text_of(value, "capital")
        begun = next(graphemes(given), "")
        return f"{first(begun)}{given[len(begun) :]}"

    return apply


def change(settings: Settings, old: str, new: str) -> Apply:
    """Wherever the text has `old`, it has `new`."""
    before, after = text_of(old, "change"), text_of(new, "change")
    if not before:
        raise FieldError("change takes a text that is changed, and this one is empty")

    def apply(value: Any) -> str:
        given = text_of(value, "change")
        if len(given) + given.count(before) * (len(after) - len(before)) > LONGEST_TEXT:
            raise LimitReached(f"change makes a text of more than {LONGEST_TEXT:,} characters")
        return given.replace(before, after)

    return apply


def trim(settings: Settings) -> Apply:
    """Without white space at its ends."""
    return lambda value: text_of(value, "trim").strip()


def shorten(settings: Settings, size: int) -> Apply:
    """At most `size` characters as a reader counts them, the "…" of a shortened text included."""
    most = whole_number(size, 1, 100_000) if kind(size) == "number" else None
    if most is None:
        raise FieldError("shorten takes a whole number of characters from 1")

    def apply(value: Any) -> str:
        given = text_of(value, "shorten")
        if len(given) <= most:
            return given
        characters = list(islice(graphemes(given), most + 1))
        if len(characters) <= most:
            return given
        return "".join(characters[: most - 1]).rstrip() + "…"

    return apply


def breaks(settings: Settings) -> Apply:
    """A text whose line breaks are shown: ``<br>`` between tags, line breaks in the plain text."""

    def apply(value: Any) -> Fragment:
        lines = re.split(r"\r\n|\r|\n", shown(value))
        return Fragment.of("\n".join(lines), "<br>\n".join(map(markup, lines)))

    return apply


FORMATTERS: Mapping[str, Factory] = MappingProxyType(
    {
        "upper": upper,
        "lower": lower,
        "title": title,
        "capital": capital,
        "change": change,
        "trim": trim,
        "shorten": shorten,
        "breaks": breaks,
        "plural": numbers.plural,
        "number": numbers.number,
        "percent": numbers.percent,
        "money": numbers.money,
        "bytesize": numbers.bytesize,
        "round": numbers.round_,
        "digits": numbers.padded_digits,
        "decimal": numbers.decimal,
        "date": dates.date,
        "time": dates.time,
        "datetime": dates.datetime,
        "duration": dates.duration,
        "day": dates.day,
        "moment": dates.moment,
        "count": list_formatters.count,
        "first": list_formatters.first,
        "last": list_formatters.last,
        "reverse": list_formatters.reverse,
        "join": list_formatters.join,
        "rows": list_formatters.rows,
        "sum": list_formatters.sum_,
        "least": list_formatters.least,
        "greatest": list_formatters.greatest,
        "sort": list_formatters.sort,
        "keep": list_formatters.keep_items,
        "by": list_formatters.by,
        "url": address_formatters.url,
        "path": address_formatters.path_segments,
        "query": address_formatters.query,
        "link": address_formatters.link_address,
        "json": json_values.json,
    }
)
# Those that go through the items of a list, and so count as turns.
WALKING = frozenset({"reverse", "join", "rows", "sum", "least", "greatest", "sort", "keep", "by", "table", "query"})
# Those that go through all that stands within the value; and those that count by themselves what they go through, for
# which they are given what counts it.
DEEP, COUNTING = frozenset({"json"}), frozenset({"by", "table"})
# Those that deal with nothing themselves.
_KNOWS_NOTHING = frozenset({list_formatters.count, numbers.number, numbers.money, dates.date})
# Those that need an expression over an item's fields.
_NEEDS_EXPRESSION = frozenset({"keep", "by"})


def prepared(factory: Factory, settings: Settings, arguments: tuple[Any, ...], given: Mapping[str, Any]) -> Apply:
    """A formatter with its arguments applied; what it returns takes the value.

    Nothing stays nothing, but for formatters that say otherwise (``count``).
    """
    apply = factory(settings, *map(canonical, arguments), **{name: canonical(value) for name, value in given.items()})
    if factory in _KNOWS_NOTHING:
        return apply

    def formatter(value: Any, *each: Any) -> Any:
        if value is NOTHING:
            return NOTHING
        return apply(value, *each)

    return formatter


def complaint(name: str, factory: Factory, arguments: int, given: tuple[str, ...], *, per_item: bool) -> str | None:
    """What is wrong with calling a formatter with so many arguments and these named ones, or None."""
    if name in _NEEDS_EXPRESSION and not per_item:
        return f'{name} takes an expression over an item\'s fields: {name}("paid")'
    try:
        inspect.signature(factory).bind(None, *[None] * arguments, **dict.fromkeys(given))
    except TypeError as error:
        return f"{name}: {error}"
    return None


def application_formatter(function: Callable[..., Any]) -> Factory:
    """A formatter of the application's own: ``function(value, *arguments, locale=…)``."""

    def factory(settings: Settings, *arguments: Any, **given: Any) -> Apply:
        return lambda value: function(canonical(value), *arguments, **given, locale=settings.locale)

    vars(factory)[_OF_APPLICATION] = True
    return factory


_OF_APPLICATION = "is_of_application"


def is_of_application(factory: Factory) -> bool:
    """Whether a formatter is one of the application's own."""
    return _OF_APPLICATION in vars(factory)
