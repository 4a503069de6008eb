"""Fields that a message has no argument of its own for: checked, and each written in the form that it has.

Free text is what most of them are.  The others have forms in which encoded-words have no place (RFC 2047 5): a word of
theirs stands as it is, however long.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping

from pribble.errors import AddressError, HeaderError
from pribble.mime.address import Group, parse_list
from pribble.mime.fields import MESSAGE, OTHERS, Syntax, known_field
from pribble.mime.grammar import ENCODED_WORD_TEXT, FIELD_NAME, URI
from pribble.mime.header import FieldWriter, checked, free_text, read_date_time, write_field
from pribble.mime.header_fields import address_field, checked_id
from pribble.regexes import regex

_BLANKS = " \t"
_WORD = regex(r"[^ \t]+")
# RFC 2369 2: a URI in angle brackets, and perhaps a comment, and a comma before the next.
_IN_ANGLES = regex(r"<([^<>]*)>[ \t]*+(\([^()\\]*\))?[ \t]*+(,?)[ \t]*+")
# RFC 2919 3:  list-id-header = "List-ID:" [phrase] "<" list-id ">"   list-id = list-label "." list-id-namespace
_LIST_ID = regex(r"([^<>]*)(<[A-Za-z0-9!#$%&'*+\-/=?^_`{|}~]+(?:\.[A-Za-z0-9!#$%&'*+\-/=?^_`{|}~]+)+>)")
# White space in quotes is no place for a fold.
_QUOTED_OR_NOT = regex(r'(?P<space>[ \t]+)|"(?:[^"\\]|\\.)*+"|(?P<open>".*)|[^" \t]+', re.DOTALL)


def extra_fields(headers: Mapping[str, str] | Iterable[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
    """Returns further header fields, their names checked, and that their values are no more than one line; empty ones
    are left out.  Raises `HeaderError`."""
    pairs = headers.items() if isinstance(headers, Mapping) else headers
    kept: list[tuple[str, str]] = []
    once: set[str] = set()
    for name, value in pairs:
        if not (isinstance(name, str) and isinstance(value, str)):
            raise TypeError(
                f"headers are names and values, texts both, and not {type(name).__name__} and {type(value).__name__}"
            )
        _check_name(name)
        if not checked(name, value, text=True):
            continue
        if not value.strip():
            raise HeaderError(f"{name}: white space and nothing else", hint="an empty text writes no field")
        if name.lower() in once:
            known = known_field(name)
            raise HeaderError(f"{name}: this field stands in a header once at most ({known.reference})")
        if known_field(name).once:
            once.add(name.lower())
        kept.append((name, value))
    return tuple(kept)


def _check_name(name: str) -> None:
    if not FIELD_NAME.fullmatch(name):
        raise HeaderError(
            f'"{name[:60]}" is no name of a header field'
            if name.isprintable()
            else "the name of a header field holds a control character",
            hint="it is made of printable ASCII characters but the colon",
        )
    setter = known_field(name).setter
    if setter != "headers":
        raise HeaderError(
            f"{name}: this field is not set by headers",
            hint="servers, signers or readers add it, on its way"
            if setter == OTHERS
            else "a message writes it itself, as its parts need it"
            if setter == MESSAGE
            else f"Message has an argument of its own for it: {setter}",
        )


def extra_field(name: str, value: str, *, utf8: bool) -> bytes:
    """Returns a further field, written in the form that it has.  Raises `HeaderError` and `AddressError`, which name
    it."""
    syntax = known_field(name).syntax
    if syntax == "text":
        return free_text(name, value, utf8=utf8)
    if syntax == "phrases":
        return _phrases(name, value, utf8)
    if syntax in ("mailboxes", "addresses"):
        return _addresses(name, value, utf8, groups=syntax == "addresses")
    if syntax == "list-id":
        return _list_id(name, value, utf8)
    return write_field(name, *_FORMS[syntax](name, value))


def _phrases(name: str, value: str, utf8: bool) -> bytes:
    writer = FieldWriter(name, utf8=utf8)
    phrases = [phrase.strip(_BLANKS) for phrase in value.split(",")]
    if not all(phrases):
        raise HeaderError(f"{name}: nothing between two commas, or beside one")
    for number, phrase in enumerate(phrases, 1):
        writer.phrase(checked(name, phrase), "," * (number < len(phrases)))
    return writer.finished()


def _addresses(name: str, value: str, utf8: bool, *, groups: bool) -> bytes:
    try:
        found = tuple(parse_list(value))
    except AddressError as error:
        raise AddressError(f"{name}: {error.problem}", hint=error.hint) from None
    if not found or (not groups and any(isinstance(one, Group) for one in found)):
        raise AddressError(f"{name}: no address, or a group" if found else f"{name}: no address")
    return address_field(name, found, utf8)


def _list_id(name: str, value: str, utf8: bool) -> bytes:
    found = _LIST_ID.fullmatch(value.strip(_BLANKS))
    if found is None:
        raise HeaderError(
            f'{name}: "{value[:60]}" names no list',
            hint="it is written Berth news <berths.skerrow.example>, a name and an id with a dot in it (RFC 2919 3)",
        )
    writer = FieldWriter(name, utf8=utf8)
    if phrase := found[1].strip(_BLANKS):
        writer.phrase(phrase)
    writer.word(found[2])
    return writer.finished()


def _uris(name: str, value: str) -> Iterator[str]:
    """Yields URIs in angle brackets, each with its comma, and a comment where there is one."""
    if name.lower() == "list-post" and value.strip(_BLANKS).upper() == "NO":  # RFC 2369 3.4
        yield "NO"
        return
    value = value.strip(_BLANKS)
    position, comma = 0, ","
    while position < len(value):
        found = _IN_ANGLES.match(value, position) if comma else None
        if found is None or not URI.fullmatch(found[1]):
            raise HeaderError(
                f'{name}: "{value[position : position + 60]}" is no address in angle brackets'
                if comma
                else f"{name}: a comma is missing at position {position}",
                hint="it is written <https://…>, several with a comma between them; what is not ASCII, and a space, is "
                "percent-encoded",
            )
        comma = found[3] or ""
        if found[2]:
            yield f"<{found[1]}>"
            yield f"{found[2]}{comma}"
        else:
            yield f"<{found[1]}>{comma}"
        position = found.end()
    if comma:
        raise HeaderError(f"{name}: nothing behind the last comma")


def _write_ids(name: str, value: str) -> Iterator[str]:
    for one in _WORD.findall(value):
        yield checked_id(one, name)


def _id(name: str, value: str) -> Iterator[str]:
    yield checked_id(value.strip(_BLANKS), name)


def _date(name: str, value: str) -> Iterator[str]:
    if read_date_time(value.strip(_BLANKS)) is None:
        raise HeaderError(f'{name}: "{value[:60]}" is no moment', hint="one is written Fri, 03 Jul 2026 10:15:00 +0100")
    yield value.strip(_BLANKS)


def _write_words(name: str, value: str) -> Iterator[str]:
    """Yields words of ASCII; a fold has no place within quotes."""
    if ENCODED_WORD_TEXT.search(value):
        raise HeaderError(f"{name}: an encoded-word has no place in this field (RFC 2047 5)")
    word = ""
    for found in _QUOTED_OR_NOT.finditer(value.strip(_BLANKS)):
        if found["open"]:
            raise HeaderError(f"{name}: a quoted string is not closed at position {found.start()}")
        if found["space"]:
            yield word
            word = ""
        else:
            word += found[0]
    yield word


_FORMS: dict[Syntax, Callable[[str, str], Iterator[str]]] = {
    "uris": _uris,
    "id": _id,
    "ids": _write_ids,
    "date": _date,
    "tokens": _write_words,
    "trace": _write_words,
    "path": _write_words,
    "structured": _write_words,
}
