"""The markers of list items (CSS Counter Styles 3, 6)."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.plaintext.blocks import List, ListItem

_ROMAN = (
    (1000, "m"),
    (900, "cm"),
    (500, "d"),
    (400, "cd"),
    (100, "c"),
    (90, "xc"),
    (50, "l"),
    (40, "xl"),
    (10, "x"),
    (9, "ix"),
    (5, "v"),
    (4, "iv"),
    (1, "i"),
)
_GREEK = "αβγδεζηθικλμνξοπρστυφχψω"
_LATIN = "abcdefghijklmnopqrstuvwxyz"
_BULLETS = frozenset({"disc", "circle", "square", "disclosure-open", "disclosure-closed"})


def markers(listed: List) -> Iterator[str]:
    """Yields the marker for each block of a list, with the space behind it; nothing for what is no item."""
    items = [block for _, block in listed.blocks if isinstance(block, ListItem)]
    number = len(items) if listed.start is None else listed.start
    for _, block in listed.blocks:
        if not isinstance(block, ListItem):
            yield ""
            continue
        if block.value is not None:
            number = block.value
        yield _marker_text(block.marker or listed.marker, number)
        number += listed.step


def _marker_text(kind: str, number: int) -> str:
    if kind in _BULLETS:
        return "- "
    if kind == "none":
        return ""
    if kind == "decimal-leading-zero":
        return f"{number:03d}. " if number < 0 else f"{number:02d}. "
    text = ""
    if kind in ("lower-roman", "upper-roman"):
        text = _roman(number)
    elif kind in ("lower-alpha", "upper-alpha", "lower-latin", "upper-latin"):
        text = _letters(number, _LATIN)
    elif kind == "lower-greek":
        text = _letters(number, _GREEK)
    return f"{(text.upper() if kind.startswith('upper') else text) or number}. "


def _roman(number: int) -> str:
    if not 0 < number < 4000:
        return ""
    made = ""
    for value, letters in _ROMAN:
        made += letters * (number // value)
        number %= value
    return made


def _letters(number: int, alphabet: str) -> str:
    made = ""
    while number > 0:
        number, index = divmod(number - 1, len(alphabet))
        made = alphabet[index] + made
    return made
