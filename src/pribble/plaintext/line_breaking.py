"""Lines: how wide a text is, and where it may be broken (the parts of UAX 14 that mail needs).

Lines are broken at spaces, and within Han, Kana and Thai, which have none.  An address is never broken.  A line that
goes on in the next ends in `GOES_ON`, where it was broken at a space, or, broken at none, in `JOINED`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.graphemes import column_count as columns_of
from pribble.graphemes import graphemes
from pribble.plaintext.characters import BINDING, BOUND, ENDS, KEPT_SPACE, WORD_JOINER, ZERO_WIDTH_SPACE, write_spaces
from pribble.regexes import regex

# The end of a line that goes on in the next: it was broken at a space, or at none.
GOES_ON, JOINED = "\x0c", "\x0e"

# Scripts and signs of which every character is one column wide; none combines.
_NARROW = regex(
    "[\x01-\x04 -~\n\u00a0-\u00ac\u00ae-\u02ff\u0370-\u0482\u048a-\u0590\u2010-\u2015\u2018-\u2027"
    "\u2030-\u205e\u20a0-\u20bf]*"
)
_HAN = (
    "\u2e80-\u2fff\u3001-\u33ff\u3400-\u4dbf\u4e00-\u9fff\uf900-\ufaff\uff01-\uff60\uffe0-\uffe6\U00020000-\U0003fffd"
)
_WIDE = regex(f"[{_HAN}]")
_THAI = regex("[\u0e01-\u0e5b]")
_UNSPACED = regex(f"[{_HAN}\u0e01-\u0e5b{ZERO_WIDTH_SPACE}]")
# An address is as long as it is.
_ADDRESS = regex(r"<?[a-z][-a-z0-9+.]*+:[^\s]", re.IGNORECASE)
# What no line begins with: closing punctuation, small kana, marks of repetition and length (classes CL, CP, EX, IS, NS,
# CJ of UAX 14); and what none ends with: opening punctuation (OP).  Quotation marks (QU) bind on both sides.
_NOT_FIRST = frozenset(
    "、。，．・：；？！゛゜ヽヾゝゞ々ー’”）〕］｝〉》」』】〙〗〟｠»°′″℃％‰!),.:;?]}%…‥〜゠–/／"
    "ぁぃぅぇぉっゃゅょゎゕゖァィゥェォッャュョヮヵヶㇰㇱㇲㇳㇴㇵㇶㇷㇸㇹㇺㇻㇼㇽㇾㇿ｡｣､･ｰﾞﾟ"
)
_NOT_LAST = frozenset("‘“（〔［｛〈《「『【〘〖〝｟«([{$£¥€＄￡￥№#＃\\")
# Of these, what no line begins with after a space either, and none ends with before one (LB13, LB14, LB16).
_CLOSING = frozenset("!?;:,)]}…‥") | {character for character in _NOT_FIRST if character > "\u2e80"}
_OPENING = frozenset("([{（〔［｛〈《「『【〘〖")
_BINDING = frozenset(f"'\"‘’“”{BINDING}{WORD_JOINER}")
# Every one of these begins a syllable.
_THAI_FIRST = frozenset("เแโใไ")


def is_narrow(text: str) -> bool:
    """Returns whether each character of `text` is one column wide."""
    if text.isascii():
        return True
    try:
        text.encode("latin-1")  # of which no character is wider; the quickest way to ask
    except UnicodeEncodeError:
        return _NARROW.fullmatch(text) is not None
    return True


def terminal_columns(text: str) -> int:
    """Returns how many columns of a terminal `text` takes."""
    if is_narrow(text):
        return len(text)
    width = columns_of(write_spaces(text))
    return len(text) if width is None else width


def wrap(text: str, width: int) -> list[str]:
    """Returns the lines of a tidied paragraph, of at most `width` columns; a word that is wider stands alone."""
    if is_narrow(text):
        if len(text) <= width and "\n" not in text:
            return [text.rstrip(ENDS)]
        if KEPT_SPACE not in text and BOUND not in text:
            return [line for given in text.split("\n") for line in _cut_plain(given, width)]
    return [line for given in text.split("\n") for line in _wrapped_line(given, width)]


def _cut_plain(text: str, width: int) -> list[str]:
    """Returns the lines of a text all of whose characters are one column wide, broken at its plain spaces."""
    lines: list[str] = []
    start = 0
    while len(text) - start > width:
        end = text.rfind(" ", start, start + width + 1)
        while end > start and (text[end + 1] in _CLOSING or text[end - 1] in _OPENING):
            end = text.rfind(" ", start, end)
        if end <= start or text[start:end] == "--":
            end = text.find(" ", max(start + 3, start + width if end <= start else end + 1))
            if end < 0:
                break
        lines.append(text[start:end].rstrip(ENDS) + GOES_ON)
        start = end + 1
    lines.append(text[start:].rstrip(ENDS))
    return lines


def _wrapped_line(line: str, width: int) -> Iterator[str]:
    if terminal_columns(line) <= width:
        yield line.rstrip(ENDS)
        return
    current, used = "", 0
    for piece, space in _bound(_breakable_pieces(line, width)):
        size = terminal_columns(piece)
        if current and used + size > width and current.strip(" ") != "--":
            yield _continuing_line(current)
            current, used = "", 0
        current += piece + space
        used += size + len(space)
    yield current.rstrip(ENDS)


def _continuing_line(line: str) -> str:
    """Returns a line that goes on in the next."""
    text = line.rstrip(ENDS)
    return text + (GOES_ON if line[-1:] in (" ", KEPT_SPACE) else JOINED)


def _bound(pieces: Iterator[tuple[str, str]]) -> Iterator[tuple[str, str]]:
    """Yields pieces, with those together that not even a space between lets apart."""
    before, gap = "", ""
    for piece, space in pieces:
        if before and (not gap or not (piece[:1] in _CLOSING or before[-1] in _OPENING)):
            yield before, gap
            before, gap = "", ""
        before += gap + piece
        gap = space
    yield before, gap


def _breakable_pieces(line: str, width: int) -> Iterator[tuple[str, str]]:
    """Yields the pieces of a line between which it may be broken, each with the space behind it."""
    for word in re.findall(f"[^ {KEPT_SPACE}]+[ {KEPT_SPACE}]*|[ {KEPT_SPACE}]+", line):
        text = word.rstrip(f" {KEPT_SPACE}")
        space = word[len(text) :]
        if not text:
            yield "", space
            continue
        if BOUND in text and terminal_columns(text) > width:  # it asked not to be broken, and is too wide
            *parts, text = text.split(BOUND)
            for part in parts:
                yield part, " "
        parts = list(_unspaced(text, width)) if _UNSPACED.search(text) and not _ADDRESS.match(text) else [text]
        for part in parts[:-1]:
            yield part, ""
        yield parts[-1], space


def _unspaced(word: str, width: int) -> Iterator[str]:
    """Yields a word in pieces, where it may be broken between its characters."""
    thai = bool(_THAI.search(word)) and terminal_columns(word) > width
    piece = ""
    for character in graphemes(word):
        if piece and _may_break(piece[-1], character[0], _base(piece), thai):
            yield piece
            piece = ""
        piece += character
    yield piece


def _base(piece: str) -> str:
    """Returns the last character of a piece that is no mark upon another."""
    return next((c for c in reversed(piece) if terminal_columns(c)), piece[-1])


def _may_break(before: str, after: str, base: str, thai: bool) -> bool:
    if before == ZERO_WIDTH_SPACE:
        return True
    if after in _NOT_FIRST or base in _NOT_LAST or after in _BINDING or base in _BINDING or before == WORD_JOINER:
        return False
    if after == ZERO_WIDTH_SPACE:
        return False
    if _WIDE.match(base) or _WIDE.match(after):
        return True
    return thai and after in _THAI_FIRST and _THAI.match(base) is not None and base not in _THAI_FIRST
