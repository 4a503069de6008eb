"""Drafts in a mailbox on a server (IMAP, RFC 9051 and RFC 3501), where a person's mail program shows them.

The mailbox is the one that the server marks as ``\\Drafts`` (RFC 6154), unless one is named.  A connection that is lost
before the answer is settled by looking for the message over a fresh one.
"""

from __future__ import annotations

import base64
import imaplib
import re
import socket
import ssl
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, Self

from pribble.delivery.base import Committing, recipients_of_try
from pribble.delivery.passwords import LEFT_OUT, Password, known_password, login_octets, plain_login, spoken_secrets
from pribble.delivery.pool import Pool, Turn
from pribble.delivery.receipts import FinalState, Receipt, same_for_all
from pribble.delivery.replies import printable_line
from pribble.delivery.tls import UNTRUSTED_HINT, client_context, untrusted
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage
from pribble.records import field, record
from pribble.regexes import regex

TIMEOUT = 60.0  # seconds for each step
_LATER = regex(rb"\[(?:OVERQUOTA|UNAVAILABLE|INUSE|SERVERBUG|LIMIT)\b", re.IGNORECASE)  # RFC 5530
_LISTED = regex(rb'\((?P<flags>[^)]*)\) (?:"(?:[^"\\]|\\.)*"|NIL) (?P<name>.*)', re.DOTALL)
_SETTLING = 1.0  # seconds that a server has for what it was told before its connection was lost


class _Imap(imaplib.IMAP4_SSL):
    """A connection that says when it is about to send the last octet of a message."""

    last_octet: Callable[[], None] | None = None
    _sent = 0

    def _create_socket(self, timeout: float | None) -> Any:
        """Returns a secure connection; one that does not become secure is closed."""
        plain = socket.create_connection((self.host, self.port), timeout)
        try:
            return self.ssl_context.wrap_socket(plain, server_hostname=self.host)
        except BaseException:
            plain.close()
            raise

    def send(self, data: Any) -> None:
        """Send octets; of those of a message the last one apart."""
        self._sent += 1
        if self.last_octet is not None and self._sent == 2:  # behind the command, and the server's "go on"
            super().send(data[:-1])
            self.last_octet()
            data = data[-1:]
        super().send(data)

    def append_message(self, mailbox: str, raw: bytes, last_octet: Callable[[], None]) -> tuple[str, list[Any]]:
        """Put a message into a mailbox, as a draft that was seen."""
        self.last_octet, self._sent = last_octet, 0
        try:
            return self.append(mailbox, r"(\Draft \Seen)", imaplib.Time2Internaldate(time.time()), raw)
        finally:
            self.last_octet = None


_FAILURES = (imaplib.IMAP4.error, OSError)


