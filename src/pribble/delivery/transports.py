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
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol
from urllib.parse import unquote, urlsplit

from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage

TIMEOUT = 30.0  # seconds, for each step of a conversation


class Transport(Protocol):
    """Takes messages one at a time."""

    def send(self, message: BaseMessage) -> str:
        """Hand over `message`; returns what became of it in a few words.  Raises `DeliveryError`."""
        ...


def transport(address: str, password: str | None = None) -> Transport:
    """The transport that `address` names; raises `ValueError` for one that names none."""
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


@dataclass(frozen=True)
class Smtp:
    """A submission server.  `tls` from the first byte, else by STARTTLS unless the host is this machine."""

    host: str
    port: int
    tls: bool
    user: str | None = None
    password: str | None = field(default=None, repr=False)

    def send(self, message: BaseMessage) -> str:
        envelope = message.envelope
        if not envelope.recipients:
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
        try:
            with self._connected() as server:
                options = self._options(server, message)
                refused = server.sendmail(envelope.sender, envelope.recipients, bytes(message), options)
        except smtplib.SMTPRecipientsRefused as error:
            raise _refused(error.recipients, len(envelope.recipients)) from None
        except smtplib.SMTPResponseException as error:
            raise DeliveryError(
                f"{self} answered {error.smtp_code}: {_said(error.smtp_error)}", code=error.smtp_code
            ) from None
        except smtplib.SMTPException as error:
            raise DeliveryError(f"{self}: {error}") from None
        except ssl.SSLError as error:
            raise DeliveryError(
                f"{self}: no secure connection ({error.reason or error})",
                hint="smtps:// is TLS from the first byte (465), smtp:// is STARTTLS (587)",
            ) from None
        except UnicodeError:  # a host that no name service could be asked for
            raise DeliveryError(f"{self} is no name of a host") from None
        except OSError as error:
            raise DeliveryError(f"{self} cannot be reached: {error.strerror or error}") from None
        if refused:
            raise _refused(refused, len(envelope.recipients))
        return f"taken by {self}"

    def _options(self, server: smtplib.SMTP, message: BaseMessage) -> list[str]:
        """What is asked with MAIL; raises `DeliveryError` where the server does not offer what a message needs."""
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
    """Whether `host` is this machine, so that nothing said to it crosses a network."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _refused(recipients: dict[str, tuple[int, bytes]], asked: int) -> DeliveryError:
    each = "; ".join(f"{address} ({code}: {_said(text)})" for address, (code, text) in recipients.items())
    others = asked - len(recipients)
    code = next(iter(recipients.values()))[0]
    return DeliveryError(f"refused: {each}", code=code, hint=f"the other {others} took it" if others else None)


def _said(answer: bytes | str) -> str:
    text = answer.decode("utf-8", "replace") if isinstance(answer, bytes) else answer
    return " ".join(text.split())


@dataclass(frozen=True)
class Folder:
    """A folder that keeps each message as an .eml file; the folder is made when it is not there."""

    path: Path

    def send(self, message: BaseMessage) -> str:
        assert message.message_id is not None
        try:
            return f"written to {keep(self.path, bytes(message), message.message_id)}"
        except OSError as error:
            raise DeliveryError(f"{self.path} cannot be written: {error.strerror or error}") from None


def keep(folder: Path, raw: bytes, message_id: str) -> Path:
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
