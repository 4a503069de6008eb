"""Plain values: those that every receiver reads, so that a declaration below with the same property is never seen."""

from __future__ import annotations

import re

from tinycss2.color3 import parse_color

from pribble.cascade.syntax import readable
from pribble.regexes import regex

# Possessive, as all of these: what is no plain value is found out in one go.
_NUMBER = r"(?:\d++(?:\.\d++)?|\.\d++)"
_LENGTH = rf"(?:0|{_NUMBER}(?:px|em|%))"
_THICKNESS = rf"(?:0|{_NUMBER}(?:px|em))"
_SIGNED = rf"(?:0|-?{_NUMBER}(?:px|em|%))"
_AUTO = rf"(?:auto|{_SIGNED})"
_HEX = r"#(?:[0-9a-f]{3}|[0-9a-f]{6})"
_LINE = "(?:none|hidden|dotted|dashed|solid|double)"
_FAMILY = r"(?:[a-z][-\w]*+(?: [a-z][-\w]*+)*+|'[^'\\]*'|\"[^\"\\]*\")"


def _keywords(words: str) -> str:
    return "|".join(words.split())


def _up_to_four(one: str) -> str:
    return rf"{one}(?: {one}){{0,3}}"


_PATTERNS = {
    _up_to_four(_AUTO): "margin",
    _up_to_four(_LENGTH): "padding border-radius",
    _up_to_four(_THICKNESS): "border-width",
    _AUTO: "margin-top margin-right margin-bottom margin-left top right bottom left",
    rf"auto|{_LENGTH}": "width height",
    rf"none|{_LENGTH}": "max-width max-height",
    _LENGTH: "padding-top padding-right padding-bottom padding-left min-width min-height font-size",
    _THICKNESS: "border-spacing border-top-width border-right-width border-bottom-width border-left-width",
    rf"normal|{_NUMBER}|{_LENGTH}": "line-height",
    rf"normal|0|-?{_NUMBER}(?:px|em)": "letter-spacing word-spacing",
    _SIGNED: "text-indent",
    r"0|1|0?\.\d+": "opacity",
    "normal|bold|[1-9]00": "font-weight",
    _keywords("normal italic"): "font-style",
    _keywords("left right center justify"): "text-align",
    _keywords("none underline line-through overline"): "text-decoration text-decoration-line",
    _keywords("none uppercase lowercase capitalize"): "text-transform",
    _keywords("block inline inline-block none table table-row table-cell list-item"): "display",
    _keywords("top middle bottom baseline sub super text-top text-bottom"): "vertical-align",
    _keywords("normal nowrap pre pre-wrap pre-line"): "white-space",
    _keywords("collapse separate"): "border-collapse",
    _keywords("left right none"): "float",
    _keywords("left right both none"): "clear",
    _keywords("visible hidden"): "visibility overflow",
    _keywords("disc circle square decimal none"): "list-style-type",
    _keywords("ltr rtl"): "direction",
    _keywords("auto fixed"): "table-layout",
    _LINE: "border-style border-top-style border-right-style border-bottom-style border-left-style",
    rf"{_FAMILY}(?:, ?{_FAMILY})*": "font-family",
}
_PLAIN = {name: regex(pattern, re.IGNORECASE) for pattern, names in _PATTERNS.items() for name in names.split()}
_COLOURS = frozenset(
    "color background-color border-color border-top-color border-right-color border-bottom-color "
    "border-left-color outline-color".split()
)
_COLOUR = regex(rf"{_HEX}|[a-z]+", re.IGNORECASE)
_BORDERS = frozenset("border border-top border-right border-bottom border-left".split())
_BORDER = regex(rf"0|none|{_THICKNESS} {_LINE} (?P<colour>{_HEX}|[a-z]+)", re.IGNORECASE)


def is_plain_value(name: str, value: str) -> bool:
    """Returns whether `value` is one that every receiver accepts for the property `name`."""
    if name in _COLOURS or name == "background":
        return _COLOUR.fullmatch(value) is not None and _is_colour(value)
    if name in _BORDERS:
        found = _BORDER.fullmatch(value)
        return found is not None and (found["colour"] is None or _is_colour(found["colour"]))
    pattern = _PLAIN.get(name)
    return pattern is not None and pattern.fullmatch(value) is not None


def _is_colour(value: str) -> bool:
    return value.lower() == "transparent" or parse_color(readable(value)) not in (None, "currentColor")
