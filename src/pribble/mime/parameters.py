"""Parameters as others wrote them (RFC 2045 5.1, RFC 2231), read leniently, with each departure and its place.

What is read are octets, one character each (ISO 8859-1).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from urllib.parse import unquote_to_bytes

from pribble.cached_property import cached_property
from pribble.mime.charsets import codec_name, decode_charset
from pribble.mime.grammar import EXTENDED_VALUE, PARAMETER_NAME, TOKEN, WHITE_SPACE
from pribble.records import field, record
from pribble.regexes import regex

_NOT_ENDED = regex(r'[^;"]*')
_WORD = regex(r"[^(; \t\r\n]*")
_QUOTED = regex(r'"((?:[^"\\]|\\.)*)("?)', re.DOTALL)
_CONTROL = regex("[\x00-\x1f\x7f]")
_SPACE = regex(r"(?:[ \t\r\n]|\((?:[^()\\]|\\.)*\))*", re.DOTALL)


@record(frozen=True, slots=True)
class Departure:
    """What is not as it should be: the rule, and the stretch that it is about."""

    rule: str
    start: int
    end: int
    detail: str = ""


@record(frozen=True, slots=True)
class ParameterPiece:
    """A parameter as it was written: its attribute in lower case, which section of it this is, whether its value is
    percent-encoded, the value without quotes, whether it had some, and where it stands."""

    name: str
    section: int | None
    extended: bool
    value: str
    quoted: bool
    start: int
    end: int


@record
class Parameters:
    """The value before the first semicolon, in lower case, and the parameters behind it."""

    value: str = ""
    pieces: list[ParameterPiece] = field(default_factory=list)
    departures: list[Departure] = field(default_factory=list)

    def get(self, name: str) -> str | None:
        """Returns a parameter, put together and decoded; the form for all characters before the plain one."""
        return self.decoded.get(name)

    @cached_property
    def decoded(self) -> Mapping[str, str]:
        """All parameters, put together and decoded."""
        found: dict[str, list[ParameterPiece]] = {}
        for piece in self.pieces:
            found.setdefault(piece.name, []).append(piece)
        return {name: _assemble(pieces) for name, pieces in found.items()}


def read_parameters(text: str) -> Parameters:
    """Returns a Content-Type or Content-Disposition; `text` is the field's value as it was written, folds and all."""
    read = Parameters()
    position = _space(text, 0, len(text))
    end = _find_stop(text, position, stop=";")
    read.value = text[position:end].strip(WHITE_SPACE).lower()
    _read_first(read, text, position, end)
    while end < len(text):
        semicolon, end = end, _find_stop(text, end + 1, stop=";")
        if _space(text, semicolon + 1, end) >= end:
            read.departures.append(Departure("parameters.empty", semicolon, semicolon + 1))
        _read_between(read, text, semicolon + 1, end)
    _check(read)
    return read


def _read_first(read: Parameters, text: str, start: int, end: int) -> None:
    """A value that goes on after a space, as if a semicolon had been there."""
    value, space, rest = read.value.partition(" ")
    if space and "=" in rest and "(" not in rest:
        read.departures.append(Departure("parameters.missing-semicolon", start, end))
        read.value = value
        _read_between(read, text, start + len(value) + 1, end)


def _read_between(read: Parameters, text: str, start: int, end: int) -> None:
    """Read what stands between two semicolons: one parameter, or several where semicolons are missing."""
    position = _space(text, start, end)
    while position < end:
        position = _read_piece(read, text, position, end)


def _read_piece(read: Parameters, text: str, start: int, stop: int) -> int:
    """Read the parameter at `start`; returns where the next begins."""
    equals = text.find("=", start, stop)
    name = PARAMETER_NAME.fullmatch(text[start:equals].strip(WHITE_SPACE)) if equals >= 0 else None
    if name is None:
        read.departures.append(Departure("parameters.syntax", start, stop))
        return stop
    value, quoted, end = _read_value(read, text, _space(text, equals + 1, stop), stop, name[1].lower())
    section = int(name[2]) if name[2] is not None and len(name[2]) < 6 else None
    if name[2] is not None and len(name[2]) > 1 and name[2][0] == "0":
        read.departures.append(Departure("parameters.continuation", start, end, "a number begins with 0"))
    read.pieces.append(ParameterPiece(name[1].lower(), section, name[3] is not None, value, quoted, start, end))
    after = _space(text, end, stop)
    if after < stop:
        read.departures.append(Departure("parameters.missing-semicolon", start, after))
    return after


