"""What every message can do, built or read: name its envelope, say what it needs of a server, travel."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Literal, Protocol

from pribble.cached_property import cached_property
from pribble.errors import HeaderError
from pribble.mime.address import Address, AddressList
from pribble.mime.header_fields import address_field
from pribble.mime.message_header import is_international
from pribble.mime.part import Attachment
from pribble.records import field, record

if TYPE_CHECKING:
    from email.message import EmailMessage


class InlinePicture(Protocol):
    """What a message needs of a picture."""

    @property
    def type(self) -> str: ...
    @property
    def file_name(self) -> str: ...
    @property
    def base64_body(self) -> bytes: ...
    def content_id(self, domain: str) -> str: ...


@record(frozen=True, slots=True)
class Envelope:
    """What a transport needs to know: the `sender` ("" for none) and all `recipients`, also those of Bcc."""

    sender: str
    recipients: tuple[str, ...]


@record(frozen=True, kw_only=True, init=False)
class BaseMessage(ABC):
    """A message as transports take it: a `Message`, which is built, or a `StoredMessage`, which is read."""

    sender: Address
    authors: tuple[Address, ...]
    to: AddressList
    cc: AddressList
    bcc: AddressList
    reply_to: AddressList
    envelope_sender: str | None
    subject: str | None
    text: str | None = field(repr=False)
    html: str | None = field(repr=False)
    text_format: Literal["flowed", "fixed"]
    pictures: tuple[InlinePicture, ...]
    attachments: tuple[Attachment, ...]
    date: datetime | None
    message_id: str | None
    in_reply_to: str | None
    references: tuple[str, ...]

    @abstractmethod
    def chunks(self) -> Iterator[bytes]:
        """Returns the message as it travels, piece by piece; lines end in CRLF.  A large attachment is never there
        twice."""

    @abstractmethod
    def __bytes__(self) -> bytes:
        """Returns `chunks` as one."""

    @property
    @abstractmethod
    def _eight_bit(self) -> bool:
        """Whether its body has octets beyond ASCII that are not encoded."""

    @property
    def envelope(self) -> Envelope:
        """The sender and the recipients, as a transport takes them; each recipient once."""
        sender = self.sender.addr if self.envelope_sender is None else self.envelope_sender
        found = (address.addr for field in (self.to, self.cc, self.bcc) for address in field)
        return Envelope(sender, tuple(dict.fromkeys(found)))

    @cached_property
    def needs(self) -> frozenset[str]:
        """What a server must offer to take it: "smtputf8" for a local part outside ASCII (RFC 6531), "8bit" for octets
        beyond ASCII that are not encoded, as in a nested message (RFC 6152)."""
        return frozenset(["8bit"] * self._eight_bit + ["smtputf8"] * self._international)

    @cached_property
    def _international(self) -> bool:
        return is_international(self)

    def draft(self) -> bytes:
        """Returns the message as it is kept until a person sends it: the blind copies are in a Bcc field; it has no
        signature, and is not marked as automatic."""
        return self._with_blind_copies(self._unmarked())

    def with_bcc(self) -> bytes:
        """Returns the message with its blind copies in a Bcc field, from which `Message.from_bytes` has all of its
        envelope again, and the same bytes without the field."""
        return self._with_blind_copies(bytes(self))

    @abstractmethod
    def _unmarked(self) -> bytes:
        """Returns the message without its signature, and not marked as automatic."""

    def _with_blind_copies(self, raw: bytes) -> bytes:
        return (address_field("Bcc", self.bcc.entries, self._international) if self.bcc else b"") + raw

    def to_email_message(self, bcc: Literal["keep", "drop"] | None = None) -> EmailMessage:
        """Returns the message as the standard library's type, for whatever already sends mail; its bytes are the same,
        but for those of a `StoredMessage` that departs from the standards, which the library writes as it understood
        them.

        Blind copies have no place in it: with Bcc recipients, `bcc` must say whether to "keep" them (in a
        Bcc field, which ``smtplib.send_message`` removes) or "drop" them; else `HeaderError`.
        """
        from email import message_from_bytes, policy

        if self.bcc and bcc not in ("keep", "drop"):
            raise HeaderError(
                "Bcc: this form of a message has no envelope for its blind copies", hint='say bcc="keep" or bcc="drop"'
            )
        # What is folded is not folded again, nor is 8bit re-encoded.
        kept = policy.SMTP.clone(refold_source="none", utf8=self._international, max_line_length=None)
        raw = self._with_blind_copies(bytes(self)) if bcc == "keep" else bytes(self)
        made = message_from_bytes(raw, policy=kept)
        # The header of an attached message may be UTF-8 where this one's is ASCII (RFC 6532 3.7).
        if not kept.utf8 and any(not str(value).isascii() for part in made.walk() for _, value in part.raw_items()):
            return message_from_bytes(raw, policy=kept.clone(utf8=True))
        return made
