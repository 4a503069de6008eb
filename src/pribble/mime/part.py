"""Parts of a message: header fields and a body, or parts in turn (RFC 2045, 2046, 2387).

A part is written as chunks of bytes, so that a large message never has to exist twice.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping
from functools import lru_cache
from itertools import chain
from pathlib import Path
from typing import Literal, NamedTuple
from urllib.parse import quote

from pribble.arguments import are_instances, possible_paths, texts
from pribble.errors import HeaderError, PribbleError, visible
from pribble.mime.encoding import (
    Pieces,
    PreparedBody,
    base64_chunks,
    base64_lines,
    base64_size,
    encoded_text,
    longest_line,
)
from pribble.mime.flowed import flowed
from pribble.mime.grammar import ENCODED_WORD_START, LONGEST_LINE, MEDIA_TYPE, MESSAGE_TYPES, TOKEN, TURNING
from pribble.mime.header import checked, write_field
from pribble.mime.header_fields import checked_id
from pribble.mime.seeds import seeded
from pribble.records import field, record
from pribble.regexes import regex

_UNSHOWN = regex(f"[\x00-\x1f\x7f-\x9f{TURNING}\u2028\u2029\ud800-\udfff]")
# A parameter value longer than this is continued over several (RFC 2231 3).
_LONGEST_PARAMETER = 200
_CONTINUATION = 60


class Part(NamedTuple):
    """A body part: its header as bytes (the fields, without the empty line), and its body or parts.

    `body` is encoded, and in pieces; `content` is not: it becomes base64 on its way out.  `boundary` is that of a
    multipart; a leaf has none.  `encoding` is its transfer encoding; a multipart's is "8bit" where that of a part in it
    is.
    """

    header: bytes
    body: Pieces = ()
    content: bytes = b""
    parts: tuple[Part, ...] = ()
    boundary: bytes = b""
    encoding: str = "7bit"

    @property
    def size(self) -> int:
        """How many octets `chunks` has behind the header and the empty line after it."""
        if not self.boundary:
            return sum(map(len, self.body)) + base64_size(len(self.content))
        inside = sum(len(part.header) + 2 + part.size + len(self.boundary) + 6 for part in self.parts)
        return inside + len(self.boundary) + 6

    def chunks(self) -> Iterable[bytes]:
        """Returns the part as it travels, piece by piece."""
        pieces: list[bytes] = []
        later: list[Iterable[bytes]] = [pieces]
        self._write(later, pieces)
        return pieces if len(later) == 1 else chain(*later)

    def _write(self, chunks: list[Iterable[bytes]], pieces: list[bytes]) -> list[bytes]:
        """Add the part to `chunks`, the last of which are `pieces`; returns what are the last then.  What is to be
        encoded is encoded when it is asked for."""
        pieces += (self.header, b"\r\n")
        if not self.boundary:
            pieces += self.body
            if self.content:
                pieces = []
                chunks += (base64_chunks(self.content), pieces)
            return pieces
        delimiter = b"--" + self.boundary
        for part in self.parts:
            pieces += (delimiter, b"\r\n")
            pieces = part._write(chunks, pieces)
            pieces.append(b"\r\n")  # belongs to the delimiter that follows (RFC 2046 5.1.1)
        # With a line end of its own, and so an empty epilogue: as the standard library writes it, whose bytes are ours.
        pieces += (delimiter, b"--\r\n")
        return pieces


@record(frozen=True, slots=True)
class Attachment:
    """A file to attach: its `name`, its `content` (text or bytes) and its media `type`.

    Without a type, the ending of the name decides, else it is ``application/octet-stream``.  A message
    (``message/rfc822``) is `nested` as a "message", which a reader opens in place, or as a "file" like any other; one
    that only its name calls a message, and that cannot be nested, is a file.  The name is reduced to its last segment
    and its visible characters.  Raises `HeaderError` for an empty name or a malformed type, `PribbleError` for a
    message that cannot be nested.
    """

    name: str
    content: str | bytes = field(repr=False)
    type: str | None = None
    nested: Literal["message", "file"] = "message"

    def __post_init__(self) -> None:
        texts(name=self.name, nested=self.nested)
        if self.type is not None:
            texts(type=self.type)
        are_instances((str, bytes), "a text or bytes", content=self.content)
        object.__setattr__(self, "name", file_name(self.name))
        if self.type is not None and not MEDIA_TYPE.fullmatch(checked("Content-Type", self.type)):
            raise HeaderError(
                f'Content-Type: "{self.type[:60]}" is no media type',
                hint='one is written "application/pdf"; parameters have no place in it',
            )
        if self.nested not in ("message", "file"):
            raise ValueError(f'nested is "message" or "file", not "{visible(str(self.nested))}"')
        kind = self.media_type.lower()
        if kind.startswith("multipart/"):
            raise HeaderError(f'Content-Type: "{kind}" is no type of a file', hint="a multipart has parts, not content")
        if (
            self.nested == "message"
            and kind in MESSAGE_TYPES
            and (problem := _problem_of_nesting(_lines_in_crlf(self.content)))
        ):
            if self.type is not None:
                raise PribbleError(
                    f'the message "{self.name}" has {problem}, so it cannot be nested as a message',
                    hint='send it as a plain file: Attachment(…, nested="file")',
                )
            object.__setattr__(self, "nested", "file")

    @classmethod
    def from_path(cls, path: str | Path, type: str | None = None) -> Attachment:
        """Returns the file at `path` as an attachment.  Raises `OSError` if it cannot be read."""
        possible_paths(path=path)
        path = Path(path)
        return cls(path.name, path.read_bytes(), type)

    @property
    def media_type(self) -> str:
        """Its type, given or told by its name."""
        if self.type is not None:
            return self.type
        import mimetypes

        guessed, compressed = mimetypes.guess_type(self.name)
        if isinstance(self.content, str):
            return guessed if guessed and guessed.startswith(("text/", "message/")) else "text/plain"
        return guessed if guessed and not compressed else "application/octet-stream"


def file_name(name: str) -> str:
    """Returns `name` as it may travel, as `fit_name`; raises `HeaderError` where nothing is left of it."""
    fit = fit_name(name)
    if fit is None:
        raise HeaderError(f'filename: "{_UNSHOWN.sub(chr(0xFFFD), name[:60])}" names no file')
    return fit


def fit_name(name: str) -> str | None:
    """Returns `name` as a file's may travel (RFC 2183 2.3, 5): its last segment, in NFC, without what is not shown;
    None where nothing is left of it."""
    last = unicodedata.normalize("NFC", _UNSHOWN.sub("", re.split(r"[/\\]", name)[-1])).strip()
    return last if last.strip(". ") else None


# ---- building -------------------------------------------------------------------------------------------------


def text_part(text: str, subtype: str, prepared: PreparedBody | None = None, /, **parameters: str) -> Part:
    """Returns a text body in UTF-8; `prepared` is what is known of its form on the wire."""
    encoding, body = encoded_text(text, prepared)
    return Part(_text_header(subtype, encoding, *parameters.items()), body, encoding=encoding)


@lru_cache(64)
def _text_header(subtype: str, encoding: str, *parameters: tuple[str, str]) -> bytes:
    content_type = _content_type(f"text/{subtype}", {"charset": "utf-8", **dict(parameters)})
    return content_type + _field("Content-Transfer-Encoding", encoding)


def plain_part(text: str, *, fixed: bool = False) -> Part:
    """Returns a plain text whose paragraphs flow (RFC 3676), or, `fixed`, whose lines are as they are."""
    if fixed:
        return text_part(text, "plain")
    body, delsp = flowed(text)
    return text_part(body, "plain", format="flowed", **({"delsp": "yes"} if delsp else {}))


def picture_part(name: str, type: str, base64_body: bytes, content_id: str) -> Part:
    """Returns an inline picture, already in base64, that the HTML refers to by its Content-ID (RFC 2392).

    Whoever made it: raises `HeaderError` for a type or an id that is none, and lets a name travel as a file's may."""
    return Part(_picture_header(name, type, content_id), (base64_body,), encoding="base64")


