"""What a browser would correct in its own way, and our reading of a page does not imitate (WHATWG HTML 13.2.6.4).

A browser splits misnested formatting in two and moves what stands in a table, but in no cell, to before the table.
Where a page relies on that, a finding says so.
"""

from __future__ import annotations

import re

from pribble.markup.elements import HEAD, NESTING_ENDS, NEVER_NESTED, OMITTABLE, SPECIAL
from pribble.markup.scanner import EndTag, StartTag
from pribble.markup.tree import OpenElement, OpenElements
from pribble.records import record
from pribble.regexes import regex

IN_TABLE = frozenset("table tbody thead tfoot tr colgroup".split())
_MAY_END = OMITTABLE | {"html", "head", "body"}
_OF_TABLES = frozenset("caption colgroup col thead tbody tfoot tr td th style script template form input".split())


@record(frozen=True, slots=True)
class MarkupFinding:
    """A finding about the stretch from `start` to `end`."""

    rule: str
    start: int
    end: int
    message: str
    fix: str
    reference: str


def unclosed(closed: tuple[OpenElement, ...], by: str, *, formatting: bool = False) -> list[MarkupFinding]:
    """Of elements that something else ended, those whose own end tag may not be left out; the end tag of a
    `formatting` element ends no paragraph or item either."""
    return [
        MarkupFinding(
            "page.unclosed",
            element.start,
            element.end,
            f"<{element.name}> is not closed before {by}",
            f"write </{element.name}> where it ends",
            "HTML 13.1.2.4",
        )
        for element in closed
        if not element.implied and (element.name not in _MAY_END or (formatting and element.name in SPECIAL))
    ]


def stray(tag: EndTag) -> MarkupFinding:
    """Returns an end tag that closes nothing."""
    message, fix = f"</{tag.name}> closes nothing", "take it out"
    if tag.name in ("p", "br"):
        message, fix = f"{message}, and makes an empty one", f"{fix}; a <p> ends where a block begins"
    return MarkupFinding("page.stray-end-tag", tag.start, tag.end, message, fix, "HTML 13.2.6.4.7")


# What follows an address with one of these goes nowhere in a message: it has no place that the rest would start from.
_NO_SCHEME = regex(r"(?![a-z][a-z0-9+.-]+:|#)", re.IGNORECASE)
_LIKE_A_HOST = regex(
    r"(?:www\.|[a-z0-9-]+(?:\.[a-z0-9-]+)*\.(?:com|org|net|example|[a-z]{2})(?:[/:?#]|$))", re.IGNORECASE
)


def relative(start: int, end: int, address: str) -> MarkupFinding | None:
    """Returns an address of a link or a frame that leads nowhere: a relative one, or a path on the sender's disk."""
    is_on_disk = address[:5].lower() == "file:" or address[1:3] in (":\\", ":/")
    if not is_on_disk and not _NO_SCHEME.match(address):
        return None
    return MarkupFinding(
        "page.relative-address",
        start,
        end,
        "a path on the sender's disk leads nowhere in a message"
        if is_on_disk
        else "a relative address leads nowhere in a message",
        "write https:// before it" if _LIKE_A_HOST.match(address) else "write it from https:// on",
        "RFC 3986 4.2",
    )


_PARENTS = {
    **dict.fromkeys(("td", "th"), ("tr",)),
    "tr": ("tbody", "thead", "tfoot"),
    "col": ("colgroup",),
    **dict.fromkeys(("tbody", "thead", "tfoot", "caption", "colgroup"), ("table",)),
}


def second(tag: StartTag) -> MarkupFinding:
    """Returns an html, head or body where there is one already."""
    return MarkupFinding(
        "page.second-tag",
        tag.start,
        tag.end,
        f"<{tag.name}> comes too late: there is one already, or content",
        "take it out",
        "HTML 13.2.6.4.7",
    )


def outer(name: str, elements: OpenElements) -> OpenElement | None:
    """Returns the open element that one of that name may not stand in, as a link in a link: of forms one however far
    out."""
    if name not in NEVER_NESTED:
        return None
    return elements.nearest(name, frozenset({"template"}) if name == "form" else NESTING_ENDS)


def nested_in_itself(tag: StartTag, elements: OpenElements) -> MarkupFinding | None:
    """Returns a link in a link, a form in a form; `elements` are open before the tag."""
    if outer(tag.name, elements) is None:
        return None
    return MarkupFinding(
        "page.nested",
        tag.start,
        tag.end,
        f"<{tag.name}> within another: a browser ends one of them",
        f"close the outer <{tag.name}> first",
        "HTML 13.2.6.4.7",
    )


def misplaced(tag: StartTag, parent: str) -> MarkupFinding | None:
    """Returns a part of a table that stands in none, or another tag directly in a table."""
    if parent == "html" and tag.name in HEAD:
        return MarkupFinding(
            "page.after-head",
            tag.start,
            tag.end,
            f"<{tag.name}> behind the head: a browser moves it there",
            "put it before </head>",
            "HTML 13.2.6.4.6",
        )
    if parent not in (*_PARENTS.get(tag.name, (parent,)), "template"):
        return MarkupFinding(
            "page.outside-table",
            tag.start,
            tag.end,
            f"<{tag.name}> in no table: a browser passes over it",
            "put it into a <table>",
            "HTML 13.2.6.4.7",
        )
    if parent not in IN_TABLE or tag.name in _OF_TABLES:
        return None
    return _moved_out(tag.start, tag.end, f"<{tag.name}>", parent)


def moved_text(start: int, end: int, parent: str) -> MarkupFinding | None:
    """Returns text directly in a table."""
    return _moved_out(start, end, "text", parent) if parent in IN_TABLE else None


def _moved_out(start: int, end: int, what: str, parent: str) -> MarkupFinding:
    return MarkupFinding(
        "page.outside-cells",
        start,
        end,
        f"{what} in a table but in no cell (directly in <{parent}>): a browser moves it to before the table",
        "put it into a <td>",
        "HTML 13.2.6.1",
    )
