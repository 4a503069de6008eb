"""The transport that hands messages to a submission server (RFC 6409)."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Self

from pribble.delivery.base import Committing, recipients_of_try
from pribble.delivery.passwords import Password
from pribble.delivery.pool import Pool
from pribble.delivery.receipts import Receipt, receipt_of
from pribble.delivery.smtp import Connection, Security
from pribble.delivery.submission import Submission
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage


@dataclass
class Smtp:
    """A submission server; `deliver` may be called from several threads, which share its `connections`.

    `at_once`: TLS from the first octet (RFC 8314), else by STARTTLS (RFC 3207); `plain`: without TLS, None: to this
    machine only.  `authorities`: a file of those whose certificates are believed, instead of the system's.  `called`:
    the name that EHLO says.  `longest`: an upper limit for each step, in seconds.
    """

    host: str
    port: int
    at_once: bool = False
    user: str | None = None
    password: Password = field(default=None, repr=False)
    authorities: Path | None = None
    plain: bool | None = None
    called: str | None = None
    longest: float | None = None
    connections: int = 1

    def __post_init__(self) -> None:
        self._pool = Pool(self.connections, self._connected)
        self._context: ssl.SSLContext | None = None

    def __str__(self) -> str:
        return f"{self.host}:{self.port}"

    def __enter__(self) -> Self:
        self._pool.hold()
        return self

    def __exit__(self, *error: object) -> None:
        self._pool.let_go()

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        submission = Submission(message, recipients_of_try(message, recipients), committing)
        with self._pool.turn() as turn:
            while submission.left:
                try:
                    connection = turn.connection()
                except DeliveryError as error:
                    if not submission.outcomes:
                        raise
                    submission.end(submission.left, "deferred", error.problem)
                    break
                if submission.over(connection) != "continue":
                    turn.drop()
        return receipt_of(message, submission.recipients, submission.outcomes)

    def _connected(self) -> Connection:
        """Returns a connection that is ready for a message.  Raises `DeliveryError`."""
        password = self._known_password() if self.user is not None else None
        connection = Connection(self.host, self.port, self.longest, self.called)
        connection.open(Security(self.at_once, self.plain, self._trusted), self.user, password)
        return connection

    def _known_password(self) -> str:
        try:
            found = self.password() if callable(self.password) else self.password
        except Exception as error:
            # Whoever keeps the secret may say it in an error.
            raise DeliveryError(f"the password of {self} could not be had ({type(error).__name__})") from None
        if found is None:
            raise DeliveryError(
                f"{self} wants a password for {self.user}",
                hint="set the environment variable PRIBBLE_PASSWORD",
                is_lasting=True,
            )
        if not isinstance(found, str):
            raise DeliveryError(f"the password of {self} is a text, and not of the kind {type(found).__name__}")
        return found

    def _trusted(self) -> ssl.SSLContext:
        """Returns what checks a server's certificate; made once."""
        if self._context is None:
            try:
                context = ssl.create_default_context(cafile=str(self.authorities) if self.authorities else None)
            except (OSError, ValueError) as error:  # an SSLError is an OSError
                raise DeliveryError(
                    f"{self.authorities} holds no certificates that can be read "
                    f"({getattr(error, 'reason', None) or getattr(error, 'strerror', None) or error})",
                    is_lasting=True,
                ) from None
            context.minimum_version = ssl.TLSVersion.TLSv1_2
            self._context = context
        return self._context
