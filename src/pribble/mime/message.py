"""A message: header fields, text, HTML, pictures, an invitation and attachments, as the bytes that travel.

    multipart/mixed                          only with attachments
    └ multipart/alternative                  plain first, richest last (RFC 2046 5.1.4)
      ├ text/plain; format=flowed
      ├ multipart/related; type="text/html"  root first (RFC 2387)
      │ ├ text/html
      │ └ image/png …
      └ text/calendar; method=REQUEST        an invitation (RFC 6047)

Each level is there only when it is needed.
"""

from __future__ import annotations

import hashlib
import io
import secrets
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal, Protocol

from pribble.errors import HeaderError
from pribble.mime.address import Recipients, mailbox, mailboxes, members, recipients
from pribble.mime.header import checked, date_time, free_text, written
from pribble.mime.heading import address_field, further, message_id, references_field
from pribble.mime.machines import (
    AUTO_SUBMITTED,
    IMPORTANCE,
    AutoSubmitted,
    Importance,
    language_field,
    one_of,
    signature,
    unsubscribe_fields,
)
from pribble.mime.part import (
    Attachment,
    Part,
    attachment_part,
    calendar_part,
    multipart,
    picture_part,
    plain_part,
    text_part,
)

if TYPE_CHECKING:
    from email.message import EmailMessage

    from pribble.mime.address import Address
    from pribble.mime.invitation import Invitation


class InlinePicture(Protocol):
    """What a message needs of a picture."""

    @property
    def type(self) -> str: ...
    @property
    def file_name(self) -> str: ...
    @property
    def base64_body(self) -> bytes: ...
    def content_id(self, domain: str) -> str: ...


@dataclass(frozen=True, slots=True)
class Envelope:
    """What a transport is told: the `sender` ("" for none) and all `recipients`, those of Bcc among them."""

    sender: str
    recipients: tuple[str, ...]


