"""HTML as tokens, as the WHATWG tokenizer cuts it (HTML 13.2.5), over a text that may hold marks anywhere.

Tokens carry offsets and nothing is changed: what no token is edited for comes out as it was written.
In svg and math other rules hold, so the scanner asks `tree.py` what is open.
The scan is a single pass; no construct, closed or not, is looked at twice.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.markup.elements import BREAKING_FONT, RAW_TEXT, RCDATA
from pribble.markup.tree import OpenElements, TreeChange
from pribble.records import record
from pribble.regexes import regex


@record(frozen=True, slots=True)
class Attribute:
    """An attribute; `start` to `end` takes in the quotes, `value_start` to `value_end` does not.

    `quote` is ``"``, ``'``, "" for an unquoted value, None where there is none at all.
    """

    name: str
    start: int
    end: int
    value_start: int
    value_end: int
    quote: str | None


@record(frozen=True, slots=True)
class StartTag:
    """A start tag."""

    name: str
    start: int
    end: int
    attributes: tuple[Attribute, ...]
    self_closing: bool

    def attribute(self, name: str) -> Attribute | None:
        """Returns the first attribute of that name: the one that counts (13.2.5.33)."""
        return next((a for a in self.attributes if a.name == name), None)


@record(frozen=True, slots=True)
class EndTag:
    name: str
    start: int
    end: int


@record(frozen=True, slots=True)
class TextToken:
    """Character data; `element` is the element whose content is not parsed for tags, or ""."""

    start: int
    end: int
    element: str = ""


@record(frozen=True, slots=True)
class Comment:
    """A comment, also what the standard calls a bogus one; `start` and `end` take in its delimiters.

    ``</>``, of which nothing comes at all (13.2.5.7), counts as one.
    """

    start: int
    end: int


@record(frozen=True, slots=True)
class Doctype:
    start: int
    end: int


@record(frozen=True, slots=True)
class Unfinished:
    """A tag that the end of the text cuts off; a browser shows nothing of it."""

    start: int
    end: int


@record(frozen=True, slots=True)
class Cdata:
    """A CDATA section of svg or math: text in which nothing is read (13.2.5.69)."""

    start: int
    end: int


Token = StartTag | EndTag | TextToken | Comment | Doctype | Unfinished | Cdata

_SMALL = {code: code + 32 for code in range(ord("A"), ord("Z") + 1)}
_LETTER = regex("[A-Za-z]")
_TAG_NAME = regex(r"[^\t\n\f\r />]*")
_BETWEEN = regex(r"[\t\n\f\r /]*")
_SPACE = regex(r"[\t\n\f\r ]*")
_ATTRIBUTE_NAME = regex(r"=?[^\t\n\f\r />=]*")
_UNQUOTED = regex(r"[^\t\n\f\r >]*")
_COMMENT_END = regex("--!?>")
_DOCTYPE = regex("<!doctype", re.IGNORECASE)
_SCRIPT = regex(r"<!--|-->|<(/?)script(?=[\t\n\f\r />])", re.IGNORECASE)


def lowered(name: str) -> str:
    """Returns a name in small letters, as the standard has it: those of ASCII only, so that it keeps its length."""
    return name.lower() if name.isascii() else name.translate(_SMALL)


def announce_start_tag(elements: OpenElements, tag: StartTag) -> TreeChange:
    """Show a start tag to the open elements."""
    return elements.start(
        tag.name,
        tag.start,
        tag.end,
        self_closing=tag.self_closing,
        font=tag.name == "font" and any(a.name in BREAKING_FONT for a in tag.attributes),
    )


def tokens(text: str, elements: OpenElements) -> Iterator[Token]:
    """Yields the tokens of `text`, in order; together they cover it.

    The caller shows each tag to `elements` before asking for the next token: how a page is cut depends on what is
    open.
    """
    position, length = 0, len(text)
    pending = 0  # where the character data not yet given begins
    while position < length:
        opening = text.find("<", position)
        if opening < 0:
            break
        token = _markup(text, opening, elements)
        if token is None:
            position = opening + 1
            continue
        if pending < opening:
            yield TextToken(pending, opening)
        yield token
        pending = position = token.end
        name, space = elements.latest
        if not isinstance(token, StartTag) or space:
            continue
        if name in RCDATA or name in RAW_TEXT:
            end = _script_end(text, position) if name == "script" else _raw_end(text, position, name)
            if position < end:
                yield TextToken(position, end, name)
            pending = position = end
        elif name == "plaintext":
            break
    if pending < length:
        yield TextToken(pending, length)


def _markup(text: str, opening: int, elements: OpenElements) -> Token | None:
    """Returns what begins with the ``<`` at `opening`; None where it is a character like any other (13.2.5.6)."""
    following = text[opening + 1 : opening + 2]
    if _LETTER.match(following):
        return _tag(text, opening, opening + 1, closing=False)
    if following == "/":
        after = text[opening + 2 : opening + 3]
        if _LETTER.match(after):
            return _tag(text, opening, opening + 2, closing=True)
        return _bogus(text, opening) if after else None
    if following == "!":
        if text.startswith("--", opening + 2):
            return _comment(text, opening)
        if _DOCTYPE.match(text, opening):
            end = text.find(">", opening)
            return Doctype(opening, len(text) if end < 0 else end + 1)
        if elements.in_foreign and text.startswith("[CDATA[", opening + 2):
            end = text.find("]]>", opening + 9)
            return Cdata(opening, len(text) if end < 0 else end + 3)
        return _bogus(text, opening)
    return _bogus(text, opening) if following == "?" else None


def _bogus(text: str, opening: int) -> Comment:
    end = text.find(">", opening)
    return Comment(opening, len(text) if end < 0 else end + 1)


def _comment(text: str, opening: int) -> Comment:
    data = opening + 4
    for abrupt in (">", "->"):  # <!--> and <!---> are empty comments (13.2.5.43)
        if text.startswith(abrupt, data):
            return Comment(opening, data + len(abrupt))
    end = _COMMENT_END.search(text, data)
    return Comment(opening, end.end() if end else len(text))


def _tag(text: str, opening: int, name_start: int, *, closing: bool) -> Token:
    found = _TAG_NAME.match(text, name_start)
    assert found is not None
    name, position, length = lowered(found[0]), found.end(), len(text)
    attributes: list[Attribute] = []
    while True:
        between = _BETWEEN.match(text, position)
        assert between is not None
        position = between.end()
        if position >= length:
            return Unfinished(opening, length)
        if text[position] == ">":
            end = position + 1
            if closing:
                return EndTag(name, opening, end)
            self_closing = position > between.start() and text[position - 1] == "/"
            return StartTag(name, opening, end, tuple(attributes), self_closing)
        attribute = _scan_attribute(text, position)
        if attribute is None:
            return Unfinished(opening, length)
        attributes.append(attribute)
        position = attribute.end


def _scan_attribute(text: str, start: int) -> Attribute | None:
    """Returns the attribute whose name begins at `start`; None where the text ends inside its value."""
    found = _ATTRIBUTE_NAME.match(text, start)
    assert found is not None
    name, end = lowered(found[0]), found.end()
    space = _SPACE.match(text, end)
    assert space is not None
    if not text.startswith("=", space.end()):
        return Attribute(name, start, end, end, end, None)
    space = _SPACE.match(text, space.end() + 1)
    assert space is not None
    value = space.end()
    quote = text[value : value + 1]
    if quote in ('"', "'") and quote:
        close = text.find(quote, value + 1)
        return None if close < 0 else Attribute(name, start, close + 1, value + 1, close, quote)
    unquoted = _UNQUOTED.match(text, value)
    assert unquoted is not None
    return Attribute(name, start, unquoted.end(), value, unquoted.end(), "")


_RAW_ENDS = {name: regex(rf"</{name}(?=[\t\n\f\r />])", re.IGNORECASE) for name in RCDATA | RAW_TEXT}


def _raw_end(text: str, position: int, name: str) -> int:
    found = _RAW_ENDS[name].search(text, position)
    return found.start() if found else len(text)


def _script_end(text: str, position: int) -> int:
    """Returns where a script's text ends: inside ``<!-- <script> … </script> -->`` an end tag does not count (13.2.5.15
    on)."""
    escaped = double = False
    while found := _SCRIPT.search(text, position):
        if found[0] == "<!--":
            escaped = True
            position = found.start() + 2  # the dashes may be those of -->
            continue
        if found[0] == "-->":
            escaped = double = False
        elif not found[1]:
            double = escaped
        elif double:
            double = False
        else:
            return found.start()
        position = found.end()
    return len(text)