@lru_cache(256)  # the same few are in all messages of a template
def _picture_header(name: str, type: str, content_id: str) -> bytes:
    if not MEDIA_TYPE.fullmatch(checked("Content-Type", type)):
        raise HeaderError(f'Content-Type: "{type[:60]}" is no media type')
    name = fit_name(name) or "picture"
    return (
        _content_type(type, {"name": ascii_name(name)})
        + _field("Content-Transfer-Encoding", "base64")
        + _field("Content-ID", checked_id(f"<{content_id}>", "Content-ID"))
        + _disposition("inline", name)
    )


def calendar_part(calendar: str, method: str) -> Part:
    """Returns an invitation among the forms of a body (RFC 6047 2.4): its method again, and no disposition."""
    return text_part(calendar, "calendar", method=method)


def attachment_part(attachment: Attachment) -> Part:
    """Returns an attached file: bytes are left untouched, text travels in UTF-8, a message as what it is."""
    parameters = {"name": ascii_name(attachment.name)}
    content, kind = attachment.content, attachment.media_type
    if kind.lower() in MESSAGE_TYPES:
        if attachment.nested == "message":
            return _message_part(attachment, kind)
        kind = "application/octet-stream"  # base64 has no place in message/rfc822
    body: Pieces = ()
    raw = b""
    if isinstance(content, str):
        encoding, body = encoded_text(content)
        parameters = {"charset": "utf-8", **parameters}
    else:
        encoding, raw = "base64", content
        if kind.startswith("text/") and _is_utf8(content):
            parameters = {"charset": "utf-8", **parameters}
    header = (
        _content_type(kind, parameters)
        + _field("Content-Transfer-Encoding", encoding)
        + _disposition("attachment", attachment.name)
    )
    return Part(header, body, raw, encoding=encoding)


