"""What the style sheets of a page say of its text: whether it shows, how its white space counts, what stands apart.

`Style` is what one element's declarations come to, not yet what it inherits.  Values that no browser knows are passed
over, as one does.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Literal

from pribble.records import record
from pribble.regexes import regex

# The properties that are read here, by their longhands.
READ = (
    "display",
    "visibility",
    "opacity",
    "font-size",
    "white-space-collapse",
    "text-wrap-mode",
    "height",
    "max-height",
    "overflow-y",
    "list-style-type",
    "margin-top",
    "margin-bottom",
    "padding-top",
    "padding-bottom",
)

# Less than this, in px, is no gap that a reader would make an empty line of.
_GAP = 6.0
_LENGTH = regex(
    r"([-+]?(?:\d++\.?\d*+|\.\d++)(?:e[-+]?\d++)?)(px|pt|pc|in|cm|mm|q|r?em|ex|ch|lh|rlh|[dsl]?v[whib]"
    r"|vmin|vmax|%)?",
    re.IGNORECASE,
)
_FONT_SIZE = regex(
    r"(?:^|\s)((?:xx-small|x-small|small|medium|large|x-large|xx-large|xxx-large|smaller|larger)"
    rf"|{_LENGTH.pattern})(?:\s*+/\s*+[^\s]++)?\s++[^\s\d]",
    re.IGNORECASE,
)
_PX = {"px": 1.0, "": 1.0, "pt": 4 / 3, "pc": 16.0, "in": 96.0, "cm": 37.8, "mm": 3.78, "q": 0.945}
_SIZES = frozenset("xx-small x-small small medium large x-large xx-large xxx-large math".split())
# What ``white-space`` says of collapsing and of wrapping.
_WHITE_SPACE = {
    "normal": ("collapse", "wrap"),
    "nowrap": ("collapse", "nowrap"),
    "pre": ("preserve", "nowrap"),
    "pre-wrap": ("preserve", "wrap"),
    "break-spaces": ("preserve", "wrap"),
    "pre-line": ("preserve-breaks", "wrap"),
}
_INSIDE = frozenset("inline inline-block inline-table inline-flex inline-grid ruby contents math".split())
_OUTSIDE = frozenset(
    "block flex grid flow-root list-item table table-row table-row-group table-header-group "
    "table-cell table-footer-group table-column table-column-group table-caption flow".split()
)
_MARKERS = frozenset(
    "disc circle square decimal decimal-leading-zero lower-alpha upper-alpha lower-latin upper-latin "
    "lower-roman upper-roman lower-greek none disclosure-open disclosure-closed".split()
)


@record(frozen=True, slots=True)
class Style:
    """What is declared for an element; None where nothing is, which is to say what its name says, or what it inherits.

    `display` is "none", "inline", "inline-block" or "block"; `gone` an element that shows nothing although it is there;
    `sized` False where its text has no size; `collapse` and `wrap` the two sides of ``white-space``; `above` and
    `below` whether a gap sets it off.
    """

    display: Literal["none", "inline", "inline-block", "block"] | None = None
    visible: bool | None = None
    gone: bool = False
    sized: bool | None = None
    collapse: str | None = None
    wrap: bool | None = None
    marker: str | None = None
    above: bool | None = None
    below: bool | None = None


NO_STYLE = Style()


def style_of(declared: Mapping[str, Iterable[tuple[str, str]]], name: str) -> Style:
    """Returns the style of an element called `name`: `declared` are, for each longhand of `READ`, the properties that
    set it and their values, the one that wins first."""

    def value(longhand: str) -> str | None:
        for prop, given in declared.get(longhand, ()):
            known = _known(longhand, prop.lower(), given.strip().lower())
            if known is not None:
                return known if known != "inherit" else None
        return None

    display = value("display")
    collapse, wrap = value("white-space-collapse"), value("text-wrap-mode")
    visibility, size, opacity = value("visibility"), value("font-size"), value("opacity")
    margins = value("margin-top"), value("margin-bottom")
    paddings = value("padding-top"), value("padding-bottom")
    flat = "zero" in (value("height"), value("max-height")) and value("overflow-y") in ("hidden", "clip")
    above, below = (_gap(margin, padding) for margin, padding in zip(margins, paddings, strict=True))
    made = Style(
        display=_display(display),
        visible=None if visibility is None else visibility == "visible",
        gone=opacity == "zero" or (flat and _has_height(name, display)),
        sized=None if size is None else size != "zero",
        collapse=collapse,
        wrap=None if wrap is None else wrap == "wrap",
        marker=value("list-style-type"),
        above=above,
        below=below,
    )
    return NO_STYLE if made == NO_STYLE else made


# Height is for blocks; of what is inline, and of the parts of a table, it is nothing or the least (CSS 2.1, 10.5,
# 17.5).
_BLOCKS = frozenset(
    "address article aside blockquote body center details dialog dd dir div dl dt fieldset figcaption "
    "figure footer form h1 h2 h3 h4 h5 h6 header hgroup hr legend li main menu nav ol p pre section "
    "summary ul".split()
)


def _display(given: str | None) -> Literal["none", "inline", "inline-block", "block"] | None:
    match given:
        case None | "none":
            return given
        case "inline" | "ruby" | "contents" | "math":
            return "inline"
    return "inline-block" if given in _INSIDE else "block"


def _has_height(name: str, display: str | None) -> bool:
    if display is None:
        return name in _BLOCKS
    return display in ("block", "inline-block", "flex", "inline-flex", "grid", "inline-grid", "flow-root", "list-item")


def _gap(margin: str | None, padding: str | None) -> bool | None:
    if "some" in (margin, padding):
        return True
    return None if margin is None else False


def _known(longhand: str, prop: str, given: str) -> str | None:
    """Returns what a declaration gives a longhand, in few words; None for a value that no browser knows."""
    if given in ("inherit", "initial", "unset", "revert", "revert-layer"):
        return _wide(longhand, given)
    match longhand:
        case "display":
            words = given.split()
            if len(words) > 1:  # "block flow", "inline flex" (CSS Display 3, 2)
                given = "inline" if "inline" in words else "block"
            return given if given == "none" or given in _INSIDE or given in _OUTSIDE else None
        case "visibility":
            return given if given in ("visible", "hidden", "collapse") else None
        case "opacity":
            return _extent(given, percent=True)
        case "font-size":
            return _font_size(given if prop == "font-size" else _of_font(given))
        case "white-space-collapse" | "text-wrap-mode":
            return _white_space(longhand, prop, given)
        case "height" | "max-height":
            return "auto" if given in ("auto", "none") else _extent(given)
        case "overflow-y":
            return given.split()[-1] if given else None
        case "list-style-type":
            return _marker_style(prop, given)
    return _side(longhand, given)


def _wide(longhand: str, given: str) -> str | None:
    """Returns the words that every property takes (CSS Cascade 5, 7.3)."""
    inherited = longhand in ("visibility", "font-size", "white-space-collapse", "text-wrap-mode", "list-style-type")
    if given == "inherit" or (given == "unset" and inherited) or given.startswith("revert"):
        return "inherit"
    return {
        "display": "inline",
        "visibility": "visible",
        "font-size": "some",
        "white-space-collapse": "collapse",
        "text-wrap-mode": "wrap",
        "list-style-type": "disc",
        "overflow-y": "visible",
    }.get(longhand, "auto" if "height" in longhand else "some" if longhand == "opacity" else "zero")


def _extent(given: str, *, percent: bool = False) -> str | None:
    found = _LENGTH.fullmatch(given)
    if found is None:
        return "some" if given.endswith(")") or given in ("min-content", "max-content", "fit-content") else None
    return "zero" if float(found[1]) == 0 or (percent and float(found[1]) < 0) else "some"


def _font_size(given: str | None) -> str | None:
    """Returns a font size: zero, some, or "inherit" for one that is a share of the parent's."""
    if given is None:
        return None
    if given in _SIZES:
        return "some"
    if given in ("smaller", "larger"):
        return "inherit"
    found = _LENGTH.fullmatch(given)
    if found is None:
        return "some" if given.endswith(")") else None
    if float(found[1]) == 0:
        return "zero"
    if float(found[1]) < 0 or not found[2]:
        return None
    return "inherit" if found[2].lower() in ("em", "%", "ex", "ch") else "some"


