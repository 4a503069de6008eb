"""The transport that hands messages to a submission server (RFC 6409)."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from pathlib import Path
from typing import Self

from pribble.delivery.base import Committing, recipients_of_try
from pribble.delivery.passwords import Password, known_password
from pribble.delivery.pool import Pool
from pribble.delivery.receipts import Receipt, receipt_of
from pribble.delivery.smtp import Connection, Security
from pribble.delivery.submission import Submission
from pribble.delivery.tls import client_context
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage
from pribble.records import field, record


@record
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
        password = known_password(self.password, self.user, self) if self.user is not None else None
        connection = Connection(self.host, self.port, self.longest, self.called)
        connection.open(Security(self.at_once, self.plain, self._trusted), self.user, password)
        return connection

    def _trusted(self) -> ssl.SSLContext:
        """Returns what checks a server's certificate; made once."""
        if self._context is None:
            self._context = client_context(self.authorities)
        return self._context
