"""Messages that were written before, read from their bytes: the fields of a `Message`, and the bytes as they are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any, Literal

from pribble.errors import AddressError, HeaderError
from pribble.mime.address import Address, AddressList, Group, mailbox, parse_list
from pribble.mime.base import BaseMessage
from pribble.mime.charsets import decode_charset
from pribble.mime.encoded_words import decoded_runs, decoded_text
from pribble.mime.encoding import base64_lines
from pribble.mime.flowed import read_flowed
from pribble.mime.grammar import MESSAGE_ID
from pribble.mime.header import quoted_string, read_date_time
from pribble.mime.part import Attachment
from pribble.mime.reading import Entity, ReadField, read_message
from pribble.records import field, record
from pribble.regexes import regex

LF = b"\n"


@record(frozen=True, slots=True)
class ReadPicture:
    """A picture that a stored message shows."""

    type: str
    file_name: str
    content: bytes
    id: str

    @property
    def base64_body(self) -> bytes:
        return base64_lines(self.content)

    def content_id(self, domain: str) -> str:
        return self.id


@record(frozen=True, kw_only=True, init=False)
class StoredMessage(BaseMessage):
    """A message that was written before: what it holds, and its bytes as they are, without its blind copies."""

    _raw: bytes = field(repr=False)
    _holds_octets: bool = field(repr=False)

    def __init__(self, raw: bytes, envelope_sender: str | None = None) -> None:
        raw, root = _fit_to_travel(raw)
        people = {
            name: _people(root, key)
            for name, key in (("to", "to"), ("cc", "cc"), ("bcc", "bcc"), ("reply_to", "reply-to"))
        }
        authors = tuple(_people(root, "from"))
        sender = tuple(_people(root, "sender")) or authors
        if not sender:
            raise HeaderError("From: this message names no sender", hint="give bytes that begin with a header")
        subject = root.first("subject")
        vars(self).update(
            people,
            sender=sender[0],
            authors=authors,
            envelope_sender=envelope_sender and mailbox(envelope_sender, "the envelope's sender").addr,
            subject=None if subject is None else decoded_text(subject.value),
            date=None if (date := root.first("date")) is None else read_date_time(date.value),
            message_id=next(iter(_read_ids(root, "message-id")), None),
            in_reply_to=next(iter(_read_ids(root, "in-reply-to")), None),
            references=tuple(_read_ids(root, "references")),
            _raw=_without(raw, root.all("bcc")),
            _holds_octets=any(entity.encoding in ("8bit", "binary") for entity in root.walk()),
            **_contents(root),
        )

    def chunks(self) -> Iterator[bytes]:
        yield self._raw

    def __bytes__(self) -> bytes:
        return self._raw

    def _unmarked(self) -> bytes:
        fields = read_message(self._raw.decode("latin-1")).fields
        marks = [
            field
            for field in fields
            if field.key == "dkim-signature" or (field.key == "auto-submitted" and field.value.strip().lower() != "no")
        ]
        return _without(self._raw, marks)

    @property
    def _eight_bit(self) -> bool:
        return self._holds_octets

    def arguments(self) -> dict[str, Any]:
        """Returns what a `Message` takes to say the same anew: ``Message(**stored.arguments() | {"subject":
        "Another"})``."""
        return {one.name: getattr(self, one.name) for one in fields(self) if not one.name.startswith("_")}


_BARE_RETURN = regex(rb"\r(?!\n)")
_BARE_FEED = regex(rb"(?<!\r)\n")


def _fit_to_travel(raw: bytes) -> tuple[bytes, Entity]:
    """Returns a message whose lines end in CRLF, as they must on the wire (RFC 5321 2.3.8), and what is in it."""
    if found := _BARE_RETURN.search(raw):
        raise HeaderError(
            f"line {raw.count(LF, 0, found.start()) + 1}: a carriage return without a line feed cannot travel "
            "(RFC 5321 2.3.8)",
            hint="some servers take it for the end of a line, and what follows for commands",
        )
    root = read_message(raw.decode("latin-1"))
    if found := _BARE_FEED.search(raw):
        if any(entity.encoding == "binary" for entity in root.walk()):
            raise HeaderError(
                f"line {raw.count(LF, 0, found.start()) + 1}: a line feed without a carriage return, in a message with "
                "a binary part, cannot travel (RFC 5321 2.3.8)",
                hint="encode the part in base64",
            )
        raw = _BARE_FEED.sub(b"\r\n", raw)
        root = read_message(raw.decode("latin-1"))
    return raw, root


def _without(raw: bytes, fields: Sequence[ReadField]) -> bytes:
    """Returns a message without these fields, which are in its order."""
    ends = [0, *(one.end for one in fields)]
    starts = [*(one.start for one in fields), len(raw)]
    return b"".join(raw[end:start] for end, start in zip(ends, starts, strict=True))


def _people(root: Entity, key: str) -> AddressList:
    found: list[Address | Group] = []
    for named in root.all(key):
        text = "".join(
            quoted_string(shown) if was_encoded else shown for shown, was_encoded in decoded_runs(named.value)
        )
        try:
            found += parse_list(text)
        except AddressError as error:
            raise AddressError(f"{named.name}: {error.problem}", hint=error.hint) from None
    return AddressList(found)


def _read_ids(root: Entity, key: str) -> Iterator[str]:
    for named in root.all(key):
        yield from (found[0] for found in MESSAGE_ID.finditer(named.value))


# ---- what is in it --------------------------------------------------------------------------------------------


def _contents(root: Entity) -> dict[str, Any]:
    """Returns the text, the page, pictures and files, by where they are."""
    text: str | None = None
    text_format = "fixed"
    html: str | None = None
    pictures: list[ReadPicture] = []
    attachments: list[Attachment] = []
    for role, entity in _roles(root):
        match role:
            case "text":
                text, text_format = _plain_text(entity), "flowed" if _is_flowed(entity) else "fixed"
            case "html":
                html = _decoded_body(entity)
            case "picture":
                id = entity.content_id or ""
                pictures.append(ReadPicture(entity.type.value, entity.file_name or "picture", entity.decoded(), id))
            case "file":
                attachments.append(_attachment(entity))
    return {
        "text": text,
        "text_format": text_format,
        "html": html,
        "pictures": tuple(pictures),
        "attachments": tuple(attachments),
    }


def text_and_page(root: Entity) -> tuple[str | None, str | None]:
    """Returns the plain text and the page of a message that was read, None for what it does not have."""
    found: dict[str, Entity] = dict(_roles(root))  # of texts and pages there is one each; nothing else is decoded
    text, html = found.get("text"), found.get("html")
    return None if text is None else _plain_text(text), None if html is None else _decoded_body(html)


def named_pictures(root: Entity) -> Iterator[tuple[str, Entity]]:
    """Yields the pictures that the page of a message can name, each with the address that does (RFC 2392)."""
    for entity in root.walk():
        if entity.content_id and entity.type.value.startswith("image/"):
            yield f"cid:{entity.content_id}", entity


def _roles(root: Entity) -> Iterator[tuple[Literal["text", "html", "picture", "file"], Entity]]:
    """Yields the parts that a reader meets, and what each is: one text, one page, pictures with a name, files."""
    found: set[str] = set()
    for entity in leaves(root):
        kind, is_attached = entity.type.value, entity.disposition.value == "attachment"
        if kind in ("text/plain", "text/html") and kind not in found and not is_attached:
            found.add(kind)
            yield ("text" if kind == "text/plain" else "html"), entity
        elif entity.content_id is not None and not is_attached:
            yield "picture", entity
        elif is_attached or entity.file_name:
            yield "file", entity


def _is_flowed(entity: Entity) -> bool:
    return (entity.type.get("format") or "").lower() == "flowed"


def _plain_text(entity: Entity) -> str:
    text = _decoded_body(entity)
    return read_flowed(text, delsp=(entity.type.get("delsp") or "").lower() == "yes") if _is_flowed(entity) else text


def leaves(entity: Entity) -> Iterator[Entity]:
    """Yields the parts of a message that hold something themselves, but for those of an enclosed message."""
    if entity.is_multipart:
        for part in entity.parts:
            yield from leaves(part)
    else:
        yield entity


def _decoded_body(entity: Entity) -> str:
    charset = entity.type.get("charset") or "utf-8"
    octets = entity.decoded().replace(b"\r\n", b"\n")
    text = decode_charset(octets, charset)
    return octets.decode("utf-8", "replace") if text is None else text


def _attachment(entity: Entity) -> Attachment:
    try:
        return Attachment(entity.file_name or "attachment", entity.decoded(), entity.type.value, nested="file")
    except HeaderError:  # a name or a type that is none
        return Attachment("attachment", entity.decoded(), "application/octet-stream")
