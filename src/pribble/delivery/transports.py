"""Transports: where a message goes, named by a short address.

smtp://[user@]host[:587]    submission with STARTTLS (RFC 6409), in the clear to this machine only
smtps://[user@]host[:465]   submission under TLS from the first byte (RFC 8314)
folder:DIR                  one .eml file a message
"""

from __future__ import annotations

import ipaddress
import os
import re
import smtplib
import ssl
import tempfile
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol, Self
from urllib.parse import unquote, urlsplit

from pribble.delivery.receipts import Outcome, Receipt, outcome_of_reply, state_of
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage

TIMEOUT = 30.0  # seconds, for each step of a conversation


class Transport(Protocol):
    """Takes messages one at a time.

    As a context manager it keeps what it has of a connection for the next message: ``with transport(…) as way:``.
    """

    def deliver(self, message: BaseMessage) -> Receipt:
        """Hand over `message`, once; returns what became of it for each recipient.

        Raises `DeliveryError` where nothing became of it for anybody: no server was reached, or none took it on.
        """
        ...

    def __enter__(self) -> Self: ...
    def __exit__(self, *error: object) -> None: ...


def transport(address: str, password: str | None = None) -> Transport:
    """Returns the transport that `address` names; raises `ValueError` for one that names none."""
    scheme, colon, rest = address.partition(":")
    if scheme == "folder" and colon and rest:
        return Folder(Path(rest))
    if scheme not in ("smtp", "smtps") or not rest.startswith("//"):
        raise ValueError(f'"{address}" names no transport: write smtp://host, smtps://host or folder:DIR')
    parts = urlsplit(address)
    try:
        port = parts.port
    except ValueError:
        raise ValueError(f'"{address}" has a port that is none') from None
    if not parts.hostname:
        raise ValueError(f'"{address}" names no host')
    if parts.password is not None:
        raise ValueError(
            "a password has no place in an address, where others may read it: "
            "set the environment variable PRIBBLE_PASSWORD"
        )
    if parts.path.strip("/") or parts.query or parts.fragment:
        raise ValueError(f'"{address}" goes on after its host and port')
    user = unquote(parts.username) if parts.username else None
    return Smtp(
        parts.hostname, port or (465 if scheme == "smtps" else 587), tls=scheme == "smtps", user=user, password=password
    )


# What a message may need, the extension that has it, how it is asked for, and what a server without it lacks
# (RFC 6531 3.4, RFC 6152 2).
_NEEDS = (
    ("smtputf8", "smtputf8", "SMTPUTF8", "takes no addresses outside ASCII"),
    ("8bit", "8bitmime", "BODY=8BITMIME", "takes no octets outside ASCII, which a message nested in this one has"),
)


