"""Transports: where a message goes, named by a short address.

smtp://[user@]host[:587]    submission with STARTTLS (RFC 6409), in the clear to this machine only
smtps://[user@]host[:465]   submission under TLS from the first octet (RFC 8314)
folder:DIR                  one .eml file a message, and its envelope beside it
maildir:DIR                 a mailbox of files, as mail programs and servers read it
command:PROGRAM …           a program of this machine that takes messages: {sender} and {recipients} are its arguments
drafts+folder:DIR           one .eml file a message, for a person to send
drafts+imaps://user@host[:993][/Mailbox]  the drafts of a mailbox on a server, for a person to send
memory:                     kept in this process, for tests (pribble.testing.Outbox)
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Protocol, Self
from urllib.parse import SplitResult, parse_qsl, unquote, urlsplit

from pribble.delivery.base import Committing
from pribble.delivery.passwords import Password
from pribble.delivery.receipts import Receipt
from pribble.errors import did_you_mean, visible
from pribble.mime.base import BaseMessage
from pribble.records import record
from pribble.regexes import regex


class Transport(Protocol):
    """Takes messages, from several threads if need be.

    As a context manager it keeps what it has of connections for the next message: ``with transport(…) as way:``.
    """

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        """Hand over `message`, once; returns what became of it for each recipient.

        `recipients` are those of its envelope whom this try is for; by default all.  `committing` is called with those
        who will get it when all is said but the last word, the one that makes the other side take the message; what it
        raises is passed on, and the message is not sent.

        Raises `DeliveryError` where nothing became of it for anybody: no server was reached, or none took it on;
        `ValueError` for recipients that are not in its envelope.
        """
        ...

    def __enter__(self) -> Self: ...
    def __exit__(self, *error: object) -> None: ...


@record(frozen=True, slots=True)
class _Asked:
    """What a transport is asked for with: its whole `address`, the `rest` of it behind the scheme, and the arguments of
    `transport`."""

    address: str
    rest: str
    password: Password
    connections: int
    folder: str | os.PathLike[str]

    def path(self, written: str) -> Path:
        """Returns a path that the address names."""
        return Path(self.folder) / written


def transport(
    address: str, password: Password = None, *, connections: int = 1, folder: str | os.PathLike[str] = ""
) -> Transport:
    """Returns the transport that `address` names.

    `password` is the user's, or a function that returns it when it is needed; `connections` is how many a server may
    have at once from several threads, others wait; `folder` is where relative paths in the address begin, by default
    the working directory.  Raises `ValueError` for an address that names no transport.
    """
    if connections < 1:
        raise ValueError(f"a transport has one connection or more, not {connections}")
    scheme, colon, rest = address.partition(":")
    make = _KINDS.get(scheme) if colon else None
    if make is None:
        known = ", ".join(f"{name}:" for name in _KINDS)
        raise ValueError(f'"{_without_password(address)}" names no transport (they begin with {known})')
    if not address.isprintable():
        raise ValueError(f'"{_without_password(address)}" has a character that cannot be seen')
    return make(_Asked(address, rest, password, connections, folder))


def _smtp(asked: _Asked) -> Transport:
    from pribble.delivery.submitting import Smtp

    host, port, user = _server(asked)
    parts, shown = _split(asked.address), _without_password(asked.address)
    if parts.path.strip("/"):
        raise ValueError(f'"{shown}" goes on after its host and port')
    at_once = parts.scheme == "smtps"
    options = _query_options(shown, parts.query)
    ca = options.get("ca")
    plain = {"yes": True, "no": False, None: False if ca else None}.get(options.get("plain"), "wrong")
    if plain == "wrong":
        raise ValueError(f'"{shown}": ?plain= is yes or no')
    if plain and (at_once or ca):
        raise ValueError(f'"{shown}" asks for TLS and for none (?plain=yes)')
    return Smtp(
        host,
        port or (465 if at_once else 587),
        at_once=at_once,
        user=user,
        password=asked.password,
        authorities=asked.path(ca) if ca else None,
        plain=plain if isinstance(plain, bool) else None,
        called=_host_name(shown, options["name"]) if "name" in options else None,
        longest=_time_limit(shown, options["timeout"]) if "timeout" in options else None,
        connections=asked.connections,
    )


def _server(asked: _Asked) -> tuple[str, int | None, str | None]:
    """Returns the host, the port and the user of a server's address."""
    parts = _split(asked.address)
    if parts.password is not None:
        raise ValueError(
            "a password has no place in an address, where others may read it: "
            "set the environment variable PRIBBLE_PASSWORD"
        )
    shown = _without_password(asked.address)
    if not asked.rest.startswith("//"):
        raise ValueError(f'"{shown}" has no // before its host')
    try:
        port = parts.port
    except ValueError:
        # What stands there may be a password whose @ was forgotten.
        raise ValueError(f"{visible(parts.hostname or parts.scheme)}: what follows the : is no port") from None
    if not parts.hostname:
        raise ValueError(f'"{shown}" names no host')
    if parts.fragment:
        raise ValueError(f'"{shown}" goes on after its host and port')
    return parts.hostname, port, unquote(parts.username) if parts.username else None


