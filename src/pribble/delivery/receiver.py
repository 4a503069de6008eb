"""The small stand-in receiver: a server on this machine that keeps what comes.

It takes everything and delivers nothing, so that one can look at a message as it arrived.  Faults can be asked for, to
see what a sender makes of them.
"""

from __future__ import annotations

import asyncio
import hmac
import logging
import re
import socket
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal, Self

from pribble.delivery.certificates import own_context
from pribble.delivery.faults import Faults
from pribble.delivery.files import write_message
from pribble.errors import loaded
from pribble.records import field, record
from pribble.regexes import regex

HOST = "127.0.0.1"
LARGEST = 64 * 1024 * 1024  # octets of one message
CERTIFICATE = "certificate.pem"
_MESSAGE_ID = regex(rb"^Message-ID:\s*(<[^>\r\n]*>)", re.IGNORECASE | re.MULTILINE)


@record(frozen=True, slots=True)
class Received:
    """A message that came: the envelope, and the file that holds it byte for byte."""

    sender: str
    recipients: tuple[str, ...]
    path: Path
    size: int


@record(frozen=True, slots=True)
class Fault:
    """What a receiver did wrong on purpose: `words` say it, `recipient` to whom; None where it is about a message."""

    words: str
    recipient: str | None = None


@record(frozen=True, slots=True)
class Manner:
    """How a receiver behaves.

    `faults`: whom it refuses or defers, and which connections it drops.  `delay`: seconds before it answers a message.
    `tls`: "starttls" or "smtps", with a certificate of its own; None for none.  `login`: the user and the password that
    it wants first.
    """

    faults: Faults = field(default_factory=Faults)
    delay: float = 0.0
    tls: Literal["starttls", "smtps"] | None = None
    login: tuple[str, str] | None = field(default=None, repr=False)