@dataclass
class Smtp:
    """A submission server.  `tls` from the first byte, else by STARTTLS unless the host is this machine.

    Threads take turns on its connection.
    """

    host: str
    port: int
    tls: bool
    user: str | None = None
    password: str | None = field(default=None, repr=False)
    _server: smtplib.SMTP | None = field(default=None, init=False, repr=False, compare=False)
    _kept: int = field(default=0, init=False, repr=False, compare=False)  # how often it was entered and not left
    _lock: threading.RLock = field(default_factory=threading.RLock, init=False, repr=False, compare=False)

    def __enter__(self) -> Self:
        with self._lock:
            self._kept += 1
        return self

    def __exit__(self, *error: object) -> None:
        with self._lock:
            self._kept -= 1
            if not self._kept:
                self._close()

    def deliver(self, message: BaseMessage) -> Receipt:
        if not message.envelope.recipients:
            raise DeliveryError("the message has no recipients")
        if self.user and self.password is None:
            raise DeliveryError(
                f"{self} wants a password for {self.user}", hint="set the environment variable PRIBBLE_PASSWORD"
            )
        # Looked at here, since an error of the login itself would carry the secret.
        if not f"{self.user or ''}{self.password or ''}".isascii():
            raise DeliveryError(
                f"{self}: the user or the password has a character beyond ASCII, which this login cannot carry",
                hint="ask the server's keeper for one in ASCII",
            )
        with self._lock:
            try:
                return self._delivered(message)
            except smtplib.SMTPResponseException as error:
                self._close()
                raise DeliveryError(
                    f"{self} answered {error.smtp_code}: {_reply_text(error.smtp_error)}", code=error.smtp_code
                ) from None
            except smtplib.SMTPException as error:
                self._close()
                raise DeliveryError(f"{self}: {error}") from None
            except ssl.SSLError as error:
                self._close()
                raise DeliveryError(
                    f"{self}: no secure connection ({error.reason or error})",
                    hint="smtps:// is TLS from the first byte (465), smtp:// is STARTTLS (587)",
                ) from None
            except UnicodeError:  # a host that no name service could be asked for
                self._close()
                raise DeliveryError(f"{self} is no name of a host") from None
            except OSError as error:
                self._close()
                raise DeliveryError(f"{self} cannot be reached: {error.strerror or error}") from None
            finally:
                if not self._kept:
                    self._close()

    def _delivered(self, message: BaseMessage) -> Receipt:
        """Returns one transaction (RFC 5321 3.3)."""
        envelope, raw = message.envelope, bytes(message)
        server = self._begun(message, len(raw))
        said: dict[str, Outcome] = {}
        try:
            for recipient in envelope.recipients:
                code, answer = server.rcpt(recipient)
                if code == 421:  # it closes; of the others nothing is known (RFC 5321 3.8)
                    raise smtplib.SMTPServerDisconnected(_reply_text(answer))
                if state_of(code) != "accepted":
                    said[recipient] = outcome_of_reply(recipient, state_of(code), code, answer)
        except smtplib.SMTPServerDisconnected as error:
            self._close()
            if not said:
                raise
            left = [one for one in envelope.recipients if one not in said]
            said |= {one: outcome_of_reply(one, "deferred", None, f"the connection was lost: {error}") for one in left}
            return _receipt(message, said)
        taken = [one for one in envelope.recipients if one not in said]
        if taken:
            said |= self._said_of_data(server, taken, raw)
        else:
            self._reset(server)
        return _receipt(message, said)

    def _begun(self, message: BaseMessage, size: int) -> smtplib.SMTP:
        """Returns a connection on which the sender was taken; one that was kept may have been closed in the
        meantime."""
        for is_kept in (True, False) if self._server is not None else (False,):
            server = self._server if is_kept and self._server is not None else self._connected()
            self._server = server
            options = self._options(server, message)
            if server.has_extn("size"):
                options.append(f"size={size}")
            try:
                code, answer = server.mail(message.envelope.sender, options)
            except smtplib.SMTPServerDisconnected:
                if not is_kept:
                    raise
                self._close()
                continue
            if is_kept and code == 421:
                self._close()
                continue
            if state_of(code) != "accepted":
                self._reset(server)
                raise DeliveryError(f"{self} answered {code}: {_reply_text(answer)}", code=code)
            return server
        raise AssertionError("a fresh connection is the last one")

    def _said_of_data(self, server: smtplib.SMTP, taken: Sequence[str], raw: bytes) -> dict[str, Outcome]:
        """Returns what the server says of the message itself, for those whom it was taken for."""
        try:
            code, answer = server.data(raw)
        except smtplib.SMTPDataError as error:  # not even begun
            code, answer = error.smtp_code, error.smtp_error  # type: ignore[assignment]
            if state_of(code) == "accepted":
                code = 554
            self._reset(server)
        except (smtplib.SMTPServerDisconnected, OSError) as error:
            self._close()
            return {one: outcome_of_reply(one, "in_doubt", None, f"no answer to the message: {error}") for one in taken}
        return {one: outcome_of_reply(one, state_of(code), code, answer) for one in taken}

    def _reset(self, server: smtplib.SMTP) -> None:
        """End a transaction that failed (RFC 5321 4.1.1.5)."""
        try:
            server.rset()
        except (smtplib.SMTPException, OSError):
            self._close()

    def _close(self) -> None:
        server, self._server = self._server, None
        if server is not None:
            try:
                server.quit()
            except (smtplib.SMTPException, OSError):
                server.close()

    def _options(self, server: smtplib.SMTP, message: BaseMessage) -> list[str]:
        """Returns what is asked with MAIL; raises `DeliveryError` where the server does not offer what a message
        needs."""
        options = []
        for need, extension, option, says in _NEEDS:
            if need in message.needs:
                if not server.has_extn(extension):
                    raise DeliveryError(f"{self} {says} (it offers no {extension.upper()})")
                options.append(option)
        return options

    def _connected(self) -> smtplib.SMTP:
        context = ssl.create_default_context()
        server: smtplib.SMTP
        if self.tls:
            server = smtplib.SMTP_SSL(self.host, self.port, timeout=TIMEOUT, context=context)
        else:
            server = smtplib.SMTP(self.host, self.port, timeout=TIMEOUT)
        try:
            server.ehlo()
            if not self.tls and not is_loopback(self.host):
                server.starttls(context=context)
                server.ehlo()
            if self.user and self.password is not None:
                server.login(self.user, self.password)
        except BaseException:
            server.close()
            raise
        return server

    def __str__(self) -> str:
        return f"{self.host}:{self.port}"


def is_loopback(host: str) -> bool:
    """Returns whether `host` is this machine, so that nothing said to it crosses a network."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _receipt(message: BaseMessage, said: Mapping[str, Outcome]) -> Receipt:
    return Receipt(message.message_id or "", tuple(said[one] for one in message.envelope.recipients))


def _reply_text(answer: bytes | str) -> str:
    text = answer.decode("utf-8", "replace") if isinstance(answer, bytes) else answer
    return " ".join(text.split())


@dataclass(frozen=True)
class Folder:
    """A folder that keeps each message as an .eml file; the folder is made when it is not there."""

    path: Path

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        pass

    def deliver(self, message: BaseMessage) -> Receipt:
        try:
            path = write_message(self.path, bytes(message), message.message_id or "")
        except OSError as error:
            raise DeliveryError(f"{self.path} cannot be written: {error.strerror or error}") from None
        said = {
            one: outcome_of_reply(one, "accepted", None, f"written to {path}") for one in message.envelope.recipients
        }
        return _receipt(message, said)


def write_message(folder: Path, raw: bytes, message_id: str) -> Path:
    """Write a message to a file of its own, whole or not at all; returns the file's path."""
    folder.mkdir(parents=True, exist_ok=True)
    stem = re.sub(r"[^A-Za-z0-9.-]+", "-", message_id.strip("<>").partition("@")[0])[:60].strip(".-") or "message"
    with tempfile.NamedTemporaryFile(dir=folder, prefix=".", suffix=".part", delete=False) as file:
        file.write(raw)
    number = 0
    while True:
        path = folder / f"{stem}{f'-{number}' if number else ''}.eml"
        try:
            os.link(file.name, path)  # fails where the name is taken, which a rename would not
        except FileExistsError:
            number += 1
            continue
        os.unlink(file.name)
        return path
