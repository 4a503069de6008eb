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

import copy
import io
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from functools import lru_cache
from itertools import chain
from time import time
from typing import TYPE_CHECKING, Literal, TypedDict

from pribble.arguments import maybe_texts, octets
from pribble.cached_property import cached_property
from pribble.errors import PribbleError, visible
from pribble.mime.address import Mailbox, Recipients, mailbox, recipients
from pribble.mime.base import BaseMessage, InlinePicture
from pribble.mime.encoding import PreparedBody
from pribble.mime.extra_fields import extra_fields
from pribble.mime.header import checked
from pribble.mime.header_fields import checked_domain, checked_id, id_domain_of
from pribble.mime.machine_fields import AutoSubmitted, Importance, signature
from pribble.mime.message_arguments import check_kinds
from pribble.mime.message_header import further_fields, own_fields, sender_fields
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
from pribble.mime.seeds import seeded
from pribble.records import field, record

if TYPE_CHECKING:
    from pribble.mime.invitation import Invitation
    from pribble.mime.stored import StoredMessage


class MessageOptions(TypedDict, total=False):
    """What a `Message` takes besides what a rendering gives it: its sender, To, text, page and pictures."""

    authors: Recipients
    cc: Recipients
    bcc: Recipients
    reply_to: Recipients
    envelope_sender: Mailbox | None
    subject: str | None
    text_format: Literal["flowed", "fixed"]
    invitation: Invitation | None
    attachments: Iterable[Attachment]
    headers: Mapping[str, str] | Iterable[tuple[str, str]]
    date: datetime | None
    message_id: str | None
    in_reply_to: str | None
    references: str | Sequence[str]
    importance: Importance | None
    language: str | Sequence[str]
    unsubscribe: str | Sequence[str]
    one_click: bool
    auto_submitted: AutoSubmitted | None
    seed: bytes | None
    sign: Callable[[bytes], bytes] | None


