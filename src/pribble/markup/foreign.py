"""A page from elsewhere, read for what it says: nothing in it is a mark, and nothing of it is refused."""

from __future__ import annotations

from pribble.markup.events import Characters
from pribble.markup.page import Page, Reader
from pribble.markup.scanner import StartTag, Unfinished, tokens
from pribble.markup.tags import Tag


def read_foreign(text: str) -> Page:
    """Read a page as a browser does; a tag that its end cuts off is dropped.  What stands in conditional comments is
    hidden from all but one engine, and not read."""
    reader = _Foreign(text, lambda offset: "literal")
    reader.page(token for token in tokens(text, reader.open) if not isinstance(token, Unfinished))
    return reader.read()


class _Foreign(Reader):
    def _tag(self, tag: StartTag) -> Tag:
        return Tag(tag.name, tag.attributes)

    def _raw_text(self, start: int, end: int, name: str, tag: StartTag | None) -> None:
        self.made.add(Characters(start, end, name))

    def _comment(self, start: int, end: int) -> None:
        pass

    def _refuse_marks(self, start: int, end: int, where: str, hint: str | None) -> None:
        pass
