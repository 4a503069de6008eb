"""Texts as tables have them, read as numbers, days and moments: by the symbols of a locale (UTS 35, part 3, 2.3), or by
a CLDR pattern (UTS 35, part 4, 8)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from decimal import Decimal

from pribble.errors import FieldError
from pribble.regexes import regex
from pribble.values.kinds import Data, bounded
from pribble.values.settings import Settings

# No number, day or moment that a table holds is longer.
_LONGEST = 200
_SPACES = "[ \u00a0\u202f\u2009]"
_MINUS = "[-\u2212\u2010-\u2012]"
# What is written for what CLDR has: any space for a space, any apostrophe for an apostrophe.
_ALIKE = {**dict.fromkeys(" \u00a0\u202f", _SPACES), **dict.fromkeys("'\u2019", "['\u2019]")}


def number_reader(settings: Settings, formatter: str) -> Callable[[str], Decimal | int]:
    """Reads numbers as the locale writes them: its decimal sign, and its groups, whole or not at all."""
    from babel import numbers

    locale = settings.babel
    point, group = (_alike(numbers.get_decimal_symbol(locale)), _alike(numbers.get_group_symbol(locale)))
    last, others = locale.decimal_formats[None].grouping
    grouped = rf"[0-9]{{1,{others}}}(?:{group}[0-9]{{{others}}})*{group}[0-9]{{{last}}}"
    written = re.compile(rf"(?P<minus>{_MINUS})?\+?(?P<whole>{grouped}|[0-9]+)(?:{point}(?P<rest>[0-9]+))?")
    example = f"1{numbers.get_group_symbol(locale)}234{numbers.get_decimal_symbol(locale)}50"

    def read(text: str) -> Decimal | int:
        text = text.strip()
        found = written.fullmatch(text) if len(text) <= _LONGEST else None
        if found is None:
            raise FieldError(
                f'{formatter} takes a number as {settings.locale} writes it, and "{text[:40]}" is none',
                hint=f"one is written {example}",
            )
        whole = re.sub("[^0-9]", "", found["whole"])
        made = Decimal(f"{whole}.{found['rest']}") if found["rest"] else int(whole)
        return bounded(-made if found["minus"] else made)

    return read


def _alike(symbol: str) -> str:
    return _ALIKE.get(symbol) or re.escape(symbol)


# ---- days and moments -----------------------------------------------------------------------------------------

_DIGITS = {
    **dict.fromkeys(("d", "M", "L", "H", "h", "K", "k", "m", "s"), "[0-9]{1,2}"),
    "y": "[0-9]{4}",
    "u": "[0-9]{4}",
    "S": "[0-9]{1,6}",
}
_OFFSET = "[+-][0-9]{2}:?[0-9]{2}|Z"
_READ = "d M y for days, H m s a for times, x for an offset"


def moment_reader(pattern: str, settings: Settings, formatter: str) -> Callable[[str], datetime]:
    """Reads days and moments by a pattern; raises `FieldError` for one with a field that cannot be read."""
    fields = list(cut_pattern(pattern))
    written = re.compile("".join(_pattern_groups(fields, settings)), re.IGNORECASE)
    names = _names_of_locale(settings)

    def read(text: str) -> datetime:
        text = text.strip()
        found = written.fullmatch(text) if len(text) <= _LONGEST else None
        try:
            if found is not None:
                return _parsed_moment(
                    {key: value for key, value in found.groupdict().items() if value is not None}, names
                )
        except ValueError:
            pass  # no such day or time, of which the next line speaks
        raise FieldError(f'{formatter} reads "{pattern}", and "{text[:40]}" is none')

    return read


def _pattern_groups(fields: list[tuple[bool, str]], settings: Settings) -> Iterator[str]:
    """Yields the pieces of a pattern as those of a regular expression, a group for each field."""
    met: set[str] = set()
    for is_field, text in fields:
        if not is_field:
            yield "".join([_ALIKE.get(character) or re.escape(character) for character in text])
            continue
        letter, width = text[0], len(text)
        if letter in met:
            raise FieldError(f'a pattern that is read has "{letter}" twice')
        met.add(letter)
        if letter in "ML" and width > 2:
            choices = _choices(settings.babel.months, width)
        elif letter in "Ec":
            choices = _choices(settings.babel.days, max(width, 3))
        elif letter == "a":
            choices = "|".join(sorted(map(re.escape, _periods(settings)), key=len, reverse=True))
        elif letter in "xXZ":
            choices = _OFFSET
        elif letter in _DIGITS:
            choices = "[0-9]{2}" if letter == "y" and width == 2 else _DIGITS[letter]
        else:
            raise FieldError(f'a pattern that is read has no "{letter}"', hint=f"there are {_READ}")
        yield f"(?P<{letter}{'2' if text == 'yy' else ''}>{choices})"


def _choices(names: Data, width: int) -> str:
    found = {str(name) for context in ("format", "stand-alone") for name in _of_width(names[context], width).values()}
    # Abbreviated, names are written with their dot and without.
    return "|".join(f"{re.escape(name.rstrip('.'))}\\.?" for name in sorted(found, key=len, reverse=True))


def _of_width(names: Data, width: int) -> Mapping[int, str]:
    found: Mapping[int, str] = names[{3: "abbreviated", 4: "wide"}.get(width, "wide")]
    return found


def _periods(settings: Settings) -> dict[str, bool]:
    """Returns the words for the halves of a day, and whether each is the second."""
    found = {"am": False, "pm": True}
    for context in settings.babel.day_periods.values():
        for names in context.values():
            found |= {str(name).lower(): key == "pm" for key, name in names.items() if key in ("am", "pm")}
    return found


def _names_of_locale(settings: Settings) -> Mapping[str, Data]:
    months: dict[str, int] = {}
    for context in ("format", "stand-alone"):
        for width in ("abbreviated", "wide"):
            names: Mapping[int, str] = settings.babel.months[context][width]
            months |= {str(name).rstrip(".").lower(): number for number, name in names.items()}
    return {"months": months, "periods": _periods(settings)}


def _parsed_moment(found: Mapping[str, str], names: Mapping[str, Data]) -> datetime:
    """Returns the moment that the groups of a pattern come to; raises `ValueError` where there is none."""
    month = found.get("M") or found.get("L") or "1"
    hour = int(found.get("H") or found.get("k") or found.get("h") or found.get("K") or 0)
    if "h" in found or "K" in found:
        if hour > 12:
            raise ValueError
        hour = hour % 12 + 12 * bool(names["periods"][found["a"].lower()] if "a" in found else False)
    elif "k" in found:
        hour %= 24
    if "y2" in found:
        short = int(found["y2"])
        year = short + (2000 if short < 70 else 1900)
    else:
        year = int(found.get("y") or found.get("u") or 1)
    return datetime(
        year,
        int(month) if month.isdecimal() else names["months"][month.rstrip(".").lower()],
        int(found.get("d", 1)),
        hour,
        int(found.get("m", 0)),
        int(found.get("s", 0)),
        int(found.get("S", "0").ljust(6, "0")),
        _offset(found.get("x") or found.get("X") or found.get("Z")),
    )


def _offset(written: str | None) -> tzinfo | None:
    if not written:
        return None
    if written in "Zz":
        return UTC
    digits = written[1:].replace(":", "")
    offset = timedelta(hours=int(digits[:2]), minutes=int(digits[2:]))
    return timezone(-offset if written[0] == "-" else offset)


# ---- patterns for days and times, cut into fields and the texts between them (UTS 35, part 4, 8) ----------------

# A run of one letter, a text in quotes ('' is a quote, in quotes and outside), or one other character.
ITEM = regex(r"(?P<field>(?P<letter>[A-Za-z])(?P=letter)*+)|'(?P<quoted>(?:[^']|'')*+)'|(?P<open>')|(?P<other>.)", re.S)


def cut_pattern(pattern: str) -> Iterator[tuple[bool, str]]:
    """Yields a pattern as its fields (True) and the texts between them (False); raises `FieldError` for an open
    quote."""
    for item in ITEM.finditer(pattern):
        if item["field"]:
            yield True, item["field"]
        elif item["open"]:
            raise FieldError("a single quote in the pattern is not closed", hint="'' is a quote")
        else:
            yield False, item["other"] or item["quoted"].replace("''", "'") or "'"