@record(frozen=True, kw_only=True, init=False)
class Message(BaseMessage):
    """A message, complete when it is made.  Its attributes have the arguments in one form each.

    - `sender`: a mailbox: ``"Ana Bell <ana@example.org>"``, an `Address`, or a pair of name and address.
    - `to`, `cc`, `bcc`, `reply_to`: a mailbox, or a list of mailboxes, in which a pair is one mailbox and each string
      is one mailbox.  To, Cc and Reply-To take a `Group` as well.
    - `authors`: who wrote it, if not the sender: From names them, and Sender the sender (RFC 5322 3.6.2).
    - `envelope_sender`: where failures are reported to, "" for nowhere; the sender by default.
    - `subject`: one line; None writes no Subject.
    - `text`, `html`: the two forms of the body.  If neither is given, an empty text is sent.
    - `text_format`: "flowed" (RFC 3676): a reader wraps paragraphs anew, and lines of more than 78 characters flow; or
      "fixed".
    - `pictures`: the pictures that the HTML refers to by Content-ID.
    - `invitation`: an event for the calendar.  `attachments`: files.
    - `headers`: further fields: free text, or what the field of that name takes (docs/mime.md).
    - `date`: an aware datetime; now by default.  `message_id`: an id in angle brackets.
    - `in_reply_to`, `references`: ids of earlier messages.
    - `importance`: "high", "normal" or "low".  `language`: one tag or several (RFC 5646).
    - `auto_submitted`: "auto-generated", "auto-replied" or "no" (RFC 3834).
    - `unsubscribe`: the addresses that lead off a list (RFC 2369).  `one_click`: a single request to the ``https:`` one
      is enough (RFC 8058).
    - `seed`: with `date`, the same input and seed give the same bytes.
    - `sign`: a function that takes the final bytes and returns the bytes of header fields to put before them.
    - `id_domain`: the right side of Content-IDs: that of the template folder for a rendering's message, else the domain
      of the sender.

    Raises `HeaderError` and `AddressError`, which name the field and the position, before anything is built;
    `TypeError` for an argument of another kind, also for a bare tuple of recipients, which could be a pair or several.
    """

    date: datetime
    message_id: str
    invitation: Invitation | None
    headers: tuple[tuple[str, str], ...]
    importance: Importance | None
    language: tuple[str, ...]
    unsubscribe: tuple[str, ...]
    one_click: bool
    auto_submitted: AutoSubmitted | None
    seed: bytes = field(repr=False)
    sign: Callable[[bytes], bytes] | None = field(repr=False)
    id_domain: str = field(repr=False)

    def __init__(
        self,
        *,
        sender: Mailbox,
        authors: Recipients = (),
        to: Recipients = (),
        cc: Recipients = (),
        bcc: Recipients = (),
        reply_to: Recipients = (),
        envelope_sender: Mailbox | None = None,
        subject: str | None = None,
        text: str | None = None,
        html: str | None = None,
        text_format: Literal["flowed", "fixed"] = "flowed",
        pictures: Iterable[InlinePicture] = (),
        invitation: Invitation | None = None,
        attachments: Iterable[Attachment] = (),
        headers: Mapping[str, str] | Iterable[tuple[str, str]] = (),
        date: datetime | None = None,
        message_id: str | None = None,
        in_reply_to: str | None = None,
        references: str | Sequence[str] = (),
        importance: Importance | None = None,
        language: str | Sequence[str] = (),
        unsubscribe: str | Sequence[str] = (),
        one_click: bool = False,
        auto_submitted: AutoSubmitted | None = None,
        seed: bytes | None = None,
        sign: Callable[[bytes], bytes] | None = None,
        id_domain: str | None = None,
    ) -> None:
        given = locals()
        try:
            if text_format not in ("flowed", "fixed"):
                raise ValueError(f'text_format is "flowed" or "fixed", not "{visible(text_format)}"')
            from_ = mailbox(sender, "From")
            wrote = recipients(authors, "From", groups=False) or (from_,)
            seed = os.urandom(16) if seed is None else seed
            message_id = message_id_of(seed, wrote[0].domain) if message_id is None else message_id
            # One update and not twenty-seven assignments that are checked: there is one of these for every message.
            vars(self).update(
                sender=from_,
                authors=tuple(wrote),
                to=recipients(to, "To"),
                cc=recipients(cc, "Cc"),
                bcc=recipients(bcc, "Bcc", groups=False),
                reply_to=recipients(reply_to, "Reply-To"),
                envelope_sender=envelope_sender and mailbox(envelope_sender, "the envelope's sender").addr,
                subject=None if subject is None else checked("Subject", subject, text=True),
                text=text,
                html=html,
                text_format=text_format,
                pictures=tuple(pictures),
                invitation=invitation,
                attachments=tuple(attachments),
                headers=extra_fields(headers),
                date=date or this_second(),
                message_id=checked_id(message_id, "Message-ID"),
                in_reply_to=None if in_reply_to is None else checked_id(in_reply_to, "In-Reply-To"),
                references=tuple(checked_id(one, "References") for one in _several(references)),
                importance=importance,
                language=_several(language),
                unsubscribe=_several(unsubscribe),
                one_click=one_click,
                auto_submitted=auto_submitted,
                seed=seed,
                sign=sign,
                id_domain=id_domain_of(wrote[0]) if id_domain is None else checked_domain(id_domain, "id_domain"),
            )
            self._header  # noqa: B018 - whatever cannot be written is refused now
            self._inline  # noqa: B018
            if invitation is not None:
                invitation.asked(self.to)
        except (TypeError, AttributeError, ValueError, PribbleError):
            check_kinds(given)  # looked at only now: a message that is right does not pay for it
            raise
        check_kinds({"text": text, "html": html, "sign": sign, "one_click": one_click})
        if self.attachments or html is None:  # pictures of a page have been asked for all that is needed
            check_kinds({"attachments": self.attachments, "pictures": self.pictures})

    @classmethod
    def from_bytes(cls, raw: bytes, *, envelope_sender: str | None = None) -> StoredMessage:
        """Returns a message that was written before, from its bytes.

        The bytes are kept, except a Bcc field, whose addresses go to the envelope, and bare line feeds, which become
        CRLF (RFC 5321 2.3.8).  Fields, texts and files are those that are read from it.  `envelope_sender` is where
        failures are reported to.  Raises `HeaderError` and `AddressError` for a header that names no sender or holds an
        invalid address, and `HeaderError` for octets that cannot travel: a carriage return without a line feed, a line
        feed without a carriage return in a ``binary`` part.
        """
        from pribble.mime.stored import StoredMessage

        octets(raw=raw)
        maybe_texts(envelope_sender=envelope_sender)
        return StoredMessage(raw, envelope_sender)

    # -- writing --

    def chunks(self) -> Iterator[bytes]:
        return self._unsigned() if self.sign is None else chain((self._signature,), self._unsigned())

    def __bytes__(self) -> bytes:
        # One join is faster, where it does not mean that a large file is there twice.
        return b"".join(self.chunks()) if not self.attachments else _assembled(self.chunks(), self._size)

    def _unmarked(self) -> bytes:
        is_automatic = self.auto_submitted not in (None, "no")
        if self.sign is None and not is_automatic:
            return bytes(self)
        plain = copy.copy(self)
        vars(plain).update(sign=None, auto_submitted=None if is_automatic else self.auto_submitted)
        for known in ("_header", "_signature"):
            vars(plain).pop(known, None)
        return bytes(plain)

    def _unsigned(self) -> Iterator[bytes]:
        return chain((self._header,), self._root.chunks(), (b"\r\n",) if self._end else ())

    @property
    def _end(self) -> bool:
        """Whether a line end is missing behind the last line."""
        last = self._root.body[-1:]
        return any(last) and not last[0].endswith(b"\r\n")

    @property
    def _size(self) -> int:
        return len(self._signature) + self._unsigned_size

    @property
    def _unsigned_size(self) -> int:
        root = self._root
        return len(self._header) + len(root.header) + 2 + root.size + 2 * self._end

    @property
    def _eight_bit(self) -> bool:
        return self._root.encoding == "8bit"

    @cached_property
    def _signature(self) -> bytes:
        """What the signer returned; asked once, so that the message stays the same."""
        return b"" if self.sign is None else signature(self.sign(_assembled(self._unsigned(), self._unsigned_size)))

    @cached_property
    def _header(self) -> bytes:
        utf8 = self._international
        return sender_fields(self, utf8) + own_fields(self, utf8) + further_fields(self, utf8)

    @cached_property
    def _root(self) -> Part:
        calendar = self._calendar
        body = self._body(self.seed, calendar)
        files = self._files
        if calendar and self.invitation is not None and self.invitation.also_attached:
            invitation = Attachment("invitation.ics", calendar.encode("utf-8"), "application/ics")
            files = (*files, attachment_part(invitation))
        return multipart("mixed", (body, *files), self.seed, "mixed") if files else body

    @cached_property
    def _files(self) -> tuple[Part, ...]:
        """The parts of the attachments."""
        return tuple(map(attachment_part, self.attachments))

    @cached_property
    def _inline(self) -> tuple[Part, ...]:
        """The parts of the pictures, each content once."""
        if self.html is None:
            return ()
        pictures = {picture.content_id(self.id_domain): picture for picture in self.pictures}
        return tuple(picture_part(p.file_name, p.type, p.base64_body, i) for i, p in pictures.items())

    def _body(self, seed: bytes, calendar: str) -> Part:
        forms: list[Part] = []
        if self.text is not None or self.html is None:
            forms.append(plain_part(self.text or "", fixed=self.text_format == "fixed"))
        if self.html is not None:
            root = text_part(self.html, "html", vars(self).get(_PREPARED))
            if self._inline:
                root = multipart("related", (root, *self._inline), seed, "related", type="text/html")
            forms.append(root)
        if self.invitation is not None:
            forms.append(calendar_part(calendar, self.invitation.method))
        return forms[0] if len(forms) == 1 else multipart("alternative", tuple(forms), seed, "alternative")

    @property
    def _calendar(self) -> str:
        if self.invitation is None:
            return ""
        return self.invitation.calendar(self.to, self.date)


