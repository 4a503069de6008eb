"""Who may ask: the one who has the token, by a name of the server's own."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Collection
from typing import TYPE_CHECKING

from pribble.errors import DataError
from pribble.records import record
from pribble.regexes import regex
from pribble.serving.problems import Problem

if TYPE_CHECKING:
    from flask import Request

TOKEN_VARIABLE = "PRIBBLE_TOKEN"
LOOPBACK_NAMES = ("localhost", "127.0.0.1", "[::1]")
SHORTEST_TOKEN = 20  # characters
_TOKEN = regex(r"[A-Za-z0-9._~+/-]+=*")  # RFC 6750 2.1
_PORT = regex(r":[0-9]{1,5}\Z")


def checked_token(token: str) -> str:
    """Returns a token, if it can be one.  Raises `DataError`, which does not say it."""
    hint = "python -c 'import secrets; print(secrets.token_urlsafe(32))' makes one"
    if not _TOKEN.fullmatch(token):
        raise DataError("the token has a character that no token has (RFC 6750 2.1)", hint=hint)
    if len(token) < SHORTEST_TOKEN:
        raise DataError(f"the token has {len(token)} characters, and {SHORTEST_TOKEN} at least", hint=hint)
    return token


@record(frozen=True)
class Gate:
    """Lets requests in that have the `token`, where there is one, and name the server by one of its `names`."""

    token: str | None
    names: Collection[str]

    def __repr__(self) -> str:
        return f"<Gate of {', '.join(self.names)}>"

    def check(self, request: Request) -> None:
        """Raise `Problem` for a request that may not come in."""
        # A page in a browser that reaches this machine by a name of its own would have that name here.
        host = _PORT.sub("", request.headers.get("Host", "")).lower()
        if host not in self.names:
            raise Problem("unknown-host", f'"{host[:100]}" is no name of this server')
        if self.token is None:
            return
        scheme, _, given = request.headers.get("Authorization", "").partition(" ")
        # Digests have one length, so that comparing them says nothing of the token's.
        digests = (hashlib.sha256(one.encode("utf-8", "replace")).digest() for one in (given.strip(), self.token))
        if not hmac.compare_digest(*digests) or scheme.lower() != "bearer":
            challenge = "Bearer" if not scheme else 'Bearer error="invalid_token"'
            raise Problem(
                "unauthorized",
                "Authorization: Bearer TOKEN is missing, or its token is another one",
                {"WWW-Authenticate": challenge},
            )
