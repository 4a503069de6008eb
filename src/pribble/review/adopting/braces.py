"""Doubled braces that a page has of its own, written so that they are no marks of a template."""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.edits import Edit, replaced
from pribble.markup.contexts import CANDIDATES, URL_ATTRIBUTES
from pribble.markup.scanner import Comment, StartTag, TextToken
from pribble.regexes import regex
from pribble.review.conditional_comments import page_tokens

# Between tags and in attributes: references, which marks are not made of.
BRACES = "&#123;&#123;"
# Attributes that hold addresses, in which braces are percent-encoded.
ADDRESSES = URL_ATTRIBUTES | CANDIDATES
# A string, or an escape outside of one; what is not closed goes as far as it can, so that nothing is read twice.
_STRING = regex(r"\"(?:[^\"\\\n]|\\.)*+\"?|'(?:[^'\\\n]|\\.)*+'?|\\.", re.DOTALL)
_DOUBLED = regex(r"\{\{")
_TOGETHER = regex("\\{(?=[{\x01\x03])")


# Around the path of a mark until a template is complete: no page holds these by then.
OPEN, CLOSE = "\x01", "\x02"
# Doubled braces of a text that reads no references.
DOUBLED, CLOSED = "\x03", "\x04"
_CONTROLS = str.maketrans(dict.fromkeys((OPEN, CLOSE, DOUBLED, CLOSED)))


def with_literal_braces(html: str) -> str:
    """Returns a page in which every ``{{`` is written as the place it stands in allows."""
    html = without_controls(html)
    return replaced(html, _edits(html)) if "{{" in html else html


def without_controls(text: str) -> str:
    """Returns a text without the control characters that stand for something here."""
    return text.translate(_CONTROLS)


def mark(path: str) -> str:
    """Returns the mark of a field, as it stands until `with_marks_written` writes it."""
    return f"{OPEN}{path}{CLOSE}"


def with_marks_written(text: str, brace: str = "&#123;") -> str:
    """Returns a template with its marks.  Braces that came together, or stand before a mark, are kept apart: one of
    them is written as `brace`."""
    apart = _TOGETHER.sub(brace, text)
    literal = apart.replace(DOUBLED, '{{ "{{" }}').replace(CLOSED, '{{ "}}" }}')
    return literal.replace(OPEN, "{{ ").replace(CLOSE, " }}")


def _edits(html: str) -> Iterator[Edit[str]]:
    for token in page_tokens(html):
        if isinstance(token, StartTag):
            for attribute in token.attributes:
                yield from _in_attribute(html, attribute.name, attribute.value_start, attribute.value_end)
                yield from _between(html, attribute.start, attribute.start + len(attribute.name), "{ {")
        elif isinstance(token, TextToken) and token.element == "style":
            css = html[token.start : token.end]
            if "{{" in css:
                yield Edit(token.start, token.end, (braces_in_css(css),))
        elif isinstance(token, TextToken):
            raw = token.element not in ("", "title", "textarea")
            yield from _between(html, token.start, token.end, "{ {" if raw else BRACES)
        elif isinstance(token, Comment):
            is_read = html.startswith("<!--[if", token.start)
            yield from _between(html, token.start, token.end, BRACES if is_read else "{ {")
        else:
            yield from _between(html, token.start, token.end, "{ {")


def _in_attribute(html: str, name: str, start: int, end: int) -> Iterator[Edit[str]]:
    if name == "style":
        css = html[start:end]
        if "{{" in css:
            yield Edit(start, end, (braces_in_css(css),))
    else:
        yield from _between(html, start, end, "%7B%7B" if name in ADDRESSES else BRACES)


def _between(html: str, start: int, end: int, written: str) -> Iterator[Edit[str]]:
    for found in _DOUBLED.finditer(html, start, end):
        yield Edit(found.start(), found.end(), (written,))


def braces_in_css(css: str) -> str:
    """Returns CSS without ``{{``: escaped within strings (CSS Syntax 3, 4.3.7), apart elsewhere."""
    if "{{" not in css:
        return css
    made = _STRING.sub(lambda found: found[0].replace("{{", "\\7b \\7b "), css)
    return made.replace("{{", "{ {")
