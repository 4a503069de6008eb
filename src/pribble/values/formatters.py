"""The formatters: what ``as`` can apply to a value.

Each is a function that takes the `Settings` (locale, time zone) and the formatter's own arguments and
returns the function that is applied to values.  Patterns and symbols come from Babel, once for each locale
and argument; applying them is ours, because a message may hold hundreds of amounts and dates.
"""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date as Day
from datetime import datetime as Moment
from decimal import ROUND_HALF_UP, Context, Decimal, InvalidOperation
from functools import lru_cache
from types import MappingProxyType
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from pribble.errors import FieldError
from pribble.values.kinds import NOTHING, bounded, kind, named, plain
from pribble.values.lookup import items
from pribble.values.showing import text as shown

if TYPE_CHECKING:
    from babel import Locale

MOST_DECIMALS = 20
_ROUNDING = Context(prec=60, rounding=ROUND_HALF_UP)

Apply = Callable[[Any], Any]


@dataclass(frozen=True, slots=True)
class Settings:
    """Where and when the reader is: a locale (``en_GB``) and a time zone (``Europe/Berlin``)."""

    locale: str = "en"
    timezone: str = "UTC"

    @property
    def babel(self) -> Locale:
        return _locale(self.locale)

    @property
    def zone(self) -> ZoneInfo:
        return ZoneInfo(self.timezone)


@lru_cache(maxsize=64)
def _locale(name: str) -> Locale:
    from babel import Locale  # loaded when first needed

    return Locale.parse(name.replace("-", "_"))


def prepared(name: str, settings: Settings, arguments: tuple[Any, ...], given: Mapping[str, Any]) -> Apply:
    """The formatter `name` with its arguments applied; what it returns takes the value.

    Nothing and, where a formatter cannot take it, none are dealt with here: nothing stays nothing.
    """
    apply: Apply = FORMATTERS[name](settings, *map(plain, arguments), **{k: plain(v) for k, v in given.items()})

    def formatter(value: Any) -> Any:
        if value is NOTHING:
            return NOTHING
        return apply(value)

    return formatter


def complaint(name: str, arguments: int, given: tuple[str, ...]) -> str | None:
    """What is wrong with calling formatter `name` with so many arguments and these named ones, or None."""
    try:
        inspect.signature(FORMATTERS[name]).bind(None, *[None] * arguments, **dict.fromkeys(given))
    except TypeError as error:
        return f"{name} {str(error).replace('argument: ', 'argument ')}"
    return None


# ---- text -----------------------------------------------------------------------------------------------------

_WORD = re.compile(r"[^\W\d_][\w’']*")


def _text(value: Any, formatter: str) -> str:
    value = plain(value)
    if isinstance(value, str):
        return value
    raise FieldError(f"{formatter} takes a text, not {named(value)}")


def _turkic(settings: Settings) -> bool:
    return settings.locale[:2] in ("tr", "az")


def upper(settings: Settings) -> Apply:
    """Capital letters."""
    dotted = _turkic(settings)
    return lambda value: (_text(value, "upper").replace("i", "İ") if dotted else _text(value, "upper")).upper()


def lower(settings: Settings) -> Apply:
    """Small letters."""
    dotted = _turkic(settings)

    def apply(value: Any) -> str:
        given = _text(value, "lower")
        return (given.replace("I", "ı").replace("İ", "i") if dotted else given).lower()

    return apply


def title(settings: Settings) -> Apply:
    """Each word with a capital first letter, the rest small."""
    first, rest = upper(settings), lower(settings)
    return lambda value: _WORD.sub(lambda word: first(word[0][0]) + rest(word[0][1:]), _text(value, "title"))


def join(settings: Settings, separator: str = ", ") -> Apply:
    """The items of a list, shown and joined."""
    between = _text(separator, "join")
    return lambda value: between.join(map(shown, items(value, "the value")))


