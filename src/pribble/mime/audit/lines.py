"""Lines: their ends, their lengths, and the octets that none may hold (RFC 5322 2.1 to 2.3, RFC 2045 2.7)."""

from __future__ import annotations

from bisect import bisect_right

from pribble.mime.audit.report import Report
from pribble.mime.grammar import ENCODED_WORD_TEXT, LINE, LINE_WITH_ENCODED_WORD, LONGEST_LINE
from pribble.mime.reading import Entity
from pribble.regexes import regex

_BARE_LF = regex(r"(?<!\r)\n")
_BARE_CR = regex(r"\r(?!\n)")
_NUL = regex("\0")
_CONTROL = regex(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")
_TOKENS = regex(r"[^ \t]+")
_IN_QUOTES = regex(r'"(?:[^"\\]|\\.)*"')


def check_lines(root: Entity, report: Report) -> None:
    """Checks everything about lines, of the whole message."""
    text = root.text
    entities = list(root.walk())
    headers = sorted((e.start, e.body_start) for e in entities)
    starts = [start for start, _ in headers]

    # RFC 2045 2.9: in a binary body a line feed is an octet like others.
    binary = [(e.body_start, e.end) for e in entities if e.encoding == "binary" and not e.parts]
    binary_starts = [start for start, _ in binary]

    def in_header(offset: int) -> bool:
        index = bisect_right(starts, offset) - 1
        return index >= 0 and offset < headers[index][1]

    def in_binary(offset: int) -> bool:
        index = bisect_right(binary_starts, offset) - 1
        return index >= 0 and offset < binary[index][1]

    ends = text.count("\r\n")
    if text.count("\n") != ends:
        for found in _BARE_LF.finditer(text):
            if in_binary(found.start()):
                continue
            inside = in_header(found.start())
            report.add("lines.bare-lf-header" if inside else "lines.bare-lf-body", found.start(), found.end())
    if text.count("\r") != ends:
        for found in _BARE_CR.finditer(text):
            if in_binary(found.start()):
                continue
            report.add("lines.bare-cr", found.start(), found.end())
    for entity in entities:
        _check_header_lines(entity, report)
        for start, end in entity.own_stretches():
            _check_body_lines(entity, start, end, report)
    if text and not text.endswith("\n"):
        report.add("limits.no-final-crlf", len(text) - 1, len(text))


def _check_header_lines(entity: Entity, report: Report) -> None:
    text, position = entity.text, entity.start
    while position < entity.body_start:
        stop = text.find("\n", position, entity.body_start) + 1 or entity.body_start
        line = text[position:stop].rstrip("\r\n")
        end = position + len(line)
        if not line.isprintable():  # controls, or octets beyond ASCII
            for found in _CONTROL.finditer(line):
                report.add(
                    "lines.control-header", position + found.start(), position + found.end(), f"U+{ord(found[0]):04X}"
                )
        if len(line) > LONGEST_LINE:
            report.add("lines.long-header", position, end, len(line))
        elif len(line) > LINE_WITH_ENCODED_WORD:
            _check_width(line, position, report)
        position = stop


def _check_width(line: str, position: int, report: Report) -> None:
    width = len(line) if line.isascii() else len(line.encode("latin-1").decode("utf-8", "replace"))
    end = position + len(line)
    if ENCODED_WORD_TEXT.search(line):
        if width > LINE_WITH_ENCODED_WORD:
            report.add("lines.wide-encoded-word", position, end, width)
    elif width > LINE:
        # Where a fold could be: at a space behind the first token, and not within quotes.
        name, colon, value = line.partition(":")
        tokens = _TOKENS.findall(_IN_QUOTES.sub('""', value if colon and " " not in name else line))
        report.add("lines.wide-header" if len(tokens) > 1 else "lines.wide-token", position, end, width)


def _check_body_lines(entity: Entity, position: int, end: int, report: Report) -> None:
    if entity.encoding == "binary":  # RFC 2045 2.9: anything goes
        return
    text = entity.text
    for found in _NUL.finditer(text, position, end):
        report.add("lines.nul-body", found.start(), found.end())
    if entity.encoding in ("quoted-printable", "base64"):  # whose lines are shorter still
        return
    while end - position > LONGEST_LINE:
        stop = text.find("\n", position, end)
        stop = end if stop < 0 else stop
        size = stop - position - (text[stop - 1 : stop] == "\r")
        if size > LONGEST_LINE:
            report.add("lines.long-body", position, stop, size)
        position = stop + 1
