"""Formatters for texts: letters, replacing, shortening, line breaks."""

from __future__ import annotations

import re
from itertools import islice

from pribble.errors import FieldError, LimitReached
from pribble.graphemes import graphemes
from pribble.regexes import regex
from pribble.values.counting import LONGEST_TEXT
from pribble.values.escaping import markup
from pribble.values.kinds import Data, kind, whole_number
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import Fragment
from pribble.values.settings import Settings
from pribble.values.showing import text as shown

_WORD = regex(r"[^\W\d_][\w’']*")


def _turkic(settings: Settings) -> bool:
    return settings.locale[:2] in ("tr", "az")


def upper(settings: Settings) -> Apply:
    """Writes a text in capital letters."""
    dotted = _turkic(settings)
    return lambda value: (text_of(value, "upper").replace("i", "İ") if dotted else text_of(value, "upper")).upper()


def lower(settings: Settings) -> Apply:
    """Writes a text in small letters."""
    dotted = _turkic(settings)

    def apply(value: Data) -> str:
        given = text_of(value, "lower")
        return (given.replace("I", "ı").replace("İ", "i") if dotted else given).lower()

    return apply


def title(settings: Settings) -> Apply:
    """Writes the first letter of each word as a capital, and the rest small."""
    first, rest = upper(settings), lower(settings)
    return lambda value: _WORD.sub(lambda word: f"{first(word[0][0])}{rest(word[0][1:])}", text_of(value, "title"))


def capital(settings: Settings) -> Apply:
    """Writes the first letter as a capital, and leaves the rest."""
    first = upper(settings)

    def apply(value: Data) -> str:
        given = text_of(value, "capital")
        begun = next(graphemes(given), "")
        return f"{first(begun)}{given[len(begun) :]}"

    return apply


def change(settings: Settings, old: str, new: str) -> Apply:
    """Replaces `old` with `new` wherever it stands in the text."""
    before, after = text_of(old, "change"), text_of(new, "change")
    if not before:
        raise FieldError("change takes a text that is changed, and this one is empty")

    def apply(value: Data) -> str:
        given = text_of(value, "change")
        if len(given) + given.count(before) * (len(after) - len(before)) > LONGEST_TEXT:
            raise LimitReached(f"change makes a text of more than {LONGEST_TEXT:,} characters")
        return given.replace(before, after)

    return apply


def trim(settings: Settings) -> Apply:
    """Removes white space at both ends."""
    return lambda value: text_of(value, "trim").strip()


def shorten(settings: Settings, size: int) -> Apply:
    """Cuts a text after `size` characters as a reader counts them, the "…" included."""
    most = whole_number(size, 1, 100_000) if kind(size) == "number" else None
    if most is None:
        raise FieldError("shorten takes a whole number of characters from 1")

    def apply(value: Data) -> str:
        given = text_of(value, "shorten")
        if len(given) <= most:
            return given
        characters = list(islice(graphemes(given), most + 1))
        if len(characters) <= most:
            return given
        return "".join(characters[: most - 1]).rstrip() + "…"

    return apply


def breaks(settings: Settings) -> Apply:
    """Shows the line breaks of a text: as ``<br>`` between tags, as line breaks in the plain text."""

    def apply(value: Data) -> Fragment:
        lines = re.split(r"\r\n|\r|\n", shown(value))
        return Fragment.of("\n".join(lines), "<br>\n".join(map(markup, lines)))

    return apply
