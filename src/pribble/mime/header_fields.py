"""The header of a message: which fields it has, in which order, each written once (RFC 5322 3.6)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from functools import lru_cache

from pribble.errors import HeaderError
from pribble.mime.address import Address, Group
from pribble.mime.grammar import MESSAGE_ID
from pribble.mime.header import FieldWriter, checked, date_time, usual_mailbox, write_field

# RFC 5322 3.6.4 sets no limit; long threads keep the first and the last of their ids.
_MOST_REFERENCES = 20


# The right side of Content-IDs, where nobody says another one.
DOMAIN = "pribble.invalid"


def checked_id(given: str, field_name: str) -> str:
    """An id in angle brackets (RFC 5322 3.6.4); raises `HeaderError` for what is none."""
    if not MESSAGE_ID.fullmatch(checked(field_name, given)):
        raise HeaderError(f'{field_name}: "{given[:60]}" is no message id', hint="one is written <left@right>")
    return given


def checked_domain(given: str, called: str) -> str:
    """The right side of ids, as `called` names it; raises `HeaderError` for one that no id could have."""
    if not MESSAGE_ID.fullmatch(f"<x@{checked(called, given)}>"):
        raise HeaderError(f'{called}: "{given[:60]}" is no domain', hint='one is written "skerrow.example"')
    return given


def id_domain_of(sender: Address) -> str:
    """Returns the right side of the ids of what a sender sends: its domain, where that is a name."""
    return DOMAIN if sender.domain.startswith("[") else sender.domain


def date_field(moment: datetime) -> bytes:
    """Returns the moment a message was made; raises `HeaderError` for one without a time zone."""
    # All that are made within a second have the same; moments that are equal may be written in two zones.
    return _date_field(moment, moment.utcoffset())


@lru_cache(8)
def _date_field(moment: datetime, offset: timedelta | None) -> bytes:
    return write_field("Date", date_time(moment))


def references_field(ids: Sequence[str]) -> bytes:
    """Returns references; of a long thread the first and the last ids."""
    kept = ids if len(ids) <= _MOST_REFERENCES else [ids[0], *ids[1 - _MOST_REFERENCES :]]
    return write_field("References", *kept)


@lru_cache(1024)
def address_field(name: str, recipients: tuple[Address | Group, ...], utf8: bool) -> bytes:
    """Returns a field of mailboxes and groups (RFC 5322 3.4), folded after commas and between a name and its
    address."""
    if not utf8 and len(recipients) == 1 and isinstance(only := recipients[0], Address):
        line = usual_mailbox(name, only.name, only.addr)
        if line is not None:
            return line
    writer = FieldWriter(name, utf8=utf8)
    for number, one in enumerate(recipients, 1):
        comma = "," if number < len(recipients) else ""
        if isinstance(one, Address):
            _write_mailbox(writer, one, comma)
            continue
        writer.phrase(one.name, ":" if one.members else f":;{comma}")
        for count, address in enumerate(one.members, 1):
            _write_mailbox(writer, address, "," if count < len(one.members) else f";{comma}")
    return writer.finished()


def _write_mailbox(writer: FieldWriter, address: Address, after: str) -> None:
    if address.name:
        writer.phrase(address.name)
        writer.word(f"<{address.addr}>{after}")
    else:
        writer.word(f"{address.addr}{after}")