class _Session:
    """A connection on which a user has logged in.  Raises `DeliveryError` where that is not to be had."""

    def __init__(self, way: MailboxDrafts, context: ssl.SSLContext, password: str) -> None:
        self._way = way
        name, secret = login_octets(way.user, "user"), login_octets(password, "password")
        self._secrets = spoken_secrets(name, secret)
        try:
            self.imap = _Imap(way.host, way.port, ssl_context=context, timeout=way.longest)
        except ssl.SSLCertVerificationError as error:
            raise DeliveryError(untrusted(way, error), hint=UNTRUSTED_HINT, is_lasting=True) from None
        except (*_FAILURES, UnicodeError, ValueError) as error:
            raise DeliveryError(f"{way} cannot be reached: {self.words(error)}") from None
        try:
            self._log_in(plain_login(name, secret))
        except DeliveryError:
            self.end()
            raise
        except _FAILURES as error:
            self.end()
            raise DeliveryError(f"{way}: {self.words(error)}") from None

    def _log_in(self, response: bytes) -> None:
        way, imap = self._way, self.imap
        if "AUTH=PLAIN" not in imap.capabilities:
            raise DeliveryError(f"{way} offers no login that is known here (AUTH=PLAIN)", is_lasting=True)
        try:
            imap.authenticate("PLAIN", lambda _: response)
        except imaplib.IMAP4.abort:
            raise
        except imaplib.IMAP4.error as error:
            is_later = "[UNAVAILABLE]" in str(error).upper()
            raise DeliveryError(
                f"{way} did not take the login of {way.user}: {self.words(error)}", is_lasting=not is_later
            ) from None
        # What may be asked for is often told anew behind the login.
        answer, said = imap.capability()
        if answer == "OK" and said and isinstance(said[-1], bytes):
            imap.capabilities = tuple(said[-1].decode("ascii", "replace").upper().split())
        if "UTF8=ACCEPT" in imap.capabilities and "ENABLE" in imap.capabilities:
            imap.enable("UTF8=ACCEPT")

    def answers(self) -> bool:
        """Returns whether the server is still there."""
        try:
            return bool(self.imap.noop()[0] == "OK")
        except _FAILURES:
            return False

    def end(self) -> None:
        """Take leave, where the server still answers, and close."""
        with suppress(*_FAILURES):
            if self.imap.state in ("AUTH", "SELECTED"):
                self.imap.logout()
        self.close()

    def close(self) -> None:
        """Close without another word."""
        with suppress(*_FAILURES):
            self.imap.shutdown()

    @property
    def largest(self) -> int | None:
        """How many octets a message may have (RFC 7889), where the server says so."""
        for capability in self.imap.capabilities:
            name, _, number = capability.partition("=")
            if name == "APPENDLIMIT" and number.isascii() and number.isdigit() and len(number) < 20:
                return int(number)
        return None

    def mailbox(self) -> str:
        """Returns the name of the mailbox: the one that was named, else the one for drafts."""
        if self._way.mailbox is not None:
            return self._way.mailbox
        answer, said = self.imap.list()
        for part in said if answer == "OK" else ():
            line = b" ".join(part) if isinstance(part, tuple) else part
            found = _LISTED.match(line or b"")
            if found and rb"\drafts" in found["flags"].lower().split():
                return _unquoted(found["name"], self.imap.utf8_enabled)
        raise DeliveryError(
            f"{self._way} marks no mailbox as the one for drafts",
            hint="name it: drafts+imaps://user@host/Drafts",
            is_lasting=True,
        )

    def append(self, mailbox: str, raw: bytes, last_octet: Callable[[], None]) -> tuple[str, list[Any]]:
        """Put a draft into a mailbox; returns how the server answers."""
        return self.imap.append_message(_quoted(mailbox, self.imap.utf8_enabled), raw, last_octet)

    def has(self, message_id: str) -> bool:
        """Returns whether a message with this id is in the mailbox."""
        answer, _ = self.imap.select(_quoted(self.mailbox(), self.imap.utf8_enabled), readonly=True)
        if answer != "OK":
            return False
        answer, said = self.imap.uid("SEARCH", "HEADER", "Message-ID", _string(message_id))
        if answer != "OK":
            raise DeliveryError(f"{self._way} does not say whether a draft is there")
        return any(part.strip() for part in said if isinstance(part, bytes))

    def words(self, error: Exception) -> str:
        """Returns what an error says, in one line."""
        if isinstance(error, TimeoutError):
            return "no answer in time"
        said = getattr(error, "strerror", None) or getattr(error, "reason", None) or str(error) or type(error).__name__
        return self.without_secrets(str(said).encode("utf-8", "replace"))

    def without_secrets(self, said: bytes) -> str:
        """Returns what was said in one line, without the password, if that is in it."""
        return printable_line(LEFT_OUT if any(secret in said for secret in self._secrets) else said)


