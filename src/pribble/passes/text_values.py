"""Values in the plain text: texts, and what markup that they bring says."""

from __future__ import annotations

from functools import partial

from pribble.plaintext import characters as chars
from pribble.plaintext.events import Brought, Open
from pribble.values.escaping import plain_characters
from pribble.values.kinds import Data
from pribble.values.safe_text import Fragment
from pribble.values.showing import text


def show_event(value: Data) -> str | list[Data]:
    """Returns a value among the events of the plain-text part."""
    if not isinstance(value, Fragment):
        return plain_characters(text(value))
    if value.trusted:
        from pribble.passes.text_events import fragment_events

        return [Brought(partial(fragment_events, value.markup))]
    first, *lines = map(plain_characters, str(value).split("\n"))
    # The page has a line break behind each ``<br>``, which shows where white space is kept.
    return [first, *(event for line in lines for event in (Open("br", {}, True), f"\n{line}"))]


def inline_text(given: str) -> str:
    """Returns a text in a paragraph: its white space is that of running text."""
    if given.isprintable() and "  " not in given:
        return given
    return chars.collapse_running(plain_characters(given))


def show_inline(value: Data) -> str:
    """Returns a value in a paragraph, which brings no elements but line breaks."""
    if isinstance(value, Fragment) and not value.trusted:
        return "\n".join([inline_text(line) for line in str(value).split("\n")])
    return inline_text(text(value))