def _of_font(given: str) -> str | None:
    if given in ("caption", "icon", "menu", "message-box", "small-caption", "status-bar"):
        return "medium"
    found = _FONT_SIZE.search(given)
    return found[1] if found else None


def _white_space(longhand: str, prop: str, given: str) -> str | None:
    collapses = longhand == "white-space-collapse"
    if prop != "white-space":
        words = (
            ("collapse", "preserve", "preserve-breaks", "preserve-spaces", "break-spaces")
            if collapses
            else ("wrap", "nowrap")
        )
        if given not in words:
            return None
        return "preserve" if given in ("break-spaces", "preserve-spaces") else given
    known = _WHITE_SPACE.get(given)
    return known[0 if collapses else 1] if known else None


def _marker_style(prop: str, given: str) -> str | None:
    words = list(re.sub(r"\([^)]*+(?:\)|\Z)", "", given).split())
    found = [word for word in words if word in _MARKERS]
    if prop == "list-style":
        return found[-1] if found else "disc"
    return found[0] if len(words) == 1 and found else "disc" if words else None


def _side(longhand: str, given: str) -> str | None:
    """Returns the top or bottom of a margin or padding: some, where it makes a gap."""
    words = given.split()
    if not words or len(words) > 4 or "(" in given:
        return "some" if "(" in given else None
    word = words[0] if longhand.endswith("top") or len(words) < 3 else words[2]
    if word == "auto":
        return "zero"
    found = _LENGTH.fullmatch(word)
    if found is None:
        return None
    unit = (found[2] or "").lower()
    return "some" if float(found[1]) * _PX.get(unit, 16.0) >= _GAP else "zero"
