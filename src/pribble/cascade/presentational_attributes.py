"""The old presentational attributes, beside the styles that say the same, for receivers that drop styles."""

from __future__ import annotations

import re
from collections.abc import Iterator

from tinycss2.color3 import parse_color

from pribble.cascade.cascade_order import ElementStyles
from pribble.cascade.elements import Element
from pribble.cascade.syntax import readable
from pribble.regexes import regex

_CELLS = frozenset({"td", "th"})
_ROWS = frozenset({"td", "th", "tr"})
_GROUNDED = frozenset({"table", "tr", "td", "th", "body"})
_ALIGNED = frozenset({"td", "th", "tr", "p", "div"})
_PX = regex(r"(\d+)(?:\.0+)?px", re.IGNORECASE)
_SIZE = regex(r"(\d+)(?:\.0+)?(?:px|(%))", re.IGNORECASE)


def presentational_attributes(element: Element, group: ElementStyles) -> Iterator[tuple[str, str]]:
    """Yields the attributes to add to an element: name and value; never one that its author wrote."""
    for name, value in _wanted(element.local_name, group):
        if name not in element.values:
            yield name, value


def _wanted(tag: str, group: ElementStyles) -> Iterator[tuple[str, str]]:
    if tag in _GROUNDED:
        ground = _winning_value(group, "background-color", "background")
        colour = ground is not None and _opaque(ground)
        if colour:
            yield "bgcolor", str(colour)
    for name in ("width", "height"):
        size = _winning_value(group, name)
        if size is None:
            continue
        if tag in _CELLS and (found := _SIZE.fullmatch(size)):
            yield name, found[1] + (found[2] or "")
        elif tag == "img" and (found := _PX.fullmatch(size)):
            yield name, found[1]
    if tag in _ALIGNED and (align := _winning_value(group, "text-align")) in ("left", "right", "center", "justify"):
        yield "align", str(align)
    if tag in _ROWS and (valign := _winning_value(group, "vertical-align")) in ("top", "middle", "bottom", "baseline"):
        yield "valign", str(valign)


def _winning_value(group: ElementStyles, *names: str) -> str | None:
    """Returns the value that wins among these properties; None where there is none, or it holds a mark."""
    found = group.last(*names)
    return None if found is None or found.span is not None else found.text.strip().lower()


def _opaque(value: str) -> str | None:
    colour = parse_color(readable(value))
    if colour is None or colour == "currentColor" or colour.alpha != 1:
        return None
    return "#" + "".join(f"{round(part * 255):02x}" for part in (colour.red, colour.green, colour.blue))
