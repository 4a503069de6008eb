"""Parts of a message: header fields and a body, or parts in turn (RFC 2045, 2046, 2387).

A part is written as chunks of bytes, so that a large message never has to exist twice.
"""

from __future__ import annotations

import hashlib
import re
import unicodedata
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import quote

from pribble.errors import HeaderError
from pribble.mime.encoding import base64_lines, encoded_text
from pribble.mime.flowed import flowed
from pribble.mime.grammar import MEDIA_TYPE, TOKEN
from pribble.mime.header import FieldWriter, checked

_UNSHOWN = re.compile("[\x00-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\u2028\u2029\ud800-\udfff]")
# A parameter value longer than this is continued over several (RFC 2231 3).
_LONGEST_PARAMETER = 200
_CONTINUATION = 60


@dataclass(frozen=True, slots=True)
class Part:
    """A body part: its header as bytes (the fields, without the empty line), and its body or parts.

    `boundary` is that of a multipart; a leaf has none.
    """

    header: bytes
    body: bytes = field(default=b"", repr=False)
    parts: tuple[Part, ...] = ()
    boundary: str = ""

    def chunks(self) -> Iterator[bytes]:
        """The part as it travels."""
        yield self.header + b"\r\n"
        yield from self.body_chunks()

    def body_chunks(self) -> Iterator[bytes]:
        """What follows the header and the empty line after it."""
        if not self.boundary:
            yield self.body
            return
        delimiter = f"--{self.boundary}".encode("ascii")
        for part in self.parts:
            yield delimiter + b"\r\n"
            yield from part.chunks()
            yield b"\r\n"  # belongs to the delimiter that follows (RFC 2046 5.1.1)
        yield delimiter + b"--"


@dataclass(frozen=True, slots=True)
class Attachment:
    """A file to attach: its `name`, its `content` (text or bytes) and its media `type`.

    Without a type it is told by the name's ending, else ``application/octet-stream``.  Raises `HeaderError`
    for a name that is none (it is reduced to its last segment and shown characters) or a malformed type.
    """

    name: str
    content: str | bytes = field(repr=False)
    type: str | None = None

    def __post_init__(self) -> None:
        object.__setattr__(self, "name", file_name(self.name))
        if self.type is not None and not MEDIA_TYPE.fullmatch(checked("Content-Type", self.type)):
            raise HeaderError(f'Content-Type: "{self.type}" is no media type', hint='one is written "application/pdf"')

    @classmethod
    def from_path(cls, path: str | Path, type: str | None = None) -> Attachment:
        """The file at `path`; raises `OSError` where it cannot be read."""
        path = Path(path)
        return cls(path.name, path.read_bytes(), type)

    @property
    def media_type(self) -> str:
        """Its type, given or told by its name."""
        if self.type is not None:
            return self.type
        import mimetypes

        if isinstance(self.content, str):
            return "text/plain"
        guessed, compressed = mimetypes.guess_type(self.name)
        return guessed if guessed and not compressed else "application/octet-stream"


def file_name(name: str) -> str:
    """`name` as it may travel (RFC 2183 2.3, 5): its last segment, in NFC, without what is not shown.

    Raises `HeaderError` where nothing is left of it.
    """
    last = unicodedata.normalize("NFC", _UNSHOWN.sub("", re.split(r"[/\\]", name)[-1])).strip()
    if not last.strip(". "):
        raise HeaderError(f'filename: "{_UNSHOWN.sub(chr(0xfffd), name[:60])}" names no file')
    return last


# ---- building -------------------------------------------------------------------------------------------------


def text_part(text: str, subtype: str, **parameters: str) -> Part:
    """A text body in UTF-8."""
    encoding, body = encoded_text(text)
    header = (_content_type(f"text/{subtype}", {"charset": "utf-8", **parameters})
              + _field("Content-Transfer-Encoding", encoding))
    return Part(header, body)


