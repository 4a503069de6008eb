"""The header of a message: which fields it has, in which order, each written once (RFC 5322 3.6)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache

from pribble.errors import HeaderError
from pribble.mime.address import Address, Group
from pribble.mime.grammar import FIELD_NAME, MESSAGE_ID
from pribble.mime.header import FieldWriter, checked, written

# Fields that a Message writes itself, or that others add on the way; `headers=` may not hold them.
_OWN = frozenset(
    "from sender to cc bcc reply-to subject date message-id mime-version in-reply-to references importance "
    "auto-submitted list-unsubscribe list-unsubscribe-post return-path received dkim-signature "
    "authentication-results".split()
)
_OWN_PREFIXES = ("content-", "resent-", "arc-")
# RFC 5322 3.6.4 sets no limit; long threads keep the first and the last of their ids.
_MOST_REFERENCES = 20


def further(headers: Mapping[str, str] | Iterable[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
    """Further header fields, their names and values checked; empty ones are left out.  Raises `HeaderError`."""
    pairs = headers.items() if isinstance(headers, Mapping) else headers
    kept = []
    for name, value in pairs:
        if not (isinstance(name, str) and isinstance(value, str)):
            raise TypeError(
                f"headers are names and values, texts both, and not {type(name).__name__} and {type(value).__name__}"
            )
        if not FIELD_NAME.fullmatch(name):
            raise HeaderError(
                f'"{name[:60]}" is no name of a header field'
                if name.isprintable()
                else "the name of a header field holds a control character",
                hint="it is made of printable ASCII characters but the colon",
            )
        if name.lower() in _OWN or name.lower().startswith(_OWN_PREFIXES):
            raise HeaderError(
                f"{name}: this field is not set by headers",
                hint="Message has an argument of its own for it, or it is added on the way",
            )
        if checked(name, value, text=True).strip():
            kept.append((name, value))
    return tuple(kept)


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


def references_field(ids: Sequence[str]) -> bytes:
    """References; of a long thread the first and the last ids."""
    kept = ids if len(ids) <= _MOST_REFERENCES else [ids[0], *ids[1 - _MOST_REFERENCES :]]
    return written("References", *kept)


@lru_cache(1024)
def address_field(name: str, recipients: tuple[Address | Group, ...], utf8: bool) -> bytes:
    """A field of mailboxes and groups (RFC 5322 3.4), folded after commas and between a name and its address."""
    writer = FieldWriter(name, utf8=utf8)
    for number, one in enumerate(recipients, 1):
        comma = "," if number < len(recipients) else ""
        if isinstance(one, Address):
            _mailbox(writer, one, comma)
            continue
        writer.phrase(one.name, ":" if one.members else f":;{comma}")
        for count, address in enumerate(one.members, 1):
            _mailbox(writer, address, "," if count < len(one.members) else f";{comma}")
    return writer.finished()


def _mailbox(writer: FieldWriter, address: Address, after: str) -> None:
    if address.name:
        writer.phrase(address.name)
        writer.word(f"<{address.addr}>{after}")
    else:
        writer.word(f"{address.addr}{after}")
