"""Pieces of markup that come from outside a template: whole in themselves, and fit for where they are put."""

from __future__ import annotations

from collections.abc import Iterable

from pribble.errors import UnsafeValue
from pribble.markup.elements import FORMATTING, NEVER_NESTED, OMITTABLE
from pribble.markup.misnesting import MarkupFinding, misplaced, moved_text, outer, unclosed
from pribble.markup.scanner import (
    Cdata,
    Comment,
    Doctype,
    EndTag,
    StartTag,
    TextToken,
    Unfinished,
    announce_start_tag,
    tokens,
)
from pribble.markup.tree import LeftOpen, OpenElements, OutOfBranch

_PAGE_ELEMENTS = frozenset({"html", "head", "body", "frameset", "plaintext"})
# What may stand in a list of options: of the rest, browsers of different ages make different things.
_IN_SELECT = frozenset({"option", "optgroup"})
_SPACE = "\t\n\f\r "
_OF_SELECT = frozenset({"select", "optgroup", "option"})


def close_fragment(text: str) -> str:
    """Returns `text` with the end tags it left out; raises `UnsafeValue` where it would reach out into the page around
    it."""
    left = _followed(text, ())
    if text.endswith(("<", "</", "<!", "<?")):
        raise UnsafeValue('the markup ends in "<"')
    return text + "".join(f"</{name}>" for name in left)


def check_within(text: str, around: Iterable[str]) -> None:
    """Raise `UnsafeValue` where `text`, which is `whole`, would close one of the elements `around` it, or a browser
    would put it elsewhere."""
    if left := _followed(text, tuple(around)):  # in svg and math no end tag may be left out
        raise UnsafeValue(f"<{left[0]}> is not closed in this markup")


def _followed(text: str, around: tuple[str, ...]) -> list[str]:
    """Returns the elements that are open where `text` ends, innermost first, without those around it."""
    elements = OpenElements(page=False)
    for name in around:
        elements.start(name, 0, 0)
    elements.enter()
    for token in tokens(text, elements):
        try:
            notes = _follow(elements, token, text)
        except OutOfBranch as error:
            assert isinstance(token, StartTag | EndTag)
            raise UnsafeValue(
                f"<{token.name}> in this markup would end the <{error.element.name}> around it",
                hint="such elements do not stand within each other"
                if token.name in NEVER_NESTED
                else "put the mark into a <div>",
            ) from None
        for note in notes:
            if note is not None:  # what a browser corrects in its own way may reach out
                raise UnsafeValue(f"in this markup {note.message}", hint=note.fix)
    try:
        change = elements.leave(len(text), block=True)
    except LeftOpen as error:
        raise UnsafeValue(f"<{error.element.name}> is not closed in this markup") from None
    return [element.name for element in change.closed if element.name in OMITTABLE and not element.implied]


def _follow(elements: OpenElements, token: object, text: str) -> Iterable[MarkupFinding | None]:
    """Take in a token; returns what a browser would correct in its own way."""
    match token:
        case Unfinished():
            raise UnsafeValue("the markup is not whole: a tag is not closed")
        case Doctype():
            raise UnsafeValue("a doctype belongs to the page, not into a piece of one")
        case Comment() if not _is_closed(text[token.start : token.end]):
            raise UnsafeValue("a comment is not closed in this markup")
        case Cdata() if not text[token.start : token.end].endswith("]]>"):
            raise UnsafeValue("a CDATA section is not closed in this markup")
        case StartTag(name=name) | EndTag(name=name) if name in _PAGE_ELEMENTS:
            raise UnsafeValue(f"<{name}> belongs to the page, not into a piece of one")
        case StartTag(name=name):
            return _open_implied(elements, token)
        case EndTag(name=name):
            change = elements.end(name)
            if change is None:
                raise UnsafeValue(f"</{name}> closes nothing that this markup opened")
            return unclosed(change.closed[:-1], f"</{name}>", formatting=name in FORMATTING)
        case TextToken(start=start, end=end, element="") if text[start:end].strip(_SPACE):
            return [moved_text(start, end, elements.innermost)]
    return ()


def _open_implied(elements: OpenElements, tag: StartTag) -> Iterable[MarkupFinding | None]:
    name = tag.name
    if elements.innermost in _OF_SELECT and name not in _IN_SELECT:
        raise UnsafeValue(f"<{name}> in this markup has no place in a <{elements.innermost}>")
    if (around := outer(name, elements)) is not None:
        raise OutOfBranch(around)
    change = announce_start_tag(elements, tag)
    above = elements.stack[:-1] if change.opened else elements.stack
    return [*unclosed(change.closed, f"<{name}>"), misplaced(tag, above[-1].name if above else "")]


def _is_closed(comment: str) -> bool:
    if not comment.startswith("<!--"):
        return comment.endswith(">")
    return comment[4:].endswith(("-->", "--!>")) or comment in ("<!-->", "<!--->")  # 13.2.5.43, 44
