"""What makes a message of a row: a template, and patterns for whom it is to, from and about.

This is the seam between a batch and the template: whatever makes many messages of one template faster goes in here.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from typing import Any, Protocol, Required, Self, TypedDict, Unpack

from pribble.cached_property import cached_property
from pribble.delivery.patterns import AddressColumn, AddressPattern, TextPattern
from pribble.errors import DataError, PribbleError, did_you_mean, visible
from pribble.mime.address import Address
from pribble.mime.base import BaseMessage
from pribble.mime.message import Message, MessageOptions
from pribble.mime.part import Attachment
from pribble.records import field, record
from pribble.series import TemplateSeries
from pribble.template import Template

LONGEST_KEY = 1_000  # characters


class Addresses(Protocol):
    """What gives the mailboxes of a row."""

    def addresses(self, row: Any) -> list[Address]: ...


class ComposerOptions(TypedDict, total=False):
    """Whom the messages of rows are from, to and about, as texts; docs/batch.md has each."""

    sender: Required[str]
    to: Required[str]
    cc: str | None
    bcc: str | None
    reply_to: str | None
    locale: str | None
    unsubscribe: str | None
    envelope_sender: str | None
    key: Sequence[str]
    attachments: Sequence[Attachment]
    mark: str
    sign: Callable[[bytes], bytes] | None


def address_source(written: str, columns: Iterable[str], name: str) -> Addresses:
    """Returns what a column's name, or a pattern, gives; `name` is the option that errors speak of."""
    return AddressColumn(written, name) if written in columns else AddressPattern(written, name)