class Receiver:
    """A receiver on loopback; use it as a context manager, or call `start` and `stop`.

    `port` 0 takes any free one.  `arrived` is called with each `Received`, and `faulted` with each `Fault`, from the
    receiver's own thread.  `manner` is how it behaves.  Raises `OSError` where the port is taken.
    """

    def __init__(
        self,
        folder: Path,
        port: int = 0,
        arrived: Callable[[Received], None] | None = None,
        manner: Manner | None = None,
        faulted: Callable[[Fault], None] | None = None,
    ) -> None:
        self.folder = folder
        self.port = port or _free_port()
        self.received: list[Received] = []
        self.manner = manner or Manner()
        self._arrived, self._faulted = arrived, faulted
        self._controller: Any = None

    @property
    def address(self) -> str:
        """The receiver as a transport's address."""
        user = f"{self.manner.login[0]}@" if self.manner.login else ""
        scheme = "smtps" if self.manner.tls == "smtps" else "smtp"
        authority = f"?ca={self.certificate}" if self.manner.tls else ""
        return f"{scheme}://{user}{HOST}:{self.port}{authority}"

    @property
    def certificate(self) -> Path:
        """The file of its certificate, which is written when a receiver with TLS starts."""
        return self.folder / CERTIFICATE

    def start(self) -> None:
        """Begin to listen.  Raises `MissingExtra` where the aiosmtpd package is not installed."""
        load = "the receiver needs the aiosmtpd package"
        controllers = loaded("aiosmtpd.controller", extra="receive", message=load)
        # What clients do wrong is logged for whoever listens, and not printed where nobody does.
        logging.getLogger("mail.log").addHandler(logging.NullHandler())
        tls = self.manner.tls
        context = None
        if tls:
            self.folder.mkdir(parents=True, exist_ok=True)
            context = own_context(self.certificate)
        receiver = self

        base: Any = controllers.Controller

        class Controller(base):  # type: ignore[misc]
            def factory(self) -> Any:
                return _protocol(receiver, context if tls == "starttls" else None)

        self._controller = Controller(
            self, hostname=HOST, port=self.port, ssl_context=context if tls == "smtps" else None
        )
        self._controller.start()

    def stop(self) -> None:
        """Stop listening; what came is kept."""
        if self._controller is not None:
            self._controller.stop()
            self._controller = None

    def __enter__(self) -> Self:
        self.start()
        return self

    def __exit__(self, *error: object) -> None:
        self.stop()

    def tell(self, fault: Fault) -> None:
        """Tell whoever wants to know of a fault."""
        if self._faulted:
            self._faulted(fault)

    # ---- called by the server -----------------------------------------------------------------------------------

    async def handle_EHLO(
        self, server: Any, session: Any, envelope: Any, hostname: str, responses: list[str]
    ) -> list[str]:
        """Offer to take several commands at once (RFC 2920)."""
        session.host_name = hostname
        responses.insert(len(responses) - 1, "250-PIPELINING")
        return responses

    async def handle_MAIL(self, server: Any, session: Any, envelope: Any, address: str, options: list[str]) -> str:
        """Take a sender, after a login where one is wanted."""
        if self.manner.login and not session.authenticated:
            return "530 5.7.0 log in first"
        envelope.mail_from = address
        envelope.mail_options.extend(options)
        return "250 2.1.0 ok"

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: list[str]) -> str:
        """Take a recipient, unless a fault is asked for."""
        if (refusal := self.manner.faults.answer(address)) is not None:
            answer = f"{refusal.code} {refusal.text}"
            self.tell(Fault(answer, address))
            return answer
        envelope.rcpt_tos.append(address)
        envelope.rcpt_options.extend(options)
        return "250 2.1.5 ok"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """Keep a message."""
        await asyncio.sleep(self.manner.delay)
        raw = bytes(envelope.original_content)
        found = _MESSAGE_ID.search(raw[:100_000].partition(b"\r\n\r\n")[0])
        name = found[1].decode("ascii", "replace") if found else "message"
        try:
            path = write_message(self.folder, raw, name)
        except OSError as error:
            return f"451 4.3.0 cannot be kept: {error.strerror}"
        received = Received(envelope.mail_from or "", tuple(envelope.rcpt_tos), path, len(raw))
        self.received.append(received)
        if self._arrived:
            self._arrived(received)
        if server.drops == "after-dot":
            self.tell(Fault("dropped after the dot, without an answer"))
            server.transport.abort()
        return "250 2.0.0 kept"


def _protocol(receiver: Receiver, context: Any) -> Any:
    """Returns what speaks on one connection."""
    smtp = loaded("aiosmtpd.smtp", extra="receive", message="the receiver needs the aiosmtpd package")
    manner = receiver.manner
    base: Any = smtp.SMTP

    class Protocol(base):  # type: ignore[misc]
        drops: str | None = None

        async def smtp_DATA(self, argument: str) -> None:
            """Take a message, or lose the connection where that is asked for."""
            if self.envelope is not None and self.envelope.rcpt_tos:
                self.drops = manner.faults.drop()
            if self.drops == "before-dot":  # once a dot may be under way, nobody could say which side of it this is
                receiver.tell(Fault("dropped before the dot"))
                self.transport.abort()
                return
            await super().smtp_DATA(argument)

    def check_login(server: Any, session: Any, envelope: Any, mechanism: str, given: Any) -> Any:
        expected = tuple(one.encode("utf-8") for one in manner.login or ())
        same = [hmac.compare_digest(*pair) for pair in zip((given.login, given.password), expected, strict=True)]
        return smtp.AuthResult(success=all(same), handled=False)

    return Protocol(
        receiver,
        data_size_limit=LARGEST,
        enable_SMTPUTF8=True,
        ident="Pribble's stand-in receiver",
        tls_context=context,
        require_starttls=context is not None,
        authenticator=check_login if manner.login else None,
        auth_require_tls=context is not None,
    )


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind((HOST, 0))
        return int(probe.getsockname()[1])
