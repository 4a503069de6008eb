"""The small stand-in receiver: a server on this machine that keeps what comes.

It takes everything and delivers nothing, so that one can look at a message as it arrived.
"""

from __future__ import annotations

import re
import socket
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

from pribble.delivery.transports import write_message
from pribble.errors import loaded

HOST = "127.0.0.1"
LARGEST = 64 * 1024 * 1024  # octets of one message
_MESSAGE_ID = re.compile(rb"^Message-ID:\s*(<[^>\r\n]*>)", re.IGNORECASE | re.MULTILINE)


@dataclass(frozen=True, slots=True)
class Received:
    """A message that came: the envelope, and the file that holds it byte for byte."""

    sender: str
    recipients: tuple[str, ...]
    path: Path
    size: int


class Receiver:
    """A receiver on loopback; use it as a context manager, or call `start` and `stop`.

    `port` 0 takes any free one.  `arrived` is called with each `Received`, from the receiver's own thread.
    Raises `OSError` where the port is taken.
    """

    def __init__(self, folder: Path, port: int = 0, arrived: Callable[[Received], None] | None = None) -> None:
        self.folder = folder
        self.port = port or _free_port()
        self.received: list[Received] = []
        self._arrived = arrived
        self._controller: Any = None

    @property
    def address(self) -> str:
        """The receiver as a transport's address."""
        return f"smtp://{HOST}:{self.port}"

    def start(self) -> None:
        """Begin to listen.  Raises `MissingExtra` where the aiosmtpd package is not installed."""
        controllers = loaded("aiosmtpd.controller", extra="receive", message="the receiver needs the aiosmtpd package")
        self._controller = controllers.Controller(
            self,
            hostname=HOST,
            port=self.port,
            data_size_limit=LARGEST,
            enable_SMTPUTF8=True,
            ident="Pribble's stand-in receiver",
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

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """Keep a message (called by the server)."""
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
        return "250 2.0.0 kept"


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind((HOST, 0))
        return int(probe.getsockname()[1])
