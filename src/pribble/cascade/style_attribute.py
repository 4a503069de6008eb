"""An element's own ``style`` attribute: read, perhaps with marks in it, and written anew."""

from __future__ import annotations

from collections.abc import Sequence

from pribble.cascade.syntax import Declaration, StyleSheet
from pribble.markup.contexts import MARK
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute
from pribble.records import record
from pribble.regexes import regex

_REFERENCE = regex(r"&[#\w]+;?")


@record(frozen=True, slots=True)
class OwnDeclaration:
    """A declaration of an element's own attribute; `start` and `end` are where it stands in the page, `marked` whether
    it holds a mark."""

    declaration: Declaration
    start: int
    end: int
    marked: bool


def read_style_attribute(text: str, attribute: Attribute) -> list[OwnDeclaration]:
    """Returns the declarations of a ``style`` attribute."""
    raw = text[attribute.value_start : attribute.value_end]
    value, places = decode_with_offsets(raw)
    sheet = StyleSheet(value)
    places += [len(raw)] * (len(sheet.text) + 1 - len(places))
    if sheet.too_deep:  # nothing of it is read, and all of it stays
        unread = Declaration("-pribble-unread", value, False, (), 0, len(value))
        return [OwnDeclaration(unread, attribute.value_start, attribute.value_end, True)]
    own = []
    for each in sheet.declarations():
        if isinstance(each, Declaration):
            start, end = (attribute.value_start + places[offset] for offset in (each.start, each.end))
            own.append(OwnDeclaration(each, start, end, MARK.search(text, start, end) is not None))
    return own


def decode_with_offsets(raw: str) -> tuple[str, list[int]]:
    """Returns a raw value with its references read, and for each character where it stood."""
    if "&" not in raw:
        return raw, list(range(len(raw) + 1))
    made: list[str] = []
    places: list[int] = []
    position = 0
    for found in _REFERENCE.finditer(raw):
        made.append(raw[position : found.start()])
        places += range(position, found.start())
        read_ = decode_references(found[0], attribute=True)
        if raw[found.end() : found.end() + 1] == "=" and not found[0].endswith(";"):
            read_ = found[0]  # in an attribute a name that goes on so is no reference (WHATWG HTML 13.2.5.73)
        made.append(read_)
        places += [found.start()] * len(read_)
        position = found.end()
    made.append(raw[position:])
    places += range(position, len(raw) + 1)
    return "".join(made), places


# A piece of an attribute to be written: text, or a stretch of the page that stays.
TextOrSpan = str | tuple[int, int]


def escape_for_attribute(style: str, quote: str) -> str:
    """Returns a style as it is written between `quote`s; its own strings take the other kind of quote where they
    can."""
    other = "'" if quote == '"' else '"'
    if quote in style and other not in style and "\\" not in style:
        style = style.replace(quote, other)
    return style.replace("&", "&amp;").replace(quote, "&quot;" if quote == '"' else "&#39;").replace("\n", " ")


def join_declarations(declarations: Sequence[tuple[TextOrSpan, ...]], quote: str) -> tuple[TextOrSpan, ...]:
    """Returns declarations, separated; texts among their pieces are escaped for `quote`, and one text where they
    meet."""
    made: list[TextOrSpan] = []
    text = ""
    for index, pieces in enumerate(declarations):
        text += "; " if index else ""
        for piece in pieces:
            if isinstance(piece, str):
                text += escape_for_attribute(piece, quote)
            else:
                made += [text, piece]
                text = ""
    return (*made, text)