@record(frozen=True)
class Composer:
    """Makes messages of rows.

    `key` are the columns that tell rows apart; without, their numbers do.  `locale` and `unsubscribe` are patterns.
    `attachments` go to everybody.  `mark` stands before each subject.  `automatic`: messages say that no person sent
    them (RFC 3834).  `envelope_sender` is where failures are reported to.  `sign` is what signs them.
    """

    template: Template
    sender: str
    to: Addresses
    cc: Addresses | None = None
    bcc: Addresses | None = None
    reply_to: Addresses | None = None
    locale: TextPattern | None = None
    unsubscribe: TextPattern | None = None
    envelope_sender: Addresses | None = None
    key: Sequence[str] = ()
    attachments: Sequence[Attachment] = field(default_factory=tuple)
    mark: str = ""
    automatic: bool = False
    sign: Callable[[bytes], bytes] | None = None

    @classmethod
    def of(cls, template: Template, columns: Sequence[str], **options: Unpack[ComposerOptions]) -> Self:
        """Returns what makes messages of a table with these columns.

        Raises `TemplateError` for a pattern that is none, `DataError` for a key that is no column.
        """
        key = tuple(options.get("key", ()))
        for column in key:
            if columns and column not in columns:
                raise DataError(f'the key "{column}" is no column of the table', hint=did_you_mean(column, columns))

        def addresses(written: str | None, name: str) -> Addresses | None:
            return address_source(written, columns, name) if written else None

        def text(written: str | None, name: str) -> TextPattern | None:
            return TextPattern(written, name) if written else None

        return cls(
            template,
            options["sender"],
            to=address_source(options["to"], columns, "--to"),
            cc=addresses(options.get("cc"), "--cc"),
            bcc=addresses(options.get("bcc"), "--bcc"),
            reply_to=addresses(options.get("reply_to"), "--reply-to"),
            locale=text(options.get("locale"), "--locale"),
            unsubscribe=text(options.get("unsubscribe"), "--unsubscribe"),
            envelope_sender=addresses(options.get("envelope_sender"), "--envelope-sender"),
            key=key,
            attachments=tuple(options.get("attachments", ())),
            mark=options.get("mark", ""),
            sign=options.get("sign"),
        )

    def message(
        self,
        row: Any,
        *,
        seed: bytes | None = None,
        date: float | None = None,
        attachments: Sequence[Attachment] = (),
    ) -> Message:
        """Returns the message of a row; with the same seed and date (seconds since 1970), the same message.  It has
        `attachments` of its own behind those of all.

        Raises what rendering and `Message` raise, and `DataError` for a row that names nobody.
        """
        locale = self._locale(row)
        envelope: MessageOptions = {}
        if self.cc:
            envelope["cc"] = self.cc.addresses(row)
        if self.bcc:
            envelope["bcc"] = self.bcc.addresses(row)
        if self.reply_to:
            envelope["reply_to"] = self.reply_to.addresses(row)
        if self.unsubscribe and (address := self.unsubscribe.text(row)):
            envelope["unsubscribe"] = address
        if self.envelope_sender and (back := self.envelope_sender.addresses(row)):
            if len(back) > 1:
                raise DataError("a message has one envelope sender")
            envelope["envelope_sender"] = back[0]
        if seed is not None:
            envelope["seed"] = seed
        if date is not None:
            envelope["date"] = datetime.fromtimestamp(date, UTC)
        if attachments:
            envelope["attachments"] = (*self.attachments, *attachments)
        to = self.to.addresses(row)
        if not to:
            raise DataError("nobody is named as its recipient")
        rendering = self.template.render(row, locale=locale)
        if self.mark:
            envelope["subject"] = f"{self.mark}{rendering.subject or ''}"
        return self._series.of(rendering, to=to, **envelope)

    @cached_property
    def _series(self) -> TemplateSeries:
        """What all messages have in common."""
        common: MessageOptions = {"attachments": self.attachments, "sign": self.sign}
        if self.automatic:
            common["auto_submitted"] = "auto-generated"
        return self.template.series(sender=self.sender, **common)

    def _locale(self, row: Any) -> str | None:
        return self.locale.text(row) or None if self.locale else None

    def problems(self, row: Any) -> list[PribbleError]:
        """Returns all that the template finds wrong with a row."""
        return self.template.problems(row, locale=self._locale(row))

    def recipients(self, row: Any) -> tuple[str, ...]:
        """Returns whom the message of a row is for, as its envelope names them."""
        fields = [one for one in (self.to, self.cc, self.bcc) if one]
        return tuple(dict.fromkeys(address.addr for one in fields for address in one.addresses(row)))

    def key_of(self, row: Any, number: int) -> str:
        """Returns what tells a row from the others.  Raises `DataError` for a key that is empty."""
        if not self.key:
            return f"row {number}"
        values = [str(row[column]).strip() if row[column] is not None else "" for column in self.key]
        if not all(values):
            raise DataError(f"its key ({', '.join(self.key)}) is empty")
        return checked_key(values[0] if len(values) == 1 else json.dumps(values, ensure_ascii=False))


def checked_key(key: str) -> str:
    """Returns a key as a journal can hold it.  Raises `DataError` for one that is too long, or has what no text has."""
    if len(key) > LONGEST_KEY:
        raise DataError(f"its key has {len(key):,} characters, and {LONGEST_KEY:,} at most")
    if "\0" in key or any("\ud800" <= one <= "\udfff" for one in key):
        raise DataError(f'its key "{visible(key[:40])}" has a character that is none')
    return key


def content_digest(message: BaseMessage) -> str:
    """Returns a digest of a message's bytes, and behind a stroke one of its envelope's sender."""
    parts = (bytes(message), message.envelope.sender.encode("utf-8"))
    return "/".join(hashlib.sha256(part).hexdigest() for part in parts)


def words_of(error: Exception) -> str:
    """Returns what is wrong with a row, in one line."""
    if isinstance(error, PribbleError):
        where = f"{error.place}: " if error.place else ""
        return f"{where}{error.problem}" + (f" ({error.hint})" if error.hint else "")
    return f"no {error}" if isinstance(error, KeyError) else str(error)
