"""Markup as what it says: the events of a page or fragment without marks."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import repeat

from pribble.cascade.inlining import PageResources, inline_sheets
from pribble.markup.events import Characters, Closed, Opened, events_of
from pribble.markup.events import PageEvent as Markup
from pribble.markup.page import Page
from pribble.markup.references import decode_references
from pribble.passes.text_styles import text_styles
from pribble.plaintext.events import READ_ATTRIBUTES, Close, Open, TextEvent
from pribble.plaintext.style import NO_STYLE, Style


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