def encoded_part(part: Part) -> Part:
    """Returns a part that is encoded already, not on its way out."""
    return part._replace(body=(base64_lines(part.content),), content=b"") if part.content else part


def _message_part(attachment: Attachment, kind: str) -> Part:
    """Returns a message within the message: never encoded, so that a signature in it holds (RFC 2046 5.2.1)."""
    body = _lines_in_crlf(attachment.content)
    encoding = "7bit" if body.isascii() else "8bit"
    kind = kind if body.partition(b"\r\n\r\n")[0].isascii() else "message/global"
    header = (
        _content_type(kind, {"name": ascii_name(attachment.name)})
        + _field("Content-Transfer-Encoding", encoding)
        + _disposition("attachment", attachment.name)
    )
    return Part(header, (body,), encoding=encoding)


def _lines_in_crlf(content: str | bytes) -> bytes:
    octets = content.encode("utf-8") if isinstance(content, str) else content
    return octets if b"\n" not in octets else octets.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")


def _problem_of_nesting(body: bytes) -> str | None:
    """Returns why a message cannot travel without an encoding (RFC 2045 2.7, 2.8), if it cannot."""
    if b"\0" in body:
        return "NUL octets"
    if b"\r" in body.replace(b"\r\n", b""):
        return "a carriage return without a line feed"
    return f"a line of more than {LONGEST_LINE} octets" if longest_line(body) > LONGEST_LINE else None


def multipart(subtype: str, parts: tuple[Part, ...], seed: bytes, path: str, **parameters: str) -> Part:
    """Returns a multipart; its boundary is made from `seed` and `path`, the place of the part in the message.

    ``=_`` occurs in no base64 body, and in no quoted-printable one, where "=" is followed by hex digits; what is not
    encoded is searched for it.
    """
    boundary = _boundary(seed, path)
    taken = 0
    while _holds(parts, boundary):
        taken += 1
        boundary = _boundary(seed, f"{path} {taken}")
    header = _multipart_header(subtype, *parameters.items()).replace(_ANY_BOUNDARY, boundary)
    encoding = "8bit" if "8bit" in [part.encoding for part in parts] else "7bit"
    if encoding == "8bit":
        header += _field("Content-Transfer-Encoding", encoding)
    return Part(header, parts=parts, boundary=boundary, encoding=encoding)