def message_id_of(seed: bytes, domain: str) -> str:
    """Returns the Message-ID that a seed gives."""
    return f"<{seeded(seed, 'message-id', 32)}@{domain}>"


def this_second() -> datetime:
    """Returns the moment that is now, in UTC; a header has no fractions."""
    return _second(int(time()))


@lru_cache(2)
def _second(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


_PREPARED = "_prepared_html"


def prepare_html(message: Message, body: PreparedBody) -> Message:
    """Returns `message`, whose page has a form on the wire that is known already; the message itself is the same."""
    vars(message)[_PREPARED] = body
    return message


def of_values(values: Mapping[str, object], own: Mapping[str, object]) -> Message:
    """Returns the message that has these attributes, which are known to fit together."""
    made = object.__new__(Message)
    vars(made).update({**values, **own})
    return made


def _several(given: str | Sequence[str]) -> tuple[str, ...]:
    return (given,) if isinstance(given, str) else tuple(given)


def _assembled(chunks: Iterable[bytes], size: int) -> bytes:
    """Returns `chunks` as one, of `size` octets, without a second copy of any."""
    whole = io.BytesIO()
    whole.seek(size - 1)
    whole.write(b"\0")  # so that the room is taken once, and not a little more at every step
    whole.seek(0)
    for chunk in chunks:
        whole.write(chunk)
    return whole.getvalue()
