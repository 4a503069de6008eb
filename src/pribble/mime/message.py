"""A message: header fields, text, HTML, pictures and attachments, as the bytes that travel.

    multipart/mixed                          only with attachments
    └ multipart/alternative                  plain first, richest last (RFC 2046 5.1.4)
      ├ text/plain
      └ multipart/related; type="text/html"  root first (RFC 2387)
        ├ text/html
        └ image/png …

Each level is there only when it is needed.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import TYPE_CHECKING, Literal, Protocol, cast

from pribble.errors import HeaderError
from pribble.mime.address import Address, Recipients, mailbox, mailboxes
from pribble.mime.grammar import FIELD_NAME, MESSAGE_ID
from pribble.mime.header import FieldWriter, checked, date_time
from pribble.mime.part import Attachment, Part, attachment_part, multipart, picture_part, plain_part, text_part

if TYPE_CHECKING:
    from email.message import EmailMessage

# Fields that a Message writes itself, or that others add on the way; `headers=` may not hold them.
_OWN = frozenset(
    "from sender to cc bcc reply-to subject date message-id mime-version in-reply-to references return-path received "
    "dkim-signature authentication-results".split())
_OWN_PREFIXES = ("content-", "resent-", "arc-")
# RFC 5322 3.6.4 sets no limit; long threads keep the first and the last of their ids.
_MOST_REFERENCES = 20


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

    `sender` and the recipients are mailboxes: ``"Ana Bell <ana@example.org>"``, an `Address`, a pair of name
    and address, or a list of these; each string is one mailbox.  `subject` None writes no Subject.  `text`
    and `html` are the two forms of the body; at least one is given, or an empty text is sent.  The text is "flowed"
    (RFC 3676): a reader wraps its paragraphs anew, and lines of more than 78 characters flow; or its lines are
    "fixed".  `pictures` are the ones the HTML refers to by Content-ID.  `headers` are further fields, of free text.
    `date` is an aware datetime (now, by default), `message_id` an id in angle brackets.  `envelope_sender` is where
    failures are reported to ("" for nowhere); by default the sender.  With `date` and `seed`, the same input gives the
    same bytes.

    Raises `HeaderError` and `AddressError`, which name the field and the position, before anything is built.
    """

    sender: Recipients
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
    attachments: Sequence[Attachment] = ()
    headers: Mapping[str, str] | Iterable[tuple[str, str]] = ()
    date: datetime | None = None
    message_id: str | None = None
    in_reply_to: str | None = None
    references: Sequence[str] = ()
    seed: bytes | None = field(default=None, repr=False)
    id_domain: str = field(default="pribble.invalid", repr=False)

    def __post_init__(self) -> None:
        def settle(name: str, value: object) -> None:
            object.__setattr__(self, name, value)

        settle("sender", mailbox(self.sender, "From"))
        for name, shown in (("to", "To"), ("cc", "Cc"), ("bcc", "Bcc"), ("reply_to", "Reply-To")):
            settle(name, mailboxes(getattr(self, name), shown))
        if self.envelope_sender is not None and self.envelope_sender:
            settle("envelope_sender", mailbox(self.envelope_sender, "the envelope's sender").addr)
        if self.subject is not None:
            checked("Subject", self.subject, text=True)
        if self.text_format not in ("flowed", "fixed"):
            raise ValueError(f'text_format is "flowed" or "fixed", not "{self.text_format}"')
        settle("headers", _further(self.headers))
        settle("pictures", tuple(self.pictures))
        settle("attachments", tuple(self.attachments))
        settle("date", self.date or datetime.now(UTC).replace(microsecond=0))
        if self.seed is None:
            settle("seed", secrets.token_bytes(16))
        domain = self._from.domain
        settle("message_id", _message_id(self.message_id or f"<{self._random_id}@{domain}>", "Message-ID"))
        settle("references", tuple(_message_id(i, "References") for i in self.references))
        if self.in_reply_to is not None:
            settle("in_reply_to", _message_id(self.in_reply_to, "In-Reply-To"))
        self._header  # noqa: B018 - whatever cannot be written is told now

    @property
    def _from(self) -> Address:
        assert isinstance(self.sender, Address)
        return self.sender

    @property
    def _random_id(self) -> str:
        assert self.seed is not None
        return hashlib.sha256(self.seed + b"message-id").hexdigest()[:32]

    def _addresses(self, *names: str) -> tuple[Address, ...]:
        return tuple(address for name in names for address in getattr(self, name))

    # -- what others need --

    @property
    def envelope(self) -> Envelope:
        """Sender and recipients as a transport is told them; each recipient once."""
        sender = self._from.addr if self.envelope_sender is None else self.envelope_sender
        return Envelope(sender, tuple(dict.fromkeys(a.addr for a in self._addresses("to", "cc", "bcc"))))

    @property
    def needs(self) -> frozenset[str]:
        """What a server must offer to take it: {"smtputf8"} for a local part outside ASCII (RFC 6531)."""
        addresses = (self._from, *self._addresses("to", "cc", "bcc", "reply_to"))
        international = any(a.needs_smtputf8 for a in addresses) or not (self.envelope_sender or "").isascii()
        return frozenset({"smtputf8"}) if international else frozenset()

    def chunks(self) -> Iterator[bytes]:
        """The message as it travels, piece by piece; lines end in CRLF."""
        root = self._root
        yield self._header + root.header + b"\r\n"
        yield from root.body_chunks()
        if root.boundary or (root.body and not root.body.endswith(b"\r\n")):
            yield b"\r\n"

    def __bytes__(self) -> bytes:
        return b"".join(self.chunks())

    def to_email_message(self, bcc: Literal["keep", "drop"] | None = None) -> EmailMessage:
        """The message as the standard library's type, for whatever already sends mail.

        Blind copies have no place in it: with Bcc recipients, `bcc` must say whether to "keep" them (in a
        Bcc field, which ``smtplib.send_message`` removes) or "drop" them; else `HeaderError`.
        """
        from email import message_from_bytes, policy

        made = message_from_bytes(bytes(self), policy=policy.SMTPUTF8 if self.needs else policy.SMTP)
        blind = self._addresses("bcc")
        if blind and bcc is None:
            raise HeaderError("Bcc: this form of a message has no envelope for its blind copies",
                              hint='say bcc="keep" or bcc="drop"')
        if blind and bcc == "keep":
            made["Bcc"] = ", ".join(map(str, blind))
        return made

    # -- writing --

    @cached_property
    def _header(self) -> bytes:
        utf8 = bool(self.needs)
        assert self.date is not None and self.message_id is not None
        fields = [_address_field("From", (self._from,), utf8)]
        if self._addresses("to", "cc"):
            fields += [_address_field(shown, self._addresses(name), utf8)
                       for name, shown in (("to", "To"), ("cc", "Cc")) if self._addresses(name)]
        else:
            fields.append(_words("To", "undisclosed-recipients:;"))  # RFC 5322 A.1.3: nobody is named
        if self._addresses("reply_to"):
            fields.append(_address_field("Reply-To", self._addresses("reply_to"), utf8))
        if self.subject:
            fields.append(_text("Subject", self.subject, utf8))
        fields += [_words("Date", date_time(self.date)), _words("Message-ID", self.message_id)]
        if self.in_reply_to is not None:
            fields.append(_words("In-Reply-To", self.in_reply_to))
        if self.references:
            ids = list(self.references)
            kept = ids if len(ids) <= _MOST_REFERENCES else [ids[0], *ids[1 - _MOST_REFERENCES:]]
            fields.append(_words("References", *kept))
        fields += [_text(name, value, utf8) for name, value in cast("tuple[tuple[str, str], ...]", self.headers)]
        fields.append(_words("MIME-Version", "1.0"))
        return b"".join(fields)

    @cached_property
    def _root(self) -> Part:
        assert self.seed is not None
        body = self._body(self.seed)
        if not self.attachments:
            return body
        files = tuple(attachment_part(a) for a in self.attachments)
        return multipart("mixed", (body, *files), self.seed, "mixed")

    def _body(self, seed: bytes) -> Part:
        forms: list[Part] = []
        if self.text is not None or self.html is None:
            forms.append(plain_part(self.text or "", fixed=self.text_format == "fixed"))
        if self.html is not None:
            root = text_part(self.html, "html")
            pictures = {p.content_id(self.id_domain): p for p in self.pictures}
            if pictures:
                parts = tuple(picture_part(p.file_name, p.type, p.base64_body, i) for i, p in pictures.items())
                root = multipart("related", (root, *parts), seed, "related", type='text/html')
            forms.append(root)
        return forms[0] if len(forms) == 1 else multipart("alternative", tuple(forms), seed, "alternative")


