"""The characters of running text: which of them nobody sees, and how white space collapses (CSS Text 3, 4.1).

While a page is read, white space that does not collapse, or at which no line is broken, is written as a control
character, which no text holds by then.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

from pribble.regexes import regex

# White space that collapses, and at which no line is broken (``white-space: nowrap``).
BOUND = "\x01"
# White space and line breaks that stay (``pre``), and white space that stays and at which a line may be broken.
KEPT, KEPT_BREAK, KEPT_SPACE = "\x02", "\x03", "\x04"
# Around the words for a picture, and in the place of one that has none.
PICTURE, PICTURE_END, PICTURED = "\x05", "\x06", "\x07"
# Behind the address of a link, which a word must not follow directly.
LINKED = "\x08"

ZERO_WIDTH_SPACE, WORD_JOINER = "\u200b", "\u2060"
# Spaces that bind while lines are wrapped, and are written as a space.
BINDING = f"{BOUND}{KEPT}\u00a0\u202f"

_SPACES = regex("[ \t\n\f\r]+")
# Soft hyphen, byte order mark, grapheme joiner; control characters, which a terminal might obey.
_UNSEEN = regex("[\x00-\x08\x0b\x0e-\x1f\x7f-\x9f\u00ad\ufeff\u034f]")
_JOINER = regex("[\u200c\u200d]+")
_NEWLINE = regex("\r\n|[\r\f]")
_EMOJI_MARKS = frozenset("\ufe0f\U0001f3fb\U0001f3fc\U0001f3fd\U0001f3fe\U0001f3ff")


def collapse_running(text: str) -> str:
    """Returns a text between tags in which white space collapses: each run of it as one space."""
    if text.isprintable() and "  " not in text:
        return text
    return _SPACES.sub(" ", _UNSEEN.sub("", text))


def bound(text: str) -> str:
    """Returns running text where no line is broken."""
    return text.replace(" ", BOUND)


def keep_spaces(text: str, *, breaking: bool) -> str:
    """Returns a text whose white space stays; `breaking` where lines may be broken at it."""
    return KEPT_BREAK.join(_kept_lines(text)).replace(" ", KEPT_SPACE if breaking else KEPT)


def keep_lines(text: str) -> str:
    """Returns a text of which only the line breaks stay (``pre-line``)."""
    return KEPT_BREAK.join(map(collapse_running, _kept_lines(text)))


def _kept_lines(text: str) -> list[str]:
    return _NEWLINE.sub("\n", _UNSEEN.sub("", text)).split("\n")


def is_plain_paragraph(text: str) -> bool:
    """Returns whether a paragraph shows something, is tidy, and holds nothing but characters that show and spaces
    between; False where that is not sure."""
    if not text.isprintable():
        text = text.replace("\u00a0", "").replace("\u202f", "")  # they stay wherever they stand
    return text.isprintable() and text[:1] not in ("", " ") and text[-1] != " " and "  " not in text


_UNTIDY = regex(f"[ {BOUND}](?:[ {BOUND}]|\\Z)|\\A[ {BOUND}]|[\n{KEPT_BREAK}{PICTURE}{PICTURED}{LINKED}\u200c\u200d]")


def _first_space(found: re.Match[str]) -> str:
    return found[1]


# What is between the texts of a run while all are looked at together: a character like any other.
_BETWEEN = "\u00a6"
_BEFORE, _AFTER = f" {_BETWEEN}", f"{_BETWEEN} "
_AROUND_BREAK = regex(f"(?:(?<![ {BOUND}])[ {BOUND}]++)?([\n{KEPT_BREAK}])[ {BOUND}]*+")
_RUN = regex(f"([ {BOUND}])[ {BOUND}]+")
_TOO_CLOSE = regex(rf"(?<!{LINKED}){LINKED}++(?=[\w\[(<“‘„«])")
_EMPTY_BEFORE = regex(f"\\A[{KEPT}{KEPT_SPACE}\n]*{KEPT_BREAK}(?:[{KEPT}{KEPT_SPACE}\n]*{KEPT_BREAK})*")
_EMPTY_LINES = regex("\n{3,}")


def tidy(text: str) -> str:
    """Returns a whole paragraph: white space collapsed across what it is made of, none at its ends or beside a line
    break, pictures in brackets.  Line breaks come out as LF."""
    if _UNTIDY.search(text) is None:
        return text
    if "\u200c" in text or "\u200d" in text:
        text = _JOINER.sub(_joiner, text)
    if PICTURE in text:
        text = text.replace(PICTURE, "[").replace(PICTURE_END, "]")
    if LINKED in text:
        text = _TOO_CLOSE.sub(" ", text).replace(LINKED, "")
    text = _RUN.sub(_first_space, text.replace(PICTURED, ""))
    if "\n" in text or KEPT_BREAK in text:
        text = _AROUND_BREAK.sub(_first_space, text)
    text = text.strip(f" \n{BOUND}")
    if "\n\n\n" in text:
        text = _EMPTY_LINES.sub("\n\n", text)
    if KEPT_BREAK in text:  # empty lines at the ends of preformatted text are none of a paragraph
        text = _EMPTY_BEFORE.sub("", text.rstrip(f"{KEPT_BREAK}{KEPT}{KEPT_SPACE}\n")).replace(KEPT_BREAK, "\n")
    return text


def joined_texts(texts: Iterable[str]) -> str:
    """Returns texts as one, to be looked at together."""
    return _BETWEEN.join(texts)


def are_tidy(joined: str) -> bool:
    """Returns whether `tidy` would leave all texts in `joined` as they are, and each that is not empty shows
    something in one line; False where that is not sure."""
    for space in (BOUND, "\u00a0", "\u202f"):
        if space in joined:
            joined = joined.replace(space, " ")
    return (
        joined.isprintable()
        and joined[:1] != " " != joined[-1:]
        and not ("  " in joined or _BEFORE in joined or _AFTER in joined)
    )


_NOTHING = regex(f"[\\s{BINDING}{KEPT_SPACE}{KEPT_BREAK}{PICTURED}{LINKED}\u200b\u2060\u200c\u200d]*")


def is_blank(text: str) -> bool:
    """Returns whether a paragraph, tidied or not, shows nothing."""
    if text.isprintable():
        return not text.strip(" ")
    return _NOTHING.fullmatch(text) is not None


# What the end of a line is rid of.
ENDS = f" {BINDING}{KEPT_SPACE}{ZERO_WIDTH_SPACE}{WORD_JOINER}"


def write_spaces(text: str) -> str:
    """Returns a text as it is written: spaces of all kinds as a space, places to break at gone."""
    for character in (BOUND, KEPT, KEPT_SPACE, "\u00a0", "\u202f"):
        if character in text:
            text = text.replace(character, " ")
    for character in (ZERO_WIDTH_SPACE, WORD_JOINER):
        if character in text:
            text = text.replace(character, "")
    return text


def _joiner(found: re.Match[str]) -> str:
    """Joiners stay between letters, marks and emoji, which they shape; elsewhere they hide something."""
    text = found.string
    before, after = text[found.start() - 1 : found.start()], text[found.end() : found.end() + 1]
    return found[0] if before and after and _is_shaped(before) and _is_shaped(after) else ""


def _is_shaped(character: str) -> bool:
    return unicodedata.category(character) in ("Ll", "Lm", "Lo", "Lt", "Lu", "Mc", "Me", "Mn", "So", "Sk") or (
        character in _EMOJI_MARKS
    )


_SUPERSCRIPTS = dict(zip("0123456789+-−=()n", "⁰¹²³⁴⁵⁶⁷⁸⁹⁺⁻⁻⁼⁽⁾ⁿ", strict=True))
# Marks of notes, one or several: anything in square brackets, a letter or a number in round ones.
_NOTES = regex(r"(?:(?:\[[^\[\]]*\]|\(\w{1,3}\))[,;]?)+")
_IN_PARENTHESES = regex(r"\([^()]*\)")
_SUBSCRIPTS = dict(zip("0123456789+-−=()", "₀₁₂₃₄₅₆₇₈₉₊₋₋₌₍₎", strict=True))


def superscript(text: str) -> str:
    """Returns what stands raised: as characters that are raised themselves, and where there are none, so that a power
    does not read as a factor.  Letters ("1st"), signs, and the marks of notes in their brackets ("[5]", "(a)") are
    left."""
    if all(character in _SUPERSCRIPTS for character in text):
        return "".join([_SUPERSCRIPTS[character] for character in text])
    plain = " " in text or text.isalpha() or not any(map(str.isalnum, text))
    if plain or _NOTES.fullmatch(text):
        return text
    return f"^{text}" if text.isalnum() or _IN_PARENTHESES.fullmatch(text) else f"^({text})"


def subscript(text: str) -> str:
    """Returns what stands lowered: as characters that are lowered themselves, a short index behind a low line."""
    if all(character in _SUBSCRIPTS for character in text):
        return "".join([_SUBSCRIPTS[character] for character in text])
    return f"_{text}" if text.isalnum() else text