def plain_part(text: str, *, fixed: bool = False) -> Part:
    """A plain text whose paragraphs flow (RFC 3676), or, `fixed`, whose lines are as they are."""
    if fixed:
        return text_part(text, "plain")
    body, delsp = flowed(text)
    return text_part(body, "plain", format="flowed", **({"delsp": "yes"} if delsp else {}))


def picture_part(name: str, type: str, base64_body: bytes, content_id: str) -> Part:
    """An inline picture, already in base64, that the HTML refers to by its Content-ID (RFC 2392)."""
    header = (_content_type(type, {"name": ascii_name(name)}) + _field("Content-Transfer-Encoding", "base64")
              + _field("Content-ID", f"<{content_id}>") + _disposition("inline", name))
    return Part(header, base64_body)


def attachment_part(attachment: Attachment) -> Part:
    """An attached file: bytes are left untouched, text travels in UTF-8."""
    parameters = {"name": ascii_name(attachment.name)}
    content, kind = attachment.content, attachment.media_type
    if isinstance(content, str):
        encoding, body = encoded_text(content)
        parameters = {"charset": "utf-8", **parameters}
    else:
        encoding, body = "base64", base64_lines(content)
        if kind.startswith("text/") and _is_utf8(content):
            parameters = {"charset": "utf-8", **parameters}
    header = (_content_type(kind, parameters) + _field("Content-Transfer-Encoding", encoding)
              + _disposition("attachment", attachment.name))
    return Part(header, body)


def multipart(subtype: str, parts: tuple[Part, ...], seed: bytes, path: str, **parameters: str) -> Part:
    """A multipart; its boundary is made from `seed` and `path`, the place of the part in the message.

    ``=_`` occurs in no base64 body, and in no quoted-printable one, where "=" is followed by hex digits.
    """
    boundary = "=_" + hashlib.sha256(seed + path.encode("ascii")).hexdigest()[:24]
    return Part(_content_type(f"multipart/{subtype}", {**parameters, "boundary": boundary}), b"", parts, boundary)


def _is_utf8(content: bytes) -> bool:
    try:
        content.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _field(name: str, *words: str) -> bytes:
    writer = FieldWriter(name)
    writer.words(*words)
    return writer.finished()


def _content_type(type: str, parameters: Mapping[str, str]) -> bytes:
    return _with_parameters("Content-Type", type, parameters)


def _disposition(kind: str, name: str) -> bytes:
    return _with_parameters("Content-Disposition", kind, {"filename": name})


def _with_parameters(field_name: str, value: str, parameters: Mapping[str, str]) -> bytes:
    words = [value, *(word for name, given in parameters.items() for word in parameter(name, given))]
    return _field(field_name, *(f"{word};" for word in words[:-1]), words[-1])


def parameter(name: str, value: str) -> list[str]:
    """A parameter (RFC 2045 5.1), in several pieces where it is long, percent-encoded where it is not ASCII
    (RFC 2231): never both forms, which RFC 2231 does not permit in mail."""
    if value.isascii() and len(value) <= _LONGEST_PARAMETER:
        return [f"{name}={value}" if TOKEN.fullmatch(value) and not set(value) & set("*'%") and name != "boundary"
                else f"{name}={_quoted(value)}"]
    if value.isascii():
        pieces = [value[i:i + _CONTINUATION] for i in range(0, len(value), _CONTINUATION)]
        return [f"{name}*{number}={_quoted(piece)}" for number, piece in enumerate(pieces)]
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


def _quoted(value: str) -> str:
    return '"' + re.sub(r'(["\\])', r"\\\1", value) + '"'


def ascii_name(name: str) -> str:
    """An ASCII transliteration of a file name, for receivers that know only ``name=``."""
    if name.isascii():
        return name
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode("ascii")
    stem, dot, ending = plain.rpartition(".")
    return plain if (stem or not dot) and plain.strip() else f"file{dot}{ending}"