def _read_value(read: Parameters, text: str, begin: int, stop: int, name: str) -> tuple[str, bool, int]:
    if text.startswith('"', begin, stop):
        found = _QUOTED.match(text, begin)
        assert found is not None
        if not found[2]:
            read.departures.append(Departure("parameters.unclosed-quote", begin, found.end()))
        return re.sub(r"\\(.)", r"\1", re.sub(r"\r?\n(?=[ \t])", "", found[1]), flags=re.DOTALL), True, found.end()
    found = _WORD.match(text, begin, stop)
    assert found is not None
    value, end = found[0], found.end()
    # Words until the next semicolon belong to it, unless one of them is a parameter.
    if text.find("=", end, stop) < 0 and text.find("(", end, stop) < 0:
        value, end = text[begin:stop].rstrip(WHITE_SPACE), stop
    if not value or TOKEN.fullmatch(value) is None:
        rule = "parameters.raw-octets" if not value.isascii() else "parameters.unquoted-tspecial"
        if name == "boundary" and "=" in value:
            rule = "multipart.unquoted-equals"
        read.departures.append(Departure(rule, begin, end))
    return value, False, end


def _find_stop(text: str, start: int, stop: str) -> int:
    """Returns the next `stop` that is in no quotes, or the end."""
    position = start
    while position < len(text) and text[position] != stop:
        if text[position] == '"':
            found = _QUOTED.match(text, position)
            position = found.end() if found else position + 1
        else:
            found = _NOT_ENDED.match(text, position)
            position = max(found.end() if found else 0, position + 1) if text[position] not in ';"' else position
    return position


def _space(text: str, start: int, end: int) -> int:
    found = _SPACE.match(text, start, end)
    return found.end() if found else start


def _check(read: Parameters) -> None:
    """Checks what is amiss between parameters: RFC 2045 5.1 has each once, RFC 2231 3 and 4 have sections and
    charsets."""
    by_name: dict[str, list[ParameterPiece]] = {}
    for piece in read.pieces:
        by_name.setdefault(piece.name, []).append(piece)
    for pieces in by_name.values():
        first, last = pieces[0].start, pieces[-1].end
        sections = [piece.section for piece in pieces if piece.section is not None]
        plain = [piece for piece in pieces if piece.section is None]
        if len([p for p in plain if p.extended]) > 1 or len([p for p in plain if not p.extended]) > 1:
            read.departures.append(Departure("parameters.repeated", first, last, pieces[0].name))
        elif plain and (sections or len(plain) > 1):
            read.departures.append(Departure("parameters.both-forms", first, last, pieces[0].name))
        if sections and sorted(sections) != list(range(len(sections))):
            read.departures.append(Departure("parameters.continuation", first, last))
        extended = [piece for piece in pieces if piece.extended]
        for piece in extended:
            _check_extended(read, piece)
        if extended:
            _check_decoded(read, pieces)


def _check_extended(read: Parameters, piece: ParameterPiece) -> None:
    value = piece.value
    if piece.quoted:
        read.departures.append(Departure("parameters.quoted-extended", piece.start, piece.end))
    if piece.section in (None, 0):
        rest = value.partition("'")[2]
        if "'" not in rest:  # charset and language may be blank, but not left out (RFC 2231 4)
            read.departures.append(Departure("parameters.no-charset", piece.start, piece.end))
        value = rest.partition("'")[2] if "'" in rest else value
    if not EXTENDED_VALUE.fullmatch(value):
        read.departures.append(Departure("parameters.bad-percent", piece.start, piece.end))


def _check_decoded(read: Parameters, pieces: Sequence[ParameterPiece]) -> None:
    """Checks what the octets of a percent-encoded parameter come to (RFC 2231 4)."""
    octets, charset = _octets(pieces)
    first, last = pieces[0].start, pieces[-1].end
    text = decode_charset(octets, charset)
    if codec_name(charset) is None:
        read.departures.append(Departure("parameters.charset", first, last, charset))
    elif text is None:
        read.departures.append(Departure("parameters.octets", first, last, charset))
    elif found := _CONTROL.search(text or ""):
        read.departures.append(Departure("parameters.control", first, last, f"U+{ord(found[0]):04X}"))


def _assemble(pieces: Sequence[ParameterPiece]) -> str:
    """Returns the value of one parameter, from its pieces in any order."""
    octets, charset = _octets(pieces)
    text = decode_charset(octets, charset)
    return octets.decode("latin-1") if text is None else text


def _octets(pieces: Sequence[ParameterPiece]) -> tuple[bytes, str]:
    """Returns the octets of one parameter and their charset."""
    chosen = (
        [p for p in pieces if p.section is None and p.extended]
        or sorted((p for p in pieces if p.section is not None), key=lambda p: p.section or 0)
        or pieces[:1]
    )
    charset, stretches = "utf-8", []
    for number, piece in enumerate(chosen):
        value = piece.value
        if number == 0 and piece.extended and value.count("'") >= 2:
            named, _, value = value.split("'", 2)
            charset = named or charset
        stretches.append(unquote_to_bytes(value) if piece.extended else value.encode("latin-1"))
    return b"".join(stretches), charset  # what is raw is UTF-8 (RFC 6532)