def _split(address: str) -> SplitResult:
    try:
        return urlsplit(address)
    except ValueError as error:
        raise ValueError(f'"{_without_password(address)}" is no address: {error}') from None


def _without_password(address: str) -> str:
    """Returns an address as errors show it: without what may be a password."""
    before, at, host = address.rpartition("@")
    scheme, colon, user = before.partition(":")
    name = user.removeprefix("//").partition(":")
    return visible(f"{scheme}://{name[0]}:…@{host}" if at and colon and name[1] else address)[:200]


_OPTIONS = ("name", "ca", "plain", "timeout")


def _query_options(shown: str, query: str, known: Sequence[str] = _OPTIONS) -> dict[str, str]:
    """Returns what stands behind the question mark, each once."""
    try:
        found = parse_qsl(query, keep_blank_values=True, strict_parsing=bool(query), max_num_fields=20)
    except ValueError:
        raise ValueError(f'"{shown}": what stands behind the ? is name=value, joined by &') from None
    for name, value in found:
        if name not in known:
            raise ValueError(f'"{shown}" has the option "{name}", which means nothing ({did_you_mean(name, known)})')
        if not value:
            raise ValueError(f'"{shown}": ?{name}= has no value')
    if len(dict(found)) < len(found):
        raise ValueError(f'"{shown}" has an option twice')
    return dict(found)


# RFC 5321 4.1.2:  Domain = sub-domain *("." sub-domain);  address-literal = "[" … "]"
_HOST_NAME = regex(r"[A-Za-z0-9-]{1,63}(?:\.[A-Za-z0-9-]{1,63}){0,30}|\[[A-Za-z0-9.:-]{1,60}\]")


def _host_name(shown: str, name: str) -> str:
    if not _HOST_NAME.fullmatch(name):
        raise ValueError(f'"{shown}": ?name= is the name of this machine as servers know it: app.skerrow.example')
    return name


def _time_limit(shown: str, written: str) -> float:
    if not re.fullmatch(r"[0-9]{1,5}(\.[0-9]{1,3})?", written) or not float(written):
        raise ValueError(f'"{shown}": ?timeout= is a number of seconds')
    return float(written)


def _file_transport(kind: str, asked: _Asked) -> Transport:
    from pribble.delivery import files

    if not asked.rest:
        raise ValueError(f'"{asked.address}" names no folder')
    made: Callable[[Path], Transport] = getattr(files, kind)
    return made(asked.path(asked.rest))


def _mailbox_drafts(asked: _Asked) -> Transport:
    from pribble.delivery.imap import TIMEOUT, MailboxDrafts

    host, port, user = _server(asked)
    parts, shown = _split(asked.address), _without_password(asked.address)
    if user is None:
        raise ValueError(f'"{shown}" names no user: drafts+imaps://user@host')
    mailbox = unquote(parts.path.removeprefix("/"))
    if not mailbox.isprintable():
        raise ValueError(f'"{shown}" has a mailbox with a character that cannot be seen')
    options = _query_options(shown, parts.query, ("ca", "timeout"))
    return MailboxDrafts(
        host,
        port or 993,
        user,
        asked.password,
        mailbox or None,
        asked.path(options["ca"]) if "ca" in options else None,
        _time_limit(shown, options["timeout"]) if "timeout" in options else TIMEOUT,
    )


def _command(asked: _Asked) -> Transport:
    from pribble.delivery.command import Command

    return Command.from_words(asked.rest, asked.folder)


def _memory(asked: _Asked) -> Transport:
    from pribble.delivery.memory import Outbox

    return Outbox.of_address(asked.address) if asked.rest else Outbox()


_KINDS: dict[str, Callable[[_Asked], Transport]] = {
    "smtp": _smtp,
    "smtps": _smtp,
    "folder": partial(_file_transport, "Folder"),
    "maildir": partial(_file_transport, "Maildir"),
    "command": _command,
    "drafts+folder": partial(_file_transport, "DraftFolder"),
    "drafts+imaps": _mailbox_drafts,
    "memory": _memory,
}
