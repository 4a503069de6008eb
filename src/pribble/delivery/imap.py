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
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Self

from pribble.delivery.base import Committing, recipients_of_try
from pribble.delivery.passwords import Password, known_password
from pribble.delivery.receipts import FinalState, Receipt, same_for_all
from pribble.delivery.replies import printable_line
from pribble.delivery.tls import client_context
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage

TIMEOUT = 60.0  # seconds for each step
_LATER = re.compile(rb"\[(?:OVERQUOTA|UNAVAILABLE|INUSE|SERVERBUG|LIMIT)\b", re.IGNORECASE)  # RFC 5530
_LISTED = re.compile(rb'\((?P<flags>[^)]*)\) (?:"(?:[^"\\]|\\.)*"|NIL) (?P<name>.*)', re.DOTALL)
_SETTLING = 1.0  # seconds that a server has for what it was told before its connection was lost


class _Connection(imaplib.IMAP4_SSL):
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


@dataclass(frozen=True)
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
    _lock: threading.Lock = field(default_factory=threading.Lock, init=False, repr=False, compare=False)
    _kept: list[_Connection] = field(default_factory=list, init=False, repr=False, compare=False)
    _holding: list[bool] = field(default_factory=list, init=False, repr=False, compare=False)

    def __str__(self) -> str:
        return f"{self.host}:{self.port}"

    def __enter__(self) -> Self:
        self._holding.append(True)
        return self

    def __exit__(self, *error: object) -> None:
        self._holding.pop()
        if not self._holding:
            with self._lock:
                while self._kept:
                    _close(self._kept.pop())

    # ---- a draft ------------------------------------------------------------------------------------------------

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        chosen = recipients_of_try(message, recipients)
        raw = message.draft()
        with self._lock:
            connection = self._ready()
            try:
                receipt = self._put(connection, message, raw, chosen, committing)
            except BaseException:
                _close(connection)
                raise
            if self._holding and connection.state in ("AUTH", "SELECTED"):
                self._kept.append(connection)
            else:
                _close(connection)
            return receipt

    def _put(
        self,
        connection: _Connection,
        message: BaseMessage,
        raw: bytes,
        chosen: tuple[str, ...],
        committing: Committing | None,
    ) -> Receipt:
        def ended(state: FinalState, words: str) -> Receipt:
            return same_for_all(message, chosen, state, words)

        if "smtputf8" in message.needs and not connection.utf8_enabled:
            return ended("refused", f"{self} takes no addresses outside ASCII (it offers no UTF8=ACCEPT)")
        mailbox = self._mailbox(connection)
        largest = _largest(connection)
        if largest is not None and len(raw) > largest:
            return ended("refused", f"{self} takes {largest:,} octets at most, and the draft has {len(raw):,}")
        is_committed = False

        def last_octet() -> None:
            nonlocal is_committed
            if committing is not None:
                committing(chosen)
            is_committed = True

        try:
            answer, said = connection.append_message(_quoted(mailbox, connection), raw, last_octet)
        except (imaplib.IMAP4.error, OSError) as error:
            words = f"{self}: {self._words(error)}"
            connection.state = "LOGOUT"
            if not is_committed:
                return ended("deferred", words)
            return self._looked_for(message, ended, words)
        line = self._without_secrets(b" ".join(part for part in said if isinstance(part, bytes)))
        if answer == "OK":
            return ended("accepted", f"kept as a draft in {mailbox} ({line})")
        state: FinalState = "deferred" if any(_LATER.search(part) for part in said) else "refused"
        return ended(state, f"{self} did not take the draft into {mailbox}: {line}")

    def _looked_for(self, message: BaseMessage, ended: Callable[[FinalState, str], Receipt], words: str) -> Receipt:
        """Returns what became of a draft whose answer nobody heard."""
        time.sleep(_SETTLING)
        try:
            is_there = self._search(message)
        except DeliveryError:
            return ended("in_doubt", words)
        if is_there:
            return ended("accepted", f"kept as a draft: {words}, but it is there")
        return ended("deferred", f"{words}, and it is not there")

    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        """Returns whether the message is in the mailbox.  Raises `DeliveryError` where it cannot be found out."""
        with self._lock:
            return self._search(message)

    def _search(self, message: BaseMessage) -> bool:
        connection = self._connected()
        try:
            answer, _ = connection.select(_quoted(self._mailbox(connection), connection), readonly=True)
            if answer != "OK":
                return False
            named = (message.message_id or "").replace("\\", "\\\\").replace('"', '\\"')
            answer, said = connection.uid("SEARCH", "HEADER", "Message-ID", f'"{named}"')
            if answer != "OK":
                raise DeliveryError(f"{self} does not say whether a draft is there")
            return any(part.strip() for part in said if isinstance(part, bytes))
        except (imaplib.IMAP4.error, OSError) as error:
            raise DeliveryError(f"{self}: {self._words(error)}") from None
        finally:
            _close(connection)

    # ---- the connection -----------------------------------------------------------------------------------------

    def _ready(self) -> _Connection:
        """Returns a connection that answers: the one that is kept, or a fresh one."""
        while self._kept:
            connection = self._kept.pop()
            try:
                if connection.noop()[0] == "OK":
                    return connection
            except (imaplib.IMAP4.error, OSError):
                pass
            _close(connection)
        return self._connected()

    def _connected(self) -> _Connection:
        password = known_password(self.password, self.user, self)
        if "\0" in password or "\0" in self.user:
            raise DeliveryError(f"{self}: a login has no NUL (RFC 4616)", is_lasting=True)
        try:
            context = client_context(self.authorities)
            connection = _Connection(self.host, self.port, ssl_context=context, timeout=self.longest)
        except ssl.SSLCertVerificationError as error:
            raise DeliveryError(
                f"{self} is not who it should be: {error.verify_message.rstrip('.') or error.reason}",
                hint="?ca=FILE names the authority that signed its certificate",
                is_lasting=True,
            ) from None
        except (imaplib.IMAP4.error, OSError, UnicodeError, ValueError) as error:
            raise DeliveryError(f"{self} cannot be reached: {self._words(error)}") from None
        try:
            self._log_in(connection, password)
            if "UTF8=ACCEPT" in connection.capabilities and "ENABLE" in connection.capabilities:
                connection.enable("UTF8=ACCEPT")
        except DeliveryError:
            _close(connection)
            raise
        except (imaplib.IMAP4.error, OSError) as error:
            _close(connection)
            raise DeliveryError(f"{self}: {self._words(error)}") from None
        return connection

    def _log_in(self, connection: _Connection, password: str) -> None:
        if "AUTH=PLAIN" not in connection.capabilities:
            raise DeliveryError(f"{self} offers no login that is known here (AUTH=PLAIN)", is_lasting=True)
        answer = b"\0".join((b"", self.user.encode("utf-8"), password.encode("utf-8")))
        try:
            connection.authenticate("PLAIN", lambda _: answer)
        except imaplib.IMAP4.abort:
            raise
        except imaplib.IMAP4.error as error:
            is_later = "[UNAVAILABLE]" in str(error).upper()
            raise DeliveryError(
                f"{self} did not take the login of {self.user}: {self._words(error)}", is_lasting=not is_later
            ) from None
        # What may be asked for is often told anew behind the login.
        answer_, said = connection.capability()
        if answer_ == "OK" and said and isinstance(said[-1], bytes):
            connection.capabilities = tuple(said[-1].decode("ascii", "replace").upper().split())

    def _mailbox(self, connection: _Connection) -> str:
        """Returns the name of the mailbox: the one that was named, else the one for drafts."""
        if self.mailbox is not None:
            return self.mailbox
        answer, said = connection.list()
        for part in said if answer == "OK" else ():
            line = b" ".join(part) if isinstance(part, tuple) else part
            found = _LISTED.match(line or b"")
            if found and rb"\drafts" in found["flags"].lower().split():
                return _unquoted(found["name"], connection)
        raise DeliveryError(
            f"{self} marks no mailbox as the one for drafts",
            hint="name it: drafts+imaps://user@host/Drafts",
            is_lasting=True,
        )

    def _words(self, error: Exception) -> str:
        if isinstance(error, TimeoutError):
            return "no answer in time"
        said = getattr(error, "strerror", None) or getattr(error, "reason", None) or str(error) or type(error).__name__
        return self._without_secrets(str(said).encode("utf-8", "replace"))

    def _without_secrets(self, said: bytes) -> str:
        """Returns what was said in one line, without the password, if that is in it."""
        password = self.password() if callable(self.password) else self.password
        if isinstance(password, str) and len(password) > 3:
            octets = password.encode("utf-8", "surrogatepass")
            for secret in (octets, base64.b64encode(octets).rstrip(b"=")):
                if secret in said:
                    return "(its words are left out, since the password is among them)"
        return printable_line(said)


def _close(connection: _Connection) -> None:
    """Let go of a connection, politely where it still answers."""
    with suppress(imaplib.IMAP4.error, OSError):
        if connection.state in ("AUTH", "SELECTED"):
            connection.logout()
    with suppress(imaplib.IMAP4.error, OSError):
        connection.shutdown()  # also where it did not answer


def _largest(connection: _Connection) -> int | None:
    """Returns how many octets a message may have (RFC 7889), where the server says so."""
    for capability in connection.capabilities:
        name, _, number = capability.partition("=")
        if name == "APPENDLIMIT" and number.isascii() and number.isdigit() and len(number) < 20:
            return int(number)
    return None


# ---- names of mailboxes -------------------------------------------------------------------------------------------


def _quoted(name: str, connection: _Connection) -> str:
    written = name if connection.utf8_enabled else modified_utf7(name)
    return '"' + written.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _unquoted(written: bytes, connection: _Connection) -> str:
    text = written.decode("utf-8", "replace").strip()
    if text.startswith('"') and text.endswith('"') and len(text) > 1:
        text = re.sub(r"\\(.)", r"\1", text[1:-1])
    return text if connection.utf8_enabled else from_modified_utf7(text)


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