def _further(headers: Mapping[str, str] | Iterable[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
    """Further header fields, their names and values checked; empty ones are left out."""
    pairs = headers.items() if isinstance(headers, Mapping) else headers
    kept = []
    for name, value in pairs:
        if not FIELD_NAME.fullmatch(name):
            raise HeaderError(f'"{name}" is no name of a header field' if name.isprintable() else
                              "the name of a header field holds a control character",
                              hint="it is made of printable ASCII characters but the colon")
        if name.lower() in _OWN or name.lower().startswith(_OWN_PREFIXES):
            raise HeaderError(f"{name}: this field is not set by headers", hint="Message has an argument of its own "
                              "for it, or it is added on the way")
        if checked(name, value, text=True).strip():
            kept.append((name, value))
    return tuple(kept)


def _message_id(given: str, field_name: str) -> str:
    if not MESSAGE_ID.fullmatch(checked(field_name, given)):
        raise HeaderError(f'{field_name}: "{given[:60]}" is no message id', hint="one is written <left@right>")
    return given


def _words(name: str, *words: str) -> bytes:
    writer = FieldWriter(name)
    writer.words(*words)
    return writer.finished()


def _text(name: str, value: str, utf8: bool) -> bytes:
    writer = FieldWriter(name, utf8=utf8)
    writer.text(value)
    return writer.finished()


def _address_field(name: str, addresses: Sequence[Address], utf8: bool) -> bytes:
    """A field of mailboxes (RFC 5322 3.4), folded after commas and between a name and its address."""
    writer = FieldWriter(name, utf8=utf8)
    for number, address in enumerate(addresses, 1):
        comma = "," if number < len(addresses) else ""
        if address.name:
            writer.phrase(address.name)
            writer.word(f"<{address.addr}>{comma}")
        else:
            writer.word(f"{address.addr}{comma}")
    return writer.finished()