def plural(settings: Settings, *, other: str, one: str | None = None, zero: str | None = None,
           two: str | None = None, few: str | None = None, many: str | None = None) -> Apply:
    """The word that goes with a number, by the CLDR plural categories of the locale; the word alone."""
    words = {"zero": zero, "one": one, "two": two, "few": few, "many": many}
    category = settings.babel.plural_form

    def apply(value: Any) -> str:
        word = words.get(category(_number(value, "plural")))
        return _text(other if word is None else word, "plural")

    return apply


# ---- numbers --------------------------------------------------------------------------------------------------


def _number(value: Any, formatter: str) -> Decimal | int:
    """A number, or a text that is one (as tables have them)."""
    value = plain(value)
    if kind(value) == "number":
        return bounded(value)
    if isinstance(value, str):
        try:
            number = Decimal(value.strip())
        except InvalidOperation:
            number = Decimal("NaN")
        if number.is_finite():
            return bounded(number)
        raise FieldError(f'{formatter} takes a number, and "{value[:40]}" is none')
    raise FieldError(f"{formatter} takes a number, not {named(value)}")


def _applied(settings: Settings, pattern: Any, decimals: int | None, name: str, symbol: str = "") -> Apply:
    """A CLDR number pattern as a function of a number; `decimals` None shows those the number has."""
    from babel import numbers

    locale = settings.babel
    point = numbers.get_decimal_symbol(locale)
    group = numbers.get_group_symbol(locale)
    minus = numbers.get_minus_sign_symbol(locale)
    primary, secondary = pattern.grouping
    unit = None if decimals is None else Decimal(1).scaleb(-decimals)
    before, after = (_affix(side, symbol) for side in (pattern.prefix[0], pattern.suffix[0]))
    below_before, below_after = (_affix(side, symbol, minus) for side in (pattern.prefix[1], pattern.suffix[1]))
    # Where a symbol of letters would touch the digits, CLDR's currency spacing puts a no-break space.
    if symbol and before.endswith(symbol) and symbol[-1].isalpha():
        before, below_before = before + "\u00a0", below_before + "\u00a0"
    if symbol and after.startswith(symbol) and symbol[0].isalpha():
        after, below_after = "\u00a0" + after, "\u00a0" + below_after
    usual = (primary, secondary) == (3, 3)
    separators = str.maketrans({",": group, ".": point})
    as_written = (group, point) == (",", ".")

    def apply(value: Any) -> str:
        number = value if value.__class__ is Decimal and value.is_finite() else Decimal(_number(value, name))
        rounded = bounded(number if unit is None else number.quantize(unit, None, _ROUNDING))
        if usual:
            figures = f"{abs(rounded):,f}"
            if not as_written:
                figures = figures.translate(separators)
        else:
            whole, _, fraction = f"{abs(rounded):f}".partition(".")
            figures = _grouped(whole, primary, secondary, group) + (point + fraction if fraction else "")
        return f"{below_before}{figures}{below_after}" if rounded < 0 else f"{before}{figures}{after}"

    return apply


def _affix(affix: str, symbol: str, minus: str = "-") -> str:
    return affix.replace("-", minus).replace("¤¤¤", symbol).replace("¤¤", symbol).replace("¤", symbol)


def _grouped(whole: str, primary: int, secondary: int, separator: str) -> str:
    """Digits in groups: the last of `primary` digits, those before of `secondary`."""
    head, groups = whole, []
    size = primary
    while len(head) > size:
        head, tail = head[:-size], head[-size:]
        groups.append(tail)
        size = secondary
    return separator.join([head, *reversed(groups)])


def _decimals(value: Any, formatter: str) -> int | None:
    if value is None:
        return None
    if kind(value) == "number" and 0 <= value <= MOST_DECIMALS and value == int(value):
        return int(value)
    raise FieldError(f"{formatter} takes a number of decimals from 0 to {MOST_DECIMALS}")