@dataclass(frozen=True, kw_only=True)
class Message:
    """A message, complete when it is made.

    `sender` and the recipients are mailboxes: ``"Ana Bell <ana@example.org>"``, an `Address`, a pair of name and
    address, or a list of these; each string is one mailbox.  To, Cc and Reply-To take a `Group` as well.  Where others
    than the sender wrote it, they are its `authors`: From names them, and Sender the sender.  `envelope_sender` is
    where failures are reported to ("" for nowhere); by default the sender.

    `subject` None writes no Subject.  `text` and `html` are the two forms of the body; at least one is given, or an
    empty text is sent.  The text is "flowed" (RFC 3676): a reader wraps its paragraphs anew, and lines of more than 78
    characters flow; or its lines are "fixed".  `pictures` are the ones the HTML refers to by Content-ID.  `invitation`
    is an event for the calendar.  `headers` are further fields, of free text.

    `date` is an aware datetime (now, by default), `message_id` an id in angle brackets, `in_reply_to` and `references`
    ids of earlier messages.  `importance` is "high", "normal" or "low", `language` one tag or several (RFC 5646),
    `auto_submitted` "auto-generated", "auto-replied" or "no" (RFC 3834).  `unsubscribe` are the addresses that lead off
    a list (RFC 2369), and `one_click` says that a single request to the ``https:`` one is enough (RFC 8058).

    `sign` is called with the final bytes and returns the bytes of header fields to go before them.  With `date` and
    `seed`, the same input gives the same bytes.

    Raises `HeaderError` and `AddressError`, which name the field and the position, before anything is built.
    """

    sender: Recipients
    authors: Recipients = ()
    to: Recipients = ()
    cc: Recipients = ()
    bcc: Recipients = ()
    reply_to: Recipients = ()
    envelope_sender: str | None = None
    subject: str | None = None
    text: str | None = field(default=None, repr=False)
    html: str | None = field(default=None, repr=False)
    text_format: Literal["flowed", "fixed"] = "flowed"
    pictures: Sequence[InlinePicture] = ()
    invitation: Invitation | None = None
    attachments: Sequence[Attachment] = ()
    headers: Mapping[str, str] | Iterable[tuple[str, str]] = ()
    date: datetime | None = None
    message_id: str | None = None
    in_reply_to: str | None = None
    references: Sequence[str] = ()
    importance: Importance | None = None
    language: str | Sequence[str] = ()
    unsubscribe: str | Sequence[str] = ()
    one_click: bool = False
    auto_submitted: AutoSubmitted | None = None
    seed: bytes | None = field(default=None, repr=False)
    sign: Callable[[bytes], bytes] | None = field(default=None, repr=False)
    id_domain: str = field(default="pribble.invalid", repr=False)

    def __post_init__(self) -> None:
        if self.text_format not in ("flowed", "fixed"):
            raise ValueError(f'text_format is "flowed" or "fixed", not "{self.text_format}"')
        sender = mailbox(self.sender, "From")
        authors = mailboxes(self.authors, "From") or (sender,)
        seed = self.seed if self.seed is not None else secrets.token_bytes(16)
        ids = self.message_id or f"<{hashlib.sha256(seed + b'message-id').hexdigest()[:32]}@{authors[0].domain}>"
        bounces = self.envelope_sender
        # One update and not twenty guarded assignments: there is one of these for every message.
        vars(self).update(
            sender=sender,
            authors=authors,
            to=recipients(self.to, "To"),
            cc=recipients(self.cc, "Cc"),
            bcc=mailboxes(self.bcc, "Bcc"),
            reply_to=recipients(self.reply_to, "Reply-To"),
            envelope_sender=bounces and mailbox(bounces, "the envelope's sender").addr,
            subject=None if self.subject is None else checked("Subject", self.subject, text=True),
            pictures=tuple(self.pictures),
            attachments=tuple(self.attachments),
            headers=further(self.headers),
            date=self.date or datetime.now(UTC).replace(microsecond=0),
            seed=seed,
            message_id=message_id(ids, "Message-ID"),
            in_reply_to=None if self.in_reply_to is None else message_id(self.in_reply_to, "In-Reply-To"),
            references=tuple(message_id(one, "References") for one in _several(self.references)),
            language=_several(self.language),
            unsubscribe=_several(self.unsubscribe),
        )
        self._header  # noqa: B018 - whatever cannot be written is told now
        if self.invitation is not None:
            self.invitation.asked(self._named)

    # -- what others need --

    @property
    def envelope(self) -> Envelope:
        """Sender and recipients as a transport is told them; each recipient once."""
        given: Any = self
        sender = given.sender.addr if self.envelope_sender is None else self.envelope_sender
        found = (address.addr for field in (given.to, given.cc, given.bcc) for address in members(field))
        return Envelope(sender, tuple(dict.fromkeys(found)))

    @cached_property
    def needs(self) -> frozenset[str]:
        """What a server must offer to take it: "smtputf8" for a local part outside ASCII (RFC 6531), "8bit" for a
        nested message with octets beyond ASCII (RFC 6152)."""
        return frozenset(["8bit"] * (self._root.encoding == "8bit") + ["smtputf8"] * self._international)

    @cached_property
    def _international(self) -> bool:
        given: Any = self
        fields = ((given.sender,), given.authors, given.to, given.cc, given.bcc, given.reply_to)
        return not (self.envelope_sender or "").isascii() or any(
            address.needs_smtputf8 for field in fields for address in members(field)
        )

    def chunks(self) -> Iterator[bytes]:
        """The message as it travels, piece by piece; lines end in CRLF.  A large attachment is never there twice."""
        if self.sign is not None:
            yield self._signature
        yield from self._unsigned()

    def __bytes__(self) -> bytes:
        if not any(a.content for a in self.attachments):
            return b"".join(self.chunks())
        return _joined(self.chunks(), len(self._signature) + self._size)

    def draft(self) -> bytes:
        """The message as it is kept until somebody sends it: the blind copies are in a Bcc field."""
        blind: Any = self.bcc
        return (address_field("Bcc", blind, self._international) if blind else b"") + bytes(self)

    def to_email_message(self, bcc: Literal["keep", "drop"] | None = None) -> EmailMessage:
        """The message as the standard library's type, for whatever already sends mail; its bytes are the same.

        Blind copies have no place in it: with Bcc recipients, `bcc` must say whether to "keep" them (in a
        Bcc field, which ``smtplib.send_message`` removes) or "drop" them; else `HeaderError`.
        """
        from email import message_from_bytes, policy

        if self.bcc and bcc not in ("keep", "drop"):
            raise HeaderError(
                "Bcc: this form of a message has no envelope for its blind copies", hint='say bcc="keep" or bcc="drop"'
            )
        # What we have folded is not folded again, nor is 8bit re-encoded.
        kept = policy.SMTP.clone(refold_source="none", utf8=self._international, max_line_length=None)
        return message_from_bytes(self.draft() if bcc == "keep" else bytes(self), policy=kept)

    @classmethod
    def from_bytes(cls, raw: bytes, *, envelope_sender: str | None = None) -> Message:
        """A message that was written before: its bytes are kept as they are, but for a Bcc field, whose addresses are
        in the envelope.

        Fields, texts and files are those that are read from it.  Raises `HeaderError` and `AddressError` for a header
        that names no sender, or holds what cannot be an address.
        """
        from pribble.mime.stored import restored

        values, whole = restored(raw, envelope_sender)
        made = cls.__new__(cls)
        vars(made).update({one.name: one.default for one in fields(cls)} | values, _header=b"", _root=whole)
        return made

    # -- writing --

    def _unsigned(self) -> Iterator[bytes]:
        root = self._root
        if not self._header:  # it was written before
            yield root.body
            return
        yield self._header + root.header + b"\r\n"
        yield from root.body_chunks()
        if self._end:
            yield b"\r\n"

    @property
    def _end(self) -> bool:
        """Whether a line end is missing behind the last line."""
        root = self._root
        return bool(self._header and root.body) and not root.body.endswith(b"\r\n")

    @property
    def _size(self) -> int:
        root = self._root
        return (len(self._header) + len(root.header) + 2 + 2 * self._end if self._header else 0) + root.size

    @cached_property
    def _signature(self) -> bytes:
        """What the signer returned; asked once, so that the message stays the same."""
        return b"" if self.sign is None else signature(self.sign(_joined(self._unsigned(), self._size)))

    @cached_property
    def _header(self) -> bytes:
        given: Any = self
        utf8 = self._international
        fields = [address_field("From", given.authors, utf8)]
        if [author.addr for author in given.authors] != [given.sender.addr]:
            fields.append(address_field("Sender", (given.sender,), utf8))
        if given.to or not given.cc:  # RFC 5322 A.1.3: where nobody is named
            fields.append(address_field("To", given.to, utf8) if given.to else _UNDISCLOSED)
        if given.cc:
            fields.append(address_field("Cc", given.cc, utf8))
        if given.reply_to:
            fields.append(address_field("Reply-To", given.reply_to, utf8))
        if self.subject:
            fields.append(free_text("Subject", self.subject, utf8=utf8))
        fields += [written("Date", date_time(given.date)), written("Message-ID", given.message_id)]
        if self.in_reply_to is not None:
            fields.append(written("In-Reply-To", self.in_reply_to))
        if self.references:
            fields.append(references_field(self.references))
        if self.auto_submitted is not None:
            fields.append(one_of("Auto-Submitted", self.auto_submitted, AUTO_SUBMITTED))
        if self.importance is not None:
            fields.append(one_of("Importance", self.importance, IMPORTANCE))
        if self.unsubscribe or self.one_click:
            fields.append(unsubscribe_fields(given.unsubscribe, one_click=self.one_click))
        fields += [free_text(name, value, utf8=utf8) for name, value in given.headers]
        fields.append(_MIME_VERSION)
        if self.language:
            fields.append(language_field(given.language))
        return b"".join(fields)

    @cached_property
    def _root(self) -> Part:
        assert self.seed is not None
        calendar = self._calendar
        body = self._body(self.seed, calendar)
        attachments = list(self.attachments)
        if calendar and self.invitation is not None and self.invitation.also_attached:
            attachments.append(Attachment("invitation.ics", calendar.encode("utf-8"), "application/ics"))
        if not attachments:
            return body
        return multipart("mixed", (body, *map(attachment_part, attachments)), self.seed, "mixed")

    def _body(self, seed: bytes, calendar: str) -> Part:
        forms: list[Part] = []
        if self.text is not None or self.html is None:
            forms.append(plain_part(self.text or "", fixed=self.text_format == "fixed"))
        if self.html is not None:
            root = text_part(self.html, "html")
            pictures = {p.content_id(self.id_domain): p for p in self.pictures}
            if pictures:
                parts = tuple(picture_part(p.file_name, p.type, p.base64_body, i) for i, p in pictures.items())
                root = multipart("related", (root, *parts), seed, "related", type="text/html")
            forms.append(root)
        if self.invitation is not None:
            forms.append(calendar_part(calendar, self.invitation.method))
        return forms[0] if len(forms) == 1 else multipart("alternative", tuple(forms), seed, "alternative")

    @property
    def _calendar(self) -> str:
        if self.invitation is None:
            return ""
        assert self.date is not None
        return self.invitation.calendar(self._named, self.date)

    @property
    def _named(self) -> tuple[Address, ...]:
        """The mailboxes of To."""
        given: Any = self
        return tuple(members(given.to))


_UNDISCLOSED = written("To", "undisclosed-recipients:;")
_MIME_VERSION = written("MIME-Version", "1.0")


def _several(given: str | Sequence[str]) -> tuple[str, ...]:
    return (given,) if isinstance(given, str) else tuple(given)


def _joined(chunks: Iterable[bytes], size: int) -> bytes:
    """`chunks` as one, of `size` octets, without a second copy of any."""
    whole = io.BytesIO()
    whole.seek(size - 1)
    whole.write(b"\0")  # so that the room is taken once, and not a little more at every step
    whole.seek(0)
    for chunk in chunks:
        whole.write(chunk)
    return whole.getvalue()
