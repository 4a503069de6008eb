"""The header of a message: its fields in their order (RFC 5322 3.6), in three parts, of which one is its own among
messages of the same sender."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pribble.mime.extra_fields import extra_field
from pribble.mime.header import free_text, write_field
from pribble.mime.header_fields import address_field, date_field, references_field
from pribble.mime.machine_fields import (
    AUTO_SUBMITTED,
    IMPORTANCE,
    language_field,
    one_of,
    unsubscribe_fields,
)

if TYPE_CHECKING:
    from pribble.mime.base import BaseMessage
    from pribble.mime.message import Message

_UNDISCLOSED = write_field("To", "undisclosed-recipients:;")
_MIME_VERSION = write_field("MIME-Version", "1.0")


def is_international(message: BaseMessage) -> bool:
    """Returns whether only servers that speak SMTPUTF8 can take it (RFC 6531): an address of it is not ASCII."""
    fields = ((message.sender,), message.authors, message.to, message.cc, message.bcc, message.reply_to)
    return not (message.envelope_sender or "").isascii() or any(
        address.needs_smtputf8 for field in fields for address in field
    )


def sender_fields(message: Message, utf8: bool) -> bytes:
    """Returns the fields that name its authors, and its sender where that is another."""
    fields = address_field("From", message.authors, utf8)
    if [author.addr for author in message.authors] == [message.sender.addr]:
        return fields
    return fields + address_field("Sender", (message.sender,), utf8)


def own_fields(message: Message, utf8: bool) -> bytes:
    """Returns the fields from To to Message-ID."""
    to, cc, reply_to = message.to.entries, message.cc.entries, message.reply_to.entries
    fields = []
    if to or not cc:  # RFC 5322 A.1.3: where nobody is named
        fields.append(address_field("To", to, utf8) if to else _UNDISCLOSED)
    if cc:
        fields.append(address_field("Cc", cc, utf8))
    if reply_to:
        fields.append(address_field("Reply-To", reply_to, utf8))
    if message.subject:
        fields.append(free_text("Subject", message.subject, utf8=utf8))
    fields += [date_field(message.date), write_field("Message-ID", message.message_id)]
    return b"".join(fields)


def further_fields(message: Message, utf8: bool) -> bytes:
    """Returns the fields from In-Reply-To on."""
    fields = []
    if message.in_reply_to is not None:
        fields.append(write_field("In-Reply-To", message.in_reply_to))
    if message.references:
        fields.append(references_field(message.references))
    if message.auto_submitted is not None:
        fields.append(one_of("Auto-Submitted", message.auto_submitted, AUTO_SUBMITTED))
    if message.importance is not None:
        fields.append(one_of("Importance", message.importance, IMPORTANCE))
    if message.unsubscribe or message.one_click:
        fields.append(unsubscribe_fields(message.unsubscribe, one_click=message.one_click))
    fields += [extra_field(name, value, utf8=utf8) for name, value in message.headers]
    fields.append(_MIME_VERSION)
    if message.language:
        fields.append(language_field(message.language))
    return b"".join(fields)