@record(frozen=True)
class MailboxDrafts:
    """Drafts in the `mailbox` of a user; None: in the one that the server has for drafts.

    `authorities` is a file with the certificates that sign the server's; `longest` is how many seconds a step may take.
    """

    host: str
    port: int = 993
    user: str = ""
    password: Password = field(default=None, repr=False)
    mailbox: str | None = None
    authorities: Path | None = None
    longest: float = TIMEOUT
    _pool: Pool[_Session] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_pool", Pool(1, self._session))

    def __str__(self) -> str:
        return f"{self.host}:{self.port}"

    def __enter__(self) -> Self:
        self._pool.hold()
        return self

    def __exit__(self, *error: object) -> None:
        self._pool.let_go()

    def _session(self) -> _Session:
        password = known_password(self.password, self.user, self)
        return _Session(self, client_context(self.authorities), password)

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        chosen = recipients_of_try(message, recipients)
        with self._pool.turn() as turn:
            if turn.kept is not None and not turn.kept.answers():
                turn.drop()
            state, words = self._put(turn, message, chosen, committing)
        if state == "in_doubt":
            state, words = self._sought(message, words)
        return same_for_all(message, chosen, state, words)

    def _put(
        self, turn: Turn[_Session], message: BaseMessage, chosen: tuple[str, ...], committing: Committing | None
    ) -> tuple[FinalState, str]:
        """Put the draft into the mailbox; returns what became of it, and words for that."""
        session, raw, is_committed = turn.connection(), message.draft(), False
        if "smtputf8" in message.needs and not session.imap.utf8_enabled:
            return "refused", f"{self} takes no addresses outside ASCII (it offers no UTF8=ACCEPT)"
        largest = session.largest
        if largest is not None and len(raw) > largest:
            return "refused", f"{self} takes {largest:,} octets at most, and the draft has {len(raw):,}"

        def last_octet() -> None:
            nonlocal is_committed
            if committing is not None:
                committing(chosen)
            is_committed = True

        try:
            mailbox = session.mailbox()
            answer, said = session.append(mailbox, raw, last_octet)
        except _FAILURES as error:
            turn.drop()
            return ("in_doubt" if is_committed else "deferred"), f"{self}: {session.words(error)}"
        line = session.without_secrets(b" ".join(part for part in said if isinstance(part, bytes)))
        if answer == "OK":
            return "accepted", f"kept as a draft in {mailbox} ({line})"
        is_later = any(_LATER.search(part) for part in said)
        return ("deferred" if is_later else "refused"), f"{self} did not take the draft into {mailbox}: {line}"

    def _sought(self, message: BaseMessage, words: str) -> tuple[FinalState, str]:
        """Returns what became of a draft whose answer nobody heard."""
        time.sleep(_SETTLING)
        try:
            is_there = self.holds(message)
        except DeliveryError:
            return "in_doubt", words
        if is_there:
            return "accepted", f"kept as a draft: {words}, but it is there"
        return "deferred", f"{words}, and it is not there"

    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        """Returns whether the message is in the mailbox, over a fresh connection.  Raises `DeliveryError` where it
        cannot be found out."""
        session = self._session()
        try:
            return session.has(message.message_id or "")
        except _FAILURES as error:
            raise DeliveryError(f"{self}: {session.words(error)}") from None
        finally:
            session.end()


# ---- names of mailboxes -------------------------------------------------------------------------------------------


def _string(text: str) -> str:
    """Returns a text as a quoted string (RFC 3501 4.3)."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _quoted(name: str, is_utf8: bool) -> str:
    return _string(name if is_utf8 else modified_utf7(name))


def _unquoted(written: bytes, is_utf8: bool) -> str:
    text = written.decode("utf-8", "replace").strip()
    if text.startswith('"') and text.endswith('"') and len(text) > 1:
        text = re.sub(r"\\(.)", r"\1", text[1:-1])
    return text if is_utf8 else from_modified_utf7(text)


def modified_utf7(name: str) -> str:
    """Returns the name of a mailbox as it travels in ASCII (RFC 3501 5.1.3)."""
    parts = []
    for run in re.findall(r"[ -%'-~]+|&|[^ -~]+", name):
        if run == "&":
            parts.append("&-")
        elif run.isascii() and run.isprintable():
            parts.append(run)
        else:
            coded = base64.b64encode(run.encode("utf-16-be")).rstrip(b"=").replace(b"/", b",")
            parts.append(f"&{coded.decode('ascii')}-")
    return "".join(parts)


def from_modified_utf7(written: str) -> str:
    """Returns the name that travels in ASCII; what is none is returned as it is."""

    def read(found: re.Match[str]) -> str:
        if not found[1]:
            return "&"
        coded = found[1].replace(",", "/")
        try:
            return base64.b64decode(coded + "=" * (-len(coded) % 4), validate=True).decode("utf-16-be")
        except ValueError:
            return found[0]

    return re.sub(r"&([A-Za-z0-9+,]*)-", read, written)
