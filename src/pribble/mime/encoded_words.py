"""Encoded-words (RFC 2047) as others wrote them: found, decoded, shown."""

from __future__ import annotations

import binascii
from collections.abc import Iterator
from typing import NamedTuple

from pribble.mime.charsets import decode_charset
from pribble.mime.grammar import WHITE_SPACE
from pribble.regexes import regex

# What begins one, or was meant to.
_BEGIN = regex(r"=\?([^? \t\r\n]{1,60})\?([^? \t\r\n]{1,20})\?")
# No encoded-word is so long; what does not end before is none.
_FAR = 2000
BAD_HEX = regex(r"=(?![0-9A-Fa-f]{2})")


class Word(NamedTuple):
    """An encoded-word: where it is, its charset (RFC 2231 5: a language may follow it), its encoding in capitals, its
    text."""

    start: int
    end: int
    charset: str
    encoding: str
    text: str

    @property
    def octets(self) -> bytes | None:
        """What it holds; None where its encoding is broken."""
        try:
            if self.encoding == "B":
                return binascii.a2b_base64(self.text.encode("latin-1"), strict_mode=True)
            if self.encoding == "Q" and not BAD_HEX.search(self.text):
                return binascii.a2b_qp(self.text.encode("latin-1"), header=True)
        except binascii.Error:
            pass
        return None


def words_in(text: str) -> Iterator[Word]:
    """Yields the encoded-words of a field, well made or not."""
    position = 0
    while found := _BEGIN.search(text, position):
        end = text.find("?=", found.end(), found.end() + _FAR)
        if end < 0:
            position = found.end()
            continue
        yield Word(
            found.start(), end + 2, found[1].partition("*")[0].lower(), found[2].upper(), text[found.end() : end]
        )
        position = end + 2


def runs(words: list[Word], text: str) -> Iterator[list[Word]]:
    """Yields words of one charset with only white space between them, which is not shown (RFC 2047 6.2)."""
    run: list[Word] = []
    for word in words:
        if run and (run[-1].charset != word.charset or text[run[-1].end : word.start].strip(WHITE_SPACE)):
            yield run
            run = []
        run.append(word)
    if run:
        yield run


def decoded_runs(text: str) -> Iterator[tuple[str, bool]]:
    """Yields a field's value (octets, one character each) in stretches: what is shown, and whether it was encoded.

    What cannot be decoded is shown as it stands; what is raw is UTF-8 (RFC 6532).
    """
    position = 0
    for run in runs(list(words_in(text)), text):
        octets = b"".join(word.octets or b"" for word in run)
        shown = None if any(word.octets is None for word in run) else decode_charset(octets, run[0].charset)
        if shown is None:
            continue
        before = text[position : run[0].start]
        # Nor is white space between words of two charsets.
        if before.strip(WHITE_SPACE) or not position:
            yield _raw(before), False
        yield shown, True
        position = run[-1].end
    yield _raw(text[position:]), False


def decoded_text(text: str) -> str:
    """Returns a field's value as it is shown."""
    return "".join([shown for shown, _ in decoded_runs(text)])


def _raw(text: str) -> str:
    return text if text.isascii() else text.encode("latin-1").decode("utf-8", "replace")
