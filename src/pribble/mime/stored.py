"""Messages that were written before, read from their bytes: the fields of a `Message`, and the bytes as they are."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from typing import Any

from pribble.errors import AddressError, HeaderError
from pribble.mime.address import Address, Group, mailbox, members, parse_list
from pribble.mime.encoding import base64_lines
from pribble.mime.flowed import read_flowed
from pribble.mime.grammar import DATE_TIME, MESSAGE_ID, MONTHS
from pribble.mime.header import quoted
from pribble.mime.part import Attachment, Part
from pribble.mime.reading import Entity, Field, read_message
from pribble.mime.words import decoded_runs, decoded_text


@dataclass(frozen=True, slots=True)
class FoundPicture:
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


def restored(raw: bytes, envelope_sender: str | None) -> tuple[dict[str, Any], Part]:
    """What a message holds, by the names that `Message` has for it, and the whole of it without its blind copies.
    Raises `HeaderError` and `AddressError`."""
    root = read_message(raw.decode("latin-1"))
    people = {
        name: _people(root, key)
        for name, key in (("to", "to"), ("cc", "cc"), ("bcc", "bcc"), ("reply_to", "reply-to"), ("authors", "from"))
    }
    people["authors"] = tuple(members(people["authors"]))
    sender = tuple(members(_people(root, "sender"))) or people["authors"]
    kept = raw
    for blind in reversed(root.all("bcc")):
        kept = kept[: blind.start] + kept[blind.end :]
    if not sender:
        raise HeaderError("From: this message names no sender", hint="give bytes that begin with a header")
    subject = root.first("subject")
    eight_bit = any(entity.encoding in ("8bit", "binary") for entity in root.walk())
    values = people | {
        "sender": sender[0],
        "envelope_sender": envelope_sender and mailbox(envelope_sender, "the envelope's sender").addr,
        "subject": None if subject is None else decoded_text(subject.value),
        "date": _date(root.first("date")),
        "message_id": next(iter(_ids(root, "message-id")), None),
        "in_reply_to": next(iter(_ids(root, "in-reply-to")), None),
        "references": tuple(_ids(root, "references")),
    }
    return values | _contents(root), Part(b"", kept, encoding="8bit" if eight_bit else "7bit")


def _people(root: Entity, key: str) -> tuple[Address | Group, ...]:
    found: list[Address | Group] = []
    for field in root.all(key):
        text = "".join(quoted(shown) if was_encoded else shown for shown, was_encoded in decoded_runs(field.value))
        try:
            found += parse_list(text)
        except AddressError as error:
            raise AddressError(f"{field.name}: {error.problem}", hint=error.hint) from None
    return tuple(found)


def _date(field: Field | None) -> datetime | None:
    """The moment; None where it is none, of which the audit says why."""
    found = DATE_TIME.fullmatch(field.value) if field is not None else None
    if found is None or found["zone"][0] not in "+-":
        return None
    zone = found["zone"]
    offset = timedelta(hours=int(zone[1:3]), minutes=int(zone[3:])) * (-1 if zone[0] == "-" else 1)
    try:
        return datetime(
            int(found["year"]),
            MONTHS.index(found["month"].capitalize()) + 1,
            int(found["day"]),
            int(found["hour"]),
            int(found["minute"]),
            int(found["second"] or 0),
            tzinfo=timezone(offset),
        )
    except ValueError:
        return None


def _ids(root: Entity, key: str) -> Iterator[str]:
    for field in root.all(key):
        yield from (found[0] for found in MESSAGE_ID.finditer(field.value))


# ---- what is in it --------------------------------------------------------------------------------------------


def _contents(root: Entity) -> dict[str, Any]:
    """The text, the page, pictures and files, by where they are."""
    text: str | None = None
    text_format = "fixed"
    html: str | None = None
    pictures: list[FoundPicture] = []
    attachments: list[Attachment] = []
    for entity in _leaves(root):
        kind, is_attached = entity.type.value, entity.disposition.value == "attachment"
        if kind == "text/plain" and text is None and not is_attached:
            text = _body(entity)
            if (entity.type.get("format") or "").lower() == "flowed":
                text_format = "flowed"
                text = read_flowed(text, delsp=(entity.type.get("delsp") or "").lower() == "yes")
        elif kind == "text/html" and html is None and not is_attached:
            html = _body(entity)
        elif entity.content_id is not None and not is_attached:
            pictures.append(FoundPicture(kind, entity.file_name or "picture", entity.decoded(), entity.content_id))
        elif is_attached or entity.file_name:
            attachments.append(_attachment(entity))
    return {
        "text": text,
        "text_format": text_format,
        "html": html,
        "pictures": tuple(pictures),
        "attachments": tuple(attachments),
    }


def _leaves(entity: Entity) -> Iterator[Entity]:
    if entity.is_multipart:
        for part in entity.parts:
            yield from _leaves(part)
    else:
        yield entity


def _body(entity: Entity) -> str:
    charset = entity.type.get("charset") or "utf-8"
    octets = entity.decoded().replace(b"\r\n", b"\n")
    try:
        return octets.decode(charset)
    except (LookupError, ValueError):
        return octets.decode("utf-8", "replace")


def _attachment(entity: Entity) -> Attachment:
    try:
        return Attachment(entity.file_name or "attachment", entity.decoded(), entity.type.value, nested="file")
    except HeaderError:  # a name or a type that is none
        return Attachment("attachment", entity.decoded(), "application/octet-stream")
