"""Pieces of markup that come from outside a template: whole in themselves, and fit for where they are put."""

from __future__ import annotations

from collections.abc import Iterable

from pribble.errors import UnsafeValue
from pribble.markup.elements import NESTING_ENDS, NEVER_NESTED, OMITTABLE
from pribble.markup.scanner import Cdata, Comment, Doctype, EndTag, StartTag, Unfinished, opened, tokens
from pribble.markup.tree import LeftOpen, OpenElements, OutOfBranch

_PAGE_ELEMENTS = frozenset({"html", "head", "body", "frameset", "plaintext"})


def whole(text: str) -> str:
    """`text` with the end tags it left out; raises `UnsafeValue` where it would reach out into the page around it."""
    left = _followed(text, ())
    if text.endswith(("<", "</", "<!", "<?")):
        raise UnsafeValue('the markup ends in "<"')
    return text + "".join(f"</{name}>" for name in left)


def check_within(text: str, around: Iterable[str]) -> None:
    """Raise `UnsafeValue` where `text`, which is `whole`, would close one of the elements `around` it."""
    _followed(text, tuple(around))


def _followed(text: str, around: tuple[str, ...]) -> list[str]:
    """The elements that are open where `text` ends, innermost first, without those around it."""
    elements = OpenElements(page=False)
    for name in around:
        elements.start(name, 0, 0)
    elements.enter()
    for token in tokens(text, elements):
        try:
            _follow(elements, token, text)
        except OutOfBranch as error:
            assert isinstance(token, StartTag | EndTag)
            raise UnsafeValue(
                f"<{token.name}> in this markup would end the <{error.element.name}> around it",
                hint="such elements do not stand within each other"
                if token.name in NEVER_NESTED
                else "put the mark into a <div>",
            ) from None
    try:
        change = elements.leave(len(text), block=True)
    except LeftOpen as error:
        raise UnsafeValue(f"<{error.element.name}> is not closed in this markup") from None
    return [element.name for element in change.closed if element.name in OMITTABLE and not element.implied]


def _follow(elements: OpenElements, token: object, text: str) -> None:
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
            if name in NEVER_NESTED and (outer := elements.nearest(name, NESTING_ENDS)) is not None:
                raise OutOfBranch(outer)
            opened(elements, token)
        case EndTag(name=name) if elements.end(name) is None:
            raise UnsafeValue(f"</{name}> closes nothing that this markup opened")


def _is_closed(comment: str) -> bool:
    return comment.endswith(("-->", "--!>") if comment.startswith("<!--") else ">")
