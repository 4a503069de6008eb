"""Where a fragment is cut out of a page."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.markup.events import Closed, Opened
from pribble.markup.page import Page
from pribble.passes.pieces import Boundary


def fragment_boundaries(page: Page, text: str) -> Iterator[tuple[int, Boundary]]:
    """Yields where a fragment of a page is cut."""
    begun = False
    for event in page.events:
        match event:
            case Opened() if event.tag.name == "style" and not begun:
                yield event.tag.start, Boundary.SHEET
            case Closed(name="style", end=end) if not begun:
                yield end, Boundary.SHEET_END
            case Opened() if event.tag.name == "body":
                begun = True
                if not event.implied:
                    yield event.tag.start + len("<body"), Boundary.BODY_TAG
                yield event.tag.end, Boundary.BODY
    ends = page.page_ends
    for index, (start, end) in enumerate(ends):
        if not index or text[ends[index - 1][1] : start].strip():
            yield start, Boundary.TAIL
        if index + 1 == len(ends) or text[end : ends[index + 1][0]].strip():
            yield end, Boundary.TAIL_END
