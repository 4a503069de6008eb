"""What word processors leave in a page and no mail program needs, for whoever asks to be rid of it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.edits import Edit
from pribble.markup.scanner import Comment, StartTag
from pribble.regexes import regex
from pribble.review.conditional_comments import page_tokens
from pribble.review.page_view import PageView

_OWN_DECLARATION = regex(r"(?<=[;{\s\"'])mso-[\w-]+\s*:[^;}\"']*;?\s*|\Amso-[\w-]+\s*:[^;}\"']*;?\s*", re.IGNORECASE)
_ISLAND = regex(r"<!--\[if [^\]]{0,100}\]>\s*<(?:xml|o:|w:|m:)", re.IGNORECASE)
_FRAGMENT = regex(r"<!--\s*(?:Start|End)Fragment\s*-->", re.IGNORECASE)
_LONGEST_TAG = 100  # of those that close
_GENERATORS = frozenset({"generator", "progid", "originator"})


def tidy_declarations(css: str) -> str:
    """Returns CSS without the declarations that one word processor alone reads (``mso-…``), but for the one that hides
    something from it."""
    return _OWN_DECLARATION.sub(lambda found: found[0] if "mso-hide" in found[0].lower() else "", css)


def debris_edits(html: str, view: PageView) -> Iterator[tuple[Edit[str], str]]:
    """Yields edits that take out what is left behind, each with what it is."""
    for token in page_tokens(html):
        if isinstance(token, Comment):
            written = html[token.start : token.end]
            if _ISLAND.match(written):
                yield Edit(token.start, token.end, ()), "a word processor's settings in a comment"
            elif _FRAGMENT.match(written):
                yield Edit(token.start, token.end, ()), "a comment of the clipboard"
    for element in view.elements:
        yield from _of_tag(html, element.opening)
        prefix = element.local_name.partition(":")[0]
        if prefix in ("o", "w", "m", "st1") and ":" in element.local_name and not element.implied:
            end = view.ends[element.number]
            yield Edit(element.opening.start, element.opening.end, ()), f"<{element.local_name}>"
            closing = html.rfind("</", max(element.opening.end, end - _LONGEST_TAG), end)
            if closing >= 0 and html[closing:end].lower().startswith(f"</{element.local_name}"):
                yield Edit(closing, end, ()), f"</{element.local_name}>"


def _of_tag(html: str, tag: StartTag) -> Iterator[tuple[Edit[str], str]]:
    if tag.name == "meta":
        name = tag.attribute("name")
        if name is not None and html[name.value_start : name.value_end].strip().lower() in _GENERATORS:
            yield Edit(tag.start, tag.end, ()), "the name of the program that wrote it"
        return
    for attribute in tag.attributes:
        if attribute.name.startswith("xmlns"):
            yield Edit(attribute.start, attribute.end, ()), "xmlns"
