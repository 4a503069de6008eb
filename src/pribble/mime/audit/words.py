"""Encoded-words (RFC 2047) and raw UTF-8 (RFC 6532) in header fields."""

from __future__ import annotations

import re
import unicodedata
from typing import Literal

from pribble.mime.audit.report import Report
from pribble.mime.charsets import codec_name, decode_charset, fits
from pribble.mime.comments import Commented, read_comments
from pribble.mime.encoded_words import BAD_HEX, Word, runs, words_in
from pribble.mime.fields import Syntax
from pribble.mime.grammar import BASE64, ENCODED_WORD, ENCODED_WORD_TEXT, WHITE_SPACE
from pribble.mime.reading import ReadField
from pribble.regexes import regex

# The part of a field that an encoded-word stands in (RFC 2047 5 (1), (3), (2)).
_In = Literal["text", "phrase", "comment"]
# What Q may not leave bare there.
_NOT_BARE = {
    "text": regex(r"(?!)"),
    "phrase": regex(r"[^A-Za-z0-9!*+\-/=_]"),
    "comment": regex(r'["()]'),
}
# What may stand before and behind one, at once; in a phrase also a comma, and the ends of a group.
_BESIDE = {
    "text": (WHITE_SPACE, WHITE_SPACE),
    "phrase": (WHITE_SPACE + "(,:", WHITE_SPACE + "),;:"),
    "comment": (WHITE_SPACE + "(", WHITE_SPACE + ")"),
}
_LOWER_HEX = regex("=(?:[a-f][0-9A-Fa-f]|[0-9A-F][a-f])")
_CONTROL = regex("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")
_QUOTED_OR_ANGLE = regex(r'"(?:[^"\\]|\\.)*+"|<[^<>]*+>', re.DOTALL)
_IN_ANGLES = regex(r"<[^<>]*>")


def check_words(field: ReadField, report: Report, syntax: Syntax) -> None:
    """Checks the encoded-words of a field of this syntax: each well made, and in a place for one."""
    raw = field.raw
    if "=?" not in raw:
        return
    if syntax == "text":
        _check_all(raw, None, field, report)
    elif syntax in ("phrases", "mailboxes", "addresses", "list-id"):
        # What stands in quotes or is an address has rules of its own.
        text = _QUOTED_OR_ANGLE.sub(lambda found: " " * len(found[0]), raw)
        _check_all(text, read_comments(text), field, report)
    else:
        _check_structured(field, report, syntax)


def _check_structured(field: ReadField, report: Report, syntax: Syntax) -> None:
    """Checks encoded-words where none may be but in comments, and of what servers say not even there."""
    raw, commented = field.raw, read_comments(field.raw)
    where = raw if syntax == "trace" else commented.outside
    # Between ids may be a phrase (RFC 5322 4.5.4).
    stretches = [ids.span() for ids in _IN_ANGLES.finditer(where)] if syntax in ("id", "ids") else [(0, len(where))]
    for start, end in stretches:
        for found in ENCODED_WORD_TEXT.finditer(where, start, end):
            at = field.value_start + found.start()
            report.add("words.forbidden", at, at + len(found[0]), field.name)
    if syntax != "trace" and commented.comments:
        _check_all(commented.inside(raw), commented, field, report)


def _check_all(text: str, commented: Commented | None, field: ReadField, report: Report) -> None:
    """Checks the encoded-words of a text; without comments it is free text, with some a phrase."""
    words = list(words_in(text))
    for word in words:
        place: _In = "text" if commented is None else "comment" if commented.holds(word.start) else "phrase"
        _check_word(word, text, field.value_start, report, place)
    _check_octets(words, text, field.value_start, report)
    beside = [text] if commented is None else re.split("[,:;]", text)
    if words and any("=?" in stretch and not stretch.isascii() for stretch in beside):
        report.add_at("international.mixed", field)


def check_raw(field: ReadField, report: Report, *, smtputf8: bool) -> None:
    """Checks octets beyond ASCII: UTF-8, and composed (RFC 6532 3.1); `smtputf8` says whether servers take them at
    all."""
    if field.raw.isascii():
        return
    try:
        text = field.raw.encode("latin-1").decode("utf-8")
    except UnicodeDecodeError:
        report.add_at("international.utf8", field)
        return
    if not unicodedata.is_normalized("NFC", text):
        report.add_at("international.nfc", field)
    report.add_at("international.smtputf8" if smtputf8 else "international.raw", field)


def check_raw_in_part(field: ReadField, report: Report) -> None:
    """Checks octets beyond ASCII in a field of a part whose message is else ASCII (RFC 5322 2.2)."""
    if not field.raw.isascii():
        report.add_at("international.part", field, field.name)


def _check_word(word: Word, text: str, base: int, report: Report, place: _In) -> None:
    def tell(rule: str, detail: object = "") -> None:
        report.add(rule, base + word.start, base + word.end, detail)

    if word.end - word.start > ENCODED_WORD:
        tell("words.long", word.end - word.start)
    if word.encoding not in ("B", "Q"):
        tell("words.encoding")
    if not word.text:
        tell("words.empty")
    elif re.search(r"[ \t\r\n]", word.text):
        tell("words.space")
    elif "?" in word.text:
        tell("words.question-mark")
    elif word.encoding == "B" and not (BASE64.fullmatch(word.text) and len(word.text) % 4 == 0):
        tell("words.base64")
    elif word.encoding == "Q":
        if BAD_HEX.search(word.text):
            tell("words.hex")
        elif bad := _NOT_BARE[place].search(word.text):
            tell("words.phrase", bad[0])
        if _LOWER_HEX.search(word.text):
            tell("words.lower-case")
    before, after = text[word.start - 1 : word.start], text[word.end : word.end + 1]
    opening, closing = _BESIDE[place]
    if (before and before not in opening) or (after and after not in closing):
        tell("words.beside")


def _check_octets(words: list[Word], text: str, base: int, report: Report) -> None:
    """Checks what the words hold, those side by side together: each must be whole by itself (RFC 2047 5)."""
    for run in runs(words, text):
        charset = run[0].charset
        if codec_name(charset) is None:
            report.add("words.charset", base + run[0].start, base + run[-1].end, charset)
            continue
        octets = [word.octets for word in run]
        broken = [word for word, part in zip(run, octets, strict=True) if part is not None and not fits(part, charset)]
        if broken:
            whole = len(run) > 1 and None not in octets and fits(b"".join(o for o in octets if o is not None), charset)
            for word in broken[:1] if whole else broken:
                report.add("words.split-character" if whole else "words.octets", base + word.start, base + word.end)
        for word, part in zip(run, octets, strict=True):
            shown = "" if part is None else decode_charset(part, charset) or ""
            if re.search(r"[\r\n]", shown):
                report.add("words.line-break", base + word.start, base + word.end)
            elif control := _CONTROL.search(shown):
                report.add("words.control", base + word.start, base + word.end, f"U+{ord(control[0]):04X}")