def number(settings: Settings, decimals: int | None = None) -> Apply:
    """A number as the locale writes it, rounded half up to `decimals`; by default with those it was given."""
    return _applied(settings, settings.babel.decimal_formats[None], _decimals(decimals, "number"), "number")


def money(settings: Settings, currency: str) -> Apply:
    """An amount in a currency (ISO 4217), with the currency's own decimals."""
    from babel import numbers

    code = _text(currency, "money")
    if code not in settings.babel.currencies:
        raise FieldError(f'"{code}" is no currency', hint='currencies have three letters: "EUR"')
    symbol = numbers.get_currency_symbol(code, settings.babel)
    pattern = settings.babel.currency_formats["standard"]
    return _applied(settings, pattern, numbers.get_currency_precision(code), "money", symbol)


# ---- dates ----------------------------------------------------------------------------------------------------

STYLES = ("short", "medium", "long", "full")


def _day(value: Any, settings: Settings) -> Day:
    """The day of a day, a moment (in the reader's time zone) or a text in ISO 8601."""
    value = plain(value)
    if isinstance(value, str):
        try:
            value = Day.fromisoformat(value) if len(value) <= 10 else Moment.fromisoformat(value)
        except ValueError:
            raise FieldError(f'date takes a day, and "{value[:40]}" is none',
                             hint="write days as 2026-07-03") from None
    if isinstance(value, Moment):
        return value.date() if value.tzinfo is None else value.astimezone(settings.zone).date()
    if isinstance(value, Day):
        return value
    raise FieldError(f"date takes a day, not {named(value)}")


def date(settings: Settings, style: str = "medium") -> Apply:
    """A day in one of the locale's styles (short, medium, long, full), or by a CLDR pattern."""
    from babel import dates

    style = _text(style, "date")
    pattern = str(settings.babel.date_formats[style]) if style in STYLES else style
    if style not in STYLES and not set(style) - set("abcdefghijklmnopqrstuvwxyz"):
        raise FieldError(f'date has no style "{style}"',
                         hint="it has short, medium, long, full, or a pattern: d MMMM y")
    fields = [_field(kind_, detail, settings) for kind_, detail in dates.tokenize_pattern(pattern)]

    def apply(value: Any) -> str:
        day = _day(value, settings)
        return "".join([field(day) for field in fields])

    return apply


_DAY_FIELDS = "GyYuQqMLwWdDFEec"


def _field(what: str, detail: Any, settings: Settings) -> Callable[[Day], str]:
    """One field of a CLDR date pattern (UTS 35, part 4, 8) as a function of a day."""
    from babel import dates

    if what == "chars":
        return lambda day: str(detail)
    letter, width = detail
    locale = settings.babel
    if letter not in _DAY_FIELDS:
        raise FieldError(f'a day has no "{letter}"', hint="a pattern for days is made of y M d E, as in d MMMM y")
    if letter == "d":
        return lambda day: f"{day.day:0{width}}"
    if letter == "y":
        return (lambda day: f"{day.year % 100:02}") if width == 2 else (lambda day: f"{day.year:0{width}}")
    if letter in "ML" and width <= 2:
        return lambda day: f"{day.month:0{width}}"
    context = "format" if letter in "ME" else "stand-alone"
    names_width = {3: "abbreviated", 4: "wide", 5: "narrow", 6: "short"}.get(width, "abbreviated")
    if letter in "ML":
        months = locale.months[context][names_width]
        return lambda day: str(months[day.month])
    if letter == "E":
        weekdays = locale.days[context][names_width]
        return lambda day: str(weekdays[day.weekday()])
    # The rest is rare enough for Babel's own way: quarters, weeks, eras.
    name = letter * width
    return lambda day: str(dates.DateTimeFormat(day, locale)[name])


FORMATTERS: Mapping[str, Callable[..., Apply]] = MappingProxyType({
    "upper": upper, "lower": lower, "title": title, "join": join, "plural": plural,
    "number": number, "money": money, "date": date,
})
