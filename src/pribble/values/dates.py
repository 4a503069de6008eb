"""Formatters for days, times, moments and spans: CLDR patterns (UTS 35, part 4), compiled to functions of ours."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from datetime import date as Day
from datetime import datetime as Moment
from datetime import time as Time
from datetime import timedelta as Span
from functools import lru_cache

from pribble.errors import FieldError
from pribble.values.escaping import is_harmless
from pribble.values.kinds import NOTHING, Data, canonical, named
from pribble.values.numbers import FIGURES, OF_TEXT, Apply, text_of
from pribble.values.settings import Settings, is_locale
from pribble.values.text_parsing import ITEM, cut_pattern, moment_reader

STYLES = ("short", "medium", "long", "full")
# The fields that a pattern may have, each with the widths it may have: a closed list, from the Date Field Symbol Table
# of UTS 35, part 4, 8.  Left out are those that say nothing to a reader of mail (related and cyclic years, Julian days)
# and those that are for skeletons and not for patterns (j, J, C).
_ANY_WIDTH = range(1, 10)
_DAY_FIELDS: Mapping[str, Collection[int]] = {
    **dict.fromkeys("GQqML", range(1, 6)),
    **dict.fromkeys("yYu", _ANY_WIDTH),
    **dict.fromkeys("wd", (1, 2)),
    **dict.fromkeys("WF", (1,)),
    "D": (1, 2, 3),
    **dict.fromkeys("Ee", range(1, 7)),
    "c": (1, 3, 4, 5, 6),
}
_TIME_FIELDS: Mapping[str, Collection[int]] = {
    **dict.fromkeys("abB", range(1, 6)),
    **dict.fromkeys("hHKkms", (1, 2)),
    **dict.fromkeys("SA", _ANY_WIDTH),
    **dict.fromkeys("zV", range(1, 5)),
    **dict.fromkeys("ZxX", range(1, 6)),
    **dict.fromkeys("Ov", (1, 4)),
}
# Those of them that name the zone or its offset
_ZONES = frozenset("zZOvVxX")
Field = Callable[[Data], str]
# The same few days stand in all messages of a batch: so many texts in ISO 8601 are kept as they are shown.
_MOST_KEPT = 512


# ---- values ---------------------------------------------------------------------------------------------------


def day_of(value: Data, settings: Settings, formatter: str) -> Day:
    """Returns the day of a day, a moment (in the reader's time zone) or a text in ISO 8601."""
    if value.__class__ is str and len(value) == 10:  # the usual form in data
        try:
            return Day.fromisoformat(value)
        except ValueError:
            pass  # what is wrong with it is said below
    value = _from_text(canonical(value), formatter, "day", "2026-07-03")
    if isinstance(value, Moment):
        return _local(value, settings).date()
    if isinstance(value, Day):
        return value
    raise FieldError(f"{formatter} takes a day, not {named(value)}")


def moment_of(value: Data, settings: Settings, formatter: str) -> Moment:
    """Returns a moment or a text in ISO 8601, in the reader's time zone; one without a zone is local there: its digits
    stay.

    Of an hour that comes twice, when clocks are put back, the first is taken (`fold`); one that never was, when they
    are put forward, has the offset before (RFC 5545 3.3.5).
    """
    value = _from_text(canonical(value), formatter, "moment", "2026-07-03T18:30+01:00")
    if isinstance(value, Moment):
        return value.replace(tzinfo=settings.zone) if value.tzinfo is None else _local(value, settings)
    raise FieldError(f"{formatter} takes a moment, not {named(value)}")


def _time_of(value: Data, settings: Settings) -> Time | Moment:
    value = canonical(value)
    if isinstance(value, str) and len(value) <= 8 and not _is_day(value):
        try:
            value = Time.fromisoformat(value)
        except ValueError:
            raise FieldError(f'time takes a time, and "{value}" is none', hint="write times as 18:30") from None
    if isinstance(value, Time):
        return value
    return moment_of(value, settings, "time")


def _from_text(value: Data, formatter: str, what: str, example: str) -> Data:
    if not isinstance(value, str):
        return value
    try:
        if what == "day" and len(value) <= 10:
            return Day.fromisoformat(value)
        if what == "moment" and _is_day(value):
            raise FieldError(
                f'{formatter} takes a moment, and "{value}" is a day: it has no time',
                hint=f'write it as {example}, or show the day: as date("long")',
            )
        return Moment.fromisoformat(value)
    except ValueError:
        raise FieldError(
            f'{formatter} takes a {what}, and "{value[:40]}" is none', hint=f"write it as {example}"
        ) from None


def _is_day(value: str) -> bool:
    """Returns whether a text in ISO 8601 is a day, to which Python would give a midnight."""
    try:
        Day.fromisoformat(value)
    except ValueError:
        return False
    return True


def _local(moment: Moment, settings: Settings) -> Moment:
    try:
        return moment if moment.tzinfo is None else moment.astimezone(settings.zone)
    except OverflowError:
        raise FieldError(f"{moment} is in no year from 1 to 9999 in the zone {settings.timezone}") from None


def day(settings: Settings, written: str | None = None) -> Apply:
    """Reads a text as a day: in ISO 8601, or as it is `written`, by a pattern or in a locale's short form.  Of a moment
    it takes the day in the reader's time zone."""
    read = _reader(settings, written, "day")
    return lambda value: day_of(_read_moment(value, read), settings, "day")


def moment(settings: Settings, written: str | None = None) -> Apply:
    """Reads a text as a moment: in ISO 8601, or as it is `written`, by a pattern or in a locale's short form."""
    read = _reader(settings, written, "moment")
    return lambda value: moment_of(_read_moment(value, read), settings, "moment")


def _reader(settings: Settings, written: Data, formatter: str) -> Callable[[str], Moment] | None:
    if written is None:
        return None
    given = text_of(written, formatter)
    if is_locale(given):
        settings = Settings.checked(given, settings.timezone)
        day_form, time_form = (str(f["short"]) for f in (settings.babel.date_formats, settings.babel.time_formats))
        both = str(settings.babel.datetime_formats["short"])
        given = day_form if formatter == "day" else both.replace("{0}", time_form).replace("{1}", day_form)
        # In short forms the year has two digits in some locales, and in data it has four.
        given = given if "yy" not in given else given.replace("yy", "y")
    fields = {text[0] for is_field, text in cut_pattern(given) if is_field}
    needed = [{"d"}, {"M", "L"}, {"y", "u"}, *([set("HhKk")] if formatter == "moment" else [])]
    if not all(fields & letters for letters in needed):
        lacks = "a day, a month and a year" + (", and an hour" if formatter == "moment" else "")
        raise FieldError(f'{formatter} reads by a pattern with {lacks}, not by "{given[:40]}"', hint="as dd.MM.yyyy")
    return moment_reader(given, settings, formatter)


def _read_moment(value: Data, read: Callable[[str], Moment] | None) -> Data:
    """Returns `value`, a text of which was read as it is written."""
    if read is None:
        return value
    value = canonical(value)
    return read(value) if isinstance(value, str) else value


# ---- shown ----------------------------------------------------------------------------------------------------


def date(settings: Settings, style: str = "medium") -> Apply:
    """Writes a day in one of the locale's styles (short, medium, long, full), or by a CLDR pattern: d MMMM y."""
    pattern = _pattern(style, "date", settings.babel.date_formats)
    fields = _fields(pattern, settings, _DAY_FIELDS, "a day")

    def shown(value: Data) -> str:
        return _join_fields(fields, day_of(value, settings, "date"))

    of_text = lru_cache(_MOST_KEPT)(shown)

    def apply(value: Data) -> Data:
        if value.__class__ is str:
            return of_text(value)
        return NOTHING if value is NOTHING else shown(value)

    vars(apply).update({FIGURES: _is_harmless(fields), OF_TEXT: of_text})
    return apply


def time(settings: Settings, style: str = "medium") -> Apply:
    """Writes a time, or the time of a moment, in one of the locale's styles or by a CLDR pattern: HH:mm."""
    pattern = _pattern(style, "time", settings.babel.time_formats)
    fields = _fields(pattern, settings, _TIME_FIELDS, "a time")
    has_zone = any(is_field and text[0] in _ZONES for is_field, text in cut_pattern(pattern))

    def apply(value: Data) -> str:
        found = _time_of(value, settings)
        if has_zone and isinstance(found, Time) and found.tzinfo is None:
            raise FieldError(
                "a time without a day has no zone",
                hint='show it as time("short"), or by a pattern without a zone: HH:mm',
            )
        return _join_fields(fields, found)

    return apply


def datetime(settings: Settings, style: str = "medium") -> Apply:
    """Writes a moment in one of the locale's styles or by a CLDR pattern: d MMM, HH:mm."""
    locale = settings.babel
    if style in STYLES:
        pattern = str(locale.datetime_formats[style])
        for slot, formats in (("{0}", locale.time_formats), ("{1}", locale.date_formats)):
            pattern = pattern.replace(slot, str(formats[style]))
    else:
        pattern = _pattern(style, "datetime", {})
    fields = _fields(pattern, settings, {**_DAY_FIELDS, **_TIME_FIELDS}, "a moment")

    def shown(value: Data) -> str:
        return _join_fields(fields, moment_of(value, settings, "datetime"))

    of_text = lru_cache(_MOST_KEPT)(shown)
    return lambda value: of_text(value) if value.__class__ is str else shown(value)


def duration(settings: Settings) -> Apply:
    """Writes a span of time in days, hours and minutes (in seconds where it is shorter than a minute)."""
    from babel import lists, units

    locale = settings.babel

    def apply(value: Data) -> str:
        value = canonical(value)
        if not isinstance(value, Span):
            raise FieldError(f"duration takes a span of time, not {named(value)}", hint="end - start of two moments")
        seconds = round(abs(value.total_seconds()))
        minutes, rest = divmod(seconds, 60)
        counts = {"day": minutes // 1440, "hour": minutes // 60 % 24, "minute": minutes % 60}
        if not minutes:
            counts = {"second": rest}
        shown = [
            str(units.format_unit(count, f"duration-{unit}", length="long", locale=locale))
            for unit, count in counts.items()
            if count or unit == "second"
        ]
        return str(lists.format_list(shown, style="unit", locale=locale)) if len(shown) > 1 else shown[0]

    return apply


def _pattern(given: Data, formatter: str, styles: Data) -> str:
    style = text_of(given, formatter)
    if style in STYLES and style in styles:
        return str(styles[style])
    if not style or (not set(style) - set("abcdefghijklmnopqrstuvwxyz") and len(style) > 3):
        raise FieldError(
            f'{formatter} has no style "{style}"', hint="it has short, medium, long, full, or a pattern of CLDR"
        )
    return style


def _join_fields(fields: Sequence[Callable[[Data], str]], value: Data) -> str:
    return "".join([field(value) for field in fields])


def _is_harmless(fields: list[Field]) -> bool:
    """Returns whether what the fields give needs no escaping, told from every month and weekday."""
    samples = [Day(2024, month, 1 + (month * 5) % 28) for month in range(1, 13)]
    return all(is_harmless(_join_fields(fields, sample)) for sample in samples)


def _fields(pattern: str, settings: Settings, known: Mapping[str, Collection[int]], what: str) -> list[Field]:
    """Returns the fields of a CLDR pattern, each as a function of the value."""
    made: list[Field] = []
    found = list(cut_pattern(pattern))
    _check_letters(pattern, {text[0] for is_field, text in found if is_field})
    for is_field, text in found:
        if not is_field:
            made.append(_constant(text))
        elif text[0] not in known:
            raise FieldError(
                f'{what} has no "{text[0]}"',
                hint="a pattern is made of y M d E for days, H m s for times; other words go in single quotes",
            )
        elif len(text) not in known[text[0]]:
            widths = ", ".join(text[0] * width for width in known[text[0]])
            raise FieldError(f'"{text}" is no field of a pattern', hint=f"there are {widths}")
        else:
            made.append(_field(text[0], len(text), settings))
    return made


def _check_letters(pattern: str, letters: set[str]) -> None:
    """Refuse what is another field than its author means: the day of the year, the year that a week belongs to."""
    wrong = {"D": "the day of the year"} if "D" in letters and letters - {"D", "y"} else {}
    if "Y" in letters and not letters & {"w", "e"}:
        wrong["Y"] = "the year of a week"
    if wrong:
        right = ITEM.sub(lambda item: item[0].lower() if item["letter"] in wrong else item[0], pattern)
        says = ", ".join(f'"{letter}" is {what}' for letter, what in wrong.items())
        raise FieldError(f"in a pattern {says}", hint=f'days and years are d and y: "{right}"')


def _constant(text: str) -> Field:
    return lambda value: text


def _gmt(locale: Data, *, is_long: bool) -> Field:
    """Returns an offset as the locale has it, "GMT+2", or, `is_long`, "GMT+02:00" (UTS 35, part 4, 7)."""
    names = locale.zone_formats

    def field(value: Data) -> str:
        seconds = round(value.utcoffset().total_seconds())
        if not seconds:
            return str(names.get("gmt_zero") or names["gmt"]).replace("%s", "")
        hours, minutes = divmod(abs(seconds) // 60, 60)
        figures = f"{hours:02}:{minutes:02}" if is_long else f"{hours}:{minutes:02}" if minutes else str(hours)
        return str(names["gmt"]).replace("%s", f"{'-' if seconds < 0 else '+'}{figures}")

    return field


_NUMERIC: dict[str, Callable[[Data], int]] = {
    "d": lambda v: v.day,
    "H": lambda v: v.hour,
    "h": lambda v: v.hour % 12 or 12,
    "K": lambda v: v.hour % 12,
    "k": lambda v: v.hour or 24,
    "m": lambda v: v.minute,
    "s": lambda v: v.second,
}
_NAME_WIDTHS = {3: "abbreviated", 4: "wide", 5: "narrow", 6: "short"}


def _field(letter: str, width: int, settings: Settings) -> Field:
    from babel import dates

    locale = settings.babel
    if letter in _NUMERIC:
        part = _NUMERIC[letter]
        return (lambda v: str(part(v))) if width == 1 else (lambda v: f"{part(v):0{width}}")
    if letter == "y":
        return (lambda v: f"{v.year % 100:02}") if width == 2 else (lambda v: f"{v.year:0{width}}")
    if letter in "ML" and width <= 2:
        return lambda v: f"{v.month:0{width}}"
    context = "format" if letter in "ME" else "stand-alone"
    if letter in "ML":
        months: dict[int, str] = dict(locale.months[context][_NAME_WIDTHS.get(width, "wide")])
        return lambda v: months[int(v.month)]
    if letter == "E":
        weekdays: dict[int, str] = dict(locale.days[context][_NAME_WIDTHS.get(width, "abbreviated")])
        return lambda v: weekdays[int(v.weekday())]
    if letter == "O":
        return _gmt(locale, is_long=width == 4)
    # The rest is rare enough for Babel's own way: quarters, weeks, eras, day periods, names of zones.
    name = letter * width

    def rare(value: Data) -> str:
        try:
            return str(dates.DateTimeFormat(value, locale)[name])
        except (LookupError, ValueError, AttributeError, TypeError):
            raise FieldError(f'"{name}" in a pattern cannot be shown') from None

    return rare
