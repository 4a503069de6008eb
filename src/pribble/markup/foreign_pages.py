"""A page from elsewhere: nothing in it is a mark, and nothing is refused; findings say what a template could not
have."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.markup.contexts import MarkupError
from pribble.markup.events import Characters
from pribble.markup.misnesting import MarkupFinding
from pribble.markup.page import Page, PageReader
from pribble.markup.scanner import StartTag, Token, Unfinished, tokens
from pribble.markup.tags import Tag

UNFINISHED = "page.unfinished-tag"


def read_foreign_page(text: str, *, comments: bool = False) -> Page:
    """Read a page as a browser does; a tag that its end cuts off is dropped, and the last of the notes.  What stands in
    conditional comments is hidden from all but one engine, and read where `comments` asks for it."""
    reader = _WithComments(text, _literal) if comments else _Foreign(text, _literal)
    reader.page(reader.finished(tokens(text, reader.open)))
    return reader.read()


def _literal(offset: int) -> str:
    return "literal"


class _Foreign(PageReader):
    def finished(self, given: Iterator[Token]) -> Iterator[Token]:
        """Yields the tokens without one that the end of the page cuts off."""
        for token in given:
            if isinstance(token, Unfinished):
                self.findings.append(
                    MarkupFinding(
                        UNFINISHED,
                        token.start,
                        len(self.text),
                        "the page ends within a tag, which a browser drops",
                        'write the ">", or the quote that is missing',
                        "WHATWG HTML 13.2.5",
                    )
                )
            else:
                yield token

    def _tag(self, tag: StartTag) -> Tag:
        return Tag(tag.name, tag.attributes)

    def _raw_text(self, start: int, end: int, name: str, tag: StartTag | None) -> None:
        self.made.add(Characters(start, end, name))

    def _comment(self, start: int, end: int) -> None:
        pass

    def _links(self, tag: StartTag, read: Tag) -> None:
        pass

    def _refuse_marks(self, start: int, end: int, where: str, hint: str | None) -> None:
        pass


class _WithComments(_Foreign):
    def _tag(self, tag: StartTag) -> Tag:
        try:
            return super(_Foreign, self)._tag(tag)
        except MarkupError as error:
            self._note(
                MarkupFinding(
                    "page.refused",
                    error.start,
                    error.end,
                    f"{error.problem}, which no template may have",
                    error.hint or "take it out",
                    "Pribble, docs/security.md",
                )
            )
            return super()._tag(tag)

    def _comment(self, start: int, end: int) -> None:
        super(_Foreign, self)._comment(start, end)
