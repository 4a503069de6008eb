"""What elements mean to a text: which are blocks, which stand apart, which are not said, what they hand on."""

from __future__ import annotations

import re
from typing import NamedTuple

from pribble.plaintext import characters as chars
from pribble.plaintext.blocks import List, ListItem, TableShape
from pribble.plaintext.events import Open
from pribble.plaintext.style import NO_STYLE, Style
from pribble.regexes import regex

# Elements of which nothing is said: what no browser shows, and what one cannot use in a text.
_NOT_SAID = frozenset(
    "head script style template title object iframe noembed noframes select textarea audio video "
    "canvas datalist rp map desc metadata defs".split()
)
BLOCKS = frozenset(
    "address article aside blockquote body center details dialog dd dir div dl dt fieldset figcaption figure footer "
    "form header hgroup hr html legend li listing main menu nav ol optgroup option p plaintext pre search section "
    "summary table tr td th tbody thead tfoot caption colgroup ul xmp h1 h2 h3 h4 h5 h6".split()
)
# Blocks that an empty line sets off where no style sheet says otherwise.
APART = frozenset(
    "p h1 h2 h3 h4 h5 h6 ul ol dl menu dir blockquote pre listing xmp plaintext figure fieldset hr table "
    "td th caption article aside footer header main nav section".split()
)
TABLE_PARTS = frozenset("tr td th tbody thead tfoot caption colgroup".split())
PREFORMATTED = frozenset("pre listing xmp plaintext".split())
HEADINGS = frozenset("h1 h2 h3 h4 h5 h6".split())
LISTS = frozenset("ul ol menu dir".split())
_NUMBER = regex("-?[0-9]{1,9}")
_MOST_COLUMNS = 1000
_LONGEST_INDEX = 40

# Elements that hand something on by their names.
_STYLED = PREFORMATTED | LISTS | {"nobr"}
_MARKERS = {
    "1": "decimal",
    "a": "lower-alpha",
    "A": "upper-alpha",
    "i": "lower-roman",
    "I": "upper-roman",
    "disc": "disc",
    "circle": "circle",
    "square": "square",
    "none": "none",
}


class Inherited(NamedTuple):
    """What an element hands on to what stands in it."""

    visible: bool = True
    sized: bool = True
    collapse: str = "collapse"
    wrap: bool = True
    marker: str | None = None


def is_unsaid(tag: Open) -> bool:
    """Returns whether nothing is said of an element and what stands in it."""
    style = tag.style
    if tag.name in _NOT_SAID or style.gone:
        return True
    return style.display == "none" or (style.display is None and tag.attributes.get("hidden") is not None)


def inherit(before: Inherited, tag: Open) -> Inherited:
    """Returns what an element hands on, which itself inherits `before`."""
    name, style = tag.name, tag.style
    if style is NO_STYLE and not tag.attributes and name not in _STYLED:
        return before
    made = before
    if name in PREFORMATTED:
        made = made._replace(collapse="preserve", wrap=False)
    elif name == "nobr" or (name in ("td", "th") and tag.attributes.get("nowrap") is not None):
        made = made._replace(wrap=False)
    if style.visible is not None:
        made = made._replace(visible=style.visible)
    if style.sized is not None:
        made = made._replace(sized=style.sized)
    if style.collapse is not None:
        made = made._replace(collapse=style.collapse)
    if style.wrap is not None:
        made = made._replace(wrap=style.wrap)
    if style.marker is not None or name in LISTS:
        given = _MARKERS.get(tag.attributes.get("type") or "")
        made = made._replace(marker=style.marker or given or ("decimal" if name == "ol" else "disc"))
    return made


def list_of(tag: Open, marker: str | None) -> List:
    """Returns a list, whose items have this marker where it does not say another one."""
    marker = marker or "disc"
    if tag.name != "ol":
        return List(marker)
    reverse = tag.attributes.get("reversed") is not None
    start = (tag.attributes.get("start") or "").strip()
    first = int(start) if _NUMBER.fullmatch(start) else None if reverse else 1
    return List(marker, first, -1 if reverse else 1)


def item_of(tag: Open) -> ListItem:
    """Returns an item of a list."""
    value = (tag.attributes.get("value") or "").strip()
    own = tag.style.marker or _MARKERS.get(tag.attributes.get("type") or "")
    return ListItem([], int(value) if _NUMBER.fullmatch(value) else None, own)


def shape_of(tag: Open) -> TableShape:
    """Returns the shape of a cell."""
    return TableShape(tag.name == "th", _span(tag, "colspan"), _span(tag, "rowspan"))


def _span(tag: Open, name: str) -> int:
    given = (tag.attributes.get(name) or "").strip()
    return min(max(1, int(given)), _MOST_COLUMNS) if re.fullmatch("[0-9]{1,6}", given) else 1


def indexed(name: str, label: str) -> str:
    """Returns what stands raised ("sup") or lowered ("sub")."""
    text = label.strip(" ")
    if not text or len(text) > _LONGEST_INDEX or not text.isprintable():
        return label
    return label.replace(text, chars.superscript(text) if name == "sup" else chars.subscript(text))


def picture(alt: str | None) -> str:
    """Returns the words for a picture, in the brackets that `characters.tidy` writes."""
    said = chars.collapse_running(alt or "").strip(" ")
    return f"{chars.PICTURE}{said}{chars.PICTURE_END}" if said else chars.PICTURED


def is_block(name: str, style: Style) -> bool:
    """Returns whether an element is a block, and stands in no line."""
    if name in TABLE_PARTS:
        return True
    if name in BLOCKS:
        return style.display != "inline"
    return style.display == "block"
