"""Values of the properties that `computed.py` reads: parsed, or found to be none, and then passed over."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache

from pribble.cascade.colours import BLACK, WHITE, Colour, Scheme, css_colour
from pribble.cascade.syntax import Node, component_values
from pribble.regexes import regex

READ = frozenset(
    "color background-color background-image font-size font-weight font-family display visibility opacity text-align "
    "color-scheme float position width height max-width max-height overflow-x overflow-y text-indent object-fit".split()
)
# What the words for colours of the system stand for (CSS Color 4, 6.2).
_LIGHT_SYSTEM = {
    "canvas": WHITE,
    "canvastext": BLACK,
    "linktext": Colour(0, 0, 238),
    "visitedtext": Colour(85, 26, 139),
    "activetext": Colour(255, 0, 0),
    "field": WHITE,
    "fieldtext": BLACK,
    "buttonface": Colour(239, 239, 239),
    "buttontext": BLACK,
    "graytext": Colour(128, 128, 128),
    "mark": Colour(255, 255, 0),
    "marktext": BLACK,
}
SYSTEM: dict[Scheme, dict[str, Colour]] = {
    "light": _LIGHT_SYSTEM,
    "dark": {
        **_LIGHT_SYSTEM,
        "canvas": Colour(18, 18, 18),
        "canvastext": WHITE,
        "linktext": Colour(158, 158, 255),
        "visitedtext": Colour(208, 173, 240),
        "activetext": Colour(255, 158, 158),
        "field": Colour(59, 59, 59),
        "fieldtext": WHITE,
        "buttonface": Colour(107, 107, 107),
        "buttontext": WHITE,
    },
}
_WIDE = {name: name for name in ("inherit", "initial", "unset", "revert")} | {"revert-layer": "revert"}
_KEYWORDS = ("xx-small", "x-small", "small", "medium", "large", "x-large", "xx-large", "xxx-large")
_QUIRKS, _MONOSPACE = True, True
# The sizes that keywords mean to a browser: without or with a doctype, of any family or of monospace alone.
_SIZES = {
    (False, False): (9, 10, 13, 16, 18, 24, 32, 48),
    (_QUIRKS, False): (9, 10, 13, 16, 18, 24, 32, 48),
    (False, _MONOSPACE): (9, 10, 12, 13, 16, 20, 26, 39),
    (_QUIRKS, _MONOSPACE): (9, 9, 10, 13, 16, 20, 26, 40),
}
# Units of length in CSS pixels (CSS Values 4, 6.2); that of the root's font is of the initial one.
PIXELS = {
    "px": 1.0,
    "pt": 4 / 3,
    "pc": 16.0,
    "in": 96.0,
    "cm": 96 / 2.54,
    "mm": 96 / 25.4,
    "q": 96 / 101.6,
    "rem": 16.0,
}
_RELATIVE = frozenset({"em", "ex", "ch", "vw", "vh"})
_DISPLAYS = frozenset(
    "none contents block inline inline-block flow-root list-item flex inline-flex grid inline-grid table inline-table "
    "table-row table-row-group table-header-group table-footer-group table-cell table-column table-column-group "
    "table-caption ruby ruby-text math".split()
)
_WORDS = {
    "display": _DISPLAYS,
    "visibility": frozenset({"visible", "hidden", "collapse"}),
    "text-align": frozenset(
        "start end left right center justify -webkit-center -webkit-left -webkit-right -pribble-th".split()
    ),
    "float": frozenset("left right none inline-start inline-end".split()),
    "position": frozenset("static relative absolute fixed sticky -webkit-sticky".split()),
    "overflow-x": frozenset("visible hidden clip scroll auto".split()),
    "overflow-y": frozenset("visible hidden clip scroll auto".split()),
    "object-fit": frozenset("fill contain cover none scale-down".split()),
}
_GROUND_WORDS = frozenset(
    "repeat repeat-x repeat-y no-repeat space round scroll fixed local left right top bottom center border-box "
    "padding-box content-box text cover contain auto none".split()
)
_PICTURED = regex(r"(?:-[a-z]+-)?(?:url|image-set|image|src|cross-fade|element|[a-z-]*gradient|paint)\Z")


def font_size_of_keyword(keyword: str, *, monospace: bool, quirks: bool) -> float:
    """Returns the size in CSS pixels that a keyword means to a browser (CSS Fonts 4, 2.5.1)."""
    return float(_SIZES[quirks, monospace][_KEYWORDS.index(keyword)])


@lru_cache(maxsize=8192)
def specified(longhand: str, prop: str, written: str) -> object | None:
    """Returns what a declaration of `prop` gives a longhand: a word, a `Colour`, a number with its unit.  None where
    no browser reads the value, so that the declaration before it counts."""
    word = written.lower()
    if word in _WIDE:
        return _WIDE[word]
    if prop == "background":
        return _of_background(longhand, written)
    if prop == "font":
        return _font_part(longhand, written)
    if longhand in ("color", "background-color"):
        return _colour_word(word)
    if longhand == "background-image":
        return "none" if word == "none" else "picture" if _is_pictured(component_values(written)) else None
    if longhand == "font-size":
        return _font_size_value(component_values(written))
    if longhand == "font-weight":
        return _weight_value(word)
    if longhand == "font-family":
        return word.strip() or None
    if longhand == "opacity":
        return _opacity(component_values(written))
    if longhand == "color-scheme":
        return word
    if longhand in ("width", "height", "max-width", "max-height", "text-indent"):
        return _length_value(word)
    if longhand.startswith("overflow"):
        words = word.split()
        word = words[-1 if longhand.endswith("y") else 0] if words else ""
    if longhand == "display" and " " in word:  # "block flow", "inline flex" (CSS Display 3, 2)
        word = _display_words(word.split())
    return word if word in _WORDS[longhand] else None


def significant(nodes: Sequence[Node]) -> list[Node]:
    """Returns component values without white space and comments."""
    return [node for node in nodes if node.type not in ("whitespace", "comment")]


def _colour_word(word: str) -> object | None:
    if word in _LIGHT_SYSTEM or word in ("currentcolor", "-pribble-body-text"):
        return word
    if word.startswith("light-dark("):
        return None
    return css_colour(word)


def _is_pictured(nodes: Sequence[Node]) -> bool:
    parts = significant(nodes)
    return bool(parts) and (parts[0].type == "url" or _is_picture(parts[0]))


def _is_picture(node: Node) -> bool:
    return node.type == "url" or (node.type == "function" and _PICTURED.match(node.lower_name) is not None)


def _display_words(words: Sequence[str]) -> str:
    outer = "inline" if "inline" in words else "block"
    inner = next((word for word in words if word not in ("block", "inline", "flow")), "")
    if inner == "list-item":
        return inner
    if inner == "flow-root":
        return "inline-block" if outer == "inline" else inner
    return (f"inline-{inner}" if outer == "inline" else inner) if inner else outer


def _weight_value(word: str) -> str | None:
    if word in ("normal", "bold", "bolder", "lighter"):
        return {"normal": "400", "bold": "700"}.get(word, word)
    return word if re.fullmatch(r"[0-9]{1,4}(?:\.[0-9]{1,6})?", word) and 1 <= float(word) <= 1000 else None


def _opacity(nodes: Sequence[Node]) -> float | None:
    parts = significant(nodes)
    if len(parts) != 1 or parts[0].type not in ("number", "percentage"):
        return None
    number = float(parts[0].value) / (100 if parts[0].type == "percentage" else 1)
    return min(max(number, 0.0), 1.0)


_SIZE = regex(r"([-+]?(?:[0-9]{1,9}(?:\.[0-9]{0,9})?|\.[0-9]{1,9}))(px|pt|pc|in|cm|mm|q|r?em|%|vw|vh)?")


def _length_value(word: str) -> str | None:
    """Returns a length in pixels or percent; a word as it is; "some" for what is computed elsewhere."""
    if word in ("auto", "none", "min-content", "max-content", "fit-content"):
        return word
    found = _SIZE.fullmatch(word)
    if found is None:
        return "some" if word.endswith(")") else None
    number, unit = float(found[1]), found[2]
    if unit is None:
        return None if number else "0px"
    if unit in ("%", "vw", "vh"):
        return f"{number:g}{'%' if unit == '%' else unit}"
    return f"{number * PIXELS.get(unit, 16.0):g}px"


def _font_size_value(nodes: Sequence[Node]) -> object | None:
    parts = significant(nodes)
    if len(parts) != 1:
        return None
    node = parts[0]
    if node.type == "ident":
        return node.lower_value if node.lower_value in (*_KEYWORDS, "smaller", "larger") else None
    if node.type == "number":
        return (0.0, "px") if node.value == 0 else None
    if node.type == "percentage":
        return (float(node.value), "%") if node.value >= 0 else None
    if node.type == "dimension" and node.value >= 0:
        unit = node.lower_unit
        if unit in _RELATIVE:
            return float(node.value), unit
        return (float(node.value) * PIXELS[unit], "px") if unit in PIXELS else None
    return None


def _font_part(longhand: str, written: str) -> object | None:
    """Returns what the shorthand says: words, a size and perhaps the height of a line, a family (CSS Fonts 4, 2.7)."""
    parts = significant(component_values(written))
    at = next((i for i, node in enumerate(parts) if _is_size(node)), None)
    if at is None or at + 1 >= len(parts) or any(node.type not in ("ident", "number") for node in parts[:at]):
        return None
    family = at + 3 if parts[at + 1].type == "literal" and parts[at + 1].value == "/" else at + 1
    if family >= len(parts) or parts[family].type not in ("ident", "string"):
        return None
    match longhand:
        case "font-size":
            return _font_size_value(parts[at : at + 1])
        case "font-weight":
            words = [node.serialize().lower() for node in parts[:at]]
            return next((found for word in words if word != "normal" and (found := _weight_value(word))), "400")
    return "".join(node.serialize() for node in parts[family:]).lower()


def _is_size(node: Node) -> bool:
    if node.type == "ident":
        return node.lower_value in (*_KEYWORDS, "smaller", "larger")
    return node.type in ("dimension", "percentage") or (node.type == "number" and node.value == 0)


def _of_background(longhand: str, written: str) -> object | None:
    """Returns what the shorthand says of the colour, or of a picture (CSS Backgrounds 3, 2.10)."""
    colour: object | None = None
    pictured = False
    for node in significant(component_values(written)):
        if _is_picture(node):
            pictured = True
        elif node.type == "literal" and node.value in ("/", ","):
            continue
        elif (found := _colour_word(node.serialize().lower())) is not None:
            if colour is not None:
                return None
            colour = found
        elif not (
            node.type in ("dimension", "percentage", "number")
            or (node.type == "ident" and node.lower_value in _GROUND_WORDS)
            or (node.type == "function" and node.lower_name in ("calc", "min", "max", "clamp"))
        ):
            return None
    if longhand == "background-image":
        return "picture" if pictured else "none"
    return colour if colour is not None else "initial"
