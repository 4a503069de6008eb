"""Markup as what it says: the events of a page or fragment without marks, and of values in the plain text."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import partial
from itertools import repeat

from pribble.cascade.inlining import PageResources, inline_sheets
from pribble.markup.events import Characters, Closed, Opened, events_of
from pribble.markup.events import PageEvent as Markup
from pribble.markup.page import Page
from pribble.markup.references import decode_references
from pribble.passes.text_styles import text_styles
from pribble.plaintext import characters as chars
from pribble.plaintext.events import READ_ATTRIBUTES, Brought, Close, Open, TextEvent
from pribble.plaintext.style import NO_STYLE, Style
from pribble.values.escaping import plain_characters
from pribble.values.kinds import Data
from pribble.values.safe_text import Fragment
from pribble.values.showing import text


class NoResources:
    """The resources of a page that has none: no file is beside it, and nothing of it depends on data."""

    def load(self, address: str, base: str, start: int, end: int) -> tuple[str, str] | None:
        return None

    def base(self, offset: int) -> str:
        return ""

    def addresses(self, css: str, offset: int) -> str:
        return css

    def may_lack(self, offset: int) -> bool:
        return False

    def brings(self, offset: int) -> frozenset[str]:
        return frozenset()


def literal(offset: int) -> str:
    """Returns the role of each private character of a page that holds no marks."""
    return "literal"


def page_events(html: str, page: Page, resources: PageResources) -> Iterator[TextEvent]:
    """Returns what a page says that holds no marks: its events, with what the cascade makes of its elements."""
    return _events(html, page.events, text_styles(inline_sheets(html, page, literal, resources)))


def fragment_events(html: str) -> Iterator[TextEvent]:
    """Returns what a fragment of a page says."""
    events = tuple(events_of(html))
    if "style" not in html.lower():
        return _events(html, events, repeat(NO_STYLE))
    page = Page(events, (), (), (), (), ())
    return _events(html, events, text_styles(inline_sheets(html, page, literal, NoResources())))


def _events(html: str, events: Iterable[Markup], styles: Iterable[Style]) -> Iterator[TextEvent]:
    style = iter(styles)
    for event in events:
        match event:
            case Opened(tag=tag, void=void):
                read = {
                    a.name: decode_references(html[a.value_start : a.value_end], attribute=True)
                    for a in reversed(tag.attributes)
                    if a.name in READ_ATTRIBUTES
                }
                yield Open(tag.name, read, void, next(style))
            case Closed(name=name):
                yield Close(name)
            case Characters(start=start, end=end, raw=raw):
                yield decode_text(html[start:end], raw)
            case _:
                yield html[event.offset]


def decode_text(written: str, raw: str) -> str:
    """Returns a text as it is meant; `raw` is the element whose content is not parsed."""
    return written if raw in ("style", "script", "cdata") else decode_references(written)


# ---- values ---------------------------------------------------------------------------------------------------


def show_event(value: Data) -> str | list[Data]:
    """Returns a value among the events of the plain-text part."""
    if not isinstance(value, Fragment):
        return plain_characters(text(value))
    if value.trusted:
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
