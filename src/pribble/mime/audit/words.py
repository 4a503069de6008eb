"""Encoded-words (RFC 2047) and raw UTF-8 (RFC 6532) in header fields."""

from __future__ import annotations

import re
import unicodedata

from pribble.mime.audit.report import Report
from pribble.mime.charsets import codec_name, fits
from pribble.mime.grammar import BASE64, ENCODED_WORD, WHITE_SPACE
from pribble.mime.reading import Field
from pribble.mime.words import BAD_HEX, Word, runs, words_in

_NOT_IN_PHRASE = re.compile(r"[^A-Za-z0-9!*+\-/=_]")
_QUOTED_OR_ANGLE = re.compile(r'"(?:[^"\\]|\\.)*"|<[^<>]*>', re.DOTALL)


def check_words(field: Field, report: Report, *, phrase: bool) -> None:
    """The encoded-words of a field of free text, or, `phrase`, of names and comments."""
    raw = field.raw
    if "=?" in raw:
        # What stands in quotes or is an address has rules of its own.
        text = _QUOTED_OR_ANGLE.sub(lambda found: " " * len(found[0]), raw) if phrase else raw
        words = list(words_in(text))
        for word in words:
            _check_word(word, text, field.value_start, report, phrase=phrase)
        _check_octets(words, text, field.value_start, report)
        beside = re.split("[,:;]", text) if phrase else [text]
        if words and any("=?" in stretch and not stretch.isascii() for stretch in beside):
            report.tell_of("international.mixed", field)


def check_raw(field: Field, report: Report, *, smtputf8: bool) -> None:
    """Octets beyond ASCII: UTF-8, and composed (RFC 6532 3.1); `smtputf8` says whether servers take them at all."""
    if field.raw.isascii():
        return
    try:
        text = field.raw.encode("latin-1").decode("utf-8")
    except UnicodeDecodeError:
        report.tell_of("international.utf8", field)
        return
    if not unicodedata.is_normalized("NFC", text):
        report.tell_of("international.nfc", field)
    report.tell_of("international.smtputf8" if smtputf8 else "international.raw", field)


def _check_word(word: Word, text: str, base: int, report: Report, *, phrase: bool) -> None:
    def tell(rule: str, detail: object = "") -> None:
        report.tell(rule, base + word.start, base + word.end, detail)

    if word.end - word.start > ENCODED_WORD:
        tell("words.long", word.end - word.start)
    if word.encoding not in ("B", "Q"):
        tell("words.encoding")
    if re.search(r"[ \t\r\n]", word.text):
        tell("words.space")
    elif "?" in word.text:
        tell("words.question-mark")
    elif word.encoding == "B" and not (BASE64.fullmatch(word.text) and len(word.text) % 4 == 0):
        tell("words.base64")
    elif word.encoding == "Q":
        if BAD_HEX.search(word.text):
            tell("words.hex")
        elif phrase and (bad := _NOT_IN_PHRASE.search(word.text)):
            tell("words.phrase", bad[0])
    before, after = text[word.start - 1 : word.start], text[word.end : word.end + 1]
    opening, closing = (WHITE_SPACE + "(", WHITE_SPACE + ")") if phrase else (WHITE_SPACE, WHITE_SPACE)
    # In a phrase a comma or the end of a group may follow at once.
    if (before and before not in opening + (",:" if phrase else "")) or (
        after and after not in closing + (",;:" if phrase else "")
    ):
        tell("words.beside")


def _check_octets(words: list[Word], text: str, base: int, report: Report) -> None:
    """What the words hold, those side by side together: each must be whole by itself (RFC 2047 5)."""
    for run in runs(words, text):
        charset = run[0].charset
        if codec_name(charset) is None:
            report.tell("words.charset", base + run[0].start, base + run[-1].end, charset)
            continue
        octets = [word.octets for word in run]
        broken = [word for word, part in zip(run, octets, strict=True) if part is not None and not fits(part, charset)]
        if broken:
            whole = len(run) > 1 and None not in octets and fits(b"".join(o for o in octets if o is not None), charset)
            for word in broken[:1] if whole else broken:
                report.tell("words.split-character" if whole else "words.octets", base + word.start, base + word.end)
        for word, part in zip(run, octets, strict=True):
            if part is not None and re.search(rb"[\r\n]", part):
                report.tell("words.line-break", base + word.start, base + word.end)
