"""Where and when the reader is: a locale and a time zone, checked once and then cheap to pass about."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

from pribble.arguments import texts
from pribble.errors import visible
from pribble.records import record

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo

    from babel import Locale


@record(frozen=True, slots=True)
class Settings:
    """A locale (``en_GB``) and a time zone (``Europe/Berlin``)."""

    locale: str = "en"
    timezone: str = "UTC"

    @classmethod
    def checked(cls, locale: str, timezone: str) -> Settings:
        """The settings of a locale and time zone; raises `ValueError` for one that is unknown."""
        return cls(settings_text("locale", locale), settings_text("timezone", timezone))

    @property
    def babel(self) -> Locale:
        return _locale(self.locale)

    @property
    def has_point(self) -> bool:
        """Whether the locale writes a point before decimals, as a number has it that is shown as it is."""
        return _has_point(self.locale)

    @property
    def zone(self) -> ZoneInfo:
        return _time_zone(self.timezone)


def settings_text(kind: str, value: str) -> str:
    """Returns `value`, a ``locale`` or ``timezone`` as `kind` says, in its canonical form; raises `ValueError` if
    unknown."""
    texts(**{kind: value})
    try:
        if kind == "locale":
            return str(_locale(value.replace("-", "_")))
        _time_zone(value)
        return value
    except (KeyError, ValueError, OSError, _unknown_locale()):
        hint = "en_GB" if kind == "locale" else "Europe/Berlin"
        name = "locale" if kind == "locale" else "time zone"
        raise ValueError(
            f'{kind}: "{visible(value[:60])}" is no {name} that is known (one is written {hint})'
        ) from None


def is_locale(name: str) -> bool:
    """Returns whether a text is the name of a locale that is known."""
    try:
        settings_text("locale", name)
    except ValueError:
        return False
    return True


@lru_cache(maxsize=256)
def is_one_language(one: str, other: str) -> bool:
    """Returns whether two locales are of one language in one script (UTS 35, 4.3: a script that is not named is the
    likely one)."""
    return _canonical_locale(one) == _canonical_locale(other)


def _canonical_locale(name: str) -> tuple[str, str | None]:
    from babel.core import get_global

    parsed, likely = _locale(name), get_global("likely_subtags")
    known = likely.get("_".join(filter(None, (parsed.language, parsed.territory)))) or likely.get(parsed.language)
    scripts = [part for part in str(known).split("_") if len(part) == 4]
    return parsed.language, parsed.script or next(iter(scripts), None)


@lru_cache(maxsize=64)
def _locale(name: str) -> Locale:
    from babel import Locale  # loaded when first needed

    return Locale.parse(name)


@lru_cache(maxsize=64)
def _has_point(name: str) -> bool:
    if name[:2] == "en":  # without a look at what is known of other locales
        return True
    from babel.numbers import get_decimal_symbol

    return str(get_decimal_symbol(_locale(name))) == "."


@lru_cache(maxsize=64)
def _time_zone(name: str) -> ZoneInfo:
    from zoneinfo import ZoneInfo

    return ZoneInfo(name)


def _unknown_locale() -> type[Exception]:
    from babel import UnknownLocaleError

    return UnknownLocaleError