_ANY_BOUNDARY = b"=_" + b"0" * 24  # all are of one length


@lru_cache(64)
def _multipart_header(subtype: str, *parameters: tuple[str, str]) -> bytes:
    return _content_type(f"multipart/{subtype}", {**dict(parameters), "boundary": _ANY_BOUNDARY.decode("ascii")})


def _boundary(seed: bytes, path: str) -> bytes:
    return f"=_{seeded(seed, path, 24)}".encode("ascii")


def _holds(parts: Iterable[Part], boundary: bytes) -> bool:
    """Returns whether a boundary occurs where it could be taken for one: in what is not encoded."""
    for part in parts:
        if part.parts:
            if _holds(part.parts, boundary):
                return True
        elif part.encoding in ("7bit", "8bit") and any(boundary in piece for piece in part.body):
            return True
    return False


def _is_utf8(content: bytes) -> bool:
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


_field = lru_cache(256)(write_field)  # few and always the same


def _content_type(type: str, parameters: Mapping[str, str]) -> bytes:
    return _with_parameters("Content-Type", type, *parameters.items())


def _disposition(kind: str, name: str) -> bytes:
    return _with_parameters("Content-Disposition", kind, ("filename", name))


@lru_cache(256)
def _with_parameters(field_name: str, value: str, *parameters: tuple[str, str]) -> bytes:
    words = [value, *(word for name, given in parameters for word in parameter(name, given))]
    return write_field(field_name, *(f"{word};" for word in words[:-1]), words[-1])


def parameter(name: str, value: str) -> list[str]:
    """Returns a parameter (RFC 2045 5.1), in several pieces where it is long, percent-encoded where it is not ASCII
    (RFC 2231), or holds what some readers take for an encoded-word (RFC 2047 5(3)): never both forms, which RFC 2231
    does not permit in mail."""
    is_plain = value.isascii() and ENCODED_WORD_START not in value
    if is_plain and len(value) <= _LONGEST_PARAMETER:
        return [
            f"{name}={value}"
            if TOKEN.fullmatch(value) and not set(value) & set("*'%") and name != "boundary"
            else f"{name}={_quoted_parameter(value)}"
        ]
    if is_plain:
        pieces = [value[i : i + _CONTINUATION] for i in range(0, len(value), _CONTINUATION)]
        return [f"{name}*{number}={_quoted_parameter(piece)}" for number, piece in enumerate(pieces)]
    # RFC 2231 7: attribute-char is any ASCII but SPACE, CTLs, "*", "'", "%" and tspecials.
    characters = [quote(c, safe="!#$&+^`{|}~") for c in value]
    whole = "UTF-8''" + "".join(characters)
    if len(whole) <= _LONGEST_PARAMETER:
        return [f"{name}*={whole}"]
    pieces, current = [], "UTF-8''"
    for character in characters:
        if len(current) + len(character) > _CONTINUATION:
            pieces.append(current)
            current = ""
        current += character
    return [f"{name}*{number}*={piece}" for number, piece in enumerate([*pieces, current])]


def _quoted_parameter(value: str) -> str:
    return '"' + re.sub(r'(["\\])', r"\\\1", value) + '"'


def ascii_name(name: str) -> str:
    """Returns an ASCII transliteration of a file name, for receivers that know only ``name=``, in which nothing looks
    like an encoded-word."""
    name = name.replace(ENCODED_WORD_START, "=_")
    if name.isascii():
        return name
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode("ascii")
    stem, dot, ending = plain.rpartition(".")
    return plain if (stem or not dot) and plain.strip() else f"file{dot}{ending}"
